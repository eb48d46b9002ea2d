//! Texts that people read, with facts filled in: Jinja templates.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use minijinja::value::{Enumerator, Object, ObjectRepr, Serde, Value};
use minijinja::{AutoEscape, Environment, Error, UndefinedBehavior, context};
use serde_json::{Map, Value as Json};

/// The names that a text for people may use.
pub const TEMPLATE_NAMES: [&str; 4] = ["device", "person", "service", "findings"];

/// What is written where something is not known.
const NOT_KNOWN: &str = "(not known)";
/// No text takes more steps than this.
const FUEL: u64 = 50_000;
/// No text is longer than this, in bytes.
const MOST_BYTES: usize = 64 << 10;

/// What is wrong with a template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TemplateError {
    /// What.
    pub message: String,
    /// Where, in bytes of the template, where that is known.
    pub range: Option<Range<usize>>,
}

/// Values to fill in.
#[derive(Clone, Debug, Default)]
pub struct TemplateValues {
    /// The device's facts, as one object.
    pub device: Map<String, Json>,
    /// What is known of the person.
    pub person: Map<String, Json>,
    /// The service: `id` and `title`.
    pub service: Map<String, Json>,
    /// The findings, each an object with a `title`; printed as a whole they are their titles.
    pub findings: Vec<Json>,
}

/// Checks a template: its syntax, and that it uses no other names than [`TEMPLATE_NAMES`].
///
/// # Errors
/// When it cannot be read, or uses a name that there is not.
pub fn check_template(text: &str) -> Result<(), TemplateError> {
    let environment = environment();
    let template = environment.template_from_str(text).map_err(|error| error_of(&error))?;
    let mut unknown: Vec<String> = template
        .undeclared_variables(false)
        .into_iter()
        .filter(|name| !TEMPLATE_NAMES.contains(&name.as_str()))
        .collect();
    unknown.sort();
    match unknown.first() {
        None => Ok(()),
        Some(name) => {
            let range = text.find(name.as_str()).map(|start| start..start + name.len());
            Err(TemplateError { message: format!("there is no `{name}` to fill in"), range })
        }
    }
}

/// Returns the facts of a device that a template uses, by path; of one that cannot be read none.
pub fn facts_in_template(text: &str) -> Vec<String> {
    let environment = environment();
    let Ok(template) = environment.template_from_str(text) else { return Vec::new() };
    let names = template.undeclared_variables(true);
    let mut paths: Vec<String> =
        names.into_iter().filter_map(|name| name.strip_prefix("device.").map(str::to_owned)).collect();
    paths.sort();
    paths
}

/// Fills a template in. What is not known is told as such.
///
/// # Errors
/// When the template is not one that [`check_template`] takes, or takes too long.
pub fn fill_in(text: &str, values: &TemplateValues) -> Result<String, TemplateError> {
    let environment = environment();
    let template = environment.template_from_str(text).map_err(|error| error_of(&error))?;
    let object = |keys: &Map<String, Json>| Value::from(Serde(keys));
    let findings = FindingTexts(values.findings.iter().map(|finding| Value::from(Serde(finding))).collect());
    let values = context! {
        device => object(&values.device),
        person => object(&values.person),
        service => object(&values.service),
        findings => Value::from_object(findings),
    };
    let filled = template.render(values).map_err(|error| error_of(&error))?;
    if filled.len() > MOST_BYTES {
        return Err(TemplateError { message: format!("the text is longer than {MOST_BYTES} bytes"), range: None });
    }
    Ok(filled)
}

fn environment() -> Environment<'static> {
    let mut environment = Environment::new();
    environment.set_fuel(Some(FUEL));
    // Whoever shows the text escapes it.
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_undefined_behavior(UndefinedBehavior::Chainable);
    environment.set_formatter(|out, state, value| {
        if value.is_undefined() || value.is_none() {
            return Ok(out.write_str(NOT_KNOWN)?);
        }
        minijinja::escape_formatter(out, state, value)
    });
    environment
}

fn error_of(error: &Error) -> TemplateError {
    let message = error.detail().map_or_else(|| error.kind().to_string(), str::to_owned);
    TemplateError { message, range: error.range() }
}

/// Findings, which are printed as their titles and gone through as objects.
#[derive(Debug)]
struct FindingTexts(Vec<Value>);

impl Object for FindingTexts {
    fn repr(self: &Arc<Self>) -> ObjectRepr {
        ObjectRepr::Seq
    }

    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        self.0.get(key.as_usize()?).cloned()
    }

    fn enumerate(self: &Arc<Self>) -> Enumerator {
        Enumerator::Seq(self.0.len())
    }

    fn render(self: &Arc<Self>, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, finding) in self.0.iter().enumerate() {
            let title = finding.get_attr("title").unwrap_or_default();
            let between = if at == 0 { "" } else { "; " };
            write!(out, "{between}{title}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn values() -> TemplateValues {
        let map = |value: Json| value.as_object().cloned().unwrap_or_default();
        TemplateValues {
            device: map(json!({ "kind": "tablet", "os": { "version": "12" } })),
            person: map(json!({ "name": "Brobek <x>" })),
            service: map(json!({ "id": "mail", "title": "Mail" })),
            findings: vec![
                json!({ "title": "Lock", "fix": "Lock it." }),
                json!({ "title": "Charts", "fix": "Load them." }),
            ],
        }
    }

    #[test]
    fn facts_and_findings_are_filled_in() {
        let fill = |text: &str| fill_in(text, &values()).expect("a text");
        assert_eq!(
            fill("Your {{ device.kind }} is not in order: {{ findings }}."),
            "Your tablet is not in order: Lock; Charts."
        );
        assert_eq!(fill("{% for f in findings %}{{ f.fix }} {% endfor %}"), "Lock it. Load them. ");
        assert_eq!(
            fill("{{ person.name }}, {{ device.os.version }}, {{ device.os.build.number }}"),
            "Brobek <x>, 12, (not known)"
        );
        assert_eq!(fill("No names at all."), "No names at all.");
        assert_eq!(facts_in_template("{{ device.os.version }} {{ person.name }}"), ["os.version"]);
    }

    #[test]
    fn mistakes_are_told_with_their_place() {
        let wrong = check_template("Hello {{ devise.kind }}").unwrap_err();
        assert_eq!(wrong, TemplateError { message: "there is no `devise` to fill in".into(), range: Some(9..15) });
        assert!(check_template("Hello {{ device.kind").unwrap_err().range.is_some());
        assert_eq!(check_template("{% for f in findings %}{{ f.title }}{% endfor %}"), Ok(()));
        // Nothing goes on for ever.
        assert!(
            fill_in("{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}", &values())
                .is_err()
        );
    }
}
