//! What this node observed: decisions, packets that stayed unheard, what equipment reports of
//! the access that it gives, and machines that are remembered.
//!
//! Entries are written in group commits, into a file for each day: those of the journal on
//! one thread, accounting on another and into files of its own, so that neither drives the
//! other out. This crate opens SQLite files in one folder; it knows no socket and no HTTP, and
//! makes no sentence for people but the one that is searched. Read [`Journal`] first,
//! then [`JournalReader`].

mod accounting;
mod believed;
mod counts;
mod database;
mod decisions;
mod error;
mod files;
mod folder;
mod heard;
mod intake;
mod node;
mod reader;
mod recent;
mod reports_file;
mod segment;
mod state;
mod writer;

use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;

use regnant_evidence::{AccountingRecord, Decision, Evidence, UnheardRecord, Unreadable};
use tokio::sync::broadcast;

pub use accounting::{AccountingHandle, AccountingLog, AccountingSlot, Reported};
pub use counts::{Count, NewestKind};
pub use decisions::Waiting;
pub use error::JournalError;
pub use folder::{Keep, set_aside};
pub use heard::HeardFile;
pub use intake::{Handle, Intake, Slot};
pub use node::NodeFile;
pub use reader::{EntryFilter, JournalReader, spellings};
pub use recent::EventKey;
pub use state::CommitAges;

use crate::decisions::{Decisions, Row, write_down};
use crate::folder::Folder;

/// How many committed entries a slow listener may fall behind.
const LISTENER_BACKLOG: usize = 1024;

/// One entry of the journal.
#[derive(Clone, Debug, PartialEq)]
pub enum Entry {
    /// A decision.
    Decision(Box<Evidence>),
    /// Packets that stayed unheard; the same id comes again when more arrive.
    Unheard(UnheardRecord),
    /// What equipment reported of the access that it gives.
    Accounting(Box<AccountingRecord>),
    /// An entry that is there and cannot be read.
    Unreadable {
        /// Its id.
        id: ulid::Ulid,
        /// Why.
        why: Unreadable,
    },
}

/// The writing end of the journal.
pub struct Journal {
    intake: Intake<Waiting>,
    committed: broadcast::Sender<Arc<Entry>>,
}

impl Journal {
    /// Opens or makes the folder and starts the writer. At most `most` entries wait.
    /// Machines that are remembered go into `node`.
    pub fn open(folder: &Path, node: NodeFile, keep: Keep, most: usize) -> Result<Self, JournalError> {
        Self::open_with(folder, node, keep, most, write_down)
    }

    fn open_with(
        folder: &Path,
        node: NodeFile,
        keep: Keep,
        most: usize,
        scribe: fn(Waiting) -> Row,
    ) -> Result<Self, JournalError> {
        let (committed, _) = broadcast::channel(LISTENER_BACKLOG);
        let book = Decisions { node, node_failed: false, seen: Vec::new(), committed: committed.clone(), scribe };
        Ok(Self { intake: Intake::open(Folder::open(folder)?, keep, most, book)?, committed })
    }

    /// Every entry from now on, once it is committed.
    pub fn listen(&self) -> broadcast::Receiver<Arc<Entry>> {
        self.committed.subscribe()
    }
}

/// It is handed in, looked after and closed as its intake is.
impl Deref for Journal {
    type Target = Intake<Waiting>;

    fn deref(&self) -> &Intake<Waiting> {
        &self.intake
    }
}

/// Where a receiving thread hands decisions in.
pub type JournalHandle = Handle<Waiting>;

/// A place for one entry of the journal.
pub type JournalSlot = Slot<Waiting>;

impl Slot<Waiting> {
    /// Hands in a decision.
    pub fn decision(self, decision: Decision) {
        self.fill(Waiting::Decision(Box::new(decision)));
    }

    /// Hands in packets that stayed unheard.
    pub fn unheard(self, record: UnheardRecord) {
        self.fill(Waiting::Unheard(record));
    }
}

#[cfg(test)]
mod tests {
    use std::thread;
    use std::time::{Duration, Instant};

    use regnant_evidence::Cause;
    use ulid::Ulid;

    use super::*;

    pub(crate) fn unheard_for(number: u64, cause: Cause) -> UnheardRecord {
        let id = Ulid::from_parts(number, 1).to_string();
        UnheardRecord { id, first: number, last: number, count: 1, source: "127.0.0.9".into(), nas: None, cause }
    }

    pub(crate) fn unheard() -> UnheardRecord {
        unheard_for(1, Cause::UnknownSender)
    }

    /// A scribe that cannot write one kind of entry down.
    fn clumsy(waiting: Waiting) -> Row {
        match waiting {
            Waiting::Unheard(UnheardRecord { cause: Cause::TooManyConversations, .. }) => {
                panic!("a defect of the test")
            }
            waiting => write_down(waiting),
        }
    }

    fn open(dir: &tempfile::TempDir) -> Journal {
        let node = NodeFile::open(&dir.path().join("node.sqlite")).unwrap();
        Journal::open_with(dir.path(), node, Keep::default(), 1_000, clumsy).unwrap()
    }

    fn on_file(dir: &tempfile::TempDir) -> i64 {
        database(dir).query_row("SELECT count(*) FROM entry", [], |row| row.get(0)).unwrap()
    }

    /// The file of today, as another program would open it.
    fn database(dir: &tempfile::TempDir) -> rusqlite::Connection {
        let folder = Folder::open(dir.path()).unwrap();
        let newest = folder.files().unwrap().pop().unwrap();
        rusqlite::Connection::open(folder.path(newest)).unwrap()
    }

    fn until(what: &str, holds: impl Fn() -> bool) {
        for _ in 0..400 {
            if holds() {
                return;
            }
            thread::sleep(Duration::from_millis(10));
        }
        panic!("{what}");
    }

    #[test]
    fn a_defect_costs_one_entry() {
        let dir = tempfile::tempdir().unwrap();
        let journal = open(&dir);
        let handle = journal.handle().unwrap();
        for number in 1..=9 {
            let cause = if number == 5 { Cause::TooManyConversations } else { Cause::UnknownSender };
            handle.slot("x").unwrap().unheard(unheard_for(number, cause));
        }
        drop(handle);
        assert_eq!(journal.close(), 0);
        assert_eq!(on_file(&dir), 8);
    }

    #[test]
    fn where_the_writer_ends_by_a_defect_nothing_is_answered_and_it_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let journal = open(&dir);
        let handle = journal.handle().unwrap();
        let held = handle.slot("x").unwrap();
        assert!(held.may_answer() && journal.trouble().is_none());
        handle.slot("x").unwrap().fill(Waiting::Defect);
        until("the writer's end is not told", || journal.trouble().is_some());
        assert!(handle.slot("x").is_none() && handle.is_held_up() && !held.may_answer());
        assert!(journal.trouble().unwrap().contains("restart the service"), "{:?}", journal.trouble());
    }

    #[test]
    fn a_journal_that_cannot_be_written_stops_the_answers_and_goes_on_by_itself() {
        let dir = tempfile::tempdir().unwrap();
        let journal = open(&dir);
        let handle = journal.handle().unwrap();
        let other = database(&dir);
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        handle.slot("x").unwrap().unheard(unheard_for(1, Cause::UnknownSender));
        until("trouble is not told", || journal.trouble().is_some());
        assert!(handle.slot("x").is_none() && handle.is_held_up());
        other.execute_batch("ROLLBACK").unwrap();
        until("it does not go on", || journal.trouble().is_none() && !handle.is_held_up());
        handle.slot("x").unwrap().unheard(unheard_for(2, Cause::UnknownSender));
        drop(handle);
        assert_eq!(journal.close(), 0);
        assert_eq!(on_file(&dir), 2);
    }

    #[test]
    fn closing_ends_in_five_seconds_and_says_what_is_lost() {
        let dir = tempfile::tempdir().unwrap();
        let journal = open(&dir);
        let handle = journal.handle().unwrap();
        let other = database(&dir);
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        for number in 1..=7 {
            handle.slot("x").unwrap().unheard(unheard_for(number, Cause::UnknownSender));
        }
        let begun = Instant::now();
        // A handle that is never given back does not hold it up.
        assert_eq!(journal.close(), 7);
        assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", begun.elapsed());
    }

    #[test]
    fn one_nas_leaves_room_in_the_queue() {
        let dir = tempfile::tempdir().unwrap();
        let journal = open(&dir);
        let handle = journal.handle().unwrap();
        let busy: Vec<_> = std::iter::from_fn(|| handle.slot("busy")).collect();
        assert!(busy.len() <= 800, "{}", busy.len());
        assert!(handle.slot("quiet").is_some());
        // What has to wait takes no place of what need not.
        let late: Vec<_> = busy.into_iter().filter_map(|slot| slot.late("busy")).collect();
        assert_eq!(late.len(), 500, "its share of what waits");
        let again: Vec<_> = std::iter::from_fn(|| handle.slot("busy")).take(700).collect();
        assert_eq!(again.len(), 700);
    }
}
