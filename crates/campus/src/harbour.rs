//! The Port of Tarnmouth, an invented harbour: its policy, its inventory and its
//! equipment.

use std::net::Ipv4Addr;

use regnant_radius::Dictionary;

use crate::make::Make;
use crate::nas::Nas;

/// The files of the harbour's policy, by their names; it begins with `main.writ`.
pub const POLICY_FILES: [(&str, &str); 3] = [
    ("main.writ", include_str!("../harbour/main.writ")),
    ("access-lists.writ", include_str!("../harbour/access-lists.writ")),
    ("cases.writ", include_str!("../harbour/cases.writ")),
];

/// The harbour's policy in one file.
pub const POLICY: &str = match std::str::from_utf8(&JOINED.0) {
    Ok(text) => text.split_at(JOINED.1).0,
    Err(_) => panic!("policies are texts"),
};

const MOST: usize = POLICY_FILES[0].1.len() + POLICY_FILES[1].1.len() + POLICY_FILES[2].1.len();
const JOINED: ([u8; MOST], usize) = joined();

/// The files one after the other, without the lines that include them.
const fn joined() -> ([u8; MOST], usize) {
    const INCLUDE: &[u8] = b"include ";
    let (mut text, mut length, mut file) = ([0; MOST], 0, 0);
    while file < POLICY_FILES.len() {
        let bytes = POLICY_FILES[file].1.as_bytes();
        let mut at = 0;
        while at < bytes.len() {
            let mut same = 0;
            while same < INCLUDE.len() && at + same < bytes.len() && bytes[at + same] == INCLUDE[same] {
                same += 1;
            }
            let skipped = same == INCLUDE.len();
            // To the end of the line, and past it.
            loop {
                if !skipped {
                    text[length] = bytes[at];
                    length += 1;
                }
                at += 1;
                if at >= bytes.len() || bytes[at - 1] == b'\n' {
                    break;
                }
            }
        }
        file += 1;
    }
    (text, length)
}

/// The policy in one file, with the port's asset register and, where it is there, its directory.
pub fn policy_with_outside(directory: bool) -> String {
    join(POLICY, &joins(directory))
}

/// The same as files by their names. Its exception counts in the night between these days, such as
/// `2026-12-30` and `2026-12-31`.
pub fn policy_folder(directory: bool, (evening, morning): (&str, &str)) -> [(&'static str, String); 3] {
    let joins = joins(directory);
    let dated = |text: String| {
        text.replace("2026-11-27T", &format!("{evening}T")).replace("2099-01-01T", &format!("{morning}T"))
    };
    POLICY_FILES.map(|(name, text)| (name, dated(join(text, &joins))))
}

fn joins(directory: bool) -> Vec<Join> {
    if directory { [&REGISTER_JOINS[..], &DIRECTORY_JOINS].concat() } else { REGISTER_JOINS.to_vec() }
}

fn join(text: &str, joins: &[Join]) -> String {
    joins.iter().fold(text.to_owned(), |policy, (before, after)| policy.replacen(before, after, 1))
}

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

/// The stores outside, by the names that the policy has for them.
pub const TARN_DIRECTORY: &str = "tarn-directory";
/// The asset register.
pub const ASSET_REGISTER: &str = "asset-register";
/// The facts that the register tells, each with its type, its meaning and where it stands in an
/// answer.
pub const REGISTER_FACTS: [(&str, &str, &str, &str); 3] = [
    ("machine.compliant", "boolean", "Whether the machine is as the port wants it", "/state/compliant"),
    ("machine.last-seen", "text", "When it was last looked at", "/state/last-seen"),
    ("machine.asset-owner", "text", "Who is answerable for it", "/owner"),
];

/// A text of the policy, and what stands in its place.
type Join = (&'static str, &'static str);

/// Staff, as every policy has it: what joins stands before.
const STAFF_ON_A_LAPTOP: &str = "  rule \"Staff on a harbour laptop\" {";
const CASES: &str = "# --- cases: run by every check ------------------------------------------------\n";

const REGISTER_JOINS: [Join; 3] = [
    (
        "  remember machine 8h\n",
        "  # What the register told an hour ago still counts while it does not answer.\n  \
         lookup machine in asset-register { unreachable use stale 1h }\n  remember machine 8h\n",
    ),
    (
        STAFF_ON_A_LAPTOP,
        "  rule \"Machines that are not as the port wants them\" {\n    when not machine.compliant\n    grant agents\n  }\n  \
         rule \"Staff on a harbour laptop\" {",
    ),
    (
        CASES,
        "# --- cases: run by every check ------------------------------------------------\n\n\
         case \"a laptop that the register calls not compliant gets the internet only, whoever uses it\" {\n  \
         given nas.kind = switch, request.purpose = network, request.carrier = eap,\n    \
         device.barred = false, user.proved = true, user.groups = { \"staff\" },\n    \
         machine.proved = true, machine.groups = { \"harbour-laptops\" }, machine.compliant = false\n  \
         expect grant agents by \"Machines that are not as the port wants them\" with vlan 60\n}\n\n\
         case \"while the register is silent and told nothing, nobody guesses\" {\n  \
         given nas.kind = switch, request.purpose = network, request.carrier = eap,\n    \
         device.barred = false, user.proved = true, user.groups = { \"staff\" },\n    \
         machine.proved = true, machine.groups = { \"harbour-laptops\" }, machine.compliant unanswered\n  \
         expect silence\n}\n",
    ),
];

const DIRECTORY_JOINS: [Join; 4] = [
    (
        "  }\n\n  identify user in harbour as lower",
        "  }\n\n  # The port's own people first: they come in while the directory is silent.\n  \
         identify user in harbour, tarn-directory as lower",
    ),
    ("grant cranes {", "grant customs {\n  vlan 70\n  acl internet-only\n}\n\ngrant cranes {"),
    (
        "  rule \"Contractors\" {",
        "  rule \"Officers of the partner authority\" {\n    when user in group \"customs-officers\"\n    grant customs\n  }\n  \
         rule \"Contractors\" {",
    ),
    (
        "case \"a device that nobody registered is held\" {",
        "case \"an officer of the partner authority has a network of their own\" {\n  \
         given nas.kind = controller, request.purpose = network, request.carrier = eap,\n    \
         device.barred = false, user.proved = true, user.store = \"tarn-directory\",\n    \
         user.groups = { \"customs-officers\", \"partner-authority\" }, machine.proved = false\n  \
         expect grant customs by \"Officers of the partner authority\" with vlan 70\n}\n\n\
         case \"a device that nobody registered is held\" {",
    ),
];

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_joins_the_policy_finds_its_place() {
        for (before, _) in REGISTER_JOINS.iter().chain(&DIRECTORY_JOINS) {
            assert!(POLICY.contains(before), "{before}");
        }
        let (with, without) = (policy_with_outside(true), policy_with_outside(false));
        assert!(with.contains("tarn-directory") && with.contains("asset-register"));
        assert!(!without.contains("tarn-directory") && without.contains("asset-register"));
        assert!(!POLICY.contains("include ") && POLICY.contains("acl internet-only") && POLICY.ends_with("}\n"));
        let folder = policy_folder(true, ("2026-12-30", "2026-12-31"));
        let whole: String = folder.iter().map(|(_, text)| text.as_str()).collect();
        assert!(
            whole.contains("until 2026-12-31T06:00Z")
                && whole.contains("2026-12-30T23:00Z")
                && whole.contains("tarn-directory")
        );
    }
}
