use std::net::UdpSocket;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use tokio::runtime;
use tokio::sync::watch;
use ulid::Ulid;

use crate::clock::now_ms;
use crate::udp::parked::Parked;
use crate::udp::socket::{Batch, BatchSocket, Datagram};

/// How long a thread rests while what it hands in cannot be kept.
const HELD_UP: Duration = Duration::from_millis(2);

/// After how long what waits for room is tried again, where nothing comes.
const AGAIN: Duration = Duration::from_millis(2);

/// What is done with datagrams.
pub(crate) trait Receive: Send + 'static {
    /// Whether what comes now could not be kept: it waits then.
    fn is_held_up(&self) -> bool;

    /// Deals with one. It never waits: where there is no room for it just now, it says so.
    fn take(&mut self, socket: &Arc<BatchSocket>, datagram: &Datagram<'_>) -> bool;

    /// Counts one for which there was none for too long.
    fn left_out(&self);
}

/// Starts a thread of this name that takes datagrams from a socket, the one of this number,
/// until it is told to stop.
pub(crate) fn listen(
    name: String,
    socket: UdpSocket,
    end: u32,
    stop: watch::Receiver<bool>,
    receive: impl Receive,
) -> JoinHandle<()> {
    let work = move || match runtime::Builder::new_current_thread().enable_io().enable_time().build() {
        Ok(runtime) => runtime.block_on(run(socket, end, stop, receive)),
        Err(error) => tracing::error!("a receiving thread cannot start: {error}"),
    };
    thread::Builder::new().name(name).spawn(work).expect("the system starts a thread")
}

async fn run(socket: UdpSocket, end: u32, stop: watch::Receiver<bool>, receive: impl Receive) {
    let socket = match BatchSocket::new(socket, end) {
        Ok(socket) => Arc::new(socket),
        Err(error) => return tracing::error!("a socket cannot be set up: {error}"),
    };
    let mut stopped = stop.clone();
    tokio::select! {
        biased;
        _ = stopped.changed() => {}
        () = take_all(&socket, &stop, receive) => {}
    }
}

async fn take_all(socket: &Arc<BatchSocket>, stop: &watch::Receiver<bool>, mut receive: impl Receive) {
    let (mut batch, mut parked) = (Batch::new(), Parked::default());
    loop {
        let deal = |receive: &mut _, datagram: &Datagram<'_>| deal(receive, socket, stop, datagram);
        let left_out = parked.try_again(Instant::now(), |datagram| deal(&mut receive, datagram));
        (0..left_out).for_each(|_| receive.left_out());
        let wait = if parked.is_empty() { None } else { Some(AGAIN) };
        let take = |datagram: Datagram<'_>| {
            // What came before was tried a moment ago; what needs no room, such as Status-Server, waits for none.
            if !deal(&mut receive, &datagram) && !parked.keep(&datagram, Instant::now()) {
                receive.left_out();
            }
        };
        let receiving = socket.receive(&mut batch, take);
        let received = match wait {
            None => receiving.await,
            Some(wait) => tokio::time::timeout(wait, receiving).await.unwrap_or(Ok(())),
        };
        if let Err(error) = received {
            tracing::warn!("receiving failed and goes on: {error}");
        }
    }
}

/// Deals with a datagram, once it can be kept; tells whether there was room for it.
fn deal(
    receive: &mut impl Receive,
    socket: &Arc<BatchSocket>,
    stop: &watch::Receiver<bool>,
    datagram: &Datagram<'_>,
) -> bool {
    // Asked before each: what came just before, or while this thread slept for want of any, would be dropped by the
    // batch.
    while receive.is_held_up() && !*stop.borrow() {
        thread::sleep(HELD_UP);
    }
    // A defect of ours may cost one request, not the thread.
    catch_unwind(AssertUnwindSafe(|| receive.take(socket, datagram))).unwrap_or_else(|_| {
        tracing::error!("a packet from {} could not be dealt with; please report this", datagram.source);
        true
    })
}

/// Makes ids that grow: the time, then a random start that counts up.
pub(crate) struct Ids {
    next: u128,
}

impl Ids {
    pub(crate) fn new() -> Self {
        let mut start = [0; 16];
        // Ids need to differ, not to be secret.
        let _ = getrandom::fill(&mut start);
        Self { next: u128::from_be_bytes(start) >> 49 }
    }

    pub(crate) fn next(&mut self) -> Ulid {
        self.next = self.next.wrapping_add(1);
        Ulid::from_parts(now_ms(), self.next)
    }
}
