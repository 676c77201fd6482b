/// A day in UTC, such as 2026-11-23, from seconds since 1970.
pub(crate) fn day(seconds: i64) -> String {
    // Days to a date by the calendar's cycle of 400 years, counted from 1 March.
    let days = seconds.div_euclid(86_400) + 719_468;
    let (era, day_of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    format!("{year:04}-{month:02}-{day:02}")
}

/// A span of time as people read it, from seconds: `45 s`, `7 min`, `2 h 5 min`, `3 d 4 h`.
pub(crate) fn span(seconds: u32) -> String {
    let (large, small, units) = match seconds {
        0..60 => return format!("{seconds} s"),
        60..3_600 => (seconds / 60, seconds % 60, ("min", "s")),
        3_600..86_400 => (seconds / 3_600, seconds % 3_600 / 60, ("h", "min")),
        _ => (seconds / 86_400, seconds % 86_400 / 3_600, ("d", "h")),
    };
    match small {
        0 => format!("{large} {}", units.0),
        _ => format!("{large} {} {small} {}", units.0, units.1),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_told_in_two_units_at_most() {
        let told = [0, 59, 60, 61, 3_600, 7_500, 86_400, 273_700, u32::MAX].map(span);
        let expected = ["0 s", "59 s", "1 min", "1 min 1 s", "1 h", "2 h 5 min", "1 d", "3 d 4 h", "49710 d 6 h"];
        assert_eq!(told, expected);
    }

    #[test]
    fn days_are_those_of_the_calendar() {
        for (seconds, told) in [
            (0, "1970-01-01"),
            (951_782_400, "2000-02-29"),
            (1_795_392_000, "2026-11-23"),
            (4_107_542_399, "2100-02-28"),
            (-1, "1969-12-31"),
        ] {
            assert_eq!(day(seconds), told);
        }
    }
}
