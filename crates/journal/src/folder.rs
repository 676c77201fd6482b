use std::fmt;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::time::Duration;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::error::JournalError;

/// How long the journal is kept, and how much of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keep {
    /// Files of days that are longer ago go.
    pub days: u32,
    /// While all files together are larger, the oldest goes.
    pub at_most: u64,
}

impl Default for Keep {
    fn default() -> Self {
        Self { days: 90, at_most: 20_000_000_000 }
    }
}

/// The folder of the journal: a file for each day (UTC), or several where a day brings
/// much or its clock jumps. What is too old goes a whole file at a time.
#[derive(Clone, Debug)]
pub(crate) struct Folder {
    path: PathBuf,
}

/// The name of a file, such as `000017.2026-11-25.sqlite`. Files are in the order of their numbers, whatever the clock
/// showed when they began.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct FileName {
    pub(crate) number: u32,
    pub(crate) day: Date,
}

impl fmt::Display for FileName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:06}.{}.sqlite", self.number, self.day)
    }
}

impl FileName {
    /// When its day is over, in milliseconds since 1970.
    pub(crate) fn over(self) -> Option<i64> {
        let next = self.day.tomorrow().ok()?.to_zoned(TimeZone::UTC).ok()?;
        Some(next.timestamp().as_millisecond())
    }
}

impl FromStr for FileName {
    type Err = ();

    fn from_str(name: &str) -> Result<Self, ()> {
        let (number, day) = name.strip_suffix(".sqlite").and_then(|stem| stem.split_once('.')).ok_or(())?;
        let read = Self { number: number.parse().map_err(|_| ())?, day: day.parse().map_err(|_| ())? };
        // One file has one name.
        if read.to_string() == name { Ok(read) } else { Err(()) }
    }
}

impl Folder {
    /// The folder, which is made where it does not exist.
    pub(crate) fn open(path: &Path) -> Result<Self, JournalError> {
        let folder = Self { path: path.to_owned() };
        fs::create_dir_all(path).map_err(|error| Self::failed(path, error))?;
        Ok(folder)
    }

    pub(crate) fn path(&self, name: FileName) -> PathBuf {
        self.path.join(name.to_string())
    }

    /// Every file of the journal, the oldest first. What else lies there is nobody's.
    pub(crate) fn files(&self) -> Result<Vec<FileName>, JournalError> {
        let entries = fs::read_dir(&self.path).map_err(|error| Self::failed(&self.path, error))?;
        let names = entries.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok());
        let mut files: Vec<FileName> = names.collect();
        files.sort();
        Ok(files)
    }

    /// When a file of it was written last, in seconds since 1970.
    pub(crate) fn written(&self) -> Result<Option<i64>, JournalError> {
        let written = self.files()?.into_iter().filter_map(|name| self.written_last(name));
        Ok(written.max().map(Timestamp::as_second))
    }

    fn written_last(&self, name: FileName) -> Option<Timestamp> {
        let part = |part: &&str| fs::metadata(self.part(name, part)).and_then(|meta| meta.modified()).ok();
        PARTS.iter().filter_map(part).max().and_then(|newest| Timestamp::try_from(newest).ok())
    }

    /// The day of what is in a file: no later than when it was written last, though the clock was ahead when it began.
    fn day_of(&self, name: FileName) -> Date {
        let written = self.written_last(name).map(|at| at.to_zoned(TimeZone::UTC).date());
        written.map_or(name.day, |written| written.min(name.day))
    }

    /// The name that a new file has.
    pub(crate) fn next(&self, today: Date) -> Result<FileName, JournalError> {
        // Those that were set aside count: a number is not used twice.
        let taken = fs::read_dir(&self.path).map_err(|error| Self::failed(&self.path, error))?;
        let numbers = taken.filter_map(|entry| {
            let name = entry.ok()?.file_name().to_str()?.to_owned();
            let (file, _) = name.split_once(".sqlite")?;
            format!("{file}.sqlite").parse::<FileName>().ok().map(|name| name.number)
        });
        Ok(FileName { number: numbers.max().unwrap_or(0) + 1, day: today })
    }

    /// The bytes of a file, with what waits beside it to be merged into it.
    pub(crate) fn bytes(&self, name: FileName) -> u64 {
        let size = |path: PathBuf| fs::metadata(path).map_or(0, |meta| meta.len());
        PARTS.iter().map(|part| size(self.part(name, part))).sum()
    }

    /// Takes a file away whole; whoever reads it reads on.
    pub(crate) fn remove(&self, name: FileName) -> Result<(), JournalError> {
        for part in PARTS {
            let path = self.part(name, part);
            match fs::remove_file(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(Self::failed(&path, error)),
                _ => {}
            }
        }
        Ok(())
    }

    /// Moves a file out of the way and tells its new name.
    pub(crate) fn set_aside(&self, name: FileName) -> Result<PathBuf, JournalError> {
        let path = self.path(name);
        set_aside(&path).map_err(|error| Self::failed(&path, error))
    }

    fn part(&self, name: FileName, part: &str) -> PathBuf {
        self.path.join(format!("{name}{part}"))
    }

    fn failed(path: &Path, error: io::Error) -> JournalError {
        JournalError::Folder { path: path.to_owned(), error }
    }
}

/// A database and what SQLite keeps beside it.
const PARTS: [&str; 3] = ["", "-wal", "-shm"];

/// Moves a database out of the way, with what lies beside it; its new name tells when.
pub fn set_aside(file: &Path) -> io::Result<PathBuf> {
    let beside = |suffix: &str| PathBuf::from(format!("{}{suffix}", file.display()));
    let name = format!(".set-aside-{}", Timestamp::now().as_second());
    for part in PARTS {
        let from = beside(part);
        if from.exists() {
            fs::rename(&from, beside(&format!("{name}{part}")))?;
        }
    }
    Ok(beside(&name))
}

/// The day of now, in UTC.
pub(crate) fn today() -> Date {
    Timestamp::now().to_zoned(TimeZone::UTC).date()
}

impl Keep {
    /// Takes away what is too old or too much, the oldest first, never the one that is
    /// written; tells how many files went. Nothing is too old on a day that is not believed.
    pub(crate) fn apply(self, folder: &Folder, written: FileName, today: Option<Date>) -> Result<u64, JournalError> {
        let mut files: Vec<_> = folder.files()?.into_iter().map(|name| (name, folder.bytes(name))).collect();
        files.reverse();
        let mut all: u64 = files.iter().map(|(_, bytes)| bytes).sum();
        let mut removed = 0;
        while let Some((name, bytes)) = files.pop() {
            let age = today.and_then(|today| Duration::try_from(today.duration_since(folder.day_of(name))).ok());
            let old = age.is_some_and(|age| age > Duration::from_secs(u64::from(self.days) * 86_400));
            if name == written || !(old || all > self.at_most) {
                break;
            }
            folder.remove(name)?;
            let why = if old {
                format!("it is older than {} days", self.days)
            } else {
                format!("the journal had {all} bytes of the {} that it may have", self.at_most)
            };
            tracing::info!("the journal's file {} was deleted: {why}", folder.path(name).display());
            all = all.saturating_sub(bytes);
            removed += 1;
        }
        Ok(removed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> FileName {
        text.parse().unwrap()
    }

    #[test]
    fn files_have_one_name_and_are_in_order() {
        for wrong in
            ["2026-11-25.sqlite", "1.2026-11-25.sqlite", "000001.2026-13-01.sqlite", "x.sqlite", "000001.2026-11-25"]
        {
            assert!(wrong.parse::<FileName>().is_err(), "{wrong}");
        }
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        // The clock was a hundred days ahead for a while.
        let written = [
            "000009.2026-11-25.sqlite",
            "000010.2027-03-05.sqlite",
            "000011.2026-11-25.sqlite",
            "1000000.2026-11-26.sqlite",
        ];
        for file in written.iter().rev().chain(&["notes"]) {
            fs::write(dir.path().join(file), "x").unwrap();
        }
        let files: Vec<_> = folder.files().unwrap().iter().map(FileName::to_string).collect();
        assert_eq!(files, written);
        let aside = folder.set_aside(name(written[3])).unwrap();
        assert!(aside.exists() && folder.files().unwrap().len() == 3);
        let next = folder.next("2026-11-24".parse().unwrap()).unwrap();
        assert_eq!(next.to_string(), "1000001.2026-11-24.sqlite", "a number is not used twice");
    }

    #[test]
    fn the_oldest_go_first_whole_and_never_the_one_that_is_written() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::open(dir.path()).unwrap();
        let fill = || {
            for day in 1..=9 {
                for part in ["", "-wal"] {
                    fs::write(dir.path().join(format!("00000{day}.2026-11-0{day}.sqlite{part}")), [0; 50]).unwrap();
                }
            }
        };
        let left = |days, at_most| {
            fill();
            let today = "2026-11-09".parse().unwrap();
            let keep = Keep { days, at_most };
            assert_eq!(
                Keep { at_most: u64::MAX, ..keep }.apply(&folder, name("000009.2026-11-09.sqlite"), None).unwrap(),
                0
            );
            let removed = keep.apply(&folder, name("000009.2026-11-09.sqlite"), Some(today)).unwrap();
            let left = folder.files().unwrap().len();
            assert_eq!(removed as usize, 9 - left);
            assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2 * left, "what lay beside them went too");
            left
        };
        assert_eq!(left(90, 10_000), 9);
        assert_eq!(left(3, 10_000), 4);
        assert_eq!(left(90, 450), 4);
        assert_eq!(left(0, 0), 1);
        // One of a clock that was ahead, and is back, holds up none of those after it.
        fs::rename(dir.path().join("000009.2026-11-09.sqlite"), dir.path().join("000001.2199-01-01.sqlite")).unwrap();
        fs::write(dir.path().join("000002.2026-11-02.sqlite"), "x").unwrap();
        fs::write(dir.path().join("000003.2199-01-01.sqlite"), "x").unwrap();
        let keep = Keep { days: 90, at_most: u64::MAX };
        let removed = keep.apply(&folder, name("000003.2199-01-01.sqlite"), Some("2190-01-01".parse().unwrap()));
        assert_eq!(removed.unwrap(), 2);
    }
}
