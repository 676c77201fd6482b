//! What equipment reports of the access that it gives: kept on the disk, and acknowledged
//! only then (RFC 2866 section 4.2).

use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use regnant_evidence::AccountingRecord;
use tokio::sync::broadcast;

use crate::database::open_to_read;
use crate::decisions::search;
use crate::error::JournalError;
use crate::folder::{Folder, Keep};
use crate::intake::{Handle, Intake, Slot};
use crate::recent::{EventKey, Recent};
use crate::reports_file::{ReportsFile, VERSION, note_recent};
use crate::writer::Book;
use crate::{Entry, Journal};

/// The writing end of accounting: a folder with a file for each day.
pub struct AccountingLog {
    intake: Intake<Reported>,
}

/// A report that waits to be kept, and what is done once it is.
pub struct Reported {
    record: Box<AccountingRecord>,
    event: EventKey,
    acknowledge: Acknowledge,
}

type Acknowledge = Box<dyn FnOnce() + Send>;

/// A report as a file keeps it.
pub(crate) struct ReportRow {
    pub(crate) event: EventKey,
    pub(crate) happened: u64,
    pub(crate) search: String,
    pub(crate) stored: Vec<u8>,
    pub(crate) record: Box<AccountingRecord>,
    /// Whether the event was reported before.
    pub(crate) is_known: bool,
    acknowledge: Acknowledge,
}

impl AccountingLog {
    /// Opens or makes the folder and starts the writer. At most `most` reports wait. Those
    /// who listen to the journal hear of reports too.
    pub fn open(folder: &Path, keep: Keep, most: usize, journal: &Journal) -> Result<Self, JournalError> {
        let folder = Folder::open(folder)?;
        let book = Reports { recent: recent(&folder)?, committed: journal.committed.clone() };
        Ok(Self { intake: Intake::open(folder, keep, most, book)? })
    }
}

/// It is handed in, looked after and closed as its intake is.
impl Deref for AccountingLog {
    type Target = Intake<Reported>;

    fn deref(&self) -> &Intake<Reported> {
        &self.intake
    }
}

/// Where a receiving thread hands reports in.
pub type AccountingHandle = Handle<Reported>;

/// A place for one report.
pub type AccountingSlot = Slot<Reported>;

impl Slot<Reported> {
    /// Hands in a report, with what its event is known again by. `acknowledge` is called once it is on the disk, and
    /// never before.
    pub fn report(self, record: AccountingRecord, event: EventKey, acknowledge: impl FnOnce() + Send + 'static) {
        self.fill(Reported { record: Box::new(record), event, acknowledge: Box::new(acknowledge) });
    }
}

/// Events of before a restart. Files that cannot be read are told of by the writer.
fn recent(folder: &Folder) -> Result<Recent, JournalError> {
    let mut recent = Recent::new();
    let now = u64::try_from(Timestamp::now().as_millisecond()).unwrap_or(0);
    let mut newest = folder.files()?;
    // The last one may have begun a moment ago.
    for name in newest.split_off(newest.len().saturating_sub(2)) {
        let path = folder.path(name);
        let noted = open_to_read(&path, VERSION)
            .and_then(|file| Ok(note_recent(&file, now.saturating_sub(Recent::SPAN), &mut recent)?));
        if let Err(error) = noted {
            tracing::warn!("{error}: reports in it that are sent again may be kept twice");
        }
    }
    Ok(recent)
}

/// Accounting as its writer knows it.
struct Reports {
    recent: Recent,
    committed: broadcast::Sender<Arc<Entry>>,
}

impl Book for Reports {
    type Waiting = Reported;
    type File = ReportsFile;
    const NAME: &str = "accounting";
    /// Equipment waits for it.
    const GATHER: Duration = Duration::from_millis(4);

    fn write_down(&mut self, Reported { record, event, acknowledge }: Reported) -> ReportRow {
        let happened = record.happened();
        ReportRow {
            event,
            happened,
            search: search(&record.sentence()),
            stored: record.to_bytes(),
            // Last: a defect above must not make an event known that is not kept.
            is_known: self.recent.note(event, happened),
            record,
            acknowledge,
        }
    }

    fn written(&mut self, rows: Vec<ReportRow>) {
        let listened = self.committed.receiver_count() > 0;
        for row in rows {
            (row.acknowledge)();
            if listened && !row.is_known {
                // Nobody listens any more: nothing is lost by that.
                let _ = self.committed.send(Arc::new(Entry::Accounting(row.record)));
            }
        }
    }
}
