//! Addresses with something small about each, in as little room as they take.

use regnant_base::Mac;
use std::collections::hash_map::RandomState;
use std::hash::BuildHasher;
use std::sync::Arc;

use crate::rows::number;

/// So many parts that one of a million addresses has few hundred beside it, which are moved
/// or copied where it changes.
const PARTS: usize = 4_096;

/// A map that is cheap to copy and then to change in a few places: what was not changed is
/// shared with the copy.
#[derive(Clone)]
pub(crate) struct MacMap<V> {
    /// Nobody can choose addresses that all come into one part.
    seed: u64,
    parts: Vec<Option<Arc<Part<V>>>>,
}

/// Sorted addresses, and what is known of each at the same place.
#[derive(Clone)]
struct Part<V> {
    macs: Vec<Mac>,
    values: Vec<V>,
}

impl<V> Default for MacMap<V> {
    fn default() -> Self {
        Self { seed: RandomState::new().hash_one(0) | 1, parts: (0..PARTS).map(|_| None).collect() }
    }
}

impl<V: Clone> MacMap<V> {
    pub(crate) fn get(&self, mac: Mac) -> Option<&V> {
        let part = self.parts[self.part(mac)].as_ref()?;
        Some(&part.values[part.macs.binary_search(&mac).ok()?])
    }

    /// Gives what was there before.
    pub(crate) fn insert(&mut self, mac: Mac, value: V) -> Option<V> {
        let part = self.part(mac);
        let empty = || Arc::new(Part { macs: Vec::new(), values: Vec::new() });
        let part = Arc::make_mut(self.parts[part].get_or_insert_with(empty));
        match part.macs.binary_search(&mac) {
            Ok(place) => Some(std::mem::replace(&mut part.values[place], value)),
            Err(place) => {
                part.macs.insert(place, mac);
                part.values.insert(place, value);
                None
            }
        }
    }

    /// Gives what was there.
    pub(crate) fn remove(&mut self, mac: Mac) -> Option<V> {
        let part = self.part(mac);
        // What is not there copies nothing.
        let held = self.parts[part].as_mut()?;
        let place = held.macs.binary_search(&mac).ok()?;
        let held = Arc::make_mut(held);
        held.macs.remove(place);
        Some(held.values.remove(place))
    }

    /// All, in no order.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (Mac, &V)> {
        self.parts.iter().flatten().flat_map(|part| part.macs.iter().copied().zip(&part.values))
    }

    fn part(&self, mac: Mac) -> usize {
        (number(mac).wrapping_mul(self.seed) >> 52) as usize % PARTS
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn copies_are_as_if_they_were_whole(
            before in prop::collection::vec((any::<u8>(), any::<u8>()), 0..300),
            after in prop::collection::vec((any::<u8>(), prop::option::of(any::<u8>())), 0..300),
        ) {
            let mac = |last: u8| Mac([2, 0, 0, 0, 0, last]);
            let (mut map, mut model) = (MacMap::default(), HashMap::new());
            for (key, value) in before {
                prop_assert_eq!(map.insert(mac(key), value), model.insert(mac(key), value));
            }
            let (mut copy, first) = (map.clone(), model.clone());
            for (key, value) in after {
                match value {
                    Some(value) => prop_assert_eq!(copy.insert(mac(key), value), model.insert(mac(key), value)),
                    None => prop_assert_eq!(copy.remove(mac(key)), model.remove(&mac(key))),
                }
            }
            for (map, model) in [(&map, &first), (&copy, &model)] {
                prop_assert_eq!(&map.iter().map(|(mac, value)| (mac, *value)).collect::<HashMap<_, _>>(), model);
                prop_assert!((0..=u8::MAX).all(|key| map.get(mac(key)) == model.get(&mac(key))));
            }
        }
    }

    #[test]
    fn addresses_in_a_row_come_into_all_parts() {
        let mut map = MacMap::default();
        for number in 0..100_000_u32 {
            let [_, a, b, c] = number.to_be_bytes();
            map.insert(Mac([2, 0, 0, a, b, c]), ());
        }
        let most = map.parts.iter().flatten().map(|part| part.macs.len()).max();
        assert!(most.is_some_and(|most| most < 1_000), "{most:?}");
        let mut copy = map.clone();
        copy.insert(Mac([2, 0, 0, 0, 0, 7]), ());
        let pairs = map.parts.iter().flatten().zip(copy.parts.iter().flatten());
        assert_eq!(pairs.filter(|(one, other)| !Arc::ptr_eq(one, other)).count(), 1, "a change copies a small part");
    }
}
