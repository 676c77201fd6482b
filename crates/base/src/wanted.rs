//! Work for somebody that ends early where nobody wants it any more.

use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Whether work is wanted still: its caller waits, and it has not taken too long.
#[derive(Clone, Debug)]
pub struct Wanted {
    left: Arc<AtomicBool>,
    until: Instant,
}

/// Why work was given up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GivenUp {
    /// Its caller left.
    Left,
    /// It took longer than it may.
    Late,
}

thread_local! {
    /// What this thread works for.
    static NOW: RefCell<Option<Wanted>> = const { RefCell::new(None) };
}

impl Wanted {
    /// For so long from now on at most.
    pub fn for_at_most(time: Duration) -> Self {
        Self { left: Arc::default(), until: Instant::now() + time }
    }

    /// Its caller left.
    pub fn no_more(&self) {
        self.left.store(true, Ordering::Relaxed);
    }

    /// Does work on this thread, as far as it is wanted.
    pub fn work<T>(&self, work: impl FnOnce() -> T) -> Result<T, GivenUp> {
        let before = NOW.replace(Some(self.clone()));
        let done = catch_unwind(AssertUnwindSafe(work));
        NOW.set(before);
        done.or_else(|unwound| match unwound.downcast::<GivenUp>() {
            Ok(given_up) => Err(*given_up),
            Err(defect) => resume_unwind(defect),
        })
    }

    fn given_up(&self) -> Option<GivenUp> {
        match () {
            () if self.left.load(Ordering::Relaxed) => Some(GivenUp::Left),
            () if Instant::now() >= self.until => Some(GivenUp::Late),
            () => None,
        }
    }
}

/// Why what this thread does is not wanted any more, where it is not.
pub fn given_up() -> Option<GivenUp> {
    NOW.with_borrow(|now| now.as_ref()?.given_up())
}

/// A point at which work may end: it goes no further where nobody wants it any more. Nothing that others see may be
/// half done there. Outside [`Wanted::work`] it always goes on.
pub fn go_on() {
    if let Some(given_up) = given_up() {
        // No defect, so that no hook tells of one.
        resume_unwind(Box::new(given_up));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_ends_where_its_caller_left_or_it_took_too_long_and_nowhere_else() {
        let forever = || -> u8 {
            loop {
                go_on();
            }
        };
        let wanted = Wanted::for_at_most(Duration::from_secs(60));
        let caller = wanted.clone();
        let leaves = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(20));
            caller.no_more();
        });
        assert_eq!(wanted.work(forever), Err(GivenUp::Left));
        leaves.join().unwrap();
        assert_eq!(Wanted::for_at_most(Duration::from_millis(20)).work(forever), Err(GivenUp::Late));
        assert_eq!(Wanted::for_at_most(Duration::ZERO).work(|| 7), Ok(7));
        // Nothing is left of it on the thread.
        go_on();
        let defect =
            catch_unwind(|| Wanted::for_at_most(Duration::from_secs(60)).work(|| -> u8 { panic!("on purpose") }));
        assert!(defect.is_err());
        go_on();
    }
}
