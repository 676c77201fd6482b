//! What equipment reported of the access that it gives, to be read.

use std::net::SocketAddr;

use regnant_base::printable;
use serde::{Deserialize, Serialize};
use ulid::Ulid;

use crate::exchange::{KeptExchange, Protocols};
use crate::record::Record;
use crate::record::sentence::{Fragment, FragmentKind};
use crate::record::trail::{Clue, Mark, Station};
use crate::report::{Report, ReportStatus};
use crate::time::span;
use crate::whereabouts::Whereabouts;

/// One report as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AccountingRecord {
    /// The entry's id; it begins with the time at which the report came. It is the key of
    /// the entry and not kept within it.
    #[serde(skip)]
    pub id: Ulid,
    /// The NAS's name.
    pub nas: String,
    /// Where it came from.
    pub source: SocketAddr,
    /// The decision that gave the access, where it was found.
    pub decision: Option<FoundDecision>,
    /// What it says.
    pub report: Report,
    /// How it came, in the bytes of its protocol.
    pub exchange: KeptExchange,
}

/// How the decision behind a report was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum FoundDecision {
    /// The report repeats the Class that the decision's reply carried.
    ByClass([u8; 16]),
    /// It is the last one that gave this NAS something for the same device or name at the
    /// same port before the report.
    Inferred([u8; 16]),
}

impl FoundDecision {
    /// The decision's id.
    pub fn id(self) -> Ulid {
        let (Self::ByClass(id) | Self::Inferred(id)) = self;
        Ulid::from_bytes(id)
    }

    /// Whether it is only inferred.
    pub fn is_inferred(self) -> bool {
        matches!(self, Self::Inferred(_))
    }
}

/// Why sessions end, in words (RFC 2866 section 5.10, and what was assigned since).
const CAUSES: [&str; 23] = [
    "the user asked for it",
    "the line went dead",
    "the service was lost",
    "it was idle for too long",
    "its time was up",
    "an administrator ended it",
    "an administrator restarted the equipment",
    "an error of the port",
    "an error of the equipment",
    "the equipment ended it",
    "the equipment restarted",
    "the port was not needed any more",
    "the port was given to somebody else",
    "the port was suspended",
    "the service could not be given",
    "the equipment calls back",
    "an error of the user's",
    "the far end ended it",
    "the supplicant restarted",
    "authentication failed when it was due again",
    "the port was set up anew",
    "the port was switched off",
    "the power went",
];

impl AccountingRecord {
    /// Milliseconds since 1970 (UTC) at which what it reports happened, as far as it says: it
    /// came then, less the time for which the equipment has tried to send it.
    pub fn happened(&self) -> u64 {
        self.id.timestamp_ms().saturating_sub(u64::from(self.report.delay) * 1_000)
    }

    /// The entry as a sentence, without its time.
    pub fn sentence(&self) -> Vec<Fragment> {
        use FragmentKind::{Nas, Subject, Text, Verdict};
        let part = |kind, text: String| Fragment { kind, text };
        let report = &self.report;
        let nas = part(Nas, self.nas.clone());
        let verdict = |text: &str| part(Verdict, text.to_owned());
        match &report.status {
            ReportStatus::On => {
                return vec![nas, verdict(" has started"), part(Text, ": no session of before lasts.".into())];
            }
            ReportStatus::Off => {
                return vec![nas, verdict(" is about to stop"), part(Text, ": its sessions end.".into())];
            }
            _ => {}
        }
        let mut parts = vec![part(Subject, subject(&report.about)), part(Text, " on ".into()), nas];
        if let Some(port) = report.about.port {
            parts.push(part(Text, format!(" port {port}")));
        }
        let session = report.session.as_deref().filter(|session| !session.is_empty());
        let session =
            session.map_or_else(|| "a session".to_owned(), |session| format!("session {}", printable(session)));
        parts.push(verdict(&match &report.status {
            ReportStatus::Start => format!(" began {session}"),
            ReportStatus::Stop => format!(" ended {session}"),
            ReportStatus::Interim => format!(" goes on with {session}"),
            other => format!(" was reported with {session} ({})", printable(&other.to_string())),
        }));
        parts.push(part(Text, format!("{}.", self.measures())));
        parts
    }

    /// How long and how much, and why it ended: ` after 2 h 5 min, 12.4 MB sent and 310 MB
    /// received: the user asked for it`.
    fn measures(&self) -> String {
        let report = &self.report;
        let mut told = String::new();
        if let Some(seconds) = report.seconds.filter(|_| report.status != ReportStatus::Start) {
            told.push_str(&format!(" after {}", span(seconds)));
        }
        match (report.sent, report.received) {
            (None, None) => {}
            (sent, received) => told.push_str(&format!(
                ", {} sent and {} received",
                bytes(sent.unwrap_or(0)),
                bytes(received.unwrap_or(0))
            )),
        }
        let cause = report.cause.filter(|_| report.status == ReportStatus::Stop);
        if let Some(cause) = cause {
            let words = cause.checked_sub(1).and_then(|place| CAUSES.get(place as usize).copied());
            told.push_str(&words.map_or_else(|| format!(": cause {cause}"), |words| format!(": {words}")));
        }
        told
    }

    /// What happened, in a few words.
    pub fn reason(&self) -> String {
        let report = &self.report;
        format!("{}{}", report.status, self.measures())
    }

    /// The explanation: what came, and which decision it belongs to. `of` is the NAS that the
    /// decision was made for, where it can be read.
    pub fn stations(&self, protocols: &dyn Protocols, of: Option<&str>) -> Vec<Station> {
        let report = &self.report;
        let late = match report.delay {
            0 => String::new(),
            delay => format!(", {} after it happened", span(delay)),
        };
        let shown = protocols.show(&self.exchange, None);
        let line = format!("{} ({}) from {} ({}){late}.", shown.title, report.status, self.source, self.nas);
        let mut heard = Record::station("heard", Mark::Passed, line);
        heard.evidence = shown.request.iter().map(|(name, value)| Clue::new(name, value)).collect();
        vec![heard, self.decision_station(of), kept()]
    }

    fn decision_station(&self, of: Option<&str>) -> Station {
        let station = |mark, line: &str| Record::station("decision", mark, line);
        if matches!(self.report.status, ReportStatus::On | ReportStatus::Off) {
            return station(Mark::Skipped, "It is about the equipment and belongs to no decision.");
        }
        let mut station = match self.decision {
            None => {
                let mut station = station(Mark::Skipped, "No decision was found that gave this access.");
                station.advice = Some(
                    "It was given before this service kept a journal, or by the equipment itself, or the report names \
                     neither device nor user as the request did."
                        .into(),
                );
                return station;
            }
            Some(FoundDecision::ByClass(_)) => {
                station(Mark::Passed, "It repeats the Class of the decision that gave this access.")
            }
            Some(FoundDecision::Inferred(_)) => station(
                Mark::Passed,
                "It repeats no Class of ours; inferred is the last decision that gave this NAS something for the same \
                 device or name at the same port.",
            ),
        };
        if let Some(of) = of.filter(|of| !of.eq_ignore_ascii_case(&self.nas)) {
            station.line.push_str(&format!(" That decision was made for {of}."));
            station.advice = Some(format!(
                "Where sessions move between {of} and {}, this is as it should be; if they do not, somebody repeats \
                 what they have seen elsewhere.",
                self.nas
            ));
        }
        station.evidence = self.decision.iter().map(|found| Clue::new("decision", found.id().to_string())).collect();
        station
    }
}

fn kept() -> Station {
    Record::station("kept", Mark::Passed, "It was acknowledged once it was on the disk.")
}

/// Who or what has access, in words.
fn subject(about: &Whereabouts) -> String {
    let user = about.user.as_deref().map(printable).filter(|user| !user.is_empty());
    match (user, about.device) {
        (Some(user), Some(device)) if user.parse() != Ok(device) => format!("{user} {device}"),
        (_, Some(device)) => device.to_string(),
        (Some(user), None) => user.into_owned(),
        (None, None) => "somebody unnamed".into(),
    }
}

/// Bytes as people read them, in powers of 1,000.
fn bytes(number: u64) -> String {
    const UNITS: [&str; 6] = ["kB", "MB", "GB", "TB", "PB", "EB"];
    if number < 1_000 {
        return if number == 1 { "1 byte".into() } else { format!("{number} bytes") };
    }
    let (mut tenths, mut unit) = (number / 100, 0);
    while tenths >= 10_000 && unit + 1 < UNITS.len() {
        (tenths, unit) = (tenths / 1_000, unit + 1);
    }
    match tenths {
        100.. => format!("{} {}", tenths / 10, UNITS[unit]),
        _ => format!("{}.{} {}", tenths / 10, tenths % 10, UNITS[unit]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_are_told_in_the_unit_that_suits_them() {
        let told = [0, 1, 999, 1_000, 1_234, 9_999, 10_500, 999_999, 1_000_000, 310_400_000, u64::MAX].map(bytes);
        let expected = [
            "0 bytes",
            "1 byte",
            "999 bytes",
            "1.0 kB",
            "1.2 kB",
            "9.9 kB",
            "10 kB",
            "999 kB",
            "1.0 MB",
            "310 MB",
            "18 EB",
        ];
        assert_eq!(told, expected);
    }
}
