//! The outbox: which actions findings set off, and which of them may be carried out at a moment. It follows from the clock of the
//! finding, its ladder, and what was carried out before; nothing here sends anything.

use std::collections::BTreeMap;

use jiff::civil::{DateTime, Time};
use jiff::{SignedDuration, Timestamp};

use crate::facts::fingerprint::Fingerprint;
use crate::facts::period::{Period, WorkCalendar};
use crate::findings::clock::{CloseReason, Phase};
use crate::findings::finding::Finding;
use crate::findings::response::{Response, ResponseStep, StepAction, StepAnchor};
use crate::id::{ActionId, PersonId, StepId};

/// Whom or what an action is for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Target {
    /// A person who is told.
    Person {
        /// Who.
        id: PersonId,
        /// Whether the person holds the device; else one who leads somebody that does.
        is_holder: bool,
    },
    /// A recipient of the workspace.
    Recipient(String),
    /// A mail address.
    Mail(String),
    /// The device.
    Device,
    /// The account of somebody who holds the device.
    Account(PersonId),
    /// Nobody: there is no person, and no recipient who stands in.
    Nobody,
}

impl Target {
    /// Returns the text by which an action is known: a person is the same one as holder and as lead.
    fn key(&self) -> String {
        match self {
            Self::Person { id, .. } => format!("person {id}"),
            Self::Recipient(id) => format!("recipient {id}"),
            Self::Mail(address) => format!("mail {address}"),
            Self::Device => "device".to_owned(),
            Self::Account(id) => format!("account {id}"),
            Self::Nobody => "nobody".to_owned(),
        }
    }

    /// Returns whether an action for one is an action for the other: a person is the same one as holder and as lead.
    pub fn is_same(&self, other: &Self) -> bool {
        self.key() == other.key()
    }
}

impl ActionId {
    /// Returns the id of a step for a finding as it is at a moment, and for one target. A warning is another one once a waiver has begun
    /// to cover the finding; everything else, when it fails once more.
    pub fn new(finding: &Finding, at: Timestamp, step: &ResponseStep, target: &Target) -> Self {
        let mut id = Fingerprint::new();
        id.bytes(&finding.id.number().to_le_bytes());
        id.text(step.id.as_str());
        let time = match step.is_warning() {
            true => u32::try_from(finding.clock.waivers_begun(at)).unwrap_or(u32::MAX),
            false => finding.spell,
        };
        id.bytes(&time.to_le_bytes());
        id.text(&target.key());
        Self::of_number(id.value())
    }
}

/// What became of an attempt to carry out an action, as the ledger keeps it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ActionRecord {
    /// A delivery was begun, and its result is not known: the program ended in between.
    InDoubt {
        /// When.
        at: Timestamp,
    },
    /// It was delivered.
    Delivered {
        /// When.
        at: Timestamp,
    },
    /// It was delivered, and the receiver will not do it.
    Refused {
        /// When.
        at: Timestamp,
    },
    /// It could not be delivered.
    Failed {
        /// When it was tried last.
        at: Timestamp,
        /// How often it was tried.
        attempts: u32,
    },
}

/// That somebody approved an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Approval {
    /// When.
    pub at: Timestamp,
    /// The newest moment of collection among the evidence that was approved.
    pub evidence_at: Option<Timestamp>,
}

/// Why an action is not carried out though its moment has come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HeldBecause {
    /// Somebody has to approve it.
    Approval,
    /// It was approved too long ago, or on other evidence.
    ApprovalLapsed,
    /// The state that the finding goes by is too old, or the finding is not overdue any more.
    NotProven,
    /// No step before it warns anybody.
    NoWarning,
    /// There is nobody who could be told.
    NobodyToTell,
}

/// Why an action waits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WaitsFor {
    /// Its moment.
    Moment,
    /// The end of a waiver.
    Waiver,
    /// The end of the quiet hours.
    QuietHours,
    /// The warning before it, which was not delivered long enough ago.
    Warning,
    /// Another attempt, after one that failed.
    Retry,
}

/// Where an action stands at a moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ActionState {
    /// It waits, until a moment where that is known.
    Waiting {
        /// For what.
        waits_for: WaitsFor,
        /// Until when, where that is known.
        until: Option<Timestamp>,
    },
    /// It may be carried out.
    Ripe,
    /// Somebody has to do something first.
    Held(HeldBecause),
    /// What the workspace allows the command on does not hold, or is unknown.
    Withheld,
    /// A later notice takes its place.
    Skipped,
    /// It is not needed any more.
    Cancelled,
    /// It was carried out.
    Delivered {
        /// When.
        at: Timestamp,
    },
    /// It was delivered, and the receiver will not do it.
    Refused {
        /// When.
        at: Timestamp,
    },
    /// It may have been carried out.
    InDoubt,
}

/// One step for one finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// Its id.
    pub id: ActionId,
    /// The step.
    pub step: StepId,
    /// Whom or what it is for.
    pub target: Target,
    /// When it is to be taken; none where that is counted from a closing that has not come.
    pub moment: Option<Timestamp>,
    /// Where it stands.
    pub state: ActionState,
}

/// What decides over actions besides the finding.
#[derive(Clone, Copy, Debug)]
pub struct OutboxSettings<'s> {
    /// The calendar by which days are counted.
    pub calendar: &'s WorkCalendar,
    /// How long an approval holds.
    pub approval_for: Period,
    /// The hours in which nobody is told anything.
    pub quiet: Option<&'s QuietHours>,
}

/// Hours in which nobody is told anything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuietHours {
    /// From when on, on the clock of the wall.
    pub from: Time,
    /// Up to when; earlier than `from` where it is on the next day.
    pub until: Time,
    /// Whether days off are quiet throughout.
    pub days_off: bool,
}

impl QuietHours {
    fn is_quiet(&self, wall: DateTime, calendar: &WorkCalendar) -> bool {
        let (time, Self { from, until, .. }) = (wall.time(), self);
        let by_hour = match from <= until {
            true => *from <= time && time < *until,
            false => time >= *from || time < *until,
        };
        by_hour || self.days_off && !calendar.is_working(wall.date())
    }

    /// Returns when the quiet hours end in which a moment lies; none where it lies in none.
    fn end(&self, at: Timestamp, calendar: &WorkCalendar) -> Option<Timestamp> {
        // No row of days off is longer.
        const MOST_DAYS: usize = 3_660;
        let wall = calendar.zone.to_datetime(at);
        if !self.is_quiet(wall, calendar) {
            return None;
        }
        // They end at their hour, or where a row of days off does.
        let days = wall.date().series(jiff::Span::new().days(1)).take(MOST_DAYS);
        let mut ends = days.flat_map(|day| [Time::midnight(), self.until].map(|time| day.to_datetime(time)));
        let end = ends.find(|end| *end > wall && !self.is_quiet(*end, calendar))?;
        calendar.zone.to_timestamp(end).ok()
    }
}

/// A finding whose actions are asked for.
#[derive(Clone, Copy)]
pub struct OutboxInput<'i> {
    /// The finding, as the last assessment left it.
    pub finding: &'i Finding,
    /// Its ladder.
    pub response: &'i Response,
    /// Of each step of the ladder, whom or what it is for.
    pub targets: &'i [Vec<Target>],
    /// What was carried out before.
    pub records: &'i BTreeMap<ActionId, ActionRecord>,
    /// What was approved.
    pub approvals: &'i BTreeMap<ActionId, Approval>,
    /// Whether it fails on facts that are not too old.
    pub is_proven: bool,
    /// Whether the workspace allows a command on the device; what is not known is not allowed.
    pub is_allowed: &'i dyn Fn(&str) -> bool,
}

impl OutboxSettings<'_> {
    /// Returns the actions of a finding as they stand at a moment, in the order of the ladder.
    pub fn actions(&self, input: &OutboxInput<'_>, at: Timestamp) -> Vec<Action> {
        debug_assert_eq!(input.targets.len(), input.response.steps.len(), "every step has its targets");
        let ladder = Ladder { settings: self, input, at };
        ladder
            .rungs()
            .flat_map(|rung| rung.targets.iter().map(move |target| (rung, target)))
            .map(|(rung, target)| ladder.action(rung, target))
            .collect()
    }
}

/// How long another attempt waits after the first that failed; twice as long after each further one.
const FIRST_RETRY: SignedDuration = SignedDuration::from_mins(5);
/// No attempt waits longer.
const LONGEST_RETRY: SignedDuration = SignedDuration::from_hours(12);

/// The ladder of one finding at a moment.
struct Ladder<'l> {
    settings: &'l OutboxSettings<'l>,
    input: &'l OutboxInput<'l>,
    at: Timestamp,
}

/// A step with whom it is for.
#[derive(Clone, Copy)]
struct Rung<'l> {
    step: &'l ResponseStep,
    targets: &'l [Target],
    /// Where it is written in the ladder.
    position: usize,
}

impl<'l> Ladder<'l> {
    fn rungs(&self) -> impl Iterator<Item = Rung<'l>> + use<'l> {
        let steps = self.input.response.steps.iter().zip(self.input.targets).enumerate();
        steps.map(|(position, (step, targets))| Rung { step, targets, position })
    }

    fn id(&self, step: &ResponseStep, target: &Target) -> ActionId {
        ActionId::new(self.input.finding, self.at, step, target)
    }

    fn moment(&self, step: &ResponseStep) -> Option<Timestamp> {
        step.at.of(&self.input.finding.clock, self.at, self.settings.calendar)
    }

    fn record(&self, step: &ResponseStep, target: &Target) -> Option<&'l ActionRecord> {
        self.input.records.get(&self.id(step, target))
    }

    fn delivered(&self, step: &ResponseStep, target: &Target) -> Option<Timestamp> {
        match self.record(step, target) {
            Some(ActionRecord::Delivered { at }) => Some(*at),
            _ => None,
        }
    }

    fn action(&self, rung: Rung<'_>, target: &Target) -> Action {
        let Rung { step, .. } = rung;
        Action {
            id: self.id(step, target),
            step: step.id.clone(),
            target: target.clone(),
            moment: self.moment(step),
            state: self.state(rung, target),
        }
    }

    fn state(&self, rung: Rung<'_>, target: &Target) -> ActionState {
        let step = rung.step;
        match self.record(step, target) {
            Some(ActionRecord::Delivered { at }) => return ActionState::Delivered { at: *at },
            Some(ActionRecord::Refused { at }) => return ActionState::Refused { at: *at },
            Some(ActionRecord::InDoubt { .. }) => return ActionState::InDoubt,
            Some(ActionRecord::Failed { .. }) | None => {}
        }
        if let Some(state) = self.is_out_of_place(rung, target) {
            return state;
        }
        let waiting = |waits_for, until| ActionState::Waiting { waits_for, until };
        match self.moment(step) {
            None => return waiting(WaitsFor::Moment, None),
            Some(moment) if moment > self.at => return waiting(WaitsFor::Moment, Some(moment)),
            Some(_) => {}
        }
        if *target == Target::Nobody {
            return ActionState::Held(HeldBecause::NobodyToTell);
        }
        if let Some(ActionRecord::Failed { at, attempts }) = self.record(step, target) {
            let retry = retry_at(*at, *attempts);
            if retry > self.at {
                return waiting(WaitsFor::Retry, Some(retry));
            }
        }
        match &step.action {
            StepAction::Notify { .. } => {
                let quiet = self.settings.quiet.and_then(|quiet| quiet.end(self.at, self.settings.calendar));
                quiet.map_or(ActionState::Ripe, |end| waiting(WaitsFor::QuietHours, Some(end)))
            }
            StepAction::Raise { .. } => ActionState::Ripe,
            StepAction::Command { command, approve, undo, .. } => match undo {
                // What is undone was warned of and approved.
                Some(_) => ActionState::Ripe,
                None => self.command(rung, target, command, *approve),
            },
        }
    }

    /// Returns where a step stands that has no place in the finding's phase.
    fn is_out_of_place(&self, rung: Rung<'_>, target: &Target) -> Option<ActionState> {
        let clock = &self.input.finding.clock;
        let of_closing = rung.step.at.anchor == StepAnchor::Closed;
        match clock.phase(self.at) {
            Phase::Closed { .. } if !of_closing => Some(ActionState::Cancelled),
            Phase::Closed { reason, .. } => {
                (!self.is_wanted_at_closing(rung.step, target, reason)).then_some(ActionState::Cancelled)
            }
            // That a waiver is about to end is told before.
            Phase::Waived { until } if !of_closing && !self.announces_end(rung.step) => {
                Some(ActionState::Waiting { waits_for: WaitsFor::Waiver, until: Some(until) })
            }
            _ if rung.step.is_warning() && self.has_later_warning(rung, target) => Some(ActionState::Skipped),
            _ => None,
        }
    }

    /// Whether a step warns of what comes when the finding's waiver ends, and its moment has come.
    fn announces_end(&self, step: &ResponseStep) -> bool {
        step.is_warning() && step.at.is_before && self.moment(step).is_some_and(|moment| moment <= self.at)
    }

    /// Whether a step at the closing is wanted: thanks for what was fixed, to those who were told of it; the end of what was raised
    /// or commanded.
    fn is_wanted_at_closing(&self, step: &ResponseStep, target: &Target, reason: CloseReason) -> bool {
        let is_delivered = |other: &Rung<'_>| other.targets.iter().any(|to| self.delivered(other.step, to).is_some());
        match &step.action {
            StepAction::Notify { .. } => {
                let is_told = |warning: Rung<'_>| self.delivered(warning.step, target).is_some();
                reason == CloseReason::Fixed && self.warnings().any(is_told)
            }
            StepAction::Raise { .. } => {
                let is_earlier = |other: &Rung<'_>| {
                    matches!(other.step.action, StepAction::Raise { .. }) && other.step.id != step.id
                };
                self.rungs().filter(is_earlier).any(|other| is_delivered(&other))
            }
            StepAction::Command { .. } => match step.undoes() {
                Some(undone) => {
                    self.rungs().any(|other| other.step.id == *undone && self.delivered(other.step, target).is_some())
                }
                None => true,
            },
        }
    }

    /// Returns where a step stands among the others: by its moment, then as it is written.
    fn place(&self, rung: Rung<'_>) -> (Option<Timestamp>, usize) {
        (self.moment(rung.step), rung.position)
    }

    fn warnings(&self) -> impl Iterator<Item = Rung<'l>> + use<'l> {
        self.rungs().filter(|rung| rung.step.is_warning())
    }

    /// Whether a warning for the same target that comes later in the ladder is ripe by now, or was delivered.
    fn has_later_warning(&self, rung: Rung<'_>, target: &Target) -> bool {
        let own = self.place(rung);
        let is_ripe = |other: Rung<'_>| self.moment(other.step).is_some_and(|moment| moment <= self.at);
        let is_for_it = |other: &Rung<'_>| other.targets.iter().any(|to| to.is_same(target));
        let mut later = self.warnings().filter(is_for_it).filter(|other| self.place(*other) > own);
        later.any(|other| self.delivered(other.step, target).is_some() || is_ripe(other))
    }

    /// Returns where a command stands whose moment has come.
    fn command(&self, rung: Rung<'_>, target: &Target, command: &str, approve: bool) -> ActionState {
        match self.warned_until(rung) {
            Warned::NoStep => return ActionState::Held(HeldBecause::NoWarning),
            Warned::NotYet => return ActionState::Waiting { waits_for: WaitsFor::Warning, until: None },
            Warned::Until(until) if until > self.at => {
                return ActionState::Waiting { waits_for: WaitsFor::Warning, until: Some(until) };
            }
            Warned::Until(_) => {}
        }
        if !(self.input.is_allowed)(command) {
            return ActionState::Withheld;
        }
        let finding = self.input.finding;
        if !finding.clock.is_overdue(self.at) || !self.input.is_proven {
            return ActionState::Held(HeldBecause::NotProven);
        }
        if !approve {
            return ActionState::Ripe;
        }
        match self.input.approvals.get(&self.id(rung.step, target)) {
            None => ActionState::Held(HeldBecause::Approval),
            Some(approval) => {
                let lapses = self.settings.approval_for.after(approval.at, self.settings.calendar);
                match lapses > self.at && approval.evidence_at == finding.evidence_at {
                    true => ActionState::Ripe,
                    false => ActionState::Held(HeldBecause::ApprovalLapsed),
                }
            }
        }
    }

    /// Returns until when a command has to wait after the warnings before it.
    fn warned_until(&self, command: Rung<'_>) -> Warned {
        let own = self.place(command);
        let before = self.warnings().filter(|rung| self.place(*rung) <= own);
        let Some(last) = before.max_by_key(|rung| self.place(*rung)) else { return Warned::NoStep };
        // Of what would lie before the opening the ladder still says how far it is from the rest.
        let nominal = |step: &ResponseStep| step.at.nominal(&self.input.finding.clock, self.at, self.settings.calendar);
        let (Some(of_command), Some(of_last)) = (nominal(command.step), nominal(last.step)) else {
            return Warned::NotYet;
        };
        // Whoever holds the device has to know; where the step tells others alone, all of them.
        let is_holder = |target: &&Target| matches!(target, Target::Person { is_holder: true, .. });
        let has_holder = last.targets.iter().any(|target| is_holder(&target));
        let told: Option<Vec<Timestamp>> = last
            .targets
            .iter()
            .filter(|target| !has_holder || is_holder(target))
            .map(|target| self.told_from(last, target))
            .collect();
        match told.and_then(|told| told.into_iter().max()) {
            None => Warned::NotYet,
            Some(told) => {
                let gap = of_command.duration_since(of_last);
                Warned::Until(told.checked_add(gap).unwrap_or(Timestamp::MAX))
            }
        }
    }

    /// Returns when a target was first told by a step, or by a later warning that took its place.
    fn told_from(&self, step: Rung<'_>, target: &Target) -> Option<Timestamp> {
        let own = self.place(step);
        let warnings = self.warnings().filter(|rung| self.place(*rung) >= own);
        warnings.filter_map(|rung| self.delivered(rung.step, target)).min()
    }
}

/// How far the warning before a command has come.
enum Warned {
    /// The ladder has none.
    NoStep,
    /// Not everybody was told who has to be.
    NotYet,
    /// Everybody was told, and the gap of the ladder ends then.
    Until(Timestamp),
}

/// Returns when an action may be tried again that failed for the `attempts`-th time at a moment.
pub fn retry_at(at: Timestamp, attempts: u32) -> Timestamp {
    at.checked_add(retry_after(attempts)).unwrap_or(Timestamp::MAX)
}

fn retry_after(attempts: u32) -> SignedDuration {
    let doubled =
        FIRST_RETRY.as_secs().saturating_mul(1_i64.checked_shl(attempts.saturating_sub(1).min(20)).unwrap_or(1));
    SignedDuration::from_secs(doubled).min(LONGEST_RETRY)
}

#[cfg(test)]
mod tests;
