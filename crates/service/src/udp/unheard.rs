use std::collections::HashMap;
use std::mem::discriminant;
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_evidence::{Cause, UnheardRecord};
use regnant_radius::{HEADER_LEN, MAX_LEN};
use ulid::Ulid;

/// Senders that are listed at a time, of known equipment and of others each; more
/// are only counted. An address is easily forged: what nobody knows takes no place
/// of what somebody registered.
const MOST: usize = 1_024;
/// Causes of one kind that are told of one sender; more join the first.
const MOST_ALIKE: usize = 8;
/// A sender that was quiet for this long begins a new entry.
const QUIET_MS: u64 = 10 * 60 * 1_000;

/// Packets that stayed unheard, one entry for each sender and cause, so that a
/// flood is one line of the journal.
#[derive(Debug, Default)]
pub(crate) struct Unheard {
    table: Mutex<Table>,
}

#[derive(Debug, Default)]
struct Table {
    known: HashMap<IpAddr, Sender>,
    unknown: HashMap<IpAddr, Sender>,
    unlisted: u64,
}

#[derive(Debug, Default)]
struct Sender {
    listed: Vec<Listed>,
    /// Its newest packet, in memory only: a secret can be tried on it, and it says what the
    /// sender claims to be.
    newest: Option<Box<[u8]>>,
}

/// A sender that stayed unheard a moment ago.
#[derive(Clone, Debug)]
pub(crate) struct UnheardSender {
    /// Its address.
    pub(crate) source: IpAddr,
    /// What stayed unheard, by cause.
    pub(crate) records: Vec<UnheardRecord>,
    /// Its newest packet, where one came whole.
    pub(crate) newest: Option<Box<[u8]>>,
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
        (source, packet): (IpAddr, &[u8]),
        nas: Option<&str>,
        cause: Cause,
        now: u64,
        new_id: impl FnOnce() -> Ulid,
    ) {
        let mut table = self.lock();
        let table = &mut *table;
        let senders = if nas.is_some() { &mut table.known } else { &mut table.unknown };
        if senders.len() >= MOST && !senders.contains_key(&source) {
            table.unlisted += 1;
            return;
        }
        let sender = senders.entry(source).or_default();
        if (HEADER_LEN..=MAX_LEN).contains(&packet.len()) {
            sender.newest = Some(packet.into());
        }
        let of_sender = &mut sender.listed;
        let same = of_sender.iter().position(|listed| listed.record.cause == cause);
        let is_alike = |listed: &Listed| discriminant(&listed.record.cause) == discriminant(&cause);
        let full = || of_sender.iter().filter(|listed| is_alike(listed)).count() >= MOST_ALIKE;
        let place = same.or_else(|| if full() { of_sender.iter().position(is_alike) } else { None });
        match place {
            Some(place) => {
                let record = &mut of_sender[place].record;
                record.count += 1;
                record.last = now;
            }
            None => {
                let record = UnheardRecord {
                    id: new_id().to_string(),
                    first: now,
                    last: now,
                    count: 1,
                    source: source.to_canonical().to_string(),
                    nas: nas.map(str::to_owned),
                    cause,
                };
                of_sender.push(Listed { record, written: 0 });
            }
        }
    }

    /// Gives every entry that changed to `write`, which says whether it was
    /// taken, and forgets those that have been quiet.
    pub(crate) fn flush(&self, now: u64, mut write: impl FnMut(&UnheardRecord) -> bool) {
        let mut table = self.lock();
        let table = &mut *table;
        let mut keep = |listed: &mut Listed| {
            if listed.record.count > listed.written && write(&listed.record) {
                listed.written = listed.record.count;
            }
            listed.record.count > listed.written || now.saturating_sub(listed.record.last) < QUIET_MS
        };
        for senders in [&mut table.known, &mut table.unknown] {
            senders.retain(|_, sender| {
                sender.listed.retain_mut(&mut keep);
                !sender.listed.is_empty()
            });
        }
    }

    /// Who stayed unheard a moment ago, known equipment first, then by the last packet.
    pub(crate) fn senders(&self) -> Vec<UnheardSender> {
        let table = self.lock();
        let all = table.known.iter().chain(&table.unknown).map(|(source, sender)| UnheardSender {
            source: *source,
            records: sender.listed.iter().map(|listed| listed.record.clone()).collect(),
            newest: sender.newest.clone(),
        });
        let mut all: Vec<_> = all.collect();
        let last = |sender: &UnheardSender| sender.records.iter().map(|record| record.last).max();
        all.sort_by_key(|sender| {
            (sender.records.iter().all(|record| record.nas.is_none()), std::cmp::Reverse(last(sender)), sender.source)
        });
        all
    }

    /// The newest packet of a sender.
    pub(crate) fn newest(&self, source: IpAddr) -> Option<Box<[u8]>> {
        let table = self.lock();
        table.known.get(&source).or_else(|| table.unknown.get(&source))?.newest.clone()
    }

    /// Packets of senders beyond those listed.
    pub(crate) fn unlisted(&self) -> u64 {
        self.lock().unlisted
    }

    fn lock(&self) -> MutexGuard<'_, Table> {
        self.table.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sender(n: u32) -> IpAddr {
        IpAddr::from(n.to_be_bytes())
    }

    fn written(unheard: &Unheard, now: u64) -> Vec<UnheardRecord> {
        let mut written = Vec::new();
        unheard.flush(now, |record| {
            written.push(record.clone());
            true
        });
        written
    }

    #[test]
    fn a_flood_is_one_entry_and_many_senders_are_bounded() {
        let unheard = Unheard::default();
        for n in 0..3_000 {
            unheard.note((sender(n), &[]), None, Cause::UnknownSender, 5, || Ulid::from_parts(5, n.into()));
            unheard.note((sender(1), &[]), None, Cause::UnknownSender, 6, Ulid::nil);
        }
        let all = written(&unheard, 7);
        assert_eq!(all.len(), MOST);
        assert_eq!(all.iter().find(|r| r.source == "0.0.0.1").unwrap().count, 3_001);
        assert_eq!(unheard.unlisted(), 3_000 - MOST as u64);
        unheard.flush(8, |_| panic!("nothing changed"));
        unheard.flush(5 + QUIET_MS, |_| true);
        assert_eq!(unheard.lock().unknown.len(), 1);
    }

    #[test]
    fn the_newest_packet_of_a_sender_is_known_and_no_more_of_it() {
        let unheard = Unheard::default();
        let note = |n, packet: &[u8], nas| {
            unheard.note((sender(n), packet), nas, Cause::TooManyConversations, 5 + u64::from(n), Ulid::nil);
        };
        note(1, &[1; 20], None);
        note(1, &[2; 30], None);
        note(1, &[3; 19], None);
        note(2, &[4; 5_000], Some("quay-sw-1"));
        note(3, &[5; 40], None);
        assert_eq!(unheard.newest(sender(1)).as_deref(), Some(&[2; 30][..]));
        assert_eq!((unheard.newest(sender(2)), unheard.newest(sender(9))), (None, None));
        let order: Vec<_> = unheard.senders().into_iter().map(|one| one.source).collect();
        assert_eq!(order, [2, 3, 1].map(sender), "known equipment first, then the newest");
    }

    #[test]
    fn forged_senders_hide_no_known_equipment() {
        let unheard = Unheard::default();
        for n in 0..3_000 {
            unheard.note((sender(n), &[]), None, Cause::UnknownSender, 5, Ulid::nil);
        }
        unheard.note((sender(9_999), &[]), Some("quay-sw-1"), Cause::TooManyConversations, 6, Ulid::nil);
        let all = written(&unheard, 7);
        assert!(all.iter().any(|record| record.cause == Cause::TooManyConversations && record.nas.is_some()));
    }

    #[test]
    fn different_causes_are_different_lines_and_not_without_end() {
        let unheard = Unheard::default();
        for n in 0..100 {
            let cause = Cause::Malformed(format!("the packet states a length of {n} bytes"));
            unheard.note((sender(1), &[]), Some("quay-sw-1"), cause, 5, Ulid::nil);
        }
        unheard.note((sender(1), &[]), Some("quay-sw-1"), Cause::TooManyConversations, 5, Ulid::nil);
        let all = written(&unheard, 7);
        assert_eq!((all.len(), all.iter().map(|record| record.count).sum::<u64>()), (MOST_ALIKE + 1, 101));
        assert_eq!(all.last().unwrap().cause, Cause::TooManyConversations);
        assert_eq!(all[1].cause, Cause::Malformed("the packet states a length of 1 bytes".into()));
    }
}
