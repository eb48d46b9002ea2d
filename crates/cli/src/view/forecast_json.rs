//! A forecast for machines: by day and kind, or an entry a row.

use std::cell::RefCell;
use std::iter::Peekable;

use fencepost_engine::{
    Forecast, ForecastAction, ForecastBy, ForecastCounts, ForecastDay, ForecastDecision, ForecastEntry, ForecastEvent,
    ForecastKind, Items,
};
use jiff::tz::TimeZone;
use serde::ser::{Error, Serialize, SerializeMap, SerializeSeq, Serializer};
use serde_json::{Value as Json, json};

use super::json::SCHEMA;

/// Columns of a forecast with an entry a row.
pub const COLUMNS: [&str; 21] = [
    "date",
    "at",
    "what",
    "device",
    "site",
    "person",
    "rule",
    "due",
    "fact",
    "source",
    "service",
    "client",
    "decision",
    "obligations",
    "step",
    "do",
    "to",
    "held",
    "kind",
    "id",
    "only_if_silent",
];

/// Returns what is told of an entry.
pub fn fields(entry: &ForecastEntry) -> Json {
    let mut fields = own_fields(entry);
    fields["only_if_silent"] = entry.only_if_silent.into();
    fields
}

fn own_fields(entry: &ForecastEntry) -> Json {
    let at = entry.at.to_string();
    let device = &entry.device;
    match &entry.what {
        ForecastEvent::Opening { rule, due } => {
            json!({ "device": device, "rule": rule, "at": at, "due": due.to_string() })
        }
        ForecastEvent::Closing { rule, because } => {
            json!({ "device": device, "rule": rule, "at": at, "because": because })
        }
        ForecastEvent::Due { rule } => json!({ "device": device, "rule": rule, "at": at }),
        ForecastEvent::Stale { fact, source } => json!({ "device": device, "fact": fact, "at": at, "source": source }),
        ForecastEvent::Losing(it) | ForecastEvent::Returning(it) => {
            let ForecastDecision { person, service, client, obligations, .. } = it;
            json!({
                "device": device, "person": person, "service": service, "client": client, "decision": it.effect(),
                "obligations": obligations, "at": at,
            })
        }
        ForecastEvent::Action(it) => {
            let ForecastAction { id, rule, step, deed, to, person, is_held } = it;
            json!({
                "action": id, "device": device, "person": person, "rule": rule, "step": step, "do": deed, "to": to,
                "held": is_held, "at": at,
            })
        }
        ForecastEvent::Ending(it) => {
            json!({ "at": at, "kind": it.kind.as_str(), "id": it.id, "device": device, "rule": it.rule })
        }
    }
}

/// Returns an entry as a flat row.
pub fn row(entry: &ForecastEntry, zone: &TimeZone) -> Json {
    let mut row = json!({
        "schema": SCHEMA, "date": zone.to_datetime(entry.at).date().to_string(), "what": entry.what.kind().as_str(),
        "site": entry.site, "person": entry.people.join(", "),
    });
    if let (Json::Object(fields), Some(row)) = (fields(entry), row.as_object_mut()) {
        for (key, value) in fields.into_iter().filter(|(key, value)| key != "person" || !value.is_null()) {
            let value = match value {
                Json::Array(texts) => texts.iter().filter_map(Json::as_str).collect::<Vec<_>>().join(", ").into(),
                one => one,
            };
            row.insert(key, value);
        }
    }
    row
}

/// Returns counts by something, a row for each.
pub fn counted_row(by: ForecastBy, key: Option<&str>, counts: &ForecastCounts) -> Json {
    let mut row = json!({ "schema": SCHEMA, (column(by)): key });
    for kind in ForecastKind::ALL {
        row[kind.as_str()] = counts.of(kind).into();
    }
    row
}

/// Returns what the column is called by which entries are counted.
pub fn column(by: ForecastBy) -> &'static str {
    match by {
        ForecastBy::Site => "site",
        ForecastBy::Person => "person",
        ForecastBy::Service => "service",
    }
}

/// A forecast as one document, whose entries are written as they are read.
pub struct ForecastJson<'f> {
    pub forecast: &'f Forecast,
    pub zone: &'f TimeZone,
}

type Entries<'f> = RefCell<Peekable<Items<'f, ForecastEntry>>>;

impl Serialize for ForecastJson<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut document = serializer.serialize_map(None)?;
        document.serialize_entry("schema", &SCHEMA)?;
        document.serialize_entry("as_of", &self.forecast.as_of.to_string())?;
        document.serialize_entry("until", &self.forecast.until.to_string())?;
        document.serialize_entry("looked_at_daily", &self.forecast.unsteady)?;
        let entries = RefCell::new(self.forecast.entries.iter().peekable());
        document.serialize_entry("days", &Days { json: self, entries: &entries })?;
        document.end()
    }
}

struct Days<'d, 'f> {
    json: &'d ForecastJson<'f>,
    entries: &'d Entries<'f>,
}

impl Serialize for Days<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut days = serializer.serialize_seq(None)?;
        for day in &self.json.forecast.days {
            days.serialize_element(&Day { json: self.json, entries: self.entries, day })?;
        }
        days.end()
    }
}

struct Day<'d, 'f> {
    json: &'d ForecastJson<'f>,
    entries: &'d Entries<'f>,
    day: &'d ForecastDay,
}

impl Serialize for Day<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut day = serializer.serialize_map(None)?;
        day.serialize_entry("date", &self.day.date.to_string())?;
        for kind in ForecastKind::ALL {
            day.serialize_entry(kind.as_str(), &OfKind { day: self, kind })?;
        }
        day.end()
    }
}

/// The entries of a kind on a day, which come next.
struct OfKind<'k, 'd, 'f> {
    day: &'k Day<'d, 'f>,
    kind: ForecastKind,
}

impl Serialize for OfKind<'_, '_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        let mut entries = self.day.entries.borrow_mut();
        let is_own = |entry: &ForecastEntry| {
            entry.what.kind() == self.kind && self.day.json.zone.to_datetime(entry.at).date() == self.day.day.date
        };
        while let Some(entry) = entries.next_if(|entry| entry.as_ref().map_or(true, is_own)) {
            list.serialize_element(&fields(&entry.map_err(S::Error::custom)?))?;
        }
        list.end()
    }
}
