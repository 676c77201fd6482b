use rusqlite::{OptionalExtension, Row};
use sha2::{Digest, Sha256};

use crate::error::RecordsError;
use crate::shared::{Change, Reading, Records};

/// One numbered version of the policy.
#[derive(Clone, Debug)]
pub struct EditionRow {
    /// Its number, from 1.
    pub number: u32,
    /// The text of `main.writ`.
    pub source: String,
    /// `draft`, `active` or `retired`.
    pub state: String,
    /// Milliseconds since 1970 (UTC).
    pub created_at: u64,
    /// The administrator, or `regnant` for the first.
    pub created_by: String,
    /// The hash of what it was checked with; none in editions of an early release.
    pub basis: Option<Vec<u8>>,
}

/// What an edition was checked with: files of dictionaries and dialects, each with its
/// name and its text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Basis {
    /// What there is to be known of attributes.
    pub dictionaries: Vec<(String, String)>,
    /// How equipment is told.
    pub dialects: Vec<(String, String)>,
}

impl Basis {
    /// SHA-256 over all of it.
    pub fn hash(&self) -> [u8; 32] {
        let mut digest = Sha256::new();
        for list in [&self.dictionaries, &self.dialects] {
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
            source: row.get(1)?,
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
        let sql = "SELECT number, source, state, created_at, created_by, basis FROM edition WHERE state = 'active'";
        Ok(self.lock().query_row(sql, [], EditionRow::read).optional()?)
    }

    /// An edition, and what it was checked with, where that is known.
    pub fn edition(&self, number: u32) -> Result<Option<(EditionRow, Option<Basis>)>, RecordsError> {
        let sql = "SELECT number, source, state, created_at, created_by, basis FROM edition WHERE number = ?1";
        let row = self.lock().query_row(sql, [number], EditionRow::read).optional()?;
        let Some(row) = row else { return Ok(None) };
        let basis = row.basis.as_deref().map(|hash| self.basis(hash)).transpose()?.flatten();
        Ok(Some((row, basis)))
    }

    fn basis(&self, hash: &[u8]) -> Result<Option<Basis>, RecordsError> {
        let sql = "SELECT dictionaries, dialects FROM basis WHERE hash = ?1";
        let texts = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?));
        let Some((dictionaries, dialects)) = self.lock().query_row(sql, [hash], texts).optional()? else {
            return Ok(None);
        };
        let damaged = |error: serde_json::Error| RecordsError::Damaged(format!("the basis of an edition: {error}"));
        let read = |text: &str| serde_json::from_str(text).map_err(damaged);
        Ok(Some(Basis { dictionaries: read(&dictionaries)?, dialects: read(&dialects)? }))
    }

    /// Every edition, newest first.
    pub fn editions(&self) -> Result<Vec<EditionRow>, RecordsError> {
        self.rows(
            "SELECT number, source, state, created_at, created_by, basis FROM edition ORDER BY number DESC",
            EditionRow::read,
        )
    }

    /// The number that the next edition gets.
    pub fn next_edition(&self) -> Result<u32, RecordsError> {
        Ok(self.lock().query_row("SELECT coalesce(max(number), 0) + 1 FROM edition", [], |row| row.get(0))?)
    }
}

impl Change {
    /// Retires the active edition and makes this text the active one, checked with this
    /// basis.
    pub fn activate_edition(number: u32, source: &str, basis: &Basis, at: u64, by: &str) -> Self {
        let mut change = Self::default();
        let json = |list| serde_json::to_string(list).expect("texts are JSON");
        change.add(
            "INSERT INTO basis (hash, dictionaries, dialects) VALUES (?1, ?2, ?3) ON CONFLICT (hash) DO NOTHING",
            [basis.hash().to_vec().into(), json(&basis.dictionaries).into(), json(&basis.dialects).into()],
        );
        change.add("UPDATE edition SET state = 'retired' WHERE state = 'active'", []);
        change.add(
            "INSERT INTO edition (number, source, state, created_at, created_by, basis)
             VALUES (?1, ?2, 'active', ?3, ?4, ?5)",
            [
                number.into(),
                source.to_owned().into(),
                (at as i64).into(),
                by.to_owned().into(),
                basis.hash().to_vec().into(),
            ],
        );
        change
    }
}
