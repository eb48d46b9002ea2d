//! Drafts for a person to finish: the source of a file that nobody knows yet, and what the dictionary could say of the facts that
//! the fleet reports.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use fencepost_core::{FactType, is_version, parse_date_time};
use fencepost_formats::{DraftFor, SAMPLE, decompress, draft_source};
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::import::changes::flat_facts;
use crate::ledger_view::reading::Reading;
use crate::workspace::files::shown_path;
use crate::workspace::project::Project;

/// Drafts a source for a file; where `path` is `-`, for what comes on `stream`.
///
/// # Errors
/// When the file cannot be read, or looks like nothing that is known.
pub fn draft_source_of(project: &Project, path: &Path, stream: impl Read + Send) -> Result<String, EngineError> {
    let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
    let from_stream = path.as_os_str() == "-";
    let input: Box<dyn Read + Send + '_> =
        if from_stream { Box::new(stream) } else { Box::new(File::open(path).map_err(failed)?) };
    let mut start = Vec::new();
    let mut decompressed = decompress(BufReader::with_capacity(1 << 16, input)).map_err(failed)?;
    decompressed.by_ref().take(SAMPLE as u64).read_to_end(&mut start).map_err(failed)?;
    let whole = matches!(decompressed.read(&mut [0; 1]), Ok(0));
    let taken: Vec<String> = project.config.sources.iter().map(|source| source.id.to_string()).collect();
    let shown = if from_stream { "feed".to_owned() } else { shown_path(project, path) };
    let context =
        DraftFor { path: &shown, dictionary: &project.dictionary, zone: &project.config.calendar.zone, taken: &taken };
    draft_source(&start, whole, &context).map_err(|message| {
        let message = format!("{}: {message}", path.display());
        EngineError::refused(message, "known formats are jsonl, json, csv, plist, ini, key-value and scim")
    })
}

/// What the dictionary could say of a fact.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FactDraft {
    /// Its path.
    pub path: String,
    /// Its type.
    pub ty: Option<FactType>,
    /// The unit of its numbers.
    pub unit: Option<&'static str>,
    /// Of a list: the field that tells its items apart.
    pub key: Option<String>,
    /// It changes at every collection.
    pub volatile: bool,
    /// Its name says that it is a secret.
    pub secret: bool,
    /// What it was seen by.
    pub because: String,
    /// It is declared already, so that this is to be added to what is there.
    pub declared: bool,
}

/// A fact that differs on nearly every device is looked at by so many devices at the least.
const FEWEST: u64 = 5;
/// So many devices are looked at for what changes.
const DEVICES: usize = 500;
/// So many collections of each are.
const COLLECTIONS: usize = 4;

impl Reading<'_> {
    /// Returns what the dictionary could say of the facts that the fleet reports and that it does not say yet, by path.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn draft_facts(&self) -> Result<Vec<FactDraft>, EngineError> {
        let dictionary = &self.project.dictionary;
        let changing = self.changing()?;
        let (surveys, _) = self.survey()?;
        let mut drafts = Vec::new();
        for (path, survey) in surveys {
            let known = dictionary.facts.get(&path);
            let mut draft = FactDraft { path: path.clone(), declared: known.is_some(), ..FactDraft::default() };
            let mut because = Vec::new();
            let texts = survey.kinds.get("text").copied().unwrap_or(0);
            let numbers = survey.kinds.get("number").copied().unwrap_or(0);
            let values: Vec<&str> = survey.seen.keys().map(String::as_str).collect();
            let all = |is: &dyn Fn(&str) -> bool| !values.is_empty() && values.iter().all(|value| is(value));
            let last = path.rsplit('.').next().unwrap_or(&path);
            let holds_secrets = survey.kinds.keys().any(|kind| !matches!(*kind, "boolean" | "null"))
                && dictionary.names_a_secret(&path);
            if known.is_none() && holds_secrets {
                draft.secret = true;
                because.push("its name says so".to_owned());
            } else if known.is_none_or(|known| known.ty.is_none()) {
                let dotted = values.iter().filter(|value| value.matches('.').count() >= 2).count();
                if texts > 0
                    && numbers == 0
                    && all(&|value| is_version(value))
                    && (dotted * 2 > values.len() || last.contains("version"))
                {
                    draft.ty = Some(FactType::Version);
                    because.push(such_as(&values));
                } else if texts > 0
                    && all(&|value| matches!(parse_date_time(value), Some(fencepost_core::DateTime::At(..))))
                {
                    draft.ty = Some(FactType::Instant);
                    because.push(such_as(&values));
                } else if texts > 0 && all(&|value| value.len() == 10 && value.parse::<jiff::civil::Date>().is_ok()) {
                    draft.ty = Some(FactType::Date);
                    because.push(such_as(&values));
                } else if numbers > 0 && texts > 0 && numbers > texts * 4 {
                    draft.ty = Some(FactType::Number);
                    because.push(format!("{numbers} devices say a number, {texts} a text"));
                }
                if let (Some(unit), true) = (unit_of(last), numbers > 0 && draft.ty.is_none()) {
                    draft.ty = Some(FactType::Number);
                    draft.unit = Some(unit);
                    because.push("by its name".to_owned());
                }
            }
            if survey.kinds.contains_key("list")
                && known.is_none_or(|known| known.key.is_none())
                && let Some(key) = changing.keys.get(&path).cloned().flatten()
            {
                draft.ty = Some(FactType::List);
                because.push(format!("`{key}` differs in the items of every list"));
                draft.key = Some(key);
            }
            if known.is_none_or(|known| !known.volatile)
                && let Some((changed, pairs)) = changing.pairs.get(&path)
                && *pairs >= FEWEST
                && changed * 10 >= pairs * 8
            {
                draft.volatile = true;
                because.push(format!("another value at {changed} of {pairs} collections"));
            }
            draft.because = because.join("; ");
            if draft.ty.is_some() || draft.volatile || draft.secret {
                drafts.push(draft);
            }
        }
        Ok(drafts)
    }

    /// Looks at the last collections of devices: which facts change from one to the next, and by which field items of lists
    /// can be told apart.
    fn changing(&self) -> Result<Changing, EngineError> {
        let mut changing = Changing::default();
        for device in self.reader.device_names()?.into_iter().take(DEVICES) {
            let mut by_source: BTreeMap<String, Vec<BTreeMap<String, Json>>> = BTreeMap::new();
            for said in self.reader.history_of(&device, self.run)?.into_iter().rev() {
                let documents = by_source.entry(said.source.clone()).or_default();
                if documents.len() < COLLECTIONS {
                    documents.push(flat_facts(&Document::of(&device, said).json, &self.project.dictionary));
                }
            }
            for documents in by_source.into_values() {
                for facts in &documents {
                    facts.iter().for_each(|(path, value)| changing.note_key(path, value));
                }
                for pair in documents.windows(2) {
                    for (path, value) in &pair[0] {
                        if let Some(before) = pair[1].get(path) {
                            let (changed, pairs) = changing.pairs.entry(path.clone()).or_default();
                            *pairs += 1;
                            *changed += u64::from(value != before);
                        }
                    }
                }
            }
        }
        Ok(changing)
    }
}

#[derive(Default)]
struct Changing {
    /// Of each path how often it changed, of how many times it could have.
    pairs: BTreeMap<String, (u64, u64)>,
    /// Of each list the field by which its items can be told apart, while there is one.
    keys: BTreeMap<String, Option<String>>,
}

impl Changing {
    fn note_key(&mut self, path: &str, value: &Json) {
        const LIKELY: [&str; 4] = ["name", "id", "mount", "path"];
        let Some(items) = value.as_array().filter(|items| !items.is_empty()) else { return };
        let differs = |key: &str| {
            let mut names: Vec<Option<&str>> = items.iter().map(|item| item.get(key).and_then(Json::as_str)).collect();
            names.sort_unstable();
            let all = names.len();
            names.dedup();
            names.len() == all && !names.contains(&None)
        };
        let first = || LIKELY.iter().find(|key| differs(key)).map(|key| (*key).to_owned());
        let known = self.keys.entry(path.to_owned()).or_insert_with(first);
        // One list in which it does not differ, and it is no key.
        if known.as_deref().is_some_and(|key| !differs(key)) {
            *known = None;
        }
    }
}

fn such_as(values: &[&str]) -> String {
    values.iter().min().map_or_else(String::new, |value| format!("such as {value}"))
}

fn unit_of(name: &str) -> Option<&'static str> {
    const ENDINGS: [(&str, &str); 9] = [
        ("_bytes", "B"),
        ("_kb", "kB"),
        ("_mb", "MB"),
        ("_gb", "GB"),
        ("_seconds", "s"),
        ("_minutes", "min"),
        ("_hours", "h"),
        ("_days", "d"),
        ("_percent", "%"),
    ];
    ENDINGS.iter().find(|(ending, _)| name.to_lowercase().ends_with(ending)).map(|(_, unit)| *unit)
}
