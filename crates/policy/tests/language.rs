//! Files of a policy, lists, clocks, rules that count for a time, and gates that are watched.
mod common;

use common::*;
use regnant_policy::*;

fn at(text: &str) -> Known<Value<'static>> {
    // Seconds since 1970 of a moment in UTC.
    let seconds = text.parse::<jiff::Timestamp>().unwrap().as_second();
    Known::Is(Value::Instant(seconds))
}

fn text(text: &'static str) -> Known<Value<'static>> {
    Known::Is(Value::text(text))
}

fn groups(names: &[&'static str]) -> Known<Value<'static>> {
    Known::Is(Value::set(names.iter().map(|name| Value::text(name)).collect()))
}

/// A gate with these rules, and what stands before it.
fn gate(before: &str, rules: &str) -> String {
    format!(
        "{before}\ngrant crew {{ vlan 20 }}\ngrant quay {{ vlan 30 }}\ngate all {{\n  accept pap\n  \
         identify user in harbour\n{rules}\n  otherwise refuse\n}}\ncase \"both are used\" {{\n  given time.now = \
         2020-01-01T00:00Z\n  expect refuse\n}}\n"
    )
}

fn check(files: &[(&str, &str)]) -> String {
    render(&Parsed::parse(Source::of(files.iter().copied())).check(&schema()))
}

#[test]
fn a_case_that_fails_says_what_happened_and_why() {
    let text = |expect: &str, given: &str| {
        format!(
            "grant crew {{ vlan 20 }}\ngate first {{\n  when nas.kind = vpn\n  accept mac\n  identify mac in devices\n  rule \"Elsewhere\" {{ when device.known grant crew }}\n  \
             otherwise refuse\n}}\ngate ports {{\n  when nas.kind = switch\n  accept mac\n  identify mac in devices\n  rule \"Barred\" {{ when device.barred refuse }}\n  \
             rule \"Crew\" {{ when device.known and nas.site = \"quay\" grant crew }}\n  otherwise refuse\n}}\n\
             case \"c\" {{ given {given}\n expect {expect} }}\n"
        )
    };
    let told = |expect: &str, given: &str| {
        let policy = Compiled::from_source(Source::new("main.writ", text(expect, given)), &schema()).unwrap();
        let failure = policy.run_cases().remove(0).failure.unwrap();
        (failure.labels[0].text.clone(), failure.notes)
    };
    let known = "nas.kind = switch, nas.site = \"quay\", device.known = true";
    assert_eq!(
        told("grant crew by \"Crew\"", &format!("{known}, device.barred = true")),
        (
            "the policy refuses by \"Barred\"".into(),
            vec![
                "\"Barred\" is true: `device.barred` is true".into(),
                "\"Crew\" is true too, and is tried later".into()
            ]
        )
    );
    let (_, why) = told("grant crew by \"Crew\"", "nas.kind = switch, nas.site = \"yard\", device.known = true");
    assert_eq!(why, ["\"Crew\" is false: `nas.site = \"quay\"` is false"]);
    let (_, why) = told("grant crew by \"Crew\"", "nas.kind = switch, device.known = true");
    assert_eq!(why, ["\"Crew\" is unknown (absent): `nas.site = \"quay\"` is unknown (absent)"]);
    let (_, why) = told("grant crew by \"Elsewhere\"", &format!("{known}, device.barred = false"));
    assert_eq!(why.last().unwrap(), "\"Elsewhere\" is a rule of gate first, and gate ports took the request");
    let (told, why) = told("grant crew", "device.known = true");
    assert_eq!(told, "the policy refuses: no gate takes the request");
    assert_eq!(why[0], "gate first does not take it: `nas.kind = vpn` is unknown (absent)");
}

#[test]
fn files_of_a_folder_are_one_policy() {
    let main = "include \"parts/lists.writ\"\ninclude \"grants.writ\"\ngate all {\n when request.purpose = login\n accept pap\n identify user in harbour\n \
                rule \"Night\" { when user.name in night-shift grant crew }\n otherwise refuse\n}\n";
    let grants = "grant crew { vlan 20 }\ncase \"Ida works at night\" {\n given request.purpose = login, user.name = \"IDA.marsh\"\n expect grant crew by \"Night\"\n}\n";
    let lists = "list night-shift = { \"ida.marsh\", \"tom.reed\" }\n";
    let files = [("main.writ", main), ("grants.writ", grants), ("parts/lists.writ", lists)];
    let compiled =
        Compiled::from_source(Source::of(files), &schema()).unwrap_or_else(|checked| panic!("{}", render(&checked)));
    assert!(compiled.warnings().is_empty(), "{:?}", compiled.warnings());
    assert!(compiled.run_cases()[0].failure.is_none());
    // The order of files makes no difference, and a mistake is told in its file.
    let turned = [files[0], files[2], files[1]];
    assert!(Compiled::from_source(Source::of(turned), &schema()).is_ok());
    let told = check(&[files[0], ("grants.writ", "grant crew { vlan 5000 }\n"), files[2]]);
    assert!(told.contains("grants.writ:1:19"), "{told}");
    let nobody = check(&[files[0], files[1], files[2], ("forgotten.writ", "define x = user.name = \"a\"\n")]);
    assert!(nobody.contains("W504: nothing includes `forgotten.writ`"), "{nobody}");
}

#[test]
fn includes_stay_in_the_folder_and_end() {
    let gate = "gate nobody { otherwise refuse }\n";
    let of = |include: &str| {
        check(&[
            ("main.writ", &format!("include \"{include}\"\n{gate}")),
            ("lists.writ", ""),
            ("self.writ", "include \"self.writ\"\n"),
            ("one.writ", "include \"two.writ\"\n"),
            ("two.writ", "include \"one.writ\"\n"),
            ("gates.writ", gate),
        ])
    };
    for (include, told) in [
        ("../main.writ", "W130: `../main.writ` leaves the policy's folder"),
        ("/etc/x.writ", "leaves the policy's folder"),
        ("a\\\\b.writ", "leaves the policy's folder"),
        ("lists.txt", "is no .writ file"),
        ("a//b.writ", "is no path of a file"),
        (".hidden.writ", "is no path of a file"),
        ("list.writ", "did you mean `lists.writ`?"),
        ("self.writ", "in a circle: main.writ → self.writ → self.writ"),
        ("one.writ", "in a circle: main.writ → one.writ → two.writ → one.writ"),
        ("main.writ", "in a circle: main.writ → main.writ"),
        ("gates.writ", "W133: a gate stands in main.writ alone"),
    ] {
        let found = of(include);
        assert!(found.contains(told), "{include}: {found}");
    }
    let twice = check(&[("main.writ", &format!("include \"a.writ\"\ninclude \"a.writ\"\n{gate}")), ("a.writ", "")]);
    assert!(twice.contains("`a.writ` is included twice"), "{twice}");
    let outside = check(&[("main.writ", gate), ("../../x.writ", "")]);
    assert!(outside.contains("W130"), "{outside}");
}

#[test]
fn a_list_stands_for_its_members_whatever_their_type() {
    let policy = gate(
        "list ports = { 3, 5, 7 }\nlist shift = { \"Staff\", \"crew\" }\n",
        "  rule \"Ports\" { when request.port in ports grant crew }\n  rule \"Shift\" { when any of user.groups in shift grant quay }",
    );
    let compiled = compile(&policy);
    let decided = |facts: Stated| compiled.decide(0, &facts);
    assert_eq!(decided(stated([("request.port", Known::Is(Value::Integer(5)))])), Decided::Rule(0));
    assert_eq!(decided(stated([("request.port", Known::Is(Value::Integer(4)))])), Decided::Otherwise);
    assert_eq!(decided(stated([("user.groups", groups(&["STAFF"]))])), Decided::Rule(1));
    let wrong = check(&[("main.writ", &policy.replace("{ 3, 5, 7 }", "{ 3, \"five\" }"))]);
    assert!(wrong.contains("W210: expected a number"), "{wrong}");
    let nobody = check(&[("main.writ", &policy.replace("in shift", "in shifts"))]);
    assert!(nobody.contains("W208: there is no list `shifts`") && nobody.contains("did you mean `shift`"), "{nobody}");
}

#[test]
fn hours_go_by_the_clock_of_the_zone() {
    let policy = gate(
        "zone \"Europe/Lisbon\"\nlist office = { Mon..Fri 06:00-20:00, Sat 08:00-12:00 }\n",
        "  rule \"Office\" { when time.now in office grant crew }\n  rule \"Night\" { when time.now in { Fri 22:00-06:00, Sun } grant quay }",
    );
    let compiled = compile(&policy);
    for (moment, decided) in [
        // Summer time: 05:30 there is 06:30 by the clock.
        ("2026-07-06T05:30:00Z", Decided::Rule(0)),
        ("2026-07-06T04:30:00Z", Decided::Otherwise),
        ("2026-11-28T11:59:00Z", Decided::Rule(0)),
        ("2026-11-28T12:00:00Z", Decided::Otherwise),
        ("2026-11-27T23:00:00Z", Decided::Rule(1)),
        ("2026-11-28T05:59:00Z", Decided::Rule(1)),
        ("2026-11-28T06:00:00Z", Decided::Otherwise),
        ("2026-11-29T15:00:00Z", Decided::Rule(1)),
    ] {
        assert_eq!(compiled.decide(0, &stated([("time.now", at(moment))])), decided, "{moment}");
    }
    let nowhere = check(&[("main.writ", &policy.replace("zone \"Europe/Lisbon\"\n", ""))]);
    assert!(nowhere.contains("W141: whose clock is this?"), "{nowhere}");
    let lisboa = check(&[("main.writ", &policy.replace("Europe/Lisbon", "Europe/Lisboa"))]);
    assert!(lisboa.contains("did you mean `Europe/Lisbon`?"), "{lisboa}");
    for (wrong, told) in [("Mon..Fir 06:00-20:00", "`Fir` is no day"), ("2026-12-01T06:00Z", "expected hours of days")]
    {
        let found = check(&[("main.writ", &policy.replace("Mon..Fri 06:00-20:00", wrong))]);
        assert!(found.contains(told), "{wrong}: {found}");
    }
}

#[test]
fn a_rule_counts_from_a_moment_and_until_another_and_not_while_it_is_off() {
    let policy = gate(
        "",
        "  rule \"Crane\" from 2026-12-01T06:00Z until 2026-12-02T06:00+01:00 { when user.name = \"sam.drift\" grant crew }\n  \
         rule \"Off\" off { when user.name = \"sam.drift\" grant quay }\n  \
         rule \"Holiday\" off until 2026-12-24T00:00Z { when user.name = \"ola.nett\" grant quay }",
    );
    let compiled = compile(&policy);
    let decided = |name, moment| compiled.decide(0, &stated([("user.name", text(name)), ("time.now", at(moment))]));
    assert_eq!(decided("sam.drift", "2026-12-01T05:59:59Z"), Decided::Otherwise);
    assert_eq!(decided("sam.drift", "2026-12-01T06:00:00Z"), Decided::Rule(0));
    assert_eq!(decided("sam.drift", "2026-12-02T04:59:59Z"), Decided::Rule(0));
    assert_eq!(decided("sam.drift", "2026-12-02T05:00:00Z"), Decided::Otherwise);
    assert_eq!(decided("ola.nett", "2026-12-23T23:59:59Z"), Decided::Otherwise);
    assert_eq!(decided("ola.nett", "2026-12-24T00:00:00Z"), Decided::Rule(2));
    // What is odd about it depends on the moment, and the crate reads no clock.
    let codes = |moment: &str| {
        let Known::Is(Value::Instant(now)) = at(moment) else { panic!("{moment}") };
        compiled
            .odd_at(now)
            .iter()
            .map(|found| format!("{} {}", found.code, found.message))
            .collect::<Vec<_>>()
            .join("\n")
    };
    assert!(
        codes("2026-11-01T00:00:00Z")
            .starts_with("W507 rule \"Off\" is off\nW507 rule \"Holiday\" is off until 2026-12-24T00:00Z")
    );
    assert!(
        codes("2026-12-01T00:00:00Z").contains("W506 rule \"Crane\" ends in 1 days"),
        "{}",
        codes("2026-12-01T00:00:00Z")
    );
    assert!(codes("2026-12-25T00:00:00Z").contains("W505 rule \"Crane\" ended 2026-12-02T05:00Z"));
    let turned = check(&[("main.writ", &policy.replace("until 2026-12-02T06:00+01:00", "until 2026-11-02T06:00Z"))]);
    assert!(turned.contains("W142: this rule ends before it begins"), "{turned}");
    let undated = check(&[("main.writ", &policy.replace("2026-12-02T06:00+01:00", "tomorrow"))]);
    assert!(undated.contains("write a moment like 2026-12-01T06:00Z"), "{undated}");
}

#[test]
fn a_copy_is_told_until_somebody_has_looked_at_it() {
    let policy = gate(
        "",
        "  rule \"A\" { when user.name = \"a\" grant crew }\n  rule \"B\" copied from \"A\" { when user.name = \"b\" grant quay }",
    );
    let found = compile(&policy).odd_at(0);
    assert_eq!((found.len(), found[0].code), (1, COPIED));
    assert!(found[0].message.contains("copied from \"A\""), "{}", found[0].message);
}

#[test]
fn a_watched_gate_gives_in_the_place_of_a_refusal_and_of_nothing_else() {
    let policy = gate(
        "",
        "  rule \"Barred\" always { when device.barred refuse }\n  rule \"Staff\" { when user in group \"staff\" grant crew }\n  \
         observe when nas.site = \"tower\" with grant quay",
    );
    let compiled = compile(&policy);
    let tower = stated([("nas.site", text("Tower"))]);
    let quay = compiled.observed(0, None, &tower).unwrap();
    assert_eq!(compiled.grants(quay).map(|grant| grant.name.as_str()).collect::<Vec<_>>(), ["quay"]);
    assert_eq!(compiled.observed(0, Some(0), &tower), None, "what refuses always refuses");
    assert_eq!(compiled.observed(0, None, &stated([("nas.site", text("pilot"))])), None);
    assert_eq!(compiled.observed(0, None, &stated([])), None, "what is not known is not watched");
    assert!(compiled.given_by(0).contains(&quay), "dialects render it too");
    assert_eq!(compiled.odd_at(0)[0].code, "W508");
    let gives = check(&[("main.writ", &policy.replace("refuse }", "grant crew }"))]);
    assert!(gives.contains("W143: rule \"Barred\" refuses nobody"), "{gives}");
}

#[test]
fn a_group_may_be_that_of_one_store() {
    let policy = gate(
        "",
        "  rule \"Staff\" { when user in group \"staff\" of harbour grant crew }\n  rule \"Any\" { when user in group \"staff\" grant quay }",
    );
    let compiled = compile(&policy);
    let of = |store| compiled.decide(0, &stated([("user.groups", groups(&["staff"])), ("user.store", text(store))]));
    assert_eq!((of("harbour"), of("other")), (Decided::Rule(0), Decided::Rule(1)));
    let nowhere = check(&[("main.writ", &policy.replace("of harbour", "of harbur"))]);
    assert!(nowhere.contains("did you mean `harbour`"), "{nowhere}");
}

#[test]
fn what_is_not_certain_is_not_said() {
    let odd = |when: &str, accept: &str, rules: &str| {
        let text = format!(
            "grant crew {{ vlan 20 }}\ngate all {{\n {when}\n accept {accept}\n identify user in harbour\n identify machine in harbour\n \
             identify mac in devices\n remember machine 8h\n{rules}\n rule \"Last\" {{ when device.known grant crew }}\n otherwise refuse\n}}\n"
        );
        compile(&text).warnings().iter().map(|found| found.code).collect::<Vec<_>>()
    };
    assert_eq!(odd("", "pap", ""), ["W513"]);
    assert_eq!(odd("when nas.kind = switch", "pap, chap", ""), ["W513", "W513"]);
    // Requests that the gate never takes come by no weak method.
    assert!(odd("when request.purpose = login", "pap, chap", "").is_empty());
    assert!(odd("when request.carrier = mac", "mac, pap", "").is_empty());
    assert!(odd("when request.purpose in { login, vpn } and nas.site = \"tower\"", "pap", "").is_empty());
    // A machine that proved itself just now is told from one that is remembered.
    let login = "when request.purpose = login";
    let rule = |more: &str| format!(" rule \"M\" {{ when machine.proved {more} grant crew }}");
    assert_eq!(odd(login, "pap", &rule("")), ["W516"]);
    assert!(odd(login, "pap", &rule("and not exists machine.age")).is_empty());
    assert!(odd(login, "pap", " rule \"M\" { when not machine.proved and user.name = \"a\" grant crew }").is_empty());
    // The same condition, another result, and an answer that may be missing.
    let twice = " rule \"A\" { when user.name = \"a\" grant crew }\n rule \"B\" { when user.name = \"a\" refuse }";
    assert_eq!(odd(login, "pap", twice), ["W511"]);
    assert!(odd(&format!("{login}\n undetermined continue"), "pap", twice).is_empty());
}

#[test]
fn what_nobody_has_is_told_where_it_is_known_what_there_is() {
    let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    let groups = |all: &[&str]| KnownGroups { names: names(all), ..KnownGroups::default() };
    let known = schema()
        .with_groups(IdentityKind::User, groups(&["staff"]))
        .with_groups(IdentityKind::Mac, groups(&["cranes", "cameras"]))
        .with_values("nas.site", names(&["quayside", "yard"]));
    let told = |schema: &Schema, stores: &str, when: &str| {
        let text = format!(
            "list sites = {{ \"yard\", \"quay\" }} grant crew {{ vlan 20 }} gate all {{
               accept mac identify mac in {stores} rule \"R\" {{ when {when} and nas.site in sites grant crew }}
               otherwise refuse }}"
        );
        let checked = Parsed::parse(Source::new("main.writ", text)).check(schema);
        render(&checked)
    };
    let device = told(&known, "devices", "device in group \"crane\"");
    assert!(device.contains("W503") && device.contains("did you mean `cranes`?"), "{device}");
    let site = told(&known, "devices", "device in group \"Cranes\"");
    assert!(!site.contains("W503") && site.contains("W519: no NAS has `nas.site` \"quay\""), "{site}");
    assert!(told(&known, "device", "device in group \"cranes\"").contains("error W404: there is no store `device`"));
    // Where there may be more stores, one that is not known passes, and may have groups of its own.
    let more = known.clone().with_more_stores();
    let other = told(&more, "device", "device in group \"crane\" of device");
    assert!(other.contains("warning W518") && other.contains("did you mean `devices`?"), "{other}");
    assert!(!other.contains("W503") && !other.contains("error W"), "{other}");
    assert_eq!(other.matches("W518").count(), 1, "{other}");
    // Before any equipment is registered every site is one that none has.
    let first = told(&schema().with_values("nas.site", Vec::new()), "devices", "device.known");
    assert!(!first.contains("W519"), "{first}");
}

#[test]
fn a_method_that_no_store_of_the_gate_can_check_is_told() {
    let store =
        |name: &str, checks| KnownStore { name: name.into(), holds: IdentityKind::User, facts_only: false, checks };
    let directory = Checks { passwords: true, mschap: false, challenges: false };
    let schema = schema().with_stores([store("directory", directory), store("harbour", Checks::ALL)]);
    let told = |accept: &str, stores: &str| {
        let text = format!(
            "grant crew {{ vlan 20 }}\ngate all {{\n when request.purpose = login\n accept {accept}\n \
             present certificate \"radius.tarnmouth.example\"\n identify user in {stores}\n otherwise refuse\n}}\n"
        );
        let compiled = Compiled::from_source(Source::new("main.writ", &text), &schema).unwrap();
        let all = compiled.warnings().iter().filter(|found| found.code == "W522");
        all.map(|found| found.message.clone()).collect::<Vec<_>>()
    };
    assert_eq!(
        told("peap(eap-mschapv2, eap-gtc), ttls(pap, chap), mschapv2", "directory"),
        [
            "gate `all` accepts peap(eap-mschapv2, eap-gtc), and directory cannot check responses of MS-CHAP",
            "gate `all` accepts ttls(pap, chap), and directory cannot check responses of CHAP or EAP-MD5",
            "gate `all` accepts mschapv2, and directory cannot check responses of MS-CHAP",
        ]
    );
    assert!(told("peap(eap-mschapv2)", "directory, harbour").is_empty(), "one of them can");
    assert!(told("peap(eap-gtc), pap", "directory").is_empty());
}
