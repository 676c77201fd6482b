use std::time::{Duration, Instant};

use regnant_base::Shares;
use regnant_decision::{Admission, GuessTable, Guesser, Guesses, Held, Timer, Wait};
use tokio::runtime::Handle;

/// Requests that wait at a time. Each has a place in the journal's queue meanwhile, of which there are many
/// more, so that those which need not wait find theirs.
const MOST_WAITING: usize = 2_048;

/// Holds guessers back with the timers of the service's runtime: what waits is a
/// task, never a thread.
#[derive(Debug)]
pub(crate) struct Patience {
    table: GuessTable,
    /// What waits; each NAS has its share.
    waiting: Shares,
    runtime: Handle,
    started: Instant,
}

impl Patience {
    pub(crate) fn new(runtime: Handle) -> Self {
        Self { table: GuessTable::default(), waiting: Shares::default(), runtime, started: Instant::now() }
    }

    /// A clock that nobody sets back: else a name would have to wait until it came round.
    fn now(&self) -> u64 {
        self.started.elapsed().as_millis() as u64
    }

    /// Holds a refusal back for as long as it should be; where too many wait already it goes at once.
    async fn hold(&self, guesser: Guesser<'_>, held: Held) -> Held {
        if held.delay.is_zero() {
            return held;
        }
        match self.waiting.take(guesser.nas, MOST_WAITING) {
            Some(_place) => {
                self.sleep(held.delay).await;
                held
            }
            None => Held { delay: Duration::ZERO, ..held },
        }
    }

    /// A receiving thread has no timers, so the sleep is made for the runtime on which
    /// it will go on.
    async fn sleep(&self, time: Duration) {
        if !time.is_zero() {
            let sleep = {
                let _runtime = self.runtime.enter();
                tokio::time::sleep(time)
            };
            sleep.await;
        }
    }
}

impl Guesses for Patience {
    fn admit<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Admission> {
        Box::pin(async move {
            match self.table.wait(guesser, self.now()) {
                Ok(time) if time.is_zero() => Admission::Tried,
                Ok(time) => match self.waiting.take(guesser.nas, MOST_WAITING) {
                    Some(_place) => {
                        self.sleep(time).await;
                        Admission::Tried
                    }
                    None => Admission::HeldBack(Held::default()),
                },
                Err(held) => Admission::HeldBack(self.hold(guesser, held).await),
            }
        })
    }

    fn wrong<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Held> {
        Box::pin(async move {
            let held = self.table.wrong(guesser, self.now());
            self.hold(guesser, held).await
        })
    }

    fn right(&self, guesser: Guesser<'_>) {
        self.table.right(guesser, self.now());
    }
}

impl Timer for Patience {
    fn sleep(&self, time: Duration) -> Wait<'_, ()> {
        Box::pin(Self::sleep(self, time))
    }
}
