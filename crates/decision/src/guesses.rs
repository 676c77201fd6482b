//! What slows the guessing of passwords.
//!
//! Wrong ones are counted by name, over all devices and NASes: whoever guesses chooses both. A pair of name
//! and device that was right lately has a count of its own, so that nobody shuts out somebody who is known by
//! guessing at their name.

use std::future::Future;
use std::pin::Pin;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use regnant_base::{BoundedMap, Mac};

use serde::{Deserialize, Serialize};

/// Names, devices and NASes that are remembered at a time; the oldest go first.
const MOST: usize = 50_000;
/// Whoever was quiet for this long is forgotten.
const FORGET_MS: u64 = 10 * 60 * 1_000;
/// For how long a pair that was right has its own count.
const RIGHT_FOR_MS: u64 = 30 * 24 * 3_600 * 1_000;
/// Wrong passwords of one name, or from one device, before anything is held back:
/// people mistype, and equipment repeats an old password.
const FREE: u32 = 3;
const FIRST_DELAY_MS: u64 = 500;
const LONGEST_DELAY_MS: u64 = 3_000;
/// An attempt that would have to wait longer is not tried: where its refusal is held back too, its NAS has given up.
const LONGEST_WAIT_MS: u64 = 3_000;
/// Wrong passwords of a whole NAS in one minute, and how long each more is held back.
const OF_NAS: [(u32, u64); 3] = [(1_000, 3_000), (300, 1_500), (60, 500)];
const MINUTE_MS: u64 = 60_000;

/// Who tries a password.
#[derive(Clone, Copy, Debug)]
pub struct Guesser<'g> {
    /// The NAS that it comes through.
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
    /// Waits until a password may be tried, or is refused without being looked at.
    fn admit<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Admission>;

    /// Counts a wrong password and waits for as long as the refusal is held back.
    fn wrong<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Held>;

    /// A right one: that name begins anew, from that device.
    fn right(&self, guesser: Guesser<'_>);
}

/// Whether a password is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Admission {
    /// It is.
    Tried,
    /// It is refused, and was not looked at.
    HeldBack(Held),
}

/// How a refusal was held back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    /// How many wrong ones this name has had.
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
            match of_name > FREE {
                true => format!("{of_name} wrong ones for this name; {held}"),
                false => format!("many wrong ones from this device or through this NAS; {held}"),
            }
        })
    }
}

/// Wrong passwords, counted in bounded room. Times are milliseconds of a clock that
/// never goes back.
#[derive(Debug)]
pub struct GuessTable {
    tables: Mutex<Tables>,
}

#[derive(Debug)]
struct Tables {
    counts: BoundedMap<Key, Count>,
    /// Pairs that were right, and when: in room of their own, which no guess can fill.
    right: BoundedMap<Pair, u64>,
}

impl Default for GuessTable {
    fn default() -> Self {
        let tables = Tables { counts: BoundedMap::new(MOST), right: BoundedMap::new(MOST) };
        Self { tables: Mutex::new(tables) }
    }
}

/// A name and where it comes from: a device, or for one that has no address its NAS.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Pair {
    name: String,
    from: From,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum From {
    Device(Mac),
    Nas(String),
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Key {
    /// A name, from wherever it was never right.
    Name(String),
    /// A name from where it was right lately.
    Known(Pair),
    Device(Mac),
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

impl Tables {
    /// What an attempt is counted under.
    fn lane(&mut self, guesser: Guesser<'_>, now: u64) -> Key {
        let pair = pair(guesser);
        match self.right.get(&pair) {
            Some(at) if now.saturating_sub(*at) < RIGHT_FOR_MS => Key::Known(pair),
            _ => Key::Name(pair.name),
        }
    }

    /// One more of a key.
    fn count(&mut self, key: Key, now: u64) -> &mut Count {
        self.counts.forget_while(|count| now.saturating_sub(count.last) >= FORGET_MS);
        let count = self.counts.touch(key, || Count { wrong: 0, since: now, last: now, next: 0 });
        (count.wrong, count.last) = (count.wrong.saturating_add(1), now);
        count
    }
}

impl GuessTable {
    /// How long an attempt must wait before it is tried; where it is not worth trying, how its refusal is
    /// held back.
    pub fn wait(&self, guesser: Guesser<'_>, now: u64) -> Result<Duration, Held> {
        let mut tables = self.lock();
        let lane = tables.lane(guesser, now);
        let Some(count) = tables.counts.get_mut(&lane) else { return Ok(Duration::ZERO) };
        let turn = count.next.max(now);
        if turn - now > LONGEST_WAIT_MS {
            return Err(Held { of_name: count.wrong, delay: Duration::from_millis(LONGEST_DELAY_MS) });
        }
        // Whoever comes at the same time is tried one after the other, whether the one before is counted yet or not.
        count.next = turn + delay(count.wrong);
        Ok(Duration::from_millis(turn - now))
    }

    /// Counts a wrong password, and tells how long its refusal is held back.
    pub fn wrong(&self, guesser: Guesser<'_>, now: u64) -> Held {
        let mut tables = self.lock();
        let lane = tables.lane(guesser, now);
        let name = tables.count(lane, now);
        let of_name = name.wrong;
        let mut held = delay(of_name);
        name.next = name.next.max(now + held);
        if let Some(device) = guesser.device {
            held = held.max(delay(tables.count(Key::Device(device), now).wrong));
        }
        let of_nas = tables.count(Key::Nas(guesser.nas.into()), now);
        if now.saturating_sub(of_nas.since) >= MINUTE_MS {
            // A minute begins with half of what the one before had.
            (of_nas.since, of_nas.wrong) = (now, of_nas.wrong / 2);
        }
        let wrong = of_nas.wrong;
        held = held.max(OF_NAS.iter().find(|(most, _)| wrong > *most).map_or(0, |(_, delay)| *delay));
        Held { of_name, delay: Duration::from_millis(held) }
    }

    fn lock(&self) -> MutexGuard<'_, Tables> {
        self.tables.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A right password: from that device the name begins anew. What others guessed goes on to count against
    /// others.
    pub fn right(&self, guesser: Guesser<'_>, now: u64) {
        let mut tables = self.lock();
        let pair = pair(guesser);
        tables.counts.remove(&Key::Known(pair.clone()));
        *tables.right.touch(pair, || now) = now;
    }
}

fn pair(guesser: Guesser<'_>) -> Pair {
    let from = guesser.device.map_or_else(|| From::Nas(guesser.nas.into()), From::Device);
    Pair { name: guesser.name.to_lowercase(), from }
}

/// Half a second for the first that is held back, then twice as long each time.
fn delay(wrong: u32) -> u64 {
    match wrong.checked_sub(FREE + 1) {
        None => 0,
        Some(more) => (FIRST_DELAY_MS << more.min(8)).min(LONGEST_DELAY_MS),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn guesser<'g>(nas: &'g str, name: &'g str) -> Guesser<'g> {
        Guesser { nas, name, device: None }
    }

    fn from<'g>(device: u8, nas: &'g str, name: &'g str) -> Guesser<'g> {
        Guesser { nas, name, device: Some(Mac([2, 0, 0x5e, 0, 0, device])) }
    }

    #[test]
    fn each_wrong_password_of_a_name_waits_longer_wherever_it_is_tried() {
        let table = GuessTable::default();
        let mut now = 1_000_000;
        let mut delays = Vec::new();
        for number in 0..9 {
            let held = table.wrong(from(number, ["gate-fw-1", "quay-sw-1"][number as usize % 2], "Ida.Marsh"), now);
            delays.push(held.delay.as_millis());
            now += held.delay.as_millis() as u64;
        }
        assert_eq!(delays, [0, 0, 0, 500, 1_000, 2_000, 3_000, 3_000, 3_000]);
        assert_eq!(table.wait(guesser("gate-fw-1", "ida.marsh"), now), Ok(Duration::ZERO), "it was held back");
        assert_eq!(table.wrong(guesser("pilot-vpn-1", "tom.reed"), now).delay, Duration::ZERO, "another name");
        let later = now + FORGET_MS;
        assert_eq!(table.wrong(guesser("pilot-vpn-1", "ida.marsh"), later).of_name, 1, "forgotten");
    }

    #[test]
    fn many_at_once_are_tried_one_after_the_other_and_then_refused_unseen() {
        let table = GuessTable::default();
        for _ in 0..8 {
            table.wrong(guesser("x", "ida"), 0);
        }
        let waits: Vec<_> = (0..4).map(|_| table.wait(guesser("x", "ida"), 0)).collect();
        let held = Err(Held { of_name: 8, delay: Duration::from_secs(3) });
        assert_eq!(waits, [Ok(Duration::from_secs(3)), held, held, held]);
        // When their time has come, still one after the other, though none was counted meanwhile.
        let later: Vec<_> = (0..4).map(|_| table.wait(guesser("x", "ida"), 60_000)).collect();
        assert_eq!(later, [Ok(Duration::ZERO), Ok(Duration::from_secs(3)), held, held]);
    }

    #[test]
    fn whoever_was_right_from_a_device_is_not_shut_out_by_others_that_guess_at_the_name() {
        let table = GuessTable::default();
        let mine = from(1, "quay-sw-1", "ida");
        table.right(mine, 0);
        for device in 2..200 {
            table.wrong(from(device, "quay-sw-1", "ida"), 1_000);
            let _ = table.wait(from(device, "quay-sw-1", "ida"), 1_000);
        }
        assert!(table.wait(from(201, "quay-sw-1", "ida"), 1_000).is_err(), "others are held back");
        assert_eq!(table.wait(mine, 1_000), Ok(Duration::ZERO));
        assert_eq!(table.wait(from(1, "yard-sw-1", "IDA"), 1_000), Ok(Duration::ZERO), "at every NAS");
        assert_eq!(table.wrong(mine, 1_000).of_name, 1, "a count of its own");
        table.right(mine, 1_000);
        assert_eq!(table.wrong(mine, 1_000).of_name, 1, "that begins anew");
        assert!(table.wait(from(201, "quay-sw-1", "ida"), 1_000).is_err(), "theirs goes on");
        for _ in 0..8 {
            table.wrong(mine, 2_000);
        }
        assert!(table.wait(mine, 2_000).is_ok_and(|wait| !wait.is_zero()), "guessing from there is slowed, too");
        assert_eq!(table.lock().lane(mine, RIGHT_FOR_MS + 1_000), Key::Name("ida".into()), "lately");
    }

    #[test]
    fn a_nas_that_tries_many_names_is_held_back_too() {
        let table = GuessTable::default();
        let at = |number: u32, now| table.wrong(guesser("x", &format!("user-{number}")), now).delay.as_millis();
        assert!((0..60).all(|number| at(number, 0) == 0));
        assert_eq!(at(60, 0), 500);
        assert!((61..400).map(|number| at(number, 1_000)).max() == Some(1_500));
        assert_eq!(table.wrong(guesser("y", "user-401"), 1_000).delay, Duration::ZERO);
        assert!((500..502).map(|number| at(number, 61_000)).max() == Some(500), "quieter again after a minute");
    }

    #[test]
    fn what_is_told_says_whose_wrong_ones_they_were() {
        let story = |of_name, delay| Held { of_name, delay: Duration::from_millis(delay) }.story();
        assert_eq!(story(3, 0), None);
        assert_eq!(story(4, 500).unwrap(), "4 wrong ones for this name; the refusal was held back by 0.5 s");
        assert!(story(2, 500).unwrap().starts_with("many wrong ones from this device or through this NAS"));
    }

    proptest! {
        #[test]
        fn the_tables_are_bounded(names in prop::collection::vec("[a-z]{1,3}", 1..50)) {
            let table = GuessTable::default();
            for (number, name) in names.iter().cycle().take(3_000).enumerate() {
                table.wrong(guesser(name, &number.to_string()), number as u64);
                table.right(guesser(name, &number.to_string()), number as u64);
            }
            let tables = table.lock();
            prop_assert!(tables.counts.len() <= MOST && tables.right.len() <= MOST);
        }
    }

    #[test]
    fn a_flood_of_names_forgets_the_oldest_and_nobody_who_was_right() {
        let table = GuessTable::default();
        table.right(guesser("x", "ida"), 0);
        for number in 0..2 * MOST {
            table.wrong(guesser("x", &number.to_string()), number as u64 / 1_000);
        }
        let mut tables = table.lock();
        assert_eq!(tables.counts.len(), MOST);
        assert!(matches!(tables.lane(guesser("x", "ida"), 1_000), Key::Known(_)));
    }
}
