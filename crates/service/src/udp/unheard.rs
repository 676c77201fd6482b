use std::collections::HashMap;
use std::mem::{Discriminant, discriminant};
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_access::{Cause, UnheardRecord};
use ulid::Ulid;

/// Senders and causes that are listed at a time; more are only counted.
const MOST: usize = 1_024;
/// A sender that was quiet for this long begins a new entry.
const QUIET_MS: u64 = 10 * 60 * 1_000;

/// Packets that stayed unheard, one entry for each sender and cause, so that a
/// flood is one line of the journal.
#[derive(Debug, Default)]
pub(crate) struct Unheard {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    entries: HashMap<(IpAddr, Discriminant<Cause>), Listed>,
    unlisted: u64,
}

#[derive(Debug)]
struct Listed {
    record: UnheardRecord,
    written: u64,
}

impl Unheard {
    /// Notes a packet.
    pub(crate) fn note(
        &self,
        source: IpAddr,
        nas: Option<&str>,
        cause: Cause,
        now: u64,
        new_id: impl FnOnce() -> Ulid,
    ) {
        let mut inner = self.lock();
        let key = (source, discriminant(&cause));
        if let Some(listed) = inner.entries.get_mut(&key) {
            listed.record.count += 1;
            listed.record.last = now;
            listed.record.cause = cause;
        } else if inner.entries.len() < MOST {
            let record = UnheardRecord {
                id: new_id().to_string(),
                first: now,
                last: now,
                count: 1,
                source: source.to_canonical().to_string(),
                nas: nas.map(str::to_owned),
                cause,
            };
            inner.entries.insert(key, Listed { record, written: 0 });
        } else {
            inner.unlisted += 1;
        }
    }

    /// Gives every entry that changed to `write`, which says whether it was
    /// taken, and forgets those that have been quiet.
    pub(crate) fn flush(&self, now: u64, mut write: impl FnMut(&UnheardRecord) -> bool) {
        let mut inner = self.lock();
        inner.entries.retain(|_, listed| {
            if listed.record.count > listed.written && write(&listed.record) {
                listed.written = listed.record.count;
            }
            listed.record.count > listed.written || now.saturating_sub(listed.record.last) < QUIET_MS
        });
    }

    /// Packets of senders beyond those listed.
    pub(crate) fn unlisted(&self) -> u64 {
        self.lock().unlisted
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_one_entry_and_many_senders_are_bounded() {
        let unheard = Unheard::default();
        let sender = |n: u32| IpAddr::from(n.to_be_bytes());
        for n in 0..3_000 {
            unheard.note(sender(n), None, Cause::UnknownSender, 5, || Ulid::from_parts(5, n.into()));
            unheard.note(sender(1), None, Cause::UnknownSender, 6, Ulid::nil);
        }
        let mut written = Vec::new();
        unheard.flush(7, |record| {
            written.push(record.clone());
            true
        });
        assert_eq!(written.len(), MOST);
        assert_eq!(written.iter().find(|r| r.source == "0.0.0.1").unwrap().count, 3_001);
        assert_eq!(unheard.unlisted(), 3_000 - MOST as u64);
        unheard.flush(8, |_| panic!("nothing changed"));
        unheard.flush(5 + QUIET_MS, |_| true);
        assert_eq!(unheard.lock().entries.len(), 1);
    }
}
