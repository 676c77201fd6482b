//! How TLS messages travel in EAP packets: flags, length, fragments and their
//! acknowledgements (RFC 5216 section 3, the same in RFC 5281 section 9 and RFC
//! 7170 section 4.1).

use crate::failure::Failure;
use crate::wire::kind::Kind;
use crate::wire::reader::Reader;

const LENGTH_INCLUDED: u8 = 0x80;
const MORE_FRAGMENTS: u8 = 0x40;
const START: u8 = 0x20;
const OUTER_TLVS: u8 = 0x10;
const VERSION: u8 = 0x07;

/// Whether a packet is a fragment that will only be acknowledged: code, identifier,
/// length and type, then the flags.
pub(crate) fn promises_more(packet: &[u8]) -> bool {
    packet.get(5).is_some_and(|flags| flags & MORE_FRAGMENTS != 0)
}

/// The longest TLS message that is put together (RFC 9190 section 2.1.4 wants 64 kB).
pub(crate) const MAX_MESSAGE: usize = 65_536;
/// EAP header, flags and length.
const OVERHEAD: usize = 5 + 1 + 4;

/// One end's fragments on their way in and out.
#[derive(Debug)]
pub(crate) struct Framing {
    version: u8,
    /// Whether the other end says its version: EAP-TLS has none, and its bits mean nothing.
    versioned: bool,
    /// Bytes of TLS data in one packet.
    room: usize,
    incoming: Vec<u8>,
    /// What is still to be sent; nothing that was sent is held, for as long as it takes.
    outgoing: Vec<u8>,
    /// Whether a fragment of it was sent.
    begun: bool,
    /// The other end's outer TLVs, which come beside its first message.
    outer: Vec<u8>,
}

/// What a packet meant.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Received {
    /// The first packet of the method.
    Start { version: u8 },
    /// A fragment to be acknowledged; more will come.
    Fragment,
    /// The other end has all that was sent and says nothing new.
    Acknowledged,
    /// A whole message.
    Message(Vec<u8>),
}

impl Framing {
    /// `packet` is the longest EAP packet that this end sends.
    pub(crate) fn new(kind: Kind, version: u8, packet: usize) -> Self {
        let room = packet.saturating_sub(OVERHEAD).max(64);
        Self {
            version,
            versioned: kind != Kind::TLS,
            room,
            incoming: Vec::new(),
            outgoing: Vec::new(),
            begun: false,
            outer: Vec::new(),
        }
    }

    /// The packet that starts the method.
    pub(crate) fn start(&self, outer: &[u8]) -> Vec<u8> {
        match outer.is_empty() {
            true => vec![START | self.version],
            false => {
                let length = (outer.len() as u32).to_be_bytes();
                [&[START | OUTER_TLVS | self.version], &length[..], outer].concat()
            }
        }
    }

    /// Takes a packet's type-data.
    pub(crate) fn receive(&mut self, data: &[u8]) -> Result<Received, Failure> {
        let malformed = || Failure::Malformed("the flags and lengths of a TLS fragment do not fit");
        let mut reader = Reader(data);
        let flags = reader.u8().ok_or_else(malformed)?;
        let stated = match flags & LENGTH_INCLUDED {
            0 => None,
            _ => Some(reader.u32().ok_or_else(malformed)? as usize),
        };
        let outer = match flags & OUTER_TLVS {
            0 => 0,
            _ => reader.u32().ok_or_else(malformed)? as usize,
        };
        let (body, outer) =
            reader.0.len().checked_sub(outer).and_then(|at| reader.0.split_at_checked(at)).ok_or_else(malformed)?;
        if !outer.is_empty() {
            self.outer = outer.to_vec();
        }
        if flags & START != 0 {
            return Ok(Received::Start { version: flags & VERSION });
        }
        // RFC 5281 section 9.1, RFC 7170 section 3.1: whoever does not take what was offered ends it.
        if self.versioned && flags & VERSION != self.version {
            return Err(Failure::Unexpected("a version of the method that was not offered"));
        }
        if self.incoming.len() + body.len() > MAX_MESSAGE || stated.is_some_and(|length| length > MAX_MESSAGE) {
            return Err(Failure::TooLong);
        }
        let continues = !self.incoming.is_empty();
        self.incoming.extend_from_slice(body);
        if flags & MORE_FRAGMENTS != 0 {
            // An empty fragment that promises more would never end.
            return if body.is_empty() { Err(malformed()) } else { Ok(Received::Fragment) };
        }
        if body.is_empty() && !continues {
            return Ok(Received::Acknowledged);
        }
        let message = std::mem::take(&mut self.incoming);
        match stated.is_some_and(|length| length != message.len() && !continues) {
            true => Err(malformed()),
            false => Ok(Received::Message(message)),
        }
    }

    /// The other end's outer TLVs (RFC 7170 section 4.3.1).
    pub(crate) fn outer(&self) -> &[u8] {
        &self.outer
    }

    /// The empty packet that acknowledges.
    pub(crate) fn acknowledgement(&self) -> Vec<u8> {
        vec![self.version]
    }

    /// Puts a message in the way out and gives its first packet.
    pub(crate) fn send(&mut self, message: Vec<u8>) -> Vec<u8> {
        self.outgoing = message;
        self.begun = false;
        self.next().unwrap_or_else(|| self.acknowledgement())
    }

    /// The next packet of the message on its way out; `None` when all is sent.
    pub(crate) fn next(&mut self) -> Option<Vec<u8>> {
        if self.outgoing.is_empty() {
            return None;
        }
        let (part, more) = self.outgoing.split_at(self.outgoing.len().min(self.room));
        let mut flags = self.version;
        let mut length = Vec::new();
        if !more.is_empty() {
            flags |= MORE_FRAGMENTS;
            if !self.begun {
                flags |= LENGTH_INCLUDED;
                length.extend_from_slice(&(self.outgoing.len() as u32).to_be_bytes());
            }
        }
        let packet = [&[flags], &length[..], part].concat();
        self.begun = !more.is_empty();
        self.outgoing = more.to_vec();
        Some(packet)
    }

    /// Whether fragments wait for an acknowledgement.
    pub(crate) fn is_sending(&self) -> bool {
        !self.outgoing.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_message_of_any_length_arrives_whole(message in prop::collection::vec(any::<u8>(), 1..9_000), room in 80usize..1500) {
            let (mut from, mut to) = (Framing::new(Kind::TTLS, 0, room), Framing::new(Kind::TTLS, 0, 1400));
            let mut packet = from.send(message.clone());
            let arrived = loop {
                match to.receive(&packet).unwrap() {
                    Received::Fragment => packet = from.next().unwrap(),
                    Received::Message(arrived) => break arrived,
                    other => panic!("{other:?}"),
                }
            };
            prop_assert!(!from.is_sending());
            prop_assert_eq!(arrived, message);
        }

        #[test]
        fn any_bytes_are_taken_or_refused(packets in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..40), 0..8)) {
            let mut framing = Framing::new(Kind::TTLS, 0, 1400);
            for packet in &packets {
                let _ = framing.receive(packet);
            }
        }
    }

    #[test]
    fn a_version_that_was_not_offered_ends_it_and_eap_tls_has_none() {
        let sent = |kind, flags: u8| Framing::new(kind, 1, 1400).receive(&[flags, 7]);
        assert_eq!(sent(Kind::TEAP, 1), Ok(Received::Message(vec![7])));
        for flags in [0, 2, 7, MORE_FRAGMENTS] {
            assert!(matches!(sent(Kind::TEAP, flags), Err(Failure::Unexpected(_))), "{flags}");
            assert!(sent(Kind::TLS, flags).is_ok(), "{flags}");
        }
    }

    #[test]
    fn a_message_that_never_ends_is_cut_off() {
        let mut framing = Framing::new(Kind::TTLS, 0, 1400);
        let packet = [&[MORE_FRAGMENTS][..], &[0; 1_300]].concat();
        let failed = (0..100).find_map(|_| framing.receive(&packet).err());
        assert_eq!(failed, Some(Failure::TooLong));
    }
}
