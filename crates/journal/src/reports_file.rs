//! One file of accounting. It stands alone, as those of decisions do.

use std::path::Path;

use rusqlite::Connection;

use crate::accounting::ReportRow;
use crate::database;
use crate::error::JournalError;
use crate::files::BookFile;
use crate::recent::{EventKey, Recent};

/// The form of a file that this release writes.
pub(crate) const VERSION: i64 = 1;

const SCHEMA: &str = include_str!("reports.sql");

/// A file that is written.
pub(crate) struct ReportsFile {
    connection: Connection,
}

impl BookFile for ReportsFile {
    type Row = ReportRow;

    fn open(path: &Path) -> Result<Self, JournalError> {
        Ok(Self { connection: database::open(path, VERSION, SCHEMA)? })
    }

    fn bytes(&self) -> u64 {
        database::bytes(&self.connection)
    }

    /// What is known already is not written again.
    fn commit(&mut self, rows: &[ReportRow]) -> rusqlite::Result<()> {
        let transaction = self.connection.transaction()?;
        {
            let mut insert = transaction.prepare_cached(
                "INSERT INTO report (id, event, happened, decision, search, record) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            )?;
            for row in rows.iter().filter(|row| !row.is_known) {
                insert.execute((
                    row.record.id.to_bytes(),
                    row.event,
                    row.happened.cast_signed(),
                    row.record.decision.map(|found| found.id().to_bytes()),
                    &row.search,
                    &row.stored,
                ))?;
            }
        }
        transaction.commit()
    }
}

/// Notes what a file has of the time since `from`, in milliseconds since 1970.
pub(crate) fn note_recent(file: &Connection, from: u64, recent: &mut Recent) -> rusqlite::Result<()> {
    let mut statement = file.prepare(
        "SELECT event, happened FROM (SELECT id, event, happened FROM report WHERE id >= ?1 ORDER BY id DESC LIMIT ?2)
         ORDER BY id",
    )?;
    let first = ulid::Ulid::from_parts(from, 0).to_bytes();
    let rows = statement.query_map((first, Recent::MOST as i64), |row| {
        Ok((row.get::<_, EventKey>(0)?, row.get::<_, i64>(1)?.cast_unsigned()))
    })?;
    for row in rows {
        let (event, happened) = row?;
        recent.note(event, happened);
    }
    Ok(())
}
