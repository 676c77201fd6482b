use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::BoundedMap;

/// Wrong passwords for one name from one source within [`WINDOW`] before it must wait.
const MOST_OF_NAME: u32 = 10;
/// And for all names.
const MOST_OF_SOURCE: u32 = 60;
/// Wrong passwords that the audit tells of within [`WINDOW`].
const MOST_TOLD: u32 = 10;
const WINDOW: Duration = Duration::from_secs(60);
/// How long a source from which somebody signed in, or used a token, stays known.
const KNOWN_FOR: Duration = Duration::from_secs(12 * 3_600);
/// Names and sources that are remembered at a time; the oldest go first.
const MOST: usize = 4_096;

/// Wrong passwords at sign-in, so that guessing is slow, without anybody being kept
/// out by somebody who guesses from elsewhere.
#[derive(Debug)]
pub(crate) struct Attempts {
    inner: Mutex<Tables>,
}

#[derive(Debug)]
struct Tables {
    wrong: BoundedMap<(String, IpAddr), (u32, Instant)>,
    known: BoundedMap<(String, IpAddr), Instant>,
    /// How many the audit was told of within a minute, and since when.
    told: Option<(u32, Instant)>,
}

impl Default for Attempts {
    fn default() -> Self {
        Self { inner: Mutex::new(Tables { wrong: BoundedMap::new(MOST), known: BoundedMap::new(MOST), told: None }) }
    }
}

impl Attempts {
    /// Whether a password may be tried. Where somebody works already, it may always:
    /// they are never shut out.
    pub(crate) fn allow(&self, name: &str, source: IpAddr) -> bool {
        self.allow_at(name, source, Instant::now())
    }

    /// Whether something that is guessed sooner than a password may be tried: whoever works
    /// there waits too.
    pub(crate) fn allow_guess(&self, name: &str, source: IpAddr) -> bool {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let wrong = inner.wrong.get(&(name.to_lowercase(), source));
        wrong.is_none_or(|(count, since)| *count < MOST_OF_NAME || since.elapsed() >= WINDOW)
    }

    /// Counts a wrong password. True for the first of a name and source within a minute, and
    /// only for so many of all: so many the audit tells.
    pub(crate) fn wrong(&self, name: &str, source: IpAddr) -> bool {
        let now = Instant::now();
        let first = self.wrong_at(name, source, now);
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let (count, since) = inner.told.get_or_insert((0, now));
        if now.duration_since(*since) >= WINDOW {
            (*count, *since) = (0, now);
        }
        *count += u32::from(first);
        first && *count <= MOST_TOLD
    }

    /// Somebody signed in from there, or used a token.
    pub(crate) fn right(&self, name: &str, source: IpAddr) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.known.insert((name.to_lowercase(), source), Instant::now());
    }

    fn allow_at(&self, name: &str, source: IpAddr, now: Instant) -> bool {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let known = inner.known.get(&(name.to_lowercase(), source));
        let count = |name: String| match inner.wrong.get(&(name, source)) {
            Some((count, since)) if now.duration_since(*since) < WINDOW => *count,
            _ => 0,
        };
        known.is_some_and(|since| now.duration_since(*since) < KNOWN_FOR)
            || (count(name.to_lowercase()) < MOST_OF_NAME && count(String::new()) < MOST_OF_SOURCE)
    }

    fn wrong_at(&self, name: &str, source: IpAddr, now: Instant) -> bool {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        // An empty name stands for all of a source; it is nobody's.
        let mut first = false;
        for name in HashSet::from([name.to_lowercase(), String::new()]) {
            let own = !name.is_empty();
            let (count, since) = inner.wrong.touch((name, source), || (0, now));
            if now.duration_since(*since) >= WINDOW {
                (*count, *since) = (0, now);
            }
            *count += 1;
            first |= own && *count == 1;
        }
        first
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn source(number: u8) -> IpAddr {
        IpAddr::from([10, 44, 0, number])
    }

    #[test]
    fn guessing_is_slow_by_name_and_source_and_shuts_nobody_else_out() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for round in 0..10 {
            assert!(attempts.allow_at("Harbour", source(1), now));
            let first = attempts.wrong_at("harbour", source(1), now);
            assert_eq!(first, round == 0);
        }
        assert!(!attempts.allow_at("harbour", source(1), now));
        assert!(attempts.allow_at("harbour", source(2), now), "elsewhere the same name may");
        assert!(attempts.allow_at("radius", source(1), now), "and another name here");
        assert!(attempts.allow_at("harbour", source(1), now + WINDOW), "again after a minute");
        for number in 0..60 {
            attempts.wrong_at(&format!("guess-{number}"), source(3), now);
        }
        assert!(!attempts.allow_at("anybody", source(3), now), "many names from one source");
        attempts.right("harbour", source(1));
        assert!(attempts.allow_at("harbour", source(1), now), "who works there is never shut out");
    }

    #[test]
    fn a_flood_of_names_keeps_nobody_out_and_takes_bounded_room() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for number in 0..3 * MOST {
            attempts.wrong_at(&number.to_string(), IpAddr::from((number as u32).to_be_bytes()), now);
        }
        assert!(attempts.allow_at("harbour", source(1), now));
        assert_eq!(attempts.inner.lock().unwrap().wrong.len(), MOST);
    }
}
