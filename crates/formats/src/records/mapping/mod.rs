//! Turns a record of a source, as it comes, into a document of facts: one JSON object with `device` and
//! `collected_at`, or for people `id`.

mod ids;
mod moments;
mod numbers;
mod row_groups;
#[cfg(test)]
mod tests;

use fencepost_core::{Dictionary, FactType, parse_date_time};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json};

use super::{RecordError, RejectKind};
use crate::workspace::{Field, ItemFields, NumberMarks, Source, SourceKind};
use ids::id_of;
pub(crate) use ids::{id_in_cells, id_of_key};
use moments::{MomentFormat, moment_in_name, parsed, since_1970};
use numbers::NumberReader;
pub(crate) use numbers::plain_number;
pub(crate) use row_groups::{MappedGroup, map_group};

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

impl Mapped<'_> {
    /// Takes the time of the file from its name, where the source says so.
    ///
    /// # Errors
    /// When there is no date in it.
    pub fn dated_by_name(self, source: &Source) -> Result<Self, String> {
        let Some(pattern) = &source.collected_from_name else { return Ok(self) };
        let name = self.path.and_then(|path| path.rsplit(['/', '\\']).next());
        let zone = source.time_zone.as_ref().unwrap_or(self.zone);
        match name.and_then(|name| moment_in_name(pattern, name, zone)) {
            Some(moment) => Ok(Self { file_time: Some(moment), ..self }),
            None => Err(format!(
                "there is no date like {pattern} in the file's name, from which [[source]] `{}` takes when it was collected",
                source.id
            )),
        }
    }
}

/// A record as it came: its members, and the paths that were given twice.
#[derive(Debug, Default)]
pub(crate) struct RawRecord {
    pub members: Map<String, Json>,
    pub doubled: Vec<String>,
    /// The key that it stands at, in an object of records.
    pub key: Option<String>,
}

impl From<Map<String, Json>> for RawRecord {
    fn from(members: Map<String, Json>) -> Self {
        Self { members, doubled: Vec::new(), key: None }
    }
}

/// A word that the table of its field does not have.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct UnknownWord {
    /// The field, as the export calls it.
    pub field: String,
    /// The word.
    pub word: String,
}

/// A fact of which the rows of a device say different things.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contradiction {
    /// The fact.
    pub fact: String,
    /// What two rows say.
    pub values: [String; 2],
}

/// What is odd in a record that was mapped.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RecordDoubts {
    /// Words that the tables of their fields do not have.
    pub unknown_words: Vec<UnknownWord>,
    /// Facts of which its rows say different things.
    pub contradictions: Vec<Contradiction>,
}

/// A record as a document, and what was odd on the way.
pub(crate) struct MappedRecord {
    pub document: String,
    pub doubts: RecordDoubts,
}

/// Maps one record, field by field, to a document.
///
/// # Errors
/// When the id or the time is missing or cannot be read.
pub(crate) fn map_record(record: RawRecord, source: &Source, with: &Mapped<'_>) -> Result<MappedRecord, RecordError> {
    let RawRecord { mut members, doubled, key } = record;
    let id = id_of(&mut members, key, &doubled, source, with)?;
    let mapped = (|| {
        let collected = match source.kind == SourceKind::State || source.kind.tells_moments() {
            true => Some(collected(&mut members, &doubled, source, with)?),
            false => None,
        };
        let parts = DocumentParts { id: &id, collected, members, doubled, items: None };
        document(parts, source, with)
    })();
    mapped.map_err(|error| RecordError { id: Some(id), ..error })
}

/// What a document is made of.
struct DocumentParts<'p> {
    id: &'p str,
    collected: Option<Timestamp>,
    /// Its members, without those that the id and the time were taken from.
    members: Map<String, Json>,
    /// Paths that were given twice.
    doubled: Vec<String>,
    /// A list that was made of rows.
    items: Option<RowItems<'p>>,
}

/// A list that was made of rows.
struct RowItems<'p> {
    fact: &'p str,
    fields: &'p [(String, Field)],
    /// The cells of each item, in the order of the fields.
    items: Vec<Vec<Option<Json>>>,
}

/// Writes a document, or says what must not be in it.
fn document(parts: DocumentParts<'_>, source: &Source, with: &Mapped<'_>) -> Result<MappedRecord, RecordError> {
    let DocumentParts { id, collected, members: mut record, doubled, items } = parts;
    let mut out = DocumentBuilder { text: String::from("{"), doubts: RecordDoubts::default(), source, with };
    let id_key = match source.kind {
        SourceKind::People => "id",
        other => other.noun(),
    };
    out.member(id_key, &Json::from(id));
    if let Some(collected) = collected {
        let time_key = if source.kind.tells_moments() { "at" } else { "collected_at" };
        out.member(time_key, &Json::String(collected.to_string()));
    }
    let doubled = Doubled::of(&doubled);
    for (name, field) in &source.fields {
        if let Some(value) = take_field(&mut record, name, field)
            && !field.leave_out
        {
            let items = source.items.iter().find(|list| list.path == *name);
            // Given twice in the record, it is given twice in the document, and so of the wrong type.
            for _ in 0..doubled.times(name) {
                match items {
                    Some(list) => {
                        out.key(&field.fact);
                        out.list_of_items(&field.fact, &value, list);
                    }
                    None => out.typed(&field.fact, Cell { name, fact: &field.fact, field, value: &value }),
                }
            }
        }
    }
    if let Some(items) = &items {
        out.row_items(items);
    }
    for list in &source.items {
        if let Some(value) = take(&mut record, &list.path) {
            let fact = list.fact.as_deref().unwrap_or(&list.path);
            for _ in 0..doubled.times(&list.path) {
                out.key(fact);
                out.list_of_items(fact, &value, list);
            }
        }
    }
    // Of a list of software nothing else is taken that no field names.
    if source.format.is_software_list() {
        record.retain(|name, _| name == "software");
    }
    if source.under.is_none()
        && let Some(name) = [id_key, "collected_at"].into_iter().find(|name| record.contains_key(*name))
    {
        return Err(RecordError::unreadable(format!(
            "`{name}` is a field beside the one that the source takes it from; give it a fact of its own in [source.fields]"
        )));
    }
    out.rest(record, &doubled);
    out.text.push('}');
    Ok(MappedRecord { document: out.text, doubts: out.doubts })
}

/// The paths that were given twice in a record.
struct Doubled<'d> {
    sorted: Vec<&'d str>,
}

impl<'d> Doubled<'d> {
    fn of(paths: &'d [String]) -> Self {
        let mut sorted: Vec<&str> = paths.iter().map(String::as_str).collect();
        sorted.sort_unstable();
        Self { sorted }
    }

    /// Returns how many times something is to be written: twice where it, or something below it, was given twice.
    fn times(&self, name: &str) -> usize {
        if self.sorted.is_empty() {
            return 1;
        }
        let prefix = format!("{name}.");
        let first_at_or_after = |wanted: &str| self.sorted.get(self.sorted.partition_point(|path| *path < wanted));
        let is_doubled = first_at_or_after(name) == Some(&name)
            || first_at_or_after(&prefix).is_some_and(|path| path.starts_with(&prefix));
        1 + usize::from(is_doubled)
    }
}

/// Takes the time of collection out of a record.
fn collected(
    record: &mut Map<String, Json>,
    doubled: &[String],
    source: &Source,
    with: &Mapped<'_>,
) -> Result<Timestamp, RecordError> {
    let no_time = |reason: String| RecordError::new(RejectKind::NoTime, reason);
    let Some(field) = &source.collected_field else {
        let reason = "neither the record nor the file says when it was collected";
        return with.file_time.ok_or_else(|| no_time(reason.to_owned()));
    };
    if doubled.iter().any(|path| path == field) {
        return Err(RecordError::unreadable(format!("`{field}` is given twice")));
    }
    let mut said = take(record, field);
    for further in &source.collected_further {
        let (Some(Json::String(text)), Some(Json::String(more))) = (&mut said, take(record, further)) else {
            let reason = format!("no `{field}` with `{further}`: the record does not say when it was collected");
            return Err(no_time(reason));
        };
        *text = format!("{} {}", text.trim(), more.trim());
    }
    match said {
        Some(Json::String(text)) => {
            source.moments(with).read(&text).or_else(|| since_1970(text.trim())).ok_or_else(|| {
                let wanted = match &source.time_format {
                    Some(format) => format!("it does not read as time_format = \"{format}\""),
                    None => {
                        "write it as 2027-03-04T10:00:00+01:00, or say how it is written with time_format".to_owned()
                    }
                };
                no_time(format!("`{field}` is no moment: {wanted}"))
            })
        }
        Some(Json::Number(number)) => since_1970(&number.to_string())
            .ok_or_else(|| no_time(format!("`{field}` is a number, and neither seconds nor milliseconds since 1970"))),
        Some(Json::Null) | None => Err(no_time(format!("no `{field}`: the record does not say when it was collected"))),
        Some(_) => Err(no_time(format!("`{field}` is not a text"))),
    }
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

/// Takes the value of a field out of a record, by its name or another that it has in some files.
fn take_field(record: &mut Map<String, Json>, name: &str, field: &Field) -> Option<Json> {
    take(record, name).or_else(|| field.also.iter().find_map(|other| take(record, other)))
}

/// A cell on its way into a document.
#[derive(Clone, Copy)]
struct Cell<'c> {
    /// What the export calls its field.
    name: &'c str,
    fact: &'c str,
    field: &'c Field,
    value: &'c Json,
}

/// A document that grows member by member.
struct DocumentBuilder<'d> {
    text: String,
    doubts: RecordDoubts,
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

    /// Adds what is not mapped: it keeps its name, and takes the type that the dictionary declares for it.
    fn rest(&mut self, record: Map<String, Json>, doubled: &Doubled<'_>) {
        let plain = Field::of(String::new());
        let under = self.source.under.as_deref();
        if let Some(under) = under {
            self.key(under);
            self.text.push('{');
        }
        for (name, value) in record {
            let fact = under.map_or_else(|| name.clone(), |under| format!("{under}.{name}"));
            for _ in 0..doubled.times(&name) {
                self.typed(&name, Cell { name: &name, fact: &fact, field: &plain, value: &value });
            }
        }
        if under.is_some() {
            self.text.push('}');
        }
    }

    /// Adds a list that was made of rows.
    fn row_items(&mut self, list: &RowItems<'_>) {
        self.key(list.fact);
        self.text.push('[');
        for (at, item) in list.items.iter().enumerate() {
            self.text.push_str(if at > 0 { ",{" } else { "{" });
            for ((name, field), value) in list.fields.iter().zip(item) {
                if let (Some(value), false) = (value, field.leave_out) {
                    let key = item_key(&field.fact, list.fact);
                    self.typed(key, Cell { name, fact: &field.fact, field, value });
                }
            }
            self.text.push('}');
        }
        self.text.push(']');
    }

    /// Writes a list of the record, with the fields of its items mapped; what is no list of objects stands as it came.
    fn list_of_items(&mut self, fact: &str, value: &Json, list: &ItemFields) {
        let Json::Array(items) = value else { return self.text.push_str(&value.to_string()) };
        let plain = Field::of(String::new());
        self.text.push('[');
        for (at, item) in items.iter().enumerate() {
            if at > 0 {
                self.text.push(',');
            }
            let Json::Object(members) = item else {
                self.text.push_str(&item.to_string());
                continue;
            };
            let mut members = members.clone();
            self.text.push('{');
            for (name, field) in &list.fields {
                if let Some(value) = take_field(&mut members, name, field)
                    && !field.leave_out
                {
                    self.typed(item_key(&field.fact, fact), Cell { name, fact: &field.fact, field, value: &value });
                }
            }
            for (name, value) in &members {
                let fact = format!("{fact}.{name}");
                self.typed(name, Cell { name, fact: &fact, field: &plain, value });
            }
            self.text.push('}');
        }
        self.text.push(']');
    }

    /// Adds a cell under `key`, turned into what its field says and the dictionary declares for its fact; nothing where it means that
    /// the fact was not collected.
    fn typed(&mut self, key: &str, cell: Cell<'_>) {
        let read = match (&cell.field.cells.split, cell.value) {
            (Some(split), Json::String(text)) if !self.is_missing(cell.field, text.trim()) => {
                let items = text.split(split.as_str()).map(str::trim).filter(|item| !item.is_empty());
                let items: Vec<Json> = items.map(Json::from).collect();
                let items = items.iter().filter_map(|value| self.read(Cell { value, ..cell }));
                Some(format!("[{}]", items.collect::<Vec<_>>().join(",")))
            }
            _ => self.read(cell),
        };
        if let Some(read) = read {
            self.key(key);
            self.text.push_str(&read);
        }
    }

    fn is_missing(&self, field: &Field, text: &str) -> bool {
        field.cells.missing_when.iter().chain(&self.source.missing_when).any(|word| word == text)
    }

    /// Reads one value as JSON.
    fn read(&mut self, cell: Cell<'_>) -> Option<String> {
        let Cell { name, fact, field, value } = cell;
        let declared = self.with.dictionary.facts.get(fact);
        let ty = declared.and_then(|declared| declared.ty);
        let numbers = NumberReader {
            marks: field.cells.numbers.over(self.source.numbers),
            from: field.unit.as_deref(),
            to: declared.and_then(|declared| declared.unit.as_deref()),
            is_number: ty == Some(FactType::Number) || field.cells.numbers != NumberMarks::default(),
        };
        let text = match value {
            Json::String(text) => text.trim(),
            Json::Number(number) => {
                if self.is_missing(field, &number.to_string()) {
                    return None;
                }
                let moment = (ty == Some(FactType::Instant)).then(|| since_1970(&number.to_string())).flatten();
                let read = moment.map(|moment| Json::String(moment.to_string()).to_string());
                return Some(
                    read.or_else(|| numbers.converted(&number.to_string())).unwrap_or_else(|| value.to_string()),
                );
            }
            Json::Null | Json::Bool(_) | Json::Array(_) | Json::Object(_) => return Some(value.to_string()),
        };
        if self.is_missing(field, text) {
            return None;
        }
        let cased = field.cells.case.map(|case| case.apply(text));
        let text = cased.as_deref().unwrap_or(text);
        let known = field.cells.values.iter().find(|(word, _)| word == text);
        if known.is_none() && !field.cells.values.is_empty() && !self.with.dictionary.names_a_secret(fact) {
            self.doubts.unknown_words.push(UnknownWord { field: name.to_owned(), word: text.to_owned() });
        }
        let text = known.map_or(text, |(_, value)| value.as_str());
        // What nothing was done to stands as it came.
        let plain = || if known.is_some() || cased.is_some() { Json::from(text) } else { value.clone() };
        let word = |words: &[String]| words.iter().any(|word| word.eq_ignore_ascii_case(text));
        if word(&field.true_when) || word(&field.false_when) {
            return Some(Json::Bool(word(&field.true_when)).to_string());
        }
        if let Some(number) = numbers.read(text) {
            return Some(number);
        }
        let of_source = self.source.moments(self.with);
        let moments = MomentFormat {
            format: field.cells.time_format.as_deref().or(of_source.format),
            zone: field.cells.time_zone.as_ref().unwrap_or(of_source.zone),
            ..of_source
        };
        let read = match ty {
            Some(FactType::Boolean) if text.eq_ignore_ascii_case("true") => Some(Json::Bool(true)),
            Some(FactType::Boolean) if text.eq_ignore_ascii_case("false") => Some(Json::Bool(false)),
            // A moment that names its offset stands as it came.
            Some(FactType::Instant) if !matches!(parse_date_time(text), Some(fencepost_core::DateTime::At(..))) => {
                moments.read(text).or_else(|| since_1970(text)).map(|moment| Json::String(moment.to_string()))
            }
            Some(FactType::Date) => {
                let date = moments.format.and_then(|format| parsed(format, text)?.to_date().ok());
                date.map(|date| Json::String(date.to_string()))
            }
            _ => None,
        };
        Some(read.unwrap_or_else(plain).to_string())
    }
}

/// Returns the path of an item's field within the item.
fn item_key<'f>(fact: &'f str, list: &str) -> &'f str {
    fact.strip_prefix(list).and_then(|rest| rest.strip_prefix('.')).unwrap_or(fact)
}
