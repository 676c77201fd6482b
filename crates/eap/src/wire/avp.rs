//! Attribute-value pairs in an EAP-TTLS tunnel (RFC 5281 section 10.1).

use crate::wire::reader::Reader;

const VENDOR: u8 = 0x80;
const MANDATORY: u8 = 0x40;

/// RFC 2865 section 5.1.
pub(crate) const USER_NAME: Code = Code(0, 1);
/// RFC 2865 section 5.2; padded with zeros (RFC 5281 section 11.2.5).
pub(crate) const USER_PASSWORD: Code = Code(0, 2);
/// RFC 2865 section 5.3.
pub(crate) const CHAP_PASSWORD: Code = Code(0, 3);
/// RFC 2865 section 5.40.
pub(crate) const CHAP_CHALLENGE: Code = Code(0, 60);
/// RFC 3579 section 3.1.
pub(crate) const EAP_MESSAGE: Code = Code(0, 79);
/// RFC 2548 section 2.1.3.
pub(crate) const MS_CHAP_RESPONSE: Code = Code(311, 1);
/// RFC 2548 section 2.1.2.
pub(crate) const MS_CHAP_CHALLENGE: Code = Code(311, 11);
/// RFC 2548 section 2.3.2.
pub(crate) const MS_CHAP2_RESPONSE: Code = Code(311, 25);
/// RFC 2548 section 2.3.3.
pub(crate) const MS_CHAP2_SUCCESS: Code = Code(311, 26);

/// Vendor (0 for none) and number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Code(pub(crate) u32, pub(crate) u32);

/// What a server understands.
const KNOWN: [Code; 8] = [
    USER_NAME,
    USER_PASSWORD,
    CHAP_PASSWORD,
    CHAP_CHALLENGE,
    EAP_MESSAGE,
    MS_CHAP_RESPONSE,
    MS_CHAP_CHALLENGE,
    MS_CHAP2_RESPONSE,
];

/// Why a list of pairs is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Unread {
    /// The bytes are no such list.
    Malformed,
    /// A pair must be understood, and is not (RFC 5281 section 10.1).
    Mandatory,
}

/// All pairs of a message of the peer.
pub(crate) fn parse(bytes: &[u8]) -> Result<Vec<(Code, &[u8])>, Unread> {
    let mut reader = Reader(bytes);
    let mut list = Vec::new();
    while let Some((flags, code, value)) = pair(&mut reader) {
        if flags & MANDATORY != 0 && !KNOWN.contains(&code) {
            return Err(Unread::Mandatory);
        }
        list.push((code, value));
    }
    if reader.is_empty() { Ok(list) } else { Err(Unread::Malformed) }
}

/// All pairs of a message of the server.
pub(crate) fn parse_any(bytes: &[u8]) -> Option<Vec<(Code, &[u8])>> {
    let mut reader = Reader(bytes);
    let list = std::iter::from_fn(|| pair(&mut reader)).map(|(_, code, value)| (code, value)).collect();
    reader.is_empty().then_some(list)
}

/// One pair with its flags; what does not fit is left in the reader.
fn pair<'b>(reader: &mut Reader<'b>) -> Option<(u8, Code, &'b [u8])> {
    let mut rest = Reader(reader.0);
    let number = rest.u32()?;
    let flags = rest.u8()?;
    let length = rest.u24()? as usize;
    let (vendor, header) = if flags & VENDOR != 0 { (rest.u32()?, 12) } else { (0, 8) };
    let value = rest.take(length.checked_sub(header)?)?;
    // Padding to four bytes; some peers leave it out after the last.
    let _ = rest.take((4 - length % 4) % 4);
    reader.0 = rest.0;
    Some((flags, Code(vendor, number), value))
}

/// The first value of a code.
pub(crate) fn first<'a>(list: &[(Code, &'a [u8])], code: Code) -> Option<&'a [u8]> {
    list.iter().find(|(known, _)| *known == code).map(|(_, value)| *value)
}

/// Adds a pair.
pub(crate) fn push(bytes: &mut Vec<u8>, code: Code, value: &[u8]) {
    let header = if code.0 == 0 { 8 } else { 12 };
    let length = header + value.len();
    bytes.extend_from_slice(&code.1.to_be_bytes());
    bytes.push(MANDATORY | if code.0 == 0 { 0 } else { VENDOR });
    bytes.extend_from_slice(&(length as u32).to_be_bytes()[1..]);
    if code.0 != 0 {
        bytes.extend_from_slice(&code.0.to_be_bytes());
    }
    bytes.extend_from_slice(value);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_pushed_is_read_again(values in prop::collection::vec((any::<u32>(), any::<u32>(), prop::collection::vec(any::<u8>(), 0..50)), 0..6)) {
            let mut bytes = Vec::new();
            values.iter().for_each(|(vendor, number, value)| push(&mut bytes, Code(*vendor, *number), value));
            let read = parse_any(&bytes).unwrap();
            let expected: Vec<_> = values.iter().map(|(vendor, number, value)| (Code(*vendor, *number), value.as_slice())).collect();
            prop_assert_eq!(read, expected);
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = (parse(&bytes), parse_any(&bytes));
        }
    }

    #[test]
    fn what_must_be_understood_and_is_not_is_told_from_what_may_be_skipped() {
        let mut bytes = Vec::new();
        push(&mut bytes, USER_NAME, b"ida.marsh");
        let odd = bytes.len();
        push(&mut bytes, Code(0, 4), b"\x7f\0\0\x01");
        assert_eq!(parse(&bytes), Err(Unread::Mandatory));
        bytes[odd + 4] = 0;
        assert_eq!(parse(&bytes).map(|list| list.len()), Ok(2));
        assert_eq!(parse(&bytes[..odd + 9]), Err(Unread::Malformed));
    }
}
