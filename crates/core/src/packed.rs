//! Slots of facts as bytes, for keeping them until they are read again: what a document said, without the document.
//!
//! First the values, each a tag and what belongs to it, in the order of the slots; then all their texts, in that order. Keys of
//! objects are written once and named by number after that. A pack can be read by the layout that filled its slots, and by no
//! other; see [`Layout::fingerprint`].

use bumpalo::Bump;
use jiff::tz::Offset;
use jiff::{SignedDuration, Timestamp, civil};
use rust_decimal::Decimal;

use crate::layout::{Layout, SlotId};
use crate::value::{DateTime, List, Object, Reason, Unknown, Value, Zone};

/// Changes when packs are written otherwise.
pub(crate) const FORMAT: &str = "2";

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
    /// A number of items, then the items.
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
    /// From here on texts with their lengths.
    pub(super) const SHORT_TEXT: u8 = 18;
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
            if !self.add(value, path, &mut keys) {
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
    let mut reading =
        Unpacking { values, texts: std::str::from_utf8(texts).ok()?, keys: Vec::new(), arena, failed: false };
    let slots = arena.alloc_slice_fill_iter(layout.slots().map(|slot| {
        if wanted(slot) {
            return reading.value(layout.slot_path(slot), 0);
        }
        reading.pass(0);
        Value::missing(layout.slot_path(slot))
    }));
    (!reading.failed && reading.values.is_empty() && reading.texts.is_empty()).then_some(slots)
}

struct Unpacking<'a> {
    values: &'a [u8],
    texts: &'a str,
    keys: Vec<&'a str>,
    arena: &'a Bump,
    failed: bool,
}

/// Documents nest no deeper, and neither do packs of them.
const MOST_DEPTH: u32 = 130;

impl<'a> Unpacking<'a> {
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
        match self.texts.split_at_checked(length) {
            Some((text, rest)) => {
                self.texts = rest;
                text
            }
            None => {
                self.failed = true;
                ""
            }
        }
    }

    fn reason(&mut self) -> Reason {
        Reason::of_number(self.byte())
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
    use crate::dictionary::Dictionary;
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
            let fields = prop::collection::vec(("[ab]{1,2}", inner), 0..5);
            prop_oneof![
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
            let none = unpack_some(&framed, &layout, |_| false, &arena);
            prop_assert_eq!(none.is_some(), unpack(&framed, &layout, &arena).is_some());
        }
    }
}
