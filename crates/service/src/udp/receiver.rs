use std::future::Future;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker};
use std::thread::{self, JoinHandle};
use std::time::Instant;

use regnant_access::{Decision, decide, hear};
use regnant_records::{Desk as JournalDesk, Slot};
use tokio::runtime::{self, Handle};
use tokio::sync::watch;
use ulid::Ulid;

use crate::clock::now_ms;
use crate::udp::duplicates::{Answer, Key};
use crate::udp::socket::{Batch, BatchSocket, Datagram};
use crate::udp::{Desk, count};

/// A thread that receives on one socket. Decisions that need no wait are made
/// here, at once; the others go on as tasks of the service's runtime, so that
/// nothing waits behind them.
pub(crate) struct Receiver {
    pub(crate) desk: Arc<Desk>,
    pub(crate) journal: JournalDesk,
    pub(crate) slow: Handle,
    pub(crate) stop: watch::Receiver<bool>,
}

impl Receiver {
    /// Starts the thread.
    pub(crate) fn start(self, number: usize, socket: UdpSocket) -> JoinHandle<()> {
        thread::Builder::new()
            .name(format!("regnant-rx-{number}"))
            .spawn(move || {
                let runtime = runtime::Builder::new_current_thread().enable_io().build();
                match runtime {
                    Ok(runtime) => runtime.block_on(self.run(socket)),
                    Err(error) => tracing::error!("a receiving thread cannot start: {error}"),
                }
            })
            .expect("the system starts a thread")
    }

    async fn run(mut self, socket: UdpSocket) {
        let socket = match BatchSocket::new(socket) {
            Ok(socket) => Arc::new(socket),
            Err(error) => return tracing::error!("a socket cannot be set up: {error}"),
        };
        let mut batch = Batch::new();
        let mut ids = Ids::new();
        loop {
            let take = |datagram: Datagram<'_>| {
                let clerk = Clerk {
                    desk: &self.desk,
                    journal: &self.journal,
                    slow: &self.slow,
                    socket: &socket,
                    ids: &mut ids,
                };
                // A defect of ours may cost one request, not the thread.
                if catch_unwind(AssertUnwindSafe(|| clerk.take(&datagram))).is_err() {
                    tracing::error!("a packet from {} could not be dealt with; please report this", datagram.source);
                }
            };
            tokio::select! {
                biased;
                _ = self.stop.changed() => return,
                received = socket.receive(&mut batch, take) => {
                    if let Err(error) = received {
                        tracing::warn!("receiving failed and goes on: {error}");
                    }
                }
            }
        }
    }
}

/// Everything needed to deal with one datagram.
struct Clerk<'r> {
    desk: &'r Arc<Desk>,
    journal: &'r JournalDesk,
    slow: &'r Handle,
    socket: &'r Arc<BatchSocket>,
    ids: &'r mut Ids,
}

/// Where an answer goes, and what it is remembered by.
struct ReplyTo {
    desk: Arc<Desk>,
    socket: Arc<BatchSocket>,
    slot: Slot,
    key: Key,
    authenticator: [u8; 16],
    to: SocketAddr,
    from: Option<IpAddr>,
}

impl Clerk<'_> {
    fn take(self, datagram: &Datagram<'_>) {
        let received = Instant::now();
        count(&self.desk.counters.received);
        let world = self.desk.office.world.load_full();
        let source = datagram.source;
        let heard = match hear(&world.nases, source, datagram.bytes) {
            Ok(heard) => heard,
            Err(cause) => {
                let nas = world.nases.find(source.ip()).map(|nas| nas.name.as_str());
                return self.desk.unheard.note(source.ip(), nas, cause, now_ms(), || self.ids.next());
            }
        };
        let (identifier, authenticator) = (heard.packet().identifier(), *heard.packet().authenticator());
        let key = (source, identifier);
        if let Some(answer) = self.desk.duplicates.begin(key, &authenticator, received) {
            count(&self.desk.counters.repeated);
            if let Answer::Reply(bytes) = answer {
                send(self.desk, self.socket, &bytes, source, datagram.asked);
            }
            return;
        }
        let Some(slot) = self.journal.slot() else {
            count(&self.desk.counters.unjournaled);
            return self.desk.duplicates.forget(key);
        };
        let reply_to = ReplyTo {
            desk: self.desk.clone(),
            socket: self.socket.clone(),
            slot,
            key,
            authenticator,
            to: source,
            from: datagram.asked,
        };
        let id = self.ids.next();
        let table = self.desk.office.ground.table.clone();
        let mut deciding = Box::pin(async move {
            decide(id, heard, world.edition.clone(), &table, &*world.stores, || received.elapsed()).await
        });
        match poll_once(deciding.as_mut()) {
            Poll::Ready(decision) => reply_to.finish(decision),
            Poll::Pending => drop(self.slow.spawn(async move { reply_to.finish(deciding.await) })),
        }
    }
}

impl ReplyTo {
    fn finish(self, decision: Decision) {
        if let Some(bytes) = &decision.reply {
            send(&self.desk, &self.socket, bytes, self.to, self.from);
        }
        self.desk.duplicates.finish(self.key, &self.authenticator, decision.reply.as_deref());
        self.slot.decision(decision);
    }
}

/// A reply that the system does not take is lost like any datagram: the NAS
/// repeats its request and gets the answer that was kept.
fn send(desk: &Desk, socket: &BatchSocket, bytes: &[u8], to: SocketAddr, from: Option<IpAddr>) {
    if let Err(error) = socket.reply(bytes, to, from) {
        count(&desk.counters.unsent);
        tracing::debug!("a reply to {to} was not sent: {error}");
    }
}

/// Polls a future that is most often ready. Where it is not, the task that goes
/// on with it polls again and is woken.
fn poll_once<F: Future>(future: Pin<&mut F>) -> Poll<F::Output> {
    future.poll(&mut Context::from_waker(Waker::noop()))
}

/// Makes ids that grow: the time, then a random start that counts up.
struct Ids {
    next: u128,
}

impl Ids {
    fn new() -> Self {
        let mut start = [0; 16];
        // Ids need to differ, not to be secret.
        let _ = getrandom::fill(&mut start);
        Self { next: u128::from_be_bytes(start) >> 49 }
    }

    fn next(&mut self) -> Ulid {
        self.next = self.next.wrapping_add(1);
        Ulid::from_parts(now_ms(), self.next)
    }
}
