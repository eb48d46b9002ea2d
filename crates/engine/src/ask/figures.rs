//! The figures of the fleet, assessment by assessment, as each kept them.

use fencepost_store::RunRow;
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::Value as Json;

use crate::assess::{FindingCounts, RuleCount, StandingCounts};
use crate::compare::results::DriftTrend;
use crate::error::EngineError;
use crate::ledger_view::damage::unreadable_summary;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What an assessment counted.
#[derive(Clone, Debug, PartialEq)]
pub struct AssessmentFigures {
    /// Its number.
    pub assessment: i64,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// Devices by standing.
    pub devices: StandingCounts,
    /// What happened to findings since the one before.
    pub findings: FindingCounts,
    /// How much each set of devices that ought to be alike differed, in the order in which they are written.
    pub drift: Vec<DriftTrend>,
}

impl AssessmentFigures {
    /// Returns the part of the devices that are compliant, from 0 to 1; none where there is no device.
    pub fn share(&self) -> Option<f64> {
        (self.devices.total > 0).then(|| self.devices.compliant as f64 / self.devices.total as f64)
    }

    /// Returns what a set came to; none where it was not compared then.
    pub fn drift_of(&self, set: &str) -> Option<&DriftTrend> {
        self.drift.iter().find(|trend| trend.set == set)
    }
}

/// The part of an assessment's summary that is read: others may be long.
#[derive(Deserialize)]
pub(crate) struct Summary {
    devices: Json,
    /// What each rule came to.
    #[serde(default)]
    rules: Vec<Json>,
    findings: Option<FindingCounts>,
    drift: Option<Json>,
}

impl Summary {
    /// Reads the summary of an assessment.
    pub(crate) fn of(project: &Project, run: &RunRow) -> Result<Self, EngineError> {
        serde_json::from_str(&run.summary).map_err(|_| unreadable_summary(project, run.id).into())
    }

    /// Returns what each rule came to that was on trial or enforced.
    pub(crate) fn rule_counts(&self) -> impl Iterator<Item = RuleCount> {
        self.rules.iter().filter_map(RuleCount::of_json)
    }
}

impl Reading<'_> {
    /// Returns the figures of the latest assessments at or before the moment of reading, oldest first, no more than `most`.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn figures(&self, most: u32) -> Result<Vec<AssessmentFigures>, EngineError> {
        let runs = self.reader.assessments(Some(self.at), most)?;
        runs.iter().rev().map(|run| self.figures_of(run)).collect()
    }

    /// Returns the figures of an assessment.
    pub(crate) fn figures_of(&self, run: &RunRow) -> Result<AssessmentFigures, EngineError> {
        let broken = || unreadable_summary(self.project, run.id);
        let summary = Summary::of(self.project, run)?;
        Ok(AssessmentFigures {
            assessment: run.number.unwrap_or(0),
            as_of: run.as_of,
            devices: StandingCounts::of_json(&summary.devices).ok_or_else(broken)?,
            findings: match summary.findings {
                Some(counts) => counts,
                // Earlier versions did not keep them.
                None => FindingCounts::of_run(self.project, &self.reader, run)?,
            },
            drift: summary.drift.as_ref().map(DriftTrend::of_json).unwrap_or_default(),
        })
    }
}
