use crate::failure::Failure;
use crate::keys::Keys;
use crate::server::credential::Answer;
use crate::server::tunnel::{Event, Tunnel};
use crate::server::{Context, Method, Turn};
use crate::tls::server::ServerTls;
use crate::wire::kind::Kind;

/// EAP-TLS (RFC 5216, and RFC 9190 for TLS 1.3).
#[derive(Debug)]
pub(crate) struct Tls {
    tunnel: Tunnel,
    state: State,
    keys: Option<Keys>,
}

#[derive(Debug, PartialEq, Eq)]
enum State {
    Handshake,
    /// Our Finished is out; the peer acknowledges it (TLS 1.2).
    Finished,
    Proved,
    /// The protected success indication is out (RFC 9190 section 2.1.1).
    Indicated,
}

/// RFC 9190 section 2.5: one byte of zero says that no more handshake follows.
pub(crate) const COMMITMENT: &[u8] = &[0];

impl Tls {
    pub(crate) fn new(tls: &ServerTls, cx: &Context<'_>) -> Result<Self, Failure> {
        Ok(Self { tunnel: Tunnel::new(tls, Kind::TLS, 0, true, cx)?, state: State::Handshake, keys: None })
    }

    fn established(&mut self) -> Turn {
        match self.tunnel.keys("client EAP encryption") {
            Ok(keys) => self.keys = Some(keys),
            Err(failure) => return failure.into(),
        }
        // With TLS 1.3 a ticket waits; it goes out with the indication, so that
        // nobody who is refused has one.
        if !self.tunnel.is_1_3()
            && let Some(finished) = self.tunnel.rest_of_handshake()
        {
            self.state = State::Finished;
            return Turn::Request(finished);
        }
        self.state = State::Proved;
        Turn::Proved
    }
}

impl Method for Tls {
    fn kind(&self) -> Kind {
        Kind::TLS
    }

    fn begin(&mut self, _: &mut Context<'_>) -> Turn {
        Turn::Request(self.tunnel.start(&[]))
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match (self.tunnel.receive(data, cx), &self.state) {
            (Event::Reply(reply), _) => Turn::Request(reply),
            (Event::Failed(failure), _) => failure.into(),
            (Event::Established(plain), _) if plain.is_empty() => self.established(),
            (Event::Acknowledged, State::Finished) => {
                self.state = State::Proved;
                Turn::Proved
            }
            (Event::Acknowledged, State::Indicated) => Turn::Success,
            _ => Failure::Unexpected("a message out of turn in EAP-TLS").into(),
        }
    }

    fn answer(&mut self, _: Answer, _: &mut Context<'_>) -> Turn {
        Failure::Unexpected("an answer that nobody asked for").into()
    }

    fn conclude(&mut self, accept: bool, _: &mut Context<'_>) -> Turn {
        match accept {
            true if self.tunnel.is_1_3() => {
                self.state = State::Indicated;
                Turn::Request(self.tunnel.send(COMMITMENT))
            }
            true => Turn::Success,
            // With TLS 1.2 our Finished was the last that could be said.
            false if !self.tunnel.is_1_3() => Failure::Refused.into(),
            false => self.tunnel.refuse().map_or(Failure::Refused.into(), Turn::Request),
        }
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn failing(&self) -> Option<Failure> {
        self.tunnel.failing()
    }

    fn may_need_public_key(&self) -> bool {
        self.tunnel.may_need_public_key()
    }
}
