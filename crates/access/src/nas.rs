use std::collections::{HashMap, HashSet};
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;
use std::sync::Arc;

use ipnet::IpNet;
use regnant_radius::SharedSecret;
use serde::{Deserialize, Serialize};

/// A piece of equipment that asks (NAS, RFC 2865 section 1.2).
#[derive(Clone, Debug)]
pub struct Nas {
    /// Its name in the inventory.
    pub name: String,
    /// The address or block that its packets come from.
    pub network: Network,
    /// What it is.
    pub kind: NasKind,
    /// Where it stands.
    pub site: String,
    /// The name of the dialect that its grants are rendered in.
    pub dialect: String,
    /// What it and this service share.
    pub secret: SharedSecret,
    /// Whether its requests must carry Message-Authenticator. Without, a
    /// forged answer cannot be told (CVE-2024-3596); only for old equipment.
    pub require_message_authenticator: bool,
}

/// What a NAS is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum NasKind {
    /// A wired switch.
    Switch,
    /// A wireless controller or access point.
    Controller,
    /// A firewall.
    Firewall,
    /// A router.
    Router,
    /// A VPN gateway.
    Vpn,
}

impl NasKind {
    /// All kinds with their words.
    pub const ALL: [(&'static str, Self); 5] = [
        ("switch", Self::Switch),
        ("controller", Self::Controller),
        ("firewall", Self::Firewall),
        ("router", Self::Router),
        ("vpn", Self::Vpn),
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, kind)| *kind == self).map_or("", |(word, _)| word)
    }
}

/// An address, or a block of addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Network(IpNet);

impl Network {
    /// The block of this prefix length that holds an address; none where an address has
    /// fewer bits.
    fn holding(address: IpAddr, prefix: u8) -> Option<Self> {
        Some(Self(IpNet::new(address, prefix).ok()?.trunc()))
    }
}

impl FromStr for Network {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let block = text.parse::<IpNet>().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
        let block = block
            .map_err(|_| format!("`{text}` is no address such as 127.0.0.11 and no block such as 10.44.0.0/16"))?;
        match Self(block.trunc()) {
            network if network.0 == block => Ok(network),
            network => Err(format!("`{text}` has bits set after its prefix; write {network}")),
        }
    }
}

impl fmt::Display for Network {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.prefix_len() == self.0.max_prefix_len() {
            true => self.0.addr().fmt(f),
            false => self.0.fmt(f),
        }
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
        for nas in list {
            table.by_network.insert(nas.network, Arc::new(nas));
        }
        table.note_prefixes();
        table
    }

    /// This table with NASes that were added or changed; names tell them apart, without
    /// regard to case.
    #[must_use]
    pub fn with(&self, changed: Vec<Nas>) -> Self {
        let names: HashSet<_> = changed.iter().map(|nas| nas.name.to_lowercase()).collect();
        let stays = |nas: &&Arc<Nas>| !names.contains(&nas.name.to_lowercase());
        let stay = self.iter().filter(stays).cloned();
        let all = stay.chain(changed.into_iter().map(Arc::new)).map(|nas| (nas.network, nas));
        let mut table = Self { by_network: all.collect(), prefixes: Vec::new() };
        table.note_prefixes();
        table
    }

    fn note_prefixes(&mut self) {
        self.prefixes = self.by_network.keys().map(|network| network.0.prefix_len()).collect();
        self.prefixes.sort_unstable_by(|a, b| b.cmp(a));
        self.prefixes.dedup();
    }

    /// The NAS whose network holds the address with the longest prefix.
    pub fn find(&self, address: IpAddr) -> Option<&Arc<Nas>> {
        let address = address.to_canonical();
        let mut blocks = self.prefixes.iter().filter_map(|&prefix| Network::holding(address, prefix));
        blocks.find_map(|network| self.by_network.get(&network))
    }

    /// Every NAS.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Nas>> {
        self.by_network.values()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn nas(name: &str, network: &str) -> Nas {
        Nas {
            name: name.into(),
            network: network.parse().unwrap(),
            kind: NasKind::Switch,
            site: "yard".into(),
            dialect: "standard".into(),
            secret: SharedSecret::new(*b"s"),
            require_message_authenticator: true,
        }
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
        let changed = table.with(vec![nas("one", "10.44.0.8"), nas("TWO", "10.44.0.7"), nas("four", "10.46.0.0/24")]);
        let found = |address: &str| changed.find(address.parse().unwrap()).map(|nas| nas.name.as_str());
        assert_eq!((found("10.44.0.7"), found("10.44.0.8")), (Some("TWO"), Some("one")));
        assert_eq!((found("10.45.0.1"), found("10.46.0.1")), (Some("three"), Some("four")));
        assert_eq!(changed.iter().count(), 4);
    }

    #[test]
    fn a_network_is_written_exactly() {
        assert!("10.44.1.0/16".parse::<Network>().unwrap_err().contains("write 10.44.0.0/16"));
        assert!("10.44.1.0/33".parse::<Network>().is_err());
        assert_eq!("10.44.0.0/16".parse::<Network>().unwrap().to_string(), "10.44.0.0/16");
    }
}
