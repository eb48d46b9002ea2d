//! Moments as exports write them.

use fencepost_core::{DateTime, parse_collected, parse_date_time};
use jiff::Timestamp;
use jiff::civil::DateTime as Civil;
use jiff::fmt::strtime::{self, BrokenDownTime};
use jiff::tz::TimeZone;

use super::Mapped;
use crate::workspace::{Format, Source};

/// How moments are written.
pub(super) struct MomentFormat<'m> {
    pub format: Option<&'m str>,
    pub zone: &'m TimeZone,
    /// They may be typed cells of a workbook.
    pub of_workbook: bool,
}

impl MomentFormat<'_> {
    /// Reads a moment; whatever the format, RFC 3339 is read too.
    pub fn read(&self, text: &str) -> Option<Timestamp> {
        let Some(format) = self.format else { return parse_collected(text, self.zone) };
        let by_format = parsed(format, text).and_then(|parts| moment_of(&parts, self.zone));
        by_format.or_else(|| match parse_date_time(text.trim()) {
            Some(DateTime::At(moment, _)) => Some(moment),
            // Cells of a workbook that are moments are written without an offset.
            _ if self.of_workbook => parse_collected(text.trim(), self.zone),
            _ => None,
        })
    }
}

/// Returns the moment of a time; one without an offset is in a zone, and a day is its first moment there.
fn moment_of(parts: &BrokenDownTime, zone: &TimeZone) -> Option<Timestamp> {
    if let Ok(moment) = parts.to_timestamp() {
        return Some(moment);
    }
    let local = parts.to_datetime().or_else(|_| parts.to_date().map(Civil::from)).ok()?;
    zone.to_timestamp(local).ok()
}

/// Finds the date in the name of a file, by a pattern: its first moment in a zone.
pub(super) fn moment_in_name(pattern: &str, name: &str, zone: &TimeZone) -> Option<Timestamp> {
    let mut digit_before = false;
    for (at, symbol) in name.char_indices() {
        let starts = symbol.is_ascii_digit() && !digit_before || !symbol.is_ascii_digit();
        digit_before = symbol.is_ascii_digit();
        if !starts {
            continue;
        }
        let Ok((parts, length)) = BrokenDownTime::parse_prefix(pattern, &name[at..]) else { continue };
        let goes_on = name[at + length..].starts_with(|next: char| next.is_ascii_digit());
        if !goes_on
            && has_full_year(pattern, &parts)
            && let Some(moment) = moment_of(&parts, zone)
        {
            return Some(moment);
        }
    }
    None
}

/// Whether a year of four digits has them: `23.03.27` is not of the year 27.
fn has_full_year(format: &str, parts: &BrokenDownTime) -> bool {
    let is_of_four = |year: i16| (1_000..=9_999).contains(&year);
    !format.contains("%Y") || parts.year().is_none_or(is_of_four)
}

/// Reads a time by a pattern.
pub(super) fn parsed(format: &str, text: &str) -> Option<BrokenDownTime> {
    let parts = strtime::parse(format, text.trim()).ok()?;
    has_full_year(format, &parts).then_some(parts)
}

impl Source {
    /// Returns how its moments are written.
    pub(super) fn moments<'m>(&'m self, with: &Mapped<'m>) -> MomentFormat<'m> {
        MomentFormat {
            format: self.time_format.as_deref(),
            zone: self.time_zone.as_ref().unwrap_or(with.zone),
            of_workbook: self.format == Format::Workbook,
        }
    }
}

/// Reads seconds or milliseconds since 1970; only what lies between 2000 and 2100 is one or the other without doubt.
pub(super) fn since_1970(text: &str) -> Option<Timestamp> {
    let number: f64 = text.parse().ok()?;
    let years = 946_684_800.0..4_102_444_800.0;
    let seconds = if years.contains(&number) { number } else { number / 1000.0 };
    if !years.contains(&seconds) {
        return None;
    }
    // Milliseconds are exact in a double for the years meant here.
    #[expect(clippy::cast_possible_truncation, reason = "checked against the range above")]
    Timestamp::from_millisecond((seconds * 1000.0).round() as i64).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_date_in_a_files_name_is_found_anywhere_in_it() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let found = |pattern: &str, name: &str| moment_in_name(pattern, name, &oslo).map(|moment| moment.to_string());
        for (pattern, name) in [
            ("%Y-%m-%d", "hosts-2027-03-14.csv"),
            ("%Y-%m-%d", "7 hosts 2027-03-14 final.csv"),
            ("%d.%m.%Y", "14.03.2027_hosts.csv"),
            ("%Y%m%d", "hosts_20270314.csv"),
            ("%d%m%y", "x140327"),
        ] {
            assert_eq!(found(pattern, name).as_deref(), Some("2027-03-13T23:00:00Z"), "{name}");
        }
        assert_eq!(found("%Y-%m-%dT%H%M", "a2027-03-14T0610b").as_deref(), Some("2027-03-14T05:10:00Z"));
        for (pattern, name) in [
            ("%Y-%m-%d", "hosts.csv"),
            ("%Y-%m-%d", "hosts-27-03-14.csv"),
            ("%Y-%m-%d", "hosts-12027-03-14.csv"),
            ("%Y%m%d", "hosts-202703141.csv"),
            ("%Y-%m-%d", "2027-13-14"),
        ] {
            assert_eq!(found(pattern, name), None, "{name}");
        }
    }
}
