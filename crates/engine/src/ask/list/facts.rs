//! What the fleet reports, fact by fact: how many devices, of which type, and which values.

use std::collections::{BTreeMap, HashMap};

use bumpalo::Bump;
use fencepost_core::{Layout, Reason, SlotId, Unknown, Value};
use serde_json::{Value as Json, json};

use super::rows::{RowSink, row};
use super::{Column, percent};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// More different values than this of one fact are not told apart.
const MOST_VALUES: usize = 10_000;

/// What devices say of one fact.
#[derive(Clone, Debug, Default)]
pub(crate) struct Survey {
    /// It is a field of a list's items.
    pub in_list: bool,
    /// The types that JSON gives it, each with how many devices.
    pub kinds: BTreeMap<&'static str, u64>,
    /// How many devices report it.
    pub devices: u64,
    /// How many values there are; a list's items each have one.
    pub values: u64,
    /// How many of them are not of the declared type.
    pub wrong: u64,
    /// The first of these, as shown.
    pub wrong_example: Option<String>,
    /// The values as shown, each with how often.
    pub seen: HashMap<String, u64>,
    /// There are more different ones.
    pub more: bool,
}

impl Survey {
    fn add(&mut self, value: &Value<'_>, raw: &Value<'_>) {
        self.devices += 1;
        match (value, raw) {
            (Value::List(values), Value::List(raws)) if self.in_list => {
                for (value, raw) in values.items.iter().zip(raws.items).filter(|(_, raw)| !raw.is_missing()) {
                    self.add_one(value, raw);
                }
            }
            (value, raw) => self.add_one(value, raw),
        }
    }

    fn add_one(&mut self, value: &Value<'_>, raw: &Value<'_>) {
        self.values += 1;
        let shown = raw.show();
        if matches!(value, Value::Unknown(Unknown { reason: Reason::WrongType, .. })) {
            self.wrong += 1;
            self.wrong_example.get_or_insert_with(|| shown.clone());
        }
        if self.seen.len() < MOST_VALUES || self.seen.contains_key(&shown) {
            *self.seen.entry(shown).or_default() += 1;
        } else {
            self.more = true;
        }
    }

    /// Returns the commonest value with how often it is there; of several the first by name.
    pub fn commonest(&self) -> Option<(&str, u64)> {
        self.seen
            .iter()
            .max_by(|a, b| a.1.cmp(b.1).then_with(|| b.0.cmp(a.0)))
            .map(|(value, count)| (value.as_str(), *count))
    }
}

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["fact", "declared", "seen_as", "share", "distinct", "commonest", "of_values", "wrong", "unit", "about"],
        &["devices", "kept"],
    )
}

impl Reading<'_> {
    /// Returns what devices say of every fact that some device reports, by path, and how many devices there are.
    pub(crate) fn survey(&self) -> Result<(BTreeMap<String, Survey>, u64), EngineError> {
        let judge = self.judge();
        let dictionary = &self.project.dictionary;
        let mut layout = Layout::new(dictionary);
        let mut surveys: Vec<(String, SlotId, Survey)> = self
            .paths()?
            .into_iter()
            .filter(|(path, _)| !matches!(path.as_str(), "device" | "collected_at"))
            .map(|(path, seen)| {
                let slot = layout.want(&path, dictionary);
                (path, slot, Survey { in_list: seen.in_list, kinds: seen.kinds, ..Survey::default() })
            })
            .collect();
        let mut arena = Bump::new();
        let mut total = 0;
        self.for_each_device(|device, documents| {
            arena.reset();
            total += 1;
            let facts = judge.facts(device, documents, &layout, &arena)?;
            for (_, slot, survey) in &mut surveys {
                let found = facts.slot(*slot);
                if found.origin.is_some() {
                    survey.add(&found.value, &found.raw);
                }
            }
            Ok(())
        })?;
        Ok((surveys.into_iter().map(|(path, _, survey)| (path, survey)).collect(), total))
    }

    pub(super) fn list_facts(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let (mut surveys, total) = self.survey()?;
        for path in self.project.dictionary.facts.keys() {
            surveys.entry(path.clone()).or_default();
        }
        let rows = surveys.into_iter().map(|(path, survey)| {
            let declared = self.project.dictionary.facts.get(&path);
            let mut kinds: Vec<(&str, u64)> = survey.kinds.iter().map(|(kind, count)| (*kind, *count)).collect();
            kinds.sort_by_key(|(kind, count)| (std::cmp::Reverse(*count), *kind));
            let kinds: Vec<&str> = kinds.into_iter().map(|(kind, _)| kind).collect();
            let common = survey.commonest();
            let distinct = survey.seen.len();
            let ways: Vec<&str> = [
                (declared.is_some_and(|declared| declared.volatile), "apart"),
                (declared.is_some_and(|declared| declared.secret), "as a digest"),
                (declared.is_some_and(|declared| declared.company_only), "of company devices"),
            ]
            .into_iter()
            .filter_map(|(is, way)| is.then_some(way))
            .collect();
            row([
                ("fact", json!(path)),
                ("declared", json!(declared.and_then(|declared| declared.ty).map(|ty| ty.as_str()))),
                ("seen_as", if kinds.is_empty() { Json::Null } else { json!(kinds.join(", ")) }),
                ("devices", json!(survey.devices)),
                ("share", json!(percent(survey.devices, total))),
                ("distinct", if survey.more { json!(format!("{distinct}+")) } else { json!(distinct) }),
                ("commonest", json!(common.map(|(value, _)| value))),
                ("of_values", json!(common.map(|(_, count)| percent(count, survey.values)))),
                ("wrong", json!(survey.wrong)),
                ("unit", json!(declared.and_then(|declared| declared.unit.clone()))),
                ("kept", if ways.is_empty() { Json::Null } else { json!(ways.join(", ")) }),
                ("about", json!(declared.and_then(|declared| declared.about.clone()))),
            ])
        });
        sink.push_all(rows)
    }
}
