use std::collections::HashMap;
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;
use std::sync::Arc;

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

/// An address with a prefix length; a single address has all its bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Network {
    address: IpAddr,
    prefix: u8,
}

impl Network {
    fn holding(address: IpAddr, prefix: u8) -> Self {
        let masked = match address {
            IpAddr::V4(a) => {
                IpAddr::V4((a.to_bits() & u32::MAX.checked_shl(32 - u32::from(prefix)).unwrap_or(0)).into())
            }
            IpAddr::V6(a) => {
                IpAddr::V6((a.to_bits() & u128::MAX.checked_shl(128 - u32::from(prefix)).unwrap_or(0)).into())
            }
        };
        Self { address: masked, prefix }
    }

    fn is_single(self) -> bool {
        self.prefix == if self.address.is_ipv4() { 32 } else { 128 }
    }
}

impl FromStr for Network {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("`{text}` is no address such as 127.0.0.11 and no block such as 10.44.0.0/16");
        let (address, prefix) = text.split_once('/').map_or((text, None), |(a, p)| (a, Some(p)));
        let address: IpAddr = address.parse().map_err(|_| wrong())?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let prefix = prefix.map_or(Ok(most), |p| p.parse().map_err(|_| wrong()))?;
        let network = if prefix <= most { Self::holding(address, prefix) } else { return Err(wrong()) };
        match network.address == address {
            true => Ok(network),
            false => Err(format!("`{text}` has bits set after its prefix; write {network}")),
        }
    }
}

impl fmt::Display for Network {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.is_single() {
            true => write!(f, "{}", self.address),
            false => write!(f, "{}/{}", self.address, self.prefix),
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
            table.prefixes.push(nas.network.prefix);
            table.by_network.insert(nas.network, Arc::new(nas));
        }
        table.prefixes.sort_unstable_by(|a, b| b.cmp(a));
        table.prefixes.dedup();
        table
    }

    /// The NAS whose network holds the address with the longest prefix.
    pub fn find(&self, address: IpAddr) -> Option<&Arc<Nas>> {
        let address = address.to_canonical();
        let most = if address.is_ipv4() { 32 } else { 128 };
        let lengths = self.prefixes.iter().filter(|prefix| **prefix <= most);
        lengths.map(|&prefix| Network::holding(address, prefix)).find_map(|network| self.by_network.get(&network))
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
    fn a_network_is_written_exactly() {
        assert!("10.44.1.0/16".parse::<Network>().unwrap_err().contains("write 10.44.0.0/16"));
        assert!("10.44.1.0/33".parse::<Network>().is_err());
        assert_eq!("10.44.0.0/16".parse::<Network>().unwrap().to_string(), "10.44.0.0/16");
    }
}
