//! Turns a record of a source, as it comes, into a document of facts: one JSON object with `device` and
//! `collected_at`, or for people `id`. Native documents are taken as they are.

use std::borrow::Cow;
use std::io::BufRead;

use fencepost_core::{Dictionary, FactType, parse_collected};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use serde_json::{Map, Value as Json};

use crate::csv_records::for_each_row;
use crate::lines::{LineError, Lines};
use crate::workspace::{Field, Format, Source, SourceKind};

/// One record of a file: a document, or why it was refused.
#[derive(Debug)]
pub struct Record<'r> {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes.
    pub offset: u64,
    /// The document as JSON, or the reason.
    pub document: Result<Cow<'r, [u8]>, RecordError>,
}

/// Why a record was refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct RecordError(pub String);

/// What mapping a record needs to know besides its source.
#[derive(Clone, Copy, Debug)]
pub struct Mapped<'m> {
    /// Declared types and units.
    pub dictionary: &'m Dictionary,
    /// The zone of times without an offset, where the source names none.
    pub zone: &'m TimeZone,
    /// When the file was last written, for sources whose records carry no time.
    pub file_time: Option<Timestamp>,
}

/// Goes through the records of a file of a source, one at a time.
///
/// # Errors
/// What is wrong with the file as a whole, or what `each` returns.
pub fn read_records(
    input: impl BufRead,
    source: &Source,
    with: &Mapped<'_>,
    mut each: impl FnMut(Record<'_>) -> Result<(), String>,
) -> Result<(), String> {
    match source.format {
        Format::Csv => {
            let mut names = Vec::new();
            let names_cell = std::cell::RefCell::new(&mut names);
            for_each_row(
                input,
                source.delimiter,
                |headings| {
                    check_headings(headings, source)?;
                    names_cell.borrow_mut().extend_from_slice(headings);
                    Ok(())
                },
                |row| {
                    let document = row.cells.map_err(RecordError).and_then(|cells| {
                        let fields = names_cell.borrow();
                        let record = fields.iter().cloned().zip(cells).filter(|(_, cell)| !cell.is_empty());
                        map_record(record.map(|(name, cell)| (name, Json::String(cell))).collect(), source, with)
                    });
                    each(Record {
                        line: row.line,
                        offset: row.offset,
                        document: document.map(|text| Cow::Owned(text.into_bytes())),
                    })
                },
            )
        }
        Format::JsonLines => {
            let mut lines = Lines::new(input);
            loop {
                match lines.next_line() {
                    Ok(None) => return Ok(()),
                    Ok(Some(line)) => {
                        let document = if source.is_native() {
                            Ok(Cow::Borrowed(line.bytes))
                        } else {
                            map_line(line.bytes, source, with).map(|text| Cow::Owned(text.into_bytes()))
                        };
                        each(Record { line: line.number, offset: line.offset, document })?;
                    }
                    Err(LineError::TooLong { number, offset }) => {
                        let document =
                            Err(RecordError(format!("the line is longer than {} MiB", crate::lines::MAX_LINE >> 20)));
                        each(Record { line: number, offset, document })?;
                    }
                    Err(LineError::Read(error)) => return Err(error.to_string()),
                }
            }
        }
    }
}

fn check_headings(headings: &[String], source: &Source) -> Result<(), String> {
    let named = std::iter::once(source.id_field.as_str())
        .chain(source.collected_field.as_deref())
        .chain(source.fields.iter().map(|(name, _)| name.as_str()));
    let missing: Vec<String> =
        named.filter(|name| !headings.iter().any(|heading| heading == name)).map(|name| format!("`{name}`")).collect();
    if missing.is_empty() {
        return Ok(());
    }
    let found: Vec<String> = headings.iter().map(|heading| format!("`{heading}`")).collect();
    let (what, verb) = if missing.len() == 1 { ("column", "is") } else { ("columns", "are") };
    Err(format!(
        "{what} {} {verb} missing; the file has {}. Correct [[source]] `{}` in fencepost.toml, or export the {what} again",
        missing.join(", "),
        found.join(", "),
        source.id
    ))
}

fn map_line(line: &[u8], source: &Source, with: &Mapped<'_>) -> Result<String, RecordError> {
    let text = std::str::from_utf8(line).map_err(|_| RecordError("these bytes are not UTF-8".to_owned()))?;
    match serde_json::from_str(text) {
        Ok(Json::Object(record)) => map_record(record, source, with),
        Ok(_) => Err(RecordError("a record is a JSON object".to_owned())),
        Err(error) => Err(RecordError(format!("column {}: {error}", error.column()))),
    }
}

/// Maps one record, field by field, to a document.
///
/// # Errors
/// When the id or the time is missing or cannot be read.
pub fn map_record(mut record: Map<String, Json>, source: &Source, with: &Mapped<'_>) -> Result<String, RecordError> {
    let id = take(&mut record, &source.id_field);
    let id = match id {
        Some(Json::String(text)) if !text.trim().is_empty() => text,
        Some(Json::Number(number)) => number.to_string(),
        Some(_) => return Err(RecordError(format!("`{}` is not a text", source.id_field))),
        None => {
            return Err(RecordError(format!("no `{}`: the record names no {}", source.id_field, source.kind.noun())));
        }
    };
    let mut out = String::from("{");
    let id_key = match source.kind {
        SourceKind::State => "device",
        SourceKind::People => "id",
    };
    push_member(&mut out, id_key, &Json::String(id));
    if source.kind == SourceKind::State {
        let collected = collected(&mut record, source, with)?;
        push_member(&mut out, "collected_at", &Json::String(collected.to_string()));
    }
    for (name, field) in &source.fields {
        if let Some(value) = take(&mut record, name) {
            push_field(&mut out, field, value, with.dictionary);
        }
    }
    // What is not mapped keeps its name, and takes the type that the dictionary declares for it.
    for (name, value) in record {
        let field = Field { fact: name, unit: None, true_when: Vec::new(), false_when: Vec::new() };
        push_field(&mut out, &field, value, with.dictionary);
    }
    out.push('}');
    Ok(out)
}

fn collected(record: &mut Map<String, Json>, source: &Source, with: &Mapped<'_>) -> Result<Timestamp, RecordError> {
    let zone = source.time_zone.as_ref().unwrap_or(with.zone);
    match &source.collected_field {
        Some(field) => match take(record, field) {
            Some(Json::String(text)) => parse_collected(&text, zone)
                .ok_or_else(|| RecordError(format!("`{field}` is no moment: write it as 2027-03-04T10:00:00+01:00"))),
            Some(_) => Err(RecordError(format!("`{field}` is not a text"))),
            None => Err(RecordError(format!("no `{field}`: the record does not say when it was collected"))),
        },
        None => with
            .file_time
            .ok_or_else(|| RecordError("neither the record nor the file says when it was collected".to_owned())),
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

fn push_member(out: &mut String, key: &str, value: &Json) {
    if out.len() > 1 {
        out.push(',');
    }
    out.push_str(&Json::String(key.to_owned()).to_string());
    out.push(':');
    out.push_str(&value.to_string());
}

fn push_field(out: &mut String, field: &Field, value: Json, dictionary: &Dictionary) {
    let declared = dictionary.facts.get(&field.fact);
    let Json::String(text) = &value else {
        push_member(out, &field.fact, &value);
        return;
    };
    let word = |words: &[String]| words.iter().any(|word| word.eq_ignore_ascii_case(text.trim()));
    if word(&field.true_when) || word(&field.false_when) {
        push_member(out, &field.fact, &Json::Bool(word(&field.true_when)));
        return;
    }
    let number = || text.trim().parse::<Decimal>().ok();
    let scaled = match (&field.unit, declared.and_then(|declared| declared.unit.as_deref())) {
        (Some(from), Some(to)) => number().and_then(|number| number.checked_mul(Dictionary::factor(from, to).ok()?)),
        _ if declared.is_some_and(|declared| declared.ty == Some(FactType::Number)) => number(),
        _ => None,
    };
    if let Some(number) = scaled {
        if out.len() > 1 {
            out.push(',');
        }
        // Written by hand: a JSON number keeps all its digits.
        out.push_str(&format!("{}:{}", Json::String(field.fact.clone()), number.normalize()));
        return;
    }
    let truth = match (declared.and_then(|declared| declared.ty), text.as_str()) {
        (Some(FactType::Boolean), "true") => Some(true),
        (Some(FactType::Boolean), "false") => Some(false),
        _ => None,
    };
    push_member(out, &field.fact, &truth.map_or(value, Json::Bool));
}

#[cfg(test)]
mod tests {
    use super::*;
    use fencepost_core::Declaration;

    fn handhelds() -> Source {
        let field = |fact: &str| Field { fact: fact.into(), unit: None, true_when: Vec::new(), false_when: Vec::new() };
        Source {
            format: Format::Csv,
            id_field: "Asset tag".into(),
            collected_field: Some("Exported at".into()),
            time_zone: Some(TimeZone::get("Europe/Oslo").unwrap()),
            fields: vec![
                ("OS ver.".into(), field("os.version")),
                (
                    "Encrypted?".into(),
                    Field {
                        true_when: vec!["Yes".into(), "Y".into()],
                        false_when: vec!["No".into()],
                        ..field("disk.encrypted")
                    },
                ),
                ("Free (GB)".into(), Field { unit: Some("GB".into()), ..field("disk.free_bytes") }),
            ],
            ..Source::native()
        }
    }

    fn dictionary() -> Dictionary {
        let mut dictionary = Dictionary::default();
        let bytes = Declaration { ty: Some(FactType::Number), unit: Some("B".into()), ..Declaration::default() };
        dictionary.facts.insert("disk.free_bytes".into(), bytes);
        dictionary
    }

    fn mapped(text: &str, source: &Source) -> Result<Vec<Result<String, String>>, String> {
        let dictionary = dictionary();
        let with = Mapped { dictionary: &dictionary, zone: &TimeZone::UTC, file_time: None };
        let mut all = Vec::new();
        read_records(text.as_bytes(), source, &with, |record| {
            all.push(
                record
                    .document
                    .map(|bytes| String::from_utf8(bytes.into_owned()).unwrap())
                    .map_err(|error| format!("{}: {error}", record.line)),
            );
            Ok(())
        })?;
        Ok(all)
    }

    #[test]
    fn headings_words_units_and_local_times_are_mapped() {
        let text = "Asset tag,Exported at,OS ver.,Encrypted?,Free (GB),Site\nS-1,2027-03-01 08:30,13,y,2.5,Ness Pier\n";
        let all = mapped(text, &handhelds()).unwrap();
        assert_eq!(
            all[0].as_deref(),
            Ok(
                r#"{"device":"S-1","collected_at":"2027-03-01T07:30:00Z","os.version":"13","disk.encrypted":true,"disk.free_bytes":2500000000,"Site":"Ness Pier"}"#
            )
        );
    }

    #[test]
    fn a_bad_row_is_refused_alone_and_names_its_line() {
        let text = "Asset tag,Exported at,OS ver.,Encrypted?,Free (GB)\n,2027-03-01 08:30,13,y,1\nS-2,yesterday,13,y,1\nS-3,2027-03-01 08:30,13\nS-4,2027-03-01 08:30,13,maybe,much\n";
        let all = mapped(text, &handhelds()).unwrap();
        assert!(all[0].as_ref().unwrap_err().starts_with("2: no `Asset tag`"));
        assert!(all[1].as_ref().unwrap_err().starts_with("3: `Exported at` is no moment"));
        assert!(all[2].as_ref().unwrap_err().starts_with("4: this row has 3 cells under 5 headings"));
        // What cannot be read as meant is kept as it came, to be of the wrong type.
        assert!(all[3].as_ref().unwrap().contains(r#""disk.encrypted":"maybe","disk.free_bytes":"much""#));
    }

    #[test]
    fn a_missing_column_refuses_the_file_and_says_which() {
        let error = mapped("Asset tag,Exported at,OS ver.,Free (GB)\n", &handhelds()).unwrap_err();
        assert!(error.contains("column `Encrypted?` is missing"), "{error}");
        assert!(mapped("", &handhelds()).unwrap_err().contains("empty"));
        assert!(mapped("a,b,a\n", &handhelds()).unwrap_err().contains("two columns"));
    }
}
