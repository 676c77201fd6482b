//! The peer's end: what a supplicant does.

mod challenge;
mod mschapv2;
mod peap;
mod responder;
mod teap;
mod tls;
mod token;
mod ttls;
mod tunnel;

use std::fmt;
use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::{Keys, Random, Secret};
use crate::peer::responder::{Reply, Responder};
use crate::tls::TlsAbout;
use crate::tls::client::ClientTls;
use crate::wire::kind::Kind;
use crate::wire::packet::Packet;

/// A name and a password.
#[derive(Clone, Debug)]
pub struct Login {
    /// The name.
    pub name: String,
    /// The password.
    pub password: Secret,
    /// The password to change to, where the server asks for a change.
    pub new_password: Option<Secret>,
}

impl Login {
    /// A name and a password.
    pub fn new(name: &str, password: &str) -> Self {
        Self { name: name.to_owned(), password: Secret::new(password.as_bytes()), new_password: None }
    }

    fn text(&self) -> &str {
        std::str::from_utf8(self.password.expose()).unwrap_or_default()
    }
}

/// How a peer proves who it is.
#[derive(Clone, Debug)]
pub enum PeerMethod {
    /// EAP-MD5.
    Md5(Login),
    /// EAP-GTC.
    Gtc(Login),
    /// EAP-MSCHAPv2.
    MsChapV2(Login),
    /// EAP-TLS.
    Tls(ClientTls),
    /// PEAP.
    Peap {
        /// The TLS side.
        tls: ClientTls,
        /// The identity inside.
        identity: String,
        /// The method inside.
        inner: Box<PeerMethod>,
        /// Whether it proves that tunnel and method belong together; some cannot.
        binds: bool,
    },
    /// EAP-TTLS.
    Ttls(ClientTls, Tunnelled),
    /// TEAP, with what there is of a user and a machine.
    Teap {
        /// The TLS side.
        tls: ClientTls,
        /// The user.
        user: Option<Tunnelled>,
        /// The machine.
        machine: Option<Tunnelled>,
    },
}

/// What goes through a tunnel.
#[derive(Clone, Debug)]
pub enum Tunnelled {
    /// The password itself; in TEAP, basic password authentication.
    Password(Login),
    /// CHAP (EAP-TTLS only).
    Chap(Login),
    /// MS-CHAP (EAP-TTLS only).
    MsChap(Login),
    /// MS-CHAP version 2 (EAP-TTLS only).
    MsChapV2(Login),
    /// An EAP method, with the identity told inside.
    Eap(String, Box<PeerMethod>),
}

impl PeerMethod {
    /// PEAP by a peer that proves that tunnel and method belong together.
    pub fn peap(tls: ClientTls, identity: String, inner: Box<Self>) -> Self {
        Self::Peap { tls, identity, inner, binds: true }
    }

    /// The method's type.
    pub fn kind(&self) -> Kind {
        match self {
            Self::Md5(_) => Kind::MD5,
            Self::Gtc(_) => Kind::GTC,
            Self::MsChapV2(_) => Kind::MSCHAPV2,
            Self::Tls(_) => Kind::TLS,
            Self::Peap { .. } => Kind::PEAP,
            Self::Ttls(..) => Kind::TTLS,
            Self::Teap { .. } => Kind::TEAP,
        }
    }

    fn start(&self, room: usize) -> Result<Box<dyn Method>, Failure> {
        Ok(match self {
            Self::Md5(login) => Box::new(challenge::Md5Challenge::new(login.clone())),
            Self::Gtc(login) => Box::new(token::Token::new(login.clone())),
            Self::MsChapV2(login) => Box::new(mschapv2::MsChapV2::new(login.clone())),
            Self::Tls(tls) => Box::new(tls::Tls::new(tls, room)?),
            Self::Peap { tls, identity, inner, binds } => {
                Box::new(peap::Peap::new(tls, identity, (**inner).clone(), *binds, room)?)
            }
            Self::Ttls(tls, inner) => Box::new(ttls::Ttls::new(tls, inner.clone(), room)?),
            Self::Teap { tls, user, machine } => Box::new(teap::Teap::new(tls, user.clone(), machine.clone(), room)?),
        })
    }
}

/// What methods are given on every call.
pub(crate) struct Context<'c> {
    pub(crate) random: &'c mut Random,
    /// Of the request.
    pub(crate) identifier: u8,
}

/// What a method answers.
pub(crate) enum Turn {
    /// A response with this type-data.
    Response(Vec<u8>),
    /// Nothing more; the server's end is awaited.
    Failed(Failure),
}

impl From<Failure> for Turn {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}

/// One method at work.
pub(crate) trait Method: Send + Sync + fmt::Debug {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn;
    /// Whether the server has proved enough for its success to be believed.
    fn is_done(&self) -> bool;
    /// Why it failed, where it knows.
    fn failure(&self) -> Option<Failure>;
    fn keys(&self) -> Option<Keys>;
    fn tls(&self) -> Option<Arc<TlsAbout>> {
        None
    }
}

/// One peer in one conversation.
pub struct Peer {
    responder: Responder,
    random: Random,
    room: usize,
}

/// What comes of a packet.
#[derive(Debug)]
pub enum PeerStep {
    /// Send this packet.
    Send(Vec<u8>),
    /// The end: we are in, with keys where the method makes some.
    Success(Option<Keys>),
    /// The end: we are not.
    Failure(Failure),
    /// The packet was dropped.
    Ignore(&'static str),
}

impl Peer {
    /// A peer that tells this identity outside any tunnel, and sends EAP packets
    /// of at most `room` bytes.
    pub fn new(identity: &str, method: PeerMethod, room: usize, random: Random) -> Self {
        Self { responder: Responder::new(identity, method), random, room }
    }

    /// Takes a packet of the server.
    pub fn receive(&mut self, bytes: &[u8]) -> PeerStep {
        let Ok(packet) = Packet::parse(bytes) else { return PeerStep::Ignore("no EAP packet") };
        match self.responder.receive(&packet, self.room, &mut self.random) {
            Reply::Send(packet) => PeerStep::Send(packet),
            Reply::Success(keys) => PeerStep::Success(keys),
            Reply::Failure(failure) => PeerStep::Failure(failure),
            Reply::Ignore(why) => PeerStep::Ignore(why),
        }
    }

    /// What is known of the TLS connection, where there is one.
    pub fn tls(&self) -> Option<Arc<TlsAbout>> {
        self.responder.tls()
    }
}

impl fmt::Debug for Peer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Peer").field("responder", &self.responder).finish_non_exhaustive()
    }
}
