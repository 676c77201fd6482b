//! Stores outside: how they are asked, and whether they answer.

use std::time::Duration;

use regnant_base::{Secret, SecretText};
use regnant_directory::PasswordTimes;
use regnant_records::{Author, Command, Reading, RecordName, Rows, StoreKind, StoreRow, TrustRow, new_token};

use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, RecordVersion};
use crate::clock::now_ms;
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

    /// Gives the machine that asks a domain another password, there and in the records. Where the
    /// records cannot take it, the domain has the one of before again.
    pub(crate) async fn renew_machine_password(&self, name: &str, by: &Author) -> Result<(), AdministrationError> {
        let (own, name, by) = (Self { committer: self.committer.clone() }, name.to_owned(), by.clone());
        // Whoever asked may be gone before both sides have it.
        let renewed = tokio::spawn(async move { own.renew_to_the_end(&name, &by).await });
        renewed.await.unwrap_or(Err(AdministrationError::Stopped))
    }

    async fn renew_to_the_end(&self, name: &str, by: &Author) -> Result<(), AdministrationError> {
        let _alone = self.committer.renewing.lock().await;
        let (own, wanted) = (Self { committer: self.committer.clone() }, name.to_owned());
        let read = move || {
            let row = own.store(&wanted)?;
            let current = row.open_secret(&own.committer.environment.key)?;
            Ok::<_, AdministrationError>((row, current.unwrap_or_else(|| Secret::new(*b""))))
        };
        let (row, current) = in_background(read).await?;
        let OutsideStore::Directory(directory) = self.outside(name)? else {
            return Err(AdministrationError::OtherStore(row.name));
        };
        let new = Secret::new(new_token().as_bytes());
        directory.set_machine_password(current.clone(), new.clone()).await.map_err(AdministrationError::Domain)?;
        let own = Self { committer: self.committer.clone() };
        let (author, kept) = (by.clone(), new.clone());
        let work = move || {
            let turn = own.committer.turn();
            let before = own.store(&row.name)?;
            // Its password goes with no other account and to no other servers.
            if RecordVersion::of(&before) != RecordVersion::of(&row) {
                return Err(AdministrationError::Changed(before.name));
            }
            let settings = before.settings.clone();
            let key = &own.committer.environment.key;
            let after = StoreRow::outside(before.name.clone(), before.kind, settings, Some(&kept), key);
            let was = vec![RecordName::Store(before.name)];
            let rows = Rows { stores: vec![after], ..Rows::default() };
            own.commit(&turn, Command::Change { was, rows }, &author)
        };
        let kept = in_background(work).await;
        if kept.is_err()
            && let Err(trouble) = directory.set_machine_password(new, current).await
        {
            tracing::error!(
                "the password of the machine account of {name} is lost: set it anew there and here ({trouble})"
            );
        }
        kept.map(drop)
    }

    /// Stores whose machine account has had its password for longer than this.
    pub(crate) async fn machine_passwords_older(&self, than: Duration) -> Vec<String> {
        let now = now_ms() as i64 / 1_000;
        let stores = self.committer.snapshot.load().outside.clone();
        let mut old = Vec::new();
        for (name, store) in stores.all() {
            let OutsideStore::Directory(directory) = store else { continue };
            if !directory.asks_a_domain() {
                continue;
            }
            if let Ok(PasswordTimes { set: Some(set), .. }) = directory.searcher_password().await
                && now - set > than.as_secs() as i64
            {
                old.push(name.to_owned());
            }
        }
        old
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

/// Work that waits for the disk.
async fn in_background<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, AdministrationError> + Send + 'static,
) -> Result<T, AdministrationError> {
    tokio::task::spawn_blocking(work).await.unwrap_or(Err(AdministrationError::Stopped))
}
