use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

use regnant_access::{FactTable, Fragment, Record, SeenMachine};
use rusqlite::Connection;
use tokio::sync::broadcast;
use ulid::Ulid;

use crate::journal::machines::MachineFile;
use crate::journal::state::State;
use crate::journal::{Entry, Handed, Waiting};

/// How long entries gather.
const GATHER: Duration = Duration::from_millis(20);
/// A transaction has at most this many entries.
const COMMIT_MOST: usize = 512;
const RETRY_AFTER: Duration = Duration::from_millis(200);
/// How often the writer looks whether the service stops.
const LOOK_UP: Duration = Duration::from_millis(100);

/// The thread that turns decisions into records and commits them in groups.
pub(crate) struct Writer {
    pub(crate) connection: Connection,
    pub(crate) path: PathBuf,
    pub(crate) table: Arc<FactTable>,
    pub(crate) entries: Receiver<Handed>,
    pub(crate) committed: broadcast::Sender<Arc<Entry>>,
    pub(crate) state: Arc<State>,
    pub(crate) scribe: fn(&FactTable, Waiting) -> Row,
    pub(crate) machines: MachineFile,
}

/// An entry as the file keeps it.
pub(crate) struct Row {
    id: [u8; 16],
    /// The verdict; none for what stayed unheard.
    verdict: Option<&'static str>,
    search: String,
    record: String,
    entry: Entry,
}

impl Writer {
    /// Runs until every sender is gone and all is written, or time is up; tells how
    /// many entries were not written.
    pub(crate) fn run(mut self) -> usize {
        while let Some(batch) = self.gather() {
            let begun = Instant::now();
            let oldest = batch[0].since;
            let (rows, seen, places) = self.write_down(batch);
            let mut failed = false;
            while let Err(error) = self.commit(&rows, &seen) {
                self.failed(&error, &mut failed);
                if self.state.is_over() {
                    return rows.len() + self.entries.try_iter().count();
                }
                thread::sleep(RETRY_AFTER);
            }
            if failed {
                tracing::info!("the journal is written again, and requests are answered");
                self.state.tell(None);
            } else {
                self.state.wrote(rows.len(), begun.elapsed(), oldest.elapsed());
            }
            drop(places);
            if self.committed.receiver_count() > 0 {
                for row in rows {
                    // Nobody listens any more: nothing is lost by that.
                    let _ = self.committed.send(Arc::new(row.entry));
                }
            }
        }
        0
    }

    /// The entries are kept, and nothing more is answered until they are written.
    fn failed(&self, error: &rusqlite::Error, failed: &mut bool) {
        let told = format!("the journal cannot be written: {error}");
        if !std::mem::replace(failed, true) {
            tracing::error!(
                "{told}. Nothing is answered until it can: make room on the disk of {}, or see what holds it or keeps \
                 it from being written; the service then goes on by itself",
                self.path.display()
            );
        }
        self.state.tell(Some(told));
    }

    /// The entries of one transaction; `None` at the end.
    ///
    /// The thread sleeps while entries gather rather than wait for each: a sender
    /// that finds nobody waiting need not wake anybody.
    fn gather(&mut self) -> Option<Vec<Handed>> {
        let first = match self.entries.try_recv() {
            Ok(first) => first,
            Err(_) => {
                self.state.oldest_is(None);
                self.next()?
            }
        };
        self.state.oldest_is(Some(first.since));
        thread::sleep(GATHER.saturating_sub(first.since.elapsed()));
        let mut batch = vec![first];
        batch.extend(self.entries.try_iter().take(COMMIT_MOST - 1));
        Some(batch)
    }

    fn next(&self) -> Option<Handed> {
        loop {
            match self.entries.recv_timeout(LOOK_UP) {
                Ok(handed) => return Some(handed),
                Err(RecvTimeoutError::Disconnected) => return None,
                Err(RecvTimeoutError::Timeout) if self.state.is_over() => return None,
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }

    /// Entries as rows; a defect costs the one that it is in.
    fn write_down(&self, batch: Vec<Handed>) -> (Vec<Row>, Vec<SeenMachine>, Vec<regnant_base::Place>) {
        let (mut rows, mut seen, mut places) = (Vec::new(), Vec::new(), Vec::new());
        for Handed { mut entry, _place: place, .. } in batch {
            #[cfg(test)]
            assert!(!matches!(entry, Waiting::Defect), "a defect of the writer, for a test");
            seen.extend(entry.take_machine());
            places.push(place);
            match catch_unwind(AssertUnwindSafe(|| (self.scribe)(&self.table, entry))) {
                Ok(row) => rows.push(row),
                Err(_) => tracing::error!("an entry of the journal could not be written down; please report this"),
            }
        }
        (rows, seen, places)
    }

    fn commit(&mut self, rows: &[Row], seen: &[SeenMachine]) -> rusqlite::Result<()> {
        let transaction = self.connection.transaction()?;
        self.machines.keep(&transaction, seen)?;
        {
            let mut decision = transaction
                .prepare_cached("INSERT INTO decision (id, verdict, search, record) VALUES (?1, ?2, ?3, ?4)")?;
            let mut unheard = transaction.prepare_cached(
                "INSERT INTO unheard (id, search, record) VALUES (?1, ?2, ?3)
                 ON CONFLICT (id) DO UPDATE SET search = ?2, record = ?3",
            )?;
            for row in rows {
                match row.verdict {
                    Some(verdict) => decision.execute((row.id, verdict, &row.search, &row.record))?,
                    None => unheard.execute((row.id, &row.search, &row.record))?,
                };
            }
        }
        transaction.commit()
    }
}

/// Turns what waits into what is kept.
pub(crate) fn write_down(table: &FactTable, waiting: Waiting) -> Row {
    match waiting {
        Waiting::Decision(decision) => {
            let record = Box::new(Record::new(*decision, table));
            Row {
                id: id_bytes(&record.id),
                verdict: Some(record.verdict.word()),
                search: search(&record.sentence()),
                record: json(&record),
                entry: Entry::Decision(record),
            }
        }
        Waiting::Unheard(record) => Row {
            id: id_bytes(&record.id),
            verdict: None,
            search: search(&record.sentence()),
            record: json(&record),
            entry: Entry::Unheard(record),
        },
        #[cfg(test)]
        Waiting::Defect => unreachable!("the writer fell over it"),
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
