//! Decisions and what stayed unheard: what waits for the journal, and what is kept of it.

use std::sync::Arc;
use std::time::Duration;

use regnant_decision::{EntryKind, SeenMachine};
use regnant_evidence::{Decision, Evidence, Fragment, Record, UnheardRecord};
use tokio::sync::broadcast;
use ulid::Ulid;

use crate::Entry;
use crate::counts::{CountKey, Newest, count_key, newest};
use crate::error::JournalError;
use crate::files::Files;
use crate::node::NodeFile;
use crate::segment::Segment;
use crate::writer::Book;

/// What waits to be written.
pub enum Waiting {
    /// A decision.
    Decision(Box<Decision>),
    /// Packets that stayed unheard.
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

/// An entry as a file keeps it.
pub(crate) struct Row {
    pub(crate) id: [u8; 16],
    pub(crate) outcome: i64,
    pub(crate) search: String,
    pub(crate) stored: Vec<u8>,
    /// What it counts as; none for what stayed unheard, which is counted in itself.
    pub(crate) count: Option<CountKey>,
    pub(crate) newest: Vec<Newest>,
    pub(crate) entry: Entry,
}

/// What the writer falls over, for a test.
#[cfg(test)]
const DEFECT: i64 = -1;

/// The journal as its writer knows it.
pub(crate) struct Decisions {
    pub(crate) node: NodeFile,
    /// Whether machines could not be remembered the last time, which is told once.
    pub(crate) node_failed: bool,
    /// Machines that are remembered with what is written next.
    pub(crate) seen: Vec<SeenMachine>,
    pub(crate) committed: broadcast::Sender<Arc<Entry>>,
    pub(crate) scribe: fn(Waiting) -> Row,
}

impl Book for Decisions {
    type Waiting = Waiting;
    type File = Segment;
    const NAME: &str = "journal";
    const GATHER: Duration = Duration::from_millis(20);

    fn write_down(&mut self, mut waiting: Waiting) -> Row {
        self.seen.extend(waiting.take_machine());
        (self.scribe)(waiting)
    }

    fn commit(&mut self, files: &mut Files<Segment>, rows: &[Row]) -> Result<(), JournalError> {
        // Whoever is not remembered proves itself again: nobody is kept out by that.
        let kept = self.node.keep(&self.seen);
        if let (Err(error), false) = (&kept, self.node_failed) {
            tracing::error!("machines that proved themselves cannot be remembered: {error}");
        }
        self.node_failed = kept.is_err();
        files.commit(rows)?;
        self.seen.clear();
        Ok(())
    }

    fn written(&mut self, rows: Vec<Row>) {
        #[cfg(test)]
        assert!(rows.iter().all(|row| row.outcome != DEFECT), "a defect of the writer, for a test");
        if self.committed.receiver_count() > 0 {
            for row in rows {
                // Nobody listens any more: nothing is lost by that.
                let _ = self.committed.send(Arc::new(row.entry));
            }
        }
    }
}

/// Turns what waits into what is kept.
pub(crate) fn write_down(waiting: Waiting) -> Row {
    match waiting {
        Waiting::Decision(decision) => {
            let edition = decision.edition.clone();
            let evidence = Box::new(Evidence::new(*decision));
            let nas = evidence.nas();
            Row {
                id: evidence.id.to_bytes(),
                outcome: evidence.ending.kind() as i64,
                search: search(&Record::brief(&evidence, &*edition).sentence()),
                stored: evidence.to_bytes(),
                count: Some(count_key(&evidence, &nas)),
                newest: newest(&evidence, &nas),
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
        Waiting::Defect => Row { outcome: DEFECT, ..write_down(Waiting::Unheard(crate::tests::unheard())) },
    }
}

pub(crate) fn search(sentence: &[Fragment]) -> String {
    sentence.iter().map(|fragment| fragment.text.as_str()).collect::<String>().to_lowercase()
}
