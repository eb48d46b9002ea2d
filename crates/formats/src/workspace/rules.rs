//! `rules/*.toml`: rules.

use fencepost_core::{ExceptSource, FixSource, Named, RuleSeverity, RuleSource, Settings, Stage};
use jiff::tz::TimeZone;

use super::shape::{KeyKind, TableKey, TableShape};
use super::table::{Entry, ListItem, Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "a file of rules",
    &[&[TableKey::new("rule", KeyKind::Tables(&RULE), "What the devices that it covers must meet.")]],
);
static RULE: TableShape =
    TableShape::new("[[rule]]", &KEYS).needs(&[&["id"], &["covers", "groups"], &["require", "checks"]]);
pub(super) static KEYS: [&[TableKey]; 4] = [
    &[
        TableKey::new("id", KeyKind::Id, "Its name; findings follow it, so it stays as it is."),
        TableKey::new("title", KeyKind::Text, "What it asks for, in a sentence."),
    ],
    &SCOPE,
    &[
        TableKey::new("require", KeyKind::Condition, "What a covered device must meet."),
        TableKey::new(
            "checks",
            KeyKind::Table(&CHECKS),
            "Several named conditions; each becomes a rule rule/check of its own.",
        ),
        TableKey::new(
            "fix_when",
            KeyKind::Tables(&FIX),
            "What to do instead, where a condition holds; the first that does is said.",
        ),
        TableKey::new("was", KeyKind::Names, "Earlier ids; findings follow."),
    ],
    &SETTINGS,
];
/// Whom a rule or a baseline covers.
pub(super) static SCOPE: [TableKey; 3] = [
    TableKey::new(
        "covers",
        KeyKind::Condition,
        "A condition on the devices it covers; with `groups`, both have to hold.",
    ),
    TableKey::new("groups", KeyKind::Names, "Groups of devices, in one of which a covered device is."),
    TableKey::new(
        "except",
        KeyKind::NamesAndTables(&EXCEPTION),
        "Groups or devices it does not cover, whatever else says so.",
    ),
];
/// What may be said of a rule, an expectation, a list or a whole baseline.
pub(super) static SETTINGS: [TableKey; 9] = [
    TableKey::new("topic", KeyKind::Text, "What it is about; coverage is read by topic."),
    TableKey::new("severity", KeyKind::Word(severities), "How bad a failure is: medium, where nothing else is said."),
    TableKey::new("stage", KeyKind::Word(stages), "How far it is in force: enforced, where nothing else is said."),
    TableKey::new("enforced_from", KeyKind::Moment, "From when on it is enforced; it is on trial until then."),
    TableKey::new(
        "grace",
        KeyKind::Period,
        "How long a failure may last, such as \"3d\"; not at all, where nothing else is said.",
    ),
    TableKey::new("because", KeyKind::Text, "Why it is asked for."),
    TableKey::new("fix", KeyKind::Text, "What to do about a failure."),
    TableKey::new("controls", KeyKind::Names, "Clauses of laws, norms or contracts that it answers for."),
    TableKey::new("response", KeyKind::Text, "The response, of responses.toml, that a failure sets off."),
];
static CHECKS: TableShape = TableShape::new("[rule.checks]", &[]).others(KeyKind::Condition);
static EXCEPTION: TableShape = TableShape::new(
    "an entry of `except`",
    &[&[
        TableKey::new("group", KeyKind::Text, "The group that is not covered."),
        TableKey::new("device", KeyKind::Text, "The device that is not covered."),
        TableKey::new("because", KeyKind::Text, "Why."),
        TableKey::new("until", KeyKind::Moment, "Up to when; a day ends with the day."),
    ]],
)
.needs(&[&["group", "device"]]);
static FIX: TableShape = TableShape::new(
    "an entry of `fix_when`",
    &[&[
        TableKey::new("when", KeyKind::Condition, "Where this holds,"),
        TableKey::new("say", KeyKind::Text, "this is what to do."),
        TableKey::new(
            "awaiting",
            KeyKind::Boolean,
            "What was asked for is done, and takes effect by itself or with what is said.",
        ),
    ]],
)
.needs(&[&["when"], &["say"]]);

pub(super) fn stages() -> Vec<&'static str> {
    Stage::ALL.map(Stage::as_str).to_vec()
}

fn severities() -> Vec<&'static str> {
    RuleSeverity::ALL.map(RuleSeverity::as_str).to_vec()
}

/// The rules of a file.
pub(super) fn all(reader: &mut TableReader<'_>, root: &Table<'_>, zone: &TimeZone) -> Vec<RuleSource> {
    let mut found = Vec::new();
    for table in reader.tables(root, "rule") {
        let Some(id) = reader.id(&table, "a [[rule]]") else { continue };
        let mut checks = Vec::new();
        if let Some(table) = reader.table(&table, "checks") {
            for Entry { key: name, span, .. } in table.entries() {
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
            overridden_by: Vec::new(),
        });
    }
    found
}

/// What a rule does not cover: names of groups and devices, or tables that also say why and until when.
pub(super) fn exceptions(reader: &mut TableReader<'_>, table: &Table<'_>, zone: &TimeZone) -> Vec<ExceptSource> {
    let mut found = Vec::new();
    for item in reader.names_and_tables(table, "except") {
        let table = match item {
            ListItem::Name(name) => {
                found.push(name.into());
                continue;
            }
            ListItem::Table(table) => table,
        };
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
fn fixes(reader: &mut TableReader<'_>, table: &Table<'_>) -> Vec<FixSource> {
    let mut found = Vec::new();
    for table in reader.tables(table, "fix_when") {
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
pub(super) fn settings(reader: &mut TableReader<'_>, table: &Table<'_>, zone: &TimeZone) -> Settings {
    Settings {
        topic: reader.string(table, "topic"),
        severity: reader.word(table, "severity", &RuleSeverity::ALL.map(|severity| (severity.as_str(), severity))),
        stage: reader.word(table, "stage", &Stage::ALL.map(|stage| (stage.as_str(), stage))),
        // A day begins with the day.
        enforced_from: reader.moment(table, "enforced_from", zone).map(|(start, _)| start),
        grace: reader.period(table, "grace"),
        because: reader.string(table, "because"),
        fix: reader.string(table, "fix"),
        controls: reader.names(table, "controls"),
        response: reader.named(table, "response"),
    }
}
