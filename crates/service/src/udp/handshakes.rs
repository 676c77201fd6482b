use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

/// Packets of conversations that may wait for a thread.
const WAITING: usize = 4_096;
/// EAP yields to everything else: a MAC bypass never waits behind a handshake.
const NICE: i32 = 10;

/// Threads for EAP, whose handshakes take long, with a queue of their own.
#[derive(Clone, Debug)]
pub(crate) struct Handshakes {
    queue: SyncSender<Job>,
}

type Job = Box<dyn FnOnce() + Send>;

impl Handshakes {
    /// Starts the threads. They end when the last handle is dropped.
    pub(crate) fn start(threads: usize) -> Self {
        let (queue, jobs) = sync_channel::<Job>(WAITING);
        let jobs = Arc::new(Mutex::new(jobs));
        for number in 0..threads {
            let jobs = jobs.clone();
            thread::Builder::new()
                .name(format!("regnant-eap-{number}"))
                .spawn(move || {
                    // Where the system forbids it, EAP merely competes.
                    let _ = rustix::process::setpriority_process(None, NICE);
                    regnant_eap::warm_up();
                    work(&jobs);
                })
                .expect("the system starts a thread");
        }
        Self { queue }
    }

    /// Does a job when a thread is free; `false` where too many wait.
    pub(crate) fn submit(&self, job: Job) -> bool {
        self.queue.try_send(job).is_ok()
    }
}

fn work(jobs: &Mutex<Receiver<Job>>) {
    loop {
        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(job) = job else { return };
        // A defect of ours may cost one conversation, not the thread.
        if std::panic::catch_unwind(std::panic::AssertUnwindSafe(job)).is_err() {
            tracing::error!("an EAP packet could not be dealt with; please report this");
        }
    }
}
