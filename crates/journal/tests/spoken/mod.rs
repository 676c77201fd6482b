//! What an adapter of the made-up protocol leaves: an exchange in words, and who reads it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use regnant_decision::{ActivePolicy, Decided, FactTable, KeptRequest, Request};
use regnant_evidence::{
    DecidingEdition, Decision, Exchange, KeptExchange, Protocol, ProtocolAdvice, ProtocolReader, Protocols,
    ShownExchange, ShownReply,
};
use regnant_policy::{Compiled, Known, Type, Value};
use ulid::Ulid;

use crate::typed::Typed;

pub(crate) const SPOKEN: Protocol = Protocol(250);

/// A question and the answer to it.
pub(crate) struct Asked {
    typed: Typed,
    answer: Option<&'static str>,
}

impl std::fmt::Debug for Asked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} asks", self.typed.name)
    }
}

impl Exchange for Asked {
    fn request(&self) -> Request<'_> {
        KeptRequest::request(&self.typed)
    }

    fn source(&self) -> SocketAddr {
        "127.0.0.1:7".parse().unwrap()
    }

    fn reply(&self) -> Option<&[u8]> {
        self.answer.map(str::as_bytes)
    }

    fn kept(&self) -> KeptExchange {
        let request = format!("{} {}", self.typed.shift, self.typed.name).into_bytes();
        KeptExchange { protocol: SPOKEN, request, reply: self.answer.map(|answer| answer.as_bytes().to_vec()) }
    }
}

/// An edition of a policy for it.
#[derive(Debug)]
pub(crate) struct SpokenEdition {
    pub(crate) number: u32,
    pub(crate) active: ActivePolicy,
}

impl DecidingEdition for SpokenEdition {
    fn number(&self) -> u32 {
        self.number
    }

    fn policy(&self) -> &Compiled {
        &self.active.policy
    }

    fn protocols(&self) -> &dyn Protocols {
        self
    }

    fn granted(&self, _: Protocol, _: &str, _: usize) -> Option<&[u8]> {
        None
    }
}

impl Protocols for SpokenEdition {
    fn table(&self) -> &FactTable {
        &self.active.table
    }

    fn reader(&self, protocol: Protocol) -> Option<&dyn ProtocolReader> {
        (protocol == SPOKEN).then_some(self)
    }
}

fn words(request: &[u8]) -> (&str, &str) {
    std::str::from_utf8(request).unwrap().split_once(' ').unwrap()
}

impl ProtocolReader for SpokenEdition {
    fn fact<'b>(&self, _: usize, _: &Type, request: &'b [u8]) -> Known<Value<'b>> {
        Known::Is(Value::Integer((words(request).0 == "night").into()))
    }

    fn show(&self, exchange: &KeptExchange, _: Option<&[u8]>) -> ShownExchange {
        let (shift, name) = words(&exchange.request);
        let reply = exchange.reply.as_ref().map(|reply| String::from_utf8(reply.clone()).unwrap());
        ShownExchange {
            title: "A question".into(),
            protection: "whispered".into(),
            protect: None,
            request: vec![("Shift".into(), shift.into()), ("Who".into(), name.into())],
            reply: reply.map(|title| ShownReply { title, parts: Vec::new() }),
        }
    }

    fn advice(&self) -> &'static ProtocolAdvice {
        static ADVICE: ProtocolAdvice = ProtocolAdvice {
            read_from: |fact| (fact == "request.Shift").then_some("what is said first"),
            no_credential: "Speak up.",
            address_as_name: "Say your name.",
        };
        &ADVICE
    }
}

/// A decision as an adapter hands it on.
pub(crate) fn decision(id: Ulid, typed: Typed, edition: &Arc<SpokenEdition>, decided: Decided) -> Decision {
    let answer = Some(if decided.ending.grants().is_some() { "Come in" } else { "No" });
    let exchange = Box::new(Asked { typed, answer });
    Decision { id, exchange, edition: edition.clone(), decided, replied_at: Duration::from_micros(9) }
}
