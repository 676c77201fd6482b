//! Whoever sends a password ends in proof, or in an event: never in the rules as if
//! nothing had been sent.
mod harbour;

use std::time::Duration;

use harbour::supplicant::{client, peap, run, run_from};
use harbour::{Request, *};
use proptest::prelude::*;
use regnant_decision::LookUpAnswer;
use regnant_eap::{Login, PeerMethod, Tunnelled};
use regnant_evidence::{Cause, EndRecord};
use regnant_policy::{Event, IdentityKind};
use regnant_radius::*;

/// A gate whose only rule asks about the equipment.
fn gate(identify: &str) -> Harbour {
    Harbour::with_policy(&format!(
        "grant all {{ vlan 20 }}
         gate everything {{
           accept pap, chap
           {identify}
           rule \"At a firewall\" {{ when nas.kind = firewall grant all }}
           otherwise refuse
         }}"
    ))
}

const USERS: &str = "identify user in harbour";
const MACHINES: &str = "identify machine in harbour";

/// A request with a password, and whatever stands for the name.
fn named(name: Option<&[u8]>, password: &str) -> Request {
    let secret = SharedSecret::new(*b"portcullis-2-chain");
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
    if let Some(name) = name {
        builder.attribute(number::USER_NAME, name).unwrap();
    }
    let hidden = hide_password(password.as_bytes(), &AUTHENTICATOR, &secret).unwrap();
    builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
    Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) }
}

#[test]
fn a_password_that_no_clause_can_prove_has_failed() {
    let failed = |identity| EndRecord::Proof { identity, event: Event::Failed };
    for (identify, name, identity, told) in [
        (USERS, Some(&b"x$"[..]), IdentityKind::Machine, "the gate looks no machine up"),
        (USERS, Some(b"host/x"), IdentityKind::Machine, "the gate looks no machine up"),
        (USERS, None, IdentityKind::User, "the request has no User-Name"),
        (USERS, Some(b"ida\xff"), IdentityKind::User, "User-Name is not UTF-8"),
        (MACHINES, Some(b"ida.marsh"), IdentityKind::User, "the gate looks no user up"),
        (MACHINES, None, IdentityKind::Machine, "the request has no User-Name"),
        (
            "identify user in harbour as after(claimed.name, \"@\")",
            Some(b"ida.marsh"),
            IdentityKind::User,
            "the gate's `as` makes no name of it to look a user up by",
        ),
    ] {
        let record = gate(identify).record(&named(name, "Tide-Table-61"));
        assert_eq!((record.end(), record.reason()), (failed(identity), told.to_owned()), "{name:?}");
        assert_eq!(record.outcome(), "refused");
        assert!(!record.trail().stations.iter().any(|station| station.line.contains("nobody had to prove")));
    }
}

#[test]
fn a_gate_goes_on_only_by_a_reaction_that_says_so() {
    let lenient = gate("identify user in harbour { failed continue }");
    for name in [None, Some(&b"ida\xff"[..]), Some(b"ida.marsh")] {
        let record = lenient.record(&named(name, "wrong"));
        assert_eq!(record.outcome(), "granted");
        assert_eq!((record.fact("user.proved"), record.fact("user.failure")), (Some("false"), Some("\"failed\"")));
    }
    assert_eq!(lenient.record(&named(Some(b"x$"), "wrong")).outcome(), "refused", "no clause says so of machines");
}

/// The recipe of `docs/writ.md`.
#[test]
fn a_name_is_found_with_and_without_its_own_domain_and_realm() {
    let harbour = gate(
        r#"identify user in harbour as capture(lower(claimed.name), /^(?:tarnmouth\\)?([^\\@]+)(?:@tarnmouth\.example)?$/)"#,
    );
    for name in ["ida.marsh", "TARNMOUTH\\Ida.Marsh", "ida.marsh@Tarnmouth.example"] {
        let record = harbour.record(&named(Some(name.as_bytes()), "Tide-Table-61"));
        assert_eq!(record.outcome(), "granted", "{name}: {}", record.reason());
    }
    for name in ["ELSEWHERE\\ida.marsh", "ida.marsh@elsewhere.example", "\\ida.marsh", "ida.marsh@"] {
        let record = harbour.record(&named(Some(name.as_bytes()), "Tide-Table-61"));
        assert_eq!(record.outcome(), "refused", "{name}");
    }
}

#[test]
fn a_machine_by_password_is_looked_up_without_its_marks() {
    let harbour = gate("identify machine in harbour as lower(claimed.name)");
    for name in ["host/quay-laptop-7", "QUAY-LAPTOP-7$"] {
        let record = harbour.record(&named(Some(name.as_bytes()), "Keel-Plate-55"));
        assert_eq!(record.outcome(), "granted", "{}", record.reason());
        assert_eq!(record.fact("claimed.name").map(str::to_lowercase).as_deref(), Some("\"quay-laptop-7\""));
    }
}

fn name() -> impl Strategy<Value = Option<Vec<u8>>> {
    let known =
        prop::sample::select(vec!["ida.marsh", "host/quay-laptop-7", "quay-laptop-7$", "x$", "host/", "$", "@"]);
    prop_oneof![
        Just(None),
        known.prop_map(|name| Some(name.as_bytes().to_vec())),
        prop::collection::vec(any::<u8>(), 1..40).prop_map(Some),
        "[a-z.$/@\\\\]{1,12}".prop_map(|name| Some(name.into_bytes())),
    ]
}

proptest! {
    #[test]
    fn nobody_is_given_anything_by_a_password_that_is_not_theirs(
        name in name(), password in "[ -~]{0,20}", chap in any::<bool>(),
        identify in prop::sample::select(vec![USERS, MACHINES, "identify user in harbour identify machine in harbour"])
    ) {
        let request = match chap {
            false => named(name.as_deref(), &password),
            true => {
                let secret = SharedSecret::new(*b"portcullis-2-chain");
                let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
                if let Some(name) = &name {
                    builder.attribute(number::USER_NAME, name).unwrap();
                }
                builder.attribute(number::CHAP_PASSWORD, &password.as_bytes()[..password.len().min(17)]).unwrap();
                Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) }
            }
        };
        if let Answered::Decided(record, _) = gate(identify).ask(&request) {
            prop_assert_eq!(record.outcome(), "refused");
        }
    }
}

/// What nobody may find in a journal.
const MARKED: &[u8; 16] = b"\x02Zx-do-not-keep!";

#[test]
fn what_carries_or_proves_a_secret_is_never_kept_and_never_a_fact() {
    let dictionary = Dictionary::standard();
    let harbour = Harbour::new();
    let known = dictionary.definitions().iter().filter(|definition| definition.secret).map(|definition| {
        let name = definition.name.clone();
        match (definition.id.numbers(), definition.id.vendor()) {
            (&[_, _, inner], Some(vendor)) => {
                let inside = [&vendor.to_be_bytes()[..], &[inner as u8, 18], MARKED].concat();
                (name, number::VENDOR_SPECIFIC, inside)
            }
            (path, _) => (name, path[0] as u8, MARKED.to_vec()),
        }
    });
    // Whole, cut, and after one that is no secret.
    let cut = [&311u32.to_be_bytes()[..], &[25, 99], MARKED].concat();
    let after = [&311u32.to_be_bytes()[..], &[2, 3, b'x', 25, 18], MARKED].concat();
    let odd = [
        ("a cut one".to_owned(), number::VENDOR_SPECIFIC, cut),
        ("a second".to_owned(), number::VENDOR_SPECIFIC, after),
    ];
    let all: Vec<_> = known.chain(odd).collect();
    assert!(all.len() >= 20, "{}", all.len());
    for name in ["User-Password", "CHAP-Password", "EAP-Message", "Message-Authenticator", "MS-CHAP2-Response"] {
        assert!(all.iter().any(|(known, ..)| known == name), "{name} is marked");
    }
    let hex: String = MARKED.iter().map(|byte| format!("{byte:02x}")).collect();
    for (name, number, value) in all {
        assert!(harbour.vocabulary.schema().find(&format!("request.{name}")).is_none(), "{name} is a fact");
        let secret = SharedSecret::new(*b"sextant-3-compass");
        let mut builder = Builder::unsigned(Code::ACCESS_REQUEST, 9);
        builder.attribute(number::USER_NAME, b"ida.marsh").unwrap();
        builder.attribute(number, &value).unwrap();
        let request = Request { from: "127.0.0.41", bytes: builder.request(&AUTHENTICATOR, &secret) };
        let kept = match harbour.ask(&request) {
            Answered::Decided(record, _) => format!("{record:?} {:?}", record.trail()),
            // Cut or unsigned, it is dropped; what is told of it names no value.
            Answered::Unheard(cause) => format!("{cause:?} {cause}"),
            Answered::Challenged(..) => panic!("{name}"),
        };
        assert!(!kept.contains(&hex) && !kept.contains("do-not-keep"), "{name}: {kept}");
        let stored = last_stored();
        assert!(!stored.windows(MARKED.len()).any(|bytes| bytes == MARKED), "{name}: {stored:?}");
    }
}

#[test]
fn a_policy_never_sees_the_part_of_vendor_specific_that_is_secret() {
    let harbour = Harbour::with_policy(
        "grant all { vlan 20 }
         gate everything {
           accept pap
           identify user in harbour
           rule \"Bytes\" { when exists request.Vendor-Specific grant all }
           otherwise refuse
         }",
    );
    let with = |inside: &[u8]| {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
        builder.attribute(number::USER_NAME, b"ida.marsh").unwrap();
        builder.attribute(number::VENDOR_SPECIFIC, &[&311u32.to_be_bytes()[..], inside].concat()).unwrap();
        let hidden = hide_password(b"Tide-Table-61", &AUTHENTICATOR, &secret).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
        harbour.record(&Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) })
    };
    assert_eq!(with(&[2, 3, b'x']).outcome(), "granted");
    assert_eq!(with(&[11, 4, 1, 2]).end(), EndRecord::Otherwise);
}

#[test]
fn a_password_with_accents_is_right_in_both_encodings_and_never_blamed_on_the_shared_secret() {
    let mut harbour = gate(USERS);
    harbour.stores.set_password("ida.marsh", "Maré-Alta-61");
    let latin = b"Mar\xe9-Alta-61";
    let sent = |password: &[u8]| {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
        builder.attribute(number::USER_NAME, b"ida.marsh").unwrap();
        let hidden = hide_password(password, &AUTHENTICATOR, &secret).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
        harbour.record(&Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) })
    };
    assert_eq!(sent("Maré-Alta-61".as_bytes()).outcome(), "granted");
    assert_eq!(sent(latin).outcome(), "granted");
    assert_eq!(*answer(&sent(b"Mar\xea-Alta-61")), LookUpAnswer::WrongPassword);
    assert_eq!(*answer(&sent(b"Mar\xe9-Alta-61\x07")), LookUpAnswer::WrongPassword);
    assert_eq!(sent(latin).carried().as_deref(), Some("pap"));

    // The same inside a tunnel and by EAP-GTC.
    let mut harbour = Harbour::new();
    harbour.stores.set_password("ida.marsh", "Maré-Alta-61");
    for password in ["Maré-Alta-61".as_bytes(), latin] {
        let login =
            || Login { name: "ida.marsh".into(), password: regnant_eap::Secret::new(password), new_password: None };
        let ttls = PeerMethod::Ttls(client(&harbour, None), Tunnelled::Password(login()));
        let gtc = PeerMethod::peap(client(&harbour, None), "ida.marsh".into(), Box::new(PeerMethod::Gtc(login())));
        for method in [ttls, gtc] {
            assert_eq!(run(&harbour, method).grant(), "crew");
        }
    }
}

#[test]
fn two_names_or_two_passwords_are_malformed() {
    let harbour = Harbour::new();
    for (number, name) in
        [(number::USER_NAME, "User-Name"), (number::USER_PASSWORD, "User-Password"), (number::STATE, "State")]
    {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
        for value in [[7; 16], [8; 16]] {
            builder.attribute(number, &value).unwrap();
        }
        let request = Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) };
        let Answered::Unheard(cause) = harbour.ask(&request) else { panic!("{name}") };
        assert_eq!(cause, Cause::Malformed(format!("the request has {name} twice")));
    }
}

#[test]
fn the_equipment_is_told_the_name_that_the_gate_says() {
    let told = |tell: &str, outer: &str| {
        let from = "  remember machine 8h";
        let harbour = Harbour::with_policy(&POLICY.replacen(from, &format!("{from}\n  {tell}"), 1));
        let end = run_from(
            &harbour,
            peap(&harbour, "IDA.marsh@tarnmouth.example", "Tide-Table-61"),
            outer,
            "02-00-5E-10-00-01",
            &[],
        );
        let reply = end.reply.unwrap();
        Packet::parse(&reply).unwrap().first(number::USER_NAME).map(|name| String::from_utf8_lossy(name).into_owned())
    };
    for anonymous in ["anonymous@tarnmouth.example", "@tarnmouth.example", "anonymous"] {
        assert_eq!(told("", anonymous).as_deref(), Some("ida.marsh"), "{anonymous}");
    }
    assert_eq!(told("", "ida.marsh@tarnmouth.example"), None);
    assert_eq!(told("tell name none", "anonymous"), None);
    assert_eq!(told("tell name asked", "anything").as_deref(), Some("anonymous"), "what the equipment sent");
    assert_eq!(told("tell name proved", "ida.marsh").as_deref(), Some("ida.marsh"));
}

#[test]
fn a_message_goes_out_beside_a_password_and_never_beside_eap() {
    let harbour = Harbour::with_policy(
        "grant all { message \"Low tide at six.\" vlan 20 }
         gate everything {
           accept pap, peap(eap-mschapv2)
           present certificate \"radius.tarnmouth.example\"
           identify user in harbour
           otherwise grant all
         }",
    );
    let has = |reply: &[u8]| Packet::parse(reply).unwrap().first(number::REPLY_MESSAGE).is_some();
    let Answered::Decided(_, Some(plain)) = harbour.ask(&named(Some(b"ida.marsh"), "Tide-Table-61")) else { panic!() };
    assert!(has(&plain));
    let end = run(&harbour, peap(&harbour, "ida.marsh", "Tide-Table-61"));
    assert_eq!(end.grant(), "all");
    assert!(!has(end.reply.as_ref().unwrap()));
    assert!(end.station("grant").line.contains("Low tide"), "the journal keeps it");
}

#[test]
fn equipment_that_asks_for_it_gets_an_opaque_name_by_any_method() {
    let harbour = Harbour::new();
    let chargeable = |request: &Request| {
        let Answered::Decided(_, Some(reply)) = harbour.ask(request) else { panic!() };
        Packet::parse(&reply).unwrap().first(number::CHARGEABLE_USER_IDENTITY).map(<[u8]>::to_vec)
    };
    let asked = |name: &'static str, station: &'static str, password: &'static str, service: &'static str| {
        let attributes = [
            ("User-Name", name),
            ("Calling-Station-Id", station),
            ("Service-Type", service),
            ("NAS-Port-Type", if service == "Login" { "Virtual" } else { "Ethernet" }),
            ("Chargeable-User-Identity", "0x00"),
        ];
        let (from, secret) = match service {
            "Login" => ("127.0.0.31", "portcullis-2-chain"),
            _ => ("127.0.0.11", "bollard-9-anchor"),
        };
        request(from, secret, true, &attributes, Some(password))
    };
    let ola = chargeable(&asked("ola.nett", "x", "Fibre-Spool-90", "Login")).unwrap();
    assert_eq!(chargeable(&asked("OLA.nett", "y", "Fibre-Spool-90", "Login")).unwrap(), ola);
    let device = |mac| chargeable(&asked(mac, mac, mac, "Call-Check")).unwrap();
    assert_ne!(device("02005e200007"), device("02005e990001"));
    assert_eq!(device("02005e200007"), device("02-00-5e-20-00-07"));
    assert!(chargeable(&login("ola.nett", "Fibre-Spool-90")).is_none(), "nobody asked");
}

#[test]
fn guessing_is_held_back_more_and_more_and_the_trail_tells_it() {
    let harbour = Harbour::new();
    // Every refusal waits for the next beat; what is held back waits longer.
    let waited = || {
        let all = std::mem::take(&mut *harbour.guesses.waited.lock().unwrap());
        all.into_iter().filter(|time| *time > Duration::from_millis(100)).collect::<Vec<_>>()
    };
    for _ in 0..3 {
        assert_eq!(harbour.record(&login("ola.nett", "wrong")).reason(), "wrong password");
    }
    assert!(waited().is_empty(), "people mistype");
    harbour.record(&login("Ola.Nett", "wrong"));
    let told = harbour.record(&login("ola.nett", "wrong")).reason();
    assert_eq!(told, "wrong password (5 wrong ones for this name; the refusal was held back by 1.0 s)");
    assert!(waited().len() >= 2);
    // Another name waits for nothing; this one waits wherever it is tried.
    assert_eq!(harbour.record(&login("ida.marsh", "Tide-Table-61")).end(), EndRecord::Otherwise);
    assert!(waited().is_empty());
    assert_eq!(harbour.record(&vpn("ola.nett", "Fibre-Spool-90")).outcome(), "granted");
    assert!(!waited().is_empty());
    // A flood of guesses at once is not even tried, and refused late.
    for _ in 0..20 {
        harbour.record(&login("ola.nett", "wrong"));
    }
    waited();
    let crowded = harbour.record(&login("ola.nett", "Fibre-Spool-90"));
    assert_eq!(crowded.outcome(), "refused");
    assert_eq!(crowded.lookups[0].answer, LookUpAnswer::HeldBack);
    assert_eq!(waited(), [Duration::from_secs(3)]);
    // Whoever was right from where they are is not shut out by that.
    assert_eq!(harbour.record(&vpn("ola.nett", "Fibre-Spool-90")).outcome(), "granted");
    assert!(waited().is_empty());
}

#[test]
fn a_refusal_tells_by_its_time_neither_which_names_there_are_nor_what_is_kept_of_them() {
    for name in ["nobody.here", "ida.marsh", "ola.nett"] {
        let harbour = Harbour::new();
        let waited = || std::mem::take(&mut *harbour.guesses.waited.lock().unwrap());
        // With what was done meanwhile, all of them are told at the same beat.
        let beat = Duration::from_millis(20)..=Duration::from_millis(100);
        let one_beat = || matches!(waited()[..], [time] if beat.contains(&time));
        harbour.record(&vpn(name, "x"));
        assert!(one_beat(), "{name}");
        let guess = || Login::new(name, "x");
        run(&harbour, PeerMethod::Ttls(client(&harbour, None), Tunnelled::Password(guess())));
        assert!(one_beat(), "{name}");
        run(&harbour, PeerMethod::peap(client(&harbour, None), "x".into(), Box::new(PeerMethod::MsChapV2(guess()))));
        assert!(one_beat(), "{name}");
        harbour.record(&login("ola.nett", "Fibre-Spool-90"));
        assert!(waited().is_empty(), "whoever is right waits for nothing");
    }
}
