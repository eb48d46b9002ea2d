//! Texts that people read, with facts filled in: Jinja templates.

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::ops::Range;
use std::sync::Arc;

use minijinja::syntax::SyntaxConfig;
use minijinja::value::{Enumerator, Object, ObjectRepr, Serde, Value};
use minijinja::{AutoEscape, Environment, Error, UndefinedBehavior};
use serde_json::{Map, Value as Json};

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

/// What a text is for, and so what may be filled in and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextKind {
    /// What a person is told who is stopped by an access rule; whatever is not known is told as such.
    Stopped,
    /// A message about findings; a name that there is not spoils it.
    Message,
    /// The same as HTML: what is filled in is escaped.
    HtmlMessage,
}

impl TextKind {
    /// Returns the names that a text may use.
    pub fn names(self) -> &'static [&'static str] {
        match self {
            Self::Stopped => &["device", "person", "service", "findings"],
            Self::Message | Self::HtmlMessage => {
                &["workspace", "holder", "device", "findings", "closed", "deadline", "loses", "waiver", "more"]
            }
        }
    }
}

/// Values to fill in.
#[derive(Clone, Debug, Default)]
pub struct TemplateValues {
    /// The device's facts, as one object.
    pub device: Map<String, Json>,
    /// The findings, each an object with a `title`; printed as a whole they are their titles.
    pub findings: Vec<Json>,
    /// What else there is, by its name.
    pub others: Map<String, Json>,
}

/// Checks a template: its syntax, and that it uses no other names than those of its kind.
///
/// # Errors
/// When it cannot be read, or uses a name that there is not.
pub fn check_template(text: &str, kind: TextKind) -> Result<(), TemplateError> {
    let environment = environment(kind);
    let template = environment.template_from_str(text).map_err(|error| error_of(&error))?;
    let mut unknown: Vec<String> = template
        .undeclared_variables(false)
        .into_iter()
        .filter(|name| !kind.names().contains(&name.as_str()) && !environment.globals().any(|(known, _)| known == name))
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
    let environment = environment(TextKind::Stopped);
    let Ok(template) = environment.template_from_str(text) else { return Vec::new() };
    let names = template.undeclared_variables(true);
    let mut paths: Vec<String> =
        names.into_iter().filter_map(|name| name.strip_prefix("device.").map(str::to_owned)).collect();
    paths.sort();
    paths
}

/// Fills a template in.
///
/// # Errors
/// When the template is not one that [`check_template`] takes, takes too long, or, in a message, uses something that there is not.
pub fn fill_in(text: &str, kind: TextKind, values: &TemplateValues) -> Result<String, TemplateError> {
    let environment = environment(kind);
    let template = environment.template_from_str(text).map_err(|error| error_of(&error))?;
    let mut all: BTreeMap<&str, Value> = BTreeMap::new();
    let device = Json::Object(values.device.clone());
    all.insert("device", Value::from_object(DeviceFacts(device)));
    all.insert("findings", Value::from_object(FindingTexts(values.findings.iter().map(value_of).collect())));
    all.extend(values.others.iter().map(|(name, value)| (name.as_str(), value_of(value))));
    let mut out = BoundedText::default();
    let rendered = template.render_captured_to(Value::from(all), &mut out).map(|_| ());
    if out.is_too_long {
        return Err(TemplateError { message: format!("the text is longer than {MOST_BYTES} bytes"), range: None });
    }
    rendered.map_err(|error| error_of(&error))?;
    String::from_utf8(out.bytes).map_err(|error| TemplateError { message: error.to_string(), range: None })
}

/// A text that is not written further than it may be long.
#[derive(Default)]
struct BoundedText {
    bytes: Vec<u8>,
    is_too_long: bool,
}

impl io::Write for BoundedText {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + bytes.len() > MOST_BYTES {
            self.is_too_long = true;
            return Err(io::Error::other("the text is too long"));
        }
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn value_of(json: &Json) -> Value {
    Value::from(Serde(json))
}

fn environment(kind: TextKind) -> Environment<'static> {
    let mut environment = Environment::new();
    environment.set_fuel(Some(FUEL));
    if kind != TextKind::Stopped {
        let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).keep_trailing_newline(true).build();
        // Only delimiters could be wrong.
        environment.set_syntax(syntax.unwrap_or_default());
    }
    // Whoever shows a text that is no HTML escapes it.
    environment.set_auto_escape_callback(move |_| match kind {
        TextKind::HtmlMessage => AutoEscape::Html,
        TextKind::Stopped | TextKind::Message => AutoEscape::None,
    });
    environment.set_undefined_behavior(match kind {
        TextKind::Stopped => UndefinedBehavior::Chainable,
        TextKind::Message | TextKind::HtmlMessage => UndefinedBehavior::Strict,
    });
    environment.set_formatter(move |out, state, value| {
        let is_unknown = value.is_none() || kind == TextKind::Stopped && value.is_undefined();
        if is_unknown || value.downcast_object_ref::<NotKnown>().is_some() {
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

/// The facts of a device: what it does not report is not known, whatever is asked of it.
#[derive(Debug)]
struct DeviceFacts(Json);

impl Object for DeviceFacts {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        Some(match self.0.get(key.as_str()?) {
            None | Some(Json::Null) => Value::from_object(NotKnown),
            Some(inner @ Json::Object(_)) => Value::from_object(Self(inner.clone())),
            Some(known) => value_of(known),
        })
    }
}

/// A fact that is not known, with everything below it.
#[derive(Debug)]
struct NotKnown;

impl Object for NotKnown {
    fn repr(self: &Arc<Self>) -> ObjectRepr {
        ObjectRepr::Plain
    }

    fn get_value(self: &Arc<Self>, _: &Value) -> Option<Value> {
        Some(Value::from_object(Self))
    }

    fn is_true(self: &Arc<Self>) -> bool {
        false
    }

    fn render(self: &Arc<Self>, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(NOT_KNOWN)
    }
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
            others: map(json!({
                "person": { "name": "Brobek <x>" }, "service": { "id": "mail", "title": "Mail" },
                "holder": { "name": "Brobek <x>" }, "workspace": "Skerry Light",
            })),
            findings: vec![
                json!({ "title": "Lock", "fix": "Lock it." }),
                json!({ "title": "Charts", "fix": "Load them." }),
            ],
        }
    }

    #[test]
    fn facts_and_findings_are_filled_in() {
        let fill = |text: &str| fill_in(text, TextKind::Stopped, &values()).expect("a text");
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
        let check = |text: &str| check_template(text, TextKind::Stopped);
        let wrong = check("Hello {{ devise.kind }}").unwrap_err();
        assert_eq!(wrong, TemplateError { message: "there is no `devise` to fill in".into(), range: Some(9..15) });
        assert!(check("Hello {{ device.kind").unwrap_err().range.is_some());
        assert_eq!(check("{% for f in findings %}{{ f.title }}{% endfor %}"), Ok(()));
        // Nothing goes on for ever.
        assert!(
            fill_in(
                "{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}",
                TextKind::Stopped,
                &values()
            )
            .is_err()
        );
    }

    #[test]
    fn a_message_is_strict_about_names_and_patient_about_facts() {
        let fill = |text: &str| fill_in(text, TextKind::Message, &values());
        let text = "{{ workspace }}: {% for f in findings %}{{ f.title }}, {% endfor %}{{ device.os.build.number }}\n";
        assert_eq!(fill(text).unwrap(), "Skerry Light: Lock, Charts, (not known)\n");
        assert_eq!(fill("{% if device.os.build %}yes{% else %}no{% endif %}").unwrap(), "no");
        for text in ["{{ findings[0].titel }}", "{{ holder.nmae }}", "{{ nobody }}"] {
            assert!(fill(text).is_err(), "{text}");
        }
        assert!(check_template("{{ person.name }}", TextKind::Message).unwrap_err().message.contains("`person`"));
        let html = fill_in("<b>{{ holder.name }}</b>", TextKind::HtmlMessage, &values()).unwrap();
        assert_eq!(html, "<b>Brobek &lt;x&gt;</b>");
        // However it is told to, no text grows beyond its limit.
        let long = "{% for a in range(9000) %}{{ workspace }}{{ workspace }}{% endfor %}";
        assert!(fill(long).unwrap_err().message.contains("longer than"), "{:?}", fill(long));
        assert!(fill("{% set x = 'x' * 1000000000 %}{{ x }}").is_err());
    }
}
