//! Where the active policy names records, so that none disappears under it.

use regnant_equipment::Edition;
use regnant_policy::{Leaf, Value};
use regnant_records::RecordName;

/// The facts in which names of a kind of record stand.
fn facts(record: &RecordName) -> &'static [&'static str] {
    match record {
        RecordName::Nas(_) => &["nas.name"],
        RecordName::Person { .. } => &["user.name", "user.claimed"],
        RecordName::Machine { .. } => &["machine.name", "machine.claimed"],
        RecordName::Device { .. } => &["device.mac", "request.mac"],
        _ => &[],
    }
}

/// Comparisons of a policy that name a record, each with its line.
pub(crate) fn record(edition: &Edition, record: &RecordName) -> Vec<String> {
    let name = match record {
        RecordName::Nas(name) | RecordName::Person { name, .. } | RecordName::Machine { name, .. } => name.clone(),
        RecordName::Device { mac, .. } => mac.to_string(),
        _ => return Vec::new(),
    };
    let is_it = |value: &Value<'_>| match value {
        Value::Text(text) => text.to_lowercase() == name.to_lowercase(),
        value => value.to_string() == name,
    };
    let names = |leaf: &&Leaf| leaf.names().iter().any(is_it);
    let mut all: Vec<_> = asking(edition, facts(record)).filter(names).map(|leaf| place(edition, leaf)).collect();
    all.dedup();
    all
}

/// Every group that a policy names, with where.
pub(crate) fn groups(edition: &Edition) -> Vec<(String, String)> {
    names_in(edition, &["user.groups", "machine.groups", "device.groups"])
}

/// Every site that a policy names, with where.
pub(crate) fn sites(edition: &Edition) -> Vec<(String, String)> {
    names_in(edition, &["nas.site"])
}

/// The texts that a policy compares these facts with, each with where.
fn names_in(edition: &Edition, facts: &'static [&'static str]) -> Vec<(String, String)> {
    let names = |leaf: &Leaf| {
        let texts = leaf.names().iter().filter_map(|value| match value {
            Value::Text(text) => Some(text.clone().into_owned()),
            _ => None,
        });
        texts.collect::<Vec<_>>()
    };
    let asking = asking(edition, facts);
    let mut all: Vec<_> =
        asking.flat_map(|leaf| names(leaf).into_iter().map(|name| (name, place(edition, leaf)))).collect();
    all.dedup();
    all
}

fn asking<'e>(edition: &'e Edition, facts: &'static [&'static str]) -> impl Iterator<Item = &'e Leaf> {
    let schema = edition.vocabulary.schema();
    let asks = move |leaf: &&Leaf| facts.contains(&schema.definition(leaf.fact).name.as_str());
    edition.policy.leaves().iter().filter(asks)
}

fn place(edition: &Edition, leaf: &Leaf) -> String {
    format!("line {}: {}", edition.policy.source().position(leaf.span.start).line, leaf.text)
}
