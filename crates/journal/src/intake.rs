use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::Place;

use crate::error::JournalError;
use crate::files::Files;
use crate::folder::{Folder, Keep};
use crate::state::{CommitAges, State};
use crate::writer::{Book, Writer};

/// What waits is given up this long after the service was told to stop.
const CLOSING: Duration = Duration::from_secs(4);
/// How much longer the writer's own last word is awaited.
const LAST_WORD: Duration = Duration::from_millis(500);

/// An entry on its way, with the room that it takes.
pub(crate) struct Handed<W> {
    pub(crate) entry: W,
    pub(crate) since: Instant,
    pub(crate) place: Place,
}

/// Where entries are handed in, for a writer on a thread of its own.
pub struct Intake<W> {
    queue: Mutex<Option<Sender<Handed<W>>>>,
    state: Arc<State>,
    keep: Keep,
    /// How many entries could not be written, once the writer has ended.
    unwritten: Mutex<Receiver<usize>>,
}

impl<W: Send + 'static> Intake<W> {
    /// Opens or makes the folder and starts the writer. At most `most` entries wait.
    pub(crate) fn open<B: Book<Waiting = W>>(
        folder: Folder,
        keep: Keep,
        most: usize,
        book: B,
    ) -> Result<Self, JournalError> {
        let (queue, entries) = channel();
        let (last_word, unwritten) = channel();
        let state = Arc::new(State::new(most));
        let writer = Writer { book, files: Files::open(folder, keep, state.clone())?, entries, state: state.clone() };
        thread::Builder::new()
            .name(format!("regnant-{}", B::NAME))
            .spawn({
                let state = state.clone();
                move || {
                    // However the writer ends, nothing is answered after it.
                    let _end = state.ends_with_me(B::NAME);
                    // Nobody waits for the word where the service did not stop.
                    let _ = last_word.send(writer.run());
                }
            })
            .expect("the system starts a thread");
        Ok(Self { queue: Mutex::new(Some(queue)), state, keep, unwritten: Mutex::new(unwritten) })
    }

    /// A handle for one receiving thread.
    pub fn handle(&self) -> Option<Handle<W>> {
        let queue = self.queue.lock().unwrap_or_else(PoisonError::into_inner).clone()?;
        Some(Handle { queue, state: self.state.clone() })
    }

    /// What keeps entries from being written, where something does.
    pub fn trouble(&self) -> Option<String> {
        self.state.trouble()
    }

    /// How old the oldest entry of each commit was: what a crash would have lost.
    pub fn commit_ages(&self) -> CommitAges {
        self.state.ages()
    }

    /// What is kept of it.
    pub fn keep(&self) -> Keep {
        self.keep
    }

    /// How many files there are and their bytes, as of the last minute.
    pub fn size(&self) -> (u64, u64) {
        self.state.size()
    }

    /// How many files were deleted since the start.
    pub fn deleted(&self) -> u64 {
        self.state.deleted()
    }

    /// Writes what waits and ends the writer; tells how many entries could not be
    /// written within five seconds.
    pub fn close(&self) -> usize {
        drop(self.queue.lock().unwrap_or_else(PoisonError::into_inner).take());
        self.state.close(Instant::now() + CLOSING);
        let unwritten = self.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.recv_timeout(CLOSING + LAST_WORD).unwrap_or_else(|_| self.state.waiting())
    }
}

/// Where a receiving thread hands entries in.
pub struct Handle<W> {
    queue: Sender<Handed<W>>,
    state: Arc<State>,
}

impl<W> Clone for Handle<W> {
    fn clone(&self) -> Self {
        Self { queue: self.queue.clone(), state: self.state.clone() }
    }
}

impl<W> Handle<W> {
    /// A place in the queue for whoever asks, or none where their share of it is
    /// taken or nothing may be decided now.
    pub fn slot(&self, who: &str) -> Option<Slot<W>> {
        let place = self.state.place(who)?;
        Some(Slot { queue: self.queue.clone(), state: self.state.clone(), place })
    }

    /// Whether nothing may be decided now, because it could not be written or what waits
    /// to be written is too old: packets wait then.
    pub fn is_held_up(&self) -> bool {
        self.state.is_held_up()
    }
}

/// A place in the queue, held before anything is done: what cannot be kept is not
/// answered.
pub struct Slot<W> {
    queue: Sender<Handed<W>>,
    state: Arc<State>,
    place: Place,
}

impl<W> Slot<W> {
    /// The same, of what has to wait before it can be decided: another place, of which there are as many for that
    /// alone. None where the share of whoever asks is taken.
    pub fn late(self, who: &str) -> Option<Self> {
        let place = self.state.late_place(who)?;
        Some(Self { place, ..self })
    }

    /// Whether what is decided may still be answered.
    pub fn may_answer(&self) -> bool {
        self.state.is_answering()
    }

    pub(crate) fn fill(self, entry: W) {
        let since = Instant::now();
        self.state.handed_in(since);
        // The writer has ended: then nothing is answered any more either.
        let _ = self.queue.send(Handed { entry, since, place: self.place });
    }
}
