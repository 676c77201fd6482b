//! What is kept of a request and its reply, and how it is read.
//!
//! A request is kept as its code and its attributes, a reply as its code, the place where the attributes of its grants
//! stand, and the others:
//! ```text
//! request | code | attributes |
//! reply   | code | place, 2 bytes | attributes without those of the grants |
//! ```
//! Attributes of grants that the edition has beforehand are not kept with every reply; the place is 65535 where there
//! are none to be put back. The values of secrets are zeros.

use std::net::SocketAddr;
use std::ops::Range;

use regnant_decision::{FactTable, KeptRequest, Request};
use regnant_evidence::{
    Exchange, KeptExchange, Protocol, ProtocolAdvice, ProtocolReader, Protocols, ShownExchange, ShownReply,
};
use regnant_policy::{Known, Type, Value};
use regnant_radius::{Attributes, Code, Dictionary, HEADER_LEN, Packet, number};

use crate::radius::request::RadiusRequest;
use crate::radius::vocabulary::Vocabulary;

/// The number of RADIUS in what is kept.
pub const PROTOCOL: Protocol = Protocol(1);

/// Where a reply has no attributes of grants that were left out.
const NO_PLACE: u16 = u16::MAX;

/// A reply as it goes out.
#[derive(Debug)]
pub(crate) struct Signed {
    /// The packet.
    pub(crate) bytes: Vec<u8>,
    /// Where the attributes of its grants stand in it, all of them and nothing else.
    pub(crate) grants: Option<Range<usize>>,
}

impl From<Vec<u8>> for Signed {
    fn from(bytes: Vec<u8>) -> Self {
        Self { bytes, grants: None }
    }
}

/// A request and the reply to it. Of a conversation it is the first request and the last reply.
#[derive(Debug)]
pub(crate) struct RadiusExchange {
    asked: RadiusRequest,
    reply: Option<Signed>,
    /// Whether what was granted is the same whatever is asked, so that the edition has it.
    fixed: bool,
}

impl RadiusExchange {
    pub(crate) fn new(asked: RadiusRequest, reply: Option<Signed>, granted: Option<usize>) -> Self {
        let dialect = &asked.accepted.nas.dialect;
        let fixed = granted.is_some_and(|grants| asked.edition.fixed_attributes(dialect, grants).is_some());
        Self { asked, reply, fixed }
    }
}

impl Exchange for RadiusExchange {
    fn request(&self) -> Request<'_> {
        KeptRequest::request(&self.asked)
    }

    fn source(&self) -> SocketAddr {
        self.asked.accepted.source
    }

    fn reply(&self) -> Option<&[u8]> {
        self.reply.as_ref().map(|reply| &*reply.bytes)
    }

    fn kept(&self) -> KeptExchange {
        let dictionary = self.asked.edition.vocabulary.dictionary();
        let reply = self.reply.as_ref().map(|reply| kept_reply(reply, self.fixed, dictionary));
        KeptExchange { protocol: PROTOCOL, request: kept_request(&self.asked.accepted.packet(), dictionary), reply }
    }
}

/// What is kept of a request.
pub(crate) fn kept_request(packet: &Packet<'_>, dictionary: &Dictionary) -> Vec<u8> {
    let mut kept = vec![packet.code().0];
    kept.extend_from_slice(&dictionary.without_secrets(packet.attributes()));
    kept
}

fn kept_reply(Signed { bytes, grants }: &Signed, fixed: bool, dictionary: &Dictionary) -> Vec<u8> {
    let (code, attributes) = (bytes.first(), bytes.get(HEADER_LEN..).unwrap_or_default());
    let left_out = grants.as_ref().filter(|_| fixed).map(|grants| grants.start - HEADER_LEN..grants.end - HEADER_LEN);
    let place = left_out.as_ref().and_then(|left_out| u16::try_from(left_out.start).ok()).unwrap_or(NO_PLACE);
    let mut kept = vec![code.copied().unwrap_or_default()];
    kept.extend_from_slice(&place.to_be_bytes());
    let others = match left_out {
        Some(grants) => [&attributes[..grants.start], &attributes[grants.end..]],
        None => [attributes, &[]],
    };
    for part in others.map(|part| Attributes::read(part).unwrap_or_default()) {
        kept.extend_from_slice(&dictionary.without_secrets(part));
    }
    kept
}

/// The code and the attributes of a request that was kept.
fn read_request(kept: &[u8]) -> (Code, Attributes<'_>) {
    let (code, attributes) = kept.split_first().unwrap_or((&0, &[]));
    (Code(*code), Attributes::read(attributes).unwrap_or_default())
}

/// The code and the attributes of a reply that was kept, with those that grants gave put back.
fn read_reply(kept: &[u8], granted: Option<&[u8]>) -> Option<(Code, Vec<u8>)> {
    let (code, rest) = kept.split_first()?;
    let (place, attributes) = rest.split_first_chunk::<2>()?;
    let place = usize::from(u16::from_be_bytes(*place));
    let whole = match (attributes.split_at_checked(place), granted) {
        (Some((before, after)), Some(granted)) => [before, granted, after].concat(),
        _ => attributes.to_vec(),
    };
    Some((Code(*code), whole))
}

impl ProtocolReader for Vocabulary {
    fn fact<'b>(&self, place: usize, kind: &Type, request: &'b [u8]) -> Known<Value<'b>> {
        self.attribute_fact(place, kind, read_request(request).1)
    }

    fn show(&self, exchange: &KeptExchange, granted: Option<&[u8]>) -> ShownExchange {
        let (code, attributes) = read_request(&exchange.request);
        let signed = attributes.clone().any(|attribute| attribute.number == number::MESSAGE_AUTHENTICATOR);
        let reply = exchange.reply.as_deref().and_then(|kept| read_reply(kept, granted));
        ShownExchange {
            title: code.to_string(),
            protection: if signed { "signed with Message-Authenticator" } else { "not signed" }.into(),
            protect: (!signed).then_some(
                "This NAS need not send Message-Authenticator, so its answers can be forged on the way. Update it or \
                 turn the attribute on, then require it.",
            ),
            request: self.dictionary().show_all(attributes),
            reply: reply.map(|(code, attributes)| {
                let parts = self.dictionary().show_all(Attributes::read(&attributes).unwrap_or_default());
                let title = match parts.len() {
                    1 => format!("{code} with 1 attribute"),
                    count => format!("{code} with {count} attributes"),
                };
                ShownReply { title, parts }
            }),
        }
    }

    fn advice(&self) -> &'static ProtocolAdvice {
        static ADVICE: ProtocolAdvice = ProtocolAdvice {
            read_from,
            no_credential: "See what the equipment is set to send; for MAC bypass, User-Name and Calling-Station-Id \
                            must be the same address.",
            address_as_name: "If this is a MAC bypass, the equipment must send the same address as \
                              Calling-Station-Id, and Service-Type Call-Check. People need names that are no MAC \
                              address.",
        };
        &ADVICE
    }
}

/// What a fact of a request is read from.
fn read_from(fact: &str) -> Option<&'static str> {
    Some(match fact {
        "request.purpose" => "Service-Type or NAS-Port-Type, from which it is read",
        "request.medium" => "NAS-Port-Type",
        "request.port" => "NAS-Port or NAS-Port-Id",
        "request.ssid" => "the network's name in Called-Station-Id, behind the address and a colon",
        "request.mac" => "Calling-Station-Id",
        "request.carrier" => "a credential",
        _ => return None,
    })
}

impl Protocols for Vocabulary {
    fn table(&self) -> &FactTable {
        self.table()
    }

    fn reader(&self, protocol: Protocol) -> Option<&dyn ProtocolReader> {
        (protocol == PROTOCOL).then_some(self)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn whatever_was_kept_is_shown(
            request in prop::collection::vec(any::<u8>(), 0..80),
            reply in prop::option::of(prop::collection::vec(any::<u8>(), 0..80)),
            granted in prop::option::of(prop::collection::vec(any::<u8>(), 0..20)),
        ) {
            let vocabulary = Vocabulary::standard();
            let shown = vocabulary.show(&KeptExchange { protocol: PROTOCOL, request, reply: reply.clone() }, granted.as_deref());
            prop_assert_eq!(shown.reply.is_some(), reply.is_some_and(|reply| reply.len() >= 3));
        }

        #[test]
        fn a_reply_is_read_as_it_was_sent(
            before in 0usize..3, granted in 0usize..3, after in 0usize..3, fixed in any::<bool>(),
        ) {
            let some = |count: usize| [number::REPLY_MESSAGE, 5, b'a', b'b', b'c'].repeat(count);
            let all = [some(before), some(granted), some(after)];
            let bytes = [&[2; HEADER_LEN][..], &all.concat()].concat();
            let start = HEADER_LEN + all[0].len();
            let signed = Signed { bytes, grants: Some(start..start + all[1].len()) };
            let vocabulary = Vocabulary::standard();
            let kept = kept_reply(&signed, fixed, vocabulary.dictionary());
            let read = read_reply(&kept, fixed.then_some(&*all[1]));
            prop_assert_eq!(read, Some((Code(2), all.concat())));
            prop_assert_eq!(kept.len(), 3 + all.concat().len() - if fixed { all[1].len() } else { 0 });
        }
    }
}
