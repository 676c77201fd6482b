//! How much one administrator changes within an hour: each change stays in the log for good.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::BoundedMap;
use regnant_records::Role;

use crate::http::callers::Signed;
use crate::http::error::ApiError;

const HOUR: Duration = Duration::from_secs(3_600);
/// Administrators that are counted at a time.
const MOST: usize = 4_096;
/// Records that an engineer changes within an hour, the lines of an import aside.
const OF_ENGINEER: u64 = 200_000;
/// And anybody else: more devices than a site has are barred within an hour by nobody who looks at them.
const OF_OTHERS: u64 = 20_000;

/// Records that administrators changed, counted by the hour.
#[derive(Debug)]
pub(crate) struct Quota {
    used: Mutex<BoundedMap<String, (Instant, u64)>>,
}

impl Default for Quota {
    fn default() -> Self {
        Self { used: Mutex::new(BoundedMap::new(MOST)) }
    }
}

impl Quota {
    /// Takes room for so many records.
    pub(crate) fn take(&self, signed: &Signed, records: usize) -> Result<(), ApiError> {
        let most = if signed.role() == Role::Engineer { OF_ENGINEER } else { OF_OTHERS };
        match self.take_at(&signed.bearer.administrator, (records as u64, most), Instant::now()) {
            true => Ok(()),
            false => Err(ApiError::too_many(format!(
                "Within an hour you change at most {most} records; wait, or have an engineer import them from a file."
            ))),
        }
    }

    fn take_at(&self, who: &str, (records, most): (u64, u64), now: Instant) -> bool {
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let (since, count) = used.touch(who.to_lowercase(), || (now, 0));
        if now.duration_since(*since) >= HOUR {
            (*since, *count) = (now, 0);
        }
        let fits = records <= most.saturating_sub(*count);
        *count += if fits { records } else { 0 };
        fits
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_changed_within_an_hour_is_bounded_for_each() {
        let (quota, now) = (Quota::default(), Instant::now());
        assert!(quota.take_at("desk", (9, 20), now) && quota.take_at("DESK", (11, 20), now));
        assert!(!quota.take_at("desk", (1, 20), now) && quota.take_at("desk", (0, 20), now));
        assert!(quota.take_at("harbour", (20, 20), now), "another has their own");
        assert!(!quota.take_at("ledger", (21, 20), now) && quota.take_at("ledger", (20, 20), now));
        assert!(quota.take_at("desk", (20, 20), now + HOUR));
    }
}
