//! Whether a server is asked that failed a moment ago.

use std::time::{Duration, Instant};

/// How long a server that failed is left alone: longer each time, up to the second.
const PAUSE: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(15));
/// Late answers, one after the other, that are taken for chance.
const LATE_ALLOWED: u32 = 2;

/// Whether a server is asked: one that failed is left alone for a while. `T` is what went wrong.
#[derive(Clone, Debug)]
pub struct Breaker<T> {
    failures: u32,
    left_alone: Option<Instant>,
    down: Option<(Instant, T)>,
}

impl<T> Default for Breaker<T> {
    fn default() -> Self {
        Self { failures: 0, left_alone: None, down: None }
    }
}

impl<T: Clone> Breaker<T> {
    /// Whether a question goes to it. Of those that come when it may be tried again one does.
    pub fn may_be_asked(&mut self) -> bool {
        match self.left_alone {
            Some(until) if Instant::now() < until => false,
            Some(_) => {
                self.left_alone = Some(Instant::now() + PAUSE.1);
                true
            }
            None => true,
        }
    }

    /// Whether it is asked, and not left alone.
    pub fn is_up(&self) -> bool {
        self.left_alone.is_none()
    }

    /// Whether it may be tried again.
    pub fn is_due(&self) -> bool {
        self.left_alone.is_some_and(|until| Instant::now() >= until)
    }

    /// It answered; since when it had not.
    pub fn answered(&mut self) -> Option<Duration> {
        let down = self.down.take().map(|(since, _)| since.elapsed());
        *self = Self::default();
        down
    }

    /// It failed. One answer that is `late` may be about one question. What it is now: whether it
    /// is left alone, and whether it was not before.
    pub fn failed(&mut self, late: bool, why: &T) -> (bool, bool) {
        self.failures = (self.failures + 1).min(10);
        let counted = if late { self.failures.saturating_sub(LATE_ALLOWED) } else { self.failures };
        let Some(times) = counted.checked_sub(1) else { return (false, false) };
        self.left_alone = Some(Instant::now() + (PAUSE.0 * (1 << times)).min(PAUSE.1));
        let new = self.down.is_none();
        let since = self.down.as_ref().map_or_else(Instant::now, |(since, _)| *since);
        self.down = Some((since, why.clone()));
        (true, new)
    }

    /// For how long it has not answered, and what went wrong last.
    pub fn down(&self) -> Option<(Duration, &T)> {
        self.down.as_ref().map(|(since, why)| (since.elapsed(), why))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_that_fails_is_left_alone_and_one_late_answer_is_chance() {
        let mut breaker = Breaker::default();
        assert!(breaker.may_be_asked());
        assert_eq!(breaker.failed(true, &"late"), (false, false));
        assert_eq!(breaker.failed(true, &"late"), (false, false));
        assert!(breaker.may_be_asked() && breaker.down().is_none());
        assert_eq!(breaker.failed(false, &"gone"), (true, true));
        assert_eq!(breaker.failed(false, &"gone again"), (true, false));
        assert!(!breaker.may_be_asked() && !breaker.is_up() && !breaker.is_due());
        assert_eq!(breaker.down().map(|(_, why)| *why), Some("gone again"));
        assert!(breaker.answered().is_some() && breaker.may_be_asked() && breaker.answered().is_none());
    }
}
