//! A store that is silent never gives more than any of its answers would.
mod common;

use common::*;
use proptest::prelude::*;
use regnant_policy::*;

/// The facts that conditions here ask about, and what each may be.
const FACTS: [&str; 4] = ["device.barred", "user.name", "user.groups", "machine.proved"];

fn values(fact: &str) -> Vec<Option<Value<'static>>> {
    let set = |names: &[&'static str]| Some(Value::set(names.iter().map(|name| Value::text(name)).collect()));
    let mut values = match fact {
        "user.name" => vec![Some(Value::text("ida.marsh")), Some(Value::text("tom.reed"))],
        "user.groups" => vec![set(&[]), set(&["staff"]), set(&["staff", "crew"])],
        _ => vec![Some(Value::Boolean(true)), Some(Value::Boolean(false))],
    };
    // An answer may also be that there is no such thing.
    values.push(None);
    values
}

fn condition() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec![
        "device.barred",
        "user.name = \"ida.marsh\"",
        "user.name != \"ida.marsh\"",
        "user in group \"staff\"",
        "any of user.groups in { \"crew\", \"agents\" }",
        "all of user.groups in { \"staff\", \"agents\" }",
        "machine.proved",
        "exists user.name",
        "exists user.groups",
        "exists machine.proved",
    ]);
    leaf.prop_map(str::to_owned).prop_recursive(3, 12, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|text| format!("not ({text})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("(({a}) and ({b}))")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("(({a}) or ({b}))")),
        ]
    })
}

const RESULTS: [&str; 4] = ["grant crew", "grant agents", "refuse", "silence"];

fn policy(rules: &[(String, &'static str)], undetermined: &str) -> Compiled {
    let rules: Vec<_> =
        rules.iter().enumerate().map(|(at, (when, then))| format!("rule \"{at}\" {{ when {when} {then} }}")).collect();
    compile(&format!(
        "grant crew {{ vlan 20 }} grant agents {{ vlan 60 }}
         gate all {{ accept mac identify mac in devices {} {undetermined} otherwise grant crew }}",
        rules.join(" ")
    ))
}

/// What is known of each of [`FACTS`]: an index into its values, or no answer.
fn known() -> impl Strategy<Value = Vec<Option<usize>>> {
    prop::collection::vec(prop::option::weighted(0.5, 0usize..3), FACTS.len())
}

fn state(fact: usize, at: usize) -> Known<Value<'static>> {
    let values = values(FACTS[fact]);
    values[at % values.len()].clone().into()
}

/// Every way in which the missing answers could have come.
fn answers(known: &[Option<usize>]) -> Vec<Vec<Known<Value<'static>>>> {
    let mut all = vec![Vec::new()];
    for (fact, at) in known.iter().enumerate() {
        let choices: Vec<_> = match at {
            Some(at) => vec![state(fact, *at)],
            None => (0..values(FACTS[fact]).len()).map(|at| state(fact, at)).collect(),
        };
        all = all
            .iter()
            .flat_map(|so_far| choices.iter().map(|choice| [&so_far[..], std::slice::from_ref(choice)].concat()))
            .collect();
    }
    all
}

fn facts(known: Vec<Known<Value<'static>>>) -> Stated {
    let mut known = known.into_iter();
    stated(FACTS.map(|fact| (fact, known.next().unwrap())))
}

fn decide(policy: &Compiled, known: Vec<Known<Value<'static>>>) -> Decided {
    policy.decide(0, &facts(known))
}

fn with_silence(known: &[Option<usize>]) -> Vec<Known<Value<'static>>> {
    known.iter().enumerate().map(|(fact, at)| at.map_or(Known::Unanswered, |at| state(fact, at))).collect()
}

fn rules() -> impl Strategy<Value = Vec<(String, &'static str)>> {
    prop::collection::vec((condition(), prop::sample::select(RESULTS.to_vec())), 1..5)
}

proptest! {
    #[test]
    fn what_is_decided_while_a_store_is_silent_is_what_every_answer_would_have_led_to(
        rules in rules(), known in known(), reaction in prop::sample::select(vec!["", "undetermined refuse", "undetermined silence"])
    ) {
        let policy = policy(&rules, reaction);
        let decided = decide(&policy, with_silence(&known));
        if !matches!(decided, Decided::Undetermined(_)) {
            for answer in answers(&known) {
                prop_assert_eq!(decide(&policy, answer.clone()), decided, "{:?} with {:?}", rules, answer);
            }
        }
    }

    #[test]
    fn continue_passes_over_grants_alone(rules in rules(), known in known()) {
        let policy = policy(&rules, "undetermined continue");
        let decided = decide(&policy, with_silence(&known));
        for answer in answers(&known) {
            // A rule that refuses, and that an answer makes the first true one, is
            // never passed over on the way to one further down.
            if let (Decided::Rule(first), later) = (decide(&policy, answer), decided) {
                let passed = match later {
                    Decided::Rule(rule) | Decided::Undetermined(rule) => rule > first,
                    Decided::Otherwise => true,
                };
                prop_assert!(!passed || rules[first].1.starts_with("grant"), "{:?}", rules);
            }
        }
    }

    #[test]
    fn a_set_with_a_part_missing_says_what_every_whole_would(
        condition in condition(), part in prop::collection::btree_set(prop::sample::select(vec!["staff", "crew", "agents"]), 0..3)
    ) {
        let policy = policy(&[(condition, "grant agents")], "");
        let with = |groups| decide(&policy, vec![Known::Absent, Known::Absent, groups, Known::Absent]);
        let set = |names: &[&'static str]| Value::set(names.iter().map(|name| Value::text(name)).collect());
        let part: Vec<_> = part.into_iter().collect();
        let decided = with(Known::Partial(set(&part)));
        if !matches!(decided, Decided::Undetermined(_)) {
            for more in [&[][..], &["staff"], &["crew"], &["agents"], &["staff", "crew"], &["other"]] {
                prop_assert_eq!(with(Known::Is(set(&[&part[..], more].concat()))), decided);
            }
        }
    }
}

#[test]
fn a_partial_set_is_known_for_what_it_holds() {
    let decide = |condition: &str| {
        let part = Known::Partial(Value::set(vec![Value::text("staff")]));
        decide(&policy(&[(condition.into(), "refuse")], ""), vec![Known::Absent, Known::Absent, part, Known::Absent])
    };
    assert_eq!(decide("user in group \"staff\""), Decided::Rule(0));
    assert_eq!(decide("not user in group \"staff\""), Decided::Otherwise);
    assert_eq!(decide("user in group \"crew\""), Decided::Undetermined(0));
    assert_eq!(decide("all of user.groups in { \"crew\" }"), Decided::Otherwise);
    assert_eq!(decide("all of user.groups in { \"staff\" }"), Decided::Undetermined(0));
    assert_eq!(decide("exists user.groups"), Decided::Rule(0));
}

#[test]
fn cases_say_what_a_silent_store_leads_to() {
    let case = |reaction: &str, expect: &str| {
        let policy = compile(&format!(
            "grant crew {{ vlan 20 }} grant agents {{ vlan 60 }}
             gate all {{
               accept mac identify mac in devices
               rule \"Staff\" {{ when user in group \"staff\" grant agents }}
               rule \"Ida\" {{ when exists user.name refuse }}
               {reaction}
               otherwise grant crew
             }}
             case \"silent\" {{ given user.groups unanswered, user.name unanswered expect {expect} }}
             case \"groups only\" {{ given user.groups unanswered expect {} }}",
            if reaction.ends_with("continue") { "grant crew by otherwise" } else { expect }
        ));
        policy
            .run_cases()
            .into_iter()
            .filter_map(|result| result.failure)
            .map(|d| d.labels[0].text.clone())
            .collect::<Vec<_>>()
    };
    assert!(case("", "silence by \"Staff\"").is_empty());
    assert!(case("undetermined silence", "silence by \"Staff\"").is_empty());
    assert!(case("undetermined refuse \"Later.\"", "refuse by \"Staff\"").is_empty());
    assert!(case("undetermined continue", "silence by \"Ida\"").is_empty());
    assert_eq!(case("", "grant crew"), ["the policy stays silent by \"Staff\""; 2]);
}
