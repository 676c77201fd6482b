//! What was decided, hour by hour.

use std::collections::BTreeMap;

use jiff::Timestamp;
use regnant_decision::EntryKind;
use regnant_journal::Count;
use serde::Serialize;
use utoipa::ToSchema;

/// What was decided within an hour.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct HourView {
    /// When it began, in UTC.
    hour: String,
    granted: u64,
    /// Given where a gate that is watched would have refused.
    observed: u64,
    refused: u64,
    silence: u64,
    unfinished: u64,
}

/// The beginning of an hour since 1970, in UTC.
pub(crate) fn hour_text(hour: i64) -> String {
    Timestamp::from_second(hour * 3_600).map(|hour| hour.to_string()).unwrap_or_default()
}

/// What these counts say of so many hours before this one, the earliest first.
pub(crate) fn hours<'c>(counts: impl IntoIterator<Item = &'c Count>, until: i64, many: i64) -> Vec<HourView> {
    let mut hours: BTreeMap<i64, HourView> =
        (until - many..until).map(|hour| (hour, HourView { hour: hour_text(hour), ..HourView::default() })).collect();
    for count in counts {
        let Some(hour) = hours.get_mut(&count.hour) else { continue };
        match count.kind {
            EntryKind::Granted => hour.granted += count.number,
            EntryKind::Observed => hour.observed += count.number,
            EntryKind::Refused => hour.refused += count.number,
            EntryKind::Silence => hour.silence += count.number,
            EntryKind::Unfinished => hour.unfinished += count.number,
            _ => {}
        }
    }
    hours.into_values().collect()
}
