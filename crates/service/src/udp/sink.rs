use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use crate::udp::socket::BatchSocket;

/// Where the reply to one request goes: back to where it came from, by whatever brought
/// it. It never waits.
pub(crate) trait Sink: Send + Sync {
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

impl Sink for DatagramSink {
    fn send(&self, reply: &[u8]) -> io::Result<()> {
        self.socket.reply(reply, self.to, self.from)
    }
}
