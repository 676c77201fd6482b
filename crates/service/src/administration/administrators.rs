use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use regnant_base::{Secret, SecretText};
use regnant_records::{
    AdministratorRow, AuditEntry, AuditFilter, Author, Bearer, Command, KnownAdministrator, NodeAudit, Personal,
    Reading, RecordName, RecordsError, Role, Rows, SealingKey, Seen, ShownCode, TokenHash, TokenRow, TokenUse,
    TokenUses, fit_password, new_token, sealed_password, sealed_second_factor, token_hash,
};
use serde::{Deserialize, Serialize};

use crate::administration::committer::Committer;
use crate::administration::second_factor;
use crate::administration::{AdministrationError, RecordVersion, is_as_seen};
use crate::clock::{iso, now_ms};

/// Characters of the shortest password of an administrator.
const SHORTEST: usize = 10;
/// Tokens of one administrator.
const MOST_TOKENS: usize = 100;

/// Who may sign in, and what was changed by whom.
pub struct Administrators {
    pub(crate) committer: Arc<Committer>,
    pub(crate) uses: TokenUses,
    /// What this node saw of them, and changes nothing.
    pub(crate) seen: NodeAudit,
}

/// An administrator as a file says it.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct AdministratorEntry {
    pub(crate) name: String,
    pub(crate) role: Role,
    /// Left out, one who is there already keeps theirs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) password: Option<SecretText>,
    #[serde(default)]
    pub(crate) disabled: bool,
    /// From when on they are kept out.
    #[serde(default)]
    pub(crate) expires: Option<String>,
}

impl AdministratorEntry {
    /// One that there is, without their password.
    pub(crate) fn of(row: &AdministratorRow) -> Self {
        Self {
            name: row.name.clone(),
            role: row.role,
            password: None,
            disabled: row.disabled,
            expires: row.expires.map(|at| iso(at.cast_unsigned())),
        }
    }

    /// The record of them, with password and second factor of the one whose place they take.
    /// Hashing a password takes tens of milliseconds.
    pub(crate) fn row(
        self,
        key: &SealingKey,
        before: Option<&AdministratorRow>,
    ) -> Result<AdministratorRow, AdministrationError> {
        let expires = match self.expires.filter(|text| !text.is_empty()) {
            Some(text) => Some(
                text.parse::<Timestamp>()
                    .map_err(|error| AdministrationError::Expiry(error.to_string()))?
                    .as_millisecond(),
            ),
            None => None,
        };
        let row = match (self.password, before) {
            (Some(password), before) => {
                // Their second factor stays.
                let name = before.map_or(&self.name, |before| &before.name);
                let row = new_administrator(name, password.expose(), self.role, key)?;
                AdministratorRow { second_factor: before.and_then(|row| row.second_factor.clone()), ..row }
            }
            (None, Some(before)) => before.clone(),
            (None, None) => return Err(AdministrationError::NoPassword(self.name)),
        };
        Ok(AdministratorRow { role: self.role, disabled: self.disabled, expires, ..row })
    }
}

/// What of an administrator shall be otherwise; what is none stays.
#[derive(Clone, Debug, Default)]
pub(crate) struct AdministratorChange {
    /// Another password.
    pub(crate) password: Option<SecretText>,
    /// Another role.
    pub(crate) role: Option<Role>,
    /// Whether they are kept out.
    pub(crate) disabled: Option<bool>,
    /// When they end, in milliseconds since 1970, or never.
    pub(crate) expires: Option<Option<i64>>,
    /// Whether their tokens go on with another password that somebody else sets.
    pub(crate) keep_tokens: bool,
}

impl Administrators {
    /// Every administrator; passwords stay sealed.
    pub fn all(&self) -> Result<Vec<AdministratorRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// An administrator by name.
    pub fn find(&self, name: &str) -> Result<AdministratorRow, AdministrationError> {
        let record = RecordName::Administrator(name.to_owned());
        let found = self.committer.records.find(&record)?.administrators.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds an administrator.
    pub fn add(
        &self,
        name: &str,
        password: &str,
        role: Role,
        by: &Author,
    ) -> Result<AdministratorRow, AdministrationError> {
        let row = new_administrator(name, password, role, &self.committer.environment.key)?;
        let rows = Rows { administrators: vec![row.clone()], ..Rows::default() };
        self.committer.apply(by, Command::Add(rows))?;
        Ok(row)
    }

    /// Adds the first administrator, an engineer, while there is none.
    pub fn add_first(&self, name: &str, password: &str, by: &Author) -> Result<(), AdministrationError> {
        let _turn = self.committer.turn();
        match self.has_any()? {
            true => Err(AdministrationError::NotFirst),
            false => self.add(name, password, Role::Engineer, by).map(drop),
        }
    }

    /// Changes an administrator who is still as the author saw them; their sessions end.
    pub(crate) fn change(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        change: &AdministratorChange,
        by: &Author,
    ) -> Result<AdministratorRow, AdministrationError> {
        let hashed = |before: &AdministratorRow| match &change.password {
            Some(password) => {
                fit(&before.name, password.expose())?;
                Ok(sealed_password(&before.name, password.expose(), &self.committer.environment.key))
            }
            None => Ok(before.password_hash.clone()),
        };
        let (_turn, before, password_hash) = self.committer.prepared(|| self.find_as(name, seen), hashed)?;
        let row = AdministratorRow {
            password_hash,
            role: change.role.unwrap_or(before.role),
            disabled: change.disabled.unwrap_or(before.disabled),
            expires: change.expires.unwrap_or(before.expires),
            ..before
        };
        if change.password.is_some() && !change.keep_tokens && !by.name.eq_ignore_ascii_case(&row.name) {
            self.forget_tokens(&row.name, by)?;
        }
        let was = vec![RecordName::Administrator(row.name.clone())];
        let rows = Rows { administrators: vec![row.clone()], ..Rows::default() };
        self.committer.apply(by, Command::Change { was, rows })?;
        Ok(row)
    }

    /// Sets a password.
    pub fn set_password(&self, name: &str, password: &str, by: &Author) -> Result<(), AdministrationError> {
        let change =
            AdministratorChange { password: Some(password.to_owned().into()), ..AdministratorChange::default() };
        self.change(name, None, &change, by).map(drop)
    }

    fn find_as(&self, name: &str, seen: Option<&RecordVersion>) -> Result<AdministratorRow, AdministrationError> {
        let row = self.find(name)?;
        is_as_seen(&row.name, Some(&row), seen)?;
        Ok(row)
    }

    /// Forgets an administrator who is still as the author saw them, with their sessions,
    /// tokens and draft.
    pub(crate) fn remove(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let _turn = self.committer.turn();
        let row = self.find_as(name, seen)?;
        self.committer.apply(by, Command::Remove(vec![RecordName::Administrator(row.name)]))?;
        Ok(())
    }

    /// Sets a second factor and gives its recovery codes; sessions end, and tokens where they are not kept.
    pub(crate) fn set_second_factor(
        &self,
        name: &str,
        secret: &Secret,
        keep_tokens: bool,
        by: &Author,
    ) -> Result<Vec<String>, AdministrationError> {
        if !keep_tokens {
            self.forget_tokens(name, by)?;
        }
        let (codes, recovery) = second_factor::recovery_codes();
        let secret = Some(sealed_second_factor(name, secret.expose(), &self.committer.environment.key));
        self.committer.apply(by, Command::SetSecondFactor { administrator: name.to_owned(), secret, recovery })?;
        Ok(codes)
    }

    /// Takes a second factor away; sessions end.
    pub fn remove_second_factor(&self, name: &str, by: &Author) -> Result<(), AdministrationError> {
        let administrator = self.find(name)?.name;
        let command = Command::SetSecondFactor { administrator, secret: None, recovery: Vec::new() };
        self.committer.apply(by, command)?;
        Ok(())
    }

    /// Whether anybody can sign in.
    pub fn has_any(&self) -> Result<bool, RecordsError> {
        self.committer.records.has_administrators()
    }

    /// An administrator with what proves them.
    pub(crate) fn known(&self, name: &str) -> Result<Option<KnownAdministrator>, RecordsError> {
        self.committer.records.administrator(name, &self.committer.environment.key)
    }

    /// Opens a session; gives what its cookie says.
    pub(crate) fn open_session(
        &self,
        author: &Author,
        length: Duration,
        code: ShownCode,
    ) -> Result<String, AdministrationError> {
        let secret = new_token();
        let ends = (now_ms() + length.as_millis() as u64).cast_signed();
        let (hash, administrator) = (token_hash(&secret), author.name.clone());
        self.committer.apply(author, Command::Personal(Personal::OpenSession { hash, administrator, ends, code }))?;
        Ok(secret)
    }

    /// A recovery code opens once, whatever for.
    pub(crate) fn use_up(&self, code: ShownCode, author: &Author) -> Result<(), AdministrationError> {
        if let ShownCode::Recovery(_) = code {
            let session = self.open_session(author, Duration::ZERO, code)?;
            self.close_session(&session, author)?;
        }
        Ok(())
    }

    /// Ends a session.
    pub(crate) fn close_session(&self, secret: &str, author: &Author) -> Result<(), AdministrationError> {
        let hash = token_hash(secret);
        self.committer.apply(author, Command::Personal(Personal::CloseSession { hash }))?;
        Ok(())
    }

    /// Whose session it is.
    pub(crate) fn session_owner(&self, secret: &str, now: u64) -> Result<Option<Bearer>, RecordsError> {
        self.committer.records.session_owner(secret, now)
    }

    /// Keeps in the audit that somebody was not let in.
    pub(crate) fn refuse_sign_in(&self, name: &str, author: &Author) -> Result<(), AdministrationError> {
        Ok(self.seen.note(author, now_ms(), &Seen::RefusedSignIn(name.to_owned()))?)
    }

    /// Keeps in the audit that somebody signed in by an account of a directory.
    pub(crate) fn note_sign_in(&self, author: &Author) -> Result<(), AdministrationError> {
        Ok(self.seen.note(author, now_ms(), &Seen::SignIn)?)
    }

    /// Keeps in the audit that somebody of a directory signed out.
    pub(crate) fn note_sign_out(&self, author: &Author) -> Result<(), AdministrationError> {
        Ok(self.seen.note(author, now_ms(), &Seen::SignOut)?)
    }

    /// Keeps in the audit that somebody tries a password or a secret of others.
    pub(crate) fn note_try(&self, what: String, by: &Author) -> Result<(), AdministrationError> {
        Ok(self.seen.note(by, now_ms(), &Seen::Try(what))?)
    }

    /// Keeps in the audit that somebody took a backup.
    pub(crate) fn note_backup(&self, with_key: bool, by: &Author) -> Result<(), AdministrationError> {
        self.committer.apply(by, Command::Backup { with_key })?;
        Ok(())
    }

    /// A token with which a program acts as the author, in a role that the author may give; it ends with the one
    /// that it is made with.
    pub fn token_for(
        &self,
        author: &Author,
        name: &str,
        (role, expires): (Role, Option<i64>),
        parent: Option<TokenHash>,
    ) -> Result<(String, TokenHash), AdministrationError> {
        fits_token(name)?;
        let now = now_ms().cast_signed();
        let counts = |token: &&TokenRow| token.administrator == author.name && token.expires.is_none_or(|at| now < at);
        if self.tokens()?.iter().filter(counts).count() >= MOST_TOKENS {
            return Err(AdministrationError::TooManyTokens(MOST_TOKENS));
        }
        let token = new_token();
        let (hash, administrator, name) = (token_hash(&token), author.name.clone(), name.to_owned());
        self.committer.apply(author, Command::AddToken { hash, administrator, name, role, expires, parent })?;
        Ok((token, hash))
    }

    /// Every token, by owner and time.
    pub fn tokens(&self) -> Result<Vec<TokenRow>, RecordsError> {
        self.committer.records.tokens()
    }

    /// Whose token it is; that it was used is remembered.
    pub(crate) fn token_owner(&self, token: &str, source: IpAddr, now: u64) -> Result<Option<Bearer>, RecordsError> {
        let owner = self.committer.records.token_owner(token, now)?;
        if let Some((bearer, (name, _))) = owner.as_ref().and_then(|bearer| Some((bearer, bearer.token.as_ref()?)))
            && self.uses.used(token_hash(token), &source.to_string(), now)
        {
            let author = Author::new(&bearer.administrator, source.to_string());
            // Nobody is kept from working by what cannot be noted.
            if let Err(error) = self.seen.note(&author, now, &Seen::TokenUse(name.clone())) {
                tracing::error!("that a token of {} was used cannot be noted: {error}", bearer.administrator);
            }
        }
        Ok(owner)
    }

    /// When and from where tokens were used last.
    pub(crate) fn token_uses(&self) -> Result<Vec<TokenUse>, RecordsError> {
        self.uses.all()
    }

    /// Says of a token what it is called, may do and when it ends.
    pub(crate) fn change_token(
        &self,
        row: &TokenRow,
        (name, role, expires): (&str, Role, Option<i64>),
        by: &Author,
    ) -> Result<(), AdministrationError> {
        fits_token(name)?;
        let (hash, name) = (row.hash, name.to_owned());
        self.committer.apply(by, Command::ChangeToken { hash, name, role, expires })?;
        Ok(())
    }

    /// Forgets every token of somebody, where they have some: whoever made one with what was stolen goes with it.
    pub(crate) fn forget_tokens(&self, administrator: &str, by: &Author) -> Result<(), AdministrationError> {
        if self.tokens()?.iter().any(|row| row.administrator == administrator) {
            self.committer.apply(by, Command::RemoveTokens { administrator: administrator.to_owned() })?;
        }
        Ok(())
    }

    /// Forgets a token, with those that were made with it.
    pub fn forget_token(&self, hash: TokenHash, by: &Author) -> Result<(), AdministrationError> {
        self.committer.apply(by, Command::RemoveToken { hash })?;
        Ok(())
    }

    /// The last backup that was taken, as the audit has it.
    pub fn last_backup(&self) -> Result<Option<AuditEntry>, AdministrationError> {
        let words = vec!["back".to_owned(), "up".to_owned()];
        let taken = self.committer.records.audit(&AuditFilter { below: u64::MAX, most: 20, words, record: None })?;
        Ok(taken.into_iter().find(|entry| entry.what == "back up"))
    }
}

fn fits_token(name: &str) -> Result<(), AdministrationError> {
    match name.len() > 64 || name.chars().any(char::is_control) {
        true => Err(AdministrationError::TokenName),
        false => Ok(()),
    }
}

/// An administrator as recorded; hashing the password takes tens of milliseconds.
pub(crate) fn new_administrator(
    name: &str,
    password: &str,
    role: Role,
    key: &SealingKey,
) -> Result<AdministratorRow, AdministrationError> {
    let name = name.trim();
    if name.is_empty() || name.len() > 64 || name.chars().any(char::is_control) {
        return Err(AdministrationError::Name);
    }
    fit(name, password)?;
    let (password_hash, name) = (sealed_password(name, password, key), name.to_owned());
    Ok(AdministratorRow { name, password_hash, role, disabled: false, expires: None, second_factor: None })
}

fn fit(name: &str, password: &str) -> Result<(), AdministrationError> {
    if password.chars().count() < SHORTEST {
        return Err(AdministrationError::Password);
    }
    fit_password(&password.to_owned().into(), name).map_err(AdministrationError::WeakPassword)
}
