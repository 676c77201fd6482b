//! How grants are told, dialect by dialect.
use std::sync::Arc;

use proptest::prelude::*;
use regnant_decision::{NasIdentity, NasKind, ProtocolFacts, Purpose};
use regnant_equipment::radius::{Credentials, ReadRequest, accept};
use regnant_equipment::{Dialect, Edition, Nas, Vocabulary};
use regnant_policy::{Compiled, FactId, Facts, Known, Source, Type, Value};
use regnant_radius::{Attributes, Builder, Code, Dictionary, SharedSecret};

const DICTIONARY: &str = include_str!("../../campus/harbour/tarnworks.dictionary.toml");
const TARNWORKS: &str = include_str!("../../campus/harbour/tarnworks.dialect.toml");

fn vocabulary() -> Arc<Vocabulary> {
    let mut dictionary = Dictionary::standard();
    dictionary.add_own("tarnworks.toml", DICTIONARY).unwrap();
    Arc::new(Vocabulary::new(dictionary, Vec::new()).unwrap())
}

/// The standard dialect and this one.
fn dialects(text: &str) -> Vec<Dialect> {
    let vocabulary = vocabulary();
    let mut dialects = vec![Dialect::standard(vocabulary.dictionary())];
    dialects.push(Dialect::read("own.toml", text, vocabulary.dictionary(), &dialects).unwrap());
    dialects
}

fn edition_of(policy: &str, dialects: &[Dialect]) -> Edition {
    let vocabulary = vocabulary();
    let compiled = Compiled::from_source(Source::new("main.writ", policy), vocabulary.schema());
    let compiled = compiled.unwrap_or_else(|checked| panic!("{:?}", checked.diagnostics()));
    Edition::prepare(1, compiled, dialects, vocabulary)
}

fn giving(grant: &str, dialects: &[Dialect]) -> Edition {
    edition_of(&format!("{grant}\ngate g {{ accept mac identify mac in devices otherwise grant x }}"), dialects)
}

struct Nothing;

impl Facts for Nothing {
    fn fact(&self, _: FactId) -> Known<Value<'_>> {
        Known::Absent
    }
}

/// What equipment of a dialect is told of a grant.
fn told(grant: &str, dialect: &str, dialects: &[Dialect]) -> Result<Vec<String>, String> {
    let edition = giving(grant, dialects);
    let attributes = edition.attributes(dialect, 0, &Nothing)?;
    let shown = edition.vocabulary.dictionary().show_all(Attributes::read(&attributes).unwrap());
    Ok(shown.into_iter().map(|(name, value)| format!("{name} {value}")).collect())
}

fn own(statements: &str) -> String {
    format!("name = \"own\"\nextends = \"standard\"\n{statements}")
}

#[test]
fn the_standard_dialect_tells_what_the_rfcs_can() {
    let standard = dialects(TARNWORKS);
    let told = |grant: &str| told(&format!("grant x {{ {grant} }}"), "standard", &standard);
    assert_eq!(
        told("vlan 20 tagged interim 10m idle 15m address 10.44.0.7 address6 2001:db8::7 class \"a\" class \"b\"")
            .unwrap(),
        [
            // RFC 4675 section 2.1: 0x31 for tagged, and 12 bits of VLAN.
            "Egress-VLANID 822083604",
            "Acct-Interim-Interval 600",
            "Idle-Timeout 900",
            "Framed-IP-Address 10.44.0.7",
            "Framed-IPv6-Address 2001:db8::7",
            "Class \"a\"",
            "Class \"b\"",
        ]
    );
    assert_eq!(told("vlan \"crew\" tagged").unwrap(), ["Egress-VLAN-Name 1crew"]);
    assert_eq!(told("send Framed-MTU = 1400").unwrap(), ["Framed-MTU 1400"]);
    for (grant, why) in [
        ("rate up 1M", "it cannot say `rate`: no RFC has an attribute for it"),
        ("voice-vlan 7", "it cannot say `voice-vlan`"),
        ("role \"a\" filter \"b\"", "`role` and `filter` both go into Filter-Id; use one of them"),
        ("session 1h send Session-Timeout = 5", "`session` and `send` both go into Session-Timeout; use one of them"),
        ("send Port-Limit = 1 send Port-Limit = 2", "Port-Limit would be there twice, and may be there once"),
        ("send Framed-MTU = \"x\"", "Framed-MTU cannot be `x`: it takes a number of 0 to 4294967295"),
        ("send Delegated-IPv6-Prefix = \"x\"", "it takes a block such as 2001:db8::/32"),
    ] {
        let cannot = told(grant).unwrap_err();
        assert!(cannot.contains(why) && cannot.starts_with("the dialect `standard` cannot tell x: "), "{cannot}");
    }
}

#[test]
fn a_make_of_its_own_is_told_in_its_own_words() {
    let dialects = dialects(TARNWORKS);
    let told = |grant: &str| told(grant, "tarnworks", &dialects);
    assert_eq!(
        told(
            "acl edge { permit tcp from this to 10.44.30.0/24 port 102, 4840..4849  deny ip to 10.44.0.9 }
             grant x {
               vlan 30 voice-vlan 7 role \"cranes\" acl edge rate up 10M down 1500 segment 12
               redirect \"https://10.44.0.9/\" past edge
               service administrative privilege 15
             }"
        )
        .unwrap(),
        [
            "Tunnel-Type VLAN",
            "Tunnel-Medium-Type IEEE-802",
            "Tunnel-Private-Group-ID 30",
            "Tarnworks-VLAN.Id 7",
            "Tarnworks-VLAN.Use Voice",
            "Tarnworks-Role role=cranes",
            "Tarnworks-List edge@d52c3b529950120a",
            "Tarnworks-Rate from-device 10000 kbit",
            "Tarnworks-Rate to-device 2 kbit",
            "Tarnworks-Segment 12",
            "Tarnworks-Redirect https://10.44.0.9/",
            "Tarnworks-Redirect-List edge@d52c3b529950120a",
            "Service-Type Administrative",
            "Tarnworks-Privilege full",
        ]
    );
    for (grant, why) in [
        ("privilege 15", "`privilege` does nothing there without `service`: add it to the grant"),
        ("service login privilege 7", "there is no word for `7` in Tarnworks-Privilege"),
        ("segment \"crew\"", "it has no way to say `segment crew`"),
        ("send Tarnworks-Role = \"a\" role \"b\"", "`send` and `role` both go into Tarnworks-Role"),
        (&format!("role \"{}\"", "r".repeat(60)), "Tarnworks-Role may have 64 bytes here, and has 65"),
    ] {
        let cannot = told(&format!("grant x {{ {grant} }}")).unwrap_err();
        assert!(cannot.contains(why), "{cannot}");
    }
}

#[test]
fn the_ways_to_write_a_value_are_those_that_a_file_says() {
    let ways = dialects(&own("
        [acl]
        carry = \"entries\"
        [[acl.entry]]
        attribute = \"Tarnworks-List-Entry\"
        value = \"{name} {action} {protocol} {from} {to} {to-ports}\"
        block = \"wildcard\"
        family = \"ipv4\"
        words = { host = \"host\" }
        [[acl.entry]]
        attribute = \"Tarnworks-Zone\"
        value = \"{action} {to}\"
        family = \"ipv6\"
        [statements]
        class = { attribute = \"Class\", value = \"c:{}\", join = \";\" }
        session = { attribute = \"Session-Timeout\", value = \"{}\", per = 60 }
        vlan = [
          { attribute = \"Tunnel-Type\", value = \"VLAN\", tag = 1 },
          { attribute = \"Tunnel-Private-Group-ID\", value = \"{}\", tag = 1 },
        ]
        [cannot]
        idle = \"it has no idle timer\"
        [limits]
        reply = 600"));
    let told = |grant: &str| told(grant, "own", &ways);
    assert_eq!(
        told("grant x { vlan 30 class \"a\" class \"b\" session 90s }").unwrap(),
        ["Tunnel-Type VLAN (tag 1)", "Tunnel-Private-Group-ID 30 (tag 1)", "Class \"c:a;c:b\"", "Session-Timeout 2"]
    );
    assert_eq!(
        told("acl l { permit tcp to 10.44.30.0/24 port 1  deny ip to 10.44.0.9  permit ip to 2001:db8::/32 } grant x { acl l }").unwrap(),
        [
            "Tarnworks-List-Entry l permit tcp any 10.44.30.0 0.0.0.255 1",
            "Tarnworks-List-Entry l deny ip any host 10.44.0.9",
            "Tarnworks-Zone permit 2001:db8::/32",
            "Tarnworks-List-Entry l deny ip any any",
            "Tarnworks-Zone deny any",
        ]
    );
    assert!(told("grant x { idle 1m }").unwrap_err().contains("it cannot say `idle`: it has no idle timer"));
    let long = "permit tcp to 10.44.30.0/24 port 102\n".repeat(20);
    let cannot = told(&format!("acl l {{ {long} }} grant x {{ acl l }}")).unwrap_err();
    assert!(cannot.contains("and a reply has room for 600"), "{cannot}");
    let by_name = dialects(&own("[acl]\ncarry = \"by-name\"\nattribute = \"Filter-Id\"\nvalue = \"{}.in\""));
    let named = self::told("acl l { permit ip to any } grant x { acl l }", "own", &by_name);
    assert_eq!(named.unwrap(), ["Filter-Id l.in"]);
}

#[test]
fn entries_go_into_attributes_by_direction_and_family() {
    let policy = "acl both {
            permit tcp from this to 10.44.30.0/24 port 102
            permit udp from 10.44.0.53 port 53 to this
            permit tcp from 2001:db8::/32 to this
        }
        grant x { acl both }";
    let entry = |direction: &str, family: &str, attribute: &str| {
        format!(
            "[[acl.entry]]
             attribute = \"{attribute}\"
             direction = \"{direction}\"
             family = \"{family}\"
             value = \"{family} {{direction}} {{action}} {{protocol}} {{from}} {{from-ports}} to {{to}} {{to-ports}}\"
             words = {{ this = \"self\", in = \"from-device\" }}\n"
        )
    };
    let entries = [
        entry("in", "ipv4", "Reply-Message"),
        entry("in", "ipv6", "Class"),
        entry("out", "ipv4", "Filter-Id"),
        entry("out", "ipv6", "Configuration-Token"),
    ];
    let directed = dialects(&own(&format!("[acl]\ncarry = \"entries\"\n{}", entries.concat())));
    let mut said = told(policy, "own", &directed).unwrap();
    said.sort();
    assert_eq!(
        said,
        [
            "Class \"ipv6 from-device deny ip any to any\"",
            "Configuration-Token \"ipv6 out deny ip any to self\"",
            "Configuration-Token \"ipv6 out permit tcp 2001:db8::/32 to self\"",
            "Filter-Id ipv4 out deny ip any to self",
            "Filter-Id ipv4 out permit udp 10.44.0.53 53 to self",
            "Reply-Message ipv4 from-device deny ip any to any",
            "Reply-Message ipv4 from-device permit tcp self to 10.44.30.0/24 102",
        ]
    );
    // RFC 3588 section 4.3: what goes to the terminal is \"out\".
    assert_eq!(
        told(policy, "standard", &directed).unwrap(),
        [
            "NAS-Filter-Rule permit in tcp from assigned to 10.44.30.0/24 102",
            "NAS-Filter-Rule permit out udp from 10.44.0.53 53 to assigned",
            "NAS-Filter-Rule permit out tcp from 2001:db8::/32 to assigned",
            "NAS-Filter-Rule deny out ip from any to assigned",
            "NAS-Filter-Rule deny in ip from any to any",
        ]
    );
}

#[test]
fn mistakes_of_a_file_are_told_with_file_and_line() {
    let vocabulary = vocabulary();
    let standard = [Dialect::standard(vocabulary.dictionary())];
    let told = |text: &str| {
        let told = Dialect::read("own.toml", text, vocabulary.dictionary(), &standard).unwrap_err();
        told.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    assert_eq!(
        told("title = 1"),
        ["own.toml:1: `name` is missing", "own.toml:1: `title` must be a text in quotes, and is an integer"]
    );
    assert_eq!(
        told("name = \"own\"\nextends = \"standrd\"\nacl = \"by-magic\""),
        [
            "own.toml:2: there is no dialect `standrd` to extend; did you mean standard?",
            "own.toml:3: there is no way to carry an access list `by-magic`; there are: nas-filter-rule, by-name, entries, reference",
        ]
    );
    assert_eq!(
        told(&own("[statements]
             rol = { attribute = \"Filter-Id\", value = \"{}\" }
             acl = { attribute = \"Filter-Id\", value = \"{}\" }
             role = { attribute = \"Filter-Ib\", value = \"{}\" }
             vlan = { attribute = \"Filter-Id\", value = \"{vlan}\", when = \"taged\" }
             idle = { attribute = \"State\", value = \"{}\" }
             filter = { attribute = \"Called-Station-Id\", value = \"{\" }
             class = { attribute = \"Class\", value = \"{}\", tag = 3, colour = 1 }
             [needs]
             role = [\"privelege\"]
             [cannot]
             rate = 3")),
        [
            "own.toml:4: grants have no statement `rol`; did you mean role?",
            "own.toml:5: `acl` is not said in attributes: say under `acl` how access lists travel",
            "own.toml:6: there is no attribute `Filter-Ib`; did you mean Filter-Id?; a vendor's are added with `regnant dictionary add`",
            "own.toml:7: `vlan` has no value {vlan}; there are: {}, {tagged}",
            "own.toml:7: `taged` is no condition; there are: number, text, tagged, each with `not` before it too",
            "own.toml:8: `State` cannot be sent: the service makes it itself",
            "own.toml:9: `Called-Station-Id` cannot be sent: an Access-Accept never carries it (RFC 2865 section 5.30)",
            "own.toml:9: a brace is opened and not closed",
            "own.toml:10: `Class` has no tag, and is given the tag 3",
            "own.toml:10: `colour` means nothing here; there are: attribute, inverted, join, most, per, plus, tag, value, when, words",
            "own.toml:12: grants have no statement `privelege`; did you mean privilege?",
            "own.toml:14: `rate` must be a text in quotes, and is an integer",
        ]
    );
    assert_eq!(
        told(&own("[statements]
             role = { attribute = \"Filter-Id\", value = \"{}\", inverted = true }
             redirect = { attribute = \"Class\", value = \"{past}\", inverted = true }")),
        [
            "own.toml:4: `role` names no list that could be inverted",
            "own.toml:4: `inverted` is for lists by reference: of one that the equipment has itself only the name is told",
            "own.toml:5: `inverted` is for lists by reference: of one that the equipment has itself only the name is told",
        ]
    );
    assert_eq!(
        told(&own("[acl]\ncarry = \"entry\"\n[[acl.entry]]\nattribute = \"Class\"\nvalue = \"{action}\"")).len(),
        1,
        "what goes with a way that is mistyped is no mistake of its own"
    );
    assert_eq!(
        told(&own("[acl]\ncarry = \"entries\"\n[[acl.entry]]\nattribute = \"Class\"\nvalue = \"{action} {port}\"")),
        [
            "own.toml:7: an entry has no field {port}; there are: {action}, {direction}, {protocol}, {from}, {from-ports}, {to}, {to-ports}, {number}, {name}"
        ]
    );
}

#[test]
fn a_nas_lacks_what_its_dialect_cannot_say_of_the_gates_that_may_take_it() {
    let edition = edition_of(
        "grant slow { rate up 1M } grant plain { vlan 20 }
         gate yard { when nas.site = \"yard\" accept mac identify mac in devices
           rule \"R\" { when device.known grant slow, plain } otherwise grant plain }
         gate rest { accept mac identify mac in devices otherwise grant plain }",
        &dialects(TARNWORKS),
    );
    let lacks = |site: &str, dialect: &str| {
        let (name, kind) = ("yard-sw-1".into(), NasKind::Switch);
        let nas = NasIdentity { name, kind, site: site.into(), dialect: dialect.into(), tags: Arc::default() };
        let lacks = edition.lacks(&nas, "127.0.0.12".parse().ok());
        lacks.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    assert_eq!(
        lacks("yard", "standard"),
        ["the dialect `standard` cannot tell slow, plain: it cannot say `rate`: no RFC has an attribute for it"]
    );
    assert!(lacks("yard", "tarnworks").is_empty() && lacks("quay", "standard").is_empty());
    assert_eq!(lacks("yard", "other").len(), 1);
}

#[test]
fn values_from_facts_are_told_as_they_are_then() {
    struct Port(i64, FactId);
    impl Facts for Port {
        fn fact(&self, id: FactId) -> Known<Value<'_>> {
            if id == self.1 { Known::Is(Value::Integer(self.0)) } else { Known::Absent }
        }
    }
    let dialects = dialects(TARNWORKS);
    let edition = giving("grant x { segment request.port or 9 role claimed.name or \"guest\" }", &dialects);
    let port = edition.vocabulary.schema().find("request.port").unwrap();
    assert!(edition.fixed_attributes("tarnworks", 0).is_none());
    let told = |facts: &dyn Facts| {
        let attributes = edition.attributes("tarnworks", 0, facts).unwrap().into_owned();
        format!("{:?}", edition.vocabulary.dictionary().show_all(Attributes::read(&attributes).unwrap()))
    };
    assert!(told(&Port(31, port)).contains("(\"Tarnworks-Segment\", \"31\")"));
    assert!(told(&Nothing).contains("(\"Tarnworks-Segment\", \"9\"), (\"Tarnworks-Role\", \"role=guest\")"));
    // What the standard dialect cannot say it cannot say of a fact either.
    assert!(edition.attributes("standard", 0, &Nothing).is_err());
}

#[test]
fn a_firewall_can_send_two_kinds_of_login_that_its_dialect_tells_apart() {
    let vocabulary = vocabulary();
    let looks = own("
        [[request]]
        purpose = \"vpn\"
        with = { Tarnworks-Zone = \"tunnel\", Calling-Station-Id = \"*\" }
        [[request]]
        purpose = \"login\"
        with = { Service-Type = \"NAS-Prompt\" }");
    let edition = edition_of(
        "grant a { class \"a\" } gate v { when request.purpose = vpn accept pap identify user in people otherwise grant a }",
        &dialects(&looks),
    );
    let ask = |attributes: &[(&str, &str)], dialect: &str| {
        let secret = SharedSecret::new(*b"portcullis-2-chain");
        let mut builder = Builder::new(Code::ACCESS_REQUEST, 1);
        builder.encoded(&vocabulary.dictionary().encode(attributes.iter().copied()).unwrap()).unwrap();
        let (name, kind, site) = ("gate-fw-1".into(), NasKind::Firewall, "gatehouse".into());
        let identity = NasIdentity { name, kind, site, dialect: dialect.into(), tags: Arc::default() };
        let networks = vec!["127.0.0.31".parse().unwrap()];
        let nas = Arc::new(Nas::new(identity, networks).with_radius(Credentials::new(secret.clone())));
        let bytes = builder.request(&[1; 16], &secret);
        let accepted = accept(Some(&nas), "127.0.0.31:1".parse().unwrap(), &bytes, 0).unwrap();
        accepted.request(&ReadRequest::new(&accepted, &edition), &NoFacts).purpose
    };
    let tunnel = [("Tarnworks-Zone", "tunnel"), ("Calling-Station-Id", "10.44.0.9"), ("Service-Type", "NAS-Prompt")];
    assert_eq!(ask(&tunnel, "own"), Some(Purpose::Vpn));
    assert_eq!(ask(&tunnel[1..], "own"), Some(Purpose::Login));
    // What it says nothing of is as it is without.
    assert_eq!(ask(&[("Service-Type", "Framed"), ("NAS-Port-Type", "Virtual")], "own"), Some(Purpose::Vpn));
    assert_eq!(ask(&tunnel, "standard"), Some(Purpose::Login));
    let standard = [Dialect::standard(vocabulary.dictionary())];
    let wrong = own(
        "[[request]]\npurpose = \"vpm\"\nwith = { Service-Type = \"Logon\", User-Password = \"x\" }\n[[request]]\nwith = {}",
    );
    let told = Dialect::read("own.toml", &wrong, vocabulary.dictionary(), &standard).unwrap_err().to_string();
    for line in [
        "own.toml:4: there is no purpose `vpm`; did you mean `vpn`?",
        "own.toml:5: Service-Type cannot be `Logon`: it takes a number or one of the attribute's named values",
        "own.toml:5: `User-Password` says nothing that one can look for",
        "own.toml:6: `purpose` is missing",
        "own.toml:6: `with` says no attribute",
    ] {
        assert!(told.contains(line), "{told}");
    }
}

struct NoFacts;

impl ProtocolFacts for NoFacts {
    fn fact(&self, _: usize, _: &Type) -> Known<Value<'_>> {
        Known::Absent
    }

    fn can_be_told(&self, _: usize, _: &dyn Facts) -> Result<(), String> {
        Ok(())
    }
}

#[test]
fn the_dialect_of_early_releases_is_read_still() {
    let early = "name = \"standard\"\ntitle = \"t\"\nacl = \"nas-filter-rule\"\n[statements]\nrole = [{ attribute = \"Filter-Id\", value = \"{}\" }]";
    let dialect = Dialect::read("standard.toml", early, vocabulary().dictionary(), &[]).unwrap();
    assert_eq!(told("grant x { role \"a\" }", "standard", &[dialect]).unwrap(), ["Filter-Id a"]);
}

fn statement() -> impl Strategy<Value = String> {
    let text = "[a-z]{1,252}";
    prop_oneof![
        (1..=4094u32).prop_map(|vlan| format!("vlan {vlan}")),
        text.prop_map(|role| format!("role \"{role}\"")),
        text.prop_map(|filter| format!("filter \"{filter}\"")),
        text.prop_map(|class| format!("class \"{class}\"")),
        text.prop_map(|message| format!("message \"{message}\"")),
        (1..=1_000_000u32).prop_map(|rate| format!("rate up {rate}k")),
        (1..=1_000u32).prop_map(|hours| format!("session {hours}h")),
        Just("acl l".to_owned()),
        text.prop_map(|value| format!("send Tarnworks-Zone = \"{value}\"")),
        "[a-z]{1,3000}".prop_map(|value| format!("send NAS-Filter-Rule = \"{value}\"")),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_grant_fits_a_reply_or_is_refused(
        statements in prop::collection::vec(statement(), 1..30),
        entries in 0..120usize,
    ) {
        let mut kept: Vec<String> = Vec::new();
        for one in statements {
            let keyword = one.split(' ').next().unwrap().to_owned();
            let again = kept.iter().any(|known| known.split(' ').next() == Some(&keyword));
            if !again || ["class", "message", "send"].contains(&keyword.as_str()) {
                kept.push(one);
            }
        }
        let acl = format!("acl l {{ {} }}", "permit tcp to 10.44.30.0/24 port 102\n".repeat(entries));
        let edition = giving(&format!("{acl}\ngrant x {{ {} }}", kept.join("\n")), &dialects(TARNWORKS));
        for dialect in ["standard", "tarnworks"] {
            match edition.attributes(dialect, 0, &Nothing) {
                Ok(attributes) => {
                    prop_assert!(attributes.len() <= 4_096 - 20 - 18);
                    prop_assert!(Attributes::read(&attributes).is_some());
                }
                Err(why) => prop_assert!(why.starts_with("the dialect `"), "{}", why),
            }
        }
    }

    #[test]
    fn any_text_is_a_dialect_or_told_why_not(text in "[ \\na-z0-9=\"\\[\\]{},.-]{0,200}") {
        let vocabulary = vocabulary();
        let _ = Dialect::read("any.toml", &text, vocabulary.dictionary(), &[]);
    }
}
