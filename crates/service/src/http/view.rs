//! Journal entries as the API shows them.

use regnant_decision::EntryKind;
use regnant_evidence::{AccountingRecord, Fragment, Mark, Record, Station};
use regnant_journal::{Entry, JournalError, spellings};
use serde::Serialize;
use utoipa::ToSchema;

use crate::administration::Administration;
use crate::clock::iso;
use crate::http::Api;

/// One entry of the journal as a sentence.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EntryView {
    /// The entry's id, a ULID.
    id: String,
    /// When, in UTC.
    at: String,
    /// `granted`, `refused`, `silence`, `unfinished`, `unheard`, `told` or `accounting`;
    /// `unreadable` where the entry is damaged.
    outcome: String,
    /// The NAS, where one is known.
    nas: Option<String>,
    /// The edition that decided; none where nothing was.
    edition: Option<u32>,
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
    /// The stations of the trail; none for what stayed unheard.
    stations: Vec<StationView>,
    /// What to do, for what stayed unheard.
    advice: Option<String>,
    /// The decision behind what equipment reported, where it was found.
    decision: Option<DecisionView>,
    /// What equipment reported of the access that this decision gave, the oldest first.
    reports: Vec<EntryView>,
}

/// The decision behind a report.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DecisionView {
    /// Its id.
    id: String,
    /// Whether it is inferred from device, name, port and time, and not named by the report.
    inferred: bool,
    /// The decision itself; none where the journal has it no more.
    entry: Option<EntryView>,
}

/// One step of a trail.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StationView {
    /// `heard`, `gate`, `conversation`, `proof`, `identity`, `rules`, `grant` or `reply`; of a
    /// report `heard`, `decision` and `kept`.
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
    pub(crate) fn outcome(&self) -> &str {
        &self.outcome
    }

    /// Whether every one of these words, in small letters, stands in its sentence.
    pub(crate) fn says_all(&self, words: &[String]) -> bool {
        let sentence: String = self.sentence.iter().map(|part| part.text.to_lowercase()).collect();
        words.iter().all(|word| spellings(word).iter().any(|spelling| sentence.contains(spelling)))
    }

    pub(crate) fn new(entry: &Entry, administration: &Administration) -> Self {
        match entry {
            Entry::Decision(evidence) => {
                Self::of_decision(&Record::brief(evidence, &*administration.policies.edition_to_read(evidence.edition)))
            }
            Entry::Unheard(record) => Self {
                id: record.id.clone(),
                at: iso(record.first),
                outcome: EntryKind::Unheard.word().into(),
                nas: record.nas.clone(),
                edition: None,
                gate: None,
                sentence: fragments(record.sentence()),
                reason: record.cause.to_string(),
                packets: Some(record.count),
            },
            Entry::Accounting(record) => Self {
                id: record.id.to_string(),
                at: iso(record.id.timestamp_ms()),
                outcome: EntryKind::Accounting.word().into(),
                nas: Some(record.nas.clone()),
                edition: None,
                gate: None,
                sentence: fragments(record.sentence()),
                reason: record.reason(),
                packets: None,
            },
            Entry::Unreadable { id, why } => Self {
                id: id.to_string(),
                at: iso(id.timestamp_ms()),
                outcome: UNREADABLE.into(),
                nas: None,
                edition: None,
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
            outcome: record.outcome().into(),
            nas: Some(record.nas.clone()),
            edition: Some(record.edition),
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
    pub(crate) fn new(entry: &Entry, api: &Api) -> Result<Self, JournalError> {
        let administration = &*api.administration;
        let plain = |entry| Self { entry, stations: Vec::new(), advice: None, decision: None, reports: Vec::new() };
        let advice = match entry {
            Entry::Decision(evidence) => {
                let record = Record::new(evidence, &*administration.policies.edition_to_read(evidence.edition));
                let reports = api.reader.reports(evidence.id)?;
                return Ok(Self {
                    stations: record.trail().stations.into_iter().map(StationView::new).collect(),
                    reports: reports.iter().map(|entry| EntryView::new(entry, administration)).collect(),
                    ..plain(EntryView::of_decision(&record))
                });
            }
            Entry::Accounting(record) => return Self::of_report(record, entry, api, plain),
            Entry::Unheard(record) => record.cause.advice(),
            Entry::Unreadable { .. } => {
                "The rest of the journal is not touched by it; if this release wrote it, please report this.".into()
            }
        };
        Ok(Self { advice: Some(advice), ..plain(EntryView::new(entry, administration)) })
    }

    fn of_report(
        record: &AccountingRecord,
        entry: &Entry,
        api: &Api,
        plain: impl Fn(EntryView) -> Self,
    ) -> Result<Self, JournalError> {
        let found = match record.decision {
            Some(found) => api.reader.entry(&found.id().to_string())?,
            None => None,
        };
        let of = match &found {
            Some(Entry::Decision(evidence)) => Some(evidence.nas()),
            _ => None,
        };
        let edition = api.administration.snapshot().active.edition.clone();
        let stations = record.stations(&*edition.vocabulary, of.as_deref());
        let view = |entry: &Entry| EntryView::new(entry, &api.administration);
        let decision = record.decision.map(|one| DecisionView {
            id: one.id().to_string(),
            inferred: one.is_inferred(),
            entry: found.as_ref().map(view),
        });
        Ok(Self { stations: stations.into_iter().map(StationView::new).collect(), decision, ..plain(view(entry)) })
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
