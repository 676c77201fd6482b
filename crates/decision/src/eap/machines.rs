use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_base::{BoundedMap, Mac};
use regnant_eap::Chain;
use regnant_policy::Gate;

/// Machines that proved themselves, by the MAC address that they did it from.
/// What this node saw, not what somebody configured.
#[derive(Debug)]
pub struct Machines {
    seen: Mutex<BoundedMap<Mac, SeenMachine>>,
}

impl Default for Machines {
    fn default() -> Self {
        Self { seen: Mutex::new(BoundedMap::new(Self::MOST)) }
    }
}

/// A machine that proved itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SeenMachine {
    /// Where from.
    pub mac: Mac,
    /// The name that was looked up.
    pub name: String,
    /// How it proved itself.
    pub proof: String,
    /// When; milliseconds since 1970.
    pub at: u64,
    /// The mark of its password then: another one ends what is remembered.
    pub password_mark: u64,
    /// The certificate's chain, where one proved it.
    pub chain: Chain,
    /// The store that has it.
    pub store: String,
    /// Whether tunnel and inner method were proved to belong together.
    pub bound: bool,
    /// The trust by which its certificate was taken.
    pub trust: Option<String>,
}

impl SeenMachine {
    /// Whether a gate would take such a proof now: where it accepts certificates alone, a password that was right
    /// elsewhere proves nothing.
    pub(crate) fn is_taken_by(&self, gate: &Gate) -> bool {
        let mut words = self.proof.split(", ");
        let (method, inner) = (words.next().unwrap_or_default(), words.next());
        let trusts = || gate.trust.as_ref().map(|trust| &trust.name) == self.trust.as_ref();
        gate.accepts_proof(method, inner.into_iter(), self.bound) && (self.chain.is_empty() || trusts())
    }
}

impl Machines {
    /// Machines remembered at a time; the oldest go first.
    pub const MOST: usize = 100_000;

    /// What was remembered before, the oldest first.
    pub fn restored(seen: impl IntoIterator<Item = SeenMachine>) -> Self {
        let machines = Self::default();
        seen.into_iter().for_each(|seen| machines.remember(seen));
        machines
    }

    pub(crate) fn remember(&self, seen: SeenMachine) {
        self.lock().insert(seen.mac, seen);
    }

    /// The machine that proved itself from this address since `oldest`.
    pub(crate) fn recall(&self, mac: Mac, oldest: u64) -> Option<SeenMachine> {
        self.lock().get(&mac).filter(|seen| seen.at >= oldest).cloned()
    }

    fn lock(&self) -> MutexGuard<'_, BoundedMap<Mac, SeenMachine>> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mac(number: u64) -> Mac {
        Mac(number.to_be_bytes()[2..].try_into().unwrap())
    }

    fn seen(number: u64, at: u64) -> SeenMachine {
        SeenMachine {
            mac: mac(number),
            name: "quay-laptop-7".into(),
            proof: "eap-tls".into(),
            at,
            password_mark: 0,
            chain: Chain::default(),
            store: "harbour".into(),
            bound: false,
            trust: None,
        }
    }

    #[test]
    fn a_machine_is_remembered_by_address_and_for_a_time() {
        let machines = Machines::restored([seen(1, 5)]);
        assert_eq!(machines.recall(mac(1), 5), Some(seen(1, 5)));
        assert_eq!(machines.recall(mac(1), 6), None);
        assert_eq!(machines.recall(mac(2), 0), None);
    }

    #[test]
    fn the_table_is_bounded_by_machines_and_not_by_how_often_they_come() {
        let machines = Machines::default();
        let most = Machines::MOST as u64;
        machines.remember(seen(1, 5));
        for at in 10..3 * most {
            machines.remember(seen(2, at));
        }
        assert!(machines.recall(mac(1), 5).is_some(), "one busy machine drives nobody out");
        for number in 3..=most {
            machines.remember(seen(number, 3 * most));
        }
        assert!(machines.recall(mac(1), 5).is_some(), "as many as there is room for");
        machines.remember(seen(0, 3 * most));
        assert_eq!(machines.recall(mac(1), 0), None);
        assert!(machines.recall(mac(2), 0).is_some(), "the oldest went");
        assert_eq!(machines.lock().len(), Machines::MOST);
    }
}
