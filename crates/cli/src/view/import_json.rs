//! What became of an imported file, for machines.

use fencepost_engine::{EngineError, Imported};
use serde_json::{Value as Json, json};

/// The columns of a table of files.
pub const COLUMNS: [&str; 11] =
    ["file", "source", "records", "rows", "devices", "new", "changed", "unchanged", "older", "absent", "set_aside"];

/// A file that was imported, or would be.
pub fn imported_json(imported: &Imported) -> Json {
    let doubts = &imported.doubts;
    let set_aside: Vec<Json> = imported
        .rejects
        .by_reason()
        .map(|(reason, found)| json!({ "reason": reason, "count": found.count, "lines": found.lines }))
        .collect();
    let of_type = doubts.wrong_types.iter().map(|(fact, wrong)| {
        json!({ "fact": fact, "declared": wrong.declared, "count": wrong.count, "example": wrong.example })
    });
    // Two values of one fact are none of its type, whatever that is.
    let contradicted = doubts.contradictions.iter().map(
        |(fact, found)| json!({ "fact": fact, "declared": null, "count": found.devices, "example": found.example }),
    );
    let words = doubts.unknown_words.iter();
    let words: Vec<Json> =
        words.map(|(word, count)| json!({ "field": word.field, "word": word.word, "count": count })).collect();
    let spellings = doubts.other_spellings.iter();
    let spellings: Vec<Json> = spellings.map(|(device, known)| json!({ "device": device, "known": known })).collect();
    json!({
        "file": imported.path, "source": imported.source, "about": imported.kind.about(), "format": imported.format,
        "because": imported.because, "imported_before": imported.already,
        "records": imported.records, "rows": imported.rows, "rows_left_out": imported.left_out_rows,
        "devices": imported.listed, "new": imported.new, "changed": imported.changed, "unchanged": imported.unchanged,
        "older": imported.older, "absent": imported.missing,
        "absent_kept": imported.kept_missing, "absent_kept_because": imported.kept_because,
        "set_aside": set_aside,
        "wrong_types": of_type.chain(contradicted).collect::<Vec<_>>(),
        "unknown_words": words,
        "unknown_holders": doubts.unknown_holders,
        "retired": doubts.retired,
        "other_spellings": spellings,
        "secrets": imported.secrets,
        "columns_missing": [],
    })
}

/// A file that was refused as a whole.
pub fn refused_json(path: &str, error: &EngineError) -> Json {
    let (file, columns_missing) = match error {
        EngineError::FileRefused { path, error } => (path.as_str(), error.columns_missing.as_slice()),
        _ => (path, &[][..]),
    };
    json!({ "file": file, "refused": error.to_string(), "help": error.help(), "columns_missing": columns_missing })
}
