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
    /// What was taken out for somebody with [`FairQueue::pop_for`] and is not done.
    under_way: HashMap<Arc<str>, usize>,
    count: usize,
    closed: bool,
}

/// What was taken out for somebody is under way until this is dropped.
#[derive(Debug)]
pub struct UnderWay<'q, T> {
    queue: &'q FairQueue<T>,
    who: Arc<str>,
}

impl<T> Default for FairQueue<T> {
    fn default() -> Self {
        let (of, turns, under_way) = Default::default();
        let queues = Queues { of, turns, under_way, count: 0, closed: false };
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
            if let Some((_, one)) = queues.take(usize::MAX) {
                return Some(one);
            }
            if queues.closed {
                return None;
            }
            queues = self.came.wait(queues).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// The same, of somebody who has less than `most` under way: what takes long for one leaves a taker for others.
    pub fn pop_for(&self, most: usize) -> Option<(UnderWay<'_, T>, T)> {
        let mut queues = self.lock();
        loop {
            if let Some((who, one)) = queues.take(most) {
                *queues.under_way.entry(who.clone()).or_default() += 1;
                return Some((UnderWay { queue: self, who }, one));
            }
            if queues.closed && queues.count == 0 {
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
    /// The next of somebody who has less than `most` under way.
    fn take(&mut self, most: usize) -> Option<(Arc<str>, T)> {
        let may = |who: &Arc<str>| self.under_way.get(who).is_none_or(|under_way| *under_way < most);
        let who = self.turns.iter().position(may).and_then(|place| self.turns.remove(place))?;
        let queue = self.of.get_mut(&who)?;
        let one = queue.pop_front();
        match queue.is_empty() {
            true => drop(self.of.remove(&who)),
            false => self.turns.push_back(who.clone()),
        }
        self.count -= usize::from(one.is_some());
        Some((who, one?))
    }
}

impl<T> Drop for UnderWay<'_, T> {
    fn drop(&mut self) {
        let mut queues = self.queue.lock();
        if let Some(under_way) = queues.under_way.get_mut(&self.who) {
            *under_way -= 1;
            if *under_way == 0 {
                queues.under_way.remove(&self.who);
            }
        }
        drop(queues);
        // Somebody may wait for this to be done.
        self.queue.came.notify_all();
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
    fn what_takes_long_for_one_leaves_a_taker_for_others() {
        let queue = FairQueue::default();
        (0..3).for_each(|number| queue.push("busy", ("busy", number), 100).unwrap());
        queue.push("quiet", ("quiet", 0), 100).unwrap();
        let (busy, first) = queue.pop_for(1).unwrap();
        let (quiet, second) = queue.pop_for(1).unwrap();
        assert_eq!([first, second], [("busy", 0), ("quiet", 0)]);
        // Another of the same waits until this one is done.
        std::thread::scope(|scope| {
            let third = scope.spawn(|| queue.pop_for(1).unwrap().1);
            std::thread::sleep(std::time::Duration::from_millis(30));
            assert!(!third.is_finished());
            drop(quiet);
            std::thread::sleep(std::time::Duration::from_millis(30));
            assert!(!third.is_finished());
            drop(busy);
            assert_eq!(third.join().unwrap(), ("busy", 1));
        });
        queue.close();
        assert_eq!(queue.pop_for(1).map(|(_, one)| one), Some(("busy", 2)));
        assert!(queue.pop_for(1).is_none() && queue.lock().under_way.is_empty());
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
