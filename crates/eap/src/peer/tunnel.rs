use std::sync::Arc;

use crate::failure::{Failure, TlsFailure};
use crate::keys::Keys;
use crate::tls::client::ClientTls;
use crate::tls::{Engine, TlsAbout, TlsVersion, export_keys, session_id};
use crate::wire::framing::{Framing, Received};
use crate::wire::kind::Kind;

/// TLS in EAP packets at the peer's end: the mirror of the server's.
#[derive(Debug)]
pub(crate) struct Tunnel {
    pub(crate) engine: Box<dyn Engine>,
    framing: Framing,
    kind: Kind,
    failed: Option<Failure>,
    started: bool,
    established: bool,
}

/// What came of a packet.
#[derive(Debug)]
pub(crate) enum Event {
    /// Answer this.
    Reply(Vec<u8>),
    /// The handshake is over for us. What the library wants to send still waits.
    Established,
    /// This came through the tunnel; nothing, where only tickets came.
    Plain(Vec<u8>),
    /// It is over.
    Failed(Failure),
}

impl Tunnel {
    pub(crate) fn new(tls: &ClientTls, kind: Kind, version: u8, room: usize) -> Result<Self, Failure> {
        let engine = tls.connect().map_err(|error| Failure::Tls(TlsFailure::Other(error.to_string())))?;
        let framing = Framing::new(kind, version, room);
        Ok(Self { engine: Box::new(engine), framing, kind, failed: None, started: false, established: false })
    }

    pub(crate) fn receive(&mut self, data: &[u8]) -> Event {
        let message = match self.framing.receive(data) {
            Ok(Received::Start { .. }) if !self.started => {
                self.started = true;
                return Event::Reply(self.send(&[]));
            }
            Ok(Received::Start { .. }) => return Event::Failed(Failure::Unexpected("a second start")),
            Ok(Received::Message(message)) => message,
            Ok(Received::Fragment) => return Event::Reply(self.framing.acknowledgement()),
            Ok(Received::Acknowledged) => {
                return match self.framing.next() {
                    Some(next) => Event::Reply(next),
                    None if self.established => Event::Plain(Vec::new()),
                    None => Event::Failed(Failure::Unexpected("an empty message")),
                };
            }
            Err(failure) => return Event::Failed(failure),
        };
        if let Err(failure) = self.engine.receive(&message) {
            self.failed = Some(Failure::Tls(failure));
            return Event::Reply(self.send(&[]));
        }
        if self.engine.is_handshaking() {
            return Event::Reply(self.send(&[]));
        }
        match std::mem::replace(&mut self.established, true) {
            false => Event::Established,
            true => Event::Plain(self.engine.read()),
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

    pub(crate) fn outer_of_server(&self) -> &[u8] {
        self.framing.outer()
    }

    pub(crate) fn failure(&self) -> Option<Failure> {
        self.failed.clone()
    }

    pub(crate) fn about(&self) -> &Arc<TlsAbout> {
        self.engine.about()
    }

    pub(crate) fn is_1_3(&self) -> bool {
        self.about().version == Some(TlsVersion::Tls13)
    }

    pub(crate) fn keys(&self, label_of_1_2: &str) -> Result<Keys, Failure> {
        let keys = export_keys(&*self.engine, self.kind, label_of_1_2).map_err(Failure::Tls)?;
        Ok(Keys::new(&keys[..64], Some(&keys[64..]), session_id(&*self.engine, self.kind)))
    }

    pub(crate) fn export(&self, label: &str, out: &mut [u8]) -> Result<(), Failure> {
        self.engine.export(label, None, out).map_err(Failure::Tls)
    }
}
