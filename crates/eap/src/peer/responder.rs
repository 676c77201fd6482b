use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::{Keys, Random};
use crate::peer::{Context, Method, PeerMethod, Turn};
use crate::tls::TlsAbout;
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};

/// Identity, Nak and the method: the mirror of the server's negotiation, outside
/// and inside tunnels.
#[derive(Debug)]
pub(crate) struct Responder {
    identity: String,
    method: PeerMethod,
    active: Option<Box<dyn Method>>,
    /// The last request's identifier and our answer, for when it comes again
    /// (RFC 3748 section 4.1).
    last: Option<(u8, Vec<u8>)>,
    failed: Option<Failure>,
    over: bool,
}

/// What comes of a packet.
pub(crate) enum Reply {
    Send(Vec<u8>),
    Success(Option<Keys>),
    Failure(Failure),
    Ignore(&'static str),
}

impl Responder {
    pub(crate) fn new(identity: &str, method: PeerMethod) -> Self {
        Self { identity: identity.into(), method, active: None, last: None, failed: None, over: false }
    }

    pub(crate) fn receive(&mut self, packet: &Packet<'_>, room: usize, random: &mut Random) -> Reply {
        if self.over {
            return Reply::Ignore("the conversation is over");
        }
        match (packet.code, packet.kind) {
            (Code::Request, Some(kind)) => match &self.last {
                Some((identifier, answer)) if *identifier == packet.identifier => Reply::Send(answer.clone()),
                _ => self.request(kind, packet, room, random),
            },
            (Code::Success, _) => self.success(packet.identifier),
            (Code::Failure, _) => {
                self.over = true;
                let told = self.failed.take().or_else(|| self.active.as_ref().and_then(|method| method.failure()));
                Reply::Failure(told.unwrap_or(Failure::GaveUp("EAP-Failure")))
            }
            _ => Reply::Ignore("only requests and the end are expected"),
        }
    }

    /// Anybody can send EAP-Success: it counts once the method is content (RFC
    /// 3748 section 4.2).
    fn success(&mut self, identifier: u8) -> Reply {
        let answered = self.last.as_ref().is_some_and(|(last, _)| *last == identifier);
        match &self.active {
            Some(method) if answered && method.is_done() => {
                self.over = true;
                Reply::Success(method.keys())
            }
            _ => Reply::Ignore("a success that nothing led to"),
        }
    }

    fn request(&mut self, kind: Kind, packet: &Packet<'_>, room: usize, random: &mut Random) -> Reply {
        let (kind, data) = match kind {
            Kind::IDENTITY => (kind, self.identity.clone().into_bytes()),
            Kind::NOTIFICATION => (kind, Vec::new()),
            kind if kind == self.method.kind() => match self.work(packet, room, random) {
                Turn::Response(data) => (kind, data),
                Turn::Failed(failure) => {
                    self.failed.get_or_insert(failure);
                    return Reply::Ignore("the method failed");
                }
            },
            _ if self.active.is_none() => (Kind::NAK, vec![self.method.kind().0]),
            _ => return Reply::Ignore("a request of another method"),
        };
        let answer = build(Code::Response, packet.identifier, kind, &data);
        self.last = Some((packet.identifier, answer.clone()));
        Reply::Send(answer)
    }

    fn work(&mut self, packet: &Packet<'_>, room: usize, random: &mut Random) -> Turn {
        let method = match &mut self.active {
            Some(method) => method,
            empty => match self.method.start(room) {
                Ok(method) => empty.insert(method),
                Err(failure) => return failure.into(),
            },
        };
        method.receive(packet.data, &mut Context { random, identifier: packet.identifier })
    }

    /// Why the method failed, where it knows.
    pub(crate) fn failure(&self) -> Option<Failure> {
        self.failed.clone().or_else(|| self.active.as_ref().and_then(|method| method.failure()))
    }

    /// Whether the method is content and not over.
    pub(crate) fn is_done(&self) -> bool {
        self.active.as_ref().is_some_and(|method| method.is_done())
    }

    pub(crate) fn keys(&self) -> Option<Keys> {
        self.active.as_ref().and_then(|method| method.keys())
    }

    pub(crate) fn tls(&self) -> Option<Arc<TlsAbout>> {
        self.active.as_ref().and_then(|method| method.tls())
    }
}
