use hmac::Mac;
use md5::{Digest, Md5};
use subtle::ConstantTimeEq;
use thiserror::Error;

use crate::crypto::secret::SharedSecret;
use crate::packet::{HEADER_LEN, Malformed, Packet};

/// What Message-Authenticator says of a packet (RFC 3579 section 3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MessageAuthenticator {
    /// The sender knows the secret.
    Right,
    /// The sender uses another secret, or the packet was changed on the way.
    Wrong,
    /// The packet carries none.
    Missing,
}

/// Checks the Message-Authenticator of a request.
pub fn check_message_authenticator(request: &Packet<'_>, secret: &SharedSecret) -> MessageAuthenticator {
    check_under(request, request.authenticator(), secret)
}

/// What the authenticators of an Accounting-Request say.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AccountingAuthenticator {
    /// The sender knows the secret.
    Right,
    /// The Request Authenticator is of another secret, or the packet was changed on the way.
    Wrong,
    /// The Request Authenticator is right and Message-Authenticator is not.
    MessageAuthenticatorWrong,
}

/// Checks an Accounting-Request. Its authenticator is an MD5 over the rest of the packet and
/// the secret (RFC 2866 section 3). Message-Authenticator need not be there; no RFC says under
/// which authenticator it is computed in this packet, so that zeros (as in RFC 5176 section
/// 3.5) and the packet's own both count.
pub fn check_accounting_request(request: &Packet<'_>, secret: &SharedSecret) -> AccountingAuthenticator {
    let zeros = [0; 16];
    if !has_authenticator(request, &zeros, secret) {
        return AccountingAuthenticator::Wrong;
    }
    let under = |authenticator| check_under(request, authenticator, secret);
    match (under(&zeros), under(request.authenticator())) {
        (MessageAuthenticator::Wrong, MessageAuthenticator::Wrong) => {
            AccountingAuthenticator::MessageAuthenticatorWrong
        }
        _ => AccountingAuthenticator::Right,
    }
}

/// Checks a reply against the request it answers, and reads it.
///
/// Both authenticators are checked; a reply to an Access-Request must carry
/// Message-Authenticator as its first attribute.
pub fn check_reply<'a>(
    reply: &'a [u8],
    identifier: u8,
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Result<Packet<'a>, ReplyError> {
    let packet = answer_to(reply, identifier, request_authenticator, secret)?;
    if packet.message_authenticator_at() != Some(HEADER_LEN + 2) {
        return Err(ReplyError::MessageAuthenticatorNotFirst);
    }
    match check_under(&packet, request_authenticator, secret) {
        MessageAuthenticator::Right => Ok(packet),
        _ => Err(ReplyError::MessageAuthenticatorWrong),
    }
}

/// Checks the reply to an Accounting-Request, and reads it. It need not carry
/// Message-Authenticator: nothing in it gives access.
pub fn check_accounting_reply<'a>(
    reply: &'a [u8],
    identifier: u8,
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Result<Packet<'a>, ReplyError> {
    let packet = answer_to(reply, identifier, request_authenticator, secret)?;
    match check_under(&packet, request_authenticator, secret) {
        MessageAuthenticator::Wrong => Err(ReplyError::MessageAuthenticatorWrong),
        _ => Ok(packet),
    }
}

/// A reply with the identifier and the Response Authenticator that it must have.
fn answer_to<'a>(
    reply: &'a [u8],
    identifier: u8,
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Result<Packet<'a>, ReplyError> {
    let packet = Packet::parse(reply)?;
    if packet.identifier() != identifier {
        return Err(ReplyError::OtherRequest { expected: identifier, got: packet.identifier() });
    }
    match has_authenticator(&packet, request_authenticator, secret) {
        true => Ok(packet),
        false => Err(ReplyError::ResponseAuthenticator),
    }
}

/// Whether a packet's authenticator is the MD5 over the packet with `under` in its place.
fn has_authenticator(packet: &Packet<'_>, under: &[u8; 16], secret: &SharedSecret) -> bool {
    let bytes = packet.as_bytes();
    let digest = Md5::new().chain_update(&bytes[..4]).chain_update(under).chain_update(&bytes[HEADER_LEN..]);
    let expected: [u8; 16] = digest.chain_update(secret.expose()).finalize().into();
    expected.ct_eq(packet.authenticator()).into()
}

/// HMAC-MD5 over the packet whose Message-Authenticator is zero (RFC 3579 section 3.2).
pub(crate) fn sign(zeroed_packet: &[u8], secret: &SharedSecret) -> [u8; 16] {
    secret.keyed().chain_update(zeroed_packet).finalize().into_bytes().into()
}

/// MD5 over code, identifier, length, Request Authenticator, attributes and
/// secret (RFC 2865 section 3); `bytes` hold the Request Authenticator.
pub(crate) fn response_authenticator(bytes: &[u8], secret: &SharedSecret) -> [u8; 16] {
    Md5::new().chain_update(bytes).chain_update(secret.expose()).finalize().into()
}

fn check_under(packet: &Packet<'_>, authenticator: &[u8; 16], secret: &SharedSecret) -> MessageAuthenticator {
    let Some(at) = packet.message_authenticator_at() else {
        return MessageAuthenticator::Missing;
    };
    let bytes = packet.as_bytes();
    let expected = secret
        .keyed()
        .chain_update(&bytes[..4])
        .chain_update(authenticator)
        .chain_update(&bytes[HEADER_LEN..at])
        .chain_update([0; 16])
        .chain_update(&bytes[at + 16..])
        .finalize()
        .into_bytes();
    match bool::from(expected.as_slice().ct_eq(&bytes[at..at + 16])) {
        true => MessageAuthenticator::Right,
        false => MessageAuthenticator::Wrong,
    }
}

/// Why a reply is not believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ReplyError {
    /// It is not a packet.
    #[error("the reply is malformed: {0}")]
    Malformed(#[from] Malformed),
    /// RFC 2865 section 3: the identifier matches request and reply.
    #[error("the reply has identifier {got} and the request had {expected}")]
    OtherRequest {
        /// The request's identifier.
        expected: u8,
        /// The reply's.
        got: u8,
    },
    /// RFC 2865 section 3.
    #[error("the Response Authenticator is wrong: the shared secrets differ or the reply was changed")]
    ResponseAuthenticator,
    /// The answer to CVE-2024-3596.
    #[error("the reply's first attribute is not Message-Authenticator")]
    MessageAuthenticatorNotFirst,
    /// RFC 3579 section 3.2.
    #[error("the Message-Authenticator of the reply is wrong")]
    MessageAuthenticatorWrong,
}
