//! What gives nobody more when something fails: a store that is silent, one that is full, a proof that failed,
//! somebody who guesses.
mod harbour;

use harbour::supplicant::{laptop, peap, run, tls};
use harbour::*;
use proptest::prelude::*;
use regnant_decision::*;
use regnant_evidence::*;
use regnant_policy::{Event, IdentityKind};

/// Two stores of people, and what the gate says of them.
fn two(reactions: &str) -> Harbour {
    let policy = format!(
        "grant yes {{ class \"yes\" }} grant no {{ class \"no\" }}
         gate all {{
           accept pap, mac, peap(eap-mschapv2)
           present certificate \"{SERVER}\"
           identify user in harbour, annex {{ {reactions} }}
           identify mac in harbour-devices, annex-devices {{ {reactions} }}
           rule \"Outage\" {{ when user.failure = \"unreachable\" grant no }}
           rule \"Barred\" {{ when device.barred refuse }}
           undetermined continue
           otherwise grant yes
         }}"
    );
    Harbour::with_stores(&policy, &["harbour", "annex"])
}

fn answers(record: &Record) -> Vec<String> {
    record.lookups.iter().map(|lookup| format!("{}: {lookup}", lookup.asked)).collect()
}

fn stopped_by(record: &Record) -> Option<Event> {
    match record.end() {
        EndRecord::Proof { event, .. } => Some(event),
        _ => None,
    }
}

#[test]
fn a_silent_store_hands_nobody_to_the_next_one() {
    let mut harbour = two("");
    harbour.stores.silent = vec!["harbour"];
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    assert_eq!(answers(&record), ["harbour: no answer: it does not answer"]);
    assert_eq!((stopped_by(&record), &record.verdict()), (Some(Event::Unreachable), &VerdictRecord::Silence));
    // One that has it is asked before, and nobody behind it.
    harbour.stores.silent = vec!["annex"];
    assert_eq!(harbour.record(&login("ida.marsh", "Tide-Table-61")).outcome(), "granted");
    assert_eq!(stopped_by(&harbour.record(&login("nobody", "x"))), Some(Event::Unreachable));
    // The first might have it barred.
    harbour.stores.silent = vec!["harbour-devices"];
    let record = harbour.record(&bypass("02005e200007", "02005e200007"));
    assert_eq!((stopped_by(&record), record.lookups.len()), (Some(Event::Unreachable), 1));
}

#[test]
fn behind_a_silent_store_only_a_proof_counts_where_the_gate_asks_the_next_one() {
    let mut harbour = two("unreachable next");
    harbour.stores.silent = vec!["harbour", "harbour-devices"];
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    assert_eq!(answers(&record), ["harbour: no answer: it does not answer", "annex: right credential"]);
    assert_eq!(record.outcome(), "granted");
    for (name, password, event) in [
        ("ida.marsh", "x", Event::Unreachable),
        ("nobody", "x", Event::Unreachable),
        ("twin", "x", Event::Unreachable),
        ("lee.gone", "Old-Badge-77", Event::Disabled),
    ] {
        let record = harbour.record(&login(name, password));
        assert_eq!(stopped_by(&record), Some(event), "{name}");
        let silent = event == Event::Unreachable;
        assert_eq!(record.verdict() == VerdictRecord::Silence, silent, "nobody is told that it was wrong: {record:?}");
        assert!(!silent || record.reason() == "a store did not answer", "{}", record.reason());
    }
    harbour.stores.own_passwords = Some(("annex", PasswordAnswer::Expired));
    assert_eq!(stopped_by(&harbour.record(&login("ida.marsh", "x"))), Some(Event::Unreachable));
    let listed = harbour.record(&bypass("02005e200007", "02005e200007"));
    assert_eq!(listed.outcome(), "granted");
    let unlisted = harbour.record(&bypass("02005e200008", "02005e200008"));
    assert_eq!((stopped_by(&unlisted), &unlisted.verdict()), (Some(Event::Unreachable), &VerdictRecord::Silence));
}

#[test]
fn a_wrong_password_behind_a_silent_store_counts_as_a_guess() {
    let mut harbour = two("unreachable next");
    harbour.stores.silent = vec!["harbour"];
    for _ in 0..5 {
        harbour.record(&login("ida.marsh", "x"));
    }
    assert!(!harbour.guesses.waited.lock().unwrap().is_empty(), "it is held back");
}

#[test]
fn what_a_later_store_tells_where_an_earlier_one_was_silent_is_unanswered() {
    let policy = "grant yes { class \"yes\" }
        gate all {
          accept pap
          identify user in harbour
          lookup user in register, annex
          rule \"Special\" { when user in group \"special\" grant yes }
          otherwise refuse
        }";
    let mut harbour = Harbour::with_stores(policy, &["harbour", "register", "annex"]);
    harbour.stores.own_group = Some(("annex", "special"));
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    assert_eq!(record.outcome(), "refused", "the first that has the name tells");
    harbour.stores.silent = vec!["register"];
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    assert_eq!(record.end(), EndRecord::Undetermined { title: "Special" });
    assert!(!answers(&record).iter().any(|answer| answer.starts_with("annex")), "{:?}", answers(&record));
}

/// Every reaction to an outage; none may be had by causing load.
const OUTAGES: [&str; 5] =
    ["", "unreachable continue", "unreachable refuse", "unreachable next", "unreachable use stale 1h"];

#[test]
fn want_of_room_is_silence_whatever_the_gate_does_in_an_outage() {
    for reactions in OUTAGES {
        let mut harbour = two(reactions);
        harbour.stores.crowded = vec!["harbour", "harbour-devices"];
        for request in [login("ida.marsh", "Tide-Table-61"), bypass("02005e200007", "02005e200007")] {
            let record = harbour.record(&request);
            assert_eq!(stopped_by(&record), Some(Event::NoRoom), "{reactions}: {:?}", answers(&record));
            assert_eq!(record.verdict(), VerdictRecord::Silence);
            assert_eq!(record.reason(), "there was no room to ask anybody");
        }
        let login = peap(&harbour, "ida.marsh", "Tide-Table-61");
        let end = run(&harbour, login);
        assert_eq!(end.record.verdict(), VerdictRecord::Silence, "{reactions}");
        // The one behind it is full.
        harbour.stores.crowded = vec!["annex"];
        harbour.stores.silent = vec!["harbour"];
        let behind = stopped_by(&harbour.record(&harbour::login("ida.marsh", "Tide-Table-61")));
        assert!(reactions != "unreachable next" || behind == Some(Event::NoRoom));
    }
    let policy = "grant yes { class \"yes\" }
        gate all {
          accept pap
          identify user in harbour
          lookup user in register { unreachable continue }
          undetermined continue
          otherwise grant yes
        }";
    let mut harbour = Harbour::with_stores(policy, &["harbour", "register"]);
    harbour.stores.crowded = vec!["register"];
    let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
    assert_eq!((stopped_by(&record), &record.verdict()), (Some(Event::NoRoom), &VerdictRecord::Silence));
}

#[test]
fn a_guesser_who_is_held_back_is_refused_late_and_no_rule_is_tried() {
    for reactions in OUTAGES {
        let harbour = two(reactions);
        let mut ends = Vec::new();
        for _ in 0..20 {
            let record = harbour.record(&login("ida.marsh", "x"));
            ends.push(stopped_by(&record));
            assert!(matches!(record.verdict(), VerdictRecord::Refuse { .. }), "{reactions}: {record:?}");
        }
        // Then the right one is not looked at either: nobody learns that it is right.
        let record = harbour.record(&login("ida.marsh", "Tide-Table-61"));
        assert_eq!(stopped_by(&record), Some(Event::HeldBack), "{reactions}: {ends:?}");
        assert!(record.reason().contains("not looked at"), "{}", record.reason());
        assert!(record.trail().stations.iter().any(|station| station.advice.is_some()));
    }
}

#[test]
fn an_unknown_person_with_a_valid_certificate_is_not_watched() {
    let policy = format!(
        "grant yes {{ class \"yes\" }}
         gate all {{
           accept eap-tls
           present certificate \"{SERVER}\"
           trust \"tarnmouth-authority\" {{ machine from san-dns  user from san-upn }}
           identify machine in harbour as before(claimed.name, \".\") {{ unknown continue }}
           otherwise refuse
           observe with grant yes
         }}"
    );
    let policy = policy
        .replace("otherwise refuse\n           observe with grant yes", "observe with grant yes\n otherwise refuse");
    let harbour = Harbour::with_policy(&policy);
    let known = run(&harbour, tls(&harbour, &laptop(&harbour)));
    assert_eq!(known.record.outcome(), "observed", "who is proved is watched");
    let stranger = harbour.certificates.client("stranger", &["stranger.tarnmouth.example"], &[], 70);
    let end = run(&harbour, tls(&harbour, &stranger));
    assert_eq!(end.record.outcome(), "refused", "{:?}", end.record.end());
}

/// A gate that is watched, with reactions and rules of every kind.
fn watched() -> impl Strategy<Value = String> {
    let reaction = prop::sample::select(vec!["continue", "continue", "refuse", "silence"]);
    let events = ["failed", "unknown", "disabled", "unreachable", "ambiguous", "unfit", "expired"];
    let reactions = prop::collection::vec(reaction, events.len());
    let rules = [
        "when user.failure = \"failed\" refuse",
        "when exists user.failure refuse",
        "when not user.proved refuse",
        "when user in group \"nobody\" refuse",
        "when device.barred refuse",
        "when nas.kind = firewall refuse",
    ];
    let rules = prop::sample::subsequence(rules.to_vec(), 0..=rules.len());
    let when = prop::sample::select(vec![
        "",
        "when nas.site = \"quayside\"",
        "when not user.proved",
        "when exists user.failure",
    ]);
    (reactions.clone(), reactions, rules, when).prop_map(move |(user, machine, rules, when)| {
        let clause = |kind: &str, reactions: &[&str]| {
            let all: Vec<_> =
                events.iter().zip(reactions).map(|(event, reaction)| format!("{event} {reaction}")).collect();
            format!("identify {kind} in harbour {{ {} }}\n", all.join(" "))
        };
        let rules: String =
            rules.iter().enumerate().map(|(place, rule)| format!("rule \"r{place}\" {{ {rule} }}\n")).collect();
        format!(
            "grant yes {{ class \"yes\" }}
             gate all {{
               accept pap, mac
               {}{}
               identify mac in harbour-devices {{ unknown continue }}
               {rules}
               undetermined continue
               observe {when} with grant yes
               otherwise refuse
             }}",
            clause("user", &user),
            clause("machine", &machine)
        )
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn whoever_presents_an_identity_that_is_not_proved_is_never_observed(
        policy in watched(),
        name in prop::sample::select(vec!["ida.marsh", "lee.gone", "nobody", "twin", "host/quay-laptop-7", "host/nobody"]),
        password in prop::sample::select(vec!["Tide-Table-61", "Old-Badge-77", "Keel-Plate-55", "x"]),
        silent: bool,
    ) {
        let mut harbour = Harbour::with_policy(&policy);
        if silent {
            harbour.stores.silent = vec!["harbour"];
        }
        let record = harbour.record(&login(name, password));
        let proved = record.fact("user.name").or(record.fact("machine.name")).is_some();
        prop_assert!(record.outcome() != "observed" || proved, "{}\n{:?}", policy, record);
        // A device proves nothing, and is watched all the same.
        let device = harbour.record(&bypass("02005e200007", "02005e200007"));
        prop_assert!(matches!(device.outcome(), "observed" | "refused" | "silence"));
        let refused_by = matches!(device.end(), EndRecord::Rule { .. } | EndRecord::Otherwise);
        let unconditional = policy.contains("observe  with");
        prop_assert!(!(refused_by && unconditional) || device.outcome() == "observed", "{:?}", device);
        let _ = IdentityKind::Mac;
    }
}
