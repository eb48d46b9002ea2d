//! What is odd in records that were taken: values of another type than facts.toml declares, holders that no list of people has, ids
//! that differ from known ones in their spelling alone, and people whom another list calls by another name. Each is counted, with a few examples.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use fencepost_core::{FactType, Layout, Reason, SlotId, Unknown, Value};
use fencepost_formats::{Contradiction, RecordDoubts, UnknownWord};

use crate::facts::judge::holder_ids;
use crate::workspace::project::Project;

/// How many different holders and spellings are remembered.
const MOST: usize = 1_000;
/// How many people with different names are kept.
const SHOWN_NAMES: usize = 100;

/// Values of a fact that are not of its declared type.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WrongType {
    /// The type that is declared.
    pub declared: &'static str,
    /// How many there are.
    pub count: u64,
    /// One of them, as it came.
    pub example: String,
}

/// A fact of which the rows of a device say different things.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contradicted {
    /// Of how many devices.
    pub devices: u64,
    /// What two rows of one say.
    pub example: String,
}

/// A person whom two lists call by different names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherName {
    /// The line of the record.
    pub line: u64,
    /// The id.
    pub person: String,
    /// The name here.
    pub name: String,
    /// The source of the other list.
    pub source: String,
    /// The name there.
    pub other: String,
}

/// What is odd in the records of a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Doubts {
    /// By the fact's path.
    pub wrong_types: BTreeMap<String, WrongType>,
    /// Words that the tables of their fields do not have, with how many records.
    pub unknown_words: BTreeMap<UnknownWord, u64>,
    /// Facts of which the rows of a device say different things, by path.
    pub contradictions: BTreeMap<String, Contradicted>,
    /// Ids of holders that no list of people has, where there is a list.
    pub unknown_holders: BTreeSet<String>,
    /// Retired devices that the file names, and that stay so: its source is trusted less than one that spoke of them.
    pub retired: BTreeSet<String>,
    /// New ids with one that differs in case, space or domain alone.
    pub other_spellings: Vec<(String, String)>,
    /// The first people whom another list calls by another name.
    pub other_names: Vec<OtherName>,
    /// How many there are.
    pub other_name_count: u64,
}

impl Doubts {
    /// Adds what is odd in a record. `people` are the ids of all lists; none where there is no list.
    pub(super) fn add(&mut self, oddities: Oddities, people: Option<&HashSet<String>>) {
        self.add_words(oddities.mapping.unknown_words);
        // What rows contradict is told as that.
        let contradicted: Vec<&str> = oddities.mapping.contradictions.iter().map(|one| one.fact.as_str()).collect();
        let mut wrong_values = oddities.wrong_values;
        wrong_values.retain(|wrong| !contradicted.contains(&wrong.path.as_str()));
        for Contradiction { fact, values: [one, other] } in oddities.mapping.contradictions {
            let example = format!("{one} and {other}");
            let found = self.contradictions.entry(fact).or_insert_with(|| Contradicted { devices: 0, example });
            found.devices += 1;
        }
        for WrongValue { path, declared, example } in wrong_values {
            let found = self.wrong_types.entry(path).or_insert_with(|| WrongType { declared, count: 0, example });
            found.count += 1;
        }
        let unknown = oddities.holders.into_iter().filter(|holder| people.is_some_and(|all| !all.contains(holder)));
        for holder in unknown {
            if self.unknown_holders.len() < MOST {
                self.unknown_holders.insert(holder);
            }
        }
    }

    /// Adds a retired device that stays so.
    pub(super) fn add_retired(&mut self, device: &str) {
        if self.retired.len() < MOST {
            self.retired.insert(device.to_owned());
        }
    }

    /// Adds words that the tables of their fields do not have.
    pub(super) fn add_words(&mut self, words: Vec<UnknownWord>) {
        for word in words {
            if self.unknown_words.len() < MOST || self.unknown_words.contains_key(&word) {
                *self.unknown_words.entry(word).or_default() += 1;
            }
        }
    }

    /// Adds a person whom another list calls by another name.
    pub(super) fn add_other_name(&mut self, found: OtherName) {
        self.other_name_count += 1;
        if self.other_names.len() < SHOWN_NAMES {
            self.other_names.push(found);
        }
    }

    /// Compares new ids with all that are known by then.
    pub(super) fn compare_spellings(&mut self, new: &[String], known: &[String]) {
        let mut by_spelling: HashMap<String, Vec<&str>> = HashMap::new();
        for id in known {
            by_spelling.entry(spelling(id)).or_default().push(id);
        }
        for id in new.iter().take(MOST) {
            let others = by_spelling.get(&spelling(id)).into_iter().flatten();
            if let Some(other) = others.into_iter().find(|other| **other != id.as_str()) {
                self.other_spellings.push((id.clone(), (*other).to_owned()));
            }
        }
    }
}

/// What two spellings of one id have in common: the letters without case and spaces, up to a domain. An id that begins with a number alone, such
/// as an address, has no domain.
pub(crate) fn spelling(id: &str) -> String {
    let host = id.split('.').next().unwrap_or(id);
    let host = if host.chars().all(|symbol| symbol.is_ascii_digit()) { id } else { host };
    host.chars().filter(|symbol| !symbol.is_whitespace()).flat_map(char::to_lowercase).collect()
}

/// A value that is not of its declared type.
pub(super) struct WrongValue {
    path: String,
    declared: &'static str,
    example: String,
}

/// What is odd in one record, before it is known who there is.
#[derive(Default)]
pub(super) struct Oddities {
    pub wrong_values: Vec<WrongValue>,
    /// What was odd when it was mapped.
    pub mapping: RecordDoubts,
    /// Whom it names as holders.
    pub holders: Vec<String>,
}

/// Which facts of a record are looked at.
pub(super) struct LookedAt {
    /// What is declared and holds no other values, by the layout of the conditions on records.
    declared: Vec<SlotId>,
    /// Those among them that are kept of the company's own devices alone.
    company_only: Vec<SlotId>,
    /// Lists and objects that are declared, as far as rules read them, by the layout of the rules.
    lists: Vec<SlotId>,
    /// The fact that names holders.
    holder: Option<SlotId>,
}

/// The values of a record.
pub(super) struct Slots<'s> {
    /// By the layout of the conditions on records.
    pub as_it_came: &'s [Value<'s>],
    /// By the layout of the rules.
    pub kept: &'s [Value<'s>],
    /// Facts were left out, since the device is not the company's.
    pub left_out: bool,
}

impl LookedAt {
    /// Finds the facts in the layouts of a workspace.
    pub(super) fn of(project: &Project) -> Self {
        let (came, rules) = (&project.gates.layout, project.rules.layout());
        let is_list = |slot: &SlotId| {
            rules.declared_of(*slot).is_some_and(|read_as| matches!(read_as.ty, FactType::List | FactType::Object))
        };
        let is_private =
            |slot: &SlotId| project.dictionary.facts.get(came.slot_path(*slot)).is_some_and(|fact| fact.company_only);
        let holder = project.config.holder.as_ref();
        Self {
            declared: came.slots().filter(|slot| came.declared_of(*slot).is_some()).collect(),
            company_only: came.slots().filter(is_private).collect(),
            lists: rules.slots().filter(is_list).collect(),
            holder: holder.and_then(|path| came.slots().find(|slot| came.slot_path(*slot) == path)),
        }
    }

    /// Finds what is odd in the facts of a record.
    pub(super) fn oddities(&self, slots: &Slots<'_>, project: &Project) -> Oddities {
        let mut found = Oddities::default();
        let is_left_out = |slot: &SlotId| slots.left_out && self.company_only.contains(slot);
        for slot in self.declared.iter().filter(|slot| !is_left_out(slot)) {
            found.look_at(slots.as_it_came[slot.0 as usize], *slot, &project.gates.layout);
        }
        for slot in &self.lists {
            found.look_at(slots.kept[slot.0 as usize], *slot, project.rules.layout());
        }
        if let Some(slot) = self.holder {
            found.holders.extend(holder_ids(&slots.as_it_came[slot.0 as usize]).map(Cow::into_owned));
        }
        found
    }
}

impl Oddities {
    /// Notes a value that is not of its declared type.
    fn look_at(&mut self, value: Value<'_>, slot: SlotId, layout: &Layout) {
        let path = layout.slot_path(slot);
        let Some(read_as) = layout.declared_of(slot).filter(|_| !value.is_missing()) else { return };
        if let Value::Unknown(Unknown { reason: Reason::WrongType, .. }) = read_as.read(value, path) {
            let (path, declared, example) = (path.to_owned(), read_as.ty.as_str(), value.show_cut());
            self.wrong_values.push(WrongValue { path, declared, example });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_one_id_are_told_and_different_ids_are_not() {
        let mut doubts = Doubts::default();
        let texts = |all: &[&str]| all.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
        let known = texts(&["tern-1", "TERN-1.ferry.example", "gull 2", "skua"]);
        doubts.compare_spellings(&texts(&["TERN-1.ferry.example", "skua"]), &known);
        assert_eq!(doubts.other_spellings, [("TERN-1.ferry.example".to_owned(), "tern-1".to_owned())]);
    }
}
