//! Reads a sheet of an Office Open XML workbook (ECMA-376, `.xlsx`) as a table: cells keep their types, days become dates.

use std::io::{self, BufRead, Cursor, Read};

use calamine::{DataRef, ExcelDateTime, Reader as _, Xlsx};
use fencepost_core::limits::{self, WORKBOOK_BYTES, WORKBOOK_CONTENT_BYTES};
use fencepost_spool::{IntoItems, Spool};
use jiff::civil;
use serde::{Deserialize, Serialize};
use serde_json::{Number, Value as Json};
use zip::ZipArchive;

use super::{RowFault, TableColumns, TableRow, ZIP_START, number_doubled};
use crate::records::FileError;
use crate::workspace::Source;

/// What begins an older binary workbook, and one with a password.
const COMPOUND_FILE: &[u8] = &[0xd0, 0xcf, 0x11, 0xe0];

/// A row of a sheet: the cells that are filled, by their columns.
#[derive(Debug, Serialize, Deserialize)]
struct SheetRow {
    /// From 1.
    number: u64,
    cells: Vec<(u32, Json)>,
}

/// Reads the rows of a sheet below its headings.
pub(super) struct WorkbookRows {
    rows: IntoItems<SheetRow>,
    /// How many headings there are.
    width: usize,
}

impl WorkbookRows {
    /// Opens a workbook, and finds its columns.
    ///
    /// # Errors
    /// When it is no workbook, is too large, has no such sheet, or not the columns that its source names.
    pub fn open(input: impl BufRead, source: &Source) -> Result<(Self, TableColumns), FileError> {
        let mut workbook = open_workbook(input)?;
        let name = sheet_name(&workbook, source.table.sheet.as_deref())?;
        let mut rows = sheet_rows(&mut workbook, &name)?.into_iter();
        let headings = loop {
            match rows.next() {
                None => return Err("the sheet has no row of headings".to_owned().into()),
                Some(row) => {
                    let row = row.map_err(|error| error.to_string())?;
                    if row.number > source.table.skip_rows {
                        break headings_of(&row)?;
                    }
                }
            }
        };
        let columns = TableColumns::of(headings, source)
            .map_err(|bad| FileError { message: bad.message(source), columns_missing: bad.into_names() })?;
        Ok((Self { rows, width: columns.len() }, columns))
    }

    /// Reads the next row; none at the end of the sheet.
    pub fn next_row(&mut self) -> Result<Option<TableRow>, String> {
        let Some(row) = self.rows.next() else { return Ok(None) };
        let SheetRow { number, cells } = row.map_err(|error| error.to_string())?;
        let last = cells.last().map_or(0, |(column, _)| *column as usize + 1);
        let row = dense(cells, self.width);
        let cells = if last > self.width {
            let reason = format!("this row has {last} cells under {} headings", self.width);
            Err(RowFault { reason, cells: row })
        } else {
            Ok(row)
        };
        Ok(Some(TableRow { line: number, offset: 0, cells }))
    }
}

/// Returns so many cells of a row, an empty text for each that is not filled.
fn dense(cells: Vec<(u32, Json)>, width: usize) -> Vec<Json> {
    let mut row = vec![Json::from(""); width];
    for (column, cell) in cells {
        if let Some(place) = row.get_mut(column as usize) {
            *place = cell;
        }
    }
    row
}

fn headings_of(row: &SheetRow) -> Result<Vec<String>, String> {
    let width = row.cells.last().map_or(0, |(column, _)| *column as usize + 1);
    let mut names = vec![String::new(); width];
    for (column, cell) in &row.cells {
        names[*column as usize] = cell.as_str().map_or_else(|| cell.to_string(), str::to_owned);
    }
    number_doubled(&mut names)?;
    Ok(names)
}

/// A workbook in memory.
type OpenWorkbook = Xlsx<Cursor<Vec<u8>>>;

/// Reads a workbook, and checks that what it decompresses to is not too much.
fn open_workbook(input: impl BufRead) -> Result<OpenWorkbook, String> {
    Xlsx::new(Cursor::new(workbook_bytes(input)?)).map_err(|error| unreadable(&error))
}

fn unreadable(error: &dyn std::fmt::Display) -> String {
    format!("this workbook cannot be read: {error}")
}

/// Returns the name of the sheet that is asked for, the first where none is.
fn sheet_name(workbook: &OpenWorkbook, sheet: Option<&str>) -> Result<String, String> {
    let names = workbook.sheet_names();
    let Some(wanted) = sheet else {
        return names.into_iter().next().ok_or_else(|| "the workbook has no sheet".to_owned());
    };
    if names.iter().any(|name| name == wanted) {
        return Ok(wanted.to_owned());
    }
    let known: Vec<String> = names.iter().take(20).map(|name| format!("`{}`", limits::quoted(name))).collect();
    Err(format!(
        "there is no sheet `{wanted}`; the workbook has {}. Correct `sheet` of the [[source]]",
        known.join(", ")
    ))
}

/// Reads the rows of a sheet; those without a filled cell are passed over.
fn sheet_rows(workbook: &mut OpenWorkbook, name: &str) -> Result<Spool<SheetRow>, String> {
    let refused = |error: calamine::XlsxError| unreadable(&error);
    let mut cells = workbook.worksheet_cells_reader(name).map_err(refused)?;
    let (mut rows, mut row) = (Spool::default(), SheetRow { number: 0, cells: Vec::new() });
    while let Some(cell) = cells.next_cell().map_err(refused)? {
        let (at, column) = cell.get_position();
        let number = u64::from(at) + 1;
        if number != row.number {
            push_row(&mut rows, &mut row)?;
            if number < row.number {
                return Err(format!("row {number} stands behind row {}", row.number));
            }
            row.number = number;
        }
        if let Some(value) = value_of(cell.get_value()) {
            if row.cells.last().is_some_and(|(last, _)| *last >= column) {
                return Err(format!("row {number}: its cells are not in their order"));
            }
            row.cells.push((column, value));
        }
    }
    push_row(&mut rows, &mut row)?;
    Ok(rows)
}

fn push_row(rows: &mut Spool<SheetRow>, row: &mut SheetRow) -> Result<(), String> {
    if !row.cells.is_empty() {
        rows.push(row).map_err(|error| error.to_string())?;
        row.cells.clear();
    }
    Ok(())
}

/// Reads a workbook into memory, and checks that what it decompresses to is not too much.
fn workbook_bytes(input: impl BufRead) -> Result<Vec<u8>, String> {
    let failed = |error: io::Error| error.to_string();
    let mut bytes = Vec::new();
    input.take(WORKBOOK_BYTES + 1).read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() as u64 > WORKBOOK_BYTES {
        return Err(format!("a workbook may not be larger than {}; export it as CSV", limits::size(WORKBOOK_BYTES)));
    }
    if bytes.starts_with(COMPOUND_FILE) {
        return Err("this is an older workbook, or one with a password: save it as .xlsx without one".to_owned());
    }
    if !bytes.starts_with(ZIP_START) {
        return Err("this is no workbook: text is read with format = \"csv\"".to_owned());
    }
    let mut archive = ZipArchive::new(Cursor::new(&bytes)).map_err(|error| unreadable(&error))?;
    // What an archive says of its sizes need not be so.
    let mut left = WORKBOOK_CONTENT_BYTES;
    for at in 0..archive.len() {
        let part = archive.by_index(at).map_err(|error| unreadable(&error))?;
        let size = io::copy(&mut part.take(left + 1), &mut io::sink()).map_err(|error| unreadable(&error))?;
        left = left.checked_sub(size).ok_or_else(|| {
            let most = limits::size(WORKBOOK_CONTENT_BYTES);
            format!("the workbook decompresses to more than {most}; export it as CSV")
        })?;
    }
    drop(archive);
    Ok(bytes)
}

/// Returns a cell as JSON; none where it is empty.
fn value_of(cell: &DataRef<'_>) -> Option<Json> {
    let text = |text: &str| Some(text.trim()).filter(|text| !text.is_empty()).map(Json::from);
    match cell {
        DataRef::Empty => None,
        DataRef::Int(number) => Some(Json::from(*number)),
        DataRef::Float(number) => Some(number_of(*number)),
        DataRef::Bool(value) => Some(Json::Bool(*value)),
        DataRef::String(value) | DataRef::DateTimeIso(value) | DataRef::DurationIso(value) => text(value),
        DataRef::SharedString(value) => text(value),
        DataRef::DateTime(moment) => Some(moment_of(moment)),
        DataRef::Error(error) => Some(Json::from(error.to_string())),
    }
}

/// Returns a number without a fraction as a whole one: a sheet has no others.
fn number_of(number: f64) -> Json {
    /// Beyond this not every whole number has a double of its own.
    const EXACT: f64 = 9_007_199_254_740_992.0;
    if number.fract() == 0.0 && number.abs() < EXACT {
        #[expect(clippy::cast_possible_truncation, reason = "it is whole and within the range of exact integers")]
        return Json::from(number as i64);
    }
    Number::from_f64(number).map_or_else(|| Json::from(number.to_string()), Json::Number)
}

/// Returns a day as a date, a time of no day as such, a moment as a local time, and a length of time in seconds, as ISO 8601 writes
/// them.
fn moment_of(moment: &ExcelDateTime) -> Json {
    /// Seconds of a day.
    const DAY: f64 = 86_400.0;
    if moment.is_duration() {
        let seconds = (moment.as_f64() * DAY).round();
        return Json::from(format!("PT{seconds}S"));
    }
    let (year, month, day, hour, minute, second, _) = moment.to_ymd_hms_milli();
    let small = |number: u8| i8::try_from(number).unwrap_or(i8::MAX);
    let date = i16::try_from(year).ok().and_then(|year| civil::Date::new(year, small(month), small(day)).ok());
    let time = civil::Time::new(small(hour), small(minute), small(second), 0).ok();
    match (date, time) {
        // A time of no day.
        (_, Some(time)) if (0.0..1.0).contains(&moment.as_f64()) && moment.as_f64() > 0.0 => {
            Json::from(time.to_string())
        }
        (Some(date), Some(time)) if time == civil::Time::midnight() => Json::from(date.to_string()),
        (Some(date), Some(time)) => Json::from(date.to_datetime(time).to_string()),
        // Such as 29 February 1900, which sheets have and calendars do not.
        _ => number_of(moment.as_f64()),
    }
}

/// The rows of a workbook's sheet that has most of them, for a look at it.
pub(crate) struct WorkbookSample {
    /// The sheet, where it is not the first.
    pub sheet: Option<String>,
    /// How many rows stand before the headings.
    pub skip_rows: u64,
    pub headings: Vec<String>,
    pub rows: Vec<Vec<Json>>,
}

/// Looks at the sheet of a workbook that has the most rows: its headings are the first row that is as wide as those below it.
pub(crate) fn workbook_sample(bytes: &[u8], most: usize) -> Result<WorkbookSample, String> {
    let mut workbook = open_workbook(bytes)?;
    let names = workbook.sheet_names();
    let mut best: Option<(usize, Vec<SheetRow>)> = None;
    for (at, name) in names.iter().enumerate() {
        let rows: Result<Vec<SheetRow>, _> =
            sheet_rows(&mut workbook, name)?.into_iter().take(most + LOOKED_OVER).collect();
        let rows = rows.map_err(|error| error.to_string())?;
        if best.as_ref().is_none_or(|(_, known)| rows.len() > known.len()) {
            best = Some((at, rows));
        }
    }
    let (at, rows) = best.filter(|(_, rows)| !rows.is_empty()).ok_or("the workbook has no row of headings")?;
    let widest = rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
    let is_heading = |row: &SheetRow| row.cells.len() * 10 >= widest * 8;
    let first = rows.iter().take(LOOKED_OVER).position(is_heading).unwrap_or(0);
    let headings = headings_of(&rows[first])?;
    let (skip_rows, width) = (rows[first].number - 1, headings.len());
    let rows = rows.into_iter().skip(first + 1).take(most).map(|row| dense(row.cells, width)).collect();
    let sheet = (at > 0).then(|| names[at].clone());
    Ok(WorkbookSample { sheet, skip_rows, headings, rows })
}

/// So many rows may stand before the headings.
const LOOKED_OVER: usize = 20;

#[cfg(test)]
mod tests {
    use rust_xlsxwriter::{ExcelDateTime as Moment, Format, Workbook};
    use serde_json::json;

    use super::*;
    use crate::workspace::{Field, TableLayout};

    /// A workbook of two sheets, the second with two lines before its headings and a row of sums.
    fn workbook() -> Vec<u8> {
        let mut workbook = Workbook::new();
        workbook.add_worksheet().set_name("About").unwrap().write(0, 0, "nothing here").unwrap();
        let sheet = workbook.add_worksheet();
        sheet.set_name("Devices").unwrap();
        sheet.write(0, 0, "Inventory of the yard").unwrap();
        for (column, heading) in ["Host", "OS", "Free", "Locked", "Bought", "Seen"].into_iter().enumerate() {
            sheet.write(2, column as u16, heading).unwrap();
        }
        let (day, moment) =
            (Format::new().set_num_format("dd.mm.yyyy"), Format::new().set_num_format("yyyy-mm-dd hh:mm"));
        sheet.write(3, 0, " yard-1 ").unwrap();
        sheet.write(3, 1, "13.0").unwrap();
        sheet.write(3, 2, 12.5).unwrap();
        sheet.write(3, 3, true).unwrap();
        sheet.write_with_format(3, 4, Moment::from_ymd(2021, 1, 15).unwrap(), &day).unwrap();
        let seen = Moment::from_ymd(2027, 3, 14).unwrap().and_hms(6, 10, 0).unwrap();
        sheet.write_with_format(3, 5, &seen, &moment).unwrap();
        sheet.write(5, 0, 17).unwrap();
        sheet.write(5, 2, 3.0).unwrap();
        sheet.write(6, 0, "Sum").unwrap();
        sheet.write(6, 7, "stray").unwrap();
        workbook.save_to_buffer().unwrap()
    }

    fn source(sheet: &str) -> Source {
        let table = TableLayout { sheet: Some(sheet.to_owned()), skip_rows: 2, ..TableLayout::default() };
        Source {
            id_field: "Host".to_owned(),
            collected_field: None,
            fields: vec![("OS".to_owned(), Field::of("os.version".to_owned()))],
            table,
            ..Source::native()
        }
    }

    #[test]
    fn cells_keep_their_types_and_days_are_dates() {
        let (mut rows, columns) = WorkbookRows::open(&workbook()[..], &source("Devices")).unwrap();
        assert_eq!(columns.position("Seen"), Some(5));
        let first = rows.next_row().unwrap().unwrap();
        let cells = json!(["yard-1", "13.0", 12.5, true, "2021-01-15", "2027-03-14T06:10:00"]);
        assert_eq!((first.line, Json::from(first.cells.unwrap())), (4, cells));
        let second = rows.next_row().unwrap().unwrap();
        assert_eq!((second.line, Json::from(second.cells.unwrap())), (6, json!([17, "", 3, "", "", ""])));
        let stray = rows.next_row().unwrap().unwrap();
        assert_eq!(stray.cells.unwrap_err().reason, "this row has 8 cells under 6 headings");
        assert!(rows.next_row().unwrap().is_none());
    }

    #[test]
    fn what_is_no_workbook_or_has_no_such_sheet_is_told() {
        let says = |bytes: &[u8], sheet| WorkbookRows::open(bytes, &source(sheet)).err().unwrap().message;
        assert!(says(&workbook(), "Hosts").contains("no sheet `Hosts`; the workbook has `About`, `Devices`"));
        assert!(says(&workbook(), "About").contains("no row of headings"));
        assert!(says(b"Host;OS\n", "Devices").contains("format = \"csv\""));
        assert!(says(COMPOUND_FILE, "Devices").contains("save it as .xlsx"));
        assert!(says(b"PK\x03\x04", "Devices").contains("cannot be read"));
    }

    #[test]
    fn a_broken_workbook_is_an_error_and_never_a_panic() {
        let whole = workbook();
        for at in (0..whole.len()).step_by(7) {
            let mut broken = whole.clone();
            broken[at] ^= 0x5a;
            let _ = WorkbookRows::open(&broken[..], &source("Devices"));
            let _ = WorkbookRows::open(&whole[..at], &source("Devices"));
        }
    }
}
