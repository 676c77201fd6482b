//! Drafts of the policy, one of each author: they decide nothing, and leave no entry in the log.

use regnant_policy::PolicyFiles;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use crate::command::Conflict;
use crate::database::Records;
use crate::database::editions::{included, json};
use crate::error::RecordsError;

/// A policy that somebody writes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DraftRow {
    /// Who.
    pub author: String,
    /// Its files.
    pub files: PolicyFiles,
    /// The edition that it was made from.
    pub made_from: u32,
    /// Milliseconds since 1970 (UTC).
    pub changed_at: u64,
    /// How often it was written, from 1.
    pub version: u64,
}

impl DraftRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            author: row.get(0)?,
            files: PolicyFiles { main: row.get(1)?, included: included(row, 2)? },
            made_from: row.get(3)?,
            changed_at: row.get::<_, i64>(4)?.unsigned_abs(),
            version: row.get::<_, i64>(5)?.unsigned_abs(),
        })
    }
}

impl Records {
    /// The draft of an author.
    pub fn draft(&self, author: &str) -> Result<Option<DraftRow>, RecordsError> {
        find(&self.reader(), author)
    }
}

pub(crate) fn find(db: &Connection, author: &str) -> Result<Option<DraftRow>, RecordsError> {
    let sql = "SELECT author, source, included, made_from, changed_at, version FROM draft WHERE author = ?1";
    Ok(db.query_row(sql, [author], DraftRow::read).optional()?)
}

/// Writes the draft of an author under its next version, where it still has the one that was seen; 0: there was none.
pub(crate) fn put(db: &Connection, draft: &DraftRow) -> Result<(), RecordsError> {
    let values = params![
        draft.author,
        draft.files.main,
        json(&draft.files.included),
        draft.made_from,
        draft.changed_at.cast_signed(),
        draft.version.cast_signed()
    ];
    let sql = match draft.version {
        0 => {
            "INSERT INTO draft (author, source, included, made_from, changed_at, version)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6 + 1) ON CONFLICT (author) DO NOTHING"
        }
        _ => {
            "UPDATE draft SET source = ?2, included = ?3, made_from = ?4, changed_at = ?5, version = version + 1
             WHERE author = ?1 AND version = ?6"
        }
    };
    match db.execute(sql, values)? {
        0 => Err(Conflict::Draft.into()),
        _ => Ok(()),
    }
}

/// Forgets the draft of an author, where a version is said only that; whether there was one.
pub(crate) fn remove(db: &Connection, author: &str, seen: Option<u64>) -> Result<bool, RecordsError> {
    let sql = "DELETE FROM draft WHERE author = ?1 AND (?2 IS NULL OR version = ?2)";
    Ok(db.execute(sql, params![author, seen.map(u64::cast_signed)])? > 0)
}
