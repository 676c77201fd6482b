//! The stored form of evidence stays readable, and reads nothing that was not written.
use regnant_decision::{Because, Decider, Ending, FactCode, FailureEvidence, Unfit};
use regnant_evidence::{Evidence, Subject, Unreadable};
use regnant_policy::{Event, IdentityKind, Known, Value};
use ulid::Ulid;

/// A MAC bypass of the harbour, as the first form keeps it.
const FORM_1: &[u8] = include_bytes!("stored/form-1.bin");

#[test]
fn an_entry_of_the_first_form_is_read() {
    let evidence = Evidence::from_bytes(Ulid::from_parts(1_795_000_000_000, 7), FORM_1).unwrap();
    assert_eq!((evidence.evaluator, evidence.id.timestamp_ms()), (1, 1_795_000_000_000));
    assert_eq!(evidence.subject, Subject::Device("crane controller".into(), "02:00:5e:20:00:07".parse().unwrap()));
    let nas = evidence.facts.iter().find(|(code, _)| *code == FactCode(1)).map(|(_, value)| value);
    assert_eq!(nas, Some(&Known::Is(Value::text("quay-sw-1"))));
    assert!(matches!(evidence.ending, Ending::Granted { by: Decider::Rule(_), .. }));
    assert_eq!(evidence.to_bytes(), FORM_1, "and written as it was");
}

#[test]
fn what_is_cut_or_of_another_form_is_told() {
    let read = |bytes: &[u8]| Evidence::from_bytes(Ulid::nil(), bytes).unwrap_err();
    assert_eq!(
        (read(&[]), read(&[1, 1]), read(&[3, 1])),
        (Unreadable::Empty, Unreadable::Version(1), Unreadable::Version(3))
    );
    for length in 1..FORM_1.len() {
        assert_eq!(read(&FORM_1[..length]), Unreadable::Damaged, "{length}");
    }
}

#[test]
fn sets_within_sets_are_refused_before_they_exhaust_anything() {
    // Value::Set is 7; each level is a set of one.
    let deep: Vec<u8> = [7u8, 1].repeat(200_000);
    assert!(postcard::from_bytes::<Value<'static>>(&deep).is_err());
}

/// Endings are stored as they are: one that moves among its kind would be read as another.
#[test]
fn every_ending_has_its_bytes() {
    let failure = || FailureEvidence::Credential;
    let by = Because::Proof(IdentityKind::User, Event::Failed);
    let rule = Decider::Rule(3);
    let all = [
        Ending::Granted { by: rule, grants: 2 },
        Ending::Granted { by: Decider::Otherwise, grants: 0 },
        Ending::Refused { by, text: Some("No".into()) },
        Ending::Refused { by: Because::Undetermined(1), text: None },
        Ending::Observed { by: rule, grants: 2 },
        Ending::Silent { by: Because::Decider(Decider::Otherwise) },
        Ending::Unfit(Unfit::NoGate),
        Ending::Unfit(Unfit::MethodNotAccepted),
        Ending::Unfit(Unfit::NoCredential),
        Ending::Unfit(Unfit::UnknownConversation),
        Ending::Unfit(Unfit::Conversation(failure())),
        Ending::Unfit(Unfit::CannotBeTold("a".into())),
        Ending::Unfit(Unfit::NotTold("b".into())),
        Ending::Told("c".into()),
        Ending::Unanswerable("d".into()),
        Ending::Left(None),
        Ending::Left(Some(failure())),
    ];
    let hex =
        |ending: &Ending| postcard::to_allocvec(ending).unwrap().iter().map(|byte| format!("{byte:02x}")).collect();
    let bytes: Vec<String> = all.iter().map(hex).collect();
    assert_eq!(bytes, EXPECTED);
    for ending in &all {
        assert_eq!(postcard::from_bytes::<Ending>(&postcard::to_allocvec(ending).unwrap()).as_ref(), Ok(ending));
    }
}

const EXPECTED: [&str; 17] = [
    "00000302",
    "000100",
    "0100000201024e6f",
    "01020100",
    "02000302",
    "030101",
    "0400",
    "0401",
    "0402",
    "0403",
    "040407",
    "04050161",
    "04060162",
    "050163",
    "060164",
    "0700",
    "070107",
];
