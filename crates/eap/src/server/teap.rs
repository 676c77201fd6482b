use std::collections::VecDeque;
use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::{Keys, Secret, random_bytes};
use crate::server::credential::{Answer, Claim, Credential, IdentityType, LONGEST_NAME};
use crate::server::negotiation::{Negotiation, Progress};
use crate::server::peap::inside;
use crate::server::tunnel::{Event, Tunnel};
use crate::server::{Context, Method, Offer, Turn};
use crate::tls::server::ServerTls;
use crate::wire::kind::Kind;
use crate::wire::packet::Packet;
use crate::wire::reader::Reader;
use crate::wire::teap::{Chain, VERSION};
use crate::wire::tlv::{self, Tlv};

/// TEAP (RFC 7170, RFC 9930): TLS, one inner method for each identity, each
/// followed by its own result and proof of binding.
#[derive(Debug)]
pub(crate) struct Teap {
    tunnel: Tunnel,
    offers: Arc<[Offer]>,
    /// Whom to ask for still.
    wanted: VecDeque<IdentityType>,
    now: IdentityType,
    inner: Negotiation,
    chain: Option<Chain>,
    proved: usize,
    state: State,
    keys: Option<Keys>,
    outer: Vec<u8>,
}

#[derive(Debug)]
enum State {
    Handshake,
    /// Our Finished is out (TLS 1.2).
    Finished,
    /// An identity was asked for; its method goes on.
    Inner,
    /// A password was asked for.
    Password,
    /// A password's check is awaited.
    Asked,
    /// All is proved; the verdict is awaited. Whether an inner method has just
    /// ended and its result is to be told.
    Proved {
        method: bool,
    },
    /// An inner method was proved, and still has something to say.
    Ending {
        last: bool,
    },
    /// The proof of binding is out.
    Bound {
        nonce: [u8; 32],
        last: bool,
        method: bool,
    },
    /// The bad result is out.
    Failing(Failure),
}

/// RFC 7170 section 4.2.3.
pub(crate) fn identity_type(value: &[u8]) -> Option<IdentityType> {
    match value {
        [0, 1] => Some(IdentityType::User),
        [0, 2] => Some(IdentityType::Machine),
        _ => None,
    }
}

pub(crate) fn identity_bytes(kind: IdentityType) -> [u8; 2] {
    match kind {
        IdentityType::User => [0, 1],
        IdentityType::Machine => [0, 2],
    }
}

/// Whether the inner identity that comes is a machine's, by its name.
fn tells_machine(list: &[Tlv<'_>]) -> bool {
    let packet = tlv::first(list, tlv::EAP_PAYLOAD).and_then(|payload| Packet::parse(payload).ok());
    packet.is_some_and(|packet| packet.kind == Some(Kind::IDENTITY) && packet.data.starts_with(b"host/"))
}

impl Teap {
    pub(crate) fn new(
        tls: &ServerTls,
        offers: Arc<[Offer]>,
        identities: &[IdentityType],
        cx: &Context<'_>,
    ) -> Result<Self, Failure> {
        let mut outer = Vec::new();
        tlv::push(&mut outer, false, tlv::AUTHORITY_ID, tls.certificate().fingerprint.as_bytes());
        Ok(Self {
            tunnel: Tunnel::new(tls, Kind::TEAP, VERSION, false, cx)?,
            inner: Negotiation::new(offers.clone(), 0),
            offers,
            wanted: identities.iter().copied().collect(),
            now: IdentityType::User,
            chain: None,
            proved: 0,
            state: State::Handshake,
            keys: None,
            outer,
        })
    }

    fn established(&mut self, cx: &mut Context<'_>) -> Turn {
        let outer = (self.outer.clone(), self.tunnel.outer_of_peer().to_vec());
        match Chain::new(&*self.tunnel.engine, outer) {
            Ok(chain) => self.chain = Some(chain),
            Err(failure) => return Failure::Tls(failure).into(),
        }
        if self.tunnel.about().resumed {
            self.state = State::Proved { method: false };
            return Turn::Proved;
        }
        if self.tunnel.is_1_3() {
            return self.ask_next(cx, Vec::new());
        }
        self.state = State::Finished;
        Turn::Request(self.tunnel.send(&[]))
    }

    /// Asks for the next identity, or for the verdict where nobody is left.
    fn ask_next(&mut self, cx: &mut Context<'_>, mut list: Vec<u8>) -> Turn {
        let Some(next) = self.wanted.pop_front() else {
            return match self.proved {
                0 => self.tell_failure(Failure::Credential),
                _ => {
                    self.state = State::Proved { method: false };
                    Turn::Proved
                }
            };
        };
        self.now = next;
        cx.about.begin_inner(Some(next));
        tlv::push(&mut list, false, tlv::IDENTITY_TYPE, &identity_bytes(next));
        if self.offers.is_empty() {
            self.state = State::Password;
            tlv::push(&mut list, true, tlv::PASSWORD_REQUEST, b"Password");
        } else {
            self.inner = Negotiation::new(self.offers.clone(), self.inner.identifier().wrapping_add(1));
            self.state = State::Inner;
            tlv::push(&mut list, true, tlv::EAP_PAYLOAD, &self.inner.ask_identity());
        }
        Turn::Request(self.tunnel.send(&list))
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        let Some(list) = tlv::parse(plain) else {
            return Failure::Malformed("the TLVs in the TEAP tunnel do not fit").into();
        };
        if let Some(unknown) = list.iter().find(|tlv| tlv.mandatory && !tlv::is_known(tlv.kind)) {
            // RFC 7170 section 4.2.5: no vendor, and which TLV it was.
            let mut answer = Vec::new();
            let [a, b] = unknown.kind.to_be_bytes();
            tlv::push(&mut answer, true, tlv::NAK, &[0, 0, 0, 0, a, b]);
            return Turn::Request(self.tunnel.send(&answer));
        }
        if tlv::first(&list, tlv::RESULT) == Some(&tlv::FAILURE) && !matches!(self.state, State::Failing(_)) {
            let told = match tlv::first(&list, tlv::ERROR) {
                Some(error) if error == tlv::TUNNEL_COMPROMISE => {
                    "it says that tunnel and inner method do not belong together (error 2001)"
                }
                Some(error) if error == tlv::UNEXPECTED_TLVS => {
                    "it says that something came in the TEAP tunnel that it did not expect (error 2002)"
                }
                Some(_) => "it says that the TEAP tunnel failed, with an error of its own",
                None => "it says that the TEAP tunnel failed",
            };
            // The conversation in the tunnel has ended by that: another message would find nobody.
            return Failure::GaveUp(told).into();
        }
        match &self.state {
            State::Inner | State::Password => self.identity(&list, cx),
            State::Ending { .. } => self.payload(&list, cx),
            State::Bound { nonce, last, method } => {
                let (nonce, last, method) = (*nonce, *last, *method);
                self.bound(&list, &nonce, last, method, cx)
            }
            State::Failing(failure) => failure.clone().into(),
            _ => Failure::Unexpected("a message out of turn in TEAP").into(),
        }
    }

    /// What the peer says of an identity that was asked for.
    fn identity(&mut self, list: &[Tlv<'_>], cx: &mut Context<'_>) -> Turn {
        if let Some(told) = tlv::first(list, tlv::IDENTITY_TYPE).and_then(identity_type)
            && told != self.now
        {
            // It has no such identity and offers the one that it has (RFC 7170
            // section 4.2.3), unless that was dealt with already.
            let Some(place) = self.wanted.iter().position(|wanted| *wanted == told) else {
                cx.about.inner.pop();
                self.wanted.clear();
                return self.ask_next(cx, Vec::new());
            };
            self.wanted.remove(place);
            self.now = told;
            if let Some(inner) = cx.about.inner_now() {
                inner.identity_type = Some(told);
            }
        }
        match self.state {
            State::Password => self.password(list, cx),
            // Some peers answer for their machine again where no user is there.
            _ if self.proved > 0 && self.now == IdentityType::User && tells_machine(list) => {
                cx.about.inner.pop();
                self.wanted.clear();
                self.ask_next(cx, Vec::new())
            }
            _ => self.payload(list, cx),
        }
    }

    fn payload(&mut self, list: &[Tlv<'_>], cx: &mut Context<'_>) -> Turn {
        let Some(payload) = tlv::first(list, tlv::EAP_PAYLOAD) else {
            return self.tell_failure(Failure::Unexpected("no EAP packet in the TEAP tunnel"));
        };
        self.work(cx, |inner, cx| match Packet::parse(payload) {
            Ok(packet) => inner.receive(&packet, cx),
            Err(_) => Progress::Failed(Failure::Malformed("no EAP packet in the TEAP tunnel")),
        })
    }

    fn password(&mut self, list: &[Tlv<'_>], cx: &mut Context<'_>) -> Turn {
        let read = || {
            let mut reader = Reader(tlv::first(list, tlv::PASSWORD_RESPONSE)?);
            let name = String::from_utf8(reader.short()?.0.to_vec()).ok().filter(|name| name.len() <= LONGEST_NAME)?;
            Some((name, Secret::new(reader.short()?.0)))
        };
        let Some((name, password)) = read() else {
            return self.tell_failure(Failure::Unexpected("no password in the TEAP tunnel"));
        };
        if let Some(inner) = cx.about.inner_now() {
            (inner.method, inner.identity) = ("password".into(), Some(name.clone()));
        }
        self.state = State::Asked;
        let credential = Credential::Password(password);
        Turn::Ask(Claim { name, identity_type: Some(self.now), method: "password", credential })
    }

    fn work(&mut self, cx: &mut Context<'_>, act: impl FnOnce(&mut Negotiation, &mut Context<'_>) -> Progress) -> Turn {
        let mut inner_cx = inside(cx);
        inner_cx.identity_type = Some(self.now);
        let progress = act(&mut self.inner, &mut inner_cx);
        match progress {
            Progress::Send(packet) => {
                let mut list = Vec::new();
                tlv::push(&mut list, true, tlv::EAP_PAYLOAD, &packet);
                Turn::Request(self.tunnel.send(&list))
            }
            Progress::Ask(claim) => Turn::Ask(claim),
            Progress::Proved => self.method_proved(cx),
            Progress::Succeeded => {
                let keys = self.inner.keys();
                let last = matches!(self.state, State::Ending { last: true });
                self.bind(keys.as_ref(), last, true, cx)
            }
            Progress::Failed(failure) => self.method_failed(failure, cx),
            Progress::Ignore(why) => self.method_failed(Failure::Unexpected(why), cx),
        }
    }

    fn method_proved(&mut self, cx: &mut Context<'_>) -> Turn {
        cx.about.end_inner(true);
        self.proved += 1;
        if self.wanted.is_empty() {
            self.state = State::Proved { method: true };
            return Turn::Proved;
        }
        self.finish_method(false, cx)
    }

    /// Lets the inner method say its last, then proves the binding.
    fn finish_method(&mut self, last: bool, cx: &mut Context<'_>) -> Turn {
        self.state = State::Ending { last };
        match self.inner.is_held() {
            true => self.work(cx, |inner, cx| inner.conclude(true, cx)),
            false => self.bind(None, last, true, cx),
        }
    }

    fn method_failed(&mut self, failure: Failure, cx: &mut Context<'_>) -> Turn {
        cx.about.end_inner(false);
        if self.wanted.is_empty() {
            return self.tell_failure(failure);
        }
        let mut list = Vec::new();
        tlv::push(&mut list, true, tlv::INTERMEDIATE_RESULT, &tlv::FAILURE);
        self.ask_next(cx, list)
    }

    fn bind(&mut self, keys: Option<&Keys>, last: bool, method: bool, cx: &mut Context<'_>) -> Turn {
        let Some(chain) = &mut self.chain else { return Failure::Unexpected("no tunnel").into() };
        let engine = &*self.tunnel.engine;
        let stepped = if method { chain.advance(engine, keys) } else { chain.stand_still(engine) };
        if let Err(failure) = stepped {
            return Failure::Tls(failure).into();
        }
        let (binding, nonce) = chain.request(random_bytes(cx.random));
        let mut list = Vec::new();
        if method {
            tlv::push(&mut list, true, tlv::INTERMEDIATE_RESULT, &tlv::SUCCESS);
        }
        if last {
            tlv::push(&mut list, true, tlv::RESULT, &tlv::SUCCESS);
        }
        tlv::push(&mut list, true, tlv::CRYPTO_BINDING, &binding);
        self.state = State::Bound { nonce, last, method };
        Turn::Request(self.tunnel.send(&list))
    }

    fn bound(&mut self, list: &[Tlv<'_>], nonce: &[u8; 32], last: bool, method: bool, cx: &mut Context<'_>) -> Turn {
        let agrees = |kind| tlv::first(list, kind) == Some(&tlv::SUCCESS);
        if method && !agrees(tlv::INTERMEDIATE_RESULT) {
            return self.tell_failure(Failure::GaveUp("it does not agree that the inner method succeeded"));
        }
        if last && !agrees(tlv::RESULT) {
            return self.tell_failure(Failure::GaveUp("it does not agree that the TEAP tunnel succeeded"));
        }
        let value = tlv::first(list, tlv::CRYPTO_BINDING);
        let held = self.chain.as_ref().filter(|chain| value.is_some_and(|value| chain.check_response(value, nonce)));
        let Some(chain) = held else {
            cx.about.bound = Some(false);
            return self.tell_failure(Failure::Binding);
        };
        cx.about.bound = Some(true);
        if !last {
            return self.ask_next(cx, Vec::new());
        }
        let engine = &*self.tunnel.engine;
        match chain.keys(engine, self.tunnel.session_id()) {
            Ok(keys) => {
                self.keys = Some(keys);
                Turn::Success
            }
            Err(failure) => Failure::Tls(failure).into(),
        }
    }

    fn tell_failure(&mut self, failure: Failure) -> Turn {
        let mut list = Vec::new();
        if matches!(self.state, State::Inner | State::Asked | State::Password | State::Proved { method: true }) {
            tlv::push(&mut list, true, tlv::INTERMEDIATE_RESULT, &tlv::FAILURE);
        }
        tlv::push(&mut list, true, tlv::RESULT, &tlv::FAILURE);
        if failure == Failure::Binding {
            // RFC 7170 section 3.6.3.
            tlv::push(&mut list, true, tlv::ERROR, &tlv::TUNNEL_COMPROMISE);
        }
        self.state = State::Failing(failure);
        Turn::Request(self.tunnel.send(&list))
    }
}

impl Method for Teap {
    fn kind(&self) -> Kind {
        Kind::TEAP
    }

    fn begin(&mut self, _: &mut Context<'_>) -> Turn {
        Turn::Request(self.tunnel.start(&self.outer))
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match (self.tunnel.receive(data, cx), &self.state) {
            (Event::Reply(reply), _) => Turn::Request(reply),
            (Event::Failed(failure), _) => failure.into(),
            (Event::Established(plain), _) if plain.is_empty() => self.established(cx),
            (Event::Acknowledged, State::Finished) => self.ask_next(cx, Vec::new()),
            (Event::Acknowledged, State::Failing(failure)) => failure.clone().into(),
            (Event::Plain(plain), _) => self.plain(&plain, cx),
            _ => Failure::Unexpected("a message out of turn in TEAP").into(),
        }
    }

    fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Turn {
        match (&self.state, &answer) {
            (State::Asked, Answer::Right { .. }) => self.method_proved(cx),
            (State::Asked, _) => self.method_failed(Failure::Credential, cx),
            _ => self.work(cx, |inner, cx| inner.answer(answer, cx)),
        }
    }

    fn conclude(&mut self, accept: bool, cx: &mut Context<'_>) -> Turn {
        match (accept, &self.state) {
            (false, _) => self.tell_failure(Failure::Refused),
            (true, State::Proved { method: true }) => self.finish_method(true, cx),
            (true, _) => self.bind(None, true, false, cx),
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
