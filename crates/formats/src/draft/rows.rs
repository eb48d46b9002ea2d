//! Finds tables that have several rows for each device: a row for each program, or for each property.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value as Json};

use super::DraftFor;
use super::columns::SampledColumn;
use super::words::{DEVICE, PROGRAM, PROPERTY, VALUE, has_word, score};

/// What the rows of a device make.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum RowsGuess {
    /// A list of programs; the column that names them, and those that belong to the program.
    Programs { key: String, of_item: Vec<String> },
    /// A fact a row.
    Facts { fact: String, value: String },
}

/// A table with several rows for each device.
#[derive(Clone, Debug)]
pub(super) struct GroupedRows<'c> {
    /// The column that names the device.
    pub device: &'c SampledColumn,
    pub rows: RowsGuess,
    /// Why, in words.
    pub because: String,
}

/// Finds out whether rows share devices, and what they make together.
pub(super) fn grouped_rows<'c>(
    columns: &'c [SampledColumn],
    records: &[Map<String, Json>],
    context: &DraftFor<'_>,
) -> Option<GroupedRows<'c>> {
    let known = |column: &SampledColumn| column.values.keys().filter(|text| context.devices.contains(*text)).count();
    let names_devices =
        |column: &SampledColumn| known(column) * 2 > column.distinct() || score(&column.name, &DEVICE) >= 4;
    let repeats = |column: &SampledColumn| {
        column.filled == records.len() && column.distinct() > 0 && column.distinct() * 2 <= column.filled
    };
    let device = columns.iter().find(|column| repeats(column) && names_devices(column))?;
    let find =
        |words: &[&str]| columns.iter().find(|column| column.name != device.name && has_word(&column.name, words));
    let because = format!("{} rows of {} devices", records.len(), device.distinct());
    if let (Some(fact), Some(value)) = (find(&PROPERTY), find(&VALUE))
        && fact.name != value.name
    {
        let rows = RowsGuess::Facts { fact: fact.name.clone(), value: value.name.clone() };
        return Some(GroupedRows { device, rows, because });
    }
    let key = find(&PROGRAM)?;
    let varying = varying_columns(&device.name, records);
    let of_item = |column: &&SampledColumn| varying.contains(&column.name) && column.name != key.name;
    let of_item = columns.iter().filter(of_item).map(|column| column.name.clone()).collect();
    let rows = RowsGuess::Programs { key: key.name.clone(), of_item };
    Some(GroupedRows { device, rows, because })
}

/// Returns the columns that say different things in the rows of a device.
fn varying_columns(device: &str, records: &[Map<String, Json>]) -> BTreeSet<String> {
    let mut seen: BTreeMap<(&str, &str), &Json> = BTreeMap::new();
    let mut varying = BTreeSet::new();
    for record in records {
        let Some(id) = record.get(device).and_then(Json::as_str) else { continue };
        for (name, value) in record.iter().filter(|(name, _)| *name != device) {
            if *seen.entry((id, name)).or_insert(value) != value {
                varying.insert(name.clone());
            }
        }
    }
    varying
}
