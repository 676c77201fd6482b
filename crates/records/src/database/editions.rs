use std::collections::BTreeMap;

use regnant_policy::PolicyFiles;
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::command::{BasisOf, Missing};
use crate::database::Records;
use crate::error::RecordsError;

/// One numbered version of the policy.
#[derive(Clone, Debug)]
pub struct EditionRow {
    /// Its number, from 1.
    pub number: u32,
    /// Its files.
    pub files: PolicyFiles,
    /// Why it was made.
    pub note: String,
    /// The edition that it was made from, where that is known.
    pub made_from: Option<u32>,
    /// `active` or `retired`.
    pub state: String,
    /// Milliseconds since 1970 (UTC).
    pub created_at: u64,
    /// The administrator, or `regnant` for the first.
    pub created_by: String,
    /// The hash of what it was checked with.
    pub basis: [u8; 32],
}

/// What an edition was checked with: files of dictionaries and dialects, each with its
/// name and its text.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Basis {
    /// What there is to be known of attributes.
    pub dictionaries: Vec<(String, String)>,
    /// How equipment is told.
    pub dialects: Vec<(String, String)>,
    /// What is kept of identities, each by its name.
    pub attributes: Vec<(String, String)>,
}

impl Basis {
    /// SHA-256 over all of it.
    pub fn hash(&self) -> [u8; 32] {
        let mut digest = Sha256::new();
        for list in [&self.dictionaries, &self.dialects, &self.attributes] {
            digest.update((list.len() as u64).to_be_bytes());
            for part in list.iter().flat_map(|(file, text)| [file, text]) {
                digest.update((part.len() as u64).to_be_bytes());
                digest.update(part.as_bytes());
            }
        }
        digest.finalize().into()
    }
}

impl EditionRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            number: row.get(0)?,
            files: PolicyFiles { main: row.get(1)?, included: included(row, 6)? },
            note: row.get(7)?,
            made_from: row.get(8)?,
            state: row.get(2)?,
            created_at: row.get::<_, i64>(3)?.unsigned_abs(),
            created_by: row.get(4)?,
            basis: row.get(5)?,
        })
    }
}

impl Records {
    /// The edition that decides, where there is one.
    pub fn active_edition(&self) -> Result<Option<EditionRow>, RecordsError> {
        let sql = format!("SELECT {COLUMNS} FROM edition WHERE state = 'active'");
        Ok(self.reader().query_row(&sql, [], EditionRow::read).optional()?)
    }

    /// This basis as a command names it: by its hash where the records have it.
    pub fn basis_of(&self, basis: Basis) -> Result<BasisOf, RecordsError> {
        let hash = basis.hash();
        Ok(if has_basis(&self.reader(), &hash)? { BasisOf::Known(hash) } else { BasisOf::New(basis) })
    }

    /// The newest editions below a number, the newest first.
    pub fn editions(&self, below: u32, most: usize) -> Result<Vec<EditionRow>, RecordsError> {
        let sql = format!("SELECT {COLUMNS} FROM edition WHERE number < {below} ORDER BY number DESC LIMIT {most}");
        let db = self.reader();
        let mut statement = db.prepare(&sql)?;
        let rows = statement.query_map([], EditionRow::read)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }
}

/// An edition, and what it was checked with.
pub(crate) fn find(db: &Connection, number: u32) -> Result<Option<(EditionRow, Basis)>, RecordsError> {
    let sql = format!("SELECT {COLUMNS} FROM edition WHERE number = ?1");
    let Some(row) = db.query_row(&sql, [number], EditionRow::read).optional()? else { return Ok(None) };
    let sql = "SELECT dictionaries, dialects, attributes FROM basis WHERE hash = ?1";
    let texts = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?));
    let (dictionaries, dialects, attributes) = db.query_row(sql, [&row.basis], texts)?;
    let damaged = |error: serde_json::Error| RecordsError::Damaged(format!("the basis of an edition: {error}"));
    let read = |text: &str| serde_json::from_str(text).map_err(damaged);
    let (dictionaries, dialects) = (read(&dictionaries)?, read(&dialects)?);
    Ok(Some((row, Basis { dictionaries, dialects, attributes: read(&attributes)? })))
}

const COLUMNS: &str = "number, source, state, created_at, created_by, basis, included, note, made_from";

/// Texts by path, as a column has them.
pub(crate) fn included(row: &Row<'_>, column: usize) -> rusqlite::Result<BTreeMap<String, String>> {
    serde_json::from_str(row.get_ref(column)?.as_str()?)
        .map_err(|error| rusqlite::Error::FromSqlConversionFailure(column, Type::Text, error.into()))
}

/// Texts by path, for a column.
pub(crate) fn json(included: &BTreeMap<String, String>) -> String {
    serde_json::to_string(included).expect("texts are JSON")
}

/// What an edition is made of.
pub(crate) struct EditionText {
    pub(crate) source: String,
    /// Texts by path, in JSON.
    pub(crate) included: String,
    pub(crate) note: String,
    pub(crate) made_from: Option<u32>,
}

/// The number of the active edition; 0 where there is none.
pub(crate) fn active_number(db: &Connection) -> Result<u32, RecordsError> {
    let sql = "SELECT number FROM edition WHERE state = 'active'";
    Ok(db.query_row(sql, [], |row| row.get(0)).optional()?.unwrap_or(0))
}

pub(crate) fn has_basis(db: &Connection, hash: &[u8; 32]) -> Result<bool, RecordsError> {
    Ok(db.query_row("SELECT EXISTS (SELECT 1 FROM basis WHERE hash = ?1)", [hash], |row| row.get(0))?)
}

/// Keeps what editions are checked with, and gives its hash.
pub(crate) fn keep_basis(db: &Connection, basis: &Basis) -> Result<[u8; 32], RecordsError> {
    let (hash, json) = (basis.hash(), |list| serde_json::to_string(list).expect("texts are JSON"));
    let sql = "INSERT INTO basis (hash, dictionaries, dialects, attributes) VALUES (?1, ?2, ?3, ?4)
               ON CONFLICT (hash) DO NOTHING";
    db.execute(sql, params![hash, json(&basis.dictionaries), json(&basis.dialects), json(&basis.attributes)])?;
    Ok(hash)
}

/// Makes the text of the active edition a new one that was checked with this.
pub(crate) fn go_on(db: &Connection, basis: &[u8; 32], at: i64, by: &str) -> Result<u32, RecordsError> {
    let sql = "SELECT source, included, number FROM edition WHERE state = 'active'";
    let read = |row: &Row<'_>| {
        let note = "the same policy with other dictionaries, dialects or attributes".to_owned();
        Ok(EditionText { source: row.get(0)?, included: row.get(1)?, note, made_from: row.get(2)? })
    };
    let text = db.query_row(sql, [], read).optional()?;
    activate(db, &text.ok_or(Missing::Edition)?, basis, at, by)
}

/// Retires the active edition and makes this text the active one; gives its number.
pub(crate) fn activate(
    db: &Connection,
    text: &EditionText,
    basis: &[u8; 32],
    at: i64,
    by: &str,
) -> Result<u32, RecordsError> {
    let number = db.query_row("SELECT coalesce(max(number), 0) + 1 FROM edition", [], |row| row.get(0))?;
    db.execute("UPDATE edition SET state = 'retired' WHERE state = 'active'", [])?;
    let sql = "INSERT INTO edition (number, source, state, created_at, created_by, basis, included, note, made_from)
               VALUES (?1, ?2, 'active', ?3, ?4, ?5, ?6, ?7, ?8)";
    let EditionText { source, included, note, made_from } = text;
    db.execute(sql, params![number, source, at, by, basis, included, note, made_from])?;
    Ok(number)
}
