//! Sends what is to be sent: each delivery is claimed in the ledger before it is made, and its result is recorded after it.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::time::Duration;

use fencepost_channels::{Answer, Asked, CommandState, Failure, Outcome};
use fencepost_core::{ActionId, ActionState, FindingId, StepAction, StepAnchor};
use fencepost_store::{DeliveryRow, DeliveryState, Ledger, NewDelivery, Purpose, RunKind, SettledDelivery};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::brake::{Brake, brake_of};
use super::bundles::BundleChange;
use super::carriers::{Carriers, outgoing};
use super::compose::{Composer, DeliveryContent};
use super::journal::Sender;
use super::outbox::{Outbox, OutboxLine, is_ripe};
use super::plan::{DeliveryPlanner, PlannedDelivery, Receiver, Unroutable};
use super::records::OutboxRecords;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::ledger::{Moment, open_ledger};
use crate::workspace::project::Project;
use fencepost_spool::Spool;

/// How something is sent.
#[derive(Clone, Debug, Default)]
pub struct SendOptions {
    /// Shows what would be sent, and sends nothing.
    pub dry_run: bool,
    /// Sends on one channel alone.
    pub only: Option<String>,
    /// The code that lets a plan go on which the brake held.
    pub go_on: Option<String>,
}

/// What came of sending.
#[derive(Debug)]
pub struct SendReport {
    /// The moment.
    pub as_of: Timestamp,
    /// What was delivered; of a dry run, what would be.
    pub delivered: Spool<DeliveryLine>,
    /// What could not be delivered, or may not have been.
    pub failed: Spool<DeliveryLine>,
    /// What somebody has to do something about first.
    pub held: Vec<OutboxLine>,
    /// What no channel can carry.
    pub unroutable: Vec<Unroutable>,
    /// Commands that the workspace does not allow.
    pub withheld: Vec<OutboxLine>,
    /// Notices that a later one of this run takes the place of.
    pub skipped: Vec<OutboxLine>,
    /// What kept everything from being sent.
    pub brake: Option<Brake>,
    /// Whether a code was given that is not that of the plan.
    pub is_other_code: bool,
    /// What receivers said of commands that were under way.
    pub answers: Vec<CommandAnswer>,
    /// How many messages went to the recipient who stands in for those who could not be told.
    pub to_fallback: u64,
    /// Files with secrets in them that others can read.
    pub exposed: Vec<String>,
}

/// A delivery, as it is told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DeliveryLine {
    /// What the receiver knows it by.
    pub key: String,
    /// The channel's id.
    pub channel: String,
    /// Whom it is for.
    pub to: String,
    /// What it says; none where it could not be made, or is not kept any more.
    pub content: Option<DeliveryContent>,
    /// What it carries out.
    pub actions: Vec<ActionTold>,
    /// What the receiver of a command said.
    pub answer: Option<String>,
    /// Why it failed, or what the receiver said.
    pub because: Option<String>,
    /// Whether it may have gone out all the same.
    pub is_in_doubt: bool,
}

/// An action, as a delivery tells of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ActionTold {
    /// Its id.
    pub action: String,
    /// The device.
    pub device: String,
    /// The rule, where the finding is known still.
    pub rule: Option<String>,
    /// The step.
    pub step: String,
}

/// What a receiver said of a command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CommandAnswer {
    /// The delivery.
    pub key: String,
    /// The device, or the account.
    pub to: String,
    /// How far it has come.
    pub state: String,
    /// Why.
    pub because: Option<String>,
}

/// How many deliveries are done, of how many.
pub type SendProgress<'p> = &'p mut dyn FnMut(u64, u64);

/// Sends what is ripe at a moment.
///
/// # Errors
/// When the ledger cannot be read or written, another process sends, the moment lies before what was done already, or the channel
/// that is named does not exist. What was sent by then is recorded.
pub fn send(
    project: &Project,
    wait: Duration,
    moment: &Moment,
    options: &SendOptions,
    progress: SendProgress<'_>,
) -> Result<SendReport, EngineError> {
    if let Some(only) = &options.only
        && project.config.send.channel(only).is_none()
    {
        let known: Vec<&str> = project.config.send.channels.iter().map(|channel| channel.id.as_str()).collect();
        let help = format!("the channels of fencepost.toml are: {}", known.join(", "));
        return Err(EngineError::refused(format!("there is no channel `{only}`"), help));
    }
    let at = moment.as_of;
    // Whoever sends has to be alone before it looks at what was sent.
    let sender = if options.dry_run { None } else { Some(Sender::begin(project)?) };
    let ledger = open_ledger(project, Purpose::Read, wait)?;
    let earlier = OnceCell::new();
    let reading = Reading::open(project, &earlier, &ledger, at, false)?;
    refuse_earlier(&reading, at)?;
    // What is done goes by the responses as they are written now.
    let reading = if reading.edited { reading.by_rules_of(project)? } else { reading };
    let records = OutboxRecords::read(&reading)?;
    let plan = Plan::of(&reading, &records, options)?;
    let brake = brake_of(&reading, &plan.deliveries)?;
    let is_other_code = brake.as_ref().zip(options.go_on.as_ref()).is_some_and(|(brake, code)| brake.code != *code);
    let is_held = brake.as_ref().is_some_and(|brake| options.go_on.as_ref() != Some(&brake.code));
    let to_fallback = plan.to_fallback(project);
    let mut report = SendReport {
        as_of: at,
        delivered: Spool::default(),
        failed: Spool::default(),
        held: Vec::new(),
        unroutable: Vec::new(),
        withheld: Vec::new(),
        skipped: Vec::new(),
        brake: brake.filter(|_| is_held),
        is_other_code,
        answers: Vec::new(),
        to_fallback,
        exposed: Vec::new(),
    };
    let mut composer = Composer::new(&reading);
    match sender {
        None => {
            for planned in &plan.deliveries {
                match composer.compose(planned)? {
                    Ok(content) => report.delivered.push(&line_of(planned, Some(content)))?,
                    Err(because) => report.failed.push(&failed_line(planned, None, because))?,
                }
            }
        }
        Some(_) if is_held => {
            for planned in &plan.deliveries {
                report.delivered.push(&line_of(planned, None))?;
            }
        }
        Some(sender) => {
            let mut delivering = Delivering {
                project,
                writing: open_ledger(project, Purpose::Write, wait)?,
                sender,
                carriers: Carriers::new(project),
                at,
                report: &mut report,
            };
            let run = delivering.begin_run(moment)?;
            let total = plan.deliveries.len() as u64;
            delivering.settle_doubts(&reading, &plan)?;
            for (done, planned) in plan.deliveries.iter().enumerate() {
                progress(done as u64, total);
                delivering.deliver(planned, &mut composer)?;
            }
            progress(total, total);
            delivering.ask_about_commands(&reading)?;
            delivering.end_run(run)?;
        }
    }
    (report.held, report.withheld, report.skipped) = (plan.held, plan.withheld, plan.skipped);
    report.unroutable = plan.unroutable;
    Ok(report)
}

/// Refuses a moment before what was done already: nothing is undone by a clock that steps back.
fn refuse_earlier(reading: &Reading<'_>, at: Timestamp) -> Result<(), EngineError> {
    let last_run = reading.reader.last_run()?.map(|run| run.as_of);
    let last = last_run.max(reading.reader.last_delivery()?);
    let Some(last) = last.filter(|last| at < *last) else { return Ok(()) };
    Err(EngineError::refused(
        format!("{at} lies before the last run, which is as of {last}"),
        "is the clock right? Nothing was sent; what was done then counts from then on",
    ))
}

/// How many deliveries a step would make on a channel, and to how many receivers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct StepCount {
    pub deliveries: u64,
    pub receivers: BTreeSet<Receiver>,
}

/// Returns what sending now would come to, by channel and step.
pub(crate) fn count_deliveries(reading: &Reading<'_>) -> Result<BTreeMap<(String, String), StepCount>, EngineError> {
    let records = OutboxRecords::read(reading)?;
    let mut counts: BTreeMap<(String, String), StepCount> = BTreeMap::new();
    for delivery in Plan::of(reading, &records, &SendOptions::default())?.deliveries {
        let steps: BTreeSet<String> = delivery.actions().into_iter().map(|action| action.step).collect();
        for step in steps {
            let count = counts.entry((delivery.channel.clone(), step)).or_default();
            count.deliveries += 1;
            count.receivers.insert(delivery.receiver.clone());
        }
    }
    Ok(counts)
}

/// What is to be done in a run.
struct Plan {
    deliveries: Vec<PlannedDelivery>,
    unroutable: Vec<Unroutable>,
    held: Vec<OutboxLine>,
    withheld: Vec<OutboxLine>,
    skipped: Vec<OutboxLine>,
    /// Actions of which it is not known whether they were carried out.
    in_doubt: HashMap<ActionId, OutboxLine>,
}

impl Plan {
    fn of(reading: &Reading<'_>, records: &OutboxRecords, options: &SendOptions) -> Result<Self, EngineError> {
        let mut planner = DeliveryPlanner::new(reading);
        let (mut held, mut withheld, mut skipped) = (Vec::new(), Vec::new(), Vec::new());
        let mut in_doubt = HashMap::new();
        Outbox { reading, records }.each_device(|lines| {
            let is_notice = |line: &&OutboxLine| matches!(line.step.action, StepAction::Notify { .. });
            let told: HashSet<FindingId> =
                lines.iter().filter(|line| is_ripe(line)).filter(is_notice).map(|line| line.finding.id).collect();
            for line in lines {
                match &line.action.state {
                    ActionState::Ripe => planner.add(line),
                    ActionState::Held(_) => held.push(line),
                    ActionState::Withheld => withheld.push(line),
                    ActionState::Skipped if told.contains(&line.finding.id) => skipped.push(line),
                    ActionState::InDoubt => {
                        // What only the journal knows is for somebody to look at.
                        if line.attempts.is_none() {
                            held.push(line);
                        } else {
                            in_doubt.insert(line.action.id, line);
                        }
                    }
                    ActionState::Skipped
                    | ActionState::Waiting { .. }
                    | ActionState::Cancelled
                    | ActionState::Delivered { .. }
                    | ActionState::Refused { .. } => {}
                }
            }
            Ok(())
        })?;
        for members in reading.bundle_members()? {
            planner.add_bundle(members.bundle, records.ripe_bundle_changes(&members, reading.at));
        }
        let (mut deliveries, unroutable) = planner.finish();
        if let Some(only) = &options.only {
            deliveries.retain(|delivery| delivery.channel == *only);
        }
        Ok(Self { deliveries, unroutable, held, withheld, skipped, in_doubt })
    }

    /// Returns how many of the messages go to the recipient who stands in.
    fn to_fallback(&self, project: &Project) -> u64 {
        let Some(fallback) = &project.config.send.fallback else { return 0 };
        let is_meant = |line: &OutboxLine| match &line.step.action {
            StepAction::Notify { to, .. } => {
                to.iter().any(|to| matches!(to, fencepost_core::Addressee::Recipient(id) if id == fallback))
            }
            StepAction::Raise { .. } | StepAction::Command { .. } => true,
        };
        let stands_in = |line: &OutboxLine| {
            line.action.target == fencepost_core::Target::Recipient(fallback.clone()) && !is_meant(line)
        };
        self.deliveries.iter().flat_map(|delivery| &delivery.lines).filter(|line| stands_in(line)).count() as u64
    }
}

fn line_of(planned: &PlannedDelivery, content: Option<DeliveryContent>) -> DeliveryLine {
    let action = |line: &OutboxLine| ActionTold {
        action: line.action.id.to_string(),
        device: line.finding.device.as_str().to_owned(),
        rule: Some(line.finding.subject.as_str().to_owned()),
        step: line.step.id.as_str().to_owned(),
    };
    let change = |change: &BundleChange| ActionTold {
        action: change.action.to_string(),
        device: change.device.clone(),
        rule: None,
        step: change.change.as_str().to_owned(),
    };
    DeliveryLine {
        key: planned.key.clone(),
        channel: planned.channel.clone(),
        to: planned.receiver.as_str().to_owned(),
        content,
        actions: planned.lines.iter().map(action).chain(planned.changes.iter().map(change)).collect(),
        answer: None,
        because: None,
        is_in_doubt: false,
    }
}

fn failed_line(planned: &PlannedDelivery, content: Option<DeliveryContent>, because: String) -> DeliveryLine {
    DeliveryLine { because: Some(because), ..line_of(planned, content) }
}

/// A run that sends.
struct Delivering<'d> {
    project: &'d Project,
    /// Another connection than the one that is read from, which stays at the moment of the plan.
    writing: Ledger,
    sender: Sender,
    carriers: Carriers<'d>,
    at: Timestamp,
    report: &'d mut SendReport,
}

impl Delivering<'_> {
    fn begin_run(&mut self, moment: &Moment) -> Result<i64, EngineError> {
        let mut writer = self.writing.writer("send")?;
        let run = writer.begin_run(&moment.run(RunKind::Send, None))?;
        writer.commit()?;
        Ok(run)
    }

    fn end_run(&mut self, run: i64) -> Result<(), EngineError> {
        let summary =
            serde_json::json!({ "delivered": self.report.delivered.len(), "failed": self.report.failed.len() });
        let writer = self.writing.writer("send")?;
        writer.end_run(run, &summary.to_string())?;
        writer.commit()?;
        self.report.exposed = std::mem::take(&mut self.carriers.exposed);
        Ok(())
    }

    /// Makes one delivery.
    fn deliver(&mut self, planned: &PlannedDelivery, composer: &mut Composer<'_>) -> Result<(), EngineError> {
        if let Some(because) = self.why_not_tried(&planned.channel) {
            return Ok(self.report.failed.push(&failed_line(planned, None, because))?);
        }
        let content = match composer.compose(planned)? {
            Ok(content) => content,
            // A template that fails spoils its own delivery alone.
            Err(because) => return Ok(self.report.failed.push(&failed_line(planned, None, because))?),
        };
        let actions = planned.actions();
        let packed = serde_json::to_vec(&content).unwrap_or_default();
        let recipient = planned.receiver.as_str();
        let new = NewDelivery {
            key: &planned.key,
            channel: &planned.channel,
            recipient,
            content: &packed,
            actions: &actions,
        };
        let mut writer = self.writing.writer("send")?;
        let delivery = writer.claim_delivery(&new, self.at)?;
        writer.commit()?;
        // From here on it may go out, whatever becomes of this process.
        self.sender.note(actions.iter().map(|action| ActionId::of_number(action.action)), self.at)?;
        let line = line_of(planned, Some(content));
        self.carry(delivery, line)
    }

    /// Returns why nothing is tried on a channel; opens it where it was not open yet.
    fn why_not_tried(&mut self, channel: &str) -> Option<String> {
        if let Some(because) = self.carriers.why_down(channel) {
            return Some(format!("not tried: {because}"));
        }
        self.carriers.channel(channel).err()
    }

    /// Carries out a delivery that was claimed, and records what came of it.
    fn carry(&mut self, delivery: i64, mut line: DeliveryLine) -> Result<(), EngineError> {
        let outcome = match (self.carriers.channel(&line.channel), &line.content) {
            (Ok(channel), Some(content)) => channel.deliver(&outgoing(&line.key, &line.to, content, self.at)),
            (Err(because), _) => Outcome::NotDelivered(Failure { because, is_channel_down: true }),
            (Ok(_), None) => {
                let because = "what it said is not kept any more".to_owned();
                Outcome::NotDelivered(Failure { because, is_channel_down: false })
            }
        };
        let state = match outcome {
            Outcome::Delivered { answer } => {
                (line.answer, line.because) = in_words(answer);
                DeliveryState::Delivered
            }
            Outcome::NotDelivered(failure) => {
                self.note_failure(&mut line, failure);
                DeliveryState::Failed
            }
            Outcome::Unknown(failure) => {
                self.note_failure(&mut line, failure);
                line.is_in_doubt = true;
                DeliveryState::Claimed
            }
        };
        self.settle(delivery, state, &line)?;
        match state {
            DeliveryState::Delivered => Ok(self.report.delivered.push(&line)?),
            DeliveryState::Claimed | DeliveryState::Failed | DeliveryState::GivenUp => {
                Ok(self.report.failed.push(&line)?)
            }
        }
    }

    fn note_failure(&mut self, line: &mut DeliveryLine, failure: Failure) {
        if failure.is_channel_down {
            self.carriers.close(&line.channel, &failure.because);
        }
        line.because = Some(failure.because);
    }

    fn settle(&mut self, delivery: i64, state: DeliveryState, line: &DeliveryLine) -> Result<(), EngineError> {
        let settled = SettledDelivery { state, answer: line.answer.as_deref(), because: line.because.as_deref() };
        let writer = self.writing.writer("send")?;
        writer.settle_delivery(delivery, &settled)?;
        writer.commit()?;
        Ok(())
    }

    /// Sees to what an earlier run began, and did not say how it ended: commands are asked about; what is needed still goes again with
    /// its old key; the rest is given up.
    fn settle_doubts(&mut self, reading: &Reading<'_>, plan: &Plan) -> Result<(), EngineError> {
        for row in reading.reader.deliveries_in_doubt()? {
            let line = self.stored_line(reading, &row, plan)?;
            // Who should have a bundle is true whoever was told before.
            let is_needed = event_type(&line) == Some("fencepost.bundle")
                || line.actions.iter().any(|told| {
                    let known = u64::from_str_radix(&told.action, 16).ok().map(ActionId::of_number);
                    known.and_then(|id| plan.in_doubt.get(&id)).is_some_and(|line| is_needed_still(line, self.at))
                });
            if let Some(because) = self.why_not_tried(&row.channel) {
                let line = DeliveryLine { because: Some(because), is_in_doubt: true, ..line };
                self.report.failed.push(&line)?;
                continue;
            }
            let asked = match is_command(&line) {
                true => self.ask(&row),
                false => Asked::NotKnown,
            };
            match asked {
                Asked::Known(answer) => {
                    let (answer, because) = in_words(Some(answer));
                    let line = DeliveryLine { answer, because, ..line };
                    self.settle(row.id, DeliveryState::Delivered, &line)?;
                    self.report.delivered.push(&line)?;
                }
                Asked::NoAnswer(failure) => {
                    let mut line = DeliveryLine { is_in_doubt: true, ..line };
                    self.note_failure(&mut line, failure);
                    self.settle(row.id, DeliveryState::Claimed, &line)?;
                    self.report.failed.push(&line)?;
                }
                Asked::NotKnown if is_needed => {
                    let writer = self.writing.writer("send")?;
                    writer.claim_again(row.id, self.at)?;
                    writer.commit()?;
                    self.carry(row.id, line)?;
                }
                Asked::NotKnown => {
                    let because = Some("it is needed no more".to_owned());
                    self.settle(row.id, DeliveryState::GivenUp, &DeliveryLine { because, ..line })?;
                }
            }
        }
        Ok(())
    }

    fn ask(&mut self, row: &DeliveryRow) -> Asked {
        let may_be_asked = self
            .project
            .config
            .send
            .channel(&row.channel)
            .is_some_and(|channel| matches!(channel.kind, fencepost_formats::ChannelKind::Commands { .. }));
        match self.carriers.channel(&row.channel) {
            Ok(channel) if may_be_asked => channel.ask(&row.key),
            // A folder keeps one file a delivery, however often that is made.
            Ok(_) => Asked::NotKnown,
            Err(because) => Asked::NoAnswer(Failure { because, is_channel_down: true }),
        }
    }

    /// Returns a delivery as the ledger has it.
    fn stored_line(&self, reading: &Reading<'_>, row: &DeliveryRow, plan: &Plan) -> Result<DeliveryLine, EngineError> {
        let content = serde_json::from_slice(&reading.reader.delivery_content(row.id)?).ok();
        let told = |action: fencepost_store::ActionRow| {
            let id = ActionId::of_number(action.key.action);
            ActionTold {
                action: id.to_string(),
                rule: plan.in_doubt.get(&id).map(|line| line.finding.subject.as_str().to_owned()),
                device: action.key.device,
                step: action.key.step,
            }
        };
        Ok(DeliveryLine {
            key: row.key.clone(),
            channel: row.channel.clone(),
            to: row.recipient.clone(),
            content,
            actions: reading.reader.actions_of(row.id)?.into_iter().map(told).collect(),
            answer: None,
            because: None,
            is_in_doubt: false,
        })
    }

    /// Asks how the commands came along that were delivered and have not ended.
    fn ask_about_commands(&mut self, reading: &Reading<'_>) -> Result<(), EngineError> {
        for row in reading.reader.commands_under_way()? {
            if self.why_not_tried(&row.channel).is_some() {
                continue;
            }
            let Asked::Known(answer) = self.ask(&row) else { continue };
            let (state, because) = in_words(Some(answer));
            if state == row.answer {
                continue;
            }
            let settled = SettledDelivery {
                state: DeliveryState::Delivered,
                answer: state.as_deref(),
                because: because.as_deref(),
            };
            let writer = self.writing.writer("send")?;
            writer.settle_delivery(row.id, &settled)?;
            writer.commit()?;
            let state = state.unwrap_or_default();
            self.report.answers.push(CommandAnswer { key: row.key, to: row.recipient, state, because });
        }
        Ok(())
    }
}

fn in_words(answer: Option<Answer>) -> (Option<String>, Option<String>) {
    match answer {
        Some(Answer { state, because }) => (Some(CommandState::as_str(state).to_owned()), because),
        None => (None, None),
    }
}

fn is_command(line: &DeliveryLine) -> bool {
    event_type(line) == Some("fencepost.command")
}

fn event_type(line: &DeliveryLine) -> Option<&str> {
    match &line.content {
        Some(DeliveryContent::Event(event)) => event["type"].as_str(),
        Some(DeliveryContent::Message { .. }) | None => None,
    }
}

/// Returns whether what may have been carried out is wanted still: a finding that closed needs no warning any more.
fn is_needed_still(line: &OutboxLine, at: Timestamp) -> bool {
    let clock = &line.finding.clock;
    match line.step.at.anchor {
        StepAnchor::Closed => !clock.is_running(),
        StepAnchor::Opened | StepAnchor::Due | StepAnchor::Enforced => clock.is_running() && !clock.is_waived(at),
    }
}
