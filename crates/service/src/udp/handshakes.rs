use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use regnant_base::FairQueue;

use crate::udp::conversations::Waiting;

/// Packets of conversations that may wait for a thread.
const WAITING: usize = 4_096;
/// For so long: equipment has sent a packet again by then, or given up.
const PATIENCE: Duration = Duration::from_secs(4);
/// EAP yields to everything else: a MAC bypass never waits behind a handshake. The
/// locks that its threads share with the others are held for moments only.
const NICE: i32 = 10;

/// Threads for EAP, whose handshakes take long, with a queue of their own from which
/// every NAS is served in turn.
#[derive(Debug)]
pub(crate) struct Handshakes<T = Waiting> {
    queue: Arc<FairQueue<Job<T>>>,
    threads: Mutex<Vec<JoinHandle<()>>>,
}

/// A conversation, and what is to be done with it.
struct Job<T> {
    waiting: T,
    since: Instant,
    work: Work<T>,
}

/// What is to be done with a conversation when its turn has come.
pub(crate) type Work<T> = Box<dyn FnOnce(T, Turn) + Send>;

/// When a conversation's turn has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Turn {
    InTime,
    /// Nobody waits for this packet any more: the conversation is to be as if it had not come.
    TooLate,
}

impl<T> std::fmt::Debug for Job<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Job(..)")
    }
}

impl<T: Send + 'static> Handshakes<T> {
    /// Starts the threads. They end when this is dropped.
    pub(crate) fn start(threads: usize) -> Self {
        let queue = Arc::<FairQueue<Job<T>>>::default();
        let start = |number| {
            let queue = queue.clone();
            thread::Builder::new()
                .name(format!("regnant-eap-{number}"))
                .spawn(move || {
                    // Where the system forbids it, EAP merely competes.
                    let _ = rustix::process::setpriority_process(None, NICE);
                    regnant_eap::warm_up();
                    work(&queue);
                })
                .expect("the system starts a thread")
        };
        let threads = (0..threads).map(start).collect();
        Self { queue, threads: Mutex::new(threads) }
    }

    /// Works on a conversation when a thread is free. Where too many of its NAS wait
    /// it comes back as it was.
    pub(crate) fn submit(&self, nas: &str, waiting: T, work: Work<T>) -> Result<(), T> {
        let job = Job { waiting, since: Instant::now(), work };
        self.queue.push(nas, job, WAITING).map_err(|job| job.waiting)
    }
}

impl<T> Handshakes<T> {
    /// Ends what waits, and the threads. They are waited for: a thread that asks the TLS library
    /// for randomness while the process ends has the whole process aborted.
    pub(crate) fn end(&self) {
        self.queue.close();
        let threads = std::mem::take(&mut *self.threads.lock().unwrap_or_else(PoisonError::into_inner));
        // The last who holds this may be one of them.
        let others = threads.into_iter().filter(|one| one.thread().id() != thread::current().id());
        others.for_each(|one| drop(one.join()));
    }
}

impl<T> Drop for Handshakes<T> {
    fn drop(&mut self) {
        self.end();
    }
}

fn work<T>(queue: &FairQueue<Job<T>>) {
    while let Some(Job { waiting, since, work }) = queue.pop() {
        let turn = if since.elapsed() < PATIENCE { Turn::InTime } else { Turn::TooLate };
        // A defect of ours may cost one conversation, not the thread.
        if std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| work(waiting, turn))).is_err() {
            tracing::error!("an EAP packet could not be dealt with; please report this");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Barrier;
    use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
    use std::sync::mpsc::channel;

    #[test]
    fn who_finds_no_room_gets_the_conversation_back_and_a_defect_costs_one_job() {
        let pool = Handshakes::start(1);
        let (begun, gate) = (Arc::new(Barrier::new(2)), Arc::new(Barrier::new(2)));
        let (reached, free) = (begun.clone(), gate.clone());
        let held = move |_, _| {
            reached.wait();
            free.wait();
            panic!("a defect");
        };
        pool.submit("busy", 0, Box::new(held)).unwrap();
        begun.wait();
        let (done, results) = channel();
        let submit = |nas, number| {
            let done = done.clone();
            pool.submit(nas, number, Box::new(move |number, _| done.send(number).unwrap()))
        };
        let taken = (1..).take_while(|number| submit("busy", *number).is_ok()).count();
        assert_eq!(taken, WAITING / 2, "its share");
        submit("quiet", 9_999).unwrap();
        gate.wait();
        let order: Vec<_> = (0..=taken).map(|_| results.recv().unwrap()).collect();
        assert_eq!(order[..4], [1, 9_999, 2, 3], "in turn, and after the defect");
        submit("busy", 7).unwrap();
        assert_eq!(results.recv().unwrap(), 7);
    }

    #[test]
    fn what_waited_too_long_is_told_so() {
        let queue = FairQueue::default();
        let (done, results) = channel();
        for age in [Duration::ZERO, PATIENCE] {
            let done = done.clone();
            let work: Work<()> = Box::new(move |(), turn| done.send(turn).unwrap());
            let since = Instant::now().checked_sub(age).expect("this machine runs for longer");
            queue.push("busy", Job { waiting: (), since, work }, WAITING).ok().unwrap();
        }
        queue.close();
        work(&queue);
        assert_eq!([results.recv().unwrap(), results.recv().unwrap()], [Turn::InTime, Turn::TooLate]);
    }

    #[test]
    fn whatever_waits_is_done_before_it_has_ended_and_no_thread_is_left() {
        let pool = Handshakes::start(3);
        let done = Arc::new(AtomicUsize::new(0));
        let job = || {
            let done = done.clone();
            Box::new(move |number, _| {
                thread::sleep(Duration::from_millis(1));
                done.fetch_add(number, Relaxed);
            })
        };
        for _ in 0..50 {
            pool.submit("busy", 1, job()).unwrap();
        }
        pool.end();
        assert_eq!(done.load(Relaxed), 50);
        assert_eq!(Arc::strong_count(&pool.queue), 1, "a thread has it still");
        assert_eq!(pool.submit("busy", 7, job()), Err(7));
    }
}
