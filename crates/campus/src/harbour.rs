//! The Port of Tarnmouth, an invented harbour: its policy, its inventory and its
//! equipment.

use std::net::Ipv4Addr;

use regnant_radius::Dictionary;

use crate::make::Make;
use crate::nas::Nas;

/// The harbour's policy.
pub const POLICY: &str = include_str!("../harbour/main.writ");
/// What the port's own directory holds (LDIF, RFC 2849).
pub const DIRECTORY: &str = include_str!("../harbour/directory.ldif");
/// Its equipment, people and devices, as an inventory file.
pub const INVENTORY: &str = include_str!("../harbour/inventory.toml");
/// The attributes of the yard's switches, as a dictionary file.
pub const DICTIONARY: &str = include_str!("../harbour/tarnworks.dictionary.toml");
/// How the yard's switches want to be told, as a dialect file.
pub const DIALECT: &str = include_str!("../harbour/tarnworks.dialect.toml");

/// A camera whose time is over at some time, such as `2026-12-31T18:00:00Z`, as an inventory
/// file has it.
pub fn camera_on_loan(ends: &str) -> String {
    format!(
        "[[device]]\nstore = \"harbour-devices\"\nmac = \"02:00:5e:50:00:3c\"\ntitle = \"quay camera\"\n\
         groups = [\"cameras\"]\nowner = \"Dredging contractor\"\nnote = \"On loan while the basin is dredged\"\n\
         expires = \"{ends}\"\n"
    )
}

/// Somebody who signs in to the console.
pub struct Administrator {
    /// Their name.
    pub name: &'static str,
    /// What they may do: `engineer`, `helpdesk` or `auditor`.
    pub role: &'static str,
    /// Their password, which everybody knows.
    pub password: &'static str,
}

/// Everybody who signs in to the console, an engineer first.
pub const ADMINISTRATORS: [Administrator; 3] = [
    Administrator { name: "harbour", role: "engineer", password: "tarnmouth-demo" },
    Administrator { name: "desk", role: "helpdesk", password: "desk-demo-1" },
    Administrator { name: "ledger", role: "auditor", password: "ledger-demo-1" },
];

/// The attributes that its equipment sends and understands.
pub fn dictionary() -> Dictionary {
    let mut dictionary = Dictionary::standard();
    dictionary.add_own("tarnworks.toml", DICTIONARY).expect("the file that ships is checked by the tests");
    dictionary
}

const fn nas(name: &'static str, last: u8, secret: &'static str, signed: bool) -> Nas {
    let address = Ipv4Addr::new(127, 0, 0, last);
    Nas { name, address, secret, signed, make: Make::Standard, needs_accounting: false }
}

const fn of_tarnworks(nas: Nas) -> Nas {
    Nas { make: Make::Tarnworks, ..nas }
}

/// A switch at the quayside.
pub const QUAY_SW_1: Nas = nas("quay-sw-1", 11, "bollard-9-anchor", true);
/// A switch in the yard.
pub const YARD_SW_1: Nas = of_tarnworks(nas("yard-sw-1", 12, "gantry-4-lashing", true));
/// The wireless controller on the tower.
pub const MAST_WLC_1: Nas = nas("mast-wlc-1", 21, "mizzen-7-halyard", true);
/// The firewall at the gatehouse.
pub const GATE_FW_1: Nas = nas("gate-fw-1", 31, "portcullis-2-chain", true);
/// The router on the tower.
pub const TOWER_RT_1: Nas = nas("tower-rt-1", 32, "lantern-5-beacon", true);
/// The pilots' VPN gateway, which is old and signs nothing.
pub const PILOT_VPN_1: Nas = Nas { needs_accounting: true, ..nas("pilot-vpn-1", 41, "sextant-3-compass", false) };
/// All of it that is registered.
pub const EQUIPMENT: [Nas; 6] = [QUAY_SW_1, YARD_SW_1, MAST_WLC_1, GATE_FW_1, TOWER_RT_1, PILOT_VPN_1];
/// A switch that nobody registered.
pub const STRAY_SW_9: Nas = nas("stray-sw-9", 99, "bollard-9-anchor", true);
/// The yard's switch with a secret that somebody mistyped.
pub const MISTYPED_SW_1: Nas = nas("yard-sw-1", 12, "gantry-4-lashin", true);
