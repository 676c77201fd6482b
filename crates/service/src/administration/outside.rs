//! Stores outside: how they are asked, and whether they answer.

use std::time::Duration;

use regnant_base::{Secret, SecretText};
use regnant_certificates::read_certificates;
use regnant_directory::{PasswordTimes, Trouble};
use regnant_outside::{Way, client_tls};
use regnant_records::{Author, Command, Reading, RecordName, Rows, StoreKind, StoreRow, TrustRow, new_token};

use crate::administration::committer::Turn;
use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, RecordVersion, is_as_seen};
use crate::clock::now_ms;
use crate::outside_stores::{OutsideSettings, OutsideStore};

/// A machine account between two passwords.
#[derive(Clone)]
struct Renewal {
    row: StoreRow,
    current: Secret,
    next: Secret,
}

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
        turn.commit(by, Command::Add(Rows { stores: vec![row.clone()], ..Rows::default() }))?;
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
        is_as_seen(name, Some(&before), seen)?;
        if before.kind != settings.kind() {
            return Err(AdministrationError::OtherStore(before.name));
        }
        let mut row = self.outside_row(name, settings, secret)?;
        if secret.is_none() && settings.has_secret() {
            let was = OutsideSettings::of(&before).and_then(Result::ok);
            let Some(was) = was.filter(|was| was.same_confidant(settings)) else {
                return Err(AdministrationError::SecretAnew);
            };
            row.secret = before.secret;
            row.next_secret = before.next_secret.filter(|_| was.same_machine(settings));
        }
        let rows = Rows { stores: vec![row.clone()], ..Rows::default() };
        turn.commit(by, Command::Change { was: vec![RecordName::Store(name.to_owned())], rows })?;
        Ok(row)
    }

    /// Gives the machine that asks a domain another password, there and in the records. The records
    /// have it before the domain has: wherever this is cut short, whoever comes next ends it.
    pub(crate) async fn renew_machine_password(&self, name: &str, by: &Author) -> Result<(), AdministrationError> {
        let (own, name, by) = (Self { committer: self.committer.clone() }, name.to_owned(), by.clone());
        // Whoever asked may be gone before both sides have it.
        let renewed = tokio::spawn(async move { own.renew_to_the_end(&name, &by).await });
        renewed.await.unwrap_or(Err(AdministrationError::Stopped))
    }

    async fn renew_to_the_end(&self, name: &str, by: &Author) -> Result<(), AdministrationError> {
        let _alone = self.committer.renewing.lock().await;
        let OutsideStore::Directory(directory) = self.outside(name)? else {
            return Err(AdministrationError::OtherStore(self.store(name)?.name));
        };
        if !directory.asks_a_domain() {
            return Err(AdministrationError::Domain(Trouble::NoDomain));
        }
        let (own, wanted, author) = (Self { committer: self.committer.clone() }, name.to_owned(), by.clone());
        let begun = in_background(move || own.begin_renewal(&wanted, &author)).await?;
        let Renewal { current, next, .. } = begun.clone();
        directory.set_machine_password(current.clone(), next.clone()).await.map_err(AdministrationError::Domain)?;
        let (own, author) = (Self { committer: self.committer.clone() }, by.clone());
        let ended = in_background(move || own.end_renewal(&begun, &author)).await;
        // Whoever gave the store another secret meanwhile believes that the one of before counts.
        if let Err(AdministrationError::Changed(_)) = &ended
            && let Err(trouble) = directory.set_machine_password(next, current).await
        {
            tracing::error!("the machine account of {name} has a password that is not known here: {trouble}");
        }
        ended
    }

    /// Writes down the password that a machine account gets, where none is written down yet.
    fn begin_renewal(&self, name: &str, by: &Author) -> Result<Renewal, AdministrationError> {
        let key = &self.committer.environment.key;
        let turn = self.committer.turn();
        let row = self.store(name)?;
        let current = row.open_secret(key)?.unwrap_or_else(|| Secret::new(*b""));
        if let Some(next) = row.open_next_secret(key)? {
            return Ok(Renewal { row, current, next });
        }
        let next = Secret::new(new_token().as_bytes());
        let row = row.with_next_secret(&next, key);
        Self::change_store(&turn, row.clone(), by)?;
        Ok(Renewal { row, current, next })
    }

    /// Has the password count that the domain took.
    fn end_renewal(&self, begun: &Renewal, by: &Author) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let now = self.store(&begun.row.name)?;
        if (&now.secret, &now.next_secret) != (&begun.row.secret, &begun.row.next_secret) {
            return Err(AdministrationError::Changed(now.name));
        }
        let key = &self.committer.environment.key;
        Self::change_store(&turn, StoreRow::outside(now.name, now.kind, now.settings, Some(&begun.next), key), by)
    }

    fn change_store(turn: &Turn<'_>, row: StoreRow, by: &Author) -> Result<(), AdministrationError> {
        let was = vec![RecordName::Store(row.name.clone())];
        let rows = Rows { stores: vec![row], ..Rows::default() };
        turn.commit(by, Command::Change { was, rows }).map(drop)
    }

    /// Stores whose machine account is between two passwords.
    pub(crate) fn renewals_begun(&self) -> Result<Vec<String>, AdministrationError> {
        let stores = self.committer.records.all::<StoreRow>()?;
        Ok(stores.into_iter().filter(|row| row.next_secret.is_some()).map(|row| row.name).collect())
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

    /// How servers are believed by a trust, or by the system's authorities, and where nobody goes.
    pub(crate) fn way_by_trust(&self, trust: Option<&str>) -> Result<Way, AdministrationError> {
        let way = |tls| Way { tls, never: self.committer.environment.never.clone() };
        let Some(name) = trust else { return Ok(way(client_tls(None))) };
        let trusts = self.committer.records.all::<TrustRow>()?;
        let found = trusts.into_iter().find(|trust| trust.name == name);
        let trust = found.ok_or_else(|| AdministrationError::NotFound(RecordName::Trust(name.to_owned())))?;
        Ok(way(client_tls(Some(&read_certificates(&trust.authorities).unwrap_or_default()))))
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
