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
    let packet = Packet::parse(reply)?;
    if packet.identifier() != identifier {
        return Err(ReplyError::OtherRequest { expected: identifier, got: packet.identifier() });
    }
    let mut under_request = packet.as_bytes().to_vec();
    under_request[4..HEADER_LEN].copy_from_slice(request_authenticator);
    let expected = response_authenticator(&under_request, secret);
    if !bool::from(expected.ct_eq(packet.authenticator())) {
        return Err(ReplyError::ResponseAuthenticator);
    }
    if packet.message_authenticator_at() != Some(HEADER_LEN + 2) {
        return Err(ReplyError::MessageAuthenticatorNotFirst);
    }
    match check_under(&packet, request_authenticator, secret) {
        MessageAuthenticator::Right => Ok(packet),
        _ => Err(ReplyError::MessageAuthenticatorWrong),
    }
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
