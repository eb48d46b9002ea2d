//! Responses: ladders of steps that a finding sets off, each at a moment relative to its clock.

use jiff::Timestamp;

use crate::diagnostic::Span;
use crate::facts::period::{Period, WorkCalendar};
use crate::findings::clock::{FindingClock, Phase};
use crate::id::{ResponseId, StepId};

/// A ladder of steps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Response {
    /// Its id.
    pub id: ResponseId,
    /// The steps, as they are written.
    pub steps: Vec<ResponseStep>,
    /// Where its id is written.
    pub place: Option<Span>,
}

/// One step of a ladder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResponseStep {
    /// Its id, of which the ladder has no other.
    pub id: StepId,
    /// When it is to be taken.
    pub at: StepMoment,
    /// What is to be done.
    pub action: StepAction,
    /// Where its id is written.
    pub place: Option<Span>,
}

/// What a step's moment is counted from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepAnchor {
    /// The opening of the finding.
    Opened,
    /// The end of its grace.
    Due,
    /// Its closing.
    Closed,
    /// The moment from which a rule is enforced that a device fails on trial.
    Enforced,
}

/// A moment relative to a finding's clock: `opened`, `due - 1d`, `due + 4d`, `closed`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StepMoment {
    /// What it is counted from.
    pub anchor: StepAnchor,
    /// How far from that.
    pub distance: Period,
    /// Whether it comes before it.
    pub is_before: bool,
}

impl StepMoment {
    /// Reads `opened`, `due - 1d`, `due + 2 working days`, `closed`.
    ///
    /// # Errors
    /// Says in words what is wrong and what may be written.
    pub fn parse(text: &str) -> Result<Self, String> {
        let sign = text.find(['+', '-']);
        let (word, rest) = text.split_at(sign.unwrap_or(text.len()));
        let anchor = match word.trim() {
            "opened" => StepAnchor::Opened,
            "due" => StepAnchor::Due,
            "closed" => StepAnchor::Closed,
            "enforced" => StepAnchor::Enforced,
            _ => {
                return Err(format!(
                    "`{text}` is no moment of a step; write opened, due - 1d, due + 4d, closed or enforced - 7d"
                ));
            }
        };
        let is_before = rest.starts_with('-');
        let distance = match rest.get(1..) {
            Some(rest) => Period::parse(rest)?,
            None => Period::ZERO,
        };
        if is_before && matches!(anchor, StepAnchor::Opened | StepAnchor::Closed) {
            return Err(format!(
                "`{text}` lies before the finding is there; only due and enforced have a time before them"
            ));
        }
        if !is_before && distance != Period::ZERO && anchor == StepAnchor::Enforced {
            return Err(format!("`{text}` comes when the rule is enforced; from then on count from opened or due"));
        }
        Ok(Self { anchor, distance, is_before })
    }

    /// Returns the moment, as the finding's clock is at `at`: never before the opening. None where it is counted from a closing that has
    /// not come.
    pub fn of(&self, clock: &FindingClock, at: Timestamp, calendar: &WorkCalendar) -> Option<Timestamp> {
        Some(self.nominal(clock, at, calendar)?.max(clock.opened))
    }

    /// The moment, though it may lie before the opening.
    pub(crate) fn nominal(&self, clock: &FindingClock, at: Timestamp, calendar: &WorkCalendar) -> Option<Timestamp> {
        let anchor = match (self.anchor, clock.phase(at)) {
            (StepAnchor::Opened, _) => clock.opened,
            (StepAnchor::Due | StepAnchor::Enforced, _) => clock.overdue_from(at),
            (StepAnchor::Closed, Phase::Closed { at, .. }) => at,
            (StepAnchor::Closed, _) => return None,
        };
        Some(match self.is_before {
            true => self.distance.before(anchor, calendar),
            false => self.distance.after(anchor, calendar),
        })
    }
}

/// The template of a step: a file of `templates/`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TemplateName {
    /// Its name, without an ending.
    pub name: String,
    /// Whether the step names it. Else it is the step's id, and where there is no such file, the standard text.
    pub is_named: bool,
}

/// What a step does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StepAction {
    /// Tells somebody.
    Notify {
        /// Whom.
        to: Vec<Addressee>,
        /// The template.
        template: TemplateName,
    },
    /// Raises a ticket.
    Raise {
        /// With which recipient.
        to: String,
        /// The template.
        template: TemplateName,
    },
    /// Has a device commanded.
    Command {
        /// The command's name.
        command: String,
        /// What it is carried out on.
        on: CommandTarget,
        /// Whether somebody has to approve each.
        approve: bool,
        /// The step that it undoes.
        undo: Option<StepId>,
    },
}

/// Who is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Addressee {
    /// Whoever holds the device.
    Holder,
    /// The leads of whoever holds it.
    Lead,
    /// A recipient of the workspace, by its id.
    Recipient(String),
    /// A mail address.
    Mail(String),
}

impl Addressee {
    /// Reads `holder`, `lead`, a mail address, or the id of a recipient.
    pub fn parse(text: &str) -> Self {
        match text {
            "holder" => Self::Holder,
            "lead" => Self::Lead,
            _ if text.contains('@') => Self::Mail(text.to_owned()),
            _ => Self::Recipient(text.to_owned()),
        }
    }
}

/// What a command is carried out on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CommandTarget {
    /// The device.
    #[default]
    Device,
    /// The account of each of its holders.
    Account,
}

impl Response {
    /// Returns the ladder with some of its steps.
    pub fn with_steps(&self, is_wanted: impl Fn(&ResponseStep) -> bool) -> Self {
        let steps = self.steps.iter().filter(|step| is_wanted(step)).cloned().collect();
        Self { id: self.id.clone(), steps, place: self.place.clone() }
    }

    /// Returns whether some step counts from a moment.
    pub fn counts_from(&self, anchor: StepAnchor) -> bool {
        self.steps.iter().any(|step| step.at.anchor == anchor)
    }
}

impl ResponseStep {
    /// Returns whether it tells somebody of a finding that runs.
    pub(crate) fn is_warning(&self) -> bool {
        matches!(self.action, StepAction::Notify { .. }) && self.at.anchor != StepAnchor::Closed
    }

    /// Returns the step that a command undoes.
    pub(super) fn undoes(&self) -> Option<&StepId> {
        match &self.action {
            StepAction::Command { undo, .. } => undo.as_ref(),
            StepAction::Notify { .. } | StepAction::Raise { .. } => None,
        }
    }
}
