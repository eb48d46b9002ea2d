//! `rules/*.toml`: rules.

use fencepost_core::{ExceptSource, FixSource, Named, RuleSeverity, RuleSource, Settings, Stage};
use jiff::tz::TimeZone;

use super::shape::{Key, Kind, Shape};
use super::table::{Entry, Item, Reader, Table};

pub(super) static FILE: Shape = Shape::new(
    "a file of rules",
    &[&[Key::new("rule", Kind::Tables(&RULE), "What the devices that it covers must meet.")]],
);
static RULE: Shape = Shape::new("[[rule]]", &KEYS).needs(&[&["id"], &["covers", "groups"], &["require", "checks"]]);
// Without `response`: until responses exist, the key would promise what does not happen.
pub(super) static KEYS: [&[Key]; 4] = [
    &[
        Key::new("id", Kind::Id, "Its name; findings follow it, so it stays as it is."),
        Key::new("title", Kind::Text, "What it asks for, in a sentence."),
    ],
    &SCOPE,
    &[
        Key::new("require", Kind::Condition, "What a covered device must meet."),
        Key::new(
            "checks",
            Kind::Table(&CHECKS),
            "Several named conditions; each becomes a rule rule/check of its own.",
        ),
        Key::new(
            "fix_when",
            Kind::Tables(&FIX),
            "What to do instead, where a condition holds; the first that does is said.",
        ),
        Key::new("was", Kind::Names, "Earlier ids; findings follow."),
    ],
    &SETTINGS,
];
/// Whom a rule or a baseline covers.
pub(super) static SCOPE: [Key; 3] = [
    Key::new("covers", Kind::Condition, "A condition on the devices it covers; with `groups`, both have to hold."),
    Key::new("groups", Kind::Names, "Groups of devices, in one of which a covered device is."),
    Key::new("except", Kind::NamesAndTables(&EXCEPTION), "Groups or devices it does not cover, whatever else says so."),
];
/// What may be said of a rule, an expectation, a list or a whole baseline.
pub(super) static SETTINGS: [Key; 8] = [
    Key::new("topic", Kind::Text, "What it is about; coverage is read by topic."),
    Key::new("severity", Kind::Word(severities), "How bad a failure is: medium, where nothing else is said."),
    Key::new("stage", Kind::Word(stages), "How far it is in force: enforced, where nothing else is said."),
    Key::new("enforced_from", Kind::Moment, "From when on it is enforced; it is on trial until then."),
    Key::new(
        "grace",
        Kind::Period,
        "How long a failure may last, such as \"3d\"; not at all, where nothing else is said.",
    ),
    Key::new("because", Kind::Text, "Why it is asked for."),
    Key::new("fix", Kind::Text, "What to do about a failure."),
    Key::new("controls", Kind::Names, "Clauses of laws, norms or contracts that it answers for."),
];
static CHECKS: Shape = Shape::new("[rule.checks]", &[]).others(Kind::Condition);
static EXCEPTION: Shape = Shape::new(
    "an entry of `except`",
    &[&[
        Key::new("group", Kind::Text, "The group that is not covered."),
        Key::new("device", Kind::Text, "The device that is not covered."),
        Key::new("because", Kind::Text, "Why."),
        Key::new("until", Kind::Moment, "Up to when; a day ends with the day."),
    ]],
)
.needs(&[&["group", "device"]]);
static FIX: Shape = Shape::new(
    "an entry of `fix_when`",
    &[&[
        Key::new("when", Kind::Condition, "Where this holds,"),
        Key::new("say", Kind::Text, "this is what to do."),
        Key::new(
            "awaiting",
            Kind::Boolean,
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
pub(super) fn all(reader: &mut Reader<'_>, root: &Table<'_>, zone: &TimeZone) -> Vec<RuleSource> {
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
        controls: reader.names(table, "controls"),
    }
}
