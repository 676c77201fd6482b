use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::believed::BelievedClock;
use crate::error::{JournalError, is_broken};
use crate::folder::{FileName, Folder, Keep, today};
use crate::state::State;

/// How often it is looked whether something is too old.
const TIDY_UP: Duration = Duration::from_secs(60);
/// A file that is larger gets a successor.
const LARGE: u64 = 1 << 30;

/// A file of a folder: rows of one kind, committed in groups.
pub(crate) trait BookFile: Sized {
    /// What it holds.
    type Row;

    /// Opens or makes it.
    fn open(path: &std::path::Path) -> Result<Self, JournalError>;

    /// Its bytes.
    fn bytes(&self) -> u64;

    /// Writes rows, or nothing of them; they are on the disk when it returns.
    fn commit(&mut self, rows: &[Self::Row]) -> rusqlite::Result<()>;
}

/// The file that is written, and the folder that it is in.
pub(crate) struct Files<F> {
    folder: Folder,
    keep: Keep,
    name: FileName,
    file: F,
    state: Arc<State>,
    tidied: Instant,
    clock: BelievedClock,
    /// Whether the clock is believed.
    believed: bool,
    /// Whether it jumped since the file began.
    jumped: bool,
}

impl<F: BookFile> Files<F> {
    /// Goes on with the file of today. One that cannot be used is set aside, and told.
    pub(crate) fn open(folder: Folder, keep: Keep, state: Arc<State>) -> Result<Self, JournalError> {
        let today = today();
        let clock = BelievedClock::new(folder.written()?, both_clocks());
        // What was written before a start at which the clock is another stays in a file of its own.
        let newest = folder.files()?.pop().filter(|name| name.day == today && clock.is_believed());
        let (name, file) = match newest {
            Some(name) => Self::open_or_set_aside(&folder, name)?,
            None => Self::begin(&folder)?,
        };
        let tidied = Instant::now();
        let mut files = Self { folder, keep, name, file, state, tidied, clock, believed: false, jumped: false };
        files.tidy_up();
        Ok(files)
    }

    fn open_or_set_aside(folder: &Folder, name: FileName) -> Result<(FileName, F), JournalError> {
        match F::open(&folder.path(name)) {
            Err(error) if error.is_of_no_use() => {
                let aside = folder.set_aside(name)?;
                tracing::error!("{error}; it was set aside as {}, and a new file begins", aside.display());
                Self::begin(folder)
            }
            opened => Ok((name, opened?)),
        }
    }

    fn begin(folder: &Folder) -> Result<(FileName, F), JournalError> {
        let name = folder.next(today())?;
        let opened = F::open(&folder.path(name));
        if opened.is_err() {
            // On a full disk each try would leave another empty file.
            let _ = folder.remove(name);
        }
        Ok((name, opened?))
    }

    /// Writes entries into the file of today. Within a file they are in the order of their times: where the clock
    /// jumps another begins.
    pub(crate) fn commit(&mut self, rows: &[F::Row]) -> Result<(), JournalError> {
        self.look_at_the_clock();
        if self.jumped || self.name.day != today() || self.file.bytes() > LARGE {
            (self.name, self.file) = Self::begin(&self.folder)?;
            self.jumped = false;
            self.tidy_up();
        }
        match self.file.commit(rows) {
            Err(error) if is_broken(&error) => {
                let path = self.path();
                (self.name, self.file) = Self::begin(&self.folder)?;
                tracing::error!("{} is damaged ({error}): a new file goes on for it", path.display());
                Ok(self.file.commit(rows)?)
            }
            done => Ok(done?),
        }
    }

    /// The file that is written.
    pub(crate) fn path(&self) -> PathBuf {
        self.folder.path(self.name)
    }

    fn look_at_the_clock(&mut self) {
        let (believed, jumped) = self.clock.look(both_clocks());
        self.believed = believed;
        if let Some(seconds) = jumped {
            self.jumped = true;
            tracing::warn!(
                "the system's clock jumped by {seconds} s: nothing of {} is deleted for its age for a day",
                self.path().display()
            );
        }
    }

    /// What is too old, or too much, goes.
    fn tidy_up(&mut self) {
        self.look_at_the_clock();
        match self.keep.apply(&self.folder, self.name, self.believed.then(today)) {
            Ok(files) => self.state.deleted_more(files),
            Err(error) => tracing::warn!("what is too old in {} cannot be deleted: {error}", self.path().display()),
        }
        let sizes: Vec<_> =
            self.folder.files().unwrap_or_default().into_iter().map(|name| self.folder.bytes(name)).collect();
        self.state.is_large(sizes.len() as u64, sizes.iter().sum());
    }

    pub(crate) fn tidy_up_now_and_then(&mut self) {
        if self.tidied.elapsed() >= TIDY_UP {
            self.tidied = Instant::now();
            self.tidy_up();
        }
    }
}

/// The system's clock, in seconds since 1970, and one that only goes on.
fn both_clocks() -> (i64, Instant) {
    (Timestamp::now().as_second(), Instant::now())
}
