//! The harbour's story, played once: every request of the scenario, with what
//! must come of it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use regnant_eap::Secret;
use regnant_radius::Dictionary;

use crate::accounting::Accounting;
use crate::certificates::{DemoCertificates, DemoCertificatesError};
use crate::enforce::{Enforced, Outcome};
use crate::harbour::*;
use crate::logins;
use crate::nas::Nas;
use regnant_client::{Ask, Credential, Patience};

/// One request of the story.
#[derive(Clone, Debug)]
pub struct Scene {
    /// What it is about.
    pub title: &'static str,
    /// Who asks.
    pub nas: Nas,
    /// What is asked.
    pub ask: Ask,
    /// What must come of it.
    pub expected: Expected,
}

/// What must come of a request.
#[derive(Clone, Debug)]
pub enum Expected {
    /// Exactly this is enforced.
    Enforced(Box<Enforced>),
    /// No access.
    Refused,
    /// No answer.
    NoAnswer,
}

impl Expected {
    /// Whether an outcome is as it must be.
    pub fn is_met_by(&self, outcome: &Outcome) -> bool {
        match (self, outcome) {
            (Self::Enforced(expected), Outcome::Accepted(enforced)) => **expected == *enforced,
            (Self::Refused, Outcome::Refused(_)) | (Self::NoAnswer, Outcome::NoAnswer) => true,
            _ => false,
        }
    }
}

impl Scene {
    /// Plays the scene against a server; where there is accounting, what is given is reported.
    pub fn play(
        &self,
        server: SocketAddr,
        dictionary: &Arc<Dictionary>,
        accounting: Option<&mut Accounting>,
    ) -> Outcome {
        let mut exchange = self.nas.exchange(server);
        if let Expected::NoAnswer = self.expected {
            // Silence is expected: waiting for it twice proves nothing more.
            exchange.patience = Patience { first: Duration::from_millis(300), tries: 1, ..Patience::default() };
        }
        self.nas.ask(&exchange, &self.ask, dictionary, accounting)
    }
}

/// Every scene in order: what needs no 802.1X, then what does.
pub fn scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    Ok([plain_scenes(), logins::scenes(certificates)?].concat())
}

/// What the asset register decides.
pub fn register_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    logins::register_scenes(certificates)
}

/// Those whom the directory alone knows.
pub fn directory_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    logins::directory_scenes(certificates)
}

/// What comes of them, and of others, while the directory does not answer.
pub fn silent_directory_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    logins::silent_directory_scenes(certificates)
}

fn plain_scenes() -> Vec<Scene> {
    let scene = |title, nas, ask, expected| Scene { title, nas, ask, expected };
    let login = |user, password| Ask::pap(user, password).with("Service-Type", "Login");
    let refused = || Expected::Refused;
    vec![
        scene("a crane controller", QUAY_SW_1, Ask::mac("02-00-5E-20-00-07", 7), cranes()),
        scene("a crane controller, written otherwise", QUAY_SW_1, Ask::mac("02005e200012", 9), cranes()),
        scene("a container scanner", YARD_SW_1, Ask::mac("02:00:5e:40:00:28", 3), scanners()),
        scene("a quay camera", QUAY_SW_1, Ask::mac("02005E50003C", 21), cameras()),
        scene("a device nobody registered", YARD_SW_1, Ask::mac("02-00-5E-99-00-01", 14), holding()),
        scene("a scanner reported stolen", YARD_SW_1, Ask::mac("02-00-5E-40-00-66", 5), refused()),
        scene(
            "a stolen device behind the VPN",
            PILOT_VPN_1,
            Ask::pap("ida.marsh", "Tide-Table-61").with("Calling-Station-Id", "02-00-5E-40-00-66"),
            refused(),
        ),
        scene("an operator at the firewall", GATE_FW_1, login("ola.nett", "Fibre-Spool-90"), operator()),
        scene("an operator at the router", TOWER_RT_1, login("ola.nett", "Fibre-Spool-90"), operator()),
        scene("a reader at the firewall", GATE_FW_1, login("pia.quill", "Ledger-Ink-27"), reader()),
        scene("a crane engineer at the firewall", GATE_FW_1, login("tom.reed", "Winch-Oil-48"), refused()),
        scene("an operator's wrong password", GATE_FW_1, login("ola.nett", "Fibre-Spool-91"), refused()),
        scene("an account that is disabled", PILOT_VPN_1, Ask::pap("lee.gone", "Old-Badge-77"), refused()),
        scene("staff through the VPN", PILOT_VPN_1, Ask::pap("ida.marsh", "Tide-Table-61"), remote()),
        scene(
            "staff through the VPN, with realm",
            PILOT_VPN_1,
            Ask::pap("tom.reed@tarnmouth.example", "Winch-Oil-48"),
            remote(),
        ),
        scene("a contractor at the VPN", PILOT_VPN_1, Ask::pap("sam.drift", "Rope-Ends-13"), refused()),
        scene("somebody nobody knows", PILOT_VPN_1, Ask::pap("max.fern", "Sail-Cloth-02"), refused()),
        scene(
            "a password where only devices are taken",
            MAST_WLC_1,
            Ask::pap("ida.marsh", "Tide-Table-61").with("NAS-Port-Type", "Wireless-802.11"),
            refused(),
        ),
        scene("a MAC address as a user", GATE_FW_1, mac_login(), refused()),
        scene("a switch nobody registered", STRAY_SW_9, stray(), Expected::NoAnswer),
        scene("a switch with a mistyped secret", MISTYPED_SW_1, Ask::mac("02-00-5E-20-00-07", 1), Expected::NoAnswer),
    ]
}

fn stray() -> Ask {
    Ask::mac("02-00-5E-20-00-07", 1).with("NAS-Identifier", STRAY_SW_9.name)
}

fn mac_login() -> Ask {
    let address = "02005e200007";
    let credential = Credential::Pap { user: address.into(), password: Secret::new(address) };
    Ask { credential, attributes: Vec::new() }.with("Service-Type", "Login")
}

fn port(vlan: &str, rules: &[&str]) -> Expected {
    Expected::Enforced(Box::new(Enforced {
        vlan: Some(vlan.into()),
        rules: rules.iter().map(|rule| (*rule).to_owned()).collect(),
        ..Enforced::default()
    }))
}

pub(crate) const DNS_UDP: &str = "permit in udp from any to 10.44.0.53 53";
pub(crate) const DNS_TCP: &str = "permit in tcp from any to 10.44.0.53 53";
pub(crate) const DHCP: &str = "permit in udp from any to any 67";
pub(crate) const NOTHING_ELSE: &str = "deny in ip from any to any";

fn cranes() -> Expected {
    port("30", &["permit in tcp from any to 10.44.30.0/24 102,4840", DNS_UDP, DNS_TCP, DHCP, NOTHING_ELSE])
}

fn scanners() -> Expected {
    port("40", &["permit in tcp from any to 10.44.40.10 443", DNS_UDP, DNS_TCP, DHCP, NOTHING_ELSE])
}

fn cameras() -> Expected {
    let video = ["permit in tcp from any to 10.44.50.0/24 554", "permit in udp from any to 10.44.50.0/24 5004"];
    port("50", &[video[0], video[1], DNS_UDP, DNS_TCP, DHCP, NOTHING_ELSE])
}

fn holding() -> Expected {
    let rules = holding_rules();
    port("99", &rules.iter().map(String::as_str).collect::<Vec<_>>())
}

/// The rules of `internet-only`.
pub(crate) fn holding_rules() -> Vec<String> {
    let inside = "deny in ip from any to 10.44.0.0/16";
    [DNS_UDP, DNS_TCP, DHCP, inside, "permit in ip from any to any"].map(str::to_owned).into()
}

fn admin(service: &str, privilege: u64, class: &str) -> Expected {
    Expected::Enforced(Box::new(Enforced {
        service: Some(service.into()),
        privilege: Some(privilege),
        class: Some(class.into()),
        ..Enforced::default()
    }))
}

fn operator() -> Expected {
    admin("Administrative", 15, "operator")
}

fn reader() -> Expected {
    admin("NAS-Prompt", 1, "reader")
}

fn remote() -> Expected {
    Expected::Enforced(Box::new(Enforced {
        class: Some("crew".into()),
        session: Some(8 * 3_600),
        ..Enforced::default()
    }))
}
