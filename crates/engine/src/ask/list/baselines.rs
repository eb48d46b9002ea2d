//! Baselines and families of rules, with how much of them the devices meet.

use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::ask::baselines::RulesTogether;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list, of which the first is called so.
pub(super) fn columns(first: &str) -> Vec<Column> {
    super::columns(&[first, "devices", "all_met", "some_met", "none_met", "unknown", "share", "waived"], &[])
}

impl Reading<'_> {
    pub(super) fn list_rules_together(&self, sink: &mut RowSink, together: RulesTogether) -> Result<(), EngineError> {
        let first = match together {
            RulesTogether::Baselines => "baseline",
            RulesTogether::Families => "family",
        };
        let rows = self.rules_together(together)?.into_iter().map(|counts| {
            row([
                (first, json!(counts.id)),
                ("devices", json!(counts.devices)),
                ("all_met", json!(counts.all_met)),
                ("some_met", json!(counts.some_met)),
                ("none_met", json!(counts.none_met)),
                ("unknown", json!(counts.unknown)),
                ("share", json!(counts.share())),
                ("waived", json!(counts.waived)),
            ])
        });
        sink.push_all(rows)
    }
}
