//! One file of the journal. It stands alone: entries, and what is counted of them.

use std::collections::HashMap;
use std::path::Path;

use rusqlite::{Connection, Transaction};

use crate::counts::{CountKey, Newest, NewestKind};
use crate::database;
use crate::decisions::Row;
use crate::error::JournalError;
use crate::files::BookFile;

/// The form of a file that this release writes. Every form that was released stays
/// readable.
pub(crate) const VERSION: i64 = 1;
/// Rows of counts in one file. What comes when there are so many is counted without
/// its NAS.
const MOST_COUNTS: i64 = 100_000;
/// Names of which the newest entry is known, in one file.
const MOST_NEWEST: i64 = 300_000;

const SCHEMA: &str = include_str!("segment.sql");

/// A file that is written.
pub(crate) struct Segment {
    connection: Connection,
    counts: i64,
    newest: i64,
}

impl BookFile for Segment {
    type Row = Row;

    fn open(path: &Path) -> Result<Self, JournalError> {
        let connection = database::open(path, VERSION, SCHEMA)?;
        let count = |table| {
            let counted = connection.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0));
            counted.map_err(|error| JournalError::File { file: path.into(), error })
        };
        let (counts, newest) = (count("tally")?, count("newest")?);
        Ok(Self { connection, counts, newest })
    }

    fn bytes(&self) -> u64 {
        database::bytes(&self.connection)
    }

    /// With what is counted of them.
    fn commit(&mut self, rows: &[Row]) -> rusqlite::Result<()> {
        let (mut counted, mut newest) = (HashMap::<&CountKey, i64>::new(), HashMap::<&Newest, &Row>::new());
        for row in rows {
            row.count.iter().for_each(|key| *counted.entry(key).or_default() += 1);
            newest.extend(row.newest.iter().map(|of| (of, row)));
        }
        let transaction = self.connection.transaction()?;
        insert(&transaction, rows)?;
        let new_counts = add(&transaction, &counted, self.counts >= MOST_COUNTS)?;
        let new_names = note(&transaction, &newest, self.newest >= MOST_NEWEST)?;
        transaction.commit()?;
        self.counts += new_counts;
        self.newest += new_names;
        Ok(())
    }
}

fn insert(transaction: &Transaction<'_>, rows: &[Row]) -> rusqlite::Result<()> {
    let mut insert = transaction.prepare_cached(
        "INSERT INTO entry (id, outcome, search, evidence) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (id) DO UPDATE SET search = ?3, evidence = ?4",
    )?;
    for row in rows {
        insert.execute((row.id, row.outcome, &row.search, &row.stored))?;
    }
    Ok(())
}

/// Adds to the counts; tells how many rows are new.
fn add(transaction: &Transaction<'_>, counted: &HashMap<&CountKey, i64>, full: bool) -> rusqlite::Result<i64> {
    let mut more = transaction.prepare_cached(
        "UPDATE tally SET number = number + ?9 WHERE hour = ?1 AND edition = ?2 AND gate = ?3 AND rule = ?4
         AND grants = ?5 AND outcome = ?6 AND cause = ?7 AND nas = ?8",
    )?;
    let mut new = transaction.prepare_cached(
        "INSERT INTO tally (hour, edition, gate, rule, grants, outcome, cause, nas, number)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
    )?;
    let mut made = 0;
    for (key, number) in counted {
        let row = |nas| (key.hour, key.edition, key.gate, key.rule, key.grants, key.outcome, &key.cause, nas, *number);
        if more.execute(row(&key.nas))? > 0 {
            continue;
        }
        let nobody = String::new();
        if full && more.execute(row(&nobody))? > 0 {
            continue;
        }
        new.execute(row(if full { &nobody } else { &key.nas }))?;
        made += 1;
    }
    Ok(made)
}

/// Notes the newest entry of each name; tells how many names are new.
fn note(transaction: &Transaction<'_>, newest: &HashMap<&Newest, &Row>, full: bool) -> rusqlite::Result<i64> {
    let mut again = transaction.prepare_cached("UPDATE newest SET id = ?3 WHERE kind = ?1 AND name = ?2")?;
    let mut new = transaction.prepare_cached("INSERT INTO newest (kind, name, id) VALUES (?1, ?2, ?3)")?;
    let mut made = 0;
    for (of, row) in newest {
        let row = (of.kind as i64, &of.name, row.id);
        if again.execute(row)? == 0 && (!full || of.kind == NewestKind::Nas) {
            new.execute(row)?;
            made += 1;
        }
    }
    Ok(made)
}
