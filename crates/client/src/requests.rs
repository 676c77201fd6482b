use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use regnant_radius::{Code, Packet, ReplyError, SharedSecret, check_accounting_reply, check_reply};

use crate::ask::AskError;
use crate::backoff::Patience;

/// A server that stayed silent is asked last for this long.
const SILENT_FOR: Duration = Duration::from_secs(30);

/// A server that may be asked.
#[derive(Clone, Debug)]
pub struct Server {
    /// Where it listens.
    pub address: SocketAddr,
    /// The secret shared with it.
    pub secret: SharedSecret,
}

/// Makes a request for an identifier, an authenticator that is fresh, and a secret.
pub type Make = Arc<dyn Fn(u8, &[u8; 16], &SharedSecret) -> Result<Vec<u8>, AskError> + Send + Sync>;

/// Fills bytes with unpredictable values.
pub type Random = Box<dyn FnMut(&mut [u8]) + Send>;

/// Requests under way from one socket: at most 256 at a time, since the identifier has
/// one byte (RFC 2865 section 3).
///
/// After [`Self::begin`] and after every wait until [`Self::due`], take everything that
/// [`Self::poll`] gives; hand every datagram to [`Self::receive`]. `T` is whatever the
/// caller knows its requests by.
pub struct Requests<T> {
    servers: Vec<State>,
    patience: Patience,
    /// By identifier.
    pending: Vec<Option<Pending<T>>>,
    next: u8,
    under_way: usize,
    random: Random,
}

struct State {
    server: Server,
    silent_until: Option<Instant>,
}

struct Pending<T> {
    token: T,
    make: Make,
    /// The server that is asked, and those that were.
    server: usize,
    asked: u64,
    /// Whether another server will do.
    movable: bool,
    bytes: Vec<u8>,
    began: Instant,
    wait: Option<Duration>,
    due: Instant,
    tries: u32,
    ignored: Option<ReplyError>,
}

/// What [`Requests::begin`] gives where no request can be begun.
#[derive(Debug)]
pub enum Full {
    /// Every identifier is under way.
    Identifiers,
    /// The request cannot be made.
    Ask(AskError),
}

/// What to do next.
#[derive(Debug, PartialEq, Eq)]
pub enum Output<T> {
    /// Send this.
    Transmit {
        /// To whom.
        to: SocketAddr,
        /// The packet.
        bytes: Vec<u8>,
        /// Whether it was sent before.
        again: bool,
    },
    /// Nobody answered.
    Unanswered {
        /// Which request.
        token: T,
        /// Why the last reply that came was not believed, where one came.
        ignored: Option<ReplyError>,
        /// The server that was asked last.
        server: SocketAddr,
    },
}

/// What a datagram is.
#[derive(Debug)]
pub enum Received<T> {
    /// The reply to a request.
    Reply {
        /// Which.
        token: T,
        /// The packet, checked.
        bytes: Vec<u8>,
        /// The Request Authenticator that it answers to.
        authenticator: [u8; 16],
        /// The server that answered, by its place.
        server: usize,
        /// Since the request was first sent.
        took: Duration,
    },
    /// No reply that is waited for: late, repeated or forged.
    Ignored(Option<ReplyError>),
}

/// Where a request goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Begun {
    /// To the first server that answers.
    Anywhere,
    /// To this one, by its place: it goes on with what only that one knows.
    At(usize),
}

impl<T> Requests<T> {
    /// Requests to the first of these servers that answers; there must be one. `random`
    /// fills bytes with unpredictable values.
    pub fn new(servers: Vec<Server>, patience: Patience, random: Random) -> Self {
        assert!((1..=64).contains(&servers.len()), "there are 1 to 64 servers");
        let servers = servers.into_iter().map(|server| State { server, silent_until: None }).collect();
        let pending = (0..=u8::MAX).map(|_| None).collect();
        let mut requests = Self { servers, patience, pending, next: 0, under_way: 0, random };
        requests.next = requests.random_byte();
        requests
    }

    /// How many are under way.
    pub fn under_way(&self) -> usize {
        self.under_way
    }

    /// The secret of a server, by its place.
    pub fn secret(&self, server: usize) -> &SharedSecret {
        &self.servers[server].server.secret
    }

    /// Begins a request; the token comes back where there is no room for it.
    pub fn begin(&mut self, token: T, make: Make, to: Begun, now: Instant) -> Result<(), (T, Full)> {
        // Identifiers come round as late as they can, so that a late reply meets no other
        // request.
        let free =
            (0..=u8::MAX).map(|step| self.next.wrapping_add(step)).find(|id| self.pending[usize::from(*id)].is_none());
        let Some(identifier) = free else { return Err((token, Full::Identifiers)) };
        self.next = identifier.wrapping_add(1);
        let (server, movable) = match to {
            Begun::Anywhere => (self.best(0, now).unwrap_or(0), true),
            Begun::At(server) => (server, false),
        };
        let bytes = match self.make(&make, identifier, server) {
            Ok(bytes) => bytes,
            Err(error) => return Err((token, Full::Ask(error))),
        };
        self.pending[usize::from(identifier)] = Some(Pending {
            token,
            make,
            server,
            asked: 1 << server,
            movable,
            bytes,
            began: now,
            wait: None,
            due: now,
            tries: 0,
            ignored: None,
        });
        self.under_way += 1;
        Ok(())
    }

    /// What is to be done now; call it until it gives nothing.
    pub fn poll(&mut self, now: Instant) -> Option<Output<T>> {
        let due = |pending: &Option<Pending<T>>| pending.as_ref().is_some_and(|pending| pending.due <= now);
        let place = self.pending.iter().position(due)?;
        let random = u16::from_be_bytes([self.random_byte(), self.random_byte()]);
        let tries = self.patience.tries;
        if let Some(pending) = self.pending[place].as_mut().filter(|pending| pending.tries < tries) {
            let wait = self.patience.wait(pending.wait, random);
            (pending.wait, pending.due) = (Some(wait), now + wait);
            pending.tries += 1;
            let (to, again) = (self.servers[pending.server].server.address, pending.tries > 1);
            return Some(Output::Transmit { to, bytes: pending.bytes.clone(), again });
        }
        let mut pending = self.pending[place].take()?;
        self.servers[pending.server].silent_until = Some(now + SILENT_FOR);
        let other = pending.movable.then(|| self.best(pending.asked, now)).flatten();
        if let Some(other) = other
            && let Ok(bytes) = self.make(&pending.make, place as u8, other)
        {
            (pending.server, pending.bytes, pending.wait, pending.tries) = (other, bytes, None, 0);
            pending.asked |= 1 << other;
            self.pending[place] = Some(pending);
            return self.poll(now);
        }
        self.under_way -= 1;
        let server = self.servers[pending.server].server.address;
        Some(Output::Unanswered { token: pending.token, ignored: pending.ignored, server })
    }

    /// When [`Self::poll`] has something to give, where nothing comes before.
    pub fn due(&self) -> Option<Instant> {
        self.pending.iter().flatten().map(|pending| pending.due).min()
    }

    /// Takes a datagram from a server.
    pub fn receive(&mut self, from: SocketAddr, bytes: &[u8], now: Instant) -> Received<T> {
        let Some(identifier) = bytes.get(1).copied() else { return Received::Ignored(None) };
        let Some(pending) = &mut self.pending[usize::from(identifier)] else { return Received::Ignored(None) };
        let state = &mut self.servers[pending.server];
        if state.server.address != from {
            return Received::Ignored(None);
        }
        let authenticator = *pending.bytes.get(4..).and_then(<[u8]>::first_chunk).unwrap_or(&[0; 16]);
        let report = pending.bytes.first() == Some(&Code::ACCOUNTING_REQUEST.0);
        let check = if report { check_accounting_reply } else { check_reply };
        if let Err(error) = check(bytes, identifier, &authenticator, &state.server.secret) {
            pending.ignored = Some(error);
            return Received::Ignored(Some(error));
        }
        state.silent_until = None;
        let Some(pending) = self.pending[usize::from(identifier)].take() else { return Received::Ignored(None) };
        self.under_way -= 1;
        // What comes behind the packet is padding (RFC 2865 section 3).
        let length = Packet::parse(bytes).map_or(bytes.len(), |packet| packet.as_bytes().len());
        Received::Reply {
            token: pending.token,
            bytes: bytes[..length].to_vec(),
            authenticator,
            server: pending.server,
            took: now.duration_since(pending.began),
        }
    }

    /// The first server that was not asked, silent ones last.
    fn best(&self, asked: u64, now: Instant) -> Option<usize> {
        let free = || (0..self.servers.len()).filter(|place| asked & (1 << place) == 0);
        let talks = |place: &usize| self.servers[*place].silent_until.is_none_or(|until| until <= now);
        free().find(talks).or_else(|| free().next())
    }

    fn make(&mut self, make: &Make, identifier: u8, server: usize) -> Result<Vec<u8>, AskError> {
        let mut authenticator = [0; 16];
        (self.random)(&mut authenticator);
        make(identifier, &authenticator, &self.servers[server].server.secret)
    }

    fn random_byte(&mut self) -> u8 {
        let mut byte = [0];
        (self.random)(&mut byte);
        byte[0]
    }
}
