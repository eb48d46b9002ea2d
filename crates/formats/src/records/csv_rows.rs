//! Reads rows of a CSV file (RFC 4180) under their headings.

use std::collections::{HashMap, HashSet};
use std::io::Read;

use csv::{ByteRecord, ReaderBuilder};

use super::pieces::MAX_LINE;
use crate::json_walk::MAX_FIELDS;

/// One row, or why there is none.
pub(crate) struct Row {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes.
    pub offset: u64,
    /// Its cells in the order of the headings; or what is wrong, with the cells that there are.
    pub cells: Result<Vec<String>, (String, Vec<String>)>,
}

/// Returns the headings of a CSV file by their cells, with doubled ones numbered.
fn headings_of(cells: &ByteRecord) -> Result<Vec<String>, String> {
    let mut names: Vec<String> = cells.iter().map(|cell| String::from_utf8_lossy(cell).trim().to_owned()).collect();
    if let Some(first) = names.first_mut() {
        *first = first.trim_start_matches('\u{feff}').to_owned();
    }
    number_doubled(&mut names)?;
    Ok(names)
}

/// Goes through the rows of a file; `headings` is asked once, before the first row.
///
/// # Errors
/// What is wrong with the file as a whole: no headings, too many, or what `headings` says.
pub(crate) fn for_each_row(
    input: impl Read,
    delimiter: u8,
    headings: impl FnOnce(&[String]) -> Result<(), String>,
    mut row: impl FnMut(Row) -> Result<(), String>,
) -> Result<(), String> {
    let mut reader = ReaderBuilder::new().delimiter(delimiter).flexible(true).has_headers(false).from_reader(input);
    let mut record = ByteRecord::new();
    let read = |reader: &mut csv::Reader<_>, record: &mut ByteRecord| {
        reader.read_byte_record(record).map_err(|error| error.to_string())
    };
    if !read(&mut reader, &mut record)? {
        return Err("the file is empty: its first line must name the columns".to_owned());
    }
    let names = headings_of(&record)?;
    headings(&names)?;
    while read(&mut reader, &mut record)? {
        let place = record.position().map_or((0, 0), |position| (position.line(), position.byte()));
        let read: Result<Vec<String>, _> =
            record.iter().map(|cell| std::str::from_utf8(cell).map(|text| text.trim().to_owned())).collect();
        let cells = match read {
            _ if record.as_slice().len() > MAX_LINE => {
                Err((format!("the row is longer than {} MiB", MAX_LINE >> 20), Vec::new()))
            }
            Err(_) => Err(("these bytes are not UTF-8".to_owned(), Vec::new())),
            Ok(cells) if cells.len() == names.len() => Ok(cells),
            Ok(cells) => Err((format!("this row has {} cells under {} headings", cells.len(), names.len()), cells)),
        };
        row(Row { line: place.0, offset: place.1, cells })?;
    }
    Ok(())
}

/// Calls the second column of a heading `Heading (2)`, the third `Heading (3)`, and a column without one by its place.
fn number_doubled(names: &mut [String]) -> Result<(), String> {
    if names.len() > MAX_FIELDS {
        return Err(format!("the file has more than {MAX_FIELDS} columns"));
    }
    let mut count: HashMap<String, usize> = HashMap::new();
    for name in names.iter_mut() {
        let times = count.entry(name.clone()).or_default();
        *times += 1;
        if *times > 1 && !name.is_empty() {
            *name = format!("{name} ({times})");
        }
    }
    let mut seen = HashSet::new();
    match names.iter().find(|name| !name.is_empty() && !seen.insert(name.as_str())) {
        Some(name) => Err(format!("two columns are headed `{name}`; give each column a heading of its own")),
        None => Ok(()),
    }
}
