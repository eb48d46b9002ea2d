//! The fact dictionary: what type, unit and meaning a fact has. What it does not say is inferred.

use crate::canonical::{Canonical, Encode};
use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::tz::TimeZone;
use rust_decimal::Decimal;

use crate::facts::period::Period;
use crate::facts::secrecy::PathWords;
use crate::facts::temporal::{parse_date_time, parse_duration};
use crate::facts::value::{DateTime, Reason, Unknown, Value};
use crate::facts::version::is_version;

/// The declared type of a fact.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FactType {
    /// Any characters.
    Text,
    /// A decimal number.
    Number,
    /// True or false.
    Boolean,
    /// A moment, RFC 3339 with an offset.
    Instant,
    /// A calendar day, ISO 8601.
    Date,
    /// A length of time, ISO 8601 or the friendly way.
    Duration,
    /// A version, compared by parts.
    Version,
    /// A list of anything.
    List,
    /// An object.
    Object,
}

impl FactType {
    /// All types with the word used in `facts.toml`.
    pub const ALL: [(&'static str, Self); 9] = [
        ("text", Self::Text),
        ("number", Self::Number),
        ("boolean", Self::Boolean),
        ("instant", Self::Instant),
        ("date", Self::Date),
        ("duration", Self::Duration),
        ("version", Self::Version),
        ("list", Self::List),
        ("object", Self::Object),
    ];

    /// Returns the word used in `facts.toml`.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(word, _)| word)
    }

    /// Returns a collected value read as this type; unknown with reason *wrong type* where it cannot be.
    ///
    /// Null stays null: it is a value. Text is never turned into a number.
    pub fn read<'a>(self, value: Value<'a>, fact: &'a str) -> Value<'a> {
        let read = match (self, value) {
            (_, Value::Unknown(_) | Value::Null) => Some(value),
            // Of a field of a list's items each value was read as its type on its own.
            (_, Value::List(list)) if list.projected => Some(value),
            (Self::Text, Value::Text(_))
            | (Self::Number, Value::Number(_))
            | (Self::Boolean, Value::Boolean(_))
            | (Self::List, Value::List(_))
            | (Self::Object, Value::Object(_))
            // What was read as its type already.
            | (Self::Version, Value::Version(_))
            | (Self::Instant, Value::DateTime(DateTime::At(..)))
            | (Self::Date, Value::Date(_))
            | (Self::Duration, Value::Duration(_) | Value::Months(_)) => Some(value),
            (Self::Version, Value::Text(text)) => is_version(text).then_some(Value::Version(text)),
            (Self::Instant, Value::Text(text)) => match parse_date_time(text) {
                Some(moment @ DateTime::At(..)) => Some(Value::DateTime(moment)),
                Some(DateTime::Local(_)) | None => None,
            },
            (Self::Date, Value::Text(text)) => text.parse().ok().map(Value::Date),
            (Self::Duration, Value::Text(text)) => parse_duration(text),
            _ => None,
        };
        read.unwrap_or(Value::Unknown(Unknown { reason: Reason::WrongType, fact }))
    }
}

/// What a value is read as.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadAs {
    /// The type.
    pub ty: FactType,
    /// Of a number, the unit that it is kept in.
    pub unit: Option<Arc<str>>,
}

impl ReadAs {
    /// Returns a collected value read as its type; a number with a unit may come as a text that names one, as `12 GB`.
    pub fn read<'a>(&self, value: Value<'a>, fact: &'a str) -> Value<'a> {
        if let (FactType::Number, Some(unit), Value::Text(text)) = (self.ty, &self.unit, &value)
            && let Some(number) = parse_measure(text, unit)
        {
            return Value::Number(number);
        }
        self.ty.read(value, fact)
    }

    /// Returns a collected value as people are shown it: as its type, and as it came where it is not of that type.
    pub fn shown<'a>(&self, value: Value<'a>, fact: &'a str) -> String {
        match self.read(value, fact) {
            Value::Unknown(_) => value.show(),
            read => read.show(),
        }
    }
}

/// Reads a number that is followed by its unit, in another unit of the same kind.
fn parse_measure(text: &str, unit: &str) -> Option<Decimal> {
    let text = text.trim();
    let end = text.find(|c: char| !matches!(c, '0'..='9' | '.' | '-'))?;
    let number: Decimal = text[..end].parse().ok()?;
    Conversion::between(text[end..].trim_start(), unit).ok()?.apply(number)
}

/// The way from one unit to another of the same kind.
///
/// Both scales are kept, because their quotient may have no end: a second is a sixtieth of a minute.
#[derive(Clone, Copy, Debug)]
pub struct Conversion {
    from: Decimal,
    to: Decimal,
}

impl Conversion {
    /// Returns the way from `from` to `to`.
    ///
    /// # Errors
    /// Says in words which units can be turned into which.
    pub fn between(from: &str, to: &str) -> Result<Self, String> {
        let scale = |unit: &str| -> Option<(&'static str, Decimal)> {
            Some(match unit {
                "B" => ("size", Decimal::ONE),
                "kB" | "KB" => ("size", Decimal::from(1_000)),
                "MB" => ("size", Decimal::from(1_000_000)),
                "GB" => ("size", Decimal::from(1_000_000_000)),
                "TB" => ("size", Decimal::from(1_000_000_000_000_i64)),
                "KiB" => ("size", Decimal::from(1_i64 << 10)),
                "MiB" => ("size", Decimal::from(1_i64 << 20)),
                "GiB" => ("size", Decimal::from(1_i64 << 30)),
                "TiB" => ("size", Decimal::from(1_i64 << 40)),
                "s" => ("time", Decimal::ONE),
                "ms" => ("time", Decimal::new(1, 3)),
                "min" => ("time", Decimal::from(60)),
                "h" => ("time", Decimal::from(3_600)),
                "d" => ("time", Decimal::from(86_400)),
                "%" => ("share", Decimal::new(1, 2)),
                "1" => ("share", Decimal::ONE),
                _ => return None,
            })
        };
        let known = "B, kB, MB, GB, TB, KiB, MiB, GiB, TiB; s, ms, min, h, d; %, 1";
        match (scale(from), scale(to)) {
            (Some((kind, a)), Some((other, b))) if kind == other => Ok(Self { from: a, to: b }),
            (Some((kind, _)), Some((other, _))) => Err(format!("`{from}` measures {kind} and `{to}` measures {other}")),
            (None, _) => Err(format!("unknown unit `{from}`; known are {known}")),
            (_, None) => Err(format!("unknown unit `{to}`; known are {known}")),
        }
    }

    /// Returns a number in the other unit; none where it is too large.
    pub fn apply(self, number: Decimal) -> Option<Decimal> {
        number.checked_mul(self.from)?.checked_div(self.to).map(|number| number.normalize())
    }
}

/// What the dictionary says of one fact.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Declaration {
    /// Its type, if declared.
    pub ty: Option<FactType>,
    /// What it means, for people.
    pub about: Option<String>,
    /// The unit its numbers are in, `B`.
    pub unit: Option<String>,
    /// Of a list: the field that tells one item from another.
    pub key: Option<String>,
    /// Of a list: the order of its items counts.
    pub ordered: bool,
    /// It differs everywhere or always.
    pub volatile: bool,
    /// Its value is never kept, only a digest of it that tells whether it is there, changes or equals another;
    /// `false` says that a name that sounds like a secret is none.
    pub secret: bool,
    /// It is not kept of a device that is not the company's.
    pub company_only: bool,
    /// How long it counts as fresh, instead of what its source says.
    pub fresh_for: Option<Period>,
    /// What values mean, shown beside them.
    pub labels: BTreeMap<String, String>,
    /// It is the moment at which something of the device ends.
    pub ends: Option<Expiring>,
}

/// What ends at the moment that a fact tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Expiring {
    /// A certificate.
    Certificate,
    /// A key.
    Key,
}

impl Expiring {
    /// All of them with the words used in files and JSON.
    pub const ALL: [(&'static str, Self); 2] = [("certificate", Self::Certificate), ("key", Self::Key)];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(word, _)| word)
    }
}

/// Declared facts by path.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Dictionary {
    /// Path to declaration.
    pub facts: BTreeMap<String, Declaration>,
    /// Paths that some imported device reports, when a fleet is at hand.
    pub reported: Option<std::collections::BTreeSet<String>>,
}

impl Declaration {
    /// What a value of the fact is read as; none where nothing is declared.
    pub fn read_as(&self) -> Option<ReadAs> {
        Some(ReadAs { ty: self.ty?, unit: self.unit.as_deref().map(Into::into) })
    }
}

impl Dictionary {
    /// Returns the declared type of a path.
    pub fn type_of(&self, path: &str) -> Option<FactType> {
        self.facts.get(path)?.ty
    }

    /// Returns whether the path is declared, or a list or object that it lies in.
    pub fn declares(&self, path: &str) -> bool {
        let mut above = path;
        loop {
            if self.facts.contains_key(above) {
                return true;
            }
            match above.rsplit_once('.') {
                Some((outer, _)) => above = outer,
                None => return false,
            }
        }
    }

    /// Returns whether anybody declares or reports the path or something below or above it.
    ///
    /// With no fleet to judge by, and nothing declared, everything is known.
    pub fn knows(&self, path: &str) -> bool {
        let related = |known: &str| {
            known == path
                || known.strip_prefix(path).is_some_and(|rest| rest.starts_with('.'))
                || path.strip_prefix(known).is_some_and(|rest| rest.starts_with('.'))
        };
        self.facts.keys().any(|known| related(known))
            || self.reported.as_ref().is_none_or(|reported| reported.iter().any(|known| related(known)))
    }

    /// Returns whether a path names a secret: by what is declared of it or of the nearest path above it, else by its words.
    pub fn names_a_secret(&self, path: &str) -> bool {
        self.declared_at_or_above(path).is_some_and(|(_, declared)| declared.secret)
            || self.words_of(path).name_a_secret()
    }

    /// Returns what the words of a path say of secrets, as far as nothing is declared of it or above it.
    pub fn words_of(&self, path: &str) -> PathWords {
        let declared = self.declared_at_or_above(path).map_or(0, |(above, _)| above.len());
        PathWords::of(&path[declared..])
    }

    /// Returns what is declared of a path, or of the nearest path above it.
    fn declared_at_or_above<'p>(&self, path: &'p str) -> Option<(&'p str, &Declaration)> {
        let ends = path.rmatch_indices('.').map(|(at, _)| at);
        let mut at_or_above = std::iter::once(path.len()).chain(ends).map(|end| &path[..end]);
        at_or_above.find_map(|path| Some((path, self.facts.get(path)?)))
    }

    /// Returns every path that is declared or reported.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        self.facts.keys().map(String::as_str).chain(self.reported.iter().flatten().map(String::as_str))
    }
}

/// Reads a moment as a source writes it: RFC 3339, or without an offset and then in `zone`.
///
/// A space may stand for the `T`, seconds may be left out, and a bare day is its midnight.
pub fn parse_collected(text: &str, zone: &TimeZone) -> Option<jiff::Timestamp> {
    let text = text.trim();
    match parse_date_time(text) {
        Some(DateTime::At(moment, _)) => return Some(moment),
        Some(DateTime::Local(local)) => return zone.to_timestamp(local).ok(),
        None => {}
    }
    let local: jiff::civil::DateTime = text.parse().ok()?;
    zone.to_timestamp(local).ok()
}

impl Encode for FactType {
    fn encode(&self, to: &mut Canonical) {
        self.as_str().encode(to);
    }
}

impl Encode for ReadAs {
    fn encode(&self, to: &mut Canonical) {
        to.add(&self.ty).add(&self.unit.as_deref());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_that_is_not_of_its_type_is_wrong_and_never_guessed() {
        let wrong = |ty: FactType, value: Value<'static>| {
            matches!(ty.read(value, "f"), Value::Unknown(Unknown { reason: Reason::WrongType, fact: "f" }))
        };
        assert!(wrong(FactType::Number, Value::Text("12")));
        assert!(wrong(FactType::Version, Value::Text("latest")));
        assert!(wrong(FactType::Instant, Value::Text("2027-03-01T10:00:00")));
        assert!(wrong(FactType::Boolean, Value::Text("true")));
        assert!(matches!(FactType::Version.read(Value::Text("13"), "f"), Value::Version("13")));
        assert!(matches!(FactType::Number.read(Value::Null, "f"), Value::Null));
    }

    #[test]
    fn a_text_that_names_its_unit_is_a_number_in_another() {
        let read = |text: &'static str, unit: Option<&str>| {
            ReadAs { ty: FactType::Number, unit: unit.map(Into::into) }.read(Value::Text(text), "f").show()
        };
        assert_eq!(read("12 GB", Some("B")), "12000000000");
        assert_eq!(read("1.5GiB", Some("MiB")), "1536");
        assert_eq!(read(" 90 s ", Some("min")), "1.5");
        assert_eq!(read("-5 %", Some("1")), "-0.05");
        for (text, unit) in [
            ("12", Some("B")),
            ("12 GB", None),
            ("12 GB", Some("s")),
            ("12 furlongs", Some("B")),
            ("GB", Some("B")),
            ("1,5 GB", Some("B")),
        ] {
            assert_eq!(read(text, unit), "wrong type", "{text}");
        }
    }

    #[test]
    fn units_of_one_kind_are_turned_and_others_refused() {
        assert_eq!(Conversion::between("GB", "B").unwrap().apply(Decimal::TWO), Some(Decimal::from(2_000_000_000_i64)));
        assert_eq!(Conversion::between("MiB", "GiB").unwrap().apply(Decimal::from(1536)), Some(Decimal::new(15, 1)));
        assert_eq!(Conversion::between("TB", "B").unwrap().apply(Decimal::MAX), None);
        assert!(Conversion::between("GB", "s").unwrap_err().contains("measures"));
        assert!(Conversion::between("furlong", "B").unwrap_err().contains("unknown unit"));
    }
}
