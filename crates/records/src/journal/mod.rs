//! What this node observed: decisions, packets that stayed unheard and machines
//! that are remembered, written in group commits on a thread of its own.

mod machines;
pub(crate) mod reader;
mod writer;

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use regnant_access::{Decision, FactTable, Record, SeenMachine, UnheardRecord};
use serde::{Deserialize, Serialize};
use tokio::sync::broadcast;
use ulid::Ulid;

use crate::error::RecordsError;
use crate::journal::machines::MachineFile;
use crate::journal::writer::Writer;
use crate::sealing::random;
use crate::shared::open_database;

const MIGRATIONS: [&str; 2] =
    [include_str!("../../migrations/journal-1.sql"), include_str!("../../migrations/journal-2.sql")];
/// How long one try waits for another program that holds the file.
const BUSY: Duration = Duration::from_millis(200);
/// How many committed entries a slow listener may fall behind.
const LISTENER_BACKLOG: usize = 1024;

/// One entry of the journal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "entry", rename_all = "lowercase")]
pub enum Entry {
    /// A decision.
    Decision(Box<Record>),
    /// Packets that stayed unheard; the same id comes again when more arrive.
    Unheard(UnheardRecord),
}

/// What waits to be written.
pub(crate) enum Waiting {
    Decision(Box<Decision>),
    Unheard(UnheardRecord),
}

impl Waiting {
    /// The machine that is remembered with it.
    fn take_machine(&mut self) -> Option<SeenMachine> {
        match self {
            Self::Decision(decision) => decision.remembered.take().map(|seen| *seen),
            Self::Unheard(_) => None,
        }
    }
}

/// The writing end of the journal.
pub struct Journal {
    queue: Mutex<Option<Sender<Waiting>>>,
    waiting: Arc<AtomicUsize>,
    most: usize,
    committed: broadcast::Sender<Arc<Entry>>,
    trouble: Arc<Mutex<Option<String>>>,
    thread: Mutex<Option<JoinHandle<()>>>,
}

/// A place in the queue, held before a request is decided: what cannot be
/// journaled is not decided.
pub struct Slot {
    queue: Sender<Waiting>,
    waiting: Arc<AtomicUsize>,
    used: bool,
}

impl Journal {
    /// Opens or makes the file and starts the writer. At most `most` entries wait.
    pub fn open(path: &Path, table: Arc<FactTable>, most: usize) -> Result<Self, RecordsError> {
        let connection = open_database(path, &MIGRATIONS)?;
        // The writer tries again itself, and tells meanwhile what is wrong.
        connection.busy_timeout(BUSY)?;
        let node = Ulid::from_parts(0, u128::from_be_bytes(random())).to_string();
        connection.execute("INSERT INTO node (id) SELECT ?1 WHERE NOT EXISTS (SELECT 1 FROM node)", [node])?;
        let (queue, entries) = channel();
        let (committed, _) = broadcast::channel(LISTENER_BACKLOG);
        let waiting = Arc::new(AtomicUsize::new(0));
        let trouble = Arc::new(Mutex::new(None));
        let writer = Writer {
            connection,
            table,
            entries,
            waiting: waiting.clone(),
            committed: committed.clone(),
            trouble: trouble.clone(),
            behind: false,
            machines: MachineFile::default(),
        };
        let thread = thread::Builder::new()
            .name("regnant-journal".into())
            .spawn({
                let trouble = trouble.clone();
                move || {
                    if catch_unwind(AssertUnwindSafe(|| writer.run())).is_err() {
                        let told = "the journal's thread ended by a defect; restart the service and report this";
                        *trouble.lock().unwrap_or_else(PoisonError::into_inner) = Some(told.into());
                    }
                }
            })
            .expect("the system starts a thread");
        let (queue, thread) = (Mutex::new(Some(queue)), Mutex::new(Some(thread)));
        Ok(Self { queue, waiting, most, committed, trouble, thread })
    }

    /// A handle for one receiving thread.
    pub fn desk(&self) -> Option<Desk> {
        let queue = self.queue.lock().unwrap_or_else(PoisonError::into_inner).clone()?;
        Some(Desk { queue, waiting: self.waiting.clone(), most: self.most })
    }

    /// Every entry from now on, once it is committed.
    pub fn listen(&self) -> broadcast::Receiver<Arc<Entry>> {
        self.committed.subscribe()
    }

    /// What keeps entries from being written, where something does.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Writes what waits and ends the writer, once every [`Desk`] is gone.
    pub fn close(&self) {
        drop(self.queue.lock().unwrap_or_else(PoisonError::into_inner).take());
        if let Some(thread) = self.thread.lock().unwrap_or_else(PoisonError::into_inner).take() {
            let _ = thread.join();
        }
    }
}

/// Where a receiving thread hands entries in.
#[derive(Clone)]
pub struct Desk {
    queue: Sender<Waiting>,
    waiting: Arc<AtomicUsize>,
    most: usize,
}

impl Desk {
    /// A place in the queue, or none where it is full.
    pub fn slot(&self) -> Option<Slot> {
        let place = |waiting: usize| (waiting < self.most).then_some(waiting + 1);
        self.waiting.fetch_update(Ordering::Relaxed, Ordering::Relaxed, place).ok()?;
        Some(Slot { queue: self.queue.clone(), waiting: self.waiting.clone(), used: false })
    }
}

impl Slot {
    /// Hands in a decision.
    pub fn decision(self, decision: Decision) {
        self.fill(Waiting::Decision(Box::new(decision)));
    }

    /// Hands in packets that stayed unheard.
    pub fn unheard(self, record: UnheardRecord) {
        self.fill(Waiting::Unheard(record));
    }

    fn fill(mut self, entry: Waiting) {
        self.used = self.queue.send(entry).is_ok();
    }
}

impl Drop for Slot {
    fn drop(&mut self) {
        if !self.used {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
        }
    }
}
