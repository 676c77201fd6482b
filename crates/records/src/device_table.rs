//! Devices in memory, as the packet path looks them up: an address, the number of what it
//! has in common with others, and when it ends. Texts about it stay on the disk.

use std::collections::hash_map::RandomState;
use std::collections::{BinaryHeap, HashMap};
use std::hash::BuildHasher;
use std::sync::Arc;

use regnant_base::Mac;
use regnant_decision::{Device, Groups, KnownAttributes, Title, Titles};
use regnant_policy::Value;

use crate::attributes::as_facts;
use crate::database::LookedUp;
use crate::device_search::DeviceFilter;
use crate::mac_map::MacMap;
use crate::rows::number;

/// The devices of one store. A copy shares what is not changed in it.
#[derive(Clone, Default)]
pub(crate) struct DeviceTable {
    by_address: MacMap<Place>,
    /// Attributes that no others have, as they are kept.
    own: MacMap<Box<str>>,
    sets: Arc<Sets>,
    count: usize,
    titles: Option<(Arc<dyn Titles>, Arc<str>)>,
}

/// What is kept of one device.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
struct Place {
    set: u32,
    /// Seconds since 1970; 0 is never.
    expires: u32,
}

/// So many sets are kept of what devices have in common. Where attributes differ from device to
/// device, as serial numbers do, the others keep their own.
const MOST_SETS: usize = 4_096;

/// What devices have in common, each once: ten thousand cameras share one.
#[derive(Clone, Default)]
struct Sets {
    all: Vec<Common>,
    /// By what they have in common, as it is kept, under two seeds that nobody knows: with 128
    /// bits no two are ever taken for each other.
    by_text: HashMap<(u64, u64), u32>,
    seeds: (RandomState, RandomState),
}

/// What devices of one set have in common.
#[derive(Clone)]
struct Common {
    groups: Groups,
    attributes: KnownAttributes,
    barred: bool,
}

/// Attributes where there are none, as they are kept.
const NO_ATTRIBUTES: &str = "{}";

impl Sets {
    fn text(&self, device: &LookedUp<'_>) -> (u64, u64) {
        let (one, other) = &self.seeds;
        let text = (device.groups, device.attributes, device.barred);
        (one.hash_one(text), other.hash_one(text))
    }
}

impl DeviceTable {
    /// No device yet, in a store of this name; titles are read there.
    pub(crate) fn new(store: &str, titles: Option<Arc<dyn Titles>>) -> Self {
        Self { titles: titles.map(|titles| (titles, store.into())), ..Self::default() }
    }

    /// The store has this name from now on.
    pub(crate) fn rename(&mut self, store: &str) {
        if let Some((_, name)) = &mut self.titles {
            *name = store.into();
        }
    }

    /// The device of an address at this time, in milliseconds since 1970.
    pub(crate) fn get(&self, mac: Mac, now: i64) -> Option<Arc<Device>> {
        let place = self.by_address.get(mac)?;
        let Common { groups, attributes, barred } = self.sets.all[place.set as usize].clone();
        let attributes = self.own.get(mac).map_or(attributes, |own| as_facts(own));
        let expired = place.expires != 0 && i64::from(place.expires) * 1_000 <= now;
        let title = match &self.titles {
            Some((titles, store)) => Title::Kept(titles.clone(), store.clone(), mac),
            None => Title::Text(String::new()),
        };
        Some(Arc::new(Device { title, groups, groups_in_part: false, attributes, barred, expired }))
    }

    /// Puts a device in the place of the one of its address.
    pub(crate) fn insert(&mut self, mac: Mac, device: &LookedUp<'_>) {
        let shared = self.shared(device);
        if shared.attributes == device.attributes {
            self.own.remove(mac);
        } else {
            self.own.insert(mac, device.attributes.into());
        }
        let (set, expires) = (self.set(&shared), device.expires);
        let seconds = |at: i64| u32::try_from(at.max(1).cast_unsigned().div_ceil(1_000)).unwrap_or(u32::MAX);
        let place = Place { set, expires: expires.map_or(0, seconds) };
        self.count += usize::from(self.by_address.insert(mac, place).is_none());
    }

    /// Forgets a device.
    pub(crate) fn remove(&mut self, mac: Mac) {
        self.own.remove(mac);
        self.count -= usize::from(self.by_address.remove(mac).is_some());
    }

    /// Whether there is a device of this address.
    pub(crate) fn holds(&self, mac: Mac) -> bool {
        self.by_address.get(mac).is_some()
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.count
    }

    /// Every group with how many devices are in it.
    pub(crate) fn groups(&self) -> HashMap<String, u64> {
        let mut counts = vec![0; self.sets.all.len()];
        self.by_address.iter().for_each(|(_, place)| counts[place.set as usize] += 1);
        let mut groups = HashMap::new();
        for (common, count) in self.sets.all.iter().zip(counts).filter(|(_, count)| *count > 0) {
            for group in common.groups.iter() {
                if let Value::Text(name) = group {
                    *groups.entry(name.to_string()).or_insert(0) += count;
                }
            }
        }
        groups
    }

    /// The first so many addresses after one that are wanted, in their order.
    pub(crate) fn page(&self, wanted: &Wanted<'_>, after: Option<Mac>, most: usize) -> Vec<Mac> {
        let after = after.map_or(-1, |mac| number(mac).cast_signed());
        let mut found = BinaryHeap::with_capacity(most + 1);
        for (mac, place) in self.by_address.iter() {
            let number = number(mac).cast_signed();
            let later = found.len() >= most && found.peek().is_none_or(|last| number >= *last);
            if number <= after || later || !wanted.holds(mac, *place) {
                continue;
            }
            found.push(number);
            if found.len() > most {
                found.pop();
            }
        }
        let address = |number: i64| {
            let [_, _, rest @ ..] = number.to_be_bytes();
            Mac(rest)
        };
        found.into_sorted_vec().into_iter().map(address).collect()
    }

    /// Whether a device of this address is there and wanted.
    pub(crate) fn is_wanted(&self, mac: Mac, wanted: &Wanted<'_>) -> bool {
        self.by_address.get(mac).is_some_and(|place| wanted.holds(mac, *place))
    }

    /// What a device has in common with others; without its attributes where these are its own.
    fn shared<'d>(&self, device: &LookedUp<'d>) -> LookedUp<'d> {
        let known = self.sets.all.len() < MOST_SETS || self.sets.by_text.contains_key(&self.sets.text(device));
        let attributes = if known { device.attributes } else { NO_ATTRIBUTES };
        LookedUp { attributes, ..*device }
    }

    fn set(&mut self, device: &LookedUp<'_>) -> u32 {
        let LookedUp { groups, attributes, barred, .. } = *device;
        let text = self.sets.text(device);
        if let Some(set) = self.sets.by_text.get(&text) {
            return *set;
        }
        let names: Vec<String> = serde_json::from_str(groups).unwrap_or_default();
        let sets = Arc::make_mut(&mut self.sets);
        let set = u32::try_from(sets.all.len()).expect("there are fewer sets than addresses");
        let groups = names.into_iter().map(Value::owned).collect();
        sets.all.push(Common { groups, attributes: as_facts(attributes), barred });
        sets.by_text.insert(text, set);
        set
    }
}

/// Which devices of a table are wanted.
pub(crate) struct Wanted<'d> {
    digits: &'d [Digits],
    /// By the number of a set, where not all fit.
    sets: Option<Vec<bool>>,
    /// Seconds since 1970 from which and before which they end.
    ends: Option<(u32, u32)>,
}

impl<'d> Wanted<'d> {
    /// Those in whose address these digits stand, of the group that a filter names, barred or
    /// not as it says, and that end when it says.
    pub(crate) fn new(table: &DeviceTable, digits: &'d [Digits], filter: &DeviceFilter) -> Self {
        let (group, barred) = (filter.group.as_ref().map(|group| group.to_lowercase()), filter.barred);
        let seconds = |at: i64| u32::try_from(at / 1_000).unwrap_or(u32::MAX);
        let ends = filter.ends.map(|(from, until)| (seconds(from).max(1), seconds(until)));
        let fits = |device: &Common| {
            let holds = |group: &String| {
                device.groups.iter().any(|value| matches!(value, Value::Text(text) if text.to_lowercase() == *group))
            };
            barred.is_none_or(|barred| device.barred == barred) && group.as_ref().is_none_or(holds)
        };
        let all = group.is_none() && barred.is_none();
        Self { digits, sets: (!all).then(|| table.sets.all.iter().map(fits).collect()), ends }
    }

    fn holds(&self, mac: Mac, place: Place) -> bool {
        let of_set = self.sets.as_ref().is_none_or(|sets| sets.get(place.set as usize) == Some(&true));
        let ends = self.ends.is_none_or(|(from, until)| (from..until).contains(&place.expires));
        of_set && ends && self.digits.iter().all(|digits| digits.stand_in(mac))
    }
}

/// A part of an address: 1 to 12 hexadecimal digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Digits {
    value: u64,
    count: u32,
}

impl Digits {
    /// Reads digits in any notation of addresses; none where it is something else.
    pub(crate) fn read(text: &str) -> Option<Self> {
        let digits: String = text.chars().filter(|c| !matches!(c, ':' | '-' | '.')).collect();
        let fits = (1..=12).contains(&digits.len()) && digits.bytes().all(|byte| byte.is_ascii_hexdigit());
        let value = u64::from_str_radix(&digits, 16).ok().filter(|_| fits)?;
        Some(Self { value, count: digits.len() as u32 })
    }

    /// How many they are.
    pub(crate) fn len(self) -> u32 {
        self.count
    }

    /// Whether they stand in an address, one after the other.
    pub(crate) fn stand_in(self, mac: Mac) -> bool {
        let (number, mask) = (number(mac), (1_u64 << (4 * self.count)) - 1);
        (0..=12 - self.count).any(|place| (number >> (4 * place)) & mask == self.value)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mac(last: u8) -> Mac {
        Mac([2, 0, 0x5e, 0x20, 0, last])
    }

    fn device(groups: &str, barred: bool, expires: Option<i64>) -> LookedUp<'_> {
        LookedUp { groups, attributes: "{}", barred, expires }
    }

    #[test]
    fn a_device_is_known_until_it_expires_and_shares_what_it_has_in_common() {
        let mut table = DeviceTable::default();
        for last in 1..=200 {
            table.insert(mac(last), &device(r#"["cranes"]"#, false, (last == 7).then_some(5_000)));
        }
        assert_eq!((table.len(), table.sets.all.len()), (200, 1));
        let ending = |ends| {
            let filter = DeviceFilter { ends: Some(ends), ..DeviceFilter::default() };
            table.page(&Wanted::new(&table, &[], &filter), None, 9)
        };
        assert_eq!((ending((5_000, 6_000)), ending((0, 5_000)).len()), (vec![mac(7)], 0));
        assert!(!table.get(mac(7), 4_999).unwrap().expired && table.get(mac(7), 5_000).unwrap().expired);
        assert!(!table.get(mac(8), i64::MAX).unwrap().expired);
        let before = table.clone();
        table.insert(mac(8), &device(r#"["cranes"]"#, true, None));
        table.remove(mac(9));
        table.remove(mac(9));
        assert_eq!((table.len(), before.len()), (199, 200));
        assert!(table.get(mac(8), 0).unwrap().barred && !before.get(mac(8), 0).unwrap().barred);
        assert!(table.get(mac(9), 0).is_none() && before.get(mac(9), 0).is_some());
    }

    #[test]
    fn attributes_that_no_others_have_are_kept_by_each() {
        let mut table = DeviceTable::default();
        let mac = |number: u32| {
            let [a, b, c, d] = number.to_be_bytes();
            Mac([2, 0, a, b, c, d])
        };
        let serial = |number: u32| format!(r#"{{"serial":"S{number}"}}"#);
        let insert = |table: &mut DeviceTable, number: u32, attributes: &str| {
            table.insert(mac(number), &LookedUp { groups: "[]", attributes, barred: false, expires: None });
        };
        let many = 2 * MOST_SETS as u32;
        (0..many).for_each(|number| insert(&mut table, number, &serial(number)));
        let told = |table: &DeviceTable, number: u32| table.get(mac(number), 0).unwrap().attributes[0].1.to_string();
        for number in [0, MOST_SETS as u32 - 1, MOST_SETS as u32, many - 1] {
            assert_eq!(told(&table, number), format!("\"S{number}\""));
        }
        assert!(table.sets.all.len() <= MOST_SETS + 1);
        // From its own to what others have, to nothing, and away.
        insert(&mut table, many - 1, &serial(7));
        assert_eq!(told(&table, many - 1), "\"S7\"");
        insert(&mut table, many - 2, "{}");
        assert!(table.get(mac(many - 2), 0).unwrap().attributes.is_empty());
        table.remove(mac(many - 3));
        insert(&mut table, many - 3, "{}");
        assert!(table.get(mac(many - 3), 0).unwrap().attributes.is_empty());
    }

    proptest! {
        #[test]
        fn digits_stand_in_an_address_as_they_do_in_its_text(address: [u8; 6], from in 0_usize..12, count in 1_usize..=12) {
            let text: String = address.iter().map(|byte| format!("{byte:02x}")).collect();
            let part = &text[from..(from + count).min(12)];
            prop_assert!(Digits::read(part).unwrap().stand_in(Mac(address)));
            let other = Digits::read("5e:20").unwrap();
            prop_assert_eq!(other.stand_in(Mac(address)), text.contains("5e20"));
        }

        #[test]
        fn a_page_of_addresses_is_as_a_sorted_list_has_it(list: Vec<[u8; 6]>, after: Option<[u8; 6]>, most in 1_usize..9) {
            let mut table = DeviceTable::default();
            list.iter().for_each(|address| table.insert(Mac(*address), &device("[]", false, None)));
            let digits = [Digits::read("0").unwrap()];
            let mut model: Vec<_> = list.iter().map(|address| Mac(*address)).collect();
            model.sort();
            model.dedup();
            model.retain(|mac| after.is_none_or(|after| *mac > Mac(after)) && digits[0].stand_in(*mac));
            model.truncate(most);
            let filter = DeviceFilter { barred: Some(false), ..DeviceFilter::default() };
            let wanted = Wanted::new(&table, &digits, &filter);
            prop_assert_eq!(table.page(&wanted, after.map(Mac), most), model);
            let filter = DeviceFilter { group: Some("cranes".into()), ..DeviceFilter::default() };
            let nothing = Wanted::new(&table, &digits, &filter);
            prop_assert!(table.page(&nothing, None, most).is_empty());
        }
    }
}
