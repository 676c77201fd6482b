//! Secrets that grants name and replies carry, from the keyboard to the packet.
mod running;

use std::io::Write;
use std::net::UdpSocket;
use std::process::Stdio;
use std::time::Duration;

use md5::{Digest, Md5};
use regnant_campus::Nas;
use regnant_campus::harbour::{QUAY_SW_1, YARD_SW_1, dictionary};
use regnant_client::Ask;
use regnant_radius::SharedSecret;
use running::*;
use serde_json::json;

const AUTHENTICATOR: [u8; 16] = [0x42; 16];
const KEY: &str = "lantern-9-breakwater";

/// A policy in which every MAC address gets a key.
const POLICY: &str = "grant keyed { vlan 40\n  send Tunnel-Password = secret \"port-key\" }
    gate all {
      accept mac
      identify mac in harbour-devices { unknown continue }
      rule \"All\" { when request.purpose = network grant keyed }
      otherwise refuse
    }";

fn keep(service: &Running, name: &str, value: &str) -> std::process::Output {
    let mut command = service.client(&["secret", "set", name]);
    let piped = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = piped.spawn().unwrap();
    writeln!(child.stdin.take().unwrap(), "{value}").unwrap();
    child.wait_with_output().unwrap()
}

/// The reply to a MAC address from a NAS, as it came.
fn reply(service: &Running, nas: &Nas, identifier: u8) -> Vec<u8> {
    let socket = UdpSocket::bind((nas.address, 0)).unwrap();
    socket.connect(service.radius).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    let secret = SharedSecret::new(nas.secret.as_bytes());
    let ask = Ask::mac("02-00-5E-40-00-01", 1);
    let packet = ask.packet(identifier, &AUTHENTICATOR, &secret, nas.signed, &dictionary()).unwrap();
    socket.send(&packet).unwrap();
    let mut buffer = [0; 4096];
    let length = socket.recv(&mut buffer).unwrap();
    buffer[..length].to_vec()
}

/// The values of attributes of this number; and, inside Vendor-Specific of the harbour's
/// vendor, of that of its own numbers.
fn values(packet: &[u8], vendor: bool, number: u8) -> Vec<Vec<u8>> {
    let (mut rest, mut found) = (&packet[20..], Vec::new());
    while let [kind, length, ..] = *rest {
        let value = &rest[2..usize::from(length)];
        match vendor {
            false if kind == number => found.push(value.to_vec()),
            true if kind == 26 && value[..4] == 32473u32.to_be_bytes() && value[4] == number => {
                found.push(value[6..].to_vec());
            }
            _ => {}
        }
        rest = &rest[usize::from(length)..];
    }
    found
}

/// What a tagged value hides (RFC 2868 section 3.5), worked out anew.
fn revealed(value: &[u8], nas: &Nas) -> String {
    let (salt, hidden) = (&value[1..3], &value[3..]);
    assert!(salt[0] & 0x80 != 0, "the first bit of a salt is set");
    assert!(hidden.len() % 16 == 0 && !hidden.is_empty());
    let (mut plain, mut before) = (Vec::new(), [&AUTHENTICATOR[..], salt].concat());
    for block in hidden.chunks(16) {
        let mask = Md5::new().chain_update(nas.secret).chain_update(&before).finalize();
        plain.extend(block.iter().zip(mask).map(|(byte, mask)| byte ^ mask));
        before = block.to_vec();
    }
    String::from_utf8(plain[1..=usize::from(plain[0])].to_vec()).unwrap()
}

#[test]
fn a_secret_reaches_the_equipment_hidden_and_nobody_else() {
    let mut service = Running::harbour();
    let activate = |service: &Running, policy: &str| service.post("policy/activate", &json!({ "source": policy }));
    // A policy names only what there is.
    let (status, told) = activate(&service, POLICY);
    let finding = &told["report"]["diagnostics"][0];
    assert_eq!((status, finding["code"].as_str(), finding["line"].as_u64()), (422, Some("W334"), Some(2)), "{told}");
    let told = String::from_utf8(keep(&service, "port-key", KEY).stdout).unwrap();
    assert!(told.contains("port-key is kept") && !told.contains(KEY), "{told}");
    let (status, told) = activate(&service, POLICY);
    assert_eq!(status, 200, "{told}");

    let first = reply(&service, &QUAY_SW_1, 1);
    assert_eq!(first[0], 2, "Access-Accept");
    let [one] = &values(&first, false, 69)[..] else { panic!("one Tunnel-Password") };
    assert_eq!(revealed(one, &QUAY_SW_1), KEY);
    // Another salt each time, and another secret of the NAS hides it otherwise.
    let again = values(&reply(&service, &QUAY_SW_1, 2), false, 69).remove(0);
    assert!(again != *one && revealed(&again, &QUAY_SW_1) == KEY);
    assert_eq!(revealed(&values(&reply(&service, &YARD_SW_1, 3), false, 69)[0], &YARD_SW_1), KEY);

    // An attribute of a vendor, beside the other.
    let both = POLICY.replace("\"port-key\"", "\"PORT-KEY\"\n  send Tarnworks-Port-Key = secret \"port-key\"");
    assert_eq!(activate(&service, &both).0, 200);
    let both = reply(&service, &YARD_SW_1, 4);
    let (standard, own) = (values(&both, false, 69).remove(0), values(&both, true, 11).remove(0));
    assert_eq!((revealed(&standard, &YARD_SW_1), revealed(&own, &YARD_SW_1)), (KEY.to_owned(), KEY.to_owned()));
    assert_ne!(standard[1..3], own[1..3], "salts of one packet differ");

    // Replaced, it counts from the next reply on, without a new edition.
    let edition = service.get("health").1["edition"].clone();
    keep(&service, "Port-Key", "second");
    assert_eq!(revealed(&values(&reply(&service, &QUAY_SW_1, 5), false, 69)[0], &QUAY_SW_1), "second");
    assert_eq!(service.get("health").1["edition"], edition);

    // Who needs it is told, and it stays.
    let told = service.client(&["secret", "remove", "port-key"]).fails(1);
    assert!(told.contains("names it in keyed"), "{told}");
    assert_eq!(service.client(&["secret", "list"]).succeeds(), "Port-Key\n");

    // Nowhere is it shown, nor written as it is.
    let entry = service.entries("outcome=granted", 5)[0]["id"].as_str().unwrap().to_owned();
    let preview = service.client(&["dialect", "preview", "keyed", "--nas", "yard-sw-1"]).succeeds();
    assert!(preview.contains("Tarnworks-Port-Key") && preview.contains("(secret port-key)"), "{preview}");
    let (status, audit) = service.get("audit");
    let audit = audit.to_string();
    assert!(status == 200 && audit.contains("set secret"), "{audit}");
    let shown = [
        service.client(&["trail", &entry]).succeeds(),
        service.client(&["trail", &entry, "--json"]).succeeds(),
        service.client(&["journal"]).succeeds(),
        audit,
        preview,
    ];
    assert!(shown[0].contains("secret port-key") || shown[0].contains("secret Port-Key"), "{}", shown[0]);
    for shown in shown {
        assert!(!shown.contains(KEY) && !shown.contains("second"), "{shown}");
    }
    service.end("-TERM");
    regnant().args(["key", "rotate", "--data"]).arg(&service.data).succeeds();
    for file in files(&service.data) {
        let bytes = std::fs::read(&file).unwrap();
        assert!(!bytes.windows(KEY.len()).any(|window| window == KEY.as_bytes()), "{}", file.display());
    }

    // It outlives the service and another sealing key, and its name can be given up.
    let service = service.again();
    assert_eq!(revealed(&values(&reply(&service, &YARD_SW_1, 6), false, 69)[0], &YARD_SW_1), "second");
    assert_eq!(activate(&service, &POLICY.replace("\n  send Tunnel-Password = secret \"port-key\"", "")).0, 200);
    service.client(&["secret", "remove", "port-key"]).succeeds();
    assert!(service.client(&["secret", "remove", "port-key"]).fails(1).contains("There is no secret `port-key`"));
}

#[test]
fn a_secret_that_does_not_fit_refuses_and_says_so() {
    let service = Running::harbour();
    keep(&service, "port-key", &"k".repeat(239));
    assert_eq!(service.post("policy/activate", &json!({ "source": POLICY })).0, 200);
    assert_eq!(revealed(&values(&reply(&service, &QUAY_SW_1, 1), false, 69)[0], &QUAY_SW_1).len(), 239);
    keep(&service, "port-key", &"k".repeat(240));
    assert_eq!(reply(&service, &QUAY_SW_1, 2)[0], 3, "Access-Reject");
    let entry = &service.entries("outcome=refused", 1)[0];
    let told = sentence(entry);
    assert!(told.contains("\"port-key\" has more bytes than Tunnel-Password carries (239)"), "{told}");

    for (name, value, why) in [
        ("port key", "k", "`port key` is no name"),
        ("port-key", "", "1 to 253 bytes"),
        ("port-key", &*"k".repeat(254), "1 to 253 bytes"),
    ] {
        let told = String::from_utf8(keep(&service, name, value).stderr).unwrap();
        assert!(told.to_lowercase().contains(why), "{told}");
    }
}

fn files(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
}
