//! Workbooks (Office Open XML, ECMA-376): typed cells, filters and frozen heads. What a device or a person supplied is text and nothing
//! else; no formula and no link is ever made.

use std::io::{self, Write};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, FormatAlign, Workbook, Worksheet, XlsxError};
use serde_json::Value as Json;

/// More rows than this go on in another sheet.
const MOST_ROWS: u32 = 1_000_000;
/// A cell holds no longer text.
const MOST_CHARACTERS: usize = 32_767;
/// What a text that is longer ends with.
const CUT: &str = " (cut)";

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SheetColumn {
    /// Texts and numbers as they come.
    Any,
    /// Moments, shown on the clock of the workspace.
    Moment,
    /// Shares from 0 to 1, shown in per cent.
    Share,
}

/// A sheet with its rows.
pub struct Sheet<'s> {
    /// Its name.
    pub name: &'s str,
    /// Its columns.
    pub columns: Vec<(String, SheetColumn)>,
    /// Its rows, a value for each column.
    pub rows: Box<dyn Iterator<Item = io::Result<Vec<Json>>> + 's>,
}

/// Writes a workbook; `at` stands as the moment of its making, so that the same rows make the same file.
///
/// # Errors
/// When a row cannot be read, or the workbook not be written.
pub fn write_workbook(
    sheets: Vec<Sheet<'_>>,
    at: Timestamp,
    zone: &TimeZone,
    out: impl Write + io::Seek + Send,
) -> io::Result<()> {
    let mut workbook = Workbook::new();
    let made = excel_moment(at, &TimeZone::UTC).ok_or_else(|| io::Error::other("the moment lies before 1900"))?;
    workbook.set_properties(&DocProperties::new().set_creation_datetime(&made));
    let formats = Formats::new();
    for sheet in sheets {
        write_sheet(&mut workbook, sheet, zone, &formats)?;
    }
    workbook.save_to_writer(out).map_err(failed)
}

struct Formats {
    head: Format,
    moment: Format,
    share: Format,
    text: Format,
}

impl Formats {
    fn new() -> Self {
        Self {
            head: Format::new().set_bold().set_align(FormatAlign::Left),
            moment: Format::new().set_num_format("yyyy-mm-dd hh:mm"),
            share: Format::new().set_num_format("0.0%"),
            // What looks like a number or a formula stays the text that it is.
            text: Format::new().set_num_format("@"),
        }
    }
}

fn failed(error: XlsxError) -> io::Error {
    match error {
        XlsxError::IoError(error) => error,
        other => io::Error::other(other),
    }
}

fn write_sheet(workbook: &mut Workbook, sheet: Sheet<'_>, zone: &TimeZone, formats: &Formats) -> io::Result<()> {
    let Sheet { name, columns, rows } = sheet;
    let mut rows = rows.peekable();
    let mut part = 1;
    loop {
        let own = workbook.add_worksheet_with_constant_memory().map_err(failed)?;
        let title = if part == 1 { name.to_owned() } else { format!("{name} {part}") };
        begin_sheet(own, &title, &columns, formats).map_err(failed)?;
        let mut row = 0;
        while row < MOST_ROWS {
            let Some(cells) = rows.next() else { break };
            row += 1;
            for (column, (value, (_, kind))) in cells?.iter().zip(&columns).enumerate() {
                let column = u16::try_from(column).unwrap_or(u16::MAX);
                let place = CellPlace { row, column, kind: *kind };
                write_cell(own, place, value, zone, formats).map_err(failed)?;
            }
        }
        if let Some(last) = u16::try_from(columns.len()).ok().and_then(|width| width.checked_sub(1)) {
            own.autofilter(0, 0, row, last).map_err(failed)?;
        }
        part += 1;
        if rows.peek().is_none() {
            return Ok(());
        }
    }
}

fn begin_sheet(
    sheet: &mut Worksheet,
    title: &str,
    columns: &[(String, SheetColumn)],
    formats: &Formats,
) -> Result<(), XlsxError> {
    sheet.set_name(title)?;
    sheet.set_freeze_panes(1, 1)?;
    for (at, (name, kind)) in columns.iter().enumerate() {
        let column = u16::try_from(at).unwrap_or(u16::MAX);
        let width = match kind {
            SheetColumn::Moment => 17.0,
            SheetColumn::Share => 9.0,
            SheetColumn::Any => 22.0,
        };
        sheet.set_column_width(column, width)?;
        sheet.write_string_with_format(0, column, name, &formats.head)?;
    }
    Ok(())
}

#[derive(Clone, Copy)]
struct CellPlace {
    row: u32,
    column: u16,
    kind: SheetColumn,
}

fn write_cell(
    sheet: &mut Worksheet,
    place: CellPlace,
    value: &Json,
    zone: &TimeZone,
    formats: &Formats,
) -> Result<(), XlsxError> {
    let CellPlace { row, column, kind } = place;
    match (value, kind) {
        (Json::Null, _) => {}
        (Json::Bool(truth), _) => {
            sheet.write_boolean(row, column, *truth)?;
        }
        (Json::Number(number), kind) => {
            let number = number.as_f64().unwrap_or_default();
            match kind {
                SheetColumn::Share => sheet.write_number_with_format(row, column, number, &formats.share)?,
                SheetColumn::Any | SheetColumn::Moment => sheet.write_number(row, column, number)?,
            };
        }
        (Json::String(text), SheetColumn::Moment) => match text.parse().ok().and_then(|at| excel_moment(at, zone)) {
            Some(moment) => {
                sheet.write_datetime_with_format(row, column, &moment, &formats.moment)?;
            }
            None => write_text(sheet, place, text, formats)?,
        },
        (Json::String(text), _) => write_text(sheet, place, text, formats)?,
        (Json::Array(items), _) => {
            let texts: Vec<String> =
                items.iter().map(|item| item.as_str().map_or_else(|| item.to_string(), str::to_owned)).collect();
            write_text(sheet, place, &texts.join(", "), formats)?;
        }
        (Json::Object(_), _) => write_text(sheet, place, &value.to_string(), formats)?,
    }
    Ok(())
}

fn write_text(sheet: &mut Worksheet, place: CellPlace, text: &str, formats: &Formats) -> Result<(), XlsxError> {
    let CellPlace { row, column, .. } = place;
    if text.is_empty() {
        return Ok(());
    }
    if text.encode_utf16().count() <= MOST_CHARACTERS {
        sheet.write_string_with_format(row, column, text, &formats.text)?;
        return Ok(());
    }
    let mut room = MOST_CHARACTERS - CUT.len();
    let kept: String = text
        .chars()
        .take_while(|c| {
            let fits = c.len_utf16() <= room;
            room = room.saturating_sub(c.len_utf16());
            fits
        })
        .collect();
    sheet.write_string_with_format(row, column, format!("{kept}{CUT}"), &formats.text)?;
    Ok(())
}

/// Returns a moment on the clock of a zone as workbooks have it; none before 1900.
fn excel_moment(at: Timestamp, zone: &TimeZone) -> Option<ExcelDateTime> {
    let local = zone.to_datetime(at);
    let part = |number: i8| u8::try_from(number).ok();
    let date =
        ExcelDateTime::from_ymd(u16::try_from(local.year()).ok()?, part(local.month())?, part(local.day())?).ok()?;
    date.and_hms(part(local.hour())?.into(), part(local.minute())?, f64::from(local.second())).ok()
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use calamine::{Data, Reader as _, Xlsx};
    use serde_json::json;

    use super::*;

    /// Writes one sheet and reads it back.
    fn read_back(columns: Vec<(&str, SheetColumn)>, rows: Vec<Vec<Json>>) -> Vec<Vec<Data>> {
        let columns = columns.into_iter().map(|(name, kind)| (name.to_owned(), kind)).collect();
        let sheet = Sheet { name: "devices", columns, rows: Box::new(rows.into_iter().map(Ok)) };
        let mut out = Cursor::new(Vec::new());
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        write_workbook(vec![sheet], "2027-03-14T06:00:00Z".parse().unwrap(), &zone, &mut out).unwrap();
        let mut workbook: Xlsx<_> = Xlsx::new(out).unwrap();
        assert_eq!(workbook.worksheet_formula("devices").unwrap().used_cells().count(), 0, "a formula");
        let range = workbook.worksheet_range("devices").unwrap();
        range.rows().map(<[Data]>::to_vec).collect()
    }

    #[test]
    fn device_text_comes_back_character_for_character_and_is_no_formula() {
        let hostile = [
            "=HYPERLINK(\"http://x.example\")",
            "+1",
            "-1+cmd|' /C calc'!A0",
            "@SUM(A1)",
            "http://x.example",
            "mailto:x@x.example",
            "007",
            "<script>&amp;",
            "a\nb\tc",
            "\u{1b}[31m\u{202e}txt\u{200b}",
            "_x000D_",
            " spaced ",
            "é日本\u{1f6a2}",
        ];
        let rows = hostile.iter().map(|text| vec![json!(text)]).collect();
        let read = read_back(vec![("device", SheetColumn::Any)], rows);
        let texts: Vec<String> = read[1..].iter().map(|row| row[0].to_string()).collect();
        assert_eq!(texts, hostile);
        assert!(read[1..].iter().all(|row| matches!(row[0], Data::String(_))));
    }

    #[test]
    fn cells_have_types_and_moments_stand_on_the_clock_of_the_workspace() {
        let columns = vec![
            ("device", SheetColumn::Any),
            ("due", SheetColumn::Moment),
            ("share", SheetColumn::Share),
            ("open", SheetColumn::Any),
            ("known", SheetColumn::Any),
            ("groups", SheetColumn::Any),
        ];
        let row = vec![json!("d"), json!("2027-03-14T06:00:00Z"), json!(0.5), json!(3), json!(true), json!(["a", "b"])];
        let empty = vec![json!("e"), json!("soon"), Json::Null, Json::Null, Json::Null, json!([])];
        let read = read_back(columns, vec![row, empty]);
        let Data::DateTime(due) = &read[1][1] else { panic!("{:?}", read[1][1]) };
        // Seven in the morning in Oslo, as days since 1900.
        assert!((due.as_f64() - (46_460.0 + 7.0 / 24.0)).abs() < 1e-6, "{due:?}");
        assert_eq!(read[1][2..5], [Data::Float(0.5), Data::Float(3.0), Data::Bool(true)]);
        assert_eq!(read[1][5], Data::String("a, b".into()));
        assert_eq!(read[2][1], Data::String("soon".into()));
        assert_eq!(read[2][2], Data::Empty);
    }

    #[test]
    fn a_text_that_is_too_long_says_that_it_was_cut() {
        let long = "\u{1f6a2}".repeat(20_000);
        let read = read_back(vec![("device", SheetColumn::Any)], vec![vec![json!(long)]]);
        let text = read[1][0].to_string();
        assert!(text.ends_with(CUT) && text.encode_utf16().count() <= MOST_CHARACTERS, "{}", text.len());
    }
}
