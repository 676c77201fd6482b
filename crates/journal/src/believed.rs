use std::time::{Duration, Instant};

/// A clock that moves by more than this, while another does not, jumped.
const JUMP: i64 = 3_600;
/// For how long nothing is deleted for its age after a jump.
const DOUBTED_FOR: Duration = Duration::from_secs(24 * 3_600);

/// Whether the system's clock is believed, by another that only goes on and by when files were written last: what
/// was kept for years must not go for a clock that is wrong for a second.
#[derive(Debug)]
pub(crate) struct BelievedClock {
    /// What both clocks showed when they were looked at last; the system's in seconds since 1970.
    last: (i64, Instant),
    /// Since when it is doubted.
    doubted: Option<Instant>,
}

impl BelievedClock {
    /// At a start; `written` is when something was written last. After a long time of standing still, too, nobody
    /// knows whether it was so long.
    pub(crate) fn new(written: Option<i64>, (wall, steady): (i64, Instant)) -> Self {
        let jumped = written.is_some_and(|written| (wall - written).abs() > JUMP);
        Self { last: (wall, steady), doubted: jumped.then_some(steady) }
    }

    /// Whether it is believed, as far as was seen.
    pub(crate) fn is_believed(&self) -> bool {
        self.doubted.is_none()
    }

    /// Whether what the clock shows now is believed; tells whether it jumped since it was looked at last, and by how
    /// many seconds.
    pub(crate) fn look(&mut self, (wall, steady): (i64, Instant)) -> (bool, Option<i64>) {
        let passed = steady.duration_since(self.last.1).as_secs().cast_signed();
        let jump = wall.saturating_sub(self.last.0).saturating_sub(passed);
        self.last = (wall, steady);
        let jumped = jump.abs() > JUMP;
        if jumped {
            self.doubted = Some(steady);
        } else if self.doubted.is_some_and(|since| steady.duration_since(since) >= DOUBTED_FOR) {
            self.doubted = None;
        }
        (self.doubted.is_none(), jumped.then_some(jump))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOON: i64 = 1_796_126_400;
    const DAY: i64 = 86_400;

    #[test]
    fn a_clock_that_jumps_is_not_believed_for_a_day_and_one_that_goes_on_is() {
        let begun = Instant::now();
        let at = |seconds: i64| begun + Duration::from_secs(seconds.cast_unsigned());
        let mut clock = BelievedClock::new(Some(NOON - 60), (NOON, begun));
        assert_eq!(clock.look((NOON + 60, at(60))), (true, None));
        // A hundred days ahead, and back after three seconds.
        assert_eq!(clock.look((NOON + 100 * DAY + 63, at(63))), (false, Some(100 * DAY)));
        assert_eq!(clock.look((NOON + 66, at(66))), (false, Some(-100 * DAY)));
        assert_eq!(clock.look((NOON + DAY, at(DAY))), (false, None));
        assert_eq!(clock.look((NOON + DAY + 67, at(DAY + 67))), (true, None));
        // A machine that slept for an hour, and a clock that is set by seconds, are no jump.
        assert_eq!(clock.look((NOON + DAY + 3_600, at(DAY + 90))), (true, None));
    }

    #[test]
    fn a_start_after_a_long_time_or_with_files_of_the_future_believes_nothing_at_first() {
        let begun = Instant::now();
        for (written, believed) in
            [(None, true), (Some(NOON - 1_800), true), (Some(NOON - 100 * DAY), false), (Some(NOON + 100 * DAY), false)]
        {
            let mut clock = BelievedClock::new(written, (NOON, begun));
            assert_eq!(clock.look((NOON, begun)), (believed, None), "{written:?}");
        }
    }
}
