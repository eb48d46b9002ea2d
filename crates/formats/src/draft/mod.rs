//! Looks at a file of a feed that nobody knows yet, and drafts the `[[source]]` by which it would be read. What is sure stands there as it
//! would be used, each with its reason; what is not stands as a question for a person.

mod columns;
mod fields;
mod looks;
mod rows;
mod sniff;
mod text;
mod words;
mod write;

use std::collections::HashSet;

use fencepost_core::Dictionary;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json};

pub use fields::FactLine;
pub use sniff::SAMPLE;
pub use text::quoted as toml_string;

use crate::workspace::Format;

/// The ids of a list of people.
#[derive(Clone, Debug, Default)]
pub struct PeopleList {
    /// The source.
    pub source: String,
    /// The ids.
    pub ids: HashSet<String>,
    /// The mail addresses.
    pub mails: HashSet<String>,
}

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
    /// The moment of drafting: nothing was collected after it.
    pub now: Timestamp,
    /// Ids of devices that are known.
    pub devices: &'d HashSet<String>,
    /// The fact that names holders.
    pub holder: Option<&'d str>,
    /// Whom devices name as holders.
    pub holders: &'d HashSet<String>,
    /// The lists of people.
    pub people: &'d [PeopleList],
}

/// What a file looks like.
#[derive(Clone, Debug)]
struct Sample {
    format: Format,
    delimiter: u8,
    /// The encoding, where it has to be said.
    encoding: Option<&'static str>,
    /// The path of the list of records, in JSON.
    records_at: Option<String>,
    /// The sheet of a workbook, where it is not the first.
    sheet: Option<String>,
    /// How many lines stand before the headings of a table.
    skip_rows: u64,
    /// Records are the members of an object, and their keys name them.
    keyed: bool,
    /// The first records.
    records: Vec<Map<String, Json>>,
    /// There are more of them than were looked at.
    more: bool,
}

/// A draft of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceDraft {
    /// The `[[source]]`, for fencepost.toml.
    pub source: String,
    /// What the dictionary is to say of its facts.
    pub facts: Vec<FactLine>,
    /// How many questions it leaves.
    pub questions: usize,
    /// Nothing is left open without which no record could be read.
    pub is_readable: bool,
}

impl SourceDraft {
    /// Returns the draft as one text for fencepost.toml; the lines for facts.toml are comments in it.
    pub fn text(&self) -> String {
        let mut text = self.source.clone();
        if !self.facts.is_empty() {
            text.push_str("\n# For facts.toml, below [facts]; a field with a unit needs its line there:\n");
            for FactLine { path, entry } in &self.facts {
                text.push_str(&format!("# {} = {entry}\n", toml_string(path)));
            }
        }
        text
    }
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
pub fn draft_source(start: &[u8], whole: bool, context: &DraftFor<'_>) -> Result<SourceDraft, String> {
    let sample = sniff::sample(start, whole)?;
    if sample.records.is_empty() {
        return Err("no record could be read from the file".to_owned());
    }
    let columns = columns::columns_of(&sample.records);
    Ok(write::draft(&sample, &columns, context))
}
