//! Accounts that were found a moment ago. Proofs are never among them.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::{BoundedMap, Mac};
use regnant_decision::{Account, Device, Found};
use regnant_policy::{IdentityKind, Value};

/// Accounts that are kept at most.
const MOST: usize = 10_000;
/// One with more groups than these is looked up each time: its names take room.
const MOST_GROUPS: usize = 200;
/// One of whom more bytes of facts are told is looked up each time, too.
const LONGEST_FACTS: usize = 8_192;
/// How long it is kept that nobody has a name.
const NOBODY: Duration = Duration::from_secs(10);

/// How long what was found is kept for those who take what is stale.
const STALE: Duration = Duration::from_secs(24 * 3_600);

/// Whether two names that differ by case alone are one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Names {
    /// They are.
    OfAnyCase,
    /// Each is asked about by itself.
    AsWritten,
}

/// Accounts by kind and name.
pub struct Cache {
    keep: Duration,
    names: Names,
    known: Mutex<Known>,
}

struct Known {
    found: BoundedMap<(IdentityKind, String), (Instant, Account)>,
    /// Names that nobody has, or several: in room of their own, which whoever invents names may fill.
    no_account: BoundedMap<(IdentityKind, String), (Instant, Found)>,
    /// Entries that are looked up anew, whatever name they were found by, and since when.
    doubted: BoundedMap<Arc<str>, Instant>,
}

impl Cache {
    /// Room for accounts that count for so long.
    pub fn new(keep: Duration, names: Names) -> Self {
        let known =
            Known { found: BoundedMap::new(MOST), no_account: BoundedMap::new(MOST), doubted: BoundedMap::new(MOST) };
        Self { keep, names, known: Mutex::new(known) }
    }

    fn key(&self, kind: IdentityKind, name: &str) -> (IdentityKind, String) {
        match self.names {
            Names::OfAnyCase => (kind, name.to_lowercase()),
            Names::AsWritten => (kind, name.to_owned()),
        }
    }

    /// What was found of a name not long ago.
    pub fn get(&self, kind: IdentityKind, name: &str) -> Option<Found> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let key = self.key(kind, name);
        if let Some((at, found)) = known.no_account.get(&key) {
            if at.elapsed() < self.keep.min(NOBODY) {
                return Some(found.clone());
            }
            known.no_account.remove(&key);
        }
        let (at, account) = known.found.get(&key)?;
        let doubted = account.place.as_ref().and_then(|place| known.doubted.get(place));
        if at.elapsed() < self.keep && doubted.is_none_or(|since| since < at) {
            return Some(Found::Account(account.clone()));
        }
        if at.elapsed() > STALE {
            known.found.remove(&key);
        }
        None
    }

    /// An account that was found at most so long ago, and how long ago in seconds, whoever doubts
    /// it.
    pub fn stale(&self, kind: IdentityKind, name: &str, at_most: Duration) -> Option<(Account, u64)> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let (at, account) = known.found.get(&self.key(kind, name))?;
        (at.elapsed() <= at_most).then(|| (account.clone(), at.elapsed().as_secs()))
    }

    /// Keeps what was found.
    pub fn keep(&self, kind: IdentityKind, name: &str, found: &Found) {
        let leave = |account: &Account| {
            // What is told in part may be whole the next time.
            account.groups.len() > MOST_GROUPS || account.groups_in_part || is_long(account)
        };
        let (key, now) = (self.key(kind, name), Instant::now());
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match found {
            Found::Account(account) if leave(account) => {}
            Found::Account(account) => {
                known.no_account.remove(&key);
                known.found.insert(key, (now, account.clone()));
            }
            Found::Nobody | Found::Several => {
                known.found.remove(&key);
                known.no_account.insert(key, (now, found.clone()));
            }
        }
    }

    /// Looks an entry up anew the next time, by whatever name.
    pub fn doubt(&self, place: &Arc<str>) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.doubted.insert(place.clone(), Instant::now());
    }
}

/// When a device was found, and what it was.
type Seen = (Instant, Arc<Device>);

/// Whether what is told of an account beside takes more room than an account is worth.
fn is_long(account: &Account) -> bool {
    let length = |value: &Value<'_>| match value {
        Value::Text(text) => text.len(),
        Value::Set(members) => members.iter().map(|one| if let Value::Text(text) = one { text.len() } else { 8 }).sum(),
        _ => 8,
    };
    account.attributes.iter().map(|(_, value)| length(value)).sum::<usize>() > LONGEST_FACTS
}

/// Devices that were found a moment ago, or not.
pub struct DeviceCache {
    keep: Duration,
    known: Mutex<KnownDevices>,
}

struct KnownDevices {
    listed: BoundedMap<Mac, Seen>,
    /// Addresses that are not listed, in room of their own: whoever invents them pushes out nobody else's.
    unlisted: BoundedMap<Mac, Instant>,
}

impl DeviceCache {
    /// Room for devices that count for so long.
    pub fn new(keep: Duration) -> Self {
        let known = KnownDevices { listed: BoundedMap::new(MOST), unlisted: BoundedMap::new(MOST) };
        Self { keep, known: Mutex::new(known) }
    }

    /// What was found of an address not long ago.
    pub fn get(&self, mac: Mac) -> Option<Option<Arc<Device>>> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match known.listed.get(&mac) {
            Some((at, device)) if at.elapsed() < self.keep => return Some(Some(device.clone())),
            Some(_) => drop(known.listed.remove(&mac)),
            None => {}
        }
        match known.unlisted.get(&mac) {
            Some(at) if at.elapsed() < self.keep.min(NOBODY) => return Some(None),
            Some(_) => drop(known.unlisted.remove(&mac)),
            None => {}
        }
        None
    }

    /// Keeps what was found.
    pub fn keep(&self, mac: Mac, found: Option<Arc<Device>>) {
        if self.keep.is_zero() {
            return;
        }
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match found {
            Some(device) => {
                known.unlisted.remove(&mac);
                known.listed.insert(mac, (Instant::now(), device));
            }
            None => {
                known.listed.remove(&mac);
                known.unlisted.insert(mac, Instant::now());
            }
        }
    }
}

/// How often within a second a store is asked for what only helps whoever reads.
const HINTS: u32 = 5;

/// Keeps hints few: whoever invents names asks a store once for each, and not once more for each form of it.
#[derive(Debug)]
pub struct Hints(Mutex<(Instant, u32)>);

impl Default for Hints {
    fn default() -> Self {
        Self(Mutex::new((Instant::now(), 0)))
    }
}

impl Hints {
    /// Whether another may be asked for.
    pub fn take(&self) -> bool {
        let mut told = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if told.0.elapsed() >= Duration::from_secs(1) {
            *told = (Instant::now(), 0);
        }
        told.1 += u32::from(told.1 <= HINTS);
        told.1 <= HINTS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn account(groups: usize) -> Found {
        Found::Account(Account {
            kind: IdentityKind::User,
            name: "ida.marsh".into(),
            groups: (0..groups).map(|number| regnant_policy::Value::owned(number.to_string())).collect(),
            groups_in_part: false,
            disabled: false,
            expired: false,
            password_mark: 1,
            place: Some("uid=ida.marsh".into()),
            logon: None,
            certificates: [].into(),
            attributes: [].into(),
        })
    }

    #[test]
    fn invented_names_and_addresses_push_out_nobody() {
        let cache = Cache::new(Duration::from_secs(60), Names::OfAnyCase);
        cache.keep(IdentityKind::User, "ida.marsh", &account(3));
        let devices = DeviceCache::new(Duration::from_secs(60));
        let mac = |number: usize| Mac((number as u64).to_be_bytes()[2..].try_into().unwrap());
        let device = Device {
            title: regnant_decision::Title::Text("camera".into()),
            groups: [].into(),
            groups_in_part: false,
            attributes: [].into(),
            barred: false,
            expired: false,
        };
        devices.keep(mac(0), Some(Arc::new(device)));
        for number in 1..=2 * MOST {
            cache.keep(IdentityKind::User, &format!("nobody-{number}"), &Found::Nobody);
            devices.keep(mac(number), None);
        }
        assert!(matches!(cache.get(IdentityKind::User, "ida.marsh"), Some(Found::Account(_))));
        assert!(matches!(cache.get(IdentityKind::User, &format!("nobody-{}", 2 * MOST)), Some(Found::Nobody)));
        assert!(devices.get(mac(0)).is_some_and(|device| device.is_some()));
        assert_eq!(devices.get(mac(2 * MOST)).map(|device| device.is_some()), Some(false));
        cache.keep(IdentityKind::User, "IDA.marsh", &Found::Nobody);
        assert!(matches!(cache.get(IdentityKind::User, "ida.marsh"), Some(Found::Nobody)));
    }

    #[test]
    fn hints_are_few() {
        let hints = Hints::default();
        assert_eq!((0..100).filter(|_| hints.take()).count(), HINTS as usize);
    }

    #[test]
    fn what_is_doubted_is_looked_up_anew_by_every_name() {
        let cache = Cache::new(Duration::from_secs(60), Names::OfAnyCase);
        let known = |name: &str| cache.get(IdentityKind::User, name).is_some();
        for name in ["ida.marsh", "ida.marsh@tarnmouth.example"] {
            cache.keep(IdentityKind::User, name, &account(3));
        }
        assert!(known("IDA.marsh") && known("ida.marsh@tarnmouth.example"));
        assert!(cache.get(IdentityKind::Machine, "ida.marsh").is_none());
        cache.doubt(&"uid=ida.marsh".into());
        assert!(!known("ida.marsh") && !known("ida.marsh@tarnmouth.example"));
        cache.keep(IdentityKind::User, "crowd", &account(MOST_GROUPS + 1));
        assert!(!known("crowd"));
        let exact = Cache::new(Duration::from_secs(60), Names::AsWritten);
        exact.keep(IdentityKind::User, "ida.marsh", &account(3));
        assert!(exact.get(IdentityKind::User, "ida.marsh").is_some());
        assert!(exact.get(IdentityKind::User, "IDA.marsh").is_none());
        let Found::Account(mut in_part) = account(3) else { panic!() };
        in_part.groups_in_part = true;
        exact.keep(IdentityKind::User, "in.part", &Found::Account(in_part));
        assert!(exact.get(IdentityKind::User, "in.part").is_none());
        let none = Cache::new(Duration::ZERO, Names::OfAnyCase);
        none.keep(IdentityKind::User, "ida.marsh", &account(3));
        assert!(none.get(IdentityKind::User, "ida.marsh").is_none());
        assert!(none.stale(IdentityKind::User, "ida.marsh", Duration::from_secs(60)).is_some());
        none.keep(IdentityKind::User, "ida.marsh", &Found::Nobody);
        assert!(none.stale(IdentityKind::User, "ida.marsh", Duration::from_secs(60)).is_none(), "gone is gone");
    }
}
