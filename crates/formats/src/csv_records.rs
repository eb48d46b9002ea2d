//! Reads rows of a CSV file (RFC 4180) under their headings.

use std::io::Read;

use csv::{ByteRecord, ReaderBuilder};

/// One row, or why there is none.
pub(crate) struct Row {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes.
    pub offset: u64,
    /// Its cells in the order of the headings.
    pub cells: Result<Vec<String>, String>,
}

/// Goes through the rows of a file; `headings` is asked once, before the first row.
///
/// # Errors
/// What is wrong with the file as a whole: no headings, doubled ones, or what `headings` says.
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
    let mut names: Vec<String> = record.iter().map(|cell| String::from_utf8_lossy(cell).trim().to_owned()).collect();
    if let Some(first) = names.first_mut() {
        *first = first.trim_start_matches('\u{feff}').to_owned();
    }
    for (at, name) in names.iter().enumerate() {
        if names[..at].contains(name) && !name.is_empty() {
            return Err(format!("two columns are headed `{name}`; give each column a heading of its own"));
        }
    }
    headings(&names)?;
    while read(&mut reader, &mut record)? {
        let place = record.position().map_or((0, 0), |position| (position.line(), position.byte()));
        let cells = if record.len() == names.len() {
            record
                .iter()
                .map(|cell| std::str::from_utf8(cell).map(|text| text.trim().to_owned()))
                .collect::<Result<_, _>>()
                .map_err(|_| "these bytes are not UTF-8".to_owned())
        } else {
            Err(format!("this row has {} cells under {} headings", record.len(), names.len()))
        };
        row(Row { line: place.0, offset: place.1, cells })?;
    }
    Ok(())
}
