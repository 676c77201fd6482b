use std::fmt;
use std::net::SocketAddr;
use std::sync::Arc;

use regnant_radius::{
    Builder, Code, MessageAuthenticator, OwnedPacket, Packet, SharedSecret, check_message_authenticator, number,
};
use serde::{Deserialize, Serialize};

use crate::nas::{Nas, Under};

/// A datagram that is a request of a NAS that we know and that knows our secret.
#[derive(Clone, Debug)]
pub struct AcceptedRequest {
    /// Who asks.
    pub nas: Arc<Nas>,
    /// Where the reply goes.
    pub source: SocketAddr,
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
        self.nas.secret_under(self.under)
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
    let nas = nas.ok_or(Cause::UnknownSender)?;
    let packet = Packet::parse(datagram).map_err(|error| Cause::Malformed(error.to_string()))?;
    let asks_status = packet.code() == Code::STATUS_SERVER;
    match packet.code() {
        Code::ACCESS_REQUEST | Code::STATUS_SERVER => {}
        Code::ACCOUNTING_REQUEST => return Err(Cause::AccountingOnAuthentication),
        code => return Err(Cause::UnexpectedCode(code.to_string())),
    }
    let eap = packet.first(number::EAP_MESSAGE).is_some();
    let signed = packet.first(number::MESSAGE_AUTHENTICATOR).is_some();
    let under = match signed {
        true => nas.signed_under(now, |secret| is_signed_under(&packet, secret)).ok_or(Cause::SecretDiffers)?,
        // RFC 3579 section 3.1: EAP-Message without Message-Authenticator is discarded.
        false if eap => return Err(Cause::EapUnprotected),
        // RFC 5997 section 3: nor is Status-Server heard without.
        false if nas.require_message_authenticator || asks_status => return Err(Cause::MessageAuthenticatorMissing),
        false => nas.unsigned_under(),
    };
    well_made(&packet)?;
    match (signed, asks_status) {
        (_, true) => {}
        (true, false) => nas.heard.signs(now),
        (false, false) => nas.heard.signs_not(now),
    }
    Ok(AcceptedRequest { nas: nas.clone(), source, packet: packet.into(), under })
}

/// Whether Message-Authenticator was made under this secret.
pub(crate) fn is_signed_under(packet: &Packet<'_>, secret: &SharedSecret) -> bool {
    check_message_authenticator(packet, secret) == MessageAuthenticator::Right
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

/// Why a packet stays *unheard*: dropped in silence, and journaled.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub enum Cause {
    /// No NAS has this address.
    UnknownSender,
    /// Message-Authenticator is wrong.
    SecretDiffers,
    /// Message-Authenticator is missing and this NAS must send it.
    MessageAuthenticatorMissing,
    /// EAP without Message-Authenticator.
    EapUnprotected,
    /// The bytes are no packet.
    Malformed(String),
    /// A packet that does not belong on this port.
    UnexpectedCode(String),
    /// More EAP conversations were begun than can be held; the oldest were given up.
    TooManyConversations,
    /// The authenticator of an Accounting-Request is wrong.
    AccountingSecretDiffers,
    /// A packet that does not belong on the accounting port.
    UnexpectedOnAccounting(String),
    /// An Accounting-Request where authentication is answered.
    AccountingOnAuthentication,
}

impl Cause {
    /// What to do about it.
    pub fn advice(&self) -> &'static str {
        match self {
            Self::UnknownSender => "Register this address as a NAS; if it should not ask here, find out what it is.",
            Self::SecretDiffers => {
                "Set the same shared secret on the NAS and here; one that you believe it has can be tried on what it sent."
            }
            Self::AccountingSecretDiffers => {
                "Set the same shared secret on the NAS and here; some equipment has one of its own for accounting."
            }
            Self::UnexpectedOnAccounting(_) => "Point the NAS's accounting at this port, and nothing else.",
            Self::AccountingOnAuthentication => {
                "Point the NAS's accounting at the accounting port (1813 unless the configuration says another)."
            }
            Self::MessageAuthenticatorMissing => {
                "Update the NAS or turn Message-Authenticator on there; only if it cannot, set \
                 require-message-authenticator = false for this NAS."
            }
            Self::EapUnprotected => "EAP always needs Message-Authenticator (RFC 3579 section 3.1): update the NAS.",
            Self::Malformed(_) => "Look for something on the way that changes or cuts packets, or for a faulty sender.",
            Self::TooManyConversations => {
                "Find out what begins conversations there and does not end them: a flood, or supplicants that try \
                 again and again."
            }
            Self::UnexpectedCode(_) => "Point the NAS's authentication at this port, and nothing else.",
        }
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::UnknownSender => f.write_str("no NAS has this address"),
            Self::SecretDiffers => {
                f.write_str("the shared secret differs (Message-Authenticator, attribute 80, is wrong)")
            }
            Self::MessageAuthenticatorMissing => f.write_str("Message-Authenticator (attribute 80) is missing"),
            Self::EapUnprotected => f.write_str("EAP came without Message-Authenticator (attribute 80)"),
            Self::Malformed(what) => write!(f, "the packet is malformed: {what}"),
            Self::TooManyConversations => {
                f.write_str("too many EAP conversations were begun; the oldest were given up")
            }
            Self::UnexpectedCode(code) => write!(f, "{code} does not belong on the authentication port"),
            Self::AccountingSecretDiffers => {
                f.write_str("the shared secret differs (the authenticator of the Accounting-Request is wrong)")
            }
            Self::UnexpectedOnAccounting(code) => write!(f, "{code} does not belong on the accounting port"),
            Self::AccountingOnAuthentication => {
                f.write_str("Accounting-Request does not belong on the authentication port")
            }
        }
    }
}
