//! People and devices in memory, as the packet path looks them up.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use regnant_access::{Account, Answer, Device, Groups, Stores, Unreachable};
use regnant_policy::{IdentityKind, Mac, Value};
use regnant_radius::Secret;
use sha2::{Digest, Sha256};

use crate::error::RecordsError;
use crate::hash_pool::HashPool;
use crate::inventory::{StoreKind, nt_hash_context, person_context};
use crate::sealing::SealingKey;
use crate::shared::Reading;

/// The stores that live in the records. Immutable: a change of the records makes
/// a new one.
pub struct LocalStores {
    accounts: HashMap<String, HashMap<(IdentityKind, String), Known>>,
    devices: HashMap<String, HashMap<Mac, Arc<Device>>>,
    key: Arc<SealingKey>,
    pool: HashPool,
}

struct Known {
    account: Account,
    /// Milliseconds since 1970.
    expires: Option<i64>,
    password_hash: Option<String>,
    recoverable: Option<Vec<u8>>,
    nt_hash: Option<Vec<u8>>,
}

impl LocalStores {
    /// Reads all people and devices.
    pub fn load(records: &impl Reading, key: Arc<SealingKey>, pool: HashPool) -> Result<Self, RecordsError> {
        let mut stores = Self { accounts: HashMap::new(), devices: HashMap::new(), key, pool };
        for (name, kind) in records.stores()? {
            match kind {
                StoreKind::People => drop(stores.accounts.insert(name, HashMap::new())),
                StoreKind::Devices => drop(stores.devices.insert(name, HashMap::new())),
            }
        }
        let mut groups = Grouping::default();
        stores.load_accounts(records, IdentityKind::User, &mut groups)?;
        stores.load_accounts(records, IdentityKind::Machine, &mut groups)?;
        stores.load_devices(records, &mut groups)?;
        Ok(stores)
    }

    fn load_accounts(
        &mut self,
        records: &impl Reading,
        kind: IdentityKind,
        sets: &mut Grouping,
    ) -> Result<(), RecordsError> {
        let (groups_sql, accounts_sql) = match kind {
            IdentityKind::Machine => (
                "SELECT store, machine, group_name FROM machine_group ORDER BY store, machine, rowid",
                "SELECT store, name, password_hash, NULL, nt_hash, disabled, expires FROM machine",
            ),
            _ => (
                "SELECT store, person, group_name FROM person_group ORDER BY store, person, rowid",
                "SELECT store, name, password_hash, recoverable, nt_hash, disabled, expires FROM person",
            ),
        };
        let mut groups: HashMap<(String, String), Vec<String>> = HashMap::new();
        for (store, name, group) in
            records.rows(groups_sql, |row| Ok((row.get(0)?, row.get::<_, String>(1)?, row.get(2)?)))?
        {
            groups.entry((store, name.to_lowercase())).or_default().push(group);
        }
        let rows = records.rows(accounts_sql, |row| {
            let (store, name): (String, String) = (row.get(0)?, row.get(1)?);
            let password_hash: Option<String> = row.get(2)?;
            let account = Account {
                kind,
                name,
                groups: Groups::default(),
                disabled: row.get(5)?,
                expired: false,
                password_mark: mark(password_hash.as_deref()),
            };
            let (recoverable, nt_hash) = (row.get(3)?, row.get(4)?);
            Ok((store, Known { account, expires: row.get(6)?, password_hash, recoverable, nt_hash }))
        })?;
        for (store, mut known) in rows {
            let folded = known.account.name.to_lowercase();
            let list = groups.remove(&(store.clone(), folded.clone())).unwrap_or_default();
            known.account.groups = sets.of(list);
            self.accounts.entry(store).or_default().insert((kind, folded), known);
        }
        Ok(())
    }

    fn load_devices(&mut self, records: &impl Reading, sets: &mut Grouping) -> Result<(), RecordsError> {
        let mut groups: HashMap<(String, [u8; 6]), Vec<String>> = HashMap::new();
        let sql = "SELECT store, mac, group_name FROM device_group ORDER BY store, mac, rowid";
        for (store, mac, group) in records.rows(sql, |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))? {
            groups.entry((store, mac)).or_default().push(group);
        }
        let rows = records.rows("SELECT store, mac, title, barred FROM device", |row| {
            let known: (String, [u8; 6], String, bool) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
            Ok(known)
        })?;
        for (store, mac, title, barred) in rows {
            let list = groups.remove(&(store.clone(), mac)).unwrap_or_default();
            let device = Device { title, groups: sets.of(list), barred };
            self.devices.entry(store).or_default().insert(Mac(mac), Arc::new(device));
        }
        Ok(())
    }

    /// Every device with its store and address, sorted.
    pub fn devices(&self) -> Vec<(&str, Mac, &Device)> {
        let mut list: Vec<_> = self
            .devices
            .iter()
            .flat_map(|(store, known)| known.iter().map(move |(mac, device)| (store.as_str(), *mac, &**device)))
            .collect();
        list.sort_by_key(|(store, mac, _)| (*store, *mac));
        list
    }

    fn known(&self, store: &str, kind: IdentityKind, name: &str) -> Answer<Option<&Known>> {
        let accounts = self.accounts.get(store).ok_or_else(|| no_store(store))?;
        Ok(accounts.get(&(kind, name.to_lowercase())))
    }

    fn known_account(&self, store: &str, account: &Account) -> Answer<Option<&Known>> {
        self.known(store, account.kind, &account.name)
    }

    fn open(&self, context: &str, sealed: Option<&Vec<u8>>) -> Answer<Option<Secret>> {
        let opened = sealed.map(|sealed| self.key.open(context, sealed)).transpose();
        opened.map_err(|error| Unreachable(error.to_string()))
    }
}

/// A number that changes with the password, whose hash has a salt of its own. It
/// is kept on file with remembered machines, so every release makes the same.
fn mark(password_hash: Option<&str>) -> u64 {
    let digest: [u8; 32] = Sha256::digest(password_hash.unwrap_or_default()).into();
    digest.iter().take(8).fold(0, |mark, byte| mark << 8 | u64::from(*byte))
}

/// Sets of groups, each made once: ten thousand cameras share one.
#[derive(Default)]
struct Grouping(HashMap<Vec<String>, Groups>);

impl Grouping {
    fn of(&mut self, names: Vec<String>) -> Groups {
        let make = || names.iter().cloned().map(Value::owned).collect();
        match self.0.get(&names) {
            Some(groups) => groups.clone(),
            None => self.0.entry(names.clone()).or_insert_with(make).clone(),
        }
    }
}

/// The check lets no such policy through; the store may have gone since.
fn no_store(store: &str) -> Unreachable {
    Unreachable(format!("there is no store `{store}` any more"))
}

impl Stores for LocalStores {
    async fn account(&self, store: &str, kind: IdentityKind, name: &str) -> Answer<Option<Account>> {
        let now = Timestamp::now().as_millisecond();
        Ok(self.known(store, kind, name)?.map(|known| {
            let expired = known.expires.is_some_and(|at| at <= now);
            Account { expired, ..known.account.clone() }
        }))
    }

    async fn password_is_right(&self, store: &str, account: &Account, password: Secret, asker: &str) -> Answer<bool> {
        let hash = self.known_account(store, account)?.and_then(|known| known.password_hash.clone());
        self.pool.verify(asker, password, hash).await
    }

    fn password_takes(&self) -> Duration {
        self.pool.takes()
    }

    async fn recoverable_password(&self, store: &str, account: &Account) -> Answer<Option<Secret>> {
        let sealed = self.known_account(store, account)?.and_then(|known| known.recoverable.as_ref());
        self.open(&person_context(store, &account.name), sealed)
    }

    async fn nt_hash(&self, store: &str, account: &Account) -> Answer<Option<Secret>> {
        let sealed = self.known_account(store, account)?.and_then(|known| known.nt_hash.as_ref());
        let what = if account.kind == IdentityKind::Machine { "machine" } else { "person" };
        self.open(&nt_hash_context(what, store, &account.name), sealed)
    }

    async fn device(&self, store: &str, mac: Mac) -> Answer<Option<Arc<Device>>> {
        Ok(self.devices.get(store).ok_or_else(|| no_store(store))?.get(&mac).cloned())
    }
}
