use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::Keys;
use crate::peer::tunnel::{Event, Tunnel};
use crate::peer::{Context, Method, Turn};
use crate::server::tls::COMMITMENT;
use crate::tls::TlsAbout;
use crate::tls::client::ClientTls;
use crate::wire::kind::Kind;

/// EAP-TLS (RFC 5216, RFC 9190).
#[derive(Debug)]
pub(crate) struct Tls {
    tunnel: Tunnel,
    keys: Option<Keys>,
    done: bool,
}

impl Tls {
    pub(crate) fn new(tls: &ClientTls, room: usize) -> Result<Self, Failure> {
        Ok(Self { tunnel: Tunnel::new(tls, Kind::TLS, 0, room)?, keys: None, done: false })
    }
}

impl Method for Tls {
    fn receive(&mut self, data: &[u8], _: &mut Context<'_>) -> Turn {
        match self.tunnel.receive(data) {
            Event::Reply(reply) => Turn::Response(reply),
            Event::Failed(failure) => failure.into(),
            Event::Established => match self.tunnel.keys("client EAP encryption") {
                Ok(keys) => {
                    self.keys = Some(keys);
                    self.done = !self.tunnel.is_1_3();
                    Turn::Response(self.tunnel.send(&[]))
                }
                Err(failure) => failure.into(),
            },
            Event::Plain(plain) => {
                self.done |= plain == COMMITMENT;
                Turn::Response(self.tunnel.send(&[]))
            }
        }
    }

    fn is_done(&self) -> bool {
        self.done
    }

    fn failure(&self) -> Option<Failure> {
        self.tunnel.failure()
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn tls(&self) -> Option<Arc<TlsAbout>> {
        Some(self.tunnel.about().clone())
    }
}
