//! The columns of a table: their headings, and those that its source names.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};

use fencepost_core::limits::{self, FIELDS};

use crate::workspace::{Field, NameFrom, RowsAs, Source};

/// A column of a table.
#[derive(Debug)]
pub(crate) struct TableColumn {
    /// What its source calls it: the heading, or the field of which the heading is another name.
    pub name: String,
    /// Its empty cells are empty values.
    pub empty_is_null: bool,
}

/// The columns of a table, in their order.
#[derive(Debug, Default)]
pub(crate) struct TableColumns {
    columns: Vec<TableColumn>,
}

/// A column that a source names and a file lacks.
#[derive(Debug)]
struct MissingColumn {
    name: String,
    /// The nearest heading that the source does not name.
    nearest: Option<String>,
}

/// Columns that a source names and a file lacks, or names twice.
#[derive(Debug)]
pub(crate) struct BadColumns {
    missing: Vec<MissingColumn>,
    /// Headings of the file.
    found: Vec<String>,
    /// Two headings of one field.
    doubled: Option<(String, String)>,
}

/// More headings than this are counted.
const HEADINGS_SHOWN: usize = 30;

impl TableColumns {
    /// Finds the columns that a source names among the headings of a file.
    pub fn of(mut headings: Vec<String>, source: &Source) -> Result<Self, BadColumns> {
        let fields: HashMap<&str, &Field> = fields_of(source).map(|(name, field)| (name.as_str(), field)).collect();
        let doubled = name_by_fields(&mut headings, source);
        let have: HashSet<&str> = headings.iter().map(String::as_str).collect();
        let wanted = wanted(source);
        let missing: Vec<&str> = wanted.iter().copied().filter(|name| !have.contains(name)).collect();
        if missing.is_empty() && doubled.is_none() {
            let columns = headings.iter().map(|name| TableColumn {
                name: name.clone(),
                empty_is_null: fields.get(name.as_str()).is_some_and(|field| field.cells.empty_is_null),
            });
            return Ok(Self { columns: columns.collect() });
        }
        let unnamed: Vec<&str> = have
            .iter()
            .copied()
            .filter(|name| !name.is_empty() && !wanted.contains(name) && !fields.contains_key(name))
            .collect();
        let missing = missing
            .into_iter()
            .map(|name| MissingColumn { name: name.to_owned(), nearest: nearest_heading(name, &unnamed) })
            .collect();
        Err(BadColumns { missing, found: headings, doubled })
    }

    /// Returns the columns, in their order.
    pub fn iter(&self) -> impl Iterator<Item = &TableColumn> {
        self.columns.iter()
    }

    /// Returns how many there are.
    pub fn len(&self) -> usize {
        self.columns.len()
    }

    /// Returns the place of a column.
    pub fn position(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.name == name)
    }
}

impl BadColumns {
    /// Returns how many are missing.
    pub fn count(&self) -> usize {
        self.missing.len() + usize::from(self.doubled.is_some())
    }

    /// Returns the names of those that are missing.
    pub fn into_names(self) -> Vec<String> {
        self.missing.into_iter().map(|column| column.name).collect()
    }

    /// Says which are missing.
    pub fn missing(&self) -> String {
        let names: Vec<String> = self.missing.iter().map(|column| format!("`{}`", column.name)).collect();
        columns_are_missing(&names)
    }

    /// Says what is wrong, with the remedy.
    pub fn message(&self, source: &Source) -> String {
        if let Some((first, second)) = &self.doubled {
            return format!(
                "`{}` and `{}` are headings of the same field. Leave one of them out of `also` in [[source]] `{}` in fencepost.toml",
                limits::quoted(first),
                limits::quoted(second),
                source.id
            );
        }
        let gone: Vec<String> = self
            .missing
            .iter()
            .filter_map(|column| Some((column, column.nearest.as_ref()?)))
            .map(|(column, nearest)| format!("column `{}` is gone; `{}` is new", column.name, limits::quoted(nearest)))
            .collect();
        let missing: Vec<String> = self
            .missing
            .iter()
            .filter(|column| column.nearest.is_none())
            .map(|column| format!("`{}`", column.name))
            .collect();
        let mut says = gone;
        if !missing.is_empty() {
            says.push(columns_are_missing(&missing));
        }
        let mut found: Vec<String> =
            self.found.iter().take(HEADINGS_SHOWN).map(|heading| format!("`{}`", limits::quoted(heading))).collect();
        if self.found.len() > HEADINGS_SHOWN {
            found.push(format!("and {} more", self.found.len() - HEADINGS_SHOWN));
        }
        let also = if self.missing.iter().any(|column| column.nearest.is_some()) {
            " (also = [..] at a field for a heading that changes)"
        } else {
            ""
        };
        format!(
            "{}; the file has {}. Correct [[source]] `{}` in fencepost.toml{also}, or export the file again",
            says.join("; "),
            found.join(", "),
            source.id
        )
    }
}

/// Gives each heading the name of the field that it is another name of; returns the first two headings of one field.
fn name_by_fields(headings: &mut [String], source: &Source) -> Option<(String, String)> {
    let mut field_of: HashMap<&str, &str> = HashMap::new();
    for (name, field) in fields_of(source) {
        for heading in std::iter::once(name).chain(&field.also) {
            field_of.entry(heading).or_insert(name);
        }
    }
    let mut first_of: HashMap<&str, String> = HashMap::new();
    let mut doubled = None;
    for heading in headings {
        let Some(name) = field_of.get(heading.as_str()) else { continue };
        let heading = std::mem::replace(heading, (*name).to_owned());
        match first_of.entry(name) {
            Entry::Occupied(first) => doubled = doubled.or_else(|| Some((first.get().clone(), heading))),
            Entry::Vacant(none) => {
                none.insert(heading);
            }
        }
    }
    doubled
}

fn columns_are_missing(names: &[String]) -> String {
    let (what, verb) = if names.len() == 1 { ("column", "is") } else { ("columns", "are") };
    format!("{what} {} {verb} missing", names.join(", "))
}

/// The fields of a source that may be columns.
fn fields_of(source: &Source) -> impl Iterator<Item = &(String, Field)> {
    let of_items: &[(String, Field)] = match &source.table.rows {
        Some(RowsAs::List { fields, .. }) => fields,
        _ => &[],
    };
    source.fields.iter().chain(of_items)
}

/// Columns that a file of a source has to have.
fn wanted(source: &Source) -> Vec<&str> {
    let mut wanted: Vec<&str> = Vec::new();
    if source.id_from == NameFrom::Field {
        wanted.push(&source.id_field);
        wanted.extend(source.id_form.join.iter().map(String::as_str));
    }
    wanted.extend(source.collected_field.as_deref());
    wanted.extend(source.collected_further.iter().map(String::as_str));
    match &source.table.rows {
        // What fields name there are facts, which any file may lack.
        Some(RowsAs::Facts { fact, value }) => {
            wanted.extend([fact.as_str(), value.as_str()]);
            return wanted;
        }
        Some(RowsAs::List { key, .. }) => wanted.push(key),
        None => {}
    }
    wanted.extend(fields_of(source).filter(|(_, field)| !field.leave_out).map(|(name, _)| name.as_str()));
    wanted
}

/// Returns the heading that is most like a name; none where no one is.
fn nearest_heading(name: &str, headings: &[&str]) -> Option<String> {
    /// Headings less alike than this are others.
    const ALIKE: f64 = 0.85;
    let letters = |text: &str| -> String {
        text.chars().filter(|symbol| symbol.is_alphanumeric()).flat_map(char::to_lowercase).take(200).collect()
    };
    let words = |text: &str| -> HashSet<String> {
        let parts = text.split(|symbol: char| !symbol.is_alphanumeric()).filter(|word| !word.is_empty());
        parts.take(20).map(str::to_lowercase).collect()
    };
    let (wanted, wanted_words) = (letters(name), words(name));
    let likeness = |heading: &&&str| {
        let others = words(heading);
        // One has all words of the other, as `OS` and `OS version`.
        let shares_words = wanted_words.is_subset(&others) || others.is_subset(&wanted_words);
        let by_letters = strsim::jaro_winkler(&wanted, &letters(heading));
        if shares_words && !others.is_empty() { by_letters.max(ALIKE) } else { by_letters }
    };
    let best = headings.iter().max_by(|one, other| likeness(one).total_cmp(&likeness(other)).then(other.cmp(one)))?;
    (likeness(&best) >= ALIKE).then(|| (*best).to_owned())
}

/// Calls the second column of a heading `Heading (2)`, the third `Heading (3)`; a column without a heading stays without one.
pub(crate) fn number_doubled(names: &mut [String]) -> Result<(), String> {
    if names.len() > FIELDS {
        return Err(format!("the file has more than {FIELDS} columns"));
    }
    let mut count: HashMap<String, usize> = HashMap::new();
    for name in names.iter_mut() {
        let times = count.entry(name.clone()).or_default();
        *times += 1;
        if *times > 1 && !name.is_empty() {
            *name = format!("{name} ({times})");
        }
    }
    let mut seen = HashSet::new();
    match names.iter().find(|name| !name.is_empty() && !seen.insert(name.as_str())) {
        Some(name) => {
            Err(format!("two columns are headed `{}`; give each column a heading of its own", limits::quoted(name)))
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(all: &[&str]) -> Vec<String> {
        all.iter().map(|text| (*text).to_owned()).collect()
    }

    fn source() -> Source {
        let versioned = Field { also: texts(&["Version", "OS version"]), ..Field::of("os.version".to_owned()) };
        Source {
            id_field: "Host".to_owned(),
            collected_field: None,
            fields: vec![("OS ver.".to_owned(), versioned), ("Owner".to_owned(), Field::of("owner".to_owned()))],
            ..Source::native()
        }
    }

    #[test]
    fn a_heading_may_be_called_otherwise_where_the_source_says_so() {
        for heading in ["OS ver.", "Version", "OS version"] {
            let columns = TableColumns::of(texts(&["Host", heading, "", "Owner"]), &source()).unwrap();
            let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
            assert_eq!(names, ["Host", "OS ver.", "", "Owner"], "{heading}");
        }
        let twice = TableColumns::of(texts(&["Host", "OS ver.", "Version", "Owner"]), &source()).unwrap_err();
        assert!(twice.message(&source()).contains("`OS ver.` and `Version` are headings of the same field"));
    }

    #[test]
    fn a_column_that_is_gone_is_told_with_the_nearest_that_is_new() {
        let message = |headings: &[&str]| TableColumns::of(texts(headings), &source()).unwrap_err().message(&source());
        let renamed = message(&["Host", "OS vers.", "Owner"]);
        assert!(renamed.contains("column `OS ver.` is gone; `OS vers.` is new"), "{renamed}");
        let lost = message(&["Host", "Site", "Owner"]);
        assert!(lost.contains("column `OS ver.` is missing; the file has `Host`, `Site`, `Owner`"), "{lost}");
        let both = message(&["Hosts", "Site"]);
        assert!(both.contains("`Host` is gone; `Hosts` is new; columns `OS ver.`, `Owner` are missing"), "{both}");
    }
}
