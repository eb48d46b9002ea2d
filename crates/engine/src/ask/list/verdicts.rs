//! Every verdict of the assessment, device by device: what was observed, and what was required.

use std::collections::HashSet;

use bumpalo::Bump;
use fencepost_core::{Evidence, FactUse, Facts, Finding, Stage, Subject, Verdict, VerdictOutcome};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{Row, RowSink, row};
use crate::error::EngineError;
use crate::facts::judge::{Judge, Judged};
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::outcome::verdict_of;
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

/// What is said of verdicts.
#[derive(Clone, Copy)]
struct VerdictColumns {
    /// What was observed and required, too.
    proved: bool,
    /// Of rules that do not cover the device, too.
    not_applicable: bool,
}

/// A device whose verdicts are told.
struct ToldDevice<'a> {
    judge: &'a Judge<'a>,
    judged: &'a Judged<'a>,
    verdicts: Vec<Verdict>,
    /// Its findings that run.
    running: Vec<Finding>,
    arena: &'a Bump,
}

/// What is found of a device when all are gone through.
enum Found {
    Rows(Vec<Row<'static>>),
    /// Something came in of it since the assessment: it is told by what the assessment knew.
    Outdated {
        device: String,
        verdicts: Vec<Verdict>,
        running: Vec<Finding>,
    },
}

impl Reading<'_> {
    pub(super) fn list_verdicts(&self, sink: &mut RowSink, not_applicable: bool) -> Result<(), EngineError> {
        let said = VerdictColumns { proved: PROVED.iter().any(|name| sink.asks_for(name)), not_applicable };
        let rules = self.project.rules.rules();
        let judged_by: Vec<usize> = (0..rules.len()).filter(|at| !rules[*at].is_draft()).collect();
        self.load_comparisons()?;
        let (judge, posture, at) = (self.judge(), self.posture(), self.at);
        let is_of_now = self.run.is_none();
        let outdated: HashSet<i64> = match self.run {
            Some(_) => HashSet::new(),
            None => self.reader.changed_devices()?,
        };
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let judged = judge.judged(&job.device.name, facts, arena);
            let verdicts = match job.outcome() {
                Some(outcome) => {
                    let codes = judged_by.iter().zip(outcome.verdicts);
                    codes.map(|(rule, code)| verdict_of(*rule, *code)).collect()
                }
                // What came in after the assessment is not judged yet.
                None if is_of_now => return Ok(Found::Rows(Vec::new())),
                None => judge.verdicts(&judged.input, arena).all,
            };
            let running = posture.running(job)?;
            if outdated.contains(&job.device.number) {
                return Ok(Found::Outdated { device: job.device.name.clone(), verdicts, running });
            }
            let told = ToldDevice { judge: &judge, judged: &judged, verdicts, running, arena };
            Ok(Found::Rows(told.rows(said, at)))
        };
        let wanted = self.project.rules.slots_of_rules();
        let layout = self.project.rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &wanted), look, |found| {
            let rows = match found {
                Found::Rows(rows) => rows,
                Found::Outdated { device, verdicts, running } => {
                    self.assessed_rows(&device, verdicts, running, said)?
                }
            };
            sink.push_all(rows)
        })
    }

    /// Tells the verdicts of a device by what the assessment knew of it.
    fn assessed_rows(
        &self,
        device: &str,
        verdicts: Vec<Verdict>,
        running: Vec<Finding>,
        said: VerdictColumns,
    ) -> Result<Vec<Row<'static>>, EngineError> {
        let (judge, arena) = (self.assessing_judge(), Bump::new());
        let documents = self.assessed_documents(device)?;
        let judged = judge.device(device, &documents, &arena)?;
        let told = ToldDevice { judge: &judge, judged: &judged, verdicts, running, arena: &arena };
        Ok(told.rows(said, self.at))
    }
}

impl ToldDevice<'_> {
    fn rows(&self, said: VerdictColumns, at: Timestamp) -> Vec<Row<'static>> {
        let is_told = |verdict: &&Verdict| said.not_applicable || verdict.outcome != VerdictOutcome::NotApplicable;
        self.verdicts.iter().filter(is_told).map(|verdict| self.row(verdict, said, at)).collect()
    }

    fn row(&self, verdict: &Verdict, said: VerdictColumns, at: Timestamp) -> Row<'static> {
        let rule = &self.judge.project.rules.rules()[verdict.rule];
        let proof = said.proved.then(|| self.judge.prove(verdict, &self.judged.input, self.arena));
        // The rule of a set does not say which fact it is about.
        let names_fact = rule.compared_set().is_some();
        let proof = proof.as_ref().map(|evidence| Proof::of(evidence, names_fact, at)).unwrap_or_default();
        let reason = match verdict.outcome {
            VerdictOutcome::Unknown(reason) => Some(reason.as_str()),
            VerdictOutcome::Pass | VerdictOutcome::Fail | VerdictOutcome::NotApplicable => None,
        };
        let finding = self.finding(verdict);
        let stage = rule.stage(self.judge.at);
        row([
            ("device", json!(self.judged.input.id)),
            ("holder", json!(self.judged.holder_names())),
            ("rule", json!(rule.id.as_str())),
            ("family", json!(rule.family())),
            ("outcome", json!(verdict.outcome.as_str())),
            ("reason", json!(reason)),
            ("stage", json!(stage.as_str())),
            ("severity", json!(rule.severity.as_str())),
            ("observed", json!(proof.observed)),
            ("required", json!(proof.required)),
            ("source", json!(proof.source)),
            ("age", json!(proof.age)),
            ("awaiting", json!(verdict.awaiting)),
            ("phase", json!(finding.map(|finding| finding.phase(at).as_str()))),
            ("due", finding.map_or(Json::Null, |finding| json!(finding.clock.due_at(at).to_string()))),
            ("title", json!(rule.title)),
            ("waived", json!(verdict.waived)),
            ("excepted", json!(verdict.excepted)),
        ])
    }

    /// Returns the finding whose clock runs for a verdict: of an unknown that of the silence, else that of its rule.
    fn finding(&self, verdict: &Verdict) -> Option<&Finding> {
        let rule = &self.judge.project.rules.rules()[verdict.rule];
        if rule.stage(self.judge.at) != Stage::Enforced || verdict.outcome.is_quiet() {
            return None;
        }
        let of_rule = |finding: &&Finding| matches!(&finding.subject, Subject::Rule(id) if *id == rule.id);
        let is_silence = |finding: &&Finding| finding.subject == Subject::Silence && rule.is_left_open(verdict.outcome);
        self.running.iter().find(is_silence).or_else(|| self.running.iter().find(of_rule))
    }
}

/// What a verdict comes from, in a line.
#[derive(Default)]
struct Proof {
    observed: Option<String>,
    required: Option<String>,
    /// The source of the fact that was looked at.
    source: Option<String>,
    /// How old the newest fact of it is: a duration of ISO 8601.
    age: Option<String>,
}

impl Proof {
    fn of(evidence: &Evidence, names_fact: bool, at: Timestamp) -> Self {
        let headline = evidence.headline_parts();
        let item = headline.item.map(|item| format!("{item}: ")).unwrap_or_default();
        let fact = if names_fact { format!("{} is ", headline.subject) } else { String::new() };
        let more = if headline.more > 0 { format!(" (and {} more)", headline.more) } else { String::new() };
        let mut source = None;
        evidence.for_each_fact(&mut |fact: &FactUse| source = source.take().or_else(|| fact.source.clone()));
        Self {
            observed: Some(format!("{item}{fact}{}{more}", headline.found)).filter(|observed| !observed.is_empty()),
            required: headline.required,
            source,
            age: evidence.collected().map(|collected| at.duration_since(collected).to_string()),
        }
    }
}
