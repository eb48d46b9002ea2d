//! What time alone does to one device: the assessments that it would go through, one after the other, at the first moment at which
//! each of them says something new.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    ActionState, Cause, CauseKind, ExpiringFact, Facts, Finding, FindingEvent, Origin, SlotId, Subject, moments_ahead,
};
use fencepost_store::{AssessedRow, Bodies, LedgerError};
use jiff::{SignedDuration, Timestamp};

use super::entry::{EndingKind, ForecastAction, ForecastEnding, ForecastEvent};
use super::next_midnight;
use crate::act::outbox::{ActedOnDevice, OutboxLine};
use crate::act::records::OutboxRecords;
use crate::assess::inputs::Inputs;
use crate::assess::weigh::{DeviceResult, FindingChanges, Weigher, WorkerScratch};
use crate::compare::results::DriftResults;
use crate::facts::judge::Judge;
use crate::ledger_view::batch::Job;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::event::EventKind;
use crate::ledger_view::packed_findings::unpack_findings;

/// A device is assessed no more often than this.
const MOST_STEPS: usize = 2_000;

/// From when on comparisons say something else, and of which devices.
pub(super) struct ComparedFrom {
    pub from: Timestamp,
    pub results: DriftResults,
    pub changed: BTreeSet<String>,
}

/// What every device is looked at with.
pub(super) struct DeviceForecaster<'f> {
    /// Judges as of the beginning.
    pub judge: Judge<'f>,
    pub inputs: &'f Inputs,
    /// What comparisons say as time passes, ascending.
    pub compared: &'f [ComparedFrom],
    /// Rules on trial are announced before they are enforced.
    pub announces: bool,
    /// What was done about findings; none where the workspace says nothing about what is to be done.
    pub records: Option<&'f OutboxRecords>,
    pub expiring: &'f [ExpiringFact],
    /// Rules that read what changes at every collection.
    pub reads_volatile: &'f BTreeSet<String>,
    /// Facts that rules read, of which it is told when they are too old.
    pub read: &'f [SlotId],
    /// Only what ends is told.
    pub endings_only: bool,
    /// The last moment that is looked at.
    pub until: Timestamp,
}

/// What will come about on a device.
#[derive(Default)]
pub(super) struct DeviceForecast {
    pub device: String,
    pub site: Option<String>,
    pub holders: Vec<String>,
    pub events: Vec<DeviceEvent>,
    /// What is decided about sign-ins, each time that it is something else; nothing is decided where the device is retired.
    pub decisions: Vec<DecisionsThen>,
    /// A rule asks for the present moment in such a way that it may say something else at any time.
    pub is_unsteady: bool,
    /// The device is heard of at the beginning.
    is_heard_of: bool,
    /// Actions that came up, or stood there at the beginning; quiet hours put them off and not away.
    actions: BTreeSet<String>,
}

/// Something that will come about on a device.
pub(super) struct DeviceEvent {
    pub at: Timestamp,
    pub what: ForecastEvent,
    /// See [`super::ForecastEntry`].
    pub only_if_silent: bool,
}

/// What will be decided about sign-ins with a device.
pub(super) struct DecisionsThen {
    pub at: Timestamp,
    pub all: Vec<(DecisionKey, StoredDecision)>,
    /// Nothing fresh is known of the device, of which there is now.
    pub has_fallen_silent: bool,
}

/// What is known of a device at a moment, beside what an assessment keeps.
#[derive(Default)]
struct SeenThen {
    /// Which source's word on facts is too old, by the position of the fact.
    stale: BTreeMap<usize, String>,
    /// Actions that may be carried out or wait for somebody, by id.
    actions: BTreeMap<String, ForecastAction>,
    /// Nothing that is known of the device is fresh.
    is_stale: bool,
    /// The next moment at which any of it changes.
    next: Option<Timestamp>,
}

impl SeenThen {
    fn changes_at(&mut self, at: Timestamp) {
        self.next = Some(self.next.map_or(at, |next| next.min(at)));
    }

    /// Notes an action that may be carried out or waits for somebody; or when one that waits for its moment is to be looked at again.
    fn add_action(&mut self, line: &OutboxLine, at: Timestamp) {
        let is_held = match &line.action.state {
            ActionState::Ripe => false,
            ActionState::Held(_) => true,
            ActionState::Waiting { until: Some(until), .. } => {
                if *until > at {
                    self.changes_at(*until);
                }
                return;
            }
            _ => return,
        };
        let action = ForecastAction::of(line, is_held);
        self.actions.insert(action.id.clone(), action);
    }
}

/// What a worker uses again and again.
pub(super) struct ForecastScratch<'b> {
    weighing: WorkerScratch<'b>,
    arena: Bump,
}

impl<'b> ForecastScratch<'b> {
    pub(super) fn new(bodies: &'b Bodies) -> Self {
        Self { weighing: WorkerScratch::new(bodies), arena: Bump::new() }
    }
}

/// Returns the first whole second at or after a moment.
pub(super) fn whole_second(at: Timestamp) -> Timestamp {
    let second = at.as_second() + i64::from(at.subsec_nanosecond() > 0);
    Timestamp::from_second(second).unwrap_or(at)
}

/// A device on its way through the assessments of the days to come.
struct DeviceWalk<'w> {
    of: &'w DeviceForecaster<'w>,
    job: &'w Job<'w>,
    /// How far it has come.
    at: Timestamp,
    /// What the assessment at that moment left of it.
    row: AssessedRow,
    seen: SeenThen,
    told: DeviceForecast,
}

/// What an assessment changes on a device.
#[derive(Default)]
struct AssessedThen {
    changes: Vec<FindingChanges>,
    /// Rules of findings that are overdue and were not before.
    overdue: Vec<String>,
    decisions: Option<Vec<(DecisionKey, StoredDecision)>>,
    is_retired: bool,
}

impl DeviceForecaster<'_> {
    /// Goes through the moments at which something comes about on a device.
    pub(super) fn forecast(
        &self,
        scratch: &mut ForecastScratch<'_>,
        job: &Job<'_>,
    ) -> Result<DeviceForecast, LedgerError> {
        let told = DeviceForecast { device: job.device.name.clone(), ..DeviceForecast::default() };
        let Some(before) = job.before.as_ref().filter(|row| self.is_of_interest(&told.device, row)) else {
            return Ok(told);
        };
        let row = AssessedRow {
            input: before.input.to_vec(),
            until: before.until,
            valid_until: before.valid_until,
            collected: before.collected,
            outcome: before.outcome.to_vec(),
            findings: before.findings.to_vec(),
        };
        let mut walk = DeviceWalk { of: self, job, at: self.judge.at, row, seen: SeenThen::default(), told };
        walk.seen = walk.look(&self.judge, &mut scratch.arena)?;
        walk.told.is_heard_of = !walk.seen.is_stale;
        walk.told.actions.extend(walk.seen.actions.keys().cloned());
        let steps = if self.endings_only { 0 } else { MOST_STEPS };
        for _ in 0..steps {
            // What is over at a moment is over in the whole second that follows.
            let at = whole_second(walk.next_moment()?);
            if at > self.until || !walk.step(at, scratch)? {
                break;
            }
        }
        Ok(walk.told)
    }

    /// Returns whether anything may come about on a device, for all that is known without looking at its facts.
    fn is_of_interest(&self, device: &str, row: &AssessedRow<&[u8]>) -> bool {
        let has_actions = self.records.is_some() && (self.announces || !row.findings.is_empty());
        row.until <= self.until
            || has_actions
            || !self.expiring.is_empty()
            || self.compared.iter().any(|one| one.changed.contains(device))
    }

    fn findings(&self, device: &str, packed: &[u8]) -> Result<Vec<Finding>, LedgerError> {
        unpack_findings(packed, device).ok_or_else(|| unreadable(self.judge.project, device, "the findings"))
    }

    /// Returns whether a moment that is told lies ahead, and is looked at.
    fn is_ahead(&self, at: Timestamp) -> bool {
        at > self.judge.at && whole_second(at) <= self.until
    }
}

impl DeviceWalk<'_> {
    /// Returns the next moment at which something may come about.
    fn next_moment(&mut self) -> Result<Timestamp, LedgerError> {
        let mut compared = self.of.compared.iter().filter(|one| one.from > self.at);
        let compared = compared.find(|one| one.changed.contains(&self.told.device)).map(|one| one.from);
        let by_others = [compared, self.seen.next].into_iter().flatten().min().unwrap_or(Timestamp::MAX);
        // The ledger keeps microseconds, so that what holds up to a moment and not after it ends at that moment.
        if self.row.until >= self.at {
            let after = self.at.checked_add(SignedDuration::from_nanos(1)).unwrap_or(Timestamp::MAX);
            return Ok(self.row.until.max(after).min(by_others));
        }
        // What may change at any moment is looked at every day.
        self.told.is_unsteady = true;
        let findings = self.of.findings(&self.told.device, &self.row.findings)?;
        let due = moments_ahead(&findings, self.at).into_iter().next().unwrap_or(Timestamp::MAX);
        Ok(next_midnight(self.of.judge.project, self.at).min(due).min(by_others))
    }

    /// Assesses the device at a moment, and tells what is new; returns whether it goes on.
    fn step(&mut self, at: Timestamp, scratch: &mut ForecastScratch<'_>) -> Result<bool, LedgerError> {
        let drift = self.of.compared.iter().rfind(|one| one.from <= at).map(|one| &one.results);
        let judge = self.of.judge.as_of(at);
        let judge = drift.map_or(judge, |results| judge.with_comparisons(results));
        let then = self.assess(&judge, scratch)?;
        let seen = if then.is_retired { SeenThen::default() } else { self.look(&judge, &mut scratch.arena)? };
        let has_fallen_silent = self.told.is_heard_of && seen.is_stale;
        let by_silence = BySilence { has_fallen_silent, of: self.of, told: &self.told };
        let mut events = by_silence.of_changes(at, &then.changes);
        events.extend(then.overdue.into_iter().map(|rule| by_silence.event(at, ForecastEvent::Due { rule })));
        for (position, source) in seen.stale.iter().filter(|(position, _)| !self.seen.stale.contains_key(position)) {
            let fact = judge.project.rules.layout().slot_path(self.of.read[*position]).to_owned();
            events.push(by_silence.event(at, ForecastEvent::Stale { fact, source: source.clone() }));
        }
        for (_, action) in seen.actions.iter().filter(|(id, _)| !self.told.actions.contains(*id)) {
            events.push(by_silence.event(at, ForecastEvent::Action(action.clone())));
        }
        self.told.events.extend(events);
        self.told.actions.extend(seen.actions.keys().cloned());
        if let Some(all) = then.decisions.or(then.is_retired.then(Vec::new)) {
            self.told.decisions.push(DecisionsThen { at, all, has_fallen_silent });
        }
        (self.at, self.seen) = (at, seen);
        Ok(!then.is_retired)
    }

    /// Assesses the device as of the judge's moment.
    fn assess(&mut self, judge: &Judge<'_>, scratch: &mut ForecastScratch<'_>) -> Result<AssessedThen, LedgerError> {
        let weigher = Weigher {
            judge,
            inputs: self.of.inputs,
            run: 0,
            before: Some(self.at),
            anew: false,
            same_rules: true,
            rule_set_diff: None,
            taken: None,
            looks_ahead: false,
        };
        let weighed = weigher.weigh(&mut scratch.weighing, &self.job.after(self.row.borrowed()))?;
        let mut then = AssessedThen { changes: vec![weighed.over], ..AssessedThen::default() };
        match weighed.result {
            DeviceResult::Retired => then.is_retired = true,
            DeviceResult::Same => {}
            DeviceResult::Settled(update) => {
                if let Some(row) = update.row {
                    then.overdue = self.newly_overdue(judge.at, &row)?;
                    self.row = row;
                }
                then.changes.push(update.changes);
                then.decisions = update.decisions;
            }
        }
        Ok(then)
    }

    /// Returns the rules of findings that are overdue at a moment and were not before.
    fn newly_overdue(&self, at: Timestamp, now: &AssessedRow) -> Result<Vec<String>, LedgerError> {
        let before = self.of.findings(&self.told.device, &self.row.findings)?;
        let was_overdue = |finding: &Finding| {
            before.iter().any(|before| before.subject == finding.subject && before.clock.is_overdue(self.at))
        };
        let now = self.of.findings(&self.told.device, &now.findings)?;
        let overdue = now.iter().filter(|finding| finding.clock.is_overdue(at) && !was_overdue(finding));
        Ok(overdue.map(|finding| finding.subject.as_str().to_owned()).collect())
    }

    /// Looks at what is known of the device at the judge's moment: which facts are too old, and what is to be done.
    fn look(&mut self, judge: &Judge<'_>, arena: &mut Bump) -> Result<SeenThen, LedgerError> {
        arena.reset();
        let (arena, mut seen) = (&*arena, SeenThen::default());
        let name = arena.alloc_str(&self.told.device);
        let Some(facts) = judge.packed_facts(name, &self.job.facts, |_| true, arena) else { return Ok(seen) };
        seen.is_stale = !facts.is_fresh();
        let judged = judge.judged(name, facts, arena);
        self.told.site = judged.fence.map(str::to_owned);
        self.told.holders = judged.input.holders.iter().map(|holder| holder.id.to_owned()).collect();
        for (position, slot) in self.of.read.iter().enumerate() {
            let found = facts.slot(*slot);
            if let (true, Some(Origin::Observed { source, .. })) = (found.stale, &found.origin) {
                seen.stale.insert(position, (*source).to_owned());
            }
            let over = facts.last_fresh(*slot).and_then(|last| last.checked_add(SignedDuration::from_nanos(1)).ok());
            over.into_iter().for_each(|over| seen.changes_at(over));
        }
        let is_beginning = judge.at == self.of.judge.at;
        if is_beginning {
            self.add_endings(facts);
        }
        if let Some(records) = self.of.records {
            let acted_on = ActedOnDevice { records, judge, input: judged.input, arena };
            for line in acted_on.all_lines(self.of.findings(name, &self.row.findings)?) {
                if is_beginning {
                    self.add_end_of_approval(&line, records);
                }
                seen.add_action(&line, judge.at);
            }
        }
        Ok(seen)
    }

    /// Tells which certificates and keys of the device end.
    fn add_endings(&mut self, facts: &Facts<'_>) {
        let zone = &self.of.judge.project.config.calendar.zone;
        for fact in self.of.expiring {
            for at in fact.moments(facts, zone).into_iter().filter(|at| self.of.is_ahead(*at)) {
                let ending = ForecastEnding { kind: EndingKind::from(fact.what), id: fact.path.clone(), rule: None };
                self.told.add_ending(at, ending);
            }
        }
    }

    /// Tells when an approval by which an action may be carried out lapses.
    fn add_end_of_approval(&mut self, line: &OutboxLine, records: &OutboxRecords) {
        let config = &self.of.judge.project.config;
        let approval = records.approvals.get(&line.action.id).filter(|_| line.action.state == ActionState::Ripe);
        let lapses = approval.map(|approval| config.send.approval_for.after(approval.at, &config.calendar));
        if let Some(lapses) = lapses.filter(|at| self.of.is_ahead(*at)) {
            let (id, rule) = (line.action.id.to_string(), Some(line.finding.subject.as_str().to_owned()));
            self.told.add_ending(lapses, ForecastEnding { kind: EndingKind::Approval, id, rule });
        }
    }
}

impl ForecastAction {
    /// Creates it from a line of the outbox.
    pub(super) fn of(line: &OutboxLine, is_held: bool) -> Self {
        Self {
            id: line.action.id.to_string(),
            rule: line.finding.subject.as_str().to_owned(),
            step: line.step.id.to_string(),
            deed: line.deed().to_owned(),
            to: line.to().to_owned(),
            person: line.person().map(str::to_owned),
            is_held,
        }
    }
}

impl DeviceForecast {
    fn add_ending(&mut self, at: Timestamp, ending: ForecastEnding) {
        let at = whole_second(at);
        self.events.push(DeviceEvent { at, what: ForecastEvent::Ending(ending), only_if_silent: false });
    }
}

/// Tells what comes about only since a device is silent.
struct BySilence<'s> {
    has_fallen_silent: bool,
    of: &'s DeviceForecaster<'s>,
    told: &'s DeviceForecast,
}

impl BySilence<'_> {
    fn event(&self, at: Timestamp, what: ForecastEvent) -> DeviceEvent {
        let only_if_silent = match &what {
            ForecastEvent::Stale { .. } => self.told.is_heard_of,
            ForecastEvent::Opening { rule, .. } | ForecastEvent::Closing { rule, .. } | ForecastEvent::Due { rule } => {
                self.of.is_by_silence(rule, self.told.is_heard_of, self.has_fallen_silent)
            }
            ForecastEvent::Action(action) => {
                self.of.is_by_silence(&action.rule, self.told.is_heard_of, self.has_fallen_silent)
            }
            ForecastEvent::Losing(_) | ForecastEvent::Returning(_) | ForecastEvent::Ending(_) => false,
        };
        DeviceEvent { at, what, only_if_silent }
    }

    /// Tells what an assessment does to findings.
    fn of_changes(&self, at: Timestamp, changes: &[FindingChanges]) -> Vec<DeviceEvent> {
        let mut events = Vec::new();
        for event in changes.iter().flat_map(|changes| &changes.events) {
            let EventKind::Finding(change) = &event.kind else { continue };
            let rule = change.subject.as_str().to_owned();
            let what = match change.event {
                FindingEvent::Opened | FindingEvent::CameBack => ForecastEvent::Opening { rule, due: change.due },
                FindingEvent::Closed(reason) => ForecastEvent::Closing { rule, because: reason.as_str().to_owned() },
                _ => continue,
            };
            events.push(self.event(at, what));
        }
        events
    }
}

impl DeviceForecaster<'_> {
    /// Returns whether a finding of a rule comes about only since its device, which is heard of at the beginning, says nothing: it is of
    /// the silence itself, or of what would be otherwise at every collection.
    fn is_by_silence(&self, rule: &str, is_heard_of: bool, has_fallen_silent: bool) -> bool {
        is_heard_of && (rule == Subject::Silence.as_str() || has_fallen_silent && self.reads_volatile.contains(rule))
    }

    /// Returns whether a decision comes about only since the device says nothing.
    pub(super) fn is_decided_by_silence(&self, told: &DeviceForecast, then: &DecisionsThen, causes: &[Cause]) -> bool {
        let is_by_silence = |cause: &Cause| match cause.kind {
            CauseKind::Silence => told.is_heard_of,
            CauseKind::Condition | CauseKind::Certificate => then.has_fallen_silent,
            CauseKind::Finding | CauseKind::WaiverEnded => {
                let rule = cause.rule.as_deref().unwrap_or_default();
                self.is_by_silence(rule, told.is_heard_of, then.has_fallen_silent)
            }
            _ => false,
        };
        // Terms are open whatever the device says.
        let mut causes = causes.iter().filter(|cause| cause.kind != CauseKind::Terms).peekable();
        causes.peek().is_some() && causes.all(is_by_silence)
    }
}
