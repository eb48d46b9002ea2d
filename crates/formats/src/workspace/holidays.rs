//! Days on which nobody works, from an iCalendar file (RFC 5545): the days of its all-day events, those that come back every year
//! among them.

use std::collections::BTreeSet;

use icalendar::parser::{Component, read_calendar, unfold};
use jiff::ToSpan;
use jiff::civil::Date;

/// The years for which events that come back every year are written out.
const YEARS: std::ops::Range<i16> = 1970..2100;
/// The longest event that is taken for days off.
const MOST_DAYS: usize = 60;

/// Returns the days that a calendar names, and what of it could not be read.
///
/// # Errors
/// Fails if it is no calendar.
pub(super) fn days_of(text: &str) -> Result<(BTreeSet<Date>, Vec<String>), String> {
    let unfolded = unfold(text);
    let calendar = read_calendar(&unfolded).map_err(|_| {
        "it is no iCalendar file: it begins with BEGIN:VCALENDAR and has an event for each day".to_owned()
    })?;
    let (mut days, mut unread) = (BTreeSet::new(), Vec::new());
    for event in calendar.components.iter().filter(|component| component.name == "VEVENT") {
        match days_of_event(event) {
            Ok(found) => days.extend(found),
            Err(why) => {
                let name = value(event, "SUMMARY").unwrap_or("an event without a name");
                unread.push(format!("{name}: {why}"));
            }
        }
    }
    Ok((days, unread))
}

fn value<'c>(event: &'c Component<'_>, name: &str) -> Option<&'c str> {
    event.find_prop(name).map(|property| property.val.as_str())
}

fn days_of_event(event: &Component<'_>) -> Result<Vec<Date>, String> {
    let start = value(event, "DTSTART").ok_or("it has no DTSTART")?;
    let first = date(start).ok_or_else(|| format!("`{start}` is not a whole day"))?;
    // The end is the first day that is no part of it.
    let end = match value(event, "DTEND") {
        Some(end) => date(end).filter(|end| *end > first).ok_or_else(|| format!("`{end}` is no end of whole days"))?,
        None => first.tomorrow().map_err(|_| "it is out of the calendar")?,
    };
    let length = first.series(1.day()).take_while(|day| *day < end).take(MOST_DAYS + 1).count();
    if length > MOST_DAYS {
        return Err(format!("it is longer than {MOST_DAYS} days"));
    }
    let firsts: Vec<Date> = match value(event, "RRULE") {
        None => vec![first],
        Some(rule) if is_plain_yearly(rule) => YEARS
            .filter(|year| *year >= first.year())
            // The 29th of February comes back in leap years alone.
            .filter_map(|year| Date::new(year, first.month(), first.day()).ok())
            .collect(),
        Some(rule) => return Err(format!("`{rule}` cannot be read; only FREQ=YEARLY can")),
    };
    Ok(firsts.into_iter().flat_map(|first| first.series(1.day()).take(length)).collect())
}

/// Whether a rule says no more than that something comes back every year on its day.
fn is_plain_yearly(rule: &str) -> bool {
    let mut parts = rule.split(';');
    parts.any(|part| part == "FREQ=YEARLY") && rule.split(';').all(|part| part == "FREQ=YEARLY" || part == "INTERVAL=1")
}

/// Reads a day as RFC 5545 writes it, `20270517`.
fn date(text: &str) -> Option<Date> {
    jiff::fmt::strtime::parse("%Y%m%d", text).ok()?.to_date().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn calendar(events: &str) -> String {
        format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{events}END:VCALENDAR\r\n")
    }

    fn event(lines: &[&str]) -> String {
        format!("BEGIN:VEVENT\r\n{}\r\nEND:VEVENT\r\n", lines.join("\r\n"))
    }

    #[test]
    fn whole_days_are_holidays_and_what_is_not_is_told() {
        let text = calendar(
            &(event(&["SUMMARY:Constitution", "DTSTART;VALUE=DATE:20270517"])
                + &event(&["SUMMARY:Yard", "DTSTART;VALUE=DATE:20270705", "DTEND;VALUE=DATE:20270708"])
                + &event(&["SUMMARY:New year", "DTSTART;VALUE=DATE:20270101", "RRULE:FREQ=YEARLY"])
                + &event(&["SUMMARY:Noon", "DTSTART:20270301T120000Z"])
                + &event(&["SUMMARY:Odd", "DTSTART;VALUE=DATE:20270302", "RRULE:FREQ=WEEKLY"])),
        );
        let (days, unread) = days_of(&text).unwrap();
        let has = |year, month, day| days.contains(&Date::constant(year, month, day));
        assert!(has(2027, 5, 17) && has(2027, 7, 5) && has(2027, 7, 7) && !has(2027, 7, 8));
        assert!(has(2027, 1, 1) && has(2031, 1, 1) && !has(2026, 1, 1));
        assert_eq!(unread.len(), 2, "{unread:?}");
        assert!(unread[0].starts_with("Noon") && unread[1].contains("FREQ=WEEKLY"));
        assert!(days_of("17 May").is_err());
    }
}
