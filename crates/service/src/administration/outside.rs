//! Stores outside: how they are asked, and whether they answer.

use std::sync::Arc;

use regnant_base::{Secret, SecretText};
use regnant_directory::{Directory, DirectorySettings};
use regnant_records::{Author, Command, Reading, RecordName, Rows, StoreKind, StoreRow, TrustRow};

use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, RecordVersion};
use crate::directories::settings_of;

impl Identities {
    /// A store.
    pub(crate) fn store(&self, name: &str) -> Result<StoreRow, AdministrationError> {
        let record = RecordName::Store(name.to_owned());
        let found = self.committer.records.find(&record)?.stores.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a directory.
    pub(crate) fn add_directory(
        &self,
        name: &str,
        settings: &DirectorySettings,
        password: Option<&SecretText>,
        by: &Author,
    ) -> Result<StoreRow, AdministrationError> {
        let turn = self.committer.turn();
        let row = self.directory_row(name, settings, password)?;
        self.commit(&turn, Command::Add(Rows { stores: vec![row.clone()], ..Rows::default() }), by)?;
        Ok(row)
    }

    /// Has a directory asked in another way, where that is still as its author saw it. The password
    /// of the account that searches stays where none is given and it is the same account.
    pub(crate) fn change_directory(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        settings: &DirectorySettings,
        password: Option<&SecretText>,
        by: &Author,
    ) -> Result<StoreRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.store(name)?;
        if seen.is_some_and(|seen| *seen != RecordVersion::of(&before)) {
            return Err(AdministrationError::Changed(before.name));
        }
        if before.kind != StoreKind::Directory {
            return Err(AdministrationError::NoDirectory(before.name));
        }
        let was = settings_of(&before).ok();
        let mut row = self.directory_row(name, settings, password)?;
        // A password is for the servers and the account that it was given for.
        let same = was.is_some_and(|was| {
            was.bind_as == settings.bind_as && was.servers == settings.servers && was.trust == settings.trust
        });
        if password.is_none() && !settings.bind_as.is_empty() {
            match same {
                true => row.secret = before.secret,
                false => return Err(AdministrationError::BindPassword),
            }
        }
        let rows = Rows { stores: vec![row.clone()], ..Rows::default() };
        self.commit(&turn, Command::Change { was: vec![RecordName::Store(name.to_owned())], rows }, by)?;
        Ok(row)
    }

    /// A directory that is asked now.
    pub(crate) fn directory(&self, name: &str) -> Result<Arc<Directory>, AdministrationError> {
        let snapshot = self.committer.snapshot.load();
        match snapshot.directories.get(name) {
            Some(directory) => Ok(directory.clone()),
            None => Err(AdministrationError::NoDirectory(self.store(name)?.name)),
        }
    }

    fn directory_row(
        &self,
        name: &str,
        settings: &DirectorySettings,
        password: Option<&SecretText>,
    ) -> Result<StoreRow, AdministrationError> {
        // Whatever holds for the name of a store holds for this one.
        let name = regnant_records::StoreEntry { name: name.to_owned(), kind: StoreKind::People }.row()?.name;
        settings.check()?;
        if let Some(trust) = &settings.trust
            && !self.committer.records.all::<TrustRow>()?.iter().any(|row| row.name == *trust)
        {
            return Err(AdministrationError::NotFound(RecordName::Trust(trust.clone())));
        }
        let password = password.map(|password| Secret::new(password.expose().as_bytes()));
        if settings.bind_as.is_empty() && password.is_some() {
            return Err(AdministrationError::BindAs);
        }
        let text = serde_json::to_string(settings).expect("settings have names for keys");
        let key = &self.committer.environment.key;
        Ok(StoreRow::outside(name, StoreKind::Directory, text, password.as_ref(), key))
    }
}
