use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use regnant_equipment::radius::Conversation;

/// Conversations in progress at a time.
const MOST: usize = 20_000;
/// Bytes that all of them hold.
const MOST_BYTES: usize = 512 << 20;
/// A conversation whose peer says nothing for this long is over. People need
/// time to accept a certificate or to type a password.
const IDLE: Duration = Duration::from_secs(60);
/// No conversation takes longer.
const LONGEST: Duration = Duration::from_secs(300);

/// What the table needs to know of a conversation.
pub(crate) trait Held {
    /// The NAS that it goes through.
    fn nas(&self) -> &str;
    /// Whether its verdict has fallen. Before, it has proved nothing: a tunnel is
    /// open to everybody.
    fn is_established(&self) -> bool;
    /// The bytes that it holds, about.
    fn bytes(&self) -> usize;
}

impl Held for Conversation {
    fn nas(&self) -> &str {
        self.nas()
    }

    fn is_established(&self) -> bool {
        self.has_verdict()
    }

    fn bytes(&self) -> usize {
        self.bytes()
    }
}

/// The State of an Access-Challenge.
pub(crate) type State = [u8; 16];

/// EAP conversations that wait for their peer's next packet, by the State that it
/// will carry, whichever socket it reaches.
#[derive(Debug)]
pub(crate) struct Conversations<D = Conversation> {
    table: Mutex<Table<D>>,
    most: usize,
    most_bytes: usize,
    idle: Duration,
}

#[derive(Debug)]
struct Table<D> {
    waiting: HashMap<State, Waiting<D>>,
    bytes: usize,
    /// In the order of their last packet.
    ages: VecDeque<(Instant, State)>,
    of: HashMap<String, OfNas>,
}

/// What one NAS has waiting. In a flood every packet gives one up, so the oldest is
/// found without a search, whatever else waits.
#[derive(Debug, Default)]
struct OfNas {
    count: usize,
    bytes: usize,
    /// The oldest first; those that went on are skipped.
    half_open: VecDeque<State>,
    established: VecDeque<State>,
}

/// One conversation.
#[derive(Debug)]
pub(crate) struct Waiting<D = Conversation> {
    pub(crate) conversation: Box<D>,
    /// When its first packet came.
    pub(crate) begun: Instant,
    bytes: usize,
    since: Instant,
}

impl<D: Held> Conversations<D> {
    pub(crate) fn new(idle: Option<Duration>) -> Self {
        Self::holding(MOST, MOST_BYTES, idle.unwrap_or(IDLE))
    }

    fn holding(most: usize, most_bytes: usize, idle: Duration) -> Self {
        let table = Table { waiting: HashMap::new(), bytes: 0, ages: VecDeque::new(), of: HashMap::new() };
        Self { table: Mutex::new(table), most, most_bytes, idle }
    }

    /// Keeps a conversation until its next packet. Where there are too many, or they
    /// hold too much, the oldest of the NAS that has most goes, half-open ones first,
    /// and comes back; it may be the new one itself, whose peer then must not be
    /// challenged.
    pub(crate) fn put(&self, state: State, conversation: Box<D>, begun: Instant, now: Instant) -> Put<D> {
        let mut table = self.lock();
        let bytes = conversation.bytes();
        let of_nas = table.of.entry(conversation.nas().to_owned()).or_default();
        of_nas.count += 1;
        of_nas.bytes += bytes;
        match conversation.is_established() {
            true => of_nas.established.push_back(state),
            false => of_nas.half_open.push_back(state),
        }
        table.bytes += bytes;
        table.ages.push_back((now, state));
        table.waiting.insert(state, Waiting { conversation, begun, bytes, since: now });
        let mut given_up = Vec::new();
        while table.waiting.len() > self.most || table.bytes > self.most_bytes {
            let by_bytes = table.waiting.len() <= self.most;
            let Some(oldest) = table.crowded_out(by_bytes) else { break };
            given_up.extend(table.remove(&oldest).map(|waiting| waiting.conversation));
        }
        Put { kept: table.waiting.contains_key(&state), given_up }
    }

    /// Takes the conversation of this State out, for the NAS that it belongs to.
    pub(crate) fn take(&self, state: &State, nas: &str) -> Option<Waiting<D>> {
        self.take_at(state, nas, Instant::now())
    }

    /// One that went on for too long stays and ends by silence: who always says just
    /// enough would else hold it for hours.
    fn take_at(&self, state: &State, nas: &str, now: Instant) -> Option<Waiting<D>> {
        let mut table = self.lock();
        match table.waiting.get(state) {
            Some(waiting) if waiting.conversation.nas() == nas && now.duration_since(waiting.begun) <= LONGEST => {
                table.remove(state)
            }
            _ => None,
        }
    }

    /// Conversations whose peer said nothing for too long.
    pub(crate) fn expired(&self, now: Instant) -> Vec<Waiting<D>> {
        let mut table = self.lock();
        let mut over = Vec::new();
        while let Some(&(since, state)) = table.ages.front() {
            if table.waiting.get(&state).is_none_or(|waiting| waiting.since != since) {
                table.ages.pop_front();
                continue;
            }
            if now.duration_since(since) < self.idle {
                break;
            }
            table.ages.pop_front();
            over.extend(table.remove(&state));
        }
        over
    }

    /// How many wait.
    pub(crate) fn len(&self) -> usize {
        self.lock().waiting.len()
    }

    fn lock(&self) -> MutexGuard<'_, Table<D>> {
        self.table.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What became of a conversation that was to be kept.
#[derive(Debug)]
pub(crate) struct Put<D> {
    /// Whether it was.
    pub(crate) kept: bool,
    /// Who went to make room.
    pub(crate) given_up: Vec<Box<D>>,
}

impl<D: Held> Table<D> {
    fn remove(&mut self, state: &State) -> Option<Waiting<D>> {
        let waiting = self.waiting.remove(state)?;
        self.bytes -= waiting.bytes;
        let nas = waiting.conversation.nas();
        if let Some(of_nas) = self.of.get_mut(nas) {
            of_nas.count -= 1;
            of_nas.bytes -= waiting.bytes;
            let (count, known) = (of_nas.count, &self.waiting);
            if count == 0 {
                self.of.remove(nas);
            } else if of_nas.half_open.len() + of_nas.established.len() > 2 * count + 64 {
                of_nas.half_open.retain(|state| known.contains_key(state));
                of_nas.established.retain(|state| known.contains_key(state));
            }
        }
        // Entries of conversations that went on are dropped when there are many.
        if self.ages.len() > 2 * self.waiting.len() + 1_024 {
            let waiting = &self.waiting;
            self.ages.retain(|(since, state)| waiting.get(state).is_some_and(|waiting| waiting.since == *since));
        }
        Some(waiting)
    }

    /// The oldest conversation of the NAS that has most of them, or that holds most
    /// bytes: one that is half open, where it has such.
    fn crowded_out(&mut self, by_bytes: bool) -> Option<State> {
        let greed = |of_nas: &&mut OfNas| if by_bytes { of_nas.bytes } else { of_nas.count };
        let greediest = self.of.values_mut().max_by_key(greed)?;
        let mut oldest =
            std::iter::from_fn(|| greediest.half_open.pop_front().or_else(|| greediest.established.pop_front()));
        oldest.find(|state| self.waiting.contains_key(state))
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
        established: bool,
        bytes: usize,
    }

    impl Held for Fake {
        fn nas(&self) -> &str {
            self.nas
        }

        fn is_established(&self) -> bool {
            self.established
        }

        fn bytes(&self) -> usize {
            self.bytes
        }
    }

    fn state(number: u32) -> State {
        let mut state = [0; 16];
        state[..4].copy_from_slice(&number.to_be_bytes());
        state
    }

    fn put(table: &Conversations<Fake>, number: u32, nas: &'static str, established: bool, now: Instant) -> Put<Fake> {
        table.put(state(number), Box::new(Fake { number, nas, established, bytes: 1 }), now, now)
    }

    fn put_at(table: &Conversations<Fake>, number: u32, begun: Instant, now: Instant) {
        assert!(
            table
                .put(state(number), Box::new(Fake { number, nas: "a", established: false, bytes: 1 }), begun, now)
                .kept
        );
    }

    fn table(most: usize) -> Conversations<Fake> {
        Conversations::holding(most, MOST_BYTES, IDLE)
    }

    #[test]
    fn a_flood_costs_its_own_nas_alone_and_who_has_a_verdict_last() {
        let (table, now) = (table(10), Instant::now());
        put(&table, 1, "quiet", false, now);
        put(&table, 2, "busy", true, now);
        for number in 3..=10 {
            assert!(put(&table, number, "busy", false, now).given_up.is_empty());
        }
        for number in 11..40 {
            let put = put(&table, number, "busy", false, now);
            assert!(put.kept);
            assert_eq!(put.given_up[0].nas, "busy");
        }
        assert_eq!(table.len(), 10);
        assert!(put(&table, 50, "quiet", false, now).kept, "another NAS finds room");
        assert!(table.take(&state(1), "quiet").is_some(), "and keeps its own");
        assert!(table.take(&state(2), "busy").is_some(), "who has a verdict stays");
        assert!(table.take(&state(3), "busy").is_none(), "the oldest went");
        assert!(table.take(&state(39), "busy").is_some());
    }

    /// At full size: searching past those who wait would take minutes here.
    #[test]
    fn a_flood_beside_many_who_wait_costs_none_of_them() {
        let (table, now, half) = (table(MOST), Instant::now(), MOST as u32 / 2);
        for number in 0..half - 1 {
            put(&table, number, "quiet", number % 2 == 0, now);
        }
        for number in half..6 * half {
            put(&table, number, "busy", false, now);
        }
        assert_eq!(table.len(), MOST);
        assert!((0..half - 1).all(|number| table.take(&state(number), "quiet").is_some()));
        assert!(table.take(&state(5 * half - 2), "busy").is_none(), "the oldest went");
        assert!(table.take(&state(5 * half), "busy").is_some());
    }

    #[test]
    fn what_all_hold_is_bounded_and_whoever_holds_most_goes() {
        let (table, now) = (Conversations::holding(1_000, 100, IDLE), Instant::now());
        let put = |number, nas, bytes| {
            table.put(state(number), Box::new(Fake { number, nas, established: false, bytes }), now, now)
        };
        for number in 1..=5 {
            put(number, "small", 1);
        }
        assert!(put(6, "large", 60).given_up.is_empty());
        let second = put(7, "large", 60);
        assert_eq!((second.kept, second.given_up[0].number), (true, 6));
        let alone = put(8, "large", 101);
        assert!(!alone.kept, "one that holds more than all may is not kept, nor challenged");
        assert!((1..=5).all(|number| table.take(&state(number), "small").is_some()));
        assert_eq!(table.lock().bytes, 0);
    }

    #[test]
    fn a_state_belongs_to_its_nas_and_ends_by_silence() {
        let (table, now) = (table(10), Instant::now());
        put(&table, 1, "a", false, now);
        assert!(table.take(&state(1), "b").is_none());
        put(&table, 2, "a", false, now + IDLE / 2);
        assert!(table.expired(now + IDLE / 2).is_empty());
        assert_eq!(table.expired(now + IDLE).len(), 1);
        assert!(table.take(&state(1), "a").is_none() && table.take(&state(2), "a").is_some());
        put(&table, 3, "a", false, now + IDLE);
        for number in 10..5_000 {
            put(&table, number, "a", false, now + IDLE);
            table.take(&state(number), "a");
        }
        let table = table.table.lock().unwrap();
        assert!(table.ages.len() < 2_000 && table.of["a"].half_open.len() < 100, "what went on is forgotten");
    }

    #[test]
    fn whoever_always_says_just_enough_is_ended_too() {
        let (table, begun) = (table(10), Instant::now());
        let mut now = begun;
        for number in 0.. {
            put_at(&table, number, begun, now);
            now += IDLE / 2;
            match table.take_at(&state(number), "a", now) {
                Some(_) => assert!(table.len() == 0 && now - begun <= LONGEST),
                None => break,
            }
        }
        assert!(now - begun > LONGEST && now - begun <= LONGEST + IDLE / 2);
        assert_eq!(table.expired(now + IDLE).len(), 1, "and told of");
    }

    proptest! {
        /// Against a list that is searched from its beginning.
        #[test]
        fn who_is_given_up_is_the_oldest_of_a_nas_that_has_most(
            steps in prop::collection::vec((0..4usize, any::<bool>(), any::<prop::sample::Index>(), any::<bool>()), 1..200)
        ) {
            const NASES: [&str; 4] = ["a", "b", "c", "d"];
            let (table, now) = (table(8), Instant::now());
            let mut model: Vec<Fake> = Vec::new();
            for (number, (nas, established, place, takes)) in steps.into_iter().enumerate() {
                if takes && !model.is_empty() {
                    let one = model.remove(place.index(model.len()));
                    let taken = table.take(&state(one.number), one.nas);
                    prop_assert_eq!(taken.map(|waiting| *waiting.conversation), Some(one));
                    continue;
                }
                let new = Fake { number: number as u32, nas: NASES[nas], established, bytes: 1 };
                let put = put(&table, new.number, new.nas, established, now);
                model.push(new.clone());
                let count = |nas| model.iter().filter(|fake| fake.nas == nas).count();
                let most = NASES.map(count).into_iter().max().unwrap();
                match put.given_up.first() {
                    None => prop_assert!(model.len() <= 8),
                    Some(given_up) => {
                        prop_assert_eq!((model.len(), put.given_up.len(), count(given_up.nas)), (9, 1, most));
                        let of_nas = || model.iter().enumerate().filter(|(_, fake)| fake.nas == given_up.nas);
                        let oldest = of_nas().find(|(_, fake)| !fake.established).or_else(|| of_nas().next()).unwrap().0;
                        prop_assert_eq!(&model.remove(oldest), &**given_up);
                    }
                }
                prop_assert_eq!(put.kept, model.contains(&new));
            }
            prop_assert_eq!(table.len(), model.len());
        }
    }
}
