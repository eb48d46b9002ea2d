//! Tells the format of a file by what it holds, and reads its first records.

use std::borrow::Cow;

use encoding_rs::WINDOWS_1252;
use serde_json::{Map, Value as Json};

use super::Sample;
use crate::records::{
    DELIMITERS, TableSample, ZIP_START, csv_sample, property_list_sample, records_of_workbook, scim_sample,
    settings_sample, software_sample,
};
use crate::workspace::Format;

/// How much of a file is looked at, in bytes.
pub const SAMPLE: usize = 4 << 20;
/// How many records are looked at.
const RECORDS: usize = 2_000;

type Record = Map<String, Json>;

pub(super) fn sample(start: &[u8], whole: bool) -> Result<Sample, String> {
    if start.starts_with(b"bplist") || is_xml_list(start) {
        if !whole {
            return Err(format!("a property list is read whole, and this one is longer than {} MiB", SAMPLE >> 20));
        }
        return Ok(sample_of(Format::PropertyList, property_list_sample(start)?, false));
    }
    if start.starts_with(ZIP_START) {
        if !whole {
            return Err(format!("a workbook is read whole, and this one is longer than {} MiB", SAMPLE >> 20));
        }
        let (table, sheet) = records_of_workbook(start, RECORDS)?;
        let more = table.records.len() == RECORDS;
        let skip_rows = table.skip_rows;
        return Ok(Sample { sheet, skip_rows, ..sample_of(Format::Workbook, table.records, more) });
    }
    let (text, encoding) = text_of(start, whole)?;
    Ok(Sample { encoding, ..sample_of_text(&text, whole)? })
}

fn sample_of_text(text: &str, whole: bool) -> Result<Sample, String> {
    match text.trim_start().chars().next() {
        None => Err("the file is empty".to_owned()),
        Some('[') if is_section(text) => plain(text, whole),
        Some('{' | '[') => json(text, whole),
        Some('<') => Err("this looks like XML, of which only property lists are read".to_owned()),
        Some(_) => plain(text, whole),
    }
}

fn sample_of(format: Format, records: Vec<Record>, more: bool) -> Sample {
    Sample {
        format,
        delimiter: b',',
        encoding: None,
        records_at: None,
        keyed: false,
        sheet: None,
        skip_rows: 0,
        records,
        more,
    }
}

/// Whether the first line is a section of INI, and not the beginning of a JSON list.
fn is_section(text: &str) -> bool {
    let line = text.trim_start().lines().next().unwrap_or_default().trim();
    let inner = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or_default();
    inner.starts_with(|c: char| c.is_alphabetic()) && serde_json::from_str::<Json>(line).is_err()
}

fn is_xml_list(start: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&start[..start.len().min(2000)]);
    head.contains("<plist") || head.contains("<!DOCTYPE plist")
}

/// The text of a sample, with its encoding where it is no UTF-8; one that was cut may end in half a character.
fn text_of(start: &[u8], whole: bool) -> Result<(Cow<'_, str>, Option<&'static str>), String> {
    match std::str::from_utf8(start) {
        Ok(text) => Ok((text.trim_start_matches('\u{feff}').into(), None)),
        Err(error) if !whole && error.error_len().is_none() => text_of(&start[..error.valid_up_to()], true),
        // Text of one byte a character has no control characters but ends of lines and tabs.
        Err(_) if start.iter().all(|byte| *byte >= b' ' || matches!(byte, b'\t' | b'\r' | b'\n')) => {
            let (text, ..) = WINDOWS_1252.decode(start);
            Ok((text, Some(WINDOWS_1252.name())))
        }
        Err(error) => Err(format!(
            "byte {} is not UTF-8: export the file as UTF-8, or as UTF-16 with a byte order mark",
            error.valid_up_to()
        )),
    }
}

fn json(text: &str, whole: bool) -> Result<Sample, String> {
    // Objects one a line: the first line is one, and the second, if there is one, begins another.
    let mut lines = text.lines().filter(|line| !line.trim().is_empty());
    let first = lines.next().and_then(|line| serde_json::from_str::<Record>(line).ok());
    let second = lines.next();
    if first.is_some() && second.is_none_or(|line| line.trim_start().starts_with('{')) {
        let several = second.is_some();
        if several || !first.as_ref().is_some_and(is_wrapper) {
            let records: Vec<Record> =
                text.lines().filter_map(|line| serde_json::from_str(line).ok()).take(RECORDS).collect();
            let more = !whole || records.len() == RECORDS;
            return Ok(sample_of(Format::JsonLines, records, more));
        }
    }
    if whole && let Ok(people) = scim_sample(text.as_bytes()) {
        return Ok(sample_of(Format::Scim, people.into_iter().take(RECORDS).collect(), false));
    }
    if !whole {
        // The records at the root can be told one by one, and no others.
        let records = beginning(text);
        if records.is_empty() {
            return Err(format!(
                "the JSON document is longer than {} MiB and no list of objects; draft from a smaller file of the feed",
                SAMPLE >> 20
            ));
        }
        return Ok(sample_of(Format::Json, records, true));
    }
    let document: Json = serde_json::from_str(text).map_err(|error| format!("this is no JSON document: {error}"))?;
    if let Some(format) = software_list(&document) {
        let record = software_sample(text.as_bytes(), format)?;
        return Ok(sample_of(format, vec![record], false));
    }
    if let Some((path, records)) = find_keyed(&document, "", 0) {
        let more = records.len() > RECORDS;
        let records_at = Some(if path.is_empty() { "*".to_owned() } else { format!("{path}.*") });
        let records = records.into_iter().take(RECORDS).collect();
        return Ok(Sample { records_at, keyed: true, ..sample_of(Format::Json, records, more) });
    }
    let mut lists = Vec::new();
    find_lists(&document, "", 0, &mut lists);
    // The longest list of objects is what the file is about.
    lists.sort_by_key(|(path, records)| (std::cmp::Reverse(records.len()), path.len()));
    match (lists.into_iter().next(), document) {
        (Some((path, records)), _) => {
            let more = records.len() > RECORDS;
            let records_at = (!path.is_empty()).then_some(path);
            let records = records.into_iter().take(RECORDS).collect();
            Ok(Sample { records_at, ..sample_of(Format::Json, records, more) })
        }
        (None, Json::Object(record)) => Ok(sample_of(Format::Json, vec![record], false)),
        (None, _) => Err("the JSON document holds no object".to_owned()),
    }
}

/// One object that holds a list of objects is more likely a wrapper than a device; a device has facts beside its lists.
fn is_wrapper(record: &Record) -> bool {
    let mut lists = Vec::new();
    find_lists(&Json::Object(record.clone()), "", 0, &mut lists);
    let scalars = record.values().filter(|value| !value.is_array() && !value.is_object()).count();
    let named = record.keys().any(|key| matches!(key.as_str(), "device" | "collected_at"));
    let is_keyed = || find_keyed(&Json::Object(record.clone()), "", 0).is_some();
    !named && scalars <= 4 && (lists.iter().any(|(_, records)| !records.is_empty()) || is_keyed())
}

/// The format of a document that lists software.
fn software_list(document: &Json) -> Option<Format> {
    if document["bomFormat"] == "CycloneDX" {
        return Some(Format::CycloneDx);
    }
    document["spdxVersion"].as_str().map(|_| Format::Spdx)
}

/// Finds an object of records: of at least three members that are much alike.
fn find_keyed(json: &Json, path: &str, depth: usize) -> Option<(String, Vec<Record>)> {
    let fields = json.as_object().filter(|_| depth < 4)?;
    let members: Vec<&Record> = fields.values().filter_map(Json::as_object).collect();
    if members.len() == fields.len() && members.len() >= 3 {
        let first = members[0];
        let alike = |member: &&Record| {
            let shared = first.keys().filter(|key| member.contains_key(*key)).count();
            shared >= 2 && shared * 10 >= first.len() * 6
        };
        if members.iter().all(alike) {
            return Some((path.to_owned(), members.into_iter().cloned().collect()));
        }
    }
    fields.iter().find_map(|(key, value)| {
        let below = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
        find_keyed(value, &below, depth + 1)
    })
}

fn find_lists(json: &Json, path: &str, depth: usize, into: &mut Vec<(String, Vec<Record>)>) {
    match json {
        Json::Array(items) if items.iter().all(Json::is_object) && !items.is_empty() => {
            let records = items.iter().filter_map(|item| item.as_object().cloned()).collect();
            into.push((path.to_owned(), records));
        }
        Json::Object(fields) if depth < 4 => {
            for (key, value) in fields {
                let below = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                find_lists(value, &below, depth + 1, into);
            }
        }
        _ => {}
    }
}

/// The whole records at the beginning of a list that was cut.
fn beginning(text: &str) -> Vec<Record> {
    let Some(rest) = text.trim_start().strip_prefix('[') else { return Vec::new() };
    let (mut records, mut rest) = (Vec::new(), rest);
    while records.len() < RECORDS {
        let mut stream = serde_json::Deserializer::from_str(rest.trim_start_matches([',', ' ', '\n', '\r', '\t']))
            .into_iter::<Record>();
        let Some(Ok(record)) = stream.next() else { break };
        let trimmed = rest.trim_start_matches([',', ' ', '\n', '\r', '\t']);
        rest = &trimmed[stream.byte_offset()..];
        records.push(record);
    }
    records
}

/// Rows, sections or settings.
fn plain(text: &str, whole: bool) -> Result<Sample, String> {
    let lines: Vec<&str> = text
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty() && !line.starts_with(['#', ';']))
        .take(200)
        .collect();
    let section = |line: &&&str| line.starts_with('[') && line.ends_with(']');
    let setting = |line: &&&str, marks: &[char]| {
        line.find(marks).is_some_and(|at| at > 0 && !line[..at].contains([',', ';', '\t', '"', '|']))
    };
    let sections = lines.iter().filter(section).count();
    let settings = |marks: &[char]| lines.iter().filter(|line| !section(line) && setting(line, marks)).count();
    let all = |marks: &[char]| sections + settings(marks) == lines.len();
    // A file of settings may write some of them with a colon.
    if whole && settings(&['=']) > 0 && all(&['=', ':']) {
        let format = if sections > 0 || !all(&['=']) { Format::Ini } else { Format::KeyValue };
        if let Ok(record) = settings_sample(text.as_bytes(), format == Format::Ini) {
            return Ok(sample_of(format, vec![record], false));
        }
    }
    let plain_rows = table_below(text, 0);
    // A title before the headings makes rows of another width of all below it.
    let is_even = |table: &DelimitedSample| table.sample.records.len() > table.sample.uneven_rows;
    let best = match plain_rows {
        Some(table) if is_even(&table) => Some(table),
        other => {
            let below = (1..=MOST_SKIPPED).filter_map(|lines| table_below(text, lines)).filter(is_even);
            below.max_by_key(|table| (table.sample.records.len(), std::cmp::Reverse(table.sample.skip_rows))).or(other)
        }
    };
    // What is not parted into columns is no table; its first line may be anything, and is not repeated.
    let Some(DelimitedSample { delimiter, sample: TableSample { records, skip_rows, .. } }) = best else {
        return Err(
            "this is no table, and no file of settings alone: no delimiter parts its lines into columns".to_owned()
        );
    };
    let more = !whole || records.len() == RECORDS;
    Ok(Sample { delimiter, skip_rows, ..sample_of(Format::Csv, records, more) })
}

/// So many lines may stand before the headings of a table.
const MOST_SKIPPED: usize = 10;

/// A table under a delimiter.
struct DelimitedSample {
    delimiter: u8,
    sample: TableSample,
}

/// Returns the table below some lines, by the delimiter that parts the most rows into as many cells as there are headings; none where none parts
/// them.
fn table_below(text: &str, lines: usize) -> Option<DelimitedSample> {
    let start = match lines {
        0 => 0,
        lines => text.match_indices('\n').nth(lines - 1)?.0 + 1,
    };
    let sample = |delimiter| {
        let sample = csv_sample(&text.as_bytes()[start..], delimiter, RECORDS);
        DelimitedSample { delimiter, sample: TableSample { skip_rows: lines as u64, ..sample } }
    };
    let best = DELIMITERS.into_iter().map(sample).max_by_key(|table| {
        let whole_rows = table.sample.records.len().saturating_sub(table.sample.uneven_rows);
        (whole_rows * usize::from(table.sample.headings.len() > 1), table.sample.headings.len())
    });
    best.filter(|table| table.sample.headings.len() > 1)
}
