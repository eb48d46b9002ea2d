//! `responses.toml`: what follows from findings, step by step, and on which devices commands are allowed.

use fencepost_core::{
    Addressee, CommandSource, CommandTarget, Diagnostic, Named, ResponseSource, ResponsesSource, StepAction,
    StepMoment, StepSource, TemplateName, is_slug,
};

use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Table, TableReader};

pub(super) static FILE: TableShape = TableShape::new(
    "responses.toml",
    &[&[
        TableKey::new("response", KeyKind::Tables(&RESPONSE), "A ladder of steps that findings set off."),
        TableKey::new("command", KeyKind::Table(&COMMANDS), "On which devices commands are allowed, by their names."),
    ]],
);
static RESPONSE: TableShape = TableShape::new(
    "[[response]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What rules call it."),
        TableKey::new("steps", KeyKind::Tables(&STEP), "What is done, and when."),
    ]],
)
.needs(&[&["id"], &["steps"]]);
static STEP: TableShape = TableShape::new(
    "a step",
    &[&[
        TableKey::new("id", KeyKind::Id, "What the outbox calls it; what was done follows it, so it stays as it is."),
        TableKey::new(
            "at",
            KeyKind::Text,
            "When: opened, due or closed, and how long before or after, such as \"due - 1d\" or \"due + 2 working days\"; or enforced - 7d, before a rule on trial is enforced.",
        ),
        TableKey::new("do", KeyKind::Word(|| words(&DEEDS)), "What: tell somebody, raise a ticket, or have the device commanded."),
        TableKey::new(
            "to",
            KeyKind::Names,
            "Whom: holder, lead, a mail address, or a [[recipient]] of fencepost.toml.",
        ),
        TableKey::new(
            "template",
            KeyKind::Text,
            "The text, a file of templates/ without .txt: the step's id, where nothing is said.",
        ),
        TableKey::new("command", KeyKind::Text, "What the device is to do, as the one who carries it out calls it."),
        TableKey::new("on", KeyKind::Word(|| words(&TARGETS)), "Whether the device is meant, or the accounts of those who hold it."),
        TableKey::new("approve", KeyKind::Boolean, "Whether somebody has to approve each."),
        TableKey::new("undo", KeyKind::Text, "The step that it takes back; it is taken only where that one was delivered."),
    ]],
)
.needs(&[&["id"], &["at"], &["do"]]);
static COMMANDS: TableShape = TableShape::new("[command]", &[]).others(KeyKind::Table(&COMMAND));
static COMMAND: TableShape = TableShape::new(
    "[command.NAME]",
    &[&[TableKey::new(
        "allowed_when",
        KeyKind::Condition,
        "It is carried out only where this holds; what is unknown does not.",
    )]],
);

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Deed {
    Notify,
    Raise,
    Command,
}

const DEEDS: [(&str, Deed); 3] = [("notify", Deed::Notify), ("raise", Deed::Raise), ("command", Deed::Command)];
const TARGETS: [(&str, CommandTarget); 2] = [("device", CommandTarget::Device), ("account", CommandTarget::Account)];

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>, into: &mut ResponsesSource) {
    for table in reader.tables(root, "response") {
        let Some(id) = reader.id(&table, "a [[response]]") else { continue };
        let mut steps = Vec::new();
        if reader.is_complete(&table, "a response", "write steps = [{ id = \"first-word\", at = \"opened\", ... }]") {
            for table in reader.tables(&table, "steps") {
                steps.extend(step(reader, &table));
            }
        }
        into.ladders.push(ResponseSource { id, steps });
    }
    let Some(commands) = reader.table(root, "command") else { return };
    for entry in commands.entries() {
        let name = Named { text: entry.key.clone(), span: Some(reader.span(entry.span)) };
        match reader.inner(&commands, &entry.key, entry.value) {
            Some(table) => {
                let allowed_when = reader.text(&table, "allowed_when");
                into.commands.push(CommandSource { name, allowed_when });
            }
            None => reader.error(
                "wrong-type",
                format!("`command.{}` is a table", entry.key),
                entry.value.span(),
                format!("write [command.{}] and below it allowed_when = '...'", entry.key),
            ),
        }
    }
}

fn step(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<StepSource> {
    let id = reader.id(table, "a step")?;
    if !reader.is_complete(table, "a step", "say when, and what: { id = \"..\", at = \"due\", do = \"notify\", .. }") {
        return None;
    }
    let deed = reader.word(table, "do", &DEEDS)?;
    check_fit(reader, table, deed);
    let at = reader.named(table, "at")?;
    let at = match StepMoment::parse(&at.text) {
        Ok(at) => at,
        Err(why) => {
            let span = table.get("at").map_or(0..0, |value| value.span());
            reader.error("bad-moment", "`at` is no moment of a step", span, why);
            return None;
        }
    };
    let to = reader.names(table, "to");
    let named = reader.named(table, "template");
    let template = TemplateName {
        is_named: named.is_some(),
        name: named.map_or_else(|| id.text.clone(), |named| template_name(reader, named)),
    };
    let undo = reader.named(table, "undo");
    let action = match deed {
        Deed::Notify => StepAction::Notify { to: to.iter().map(|to| Addressee::parse(&to.text)).collect(), template },
        Deed::Raise => StepAction::Raise { to: desk(reader, table, &to)?, template },
        Deed::Command => StepAction::Command {
            command: reader.string(table, "command").unwrap_or_default(),
            on: reader.word(table, "on", &TARGETS).unwrap_or_default(),
            approve: reader.boolean(table, "approve").unwrap_or(false),
            undo: undo.as_ref().map(|undo| undo.text.as_str().into()),
        },
    };
    Some(StepSource { id, at, action, to, undo })
}

/// Returns the name of a template, which leads to a file of one folder and nowhere else.
fn template_name(reader: &mut TableReader<'_>, named: Named) -> String {
    if !is_slug(&named.text) {
        let message = format!("`{}` is no name of a template", named.text);
        let help = "write the name of a file in templates/ without .txt: lower-case words with hyphens";
        reader.report(Diagnostic::error("bad-template-name", message, named.span).help(help));
    }
    named.text
}

/// Returns the one recipient with whom a ticket is raised.
fn desk(reader: &mut TableReader<'_>, table: &Table<'_>, to: &[Named]) -> Option<String> {
    match to {
        [one] if matches!(Addressee::parse(&one.text), Addressee::Recipient(_)) => Some(one.text.clone()),
        _ => {
            let span = table.get("to").map_or(table.heading(), |value| value.span());
            reader.error(
                "bad-addressee",
                "a ticket is raised with one recipient",
                span,
                "name one [[recipient]] of fencepost.toml, such as to = \"desk\"",
            );
            None
        }
    }
}

/// Reports what a step lacks or has too much of, for what it does.
fn check_fit(reader: &mut TableReader<'_>, table: &Table<'_>, deed: Deed) {
    let word = DEEDS.iter().find(|(_, one)| *one == deed).map_or("", |(word, _)| word);
    let (needed, example) = match deed {
        Deed::Notify | Deed::Raise => ("to", "to = [\"holder\"]"),
        Deed::Command => ("command", "command = \"lock\""),
    };
    if table.get(needed).is_none() {
        let message = format!("a step with do = \"{word}\" needs `{needed}`");
        reader.error("kind-needs", message, table.heading(), format!("write {example}"));
    }
    let idle: &[&str] = match deed {
        Deed::Notify | Deed::Raise => &["command", "on", "approve", "undo"],
        Deed::Command => &["to", "template"],
    };
    for key in idle {
        if let Some(value) = table.get(key) {
            let message = format!("`{key}` has no meaning in a step with do = \"{word}\"");
            reader.error("idle-key", message, value.span(), "take it out, or do something else in this step");
        }
    }
}
