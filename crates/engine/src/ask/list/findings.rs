//! Findings that run, the longest overdue first; for those who write to people themselves also with whom to tell and what.

use bumpalo::Bump;
use fencepost_core::{Facts, Finding, Phase, RuleId, Subject};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{Row, RowSink, push_text, row};
use crate::act::compose::{Composer, FindingTold};
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["device", "rule", "phase", "severity", "opened", "due", "holder"],
        &[
            "spell",
            "leaves_open",
            "blame",
            "waiver",
            "title",
            "fix",
            "service",
            "awaiting",
            "site",
            "mail",
            "lead",
            "lead_mail",
        ],
    )
}

/// The columns for which devices are evaluated once more.
const TOLD: [&str; 4] = ["title", "fix", "service", "awaiting"];

/// The findings of a device, with whose it is.
#[derive(Default)]
struct Found {
    findings: Vec<Finding>,
    holders: Vec<String>,
    holder_names: Option<String>,
    site: Option<String>,
}

/// What is said of a device beside each of its findings.
struct Beside {
    holder: Option<String>,
    site: Option<String>,
    mail: Option<String>,
    lead: Option<String>,
    lead_mail: Option<String>,
}

impl Reading<'_> {
    pub(super) fn list_findings(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        sink.sort_by_keys();
        let is_told = TOLD.iter().any(|name| sink.asks_for(name));
        let mut composer = is_told.then(|| Composer::new(self));
        let (judge, posture) = (self.judge(), self.posture());
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let findings = posture.running(job)?;
            if findings.is_empty() {
                return Ok(Found::default());
            }
            let judged = judge.judged(&job.device.name, facts, arena);
            Ok(Found {
                findings,
                holders: judged.input.holders.iter().map(|holder| holder.id.to_owned()).collect(),
                holder_names: judged.holder_names(),
                site: judged.fence.map(str::to_owned),
            })
        };
        let layout = self.project.rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &[]), look, |found: Found| {
            let beside = self.beside(&found);
            let told = composer.as_mut().map(|composer| composer.told_of(&found.findings)).transpose()?;
            found.findings.iter().enumerate().try_for_each(|(at, finding)| {
                let told = told.as_ref().map(|told| &told[at]);
                sink.push_with_key(&order(finding, self.at), self.row_of(finding, &beside, told))
            })
        })
    }

    fn beside(&self, found: &Found) -> Beside {
        let people = || found.holders.iter().filter_map(|id| self.people.get_once(id));
        let leads: Vec<String> = people().filter_map(|person| person.text("lead").map(str::to_owned)).collect();
        let mails = |ids: &[String]| list(ids.iter().filter_map(|id| self.people.mail_of(id)));
        Beside {
            holder: found.holder_names.clone(),
            site: found.site.clone(),
            mail: mails(&found.holders),
            lead_mail: mails(&leads),
            lead: list(leads),
        }
    }

    fn row_of(&self, finding: &Finding, beside: &Beside, told: Option<&FindingTold>) -> Row<'static> {
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
            ("holder", json!(beside.holder)),
            ("site", json!(beside.site)),
            ("mail", json!(beside.mail)),
            ("lead", json!(beside.lead)),
            ("lead_mail", json!(beside.lead_mail)),
            ("title", json!(told.map(|told| &told.title))),
            ("fix", json!(told.and_then(|told| told.fix.as_ref()))),
            ("service", json!(told.and_then(|told| list(told.loses.iter().cloned())))),
            ("awaiting", json!(told.map(|told| told.awaiting))),
            ("leaves_open", if finding.subject == Subject::Silence { json!(leaves.join(", ")) } else { Json::Null }),
            ("blame", if blames.is_empty() { Json::Null } else { json!(blames.join(", ")) }),
        ])
    }
}

/// Returns texts in one, each once; none where there are none.
fn list(texts: impl IntoIterator<Item = String>) -> Option<String> {
    let mut all: Vec<String> = Vec::new();
    for text in texts {
        if !all.contains(&text) {
            all.push(text);
        }
    }
    (!all.is_empty()).then(|| all.join(", "))
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
