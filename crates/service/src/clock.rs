use std::time::{SystemTime, UNIX_EPOCH};

/// Milliseconds since 1970 (UTC).
pub(crate) fn now_ms() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_millis() as u64)
}

/// A time as people and programs read it: `2026-11-23T08:30:00.123Z`.
pub(crate) fn iso(ms: u64) -> String {
    let time = jiff::Timestamp::from_millisecond(ms as i64).unwrap_or_default();
    format!("{time:.3}")
}
