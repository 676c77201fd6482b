//! What was asked and what was answered, in the bytes of its protocol. A decision, and what is kept of it, know whose
//! these bytes are and nothing of what stands in them; an adapter of that protocol reads them when somebody asks.

use std::fmt;
use std::net::SocketAddr;

use regnant_decision::{FactTable, Request};
use regnant_policy::{Compiled, Known, Type, Value};
use serde::{Deserialize, Serialize};

/// The protocol by which equipment asks, by a number that stands in what is kept: one that was given is never given to
/// another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Protocol(pub u8);

/// The exchange of one decision, which goes on to whoever keeps it.
pub trait Exchange: fmt::Debug + Send {
    /// What the request says; of a conversation, the first one.
    fn request(&self) -> Request<'_>;

    /// Where the request came from.
    fn source(&self) -> SocketAddr;

    /// The bytes that go back; none where nothing does.
    fn reply(&self) -> Option<&[u8]>;

    /// What is kept of it.
    fn kept(&self) -> KeptExchange;
}

/// What is kept of an exchange, in forms of its protocol's own; the values of secrets are left out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptExchange {
    /// Whose bytes these are.
    pub protocol: Protocol,
    /// The request.
    pub request: Vec<u8>,
    /// The reply; none where there was none. What its grants are stands in the edition, and may be left out.
    pub reply: Option<Vec<u8>>,
}

/// Reads what is kept of exchanges of one protocol.
pub trait ProtocolReader {
    /// The fact of this place among those that the protocol has, as the rules saw it.
    fn fact<'b>(&self, place: usize, kind: &Type, request: &'b [u8]) -> Known<Value<'b>>;

    /// The exchange in words. `granted` is what the edition has for the grants that were given, in the form of the
    /// protocol, where it has that beforehand.
    fn show(&self, exchange: &KeptExchange, granted: Option<&[u8]>) -> ShownExchange;

    /// What equipment is set to, in the words of the protocol.
    fn advice(&self) -> &'static ProtocolAdvice;
}

/// An exchange in words.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShownExchange {
    /// What was sent: `Access-Request`.
    pub title: String,
    /// How it was protected on its way: `signed with Message-Authenticator`.
    pub protection: String,
    /// What to do, where it was not protected as it could be.
    pub protect: Option<&'static str>,
    /// The parts of the request, by name.
    pub request: Vec<(String, String)>,
    /// What went back; none where nothing did.
    pub reply: Option<ShownReply>,
}

/// A reply in words.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShownReply {
    /// What it is: `Access-Accept with 3 attributes`.
    pub title: String,
    /// Its parts, by name.
    pub parts: Vec<(String, String)>,
}

/// What people have to set on equipment, in the words of one protocol.
#[derive(Debug)]
pub struct ProtocolAdvice {
    /// What a fact of a request is read from: `NAS-Port-Type` for `request.medium`.
    pub read_from: fn(&str) -> Option<&'static str>,
    /// Where a request carries no credential.
    pub no_credential: &'static str,
    /// Where somebody gave a MAC address as a name, and that was no MAC bypass.
    pub address_as_name: &'static str,
}

/// For a protocol that this release does not know.
static NO_ADVICE: ProtocolAdvice = ProtocolAdvice {
    read_from: |_| None,
    no_credential: "See what the equipment is set to send.",
    address_as_name: "People need names that are no MAC address.",
};

/// The facts that a policy was checked with, and who reads those that a protocol has.
pub trait Protocols {
    /// Which facts there are.
    fn table(&self) -> &FactTable;

    /// Who reads exchanges of a protocol; none where this release does not know it.
    fn reader(&self, protocol: Protocol) -> Option<&dyn ProtocolReader>;
}

impl dyn Protocols + '_ {
    /// An exchange in words, whoever's it is.
    pub(crate) fn show(&self, exchange: &KeptExchange, granted: Option<&[u8]>) -> ShownExchange {
        let unread = || ShownExchange {
            title: "A request".into(),
            protection: "by a protocol that this release cannot read".into(),
            reply: exchange.reply.as_ref().map(|_| ShownReply { title: "A reply".into(), parts: Vec::new() }),
            ..ShownExchange::default()
        };
        self.reader(exchange.protocol).map_or_else(unread, |reader| reader.show(exchange, granted))
    }

    pub(crate) fn advice(&self, protocol: Protocol) -> &'static ProtocolAdvice {
        self.reader(protocol).map_or(&NO_ADVICE, ProtocolReader::advice)
    }
}

/// The edition that decided, as whoever reads of a decision needs it.
pub trait DecidingEdition: fmt::Debug + Send + Sync {
    /// Its number.
    fn number(&self) -> u32;

    /// Its policy.
    fn policy(&self) -> &Compiled;

    /// The facts that it was checked with.
    fn protocols(&self) -> &dyn Protocols;

    /// What a protocol tells equipment of a dialect for a combination of grants, where that is the same whatever is
    /// asked.
    fn granted(&self, protocol: Protocol, dialect: &str, grants: usize) -> Option<&[u8]>;
}
