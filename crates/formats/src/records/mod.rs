//! Reads the records of a file of a source, in every format, one at a time: documents of facts, or why there is none.

mod batches;
mod chunks;
mod decompress;
mod json_list;
mod mapping;
mod property_list;
mod scim;
mod setting_lines;
mod software_list;
mod table;

use std::collections::HashSet;
use std::io::BufRead;

use bumpalo::Bump;
use fencepost_core::limits::{self, RECORD_BYTES};
use serde_json::{Map, Value as Json};

use crate::json_walk::{Cursor, Quoted, WalkResult, Walker};
use crate::padded::RawDocument;
use crate::workspace::{Format, Source};

use batches::BatchContent;
pub use batches::{RecordBatch, RecordBatches};
pub use chunks::{Chunk, Chunks, Line, LinesOf};
pub use decompress::{decompress, open_text};
pub use mapping::{Contradiction, Mapped, RecordDoubts, UnknownWord};
use mapping::{MappedRecord, map_record};
pub(crate) use mapping::{RawRecord, plain_number};
pub(crate) use table::{DELIMITERS, ZIP_START};
use table::{WorkbookSample, csv_rows_of, workbook_sample};

/// One record of a file: a document, or why it was refused.
#[derive(Debug)]
pub struct Record<'r> {
    /// Where it stands in its file.
    pub place: RecordPlace,
    /// The document as JSON, or the reason.
    pub document: Result<RawDocument<'r>, RecordError>,
    /// What is odd in it.
    pub doubts: RecordDoubts,
}

/// Where a record stands in its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RecordPlace {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes; in the decompressed text of a compressed one.
    pub offset: u64,
    /// How many rows of a table it was made of; 1 where each is a record of its own.
    pub rows: u64,
}

impl RecordPlace {
    /// The place of a record that is not made of several rows.
    pub(crate) fn at(line: u64, offset: u64) -> Self {
        Self { line, offset, rows: 1 }
    }
}

/// Where the record of a file stands that holds no more than one, or does not tell where each begins.
const WHOLE_FILE: RecordPlace = RecordPlace { line: 1, offset: 0, rows: 1 };

/// Why records are refused, in kinds that are few and can be counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RejectKind {
    /// It is not written as its format asks.
    Unreadable,
    /// It is longer, deeper or has more fields than a record may have.
    TooLarge,
    /// It names no device, or no person.
    NoId,
    /// It does not say when it was collected.
    NoTime,
    /// It lies after the moment of the import.
    Clock,
    /// It says something else of a device than another record of the same moment, or lists somebody twice.
    Contradiction,
    /// Its source may not speak of this device.
    NotSpokenFor,
}

impl RejectKind {
    /// Returns the reason in a few words.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Unreadable => "cannot be read",
            Self::TooLarge => "too large",
            Self::NoId => "names nobody",
            Self::NoTime => "does not say when it was collected",
            Self::Clock => "clock",
            Self::Contradiction => "contradicts another record",
            Self::NotSpokenFor => "of a device that its source does not speak for",
        }
    }
}

/// Why a record was refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{reason}")]
pub struct RecordError {
    /// The kind of what is wrong with it.
    pub kind: RejectKind,
    /// What is wrong with it.
    pub reason: String,
    /// The device or person that it names, where that can be told.
    pub id: Option<String>,
}

impl RecordError {
    fn new(kind: RejectKind, reason: impl Into<String>) -> Self {
        Self { kind, reason: reason.into(), id: None }
    }

    fn unreadable(reason: impl Into<String>) -> Self {
        Self::new(RejectKind::Unreadable, reason)
    }
}

/// What is wrong with a file as a whole.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct FileError {
    /// What is wrong, with its place and a remedy.
    pub message: String,
    /// Columns that its source names and it lacks.
    pub columns_missing: Vec<String>,
}

impl From<String> for FileError {
    fn from(message: String) -> Self {
        Self { message, columns_missing: Vec::new() }
    }
}

/// What is to be known of a file that was read to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileRead {
    /// It says itself that it is one part of several, so what it does not list may be in another.
    pub part: bool,
    /// Rows that were left out, from the one on that ends the table.
    pub left_out: u64,
}

/// Returns the limit of a record, for messages.
fn record_limit() -> impl std::fmt::Display {
    limits::size(RECORD_BYTES as u64)
}

/// Goes through the records of a file of a source, one at a time.
///
/// # Errors
/// What is wrong with the file as a whole, or what `each` returns.
pub fn read_records(
    input: impl BufRead + Send,
    source: &Source,
    with: &Mapped<'_>,
    each: impl FnMut(Record<'_>) -> Result<(), String>,
) -> Result<FileRead, FileError> {
    let with = with.dated_by_name(source)?;
    let mut records = Records { source, with: &with, each };
    let mut file = FileRead { part: false, left_out: 0 };
    if RecordBatches::reads(source.format) {
        let mut batches = RecordBatches::open(input, source, &with)?;
        let mut batch = RecordBatch::default();
        let mut lines = 0;
        while batches.next_into(&mut batch)? {
            lines += records.batch(&mut batch, lines)?;
        }
        file.left_out = batches.left_out();
        return Ok(file);
    }
    let input = open_text(input, source.encoding).map_err(|error| error.to_string())?;
    match source.format {
        Format::JsonLines | Format::Csv | Format::Workbook => unreachable!("they are read in batches"),
        Format::Json => json_list::for_each_item(input, source.records.as_deref(), |item| {
            let room = Bump::new();
            let place = RecordPlace::at(item.line, item.offset);
            records.json(place, item.bytes.map(|bytes| RawDocument::copy(bytes, &room)), item.key)
        })?,
        Format::PropertyList => {
            for record in property_list::read_property_list(input)? {
                records.mapped(WHOLE_FILE, Ok(record))?;
            }
        }
        Format::Ini | Format::KeyValue => {
            let settings = setting_lines::read_settings(input, source.format == Format::Ini);
            let line = settings.as_ref().err().map_or(1, |bad| bad.line);
            let record = settings.map(once_each).map_err(|bad| RecordError::unreadable(bad.message));
            records.mapped(RecordPlace::at(line, 0), record)?;
        }
        Format::Scim => {
            let page = scim::read_list_response(input, &source.id_field)?;
            file.part = !page.whole;
            for person in page.people {
                records.mapped(WHOLE_FILE, Ok(person.into()))?;
            }
        }
        Format::CycloneDx | Format::Spdx => {
            records.mapped(WHOLE_FILE, Ok(software_list::read_software_list(input, source.format)?))?;
        }
    }
    Ok(file)
}

/// Goes through the records of a batch as [`read_records`] does, and returns how many lines there are. Lines are
/// counted from where the batch begins, but for those of tables.
///
/// # Errors
/// What `each` returns.
pub fn read_batch(
    batch: &mut RecordBatch,
    source: &Source,
    with: &Mapped<'_>,
    each: impl FnMut(Record<'_>) -> Result<(), String>,
) -> Result<u64, String> {
    Records { source, with, each }.batch(batch, 0)
}

struct Records<'r, F> {
    source: &'r Source,
    with: &'r Mapped<'r>,
    each: F,
}

impl<F: FnMut(Record<'_>) -> Result<(), String>> Records<'_, F> {
    fn mapped(&mut self, place: RecordPlace, record: Result<RawRecord, RecordError>) -> Result<(), String> {
        let mapped = record.and_then(|record| map_record(record, self.source, self.with));
        self.hand_on(place, mapped)
    }

    fn hand_on(&mut self, place: RecordPlace, mapped: Result<MappedRecord, RecordError>) -> Result<(), String> {
        let room = Bump::new();
        let (document, doubts) = match mapped {
            Ok(MappedRecord { document, doubts }) => (Ok(RawDocument::copy(document.as_bytes(), &room)), doubts),
            Err(error) => (Err(error), RecordDoubts::default()),
        };
        (self.each)(Record { place, document, doubts })
    }

    /// One JSON object; none when it is too long.
    fn json(
        &mut self,
        place: RecordPlace,
        document: Option<RawDocument<'_>>,
        key: Option<String>,
    ) -> Result<(), String> {
        match document {
            None => {
                let reason =
                    RecordError::new(RejectKind::TooLarge, format!("the record is longer than {}", record_limit()));
                self.hand_on(place, Err(reason))
            }
            Some(document) if self.source.is_native() => {
                (self.each)(Record { place, document: Ok(document), doubts: RecordDoubts::default() })
            }
            Some(document) => {
                let record = match parse(document) {
                    Ok(record) => Ok(RawRecord { key, ..record }),
                    Err(error) => Err(RecordError { id: mapping::id_of_key(key, self.source), ..error }),
                };
                self.mapped(place, record)
            }
        }
    }

    /// The records of a batch, before which there are `before` lines; returns how many lines it has.
    fn batch(&mut self, batch: &mut RecordBatch, before: u64) -> Result<u64, String> {
        match &mut batch.content {
            BatchContent::Lines(chunk) => self.chunk(chunk, before),
            BatchContent::Rows(columns, rows) => {
                for row in rows.drain(..) {
                    let record = match row.cells {
                        Ok(cells) => Ok(table::members_of(cells, columns, self.source).into()),
                        Err(fault) => {
                            let id = mapping::id_in_cells(&fault.cells, columns, self.source, self.with);
                            Err(RecordError { kind: RejectKind::Unreadable, reason: fault.reason, id })
                        }
                    };
                    self.mapped(RecordPlace::at(row.line, row.offset), record)?;
                }
                Ok(0)
            }
            BatchContent::Groups(columns, groups) => {
                for group in groups.drain(..) {
                    self.group(group, columns)?;
                }
                Ok(0)
            }
        }
    }

    /// The record of the rows of a device, behind those of its rows that are set aside.
    fn group(&mut self, group: table::RowGroup, columns: &table::TableColumns) -> Result<(), String> {
        let (source, with) = (self.source, self.with);
        let each = &mut self.each;
        let mapped = mapping::map_group(group, columns, source, with, |bad| {
            each(Record { place: bad.place, document: Err(bad.error), doubts: RecordDoubts::default() })
        })?;
        match mapped {
            Some(mapping::MappedGroup { place, record }) => self.hand_on(place, record),
            None => Ok(()),
        }
    }

    /// The lines of a chunk, before which there are `before` others; returns how many they are.
    fn chunk(&mut self, chunk: &mut Chunk, before: u64) -> Result<u64, String> {
        let mut lines = chunk.lines();
        while let Some(line) = lines.next_line() {
            self.json(RecordPlace::at(before + line.number, line.offset), line.content, None)?;
        }
        Ok(lines.passed())
    }
}

/// The first records of a table.
pub(crate) struct TableSample {
    /// How many lines stand before the headings.
    pub skip_rows: u64,
    /// The columns' headings; a column may have none.
    pub headings: Vec<String>,
    pub records: Vec<Map<String, Json>>,
    /// How many rows had another number of cells; they are left out.
    pub uneven_rows: usize,
}

impl TableSample {
    fn add(&mut self, cells: Vec<Json>) {
        let told = self.headings.iter().cloned().zip(cells).filter(|(name, _)| !name.is_empty());
        self.records.push(told.collect());
    }
}

/// Reads up to `most` records from a CSV text.
pub(crate) fn csv_sample(text: &[u8], delimiter: u8, most: usize) -> TableSample {
    let mut rows = csv_rows_of(text, delimiter);
    let mut sample = TableSample {
        skip_rows: 0,
        headings: rows.headings().unwrap_or_default(),
        records: Vec::new(),
        uneven_rows: 0,
    };
    // What ends the reading early was read all the same.
    while sample.records.len() + sample.uneven_rows < most
        && let Ok(Some(row)) = rows.next_row()
    {
        match row.cells {
            Ok(cells) => sample.add(cells),
            Err(_) => sample.uneven_rows += 1,
        }
    }
    sample
}

/// Reads up to `most` records from the sheet of a workbook that has the most; returns them with the sheet, where it is not the first.
pub(crate) fn records_of_workbook(bytes: &[u8], most: usize) -> Result<(TableSample, Option<String>), String> {
    let WorkbookSample { sheet, skip_rows, headings, rows } = workbook_sample(bytes, most)?;
    let mut sample = TableSample { skip_rows, headings, records: Vec::new(), uneven_rows: 0 };
    rows.into_iter().for_each(|row| sample.add(row));
    Ok((sample, sheet))
}

/// The records of a property list.
pub(crate) fn property_list_sample(bytes: &[u8]) -> Result<Vec<Map<String, Json>>, String> {
    Ok(property_list::read_property_list(bytes)?.into_iter().map(|record| record.members).collect())
}

/// The software of a document that lists it.
pub(crate) fn software_sample(bytes: &[u8], format: Format) -> Result<Map<String, Json>, String> {
    software_list::read_software_list(bytes, format).map(|record| record.members)
}

/// The people of a SCIM list response.
pub(crate) fn scim_sample(bytes: &[u8]) -> Result<Vec<Map<String, Json>>, String> {
    scim::read_list_response(bytes, "userName").map(|page| page.people)
}

/// The settings of a file as one record.
pub(crate) fn settings_sample(bytes: &[u8], sections: bool) -> Result<Map<String, Json>, String> {
    match setting_lines::read_settings(bytes, sections) {
        Ok(settings) => Ok(once_each(settings).members),
        Err(bad) => Err(bad.to_string()),
    }
}

/// Makes a record of settings, with those remembered that were given twice.
fn once_each(settings: Vec<(String, Option<String>)>) -> RawRecord {
    let mut record = RawRecord::default();
    for (path, value) in settings {
        if record.members.contains_key(&path) {
            record.doubled.push(path);
        } else {
            record.members.insert(path, value.map_or(Json::Null, Json::String));
        }
    }
    record
}

/// Reads a JSON object as a record; the same objects are accepted as of documents that need no mapping.
fn parse(document: RawDocument<'_>) -> Result<RawRecord, RecordError> {
    let refused =
        |error: fencepost_core::ReadError| RecordError::unreadable(format!("byte {}: {}", error.offset, error.message));
    let arena = Bump::new();
    let mut doubled = Doubled {
        cursor: Cursor::new(document, &arena, false).map_err(refused)?,
        path: Vec::new(),
        seen: Vec::new(),
        found: Vec::new(),
    };
    let checked = doubled.value().and_then(|()| doubled.cursor.finish());
    checked.map_err(|fault| refused(doubled.cursor.explain(fault)))?;
    match serde_json::from_slice(document.bytes()) {
        Ok(Json::Object(members)) => Ok(RawRecord { members, doubled: doubled.found, key: None }),
        Ok(_) => Err(RecordError::unreadable("a record is a JSON object")),
        Err(error) => Err(RecordError::unreadable(format!("column {}: {error}", error.column()))),
    }
}

/// Looks for keys that are given twice.
struct Doubled<'a> {
    cursor: Cursor<'a>,
    path: Vec<&'a str>,
    seen: Vec<HashSet<&'a str>>,
    found: Vec<String>,
}

impl<'a> Walker<'a> for Doubled<'a> {
    fn cursor(&mut self) -> &mut Cursor<'a> {
        &mut self.cursor
    }
}

impl Doubled<'_> {
    fn value(&mut self) -> WalkResult {
        match self.cursor.byte() {
            b'{' => {
                self.seen.push(HashSet::new());
                self.members(|walk, key| {
                    let Quoted::Text(key) = key else { return walk.cursor.skip() };
                    walk.path.push(key);
                    if walk.seen.last_mut().is_some_and(|seen| !seen.insert(key)) {
                        walk.found.push(walk.path.join("."));
                    }
                    walk.value()?;
                    walk.path.pop();
                    Ok(())
                })?;
                self.seen.pop();
                Ok(())
            }
            b'[' => self.items(Self::value),
            _ => self.cursor.skip(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::workspace::Field;
    use fencepost_core::{Declaration, Dictionary, FactType};
    use jiff::tz::TimeZone;

    fn handhelds() -> Source {
        let field = |fact: &str| Field::of(fact.to_owned());
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
        let with = Mapped {
            dictionary: &dictionary,
            zone: &TimeZone::UTC,
            file_time: None,
            path: Some("dumps/tern-kiosk.ini.gz"),
        };
        let mut all = Vec::new();
        read_records(text.as_bytes(), source, &with, |record| {
            all.push(
                record
                    .document
                    .map(|document| String::from_utf8(document.bytes().to_vec()).unwrap())
                    .map_err(|error| format!("{}: {error}", record.place.line)),
            );
            Ok(())
        })
        .map_err(|error| error.message)?;
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
    }
}
