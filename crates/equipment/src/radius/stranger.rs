//! What can be told of a packet whose sender is not known, or uses another secret. Nothing of
//! it is proved.

use regnant_decision::NasKind;
use regnant_radius::{
    AccountingAuthenticator, Code, MessageAuthenticator, Packet, SharedSecret, check_accounting_request,
    check_message_authenticator, number,
};

use crate::radius::request::integer;

/// What a packet claims of its sender.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Claims {
    /// NAS-Identifier (RFC 2865 section 5.32).
    pub identifier: Option<String>,
    /// NAS-IP-Address or NAS-IPv6-Address.
    pub address: Option<std::net::IpAddr>,
    /// What it is, as far as its attributes show.
    pub kind: Option<NasKind>,
}

/// What a packet claims of its sender; nothing where it is no packet.
pub fn claims(bytes: &[u8]) -> Claims {
    let Ok(packet) = Packet::parse(bytes) else { return Claims::default() };
    let v4 = packet.first(number::NAS_IP_ADDRESS).and_then(|bytes| <[u8; 4]>::try_from(bytes).ok());
    let v6 = packet.first(number::NAS_IPV6_ADDRESS).and_then(|bytes| <[u8; 16]>::try_from(bytes).ok());
    let (service, port) = (integer(packet.first(number::SERVICE_TYPE)), integer(packet.first(number::NAS_PORT_TYPE)));
    let kind = match (service, port) {
        // RFC 2865 sections 5.41 and 5.6, and IEEE 802.11 from RFC 3580.
        (_, Some(15)) => Some(NasKind::Switch),
        (_, Some(18 | 19)) => Some(NasKind::Controller),
        (Some(1 | 6 | 7), _) => Some(NasKind::Router),
        (Some(2 | 5), Some(5)) => Some(NasKind::Vpn),
        _ => None,
    };
    Claims {
        identifier: packet.first(number::NAS_IDENTIFIER).map(|name| String::from_utf8_lossy(name).into_owned()),
        address: v4.map(Into::into).or_else(|| v6.map(Into::into)),
        kind,
    }
}

/// Whether a packet was made under this secret; none where nothing in it can be verified.
pub fn secret_fits(bytes: &[u8], secret: &SharedSecret) -> Option<bool> {
    let packet = Packet::parse(bytes).ok()?;
    if packet.code() == Code::ACCOUNTING_REQUEST {
        return Some(check_accounting_request(&packet, secret) != AccountingAuthenticator::Wrong);
    }
    match check_message_authenticator(&packet, secret) {
        MessageAuthenticator::Right => Some(true),
        MessageAuthenticator::Wrong => Some(false),
        MessageAuthenticator::Missing => None,
    }
}
