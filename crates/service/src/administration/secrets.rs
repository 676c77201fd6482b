use std::sync::Arc;

use regnant_base::{Secret, SecretText};
use regnant_records::{Author, Command, Reading, SecretRow};

use crate::administration::committer::Committer;
use crate::administration::{AdministrationError, RecordVersion, is_as_seen};

/// What no attribute carries more of.
const LONGEST: usize = 253;

/// Secrets that replies carry.
pub struct NamedSecretRecords {
    pub(crate) committer: Arc<Committer>,
}

impl NamedSecretRecords {
    /// All of them, sealed.
    pub(crate) fn all(&self) -> Result<Vec<SecretRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// Keeps a secret, in the place of one of its name that is as its author saw it. It counts from the next reply on.
    pub(crate) fn set(
        &self,
        name: &str,
        value: &SecretText,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let fits = name.starts_with(|c: char| c.is_ascii_alphanumeric())
            && name.len() <= 100
            && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
        if !fits {
            return Err(AdministrationError::SecretName);
        }
        let value = value.expose().as_bytes();
        if value.is_empty() || value.len() > LONGEST {
            return Err(AdministrationError::SecretLength { got: value.len(), most: LONGEST });
        }
        let environment = &self.committer.environment;
        let row = SecretRow::new(name, &Secret::new(value), &environment.key);
        let turn = self.committer.turn();
        self.is_as_seen(name, seen)?;
        turn.commit(by, Command::SetSecret(row)).map(drop)
    }

    fn is_as_seen(&self, name: &str, seen: Option<&RecordVersion>) -> Result<(), AdministrationError> {
        is_as_seen(name, self.all()?.iter().find(|row| row.name.eq_ignore_ascii_case(name)), seen)
    }

    /// Forgets a secret that the active policy does not name, where it is as its author saw it.
    pub(crate) fn remove(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        self.is_as_seen(name, seen)?;
        let active = self.committer.snapshot.load().active.edition.clone();
        let grants: Vec<_> = active.policy.grants_naming_secret(name).collect();
        if !grants.is_empty() {
            let by = format!("the active policy names it in {}", grants.join(", "));
            return Err(AdministrationError::SecretInUse { name: name.to_owned(), by });
        }
        turn.commit(by, Command::RemoveSecret { name: name.to_owned() }).map(drop)
    }
}
