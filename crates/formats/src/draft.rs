//! Looks at a file of a feed that nobody knows yet, and drafts the `[[source]]` by which it would be read: guesses, each with its
//! reason, for a person to finish.

mod columns;
mod sniff;
mod write;

use fencepost_core::Dictionary;
use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json};

pub use sniff::SAMPLE;
pub use write::quoted as toml_string;

use crate::workspace::Format;

/// What a drafter knows besides the file.
#[derive(Clone, Copy, Debug)]
pub struct DraftFor<'d> {
    /// The file's path from the workspace.
    pub path: &'d str,
    /// The facts that are declared already.
    pub dictionary: &'d Dictionary,
    /// The workspace's zone.
    pub zone: &'d TimeZone,
    /// Ids of sources that are taken.
    pub taken: &'d [String],
}

/// What a file looks like.
#[derive(Clone, Debug)]
struct Sample {
    format: Format,
    delimiter: u8,
    /// The path of the list of records, in JSON.
    records_at: Option<String>,
    /// The first records.
    records: Vec<Map<String, Json>>,
    /// There are more of them than were looked at.
    more: bool,
}

/// Returns the records of a file that nobody knows yet, as they come. The file is given whole, decompressed.
///
/// # Errors
/// When it looks like nothing that is known, or holds more than is looked at.
pub fn records_of_unknown(file: &[u8]) -> Result<Vec<Map<String, Json>>, String> {
    let sample = sniff::sample(file, true)?;
    match (sample.records.is_empty(), sample.more) {
        (true, _) => Err("no record could be read from the file".to_owned()),
        (_, true) => Err("it holds more records than are looked at".to_owned()),
        (false, false) => Ok(sample.records),
    }
}

/// Drafts a source for a file, whose first bytes are given, decompressed; `whole` says that they are all of it.
///
/// # Errors
/// When the file looks like nothing that is known.
pub fn draft_source(start: &[u8], whole: bool, context: &DraftFor<'_>) -> Result<String, String> {
    let sample = sniff::sample(start, whole)?;
    if sample.records.is_empty() {
        return Err("no record could be read from the file".to_owned());
    }
    let columns = columns::columns_of(&sample.records);
    Ok(write::draft(&sample, &columns, context))
}
