use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use ipnet::IpNet;

/// An address, or a block of addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Network(IpNet);

impl Network {
    /// Whether an address is in it.
    pub fn contains(self, address: IpAddr) -> bool {
        self.0.contains(&address)
    }

    /// The block of this prefix length that holds an address; none where an address has
    /// fewer bits.
    pub fn holding(address: IpAddr, prefix: u8) -> Option<Self> {
        Some(Self(IpNet::new(address, prefix).ok()?.trunc()))
    }

    /// Its address, where it has one alone.
    pub fn single(self) -> Option<IpAddr> {
        (self.0.prefix_len() == self.0.max_prefix_len()).then(|| self.0.addr())
    }

    /// Its first address.
    pub fn first(self) -> IpAddr {
        self.0.addr()
    }

    /// How many bits all its addresses have in common.
    pub fn prefix(self) -> u8 {
        self.0.prefix_len()
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_is_written_exactly() {
        assert!("10.44.1.0/16".parse::<Network>().unwrap_err().contains("write 10.44.0.0/16"));
        assert!("10.44.1.0/33".parse::<Network>().is_err());
        assert_eq!("10.44.0.0/16".parse::<Network>().unwrap().to_string(), "10.44.0.0/16");
    }
}
