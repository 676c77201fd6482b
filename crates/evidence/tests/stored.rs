//! The stored form of evidence stays readable, and reads nothing that was not written.
use regnant_decision::{Decider, Ending, FactCode};
use regnant_evidence::{Evidence, Subject, Unreadable};
use regnant_policy::{Known, Value};
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
    assert_eq!((read(&[]), read(&[2, 1])), (Unreadable::Empty, Unreadable::Version(2)));
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
