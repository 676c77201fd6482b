//! One layout for every policy, and what makes a difference between two.

use proptest::prelude::*;
use regnant_policy::*;

const WILD: &str = "# The quay.\n\n\n\ngrant   crew{ vlan 20 }   # as ever\ngate all {\naccept pap,\neap-tls,  peap( eap-mschapv2 )\n  \
                    identify   user in harbour\n\n\n  rule \"Staff\" {\n when user in group \"staff\" and\n  # not at night\n(request.port in \
                    1..12 or not device.barred)\n     and nas.site = \"quayside\"\n\n    grant crew }\n  otherwise refuse\n\n}\n\n";
const TAME: &str = "# The quay.\n\ngrant crew { vlan 20 }  # as ever\ngate all {\n  accept pap,\n    eap-tls, peap(eap-mschapv2)\n  \
                    identify user in harbour\n\n  rule \"Staff\" {\n    when user in group \"staff\" and\n      # not at night\n      \
                    (request.port in 1..12 or not device.barred)\n      and nas.site = \"quayside\"\n\n    grant crew }\n  otherwise \
                    refuse\n}\n";

#[test]
fn a_policy_has_one_layout() {
    assert_eq!(format(WILD).unwrap(), TAME);
    assert_eq!(format(TAME).unwrap(), TAME);
    assert_eq!(
        format("\u{feff}gate nobody {\r\n   otherwise refuse }\r").unwrap(),
        "gate nobody {\n  otherwise refuse }\n"
    );
    assert_eq!(format("").unwrap(), "");
    assert_eq!(format("list d = { Mon..Fri 06:00-20:00 }").unwrap(), "list d = { Mon..Fri 06:00-20:00 }\n");
    assert!(format("case \"x").is_err());
}

fn words() -> impl Strategy<Value = String> {
    let word = prop::sample::select(vec![
        "gate",
        "rule",
        "\"a # b\"",
        "{",
        "}",
        "(",
        ")",
        ",",
        "=",
        "..",
        "and",
        "or",
        "not",
        "when",
        "in",
        "12",
        "1h30m",
        "/^a b$/",
        "02:00:5e:20:00:01",
        "10.44.0.0/16",
        "# a comment\n",
        "\n",
        "\n\n",
        "  ",
        "lower(",
        "user.name",
        "<=",
        "\t",
    ]);
    prop::collection::vec(word, 0..40).prop_map(|words| words.join(" "))
}

proptest! {
    #[test]
    fn whatever_is_laid_out_means_the_same_and_stays(text in words()) {
        if let Ok(once) = format(&text) {
            prop_assert_eq!(format(&once).unwrap(), once.clone());
            let read = |text: &str| {
                let outline = outline(&Source::new("m", text));
                outline.into_iter().map(|item| (item.kind, item.name)).collect::<Vec<_>>()
            };
            prop_assert_eq!(read(&text), read(&once));
            let bare = |text: &str| text.split_whitespace().collect::<String>();
            prop_assert_eq!(bare(&text), bare(&once), "not a letter is lost");
        }
    }

    #[test]
    fn whatever_is_written_is_compared(old in words(), new in words()) {
        let (before, after) = (Source::new("m", &old), Source::new("m", &new));
        prop_assert!(changes(&before, &before).is_empty());
        let _ = changes(&before, &after);
    }

    #[test]
    fn whatever_differs_is_found_and_what_does_not_is_not(old in parts(), new in parts()) {
        let [before, after] = [&old, &new].map(|parts| Source::new("m", format!("gate all {{\n{}\n}}", parts.join("\n"))));
        prop_assert_eq!(changes(&before, &after).is_empty(), old == new);
    }
}

/// Lookups and rules of a gate: several lookups of a kind, and rules in any order.
fn parts() -> impl Strategy<Value = Vec<String>> {
    let lookup = (prop::sample::select(vec!["machine", "mac"]), prop::sample::select(vec!["register", "yard", "quay"]))
        .prop_map(|(kind, store)| format!("lookup {kind} in {store}"));
    let rules = prop::sample::subsequence(vec!["A", "B", "C", "D"], 0..=4).prop_shuffle();
    let thens = prop::collection::vec(prop::sample::select(vec!["grant crew", "refuse"]), 4);
    (prop::collection::vec(lookup, 0..4), rules, thens).prop_map(|(mut lookups, rules, thens)| {
        // Lookups of different kinds have no order among themselves that means anything.
        lookups.sort_by_key(|text| text.starts_with("lookup mac "));
        let rule = |(title, then)| format!("rule \"{title}\" {{ when device.barred {then} }}");
        lookups.into_iter().chain(rules.into_iter().zip(thens).map(rule)).collect()
    })
}

fn policy(rules: &[(&str, &str, &str)], grant: &str) -> String {
    let rules: String = rules
        .iter()
        .map(|(title, when, then)| format!("  rule \"{title}\" {{\n    when {when}\n    {then}\n  }}\n"))
        .collect();
    format!(
        "grant crew {{ {grant} }}\ngate all {{\n  accept pap\n  identify user in harbour\n{rules}  otherwise refuse\n}}\n"
    )
}

#[test]
fn a_difference_is_told_by_what_it_means() {
    let rules = [
        ("A", "user.name = \"a\"", "grant crew"),
        ("B", "user.name = \"b\"", "refuse"),
        ("C", "device.barred", "refuse"),
    ];
    let told = |before: &str, after: &str| {
        let changes = changes(&Source::new("m", before), &Source::new("m", after));
        changes
            .iter()
            .map(|change| {
                format!(
                    "{} {} {} {}: {} > {}",
                    change.kind.word(),
                    change.of.word(),
                    change.name,
                    change.part,
                    change.before,
                    change.after
                )
            })
            .collect::<Vec<_>>()
    };
    let before = policy(&rules, "vlan 20");
    assert!(told(&before, &format(&before.replace("vlan 20", "vlan   20 # still\n")).unwrap()).is_empty());
    assert_eq!(
        told(&before, &policy(&rules, "vlan 30")),
        ["changed grant crew : grant crew { vlan 20 } > grant crew { vlan 30 }"]
    );
    let mut turned = rules;
    turned.rotate_left(1);
    assert_eq!(
        told(&before, &policy(&turned, "vlan 20")),
        ["moved rule A : place 1 > place 3"],
        "the fewest that moved"
    );
    let mut other = rules;
    other[1].1 = "user.name = \"bo\"";
    assert_eq!(
        told(&before, &policy(&other, "vlan 20")),
        ["changed rule B condition: when user.name = \"b\" > when user.name = \"bo\""]
    );
    other[1].2 = "grant crew";
    assert_eq!(told(&before, &policy(&other, "vlan 20")).len(), 2);
    let fewer = told(&before, &policy(&rules[..2], "vlan 20"));
    assert_eq!(fewer.len(), 1);
    assert!(fewer[0].starts_with("removed rule C"), "{fewer:?}");
    let accepts = told(&before, &before.replace("accept pap", "accept pap, chap"));
    assert_eq!(accepts, ["changed part accept : accept pap > accept pap, chap"]);
    let looks = |stores: &[&str]| {
        let lookups: String = stores.iter().map(|store| format!("  lookup machine in {store}\n")).collect();
        before.replace("  rule \"A\"", &format!("{lookups}  rule \"A\""))
    };
    assert_eq!(
        told(&looks(&["register", "yard"]), &looks(&["register", "quay"])),
        ["changed part lookup machine : lookup machine in yard > lookup machine in quay"],
        "the second of a name is compared with the second"
    );
    assert_eq!(
        told(&looks(&["register", "yard"]), &looks(&["register"])),
        ["removed part lookup machine : lookup machine in yard > "]
    );
    let off = told(&before, &before.replace("rule \"B\"", "rule \"B\" off"));
    assert_eq!(off, ["changed rule B head: rule \"B\" > rule \"B\" off"]);
    let gone = told(&before, "grant crew { vlan 20 }\ngate other { otherwise refuse }\n");
    let heads: Vec<_> = gone.iter().map(|one| one.split(" :").next().unwrap()).collect();
    assert_eq!(heads, ["added gate other", "removed gate all"], "what is in a gate goes with it");
}
