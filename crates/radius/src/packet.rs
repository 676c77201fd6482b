use thiserror::Error;

use crate::attribute::{Attribute, Attributes, number, well_formed};
use crate::code::Code;

/// Code, identifier, length and authenticator (RFC 2865 section 3).
pub const HEADER_LEN: usize = AUTHENTICATOR + 16;
/// The longest packet (RFC 2865 section 3).
pub const MAX_LEN: usize = 4096;

const LENGTH: usize = 2;
const AUTHENTICATOR: usize = LENGTH + 2;

/// A checked view of one packet: the header is whole, the attributes fill
/// exactly the stated length, and there is at most one Message-Authenticator,
/// of the right size.
///
/// ```text
///  0                   1                   2                   3
///  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |     Code      |  Identifier   |            Length             |
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |                     Authenticator (16 bytes)                  |
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |  Attributes ...
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Packet<'a> {
    bytes: &'a [u8],
    message_authenticator: Option<usize>,
}

impl<'a> Packet<'a> {
    /// Checks a datagram. What follows the stated length is padding and left out
    /// (RFC 2865 section 3).
    pub fn parse(datagram: &'a [u8]) -> Result<Self, Malformed> {
        let Some(header) = datagram.first_chunk::<HEADER_LEN>() else {
            return Err(Malformed::TooShort { got: datagram.len() });
        };
        let stated = usize::from(u16::from_be_bytes([header[LENGTH], header[LENGTH + 1]]));
        if !(HEADER_LEN..=MAX_LEN).contains(&stated) {
            return Err(Malformed::StatedLength { stated });
        }
        let bytes = datagram.get(..stated).ok_or(Malformed::Truncated { stated, got: datagram.len() })?;
        well_formed(&bytes[HEADER_LEN..]).map_err(|at| Malformed::Attribute { at: HEADER_LEN + at })?;
        let packet = Self { bytes, message_authenticator: None };
        Ok(Self { message_authenticator: packet.find_message_authenticator()?, ..packet })
    }

    /// What kind of packet it is.
    pub fn code(&self) -> Code {
        Code(self.bytes[0])
    }

    /// Matches a reply to its request.
    pub fn identifier(&self) -> u8 {
        self.bytes[1]
    }

    /// The Request Authenticator or Response Authenticator.
    pub fn authenticator(&self) -> &'a [u8; 16] {
        self.bytes[AUTHENTICATOR..].first_chunk().expect("parse checked that the header is whole")
    }

    /// The whole packet without padding.
    pub fn as_bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// Every attribute in the order sent.
    pub fn attributes(&self) -> Attributes<'a> {
        Attributes::new(&self.bytes[HEADER_LEN..])
    }

    /// The value of the first attribute of this number.
    pub fn first(&self, number: u8) -> Option<&'a [u8]> {
        self.all(number).next()
    }

    /// The values of all attributes of this number, in the order sent.
    pub fn all(&self, number: u8) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        self.attributes().filter(move |a| a.number == number).map(|a| a.value)
    }

    /// The EAP packet that the request or reply carries, put together from all
    /// EAP-Message attributes (RFC 3579 section 3.1).
    pub fn eap_message(&self) -> Option<Vec<u8>> {
        let mut parts = self.all(number::EAP_MESSAGE);
        let mut message = parts.next()?.to_vec();
        parts.for_each(|part| message.extend_from_slice(part));
        Some(message)
    }

    /// Where the value of Message-Authenticator begins.
    pub(crate) fn message_authenticator_at(&self) -> Option<usize> {
        self.message_authenticator
    }

    fn find_message_authenticator(&self) -> Result<Option<usize>, Malformed> {
        let mut found = None;
        let mut at = HEADER_LEN;
        for Attribute { number, value } in self.attributes() {
            if number == number::MESSAGE_AUTHENTICATOR {
                if value.len() != 16 {
                    return Err(Malformed::MessageAuthenticatorLength { got: value.len() });
                }
                if found.replace(at + 2).is_some() {
                    return Err(Malformed::MessageAuthenticatorRepeated);
                }
            }
            at += 2 + value.len();
        }
        Ok(found)
    }
}

/// A packet that was checked and owns its bytes: parsed once, looked at as often as
/// one likes.
#[derive(Clone, Debug)]
pub struct OwnedPacket {
    bytes: Box<[u8]>,
    message_authenticator: Option<usize>,
}

impl OwnedPacket {
    /// The packet.
    pub fn view(&self) -> Packet<'_> {
        Packet { bytes: &self.bytes, message_authenticator: self.message_authenticator }
    }
}

impl From<Packet<'_>> for OwnedPacket {
    fn from(packet: Packet<'_>) -> Self {
        Self { bytes: packet.bytes.into(), message_authenticator: packet.message_authenticator }
    }
}

/// Why a datagram is not a RADIUS packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Malformed {
    /// RFC 2865 section 3: a packet has at least 20 bytes.
    #[error("the datagram has {got} bytes and a RADIUS header needs {HEADER_LEN}")]
    TooShort {
        /// Bytes received.
        got: usize,
    },
    /// RFC 2865 section 3: the length is 20 to 4096.
    #[error("the packet states a length of {stated} bytes, which must be {HEADER_LEN} to {MAX_LEN}")]
    StatedLength {
        /// The length in the header.
        stated: usize,
    },
    /// RFC 2865 section 3: shorter than stated means discard.
    #[error("the packet states {stated} bytes and {got} arrived")]
    Truncated {
        /// The length in the header.
        stated: usize,
        /// Bytes received.
        got: usize,
    },
    /// RFC 2865 section 5: an attribute is at least 2 bytes and ends inside the packet.
    #[error("the attribute at byte {at} has a length that does not fit the packet")]
    Attribute {
        /// Offset of the attribute in the packet.
        at: usize,
    },
    /// RFC 3579 section 3.2: the value has 16 bytes.
    #[error("Message-Authenticator has {got} bytes and must have 16")]
    MessageAuthenticatorLength {
        /// Bytes in the value.
        got: usize,
    },
    /// RFC 3579 section 3.2: at most one.
    #[error("Message-Authenticator occurs more than once")]
    MessageAuthenticatorRepeated,
}
