//! What decisions make of stores that are slow, or can do less than others.
mod harbour;

use std::time::Duration;

use harbour::{Request, *};
use regnant_decision::*;
use regnant_evidence::*;
use regnant_policy::{Event, IdentityKind};
use regnant_radius::{Builder, Code, SharedSecret, number};

#[test]
fn a_store_that_never_answers_is_waited_for_as_long_as_it_may_take() {
    let mut harbour = Harbour::new();
    harbour.stores.hanging = vec!["harbour"];
    let record = harbour.record(&login("ola.nett", "Fibre-Spool-90"));
    assert_eq!(record.verdict(), VerdictRecord::Silence);
    assert_eq!(*answer(&record), LookUpAnswer::NoAnswer("no answer within 1 s".into()));
    assert_eq!(*harbour.guesses.waited.lock().unwrap(), [Duration::from_secs(1)]);
    harbour.stores.hanging = vec!["harbour-devices"];
    let record = harbour.record(&bypass("02005e200007", "02005e200007"));
    assert_eq!(record.end(), EndRecord::Proof { identity: IdentityKind::Mac, event: Event::Unreachable });
}

#[test]
fn a_store_is_never_asked_what_it_cannot_do() {
    let mut harbour = Harbour::new();
    let told = |harbour: &Harbour| answer(&harbour.record(&login("ola.nett", "Fibre-Spool-90"))).clone();
    harbour.stores.capabilities = Some(Capabilities { passwords: false, ..ALL });
    assert_eq!(told(&harbour), LookUpAnswer::ChecksNoPasswords);
    harbour.stores.capabilities = Some(Capabilities { recoverable_passwords: false, ..ALL });
    let chap = {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
        let attributes = [("User-Name", "ola.nett"), ("Service-Type", "Login")];
        builder.encoded(&regnant_radius::Dictionary::standard().encode(attributes).unwrap()).unwrap();
        let response = regnant_radius::chap_response(3, b"Fibre-Spool-90", &AUTHENTICATOR);
        builder.attribute(number::CHAP_PASSWORD, &[&[3][..], &response].concat()).unwrap();
        Request { from: "127.0.0.31", bytes: builder.request(&AUTHENTICATOR, &secret) }
    };
    assert_eq!(*answer(&harbour.record(&chap)), LookUpAnswer::NoRecoverablePassword);
    harbour.stores.capabilities = Some(Capabilities { mschap: false, ..ALL });
    let login = supplicant::peap(&harbour, "ida.marsh", "Tide-Table-61");
    let end = supplicant::run(&harbour, login);
    assert!(end.record.lookups.iter().any(|lookup| lookup.answer == LookUpAnswer::NoNtHash));
}

#[test]
fn what_a_directory_says_of_a_password_is_an_event_and_several_accounts_are_another() {
    let mut harbour = Harbour::new();
    let mut ends = |says| {
        harbour.stores.passwords = Some(says);
        let record = harbour.record(&login("ola.nett", "Fibre-Spool-90"));
        let EndRecord::Proof { event, .. } = record.end() else { panic!("{record:?}") };
        (event, answer(&record).clone())
    };
    let right = Right::Credential;
    assert_eq!(ends(PasswordAnswer::Disabled), (Event::Disabled, LookUpAnswer::Disabled(right)));
    assert_eq!(ends(PasswordAnswer::Expired), (Event::Expired, LookUpAnswer::Expired(right)));
    assert_eq!(ends(PasswordAnswer::MustChange), (Event::Outdated, LookUpAnswer::MustChange));
    assert_eq!(ends(PasswordAnswer::Locked), (Event::Locked, LookUpAnswer::Locked));
    assert_eq!(ends(PasswordAnswer::Wrong), (Event::Failed, LookUpAnswer::WrongPassword));
    harbour.stores.passwords = None;
    let record = harbour.record(&login("twin", "Fibre-Spool-90"));
    assert_eq!(record.end(), EndRecord::Proof { identity: IdentityKind::User, event: Event::Ambiguous });
    assert!(record.reason().contains("several accounts of that name"));
    // Whoever wants the next store to be asked says so.
    let policy = POLICY.replace("identify user in harbour\n", "identify user in harbour { ambiguous next }\n");
    assert_ne!(policy, POLICY);
    let harbour = Harbour::with_policy(&policy);
    let record = harbour.record(&login("twin", "Fibre-Spool-90"));
    assert!(matches!(record.verdict(), VerdictRecord::Refuse { .. }));
}

#[test]
fn a_form_of_the_name_that_is_there_is_told() {
    let harbour = Harbour::new();
    for (name, near) in [
        ("ola.nett@tarnmouth.example", Some("ola.nett")),
        ("TARN\\ola.nett", Some("ola.nett")),
        ("nobody@tarnmouth.example", None),
        ("@", None),
    ] {
        let record = harbour.record(&login(name, "Fibre-Spool-90"));
        let expected = near.map_or(LookUpAnswer::Unknown, |near| LookUpAnswer::UnknownNear(near.into()));
        assert_eq!(*answer(&record), expected, "{name}");
        assert_eq!(record.end(), EndRecord::Proof { identity: IdentityKind::User, event: Event::Unknown });
        let advice = format!("{:?}", record.trail());
        assert_eq!(advice.contains("have the gate trim the name"), near.is_some(), "{advice}");
    }
}
