//! Accounting as the service and its readers meet it.
use std::fs;
use std::path::Path;
use std::sync::LazyLock;
use std::sync::mpsc::channel;
use std::time::Duration;

use jiff::Timestamp;
use proptest::prelude::*;
use regnant_decision::{EntryKind, FactTable};
use regnant_evidence::{
    AccountingRecord, FoundDecision, KeptExchange, Protocol, ProtocolReader, Protocols, Report, ReportStatus,
    Whereabouts,
};
use regnant_journal::*;
use ulid::Ulid;

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
    let about = Whereabouts { user: Some("ida.marsh".into()), ..Whereabouts::default() };
    AccountingRecord {
        id: Ulid::from_parts(now(), number.into()),
        nas: "quay-sw-1".into(),
        source: "127.0.0.11:1".parse().unwrap(),
        decision: decision.map(|id| FoundDecision::ByClass(id.to_bytes())),
        report: Report {
            status: ReportStatus::Start,
            about,
            session: Some(session.into()),
            delay: 0,
            seconds: None,
            sent: None,
            received: None,
            cause: None,
        },
        exchange: KeptExchange { protocol: Protocol(250), request: session.into(), reply: None },
    }
}

/// What its event is known again by.
fn event(record: &AccountingRecord) -> EventKey {
    let mut event = [0; 16];
    event.iter_mut().zip(&record.exchange.request).for_each(|(into, from)| *into = *from);
    event
}

/// Hands reports in, and gives how many were acknowledged within a moment.
fn report(books: &Books, records: &[AccountingRecord]) -> usize {
    let (told, heard) = channel();
    let handle = books.accounting.handle().unwrap();
    for record in records {
        let told = told.clone();
        handle.slot("quay-sw-1").unwrap().report(record.clone(), event(record), move || told.send(()).unwrap());
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

/// No protocol is known.
struct NoProtocol;

impl Protocols for NoProtocol {
    fn table(&self) -> &FactTable {
        static TABLE: LazyLock<FactTable> = LazyLock::new(|| FactTable::new(Vec::new(), []));
        &TABLE
    }

    fn reader(&self, _: Protocol) -> Option<&dyn ProtocolReader> {
        None
    }
}

/// The bytes of a report as the first form keeps it.
const FORM_1: &str = "0209717561792d73772d31007f00000b01010000000000000000000000000000000007000109\
                      6964612e6d61727368000001036f6e650000000000fa036f6e6500";

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
    fn whatever_was_stored_is_read_or_refused_and_told(
        mut bytes in prop::collection::vec(any::<u8>(), 0..300),
        request in prop::collection::vec(any::<u8>(), 0..60),
        words in "\\PC{0,20}",
        numbers in any::<[Option<u32>; 4]>(),
    ) {
        if let Some(first) = bytes.first_mut() {
            *first = 2;
        }
        let tell = |record: &AccountingRecord| {
            record.sentence();
            record.reason();
            record.stations(&NoProtocol, Some("yard-sw-1"));
        };
        if let Ok(record) = AccountingRecord::from_bytes(Ulid::nil(), &bytes) {
            tell(&record);
        }
        let mut odd = AccountingRecord { id: Ulid::nil(), ..record(1, &words, None) };
        let [delay, seconds, sent, cause] = numbers;
        let status = ReportStatus::Other(words);
        odd.report = Report { status, delay: delay.unwrap_or(0), seconds, sent: sent.map(u64::from), cause, ..odd.report };
        odd.exchange.request = request;
        tell(&odd);
        prop_assert_eq!(AccountingRecord::from_bytes(Ulid::nil(), &odd.to_bytes()), Ok(odd));
    }
}
