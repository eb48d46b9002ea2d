//! Reads rows of a CSV file (RFC 4180) under their headings.
//!
//! A row may run over several lines where a cell is quoted. A quote that is never closed would make one row of the rest of
//! the file, so lines are read ahead of the parser and given back when such a row turns out to be none.

use std::collections::{HashMap, HashSet, VecDeque};
use std::io::{self, BufRead};

use csv_core::{ReadRecordResult, Reader};
use fencepost_core::limits::{self, CELL_LINES, FIELDS, HEADINGS_BYTES, RECORD_BYTES};
use memchr::memchr2;

/// One row, or why there is none.
pub(crate) struct CsvRow {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes.
    pub offset: u64,
    /// Its cells in the order of the headings; or what is wrong, with the cells that there are.
    pub cells: Result<Vec<String>, (String, Vec<String>)>,
}

/// Returns the headings of a CSV file by their cells, with doubled ones numbered.
fn headings_of(row: &RawRow<'_>) -> Result<Vec<String>, String> {
    let length: usize = row.cells.iter().map(|cell| cell.len()).sum();
    if length > HEADINGS_BYTES {
        let most = limits::size(HEADINGS_BYTES as u64);
        return Err(format!("line {}: the headings are longer than {most}; is this a table at all?", row.line));
    }
    let mut names: Vec<String> = row.cells.iter().map(|cell| String::from_utf8_lossy(cell).trim().to_owned()).collect();
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
    input: impl BufRead,
    delimiter: u8,
    headings: impl FnOnce(&[String]) -> Result<(), String>,
    mut row: impl FnMut(CsvRow) -> Result<(), String>,
) -> Result<(), String> {
    let mut rows = Rows::new(input, delimiter);
    let names = match rows.next_row().map_err(|error| error.to_string())? {
        None => return Err("the file is empty: its first line must name the columns".to_owned()),
        Some(RawRow { fault: Some(fault), line, .. }) => return Err(format!("line {line}: {fault}")),
        Some(found) => headings_of(&found)?,
    };
    headings(&names)?;
    while let Some(found) = rows.next_row().map_err(|error| error.to_string())? {
        let read: Result<Vec<String>, _> =
            found.cells.iter().map(|cell| std::str::from_utf8(cell).map(|text| text.trim().to_owned())).collect();
        let cells = match (found.fault, read) {
            (Some(fault), read) => Err((fault, read.unwrap_or_default())),
            (None, Err(_)) => Err(("these bytes are not UTF-8".to_owned(), Vec::new())),
            (None, Ok(cells)) if cells.len() == names.len() => Ok(cells),
            (None, Ok(cells)) => {
                let over = if found.lines > 1 { format!(" over {} lines", found.lines) } else { String::new() };
                Err((format!("this row has {} cells{over} under {} headings", cells.len(), names.len()), cells))
            }
        };
        row(CsvRow { line: found.line, offset: found.offset, cells })?;
    }
    Ok(())
}

/// Calls the second column of a heading `Heading (2)`, the third `Heading (3)`, and a column without one by its place.
fn number_doubled(names: &mut [String]) -> Result<(), String> {
    if names.len() > FIELDS {
        return Err(format!("the file has more than {FIELDS} columns"));
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
        Some(name) => {
            Err(format!("two columns are headed `{}`; give each column a heading of its own", limits::quoted(name)))
        }
        None => Ok(()),
    }
}

/// A row as it stands in the file.
struct RawRow<'r> {
    /// The line that it begins on, from 1, and how many it takes.
    line: u64,
    lines: u64,
    offset: u64,
    cells: Vec<&'r [u8]>,
    /// Why it is no row.
    fault: Option<String>,
}

/// Reads rows from a stream.
struct Rows<R> {
    lines: LineReader<R>,
    delimiter: u8,
    parser: Reader,
    /// The bytes of the cells of the current row, one after the other, and where each ends.
    bytes: Vec<u8>,
    ends: Vec<usize>,
}

/// The lines of a row: the first, how many they are, and where they begin in the file.
struct RowLines {
    line: u64,
    lines: u64,
    offset: u64,
}

/// How far a row has come after one more line.
enum Progress {
    Whole,
    /// A quoted cell goes on in the next line.
    Quoted,
}

impl<R: BufRead> Rows<R> {
    fn new(input: R, delimiter: u8) -> Self {
        let parser = csv_core::ReaderBuilder::new().delimiter(delimiter).build();
        Self { lines: LineReader::new(input), delimiter, parser, bytes: vec![0; 4096], ends: vec![0; 64] }
    }

    /// Reads the next row; none at the end of the file.
    fn next_row(&mut self) -> io::Result<Option<RawRow<'_>>> {
        let first = loop {
            match self.lines.next_line()? {
                None => return Ok(None),
                Some(line) if line.is_blank() => self.lines.spare = line.bytes,
                Some(line) => break line,
            }
        };
        let (line, offset) = (first.number, first.offset);
        if first.too_long {
            let fault = Some(format!("the row is longer than {}", limits::size(RECORD_BYTES as u64)));
            return Ok(Some(RawRow { line, lines: 1, offset, cells: Vec::new(), fault }));
        }
        self.parser.reset();
        let (mut length, mut cells) = (0, 0);
        let mut progress = self.feed(&first.bytes, &mut length, &mut cells);
        if matches!(progress, Progress::Whole) {
            self.lines.spare = first.bytes;
            return Ok(Some(self.row(RowLines { line, lines: 1, offset }, cells, None)));
        }
        let mut taken = vec![first];
        let fault = loop {
            let bytes: usize = taken.iter().map(|line| line.bytes.len()).sum();
            if taken.len() as u64 >= CELL_LINES || bytes > RECORD_BYTES {
                break Some(format!("a quote that is not closed within {} lines", taken.len()));
            }
            let Some(next) = self.lines.next_line()? else {
                break Some("a quote that is not closed before the end of the file".to_owned());
            };
            progress = if next.too_long { Progress::Quoted } else { self.feed(&next.bytes, &mut length, &mut cells) };
            taken.push(next);
            if matches!(progress, Progress::Whole) {
                let whole = taken.iter().flat_map(|line| &line.bytes).copied();
                let strict = is_strictly_quoted(whole, self.delimiter);
                break (!strict).then(|| "a quote that is not closed before another begins".to_owned());
            }
        };
        let lines = taken.len() as u64;
        if fault.is_none() {
            return Ok(Some(self.row(RowLines { line, lines, offset }, cells, None)));
        }
        // The first line alone is bad; the others are rows of their own.
        let mut taken = taken.into_iter();
        let first = taken.next();
        self.lines.give_back(taken);
        self.parser.reset();
        (length, cells) = (0, 0);
        if let Some(first) = first {
            // Its cells tell which device it is about.
            self.feed(&first.bytes, &mut length, &mut cells);
        }
        Ok(Some(self.row(RowLines { line, lines: 1, offset }, cells, fault)))
    }

    fn row(&self, RowLines { line, lines, offset }: RowLines, cells: usize, fault: Option<String>) -> RawRow<'_> {
        let ends = &self.ends[..cells];
        let starts = std::iter::once(0).chain(ends.iter().copied());
        let cells = starts.zip(ends).map(|(start, end)| &self.bytes[start..*end]).collect();
        RawRow { line, lines, offset, cells, fault }
    }

    /// Parses one line of a row, of which `length` bytes and `cells` cells are there already.
    fn feed(&mut self, line: &[u8], length: &mut usize, cells: &mut usize) -> Progress {
        let mut rest = line;
        loop {
            let (result, read, wrote, ended) =
                self.parser.read_record(rest, &mut self.bytes[*length..], &mut self.ends[*cells..]);
            rest = &rest[read..];
            *length += wrote;
            *cells += ended;
            match result {
                // Longer than what was read they cannot become.
                ReadRecordResult::OutputFull => self.bytes.resize(self.bytes.len() * 2, 0),
                ReadRecordResult::OutputEndsFull => self.ends.resize(self.ends.len() * 2, 0),
                ReadRecordResult::InputEmpty => return Progress::Quoted,
                ReadRecordResult::Record | ReadRecordResult::End => return Progress::Whole,
            }
        }
    }
}

/// Whether a row is quoted as RFC 4180 has it: a quote opens a cell at its beginning, and closes it at its end.
fn is_strictly_quoted(row: impl Iterator<Item = u8>, delimiter: u8) -> bool {
    let mut row = row.peekable();
    let mut at_start = true;
    while let Some(byte) = row.next() {
        if byte != b'"' {
            at_start = byte == delimiter;
            continue;
        }
        if !at_start {
            return false;
        }
        loop {
            match row.next() {
                None => return false,
                Some(b'"') if row.next_if_eq(&b'"').is_some() => {}
                Some(b'"') => break,
                Some(_) => {}
            }
        }
        at_start = false;
        if !matches!(row.peek(), None | Some(b'\r' | b'\n')) && row.peek() != Some(&delimiter) {
            return false;
        }
    }
    true
}

/// A line of a file, with its end.
struct TextLine {
    bytes: Vec<u8>,
    /// From 1.
    number: u64,
    offset: u64,
    /// It is longer than a record may be; what it held is gone.
    too_long: bool,
}

impl TextLine {
    fn is_blank(&self) -> bool {
        !self.too_long && self.bytes.iter().all(|byte| matches!(byte, b'\r' | b'\n'))
    }
}

/// Reads lines, and takes back those that were read too far.
struct LineReader<R> {
    input: R,
    given_back: VecDeque<TextLine>,
    number: u64,
    offset: u64,
    /// A buffer for the next line.
    spare: Vec<u8>,
}

impl<R: BufRead> LineReader<R> {
    fn new(input: R) -> Self {
        Self { input, given_back: VecDeque::new(), number: 0, offset: 0, spare: Vec::new() }
    }

    fn give_back(&mut self, lines: impl DoubleEndedIterator<Item = TextLine>) {
        lines.rev().for_each(|line| self.given_back.push_front(line));
    }

    /// Reads the next line; none at the end. Lines end in a line feed, a carriage return or both; the last one is given a
    /// line feed where it has none, so that a row ends there.
    fn next_line(&mut self) -> io::Result<Option<TextLine>> {
        if let Some(line) = self.given_back.pop_front() {
            return Ok(Some(line));
        }
        let mut bytes = std::mem::take(&mut self.spare);
        bytes.clear();
        let offset = self.offset;
        let mut too_long = false;
        loop {
            let available = match self.input.fill_buf() {
                Ok(available) => available,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error),
            };
            if available.is_empty() {
                if self.offset == offset {
                    return Ok(None);
                }
                bytes.push(b'\n');
                break;
            }
            let end = memchr2(b'\n', b'\r', available);
            let taken = end.map_or(available.len(), |end| end + 1);
            let ended_by_return = end.is_some_and(|end| available[end] == b'\r');
            too_long |= bytes.len() + taken > RECORD_BYTES;
            if too_long {
                bytes = Vec::new();
            } else {
                bytes.extend_from_slice(&available[..taken]);
            }
            self.input.consume(taken);
            self.offset += taken as u64;
            if ended_by_return && self.input.fill_buf()?.first() == Some(&b'\n') {
                self.input.consume(1);
                self.offset += 1;
                if !too_long {
                    bytes.push(b'\n');
                }
            }
            if end.is_some() {
                break;
            }
        }
        self.number += 1;
        Ok(Some(TextLine { bytes, number: self.number, offset, too_long }))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// All rows of a text: line, and cells or fault.
    fn rows(text: &[u8]) -> Vec<(u64, Result<Vec<String>, String>)> {
        let mut found = Vec::new();
        for_each_row(
            text,
            b',',
            |_| Ok(()),
            |row| {
                found.push((row.line, row.cells.map_err(|(fault, _)| fault)));
                Ok(())
            },
        )
        .unwrap();
        found
    }

    fn cells(cells: &[&str]) -> Result<Vec<String>, String> {
        Ok(cells.iter().map(|cell| (*cell).to_owned()).collect())
    }

    #[test]
    fn quoted_cells_run_over_lines_and_keep_their_quotes_and_blank_lines() {
        let text = b"a,b\r\n1,\"x\"\"y\r\n\r\nz\"\r\n2,\"\"\n\n3,5\" disk\r4,\"d\"e";
        assert_eq!(
            rows(text),
            [
                (2, cells(&["1", "x\"y\r\n\r\nz"])),
                (5, cells(&["2", ""])),
                (7, cells(&["3", "5\" disk"])),
                (8, cells(&["4", "de"])),
            ]
        );
    }

    #[test]
    fn a_quote_that_is_not_closed_spoils_its_own_line_alone() {
        let good = |from: u64, to: u64| (from..to).map(|n| format!("S-{n},x\n")).collect::<String>();
        for behind in [String::new(), "S-9000,\"Pier\"\n".to_owned(), "\"S-9000\",Pier\n".to_owned()] {
            let text = format!("id,site\nS-1,\"Ness\n{}{behind}", good(2, 3000));
            let found = rows(text.as_bytes());
            let bad: Vec<_> = found.iter().filter(|(_, cells)| cells.is_err()).collect();
            assert_eq!(bad.len(), 1, "{bad:?}");
            assert_eq!(bad[0].0, 2);
            assert!(bad[0].1.as_ref().unwrap_err().contains("a quote that is not closed"), "{bad:?}");
            assert_eq!(found.len(), 2999 + usize::from(!behind.is_empty()));
        }
        let text = format!("id,site\n{}S-9,\"Ness", good(2, 5));
        assert_eq!(rows(text.as_bytes()).last().unwrap().0, 5);
    }

    #[test]
    fn headings_without_an_end_are_refused_by_name_and_not_repeated() {
        let error = |text: String| for_each_row(text.as_bytes(), b',', |_| Ok(()), |_| Ok(())).unwrap_err();
        let found = error("x".repeat(HEADINGS_BYTES + 1));
        assert!(found.contains("the headings are longer than 1 MiB") && found.len() < 200, "{found}");
        assert!(error("x".repeat(RECORD_BYTES + 1)).contains("longer than 16 MiB"));
        assert!(error("\"a,b\n1,2\n".to_owned()).contains("line 1: a quote that is not closed"));
        assert!(error(format!("{0} (2),{0},{0}\n", "x".repeat(500))).len() < 300);
    }

    #[test]
    fn a_row_that_is_too_long_is_passed_over() {
        let text = format!("a,b\n1,{}\n2,y\n", "x".repeat(RECORD_BYTES));
        let found = rows(text.as_bytes());
        assert!(found[0].1.as_ref().unwrap_err().contains("longer than 16 MiB"));
        assert_eq!(found[1], (3, cells(&["2", "y"])));
    }

    proptest! {
        /// Tables that are written by the rules are read as they were written, by whatever buffer they come.
        #[test]
        fn what_is_written_is_read(
            table in prop::collection::vec(prop::collection::vec("[a\",\r\n é]{0,6}", 2), 1..12),
            buffer in 1_usize..40,
        ) {
            let mut writer = csv::Writer::from_writer(Vec::new());
            writer.write_record(["one", "two"]).unwrap();
            table.iter().for_each(|row| writer.write_record(row).unwrap());
            let text = writer.into_inner().unwrap();
            let mut found = Vec::new();
            for_each_row(io::BufReader::with_capacity(buffer, &text[..]), b',', |_| Ok(()), |row| {
                found.push(row.cells.map_err(|(fault, _)| fault));
                Ok(())
            }).unwrap();
            let expected: Vec<_> = table.iter().map(|row| cells(&[row[0].trim(), row[1].trim()])).collect();
            prop_assert_eq!(found, expected);
        }

        /// Nothing makes it panic, and every line that is not blank is part of some row.
        #[test]
        fn anything_is_gone_through(text in "[a\",\r\n]{0,60}") {
            let _ = for_each_row(text.as_bytes(), b',', |_| Ok(()), |_| Ok(()));
        }
    }
}
