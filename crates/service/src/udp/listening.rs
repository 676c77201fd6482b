use std::net::UdpSocket;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread::{self, JoinHandle};
use std::time::Duration;

use tokio::runtime;
use tokio::sync::watch;
use ulid::Ulid;

use crate::clock::now_ms;
use crate::udp::socket::{Batch, BatchSocket, Datagram};

/// How long a thread rests while what it hands in cannot be kept.
const HELD_UP: Duration = Duration::from_millis(2);

/// What is done with datagrams.
pub(crate) trait Receive: Send + 'static {
    /// Whether what comes now could not be kept: it then waits in the socket.
    fn is_held_up(&self) -> bool;

    /// Deals with one. It never waits.
    fn take(&mut self, socket: &Arc<BatchSocket>, datagram: &Datagram<'_>);
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
    let work = move || match runtime::Builder::new_current_thread().enable_io().build() {
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
    let mut batch = Batch::new();
    loop {
        while receive.is_held_up() && !*stop.borrow() {
            thread::sleep(HELD_UP);
        }
        let take = |datagram: Datagram<'_>| {
            // A defect of ours may cost one request, not the thread.
            if catch_unwind(AssertUnwindSafe(|| receive.take(socket, &datagram))).is_err() {
                tracing::error!("a packet from {} could not be dealt with; please report this", datagram.source);
            }
        };
        if let Err(error) = socket.receive(&mut batch, take).await {
            tracing::warn!("receiving failed and goes on: {error}");
        }
    }
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
