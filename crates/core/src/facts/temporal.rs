//! Dates, moments and durations as the standard writes them (ISO 8601, RFC 3339), and the friendly way.

use jiff::SignedDuration;
use jiff::civil;
use jiff::tz::Offset;

use crate::facts::value::{DateTime, DayTime, Value, Zone};

/// Reads `2027-03-04T10:00:00`, perhaps with `Z`, an offset, or `@Europe/Oslo`. A bare day is none.
///
/// Seconds may have a fraction; a zone id is kept, so that calendar sums go by its clock.
pub fn parse_date_time(text: &str) -> Option<DateTime> {
    if !text.is_ascii() || text.len() < 16 || !matches!(text.as_bytes()[10], b'T' | b' ' | b't') {
        return None;
    }
    if let Some((local, zone)) = text.split_once('@') {
        let local: civil::DateTime = local.parse().ok()?;
        let zone = Zone::named(zone)?;
        return Some(DateTime::At(zone.moment_of(local)?, zone));
    }
    let (local, offset) = split_offset(text)?;
    let local: civil::DateTime = local.parse().ok()?;
    match offset {
        None => Some(DateTime::Local(local)),
        Some(seconds) => {
            let offset = Offset::from_seconds(seconds).ok()?;
            Some(DateTime::At(offset.to_timestamp(local).ok()?, Zone::Offset(offset)))
        }
    }
}

/// Splits off the offset, in seconds east.
fn split_offset(text: &str) -> Option<(&str, Option<i32>)> {
    if let Some(local) = text.strip_suffix(['Z', 'z']) {
        return Some((local, Some(0)));
    }
    let Some(at) = text[11..].rfind(['+', '-']).map(|at| at + 11) else { return Some((text, None)) };
    let (local, offset) = text.split_at(at);
    let digits: String = offset[1..].chars().filter(|c| *c != ':').collect();
    if !(digits.len() == 4 || digits.len() == 2) || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let hours: i32 = digits[..2].parse().ok()?;
    let minutes: i32 = if digits.len() == 4 { digits[2..].parse().ok()? } else { 0 };
    if hours > 18 || minutes > 59 {
        return None;
    }
    let seconds = (hours * 60 + minutes) * 60;
    Some((local, Some(if offset.starts_with('-') { -seconds } else { seconds })))
}

/// Reads `P1DT2H`, `P1Y2M`, `P1W`, or the friendly `14 days`, `1d 12h`.
pub fn parse_duration(text: &str) -> Option<Value<'static>> {
    let text = text.trim();
    let (negative, body) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    if let Some(iso) = body.strip_prefix('P') {
        return parse_iso_duration(iso, negative);
    }
    if let Some(months) = parse_months(body) {
        return Some(Value::Months(if negative { -months } else { months }));
    }
    let period =
        crate::facts::period::Period::parse(body).ok().filter(|read| body != "0" && !read.has_working_days())?;
    let exact = period.exact();
    Some(Value::Duration(if negative { -exact } else { exact }))
}

/// Reads `3 months`, `2 years 3 months`.
fn parse_months(body: &str) -> Option<i64> {
    let (mut rest, mut months) = (body.trim(), None::<i64>);
    while !rest.is_empty() {
        let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
        let (number, tail) = rest.split_at(digits);
        let tail = tail.trim_start();
        let letters = tail.len() - tail.trim_start_matches(|c: char| c.is_alphabetic()).len();
        let (unit, tail) = tail.split_at(letters);
        let factor = match unit {
            "y" | "year" | "years" => 12,
            "mo" | "month" | "months" => 1,
            _ => return None,
        };
        let amount = number.parse::<i64>().ok()?.checked_mul(factor)?;
        months = Some(months.unwrap_or(0).checked_add(amount)?);
        rest = tail.trim_start();
    }
    months
}

fn parse_iso_duration(body: &str, negative: bool) -> Option<Value<'static>> {
    let (days, times) = match body.split_once('T') {
        Some((_, "")) => return None,
        Some((days, times)) => (days, times),
        None => (body, ""),
    };
    if days.is_empty() && times.is_empty() {
        return None;
    }
    let (mut months, mut seconds, mut nanos, mut by_month, mut by_time) = (0_i64, 0_i64, 0_i64, false, false);
    let mut read = |part: &str, units: &[(char, i64, bool)]| -> Option<()> {
        let mut rest = part;
        let mut position = 0;
        while !rest.is_empty() {
            let end = rest.find(|c: char| !c.is_ascii_digit() && c != '.')?;
            let (number, tail) = rest.split_at(end);
            let unit = tail.chars().next()?;
            rest = &tail[unit.len_utf8()..];
            let place = units.iter().position(|one| one.0 == unit).filter(|place| *place >= position)?;
            position = place + 1;
            let (_, factor, is_month) = units[place];
            let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
            let amount: i64 = whole.parse().ok()?;
            if is_month {
                by_month = true;
                months = months.checked_add(amount.checked_mul(factor)?)?;
            } else {
                by_time = true;
                seconds = seconds.checked_add(amount.checked_mul(factor)?)?;
            }
            if !fraction.is_empty() || number.ends_with('.') {
                if unit != 'S' || fraction.is_empty() || fraction.len() > 9 {
                    return None;
                }
                nanos = format!("{fraction:0<9}").parse().ok()?;
            }
        }
        Some(())
    };
    read(days, &[('Y', 12, true), ('M', 1, true), ('W', 604_800, false), ('D', 86_400, false)])?;
    read(times, &[('H', 3600, false), ('M', 60, false), ('S', 1, false)])?;
    match (by_month, by_time) {
        (true, false) => Some(Value::Months(if negative { -months } else { months })),
        (false, true) => {
            let length = SignedDuration::from_secs(seconds).checked_add(SignedDuration::from_nanos(nanos))?;
            Some(Value::Duration(if negative { -length } else { length }))
        }
        // The standard has no duration of both kinds.
        (true, true) | (false, false) => None,
    }
}

/// Reads `10:00`, `10:00:00.5`, perhaps with `Z` or an offset.
pub(crate) fn parse_time(text: &str) -> Option<DayTime> {
    let text = text.strip_prefix('T').unwrap_or(text);
    if !text.is_ascii() || text.len() < 5 || text.as_bytes()[2] != b':' {
        return None;
    }
    let at = text[1..].find(['Z', 'z', '+', '-']).map_or(text.len(), |at| at + 1);
    let (local, _) = text.split_at(at);
    let time: civil::Time = local.parse().ok()?;
    let offset = if at == text.len() {
        None
    } else {
        // The rules for offsets are those of a moment.
        match parse_date_time(&format!("2000-01-01T{text}"))? {
            DateTime::At(_, Zone::Offset(offset)) => Some(offset),
            DateTime::At(_, Zone::Named(_)) | DateTime::Local(_) => None,
        }
    };
    Some(DayTime { time, offset })
}

/// Writes an exact duration as ISO 8601 has it, with days of 24 hours: `P1DT2H`.
pub fn show_duration(length: SignedDuration) -> String {
    let seconds = length.as_secs().unsigned_abs();
    let nanos = length.subsec_nanos().unsigned_abs();
    let (days, hours, minutes, rest) = (seconds / 86_400, seconds / 3600 % 24, seconds / 60 % 60, seconds % 60);
    let mut out = String::from(if length.is_negative() { "-P" } else { "P" });
    if days > 0 {
        out.push_str(&format!("{days}D"));
    }
    if days == 0 || !seconds.is_multiple_of(86_400) || nanos > 0 {
        out.push('T');
        for (amount, unit) in [(hours, 'H'), (minutes, 'M')] {
            if amount > 0 {
                out.push_str(&format!("{amount}{unit}"));
            }
        }
        let fraction = format!(".{nanos:09}");
        let fraction = fraction.trim_end_matches(['0', '.']);
        if rest > 0 || nanos > 0 || out.ends_with('T') {
            out.push_str(&format!("{rest}{fraction}S"));
        }
    }
    out
}

/// Writes a duration of years and months as ISO 8601 has it.
pub fn show_months(months: i64) -> String {
    let sign = if months < 0 { "-" } else { "" };
    match (months.unsigned_abs() / 12, months.unsigned_abs() % 12) {
        (0, months) => format!("{sign}P{months}M"),
        (years, 0) => format!("{sign}P{years}Y"),
        (years, months) => format!("{sign}P{years}Y{months}M"),
    }
}

/// Reads what stands in `@"..."`: a day, a moment, or a duration.
pub(crate) fn parse_at_literal(text: &str) -> Option<Value<'static>> {
    if let Some(moment) = parse_date_time(text) {
        return Some(Value::DateTime(moment));
    }
    parse_day(text)
        .map(Value::Date)
        .or_else(|| parse_time(text).map(Value::Time))
        .or_else(|| (text.starts_with('P') || text.starts_with("-P")).then(|| parse_duration(text)).flatten())
}

/// Reads a calendar day, `2027-03-04`.
pub(crate) fn parse_day(text: &str) -> Option<civil::Date> {
    (text.len() == 10 && text.is_ascii()).then(|| text.parse().ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_of_both_kinds_and_ways() {
        let seconds = |text: &str| match parse_duration(text) {
            Some(Value::Duration(length)) => Some(length.as_secs()),
            _ => None,
        };
        assert_eq!(seconds("P14D"), Some(1_209_600));
        assert_eq!(seconds("P1W"), seconds("P7D"));
        assert_eq!(seconds("PT1H30M"), Some(5400));
        assert_eq!(seconds("-PT1S"), Some(-1));
        assert_eq!(seconds("14 days"), Some(1_209_600));
        assert!(matches!(parse_duration("P1Y2M"), Some(Value::Months(14))));
        for bad in ["P", "PT", "P1", "P1Y1D", "P1M1Y", "PT1.5H", "1", "", "P1DT"] {
            assert!(parse_duration(bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn durations_are_written_as_they_are_read() {
        for text in ["P1D", "P1DT2H", "PT0S", "PT1H30M", "-PT1S", "PT0.5S", "P14D", "PT1M0.000000001S"] {
            let Some(Value::Duration(length)) = parse_duration(text) else { panic!("{text}") };
            assert_eq!(show_duration(length), text);
        }
        assert_eq!((show_months(14), show_months(-24), show_months(0)), ("P1Y2M".into(), "-P2Y".into(), "P0M".into()));
    }

    #[test]
    fn moments_with_and_without_offset() {
        let at = |text: &str| parse_date_time(text).and_then(|moment| moment.moment()).map(|moment| moment.to_string());
        assert_eq!(at("2027-03-04T10:00:00+01:00").as_deref(), Some("2027-03-04T09:00:00Z"));
        assert_eq!(at("2027-03-04T10:00:00@Europe/Oslo").as_deref(), Some("2027-03-04T09:00:00Z"));
        assert_eq!(at("2027-03-04T10:00Z").as_deref(), Some("2027-03-04T10:00:00Z"));
        assert!(matches!(parse_date_time("2027-03-04T10:00:00"), Some(DateTime::Local(_))));
        for bad in [
            "2027-03-04",
            "2027-02-30T10:00:00Z",
            "2027-03-04T25:00:00Z",
            "2027-03-04T10:00:00@Nowhere",
            "2027-03-04T10:00:00+99:00",
        ] {
            assert!(parse_date_time(bad).is_none(), "{bad}");
        }
    }
}
