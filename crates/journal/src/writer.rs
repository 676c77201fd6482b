use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::Place;

use crate::error::JournalError;
use crate::files::{BookFile, Files};
use crate::intake::Handed;
use crate::state::State;

/// A transaction has at most this many entries.
const COMMIT_MOST: usize = 512;
const RETRY_AFTER: Duration = Duration::from_millis(200);
/// How often the writer looks whether the service stops.
const LOOK_UP: Duration = Duration::from_millis(100);

/// What a writer writes: how that which waits becomes rows, and what follows once they are
/// on the disk.
pub(crate) trait Book: Send + 'static {
    /// What waits.
    type Waiting: Send;
    /// Where it is kept.
    type File: BookFile + Send;
    /// What it is called where it is told of.
    const NAME: &str;
    /// How long entries gather.
    const GATHER: Duration;

    /// Turns what waits into what is kept.
    fn write_down(&mut self, waiting: Self::Waiting) -> RowOf<Self>;

    /// Writes rows, or nothing of them.
    fn commit(&mut self, files: &mut Files<Self::File>, rows: &[RowOf<Self>]) -> Result<(), JournalError> {
        files.commit(rows)
    }

    /// The rows are on the disk.
    fn written(&mut self, rows: Vec<RowOf<Self>>);
}

/// What a book keeps.
pub(crate) type RowOf<B> = <<B as Book>::File as BookFile>::Row;

/// The thread that turns what waits into rows and commits them in groups.
pub(crate) struct Writer<B: Book> {
    pub(crate) book: B,
    pub(crate) files: Files<B::File>,
    pub(crate) entries: Receiver<Handed<B::Waiting>>,
    pub(crate) state: Arc<State>,
}

impl<B: Book> Writer<B> {
    /// Runs until every sender is gone and all is written, or time is up; tells how
    /// many entries were not written.
    pub(crate) fn run(mut self) -> usize {
        while let Some(batch) = self.gather() {
            let begun = Instant::now();
            let oldest = batch[0].since;
            let (rows, places) = self.write_down(batch);
            let mut failed = false;
            while let Err(error) = self.commit(&rows) {
                self.failed(&error, &mut failed);
                if self.state.is_over() {
                    return rows.len() + self.entries.try_iter().count();
                }
                thread::sleep(RETRY_AFTER);
            }
            if failed {
                tracing::info!("the {} is written again, and requests are answered", B::NAME);
                self.state.tell(None);
            } else {
                self.state.wrote(rows.len(), begun.elapsed(), oldest.elapsed());
            }
            drop(places);
            self.book.written(rows);
        }
        0
    }

    fn commit(&mut self, rows: &[RowOf<B>]) -> Result<(), JournalError> {
        self.files.tidy_up_now_and_then();
        self.book.commit(&mut self.files, rows)
    }

    /// The entries are kept, and nothing more is answered until they are written.
    fn failed(&self, error: &JournalError, failed: &mut bool) {
        let told = format!("the {} cannot be written: {error}", B::NAME);
        if !std::mem::replace(failed, true) {
            tracing::error!(
                "{told}. Nothing that belongs in it is answered until it can: make room on the disk of {}, or see what \
                 holds it or keeps it from being written; the service then goes on by itself",
                self.files.path().display()
            );
        }
        self.state.tell(Some(told));
    }

    /// The entries of one transaction; `None` at the end.
    ///
    /// The thread sleeps while entries gather rather than wait for each: a sender
    /// that finds nobody waiting need not wake anybody.
    fn gather(&mut self) -> Option<Vec<Handed<B::Waiting>>> {
        let first = match self.entries.try_recv() {
            Ok(first) => first,
            Err(_) => {
                self.state.oldest_is(None);
                self.next()?
            }
        };
        self.state.oldest_is(Some(first.since));
        thread::sleep(B::GATHER.saturating_sub(first.since.elapsed()));
        let mut batch = vec![first];
        batch.extend(self.entries.try_iter().take(COMMIT_MOST - 1));
        Some(batch)
    }

    fn next(&mut self) -> Option<Handed<B::Waiting>> {
        loop {
            match self.entries.recv_timeout(LOOK_UP) {
                Ok(handed) => return Some(handed),
                Err(RecvTimeoutError::Disconnected) => return None,
                Err(RecvTimeoutError::Timeout) if self.state.is_over() => return None,
                Err(RecvTimeoutError::Timeout) => self.files.tidy_up_now_and_then(),
            }
        }
    }

    /// Entries as rows; a defect costs the one that it is in.
    fn write_down(&mut self, batch: Vec<Handed<B::Waiting>>) -> (Vec<RowOf<B>>, Vec<Place>) {
        let (mut rows, mut places) = (Vec::with_capacity(batch.len()), Vec::with_capacity(batch.len()));
        for Handed { entry, place, .. } in batch {
            places.push(place);
            match catch_unwind(AssertUnwindSafe(|| self.book.write_down(entry))) {
                Ok(row) => rows.push(row),
                Err(_) => {
                    tracing::error!("an entry of the {} could not be written down; please report this", B::NAME);
                }
            }
        }
        (rows, places)
    }
}
