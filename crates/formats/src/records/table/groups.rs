//! Puts the rows of a table together that are about the same device.
//!
//! Rows of a device usually lie together, but nothing says so before the end of the file. So they are put aside in the order of the file, runs of
//! rows of one device as one group, and sorted only where a device comes again. Both lie in temporary files where they are long.

use std::collections::HashMap;
use std::iter::Peekable;

use fencepost_core::limits::RECORD_BYTES;
use fencepost_spool::{IntoItems, Sorter, Spool, SpoolError};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::{TableReader, TableRow};

/// The rows of a device.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct RowGroup {
    /// The device; none for a row that names none.
    pub id: Option<String>,
    pub rows: Vec<TableRow>,
    /// Bytes of the rows' texts.
    size: usize,
    /// They are more than a record may hold; only the first are here.
    pub too_large: bool,
}

impl RowGroup {
    fn of(id: Option<String>) -> Self {
        Self { id, rows: Vec::new(), size: 0, too_large: false }
    }

    fn add(&mut self, row: TableRow, size: usize) {
        self.size += size;
        if self.size > RECORD_BYTES {
            self.too_large = true;
        } else {
            self.rows.push(row);
        }
    }

    /// Adds rows of the same device that stand further down.
    fn append(&mut self, other: Self) {
        self.too_large |= other.too_large;
        self.size += other.size;
        if self.size > RECORD_BYTES {
            self.too_large = true;
        } else {
            self.rows.extend(other.rows);
        }
    }
}

fn failed(error: SpoolError) -> String {
    error.to_string()
}

/// Returns about how many bytes a row takes.
fn size_of(row: &TableRow) -> usize {
    let text = |cell: &Json| cell.as_str().map_or(8, str::len) + 8;
    row.cells().iter().map(text).sum()
}

/// The rows of a table by device, in the order in which devices come first.
pub(crate) struct RowGroups {
    groups: Peekable<IntoItems<RowGroup>>,
}

impl RowGroups {
    /// Reads all rows of a table; `id` returns which device a row is about.
    ///
    /// # Errors
    /// When the file cannot be read on, or a temporary one not be written.
    pub fn of(table: &mut TableReader<'_>, id: impl Fn(&[Json]) -> Option<String>) -> Result<Self, String> {
        let mut groups = Spool::default();
        let mut places: HashMap<String, u64> = HashMap::new();
        let mut comes_again = false;
        let mut current: Option<RowGroup> = None;
        while let Some(row) = table.next_row()? {
            let (size, id) = (size_of(&row), id(row.cells()));
            match &mut current {
                Some(group) if group.id == id && id.is_some() => group.add(row, size),
                _ => {
                    if let Some(done) = current.take() {
                        groups.push(&done).map_err(failed)?;
                    }
                    if let Some(id) = &id {
                        let next = places.len() as u64;
                        comes_again |= *places.entry(id.clone()).or_insert(next) != next;
                    }
                    current.insert(RowGroup::of(id)).add(row, size);
                }
            }
        }
        if let Some(done) = current {
            groups.push(&done).map_err(failed)?;
        }
        if comes_again {
            groups = sorted(groups, &places).map_err(failed)?;
        }
        Ok(Self { groups: groups.into_iter().peekable() })
    }

    /// Returns the next device's rows; none behind the last.
    ///
    /// # Errors
    /// When a temporary file cannot be read.
    pub fn next_group(&mut self) -> Result<Option<RowGroup>, String> {
        let Some(group) = self.groups.next() else { return Ok(None) };
        let mut group = group.map_err(failed)?;
        let id = group.id.clone();
        let same =
            |other: &Result<RowGroup, SpoolError>| id.is_some() && other.as_ref().is_ok_and(|other| other.id == id);
        while let Some(other) = self.groups.next_if(same) {
            group.append(other.map_err(failed)?);
        }
        Ok(Some(group))
    }
}

/// Brings groups into the order in which their devices come first; rows that name none stay behind those before them.
fn sorted(groups: Spool<RowGroup>, places: &HashMap<String, u64>) -> Result<Spool<RowGroup>, SpoolError> {
    let mut sorter = Sorter::default();
    let mut place = 0;
    for group in groups {
        let group = group?;
        place = group.id.as_ref().and_then(|id| places.get(id)).copied().unwrap_or(place);
        // Behind all rows of the device before it.
        let mut key = place.to_be_bytes().to_vec();
        key.push(u8::from(group.id.is_none()));
        sorter.push(&key, &group)?;
    }
    sorter.finish()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::workspace::{Format, RowsAs, Source, TableLayout};

    fn groups(text: &str) -> Vec<(Option<String>, Vec<u64>)> {
        let rows = RowsAs::List { list: "software".to_owned(), key: "Name".to_owned(), fields: Vec::new() };
        let source = Source {
            format: Format::Csv,
            id_field: "Host".to_owned(),
            collected_field: None,
            table: TableLayout { rows: Some(rows), ..TableLayout::default() },
            ..Source::native()
        };
        let mut table = TableReader::open(Box::new(text.as_bytes()), &source).unwrap();
        let id = |cells: &[Json]| cells[0].as_str().filter(|id| !id.is_empty()).map(str::to_owned);
        let mut groups = RowGroups::of(&mut table, id).unwrap();
        std::iter::from_fn(|| groups.next_group().unwrap())
            .map(|group| (group.id, group.rows.iter().map(|row| row.line).collect()))
            .collect()
    }

    fn group(id: &str, lines: &[u64]) -> (Option<String>, Vec<u64>) {
        (Some(id.to_owned()).filter(|id| !id.is_empty()), lines.to_vec())
    }

    #[test]
    fn rows_of_a_device_are_put_together_wherever_they_stand() {
        assert_eq!(groups("Host,Name\n"), []);
        assert_eq!(groups("Host,Name\na,x\na,y\nb,x\n"), [group("a", &[2, 3]), group("b", &[4])]);
        let apart = groups("Host,Name\nb,x\na,x\n,z\nb,y\nb,z\nc,x\na,y\n");
        let expected = [group("b", &[2, 5, 6]), group("a", &[3, 8]), group("", &[4]), group("c", &[7])];
        // A row that names nobody stays behind the rows before it.
        assert_eq!(
            apart.iter().filter(|group| group.0.is_some()).cloned().collect::<Vec<_>>(),
            [expected[0].clone(), expected[1].clone(), expected[3].clone()]
        );
        assert!(apart.contains(&expected[2]));
    }

    #[test]
    fn many_rows_that_stand_apart_come_back_whole() {
        let mut text = String::from("Host,Name\n");
        for round in 0..60 {
            for device in 0..700 {
                text.push_str(&format!("device-{device},program number {round}\n"));
            }
        }
        let found = groups(&text);
        assert_eq!(found.len(), 700);
        for (device, (id, lines)) in found.iter().enumerate() {
            assert_eq!(id.as_deref(), Some(format!("device-{device}").as_str()));
            assert!(lines.iter().copied().eq((0..60).map(|round| 2 + device as u64 + round * 700)));
        }
    }
}
