//! What reads or checks much for somebody: few threads of low priority, of which everybody has a share, so that neither
//! RADIUS nor anybody else at the console waits for it.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::{FairQueue, GivenUp, Wanted};
use tokio::sync::oneshot;

use crate::http::error::ApiError;

/// How much less important they are than what answers equipment.
const NICE: i32 = 10;
/// What one administrator may have waiting.
const EACH: usize = 16;
/// How long anything waits for its turn.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long anything takes with that: the check of the largest policies takes seconds.
const LONGEST: Duration = Duration::from_secs(90);

/// Work that waits for a thread.
type Job = Box<dyn FnOnce() + Send>;

/// The threads, which end with this.
pub(crate) struct Study(Arc<FairQueue<Job>>);

impl Study {
    pub(crate) fn start(threads: usize) -> Self {
        let queue = Arc::<FairQueue<Job>>::default();
        for number in 0..threads {
            let queue = queue.clone();
            let work = move || {
                // Where the system forbids it, it merely competes.
                let _ = rustix::process::setpriority_process(None, NICE);
                // However long something takes for one, another finds a thread.
                while let Some((_under_way, job)) = queue.pop_for(threads.saturating_sub(1).max(1)) {
                    if catch_unwind(AssertUnwindSafe(job)).is_err() {
                        tracing::error!("a call of the API ended in a defect");
                    }
                }
            };
            thread::Builder::new()
                .name(format!("regnant-study-{number}"))
                .spawn(work)
                .expect("the system starts a thread");
        }
        Self(queue)
    }

    /// Has a thread do something for somebody, once it is their turn. Where they leave, it ends at its next point to
    /// do so ([`regnant_base::go_on`]), or does not begin.
    pub(crate) async fn run<T, E>(
        &self,
        who: &str,
        work: impl FnOnce() -> Result<T, E> + Send + 'static,
    ) -> Result<T, ApiError>
    where
        T: Send + 'static,
        E: Into<ApiError> + Send + 'static,
    {
        let ((send, answer), until) = (oneshot::channel(), Instant::now() + PATIENCE);
        let wanted = Wanted::for_at_most(LONGEST);
        let leaves = Leaves(wanted.clone());
        let job = move || {
            if !send.is_closed() && Instant::now() < until {
                drop(send.send(wanted.work(work)));
            }
        };
        let too_many =
            || ApiError::too_many("Too much is being checked for you; wait until it is done, then try again.");
        self.0.push(who, Box::new(job), EACH).map_err(|_| too_many())?;
        let answer = answer.await;
        drop(leaves);
        match answer {
            Ok(Ok(done)) => done.map_err(Into::into),
            Ok(Err(GivenUp::Left | GivenUp::Late)) => Err(ApiError::too_large(format!(
                "It takes more than {} s to check this: make it smaller, or ask for less at once.",
                LONGEST.as_secs()
            ))),
            Err(_) if Instant::now() < until => Err(ApiError::ours("what was asked for ended in a defect")),
            Err(_) => Err(ApiError::too_many("Too much is being checked; try again in a moment.")),
        }
    }
}

/// Dropped with the call: whoever made it waits no more.
struct Leaves(Wanted);

impl Drop for Leaves {
    fn drop(&mut self) {
        self.0.no_more();
    }
}

impl Drop for Study {
    fn drop(&mut self) {
        self.0.close();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use regnant_base::go_on;

    use super::*;

    /// Counts that it ended, however that is.
    struct Seen(Arc<AtomicUsize>);

    impl Drop for Seen {
        fn drop(&mut self) {
            self.0.fetch_add(1, Ordering::Relaxed);
        }
    }

    #[tokio::test]
    async fn one_who_asks_much_is_held_to_a_share_and_who_leaves_costs_nothing() {
        let study = Arc::new(Study::start(2));
        let ran = Arc::new(AtomicUsize::new(0));
        let slow = |who: &'static str| {
            let (study, ran) = (study.clone(), ran.clone());
            tokio::spawn(async move {
                let work = move || {
                    thread::sleep(Duration::from_millis(150));
                    ran.fetch_add(1, Ordering::Relaxed);
                    Ok::<_, ApiError>(())
                };
                study.run(who, work).await
            })
        };
        let many: Vec<_> = (0..30).map(|_| slow("one")).collect();
        tokio::time::sleep(Duration::from_millis(50)).await;
        assert!(slow("other").await.unwrap().is_ok());
        let before = ran.load(Ordering::Relaxed);
        assert!(before < 9, "another waits for a turn, and not for all {before} that were before");
        let mut refused = 0;
        for (number, one) in many.into_iter().enumerate() {
            // Those that wait still leave.
            match number % 2 == 0 && !one.is_finished() {
                true => one.abort(),
                false => refused += usize::from(one.await.unwrap().is_err()),
            }
        }
        assert!(refused >= 10, "{refused} of 30 were refused");
        tokio::time::sleep(Duration::from_millis(600)).await;
        let ran = ran.load(Ordering::Relaxed);
        assert!(ran < 16, "who left costs nothing, and {ran} ran of 19");
        // Who leaves ends what is under way for them.
        let ended = Arc::new(AtomicUsize::new(0));
        let seen = ended.clone();
        let endless = study.run("one", move || -> Result<(), ApiError> {
            let _seen = Seen(seen);
            loop {
                thread::sleep(Duration::from_millis(1));
                go_on();
            }
        });
        assert!(tokio::time::timeout(Duration::from_millis(100), endless).await.is_err());
        for _ in 0..100 {
            tokio::time::sleep(Duration::from_millis(10)).await;
            if ended.load(Ordering::Relaxed) == 1 {
                break;
            }
        }
        assert_eq!(ended.load(Ordering::Relaxed), 1, "it goes on without its caller");
        // A defect ends nothing but itself.
        let broken = study.run("one", || -> Result<(), ApiError> { panic!("on purpose") }).await;
        assert!(broken.is_err());
        assert!(study.run("one", || Ok::<_, ApiError>(())).await.is_ok());
    }
}
