use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::Keys;
use crate::peer::responder::{Reply, Responder};
use crate::peer::tunnel::{Event, Tunnel};
use crate::peer::{Context, Method, PeerMethod, Turn};
use crate::tls::TlsAbout;
use crate::tls::client::ClientTls;
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};
use crate::wire::peap::{Binding, extensions, strip, unstrip};
use crate::wire::tlv::{self, Tlv};

/// PEAP version 0.
#[derive(Debug)]
pub(crate) struct Peap {
    tunnel: Tunnel,
    inner: Responder,
    binds: bool,
    room: usize,
    keys: Option<Keys>,
    failed: Option<Failure>,
}

impl Peap {
    pub(crate) fn new(
        tls: &ClientTls,
        identity: &str,
        inner: PeerMethod,
        binds: bool,
        room: usize,
    ) -> Result<Self, Failure> {
        let tunnel = Tunnel::new(tls, Kind::PEAP, 0, room)?;
        Ok(Self { tunnel, inner: Responder::new(identity, inner), binds, room, keys: None, failed: None })
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        if let Some(list) = extensions(plain, Code::Request) {
            let identifier = plain.get(1).copied().unwrap_or_default();
            return self.result(identifier, &list);
        }
        let Some(request) = unstrip(plain, Code::Request, cx.identifier) else {
            return Failure::Malformed("an empty message in the PEAP tunnel").into();
        };
        let Ok(packet) = Packet::parse(&request) else {
            return Failure::Malformed("no inner packet in the PEAP tunnel").into();
        };
        match self.inner.receive(&packet, self.room.saturating_sub(120), cx.random) {
            Reply::Send(answer) => Turn::Response(self.tunnel.send(strip(&answer))),
            Reply::Failure(failure) => failure.into(),
            Reply::Success(_) | Reply::Ignore(_) => {
                self.inner.failure().unwrap_or(Failure::Unexpected("an inner message out of turn")).into()
            }
        }
    }

    fn result(&mut self, identifier: u8, list: &[Tlv<'_>]) -> Turn {
        let resumed = self.tunnel.about().resumed;
        let told = tlv::first(list, tlv::RESULT);
        let mut answer = Vec::new();
        if told != Some(&tlv::SUCCESS) || !(resumed || self.inner.is_done()) {
            self.failed = Some(self.inner.failure().unwrap_or(Failure::GaveUp("the server refused inside the tunnel")));
            tlv::push(&mut answer, true, tlv::RESULT, &tlv::FAILURE);
        } else {
            let tunnel = match self.tunnel.keys("client EAP encryption") {
                Ok(keys) => keys,
                Err(failure) => return failure.into(),
            };
            tlv::push(&mut answer, true, tlv::RESULT, &tlv::SUCCESS);
            match tlv::first(list, tlv::CRYPTO_BINDING).filter(|_| self.binds) {
                Some(value) => {
                    let binding = Binding::new(tunnel.msk.expose(), self.inner.keys().as_ref(), resumed);
                    let Some(nonce) = binding.check_request(value) else { return Failure::Binding.into() };
                    tlv::push(&mut answer, false, tlv::CRYPTO_BINDING, &binding.response(&nonce));
                    self.keys = Some(binding.keys(tunnel.session_id));
                }
                None => self.keys = Some(tunnel),
            }
        }
        let packet = build(Code::Response, identifier, Kind::EXTENSIONS, &answer);
        Turn::Response(self.tunnel.send(&packet))
    }
}

impl Method for Peap {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match self.tunnel.receive(data) {
            Event::Reply(reply) => Turn::Response(reply),
            Event::Failed(failure) => failure.into(),
            Event::Established => Turn::Response(self.tunnel.send(&[])),
            Event::Plain(plain) if plain.is_empty() => Turn::Response(self.tunnel.send(&[])),
            Event::Plain(plain) => self.plain(&plain, cx),
        }
    }

    fn is_done(&self) -> bool {
        self.keys.is_some()
    }

    fn failure(&self) -> Option<Failure> {
        self.tunnel.failure().or_else(|| self.failed.clone())
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn tls(&self) -> Option<Arc<TlsAbout>> {
        Some(self.tunnel.about().clone())
    }
}
