//! The outbox as it stands at a moment: every action that findings set off, from their clocks, their ladders, and what the ledger
//! says was done.

use std::collections::BTreeMap;
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{
    Action, ActionState, Addressee, CommandTarget, DeviceInput, Facts, Finding, HeldBecause, Holder, OutboxInput,
    OutboxSettings, PersonId, Response, ResponseStep, Rule, RuleId, StepAction, StepAnchor, Subject, Target, Value,
    VerdictOutcome, WaitsFor,
};
use fencepost_formats::SendSettings;
use jiff::Timestamp;

use super::records::{Attempts, OutboxRecords};
use crate::access::losses::AccessQuery;
use crate::access::report::{AccessEntry, CauseLine};
use crate::compare::results::DriftResults;
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// An action with what it is about.
#[derive(Clone, Debug)]
pub struct OutboxLine {
    /// The action.
    pub action: Action,
    /// The step of the ladder.
    pub step: ResponseStep,
    /// The finding.
    pub finding: Arc<Finding>,
    /// What was tried, where anything was.
    pub attempts: Option<Attempts>,
    /// What is about to be lost, where it is about that, and the finding stands for it.
    pub loss: Option<Arc<ComingLoss>>,
}

/// That somebody is about to lose services with a device though nothing is found on it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ComingLoss {
    /// Who; none where nobody holds the device.
    pub person: Option<PersonId>,
    /// What people call the services, each once.
    pub services: Vec<String>,
    /// What has to change, in words, each once.
    pub causes: Vec<String>,
    /// What to do about it, where that is known.
    pub fix: Option<String>,
}

/// Where an action stands, as lists tell it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum OutboxState {
    /// It may be carried out.
    Ripe,
    /// Somebody has to do something first.
    Held,
    /// It may have been carried out.
    InDoubt,
    /// It could not be delivered, and is tried again.
    Failed,
    /// The workspace does not allow it.
    Withheld,
    /// Its moment has not come.
    Waiting,
    /// It was delivered, and the device was not reached yet.
    Pending,
    /// The receiver will not do it.
    Refused,
    /// The device cannot do it.
    Unsupported,
    /// It was delivered.
    Delivered,
    /// The device carried it out.
    Done,
    /// A later notice takes its place.
    Skipped,
    /// It is not needed any more.
    Cancelled,
}

impl OutboxState {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Ripe => "ripe",
            Self::Held => "held",
            Self::InDoubt => "in-doubt",
            Self::Failed => "failed",
            Self::Withheld => "withheld",
            Self::Waiting => "waiting",
            Self::Pending => "pending",
            Self::Refused => "refused",
            Self::Unsupported => "unsupported",
            Self::Delivered => "delivered",
            Self::Done => "done",
            Self::Skipped => "skipped",
            Self::Cancelled => "cancelled",
        }
    }
}

impl OutboxLine {
    /// Returns where it stands.
    pub fn state(&self) -> OutboxState {
        let answer = self.attempts.as_ref().and_then(|attempts| attempts.answer.as_deref());
        match &self.action.state {
            ActionState::Ripe => OutboxState::Ripe,
            ActionState::Held(_) => OutboxState::Held,
            ActionState::InDoubt => OutboxState::InDoubt,
            ActionState::Withheld => OutboxState::Withheld,
            ActionState::Waiting { waits_for: WaitsFor::Retry, .. } => OutboxState::Failed,
            ActionState::Waiting { .. } => OutboxState::Waiting,
            ActionState::Skipped => OutboxState::Skipped,
            ActionState::Cancelled => OutboxState::Cancelled,
            ActionState::Refused { .. } if answer == Some("unsupported") => OutboxState::Unsupported,
            ActionState::Refused { .. } => OutboxState::Refused,
            ActionState::Delivered { .. } => match answer {
                Some("done") => OutboxState::Done,
                Some("pending") => OutboxState::Pending,
                _ => OutboxState::Delivered,
            },
        }
    }

    /// Returns when it was carried out or tried, or else when that may be; none where nobody knows.
    pub fn moment(&self) -> Option<Timestamp> {
        match (&self.action.state, &self.attempts) {
            (ActionState::Waiting { until, .. }, _) => *until,
            (ActionState::Delivered { at } | ActionState::Refused { at }, _) => Some(*at),
            (ActionState::InDoubt, Some(attempts)) => Some(attempts.at),
            _ => self.action.moment,
        }
    }

    /// Returns why it stands so, where that is not plain.
    pub fn because(&self, project: &Project) -> Option<String> {
        let said = || self.attempts.as_ref().and_then(|attempts| attempts.because.clone());
        let words = match &self.action.state {
            ActionState::Held(HeldBecause::Approval) => "somebody has to approve it",
            ActionState::Held(HeldBecause::ApprovalLapsed) => "its approval has lapsed, or was of older evidence",
            ActionState::Held(HeldBecause::NotProven) => "the finding is not overdue on fresh facts",
            ActionState::Held(HeldBecause::NoWarning) => "no step before it warns anybody",
            ActionState::Held(HeldBecause::NobodyToTell) => "there is nobody who could be told",
            ActionState::InDoubt if self.attempts.is_none() => {
                "the ledger is older than what was sent: it may have gone out; approve it to send it again"
            }
            ActionState::InDoubt => {
                return Some(said().unwrap_or_else(|| "nobody knows whether it went out".to_owned()));
            }
            ActionState::Withheld => return Some(self.why_withheld(project)),
            ActionState::Waiting { waits_for, .. } => match waits_for {
                WaitsFor::Retry => return said(),
                WaitsFor::Moment => return None,
                WaitsFor::Waiver => "waived",
                WaitsFor::QuietHours => "these are quiet hours",
                WaitsFor::Warning => "its warning was not delivered long enough ago",
            },
            ActionState::Skipped => "a later notice takes its place",
            ActionState::Cancelled if self.step.at.anchor == StepAnchor::Closed => "nothing was done that it would end",
            ActionState::Cancelled => "the finding has closed",
            ActionState::Ripe => return None,
            ActionState::Delivered { .. } | ActionState::Refused { .. } => return said(),
        };
        Some(words.to_owned())
    }

    fn why_withheld(&self, project: &Project) -> String {
        let StepAction::Command { command, .. } = &self.step.action else { return String::new() };
        let condition = project.rules.responses().allowed_when().get(command);
        let condition = condition.map_or("", |condition| condition.as_str().trim());
        format!("`{command}` is allowed only where {condition}, which does not hold or is not known")
    }

    /// Returns the person whom it is for, by id.
    pub fn person(&self) -> Option<&str> {
        match &self.action.target {
            Target::Person { id, .. } | Target::Account(id) => Some(id.as_str()),
            Target::Recipient(_) | Target::Mail(_) | Target::Device | Target::Nobody => None,
        }
    }

    /// Returns what it does, in a word.
    pub fn deed(&self) -> &'static str {
        match &self.step.action {
            StepAction::Notify { .. } => "notify",
            StepAction::Raise { .. } => "raise",
            StepAction::Command { .. } => "command",
        }
    }

    /// Returns whom or what it is for, in a word.
    pub fn to(&self) -> &str {
        match &self.action.target {
            Target::Person { is_holder: true, .. } => "holder",
            Target::Person { is_holder: false, .. } => "lead",
            Target::Recipient(id) => id,
            Target::Mail(address) => address,
            Target::Device => "device",
            Target::Account(_) => "account",
            Target::Nobody => "nobody",
        }
    }
}

/// Asks for the actions of findings.
pub(crate) struct Outbox<'o> {
    /// The ledger as of the moment, by the rules of now.
    pub reading: &'o Reading<'o>,
    /// What was done.
    pub records: &'o OutboxRecords,
}

impl Outbox<'_> {
    /// Goes through all actions, those of a device at a time.
    pub(crate) fn each_device(
        &self,
        mut take: impl FnMut(Vec<OutboxLine>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        if self.reading.project.rules.responses().ladders().is_empty() || self.reading.assessment.is_none() {
            return Ok(());
        }
        self.reading.load_comparisons()?;
        // What is done now is done by what is known now.
        let (judge, posture) = (self.reading.judge().as_of(self.reading.at), self.reading.posture());
        let records = self.records;
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let findings = posture.latest(job)?;
            let input = judge.judged(&job.device.name, facts, arena).input;
            Ok(ActedOnDevice { records, judge: &judge, input, arena }.all_lines(findings))
        };
        let layout = self.reading.project.rules.layout();
        // A condition on a command may read any fact that rules do not.
        let slots: Vec<_> = self.reading.project.rules.named_slots().into_iter().collect();
        self.reading.with_facts(&judge, Wanted::as_read(layout, &slots), look, |lines: Vec<OutboxLine>| match lines
            .is_empty()
        {
            true => Ok(()),
            false => take(lines),
        })?;
        match self.reading.project.rules.responses().access() {
            Some(response) => self.losses(response)?.into_iter().try_for_each(take),
            None => Ok(()),
        }
    }
}

impl Outbox<'_> {
    /// Returns the actions of one device.
    pub(crate) fn lines_of(&self, device: &str) -> Result<Vec<OutboxLine>, EngineError> {
        let Reading { reader, run, project, .. } = self.reading;
        let compared = DriftResults::of_device(reader, *run, project, device)?;
        let judge = self.reading.judge().as_of(self.reading.at).with_comparisons(&compared);
        let arena = Bump::new();
        let (documents, findings) = (self.reading.documents(device)?, self.reading.findings(Some(device), true)?);
        let input = judge.device(device, &documents, &arena)?.input;
        let on = ActedOnDevice { records: self.records, judge: &judge, input, arena: &arena };
        Ok(on.all_lines(findings.into_values().flatten().collect()))
    }
}

/// A device whose findings set actions off.
pub(crate) struct ActedOnDevice<'d> {
    /// What was done.
    pub records: &'d OutboxRecords,
    /// Judges as of the moment of asking.
    pub judge: &'d Judge<'d>,
    pub input: DeviceInput<'d>,
    pub arena: &'d Bump,
}

impl ActedOnDevice<'_> {
    /// Returns the actions of those of its findings that run, or about which something was done, and of rules that are yet to be enforced.
    pub(crate) fn all_lines(&self, findings: Vec<Finding>) -> Vec<OutboxLine> {
        let is_there = |finding: &Finding| finding.is_running() || self.records.findings.contains(&finding.id);
        let mut lines: Vec<OutboxLine> =
            findings.into_iter().filter(is_there).flat_map(|finding| self.lines(finding)).collect();
        lines.extend(self.announcements());
        lines
    }

    fn lines(&self, finding: Finding) -> Vec<OutboxLine> {
        let Some(response) = self.judge.project.rules.response(&finding.subject) else { return Vec::new() };
        let is_proven = self.is_proven(&finding, response);
        match response.counts_from(StepAnchor::Enforced) {
            false => self.climber().lines(finding, response, is_proven),
            true => {
                let own = response.with_steps(|step| step.at.anchor != StepAnchor::Enforced);
                self.climber().lines(finding, &own, is_proven)
            }
        }
    }

    fn climber(&self) -> Climber<'_> {
        let Judge { project, people, at, .. } = *self.judge;
        Climber { records: self.records, project, people, at, device: Some(self) }
    }

    /// Returns the actions of rules on trial that the device fails, and that are yet to be enforced.
    fn announcements(&self) -> Vec<OutboxLine> {
        let (project, at) = (self.judge.project, self.judge.at);
        let announced = |rule: &Rule| {
            let response = project.rules.responses().of_rule(rule).filter(|it| it.counts_from(StepAnchor::Enforced))?;
            Some((response, rule.enforced_from.filter(|from| *from > at)?))
        };
        let rules = project.rules.rules();
        if !rules.iter().any(|rule| announced(rule).is_some()) {
            return Vec::new();
        }
        let mut lines = Vec::new();
        for verdict in self.judge.verdicts(&self.input, self.arena).all {
            let rule = &rules[verdict.rule];
            let (VerdictOutcome::Fail, Some((response, from))) = (verdict.outcome, announced(rule)) else { continue };
            let before = response.with_steps(|step| step.at.anchor == StepAnchor::Enforced);
            let finding = Finding::announced(self.input.id, Subject::Rule(rule.id.clone()), rule.id.as_str(), from);
            lines.extend(self.climber().lines(finding, &before, false));
        }
        lines
    }

    /// Returns whether the workspace allows a command on the device; what is not known is not allowed.
    fn allows(&self, command: &str) -> bool {
        let allowed = self.judge.project.rules.allows(command, &self.input, self.judge.session(self.arena));
        matches!(allowed, Value::Boolean(true))
    }

    /// Returns whether a finding holds by what is known now, at the moment of reading: nobody is locked out on facts that are too old.
    fn is_proven(&self, finding: &Finding, response: &Response) -> bool {
        let is_command = |step: &ResponseStep| matches!(step.action, StepAction::Command { undo: None, .. });
        let at = self.judge.at;
        if !finding.clock.is_overdue(at) || !response.steps.iter().any(is_command) {
            return false;
        }
        let rules = self.judge.project.rules.rules();
        let verdicts = self.judge.verdicts(&self.input, self.arena);
        let is_enforced = |rule: usize| rules[rule].stage(at) == fencepost_core::Stage::Enforced;
        let mut enforced = verdicts.all.iter().filter(|verdict| is_enforced(verdict.rule));
        match &finding.subject {
            Subject::Rule(id) => {
                enforced.any(|verdict| rules[verdict.rule].id == *id && verdict.outcome == VerdictOutcome::Fail)
            }
            Subject::Silence => enforced.any(|verdict| rules[verdict.rule].is_left_open(verdict.outcome)),
            Subject::Uncovered => enforced.all(|verdict| verdict.outcome == VerdictOutcome::NotApplicable),
        }
    }
}

/// Goes through the steps of ladders.
struct Climber<'c> {
    records: &'c OutboxRecords,
    project: &'c Project,
    people: &'c People,
    at: Timestamp,
    /// The device that may be commanded; none where nothing is.
    device: Option<&'c ActedOnDevice<'c>>,
}

impl Climber<'_> {
    /// Returns the actions of a finding on a device, as they are for those who hold it.
    fn lines(&self, finding: Finding, response: &Response, is_proven: bool) -> Vec<OutboxLine> {
        let holders = self.device.map_or(&[][..], |device| device.input.holders);
        self.lines_for(holders, finding, response, is_proven)
    }

    fn lines_for(
        &self,
        holders: &[Holder<'_>],
        finding: Finding,
        response: &Response,
        is_proven: bool,
    ) -> Vec<OutboxLine> {
        let Self { records, project, people, at, .. } = *self;
        let settings = &project.config.send;
        let outbox = OutboxSettings {
            calendar: &project.config.calendar,
            approval_for: settings.approval_for,
            quiet: settings.quiet.as_ref(),
        };
        let targets: Vec<Vec<Target>> =
            response.steps.iter().map(|step| targets_of(step, holders, settings, people)).collect();
        let is_allowed = |command: &str| self.device.is_some_and(|device| device.allows(command));
        let input = OutboxInput {
            finding: &finding,
            response,
            targets: &targets,
            records: &records.records,
            approvals: &records.approvals,
            is_proven,
            is_allowed: &is_allowed,
        };
        let actions = outbox.actions(&input, at);
        let finding = Arc::new(finding);
        let step = |action: &Action| response.steps.iter().find(|step| step.id == action.step).cloned();
        let line = |action: Action| {
            Some(OutboxLine {
                step: step(&action)?,
                finding: Arc::clone(&finding),
                attempts: records.attempts(action.id).cloned(),
                loss: None,
                action,
            })
        };
        actions.into_iter().filter_map(line).collect()
    }
}

/// What is lost together: with one device, by one person, at one moment.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct LossKey {
    device: Arc<str>,
    person: Option<Arc<str>>,
    moment: Timestamp,
}

/// What stands in the place of a rule where somebody is about to lose a service without a finding.
const ACCESS: &str = "access";

impl Outbox<'_> {
    /// Returns the actions about what is about to be lost without a finding, those of a device and a person at a time.
    pub(crate) fn losses(&self, response: &Response) -> Result<Vec<Vec<OutboxLine>>, EngineError> {
        // Nothing is commanded for what is yet to come.
        let response = response.with_steps(|step| {
            !matches!(step.action, StepAction::Command { .. })
                && matches!(step.at.anchor, StepAnchor::Opened | StepAnchor::Due)
        });
        let mut losses: BTreeMap<LossKey, Vec<AccessEntry>> = BTreeMap::new();
        for entry in self.reading.access(&AccessQuery::default())?.losing {
            // What comes of a finding is told by the ladder of that.
            if !entry.causes.iter().any(|line| line.cause.kind.is_of_finding()) {
                let (device, person) = (Arc::clone(&entry.device), entry.person.clone());
                let key = LossKey { device, person, moment: entry.moment };
                losses.entry(key).or_default().push(entry);
            }
        }
        let Reading { project, people, at, .. } = self.reading;
        let climber = Climber { records: self.records, project, people, at: *at, device: None };
        let mut all = Vec::new();
        for (LossKey { device, person, moment }, entries) in losses {
            let loss = Arc::new(ComingLoss::of(person.as_deref(), &entries));
            let subject = Subject::Rule(RuleId::from(ACCESS));
            let of = format!("{ACCESS} {}", person.as_deref().unwrap_or_default());
            let finding = Finding::announced(&device, subject, &of, moment);
            let holder =
                person.as_deref().map(|id| Holder { id, person: people.get(id), memberships: &[], accepted: &[] });
            let mut lines = climber.lines_for(holder.as_slice(), finding, &response, false);
            lines.iter_mut().for_each(|line| line.loss = Some(Arc::clone(&loss)));
            all.push(lines);
        }
        Ok(all)
    }
}

impl ComingLoss {
    fn of(person: Option<&str>, entries: &[AccessEntry]) -> Self {
        let once = |mut texts: Vec<String>| {
            texts.sort();
            texts.dedup();
            texts
        };
        let causes = entries.iter().flat_map(|entry| entry.causes.iter());
        let in_words = |line: &CauseLine| match (&line.cause.access_rule, &line.cause.fact) {
            (Some(rule), Some(fact)) => format!("{rule} asks for {fact}"),
            _ => line.title.clone().unwrap_or_else(|| line.cause.kind.as_str().to_owned()),
        };
        Self {
            person: person.map(PersonId::from),
            services: once(entries.iter().map(|entry| entry.service_title.to_string()).collect()),
            causes: once(causes.clone().map(in_words).collect()),
            fix: causes.clone().find_map(|line| line.fix.clone()),
        }
    }
}

/// Returns whom or what a step is for, each once. Where nobody can be told, that is the recipient who stands in.
fn targets_of(step: &ResponseStep, holders: &[Holder<'_>], settings: &SendSettings, people: &People) -> Vec<Target> {
    let fallback = || settings.fallback.clone().map_or(Target::Nobody, Target::Recipient);
    let mut targets: Vec<Target> = Vec::new();
    let mut add = |target: Target| match targets.iter_mut().find(|known| known.is_same(&target)) {
        // Whoever leads and holds is told as the one who holds.
        Some(known) if matches!(target, Target::Person { is_holder: true, .. }) => *known = target,
        Some(_) => {}
        None => targets.push(target),
    };
    match &step.action {
        StepAction::Raise { to, .. } => add(Target::Recipient(to.clone())),
        StepAction::Command { on: CommandTarget::Device, .. } => add(Target::Device),
        StepAction::Command { on: CommandTarget::Account, .. } => {
            holders.iter().for_each(|holder| add(Target::Account(PersonId::from(holder.id))));
        }
        StepAction::Notify { to, .. } => {
            for addressee in to {
                match addressee {
                    Addressee::Holder => {
                        let reached: Vec<&str> = holders
                            .iter()
                            .filter(|holder| people.mail_of(holder.id).is_some())
                            .map(|holder| holder.id)
                            .collect();
                        // A holder who cannot be told is told of to somebody who can.
                        if reached.is_empty() {
                            add(fallback());
                        }
                        reached
                            .into_iter()
                            .for_each(|id| add(Target::Person { id: PersonId::from(id), is_holder: true }));
                    }
                    Addressee::Lead => {
                        let leads = holders.iter().filter_map(|holder| holder.person?.text("lead"));
                        leads
                            .filter(|lead| people.mail_of(lead).is_some())
                            .for_each(|lead| add(Target::Person { id: PersonId::from(lead), is_holder: false }));
                    }
                    Addressee::Recipient(id) => add(Target::Recipient(id.clone())),
                    Addressee::Mail(address) => add(Target::Mail(address.clone())),
                }
            }
        }
    }
    if targets.is_empty() {
        targets.push(match &step.action {
            StepAction::Notify { .. } => fallback(),
            StepAction::Raise { .. } | StepAction::Command { .. } => Target::Nobody,
        });
    }
    // A step that would tell somebody needs nobody's absence.
    if targets.len() > 1 {
        targets.retain(|target| *target != Target::Nobody);
    }
    targets
}

/// Returns whether an action waits for nothing but being carried out.
pub(crate) fn is_ripe(line: &OutboxLine) -> bool {
    line.action.state == ActionState::Ripe
}
