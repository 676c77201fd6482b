//! Where the active policy names records, so that none disappears under it.

use regnant_equipment::Edition;
use regnant_policy::Leaf;
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
    let quoted = format!("\"{}\"", name.to_lowercase());
    let bare = matches!(record, RecordName::Device { .. }).then(|| name.to_lowercase());
    let names = |leaf: &&Leaf| {
        let text = leaf.text.to_lowercase();
        text.contains(&quoted) || bare.as_ref().is_some_and(|bare| text.contains(bare))
    };
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
    let quoted = |text: &str| text.split('"').skip(1).step_by(2).map(str::to_owned).collect::<Vec<_>>();
    let asking = asking(edition, facts);
    let mut all: Vec<_> =
        asking.flat_map(|leaf| quoted(&leaf.text).into_iter().map(|name| (name, place(edition, leaf)))).collect();
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
