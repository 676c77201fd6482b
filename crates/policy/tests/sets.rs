//! Comparisons as sets mean what comparisons mean, and what the check says of conditions for certain is so.
mod common;

use common::random::{LISTS, comparison, condition, facts};
use common::*;
use proptest::prelude::*;
use regnant_policy::*;

fn one(condition: &str) -> Compiled {
    compile(&format!(
        "{LISTS} grant crew {{ vlan 20 }} gate all {{
            accept mac identify mac in devices rule \"R\" {{ when {condition} grant crew }} otherwise refuse }}"
    ))
}

/// The comparison of a rule of one.
fn leaf(policy: &Compiled) -> &Leaf {
    match policy.term(policy.gates()[0].rules[0].when) {
        Term::Asks(leaf) => policy.leaf(*leaf),
        term => panic!("{term:?} is no single comparison"),
    }
}

/// What a set says of a fact; none where it says nothing.
fn holds(policy: &Compiled, asked: &Asked, known: &Known<Value<'_>>) -> Option<bool> {
    let ignore_case = policy.gates().len() == 1 && !leaf(policy).text.contains("ssid");
    let (value, members) = match known {
        Known::Is(Value::Set(members)) => (None, &members[..]),
        Known::Is(value) => (Some(value), &[][..]),
        Known::Absent => return Some(false),
        Known::Unanswered | Known::Partial(_) => return None,
    };
    match asked {
        Asked::There => Some(true),
        Asked::One(values) => Some(values.has(value?, ignore_case)),
        Asked::Some(values) => Some(members.iter().any(|member| values.has(member, ignore_case))),
        Asked::Only(values) => Some(members.iter().all(|member| values.has(member, ignore_case))),
        Asked::Clock(_) | Asked::Opaque => None,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn a_set_holds_what_its_comparison_is_true_of(text in comparison(), all in prop::collection::vec(facts(), 16)) {
        let policy = one(&text);
        let leaf = leaf(&policy);
        let asked = leaf.asked();
        prop_assert!(asked != Asked::Opaque || ["starts with", " of harbour"].iter().any(|part| text.contains(part)), "{}", text);
        for facts in &all {
            if let Some(held) = holds(&policy, &asked, &facts.fact(leaf.fact)) {
                prop_assert_eq!(held, policy.decide(0, facts) == Decided::Rule(0), "{} of {:?}", text, facts);
            }
        }
    }

    #[test]
    fn no_alarm_is_false(text in condition(), all in prop::collection::vec(facts(), 32)) {
        let checked = Parsed::parse(Source::new("main.writ", format!(
            "{LISTS} grant crew {{ vlan 20 }} gate all {{ accept mac identify mac in devices
                rule \"R\" {{ when {text} grant crew }}
                rule \"S\" {{ when user.name = \"somebody\" refuse }} otherwise refuse }}"
        ))).check(&schema());
        let said = |code: &str| checked.diagnostics().iter().any(|found| found.code == code);
        let (never, always) = (said("W512"), said("W510"));
        let policy = checked.compile().unwrap();
        for facts in all.iter().filter(|_| never || always) {
            let first = policy.decide(0, facts) == Decided::Rule(0);
            prop_assert!((!never || !first) && (!always || first), "{} of {:?}", text, facts);
        }
    }

    #[test]
    fn numbers_are_the_set_that_their_ranges_say(
        a in prop::collection::vec((0..24u128, 0..24u128), 0..5),
        b in prop::collection::vec((0..24u128, 0..24u128), 0..5),
    ) {
        let said = |ranges: &[(u128, u128)], number| ranges.iter().any(|(from, to)| (*from..=*to).contains(&number));
        let (first, second) = (Numbers::new(a.clone(), 20), Numbers::new(b.clone(), 20));
        for number in 0..=20 {
            prop_assert_eq!(first.has(number), said(&a, number));
            prop_assert_eq!(first.outside().has(number), !said(&a, number));
            prop_assert_eq!(first.and(&second).has(number), said(&a, number) && said(&b, number));
        }
        prop_assert!(!first.has(21) && !first.outside().has(21));
        prop_assert_eq!(first.outside().outside(), first.clone());
        let apart = first.ranges().windows(2).all(|two| two[0].1 + 1 < two[1].0);
        prop_assert!(apart && first.ranges().iter().all(|(from, to)| from <= to));
    }

    #[test]
    fn words_are_the_set_that_is_said(
        a in prop::collection::vec("[a-e]", 0..4), others in any::<bool>(),
        b in prop::collection::vec("[a-e]", 0..4), more in any::<bool>(),
    ) {
        let set = |texts: &[String], others: bool| match others {
            false => Words::new(texts.to_vec()),
            true => Words::new(texts.to_vec()).outside(),
        };
        let (first, second) = (set(&a, others), set(&b, more));
        for text in ["a", "b", "c", "d", "e", "f"] {
            let (in_first, in_second) = (a.iter().any(|one| one == text) != others, b.iter().any(|one| one == text) != more);
            prop_assert_eq!(first.has(text), in_first);
            prop_assert_eq!(first.clone().and(&second).has(text), in_first && in_second);
        }
    }
}

#[test]
fn what_is_certain_is_said_however_it_is_written() {
    let told = |text: &str| {
        let text = format!(
            "{LISTS} grant crew {{ vlan 20 }} gate all {{ accept mac identify mac in devices
             rule \"R\" {{ when {text} grant crew }} rule \"S\" {{ when user.name = \"s\" refuse }} otherwise refuse }}"
        );
        let checked = Parsed::parse(Source::new("main.writ", text)).check(&schema());
        let about_it = checked.diagnostics().iter().filter(|found| found.code != "W501");
        about_it.map(|found| (found.code, found.message.clone())).collect::<Vec<_>>()
    };
    for never in [
        "request.port < 3 and request.port > 4",
        "request.port in 1..4 and not request.port in 0..9",
        "request.port = 1 and (request.port = 2 or request.port = 3)",
        "nas.address in 10.44.0.0/16 and nas.address in 10.45.0.0/16",
        "nas.address = 10.44.0.1 and nas.address = 2001:db8::1",
        "user.name = \"Ida\" and user.name != \"ida\"",
        "user in group \"staff\" and not user in group \"Staff\"",
        "all of user.groups in { \"staff\" } and user in group \"crew\"",
        "exists request.port and not exists request.port",
        "not exists request.port and request.port = 3",
        "not exists nas.site",
        "device.known and not device.known",
        "time.now in { Mon 06:00-20:00 } and time.now in { Tue 06:00-20:00 }",
        "time.now in { Mon 20:00-06:00 } and time.now in { Tue 06:00-20:00 }",
        "time.now < 2026-12-01T06:00Z and time.now >= 2026-12-01T06:00Z",
    ] {
        assert!(told(never).iter().any(|(code, _)| *code == "W512"), "{never}: {:?}", told(never));
    }
    for always in [
        "nas.site = \"quay\" or nas.site != \"Quay\"",
        "nas.address in 0.0.0.0/0 or nas.address in ::/0",
        "not (nas.site = \"quay\" and nas.site = \"yard\")",
        "exists nas.site",
        "time.now in nights or not time.now in nights",
    ] {
        assert!(told(always).iter().any(|(code, _)| *code == "W510"), "{always}: {:?}", told(always));
    }
    // Of what may be absent neither is certain.
    for open in [
        "request.port = 3 or request.port != 3",
        "user in group \"staff\" and user in group \"crew\"",
        "all of user.groups in { \"staff\" } and all of user.groups in { \"crew\" }",
        "request.ssid = \"Quay\" and request.ssid starts with \"Q\"",
        "time.now in { Mon 20:00-06:00 } and time.now in { Tue 05:00-20:00 }",
        "nas.address in 0.0.0.0/0",
    ] {
        assert_eq!(told(open), [], "{open}");
    }
    let two = told("request.port in 3..4 and not request.port in 0..9");
    assert!(
        two[0].1.contains("`request.port in 3..4` and `not request.port in 0..9` are never true together"),
        "{two:?}"
    );
    // The same condition, written otherwise.
    let twice = compile(&format!(
        "{LISTS} grant crew {{ vlan 20 }} gate all {{ accept mac identify mac in devices
         rule \"R\" {{ when request.port in {{ 2, 1 }} and device.known grant crew }}
         rule \"S\" {{ when device.known and request.port in quays refuse }} otherwise refuse }}"
    ));
    assert!(twice.warnings().iter().any(|found| found.code == "W511"));
}
