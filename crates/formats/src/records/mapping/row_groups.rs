//! Makes one document of the rows of a device.

use jiff::Timestamp;
use serde_json::{Map, Value as Json};

use super::{Contradiction, DocumentParts, Mapped, MappedRecord, RowItems, collected, document, ids::id_of, take};
use crate::records::table::{RowGroup, TableColumns, members_of};
use crate::records::{RecordError, RecordPlace, RejectKind, record_limit};
use crate::workspace::{Field, RowsAs, Source};

/// A row that was set aside.
pub(crate) struct BadRow {
    pub place: RecordPlace,
    pub error: RecordError,
}

/// What the rows of a device came to.
pub(crate) struct MappedGroup {
    /// That of its first good row.
    pub place: RecordPlace,
    pub record: Result<MappedRecord, RecordError>,
}

/// The rows of a device on their way to a document.
struct GroupBuilder<'g> {
    source: &'g Source,
    with: &'g Mapped<'g>,
    /// The item's columns, the one that names it first.
    item_fields: Vec<(String, Field)>,
    items: Vec<Vec<Option<Json>>>,
    /// What rows say of the device.
    members: Map<String, Json>,
    contradictions: Vec<Contradiction>,
    collected: Option<Timestamp>,
}

/// Maps the rows of a device to one document: its moment is the latest of theirs, and a fact of which they say different things is given
/// twice, and so of the wrong type. Rows that cannot be read are handed to `bad`.
pub(crate) fn map_group(
    group: RowGroup,
    columns: &TableColumns,
    source: &Source,
    with: &Mapped<'_>,
    mut bad: impl FnMut(BadRow) -> Result<(), String>,
) -> Result<Option<MappedGroup>, String> {
    let RowGroup { id, rows, too_large, .. } = group;
    let mut builder = GroupBuilder {
        source,
        with,
        item_fields: item_fields(source, with),
        items: Vec::new(),
        members: Map::new(),
        contradictions: Vec::new(),
        collected: None,
    };
    let mut first: Option<RecordPlace> = None;
    for row in rows {
        let place = RecordPlace::at(row.line, row.offset);
        let added = match row.cells {
            Ok(cells) => builder.add(members_of(cells, columns, source)),
            Err(fault) => Err(RecordError { id: id.clone(), ..RecordError::unreadable(fault.reason) }),
        };
        match added {
            Ok(()) => match &mut first {
                Some(first) => first.rows += 1,
                None => first = Some(place),
            },
            Err(error) => bad(BadRow { place, error })?,
        }
    }
    let (Some(id), Some(place)) = (id, first) else { return Ok(None) };
    let record = if too_large {
        let reason = format!("the rows of this device are more than {}", record_limit());
        Err(RecordError { id: Some(id), ..RecordError::new(RejectKind::TooLarge, reason) })
    } else {
        builder.finish(&id).map_err(|error| RecordError { id: Some(id), ..error })
    };
    Ok(Some(MappedGroup { place, record }))
}

/// Returns the columns of the items of rows, the one that names them first.
fn item_fields(source: &Source, with: &Mapped<'_>) -> Vec<(String, Field)> {
    let Some(RowsAs::List { list, key, fields }) = &source.table.rows else { return Vec::new() };
    let mut all = Vec::with_capacity(fields.len() + 1);
    match fields.iter().find(|(name, _)| name == key) {
        Some(field) => all.push(field.clone()),
        None => {
            // By the name that the dictionary gives it, or its own.
            let declared = with.dictionary.facts.get(list).and_then(|declared| declared.key.as_deref());
            all.push((key.clone(), Field::of(format!("{list}.{}", declared.unwrap_or(key)))));
        }
    }
    all.extend(fields.iter().filter(|(name, _)| name != key).cloned());
    all
}

impl GroupBuilder<'_> {
    /// Adds a row.
    fn add(&mut self, mut row: Map<String, Json>) -> Result<(), RecordError> {
        let id = id_of(&mut row, None, &[], self.source, self.with)?;
        let collected =
            collected(&mut row, &[], self.source, self.with).map_err(|error| RecordError { id: Some(id), ..error })?;
        self.collected = self.collected.max(Some(collected));
        match &self.source.table.rows {
            Some(RowsAs::List { .. }) => {
                let item: Vec<Option<Json>> = self.item_fields.iter().map(|(name, _)| take(&mut row, name)).collect();
                // A row that names no item tells of the device alone.
                if item.first().is_some_and(|key| key.as_ref().is_some_and(|key| !key.is_null())) {
                    self.items.push(item);
                }
            }
            Some(RowsAs::Facts { fact, value }) => {
                let (name, value) = (take(&mut row, fact), take(&mut row, value));
                if let (Some(name), Some(value)) = (name.filter(|name| !name.is_null()), value) {
                    let name = name.as_str().map_or_else(|| name.to_string(), str::to_owned);
                    self.member(name, value);
                }
            }
            None => {}
        }
        for (name, value) in row {
            self.member(name, value);
        }
        Ok(())
    }

    /// Adds what a row says of the device.
    fn member(&mut self, name: String, value: Json) {
        match self.members.get(&name) {
            None => {
                self.members.insert(name, value);
            }
            Some(before) if *before == value => {}
            Some(before) => {
                let text = |json: &Json| json.as_str().map_or_else(|| json.to_string(), str::to_owned);
                let values = [text(before), text(&value)];
                if !self.contradictions.iter().any(|known| known.fact == name) {
                    self.contradictions.push(Contradiction { fact: name, values });
                }
            }
        }
    }

    fn finish(self, id: &str) -> Result<MappedRecord, RecordError> {
        let Self { source, with, item_fields, items, members, mut contradictions, collected } = self;
        let doubled = contradictions.iter().map(|contradiction| contradiction.fact.clone()).collect();
        let list = match &source.table.rows {
            // A device without any has an empty list where the file lists everything.
            Some(RowsAs::List { list, .. }) if !items.is_empty() || source.complete => {
                Some(RowItems { fact: list, fields: &item_fields, items })
            }
            _ => None,
        };
        let parts = DocumentParts { id, collected, members, doubled, items: list };
        let mut mapped = document(parts, source, with)?;
        contradictions.retain_mut(|contradiction| {
            let field = source.fields.iter().find(|(name, _)| *name == contradiction.fact);
            if let Some((_, field)) = field {
                contradiction.fact.clone_from(&field.fact);
            }
            !field.is_some_and(|(_, field)| field.leave_out) && !with.dictionary.names_a_secret(&contradiction.fact)
        });
        mapped.doubts.contradictions = contradictions;
        Ok(mapped)
    }
}
