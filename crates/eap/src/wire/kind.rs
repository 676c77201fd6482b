use std::fmt;

use serde::{Deserialize, Serialize};

/// A method or message type (RFC 3748 section 5 and the IANA registry). Unknown
/// numbers survive a round trip.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Kind(pub u8);

impl Kind {
    /// RFC 3748 section 5.1.
    pub const IDENTITY: Self = Self(1);
    /// RFC 3748 section 5.2.
    pub const NOTIFICATION: Self = Self(2);
    /// RFC 3748 section 5.3.1.
    pub const NAK: Self = Self(3);
    /// EAP-MD5: RFC 3748 section 5.4.
    pub const MD5: Self = Self(4);
    /// EAP-GTC: RFC 3748 section 5.6.
    pub const GTC: Self = Self(6);
    /// EAP-TLS: RFC 5216, RFC 9190.
    pub const TLS: Self = Self(13);
    /// EAP-TTLS: RFC 5281.
    pub const TTLS: Self = Self(21);
    /// PEAP.
    pub const PEAP: Self = Self(25);
    /// EAP-MSCHAPv2.
    pub const MSCHAPV2: Self = Self(26);
    /// The messages that end a PEAP version 0 tunnel.
    pub const EXTENSIONS: Self = Self(33);
    /// TEAP: RFC 7170, RFC 9930.
    pub const TEAP: Self = Self(55);
    /// RFC 3748 section 5.7.
    pub const EXPANDED: Self = Self(254);

    const NAMES: [(Self, &'static str); 11] = [
        (Self::IDENTITY, "identity"),
        (Self::NOTIFICATION, "notification"),
        (Self::NAK, "nak"),
        (Self::MD5, "eap-md5"),
        (Self::GTC, "eap-gtc"),
        (Self::TLS, "eap-tls"),
        (Self::TTLS, "ttls"),
        (Self::PEAP, "peap"),
        (Self::MSCHAPV2, "eap-mschapv2"),
        (Self::TEAP, "teap"),
        (Self::EXPANDED, "an expanded type"),
    ];
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match Self::NAMES.iter().find(|(kind, _)| kind == self) {
            Some((_, name)) => f.write_str(name),
            None => write!(f, "EAP type {}", self.0),
        }
    }
}
