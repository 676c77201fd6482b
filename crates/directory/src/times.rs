//! Moments as directories write them.

use std::time::{SystemTime, UNIX_EPOCH};

const DAY: i64 = 86_400;

/// Seconds since 1970.
pub(crate) fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs() as i64
}

/// How an attribute writes a moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Notation {
    /// GeneralizedTime in UTC (RFC 4517 section 3.3.13), such as `20261126203000Z`.
    Generalized,
    /// Intervals of 100 ns since 1601 ([MS-DTYP] section 2.3.3); 0 and the largest number are no times.
    Intervals,
    /// Days since 1970; -1 is none.
    Days,
    /// Seconds since 1970; 0 and the largest numbers are none.
    Seconds,
}

impl Notation {
    /// The moment, in seconds since 1970; none where it is none.
    pub(crate) fn read(self, text: &str) -> Option<i64> {
        let number = || text.trim().parse::<i64>().ok();
        match self {
            Self::Generalized => generalized(text),
            Self::Intervals => intervals(number()?),
            Self::Days => number().filter(|days| (0..1_000_000).contains(days)).map(|days| days * DAY),
            Self::Seconds => number().filter(|seconds| (1..i64::from(i32::MAX)).contains(seconds)),
        }
    }
}

/// None where it is none, or the one of a lock that has no end.
fn generalized(text: &str) -> Option<i64> {
    let time = text.get(..14).filter(|_| text.ends_with('Z'))?;
    let read = jiff::civil::DateTime::strptime("%Y%m%d%H%M%S", time).ok()?;
    let at = read.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second();
    (at >= 0).then_some(at)
}

fn intervals(intervals: i64) -> Option<i64> {
    (intervals > 0 && intervals != i64::MAX).then(|| intervals / 10_000_000 - 11_644_473_600)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn moments_are_read_in_every_notation() {
        for (notation, text, at) in [
            (Notation::Generalized, "20240101000001Z", Some(1_704_067_201)),
            (Notation::Generalized, "20240101000001.25Z", Some(1_704_067_201)),
            (Notation::Generalized, "000001010000Z", None),
            (Notation::Generalized, "20241301000001Z", None),
            (Notation::Generalized, "20240101000001", None),
            (Notation::Generalized, "äääääääääZ", None),
            (Notation::Intervals, "133800000000000000", Some(1_735_526_400)),
            (Notation::Intervals, "9223372036854775807", None),
            (Notation::Intervals, "0", None),
            (Notation::Days, "0", Some(0)),
            (Notation::Days, "20000", Some(1_728_000_000)),
            (Notation::Days, "-1", None),
            (Notation::Seconds, "1735526400", Some(1_735_526_400)),
            (Notation::Seconds, "0", None),
            (Notation::Seconds, "9223372036854775807", None),
        ] {
            assert_eq!(notation.read(text), at, "{notation:?} {text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_a_moment_or_none(text: String, number: i64) {
            for notation in [Notation::Generalized, Notation::Intervals, Notation::Days, Notation::Seconds] {
                notation.read(&text);
                notation.read(&number.to_string());
            }
        }
    }
}
