//! Rules, with how many devices pass and fail them.

use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::assess::RuleCount;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::versions::same_since;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &[
            "rule", "severity", "stage", "grace", "reach", "pass", "fail", "unknown", "waived", "share", "changed",
            "title",
        ],
        &["enforced_from", "not_applicable", "excepted", "awaiting", "controls", "topic", "covers", "require"],
    )
}

impl Reading<'_> {
    pub(super) fn list_rules(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let counts = self.rule_counts()?.unwrap_or_default();
        let changed = match &self.assessment {
            Some(last) => same_since(self.project, &self.reader, last.as_of, |then, now| then.judges_as(now))?,
            None => vec![None; self.project.rules.rules().len()],
        };
        let rows = self.project.rules.rules().iter().zip(changed).map(|(rule, changed)| {
            let count = counts.get(rule.id.as_str());
            let number = |get: fn(&RuleCount) -> u64| json!(count.map(get));
            row([
                ("rule", json!(rule.id.as_str())),
                ("severity", json!(rule.severity.as_str())),
                ("stage", json!(rule.stage(self.judged_at()).as_str())),
                ("enforced_from", json!(rule.enforced_from.map(|from| from.to_string()))),
                ("grace", json!(rule.grace.to_string())),
                ("reach", number(RuleCount::judged)),
                ("pass", number(|count| count.pass)),
                ("fail", number(|count| count.fail)),
                ("unknown", number(|count| count.unknown)),
                ("share", json!(count.and_then(RuleCount::share))),
                ("not_applicable", number(|count| count.not_applicable)),
                ("changed", json!(changed.map(|moment| moment.to_string()))),
                ("excepted", number(|count| count.excepted)),
                ("awaiting", number(|count| count.awaiting)),
                ("waived", number(|count| count.waived)),
                ("controls", json!(rule.controls().collect::<Vec<_>>())),
                ("topic", json!(rule.topic)),
                ("title", json!(rule.title)),
                ("covers", json!(rule.covers())),
                ("require", json!(rule.require())),
            ])
        });
        sink.push_all(rows)
    }
}
