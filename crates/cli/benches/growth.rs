//! What more rules and more devices cost: CPU of a decision on the receiving threads and
//! on the journal's, bytes of an entry, activation, start and memory.
//!
//! What counts is how the figures grow from line to line, and the ratio to the bare echo
//! of the same minutes.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::fmt::Write as _;
use std::fs;
use std::net::SocketAddr;
use std::time::Instant;

use running::{Ends as _, Running};
use serde_json::json;
use yardstick::policy::policy;
use yardstick::{blast, cpu, median, one_reply, packets, rest, start_echo};

const RULES: [usize; 4] = [10, 100, 1_000, 10_000];
const DEVICES: [u32; 2] = [1_000, 1_000_000];
const PAIRS: usize = 5;

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    let mut service = Running::harbour_with_one_receiver();
    let echo = start_echo(&one_reply(service.radius));
    println!("MAC bypass of a camera that the last rule lets in; medians of {PAIRS} turns.");
    println!("  rules     devices  receiving  of echo  journal  entry   activated  started  resident");
    for rules in RULES {
        let activated = activate(&service, rules);
        let (started, again) = restart(service);
        service = again;
        tell(&service, echo, (rules, 100), Some(activated), started);
    }
    activate(&service, RULES[0]);
    for devices in DEVICES {
        add_devices(&service, devices);
        let (started, again) = restart(service);
        service = again;
        tell(&service, echo, (RULES[0], devices as usize), None, started);
    }
}

/// Makes a policy of this many rules the active one, and gives the seconds it took.
fn activate(service: &Running, rules: usize) -> f64 {
    let source = policy(rules);
    let begun = Instant::now();
    let (status, told) = service.post("policy/activate", &json!({ "source": source }));
    assert_eq!(status, 200, "{told}");
    begun.elapsed().as_secs_f64()
}

fn restart(mut service: Running) -> (f64, Running) {
    assert_eq!(service.end("-TERM"), Some(0));
    started(service)
}

/// Starts again, and gives the seconds until it answers.
fn started(mut service: Running) -> (f64, Running) {
    let begun = Instant::now();
    let again = service.again();
    (begun.elapsed().as_secs_f64(), again)
}

/// Sensors in as many groups as a port has teams, by the import that people use.
fn add_devices(service: &Running, devices: u32) {
    let mut lines = String::from("mac,title,groups\n");
    for number in 0..devices {
        let [a, b, c, d] = number.to_be_bytes();
        let _ = writeln!(lines, "06:00:{a:02x}:{b:02x}:{c:02x}:{d:02x},sensor,team-{}", number % 200);
    }
    let file = service.data.join("sensors.csv");
    fs::write(&file, lines).unwrap();
    service.client(&["device", "import", "--all-or-none"]).arg(&file).succeeds();
}

fn tell(service: &Running, echo: SocketAddr, size: (usize, usize), activated: Option<f64>, started: f64) {
    let own = std::process::id();
    let (mut receiving, mut journal, mut ratio) = (Vec::new(), Vec::new(), Vec::new());
    blast(service.radius, &packets());
    rest(service);
    let before = entries(service);
    for _ in 0..PAIRS {
        let packets = packets();
        let at = (cpu(service.pid(), "regnant-rx"), cpu(service.pid(), "regnant-journal"));
        let answered = blast(service.radius, &packets).answered as f64;
        let each = (cpu(service.pid(), "regnant-rx") - at.0) / answered;
        rest(service);
        journal.push((cpu(service.pid(), "regnant-journal") - at.1) / answered);
        let at = cpu(own, "bare-echo");
        let echoed = blast(echo, &packets).answered as f64;
        ratio.push(each / ((cpu(own, "bare-echo") - at) / echoed));
        receiving.push(each);
    }
    let after = entries(service);
    let entry = (after.1 - before.1) as f64 / (after.0 - before.0) as f64;
    println!(
        "  {:6}  {:9}  {:6.2} µs  {:7.2}  {:4.1} µs  {:4.0} B  {:>9}  {:5.2} s  {:5} MB",
        size.0,
        size.1,
        median(&mut receiving) * 1e6,
        median(&mut ratio),
        median(&mut journal) * 1e6,
        entry,
        activated.map_or("-".into(), |seconds| format!("{seconds:.2} s")),
        started,
        resident(service)
    );
}

/// How many entries the journal has, and their bytes.
fn entries(service: &Running) -> (i64, i64) {
    let file = rusqlite::Connection::open(service.journal_file()).unwrap();
    let sql = "SELECT count(*), sum(length(evidence) + length(search) + 24) FROM entry";
    file.query_row(sql, [], |row| Ok((row.get(0)?, row.get(1)?))).unwrap()
}

fn resident(service: &Running) -> u64 {
    let status = fs::read_to_string(format!("/proc/{}/status", service.pid())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.trim().trim_end_matches("kB").trim().parse::<u64>().unwrap() / 1_024
}
