//! Facts that stores add about whoever is proved.
mod harbour;

use harbour::*;
use regnant_evidence::*;

fn policy(lookup: &str, rules: &str) -> String {
    format!(
        "grant yes {{ class \"yes\" }}
         grant more {{ class \"more\" }}
         gate all {{
           accept pap
           identify user in harbour {{ unreachable continue, unknown continue }}
           {lookup}
           {rules}
           otherwise refuse
         }}"
    )
}

const STAFF: &str = "rule \"Staff\" { when user in group \"staff\" grant yes }";
const OTHERS: &str = "rule \"Others\" { when user in group \"nobody-has-it\" grant more }";

fn answers(record: &Record) -> Vec<String> {
    record.lookups.iter().map(|lookup| format!("{}: {lookup}", lookup.asked)).collect()
}

#[test]
fn a_silent_store_leaves_open_what_it_would_have_added_and_nothing_else() {
    let ida = login("ida.marsh", "Tide-Table-61");
    let text = policy("lookup user in annex", STAFF);
    let mut harbour = Harbour::with_stores(&text, &["harbour", "annex"]);
    assert_eq!(answers(&harbour.record(&ida)), ["harbour: right credential", "annex: it told what it knows"]);
    harbour.stores.silent = vec!["annex"];
    let record = harbour.record(&ida);
    assert_eq!((record.outcome(), record.reason().as_str()), ("granted", "Staff"), "what is there is there");
    // A rule before it that the silent store might have made true ends the walk.
    let text = policy("lookup user in annex", &format!("{OTHERS}\n{STAFF}"));
    let mut harbour = Harbour::with_stores(&text, &["harbour", "annex"]);
    assert_eq!(harbour.record(&ida).outcome(), "granted");
    harbour.stores.silent = vec!["annex"];
    assert_eq!(harbour.record(&ida).verdict(), VerdictRecord::Silence);
    for (reaction, verdict) in [("refuse \"Come back later.\"", "refused"), ("silence", "silence")] {
        let text = policy(&format!("lookup user in annex {{ unreachable {reaction} }}"), STAFF);
        let mut harbour = Harbour::with_stores(&text, &["harbour", "annex"]);
        assert_eq!(harbour.record(&ida).outcome(), "granted");
        harbour.stores.silent = vec!["annex"];
        assert_eq!(harbour.record(&ida).outcome(), verdict, "{reaction}");
    }
}

#[test]
fn nobody_is_asked_about_who_is_not_proved() {
    let text = policy("lookup user in annex\n lookup machine in annex", STAFF);
    let mut harbour = Harbour::with_stores(&text, &["harbour", "annex"]);
    let not_asked = "annex: not asked: nobody of whom it tells facts is proved";
    for (who, expected) in [
        (login("nobody", "x"), &["harbour: unknown", not_asked, not_asked][..]),
        (login("ida.marsh", "x"), &["harbour: wrong password"]),
    ] {
        let record = harbour.record(&who);
        assert_eq!(answers(&record), expected);
        assert_eq!(record.outcome(), "refused");
    }
    // Whether somebody is proved is what the silent store did not say, and so is what others know of them.
    harbour.stores.silent = vec!["harbour"];
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    let by_nothing = "annex: not asked: what it would be asked by was not answered";
    assert_eq!(answers(&record), ["harbour: no answer: it does not answer", by_nothing, not_asked]);
    assert_eq!(record.verdict(), VerdictRecord::Silence);
}

#[test]
fn the_name_is_made_by_what_the_gate_says() {
    let by = |expression: &str| policy(&format!("lookup user in annex by {expression}"), STAFF);
    let told = |expression: &str| {
        let harbour = Harbour::with_stores(&by(expression), &["harbour", "annex"]);
        let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
        let last = record.lookups.last().unwrap();
        (last.name.clone(), format!("{}: {last}", last.asked))
    };
    assert_eq!(told("upper(user.name)").0, "IDA.MARSH");
    assert_eq!(told("before(claimed.name, \".\")"), ("ida".into(), "annex: unknown".into()));
    assert!(told("certificate.san-uri").1.starts_with("no store: the gate's `by` makes no name"));
    // A set of one is a name, a set of more is none.
    let (name, answer) = told("user.groups");
    assert!(name.is_empty() && answer.contains("makes no name"), "{name} {answer}");
}

#[test]
fn a_group_of_one_store_is_asked_of_that_store_alone() {
    let ida = login("ida.marsh", "Tide-Table-61");
    let of = |lookup: &str, store: &str, silent: Vec<&'static str>| {
        let rule = format!("rule \"Staff\" {{ when user in group \"staff\" of {store} grant yes }}");
        let mut harbour = Harbour::with_stores(&policy(lookup, &rule), &["harbour", "annex"]);
        harbour.stores.silent = silent;
        harbour.record(&ida).outcome()
    };
    assert_eq!(of("", "harbour", vec![]), "granted");
    assert_eq!(of("", "annex", vec![]), "refused", "what the annex would say nobody asked");
    assert_eq!(of("lookup user in annex", "annex", vec![]), "granted");
    assert_eq!(of("lookup user in annex", "annex", vec!["annex"]), "silence");
    assert_eq!(of("lookup user in annex", "harbour", vec!["annex"]), "granted", "the harbour did say");
    // The annex adds a group that the harbour does not have: it is none of the harbour's.
    let rule = "rule \"Night\" { when user in group \"night-watch\" of harbour grant more }
        rule \"Watch\" { when user in group \"night-watch\" of annex grant yes }";
    let mut harbour = Harbour::with_stores(&policy("lookup user in annex", rule), &["harbour", "annex"]);
    harbour.stores.own_group = Some(("annex", "night-watch"));
    assert_eq!(harbour.record(&ida).reason(), "Watch");
}
