//! Whole decisions, from a datagram to a reply and a trail.
mod harbour;

use std::sync::Arc;

use harbour::{Request, *};
use proptest::prelude::*;
use regnant_decision::LookUpAnswer;
use regnant_equipment::*;
use regnant_evidence::*;
use regnant_policy::{Event, IdentityKind};
use regnant_radius::*;

fn rule(title: &str) -> EndRecord<'_> {
    EndRecord::Rule { title }
}

fn grants(record: &Record) -> &[String] {
    match &record.verdict() {
        VerdictRecord::Grant { grants, .. } => grants,
        other => panic!("{other:?}"),
    }
}

fn failed(event: Event) -> EndRecord<'static> {
    EndRecord::Proof { identity: IdentityKind::User, event }
}

fn reply(record: &Record) -> Vec<String> {
    let ShownReply { title, parts } = record.exchange.as_ref().unwrap().reply.as_ref().unwrap();
    // A Class of ours names the decision, and is another each time.
    let ours =
        |name: &str, value: &str| name == "Message-Authenticator" || (name == "Class" && value.starts_with("0x91"));
    let shown = parts.iter().filter(|(name, value)| !ours(name, value));
    let code = title.split(" with ").next().unwrap_or_default().to_owned();
    std::iter::once(code).chain(shown.map(|(name, value)| format!("{name}={value}"))).collect()
}

#[test]
fn a_crane_controller_is_given_its_network_in_every_notation() {
    let harbour = Harbour::new();
    for name in ["02005e200007", "02-00-5E-20-00-07", "02:00:5e:20:00:07", "02005E200007"] {
        let record = harbour.record(&bypass(name, "02-00-5E-20-00-07"));
        assert_eq!(
            (&record.end(), grants(&record), record.port),
            (&rule("Crane controllers"), &["cranes".into()][..], Some(7))
        );
        assert_eq!(record.subject, Subject::Device("crane controller".into(), mac("02:00:5e:20:00:07")));
        assert_eq!(
            reply(&record),
            [
                "Access-Accept",
                "Tunnel-Type=VLAN",
                "Tunnel-Medium-Type=IEEE-802",
                "Tunnel-Private-Group-ID=30",
                "NAS-Filter-Rule=permit in tcp from any to 10.44.30.0/24 102,4840",
                "NAS-Filter-Rule=permit in udp from any to 10.44.0.53 53",
                "NAS-Filter-Rule=permit in tcp from any to 10.44.0.53 53",
                "NAS-Filter-Rule=permit in udp from any to any 67",
                "NAS-Filter-Rule=deny in ip from any to any",
            ]
        );
    }
}

#[test]
fn a_reply_is_signed_and_begins_with_message_authenticator() {
    let harbour = Harbour::new();
    for request in [bypass("02005e200007", "02005e200007"), login("nobody", "x"), vpn("ida.marsh", "Tide-Table-61")] {
        let Answered::Decided(record, Some(reply)) = harbour.ask(&request) else { panic!("no reply") };
        let nas = harbour.nases.iter().find(|nas| nas.name == record.nas).unwrap();
        check_reply(&reply, 9, &AUTHENTICATOR, &nas.radius.as_ref().unwrap().secret).unwrap();
    }
}

#[test]
fn a_barred_device_is_refused_by_any_method() {
    let harbour = Harbour::new();
    let record = harbour.record(&bypass("02005e400066", "02005e400066"));
    assert_eq!((&record.end(), record.outcome()), (&rule("Reported lost or stolen"), "refused"));
    assert_eq!(reply(&record), ["Access-Reject", "Reply-Message=This device is barred. Ask the harbour network desk."]);
    let attributes = [("User-Name", "ida.marsh"), ("Calling-Station-Id", "02-00-5E-40-00-66")];
    let record = harbour.record(&request("127.0.0.41", "sextant-3-compass", false, &attributes, Some("Tide-Table-61")));
    assert_eq!(record.end(), EndRecord::Rule { title: "Reported lost or stolen" });
}

#[test]
fn an_unknown_device_is_held() {
    let record = Harbour::new().record(&bypass("02005e990001", "02005e990001"));
    assert_eq!(grants(&record), ["holding"]);
    assert_eq!(record.subject, Subject::Device(String::new(), mac("02:00:5e:99:00:01")));
}

#[test]
fn an_operator_administers_and_others_do_not() {
    let harbour = Harbour::new();
    let record = harbour.record(&login("ola.nett", "Fibre-Spool-90"));
    assert_eq!(
        reply(&record),
        ["Access-Accept", "Service-Type=Administrative", "Management-Privilege-Level=15", "Class=\"operator\""]
    );
    for (name, password, end) in [
        ("ida.marsh", "Tide-Table-61", EndRecord::Otherwise),
        ("ida.marsh", "Tide-Table-62", failed(Event::Failed)),
        ("ida.mrsh", "Tide-Table-61", failed(Event::Unknown)),
        ("lee.gone", "Old-Badge-77", failed(Event::Disabled)),
        // Whether the account is disabled is told only to who has its password.
        ("lee.gone", "x", failed(Event::Failed)),
    ] {
        let record = harbour.record(&login(name, password));
        assert_eq!((record.end(), record.outcome()), (end, "refused"), "{name}");
    }
}

#[test]
fn chap_needs_a_recoverable_password() {
    let harbour = Harbour::new();
    let chap = |name: &str, password: &str| {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
        let attributes = [("User-Name", name), ("Service-Type", "Login")];
        builder.encoded(&Dictionary::standard().encode(attributes).unwrap()).unwrap();
        let response = chap_response(3, password.as_bytes(), &AUTHENTICATOR);
        builder.attribute(number::CHAP_PASSWORD, &[&[3][..], &response].concat()).unwrap();
        let bytes = builder.request(&AUTHENTICATOR, &secret);
        harbour.record(&Request { from: "127.0.0.31", bytes })
    };
    assert_eq!(chap("ola.nett", "Fibre-Spool-90").outcome(), "granted");
    assert_eq!(*answer(&chap("ola.nett", "Fibre-Spool-91")), LookUpAnswer::WrongPassword);
    assert_eq!(*answer(&chap("ida.marsh", "Tide-Table-61")), LookUpAnswer::NoRecoverablePassword);
}

#[test]
fn the_vpn_takes_names_with_and_without_realm() {
    let harbour = Harbour::new();
    for name in ["ida.marsh", "Ida.Marsh", "ida.marsh@tarnmouth.example"] {
        let record = harbour.record(&vpn(name, "Tide-Table-61"));
        assert_eq!(record.outcome(), "granted", "{name}");
        assert_eq!(reply(&record)[2..], ["Session-Timeout=28800", "Termination-Action=Default"]);
    }
}

#[test]
fn a_mac_address_is_never_a_user_and_never_a_users_password() {
    let harbour = Harbour::new();
    // A store that holds such an account changes nothing.
    assert_eq!(harbour.record(&login("02005e200001", "Tide-Table-61")).end(), failed(Event::Unknown));
    assert_eq!(*answer(&harbour.record(&login("mac.user", "02005e200001"))), LookUpAnswer::MacAsPassword);
    assert_eq!(harbour.record(&vpn("mac.user", "02005e200001")).outcome(), "refused");
    // A user name is no MAC bypass, and a MAC address that is not the caller's neither.
    let attributes =
        [("User-Name", "02005e200007"), ("Calling-Station-Id", "02005e990001"), ("Service-Type", "Call-Check")];
    let record = harbour.record(&request("127.0.0.11", "bollard-9-anchor", true, &attributes, Some("02005e200007")));
    assert_eq!((record.carried().as_deref(), record.outcome()), (Some("pap"), "refused"));
}

#[test]
fn a_method_that_the_gate_does_not_accept_is_told() {
    let attributes = [("User-Name", "ida.marsh"), ("NAS-Port-Type", "Ethernet")];
    let record =
        Harbour::new().record(&request("127.0.0.11", "bollard-9-anchor", true, &attributes, Some("Tide-Table-61")));
    assert_eq!((&record.end(), record.gate.as_deref()), (&EndRecord::MethodNotAccepted, Some("switch-ports")));
    let station = &record.trail().stations[2];
    assert_eq!((station.name.as_str(), station.mark), ("proof", Mark::Stopped));
    assert_eq!(station.advice.as_deref(), Some("Set the equipment to mac, or add the method to `accept`."));
}

#[test]
fn eap_that_no_gate_accepts_ends_in_eap_failure() {
    let attributes = [("User-Name", "ida.marsh"), ("NAS-Port-Type", "Ethernet"), ("EAP-Message", "0x0207000501")];
    let policy = POLICY.replacen("request.carrier = eap", "request.carrier = eap and nas.kind = controller", 1);
    let harbour = Harbour::with_policy(&policy);
    let record = harbour.record(&request("127.0.0.11", "bollard-9-anchor", true, &attributes, None));
    assert_eq!(record.end(), EndRecord::MethodNotAccepted);
    assert_eq!(reply(&record), ["Access-Reject", "EAP-Message=4 bytes"]);
}

#[test]
fn a_silent_store_means_silence_and_not_refusal() {
    let mut harbour = Harbour::new();
    harbour.stores.silent = vec!["harbour"];
    let record = harbour.record(&login("ola.nett", "Fibre-Spool-90"));
    assert_eq!((&record.end(), &record.verdict()), (&failed(Event::Unreachable), &VerdictRecord::Silence));
    assert!(record.exchange.as_ref().unwrap().reply.is_none());
    harbour.stores.silent = vec!["harbour-devices"];
    // Whether the laptop is barred is not known, and that rule refuses.
    let attributes = [("User-Name", "ida.marsh"), ("Calling-Station-Id", "02-00-5E-99-00-66")];
    let record = harbour.record(&request("127.0.0.41", "sextant-3-compass", false, &attributes, Some("Tide-Table-61")));
    assert_eq!(record.end(), EndRecord::Undetermined { title: "Reported lost or stolen" });
    assert_eq!(record.verdict(), VerdictRecord::Silence);
}

#[test]
fn reactions_change_what_an_event_does() {
    let policy = |reaction: &str| {
        format!(
            "grant guests {{ class \"guest\" }}
             gate all {{
               accept pap
               identify user in harbour {{ {reaction} }}
               rule \"Not proved\" {{ when not user.proved and user.failure = \"failed\" grant guests }}
               otherwise refuse
             }}"
        )
    };
    let record = |reaction: &str| Harbour::with_policy(&policy(reaction)).record(&login("ida.marsh", "wrong"));
    assert_eq!(record("failed continue").end(), EndRecord::Rule { title: "Not proved" });
    assert_eq!(record("failed silence").verdict(), VerdictRecord::Silence);
    assert_eq!(
        record("failed refuse \"Mind the caps key.\"").verdict(),
        VerdictRecord::Refuse { text: Some("Mind the caps key.") }
    );
    assert_eq!(record("failed next").end(), failed(Event::Failed));
}

#[test]
fn what_cannot_become_a_request_is_unheard_with_its_cause() {
    let harbour = Harbour::new();
    let cause = |request: &Request| match harbour.ask(request) {
        Answered::Unheard(cause) => cause,
        other => panic!("{other:?}"),
    };
    let mut stranger = bypass("02005e200007", "02005e200007");
    stranger.from = "127.0.0.99";
    assert_eq!(cause(&stranger), Cause::UnknownSender);
    let attributes = [("User-Name", "x")];
    let differs = cause(&request("127.0.0.11", "other", true, &attributes, None));
    assert!(matches!(differs, Cause::SecretDiffers { to: Service::Authentication, .. }), "{differs}");
    let unsigned = cause(&request("127.0.0.11", "bollard-9-anchor", false, &attributes, None));
    assert_eq!(unsigned.to_string(), "Message-Authenticator (attribute 80) is missing");
    let eap = [("User-Name", "x"), ("EAP-Message", "0x0207000501")];
    let eap = cause(&request("127.0.0.41", "sextant-3-compass", false, &eap, None));
    assert_eq!(eap.to_string(), "EAP came without Message-Authenticator (attribute 80)");
    let mut cut = bypass("02005e200007", "02005e200007");
    cut.bytes.truncate(30);
    assert!(matches!(cause(&cut), Cause::Malformed(_)));
    let mut accounting = bypass("02005e200007", "02005e200007");
    accounting.bytes[0] = 4;
    assert_eq!(cause(&accounting).to_string(), "Accounting-Request does not belong on the authentication port");
    assert!(cause(&accounting).advice().contains("at the accounting port"), "{}", cause(&accounting).advice());
    accounting.bytes[0] = 40;
    assert_eq!(cause(&accounting).to_string(), "code 40 does not belong on the authentication port");
}

#[test]
fn equipment_that_is_not_registered_for_the_protocol_is_told_so() {
    let mut harbour = Harbour::new();
    let nas = harbour.nases.iter().find(|nas| nas.name == "quay-sw-1").unwrap().clone();
    harbour.nases = harbour.nases.with(vec![Nas { radius: None, ..(*nas).clone() }], &[]);
    let Answered::Unheard(cause) = harbour.ask(&bypass("02005e200007", "02005e200007")) else {
        panic!("it is answered");
    };
    assert_eq!(cause.to_string(), "the NAS of this address is not registered for RADIUS");
}

#[test]
fn a_password_that_does_not_decode_points_at_the_secret() {
    let record = (0..20)
        .map(|n| {
            let attributes = [("User-Name", "ida.marsh"), ("NAS-Port-Type", "Virtual")];
            let secret = format!("wrong-{n}");
            Harbour::new().record(&request("127.0.0.41", &secret, false, &attributes, Some("Tide-Table-61")))
        })
        .find(|record| record.carried().as_deref() == Some("pap (undecodable)"))
        .unwrap();
    assert!(record.trail().stations[2].advice.as_ref().unwrap().contains("Compare the shared secret"));
}

#[test]
fn a_trail_shows_each_station_and_the_nearest_rule() {
    let harbour = Harbour::new();
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    let trail = record.trail();
    let names: Vec<_> = trail.stations.iter().map(|station| station.name.as_str()).collect();
    assert_eq!(names, ["heard", "gate", "proof", "identity", "rules", "grant", "reply"]);
    let rules = &trail.stations[4];
    assert_eq!(rules.mark, Mark::Stopped);
    assert_eq!(
        rules.advice.as_deref(),
        Some(
            "Nearest was \"Network operators\": it needed user in group \"network-operators\"; user.groups is { \"staff\", \"harbour-office\" }."
        )
    );
    assert_eq!(rules.evidence[1].label, "Network operators (grant operator) is false");
    assert_eq!(
        rules.evidence[1].value,
        "user in group \"network-operators\" is false: user.groups is { \"staff\", \"harbour-office\" }"
    );
}

#[test]
fn no_secret_reaches_the_journal() {
    let harbour = Harbour::new();
    for request in
        [login("ola.nett", "Fibre-Spool-90"), vpn("ida.marsh", "Tide-Table-61"), login("x", "Fibre-Spool-91")]
    {
        let record = format!("{:?}", harbour.record(&request));
        let stored = String::from_utf8_lossy(&last_stored()).into_owned();
        for secret in ["Fibre-Spool", "Tide-Table", "sextant", "portcullis"] {
            assert!(!record.contains(secret) && !stored.contains(secret), "{secret} in {record}");
        }
        assert!(record.contains("(secret)"));
    }
}

#[test]
fn a_grant_that_a_dialect_cannot_express_is_told_before_it_runs() {
    let vocabulary = Arc::new(Vocabulary::standard());
    let prepare = |grant: &str| {
        let text = format!("{grant} gate g {{ accept mac identify mac in harbour-devices otherwise grant g }}");
        let source = regnant_policy::Source::new("main.writ", text);
        let policy = regnant_policy::Compiled::from_source(source, vocabulary.schema()).unwrap();
        let standard = Dialect::standard(vocabulary.dictionary());
        let edition = Edition::prepare(1, policy, &[standard], vocabulary.clone());
        edition.problems_in("standard")[0].to_string()
    };
    assert_eq!(
        prepare("grant g { role \"a\" filter \"b\" }"),
        "the dialect `standard` cannot tell g: `role` and `filter` both go into Filter-Id; use one of them"
    );
    let long = "permit tcp to 10.44.30.0/24 port 102\n".repeat(100);
    assert!(prepare(&format!("acl l {{ {long} }} grant g {{ acl l }}")).contains("shorten the access list"));
}

proptest! {
    #[test]
    fn no_datagram_makes_a_decision_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), from in 0usize..3) {
        let from = ["127.0.0.11", "127.0.0.31", "127.0.0.41"][from];
        Harbour::new().ask(&Request { from, bytes });
    }

    #[test]
    fn attributes_of_any_content_are_decided(list in prop::collection::vec((1u8..=136, prop::collection::vec(any::<u8>(), 0..40)), 0..12)) {
        let secret = SharedSecret::new(*b"sextant-3-compass");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 1);
        for (number, value) in list.iter().filter(|(number, _)| *number != 80) {
            builder.attribute(*number, value).unwrap();
        }
        let request = Request { from: "127.0.0.41", bytes: builder.request(&AUTHENTICATOR, &secret) };
        if let Answered::Decided(record, _) = Harbour::new().ask(&request) {
            prop_assert_ne!(record.outcome(), "granted");
            record.trail();
        }
    }
}
