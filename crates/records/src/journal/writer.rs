use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::Receiver;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use regnant_access::{FactTable, Fragment, Record, SeenMachine};
use rusqlite::Connection;
use tokio::sync::broadcast;
use ulid::Ulid;

use crate::journal::machines::MachineFile;
use crate::journal::{Entry, Waiting};

/// How long entries gather. A crash loses what gathers and what is being written;
/// where more comes than can be written, also what waits in the bounded queue.
const COMMIT_EVERY: Duration = Duration::from_millis(50);
/// A transaction has at most this many entries.
const COMMIT_MOST: usize = 1024;
const RETRY_AFTER: Duration = Duration::from_millis(500);

/// The thread that turns decisions into records and commits them in groups.
pub(crate) struct Writer {
    pub(crate) connection: Connection,
    pub(crate) table: Arc<FactTable>,
    pub(crate) entries: Receiver<Waiting>,
    pub(crate) waiting: Arc<AtomicUsize>,
    pub(crate) committed: broadcast::Sender<Arc<Entry>>,
    pub(crate) trouble: Arc<Mutex<Option<String>>>,
    /// Whether the last transaction was full, so that more is waiting.
    pub(crate) behind: bool,
    pub(crate) machines: MachineFile,
}

impl Writer {
    /// Runs until every sender is gone and all is written.
    pub(crate) fn run(mut self) {
        while let Some(mut batch) = self.gather() {
            let seen: Vec<SeenMachine> = batch.iter_mut().filter_map(Waiting::take_machine).collect();
            let entries: Vec<Entry> = batch.into_iter().map(|entry| self.record(entry)).collect();
            while let Err(error) = self.commit(&entries, &seen) {
                // The entries are kept. The queue fills up, and then requests
                // stay unanswered rather than be decided unseen.
                self.tell(Some(format!("the journal cannot be written: {error}")));
                thread::sleep(RETRY_AFTER);
            }
            self.tell(None);
            self.waiting.fetch_sub(entries.len(), Ordering::Relaxed);
            if self.committed.receiver_count() > 0 {
                for entry in entries {
                    // Nobody listens any more: nothing is lost by that.
                    let _ = self.committed.send(Arc::new(entry));
                }
            }
        }
    }

    /// The entries of one transaction; `None` at the end.
    ///
    /// The thread sleeps while entries gather rather than wait for each: a sender
    /// that finds nobody waiting need not wake anybody.
    fn gather(&mut self) -> Option<Vec<Waiting>> {
        let mut batch = vec![self.entries.recv().ok()?];
        if !self.behind {
            thread::sleep(COMMIT_EVERY);
        }
        batch.extend(self.entries.try_iter().take(COMMIT_MOST - 1));
        self.behind = batch.len() == COMMIT_MOST;
        Some(batch)
    }

    fn record(&self, entry: Waiting) -> Entry {
        match entry {
            Waiting::Decision(decision) => Entry::Decision(Box::new(Record::new(*decision, &self.table))),
            Waiting::Unheard(record) => Entry::Unheard(record),
        }
    }

    fn commit(&mut self, entries: &[Entry], seen: &[SeenMachine]) -> rusqlite::Result<()> {
        let transaction = self.connection.transaction()?;
        self.machines.keep(&transaction, seen)?;
        {
            let mut decision = transaction
                .prepare_cached("INSERT INTO decision (id, verdict, search, record) VALUES (?1, ?2, ?3, ?4)")?;
            let mut unheard = transaction.prepare_cached(
                "INSERT INTO unheard (id, search, record) VALUES (?1, ?2, ?3)
                 ON CONFLICT (id) DO UPDATE SET search = ?2, record = ?3",
            )?;
            for entry in entries {
                match entry {
                    Entry::Decision(record) => decision.execute((
                        id_bytes(&record.id),
                        record.verdict.word(),
                        search(&record.sentence()),
                        json(record),
                    ))?,
                    Entry::Unheard(record) => {
                        unheard.execute((id_bytes(&record.id), search(&record.sentence()), json(record)))?
                    }
                };
            }
        }
        transaction.commit()
    }

    fn tell(&self, trouble: Option<String>) {
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }
}

pub(crate) fn id_bytes(id: &str) -> [u8; 16] {
    Ulid::from_string(id).unwrap_or(Ulid::nil()).to_bytes()
}

fn search(sentence: &[Fragment]) -> String {
    sentence.iter().map(|fragment| fragment.text.as_str()).collect::<String>().to_lowercase()
}

fn json(value: &impl serde::Serialize) -> String {
    serde_json::to_string(value).expect("records have string keys only")
}
