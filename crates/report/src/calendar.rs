//! Calendars (iCalendar, RFC 5545): due moments, and what ends. Each event keeps its id, so that a new file updates the old one; what no
//! longer holds stays for a while as cancelled.

use fencepost_core::harmless;
use fencepost_engine::{CalendarEvent, CalendarMoment, CalendarReport};
use icalendar::{Calendar, Component, Event, EventStatus, Property};
use jiff::Timestamp;
use jiff::tz::{Offset, TimeZone};
use uuid::Uuid;

use crate::ReportStyle;

/// Writes a calendar.
pub fn calendar(report: &CalendarReport, style: &ReportStyle) -> String {
    let zone = &style.dates.zone;
    let name = zone.iana_name().filter(|name| *name != "UTC" && *name != "Etc/UTC");
    let mut calendar = Calendar::empty();
    calendar.append_property(("VERSION", "2.0")).append_property(("CALSCALE", "GREGORIAN"));
    calendar.name(&harmless(&style.name)).append_property(("PRODID", "-//Fence Post//Fence Post//EN"));
    if let Some(name) = name {
        calendar.append_property(("X-WR-TIMEZONE", name));
    }
    let namespace = Uuid::new_v5(&Uuid::NAMESPACE_URL, format!("fencepost:{}", style.name).as_bytes());
    for event in &report.events {
        calendar.push(self::event(event, report, &Naming { namespace, zone, name }));
    }
    let written = calendar.to_string();
    // The library gives every component an id by chance and the time of now, and a zone has neither.
    let described = name.map(|name| time_zone(name, zone, report)).unwrap_or_default();
    let at = ["BEGIN:VEVENT", "END:VCALENDAR"].iter().find_map(|begin| written.find(begin)).unwrap_or(written.len());
    format!("{}{described}{}", &written[..at], &written[at..])
}

/// How events are named and where their clock stands.
struct Naming<'n> {
    namespace: Uuid,
    zone: &'n TimeZone,
    /// The name of the zone; none of UTC.
    name: Option<&'n str>,
}

fn event(event: &CalendarEvent, report: &CalendarReport, naming: &Naming<'_>) -> Event {
    let mut made = Event::new();
    made.uid(&format!("{}@fencepost", Uuid::new_v5(&naming.namespace, event.key.as_bytes())));
    made.summary(&harmless(&event.summary));
    if !event.description.is_empty() {
        made.description(&event.description.iter().map(|line| harmless(line)).collect::<Vec<_>>().join("\n"));
    }
    made.sequence(u32::try_from(report.assessment).unwrap_or(0));
    made.add_property("DTSTAMP", utc(report.as_of));
    match event.moment {
        CalendarMoment::At(at) => match naming.name {
            Some(name) => {
                let local = naming.zone.to_datetime(at).strftime("%Y%m%dT%H%M%S").to_string();
                let mut start = Property::new("DTSTART", local);
                start.add_parameter("TZID", name);
                made.append_property(start.done());
            }
            None => {
                made.add_property("DTSTART", utc(at));
            }
        },
        CalendarMoment::Day(day) => {
            let mut start = Property::new("DTSTART", day.strftime("%Y%m%d").to_string());
            start.add_parameter("VALUE", "DATE");
            made.append_property(start.done());
        }
    }
    made.add_property("TRANSP", "TRANSPARENT");
    made.status(if event.is_cancelled { EventStatus::Cancelled } else { EventStatus::Confirmed });
    made.done()
}

fn utc(at: Timestamp) -> String {
    at.strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// Describes a zone by its offsets over the time that the events span.
fn time_zone(name: &str, zone: &TimeZone, report: &CalendarReport) -> String {
    let moments = || {
        report.events.iter().filter_map(|event| match event.moment {
            CalendarMoment::At(at) => Some(at),
            CalendarMoment::Day(_) => None,
        })
    };
    let first = moments().min().unwrap_or(report.as_of).min(report.as_of);
    let last = moments().max().unwrap_or(report.as_of).max(report.as_of);
    // What holds at the first event began with the change before it.
    let before = zone.preceding(first).next();
    let begin = before.as_ref().map_or(Timestamp::UNIX_EPOCH, |change| change.timestamp());
    let mut from = zone.to_offset(begin.checked_sub(jiff::SignedDuration::from_secs(1)).unwrap_or(begin));
    let changes = before.into_iter().chain(zone.following(first).take_while(|change| change.timestamp() <= last));
    let mut observances = String::new();
    for change in changes {
        observances.push_str(&observance(change.timestamp(), from, change.offset(), change.dst().is_dst()));
        from = change.offset();
    }
    if observances.is_empty() {
        let offset = zone.to_offset(first);
        observances = observance(Timestamp::UNIX_EPOCH, offset, offset, false);
    }
    format!("BEGIN:VTIMEZONE\r\nTZID:{name}\r\n{observances}END:VTIMEZONE\r\n")
}

fn observance(at: Timestamp, from: Offset, to: Offset, is_dst: bool) -> String {
    let kind = if is_dst { "DAYLIGHT" } else { "STANDARD" };
    let begin = from.to_datetime(at).strftime("%Y%m%dT%H%M%S").to_string();
    let (from, to) = (offset(from), offset(to));
    format!("BEGIN:{kind}\r\nDTSTART:{begin}\r\nTZOFFSETFROM:{from}\r\nTZOFFSETTO:{to}\r\nEND:{kind}\r\n")
}

/// `+0100`
fn offset(offset: Offset) -> String {
    let seconds = offset.seconds();
    let (sign, minutes) = (if seconds < 0 { '-' } else { '+' }, seconds.unsigned_abs() / 60);
    format!("{sign}{:02}{:02}", minutes / 60, minutes % 60)
}

#[cfg(test)]
mod tests {
    use fencepost_engine::DateLanguage;
    use icalendar::{CalendarComponent, CalendarDateTime, DatePerhapsTime};

    use super::*;
    use crate::dates::Dates;

    fn style(zone: &str) -> ReportStyle {
        let dates = Dates { zone: TimeZone::get(zone).unwrap(), language: DateLanguage::English };
        ReportStyle { name: "Test, fleet".to_owned(), logo: None, accent: None, dates }
    }

    fn report(assessment: i64, at: &[&str]) -> CalendarReport {
        let event = |at: &&str| CalendarEvent {
            key: format!("due\0{at}"),
            moment: CalendarMoment::At(at.parse().unwrap()),
            summary: "d1\r\nATTENDEE:x, y; z\u{202e}: locked due".to_owned(),
            description: vec!["Held by A\nB".to_owned()],
            is_cancelled: false,
        };
        let as_of = "2027-03-14T06:00:00Z".parse().unwrap();
        CalendarReport { as_of, assessment, events: at.iter().map(event).collect(), left_out: 0 }
    }

    #[test]
    fn hostile_text_makes_no_property_and_no_line() {
        let written = calendar(&report(3, &["2027-03-20T06:00:00Z"]), &style("Europe/Oslo"));
        let unfolded = written.replace("\r\n ", "");
        assert!(!unfolded.lines().any(|line| line.starts_with("ATTENDEE")), "{written}");
        assert!(unfolded.contains("SUMMARY:d1\\\\r\\\\nATTENDEE:x\\, y\\; z\\\\u{202e}: locked due"), "{unfolded}");
        assert!(unfolded.lines().all(|line| !line.contains('\u{202e}')));
        // Every line ends as the standard says.
        assert_eq!(written.matches('\n').count(), written.matches("\r\n").count());
    }

    #[test]
    fn clocks_are_right_on_both_sides_of_a_change() {
        let written = calendar(&report(3, &["2027-03-20T06:00:00Z", "2027-04-20T06:00:00Z"]), &style("Europe/Oslo"));
        assert!(written.contains("DTSTART;TZID=Europe/Oslo:20270320T070000\r\n"), "{written}");
        assert!(written.contains("DTSTART;TZID=Europe/Oslo:20270420T080000\r\n"), "{written}");
        assert!(written.contains(
            "BEGIN:DAYLIGHT\r\nDTSTART:20270328T020000\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0200\r\nEND:DAYLIGHT\r\n"
        ));
        let utc = calendar(&report(3, &["2027-03-20T06:00:00Z"]), &style("UTC"));
        assert!(utc.contains("DTSTART:20270320T060000Z\r\n") && !utc.contains("VTIMEZONE"), "{utc}");
    }

    #[test]
    fn ids_stay_and_sequence_numbers_grow() {
        let read = |assessment: i64| {
            let written = calendar(&report(assessment, &["2027-03-20T06:00:00Z"]), &style("Europe/Oslo"));
            let read: Calendar = written.parse().unwrap();
            let event = read.components.iter().find_map(CalendarComponent::as_event).unwrap().clone();
            assert!(matches!(
                event.get_start(),
                Some(DatePerhapsTime::DateTime(CalendarDateTime::WithTimezone { tzid, .. })) if tzid == "Europe/Oslo"
            ));
            (event.get_uid().unwrap().to_owned(), event.get_sequence().unwrap())
        };
        let (first, second) = (read(3), read(4));
        assert_eq!(first.0, second.0);
        assert!(first.1 < second.1);
    }
}
