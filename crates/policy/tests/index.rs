//! The index over rules says what trying every rule says.
mod common;

use common::*;
use proptest::prelude::*;
use regnant_policy::*;

const NAMES: [&str; 3] = ["staff", "Crew", "agents"];

fn needed() -> impl Strategy<Value = String> {
    let name = || prop::sample::select(NAMES.to_vec());
    prop_oneof![
        name().prop_map(|name| format!("user.name = \"{name}\"")),
        name().prop_map(|name| format!("request.ssid = \"{name}\"")),
        name().prop_map(|name| format!("user in group \"{name}\"")),
        (name(), name()).prop_map(|(a, b)| format!("any of user.groups in {{ \"{a}\", \"{b}\" }}")),
        (0..4i64).prop_map(|port| format!("request.port = {port}")),
        (0..3i64).prop_map(|port| format!("request.port in {{ {port}, {} }}", port + 1)),
        (0..2u8).prop_map(|last| format!("request.mac = 02-00-5E-20-00-0{last}")),
        (0..2u8).prop_map(|last| format!("nas.address = 10.44.0.{last}")),
        Just("device.known".to_owned()),
        Just("nas.kind = switch".to_owned()),
        Just("user.name != \"staff\"".to_owned()),
        Just("request.port > 1".to_owned()),
        Just("exists user.groups".to_owned()),
    ]
}

fn condition() -> impl Strategy<Value = String> {
    needed().prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            1 => inner.clone().prop_map(|text| format!("not ({text})")),
            3 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("(({a}) and ({b}))")),
            2 => (inner.clone(), inner).prop_map(|(a, b)| format!("(({a}) or ({b}))")),
        ]
    })
}

fn text() -> impl Strategy<Value = Known<Value<'static>>> {
    prop::sample::select(vec!["staff", "STAFF", "crew", "Crew", "other"]).prop_map(|name| Known::Is(Value::text(name)))
}

fn set() -> impl Strategy<Value = Value<'static>> {
    let members = prop::collection::vec(prop::sample::select(vec!["staff", "crew", "Agents", "others"]), 0..4);
    members.prop_map(|names| Value::set(names.into_iter().map(Value::text).collect()))
}

fn maybe(value: impl Strategy<Value = Known<Value<'static>>>) -> impl Strategy<Value = Known<Value<'static>>> {
    prop_oneof![6 => value, 2 => Just(Known::Absent), 1 => Just(Known::Unanswered)]
}

fn facts() -> impl Strategy<Value = Stated> {
    let groups = prop_oneof![5 => set().prop_map(Known::Is), 1 => set().prop_map(Known::Partial)];
    let port = (0..5i64).prop_map(|port| Known::Is(Value::Integer(port)));
    let mac = (0..3u8).prop_map(|last| Known::Is(Value::Mac(Mac([2, 0, 0x5e, 0x20, 0, last]))));
    let address = (0..3u8).prop_map(|last| Known::Is(Value::Address([10, 44, 0, last].into())));
    let known = any::<bool>().prop_map(|known| Known::Is(Value::Boolean(known)));
    let kind = (0..2i64).prop_map(|kind| Known::Is(Value::Integer(kind)));
    (maybe(text()), maybe(text()), maybe(groups), maybe(port), maybe(mac), maybe(address), maybe(known), kind).prop_map(
        |(name, ssid, groups, port, mac, address, known, kind)| {
            stated([
                ("user.name", name),
                ("request.ssid", ssid),
                ("user.groups", groups),
                ("request.port", port),
                ("request.mac", mac),
                ("nas.address", address),
                ("device.known", known),
                ("nas.kind", kind),
            ])
        },
    )
}

fn policy(rules: &[(String, &str)], undetermined: &str) -> Compiled {
    let rules: Vec<_> =
        rules.iter().enumerate().map(|(at, (when, then))| format!("rule \"{at}\" {{ when {when} {then} }}")).collect();
    compile(&format!(
        "grant crew {{ vlan 20 }}
         gate all {{ accept mac identify mac in devices {} {undetermined} otherwise refuse }}",
        rules.join(" ")
    ))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_index_decides_what_the_walk_over_every_rule_decides(
        rules in prop::collection::vec((condition(), prop::sample::select(vec!["grant crew", "refuse"])), 12..40),
        undetermined in prop::sample::select(vec!["", "undetermined continue"]),
        all in prop::collection::vec(facts(), 8),
    ) {
        let policy = policy(&rules, undetermined);
        for facts in &all {
            prop_assert_eq!(policy.decide(0, facts), policy.explain(0, facts).0);
        }
    }
}

#[test]
fn a_fact_of_a_kind_that_is_asked_everywhere_does_not_hide_a_better_one() {
    let rules: Vec<_> =
        (0..200).map(|port| (format!("user in group \"staff\" and request.port = {port}"), "grant crew")).collect();
    let policy = policy(&rules, "");
    let facts = stated([
        ("user.groups", Known::Is(Value::set(vec![Value::text("staff")]))),
        ("request.port", Known::Is(Value::Integer(150))),
    ]);
    assert_eq!(policy.decide(0, &facts), Decided::Rule(150));
}
