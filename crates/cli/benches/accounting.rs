//! Reports acknowledged durably, in turn with a bare keeper that checks the same packets,
//! appends their bytes to a file in the same groups, syncs it and answers; and how the cost
//! grows with what is kept already.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::fs::{self, File};
use std::io::Write;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::harbour::QUAY_SW_1;
use regnant_client::load::{self, Pace, Plan, Report, Source};
use regnant_client::{Ask, Patience};
use regnant_radius::{Builder, Code, Dictionary, Packet, SharedSecret, check_accounting_request};
use running::Running;
use yardstick::{cpu, median};

const PAIRS: usize = 5;
const SECONDS: u64 = 3;
/// Reports under way.
const WINDOWS: [u32; 3] = [64, 512, 2_000];
/// How long the service lets reports gather, and how many it writes at once.
const GATHER: Duration = Duration::from_millis(4);
const GROUP: usize = 512;
/// Reports that are kept in the end.
const MANY: usize = 1_000_000;

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    let dictionary = Arc::new(Dictionary::standard());
    let service = Running::harbour();
    // On the same disk.
    let bare = start_keeper(File::create(service.data.join("bare")).unwrap());
    println!("reports acknowledged durably, {PAIRS} pairs of {SECONDS} s each:");
    println!(
        "  {:>9}  {:>9}  {:>9}  {:>6}  {:>10}  {:>10}  {:>6}",
        "under way", "a second", "bare", "ratio", "CPU each", "bare", "ratio"
    );
    for window in WINDOWS {
        pairs(&service, bare, window, &dictionary);
    }
    drop(service);
    println!("as more is kept (2,000 under way):");
    grow(&Running::harbour(), &dictionary);
}

fn pairs(service: &Running, bare: SocketAddr, window: u32, dictionary: &Arc<Dictionary>) {
    let (mut rates, mut bares, mut costs, mut bare_costs) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        let before = kept_by(service);
        let report = run(service.accounting, window, dictionary);
        costs.push((kept_by(service) - before) / report.accepted as f64 * 1e6);
        rates.push(report.rate());
        let before = cpu(std::process::id(), "bare-keeper");
        let report = run(bare, window, dictionary);
        bare_costs.push((cpu(std::process::id(), "bare-keeper") - before) / report.accepted as f64 * 1e6);
        bares.push(report.rate());
    }
    let [rate, bare, cost, bare_cost] = [&mut rates, &mut bares, &mut costs, &mut bare_costs].map(|all| median(all));
    println!(
        "  {window:>9}  {rate:>9.0}  {bare:>9.0}  {:>6.2}  {cost:>7.2} µs  {bare_cost:>7.2} µs  {:>6.2}",
        rate / bare,
        cost / bare_cost
    );
}

/// CPU seconds of the threads that take reports and keep them.
fn kept_by(service: &Running) -> f64 {
    cpu(service.pid(), "regnant-acct") + cpu(service.pid(), "regnant-account")
}

fn grow(service: &Running, dictionary: &Arc<Dictionary>) {
    let mut next = 0;
    loop {
        let kept = service.get("health").1["packets"]["reports"].as_u64().unwrap() as usize;
        if kept >= next {
            let (cost, begun) = (kept_by(service), Instant::now());
            let report = run(service.accounting, 2_000, dictionary);
            let cost = (kept_by(service) - cost) / report.accepted as f64 * 1e6;
            let asked = Instant::now();
            service.get("journal?outcome=accounting&limit=100");
            let newest = asked.elapsed();
            let asked = Instant::now();
            service.get("journal?outcome=accounting&q=nobody-has-this");
            let (none, bytes) = (asked.elapsed(), bytes(service) / (kept as u64 + report.accepted));
            println!(
                "  {kept:>9} kept: {:>6.0} a second, {cost:.2} µs each, {bytes} B each; the newest 100 in {newest:.1?}, a \
                 search in vain {none:.1?} ({:.0?})",
                report.rate(),
                begun.elapsed()
            );
            if next >= MANY {
                return;
            }
            next += MANY / 4;
        } else {
            run(service.accounting, 2_000, dictionary);
        }
    }
}

fn bytes(service: &Running) -> u64 {
    let files = fs::read_dir(service.data.join("accounting")).unwrap();
    files.map(|file| file.unwrap().metadata().unwrap().len()).sum()
}

/// Reports of sessions of their own each, as a switch sends them.
fn run(server: SocketAddr, window: u32, dictionary: &Arc<Dictionary>) -> Report {
    let report = Ask::report("Start")
        .with("User-Name", "ida.marsh")
        .with("Calling-Station-Id", "02-00-5E-10-00-01")
        .with("NAS-Port", "7")
        .with("NAS-Port-Type", "Ethernet")
        .with("Framed-IP-Address", "10.44.20.7")
        .with("Event-Timestamp", "1795000000");
    let source = Source {
        from: IpAddr::V4(QUAY_SW_1.address),
        secret: SharedSecret::new(QUAY_SW_1.secret.as_bytes()),
        signed: false,
        asks: vec![(Arc::new(report), 1)],
    };
    let time = Duration::from_secs(SECONDS);
    let plan = Plan { server, sources: vec![source], pace: Pace::Window(window), time, patience: Patience::default() };
    let report = load::run(&plan, dictionary, |_| ()).unwrap();
    assert_eq!(report.unanswered, 0, "some stayed unanswered");
    report
}

/// Checks, gathers, appends, syncs and answers: what cannot be left out. One thread does it
/// all, so that nothing is taken while the disk is waited for.
fn start_keeper(mut file: File) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    // As much room as the service asks for.
    let _ = socket2::SockRef::from(&socket).set_recv_buffer_size(4 << 20);
    let address = socket.local_addr().unwrap();
    let secret = SharedSecret::new(QUAY_SW_1.secret.as_bytes());
    let work = move || {
        let (mut buffer, mut group, mut answers) = ([0; 4096], Vec::new(), Vec::new());
        loop {
            socket.set_nonblocking(false).unwrap();
            let mut came = socket.recv_from(&mut buffer).ok();
            socket.set_nonblocking(true).unwrap();
            let begun = Instant::now();
            loop {
                if let Some((length, from)) = came {
                    let packet = Packet::parse(&buffer[..length]).unwrap();
                    std::hint::black_box(check_accounting_request(&packet, &secret));
                    let response = Builder::unsigned(Code::ACCOUNTING_RESPONSE, packet.identifier());
                    answers.push((response.reply(&packet, &secret).unwrap(), from));
                    group.extend_from_slice(&buffer[..length]);
                }
                if answers.len() >= GROUP {
                    break;
                }
                came = socket.recv_from(&mut buffer).ok();
                if came.is_none() {
                    match GATHER.checked_sub(begun.elapsed()) {
                        Some(left) => thread::sleep(left.min(Duration::from_millis(1))),
                        None => break,
                    }
                }
            }
            file.write_all(&group).unwrap();
            file.sync_data().unwrap();
            for (answer, to) in answers.drain(..) {
                let _ = socket.send_to(&answer, to);
            }
            group.clear();
        }
    };
    thread::Builder::new().name("bare-keeper".into()).spawn(work).unwrap();
    address
}
