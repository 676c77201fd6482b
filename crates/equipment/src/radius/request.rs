//! A RADIUS request as a decision knows it.

use std::borrow::Cow;
use std::sync::{Arc, OnceLock};

use regnant_base::Mac;
use regnant_decision::{Carrier, KeptRequest, Medium, NasKind, NoName, Presented, ProtocolFacts, Purpose, Request};
use regnant_eap::Credential;
use regnant_policy::{Facts, Known, Method, Type, Value};
use regnant_radius::{ChapResponse, HEADER_LEN, Packet, SharedSecret, number, reveal_password};

use crate::edition::{ActiveEdition, Edition};
use crate::radius::accept::AcceptedRequest;
use crate::radius::ms_chap;
use crate::radius::render::asking::Bypass;
use crate::radius::secrets::NamedSecrets;

/// A request, what was read of it, and the edition that decides it.
#[derive(Clone, Debug)]
pub(crate) struct RadiusRequest {
    pub(crate) accepted: AcceptedRequest,
    pub(crate) read: ReadRequest,
    pub(crate) edition: Arc<Edition>,
    pub(crate) secrets: NamedSecrets,
    /// The attributes of grants that depend on facts, rendered when it was asked whether they can be told.
    rendered: OnceLock<(usize, Vec<u8>)>,
}

/// What a request says, read in one pass over its attributes, with the password opened: once, for as long as the
/// request is kept. What it is for, and what is a MAC bypass, is a matter of the NAS's dialect in an edition.
#[derive(Clone, Debug)]
pub struct ReadRequest {
    name: Result<Place, NoName>,
    mac: Option<Mac>,
    carrier: Option<Carrier>,
    method: Option<Method>,
    pub(crate) purpose: Option<Purpose>,
    medium: Option<Medium>,
    port: Option<u32>,
    ssid: Option<Place>,
    presented: Presented,
    /// Whether it carries EAP.
    pub(crate) eap: bool,
}

/// Where a text stands in the packet, which was UTF-8 when it was read.
#[derive(Clone, Copy, Debug)]
struct Place {
    from: u16,
    to: u16,
}

impl Place {
    /// The text; it is there, for the packet is the one that was read.
    fn text<'p>(self, packet: &Packet<'p>) -> &'p str {
        let bytes = packet.as_bytes().get(usize::from(self.from)..usize::from(self.to)).unwrap_or_default();
        std::str::from_utf8(bytes).unwrap_or_default()
    }
}

impl ProtocolFacts for RadiusRequest {
    fn fact(&self, place: usize, kind: &Type) -> Known<Value<'_>> {
        self.edition.vocabulary.attribute_fact(place, kind, self.accepted.packet().attributes())
    }

    fn can_be_told(&self, grants: usize, facts: &dyn Facts) -> Result<(), String> {
        if let Cow::Owned(varying) = self.edition.attributes(&self.accepted.nas.dialect, grants, facts)? {
            self.rendered.get_or_init(|| (grants, varying));
        }
        let (secrets, dictionary) = (self.edition.secrets(grants), self.edition.vocabulary.dictionary());
        // Which says too that there are not too many. Hidden under any salt, they are as long as they will be.
        self.secrets.attributes(secrets, &self.accepted, dictionary, [0; 2]).map(drop)
    }
}

impl KeptRequest for RadiusRequest {
    fn request(&self) -> Request<'_> {
        self.accepted.request(&self.read, self)
    }
}

impl RadiusRequest {
    pub(crate) fn new(accepted: AcceptedRequest, active: &ActiveEdition) -> Self {
        let read = ReadRequest::new(&accepted, &active.edition);
        let (edition, secrets) = (active.edition.clone(), active.secrets.clone());
        Self { accepted, read, edition, secrets, rendered: OnceLock::new() }
    }

    /// The attributes of grants, encoded, of which it was asked before whether they can be told.
    pub(crate) fn attributes(&self, grants: usize) -> Result<&[u8], String> {
        let rendered = || self.rendered.get().filter(|(of, _)| *of == grants).map(|(_, bytes)| &**bytes);
        let known = self.edition.fixed_attributes(&self.accepted.nas.dialect, grants).or_else(rendered);
        known.ok_or_else(|| format!("nobody looked whether {grants} can be told"))
    }
}

impl AcceptedRequest {
    /// What it says, as it was read; facts of single attributes are told by `protocol`.
    pub fn request<'p>(&'p self, read: &'p ReadRequest, protocol: &'p dyn ProtocolFacts) -> Request<'p> {
        let packet = self.packet();
        Request {
            nas: &self.nas.identity,
            address: self.source.ip(),
            name: read.name.map(|place| place.text(&packet)),
            mac: read.mac,
            carrier: read.carrier,
            method: read.method,
            purpose: read.purpose,
            medium: read.medium,
            port: read.port,
            ssid: read.ssid.map(|place| place.text(&packet)),
            presented: &read.presented,
            protocol,
        }
    }
}

impl ReadRequest {
    /// Reads a request.
    pub fn new(accepted: &AcceptedRequest, edition: &Edition) -> Self {
        let (packet, nas) = (accepted.packet(), &*accepted.nas);
        let (mut raw, mut at) = (Raw::default(), HEADER_LEN);
        for attribute in packet.attributes() {
            raw.take(attribute.number, attribute.value, at + 2);
            at += 2 + attribute.value.len();
        }
        let name = match raw.user_name {
            Some(name) => std::str::from_utf8(name).map_err(|_| NoName::NotText),
            None => Err(NoName::Missing),
        };
        let mac = raw.calling.and_then(|bytes| std::str::from_utf8(bytes).ok()).and_then(|text| text.parse().ok());
        let of_ms_chap = ms_chap::presented(&packet, name.ok()).filter(|_| !raw.eap);
        let (presented, ms_chap) = match of_ms_chap {
            Some((presented, method)) => (presented, Some(method)),
            None => (raw.presented(&packet, accepted.secret()), None),
        };
        let carrier = match ms_chap {
            Some(_) => Some(Carrier::MsChap),
            None => carrier(&raw, name.ok(), mac, &presented, |by| edition.takes_bypass(&nas.dialect, by)),
        };
        let ssid = raw.called.and_then(|bytes| std::str::from_utf8(bytes).ok()).and_then(ssid);
        Self {
            name: name.map(|name| place(raw.user_name_at, name.len())),
            mac,
            carrier,
            method: ms_chap.or_else(|| carrier.and_then(method)),
            purpose: edition
                .purpose(&nas.dialect, &packet.attributes())
                .or_else(|| purpose(nas.kind, carrier, integer(raw.service_type), integer(raw.port_type))),
            medium: integer(raw.port_type).map(medium),
            port: port(raw.port, raw.port_id),
            // It stands at the end.
            ssid: ssid.map(|ssid| place(raw.called_end - ssid.len(), ssid.len())),
            presented,
            eap: raw.eap,
        }
    }
}

/// A packet has at most 4096 bytes (RFC 2865 section 3), so that places in it are short.
fn place(from: usize, length: usize) -> Place {
    let short = |at: usize| u16::try_from(at).unwrap_or_default();
    Place { from: short(from), to: short(from + length) }
}

const LOGIN: u32 = 1;
const FRAMED: u32 = 2;
const OUTBOUND: u32 = 5;
const ADMINISTRATIVE: u32 = 6;
const NAS_PROMPT: u32 = 7;
const CALL_CHECK: u32 = 10;
const ASYNC: u32 = 0;
const VIRTUAL: u32 = 5;
const ETHERNET: u32 = 15;
const WIRELESS_OTHER: u32 = 18;
const WIRELESS_802_11: u32 = 19;

#[derive(Default)]
struct Raw<'p> {
    user_name: Option<&'p [u8]>,
    /// Where in the packet it begins, and where the called station ends.
    user_name_at: usize,
    called_end: usize,
    password: Option<&'p [u8]>,
    chap: Option<&'p [u8]>,
    chap_challenge: Option<&'p [u8]>,
    port: Option<&'p [u8]>,
    service_type: Option<&'p [u8]>,
    called: Option<&'p [u8]>,
    calling: Option<&'p [u8]>,
    port_type: Option<&'p [u8]>,
    port_id: Option<&'p [u8]>,
    eap: bool,
    /// With Message-Authenticator, which was right: both have the same secret.
    signed: bool,
}

impl<'p> Raw<'p> {
    fn take(&mut self, attribute: u8, value: &'p [u8], at: usize) {
        match attribute {
            number::USER_NAME if self.user_name.is_none() => self.user_name_at = at,
            number::CALLED_STATION_ID if self.called.is_none() => self.called_end = at + value.len(),
            _ => {}
        }
        // The first counts, here as for every `request.*`.
        let keep = |place: &mut Option<&'p [u8]>| {
            place.get_or_insert(value);
        };
        match attribute {
            number::USER_NAME => keep(&mut self.user_name),
            number::USER_PASSWORD => keep(&mut self.password),
            number::CHAP_PASSWORD => keep(&mut self.chap),
            number::CHAP_CHALLENGE => keep(&mut self.chap_challenge),
            number::NAS_PORT => keep(&mut self.port),
            number::SERVICE_TYPE => keep(&mut self.service_type),
            number::CALLED_STATION_ID => keep(&mut self.called),
            number::CALLING_STATION_ID => keep(&mut self.calling),
            number::NAS_PORT_TYPE => keep(&mut self.port_type),
            number::NAS_PORT_ID => keep(&mut self.port_id),
            number::EAP_MESSAGE => self.eap = true,
            number::MESSAGE_AUTHENTICATOR => self.signed = true,
            _ => {}
        }
    }

    fn presented(&self, packet: &Packet<'_>, secret: &SharedSecret) -> Presented {
        if let Some(hidden) = self.password {
            return match reveal_password(hidden, packet.authenticator(), secret) {
                Ok(password) if self.signed || printable(password.expose()) => {
                    Presented::Credential(Credential::Password(password))
                }
                Err(_) if self.signed => Presented::Nothing,
                _ => Presented::Undecodable,
            };
        }
        let chap = self.chap.and_then(|sent| ChapResponse::parse(sent, self.chap_challenge, packet.authenticator()));
        chap.map_or(Presented::Nothing, |ChapResponse { identifier, challenge, response }| {
            Presented::Credential(Credential::Md5 { identifier, challenge, response })
        })
    }
}

/// Passwords hold no control characters, and most are UTF-8; what a wrong secret
/// decodes to nearly always does and nearly never is. Only where no signature tells
/// whether the secret is right.
fn printable(password: &[u8]) -> bool {
    std::str::from_utf8(password).is_ok_and(|text| !text.chars().any(char::is_control))
}

/// MAC bypass: User-Name is a MAC address equal to Calling-Station-Id, and the NAS says
/// Call-Check or sends that same name as password, in a way that its dialect takes. What
/// EAP-MD5 proves is checked in its conversation.
fn carrier(
    raw: &Raw<'_>,
    name: Option<&str>,
    mac: Option<Mac>,
    presented: &Presented,
    takes_bypass: impl Fn(Bypass) -> bool,
) -> Option<Carrier> {
    // Most often both are written alike.
    let same = || raw.user_name == raw.calling || name.and_then(|name| name.parse::<Mac>().ok()) == mac;
    let name_is_mac = mac.is_some() && same();
    if raw.eap {
        return Some(if name_is_mac && takes_bypass(Bypass::EapMd5) { Carrier::Mac } else { Carrier::Eap });
    }
    let by = match (raw.password, raw.chap) {
        (Some(_), _) => Bypass::Pap,
        (_, Some(_)) => Bypass::Chap,
        _ => Bypass::CallCheck,
    };
    let same_password = |name: &str| match presented {
        Presented::Credential(credential) => {
            matches!(credential.check_password(name.as_bytes()), regnant_eap::Answer::Right { .. })
        }
        Presented::Nothing | Presented::Undecodable => false,
    };
    if name_is_mac
        && takes_bypass(by)
        && (integer(raw.service_type) == Some(CALL_CHECK) || name.is_some_and(same_password))
    {
        return Some(Carrier::Mac);
    }
    match by {
        Bypass::Pap => Some(Carrier::Pap),
        Bypass::Chap => Some(Carrier::Chap),
        Bypass::CallCheck | Bypass::EapMd5 => None,
    }
}

/// The method that a carrier is by itself.
fn method(carrier: Carrier) -> Option<Method> {
    match carrier {
        Carrier::Pap => Some(Method::Pap),
        Carrier::Chap => Some(Method::Chap),
        Carrier::Mac => Some(Method::Mac),
        Carrier::Eap | Carrier::MsChap => None,
    }
}

/// What is asked for. Login modules and VPN plug-ins send Service-Types that say
/// little (Authenticate-Only, Outbound), so the port and the kind of NAS tell.
/// `docs/writ.md` has this as a table.
fn purpose(
    kind: NasKind,
    carrier: Option<Carrier>,
    service_type: Option<u32>,
    port_type: Option<u32>,
) -> Option<Purpose> {
    let access_port = matches!(kind, NasKind::Switch | NasKind::Controller | NasKind::AccessPoint);
    match (service_type, port_type) {
        _ if kind == NasKind::Vpn => Some(Purpose::Vpn),
        (Some(LOGIN | ADMINISTRATIVE | NAS_PROMPT), _) => Some(Purpose::Login),
        (Some(CALL_CHECK), _) | (_, Some(ETHERNET | WIRELESS_OTHER | WIRELESS_802_11)) => Some(Purpose::Network),
        (Some(FRAMED | OUTBOUND), Some(VIRTUAL)) if !access_port => Some(Purpose::Vpn),
        (Some(FRAMED), _) => Some(Purpose::Network),
        // Who signs in by EAP or is let through by address wants a network.
        _ if access_port && matches!(carrier, Some(Carrier::Eap | Carrier::Mac)) => Some(Purpose::Network),
        (_, Some(VIRTUAL | ASYNC)) => Some(Purpose::Login),
        (_, None) if !access_port => Some(Purpose::Login),
        _ => None,
    }
}

/// The port of the NAS: its number, or the last one in its name.
pub(crate) fn port(number: Option<&[u8]>, name: Option<&[u8]>) -> Option<u32> {
    integer(number).or_else(|| last_number(std::str::from_utf8(name?).ok()?))
}

pub(crate) fn integer(value: Option<&[u8]>) -> Option<u32> {
    <[u8; 4]>::try_from(value?).ok().map(u32::from_be_bytes)
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
