//! `corrections.toml`: facts set by hand.

use fencepost_core::{Correction, Datum};
use jiff::tz::TimeZone;
use toml::de::DeValue;

use super::table::{Reader, Table};

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut Vec<Correction>) {
    reader.known_keys(root, "corrections.toml", &["correction"]);
    for table in reader.tables(root, "correction") {
        reader.known_keys(&table, "[[correction]]", &["device", "fact", "value", "because", "by", "until"]);
        let missing: Vec<&str> = ["device", "fact", "value", "because", "by", "until"]
            .into_iter()
            .filter(|key| table.get(key).is_none())
            .collect();
        if !missing.is_empty() {
            reader.error(
                "incomplete",
                format!("a correction needs {}", missing.join(", ")),
                table.heading(),
                "it says what, why, who says so, and until when",
            );
            continue;
        }
        let (device, fact) = (reader.string(&table, "device"), reader.string(&table, "fact"));
        let (because, by) = (reader.string(&table, "because"), reader.string(&table, "by"));
        let value = table.get("value").and_then(|value| match value.get_ref() {
            DeValue::String(text) => Some(Datum::Text(text.to_string())),
            DeValue::Boolean(truth) => Some(Datum::Boolean(*truth)),
            DeValue::Integer(number) => number.as_str().parse().ok().map(Datum::Number),
            DeValue::Float(number) => number.as_str().parse().ok().map(Datum::Number),
            DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
        });
        if value.is_none() {
            reader.error(
                "wrong-type",
                "`value` is a text, a number, or true or false",
                table.heading(),
                "write value = \"...\"",
            );
        }
        // A day ends with the day.
        let until = reader.moment(&table, "until", zone).map(|(_, end)| end);
        if let (Some(device), Some(fact), Some(value), Some(because), Some(by), Some(until)) =
            (device, fact, value, because, by, until)
        {
            into.push(Correction { device: device.as_str().into(), fact, value, because, by, until });
        }
    }
}
