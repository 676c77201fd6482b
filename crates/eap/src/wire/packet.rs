use thiserror::Error;

use crate::wire::kind::Kind;
use crate::wire::reader::Reader;

/// Code, identifier and length (RFC 3748 section 4).
const HEADER_LEN: usize = 4;

/// What kind of packet it is (RFC 3748 section 4).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Code {
    /// From server to peer.
    Request,
    /// From peer to server.
    Response,
    /// The conversation ended well.
    Success,
    /// The conversation ended badly.
    Failure,
}

/// A checked view of one packet.
///
/// ```text
///  0                   1                   2                   3
///  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |     Code      |  Identifier   |            Length             |
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |     Type      |  Type-Data ...
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Packet<'a> {
    /// What it is.
    pub code: Code,
    /// Matches a response to its request.
    pub identifier: u8,
    /// The type, which only requests and responses have.
    pub kind: Option<Kind>,
    /// What follows the type.
    pub data: &'a [u8],
}

impl<'a> Packet<'a> {
    /// Checks a packet. What follows the stated length is padding and left out
    /// (RFC 3748 section 4).
    pub fn parse(bytes: &'a [u8]) -> Result<Self, Malformed> {
        let mut reader = Reader(bytes);
        let header: [u8; HEADER_LEN] = reader.array().ok_or(Malformed::TooShort { got: bytes.len() })?;
        let [code, identifier, a, b] = header;
        let stated = usize::from(u16::from_be_bytes([a, b]));
        let body = stated.checked_sub(HEADER_LEN).and_then(|length| reader.take(length));
        let body = body.ok_or(Malformed::Length { stated, got: bytes.len() })?;
        let code = match code {
            1 => Code::Request,
            2 => Code::Response,
            3 => Code::Success,
            4 => Code::Failure,
            other => return Err(Malformed::Code(other)),
        };
        match (code, body.split_first()) {
            (Code::Success | Code::Failure, _) => Ok(Self { code, identifier, kind: None, data: &[] }),
            (_, Some((&kind, data))) => Ok(Self { code, identifier, kind: Some(Kind(kind)), data }),
            (_, None) => Err(Malformed::NoType),
        }
    }

    /// The types that a Nak or expanded Nak would rather have; `None` where the
    /// packet is no Nak (RFC 3748 section 5.3).
    pub fn nak(&self) -> Option<Vec<Kind>> {
        match self.kind? {
            Kind::NAK => Some(self.data.iter().filter(|kind| **kind != 0).map(|kind| Kind(*kind)).collect()),
            Kind::EXPANDED => {
                // Vendor 0 and type 3, then entries of 8 bytes: 254, vendor, type.
                let list = self.data.strip_prefix(&[0, 0, 0, 0, 0, 0, 3])?;
                let entry = |entry: &[u8]| match *entry {
                    [254, 0, 0, 0, 0, 0, 0, kind] if kind != 0 => Some(Kind(kind)),
                    _ => None,
                };
                Some(list.chunks_exact(8).filter_map(entry).collect())
            }
            _ => None,
        }
    }
}

/// A request or response.
pub(crate) fn build(code: Code, identifier: u8, kind: Kind, data: &[u8]) -> Vec<u8> {
    let length = u16::try_from(HEADER_LEN + 1 + data.len()).expect("messages are cut to fragments before");
    let [a, b] = length.to_be_bytes();
    let code = if code == Code::Request { 1 } else { 2 };
    [&[code, identifier, a, b, kind.0], data].concat()
}

/// EAP-Success or EAP-Failure (RFC 3748 section 4.2).
pub(crate) fn build_end(success: bool, identifier: u8) -> Vec<u8> {
    vec![if success { 3 } else { 4 }, identifier, 0, 4]
}

/// Why bytes are no EAP packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Malformed {
    /// RFC 3748 section 4.
    #[error("an EAP packet has at least {HEADER_LEN} bytes and this has {got}")]
    TooShort {
        /// Bytes that came.
        got: usize,
    },
    /// RFC 3748 section 4.
    #[error("the EAP packet states {stated} bytes and {got} came")]
    Length {
        /// The length in the header.
        stated: usize,
        /// Bytes that came.
        got: usize,
    },
    /// RFC 3748 section 4.
    #[error("{0} is no EAP code")]
    Code(u8),
    /// RFC 3748 section 4.1.
    #[error("the EAP packet has no type")]
    NoType,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn naks_of_both_forms_tell_what_the_peer_would_rather_have() {
        let plain = build(Code::Response, 1, Kind::NAK, &[25, 0, 21]);
        assert_eq!(Packet::parse(&plain).unwrap().nak(), Some(vec![Kind::PEAP, Kind::TTLS]));
        let list = [&[0, 0, 0, 0, 0, 0, 3][..], &[254, 0, 0, 0, 0, 0, 0, 13], &[254, 0, 1, 2, 0, 0, 0, 9]].concat();
        let expanded = build(Code::Response, 1, Kind::EXPANDED, &list);
        assert_eq!(Packet::parse(&expanded).unwrap().nak(), Some(vec![Kind::TLS]));
        let other = build(Code::Response, 1, Kind::GTC, b"password");
        assert_eq!(Packet::parse(&other).unwrap().nak(), None);
    }
}
