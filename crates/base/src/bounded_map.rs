use std::borrow::Borrow;
use std::collections::{HashMap, VecDeque};
use std::fmt;
use std::hash::Hash;

/// A map with a bound: where it is full, the entry that was put, or touched, longest ago
/// goes. It knows no clock; what is too old is taken from its old end by
/// [`Self::forget_while`].
pub struct BoundedMap<K, V> {
    most: usize,
    entries: HashMap<K, Entry<V>>,
    /// Keys from the oldest on; one whose turn is not its entry's any more counts no
    /// longer.
    order: VecDeque<(u64, K)>,
    turn: u64,
}

struct Entry<V> {
    turn: u64,
    value: V,
}

/// Turns that count no longer are cleared away when there are as many as others, and
/// this many more.
const SLACK: usize = 1_024;

impl<K: Clone + Eq + Hash, V> BoundedMap<K, V> {
    /// An empty map for at most so many entries.
    pub fn new(most: usize) -> Self {
        Self { most, entries: HashMap::new(), order: VecDeque::new(), turn: 0 }
    }

    /// How many entries there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Puts an entry, as the youngest, and gives what it takes the place of.
    pub fn insert(&mut self, key: K, value: V) -> Option<V> {
        let turn = self.next_turn(key.clone());
        let before = self.entries.insert(key, Entry { turn, value });
        while self.entries.len() > self.most {
            let Some((turn, oldest)) = self.order.pop_front() else { break };
            if self.is_current(turn, &oldest) {
                self.entries.remove(&oldest);
            }
        }
        before.map(|entry| entry.value)
    }

    /// The value of a key.
    pub fn get<Q: Eq + Hash + ?Sized>(&self, key: &Q) -> Option<&V>
    where
        K: Borrow<Q>,
    {
        self.entries.get(key).map(|entry| &entry.value)
    }

    /// The key as it is kept, and its value.
    pub fn get_key_value<Q: Eq + Hash + ?Sized>(&self, key: &Q) -> Option<(&K, &V)>
    where
        K: Borrow<Q>,
    {
        self.entries.get_key_value(key).map(|(key, entry)| (key, &entry.value))
    }

    /// The value of a key, to be changed; it grows no younger by that.
    pub fn get_mut<Q: Eq + Hash + ?Sized>(&mut self, key: &Q) -> Option<&mut V>
    where
        K: Borrow<Q>,
    {
        self.entries.get_mut(key).map(|entry| &mut entry.value)
    }

    /// The value of a key, made where there is none, as the youngest.
    pub fn touch(&mut self, key: K, make: impl FnOnce() -> V) -> &mut V {
        let value = self.remove(&key).unwrap_or_else(make);
        self.insert(key.clone(), value);
        &mut self.entries.get_mut(&key).expect("it was put just now, and a bound is at least one").value
    }

    /// Takes an entry out.
    pub fn remove<Q: Eq + Hash + ?Sized>(&mut self, key: &Q) -> Option<V>
    where
        K: Borrow<Q>,
    {
        self.entries.remove(key).map(|entry| entry.value)
    }

    /// Forgets the oldest entries for as long as this is so.
    pub fn forget_while(&mut self, mut is_old: impl FnMut(&V) -> bool) {
        while let Some((turn, oldest)) = self.order.front() {
            match self.entries.get(oldest).filter(|entry| entry.turn == *turn) {
                Some(entry) if !is_old(&entry.value) => return,
                Some(_) => drop(self.entries.remove(oldest)),
                None => {}
            }
            self.order.pop_front();
        }
    }

    fn next_turn(&mut self, key: K) -> u64 {
        self.turn += 1;
        self.order.push_back((self.turn, key));
        if self.order.len() > 2 * self.entries.len() + SLACK {
            let entries = &self.entries;
            let last = self.turn;
            let current = |turn: u64, key: &K| entries.get(key).is_some_and(|entry| entry.turn == turn);
            self.order.retain(|(turn, key)| *turn == last || current(*turn, key));
        }
        self.turn
    }

    fn is_current(&self, turn: u64, key: &K) -> bool {
        self.entries.get(key).is_some_and(|entry| entry.turn == turn)
    }
}

impl<K, V> fmt::Debug for BoundedMap<K, V> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Neither keys nor values: some are secrets.
        f.debug_struct("BoundedMap").field("most", &self.most).field("len", &self.entries.len()).finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[derive(Clone, Debug)]
    enum Act {
        Insert(u8, u32),
        Touch(u8),
        Remove(u8),
        Forget(u32),
    }

    fn act() -> impl Strategy<Value = Act> {
        prop_oneof![
            4 => (0..12u8, 0..100u32).prop_map(|(key, value)| Act::Insert(key, value)),
            2 => (0..12u8).prop_map(Act::Touch),
            1 => (0..12u8).prop_map(Act::Remove),
            1 => (0..100u32).prop_map(Act::Forget),
        ]
    }

    proptest! {
        #[test]
        fn it_does_what_a_list_in_order_does(acts in prop::collection::vec(act(), 0..200)) {
            const MOST: usize = 5;
            let mut map = BoundedMap::new(MOST);
            // From the oldest on.
            let mut model: Vec<(u8, u32)> = Vec::new();
            for act in acts {
                let take = |model: &mut Vec<(u8, u32)>, key: u8| {
                    let place = model.iter().position(|(known, _)| *known == key)?;
                    Some(model.remove(place).1)
                };
                match act {
                    Act::Insert(key, value) => {
                        let before = take(&mut model, key);
                        model.push((key, value));
                        prop_assert_eq!(map.insert(key, value), before);
                    }
                    Act::Touch(key) => {
                        let value = take(&mut model, key).unwrap_or(7);
                        model.push((key, value));
                        prop_assert_eq!(*map.touch(key, || 7), value);
                    }
                    Act::Remove(key) => prop_assert_eq!(map.remove(&key), take(&mut model, key)),
                    Act::Forget(least) => {
                        let young = model.iter().position(|(_, value)| *value >= least).unwrap_or(model.len());
                        model.drain(..young);
                        map.forget_while(|value| *value < least);
                    }
                }
                if model.len() > MOST {
                    model.remove(0);
                }
                prop_assert_eq!(map.len(), model.len());
                prop_assert!(model.iter().all(|(key, value)| map.get(key) == Some(value)));
            }
        }
    }

    #[test]
    fn what_is_put_again_and_again_takes_bounded_room() {
        let mut map = BoundedMap::new(10);
        for number in 0..100_000 {
            map.insert(number % 3, number);
        }
        assert!(map.order.len() <= 2 * 3 + SLACK + 1);
    }
}
