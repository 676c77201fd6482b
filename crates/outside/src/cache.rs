//! Accounts that were found a moment ago. Proofs are never among them.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::BoundedMap;
use regnant_decision::{Account, Device, Found};
use regnant_policy::{IdentityKind, Mac, Value};

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
    found: BoundedMap<(IdentityKind, String), (Instant, Found)>,
    /// Entries that are looked up anew, whatever name they were found by, and since when.
    doubted: BoundedMap<Arc<str>, Instant>,
}

impl Cache {
    /// Room for accounts that count for so long.
    pub fn new(keep: Duration, names: Names) -> Self {
        let known = Known { found: BoundedMap::new(MOST), doubted: BoundedMap::new(MOST) };
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
        let (at, found) = known.found.get(&key)?;
        let (limit, doubted) = match found {
            Found::Account(account) => {
                let doubted = account.place.as_ref().and_then(|place| known.doubted.get(place));
                (self.keep, doubted.is_some_and(|since| since >= at))
            }
            Found::Nobody | Found::Several => (self.keep.min(NOBODY), false),
        };
        if at.elapsed() < limit && !doubted {
            return Some(found.clone());
        }
        if at.elapsed() > STALE || !matches!(found, Found::Account(_)) {
            known.found.remove(&key);
        }
        None
    }

    /// An account that was found at most so long ago, and how long ago in seconds, whoever doubts
    /// it.
    pub fn stale(&self, kind: IdentityKind, name: &str, at_most: Duration) -> Option<(Account, u64)> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match known.found.get(&self.key(kind, name))? {
            (at, Found::Account(account)) if at.elapsed() <= at_most => Some((account.clone(), at.elapsed().as_secs())),
            _ => None,
        }
    }

    /// Keeps what was found.
    pub fn keep(&self, kind: IdentityKind, name: &str, found: &Found) {
        let leave = |account: &Account| {
            // What is told in part may be whole the next time.
            account.groups.len() > MOST_GROUPS || account.groups_in_part || is_long(account)
        };
        if !matches!(found, Found::Account(account) if leave(account)) {
            let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            known.found.insert(self.key(kind, name), (Instant::now(), found.clone()));
        }
    }

    /// Looks an entry up anew the next time, by whatever name.
    pub fn doubt(&self, place: &Arc<str>) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.doubted.insert(place.clone(), Instant::now());
    }
}

/// When a device was looked for, and what was found.
type Seen = (Instant, Option<Arc<Device>>);

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
    known: Mutex<BoundedMap<Mac, Seen>>,
}

impl DeviceCache {
    /// Room for devices that count for so long.
    pub fn new(keep: Duration) -> Self {
        Self { keep, known: Mutex::new(BoundedMap::new(MOST)) }
    }

    /// What was found of an address not long ago.
    pub fn get(&self, mac: Mac) -> Option<Option<Arc<Device>>> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let (at, found) = known.get(&mac)?;
        let limit = if found.is_some() { self.keep } else { self.keep.min(NOBODY) };
        if at.elapsed() < limit {
            return Some(found.clone());
        }
        known.remove(&mac);
        None
    }

    /// Keeps what was found.
    pub fn keep(&self, mac: Mac, found: Option<Arc<Device>>) {
        if !self.keep.is_zero() {
            self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(mac, (Instant::now(), found));
        }
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
