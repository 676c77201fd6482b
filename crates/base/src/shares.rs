use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Room that many share, so that one who takes much leaves room for the rest.
///
/// Each may take as much as is free: alone, half of it; and whoever comes after
/// always finds some (the dynamic thresholds of shared packet buffers).
#[derive(Clone, Debug, Default)]
pub struct Shares {
    inner: Arc<Mutex<Taken>>,
}

#[derive(Debug, Default)]
struct Taken {
    all: usize,
    of: HashMap<Arc<str>, usize>,
}

/// Room that is taken, and free again when this is dropped.
#[derive(Debug)]
pub struct Place {
    shares: Shares,
    who: Arc<str>,
    many: usize,
}

impl Shares {
    /// Takes one place of `most` for somebody; none where their share is taken.
    pub fn take(&self, who: &str, most: usize) -> Option<Place> {
        self.take_of(who, most, 1)
    }

    /// The same where each may take `weight` times as much as is free: alone, with 4, four fifths of it.
    pub fn take_of(&self, who: &str, most: usize, weight: usize) -> Option<Place> {
        self.take_many(who, most, weight, 1)
    }

    /// The same of several places at once, one at least: all of them, or none.
    pub fn take_many(&self, who: &str, most: usize, weight: usize, many: usize) -> Option<Place> {
        let many = many.max(1);
        let mut taken = self.lock();
        let (who, own) = match taken.of.get_key_value(who) {
            Some((who, own)) => (who.clone(), *own),
            None => (Arc::from(who), 0),
        };
        // What is free before the last of them is taken, and what is one's own then.
        let (free, own) = ((most + 1).saturating_sub(taken.all + many), own + many - 1);
        // The last is for somebody else.
        if own >= free.saturating_mul(weight) || (own > 0 && free == 1) {
            return None;
        }
        taken.all += many;
        taken.of.insert(who.clone(), own + 1);
        Some(Place { shares: self.clone(), who, many })
    }

    /// How much is taken by all.
    pub fn taken(&self) -> usize {
        self.lock().all
    }

    fn lock(&self) -> MutexGuard<'_, Taken> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut taken = self.shares.lock();
        taken.all -= self.many;
        if let Some(own) = taken.of.get_mut(&self.who) {
            *own -= self.many;
            if *own == 0 {
                taken.of.remove(&self.who);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn who_takes_all_it_can_leaves_room_for_whoever_comes_after() {
        let shares = Shares::default();
        let greedy: Vec<_> = std::iter::from_fn(|| shares.take("busy", 100)).collect();
        assert_eq!(greedy.len(), 50);
        let quiet: Vec<_> = std::iter::from_fn(|| shares.take("quiet", 100)).collect();
        assert_eq!(quiet.len(), 25);
        assert!(shares.take("third", 100).is_some());
        drop(greedy);
        assert_eq!(shares.taken(), 25);
        assert!(shares.take("quiet", 100).is_some(), "what was given back is free");
        drop(quiet);
        assert_eq!(shares.taken(), 0);
        assert!(shares.lock().of.is_empty(), "nobody is remembered");
        assert!(shares.take("x", 0).is_none() && shares.take("x", 1).is_some());
    }

    #[test]
    fn alone_with_more_weight_one_takes_more_and_still_leaves_room() {
        let shares = Shares::default();
        let greedy: Vec<_> = std::iter::from_fn(|| shares.take_of("busy", 100, 4)).collect();
        assert_eq!(greedy.len(), 80);
        assert!(shares.take_of("quiet", 100, 4).is_some());
        let few = Shares::default();
        let greedy: Vec<_> = std::iter::from_fn(|| few.take_of("busy", 4, 4)).collect();
        assert_eq!(greedy.len(), 3);
        assert!(few.take_of("quiet", 4, 4).is_some());
    }

    proptest! {
        #[test]
        fn never_more_than_there_is_and_always_room_for_a_newcomer(
            steps in prop::collection::vec((0..6u8, any::<bool>(), 1..40_usize), 1..400),
        ) {
            let shares = Shares::default();
            let mut held = Vec::<Place>::new();
            for (who, takes, many) in steps {
                match takes {
                    true => held.extend(shares.take_many(&who.to_string(), 64, 1, many)),
                    false => drop((!held.is_empty()).then(|| held.swap_remove(usize::from(who) % held.len()))),
                }
                let all: usize = held.iter().map(|place| place.many).sum();
                prop_assert!(all < 64 && shares.taken() == all);
                prop_assert!(shares.take("somebody new", 64).is_some());
            }
        }
    }
}
