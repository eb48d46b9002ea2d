//! Turns a record of a source, as it comes, into a document of facts: one JSON object with `device` and
//! `collected_at`, or for people `id`.

use fencepost_core::{Conversion, Dictionary, FactType, parse_collected, parse_date_time};
use jiff::Timestamp;
use jiff::civil::DateTime as Civil;
use jiff::fmt::strtime::{self, BrokenDownTime};
use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use serde_json::{Map, Value as Json};

use super::{RecordError, RejectKind};
use crate::workspace::{Field, NameFrom, NumberMarks, Source, SourceKind};

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

/// A word that the table of its field does not have.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct UnknownWord {
    /// The field, as the export calls it.
    pub field: String,
    /// The word.
    pub word: String,
}

/// A record as a document, and what was odd on the way.
pub(crate) struct MappedRecord {
    pub document: String,
    pub unknown_words: Vec<UnknownWord>,
}

/// How moments are written.
struct MomentFormat<'m> {
    format: Option<&'m str>,
    zone: &'m TimeZone,
}

impl MomentFormat<'_> {
    /// Reads a moment.
    fn read(&self, text: &str) -> Option<Timestamp> {
        let Some(format) = self.format else { return parse_collected(text, self.zone) };
        let parts = parsed(format, text)?;
        if let Ok(moment) = parts.to_timestamp() {
            return Some(moment);
        }
        let local = parts.to_datetime().or_else(|_| parts.to_date().map(Civil::from)).ok()?;
        self.zone.to_timestamp(local).ok()
    }
}

/// Reads a time by a pattern. A year of two digits is none of four: `23.03.27` is not of the year 27.
fn parsed(format: &str, text: &str) -> Option<BrokenDownTime> {
    let parts = strtime::parse(format, text.trim()).ok()?;
    let is_of_four = |year: i16| (1_000..=9_999).contains(&year);
    let fits = !format.contains("%Y") || parts.year().is_none_or(is_of_four);
    fits.then_some(parts)
}

impl Source {
    fn moments<'m>(&'m self, with: &Mapped<'m>) -> MomentFormat<'m> {
        MomentFormat { format: self.time_format.as_deref(), zone: self.time_zone.as_ref().unwrap_or(with.zone) }
    }
}

/// Maps one record, field by field, to a document.
///
/// # Errors
/// When the id or the time is missing or cannot be read.
pub(crate) fn map_record(record: RawRecord, source: &Source, with: &Mapped<'_>) -> Result<MappedRecord, RecordError> {
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
) -> Result<MappedRecord, RecordError> {
    let twice = |name: &str| doubled.iter().any(|path| path == name);
    let mut out = DocumentBuilder { text: String::from("{"), unknown_words: Vec::new(), source, with };
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
            for _ in 0..=usize::from(below(name)) {
                out.typed(&field.fact, Cell { name, fact: &field.fact, field, value: &value });
            }
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
            out.typed(&name, Cell { name: &name, fact: &fact, field: &plain, value: &value });
        }
    }
    if source.under.is_some() {
        out.text.push('}');
    }
    out.text.push('}');
    Ok(MappedRecord { document: out.text, unknown_words: out.unknown_words })
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
    let mut said = take(record, field);
    for further in &source.collected_further {
        let (Some(Json::String(text)), Some(Json::String(more))) = (&mut said, take(record, further)) else {
            let reason = format!("no `{field}` with `{further}`: the record does not say when it was collected");
            return Err(RecordError::new(RejectKind::NoTime, reason));
        };
        *text = format!("{} {}", text.trim(), more.trim());
    }
    match said {
        Some(Json::String(text)) => source
            .moments(with)
            .read(&text)
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
    unknown_words: Vec<UnknownWord>,
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
            self.unknown_words.push(UnknownWord { field: name.to_owned(), word: text.to_owned() });
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
        let moments = MomentFormat {
            format: field.cells.time_format.as_deref().or(self.source.time_format.as_deref()),
            zone: field.cells.time_zone.as_ref().unwrap_or_else(|| self.source.moments(self.with).zone),
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

/// Reads numbers as an export writes them, in the unit that is wanted.
struct NumberReader<'n> {
    marks: NumberMarks,
    /// The unit that the export gives it in.
    from: Option<&'n str>,
    /// The unit that the dictionary declares.
    to: Option<&'n str>,
    /// It is declared to be a number.
    is_number: bool,
}

impl NumberReader<'_> {
    fn conversion(&self) -> Option<Conversion> {
        Conversion::between(self.from?, self.to?).ok()
    }

    /// Reads a text as a number; none where it is none, or nobody says that it should be one.
    fn read(&self, text: &str) -> Option<String> {
        let conversion = self.conversion();
        if conversion.is_none() && !self.is_number {
            return None;
        }
        let number = match plain_number(text, self.marks) {
            Some(number) => conversion.map_or(Some(number), |way| way.apply(number)),
            None => self.with_its_unit(text),
        };
        // With all its digits.
        number.map(|number| number.normalize().to_string())
    }

    /// Reads a number that names its unit, `7.5 GiB`, where a unit of the same kind is wanted.
    fn with_its_unit(&self, text: &str) -> Option<Decimal> {
        let begins = text.find(|symbol: char| symbol.is_alphabetic() || symbol == '%')?;
        let (number, unit) = text.split_at(begins);
        let way = Conversion::between(unit.trim(), self.to.or(self.from)?).ok()?;
        way.apply(plain_number(number.trim(), self.marks)?)
    }

    /// Converts a number of JSON; none where it stands as it came.
    fn converted(&self, number: &str) -> Option<String> {
        let converted = self.conversion()?.apply(number.parse().ok()?)?;
        Some(converted.normalize().to_string())
    }
}

/// Reads a number without a unit. A mark between thousands stands before exactly three digits.
fn plain_number(text: &str, marks: NumberMarks) -> Option<Decimal> {
    let NumberMarks { decimal, thousands } = marks;
    let (whole, fraction) = match text.rsplit_once(decimal.unwrap_or('.')) {
        Some((whole, fraction)) => (whole, Some(fraction)),
        None => (text, None),
    };
    let is_mark = |symbol: char| match thousands {
        Some(' ') => matches!(symbol, ' ' | '\u{a0}' | '\u{202f}' | '\u{2009}'),
        mark => mark == Some(symbol),
    };
    let mut groups = whole.split(is_mark);
    let first = groups.next()?;
    let mut plain = first.to_owned();
    let mut count = 0;
    for group in groups {
        if group.len() != 3 || !group.bytes().all(|digit| digit.is_ascii_digit()) {
            return None;
        }
        plain.push_str(group);
        count += 1;
    }
    if count > 0 && !(1..=3).contains(&first.trim_start_matches(['-', '+']).len()) {
        return None;
    }
    let are_digits = |text: &str| !text.is_empty() && text.bytes().all(|digit| digit.is_ascii_digit());
    // A point where another mark was said is none.
    if decimal.is_some() && !are_digits(plain.trim_start_matches(['-', '+'])) {
        return None;
    }
    if let Some(fraction) = fraction {
        if decimal.is_some() && !are_digits(fraction) {
            return None;
        }
        plain.push('.');
        plain.push_str(fraction);
    }
    plain.parse().ok()
}

#[cfg(test)]
mod tests {
    use fencepost_core::Declaration;
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;
    use crate::workspace::{CellRules, LetterCase};

    fn texts(all: &[&str]) -> Vec<String> {
        all.iter().map(|text| (*text).to_owned()).collect()
    }

    fn field(fact: &str, cells: CellRules) -> Field {
        Field { cells, ..Field::of(fact.to_owned()) }
    }

    /// Maps the cells of one record, in which every field is called as its fact.
    fn mapped(source: &Source, dictionary: &Dictionary, cells: Json) -> (Json, Vec<UnknownWord>) {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let with = Mapped { dictionary, zone: &zone, file_time: None, path: None };
        let Json::Object(mut members) = cells else { panic!("cells are an object") };
        members.insert("device".to_owned(), json!("d"));
        members.insert("collected_at".to_owned(), json!("2027-03-01T05:00:00Z"));
        let mapped = map_record(members.into(), source, &with).unwrap();
        let mut document: Json = serde_json::from_str(&mapped.document).unwrap();
        document.as_object_mut().unwrap().retain(|key, _| !matches!(key.as_str(), "device" | "collected_at"));
        (document, mapped.unknown_words)
    }

    fn declared(facts: &[(&str, FactType, Option<&str>)]) -> Dictionary {
        let declare = |(path, ty, unit): &(&str, FactType, Option<&str>)| {
            let unit = unit.map(str::to_owned);
            ((*path).to_owned(), Declaration { ty: Some(*ty), unit, ..Declaration::default() })
        };
        Dictionary { facts: facts.iter().map(declare).collect(), reported: None }
    }

    #[test]
    fn cells_are_left_out_put_into_letters_and_named_in_this_order() {
        let values = vec![("corporate".to_owned(), "company".to_owned()), ("byod".to_owned(), "personal".to_owned())];
        let rules =
            CellRules { missing_when: texts(&["n/a"]), case: Some(LetterCase::Lower), values, ..CellRules::default() };
        let source = Source {
            fields: vec![
                ("owner".to_owned(), field("owner", rules)),
                ("state".to_owned(), Field::of("state".to_owned())),
            ],
            missing_when: texts(&["-", "-1"]),
            ..Source::native()
        };
        let dictionary = Dictionary::default();
        let owner = |cell: Json| mapped(&source, &dictionary, json!({ "owner": cell }));
        assert_eq!(owner(json!(" Corporate ")), (json!({ "owner": "company" }), Vec::new()));
        assert_eq!(owner(json!("BYOD")).0, json!({ "owner": "personal" }));
        let word = UnknownWord { field: "owner".to_owned(), word: "loan".to_owned() };
        assert_eq!(owner(json!("Loan")), (json!({ "owner": "loan" }), vec![word]));
        for missing in [json!("n/a"), json!(" - "), json!(-1)] {
            assert_eq!(owner(missing.clone()), (json!({}), Vec::new()), "{missing}");
        }
        // What is not mapped has the source's words alone, and stands as it came.
        assert_eq!(
            mapped(&source, &dictionary, json!({ "note": "n/a", "state": "-", "x": " A " })).0,
            json!({ "note": "n/a", "x": " A " })
        );
    }

    #[test]
    fn numbers_are_read_as_the_export_writes_them() {
        let german = NumberMarks { decimal: Some(','), thousands: Some('.') };
        let spaced = NumberMarks { decimal: Some(','), thousands: Some(' ') };
        let plain = NumberMarks::default();
        let thousands = NumberMarks { decimal: None, thousands: Some('\'') };
        for (text, marks, number) in [
            ("1.234,5", german, Some("1234.5")),
            ("1.234.567", german, Some("1234567")),
            ("-12,50", german, Some("-12.50")),
            ("12.34", german, None),
            ("1234.567", german, None),
            ("12,", german, None),
            (",5", german, None),
            ("1 234,5", spaced, Some("1234.5")),
            ("1\u{a0}234\u{202f}567", spaced, Some("1234567")),
            ("1.5", spaced, None),
            ("1.5", plain, Some("1.5")),
            ("1,5", plain, None),
            ("1'234.5", thousands, Some("1234.5")),
            ("1'23", thousands, None),
            ("many", german, None),
            ("", german, None),
        ] {
            let read = plain_number(text, marks).map(|number| number.to_string());
            assert_eq!(read.as_deref(), number, "{text}");
        }
    }

    #[test]
    fn a_number_that_names_its_unit_is_read_in_the_unit_that_is_declared() {
        let marks = NumberMarks { decimal: Some(','), thousands: None };
        let source = Source {
            fields: vec![("free".to_owned(), field("free", CellRules { numbers: marks, ..CellRules::default() }))],
            ..Source::native()
        };
        let dictionary = declared(&[("free", FactType::Number, Some("B"))]);
        let free = |cell: &str| mapped(&source, &dictionary, json!({ "free": cell })).0["free"].clone();
        assert_eq!(free("7,5 GiB"), json!(8_053_063_680_u64));
        assert_eq!(free("2 kB"), json!(2000));
        assert_eq!(free("12"), json!(12));
        // Of another kind, or no number at all: it stands as it came, and is of the wrong type.
        for odd in ["3 d", "7.5 GiB", "GiB", "lots"] {
            assert_eq!(free(odd), json!(odd));
        }
    }

    #[test]
    fn times_of_facts_are_read_by_their_own_format_and_zone() {
        let of = |format: &str, zone: Option<&str>| CellRules {
            time_format: Some(format.to_owned()),
            time_zone: zone.map(|zone| TimeZone::get(zone).unwrap()),
            ..CellRules::default()
        };
        let source = Source {
            fields: vec![
                ("seen".to_owned(), field("seen", of("%d.%m.%Y %H:%M", Some("America/New_York")))),
                ("bought".to_owned(), field("bought", of("%d.%m.%y", None))),
            ],
            ..Source::native()
        };
        let dictionary = declared(&[("seen", FactType::Instant, None), ("bought", FactType::Date, None)]);
        let read = |key: &str, cell: Json| {
            let mut cells = serde_json::Map::new();
            cells.insert(key.to_owned(), cell);
            mapped(&source, &dictionary, Json::Object(cells)).0[key].clone()
        };
        assert_eq!(read("seen", json!("01.02.2027 08:00")), json!("2027-02-01T13:00:00Z"));
        assert_eq!(read("seen", json!("2027-02-01T08:00:00+01:00")), json!("2027-02-01T08:00:00+01:00"));
        for since_1970 in [json!(1_800_000_000), json!("1800000000"), json!(1_800_000_000_000_u64)] {
            assert_eq!(read("seen", since_1970), json!("2027-01-15T08:00:00Z"));
        }
        // A year of two digits is none of four.
        assert_eq!(read("seen", json!("01.02.27 08:00")), json!("01.02.27 08:00"));
        // In a gap the later, in an overlap the first.
        assert_eq!(read("seen", json!("14.03.2027 02:30")), json!("2027-03-14T07:30:00Z"));
        assert_eq!(read("seen", json!("07.11.2027 01:30")), json!("2027-11-07T05:30:00Z"));
        assert_eq!(read("bought", json!("15.01.69")), json!("1969-01-15"));
        assert_eq!(read("bought", json!("15.01.21")), json!("2021-01-15"));
        assert_eq!(read("bought", json!("2021-01-15")), json!("2021-01-15"));
        assert_eq!(read("bought", json!("31.02.21")), json!("31.02.21"));
    }

    #[test]
    fn a_day_and_a_time_of_two_columns_are_one_moment() {
        let source = Source {
            collected_field: Some("Day".to_owned()),
            collected_further: texts(&["Time"]),
            time_format: Some("%d.%m.%Y %H:%M".to_owned()),
            ..Source::native()
        };
        let dictionary = Dictionary::default();
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let with = Mapped { dictionary: &dictionary, zone: &zone, file_time: None, path: None };
        let read = |cells: Json| {
            let Json::Object(members) = cells else { panic!("cells are an object") };
            map_record(members.into(), &source, &with).map(|mapped| mapped.document)
        };
        let document = read(json!({ "device": "d", "Day": "01.03.2027 ", "Time": " 07:30" })).unwrap();
        assert_eq!(document, r#"{"device":"d","collected_at":"2027-03-01T06:30:00Z"}"#);
        let refused = read(json!({ "device": "d", "Day": "01.03.2027" })).unwrap_err();
        assert_eq!((refused.kind, refused.reason.contains("`Day` with `Time`")), (RejectKind::NoTime, true));
        assert_eq!(
            read(json!({ "device": "d", "Day": "01.03.2027", "Time": "25:00" })).unwrap_err().kind,
            RejectKind::NoTime
        );
    }

    #[test]
    fn one_cell_may_be_a_list() {
        let rules = CellRules {
            split: Some(";".to_owned()),
            missing_when: texts(&["none"]),
            case: Some(LetterCase::Lower),
            ..CellRules::default()
        };
        let source = Source { fields: vec![("admins".to_owned(), field("admins", rules))], ..Source::native() };
        let admins = |cell: Json| mapped(&source, &Dictionary::default(), json!({ "admins": cell })).0;
        assert_eq!(admins(json!("Root; OPS ;;none")), json!({ "admins": ["root", "ops"] }));
        assert_eq!(admins(json!("one")), json!({ "admins": ["one"] }));
        assert_eq!(admins(json!("none")), json!({}));
        assert_eq!(admins(json!(["A", "b"])), json!({ "admins": ["A", "b"] }));
    }

    proptest! {
        #[test]
        fn any_text_is_read_without_harm(text in any::<String>(), decimal in any::<char>(), thousands in any::<char>()) {
            let marks = NumberMarks { decimal: Some(decimal), thousands: Some(thousands) };
            plain_number(&text, marks);
        }

        #[test]
        fn numbers_come_back_from_the_marks_that_they_were_written_with(whole in 0u64..10_000_000_000, fraction in 0u32..1000) {
            let mut grouped = String::new();
            let digits = whole.to_string();
            for (at, digit) in digits.chars().enumerate() {
                if at > 0 && (digits.len() - at) % 3 == 0 {
                    grouped.push('.');
                }
                grouped.push(digit);
            }
            let marks = NumberMarks { decimal: Some(','), thousands: Some('.') };
            let read = plain_number(&format!("{grouped},{fraction:03}"), marks);
            prop_assert_eq!(read, format!("{whole}.{fraction:03}").parse().ok());
        }
    }
}
