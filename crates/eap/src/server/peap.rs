use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::{Keys, random_bytes};
use crate::server::credential::Answer;
use crate::server::negotiation::{Negotiation, Progress};
use crate::server::tunnel::{Event, Tunnel};
use crate::server::{Context, Method, Offer, Turn};
use crate::tls::server::ServerTls;
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};
use crate::wire::peap::{Binding, extensions, strip, unstrip};
use crate::wire::tlv;

/// PEAP version 0: TLS, an EAP method in its tunnel, and a protected result.
#[derive(Debug)]
pub(crate) struct Peap {
    tunnel: Tunnel,
    inner: Negotiation,
    /// Whether the peer must prove that tunnel and inner method belong together.
    must_bind: bool,
    state: State,
    keys: Option<Keys>,
}

#[derive(Debug)]
enum State {
    Handshake,
    /// Our Finished is out (TLS 1.2).
    Finished,
    Inner,
    /// All is proved; the verdict is awaited.
    Proved,
    /// The verdict is to accept, and the inner method still has something to say.
    Ending,
    /// The result is out.
    Told {
        binding: Binding,
    },
    /// The bad result is out.
    Failing(Failure),
}

impl Peap {
    pub(crate) fn new(
        tls: &ServerTls,
        inner: Arc<[Offer]>,
        must_bind: bool,
        cx: &Context<'_>,
    ) -> Result<Self, Failure> {
        let tunnel = Tunnel::new(tls, Kind::PEAP, 0, false, cx)?;
        Ok(Self { tunnel, inner: Negotiation::new(inner, 0), must_bind, state: State::Handshake, keys: None })
    }

    fn ask_identity(&mut self, cx: &mut Context<'_>) -> Turn {
        self.state = State::Inner;
        cx.about.begin_inner(None);
        self.inner.follow(cx.next_identifier);
        let packet = self.inner.ask_identity();
        Turn::Request(self.tunnel.send(strip(&packet)))
    }

    fn established(&mut self, cx: &mut Context<'_>) -> Turn {
        if self.tunnel.about().resumed {
            self.state = State::Proved;
            return Turn::Proved;
        }
        if self.tunnel.is_1_3() {
            return self.ask_identity(cx);
        }
        self.state = State::Finished;
        Turn::Request(self.tunnel.send(&[]))
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        match std::mem::replace(&mut self.state, State::Inner) {
            state @ (State::Inner | State::Ending) => {
                self.state = state;
                self.inner.follow(cx.next_identifier.wrapping_sub(1));
                match unstrip(plain, Code::Response, self.inner.identifier()) {
                    Some(packet) => self.work(cx, |inner, cx| match Packet::parse(&packet) {
                        Ok(packet) => inner.receive(&packet, cx),
                        Err(_) => Progress::Ignore("no inner packet"),
                    }),
                    None => Failure::Malformed("an empty message in the PEAP tunnel").into(),
                }
            }
            State::Told { binding } => self.result(plain, &binding, cx),
            State::Failing(failure) => failure.into(),
            _ => Failure::Unexpected("a message out of turn in PEAP").into(),
        }
    }

    /// The peer's word on the result.
    fn result(&mut self, plain: &[u8], binding: &Binding, cx: &mut Context<'_>) -> Turn {
        let Some(list) = extensions(plain, Code::Response) else {
            return Failure::Unexpected("a PEAP message in place of the result").into();
        };
        if tlv::first(&list, tlv::RESULT) != Some(&tlv::SUCCESS) {
            return Failure::GaveUp("it does not agree that the PEAP tunnel succeeded").into();
        }
        match tlv::first(&list, tlv::CRYPTO_BINDING) {
            Some(value) if binding.check_response(value).is_none() => Failure::Binding.into(),
            Some(_) => {
                cx.about.bound = Some(true);
                let session_id = self.keys.take().map(|keys| keys.session_id).unwrap_or_default();
                self.keys = Some(binding.keys(session_id));
                Turn::Success
            }
            None => {
                cx.about.bound = Some(false);
                // Not every peer can; its keys are then the tunnel's alone.
                if self.must_bind { Failure::Unbound.into() } else { Turn::Success }
            }
        }
    }

    fn work(&mut self, cx: &mut Context<'_>, act: impl FnOnce(&mut Negotiation, &mut Context<'_>) -> Progress) -> Turn {
        self.inner.follow(cx.next_identifier.wrapping_sub(1));
        let progress = act(&mut self.inner, &mut inside(cx));
        match progress {
            Progress::Send(packet) => Turn::Request(self.tunnel.send(strip(&packet))),
            Progress::Ask(claim) => Turn::Ask(claim),
            Progress::Proved => {
                cx.about.end_inner(true);
                self.state = State::Proved;
                Turn::Proved
            }
            Progress::Succeeded => self.tell(cx),
            Progress::Failed(failure) => {
                cx.about.end_inner(false);
                self.tell_failure(failure)
            }
            Progress::Ignore(why) => self.tell_failure(Failure::Unexpected(why)),
        }
    }

    /// The good result, and the request to prove that tunnel and method belong
    /// together.
    fn tell(&mut self, cx: &mut Context<'_>) -> Turn {
        let tunnel = match self.tunnel.keys("client EAP encryption") {
            Ok(keys) => keys,
            Err(failure) => return failure.into(),
        };
        let binding = Binding::new(tunnel.msk.expose(), self.inner.keys().as_ref(), self.tunnel.about().resumed);
        self.keys = Some(tunnel);
        let nonce = random_bytes(cx.random);
        let mut list = Vec::new();
        tlv::push(&mut list, true, tlv::RESULT, &tlv::SUCCESS);
        tlv::push(&mut list, false, tlv::CRYPTO_BINDING, &binding.request(&nonce));
        self.state = State::Told { binding };
        self.extensions(&list, cx.next_identifier)
    }

    fn tell_failure(&mut self, failure: Failure) -> Turn {
        self.state = State::Failing(failure);
        let mut list = Vec::new();
        tlv::push(&mut list, true, tlv::RESULT, &tlv::FAILURE);
        self.extensions(&list, self.inner.identifier().wrapping_add(1))
    }

    fn extensions(&mut self, list: &[u8], identifier: u8) -> Turn {
        let packet = build(Code::Request, identifier, Kind::EXTENSIONS, list);
        Turn::Request(self.tunnel.send(&packet))
    }
}

/// The context of what happens inside a tunnel.
pub(crate) fn inside<'c>(cx: &'c mut Context<'_>) -> Context<'c> {
    Context {
        random: cx.random,
        about: cx.about,
        identity: "",
        room: cx.room,
        sessions: None,
        identity_type: cx.identity_type,
        next_identifier: cx.next_identifier,
        retries: cx.retries,
        inside: true,
        session_id: false,
    }
}

impl Method for Peap {
    fn kind(&self) -> Kind {
        Kind::PEAP
    }

    fn begin(&mut self, _: &mut Context<'_>) -> Turn {
        Turn::Request(self.tunnel.start(&[]))
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match (self.tunnel.receive(data, cx), &self.state) {
            (Event::Reply(reply), _) => Turn::Request(reply),
            (Event::Failed(failure), _) => failure.into(),
            (Event::Established(plain), _) if plain.is_empty() => self.established(cx),
            (Event::Acknowledged, State::Finished) => self.ask_identity(cx),
            (Event::Acknowledged, State::Failing(failure)) => failure.clone().into(),
            (Event::Plain(plain), _) => self.plain(&plain, cx),
            _ => Failure::Unexpected("a message out of turn in PEAP").into(),
        }
    }

    fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Turn {
        self.work(cx, |inner, cx| inner.answer(answer, cx))
    }

    fn conclude(&mut self, accept: bool, cx: &mut Context<'_>) -> Turn {
        match (accept, self.tunnel.about().resumed) {
            (false, _) => self.tell_failure(Failure::Refused),
            (true, true) => self.tell(cx),
            (true, false) => {
                self.state = State::Ending;
                self.work(cx, |inner, cx| inner.conclude(true, cx))
            }
        }
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn failing(&self) -> Option<Failure> {
        match &self.state {
            State::Failing(failure) => Some(failure.clone()),
            _ => self.tunnel.failing(),
        }
    }

    fn may_need_public_key(&self) -> bool {
        self.tunnel.may_need_public_key() || self.inner.may_need_public_key()
    }
}
