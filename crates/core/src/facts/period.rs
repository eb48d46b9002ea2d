//! Lengths of time as people write them in workspace files: `3d`, `36h`, `1w`, `90min`, `1d 12h`, `2 working days`.
//!
//! Days and weeks are calendar days when added to a moment in a zone: `3d` keeps the wall-clock time
//! across a change of summer time, `72h` does not. Where no zone is at hand a day is 24 hours.

use std::collections::BTreeSet;
use std::fmt;

use jiff::civil::{Date, DateTime, Weekday};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Span, Timestamp, ToSpan};

/// A length of time: working days, then whole days, then an exact rest. Never negative.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Period {
    working_days: i32,
    days: i32,
    seconds: i64,
}

/// The zone in which days are counted, and the days on which people work.
#[derive(Clone, Debug)]
pub struct WorkCalendar {
    /// The zone.
    pub zone: TimeZone,
    /// The days of the week on which people work; Monday to Friday, where nothing else is said. Never empty.
    pub working_days: BTreeSet<DayOfWeek>,
    /// Days on which nobody works, whatever day of the week they are.
    pub holidays: BTreeSet<Date>,
}

/// A day of the week, from 1, Monday, to 7 (ISO 8601).
pub type DayOfWeek = i8;

impl WorkCalendar {
    /// The longest row of days off that is looked past.
    const MOST_DAYS_OFF: usize = 3_660;

    /// Creates the calendar of a zone in which people work from Monday to Friday.
    pub fn new(zone: TimeZone) -> Self {
        Self { zone, working_days: (1..=5).collect(), holidays: BTreeSet::new() }
    }

    /// Returns whether people work on a day.
    pub fn is_working(&self, day: Date) -> bool {
        self.working_days.contains(&day.weekday().to_monday_one_offset()) && !self.holidays.contains(&day)
    }

    /// Returns the first working day after a day; none where there is none for ten years.
    fn next_working(&self, day: Date) -> Option<Date> {
        day.series(1.day()).skip(1).take(Self::MOST_DAYS_OFF).find(|day| self.is_working(*day))
    }

    /// Returns the same time on the last working day before a day; none where there is none for ten years.
    fn previous_working(&self, wall: DateTime) -> Option<DateTime> {
        let mut earlier = wall.date().series((-1).day()).skip(1).take(Self::MOST_DAYS_OFF);
        earlier.find(|day| self.is_working(*day)).map(|day| day.to_datetime(wall.time()))
    }

    /// Returns the moment of a local time. In a gap of the clock the later moment is taken, in an overlap the first.
    fn moment(&self, wall: DateTime) -> Option<Timestamp> {
        let ambiguous = self.zone.to_ambiguous_timestamp(wall);
        match ambiguous.offset() {
            AmbiguousOffset::Fold { before, .. } => before.to_timestamp(wall).ok(),
            AmbiguousOffset::Gap { .. } | AmbiguousOffset::Unambiguous { .. } => ambiguous.compatible().ok(),
        }
    }

    /// Returns the local time some working days after a moment. On a day off it counts from the start of the next working day.
    fn after_working_days(&self, from: Timestamp, count: i32) -> Option<DateTime> {
        let mut wall = self.zone.to_datetime(from);
        if !self.is_working(wall.date()) {
            wall = self.next_working(wall.date())?.to_datetime(jiff::civil::Time::midnight());
        }
        let mut day = wall.date();
        for _ in 0..count {
            day = self.next_working(day)?;
        }
        Some(day.to_datetime(wall.time()))
    }
}

/// Returns the day of the week of a word: `mon` to `sun`.
pub fn day_of_week(word: &str) -> Option<DayOfWeek> {
    let words = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let at = words.iter().position(|known| *known == word)?;
    Some(Weekday::from_monday_zero_offset(i8::try_from(at).ok()?).ok()?.to_monday_one_offset())
}

/// No period may be longer than this many days, so that no clock leaves the calendar.
const MAX_DAYS: i64 = 36_500;

impl Period {
    /// The empty period: due at once.
    pub const ZERO: Self = Self { working_days: 0, days: 0, seconds: 0 };

    /// Creates a period of calendar days.
    pub const fn days(days: i32) -> Self {
        Self { working_days: 0, days, seconds: 0 }
    }

    /// Returns whether the period is empty.
    pub fn is_zero(self) -> bool {
        self == Self::ZERO
    }

    /// Returns whether it counts working days, and so hangs on a calendar.
    pub fn has_working_days(self) -> bool {
        self.working_days > 0
    }

    /// Reads `0`, `3d`, `36h`, `1w`, `90min`, `30s`, `2 working days` or a sum of these.
    ///
    /// # Errors
    /// Says in words what is wrong and what may be written.
    pub fn parse(text: &str) -> Result<Self, String> {
        let forms = "write a number and w, d, h, min, s or working days, such as \"3d\", \"36h\" or \"2 working days\"";
        let mut rest = text.trim();
        if rest == "0" {
            return Ok(Self::ZERO);
        }
        if rest.is_empty() {
            return Err(format!("an empty length of time; {forms}"));
        }
        let (mut working_days, mut days, mut seconds) = (0_i64, 0_i64, 0_i64);
        while !rest.is_empty() {
            let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
            let (number, tail) = rest.split_at(digits);
            let tail = tail.trim_start();
            let letters = tail.len() - tail.trim_start_matches(|c: char| c.is_alphabetic()).len();
            let (unit, tail) = tail.split_at(letters);
            rest = tail.trim_start();
            let of_work = if unit == "working" {
                let found = ["days", "day"].iter().find_map(|word| rest.strip_prefix(word));
                rest = found.ok_or_else(|| format!("`{text}` is not a length of time; {forms}"))?.trim_start();
                true
            } else {
                false
            };
            let amount: i64 = number.parse().map_err(|_| format!("`{text}` is not a length of time; {forms}"))?;
            if of_work {
                working_days = working_days.saturating_add(amount);
                continue;
            }
            let (in_days, in_seconds) = match unit {
                "w" | "week" | "weeks" => (7, 0),
                "d" | "day" | "days" => (1, 0),
                "h" | "hour" | "hours" => (0, 3600),
                "min" | "minute" | "minutes" => (0, 60),
                "s" | "second" | "seconds" => (0, 1),
                "m" => return Err(format!("`m` could be minutes or months in `{text}`; write min")),
                _ => return Err(format!("`{text}` is not a length of time; {forms}")),
            };
            days = days.saturating_add(amount.saturating_mul(in_days));
            seconds = seconds.saturating_add(amount.saturating_mul(in_seconds));
        }
        if days.saturating_add(working_days).saturating_add(seconds / 86_400) > MAX_DAYS {
            return Err(format!("`{text}` is longer than a hundred years"));
        }
        let small = |count: i64| i32::try_from(count).map_err(|_| format!("`{text}` is too long"));
        Ok(Self { working_days: small(working_days)?, days: small(days)?, seconds })
    }

    /// Returns the moment this much after `from`, days by the calendar.
    ///
    /// In a gap of the clock the later moment is taken, in an overlap the first. A result outside
    /// the calendar stays at its end.
    pub fn after(self, from: Timestamp, calendar: &WorkCalendar) -> Timestamp {
        let by_days = if self.days == 0 && self.working_days == 0 {
            Some(from)
        } else {
            let wall = match self.working_days {
                0 => Some(calendar.zone.to_datetime(from)),
                count => calendar.after_working_days(from, count),
            };
            let wall = wall.and_then(|wall| wall.checked_add(Span::new().days(self.days)).ok());
            wall.and_then(|wall| calendar.moment(wall))
        };
        let exact = SignedDuration::from_secs(self.seconds);
        by_days.and_then(|moment| moment.checked_add(exact).ok()).unwrap_or(Timestamp::MAX)
    }

    /// Returns the moment this much before `until`, days by the calendar: the same wall-clock time, working days earlier ones.
    pub fn before(self, until: Timestamp, calendar: &WorkCalendar) -> Timestamp {
        let by_days = if self.days == 0 && self.working_days == 0 {
            Some(until)
        } else {
            let wall = calendar.zone.to_datetime(until);
            let wall = (0..self.working_days).try_fold(wall, |wall, _| calendar.previous_working(wall));
            let wall = wall.and_then(|wall| wall.checked_sub(Span::new().days(self.days)).ok());
            wall.and_then(|wall| calendar.moment(wall))
        };
        let exact = SignedDuration::from_secs(self.seconds);
        by_days.and_then(|moment| moment.checked_sub(exact).ok()).unwrap_or(Timestamp::MIN)
    }

    /// Returns the moment this much after `from`, days of 24 hours; working days by the calendar.
    pub fn after_exactly(self, from: Timestamp, calendar: &WorkCalendar) -> Timestamp {
        match self.working_days {
            0 => from.checked_add(self.exact()).unwrap_or(Timestamp::MAX),
            _ => self.after(from, calendar),
        }
    }

    /// Returns the length with days of 24 hours, and weeks of five working days.
    pub fn exact(self) -> SignedDuration {
        let days = i64::from(self.days) + i64::from(self.working_days) * 7 / 5;
        SignedDuration::from_secs(days * 86_400 + self.seconds)
    }
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_zero() {
            return f.write_str("0");
        }
        let working = if self.working_days == 1 { " working day" } else { " working days" };
        let parts = [
            (i64::from(self.working_days), working),
            (i64::from(self.days), "d"),
            (self.seconds / 3600, "h"),
            (self.seconds / 60 % 60, "min"),
            (self.seconds % 60, "s"),
        ];
        let mut first = true;
        for (amount, unit) in parts.into_iter().filter(|(amount, _)| *amount != 0) {
            if !first {
                f.write_str(" ")?;
            }
            write!(f, "{amount}{unit}")?;
            first = false;
        }
        Ok(())
    }
}

/// Returns a length of time as people say it, with its two largest units: `1 d 4 h`, `25 min`, `12 s`.
pub fn show_span(length: SignedDuration) -> String {
    let seconds = length.as_secs().unsigned_abs();
    let (days, hours, minutes) = (seconds / 86_400, seconds / 3600 % 24, seconds / 60 % 60);
    match (days, hours, minutes) {
        (0, 0, 0) => format!("{seconds} s"),
        (0, 0, m) => format!("{m} min"),
        (0, h, 0) => format!("{h} h"),
        (0, h, m) => format!("{h} h {m} min"),
        (d, 0, _) => format!("{d} d"),
        (d, h, _) => format!("{d} d {h} h"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn moment(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn working_days_pass_over_days_off_and_holidays() {
        let mut calendar = WorkCalendar::new(TimeZone::get("Europe/Oslo").unwrap());
        calendar.holidays.insert(Date::constant(2027, 5, 17));
        let after = |text: &str, from: &str, calendar: &WorkCalendar| {
            Period::parse(text).unwrap().after(moment(from), calendar).to_string()
        };
        // Friday at noon; the Monday is a holiday.
        assert_eq!(after("1 working day", "2027-05-14T10:00:00Z", &calendar), "2027-05-18T10:00:00Z");
        assert_eq!(after("2 working days 3h", "2027-05-14T10:00:00Z", &calendar), "2027-05-19T13:00:00Z");
        // On a day off it counts from the start of the next working day, by the clock of the zone.
        assert_eq!(after("1 working day", "2027-05-15T10:00:00Z", &calendar), "2027-05-18T22:00:00Z");
        // Across the change of the clock the wall-clock time stays.
        assert_eq!(after("1 working day", "2027-03-26T10:00:00Z", &calendar), "2027-03-29T09:00:00Z");
        calendar.working_days = [7].into();
        assert_eq!(after("1 working day", "2027-05-14T10:00:00Z", &calendar), "2027-05-22T22:00:00Z");
        let every_day: BTreeSet<Date> = Date::constant(2027, 1, 1).series(1.day()).take(9_000).collect();
        let never = WorkCalendar { holidays: every_day, ..calendar };
        assert_eq!(
            Period::parse("1 working day").unwrap().after(moment("2027-05-14T10:00:00Z"), &never),
            Timestamp::MAX
        );
        assert_eq!(Period::parse("1 working day 2d").unwrap().to_string(), "1 working day 2d");
        assert_eq!(Period::parse("5working days").unwrap(), Period::parse("5 working days").unwrap());
        for bad in ["working days", "2 working", "2 working hours"] {
            assert!(Period::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn periods_are_read_and_shown() {
        for (text, shown) in [
            ("0", "0"),
            ("3d", "3d"),
            ("36h", "36h"),
            ("1w", "7d"),
            ("1d 12h", "1d 12h"),
            ("90min", "1h 30min"),
            ("2 days", "2d"),
        ] {
            assert_eq!(Period::parse(text).unwrap().to_string(), shown, "{text}");
        }
        for bad in ["", "3", "d", "-3d", "3x", "3m", "99999999999999999999d", "400000d"] {
            assert!(Period::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn calendar_days_keep_the_wall_clock_and_hours_do_not() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        // Summer time starts on 2027-03-28 at 02:00 local.
        let from = moment("2027-03-27T09:00:00Z");
        assert_eq!(
            Period::parse("1d").unwrap().after(from, &WorkCalendar::new(oslo.clone())),
            moment("2027-03-28T08:00:00Z")
        );
        assert_eq!(
            Period::parse("24h").unwrap().after(from, &WorkCalendar::new(oslo.clone())),
            moment("2027-03-28T09:00:00Z")
        );
    }

    #[test]
    fn a_gap_gives_the_later_moment_and_an_overlap_the_first() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        // 02:30 does not exist on the 28th of March, and stands twice on the 31st of October.
        assert_eq!(
            Period::days(1).after(moment("2027-03-27T01:30:00Z"), &WorkCalendar::new(oslo.clone())),
            moment("2027-03-28T01:30:00Z")
        );
        assert_eq!(
            Period::days(1).after(moment("2027-10-30T00:30:00Z"), &WorkCalendar::new(oslo.clone())),
            moment("2027-10-31T00:30:00Z")
        );
    }

    #[test]
    fn spans_are_said_with_two_units() {
        for (seconds, said) in [(12, "12 s"), (1500, "25 min"), (3600, "1 h"), (100_800, "1 d 4 h"), (172_800, "2 d")] {
            assert_eq!(show_span(SignedDuration::from_secs(seconds)), said);
        }
    }
}
