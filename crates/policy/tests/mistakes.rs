//! Every mistake has a file that makes it and a file with what is said of it.
//! `REGNANT_UPDATE=1 cargo test -p regnant-policy --test mistakes` writes the latter anew.
mod common;

use std::fs;
use std::path::Path;

use common::*;
use proptest::prelude::*;
use regnant_policy::*;

#[test]
fn every_mistake_is_told_as_its_file_says() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/mistakes");
    let mut checked = 0;
    for entry in fs::read_dir(&folder).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_none_or(|extension| extension != "writ") {
            continue;
        }
        let text = fs::read_to_string(&path).unwrap();
        let told = render(&Parsed::parse(Source::new("main.writ", text)).check(&schema()));
        let expected = path.with_extension("txt");
        if std::env::var_os("REGNANT_UPDATE").is_some() {
            fs::write(&expected, &told).unwrap();
        }
        let expected = fs::read_to_string(&expected).unwrap_or_default();
        assert_eq!(told, expected, "{}", path.display());
        assert!(!told.is_empty(), "{} has no mistake", path.display());
        checked += 1;
    }
    assert!(checked >= 20);
}

#[test]
fn several_mistakes_are_told_at_once() {
    let text =
        "grant a { vlan 5000 }\ngrant b { vlam 5 }\ngate g { accept pop\n rule \"r\" { when } otherwise refuse }";
    let checked = Parsed::parse(Source::new("main.writ", text)).check(&schema());
    let codes: Vec<_> = checked.diagnostics().iter().map(|d| d.code).collect();
    assert_eq!(codes, ["W313", "W202", "W202", "W110"]);
}

#[test]
fn deep_nesting_and_defines_that_double_are_refused_in_bounded_time() {
    let deep = format!("define d = {}device.known{}", "(".repeat(100_000), ")".repeat(100_000));
    assert_eq!(Parsed::parse(Source::new("m", deep)).check(&schema()).diagnostics()[0].code, "W120");
    let mut doubling = String::from("define d0 = device.known\n");
    for n in 1..60 {
        doubling += &format!("define d{n} = d{m} and d{m}\n", m = n - 1);
    }
    let checked = Parsed::parse(Source::new("m", doubling)).check(&schema());
    assert!(checked.diagnostics().iter().any(|d| d.code == "W221"));
}

#[test]
fn regular_expressions_share_bounded_room() {
    let rule = |number: usize, regex: &str| {
        format!("  rule \"r{number}\" {{ when user.name matches /{regex}{number}/ grant a }}\n")
    };
    let policy = |regex: &str, count: usize| {
        let rules: String = (0..count).map(|number| rule(number, regex)).collect();
        let gate = "when request.purpose = login\n accept pap\n identify user in harbour";
        let text = format!("grant a {{ vlan 20 }}\ngate g {{\n {gate}\n{rules}  otherwise refuse\n}}");
        Parsed::parse(Source::new("main.writ", text)).check(&schema())
    };
    let codes = |checked: &Checked| checked.diagnostics().iter().map(|found| found.code).collect::<Vec<_>>();
    let small = policy("^crane-[0-9]+-", 1_000);
    assert!(codes(&small).is_empty(), "{:?}", small.diagnostics().first());
    let large = policy("(\\\\w{20}){8}", 2_000);
    assert!(codes(&large).contains(&"W219"));
    assert!(large.diagnostics().iter().any(|found| found.message.contains("than all may have together")));
}

#[test]
fn a_flood_of_mistakes_is_told_in_part_and_in_bounded_time() {
    let text = format!("{}\n{}", "grant x { vlan 9999 }\n".repeat(20_000), "y".repeat(500_000));
    let checked = Parsed::parse(Source::new("m", text)).check(&schema());
    assert_eq!(checked.diagnostics().len(), 100);
    assert!(render(&checked).contains("more findings; mend these first"));
}

#[test]
fn long_chains_are_refused_and_cannot_exhaust_the_stack() {
    let codes = |text: String| {
        let checked = Parsed::parse(Source::new("m", text)).check(&schema());
        checked.diagnostics().iter().map(|d| d.code).collect::<Vec<_>>()
    };
    let count = 20_000;
    let grants = |next: fn(u32) -> u32| {
        (0..count).map(|n| format!("grant g{} extends g{} {{ vlan 1 }}\n", n, next(n))).collect::<String>()
    };
    assert!(codes(grants(|n| n + 1)).contains(&"W311"));
    assert!(codes(grants(|n| n.saturating_sub(1))).contains(&"W311"));
    let forward: String = (1..count).map(|n| format!("define d{n} = not d{}\n", n - 1)).collect();
    assert!(codes(format!("define d0 = device.known\n{forward}")).contains(&"W224"));
    let backward: String = (0..count).map(|n| format!("define d{n} = not d{}\n", n + 1)).collect();
    assert!(codes(format!("{backward}define d{count} = device.known\n")).contains(&"W224"));
}

fn soup() -> impl Strategy<Value = String> {
    let words = [
        "define",
        "acl",
        "grant",
        "gate",
        "case",
        "when",
        "accept",
        "identify",
        "rule",
        "otherwise",
        "refuse",
        "given",
        "expect",
        "by",
        "with",
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
        "in",
        "group",
        "\"t\"",
        "/r/",
        "nas.site",
        "device.known",
        "user",
        "mac",
        "pap",
        "crew",
        "20",
        "8h",
        "vlan",
        "permit",
        "to",
        "any",
        "port",
        "#x\n",
    ];
    prop::collection::vec(prop::sample::select(words.to_vec()), 0..60).prop_map(|list| list.join(" "))
}

proptest! {
    #[test]
    fn no_text_makes_the_check_panic(text in "\\PC{0,200}") {
        render(&Parsed::parse(Source::new("m", text)).check(&schema()));
    }

    #[test]
    fn no_row_of_words_makes_the_check_panic(text in soup()) {
        render(&Parsed::parse(Source::new("m", text)).check(&schema()));
    }
}

/// The text with a change made.
fn mended(text: &str, edit: &Edit) -> String {
    let mut mended = text.to_owned();
    for change in edit.changes.iter().rev() {
        mended.replace_range(change.span.start..change.span.end, &change.text);
    }
    mended
}

#[test]
fn what_a_finding_suggests_mends_it() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/mistakes");
    let mut codes = std::collections::BTreeSet::new();
    for entry in fs::read_dir(&folder).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_none_or(|extension| extension != "writ") {
            continue;
        }
        let mut text = fs::read_to_string(&path).unwrap();
        for round in 0.. {
            assert!(round < 20, "{} is never mended:\n{text}", path.display());
            let source = Source::new("main.writ", &text);
            let checked = Parsed::parse(source.clone()).check(&schema());
            let suggested = checked.diagnostics().iter().find_map(|found| Some((found, found.edit(&source)?)));
            let Some((found, edit)) = suggested else { break };
            let next = mended(source.main(), &edit);
            assert_ne!(next, text, "{}", path.display());
            // What is found next stands elsewhere, or is something else.
            let after = Parsed::parse(Source::new("main.writ", &next)).check(&schema());
            let same = |other: &&Diagnostic| other.code == found.code && other.message == found.message;
            let count = |checked: &Checked| checked.diagnostics().iter().filter(same).count();
            assert!(count(&after) < count(&checked), "{}: {} of\n{next}", path.display(), found.code);
            codes.insert(found.code);
            text = next;
        }
    }
    assert!(["W121", "W201", "W501", "W511", "W514"].iter().all(|code| codes.contains(code)), "{codes:?}");
}

#[test]
fn what_is_taken_out_leaves_no_empty_line_behind() {
    let policy = "grant crew { vlan 20 }\n\n# Of last night.\nlist gone = { 1, 2 }\n\ngate all {\n  accept mac\n  identify mac in devices\n  \
                  rule \"R\" off copied from \"S\" until 2026-01-01T00:00Z {\n    when device.known\n    grant crew\n  }\n  otherwise refuse\n}\n";
    let suggested = |text: &str, code: &str| {
        let source = Source::new("main.writ", text);
        let checked = Parsed::parse(source.clone()).check(&schema());
        let warnings: Vec<_> = checked.diagnostics().to_vec();
        let odd = checked.compile().map(|compiled| compiled.odd_at(1_800_000_000)).unwrap_or_default();
        let found = warnings.into_iter().chain(odd).find(|found| found.code == code).unwrap();
        mended(text, &found.edit(&source).unwrap())
    };
    assert_eq!(suggested(policy, "W501"), policy.replace("list gone = { 1, 2 }\n", ""));
    assert_eq!(suggested(policy, "W507"), policy.replace(" off copied", " copied"));
    assert_eq!(suggested(policy, "W412"), policy.replace(" copied from \"S\"", ""));
    let without = suggested(policy, "W505");
    assert!(without.contains("in devices\n  otherwise refuse"), "{without}");
    let between = "grant crew { vlan 20 }\n\nlist gone = { 1 }\n\ngate g { otherwise grant crew }\n";
    assert_eq!(suggested(between, "W501"), "grant crew { vlan 20 }\n\ngate g { otherwise grant crew }\n");
}

/// What a policy of eight megabytes may ask for: of each thing as many as fit, none looked for among all others.
#[test]
fn many_of_one_kind_are_checked_in_their_number_and_a_list_is_told_once() {
    let found = |text: String, schema: &Schema| {
        let checked = Parsed::parse(Source::new("m", text)).check(schema);
        checked.diagnostics().iter().map(|found| (found.code, found.edit(checked.source()))).collect::<Vec<_>>()
    };
    let unused = "grant gone { vlan 1 }\n".to_owned() + "grant left { vlan 1 }\ngate a { otherwise refuse }\n";
    let told = found(unused.clone(), &schema());
    assert_eq!(told.iter().map(|(code, _)| *code).collect::<Vec<_>>(), ["W501", "W501"]);
    assert_eq!(mended(&unused, told[1].1.as_ref().unwrap()), unused.replace("grant left { vlan 1 }\n", ""));
    let gates = (0..3).map(|n| {
        format!("gate a{n} {{ accept mac identify mac in devices rule \"r\" {{ when device.known grant g }} otherwise grant g }}\n")
    });
    let gates = format!("grant g {{ vlan 1 }}\n{}", gates.collect::<String>());
    let told = found(gates.clone(), &schema());
    assert!(told.iter().all(|(code, _)| *code == "W514") && told.len() == 3, "{told:?}");
    assert!(mended(&gates, told[1].1.as_ref().unwrap()).matches("otherwise refuse").count() == 1);
    let known = schema().with_values("nas.site", vec!["yard".into()]);
    let rules = (0..50).map(|n| format!("rule \"r{n}\" {{ when nas.site in sites and request.port = {n} grant g }}\n"));
    let asks = format!(
        "list sites = {{ \"yard\", \"pier\", \"dock\" }}\ngrant g {{ vlan 1 }}\ngate a {{ accept mac identify mac in devices\n{} otherwise refuse }}",
        rules.collect::<String>()
    );
    let told = found(asks, &known);
    assert_eq!(told.iter().map(|(code, _)| *code).collect::<Vec<_>>(), ["W519", "W519"], "once for each name");
}
