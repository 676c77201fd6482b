//! `regnant try --load` against the running service.
mod running;

use regnant_campus::harbour;
use running::*;
use serde_json::Value;

fn report(output: &str) -> Value {
    serde_json::from_str(output).unwrap()
}

#[test]
fn a_load_tells_what_came_of_every_login() {
    let service = Running::harbour();
    let server = service.radius.to_string();
    let load = |args: &[&str]| {
        let mut command = regnant();
        command.args(["try", "--load", "--json", "--server", &server]).args(args);
        command
    };
    let quay = ["--from", "127.0.0.11", "--secret", "bollard-9-anchor"];
    let crane = ["mac", "--mac", "02005e200007"];
    let at_a_rate = report(&load(&[&crane[..], &quay, &["--rate", "200", "--seconds", "1"]].concat()).succeeds());
    let begun = at_a_rate["begun"].as_u64().unwrap();
    assert!((150..=201).contains(&begun), "{at_a_rate}");
    assert_eq!(at_a_rate["accepted"].as_u64(), Some(begun));
    assert!(at_a_rate["micros"]["p50"].as_u64() <= at_a_rate["micros"]["max"].as_u64());

    // Everybody of the inventory, from every NAS with its secret.
    let file = service.data.join("inventory.toml");
    std::fs::write(&file, harbour::INVENTORY).unwrap();
    let inventory = ["--inventory", file.to_str().unwrap(), "--rate", "100", "--seconds", "2"];
    let all = report(&load(&inventory).succeeds());
    assert!(all["accepted"].as_u64() > Some(20) && all["refused"].as_u64() > Some(0), "{all}");
    assert_eq!((&all["unanswered"], &all["broken"]), (&0.into(), &0.into()));
    let told = service.client(&["journal", "--json", "--limit", "500"]).succeeds();
    for nas in ["quay-sw-1", "mast-wlc-1", "gate-fw-1", "pilot-vpn-1"] {
        assert!(told.contains(nas), "{nas} asked nothing");
    }

    // A mix, with 802.1X in it.
    let mix = service.data.join("mix.toml");
    std::fs::write(
        &mix,
        "[[request]]\nmethod = \"mac\"\nmac = \"02005e200007\"\nweight = 3\n
         [[request]]\nmethod = \"peap\"\nuser = \"ida.marsh\"\npassword = \"Tide-Table-61\"\n
         attributes = { Calling-Station-Id = \"02-00-5E-10-00-01\" }\n",
    )
    .unwrap();
    let authority = service.data.join("harbour/authority.pem");
    let trust = ["--authority", authority.to_str().unwrap(), "--server-name", "radius.tarnmouth.example"];
    let window = ["--mix", mix.to_str().unwrap(), "--window", "4", "--seconds", "1"];
    let mixed = report(&load(&[&window[..], &quay, &trust].concat()).succeeds());
    let logins = mixed["accepted"].as_u64().unwrap();
    assert!(logins >= 4 && mixed["replies"].as_u64().unwrap() > logins, "each login by 802.1X takes several: {mixed}");

    // Nobody answers a NAS that nobody knows; and mistakes are told.
    let stray =
        ["--from", "127.0.0.99", "--secret", "x", "--window", "2", "--seconds", "1", "--wait", "1", "--tries", "1"];
    let silent = load(&[&crane[..], &stray].concat()).ends_with(3);
    assert_eq!(report(&String::from_utf8(silent.stdout).unwrap())["accepted"], 0);
    std::fs::write(&mix, "[[request]]\nmethod = \"mac\"\n").unwrap();
    assert!(load(&[&window[..], &quay].concat()).fails(2).contains("request 1: mac needs `mac`"));
    assert!(load(&[&crane[..], &quay, &["--mix", "x"]].concat()).fails(2).contains("cannot be used with"));
}

#[test]
fn the_next_server_is_asked_where_the_first_is_silent() {
    let service = Running::harbour();
    let silent = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let mut command = regnant();
    command.args(["try", "mac", "--mac", "02005e200007", "--from", "127.0.0.11", "--secret", "bollard-9-anchor"]);
    command.args(["--wait", "1", "--tries", "1", "--server", &silent.local_addr().unwrap().to_string()]);
    command.args(["--server", &service.radius.to_string()]);
    assert!(command.succeeds().contains("Access-Accept"));
}
