//! Reads what people and machines write (workspace files, collected state, lists of people), and writes what
//! machines read. Decides nothing about compliance.

mod document;
mod draft;
mod json_walk;
mod keep;
mod machine;
mod padded;
mod records;
mod sarif;
mod secret;
mod shapes;
mod workspace;

pub use document::JsonDocuments;
pub use draft::{DraftFor, SAMPLE, draft_source, records_of_unknown, toml_string};
pub use keep::{Keeper, Kept, assemble, assemble_in, stored_json, thin_out};
pub use machine::{csv_line, datum_of_json, json_of_datum, json_of_value};
pub use padded::RawDocument;
pub use records::{
    FileRead, Line, LinesOf, Mapped, Piece, Pieces, Record, RecordError, RejectKind, read_piece, read_records, unfold,
};
pub use sarif::sarif;
pub use secret::{SECRET_PREFIX, SecretKey, holds_secret, is_secret_digest, mask_secrets};
pub use workspace::{
    Clock, Config, Example, Field, FileText, Format, NameFrom, Source, SourceKind, Workspace, WorkspaceFile,
    is_baseline_key, is_fact_path, line_column, load_workspace, workspace_files,
};
