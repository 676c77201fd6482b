use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// What was fetched last, by the name of what it is for. What this node fetched,
/// not what somebody configured.
#[derive(Debug, Default)]
pub(crate) struct Fetched(Mutex<HashMap<String, Kept>>);

#[derive(Debug, Default)]
struct Kept {
    came: Option<Download>,
    /// What went wrong the last time, where it did.
    trouble: Option<String>,
}

/// Something that was fetched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Download {
    pub(crate) bytes: Vec<u8>,
    /// Seconds since 1970 until which it counts; without an end where none.
    pub(crate) until: Option<u64>,
}

impl Fetched {
    /// What was fetched before the start, each without an end.
    pub(crate) fn restored(before: Vec<(String, Vec<u8>)>) -> Self {
        let known = |bytes| Kept { came: Some(Download { bytes, until: None }), trouble: None };
        Self(Mutex::new(before.into_iter().map(|(name, bytes)| (name, known(bytes))).collect()))
    }

    /// What counts now, in seconds since 1970.
    pub(crate) fn current(&self, name: &str, now: u64) -> Option<Download> {
        self.lock().get(name)?.came.clone().filter(|came| !came.is_over(now))
    }

    /// What went wrong the last time.
    pub(crate) fn trouble(&self, name: &str) -> Option<String> {
        self.lock().get(name)?.trouble.clone()
    }

    /// Keeps what came; `true` where it is new. A failure leaves the old one.
    pub(crate) fn keep(&self, name: &str, came: Result<Download, String>) -> bool {
        let mut all = self.lock();
        let known = all.entry(name.to_owned()).or_default();
        match came {
            Ok(came) => {
                known.trouble = None;
                known.came.replace(came.clone()).is_none_or(|before| before != came)
            }
            Err(trouble) => {
                known.trouble = Some(trouble);
                false
            }
        }
    }

    /// Drops what is over; `true` where something was.
    pub(crate) fn drop_ended(&self, now: u64) -> bool {
        let mut dropped = false;
        for known in self.lock().values_mut() {
            dropped |= known.came.take_if(|came| came.is_over(now)).is_some();
        }
        dropped
    }

    /// When the first of them ends.
    pub(crate) fn first_end(&self) -> Option<u64> {
        self.lock().values().filter_map(|known| known.came.as_ref()?.until).min()
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<String, Kept>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Download {
    fn is_over(&self, now: u64) -> bool {
        self.until.is_some_and(|until| until < now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_counts_until_its_end_and_survives_a_failure() {
        let fetched = Fetched::default();
        let came = |bytes: &[u8], until| Ok(Download { bytes: bytes.to_vec(), until });
        assert!(fetched.keep("a", came(b"1", Some(10))) && !fetched.keep("a", came(b"1", Some(10))));
        assert!(fetched.keep("b", came(b"2", None)));
        assert!(!fetched.keep("a", Err("nobody answers".into())));
        assert_eq!(fetched.trouble("a").as_deref(), Some("nobody answers"));
        assert_eq!(fetched.current("a", 10).unwrap().bytes, b"1");
        assert_eq!((fetched.current("a", 11), fetched.first_end()), (None, Some(10)));
        assert!(!fetched.drop_ended(10) && fetched.drop_ended(11) && !fetched.drop_ended(12));
        assert!(fetched.current("b", u64::MAX).is_some());
    }
}
