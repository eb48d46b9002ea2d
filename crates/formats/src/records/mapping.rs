//! Turns a record of a source, as it comes, into a document of facts: one JSON object with `device` and
//! `collected_at`, or for people `id`.

use fencepost_core::{Conversion, Dictionary, FactType, parse_collected, parse_date_time};
use jiff::Timestamp;
use jiff::civil::{Date, DateTime as Civil};
use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use serde_json::{Map, Value as Json};

use super::{RecordError, RejectKind};
use crate::workspace::{Field, NameFrom, Source, SourceKind};

/// What mapping a record needs to know besides its source.
#[derive(Clone, Copy, Debug)]
pub struct Mapped<'m> {
    /// Declared types and units.
    pub dictionary: &'m Dictionary,
    /// The zone of times without an offset, where the source names none.
    pub zone: &'m TimeZone,
    /// When the file was last written, for sources whose records carry no time.
    pub file_time: Option<Timestamp>,
    /// The file's path, for sources whose devices are named by it.
    pub path: Option<&'m str>,
}

/// A record as it came: its members, and the paths that were given twice.
#[derive(Debug, Default)]
pub(crate) struct RawRecord {
    pub members: Map<String, Json>,
    pub doubled: Vec<String>,
}

impl From<Map<String, Json>> for RawRecord {
    fn from(members: Map<String, Json>) -> Self {
        Self { members, doubled: Vec::new() }
    }
}

impl Source {
    fn zone<'z>(&'z self, with: &Mapped<'z>) -> &'z TimeZone {
        self.time_zone.as_ref().unwrap_or(with.zone)
    }

    /// Reads a moment as this source writes it.
    fn moment(&self, text: &str, with: &Mapped<'_>) -> Option<Timestamp> {
        let Some(format) = &self.time_format else { return parse_collected(text, self.zone(with)) };
        let parts = jiff::fmt::strtime::parse(format, text.trim()).ok()?;
        // A year of two digits is none of four: `23.03.27` is not of the year 27.
        if format.contains("%Y") && parts.year().is_some_and(|year| !(1_000..=9_999).contains(&year)) {
            return None;
        }
        if let Ok(moment) = parts.to_timestamp() {
            return Some(moment);
        }
        let local = parts.to_datetime().or_else(|_| parts.to_date().map(Civil::from)).ok()?;
        self.zone(with).to_timestamp(local).ok()
    }
}

/// Maps one record, field by field, to a document.
///
/// # Errors
/// When the id or the time is missing or cannot be read.
pub(crate) fn map_record(record: RawRecord, source: &Source, with: &Mapped<'_>) -> Result<String, RecordError> {
    let RawRecord { members: mut record, doubled } = record;
    let twice = |name: &str| doubled.iter().any(|path| path == name);
    let id = match source.id_from {
        NameFrom::Field => {
            if twice(&source.id_field) {
                return Err(RecordError::unreadable(format!("`{}` is given twice", source.id_field)));
            }
            id_of(take(&mut record, &source.id_field), source)?
        }
        NameFrom::File | NameFrom::Folder => {
            with.path.and_then(|path| name_in_path(path, source.id_from)).ok_or_else(|| {
                RecordError::new(RejectKind::NoId, "the file has no name to take the device's from".to_owned())
            })?
        }
    };
    map_named(&id, record, &doubled, source, with).map_err(|error| RecordError { id: Some(id), ..error })
}

fn map_named(
    id: &str,
    mut record: Map<String, Json>,
    doubled: &[String],
    source: &Source,
    with: &Mapped<'_>,
) -> Result<String, RecordError> {
    let twice = |name: &str| doubled.iter().any(|path| path == name);
    let mut out = DocumentBuilder { text: String::from("{"), source, with };
    let id_key = match source.kind {
        SourceKind::People => "id",
        other => other.noun(),
    };
    out.member(id_key, &Json::from(id));
    if source.kind == SourceKind::State || source.kind.tells_moments() {
        if source.collected_field.as_deref().is_some_and(twice) {
            return Err(RecordError::unreadable(format!(
                "`{}` is given twice",
                source.collected_field.as_deref().unwrap_or("")
            )));
        }
        let collected = collected(&mut record, source, with)?;
        let time_key = if source.kind.tells_moments() { "at" } else { "collected_at" };
        out.member(time_key, &Json::String(collected.to_string()));
    }
    let mut sorted: Vec<&str> = doubled.iter().map(String::as_str).collect();
    sorted.sort_unstable();
    let below = |name: &str| {
        let prefix = format!("{name}.");
        let first_at_or_after = |wanted: &str| sorted.get(sorted.partition_point(|path| *path < wanted));
        first_at_or_after(name) == Some(&name)
            || first_at_or_after(&prefix).is_some_and(|path| path.starts_with(&prefix))
    };
    for (name, field) in &source.fields {
        if let Some(value) = take(&mut record, name)
            && !field.leave_out
        {
            // Given twice in the record, it is given twice in the document, and so of the wrong type.
            if below(name) {
                out.field(&field.fact, field, &value);
            }
            out.field(&field.fact, field, &value);
        }
    }
    // What is not mapped keeps its name, and takes the type that the dictionary declares for it.
    let plain = Field::of(String::new());
    let prefix = source.under.as_ref().map_or(String::new(), |under| format!("{under}."));
    if let Some(under) = &source.under {
        let (head, tail) = if out.text.len() > 1 { (",", "{") } else { ("", "{") };
        out.text.push_str(&format!("{head}{}:{tail}", Json::String(under.clone())));
    }
    for (name, value) in record {
        if source.under.is_none() && (name == id_key || name == "collected_at") {
            return Err(RecordError::unreadable(format!(
                "`{name}` is a field beside the one that the source takes it from; give it a fact of its own in [source.fields]"
            )));
        }
        let fact = format!("{prefix}{name}");
        for _ in 0..=usize::from(below(&name)) {
            out.typed(&name, &fact, &plain, &value);
        }
    }
    if source.under.is_some() {
        out.text.push('}');
    }
    out.text.push('}');
    Ok(out.text)
}

fn id_of(id: Option<Json>, source: &Source) -> Result<String, RecordError> {
    match id {
        Some(Json::String(text)) if !text.trim().is_empty() => Ok(text),
        Some(Json::Number(number)) => Ok(number.to_string()),
        Some(Json::String(_) | Json::Null) | None => Err(RecordError::new(
            RejectKind::NoId,
            format!("no `{}`: the record names no {}", source.id_field, source.kind.noun()),
        )),
        Some(_) => Err(RecordError::new(RejectKind::NoId, format!("`{}` is not a text", source.id_field))),
    }
}

/// Returns the name of a file without its endings, or of the folder it lies in.
fn name_in_path(path: &str, from: NameFrom) -> Option<String> {
    let mut parts = path.rsplit(['/', '\\']);
    let file = parts.next()?;
    let name = match from {
        NameFrom::Field => return None,
        NameFrom::Folder => parts.next()?,
        NameFrom::File => {
            let unpacked = file.strip_suffix(".gz").or_else(|| file.strip_suffix(".zst")).unwrap_or(file);
            unpacked.rsplit_once('.').map_or(unpacked, |(stem, _)| stem)
        }
    };
    (!name.is_empty() && !name.starts_with('.')).then(|| name.to_owned())
}

fn collected(record: &mut Map<String, Json>, source: &Source, with: &Mapped<'_>) -> Result<Timestamp, RecordError> {
    let Some(field) = &source.collected_field else {
        return with.file_time.ok_or_else(|| {
            RecordError::new(
                RejectKind::NoTime,
                "neither the record nor the file says when it was collected".to_owned(),
            )
        });
    };
    let wanted = match &source.time_format {
        Some(format) => format!("it does not read as time_format = \"{format}\""),
        None => "write it as 2027-03-04T10:00:00+01:00, or say how it is written with time_format".to_owned(),
    };
    match take(record, field) {
        Some(Json::String(text)) => source
            .moment(&text, with)
            .or_else(|| since_1970(text.trim()))
            .ok_or_else(|| RecordError::new(RejectKind::NoTime, format!("`{field}` is no moment: {wanted}"))),
        Some(Json::Number(number)) => since_1970(&number.to_string()).ok_or_else(|| {
            RecordError::new(
                RejectKind::NoTime,
                format!("`{field}` is a number, and neither seconds nor milliseconds since 1970"),
            )
        }),
        Some(Json::Null) | None => Err(RecordError::new(
            RejectKind::NoTime,
            format!("no `{field}`: the record does not say when it was collected"),
        )),
        Some(_) => Err(RecordError::new(RejectKind::NoTime, format!("`{field}` is not a text"))),
    }
}

/// Reads seconds or milliseconds since 1970; only what lies between 2000 and 2100 is one or the other without doubt.
fn since_1970(text: &str) -> Option<Timestamp> {
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

/// Takes the value at a dotted path out of a record.
fn take(record: &mut Map<String, Json>, path: &str) -> Option<Json> {
    if let Some(value) = record.shift_remove(path) {
        return Some(value);
    }
    let (head, rest) = path.split_once('.')?;
    match record.get_mut(head)? {
        Json::Object(inner) => take(inner, rest),
        Json::Null | Json::Bool(_) | Json::Number(_) | Json::String(_) | Json::Array(_) => None,
    }
}

/// A document that grows member by member.
struct DocumentBuilder<'d> {
    text: String,
    source: &'d Source,
    with: &'d Mapped<'d>,
}

impl DocumentBuilder<'_> {
    fn key(&mut self, key: &str) {
        if !self.text.ends_with('{') {
            self.text.push(',');
        }
        self.text.push_str(&Json::from(key).to_string());
        self.text.push(':');
    }

    fn member(&mut self, key: &str, value: &Json) {
        self.key(key);
        self.text.push_str(&value.to_string());
    }

    fn field(&mut self, key: &str, field: &Field, value: &Json) {
        self.typed(key, &field.fact, field, value);
    }

    /// Adds a value under `key`, turned into what the dictionary declares for `fact` where it comes as a text.
    fn typed(&mut self, key: &str, fact: &str, field: &Field, value: &Json) {
        let declared = self.with.dictionary.facts.get(fact);
        let ty = declared.and_then(|declared| declared.ty);
        let conversion = match (&field.unit, declared.and_then(|declared| declared.unit.as_deref())) {
            (Some(from), Some(to)) => Conversion::between(from, to).ok(),
            (Some(_), None) | (None, _) => None,
        };
        let text = match value {
            Json::String(text) => text.trim(),
            Json::Number(number) => match (conversion, number.to_string().parse::<Decimal>()) {
                (Some(conversion), Ok(number)) => return self.number(key, conversion.apply(number), value),
                _ => return self.member(key, value),
            },
            Json::Null | Json::Bool(_) | Json::Array(_) | Json::Object(_) => return self.member(key, value),
        };
        let word = |words: &[String]| words.iter().any(|word| word.eq_ignore_ascii_case(text));
        if word(&field.true_when) || word(&field.false_when) {
            return self.member(key, &Json::Bool(word(&field.true_when)));
        }
        if conversion.is_some() || ty == Some(FactType::Number) {
            let number = text.parse::<Decimal>().ok();
            let number = number.and_then(|number| conversion.map_or(Some(number), |way| way.apply(number)));
            return self.number(key, number, value);
        }
        let read = match ty {
            Some(FactType::Boolean) if text.eq_ignore_ascii_case("true") => Some(Json::Bool(true)),
            Some(FactType::Boolean) if text.eq_ignore_ascii_case("false") => Some(Json::Bool(false)),
            // A moment that names its offset stands as it came.
            Some(FactType::Instant) if !matches!(parse_date_time(text), Some(fencepost_core::DateTime::At(..))) => {
                self.source.moment(text, self.with).map(|moment| Json::String(moment.to_string()))
            }
            Some(FactType::Date) => self
                .source
                .time_format
                .as_ref()
                .and_then(|format| Date::strptime(format, text).ok().map(|date| Json::String(date.to_string()))),
            _ => None,
        };
        self.member(key, &read.unwrap_or_else(|| value.clone()));
    }

    /// Adds a number with all its digits, or what came where it is none.
    fn number(&mut self, key: &str, number: Option<Decimal>, came: &Json) {
        match number {
            Some(number) => {
                self.key(key);
                self.text.push_str(&number.normalize().to_string());
            }
            None => self.member(key, came),
        }
    }
}
