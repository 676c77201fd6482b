//! Accounts that were found a moment ago. Proofs are never among them.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::BoundedMap;
use regnant_decision::Found;
use regnant_policy::IdentityKind;

/// Accounts that are kept at most.
const MOST: usize = 20_000;
/// How long it is kept that nobody has a name.
const NOBODY: Duration = Duration::from_secs(10);

/// Accounts by kind and name.
pub(crate) struct Cache {
    keep: Duration,
    known: Mutex<BoundedMap<(IdentityKind, String), (Instant, Found)>>,
}

impl Cache {
    pub(crate) fn new(keep: Duration) -> Self {
        Self { keep, known: Mutex::new(BoundedMap::new(MOST)) }
    }

    pub(crate) fn get(&self, kind: IdentityKind, name: &str) -> Option<Found> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (kind, name.to_lowercase());
        let (at, found) = known.get(&key)?;
        let limit = match found {
            Found::Account(_) => self.keep,
            Found::Nobody | Found::Several => self.keep.min(NOBODY),
        };
        if at.elapsed() < limit {
            return Some(found.clone());
        }
        known.remove(&key);
        None
    }

    pub(crate) fn keep(&self, kind: IdentityKind, name: &str, found: &Found) {
        if !self.keep.is_zero() {
            let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            known.insert((kind, name.to_lowercase()), (Instant::now(), found.clone()));
        }
    }

    /// Looks a name up anew the next time.
    pub(crate) fn forget(&self, kind: IdentityKind, name: &str) {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).remove(&(kind, name.to_lowercase()));
    }
}
