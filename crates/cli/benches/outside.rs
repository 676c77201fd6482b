//! A directory that takes 5 ms for every answer: how many questions a second it is asked over how many
//! connections, what one costs, what a kept answer costs, and what a directory costs logins and a MAC
//! bypass beside it, alive and dead.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::net::UdpSocket;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use regnant_base::Secret;
use regnant_campus::certificates::SERVER;
use regnant_campus::harbour::{MAST_WLC_1, PILOT_VPN_1, POLICY, QUAY_SW_1};
use regnant_certificates::{Authority, read_certificates};
use regnant_client::{Ask, Supplicant};
use regnant_decision::{Found, Store, StoreReply};
use regnant_directory::{Directory, DirectorySettings};
use regnant_eap::{ClientTls, Login, PeerMethod, TlsVersion, mschap};
use regnant_outside::{Never, Way, client_tls};
use regnant_policy::IdentityKind;
use regnant_radius::{Dictionary, SharedSecret};
use running::directory::order;
use running::{Ends as _, Running, typed};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use yardstick::{cpu, median, rest};

/// What every answer takes.
const FAR: Duration = Duration::from_millis(5);
const SECONDS: u64 = 10;
const RATE: u64 = 2_000;
const BASE: &str = "dc=tarnmouth,dc=example";
const PASSWORD: &str = "Tide-Table-61";
/// Names the folder of the stand-in's certificate, where this process is the stand-in.
const STAND_IN: &str = "REGNANT_BENCH_STAND_IN";
const PAIRS: usize = 7;
const LOGINS: usize = 200;
/// Everything that works in the service.
const THREADS: [&str; 4] = ["regnant-rx", "regnant-eap", "regnant-journal", "tokio"];

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    if let Some(folder) = std::env::var_os(STAND_IN) {
        return stand_in(folder.as_ref());
    }
    let folder = tempfile::tempdir().unwrap();
    let authority = Authority::new("Tarnmouth Directory Authority", running::issuer::now() - 86_400).unwrap();
    let issued = authority.issue(&order("localhost")).unwrap();
    for (name, text) in [("server.pem", &issued.certificate), ("server.key", &issued.key)] {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    std::fs::write(folder.path().join("authority.pem"), authority.certificate()).unwrap();
    let mut far = Far::start(folder.path());
    questions(&far, authority.certificate());
    let service = Running::harbour_with_one_receiver();
    connect(&service, folder.path(), &far);
    logins(&service, 0);
    logins(&service, 60);
    bypass(&service, &mut far);
}

/// The stand-in, in a process of its own.
struct Far {
    child: Child,
    port: u16,
}

impl Far {
    fn start(folder: &std::path::Path) -> Self {
        let program = std::env::current_exe().unwrap();
        let mut child =
            Command::new(program).arg("--bench").env(STAND_IN, folder).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.as_mut().unwrap()), &mut line).unwrap();
        Self { child, port: line.trim().parse().unwrap() }
    }

    fn url(&self) -> String {
        format!("ldaps://localhost:{}", self.port)
    }

    fn connections(&self) -> usize {
        let tcp = std::fs::read_to_string("/proc/self/net/tcp").unwrap();
        // The far end and the state: of this end the address follows.
        let to = format!(":{:04X} 01 ", self.port);
        tcp.lines().filter(|line| line.contains(&to)).count()
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// 2,000 questions a second, half of them for accounts with their groups, half of them proofs.
fn questions(far: &Far, authority: &str) {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let way = Way { tls: client_tls(Some(&read_certificates(authority).unwrap())), never: Never::default() };
    let directory = |keep| {
        let settings = DirectorySettings {
            servers: vec![far.url()],
            base: BASE.into(),
            bind_as: "cn=regnant".into(),
            keep,
            ..DirectorySettings::default()
        };
        Directory::new(settings, Secret::new(*b"x"), &way, &[], runtime.handle().clone()).unwrap()
    };
    let asked = Arc::new(directory(0));
    let account = runtime.block_on(async { account(&asked).await }).expect("the stand-in answers");
    let (answered, failed, most) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)), AtomicU64::new(0));
    let before = own_cpu();
    runtime.block_on(async {
        let begun = Instant::now();
        let mut sent = 0;
        while begun.elapsed() < Duration::from_secs(SECONDS) {
            let due = begun.elapsed().as_millis() as u64 * RATE / 1_000;
            for number in sent..due {
                let (asked, account) = (asked.clone(), account.clone());
                let (answered, failed) = (answered.clone(), failed.clone());
                let proves = number % 2 == 0;
                tokio::spawn(async move {
                    let went_well = match proves {
                        true => match asked.check_password(&account, Secret::new(PASSWORD.as_bytes()), "quay-sw-1") {
                            StoreReply::Now(answer) => answer.is_ok(),
                            StoreReply::Later(later) => later.await.is_ok(),
                        },
                        false => self::account(&asked).await.is_some(),
                    };
                    if went_well { &answered } else { &failed }.fetch_add(1, Ordering::Relaxed);
                });
            }
            sent = due;
            most.fetch_max(far.connections() as u64, Ordering::Relaxed);
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    });
    let (answered, spent) = (answered.load(Ordering::Relaxed), own_cpu() - before);
    println!(
        "a directory {} ms away, {RATE} questions a second offered (half accounts with groups, half proofs): {} answered a \
         second, {} in vain, over {} connections at most (mark: 64), {:.0} µs of CPU each",
        FAR.as_millis(),
        answered / SECONDS,
        failed.load(Ordering::Relaxed),
        most.load(Ordering::Relaxed),
        spent / answered as f64 * 1e6
    );
    let kept = directory(600);
    runtime.block_on(async { self::account(&kept).await });
    let mut turns: Vec<f64> = (0..9)
        .map(|_| {
            let begun = Instant::now();
            for _ in 0..10_000 {
                assert!(matches!(kept.account(IdentityKind::User, "ida.marsh", "quay-sw-1"), StoreReply::Now(Ok(_))));
            }
            begun.elapsed().as_secs_f64() / 10_000.0 * 1e6
        })
        .collect();
    println!("an account that is kept: {:.2} µs (mark: 20)", median(&mut turns));
}

async fn account(directory: &Directory) -> Option<regnant_decision::Account> {
    let found = match directory.account(IdentityKind::User, "ida.marsh", "quay-sw-1") {
        StoreReply::Now(answer) => answer,
        StoreReply::Later(later) => later.await,
    };
    match found {
        Ok(Found::Account(account)) => Some(account),
        _ => None,
    }
}

fn connect(service: &Running, folder: &std::path::Path, far: &Far) {
    service.client(&["trust", "add", "far"]).arg(folder.join("authority.pem")).succeeds();
    let url = far.url();
    let add = ["store", "add", "far-directory", "--kind", "directory", "--server", &url, "--trust", "far"];
    let how = ["--base", BASE, "--bind-as", "cn=regnant", "--ask-secret", "--nt-hash", "ntHash", "--keep", "0"];
    let output = typed(&mut service.client(&[&add[..], &how].concat()), "x\n");
    assert!(output.status.success(), "{}", running::printed(&output));
}

/// PEAP with EAP-MSCHAPv2 by the directory and by a store of the service's own, in turn.
fn logins(service: &Running, keep: u16) {
    service.client(&["store", "change", "far-directory", "--keep", &keep.to_string()]).succeeds();
    let folder = service.data.join("harbour");
    let by = |stores: &str| {
        let of_crew = "}\n\n  identify user in ";
        let policy = POLICY.replacen(&format!("{of_crew}harbour"), &format!("{of_crew}{stores}"), 1);
        std::fs::write(folder.join("main.writ"), policy).unwrap();
        service.client(&["policy", "activate"]).arg(&folder).succeeds();
        spent(service, 20);
        spent(service, LOGINS)
    };
    let mut ratios = Vec::new();
    let (mut own, mut far) = (Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        own.push(by("harbour"));
        far.push(by("far-directory"));
        ratios.push(far.last().unwrap() / own.last().unwrap());
    }
    println!(
        "PEAP with EAP-MSCHAPv2, accounts kept for {keep} s, CPU of the service: {:.0} µs by its own store, {:.0} µs by the \
         directory, ratio {:.2} (mark: 1.3)",
        median(&mut own) * 1e6,
        median(&mut far) * 1e6,
        median(&mut ratios)
    );
}

/// Seconds of CPU for a login.
fn spent(service: &Running, times: usize) -> f64 {
    rest(service);
    let before: f64 = THREADS.iter().map(|name| cpu(service.pid(), name)).sum();
    let authorities = read_certificates(&std::fs::read_to_string(service.data.join("harbour/authority.pem")).unwrap());
    let tls =
        ClientTls::new(&authorities.unwrap(), SERVER, None, Some(TlsVersion::Tls13)).unwrap().without_resumption();
    let inner = Box::new(PeerMethod::MsChapV2(Login::new("ida.marsh", PASSWORD)));
    let supplicant = Supplicant::new("ida", "anonymous", PeerMethod::peap(tls, "ida.marsh".into(), inner));
    let ask = Ask::eap(supplicant, "02-00-5E-10-00-01").with("NAS-Port-Type", "Wireless-802.11");
    let dictionary = Arc::new(Dictionary::standard());
    thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let exchange = MAST_WLC_1.exchange(service.radius);
                for _ in 0..times / 4 {
                    assert!(exchange.ask(&ask, &dictionary).unwrap().is_believed());
                }
            });
        }
    });
    rest(service);
    let after: f64 = THREADS.iter().map(|name| cpu(service.pid(), name)).sum();
    (after - before) / times as f64
}

/// A MAC bypass beside people whose directory answers, and beside people whose directory is dead.
fn bypass(service: &Running, far: &mut Far) {
    let folder = service.data.join("harbour");
    let policy = POLICY.replace("identify user in harbour", "identify user in far-directory");
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    let mut alive: Vec<f64> = (0..PAIRS).map(|_| p99(service)).collect();
    let _ = far.child.kill();
    let _ = far.child.wait();
    let mut dead: Vec<f64> = (0..PAIRS).map(|_| p99(service)).collect();
    let (alive, dead) = (median(&mut alive), median(&mut dead));
    println!(
        "MAC bypass beside logins through the directory, 99 of 100 within {alive:.2} ms; while it is dead within {dead:.2} ms, \
         ratio {:.2} (mark: 1.1)",
        dead / alive
    );
}

/// Milliseconds within which 99 of 100 are answered, while others log in.
fn p99(service: &Running) -> f64 {
    let over = AtomicBool::new(false);
    let dictionary = Dictionary::standard();
    thread::scope(|scope| {
        scope.spawn(|| {
            let secret = SharedSecret::new(PILOT_VPN_1.secret.as_bytes());
            let socket = UdpSocket::bind((PILOT_VPN_1.address, 0)).unwrap();
            socket.connect(service.radius).unwrap();
            socket.set_nonblocking(true).unwrap();
            let mut number = 0_u32;
            while !over.load(Ordering::Relaxed) {
                let mut authenticator = [0; 16];
                getrandom::fill(&mut authenticator).unwrap();
                let packet =
                    Ask::pap("ida.marsh", PASSWORD).packet(number as u8, &authenticator, &secret, true, &dictionary);
                let _ = socket.send(&packet.unwrap());
                number += 1;
                while socket.recv(&mut [0; 4096]).is_ok() {}
                thread::sleep(Duration::from_millis(10));
            }
        });
        let secret = SharedSecret::new(QUAY_SW_1.secret.as_bytes());
        let socket = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
        socket.connect(service.radius).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
        let mut times: Vec<f64> = (0..1_000_u32)
            .map(|number| {
                let mut authenticator = [0; 16];
                getrandom::fill(&mut authenticator).unwrap();
                let ask = Ask::mac("02-00-5E-20-00-07", 7);
                let packet = ask.packet(number as u8, &authenticator, &secret, true, &dictionary).unwrap();
                let begun = Instant::now();
                socket.send(&packet).unwrap();
                socket.recv(&mut [0; 4096]).unwrap();
                let took = begun.elapsed().as_secs_f64() * 1e3;
                thread::sleep(Duration::from_millis(1));
                took
            })
            .collect();
        over.store(true, Ordering::Relaxed);
        times.sort_by(f64::total_cmp);
        times[990]
    })
}

/// Seconds of CPU that this process has had.
fn own_cpu() -> f64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
    (fields[11].parse::<f64>().unwrap() + fields[12].parse::<f64>().unwrap()) / 100.0
}

/// A directory that knows one person, and takes its time.
fn stand_in(folder: &std::path::Path) {
    let read = |name: &str| std::fs::read(folder.join(name)).unwrap();
    let chain: Vec<_> = CertificateDer::pem_slice_iter(&read("server.pem")).map(Result::unwrap).collect();
    let key = PrivateKeyDer::from_pem_slice(&read("server.key")).unwrap();
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let config = config.with_no_client_auth().with_single_cert(chain, key).unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        println!("{}", listener.local_addr().unwrap().port());
        loop {
            let (stream, _) = listener.accept().await.unwrap();
            stream.set_nodelay(true).unwrap();
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(stream) = acceptor.accept(stream).await else { return };
                let (mut from, mut to) = tokio::io::split(stream);
                let (answers, mut waiting) = mpsc::unbounded_channel::<Vec<u8>>();
                tokio::spawn(async move {
                    while let Some(answer) = waiting.recv().await {
                        if to.write_all(&answer).await.is_err() {
                            return;
                        }
                    }
                });
                let (mut bytes, mut buffer) = (Vec::new(), [0; 4096]);
                while let Ok(count @ 1..) = from.read(&mut buffer).await {
                    bytes.extend_from_slice(&buffer[..count]);
                    while let Some((length, answer)) = answer_to(&bytes) {
                        bytes.drain(..length);
                        let answers = answers.clone();
                        tokio::spawn(async move {
                            tokio::time::sleep(FAR).await;
                            let _ = answers.send(answer);
                        });
                    }
                }
            });
        }
    });
}

/// The first message of these bytes, by its length, and what it is answered with.
fn answer_to(bytes: &[u8]) -> Option<(usize, Vec<u8>)> {
    let (length, start) = match *bytes.get(1)? {
        short if short < 0x80 => (usize::from(short), 2),
        0x81 => (usize::from(*bytes.get(2)?), 3),
        _ => (usize::from(u16::from_be_bytes([*bytes.get(2)?, *bytes.get(3)?])), 4),
    };
    let message = bytes.get(start..start + length)?;
    let id = &message[..2 + usize::from(message[1])];
    let done = |tag: u8| tlv(0x30, &[id, &tlv(tag, &[0x0a, 1, 0, 4, 0, 4, 0])].concat());
    let answer = match message[id.len()] {
        0x60 => done(0x61),
        0x63 => {
            let hash = mschap::nt_password_hash(PASSWORD).map(|byte| format!("{byte:02X}")).concat();
            let group = format!("cn=staff,{BASE}");
            let attribute = |name: &str, value: &str| {
                let values = tlv(0x31, &tlv(4, value.as_bytes()));
                tlv(0x30, &[tlv(4, name.as_bytes()), values].concat())
            };
            let attributes =
                [("uid", "ida.marsh"), ("cn", "staff"), ("ntHash", hash.as_str()), ("memberOf", group.as_str())];
            let attributes: Vec<u8> = attributes.iter().flat_map(|(name, value)| attribute(name, value)).collect();
            let name = tlv(4, format!("uid=ida.marsh,{BASE}").as_bytes());
            let entry = tlv(0x64, &[name, tlv(0x30, &attributes)].concat());
            [tlv(0x30, &[id, &entry].concat()), done(0x65)].concat()
        }
        _ => Vec::new(),
    };
    Some((start + length, answer))
}

/// A value of BER with its tag and its length.
fn tlv(tag: u8, contents: &[u8]) -> Vec<u8> {
    let length = contents.len();
    let head = match length {
        ..0x80 => vec![tag, length as u8],
        0x80..0x100 => vec![tag, 0x81, length as u8],
        _ => vec![tag, 0x82, (length >> 8) as u8, length as u8],
    };
    [&head, contents].concat()
}
