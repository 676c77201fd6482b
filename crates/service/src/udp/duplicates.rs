use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use crate::udp::sink::Channel;

/// How long an answer is kept for repeats, from when it was given: as long as a NAS
/// may still ask (RFC 5080 sections 2.2.1 and 2.2.2).
const KEEP: Duration = Duration::from_secs(10);
/// What is being worked on is kept until it is answered, or until even a responder
/// that is awaited must have answered.
const LONGEST: Duration = Duration::from_secs(120);
const SHARDS: usize = 16;
/// Requests remembered in each shard; the oldest go first.
const MOST: usize = 8_192;

/// Requests being worked on or answered a moment ago, found whichever socket a
/// repeat reaches.
#[derive(Debug)]
pub(crate) struct Duplicates {
    shards: Vec<Mutex<Shard>>,
}

#[derive(Debug, Default)]
struct Shard {
    entries: HashMap<Key, Entry>,
    /// Keys in the order they came, with the time that tells a newer entry of the
    /// same key apart.
    ages: VecDeque<(Instant, Key)>,
}

/// What a request is known by. The same key with another authenticator is a new
/// request that takes the old one's place.
pub(crate) type Key = (Channel, u8);

#[derive(Debug)]
struct Entry {
    authenticator: [u8; 16],
    begun: Instant,
    /// When it was answered; before, when it was last looked at.
    since: Instant,
    answer: Answer,
}

/// What is known of a request.
#[derive(Clone, Debug)]
pub(crate) enum Answer {
    /// It is being worked on.
    Pending,
    /// This was replied.
    Reply(Arc<[u8]>),
    /// It was decided to stay silent.
    Silence,
}

impl Duplicates {
    pub(crate) fn new() -> Self {
        Self { shards: (0..SHARDS).map(|_| Mutex::default()).collect() }
    }

    /// What is known of this request; none where it is new, which it then no
    /// longer is.
    pub(crate) fn begin(&self, key: Key, authenticator: &[u8; 16], now: Instant) -> Option<Answer> {
        let mut shard = self.shard(&key);
        shard.forget_old(now);
        if let Some(entry) = shard.entries.get(&key).filter(|entry| entry.authenticator == *authenticator) {
            return Some(entry.answer.clone());
        }
        let entry = Entry { authenticator: *authenticator, begun: now, since: now, answer: Answer::Pending };
        shard.entries.insert(key, entry);
        shard.ages.push_back((now, key));
        None
    }

    /// Keeps the answer for repeats.
    pub(crate) fn finish(&self, key: Key, authenticator: &[u8; 16], reply: Option<&[u8]>, now: Instant) {
        let mut shard = self.shard(&key);
        if let Some(entry) = shard.entries.get_mut(&key).filter(|entry| entry.authenticator == *authenticator) {
            entry.answer = reply.map_or(Answer::Silence, |bytes| Answer::Reply(bytes.into()));
            entry.since = now;
            shard.ages.push_back((now, key));
        }
    }

    /// Forgets a request that was given up, so that its repeat is tried anew.
    pub(crate) fn forget(&self, key: Key) {
        self.shard(&key).entries.remove(&key);
    }

    fn shard(&self, key: &Key) -> MutexGuard<'_, Shard> {
        let number = usize::from(key.0.peer.port()) ^ usize::from(key.1);
        self.shards[number % SHARDS].lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Shard {
    fn forget_old(&mut self, now: Instant) {
        while let Some(&(since, key)) = self.ages.front() {
            let entry = self.entries.get(&key).filter(|entry| entry.since == since);
            let full = self.ages.len() >= MOST;
            match entry {
                Some(_) if now.duration_since(since) < KEEP && !full => return,
                // Still being worked on: its place is at the end again.
                Some(Entry { answer: Answer::Pending, begun, .. }) if now.duration_since(*begun) < LONGEST && !full => {
                    let age = now;
                    self.ages.pop_front();
                    if let Some(entry) = self.entries.get_mut(&key) {
                        entry.since = age;
                    }
                    self.ages.push_back((age, key));
                }
                found => {
                    let current = found.is_some();
                    self.ages.pop_front();
                    if current {
                        self.entries.remove(&key);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::net::SocketAddr;

    use super::*;

    fn key(port: u16, identifier: u8) -> Key {
        through(0, port, identifier)
    }

    fn through(end: u32, port: u16, identifier: u8) -> Key {
        (Channel { end, peer: SocketAddr::from(([127, 0, 0, 11], port)) }, identifier)
    }

    #[test]
    fn the_same_request_by_another_channel_is_another() {
        let (duplicates, now) = (Duplicates::new(), Instant::now());
        assert!(duplicates.begin(through(0, 1, 1), &[1; 16], now).is_none());
        assert!(duplicates.begin(through(1, 1, 1), &[1; 16], now).is_none());
        duplicates.finish(through(1, 1, 1), &[1; 16], Some(b"reply"), now);
        assert!(matches!(duplicates.begin(through(0, 1, 1), &[1; 16], now), Some(Answer::Pending)));
    }

    #[test]
    fn a_repeat_gets_the_same_answer_and_another_authenticator_is_another_request() {
        let (duplicates, now) = (Duplicates::new(), Instant::now());
        assert!(duplicates.begin(key(1, 1), &[1; 16], now).is_none());
        assert!(matches!(duplicates.begin(key(1, 1), &[1; 16], now), Some(Answer::Pending)));
        duplicates.finish(key(1, 1), &[1; 16], Some(b"reply"), now);
        assert!(
            matches!(duplicates.begin(key(1, 1), &[1; 16], now), Some(Answer::Reply(reply)) if *reply == *b"reply")
        );
        assert!(duplicates.begin(key(1, 1), &[2; 16], now).is_none());
        // The answer to the old request comes late and is not kept for the new.
        duplicates.finish(key(1, 1), &[1; 16], Some(b"late"), now);
        assert!(matches!(duplicates.begin(key(1, 1), &[2; 16], now), Some(Answer::Pending)));
    }

    #[test]
    fn what_is_awaited_for_long_is_decided_once_and_answered_as_long_as_the_nas_may_ask() {
        let (duplicates, now) = (Duplicates::new(), Instant::now());
        duplicates.begin(key(1, 1), &[1; 16], now);
        for seconds in [5, 11, 15, 25, 40] {
            let again = duplicates.begin(key(1, 1), &[1; 16], now + Duration::from_secs(seconds));
            assert!(matches!(again, Some(Answer::Pending)), "after {seconds} s");
        }
        let answered = now + Duration::from_secs(41);
        duplicates.finish(key(1, 1), &[1; 16], Some(b"late"), answered);
        let repeat = |after: Duration| duplicates.begin(key(1, 1), &[1; 16], answered + after);
        assert!(matches!(repeat(KEEP - Duration::from_secs(1)), Some(Answer::Reply(_))));
        assert!(repeat(KEEP).is_none());
        // What never ends is not kept for ever.
        assert!(duplicates.begin(key(1, 1), &[1; 16], answered + KEEP + LONGEST).is_none());
    }

    #[test]
    fn answers_are_forgotten_by_age_and_by_number() {
        let (duplicates, now) = (Duplicates::new(), Instant::now());
        duplicates.begin(key(1, 1), &[1; 16], now);
        duplicates.finish(key(1, 1), &[1; 16], None, now);
        assert!(matches!(duplicates.begin(key(1, 1), &[1; 16], now + KEEP / 2), Some(Answer::Silence)));
        assert!(duplicates.begin(key(1, 1), &[1; 16], now + KEEP).is_none());
        for port in 0..60_000 {
            for identifier in [0, 16, 32] {
                duplicates.begin(key(port, identifier), &[1; 16], now + KEEP);
            }
        }
        for shard in &duplicates.shards {
            let shard = shard.lock().unwrap();
            assert!(shard.entries.len() <= MOST && shard.ages.len() <= MOST);
        }
    }
}
