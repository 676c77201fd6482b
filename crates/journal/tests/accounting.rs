//! Accounting as the service and its readers meet it.
use std::fs;
use std::path::Path;
use std::sync::LazyLock;
use std::sync::mpsc::channel;
use std::time::Duration;

use jiff::Timestamp;
use proptest::prelude::*;
use regnant_decision::EntryKind;
use regnant_evidence::{AccountingRecord, FoundDecision};
use regnant_journal::*;
use regnant_radius::Dictionary;
use ulid::Ulid;

static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);

struct Books {
    journal: Journal,
    accounting: AccountingLog,
}

fn open(dir: &Path, keep: Keep) -> Books {
    let node = NodeFile::open(&dir.join("node.sqlite")).unwrap();
    let journal = Journal::open(&dir.join("journal"), node, keep, 1_000).unwrap();
    let accounting = AccountingLog::open(&dir.join("accounting"), keep, 1_000, &journal).unwrap();
    Books { journal, accounting }
}

fn reader(dir: &Path) -> JournalReader {
    JournalReader::open(&dir.join("journal"), &dir.join("accounting")).unwrap()
}

fn now() -> u64 {
    Timestamp::now().as_millisecond() as u64
}

fn record(number: u64, session: &str, decision: Option<Ulid>) -> AccountingRecord {
    let attributes =
        DICTIONARY.encode([("Acct-Status-Type", "Start"), ("Acct-Session-Id", session), ("User-Name", "ida.marsh")]);
    AccountingRecord {
        id: Ulid::from_parts(now(), number.into()),
        nas: "quay-sw-1".into(),
        source: "127.0.0.11:1".parse().unwrap(),
        decision: decision.map(|id| FoundDecision::ByClass(id.to_bytes())),
        attributes: attributes.unwrap(),
    }
}

/// Hands reports in, and gives how many were acknowledged within a moment.
fn report(books: &Books, records: &[AccountingRecord]) -> usize {
    let (told, heard) = channel();
    let handle = books.accounting.handle().unwrap();
    for record in records {
        let told = told.clone();
        handle.slot("quay-sw-1").unwrap().report(record.clone(), move || told.send(()).unwrap());
    }
    drop((told, handle));
    let mut acknowledged = 0;
    while heard.recv_timeout(Duration::from_millis(500)).is_ok() {
        acknowledged += 1;
    }
    acknowledged
}

fn close(books: Books) {
    assert_eq!((books.accounting.close(), books.journal.close()), (0, 0));
}

#[test]
fn a_report_is_acknowledged_once_it_can_be_read_and_an_event_is_kept_once() {
    let dir = tempfile::tempdir().unwrap();
    let books = open(dir.path(), Keep::default());
    let decision = Ulid::from_parts(now() - 5, 77);
    let mut listening = books.journal.listen();
    let all = [record(1, "one", Some(decision)), record(2, "two", None), record(3, "one", Some(decision))];
    assert_eq!(report(&books, &all), 3, "what is sent again is acknowledged too");
    let list = |kinds: &[EntryKind]| {
        let filter = EntryFilter { kinds: kinds.into(), limit: 10, ..EntryFilter::default() };
        reader(dir.path()).entries(&filter).unwrap()
    };
    let kept = |record: &AccountingRecord| Entry::Accounting(Box::new(record.clone()));
    assert_eq!(list(&[]), [kept(&all[1]), kept(&all[0])]);
    assert_eq!(list(&[EntryKind::Granted, EntryKind::Accounting]).len(), 2);
    assert_eq!(list(&[EntryKind::Granted, EntryKind::Unheard]), []);
    assert_eq!(reader(dir.path()).reports(decision).unwrap(), [kept(&all[0])]);
    assert_eq!(reader(dir.path()).entry(&all[1].id.to_string()).unwrap(), Some(kept(&all[1])));
    let heard: Vec<_> = std::iter::from_fn(|| listening.try_recv().ok()).map(|entry| (*entry).clone()).collect();
    assert_eq!(heard, [kept(&all[0]), kept(&all[1])]);
    close(books);

    // Nor is it kept again after a restart.
    let books = open(dir.path(), Keep::default());
    assert_eq!(report(&books, &[record(4, "two", None), record(5, "three", None)]), 2);
    assert_eq!(list(&[]).len(), 3);
    close(books);
}

#[test]
fn what_is_too_much_goes_a_whole_file_at_a_time_and_takes_nothing_of_the_journal() {
    let dir = tempfile::tempdir().unwrap();
    let little = Keep { at_most: 100_000, ..Keep::default() };
    let books = open(dir.path(), Keep::default());
    assert_eq!(report(&books, &[record(1, "one", None)]), 1);
    close(books);
    let folder = dir.path().join("accounting");
    let written = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).max().unwrap();
    for day in 1..=3 {
        fs::copy(&written, folder.join(format!("00000{day}.2026-01-0{day}.sqlite"))).unwrap();
    }
    let of_journal = || {
        let files = fs::read_dir(dir.path().join("journal")).unwrap().map(|entry| entry.unwrap().path());
        files.filter(|path| path.extension().is_some_and(|extension| extension == "sqlite")).count()
    };
    let before = of_journal();
    let books = open(dir.path(), little);
    assert!(books.accounting.deleted() > 0 && books.accounting.size().1 <= 100_000);
    assert_eq!(of_journal(), before);
    close(books);
}

#[test]
fn a_file_that_is_of_no_use_is_set_aside_and_reports_go_on() {
    let dir = tempfile::tempdir().unwrap();
    let books = open(dir.path(), Keep::default());
    assert_eq!(report(&books, &[record(1, "one", None)]), 1);
    close(books);
    let folder = dir.path().join("accounting");
    let files = || fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let written = files().find(|name| name.ends_with(".sqlite")).unwrap();
    fs::write(folder.join(&written), "no database any more ".repeat(500)).unwrap();
    let books = open(dir.path(), Keep::default());
    assert_eq!(report(&books, &[record(2, "one", None)]), 1);
    close(books);
    assert_eq!(files().filter(|name| name.contains(".set-aside-")).count(), 1);
    assert_eq!(reader(dir.path()).entries(&EntryFilter { limit: 10, ..EntryFilter::default() }).unwrap().len(), 1);
}

/// The bytes of a report as the first form keeps it.
const FORM_1: &str = "0109717561792d73772d31007f00000b010100000000000000000000000000000000071628\
                      06000000012c056f6e65010b6964612e6d61727368";

#[test]
fn a_report_of_the_first_form_is_read() {
    let record = AccountingRecord { id: Ulid::nil(), ..record(1, "one", Some(Ulid(7))) };
    let byte = |at: usize| u8::from_str_radix(&FORM_1[at..at + 2], 16).unwrap();
    let bytes: Vec<u8> = (0..FORM_1.len()).step_by(2).map(byte).collect();
    assert_eq!(record.to_bytes(), bytes);
    assert_eq!(AccountingRecord::from_bytes(Ulid::nil(), &bytes), Ok(record));
}

proptest! {
    #[test]
    fn whatever_was_stored_is_read_or_refused_and_told(mut bytes in prop::collection::vec(any::<u8>(), 0..300), attributes in prop::collection::vec((1..=u8::MAX, prop::collection::vec(any::<u8>(), 0..20)), 0..12)) {
        if let Some(first) = bytes.first_mut() {
            *first = 1;
        }
        let tell = |record: &AccountingRecord| {
            record.sentence();
            record.reason();
            record.stations(&DICTIONARY, Some("yard-sw-1"));
        };
        if let Ok(record) = AccountingRecord::from_bytes(Ulid::nil(), &bytes) {
            tell(&record);
        }
        let encoded = attributes.iter().flat_map(|(number, value)| [&[*number, value.len() as u8 + 2], &value[..]].concat());
        let odd = AccountingRecord { id: Ulid::nil(), attributes: encoded.collect(), ..record(1, "one", None) };
        tell(&odd);
        prop_assert_eq!(AccountingRecord::from_bytes(Ulid::nil(), &odd.to_bytes()), Ok(odd));
    }
}
