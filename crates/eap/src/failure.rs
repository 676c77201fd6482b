use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::wire::kind::Kind;

/// Why a conversation failed, divided by whose side it is on. Prose for people is
/// made by whoever knows names; this is the evidence.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Failure {
    /// The peer will have none of the methods offered.
    #[error("no common method: it wants {}", list(.wanted))]
    NoCommonMethod {
        /// What it asked for instead.
        wanted: Vec<Kind>,
    },
    /// The TLS handshake or tunnel failed.
    #[error("TLS: {0}")]
    Tls(TlsFailure),
    /// A credential was wrong, or nobody knows who claimed to be.
    #[error("the credential was not accepted")]
    Credential,
    /// The other end ended the method without success.
    #[error("the other end gave up: {0}")]
    GaveUp(&'static str),
    /// The two ends do not have the same keys: somebody may sit between them.
    #[error("the cryptographic binding does not hold")]
    Binding,
    /// The peer did not prove that tunnel and inner method belong together, and must.
    #[error("the peer sent no cryptographic binding")]
    Unbound,
    /// Bytes that make no sense here.
    #[error("malformed: {0}")]
    Malformed(&'static str),
    /// A message that does not belong here.
    #[error("unexpected: {0}")]
    Unexpected(&'static str),
    /// A message of more than 64 kB.
    #[error("a message is longer than 64 kB")]
    TooLong,
    /// Too many rounds or bytes for one conversation.
    #[error("the conversation has had more rounds or bytes than one may have")]
    Endless,
    /// The verdict was to refuse.
    #[error("refused")]
    Refused,
}

/// Why TLS failed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TlsFailure {
    /// The other end sent an alert: it rejects us.
    #[error("the other end sent the alert {name}")]
    AlertReceived {
        /// The alert as RFC 8446 section 6 names it: `unknown_ca`.
        name: String,
    },
    /// The peer offers no version of TLS that we have.
    #[error("the peer offers at most {newest}, and TLS 1.2 is the least")]
    OldVersion {
        /// The newest that it offers: `TLS 1.1`.
        newest: String,
    },
    /// The peer offers no cipher suite that we have.
    #[error("the peer offers no cipher suite that we have")]
    NoSuite,
    /// The peer offers no group for the key exchange that we have.
    #[error("the peer offers no key exchange group that we have")]
    NoGroup,
    /// The other end's certificate was judged and refused.
    #[error("its certificate was refused: {0}")]
    Certificate(CertificateFault),
    /// The other end presented no certificate where one is needed.
    #[error("it presented no certificate")]
    NoCertificate,
    /// Anything else, as the TLS library tells it.
    #[error("{0}")]
    Other(String),
}

/// What is wrong with a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum CertificateFault {
    /// Its time is over.
    #[error("expired")]
    Expired,
    /// The time of the authority that vouches for it is over.
    #[error("its authority has expired")]
    AuthorityExpired,
    /// Its time has not begun.
    #[error("not valid yet")]
    NotYetValid,
    /// It was revoked by its issuer.
    #[error("revoked")]
    Revoked,
    /// Nobody can say whether it was revoked.
    #[error("revocation unknown")]
    RevocationUnknown,
    /// No path to an authority that is trusted.
    #[error("unknown issuer")]
    UnknownIssuer,
    /// It may not be used for this.
    #[error("wrong purpose")]
    WrongPurpose,
    /// Its name is not the one that is expected.
    #[error("wrong name")]
    WrongName,
    /// Its names are outside what its issuer may vouch for.
    #[error("name constraint")]
    NameConstraint,
    /// A signature does not hold.
    #[error("bad signature")]
    BadSignature,
    /// It cannot be read.
    #[error("unreadable")]
    Unreadable,
}

fn list(kinds: &[Kind]) -> impl fmt::Display {
    match kinds {
        [] => "nothing else".to_owned(),
        kinds => kinds.iter().map(Kind::to_string).collect::<Vec<_>>().join(", "),
    }
}
