use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use crate::udp::conversations::Waiting;

/// Packets of conversations that may wait for a thread.
const WAITING: usize = 4_096;
/// EAP yields to everything else: a MAC bypass never waits behind a handshake. The
/// locks that its threads share with the others are held for moments only.
const NICE: i32 = 10;

/// Threads for EAP, whose handshakes take long, with a queue of their own.
#[derive(Clone, Debug)]
pub(crate) struct Handshakes<T = Waiting> {
    queue: SyncSender<Job<T>>,
}

/// A conversation, and what is to be done with it.
type Job<T> = (T, Box<dyn FnOnce(T) + Send>);

impl<T: Send + 'static> Handshakes<T> {
    /// Starts the threads. They end when the last handle is dropped.
    pub(crate) fn start(threads: usize) -> Self {
        let (queue, jobs) = sync_channel::<Job<T>>(WAITING);
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

    /// Works on a conversation when a thread is free. Where too many wait it comes
    /// back as it was.
    pub(crate) fn submit(&self, waiting: T, work: Box<dyn FnOnce(T) + Send>) -> Result<(), T> {
        self.queue.try_send((waiting, work)).map_err(|full| match full {
            TrySendError::Full((waiting, _)) | TrySendError::Disconnected((waiting, _)) => waiting,
        })
    }
}

fn work<T>(jobs: &Mutex<Receiver<Job<T>>>) {
    loop {
        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok((waiting, work)) = job else { return };
        // A defect of ours may cost one conversation, not the thread.
        if std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| work(waiting))).is_err() {
            tracing::error!("an EAP packet could not be dealt with; please report this");
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Barrier;
    use std::sync::mpsc::channel;

    use super::*;

    #[test]
    fn who_finds_the_queue_full_gets_the_conversation_back_and_a_defect_costs_one_job() {
        let pool = Handshakes::start(1);
        let (begun, gate) = (Arc::new(Barrier::new(2)), Arc::new(Barrier::new(2)));
        let (reached, free) = (begun.clone(), gate.clone());
        let held = move |_| {
            reached.wait();
            free.wait();
            panic!("a defect");
        };
        pool.submit(0, Box::new(held)).unwrap();
        begun.wait();
        let (done, results) = channel();
        let submit = |number| {
            let done = done.clone();
            pool.submit(number, Box::new(move |number| done.send(number).unwrap()))
        };
        assert!((1..=WAITING).all(|number| submit(number).is_ok()));
        assert_eq!(submit(9_999), Err(9_999));
        gate.wait();
        assert!((1..=WAITING).all(|number| results.recv().unwrap() == number), "in order, after the defect");
        submit(7).unwrap();
        assert_eq!(results.recv().unwrap(), 7);
    }
}
