//! A small schema and facts that tests state by name.
#![allow(dead_code)]

pub(crate) mod random;

use std::collections::HashMap;

use regnant_policy::*;

pub(crate) fn schema() -> Schema {
    let words = |list: &[&str]| Type::Enumeration(list.iter().zip(0..).map(|(w, n)| (w.to_string(), n)).collect());
    let fact = |name: &str, kind: Type, first_packet: bool| FactDefinition {
        name: name.into(),
        also: Vec::new(),
        always: name.starts_with("nas."),
        kind,
        known: if first_packet { Stage::FirstPacket } else { Stage::Proof },
        meaning: String::new(),
    };
    Schema::new([
        fact("nas.site", Type::NAME, true),
        fact("nas.kind", words(&["switch", "controller", "firewall", "router", "vpn"]), true),
        fact("nas.address", Type::Address, true),
        fact("request.purpose", words(&["network", "login", "vpn"]), true),
        fact("request.carrier", words(&["pap", "chap", "mac", "eap"]), true),
        fact("request.port", Type::Integer, true),
        fact("request.mac", Type::Mac, true),
        fact("request.ssid", Type::Text { ignore_case: false }, true),
        fact("request.Session-Timeout", Type::Duration, true),
        fact("claimed.name", Type::NAME, true),
        FactDefinition { always: true, ..fact("time.now", Type::Instant, true) },
        fact("user.name", Type::NAME, false),
        fact("user.store", Type::NAME, false),
        fact("machine.proved", Type::Boolean, false),
        fact("machine.age", Type::Duration, false),
        fact("machine.groups", Type::Set(Box::new(Type::NAME)), false),
        fact("user.groups-by-store", Type::Set(Box::new(Type::NAME)), false),
        fact("device.store", Type::NAME, false),
        fact("device.groups-by-store", Type::Set(Box::new(Type::NAME)), false),
        fact("user.groups", Type::Set(Box::new(Type::NAME)), false),
        fact("device.known", Type::Boolean, false),
        fact("device.barred", Type::Boolean, false),
        fact("device.groups", Type::Set(Box::new(Type::NAME)), false),
    ])
    .with_secrets(["quay-key".into()])
    .with_attributes([
        (
            "Secret-Thing".into(),
            SentAttribute { name: "Secret-Thing".into(), about: "a text".into(), refused: None, secret: true },
        ),
        (
            "Reply-Thing".into(),
            SentAttribute { name: "Reply-Thing".into(), about: "a text, RFC 1".into(), refused: None, secret: false },
        ),
        (
            "Key-Thing".into(),
            SentAttribute {
                name: "Key-Thing".into(),
                about: "a text".into(),
                refused: Some("the service makes it itself".into()),
                secret: false,
            },
        ),
    ])
    .with_stores([
        store("harbour", IdentityKind::User),
        store("harbour", IdentityKind::Machine),
        store("devices", IdentityKind::Mac),
        KnownStore { facts_only: true, ..store("register", IdentityKind::Machine) },
    ])
    .with_certificates(["radius.tarnmouth.example".into()], ["tarnmouth-authority".into()])
}

fn store(name: &str, holds: IdentityKind) -> KnownStore {
    KnownStore { name: name.into(), holds, facts_only: false, checks: Checks::ALL }
}

/// Facts by name; what is not stated is absent.
#[derive(Debug)]
pub(crate) struct Stated(HashMap<FactId, Known<Value<'static>>>);

pub(crate) fn stated<const N: usize>(facts: [(&str, Known<Value<'static>>); N]) -> Stated {
    Stated(facts.into_iter().map(|(name, value)| (schema().find(name).unwrap(), value)).collect())
}

impl Facts for Stated {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        match self.0.get(&id) {
            Some(Known::Is(value)) => Known::Is(value.clone()),
            Some(Known::Unanswered) => Known::Unanswered,
            Some(Known::Partial(part)) => Known::Partial(part.clone()),
            _ => Known::Absent,
        }
    }
}

/// A policy of one gate with one rule.
pub(crate) fn one_rule(condition: &str, then: &str) -> Compiled {
    let text = format!(
        "grant crew {{ vlan 20 }}\ngate all {{\n accept mac\n identify mac in devices\n rule \"R\" {{ when {condition} {then} }}\n otherwise grant crew\n}}"
    );
    compile(&text)
}

pub(crate) fn compile(text: &str) -> Compiled {
    match Compiled::from_source(Source::new("main.writ", text), &schema()) {
        Ok(compiled) => compiled,
        Err(checked) => panic!("{}", render(&checked)),
    }
}

pub(crate) fn render(checked: &Checked) -> String {
    checked.diagnostics().iter().map(|d| d.render(checked.source())).collect::<Vec<_>>().join("\n")
}
