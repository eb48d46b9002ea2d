//! What a record has to pass on its way in: which devices a source may speak of, and of which the company may keep everything.

use std::collections::HashMap;

use fencepost_core::{
    Condition, Declaration, Diagnostic, Dictionary, FactType, Facts, Layout, Place, Session, Text, Value, Vocabulary,
};
use fencepost_formats::Config;

/// The conditions on records, and the layout by which they read them.
#[derive(Debug)]
pub(crate) struct Gates {
    /// Knows how facts are kept, and what the conditions read.
    pub layout: Layout,
    /// By source.
    speaks_for: HashMap<String, Condition>,
    company_device: Option<Condition>,
}

/// Whether a fact is declared to hold other values.
fn is_list(declared: Option<&Declaration>) -> bool {
    declared.is_some_and(|declared| {
        declared.key.is_some() || matches!(declared.ty, Some(FactType::List | FactType::Object))
    })
}

impl Gates {
    /// Compiles the conditions of a workspace.
    pub fn compile(config: &Config, dictionary: &Dictionary, mistakes: &mut Vec<Diagnostic>) -> Self {
        let mut layout = Layout::new(dictionary);
        let mut people = Layout::new(&Dictionary::default());
        let mut compile = |text: &Text, mistakes: &mut Vec<Diagnostic>| {
            let mut vocabulary =
                Vocabulary { dictionary, layout: &mut layout, people: &mut people, groups: &[], rules: &[] };
            Condition::compile(text, Place::Devices, &mut vocabulary, mistakes)
        };
        let speaks_for = config
            .sources
            .iter()
            .filter_map(|source| Some((source.id.to_string(), compile(source.speaks_for.as_ref()?, mistakes)?)))
            .collect();
        let company_device = config.company_device.as_ref().and_then(|text| compile(text, mistakes));
        if let (None, Some((path, _))) =
            (&config.company_device, dictionary.facts.iter().find(|(_, declared)| declared.company_only))
        {
            mistakes.push(
                Diagnostic::error(
                    "no-company-device",
                    format!("`{path}` is company_only, and nothing says which devices are the company's"),
                    None,
                )
                .help("write company_device = 'ownership = \"company\"' in fencepost.toml"),
            );
        }
        // What is declared is looked at in every record, so that what is of another type is told. Lists are not: reading them takes long.
        for (path, declared) in &dictionary.facts {
            let is_of_items = path.match_indices('.').any(|(at, _)| is_list(dictionary.facts.get(&path[..at])));
            if declared.ty.is_some() && !is_list(Some(declared)) && !is_of_items {
                layout.want(path, dictionary);
            }
        }
        if let Some(holder) = &config.holder {
            layout.want(holder, dictionary);
        }
        Self { layout, speaks_for, company_device }
    }

    /// Whether a source may speak of a device with these facts; the reason when it may not.
    pub fn admits<'a>(&self, source: &str, facts: &'a Facts<'a>, session: Session<'a>) -> Result<(), String> {
        let Some(condition) = self.speaks_for.get(source) else { return Ok(()) };
        match session.evaluator(facts).holds(condition) {
            Value::Boolean(true) => Ok(()),
            Value::Boolean(false) => Err(format!("`{source}` does not speak for such a device (speaks_for)")),
            _ => Err(format!("the record does not say whether `{source}` speaks for the device (speaks_for)")),
        }
    }

    /// Whether a device with these facts is the company's; in doubt it is not.
    pub fn is_company_device<'a>(&self, facts: &'a Facts<'a>, session: Session<'a>) -> bool {
        self.company_device
            .as_ref()
            .is_some_and(|condition| matches!(session.evaluator(facts).holds(condition), Value::Boolean(true)))
    }

    /// Whether a source has to pass a condition.
    pub fn guards(&self, source: &str) -> bool {
        self.speaks_for.contains_key(source)
    }
}
