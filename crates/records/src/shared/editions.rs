use rusqlite::{OptionalExtension, Row};

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
}

impl EditionRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            number: row.get(0)?,
            source: row.get(1)?,
            state: row.get(2)?,
            created_at: row.get::<_, i64>(3)?.unsigned_abs(),
            created_by: row.get(4)?,
        })
    }
}

impl Records {
    /// The edition that decides, where there is one.
    pub fn active_edition(&self) -> Result<Option<EditionRow>, RecordsError> {
        let sql = "SELECT number, source, state, created_at, created_by FROM edition WHERE state = 'active'";
        Ok(self.lock().query_row(sql, [], EditionRow::read).optional()?)
    }

    /// Every edition, newest first.
    pub fn editions(&self) -> Result<Vec<EditionRow>, RecordsError> {
        self.rows(
            "SELECT number, source, state, created_at, created_by FROM edition ORDER BY number DESC",
            EditionRow::read,
        )
    }

    /// The number that the next edition gets.
    pub fn next_edition(&self) -> Result<u32, RecordsError> {
        Ok(self.lock().query_row("SELECT coalesce(max(number), 0) + 1 FROM edition", [], |row| row.get(0))?)
    }
}

impl Change {
    /// Retires the active edition and makes this text the active one.
    pub fn activate_edition(number: u32, source: &str, at: u64, by: &str) -> Self {
        let mut change = Self::default();
        change.add("UPDATE edition SET state = 'retired' WHERE state = 'active'", []);
        change.add(
            "INSERT INTO edition (number, source, state, created_at, created_by) VALUES (?1, ?2, 'active', ?3, ?4)",
            [number.into(), source.to_owned().into(), (at as i64).into(), by.to_owned().into()],
        );
        change
    }
}
