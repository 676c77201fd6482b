//! What this node observed: decisions, packets that stayed unheard, and machines that
//! are remembered.
//!
//! Entries are written in group commits on a thread of its own, into a file for each
//! day. This crate opens SQLite files in one folder; it knows no socket and no HTTP, and
//! makes no sentence for people but the one that is searched. Read [`Journal`] first,
//! then [`JournalReader`].

mod counts;
mod database;
mod error;
mod folder;
mod node;
mod reader;
mod segment;
mod state;
mod writer;

use std::path::Path;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::Place;
use regnant_decision::SeenMachine;
use regnant_equipment::Decision;
use regnant_evidence::{Evidence, UnheardRecord, Unreadable};
use tokio::sync::broadcast;

pub use counts::{Count, NewestKind};
pub use error::JournalError;
pub use folder::{Keep, set_aside};
pub use node::NodeFile;
pub use reader::{EntryFilter, JournalReader};
pub use state::CommitAges;

use crate::folder::Folder;
use crate::state::State;
use crate::writer::{Files, Row, Writer, write_down};

/// What waits is given up this long after the service was told to stop.
const CLOSING: Duration = Duration::from_secs(4);
/// How much longer the writer's own last word is awaited.
const LAST_WORD: Duration = Duration::from_millis(500);
/// How many committed entries a slow listener may fall behind.
const LISTENER_BACKLOG: usize = 1024;

/// One entry of the journal.
#[derive(Clone, Debug, PartialEq)]
pub enum Entry {
    /// A decision.
    Decision(Box<Evidence>),
    /// Packets that stayed unheard; the same id comes again when more arrive.
    Unheard(UnheardRecord),
    /// An entry that is there and cannot be read.
    Unreadable {
        /// Its id.
        id: ulid::Ulid,
        /// Why.
        why: Unreadable,
    },
}

/// What waits to be written.
pub(crate) enum Waiting {
    Decision(Box<Decision>),
    Unheard(UnheardRecord),
    /// A defect of the writer, for a test.
    #[cfg(test)]
    Defect,
}

impl Waiting {
    /// The machine that is remembered with it.
    fn take_machine(&mut self) -> Option<SeenMachine> {
        match self {
            Self::Decision(decision) => decision.decided.remembered.take().map(|seen| *seen),
            _ => None,
        }
    }
}

/// An entry on its way, with the room that it takes.
pub(crate) struct Handed {
    pub(crate) entry: Waiting,
    pub(crate) since: Instant,
    pub(crate) _place: Place,
}

/// The writing end of the journal.
pub struct Journal {
    queue: Mutex<Option<Sender<Handed>>>,
    state: Arc<State>,
    committed: broadcast::Sender<Arc<Entry>>,
    keep: Keep,
    /// How many entries could not be written, once the writer has ended.
    unwritten: Mutex<Receiver<usize>>,
}

/// A place in the queue, held before a request is decided: what cannot be
/// journaled is not decided.
pub struct Slot {
    queue: Sender<Handed>,
    state: Arc<State>,
    place: Place,
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
        let (queue, entries) = channel();
        let (committed, _) = broadcast::channel(LISTENER_BACKLOG);
        let (last_word, unwritten) = channel();
        let state = Arc::new(State::new(most));
        let files = Files::open(Folder::open(folder)?, keep, state.clone())?;
        let writer = Writer {
            files,
            node,
            node_failed: false,
            entries,
            committed: committed.clone(),
            state: state.clone(),
            scribe,
        };
        thread::Builder::new()
            .name("regnant-journal".into())
            .spawn({
                let state = state.clone();
                move || {
                    // However the writer ends, nothing is answered after it.
                    let _end = state.ends_with_me();
                    // Nobody waits for the word where the service did not stop.
                    let _ = last_word.send(writer.run());
                }
            })
            .expect("the system starts a thread");
        Ok(Self { queue: Mutex::new(Some(queue)), state, committed, keep, unwritten: Mutex::new(unwritten) })
    }

    /// A handle for one receiving thread.
    pub fn handle(&self) -> Option<JournalHandle> {
        let queue = self.queue.lock().unwrap_or_else(PoisonError::into_inner).clone()?;
        Some(JournalHandle { queue, state: self.state.clone() })
    }

    /// Every entry from now on, once it is committed.
    pub fn listen(&self) -> broadcast::Receiver<Arc<Entry>> {
        self.committed.subscribe()
    }

    /// What keeps entries from being written, where something does.
    pub fn trouble(&self) -> Option<String> {
        self.state.trouble()
    }

    /// How old the oldest entry of each commit was: what a crash would have lost.
    pub fn commit_ages(&self) -> CommitAges {
        self.state.ages()
    }

    /// What is kept of it.
    pub fn keep(&self) -> Keep {
        self.keep
    }

    /// How many files there are and their bytes, as of the last minute.
    pub fn size(&self) -> (u64, u64) {
        self.state.size()
    }

    /// How many files were deleted since the start.
    pub fn deleted(&self) -> u64 {
        self.state.deleted()
    }

    /// Writes what waits and ends the writer; tells how many entries could not be
    /// written within five seconds.
    pub fn close(&self) -> usize {
        drop(self.queue.lock().unwrap_or_else(PoisonError::into_inner).take());
        self.state.close(Instant::now() + CLOSING);
        let unwritten = self.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.recv_timeout(CLOSING + LAST_WORD).unwrap_or_else(|_| self.state.waiting())
    }
}

/// Where a receiving thread hands entries in.
#[derive(Clone)]
pub struct JournalHandle {
    queue: Sender<Handed>,
    state: Arc<State>,
}

impl JournalHandle {
    /// A place in the queue for whoever asks, or none where their share of it is
    /// taken or nothing may be decided now.
    pub fn slot(&self, who: &str) -> Option<Slot> {
        let place = self.state.place(who)?;
        Some(Slot { queue: self.queue.clone(), state: self.state.clone(), place })
    }

    /// Whether nothing may be decided now, because the journal cannot be written or
    /// what waits for it is too old: packets then wait in their socket.
    pub fn is_held_up(&self) -> bool {
        self.state.is_held_up()
    }
}

impl Slot {
    /// Whether what is decided may still be answered.
    pub fn may_answer(&self) -> bool {
        self.state.is_answering()
    }

    /// Hands in a decision.
    pub fn decision(self, decision: Decision) {
        self.fill(Waiting::Decision(Box::new(decision)));
    }

    /// Hands in packets that stayed unheard.
    pub fn unheard(self, record: UnheardRecord) {
        self.fill(Waiting::Unheard(record));
    }

    fn fill(self, entry: Waiting) {
        let since = Instant::now();
        self.state.handed_in(since);
        // The writer has ended: then nothing is answered any more either.
        let _ = self.queue.send(Handed { entry, since, _place: self.place });
    }
}

#[cfg(test)]
mod tests {
    use regnant_equipment::Cause;

    use ulid::Ulid;

    use super::*;

    fn unheard(number: u64, cause: Cause) -> UnheardRecord {
        let id = Ulid::from_parts(number, 1).to_string();
        UnheardRecord { id, first: number, last: number, count: 1, source: "127.0.0.9".into(), nas: None, cause }
    }

    /// A scribe that cannot write one kind of entry down.
    fn clumsy(waiting: Waiting) -> Row {
        match waiting {
            Waiting::Unheard(UnheardRecord { cause: Cause::SecretDiffers, .. }) => panic!("a defect of the test"),
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
            let cause = if number == 5 { Cause::SecretDiffers } else { Cause::UnknownSender };
            handle.slot("x").unwrap().unheard(unheard(number, cause));
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
        handle.slot("x").unwrap().unheard(unheard(1, Cause::UnknownSender));
        until("trouble is not told", || journal.trouble().is_some());
        assert!(handle.slot("x").is_none() && handle.is_held_up());
        other.execute_batch("ROLLBACK").unwrap();
        until("it does not go on", || journal.trouble().is_none() && !handle.is_held_up());
        handle.slot("x").unwrap().unheard(unheard(2, Cause::UnknownSender));
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
            handle.slot("x").unwrap().unheard(unheard(number, Cause::UnknownSender));
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
        assert!(busy.len() <= 500, "{}", busy.len());
        assert!(handle.slot("quiet").is_some());
    }
}
