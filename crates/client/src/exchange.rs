use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::{Duration, Instant};

use regnant_radius::{Code, Dictionary, MAX_LEN, Packet, ReplyError, number};
use thiserror::Error;

use crate::ask::{Ask, AskError};
use crate::backoff::Patience;
use crate::conversation::{Conversation, Progress, SupplicantView};
use crate::requests::{Begun, Full, Output, Received, Requests, Server};

/// How somebody asks, one login at a time: from where, whom, how patiently.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// The address that requests come from.
    pub from: IpAddr,
    /// The servers, the first that answers is asked.
    pub servers: Vec<Server>,
    /// Whether requests carry Message-Authenticator.
    pub signed: bool,
    /// How patiently.
    pub patience: Patience,
}

/// A reply that was checked against its request.
#[derive(Clone, Debug)]
pub struct Reply {
    /// Accept or reject; of a report, its response.
    pub code: Code,
    /// Its attributes by name.
    pub attributes: Vec<(String, String)>,
    /// Its Class attributes, which reports repeat.
    pub classes: Vec<Vec<u8>>,
    /// The server that answered.
    pub server: SocketAddr,
    /// From the first request to the reply.
    pub took: Duration,
    /// What the supplicant makes of it, where there is one.
    pub supplicant: Option<SupplicantView>,
}

impl Reply {
    /// Whether a supplicant, where there is one, agrees that it is in.
    pub fn is_believed(&self) -> bool {
        self.supplicant.as_ref().is_none_or(|view| view.believed && view.same_keys != Some(false))
    }

    /// The first attribute of this name.
    pub fn first(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// Every attribute of this name.
    pub fn all(&self, name: &str) -> Vec<String> {
        self.attributes.iter().filter(|(known, _)| known == name).map(|(_, value)| value.clone()).collect()
    }
}

impl Exchange {
    /// Asks and waits for the end: one reply, or a whole conversation.
    pub fn ask(&self, ask: &Ask, dictionary: &Arc<Dictionary>) -> Result<Reply, ExchangeError> {
        let random = |bytes: &mut [u8]| getrandom::fill(bytes).expect("the system gives random bytes");
        let mut requests = Requests::new(self.servers.clone(), self.patience, Box::new(random));
        let sockets = self.servers.iter().map(|server| self.socket(server.address)).collect::<Result<Vec<_>, _>>()?;
        let mut conversation = Conversation::new(Arc::new(ask.clone()), dictionary.clone(), self.signed);
        let (started, mut to) = (Instant::now(), Begun::Anywhere);
        loop {
            if let Err(((), full)) = requests.begin((), conversation.request(), to, Instant::now()) {
                return Err(match full {
                    Full::Ask(error) => error.into(),
                    Full::Identifiers => unreachable!("one request is under way at a time"),
                });
            }
            let (bytes, authenticator, server) = self.wait(&mut requests, &sockets)?;
            let packet = Packet::parse(&bytes).expect("these very bytes were checked");
            match conversation.reply(&packet, &authenticator, requests.secret(server)) {
                // Only the server that gave the State knows it.
                Progress::Next => to = Begun::At(server),
                Progress::Silent => return Err(ExchangeError::Silent),
                Progress::Endless => return Err(ExchangeError::Endless),
                Progress::Done(supplicant) => {
                    return Ok(Reply {
                        code: packet.code(),
                        attributes: dictionary.show(&packet),
                        classes: packet.all(number::CLASS).map(<[u8]>::to_vec).collect(),
                        server: self.servers[server].address,
                        took: started.elapsed(),
                        supplicant,
                    });
                }
            }
        }
    }

    fn socket(&self, server: SocketAddr) -> Result<UdpSocket, ExchangeError> {
        let socket = UdpSocket::bind((self.from, 0)).map_err(|error| ExchangeError::From(self.from, error))?;
        socket.connect(server)?;
        Ok(socket)
    }

    /// Sends what there is to send until the reply comes.
    fn wait(
        &self,
        requests: &mut Requests<()>,
        sockets: &[UdpSocket],
    ) -> Result<(Vec<u8>, [u8; 16], usize), ExchangeError> {
        let (mut closed, mut current) = (false, 0);
        loop {
            while let Some(output) = requests.poll(Instant::now()) {
                match output {
                    Output::Transmit { to, bytes, .. } => {
                        current = self.servers.iter().position(|server| server.address == to).unwrap_or(0);
                        // A closed port shows on the next call.
                        closed |= is_closed(&sockets[current].send(&bytes));
                    }
                    Output::Unanswered { ignored: None, server, .. } if closed => {
                        return Err(ExchangeError::Closed(server));
                    }
                    Output::Unanswered { ignored, .. } => {
                        return Err(ExchangeError::NoAnswer { tries: self.patience.tries, ignored });
                    }
                }
            }
            let left = requests.due().map_or(Duration::ZERO, |due| due.saturating_duration_since(Instant::now()));
            if left.is_zero() {
                continue;
            }
            sockets[current].set_read_timeout(Some(left))?;
            let mut buffer = [0; MAX_LEN];
            let received = sockets[current].recv(&mut buffer);
            closed |= is_closed(&received);
            match received {
                Ok(length) => {
                    let from = self.servers[current].address;
                    if let Received::Reply { bytes, authenticator, server, .. } =
                        requests.receive(from, &buffer[..length], Instant::now())
                    {
                        return Ok((bytes, authenticator, server));
                    }
                }
                // Nobody listens there now; somebody may when it is sent again.
                Err(_) if closed => std::thread::sleep(left),
                Err(_) => {}
            }
        }
    }
}

fn is_closed(result: &io::Result<usize>) -> bool {
    result.as_ref().is_err_and(|error| error.kind() == io::ErrorKind::ConnectionRefused)
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
        /// How often it was sent to each server.
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
