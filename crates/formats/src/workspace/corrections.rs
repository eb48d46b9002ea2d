//! `corrections.toml`: facts set by hand.

use fencepost_core::Correction;
use jiff::tz::TimeZone;

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "corrections.toml",
    &[&[TableKey::new("correction", KeyKind::Tables(&CORRECTION), "A fact set by hand; it outranks every source.")]],
);
static CORRECTION: TableShape = TableShape::new(
    "[[correction]]",
    &[&[
        TableKey::new("device", KeyKind::Text, "The device."),
        TableKey::new("fact", KeyKind::Text, "The path of the fact."),
        TableKey::new("value", KeyKind::Scalar, "What it is."),
        TableKey::new("because", KeyKind::Text, "Why it is set by hand."),
        TableKey::new("by", KeyKind::Text, "Who says so."),
        TableKey::new("until", KeyKind::Moment, "Up to when; a day ends with the day."),
    ]],
)
.needs(&[&["device"], &["fact"], &["value"], &["because"], &["by"], &["until"]]);

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut Vec<Correction>) {
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
