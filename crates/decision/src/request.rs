//! A request as a decision knows it, whatever protocol it came by.

use std::net::IpAddr;

use regnant_base::Mac;
use regnant_eap::Credential;
use regnant_policy::{Facts, Known, Method, Type, Value};
use serde::{Deserialize, Serialize};

use crate::stores::Groups;

/// Who asks: a piece of equipment (NAS, RFC 2865 section 1.2).
#[derive(Clone, Debug, PartialEq)]
pub struct NasIdentity {
    /// Its name in the inventory.
    pub name: String,
    /// What it is.
    pub kind: NasKind,
    /// Where it stands.
    pub site: String,
    /// The name of the dialect that its grants are rendered in.
    pub dialect: String,
    /// Words that people put on it.
    pub tags: Groups,
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
    /// A wireless access point that asks for itself.
    #[serde(rename = "access-point")]
    AccessPoint,
    /// A system that manages other equipment.
    Manager,
    /// A computer.
    Server,
    /// Something else.
    Other,
}

impl NasKind {
    /// All kinds with their words.
    pub const ALL: [(&'static str, Self); 9] = [
        ("switch", Self::Switch),
        ("controller", Self::Controller),
        ("firewall", Self::Firewall),
        ("router", Self::Router),
        ("vpn", Self::Vpn),
        ("access-point", Self::AccessPoint),
        ("manager", Self::Manager),
        ("server", Self::Server),
        ("other", Self::Other),
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// What carries the credential.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Carrier {
    /// A name and a password.
    Pap,
    /// A name and the response to a challenge.
    Chap,
    /// The MAC address alone.
    Mac,
    /// An EAP conversation.
    Eap,
    /// A name and the response to a challenge of MS-CHAP, of either version.
    MsChap,
}

impl Carrier {
    /// All with their words. The journal keeps their places.
    pub const ALL: [(&'static str, Self); 5] =
        [("pap", Self::Pap), ("chap", Self::Chap), ("mac", Self::Mac), ("eap", Self::Eap), ("mschap", Self::MsChap)];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// To be let into a network.
    Network,
    /// To administer the equipment.
    Login,
    /// A tunnel into the network.
    Vpn,
}

impl Purpose {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 3] = [("network", Self::Network), ("login", Self::Login), ("vpn", Self::Vpn)];
}

/// Over what the request came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Medium {
    /// A cable.
    Wired,
    /// A wireless network.
    Wireless,
    /// Nothing that one can touch.
    Virtual,
    /// Something else.
    Other,
}

impl Medium {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 4] =
        [("wired", Self::Wired), ("wireless", Self::Wireless), ("virtual", Self::Virtual), ("other", Self::Other)];
}

/// The credential that a request carries by itself.
#[derive(Clone, Debug)]
pub enum Presented {
    /// None.
    Nothing,
    /// What was sent does not decode: the secret shared with the NAS most likely differs.
    Undecodable,
    /// This.
    Credential(Credential),
}

/// Why a request says no name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoName {
    /// It has none.
    Missing,
    /// It is not UTF-8.
    NotText,
}

/// What a request says.
pub struct Request<'p> {
    /// Who asks.
    pub nas: &'p NasIdentity,
    /// The address that the NAS asks from.
    pub address: IpAddr,
    /// The name that was sent; it may be empty.
    pub name: Result<&'p str, NoName>,
    /// The device's address.
    pub mac: Option<Mac>,
    /// What carries the credential, where something does.
    pub carrier: Option<Carrier>,
    /// The method that it is of; none in EAP, which has methods of its own.
    pub method: Option<Method>,
    /// What is asked for, where that is known.
    pub purpose: Option<Purpose>,
    /// Over what it came.
    pub medium: Option<Medium>,
    /// The port of the NAS.
    pub port: Option<u32>,
    /// The wireless network.
    pub ssid: Option<&'p str>,
    /// The credential.
    pub presented: &'p Presented,
    /// What else the protocol says.
    pub protocol: &'p dyn ProtocolFacts,
}

impl<'p> Request<'p> {
    /// The name that somebody claims; a MAC bypass claims none.
    pub fn claimed(&self) -> Option<&'p str> {
        self.name.ok().filter(|_| self.carrier != Some(Carrier::Mac))
    }
}

/// Facts that only a protocol knows: attributes of RADIUS, arguments of TACACS+.
pub trait ProtocolFacts: Sync {
    /// The fact of this place among those that the protocol has.
    fn fact(&self, place: usize, kind: &Type) -> Known<Value<'_>>;

    /// Whether the equipment can be told of these grants, a combination of the edition, with
    /// what these facts say; if not, why.
    fn can_be_told(&self, grants: usize, facts: &dyn Facts) -> Result<(), String>;
}

/// A request that a conversation keeps to its end.
pub trait KeptRequest: Send + Sync {
    /// What it says.
    fn request(&self) -> Request<'_>;
}
