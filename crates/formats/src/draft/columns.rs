//! The columns of a sample, and which of them name the device, say when, and name holders.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use fencepost_core::{Dictionary, Leaf, PathWords};
use serde_json::{Map, Value as Json};

use super::looks::{Looks, Seen, look_at};
use super::words::{COLLECTED, DEVICE, HOLDER, PERSON, SAME, SECRETS, WHEN, has_word, score, tokens, unit_in};
use super::{DraftFor, PeopleList};
use crate::secret::holds_secret;

/// One column of a sample, or the path of a field.
#[derive(Clone, Debug)]
pub(super) struct SampledColumn {
    /// Its heading, or its path.
    pub name: String,
    /// Records in which it says something.
    pub filled: usize,
    /// Its different values, as texts, each with how often.
    pub values: BTreeMap<String, usize>,
    /// The first different values, as shown; none of a secret.
    pub shown: Vec<String>,
    /// What they look like.
    pub seen: Seen,
    /// The unit that its name ends in.
    pub unit: Option<&'static str>,
    /// Its name says that it is a secret.
    pub secret: bool,
}

impl SampledColumn {
    /// Returns how many different values it has.
    pub fn distinct(&self) -> usize {
        self.values.len()
    }

    /// Returns in how many records it says one of some values.
    fn among(&self, known: &HashSet<String>) -> usize {
        self.values.iter().filter(|(text, _)| known.contains(*text)).map(|(_, count)| count).sum()
    }
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
    let text_of = |value: &Json| value.as_str().map_or_else(|| value.to_string(), |text| text.trim().to_owned());
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    let mut shown: Vec<String> = Vec::new();
    for value in values {
        let text = text_of(value);
        if shown.len() < 3 && !shown.contains(&text) {
            shown.push(text.clone());
        }
        *counts.entry(text).or_default() += 1;
    }
    let is_boolean = values.iter().all(|value| value.is_boolean());
    let secret = values.iter().any(|value| holds_secret(PathWords::of(&name), value))
        || has_word(&name, &SECRETS) && !is_boolean;
    let mut seen = look_at(&name, values);
    if secret {
        seen = Seen { looks: Looks::Text, ..Seen::default() };
    }
    if secret || counts.keys().any(|text| states_secret(text)) {
        shown.clear();
    }
    SampledColumn { filled: values.len(), seen, unit: unit_in(&name), values: counts, secret, shown, name }
}

/// Whether a text states a secret as a setting does, whatever column it stands in: `password = ..`, `token: ..`.
fn states_secret(text: &str) -> bool {
    text.split_once(['=', ':'])
        .is_some_and(|(name, value)| PathWords::of(name).hide(Leaf::Text(value)) && !value.trim().is_empty())
}

/// A column that was chosen, and why.
#[derive(Clone, Debug)]
pub(super) struct Chosen<'c> {
    pub column: &'c SampledColumn,
    /// Why, in words.
    pub because: String,
    /// Others that could have been it.
    pub others: Vec<&'c str>,
}

/// Fewer records than this tell nothing by their values alone.
const FEW: usize = 5;

/// Finds the column that names each record: known devices, then its heading, then that it alone is different in every record.
pub(super) fn id_column<'c>(
    columns: &'c [SampledColumn],
    records: usize,
    of_people: bool,
    context: &DraftFor<'_>,
) -> Option<Chosen<'c>> {
    let is_name = |column: &&SampledColumn| {
        !column.secret && matches!(column.seen.looks, Looks::Text | Looks::Number(_) | Looks::Address)
    };
    let is_full = |column: &&SampledColumn| column.filled * 10 >= records * 8;
    let is_unique = |column: &&SampledColumn| column.distinct() * 10 >= column.filled * 9;
    let full: Vec<&SampledColumn> = columns.iter().filter(is_name).filter(is_full).collect();
    if !of_people {
        let known = |column: &&&SampledColumn| column.among(context.devices);
        if let Some(best) = full.iter().max_by_key(known)
            && known(&best) * 2 > best.filled
        {
            let because = format!("{} of {} are devices that are known", known(&best), best.filled);
            return Some(Chosen { column: best, because, others: Vec::new() });
        }
    }
    if of_people && let Some(chosen) = named_by_devices(&full, context) {
        return Some(chosen);
    }
    let words: &[(&str, u32)] = if of_people { &PERSON } else { &DEVICE };
    let unique: Vec<&SampledColumn> = full.iter().copied().filter(is_unique).collect();
    // `id` before `parent id`: the fewer other words, the better.
    let rank = |column: &&&SampledColumn| (score(&column.name, words), std::cmp::Reverse(tokens(&column.name).len()));
    let different = |column: &SampledColumn| format!("{} different in {records} records", column.distinct());
    if let Some(best) = unique.iter().filter(|column| score(&column.name, words) > 0).rev().max_by_key(rank) {
        let others = unique.iter().filter(|column| score(&column.name, words) > 0 && column.name != best.name);
        let others = others.map(|column| column.name.as_str()).take(3).collect();
        return Some(Chosen { column: best, because: different(best), others });
    }
    match unique.as_slice() {
        [only] if records >= FEW && matches!(only.seen.looks, Looks::Text) => {
            let because = format!("the only column that is different in every record: {}", different(only));
            Some(Chosen { column: only, because, others: Vec::new() })
        }
        _ => None,
    }
}

/// Finds the column of a list of people by which devices name their holders.
fn named_by_devices<'c>(full: &[&'c SampledColumn], context: &DraftFor<'_>) -> Option<Chosen<'c>> {
    let named = |column: &SampledColumn| column.values.keys().filter(|text| context.holders.contains(*text)).count();
    let best = full.iter().max_by_key(|column| named(column))?;
    let known = named(best);
    (known > 0 && known * 2 >= context.holders.len().min(best.distinct())).then(|| Chosen {
        column: best,
        because: format!("devices name {known} of its {} as holders", best.distinct()),
        others: Vec::new(),
    })
}

/// Which columns say when a record was collected.
#[derive(Clone, Debug)]
pub(super) enum TimeColumns<'c> {
    /// One does.
    One(Chosen<'c>),
    /// A day and a time do together.
    DayAndTime(&'c SampledColumn, &'c SampledColumn),
    /// One of these may, and nothing says which.
    Several(Vec<&'c str>),
    /// None does.
    None,
}

/// Finds the columns that say when a record was collected.
pub(super) fn time_columns<'c>(
    columns: &'c [SampledColumn],
    records: usize,
    context: &DraftFor<'_>,
) -> TimeColumns<'c> {
    let is_full = |column: &&SampledColumn| column.filled * 10 >= records * 9;
    // What ends next year was not collected then.
    let is_past = |column: &&SampledColumn| match &column.seen.looks {
        Looks::Times(times) => column
            .values
            .keys()
            .filter_map(|text| times.read(text, context.zone))
            .all(|moment| moment <= context.now && moment.as_second() > 631_152_000),
        Looks::Date | Looks::TimeOfDay => true,
        _ => false,
    };
    let full: Vec<&SampledColumn> = columns.iter().filter(is_full).filter(is_past).collect();
    let is_day = |column: &SampledColumn| match &column.seen.looks {
        Looks::Times(times) => !times.has_time_of_day(),
        looks => *looks == Looks::Date,
    };
    let days: Vec<&SampledColumn> = full.iter().copied().filter(|column| is_day(column)).collect();
    let clocks: Vec<&SampledColumn> =
        full.iter().copied().filter(|column| column.seen.looks == Looks::TimeOfDay).collect();
    let moments: Vec<&SampledColumn> = full
        .iter()
        .copied()
        .filter(|column| matches!(&column.seen.looks, Looks::Times(times) if times.has_time_of_day()))
        .collect();
    let named = |column: &&&SampledColumn| score(&column.name, &COLLECTED);
    if let Some(best) = moments.iter().rev().max_by_key(named)
        && named(&best) > 0
    {
        let others = moments.iter().filter(|column| named(column) > 0 && column.name != best.name);
        let others = others.map(|column| column.name.as_str()).take(3).collect();
        return TimeColumns::One(Chosen { column: best, because: String::new(), others });
    }
    match (moments.as_slice(), days.as_slice(), clocks.as_slice()) {
        ([only], ..) => {
            let because = "the only column of moments".to_owned();
            TimeColumns::One(Chosen { column: only, because, others: Vec::new() })
        }
        ([], [day], [clock]) => TimeColumns::DayAndTime(day, clock),
        ([], days, []) => {
            let is_meant = |column: &&&SampledColumn| named(column) > 0 && has_word(&column.name, &WHEN);
            match days.iter().find(is_meant) {
                Some(day) => {
                    let because = "a day without a time: its first moment".to_owned();
                    TimeColumns::One(Chosen { column: day, because, others: Vec::new() })
                }
                None => TimeColumns::None,
            }
        }
        ([], ..) => TimeColumns::None,
        (several, ..) => TimeColumns::Several(several.iter().map(|column| column.name.as_str()).collect()),
    }
}

/// Whom a column names as holders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum HolderColumn {
    /// People of a list, by their ids: so many of them.
    People { list: String, known: usize },
    /// People of a list, by their mail addresses.
    Mails { list: String, known: usize },
    /// By its heading alone; `lists` says that there are lists of people, and none has them.
    ByName { lists: bool },
}

/// Returns whom a column names, where it names holders.
pub(super) fn holder_column(column: &SampledColumn, context: &DraftFor<'_>) -> Option<HolderColumn> {
    if column.secret || !matches!(column.seen.looks, Looks::Text | Looks::Number(_)) || column.filled == 0 {
        return None;
    }
    let most = |known: &dyn Fn(&PeopleList) -> usize| {
        context.people.iter().map(|list| (known(list), list)).max_by_key(|(count, _)| *count)
    };
    let is_most = |count: usize| count * 10 >= column.filled * 8;
    if let Some((known, list)) = most(&|list| column.among(&list.ids))
        && is_most(known)
    {
        return Some(HolderColumn::People { list: list.source.clone(), known });
    }
    if let Some((known, list)) = most(&|list| column.among(&list.mails))
        && is_most(known)
    {
        return Some(HolderColumn::Mails { list: list.source.clone(), known });
    }
    has_word(&column.name, &HOLDER).then_some(HolderColumn::ByName { lists: !context.people.is_empty() })
}

/// Returns the fact that a column is probably about: one that is declared, or a name made of its words.
pub(super) fn fact_for(column: &SampledColumn, dictionary: &Dictionary) -> (String, bool) {
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
    // The system alone is no fact: its version is, or its name.
    if words.len() == 1 && words.contains("os") {
        let part = if column.seen.looks == Looks::Version { "version" } else { "name" };
        return (format!("os.{part}"), false);
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
    use fencepost_core::Dictionary;
    use jiff::tz::TimeZone;

    use super::*;

    fn of(name: &str, values: &[&str]) -> SampledColumn {
        let values: Vec<Json> = values.iter().map(|text| Json::from(*text)).collect();
        column(name.to_owned(), &values.iter().collect::<Vec<_>>())
    }

    fn texts(all: &[&str]) -> HashSet<String> {
        all.iter().map(|text| (*text).to_owned()).collect()
    }

    /// Looks at columns with what is known of a fleet.
    fn with<T>(devices: &[&str], people: &[&str], look: impl FnOnce(&DraftFor<'_>) -> T) -> T {
        let (dictionary, devices) = (Dictionary::default(), texts(devices));
        let mails = people.iter().map(|id| format!("{id}@ferry.example")).collect();
        let people = [PeopleList { source: "crew".to_owned(), ids: texts(people), mails }];
        look(&DraftFor {
            path: "x.csv",
            dictionary: &dictionary,
            zone: &TimeZone::UTC,
            taken: &[],
            now: "2027-03-15T00:00:00Z".parse().unwrap(),
            devices: &devices,
            holder: Some("person"),
            holders: &HashSet::new(),
            people: &people,
        })
    }

    #[test]
    fn the_device_is_told_by_what_is_known_by_its_heading_or_by_being_different() {
        let chosen = |columns: &[SampledColumn], devices: &[&str]| {
            let records = columns[0].filled;
            with(devices, &[], |context| {
                id_column(columns, records, false, context).map(|chosen| chosen.column.name.clone())
            })
        };
        let two = [of("Serial", &["A1", "A2"]), of("Host", &["tern-1", "gull-2"])];
        assert_eq!(chosen(&two, &[]).as_deref(), Some("Host"));
        assert_eq!(chosen(&two, &["A1", "A2", "A3"]).as_deref(), Some("Serial"));
        assert_eq!(chosen(&[of("Rechner", &["a", "b"]), of("Standort", &["x", "x"])], &[]).as_deref(), Some("Rechner"));
        let five = |name: &str| of(name, &["a", "b", "c", "d", "e"]);
        assert_eq!(chosen(&[five("Bezeichnung"), of("Ort", &["x"; 5])], &[]).as_deref(), Some("Bezeichnung"));
        // Two that are different everywhere, or too few records, tell nothing.
        assert_eq!(chosen(&[five("Alpha"), five("Beta")], &[]), None);
        assert_eq!(chosen(&[of("Alpha", &["a", "b"])], &[]), None);
    }

    #[test]
    fn the_moment_is_told_by_its_heading_or_by_being_the_only_one() {
        let told = |columns: &[SampledColumn]| {
            with(&[], &[], |context| match time_columns(columns, columns[0].filled, context) {
                TimeColumns::One(chosen) => chosen.column.name.clone(),
                TimeColumns::DayAndTime(day, time) => format!("{} and {}", day.name, time.name),
                TimeColumns::Several(names) => format!("one of {}", names.join(", ")),
                TimeColumns::None => "none".to_owned(),
            })
        };
        let moment = |name: &str| of(name, &["2027-03-14 06:00"]);
        assert_eq!(told(&[moment("Zuletzt gesehen"), moment("Angelegt")]), "Zuletzt gesehen");
        assert_eq!(told(&[moment("Stempel")]), "Stempel");
        assert_eq!(told(&[moment("Eins"), moment("Zwei")]), "one of Eins, Zwei");
        assert_eq!(told(&[of("Datum", &["14.03.2027"]), of("Uhrzeit", &["06:00"])]), "Datum and Uhrzeit");
        assert_eq!(told(&[of("Scan date", &["2027-03-14"])]), "Scan date");
        // A day on which something was bought says nothing, nor what ends next year.
        assert_eq!(told(&[of("Bought", &["2021-03-14"])]), "none");
        assert_eq!(told(&[of("Warranty", &["2029-03-14 00:00"])]), "none");
    }

    #[test]
    fn holders_are_told_by_the_lists_of_people() {
        let told = |column: SampledColumn| with(&[], &["p1", "p2", "p3"], |context| holder_column(&column, context));
        let list = || "crew".to_owned();
        assert_eq!(told(of("Colour", &["p1", "p2", "p3"])), Some(HolderColumn::People { list: list(), known: 3 }));
        assert_eq!(told(of("Kontakt", &["p1@ferry.example"])), Some(HolderColumn::Mails { list: list(), known: 1 }));
        assert_eq!(told(of("Benutzer", &["x", "y"])), Some(HolderColumn::ByName { lists: true }));
        assert_eq!(told(of("Site", &["x", "y"])), None);
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
