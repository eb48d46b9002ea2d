//! Where feeds do not agree: ids in several spellings, holders that no list of people has, and facts of which fresh statements differ; and what
//! would settle it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use bumpalo::Bump;
use fencepost_core::drift::value_class;
use fencepost_core::{DocumentReader, Layout, SlotId, Value, is_version};
use fencepost_formats::{JsonDocuments, json_of_value, mask_secrets};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{Judge, holder_ids};
use crate::import::changes::flat_facts;
use crate::import::spelling;
use crate::ledger_view::reading::Reading;

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

/// What would settle disagreements.
#[derive(Clone, Debug, PartialEq)]
pub enum DisagreementFix {
    /// The ids of a source are put into one form.
    UniformIds {
        /// The source.
        source: String,
        /// The field that the ids stand in.
        field: String,
        /// They differ in case.
        case: bool,
        /// They differ in a domain.
        domain: bool,
        /// How many devices have another id there.
        devices: u64,
    },
    /// The words of a field are those of another source in other letters.
    SameLetters {
        /// The source.
        source: String,
        /// The field, as the export calls it.
        field: String,
        /// The fact.
        fact: String,
        /// Of how many devices.
        devices: u64,
    },
    /// The words of a field have others for them in another source.
    SameWords {
        /// The source.
        source: String,
        /// The field, as the export calls it.
        field: String,
        /// The fact.
        fact: String,
        /// Each word with the other source's.
        words: Vec<(String, String)>,
        /// Of how many devices.
        devices: u64,
    },
    /// Somebody has to say which is right, device by device.
    Correction {
        /// The device.
        device: String,
        /// The fact.
        fact: String,
        /// What counts now.
        value: Json,
        /// What else is said.
        others: Vec<Statement>,
    },
    /// A holder is to be found in a list of people, or corrected.
    Holder {
        /// The device.
        device: String,
        /// The fact that names holders.
        fact: String,
        /// Who is named.
        holder: String,
        /// A person whose id differs in case, spaces or domain alone.
        near: Option<String>,
    },
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
            Some(fencepost_core::Origin::Observed { source, collected }) => (Some(source), collected),
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
        let mut history = self.reader.history_of(device, self.run)?;
        history.retain(|said| said.source == source);
        history.sort_by_key(|said| said.collected);
        for said in history {
            let (document, arena) = (Document::of(device, said), Bump::new());
            let read = JsonDocuments::default().read(&document.json, layout, &arena);
            let holds = read.is_ok_and(|read| is_said(&read.slots[slot.0 as usize]));
            since = if holds { since.or(Some(document.collected)) } else { None };
        }
        Ok(since)
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
                Some(fencepost_core::Origin::Observed { source, .. }) => Some(source),
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
            differing.push((path.clone(), *slot, statements));
        }
        if differing.is_empty() {
            return Ok(Vec::new());
        }
        let wanted: Vec<(SlotId, bool)> = differing.iter().map(|(path, slot, _)| (*slot, is_ordered(path))).collect();
        let since = self.differing_since(&of.device, &layout, &wanted)?;
        let told = differing.into_iter().zip(since).map(|((path, _, statements), since)| Disagreement {
            kind: DisagreementKind::Feeds,
            device: of.device.clone(),
            fact: Some(path),
            statements,
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
        wanted: &[(SlotId, bool)],
    ) -> Result<Vec<Option<Timestamp>>, EngineError> {
        let mut history = self.reader.history_of(device, self.run)?;
        history.sort_by_key(|said| said.collected);
        let mut said_now: Vec<HashMap<String, String>> = vec![HashMap::new(); wanted.len()];
        let mut since = vec![None; wanted.len()];
        for said in history {
            let (document, arena) = (Document::of(device, said), Bump::new());
            let Ok(read) = JsonDocuments::default().read(&document.json, layout, &arena) else { continue };
            for (at, (slot, ordered)) in wanted.iter().enumerate() {
                let raw = read.slots[slot.0 as usize];
                if raw.is_missing() {
                    said_now[at].remove(&document.source);
                } else {
                    let value =
                        layout.declared_of(*slot).map_or(raw, |read_as| read_as.read(raw, layout.slot_path(*slot)));
                    said_now[at].insert(document.source.clone(), value_class(&value, *ordered));
                }
                let mut classes = said_now[at].values();
                let first = classes.next();
                let differs = classes.any(|class| Some(class) != first);
                since[at] = if differs { since[at].or(Some(document.collected)) } else { None };
            }
        }
        Ok(since)
    }

    /// Returns what would settle disagreements: forms and words for sources whose statements differ in writing alone, and else a
    /// correction for each.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn fixes_of(&self, disagreements: &[Disagreement]) -> Result<Vec<DisagreementFix>, EngineError> {
        let mut fixes = self.uniform_ids(disagreements);
        let people = self.reader.people(self.run)?;
        let by_spelling: HashMap<String, &str> =
            people.iter().map(|person| (spelling(&person.id), person.id.as_str())).collect();
        for one in disagreements.iter().filter(|one| one.kind == DisagreementKind::Holder) {
            let holder = one.statements.first().and_then(|said| said.value.as_str()).unwrap_or_default().to_owned();
            let near = by_spelling.get(&spelling(&holder)).map(|id| (*id).to_owned());
            let fact = one.fact.clone().unwrap_or_default();
            fixes.push(DisagreementFix::Holder { device: one.device.clone(), fact, holder, near });
        }
        let mut by_pair: BTreeMap<SourcePair<'_>, Vec<&Disagreement>> = BTreeMap::new();
        let dictionary = &self.project.dictionary;
        // Of secrets nobody can say which is right.
        let is_secret = |one: &&Disagreement| one.fact.as_ref().is_some_and(|fact| dictionary.names_a_secret(fact));
        let of_feeds = disagreements.iter().filter(|one| one.kind == DisagreementKind::Feeds);
        for one in of_feeds.filter(|one| !is_secret(one)) {
            let source = |at: usize| one.statements.get(at).and_then(|said| said.source.as_deref());
            if let (Some(winner), Some(loser), Some(fact)) = (source(0), source(1), one.fact.as_deref()) {
                by_pair.entry(SourcePair { fact, loser, winner }).or_default().push(one);
            }
        }
        for (pair, all) in by_pair {
            match pair.fix_of_all(&all, |source| self.field_of(source, pair.fact)) {
                Some(fix) => fixes.push(fix),
                None => fixes.extend(all.into_iter().map(correction_of)),
            }
        }
        Ok(fixes)
    }
}

impl Reading<'_> {
    /// Returns the field of a source that is a fact.
    fn field_of(&self, source: &str, fact: &str) -> String {
        let known = self.project.sources.get(source);
        let field = known.and_then(|known| known.fields.iter().find(|(_, field)| field.fact == fact));
        field.map_or_else(|| fact.to_owned(), |(name, _)| name.clone())
    }

    /// Returns for each source whose ids are other spellings of earlier ones how they would be the same.
    fn uniform_ids(&self, disagreements: &[Disagreement]) -> Vec<DisagreementFix> {
        let mut by_source: BTreeMap<&str, OddIds> = BTreeMap::new();
        for one in disagreements.iter().filter(|one| one.kind == DisagreementKind::Spelling) {
            for said in &one.statements {
                let (Some(source), Some(id)) = (&said.source, said.value.as_str()) else { continue };
                let (case, domain) = (id != id.to_lowercase(), id.contains('.'));
                if case || domain {
                    let odd = by_source.entry(source).or_default();
                    odd.case |= case;
                    odd.domain |= domain;
                    odd.devices += 1;
                }
            }
        }
        let fix = |(source, OddIds { case, domain, devices }): (&str, OddIds)| DisagreementFix::UniformIds {
            source: source.to_owned(),
            field: self.project.sources.get(source).map_or_else(|| "device".to_owned(), |known| known.id_field.clone()),
            case,
            domain,
            devices,
        };
        by_source.into_iter().map(fix).collect()
    }
}

/// How the ids of a source are odd.
#[derive(Default)]
struct OddIds {
    case: bool,
    domain: bool,
    devices: u64,
}

/// A fact with a source that counts and one that does not.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct SourcePair<'p> {
    fact: &'p str,
    loser: &'p str,
    winner: &'p str,
}

impl SourcePair<'_> {
    /// Returns what settles all disagreements of two sources about a fact together, where they differ in writing alone.
    fn fix_of_all(&self, all: &[&Disagreement], field: impl Fn(&str) -> String) -> Option<DisagreementFix> {
        let text = |one: &Disagreement, at: usize| Some(one.statements.get(at)?.value.as_str()?.to_owned());
        let mut pairs: Vec<(String, String)> = Vec::new();
        for one in all {
            // Of three sources no two alone can be brought together.
            if one.statements.len() != 2 {
                return None;
            }
            pairs.push((text(one, 1)?, text(one, 0)?));
        }
        let devices = all.len() as u64;
        let fact = self.fact.to_owned();
        if pairs.iter().all(|(loser, winner)| loser.to_lowercase() == winner.to_lowercase()) {
            let is_lower = |text: &String| *text == text.to_lowercase();
            // Whichever is not in small letters is to be put into them.
            let source = if pairs.iter().all(|(loser, _)| is_lower(loser)) { self.winner } else { self.loser };
            let (source, field) = (source.to_owned(), field(source));
            return Some(DisagreementFix::SameLetters { source, field, fact, devices });
        }
        let winners: HashSet<&String> = pairs.iter().map(|(_, winner)| winner).collect();
        let mut words: BTreeMap<&String, &String> = BTreeMap::new();
        for (loser, winner) in &pairs {
            let is_word = |text: &String| text.chars().any(char::is_alphabetic) && !is_version(text);
            // A word that the other source has too means something there.
            let is_new = is_word(loser) && is_word(winner) && !winners.contains(loser);
            if !is_new || words.insert(loser, winner).is_some_and(|known| known != winner) {
                return None;
            }
        }
        let is_frequent = |word: &String| pairs.iter().filter(|(loser, _)| loser == word).count() > 1;
        words.keys().all(|word| is_frequent(word)).then(|| DisagreementFix::SameWords {
            source: self.loser.to_owned(),
            field: field(self.loser),
            fact,
            words: words.into_iter().map(|(loser, winner)| (loser.clone(), winner.clone())).collect(),
            devices,
        })
    }
}

fn correction_of(one: &Disagreement) -> DisagreementFix {
    let mut statements = one.statements.iter().cloned();
    let value = statements.next().map_or(Json::Null, |said| said.value);
    DisagreementFix::Correction {
        device: one.device.clone(),
        fact: one.fact.clone().unwrap_or_default(),
        value,
        others: statements.collect(),
    }
}

/// Returns the paths at which documents are written differently, where more than one says something; of a list its own path.
fn differing_paths(documents: &[Document], dictionary: &fencepost_core::Dictionary) -> BTreeSet<String> {
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
