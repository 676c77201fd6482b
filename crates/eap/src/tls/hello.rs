use crate::wire::reader::Reader;

/// What a peer offers, read by ourselves so that a refusal can say what was
/// offered (RFC 5246 section 7.4.1.2, RFC 8446 section 4.1.2).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ClientHello {
    /// Its random.
    pub random: [u8; 32],
    /// The versions offered, such as 0x0303 for TLS 1.2.
    pub versions: Vec<u16>,
    /// The cipher suites offered.
    pub suites: Vec<u16>,
    /// The groups offered for the key exchange.
    pub groups: Vec<u16>,
    /// The server name asked for, where one is.
    pub server_name: Option<String>,
}

const HANDSHAKE: u8 = 22;
const CLIENT_HELLO: u8 = 1;
const SERVER_HELLO: u8 = 2;
const SERVER_NAME: u16 = 0;
const SUPPORTED_GROUPS: u16 = 10;
const SUPPORTED_VERSIONS: u16 = 43;

impl ClientHello {
    /// Reads the records of a first flight; `None` where they are no ClientHello.
    pub fn read(records: &[u8]) -> Option<Self> {
        let message = first_message(records, CLIENT_HELLO)?;
        let mut reader = Reader(&message);
        let legacy = reader.u16()?;
        let random = reader.array()?;
        reader.short()?;
        let suites = numbers(reader.long()?);
        reader.short()?;
        let mut hello = Self { random, versions: vec![legacy], suites, ..Self::default() };
        let mut extensions = reader.long().unwrap_or(Reader(&[]));
        while !extensions.is_empty() {
            let kind = extensions.u16()?;
            let mut body = extensions.long()?;
            match kind {
                SUPPORTED_VERSIONS => hello.versions = numbers(body.short()?),
                SUPPORTED_GROUPS => hello.groups = numbers(body.long()?),
                SERVER_NAME => {
                    let mut list = body.long()?;
                    if list.u8() == Some(0) {
                        hello.server_name = String::from_utf8(list.long()?.0.to_vec()).ok();
                    }
                }
                _ => {}
            }
        }
        // Values that only probe for tolerance are no versions (RFC 8701).
        hello.versions.retain(|version| (0x0300..=0x0304).contains(version));
        Some(hello)
    }

    /// The newest version offered, for people.
    pub fn newest(&self) -> String {
        match self.versions.iter().max() {
            Some(0x0304) => "TLS 1.3".into(),
            Some(0x0303) => "TLS 1.2".into(),
            Some(0x0302) => "TLS 1.1".into(),
            Some(0x0301) => "TLS 1.0".into(),
            Some(0x0300) => "SSL 3.0".into(),
            _ => "an unknown version".into(),
        }
    }

    pub(crate) fn offers_1_2_or_newer(&self) -> bool {
        self.versions.iter().any(|version| *version >= 0x0303)
    }
}

/// The random of a ServerHello.
pub(crate) fn server_random(records: &[u8]) -> Option<[u8; 32]> {
    let message = first_message(records, SERVER_HELLO)?;
    let mut reader = Reader(&message);
    reader.u16()?;
    reader.array()
}

/// The body of the first handshake message, put together from as many records as
/// it takes.
fn first_message(records: &[u8], kind: u8) -> Option<Vec<u8>> {
    let mut reader = Reader(records);
    let mut bytes = Vec::new();
    while reader.u8() == Some(HANDSHAKE) {
        reader.u16()?;
        bytes.extend_from_slice(reader.long()?.0);
        let mut message = Reader(&bytes);
        let found = message.u8()?;
        if found != kind {
            return None;
        }
        let body = message.u24().and_then(|length| message.take(length as usize));
        if let Some(body) = body {
            return Some(body.to_vec());
        }
    }
    None
}

fn numbers(mut reader: Reader<'_>) -> Vec<u16> {
    std::iter::from_fn(|| reader.u16()).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A ClientHello of TLS 1.1 with one suite, in two records.
    fn old_hello() -> Vec<u8> {
        let mut body = vec![3, 2];
        body.extend([7; 32]);
        body.extend([0, 0, 2, 0, 0x2f, 1, 0]);
        let mut message = vec![1, 0, 0, body.len() as u8];
        message.extend(body);
        let (a, b) = message.split_at(20);
        [&[22, 3, 1, 0, a.len() as u8], a, &[22, 3, 1, 0, b.len() as u8], b].concat()
    }

    #[test]
    fn an_old_hello_tells_its_version_and_suites() {
        let hello = ClientHello::read(&old_hello()).unwrap();
        assert_eq!((hello.newest().as_str(), hello.suites.as_slice()), ("TLS 1.1", &[0x2f][..]));
        assert_eq!(hello.random, [7; 32]);
        assert!(!hello.offers_1_2_or_newer());
    }

    #[test]
    fn a_hello_that_is_cut_anywhere_is_not_read() {
        let hello = old_hello();
        (0..hello.len()).for_each(|length| assert_eq!(ClientHello::read(&hello[..length]), None));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = (ClientHello::read(&bytes), server_random(&bytes));
        }
    }
}
