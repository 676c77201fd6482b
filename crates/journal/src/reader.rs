use std::collections::HashMap;
use std::path::Path;
use std::time::{Duration, Instant};

use regnant_base::{Mac, given_up};
use regnant_decision::EntryKind;
use regnant_evidence::{AccountingRecord, Evidence, UnheardRecord};
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row};
use ulid::Ulid;

use crate::Entry;
use crate::counts::{Count, NewestKind};
use crate::database::open_to_read;
use crate::error::JournalError;
use crate::folder::{FileName, Folder};
use crate::{reports_file, segment};

/// The reading end of the journal and of accounting, on connections of its own.
pub struct JournalReader {
    journal: Folder,
    accounting: Folder,
}

/// Which entries are wanted.
#[derive(Clone, Debug, Default)]
pub struct EntryFilter {
    /// Only entries older than this one.
    pub before: Option<String>,
    /// Only of these kinds; of all where there is none.
    pub kinds: Vec<EntryKind>,
    /// Only sentences that hold every one of these words.
    pub text: Option<String>,
    /// At most this many, newest first.
    pub limit: usize,
    /// How long is looked at most; as long as it takes where it is not said.
    pub patience: Option<Duration>,
}

/// Entries that are found, each with its id, the newest first.
type Found = Vec<(Ulid, Entry)>;

/// How long after its day a file may still get what happened in it.
const SLACK: i64 = 3_600_000;

/// Steps of the database between two looks at the clock.
const STEPS: i32 = 20_000;
/// Reports on one decision that are told of.
const MOST_REPORTS: usize = 200;

impl JournalReader {
    /// Opens the folders that [`crate::Journal::open`] and [`crate::AccountingLog::open`] made.
    pub fn open(journal: &Path, accounting: &Path) -> Result<Self, JournalError> {
        Ok(Self { journal: Folder::open(journal)?, accounting: Folder::open(accounting)? })
    }

    /// The entries that a filter lets through, newest first. A file that cannot be read
    /// is told in the log and left out.
    pub fn entries(&self, filter: &EntryFilter) -> Result<Vec<Entry>, JournalError> {
        let (mut found, until) = (Found::new(), filter.patience.map(|patience| Instant::now() + patience));
        let wants = |accounting| {
            filter.kinds.is_empty() || filter.kinds.iter().any(|kind| (*kind == EntryKind::Accounting) == accounting)
        };
        if wants(false) {
            found = newest_in(&self.journal, segment::VERSION, (filter, until), ENTRY, read)?;
        }
        if wants(true) {
            let reports = newest_in(&self.accounting, reports_file::VERSION, (filter, until), REPORT, read_report)?;
            found = merged(found, reports);
        }
        found.truncate(filter.limit);
        Ok(found.into_iter().map(|(_, entry)| entry).collect())
    }

    /// One entry by its id.
    pub fn entry(&self, id: &str) -> Result<Option<Entry>, JournalError> {
        let Ok(id) = Ulid::from_string(id) else { return Ok(None) };
        let mut found = None;
        // Most of the time it is in a file of its day; not where the clock jumped between the two.
        for since in [Some(id.timestamp_ms()), None] {
            each_file_since(&self.journal, segment::VERSION, since, |_, file| {
                let sql = "SELECT id, outcome, evidence FROM entry WHERE id = ?1";
                found = file.prepare(sql)?.query_row([id.to_bytes()], read).optional()?.map(|(_, entry)| entry);
                Ok(found.is_some())
            })?;
            if found.is_none() {
                each_file_since(&self.accounting, reports_file::VERSION, since, |_, file| {
                    let sql = "SELECT id, record FROM report WHERE id = ?1";
                    found = file.prepare(sql)?.query_row([id.to_bytes()], read_report).optional()?.map(|(_, one)| one);
                    Ok(found.is_some())
                })?;
            }
            if found.is_some() {
                break;
            }
        }
        Ok(found)
    }

    /// The reports on the access that a decision gave, the oldest first; of very many the
    /// newest.
    pub fn reports(&self, decision: Ulid) -> Result<Vec<Entry>, JournalError> {
        let mut found = Found::new();
        // Nothing is reported of it before it was made.
        each_file_since(&self.accounting, reports_file::VERSION, Some(decision.timestamp_ms()), |_, file| {
            let sql =
                format!("SELECT id, record FROM report WHERE decision = ?1 ORDER BY id DESC LIMIT {MOST_REPORTS}");
            let mut statement = file.prepare(&sql)?;
            for row in statement.query_map([decision.to_bytes()], read_report)? {
                found.push(row?);
            }
            Ok(found.len() >= MOST_REPORTS)
        })?;
        found.truncate(MOST_REPORTS);
        Ok(found.into_iter().rev().map(|(_, entry)| entry).collect())
    }

    /// The newest entry of somebody, or of something, by its name.
    pub fn newest(&self, kind: NewestKind, name: &str) -> Result<Option<Ulid>, JournalError> {
        let mut found = None;
        each_file(&self.journal, segment::VERSION, |file| {
            let sql = "SELECT id FROM newest WHERE kind = ?1 AND name = ?2";
            let row = file.prepare(sql)?.query_row((kind as i64, name), |row| row.get::<_, [u8; 16]>(0)).optional()?;
            found = row.map(Ulid::from_bytes);
            Ok(found.is_some())
        })?;
        Ok(found)
    }

    /// The newest entry of each of these names, where there is one.
    pub fn newest_among(&self, kind: NewestKind, names: &[String]) -> Result<HashMap<String, Ulid>, JournalError> {
        let mut found = HashMap::new();
        each_file(&self.journal, segment::VERSION, |file| {
            let mut statement = file.prepare("SELECT id FROM newest WHERE kind = ?1 AND name = ?2")?;
            for name in names {
                // The newest file comes first.
                if !found.contains_key(name)
                    && let Some(id) = statement.query_row((kind as i64, name), |row| row.get(0)).optional()?
                {
                    found.insert(name.clone(), Ulid::from_bytes(id));
                }
            }
            Ok(found.len() == names.len())
        })?;
        Ok(found)
    }

    /// The first entry of a device that is kept, where there is one: that of its first day at
    /// least, where no sentence of that day names its address.
    pub fn first_of_device(&self, mac: Mac) -> Result<Option<Ulid>, JournalError> {
        let name = mac.to_string();
        let mut first = None;
        each_file(&self.journal, segment::VERSION, |file| {
            let known = "SELECT id FROM newest WHERE kind = ?1 AND name = ?2";
            let last = file.query_row(known, (NewestKind::Device as i64, &name), |row| row.get(0)).optional()?;
            if let Some(last) = last {
                // In the order of ids, so that it ends at the first.
                let sql = "SELECT id FROM entry WHERE instr(search, ?1) > 0 ORDER BY id LIMIT 1";
                let id = file.query_row(sql, [&name], |row| row.get(0)).optional()?;
                first = Some(Ulid::from_bytes(id.unwrap_or(last)));
            }
            Ok(false)
        })?;
        Ok(first)
    }

    /// The newest entry of everybody of a kind, by name.
    pub fn newest_of(&self, kind: NewestKind) -> Result<HashMap<String, Ulid>, JournalError> {
        let mut all = HashMap::new();
        each_file(&self.journal, segment::VERSION, |file| {
            let mut statement = file.prepare("SELECT name, id FROM newest WHERE kind = ?1")?;
            let rows =
                statement.query_map([kind as i64], |row| Ok((row.get::<_, String>(0)?, row.get::<_, [u8; 16]>(1)?)))?;
            for row in rows {
                let (name, id) = row?;
                // The newest file comes first.
                all.entry(name).or_insert(Ulid::from_bytes(id));
            }
            Ok(false)
        })?;
        Ok(all)
    }

    /// What was counted from one hour on, until another and not with it.
    pub fn counts(&self, from: i64, until: i64) -> Result<Vec<Count>, JournalError> {
        let (mut all, since) = (Vec::new(), u64::try_from(from.saturating_mul(3_600_000)).ok());
        each_file_since(&self.journal, segment::VERSION, since, |_, file| {
            let mut statement = file.prepare(
                "SELECT hour, edition, gate, rule, grants, outcome, cause, nas, number FROM tally
                 WHERE hour >= ?1 AND hour < ?2",
            )?;
            for row in statement.query_map([from, until], count)? {
                all.extend(row?);
            }
            Ok(false)
        })?;
        Ok(all)
    }
}

/// Looks into files from the newest on, until one says that it is enough.
fn each_file(
    folder: &Folder,
    form: i64,
    mut look: impl FnMut(&Connection) -> rusqlite::Result<bool>,
) -> Result<(), JournalError> {
    each_file_since(folder, form, None, |_, file| look(file))
}

/// The same of files whose day was not over then, in milliseconds since 1970. One says nothing of another: the clock
/// may have jumped between them.
fn each_file_since(
    folder: &Folder,
    form: i64,
    since: Option<u64>,
    mut look: impl FnMut(FileName, &Connection) -> rusqlite::Result<bool>,
) -> Result<(), JournalError> {
    let is_over = |name: FileName| {
        since.zip(name.over()).is_some_and(|(since, over)| over.saturating_add(SLACK) < since.cast_signed())
    };
    for name in folder.files()?.into_iter().rev().filter(|name| !is_over(*name)) {
        let path = folder.path(name);
        match open_to_read(&path, form).and_then(|file| Ok(look(name, &file)?)) {
            Ok(true) => break,
            Ok(false) => {}
            Err(error) if path.exists() => {
                tracing::warn!("{} cannot be read: {error}", path.display());
            }
            Err(_) => {}
        }
    }
    Ok(())
}

/// The newest entries of a folder that a filter lets through: file after file, and in each by their times.
fn newest_in(
    folder: &Folder,
    form: i64,
    (filter, until): (&EntryFilter, Option<Instant>),
    table: Table,
    read: fn(&Row<'_>) -> rusqlite::Result<(Ulid, Entry)>,
) -> Result<Found, JournalError> {
    let after = filter.before.as_deref().and_then(|id| Ulid::from_string(id).ok());
    let mut before = match after {
        Some(id) => Before::find(folder, form, table, id)?,
        None => Before::Nothing,
    };
    let mut found = Found::new();
    let is_late = move || until.is_some_and(|until| Instant::now() > until) || given_up().is_some();
    each_file_since(folder, form, None, |name, file| {
        if is_late() {
            return Ok(true);
        }
        let Some(bound) = before.within(file, table)? else { return Ok(false) };
        let (sql, parameters) = filter.query(table, bound);
        file.progress_handler(STEPS, Some(is_late))?;
        let mut statement = file.prepare(&sql)?;
        let rows = statement.query_map(rusqlite::params_from_iter(&parameters), read)?;
        for row in rows {
            let (id, entry) = row?;
            // What stayed unheard for long is in the file of each day; the newest counts, which may be of an earlier page.
            let again = matches!(entry, Entry::Unheard(_)) && after.is_some_and(|after| id >= after);
            let was_on_a_page = || again && is_after(folder, form, table, (name, id));
            if !found.iter().any(|(known, _)| *known == id) && !was_on_a_page() {
                found.push((id, entry));
            }
        }
        found.truncate(filter.limit);
        Ok(found.len() >= filter.limit)
    })?;
    // What was found is not all that there is, nor the newest of it.
    if is_late() { Err(JournalError::Late) } else { Ok(found) }
}

/// What a page begins after, on the way from the newest file to the oldest.
enum Before {
    /// Nothing, or files that are behind already: all of what is older follows.
    Nothing,
    /// An entry that stands in a file still to come.
    Within(Ulid),
    /// An entry of the other folder: what follows here is what is older by the clock, and whatever is behind that.
    Elsewhere(Ulid),
}

impl Before {
    fn find(folder: &Folder, form: i64, table: Table, id: Ulid) -> Result<Self, JournalError> {
        let mut here = false;
        each_file_since(folder, form, Some(id.timestamp_ms()), |_, file| {
            here = holds(file, table, "=", id)?;
            Ok(here)
        })?;
        Ok(if here { Self::Within(id) } else { Self::Elsewhere(id) })
    }

    /// Below which id entries of this file are wanted; none where none is.
    fn within(&mut self, file: &Connection, table: Table) -> rusqlite::Result<Option<Ulid>> {
        let (id, begins) = match *self {
            Self::Nothing => return Ok(Some(Ulid::max())),
            Self::Within(id) => (id, holds(file, table, "=", id)?),
            Self::Elsewhere(id) => (id, holds(file, table, "<", id)?),
        };
        if begins {
            *self = Self::Nothing;
        }
        Ok(begins.then_some(id))
    }
}

/// Whether a file after this one has an entry, too.
fn is_after(folder: &Folder, form: i64, table: Table, (file, id): (FileName, Ulid)) -> bool {
    let mut is_there = false;
    let looked = each_file_since(folder, form, None, |name, newer| {
        is_there = name > file && holds(newer, table, "=", id)?;
        Ok(is_there || name <= file)
    });
    looked.is_ok() && is_there
}

/// Whether a file has an entry of this id, or one below it.
fn holds(file: &Connection, (_, table): Table, how: &str, id: Ulid) -> rusqlite::Result<bool> {
    let sql = format!("SELECT EXISTS (SELECT 1 FROM {table} WHERE id {how} ?1)");
    file.query_row(&sql, [id.to_bytes()], |row| row.get(0))
}

/// Two lists as one, each in its own order, and by the clock between them.
fn merged(one: Found, other: Found) -> Found {
    let mut all = Vec::with_capacity(one.len() + other.len());
    let (mut one, mut other) = (one.into_iter().peekable(), other.into_iter().peekable());
    loop {
        let next = match (one.peek(), other.peek()) {
            (Some((first, _)), Some((second, _))) if first < second => other.next(),
            (Some(_), _) => one.next(),
            (None, _) => other.next(),
        };
        match next {
            Some(next) => all.push(next),
            None => return all,
        }
    }
}

/// What is read of a table, and the table.
type Table = (&'static str, &'static str);

const ENTRY: Table = ("id, outcome, evidence", "entry");
const REPORT: Table = ("id, record", "report");

/// How a word may stand in an entry: as it is, and where it may be an address of a device, or a part of one, in
/// whatever notation, as entries have those.
pub fn spellings(word: &str) -> Vec<String> {
    let digits: String = word.chars().filter(|c| !matches!(c, ':' | '-' | '.')).collect();
    let mut all = vec![word.to_owned()];
    if !(3..=12).contains(&digits.len()) || !digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return all;
    }
    // A part may begin within a pair of digits.
    for first in [2, 1] {
        let mut spelled = String::new();
        for (at, digit) in digits.chars().enumerate() {
            if at >= first && (at - first) % 2 == 0 {
                spelled.push(':');
            }
            spelled.push(digit);
        }
        all.extend((!all.contains(&spelled)).then_some(spelled));
    }
    all
}

impl EntryFilter {
    fn query(&self, (columns, table): Table, before: Ulid) -> (String, Vec<Value>) {
        let mut parameters: Vec<Value> = vec![before.to_bytes().to_vec().into()];
        let mut conditions = String::from("id < ?1");
        for word in self.text.iter().flat_map(|text| text.split_whitespace()) {
            let any = spellings(&word.to_lowercase()).into_iter().map(|spelling| {
                parameters.push(spelling.into());
                format!("instr(search, ?{}) > 0", parameters.len())
            });
            conditions.push_str(&format!(" AND ({})", any.collect::<Vec<_>>().join(" OR ")));
        }
        if table == ENTRY.1 && !self.kinds.is_empty() {
            let numbers: Vec<_> = self.kinds.iter().map(|kind| (*kind as i64).to_string()).collect();
            conditions.push_str(&format!(" AND outcome IN ({})", numbers.join(", ")));
        }
        let limit = self.limit;
        (format!("SELECT {columns} FROM {table} WHERE {conditions} ORDER BY id DESC LIMIT {limit}"), parameters)
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

fn read_report(row: &Row<'_>) -> rusqlite::Result<(Ulid, Entry)> {
    let id = Ulid::from_bytes(row.get(0)?);
    let record = AccountingRecord::from_bytes(id, &row.get::<_, Vec<u8>>(1)?);
    Ok((id, record.map_or_else(|why| Entry::Unreadable { id, why }, |record| Entry::Accounting(Box::new(record)))))
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn an_address_is_found_by_any_part_of_it_in_any_notation(
            bytes: [u8; 6],
            step in prop::sample::select(vec![2_usize, 4, 12]),
            sign in prop::sample::select(vec![":", "-", "."]),
            (start, length) in (0..10_usize, 3..12_usize),
        ) {
            let digits: Vec<char> = Mac(bytes).to_string().chars().filter(|c| *c != ':').collect();
            let groups: Vec<String> = digits.chunks(step).map(|group| group.iter().collect()).collect();
            let written: Vec<char> = groups.join(sign).chars().collect();
            let part: String = written.iter().skip(start).take(length).collect();
            let whole = format!("quay-sw-1 let {} in", Mac(bytes));
            if part.chars().filter(char::is_ascii_hexdigit).count() >= 3 {
                prop_assert!(spellings(&part).iter().any(|spelling| whole.contains(spelling.as_str())), "{part}");
            }
        }

        #[test]
        fn a_word_is_looked_for_as_it_is_too(word in "\\PC{0,30}") {
            let all = spellings(&word);
            prop_assert!(all[0] == word && all.len() <= 3);
        }
    }
}
