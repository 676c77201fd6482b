//! What slows the guessing of passwords.

use std::future::Future;
use std::pin::Pin;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use regnant_base::BoundedMap;
use regnant_policy::Mac;
use serde::{Deserialize, Serialize};

use crate::stores::Answer;

/// Names, devices and NASes that are remembered at a time; the oldest go first.
const MOST: usize = 50_000;
/// Whoever was quiet for this long is forgotten.
const FORGET_MS: u64 = 10 * 60 * 1_000;
/// Wrong passwords of one name, or from one device, before anything is held back:
/// people mistype, and equipment repeats an old password.
const FREE: u32 = 3;
const FIRST_DELAY_MS: u64 = 500;
const LONGEST_DELAY_MS: u64 = 3_000;
/// An attempt that would have to wait longer is not tried: its NAS has given up.
const LONGEST_WAIT_MS: u64 = 6_000;
/// Wrong passwords of a whole NAS in one minute, and how long each more is held back.
const OF_NAS: [(u32, u64); 3] = [(1_000, 3_000), (300, 1_500), (60, 500)];
const MINUTE_MS: u64 = 60_000;

/// Who tries a password.
#[derive(Clone, Copy, Debug)]
pub struct Guesser<'g> {
    /// The NAS that it comes through. What happens at another NAS counts nothing.
    pub nas: &'g str,
    /// The name that is looked up.
    pub name: &'g str,
    /// The device that it comes from.
    pub device: Option<Mac>,
}

/// A future of a [`Guesses`].
pub type Wait<'g, T> = Pin<Box<dyn Future<Output = T> + Send + 'g>>;

/// Holds guessers back. Nothing here may block a thread.
pub trait Guesses: Sync {
    /// Waits until a password may be tried; no answer where too many wait already.
    fn admit<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Answer<()>>;

    /// Counts a wrong password and waits for as long as the refusal is held back.
    fn wrong<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Held>;

    /// A right one: that name at that NAS begins anew.
    fn right(&self, guesser: Guesser<'_>);
}

/// How a wrong password was held back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    /// How many wrong ones this name has had at this NAS.
    pub of_name: u32,
    /// How long the refusal was held back.
    pub delay: Duration,
}

impl Held {
    /// Whether there is something to tell.
    pub(crate) fn tells(self) -> bool {
        self.of_name > FREE || !self.delay.is_zero()
    }

    /// The story for the trail, where there is one.
    pub fn story(self) -> Option<String> {
        let Self { of_name, delay } = self;
        self.tells().then(|| {
            let tenths = delay.as_millis() / 100;
            let held = format!("the refusal was held back by {}.{} s", tenths / 10, tenths % 10);
            match of_name > 1 {
                true => format!("{of_name} wrong ones for this name through this NAS; {held}"),
                false => format!("many wrong ones through this NAS; {held}"),
            }
        })
    }
}

/// Wrong passwords, counted in bounded room. Times are milliseconds of a clock that
/// never goes back.
#[derive(Debug)]
pub struct GuessTable {
    counts: Mutex<BoundedMap<Key, Count>>,
}

impl Default for GuessTable {
    fn default() -> Self {
        Self { counts: Mutex::new(BoundedMap::new(MOST)) }
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Key {
    Name(String, String),
    Device(String, Mac),
    Nas(String),
}

#[derive(Clone, Copy, Debug)]
struct Count {
    wrong: u32,
    since: u64,
    last: u64,
    /// When the next attempt may be tried.
    next: u64,
}

impl GuessTable {
    /// How long an attempt must wait before it is tried; none where it is not worth
    /// trying.
    pub fn wait(&self, guesser: Guesser<'_>, now: u64) -> Option<Duration> {
        let mut counts = self.lock();
        let count = counts.get_mut(&name_key(guesser));
        let Some(count) = count.filter(|count| count.next > now) else { return Some(Duration::ZERO) };
        let wait = count.next - now;
        if wait > LONGEST_WAIT_MS {
            return None;
        }
        // Whoever comes at the same time is tried one after the other.
        count.next += delay(count.wrong);
        Some(Duration::from_millis(wait))
    }

    /// Counts a wrong password, and tells how long its refusal is held back.
    pub fn wrong(&self, guesser: Guesser<'_>, now: u64) -> Held {
        let mut counts = self.lock();
        let name = count(&mut counts, name_key(guesser), now);
        let of_name = name.wrong;
        let mut held = delay(of_name);
        name.next = name.next.max(now + held);
        if let Some(device) = guesser.device {
            held = held.max(delay(count(&mut counts, Key::Device(guesser.nas.into(), device), now).wrong));
        }
        let of_nas = count(&mut counts, Key::Nas(guesser.nas.into()), now);
        if now.saturating_sub(of_nas.since) >= MINUTE_MS {
            // A minute begins with half of what the one before had.
            (of_nas.since, of_nas.wrong) = (now, of_nas.wrong / 2);
        }
        let wrong = of_nas.wrong;
        held = held.max(OF_NAS.iter().find(|(most, _)| wrong > *most).map_or(0, |(_, delay)| *delay));
        Held { of_name, delay: Duration::from_millis(held) }
    }

    fn lock(&self) -> MutexGuard<'_, BoundedMap<Key, Count>> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A right password: that name at that NAS begins anew.
    pub fn right(&self, guesser: Guesser<'_>) {
        let mut counts = self.lock();
        counts.remove(&name_key(guesser));
    }
}

fn name_key(guesser: Guesser<'_>) -> Key {
    Key::Name(guesser.nas.into(), guesser.name.to_lowercase())
}

/// Half a second for the first that is held back, then twice as long each time.
fn delay(wrong: u32) -> u64 {
    match wrong.checked_sub(FREE + 1) {
        None => 0,
        Some(more) => (FIRST_DELAY_MS << more.min(8)).min(LONGEST_DELAY_MS),
    }
}

/// One more of a key.
fn count(counts: &mut BoundedMap<Key, Count>, key: Key, now: u64) -> &mut Count {
    counts.forget_while(|count| now.saturating_sub(count.last) >= FORGET_MS);
    let count = counts.touch(key, || Count { wrong: 0, since: now, last: now, next: 0 });
    (count.wrong, count.last) = (count.wrong.saturating_add(1), now);
    count
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn guesser<'g>(nas: &'g str, name: &'g str) -> Guesser<'g> {
        Guesser { nas, name, device: None }
    }

    #[test]
    fn each_wrong_password_waits_longer_and_at_another_nas_nothing_waits() {
        let table = GuessTable::default();
        let mut now = 1_000_000;
        let mut delays = Vec::new();
        for _ in 0..9 {
            let held = table.wrong(guesser("gate-fw-1", "Ida.Marsh"), now);
            delays.push(held.delay.as_millis());
            now += held.delay.as_millis() as u64;
        }
        assert_eq!(delays, [0, 0, 0, 500, 1_000, 2_000, 3_000, 3_000, 3_000]);
        assert_eq!(table.wait(guesser("gate-fw-1", "ida.marsh"), now), Some(Duration::ZERO), "it was held back");
        assert_eq!(table.wrong(guesser("pilot-vpn-1", "ida.marsh"), now).delay, Duration::ZERO);
        assert_eq!(table.wait(guesser("pilot-vpn-1", "ida.marsh"), now), Some(Duration::ZERO));
        table.right(guesser("gate-fw-1", "IDA.marsh"));
        assert_eq!(table.wrong(guesser("gate-fw-1", "ida.marsh"), now), Held { of_name: 1, delay: Duration::ZERO });
        let later = now + FORGET_MS;
        assert_eq!(table.wrong(guesser("pilot-vpn-1", "ida.marsh"), later).of_name, 1, "forgotten");
    }

    #[test]
    fn many_at_once_are_tried_one_after_the_other_and_then_not_at_all() {
        let table = GuessTable::default();
        for _ in 0..8 {
            table.wrong(guesser("x", "ida"), 0);
        }
        let waits: Vec<_> = (0..6).map(|_| table.wait(guesser("x", "ida"), 0).map(|wait| wait.as_millis())).collect();
        assert_eq!(waits, [Some(3_000), Some(6_000), None, None, None, None]);
    }

    #[test]
    fn a_nas_that_tries_many_names_is_held_back_too() {
        let table = GuessTable::default();
        let at = |number: u32, now| table.wrong(guesser("x", &format!("user-{number}")), now).delay.as_millis();
        assert!((0..60).all(|number| at(number, 0) == 0));
        assert_eq!(at(60, 0), 500);
        assert!((61..400).map(|number| at(number, 1_000)).max() == Some(1_500));
        assert_eq!(table.wrong(guesser("y", "user-1"), 1_000).delay, Duration::ZERO);
        assert!((500..502).map(|number| at(number, 61_000)).max() == Some(500), "quieter again after a minute");
    }

    proptest! {
        #[test]
        fn the_table_is_bounded(names in prop::collection::vec("[a-z]{1,3}", 1..50)) {
            let table = GuessTable::default();
            for (number, name) in names.iter().cycle().take(3_000).enumerate() {
                table.wrong(guesser(name, &number.to_string()), number as u64);
            }
            prop_assert!(table.lock().len() <= MOST);
        }
    }

    #[test]
    fn a_flood_of_names_forgets_the_oldest() {
        let table = GuessTable::default();
        for number in 0..2 * MOST {
            table.wrong(guesser("x", &number.to_string()), number as u64 / 1_000);
        }
        assert_eq!(table.lock().len(), MOST);
    }
}
