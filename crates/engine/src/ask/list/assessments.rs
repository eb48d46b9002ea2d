//! Assessments, newest first.

use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::ask::figures::AssessmentFigures;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    let mut columns = super::columns(
        &[
            "assessment",
            "as_of",
            "devices",
            "compliant",
            "on_notice",
            "unproven",
            "non_compliant",
            "waived",
            "opened",
            "closed",
            "overdue",
        ],
        &["user", "version", "rule_set"],
    );
    // How many findings opened is no moment.
    columns.iter_mut().for_each(|column| column.is_moment &= column.name == "as_of");
    columns
}

impl Reading<'_> {
    pub(super) fn list_assessments(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut rows = Vec::new();
        for run in self.reader.assessments(None, u32::MAX)? {
            let AssessmentFigures { assessment, devices: d, findings, .. } = self.figures_of(&run)?;
            rows.push(row([
                ("assessment", json!(assessment)),
                ("as_of", json!(run.as_of.to_string())),
                ("devices", json!(d.total)),
                ("compliant", json!(d.compliant)),
                ("on_notice", json!(d.on_notice)),
                ("unproven", json!(d.unproven)),
                ("non_compliant", json!(d.non_compliant)),
                ("waived", json!(d.waived)),
                ("opened", json!(findings.opened + findings.came_back)),
                ("closed", json!(findings.closed)),
                ("overdue", json!(findings.fell_due)),
                ("user", json!(run.user)),
                ("version", json!(run.version)),
                ("rule_set", json!(run.rule_set)),
            ]));
        }
        sink.push_all(rows)
    }
}
