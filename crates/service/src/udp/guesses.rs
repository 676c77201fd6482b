use std::time::{Duration, Instant};

use regnant_decision::{Answer, GuessTable, Guesser, Guesses, Held, Timer, Unreachable, Wait};
use tokio::runtime::Handle;

/// Holds guessers back with the timers of the service's runtime: what waits is a
/// task, never a thread.
#[derive(Debug)]
pub(crate) struct Patience {
    table: GuessTable,
    runtime: Handle,
    started: Instant,
}

impl Patience {
    pub(crate) fn new(runtime: Handle) -> Self {
        Self { table: GuessTable::default(), runtime, started: Instant::now() }
    }

    /// A clock that nobody sets back: else a name would have to wait until it came round.
    fn now(&self) -> u64 {
        self.started.elapsed().as_millis() as u64
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
    fn admit<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Answer<()>> {
        Box::pin(async move {
            match self.table.wait(guesser, self.now()) {
                Some(time) => {
                    self.sleep(time).await;
                    Ok(())
                }
                None => Err(Unreachable("too many passwords for this name wait at this NAS".into())),
            }
        })
    }

    fn wrong<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Held> {
        Box::pin(async move {
            let held = self.table.wrong(guesser, self.now());
            self.sleep(held.delay).await;
            held
        })
    }

    fn right(&self, guesser: Guesser<'_>) {
        self.table.right(guesser);
    }
}

impl Timer for Patience {
    fn sleep(&self, time: Duration) -> Wait<'_, ()> {
        Box::pin(Self::sleep(self, time))
    }
}
