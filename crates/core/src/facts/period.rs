//! Lengths of time as people write them in workspace files: `3d`, `36h`, `1w`, `90min`, `1d 12h`.
//!
//! Days and weeks are calendar days when added to a moment in a zone: `3d` keeps the wall-clock time
//! across a change of summer time, `72h` does not. Where no zone is at hand a day is 24 hours.

use std::fmt;

use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Span, Timestamp};

/// A length of time: whole days, then an exact rest. Never negative.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Period {
    days: i32,
    seconds: i64,
}

/// No period may be longer than this many days, so that no clock leaves the calendar.
const MAX_DAYS: i64 = 36_500;

impl Period {
    /// The empty period: due at once.
    pub const ZERO: Self = Self { days: 0, seconds: 0 };

    /// Creates a period of calendar days.
    pub const fn days(days: i32) -> Self {
        Self { days, seconds: 0 }
    }

    /// Returns whether the period is empty.
    pub fn is_zero(self) -> bool {
        self == Self::ZERO
    }

    /// Reads `0`, `3d`, `36h`, `1w`, `90min`, `30s` or a sum of these.
    ///
    /// # Errors
    /// Says in words what is wrong and what may be written.
    pub fn parse(text: &str) -> Result<Self, String> {
        let forms = "write a number and w, d, h, min or s, such as \"3d\" or \"36h\"";
        let mut rest = text.trim();
        if rest == "0" {
            return Ok(Self::ZERO);
        }
        if rest.is_empty() {
            return Err(format!("an empty length of time; {forms}"));
        }
        if rest.contains("working") {
            return Err(format!("working days cannot be counted yet; {forms}"));
        }
        let (mut days, mut seconds) = (0_i64, 0_i64);
        while !rest.is_empty() {
            let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
            let (number, tail) = rest.split_at(digits);
            let tail = tail.trim_start();
            let letters = tail.len() - tail.trim_start_matches(|c: char| c.is_alphabetic()).len();
            let (unit, tail) = tail.split_at(letters);
            rest = tail.trim_start();
            let amount: i64 = number.parse().map_err(|_| format!("`{text}` is not a length of time; {forms}"))?;
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
        if days.saturating_add(seconds / 86_400) > MAX_DAYS {
            return Err(format!("`{text}` is longer than a hundred years"));
        }
        let days = i32::try_from(days).map_err(|_| format!("`{text}` is too long"))?;
        Ok(Self { days, seconds })
    }

    /// Returns the moment this much after `from`, days by the calendar of `zone`.
    ///
    /// In a gap of the clock the later moment is taken, in an overlap the first. A result outside
    /// the calendar stays at its end.
    pub fn after(self, from: Timestamp, zone: &TimeZone) -> Timestamp {
        let by_days = if self.days == 0 {
            Ok(from)
        } else {
            zone.to_datetime(from).checked_add(Span::new().days(self.days)).and_then(|wall| {
                let ambiguous = zone.to_ambiguous_timestamp(wall);
                match ambiguous.offset() {
                    // In an overlap the offset of `from` is kept by nobody's expectation: the first is taken.
                    AmbiguousOffset::Fold { before, .. } => before.to_timestamp(wall),
                    AmbiguousOffset::Gap { .. } | AmbiguousOffset::Unambiguous { .. } => ambiguous.compatible(),
                }
            })
        };
        by_days.and_then(|moment| moment.checked_add(SignedDuration::from_secs(self.seconds))).unwrap_or(Timestamp::MAX)
    }

    /// Returns the length with days of 24 hours.
    pub fn exact(self) -> SignedDuration {
        SignedDuration::from_secs(i64::from(self.days) * 86_400 + self.seconds)
    }
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_zero() {
            return f.write_str("0");
        }
        let parts = [
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
        for bad in ["", "3", "d", "-3d", "3x", "3m", "2 working days", "99999999999999999999d", "400000d"] {
            assert!(Period::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn calendar_days_keep_the_wall_clock_and_hours_do_not() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        // Summer time starts on 2027-03-28 at 02:00 local.
        let from = moment("2027-03-27T09:00:00Z");
        assert_eq!(Period::parse("1d").unwrap().after(from, &oslo), moment("2027-03-28T08:00:00Z"));
        assert_eq!(Period::parse("24h").unwrap().after(from, &oslo), moment("2027-03-28T09:00:00Z"));
    }

    #[test]
    fn a_gap_gives_the_later_moment_and_an_overlap_the_first() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        // 02:30 does not exist on the 28th of March, and stands twice on the 31st of October.
        assert_eq!(Period::days(1).after(moment("2027-03-27T01:30:00Z"), &oslo), moment("2027-03-28T01:30:00Z"));
        assert_eq!(Period::days(1).after(moment("2027-10-30T00:30:00Z"), &oslo), moment("2027-10-31T00:30:00Z"));
    }

    #[test]
    fn spans_are_said_with_two_units() {
        for (seconds, said) in [(12, "12 s"), (1500, "25 min"), (3600, "1 h"), (100_800, "1 d 4 h"), (172_800, "2 d")] {
            assert_eq!(show_span(SignedDuration::from_secs(seconds)), said);
        }
    }
}
