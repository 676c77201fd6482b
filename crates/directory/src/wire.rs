//! What lies between a server and the library that speaks LDAP with it: TLS, and a bound on what one message may be,
//! for the library reads each whole, however long it says it is.

use std::io;
use std::os::unix::net::UnixStream as StdUnixStream;

use ldap3::StdStream;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};
use tokio_rustls::TlsConnector;

use crate::connection::Address;
use crate::settings::Transport;

/// Bytes of the longest message that is read: an entry with a hundred thousand members has a few millions.
const LONGEST: u64 = 16 << 20;
/// What is read at a time.
const PIECE: usize = 16 << 10;
/// Asks that TLS begin (RFC 4511 section 4.14.1): message 1, the extended request 1.3.6.1.4.1.1466.20037.
const START_TLS: &[u8] = b"\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037";
/// What answers it is short: who it is from, and that it went well.
const LONGEST_START: usize = 4 << 10;

/// A way to a server, for the library; and the certificate that the server showed.
pub(crate) struct Wire {
    pub(crate) stream: StdStream,
    pub(crate) certificate: Option<Vec<u8>>,
}

/// Connects to a server, and has it prove who it is.
pub(crate) async fn connect(address: &Address) -> io::Result<Wire> {
    let mut stream = address.way.never.connect(&address.host, address.port).await?;
    // Questions are small: without this each first one waits 40 ms for an acknowledgement.
    stream.set_nodelay(true)?;
    let (ours, stream_of_library) = StdUnixStream::pair()?;
    ours.set_nonblocking(true)?;
    stream_of_library.set_nonblocking(true)?;
    let ours = UnixStream::from_std(ours)?;
    let url = address.url.clone();
    if address.transport == Transport::StartTls {
        start_tls(&mut stream).await?;
    }
    let bare = address.host.trim_start_matches('[').trim_end_matches(']').to_owned();
    let name = ServerName::try_from(bare).map_err(|_| no_tls("its address has no name to check"))?;
    let tls = TlsConnector::from(address.way.tls.clone()).connect(name, stream).await?;
    let certificate = tls.get_ref().1.peer_certificates().and_then(|chain| chain.first()).map(|der| der.to_vec());
    tokio::spawn(relay(tls, ours, url));
    Ok(Wire { stream: StdStream::Unix(stream_of_library), certificate })
}

fn no_tls(why: &str) -> io::Error {
    io::Error::other(rustls::Error::General(why.to_owned()))
}

/// Has TLS begin on a connection.
async fn start_tls(stream: &mut TcpStream) -> io::Result<()> {
    stream.write_all(START_TLS).await?;
    let (mut answer, mut lengths) = (Vec::new(), Lengths::default());
    // A byte at a time: what follows the answer is of TLS.
    while answer.is_empty() || !lengths.is_between_messages() {
        if answer.len() >= LONGEST_START {
            return Err(no_tls("it answers at length where TLS is to begin"));
        }
        let byte = stream.read_u8().await?;
        answer.push(byte);
        lengths.take(&[byte]).map_err(|_| no_tls("it answers what is no LDAP where TLS is to begin"))?;
    }
    match starts_tls(&answer) {
        true => Ok(()),
        false => Err(no_tls("it does not begin TLS; does it speak it on a port of its own?")),
    }
}

/// Whether an answer is message 1, an extended response with the result code 0 (RFC 4511 section 4.12).
fn starts_tls(answer: &[u8]) -> bool {
    let contents = |bytes: &[u8], tag: u8| -> Option<Vec<u8>> {
        let (_, value) = element(bytes).filter(|(found, _)| *found == tag)?;
        Some(value.to_vec())
    };
    let Some(message) = contents(answer, 0x30) else { return false };
    let Some(response) = message.strip_prefix(&[2, 1, 1]).and_then(|rest| contents(rest, 0x78)) else { return false };
    response.starts_with(&[0x0a, 1, 0])
}

/// The tag of an element, and what is in it.
fn element(bytes: &[u8]) -> Option<(u8, &[u8])> {
    let (tag, rest) = bytes.split_first()?;
    let (first, rest) = rest.split_first()?;
    let (length, rest) = match first {
        0..=0x7f => (usize::from(*first), rest),
        0x81..=0x84 => {
            let (bytes, rest) = rest.split_at_checked(usize::from(first - 0x80))?;
            (bytes.iter().fold(0, |length, byte| length << 8 | usize::from(*byte)), rest)
        }
        _ => return None,
    };
    Some((*tag, rest.get(..length)?))
}

/// Passes on what either side says, until one of them is done or the server says more than is read.
async fn relay(server: impl AsyncRead + AsyncWrite + Send, library: UnixStream, url: String) {
    let (mut from_server, mut to_server) = tokio::io::split(server);
    let (mut from_library, mut to_library) = library.into_split();
    let up = async {
        tokio::io::copy(&mut from_library, &mut to_server).await?;
        to_server.shutdown().await
    };
    let down = async {
        let (mut piece, mut lengths) = (vec![0; PIECE], Lengths::default());
        loop {
            let got = from_server.read(&mut piece).await?;
            if got == 0 {
                return Ok(());
            }
            let measured = lengths.take(&piece[..got]);
            if let Err(TooLong::Message(bytes)) = measured {
                tracing::warn!(
                    "{url} sends a message of {bytes} bytes, and {LONGEST} are read at most: the connection was ended. Does \
                     an entry have more values than are asked for here?"
                );
                return Ok(());
            }
            // What is no LDAP the library sees, and ends.
            to_library.write_all(&piece[..got]).await?;
            if measured.is_err() {
                return Ok(());
            }
        }
    };
    let ended: io::Result<()> = tokio::select! {
        ended = up => ended,
        ended = down => ended,
    };
    if let Err(error) = ended {
        tracing::debug!("the connection to {url} ended: {error}");
    }
}

/// Why no more is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum TooLong {
    /// A message has so many bytes.
    Message(u64),
    /// It is no message at all.
    NoMessage,
}

/// Follows messages as they come (RFC 4511 section 5.1: a SEQUENCE with a definite length), by their lengths alone.
#[derive(Default)]
struct Lengths {
    /// Bytes of the message under way that are still to come, where its length is known.
    left: u64,
    /// The beginning of one whose length is not known yet: its tag, and its length so far.
    head: Head,
}

#[derive(Clone, Copy, Default)]
enum Head {
    #[default]
    Tag,
    Length,
    /// So many bytes of the length are still to come; what it is so far.
    Long(u8, u64),
}

impl Lengths {
    fn is_between_messages(&self) -> bool {
        self.left == 0 && matches!(self.head, Head::Tag)
    }

    fn take(&mut self, mut bytes: &[u8]) -> Result<(), TooLong> {
        while let Some((&byte, rest)) = bytes.split_first() {
            if self.left > 0 {
                let passed = bytes.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
                self.left -= passed as u64;
                bytes = &bytes[passed..];
                continue;
            }
            bytes = rest;
            self.head = match (self.head, byte) {
                (Head::Tag, 0x30) => Head::Length,
                (Head::Length, 0..=0x7f) => self.begin(byte.into())?,
                (Head::Length, 0x81..=0x88) => Head::Long(byte - 0x80, 0),
                (Head::Long(1, length), byte) => self.begin(length << 8 | u64::from(byte))?,
                (Head::Long(more, length), byte) => Head::Long(more - 1, length << 8 | u64::from(byte)),
                _ => return Err(TooLong::NoMessage),
            };
        }
        Ok(())
    }

    fn begin(&mut self, length: u64) -> Result<Head, TooLong> {
        if length > LONGEST {
            return Err(TooLong::Message(length));
        }
        self.left = length;
        Ok(Head::Tag)
    }
}

/// How many bytes are still to come of the last of the messages in these, for a fuzzer.
pub(crate) fn follow(pieces: &[&[u8]]) -> Option<u64> {
    let mut lengths = Lengths::default();
    pieces.iter().try_for_each(|piece| lengths.take(piece)).ok().map(|()| lengths.left)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn message(length: usize, bytes_of_length: usize) -> Vec<u8> {
        let mut all = vec![0x30];
        match bytes_of_length {
            0 => all.push(u8::try_from(length % 0x80).unwrap()),
            bytes => {
                all.push(0x80 + u8::try_from(bytes).unwrap());
                all.extend(&(length as u64).to_be_bytes()[8 - bytes..]);
            }
        }
        let length = if bytes_of_length == 0 { length % 0x80 } else { length };
        all.extend(vec![0x30; length]);
        all
    }

    #[test]
    fn what_is_too_long_or_no_message_ends_it_at_its_head() {
        let take = |bytes: &[u8]| Lengths::default().take(bytes);
        assert_eq!(take(b"\x30\x84\x01\x00\x00\x00"), Ok(()));
        assert_eq!(take(b"\x30\x84\x01\x00\x00\x01"), Err(TooLong::Message(LONGEST + 1)));
        assert_eq!(take(b"\x30\x88\xff\xff\xff\xff\xff\xff\xff\xff"), Err(TooLong::Message(u64::MAX)));
        for none in [&b"\x30\x80"[..], b"\x30\x89", b"HTTP/1.1 400", b"\x04\x00"] {
            assert_eq!(take(none), Err(TooLong::NoMessage), "{none:?}");
        }
    }

    #[tokio::test]
    async fn what_either_side_says_is_passed_on_until_a_message_is_too_long() {
        let (server, mut far) = tokio::io::duplex(1 << 10);
        let (ours, mut library) = UnixStream::pair().unwrap();
        tokio::spawn(relay(server, ours, "ldaps://x".into()));
        let mut got = vec![0; 20_006];
        library.write_all(b"asked").await.unwrap();
        far.read_exact(&mut got[..5]).await.unwrap();
        assert_eq!(&got[..5], b"asked");
        let sent = message(20_000, 4);
        let (sending, receiving) = tokio::join!(far.write_all(&sent), library.read_exact(&mut got));
        assert!(sending.is_ok() && receiving.is_ok() && got == sent);
        far.write_all(b"\x30\x84\x7f\xff\xff\xff more of it").await.unwrap();
        assert_eq!(library.read(&mut got).await.unwrap(), 0, "nothing of it comes through");
        assert!(far.write_all(&sent).await.is_err(), "and nobody reads it");
    }

    #[test]
    fn only_what_says_so_begins_tls() {
        assert!(starts_tls(b"\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x00\x04\x00\x04\x00"));
        assert!(starts_tls(
            b"\x30\x84\x00\x00\x00\x10\x02\x01\x01\x78\x84\x00\x00\x00\x07\x0a\x01\x00\x04\x00\x04\x00"
        ));
        for not in [
            &b"\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x02\x04\x00\x04\x00"[..],
            b"\x30\x0c\x02\x01\x02\x78\x07\x0a\x01\x00\x04\x00\x04\x00",
            b"\x30\x0c\x02\x01\x01\x61\x07\x0a\x01\x00\x04\x00\x04\x00",
            b"\x30\x00",
            b"",
        ] {
            assert!(!starts_tls(not), "{not:?}");
        }
        assert_eq!(START_TLS.len(), 31);
    }

    proptest! {
        #[test]
        fn messages_are_followed_however_they_are_cut(
            messages in prop::collection::vec((0..700_usize, prop::sample::select(vec![0_usize, 2, 4, 8])), 0..6),
            size in 1..64_usize,
            end in 0..5_usize,
        ) {
            let mut all: Vec<u8> = messages.iter().flat_map(|(length, bytes)| message(*length, *bytes)).collect();
            let mut lengths = Lengths::default();
            prop_assert!(all.chunks(size).all(|piece| lengths.take(piece).is_ok()));
            prop_assert!(lengths.is_between_messages());
            // Cut short, it is within the last, unless nothing of it came.
            let last = messages.last().map_or(0, |(length, bytes)| message(*length, *bytes).len());
            let cut = end.min(last);
            all.truncate(all.len() - cut);
            let mut lengths = Lengths::default();
            prop_assert!(all.chunks(size).all(|piece| lengths.take(piece).is_ok()));
            prop_assert_eq!(lengths.is_between_messages(), cut == 0 || cut == last);
        }

        #[test]
        fn no_bytes_are_taken_for_more_than_is_read(bytes: Vec<u8>, more: Vec<u8>) {
            if let Some(left) = follow(&[&bytes, &more]) {
                prop_assert!(left <= LONGEST);
            }
            starts_tls(&bytes);
        }
    }
}
