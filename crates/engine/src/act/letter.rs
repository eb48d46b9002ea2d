//! A letter to one person about the devices that the person holds: what is wrong, what to do, by when, and what stops.

use fencepost_core::{Finding, PersonId, Standing, TemplateName};

use super::as_told::is_notice;
use super::compose::{Composer, template_of};
use super::outbox::Outbox;
use super::plan::Receiver;
use super::records::OutboxRecords;
use super::templates::{FilledMessage, Template};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// What a letter says of one device.
#[derive(Clone, Debug)]
pub struct LetterDevice {
    /// The device.
    pub device: String,
    /// How it stands; none before it was assessed.
    pub standing: Option<Standing>,
    /// Who else holds it, by name.
    pub shared_with: Vec<String>,
    /// What is to be put right, in the words of the workspace; none where nothing is.
    pub message: Option<FilledMessage>,
}

/// A letter.
#[derive(Clone, Debug)]
pub struct Letter {
    /// The person's id.
    pub person: String,
    /// What the person is called.
    pub name: Option<String>,
    /// What the lead is called.
    pub lead: Option<String>,
    /// The language that the person is written to in, where the lists tell it.
    pub language: Option<String>,
    /// The devices that the person holds.
    pub devices: Vec<LetterDevice>,
}

impl Reading<'_> {
    /// Returns the letter to a person, who is named by id or name.
    ///
    /// # Errors
    /// When the ledger cannot be read, nobody is called so, or a template of the workspace cannot be filled in.
    pub fn letter(&self, who: &str) -> Result<Letter, EngineError> {
        let id = match self.people.get(who) {
            Some(_) => who.to_owned(),
            None => match self.unlisted_or_named(who)? {
                Some(id) => id,
                None => return Err(self.nobody(who, true)?),
            },
        };
        let Some(person) = self.person(&id)? else { return Err(self.nobody(who, true)?) };
        let language = self.people.get_once(&id).and_then(|person| person.text("language").map(str::to_owned));
        let records = OutboxRecords::read(self)?;
        let mut devices = Vec::new();
        for held in person.devices {
            devices.push(LetterDevice {
                message: self.told_of_device(&id, &held.device, &records)?,
                device: held.device,
                standing: held.standing,
                shared_with: held.shared_with,
            });
        }
        Ok(Letter {
            name: person.name,
            lead: person.lead.map(|(id, name)| name.unwrap_or(id)),
            person: id,
            language,
            devices,
        })
    }

    /// Returns what a person is told of one device, in the template of the notice that comes next or came last.
    fn told_of_device(
        &self,
        person: &str,
        device: &str,
        records: &OutboxRecords,
    ) -> Result<Option<FilledMessage>, EngineError> {
        let findings = self.findings(Some(device), false)?.remove(device).unwrap_or_default();
        let findings: Vec<&Finding> = findings.iter().filter(|finding| !finding.clock.is_waived(self.at)).collect();
        if findings.is_empty() {
            return Ok(None);
        }
        let mut notices = Outbox { reading: self, records }.lines_of(device)?;
        notices.retain(|line| {
            is_notice(line) && line.to() == "holder" && findings.iter().any(|finding| finding.id == line.finding.id)
        });
        notices.sort_by_key(|line| (line.action.moment, line.finding.clock.due));
        let passed = notices.iter().rfind(|line| line.action.moment.is_some_and(|moment| moment <= self.at));
        let notice = passed.or_else(|| notices.first());
        let template: Option<&TemplateName> = notice.and_then(|line| template_of(&line.step.action));
        let id = PersonId::from(person);
        let address = self.people.mail_of(person).unwrap_or_default();
        let receiver = Receiver::Mail { address, person: Some(id) };
        let mut composer = Composer::new(self);
        let message = match template {
            Some(template) => composer.filled(template, &findings, &receiver)?,
            None => composer.filled_by(&Template::standard(), &findings, &receiver)?,
        };
        let message = message.map_err(|because| EngineError::refused(because, "mend the template: fencepost vet"))?;
        Ok(Some(message))
    }
}
