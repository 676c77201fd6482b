//! Who may sign in: administrators, their sessions and their tokens.

use rusqlite::{Connection, OptionalExtension, params};
use sha2::{Digest, Sha256};

use crate::command::{Conflict, Fault, Missing, ShownCode, TokenHash};
use crate::database::{Records, tables};
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::password::hash_password;
use crate::rows::{AdministratorRow, Role, administrator_context, fold, second_factor_context};
use crate::sealing::{Sealed, SealingKey, hex, random};

/// Sessions of one administrator; the oldest goes.
const MOST_SESSIONS: i64 = 16;

/// A new random token, as text of 64 characters.
pub fn new_token() -> String {
    hex(&random::<32>())
}

/// What is kept of a token. It has 256 random bits, so a plain hash suffices.
pub fn token_hash(token: &str) -> TokenHash {
    TokenHash(Sha256::digest(token.as_bytes()).into())
}

/// The password of an administrator as it is kept; hashing it takes tens of milliseconds.
pub fn sealed_password(name: &str, password: &str, key: &SealingKey) -> Sealed {
    key.seal(&administrator_context(name), hash_password(password.as_bytes()).as_bytes())
}

/// The secret of an administrator's second factor as it is kept.
pub fn sealed_second_factor(name: &str, secret: &[u8], key: &SealingKey) -> Sealed {
    key.seal(&second_factor_context(name), secret)
}

/// An administrator as a sign-in needs them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownAdministrator {
    /// As recorded.
    pub row: AdministratorRow,
    /// The hash of their password.
    pub password_hash: String,
    /// The secret of their second factor.
    pub second_factor: Option<regnant_base::Secret>,
    /// Recovery codes that are left, as hashes.
    pub recovery: Vec<TokenHash>,
}

/// Whose a session or token is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bearer {
    /// The administrator.
    pub administrator: String,
    /// What they may do.
    pub role: Role,
    /// The token, where it is one, with what it may do.
    pub token: Option<(String, Role)>,
}

/// A token as lists show it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenRow {
    /// Its hash.
    pub hash: TokenHash,
    /// Whose it is.
    pub administrator: String,
    /// What its owner calls it.
    pub name: String,
    /// What it may do, as far as its owner may.
    pub role: Role,
    /// When it was made, in milliseconds since 1970.
    pub created_at: i64,
    /// When it ends, in milliseconds since 1970.
    pub expires: Option<i64>,
    /// The token that it was made with, and with which it ends.
    pub parent: Option<TokenHash>,
}

impl TokenHash {
    /// By what people know a token without knowing it: 16 hexadecimal digits.
    pub fn id(&self) -> String {
        hex(&self.0[..8])
    }
}

impl Records {
    /// Whether anybody can sign in.
    pub fn has_administrators(&self) -> Result<bool, RecordsError> {
        Ok(self.reader().query_row("SELECT EXISTS (SELECT 1 FROM administrator)", [], |row| row.get(0))?)
    }

    /// An administrator, with what proves them.
    pub fn administrator(&self, name: &str, key: &SealingKey) -> Result<Option<KnownAdministrator>, RecordsError> {
        let db = self.reader();
        let found: Vec<AdministratorRow> = tables::select(&db, "WHERE key = ?1", [fold(name)])?;
        let Some(row) = found.into_iter().next() else { return Ok(None) };
        let hash = key.open(&administrator_context(&row.name), &row.password_hash)?;
        let context = second_factor_context(&row.name);
        let second_factor = row.second_factor.as_ref().map(|sealed| key.open(&context, sealed)).transpose()?;
        let recovery = recovery_codes(&db, &row.name)?;
        let password_hash = String::from_utf8_lossy(hash.expose()).into_owned();
        Ok(Some(KnownAdministrator { row, password_hash, second_factor, recovery }))
    }

    /// Whose token it is, where it counts at this time.
    pub fn token_owner(&self, token: &str, now: u64) -> Result<Option<Bearer>, RecordsError> {
        let sql = "SELECT administrator.name, administrator.role, token.name, token.role
                   FROM token JOIN administrator ON administrator = key
                   WHERE hash = ?1 AND (token.expires IS NULL OR token.expires > ?2)
                     AND NOT disabled AND (administrator.expires IS NULL OR administrator.expires > ?2)";
        let db = self.callers();
        let mut statement = db.prepare_cached(sql)?;
        let read = |row: &rusqlite::Row<'_>| {
            let token = Some((row.get(2)?, tables::role(row, 3)?));
            Ok(Bearer { administrator: row.get(0)?, role: tables::role(row, 1)?, token })
        };
        Ok(statement.query_row(params![token_hash(token).0, now.cast_signed()], read).optional()?)
    }

    /// Whose session it is, where it counts at this time.
    pub fn session_owner(&self, secret: &str, now: u64) -> Result<Option<Bearer>, RecordsError> {
        let sql = "SELECT name, role FROM session JOIN administrator ON administrator = key
                   WHERE hash = ?1 AND ends > ?2 AND NOT disabled AND (expires IS NULL OR expires > ?2)";
        let db = self.callers();
        let mut statement = db.prepare_cached(sql)?;
        let read = |row: &rusqlite::Row<'_>| {
            Ok(Bearer { administrator: row.get(0)?, role: tables::role(row, 1)?, token: None })
        };
        Ok(statement.query_row(params![token_hash(secret).0, now.cast_signed()], read).optional()?)
    }

    /// Every token, by owner and time.
    pub fn tokens(&self) -> Result<Vec<TokenRow>, RecordsError> {
        let sql = "SELECT hash, administrator.name, token.name, token.role, token.created_at, token.expires,
                   parent FROM token JOIN administrator ON administrator = key ORDER BY key, token.created_at, hash";
        let db = self.reader();
        let mut statement = db.prepare_cached(sql)?;
        let read = |row: &rusqlite::Row<'_>| {
            Ok(TokenRow {
                hash: TokenHash(row.get(0)?),
                administrator: row.get(1)?,
                name: row.get(2)?,
                role: tables::role(row, 3)?,
                created_at: row.get(4)?,
                expires: row.get(5)?,
                parent: row.get::<_, Option<[u8; 32]>>(6)?.map(TokenHash),
            })
        };
        Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
    }
}

fn recovery_codes(db: &Connection, name: &str) -> Result<Vec<TokenHash>, RecordsError> {
    let sql = "SELECT recovery FROM administrator WHERE key = ?1";
    let text: String = db.prepare_cached(sql)?.query_row([fold(name)], |row| row.get(0))?;
    serde_json::from_str(&text).map_err(|error| RecordsError::Damaged(format!("recovery codes: {error}")))
}

fn keep_recovery_codes(db: &Connection, name: &str, codes: &[TokenHash]) -> Result<(), RecordsError> {
    let text = serde_json::to_string(codes).expect("hashes are JSON");
    db.execute("UPDATE administrator SET recovery = ?2 WHERE key = ?1", [&fold(name), &text])?;
    Ok(())
}

/// What was made with a token, and with that again, may no more than it may from now on, and lasts no longer; what may
/// something else ends.
pub(crate) fn bound_heirs(
    db: &Connection,
    hash: TokenHash,
    role: Role,
    expires: Option<i64>,
) -> Result<(), RecordsError> {
    const HEIRS: &str = "WITH RECURSIVE heir (hash) AS (SELECT hash FROM token WHERE parent = ?1
                             UNION SELECT token.hash FROM token JOIN heir ON parent = heir.hash)";
    if role != Role::Engineer {
        // Of two small roles none is within the other: one of another role would get what it never had.
        let other =
            format!("{HEIRS} DELETE FROM token WHERE hash IN (SELECT hash FROM heir) AND role NOT IN ('engineer', ?2)");
        db.execute(&other, params![hash.0, role.word()])?;
        let narrower = format!("{HEIRS} UPDATE token SET role = ?2 WHERE hash IN (SELECT hash FROM heir)");
        db.execute(&narrower, params![hash.0, role.word()])?;
    }
    if let Some(expires) = expires {
        let sooner = format!(
            "{HEIRS} UPDATE token SET expires = min(coalesce(expires, ?2), ?2) WHERE hash IN (SELECT hash FROM heir)"
        );
        db.execute(&sooner, params![hash.0, expires])?;
    }
    Ok(())
}

/// Sets or takes away a second factor; sessions that were opened without it end.
pub(crate) fn set_second_factor(
    db: &Connection,
    name: &str,
    secret: Option<&Sealed>,
    recovery: &[TokenHash],
    revision: u64,
) -> Result<(), RecordsError> {
    let sql = "UPDATE administrator SET second_factor = ?2, last_step = 0, revision = ?3 WHERE key = ?1";
    db.execute(sql, params![fold(name), secret.map(Sealed::bytes), revision.cast_signed()])?;
    db.execute("DELETE FROM session WHERE administrator = ?1", [fold(name)])?;
    keep_recovery_codes(db, name, recovery)
}

/// Opens a session for somebody who may sign in, and uses up the code that was shown.
pub(crate) fn open_session(
    db: &Connection,
    hash: TokenHash,
    name: &str,
    code: ShownCode,
    (at, ends): (i64, i64),
) -> Result<(), RecordsError> {
    let found: Vec<AdministratorRow> = tables::select(db, "WHERE key = ?1", [fold(name)])?;
    let row = found.into_iter().next().ok_or_else(|| Missing::Record(RecordName::Administrator(name.to_owned())))?;
    if !row.is_let_in(at) {
        return Err(Fault::KeptOut(row.name).into());
    }
    match code {
        ShownCode::None if row.second_factor.is_some() => return Err(Fault::NoCode(row.name).into()),
        ShownCode::None => {}
        ShownCode::Step(step) => {
            let sql = "UPDATE administrator SET last_step = ?2 WHERE key = ?1 AND last_step < ?2";
            if db.execute(sql, params![fold(name), step])? == 0 {
                return Err(Conflict::CodeUsed.into());
            }
        }
        ShownCode::Recovery(code) => {
            let mut codes = recovery_codes(db, name)?;
            let place = codes.iter().position(|known| *known == code).ok_or(Conflict::CodeUsed)?;
            codes.remove(place);
            keep_recovery_codes(db, name, &codes)?;
        }
    }
    db.execute("DELETE FROM session WHERE ends <= ?1", [at])?;
    let sql = "INSERT INTO session (hash, administrator, created_at, ends) VALUES (?1, ?2, ?3, ?4)";
    db.execute(sql, params![hash.0, fold(name), at, ends])?;
    let sql = "DELETE FROM session WHERE administrator = ?1 AND hash NOT IN
               (SELECT hash FROM session WHERE administrator = ?1 ORDER BY created_at DESC, rowid DESC LIMIT ?2)";
    db.execute(sql, params![fold(name), MOST_SESSIONS])?;
    Ok(())
}
