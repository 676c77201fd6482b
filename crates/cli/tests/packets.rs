//! Raw packets over UDP, as any client or attacker can send them. The packets are
//! made here byte by byte, apart from the MD5 and HMAC of the RADIUS crate.
mod running;

use std::collections::HashSet;
use std::net::UdpSocket;
use std::sync::LazyLock;
use std::time::Duration;

use regnant_campus::Nas;
use regnant_campus::harbour::*;
use regnant_client::Ask;
use regnant_radius::{Code, Dictionary, SharedSecret, check_reply};
use running::*;

const AUTHENTICATOR: [u8; 16] = [0x42; 16];

/// A socket at a NAS's address, connected to the service.
fn socket(service: &Running, nas: &Nas) -> UdpSocket {
    let socket = UdpSocket::bind((nas.address, 0)).unwrap();
    socket.connect(service.radius).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    socket
}

static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);

fn packet(nas: &Nas, ask: &Ask, identifier: u8) -> Vec<u8> {
    let secret = SharedSecret::new(nas.secret.as_bytes());
    ask.packet(identifier, &AUTHENTICATOR, &secret, nas.signed, &DICTIONARY).unwrap()
}

fn receive(socket: &UdpSocket) -> Option<Vec<u8>> {
    let mut buffer = [0; 4096];
    socket.recv(&mut buffer).ok().map(|length| buffer[..length].to_vec())
}

/// Sends something that must stay without an answer, then a request that is
/// answered: what was silent before it was no slow answer.
fn stays_silent(service: &Running, nas: &Nas, bytes: &[u8]) {
    let silent = socket(service, nas);
    silent.send(bytes).unwrap();
    let other = socket(service, &QUAY_SW_1);
    other.send(&packet(&QUAY_SW_1, &Ask::mac("02005e200001", 1), 200)).unwrap();
    receive(&other).expect("the service answers others");
    silent.set_read_timeout(Some(Duration::from_millis(150))).unwrap();
    assert!(receive(&silent).is_none());
}

#[test]
fn every_unheard_packet_is_journaled_with_its_probable_cause() {
    let service = Running::harbour();
    let ask = Ask::mac("02-00-5E-20-00-07", 1);
    let whole = packet(&QUAY_SW_1, &ask, 1);
    stays_silent(&service, &STRAY_SW_9, &whole);
    stays_silent(&service, &MISTYPED_SW_1, &packet(&MISTYPED_SW_1, &ask, 2));
    let unsigned = Nas { signed: false, ..QUAY_SW_1 };
    stays_silent(&service, &QUAY_SW_1, &packet(&unsigned, &ask, 3));
    stays_silent(&service, &QUAY_SW_1, &whole[..40]);
    stays_silent(&service, &GATE_FW_1, b"hello");
    let mut accounting = whole.clone();
    accounting[0] = Code::ACCOUNTING_REQUEST.0;
    stays_silent(&service, &QUAY_SW_1, &accounting);
    let eap = Ask::pap("x", "y").with("EAP-Message", "0x0201000501");
    stays_silent(&service, &PILOT_VPN_1, &packet(&PILOT_VPN_1, &eap, 4));

    let entries = service.entries("outcome=unheard", 7);
    let told: HashSet<_> = entries.iter().map(sentence).collect();
    for expected in [
        "1 packet from 127.0.0.99 stayed unheard: no NAS has this address.",
        "1 packet from 127.0.0.12 (yard-sw-1) stayed unheard: the shared secret differs (Message-Authenticator, attribute 80, is wrong).",
        "1 packet from 127.0.0.11 (quay-sw-1) stayed unheard: Message-Authenticator (attribute 80) is missing.",
        "1 packet from 127.0.0.11 (quay-sw-1) stayed unheard: Accounting-Request does not belong on the authentication port.",
        "1 packet from 127.0.0.41 (pilot-vpn-1) stayed unheard: EAP came without Message-Authenticator (attribute 80).",
    ] {
        assert!(told.contains(expected), "{expected} in {told:?}");
    }
    assert_eq!(told.iter().filter(|sentence| sentence.contains("the packet is malformed")).count(), 2);
    let id = entries[0]["id"].as_str().unwrap();
    assert!(service.get(&format!("journal/{id}")).1["advice"].as_str().unwrap().len() > 20);
}

#[test]
fn a_repeat_gets_the_same_answer_and_no_second_decision() {
    let service = Running::harbour();
    let client = socket(&service, &GATE_FW_1);
    // A password is checked on another thread: repeats arrive while it is.
    let login = packet(&GATE_FW_1, &Ask::pap("ola.nett", "Fibre-Spool-90").with("Service-Type", "Login"), 7);
    for _ in 0..3 {
        client.send(&login).unwrap();
    }
    let first = receive(&client).unwrap();
    client.send(&login).unwrap();
    assert_eq!(receive(&client).unwrap(), first);
    check_reply(&first, 7, &AUTHENTICATOR, &SharedSecret::new(GATE_FW_1.secret.as_bytes())).unwrap();
    // The same identifier under another authenticator is another request.
    let secret = SharedSecret::new(GATE_FW_1.secret.as_bytes());
    let ask = Ask::pap("ola.nett", "wrong").with("Service-Type", "Login");
    client.send(&ask.packet(7, &[9; 16], &secret, true, &DICTIONARY).unwrap()).unwrap();
    assert_eq!(receive(&client).unwrap()[0], Code::ACCESS_REJECT.0);
    assert_eq!(service.entries("q=ola.nett", 2).len(), 2);
}

#[test]
fn the_reply_leaves_from_the_address_that_was_asked() {
    let service = Running::harbour_on_all_addresses();
    let client = UdpSocket::bind((QUAY_SW_1.address, 0)).unwrap();
    client.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    for (identifier, asked) in [(1, "127.0.0.1"), (2, "127.0.0.77")] {
        // A connected socket receives from that address alone.
        client.connect((asked, service.radius.port())).unwrap();
        client.send(&packet(&QUAY_SW_1, &Ask::mac("02005e200001", 1), identifier)).unwrap();
        assert_eq!(receive(&client).unwrap()[0], Code::ACCESS_ACCEPT.0);
    }
}

#[test]
fn proxy_state_comes_back_whole_and_in_order() {
    let service = Running::harbour();
    let client = socket(&service, &QUAY_SW_1);
    let ask = Ask::mac("02005e200001", 1).with("Proxy-State", "0x0102").with("Proxy-State", "0x03");
    client.send(&packet(&QUAY_SW_1, &ask, 1)).unwrap();
    let reply = receive(&client).unwrap();
    let secret = SharedSecret::new(QUAY_SW_1.secret.as_bytes());
    let packet = check_reply(&reply, 1, &AUTHENTICATOR, &secret).unwrap();
    assert_eq!(packet.all(33).collect::<Vec<_>>(), [&[1, 2][..], &[3]]);
}

#[test]
fn a_mac_bypass_does_not_wait_behind_passwords() {
    let service = Running::harbour();
    let firewall = socket(&service, &GATE_FW_1);
    for identifier in 0..40 {
        let login = Ask::pap("ola.nett", "Fibre-Spool-90").with("Service-Type", "Login");
        firewall.send(&packet(&GATE_FW_1, &login, identifier)).unwrap();
    }
    let switch = socket(&service, &QUAY_SW_1);
    switch.send(&packet(&QUAY_SW_1, &Ask::mac("02005e200001", 1), 1)).unwrap();
    receive(&switch).unwrap();
    // Passwords are still being checked: their pool takes tens of milliseconds each.
    firewall.set_nonblocking(true).unwrap();
    let answered = std::iter::from_fn(|| receive(&firewall)).count();
    assert!(answered < 40);
}

#[test]
fn any_garbage_leaves_the_service_answering() {
    let service = Running::harbour();
    let switch = socket(&service, &QUAY_SW_1);
    let whole = packet(&QUAY_SW_1, &Ask::mac("02-00-5E-20-00-07", 1), 1);
    for at in 0..whole.len() {
        switch.send(&whole[..at]).unwrap();
        let mut changed = whole.clone();
        changed[at] ^= 0xff;
        switch.send(&changed).unwrap();
    }
    let mut state = 12_345u32;
    for length in 0..400 {
        let noise = std::iter::repeat_with(|| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 24) as u8
        });
        switch.send(&noise.take(length).collect::<Vec<_>>()).unwrap();
    }
    let last = socket(&service, &QUAY_SW_1);
    last.send(&packet(&QUAY_SW_1, &Ask::mac("02005e200001", 1), 9)).unwrap();
    assert_eq!(receive(&last).unwrap()[0], Code::ACCESS_ACCEPT.0);
    assert_eq!(service.get("health").1["state"], "well");
}

#[test]
fn what_was_decided_is_in_the_journal_after_a_stop_and_soon_after_even_a_kill() {
    let mut service = Running::harbour();
    let ask = |service: &Running, from: u8, count: u8| {
        let client = socket(service, &QUAY_SW_1);
        for identifier in from..from + count {
            client.send(&packet(&QUAY_SW_1, &Ask::mac(&format!("02005e5000{identifier:02x}"), 1), identifier)).unwrap();
            receive(&client).unwrap();
        }
    };
    ask(&service, 1, 40);
    // ProofDetails to stop at once: nothing that was answered is lost.
    assert_eq!(service.end("-TERM"), Some(0));
    let token = service.token.clone();
    let mut again = Running::start(&service.data);
    again.token = token.clone();
    assert_eq!(again.entries("limit=100", 40).len(), 40);
    ask(&again, 60, 5);
    // A crash loses at most the last commit interval.
    std::thread::sleep(Duration::from_millis(300));
    again.end("-KILL");
    let mut last = Running::start(&service.data);
    last.token = token;
    assert_eq!(last.entries("limit=100", 45).len(), 45);
}

#[test]
fn a_journal_that_cannot_be_written_is_told_and_loses_nothing() {
    let service = Running::harbour();
    let blocker = rusqlite::Connection::open(service.journal_file()).unwrap();
    blocker.execute_batch("BEGIN IMMEDIATE").unwrap();
    let client = socket(&service, &QUAY_SW_1);
    // All at once: on a slow machine the first commit would have failed before the last
    // is asked.
    let asked: Vec<_> = (1..=20)
        .map(|identifier| packet(&QUAY_SW_1, &Ask::mac(&format!("02005e5000{identifier:02x}"), 1), identifier))
        .collect();
    for packet in &asked {
        client.send(packet).unwrap();
    }
    for _ in &asked {
        receive(&client).unwrap();
    }
    let until = std::time::Instant::now() + Duration::from_secs(10);
    while service.get("health").0 != 503 {
        assert!(std::time::Instant::now() < until);
        std::thread::sleep(Duration::from_millis(50));
    }
    assert!(service.get("health").1["state"].as_str().unwrap().contains("the journal cannot be written"));
    // From now on nothing is answered, and what comes waits.
    client.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    for identifier in 21..=60 {
        client.send(&packet(&QUAY_SW_1, &Ask::mac(&format!("02005e5000{identifier:02x}"), 1), identifier)).unwrap();
    }
    assert!(receive(&client).is_none(), "answered though it cannot be journaled");
    client.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    blocker.execute_batch("ROLLBACK").unwrap();
    for _ in 21..=60 {
        receive(&client).expect("what waited is answered");
    }
    assert_eq!(service.entries("limit=100", 60).len(), 60);
    assert_eq!(service.get("health").1["packets"]["unjournaled"], 0);
    while service.get("health").0 != 200 {
        assert!(std::time::Instant::now() < until);
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn stopping_while_the_journal_cannot_be_written_ends_soon_and_says_what_is_lost() {
    let mut service = Running::harbour();
    let blocker = rusqlite::Connection::open(service.journal_file()).unwrap();
    blocker.execute_batch("BEGIN IMMEDIATE").unwrap();
    let client = socket(&service, &QUAY_SW_1);
    client.send(&packet(&QUAY_SW_1, &Ask::mac("02005e500001", 1), 1)).unwrap();
    receive(&client).unwrap();
    let begun = std::time::Instant::now();
    assert_eq!(service.end("-TERM"), Some(1), "something is lost, which must show");
    assert!(begun.elapsed() < Duration::from_secs(6), "{:?}", begun.elapsed());
}

#[test]
fn guessing_at_a_name_is_held_back_and_shuts_out_nobody_who_was_right_from_where_they_are() {
    let service = Running::harbour();
    let try_once = |nas: &Nas, name: &str, password: &str, identifier: u8| {
        let client = socket(&service, nas);
        client.set_read_timeout(Some(Duration::from_secs(12))).unwrap();
        let ask = Ask::pap(name, password).with("Service-Type", "Login").with("NAS-Port-Type", "Virtual");
        let begun = std::time::Instant::now();
        client.send(&packet(nas, &ask, identifier)).unwrap();
        (receive(&client).map(|reply| Code(reply[0])), begun.elapsed())
    };
    assert_eq!(try_once(&TOWER_RT_1, "ola.nett", "Fibre-Spool-90", 0).0, Some(Code::ACCESS_ACCEPT));
    for identifier in 0..5 {
        assert_eq!(try_once(&GATE_FW_1, "ola.nett", "wrong", identifier).0, Some(Code::ACCESS_REJECT));
    }
    let (code, took) = try_once(&GATE_FW_1, "ola.nett", "wrong", 9);
    assert_eq!(code, Some(Code::ACCESS_REJECT));
    assert!(took >= Duration::from_secs(2), "the sixth is held back by two seconds: {took:?}");
    // Others, and the same name from where it was right before, come in meanwhile.
    std::thread::scope(|scope| {
        scope.spawn(|| try_once(&GATE_FW_1, "ola.nett", "wrong", 10));
        std::thread::sleep(Duration::from_millis(100));
        let (code, took) = try_once(&TOWER_RT_1, "ola.nett", "Fibre-Spool-90", 1);
        assert_eq!(code, Some(Code::ACCESS_ACCEPT));
        assert!(took < Duration::from_secs(2), "{took:?}");
        let (code, took) = try_once(&GATE_FW_1, "pia.quill", "Ledger-Ink-27", 11);
        assert_eq!(code, Some(Code::ACCESS_ACCEPT));
        assert!(took < Duration::from_secs(2), "{took:?}");
    });
    let told = service.entries("q=ola.nett&outcome=refused", 6);
    assert!(told.iter().any(|entry| sentence(entry).contains("wrong ones for this name")));
    // Many at once are refused, late and unseen; none is left without an answer, and none counts as an outage.
    let codes: Vec<_> = std::thread::scope(|scope| {
        let tries: Vec<_> = (20..60)
            .map(|number| scope.spawn(move || try_once(&GATE_FW_1, "ola.nett", "Fibre-Spool-91", number)))
            .collect();
        tries.into_iter().map(|one| one.join().unwrap().0).collect()
    });
    assert!(codes.iter().all(|code| *code == Some(Code::ACCESS_REJECT)), "{codes:?}");
    let told = service.entries("q=ola.nett%20not%20looked%20at&outcome=refused", 5);
    assert!(sentence(&told[0]).contains("not looked at: too many wrong ones for this name"));
}

#[test]
fn status_server_is_answered_and_journaled_nowhere() {
    let service = Running::harbour();
    let client = socket(&service, &PILOT_VPN_1);
    let secret = SharedSecret::new(PILOT_VPN_1.secret.as_bytes());
    let ask = |signed: bool, identifier| {
        let start = if signed { regnant_radius::Builder::new } else { regnant_radius::Builder::unsigned };
        start(Code::STATUS_SERVER, identifier).request(&AUTHENTICATOR, &secret)
    };
    client.send(&ask(true, 3)).unwrap();
    let reply = receive(&client).unwrap();
    let packet = check_reply(&reply, 3, &AUTHENTICATOR, &secret).unwrap();
    assert_eq!((packet.code(), packet.attributes().count()), (Code::ACCESS_ACCEPT, 1), "RFC 5997 section 4.2");
    assert_eq!(service.get("health").1["packets"]["status"], 1);
    // RFC 5997 section 3: without Message-Authenticator it is not heard, whatever the
    // NAS need not send otherwise.
    stays_silent(&service, &PILOT_VPN_1, &ask(false, 4));
    assert_eq!(service.entries("limit=9", 2).len(), 2, "the unheard one, and the request that showed that others are");
}

#[test]
fn a_flood_of_strangers_is_bounded_in_the_journal_and_counted() {
    let service = Running::harbour();
    let ask = packet(&QUAY_SW_1, &Ask::mac("02005e200007", 1), 1);
    for last in 0..=255u8 {
        for third in 1..=5u8 {
            let stranger = UdpSocket::bind((std::net::Ipv4Addr::new(127, 9, third, last), 0)).unwrap();
            stranger.send_to(&ask, service.radius).unwrap();
        }
    }
    let until = std::time::Instant::now() + Duration::from_secs(10);
    loop {
        let packets = service.get("health").1["packets"].clone();
        let (received, unlisted) = (packets["received"].as_u64().unwrap(), packets["unlisted"].as_u64().unwrap());
        if received >= 1_280 {
            assert_eq!(unlisted, received - 1_024);
            break;
        }
        assert!(std::time::Instant::now() < until, "{packets}");
        std::thread::sleep(Duration::from_millis(50));
    }
    let switch = socket(&service, &QUAY_SW_1);
    switch.send(&packet(&QUAY_SW_1, &Ask::mac("02005e200001", 1), 9)).unwrap();
    assert_eq!(receive(&switch).unwrap()[0], Code::ACCESS_ACCEPT.0);
}
