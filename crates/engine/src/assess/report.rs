//! What an assessment came to, as it is told and as it is read back from the ledger.

use std::collections::BTreeMap;

use fencepost_core::{Diagnostic, FindingClock};
use fencepost_store::{DueRow, LedgerError, Reader, RunRow};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::counts::{RuleCount, StandingCounts};
use crate::error::EngineError;
use crate::spool::Spool;
use crate::workspace::project::Project;

/// A finding in a list of what happened.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FindingLine {
    /// The device.
    pub device: String,
    /// The rule, or the word for silence.
    pub rule: String,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// Its phase after the assessment.
    pub phase: LinePhase,
    /// Why it closed, or `relapsed` where it reopened.
    pub how: Option<String>,
}

/// The phase of a finding in a list of what happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum LinePhase {
    /// Its grace runs.
    Open,
    /// Its grace has ended.
    Overdue,
    /// It is over.
    Closed,
}

impl LinePhase {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Overdue => "overdue",
            Self::Closed => "closed",
        }
    }
}

/// What an assessment came to.
#[derive(Debug)]
pub struct Assessed {
    /// Its number.
    pub number: i64,
    /// Its run.
    pub run: i64,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// It was there already: the same moment and nothing new.
    pub existing: bool,
    /// Devices by standing.
    pub devices: StandingCounts,
    /// Every rule on trial or enforced, in the order of the rule set.
    pub rules: Vec<RuleCount>,
    /// Findings that opened, or reopened.
    pub opened: Spool<FindingLine>,
    /// Findings that closed.
    pub closed: Spool<FindingLine>,
    /// Findings that fell due since the assessment before.
    pub overdue: Spool<FindingLine>,
    /// When the state was collected that was judged: the oldest and the newest of the devices' latest.
    pub collected: Option<(Timestamp, Timestamp)>,
    /// The assessment before, if there is one.
    pub before: Option<Timestamp>,
    /// Facts that conditions name and no device reports.
    pub warnings: Vec<Diagnostic>,
    /// Where verdicts worked out elsewhere were given: of how many devices they were taken, of how many that were looked at.
    pub taken: Option<(u64, u64)>,
}

impl Assessed {
    /// Reads an assessment back from the ledger.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn load(project: &Project, reader: &Reader<'_>, run: &RunRow) -> Result<Self, EngineError> {
        let broken =
            || LedgerError::Damaged { path: project.ledger_path(), what: format!("the summary of run {}", run.id) };
        let summary: Json = serde_json::from_str(&run.summary).map_err(|_| broken())?;
        let devices = StandingCounts::of_json(&summary["devices"]).ok_or_else(broken)?;
        let rows = summary["rules"].as_array().ok_or_else(broken)?;
        let rules = rows.iter().map(RuleCount::of_json).collect::<Option<_>>().ok_or_else(broken)?;
        let moment = |json: &Json| json.as_str().and_then(|text| text.parse::<Timestamp>().ok());
        let before = moment(&summary["before"]);
        let collected = moment(&summary["collected"][0]).zip(moment(&summary["collected"][1]));
        let (mut opened, mut closed, mut lost) = (Spool::default(), Spool::default(), 0);
        reader.each_event(run.id, |what, body| {
            let into = match what {
                "opened" | "relapsed" => &mut opened,
                "closed" => &mut closed,
                _ => return Ok(()),
            };
            match event_line(body, run.as_of, what == "closed") {
                Some(line) => into.push(&line)?,
                None => lost += 1,
            }
            Ok::<_, EngineError>(())
        })?;
        if lost > 0 {
            let what = format!("{lost} events of run {} cannot be read", run.id);
            return Err(LedgerError::Damaged { path: project.ledger_path(), what }.into());
        }
        // What opened since is due later still.
        let mut overdue = Spool::default();
        reader.each_due(run.id, before, run.as_of, |DueRow { device, subject, opened, due, spell }| {
            let how = (spell > 1).then(|| "relapsed".to_owned());
            overdue.push(&FindingLine { device, rule: subject, opened, due, phase: LinePhase::Overdue, how })
        })?;
        Ok(Self {
            number: run.number.unwrap_or(0),
            run: run.id,
            as_of: run.as_of,
            existing: false,
            devices,
            rules,
            opened,
            closed,
            overdue,
            collected,
            before,
            warnings: Vec::new(),
            taken: None,
        })
    }
}

fn event_line(body: &str, at: Timestamp, closed: bool) -> Option<FindingLine> {
    let mut body: BTreeMap<&str, Option<String>> = serde_json::from_str(body).ok()?;
    let due: Timestamp = body.remove("due")??.parse().ok()?;
    let opened: Timestamp = body.remove("opened")??.parse().ok()?;
    Some(FindingLine {
        device: body.remove("device")??,
        rule: body.remove("rule")??,
        opened,
        due,
        phase: match (closed, FindingClock::running(opened, due).is_overdue(at)) {
            (true, _) => LinePhase::Closed,
            (false, true) => LinePhase::Overdue,
            (false, false) => LinePhase::Open,
        },
        how: body.remove("how").flatten(),
    })
}
