//! 802.1X through the whole service, in turn with a bare TLS handshake of the same
//! kind and as many bare UDP echoes as there are rounds, asked for by as many
//! clients that wait for each reply as supplicants do, and with RADIUS and EAP alone
//! in a bare loop; memory of conversations in flight; and what TLS work costs a MAC
//! bypass beside it.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::fs;
use std::net::{SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::certificates::{DemoCertificates, SERVER};
use regnant_campus::harbour::{MAST_WLC_1, QUAY_SW_1};
use regnant_certificates::{Bundle, read_certificates};
use regnant_client::{Ask, Supplicant};
use regnant_eap::{Judgement, Login, Offer, Peer, PeerMethod, PeerStep, ServerTls, TlsVersion, Trust};
use regnant_radius::{Dictionary, Packet, SharedSecret, number};
use running::Running;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection};
use yardstick::apart::{self, Apart};
use yardstick::{alone, converse, cpu, in_place, median, one_reply, packets, rest, start_echo};

/// Measurements of which the median counts; the speed of a shared machine changes
/// within seconds.
const PAIRS: usize = 15;
const LOGINS: usize = 320;
const CLIENTS: usize = 8;
const PASSWORD: &str = "Tide-Table-61";
/// Everything that works in the service.
const THREADS: [&str; 4] = ["regnant-rx", "regnant-eap", "regnant-journal", "tokio"];
/// Names of the threads that do bare work, in a process of their own.
const ECHO: &str = "bare-echo";
const ALONE: &str = "alone";
/// TLS without and with a certificate of the client.
const BARE: [&str; 2] = ["bare-tls-one", "bare-tls-both"];
const YARDSTICKS: [&str; 4] = [ECHO, ALONE, BARE[0], BARE[1]];
const IN_FLIGHT: usize = 10_000;
/// Requests that are timed before it is the other's turn.
const IN_TURN: usize = 50;
/// Measurements beside a TLS load, of which the median counts.
const BESIDE: usize = 7;

fn main() {
    // `cargo test --benches` runs this too, and has no use for a measurement.
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    if apart::serve(yardsticks) {
        return;
    }
    let service = Running::harbour_with_one_receiver();
    let folder = service.data.join("harbour");
    let certificates = certificates(&folder);
    let apart = Apart::start(&YARDSTICKS, &folder, service.radius);
    let client = |own| certificates.client("authority.pem", own, Some(TlsVersion::Tls13)).unwrap().without_resumption();
    let tls = Supplicant::new("ida", "ida", PeerMethod::Tls(client(Some("ida.marsh"))));
    let inner = Box::new(PeerMethod::MsChapV2(Login::new("ida.marsh", PASSWORD)));
    let peap = Supplicant::new("ida", "anonymous", PeerMethod::peap(client(None), "ida.marsh".into(), inner));
    let compare = |title, supplicant, both, marks| {
        compare(title, &service, &apart, supplicant, &Bare::new(&certificates, both), marks);
    };
    compare("EAP-TLS 1.3 (P-256 both sides)", &tls, true, ("mark: at most 1.4", ""));
    compare("PEAP with EAP-MSCHAPv2, TLS 1.3", &peap, false, ("", "mark: at most 1.8"));
    beside(&service, apart.server(ECHO), &tls);
    memory(&service, &peap);
}

/// Starts the servers of bare work.
fn yardsticks(folder: &Path, service: SocketAddr) -> Vec<SocketAddr> {
    let certificates = certificates(folder);
    let bare = |name, both| in_place::serve(name, Bare::new(&certificates, both).server);
    vec![
        start_echo(&one_reply(service)),
        alone::serve(ALONE, offers(&certificates), PASSWORD),
        bare(BARE[0], false),
        bare(BARE[1], true),
    ]
}

fn certificates(folder: &Path) -> DemoCertificates {
    let names = fs::read_dir(folder).unwrap().flatten().map(|file| file.file_name().into_string().unwrap());
    DemoCertificates::from_files(names.map(|name| {
        let text = fs::read_to_string(folder.join(&name)).unwrap();
        (name, text)
    }))
}

/// What the harbour's gate offers to the crew.
fn offers(certificates: &DemoCertificates) -> Arc<[Offer]> {
    let (chain, key) = own(certificates, "server");
    let authorities = read_certificates(certificates.file("authority.pem")).unwrap();
    let trust = Trust::new(&authorities, &[], Judgement::default()).unwrap();
    let server = ServerTls::new(&chain, &key, None, Some(Arc::new(trust))).unwrap();
    [Offer::Tls(server.clone()), Offer::peap(server, [Offer::MsChapV2].into())].into()
}

/// The chain and the key of one of the certificates (DER).
fn own(certificates: &DemoCertificates, name: &str) -> (Vec<Vec<u8>>, Vec<u8>) {
    let pem = format!("{}{}", certificates.file(&format!("{name}.pem")), certificates.file(&format!("{name}.key")));
    let bundle = Bundle::from_pem(&pem).unwrap();
    (bundle.chain, bundle.key.unwrap().expose().to_vec())
}

/// Logins through the service against a bare handshake and bare echoes, and against
/// RADIUS and EAP alone; a mark for either.
fn compare(
    title: &str,
    service: &Running,
    apart: &Apart,
    supplicant: &Supplicant,
    bare: &Bare,
    (mark, mark_alone): (&str, &str),
) {
    let (mut pairs, mut shares) = (Vec::new(), Vec::new());
    let rounds = logins(service.radius, supplicant, 20);
    assert_eq!(logins(apart.server(ALONE), supplicant, 20), rounds);
    for _ in 0..PAIRS {
        rest(service);
        let before = THREADS.map(|name| cpu(service.pid(), name));
        together(service.radius, supplicant);
        rest(service);
        let spent = THREADS.map(|name| cpu(service.pid(), name));
        // A thread that ended meanwhile takes its time along.
        let share = |(now, before): (&f64, f64)| (now - before).max(0.0) / LOGINS as f64;
        let parts: Vec<_> = spent.iter().zip(before).map(share).collect();
        let before = cpu(apart.pid(), ECHO);
        let echoed = converse(apart.server(ECHO), &packets()[..LOGINS * rounds], CLIENTS) as f64;
        let echo = (cpu(apart.pid(), ECHO) - before) / echoed;
        let before = cpu(apart.pid(), ALONE);
        together(apart.server(ALONE), supplicant);
        let alone = (cpu(apart.pid(), ALONE) - before) / LOGINS as f64;
        let yardstick = bare.handshake() + rounds as f64 * echo;
        pairs.push([parts.iter().sum(), yardstick, alone, bare.in_place(apart, rounds)]);
        shares.push(parts);
    }
    let of = |place: usize| median(&mut pairs.iter().map(|pair| pair[place]).collect::<Vec<_>>()) * 1e6;
    let over = |above: usize, below: usize| {
        let mut ratios: Vec<f64> = pairs.iter().map(|pair| pair[above] / pair[below]).collect();
        (median(&mut ratios), ratios[0], ratios[PAIRS - 1])
    };
    println!("{title} through the whole service, {PAIRS} pairs of {LOGINS} logins, {rounds} rounds each:");
    println!("  service, CPU of all threads per login      {:6.0} µs", of(0));
    for (place, name) in THREADS.iter().enumerate() {
        let mut share: Vec<_> = shares.iter().map(|parts| parts[place]).collect();
        println!("    of these {name:<33} {:6.0} µs", median(&mut share) * 1e6);
    }
    println!("  bare handshake and as many bare echoes     {:6.0} µs", of(1));
    let (ratio, least, most) = over(0, 1);
    println!("  ratio, median of pairs                     {ratio:6.2}   ({least:.2} to {most:.2}) {mark}");
    println!("  RADIUS and EAP alone, in a bare loop       {:6.0} µs", of(2));
    println!("  ratio of that to the bare work             {:6.2}", over(2, 1).0);
    println!("  ratio of the service to that               {:6.2}   {mark_alone}", over(0, 2).0);
    println!("  the bare work done where it happens        {:6.0} µs", of(3));
    println!("  ratio of the service to that               {:6.2}", over(0, 3).0);
}

/// As many logins, several under way at any time, as on a campus in the morning.
fn together(server: SocketAddr, supplicant: &Supplicant) {
    let clients: Vec<_> = (0..CLIENTS)
        .map(|_| {
            let supplicant = supplicant.clone();
            thread::spawn(move || logins(server, &supplicant, LOGINS / CLIENTS))
        })
        .collect();
    for client in clients {
        client.join().unwrap();
    }
}

/// Logs in so often, one after another, and tells how many rounds it took.
fn logins(server: SocketAddr, supplicant: &Supplicant, times: usize) -> usize {
    let ask = Ask::eap(supplicant.clone(), "02-00-5E-10-00-01").with("NAS-Port-Type", "Wireless-802.11");
    let (exchange, dictionary) = (MAST_WLC_1.exchange(server), std::sync::Arc::new(Dictionary::standard()));
    let mut rounds = 0;
    for _ in 0..times {
        let reply = exchange.ask(&ask, &dictionary).unwrap();
        assert!(reply.is_believed(), "{reply:?}");
        rounds = reply.supplicant.unwrap().rounds;
    }
    rounds
}

/// TLS and nothing else.
struct Bare {
    server: Arc<ServerConfig>,
    client: Arc<ClientConfig>,
    /// The thread that does it where it happens.
    place: &'static str,
}

impl Bare {
    fn new(certificates: &DemoCertificates, client_certificate: bool) -> Self {
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut roots = RootCertStore::empty();
        for der in read_certificates(certificates.file("authority.pem")).unwrap() {
            roots.add(CertificateDer::from(der)).unwrap();
        }
        let roots = Arc::new(roots);
        let own = |name: &str| {
            let (chain, key) = own(certificates, name);
            let chain: Vec<_> = chain.into_iter().map(CertificateDer::from).collect();
            (chain, PrivateKeyDer::try_from(key).unwrap())
        };
        let versions = &[&rustls::version::TLS13];
        let builder = ServerConfig::builder_with_provider(provider.clone()).with_protocol_versions(versions).unwrap();
        let builder = match client_certificate {
            true => builder.with_client_cert_verifier(
                rustls::server::WebPkiClientVerifier::builder_with_provider(roots.clone(), provider.clone())
                    .build()
                    .unwrap(),
            ),
            false => builder.with_no_client_auth(),
        };
        let (chain, key) = own("server");
        let mut server = builder.with_single_cert(chain, key).unwrap();
        server.send_tls13_tickets = 1;
        let client = ClientConfig::builder_with_provider(provider).with_protocol_versions(versions).unwrap();
        let client = client.with_root_certificates(roots);
        let mut client = match client_certificate {
            true => {
                let (chain, key) = own("ida.marsh");
                client.with_client_auth_cert(chain, key).unwrap()
            }
            false => client.with_no_client_auth(),
        };
        client.resumption = rustls::client::Resumption::disabled();
        let place = BARE[usize::from(client_certificate)];
        Self { server: Arc::new(server), client: Arc::new(client), place }
    }

    /// Seconds of CPU for a handshake with as many packets as rounds, asked for by
    /// as many clients as log in.
    fn in_place(&self, apart: &Apart, rounds: usize) -> f64 {
        let before = cpu(apart.pid(), self.place);
        thread::scope(|scope| {
            for _ in 0..CLIENTS {
                scope.spawn(|| in_place::handshakes(apart.server(self.place), &self.client, LOGINS / CLIENTS, rounds));
            }
        });
        (cpu(apart.pid(), self.place) - before) / LOGINS as f64
    }

    /// Seconds that the server's side of a handshake takes while both cores are
    /// busy with TLS, as they are when clients log in.
    fn handshake(&self) -> f64 {
        let both = || (0..LOGINS).map(|_| self.once()).collect::<Vec<_>>();
        let mut times = thread::scope(|scope| {
            let other = scope.spawn(both);
            let own = both();
            [own, other.join().unwrap()].concat()
        });
        median(&mut times)
    }

    fn once(&self) -> f64 {
        let name = ServerName::try_from(SERVER).unwrap();
        let mut client = ClientConnection::new(self.client.clone(), name).unwrap();
        let started = Instant::now();
        let mut server = ServerConnection::new(self.server.clone()).unwrap();
        let mut spent = started.elapsed();
        while client.is_handshaking() || server.is_handshaking() {
            let mut flight = Vec::new();
            while client.wants_write() {
                client.write_tls(&mut flight).unwrap();
            }
            let started = Instant::now();
            let mut bytes = &flight[..];
            while !bytes.is_empty() {
                server.read_tls(&mut bytes).unwrap();
                server.process_new_packets().unwrap();
            }
            let mut flight = Vec::new();
            while server.wants_write() {
                server.write_tls(&mut flight).unwrap();
            }
            spent += started.elapsed();
            let mut bytes = &flight[..];
            while !bytes.is_empty() {
                client.read_tls(&mut bytes).unwrap();
                client.process_new_packets().unwrap();
            }
        }
        spent.as_secs_f64()
    }
}

/// A MAC bypass and a bare echo, both beside the same TLS load.
fn beside(service: &Running, echo: SocketAddr, supplicant: &Supplicant) {
    let stop = Arc::new(AtomicBool::new(false));
    let load: Vec<_> = (0..4)
        .map(|_| {
            let (stop, supplicant, server) = (stop.clone(), supplicant.clone(), service.radius);
            thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    logins(server, &supplicant, 1);
                }
            })
        })
        .collect();
    let (mut bypass, mut bare, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    let packets = packets();
    for _ in 0..BESIDE {
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        // In turns of a few milliseconds, so that both meet the same moments.
        for turn in packets.chunks(IN_TURN) {
            ours.extend(times(service.radius, turn));
            theirs.extend(times(echo, turn));
        }
        let (ours, theirs) = (p99(&mut ours), p99(&mut theirs));
        bypass.push(ours);
        bare.push(theirs);
        ratios.push(ours / theirs);
    }
    stop.store(true, Ordering::Relaxed);
    load.into_iter().for_each(|thread| thread.join().unwrap());
    let (ratio, least, most) = (median(&mut ratios), ratios[0], ratios[BESIDE - 1]);
    let of = packets.len();
    println!("MAC bypass beside saturating EAP-TLS, p99 of {of}, in turns of {IN_TURN}, {BESIDE} times:");
    println!("  MAC bypass, median                         {:6.2} ms", median(&mut bypass) * 1e3);
    println!("  bare UDP echo beside the same load         {:6.2} ms", median(&mut bare) * 1e3);
    println!("  ratio, median                              {ratio:6.2}   ({least:.2} to {most:.2}; mark: at most 3)");
}

/// Seconds until each reply, one request at a time.
fn times(server: SocketAddr, packets: &[Vec<u8>]) -> Vec<f64> {
    let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
    socket.connect(server).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
    let mut buffer = [0; 4096];
    let time = |packet: &Vec<u8>| {
        let started = Instant::now();
        socket.send(packet).unwrap();
        let _ = socket.recv(&mut buffer);
        started.elapsed().as_secs_f64()
    };
    packets.iter().map(time).collect()
}

fn p99(times: &mut [f64]) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() * 99 / 100]
}

/// Conversations that stopped after our certificate.
fn memory(service: &Running, supplicant: &Supplicant) {
    let before = resident(service.pid());
    let secret = SharedSecret::new(MAST_WLC_1.secret.as_bytes());
    let dictionary = Dictionary::standard();
    let mut answered = 0;
    for _ in 0..IN_FLIGHT.div_ceil(100) {
        let socket = UdpSocket::bind((MAST_WLC_1.address, 0)).unwrap();
        socket.connect(service.radius).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        for number in 0..100u8 {
            answered += usize::from(half_way(&socket, supplicant, number, &secret, &dictionary));
        }
    }
    let counts = &service.get("health").1["packets"];
    let each = (resident(service.pid()) - before) / answered as f64;
    println!("{answered} conversations begun and left after our certificate, {} in flight:", counts["conversations"]);
    println!("  memory for each                            {:6.1} kB  (mark: at most 40)", each / 1e3);
}

/// Identity, Nak, ClientHello; then nothing more.
fn half_way(
    socket: &UdpSocket,
    supplicant: &Supplicant,
    number: u8,
    secret: &SharedSecret,
    dictionary: &Dictionary,
) -> bool {
    let random = Box::new(|bytes: &mut [u8]| getrandom::fill(bytes).unwrap());
    let mut peer = Peer::new(&supplicant.outer, supplicant.method.clone(), 4_000, random);
    let PeerStep::Send(mut packet) = peer.receive(&[1, 0, 0, 5, 1]) else { return false };
    let mut state: Option<Vec<u8>> = None;
    for round in 0..3u8 {
        let mut authenticator = [0; 16];
        getrandom::fill(&mut authenticator).unwrap();
        let ask = Ask::eap(supplicant.clone(), "02-00-5E-10-00-01").with("NAS-Port-Type", "Wireless-802.11");
        let identifier = number.wrapping_mul(2).wrapping_add(round * 85);
        let made = ask.conversation_packet(identifier, &authenticator, secret, dictionary, (&packet, state.as_deref()));
        socket.send(&made.unwrap()).unwrap();
        let mut buffer = [0; 4096];
        let Ok(length) = socket.recv(&mut buffer) else { return false };
        let reply = Packet::parse(&buffer[..length]).unwrap();
        state = reply.first(number::STATE).map(<[u8]>::to_vec);
        match reply.eap_message().map(|request| peer.receive(&request)) {
            Some(PeerStep::Send(next)) => packet = next,
            _ => return round == 2,
        }
    }
    true
}

/// Bytes of memory that a process has.
fn resident(pid: u32) -> f64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1024.0
}
