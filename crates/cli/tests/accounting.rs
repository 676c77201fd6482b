//! Accounting over UDP: what equipment reports is kept, told, and found with its decision.
mod running;

use std::collections::{BTreeSet, HashMap};
use std::fs;
use std::net::{SocketAddr, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::Nas;
use regnant_campus::harbour::*;
use regnant_client::{Ask, Credential};
use regnant_radius::{Builder, Code, Dictionary, Packet, SharedSecret, check_accounting_reply, check_reply, number};
use running::*;
use serde_json::Value;

const CRANE: &str = "02-00-5E-20-00-07";

static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);

fn secret(nas: &Nas) -> SharedSecret {
    SharedSecret::new(nas.secret.as_bytes())
}

fn socket(nas: &Nas, server: SocketAddr) -> UdpSocket {
    let socket = UdpSocket::bind((nas.address, 0)).unwrap();
    socket.connect(server).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    socket
}

fn packet(nas: &Nas, report: &Ask, identifier: u8) -> Vec<u8> {
    report.packet(identifier, &[9; 16], &secret(nas), false, &DICTIONARY).unwrap()
}

fn receive(socket: &UdpSocket) -> Option<Vec<u8>> {
    let mut buffer = [0; 4096];
    socket.recv(&mut buffer).ok().map(|length| buffer[..length].to_vec())
}

/// Sends a packet, and gives the answer where one comes.
fn answer(socket: &UdpSocket, bytes: &[u8]) -> Option<Vec<u8>> {
    socket.send(bytes).unwrap();
    receive(socket)
}

/// Whether these bytes acknowledge a report.
fn acknowledges(nas: &Nas, report: &[u8], reply: &[u8]) -> bool {
    let authenticator = report[4..20].try_into().unwrap();
    let reply = check_accounting_reply(reply, report[1], &authenticator, &secret(nas)).unwrap();
    reply.code() == Code::ACCOUNTING_RESPONSE
}

fn report(status: &str, session: &str, port: u32) -> Ask {
    Ask::report(status).with("Acct-Session-Id", session).with("NAS-Port", &port.to_string())
}

fn trail(service: &Running, entry: &Value) -> Value {
    service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1
}

fn told(entries: &[Value]) -> Vec<String> {
    entries.iter().map(sentence).collect()
}

#[test]
fn a_session_is_told_with_the_decision_that_gave_it() {
    let mut service = Running::harbour();
    let accounting = service.accounting.to_string();
    // A make that repeats every Class, and one that keeps a single one.
    for (nas, mac, port) in [(QUAY_SW_1, CRANE, "NAS-Port=7"), (YARD_SW_1, "02:00:5e:40:00:28", "NAS-Port=3")] {
        let told =
            service.try_from(&nas, &["mac", "--mac", mac, "--attribute", port, "--accounting", &accounting]).succeeds();
        assert!(told.contains("Start acknowledged after") && told.contains("Stop acknowledged after"), "{told}");
        assert_eq!(told.contains("Class  "), nas.name == "quay-sw-1", "{told}");
    }
    let decision = |nas: &str| service.entries(&format!("q={nas}&outcome=granted"), 1)[0].clone();
    for (nas, inferred) in [("quay-sw-1", false), ("yard-sw-1", true)] {
        let reports = service.entries(&format!("q={nas}&outcome=accounting"), 2);
        let [stop, start] = &reports[..] else { panic!("{reports:?}") };
        assert!(sentence(start).contains(&format!(" on {nas} port ")) && sentence(start).contains(" began session "));
        assert!(sentence(stop).ends_with(" after 0 s: the user asked for it."), "{}", sentence(stop));
        for one in [stop, start] {
            let behind = &trail(&service, one)["decision"];
            assert_eq!((&behind["id"], &behind["inferred"]), (&decision(nas)["id"], &Value::from(inferred)), "{nas}");
            assert_eq!(sentence(&behind["entry"]), sentence(&decision(nas)));
        }
        let of_decision = &trail(&service, &decision(nas))["reports"];
        assert_eq!(of_decision, &Value::from(vec![start.clone(), stop.clone()]), "the oldest first");
    }
    let explained = service.client(&["trail", decision("yard-sw-1")["id"].as_str().unwrap()]).succeeds();
    assert!(explained.contains("What was reported of this access:\n"), "{explained}");

    // What was given before a restart is still found.
    let given = decision("yard-sw-1")["id"].clone();
    assert_eq!(service.end("-TERM"), Some(0));
    let service = service.again();
    let accounting = service.accounting.to_string();
    let until = Instant::now() + Duration::from_secs(10);
    let found = loop {
        let mut tried = service.try_from(&YARD_SW_1, &["accounting", "--mac", "02-00-5E-40-00-28"]);
        tried.args(["--status", "interim", "--attribute", "NAS-Port=3"]);
        // Of the two servers that `try_from` and this name, the first does not answer reports.
        tried.args(["--server", &accounting, "--wait", "1", "--tries", "1"]).succeeds();
        let newest = service.entries("outcome=accounting", 5)[0].clone();
        let behind = trail(&service, &newest)["decision"]["id"].clone();
        if !behind.is_null() {
            break behind;
        }
        assert!(Instant::now() < until, "nothing is remembered");
    };
    assert_eq!(found, given);
}

#[test]
fn logins_of_administrators_get_no_class_of_ours_unless_the_nas_is_set_so() {
    let service = Running::harbour();
    let login = ["pap", "--user", "ola.nett", "--password", "Fibre-Spool-90", "--attribute", "Service-Type=Login"];
    let classes = || {
        let told = service.try_from(&GATE_FW_1, &login).succeeds();
        let lines = told.lines().filter(|line| line.trim_start().starts_with("Class ")).map(str::to_owned);
        lines.map(|line| line.split_whitespace().nth(1).unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(classes(), ["\"operator\""]);
    let inventory = service.data.join("firewall.toml");
    let entry = INVENTORY.split("[[nas]]").find(|entry| entry.contains("\"gate-fw-1\"")).unwrap();
    let entry = entry.split("[[").next().unwrap();
    fs::write(&inventory, format!("[[nas]]{entry}\nclass-at-login = true\n")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let both = classes();
    assert_eq!((both.len(), both[0].as_str()), (2, "\"operator\""), "after the grant's: {both:?}");
    assert!(both[1].starts_with("0x91"), "{both:?}");
    let (_, list) = service.get("nases");
    let set = list["nases"].as_array().unwrap().iter().filter(|nas| nas["class_at_login"] == true);
    assert_eq!(set.map(|nas| &nas["name"]).collect::<Vec<_>>(), ["gate-fw-1"]);
}

#[test]
fn what_cannot_be_a_report_is_told_with_its_cause_and_never_acknowledged() {
    let service = Running::harbour();
    let start = report("Start", "one", 7);
    let whole = packet(&QUAY_SW_1, &start, 1);
    let mut flipped = whole.clone();
    *flipped.last_mut().unwrap() ^= 1;
    let built = |attributes: &[(u8, &[u8])], signed: bool| {
        let begin = if signed { Builder::new } else { Builder::unsigned };
        let mut builder = begin(Code::ACCOUNTING_REQUEST, 5);
        attributes.iter().for_each(|(number, value)| builder.attribute(*number, value).unwrap());
        builder.accounting_request(&secret(&QUAY_SW_1))
    };
    let status: (u8, &[u8]) = (number::ACCT_STATUS_TYPE, &[0, 0, 0, 1]);
    // Signed over the wrong bytes, and then with a right authenticator around that.
    let forged = built(&[status, (number::MESSAGE_AUTHENTICATOR, &[7; 16])], false);
    let access = Ask::mac(CRANE, 7).packet(3, &[9; 16], &secret(&QUAY_SW_1), true, &DICTIONARY).unwrap();
    let cases: [(&Nas, Vec<u8>, &str); 8] = [
        (&STRAY_SW_9, packet(&STRAY_SW_9, &start, 1), "no NAS has this address"),
        (
            &MISTYPED_SW_1,
            packet(&MISTYPED_SW_1, &start, 1),
            "the shared secret differs (the authenticator of the Accounting-Request is wrong)",
        ),
        (&GATE_FW_1, flipped, "the shared secret differs (the authenticator of the Accounting-Request is wrong)"),
        (&QUAY_SW_1, access, "Access-Request does not belong on the accounting port"),
        (&QUAY_SW_1, built(&[], false), "the packet is malformed: it has no Acct-Status-Type (attribute 40)"),
        (
            &QUAY_SW_1,
            built(&[status, status], false),
            "the packet is malformed: it has Acct-Status-Type (attribute 40) twice",
        ),
        (
            &QUAY_SW_1,
            built(&[(number::ACCT_STATUS_TYPE, &[1])], false),
            "the packet is malformed: its Acct-Status-Type (attribute 40) is no number",
        ),
        (&QUAY_SW_1, forged, "the packet is malformed: its Message-Authenticator (attribute 80) is wrong"),
    ];
    for (number, (nas, bytes, cause)) in cases.iter().enumerate() {
        let silent = socket(nas, service.accounting);
        silent.send(bytes).unwrap();
        // What is answered after it shows that it was no slow answer.
        let other = socket(&TOWER_RT_1, service.accounting);
        let told = report("Interim-Update", &number.to_string(), 1);
        assert!(answer(&other, &packet(&TOWER_RT_1, &told, 8)).is_some());
        silent.set_read_timeout(Some(Duration::from_millis(100))).unwrap();
        assert_eq!(receive(&silent), None, "{cause}");
    }
    let unheard = told(&service.entries("outcome=unheard", cases.len()));
    for (_, _, cause) in &cases {
        assert!(
            unheard.iter().any(|told| told.ends_with(&format!("stayed unheard: {cause}."))),
            "{cause}: {unheard:?}"
        );
    }
    assert_eq!(service.entries("outcome=accounting", cases.len()).len(), cases.len(), "only what was acknowledged");

    // One that is signed as well is right, and Status-Server is answered.
    let quay = socket(&QUAY_SW_1, service.accounting);
    let signed = built(&[status, (number::ACCT_SESSION_ID, b"signed")], true);
    assert!(acknowledges(&QUAY_SW_1, &signed, &answer(&quay, &signed).unwrap()));
    let alive = Builder::new(Code::STATUS_SERVER, 6).request(&[3; 16], &secret(&QUAY_SW_1));
    let reply = answer(&quay, &alive).unwrap();
    assert_eq!(check_reply(&reply, 6, &[3; 16], &secret(&QUAY_SW_1)).unwrap().code(), Code::ACCOUNTING_RESPONSE);
    let unsigned = Builder::unsigned(Code::STATUS_SERVER, 6).request(&[4; 16], &secret(&QUAY_SW_1));
    quay.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    assert_eq!(answer(&quay, &unsigned), None);
    // No port of ours takes what belongs on the other.
    let wrong_port = socket(&QUAY_SW_1, service.radius);
    wrong_port.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    assert_eq!(answer(&wrong_port, &whole), None);
}

#[test]
fn one_event_is_one_entry_however_often_it_is_sent() {
    let service = Running::harbour();
    let quay = socket(&QUAY_SW_1, service.accounting);
    let start = report("Start", "5e-7", 7).with("Proxy-State", "first");
    let first = packet(&QUAY_SW_1, &start, 1);
    let reply = answer(&quay, &first).unwrap();
    assert!(acknowledges(&QUAY_SW_1, &first, &reply));
    assert_eq!(Packet::parse(&reply).unwrap().first(number::PROXY_STATE), Some(&b"first"[..]));
    // The very packet again, from there and from another port.
    assert_eq!(answer(&quay, &first).unwrap(), reply);
    assert!(acknowledges(&QUAY_SW_1, &first, &answer(&socket(&QUAY_SW_1, service.accounting), &first).unwrap()));
    // The same event, sent anew under another identifier as RFC 2866 section 5.2 wants it.
    let later = packet(&QUAY_SW_1, &start.clone().with("Acct-Delay-Time", "3"), 2);
    assert!(acknowledges(&QUAY_SW_1, &later, &answer(&quay, &later).unwrap()));
    // Another session, another port, another NAS: other events.
    for (nas, other) in [
        (QUAY_SW_1, report("Start", "5e-8", 7)),
        (QUAY_SW_1, report("Start", "5e-7", 8)),
        (QUAY_SW_1, report("Interim-Update", "5e-7", 7)),
        (YARD_SW_1, report("Start", "5e-7", 7)),
    ] {
        let bytes = packet(&nas, &other, 3);
        assert!(acknowledges(&nas, &bytes, &answer(&socket(&nas, service.accounting), &bytes).unwrap()));
    }
    let entries = told(&service.entries("outcome=accounting", 5));
    assert_eq!(entries.len(), 5, "{entries:?}");
    let (_, health) = service.get("health");
    assert_eq!(health["packets"]["repeated"], 1);
    assert_eq!(health["packets"]["reports"], 7, "every packet but the repeat was acknowledged once");
}

#[test]
fn a_report_says_nothing_that_it_should_not_and_names_no_decision_that_it_has_not_seen() {
    let service = Running::harbour();
    let accounting = service.accounting.to_string();
    let tried = ["mac", "--mac", CRANE, "--attribute", "NAS-Port=7", "--json", "--accounting", &accounting];
    let reply: Value = serde_json::from_str(&service.try_from(&QUAY_SW_1, &tried).succeeds()).unwrap();
    let class = reply["attributes"].as_array().unwrap().iter().find(|one| one["name"] == "Class").unwrap();
    let class: Vec<u8> = {
        let digits = &class["value"].as_str().unwrap()[2..];
        (0..digits.len()).step_by(2).map(|at| u8::from_str_radix(&digits[at..at + 2], 16).unwrap()).collect()
    };
    assert!(class.len() <= 40);
    let with_class = |class: &[u8], session: &str| {
        let report = report("Start", session, 21).with("User-Name", "mallory");
        Ask { credential: Credential::Report(vec![b"crew".to_vec(), class.to_vec()]), ..report }
    };
    let mut changed = class.clone();
    changed[3] ^= 1;
    let send = |nas: &Nas, report: &Ask| {
        let bytes = packet(nas, report, 1);
        assert!(acknowledges(nas, &bytes, &answer(&socket(nas, service.accounting), &bytes).unwrap()));
    };
    send(&QUAY_SW_1, &with_class(&changed, "changed"));
    send(&YARD_SW_1, &with_class(&class, "elsewhere"));
    // Attributes that a report must not have (RFC 2866 section 5.13).
    send(&QUAY_SW_1, &report("Start", "secret", 22).with("CHAP-Password", "0x5f4d79536563726574576f7264"));
    let of = |session: &str| trail(&service, &service.entries(&format!("outcome=accounting&q={session}"), 1)[0]);
    assert_eq!(of("changed")["decision"], Value::Null);
    let elsewhere = of("elsewhere");
    assert_eq!(elsewhere["decision"]["inferred"], false);
    let station = &elsewhere["stations"][1];
    assert!(station["line"].as_str().unwrap().ends_with("That decision was made for quay-sw-1."), "{station}");
    assert!(station["advice"].as_str().unwrap().contains("somebody repeats what they have seen elsewhere"));
    let files = fs::read_dir(service.data.join("accounting")).unwrap().map(|entry| entry.unwrap().path());
    let bytes: Vec<u8> = files.flat_map(|file| fs::read(file).unwrap()).collect();
    let holds = |word: &[u8]| bytes.windows(word.len()).any(|window| window == word);
    assert!(holds(b"elsewhere") && !holds(b"MySecretWord"), "a password is kept");
}

#[test]
fn equipment_that_starts_and_stops_is_told() {
    let service = Running::harbour();
    let quay = socket(&QUAY_SW_1, service.accounting);
    for (status, identifier) in [("Accounting-On", 1), ("Accounting-Off", 2), ("Failed", 3), ("77", 4)] {
        let bytes = packet(&QUAY_SW_1, &Ask::report(status).with("Acct-Session-Id", "boot"), identifier);
        assert!(acknowledges(&QUAY_SW_1, &bytes, &answer(&quay, &bytes).unwrap()), "{status}");
    }
    let large = report("Stop", "large", 3)
        .with("User-Name", "ida.marsh")
        .with("Calling-Station-Id", "02-00-5E-10-00-01")
        .with("Acct-Session-Time", "7500")
        .with("Acct-Input-Octets", "5")
        .with("Acct-Input-Gigawords", "3")
        .with("Acct-Output-Octets", "310400000")
        .with("Acct-Terminate-Cause", "Lost-Carrier");
    let bytes = packet(&QUAY_SW_1, &large, 9);
    assert!(acknowledges(&QUAY_SW_1, &bytes, &answer(&quay, &bytes).unwrap()));
    let entries = told(&service.entries("outcome=accounting", 5));
    assert_eq!(
        entries,
        [
            "ida.marsh 02:00:5e:10:00:01 on quay-sw-1 port 3 ended session large after 2 h 5 min, 12 GB sent and 310 MB \
             received: the line went dead.",
            "somebody unnamed on quay-sw-1 was reported with session boot (status 77).",
            "somebody unnamed on quay-sw-1 was reported with session boot (Failed).",
            "quay-sw-1 is about to stop: its sessions end.",
            "quay-sw-1 has started: no session of before lasts.",
        ]
    );
}

/// Every session of the accounting that the service has, by name, and how often.
fn kept(service: &Running) -> HashMap<String, usize> {
    let (mut all, mut before) = (HashMap::new(), String::new());
    loop {
        let (_, list) = service.get(&format!("journal?outcome=accounting&limit=500{before}"));
        let entries = list["entries"].as_array().unwrap();
        for entry in entries {
            let told = sentence(entry);
            let session = told.split(" session ").nth(1).and_then(|rest| rest.split(['.', ' ']).next()).unwrap();
            *all.entry(session.to_owned()).or_default() += 1;
        }
        match entries.last() {
            Some(last) => before = format!("&before={}", last["id"].as_str().unwrap()),
            None => return all,
        }
    }
}

/// Reports from one NAS until the service is gone or `stop` says so, many at a time; gives
/// the packets with the sessions that were acknowledged, and those that were not.
fn report_on(server: SocketAddr, nas: Nas, lane: usize, stop: &AtomicBool) -> (Vec<String>, Vec<Vec<u8>>) {
    let from = UdpSocket::bind((nas.address, 0)).unwrap();
    from.connect(server).unwrap();
    from.set_read_timeout(Some(Duration::from_millis(400))).unwrap();
    let (mut acknowledged, mut pending) = (Vec::new(), HashMap::new());
    for number in 0u32.. {
        if stop.load(Ordering::Relaxed) || pending.len() > 100 {
            break;
        }
        let session = format!("{lane}x{number}");
        let bytes = packet(&nas, &report("Start", &session, number % 48), number as u8);
        if from.send(&bytes).is_err() {
            break;
        }
        pending.insert(number as u8, (session, bytes));
        while pending.len() >= 32 {
            let Some(reply) = receive(&from) else { break };
            if let Some((session, bytes)) = pending.remove(&reply[1]) {
                assert!(acknowledges(&nas, &bytes, &reply));
                acknowledged.push(session);
            }
        }
    }
    while let Some(reply) = receive(&from) {
        if let Some((session, _)) = pending.remove(&reply[1]) {
            acknowledged.push(session);
        }
    }
    (acknowledged, pending.into_values().map(|(_, bytes)| bytes).collect())
}

/// Packets that nobody acknowledged, by NAS.
type Left = Vec<(Nas, Vec<Vec<u8>>)>;

/// What [`report_on`] gives for several NASes while something happens to the service.
fn under_load(server: SocketAddr, happens: impl FnOnce()) -> (BTreeSet<String>, Left) {
    let stop = AtomicBool::new(false);
    thread::scope(|scope| {
        let lanes = [QUAY_SW_1, YARD_SW_1, MAST_WLC_1, GATE_FW_1];
        let lanes = lanes.map(|nas| {
            (
                nas,
                scope.spawn({
                    let stop = &stop;
                    move || report_on(server, nas, nas.address.octets()[3].into(), stop)
                }),
            )
        });
        happens();
        stop.store(true, Ordering::Relaxed);
        let (mut acknowledged, mut left) = (BTreeSet::new(), Vec::new());
        for (nas, lane) in lanes {
            let (sessions, pending) = lane.join().unwrap();
            acknowledged.extend(sessions);
            left.push((nas, pending));
        }
        (acknowledged, left)
    })
}

#[test]
fn what_was_acknowledged_outlives_a_kill_and_what_is_sent_again_is_kept_once() {
    let mut service = Running::harbour();
    for pause in [300, 500, 700] {
        let (acknowledged, left) = under_load(service.accounting, || {
            thread::sleep(Duration::from_millis(pause));
            service.end("-KILL");
        });
        let unacknowledged: usize = left.iter().map(|(_, pending)| pending.len()).sum();
        assert!(acknowledged.len() > 100, "{} were acknowledged, {unacknowledged} not", acknowledged.len());
        service = service.again();
        are_kept_once(&service, &acknowledged);
        // Equipment sends again what nobody acknowledged, part of which was written before.
        send_again(&service, &left);
        are_kept_once(&service, &acknowledged);
        // The next round has the same names.
        assert_eq!(service.end("-TERM"), Some(0));
        fs::remove_dir_all(service.data.join("accounting")).unwrap();
        service = service.again();
    }
}

/// A disk of its own, gone with this.
struct Disk(PathBuf);

impl Disk {
    fn of(megabytes: u32, at: &Path) -> Self {
        fs::create_dir_all(at).unwrap();
        let mount = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={megabytes}m"), "tmpfs"])
            .arg(at)
            .output()
            .expect("`mount` starts; install Debian's mount");
        let said = String::from_utf8_lossy(&mount.stderr);
        assert!(mount.status.success(), "a small disk cannot be made: {said} (it needs root)");
        Self(at.to_owned())
    }

    /// Takes all the room that is left, to the last byte.
    fn fill(&self) {
        use std::io::Write;
        let mut ballast = fs::File::create(self.0.join("ballast")).unwrap();
        for size in [1 << 16, 1 << 12, 1] {
            while ballast.write_all(&vec![b'x'; size]).is_ok() {}
        }
    }

    fn clear(&self) {
        fs::remove_file(self.0.join("ballast")).unwrap();
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).output();
    }
}

/// Waits until the service says that it is well, or that it is not.
fn until_health(service: &Running, status: u16) -> Value {
    let until = Instant::now() + Duration::from_secs(20);
    loop {
        let (code, health) = service.get("health");
        if code == status {
            return health;
        }
        assert!(Instant::now() < until, "{status} is not told: {health}");
        thread::sleep(Duration::from_millis(50));
    }
}

/// Has equipment send again what was not acknowledged.
fn send_again(service: &Running, left: &Left) {
    for (nas, pending) in left {
        let from = socket(nas, service.accounting);
        for bytes in pending {
            assert!(acknowledges(nas, bytes, &answer(&from, bytes).unwrap()));
        }
    }
}

fn are_kept_once(service: &Running, acknowledged: &BTreeSet<String>) {
    let found = kept(service);
    let lost: Vec<_> = acknowledged.iter().filter(|session| !found.contains_key(*session)).collect();
    assert!(lost.is_empty(), "of {} that were acknowledged these are gone: {lost:?}", acknowledged.len());
    let twice: Vec<_> = found.iter().filter(|(_, times)| **times > 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
}

#[test]
fn a_full_disk_acknowledges_nothing_and_is_recovered_from() {
    let dir = tempfile::tempdir().unwrap();
    let disk = Disk::of(48, &dir.path().join("disk"));
    let mut service = Running::start(&disk.0.join("data"));
    service.open_harbour();
    let (acknowledged, mut left) = under_load(service.accounting, || {
        thread::sleep(Duration::from_millis(300));
        disk.fill();
        let health = until_health(&service, 503);
        let state = health["state"].as_str().unwrap();
        assert!(state.contains("the accounting cannot be written: database or disk is full"), "{state}");
    });
    let unacknowledged: usize = left.iter().map(|(_, pending)| pending.len()).sum();
    assert!(acknowledged.len() > 20 && unacknowledged > 0, "{} and {unacknowledged}", acknowledged.len());
    let silent = socket(&TOWER_RT_1, service.accounting);
    silent.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
    let bytes = packet(&TOWER_RT_1, &report("Start", "while-full", 1), 1);
    assert_eq!(answer(&silent, &bytes), None, "nothing is acknowledged that cannot be kept");
    left.push((TOWER_RT_1, vec![bytes]));

    // It goes on by itself, and equipment sends again.
    disk.clear();
    until_health(&service, 200);
    send_again(&service, &left);
    are_kept_once(&service, &acknowledged);
    assert_eq!(kept(&service).get("while-full"), Some(&1));
    assert_eq!(service.end("-TERM"), Some(0));
}

#[test]
fn what_was_acknowledged_outlives_a_kill_on_a_full_disk() {
    let dir = tempfile::tempdir().unwrap();
    let disk = Disk::of(48, &dir.path().join("disk"));
    let mut service = Running::start(&disk.0.join("data"));
    service.open_harbour();
    let (acknowledged, left) = under_load(service.accounting, || {
        thread::sleep(Duration::from_millis(300));
        disk.fill();
        until_health(&service, 503);
        service.end("-KILL");
    });
    assert!(acknowledged.len() > 20, "{}", acknowledged.len());
    disk.clear();
    let service = service.again();
    send_again(&service, &left);
    are_kept_once(&service, &acknowledged);
}
