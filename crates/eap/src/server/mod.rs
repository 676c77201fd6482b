//! The server's end.

mod challenge;
pub(crate) mod credential;
pub(crate) mod mschapv2;
mod negotiation;
mod peap;
pub(crate) mod teap;
pub(crate) mod tls;
mod token;
mod ttls;
mod tunnel;

use std::fmt;
use std::sync::Arc;

use crate::about::About;
use crate::failure::Failure;
use crate::keys::{Keys, Random};
use crate::server::credential::{Answer, Claim, IdentityType};
use crate::server::negotiation::{Negotiation, Progress};
use crate::tls::server::{ServerTls, Sessions};
use crate::wire::framing::promises_more;
use crate::wire::kind::Kind;
use crate::wire::packet::{Malformed, Packet, build_end};

/// A method that a gate accepts.
#[derive(Clone, Debug)]
pub enum Offer {
    /// EAP-MD5.
    Md5,
    /// EAP-GTC.
    Gtc,
    /// EAP-MSCHAPv2.
    MsChapV2,
    /// EAP-TLS; the server side must have a trust.
    Tls(ServerTls),
    /// PEAP.
    Peap {
        /// The TLS side.
        tls: ServerTls,
        /// The methods inside.
        inner: Arc<[Offer]>,
        /// Whether the peer must prove that tunnel and inner method belong together;
        /// else somebody may relay an inner method that was meant for another tunnel.
        bound: bool,
    },
    /// EAP-TTLS with these methods inside.
    Ttls(ServerTls, Arc<[InnerOffer]>),
    /// TEAP.
    Teap {
        /// The TLS side.
        tls: ServerTls,
        /// EAP methods inside; with none, a password is asked for.
        inner: Arc<[Offer]>,
        /// Whom to ask for, in this order.
        identities: Arc<[IdentityType]>,
    },
}

/// A method inside EAP-TTLS.
#[derive(Clone, Debug)]
pub enum InnerOffer {
    /// The password (RFC 5281 section 11.2.5).
    Pap,
    /// CHAP (RFC 5281 section 11.2.2).
    Chap,
    /// MS-CHAP (RFC 5281 section 11.2.3).
    MsChap,
    /// MS-CHAP version 2 (RFC 5281 section 11.2.4).
    MsChapV2,
    /// An EAP method (RFC 5281 section 11.2.1).
    Eap(Offer),
}

impl Offer {
    /// PEAP with these methods inside, for peers that can prove the binding and
    /// peers that cannot.
    pub fn peap(tls: ServerTls, inner: Arc<[Offer]>) -> Self {
        Self::Peap { tls, inner, bound: false }
    }

    /// The method's type.
    pub fn kind(&self) -> Kind {
        match self {
            Self::Md5 => Kind::MD5,
            Self::Gtc => Kind::GTC,
            Self::MsChapV2 => Kind::MSCHAPV2,
            Self::Tls(_) => Kind::TLS,
            Self::Peap { .. } => Kind::PEAP,
            Self::Ttls(..) => Kind::TTLS,
            Self::Teap { .. } => Kind::TEAP,
        }
    }

    fn start(&self, cx: &mut Context<'_>) -> Result<Box<dyn Method>, Failure> {
        Ok(match self {
            Self::Md5 => Box::new(challenge::Md5Challenge::new()),
            Self::Gtc => Box::new(token::Token::new()),
            Self::MsChapV2 => Box::new(mschapv2::MsChapV2::new(cx.retries)),
            Self::Tls(tls) => Box::new(tls::Tls::new(tls, cx)?),
            Self::Peap { tls, inner, bound } => Box::new(peap::Peap::new(tls, inner.clone(), *bound, cx)?),
            Self::Ttls(tls, inner) => Box::new(ttls::Ttls::new(tls, inner.clone(), cx)?),
            Self::Teap { tls, inner, identities } => Box::new(teap::Teap::new(tls, inner.clone(), identities, cx)?),
        })
    }
}

/// What one conversation may cost.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// The longest EAP packet sent.
    pub packet: usize,
    /// Packets taken.
    pub rounds: u32,
    /// Bytes taken.
    pub bytes: usize,
    /// How often a person may type a password anew in one conversation of
    /// EAP-MSCHAPv2. Supplicants that ask nobody then say nothing more, so that
    /// a refusal takes until their time is up: none unless people sit there.
    pub retries: u8,
    /// Whether the equipment asks for the method's Session-Id (RFC 5247 section
    /// 1.4), which costs a derivation of keys.
    pub session_id: bool,
}

impl Default for Limits {
    fn default() -> Self {
        Self { packet: 1_024, rounds: 200, bytes: 262_144, retries: 0, session_id: false }
    }
}

/// What methods are given on every call.
pub(crate) struct Context<'c> {
    pub(crate) random: &'c mut Random,
    pub(crate) about: &'c mut About,
    pub(crate) identity: &'c str,
    pub(crate) room: usize,
    pub(crate) sessions: Option<&'c Arc<dyn Sessions>>,
    /// Whom an inner method is about.
    pub(crate) identity_type: Option<IdentityType>,
    /// The identifier that the next request will have.
    pub(crate) next_identifier: u8,
    /// How often a password may be typed anew.
    pub(crate) retries: u8,
    /// Whether this is a method inside a tunnel.
    pub(crate) inside: bool,
    /// Whether the Session-Id is wanted.
    pub(crate) session_id: bool,
}

/// What a method wants next.
pub(crate) enum Turn {
    /// A request with this type-data goes to the peer.
    Request(Vec<u8>),
    /// Somebody must check this.
    Ask(Claim),
    /// All is proved; the verdict is wanted.
    Proved,
    /// Over, well.
    Success,
    /// Over, badly.
    Failed(Failure),
}

impl From<Failure> for Turn {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}

/// One method at work. `answer` follows `Turn::Ask`, `conclude` follows
/// `Turn::Proved`, and `receive` follows `Turn::Request`.
pub(crate) trait Method: Send + Sync + fmt::Debug {
    fn kind(&self) -> Kind;
    fn begin(&mut self, cx: &mut Context<'_>) -> Turn;
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn;
    fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Turn;
    fn conclude(&mut self, accept: bool, cx: &mut Context<'_>) -> Turn;
    fn keys(&self) -> Option<Keys>;
    /// Whether the peer's next packet may want public-key cryptography.
    fn may_need_public_key(&self) -> bool {
        false
    }
    /// Why it fails, where the peer was told and has yet to say that it heard.
    fn failing(&self) -> Option<Failure> {
        None
    }
}

/// One conversation with one peer.
///
/// Every call gives a [`Step`]. After [`Step::Send`] comes [`Self::receive`],
/// after [`Step::Ask`] comes [`Self::answer`], after [`Step::Verdict`] comes
/// [`Self::conclude`]; a call out of turn is a defect of the caller and ends the
/// conversation. Nothing that promises success is sent before the verdict.
pub struct Conversation {
    negotiation: Negotiation,
    about: About,
    random: Random,
    sessions: Option<Arc<dyn Sessions>>,
    limits: Limits,
    rounds: u32,
    bytes: usize,
}

/// What a conversation wants next.
#[derive(Debug)]
pub enum Step {
    /// Send this packet; the peer will answer it.
    Send(Vec<u8>),
    /// Check this credential.
    Ask(Claim),
    /// Everything is proved: may the peer come in?
    Verdict,
    /// The end: EAP-Success, with keys where the method makes some.
    Accept(Vec<u8>, Option<Keys>),
    /// The end: EAP-Failure.
    Refuse(Vec<u8>, Failure),
    /// The packet was dropped; what was sent before still waits for its answer
    /// (RFC 3748 section 4.1).
    Ignore(&'static str),
}

impl Conversation {
    /// A conversation that offers these methods, in this order. `sessions` is
    /// where sessions to be resumed are found and kept.
    pub fn new(offers: Arc<[Offer]>, sessions: Option<Arc<dyn Sessions>>, limits: Limits, mut random: Random) -> Self {
        let [identifier] = crate::keys::random_bytes(&mut random);
        Self {
            negotiation: Negotiation::new(offers, identifier),
            about: About::default(),
            random,
            sessions,
            limits,
            rounds: 0,
            bytes: 0,
        }
    }

    /// Asks for the identity, where the equipment has not (RFC 3579 section 2.1).
    pub fn begin(&mut self) -> Step {
        let packet = self.negotiation.ask_identity();
        Step::Send(packet)
    }

    /// Takes a packet of the peer.
    pub fn receive(&mut self, bytes: &[u8]) -> Step {
        self.rounds += 1;
        self.bytes += bytes.len();
        if self.rounds > self.limits.rounds || self.bytes > self.limits.bytes {
            return self.end(Progress::Failed(Failure::Endless));
        }
        match Packet::parse(bytes) {
            Ok(packet) => self.work(|negotiation, cx| negotiation.receive(&packet, cx)),
            Err(Malformed::Code(_)) => Step::Ignore("no EAP code"),
            Err(_) => Step::Ignore("no EAP packet"),
        }
    }

    /// Goes on after a credential was checked.
    pub fn answer(&mut self, answer: Answer) -> Step {
        self.work(|negotiation, cx| negotiation.answer(answer, cx))
    }

    /// Goes on after the verdict.
    pub fn conclude(&mut self, accept: bool) -> Step {
        self.work(|negotiation, cx| negotiation.conclude(accept, cx))
    }

    /// What is known so far.
    pub fn about(&self) -> &About {
        &self.about
    }

    /// Why it fails, where the peer was told, say by an alert, and has yet to say that
    /// it heard: a peer that then says nothing did not merely leave.
    pub fn failing(&self) -> Option<Failure> {
        self.negotiation.failing()
    }

    /// How many bytes came from the peer.
    pub fn received(&self) -> usize {
        self.bytes
    }

    /// Whether this packet of the peer, of which the first bytes are enough, may
    /// want public-key cryptography, which takes a hundred times as long as anything
    /// else here.
    pub fn may_need_public_key(&self, packet: &[u8]) -> bool {
        self.negotiation.may_need_public_key() && !promises_more(packet)
    }

    /// EAP-Failure for the packet that came last, to end what cannot go on.
    pub fn failure_packet(&self) -> Vec<u8> {
        build_end(false, self.negotiation.identifier())
    }

    fn work(&mut self, act: impl FnOnce(&mut Negotiation, &mut Context<'_>) -> Progress) -> Step {
        let mut cx = Context {
            random: &mut self.random,
            about: &mut self.about,
            identity: "",
            room: self.limits.packet,
            sessions: self.sessions.as_ref(),
            identity_type: None,
            next_identifier: 0,
            retries: self.limits.retries,
            inside: false,
            session_id: self.limits.session_id,
        };
        let progress = act(&mut self.negotiation, &mut cx);
        self.end(progress)
    }

    fn end(&mut self, progress: Progress) -> Step {
        let identifier = self.negotiation.identifier();
        match progress {
            Progress::Send(packet) => Step::Send(packet),
            Progress::Ask(claim) => Step::Ask(claim),
            Progress::Proved => Step::Verdict,
            Progress::Succeeded => Step::Accept(build_end(true, identifier), self.negotiation.keys()),
            Progress::Failed(failure) => Step::Refuse(build_end(false, identifier), failure),
            Progress::Ignore(why) => Step::Ignore(why),
        }
    }
}

impl fmt::Debug for Conversation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Conversation").field("about", &self.about).field("rounds", &self.rounds).finish_non_exhaustive()
    }
}
