//! Reads rows of a CSV file (RFC 4180) under their headings.
//!
//! A row may run over several lines where a cell is quoted. A quote that is never closed would make one row of the rest of
//! the file, so lines are read ahead of the parser and given back when such a row turns out to be none.

use std::collections::VecDeque;
use std::io::{self, BufRead};

use csv_core::{ReadRecordResult, Reader};
use fencepost_core::limits::{self, CELL_LINES, HEADINGS_BYTES, RECORD_BYTES};
use memchr::memchr2;
use serde_json::Value as Json;

use super::columns::BadColumns;
use super::{RowFault, TableColumns, TableRow, ZIP_START, number_doubled};
use crate::records::FileError;
use crate::workspace::Source;

/// What may stand between cells, where nothing is said.
pub(crate) const DELIMITERS: [u8; 4] = [b',', b';', b'\t', b'|'];
/// So many lines are looked at for the delimiter; headings are not longer.
const LOOKED_AT: usize = 20;

/// What is to be said of bytes that are no UTF-8.
const NO_UTF8: &str =
    "these bytes are not UTF-8: say how the file is encoded, such as encoding = \"windows-1252\" in its [[source]]";

/// Opens a CSV file behind the lines that are to be skipped, and finds its columns, by the delimiter that is said or else the one under
/// which they are.
///
/// # Errors
/// What is wrong with the file as a whole: no headings, or not those that the source names.
pub(super) fn open<R: BufRead>(mut input: R, source: &Source) -> Result<(CsvRows<R>, TableColumns), FileError> {
    if input.fill_buf().map_err(|error| error.to_string())?.starts_with(ZIP_START) {
        return Err("this is no text: a workbook is read with format = \"xlsx\"".to_owned().into());
    }
    let mut lines = LineReader::new(input);
    lines.skip(source.table.skip_rows)?;
    let start = lines.look_ahead(LOOKED_AT)?;
    let under = |delimiter| {
        let names = csv_rows_of(&start, delimiter).headings().ok()?;
        Some((names.len(), TableColumns::of(names, source)))
    };
    // The fewest columns missing; of those that lack as many the most cells, and then the first.
    let best = |among: &mut dyn Iterator<Item = u8>| {
        among.filter_map(|delimiter| Some((delimiter, under(delimiter)?))).min_by_key(|(_, (cells, columns))| {
            (columns.as_ref().err().map_or(0, BadColumns::count), std::cmp::Reverse(*cells))
        })
    };
    let said = source.table.delimiter;
    let delimiter = said.or_else(|| best(&mut DELIMITERS.into_iter()).map(|(found, _)| found)).unwrap_or(b',');
    let mut rows = CsvRows::of(lines, delimiter);
    let bad = match TableColumns::of(rows.headings()?, source) {
        Ok(columns) => {
            rows.width = columns.len();
            return Ok((rows, columns));
        }
        Err(bad) => bad,
    };
    let shown = |delimiter: u8| String::from(char::from(delimiter)).replace('\t', "\\t");
    let message = match best(&mut DELIMITERS.into_iter().filter(|other| Some(*other) != said)) {
        Some((other, (_, Ok(_)))) if said.is_some() => format!(
            "{3}: its cells are parted by `{0}`, and not by `{1}` as [[source]] `{2}` says: write delimiter = \"{0}\", or leave it \
             out, so that it is found",
            shown(other),
            shown(delimiter),
            source.id,
            bad.missing()
        ),
        _ => format!("under `{}` {}", shown(delimiter), bad.message(source)),
    };
    Err(FileError { message, columns_missing: bad.into_names() })
}

/// Reads rows of a text that is in memory.
pub(crate) fn csv_rows_of(text: &[u8], delimiter: u8) -> CsvRows<&[u8]> {
    CsvRows::of(LineReader::new(text), delimiter)
}

impl<R: BufRead> CsvRows<R> {
    /// Reads the headings, by their cells, with doubled ones numbered.
    pub(crate) fn headings(&mut self) -> Result<Vec<String>, String> {
        let row = match self.next_raw().map_err(|error| error.to_string())? {
            None => return Err("the file is empty: its first line must name the columns".to_owned()),
            Some(RawRow { fault: Some(fault), line, .. }) => return Err(format!("line {line}: {fault}")),
            Some(row) => row,
        };
        let length: usize = row.cells.iter().map(|cell| cell.len()).sum();
        if length > HEADINGS_BYTES {
            let most = limits::size(HEADINGS_BYTES as u64);
            return Err(format!("line {}: the headings are longer than {most}; is this a table at all?", row.line));
        }
        let name = |cell: &&[u8]| std::str::from_utf8(cell).map(|text| text.trim().to_owned());
        let names: Result<Vec<String>, _> = row.cells.iter().map(name).collect();
        let mut names = names.map_err(|_| format!("line {}: {NO_UTF8}", row.line))?;
        if let Some(first) = names.first_mut() {
            *first = first.trim_start_matches('\u{feff}').trim().to_owned();
        }
        number_doubled(&mut names)?;
        self.width = names.len();
        Ok(names)
    }

    /// Reads the next row below the headings; none at the end of the file.
    ///
    /// # Errors
    /// When the file breaks, or is not encoded as it should be.
    pub(crate) fn next_row(&mut self) -> Result<Option<TableRow>, String> {
        let width = self.width;
        let Some(found) = self.next_raw().map_err(|error| error.to_string())? else { return Ok(None) };
        let read: Result<Vec<Json>, _> =
            found.cells.iter().map(|cell| std::str::from_utf8(cell).map(|text| Json::from(text.trim()))).collect();
        let cells = match (found.fault, read) {
            // Bytes of a row that is broken may be anything.
            (Some(reason), read) => Err(RowFault { reason, cells: read.unwrap_or_default() }),
            (None, Err(_)) => return Err(format!("line {}: {NO_UTF8}", found.line)),
            (None, Ok(cells)) if cells.len() == width => Ok(cells),
            (None, Ok(cells)) => {
                let over = if found.lines > 1 { format!(" over {} lines", found.lines) } else { String::new() };
                let reason = format!("this row has {} cells{over} under {width} headings", cells.len());
                Err(RowFault { reason, cells })
            }
        };
        Ok(Some(TableRow { line: found.line, offset: found.offset, cells }))
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
pub(crate) struct CsvRows<R> {
    lines: LineReader<R>,
    delimiter: u8,
    parser: Reader,
    /// The bytes of the cells of the current row, one after the other, and where each ends.
    bytes: Vec<u8>,
    ends: Vec<usize>,
    /// How many headings there are.
    width: usize,
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

impl<R: BufRead> CsvRows<R> {
    fn of(lines: LineReader<R>, delimiter: u8) -> Self {
        let parser = csv_core::ReaderBuilder::new().delimiter(delimiter).build();
        Self { lines, delimiter, parser, bytes: vec![0; 4096], ends: vec![0; 64], width: 0 }
    }

    /// Reads the next row as it stands in the file; none at its end.
    fn next_raw(&mut self) -> io::Result<Option<RawRow<'_>>> {
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

    /// Passes over lines.
    fn skip(&mut self, count: u64) -> Result<(), String> {
        for passed in 0..count {
            if self.next_line().map_err(|error| error.to_string())?.is_none() {
                return Err(format!("the file has {passed} lines, and skip_rows passes over {count}"));
            }
        }
        Ok(())
    }

    /// Returns the next lines, one behind the other, and leaves them to be read.
    fn look_ahead(&mut self, count: usize) -> Result<Vec<u8>, String> {
        let (mut lines, mut bytes) = (Vec::new(), Vec::new());
        while lines.len() < count && bytes.len() <= HEADINGS_BYTES {
            let Some(line) = self.next_line().map_err(|error| error.to_string())? else { break };
            bytes.extend_from_slice(&line.bytes);
            lines.push(line);
        }
        self.give_back(lines.into_iter());
        Ok(bytes)
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
    use crate::workspace::{Field, TableLayout};

    /// All rows of a text: line, and cells or fault.
    fn rows(text: &[u8]) -> Vec<(u64, Result<Vec<String>, String>)> {
        let mut rows = csv_rows_of(text, b',');
        rows.headings().unwrap();
        all_rows(&mut rows)
    }

    fn all_rows(rows: &mut CsvRows<impl BufRead>) -> Vec<(u64, Result<Vec<String>, String>)> {
        let texts = |cells: Vec<Json>| cells.iter().map(|cell| cell.as_str().unwrap().to_owned()).collect();
        let row = |row: TableRow| (row.line, row.cells.map(texts).map_err(|fault| fault.reason));
        std::iter::from_fn(|| rows.next_row().unwrap()).map(row).collect()
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
        let error = |text: String| csv_rows_of(text.as_bytes(), b',').headings().unwrap_err();
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

    fn source(delimiter: Option<u8>) -> Source {
        let field = |fact: &str| Field::of(fact.to_owned());
        Source {
            id_field: "Host".to_owned(),
            collected_field: None,
            fields: vec![("OS".to_owned(), field("os.version")), ("Free, GB".to_owned(), field("free"))],
            table: TableLayout { delimiter, ..TableLayout::default() },
            ..Source::native()
        }
    }

    #[test]
    fn the_delimiter_is_found_by_the_columns_that_the_source_names() {
        for (delimiter, text) in [
            (b';', "Host;OS;\"Free, GB\"\na;13;1,5\n"),
            (b',', "Host,OS,\"Free, GB\"\na;b,13,1\n"),
            (b'\t', "\u{feff}Host\tOS\tFree, GB\r\na\t13\t1,5\r\n"),
            (b'|', "Host|OS|\"Free, GB\"|\"over\ntwo; lines\"\na|13|2|x\n"),
        ] {
            let (mut rows, columns) = open(text.as_bytes(), &source(None)).unwrap();
            assert_eq!((rows.delimiter, columns.position("Free, GB")), (delimiter, Some(2)), "{text}");
            let found = all_rows(&mut rows);
            assert!(found.len() == 1 && found[0].1.is_ok(), "{found:?}");
        }
        let says = |text: &str, delimiter| open(text.as_bytes(), &source(delimiter)).err().unwrap().message;
        let other = says("Host;OS;\"Free, GB\"\n", Some(b','));
        assert!(other.contains("parted by `;`, and not by `,`") && other.contains("delimiter = \";\""), "{other}");
        let none = says("Host;OS;Free (GB)\n", None);
        assert!(
            none.starts_with("under `;` column `Free, GB` is gone; `Free (GB)` is new; the file has `Host`"),
            "{none}"
        );
        assert!(says("PK\u{3}\u{4}rest", None).contains("format = \"xlsx\""));
    }

    #[test]
    fn lines_before_the_headings_are_passed_over_as_an_editor_counts_them() {
        let source = Source {
            table: TableLayout { skip_rows: 3, ..TableLayout::default() },
            fields: vec![("OS".to_owned(), Field::of("os.version".to_owned()))],
            ..source(None)
        };
        let text = "Export of \"hosts;\r\n\r\nby the desk\r\nHost;OS\r\na;13\r\n";
        let (mut rows, _) = open(text.as_bytes(), &source).unwrap();
        assert_eq!(all_rows(&mut rows), [(5, cells(&["a", "13"]))]);
        assert!(
            open(&b"a\nb\n"[..], &source).err().unwrap().message.contains("has 2 lines, and skip_rows passes over 3")
        );
    }

    #[test]
    fn bytes_that_are_no_utf8_refuse_the_file_with_a_remedy() {
        let (mut rows, _) = open(&b"Host;OS;\"Free, GB\"\na;13;1\nb\xf6;13;1\n"[..], &source(None)).unwrap();
        assert!(rows.next_row().unwrap().is_some());
        let error = rows.next_row().unwrap_err();
        assert!(error.starts_with("line 3: these bytes are not UTF-8") && error.contains("windows-1252"), "{error}");
        let error = open(&b"H\xf6st;OS\n"[..], &source(None)).err().unwrap().message;
        assert!(error.starts_with("line 1: these bytes are not UTF-8"), "{error}");
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
            let mut rows = CsvRows::of(LineReader::new(io::BufReader::with_capacity(buffer, &text[..])), b',');
            rows.headings().unwrap();
            let found: Vec<_> = all_rows(&mut rows).into_iter().map(|(_, cells)| cells).collect();
            let expected: Vec<_> = table.iter().map(|row| cells(&[row[0].trim(), row[1].trim()])).collect();
            prop_assert_eq!(found, expected);
        }

        /// Nothing makes it panic, and every line that is not blank is part of some row.
        #[test]
        fn anything_is_gone_through(text in "[a\",\r\n]{0,60}") {
            let mut rows = csv_rows_of(text.as_bytes(), b',');
            if rows.headings().is_ok() {
                all_rows(&mut rows);
            }
        }
    }
}
