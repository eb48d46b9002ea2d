//! What the values of a column look like: yes or no, versions, moments, numbers and how they are written, addresses.

use std::collections::BTreeMap;
use std::net::IpAddr;

use fencepost_core::{Conversion, DateTime as CoreDateTime, is_version, parse_date_time};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::fmt::strtime;
use jiff::tz::TimeZone;
use rust_decimal::Decimal;
use serde_json::Value as Json;

use super::words::{MISSING, NUMBER_NAMES, WHEN, YES_NO, has_word, tokens, unit_in};
use crate::records::plain_number;
use crate::workspace::NumberMarks;

/// How times are written in exports, besides RFC 3339 and ISO 8601; the same with year of two digits.
const TIME_FORMATS: [&str; 26] = [
    "%d.%m.%Y %H:%M:%S",
    "%d.%m.%Y %H:%M",
    "%d.%m.%Y",
    "%d/%m/%Y %H:%M:%S",
    "%d/%m/%Y %H:%M",
    "%d/%m/%Y",
    "%m/%d/%Y %H:%M:%S",
    "%m/%d/%Y %H:%M",
    "%m/%d/%Y",
    "%d/%m/%Y %I:%M:%S %p",
    "%m/%d/%Y %I:%M:%S %p",
    "%m/%d/%Y %I:%M %p",
    "%d-%m-%Y %H:%M:%S",
    "%d-%m-%Y %H:%M",
    "%d-%m-%Y",
    "%Y/%m/%d %H:%M:%S",
    "%Y/%m/%d %H:%M",
    "%Y/%m/%d",
    "%Y.%m.%d %H:%M",
    "%Y.%m.%d",
    "%d.%m.%y %H:%M",
    "%d.%m.%y",
    "%d/%m/%y",
    "%m/%d/%y",
    "%d %b %Y",
    "%b %d, %Y",
];

/// How the values of a column read as moments.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Times {
    /// RFC 3339, with an offset.
    Instants,
    /// ISO 8601 without an offset.
    Local,
    /// Seconds or milliseconds since 1970.
    Since1970,
    /// By a pattern; a second one reads them as well.
    Pattern(&'static str, Option<&'static str>),
}

impl Times {
    /// Returns whether they have a time of day.
    pub fn has_time_of_day(&self) -> bool {
        match self {
            Self::Instants | Self::Local | Self::Since1970 => true,
            Self::Pattern(pattern, _) => pattern.contains(":%M"),
        }
    }

    /// Reads one of them.
    pub fn read(&self, text: &str, zone: &TimeZone) -> Option<Timestamp> {
        match self {
            Self::Instants => text.parse().ok(),
            Self::Local => zone.to_timestamp(text.parse::<DateTime>().ok()?).ok(),
            Self::Since1970 => {
                let number: f64 = text.parse().ok()?;
                let seconds = if number > 1e11 { number / 1000.0 } else { number };
                #[expect(clippy::cast_possible_truncation, reason = "a part of a second does not matter here")]
                Timestamp::from_second(seconds as i64).ok()
            }
            Self::Pattern(pattern, _) => {
                let parts = strtime::parse(pattern, text).ok()?;
                let local = parts.to_datetime().or_else(|_| parts.to_date().map(DateTime::from)).ok()?;
                zone.to_timestamp(local).ok()
            }
        }
    }
}

/// How numbers are written.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct NumberForm {
    pub marks: NumberMarks,
    /// Another way reads them as well, to other numbers.
    pub or: Option<NumberMarks>,
    /// They are texts, and no numbers of JSON.
    pub texts: bool,
}

/// What the values of a column are.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) enum Looks {
    /// JSON's own booleans.
    Boolean,
    /// Words for yes and no: those seen that mean true and false.
    Words { yes: Vec<String>, no: Vec<String> },
    /// Versions.
    Version,
    /// Calendar days, ISO 8601.
    Date,
    /// Times of no day: `06:00`.
    TimeOfDay,
    /// Moments, or days written by a pattern.
    Times(Times),
    /// Numbers.
    Number(NumberForm),
    /// Numbers that name their unit, `7.5 GiB`; the unit that they are kept in.
    Measure(&'static str, NumberForm),
    /// A list; the field by which its items may be told apart.
    List { key: Option<String> },
    /// Addresses of a network.
    Address,
    /// Any text.
    #[default]
    Text,
}

impl Looks {
    /// Returns what several of them are called; nothing of plain text.
    pub fn noun(&self) -> Option<&'static str> {
        match self {
            Self::Boolean | Self::Words { .. } => Some("yes or no"),
            Self::Version => Some("versions"),
            Self::Date => Some("days"),
            Self::TimeOfDay => Some("times"),
            Self::Times(times) => Some(if times.has_time_of_day() { "moments" } else { "days" }),
            Self::Number(_) => Some("numbers"),
            Self::Measure(..) => Some("numbers with units"),
            Self::List { .. } => Some("lists"),
            Self::Address => Some("addresses"),
            Self::Text => None,
        }
    }
}

/// What a column looks like, with the values that do not.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Seen {
    pub looks: Looks,
    /// Words that say that nothing was collected, each with how often.
    pub missing: BTreeMap<String, usize>,
    /// Other values that look otherwise, each with how often.
    pub odd: BTreeMap<String, usize>,
}

/// Of so many values one may look otherwise.
const ONE_ODD_IN: usize = 5;

/// Finds out what the values of a column look like; empty ones are left out.
pub(super) fn look_at(name: &str, values: &[&Json]) -> Seen {
    let all = |is: fn(&Json) -> bool| !values.is_empty() && values.iter().all(|value| is(value));
    let plain = |looks| Seen { looks, missing: BTreeMap::new(), odd: BTreeMap::new() };
    if all(Json::is_boolean) {
        return plain(Looks::Boolean);
    }
    if all(Json::is_array) {
        return plain(Looks::List { key: list_key(values) });
    }
    if all(Json::is_number) {
        let moments = has_word(name, &WHEN) && values.iter().all(|value| is_since_1970(&value.to_string()));
        let form = NumberForm { marks: NumberMarks::default(), or: None, texts: false };
        return plain(if moments { Looks::Times(Times::Since1970) } else { Looks::Number(form) });
    }
    if !all(Json::is_string) {
        return plain(Looks::Text);
    }
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for text in values.iter().filter_map(|value| value.as_str()) {
        *counts.entry(text.trim().to_owned()).or_default() += 1;
    }
    let is_missing = |text: &String| MISSING.contains(&text.to_lowercase().as_str());
    let (missing, said): (BTreeMap<_, _>, BTreeMap<_, _>) = counts.into_iter().partition(|(text, _)| is_missing(text));
    let texts: Vec<&str> = said.keys().map(String::as_str).collect();
    if texts.is_empty() {
        return plain(Looks::Text);
    }
    if let Some(looks) = of_all(name, &texts) {
        return Seen { looks, missing, odd: BTreeMap::new() };
    }
    // One value in a few may be a slip; more are another kind of column.
    let whole: usize = said.values().sum();
    let mostly = [words_of as fn(&str, &[&str]) -> Option<Looks>, number_of, times_of, versions_of];
    for kind in mostly {
        let fits: Vec<&str> = texts.iter().copied().filter(|text| kind(name, &[text]).is_some()).collect();
        let odd: BTreeMap<String, usize> = said
            .iter()
            .filter(|(text, _)| !fits.contains(&text.as_str()))
            .map(|(text, count)| (text.clone(), *count))
            .collect();
        let odd_count: usize = odd.values().sum();
        if odd_count * ONE_ODD_IN <= whole
            && odd_count < whole
            && let Some(looks) = kind(name, &fits)
        {
            return Seen { looks, missing, odd };
        }
    }
    // What says nothing in a column of words may be one of them.
    plain(Looks::Text)
}

/// Returns what all texts look like.
fn of_all(name: &str, texts: &[&str]) -> Option<Looks> {
    let kinds =
        [words_of as fn(&str, &[&str]) -> Option<Looks>, addresses_of, times_of, versions_of, number_of, measure_of];
    kinds.iter().find_map(|kind| kind(name, texts))
}

/// Words for yes and no, of one pair.
fn words_of(_: &str, texts: &[&str]) -> Option<Looks> {
    let lower: Vec<(String, &str)> = texts.iter().map(|text| (text.to_lowercase(), *text)).collect();
    let fits = |(yes, no): &&(&str, &str)| lower.iter().all(|(word, _)| word == yes || word == no);
    let mut pairs = YES_NO.iter().filter(fits);
    let (yes_word, no_word) = pairs.next()?;
    let of = |wanted: &str| -> Vec<String> {
        lower.iter().filter(|(word, _)| word == wanted).map(|(_, text)| (*text).to_owned()).collect()
    };
    Some(Looks::Words { yes: of(yes_word), no: of(no_word) })
}

fn addresses_of(name: &str, texts: &[&str]) -> Option<Looks> {
    let all = !says_version(name) && texts.iter().all(|text| text.parse::<IpAddr>().is_ok());
    all.then_some(Looks::Address)
}

fn times_of(name: &str, texts: &[&str]) -> Option<Looks> {
    let all = |is: &dyn Fn(&str) -> bool| !texts.is_empty() && texts.iter().all(|text| is(text));
    if all(&|text| matches!(parse_date_time(text), Some(CoreDateTime::At(..)))) {
        return Some(Looks::Times(Times::Instants));
    }
    if all(&|text| text.len() == 10 && text.parse::<jiff::civil::Date>().is_ok()) {
        return Some(Looks::Date);
    }
    if all(&|text| text.len() > 10 && text.parse::<DateTime>().is_ok()) {
        return Some(Looks::Times(Times::Local));
    }
    let is_time = |text: &str| (4..=8).contains(&text.len()) && text.contains(':');
    let reads_as_time = |text: &str| ["%H:%M", "%H:%M:%S"].iter().any(|format| strtime::parse(format, text).is_ok());
    if all(&|text| is_time(text) && reads_as_time(text)) {
        return Some(Looks::TimeOfDay);
    }
    if has_word(name, &WHEN) && all(&is_since_1970) {
        return Some(Looks::Times(Times::Since1970));
    }
    // `10.02.22` is a version where the heading says so.
    let mut patterns = TIME_FORMATS.iter().filter(|format| !(format.contains("%y") && says_version(name)));
    let fits = |format: &&&'static str| texts.iter().all(|text| reads(format, text));
    let first = patterns.find(fits)?;
    let second = patterns.find(|format| fits(format) && is_other_order(first, format));
    Some(Looks::Times(Times::Pattern(first, second.copied())))
}

/// Whether one pattern has day and month the other way round.
fn is_other_order(one: &str, other: &str) -> bool {
    let order = |format: &str| format.find("%d").cmp(&format.find("%m"));
    one.len() == other.len() && order(one) != order(other)
}

fn reads(format: &str, text: &str) -> bool {
    let two_digits = format.contains("%y");
    // Two digits of a year, and each other part with two, or 5.2.10 would be a day.
    if two_digits && text.split([' ', '.', '/']).take(3).any(|part| part.len() != 2) {
        return false;
    }
    strtime::parse(format, text)
        .is_ok_and(|parts| parts.to_date().is_ok_and(|date| (1970..2200).contains(&date.year())))
}

fn is_since_1970(text: &str) -> bool {
    text.parse::<f64>().is_ok_and(|number| {
        let years = 946_684_800.0..4_102_444_800.0;
        years.contains(&number) || years.contains(&(number / 1000.0))
    })
}

/// Whether a heading says that its values are versions.
pub(super) fn says_version(name: &str) -> bool {
    const WORDS: [&str; 10] = [
        "build",
        "release",
        "firmware",
        "bios",
        "os",
        "betriebssystem",
        "os_version",
        "patchlevel",
        "kernel",
        "wersja",
    ];
    let starts = ["ver", "vers"];
    tokens(name).iter().any(|token| {
        WORDS.contains(&token.as_str()) || starts.iter().any(|start| token.starts_with(start)) && token != "verified"
    })
}

fn versions_of(name: &str, texts: &[&str]) -> Option<Looks> {
    let dotted = texts.iter().filter(|text| text.matches('.').count() >= 2).count();
    let all = texts.iter().all(|text| is_version(text) && text.starts_with(|c: char| c.is_ascii_digit() || c == 'v'));
    let is_one = all && (dotted * 2 > texts.len() || says_version(name));
    (is_one && !texts.iter().all(|text| is_name_of_digits(text))).then_some(Looks::Version)
}

/// Whether digits are rather a name than a number: with a zero or a plus before them.
fn is_name_of_digits(text: &str) -> bool {
    text.starts_with('+') || (text.len() > 1 && text.starts_with('0') && text.bytes().all(|byte| byte.is_ascii_digit()))
}

/// Whether texts are long numbers of the same length, as serial numbers are.
fn are_serial_numbers(texts: &[&str]) -> bool {
    let first = texts.first().map_or(0, |text| text.len());
    let is_one = |text: &&str| text.len() == first && text.bytes().all(|byte| byte.is_ascii_digit());
    texts.len() > 1 && first >= 10 && texts.iter().all(is_one)
}

/// The ways in which numbers are written, the plain one first.
fn number_marks() -> [NumberMarks; 7] {
    let marks = |decimal, thousands| NumberMarks { decimal, thousands };
    [
        marks(None, None),
        marks(Some(','), None),
        marks(Some(','), Some('.')),
        marks(None, Some(',')),
        marks(Some(','), Some(' ')),
        marks(None, Some('\'')),
        marks(None, Some(' ')),
    ]
}

fn number_of(name: &str, texts: &[&str]) -> Option<Looks> {
    let is_name = texts.iter().any(|text| is_name_of_digits(text)) || has_word(name, &NUMBER_NAMES);
    if unit_in(name).is_none() && (is_name || are_serial_numbers(texts)) {
        return None;
    }
    number_form(texts).map(Looks::Number)
}

/// Returns how numbers are written, and whether another way would read them as other numbers.
fn number_form(texts: &[&str]) -> Option<NumberForm> {
    let read =
        |marks: NumberMarks| -> Option<Vec<Decimal>> { texts.iter().map(|text| plain_number(text, marks)).collect() };
    let mut ways = number_marks().into_iter().filter_map(|marks| Some((marks, read(marks)?)));
    let (marks, numbers) = ways.next()?;
    let or = ways.find(|(_, others)| *others != numbers).map(|(marks, _)| marks);
    Some(NumberForm { marks, or, texts: true })
}

/// Numbers that name their unit.
fn measure_of(_: &str, texts: &[&str]) -> Option<Looks> {
    const BASES: [&str; 4] = ["B", "s", "Hz", "%"];
    let mut numbers = Vec::with_capacity(texts.len());
    let mut base = None;
    for text in texts {
        let begins = text.find(|symbol: char| symbol.is_alphabetic() || symbol == '%')?;
        let (number, unit) = text.split_at(begins);
        let of_unit = BASES.into_iter().find(|base| Conversion::between(unit.trim(), base).is_ok())?;
        if *base.get_or_insert(of_unit) != of_unit {
            return None;
        }
        numbers.push(number.trim());
    }
    Some(Looks::Measure(base?, number_form(&numbers)?))
}

/// The field that is there in every item and different in each of a list.
fn list_key(values: &[&Json]) -> Option<String> {
    let lists: Vec<&Vec<Json>> =
        values.iter().filter_map(|value| value.as_array()).filter(|list| !list.is_empty()).collect();
    let first = lists.first()?.first()?.as_object()?;
    let good = |key: &&String| {
        lists.iter().all(|list| {
            let names: std::collections::BTreeSet<Option<&str>> =
                list.iter().map(|item| item.get(key.as_str()).and_then(Json::as_str)).collect();
            names.len() == list.len() && !names.contains(&None)
        })
    };
    first.keys().filter(good).min_by_key(|key| !matches!(key.as_str(), "name" | "id" | "mount" | "path")).cloned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(name: &str, values: &[&str]) -> Seen {
        let values: Vec<Json> = values.iter().map(|text| Json::from(*text)).collect();
        look_at(name, &values.iter().collect::<Vec<_>>())
    }

    fn looks(name: &str, values: &[&str]) -> Looks {
        seen(name, values).looks
    }

    fn words(yes: &[&str], no: &[&str]) -> Looks {
        let texts = |all: &[&str]| all.iter().map(|text| (*text).to_owned()).collect();
        Looks::Words { yes: texts(yes), no: texts(no) }
    }

    fn number(decimal: Option<char>, thousands: Option<char>, or: Option<(Option<char>, Option<char>)>) -> Looks {
        let or = or.map(|(decimal, thousands)| NumberMarks { decimal, thousands });
        Looks::Number(NumberForm { marks: NumberMarks { decimal, thousands }, or, texts: true })
    }

    #[test]
    fn words_for_yes_and_no_are_told_in_many_languages() {
        for (yes, no) in
            [("Ja", "Nein"), ("ja", "nee"), ("Oui", "Non"), ("Sí", "No"), ("Sim", "Não"), ("tak", "nie"), ("да", "нет")]
        {
            assert_eq!(looks("x", &[yes, no, yes]), words(&[yes], &[no]));
        }
        // Of one word alone the other is not known.
        assert_eq!(looks("x", &["Ja", "Ja"]), words(&["Ja"], &[]));
        assert_eq!(looks("x", &["yes", "no", "maybe", "never"]), Looks::Text);
        let mut values = vec!["Yes"; 9];
        values.push("perhaps");
        let found = seen("x", &values);
        assert_eq!((found.looks, found.odd.len()), (words(&["Yes"], &[]), 1));
        let found = seen("x", &["Ja", "Nei", "ukjent"]);
        assert_eq!((found.looks, found.missing.len()), (words(&["Ja"], &["Nei"]), 1));
    }

    #[test]
    fn versions_addresses_dates_and_names_of_digits_are_told_apart() {
        assert_eq!(looks("agent", &["5.2.0", "5.2.1"]), Looks::Version);
        assert_eq!(looks("x", &["10.0.22631", "14.4.1"]), Looks::Version);
        assert_eq!(looks("OS ver.", &["13", "12.1"]), Looks::Version);
        assert_eq!(looks("OS", &["14.1", "13.6"]), Looks::Version);
        assert_eq!(looks("Betriebssystem-Version", &["14.1", "13.6"]), Looks::Version);
        assert_eq!(looks("IP", &["10.0.0.12", "10.0.0.13"]), Looks::Address);
        assert_eq!(looks("v6", &["fe80::1", "10.0.0.13"]), Looks::Address);
        assert_eq!(looks("Bought", &["15.01.21", "02.11.19"]), Looks::Times(Times::Pattern("%d.%m.%y", None)));
        assert_eq!(looks("App version", &["15.01.21", "02.11.19"]), Looks::Version);
        assert_eq!(looks("Ext.", &["0012", "0417"]), Looks::Text);
        assert_eq!(looks("x", &["+47 55512345", "+47 55598765"]), Looks::Text);
        assert_eq!(looks("IMEI", &["356938035643809"]), Looks::Text);
        assert_eq!(looks("serial", &["1803974400"]), Looks::Text);
        assert_eq!(looks("Room", &["12", "13"]), Looks::Text);
        assert_eq!(looks("Site", &["Tern", "Fulmar"]), Looks::Text);
    }

    #[test]
    fn numbers_are_told_with_their_marks_or_left_open() {
        assert_eq!(looks("n", &["12.5", "3"]), number(None, None, None));
        assert_eq!(looks("n", &["12,5", "3,25"]), number(Some(','), None, None));
        assert_eq!(looks("n", &["1.234,5", "3"]), number(Some(','), Some('.'), None));
        assert_eq!(looks("n", &["1,234.5", "3"]), number(None, Some(','), None));
        assert_eq!(looks("n", &["1 234,5", "3"]), number(Some(','), Some(' '), None));
        // Three digits behind a mark are thousandths or thousands.
        assert_eq!(looks("n", &["1.234", "2.500"]), number(None, None, Some((Some(','), Some('.')))));
        assert_eq!(looks("n", &["1,234", "2,500"]), number(Some(','), None, Some((None, Some(',')))));
        let found = seen("n", &["81", "78", "44", "n/a"]);
        assert_eq!((found.looks, found.missing.get("n/a")), (number(None, None, None), Some(&1)));
        assert!(matches!(looks("mem", &["7.5 GiB", "16 GB"]), Looks::Measure("B", _)));
        assert!(
            matches!(looks("mem", &["7,5 GiB", "16 GB"]), Looks::Measure("B", form) if form.marks.decimal == Some(','))
        );
        assert_eq!(looks("x", &["7 GiB", "16 min"]), Looks::Text);
    }

    #[test]
    fn moments_are_told_with_the_order_of_day_and_month() {
        let pattern = |first, second| Looks::Times(Times::Pattern(first, second));
        assert_eq!(looks("t", &["2027-03-01T10:00:00+01:00"]), Looks::Times(Times::Instants));
        assert_eq!(looks("t", &["2027-03-01 10:00"]), Looks::Times(Times::Local));
        assert_eq!(looks("t", &["2027-03-01"]), Looks::Date);
        assert_eq!(looks("t", &["06:00", "17:30"]), Looks::TimeOfDay);
        assert_eq!(looks("t", &["28.02.2027 10:00"]), pattern("%d.%m.%Y %H:%M", None));
        assert_eq!(looks("t", &["02/03/2027"]), pattern("%d/%m/%Y", Some("%m/%d/%Y")));
        assert_eq!(looks("t", &["02/03/2027", "28/02/2027"]), pattern("%d/%m/%Y", None));
        assert_eq!(looks("t", &["02/28/2027"]), pattern("%m/%d/%Y", None));
        assert_eq!(looks("t", &["3/14/2027 6:10:00 PM"]), pattern("%m/%d/%Y %I:%M:%S %p", None));
        assert_eq!(looks("seen_at", &["1803974400"]), Looks::Times(Times::Since1970));
    }
}
