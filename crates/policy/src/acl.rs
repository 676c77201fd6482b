use std::net::IpAddr;

/// An access list in neutral form; a packet that no entry names is denied.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Acl {
    /// Its name.
    pub name: String,
    /// Its entries; the first that fits a packet decides.
    pub entries: Vec<Entry>,
}

/// One line of an access list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Let through or not.
    pub action: Action,
    /// Which protocol.
    pub protocol: Protocol,
    /// Where packets come from.
    pub from: Where,
    /// From which ports; none means any.
    pub from_ports: Vec<Port>,
    /// Where packets go.
    pub to: Where,
    /// To which ports; none means any.
    pub to_ports: Vec<Port>,
}

/// What happens to a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// It passes.
    Permit,
    /// It does not.
    Deny,
}

/// A protocol over IP.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Protocol {
    /// Every protocol.
    Ip,
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
    /// ICMP.
    Icmp,
    /// Another, by its IANA number.
    Number(u8),
}

/// One side of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Where {
    /// Everything.
    Any,
    /// The device itself.
    This,
    /// A block of addresses; a single address has the full prefix length.
    Block(IpAddr, u8),
}

/// A port or an inclusive range of ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Port {
    /// First.
    pub first: u16,
    /// Last.
    pub last: u16,
}
