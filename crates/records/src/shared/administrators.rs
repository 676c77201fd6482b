use rusqlite::OptionalExtension;
use sha2::{Digest, Sha256};

use crate::error::RecordsError;
use crate::sealing::random;
use crate::shared::{Change, Records};

/// A new random token, as text of 64 characters.
pub fn new_token() -> String {
    random::<32>().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// What is kept of a token. It has 256 random bits, so a plain hash suffices.
pub fn token_hash(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

impl Records {
    /// Whether anybody can sign in.
    pub fn has_administrators(&self) -> Result<bool, RecordsError> {
        Ok(self.lock().query_row("SELECT EXISTS (SELECT 1 FROM administrator)", [], |row| row.get(0))?)
    }

    /// An administrator's name as recorded, and the hash of their password.
    pub fn administrator(&self, name: &str) -> Result<Option<(String, String)>, RecordsError> {
        let sql = "SELECT name, password_hash FROM administrator WHERE name = ?1";
        Ok(self.lock().query_row(sql, [name], |row| Ok((row.get(0)?, row.get(1)?))).optional()?)
    }

    /// Whose token it is.
    pub fn token_owner(&self, token: &str) -> Result<Option<String>, RecordsError> {
        let sql = "SELECT administrator FROM token WHERE hash = ?1";
        Ok(self.lock().query_row(sql, [token_hash(token)], |row| row.get(0)).optional()?)
    }
}

impl Change {
    /// Adds an administrator, or gives one a new password.
    pub fn administrator(name: &str, password_hash: &str, at: u64) -> Self {
        let mut change = Self::default();
        change.add(
            "INSERT INTO administrator (name, password_hash, created_at) VALUES (?1, ?2, ?3)
             ON CONFLICT (name) DO UPDATE SET password_hash = ?2",
            [name.to_owned().into(), password_hash.to_owned().into(), (at as i64).into()],
        );
        change
    }

    /// Records a token for an administrator.
    pub fn token(hash: [u8; 32], administrator: &str, at: u64) -> Self {
        let mut change = Self::default();
        change.add(
            "INSERT INTO token (hash, administrator, created_at) VALUES (?1, ?2, ?3)",
            [hash.to_vec().into(), administrator.to_owned().into(), (at as i64).into()],
        );
        change
    }

    /// Forgets a token.
    pub fn forget_token(hash: [u8; 32]) -> Self {
        let mut change = Self::default();
        change.add("DELETE FROM token WHERE hash = ?1", [hash.to_vec().into()]);
        change
    }
}
