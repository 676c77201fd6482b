//! The journal as the service and its readers meet it.
use std::fs;
use std::path::Path;

use proptest::prelude::*;
use regnant_decision::EntryKind;
use regnant_evidence::{Cause, Evidence, UnheardRecord, Unreadable};
use regnant_journal::*;
use ulid::Ulid;

fn open(dir: &Path, most: usize) -> Journal {
    let keep = Keep { days: 10_000, ..Keep::default() };
    Journal::open(&dir.join("journal"), NodeFile::open(&dir.join("node.sqlite")).unwrap(), keep, most).unwrap()
}

fn reader(dir: &Path) -> JournalReader {
    JournalReader::open(&dir.join("journal"), &dir.join("accounting")).unwrap()
}

fn all(dir: &Path) -> Vec<Entry> {
    reader(dir).entries(&EntryFilter { limit: 10, ..EntryFilter::default() }).unwrap()
}

fn files(dir: &Path) -> Vec<String> {
    let entries = fs::read_dir(dir.join("journal")).unwrap();
    let names = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<_> = names.filter(|name| !name.ends_with("-wal") && !name.ends_with("-shm")).collect();
    names.sort();
    names
}

fn unheard(id: Ulid, count: u64) -> UnheardRecord {
    UnheardRecord {
        id: id.to_string(),
        first: 1,
        last: count,
        count,
        source: "127.0.0.99".into(),
        nas: None,
        cause: Cause::UnknownSender,
    }
}

#[test]
fn the_journal_keeps_what_was_handed_in_and_repeats_update_their_entry() {
    let dir = tempfile::tempdir().unwrap();
    let journal = open(dir.path(), 8);
    let handle = journal.handle().unwrap();
    let first = Ulid::from_parts(1, 1);
    for (id, count) in [(first, 1), (first, 5), (Ulid::from_parts(2, 1), 1)] {
        handle.slot("quay-sw-1").unwrap().unheard(unheard(id, count));
    }
    drop(handle);
    journal.close();
    let reader = reader(dir.path());
    let all = reader.entries(&EntryFilter { limit: 10, ..EntryFilter::default() }).unwrap();
    assert_eq!(all, [Entry::Unheard(unheard(Ulid::from_parts(2, 1), 1)), Entry::Unheard(unheard(first, 5))]);
    let find = |text: &str| {
        let filter = EntryFilter { text: Some(text.into()), limit: 10, ..EntryFilter::default() };
        reader.entries(&filter).unwrap().len()
    };
    assert_eq!((find("127.0.0.99 UNHEARD"), find("5 packets"), find("crane")), (2, 1, 0));
    let older = EntryFilter { before: Some(Ulid::from_parts(2, 1).to_string()), limit: 10, ..EntryFilter::default() };
    assert_eq!(reader.entries(&older).unwrap().len(), 1);
    assert!(reader.entry(&first.to_string()).unwrap().is_some());
    assert!(reader.entry("nonsense").unwrap().is_none());
}

#[test]
fn a_share_that_is_taken_gives_no_slot_and_a_slot_that_is_dropped_is_free_again() {
    let dir = tempfile::tempdir().unwrap();
    let journal = open(dir.path(), 4);
    let handle = journal.handle().unwrap();
    let slot = || handle.slot("quay-sw-1");
    let held = (slot().unwrap(), slot().unwrap(), slot().unwrap());
    assert!(slot().is_none());
    assert!(handle.slot("yard-sw-1").is_some());
    drop(held);
    assert!(slot().is_some());
}

fn write(dir: &Path, ids: &[Ulid]) {
    let journal = open(dir, 1_000);
    let handle = journal.handle().unwrap();
    ids.iter().for_each(|id| handle.slot("x").unwrap().unheard(unheard(*id, 1)));
    drop(handle);
    assert_eq!(journal.close(), 0);
}

#[test]
fn files_of_several_days_read_as_one_journal() {
    let dir = tempfile::tempdir().unwrap();
    let id = |number: u64| Ulid::from_parts(1_700_000_000_000 + number, number.into());
    for day in 1..=3 {
        write(dir.path(), &[id(2 * day), id(2 * day + 1), id(9)]);
        let written = files(dir.path()).pop().unwrap();
        fs::rename(
            dir.path().join("journal").join(&written),
            dir.path().join(format!("journal/00000{day}.2026-01-0{day}.sqlite")),
        )
        .unwrap();
    }
    let reader = reader(dir.path());
    let ids = |entries: Vec<Entry>| -> Vec<Ulid> {
        entries
            .into_iter()
            .map(|entry| match entry {
                Entry::Unheard(record) => Ulid::from_string(&record.id).unwrap(),
                other => panic!("{other:?}"),
            })
            .collect()
    };
    let list = |before: Option<Ulid>, limit| {
        let before = before.map(|id| id.to_string());
        ids(reader.entries(&EntryFilter { before, limit, ..EntryFilter::default() }).unwrap())
    };
    // What stayed unheard for days is one entry.
    assert_eq!(list(None, 10), [9, 7, 6, 5, 4, 3, 2].map(id));
    assert_eq!(list(None, 2), [9, 7].map(id));
    assert_eq!(list(Some(id(6)), 3), [5, 4, 3].map(id));
    assert!(reader.entry(&id(2).to_string()).unwrap().is_some());
    // A damaged file costs its own entries.
    fs::write(dir.path().join("journal/000002.2026-01-02.sqlite"), "no database any more ".repeat(500)).unwrap();
    assert_eq!(list(None, 10), [9, 7, 6, 3, 2].map(id));
}

#[test]
fn entries_of_a_clock_that_jumped_stay_where_they_were_written() {
    let dir = tempfile::tempdir().unwrap();
    let folder = dir.path().join("journal");
    // Before the clock was ahead, while it was, and after.
    const DAY: u64 = 86_400_000;
    let id = |number: u64, at: u64| Ulid::from_parts(1_796_100_000_000 + at + number, number.into());
    let parts = [[1, 2].map(|n| id(n, 0)), [3, 4].map(|n| id(n, 100 * DAY)), [5, 6].map(|n| id(n, 60_000))];
    for (number, (ids, day)) in parts.iter().zip(["2026-12-01", "2027-03-11", "2026-12-01"]).enumerate() {
        write(dir.path(), ids);
        let written = folder.join(files(dir.path()).pop().unwrap());
        fs::rename(written, folder.join(format!("{:06}.{day}.sqlite", number + 1))).unwrap();
    }
    let list = |before: Option<Ulid>, limit| -> Vec<u128> {
        let before = before.map(|id| id.to_string());
        let found = reader(dir.path()).entries(&EntryFilter { before, limit, ..EntryFilter::default() }).unwrap();
        let ids = found.iter().map(|entry| match entry {
            Entry::Unheard(record) => Ulid::from_string(&record.id).unwrap().random(),
            other => panic!("{other:?}"),
        });
        ids.collect()
    };
    assert_eq!(list(None, 10), [6, 5, 4, 3, 2, 1]);
    for (at, ids) in [(0, [1, 2]), (100 * DAY, [3, 4]), (60_000, [5, 6])] {
        for number in ids {
            let rest: Vec<u128> = (1..u128::from(number)).rev().collect();
            assert_eq!(list(Some(id(number, at)), 10), rest, "after {number}");
            assert_eq!(list(Some(id(number, at)), 1), rest[..rest.len().min(1)], "after {number}");
        }
    }
}

#[test]
fn a_file_that_is_of_no_use_is_set_aside_and_the_journal_goes_on() {
    let dir = tempfile::tempdir().unwrap();
    write(dir.path(), &[Ulid::from_parts(1, 1)]);
    let written = files(dir.path()).pop().unwrap();
    let path = dir.path().join("journal").join(&written);
    // By a newer release, then damaged.
    rusqlite::Connection::open(&path).unwrap().execute_batch("PRAGMA user_version = 9").unwrap();
    write(dir.path(), &[Ulid::from_parts(2, 1)]);
    let second = files(dir.path()).into_iter().find(|name| name.starts_with("000002.")).unwrap();
    fs::write(dir.path().join("journal").join(second), "no database any more ".repeat(500)).unwrap();
    write(dir.path(), &[Ulid::from_parts(3, 1)]);
    assert_eq!(files(dir.path()).iter().filter(|name| name.contains(".set-aside-")).count(), 2);
    assert_eq!(all(dir.path()).len(), 1);
}

#[test]
fn an_entry_that_cannot_be_read_is_one_entry() {
    let dir = tempfile::tempdir().unwrap();
    write(dir.path(), &[Ulid::from_parts(1, 1), Ulid::from_parts(2, 1), Ulid::from_parts(3, 1)]);
    let path = dir.path().join("journal").join(files(dir.path()).pop().unwrap());
    let file = rusqlite::Connection::open(path).unwrap();
    let damage = "UPDATE entry SET evidence = ?2, outcome = 1 WHERE id = ?1";
    file.execute(damage, (Ulid::from_parts(2, 1).to_bytes(), &[2u8, 2, 3][..])).unwrap();
    file.execute(damage, (Ulid::from_parts(3, 1).to_bytes(), &[200u8][..])).unwrap();
    let told: Vec<_> = all(dir.path())
        .into_iter()
        .map(|entry| match entry {
            Entry::Unreadable { why, .. } => Some(why),
            _ => None,
        })
        .collect();
    assert_eq!(told, [Some(Unreadable::Version(200)), Some(Unreadable::Damaged), None]);
}

proptest! {
    #[test]
    fn no_stored_bytes_make_a_reader_panic(mut bytes in prop::collection::vec(any::<u8>(), 0..200), versioned in any::<bool>()) {
        if let (true, Some(first)) = (versioned, bytes.first_mut()) {
            *first = 2;
        }
        let _ = Evidence::from_bytes(Ulid::nil(), &bytes);
        let _ = UnheardRecord::from_bytes(Ulid::nil(), &bytes);
    }
}

/// The harbour's story, as the first form of files keeps it.
const FORM_1: &[u8] = include_bytes!("stored/form-1.sqlite");

#[test]
fn a_file_of_the_first_form_is_read() {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir(dir.path().join("journal")).unwrap();
    fs::write(dir.path().join("journal/000001.2026-11-25.sqlite"), FORM_1).unwrap();
    let reader = reader(dir.path());
    let of_kinds = |kinds: &[EntryKind]| {
        let filter = EntryFilter { kinds: kinds.into(), limit: 100, ..EntryFilter::default() };
        reader.entries(&filter).unwrap()
    };
    let decisions = of_kinds(&[]).iter().filter(|entry| matches!(entry, Entry::Decision(_))).count();
    let unheard = of_kinds(&[]).iter().filter(|entry| matches!(entry, Entry::Unheard(_))).count();
    assert_eq!((of_kinds(&[]).len(), decisions, unheard), (77, 75, 2));
    let counts = reader.counts(0, i64::MAX).unwrap();
    for (kind, expected) in [(EntryKind::Granted, 52), (EntryKind::Refused, 9), (EntryKind::Told, 14)] {
        let counted = counts.iter().filter(|count| count.kind == kind).map(|count| count.number).sum::<u64>();
        assert_eq!((of_kinds(&[kind]).len(), counted), (expected, expected as u64), "{kind:?}");
    }
    let newest = reader.newest(NewestKind::Device, "02:00:5e:40:00:66").unwrap().unwrap();
    assert!(matches!(reader.entry(&newest.to_string()).unwrap(), Some(Entry::Decision(_))));
}
