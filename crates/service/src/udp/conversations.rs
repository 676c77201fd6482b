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

/// What the table needs to know of a conversation.
pub(crate) trait Held {
    /// The NAS that it goes through.
    fn nas(&self) -> &str;
    /// Whether its TLS handshake is over.
    fn is_past_tls(&self) -> bool;
}

impl Held for Dialogue {
    fn nas(&self) -> &str {
        self.nas()
    }

    fn is_past_tls(&self) -> bool {
        self.is_past_tls()
    }
}

/// The State of an Access-Challenge.
pub(crate) type State = [u8; 16];

/// EAP conversations that wait for their peer's next packet, by the State that it
/// will carry, whichever socket it reaches.
#[derive(Debug)]
pub(crate) struct Conversations<D = Dialogue> {
    inner: Mutex<Inner<D>>,
    most: usize,
    idle: Duration,
}

#[derive(Debug)]
struct Inner<D> {
    waiting: HashMap<State, Waiting<D>>,
    /// In the order of their last packet.
    ages: VecDeque<(Instant, State)>,
    /// Those that are not past TLS, for each NAS.
    half_open: HashMap<String, HalfOpen>,
}

/// What one NAS has half open. In a flood every packet gives one up, so the oldest
/// is found without a search, whatever else waits.
#[derive(Debug, Default)]
struct HalfOpen {
    count: usize,
    /// The oldest first; those that went on are skipped.
    states: VecDeque<State>,
}

/// One conversation.
#[derive(Debug)]
pub(crate) struct Waiting<D = Dialogue> {
    pub(crate) dialogue: Box<D>,
    /// When its first packet came.
    pub(crate) begun: Instant,
    past_tls: bool,
    since: Instant,
}

impl<D: Held> Conversations<D> {
    pub(crate) fn new(idle: Option<Duration>) -> Self {
        Self::holding(MOST, idle.unwrap_or(IDLE))
    }

    fn holding(most: usize, idle: Duration) -> Self {
        let inner = Inner { waiting: HashMap::new(), ages: VecDeque::new(), half_open: HashMap::new() };
        Self { inner: Mutex::new(inner), most, idle }
    }

    /// Keeps a conversation until its next packet. In a flood the oldest half-open
    /// one of the NAS that has most of them is given up and comes back; where none
    /// is half open, the new one is.
    pub(crate) fn put(&self, state: State, dialogue: Box<D>, begun: Instant, now: Instant) -> Option<Box<D>> {
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
            inner.half_open.entry(dialogue.nas().to_owned()).or_default().add(state);
        }
        inner.ages.push_back((now, state));
        inner.waiting.insert(state, Waiting { dialogue, begun, past_tls, since: now });
        given_up.map(|waiting| waiting.dialogue)
    }

    /// Takes the conversation of this State out, for the NAS that it belongs to.
    pub(crate) fn take(&self, state: &State, nas: &str) -> Option<Waiting<D>> {
        let mut inner = self.lock();
        match inner.waiting.get(state) {
            Some(waiting) if waiting.dialogue.nas() == nas => inner.remove(state),
            _ => None,
        }
    }

    /// Conversations whose peer said nothing for too long.
    pub(crate) fn expired(&self, now: Instant) -> Vec<Waiting<D>> {
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

    fn lock(&self) -> MutexGuard<'_, Inner<D>> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl<D: Held> Inner<D> {
    fn remove(&mut self, state: &State) -> Option<Waiting<D>> {
        let waiting = self.waiting.remove(state)?;
        if !waiting.past_tls
            && let Some(half_open) = self.half_open.get_mut(waiting.dialogue.nas())
        {
            half_open.count -= 1;
            if half_open.count == 0 {
                self.half_open.remove(waiting.dialogue.nas());
            } else if half_open.states.len() > 2 * half_open.count + 64 {
                half_open.states.retain(|state| self.waiting.contains_key(state));
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
    fn crowded_out(&mut self) -> Option<State> {
        let most = self.half_open.values_mut().max_by_key(|half_open| half_open.count)?;
        std::iter::from_fn(|| most.states.pop_front()).find(|state| self.waiting.contains_key(state))
    }
}

impl HalfOpen {
    fn add(&mut self, state: State) {
        self.count += 1;
        self.states.push_back(state);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[derive(Clone, Debug, PartialEq)]
    struct Fake {
        number: u32,
        nas: &'static str,
        past_tls: bool,
    }

    impl Held for Fake {
        fn nas(&self) -> &str {
            self.nas
        }

        fn is_past_tls(&self) -> bool {
            self.past_tls
        }
    }

    fn state(number: u32) -> State {
        let mut state = [0; 16];
        state[..4].copy_from_slice(&number.to_be_bytes());
        state
    }

    fn put(
        table: &Conversations<Fake>,
        number: u32,
        nas: &'static str,
        past_tls: bool,
        now: Instant,
    ) -> Option<Box<Fake>> {
        table.put(state(number), Box::new(Fake { number, nas, past_tls }), now, now)
    }

    #[test]
    fn a_flood_costs_the_oldest_half_open_of_its_own_nas_and_none_past_tls() {
        let (table, now) = (Conversations::holding(10, IDLE), Instant::now());
        put(&table, 1, "quiet", false, now);
        put(&table, 2, "busy", true, now);
        for number in 3..=10 {
            assert!(put(&table, number, "busy", false, now).is_none());
        }
        for number in 11..40 {
            assert_eq!(put(&table, number, "busy", false, now).unwrap().nas, "busy");
        }
        assert_eq!(table.len(), 10);
        assert!(table.take(&state(1), "quiet").is_some(), "another NAS keeps its own");
        assert!(table.take(&state(2), "busy").is_some(), "who is past TLS stays");
        assert!(table.take(&state(3), "busy").is_none(), "the oldest went");
        assert!(table.take(&state(39), "busy").is_some());
    }

    /// At full size: searching past those who wait would take minutes here.
    #[test]
    fn a_flood_beside_many_who_wait_costs_none_of_them() {
        let (table, now, half) = (Conversations::holding(MOST, IDLE), Instant::now(), MOST as u32 / 2);
        for number in 0..half {
            put(&table, number, "quiet", true, now);
        }
        for number in half..6 * half {
            put(&table, number, "busy", false, now);
        }
        assert_eq!(table.len(), MOST);
        assert!((0..half).all(|number| table.take(&state(number), "quiet").is_some()));
        assert!(table.take(&state(5 * half - 1), "busy").is_none(), "the oldest went");
        assert!(table.take(&state(5 * half), "busy").is_some());
    }

    #[test]
    fn where_nobody_is_half_open_the_new_one_is_given_up() {
        let (table, now) = (Conversations::holding(2, IDLE), Instant::now());
        put(&table, 1, "a", true, now);
        put(&table, 2, "b", true, now);
        assert!(!put(&table, 3, "c", false, now).unwrap().past_tls);
        assert!(table.take(&state(3), "c").is_none());
    }

    #[test]
    fn a_state_belongs_to_its_nas_and_ends_by_silence() {
        let (table, now) = (Conversations::holding(10, IDLE), Instant::now());
        put(&table, 1, "a", false, now);
        assert!(table.take(&state(1), "b").is_none());
        put(&table, 2, "a", false, now + IDLE / 2);
        assert!(table.expired(now + IDLE / 2).is_empty());
        assert_eq!(table.expired(now + IDLE).len(), 1);
        assert!(table.take(&state(1), "a").is_none() && table.take(&state(2), "a").is_some());
        for number in 10..5_000 {
            put(&table, number, "a", false, now + IDLE);
            table.take(&state(number), "a");
        }
        assert!(table.inner.lock().unwrap().ages.len() < 2_000, "what went on is forgotten");
    }

    proptest! {
        /// Against a list that is searched from its beginning.
        #[test]
        fn who_is_given_up_is_the_oldest_half_open_of_a_nas_that_has_most(
            steps in prop::collection::vec((0..4usize, any::<bool>(), any::<prop::sample::Index>(), any::<bool>()), 1..200)
        ) {
            const NASES: [&str; 4] = ["a", "b", "c", "d"];
            let (table, now) = (Conversations::holding(8, IDLE), Instant::now());
            let mut model: Vec<Fake> = Vec::new();
            for (number, (nas, past_tls, place, takes)) in steps.into_iter().enumerate() {
                if takes && !model.is_empty() {
                    let one = model.remove(place.index(model.len()));
                    let taken = table.take(&state(one.number), one.nas);
                    prop_assert_eq!(taken.map(|waiting| *waiting.dialogue), Some(one));
                    continue;
                }
                let new = Fake { number: number as u32, nas: NASES[nas], past_tls };
                let given_up = put(&table, new.number, new.nas, past_tls, now).map(|fake| *fake);
                let half_open = |nas| model.iter().filter(|fake| !fake.past_tls && fake.nas == nas).count();
                let most = NASES.map(half_open).into_iter().max().unwrap();
                match given_up {
                    None => prop_assert!(model.len() < 8),
                    Some(given_up) if most == 0 => {
                        prop_assert_eq!((model.len(), &given_up), (8, &new));
                        continue;
                    }
                    Some(given_up) => {
                        prop_assert_eq!((model.len(), half_open(given_up.nas)), (8, most));
                        let oldest = model.iter().position(|fake| !fake.past_tls && fake.nas == given_up.nas).unwrap();
                        prop_assert_eq!(model.remove(oldest), given_up);
                    }
                }
                model.push(new);
            }
            prop_assert_eq!(table.len(), model.len());
        }
    }
}
