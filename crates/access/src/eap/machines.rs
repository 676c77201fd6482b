use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, PoisonError};

use regnant_eap::Chain;
use regnant_policy::Mac;

/// Machines that proved themselves, by the MAC address that they did it from.
/// What this node saw, not what somebody configured.
#[derive(Debug, Default)]
pub struct Machines {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    seen: HashMap<Mac, SeenMachine>,
    /// In the order of their proofs; one that a later proof replaced counts no more.
    ages: VecDeque<(u64, Mac)>,
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
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let inner = &mut *inner;
        inner.ages.push_back((seen.at, seen.mac));
        inner.seen.insert(seen.mac, seen);
        let current = |known: &HashMap<Mac, SeenMachine>, (at, mac): &(u64, Mac)| {
            known.get(mac).is_some_and(|seen| seen.at == *at)
        };
        while inner.seen.len() > Self::MOST {
            let Some(oldest) = inner.ages.pop_front() else { break };
            if current(&inner.seen, &oldest) {
                inner.seen.remove(&oldest.1);
            }
        }
        if inner.ages.len() > 2 * inner.seen.len() + 1_024 {
            inner.ages.retain(|age| current(&inner.seen, age));
        }
    }

    /// The machine that proved itself from this address since `oldest`.
    pub(crate) fn recall(&self, mac: Mac, oldest: u64) -> Option<SeenMachine> {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.seen.get(&mac).filter(|seen| seen.at >= oldest).cloned()
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
        assert!(machines.inner.lock().unwrap().ages.len() < 2_000);
        for number in 3..=most {
            machines.remember(seen(number, 3 * most));
        }
        assert!(machines.recall(mac(1), 5).is_some(), "as many as there is room for");
        machines.remember(seen(0, 3 * most));
        assert_eq!(machines.recall(mac(1), 0), None);
        assert!(machines.recall(mac(2), 0).is_some(), "the oldest went");
        assert_eq!(machines.inner.lock().unwrap().seen.len(), Machines::MOST);
    }
}
