use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use regnant_access::Dialogue;

/// Conversations in progress at a time.
const MOST: usize = 20_000;
/// A conversation whose peer says nothing for this long is over. People need
/// time to accept a certificate or to type a password.
const IDLE: Duration = Duration::from_secs(60);
/// No conversation takes longer.
const LONGEST: Duration = Duration::from_secs(300);

/// The State of an Access-Challenge.
pub(crate) type State = [u8; 16];

/// EAP conversations that wait for their peer's next packet, by the State that it
/// will carry, whichever socket it reaches.
#[derive(Debug)]
pub(crate) struct Conversations {
    inner: Mutex<Inner>,
    most: usize,
    idle: Duration,
}

#[derive(Debug, Default)]
struct Inner {
    waiting: HashMap<State, Waiting>,
    /// In the order of their last packet.
    ages: VecDeque<(Instant, State)>,
    /// How many are not past TLS, for each NAS.
    half_open: HashMap<String, usize>,
}

/// One conversation.
#[derive(Debug)]
pub(crate) struct Waiting {
    pub(crate) dialogue: Box<Dialogue>,
    /// When its first packet came.
    pub(crate) begun: Instant,
    past_tls: bool,
    since: Instant,
}

impl Conversations {
    pub(crate) fn new(idle: Option<Duration>) -> Self {
        Self { inner: Mutex::default(), most: MOST, idle: idle.unwrap_or(IDLE) }
    }

    /// Keeps a conversation until its next packet. In a flood the oldest half-open
    /// one of the NAS that has most of them is given up and comes back; where none
    /// is half open, the new one is.
    pub(crate) fn put(
        &self,
        state: State,
        dialogue: Box<Dialogue>,
        begun: Instant,
        now: Instant,
    ) -> Option<Box<Dialogue>> {
        let mut inner = self.lock();
        let given_up = match inner.waiting.len() >= self.most {
            false => None,
            true => match inner.crowded_out() {
                Some(oldest) => inner.remove(&oldest),
                None => return Some(dialogue),
            },
        };
        let past_tls = dialogue.is_past_tls();
        if !past_tls {
            *inner.half_open.entry(dialogue.nas().to_owned()).or_default() += 1;
        }
        inner.ages.push_back((now, state));
        inner.waiting.insert(state, Waiting { dialogue, begun, past_tls, since: now });
        given_up.map(|waiting| waiting.dialogue)
    }

    /// Takes the conversation of this State out, for the NAS that it belongs to.
    pub(crate) fn take(&self, state: &State, nas: &str) -> Option<Waiting> {
        let mut inner = self.lock();
        match inner.waiting.get(state) {
            Some(waiting) if waiting.dialogue.nas() == nas => inner.remove(state),
            _ => None,
        }
    }

    /// Conversations whose peer said nothing for too long.
    pub(crate) fn expired(&self, now: Instant) -> Vec<Waiting> {
        let mut inner = self.lock();
        let mut over = Vec::new();
        while let Some(&(since, state)) = inner.ages.front() {
            let current = inner.waiting.get(&state).filter(|waiting| waiting.since == since);
            let Some(waiting) = current else {
                inner.ages.pop_front();
                continue;
            };
            let long = now.duration_since(waiting.begun) > LONGEST;
            if now.duration_since(since) < self.idle && !long {
                break;
            }
            inner.ages.pop_front();
            over.extend(inner.remove(&state));
        }
        over
    }

    /// How many wait.
    pub(crate) fn len(&self) -> usize {
        self.lock().waiting.len()
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    fn remove(&mut self, state: &State) -> Option<Waiting> {
        let waiting = self.waiting.remove(state)?;
        if !waiting.past_tls
            && let Some(count) = self.half_open.get_mut(waiting.dialogue.nas())
        {
            *count -= 1;
            if *count == 0 {
                self.half_open.remove(waiting.dialogue.nas());
            }
        }
        // Entries of conversations that went on are dropped when there are many.
        if self.ages.len() > 2 * self.waiting.len() + 1_024 {
            let waiting = &self.waiting;
            self.ages.retain(|(since, state)| waiting.get(state).is_some_and(|waiting| waiting.since == *since));
        }
        Some(waiting)
    }

    /// The oldest half-open conversation of the NAS that has most of them.
    fn crowded_out(&self) -> Option<State> {
        let (nas, _) = self.half_open.iter().max_by_key(|(_, count)| **count)?;
        let fits = |state: &State| {
            self.waiting.get(state).is_some_and(|waiting| !waiting.past_tls && waiting.dialogue.nas() == nas)
        };
        self.ages.iter().map(|(_, state)| *state).find(fits)
    }
}
