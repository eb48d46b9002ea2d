//! Every verdict of the assessment, device by device: what was observed, and what was required.

use fencepost_core::{Verdict, VerdictOutcome};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{Row, RowSink, row};
use crate::ask::verdicts::{DeviceVerdictsAt, VerdictSource, VerdictsWanted, is_spared};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &[
            "device", "holder", "rule", "family", "outcome", "reason", "stage", "severity", "observed", "required",
            "source", "age", "awaiting", "phase", "due",
        ],
        &["title", "waived", "excepted"],
    )
}

/// The columns for which verdicts are proved.
const PROVED: [&str; 4] = ["observed", "required", "source", "age"];

impl Reading<'_> {
    pub(super) fn list_verdicts(&self, sink: &mut RowSink, not_applicable: bool) -> Result<(), EngineError> {
        let is_proved = PROVED.iter().any(|name| sink.asks_for(name));
        let is_told = |verdict: &&Verdict| not_applicable || !is_spared(verdict);
        let tell = |device: &DeviceVerdictsAt<'_>| {
            let told = device.verdicts.iter().filter(is_told);
            told.map(|verdict| row_of(device, verdict, is_proved)).collect::<Vec<_>>()
        };
        let layout = self.project.rules.layout();
        let wanted = VerdictsWanted { source: VerdictSource::Assessment, of_rule: None, layout, slots: &[] };
        self.each_with_verdicts(wanted, tell, |rows| sink.push_all(rows))
    }
}

fn row_of(device: &DeviceVerdictsAt<'_>, verdict: &Verdict, is_proved: bool) -> Row<'static> {
    let rule = device.rule(verdict);
    let proof = if is_proved { device.proof(verdict) } else { Default::default() };
    let reason = match verdict.outcome {
        VerdictOutcome::Unknown(reason) => Some(reason.as_str()),
        VerdictOutcome::Pass | VerdictOutcome::Fail | VerdictOutcome::NotApplicable => None,
    };
    let finding = device.finding(verdict);
    row([
        ("device", json!(device.judged.input.id)),
        ("holder", json!(device.judged.holder_names())),
        ("rule", json!(rule.id.as_str())),
        ("family", json!(rule.family())),
        ("outcome", json!(verdict.outcome.as_str())),
        ("reason", json!(reason)),
        ("stage", json!(rule.stage(device.judge.at).as_str())),
        ("severity", json!(rule.severity.as_str())),
        ("observed", json!(proof.observed)),
        ("required", json!(proof.required)),
        ("source", json!(proof.source)),
        ("age", json!(proof.age)),
        ("awaiting", json!(verdict.awaiting)),
        ("phase", json!(finding.map(|finding| finding.phase(device.at).as_str()))),
        ("due", finding.map_or(Json::Null, |finding| json!(finding.clock.due_at(device.at).to_string()))),
        ("title", json!(rule.title)),
        ("waived", json!(verdict.waived)),
        ("excepted", json!(verdict.excepted)),
    ])
}
