use std::sync::Arc;

use regnant_base::SecretText;
use regnant_equipment::Edition;
use regnant_records::{Addresses, Command, Expected, NasEntry, NasRow, Reading};
use sha2::{Digest, Sha256};

use crate::administration::AdministrationError;
use crate::administration::committer::{Committer, Turn};

/// The equipment that asks.
pub struct Equipment {
    pub(crate) committer: Arc<Committer>,
}

/// What a record was when somebody looked at it: its ETag.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct RecordVersion(pub(crate) String);

impl RecordVersion {
    /// The version of a NAS. It changes with the secret, and does not tell it.
    pub(crate) fn of(row: &NasRow) -> Self {
        let text = serde_json::to_vec(row).expect("a NAS has names for keys");
        Self(Sha256::digest(text)[..8].iter().map(|byte| format!("{byte:02x}")).collect())
    }
}

impl Equipment {
    /// Every NAS; its secret stays sealed.
    pub fn all(&self) -> Result<Vec<NasRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// A NAS by its name.
    pub fn find(&self, name: &str) -> Result<NasRow, AdministrationError> {
        let found = self.all()?.into_iter().find(|row| row.name.to_lowercase() == name.to_lowercase());
        found.ok_or_else(|| AdministrationError::NoNas(name.to_owned()))
    }

    /// Adds a NAS; gives the secret where one was made for it.
    pub(crate) fn add(&self, entry: NasEntry, by: &str) -> Result<(NasRow, Option<SecretText>), AdministrationError> {
        let turn = self.committer.turn();
        let made = entry.secret.is_none().then(made_secret);
        let row = self.row(NasEntry { secret: entry.secret.or_else(|| made.clone()), ..entry }, None)?;
        self.commit(&turn, None, Some(&row), Command::AddNas(row.clone()), by)?;
        Ok((row, made))
    }

    /// Puts a NAS in the place of what it was, where that is still as its author saw it. What
    /// the policy names keeps its name.
    pub(crate) fn change(
        &self,
        was: &str,
        seen: Option<&RecordVersion>,
        change: impl FnOnce(&NasRow) -> NasEntry,
        by: &str,
    ) -> Result<NasRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.seen(was, seen)?;
        let entry = change(&before);
        if entry.name != before.name {
            self.is_free(&before.name)?;
        }
        let row = self.row(entry, Some(&before))?;
        let command = Command::ChangeNas { was: before.name.clone(), row: row.clone() };
        self.commit(&turn, Some(&before.name), Some(&row), command, by)?;
        Ok(row)
    }

    /// Forgets a NAS that the active policy does not name, where it is still as its author
    /// saw it.
    pub(crate) fn remove(&self, name: &str, seen: Option<&RecordVersion>, by: &str) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let before = self.seen(name, seen)?;
        self.is_free(&before.name)?;
        self.commit(&turn, Some(&before.name), None, Command::RemoveNas { name: before.name.clone() }, by)
    }

    /// The secret that is shared with a NAS; that somebody saw it stands in the audit.
    pub(crate) fn reveal(&self, name: &str, by: &str) -> Result<SecretText, AdministrationError> {
        let row = self.find(name)?;
        self.committer.apply(by, Command::RevealNasSecret { name: row.name.clone() })?;
        let secret = row.shared_secret(&self.committer.environment.key)?;
        // Every one came as text.
        Ok(String::from_utf8_lossy(secret.expose()).into_owned().into())
    }

    /// Where the active policy names a NAS.
    pub(crate) fn named_by(&self, name: &str) -> Vec<String> {
        named_by(&self.committer.snapshot.load().active.edition, name)
    }

    fn row(&self, entry: NasEntry, before: Option<&NasRow>) -> Result<NasRow, AdministrationError> {
        let languages = self.committer.snapshot.load().languages.clone();
        let dialects: Vec<_> = languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        Ok(entry.row(&self.committer.environment.key, &dialects, before)?)
    }

    fn seen(&self, name: &str, seen: Option<&RecordVersion>) -> Result<NasRow, AdministrationError> {
        let row = self.find(name)?;
        match seen {
            Some(seen) if *seen != RecordVersion::of(&row) => Err(AdministrationError::Changed(row.name)),
            _ => Ok(row),
        }
    }

    fn is_free(&self, name: &str) -> Result<(), AdministrationError> {
        let by = self.named_by(name);
        match by.is_empty() {
            true => Ok(()),
            false => {
                let by = format!("the active policy names it ({})", by.join("; "));
                Err(AdministrationError::NasInUse { name: name.to_owned(), by })
            }
        }
    }

    fn commit(
        &self,
        turn: &Turn<'_>,
        was: Option<&str>,
        row: Option<&NasRow>,
        command: Command,
        by: &str,
    ) -> Result<(), AdministrationError> {
        let environment = &self.committer.environment;
        turn.commit(by, (command, Expected::Anything), |before, _, _, _| Ok(environment.with_nas(before, was, row)?))?;
        Ok(())
    }
}

/// Comparisons of a policy that name a NAS, each with its line.
fn named_by(edition: &Edition, name: &str) -> Vec<String> {
    let (policy, schema) = (&edition.policy, edition.vocabulary.schema());
    let quoted = format!("\"{}\"", name.to_lowercase());
    let asks = policy.leaves().iter().filter(|leaf| schema.definition(leaf.fact).name == "nas.name");
    let names = asks.filter(|leaf| leaf.text.to_lowercase().contains(&quoted));
    let mut all: Vec<_> =
        names.map(|leaf| format!("line {}: {}", policy.source().position(leaf.span.start).line, leaf.text)).collect();
    all.dedup();
    all
}

/// A secret of 160 bits, in letters and digits that nobody confuses.
fn made_secret() -> SecretText {
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes.iter().map(|byte| char::from(LETTERS[usize::from(byte % 32)])).collect::<String>().into()
}

/// A NAS as it would be written anew, without its secret.
pub(crate) fn entry_of(row: &NasRow) -> NasEntry {
    NasEntry {
        name: row.name.clone(),
        address: Addresses::Several(row.networks.iter().map(ToString::to_string).collect()),
        kind: row.kind,
        site: row.site.clone(),
        tags: row.tags.clone(),
        note: row.note.clone(),
        dialect: row.dialect.clone(),
        secret: None,
        require_message_authenticator: row.require_message_authenticator,
        class_at_login: row.class_at_login,
    }
}
