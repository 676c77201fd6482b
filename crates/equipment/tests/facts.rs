//! What requests say about themselves, as facts of real decisions.
mod harbour;

use harbour::{Request, *};
use regnant_decision::*;
use regnant_equipment::*;
use regnant_evidence::*;
use regnant_policy::Value;
use regnant_radius::*;

/// Everything is granted, so that every fact ends up in the record.
const OPEN: &str = "grant all { class \"all\" }
    gate all {
      accept pap, chap, mac
      identify user in harbour { unknown continue, failed continue, unfit continue, disabled continue }
      identify mac in harbour-devices { unknown continue }
      otherwise grant all
    }";

fn facts(from: &'static str, secret: &str, attributes: &[(&str, &str)], password: Option<&str>) -> Record {
    Harbour::with_policy(OPEN).record(&request(from, secret, true, attributes, password))
}

fn at_switch(attributes: &[(&str, &str)], password: Option<&str>) -> Record {
    facts("127.0.0.11", "bollard-9-anchor", attributes, password)
}

#[test]
fn the_purpose_follows_service_type_and_port_type() {
    for (service, port_type, expected) in [
        (Some("Framed"), None, Some("network")),
        (Some("Call-Check"), None, Some("network")),
        (Some("Login"), Some("Ethernet"), Some("login")),
        (Some("Administrative"), None, Some("login")),
        (Some("NAS-Prompt"), None, Some("login")),
        (None, Some("Ethernet"), Some("network")),
        (None, Some("Wireless-802.11"), Some("network")),
        (None, Some("Wireless-Other"), Some("network")),
        (None, Some("Virtual"), Some("login")),
        (None, Some("Async"), Some("login")),
        (None, Some("Cable"), None),
        (Some("Outbound"), Some("Ethernet"), Some("network")),
        (Some("Outbound"), Some("Virtual"), Some("login")),
        (Some("Authenticate-Only"), Some("Ethernet"), Some("network")),
        (Some("Authenticate-Only"), Some("Virtual"), Some("login")),
        (Some("Authenticate-Only"), None, None),
        (None, None, None),
    ] {
        let mut attributes = vec![("User-Name", "ida.marsh")];
        attributes.extend(service.map(|value| ("Service-Type", value)));
        attributes.extend(port_type.map(|value| ("NAS-Port-Type", value)));
        let record = at_switch(&attributes, Some("x"));
        assert_eq!(record.fact("request.purpose"), expected, "{service:?} {port_type:?}");
        let at_vpn = facts("127.0.0.41", "sextant-3-compass", &attributes, Some("x"));
        assert_eq!(at_vpn.fact("request.purpose"), Some("vpn"));
    }
}

#[test]
fn a_firewall_sends_both_vpn_users_and_administrators() {
    for (service, port_type, expected) in [
        (Some("Framed"), Some("Virtual"), Some("vpn")),
        (Some("Outbound"), Some("Virtual"), Some("vpn")),
        (Some("Outbound"), None, Some("login")),
        (Some("Authenticate-Only"), None, Some("login")),
        (Some("Authenticate-Only"), Some("Virtual"), Some("login")),
        (Some("Login"), Some("Virtual"), Some("login")),
        (None, None, Some("login")),
        (None, Some("Cable"), None),
    ] {
        let mut attributes = vec![("User-Name", "ida.marsh")];
        attributes.extend(service.map(|value| ("Service-Type", value)));
        attributes.extend(port_type.map(|value| ("NAS-Port-Type", value)));
        let record = facts("127.0.0.31", "portcullis-2-chain", &attributes, Some("x"));
        assert_eq!(record.fact("request.purpose"), expected, "{service:?} {port_type:?}");
    }
}

#[test]
fn the_trail_of_a_request_that_no_gate_takes_names_the_fact_that_is_absent() {
    let attributes = [("User-Name", "ida.marsh"), ("Service-Type", "Authenticate-Only")];
    let record = Harbour::new().record(&request("127.0.0.11", "bollard-9-anchor", true, &attributes, Some("x")));
    assert_eq!(record.end(), EndRecord::NoGate);
    let station = record.trail().stations.into_iter().find(|station| station.name == "gate").unwrap();
    assert!(station.evidence.iter().any(|evidence| evidence.value == "passed over: request.purpose is absent"));
    assert!(station.advice.unwrap().contains("asks for request.purpose, which the request does not tell"));
}

#[test]
fn of_attributes_that_come_twice_the_first_counts_everywhere() {
    let record = at_switch(
        &[
            ("User-Name", "x"),
            ("NAS-Port", "7"),
            ("NAS-Port", "8"),
            ("Calling-Station-Id", "02-00-5E-20-00-07"),
            ("Calling-Station-Id", "02-00-5E-20-00-08"),
        ],
        Some("y"),
    );
    assert_eq!(record.port, Some(7));
    assert_eq!(record.fact("request.mac"), Some("02:00:5e:20:00:07"));
}

#[test]
fn the_medium_follows_the_port_type() {
    for (port_type, expected) in [
        ("Ethernet", "wired"),
        ("Wireless-802.11", "wireless"),
        ("Wireless-Other", "wireless"),
        ("Virtual", "virtual"),
        ("Cable", "other"),
    ] {
        let record = at_switch(&[("User-Name", "x"), ("NAS-Port-Type", port_type)], Some("x"));
        assert_eq!(record.fact("request.medium"), Some(expected));
    }
    assert_eq!(at_switch(&[("User-Name", "x")], Some("x")).fact("request.medium"), None);
}

#[test]
fn the_port_is_nas_port_or_the_last_number_of_its_name() {
    let port = |attributes: &[(&str, &str)]| at_switch(attributes, Some("x")).port;
    assert_eq!(port(&[("User-Name", "x"), ("NAS-Port", "7"), ("NAS-Port-Id", "slot 1 port 24")]), Some(7));
    assert_eq!(port(&[("User-Name", "x"), ("NAS-Port-Id", "slot 1 port 24")]), Some(24));
    assert_eq!(port(&[("User-Name", "x"), ("NAS-Port-Id", "uplink")]), None);
}

#[test]
fn network_name_realm_and_station_are_taken_apart() {
    let record = at_switch(
        &[
            ("User-Name", "Ida.Marsh@tarnmouth.example"),
            ("Called-Station-Id", "02-00-5E-00-00-01:harbour crew"),
            ("Calling-Station-Id", "0200.5e20.0007"),
        ],
        Some("Tide-Table-61"),
    );
    assert_eq!(record.fact("request.ssid"), Some("\"harbour crew\""));
    assert_eq!(record.fact("request.mac"), Some("02:00:5e:20:00:07"));
    assert_eq!(record.fact("claimed.realm"), Some("\"tarnmouth.example\""));
    assert_eq!(record.fact("device.groups"), Some("{ \"cranes\" }"));
    // The realm is part of the name unless the gate takes it off.
    assert_eq!(record.fact("user.failure"), Some("\"unknown\""));
}

#[test]
fn a_mac_bypass_is_known_by_call_check_or_by_its_password() {
    let station = ("Calling-Station-Id", "02-00-5E-20-00-07");
    let carrier = |attributes: &[(&str, &str)], password| at_switch(attributes, password).carried();
    let name = ("User-Name", "02005e200007");
    assert_eq!(carrier(&[name, station], Some("02005e200007")).as_deref(), Some("mac"));
    assert_eq!(
        carrier(&[name, station, ("Service-Type", "Call-Check")], Some("fixed-password")).as_deref(),
        Some("mac")
    );
    assert_eq!(carrier(&[name, station, ("Service-Type", "Call-Check")], None).as_deref(), Some("mac"));
    assert_eq!(carrier(&[name, station], Some("another")).as_deref(), Some("pap"));
    assert_eq!(carrier(&[name], Some("02005e200007")).as_deref(), Some("pap"));
    assert_eq!(
        carrier(&[("User-Name", "ida.marsh"), station, ("Service-Type", "Call-Check")], Some("x")).as_deref(),
        Some("pap")
    );
    assert_eq!(carrier(&[("User-Name", "ida.marsh")], None), None);
}

#[test]
fn a_chap_bypass_answers_the_challenge_with_the_address() {
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
    let attributes = [
        ("User-Name", "02005e200007"),
        ("Calling-Station-Id", "02005e200007"),
        ("CHAP-Challenge", "0x0102030405060708"),
    ];
    builder.encoded(&Dictionary::standard().encode(attributes).unwrap()).unwrap();
    let response = chap_response(5, b"02005e200007", &[1, 2, 3, 4, 5, 6, 7, 8]);
    builder.attribute(number::CHAP_PASSWORD, &[&[5][..], &response].concat()).unwrap();
    let bytes = builder.request(&AUTHENTICATOR, &SharedSecret::new(*b"bollard-9-anchor"));
    let record = Harbour::with_policy(OPEN).record(&Request { from: "127.0.0.11", bytes });
    assert_eq!(record.carried().as_deref(), Some("mac"));
}

#[test]
fn an_unlisted_device_has_facts_and_an_absent_one_has_none() {
    let unlisted = at_switch(&[("User-Name", "x"), ("Calling-Station-Id", "02-00-5E-99-00-01")], Some("x"));
    let known = |record: &Record, name: &str| record.fact(name).map(str::to_owned);
    assert_eq!(known(&unlisted, "device.known").as_deref(), Some("false"));
    assert_eq!(known(&unlisted, "device.barred").as_deref(), Some("false"));
    assert_eq!(known(&unlisted, "device.groups").as_deref(), Some("{ }"));
    let absent = at_switch(&[("User-Name", "x"), ("Calling-Station-Id", "10.0.0.7")], Some("x"));
    assert!(absent.facts.iter().all(|(name, _)| !name.starts_with("device.")));
}

#[test]
fn a_users_groups_are_known_only_once_they_are_proved() {
    let groups =
        |password| at_switch(&[("User-Name", "ida.marsh")], Some(password)).fact("user.groups").map(str::to_owned);
    assert_eq!(groups("Tide-Table-61").as_deref(), Some("{ \"staff\", \"harbour-office\" }"));
    assert_eq!(groups("wrong"), None);
    // Right password, disabled account: not proved, whatever the gate goes on to do.
    let lee = at_switch(&[("User-Name", "lee.gone")], Some("Old-Badge-77"));
    assert_eq!((lee.fact("user.proved"), lee.fact("user.failure")), (Some("false"), Some("\"disabled\"")));
    assert_eq!(lee.fact("user.groups"), None);
}

#[test]
fn attributes_of_every_type_can_be_asked_about() {
    let policy = |condition: &str| {
        format!(
            "grant yes {{ class \"yes\" }} gate all {{ accept pap identify user in harbour {{ unknown continue }}
               rule \"R\" {{ when {condition} grant yes }} otherwise refuse }}"
        )
    };
    let attributes = [
        ("User-Name", "x"),
        ("NAS-IP-Address", "10.44.0.9"),
        ("NAS-Port-Type", "Ethernet"),
        ("NAS-Identifier", "Quay"),
        ("Connect-Info", "fast"),
        ("Connect-Info", "wired"),
        ("Class", "0x0a0b"),
    ];
    for (condition, expected) in [
        ("request.NAS-IP-Address in 10.44.0.0/16", "granted"),
        ("request.nas-port-type = Ethernet", "granted"),
        ("request.NAS-Port-Type = 15", "granted"),
        ("request.NAS-Identifier = \"quay\"", "refused"),
        ("request.NAS-Identifier = \"Quay\"", "granted"),
        ("request.Connect-Info contains \"wired\"", "granted"),
        ("all of request.Connect-Info in { \"wired\" }", "refused"),
        ("request.Class contains \"0x0A0B\"", "granted"),
        ("exists request.Filter-Id", "refused"),
        ("request.Session-Timeout < 60", "refused"),
    ] {
        let record = Harbour::with_policy(&policy(condition)).record(&request(
            "127.0.0.11",
            "bollard-9-anchor",
            true,
            &attributes,
            Some("x"),
        ));
        assert_eq!(record.outcome(), expected, "{condition}");
    }
}

#[test]
fn stores_are_asked_in_order_until_one_has_the_name() {
    let policy = "grant yes { class \"yes\" }
        gate all { accept pap identify user in harbour, annex otherwise grant yes }";
    let harbour = Harbour::with_stores(policy, &["harbour", "annex"]);
    let answers = |record: &Record| record.lookups.iter().map(|l| format!("{}: {l}", l.asked)).collect::<Vec<_>>();
    assert_eq!(answers(&harbour.record(&login("ida.marsh", "Tide-Table-61"))), ["harbour: right credential"]);
    assert_eq!(answers(&harbour.record(&login("nobody", "x"))), ["harbour: unknown", "annex: unknown"]);
    // A wrong password in the first store is not tried in the next, unless the gate says so.
    assert_eq!(answers(&harbour.record(&login("ida.marsh", "x"))), ["harbour: wrong password"]);
}

#[test]
fn the_end_of_each_kind_has_a_reason_and_advice() {
    let harbour = Harbour::new();
    let stopped = |record: &Record| {
        let trail = record.trail();
        let station = trail.stations.into_iter().find(|station| station.mark == Mark::Stopped).unwrap();
        (station.name, station.advice.unwrap())
    };
    let odd = [("User-Name", "x"), ("NAS-Port-Type", "Cable")];
    let no_gate = request("127.0.0.31", "portcullis-2-chain", true, &odd, Some("y"));
    for (record, at, advice) in [
        (harbour.record(&no_gate), "gate", "asks for request.purpose"),
        (harbour.record(&login("ida.mrsh", "x")), "proof", "`ida.mrsh` was looked up in harbour"),
        (harbour.record(&login("ida.marsh", "x")), "proof", "type the password again"),
        (harbour.record(&login("lee.gone", "Old-Badge-77")), "proof", "Enable the account"),
        (harbour.record(&login("02005e200007", "x")), "proof", "no MAC address"),
        (harbour.record(&login("ida.marsh", "Tide-Table-61")), "rules", "Nearest was"),
        (harbour.record(&bypass("02005e400066", "02005e400066")), "rules", "The device is barred"),
    ] {
        let (station, told) = stopped(&record);
        assert_eq!(station, at, "{record:?}");
        assert!(told.contains(advice), "{told}");
    }
}

#[test]
fn a_nas_whose_dialect_the_edition_does_not_know_gets_no_bare_access() {
    let mut harbour = Harbour::new();
    let mut list: Vec<Nas> = harbour.nases.iter().map(|nas| (**nas).clone()).collect();
    list.iter_mut().for_each(|nas| nas.identity.dialect = "unheard-of".into());
    harbour.nases = NasTable::new(list);
    let record = harbour.record(&bypass("02005e200007", "02005e200007"));
    assert_eq!(record.verdict(), VerdictRecord::Refuse { text: None });
    assert!(record.reason().contains("does not know the dialect `unheard-of`"), "{}", record.reason());
}

#[test]
fn groups_are_values_that_ignore_case() {
    let mut harbour = Harbour::new();
    let groups = [Value::owned("CRANES")].into_iter().collect();
    let (title, attributes) = (Title::Text(String::new()), Default::default());
    let device = Device { title, groups, groups_in_part: false, attributes, barred: false, expired: false };
    harbour.stores.devices.insert(mac("02:00:5e:99:00:01"), std::sync::Arc::new(device));
    let record = harbour.record(&bypass("02005e990001", "02005e990001"));
    assert_eq!(record.end(), EndRecord::Rule { title: "Crane controllers" });
}

#[test]
fn an_attribute_of_a_vendor_is_a_fact_like_any_other() {
    let mut dictionary = Dictionary::standard();
    let file = "vendor = 32473
        [[attribute]]
        name = \"Quay-Zone\"
        number = 3
        type = \"integer\"
        rfc = \"the harbour\"
        values = { Inner = 7 }
        [[attribute]]
        name = \"Quay-Word\"
        number = 4
        type = \"text\"
        rfc = \"the harbour\"
        secret = true";
    dictionary.add("harbour.toml", file).unwrap();
    assert!(dictionary.add("twice.toml", file).is_err());
    let zone = dictionary.by_name("quay-zone").unwrap().id;
    assert_eq!((zone.to_string().as_str(), zone.vendor()), ("26.32473.3", Some(32473)));
    let policy = "grant yes { class \"yes\" }
        gate all {
          accept pap
          identify user in harbour
          rule \"Inner zone\" { when request.Quay-Zone = Inner grant yes }
          otherwise refuse
        }";
    let harbour = Harbour::with_dictionary(policy, &["harbour"], dictionary.clone());
    let ask = |inside: &[(u8, &[u8])]| {
        let secret = SharedSecret::new(*b"sextant-3-compass");
        let mut builder = Builder::unsigned(Code::ACCESS_REQUEST, 9);
        builder.attribute(number::USER_NAME, b"ida.marsh").unwrap();
        let hidden = hide_password(b"Tide-Table-61", &AUTHENTICATOR, &secret).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
        for (number, value) in inside {
            let inside = [&[0, 0, 0x7e, 0xd9, *number, value.len() as u8 + 2][..], value].concat();
            builder.attribute(number::VENDOR_SPECIFIC, &inside).unwrap();
        }
        harbour.record(&Request { from: "127.0.0.41", bytes: builder.request(&AUTHENTICATOR, &secret) })
    };
    let inner: &[u8] = &[0, 0, 0, 7];
    assert_eq!(ask(&[(3, inner)]).end(), EndRecord::Rule { title: "Inner zone" });
    // Beside a secret of the same vendor too, which is neither fact nor kept.
    let record = ask(&[(4, b"do-not-keep"), (3, inner)]);
    assert_eq!(record.outcome(), "granted");
    assert!(format!("{record:?}").contains("(\"Quay-Zone\", \"Inner\")"), "{record:?}");
    assert!(harbour.vocabulary.schema().find("request.Quay-Word").is_none());
    assert!(!last_stored().windows(11).any(|part| part == b"do-not-keep"));
    for other in [&[][..], &[(3, &[0, 0, 0, 8][..])], &[(3, &[7][..])], &[(5, inner)]] {
        assert_eq!(ask(other).end(), EndRecord::Otherwise, "{other:?}");
    }
}

#[test]
fn what_stands_inside_others_is_a_fact_by_its_whole_name_and_by_other_spellings() {
    let mut dictionary = Dictionary::standard();
    let file = "attribute = [
          { number = 9, name = \"Quay-Crane\", type = \"tlv\", also = [\"Quay-Gantry\"] },
          { number = 1, name = \"Reach\", inside = \"Quay-Crane\", type = \"integer16\", also = [\"Quay-Reach\"] },
        ]
        [vendor]
        name = \"Quay\"
        number = 32473";
    dictionary.add("harbour.toml", file).unwrap();
    let policy = "grant yes { class \"yes\" }
        gate all {
          accept pap
          identify user in harbour
          rule \"Far\" { when request.quay-crane.reach > 40 and request.quay-reach < 90 grant yes }
          rule \"Block\" { when any of request.Delegated-IPv6-Prefix in { \"2001:db8::/32\" } grant yes }
          otherwise refuse
        }";
    let harbour = Harbour::with_dictionary(policy, &["harbour"], dictionary.clone());
    let ask = |attributes: &[(&str, &str)]| {
        let secret = SharedSecret::new(*b"sextant-3-compass");
        let mut builder = Builder::unsigned(Code::ACCESS_REQUEST, 9);
        builder.attribute(number::USER_NAME, b"ida.marsh").unwrap();
        let hidden = hide_password(b"Tide-Table-61", &AUTHENTICATOR, &secret).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
        builder.encoded(&dictionary.encode(attributes.iter().copied()).unwrap()).unwrap();
        harbour.record(&Request { from: "127.0.0.41", bytes: builder.request(&AUTHENTICATOR, &secret) })
    };
    let record = ask(&[("Quay-Crane.Reach", "77")]);
    assert_eq!(record.end(), EndRecord::Rule { title: "Far" });
    assert!(format!("{record:?}").contains("(\"Quay-Crane.Reach\", \"77\")"), "{record:?}");
    assert_eq!(ask(&[("Quay-Crane.Reach", "7")]).end(), EndRecord::Otherwise);
    assert_eq!(ask(&[("Delegated-IPv6-Prefix", "2001:db8::/32")]).end(), EndRecord::Rule { title: "Block" });
}

#[test]
fn no_attribute_takes_the_name_of_a_fact_that_there_is() {
    let file = "name = \"local\"\nattribute = [{ number = 200, name = \"Carrier\", type = \"text\" }]";
    let mut dictionary = Dictionary::standard();
    assert_eq!(dictionary.add_own("local.toml", file).unwrap(), "local");
    let told = regnant_equipment::Vocabulary::new(dictionary, Vec::new()).unwrap_err().to_string();
    assert!(told.starts_with("local.toml:2: `Carrier` would be the fact `request.Carrier`"), "{told}");
}
