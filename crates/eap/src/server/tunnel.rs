use std::sync::Arc;

use crate::failure::{Failure, TlsFailure};
use crate::keys::Keys;
use crate::server::Context;
use crate::tls::server::ServerTls;
use crate::tls::{Engine, TlsAbout, TlsVersion, export_keys, session_id};
use crate::wire::framing::{Framing, Received};
use crate::wire::kind::Kind;

/// TLS in EAP packets at the server's end: what EAP-TLS and the tunnels share.
#[derive(Debug)]
pub(crate) struct Tunnel {
    pub(crate) engine: Box<dyn Engine>,
    framing: Framing,
    kind: Kind,
    /// Why it failed, once an alert is on its way to the peer.
    failing: Option<Failure>,
    established: bool,
    /// Whether the peer must present a certificate.
    asks_certificate: bool,
    /// Whether the Session-Id is wanted.
    session_id: bool,
}

/// What came of a packet.
#[derive(Debug)]
pub(crate) enum Event {
    /// Send this and wait.
    Reply(Vec<u8>),
    /// The handshake is over; this came with its last message. What the library
    /// wants to send still waits.
    Established(Vec<u8>),
    /// This came through the tunnel.
    Plain(Vec<u8>),
    /// The peer has all that was sent.
    Acknowledged,
    /// It is over.
    Failed(Failure),
}

impl Tunnel {
    pub(crate) fn new(
        tls: &ServerTls,
        kind: Kind,
        version: u8,
        asks_certificate: bool,
        cx: &Context<'_>,
    ) -> Result<Self, Failure> {
        let sessions = cx.sessions.filter(|_| !cx.inside).cloned();
        let engine = tls
            .connect(asks_certificate, sessions)
            .map_err(|error| Failure::Tls(TlsFailure::Other(error.to_string())))?;
        // A message inside a tunnel travels in records with headers of their own.
        let room = if cx.inside { cx.room.saturating_sub(120) } else { cx.room };
        let framing = Framing::new(kind, version, room);
        Ok(Self {
            engine: Box::new(engine),
            framing,
            kind,
            failing: None,
            established: false,
            asks_certificate,
            session_id: cx.session_id,
        })
    }

    /// Why it fails, once an alert is on its way.
    pub(crate) fn failing(&self) -> Option<Failure> {
        self.failing.clone()
    }

    pub(crate) fn start(&self, outer: &[u8]) -> Vec<u8> {
        self.framing.start(outer)
    }

    pub(crate) fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Event {
        if let Some(failure) = self.failing.take() {
            return Event::Failed(failure);
        }
        let event = self.take(data);
        note(self.engine.about().clone(), cx);
        event
    }

    fn take(&mut self, data: &[u8]) -> Event {
        let message = match self.framing.receive(data) {
            Ok(Received::Message(message)) => message,
            Ok(Received::Fragment) => return Event::Reply(self.framing.acknowledgement()),
            Ok(Received::Acknowledged) => return self.framing.next().map_or(Event::Acknowledged, Event::Reply),
            Ok(Received::Start { .. }) => return Event::Failed(Failure::Unexpected("a start from the peer")),
            Err(failure) => return Event::Failed(failure),
        };
        if self.framing.is_sending() {
            return Event::Failed(Failure::Unexpected("a message before ours was acknowledged"));
        }
        if let Err(failure) = self.engine.receive(&message) {
            let alert = self.engine.records();
            return match alert.is_empty() {
                true => Event::Failed(Failure::Tls(failure)),
                // RFC 5216 section 2.1.3: the alert goes out, and the peer's answer
                // to it is awaited before EAP-Failure.
                false => {
                    self.failing = Some(Failure::Tls(failure));
                    Event::Reply(self.framing.send(alert))
                }
            };
        }
        if self.engine.is_handshaking() {
            let records = self.engine.records();
            return Event::Reply(self.framing.send(records));
        }
        let plain = self.engine.read();
        match std::mem::replace(&mut self.established, true) {
            false => Event::Established(plain),
            true => Event::Plain(plain),
        }
    }

    /// Sends what the library wants to send, with this in the tunnel.
    pub(crate) fn send(&mut self, plain: &[u8]) -> Vec<u8> {
        if !plain.is_empty() {
            self.engine.write(plain);
        }
        let records = self.engine.records();
        self.framing.send(records)
    }

    /// Sends the end of our handshake, where there is more of it.
    pub(crate) fn rest_of_handshake(&mut self) -> Option<Vec<u8>> {
        let records = self.engine.records();
        (!records.is_empty()).then(|| self.framing.send(records))
    }

    /// Tells the peer by an alert that it may not come in; its answer is awaited
    /// before the end (RFC 9190 section 2.1.3).
    pub(crate) fn refuse(&mut self) -> Option<Vec<u8>> {
        let alert = self.engine.refuse()?;
        self.failing = Some(Failure::Refused);
        Some(self.framing.send(alert))
    }

    /// Whether the peer's next packet may want public-key cryptography: to agree on
    /// keys, or for its certificate. While fragments of ours are on their way it
    /// only acknowledges.
    pub(crate) fn may_need_public_key(&self) -> bool {
        let awaited = self.asks_certificate || self.about().group.is_none();
        awaited && self.engine.is_handshaking() && !self.framing.is_sending()
    }

    pub(crate) fn outer_of_peer(&self) -> &[u8] {
        self.framing.outer()
    }

    pub(crate) fn is_1_3(&self) -> bool {
        self.about().version == Some(TlsVersion::Tls13)
    }

    pub(crate) fn about(&self) -> &Arc<TlsAbout> {
        self.engine.about()
    }

    /// MSK and EMSK of the handshake alone.
    pub(crate) fn keys(&self, label_of_1_2: &str) -> Result<Keys, Failure> {
        let keys = export_keys(&*self.engine, self.kind, label_of_1_2).map_err(Failure::Tls)?;
        Ok(Keys::new(&keys[..64], Some(&keys[64..]), self.session_id()))
    }

    /// The Session-Id, where it is wanted; else empty.
    pub(crate) fn session_id(&self) -> Vec<u8> {
        if self.session_id { session_id(&*self.engine, self.kind) } else { Vec::new() }
    }

    pub(crate) fn export(&self, label: &str, context: Option<&[u8]>, out: &mut [u8]) -> Result<(), Failure> {
        self.engine.export(label, context, out).map_err(Failure::Tls)
    }
}

fn note(about: Arc<TlsAbout>, cx: &mut Context<'_>) {
    match cx.inside {
        true => cx.about.inner_now().into_iter().for_each(|inner| inner.tls = Some(about.clone())),
        false => cx.about.tls = Some(about),
    }
}
