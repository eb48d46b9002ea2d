//! Reads what people and machines write (workspace files, collected state, lists of people), and writes what
//! machines read. Decides nothing about compliance.

mod csv_records;
mod document;
mod lines;
mod machine;
mod mapping;
mod workspace;

pub use document::JsonDocuments;
pub use lines::{Line, LineError, Lines, MAX_LINE};
pub use machine::{csv_cell, csv_line, datum_of_json, json_of_datum, json_of_value};
pub use mapping::{Mapped, Record, RecordError, map_record, read_records};
pub use workspace::{
    Clock, Config, Field, FileText, Format, Source, SourceKind, Workspace, line_column, load_workspace, workspace_files,
};
