//! What the columns of a sample look like: which could name the device, say when, be a yes or no, a version, a number with a unit.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Dictionary, Leaf, PathWords, is_version, parse_date_time};
use jiff::civil::DateTime;
use serde_json::{Map, Value as Json};

use crate::secret::holds_secret;

/// How times are written in exports, besides RFC 3339 and ISO 8601.
const TIME_FORMATS: [&str; 12] = [
    "%d.%m.%Y %H:%M:%S",
    "%d.%m.%Y %H:%M",
    "%d.%m.%Y",
    "%d/%m/%Y %H:%M:%S",
    "%d/%m/%Y %H:%M",
    "%d/%m/%Y",
    "%m/%d/%Y %H:%M:%S",
    "%m/%d/%Y %H:%M",
    "%m/%d/%Y",
    "%m/%d/%Y %I:%M:%S %p",
    "%Y/%m/%d %H:%M:%S",
    "%Y/%m/%d %H:%M",
];

/// Pairs of words for yes and no, in lower case.
const WORDS: [(&str, &str); 16] = [
    ("yes", "no"),
    ("y", "n"),
    ("true", "false"),
    ("on", "off"),
    ("enabled", "disabled"),
    ("active", "inactive"),
    ("ja", "nei"),
    ("ja", "nein"),
    ("ja", "nej"),
    ("ja", "nee"),
    ("oui", "non"),
    ("si", "no"),
    ("sí", "no"),
    ("sim", "não"),
    ("encrypted", "not encrypted"),
    ("passed", "failed"),
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

/// What the values of a column are.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Looks {
    /// JSON's own booleans.
    Boolean,
    /// Words for yes and no: those seen that mean true and false, and what else was seen.
    Words { yes: Vec<String>, no: Vec<String>, other: Vec<String> },
    /// Versions.
    Version,
    /// Calendar days.
    Date,
    /// Moments.
    Times(Times),
    /// Numbers; of texts, those that could not be read as one.
    Number { texts: bool, odd: Vec<String> },
    /// A list; the field by which its items may be told apart.
    List { key: Option<String> },
    /// Any text.
    Text,
}

/// One column of a sample, or the path of a field.
#[derive(Clone, Debug)]
pub(super) struct SampledColumn {
    /// Its heading, or its path.
    pub name: String,
    /// Records in which it says something.
    pub filled: usize,
    /// How many different values it has.
    pub distinct: usize,
    /// The first different values, as shown.
    pub shown: Vec<String>,
    /// What they look like.
    pub looks: Looks,
    /// The unit that its name ends in.
    pub unit: Option<&'static str>,
    /// Its name says that it is a secret.
    pub secret: bool,
}

pub(super) fn columns_of(records: &[Map<String, Json>]) -> Vec<SampledColumn> {
    let mut names: Vec<String> = Vec::new();
    let mut values: BTreeMap<String, Vec<&Json>> = BTreeMap::new();
    for record in records {
        for (key, value) in record {
            gather(key, value, 0, &mut names, &mut values);
        }
    }
    names
        .into_iter()
        .map(|name| {
            let values = values.remove(&name).unwrap_or_default();
            column(name, &values)
        })
        .collect()
}

fn gather<'j>(
    path: &str,
    value: &'j Json,
    depth: usize,
    names: &mut Vec<String>,
    values: &mut BTreeMap<String, Vec<&'j Json>>,
) {
    match value {
        Json::Object(fields) if depth < 8 && !fields.is_empty() => {
            for (key, value) in fields {
                gather(&format!("{path}.{key}"), value, depth + 1, names, values);
            }
        }
        value => {
            let known = values.entry(path.to_owned()).or_insert_with(|| {
                names.push(path.to_owned());
                Vec::new()
            });
            let empty = value.is_null() || value.as_str().is_some_and(|text| text.trim().is_empty());
            if !empty {
                known.push(value);
            }
        }
    }
}

fn column(name: String, values: &[&Json]) -> SampledColumn {
    let texts: BTreeSet<String> = values
        .iter()
        .map(|value| value.as_str().map_or_else(|| value.to_string(), |text| text.trim().to_owned()))
        .collect();
    let mut shown: Vec<String> = Vec::new();
    for value in values {
        let text = value.as_str().map_or_else(|| value.to_string(), |text| text.trim().to_owned());
        if shown.len() < 3 && !shown.contains(&text) {
            shown.push(text);
        }
    }
    let secret = values.iter().any(|value| holds_secret(PathWords::of(&name), value));
    if secret || shown.iter().any(|text| states_secret(text)) {
        shown.clear();
    }
    SampledColumn {
        filled: values.len(),
        distinct: texts.len(),
        looks: looks(&name, values, &texts),
        unit: unit_in(&name),
        secret,
        shown,
        name,
    }
}

/// Whether a text states a secret as a setting does, whatever column it stands in: `password = ..`, `token: ..`.
fn states_secret(text: &str) -> bool {
    text.split_once(['=', ':'])
        .is_some_and(|(name, value)| PathWords::of(name).hide(Leaf::Text(value)) && !value.trim().is_empty())
}

fn looks(name: &str, values: &[&Json], texts: &BTreeSet<String>) -> Looks {
    let all = |is: fn(&Json) -> bool| !values.is_empty() && values.iter().all(|value| is(value));
    if all(Json::is_boolean) {
        return Looks::Boolean;
    }
    if all(Json::is_array) {
        return Looks::List { key: list_key(values) };
    }
    if all(Json::is_number) {
        let moments = says_when(name) && values.iter().all(|value| is_since_1970(&value.to_string()));
        return if moments { Looks::Times(Times::Since1970) } else { Looks::Number { texts: false, odd: Vec::new() } };
    }
    if !all(Json::is_string) || texts.is_empty() {
        return Looks::Text;
    }
    if let Some(words) = words(texts) {
        return words;
    }
    if texts.iter().all(|text| matches!(parse_date_time(text), Some(fencepost_core::DateTime::At(..)))) {
        return Looks::Times(Times::Instants);
    }
    if texts.iter().all(|text| text.len() == 10 && text.parse::<jiff::civil::Date>().is_ok()) {
        return Looks::Date;
    }
    if texts.iter().all(|text| text.len() > 10 && text.parse::<DateTime>().is_ok()) {
        return Looks::Times(Times::Local);
    }
    let fits = |format: &&&'static str| texts.iter().all(|text| reads(format, text));
    let mut patterns = TIME_FORMATS.iter().filter(fits);
    if let Some(pattern) = patterns.next() {
        return Looks::Times(Times::Pattern(pattern, patterns.next().copied()));
    }
    if says_when(name) && texts.iter().all(|text| is_since_1970(text)) {
        return Looks::Times(Times::Since1970);
    }
    let numbers = texts.iter().filter(|text| is_number(text)).count();
    let dotted = texts.iter().filter(|text| text.matches('.').count() >= 2).count();
    let says_version =
        tokens(name).iter().any(|token| token.starts_with("ver") || token == "build" || token == "release");
    if texts.iter().all(|text| is_version(text)) && (dotted * 2 > texts.len() || says_version) {
        return Looks::Version;
    }
    if numbers * 10 >= texts.len() * 8 && numbers > 0 {
        let odd = texts.iter().filter(|text| !is_number(text)).take(3).cloned().collect();
        return Looks::Number { texts: true, odd };
    }
    Looks::Text
}

fn reads(format: &str, text: &str) -> bool {
    // A year has four digits here, or 5.2.0 would be a day.
    jiff::fmt::strtime::parse(format, text)
        .is_ok_and(|parts| parts.to_date().is_ok_and(|date| (1970..2200).contains(&date.year())))
}

fn is_number(text: &str) -> bool {
    text.parse::<rust_decimal::Decimal>().is_ok()
}

fn is_since_1970(text: &str) -> bool {
    text.parse::<f64>().is_ok_and(|number| {
        let years = 946_684_800.0..4_102_444_800.0;
        years.contains(&number) || years.contains(&(number / 1000.0))
    })
}

fn words(texts: &BTreeSet<String>) -> Option<Looks> {
    let lower: Vec<(String, &String)> = texts.iter().map(|text| (text.to_lowercase(), text)).collect();
    let (yes_words, no_words) = WORDS
        .iter()
        .filter(|(yes, no)| {
            let said = lower.iter().filter(|(word, _)| word == yes || word == no).count();
            said > 0 && lower.len() - said <= 2
        })
        // Of pairs that share a word the one that explains more.
        .max_by_key(|(yes, no)| lower.iter().filter(|(word, _)| word == yes || word == no).count())?;
    let of = |wanted: &str| -> Vec<String> {
        lower.iter().filter(|(word, _)| word == wanted).map(|(_, text)| (*text).clone()).collect()
    };
    let (yes, no) = (of(yes_words), of(no_words));
    let other = texts.iter().filter(|text| !yes.contains(text) && !no.contains(text)).cloned().collect();
    // What was not seen can still come.
    let told = |seen: Vec<String>, word: &str| {
        if seen.is_empty() { vec![word.to_owned()] } else { seen }
    };
    Some(Looks::Words { yes: told(yes, yes_words), no: told(no, no_words), other })
}

/// The field that is there in every item and different in each of a list.
fn list_key(values: &[&Json]) -> Option<String> {
    let lists: Vec<&Vec<Json>> =
        values.iter().filter_map(|value| value.as_array()).filter(|list| !list.is_empty()).collect();
    let first = lists.first()?.first()?.as_object()?;
    let good = |key: &&String| {
        lists.iter().all(|list| {
            let names: BTreeSet<Option<&str>> =
                list.iter().map(|item| item.get(key.as_str()).and_then(Json::as_str)).collect();
            names.len() == list.len() && !names.contains(&None)
        })
    };
    first.keys().filter(good).min_by_key(|key| !matches!(key.as_str(), "name" | "id" | "mount" | "path")).cloned()
}

/// Returns the words of a heading in lower case, `osVersion (GB)` gives os, version, gb.
pub(super) fn tokens(name: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut lower_before = false;
    for c in name.chars() {
        if c.is_alphanumeric() {
            if all.is_empty() || (c.is_uppercase() && lower_before) {
                all.push(String::new());
            }
            if let Some(last) = all.last_mut() {
                last.extend(c.to_lowercase());
            }
            lower_before = c.is_lowercase() || c.is_numeric();
        } else {
            if all.last().is_some_and(|last| !last.is_empty()) {
                all.push(String::new());
            }
            lower_before = false;
        }
    }
    all.retain(|token| !token.is_empty());
    all
}

/// Whether a name speaks of a moment.
pub(super) fn says_when(name: &str) -> bool {
    const WHEN: [&str; 16] = [
        "time",
        "date",
        "when",
        "at",
        "seen",
        "collected",
        "exported",
        "updated",
        "modified",
        "timestamp",
        "checkin",
        "sync",
        "synced",
        "scan",
        "scanned",
        "reported",
    ];
    tokens(name).iter().any(|token| WHEN.contains(&token.as_str()))
}

/// The unit in which a name says that its numbers are: in brackets, or as its last word.
fn unit_in(name: &str) -> Option<&'static str> {
    const UNITS: [(&str, &str); 24] = [
        ("B", "B"),
        ("bytes", "B"),
        ("kB", "kB"),
        ("KB", "kB"),
        ("MB", "MB"),
        ("GB", "GB"),
        ("TB", "TB"),
        ("KiB", "KiB"),
        ("MiB", "MiB"),
        ("GiB", "GiB"),
        ("TiB", "TiB"),
        ("ms", "ms"),
        ("s", "s"),
        ("sec", "s"),
        ("seconds", "s"),
        ("min", "min"),
        ("minutes", "min"),
        ("h", "h"),
        ("hours", "h"),
        ("d", "d"),
        ("days", "d"),
        ("%", "%"),
        ("percent", "%"),
        ("pct", "%"),
    ];
    let bracketed = name.rfind(['(', '[']).and_then(|at| name[at + 1..].trim_end().strip_suffix([')', ']']));
    let last = name.trim_end_matches([')', ']', '.']).rsplit([' ', '_', '.', '(', '[', '-']).next();
    // A single letter is a unit in brackets alone.
    let is = |text: &str, brackets: bool| {
        UNITS.iter().find(|(word, _)| *word == text.trim() && (brackets || word.len() > 1)).map(|(_, unit)| *unit)
    };
    bracketed.and_then(|text| is(text, true)).or_else(|| last.and_then(|text| is(text, false)))
}

/// Returns the fact that a column is probably about: one that is declared, or a name made of its words.
pub(super) fn fact_for(column: &SampledColumn, dictionary: &Dictionary) -> (String, bool) {
    const SAME: [(&str, &str); 12] = [
        ("ver", "version"),
        ("operating", "os"),
        ("encryption", "encrypted"),
        ("freespace", "free"),
        ("space", "free"),
        ("owner", "ownership"),
        ("user", "person"),
        ("username", "person"),
        ("holder", "person"),
        ("issued", "person"),
        ("assigned", "person"),
        ("mins", "minutes"),
    ];
    const NOISE: [&str; 10] = ["to", "is", "the", "of", "no", "nr", "system", "status", "state", "device"];
    let plain =
        |token: String| SAME.iter().find(|(one, _)| *one == token).map_or(token, |(_, same)| (*same).to_owned());
    let words: BTreeSet<String> = tokens(&column.name)
        .into_iter()
        .map(plain)
        .filter(|word| {
            !NOISE.contains(&word.as_str())
                && unit_in(&format!("({word})")).is_none()
                && column.unit.is_none_or(|unit| unit.to_lowercase() != *word)
        })
        .collect();
    let known = dictionary
        .facts
        .keys()
        .filter_map(|path| {
            let parts: BTreeSet<String> =
                tokens(path).into_iter().filter(|part| part != "bytes" && part != "minutes").collect();
            let shared = parts.intersection(&words).count();
            let foreign = words.difference(&parts).count();
            let last: BTreeSet<String> = tokens(path.rsplit('.').next().unwrap_or(path)).into_iter().collect();
            let says_last = last.intersection(&words).count() > 0 || path == &column.name;
            (shared > 0 && foreign == 0 && says_last).then_some((shared * 2, std::cmp::Reverse(parts.len()), path))
        })
        .max();
    if let Some((_, _, path)) = known {
        return (path.clone(), true);
    }
    // A path that is written as one stays as it is.
    let is_path = column
        .name
        .split('.')
        .all(|part| !part.is_empty() && part.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_'));
    if is_path {
        return (column.name.clone(), false);
    }
    let mut all = tokens(&column.name);
    if column.unit.is_some() && all.len() > 1 {
        all.pop();
    }
    (all.join("_"), false)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(name: &str, values: &[&str]) -> SampledColumn {
        let values: Vec<Json> = values.iter().map(|text| Json::from(*text)).collect();
        column(name.to_owned(), &values.iter().collect::<Vec<_>>())
    }

    #[test]
    fn values_are_told_by_their_looks_alone() {
        let looks = |name: &str, values: &[&str]| of(name, values).looks;
        assert_eq!(
            looks("Encrypted?", &["Ja", "Nei", "ukjent"]),
            Looks::Words { yes: vec!["Ja".into()], no: vec!["Nei".into()], other: vec!["ukjent".into()] }
        );
        assert_eq!(
            looks("x", &["Yes"]),
            Looks::Words { yes: vec!["Yes".into()], no: vec!["no".into()], other: vec![] }
        );
        assert_eq!(looks("OS ver.", &["13", "12.1"]), Looks::Version);
        assert_eq!(
            looks("size", &["13", "12.1", "7,5", "1", "2", "3", "4", "5"]),
            Looks::Number { texts: true, odd: vec!["7,5".into()] }
        );
        assert_eq!(looks("x", &["10.0.22631", "14.4.1"]), Looks::Version);
        assert_eq!(looks("agent", &["5.2.0", "5.2.1"]), Looks::Version);
        assert_eq!(looks("Site", &["Tern", "Fulmar"]), Looks::Text);
        assert_eq!(looks("t", &["2027-03-01T10:00:00+01:00"]), Looks::Times(Times::Instants));
        assert_eq!(looks("t", &["2027-03-01 10:00"]), Looks::Times(Times::Local));
        assert_eq!(looks("t", &["2027-03-01"]), Looks::Date);
        assert_eq!(looks("t", &["28.02.2027 10:00"]), Looks::Times(Times::Pattern("%d.%m.%Y %H:%M", None)));
        assert_eq!(looks("t", &["02/03/2027"]), Looks::Times(Times::Pattern("%d/%m/%Y", Some("%m/%d/%Y"))));
        assert_eq!(looks("t", &["02/28/2027"]), Looks::Times(Times::Pattern("%m/%d/%Y", None)));
        assert_eq!(looks("seen_at", &["1803974400"]), Looks::Times(Times::Since1970));
        assert_eq!(looks("serial", &["1803974400"]), Looks::Number { texts: true, odd: vec![] });
        assert!(of("password", &["hunter2"]).shown.is_empty());
    }

    #[test]
    fn units_stand_at_the_end_of_names() {
        for (name, unit) in [
            ("Free (GB)", Some("GB")),
            ("free_bytes", Some("B")),
            ("Lock after (min)", Some("min")),
            ("idle minutes", Some("min")),
            ("Battery [%]", Some("%")),
            ("Class B", None),
            ("Uptime (d)", Some("d")),
            ("Platform", None),
        ] {
            assert_eq!(unit_in(name), unit, "{name}");
        }
    }

    #[test]
    fn columns_go_to_the_facts_that_are_declared() {
        let mut dictionary = Dictionary::default();
        for path in ["os.version", "disk.free_bytes", "disk.encrypted", "lock.idle_minutes", "model", "agent.version"] {
            dictionary.facts.insert(path.into(), fencepost_core::Declaration::default());
        }
        let fact = |name: &str| fact_for(&of(name, &["1"]), &dictionary).0;
        assert_eq!(fact("OS ver."), "os.version");
        assert_eq!(fact("osVersion"), "os.version");
        assert_eq!(fact("Disk free (GB)"), "disk.free_bytes");
        assert_eq!(fact("Free (GB)"), "disk.free_bytes");
        assert_eq!(fact("Encrypted?"), "disk.encrypted");
        assert_eq!(fact("Model"), "model");
        assert_eq!(fact("Shoe size (GB)"), "shoe_size");
        assert_eq!(fact("net.address"), "net.address");
    }
}
