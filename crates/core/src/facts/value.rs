//! Values that conditions compute with. They are `Copy`: texts and lists live in the document or in an
//! arena that is emptied between devices, so that evaluating a device allocates nothing of its own.

use super::temporal::{show_duration, show_months};
use crate::canonical::{Canonical, Encode};
use std::sync::{Mutex, PoisonError};

use bumpalo::Bump;
use jiff::civil;
use jiff::tz::{Offset, TimeZone};
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use std::fmt::Write as _;

/// Why something is not known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reason {
    /// Nobody collected it.
    Missing,
    /// It was collected and is empty.
    Null,
    /// It is not of the type that the dictionary or the condition asks for.
    WrongType,
    /// It was collected too long ago.
    Stale,
    /// It lies after the moment of judgement.
    Clock,
    /// Whether the rule covers the device could not be told.
    Scope,
    /// The condition itself could not be worked out.
    Error,
}

impl Reason {
    /// All reasons; what is kept of them by number goes by this order.
    pub const ALL: [Self; 7] =
        [Self::Missing, Self::Null, Self::WrongType, Self::Stale, Self::Clock, Self::Scope, Self::Error];

    /// Returns the reason's place among all.
    pub fn number(self) -> u8 {
        Self::ALL.iter().position(|known| *known == self).unwrap_or(0) as u8
    }

    /// Returns the reason at a place among all; an error where there is none.
    pub fn of_number(number: u8) -> Self {
        Self::ALL.get(usize::from(number)).copied().unwrap_or(Self::Error)
    }

    /// Reads the word back.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.as_str() == word)
    }

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Missing => "missing",
            Self::Null => "null",
            Self::WrongType => "wrong-type",
            Self::Stale => "stale",
            Self::Clock => "clock",
            Self::Scope => "scope",
            Self::Error => "error",
        }
    }
}

/// Something not known, and the fact to blame for it (empty when there is none).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unknown<'a> {
    /// Why.
    pub reason: Reason,
    /// The path of the fact to blame.
    pub fact: &'a str,
}

/// A date with a time of day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum DateTime {
    /// Without offset or zone: comparable only with its like.
    Local(civil::DateTime),
    /// A moment, with the offset or zone it was written in.
    At(Timestamp, Zone),
}

/// What a moment was written in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Zone {
    /// An offset from UTC.
    Offset(Offset),
    /// A zone of the time-zone database.
    Named(ZoneName),
}

/// The name of a zone of the time-zone database, as its place among those that have been named: values stay small so.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ZoneName(u16);

/// The zones that have been named. They are kept for ever, and there are no more of them than the database knows.
static ZONES: Mutex<Vec<&'static str>> = Mutex::new(Vec::new());

impl ZoneName {
    /// Returns the name as the database writes it.
    pub fn as_str(self) -> &'static str {
        let zones = ZONES.lock().unwrap_or_else(PoisonError::into_inner);
        zones.get(usize::from(self.0)).copied().unwrap_or("UTC")
    }
}

impl Zone {
    /// Returns the zone of a name; none when the database does not know it.
    pub fn named(name: &str) -> Option<Self> {
        let zone = TimeZone::get(name).ok()?;
        let name = zone.iana_name()?;
        let mut zones = ZONES.lock().unwrap_or_else(PoisonError::into_inner);
        let place = zones.iter().position(|known| *known == name).unwrap_or_else(|| {
            zones.push(Box::leak(name.to_owned().into_boxed_str()));
            zones.len() - 1
        });
        u16::try_from(place).ok().map(|place| Self::Named(ZoneName(place)))
    }

    fn zone(self) -> TimeZone {
        match self {
            Self::Offset(offset) => TimeZone::fixed(offset),
            Self::Named(name) => TimeZone::get(name.as_str()).unwrap_or(TimeZone::UTC),
        }
    }

    /// Returns the offset that holds at a moment.
    pub fn offset_at(self, moment: Timestamp) -> Offset {
        match self {
            Self::Offset(offset) => offset,
            Self::Named(_) => self.zone().to_offset(moment),
        }
    }

    /// Returns the moment of a time on the clock of this zone; in a gap the later, in an overlap the first.
    pub fn moment_of(self, local: civil::DateTime) -> Option<Timestamp> {
        self.zone().to_timestamp(local).ok()
    }
}

/// A time of day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DayTime {
    /// On the clock.
    pub time: civil::Time,
    /// The offset it was written in; without one it is comparable only with its like.
    pub offset: Option<Offset>,
}

impl DayTime {
    /// Returns the nanoseconds since midnight in UTC, or on the clock without an offset; not wrapped into one day.
    pub fn since_midnight(&self) -> i128 {
        let on_clock = self.time.duration_since(civil::Time::midnight()).as_nanos();
        on_clock - i128::from(self.offset.map_or(0, Offset::seconds)) * 1_000_000_000
    }

    fn show(&self) -> String {
        let offset = self.offset.map_or_else(String::new, show_offset);
        format!("{}{offset}", self.time)
    }
}

/// One end of a range.
#[derive(Clone, Copy, Debug)]
pub struct RangeEnd<'a> {
    /// The value at the end.
    pub value: Value<'a>,
    /// Whether the end belongs to the range.
    pub included: bool,
}

/// A range `[low..high]`.
#[derive(Clone, Copy, Debug)]
pub struct Range<'a> {
    /// The lower end.
    pub low: RangeEnd<'a>,
    /// The upper end.
    pub high: RangeEnd<'a>,
}

/// A list. Items of a filtered list may be doubtful: it is not known whether they belong to it.
#[derive(Clone, Copy, Debug)]
pub struct List<'a> {
    /// The items in order, doubtful ones among them.
    pub items: &'a [Value<'a>],
    /// Positions of doubtful items, ascending, each with what is not known about it.
    pub doubts: &'a [(u32, Unknown<'a>)],
    /// It was made of one field of each item of a collected list, each read as its declared type already.
    pub projected: bool,
}

impl<'a> List<'a> {
    /// Creates a list without doubts.
    pub fn certain(items: &'a [Value<'a>]) -> Self {
        Self { items, doubts: &[], projected: false }
    }
}

/// A collected object, keys as they were written and in their order.
#[derive(Clone, Copy, Debug)]
pub struct Object<'a> {
    /// Key and value.
    pub fields: &'a [(&'a str, Value<'a>)],
}

impl<'a> Object<'a> {
    /// Returns the value of each field beside what another object has under the same key. Takes n log n comparisons,
    /// however many fields a device reports.
    pub(crate) fn fields_beside(&self, other: &Self) -> impl Iterator<Item = (Value<'a>, Option<Value<'a>>)> {
        let in_order = self.fields.iter().zip(other.fields).all(|((a, _), (b, _))| a == b);
        let mut by_key: Vec<_> = if in_order { Vec::new() } else { other.fields.iter().collect() };
        by_key.sort_by_key(|(key, _)| *key);
        let theirs = other.fields;
        self.fields.iter().enumerate().map(move |(at, (key, value))| {
            let beside = if in_order {
                theirs.get(at).map(|(_, value)| *value)
            } else {
                by_key.binary_search_by_key(key, |(known, _)| *known).ok().map(|at| by_key[at].1)
            };
            (*value, beside)
        })
    }

    /// Returns the value at a dotted path: nested objects and dotted keys mean the same.
    ///
    /// Below a null, and for an absent key, the value is missing.
    pub fn get(&self, path: &str) -> Value<'a> {
        let missing = Value::Unknown(Unknown { reason: Reason::Missing, fact: "" });
        for (key, value) in self.fields {
            if *key == path {
                return *value;
            }
            if let Some(rest) = path.strip_prefix(key).and_then(|rest| rest.strip_prefix('.'))
                && let Value::Object(inner) = value
            {
                let found = inner.get(rest);
                if !found.is_missing() {
                    return found;
                }
            }
        }
        missing
    }
}

/// A value at evaluation time.
#[derive(Clone, Copy, Debug)]
pub enum Value<'a> {
    /// Not known, with the reason.
    Unknown(Unknown<'a>),
    /// Empty.
    Null,
    /// True or false.
    Boolean(bool),
    /// A decimal number.
    Number(Decimal),
    /// A text.
    Text(&'a str),
    /// A text read as a version.
    Version(&'a str),
    /// A calendar day.
    Date(civil::Date),
    /// A day with a time.
    DateTime(DateTime),
    /// A time of day.
    Time(DayTime),
    /// An exact duration.
    Duration(SignedDuration),
    /// A duration of years and months, in months.
    Months(i64),
    /// A list.
    List(&'a List<'a>),
    /// An object.
    Object(Object<'a>),
    /// A range.
    Range(&'a Range<'a>),
}

impl<'a> Value<'a> {
    /// Returns a missing value of a fact.
    pub fn missing(fact: &'a str) -> Self {
        Self::Unknown(Unknown { reason: Reason::Missing, fact })
    }

    /// Returns whether the value was never collected.
    pub fn is_missing(&self) -> bool {
        matches!(self, Self::Unknown(Unknown { reason: Reason::Missing, .. }))
    }

    /// Returns the value at a dotted path below this one; of a list, the list of its items' values.
    ///
    /// What is not there is missing, and `fact` is to blame for it.
    pub fn below(self, path: &str, fact: &'a str, arena: &'a Bump) -> Self {
        match self {
            Self::Unknown(unknown) if unknown.reason != Reason::Missing => self,
            Self::Object(object) => {
                let found = object.get(path);
                if !found.is_missing() {
                    return found;
                }
                // Below a list inside the object the path goes on in each item.
                for (key, value) in object.fields {
                    let rest = path.strip_prefix(key).and_then(|rest| rest.strip_prefix('.'));
                    if let (Self::List(_), Some(rest)) = (value, rest) {
                        return value.below(rest, fact, arena);
                    }
                }
                Self::missing(fact)
            }
            Self::List(list) => {
                let values = list.items.iter().map(|item| item.below(path, fact, arena));
                let items = arena.alloc_slice_fill_iter(values);
                Self::List(arena.alloc(List { items, doubts: list.doubts, projected: true }))
            }
            _ => Self::missing(fact),
        }
    }

    /// Returns the name of the value's type, as messages say it.
    pub fn type_name(&self) -> &'static str {
        match self {
            Self::Unknown(_) => "unknown",
            Self::Null => "null",
            Self::Boolean(_) => "boolean",
            Self::Number(_) => "number",
            Self::Text(_) => "text",
            Self::Version(_) => "version",
            Self::Date(_) => "date",
            Self::DateTime(_) => "date and time",
            Self::Time(_) => "time",
            Self::Duration(_) => "duration",
            Self::Months(_) => "years and months duration",
            Self::List(_) => "list",
            Self::Object(_) => "object",
            Self::Range(_) => "range",
        }
    }

    /// Writes the value as a person reads it: texts bare, lists in brackets, durations in words.
    ///
    /// Text that a device supplied comes out as it is: whoever prints it makes it harmless.
    pub fn show(&self) -> String {
        let mut out = String::new();
        self.show_into(&mut out, 0);
        out
    }

    /// Writes the value as [`Self::show`] does, cut after a thousand characters: evidence names a value, it does not copy it.
    pub fn show_cut(&self) -> String {
        const MOST: usize = 1_000;
        let mut out = self.show();
        if let Some((end, _)) = out.char_indices().nth(MOST) {
            out.truncate(end);
            out.push_str("..");
        }
        out
    }

    /// Writes the value as the standard's `string` does: whole, lists and objects as they would be written.
    pub fn written(&self) -> String {
        let mut out = String::new();
        // A string takes whatever is written to it.
        let _ = self.write_to(&mut out);
        out
    }

    /// Writes the value as [`Self::written`] returns it.
    ///
    /// # Errors
    /// Fails where `out` does: a value may be far longer in writing than in memory, where parts of it are shared.
    pub fn write_to(&self, out: &mut dyn std::fmt::Write) -> std::fmt::Result {
        match self {
            Self::Null => out.write_str("null"),
            Self::Text(text) | Self::Version(text) => out.write_str(text),
            Self::Duration(length) => out.write_str(&show_duration(*length)),
            Self::Months(months) => out.write_str(&show_months(*months)),
            Self::List(list) => {
                out.write_char('[')?;
                for (i, item) in list.items.iter().enumerate() {
                    out.write_str(if i > 0 { ", " } else { "" })?;
                    item.write_inside(out)?;
                }
                out.write_char(']')
            }
            Self::Object(object) => {
                out.write_char('{')?;
                for (i, (key, value)) in object.fields.iter().enumerate() {
                    write!(out, "{}{key}: ", if i > 0 { ", " } else { "" })?;
                    value.write_inside(out)?;
                }
                out.write_char('}')
            }
            other => out.write_str(&other.show()),
        }
    }

    /// Writes the value as it stands inside another.
    fn write_inside(&self, out: &mut dyn std::fmt::Write) -> std::fmt::Result {
        match self {
            Self::Text(text) | Self::Version(text) => write!(out, "\"{text}\""),
            other => other.write_to(out),
        }
    }

    /// Writes the value as a requirement names it: texts in quotes.
    pub fn show_quoted(&self) -> String {
        match self {
            Self::Text("") => "\"\"".to_owned(),
            Self::Text(_) => format!("\"{}\"", self.show_cut()),
            other => other.show_cut(),
        }
    }

    fn show_into(&self, out: &mut String, depth: usize) {
        // Long lists and deep objects are for `show`, not for a line of evidence.
        const MOST: usize = 6;
        /// Where lists hold the same long text again and again, the rest is left out.
        const LONGEST: usize = 64 * 1024;
        if out.len() > LONGEST {
            out.push_str("..");
            return;
        }
        match self {
            Self::Unknown(unknown) => out.push_str(match unknown.reason {
                Reason::Missing => "not collected",
                Reason::Null => "empty",
                Reason::WrongType => "wrong type",
                Reason::Stale => "too old",
                Reason::Clock => "from the future",
                Reason::Scope | Reason::Error => "not known",
            }),
            Self::Null => out.push_str("empty"),
            Self::Boolean(true) => out.push_str("true"),
            Self::Boolean(false) => out.push_str("false"),
            Self::Number(number) => {
                let _ = write!(out, "{}", number.normalize());
            }
            Self::Text("") => out.push_str("\"\""),
            Self::Text(text) | Self::Version(text) => out.push_str(text),
            Self::Date(date) => {
                let _ = write!(out, "{date}");
            }
            Self::DateTime(moment) => out.push_str(&moment.show()),
            Self::Time(time) => out.push_str(&time.show()),
            Self::Duration(length) => {
                if length.is_negative() {
                    out.push('-');
                }
                out.push_str(&crate::facts::period::show_span(*length));
            }
            Self::Months(months) => {
                let _ = write!(out, "{} months", months);
            }
            Self::List(list) => {
                out.push('[');
                for (i, item) in list.items.iter().take(MOST).enumerate() {
                    if i > 0 {
                        out.push_str(", ");
                    }
                    item.show_into(out, depth + 1);
                }
                if list.items.len() > MOST {
                    let _ = write!(out, ", and {} more", list.items.len() - MOST);
                }
                out.push(']');
            }
            Self::Object(_) if depth > 2 => out.push_str("{..}"),
            Self::Object(object) => {
                out.push('{');
                for (i, (key, value)) in object.fields.iter().take(MOST).enumerate() {
                    if i > 0 {
                        out.push_str(", ");
                    }
                    out.push_str(key);
                    out.push_str(": ");
                    value.show_into(out, depth + 1);
                }
                if object.fields.len() > MOST {
                    out.push_str(", ..");
                }
                out.push('}');
            }
            Self::Range(range) => {
                range.low.value.show_into(out, depth + 1);
                out.push_str(if range.low.included { " to " } else { " (not included) to " });
                range.high.value.show_into(out, depth + 1);
                if !range.high.included {
                    out.push_str(" (not included)");
                }
            }
        }
    }

    /// Copies the value out of its arena; what is not known becomes null.
    pub fn to_datum(&self) -> Datum {
        match self {
            Self::Unknown(_) | Self::Null => Datum::Null,
            Self::Boolean(truth) => Datum::Boolean(*truth),
            Self::Number(number) => Datum::Number(*number),
            Self::Text(text) | Self::Version(text) => Datum::Text((*text).to_owned()),
            Self::Date(_) | Self::DateTime(_) | Self::Time(_) | Self::Range(_) => Datum::Text(self.show()),
            Self::Duration(length) => Datum::Text(show_duration(*length)),
            Self::Months(months) => Datum::Text(show_months(*months)),
            Self::List(list) => Datum::List(list.items.iter().map(Self::to_datum).collect()),
            Self::Object(object) => {
                Datum::Object(object.fields.iter().map(|(key, value)| ((*key).to_owned(), value.to_datum())).collect())
            }
        }
    }
}

impl DateTime {
    /// Returns the moment; none for a local time, which is not one.
    pub fn moment(&self) -> Option<Timestamp> {
        match self {
            Self::Local(_) => None,
            Self::At(moment, _) => Some(*moment),
        }
    }

    /// Returns day and time on the clock of its own offset.
    pub fn local(&self) -> civil::DateTime {
        match self {
            Self::Local(local) => *local,
            Self::At(moment, zone) => zone.offset_at(*moment).to_datetime(*moment),
        }
    }

    /// Returns the time of day.
    pub fn time(&self) -> DayTime {
        let offset = match self {
            Self::Local(_) => None,
            Self::At(moment, zone) => Some(zone.offset_at(*moment)),
        };
        DayTime { time: self.local().time(), offset }
    }

    /// Writes the moment with its offset as RFC 3339 asks, or with the name of its zone as the standard does.
    pub fn show(&self) -> String {
        match self {
            Self::Local(local) => local.to_string(),
            Self::At(moment, Zone::Offset(offset)) if offset.is_zero() => moment.to_string(),
            Self::At(_, Zone::Offset(offset)) => format!("{}{}", self.local(), show_offset(*offset)),
            Self::At(_, Zone::Named(name)) => format!("{}@{}", self.local(), name.as_str()),
        }
    }
}

/// `Z`, or `+01:00`.
fn show_offset(offset: Offset) -> String {
    let seconds = offset.seconds();
    if seconds == 0 {
        return "Z".to_owned();
    }
    let sign = if seconds < 0 { '-' } else { '+' };
    let minutes = seconds.unsigned_abs() / 60;
    format!("{sign}{:02}:{:02}", minutes / 60, minutes % 60)
}

/// An owned value, for what outlives a device: corrections, people, rows of a list.
#[derive(Clone, Debug, PartialEq)]
pub enum Datum {
    /// Empty.
    Null,
    /// True or false.
    Boolean(bool),
    /// A decimal number.
    Number(Decimal),
    /// A text.
    Text(String),
    /// A list.
    List(Vec<Datum>),
    /// An object, keys as written.
    Object(Vec<(String, Datum)>),
}

impl Datum {
    /// Copies the value into an arena, so that conditions can compute with it.
    pub fn to_value<'a>(&self, arena: &'a Bump) -> Value<'a> {
        match self {
            Self::Null => Value::Null,
            Self::Boolean(truth) => Value::Boolean(*truth),
            Self::Number(number) => Value::Number(*number),
            Self::Text(text) => Value::Text(arena.alloc_str(text)),
            Self::List(items) => {
                let items = arena.alloc_slice_fill_iter(items.iter().map(|item| item.to_value(arena)));
                Value::List(arena.alloc(List::certain(items)))
            }
            Self::Object(fields) => {
                let fields = arena.alloc_slice_fill_iter(
                    fields.iter().map(|(key, value)| (&*arena.alloc_str(key), value.to_value(arena))),
                );
                Value::Object(Object { fields })
            }
        }
    }

    /// Writes the value as [`Value::show_cut`] does.
    pub fn show(&self) -> String {
        self.to_value(&Bump::new()).show_cut()
    }

    /// Returns the value at a dotted path inside this one, if it is there.
    pub fn at(&self, path: &str) -> Option<&Self> {
        let Self::Object(fields) = self else { return None };
        for (key, value) in fields {
            if key == path {
                return Some(value);
            }
            if let Some(found) =
                path.strip_prefix(key.as_str()).and_then(|rest| rest.strip_prefix('.')).and_then(|rest| value.at(rest))
            {
                return Some(found);
            }
        }
        None
    }

    /// Returns the text, if this is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Null | Self::Boolean(_) | Self::Number(_) | Self::List(_) | Self::Object(_) => None,
        }
    }
}

impl Encode for Datum {
    fn encode(&self, to: &mut Canonical) {
        match self {
            Self::Null => to.tag(b'0'),
            Self::Boolean(truth) => truth.encode(to),
            Self::Number(number) => number.encode(to),
            Self::Text(text) => text.encode(to),
            Self::List(items) => items.encode(to),
            Self::Object(fields) => {
                to.tag(b'o');
                fields.encode(to);
            }
        }
    }
}
