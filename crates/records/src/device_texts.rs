//! What devices are found by, in one sorted file that is read from end to end: a million
//! lines take some tens of milliseconds, and no memory.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Instant;

use memchr::memmem::Finder;

use crate::database::{Records, device_id};
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::{DeviceRow, Rows};

/// What is read at once.
const BLOCK: usize = 1 << 20;
/// How many lines stand between two whose places are remembered.
const APART: u64 = 1_024;
/// Changes that are kept in memory before the file is written anew.
const MOST_CHANGES: usize = 20_000;
/// How many times as long as it takes to write the file nothing is written, where more came meanwhile.
const REST: u32 = 3;
/// A number as 16 hexadecimal digits stands before the text of a line.
const ID: usize = 16;

/// The texts of all devices. They follow from the records and are made anew at each start.
pub struct DeviceTexts {
    folder: PathBuf,
    state: Mutex<State>,
    written: Condvar,
}

#[derive(Default)]
struct State {
    file: Option<Arc<Sorted>>,
    /// What is otherwise by now, each under the number of its change: a text, or that there
    /// is no such device any more.
    changed: BTreeMap<i64, (u64, Option<String>)>,
    changes: u64,
    writing: bool,
    /// Whether something came that the file being written may not have.
    again: bool,
    failed: bool,
}

/// Lines by number.
struct Sorted {
    file: File,
    length: u64,
    /// The numbers of some lines, and where they begin.
    places: Vec<(i64, u64)>,
}

impl DeviceTexts {
    /// Nothing yet; files are made in this folder, and are gone with the process.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.into(), state: Mutex::default(), written: Condvar::new() }
    }

    /// Writes the file anew. Whoever searches waits for the first.
    pub fn write(&self, records: &Records) -> Result<(), RecordsError> {
        let mut state = self.lock();
        state.again = true;
        if state.writing {
            // Whoever writes it begins once more.
            return Ok(());
        }
        state.writing = true;
        let mut made = Ok(());
        while std::mem::take(&mut state.again) {
            let (before, begun) = (state.changes, Instant::now());
            drop(state);
            let sorted = Sorted::write(&self.folder, records);
            let took = begun.elapsed();
            state = self.lock();
            made = sorted.map(|sorted| {
                state.file = Some(Arc::new(sorted));
                // What the file was read after is in it.
                state.changed.retain(|_, (change, _)| *change > before);
            });
            if state.again {
                // Where much comes part after part, most of the time is for that.
                self.written.notify_all();
                drop(state);
                thread::sleep(took * REST);
                state = self.lock();
            }
        }
        (state.writing, state.failed) = (false, made.is_err());
        self.written.notify_all();
        made
    }

    /// Takes in what was changed, which the records have by now. Tells whether so much was
    /// that the file should be written anew.
    pub fn note(&self, records: &Records, gone: &[RecordName], rows: &Rows) -> Result<bool, RecordsError> {
        if rows.devices.is_empty() && !gone.iter().any(|name| matches!(name, RecordName::Device { .. })) {
            return Ok(false);
        }
        let many: u64 = rows.devices.iter().map(DeviceRow::count).sum();
        if many > MOST_CHANGES as u64 {
            return Ok(true);
        }
        let number = |store: &str| records.store_number(store);
        let mut noted = Vec::new();
        for name in gone {
            if let RecordName::Device { store, mac } = name {
                noted.push((device_id(number(store)?, *mac), None));
            }
        }
        for row in &rows.devices {
            let (store, text) = (number(&row.store)?, text_of_row(row));
            noted.extend(row.addresses().map(|mac| (device_id(store, mac), Some(text.clone()))));
        }
        let mut state = self.lock();
        state.changes += 1;
        let change = state.changes;
        state.changed.extend(noted.into_iter().map(|(id, text)| (id, (change, text))));
        Ok(state.changed.len() > MOST_CHANGES)
    }

    /// The numbers of the first devices after one in whose texts all these words stand.
    pub(crate) fn search(
        &self,
        words: &[String],
        after: i64,
        limit: usize,
        fits: impl Fn(i64) -> bool,
    ) -> Result<Vec<i64>, RecordsError> {
        let words: Vec<_> = words.iter().map(|word| folded(word)).collect();
        // The longest is in the fewest lines.
        let Some(rare) = words.iter().max_by_key(|word| word.len()) else { return Ok(Vec::new()) };
        let others: Vec<_> = words.iter().filter(|word| *word != rare).map(Finder::new).collect();
        let (rare, all) = (Finder::new(rare), words.iter().map(Finder::new).collect::<Vec<_>>());
        let (file, changed) = self.look(after, &all)?;
        let mut found = Vec::new();
        let told = |id: i64| !changed.contains_key(&id) && fits(id);
        let read = file.each_holding(&rare, after, |id, text| {
            if others.iter().all(|word| word.find(text).is_some()) && told(id) {
                found.push(id);
            }
            found.len() < limit
        });
        read.map_err(RecordsError::Texts)?;
        found.extend(changed.into_iter().filter(|(id, holds)| *holds && fits(*id)).map(|(id, _)| id));
        found.sort_unstable();
        found.truncate(limit);
        Ok(found)
    }

    /// The file, and the devices that are otherwise by now, with whether all words stand in
    /// their texts.
    fn look(&self, after: i64, words: &[Finder<'_>]) -> Result<(Arc<Sorted>, BTreeMap<i64, bool>), RecordsError> {
        let mut state = self.lock();
        // The first is waited for, and one that is to mend what failed.
        while if state.failed { state.writing } else { state.file.is_none() } {
            state = self.written.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        // A file that lacks what was to be written tells nothing: nobody would know what is missing.
        let file = state.file.clone().filter(|_| !state.failed);
        let file = file.ok_or_else(|| RecordsError::Texts(io::Error::other("the log says why")))?;
        let holds = |text: &Option<String>| {
            text.as_ref().is_some_and(|text| words.iter().all(|word| word.find(text.as_bytes()).is_some()))
        };
        let later = state.changed.range(after.saturating_add(1)..);
        Ok((file, later.map(|(id, (_, text))| (*id, holds(text))).collect()))
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Case does not count, and no text ends its line.
pub(crate) fn folded(text: &str) -> String {
    text.to_lowercase().replace('\n', " ")
}

/// What a device is found by.
pub(crate) fn text_of_row(row: &DeviceRow) -> String {
    text_of([&row.title, &row.owner, &row.note, &row.groups_as_json(), &row.attributes_as_json()])
}

/// The same of its texts, the last two of which are JSON.
fn text_of(texts: [&str; 5]) -> String {
    folded(&texts.join("\t"))
}

impl Sorted {
    fn write(folder: &Path, records: &Records) -> Result<Self, RecordsError> {
        let file = tempfile::tempfile_in(folder).map_err(RecordsError::Texts)?;
        let mut output = BufWriter::with_capacity(BLOCK, &file);
        let (mut length, mut count, mut places, mut failed) = (0, 0, Vec::new(), None);
        records.each_device_text(|id, texts| {
            if count % APART == 0 {
                places.push((id, length));
            }
            count += 1;
            let text = text_of(texts);
            length += (ID + text.len() + 1) as u64;
            failed = failed.take().or_else(|| writeln!(output, "{id:016x}{text}").err());
        })?;
        let flushed = failed.map_or_else(|| output.flush(), Err);
        flushed.map_err(RecordsError::Texts)?;
        drop(output);
        Ok(Self { file, length, places })
    }

    /// Each line after a number in whose text a word stands, for as long as more are wanted.
    fn each_holding(&self, word: &Finder<'_>, after: i64, mut each: impl FnMut(i64, &[u8]) -> bool) -> io::Result<()> {
        let place = self.places.partition_point(|(id, _)| *id <= after);
        let mut at = self.places[..place].last().map_or(0, |(_, at)| *at);
        let mut block = vec![0; BLOCK];
        while at < self.length {
            let most = usize::try_from(self.length - at).map_or(BLOCK, |left| left.min(BLOCK));
            self.file.read_exact_at(&mut block[..most], at)?;
            // Whole lines; one longer than a block there is none.
            let whole = memchr::memrchr(b'\n', &block[..most]).map_or(most, |end| end + 1);
            let mut from = 0;
            while let Some(found) = word.find(&block[from..whole]).map(|found| from + found) {
                let begin = memchr::memrchr(b'\n', &block[..found]).map_or(0, |end| end + 1);
                let end = memchr::memchr(b'\n', &block[found..whole]).map_or(whole, |end| found + end);
                from = end;
                let line = &block[begin..end];
                let Some((id, text)) = line.split_at_checked(ID) else { continue };
                let id = std::str::from_utf8(id).ok().and_then(|id| i64::from_str_radix(id, 16).ok());
                // What was found may be in the number, or go on from it into the text.
                let holds = found >= begin + ID || word.find(text).is_some();
                let Some(id) = id.filter(|id| *id > after && holds) else { continue };
                if !each(id, text) {
                    return Ok(());
                }
            }
            at += whole as u64;
        }
        Ok(())
    }
}
