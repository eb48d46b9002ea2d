//! `corrections.toml`: facts set by hand.

use fencepost_core::Correction;
use jiff::tz::TimeZone;

use super::shape::{Key, Kind, Shape};
use super::table::{Reader, Table};

pub(super) static FILE: Shape = Shape::new(
    "corrections.toml",
    &[&[Key::new("correction", Kind::Tables(&CORRECTION), "A fact set by hand; it outranks every source.")]],
);
static CORRECTION: Shape = Shape::new(
    "[[correction]]",
    &[&[
        Key::new("device", Kind::Text, "The device."),
        Key::new("fact", Kind::Text, "The path of the fact."),
        Key::new("value", Kind::Scalar, "What it is."),
        Key::new("because", Kind::Text, "Why it is set by hand."),
        Key::new("by", Kind::Text, "Who says so."),
        Key::new("until", Kind::Moment, "Up to when; a day ends with the day."),
    ]],
)
.needs(&[&["device"], &["fact"], &["value"], &["because"], &["by"], &["until"]]);

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut Vec<Correction>) {
    for table in reader.tables(root, "correction") {
        if !reader.is_complete(&table, "a correction", "it says what, why, who says so, and until when") {
            continue;
        }
        let (device, fact) = (reader.string(&table, "device"), reader.string(&table, "fact"));
        let (because, by) = (reader.string(&table, "because"), reader.string(&table, "by"));
        let value = table.get("value").and_then(|value| reader.datum("value", value, "write value = \"...\""));
        // A day ends with the day.
        let until = reader.moment(&table, "until", zone).map(|(_, end)| end);
        if let (Some(device), Some(fact), Some(value), Some(because), Some(by), Some(until)) =
            (device, fact, value, because, by, until)
        {
            let place = Some(reader.span(table.heading()));
            into.push(Correction { device: device.as_str().into(), fact, value, because, by, until, place });
        }
    }
}
