//! Reads what people and machines write (workspace files, collected state, lists of people), and writes what
//! machines read. Decides nothing about compliance.

mod document;
mod draft;
mod json_walk;
mod machine;
mod padded;
mod paths;
mod records;
mod sarif;
mod secret;
mod shapes;
mod split;
mod template;
mod workspace;

pub use document::JsonDocuments;
pub use draft::{DraftFor, FactLine, PeopleList, SAMPLE, SourceDraft, draft_source, records_of_unknown, toml_string};
pub use machine::{csv_line, datum_of_json, json_of_datum, json_of_value};
pub use padded::RawDocument;
pub use paths::PathCollector;
pub use records::{
    Chunk, Chunks, Contradiction, FileError, FileRead, Line, LinesOf, Mapped, Record, RecordBatch, RecordBatches,
    RecordDoubts, RecordError, RecordPlace, RejectKind, UnknownWord, decompress, open_text, read_batch, read_records,
};
pub use sarif::sarif;
pub use secret::{SECRET_PREFIX, SecretKey, holds_secret, is_secret_digest, mask_secrets};
pub use split::{DocumentSplitter, Kept, assemble, assemble_in, stored_json, thin_out};
pub use template::{TemplateError, TemplateValues, TextKind, check_template, facts_in_template, fill_in};
pub use workspace::{
    CellRules, Channel, ChannelKind, ClockMode, Config, DateLanguage, DefinitionId, EditError, Example, Field,
    FileText, Format, IdForm, ItemFields, LetterCase, NameFrom, NewWaiver, NumberMarks, Reached, Recipient,
    ReportSettings, RowsAs, SecretPlace, SendSettings, Source, SourceKind, TableLayout, Tls, Workspace, WorkspaceFile,
    add_facts, add_waiver, definitions, end_waiver, is_address, is_baseline_key, is_fact_path, line_column,
    load_workspace, unread_files, workspace_files,
};
