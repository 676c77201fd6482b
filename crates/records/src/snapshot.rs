//! People and endpoints in memory, as the packet path looks them up.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use regnant_access::{Answer, Endpoint, Groups, Person, Stores, Unreachable};
use regnant_policy::{Mac, Value};
use regnant_radius::Secret;

use crate::error::RecordsError;
use crate::hash_pool::HashPool;
use crate::inventory::{StoreKind, person_context};
use crate::sealing::SealingKey;
use crate::shared::Records;

/// The stores that live in the records. Immutable: a change of the records makes
/// a new one.
pub struct LocalStores {
    people: HashMap<String, HashMap<String, KnownPerson>>,
    endpoints: HashMap<String, HashMap<Mac, Arc<Endpoint>>>,
    key: Arc<SealingKey>,
    pool: HashPool,
}

struct KnownPerson {
    person: Person,
    /// Milliseconds since 1970.
    expires: Option<i64>,
    password_hash: String,
    recoverable: Option<Vec<u8>>,
}

impl LocalStores {
    /// Reads all people and endpoints.
    pub fn load(records: &Records, key: Arc<SealingKey>, pool: HashPool) -> Result<Self, RecordsError> {
        let mut stores = Self { people: HashMap::new(), endpoints: HashMap::new(), key, pool };
        for (name, kind) in records.stores()? {
            match kind {
                StoreKind::People => drop(stores.people.insert(name, HashMap::new())),
                StoreKind::Endpoints => drop(stores.endpoints.insert(name, HashMap::new())),
            }
        }
        let mut groups = Grouping::default();
        stores.load_people(records, &mut groups)?;
        stores.load_endpoints(records, &mut groups)?;
        Ok(stores)
    }

    fn load_people(&mut self, records: &Records, sets: &mut Grouping) -> Result<(), RecordsError> {
        let mut groups: HashMap<(String, String), Vec<String>> = HashMap::new();
        let sql = "SELECT store, person, group_name FROM person_group ORDER BY store, person, rowid";
        for (store, person, group) in
            records.rows(sql, |row| Ok((row.get(0)?, row.get::<_, String>(1)?, row.get(2)?)))?
        {
            groups.entry((store, person.to_lowercase())).or_default().push(group);
        }
        let sql = "SELECT store, name, password_hash, recoverable, disabled, expires FROM person";
        let rows = records.rows(sql, |row| {
            let known: (String, String, String, Option<Vec<u8>>, bool, Option<i64>) =
                (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?);
            Ok(known)
        })?;
        for (store, name, password_hash, recoverable, disabled, expires) in rows {
            let folded = name.to_lowercase();
            let list = groups.remove(&(store.clone(), folded.clone())).unwrap_or_default();
            let person = Person { name, groups: sets.of(list), disabled, expired: false };
            let known = KnownPerson { person, expires, password_hash, recoverable };
            self.people.entry(store).or_default().insert(folded, known);
        }
        Ok(())
    }

    fn load_endpoints(&mut self, records: &Records, sets: &mut Grouping) -> Result<(), RecordsError> {
        let mut groups: HashMap<(String, [u8; 6]), Vec<String>> = HashMap::new();
        let sql = "SELECT store, mac, group_name FROM endpoint_group ORDER BY store, mac, rowid";
        for (store, mac, group) in records.rows(sql, |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))? {
            groups.entry((store, mac)).or_default().push(group);
        }
        let rows = records.rows("SELECT store, mac, title, barred FROM endpoint", |row| {
            let known: (String, [u8; 6], String, bool) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
            Ok(known)
        })?;
        for (store, mac, title, barred) in rows {
            let list = groups.remove(&(store.clone(), mac)).unwrap_or_default();
            let endpoint = Endpoint { title, groups: sets.of(list), barred };
            self.endpoints.entry(store).or_default().insert(Mac(mac), Arc::new(endpoint));
        }
        Ok(())
    }

    /// Every endpoint with its store and address, sorted.
    pub fn endpoints(&self) -> Vec<(&str, Mac, &Endpoint)> {
        let mut list: Vec<_> = self
            .endpoints
            .iter()
            .flat_map(|(store, known)| known.iter().map(move |(mac, endpoint)| (store.as_str(), *mac, &**endpoint)))
            .collect();
        list.sort_by_key(|(store, mac, _)| (*store, *mac));
        list
    }

    fn known(&self, store: &str, name: &str) -> Answer<Option<&KnownPerson>> {
        let people = self.people.get(store).ok_or_else(|| no_store(store))?;
        Ok(people.get(&name.to_lowercase()))
    }
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
    async fn person(&self, store: &str, name: &str) -> Answer<Option<Person>> {
        let now = Timestamp::now().as_millisecond();
        Ok(self.known(store, name)?.map(|known| {
            let expired = known.expires.is_some_and(|at| at <= now);
            Person { expired, ..known.person.clone() }
        }))
    }

    async fn password_is_right(&self, store: &str, person: &Person, password: Secret) -> Answer<bool> {
        let hash = self.known(store, &person.name)?.map(|known| known.password_hash.clone());
        self.pool.verify(password, hash).await
    }

    async fn recoverable_password(&self, store: &str, person: &Person) -> Answer<Option<Secret>> {
        let Some(sealed) = self.known(store, &person.name)?.and_then(|known| known.recoverable.as_deref()) else {
            return Ok(None);
        };
        let opened = self.key.open(&person_context(store, &person.name), sealed);
        opened.map(Some).map_err(|error| Unreachable(error.to_string()))
    }

    async fn endpoint(&self, store: &str, mac: Mac) -> Answer<Option<Arc<Endpoint>>> {
        Ok(self.endpoints.get(store).ok_or_else(|| no_store(store))?.get(&mac).cloned())
    }
}
