use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::{Duration, Instant};

use regnant_eap::{Failure, Peer, PeerStep, TlsAbout};
use regnant_radius::{
    Code, Dictionary, MAX_LEN, Packet, ReplyError, SharedSecret, check_reply, number, read_session_keys,
};
use thiserror::Error;

use crate::ask::{Ask, AskError, Credential, Supplicant};

/// No conversation has more rounds.
const MOST_ROUNDS: usize = 200;

/// How requests are sent: from where, to whom, with which secret, how patiently.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// The address that requests come from.
    pub from: IpAddr,
    /// The server.
    pub server: SocketAddr,
    /// The shared secret.
    pub secret: SharedSecret,
    /// Whether requests carry Message-Authenticator.
    pub signed: bool,
    /// How long one try waits.
    pub wait: Duration,
    /// How often the request is sent.
    pub tries: u32,
}

/// A reply that was checked against its request.
#[derive(Clone, Debug)]
pub struct Reply {
    /// Accept or reject.
    pub code: Code,
    /// Its attributes by name.
    pub attributes: Vec<(String, String)>,
    /// From the first request to the reply.
    pub took: Duration,
    /// What the supplicant makes of it, where there is one.
    pub supplicant: Option<Heard>,
}

/// What a supplicant heard.
#[derive(Clone, Debug, Default)]
pub struct Heard {
    /// Requests that it answered.
    pub rounds: usize,
    /// Whether it believes that it is in.
    pub believed: bool,
    /// Whether the equipment was given the keys that the supplicant has; none
    /// where the method makes no keys.
    pub same_keys: Option<bool>,
    /// Why it is not in, as it sees it.
    pub failure: Option<Failure>,
    /// The TLS connection.
    pub tls: Option<Arc<TlsAbout>>,
}

/// One socket from which requests go out, one at a time.
struct Line<'x> {
    exchange: &'x Exchange,
    socket: UdpSocket,
    identifier: u8,
}

/// What came back: the packet, and the authenticator that it answers to.
struct Answer {
    bytes: Vec<u8>,
    authenticator: [u8; 16],
}

impl Answer {
    fn packet(&self) -> Packet<'_> {
        Packet::parse(&self.bytes).expect("check_reply parsed these very bytes")
    }
}

impl Exchange {
    /// Asks and waits for the end: one reply, or a whole conversation.
    pub fn ask(&self, ask: &Ask, dictionary: &Dictionary) -> Result<Reply, ExchangeError> {
        let mut line = self.line()?;
        let started = Instant::now();
        if let Credential::Eap(supplicant) = &ask.credential {
            return self.converse(&mut line, ask, supplicant, dictionary, started);
        }
        let answer = line.send(|identifier, authenticator| {
            ask.packet(identifier, authenticator, &self.secret, self.signed, dictionary)
        })?;
        Ok(Reply {
            code: answer.packet().code(),
            attributes: dictionary.show(&answer.packet()),
            took: started.elapsed(),
            supplicant: None,
        })
    }

    fn line(&self) -> Result<Line<'_>, ExchangeError> {
        let socket = UdpSocket::bind((self.from, 0)).map_err(|error| ExchangeError::From(self.from, error))?;
        socket.connect(self.server)?;
        let [identifier] = random()?;
        Ok(Line { exchange: self, socket, identifier })
    }

    /// Passes packets between a supplicant and the server, as equipment does.
    fn converse(
        &self,
        line: &mut Line<'_>,
        ask: &Ask,
        supplicant: &Supplicant,
        dictionary: &Dictionary,
        started: Instant,
    ) -> Result<Reply, ExchangeError> {
        let fill = Box::new(|bytes: &mut [u8]| getrandom::fill(bytes).expect("the system gives random bytes"));
        let mut peer = Peer::new(&supplicant.outer, supplicant.method.clone(), supplicant.room, fill);
        // The equipment itself asks for the identity (RFC 3579 section 2.1).
        let mut heard = Heard::default();
        let PeerStep::Send(mut packet) = peer.receive(&[1, 0, 0, 5, 1]) else {
            return Err(ExchangeError::Endless);
        };
        let mut state: Option<Vec<u8>> = None;
        for _ in 0..MOST_ROUNDS {
            heard.rounds += 1;
            let answer = line.send(|identifier, authenticator| {
                let eap = (&packet[..], state.as_deref());
                ask.conversation_packet(identifier, authenticator, &self.secret, dictionary, eap)
            })?;
            let reply = answer.packet();
            let told = reply.eap_message().map(|packet| peer.receive(&packet));
            if reply.code() != Code::ACCESS_CHALLENGE {
                match told {
                    Some(PeerStep::Success(keys)) => {
                        heard.believed = true;
                        heard.same_keys = keys.map(|keys| {
                            let given = read_session_keys(&reply, &answer.authenticator, &self.secret);
                            let (first, second) = keys.msk.expose().split_at(32);
                            given.is_some_and(|(receive, send)| receive.expose() == first && send.expose() == second)
                        });
                    }
                    Some(PeerStep::Failure(failure)) => heard.failure = Some(failure),
                    _ => {}
                }
                heard.tls = peer.tls();
                return Ok(Reply {
                    code: reply.code(),
                    attributes: dictionary.show(&reply),
                    took: started.elapsed(),
                    supplicant: Some(heard),
                });
            }
            state = reply.first(number::STATE).map(<[u8]>::to_vec);
            match told {
                Some(PeerStep::Send(next)) => packet = next,
                // It has nothing more to say, and the server waits in vain.
                _ => return Err(ExchangeError::Silent),
            }
        }
        Err(ExchangeError::Endless)
    }
}

impl Line<'_> {
    /// Sends a request and waits for its reply; the same packet again after each
    /// wait (RFC 5080 section 2.2.1).
    fn send(&mut self, make: impl FnOnce(u8, &[u8; 16]) -> Result<Vec<u8>, AskError>) -> Result<Answer, ExchangeError> {
        let authenticator = random()?;
        self.identifier = self.identifier.wrapping_add(1);
        let packet = make(self.identifier, &authenticator)?;
        let (mut ignored, mut closed) = (None, false);
        for _ in 0..self.exchange.tries {
            // A closed port shows on the next call.
            closed |= self.socket.send(&packet).is_err_and(|error| error.kind() == io::ErrorKind::ConnectionRefused);
            let until = Instant::now() + self.exchange.wait;
            while let Some(left) = until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero()) {
                self.socket.set_read_timeout(Some(left))?;
                let mut buffer = [0; MAX_LEN];
                let length = match self.socket.recv(&mut buffer) {
                    Ok(length) => length,
                    Err(error) => {
                        closed |= error.kind() == io::ErrorKind::ConnectionRefused;
                        break;
                    }
                };
                match check_reply(&buffer[..length], self.identifier, &authenticator, &self.exchange.secret) {
                    Ok(reply) => return Ok(Answer { bytes: reply.as_bytes().to_vec(), authenticator }),
                    Err(error) => ignored = Some(error),
                }
            }
        }
        match closed && ignored.is_none() {
            true => Err(ExchangeError::Closed(self.exchange.server)),
            false => Err(ExchangeError::NoAnswer { tries: self.exchange.tries, ignored }),
        }
    }
}

fn random<const N: usize>() -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(io::Error::other)?;
    Ok(bytes)
}

/// Why there is no reply.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ExchangeError {
    /// The request cannot be built.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The address to send from is not this machine's.
    #[error("cannot send from {0}: {1}")]
    From(IpAddr, #[source] io::Error),
    /// The system refused.
    #[error("the request cannot be sent: {0}")]
    Io(#[from] io::Error),
    /// Nothing that could be believed came.
    #[error("no answer after {tries} {}{}", if *tries == 1 { "try" } else { "tries" }, ignored.map(|error| format!("; a reply was not believed: {error}")).unwrap_or_default())]
    NoAnswer {
        /// How often it was sent.
        tries: u32,
        /// Why the last reply that came was not believed.
        ignored: Option<ReplyError>,
    },
    /// Its machine says so (ICMP port unreachable).
    #[error("nobody listens at {0}")]
    Closed(SocketAddr),
    /// The supplicant stopped half-way.
    #[error("the supplicant has nothing more to say, and the server waits for it")]
    Silent,
    /// The conversation goes on and on.
    #[error("the conversation has no end")]
    Endless,
}
