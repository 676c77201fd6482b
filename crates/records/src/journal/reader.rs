use std::path::Path;
use std::sync::{Mutex, PoisonError};

use regnant_access::SeenMachine;
use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row};
use ulid::Ulid;

use crate::error::RecordsError;
use crate::journal::Entry;
use crate::journal::machines::machines;
use crate::journal::writer::id_bytes;

/// The reading end of the journal, on a connection of its own.
pub struct JournalReader {
    connection: Mutex<Connection>,
}

/// Which entries are wanted.
#[derive(Clone, Debug, Default)]
pub struct EntryFilter {
    /// Only entries older than this one.
    pub before: Option<String>,
    /// Only this outcome: `granted`, `refused`, `silence`, `unfinished` or `unheard`.
    pub outcome: Option<String>,
    /// Only sentences that hold every one of these words.
    pub text: Option<String>,
    /// At most this many, newest first.
    pub limit: usize,
}

impl JournalReader {
    /// Opens the file that [`crate::Journal::open`] made.
    pub fn open(path: &Path) -> Result<Self, RecordsError> {
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        Ok(Self { connection: Mutex::new(connection) })
    }

    /// The entries that a filter lets through, newest first.
    pub fn entries(&self, filter: &EntryFilter) -> Result<Vec<Entry>, RecordsError> {
        let (sql, parameters) = filter.query();
        let connection = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let mut statement = connection.prepare_cached(&sql)?;
        let rows = statement.query_map(rusqlite::params_from_iter(parameters), read)?;
        rows.map(|row| parse(row?)).collect()
    }

    /// The machines that were remembered, the oldest first.
    pub fn machines(&self) -> Result<Vec<SeenMachine>, RecordsError> {
        machines(&self.connection.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// One entry by its id.
    pub fn entry(&self, id: &str) -> Result<Option<Entry>, RecordsError> {
        let sql = "SELECT 0, record FROM decision WHERE id = ?1 UNION ALL SELECT 1, record FROM unheard WHERE id = ?1";
        let connection = self.connection.lock().unwrap_or_else(PoisonError::into_inner);
        connection.prepare_cached(sql)?.query_row([id_bytes(id)], read).optional()?.map(parse).transpose()
    }
}

impl EntryFilter {
    fn query(&self) -> (String, Vec<Value>) {
        let before = self.before.as_deref().map_or(Ulid::max().to_bytes(), id_bytes);
        let mut parameters: Vec<Value> = vec![before.to_vec().into()];
        let mut conditions = String::from("id < ?1");
        for word in self.text.iter().flat_map(|text| text.split_whitespace()) {
            parameters.push(word.to_lowercase().into());
            conditions.push_str(&format!(" AND instr(search, ?{}) > 0", parameters.len()));
        }
        let mut parts = Vec::new();
        if self.outcome.as_deref() != Some("unheard") {
            let mut decision = format!("SELECT 0, record, id FROM decision WHERE {conditions}");
            if let Some(outcome) = &self.outcome {
                parameters.push(outcome.clone().into());
                decision.push_str(&format!(" AND verdict = ?{}", parameters.len()));
            }
            parts.push(decision);
        }
        if self.outcome.as_deref().is_none_or(|outcome| outcome == "unheard") {
            parts.push(format!("SELECT 1, record, id FROM unheard WHERE {conditions}"));
        }
        let sql = format!("{} ORDER BY id DESC LIMIT {}", parts.join(" UNION ALL "), self.limit);
        (sql, parameters)
    }
}

fn read(row: &Row<'_>) -> rusqlite::Result<(bool, String)> {
    Ok((row.get::<_, i64>(0)? == 1, row.get(1)?))
}

fn parse((unheard, text): (bool, String)) -> Result<Entry, RecordsError> {
    let damaged = |error: serde_json::Error| RecordsError::Damaged(format!("a journal entry does not read: {error}"));
    Ok(match unheard {
        true => Entry::Unheard(serde_json::from_str(&text).map_err(damaged)?),
        false => Entry::Decision(serde_json::from_str(&text).map_err(damaged)?),
    })
}
