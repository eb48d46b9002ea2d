//! The items of a list over the fleet: on how many devices each is, in which versions, since when, and which baselines name it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicBool, Ordering};

use bumpalo::Bump;
use fencepost_core::{DocumentReader as _, Facts, Layout, Presence, SlotId, Value, did_you_mean};
use fencepost_formats::JsonDocuments;
use jiff::Timestamp;
use serde_json::json;

use super::devices::compile_filter;
use super::rows::{RowSink, fraction, row};
use super::{Column, ListQuery};
use crate::error::{EngineError, escaped};
use crate::facts::documents::Document;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&["item", "devices", "share", "versions", "first_seen", "named", "named_by"], &[])
}

/// What an item is called by, where its list declares no key.
const NAME: &str = "name";
/// The field that holds the version of an item.
const VERSION: &str = "version";

/// An item over the fleet.
#[derive(Default)]
struct ItemCount {
    devices: u64,
    /// Each version with how many devices have it.
    versions: BTreeMap<String, u64>,
    first_seen: Option<Timestamp>,
}

/// An item of a list as one device has it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Item {
    name: String,
    version: Option<String>,
    /// It is an object that is called by its key.
    is_keyed: bool,
}

/// Reads the items of a list.
struct ItemReader<'k> {
    slot: SlotId,
    key: &'k str,
}

impl ItemReader<'_> {
    /// Returns each item of a device once for each of its versions; none where the device does not report the list. A single value is
    /// a list of one, as in conditions.
    fn items(&self, value: &Value<'_>) -> Option<BTreeSet<Item>> {
        let item = |value: &Value<'_>| match value {
            Value::Object(object) => {
                let text = |key: &str| {
                    let found = object.fields.iter().find(|(field, _)| *field == key).map(|(_, value)| value);
                    found.filter(|value| !value.is_missing() && !matches!(value, Value::Null)).map(|value| value.show())
                };
                Some(Item { name: text(self.key)?, version: text(VERSION), is_keyed: true })
            }
            Value::Null | Value::Unknown(_) => None,
            scalar => Some(Item { name: scalar.show(), version: None, is_keyed: false }),
        };
        match value {
            Value::List(list) => Some(list.items.iter().filter_map(item).collect()),
            single => Some(BTreeSet::from([item(single)?])),
        }
    }
}

impl Reading<'_> {
    /// Lists the items of a list. Returns the path by which a condition on devices names them; none where no condition can.
    pub(super) fn list_items(&self, sink: &mut RowSink, query: ListQuery<'_>) -> Result<Option<String>, EngineError> {
        let Some(fact) = query.fact else {
            return Err(EngineError::refused(
                "of which list the items are is not said",
                format!("name the fact: fencepost list items FACT; {}", self.lists_in_words()?),
            ));
        };
        let dictionary = &self.project.dictionary;
        let mut layout = self.project.rules.layout().clone();
        let slot = layout.want(fact, dictionary);
        let key = dictionary.facts.get(fact).and_then(|declared| declared.key.as_deref()).unwrap_or(NAME);
        let items = ItemReader { slot, key };
        let judge = self.judge();
        let some_list = AtomicBool::new(false);
        let look = |_: &Job<'_>, facts: &Facts<'_>, _: &Bump| {
            let value = &facts.slot(slot).raw;
            if matches!(value, Value::List(_)) {
                some_list.store(true, Ordering::Relaxed);
            }
            Ok(items.items(value))
        };
        let (mut all, mut reporting): (BTreeMap<String, ItemCount>, u64) = Default::default();
        let mut are_keyed = false;
        let wanted = [slot];
        self.with_facts(&judge, Wanted::whole(&layout, &wanted), look, |found: Option<BTreeSet<Item>>| {
            let Some(found) = found else { return Ok(()) };
            reporting += 1;
            let mut last: Option<String> = None;
            for Item { name, version, is_keyed } in found {
                are_keyed |= is_keyed;
                let count = all.entry(name.clone()).or_default();
                if last.as_ref() != Some(&name) {
                    count.devices += 1;
                }
                if let Some(version) = version {
                    *count.versions.entry(version).or_default() += 1;
                }
                last = Some(name);
            }
            Ok(())
        })?;
        if !some_list.into_inner() {
            return Err(self.no_list(fact)?);
        }
        if sink.asks_for("first_seen") {
            self.add_first_seen(&items, &layout, &mut all)?;
        }
        let named = NamedItems::of(self.project, fact);
        let mut all: Vec<(String, ItemCount)> = all.into_iter().collect();
        // The rarest first: what is everywhere is no news.
        all.sort_by_key(|(_, count)| count.devices);
        for (name, count) in all {
            let (presence, by) = named.of_item(&name);
            if query.unnamed && presence.is_some() {
                continue;
            }
            let mut versions: Vec<(String, u64)> = count.versions.into_iter().collect();
            versions.sort_by_key(|(_, devices)| std::cmp::Reverse(*devices));
            let versions: Vec<String> = versions.into_iter().map(|(version, _)| version).collect();
            sink.push(row([
                ("item", json!(name)),
                ("devices", json!(count.devices)),
                ("share", fraction(count.devices, reporting)),
                ("versions", json!(versions)),
                ("first_seen", json!(count.first_seen.map(|at| at.to_string()))),
                ("named", json!(presence.map_or("none", Presence::as_str))),
                ("named_by", json!(by)),
            ]))?;
        }
        let path = if are_keyed { format!("{fact}.{key}") } else { fact.to_owned() };
        // People are named by groups, and not by a condition on a device.
        let probe = format!("some name in {path} satisfies name = \"\"");
        Ok(compile_filter(&probe, self.project, dictionary, &mut layout).is_ok().then_some(path))
    }

    /// Finds the earliest collection of each item, in all that the ledger keeps.
    fn add_first_seen(
        &self,
        items: &ItemReader<'_>,
        layout: &Layout,
        all: &mut BTreeMap<String, ItemCount>,
    ) -> Result<(), EngineError> {
        let (bodies, mut documents, mut arena) = (self.reader.bodies()?, JsonDocuments::default(), Bump::new());
        let mut unpacker = bodies.unpacker();
        for device in self.reader.device_names()? {
            for (_, packed) in self.reader.arrivals_of(&device, self.run)? {
                let collected = packed.collected();
                arena.reset();
                let said = Document::of(&device, packed.unpack(&mut unpacker)?);
                let read = documents.read(&said.json, layout, &arena);
                let read =
                    read.map_err(|error| crate::ledger_view::damage::damaged(self.project, &device, &error.message))?;
                for item in items.items(&read.slots[items.slot.0 as usize]).into_iter().flatten() {
                    if let Some(count) = all.get_mut(&item.name) {
                        count.first_seen = Some(count.first_seen.map_or(collected, |first| first.min(collected)));
                    }
                }
            }
        }
        Ok(())
    }

    /// Returns the lists that devices report: facts with items, by path.
    fn lists(&self) -> Result<BTreeSet<String>, EngineError> {
        let paths = self.paths()?;
        let of_field = |path: &String| path.rsplit_once('.').map(|(list, _)| list.to_owned());
        let lists = paths.iter().filter_map(|(path, seen)| match seen.in_list {
            true => of_field(path),
            false => seen.kinds.contains_key("list").then(|| path.clone()),
        });
        Ok(lists.collect())
    }

    fn lists_in_words(&self) -> Result<String, EngineError> {
        let lists: Vec<String> = self.lists()?.into_iter().collect();
        Ok(match lists.is_empty() {
            true => "no device reports a list".to_owned(),
            false => format!("lists are {}", lists.join(", ")),
        })
    }

    fn no_list(&self, fact: &str) -> Result<EngineError, EngineError> {
        let lists = self.lists()?;
        let words = self.lists_in_words()?;
        let help = did_you_mean(fact, lists.iter().map(String::as_str), || words);
        Ok(EngineError::refused(format!("no device reports `{}` as a list", escaped(fact)), help))
    }
}

/// Which baselines name the items of a list.
struct NamedItems<'p> {
    entries: Vec<(&'p str, &'p fencepost_core::EntrySource)>,
}

impl<'p> NamedItems<'p> {
    fn of(project: &'p Project, fact: &str) -> Self {
        let is_of = |list: &&fencepost_core::ListSource| {
            list.fact().strip_prefix(fact).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        let entries = project.source.baselines.iter().flat_map(|baseline| {
            let own = baseline.lists.iter().filter(is_of).flat_map(|list| &list.entries);
            own.filter(|entry| entry.dropped.is_none()).map(|entry| (baseline.id.text.as_str(), entry))
        });
        Self { entries: entries.collect() }
    }

    /// Returns what is said of an item, the strictest where baselines differ, and which baselines say something.
    fn of_item(&self, name: &str) -> (Option<Presence>, BTreeSet<&'p str>) {
        let own = || self.entries.iter().filter(|(_, entry)| entry.means(name));
        let says = |presence: Presence| own().any(|(_, entry)| entry.presence == presence);
        let strictest = [Presence::Never, Presence::Must, Presence::May].into_iter().find(|presence| says(*presence));
        (strictest, own().map(|(baseline, _)| *baseline).collect())
    }
}
