use std::hash::{BuildHasher, Hash, Hasher, RandomState};
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_base::{BoundedMap, Mac};
use regnant_evidence::{Decision, Evidence, Report};
use ulid::Ulid;

/// Devices and names that are remembered, of all NASes.
const MOST: usize = 65_536;
/// Decisions that are remembered of each.
const MOST_EACH: usize = 4;
/// How much later than a session's begin its decision may seem to be, in milliseconds:
/// equipment counts seconds.
const SLACK: u64 = 5_000;

/// The last access that was given to each device and each name at each NAS. Reports that
/// repeat no Class of ours are matched with it.
pub(crate) struct Granted {
    /// By a keyed hash of whom: nobody can choose names that meet, and what is found is only
    /// inferred.
    last: Mutex<BoundedMap<u64, Last>>,
    keyed: RandomState,
}

/// Whom access was given to.
#[derive(Clone, Copy)]
enum Who<'w> {
    Device(Mac),
    User(&'w str),
}

/// The last decisions, the oldest first.
#[derive(Clone, Copy, Default)]
struct Last([Option<Grant>; MOST_EACH]);

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Grant {
    decision: Ulid,
    port: Option<u32>,
}

impl Granted {
    pub(crate) fn new() -> Self {
        Self { last: Mutex::new(BoundedMap::new(MOST)), keyed: RandomState::new() }
    }

    /// Notes what a decision gave, before anybody hears of it: the report may come at once.
    pub(crate) fn note(&self, decision: &Decision) {
        if decision.decided.ending.grants().is_none() {
            return;
        }
        let request = decision.exchange.request();
        let proved = decision.decided.known.user.proved().map(|proved| proved.account.name.as_str());
        let names = request.name.ok().into_iter().chain(proved.filter(|proved| request.name != Ok(proved)));
        self.put(&request.nas.name, names, request.mac, request.port, decision.id);
    }

    /// Notes what was given before a restart.
    pub(crate) fn restore(&self, evidence: &Evidence) {
        let names: Vec<_> = evidence.names().collect();
        let names = names.iter().map(String::as_str);
        self.put(&evidence.nas(), names, evidence.device(), evidence.port(), evidence.id);
    }

    fn put<'n>(
        &self,
        nas: &str,
        names: impl Iterator<Item = &'n str>,
        device: Option<Mac>,
        port: Option<u32>,
        decision: Ulid,
    ) {
        let grant = Grant { decision, port };
        // Whose name is the device's address is found by that.
        let names = names.filter(|name| device.is_none() || name.parse::<Mac>().is_err());
        for who in names.map(Who::User).chain(device.map(Who::Device)) {
            let key = self.key(nas, who);
            self.lock().touch(key, Last::default).put(grant);
        }
    }

    /// The decision that gave the access of which a NAS reports what happened then: the last
    /// one before the session began, for the same device or else name, at the same port where
    /// both say one.
    pub(crate) fn find(&self, nas: &str, report: &Report, happened: u64) -> Option<Ulid> {
        let about = &report.about;
        let began = happened.saturating_sub(u64::from(report.seconds.unwrap_or(0)) * 1_000);
        let fits = |grant: &&Grant| {
            let same_port = about.port.zip(grant.port).is_none_or(|(here, there)| here == there);
            same_port && grant.decision.timestamp_ms() <= began + SLACK
        };
        let of = |who| {
            let key = self.key(nas, who);
            self.lock().get(&key)?.0.iter().flatten().rev().find(fits).map(|grant| grant.decision)
        };
        let device = about.device.map(Who::Device).and_then(of);
        device.or_else(|| about.user.as_deref().map(Who::User).and_then(of))
    }

    /// Without regard to case.
    fn key(&self, nas: &str, who: Who<'_>) -> u64 {
        let mut hasher = self.keyed.build_hasher();
        let mut text = |text: &str| {
            text.chars().flat_map(char::to_lowercase).for_each(|c| c.hash(&mut hasher));
            u32::MAX.hash(&mut hasher);
        };
        text(nas);
        match who {
            Who::User(name) => text(name),
            Who::Device(mac) => mac.hash(&mut hasher),
        }
        hasher.finish()
    }

    fn lock(&self) -> MutexGuard<'_, BoundedMap<u64, Last>> {
        self.last.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Last {
    /// In the order of their time: what is restored may come after what is new.
    fn put(&mut self, grant: Grant) {
        // Of one decision, who is called by several names has one place.
        if self.0[0].is_none_or(|oldest| oldest < grant) && !self.0.contains(&Some(grant)) {
            self.0[0] = Some(grant);
            self.0.sort_unstable();
        }
    }
}

#[cfg(test)]
mod tests {
    use regnant_evidence::{ReportStatus, Whereabouts};

    use super::*;

    const DEVICE: Mac = Mac([2, 0, 0x5e, 0, 0, 7]);

    fn about(user: Option<&str>, device: Option<u8>, port: Option<u32>) -> Whereabouts {
        let device = device.map(|last| Mac([2, 0, 0x5e, 0, 0, last]));
        Whereabouts { user: user.map(str::to_owned), device, port }
    }

    fn report(about: Whereabouts, seconds: Option<u32>) -> Report {
        let status = ReportStatus::Interim;
        Report { status, about, session: None, delay: 0, seconds, sent: None, received: None, cause: None }
    }

    fn at(seconds: u64) -> Ulid {
        Ulid::from_parts(seconds * 1_000, 1)
    }

    #[test]
    fn a_report_finds_the_last_decision_before_its_session_began() {
        let granted = Granted::new();
        for seconds in [100, 300, 200] {
            granted.put("quay-sw-1", ["ida.marsh", "Ida.Marsh"].into_iter(), Some(DEVICE), Some(3), at(seconds));
        }
        let find = |about, lasted, seconds: u64| granted.find("Quay-SW-1", &report(about, lasted), seconds * 1_000);
        let device = || about(Some("anybody"), Some(7), Some(3));
        assert_eq!(find(device(), None, 301), Some(at(300)));
        assert_eq!(find(device(), None, 250), Some(at(200)), "what came later gave it not");
        assert_eq!(find(device(), Some(180), 400), Some(at(200)), "nor what came while it lasted");
        assert_eq!(find(device(), None, 50), None);
        assert_eq!(find(about(Some("IDA.marsh"), None, None), None, 301), Some(at(300)));
        assert_eq!(find(about(None, Some(7), Some(4)), None, 301), None, "another port");
        assert_eq!(find(about(None, Some(8), Some(3)), None, 301), None, "another device");
        assert_eq!(granted.find("yard-sw-1", &report(device(), None), 301_000), None, "another NAS");
    }

    #[test]
    fn what_is_remembered_is_bounded() {
        let granted = Granted::new();
        for number in 0..70_000 {
            for name in [&*number.to_string(), "ida.marsh"] {
                granted.put("quay-sw-1", std::iter::once(name), None, None, at(number));
            }
        }
        let (lock, key) = (granted.lock(), granted.key("quay-sw-1", Who::User("ida.marsh")));
        assert_eq!(lock.len(), MOST);
        let last = lock.get(&key).unwrap().0.map(|grant| grant.unwrap().decision);
        assert_eq!(last, [69_996, 69_997, 69_998, 69_999].map(at));
    }
}
