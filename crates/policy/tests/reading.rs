//! What the text of a policy means once it is read.
mod common;

use std::net::IpAddr;

use common::*;
use proptest::prelude::*;
use regnant_base::Mac;
use regnant_policy::*;

/// A policy whose only grant says this.
fn granting(items: &str) -> Compiled {
    compile(&format!("{items}\ngate g {{ accept mac identify mac in devices otherwise grant x }}"))
}

fn said(items: &str) -> Vec<String> {
    granting(items).statements(0, &stated([])).unwrap().iter().map(raw).collect()
}

/// A statement with its values as dialects read them.
fn raw(statement: &Statement) -> String {
    let attribute = statement.attribute.iter().map(|name| format!(" {name} ="));
    let parts = statement.values.iter().flat_map(|(word, value)| [(*word).to_owned(), value.to_string()]);
    let values = parts.filter(|part| !part.is_empty()).map(|part| format!(" {part}"));
    [statement.kind.keyword.to_owned()].into_iter().chain(attribute).chain(values).collect()
}

fn block(text: &str, length: u8) -> Where {
    Where::Block(text.parse::<IpAddr>().unwrap(), length)
}

#[test]
fn an_access_list_is_read_whole() {
    let policy = granting(
        "acl a {
           permit tcp from this port 1024..65535 to 10.44.30.0/24 port 102, 4840..4849
           deny 47 to 2001:db8::/32   # GRE
           permit icmp to 10.44.0.53
           deny ip from 10.44.0.0/16 to any
         }
         grant x { acl a }",
    );
    let entries = &policy.acl("a").unwrap().entries;
    let ports = |list: &[(u16, u16)]| list.iter().map(|&(first, last)| Port { first, last }).collect::<Vec<_>>();
    assert_eq!(
        entries[0],
        Entry {
            action: Action::Permit,
            protocol: Protocol::Tcp,
            from: Where::This,
            from_ports: ports(&[(1024, 65535)]),
            to: block("10.44.30.0", 24),
            to_ports: ports(&[(102, 102), (4840, 4849)]),
        }
    );
    assert_eq!((entries[1].protocol, entries[1].to), (Protocol::Number(47), block("2001:db8::", 32)));
    assert_eq!((entries[2].from, entries[2].to), (Where::Any, block("10.44.0.53", 32)));
    assert_eq!((entries[3].action, entries[3].from), (Action::Deny, block("10.44.0.0", 16)));
    assert!(policy.acl("b").is_none());
}

#[test]
fn a_value_from_a_fact_is_the_facts_where_it_suits_and_else_the_default() {
    let policy = granting(
        "grant x {
           vlan   request.port or 99
           role   lower(before(claimed.name, \"@\")) or \"guest\"
           session request.Session-Timeout or 4h
           filter nas.site
         }",
    );
    let given = |facts: &Stated| match policy.statements(0, facts) {
        Ok(statements) => statements.iter().map(Statement::written).collect::<Vec<_>>().join(", "),
        Err(why) => why.to_string(),
    };
    let is = Known::Is;
    let text = |text: &'static str| is(Value::text(text));
    assert!(policy.varies(0));
    assert_eq!(
        given(&stated([
            ("request.port", is(Value::Integer(30))),
            ("claimed.name", text("Ida@Tarn")),
            ("request.Session-Timeout", is(Value::Duration(60))),
            ("nas.site", text("yard")),
        ])),
        "vlan 30, role ida, session 1m, filter yard"
    );
    assert_eq!(
        given(&stated([
            ("request.port", is(Value::Integer(5_000))),
            ("claimed.name", text("@")),
            ("nas.site", text("yard"))
        ])),
        "vlan 99, role guest, session 4h, filter yard"
    );
    assert_eq!(
        given(&stated([("request.port", Known::Unanswered)])),
        "`filter` takes its value from nas.site, which has none that suits"
    );
    let longest = policy.longest_statements(0);
    assert_eq!(longest[1].value().unwrap().to_string().len(), 252);
    assert!(!granting("grant x { vlan 20 }").varies(0));
}

#[test]
fn gates_say_what_they_may_give_and_to_whom() {
    let policy = compile(
        "grant a { vlan 1 } grant b { vlan 2 } grant c { vlan 3 }
         gate yard { when nas.site = \"yard\" and request.port = 1
           accept mac identify mac in devices rule \"R\" { when device.known grant a } otherwise grant b }
         gate rest { accept mac identify mac in devices otherwise grant c }",
    );
    let at =
        |site: &'static str| stated([("nas.site", Known::Is(Value::text(site))), ("request.port", Known::Unanswered)]);
    assert_eq!((policy.given_by(0).len(), policy.given_by(1).len()), (2, 1));
    assert!(policy.may_take(0, &at("yard")) && !policy.may_take(0, &at("quay")) && policy.may_take(1, &at("quay")));
}

#[test]
fn every_statement_is_read() {
    assert_eq!(
        said(
            "acl a { permit ip to any }
             grant x {
               vlan 20 tagged voice-vlan \"voice\" redirect \"https://10.44.0.9/\" past a segment 12
               rate down 50M up 1500 interim 10m address 10.44.0.7 address6 2001:db8::7
               send Reply-Thing = \"a b\" send Reply-Thing = 7 send Secret-Thing = secret \"quay-key\"
             }"
        ),
        [
            "vlan 20 tagged",
            "voice-vlan voice",
            "redirect https://10.44.0.9/ past a",
            "segment 12",
            "rate down 50000000 up 1500",
            "interim 600",
            "address 10.44.0.7",
            "address6 2001:db8::7",
            "send Reply-Thing = a b",
            "send Reply-Thing = 7",
            "send Secret-Thing = secret quay-key",
        ]
    );
    assert_eq!(
        said(
            "grant x {
               vlan \"crew\" role \"r\" session 1h30m idle 90s service nas-prompt privilege 7
               class \"a\" class \"b\" message \"Mind \\\"the\\\" gap\\\\\"
             }"
        ),
        [
            "vlan crew",
            "role r",
            "session 5400",
            "idle 90",
            "service nas-prompt",
            "privilege 7",
            "class a",
            "class b",
            "message Mind \"the\" gap\\",
        ]
    );
    assert_eq!(
        said("grant x { vlan 4094 filter \"f\" reauthenticate 1d }"),
        ["vlan 4094", "filter f", "reauthenticate 86400"]
    );
}

#[test]
fn extends_reaches_over_several_grants_in_any_order() {
    let text =
        "grant x extends y { vlan 3 } grant y extends z { session 1h } grant z { vlan 1 session 2h class \"c\" }";
    assert_eq!(said(text), ["class c", "session 3600", "vlan 3"]);
}

#[test]
fn defines_may_be_used_before_they_stand_and_within_one_another() {
    let policy = compile(
        "gate g { accept mac identify mac in devices rule \"R\" { when outer refuse } otherwise refuse }
         define outer = inner and not nas.kind = vpn
         define inner = request.port in 1..12 or request.port = 24",
    );
    let decide = |port: i64| {
        let facts =
            stated([("request.port", Known::Is(Value::Integer(port))), ("nas.kind", Known::Is(Value::Integer(0)))]);
        policy.decide(0, &facts)
    };
    assert_eq!((decide(12), decide(24)), (Decided::Rule(0), Decided::Rule(0)));
    assert_eq!((decide(0), decide(13)), (Decided::Otherwise, Decided::Otherwise));
}

#[test]
fn grants_that_several_rules_give_are_rendered_once() {
    let policy = compile(
        "grant a { vlan 1 } grant b { class \"b\" }
         gate g { accept mac identify mac in devices
           rule \"1\" { when device.known grant a, b }
           rule \"2\" { when device.barred grant a, b }
           rule \"3\" { when request.port = 1 grant b }
           otherwise grant a }",
    );
    assert_eq!(policy.grant_sets(), 3);
    let names: Vec<_> = policy.grants(0).map(|grant| grant.name.as_str()).collect();
    assert_eq!(names, ["a", "b"]);
}

#[test]
fn reactions_are_read_and_the_others_keep_their_default() {
    let policy = compile(
        "gate g { accept pap
           identify user in harbour { unknown continue, failed silence }
           otherwise refuse }",
    );
    let clause = policy.gates()[0].identify(IdentityKind::User).unwrap();
    assert_eq!(*clause.reaction(Event::Unknown), Reaction::Continue);
    assert_eq!(*clause.reaction(Event::Failed), Reaction::Silence);
    assert_eq!(*clause.reaction(Event::Disabled), Reaction::Refuse(None));
    assert_eq!(*clause.reaction(Event::Unreachable), Reaction::Silence);
    assert_eq!(*clause.reaction(Event::Absent), Reaction::Continue);
}

#[test]
fn positions_count_characters_and_carets_stand_under_them() {
    let text = "define é = nas.site = quayside\n";
    let checked = Parsed::parse(Source::new("main.writ", text)).check(&schema());
    let error = checked.diagnostics().iter().find(|d| d.code == "W210").unwrap();
    assert_eq!(
        checked.source().position(error.labels[0].span.start),
        Position { file: "main.writ", line: 1, column: 23 }
    );
    let told = error.render(checked.source());
    let (source, caret) = (told.lines().nth(2).unwrap(), told.lines().nth(3).unwrap());
    let at = |line: &str, what: &str| line[..line.find(what).unwrap()].chars().count();
    assert_eq!(at(source, "quayside"), at(caret, "^^^^^^^^"));
}

#[test]
fn durations_are_shown_in_days_hours_minutes_and_seconds() {
    let shown = [0, 45, 90, 5_400, 28_800, 31_535_998].map(show_duration);
    assert_eq!(shown, ["0s", "45s", "1m30s", "1h30m", "8h", "364d23h59m58s"]);
}

proptest! {
    #[test]
    fn durations_are_shown_as_they_are_read(seconds in 1u64..10_000_000) {
        let shown = show_duration(seconds);
        prop_assert_eq!(said(&format!("grant x {{ session {shown} }}")), [format!("session {seconds}")]);
    }

    #[test]
    fn mac_addresses_are_shown_as_they_are_read(bytes: [u8; 6]) {
        let mac = Mac(bytes);
        prop_assert_eq!(mac.to_string().parse(), Ok(mac));
        prop_assert_eq!(mac.to_string().replace(':', "").to_uppercase().parse(), Ok(mac));
    }

    #[test]
    fn no_text_makes_reading_a_mac_address_panic(text in "\\PC{0,20}") {
        let _ = text.parse::<Mac>();
    }

    #[test]
    fn a_text_survives_quoting(text in "[^\\n\\r\\x00-\\x1f]{1,60}") {
        let by_hand = text.replace('\\', "\\\\").replace('"', "\\\"");
        prop_assume!(text.len() < 250);
        prop_assert_eq!(said(&format!("grant x {{ class \"{by_hand}\" }}")), [format!("class {text}")]);
        let plain: String = text.chars().filter(|c| !c.is_control()).collect();
        prop_assume!(!plain.is_empty());
        prop_assert_eq!(said(&format!("grant x {{ class {} }}", quoted(&text))), [format!("class {plain}")]);
    }
}

/// A gate for 802.1X with these parts.
fn crew(parts: &str) -> Compiled {
    compile(&format!(
        "grant x {{ vlan 20 }}
         gate crew {{ accept eap-tls, peap(eap-mschapv2, eap-gtc)
           present certificate \"radius.tarnmouth.example\"
           {parts}
           identify user in harbour
           identify machine in harbour
           otherwise grant x }}"
    ))
}

#[test]
fn a_trust_says_where_names_are_and_who_knows_of_revocation_in_order() {
    let trust = |revocation: &str| {
        let text = format!(
            "trust \"tarnmouth-authority\" {{ machine from san-dns user from san-upn, subject-cn {revocation} }}"
        );
        crew(&text).gates()[0].trust.clone().unwrap()
    };
    let plain = trust("");
    assert_eq!(plain.name, "tarnmouth-authority");
    let names = [
        (IdentityKind::Machine, CertificateName::SanDns),
        (IdentityKind::User, CertificateName::SanUpn),
        (IdentityKind::User, CertificateName::SubjectCn),
    ];
    assert_eq!((plain.names, plain.revocation), (names.to_vec(), None));
    use RevocationSource::{Crl, Ocsp};
    for (text, sources, unreachable_passes) in [
        ("revocation crl", vec![Crl], false),
        ("revocation ocsp, crl", vec![Ocsp, Crl], false),
        ("revocation crl, ocsp { unreachable refuse }", vec![Crl, Ocsp], false),
        ("revocation ocsp { unreachable continue }", vec![Ocsp], true),
    ] {
        assert_eq!(trust(text).revocation, Some(Revocation { sources, unreachable_passes }), "{text}");
    }
}

#[test]
fn sessions_and_machines_are_kept_for_as_long_as_the_gate_says() {
    let with = |parts: &str| {
        let policy = crew(&format!("trust \"tarnmouth-authority\" {{ user from san-upn }} {parts}"));
        (policy.gates()[0].remember_machine, policy.gates()[0].resume)
    };
    assert_eq!(with(""), (None, 28_800), "sessions resume unless a gate says otherwise");
    assert_eq!(with("remember machine 90m resume up to 8h"), (Some(5_400), 28_800));
    assert_eq!(with("resume never"), (None, 0));
}

proptest! {
    /// Whatever a gate accepts is shown as it would be written, and in its order.
    #[test]
    fn accepted_methods_are_shown_as_they_are_written(chosen in prop::sample::subsequence(vec![
        "mac", "eap-md5", "eap-gtc", "eap-mschapv2", "eap-tls", "peap(eap-mschapv2, eap-gtc, eap-tls)",
        "ttls(pap, mschapv2, eap-md5)", "teap(eap-tls, eap-mschapv2)",
    ], 1..=8).prop_shuffle()) {
        let policy = compile(&format!(
            "grant x {{ vlan 20 }}
             gate g {{ accept {}
               present certificate \"radius.tarnmouth.example\"
               trust \"tarnmouth-authority\" {{ user from san-upn }}
               identify user in harbour
               identify mac in devices
               otherwise grant x }}",
            chosen.join(", ")
        ));
        let shown: Vec<_> = policy.gates()[0].accept.iter().map(Accepted::show).collect();
        prop_assert_eq!(shown, chosen);
    }
}
