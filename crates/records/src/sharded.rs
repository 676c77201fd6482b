use std::collections::HashMap;
use std::collections::hash_map::RandomState;
use std::hash::{BuildHasher, Hash};
use std::sync::Arc;

/// So many parts that a change of one entry among a million copies few thousand.
const PARTS: usize = 256;

/// A map that is cheap to copy and then to change in a few places: what was not changed
/// is shared with the copy.
#[derive(Clone)]
pub(crate) struct ShardedMap<K, V> {
    hasher: RandomState,
    /// None where nothing is in it.
    parts: Vec<Option<Arc<HashMap<K, V, RandomState>>>>,
}

impl<K, V> Default for ShardedMap<K, V> {
    fn default() -> Self {
        Self { hasher: RandomState::new(), parts: (0..PARTS).map(|_| None).collect() }
    }
}

impl<K: Clone + Eq + Hash, V: Clone> ShardedMap<K, V> {
    pub(crate) fn values(&self) -> impl Iterator<Item = &V> {
        self.parts.iter().flatten().flat_map(|part| part.values())
    }

    pub(crate) fn get(&self, key: &K) -> Option<&V> {
        self.parts[self.part(key)].as_ref()?.get(key)
    }

    /// Gives what was there before.
    pub(crate) fn insert(&mut self, key: K, value: V) -> Option<V> {
        let part = self.part(&key);
        let empty = || Arc::new(HashMap::with_hasher(self.hasher.clone()));
        Arc::make_mut(self.parts[part].get_or_insert_with(empty)).insert(key, value)
    }

    /// Gives what was there.
    pub(crate) fn remove(&mut self, key: &K) -> Option<V> {
        let part = self.part(key);
        // What is not there copies nothing.
        let held = self.parts[part].as_mut().filter(|held| held.contains_key(key))?;
        Arc::make_mut(held).remove(key)
    }

    #[cfg(test)]
    fn iter(&self) -> impl Iterator<Item = (&K, &V)> {
        self.parts.iter().flatten().flat_map(|part| part.iter())
    }

    fn part(&self, key: &K) -> usize {
        // The maps take their places from the other end of the hash.
        (self.hasher.hash_one(key) >> 32) as usize % PARTS
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn copies_are_as_if_they_were_whole(before: Vec<(u8, u8)>, after: Vec<(u8, u8)>) {
            let mut map = ShardedMap::default();
            for (key, value) in &before {
                map.insert(*key, *value);
            }
            let mut copy = map.clone();
            for (key, value) in &after {
                copy.insert(*key, *value);
            }
            let gone = copy.remove(&7);
            let first: HashMap<u8, u8> = before.iter().copied().collect();
            let mut second: HashMap<u8, u8> = before.iter().chain(&after).copied().collect();
            prop_assert_eq!(second.remove(&7), gone);
            for (map, model) in [(&map, &first), (&copy, &second)] {
                prop_assert_eq!(&map.iter().map(|(key, value)| (*key, *value)).collect::<HashMap<_, _>>(), model);
                prop_assert!((0..=u8::MAX).all(|key| map.get(&key) == model.get(&key)));
            }
        }
    }

    #[test]
    fn a_change_copies_a_small_part() {
        let mut map = ShardedMap::default();
        for number in 0..100_000_u32 {
            map.insert(number, number);
        }
        let mut copy = map.clone();
        copy.insert(7, 8);
        let pairs = map.parts.iter().flatten().zip(copy.parts.iter().flatten());
        assert_eq!(pairs.filter(|(one, other)| !Arc::ptr_eq(one, other)).count(), 1);
    }
}
