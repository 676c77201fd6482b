//! What people read of decisions, held to a golden file. Everything else that is tested
//! about a decision is tested by its values.
mod harbour;

use std::fs;
use std::path::Path;

use harbour::{Request, *};
use regnant_evidence::*;

/// The sentence, then each station of the trail with its evidence and advice.
fn prose(title: &str, record: &Record) -> String {
    let sentence: String = record.sentence().into_iter().map(|fragment| fragment.text).collect();
    let mut text = format!("# {title}\n{sentence}\n");
    for station in record.trail().stations {
        text += &format!("  {} ({:?}): {}\n", station.name, station.mark, station.line);
        // The sizes of packets with certificates are not the same every time.
        for clue in station.evidence.into_iter().filter(|clue| !clue.label.starts_with("round ")) {
            text += &format!("    {}: {}\n", clue.label, clue.value);
        }
        text += &station.advice.map(|advice| format!("    -> {advice}\n")).unwrap_or_default();
    }
    text + "\n"
}

fn scenes() -> String {
    let mut harbour = Harbour::new();
    let pap_at_switch = [("User-Name", "ida.marsh"), ("NAS-Port-Type", "Ethernet")];
    let odd = [("User-Name", "x"), ("NAS-Port-Type", "Cable")];
    let asked: Vec<(&str, Request)> = vec![
        ("a crane controller", bypass("02005e200007", "02-00-5E-20-00-07")),
        ("a barred device", bypass("02005e400066", "02005e400066")),
        ("an unknown device", bypass("02005e990001", "02005e990001")),
        ("an operator", login("ola.nett", "Fibre-Spool-90")),
        ("somebody who is no operator", login("ida.marsh", "Tide-Table-61")),
        ("a wrong password", login("ida.marsh", "Tide-Table-62")),
        ("a mistyped name", login("ida.mrsh", "Tide-Table-61")),
        ("a disabled account", login("lee.gone", "Old-Badge-77")),
        ("a MAC address as name", login("02005e200001", "Tide-Table-61")),
        ("a VPN", vpn("ida.marsh@tarnmouth.example", "Tide-Table-61")),
        (
            "a method that the gate does not accept",
            request("127.0.0.11", "bollard-9-anchor", true, &pap_at_switch, Some("Tide-Table-61")),
        ),
        ("a request that no gate takes", request("127.0.0.31", "portcullis-2-chain", true, &odd, Some("y"))),
    ];
    let mut text: String = asked.iter().map(|(title, request)| prose(title, &harbour.record(request))).collect();
    harbour.stores.silent = vec!["harbour"];
    text += &prose("a silent store", &harbour.record(&login("ola.nett", "Fibre-Spool-90")));
    harbour.stores.silent.clear();
    let peap = supplicant::peap(&harbour, "ida.marsh", "Tide-Table-61");
    text += &prose("a login by PEAP", &supplicant::run(&harbour, peap).record);
    text
}

#[test]
fn people_read_what_they_read_before() {
    let golden = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden/prose.txt");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&golden, scenes()).unwrap();
        return;
    }
    let expected = fs::read_to_string(&golden).unwrap();
    let scenes = scenes();
    for (now, before) in scenes.split("\n\n").zip(expected.split("\n\n")) {
        assert_eq!(now, before, "read it; where it is better, run this once with REGNANT_UPDATE=1");
    }
    assert_eq!(scenes.len(), expected.len());
}
