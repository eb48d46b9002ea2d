//! `rules/*.toml`: rules.

use fencepost_core::{Named, Period, RuleSetSource, RuleSeverity, RuleSource, Stage};

use super::table::{Reader, Table};

// Without `response`: until responses exist, the key would promise what does not happen.
const KEYS: [&str; 14] = [
    "id", "title", "topic", "covers", "groups", "except", "require", "checks", "severity", "stage", "grace", "because",
    "fix", "was",
];

pub(super) fn read(reader: &mut Reader<'_>, root: &Table<'_>, into: &mut RuleSetSource) {
    reader.known_keys(root, "a file of rules", &["rule"]);
    for table in reader.tables(root, "rule") {
        reader.known_keys(&table, "[[rule]]", &KEYS);
        let Some(id) = reader.id(&table, "a [[rule]]") else { continue };
        let severities = RuleSeverity::ALL.map(|severity| (severity.as_str(), severity));
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
        into.rules.push(RuleSource {
            id,
            title: reader.string(&table, "title"),
            topic: reader.string(&table, "topic"),
            groups: reader.names(&table, "groups"),
            covers: reader.text(&table, "covers"),
            except: reader.names(&table, "except"),
            require: reader.text(&table, "require"),
            checks,
            severity: reader.word(&table, "severity", &severities).unwrap_or(RuleSeverity::Medium),
            stage: reader
                .word(&table, "stage", &Stage::ALL.map(|stage| (stage.as_str(), stage)))
                .unwrap_or(Stage::Enforced),
            grace: reader.period(&table, "grace").unwrap_or(Period::ZERO),
            because: reader.string(&table, "because"),
            fix: reader.string(&table, "fix"),
            was: reader.names(&table, "was"),
        });
    }
}
