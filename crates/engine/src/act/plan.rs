//! What would be sent: ripe actions put together into deliveries, one message a person a run.

use std::collections::BTreeMap;

use fencepost_core::{Bundle, PersonId, StepAction, Target, bundle_number};
use fencepost_formats::{Reached, SendSettings};
use fencepost_store::ActionKey;
use sha2::{Digest, Sha256};

use super::bundles::BundleChange;
use super::outbox::OutboxLine;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::hex;

/// A delivery that is to be made.
#[derive(Clone, Debug)]
pub struct PlannedDelivery {
    /// What the receiver will know it by, the same however often it is tried.
    pub key: String,
    /// The channel's id.
    pub channel: String,
    /// Whom it goes to.
    pub receiver: Receiver,
    /// What it carries out of findings.
    pub lines: Vec<OutboxLine>,
    /// The changes of a bundle that it hands over; empty of all others.
    pub changes: Vec<BundleChange>,
}

/// Whom a delivery goes to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Receiver {
    /// Somebody who is told by mail.
    Mail {
        /// The address.
        address: String,
        /// The person, where it is one of the people lists.
        person: Option<PersonId>,
    },
    /// A recipient with a channel of its own.
    Recipient(String),
    /// A device that is commanded.
    Device(String),
    /// The account of a person on a device.
    Account(PersonId),
}

impl Receiver {
    /// Returns what lists and the ledger call it.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Mail { address, .. } => address,
            Self::Recipient(id) => id,
            Self::Device(device) => device,
            Self::Account(person) => person.as_str(),
        }
    }
}

/// What a delivery is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DeliveryKind {
    /// A message to be read.
    Notice,
    /// A ticket.
    Ticket,
    /// A command.
    Command,
    /// Who enters a bundle, and who leaves it.
    Bundle,
}

impl DeliveryKind {
    fn of(action: &StepAction) -> Self {
        match action {
            StepAction::Notify { .. } => Self::Notice,
            StepAction::Raise { .. } => Self::Ticket,
            StepAction::Command { .. } => Self::Command,
        }
    }
}

impl PlannedDelivery {
    /// Returns the actions that it carries out, as the ledger names them.
    pub(crate) fn actions(&self) -> Vec<ActionKey> {
        let of_finding = |line: &OutboxLine| ActionKey {
            action: line.action.id.number(),
            finding: line.finding.id.number(),
            device: line.finding.device.as_str().to_owned(),
            step: line.step.id.as_str().to_owned(),
        };
        let of_bundle = |change: &BundleChange| ActionKey {
            action: change.action.number(),
            finding: bundle_number(&change.bundle),
            device: change.device.clone(),
            step: change.change.as_str().to_owned(),
        };
        self.lines.iter().map(of_finding).chain(self.changes.iter().map(of_bundle)).collect()
    }

    /// Returns what it is.
    pub fn kind(&self) -> DeliveryKind {
        if !self.changes.is_empty() {
            return DeliveryKind::Bundle;
        }
        self.lines.first().map_or(DeliveryKind::Notice, |line| DeliveryKind::of(&line.step.action))
    }
}

/// A ripe action that no channel can carry.
#[derive(Clone, Debug)]
pub struct Unroutable {
    /// The action.
    pub line: OutboxLine,
    /// Why.
    pub because: &'static str,
}

/// Puts ripe actions together into deliveries.
pub(crate) struct DeliveryPlanner<'p> {
    reading: &'p Reading<'p>,
    /// Messages to one receiver, by channel.
    messages: BTreeMap<(String, Receiver), Vec<OutboxLine>>,
    singles: Vec<PlannedDelivery>,
    unroutable: Vec<Unroutable>,
}

impl<'p> DeliveryPlanner<'p> {
    pub(crate) fn new(reading: &'p Reading<'p>) -> Self {
        Self { reading, messages: BTreeMap::new(), singles: Vec::new(), unroutable: Vec::new() }
    }

    fn settings(&self) -> &'p SendSettings {
        &self.reading.project.config.send
    }

    /// Adds a ripe action.
    pub(crate) fn add(&mut self, line: OutboxLine) {
        let (channel, receiver) = match self.route(&line) {
            Ok(route) => route,
            Err(because) => return self.unroutable.push(Unroutable { line, because }),
        };
        match DeliveryKind::of(&line.step.action) {
            DeliveryKind::Notice => self.messages.entry((channel, receiver)).or_default().push(line),
            // A ticket is of one finding, and so is a command.
            DeliveryKind::Ticket | DeliveryKind::Command | DeliveryKind::Bundle => {
                self.singles.push(planned(channel, receiver, vec![line]))
            }
        }
    }

    /// Adds the changes of a bundle.
    pub(crate) fn add_bundle(&mut self, bundle: &Bundle, changes: Vec<BundleChange>) {
        // Where nobody is told of a bundle, it is there to be looked at.
        if let (Some(channel), false) = (&bundle.to, changes.is_empty()) {
            let receiver = Receiver::Recipient(bundle.id.clone());
            let delivery =
                PlannedDelivery { key: String::new(), channel: channel.clone(), receiver, lines: Vec::new(), changes };
            self.singles.push(delivery.with_key());
        }
    }

    /// Returns on which channel an action goes out, and to whom.
    fn route(&self, line: &OutboxLine) -> Result<(String, Receiver), &'static str> {
        let settings = self.settings();
        let by_mail = |address: String, person: Option<PersonId>| match &settings.mail {
            Some(channel) => Ok((channel.clone(), Receiver::Mail { address, person })),
            None => Err("no channel carries mail: say which with `mail` in [responses]"),
        };
        let by_command = |receiver| match &settings.commands {
            Some(channel) => Ok((channel.clone(), receiver)),
            None => Err("no channel carries commands: say which with `commands` in [responses]"),
        };
        match &line.action.target {
            Target::Person { id, .. } => match self.reading.people.mail_of(id.as_str()) {
                Some(address) => by_mail(address, Some(id.clone())),
                None => Err("the person has no mail address any more"),
            },
            Target::Mail(address) => by_mail(address.clone(), None),
            Target::Recipient(id) => match settings.recipient(id).map(|recipient| &recipient.by) {
                Some(Reached::Mail(address)) => by_mail(address.clone(), None),
                Some(Reached::Channel(channel)) => Ok((channel.clone(), Receiver::Recipient(id.clone()))),
                None => Err("there is no such recipient any more"),
            },
            Target::Device => by_command(Receiver::Device(line.finding.device.as_str().to_owned())),
            Target::Account(person) => by_command(Receiver::Account(person.clone())),
            Target::Nobody => Err("there is nobody to tell"),
        }
    }

    /// Returns the deliveries in the order in which they are made: what is taken back, what is told, tickets, and then commands; and
    /// what cannot be carried.
    pub(crate) fn finish(self) -> (Vec<PlannedDelivery>, Vec<Unroutable>) {
        let messages = self.messages.into_iter().map(|((channel, receiver), lines)| planned(channel, receiver, lines));
        let mut all: Vec<PlannedDelivery> = messages.chain(self.singles).collect();
        let is_undo = |delivery: &PlannedDelivery| {
            let mut actions = delivery.lines.iter().map(|line| &line.step.action);
            actions.any(|action| matches!(action, StepAction::Command { undo: Some(_), .. }))
        };
        all.sort_by_key(|delivery| (!is_undo(delivery), delivery.kind()));
        (all, self.unroutable)
    }
}

fn planned(channel: String, receiver: Receiver, mut lines: Vec<OutboxLine>) -> PlannedDelivery {
    // What is most urgent is told first.
    lines.sort_by(|a, b| {
        let place = |line: &OutboxLine| (!line.finding.is_running(), line.finding.clock.due, line.action.id);
        place(a).cmp(&place(b))
    });
    PlannedDelivery { key: String::new(), channel, receiver, lines, changes: Vec::new() }.with_key()
}

impl PlannedDelivery {
    /// Gives it its key, which follows from where it goes and what it carries out.
    fn with_key(self) -> Self {
        let mut ids: Vec<u64> = self.actions().iter().map(|action| action.action).collect();
        ids.sort_unstable();
        let mut hash = Sha256::new();
        for part in [self.channel.as_str(), self.receiver.as_str()] {
            hash.update(part.len().to_le_bytes());
            hash.update(part);
        }
        ids.iter().for_each(|id| hash.update(id.to_le_bytes()));
        Self { key: hex(&hash.finalize()[..8]), ..self }
    }
}
