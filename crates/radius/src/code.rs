use std::fmt;

/// The kind of a packet (RFC 2865 section 3, IANA "RADIUS Packet Type Codes").
///
/// The registry is open: an unknown number is kept as it came.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Code(pub u8);

impl Code {
    /// Asks whether somebody may have access (RFC 2865 section 4.1).
    pub const ACCESS_REQUEST: Self = Self(1);
    /// Grants access (RFC 2865 section 4.2).
    pub const ACCESS_ACCEPT: Self = Self(2);
    /// Refuses access (RFC 2865 section 4.3).
    pub const ACCESS_REJECT: Self = Self(3);
    /// Reports use (RFC 2866 section 4.1).
    pub const ACCOUNTING_REQUEST: Self = Self(4);
    /// Says that a report is kept (RFC 2866 section 4.2).
    pub const ACCOUNTING_RESPONSE: Self = Self(5);
    /// Asks for more (RFC 2865 section 4.4).
    pub const ACCESS_CHALLENGE: Self = Self(11);
    /// Asks whether the server is alive (RFC 5997 section 3).
    pub const STATUS_SERVER: Self = Self(12);

    /// The name in the registry, where this crate knows it.
    pub fn name(self) -> Option<&'static str> {
        Some(match self {
            Self::ACCESS_REQUEST => "Access-Request",
            Self::ACCESS_ACCEPT => "Access-Accept",
            Self::ACCESS_REJECT => "Access-Reject",
            Self::ACCOUNTING_REQUEST => "Accounting-Request",
            Self::ACCOUNTING_RESPONSE => "Accounting-Response",
            Self::ACCESS_CHALLENGE => "Access-Challenge",
            Self::STATUS_SERVER => "Status-Server",
            _ => return None,
        })
    }
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.write_str(name),
            None => write!(f, "code {}", self.0),
        }
    }
}

impl fmt::Debug for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
