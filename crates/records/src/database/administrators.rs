use rusqlite::OptionalExtension;
use sha2::{Digest, Sha256};

use crate::command::TokenHash;
use crate::database::{Records, tables};
use crate::error::RecordsError;
use crate::password::hash_password;
use crate::rows::{AdministratorRow, administrator_context, fold};
use crate::sealing::{SealingKey, hex, random};

/// A new random token, as text of 64 characters.
pub fn new_token() -> String {
    hex(&random::<32>())
}

/// What is kept of a token. It has 256 random bits, so a plain hash suffices.
pub fn token_hash(token: &str) -> TokenHash {
    TokenHash(Sha256::digest(token.as_bytes()).into())
}

/// An administrator as recorded; the password is hashed, which takes tens of milliseconds.
pub fn administrator_row(name: &str, password: &str, key: &SealingKey) -> AdministratorRow {
    let hash = hash_password(password.as_bytes());
    let password_hash = key.seal(&administrator_context(name), hash.as_bytes());
    AdministratorRow { name: name.to_owned(), password_hash }
}

impl Records {
    /// Whether anybody can sign in.
    pub fn has_administrators(&self) -> Result<bool, RecordsError> {
        Ok(self.lock().query_row("SELECT EXISTS (SELECT 1 FROM administrator)", [], |row| row.get(0))?)
    }

    /// An administrator's name as recorded, and the hash of their password.
    pub fn administrator(&self, name: &str, key: &SealingKey) -> Result<Option<(String, String)>, RecordsError> {
        let found: Vec<AdministratorRow> = tables::select(&self.lock(), "WHERE key = ?1", [fold(name)])?;
        let open = |row: AdministratorRow| {
            let hash = key.open(&administrator_context(&row.name), &row.password_hash)?;
            Ok((row.name, String::from_utf8_lossy(hash.expose()).into_owned()))
        };
        found.into_iter().next().map(open).transpose()
    }

    /// Whose token it is.
    pub fn token_owner(&self, token: &str) -> Result<Option<String>, RecordsError> {
        let sql = "SELECT name FROM token JOIN administrator ON administrator = key WHERE hash = ?1";
        Ok(self.lock().query_row(sql, [token_hash(token).0], |row| row.get(0)).optional()?)
    }
}
