use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::ops::Deref;
use std::sync::Arc;

use regnant_base::Network;
use regnant_decision::NasIdentity;
use regnant_radius::SharedSecret;

use crate::heard::Heard;

/// A piece of equipment that asks (NAS, RFC 2865 section 1.2), and how it is spoken to.
#[derive(Clone, Debug)]
pub struct Nas {
    /// Who it is.
    pub identity: NasIdentity,
    /// The addresses and blocks that its packets come from.
    pub networks: Vec<Network>,
    /// What it and this service share.
    pub secret: SharedSecret,
    /// What they shared before, while it still counts.
    pub former: Option<FormerSecret>,
    /// What it was heard to do.
    pub heard: Arc<Heard>,
    /// Whether its requests must carry Message-Authenticator. Without, a
    /// forged answer cannot be told (CVE-2024-3596); only for old equipment.
    pub require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which reports find
    /// their decision too; some makes read a role from it.
    pub class_at_login: bool,
}

/// A secret that was changed a while ago, on this side.
#[derive(Clone, Debug)]
pub struct FormerSecret {
    /// What it is.
    pub secret: SharedSecret,
    /// When another was set, in milliseconds since 1970.
    pub since: u64,
    /// Until when it counts too, unless the NAS uses the new one before.
    pub until: u64,
}

/// Under which secret a packet was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Under {
    Present,
    Former,
}

impl Nas {
    /// A NAS that signs its requests, and of which nothing was heard yet.
    pub fn new(identity: NasIdentity, networks: Vec<Network>, secret: SharedSecret) -> Self {
        Self {
            identity,
            networks,
            secret,
            former: None,
            heard: Arc::default(),
            require_message_authenticator: true,
            class_at_login: false,
        }
    }

    /// The secret of a packet.
    pub(crate) fn secret_under(&self, under: Under) -> &SharedSecret {
        match (under, &self.former) {
            (Under::Former, Some(former)) => &former.secret,
            _ => &self.secret,
        }
    }

    /// Under which secret a packet was made that says so by a signature: `fits` checks it. The
    /// first that is made under the new one ends the time of the former.
    pub(crate) fn signed_under(&self, now: u64, fits: impl Fn(&SharedSecret) -> bool) -> Option<Under> {
        if fits(&self.secret) {
            if let Some(former) = &self.former {
                self.heard.switches(former.since);
            }
            return Some(Under::Present);
        }
        let former =
            self.former.as_ref().filter(|former| now < former.until && !self.heard.has_switched(former.since))?;
        fits(&former.secret).then_some(Under::Former)
    }

    /// Under which secret a packet counts that carries no signature: the former, until the NAS
    /// is heard to use the new one, or somebody says that it does.
    pub(crate) fn unsigned_under(&self) -> Under {
        match &self.former {
            Some(former) if !self.heard.has_switched(former.since) => Under::Former,
            _ => Under::Present,
        }
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
        Nas::new(identity, networks, SharedSecret::new(*b"s"))
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
