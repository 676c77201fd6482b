use std::sync::Arc;

use regnant_records::{AuditEntry, Command, RecordsError, administrator_row, new_token, token_hash};

use crate::administration::AdministrationError;
use crate::administration::committer::Committer;

/// Who may change things, and what they changed.
pub struct Administrators {
    pub(crate) committer: Arc<Committer>,
}

impl Administrators {
    /// Adds an administrator, or gives one a new password.
    pub fn set(&self, name: &str, password: &str, by: &str) -> Result<(), AdministrationError> {
        let name = name.trim();
        if name.is_empty() || name.len() > 64 {
            return Err(AdministrationError::Name);
        }
        if password.chars().count() < 10 || password.len() > 1024 {
            return Err(AdministrationError::Password);
        }
        let row = administrator_row(name, password, &self.committer.environment.key);
        self.committer.apply(by, Command::SetAdministrator(row))?;
        Ok(())
    }

    /// Whether anybody can sign in.
    pub(crate) fn has_any(&self) -> Result<bool, RecordsError> {
        self.committer.records.has_administrators()
    }

    /// An administrator's name as recorded, and the hash of their password.
    pub(crate) fn known(&self, name: &str) -> Result<Option<(String, String)>, RecordsError> {
        self.committer.records.administrator(name, &self.committer.environment.key)
    }

    /// A token with which a program acts as this administrator.
    pub fn token_for(&self, administrator: &str) -> Result<String, AdministrationError> {
        let token = new_token();
        let (hash, name) = (token_hash(&token), administrator.to_owned());
        self.committer.apply(administrator, Command::AddToken { hash, administrator: name })?;
        Ok(token)
    }

    /// Whose token it is.
    pub(crate) fn token_owner(&self, token: &str) -> Result<Option<String>, RecordsError> {
        self.committer.records.token_owner(token)
    }

    /// Forgets a token.
    pub(crate) fn forget_token(&self, token: &str, by: &str) -> Result<(), AdministrationError> {
        self.committer.apply(by, Command::RemoveToken { hash: token_hash(token) })?;
        Ok(())
    }

    /// What was changed below a revision, the last change first.
    pub fn audit(&self, below: u64, most: u32) -> Result<Vec<AuditEntry>, AdministrationError> {
        Ok(self.committer.records.audit(below, most)?)
    }
}
