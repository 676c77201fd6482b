//! Hours of days of the week, by the clock of a time zone.

use jiff::Timestamp;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;

/// Minutes of a day.
const DAY: u16 = 24 * 60;

/// Hours of some days of the week.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Window {
    /// The first and the last day, Monday being 0. From a later one to an earlier one it goes over the
    /// end of the week.
    pub(crate) days: (u8, u8),
    /// Minutes from midnight: from the first on and before the last, of the next day where that is
    /// not later.
    pub(crate) minutes: (u16, u16),
}

/// The days of the week.
pub(crate) const DAYS: [(&str, Weekday); 7] = [
    ("Mon", Weekday::Monday),
    ("Tue", Weekday::Tuesday),
    ("Wed", Weekday::Wednesday),
    ("Thu", Weekday::Thursday),
    ("Fri", Weekday::Friday),
    ("Sat", Weekday::Saturday),
    ("Sun", Weekday::Sunday),
];

/// Every day, all day.
pub(crate) const ALWAYS: Window = Window { days: (0, 6), minutes: (0, DAY) };

/// Which day a word is, Monday being 0.
pub(crate) fn weekday(word: &str) -> Option<u8> {
    DAYS.iter().position(|(name, _)| *name == word).map(|place| place as u8)
}

/// `06:00-20:00`, as minutes from midnight.
pub(crate) fn hours(word: &str) -> Option<(u16, u16)> {
    let (from, to) = word.split_once('-')?;
    let (from, to) = (minute(from)?, minute(to)?);
    (from < DAY).then_some((from, to))
}

/// `06:00`, and `24:00` for the end of the day.
fn minute(text: &str) -> Option<u16> {
    let (hour, minute) = text.split_once(':')?;
    let digits = |text: &str| text.len() == 2 && text.bytes().all(|byte| byte.is_ascii_digit());
    if !digits(hour) || !digits(minute) {
        return None;
    }
    let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
    (minute < 60 && (hour < 24 || (hour == 24 && minute == 0))).then_some(hour * 60 + minute)
}

impl Window {
    /// Whether a clock that shows this day and minute is in it.
    fn shows(&self, day: u8, minute: u16) -> bool {
        let (from, to) = self.minutes;
        let before = (day + 6) % 7;
        match from < to {
            true => self.has_day(day) && (from..to).contains(&minute),
            // Over midnight: the evening belongs to its day, the morning to the day before.
            false => (self.has_day(day) && minute >= from) || (self.has_day(before) && minute < to),
        }
    }

    fn has_day(&self, day: u8) -> bool {
        let (first, last) = self.days;
        match first <= last {
            true => (first..=last).contains(&day),
            false => day >= first || day <= last,
        }
    }
}

/// The minutes of the week that a window holds, as ranges, first and last included; Monday's first is 0.
pub(crate) fn shown_in_week(window: &Window) -> impl Iterator<Item = (u128, u128)> {
    let (from, to) = (u128::from(window.minutes.0), u128::from(window.minutes.1));
    let day = u128::from(DAY);
    let days = (0..7u8).filter(|number| window.has_day(*number));
    days.flat_map(move |number| {
        let start = u128::from(number) * day;
        let next = u128::from((number + 1) % 7) * day;
        match from < to {
            true => [Some((start + from, start + to - 1)), None],
            false => [Some((start + from, start + day - 1)), to.checked_sub(1).map(|last| (next, next + last))],
        }
    })
    .flatten()
}

/// Whether a moment, in seconds since 1970, is in one of these by the clock of a zone. An hour that
/// comes twice counts twice.
pub(crate) fn holds(windows: &[Window], zone: &TimeZone, seconds: i64) -> bool {
    let Ok(moment) = Timestamp::from_second(seconds) else { return false };
    let clock = moment.to_zoned(zone.clone());
    let day = clock.weekday().to_monday_zero_offset() as u8;
    let minute = clock.hour() as u16 * 60 + clock.minute() as u16;
    windows.iter().any(|window| window.shows(day, minute))
}

/// A moment as it is written: `2026-12-01T06:00Z`, or with an offset in the place of `Z`; in seconds
/// since 1970.
pub(crate) fn instant(word: &str) -> Option<i64> {
    // Seconds may be left out.
    let whole = match word.find(['Z', '+']).or_else(|| word.rfind('-').filter(|at| *at > 10)) {
        Some(at) if at == 16 => format!("{}:00{}", &word[..at], &word[at..]),
        _ => word.to_owned(),
    };
    whole.parse::<Timestamp>().ok().map(Timestamp::as_second)
}

/// A moment, in seconds since 1970, as it is written.
pub(crate) fn show_instant(seconds: i64) -> String {
    let Ok(moment) = Timestamp::from_second(seconds) else { return seconds.to_string() };
    let shown = moment.to_string();
    match shown.strip_suffix(":00Z") {
        Some(whole) => format!("{whole}Z"),
        None => shown,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(days: &str, times: &str) -> Window {
        let days: Vec<_> = days.split("..").map(|day| weekday(day).unwrap()).collect();
        Window { days: (days[0], *days.last().unwrap()), minutes: hours(times).unwrap() }
    }

    #[test]
    fn hours_belong_to_the_day_on_which_they_begin() {
        let week = window("Mon..Fri", "06:00-20:00");
        assert!(week.shows(0, 360) && week.shows(4, 1_199) && !week.shows(4, 1_200) && !week.shows(5, 720));
        let night = window("Fri", "22:00-06:00");
        assert!(night.shows(4, 1_320) && night.shows(5, 359) && !night.shows(5, 360) && !night.shows(4, 300));
        let over_the_weekend = window("Sat..Mon", "00:00-24:00");
        assert!(over_the_weekend.shows(6, 5) && over_the_weekend.shows(0, 1_439) && !over_the_weekend.shows(1, 0));
        assert!(ALWAYS.shows(3, 0));
        for wrong in ["6:00-20:00", "06:00", "24:00-06:00", "06:60-07:00", "06:00-25:00", "-", "06:00-2x:00"] {
            assert_eq!(hours(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn clocks_go_by_the_zone_and_an_hour_that_comes_twice_counts_twice() {
        let zone = TimeZone::get("Europe/Lisbon").unwrap();
        let at = |text: &str| instant(text).unwrap();
        let morning = [window("Sun", "01:30-02:00")];
        // On 25 October 2026 clocks there go back from 02:00 to 01:00.
        assert!(holds(&morning, &zone, at("2026-10-25T00:30Z")));
        assert!(holds(&morning, &zone, at("2026-10-25T01:30Z")));
        assert!(!holds(&morning, &zone, at("2026-10-25T02:30Z")));
        // Summer time.
        assert!(holds(&[window("Mon", "07:00-08:00")], &zone, at("2026-07-06T06:30Z")));
    }

    #[test]
    fn moments_are_read_and_shown_as_they_are_written() {
        assert_eq!(instant("2026-12-01T06:00Z"), Some(1_796_104_800));
        assert_eq!(instant("2026-12-01T07:00+01:00"), Some(1_796_104_800));
        assert_eq!(instant("2026-12-01T05:00:00-01:00"), Some(1_796_104_800));
        assert_eq!(show_instant(1_796_104_800), "2026-12-01T06:00Z");
        assert_eq!(show_instant(1_796_104_801), "2026-12-01T06:00:01Z");
        for wrong in ["2026-12-01", "2026-12-01T06:00", "tomorrow", "", "2026-13-01T06:00Z"] {
            assert_eq!(instant(wrong), None, "{wrong}");
        }
    }
}
