//! `rules/*.toml`: rules.

use fencepost_core::{ExceptSource, FixSource, Named, RuleSetSource, RuleSeverity, RuleSource, Settings, Stage};
use jiff::tz::TimeZone;

use super::table::{Item, Reader, Table};

// Without `response`: until responses exist, the key would promise what does not happen.
const KEYS: [&str; 9] = ["id", "title", "covers", "groups", "except", "require", "checks", "fix_when", "was"];
/// What may be said of a rule, an expectation, a list or a whole baseline.
pub(super) const SETTINGS: [&str; 8] =
    ["topic", "severity", "stage", "enforced_from", "grace", "because", "fix", "controls"];

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, zone: &TimeZone, into: &mut RuleSetSource) {
    reader.known_keys(root, "a file of rules", &["rule"]);
    into.rules.extend(all(reader, root, zone));
}

/// The rules of a file.
pub(super) fn all(reader: &mut Reader<'_>, root: &Table<'_>, zone: &TimeZone) -> Vec<RuleSource> {
    let mut found = Vec::new();
    for table in reader.tables(root, "rule") {
        let known: Vec<&str> = KEYS.into_iter().chain(SETTINGS).collect();
        reader.known_keys(&table, "[[rule]]", &known);
        let Some(id) = reader.id(&table, "a [[rule]]") else { continue };
        let mut checks = Vec::new();
        if let Some(table) = reader.table(&table, "checks") {
            for (name, span, _) in table.entries() {
                if !fencepost_core::is_slug(&name) {
                    reader.error(
                        "bad-id",
                        format!("`{name}` is not a name for a check"),
                        span.clone(),
                        "names of checks are lower-case words with hyphens",
                    );
                }
                if let Some(text) = reader.text(&table, &name) {
                    checks.push((Named { text: name, span: Some(reader.span(span)) }, text));
                }
            }
        }
        found.push(RuleSource {
            id,
            title: reader.string(&table, "title"),
            groups: reader.names(&table, "groups"),
            covers: reader.text(&table, "covers"),
            except: exceptions(reader, &table, zone),
            require: reader.text(&table, "require"),
            checks,
            settings: settings(reader, &table, zone),
            fix_when: fixes(reader, &table),
            was: reader.names(&table, "was"),
            baseline: None,
            yields_to: Vec::new(),
        });
    }
    found
}

/// What a rule does not cover: names of groups and devices, or tables that also say why and until when.
pub(super) fn exceptions(reader: &mut Reader<'_>, table: &Table<'_>, zone: &TimeZone) -> Vec<ExceptSource> {
    let mut found = Vec::new();
    for item in reader.names_and_tables(table, "except") {
        let table = match item {
            Item::Name(name) => {
                found.push(name.into());
                continue;
            }
            Item::Table(table) => table,
        };
        reader.known_keys(&table, "an entry of `except`", &["group", "device", "because", "until"]);
        let (group, device) = (reader.named(&table, "group"), reader.named(&table, "device"));
        let is_group = group.is_some();
        let (Some(name), true) = (group.clone().or_else(|| device.clone()), group.is_some() != device.is_some()) else {
            reader.error(
                "incomplete",
                "an entry of `except` names a `group` or a `device`",
                table.heading(),
                "write { group = \"dry-dock\", because = \"...\", until = 2027-04-01 }",
            );
            continue;
        };
        // A day ends with the day.
        let until = reader.moment(&table, "until", zone).map(|(_, end)| end);
        found.push(ExceptSource { name, group: Some(is_group), because: reader.string(&table, "because"), until });
    }
    found
}

/// What to do about a failure where a condition holds.
fn fixes(reader: &mut Reader<'_>, table: &Table<'_>) -> Vec<FixSource> {
    let mut found = Vec::new();
    for table in reader.tables(table, "fix_when") {
        reader.known_keys(&table, "an entry of `fix_when`", &["when", "say", "awaiting"]);
        let (when, say) = (reader.text(&table, "when"), reader.string(&table, "say"));
        let awaiting = reader.boolean(&table, "awaiting").unwrap_or(false);
        match (when, say) {
            (Some(when), Some(say)) => found.push(FixSource { when, say, awaiting }),
            _ => reader.error(
                "incomplete",
                "an entry of `fix_when` needs a condition and what to say",
                table.heading(),
                "write { when = '...', say = \"...\" }",
            ),
        }
    }
    found
}

/// What is said of something at a table.
pub(super) fn settings(reader: &mut Reader<'_>, table: &Table<'_>, zone: &TimeZone) -> Settings {
    Settings {
        topic: reader.string(table, "topic"),
        severity: reader.word(table, "severity", &RuleSeverity::ALL.map(|severity| (severity.as_str(), severity))),
        stage: reader.word(table, "stage", &Stage::ALL.map(|stage| (stage.as_str(), stage))),
        // A day begins with the day.
        enforced_from: reader.moment(table, "enforced_from", zone).map(|(start, _)| start),
        grace: reader.period(table, "grace"),
        because: reader.string(table, "because"),
        fix: reader.string(table, "fix"),
        controls: reader.strings(table, "controls"),
    }
}
