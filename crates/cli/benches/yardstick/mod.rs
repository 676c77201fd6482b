//! What measurements are held against: a bare UDP echo with the same cryptography,
//! and the CPU time that the kernel accounts to threads.
#![allow(dead_code)]

pub(crate) mod alone;
pub(crate) mod apart;
pub(crate) mod in_place;

pub(crate) mod policy;

use std::fs;
use std::net::{SocketAddr, UdpSocket};
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::harbour::QUAY_SW_1;
use regnant_client::Ask;
use regnant_radius::{Builder, Code, Dictionary, HEADER_LEN, Packet, SharedSecret, check_message_authenticator};

use crate::running::Running;

/// Requests in one turn; fewer than may wait for the journal.
pub(crate) const REQUESTS: usize = 12_000;
const SOCKETS: usize = 8;
/// Requests under way on each socket.
const WINDOW: usize = 16;

/// Requests as a switch sends them, each with its own authenticator.
pub(crate) fn packets() -> Vec<Vec<u8>> {
    let (secret, dictionary) = (SharedSecret::new(QUAY_SW_1.secret.as_bytes()), Dictionary::standard());
    (0..REQUESTS)
        .map(|number| {
            let mut authenticator = [0; 16];
            getrandom::fill(&mut authenticator).unwrap();
            let ask = Ask::mac(&format!("02-00-5E-50-00-{:02X}", number % 0x3c + 1), (number % 48) as u32);
            ask.packet((number / SOCKETS % 256) as u8, &authenticator, &secret, true, &dictionary).unwrap()
        })
        .collect()
}

pub(crate) struct Blast {
    pub(crate) answered: usize,
}

/// Sends every packet, at most `WINDOW` under way on each socket, and counts
/// the replies. What is not answered within a moment is given up.
pub(crate) fn blast(to: SocketAddr, packets: &[Vec<u8>]) -> Blast {
    let sockets: Vec<_> = (0..SOCKETS)
        .map(|_| {
            let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
            socket.connect(to).unwrap();
            socket.set_nonblocking(true).unwrap();
            socket
        })
        .collect();
    let mut lists: Vec<_> = (0..SOCKETS).map(|n| packets.iter().skip(n).step_by(SOCKETS)).collect();
    let mut under_way = [0usize; SOCKETS];
    let (mut answered, mut last) = (0, Instant::now());
    let mut buffer = [0; 4096];
    loop {
        let mut sent = false;
        for (n, socket) in sockets.iter().enumerate() {
            while under_way[n] < WINDOW {
                let Some(packet) = lists[n].next() else { break };
                under_way[n] += usize::from(socket.send(packet).is_ok());
                sent = true;
            }
            while socket.recv(&mut buffer).is_ok() {
                under_way[n] = under_way[n].saturating_sub(1);
                answered += 1;
                last = Instant::now();
            }
        }
        let idle = last.elapsed() > Duration::from_millis(300);
        if idle {
            under_way = [0; SOCKETS];
        }
        if !sent && under_way.iter().all(|&count| count == 0) {
            return Blast { answered };
        }
    }
}

/// As many clients as log in at a time, each of which waits for one reply before
/// it sends the next packet; gives how many were answered.
pub(crate) fn converse(to: SocketAddr, packets: &[Vec<u8>], clients: usize) -> usize {
    let ask = |packets: &[Vec<u8>]| {
        let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
        socket.connect(to).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
        let mut buffer = [0; 4096];
        packets.iter().filter(|packet| socket.send(packet).is_ok() && socket.recv(&mut buffer).is_ok()).count()
    };
    thread::scope(|scope| {
        let clients: Vec<_> =
            packets.chunks(packets.len().div_ceil(clients)).map(|part| scope.spawn(|| ask(part))).collect();
        clients.into_iter().map(|client| client.join().unwrap()).sum()
    })
}

/// A reply of the service to such a request.
pub(crate) fn one_reply(server: SocketAddr) -> Vec<u8> {
    let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
    socket.connect(server).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    socket.send(&packets()[0]).unwrap();
    let mut buffer = [0; 4096];
    let length = socket.recv(&mut buffer).unwrap();
    buffer[..length].to_vec()
}

/// Serves datagrams on a thread of this name.
pub(crate) fn on_thread<F: Future<Output = ()>>(
    name: &str,
    serve: impl FnOnce(tokio::net::UdpSocket) -> F + Send + 'static,
) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_nonblocking(true).unwrap();
    let address = socket.local_addr().unwrap();
    let work = move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_io().build().unwrap();
        runtime.block_on(async { serve(tokio::net::UdpSocket::from_std(socket).unwrap()).await });
    };
    thread::Builder::new().name(name.into()).spawn(work).unwrap();
    address
}

/// Checks Message-Authenticator, reveals the password, signs a reply of the same
/// attributes: the cryptography and nothing else.
pub(crate) fn start_echo(reply: &[u8]) -> SocketAddr {
    let secret = SharedSecret::new(QUAY_SW_1.secret.as_bytes());
    let attributes = reply[HEADER_LEN + 18..].to_vec();
    on_thread("bare-echo", move |socket| async move {
        let mut buffer = [0; 4096];
        loop {
            let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
            let Ok(packet) = Packet::parse(&buffer[..length]) else { continue };
            std::hint::black_box(check_message_authenticator(&packet, &secret));
            let hidden = packet.first(regnant_radius::number::USER_PASSWORD).unwrap_or_default();
            let _ = std::hint::black_box(regnant_radius::reveal_password(hidden, packet.authenticator(), &secret));
            let mut builder = Builder::new(Code::ACCESS_ACCEPT, packet.identifier());
            builder.encoded(&attributes).unwrap();
            let _ = socket.send_to(&builder.reply(&packet, &secret).unwrap(), from).await;
        }
    })
}

/// Waits until the journal thread has nothing more to do, and tells since when.
pub(crate) fn rest(service: &Running) -> Instant {
    let (mut before, mut since) = (-1.0, Instant::now());
    loop {
        let now = cpu(service.pid(), "regnant-journal");
        // A thread at rest still looks up now and then, which takes some microseconds.
        if now - before > 0.000_5 {
            since = Instant::now();
        } else if since.elapsed() > Duration::from_millis(200) {
            return since;
        }
        before = now;
        thread::sleep(Duration::from_millis(10));
    }
}

/// CPU seconds of a process's threads whose names begin like this.
pub(crate) fn cpu(pid: u32, name: &str) -> f64 {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).unwrap();
    tasks
        .map(|task| task.unwrap().path())
        .filter(|task| fs::read_to_string(task.join("comm")).is_ok_and(|comm| comm.starts_with(name)))
        .filter_map(|task| {
            let stat = fs::read_to_string(task.join("schedstat")).ok()?;
            stat.split(' ').next()?.parse::<f64>().ok()
        })
        .sum::<f64>()
        / 1e9
}

pub(crate) fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
