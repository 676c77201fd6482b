//! Whatever stands in a policy is offered where it stands.
mod harbour;

use harbour::*;
use regnant_policy::*;

/// The words and texts of a policy with where they begin, comments left out.
fn words(text: &str) -> Vec<(usize, &str)> {
    let (mut words, mut at) = (Vec::new(), 0);
    while let Some(next) = text[at..].chars().next() {
        let rest = &text[at..];
        let length = match next {
            '#' => rest.find('\n').unwrap_or(rest.len()),
            '"' => rest[1..].find('"').unwrap() + 2,
            c if c.is_alphanumeric() => {
                rest.find(|c: char| !c.is_alphanumeric() && !"-_.:/@".contains(c)).unwrap_or(rest.len())
            }
            c => c.len_utf8(),
        };
        if next == '"' || next.is_alphanumeric() {
            words.push((at, rest[..length].trim_end_matches('.')));
        }
        at += length;
    }
    words
}

#[test]
fn whatever_stands_in_the_harbours_policy_is_offered_where_it_stands() {
    let vocabulary = Harbour::new().vocabulary;
    let names = |names: &[&str]| KnownGroups {
        names: names.iter().map(|name| (*name).to_owned()).collect(),
        ..KnownGroups::default()
    };
    let people = names(&["staff", "contractors", "network-operators", "network-readers", "crane-engineers"]);
    let store = |name: &str, holds| KnownStore { name: name.into(), holds, facts_only: false, checks: Checks::ALL };
    let schema = vocabulary
        .schema()
        .clone()
        .with_stores([
            store("harbour", IdentityKind::User),
            store("harbour", IdentityKind::Machine),
            store("harbour-devices", IdentityKind::Mac),
        ])
        .with_groups(IdentityKind::User, people)
        .with_groups(IdentityKind::Machine, names(&["harbour-laptops"]))
        .with_groups(IdentityKind::Mac, names(&["cranes", "scanners", "cameras"]))
        .with_values("nas.site", vec!["yard".into()])
        .with_values("nas.name", vec!["quay-sw-1".into()])
        .with_certificates(["radius.tarnmouth.example".into()], ["tarnmouth-authority".into()]);
    let source = Source::new("main.writ", POLICY);
    let (mut offered, mut own) = (0, Vec::new());
    for (at, word) in words(POLICY) {
        let all = complete(&source, at, &schema);
        if all.items.iter().any(|item| item.text.eq_ignore_ascii_case(word)) {
            offered += 1;
        } else {
            own.push((at, word));
        }
    }
    // What is not offered people make up: names where they are given, texts for others, numbers, addresses,
    // hours and what entries of access lists say.
    let made_up = |(at, word): &&(usize, &str)| {
        let before = POLICY[..*at].trim_end();
        let given = ["\nacl", "\ngrant", "\ngate", "\nlist", "\ncase", "\ndefine"];
        let texts = ["rule", "refuse", "role", "class"];
        word.starts_with(|c: char| c.is_ascii_digit())
            || ["ip", "tcp", "udp", "icmp", "any", "to", "from", "this", "port", "Mon..Sun", "\"@\"", "\".\""]
                .contains(word)
            || given.iter().chain(&texts).any(|word| before.ends_with(word))
            || *word == "\"failed\""
    };
    let missing: Vec<_> = own.iter().filter(|word| !made_up(word)).collect();
    assert!(missing.is_empty(), "{missing:?}");
    assert!(offered > own.len(), "{offered} of {}", offered + own.len());
}
