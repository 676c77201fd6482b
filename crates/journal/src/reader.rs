use std::collections::HashSet;
use std::path::Path;

use regnant_decision::EntryKind;
use regnant_evidence::{Evidence, UnheardRecord};
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row};
use ulid::Ulid;

use crate::Entry;
use crate::counts::{Count, NewestKind};
use crate::error::JournalError;
use crate::folder::{FileName, Folder};
use crate::segment::Segment;

/// The reading end of the journal, on connections of its own.
pub struct JournalReader {
    folder: Folder,
}

/// Which entries are wanted.
#[derive(Clone, Debug, Default)]
pub struct EntryFilter {
    /// Only entries older than this one.
    pub before: Option<String>,
    /// Only these.
    pub kind: Option<EntryKind>,
    /// Only sentences that hold every one of these words.
    pub text: Option<String>,
    /// At most this many, newest first.
    pub limit: usize,
}

impl JournalReader {
    /// Opens the folder that [`crate::Journal::open`] made.
    pub fn open(folder: &Path) -> Result<Self, JournalError> {
        Ok(Self { folder: Folder::open(folder)? })
    }

    /// The entries that a filter lets through, newest first. A file that cannot be read
    /// is told in the log and left out.
    pub fn entries(&self, filter: &EntryFilter) -> Result<Vec<Entry>, JournalError> {
        let (sql, parameters) = filter.query();
        let mut found: Vec<(Ulid, Entry)> = Vec::new();
        self.each_file(|file| {
            let mut statement = file.prepare(&sql)?;
            let rows = statement.query_map(rusqlite::params_from_iter(&parameters), read)?;
            for row in rows {
                let (id, entry) = row?;
                // What stayed unheard for long is in the file of each day; the newest counts.
                if !found.iter().any(|(known, _)| *known == id) {
                    found.push((id, entry));
                }
            }
            found.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
            found.truncate(filter.limit);
            let begun: i64 = file.query_row("SELECT begun FROM file", [], |row| row.get(0))?;
            let last = found.get(filter.limit.saturating_sub(1));
            // Whatever an older file holds was there before this one began.
            Ok(last.is_some_and(|(id, _)| id.timestamp_ms() >= begun.cast_unsigned()))
        })?;
        Ok(found.into_iter().map(|(_, entry)| entry).collect())
    }

    /// One entry by its id.
    pub fn entry(&self, id: &str) -> Result<Option<Entry>, JournalError> {
        let Ok(id) = Ulid::from_string(id) else { return Ok(None) };
        let mut found = None;
        self.each_file(|file| {
            let sql = "SELECT id, outcome, evidence FROM entry WHERE id = ?1";
            found = file.prepare(sql)?.query_row([id.to_bytes()], read).optional()?.map(|(_, entry)| entry);
            Ok(found.is_some())
        })?;
        Ok(found)
    }

    /// The newest entry of somebody, or of something, by its name.
    pub fn newest(&self, kind: NewestKind, name: &str) -> Result<Option<Ulid>, JournalError> {
        let mut found = None;
        self.each_file(|file| {
            let sql = "SELECT id FROM newest WHERE kind = ?1 AND name = ?2";
            let row = file.prepare(sql)?.query_row((kind as i64, name), |row| row.get::<_, [u8; 16]>(0)).optional()?;
            found = row.map(Ulid::from_bytes);
            Ok(found.is_some())
        })?;
        Ok(found)
    }

    /// What was counted from one hour on, until another and not with it.
    pub fn counts(&self, from: i64, until: i64) -> Result<Vec<Count>, JournalError> {
        let mut all = Vec::new();
        self.each_file(|file| {
            let mut statement = file.prepare(
                "SELECT hour, edition, gate, rule, grants, outcome, cause, nas, number FROM tally
                 WHERE hour >= ?1 AND hour < ?2",
            )?;
            for row in statement.query_map([from, until], count)? {
                all.extend(row?);
            }
            let begun: i64 = file.query_row("SELECT begun FROM file", [], |row| row.get(0))?;
            Ok(begun / 3_600_000 < from)
        })?;
        Ok(all)
    }

    /// Looks into files from the newest on, until one says that it is enough.
    fn each_file(&self, mut look: impl FnMut(&Connection) -> rusqlite::Result<bool>) -> Result<(), JournalError> {
        let mut told = HashSet::new();
        for name in self.folder.files()?.into_iter().rev() {
            match Segment::open_to_read(&self.folder.path(name)).and_then(|file| Ok(look(&file)?)) {
                Ok(true) => break,
                Ok(false) => {}
                Err(error) => self.tell_once(name, &error, &mut told),
            }
        }
        Ok(())
    }

    fn tell_once(&self, name: FileName, error: &JournalError, told: &mut HashSet<FileName>) {
        if self.folder.path(name).exists() && told.insert(name) {
            tracing::warn!("the journal's file {} cannot be read: {error}", self.folder.path(name).display());
        }
    }
}

impl EntryFilter {
    fn query(&self) -> (String, Vec<Value>) {
        let before = self.before.as_deref().and_then(|id| Ulid::from_string(id).ok()).unwrap_or(Ulid::max());
        let mut parameters: Vec<Value> = vec![before.to_bytes().to_vec().into()];
        let mut conditions = String::from("id < ?1");
        for word in self.text.iter().flat_map(|text| text.split_whitespace()) {
            parameters.push(word.to_lowercase().into());
            conditions.push_str(&format!(" AND instr(search, ?{}) > 0", parameters.len()));
        }
        if let Some(kind) = self.kind {
            parameters.push((kind as i64).into());
            conditions.push_str(&format!(" AND outcome = ?{}", parameters.len()));
        }
        let limit = self.limit;
        (
            format!("SELECT id, outcome, evidence FROM entry WHERE {conditions} ORDER BY id DESC LIMIT {limit}"),
            parameters,
        )
    }
}

fn read(row: &Row<'_>) -> rusqlite::Result<(Ulid, Entry)> {
    let id = Ulid::from_bytes(row.get(0)?);
    let stored: Vec<u8> = row.get(2)?;
    let entry = match row.get::<_, i64>(1)? == EntryKind::Unheard as i64 {
        true => UnheardRecord::from_bytes(id, &stored).map(Entry::Unheard),
        false => Evidence::from_bytes(id, &stored).map(|evidence| Entry::Decision(Box::new(evidence))),
    };
    Ok((id, entry.unwrap_or_else(|why| Entry::Unreadable { id, why })))
}

fn count(row: &Row<'_>) -> rusqlite::Result<Option<Count>> {
    let place = |place: i64| u32::try_from(place).ok();
    let outcome: i64 = row.get(5)?;
    let Some(kind) = EntryKind::ALL.iter().map(|(_, kind)| *kind).find(|kind| *kind as i64 == outcome) else {
        return Ok(None);
    };
    Ok(Some(Count {
        hour: row.get(0)?,
        edition: row.get(1)?,
        gate: place(row.get(2)?),
        rule: place(row.get(3)?),
        grants: place(row.get(4)?),
        kind,
        cause: row.get(6)?,
        nas: Some(row.get::<_, String>(7)?).filter(|name| !name.is_empty()),
        number: row.get::<_, i64>(8)?.cast_unsigned(),
    }))
}
