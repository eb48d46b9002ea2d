//! Which device, person or other thing a record is about.

use serde_json::{Map, Value as Json};

use super::{Mapped, take};
use crate::records::table::TableColumns;
use crate::records::{RecordError, RejectKind};
use crate::workspace::{IdForm, NameFrom, Source};

/// The field that stands for the key of an object of records.
const KEY_FIELD: &str = "@key";

/// Takes the id out of a record.
///
/// # Errors
/// When it has none.
pub(super) fn id_of(
    record: &mut Map<String, Json>,
    key: Option<String>,
    doubled: &[String],
    source: &Source,
    with: &Mapped<'_>,
) -> Result<String, RecordError> {
    if source.id_from != NameFrom::Field {
        return id_of_file(source, with);
    }
    let mut parts = Vec::with_capacity(1 + source.id_form.join.len());
    for field in id_fields(source) {
        if doubled.iter().any(|path| path == field) {
            return Err(RecordError::unreadable(format!("`{field}` is given twice")));
        }
        let said = match &key {
            Some(key) if field == KEY_FIELD => Some(Json::from(key.as_str())),
            _ => take(record, field),
        };
        parts.push(id_part(said.as_ref(), field, source)?);
    }
    formed(&parts, source)
}

/// Returns the id that the key of a member says, where keys do.
pub(crate) fn id_of_key(key: Option<String>, source: &Source) -> Option<String> {
    key.filter(|_| source.id_field == KEY_FIELD).and_then(|key| formed(&[key], source).ok())
}

/// Returns the id that a row of a table names; none where it names none.
pub(crate) fn id_in_cells(
    cells: &[Json],
    columns: &TableColumns,
    source: &Source,
    with: &Mapped<'_>,
) -> Option<String> {
    if source.id_from != NameFrom::Field {
        return id_of_file(source, with).ok();
    }
    let parts: Option<Vec<String>> = id_fields(source)
        .map(|field| id_part(columns.position(field).and_then(|at| cells.get(at)), field, source).ok())
        .collect();
    formed(&parts?, source).ok()
}

fn id_fields(source: &Source) -> impl Iterator<Item = &str> {
    std::iter::once(source.id_field.as_str()).chain(source.id_form.join.iter().map(String::as_str))
}

fn id_of_file(source: &Source, with: &Mapped<'_>) -> Result<String, RecordError> {
    let name = with.path.and_then(|path| name_in_path(path, source.id_from));
    name.ok_or_else(|| RecordError::new(RejectKind::NoId, "the file has no name to take the device's from"))
}

fn id_part(said: Option<&Json>, field: &str, source: &Source) -> Result<String, RecordError> {
    match said {
        Some(Json::String(text)) if !text.trim().is_empty() => Ok(text.clone()),
        Some(Json::Number(number)) => Ok(number.to_string()),
        Some(Json::String(_) | Json::Null) | None => {
            let reason = format!("no `{field}`: the record names no {}", source.kind.noun());
            Err(RecordError::new(RejectKind::NoId, reason))
        }
        Some(_) => Err(RecordError::new(RejectKind::NoId, format!("`{field}` is not a text"))),
    }
}

/// Joins the parts of an id, and makes it uniform.
fn formed(parts: &[String], source: &Source) -> Result<String, RecordError> {
    let IdForm { join: _, with, case, before } = &source.id_form;
    let joined = match parts {
        [one] => one.clone(),
        parts => parts.iter().map(|part| part.trim()).collect::<Vec<_>>().join(with),
    };
    let kept = match before {
        Some(mark) => joined.split(mark.as_str()).next().unwrap_or_default().trim(),
        None => &joined,
    };
    if kept.is_empty() {
        let mark = before.as_deref().unwrap_or_default();
        let reason = format!(
            "nothing stands before `{mark}` in `{}`: the record names no {}",
            source.id_field,
            source.kind.noun()
        );
        return Err(RecordError::new(RejectKind::NoId, reason));
    }
    Ok(case.map_or_else(|| kept.to_owned(), |case| case.apply(kept)))
}

/// Returns the name of a file without its endings, or of the folder it lies in.
fn name_in_path(path: &str, from: NameFrom) -> Option<String> {
    let mut parts = path.rsplit(['/', '\\']);
    let file = parts.next()?;
    let name = match from {
        NameFrom::Field => return None,
        NameFrom::Folder => parts.next()?,
        NameFrom::File => {
            let unpacked = file.strip_suffix(".gz").or_else(|| file.strip_suffix(".zst")).unwrap_or(file);
            unpacked.rsplit_once('.').map_or(unpacked, |(stem, _)| stem)
        }
    };
    (!name.is_empty() && !name.starts_with('.')).then(|| name.to_owned())
}
