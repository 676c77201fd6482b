use std::sync::Arc;
use std::time::Duration;

use regnant_base::{Secret, SecretText};
use regnant_evidence::HeardMarks;
use regnant_records::{Author, Command, FormerSecretRow, NasEntry, NasRow, RadiusRow, Reading, RecordName, Rows};

use crate::administration::committer::{Committer, Turn};
use crate::administration::{AdministrationError, RecordVersion, entries, named};
use crate::clock::now_ms;

/// The equipment that asks.
pub struct Equipment {
    pub(crate) committer: Arc<Committer>,
}

impl Equipment {
    /// Every NAS; its secret stays sealed.
    pub fn all(&self) -> Result<Vec<NasRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// A NAS by its name.
    pub fn find(&self, name: &str) -> Result<NasRow, AdministrationError> {
        let record = RecordName::Nas(name.to_owned());
        let found = self.committer.records.find(&record)?.nases.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a NAS; gives the secret where one was made for it.
    pub(crate) fn add(
        &self,
        entry: NasEntry,
        by: &Author,
    ) -> Result<(NasRow, Option<SecretText>), AdministrationError> {
        let turn = self.committer.turn();
        let made = entry.secret.is_none().then(made_secret);
        let row = self.row(NasEntry { secret: entry.secret.or_else(|| made.clone()), ..entry }, None)?;
        turn.commit(by, Command::Add(of(&row)))?;
        Ok((row, made))
    }

    /// Puts a NAS in the place of what it was, where that is still as its author saw it. What
    /// the policy names keeps its name.
    pub(crate) fn change(
        &self,
        was: &str,
        seen: Option<&RecordVersion>,
        change: impl FnOnce(&NasRow) -> NasEntry,
        by: &Author,
    ) -> Result<NasRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.seen(was, seen)?;
        let entry = change(&before);
        if entry.name != before.name {
            self.is_free(&before.name)?;
        }
        let row = self.row(entry, Some(&before))?;
        let command = Command::Change { was: vec![RecordName::Nas(before.name)], rows: of(&row) };
        turn.commit(by, command)?;
        Ok(row)
    }

    /// Sets another secret, one that is made where none is given, and gives that. The one until
    /// now counts too for this time, until the NAS uses the new one.
    pub(crate) fn set_secret(
        &self,
        name: &str,
        given: Option<SecretText>,
        grace: Duration,
        by: &Author,
    ) -> Result<(NasRow, Option<SecretText>), AdministrationError> {
        let turn = self.committer.turn();
        let before = self.find(name)?;
        let made = given.is_none().then(made_secret);
        let Some(secret) = given.or_else(|| made.clone()) else { return Ok((before, None)) };
        let entry = NasEntry { secret: Some(secret.clone()), ..entries::nas(&before) };
        // It says what is wrong with it.
        self.row(entry, None)?;
        let environment = &self.committer.environment;
        // Later than any change that was followed, whatever the clock says.
        let now = now_ms().max(self.heard(&before.name).switched + 1).cast_signed();
        let until = now.saturating_add(i64::try_from(grace.as_millis()).unwrap_or(i64::MAX));
        let former = self.running_grace(&before, now).is_some();
        let secret = Secret::new(secret.expose().as_bytes());
        let row = before.with_secret(&secret, (now, until), former, &environment.key)?;
        Self::put(&turn, row.clone(), by)?;
        Ok((row, made))
    }

    /// Has the secret of now count alone: the NAS has it.
    pub(crate) fn end_grace(&self, name: &str, by: &Author) -> Result<NasRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.find(name)?;
        if before.radius.former_secret.is_none() {
            return Ok(before);
        }
        let radius = RadiusRow { former_secret: None, ..before.radius };
        let row = NasRow { radius, ..before };
        Self::put(&turn, row.clone(), by)?;
        Ok(row)
    }

    /// What was heard of a NAS.
    pub(crate) fn heard(&self, name: &str) -> HeardMarks {
        self.committer.environment.heard.of(name).marks()
    }

    /// The change of a secret that a NAS has not followed yet, while the former counts.
    pub(crate) fn running_grace<'r>(&self, row: &'r NasRow, now: i64) -> Option<&'r FormerSecretRow> {
        let switched = |since: i64| self.committer.environment.heard.of(&row.name).has_switched(since.cast_unsigned());
        // What is not signed counts under the former until somebody says otherwise.
        let counts = |former: &&FormerSecretRow| now < former.until || !row.radius.require_message_authenticator;
        row.radius.former_secret.as_ref().filter(|former| counts(former) && !switched(former.since))
    }

    fn put(turn: &Turn<'_>, row: NasRow, by: &Author) -> Result<(), AdministrationError> {
        let command = Command::Change { was: vec![RecordName::Nas(row.name.clone())], rows: of(&row) };
        turn.commit(by, command).map(drop)
    }

    /// Forgets a NAS that the active policy does not name, where it is still as its author
    /// saw it.
    pub(crate) fn remove(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let before = self.seen(name, seen)?;
        self.is_free(&before.name)?;
        turn.commit(by, Command::Remove(vec![RecordName::Nas(before.name)])).map(drop)
    }

    /// The secret that is shared with a NAS; that somebody saw it stands in the audit.
    pub(crate) fn reveal(&self, name: &str, by: &Author) -> Result<SecretText, AdministrationError> {
        let row = self.find(name)?;
        self.committer.apply(by, Command::Reveal(RecordName::Nas(row.name.clone())))?;
        let secret = row.shared_secret(&self.committer.environment.key)?;
        // Every one came as text.
        Ok(String::from_utf8_lossy(secret.expose()).into_owned().into())
    }

    /// Where the active policy names a NAS.
    pub(crate) fn named_by(&self, name: &str) -> Vec<String> {
        named::record(&self.committer.snapshot.load().active.edition, &RecordName::Nas(name.to_owned()))
    }

    pub(crate) fn row(&self, entry: NasEntry, before: Option<&NasRow>) -> Result<NasRow, AdministrationError> {
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

    pub(crate) fn is_free(&self, name: &str) -> Result<(), AdministrationError> {
        let by = self.named_by(name);
        match by.is_empty() {
            true => Ok(()),
            false => {
                let by = format!("the active policy names it ({})", by.join("; "));
                Err(AdministrationError::RecordInUse { record: RecordName::Nas(name.to_owned()), by })
            }
        }
    }
}

fn of(row: &NasRow) -> Rows {
    Rows { nases: vec![row.clone()], ..Rows::default() }
}

/// A secret of 160 bits, in letters and digits that nobody confuses.
fn made_secret() -> SecretText {
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes.iter().map(|byte| char::from(LETTERS[usize::from(byte % 32)])).collect::<String>().into()
}
