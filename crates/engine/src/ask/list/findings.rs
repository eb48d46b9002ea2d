//! Findings that run, the longest overdue first.

use bumpalo::Bump;
use fencepost_core::{Facts, Finding, Phase, RuleId, Subject};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{Row, RowSink, push_text, row};
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["device", "rule", "phase", "severity", "opened", "due", "holder"],
        &["spell", "leaves_open", "blame", "waiver"],
    )
}

impl Reading<'_> {
    pub(super) fn list_findings(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        sink.sort_by_keys();
        let (judge, posture) = (self.judge(), self.posture());
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let findings = posture.running(job)?;
            if findings.is_empty() {
                return Ok((findings, Json::Null));
            }
            let judged = judge.judged(&job.device.name, facts, arena);
            Ok((findings, judged.holder_names().map_or(Json::Null, Json::String)))
        };
        let layout = self.project.rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &[]), look, |(findings, holder): (Vec<Finding>, Json)| {
            findings
                .iter()
                .try_for_each(|finding| sink.push_with_key(&order(finding, self.at), self.row_of(finding, &holder)))
        })
    }

    fn row_of(&self, finding: &Finding, holder: &Json) -> Row<'static> {
        let rule = self.project.rules.position(finding.subject.as_str()).map(|at| &self.project.rules.rules()[at]);
        let blames: Vec<String> =
            finding.blames.iter().map(|blame| format!("{} {}", blame.fact, blame.reason.as_str())).collect();
        let leaves: Vec<&str> = finding.leaves_open.iter().map(RuleId::as_str).collect();
        row([
            ("device", json!(finding.device.as_str())),
            ("rule", json!(finding.subject.as_str())),
            ("phase", json!(finding.phase(self.at).as_str())),
            ("severity", json!(rule.map(|rule| rule.severity.as_str()))),
            ("opened", json!(finding.clock.opened.to_string())),
            ("due", json!(finding.clock.due_at(self.at).to_string())),
            ("waiver", json!(finding.clock.waived_at(self.at).map(|time| time.waiver.as_str()))),
            ("spell", json!(finding.spell)),
            ("holder", holder.clone()),
            ("leaves_open", if finding.subject == Subject::Silence { json!(leaves.join(", ")) } else { Json::Null }),
            ("blame", if blames.is_empty() { Json::Null } else { json!(blames.join(", ")) }),
        ])
    }
}

/// Returns the key that lists what is longest overdue first, and what is waived last, by when that ends.
fn order(finding: &Finding, at: Timestamp) -> Vec<u8> {
    let (is_waived, moment) = match finding.phase(at) {
        Phase::Waived { until } => (true, until),
        _ => (false, finding.clock.due_at(at)),
    };
    // With the sign turned round, moments before 1970 come before those after.
    let moment = moment.as_nanosecond() ^ i128::MIN;
    let mut key = vec![u8::from(is_waived)];
    key.extend(moment.to_be_bytes());
    push_text(&mut key, finding.device.as_str());
    push_text(&mut key, finding.subject.as_str());
    key
}
