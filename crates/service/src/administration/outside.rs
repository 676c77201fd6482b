//! Stores outside: how they are asked, and whether they answer.

use regnant_base::{Secret, SecretText};
use regnant_records::{Author, Command, Reading, RecordName, Rows, StoreKind, StoreRow, TrustRow};

use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, RecordVersion};
use crate::outside_stores::{OutsideSettings, OutsideStore};

impl Identities {
    /// A store.
    pub(crate) fn store(&self, name: &str) -> Result<StoreRow, AdministrationError> {
        let record = RecordName::Store(name.to_owned());
        let found = self.committer.records.find(&record)?.stores.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a store outside.
    pub(crate) fn add_outside(
        &self,
        name: &str,
        settings: &OutsideSettings,
        secret: Option<&SecretText>,
        by: &Author,
    ) -> Result<StoreRow, AdministrationError> {
        let turn = self.committer.turn();
        let row = self.outside_row(name, settings, secret)?;
        if row.secret.is_none() && matches!(settings, OutsideSettings::Http(_)) && settings.has_secret() {
            return Err(AdministrationError::NoSecret);
        }
        self.commit(&turn, Command::Add(Rows { stores: vec![row.clone()], ..Rows::default() }), by)?;
        Ok(row)
    }

    /// Has a store outside asked in another way, where that is still as its author saw it. The
    /// secret that it is asked with stays where none is given and it goes to nobody else.
    pub(crate) fn change_outside(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        settings: &OutsideSettings,
        secret: Option<&SecretText>,
        by: &Author,
    ) -> Result<StoreRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.store(name)?;
        if seen.is_some_and(|seen| *seen != RecordVersion::of(&before)) {
            return Err(AdministrationError::Changed(before.name));
        }
        if before.kind != settings.kind() {
            return Err(AdministrationError::OtherStore(before.name));
        }
        let mut row = self.outside_row(name, settings, secret)?;
        if secret.is_none() && settings.has_secret() {
            let was = OutsideSettings::of(&before).and_then(Result::ok);
            match was.is_some_and(|was| was.same_confidant(settings)) {
                true => row.secret = before.secret,
                false => return Err(AdministrationError::SecretAnew),
            }
        }
        let rows = Rows { stores: vec![row.clone()], ..Rows::default() };
        self.commit(&turn, Command::Change { was: vec![RecordName::Store(name.to_owned())], rows }, by)?;
        Ok(row)
    }

    /// A store outside that is asked now.
    pub(crate) fn outside(&self, name: &str) -> Result<OutsideStore, AdministrationError> {
        let snapshot = self.committer.snapshot.load();
        match snapshot.outside.get(name) {
            Some(store) => Ok(store.clone()),
            None => Err(AdministrationError::OtherStore(self.store(name)?.name)),
        }
    }

    fn outside_row(
        &self,
        name: &str,
        settings: &OutsideSettings,
        secret: Option<&SecretText>,
    ) -> Result<StoreRow, AdministrationError> {
        // Whatever holds for the name of a store holds for this one.
        let name = regnant_records::StoreEntry { name: name.to_owned(), kind: StoreKind::People }.row()?.name;
        match settings {
            OutsideSettings::Directory(settings) => settings.check()?,
            OutsideSettings::Http(settings) => settings.check()?,
        }
        let snapshot = self.committer.snapshot.load();
        settings.facts().check(snapshot.languages.vocabulary.table().attributes().iter())?;
        if let Some(trust) = settings.trust()
            && !self.committer.records.all::<TrustRow>()?.iter().any(|row| row.name == *trust)
        {
            return Err(AdministrationError::NotFound(RecordName::Trust(trust.clone())));
        }
        let secret = secret.map(|secret| Secret::new(secret.expose().as_bytes()));
        if !settings.has_secret() && secret.is_some() {
            return Err(AdministrationError::NobodysSecret);
        }
        let key = &self.committer.environment.key;
        Ok(StoreRow::outside(name, settings.kind(), settings.text(), secret.as_ref(), key))
    }
}
