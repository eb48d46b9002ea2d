//! Tries an expression out: against a device of the ledger, a JSON document, or nothing.

use bumpalo::Bump;
use fencepost_core::{
    Condition, Diagnostic, Dictionary, DocumentReader, Evaluator, Evidence, FileId, GroupId, Layout, Observation,
    Place, Reason, Text, Value, Vocabulary, merge,
};
use fencepost_formats::{JsonDocuments, json_of_value, mask_secrets};
use jiff::Timestamp;
use serde_json::Value as Json;

use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What an expression is tried against.
#[derive(Clone, Copy, Debug)]
pub enum Against<'t> {
    /// No fact is known.
    Nothing,
    /// A JSON object.
    Document(&'t [u8]),
    /// A device of the ledger, as it was assessed.
    Device(&'t Reading<'t>, &'t str),
}

/// What an expression came to.
#[derive(Clone, Debug, PartialEq)]
pub struct Tried {
    /// Its value as JSON; null for what is not known.
    pub value: Json,
    /// Its value as shown to a person.
    pub shown: String,
    /// The name of its type; none for what is not known.
    pub type_name: Option<&'static str>,
    /// `pass`, `fail`, `unknown`; none for a value that is neither boolean nor null.
    pub outcome: Option<&'static str>,
    /// Why it is unknown.
    pub reason: Option<Reason>,
    /// The expression in plain English.
    pub english: String,
    /// Which part decided, for what has an outcome.
    pub evidence: Option<Evidence>,
    /// What is probably not as meant.
    pub warnings: Vec<Diagnostic>,
}

/// Tries an expression, which stands in a file of its own for its diagnostics.
///
/// # Errors
/// The outer one when the document or the ledger cannot be read; the inner one when the expression has mistakes.
pub fn try_expression(
    project: &Project,
    expression: &str,
    against: Against<'_>,
    at: Timestamp,
) -> Result<Result<Tried, Vec<Diagnostic>>, EngineError> {
    let mut layout = project.rules.layout().clone();
    let mut people = Layout::new(&Dictionary::default());
    let groups: Vec<GroupId> = project.rules.groups().map(|group| group.id.clone()).collect();
    let rules: Vec<String> = project.rules.rules().iter().map(|rule| rule.id.to_string()).collect();
    let mut mistakes = Vec::new();
    let text = Text::whole(expression, FileId(0));
    let dictionary = &project.dictionary;
    let mut vocabulary =
        Vocabulary { dictionary, layout: &mut layout, people: &mut people, groups: &groups, rules: &rules };
    let Some(condition) = Condition::compile_value(&text, Place::Devices, &mut vocabulary, &mut mistakes) else {
        return Ok(Err(mistakes));
    };
    let arena = Bump::new();
    let name;
    let documents;
    let judge;
    let key = project.key_for_reading()?;
    let zone = &project.config.calendar.zone;
    let tried = match against {
        Against::Nothing | Against::Document(_) => {
            let document = match against {
                Against::Document(document) => document,
                Against::Nothing | Against::Device(..) => b"{}",
            };
            let read = JsonDocuments::with_secrets(&key).read(document, &layout, &arena).map_err(|error| {
                EngineError::refused(format!("byte {}: {}", error.offset, error.message), "facts are one JSON object")
            })?;
            let said = [Observation {
                source: "facts",
                trust: 0,
                collected: None,
                fresh_for: None,
                calendar: None,
                slots: read.slots,
            }];
            let facts = merge(&said, std::iter::empty(), &layout, at, &arena);
            let mut evaluator = Evaluator::new(Some(&facts), at, zone, &arena);
            let tried = work_out(&condition, &mut evaluator);
            Tried {
                value: match tried.value {
                    serde_json::Value::String(text) => mask_secrets(&text).into(),
                    value => value,
                },
                shown: mask_secrets(&tried.shown),
                evidence: tried.evidence.map(|evidence| evidence.map_values(&mask_secrets)),
                ..tried
            }
        }
        Against::Device(reading, device) => {
            name = reading.device_name(device)?;
            let device = name.as_str();
            documents = reading.documents(device)?;
            judge = reading.judge();
            let facts = judge.facts(device, &documents, &layout, &arena)?;
            let judged = judge.judged(device, facts, &arena);
            let standing = reading.standings()?.get(device).map(|found| found.standing);
            let own = reading.findings(Some(device), false)?.remove(device).unwrap_or_default();
            let ambient = surroundings(standing, &own, reading.at, &arena);
            let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.session(&arena));
            let mut evaluator = Evaluator::new(Some(facts), judge.at, zone, &arena);
            evaluator.set_groups(memberships);
            evaluator.set_ambient(ambient);
            work_out(&condition, &mut evaluator)
        }
    };
    Ok(Ok(Tried { warnings: mistakes, ..tried }))
}

fn work_out<'a>(condition: &'a Condition, evaluator: &mut Evaluator<'a>) -> Tried {
    let value = evaluator.value_of(condition);
    let (outcome, reason) = match value {
        Value::Boolean(true) => (Some("pass"), None),
        Value::Boolean(false) => (Some("fail"), None),
        Value::Null => (Some("unknown"), Some(Reason::Null)),
        Value::Unknown(unknown) => (Some("unknown"), Some(unknown.reason)),
        _ => (None, None),
    };
    Tried {
        value: json_of_value(&value),
        shown: value.show(),
        type_name: if matches!(value, Value::Unknown(_)) { None } else { Some(value.type_name()) },
        outcome,
        reason,
        english: condition.in_english(),
        evidence: outcome.map(|_| evaluator.explain(condition, true).1),
        warnings: Vec::new(),
    }
}
