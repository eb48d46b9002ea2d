//! Rules, as written and ready to be evaluated.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::baseline::{FromBaseline, OverrideSource, Settings};
use crate::condition::deadlines::Deadline;
use crate::condition::{Condition, Evaluator};
use crate::diagnostic::{Named, Span, Text};
use crate::facts::layout::SlotId;
use crate::facts::period::Period;
use crate::facts::value::{Reason, Value};
use crate::id::{DeviceId, RuleId};
use crate::rules::verdict::VerdictOutcome;

/// How bad a failure is. Orders lists and picks responses; it does not change the standing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RuleSeverity {
    /// Worth knowing.
    Low,
    /// Worth doing.
    Medium,
    /// To be done soon.
    High,
    /// To be done now.
    Critical,
}

impl RuleSeverity {
    /// All severities, mildest first.
    pub const ALL: [Self; 4] = [Self::Low, Self::Medium, Self::High, Self::Critical];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

/// How far a rule is in force.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Stage {
    /// Only previewed.
    Draft,
    /// Evaluated and shown, without consequence.
    Trial,
    /// Counts.
    Enforced,
}

impl Stage {
    /// All stages.
    pub const ALL: [Self; 3] = [Self::Draft, Self::Trial, Self::Enforced];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Draft => "draft",
            Self::Trial => "trial",
            Self::Enforced => "enforced",
        }
    }
}

/// A rule as written.
#[derive(Clone, Debug)]
pub struct RuleSource {
    /// Its id.
    pub id: Named,
    /// What it asks for, in a sentence.
    pub title: Option<String>,
    /// Groups of devices it covers.
    pub groups: Vec<Named>,
    /// A condition on the devices it covers.
    pub covers: Option<Text>,
    /// Groups or devices it does not cover, whatever else says so.
    pub except: Vec<ExceptSource>,
    /// What a covered device must meet.
    pub require: Option<Text>,
    /// Named conditions that each become a rule of their own.
    pub checks: Vec<(Named, Text)>,
    /// What else is said of it; it is of medium severity, enforced and without grace where that is not said.
    pub settings: Settings,
    /// What to do instead where a condition holds; the first that does is said.
    pub fix_when: Vec<FixSource>,
    /// Earlier ids, whose findings follow.
    pub was: Vec<Named>,
    /// The baseline that it comes from.
    pub baseline: Option<FromBaseline>,
    /// Baselines that judge a device instead, where they cover it.
    pub overridden_by: Vec<OverrideSource>,
}

/// What a rule does not cover, as written.
#[derive(Clone, Debug)]
pub struct ExceptSource {
    /// The group or device.
    pub name: Named,
    /// Whether it is said to be a group, or a device; where it is not said, a group of that name comes first.
    pub group: Option<bool>,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
}

impl From<Named> for ExceptSource {
    fn from(name: Named) -> Self {
        Self { name, group: None, because: None, until: None }
    }
}

/// What to do about a failure where a condition holds, as written.
#[derive(Clone, Debug)]
pub struct FixSource {
    /// The condition.
    pub when: Text,
    /// What to do.
    pub say: String,
    /// The device is on its way: what was asked for is done, and takes effect by itself or with what is said.
    pub awaiting: bool,
}

/// What a rule does not cover.
#[derive(Clone, Debug)]
pub struct Exception {
    pub(crate) whom: Excepted,
    /// The group or the device, as written.
    pub name: String,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
    /// Where it is written.
    pub place: Option<Span>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Excepted {
    /// A group, by index.
    Group(usize),
    Device(DeviceId),
}

impl Exception {
    pub(crate) fn excepts<'a>(&self, id: &str, memberships: &'a [Value<'a>]) -> Value<'a> {
        match &self.whom {
            Excepted::Group(group) => memberships[*group],
            Excepted::Device(device) => Value::Boolean(device.as_str() == id),
        }
    }

    /// Returns whether it holds at a moment.
    pub fn holds_at(&self, at: Timestamp) -> bool {
        self.until.is_none_or(|until| at < until)
    }

    pub(crate) fn group(&self) -> Option<usize> {
        match self.whom {
            Excepted::Group(group) => Some(group),
            Excepted::Device(_) => None,
        }
    }
}

#[derive(Clone, Debug)]
pub(crate) struct FixWhen {
    pub(crate) when: Condition,
    pub(crate) say: String,
    pub(crate) awaiting: bool,
}

/// What to do about a failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fix<'r> {
    /// What to do, where somebody said so.
    pub say: Option<&'r str>,
    /// The device is on its way, and needs no whole fix again.
    pub awaiting: bool,
}

/// A rule, ready to be evaluated. A rule with several checks has become several of these.
#[derive(Clone, Debug)]
pub struct Rule {
    /// Its id; of a check `rule/check`.
    pub id: RuleId,
    /// What it asks for.
    pub title: String,
    /// What it is about.
    pub topic: Option<String>,
    /// How bad a failure is.
    pub severity: RuleSeverity,
    pub(crate) stage: Stage,
    /// From when on it is enforced, where that is written.
    pub enforced_from: Option<Timestamp>,
    /// How long a failure may last.
    pub grace: Period,
    /// Why it exists.
    pub because: Option<String>,
    /// What to do about a failure, where nothing more fitting is known.
    pub fix: Option<String>,
    pub(crate) fix_when: Vec<FixWhen>,
    /// Clauses of standards and orders that it answers for.
    pub(crate) controls: Vec<Named>,
    /// The ladder of steps that a failure sets off, where the rule names one.
    pub(crate) response: Option<Named>,
    /// Earlier ids.
    pub was: Vec<RuleId>,
    /// Changes when scope or requirement do: the same for the same words.
    pub fingerprint: u64,
    /// A fingerprint of the words of its requirement alone: whom else it covers makes no failure a pass.
    pub requirement_fingerprint: u64,
    /// The fingerprint that earlier versions gave it, which spaces and comments were a part of.
    pub(crate) text_fingerprint: u64,
    /// Where its id is written.
    pub place: Option<Span>,
    /// The baseline that it comes from.
    pub baseline: Option<FromBaseline>,
    pub(crate) scope: Scope,
    pub(crate) overrides: Vec<Override>,
    pub(crate) require: Condition,
}

/// Whom something covers.
#[derive(Clone, Debug)]
pub(crate) struct Scope {
    pub(crate) groups: Vec<usize>,
    pub(crate) except: Vec<Exception>,
    pub(crate) covers: Option<Condition>,
}

impl Scope {
    /// Returns the groups that it names or asks about.
    pub(crate) fn asks(&self) -> impl Iterator<Item = usize> {
        let asked = self.covers.iter().flat_map(Condition::groups);
        self.groups.iter().chain(asked).copied().chain(self.except.iter().filter_map(Exception::group))
    }
}

/// A baseline that judges a device instead.
#[derive(Clone, Debug)]
pub(crate) struct Override {
    pub(crate) baseline: String,
    pub(crate) scope: Scope,
    pub(crate) stage: Stage,
    pub(crate) enforced_from: Option<Timestamp>,
}

/// How far something is in force at a moment.
pub(crate) fn stage_at(stage: Stage, enforced_from: Option<Timestamp>, at: Timestamp) -> Stage {
    match stage {
        Stage::Enforced if enforced_from.is_some_and(|from| at < from) => Stage::Trial,
        stage => stage,
    }
}

impl Rule {
    /// Returns the clauses of standards and orders that it answers for.
    pub fn controls(&self) -> impl ExactSizeIterator<Item = &str> {
        self.controls.iter().map(|clause| clause.text.as_str())
    }

    /// Returns the family of rules that it belongs to: what stands before the slash of its id.
    pub fn family(&self) -> &str {
        self.id.as_str().split_once('/').map_or(self.id.as_str(), |(family, _)| family)
    }

    /// Returns the requirement as written.
    pub fn require(&self) -> &str {
        self.require.as_str().trim()
    }

    /// Returns how far it is in force at a moment.
    pub fn stage(&self, at: Timestamp) -> Stage {
        stage_at(self.stage, self.enforced_from, at)
    }

    /// Returns whether a finding of this fingerprint failed what the rule requires now. Earlier versions kept the fingerprint of the
    /// whole rule.
    pub(crate) fn has_fingerprint(&self, fingerprint: u64) -> bool {
        [self.requirement_fingerprint, self.fingerprint, self.text_fingerprint].contains(&fingerprint)
    }

    /// Returns whether another rule is as far in force as this one, from the same moment on.
    pub fn is_as_far_in_force_as(&self, other: &Self) -> bool {
        (self.stage, self.enforced_from) == (other.stage, other.enforced_from)
    }

    /// Returns whether another rule judges as this one does: the same devices by the same words, as strictly.
    pub fn judges_as(&self, other: &Self) -> bool {
        let print = |rule: &Self| (rule.fingerprint, rule.stage, rule.enforced_from, rule.grace, rule.severity);
        print(self) == print(other)
    }

    /// Returns whether nothing that verdicts, and what follows from them, may hang on is another in another rule; both are of
    /// workspaces with the same groups and facts.
    pub fn is_same_as(&self, other: &Self) -> bool {
        let own = |rule: &Self| {
            (rule.id.clone(), rule.severity, rule.stage, rule.enforced_from, rule.grace, rule.was.clone())
        };
        let exception = |one: &Exception| (one.whom.clone(), one.because.clone(), one.until);
        let scope = |scope: &Scope| {
            let covers = scope.covers.as_ref().map(|condition| condition.as_str().to_owned());
            (scope.groups.clone(), covers, scope.except.iter().map(exception).collect::<Vec<_>>())
        };
        let overriding =
            |other: &Override| (other.baseline.clone(), scope(&other.scope), other.stage, other.enforced_from);
        let fix = |fix: &FixWhen| (fix.when.as_str().to_owned(), fix.say.clone(), fix.awaiting);
        let judging = |rule: &Self| {
            let overrides: Vec<_> = rule.overrides.iter().map(overriding).collect();
            let fixes: Vec<_> = rule.fix_when.iter().map(fix).collect();
            (rule.require.as_str().to_owned(), rule.requirement_fingerprint, scope(&rule.scope), overrides, fixes)
        };
        own(self) == own(other) && judging(self) == judging(other)
    }

    /// Returns whether a name means it: its id, one that it had, what stands before the slash of one, or all that does, as in `kiosk/*`.
    pub fn is_meant_by(&self, name: &str) -> bool {
        let whole = name.strip_suffix("/*").unwrap_or(name);
        std::iter::once(&self.id)
            .chain(&self.was)
            .any(|id| id.as_str() == name || id.as_str().strip_prefix(whole).is_some_and(|rest| rest.starts_with('/')))
    }

    /// Returns the set, by its position, whose comparison its verdicts come from; none of a rule that is a condition.
    pub fn compared_set(&self) -> Option<usize> {
        self.require.compared_set()
    }

    /// Returns whether an outcome of it means that the device did not tell what is asked: it is silent.
    pub fn is_left_open(&self, outcome: VerdictOutcome) -> bool {
        match outcome {
            // That there is nothing to compare a device with is no silence of the device.
            VerdictOutcome::Unknown(Reason::Missing) => self.compared_set().is_none(),
            VerdictOutcome::Unknown(_) => true,
            VerdictOutcome::Pass | VerdictOutcome::Fail | VerdictOutcome::NotApplicable => false,
        }
    }

    /// Returns whether it is a draft, which nobody is judged by.
    pub fn is_draft(&self) -> bool {
        self.stage == Stage::Draft
    }

    /// Enforces it now and without grace.
    pub(crate) fn enforce_now(&mut self) {
        self.stage = Stage::Enforced;
        self.enforced_from = None;
        self.grace = Period::default();
    }

    /// Returns what it does not cover, in the order in which it is written.
    pub fn exceptions(&self) -> &[Exception] {
        &self.scope.except
    }

    /// Returns whether what to do about a failure hangs on the device.
    pub fn asks_what_to_say(&self) -> bool {
        !self.fix_when.is_empty()
    }

    /// Returns what to do where it fails.
    pub(crate) fn said<'a>(&'a self, evaluator: &mut Evaluator<'a>) -> Fix<'a> {
        let found = self.fix_when.iter().find(|fix| matches!(evaluator.holds(&fix.when), Value::Boolean(true)));
        match found {
            Some(fix) => Fix { say: Some(&fix.say), awaiting: fix.awaiting },
            None => Fix { say: self.fix.as_deref(), awaiting: false },
        }
    }

    /// Returns the slots of the device facts that its requirement names, ascending.
    pub fn required_slots(&self) -> &[SlotId] {
        self.require.slots()
    }

    /// Returns the facts that it requires to come before or after the present moment.
    pub(crate) fn deadlines(&self) -> BTreeSet<Deadline> {
        self.require.deadlines()
    }

    /// Returns the moments at which time alone changes its stage or its exceptions.
    pub(crate) fn moments(&self) -> impl Iterator<Item = Timestamp> {
        let begin = self.enforced_from.into_iter().chain(self.overrides.iter().filter_map(|other| other.enforced_from));
        begin.chain(self.scopes().flat_map(|scope| &scope.except).filter_map(|exception| exception.until))
    }

    /// Returns its scope, and those of whoever judges instead.
    pub(crate) fn scopes(&self) -> impl Iterator<Item = &Scope> {
        std::iter::once(&self.scope).chain(self.overrides.iter().map(|other| &other.scope))
    }

    /// Returns all its conditions.
    pub(crate) fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let scopes = self.scopes().filter_map(|scope| scope.covers.as_ref());
        scopes.chain([&self.require]).chain(self.fix_when.iter().map(|fix| &fix.when))
    }

    /// Returns the groups that it names or asks about.
    pub(crate) fn asks(&self) -> impl Iterator<Item = usize> {
        let conditions = std::iter::once(&self.require).chain(self.fix_when.iter().map(|fix| &fix.when));
        self.scopes().flat_map(Scope::asks).chain(conditions.flat_map(Condition::groups).copied())
    }

    /// Returns whether it names a group, by its position, or asks who belongs to it.
    pub fn asks_about_group(&self, group: usize) -> bool {
        self.asks().any(|asked| asked == group)
    }

    /// Returns the condition of its scope as written.
    pub fn covers(&self) -> Option<&str> {
        self.scope.covers.as_ref().map(|condition| condition.as_str().trim())
    }
}
