use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::ops::Deref;
use std::sync::Arc;

use regnant_base::Network;
use regnant_decision::NasIdentity;

use crate::heard::Heard;
use crate::radius;

/// A piece of equipment that asks (NAS, RFC 2865 section 1.2), and how it is spoken to.
#[derive(Clone, Debug)]
pub struct Nas {
    /// Who it is.
    pub identity: NasIdentity,
    /// The addresses and blocks that its packets come from.
    pub networks: Vec<Network>,
    /// What it was heard to do.
    pub heard: Arc<Heard>,
    /// What it and this service know each other by in RADIUS; none where it does not ask so.
    pub radius: Option<Arc<radius::Credentials>>,
}

impl Nas {
    /// A NAS of which nothing was heard yet, and that has no credentials.
    pub fn new(identity: NasIdentity, networks: Vec<Network>) -> Self {
        Self { identity, networks, heard: Arc::default(), radius: None }
    }

    /// The same with what it is known by in RADIUS.
    #[must_use]
    pub fn with_radius(self, credentials: radius::Credentials) -> Self {
        Self { radius: Some(Arc::new(credentials)), ..self }
    }

    /// Its address, where it has one alone.
    pub fn single_address(&self) -> Option<IpAddr> {
        match self.networks[..] {
            [network] => network.single(),
            _ => None,
        }
    }
}

/// A NAS is first of all who it is.
impl Deref for Nas {
    type Target = NasIdentity;

    fn deref(&self) -> &NasIdentity {
        &self.identity
    }
}

/// All NASes, found by the address that a packet comes from.
#[derive(Clone, Debug, Default)]
pub struct NasTable {
    by_network: HashMap<Network, Arc<Nas>>,
    /// The prefix lengths in use, longest first.
    prefixes: Vec<u8>,
}

impl NasTable {
    /// A table of these; of two with the same network the later stands.
    pub fn new(list: impl IntoIterator<Item = Nas>) -> Self {
        let mut table = Self::default();
        list.into_iter().map(Arc::new).for_each(|nas| table.put(nas));
        table.note_prefixes();
        table
    }

    /// This table without the NASes of these names, and with NASes that were added or
    /// changed; names tell them apart, without regard to case.
    #[must_use]
    pub fn with(&self, changed: Vec<Nas>, removed: &[&str]) -> Self {
        let names = changed.iter().map(|nas| nas.name.as_str()).chain(removed.iter().copied());
        let names: HashSet<_> = names.map(str::to_lowercase).collect();
        let mut table = Self::default();
        self.iter().filter(|nas| !names.contains(&nas.name.to_lowercase())).for_each(|nas| table.put(nas.clone()));
        changed.into_iter().map(Arc::new).for_each(|nas| table.put(nas));
        table.note_prefixes();
        table
    }

    fn put(&mut self, nas: Arc<Nas>) {
        for network in &nas.networks {
            self.by_network.insert(*network, nas.clone());
        }
    }

    fn note_prefixes(&mut self) {
        self.prefixes = self.by_network.keys().map(|network| network.prefix()).collect();
        self.prefixes.sort_unstable_by(|a, b| b.cmp(a));
        self.prefixes.dedup();
    }

    /// The NAS whose network holds the address with the longest prefix.
    pub fn find(&self, address: IpAddr) -> Option<&Arc<Nas>> {
        self.holding(address).next().map(|(_, nas)| nas)
    }

    /// Every entry that holds an address, the most specific first: the first counts.
    pub fn holding(&self, address: IpAddr) -> impl Iterator<Item = (Network, &Arc<Nas>)> {
        let address = address.to_canonical();
        let blocks = self.prefixes.iter().filter_map(move |&prefix| Network::holding(address, prefix));
        blocks.filter_map(|network| Some((network, self.by_network.get(&network)?)))
    }

    /// Every NAS, once.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Nas>> {
        self.by_network.iter().filter(|(network, nas)| nas.networks.first() == Some(network)).map(|(_, nas)| nas)
    }
}

#[cfg(test)]
mod tests {
    use regnant_decision::NasKind;

    use super::*;

    fn nas(name: &str, network: &str) -> Nas {
        let (name, site, dialect) = (name.into(), "yard".into(), "standard".into());
        let identity = NasIdentity { name, kind: NasKind::Switch, site, dialect, tags: Arc::default() };
        let networks = network.split(' ').map(|one| one.parse().unwrap()).collect();
        Nas::new(identity, networks)
    }

    #[test]
    fn the_longest_prefix_wins() {
        let table = NasTable::new([
            nas("everybody", "0.0.0.0/0"),
            nas("block", "10.44.0.0/16"),
            nas("one", "10.44.0.7"),
            nas("six", "2001:db8::/32"),
        ]);
        let found = |address: &str| table.find(address.parse().unwrap()).map(|nas| nas.name.as_str());
        assert_eq!(found("10.44.0.7"), Some("one"));
        assert_eq!(found("10.44.0.8"), Some("block"));
        assert_eq!(found("10.45.0.8"), Some("everybody"));
        assert_eq!(found("::ffff:10.44.0.7"), Some("one"));
        assert_eq!(found("2001:db8::9"), Some("six"));
        assert_eq!(found("2001:db9::9"), None);
    }

    #[test]
    fn changed_ones_take_the_place_of_those_of_their_name() {
        let table = NasTable::new([nas("One", "10.44.0.7"), nas("two", "10.44.0.8"), nas("three", "10.45.0.0/16")]);
        let changed = vec![nas("one", "10.44.0.8 10.47.0.0/16"), nas("TWO", "10.44.0.7"), nas("four", "10.46.0.0/24")];
        let changed = table.with(changed, &["nobody"]);
        let found = |address: &str| changed.find(address.parse().unwrap()).map(|nas| nas.name.as_str());
        assert_eq!((found("10.44.0.7"), found("10.44.0.8")), (Some("TWO"), Some("one")));
        assert_eq!((found("10.45.0.1"), found("10.46.0.1")), (Some("three"), Some("four")));
        assert_eq!((found("10.47.0.1"), changed.iter().count()), (Some("one"), 4));
        let fewer = changed.with(Vec::new(), &["ONE"]);
        assert!(fewer.find("10.44.0.8".parse().unwrap()).is_none() && fewer.iter().count() == 3);
        let all = changed.with(vec![nas("all", "10.0.0.0/8")], &[]);
        let holding: Vec<_> = all.holding("10.47.0.1".parse().unwrap()).map(|(_, nas)| nas.name.as_str()).collect();
        assert_eq!(holding, ["one", "all"]);
    }
}
