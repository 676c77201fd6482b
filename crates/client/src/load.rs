//! Very many logins at once, to learn what a server can bear.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use hdrhistogram::Histogram;
use regnant_radius::{Code, Dictionary, MAX_LEN, Packet, SharedSecret};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use thiserror::Error;

use crate::ask::{Ask, AskError};
use crate::backoff::Patience;
use crate::conversation::{Conversation, Progress};
use crate::requests::{Begun, Full, Output, Received, Requests, Server};

/// Logins under way on one socket; identifiers last for 256.
const MOST_ON_SOCKET: usize = 200;
/// Sockets, each on a thread of its own.
const MOST_SOCKETS: usize = 64;
/// Latencies are told apart up to a minute, with three digits.
const LONGEST: u64 = 60_000_000;

/// What is asked, from where, how much of it and for how long.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The server.
    pub server: SocketAddr,
    /// The equipment that asks.
    pub sources: Vec<Source>,
    /// How many logins.
    pub pace: Pace,
    /// For how long they are begun.
    pub time: Duration,
    /// How patiently.
    pub patience: Patience,
}

/// Equipment that asks.
#[derive(Clone, Debug)]
pub struct Source {
    /// Its address.
    pub from: IpAddr,
    /// The secret that it shares with the server.
    pub secret: SharedSecret,
    /// Whether its requests carry Message-Authenticator.
    pub signed: bool,
    /// What it asks, each as often as its number says.
    pub asks: Vec<(Arc<Ask>, u32)>,
}

/// How many logins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pace {
    /// So many begin a second, whatever becomes of them.
    Rate(u32),
    /// So many are under way at a time.
    Window(u32),
}

/// What came of it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Report {
    /// Seconds from the first request to the last reply.
    pub seconds: f64,
    /// Logins begun.
    pub begun: u64,
    /// Logins that ended in Access-Accept, and reports that were acknowledged.
    pub accepted: u64,
    /// Logins that ended in Access-Reject.
    pub refused: u64,
    /// Logins that nobody answered to their end.
    pub unanswered: u64,
    /// Logins whose supplicant stopped or disagreed.
    pub broken: u64,
    /// Logins that should have begun and found too many under way.
    pub held_back: u64,
    /// Packets sent again.
    pub repeated: u64,
    /// Datagrams that were no reply to anything, or not believed.
    pub ignored: u64,
    /// Packets that were answered.
    pub replies: u64,
    /// How long logins took, in microseconds: half of them at most this, then 90, 99
    /// and 99.9 of a hundred, and the longest.
    pub micros: [u64; 5],
}

impl Report {
    /// Logins that were answered to their end, in a second.
    pub fn rate(&self) -> f64 {
        (self.accepted + self.refused) as f64 / self.seconds.max(1e-9)
    }
}

/// How it goes so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct So {
    /// Logins begun.
    pub begun: u64,
    /// Logins answered to their end.
    pub answered: u64,
    /// Logins that nobody answered.
    pub unanswered: u64,
}

#[derive(Default)]
struct Counters {
    begun: AtomicU64,
    answered: AtomicU64,
    unanswered: AtomicU64,
}

/// Runs a plan to its end; `watch` hears every second how it goes.
pub fn run(plan: &Plan, dictionary: &Arc<Dictionary>, mut watch: impl FnMut(So)) -> Result<Report, LoadError> {
    let lanes = lanes(plan)?;
    let (counters, started) = (Counters::default(), Instant::now());
    let (ended, mut report) = (Mutex::new(Vec::new()), Report::default());
    let mut latencies = histogram();
    thread::scope(|scope| {
        let (counters, ended) = (&counters, &ended);
        let threads: Vec<_> = lanes
            .into_iter()
            .map(|lane| {
                scope.spawn(move || {
                    let result = lane.run(plan, dictionary, counters, started);
                    ended.lock().unwrap_or_else(PoisonError::into_inner).push(result);
                })
            })
            .collect();
        let mut next = started + Duration::from_secs(1);
        while threads.iter().any(|thread| !thread.is_finished()) {
            thread::sleep(Duration::from_millis(20));
            if Instant::now() >= next {
                next += Duration::from_secs(1);
                let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
                watch(So {
                    begun: read(&counters.begun),
                    answered: read(&counters.answered),
                    unanswered: read(&counters.unanswered),
                });
            }
        }
    });
    for result in ended.into_inner().unwrap_or_else(PoisonError::into_inner) {
        let (part, times) = result?;
        report.seconds = report.seconds.max(part.seconds);
        report.begun += part.begun;
        report.accepted += part.accepted;
        report.refused += part.refused;
        report.unanswered += part.unanswered;
        report.broken += part.broken;
        report.held_back += part.held_back;
        report.repeated += part.repeated;
        report.ignored += part.ignored;
        report.replies += part.replies;
        latencies.add(times).expect("all have the same bounds");
    }
    report.micros = [0.5, 0.9, 0.99, 0.999, 1.0].map(|part| latencies.value_at_quantile(part));
    Ok(report)
}

fn histogram() -> Histogram<u64> {
    Histogram::new_with_bounds(1, LONGEST, 3).expect("the bounds are in order")
}

/// One socket and its share of the plan.
struct Lane {
    socket: UdpSocket,
    source: Source,
    pace: LanePace,
}

#[derive(Clone, Copy)]
enum LanePace {
    Every(Duration),
    Window(usize),
}

/// Shares the plan among sockets: every source has one, and more where one has too few
/// identifiers.
fn lanes(plan: &Plan) -> Result<Vec<Lane>, LoadError> {
    let sources = plan.sources.len();
    if sources == 0 || plan.sources.iter().any(|source| source.asks.iter().all(|(_, weight)| *weight == 0)) {
        return Err(LoadError::Nothing);
    }
    if sources > MOST_SOCKETS {
        return Err(LoadError::Sources(sources));
    }
    let wanted = match plan.pace {
        // A server that takes a tenth of a second is not held up for want of sockets.
        Pace::Rate(rate) => (rate as usize / 10).div_ceil(MOST_ON_SOCKET),
        Pace::Window(window) => (window as usize).div_ceil(MOST_ON_SOCKET),
    };
    let each = wanted.div_ceil(sources).clamp(1, MOST_SOCKETS / sources);
    let all = sources * each;
    let mut lanes = Vec::with_capacity(all);
    for number in 0..all {
        let source = plan.sources[number % sources].clone();
        let socket = UdpSocket::bind((source.from, 0)).map_err(|error| LoadError::From(source.from, error))?;
        socket.connect(plan.server)?;
        socket.set_nonblocking(true)?;
        let pace = match plan.pace {
            Pace::Rate(rate) => LanePace::Every(Duration::from_secs_f64(all as f64 / f64::from(rate.max(1)))),
            Pace::Window(window) => {
                let window = window as usize;
                let share = window / all + usize::from(number < window % all);
                LanePace::Window(share.min(MOST_ON_SOCKET))
            }
        };
        lanes.push(Lane { socket, source, pace });
    }
    Ok(lanes)
}

/// A login under way.
struct Login {
    conversation: Conversation,
    began: Instant,
}

impl Lane {
    fn run(
        &self,
        plan: &Plan,
        dictionary: &Arc<Dictionary>,
        counters: &Counters,
        started: Instant,
    ) -> Result<(Report, Histogram<u64>), LoadError> {
        let server = Server { address: plan.server, secret: self.source.secret.clone() };
        let random = |bytes: &mut [u8]| getrandom::fill(bytes).expect("the system gives random bytes");
        let mut requests = Requests::new(vec![server], plan.patience, Box::new(random));
        let mut logins = HashMap::<u64, Login>::new();
        let (mut report, mut times) = (Report::default(), histogram());
        let (mut turns, mut number) = (Turns::new(&self.source.asks), 0u64);
        let (end, mut next) = (started + plan.time, Instant::now());
        let mut last = started;
        loop {
            let now = Instant::now();
            while now < end && self.may_begin(now, &mut next, logins.len(), &mut report) {
                let conversation = Conversation::new(turns.next(), dictionary.clone(), self.source.signed);
                number += 1;
                Self::begin(&mut requests, number, &conversation, Begun::Anywhere, now)?;
                logins.insert(number, Login { conversation, began: now });
                report.begun += 1;
                counters.begun.fetch_add(1, Ordering::Relaxed);
            }
            while let Some(output) = requests.poll(now) {
                match output {
                    Output::Transmit { bytes, again, .. } => {
                        report.repeated += u64::from(again);
                        // What the system does not take is lost like any datagram.
                        let _ = self.socket.send(&bytes);
                    }
                    Output::Unanswered { token, .. } => {
                        logins.remove(&token);
                        report.unanswered += 1;
                        counters.unanswered.fetch_add(1, Ordering::Relaxed);
                    }
                }
            }
            if now >= end && logins.is_empty() {
                report.seconds = last.duration_since(started).as_secs_f64();
                return Ok((report, times));
            }
            self.sleep(now, end, next, &requests);
            let mut buffer = [0; MAX_LEN];
            while let Ok(length) = self.socket.recv(&mut buffer) {
                let now = Instant::now();
                let received = requests.receive(plan.server, &buffer[..length], now);
                let Received::Reply { token, bytes, authenticator, server, .. } = received else {
                    report.ignored += 1;
                    continue;
                };
                (report.replies, last) = (report.replies + 1, now);
                let Some(login) = logins.get_mut(&token) else { continue };
                let packet = Packet::parse(&bytes).expect("these very bytes were checked");
                match login.conversation.reply(&packet, &authenticator, requests.secret(server)) {
                    Progress::Next => {
                        Self::begin(&mut requests, token, &login.conversation, Begun::At(server), now)?;
                        continue;
                    }
                    Progress::Done(view) => {
                        let believed = view.is_none_or(|view| view.believed);
                        match packet.code() {
                            Code::ACCOUNTING_RESPONSE => report.accepted += 1,
                            Code::ACCESS_ACCEPT if believed => report.accepted += 1,
                            Code::ACCESS_ACCEPT => report.broken += 1,
                            _ => report.refused += 1,
                        }
                        let took = now.duration_since(login.began).as_micros() as u64;
                        times.saturating_record(took.max(1));
                        counters.answered.fetch_add(1, Ordering::Relaxed);
                    }
                    Progress::Silent | Progress::Endless => report.broken += 1,
                }
                logins.remove(&token);
            }
        }
    }

    fn begin(
        requests: &mut Requests<u64>,
        number: u64,
        conversation: &Conversation,
        to: Begun,
        now: Instant,
    ) -> Result<(), LoadError> {
        requests.begin(number, conversation.request(), to, now).map_err(|(_, full)| match full {
            Full::Ask(error) => LoadError::Ask(error),
            Full::Identifiers => unreachable!("fewer are begun than there are identifiers"),
        })
    }

    /// Whether another login begins now.
    fn may_begin(&self, now: Instant, next: &mut Instant, under_way: usize, report: &mut Report) -> bool {
        match self.pace {
            LanePace::Window(window) => under_way < window,
            LanePace::Every(pause) => {
                if *next > now {
                    return false;
                }
                *next += pause;
                let full = under_way >= MOST_ON_SOCKET;
                report.held_back += u64::from(full);
                !full
            }
        }
    }

    /// Until something comes, or is to be done.
    fn sleep(&self, now: Instant, end: Instant, next: Instant, requests: &Requests<u64>) {
        let begins = match self.pace {
            LanePace::Every(_) if now < end => Some(next),
            _ => None,
        };
        let until = [begins, requests.due(), (now < end).then_some(end)].into_iter().flatten().min();
        let left = until.map_or(Duration::from_millis(10), |until| until.saturating_duration_since(Instant::now()));
        let time = Timespec { tv_sec: left.as_secs().cast_signed(), tv_nsec: left.subsec_nanos().into() };
        let _ = poll(&mut [PollFd::new(&self.socket, PollFlags::IN)], Some(&time));
    }
}

/// Asks in turn, each as often as its number says, well mixed.
struct Turns<'a> {
    asks: &'a [(Arc<Ask>, u32)],
    /// How far each is behind its share.
    credit: Vec<i64>,
    all: i64,
}

impl<'a> Turns<'a> {
    fn new(asks: &'a [(Arc<Ask>, u32)]) -> Self {
        let all = asks.iter().map(|(_, weight)| i64::from(*weight)).sum();
        Self { asks, credit: vec![0; asks.len()], all }
    }

    fn next(&mut self) -> Arc<Ask> {
        for (credit, (_, weight)) in self.credit.iter_mut().zip(self.asks) {
            *credit += i64::from(*weight);
        }
        let most = (0..self.credit.len()).max_by_key(|place| (self.credit[*place], std::cmp::Reverse(*place)));
        let place = most.unwrap_or(0);
        self.credit[place] -= self.all;
        self.asks[place].0.clone()
    }
}

/// Why no load can be made.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum LoadError {
    /// There is nothing to ask.
    #[error("there is nothing to ask: some equipment has no request")]
    Nothing,
    /// Too much equipment.
    #[error("{0} addresses to send from are too many; {MOST_SOCKETS} are possible")]
    Sources(usize),
    /// A request cannot be built.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The address to send from is not this machine's.
    #[error("cannot send from {0}: {1}")]
    From(IpAddr, #[source] io::Error),
    /// The system refused.
    #[error("requests cannot be sent: {0}")]
    Io(#[from] io::Error),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn asks_take_turns_by_their_weights_and_are_well_mixed() {
        let ask = |name: &str| Arc::new(Ask::mac(name, 1));
        let asks = [(ask("a"), 3), (ask("b"), 1), (ask("c"), 0)];
        let mut turns = Turns::new(&asks);
        let order: String = (0..8).map(|_| turns.next().who().to_owned()).collect();
        assert_eq!(order, "aabaaaba");
    }
}
