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

#[cfg(test)]
mod tests {
    use super::*;

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
