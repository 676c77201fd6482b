use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use regnant_eap::{Chain, Kind, Sessions};
use regnant_policy::IdentityKind;

/// Sessions kept at a time; the oldest go first.
const MOST: usize = 50_000;

/// EAP sessions that may be resumed. What a peer holds is only a handle; a row
/// becomes usable once its conversation was accepted, and never skips policy.
#[derive(Debug, Default)]
pub struct SessionTable {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    rows: HashMap<Vec<u8>, Row>,
    ages: VecDeque<Vec<u8>>,
}

#[derive(Debug)]
struct Row {
    session: Vec<u8>,
    scope: Scope,
    /// What it proves; none before the verdict.
    proved: Option<Arc<ProvedBefore>>,
}

/// What a session is bound to: it resumes nowhere else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Scope {
    pub(crate) gate: String,
    pub(crate) method: Option<Kind>,
    pub(crate) trust: Option<String>,
    pub(crate) certificate: Option<String>,
}

/// Who was proved when the session began.
#[derive(Clone, Debug)]
pub(crate) struct ProvedBefore {
    /// Milliseconds since 1970.
    pub(crate) at: u64,
    pub(crate) identities: Vec<IdentityBefore>,
}

/// One identity of a session.
#[derive(Clone, Debug)]
pub(crate) struct IdentityBefore {
    pub(crate) kind: IdentityKind,
    pub(crate) claimed: String,
    /// The name that was looked up.
    pub(crate) name: String,
    pub(crate) proof: String,
    pub(crate) password_mark: u64,
    /// The certificate's chain, where one proved it.
    pub(crate) chain: Chain,
}

impl SessionTable {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many sessions are kept.
    pub fn len(&self) -> usize {
        self.lock().rows.len()
    }

    /// Whether none is.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// One conversation's way to the table: it sees what its scope and age allow, and
/// notes which sessions are its own.
#[derive(Debug)]
pub(crate) struct SessionDesk {
    table: Arc<SessionTable>,
    scope: Mutex<Scope>,
    /// Sessions proved before this, in milliseconds since 1970, are too old.
    oldest: u64,
    own: Mutex<Vec<Vec<u8>>>,
    resumed: Mutex<Option<(Vec<u8>, Arc<ProvedBefore>)>>,
}

impl SessionDesk {
    pub(crate) fn new(table: Arc<SessionTable>, scope: Scope, oldest: u64) -> Self {
        let (own, resumed) = (Mutex::default(), Mutex::default());
        Self { table, scope: Mutex::new(scope), oldest, own, resumed }
    }

    /// The method is known only once it is agreed.
    pub(crate) fn set_method(&self, method: Kind) {
        lock(&self.scope).method = Some(method);
    }

    /// Who was proved in the session that the peer resumed.
    pub(crate) fn resumed(&self) -> Option<Arc<ProvedBefore>> {
        lock(&self.resumed).as_ref().map(|(_, proved)| proved.clone())
    }

    /// Makes this conversation's sessions usable.
    pub(crate) fn confirm(&self, proved: Arc<ProvedBefore>) {
        let mut table = self.table.lock();
        for handle in lock(&self.own).drain(..) {
            if let Some(row) = table.rows.get_mut(&handle) {
                row.proved = Some(proved.clone());
            }
        }
    }

    /// Ends this conversation's sessions, and the one that it resumed.
    pub(crate) fn revoke(&self) {
        let mut table = self.table.lock();
        for handle in lock(&self.own).drain(..).chain(lock(&self.resumed).take().map(|(handle, _)| handle)) {
            table.rows.remove(&handle);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Sessions for SessionDesk {
    fn put(&self, handle: Vec<u8>, session: Vec<u8>) -> bool {
        let row = Row { session, scope: lock(&self.scope).clone(), proved: None };
        lock(&self.own).push(handle.clone());
        let mut table = self.table.lock();
        while table.ages.len() >= MOST {
            let Some(oldest) = table.ages.pop_front() else { break };
            table.rows.remove(&oldest);
        }
        table.ages.push_back(handle.clone());
        table.rows.insert(handle, row);
        true
    }

    fn get(&self, handle: &[u8]) -> Option<Vec<u8>> {
        let table = self.table.lock();
        let row = table.rows.get(handle)?;
        let proved = row.proved.clone().filter(|proved| proved.at >= self.oldest)?;
        if row.scope != *lock(&self.scope) {
            return None;
        }
        *lock(&self.resumed) = Some((handle.to_vec(), proved));
        Some(row.session.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn desk(table: &Arc<SessionTable>, gate: &str, oldest: u64) -> SessionDesk {
        let scope = Scope { gate: gate.into(), method: Some(Kind::PEAP), trust: None, certificate: None };
        SessionDesk::new(table.clone(), scope, oldest)
    }

    #[test]
    fn a_session_is_found_only_after_its_verdict_at_its_gate_and_in_its_time() {
        let table = Arc::new(SessionTable::default());
        let first = desk(&table, "crew", 0);
        first.put(b"handle".to_vec(), b"session".to_vec());
        assert_eq!(desk(&table, "crew", 0).get(b"handle"), None);
        first.confirm(Arc::new(ProvedBefore { at: 1_000, identities: Vec::new() }));
        assert!(desk(&table, "crew", 1_000).get(b"handle").is_some());
        assert_eq!(desk(&table, "guests", 0).get(b"handle"), None);
        assert_eq!(desk(&table, "crew", 1_001).get(b"handle"), None);
        let other_method = desk(&table, "crew", 0);
        other_method.set_method(Kind::TTLS);
        assert_eq!(other_method.get(b"handle"), None);
        let last = desk(&table, "crew", 0);
        last.get(b"handle");
        last.revoke();
        assert!(table.is_empty());
    }

    #[test]
    fn the_table_is_bounded() {
        let table = Arc::new(SessionTable::default());
        let desk = desk(&table, "crew", 0);
        for number in 0..MOST + 100 {
            desk.put(number.to_be_bytes().to_vec(), Vec::new());
        }
        assert_eq!(table.len(), MOST);
    }
}
