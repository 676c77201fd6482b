use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::{FairQueue, Secret};
use regnant_decision::{Answer, NoAnswer};
use tokio::sync::oneshot;

use crate::known_passwords::KnownPasswords;
use crate::password::verify_password;

/// What a hash takes before one was measured.
const FIRST_GUESS: Duration = Duration::from_millis(30);

/// Threads that verify passwords, with a queue of their own, so that nothing
/// else waits behind a password hash. Who asks is served in turn.
#[derive(Clone, Debug)]
pub struct HashPool {
    shared: Arc<Shared>,
    _end: Arc<End>,
}

#[derive(Debug)]
struct Shared {
    queue: FairQueue<Job>,
    known: KnownPasswords,
    threads: u64,
    /// How long whoever asks waits: what could not be checked by then is not worth checking.
    patience: Duration,
    /// What a hash takes, in microseconds.
    takes: AtomicU64,
}

/// Ends the threads with the last handle.
#[derive(Debug)]
struct End(Arc<Shared>);

impl Drop for End {
    fn drop(&mut self) {
        self.0.queue.close();
    }
}

#[derive(Debug)]
struct Job {
    password: Secret,
    hash: Option<String>,
    answer: oneshot::Sender<bool>,
}

impl HashPool {
    /// Starts the threads. Whoever asks waits for so long at most.
    pub fn start(threads: usize, patience: Duration) -> Self {
        let takes = AtomicU64::new(FIRST_GUESS.as_micros() as u64);
        let shared = Arc::new(Shared {
            queue: FairQueue::default(),
            known: KnownPasswords::default(),
            threads: threads as u64,
            patience,
            takes,
        });
        for number in 0..threads {
            let shared = shared.clone();
            thread::Builder::new()
                .name(format!("regnant-hash-{number}"))
                .spawn(move || shared.work())
                .expect("the system starts a thread");
        }
        Self { _end: Arc::new(End(shared.clone())), shared }
    }

    /// Whether a password has this hash; no answer where more waits than can be
    /// done in time, or more than its share for whoever asks.
    pub async fn verify(&self, asker: &str, password: Secret, hash: Option<String>) -> Answer<bool> {
        if hash.as_deref().is_some_and(|hash| self.shared.known.holds(&password, hash)) {
            return Ok(true);
        }
        let (answer, result) = oneshot::channel();
        self.shared
            .queue
            .push(asker, Job { password, hash, answer }, self.shared.room())
            .map_err(|_| NoAnswer::NoRoom("too many passwords are waiting to be checked".into()))?;
        result.await.map_err(|_| NoAnswer::NoRoom("the service is stopping".into()))
    }

    /// What a hash takes, as measured.
    pub fn takes(&self) -> Duration {
        Duration::from_micros(self.shared.takes.load(Ordering::Relaxed))
    }
}

impl Shared {
    /// How many checks may wait.
    fn room(&self) -> usize {
        let takes = self.takes.load(Ordering::Relaxed).max(1);
        (self.threads * self.patience.as_micros() as u64 / takes).max(2) as usize
    }

    fn work(&self) {
        while let Some(Job { password, hash, answer }) = self.queue.pop() {
            // Nobody waits any more: the request was given up.
            if answer.is_closed() {
                continue;
            }
            let begun = Instant::now();
            let right = verify_password(password.expose(), hash.as_deref());
            if let (true, Some(hash)) = (right, &hash) {
                self.known.add(&password, hash);
            }
            let _ = answer.send(right);
            let (took, before) = (begun.elapsed().as_micros() as u64, self.takes.load(Ordering::Relaxed));
            self.takes.store((7 * before + took) / 8, Ordering::Relaxed);
        }
    }
}
