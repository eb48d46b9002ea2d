//! Drafts for a person to finish: the source of a file that nobody knows yet, and what the dictionary could say of the facts that
//! the fleet reports.

use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use fencepost_core::{FactType, is_version, parse_date_time};
use fencepost_formats::{
    ClockMode, DraftFor, FileText, Format, PeopleList, SAMPLE, SourceDraft, WorkspaceFile, add_facts, draft_source,
    open_text,
};
use fencepost_store::{Ledger, LedgerError};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::import::changes::flat_facts;
use crate::ledger_view::reading::Reading;
use crate::workspace::file_edit::FileEdit;
use crate::workspace::files::shown_path;
use crate::workspace::project::{Project, ProjectError};

/// What a workspace knows already that helps with a draft.
#[derive(Debug, Default)]
struct KnownIds {
    devices: HashSet<String>,
    holders: HashSet<String>,
    people: Vec<PeopleList>,
}

/// So many devices are asked whom they name.
const ASKED: usize = 2_000;

impl KnownIds {
    /// Reads it from a ledger.
    fn of(project: &Project, ledger: &Ledger) -> Result<Self, LedgerError> {
        let reader = ledger.reader()?;
        let mut known = Self { devices: reader.device_names()?.into_iter().collect(), ..Self::default() };
        let mut lists: BTreeMap<String, PeopleList> = BTreeMap::new();
        for person in reader.people(None)? {
            let list = lists
                .entry(person.source.clone())
                .or_insert_with(|| PeopleList { source: person.source, ..PeopleList::default() });
            let said: Json = serde_json::from_str(&person.body).unwrap_or_default();
            list.mails.extend(said["mail"].as_str().map(str::to_owned));
            list.ids.insert(person.id);
        }
        known.people = lists.into_values().collect();
        if let Some(holder) = &project.config.holder {
            for device in reader.device_names()?.into_iter().take(ASKED) {
                for said in reader.observations_of(&device, None)? {
                    let facts = flat_facts(&Document::of(&device, said).json, &project.dictionary);
                    match facts.get(holder) {
                        Some(Json::Array(ids)) => {
                            known.holders.extend(ids.iter().filter_map(Json::as_str).map(str::to_owned));
                        }
                        Some(id) => known.holders.extend(id.as_str().map(str::to_owned)),
                        None => {}
                    }
                }
            }
        }
        Ok(known)
    }
}

/// Drafts a source for a file; where `path` is `-`, for what comes on `stream`. A ledger tells which devices and people are known.
///
/// # Errors
/// When the file cannot be read, or looks like nothing that is known.
pub fn draft_source_of(
    project: &Project,
    ledger: Option<&Ledger>,
    path: &Path,
    stream: impl Read + Send,
) -> Result<SourceDraft, EngineError> {
    let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
    let from_stream = path.as_os_str() == "-";
    let input: Box<dyn Read + Send + '_> =
        if from_stream { Box::new(stream) } else { Box::new(File::open(path).map_err(failed)?) };
    let mut start = Vec::new();
    let mut text = open_text(BufReader::with_capacity(1 << 16, input), None).map_err(failed)?;
    text.by_ref().take(SAMPLE as u64).read_to_end(&mut start).map_err(failed)?;
    let whole = matches!(text.read(&mut [0; 1]), Ok(0));
    let known = ledger.map_or_else(|| Ok(KnownIds::default()), |ledger| KnownIds::of(project, ledger))?;
    // Under a clock that is stepped, what was collected may lie at any time.
    let now = match project.config.clock {
        ClockMode::Wall => Timestamp::now(),
        ClockMode::Stepped => Timestamp::MAX,
    };
    let taken: Vec<String> = project.config.sources.iter().map(|source| source.id.to_string()).collect();
    let shown = if from_stream { "feed".to_owned() } else { shown_path(project, path) };
    let context = DraftFor {
        path: &shown,
        dictionary: &project.dictionary,
        zone: &project.config.calendar.zone,
        taken: &taken,
        now,
        devices: &known.devices,
        holder: project.config.holder.as_deref(),
        holders: &known.holders,
        people: &known.people,
    };
    draft_source(&start, whole, &context).map_err(|message| {
        let message = format!("{}: {message}", path.display());
        let formats: Vec<&str> = Format::ALL.iter().map(|(word, _)| *word).collect();
        EngineError::refused(message, format!("known formats are {}", formats.join(", ")))
    })
}

/// A workspace with a draft in it that is not written yet.
#[derive(Debug)]
pub struct DraftedWorkspace {
    /// The workspace as it would be.
    pub project: Project,
    /// The id of the source.
    pub source: String,
    /// The files that change: what they held, and what they would hold.
    edits: Vec<(FileText, FileText)>,
}

impl DraftedWorkspace {
    /// Puts a draft into a workspace: its source at the end of fencepost.toml, its facts into facts.toml.
    ///
    /// # Errors
    /// The outer one when facts.toml cannot be added to; the inner one when the files would have mistakes.
    pub fn of(project: &Project, draft: &SourceDraft) -> Result<Result<Self, ProjectError>, EngineError> {
        let files = files_with_draft(project, draft)?;
        let held = |file: &FileText| project.files.iter().find(|other| other.path == file.path);
        let edit = |file: &FileText| {
            let before = held(file).map_or_else(String::new, |known| known.text.clone());
            (before != file.text).then(|| (FileText { path: file.path.clone(), text: before }, file.clone()))
        };
        let edits = files.iter().filter_map(edit).collect();
        let drafted = match Project::from_files(&project.root, files) {
            Ok(drafted) => drafted,
            Err(mistakes) => return Ok(Err(mistakes)),
        };
        let source = drafted.config.sources.last().map(|source| source.id.to_string()).unwrap_or_default();
        Ok(Ok(Self { project: drafted, source, edits }))
    }

    /// Returns the names of the files that change.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.edits.iter().map(|(_, after)| after.path.as_str())
    }

    /// Writes the files.
    ///
    /// # Errors
    /// When somebody else has edited one since it was read, or it cannot be written.
    pub fn write(&self) -> Result<(), EngineError> {
        self.edits.iter().try_for_each(|(before, after)| {
            FileEdit { name: &after.path, before: &before.text, after: &after.text }.write(&self.project.root)
        })
    }
}

/// Returns the files of a workspace with a draft in them: its source at the end of fencepost.toml, its facts in facts.toml. Everything else
/// stays as it is, comments too.
///
/// # Errors
/// When facts.toml cannot be added to.
fn files_with_draft(project: &Project, draft: &SourceDraft) -> Result<Vec<FileText>, EngineError> {
    let mut files = project.files.clone();
    for file in &mut files {
        if WorkspaceFile::of(&file.path) == Some(WorkspaceFile::Config) {
            let gap = if file.text.is_empty() || file.text.ends_with("\n\n") { "" } else { "\n" };
            file.text = format!("{}{gap}{}", file.text, draft.source);
        }
    }
    if draft.facts.is_empty() {
        return Ok(files);
    }
    let facts = files.iter().position(|file| WorkspaceFile::of(&file.path) == Some(WorkspaceFile::Facts));
    let at = facts.unwrap_or_else(|| {
        files.push(FileText { path: "facts.toml".to_owned(), text: String::new() });
        files.len() - 1
    });
    let refused = |message| EngineError::refused(message, "put the lines into facts.toml by hand");
    files[at].text = add_facts(&files[at].text, &draft.facts).map_err(refused)?;
    Ok(files)
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

/// Values of a fact that are not of its declared type.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrongFact {
    /// The fact's path.
    pub path: String,
    /// The type that is declared.
    pub declared: &'static str,
    /// How many values.
    pub values: u64,
    /// Of how many.
    pub of: u64,
    /// One of them.
    pub example: String,
}

/// What the dictionary could say, and what does not fit what it says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FactDrafts {
    /// What it could say, by path.
    pub drafts: Vec<FactDraft>,
    /// Facts with values of another type, by path.
    pub wrong: Vec<WrongFact>,
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
    pub fn draft_facts(&self) -> Result<FactDrafts, EngineError> {
        let dictionary = &self.project.dictionary;
        let changing = self.changing()?;
        let (surveys, _) = self.survey()?;
        let (mut drafts, mut wrong) = (Vec::new(), Vec::new());
        for (path, survey) in surveys {
            let known = dictionary.facts.get(&path);
            if let (Some(example), Some(ty)) = (survey.wrong_example, known.and_then(|known| known.ty)) {
                let (values, all) = (survey.wrong, survey.values);
                wrong.push(WrongFact { path: path.clone(), declared: ty.as_str(), values, of: all, example });
            }
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
                    because.push(such_as(&values, survey.values));
                } else if texts > 0
                    && all(&|value| matches!(parse_date_time(value), Some(fencepost_core::DateTime::At(..))))
                {
                    draft.ty = Some(FactType::Instant);
                    because.push(such_as(&values, survey.values));
                } else if texts > 0 && all(&|value| value.len() == 10 && value.parse::<jiff::civil::Date>().is_ok()) {
                    draft.ty = Some(FactType::Date);
                    because.push(such_as(&values, survey.values));
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
        Ok(FactDrafts { drafts, wrong })
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

fn such_as(values: &[&str], count: u64) -> String {
    let all = if count == 1 { "its value".to_owned() } else { format!("all {count} values") };
    values.iter().min().map_or_else(String::new, |value| format!("{all}, such as {value}"))
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
