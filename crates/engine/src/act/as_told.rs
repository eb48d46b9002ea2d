//! The notice that somebody would be sent next about a device, as it would be sent.

use fencepost_core::{ActionState, Finding, PersonId, StepAction, StepAnchor, Target, TemplateName};

use super::compose::{Composer, template_of};
use super::outbox::{Outbox, OutboxLine};
use super::plan::Receiver;
use super::records::OutboxRecords;
use super::templates::{FilledMessage, Template};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// A notice, as it would be sent.
#[derive(Clone, Debug)]
pub struct AsTold {
    /// The message.
    pub message: FilledMessage,
    /// The rules that it is about, or what it is about else.
    pub rules: Vec<String>,
    /// Whom it would go to; none where no response tells anybody.
    pub to: Option<String>,
    /// The step of the ladder; none of the standard text.
    pub step: Option<String>,
    /// Whether it was sent already, and nothing follows it.
    pub is_sent: bool,
}

impl Reading<'_> {
    /// Returns the notice that would be sent next about what a device is found with: by a rule, one below it, or all. Where no response
    /// tells of it, it is the standard text.
    ///
    /// # Errors
    /// When the ledger cannot be read, the device is not found with it, or the template cannot be filled in.
    pub fn as_told(&self, device: &str, is_meant: impl Fn(&str) -> bool) -> Result<AsTold, EngineError> {
        let device = self.device_name(device)?;
        let findings = self.findings(Some(&device), false)?.remove(&device).unwrap_or_default();
        let mut findings: Vec<Finding> =
            findings.into_iter().filter(|finding| is_meant(finding.subject.as_str())).collect();
        // Nobody is told of what is waived, while there is anything else.
        if findings.iter().any(|finding| !finding.clock.is_waived(self.at)) {
            findings.retain(|finding| !finding.clock.is_waived(self.at));
        }
        if findings.is_empty() {
            return Err(EngineError::refused(
                format!("nothing that is meant is wrong with {device}"),
                format!("see what is: fencepost why {device}"),
            ));
        }
        let records = OutboxRecords::read(self)?;
        let mut notices: Vec<OutboxLine> = Outbox { reading: self, records: &records }.lines_of(&device)?;
        notices.retain(|line| is_notice(line) && findings.iter().any(|finding| finding.id == line.finding.id));
        notices.sort_by_key(|line| (line.action.moment, line.finding.clock.due));
        let next = notices.iter().find(|line| is_to_come(line));
        // Where all is said, it is what was said last.
        let first =
            next.or_else(|| notices.iter().rfind(|line| matches!(line.action.state, ActionState::Delivered { .. })));
        let receiver = match first.map(|line| &line.action.target) {
            Some(Target::Person { id, .. }) => Receiver::Mail {
                address: self.people.mail_of(id.as_str()).unwrap_or_default(),
                person: Some(id.clone()),
            },
            Some(Target::Recipient(id)) => Receiver::Recipient(id.clone()),
            Some(Target::Mail(address)) => Receiver::Mail { address: address.clone(), person: None },
            Some(Target::Device | Target::Account(_) | Target::Nobody) | None => self.holder_of(&device)?,
        };
        let template: Option<&TemplateName> = first.and_then(|line| template_of(&line.step.action));
        let told: Vec<&Finding> = findings.iter().collect();
        let mut composer = Composer::new(self);
        let message = match template {
            Some(template) => composer.filled(template, &told, &receiver)?,
            None => composer.filled_by(&Template::standard(), &told, &receiver)?,
        };
        Ok(AsTold {
            message: message.map_err(|because| EngineError::refused(because, "mend the template: fencepost vet"))?,
            rules: findings.iter().map(|finding| finding.subject.as_str().to_owned()).collect(),
            to: first.map(|_| receiver.as_str().to_owned()),
            step: first.map(|line| line.step.id.as_str().to_owned()),
            is_sent: next.is_none() && first.is_some(),
        })
    }

    /// Returns the first holder of a device as a receiver, whom a text may greet.
    fn holder_of(&self, device: &str) -> Result<Receiver, EngineError> {
        let holder = self.device(device)?.holders.into_iter().next();
        let person = holder.map(|holder| PersonId::from(holder.id.as_str()));
        let address = person.as_ref().and_then(|person| self.people.mail_of(person.as_str())).unwrap_or_default();
        Ok(Receiver::Mail { address, person })
    }
}

/// Returns whether an action tells somebody of what runs.
pub(super) fn is_notice(line: &OutboxLine) -> bool {
    matches!(line.step.action, StepAction::Notify { .. }) && line.step.at.anchor != StepAnchor::Closed
}

/// Returns whether an action is yet to be carried out, and will be.
fn is_to_come(line: &OutboxLine) -> bool {
    matches!(line.action.state, ActionState::Ripe | ActionState::Waiting { .. })
}
