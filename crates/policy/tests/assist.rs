//! Help for whoever writes a policy. `|` stands for the place where somebody asks.
mod common;

use common::*;
use proptest::prelude::*;
use regnant_policy::*;

const POLICY: &str = "list quays = { \"north\", \"south\" }
define at-night = request.port = 3
acl edge { permit ip to any }
grant crew {
  vlan 20
  acl edge
}
grant crew-managed extends crew { role \"crew\" }
gate ports {
  when nas.kind = switch and nas.site in quays
  accept mac
  identify mac in devices { unknown continue }
  rule \"Crew\" { when at-night and device in group \"cranes\" grant crew, crew-managed }
  rule \"Again\" copied from \"Crew\" { when device.known grant crew }
  otherwise refuse
}
case \"c\" { given device.known = true expect grant crew by \"Crew\" }
";

fn known() -> Schema {
    let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    schema()
        .with_groups(IdentityKind::Mac, KnownGroups { names: names(&["cranes", "cameras"]), ..KnownGroups::default() })
        .with_values("nas.site", names(&["quayside", "yard"]))
}

/// What is offered at the mark, without what surrounds the policy.
fn offered(marked: &str) -> Vec<String> {
    let offset = marked.find('|').unwrap();
    let text = marked.replacen('|', "", 1);
    complete(&Source::new("main.writ", text), offset, &known()).items.into_iter().map(|item| item.text).collect()
}

fn with(statement: &str) -> Vec<String> {
    offered(&POLICY.replace("  otherwise refuse", &format!("  {statement}\n  otherwise refuse")))
}

#[test]
fn what_may_stand_at_a_place_is_offered_there_and_nothing_else() {
    assert_eq!(offered("|"), ["acl", "case", "define", "gate", "grant", "include", "list", "zone"]);
    assert_eq!(offered("grant crew { vl|"), ["vlan", "voice-vlan"]);
    assert!(offered("grant crew { vlan 20 |").contains(&"role".to_owned()), "another statement");
    assert!(offered("grant crew { vlan 20 |").contains(&"tagged".to_owned()), "or more of this one");
    assert_eq!(offered("grant crew { service n|"), ["nas-prompt"]);
    assert_eq!(offered("acl edge { permit ip to any } grant crew { acl |"), ["edge"]);
    assert_eq!(offered("grant a { vlan 1 } grant b extends |"), ["a", "b"]);
    assert_eq!(with("accept eap-t|"), ["eap-tls"]);
    assert_eq!(with("accept peap(eap-ms|"), ["eap-mschapv2"]);
    assert_eq!(with("identify |"), ["mac", "machine", "user"]);
    assert_eq!(with("identify mac in |"), ["devices", "harbour", "register"]);
    assert_eq!(with("identify mac in devices { unk|"), ["unknown"]);
    assert_eq!(with("identify mac in devices { unknown c|"), ["continue"]);
    assert_eq!(with("present certificate |"), ["\"radius.tarnmouth.example\""]);
    assert_eq!(with("rule \"x\" { when device in group |"), ["\"cameras\"", "\"cranes\""]);
    assert_eq!(with("rule \"x\" { when device in group \"cr|"), ["\"cranes\""]);
    assert_eq!(with("rule \"x\" { when nas.kind = |")[..2], ["controller", "firewall"]);
    assert_eq!(with("rule \"x\" { when nas.site = \"|"), ["\"quayside\"", "\"yard\""]);
    assert_eq!(with("rule \"x\" { when device.known and nas.ki|"), ["nas.kind"]);
    assert!(with("rule \"x\" { when n|").contains(&"nas.kind".to_owned()));
    assert!(with("rule \"x\" { when kin|").contains(&"nas.kind".to_owned()), "by a part of its name");
    assert_eq!(with("rule \"x\" { when at|"), ["at-night"]);
    assert!(with("rule \"x\" { when nas.site in |").contains(&"quays".to_owned()));
    assert_eq!(with("rule \"x\" { when device.known grant cr|"), ["crew", "crew-managed"]);
    assert_eq!(with("rule \"x\" c|"), ["copied"]);
    assert_eq!(with("rule \"x\" copied from |"), ["\"Again\"", "\"Crew\"", "\"x\""]);
    assert_eq!(offered(&format!("{POLICY}case \"d\" {{ given device.known = t|")), ["true"]);
    assert_eq!(offered(&format!("{POLICY}case \"d\" {{ expect grant crew by \"C|")), ["\"Crew\""]);
    // A number, a new name, a text of one's own: nothing is guessed.
    for own in ["grant |", "gate |", "gate a { rule |", "grant crew { vlan 2|", "zone \"Nowhere/L|"] {
        assert_eq!(offered(own), Vec::<String>::new(), "{own}");
    }
    for comment in ["# gr|", "grant crew { vlan 20 } # or r|", "# he said \"z|"] {
        assert_eq!(offered(comment), Vec::<String>::new(), "{comment}");
    }
    assert_eq!(with("rule \"a # \\\" b\" c|"), ["copied"], "no comment begins in a text");
    assert_eq!(offered("zone \"Europe/Lisb|\""), ["\"Europe/Lisbon\""]);
    let closed = complete(&Source::new("m", "zone \"Europe/Lisb\"\n"), 17, &known());
    assert_eq!(closed.span, Span { start: 5, end: 18 }, "the quote that the editor put there is part of it");
}

#[test]
fn a_word_says_what_it_is() {
    let source = Source::new("main.writ", POLICY);
    let at = |text: &str| hover(&source, POLICY.find(text).unwrap(), &known());
    let said = |text: &str| at(text).map(|hover| format!("{}\n{}", hover.title, hover.text)).unwrap_or_default();
    assert!(said("nas.kind").starts_with("nas.kind: one of: switch, controller"));
    assert!(said("nas.kind").contains("Every request has it."));
    assert!(said("device.known grant").contains("not to the `when` of a gate"));
    assert!(said("crew by").contains("grant crew {\n  vlan 20"), "{}", said("crew by"));
    assert!(said("quays\n").contains("list quays = { \"north\""));
    assert!(said("at-night and").contains("define at-night = request.port = 3"));
    assert!(said("devices {").contains("It holds: mac."));
    assert!(said("otherwise").contains("no rule is true"));
    assert!(said("vlan").contains("The VLAN that the port joins"));
    assert_eq!(at("20"), None);
}

#[test]
fn a_name_is_found_where_it_has_its_meaning_and_changed_everywhere() {
    let files = [
        ("main.writ", "include \"grants.writ\"\ngate a { accept mac identify mac in devices otherwise grant crew }\n"),
        ("grants.writ", "grant crew { vlan 20 }\ngrant more extends crew { role \"crew\" }\n"),
    ];
    let source = Source::of(files);
    let whole: String = files.iter().map(|(_, text)| (*text).to_owned()).collect::<Vec<_>>().join("\n");
    let place = whole.rfind("extends crew").unwrap() + 9;
    assert_eq!(definition(&source, place).map(|span| source.position(span.start).file), Some("grants.writ"));
    let changes = rename(&source, place, "hands").unwrap();
    let mut renamed = whole.clone();
    changes.iter().rev().for_each(|change| renamed.replace_range(change.span.start..change.span.end, &change.text));
    assert_eq!(renamed, whole.replace("grant crew", "grant hands").replace("extends crew", "extends hands"));
    assert!(renamed.contains("role \"crew\""), "a text is no name");
    assert_eq!(rename(&source, place, "more").unwrap_err().to_string(), "there is a grant `more` already");
    assert!(matches!(rename(&source, place, "two words"), Err(RenameError::NotAName(_))));
    assert_eq!(rename(&source, whole.find("devices").unwrap(), "x"), Err(RenameError::NoName));
    let source = Source::new("main.writ", POLICY);
    let titled = occurrences(&source, POLICY.find("\"Crew\"").unwrap());
    assert_eq!(titled.len(), 3, "the rule, its copy and its case");
    let night = occurrences(&source, POLICY.find("at-night and").unwrap());
    assert_eq!(source.slice(night[0]), "at-night");
    assert!(night[0].start < night[1].start && night.len() == 2);
    assert!(occurrences(&source, POLICY.find("\"north\"").unwrap()).is_empty());
    // Somebody who is in a group is no condition of that name.
    let named = "define device = device.known\ngate a { accept mac identify mac in devices\n  rule \"R\" { when device and device in group \"x\" refuse } otherwise refuse }\n";
    let source = Source::new("main.writ", named);
    assert_eq!(occurrences(&source, 8).len(), 2);
    assert!(occurrences(&source, named.find("device in group").unwrap()).is_empty());
}

proptest! {
    #[test]
    fn whatever_is_written_help_is_given_in_peace(cut in 0..POLICY.len(), junk in "[\"{}()=,./a-z |\\\\\n]{0,12}", at in 0..40usize) {
        let text = format!("{}{junk}{}", &POLICY[..cut], &POLICY[(cut + at).min(POLICY.len())..]);
        let (source, schema) = (Source::new("main.writ", &text), known());
        let offset = (cut + junk.len() / 2).min(text.len());
        let told = complete(&source, offset, &schema);
        prop_assert!(told.span.start <= told.span.end && told.span.end <= text.len());
        hover(&source, offset, &schema);
        occurrences(&source, offset);
        let _ = rename(&source, offset, "other");
    }
}
