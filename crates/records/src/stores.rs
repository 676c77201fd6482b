//! People and devices in memory, as the packet path looks them up.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use regnant_base::{Mac, Secret};
use regnant_decision::{
    Account, Answer, Capabilities, Device, Found, GroupNames, Groups, MsChapAnswer, NoAnswer, PasswordAnswer,
    Recovered, Store, StoreRegistry, StoreReply, Titles, Unable,
};
use regnant_eap::MsChapResponse;
use regnant_policy::{IdentityKind, Value};
use sha2::{Digest, Sha256};

use crate::command::Command;
use crate::database::{LookedUp, Reading, Records};
use crate::device_table::DeviceTable;
use crate::error::RecordsError;
use crate::hash_pool::HashPool;
use crate::names::RecordName;
use crate::rows::{
    DeviceRow, MachineRow, PersonRow, Rows, StoreKind, fold, nt_hash_context, password_context, recoverable_context,
};
use crate::sealing::{Sealed, SealingKey};
use crate::sharded::ShardedMap;
use crate::unusable::Unusable;

/// How long the check of a password is waited for. What takes longer is not begun: the
/// pool takes no more than it can do while a NAS waits.
const TIME_LIMIT: Duration = Duration::from_secs(6);

/// The stores that live in the records. A copy shares what is not changed in it, so that
/// a change of the records costs what it changes.
#[derive(Clone)]
pub struct LocalStores {
    people: BTreeMap<String, Arc<People>>,
    devices: BTreeMap<String, Arc<DeviceTable>>,
    key: Arc<SealingKey>,
    pool: HashPool,
    titles: Option<Arc<dyn Titles>>,
    /// Whoever is refused since what is kept of them cannot be opened, by their names.
    unusable: BTreeMap<RecordName, Unusable>,
}

/// A store of people and machines.
#[derive(Clone)]
struct People {
    name: String,
    accounts: ShardedMap<(IdentityKind, String), Arc<KnownAccount>>,
    key: Arc<SealingKey>,
    pool: HashPool,
}

struct KnownAccount {
    account: Account,
    /// Milliseconds since 1970.
    expires: Option<i64>,
    password_hash: Option<String>,
    recoverable: Option<Sealed>,
    nt_hash: Option<Sealed>,
}

impl LocalStores {
    /// No store yet.
    pub fn new(key: Arc<SealingKey>, pool: HashPool) -> Self {
        let (people, devices, unusable) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
        Self { people, devices, key, pool, titles: None, unusable }
    }

    /// The stores of these records. Devices are read one by one: there may be a million.
    pub fn of(records: &Records, key: Arc<SealingKey>, pool: HashPool) -> Result<Self, RecordsError> {
        let rows = Rows { stores: records.all()?, people: records.all()?, machines: records.all()?, ..Rows::default() };
        let titles = Some(Arc::new(records.titles()?) as Arc<dyn Titles>);
        let mut stores = Self { titles, ..Self::new(key, pool) };
        stores.add(&rows);
        records.each_device(|store, mac, device| {
            if let Some(table) = stores.devices.get_mut(store) {
                Arc::make_mut(table).insert(mac, device);
            }
        })?;
        Ok(stores)
    }

    /// Does what a command does that was applied to the records.
    pub fn follow(&mut self, command: &Command) {
        let (gone, rows) = (command.gone(), command.rows());
        for name in gone {
            match (name, &rows.stores[..]) {
                // A store that stays keeps what is in it.
                (RecordName::Store(name), stores) if stores.iter().any(|row| row.name == *name) => {}
                (RecordName::Store(from), [to]) => {
                    self.rename(from, &to.name);
                    self.forget(name);
                }
                _ => self.forget(name),
            }
        }
        self.add(&rows);
    }

    fn forget(&mut self, name: &RecordName) {
        self.unusable.remove(&name.folded());
        match name {
            RecordName::Store(name) => {
                self.people.remove(name);
                self.devices.remove(name);
            }
            RecordName::Person { store, name } => self.forget_account(store, IdentityKind::User, name),
            RecordName::Machine { store, name } => self.forget_account(store, IdentityKind::Machine, name),
            RecordName::Device { store, mac } => {
                if let Some(store) = self.devices.get_mut(store) {
                    Arc::make_mut(store).remove(*mac);
                }
            }
            _ => {}
        }
    }

    /// Gives a store of devices another name.
    fn rename(&mut self, from: &str, to: &str) {
        if let Some(mut table) = self.devices.remove(from) {
            Arc::make_mut(&mut table).rename(to);
            self.devices.insert(to.to_owned(), table);
        }
    }

    fn forget_account(&mut self, store: &str, kind: IdentityKind, name: &str) {
        if let Some(store) = self.people.get_mut(store) {
            Arc::make_mut(store).accounts.remove(&(kind, fold(name)));
        }
    }

    /// Takes in records that were added or changed. Somebody whose password cannot be opened is taken in as
    /// somebody who is disabled.
    fn add(&mut self, rows: &Rows) {
        for row in &rows.stores {
            self.add_store(&row.name, row.kind);
        }
        let mut sets = Sets::default();
        rows.people.iter().for_each(|row| self.add_person(row, &mut sets));
        rows.machines.iter().for_each(|row| self.add_machine(row, &mut sets));
        rows.devices.iter().for_each(|row| self.add_device(row));
    }

    /// What cannot be used as it is, so that it is refused.
    pub fn unusable(&self) -> impl Iterator<Item = &Unusable> {
        self.unusable.values()
    }

    /// Whether a store lists a device.
    pub fn lists(&self, store: &str, mac: Mac) -> bool {
        self.devices.get(store).is_some_and(|table| table.holds(mac))
    }

    /// Every store by its name.
    pub fn registry(&self) -> StoreRegistry {
        let people = self.people.iter().map(|(name, store)| (name.clone(), store.clone() as Arc<dyn Store>));
        let devices = self.devices.iter().map(|(name, store)| (name.clone(), store.clone() as Arc<dyn Store>));
        people.chain(devices).collect()
    }

    /// How many devices each store has.
    pub fn device_counts(&self) -> impl Iterator<Item = (&str, usize)> {
        self.devices.iter().map(|(name, store)| (name.as_str(), store.len()))
    }

    /// Every group of each store with how many devices are in it.
    pub fn device_groups(&self) -> impl Iterator<Item = (String, u64)> {
        self.devices.values().flat_map(|store| store.groups())
    }

    pub(crate) fn device_tables(&self) -> impl Iterator<Item = (&str, &DeviceTable)> {
        self.devices.iter().map(|(name, store)| (name.as_str(), &**store))
    }

    fn add_store(&mut self, name: &str, kind: StoreKind) {
        let new = || People {
            name: name.to_owned(),
            accounts: ShardedMap::default(),
            key: self.key.clone(),
            pool: self.pool.clone(),
        };
        match kind {
            StoreKind::People => drop(self.people.entry(name.to_owned()).or_insert_with(|| Arc::new(new()))),
            StoreKind::Devices => {
                let empty = || Arc::new(DeviceTable::new(name, self.titles.clone()));
                self.devices.entry(name.to_owned()).or_insert_with(empty);
            }
            // What is outside is nothing of ours.
            StoreKind::Directory | StoreKind::Http => {}
        }
    }

    fn add_person(&mut self, row: &PersonRow, sets: &mut Sets) {
        let name = || RecordName::Person { store: row.store.clone(), name: row.name.clone() };
        let hash = self.opened(name, &password_context("person", &row.store, &row.name), Some(&row.password_hash));
        let account = sets.account(IdentityKind::User, &row.name, &row.groups, row.disabled);
        let sealed = (row.recoverable.clone(), row.nt_hash.clone());
        self.add_account(&row.store, account, row.expires, hash, sealed);
    }

    fn add_machine(&mut self, row: &MachineRow, sets: &mut Sets) {
        let name = || RecordName::Machine { store: row.store.clone(), name: row.name.clone() };
        let context = password_context("machine", &row.store, &row.name);
        let hash = self.opened(name, &context, row.password_hash.as_ref());
        let account = sets.account(IdentityKind::Machine, &row.name, &row.groups, row.disabled);
        self.add_account(&row.store, account, row.expires, hash, (None, row.nt_hash.clone()));
    }

    /// The hash of a password, where there is one; an error where it cannot be opened, which is noted.
    fn opened(
        &mut self,
        name: impl Fn() -> RecordName,
        context: &str,
        sealed: Option<&Sealed>,
    ) -> Result<Option<Secret>, CannotOpen> {
        if !self.unusable.is_empty() {
            self.unusable.remove(&name().folded());
        }
        sealed.map(|sealed| self.key.open(context, sealed)).transpose().map_err(|error| {
            self.unusable.insert(name().folded(), Unusable::new(name(), error));
            CannotOpen
        })
    }

    fn add_account(
        &mut self,
        store: &str,
        mut account: Account,
        expires: Option<i64>,
        hash: Result<Option<Secret>, CannotOpen>,
        (recoverable, nt_hash): (Option<Sealed>, Option<Sealed>),
    ) {
        account.disabled |= hash.is_err();
        let known = KnownAccount::new(account, expires, hash.ok().flatten().as_ref(), recoverable, nt_hash);
        // The records let nobody into a store that there is not.
        let Some(store) = self.people.get_mut(store) else { return };
        let key = (known.account.kind, fold(&known.account.name));
        Arc::make_mut(store).accounts.insert(key, Arc::new(known));
    }

    fn add_device(&mut self, row: &DeviceRow) {
        let Some(store) = self.devices.get_mut(&row.store) else { return };
        let (groups, attributes) = (row.groups_as_json(), row.attributes_as_json());
        let (barred, expires) = (row.barred.is_some(), row.expires);
        let device = LookedUp { groups: &groups, attributes: &attributes, barred, expires };
        let store = Arc::make_mut(store);
        row.addresses().for_each(|mac| store.insert(mac, &device));
    }
}

/// A password hash that is sealed under another key, or damaged.
struct CannotOpen;

impl KnownAccount {
    fn new(
        mut account: Account,
        expires: Option<i64>,
        password_hash: Option<&Secret>,
        recoverable: Option<Sealed>,
        nt_hash: Option<Sealed>,
    ) -> Self {
        let password_hash = password_hash.map(|hash| String::from_utf8_lossy(hash.expose()).into_owned());
        account.password_mark = match (&password_hash, &nt_hash) {
            // Sealed with random bytes, so that each new one is another: it tells nothing of what is in it.
            (None, Some(sealed)) => mark(sealed.bytes()),
            (hash, _) => mark(hash.as_deref().unwrap_or_default().as_bytes()),
        };
        Self { account, expires, password_hash, recoverable, nt_hash }
    }
}

/// A number that changes with the password, whose hash has a salt of its own. It
/// is kept on file with remembered machines, so every release makes the same.
fn mark(kept: &[u8]) -> u64 {
    let digest: [u8; 32] = Sha256::digest(kept).into();
    digest.iter().take(8).fold(0, |mark, byte| mark << 8 | u64::from(*byte))
}

/// Sets of groups, each made once.
#[derive(Default)]
struct Sets {
    groups: HashMap<Vec<String>, Groups>,
}

impl Sets {
    fn account(&mut self, kind: IdentityKind, name: &str, groups: &[String], disabled: bool) -> Account {
        let groups = self.groups(groups);
        Account {
            kind,
            name: name.to_owned(),
            groups,
            groups_in_part: false,
            disabled,
            expired: false,
            password_mark: 0,
            place: None,
            logon: None,
            certificates: [].into(),
            attributes: [].into(),
        }
    }

    fn groups(&mut self, names: &[String]) -> Groups {
        if let Some(groups) = self.groups.get(names) {
            return groups.clone();
        }
        let groups: Groups = names.iter().cloned().map(Value::owned).collect();
        self.groups.insert(names.to_vec(), groups.clone());
        groups
    }
}

impl People {
    fn known(&self, kind: IdentityKind, name: &str) -> Option<&Arc<KnownAccount>> {
        self.accounts.get(&(kind, fold(name)))
    }

    fn open(&self, context: &str, sealed: &Sealed) -> Answer<Secret> {
        self.key.open(context, sealed).map_err(|error| NoAnswer::Silent(error.to_string()))
    }
}

impl Store for People {
    fn kind(&self) -> &'static str {
        StoreKind::People.word()
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            kinds: &[IdentityKind::User, IdentityKind::Machine],
            groups: true,
            passwords: true,
            mschap: true,
            recoverable_passwords: true,
            ..Capabilities::default()
        }
    }

    fn time_limit(&self) -> Duration {
        TIME_LIMIT
    }

    fn is_at_hand(&self) -> bool {
        true
    }

    fn group_names(&self, kind: IdentityKind) -> Option<GroupNames> {
        let mut names = HashSet::new();
        for known in self.accounts.values().filter(|known| known.account.kind == kind) {
            names.extend(known.account.groups.iter().filter_map(|group| match group {
                Value::Text(text) => Some(text.clone().into_owned()),
                _ => None,
            }));
        }
        Some(GroupNames { names: names.into_iter().collect(), whole: true, ..GroupNames::default() })
    }

    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, _: &'s str) -> StoreReply<'s, Found> {
        let now = Timestamp::now().as_millisecond();
        let known = self.known(kind, name).map(|known| {
            let expired = known.expires.is_some_and(|at| at <= now);
            Account { expired, ..known.account.clone() }
        });
        StoreReply::now(known.into())
    }

    fn check_password<'s>(
        &'s self,
        account: &'s Account,
        password: Secret,
        asker: &'s str,
    ) -> StoreReply<'s, PasswordAnswer> {
        let hash = self.known(account.kind, &account.name).and_then(|known| known.password_hash.clone());
        let right = self.pool.verify(asker, password, hash);
        StoreReply::later(async move { right.await.map(Into::into) })
    }

    fn check_takes(&self) -> Duration {
        self.pool.takes()
    }

    fn recoverable_password<'s>(&'s self, account: &'s Account, _: &'s str) -> StoreReply<'s, Option<Recovered>> {
        let known = self.known(account.kind, &account.name);
        let sealed = known.and_then(|known| known.recoverable.as_ref());
        let open = |sealed| self.open(&recoverable_context(&self.name, &account.name), sealed);
        StoreReply::Now(sealed.map(open).transpose().map(|password| password.map(Into::into)))
    }

    fn check_mschap<'s>(
        &'s self,
        account: &'s Account,
        response: &'s MsChapResponse,
        _: &'s str,
    ) -> StoreReply<'s, MsChapAnswer> {
        let what = if account.kind == IdentityKind::Machine { "machine" } else { "person" };
        let known = self.known(account.kind, &account.name);
        let Some(sealed) = known.and_then(|known| known.nt_hash.as_ref()) else {
            return StoreReply::now(MsChapAnswer::Unable(Unable::NoHash));
        };
        let hash = self.open(&nt_hash_context(what, &self.name, &account.name), sealed);
        StoreReply::Now(hash.map(|hash| match <&[u8; 16]>::try_from(hash.expose()) {
            Ok(hash) => {
                response.session_key(hash).map_or(MsChapAnswer::Not(PasswordAnswer::Wrong), MsChapAnswer::Right)
            }
            Err(_) => MsChapAnswer::Unable(Unable::NoHash),
        }))
    }
}

impl Store for DeviceTable {
    fn kind(&self) -> &'static str {
        StoreKind::Devices.word()
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { kinds: &[IdentityKind::Mac], groups: true, ..Capabilities::default() }
    }

    fn group_names(&self, _: IdentityKind) -> Option<GroupNames> {
        let names = self.groups().into_keys().collect();
        Some(GroupNames { names, whole: true, ..GroupNames::default() })
    }

    fn time_limit(&self) -> Duration {
        TIME_LIMIT
    }

    fn is_at_hand(&self) -> bool {
        true
    }

    fn device<'s>(&'s self, mac: Mac, _: &'s str) -> StoreReply<'s, Option<Arc<Device>>> {
        StoreReply::now(self.get(mac, Timestamp::now().as_millisecond()))
    }
}

#[cfg(test)]
mod tests {
    use regnant_base::Secret;

    use super::*;

    #[test]
    fn a_new_password_has_another_mark_though_its_hash_is_all_that_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let key = SealingKey::create(&folder.path().join("sealing.key")).unwrap();
        let account = Sets::default().account(IdentityKind::Machine, "pc7", &[], false);
        let mark = |password_hash: Option<&str>, nt_hash: Option<&[u8]>| {
            let hash = password_hash.map(|hash| Secret::new(hash.as_bytes()));
            let sealed = nt_hash.map(|hash| key.seal("machine", hash));
            KnownAccount::new(account.clone(), None, hash.as_ref(), None, sealed).account.password_mark
        };
        let marks = [
            mark(None, Some(&[1; 16])),
            mark(None, Some(&[2; 16])),
            mark(Some("one"), Some(&[1; 16])),
            mark(Some("two"), Some(&[1; 16])),
            mark(None, None),
        ];
        let differ: HashSet<_> = marks.into_iter().collect();
        assert_eq!(differ.len(), marks.len());
        assert_eq!(mark(Some("one"), None), mark(Some("one"), Some(&[9; 16])), "the same password");
    }
}
