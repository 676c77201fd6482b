//! What a NAS was heard to do, apart from what it asked: whether it signs, and under which
//! secret.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use regnant_evidence::HeardMarks;

/// How exactly it is known when a request was unsigned, in milliseconds.
const TO_WITHIN: u64 = 60_000;

/// What was heard of a NAS; every table that has it shares this. Times are milliseconds since
/// 1970, 0 for never.
#[derive(Debug, Default)]
pub struct Heard {
    signed_since: AtomicU64,
    unsigned_at: AtomicU64,
    switched: AtomicU64,
}

impl Heard {
    /// What was known before a restart.
    pub fn restored(marks: HeardMarks) -> Self {
        let HeardMarks { signed_since, unsigned_at, switched } = marks;
        Self { signed_since: signed_since.into(), unsigned_at: unsigned_at.into(), switched: switched.into() }
    }

    /// What is known now.
    pub fn marks(&self) -> HeardMarks {
        HeardMarks {
            signed_since: self.signed_since.load(Relaxed),
            unsigned_at: self.unsigned_at.load(Relaxed),
            switched: self.switched.load(Relaxed),
        }
    }

    /// Whether it uses the secret that it was given at this time.
    pub fn has_switched(&self, since: u64) -> bool {
        self.switched.load(Relaxed) >= since
    }

    pub(crate) fn signs(&self, now: u64) {
        // Most often it is so already, and nothing is written that other threads read.
        if self.signed_since.load(Relaxed) == 0 {
            self.signed_since.store(now, Relaxed);
        }
    }

    pub(crate) fn signs_not(&self, now: u64) {
        if now.saturating_sub(self.unsigned_at.load(Relaxed)) >= TO_WITHIN {
            self.unsigned_at.store(now, Relaxed);
        }
        if self.signed_since.load(Relaxed) != 0 {
            self.signed_since.store(0, Relaxed);
        }
    }

    pub(crate) fn switches(&self, since: u64) {
        self.switched.fetch_max(since, Relaxed);
    }
}
