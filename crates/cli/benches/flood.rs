//! One NAS offers far more than can be done, and a quiet one asks beside it: what is
//! still answered, of whom, and what a crash would have lost meanwhile.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::harbour::{QUAY_SW_1, YARD_SW_1};
use regnant_client::Ask;
use regnant_radius::{Dictionary, SharedSecret};
use running::Running;
use yardstick::{blast, cpu, packets, rest};

/// Packets a second that the greedy NAS offers; 0 is as fast as it can.
const OFFERED: [u64; 3] = [20_000, 50_000, 100_000];
const SECONDS: u64 = 8;
const SOCKETS: usize = 8;
/// Between two requests of the quiet NAS.
const PAUSE: Duration = Duration::from_millis(20);

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    let service = Running::harbour();
    let begun = Instant::now();
    let answered: usize = (0..4).map(|_| blast(service.radius, &packets()).answered).sum();
    let peak = answered as f64 / begun.elapsed().as_secs_f64();
    rest(&service);
    println!("a closed loop of 128 under way: {peak:.0} answers a second");
    let mut best: f64 = 0.0;
    for offered in OFFERED {
        best = best.max(turn(&service, offered, best));
    }
    let journal = service.get("health").1["journal"].clone();
    println!("oldest entry of each commit: {} ms of 99 in 100, {} ms at most", journal["p99_ms"], journal["most_ms"]);
}

/// One rate for some seconds; gives the goodput.
fn turn(service: &Running, offered: u64, best: f64) -> f64 {
    let (over, sent, got) = (AtomicBool::new(false), AtomicU64::new(0), AtomicU64::new(0));
    let sender = AtomicU64::new(0);
    let load = packets();
    let (before, drops) = (cpu(service.pid(), "regnant"), dropped());
    let (asked, lost) = thread::scope(|scope| {
        scope.spawn(|| {
            flood(service, &load, offered, (&over, &sent, &got));
            sender.store(thread_cpu(), Ordering::Relaxed);
        });
        let quiet = quiet(service);
        over.store(true, Ordering::Relaxed);
        quiet
    });
    let goodput = got.load(Ordering::Relaxed) as f64 / SECONDS as f64;
    let counts = service.get("health").1["packets"].clone();
    println!(
        "offered {:6.0}/s: goodput {goodput:6.0}/s ({:3.0}% of the best), quiet NAS lost {lost} of {asked} ({:.1}%); CPU \
         {:.0}% service, {:.0}% sender; dropped by the sockets {}, before the journal {}",
        sent.load(Ordering::Relaxed) as f64 / SECONDS as f64,
        100.0 * goodput / best.max(goodput),
        100.0 * lost as f64 / asked as f64,
        100.0 * (cpu(service.pid(), "regnant") - before) / SECONDS as f64,
        100.0 * sender.load(Ordering::Relaxed) as f64 / 1e9 / SECONDS as f64,
        dropped() - drops,
        counts["unjournaled"],
    );
    rest(service);
    goodput
}

fn flood(service: &Running, load: &[Vec<u8>], offered: u64, (over, sent, got): (&AtomicBool, &AtomicU64, &AtomicU64)) {
    let sockets: Vec<_> = (0..SOCKETS)
        .map(|_| {
            let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
            socket.connect(service.radius).unwrap();
            socket.set_nonblocking(true).unwrap();
            socket
        })
        .collect();
    let (begun, mut buffer, mut number) = (Instant::now(), [0; 4096], 0u64);
    while !over.load(Ordering::Relaxed) {
        let due = (begun.elapsed().as_secs_f64() * offered as f64) as u64;
        for _ in 0..due.saturating_sub(number).min(64) {
            let socket = &sockets[number as usize % SOCKETS];
            let _ = socket.send(&load[number as usize % load.len()]);
            number += 1;
        }
        for socket in &sockets {
            while socket.recv(&mut buffer).is_ok() {
                got.fetch_add(1, Ordering::Relaxed);
            }
        }
        if number >= due {
            thread::sleep(Duration::from_micros(200));
        }
    }
    sent.store(number, Ordering::Relaxed);
}

/// A NAS that asks now and then and does not repeat; how often, and how often in vain.
fn quiet(service: &Running) -> (u64, u64) {
    let (secret, dictionary) = (SharedSecret::new(YARD_SW_1.secret.as_bytes()), Dictionary::standard());
    let socket = UdpSocket::bind((YARD_SW_1.address, 0)).unwrap();
    socket.connect(service.radius).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
    let (begun, mut asked, mut lost, mut buffer) = (Instant::now(), 0, 0, [0; 4096]);
    while begun.elapsed() < Duration::from_secs(SECONDS) {
        let mut authenticator = [0; 16];
        getrandom::fill(&mut authenticator).unwrap();
        let ask = Ask::mac("02-00-5E-40-00-01", 1);
        let packet = ask.packet(asked as u8, &authenticator, &secret, true, &dictionary).unwrap();
        socket.send(&packet).unwrap();
        asked += 1;
        lost += u64::from(socket.recv(&mut buffer).is_err());
        thread::sleep(PAUSE);
    }
    (asked, lost)
}

/// Nanoseconds of CPU that this thread has had.
fn thread_cpu() -> u64 {
    let stat = std::fs::read_to_string("/proc/thread-self/schedstat").unwrap();
    stat.split(' ').next().unwrap().parse().unwrap()
}

/// Datagrams that no socket of this machine had room for.
fn dropped() -> u64 {
    let snmp = std::fs::read_to_string("/proc/net/snmp").unwrap();
    let mut udp = snmp.lines().filter(|line| line.starts_with("Udp: "));
    let (names, values) = (udp.next().unwrap(), udp.next().unwrap());
    let place = names.split(' ').position(|name| name == "RcvbufErrors").unwrap();
    values.split(' ').nth(place).unwrap().parse().unwrap()
}
