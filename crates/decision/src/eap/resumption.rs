use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use regnant_base::BoundedMap;
use regnant_eap::{Chain, IdentityType, Kind, Secret, Sessions};
use regnant_policy::{Accepted, Event, IdentityKind};

/// Sessions kept at a time; the oldest go first.
const MOST: usize = 50_000;
/// Sessions of conversations without a verdict: whoever opens tunnels and proves nobody pushes out no others.
const MOST_OPEN: usize = 10_000;

/// EAP sessions that may be resumed. What a peer holds is only a handle; a row
/// becomes usable once its conversation was accepted, and never skips policy.
#[derive(Debug)]
pub struct ResumptionTable {
    rows: Mutex<Rows>,
}

#[derive(Debug)]
struct Rows {
    open: BoundedMap<Vec<u8>, Row>,
    proved: BoundedMap<Vec<u8>, (Row, Arc<ProvedBefore>)>,
}

impl Default for ResumptionTable {
    fn default() -> Self {
        Self { rows: Mutex::new(Rows { open: BoundedMap::new(MOST_OPEN), proved: BoundedMap::new(MOST) }) }
    }
}

#[derive(Debug)]
struct Row {
    /// The session's keys, as the TLS library writes them down.
    session: Secret,
    scope: Scope,
}

/// What a session is bound to: it resumes nowhere else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Scope {
    pub(crate) gate: String,
    pub(crate) method: Option<Kind>,
    pub(crate) trust: Option<String>,
    pub(crate) certificate: Option<String>,
    /// Whom the gate asks for: a session knows nothing of anybody else.
    pub(crate) identifies: Vec<IdentityKind>,
}

/// All that a session's proof told, so that a resumption is judged by as much.
#[derive(Clone, Debug, Default)]
pub(crate) struct ProvedBefore {
    /// Milliseconds since 1970.
    pub(crate) at: u64,
    /// In the order in which they presented themselves.
    pub(crate) identities: Vec<IdentityBefore>,
    /// The methods inside the tunnel.
    pub(crate) inner: Vec<String>,
    /// The group of the key exchange, which a resumption may do without.
    pub(crate) group: Option<String>,
    /// Whether tunnel and inner method were proved to belong together.
    pub(crate) bound: bool,
}

/// One identity of a session.
#[derive(Clone, Debug)]
pub(crate) struct IdentityBefore {
    pub(crate) kind: IdentityKind,
    /// Whom the method said that it is about.
    pub(crate) identity_type: Option<IdentityType>,
    pub(crate) claimed: String,
    /// The name that was looked up.
    pub(crate) name: String,
    /// What kept it from being proved.
    pub(crate) event: Option<Event>,
    pub(crate) proof: String,
    pub(crate) password_mark: u64,
    /// The store that has it, where it was proved.
    pub(crate) store: Option<Arc<str>>,
    /// The certificate's chain, where one proved it.
    pub(crate) chain: Chain,
}

impl IdentityBefore {
    /// Whether it can be told later that this holds still: of a password where the store does not say when it was
    /// changed, it cannot.
    pub(crate) fn can_be_told_again(&self) -> bool {
        self.event.is_some() || !self.chain.is_empty() || self.password_mark != 0
    }
}

impl ResumptionTable {
    fn lock(&self) -> MutexGuard<'_, Rows> {
        self.rows.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many sessions may be resumed.
    pub fn len(&self) -> usize {
        self.lock().proved.len()
    }

    /// Whether none is.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// One conversation's way to the table: it sees what its scope and age allow, and
/// notes which sessions are its own.
#[derive(Debug)]
pub(crate) struct ResumptionHandle {
    table: Arc<ResumptionTable>,
    scope: Mutex<Scope>,
    /// What the gate accepts now.
    accept: Vec<Accepted>,
    /// Sessions proved before this, in milliseconds since 1970, are too old.
    oldest: u64,
    own: Mutex<Vec<Vec<u8>>>,
    resumed: Mutex<Option<(Vec<u8>, Arc<ProvedBefore>)>>,
}

impl ResumptionHandle {
    pub(crate) fn new(table: Arc<ResumptionTable>, scope: Scope, accept: Vec<Accepted>, oldest: u64) -> Self {
        let (own, resumed) = (Mutex::default(), Mutex::default());
        Self { table, scope: Mutex::new(scope), accept, oldest, own, resumed }
    }

    /// Whether what the gate accepts now would have let the session be proved as
    /// it was.
    fn accepts(&self, scope: &Scope, proved: &ProvedBefore) -> bool {
        let Some(method) = scope.method.map(|method| method.to_string()) else { return false };
        Accepted::any_of(&self.accept, &method, proved.inner.iter().map(String::as_str), proved.bound)
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
            if let Some(row) = table.open.remove(&handle) {
                table.proved.insert(handle, (row, proved.clone()));
            }
        }
    }

    /// Ends this conversation's sessions, and the one that it resumed.
    pub(crate) fn revoke(&self) {
        let mut table = self.table.lock();
        for handle in lock(&self.own).drain(..).chain(lock(&self.resumed).take().map(|(handle, _)| handle)) {
            table.open.remove(&handle);
            table.proved.remove(&handle);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Sessions for ResumptionHandle {
    fn put(&self, handle: Vec<u8>, session: Vec<u8>) -> bool {
        let row = Row { session: Secret::new(session), scope: lock(&self.scope).clone() };
        lock(&self.own).push(handle.clone());
        let mut table = self.table.lock();
        table.open.insert(handle, row);
        true
    }

    fn get(&self, handle: &[u8]) -> Option<Vec<u8>> {
        let table = self.table.lock();
        let (row, proved) = table.proved.get(handle).filter(|(_, proved)| proved.at >= self.oldest)?;
        let scope = lock(&self.scope).clone();
        if row.scope != scope || !self.accepts(&scope, proved) {
            return None;
        }
        *lock(&self.resumed) = Some((handle.to_vec(), proved.clone()));
        Some(row.session.expose().to_vec())
    }
}

#[cfg(test)]
mod tests {
    use regnant_policy::{Inner, Method};

    use super::*;

    fn resources(table: &Arc<ResumptionTable>, gate: &str, oldest: u64) -> ResumptionHandle {
        accepting(table, gate, oldest, &[Inner::EapMsChapV2], false)
    }

    fn accepting(
        table: &Arc<ResumptionTable>,
        gate: &str,
        oldest: u64,
        inner: &[Inner],
        bound: bool,
    ) -> ResumptionHandle {
        let identifies = vec![IdentityKind::User];
        let scope = Scope { gate: gate.into(), method: Some(Kind::PEAP), trust: None, certificate: None, identifies };
        let accepted = Accepted { method: Method::Peap, inner: inner.to_vec(), bound };
        ResumptionHandle::new(table.clone(), scope, vec![accepted], oldest)
    }

    #[test]
    fn a_session_is_resumed_only_where_its_proof_would_be_accepted_now() {
        let table = Arc::new(ResumptionTable::default());
        let first = resources(&table, "crew", 0);
        first.put(b"handle".to_vec(), b"session".to_vec());
        let inner = vec!["eap-mschapv2".to_owned()];
        first.confirm(Arc::new(ProvedBefore { at: 1_000, inner, ..ProvedBefore::default() }));
        let found = |inner: &[Inner], bound| accepting(&table, "crew", 0, inner, bound).get(b"handle").is_some();
        assert!(found(&[Inner::EapGtc, Inner::EapMsChapV2], false));
        assert!(!found(&[Inner::EapGtc], false), "the inner method is accepted no more");
        assert!(!found(&[Inner::EapMsChapV2], true), "a proof of binding is demanded and was not given");
    }

    #[test]
    fn the_keys_of_a_session_are_not_printed() {
        let table = Arc::new(ResumptionTable::default());
        resources(&table, "crew", 0).put(b"handle".to_vec(), b"session".to_vec());
        let shown = format!("{table:?}");
        assert!(!shown.contains(&format!("{:?}", b"session")) && !shown.contains("session"), "{shown}");
    }

    #[test]
    fn a_session_is_found_only_after_its_verdict_at_its_gate_and_in_its_time() {
        let table = Arc::new(ResumptionTable::default());
        let first = resources(&table, "crew", 0);
        first.put(b"handle".to_vec(), b"session".to_vec());
        assert_eq!(resources(&table, "crew", 0).get(b"handle"), None);
        first.confirm(Arc::new(ProvedBefore { at: 1_000, ..ProvedBefore::default() }));
        assert!(resources(&table, "crew", 1_000).get(b"handle").is_some());
        assert_eq!(resources(&table, "guests", 0).get(b"handle"), None);
        assert_eq!(resources(&table, "crew", 1_001).get(b"handle"), None);
        let other_method = resources(&table, "crew", 0);
        other_method.set_method(Kind::TTLS);
        assert_eq!(other_method.get(b"handle"), None);
        let last = resources(&table, "crew", 0);
        last.get(b"handle");
        last.revoke();
        assert!(table.is_empty());
    }

    #[test]
    fn the_table_is_bounded_and_tunnels_without_a_verdict_push_out_no_session() {
        let table = Arc::new(ResumptionTable::default());
        let put = |from: usize, to: usize, verdict: bool| {
            for number in from..to {
                let one = resources(&table, "crew", 0);
                one.put(number.to_be_bytes().to_vec(), Vec::new());
                if verdict {
                    let inner = vec!["eap-mschapv2".to_owned()];
                    one.confirm(Arc::new(ProvedBefore { at: 1_000, inner, ..ProvedBefore::default() }));
                }
            }
        };
        put(0, 100, true);
        put(100, 2 * MOST, false);
        assert!(resources(&table, "crew", 0).get(&7_usize.to_be_bytes()).is_some());
        assert!(table.lock().open.len() == MOST_OPEN && table.len() == 100);
        put(2 * MOST, 3 * MOST + 100, true);
        assert_eq!(table.len(), MOST);
    }
}
