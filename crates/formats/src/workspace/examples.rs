//! `examples/*.toml`: what rules are to say of made-up devices, so that a rule set is tested as code is.

use fencepost_core::{Named, Span};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Map, Number, Value as Json};
use toml::de::DeValue;

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Table, TableReader, Value};

pub(super) static FILE: TableShape = TableShape::new(
    "a file of examples",
    &[&[TableKey::new("example", KeyKind::Tables(&EXAMPLE), "What a rule is to say of a made-up device.")]],
);
static EXAMPLE: TableShape = TableShape::new(
    "[[example]]",
    &[&[
        TableKey::new("title", KeyKind::Text, "What it shows."),
        TableKey::new("rule", KeyKind::Text, "The rule; a check as rule/check."),
        TableKey::new("facts", KeyKind::Facts, "What is known of the device, as in a document of state."),
        TableKey::new("expect", KeyKind::Word(outcomes), "What the rule is to say."),
        TableKey::new("device", KeyKind::Text, "What the device is called, where a group or an exception names it."),
        TableKey::new("as_of", KeyKind::Moment, "The moment at which it is judged."),
        TableKey::new(
            "collected_at",
            KeyKind::Moment,
            "When its state was collected; at the moment at which it is judged, where it is left out.",
        ),
    ]],
)
.needs(&[&["rule"], &["facts"], &["expect"]]);

/// What a rule is to say of a made-up device.
#[derive(Clone, Debug)]
pub struct Example {
    /// What it shows.
    pub title: Option<String>,
    /// The rule.
    pub rule: Named,
    /// What is known of the device.
    pub facts: Map<String, Json>,
    /// What the rule is to say: `pass`, `fail`, `unknown` or `not-applicable`.
    pub expect: Named,
    /// What the device is called.
    pub device: Option<String>,
    /// The moment at which it is judged.
    pub as_of: Option<Timestamp>,
    /// When its state was collected.
    pub collected_at: Option<Timestamp>,
    /// Where it stands.
    pub place: Span,
}

fn outcomes() -> Vec<&'static str> {
    vec!["pass", "fail", "unknown", "not-applicable"]
}

pub(super) fn all(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone) -> Vec<Example> {
    let mut found = Vec::new();
    for table in reader.tables(root, "example") {
        let help = "it says which rule, what is known of a device, and what the rule is to say of it";
        if !reader.is_complete(&table, "an example", help) {
            continue;
        }
        let place = reader.span(table.heading());
        let words = outcomes().into_iter().map(|word| (word, ())).collect::<Vec<_>>();
        let (rule, facts) = (reader.named(&table, "rule"), facts(reader, &table));
        let expect = reader.word(&table, "expect", &words).and_then(|()| reader.named(&table, "expect"));
        let as_of = reader.moment(&table, "as_of", zone).map(|(start, _)| start);
        let collected_at = reader.moment(&table, "collected_at", zone).map(|(start, _)| start);
        let (title, device) = (reader.string(&table, "title"), reader.string(&table, "device"));
        if let (Some(rule), Some(facts), Some(expect)) = (rule, facts, expect) {
            found.push(Example { title, rule, facts, expect, device, as_of, collected_at, place });
        }
    }
    found
}

fn facts(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<Map<String, Json>> {
    let value = table.get("facts")?;
    match json(value) {
        Ok(Json::Object(facts)) => Some(facts),
        Ok(_) => {
            let help = "write facts = { platform = \"linux\", \"os.version\" = \"24.04\" }";
            reader.error("wrong-type", "`facts` is a table of facts by their paths", value.span(), help);
            None
        }
        Err(range) => {
            let help = "write a number that has digits, or leave the fact out";
            reader.error("wrong-type", "no device reports this number", range, help);
            None
        }
    }
}

/// Returns a value as JSON, dates as texts; or the place of a number that JSON does not know.
fn json(value: &Value<'_>) -> Result<Json, std::ops::Range<usize>> {
    Ok(match value.get_ref() {
        DeValue::String(text) => Json::String(text.to_string()),
        DeValue::Boolean(truth) => Json::Bool(*truth),
        DeValue::Datetime(moment) => Json::String(moment.to_string()),
        DeValue::Integer(number) => {
            let parsed = i64::from_str_radix(&number.as_str().replace('_', ""), number.radix());
            Json::Number(parsed.map_err(|_| value.span())?.into())
        }
        DeValue::Float(number) => {
            let parsed = number.as_str().replace('_', "").parse().ok().and_then(Number::from_f64);
            Json::Number(parsed.ok_or_else(|| value.span())?)
        }
        DeValue::Array(items) => Json::Array(items.iter().map(json).collect::<Result<_, _>>()?),
        DeValue::Table(inner) => {
            let entries = inner.iter().map(|(key, value)| json(value).map(|json| (key.get_ref().to_string(), json)));
            Json::Object(entries.collect::<Result<_, _>>()?)
        }
    })
}
