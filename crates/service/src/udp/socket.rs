use std::io::{self, IoSliceMut};
use std::net::{IpAddr, SocketAddr, UdpSocket};

use nix::sys::socket::setsockopt;
use nix::sys::socket::sockopt::Ipv6DontFrag;
use quinn_udp::{RecvMeta, Transmit, UdpSocketState};
use rustix::net::sockopt::{Ipv4PathMtuDiscovery, Ipv6PathMtuDiscovery, set_ip_mtu_discover, set_ipv6_mtu_discover};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::io::Interest;

use crate::service::StartError;

/// Datagrams taken from the system in one call.
const BATCH: usize = 32;
/// The system may hand several datagrams of one sender in one buffer.
const BUFFER: usize = 65_536;
/// Room for a burst while a thread is busy.
const RECEIVE_QUEUE: usize = 4 << 20;

/// Several sockets on one address, between which the system spreads senders.
///
/// A probe bind without address sharing finds out whether another service holds
/// the port; sharing would otherwise let both start.
pub(crate) fn bind(address: SocketAddr, count: usize) -> Result<Vec<UdpSocket>, StartError> {
    let failed = |error: io::Error| match error.kind() {
        io::ErrorKind::AddrInUse => StartError::PortInUse { address, what: "RADIUS" },
        _ => StartError::Listen { address, what: "RADIUS", error },
    };
    drop(socket(address, false).map_err(failed)?);
    let first = socket(address, true).map_err(failed)?;
    let address = first.local_addr().map_err(failed)?;
    let mut sockets = vec![first];
    for _ in 1..count {
        sockets.push(socket(address, true).map_err(failed)?);
    }
    Ok(sockets)
}

fn socket(address: SocketAddr, shared: bool) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::for_address(address), Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_port(shared)?;
    if address.is_ipv6() {
        // IPv4 has sockets of its own.
        socket.set_only_v6(true)?;
    }
    // The system caps this at its own limit; less is no reason not to start.
    let _ = socket.set_recv_buffer_size(RECEIVE_QUEUE);
    socket.set_nonblocking(true)?;
    socket.bind(&address.into())?;
    Ok(socket.into())
}

/// A socket that receives in batches and replies from the address that was asked.
#[derive(Debug)]
pub(crate) struct BatchSocket {
    socket: tokio::net::UdpSocket,
    state: UdpSocketState,
    number: u32,
}

/// Buffers for one batch.
pub(crate) struct Batch {
    buffers: Vec<u8>,
    meta: [RecvMeta; BATCH],
}

/// One datagram of a batch.
pub(crate) struct Datagram<'b> {
    pub(crate) bytes: &'b [u8],
    pub(crate) source: SocketAddr,
    /// The address that was asked.
    pub(crate) asked: Option<IpAddr>,
}

impl Batch {
    pub(crate) fn new() -> Self {
        Self { buffers: vec![0; BATCH * BUFFER], meta: [RecvMeta::default(); BATCH] }
    }

    /// The datagrams of the last batch.
    fn datagrams(&self, count: usize) -> impl Iterator<Item = Datagram<'_>> {
        self.buffers.chunks_exact(BUFFER).zip(&self.meta[..count]).flat_map(|(buffer, meta)| {
            buffer[..meta.len].chunks(meta.stride.max(1)).map(|bytes| Datagram {
                bytes,
                source: meta.addr,
                asked: meta.dst_ip,
            })
        })
    }
}

impl BatchSocket {
    /// `number` is that of the address it listens on. Must be called on the runtime that
    /// will receive.
    pub(crate) fn new(socket: UdpSocket, number: u32) -> io::Result<Self> {
        let state = UdpSocketState::new((&socket).into())?;
        // A reply with a long access list is larger than most links carry whole; the
        // default of quinn-udp would forbid to fragment it.
        match socket.local_addr()? {
            SocketAddr::V4(_) => set_ip_mtu_discover(&socket, Ipv4PathMtuDiscovery::DONT)?,
            SocketAddr::V6(_) => {
                set_ipv6_mtu_discover(&socket, Ipv6PathMtuDiscovery::DONT)?;
                setsockopt(&socket, Ipv6DontFrag, &false)?;
            }
        }
        Ok(Self { socket: tokio::net::UdpSocket::from_std(socket)?, state, number })
    }

    /// The number of the address that it listens on.
    pub(crate) fn number(&self) -> u32 {
        self.number
    }

    /// Waits for datagrams and hands each to `take`.
    pub(crate) async fn receive(&self, batch: &mut Batch, mut take: impl FnMut(Datagram<'_>)) -> io::Result<()> {
        self.socket.readable().await?;
        let mut count = 0;
        let received = self.socket.try_io(Interest::READABLE, || {
            let mut slices = batch.buffers.chunks_exact_mut(BUFFER).map(IoSliceMut::new);
            let mut slices: [IoSliceMut<'_>; BATCH] =
                std::array::from_fn(|_| slices.next().expect("there are as many buffers as places"));
            count = self.state.recv((&self.socket).into(), &mut slices, &mut batch.meta)?;
            // Less than a whole batch was all there was: not to ask again before the
            // system says so saves a call for nearly every packet.
            if count < BATCH { Err(io::ErrorKind::WouldBlock.into()) } else { Ok(()) }
        });
        match received {
            Err(error) if error.kind() != io::ErrorKind::WouldBlock => Err(error),
            _ => {
                batch.datagrams(count).for_each(&mut take);
                Ok(())
            }
        }
    }

    /// Sends a reply from the address that was asked. Never waits.
    pub(crate) fn reply(&self, bytes: &[u8], to: SocketAddr, from: Option<IpAddr>) -> io::Result<()> {
        let transmit = Transmit { destination: to, ecn: None, contents: bytes, segment_size: None, src_ip: from };
        self.state.try_send((&self.socket).into(), &transmit)
    }
}
