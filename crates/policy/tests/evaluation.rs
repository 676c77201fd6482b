//! What conditions, rules and cases come to.
mod common;

use common::*;
use proptest::prelude::*;
use regnant_base::Mac;
use regnant_policy::*;

fn is(value: Value<'static>) -> Known<Value<'static>> {
    Known::Is(value)
}

fn groups(names: &[&'static str]) -> Known<Value<'static>> {
    is(Value::set(names.iter().map(|name| Value::text(name)).collect()))
}

/// What the only rule's condition comes to.
fn truth(condition: &str, facts: &Stated) -> TruthValue {
    let policy = one_rule(condition, "refuse");
    policy.explain(0, facts).1[0].outcome
}

#[test]
fn comparisons_follow_the_type_of_the_fact() {
    let facts = stated([
        ("nas.site", is(Value::text("Quayside"))),
        ("nas.address", is(Value::Address("10.44.3.9".parse().unwrap()))),
        ("request.port", is(Value::Integer(7))),
        ("request.mac", is(Value::Mac(Mac([2, 0, 0x5e, 0x20, 0, 1])))),
        ("request.ssid", is(Value::text("Crew"))),
        ("request.Session-Timeout", is(Value::Duration(5400))),
        ("claimed.name", is(Value::text("Ida.Marsh@tarnmouth.example"))),
        ("user.groups", groups(&["staff", "crane-engineers"])),
        ("device.known", is(Value::Boolean(true))),
    ]);
    for condition in [
        "nas.site = \"quayside\"",
        "nas.site starts with \"QUAY\"",
        "request.port in 1..12",
        "request.port in { 5, 7 }",
        "request.port != 8",
        "nas.address in 10.44.0.0/16",
        "request.mac = 02-00-5E-20-00-01",
        "request.ssid = \"Crew\"",
        "request.Session-Timeout = 1h30m",
        "request.Session-Timeout < 2h",
        "lower(before(claimed.name, \"@\")) = \"ida.marsh\"",
        "after(claimed.name, \"@\") ends with \".example\"",
        "capture(claimed.name, /^([a-z]+)\\./) = \"ida\"",
        "claimed.name matches /^ida/",
        "user in group \"Staff\"",
        "any of user.groups in { \"staff\", \"crew\" }",
        "device.known",
        "exists user.groups and not exists user.name",
    ] {
        assert_eq!(truth(condition, &facts), TruthValue::True, "{condition}");
    }
    for condition in [
        "request.ssid = \"crew\"",
        "nas.address in 10.45.0.0/16",
        "all of user.groups in { \"staff\", \"crew\" }",
        "user in group \"contractors\"",
        "request.port > 7",
        "not device.known",
    ] {
        assert_eq!(truth(condition, &facts), TruthValue::False, "{condition}");
    }
    assert_eq!(truth("after(nas.site, \"@\") = \"x\"", &facts), TruthValue::Absent);
}

#[test]
fn absent_and_unanswered_are_unknown_and_told_apart() {
    let facts = stated([("device.known", is(Value::Boolean(false))), ("user.groups", Known::Unanswered)]);
    assert_eq!(truth("device.barred", &facts), TruthValue::Absent);
    assert_eq!(truth("not device.barred", &facts), TruthValue::Absent);
    assert_eq!(truth("user in group \"staff\"", &facts), TruthValue::Unanswered);
    assert_eq!(truth("device.known and user in group \"staff\"", &facts), TruthValue::False);
    assert_eq!(truth("not device.known or user in group \"staff\"", &facts), TruthValue::True);
    assert_eq!(truth("exists user.groups", &facts), TruthValue::Unanswered);
    assert_eq!(truth("exists device.barred", &facts), TruthValue::False);
}

#[test]
fn a_rule_that_a_silent_store_could_make_true_is_undetermined() {
    let facts = stated([("user.groups", Known::Unanswered), ("device.known", is(Value::Boolean(true)))]);
    let decide = |condition: &str, then: &str| one_rule(condition, then).decide(0, &facts);
    assert_eq!(decide("user in group \"contractors\"", "refuse"), Decided::Undetermined(0));
    // What follows a grant might give more.
    assert_eq!(decide("user in group \"staff\"", "grant crew"), Decided::Undetermined(0));
    // No answer could make these true: one half is false, or absent whatever the store says.
    assert_eq!(decide("user in group \"contractors\" and not device.known", "refuse"), Decided::Otherwise);
    assert_eq!(decide("user in group \"contractors\" and device.barred", "refuse"), Decided::Otherwise);
}

#[test]
fn the_trace_holds_each_rule_with_its_comparisons() {
    let policy = one_rule("request.port = 1 or request.port = 2 or request.port = 3", "refuse");
    let facts = stated([("request.port", is(Value::Integer(2)))]);
    let (decided, rules) = policy.explain(0, &facts);
    assert_eq!((decided, rules.len(), rules[0].outcome), (Decided::Rule(0), 1, TruthValue::True));
    let texts: Vec<_> = rules[0].leaves.iter().map(|l| (policy.leaf(l.leaf).text.as_str(), l.outcome)).collect();
    assert_eq!(texts, [("request.port = 1", TruthValue::False), ("request.port = 2", TruthValue::True)]);
}

#[test]
fn the_first_gate_whose_when_is_true_takes_the_request() {
    let gate = |name: &str, when: &str| {
        format!("gate {name} {{ when {when} accept mac identify mac in devices otherwise refuse }}\n")
    };
    let policy =
        compile(&[gate("a", "request.port = 1"), gate("b", "nas.kind = vpn"), gate("c", "nas.kind = switch")].concat());
    let switch = stated([("nas.kind", is(Value::Integer(0)))]);
    let (gate, passed) = policy.explain_gate(&switch);
    assert_eq!((gate, policy.choose_gate(&switch)), (Some(2), Some(2)));
    let passed: Vec<_> = passed.iter().map(|passed| (passed.gate, passed.outcome, passed.leaves.len())).collect();
    assert_eq!(passed, [(0, TruthValue::Absent, 1), (1, TruthValue::False, 1)]);
    assert_eq!(policy.choose_gate(&stated([])), None);
}

#[test]
fn a_failed_case_says_what_happened_instead() {
    let policy = compile(
        "grant crew { vlan 20 }
         gate all { accept mac identify mac in devices rule \"Known\" { when device.known grant crew } otherwise refuse }
         case \"right\" { given device.known = true expect grant crew by \"Known\" with vlan 20 }
         case \"wrong grant\" { given device.known = true expect refuse }
         case \"wrong vlan\" { given device.known = true expect grant crew with vlan 30 }
         case \"wrong method\" { given device.known = true, request.carrier = pap expect grant crew }",
    );
    let told: Vec<_> = policy.run_cases().into_iter().map(|r| r.failure.map(|d| d.labels[0].text.clone())).collect();
    assert_eq!(
        told,
        [
            None,
            Some("the policy grants crew by \"Known\"".into()),
            Some("the grant does not say `vlan 30`".into()),
            Some("the policy refuses: gate all does not accept the method".into()),
        ]
    );
}

#[test]
fn extends_overrides_single_values_and_keeps_the_rest() {
    let policy = compile(
        "grant base { vlan 20 session 4h class \"a\" }
         grant more extends base { reauthenticate 8h class \"b\" }
         gate all { accept mac identify mac in devices otherwise grant more }",
    );
    let said: Vec<_> = policy.statements(0, &stated([])).unwrap().iter().map(Statement::written).collect();
    assert_eq!(said, ["vlan 20", "reauthenticate 8h", "class b"]);
}

fn leaf() -> impl Strategy<Value = (&'static str, TruthValue)> {
    prop_oneof![
        Just(("device.known", TruthValue::True)),
        Just(("device.barred", TruthValue::False)),
        Just(("request.port = 1", TruthValue::Absent)),
        Just(("user in group \"staff\"", TruthValue::Unanswered)),
    ]
}

/// A condition with what Kleene's tables say of it: unknown is `None`.
fn condition() -> impl Strategy<Value = (String, Option<bool>)> {
    let value = |outcome| match outcome {
        TruthValue::True => Some(true),
        TruthValue::False => Some(false),
        _ => None,
    };
    leaf().prop_map(move |(text, outcome)| (text.to_owned(), value(outcome))).prop_recursive(5, 40, 3, |inner| {
        let and = |a: Option<bool>, b: Option<bool>| match (a, b) {
            (Some(false), _) | (_, Some(false)) => Some(false),
            (Some(true), Some(true)) => Some(true),
            _ => None,
        };
        prop_oneof![
            inner.clone().prop_map(|(text, value)| (format!("not ({text})"), value.map(|v| !v))),
            (inner.clone(), inner.clone()).prop_map(move |((a, x), (b, y))| (format!("(({a}) and ({b}))"), and(x, y))),
            (inner.clone(), inner).prop_map(move |((a, x), (b, y))| {
                let or = and(x.map(|v| !v), y.map(|v| !v)).map(|v| !v);
                (format!("(({a}) or ({b}))"), or)
            }),
        ]
    })
}

proptest! {
    #[test]
    fn conditions_follow_kleenes_tables((text, expected) in condition()) {
        let facts = stated([
            ("device.known", is(Value::Boolean(true))),
            ("device.barred", is(Value::Boolean(false))),
            ("user.groups", Known::Unanswered),
        ]);
        let got = match truth(&text, &facts) {
            TruthValue::True => Some(true),
            TruthValue::False => Some(false),
            _ => None,
        };
        prop_assert_eq!(got, expected, "{}", text);
    }

    #[test]
    fn an_unanswered_refusal_is_undetermined_exactly_if_some_answer_makes_it_true((text, _) in condition()) {
        let facts = |groups: Known<Value<'static>>| stated([
            ("device.known", is(Value::Boolean(true))),
            ("device.barred", is(Value::Boolean(false))),
            ("user.groups", groups),
        ]);
        let policy = one_rule(&text, "refuse");
        let decide = |facts: &Stated| policy.decide(0, facts);
        let could = decide(&facts(groups(&["staff"]))) == Decided::Rule(0) || decide(&facts(groups(&[]))) == Decided::Rule(0);
        match decide(&facts(Known::Unanswered)) {
            // Each comparison is taken as free, so a condition that uses the
            // same one twice may stay silent where an answer would not matter.
            Decided::Undetermined(_) => {}
            Decided::Rule(_) => prop_assert!(could),
            Decided::Otherwise => prop_assert!(!could, "{}", text),
        }
    }
}
