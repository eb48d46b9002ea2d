//! Writes waivers into `waivers.toml`, and leaves everything else in it as it is: comments, order, spaces.

use fencepost_core::ClockAfterwards;
use jiff::Timestamp;
use jiff::civil::Date;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, value};

/// A waiver that is to be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewWaiver {
    /// Its id.
    pub id: String,
    /// The devices that it is for.
    pub devices: Vec<String>,
    /// The groups that it is for.
    pub groups: Vec<String>,
    /// The rules that it is for.
    pub rules: Vec<String>,
    /// Why.
    pub because: String,
    /// Who answers for it.
    pub approved_by: String,
    /// The first day on which it holds.
    pub from: Date,
    /// The last day on which it holds.
    pub until: Date,
    /// What happens to clocks when it ends.
    pub clock: ClockAfterwards,
}

/// Why a file could not be edited.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EditError {
    /// It is no TOML; the parser says where.
    NotToml(String),
    /// It has no waiver of the id, or none as a table.
    NotThere,
    /// A day or a moment that TOML cannot write, as of a year before the year 0.
    NoTomlTime(String),
}

fn parse(file: &str) -> Result<DocumentMut, EditError> {
    file.parse::<DocumentMut>().map_err(|error| EditError::NotToml(error.to_string()))
}

/// Returns a day or a moment as TOML has it.
fn time(text: String) -> Result<Item, EditError> {
    let time = text.parse::<toml_edit::Datetime>();
    time.map(value).map_err(|_| EditError::NoTomlTime(text))
}

/// Returns a file with one waiver more, at its end.
///
/// # Errors
/// When the file is no TOML, what it calls waivers are no tables, or TOML cannot write one of the days.
pub fn add_waiver(file: &str, waiver: &NewWaiver) -> Result<String, EditError> {
    let mut document = parse(file)?;
    let is_first = document.get("waiver").is_none();
    let list = |texts: &[String]| value(texts.iter().map(String::as_str).collect::<Array>());
    let mut table = Table::new();
    table.insert("id", value(&waiver.id));
    for (key, texts) in [("devices", &waiver.devices), ("groups", &waiver.groups), ("rules", &waiver.rules)] {
        if !texts.is_empty() {
            table.insert(key, list(texts));
        }
    }
    table.insert("because", value(&waiver.because));
    table.insert("approved_by", value(&waiver.approved_by));
    table.insert("from", time(waiver.from.to_string())?);
    table.insert("until", time(waiver.until.to_string())?);
    if waiver.clock != ClockAfterwards::default() {
        table.insert("clock", value(waiver.clock.as_str()));
    }
    if !(is_first && file.trim().is_empty()) {
        table.decor_mut().set_prefix("\n");
    }
    let item = document.entry("waiver").or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
    item.as_array_of_tables_mut().ok_or(EditError::NotThere)?.push(table);
    Ok(document.to_string())
}

/// Returns a file in which a waiver ended at a moment.
///
/// # Errors
/// When the file is no TOML, has no waiver of that id, or TOML cannot write the moment.
pub fn end_waiver(file: &str, id: &str, at: Timestamp, because: &str) -> Result<String, EditError> {
    let mut document = parse(file)?;
    let tables = document.get_mut("waiver").and_then(Item::as_array_of_tables_mut).ok_or(EditError::NotThere)?;
    let own = tables.iter_mut().find(|table| table.get("id").and_then(Item::as_str) == Some(id));
    let table = own.ok_or(EditError::NotThere)?;
    // To the second, as people write moments.
    let at = Timestamp::from_second(at.as_second()).unwrap_or(at);
    table.insert("ended", time(at.to_string())?);
    table.insert("ended_because", value(because));
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn waiver() -> NewWaiver {
        NewWaiver {
            id: "lock-until-dock".into(),
            devices: vec!["puffin-bridge-1".into()],
            groups: Vec::new(),
            rules: vec!["bridge-lock".into(), "silence".into()],
            because: "Manned \"day and night\"\nuntil the refit.".into(),
            approved_by: "port captain".into(),
            from: jiff::civil::date(2027, 3, 2),
            until: jiff::civil::date(2027, 3, 9),
            clock: ClockAfterwards::Afresh,
        }
    }

    #[test]
    fn a_waiver_is_added_and_nothing_else_moves() {
        let file = "# Who answers for what.\n\n[[waiver]]   # the first\nid = 'a'\nrules = [ \"x\" ]  # only this\n# The end.\n";
        let added = add_waiver(file, &waiver()).unwrap();
        let (old, new) = added.split_once("\n\n[[waiver]]\nid = \"lock").unwrap();
        assert!(file.starts_with(old), "{added}");
        assert!(added.contains("# The end.\n"), "{added}");
        assert!(new.contains("from = 2027-03-02\nuntil = 2027-03-09\nclock = \"afresh\"\n"), "{added}");
        let read: toml::Table = added.parse().unwrap();
        let waivers = read["waiver"].as_array().unwrap();
        assert_eq!(waivers[1]["because"].as_str(), Some("Manned \"day and night\"\nuntil the refit."));
        let too_early = NewWaiver { until: jiff::civil::date(-1, 1, 1), ..waiver() };
        assert!(matches!(add_waiver(file, &too_early), Err(EditError::NoTomlTime(_))));
        let first = add_waiver("", &waiver()).unwrap();
        assert!(first.starts_with("[[waiver]]\nid = "), "{first}");
    }

    #[test]
    fn a_waiver_ends_where_it_stands() {
        let file = "# Why.\n[[waiver]]\nid = \"a\"   # one\nuntil = 2027-03-09\n\n[[waiver]]\nid = \"b\"\n";
        let at = "2027-03-05T08:00:00.5Z".parse().unwrap();
        let ended = end_waiver(file, "a", at, "it is \"mended\"").unwrap();
        assert_eq!(
            ended,
            "# Why.\n[[waiver]]\nid = \"a\"   # one\nuntil = 2027-03-09\nended = 2027-03-05T08:00:00Z\nended_because = 'it is \"mended\"'\n\n[[waiver]]\nid = \"b\"\n"
        );
        assert_eq!(end_waiver(file, "c", at, "x"), Err(EditError::NotThere));
        assert!(matches!(end_waiver("[[", "a", at, "x"), Err(EditError::NotToml(_))));
    }
}
