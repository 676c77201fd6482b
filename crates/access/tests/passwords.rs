//! Whoever sends a password ends in proof, or in an event: never in the rules as if
//! nothing had been sent.
mod harbour;

use harbour::*;
use proptest::prelude::*;
use regnant_access::*;
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
    let failed = |identity: &str| EndRecord::Proof { identity: identity.into(), event: regnant_policy::Event::Failed };
    for (identify, name, identity, told) in [
        (USERS, Some(&b"x$"[..]), "machine", "the gate looks no machine up"),
        (USERS, Some(b"host/x"), "machine", "the gate looks no machine up"),
        (USERS, None, "user", "the request has no User-Name"),
        (USERS, Some(b"ida\xff"), "user", "User-Name is not UTF-8"),
        (MACHINES, Some(b"ida.marsh"), "user", "the gate looks no user up"),
        (MACHINES, None, "machine", "the request has no User-Name"),
        (
            "identify user in harbour as after(claimed.name, \"@\")",
            Some(b"ida.marsh"),
            "user",
            "the gate's `as` makes no name of it to look a user up by",
        ),
    ] {
        let record = gate(identify).record(&named(name, "Tide-Table-61"));
        assert_eq!((record.end.clone(), record.reason()), (failed(identity), told.to_owned()), "{name:?}");
        assert_eq!(record.verdict.word(), "refused");
        assert!(!record.trail().stations.iter().any(|station| station.line.contains("nobody had to prove")));
    }
}

#[test]
fn a_gate_goes_on_only_by_a_reaction_that_says_so() {
    let lenient = gate("identify user in harbour { failed continue }");
    for name in [None, Some(&b"ida\xff"[..]), Some(b"ida.marsh")] {
        let record = lenient.record(&named(name, "wrong"));
        assert_eq!(record.verdict.word(), "granted");
        assert_eq!((record.fact("user.proved"), record.fact("user.failure")), (Some("false"), Some("\"failed\"")));
    }
    assert_eq!(lenient.record(&named(Some(b"x$"), "wrong")).verdict.word(), "refused", "no clause says so of machines");
}

#[test]
fn a_machine_by_password_is_looked_up_without_its_marks() {
    let harbour = gate("identify machine in harbour as lower(claimed.name)");
    for name in ["host/quay-laptop-7", "QUAY-LAPTOP-7$"] {
        let record = harbour.record(&named(Some(name.as_bytes()), "Keel-Plate-55"));
        assert_eq!(record.verdict.word(), "granted", "{}", record.reason());
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
            prop_assert_eq!(record.verdict.word(), "refused");
        }
    }
}
