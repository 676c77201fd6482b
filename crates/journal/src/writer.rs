use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use regnant_decision::{EntryKind, SeenMachine};
use regnant_evidence::{Evidence, Fragment, Record};
use tokio::sync::broadcast;
use ulid::Ulid;

use crate::counts::{CountKey, Newest, count_key, newest};
use crate::error::{JournalError, is_broken};
use crate::folder::{FileName, Folder, Keep, today};
use crate::node::NodeFile;
use crate::segment::Segment;
use crate::state::State;
use crate::{Entry, Handed, Waiting};

/// How long entries gather.
const GATHER: Duration = Duration::from_millis(20);
/// A transaction has at most this many entries.
const COMMIT_MOST: usize = 512;
const RETRY_AFTER: Duration = Duration::from_millis(200);
/// How often the writer looks whether the service stops.
const LOOK_UP: Duration = Duration::from_millis(100);
/// How often it looks whether something is too old.
const TIDY_UP: Duration = Duration::from_secs(60);
/// A file that is larger gets a successor.
const LARGE: u64 = 1 << 30;

/// The thread that turns decisions into evidence and commits it in groups.
pub(crate) struct Writer {
    pub(crate) files: Files,
    pub(crate) node: NodeFile,
    /// Whether machines could not be remembered the last time, which is told once.
    pub(crate) node_failed: bool,
    pub(crate) entries: Receiver<Handed>,
    pub(crate) committed: broadcast::Sender<Arc<Entry>>,
    pub(crate) state: Arc<State>,
    pub(crate) scribe: fn(Waiting) -> Row,
}

/// An entry as a file keeps it.
pub(crate) struct Row {
    pub(crate) id: [u8; 16],
    pub(crate) outcome: i64,
    pub(crate) search: String,
    pub(crate) stored: Vec<u8>,
    /// What it counts as; none for what stayed unheard, which is counted in itself.
    pub(crate) count: Option<CountKey>,
    pub(crate) newest: Vec<Newest>,
    entry: Entry,
}

/// The file that is written, and the folder that it is in.
pub(crate) struct Files {
    folder: Folder,
    keep: Keep,
    name: FileName,
    segment: Segment,
    state: Arc<State>,
    tidied: Instant,
}

impl Files {
    /// Goes on with the file of today. One that cannot be used is set aside, and told.
    pub(crate) fn open(folder: Folder, keep: Keep, state: Arc<State>) -> Result<Self, JournalError> {
        let today = today();
        let newest = folder.files()?.pop().filter(|name| name.day >= today);
        let (name, segment) = match newest {
            Some(name) => Self::open_or_set_aside(&folder, name)?,
            None => Self::begin(&folder)?,
        };
        let files = Self { folder, keep, name, segment, state, tidied: Instant::now() };
        files.tidy_up();
        Ok(files)
    }

    fn open_or_set_aside(folder: &Folder, name: FileName) -> Result<(FileName, Segment), JournalError> {
        match Segment::open(&folder.path(name), now_ms()) {
            Err(error) if error.is_of_no_use() => {
                let aside = folder.set_aside(name)?;
                tracing::error!("{error}; it was set aside as {}, and the journal begins a new file", aside.display());
                Self::begin(folder)
            }
            opened => Ok((name, opened?)),
        }
    }

    fn begin(folder: &Folder) -> Result<(FileName, Segment), JournalError> {
        let name = folder.next(today())?;
        let opened = Segment::open(&folder.path(name), now_ms());
        if opened.is_err() {
            // On a full disk each try would leave another empty file.
            let _ = folder.remove(name);
        }
        Ok((name, opened?))
    }

    /// Writes entries into the file of today.
    fn commit(&mut self, rows: &[Row]) -> Result<(), JournalError> {
        if self.name.day < today() || self.segment.bytes() > LARGE {
            (self.name, self.segment) = Self::begin(&self.folder)?;
            self.tidy_up();
        }
        match self.segment.commit(rows) {
            Err(error) if is_broken(&error) => {
                let path = self.folder.path(self.name);
                (self.name, self.segment) = Self::begin(&self.folder)?;
                tracing::error!("{} is damaged ({error}): the journal goes on in a new file", path.display());
                Ok(self.segment.commit(rows)?)
            }
            done => Ok(done?),
        }
    }

    /// What is too old, or too much, goes.
    fn tidy_up(&self) {
        match self.keep.apply(&self.folder, self.name, today()) {
            Ok(files) => self.state.deleted_more(files),
            Err(error) => tracing::warn!("what is too old of the journal cannot be deleted: {error}"),
        }
        let sizes: Vec<_> =
            self.folder.files().unwrap_or_default().into_iter().map(|name| self.folder.bytes(name)).collect();
        self.state.is_large(sizes.len() as u64, sizes.iter().sum());
    }

    fn tidy_up_now_and_then(&mut self) {
        if self.tidied.elapsed() >= TIDY_UP {
            self.tidied = Instant::now();
            self.tidy_up();
        }
    }
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
    fn failed(&self, error: &JournalError, failed: &mut bool) {
        let told = format!("the journal cannot be written: {error}");
        if !std::mem::replace(failed, true) {
            tracing::error!(
                "{told}. Nothing is answered until it can: make room on the disk of {}, or see what holds it or keeps \
                 it from being written; the service then goes on by itself",
                self.files.folder.path(self.files.name).display()
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

    fn next(&mut self) -> Option<Handed> {
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
    fn write_down(&self, batch: Vec<Handed>) -> (Vec<Row>, Vec<SeenMachine>, Vec<regnant_base::Place>) {
        let (mut rows, mut seen, mut places) = (Vec::new(), Vec::new(), Vec::new());
        for Handed { mut entry, _place: place, .. } in batch {
            #[cfg(test)]
            assert!(!matches!(entry, Waiting::Defect), "a defect of the writer, for a test");
            seen.extend(entry.take_machine());
            places.push(place);
            match catch_unwind(AssertUnwindSafe(|| (self.scribe)(entry))) {
                Ok(row) => rows.push(row),
                Err(_) => tracing::error!("an entry of the journal could not be written down; please report this"),
            }
        }
        (rows, seen, places)
    }

    fn commit(&mut self, rows: &[Row], seen: &[SeenMachine]) -> Result<(), JournalError> {
        self.files.tidy_up_now_and_then();
        // Whoever is not remembered proves itself again: nobody is kept out by that.
        let kept = self.node.keep(seen);
        if let (Err(error), false) = (&kept, self.node_failed) {
            tracing::error!("machines that proved themselves cannot be remembered: {error}");
        }
        self.node_failed = kept.is_err();
        self.files.commit(rows)
    }
}

/// Turns what waits into what is kept.
pub(crate) fn write_down(waiting: Waiting) -> Row {
    match waiting {
        Waiting::Decision(decision) => {
            let (edition, nas) = (decision.edition.clone(), decision.accepted.nas.clone());
            let evidence = Box::new(Evidence::new(*decision));
            Row {
                id: evidence.id.to_bytes(),
                outcome: evidence.ending.kind() as i64,
                search: search(&Record::brief(&evidence, &edition).sentence()),
                stored: evidence.to_bytes(),
                count: Some(count_key(&evidence, &nas.name)),
                newest: newest(&evidence, &nas.name),
                entry: Entry::Decision(evidence),
            }
        }
        Waiting::Unheard(record) => Row {
            id: Ulid::from_string(&record.id).unwrap_or(Ulid::nil()).to_bytes(),
            outcome: EntryKind::Unheard as i64,
            search: search(&record.sentence()),
            stored: record.to_bytes(),
            count: None,
            newest: Vec::new(),
            entry: Entry::Unheard(record),
        },
        #[cfg(test)]
        Waiting::Defect => unreachable!("the writer fell over it"),
    }
}

fn search(sentence: &[Fragment]) -> String {
    sentence.iter().map(|fragment| fragment.text.as_str()).collect::<String>().to_lowercase()
}

fn now_ms() -> u64 {
    u64::try_from(Timestamp::now().as_millisecond()).unwrap_or(0)
}
