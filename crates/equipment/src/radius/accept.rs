use std::borrow::Cow;
use std::net::SocketAddr;
use std::sync::Arc;

use regnant_evidence::{Cause, Service};
use regnant_radius::{
    Builder, Code, MessageAuthenticator, OwnedPacket, Packet, SharedSecret, check_message_authenticator, number,
};

use crate::nas::Nas;
use crate::radius::credentials::{Credentials, Under};

/// A datagram that is a request of a NAS that we know and that knows our secret.
#[derive(Clone, Debug)]
pub struct AcceptedRequest {
    /// Who asks.
    pub nas: Arc<Nas>,
    /// Where the reply goes.
    pub source: SocketAddr,
    credentials: Arc<Credentials>,
    packet: OwnedPacket,
    under: Under,
}

impl AcceptedRequest {
    /// The request.
    pub fn packet(&self) -> Packet<'_> {
        self.packet.view()
    }

    /// The secret that it was made under, and its reply is.
    pub(crate) fn secret(&self) -> &SharedSecret {
        self.credentials.secret_under(self.under)
    }

    /// What it was accepted by.
    pub(crate) fn credentials(&self) -> &Credentials {
        &self.credentials
    }

    /// Its EAP packet; nothing where it has none.
    pub(crate) fn eap_packet(&self) -> Vec<u8> {
        self.packet().eap_message().unwrap_or_default()
    }

    /// The answer to Status-Server, which asks whether we are alive and nothing else
    /// (RFC 5997 section 4.2); none where this is a request to be decided.
    pub fn status(&self) -> Option<Vec<u8>> {
        status_reply(&self.packet(), self.secret(), Code::ACCESS_ACCEPT)
    }
}

/// The answer to Status-Server, which has this code.
pub(crate) fn status_reply(packet: &Packet<'_>, secret: &SharedSecret, code: Code) -> Option<Vec<u8>> {
    let asked = packet.code() == Code::STATUS_SERVER;
    asked.then(|| Builder::new(code, packet.identifier()).reply(packet, secret).ok())?
}

/// Turns a datagram into a request, or says why it cannot become one.
/// `nas` is whoever has the address that it came from, `now` in milliseconds since 1970.
pub fn accept(nas: Option<&Arc<Nas>>, source: SocketAddr, datagram: &[u8], now: u64) -> Result<AcceptedRequest, Cause> {
    let (nas, credentials) = known(nas)?;
    let packet = Packet::parse(datagram).map_err(|error| Cause::Malformed(error.to_string()))?;
    let asks_status = packet.code() == Code::STATUS_SERVER;
    match packet.code() {
        Code::ACCESS_REQUEST | Code::STATUS_SERVER => {}
        code => return Err(misdirected(code, Service::Authentication)),
    }
    let eap = packet.first(number::EAP_MESSAGE).is_some();
    let signed = packet.first(number::MESSAGE_AUTHENTICATOR).is_some();
    let under = match signed {
        true => signed_under(&packet, nas, credentials, now)?,
        // RFC 3579 section 3.1: EAP-Message without Message-Authenticator is discarded.
        false if eap => return Err(EAP_UNPROTECTED),
        // RFC 5997 section 3: nor is Status-Server heard without.
        false if credentials.require_message_authenticator || asks_status => return Err(UNSIGNED),
        false => credentials.unsigned_under(&nas.heard),
    };
    well_made(&packet)?;
    match (signed, asks_status) {
        (_, true) => {}
        (true, false) => nas.heard.signs(now),
        (false, false) => nas.heard.signs_not(now),
    }
    Ok(AcceptedRequest { nas: nas.clone(), source, credentials: credentials.clone(), packet: packet.into(), under })
}

/// The NAS of an address, with what it is known by.
pub(crate) fn known(nas: Option<&Arc<Nas>>) -> Result<(&Arc<Nas>, &Arc<Credentials>), Cause> {
    let nas = nas.ok_or(Cause::UnknownSender)?;
    let credentials = nas.radius.as_ref().ok_or(Cause::NoCredentials { protocol: Cow::Borrowed("RADIUS") })?;
    Ok((nas, credentials))
}

/// Under which secret Message-Authenticator was made.
pub(crate) fn signed_under(
    packet: &Packet<'_>,
    nas: &Nas,
    credentials: &Credentials,
    now: u64,
) -> Result<Under, Cause> {
    let is_under = |secret: &SharedSecret| check_message_authenticator(packet, secret) == MessageAuthenticator::Right;
    credentials.signed_under(&nas.heard, now, is_under).ok_or(SECRET_DIFFERS)
}

const MESSAGE_AUTHENTICATOR: Cow<'static, str> = Cow::Borrowed("Message-Authenticator (attribute 80)");

/// Message-Authenticator is wrong.
const SECRET_DIFFERS: Cause = Cause::SecretDiffers {
    shown_by: Cow::Borrowed("Message-Authenticator, attribute 80,"),
    to: Service::Authentication,
};

/// Message-Authenticator is missing, and this NAS must send it.
pub(crate) const UNSIGNED: Cause = Cause::Unprotected {
    what: Cow::Borrowed(""),
    lacks: MESSAGE_AUTHENTICATOR,
    advice: Cow::Borrowed(
        "Update the NAS or turn Message-Authenticator on there; only if it cannot, set \
         require-message-authenticator = false for this NAS.",
    ),
};

const EAP_UNPROTECTED: Cause = Cause::Unprotected {
    what: Cow::Borrowed("EAP"),
    lacks: MESSAGE_AUTHENTICATOR,
    advice: Cow::Borrowed("EAP always needs Message-Authenticator (RFC 3579 section 3.1): update the NAS."),
};

/// A packet that does not belong where it was sent.
pub(crate) fn misdirected(code: Code, to: Service) -> Cause {
    let belongs = (code == Code::ACCOUNTING_REQUEST).then_some(Service::Accounting);
    Cause::Misdirected { what: code.to_string().into(), to, belongs }
}

/// What stands at most once in a request, so that nobody can mean one thing and
/// show another (RFC 2865 section 5.44).
const ONCE: [(u8, &str); 5] = [
    (number::USER_NAME, "User-Name"),
    (number::USER_PASSWORD, "User-Password"),
    (number::CHAP_PASSWORD, "CHAP-Password"),
    (number::CHAP_CHALLENGE, "CHAP-Challenge"),
    (number::STATE, "State"),
];

/// What the signature does not tell of a request.
fn well_made(packet: &Packet<'_>) -> Result<(), Cause> {
    let mut seen = [false; ONCE.len()];
    for attribute in packet.attributes() {
        let place = ONCE.iter().position(|(number, _)| *number == attribute.number);
        if let Some(place) = place
            && std::mem::replace(&mut seen[place], true)
        {
            return Err(Cause::Malformed(format!("the request has {} twice", ONCE[place].1)));
        }
    }
    let (responses, challenges) = packet.ms_chap_parts();
    if responses > 1 || challenges > 1 {
        return Err(Cause::Malformed("the request has a challenge or response of MS-CHAP twice".into()));
    }
    // RFC 2865 section 4.1: one of them.
    let credentials = [(seen[1], "User-Password"), (seen[2], "CHAP-Password"), (responses > 0, "MS-CHAP")];
    let mut sent = credentials.iter().filter(|(sent, _)| *sent).map(|(_, name)| name);
    if let (Some(one), Some(other)) = (sent.next(), sent.next()) {
        return Err(Cause::Malformed(format!("the request has both {one} and {other}")));
    }
    if let Some(hidden) = packet.first(number::USER_PASSWORD)
        && (hidden.is_empty() || hidden.len() > 128 || !hidden.len().is_multiple_of(16))
    {
        let told = format!("User-Password has {} bytes and must have 16, 32 and so on up to 128", hidden.len());
        return Err(Cause::Malformed(told));
    }
    Ok(())
}
