//! Type-length-value objects of TEAP (RFC 7170 section 4.2) and of the messages
//! that end a PEAP tunnel.

use crate::wire::reader::Reader;

const MANDATORY: u16 = 0x8000;

/// RFC 7170 section 4.2.2.
pub(crate) const AUTHORITY_ID: u16 = 1;
/// RFC 7170 section 4.2.3.
pub(crate) const IDENTITY_TYPE: u16 = 2;
/// RFC 7170 section 4.2.4; the same number in PEAP.
pub(crate) const RESULT: u16 = 3;
/// RFC 7170 section 4.2.5.
pub(crate) const NAK: u16 = 4;
/// RFC 7170 section 4.2.6.
pub(crate) const ERROR: u16 = 5;
/// RFC 7170 section 4.2.10.
pub(crate) const EAP_PAYLOAD: u16 = 9;
/// RFC 7170 section 4.2.11.
pub(crate) const INTERMEDIATE_RESULT: u16 = 10;
/// RFC 7170 section 4.2.13; the same number in PEAP.
pub(crate) const CRYPTO_BINDING: u16 = 12;
/// RFC 7170 section 4.2.14.
pub(crate) const PASSWORD_REQUEST: u16 = 13;
/// RFC 7170 section 4.2.15.
pub(crate) const PASSWORD_RESPONSE: u16 = 14;

/// Whether a TEAP server does what this kind asks of it.
pub(crate) fn is_known(kind: u16) -> bool {
    const DONE: [u16; 8] =
        [IDENTITY_TYPE, RESULT, NAK, ERROR, EAP_PAYLOAD, INTERMEDIATE_RESULT, CRYPTO_BINDING, PASSWORD_RESPONSE];
    DONE.contains(&kind)
}

/// Values of Error.
pub(crate) const TUNNEL_COMPROMISE: [u8; 4] = 2001u32.to_be_bytes();
pub(crate) const UNEXPECTED_TLVS: [u8; 4] = 2002u32.to_be_bytes();

/// Values of Result and Intermediate-Result.
pub(crate) const SUCCESS: [u8; 2] = [0, 1];
pub(crate) const FAILURE: [u8; 2] = [0, 2];

/// One object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Tlv<'a> {
    pub(crate) mandatory: bool,
    pub(crate) kind: u16,
    pub(crate) value: &'a [u8],
}

/// All objects of a message; `None` where the bytes are no such list.
pub(crate) fn parse(bytes: &[u8]) -> Option<Vec<Tlv<'_>>> {
    let mut reader = Reader(bytes);
    let mut list = Vec::new();
    while !reader.is_empty() {
        let number = reader.u16()?;
        let value = reader.long()?.0;
        list.push(Tlv { mandatory: number & MANDATORY != 0, kind: number & 0x3fff, value });
    }
    Some(list)
}

/// The first value of a kind.
pub(crate) fn first<'a>(list: &[Tlv<'a>], kind: u16) -> Option<&'a [u8]> {
    list.iter().find(|tlv| tlv.kind == kind).map(|tlv| tlv.value)
}

/// Adds an object that the other end must understand, or may skip.
pub(crate) fn push(bytes: &mut Vec<u8>, mandatory: bool, kind: u16, value: &[u8]) {
    let length = u16::try_from(value.len()).expect("our values are short");
    bytes.extend_from_slice(&(if mandatory { MANDATORY | kind } else { kind }).to_be_bytes());
    bytes.extend_from_slice(&length.to_be_bytes());
    bytes.extend_from_slice(value);
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_pushed_is_read_again(values in prop::collection::vec((any::<bool>(), 0u16..0x3fff, prop::collection::vec(any::<u8>(), 0..50)), 0..6)) {
            let mut bytes = Vec::new();
            values.iter().for_each(|(mandatory, kind, value)| push(&mut bytes, *mandatory, *kind, value));
            let read = parse(&bytes).unwrap();
            let expected: Vec<_> = values.iter().map(|(mandatory, kind, value)| Tlv { mandatory: *mandatory, kind: *kind, value }).collect();
            prop_assert_eq!(read, expected);
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = parse(&bytes);
        }
    }
}
