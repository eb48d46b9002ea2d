//! `corrections.toml`: facts set by hand.

use fencepost_core::{Correction, Datum, Period, parse_collected};
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
        let until = table.get("until").and_then(|until| {
            let text = match until.get_ref() {
                DeValue::String(text) => text.to_string(),
                DeValue::Datetime(moment) => moment.to_string(),
                _ => String::new(),
            };
            // A day ends with the day.
            let moment = parse_collected(&text, zone);
            let moment = if text.len() == 10 { moment.map(|start| Period::days(1).after(start, zone)) } else { moment };
            if moment.is_none() {
                reader.error("bad-moment", "`until` is no day and no moment", until.span(), "write until = 2027-04-01");
            }
            moment
        });
        if let (Some(device), Some(fact), Some(value), Some(because), Some(by), Some(until)) =
            (device, fact, value, because, by, until)
        {
            into.push(Correction { device: device.as_str().into(), fact, value, because, by, until });
        }
    }
}
