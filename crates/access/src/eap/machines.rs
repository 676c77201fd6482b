use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, PoisonError};

use regnant_eap::Chain;
use regnant_policy::Mac;

/// Machines remembered at a time; the oldest go first.
const MOST: usize = 100_000;

/// Machines that proved themselves, by the MAC address that they did it from.
/// What this node saw, not what somebody configured.
#[derive(Debug, Default)]
pub struct Machines {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    seen: HashMap<Mac, Seen>,
    ages: VecDeque<(u64, Mac)>,
}

/// A machine that proved itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Seen {
    /// The name that was looked up.
    pub(crate) name: String,
    pub(crate) proof: String,
    /// Milliseconds since 1970.
    pub(crate) at: u64,
    pub(crate) password_mark: u64,
    /// The certificate's chain, where one proved it.
    pub(crate) chain: Chain,
}

impl Machines {
    pub(crate) fn remember(&self, mac: Mac, seen: Seen) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        while inner.ages.len() >= MOST {
            let Some((at, mac)) = inner.ages.pop_front() else { break };
            if inner.seen.get(&mac).is_some_and(|seen| seen.at == at) {
                inner.seen.remove(&mac);
            }
        }
        inner.ages.push_back((seen.at, mac));
        inner.seen.insert(mac, seen);
    }

    /// The machine that proved itself from this address since `oldest`.
    pub(crate) fn recall(&self, mac: Mac, oldest: u64) -> Option<Seen> {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.seen.get(&mac).filter(|seen| seen.at >= oldest).cloned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_is_remembered_by_address_and_for_a_time_and_the_table_is_bounded() {
        let machines = Machines::default();
        let mac = |number: u64| Mac(number.to_be_bytes()[2..].try_into().unwrap());
        let seen = |at| Seen {
            name: "quay-laptop-7".into(),
            proof: "eap-tls".into(),
            at,
            password_mark: 0,
            chain: Chain::default(),
        };
        machines.remember(mac(1), seen(5));
        assert_eq!(machines.recall(mac(1), 5), Some(seen(5)));
        assert_eq!(machines.recall(mac(1), 6), None);
        assert_eq!(machines.recall(mac(2), 0), None);
        for number in 10..MOST as u64 + 10 {
            machines.remember(mac(number), seen(7));
        }
        assert_eq!(machines.recall(mac(1), 0), None);
        assert!(machines.inner.lock().unwrap().seen.len() <= MOST);
    }
}
