use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::time::{Duration, Instant};

use regnant_radius::{Code, Dictionary, MAX_LEN, ReplyError, SharedSecret, check_reply};
use thiserror::Error;

use crate::ask::{Ask, AskError};

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
    /// From the request to the reply.
    pub took: Duration,
}

impl Exchange {
    /// Sends a request and waits for its reply; the same packet again after each
    /// wait (RFC 5080 section 2.2.1).
    pub fn ask(&self, ask: &Ask, dictionary: &Dictionary) -> Result<Reply, ExchangeError> {
        let mut random = [0; 17];
        getrandom::fill(&mut random).map_err(|error| ExchangeError::Io(io::Error::other(error)))?;
        let [identifier, authenticator @ ..] = random;
        let packet = ask.packet(identifier, &authenticator, &self.secret, self.signed, dictionary)?;
        let socket = UdpSocket::bind((self.from, 0)).map_err(|error| ExchangeError::From(self.from, error))?;
        socket.connect(self.server)?;
        let started = Instant::now();
        let mut ignored = None;
        for _ in 0..self.tries {
            // A closed port shows on the next call; no answer says the same.
            let _ = socket.send(&packet);
            let until = Instant::now() + self.wait;
            while let Some(left) = until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero()) {
                socket.set_read_timeout(Some(left))?;
                let mut buffer = [0; MAX_LEN];
                let Ok(length) = socket.recv(&mut buffer) else { break };
                match check_reply(&buffer[..length], identifier, &authenticator, &self.secret) {
                    Ok(reply) => {
                        let attributes = dictionary.show(&reply);
                        return Ok(Reply { code: reply.code(), attributes, took: started.elapsed() });
                    }
                    Err(error) => ignored = Some(error),
                }
            }
        }
        Err(ExchangeError::NoAnswer { tries: self.tries, ignored })
    }
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
}
