use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// A bounded queue from which everybody who waits in it is served in turn, however
/// much somebody else has waiting.
#[derive(Debug)]
pub struct FairQueue<T> {
    queues: Mutex<Queues<T>>,
    came: Condvar,
}

#[derive(Debug)]
struct Queues<T> {
    of: HashMap<Arc<str>, VecDeque<T>>,
    /// Whoever has something waiting, each once.
    turns: VecDeque<Arc<str>>,
    count: usize,
    closed: bool,
}

impl<T> Default for FairQueue<T> {
    fn default() -> Self {
        let queues = Queues { of: HashMap::new(), turns: VecDeque::new(), count: 0, closed: false };
        Self { queues: Mutex::new(queues), came: Condvar::new() }
    }
}

impl<T> FairQueue<T> {
    /// Puts something in for somebody, where `most` may wait; it comes back where
    /// their share is taken (as in [`crate::Shares`]) or the queue is closed.
    pub fn push(&self, who: &str, one: T, most: usize) -> Result<(), T> {
        let mut queues = self.lock();
        let waiting = queues.of.get(who).map_or(0, VecDeque::len);
        if queues.closed || waiting >= most.saturating_sub(queues.count) {
            return Err(one);
        }
        match queues.of.get_mut(who) {
            Some(queue) => queue.push_back(one),
            None => {
                let who: Arc<str> = Arc::from(who);
                queues.turns.push_back(who.clone());
                queues.of.insert(who, VecDeque::from([one]));
            }
        }
        queues.count += 1;
        drop(queues);
        self.came.notify_one();
        Ok(())
    }

    /// Takes the next out, and waits for one; none once the queue is closed and
    /// empty.
    pub fn pop(&self) -> Option<T> {
        let mut queues = self.lock();
        loop {
            if let Some(one) = queues.take() {
                return Some(one);
            }
            if queues.closed {
                return None;
            }
            queues = self.came.wait(queues).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Ends the queue: nothing more comes in, and what waits is still taken out.
    pub fn close(&self) {
        self.lock().closed = true;
        self.came.notify_all();
    }

    fn lock(&self) -> MutexGuard<'_, Queues<T>> {
        self.queues.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl<T> Queues<T> {
    fn take(&mut self) -> Option<T> {
        let who = self.turns.pop_front()?;
        let queue = self.of.get_mut(&who)?;
        let one = queue.pop_front();
        match queue.is_empty() {
            true => drop(self.of.remove(&who)),
            false => self.turns.push_back(who),
        }
        self.count -= usize::from(one.is_some());
        one
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_waits_behind_itself_alone() {
        let queue = FairQueue::default();
        let flood = (0..1_000).take_while(|number| queue.push("busy", ("busy", *number), 100).is_ok()).count();
        assert_eq!(flood, 50, "its share");
        for number in 0..3 {
            queue.push("quiet", ("quiet", number), 100).unwrap();
        }
        let first: Vec<_> = (0..6).map(|_| queue.pop().unwrap()).collect();
        assert_eq!(first, [("busy", 0), ("quiet", 0), ("busy", 1), ("quiet", 1), ("busy", 2), ("quiet", 2)]);
        queue.close();
        assert!(queue.push("quiet", ("quiet", 9), 100).is_err());
        let rest: Vec<_> = std::iter::from_fn(|| queue.pop()).collect();
        assert_eq!((rest.len(), rest[0]), (47, ("busy", 3)), "in order, to the last");
        assert!(queue.lock().of.is_empty() && queue.lock().count == 0);
    }

    #[test]
    fn whoever_waits_is_woken() {
        let queue = Arc::new(FairQueue::default());
        let taker = std::thread::spawn({
            let queue = queue.clone();
            move || std::iter::from_fn(|| queue.pop()).sum::<u32>()
        });
        for number in 1..=100 {
            while queue.push("one", number, 8).is_err() {
                std::thread::yield_now();
            }
        }
        queue.close();
        assert_eq!(taker.join().unwrap(), 5_050);
    }
}
