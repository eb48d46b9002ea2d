//! Reads files in batches of records that are not mapped yet, so that they can be mapped on several cores.

use std::io::BufRead;
use std::sync::Arc;

use super::FileError;
use super::chunks::{Chunk, Chunks};
use super::decompress::open_text;
use super::mapping::{Mapped, id_in_cells};
use super::table::{RowGroup, RowGroups, TableColumns, TableReader, TableRow};
use crate::workspace::{Format, Source};

/// So many rows are a batch.
const ROWS: usize = 500;
/// A batch of rows that were put together by device is not made larger than so many of them.
const GROUPED_ROWS: usize = 5_000;

/// Some records of a file, to be used again and again.
#[derive(Debug, Default)]
pub struct RecordBatch {
    pub(super) content: BatchContent,
}

/// What a batch holds.
#[derive(Debug)]
pub(super) enum BatchContent {
    /// Lines of JSON.
    Lines(Chunk),
    /// Rows of a table.
    Rows(Arc<TableColumns>, Vec<TableRow>),
    /// Rows of a table by device.
    Groups(Arc<TableColumns>, Vec<RowGroup>),
}

impl Default for BatchContent {
    fn default() -> Self {
        Self::Lines(Chunk::default())
    }
}

enum Input<'i> {
    Lines(Chunks<Box<dyn BufRead + Send + 'i>>),
    Rows(Box<TableReader<'i>>),
    Groups(RowGroups),
}

/// Reads the batches of a file.
#[expect(missing_debug_implementations, reason = "it reads from whatever it is given")]
pub struct RecordBatches<'i> {
    input: Input<'i>,
    columns: Arc<TableColumns>,
    /// Rows that were left out behind the end of a table.
    left_out: u64,
}

impl<'i> RecordBatches<'i> {
    /// Returns whether files of a format are read in batches.
    pub fn reads(format: Format) -> bool {
        format == Format::JsonLines || format.is_table()
    }

    /// Opens a file.
    ///
    /// # Errors
    /// When it cannot be decompressed, or is no table of its source.
    pub fn open(input: impl BufRead + Send + 'i, source: &Source, with: &Mapped<'_>) -> Result<Self, FileError> {
        let input = open_text(input, source.encoding).map_err(|error| error.to_string())?;
        if !source.format.is_table() {
            let columns = Arc::default();
            return Ok(Self { input: Input::Lines(Chunks::new(input)), columns, left_out: 0 });
        }
        let mut table = TableReader::open(input, source)?;
        let columns = Arc::clone(table.columns());
        if source.table.rows.is_none() {
            return Ok(Self { input: Input::Rows(Box::new(table)), columns, left_out: 0 });
        }
        let groups = RowGroups::of(&mut table, |cells| id_in_cells(cells, &columns, source, with))?;
        Ok(Self { input: Input::Groups(groups), columns, left_out: table.left_out() })
    }

    /// Reads the next batch; false at the end.
    ///
    /// # Errors
    /// When the file breaks, or is not encoded as it should be.
    pub fn next_into(&mut self, batch: &mut RecordBatch) -> Result<bool, String> {
        match &mut self.input {
            Input::Lines(chunks) => {
                if !matches!(batch.content, BatchContent::Lines(_)) {
                    *batch = RecordBatch::default();
                }
                let BatchContent::Lines(chunk) = &mut batch.content else { return Ok(false) };
                chunks.read_into(chunk).map_err(|error| error.to_string())
            }
            Input::Rows(table) => {
                let mut rows = Vec::with_capacity(ROWS);
                while rows.len() < ROWS
                    && let Some(row) = table.next_row()?
                {
                    rows.push(row);
                }
                self.left_out = table.left_out();
                let more = !rows.is_empty();
                batch.content = BatchContent::Rows(Arc::clone(&self.columns), rows);
                Ok(more)
            }
            Input::Groups(waiting) => {
                let (mut groups, mut rows) = (Vec::new(), 0);
                while rows < GROUPED_ROWS
                    && let Some(group) = waiting.next_group()?
                {
                    rows += group.rows.len();
                    groups.push(group);
                }
                let more = !groups.is_empty();
                batch.content = BatchContent::Groups(Arc::clone(&self.columns), groups);
                Ok(more)
            }
        }
    }

    /// Returns how many rows were left out behind the end of a table.
    pub fn left_out(&self) -> u64 {
        self.left_out
    }
}
