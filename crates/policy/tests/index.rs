//! The index over rules says what trying every rule says.
mod common;

use common::random::{LISTS, condition, facts, times};
use common::*;
use proptest::prelude::*;
use regnant_policy::*;

fn policy(rules: &[(String, String, &str)], undetermined: &str) -> Compiled {
    let rules: Vec<_> = rules
        .iter()
        .enumerate()
        .map(|(at, (times, when, then))| format!("rule \"{at}\" {times} {{ when {when} {then} }}"))
        .collect();
    compile(&format!(
        "{LISTS} grant crew {{ vlan 20 }}
         gate all {{ accept mac identify mac in devices {} {undetermined} otherwise refuse }}",
        rules.join(" ")
    ))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_index_decides_what_the_walk_over_every_rule_decides(
        rules in prop::collection::vec((times(), condition(), prop::sample::select(vec!["grant crew", "refuse"])), 12..40),
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
    let rules: Vec<_> = (0..200)
        .map(|port| (String::new(), format!("user in group \"staff\" and request.port = {port}"), "grant crew"))
        .collect();
    let policy = policy(&rules, "");
    let facts = stated([
        ("user.groups", Known::Is(Value::set(vec![Value::text("staff")]))),
        ("request.port", Known::Is(Value::Integer(150))),
    ]);
    assert_eq!(policy.decide(0, &facts), Decided::Rule(150));
}
