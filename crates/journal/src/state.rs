use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::{Place, Shares};

/// While the oldest entry that waits is older than this, nothing more is decided: a
/// crash loses that and the commit under way.
const OLDEST: Duration = Duration::from_millis(250);
/// As many entries may wait as are written in this time.
const ROOM: Duration = Duration::from_millis(200);
const LEAST_ROOM: usize = 1_024;
/// How many times what is free one NAS may take: alone, four fifths of all.
const ALONE: usize = 4;
/// Fewer entries say little of how many can be written: a commit takes its time whatever
/// is in it.
const TELLING: usize = 256;

/// What the writer and those who decide tell each other.
pub(crate) struct State {
    started: Instant,
    shares: Shares,
    /// Of what waits for something else before it is written.
    late: Shares,
    most: usize,
    /// How many entries may wait, by how fast they are written.
    room: AtomicUsize,
    /// When the oldest entry that is not committed was handed in, in milliseconds
    /// since `started` and one more; 0 where there is none.
    oldest: AtomicU64,
    answering: AtomicBool,
    trouble: Mutex<Option<String>>,
    /// When what waits is given up; milliseconds since `started`, 0 while open.
    deadline: AtomicU64,
    ages: Vec<AtomicU32>,
    oldest_ever: AtomicU64,
    deleted: AtomicU64,
    files: AtomicU64,
    bytes: AtomicU64,
}

/// How old the oldest entry of each commit was, in milliseconds, since the start.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CommitAges {
    /// Of a hundred commits, ninety-nine were younger.
    pub p99: u64,
    /// The oldest of all.
    pub most: u64,
}

impl State {
    pub(crate) fn new(most: usize) -> Self {
        Self {
            started: Instant::now(),
            shares: Shares::default(),
            late: Shares::default(),
            most,
            room: AtomicUsize::new(most),
            oldest: AtomicU64::new(0),
            answering: AtomicBool::new(true),
            trouble: Mutex::default(),
            deadline: AtomicU64::new(0),
            ages: (0..1_024).map(|_| AtomicU32::new(0)).collect(),
            oldest_ever: AtomicU64::new(0),
            deleted: AtomicU64::new(0),
            files: AtomicU64::new(0),
            bytes: AtomicU64::new(0),
        }
    }

    fn since_start(&self, at: Instant) -> u64 {
        at.duration_since(self.started).as_millis() as u64 + 1
    }

    pub(crate) fn place(&self, who: &str) -> Option<Place> {
        if self.is_held_up() { None } else { self.shares.take_of(who, self.room.load(Ordering::Relaxed), ALONE) }
    }

    /// A place for what has to wait before it can be written. It keeps none of those that need not wait.
    pub(crate) fn late_place(&self, who: &str) -> Option<Place> {
        self.late.take(who, self.most)
    }

    pub(crate) fn waiting(&self) -> usize {
        self.shares.taken() + self.late.taken()
    }

    pub(crate) fn is_answering(&self) -> bool {
        self.answering.load(Ordering::Acquire)
    }

    pub(crate) fn is_held_up(&self) -> bool {
        let oldest = self.oldest.load(Ordering::Relaxed);
        let too_old = || self.since_start(Instant::now()).saturating_sub(oldest) > OLDEST.as_millis() as u64;
        !self.is_answering() || (oldest > 0 && too_old())
    }

    /// An entry was handed in; the oldest, where none waits.
    pub(crate) fn handed_in(&self, at: Instant) {
        let _ = self.oldest.compare_exchange(0, self.since_start(at), Ordering::Relaxed, Ordering::Relaxed);
    }

    /// The oldest entry that the writer knows of; none where it has written all.
    pub(crate) fn oldest_is(&self, at: Option<Instant>) {
        self.oldest.store(at.map_or(0, |at| self.since_start(at)), Ordering::Relaxed);
    }

    /// So many entries took the writer so long.
    pub(crate) fn wrote(&self, entries: usize, took: Duration, oldest: Duration) {
        let age = oldest.as_millis() as u64;
        self.ages[(age as usize).min(self.ages.len() - 1)].fetch_add(1, Ordering::Relaxed);
        self.oldest_ever.fetch_max(age, Ordering::Relaxed);
        if entries >= TELLING {
            let fit = entries as u128 * ROOM.as_micros() / took.as_micros().max(1);
            let fit = usize::try_from(fit).unwrap_or(self.most).min(self.most);
            // One commit that the disk held up says little too; several say it.
            let before = self.room.load(Ordering::Relaxed);
            let room = (3 * before + fit) / 4;
            self.room.store(room.clamp(LEAST_ROOM.min(self.most), self.most), Ordering::Relaxed);
        }
    }

    /// So many files were deleted.
    pub(crate) fn deleted_more(&self, files: u64) {
        self.deleted.fetch_add(files, Ordering::Relaxed);
    }

    /// So many files there are, with so many bytes.
    pub(crate) fn is_large(&self, files: u64, bytes: u64) {
        self.files.store(files, Ordering::Relaxed);
        self.bytes.store(bytes, Ordering::Relaxed);
    }

    pub(crate) fn size(&self) -> (u64, u64) {
        (self.files.load(Ordering::Relaxed), self.bytes.load(Ordering::Relaxed))
    }

    pub(crate) fn deleted(&self) -> u64 {
        self.deleted.load(Ordering::Relaxed)
    }

    pub(crate) fn ages(&self) -> CommitAges {
        let counts: Vec<u64> = self.ages.iter().map(|count| u64::from(count.load(Ordering::Relaxed))).collect();
        let (all, mut seen) = (counts.iter().sum::<u64>(), 0);
        let reaches = |count: &u64| {
            seen += count;
            seen * 100 >= all * 99
        };
        let p99 = counts.iter().position(reaches).unwrap_or(0) as u64;
        CommitAges { p99, most: self.oldest_ever.load(Ordering::Relaxed) }
    }

    /// What keeps entries from being written; while there is something, nothing is
    /// answered.
    pub(crate) fn tell(&self, trouble: Option<String>) {
        self.answering.store(trouble.is_none(), Ordering::Release);
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }

    pub(crate) fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(crate) fn close(&self, deadline: Instant) {
        self.deadline.store(self.since_start(deadline), Ordering::Release);
    }

    pub(crate) fn is_over(&self) -> bool {
        let deadline = self.deadline.load(Ordering::Acquire);
        deadline > 0 && self.since_start(Instant::now()) >= deadline
    }

    /// What ends the answers when the writer ends.
    pub(crate) fn ends_with_me(self: &Arc<Self>, name: &'static str) -> End {
        End(self.clone(), name)
    }
}

/// Dropped with the writer's thread.
pub(crate) struct End(Arc<State>, &'static str);

impl Drop for End {
    fn drop(&mut self) {
        if std::thread::panicking() {
            let told = format!(
                "the thread of the {} ended by a defect, so nothing that belongs in it is answered any more; restart the \
                 service and report this",
                self.1
            );
            tracing::error!("{told}");
            self.0.tell(Some(told));
        } else {
            self.0.answering.store(false, Ordering::Release);
        }
    }
}
