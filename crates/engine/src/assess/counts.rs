//! What devices come to together: standings, and what each rule says.

use std::collections::BTreeMap;

use fencepost_core::{Rule, Standing, Verdict, VerdictOutcome};
use fencepost_store::{Reader, RunRow};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use super::report::Happened;
use crate::assess::stateless::RuleJudgement;
use crate::error::EngineError;
use crate::ledger_view::fence::Post;
use crate::workspace::project::Project;

/// How many devices stand how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct StandingCounts {
    /// All devices.
    pub total: u64,
    /// Compliant ones.
    pub compliant: u64,
    /// Ones on notice.
    pub on_notice: u64,
    /// Unproven ones.
    pub unproven: u64,
    /// Non-compliant ones.
    pub non_compliant: u64,
    /// Devices that no enforced rule covers.
    pub uncovered: u64,
    /// Devices of which nothing is fresh any more.
    pub stale: u64,
    /// Compliant ones that would not be without a waiver.
    pub waived: u64,
}

impl StandingCounts {
    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: &Self) {
        self.total += other.total;
        self.compliant += other.compliant;
        self.on_notice += other.on_notice;
        self.unproven += other.unproven;
        self.non_compliant += other.non_compliant;
        self.uncovered += other.uncovered;
        self.stale += other.stale;
        self.waived += other.waived;
    }

    /// Counts one more device.
    pub fn add(&mut self, standing: Standing) {
        self.total += 1;
        *self.of(standing) += 1;
    }

    pub(super) fn of(&mut self, standing: Standing) -> &mut u64 {
        match standing {
            Standing::Compliant => &mut self.compliant,
            Standing::OnNotice => &mut self.on_notice,
            Standing::Unproven => &mut self.unproven,
            Standing::NonCompliant => &mut self.non_compliant,
        }
    }

    /// As the summary of an assessment has it.
    pub(super) fn to_json(self) -> Json {
        let Self { total, compliant, on_notice, unproven, non_compliant, uncovered, stale, waived } = self;
        json!([total, compliant, on_notice, unproven, non_compliant, uncovered, stale, waived])
    }

    pub(crate) fn of_json(json: &Json) -> Option<Self> {
        let number = |at: usize| json.get(at)?.as_u64();
        Some(Self {
            total: number(0)?,
            compliant: number(1)?,
            on_notice: number(2)?,
            unproven: number(3)?,
            non_compliant: number(4)?,
            uncovered: number(5)?,
            stale: number(6)?,
            // Earlier summaries do not count it.
            waived: number(7).unwrap_or(0),
        })
    }
}

/// How the devices of a group stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct GroupCounts {
    /// All of them.
    pub all: u64,
    /// By standing, as [`Standing::ALL`] has them.
    pub standings: [u64; Standing::ALL.len()],
    /// Those that are compliant only by a waiver.
    pub by_waiver: u64,
}

impl GroupCounts {
    /// Counts one more device.
    pub(crate) fn add(&mut self, post: Post) {
        self.step(post, |count| *count += 1);
    }

    /// Steps what a device is counted by.
    pub(super) fn step(&mut self, post: Post, step: impl Fn(&mut u64)) {
        step(&mut self.all);
        step(&mut self.standings[post.standing as usize]);
        if post.by_waiver {
            step(&mut self.by_waiver);
        }
    }

    /// Returns the part of the devices that are compliant, from 0 to 1; none where there is no device.
    pub fn share(&self) -> Option<f64> {
        (self.all > 0).then(|| self.standings[Standing::Compliant as usize] as f64 / self.all as f64)
    }

    /// As the summary of an assessment has it.
    pub(super) fn to_json(self, group: &str) -> Json {
        let [compliant, on_notice, unproven, non_compliant] = self.standings;
        json!([group, self.all, compliant, on_notice, unproven, non_compliant, self.by_waiver])
    }

    /// Reads what [`Self::to_json`] wrote, with the group.
    pub(crate) fn of_json(json: &Json) -> Option<(&str, Self)> {
        let number = |at: usize| json.get(at)?.as_u64();
        let standings = [number(2)?, number(3)?, number(4)?, number(5)?];
        Some((json.get(0)?.as_str()?, Self { all: number(1)?, standings, by_waiver: number(6)? }))
    }
}

/// What happened to findings in an assessment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FindingCounts {
    /// Those that opened for the first time.
    pub opened: u64,
    /// Those that came back, with their old clock.
    pub came_back: u64,
    /// Those that closed.
    pub closed: u64,
    /// Those that fell due since the assessment before, and are not closed.
    pub fell_due: u64,
}

/// What was fixed in an assessment, and what came back, by rule.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FixesByRule {
    /// Of each finding that closed as fixed its number, and the seconds from its first opening.
    pub fixed: BTreeMap<String, Vec<(u64, i64)>>,
    /// How often findings came back.
    pub relapsed: BTreeMap<String, u64>,
}

impl FixesByRule {
    /// Gathers it of a run that did not keep it.
    pub(crate) fn of_run(project: &Project, reader: &Reader<'_>, run: &RunRow) -> Result<Self, EngineError> {
        Ok(Happened::read(project, reader, run.id, run.as_of)?.fixes)
    }
}

impl FindingCounts {
    /// Adds what happened in another assessment.
    pub(crate) fn add(&mut self, other: Self) {
        self.opened += other.opened;
        self.came_back += other.came_back;
        self.closed += other.closed;
        self.fell_due += other.fell_due;
    }

    /// Counts it of a run that did not keep it.
    pub(crate) fn of_run(project: &Project, reader: &Reader<'_>, run: &RunRow) -> Result<Self, EngineError> {
        Ok(Happened::read(project, reader, run.id, run.as_of)?.counts)
    }
}

/// What one rule came to over the fleet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RuleCount {
    /// The rule.
    pub rule: String,
    /// `trial` or `enforced`.
    pub stage: String,
    /// Devices that pass, vacuous ones among them.
    pub pass: u64,
    /// Devices that fail.
    pub fail: u64,
    /// Devices of which it is not known.
    pub unknown: u64,
    /// Devices that it does not cover, excepted ones among them.
    pub not_applicable: u64,
    /// Devices that pass because there was nothing to check.
    pub vacuous: u64,
    /// Devices that it would cover but for an exception.
    pub excepted: u64,
    /// Devices that fail, and where what was asked for is on its way.
    pub awaiting: u64,
    /// Devices that fail or are unknown, and where a waiver covers that.
    pub waived: u64,
    /// Of those, the ones that fail.
    pub waived_fail: u64,
}

impl RuleCount {
    /// Adds what was counted elsewhere for the same rule.
    pub fn merge(&mut self, other: &Self) {
        self.pass += other.pass;
        self.fail += other.fail;
        self.unknown += other.unknown;
        self.not_applicable += other.not_applicable;
        self.vacuous += other.vacuous;
        self.excepted += other.excepted;
        self.awaiting += other.awaiting;
        self.waived += other.waived;
        self.waived_fail += other.waived_fail;
    }

    /// Returns how many devices fail without a waiver.
    pub fn unwaived_fail(&self) -> u64 {
        self.fail.saturating_sub(self.waived_fail)
    }

    /// Returns how many devices the rule covers.
    pub fn judged(&self) -> u64 {
        self.pass + self.fail + self.unknown
    }

    /// Returns the part of the devices it covers that meet it, waived ones among them, from 0 to 1; none where it covers none.
    pub fn share(&self) -> Option<f64> {
        (self.judged() > 0).then(|| (self.pass + self.waived) as f64 / self.judged() as f64)
    }

    /// Counts the verdict of one more device.
    pub(crate) fn count(&mut self, verdict: &Verdict) {
        self.step(verdict, |count| *count += 1);
    }

    /// Steps what a verdict is counted by.
    pub(super) fn step(&mut self, verdict: &Verdict, step: impl Fn(&mut u64)) {
        step(self.of_outcome(verdict.outcome));
        let waived_fail = verdict.waived && verdict.outcome == VerdictOutcome::Fail;
        let marks = [
            (&mut self.vacuous, verdict.vacuous),
            (&mut self.excepted, verdict.excepted),
            (&mut self.awaiting, verdict.awaiting),
            (&mut self.waived, verdict.waived),
            (&mut self.waived_fail, waived_fail),
        ];
        marks.into_iter().filter(|(_, is_so)| *is_so).for_each(|(count, _)| step(count));
    }

    /// Creates the counts of a rule, all zero, as of a moment.
    pub fn of(rule: &Rule, at: Timestamp) -> Self {
        Self { rule: rule.id.to_string(), stage: rule.stage(at).as_str().to_owned(), ..Self::default() }
    }

    /// Counts one more device.
    pub fn add(&mut self, judgement: &RuleJudgement) {
        *self.of_outcome(judgement.outcome) += 1;
        self.vacuous += u64::from(judgement.vacuous);
        self.excepted += u64::from(judgement.excepted);
        self.awaiting += u64::from(judgement.awaiting);
    }

    pub(super) fn of_outcome(&mut self, outcome: VerdictOutcome) -> &mut u64 {
        match outcome {
            VerdictOutcome::Pass => &mut self.pass,
            VerdictOutcome::Fail => &mut self.fail,
            VerdictOutcome::Unknown(_) => &mut self.unknown,
            VerdictOutcome::NotApplicable => &mut self.not_applicable,
        }
    }

    /// As the summary of an assessment has it.
    pub(super) fn to_json(&self) -> Json {
        let Self { rule, stage, pass, fail, unknown, not_applicable, vacuous, excepted, awaiting, waived, waived_fail } =
            self;
        json!([rule, stage, pass, fail, unknown, not_applicable, vacuous, excepted, awaiting, waived, waived_fail])
    }

    pub(crate) fn of_json(json: &Json) -> Option<Self> {
        let number = |at: usize| json.get(at)?.as_u64();
        Some(Self {
            rule: json.get(0)?.as_str()?.to_owned(),
            stage: json.get(1)?.as_str()?.to_owned(),
            pass: number(2)?,
            fail: number(3)?,
            unknown: number(4)?,
            not_applicable: number(5)?,
            vacuous: number(6)?,
            excepted: number(7)?,
            // Earlier summaries do not count it.
            awaiting: number(8).unwrap_or(0),
            waived: number(9).unwrap_or(0),
            waived_fail: number(10).unwrap_or(0),
        })
    }
}
