//! Slots of facts as bytes, for keeping them until they are read again: what a document said, without the document.
//!
//! First the values, each a tag and what belongs to it, in the order of the slots; then all their texts, in that order. Of a list
//! in a slot it is written first how long it is, so that whoever does not want it goes past it at once. Keys of objects are
//! written once in a slot and named by number after that; where all objects of a list have the same keys, in one order, they stand
//! before the first of them. A pack can be read by the layout that filled its slots, and by no other; see [`Layout::fingerprint`].

use bumpalo::Bump;
use jiff::tz::Offset;
use jiff::{SignedDuration, Timestamp, civil};
use rust_decimal::Decimal;

use crate::facts::layout::{Layout, SlotId};
use crate::facts::value::{DateTime, List, Object, Reason, Unknown, Value, Zone};

/// Changes when packs are written otherwise.
pub(crate) const FORMAT: &str = "3";

mod tag {
    pub(super) const MISSING: u8 = 0;
    pub(super) const NULL: u8 = 1;
    pub(super) const FALSE: u8 = 2;
    pub(super) const TRUE: u8 = 3;
    /// A reason; the slot's own fact is to blame.
    pub(super) const UNKNOWN: u8 = 4;
    /// A reason, and the length of the path to blame.
    pub(super) const UNKNOWN_OF: u8 = 5;
    /// A whole number in a byte.
    pub(super) const SMALL: u8 = 6;
    /// A decimal in sixteen bytes.
    pub(super) const NUMBER: u8 = 7;
    /// A length.
    pub(super) const TEXT: u8 = 8;
    /// A number of items, then the items. In a slot, before the number: how long what follows is, and how long its texts are.
    pub(super) const LIST: u8 = 9;
    pub(super) const PROJECTED: u8 = 10;
    /// A number of fields, then each key and value.
    pub(super) const OBJECT: u8 = 11;
    // What a field of a list's items was read as.
    /// A length.
    pub(super) const VERSION: u8 = 12;
    /// Year, month and day.
    pub(super) const DATE: u8 = 13;
    /// A moment, and the offset it was written in.
    pub(super) const MOMENT: u8 = 14;
    /// A moment, and the length of the name of the zone it was written in.
    pub(super) const MOMENT_IN_ZONE: u8 = 15;
    /// Seconds and nanoseconds.
    pub(super) const DURATION: u8 = 16;
    pub(super) const MONTHS: u8 = 17;
    /// A list of objects that have the same keys: how long it is, as of a list; the numbers of items and of keys, the keys, then
    /// the values of each object.
    pub(super) const TABLE: u8 = 18;
    /// From here on texts with their lengths.
    pub(super) const SHORT_TEXT: u8 = 19;
}

/// Packs slots; kept from device to device for its buffers.
#[derive(Debug, Default)]
pub struct Packer {
    values: Vec<u8>,
    texts: Vec<u8>,
}

impl Packer {
    /// Adds the pack of what a reader found to `out`. Whether it could be: what a reader finds always can.
    pub fn pack(&mut self, slots: &[Value<'_>], layout: &Layout, out: &mut Vec<u8>) -> bool {
        self.values.clear();
        self.texts.clear();
        let mut keys = Vec::new();
        for (value, path) in slots.iter().zip(layout.slot_paths()) {
            keys.clear();
            let added = match value {
                Value::List(list) => self.list(list, path, &mut keys),
                _ => self.add(value, path, &mut keys),
            };
            if !added {
                return false;
            }
        }
        out.extend(u32::try_from(self.values.len()).unwrap_or(u32::MAX).to_le_bytes());
        out.extend_from_slice(&self.values);
        out.extend_from_slice(&self.texts);
        true
    }

    fn length(&mut self, mut length: usize) {
        while length >= 128 {
            self.values.push(length as u8 | 128);
            length >>= 7;
        }
        self.values.push(length as u8);
    }

    fn text(&mut self, text: &str) {
        match u8::try_from(text.len() + usize::from(tag::SHORT_TEXT)) {
            Ok(short) => self.values.push(short),
            Err(_) => {
                self.values.push(tag::TEXT);
                self.length(text.len());
            }
        }
        self.texts.extend_from_slice(text.as_bytes());
    }

    /// Adds the list that a slot holds.
    fn list<'v>(&mut self, list: &List<'v>, slot: &str, keys: &mut Vec<&'v str>) -> bool {
        let table = if list.projected { None } else { table_keys(list.items) };
        self.values.push(match (table, list.projected) {
            (Some(_), _) => tag::TABLE,
            (None, false) => tag::LIST,
            (None, true) => tag::PROJECTED,
        });
        let (head, texts) = (self.values.len(), self.texts.len());
        self.values.extend([0; HEAD]);
        self.length(list.items.len());
        let added = match table {
            None => list.items.iter().all(|item| self.add(item, slot, keys)),
            Some(fields) => {
                self.length(fields.len());
                for (key, _) in fields {
                    self.length(key.len());
                    self.texts.extend_from_slice(key.as_bytes());
                }
                list.items.iter().all(|item| match item {
                    Value::Object(object) => object.fields.iter().all(|(_, value)| self.add(value, slot, keys)),
                    _ => false,
                })
            }
        };
        let lengths = [self.values.len() - head - HEAD, self.texts.len() - texts].map(u32::try_from);
        let [Ok(values), Ok(texts)] = lengths else { return false };
        self.values[head..head + 4].copy_from_slice(&values.to_le_bytes());
        self.values[head + 4..head + HEAD].copy_from_slice(&texts.to_le_bytes());
        added && list.doubts.is_empty()
    }

    fn add<'v>(&mut self, value: &Value<'v>, slot: &str, keys: &mut Vec<&'v str>) -> bool {
        match value {
            Value::Unknown(Unknown { reason: Reason::Missing, fact }) if *fact == slot => {
                self.values.push(tag::MISSING)
            }
            Value::Unknown(Unknown { reason, fact }) => {
                self.values.extend([if *fact == slot { tag::UNKNOWN } else { tag::UNKNOWN_OF }, reason.number()]);
                if *fact != slot {
                    self.length(fact.len());
                    self.texts.extend_from_slice(fact.as_bytes());
                }
            }
            Value::Null => self.values.push(tag::NULL),
            Value::Boolean(truth) => self.values.push(if *truth { tag::TRUE } else { tag::FALSE }),
            Value::Number(number) => match u8::try_from(*number) {
                Ok(small) if number.scale() == 0 && !number.is_sign_negative() => {
                    self.values.extend([tag::SMALL, small])
                }
                Ok(_) | Err(_) => {
                    self.values.push(tag::NUMBER);
                    self.values.extend(number.serialize());
                }
            },
            Value::Text(text) => self.text(text),
            Value::List(list) if list.doubts.is_empty() => {
                self.values.push(if list.projected { tag::PROJECTED } else { tag::LIST });
                self.length(list.items.len());
                return list.items.iter().all(|item| self.add(item, slot, keys));
            }
            Value::Object(object) => {
                self.values.push(tag::OBJECT);
                self.length(object.fields.len());
                for (key, value) in object.fields {
                    // Items mostly have the keys of the item before, in their order.
                    let place = keys.iter().rposition(|known| known == key);
                    self.length(place.map_or(0, |place| place + 1));
                    if place.is_none() {
                        keys.push(key);
                        self.length(key.len());
                        self.texts.extend_from_slice(key.as_bytes());
                    }
                    if !self.add(value, slot, keys) {
                        return false;
                    }
                }
            }
            Value::Version(text) => {
                self.values.push(tag::VERSION);
                self.length(text.len());
                self.texts.extend_from_slice(text.as_bytes());
            }
            Value::Date(day) => {
                self.values.push(tag::DATE);
                self.values.extend(day.year().to_le_bytes());
                self.values.extend([day.month() as u8, day.day() as u8]);
            }
            Value::DateTime(DateTime::At(moment, zone)) => {
                let (seconds, nanoseconds) = (moment.as_second(), moment.subsec_nanosecond());
                let in_zone = matches!(zone, Zone::Named(_));
                self.values.push(if in_zone { tag::MOMENT_IN_ZONE } else { tag::MOMENT });
                self.span(seconds, nanoseconds);
                match zone {
                    Zone::Offset(offset) => self.values.extend(offset.seconds().to_le_bytes()),
                    Zone::Named(name) => {
                        let name = name.as_str();
                        self.length(name.len());
                        self.texts.extend_from_slice(name.as_bytes());
                    }
                }
            }
            Value::Duration(length) => {
                self.values.push(tag::DURATION);
                self.span(length.as_secs(), length.subsec_nanos());
            }
            Value::Months(months) => {
                self.values.push(tag::MONTHS);
                self.values.extend(months.to_le_bytes());
            }
            // No type of a fact is read as one of these.
            Value::List(_) | Value::DateTime(DateTime::Local(_)) | Value::Time(_) | Value::Range(_) => return false,
        }
        true
    }

    fn span(&mut self, seconds: i64, nanoseconds: i32) {
        self.values.extend(seconds.to_le_bytes());
        self.values.extend(nanoseconds.to_le_bytes());
    }
}

/// How long it takes to say how long a list is.
const HEAD: usize = 8;

/// Returns the fields of the first item, where all items are objects with its keys in its order.
fn table_keys<'v>(items: &[Value<'v>]) -> Option<&'v [(&'v str, Value<'v>)]> {
    let Some(Value::Object(first)) = items.first() else { return None };
    let is_alike = |item: &Value<'_>| match item {
        Value::Object(object) => {
            object.fields.len() == first.fields.len()
                && object.fields.iter().zip(first.fields).all(|((key, _), (other, _))| key == other)
        }
        _ => false,
    };
    // Each takes a byte at least.
    (!first.fields.is_empty() && items.iter().all(is_alike)).then_some(first.fields)
}

/// Unpacks slots; none where the bytes are no pack of this layout's.
pub fn unpack<'a>(bytes: &'a [u8], layout: &'a Layout, arena: &'a Bump) -> Option<&'a [Value<'a>]> {
    unpack_some(bytes, layout, |_| true, arena)
}

/// Unpacks those slots that are wanted; the others come out as if nobody reported them.
pub fn unpack_some<'a>(
    bytes: &'a [u8],
    layout: &'a Layout,
    wanted: impl Fn(SlotId) -> bool,
    arena: &'a Bump,
) -> Option<&'a [Value<'a>]> {
    let (length, rest) = bytes.split_first_chunk::<4>()?;
    let (values, texts) = rest.split_at_checked(usize::try_from(u32::from_le_bytes(*length)).ok()?)?;
    let mut reading = FactUnpacker { values, texts, listed: None, keys: Vec::new(), arena, failed: false };
    let slots = arena.alloc_slice_fill_iter(layout.slots().map(|slot| {
        reading.keys.clear();
        if wanted(slot) {
            return reading.slot(layout.slot_path(slot));
        }
        reading.pass_slot();
        Value::missing(layout.slot_path(slot))
    }));
    (!reading.failed && reading.values.is_empty() && reading.texts.is_empty()).then_some(slots)
}

struct FactUnpacker<'a> {
    values: &'a [u8],
    texts: &'a [u8],
    /// Those of the list that is being read.
    listed: Option<&'a str>,
    keys: Vec<&'a str>,
    arena: &'a Bump,
    failed: bool,
}

/// Documents nest no deeper, and neither do packs of them.
const MOST_DEPTH: u32 = 130;

impl<'a> FactUnpacker<'a> {
    fn byte(&mut self) -> u8 {
        match self.values.split_first() {
            Some((first, rest)) => {
                self.values = rest;
                *first
            }
            None => {
                self.failed = true;
                0
            }
        }
    }

    fn length(&mut self) -> usize {
        let (mut length, mut shift) = (0, 0);
        loop {
            let byte = self.byte();
            length |= usize::from(byte & 127) << shift;
            shift += 7;
            if byte < 128 || shift > 28 {
                return length;
            }
        }
    }

    /// A number of values, each of which takes a byte at least.
    fn count(&mut self) -> usize {
        let count = self.length();
        if count > self.values.len() {
            self.failed = true;
            return 0;
        }
        count
    }

    fn text(&mut self, length: usize) -> &'a str {
        let found = match &mut self.listed {
            Some(listed) => listed.split_at_checked(length).map(|(text, rest)| {
                *listed = rest;
                text
            }),
            None => self.passed_texts(length).and_then(|text| std::str::from_utf8(text).ok()),
        };
        self.failed |= found.is_none();
        found.unwrap_or_default()
    }

    /// Goes past texts.
    fn passed_texts(&mut self, length: usize) -> Option<&'a [u8]> {
        let (texts, rest) = self.texts.split_at_checked(length)?;
        self.texts = rest;
        Some(texts)
    }

    fn reason(&mut self) -> Reason {
        Reason::of_number(self.byte())
    }

    /// How long the list is that a slot holds, as values and as texts; none where no list is at hand.
    fn head(&mut self) -> Option<[usize; 2]> {
        if self.failed || !matches!(self.values.first(), Some(&(tag::LIST | tag::PROJECTED | tag::TABLE))) {
            return None;
        }
        let found = self.values.get(1..).and_then(<[u8]>::first_chunk::<HEAD>);
        let Some([a, b, c, d, e, f, g, h]) = found.copied() else {
            self.failed = true;
            return None;
        };
        let lengths = [[a, b, c, d], [e, f, g, h]].map(|length| u32::from_le_bytes(length) as usize);
        if 1 + HEAD + lengths[0] > self.values.len() || lengths[1] > self.texts.len() {
            self.failed = true;
            return None;
        }
        Some(lengths)
    }

    /// The value of a slot.
    fn slot(&mut self, slot: &'a str) -> Value<'a> {
        let Some([values, texts]) = self.head() else { return self.value(slot, 0) };
        let kind = self.byte();
        self.skip::<HEAD>();
        let left = self.values.len() - values;
        self.listed = self.passed_texts(texts).and_then(|texts| std::str::from_utf8(texts).ok());
        self.failed |= self.listed.is_none();
        let count = self.count();
        let arena = self.arena;
        let items = match kind {
            tag::TABLE => self.table(count, slot),
            _ => arena.alloc_slice_fill_with(count, |_| self.value(slot, 1)),
        };
        self.failed |= left != self.values.len() || self.listed.take().is_some_and(|left| !left.is_empty());
        Value::List(arena.alloc(List { items, doubts: &[], projected: kind == tag::PROJECTED }))
    }

    /// Objects that have the same keys.
    fn table(&mut self, count: usize, slot: &'a str) -> &'a [Value<'a>] {
        let width = self.count();
        let arena = self.arena;
        let keys: &[&str] = arena.alloc_slice_fill_with(width, |_| {
            let length = self.length();
            self.text(length)
        });
        let Some(all) = count.checked_mul(width).filter(|all| (1..=self.values.len()).contains(all)) else {
            self.failed = true;
            return &[];
        };
        let mut key = keys.iter().cycle();
        let fields: &[(&str, Value<'_>)] =
            arena.alloc_slice_fill_with(all, |_| (key.next().copied().unwrap_or_default(), self.value(slot, 2)));
        let objects = fields.chunks_exact(width).map(|fields| Value::Object(Object { fields }));
        arena.alloc_slice_fill_iter(objects)
    }

    /// Goes past the value of a slot.
    fn pass_slot(&mut self) {
        let Some([values, texts]) = self.head() else { return self.pass(0) };
        self.values = &self.values[1 + HEAD + values..];
        self.failed |= self.passed_texts(texts).is_none();
    }

    fn value(&mut self, slot: &'a str, depth: u32) -> Value<'a> {
        if depth > MOST_DEPTH {
            self.failed = true;
        }
        if self.failed {
            return Value::Null;
        }
        match self.byte() {
            tag::MISSING => Value::missing(slot),
            tag::NULL => Value::Null,
            tag::FALSE => Value::Boolean(false),
            tag::TRUE => Value::Boolean(true),
            tag::UNKNOWN => Value::Unknown(Unknown { reason: self.reason(), fact: slot }),
            tag::UNKNOWN_OF => {
                let reason = self.reason();
                let length = self.length();
                Value::Unknown(Unknown { reason, fact: self.text(length) })
            }
            tag::SMALL => Value::Number(self.byte().into()),
            tag::NUMBER => Value::Number(Decimal::deserialize(self.bytes())),
            tag::TEXT => {
                let length = self.length();
                Value::Text(self.text(length))
            }
            projected @ (tag::LIST | tag::PROJECTED) => {
                let count = self.count();
                let arena = self.arena;
                let items = arena.alloc_slice_fill_with(count, |_| self.value(slot, depth + 1));
                Value::List(arena.alloc(List { items, doubts: &[], projected: projected == tag::PROJECTED }))
            }
            tag::OBJECT => {
                let count = self.count();
                let arena = self.arena;
                let fields = arena.alloc_slice_fill_with(count, |_| (self.key(), self.value(slot, depth + 1)));
                Value::Object(Object { fields })
            }
            tag::VERSION => {
                let length = self.length();
                Value::Version(self.text(length))
            }
            tag::DATE => {
                let [low, high, month, day] = self.bytes();
                let day = civil::Date::new(i16::from_le_bytes([low, high]), month as i8, day as i8);
                self.found(day.ok().map(Value::Date))
            }
            moment @ (tag::MOMENT | tag::MOMENT_IN_ZONE) => {
                let (seconds, nanoseconds) = self.span();
                let zone = match moment {
                    tag::MOMENT => Offset::from_seconds(i32::from_le_bytes(self.bytes())).ok().map(Zone::Offset),
                    _ => {
                        let length = self.length();
                        Zone::named(self.text(length))
                    }
                };
                let moment = Timestamp::new(seconds, nanoseconds).ok();
                self.found(moment.zip(zone).map(|(moment, zone)| Value::DateTime(DateTime::At(moment, zone))))
            }
            tag::DURATION => {
                let (seconds, nanoseconds) = self.span();
                let whole = nanoseconds.unsigned_abs() < 1_000_000_000;
                self.found(whole.then(|| Value::Duration(SignedDuration::new(seconds, nanoseconds))))
            }
            tag::MONTHS => Value::Months(i64::from_le_bytes(self.bytes())),
            short if short >= tag::SHORT_TEXT => Value::Text(self.text(usize::from(short - tag::SHORT_TEXT))),
            _ => self.found(None),
        }
    }

    /// A value that was found, or the end of reading.
    fn found(&mut self, value: Option<Value<'a>>) -> Value<'a> {
        self.failed |= value.is_none();
        value.unwrap_or(Value::Null)
    }

    fn bytes<const N: usize>(&mut self) -> [u8; N] {
        match self.values.split_first_chunk::<N>() {
            Some((bytes, rest)) => {
                self.values = rest;
                *bytes
            }
            None => {
                self.failed = true;
                [0; N]
            }
        }
    }

    fn span(&mut self) -> (i64, i32) {
        (i64::from_le_bytes(self.bytes()), i32::from_le_bytes(self.bytes()))
    }

    /// Goes past a value.
    fn pass(&mut self, depth: u32) {
        if depth > MOST_DEPTH {
            self.failed = true;
        }
        if self.failed {
            return;
        }
        match self.byte() {
            tag::MISSING | tag::NULL | tag::FALSE | tag::TRUE => {}
            tag::UNKNOWN | tag::SMALL => {
                self.byte();
            }
            tag::UNKNOWN_OF => {
                self.byte();
                let length = self.length();
                self.text(length);
            }
            tag::NUMBER => self.skip::<16>(),
            tag::TEXT | tag::VERSION => {
                let length = self.length();
                self.text(length);
            }
            tag::DATE => self.skip::<4>(),
            tag::MOMENT => self.skip::<16>(),
            tag::MOMENT_IN_ZONE => {
                self.skip::<12>();
                let length = self.length();
                self.text(length);
            }
            tag::DURATION => self.skip::<12>(),
            tag::MONTHS => self.skip::<8>(),
            tag::LIST | tag::PROJECTED => (0..self.count()).for_each(|_| self.pass(depth + 1)),
            tag::OBJECT => {
                for _ in 0..self.count() {
                    self.key();
                    self.pass(depth + 1);
                }
            }
            short if short >= tag::SHORT_TEXT => {
                self.text(usize::from(short - tag::SHORT_TEXT));
            }
            _ => self.failed = true,
        }
    }

    fn skip<const N: usize>(&mut self) {
        let _: [u8; N] = self.bytes();
    }

    fn key(&mut self) -> &'a str {
        match self.length() {
            0 => {
                let length = self.length();
                let key = self.text(length);
                self.keys.push(key);
                key
            }
            known => self.keys.get(known - 1).copied().unwrap_or_else(|| {
                self.failed = true;
                ""
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::dictionary::Dictionary;
    use proptest::prelude::*;

    fn layout() -> Layout {
        let mut layout = Layout::new(&Dictionary::default());
        for path in ["a", "b.c", "list"] {
            layout.want(path, &Dictionary::default());
        }
        layout
    }

    /// A value as a reader makes one, in an arena that lives as long as the test.
    fn values() -> impl Strategy<Value = Value<'static>> {
        let arena: &'static Bump = Box::leak(Box::new(Bump::new()));
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Boolean),
            (any::<i64>(), 0u32..20).prop_map(|(number, scale)| Value::Number(Decimal::new(number, scale))),
            (-3i64..300).prop_map(|number| Value::Number(number.into())),
            "[a-zé]{0,12}".prop_map(|text| Value::Text(text.leak())),
            Just(Value::Text("x".repeat(500).leak())),
            prop::sample::select(vec!["a", "list", "elsewhere"]).prop_map(Value::missing),
            Just(Value::Unknown(Unknown { reason: Reason::WrongType, fact: "a" })),
            "[0-9]{1,3}[.][0-9]{1,3}".prop_map(|text| Value::Version(text.leak())),
            (-9999i16..=9999, 1i8..=12, 1i8..=28)
                .prop_map(|(year, month, day)| Value::Date(civil::Date::constant(year, month, day))),
            (any::<i32>(), 0i32..1_000_000_000, -90_000i32..90_000).prop_map(|(seconds, nanoseconds, offset)| {
                let moment = Timestamp::new(seconds.into(), nanoseconds).unwrap();
                Value::DateTime(DateTime::At(moment, Zone::Offset(Offset::from_seconds(offset).unwrap())))
            }),
            any::<i32>().prop_map(|seconds| {
                let moment = Timestamp::from_second(seconds.into()).unwrap();
                Value::DateTime(DateTime::At(moment, Zone::named("Europe/Oslo").unwrap()))
            }),
            (any::<i64>(), 0i32..1_000_000_000)
                .prop_map(|(seconds, rest)| Value::Duration(SignedDuration::new(seconds.max(0), rest))),
            any::<i64>().prop_map(Value::Months),
        ];
        leaf.prop_recursive(4, 24, 5, move |inner| {
            let items = prop::collection::vec(inner.clone(), 0..5);
            let alike = prop::collection::vec((inner.clone(), inner.clone()), 0..4);
            let fields = prop::collection::vec(("[ab]{1,2}", inner), 0..5);
            prop_oneof![
                (alike, 0_usize..=2).prop_map(move |(items, width)| {
                    let object = |(a, b): (Value<'static>, Value<'static>)| {
                        let fields = [("a", a), ("bé", b)];
                        Value::Object(Object { fields: arena.alloc_slice_copy(&fields[..width]) })
                    };
                    let items = arena.alloc_slice_fill_iter(items.into_iter().map(object));
                    Value::List(arena.alloc(List { items, doubts: &[], projected: false }))
                }),
                (items, any::<bool>()).prop_map(move |(items, projected)| {
                    let items = arena.alloc_slice_copy(&items);
                    Value::List(arena.alloc(List { items, doubts: &[], projected }))
                }),
                fields.prop_map(move |fields| {
                    let fields = fields.into_iter().map(|(key, value)| (&*key.leak(), value)).collect::<Vec<_>>();
                    Value::Object(Object { fields: arena.alloc_slice_copy(&fields) })
                }),
            ]
        })
    }

    proptest! {
        #[test]
        fn slots_come_out_as_they_went_in(slots in prop::collection::vec(values(), 5), cut in any::<prop::sample::Index>()) {
            let (layout, arena) = (layout(), Bump::new());
            let mut packed = Vec::new();
            prop_assert!(Packer::default().pack(&slots, &layout, &mut packed));
            let back = unpack(&packed, &layout, &arena).map(|slots| format!("{slots:?}"));
            prop_assert_eq!(back, Some(format!("{:?}", &slots[..])));
            // Of some of them only those.
            let some = |slot: SlotId| slot.0.is_multiple_of(2);
            let back = unpack_some(&packed, &layout, some, &arena).unwrap();
            let of = |at: usize| SlotId(u32::try_from(at).unwrap());
            for (at, (was, now)) in slots.iter().zip(back).enumerate() {
                let was = if some(of(at)) { *was } else { Value::missing(layout.slot_path(of(at))) };
                prop_assert_eq!(format!("{was:?}"), format!("{now:?}"));
            }
            // What was cut short is told, and nothing else happens.
            let cut = &packed[..cut.index(packed.len())];
            prop_assert!(unpack(cut, &layout, &arena).is_none());
            prop_assert!(unpack_some(cut, &layout, some, &arena).is_none());
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let (layout, arena) = (layout(), Bump::new());
            let mut framed = u32::try_from(bytes.len()).unwrap().to_le_bytes().to_vec();
            framed.extend(&bytes);
            let _ = unpack(&framed, &layout, &arena);
            let _ = unpack(&bytes, &layout, &arena);
            // What is gone past is not looked into.
            let none = unpack_some(&framed, &layout, |_| false, &arena);
            prop_assert!(none.is_some() || unpack(&framed, &layout, &arena).is_none());
        }
    }
}
