//! What is done to rules in a table is a change of the text that does that and nothing else.

use proptest::prelude::*;
use regnant_policy::*;

const POLICY: &str = r#"grant crew { vlan 20 }  # as ever

gate one {
  when nas.kind = switch

  # Why this rule is here,
  # in two lines.
  rule "A" always { when device.barred refuse }
  rule "B" off until 2026-12-01T06:00Z copied from "A" until 2027-01-01T00:00Z {
    when device.known  # a comment
    grant crew
  }
  rule "C" { when user.proved grant crew }  # behind it

  rule "D \"x\"" off { when machine.proved silence }
  otherwise refuse
}
gate two { otherwise refuse }
case "c" { expect refuse }
"#;

fn made(text: &str, changes: &[Replacement]) -> String {
    let mut out = text.to_owned();
    for change in changes.iter().rev() {
        out.replace_range(change.span.range(), &change.text);
    }
    out
}

fn acted(text: &str, gate: &str, rule: &str, act: &RuleAct) -> Result<String, RuleActError> {
    rule_act(&Source::new(MAIN, text), gate, rule, act).map(|changes| made(text, &changes))
}

fn titles(text: &str) -> Vec<String> {
    gates(&Source::new(MAIN, text))[0].rules.iter().map(|rule| rule.title.clone()).collect()
}

/// How a policy differs, each difference in a few words.
fn differs(before: &str, after: &str) -> Vec<String> {
    let all = changes(&Source::new(MAIN, before), &Source::new(MAIN, after));
    all.iter().map(|change| format!("{} {} {}", change.kind.word(), change.name, change.part)).collect()
}

#[test]
fn a_rule_is_moved_with_what_is_said_of_it() {
    let moved = acted(POLICY, "one", "A", &RuleAct::Move { before: Some("D \"x\"".into()) }).unwrap();
    assert_eq!(titles(&moved), ["B", "C", "A", "D \"x\""]);
    assert!(moved.contains("  # Why this rule is here,\n  # in two lines.\n  rule \"A\" always {"), "{moved}");
    assert!(moved.contains("grant crew }  # behind it\n"));
    assert_eq!(differs(POLICY, &moved), ["moved A "]);
    let last = acted(&moved, "one", "C", &RuleAct::Move { before: None }).unwrap();
    assert_eq!(titles(&last), ["B", "A", "D \"x\"", "C"]);
    let back = acted(&last, "one", "A", &RuleAct::Move { before: Some("B".into()) }).unwrap();
    assert_eq!(titles(&back)[0], "A");
    // To where it stands is no change.
    assert_eq!(acted(POLICY, "one", "A", &RuleAct::Move { before: Some("B".into()) }).unwrap(), POLICY);
}

#[test]
fn a_copy_says_what_it_was_copied_from() {
    let copied = acted(POLICY, "one", "B", &RuleAct::Copy { title: "B, of the quay".into() }).unwrap();
    assert!(copied.contains(
        "  rule \"B, of the quay\" off until 2026-12-01T06:00Z copied from \"B\" until 2027-01-01T00:00Z {\n    when device.known  # a comment\n"
    ), "{copied}");
    assert_eq!(titles(&copied), ["A", "B", "B, of the quay", "C", "D \"x\""]);
    let copied = acted(POLICY, "one", "A", &RuleAct::Copy { title: "E".into() }).unwrap();
    assert!(copied.contains("  rule \"E\" always copied from \"A\" { when device.barred refuse }\n"), "{copied}");
    let looked = acted(&copied, "one", "E", &RuleAct::Looked).unwrap();
    assert!(looked.contains("  rule \"E\" always { when device.barred refuse }\n"), "{looked}");
    for title in ["", "b", "two\nlines"] {
        assert_eq!(acted(POLICY, "one", "A", &RuleAct::Copy { title: title.into() }), Err(RuleActError::Title));
    }
}

#[test]
fn a_comment_between_the_words_of_a_rule_hides_nothing() {
    let text = "gate one {\n  rule \"A\" # why\n    off # for now\n    copied from \"B\" # look\n  {\n    when device.known refuse\n  }\n  otherwise refuse\n}\n";
    for act in [RuleAct::On, RuleAct::Looked, RuleAct::Copy { title: "C".into() }, RuleAct::Off { until: None }] {
        let after = acted(text, "one", "A", &act).unwrap();
        assert_eq!(titles(&after)[0], "A", "{act:?}: {after}");
        assert_eq!(titles(&after).len(), 1 + usize::from(matches!(act, RuleAct::Copy { .. })), "{act:?}: {after}");
    }
}

#[test]
fn a_rule_is_switched_off_for_a_time_and_on_again() {
    let off =
        |rule: &str, until: Option<&str>| acted(POLICY, "one", rule, &RuleAct::Off { until: until.map(Into::into) });
    let until = off("C", Some("2026-12-24T12:00Z")).unwrap();
    assert!(until.contains("rule \"C\" off until 2026-12-24T12:00Z { when user.proved"), "{until}");
    assert!(off("A", None).unwrap().contains("rule \"A\" always off {"));
    assert!(off("B", None).unwrap().contains("rule \"B\" off copied from \"A\" until"));
    assert_eq!(off("A", Some("tomorrow")), Err(RuleActError::Moment("tomorrow".into())));
    assert_eq!(acted(&until, "one", "C", &RuleAct::On).unwrap(), POLICY);
    assert_eq!(acted(POLICY, "one", "C", &RuleAct::On).unwrap(), POLICY);
}

#[test]
fn rules_and_items_are_put_where_they_belong() {
    let source = Source::new(MAIN, POLICY);
    let put = |before, text: &str| rule_put(&source, "one", before, text).map(|changes| made(POLICY, &changes));
    let text = put(Some("C"), "rule \"New\" { when device.known refuse }").unwrap();
    assert_eq!(titles(&text), ["A", "B", "New", "C", "D \"x\""]);
    assert_eq!(titles(&put(None, "rule \"New\" { when device.known refuse }").unwrap())[4], "New");
    for wrong in [
        "",
        "rule \"x\" {",
        "otherwise refuse",
        "accept pap rule \"a\" { when a.b refuse }",
        "rule \"a\" { when a.b refuse } rule \"b\" { when a.b refuse }",
    ] {
        assert_eq!(put(None, wrong), Err(RuleActError::NotOne("rule")), "{wrong}");
    }
    let empty =
        made(POLICY, &rule_put(&source, "two", None, "rule \"N\" { when device.known refuse }  # why").unwrap());
    assert!(empty.contains("gate two { rule \"N\" { when device.known refuse }  # why\notherwise refuse }"), "{empty}");
    for (text, after) in [
        ("grant agents { vlan 60 }", "# as ever\n\ngrant agents { vlan 60 }\n"),
        ("acl web { permit tcp to any port 443 }", "acl web { permit tcp to any port 443 }\n\ngate one {"),
        ("case \"d\" { expect refuse }", "case \"c\" { expect refuse }\n\ncase \"d\" { expect refuse }\n"),
    ] {
        let put = made(POLICY, &item_put(&source, text).unwrap());
        assert!(put.contains(after), "{put}");
        assert_eq!(differs(POLICY, &put).len(), 1);
    }
    assert_eq!(item_put(&source, "gate g { otherwise refuse }"), Err(RuleActError::NotOne("item")));
    assert_eq!(item_put(&source, "vlan 20"), Err(RuleActError::NotOne("item")));
    let first = item_put(&Source::new(MAIN, "# nothing"), "case \"d\" { expect refuse }").unwrap();
    assert_eq!(first[0].text, "\n\ncase \"d\" { expect refuse }\n");
}

#[test]
fn what_is_not_there_is_told() {
    let act = RuleAct::Remove;
    assert_eq!(acted(POLICY, "three", "A", &act), Err(RuleActError::NoGate("three".into())));
    assert_eq!(acted(POLICY, "one", "Z", &act), Err(RuleActError::NoRule("Z".into())));
    let twice = POLICY.replace("rule \"C\"", "rule \"A\"");
    assert_eq!(acted(&twice, "one", "A", &act), Err(RuleActError::Several("A".into())));
}

#[test]
fn a_gate_is_read_aloud() {
    let all = gates(&Source::new(MAIN, POLICY));
    assert_eq!((all.len(), all[0].when.as_str(), all[0].observes), (2, "the NAS's kind is switch", false));
    let rule = &all[0].rules[1];
    assert_eq!((rule.when.as_str(), &rule.then), ("the device is known", &ThenRead::Grant(vec!["crew".into()])));
    assert_eq!((rule.off, rule.off_until.as_deref()), (true, Some("2026-12-01T06:00Z")));
    assert_eq!((rule.copied_from.as_deref(), rule.until.as_deref()), (Some("A"), Some("2027-01-01T00:00Z")));
    assert_eq!(all[1].otherwise, Some(ThenRead::Refuse(None)));
    // What cannot be read hides nothing else.
    let broken = gates(&Source::new(MAIN, POLICY.replace("when device.barred", "when =")));
    assert_eq!(broken[0].rules.len(), 3);
}

proptest! {
    /// Whatever is done to rules one after the other, in one line or in many, each act changes what it says.
    #[test]
    fn acts_do_what_they_say(acts in prop::collection::vec((0..4_usize, 0..4_usize, 0..5_usize), 1..8), dense in any::<bool>()) {
        let mut text = if dense { POLICY.replace("  # behind it\n\n", " ").replace("  }\n  rule", "  } rule") } else { POLICY.to_owned() };
        for (rule, act, other) in acts {
            let before = titles(&text);
            let Some(title) = before.get(rule) else { continue };
            let other = before.get(other).cloned();
            let mut expected = before.clone();
            let after = match act {
                0 => {
                    let place = other.as_ref().and_then(|other| before.iter().position(|title| title == other)).unwrap_or(before.len());
                    expected.remove(rule);
                    expected.insert(place - usize::from(place > rule), title.clone());
                    acted(&text, "one", title, &RuleAct::Move { before: other })
                }
                1 => {
                    expected.remove(rule);
                    acted(&text, "one", title, &RuleAct::Remove)
                }
                2 => {
                    let copy = format!("copy {} of {rule}", before.len());
                    expected.insert(rule + 1, copy.clone());
                    acted(&text, "one", title, &RuleAct::Copy { title: copy })
                }
                _ => acted(&text, "one", title, &RuleAct::Off { until: None }),
            };
            // A copy of a copy may have a title that is taken.
            let Ok(after) = after else { continue };
            prop_assert_eq!(titles(&after), expected, "{}", after);
            prop_assert!(differs(&text, &after).len() <= 1, "{:?}\n{}", differs(&text, &after), after);
            text = after;
        }
    }
}
