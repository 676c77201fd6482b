use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use regnant_access::{Answer, Unreachable};
use regnant_radius::Secret;
use tokio::sync::oneshot;

use crate::password::verify_password;

/// Threads that verify passwords, with a queue of their own, so that nothing
/// else waits behind a password hash.
#[derive(Clone, Debug)]
pub struct HashPool {
    queue: SyncSender<Job>,
}

#[derive(Debug)]
struct Job {
    password: Secret,
    hash: Option<String>,
    answer: oneshot::Sender<bool>,
}

impl HashPool {
    /// Starts `threads` threads behind a queue of `waiting` places. They end
    /// when the last handle is dropped.
    pub fn start(threads: usize, waiting: usize) -> Self {
        let (queue, jobs) = sync_channel::<Job>(waiting);
        let jobs = Arc::new(Mutex::new(jobs));
        for number in 0..threads {
            let jobs = jobs.clone();
            thread::Builder::new()
                .name(format!("regnant-hash-{number}"))
                .spawn(move || work(&jobs))
                .expect("the system starts a thread");
        }
        Self { queue }
    }

    /// Whether a password has this hash; no answer where the queue is full.
    pub async fn verify(&self, password: Secret, hash: Option<String>) -> Answer<bool> {
        let (answer, result) = oneshot::channel();
        self.queue
            .try_send(Job { password, hash, answer })
            .map_err(|_| Unreachable("too many passwords are waiting to be checked".into()))?;
        result.await.map_err(|_| Unreachable("the service is stopping".into()))
    }
}

fn work(jobs: &Mutex<Receiver<Job>>) {
    loop {
        // Only the wait is under the lock, not the work.
        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(Job { password, hash, answer }) = job else { return };
        // Nobody waits any more: the request was given up.
        if !answer.is_closed() {
            let _ = answer.send(verify_password(password.expose(), hash.as_deref()));
        }
    }
}
