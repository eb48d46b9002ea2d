//! What would settle the disagreements of feeds.

use std::collections::{BTreeMap, HashMap, HashSet};

use fencepost_core::is_version;
use serde_json::Value as Json;

use super::{Disagreement, DisagreementKind, Statement};
use crate::error::EngineError;
use crate::import::spelling;
use crate::ledger_view::reading::Reading;

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

impl Reading<'_> {
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
