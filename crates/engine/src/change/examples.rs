//! Holds rules against what is expected of them on made-up devices.

use bumpalo::Bump;
use fencepost_core::{DeviceInput, Diagnostic, DocumentReader, Evidence, Observation, Session, did_you_mean, merge};
use fencepost_formats::{Example, JsonDocuments, SecretKey, mask_secrets};
use jiff::Timestamp;

use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::workspace::project::Project;

/// What became of an example that does not hold, with the proof of what the rule says.
pub(crate) type Failure = (Diagnostic, Option<Evidence>);

/// Returns what is wrong with an example, if anything is; `project` judges by its drafts too.
pub(crate) fn check(project: &Project, key: &SecretKey, example: &Example, at: Timestamp) -> Option<Failure> {
    let rules = project.rules.rules();
    let Some(rule) = project.rules.position(&example.rule.text) else {
        let below = format!("{}/", example.rule.text);
        let help = match rules.iter().find(|rule| rule.id.as_str().starts_with(&below)) {
            Some(check) => format!("it has several; name one of them, such as `{}`", check.id),
            None => did_you_mean(&example.rule.text, rules.iter().map(|rule| rule.id.as_str()), || {
                "see them all with: fencepost list rules".to_owned()
            }),
        };
        let message = format!("there is no rule `{}`", example.rule.text);
        return Some((Diagnostic::error("unknown-rule", message, example.rule.span.clone()).help(help), None));
    };
    let at = example.as_of.unwrap_or(at);
    let arena = Bump::new();
    let (layout, zone) = (project.rules.layout(), &project.config.calendar.zone);
    let document = serde_json::Value::Object(example.facts.clone()).to_string();
    let read = match JsonDocuments::with_secrets(key).read(document.as_bytes(), layout, &arena) {
        Ok(read) => read,
        Err(error) => {
            let mistake = Diagnostic::error("unreadable-facts", error.message, Some(example.place.clone()));
            return Some((mistake.help("facts are written as in a document of state"), None));
        }
    };
    let collected = Some(example.collected_at.unwrap_or(at));
    let said =
        [Observation { source: "example", trust: 0, collected, fresh_for: None, calendar: None, slots: read.slots }];
    let facts = merge(&said, std::iter::empty(), layout, at, &arena);
    let people = People::nobody(project, at);
    let judge = Judge::new(project, &people, at);
    let judged = judge.judged(example.device.as_deref().unwrap_or("example"), &facts, &arena);
    let input: DeviceInput<'_> = judged.input;
    let (outcome, evidence) = project.rules.explain(rule, &input, Session::new(at, zone, &arena));
    if outcome.as_str() == example.expect.text {
        return None;
    }
    let named = example.title.as_deref().map(|title| format!("{title}: ")).unwrap_or_default();
    let message = format!("{named}rule `{}` says {}, not {}", example.rule.text, outcome.as_str(), example.expect.text);
    let mistake = Diagnostic::error("example-fails", message, example.expect.span.clone())
        .label(format!("it says {}", outcome.as_str()))
        .help("mend the rule, or what is expected of it");
    Some((mistake, Some(evidence.map_values(&mask_secrets))))
}
