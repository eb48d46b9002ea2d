//! The facts of a set of devices as numbers: each place and each value that occurs is kept once, and a device is a list of pairs.
//!
//! Objects become places of their own with their members below them; so do lists whose items have a key, and lists of texts or
//! numbers. Any other list is one value.

use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt::Write as _;

use bumpalo::Bump;
use foldhash::{HashMap, HashMapExt as _};
use rust_decimal::Decimal;

use super::place::{FactScope, Place};
use crate::facts::dictionary::{Declaration, Dictionary};
use crate::facts::merge::Slot;
use crate::facts::value::{DateTime, Datum, List, Object, Value};
use crate::facts::version::version_key;

/// A place, by its number in a [`FactTable`]. What a place lies in has a smaller number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PlaceId(u32);

/// A value, by its number in a [`FactTable`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ValueId(u32);

/// A fact of which devices are asked, by its number in a [`FactTable`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FactId(u32);

impl PlaceId {
    pub(super) fn index(self) -> usize {
        self.0 as usize
    }

    pub(super) fn of_index(index: usize) -> Self {
        Self(u32::try_from(index).unwrap_or(u32::MAX))
    }
}

impl ValueId {
    /// Something with members: an object, or an item of a list.
    const OBJECT: Self = Self(0);
    /// A list whose items have places of their own.
    const LIST: Self = Self(1);
}

/// The facts of a device at a moment: what stands at each place, ascending by place. What is not here is missing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Snapshot {
    cells: Box<[(PlaceId, ValueId)]>,
}

impl Snapshot {
    /// Creates a snapshot of cells that ascend by place.
    pub(super) fn of_cells(cells: Vec<(PlaceId, ValueId)>) -> Self {
        Self { cells: cells.into() }
    }

    /// Returns what stands at a place; none where it is missing.
    pub fn at(&self, place: PlaceId) -> Option<ValueId> {
        let found = self.cells.binary_search_by_key(&place, |(place, _)| *place).ok()?;
        Some(self.cells[found].1)
    }

    /// Returns the places with what stands there, ascending.
    pub fn cells(&self) -> impl Iterator<Item = (PlaceId, ValueId)> {
        self.cells.iter().copied()
    }
}

/// Differences in texts that count for nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct IgnoreInTexts {
    /// Capitals.
    pub case: bool,
    /// Space at either end, and how much of it there is.
    pub space: bool,
}

impl IgnoreInTexts {
    /// Returns the text by which two are compared.
    fn normalized(self, text: &str) -> String {
        let mut text = if self.space { text.split_whitespace().collect::<Vec<_>>().join(" ") } else { text.to_owned() };
        if self.case {
            text = text.to_lowercase();
        }
        text
    }

    fn is_exact(self) -> bool {
        !self.case && !self.space
    }
}

/// What is read into a [`FactTable`].
#[derive(Clone, Debug, Default)]
pub struct TableSettings {
    /// Which facts.
    pub scope: FactScope,
    /// Paths that are read though they are volatile, since somebody named them.
    pub named: HashSet<String>,
    /// Paths that are no facts of their own here: the fact that parts devices into wholes or roles.
    pub never: HashSet<String>,
    /// What counts for nothing in texts.
    pub ignore: IgnoreInTexts,
    /// Facts that are older than promised are read as missing.
    pub fresh_only: bool,
    /// Numbers are read though they are volatile.
    pub volatile_numbers: bool,
}

#[derive(Clone, Debug)]
struct PlaceInfo<'d> {
    place: Place,
    parent: Option<PlaceId>,
    /// What lies in it, by its key.
    members: HashMap<Box<str>, PlaceId>,
    /// The items of a list, by their names.
    items: HashMap<Box<str>, PlaceId>,
    declared: Option<&'d Declaration>,
    /// It is compared.
    compared: bool,
    /// Only where it holds a number.
    numbers_only: bool,
    /// Somebody named it, so that it is compared whatever it holds.
    named: bool,
}

#[derive(Clone, Debug)]
struct ValueInfo {
    datum: Datum,
    /// Values of one class are equal.
    class: u32,
    number: Option<Decimal>,
}

/// How a key leads from one place to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    Member,
    Item,
    Field,
}

/// What is read of a device so far.
struct Cells<'a> {
    arena: &'a Bump,
    all: Vec<(PlaceId, ValueId)>,
}

/// The places and values that occur in a set of devices.
#[derive(Clone, Debug)]
pub struct FactTable<'d> {
    dictionary: &'d Dictionary,
    settings: TableSettings,
    places: Vec<PlaceInfo<'d>>,
    /// The outermost places, by their keys.
    tops: HashMap<Box<str>, PlaceId>,
    values: Vec<ValueInfo>,
    /// Texts, versions and numbers, which are most of them.
    texts: HashMap<Box<str>, ValueId>,
    versions: HashMap<Box<str>, ValueId>,
    numbers: HashMap<Decimal, ValueId>,
    /// All others, as they are written.
    others: HashMap<Box<str>, ValueId>,
    classes: HashMap<Box<str>, u32>,
    /// The places that lead to each fact, the outermost first.
    facts: Vec<Box<[PlaceId]>>,
    /// For writing keys into.
    buffer: String,
}

impl<'d> FactTable<'d> {
    /// Creates an empty table.
    pub fn new(dictionary: &'d Dictionary, settings: TableSettings) -> Self {
        let container = |datum: Datum, class: u32| ValueInfo { datum, class, number: None };
        Self {
            dictionary,
            settings,
            places: Vec::new(),
            tops: HashMap::new(),
            values: vec![container(Datum::Object(Vec::new()), 0), container(Datum::List(Vec::new()), 1)],
            texts: HashMap::new(),
            versions: HashMap::new(),
            numbers: HashMap::new(),
            others: HashMap::new(),
            classes: HashMap::new(),
            facts: Vec::new(),
            buffer: String::new(),
        }
    }

    /// Returns the number of a fact that devices are asked for.
    pub fn fact(&mut self, path: &str) -> FactId {
        let mut chain: Vec<PlaceId> = Vec::new();
        let ends = path.match_indices('.').map(|(at, _)| at).chain([path.len()]).collect::<Vec<_>>();
        let mut start = 0;
        for end in ends {
            let parent = chain.last().copied();
            chain.push(self.step(parent, Step::Member, &path[start..end]));
            start = end + 1;
        }
        self.facts.push(chain.into());
        FactId(u32::try_from(self.facts.len() - 1).unwrap_or(u32::MAX))
    }

    /// Returns the place.
    pub fn place(&self, id: PlaceId) -> &Place {
        &self.places[id.index()].place
    }

    /// Returns all places.
    pub fn places(&self) -> impl Iterator<Item = (PlaceId, &Place)> {
        self.places.iter().enumerate().map(|(at, info)| (PlaceId::of_index(at), &info.place))
    }

    /// Returns whether what stands at a place is kept of the present alone.
    pub(super) fn has_no_past(&self, id: PlaceId) -> bool {
        self.is_volatile(&self.place(id).dictionary_path())
    }

    pub(super) fn place_count(&self) -> usize {
        self.places.len()
    }

    pub(super) fn parent(&self, id: PlaceId) -> Option<PlaceId> {
        self.places[id.index()].parent
    }

    /// Returns whether somebody named the place, so that it is compared whatever it holds.
    pub(super) fn is_named(&self, id: PlaceId) -> bool {
        self.places[id.index()].named
    }

    /// Returns the class of a value: values of one class are equal.
    pub fn class(&self, id: ValueId) -> u32 {
        self.values[id.0 as usize].class
    }

    /// Returns a value as it was written, by which values are put in order.
    pub(super) fn written(&self, id: ValueId) -> String {
        let arena = Bump::new();
        self.values[id.0 as usize].datum.to_value(&arena).written()
    }

    /// Returns a value as a number, if it is one.
    pub fn number(&self, id: ValueId) -> Option<Decimal> {
        self.values[id.0 as usize].number
    }

    /// Returns whether a value was collected and is empty.
    pub fn is_null(&self, id: ValueId) -> bool {
        self.values[id.0 as usize].datum == Datum::Null
    }

    /// Returns whether a value has members, which have places of their own.
    pub fn is_container(&self, id: ValueId) -> bool {
        matches!(id, ValueId::OBJECT | ValueId::LIST)
    }

    /// Returns a value that has no members, or an empty one that has.
    pub fn value_datum(&self, id: ValueId) -> Datum {
        self.values[id.0 as usize].datum.clone()
    }

    /// Returns the value at a place of a snapshot, with all that lies in it; none where it is missing.
    pub fn datum(&self, snapshot: &Snapshot, place: PlaceId) -> Option<Datum> {
        let value = snapshot.at(place)?;
        if !self.is_container(value) {
            return Some(self.values[value.0 as usize].datum.clone());
        }
        let info = &self.places[place.index()];
        let below = if value == ValueId::LIST { &info.items } else { &info.members };
        let mut inner: Vec<(&Place, Datum)> =
            below.values().filter_map(|below| Some((self.place(*below), self.datum(snapshot, *below)?))).collect();
        inner.sort_by(|a, b| a.0.cmp(b.0));
        Some(match value {
            ValueId::LIST => Datum::List(inner.into_iter().map(|(_, datum)| datum).collect()),
            _ => {
                let own = self.place(place);
                let key = own
                    .item
                    .as_ref()
                    .filter(|_| own.field.is_none())
                    .map(|item| (self.item_key(&own.fact).unwrap_or("name").to_owned(), Datum::Text(item.clone())));
                let name = |place: &Place| {
                    let path = place.field.as_deref().unwrap_or(&place.fact);
                    path.rsplit_once('.').map_or(path, |(_, last)| last).to_owned()
                };
                Datum::Object(
                    key.into_iter().chain(inner.into_iter().map(|(place, datum)| (name(place), datum))).collect(),
                )
            }
        })
    }

    /// Reads a value that somebody wrote for a place, and returns the class that it would have; none where no device holds it.
    pub fn class_of_written(&self, place: PlaceId, written: &Datum) -> Option<u32> {
        let arena = Bump::new();
        let raw = written.to_value(&arena);
        let read = self.read_as_declared(raw, &self.place(place).dictionary_path(), &arena);
        let mut key = String::new();
        write_key(&read, Some(self.settings.ignore), Order::Free, &mut key);
        self.classes.get(key.as_str()).copied()
    }

    fn declared(&self, path: &str) -> Option<&'d Declaration> {
        self.dictionary.facts.get(path)
    }

    fn item_key(&self, fact: &str) -> Option<&'d str> {
        self.declared(fact)?.key.as_deref()
    }

    fn read_as_declared<'a>(&self, raw: Value<'a>, path: &str, arena: &'a Bump) -> Value<'a> {
        let Some(read_as) = self.declared(path).and_then(Declaration::read_as) else { return raw };
        match read_as.read(raw, arena.alloc_str(path)) {
            // As it came: it equals what came in the same way.
            Value::Unknown(_) => raw,
            read => read,
        }
    }

    /// Returns the place that a key leads to, made where it is new.
    fn step(&mut self, parent: Option<PlaceId>, step: Step, key: &str) -> PlaceId {
        let ignore = self.settings.ignore;
        if step == Step::Item && !ignore.is_exact() {
            let known_by = ignore.normalized(key);
            let id =
                self.known(parent, step, &known_by).unwrap_or_else(|| self.new_place(parent, step, key, &known_by));
            // Of several spellings the first in order is shown, whoever came first.
            let place = &mut self.places[id.index()].place;
            if place.item.as_deref().is_some_and(|item| key < item) {
                place.item = Some(key.to_owned());
            }
            return id;
        }
        self.known(parent, step, key).unwrap_or_else(|| self.new_place(parent, step, key, key))
    }

    fn known(&self, parent: Option<PlaceId>, step: Step, key: &str) -> Option<PlaceId> {
        let below = match (parent, step) {
            (None, _) => &self.tops,
            (Some(parent), Step::Item) => &self.places[parent.index()].items,
            (Some(parent), Step::Member | Step::Field) => &self.places[parent.index()].members,
        };
        below.get(key).copied()
    }

    fn new_place(&mut self, parent: Option<PlaceId>, step: Step, key: &str, known_by: &str) -> PlaceId {
        let mut place = parent.map_or_else(|| Place::of_fact(""), |parent| self.place(parent).clone());
        let part = match step {
            Step::Member => &mut place.fact,
            Step::Item => place.item.get_or_insert_default(),
            Step::Field => place.field.get_or_insert_default(),
        };
        if !part.is_empty() {
            part.push('.');
        }
        part.push_str(key);
        let id = PlaceId::of_index(self.places.len());
        let named = self.is_named_exactly(&place);
        let path = place.dictionary_path();
        let numbers_only = !named && self.is_volatile(&path);
        let compared = self.settings.scope.includes(&place)
            && (!numbers_only || self.settings.volatile_numbers)
            && !self.settings.never.contains(&path);
        let declared = self.declared(&path);
        self.places.push(PlaceInfo {
            place,
            parent,
            members: HashMap::new(),
            items: HashMap::new(),
            declared,
            compared,
            numbers_only,
            named,
        });
        let below = match (parent, step) {
            (None, _) => &mut self.tops,
            (Some(parent), Step::Item) => &mut self.places[parent.index()].items,
            (Some(parent), Step::Member | Step::Field) => &mut self.places[parent.index()].members,
        };
        below.insert(known_by.into(), id);
        id
    }

    fn is_named_exactly(&self, place: &Place) -> bool {
        let named = &self.settings.named;
        named.contains(&place.fact)
            || named.contains(&place.dictionary_path())
            || named.contains(&place.to_string())
            || self.settings.scope.names(place)
    }

    /// Returns whether the dictionary says that a path, or what it lies in, differs everywhere or always.
    fn is_volatile(&self, path: &str) -> bool {
        let ends = path.match_indices('.').map(|(at, _)| at).chain([path.len()]);
        ends.into_iter().any(|end| self.declared(&path[..end]).is_some_and(|declared| declared.volatile))
    }

    /// Reads what a device reports: each fact with its slot.
    pub fn snapshot<'a>(&mut self, facts: impl Iterator<Item = (FactId, &'a Slot<'a>)>, arena: &'a Bump) -> Snapshot {
        let mut out = Cells { arena, all: Vec::new() };
        let fresh_only = self.settings.fresh_only;
        for (fact, slot) in facts.filter(|(_, slot)| slot.origin.is_some() && !(fresh_only && slot.stale)) {
            let chain = std::mem::take(&mut self.facts[fact.0 as usize]);
            let value = match slot.value {
                Value::Unknown(_) => slot.raw,
                read => read,
            };
            let before = out.all.len();
            if let Some(last) = chain.last() {
                self.add_fact(*last, value, slot.raw, &mut out);
            }
            // Whoever has something inside an object has the object.
            if out.all.len() > before {
                out.all.extend(chain.iter().rev().skip(1).map(|above| (*above, ValueId::OBJECT)));
            }
            self.facts[fact.0 as usize] = chain;
        }
        // A value that was given as such comes before what was made of members. As numbers they are sorted fastest.
        let key = |(place, value): &(PlaceId, ValueId)| {
            u64::from(place.0) << 33 | u64::from(self.is_container(*value)) << 32 | u64::from(value.0)
        };
        out.all.sort_unstable_by_key(key);
        out.all.dedup_by_key(|(place, _)| *place);
        Snapshot { cells: out.all.into() }
    }

    fn add_fact<'a>(&mut self, place: PlaceId, value: Value<'a>, raw: Value<'a>, out: &mut Cells<'a>) {
        match (value, raw) {
            (_, Value::List(list)) => self.add_list(place, list, out),
            // Its members are facts of their own.
            (Value::Object(object), _) if !object.fields.is_empty() => {}
            (Value::Object(_), _) => self.add(place, Some(ValueId::OBJECT), out),
            (value, _) => self.add_value(place, value, Order::Free, out),
        }
    }

    fn add(&mut self, place: PlaceId, value: Option<ValueId>, out: &mut Cells<'_>) {
        if self.holds_container(place) {
            out.all.extend(value.map(|value| (place, value)));
        }
    }

    /// Returns whether something with members counts at a place, though none of its members does.
    fn holds_container(&self, place: PlaceId) -> bool {
        let PlaceInfo { compared, numbers_only, .. } = self.places[place.index()];
        compared && !numbers_only
    }

    fn add_value(&mut self, place: PlaceId, value: Value<'_>, order: Order, out: &mut Cells<'_>) {
        let PlaceInfo { compared, numbers_only, .. } = self.places[place.index()];
        if compared && (!numbers_only || matches!(value, Value::Number(_))) {
            let value = self.value(&value, order);
            out.all.push((place, value));
        }
    }

    fn add_list<'a>(&mut self, place: PlaceId, list: &'a List<'a>, out: &mut Cells<'a>) {
        let declared = self.places[place.index()].declared;
        if declared.is_some_and(|declared| declared.ordered) {
            return self.add_value(place, Value::List(list), Order::Kept, out);
        }
        let key = declared.and_then(|declared| declared.key.as_deref());
        let is_plain = |item: &Value<'_>| matches!(item, Value::Text(_) | Value::Version(_) | Value::Number(_));
        if key.is_none() && !list.items.iter().all(is_plain) {
            return self.add_value(place, Value::List(list), Order::Free, out);
        }
        let mut by_place: Vec<(PlaceId, Value<'a>)> = Vec::with_capacity(list.items.len());
        for item in list.items {
            let name = item_name(item, key);
            by_place.push((self.step(Some(place), Step::Item, &name), *item));
        }
        by_place.sort_by_key(|(own, _)| *own);
        let before = out.all.len();
        for items in by_place.chunk_by(|a, b| a.0 == b.0) {
            let own = items[0].0;
            match items {
                [(_, Value::Object(object))] => self.add_item(own, object, key, out),
                [(_, one)] => self.add_value(own, *one, Order::Free, out),
                // Items that share their key cannot be told apart: they are compared together.
                _ => {
                    let items = out.arena.alloc_slice_fill_iter(items.iter().map(|(_, item)| *item));
                    self.add_value(own, Value::List(out.arena.alloc(List::certain(items))), Order::Free, out);
                }
            }
        }
        if out.all.len() > before || self.holds_container(place) {
            out.all.push((place, ValueId::LIST));
        }
    }

    fn add_item<'a>(&mut self, place: PlaceId, object: &Object<'a>, key: Option<&str>, out: &mut Cells<'a>) {
        let before = out.all.len();
        for (name, value) in object.fields.iter().filter(|(name, _)| Some(*name) != key) {
            self.add_field(place, name, *value, out);
        }
        if out.all.len() > before || self.holds_container(place) {
            out.all.push((place, ValueId::OBJECT));
        }
    }

    fn add_field<'a>(&mut self, above: PlaceId, name: &str, value: Value<'a>, out: &mut Cells<'a>) {
        let place = self.step(Some(above), Step::Field, name);
        match value {
            Value::Object(object) if !object.fields.is_empty() => self.add_item(place, &object, None, out),
            Value::Object(_) => self.add(place, Some(ValueId::OBJECT), out),
            value => {
                let read = match self.places[place.index()].declared.and_then(Declaration::read_as) {
                    Some(read_as) => match read_as.read(value, "") {
                        // As it came: it equals what came in the same way.
                        Value::Unknown(_) => value,
                        read => read,
                    },
                    None => value,
                };
                self.add_value(place, read, Order::Free, out);
            }
        }
    }

    /// Returns the number of a value, kept where it is new.
    fn value(&mut self, value: &Value<'_>, order: Order) -> ValueId {
        let known = match value {
            Value::Text(text) => self.texts.get(*text),
            Value::Version(text) => self.versions.get(*text),
            Value::Number(number) => self.numbers.get(number),
            _ => {
                self.buffer.clear();
                write_key(value, None, order, &mut self.buffer);
                self.others.get(self.buffer.as_str())
            }
        };
        if let Some(known) = known {
            return *known;
        }
        let id = self.new_value(value, order);
        match value {
            Value::Text(text) => self.texts.insert((*text).into(), id),
            Value::Version(text) => self.versions.insert((*text).into(), id),
            Value::Number(number) => self.numbers.insert(*number, id),
            _ => self.others.insert(self.buffer.as_str().into(), id),
        };
        id
    }

    fn new_value(&mut self, value: &Value<'_>, order: Order) -> ValueId {
        let mut key = String::new();
        write_key(value, Some(self.settings.ignore), order, &mut key);
        // Beside the two classes of what has members.
        let next = u32::try_from(self.classes.len() + 2).unwrap_or(u32::MAX);
        let class = *self.classes.entry(key.into()).or_insert(next);
        let number = match value {
            Value::Number(number) => Some(*number),
            _ => None,
        };
        let id = ValueId(u32::try_from(self.values.len()).unwrap_or(u32::MAX));
        self.values.push(ValueInfo { datum: value.to_datum(), class, number });
        id
    }
}

/// Returns what names an item: its key, or itself. Items without a key have the empty name.
fn item_name<'a>(item: &Value<'a>, key: Option<&str>) -> Cow<'a, str> {
    let name = match (item, key) {
        (Value::Object(object), Some(key)) => object.get(key),
        (other, _) => *other,
    };
    match name {
        Value::Text(text) | Value::Version(text) => Cow::Borrowed(text),
        Value::Number(number) => Cow::Owned(number.normalize().to_string()),
        Value::Boolean(truth) => Cow::Owned(truth.to_string()),
        _ => Cow::Borrowed(""),
    }
}

/// Whether the order of a list's items counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Order {
    Kept,
    Free,
}

/// Returns a text that is the same for equal values and for no others: versions and moments count, not how they are written. Lists are equal
/// in any order, unless `ordered`.
pub fn value_class(value: &Value<'_>, ordered: bool) -> String {
    let mut class = String::new();
    let order = if ordered { Order::Kept } else { Order::Free };
    write_key(value, Some(IgnoreInTexts::default()), order, &mut class);
    class
}

/// Writes a text that is the same for equal values and for no others; with `ignore` none, for values that are written alike.
fn write_key(value: &Value<'_>, ignore: Option<IgnoreInTexts>, order: Order, out: &mut String) {
    // A string takes whatever is written to it.
    let _ = match value {
        Value::Unknown(unknown) => write!(out, "u{}", unknown.reason.as_str()),
        Value::Null => write!(out, "0"),
        Value::Boolean(truth) => write!(out, "b{truth}"),
        Value::Number(number) => write!(out, "n{}", number.normalize()),
        Value::Text(text) => match ignore.filter(|ignore| !ignore.is_exact()) {
            Some(ignore) => {
                let text = ignore.normalized(text);
                write!(out, "t{}:{text}", text.len())
            }
            None => write!(out, "t{}:{text}", text.len()),
        },
        Value::Version(text) if ignore.is_some() => {
            let key = version_key(text);
            write!(out, "v{}:{key}", key.len())
        }
        Value::Version(text) => write!(out, "v{}:{text}", text.len()),
        Value::DateTime(DateTime::At(moment, _)) if ignore.is_some() => write!(out, "m{}", moment.as_nanosecond()),
        Value::DateTime(moment) => write!(out, "m{}", moment.show()),
        Value::Date(_) | Value::Time(_) | Value::Range(_) => write!(out, "d{}", value.show()),
        Value::Duration(length) => write!(out, "l{}", length.as_nanos()),
        Value::Months(months) => write!(out, "y{months}"),
        Value::List(list) => {
            let mut items: Vec<String> = list
                .items
                .iter()
                .map(|item| {
                    let mut key = String::new();
                    write_key(item, ignore, order, &mut key);
                    key
                })
                .collect();
            if order == Order::Free && ignore.is_some() {
                items.sort();
            }
            write!(out, "[{}", items.len()).and_then(|()| items.iter().try_for_each(|item| write!(out, ",{item}")))
        }
        Value::Object(object) => {
            let mut fields: Vec<(&str, String)> = object
                .fields
                .iter()
                .map(|(name, value)| {
                    let mut key = String::new();
                    write_key(value, ignore, order, &mut key);
                    (*name, key)
                })
                .collect();
            fields.sort();
            let mut write_field = |(name, key): &(&str, String)| write!(out, "{}:{name}={key};", name.len());
            fields.iter().try_for_each(&mut write_field).and_then(|()| write!(out, "}}{}", fields.len()))
        }
    };
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::layout::Layout;
    use crate::facts::merge::Origin;

    /// Reads the facts of a device, each a path and a value.
    fn read(table: &mut FactTable<'_>, facts: &[(&str, Datum)]) -> Snapshot {
        let arena = Bump::new();
        let mut layout = Layout::new(table.dictionary);
        let slots: Vec<(FactId, Slot<'_>)> = facts
            .iter()
            .map(|(path, datum)| {
                layout.want(path, table.dictionary);
                let raw = datum.to_value(&arena);
                let value = table.read_as_declared(raw, path, &arena);
                let origin = Some(Origin::Observed { source: "s", collected: None });
                (table.fact(path), Slot { value, raw, origin, stale: false })
            })
            .collect();
        table.snapshot(slots.iter().map(|(fact, slot)| (*fact, slot)), &arena)
    }

    fn shown(table: &FactTable<'_>, snapshot: &Snapshot) -> Vec<String> {
        let mut all: Vec<String> = snapshot
            .cells()
            .map(|(place, value)| match table.is_container(value) {
                true => format!("{} {}", table.place(place), if value == ValueId::LIST { "[]" } else { "{}" }),
                false => format!("{} {:?}", table.place(place), table.values[value.0 as usize].datum),
            })
            .collect();
        all.sort();
        all
    }

    fn text(text: &str) -> Datum {
        Datum::Text(text.into())
    }

    fn object(fields: &[(&str, Datum)]) -> Datum {
        Datum::Object(fields.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect())
    }

    #[test]
    fn objects_items_and_fields_have_places_of_their_own() {
        let mut dictionary = Dictionary::default();
        dictionary.facts.insert("software".into(), Declaration { key: Some("name".into()), ..Declaration::default() });
        let mut table = FactTable::new(&dictionary, TableSettings::default());
        let guardd =
            object(&[("name", text("guardd")), ("version", text("2.1")), ("by", object(&[("user", text("x"))]))]);
        let software = Datum::List(vec![guardd.clone(), text("ebbnote")]);
        let facts = [
            ("sshd.port", Datum::Number(22.into())),
            ("software", software.clone()),
            ("tags", Datum::List(vec![text("a"), text("b"), text("a")])),
            ("routes", Datum::List(vec![object(&[("to", text("x"))])])),
            ("none", object(&[])),
        ];
        let snapshot = read(&mut table, &facts);
        assert_eq!(
            shown(&table, &snapshot),
            [
                r#"none {}"#,
                r#"routes List([Object([("to", Text("x"))])])"#,
                r#"software []"#,
                r#"software[ebbnote] Text("ebbnote")"#,
                r#"software[guardd] {}"#,
                r#"software[guardd].by {}"#,
                r#"software[guardd].by.user Text("x")"#,
                r#"software[guardd].version Text("2.1")"#,
                r#"sshd {}"#,
                r#"sshd.port Number(22)"#,
                r#"tags []"#,
                r#"tags[a] List([Text("a"), Text("a")])"#,
                r#"tags[b] Text("b")"#,
            ]
        );
        let of = |path: &str| table.places().find(|(_, place)| place.to_string() == path).map(|(id, _)| id).unwrap();
        assert_eq!(table.datum(&snapshot, of("sshd")), Some(object(&[("port", Datum::Number(22.into()))])));
        let named =
            object(&[("name", text("guardd")), ("by", object(&[("user", text("x"))])), ("version", text("2.1"))]);
        assert_eq!(table.datum(&snapshot, of("software[guardd]")), Some(named));
    }

    #[test]
    fn equal_values_are_of_one_class_however_they_are_written() {
        let mut dictionary = Dictionary::default();
        let version = Declaration { ty: Some(crate::FactType::Version), ..Declaration::default() };
        dictionary.facts.insert("v".into(), version);
        let instant = Declaration { ty: Some(crate::FactType::Instant), ..Declaration::default() };
        dictionary.facts.insert("at".into(), instant);
        let ignore = IgnoreInTexts { case: true, space: true };
        let mut table = FactTable::new(&dictionary, TableSettings { ignore, ..TableSettings::default() });
        let one = read(
            &mut table,
            &[
                ("v", text("13")),
                ("at", text("2027-03-01T07:00:00+01:00")),
                ("t", text(" A  b")),
                ("l", Datum::List(vec![Datum::Null, object(&[])])),
            ],
        );
        let two = read(
            &mut table,
            &[
                ("v", text("13.0")),
                ("at", text("2027-03-01T06:00:00Z")),
                ("t", text("a B ")),
                ("l", Datum::List(vec![object(&[]), Datum::Null])),
            ],
        );
        for ((place, a), (other, b)) in one.cells().zip(two.cells()) {
            assert_eq!(place, other);
            assert_eq!(table.class(a), table.class(b), "{}", table.place(place));
        }
    }

    #[test]
    fn volatile_facts_are_read_only_where_somebody_names_them() {
        let mut dictionary = Dictionary::default();
        dictionary.facts.insert("disk.free".into(), Declaration { volatile: true, ..Declaration::default() });
        let facts = [("disk.free", Datum::Number(1.into()))];
        let mut table = FactTable::new(&dictionary, TableSettings::default());
        assert_eq!(read(&mut table, &facts).cells().count(), 0);
        let named = HashSet::from(["disk.free".to_owned()]);
        let mut table = FactTable::new(&dictionary, TableSettings { named, ..TableSettings::default() });
        assert_eq!(read(&mut table, &facts).cells().count(), 2);
    }
}
