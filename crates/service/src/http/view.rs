//! Journal entries as the API shows them.

use regnant_decision::EntryKind;
use regnant_evidence::{Fragment, Mark, Record, Station};
use regnant_journal::Entry;
use serde::Serialize;
use utoipa::ToSchema;

use crate::administration::Administration;
use crate::clock::iso;

/// One entry of the journal as a sentence.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EntryView {
    /// The entry's id, a ULID.
    id: String,
    /// When, in UTC.
    at: String,
    /// `granted`, `refused`, `silence`, `unfinished` or `unheard`; `unreadable` where the
    /// entry is damaged.
    outcome: String,
    /// The NAS, where one is known.
    nas: Option<String>,
    /// The gate that took the request, where one did.
    gate: Option<String>,
    /// The sentence, in parts that name things.
    sentence: Vec<FragmentView>,
    /// Why, in a few words: the rule's title, or what stood in the way.
    reason: String,
    /// How many packets, for what stayed unheard.
    packets: Option<u64>,
}

/// A part of a sentence.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct FragmentView {
    /// `text`, `subject`, `nas`, `verdict`, `grant` or `rule`.
    kind: String,
    /// The text.
    text: String,
}

/// One entry with its trail.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DetailView {
    /// The entry.
    entry: EntryView,
    /// The edition that decided; none for what stayed unheard.
    edition: Option<u32>,
    /// The stations of the trail; none for what stayed unheard.
    stations: Vec<StationView>,
    /// What to do, for what stayed unheard.
    advice: Option<String>,
}

/// One step of a trail.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StationView {
    /// `heard`, `gate`, `conversation`, `proof`, `identity`, `rules`, `grant` or `reply`.
    name: String,
    /// `passed`, `stopped` or `skipped`.
    mark: String,
    /// Microseconds since the packet came.
    micros: Option<u64>,
    /// What happened, in a sentence.
    line: String,
    /// All that was known.
    evidence: Vec<EvidenceView>,
    /// What to do about it.
    advice: Option<String>,
}

/// One thing that was known.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EvidenceView {
    /// Its name.
    label: String,
    /// Its value.
    value: String,
}

impl EntryView {
    pub(crate) fn new(entry: &Entry, administration: &Administration) -> Self {
        match entry {
            Entry::Decision(evidence) => {
                Self::of_decision(&Record::brief(evidence, &administration.policies.edition_to_read(evidence.edition)))
            }
            Entry::Unheard(record) => Self {
                id: record.id.clone(),
                at: iso(record.first),
                outcome: EntryKind::Unheard.word().into(),
                nas: record.nas.clone(),
                gate: None,
                sentence: fragments(record.sentence()),
                reason: record.cause.to_string(),
                packets: Some(record.count),
            },
            Entry::Unreadable { id, why } => Self {
                id: id.to_string(),
                at: iso(id.timestamp_ms()),
                outcome: UNREADABLE.into(),
                nas: None,
                gate: None,
                sentence: vec![FragmentView {
                    kind: "text".into(),
                    text: format!("This entry cannot be read: {why}."),
                }],
                reason: why.to_string(),
                packets: None,
            },
        }
    }

    fn of_decision(record: &Record) -> Self {
        Self {
            id: record.id.clone(),
            at: iso(record.at),
            outcome: record.verdict.word().into(),
            nas: Some(record.nas.clone()),
            gate: record.gate.clone(),
            sentence: fragments(record.sentence()),
            reason: record.reason(),
            packets: None,
        }
    }
}

/// What stands in place of an outcome where an entry cannot be read.
const UNREADABLE: &str = "unreadable";

impl DetailView {
    pub(crate) fn new(entry: &Entry, administration: &Administration) -> Self {
        let Entry::Decision(evidence) = entry else {
            let advice = match entry {
                Entry::Unheard(record) => record.cause.advice(),
                _ => "The rest of the journal is not touched by it; if this release wrote it, please report this.",
            };
            let entry = EntryView::new(entry, administration);
            return Self { entry, edition: None, stations: Vec::new(), advice: Some(advice.into()) };
        };
        let record = Record::new(evidence, &administration.policies.edition_to_read(evidence.edition));
        let stations = record.trail().stations.into_iter().map(StationView::new).collect();
        Self { entry: EntryView::of_decision(&record), edition: Some(record.edition), stations, advice: None }
    }
}

impl StationView {
    fn new(station: Station) -> Self {
        let mark = match station.mark {
            Mark::Passed => "passed",
            Mark::Stopped => "stopped",
            Mark::Skipped => "skipped",
        };
        let evidence =
            station.evidence.into_iter().map(|one| EvidenceView { label: one.label, value: one.value }).collect();
        let (name, micros, line, advice) = (station.name, station.micros, station.line, station.advice);
        Self { name, mark: mark.into(), micros, line, evidence, advice }
    }
}

fn fragments(sentence: Vec<Fragment>) -> Vec<FragmentView> {
    let word = |kind: &regnant_evidence::FragmentKind| format!("{kind:?}").to_lowercase();
    sentence.into_iter().map(|part| FragmentView { kind: word(&part.kind), text: part.text }).collect()
}
