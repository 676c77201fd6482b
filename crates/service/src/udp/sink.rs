use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use crate::udp::socket::{BatchSocket, Datagram};

/// Between whom requests pass. One and the same request repeats within a channel; what
/// looks like it in another is another (RFC 5080 section 2.2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Channel {
    /// Which of our ends: every address that we listen on, by whatever transport, has a
    /// number of its own.
    pub(crate) end: u32,
    /// Who asks.
    pub(crate) peer: SocketAddr,
}

/// Where the reply to one request goes: back to where it came from, by whatever brought
/// it. It never waits.
pub(crate) trait Sink: Send + Sync {
    /// The channel that the request came by.
    fn channel(&self) -> Channel;

    /// Sends the reply.
    fn send(&self, reply: &[u8]) -> io::Result<()>;
}

/// The sender of a datagram.
#[derive(Clone, Debug)]
pub(crate) struct DatagramSink {
    pub(crate) socket: Arc<BatchSocket>,
    pub(crate) to: SocketAddr,
    /// The address that was asked, from which the reply leaves.
    pub(crate) from: Option<IpAddr>,
}

impl DatagramSink {
    /// Back to where a datagram came from.
    pub(crate) fn of(socket: &Arc<BatchSocket>, datagram: &Datagram<'_>) -> Self {
        Self { socket: socket.clone(), to: datagram.source, from: datagram.asked }
    }
}

impl Sink for DatagramSink {
    fn channel(&self) -> Channel {
        Channel { end: self.socket.number(), peer: self.to }
    }

    fn send(&self, reply: &[u8]) -> io::Result<()> {
        self.socket.reply(reply, self.to, self.from)
    }
}
