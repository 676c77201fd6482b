//! What a request says about itself beyond its attributes.

use regnant_policy::{Mac, Method};
use regnant_radius::{ChapResponse, Packet, Secret, number, reveal_password};

use crate::nas::{Nas, NasKind};

/// What carries the credential.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Carrier {
    Pap,
    Chap,
    Mac,
    Eap,
}

impl Carrier {
    pub(crate) const ALL: [(&'static str, Self); 4] =
        [("pap", Self::Pap), ("chap", Self::Chap), ("mac", Self::Mac), ("eap", Self::Eap)];

    pub(crate) fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }

    pub(crate) fn method(self) -> Option<Method> {
        match self {
            Self::Pap => Some(Method::Pap),
            Self::Chap => Some(Method::Chap),
            Self::Mac => Some(Method::Mac),
            Self::Eap => None,
        }
    }
}

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Purpose {
    Network,
    Login,
    Vpn,
}

impl Purpose {
    pub(crate) const ALL: [(&'static str, Self); 3] =
        [("network", Self::Network), ("login", Self::Login), ("vpn", Self::Vpn)];
}

/// Over what the request came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Medium {
    Wired,
    Wireless,
    Virtual,
    Other,
}

impl Medium {
    pub(crate) const ALL: [(&'static str, Self); 4] =
        [("wired", Self::Wired), ("wireless", Self::Wireless), ("virtual", Self::Virtual), ("other", Self::Other)];
}

/// The credential of a request.
#[derive(Debug)]
pub(crate) enum Credential {
    None,
    Password(Secret),
    /// User-Password that does not decode: the secret most likely differs.
    Noise,
    Chap(ChapResponse),
}

/// What was derived from the first packet.
#[derive(Debug)]
pub(crate) struct Derived<'p> {
    pub(crate) name: Option<&'p str>,
    pub(crate) mac: Option<Mac>,
    pub(crate) carrier: Option<Carrier>,
    pub(crate) purpose: Option<Purpose>,
    pub(crate) medium: Option<Medium>,
    pub(crate) port: Option<u32>,
    pub(crate) ssid: Option<&'p str>,
    pub(crate) credential: Credential,
}

const CALL_CHECK: u32 = 10;
const LOGIN: u32 = 1;
const FRAMED: u32 = 2;
const ADMINISTRATIVE: u32 = 6;
const NAS_PROMPT: u32 = 7;
const ASYNC: u32 = 0;
const VIRTUAL: u32 = 5;
const ETHERNET: u32 = 15;
const WIRELESS_OTHER: u32 = 18;
const WIRELESS_802_11: u32 = 19;

impl<'p> Derived<'p> {
    /// Reads all that one pass over the attributes tells.
    pub(crate) fn read(packet: &Packet<'p>, nas: &Nas) -> Self {
        let mut raw = Raw::default();
        for attribute in packet.attributes() {
            raw.take(attribute.number, attribute.value);
        }
        let text = |bytes: Option<&'p [u8]>| bytes.and_then(|bytes| std::str::from_utf8(bytes).ok());
        let name = text(raw.user_name);
        let mac = text(raw.calling).and_then(|text| text.parse().ok());
        let credential = raw.credential(packet, nas);
        let carrier = carrier(&raw, name, mac, &credential);
        Self {
            name,
            mac,
            carrier,
            purpose: purpose(nas.kind, raw.service_type, raw.port_type),
            medium: raw.port_type.map(medium),
            port: raw.port.or_else(|| last_number(text(raw.port_id)?)),
            ssid: text(raw.called).and_then(ssid),
            credential,
        }
    }

    /// The name that somebody claims; a MAC bypass claims none.
    pub(crate) fn claimed(&self) -> Option<&'p str> {
        self.name.filter(|_| self.carrier != Some(Carrier::Mac))
    }
}

#[derive(Default)]
struct Raw<'p> {
    user_name: Option<&'p [u8]>,
    password: Option<&'p [u8]>,
    chap: Option<&'p [u8]>,
    chap_challenge: Option<&'p [u8]>,
    port: Option<u32>,
    service_type: Option<u32>,
    called: Option<&'p [u8]>,
    calling: Option<&'p [u8]>,
    port_type: Option<u32>,
    port_id: Option<&'p [u8]>,
    eap: bool,
}

impl<'p> Raw<'p> {
    fn take(&mut self, attribute: u8, value: &'p [u8]) {
        let integer = || <[u8; 4]>::try_from(value).ok().map(u32::from_be_bytes);
        match attribute {
            number::USER_NAME => self.user_name = Some(value),
            number::USER_PASSWORD => self.password = Some(value),
            number::CHAP_PASSWORD => self.chap = Some(value),
            number::CHAP_CHALLENGE => self.chap_challenge = Some(value),
            number::NAS_PORT => self.port = integer(),
            number::SERVICE_TYPE => self.service_type = integer(),
            number::CALLED_STATION_ID => self.called = Some(value),
            number::CALLING_STATION_ID => self.calling = Some(value),
            number::NAS_PORT_TYPE => self.port_type = integer(),
            number::NAS_PORT_ID => self.port_id = Some(value),
            number::EAP_MESSAGE => self.eap = true,
            _ => {}
        }
    }

    fn credential(&self, packet: &Packet<'_>, nas: &Nas) -> Credential {
        if let Some(hidden) = self.password {
            return match reveal_password(hidden, packet.authenticator(), &nas.secret) {
                Ok(password) if printable(password.expose()) => Credential::Password(password),
                _ => Credential::Noise,
            };
        }
        self.chap
            .and_then(|sent| ChapResponse::parse(sent, self.chap_challenge, packet.authenticator()))
            .map_or(Credential::None, Credential::Chap)
    }
}

/// Nobody's password holds control characters or broken UTF-8; what a wrong
/// secret decodes to nearly always does.
fn printable(password: &[u8]) -> bool {
    std::str::from_utf8(password).is_ok_and(|text| !text.chars().any(char::is_control))
}

/// MAC bypass: User-Name is a MAC address equal to Calling-Station-Id, and the
/// NAS says Call-Check or sends that same name as password.
fn carrier(raw: &Raw<'_>, name: Option<&str>, mac: Option<Mac>, credential: &Credential) -> Option<Carrier> {
    if raw.eap {
        return Some(Carrier::Eap);
    }
    let name_is_mac = mac.is_some() && name.and_then(|name| name.parse::<Mac>().ok()) == mac;
    let same_password = |name: &str| match credential {
        Credential::Password(password) => password.expose() == name.as_bytes(),
        Credential::Chap(response) => response.matches(name.as_bytes()),
        _ => false,
    };
    if name_is_mac && (raw.service_type == Some(CALL_CHECK) || name.is_some_and(same_password)) {
        return Some(Carrier::Mac);
    }
    match (raw.password, raw.chap) {
        (Some(_), _) => Some(Carrier::Pap),
        (_, Some(_)) => Some(Carrier::Chap),
        _ => None,
    }
}

fn purpose(kind: NasKind, service_type: Option<u32>, port_type: Option<u32>) -> Option<Purpose> {
    if kind == NasKind::Vpn {
        return Some(Purpose::Vpn);
    }
    match (service_type, port_type) {
        (Some(FRAMED | CALL_CHECK), _) => Some(Purpose::Network),
        (Some(LOGIN | ADMINISTRATIVE | NAS_PROMPT), _) => Some(Purpose::Login),
        (None, Some(ETHERNET | WIRELESS_OTHER | WIRELESS_802_11)) => Some(Purpose::Network),
        (None, Some(VIRTUAL | ASYNC)) => Some(Purpose::Login),
        _ => None,
    }
}

fn medium(port_type: u32) -> Medium {
    match port_type {
        ETHERNET => Medium::Wired,
        WIRELESS_OTHER | WIRELESS_802_11 => Medium::Wireless,
        VIRTUAL => Medium::Virtual,
        _ => Medium::Other,
    }
}

fn last_number(text: &str) -> Option<u32> {
    let end = text.rfind(|c: char| c.is_ascii_digit())? + 1;
    let start = text[..end].rfind(|c: char| !c.is_ascii_digit()).map_or(0, |at| at + 1);
    // A multi-byte character before the digits ends further right.
    text.get(start..end).or_else(|| text[..end].split(|c: char| !c.is_ascii_digit()).next_back())?.parse().ok()
}

/// Called-Station-Id is `00-10-A4-23-19-C0:harbour` (RFC 3580 section 3.20).
fn ssid(called: &str) -> Option<&str> {
    let (mac, ssid) = called.split_at_checked(17)?;
    mac.parse::<Mac>().ok()?;
    ssid.strip_prefix(':').filter(|ssid| !ssid.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_number_of_a_port_name_is_its_port() {
        assert_eq!(last_number("gi1/0/24"), Some(24));
        assert_eq!(last_number("port é7"), Some(7));
        assert_eq!(last_number("uplink"), None);
        assert_eq!(last_number("99999999999"), None);
    }

    #[test]
    fn the_network_name_follows_the_mac_address() {
        assert_eq!(ssid("02-00-5E-00-00-01:harbour crew"), Some("harbour crew"));
        assert_eq!(ssid("02-00-5E-00-00-01"), None);
        assert_eq!(ssid("harbour"), None);
    }
}
