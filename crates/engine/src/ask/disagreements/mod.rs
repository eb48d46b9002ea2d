//! Where feeds do not agree: ids in several spellings, holders that no list of people has, and facts of which fresh statements differ.

mod fixes;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use bumpalo::Bump;
use fencepost_core::drift::value_class;
use fencepost_core::{Dictionary, DocumentReader, Layout, Origin, SlotId, Value};
use fencepost_formats::{JsonDocuments, json_of_value, mask_secrets};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{Judge, holder_ids};
use crate::import::changes::flat_facts;
use crate::import::spelling;
use crate::ledger_view::reading::Reading;

pub use fixes::DisagreementFix;

/// What does not agree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DisagreementKind {
    /// Ids that differ in case, spaces or domain alone.
    Spelling,
    /// A holder whom no list of people has.
    Holder,
    /// A fact of which the fresh statements of feeds differ.
    Feeds,
}

impl DisagreementKind {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Spelling => "spelling",
            Self::Holder => "holder",
            Self::Feeds => "feeds",
        }
    }
}

/// What a source says.
#[derive(Clone, Debug, PartialEq)]
pub struct Statement {
    /// The source; none of what a correction says.
    pub source: Option<String>,
    /// The value, or the id.
    pub value: Json,
    /// When it was collected.
    pub collected: Option<Timestamp>,
}

/// Something on which feeds do not agree.
#[derive(Clone, Debug, PartialEq)]
pub struct Disagreement {
    /// What does not agree.
    pub kind: DisagreementKind,
    /// The device; of several spellings the id that came first.
    pub device: String,
    /// The fact; none of an id.
    pub fact: Option<String>,
    /// What is said, that which counts first.
    pub statements: Vec<Statement>,
    /// The later of the two statements that first differed, or the first statement that named the holder.
    pub since: Option<Timestamp>,
}

/// Whom lists of people have.
struct KnownHolders<'k> {
    /// The fact that names holders.
    fact: &'k str,
    /// The ids.
    people: HashSet<String>,
}

/// The facts on which the current statements about a device differ, as written.
struct Candidate {
    device: String,
    documents: Vec<Document>,
    paths: BTreeSet<String>,
}

/// A fact on which fresh statements differ.
struct DifferingFact<'p> {
    path: &'p str,
    slot: SlotId,
    /// The order of its list's items counts.
    is_ordered: bool,
    /// What is said, that which counts first.
    statements: Vec<Statement>,
}

impl Reading<'_> {
    /// Returns all on which feeds do not agree, by kind, device and fact. Facts that are volatile are left out: they differ all the time.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn disagreements(&self) -> Result<Vec<Disagreement>, EngineError> {
        let mut all = self.spellings()?;
        let judge = self.judge();
        let people: HashSet<String> = self.reader.people(self.run)?.into_iter().map(|person| person.id).collect();
        let holder = self.project.config.holder.as_deref().filter(|_| !people.is_empty());
        let holders = holder.map(|fact| KnownHolders { fact, people });
        for device in self.reader.device_names()? {
            let documents = self.documents(&device)?;
            if let Some(known) = &holders {
                all.extend(self.unknown_holders(&judge, &device, &documents, known)?);
            }
            if documents.len() > 1 {
                let paths = differing_paths(&documents, &self.project.dictionary);
                if !paths.is_empty() {
                    all.extend(self.differing_facts(&judge, &Candidate { device, documents, paths })?);
                }
            }
        }
        all.sort_by(|one, other| (one.kind, &one.device, &one.fact).cmp(&(other.kind, &other.device, &other.fact)));
        Ok(all)
    }

    /// Returns ids that differ in case, spaces or domain alone.
    fn spellings(&self) -> Result<Vec<Disagreement>, EngineError> {
        let mut by_spelling: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for name in self.reader.device_names()? {
            by_spelling.entry(spelling(&name)).or_default().push(name);
        }
        let mut all = Vec::new();
        for names in by_spelling.into_values().filter(|names| names.len() > 1) {
            let mut met: Vec<(Timestamp, Vec<Statement>)> = Vec::new();
            for name in names {
                let arrivals = self.reader.arrivals_of(&name, self.run)?;
                let Some(first) = arrivals.iter().map(|(_, said)| said.collected()).min() else { continue };
                // What is retired is nobody's other spelling.
                let said = self.documents(&name)?.into_iter().map(|said| Statement {
                    source: Some(said.source),
                    value: Json::from(name.as_str()),
                    collected: Some(said.collected),
                });
                met.push((first, said.collect()));
            }
            met.retain(|(_, statements)| !statements.is_empty());
            met.sort_by_key(|(first, _)| *first);
            let since = met.get(1).map(|(first, _)| *first);
            let statements: Vec<Statement> = met.into_iter().flat_map(|(_, statements)| statements).collect();
            if let (Some(since), Some(first)) = (since, statements.first()) {
                let device = first.value.as_str().unwrap_or_default().to_owned();
                all.push(Disagreement {
                    kind: DisagreementKind::Spelling,
                    device,
                    fact: None,
                    statements,
                    since: Some(since),
                });
            }
        }
        Ok(all)
    }

    /// Returns the holders of a device whom no list of people has.
    fn unknown_holders(
        &self,
        judge: &Judge<'_>,
        device: &str,
        documents: &[Document],
        known: &KnownHolders<'_>,
    ) -> Result<Vec<Disagreement>, EngineError> {
        let KnownHolders { fact, people } = known;
        let arena = Bump::new();
        let mut layout = Layout::new(&self.project.dictionary);
        let slot = layout.want(fact, &self.project.dictionary);
        let facts = judge.facts(device, documents, &layout, &arena)?;
        let found = facts.slot(slot);
        let (source, collected) = match found.origin {
            Some(Origin::Observed { source, collected }) => (Some(source), collected),
            _ => (None, None),
        };
        let mut all = Vec::new();
        for holder in holder_ids(&found.value).filter(|id| !people.contains(id.as_ref())) {
            let names = |value: &Value<'_>| holder_ids(value).any(|id| id == holder);
            let since = match source {
                Some(source) => self.said_since(device, source, (&layout, slot), names)?,
                None => None,
            };
            let value = Json::from(holder.as_ref());
            let statements = vec![Statement { source: source.map(str::to_owned), value, collected }];
            all.push(Disagreement {
                kind: DisagreementKind::Holder,
                device: device.to_owned(),
                fact: Some((*fact).to_owned()),
                statements,
                since,
            });
        }
        Ok(all)
    }

    /// Returns since when a source says something of a device without a break.
    fn said_since(
        &self,
        device: &str,
        source: &str,
        (layout, slot): (&Layout, SlotId),
        is_said: impl Fn(&Value<'_>) -> bool,
    ) -> Result<Option<Timestamp>, EngineError> {
        let mut since = None;
        self.each_document(device, layout, |document, said| {
            if document.source == source {
                let holds = is_said(&said[slot.0 as usize]);
                since = if holds { since.or(Some(document.collected)) } else { None };
            }
        })?;
        Ok(since)
    }

    /// Goes through the documents about a device, those of earlier times too, in the order of their collection.
    fn each_document(
        &self,
        device: &str,
        layout: &Layout,
        mut each: impl FnMut(&Document, &[Value<'_>]),
    ) -> Result<(), EngineError> {
        let mut history = self.reader.history_of(device, self.run)?;
        history.sort_by_key(|said| said.collected);
        for said in history {
            let (document, arena) = (Document::of(device, said), Bump::new());
            if let Ok(read) = JsonDocuments::default().read(&document.json, layout, &arena) {
                each(&document, read.slots);
            }
        }
        Ok(())
    }

    /// Returns the facts of a device of which fresh statements differ, among those that are written differently.
    fn differing_facts(&self, judge: &Judge<'_>, of: &Candidate) -> Result<Vec<Disagreement>, EngineError> {
        let arena = Bump::new();
        let dictionary = &self.project.dictionary;
        let mut layout = Layout::new(dictionary);
        let slots: Vec<(String, SlotId)> =
            of.paths.iter().map(|path| (path.clone(), layout.want(path, dictionary))).collect();
        let facts = judge.facts(&of.device, &of.documents, &layout, &arena)?;
        let is_ordered = |path: &str| dictionary.facts.get(path).is_some_and(|declared| declared.ordered);
        let mut differing = Vec::new();
        for (path, slot) in &slots {
            let said: Vec<_> = facts.fresh_statements(*slot).collect();
            let classes: BTreeSet<String> =
                said.iter().map(|(_, told)| value_class(&told.value, is_ordered(path))).collect();
            if classes.len() < 2 {
                continue;
            }
            let winner = match facts.slot(*slot).origin {
                Some(Origin::Observed { source, .. }) => Some(source),
                _ => None,
            };
            let mut statements: Vec<Statement> = said
                .iter()
                .map(|(observation, told)| Statement {
                    source: Some(observation.source.to_owned()),
                    value: shown(&json_of_value(&told.raw)),
                    collected: observation.collected,
                })
                .collect();
            statements.sort_by_key(|said| said.source.as_deref() != winner);
            differing.push(DifferingFact { path, slot: *slot, is_ordered: is_ordered(path), statements });
        }
        if differing.is_empty() {
            return Ok(Vec::new());
        }
        let since = self.differing_since(&of.device, &layout, &differing)?;
        let told = differing.into_iter().zip(since).map(|(differing, since)| Disagreement {
            kind: DisagreementKind::Feeds,
            device: of.device.clone(),
            fact: Some(differing.path.to_owned()),
            statements: differing.statements,
            since,
        });
        Ok(told.collect())
    }

    /// Returns of each fact since when the sources have said different things without a break: the later of the two statements that
    /// first differed.
    fn differing_since(
        &self,
        device: &str,
        layout: &Layout,
        wanted: &[DifferingFact<'_>],
    ) -> Result<Vec<Option<Timestamp>>, EngineError> {
        let mut said_now: Vec<HashMap<String, String>> = vec![HashMap::new(); wanted.len()];
        let mut since = vec![None; wanted.len()];
        self.each_document(device, layout, |document, said| {
            for (at, fact) in wanted.iter().enumerate() {
                let raw = said[fact.slot.0 as usize];
                if raw.is_missing() {
                    said_now[at].remove(&document.source);
                } else {
                    let declared = layout.declared_of(fact.slot);
                    let value = declared.map_or(raw, |read_as| read_as.read(raw, layout.slot_path(fact.slot)));
                    said_now[at].insert(document.source.clone(), value_class(&value, fact.is_ordered));
                }
                let mut classes = said_now[at].values();
                let first = classes.next();
                let differs = classes.any(|class| Some(class) != first);
                since[at] = if differs { since[at].or(Some(document.collected)) } else { None };
            }
        })?;
        Ok(since)
    }
}

/// Returns the paths at which documents are written differently, where more than one says something; of a list its own path.
fn differing_paths(documents: &[Document], dictionary: &Dictionary) -> BTreeSet<String> {
    let base = |path: &str| path.split('[').next().unwrap_or(path).to_owned();
    let told: Vec<BTreeMap<String, Vec<(String, Json)>>> = documents
        .iter()
        .map(|document| {
            let mut by_base: BTreeMap<String, Vec<(String, Json)>> = BTreeMap::new();
            for (path, value) in flat_facts(&document.json, dictionary) {
                by_base.entry(base(&path)).or_default().push((path, value));
            }
            by_base
        })
        .collect();
    let mut paths = BTreeSet::new();
    for (at, one) in told.iter().enumerate() {
        for (path, values) in one {
            if told[at + 1..].iter().any(|other| other.get(path).is_some_and(|others| others != values)) {
                paths.insert(path.clone());
            }
        }
    }
    paths
}

/// Returns a value as it may be shown: of a secret no more than that there is one.
fn shown(value: &Json) -> Json {
    match value {
        Json::String(text) => Json::from(mask_secrets(text)),
        other => other.clone(),
    }
}
