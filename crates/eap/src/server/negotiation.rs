use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::Keys;
use crate::server::credential::{Answer, Claim, LONG_NAME, LONGEST_NAME};
use crate::server::{Context, Method, Offer, Turn};
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};

/// Identity, then the first method that both ends have (RFC 3748 sections 2 and
/// 5.3): the outer conversation, and the same again inside a tunnel.
#[derive(Debug)]
pub(crate) struct Negotiation {
    offers: Arc<[Offer]>,
    identifier: u8,
    identity: String,
    turned_down: Vec<Kind>,
    state: State,
}

/// Methods of a Nak that are looked at and kept.
const MOST_WANTED: usize = 16;

#[derive(Debug)]
enum State {
    /// The identity is awaited; whether we asked for it.
    Identity { asked: bool },
    /// A method waits for its peer; `fresh` until the peer took it on.
    Method { method: Box<dyn Method>, fresh: bool },
    /// A method waits for somebody on our side.
    Held(Box<dyn Method>),
    /// Over; the keys where it went well.
    Over(Option<Keys>),
}

/// What a negotiation wants next.
#[derive(Debug)]
pub(crate) enum Progress {
    Send(Vec<u8>),
    Ask(Claim),
    Proved,
    Succeeded,
    Failed(Failure),
    Ignore(&'static str),
}

impl Negotiation {
    pub(crate) fn new(offers: Arc<[Offer]>, identifier: u8) -> Self {
        Self {
            offers,
            identifier,
            identity: String::new(),
            turned_down: Vec::new(),
            state: State::Identity { asked: false },
        }
    }

    pub(crate) fn ask_identity(&mut self) -> Vec<u8> {
        self.state = State::Identity { asked: true };
        build(Code::Request, self.identifier, Kind::IDENTITY, &[])
    }

    /// Of the last request, or of the response that it was made for.
    pub(crate) fn identifier(&self) -> u8 {
        self.identifier
    }

    /// Makes the next request the one after this, where a tunnel numbers its inner
    /// packets like the outer ones.
    pub(crate) fn follow(&mut self, identifier: u8) {
        self.identifier = identifier;
    }

    /// Whether a method waits for somebody on our side.
    pub(crate) fn is_held(&self) -> bool {
        matches!(self.state, State::Held(_))
    }

    pub(crate) fn failing(&self) -> Option<Failure> {
        match &self.state {
            State::Method { method, .. } | State::Held(method) => method.failing(),
            State::Identity { .. } | State::Over(_) => None,
        }
    }

    pub(crate) fn may_need_public_key(&self) -> bool {
        match &self.state {
            State::Method { method, .. } | State::Held(method) => method.may_need_public_key(),
            State::Identity { .. } | State::Over(_) => false,
        }
    }

    pub(crate) fn keys(&self) -> Option<Keys> {
        match &self.state {
            State::Over(keys) => keys.clone(),
            _ => None,
        }
    }

    pub(crate) fn receive(&mut self, packet: &Packet<'_>, cx: &mut Context<'_>) -> Progress {
        let (Code::Response, Some(kind)) = (packet.code, packet.kind) else {
            return Progress::Ignore("only responses are expected");
        };
        if kind == Kind::NOTIFICATION {
            return Progress::Ignore("a notification that nobody sent");
        }
        let unasked = matches!(self.state, State::Identity { asked: false });
        if packet.identifier != self.identifier && !unasked {
            return Progress::Ignore("an answer to another request");
        }
        match std::mem::replace(&mut self.state, State::Over(None)) {
            State::Identity { .. } if kind == Kind::IDENTITY => {
                self.identifier = packet.identifier;
                if packet.data.len() > LONGEST_NAME {
                    return Progress::Failed(LONG_NAME);
                }
                self.identity = String::from_utf8_lossy(packet.data).into_owned();
                match cx.inside {
                    true => {
                        cx.about.inner_now().into_iter().for_each(|inner| inner.identity = Some(self.identity.clone()));
                    }
                    false => cx.about.identity = Some(self.identity.clone()),
                }
                self.start(0, cx)
            }
            state @ State::Identity { .. } => {
                self.state = state;
                Progress::Ignore("the identity is awaited")
            }
            State::Method { method, fresh } => match packet.nak() {
                Some(wanted) if fresh => self.turned_down(method.kind(), wanted, cx),
                _ if kind == method.kind() => self.hand(method, cx, |method, cx| method.receive(packet.data, cx)),
                _ => {
                    self.state = State::Method { method, fresh };
                    Progress::Ignore("a response of another method")
                }
            },
            State::Held(method) => {
                self.state = State::Held(method);
                Progress::Ignore("the last response is still being worked on")
            }
            State::Over(keys) => {
                self.state = State::Over(keys);
                Progress::Ignore("the conversation is over")
            }
        }
    }

    pub(crate) fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Progress {
        self.resume(cx, |method, cx| method.answer(answer, cx))
    }

    pub(crate) fn conclude(&mut self, accept: bool, cx: &mut Context<'_>) -> Progress {
        self.resume(cx, |method, cx| method.conclude(accept, cx))
    }

    fn resume(
        &mut self,
        cx: &mut Context<'_>,
        act: impl FnOnce(&mut dyn Method, &mut Context<'_>) -> Turn,
    ) -> Progress {
        match std::mem::replace(&mut self.state, State::Over(None)) {
            State::Held(method) => self.hand(method, cx, act),
            _ => Progress::Failed(Failure::Unexpected("an answer that nobody asked for")),
        }
    }

    fn turned_down(&mut self, kind: Kind, mut wanted: Vec<Kind>, cx: &mut Context<'_>) -> Progress {
        self.turned_down.push(kind);
        let offered = |kind: Kind| self.offers.iter().any(|offer| offer.kind() == kind);
        // A peer may list thousands; what we have comes first, the rest is for people.
        wanted.sort_by_key(|kind| (!offered(*kind), kind.0));
        wanted.dedup();
        wanted.truncate(MOST_WANTED);
        if !cx.inside {
            cx.about.turned_down.push((kind, wanted.clone()));
        }
        // In our order, not the peer's: the gate says what is preferred. What was
        // turned down once is not offered again.
        let fits = |kind: Kind| wanted.contains(&kind) && !self.turned_down.contains(&kind);
        match self.offers.iter().position(|offer| fits(offer.kind())) {
            Some(place) => self.start(place, cx),
            None => Progress::Failed(Failure::NoCommonMethod { wanted }),
        }
    }

    fn start(&mut self, place: usize, cx: &mut Context<'_>) -> Progress {
        let Some(offer) = self.offers.get(place) else {
            return Progress::Failed(Failure::NoCommonMethod { wanted: Vec::new() });
        };
        let word = offer.kind();
        match cx.inside {
            true => cx.about.inner_now().into_iter().for_each(|inner| inner.method = word.to_string()),
            false => cx.about.method = Some(word),
        }
        let offer = offer.clone();
        match offer.start(cx) {
            Ok(method) => {
                let progress = self.hand(method, cx, |method, cx| method.begin(cx));
                if let State::Method { fresh, .. } = &mut self.state {
                    *fresh = true;
                }
                progress
            }
            Err(failure) => Progress::Failed(failure),
        }
    }

    fn hand(
        &mut self,
        mut method: Box<dyn Method>,
        cx: &mut Context<'_>,
        act: impl FnOnce(&mut dyn Method, &mut Context<'_>) -> Turn,
    ) -> Progress {
        let mut cx = Context {
            random: cx.random,
            about: cx.about,
            identity: &self.identity,
            room: cx.room,
            sessions: cx.sessions,
            identity_type: cx.identity_type,
            next_identifier: self.identifier.wrapping_add(1),
            retries: cx.retries,
            inside: cx.inside,
            session_id: cx.session_id,
        };
        let turn = act(&mut *method, &mut cx);
        match turn {
            Turn::Request(data) => {
                self.identifier = self.identifier.wrapping_add(1);
                let packet = build(Code::Request, self.identifier, method.kind(), &data);
                self.state = State::Method { method, fresh: false };
                Progress::Send(packet)
            }
            Turn::Ask(claim) => {
                self.state = State::Held(method);
                Progress::Ask(claim)
            }
            Turn::Proved => {
                self.state = State::Held(method);
                Progress::Proved
            }
            Turn::Success => {
                self.state = State::Over(method.keys());
                Progress::Succeeded
            }
            Turn::Failed(failure) => Progress::Failed(failure),
        }
    }
}
