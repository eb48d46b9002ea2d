//! Tables: rows under headings, of CSV files and workbooks, as records that are not mapped yet.

mod columns;
mod csv_rows;
mod groups;
mod workbook;

use std::io::BufRead;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use super::FileError;
use crate::workspace::{Format, Source};
pub(crate) use columns::{TableColumns, number_doubled};
use csv_rows::CsvRows;
pub(crate) use csv_rows::{DELIMITERS, csv_rows_of};
pub(crate) use groups::{RowGroup, RowGroups};
use workbook::WorkbookRows;
pub(crate) use workbook::{WorkbookSample, workbook_sample};

/// What the first bytes of a ZIP archive are, and so of a workbook.
pub(crate) const ZIP_START: &[u8] = b"PK\x03\x04";

/// A row of a table.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct TableRow {
    /// The line that it begins on, or its number in the sheet, from 1.
    pub line: u64,
    /// Where it begins in the file, in bytes; 0 in a workbook.
    pub offset: u64,
    /// Its cells in the order of the headings, trimmed; or what is wrong with it.
    pub cells: Result<Vec<Json>, RowFault>,
}

/// Why a row is none.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct RowFault {
    pub reason: String,
    /// The cells that there are; they may tell which device it is about.
    pub cells: Vec<Json>,
}

impl TableRow {
    /// Returns the cells, those of a faulty row too.
    fn cells(&self) -> &[Json] {
        match &self.cells {
            Ok(cells) => cells,
            Err(fault) => &fault.cells,
        }
    }
}

/// Where the rows of a table come from.
enum Rows<'i> {
    Csv(Box<CsvRows<Box<dyn BufRead + Send + 'i>>>),
    Workbook(WorkbookRows),
}

/// Reads the rows of a table.
pub(crate) struct TableReader<'i> {
    rows: Rows<'i>,
    columns: Arc<TableColumns>,
    until_row: Option<String>,
    /// Rows that were left out from `until_row` on; none where that row did not come.
    left_out: Option<u64>,
}

impl<'i> TableReader<'i> {
    /// Opens a table and reads its headings.
    ///
    /// # Errors
    /// When it is no table, or lacks columns that its source names.
    pub fn open(input: Box<dyn BufRead + Send + 'i>, source: &Source) -> Result<Self, FileError> {
        let (rows, columns) = match source.format {
            Format::Workbook => {
                let (rows, columns) = WorkbookRows::open(input, source)?;
                (Rows::Workbook(rows), columns)
            }
            _ => {
                let (rows, columns) = csv_rows::open(input, source)?;
                (Rows::Csv(Box::new(rows)), columns)
            }
        };
        Ok(Self { rows, columns: Arc::new(columns), until_row: source.table.until_row.clone(), left_out: None })
    }

    /// Returns the columns.
    pub fn columns(&self) -> &Arc<TableColumns> {
        &self.columns
    }

    /// Returns how many rows were left out from `until_row` on.
    pub fn left_out(&self) -> u64 {
        self.left_out.unwrap_or(0)
    }

    /// Reads the next row; none at the end of the table.
    ///
    /// # Errors
    /// When the file cannot be read on.
    pub fn next_row(&mut self) -> Result<Option<TableRow>, String> {
        let row = self.next_of_file()?;
        let Some(until) = &self.until_row else { return Ok(row) };
        let ends = |row: &TableRow| row.cells().first().and_then(Json::as_str).is_some_and(|text| text == until);
        if !row.as_ref().is_some_and(ends) {
            return Ok(row);
        }
        let mut left_out = 1;
        while self.next_of_file()?.is_some() {
            left_out += 1;
        }
        self.left_out = Some(left_out);
        Ok(None)
    }

    fn next_of_file(&mut self) -> Result<Option<TableRow>, String> {
        if self.left_out.is_some() {
            return Ok(None);
        }
        match &mut self.rows {
            Rows::Csv(rows) => rows.next_row(),
            Rows::Workbook(rows) => rows.next_row(),
        }
    }
}

/// Returns the cells of a row by the names of their columns. A cell that is empty says nothing, unless its field says that it means empty; a cell
/// under no heading has no name.
pub(crate) fn members_of(cells: Vec<Json>, columns: &TableColumns, source: &Source) -> Map<String, Json> {
    let mut members = Map::with_capacity(cells.len());
    for (column, cell) in columns.iter().zip(cells) {
        if column.name.is_empty() {
            continue;
        }
        let is_empty = cell.as_str().is_some_and(str::is_empty);
        if !is_empty {
            members.insert(column.name.clone(), cell);
        } else if column.empty_is_null || source.empty_is_null {
            members.insert(column.name.clone(), Json::Null);
        }
    }
    members
}
