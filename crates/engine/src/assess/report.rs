//! What an assessment came to, as it is told and as it is read back from the ledger.

use fencepost_core::{
    CloseReason, DeviceId, Diagnostic, FindingClock, FindingEvent, FindingId, Rule, unknown_everywhere,
};
use fencepost_store::{LedgerError, Reader, RunRow};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::counts::{FindingCounts, FixesByRule, RuleCount, StandingCounts};
use crate::compare::results::DriftTrend;
use crate::error::EngineError;
use crate::ledger_view::damage::unreadable_summary;
use crate::ledger_view::event::{Event, EventKind, FindingChange};
use crate::workspace::project::Project;
use fencepost_spool::Spool;

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
    /// A waiver covers it.
    Waived,
    /// It is over.
    Closed,
}

impl LinePhase {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Overdue => "overdue",
            Self::Waived => "waived",
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
    /// How much each set of devices that ought to be alike differed.
    pub drift: Vec<DriftTrend>,
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
        Self::with(project, run, Happened::read(project, reader, run.id, run.as_of)?)
    }

    /// Reads an assessment of which it was gathered already what happened to findings.
    pub(super) fn with(project: &Project, run: &RunRow, happened: Happened) -> Result<Self, EngineError> {
        let broken = || unreadable_summary(project, run.id);
        let summary: Json = serde_json::from_str(&run.summary).map_err(|_| broken())?;
        let devices = StandingCounts::of_json(&summary["devices"]).ok_or_else(broken)?;
        let rows = summary["rules"].as_array().ok_or_else(broken)?;
        let rules = rows.iter().map(RuleCount::of_json).collect::<Option<_>>().ok_or_else(broken)?;
        let moment = |json: &Json| json.as_str().and_then(|text| text.parse::<Timestamp>().ok());
        let before = moment(&summary["before"]);
        let collected = moment(&summary["collected"][0]).zip(moment(&summary["collected"][1]));
        Ok(Self {
            number: run.number.unwrap_or(0),
            run: run.id,
            as_of: run.as_of,
            existing: false,
            devices,
            rules,
            opened: happened.opened,
            closed: happened.closed,
            overdue: happened.overdue,
            collected,
            before,
            drift: DriftTrend::of_json(&summary["drift"]),
            warnings: Vec::new(),
            taken: None,
        })
    }
}

impl Assessed {
    /// Warns of rules that no device gives an answer: mostly a mistake in the rule, and not one of the devices.
    pub(super) fn unknown_everywhere(&self, project: &Project) -> Vec<Diagnostic> {
        let is_unknown = |count: &&RuleCount| count.unknown > 1 && count.pass + count.fail == 0;
        // That a set cannot be compared is told with the reason.
        let is_written = |rule: &&Rule| rule.compared_set().is_none();
        let warning = |count: &RuleCount| {
            let rule = Some(&project.rules.rules()[project.rules.position(&count.rule)?]).filter(is_written)?;
            let label = format!("rule `{}`", rule.id);
            Some(unknown_everywhere(rule, &label, count.unknown, rule.stage(self.as_of)))
        };
        self.rules.iter().filter(is_unknown).filter_map(warning).collect()
    }
}

/// What happened to findings in an assessment.
#[derive(Default)]
pub(super) struct Happened {
    opened: Spool<FindingLine>,
    closed: Spool<FindingLine>,
    overdue: Spool<FindingLine>,
    /// Findings of the device at hand that opened or came back.
    newly_open: Vec<(FindingId, FindingLine)>,
    /// Findings of the device at hand that fell due, and are not known to have closed.
    fallen_due: Vec<(FindingId, FindingLine)>,
    pub(super) counts: FindingCounts,
    pub(super) fixes: FixesByRule,
}

impl Happened {
    /// Gathers it of a run, whose moment is `at`.
    pub(super) fn read(project: &Project, reader: &Reader<'_>, run: i64, at: Timestamp) -> Result<Self, EngineError> {
        let (mut happened, mut lost) = (Self::default(), 0);
        reader.each_event(run, |row| {
            match Event::of_row(row) {
                Some(Event { device, at: moment, kind: EventKind::Finding(change) }) => {
                    happened.note_fix(&change, moment);
                    happened.add(device, change, at)?;
                }
                Some(_) => {}
                None => lost += 1,
            }
            Ok::<_, EngineError>(())
        })?;
        happened.next_device()?;
        if lost > 0 {
            let what = format!("{lost} events of run {run} cannot be read");
            return Err(LedgerError::Damaged { path: project.ledger_path(), what }.into());
        }
        Ok(happened)
    }

    /// Notes how long it took to fix a finding, or that it came back.
    fn note_fix(&mut self, change: &FindingChange, at: Timestamp) {
        let rule = || change.subject.as_str().to_owned();
        match change.event {
            FindingEvent::Closed(CloseReason::Fixed) => {
                let seconds = at.duration_since(change.opened).as_secs();
                self.fixes.fixed.entry(rule()).or_default().push((change.id.number(), seconds));
            }
            FindingEvent::CameBack => *self.fixes.relapsed.entry(rule()).or_default() += 1,
            _ => {}
        }
    }

    fn add(&mut self, device: DeviceId, change: FindingChange, at: Timestamp) -> Result<(), EngineError> {
        let is_overdue = FindingClock::running(change.opened, change.due).is_overdue(at);
        let relapsed = (change.spell > 1).then_some("relapsed");
        let (phase, how) = match (&change.event, is_overdue) {
            (FindingEvent::Closed(reason), _) => (LinePhase::Closed, Some(reason.as_str())),
            (FindingEvent::Opened, true) => (LinePhase::Overdue, None),
            (FindingEvent::Opened, false) => (LinePhase::Open, None),
            (_, true) => (LinePhase::Overdue, relapsed),
            (_, false) => (LinePhase::Open, relapsed),
        };
        let line = FindingLine {
            device: device.to_string(),
            rule: change.subject.as_str().to_owned(),
            opened: change.opened,
            due: change.due,
            phase,
            how: how.map(str::to_owned),
        };
        let at_hand = self.fallen_due.first().or(self.newly_open.first());
        if at_hand.is_some_and(|(_, before)| before.device != line.device) {
            self.next_device()?;
        }
        match change.event {
            FindingEvent::Opened | FindingEvent::CameBack => {
                let came_back = change.event == FindingEvent::CameBack;
                *(if came_back { &mut self.counts.came_back } else { &mut self.counts.opened }) += 1;
                self.newly_open.push((change.id, line));
                Ok(())
            }
            FindingEvent::Waived { .. } => {
                let own = self.newly_open.iter_mut().filter(|(id, _)| *id == change.id);
                own.for_each(|(_, line)| line.phase = LinePhase::Waived);
                Ok(())
            }
            FindingEvent::Closed(_) => {
                // What fell due and closed before anybody saw it is closed.
                self.fallen_due.retain(|(id, _)| *id != change.id);
                self.counts.closed += 1;
                Ok(self.closed.push(&line)?)
            }
            FindingEvent::FellDue => {
                self.fallen_due.push((change.id, line));
                Ok(())
            }
            FindingEvent::DueMoved { .. } | FindingEvent::RuleRenamed { .. } | FindingEvent::WaiverEnded { .. } => {
                Ok(())
            }
        }
    }

    fn next_device(&mut self) -> Result<(), EngineError> {
        self.newly_open.drain(..).try_for_each(|(_, line)| self.opened.push(&line))?;
        self.counts.fell_due += self.fallen_due.len() as u64;
        self.fallen_due.sort_by(|(_, one), (_, other)| one.rule.cmp(&other.rule));
        Ok(self.fallen_due.drain(..).try_for_each(|(_, line)| self.overdue.push(&line))?)
    }
}
