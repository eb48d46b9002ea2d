//! What deliveries say: messages from templates, tickets and commands as CloudEvents, each with what is known of the findings.

use std::collections::BTreeMap;
use std::sync::Arc;

use fencepost_core::{
    CommandTarget, Finding, FindingId, StepAction, Strictness, Subject, TemplateName, VerdictOutcome, harmless,
};
use fencepost_formats::TemplateValues;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

use super::bundles::BundleMove;
use super::outbox::{ComingLoss, OutboxLine};
use super::plan::{DeliveryKind, PlannedDelivery, Receiver};
use super::templates::{FilledMessage, Template};
use crate::ask::device::{DeviceReport, FactLine};
use crate::error::EngineError;
use crate::facts::nested::insert_at;
use crate::ledger_view::reading::Reading;

/// No message tells of more findings one by one.
const MOST_TOLD: usize = 200;

/// What goes out, as the ledger keeps it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DeliveryContent {
    /// A message to be read.
    Message {
        /// Its subject.
        subject: String,
        /// Its text.
        text: String,
        /// The same as HTML.
        html: Option<String>,
    },
    /// A CloudEvent.
    Event(Json),
}

impl DeliveryContent {
    /// Returns what people read of it; none of a command or a bundle.
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Message { text, .. } => Some(text),
            Self::Event(event) => event["data"]["text"].as_str(),
        }
    }
}

/// What is told of a finding.
#[derive(Clone, Debug)]
pub(crate) struct FindingTold {
    device: String,
    rule: String,
    pub title: String,
    severity: Option<&'static str>,
    observed: String,
    required: Option<String>,
    seen: Option<Timestamp>,
    since: Timestamp,
    due: Timestamp,
    /// What is to be done, on this device.
    pub fix: Option<String>,
    because: Option<String>,
    /// The titles of the services that it costs.
    pub loses: Vec<String>,
    /// Whether the device has done its part, and somebody else's is awaited.
    pub awaiting: bool,
}

/// Makes what deliveries say.
pub(crate) struct Composer<'c> {
    pub reading: &'c Reading<'c>,
    /// The devices of the message that is being made.
    reports: BTreeMap<String, DeviceReport>,
    /// What is about to be lost, by the findings that stand for it.
    losses: BTreeMap<FindingId, Arc<ComingLoss>>,
}

impl<'c> Composer<'c> {
    pub(crate) fn new(reading: &'c Reading<'c>) -> Self {
        Self { reading, reports: BTreeMap::new(), losses: BTreeMap::new() }
    }

    /// Returns what a delivery says; the inner error says in words why its template does not do.
    pub(crate) fn compose(
        &mut self,
        planned: &PlannedDelivery,
    ) -> Result<Result<DeliveryContent, String>, EngineError> {
        self.reports.clear();
        let losses = planned.lines.iter().filter_map(|line| Some((line.finding.id, line.loss.clone()?)));
        self.losses = losses.collect();
        let content = self.content(planned)?;
        Ok(content.and_then(|content| self.is_short_enough(planned, &content).map(|()| content)))
    }

    /// Says why a channel of short messages cannot carry a text.
    fn is_short_enough(&self, planned: &PlannedDelivery, content: &DeliveryContent) -> Result<(), String> {
        let channel = self.reading.project.config.send.channel(&planned.channel);
        let (Some(longest), Some(text)) = (channel.and_then(|channel| channel.longest_text), content.text()) else {
            return Ok(());
        };
        match text.trim_end().chars().count() {
            length if length > longest => {
                let id = &planned.channel;
                Err(format!("its text has {length} characters, and `{id}` carries {longest}: shorten the template"))
            }
            _ => Ok(()),
        }
    }

    fn content(&mut self, planned: &PlannedDelivery) -> Result<Result<DeliveryContent, String>, EngineError> {
        match planned.kind() {
            DeliveryKind::Bundle => Ok(Ok(DeliveryContent::Event(self.bundle(planned)))),
            DeliveryKind::Command => Ok(Ok(DeliveryContent::Event(self.command(planned)?))),
            DeliveryKind::Ticket => self.event_of_text(planned, "fencepost.ticket"),
            DeliveryKind::Notice => match &planned.receiver {
                // Who has a channel of its own is told by an event.
                Receiver::Recipient(_) => self.event_of_text(planned, "fencepost.notice"),
                Receiver::Mail { .. } | Receiver::Device(_) | Receiver::Account(_) => {
                    let message = self.message(&planned.lines, &planned.receiver)?;
                    Ok(message.map(|FilledMessage { subject, text, html }| DeliveryContent::Message {
                        subject,
                        text,
                        html,
                    }))
                }
            },
        }
    }

    /// Returns the message of some actions to one receiver. What runs is told by the template of what is most urgent, and what closed
    /// after it by its own.
    pub(crate) fn message(
        &mut self,
        lines: &[OutboxLine],
        receiver: &Receiver,
    ) -> Result<Result<FilledMessage, String>, EngineError> {
        let (running, closed): (Vec<_>, Vec<_>) = lines.iter().partition(|line| line.finding.is_running());
        let mut message: Option<FilledMessage> = None;
        for lines in [running, closed] {
            let Some(template) = lines.first().and_then(|line| template_of(&line.step.action)) else { continue };
            let findings: Vec<&Finding> = lines.iter().map(|line| &*line.finding).collect();
            let filled = match self.filled(template, &findings, receiver)? {
                Ok(filled) => filled,
                Err(because) => return Ok(Err(because)),
            };
            message = Some(match message {
                None => filled,
                Some(first) => FilledMessage {
                    text: format!("{}\n{}", first.text, filled.text),
                    html: first.html.zip(filled.html).map(|(first, second)| format!("{first}\n{second}")),
                    subject: first.subject,
                },
            });
        }
        Ok(message.ok_or_else(|| "there is nothing to tell".to_owned()))
    }

    /// Fills a template in for some findings; the inner error says in words what is wrong with the template.
    pub(crate) fn filled(
        &mut self,
        template: &TemplateName,
        findings: &[&Finding],
        receiver: &Receiver,
    ) -> Result<Result<FilledMessage, String>, EngineError> {
        let language = match receiver {
            Receiver::Mail { person: Some(person), .. } => self.text_of(person.as_str(), "language"),
            _ => None,
        };
        match Template::read(self.reading.project, template, language.as_deref()) {
            Ok(template) => self.filled_by(&template, findings, receiver),
            Err(failure) => Ok(Err(failure.in_words())),
        }
    }

    /// Fills a template in that was read.
    pub(crate) fn filled_by(
        &mut self,
        template: &Template,
        findings: &[&Finding],
        receiver: &Receiver,
    ) -> Result<Result<FilledMessage, String>, EngineError> {
        let values = self.values(template, findings, receiver)?;
        Ok(template.fill_in(&values).map_err(|failure| failure.in_words()))
    }

    fn text_of(&self, person: &str, field: &str) -> Option<String> {
        self.reading.people.get_once(person)?.text(field).map(harmless)
    }

    fn values(
        &mut self,
        template: &Template,
        findings: &[&Finding],
        receiver: &Receiver,
    ) -> Result<TemplateValues, EngineError> {
        let mut told = Vec::new();
        let mut closed = Vec::new();
        for finding in findings.iter().take(MOST_TOLD) {
            let one = self.told(finding)?;
            if finding.is_running() { told.push(one) } else { closed.push(one) }
        }
        let facts = template.facts();
        let device = match findings.first() {
            Some(first) => nested(&self.report(first.device.as_str())?.facts, first.device.as_str(), &facts),
            None => Map::new(),
        };
        let mut loses: Vec<&String> = told.iter().flat_map(|one| &one.loses).collect();
        loses.sort();
        loses.dedup();
        let deadline = told.iter().map(|one| one.due).min();
        let holder = match receiver {
            Receiver::Mail { person: Some(person), address } => json!({
                "name": self.text_of(person.as_str(), "name").unwrap_or_else(|| harmless(person.as_str())),
                "mail": address, "language": self.text_of(person.as_str(), "language"),
            }),
            // Only a person is greeted by name.
            Receiver::Mail { person: None, address } => json!({ "name": null, "mail": address, "language": null }),
            Receiver::Recipient(_) | Receiver::Device(_) | Receiver::Account(_) => {
                json!({ "name": null, "mail": null, "language": null })
            }
        };
        let name = self.reading.project.config.name.as_deref().unwrap_or("Fence Post");
        let others = [
            ("workspace", json!(name)),
            ("holder", holder),
            ("closed", closed.iter().map(|one| self.template_json(one)).collect()),
            ("deadline", json!(deadline.map(|at| self.moment(at)))),
            ("loses", json!(loses)),
            ("waiver", self.waiver_json(findings)),
            ("more", json!(findings.len().saturating_sub(MOST_TOLD))),
        ];
        Ok(TemplateValues {
            device,
            findings: told.iter().map(|one| self.template_json(one)).collect(),
            others: others.into_iter().map(|(name, value)| (name.to_owned(), value)).collect(),
        })
    }

    /// Returns the waiver that covers the first of some findings; null where none does.
    fn waiver_json(&self, findings: &[&Finding]) -> Json {
        let time = findings.first().and_then(|finding| finding.clock.waived_at(self.reading.at));
        let Some(time) = time else { return Json::Null };
        let waiver = self.reading.project.rules.waivers().iter().find(|waiver| waiver.id == time.waiver);
        json!({
            "id": time.waiver.as_str(), "until": self.moment(time.until), "because": waiver.map(|waiver| &waiver.because),
        })
    }

    fn report(&mut self, device: &str) -> Result<&DeviceReport, EngineError> {
        if !self.reports.contains_key(device) {
            let report = self.reading.device(device)?;
            self.reports.insert(device.to_owned(), report);
        }
        Ok(&self.reports[device])
    }

    /// Returns what is told of the findings of one device.
    pub(crate) fn told_of(&mut self, findings: &[Finding]) -> Result<Vec<FindingTold>, EngineError> {
        self.reports.clear();
        findings.iter().map(|finding| self.told(finding)).collect()
    }

    /// Returns what is told of a finding.
    fn told(&mut self, finding: &Finding) -> Result<FindingTold, EngineError> {
        let at = self.reading.at;
        let report = self.report(finding.device.as_str())?;
        let rule = finding.subject.as_str();
        let mut losses: Vec<String> = report
            .costs_of(|known| known == rule)
            .into_iter()
            .filter(|cost| cost.decision.strictness() > Strictness::Permitted)
            .map(|cost| cost.title)
            .collect();
        losses.sort();
        losses.dedup();
        let mut told = FindingTold {
            device: harmless(finding.device.as_str()),
            rule: rule.to_owned(),
            title: rule.to_owned(),
            severity: None,
            observed: String::new(),
            required: None,
            seen: finding.evidence_at.or(report.collected),
            since: finding.clock.opened,
            due: finding.clock.overdue_from(at),
            fix: None,
            because: None,
            loses: losses,
            awaiting: false,
        };
        // What is announced was never opened.
        if finding.clock.opened == Timestamp::MIN {
            told.since = at;
        }
        if let Some(loss) = self.losses.get(&finding.id) {
            told.title = format!("{} will be out of reach", loss.services.join(", "));
            told.observed = loss.causes.join("; ");
            told.fix.clone_from(&loss.fix);
            told.loses.clone_from(&loss.services);
            return Ok(told);
        }
        let report = self.report(finding.device.as_str())?;
        match &finding.subject {
            Subject::Rule(_) => {
                if let Some(line) = report.verdicts.iter().find(|line| line.rule.id.as_str() == rule) {
                    let headline = line.evidence.headline_parts();
                    told.observed = match line.outcome {
                        VerdictOutcome::Unknown(_) => "it cannot be told any more".to_owned(),
                        _ => harmless(&headline.observed()),
                    };
                    told.required = headline.required.map(|required| harmless(&required));
                    told.fix = line.fix.clone().or_else(|| line.rule.fix.clone());
                    told.seen = line.evidence.collected().or(told.seen);
                    told.title.clone_from(&line.rule.title);
                    told.because.clone_from(&line.rule.because);
                    told.severity = Some(line.rule.severity.as_str());
                    told.awaiting = line.awaiting;
                }
            }
            Subject::Silence => {
                let facts: Vec<String> = finding.blames.iter().map(|blame| harmless(&blame.fact)).collect();
                told.title = "The device does not report what it should".to_owned();
                told.observed = match finding.leaves_open.len() {
                    1 => "one rule cannot be answered".to_owned(),
                    open => format!("{open} rules cannot be answered"),
                };
                told.fix = Some(match facts.as_slice() {
                    [] => "Let the device report again.".to_owned(),
                    facts => format!("Let the device report again: {}.", facts.join(", ")),
                });
            }
            Subject::Uncovered => {
                told.title = "No rule covers the device".to_owned();
                told.observed = "no enforced rule covers it".to_owned();
                told.fix = Some("Write a rule that covers it, or widen the scope of one.".to_owned());
            }
        }
        Ok(told)
    }

    /// Returns a moment as it stands in a message: `Sun 14 Mar 2027 07:00`.
    fn moment(&self, at: Timestamp) -> String {
        let zone = self.reading.project.config.calendar.zone.clone();
        at.to_zoned_datetime(zone).strftime("%a %-d %b %Y %H:%M").to_string()
    }

    fn template_json(&self, told: &FindingTold) -> Json {
        let FindingTold { device, rule, title, observed, required, fix, because, loses, .. } = told;
        json!({
            "device": device, "rule": rule, "title": title, "severity": told.severity,
            "observed": observed, "required": required, "fix": fix, "because": because, "loses": loses,
            "seen": told.seen.map(|at| self.moment(at)), "since": self.moment(told.since), "due": self.moment(told.due),
            "is_overdue": told.due <= self.reading.at,
        })
    }

    /// Returns an event with the text of a message in it, and the findings as data.
    fn event_of_text(
        &mut self,
        planned: &PlannedDelivery,
        kind: &str,
    ) -> Result<Result<DeliveryContent, String>, EngineError> {
        let message = match self.message(&planned.lines, &planned.receiver)? {
            Ok(message) => message,
            Err(because) => return Ok(Err(because)),
        };
        let mut findings = Vec::new();
        for line in planned.lines.iter().take(MOST_TOLD) {
            let told = self.told(&line.finding)?;
            findings.push(json!({
                "action": line.action.id.to_string(), "step": line.step.id.as_str(),
                "device": told.device, "rule": told.rule, "title": told.title, "severity": told.severity,
                "observed": told.observed, "required": told.required, "fix": told.fix, "because": told.because,
                "since": told.since.to_string(), "due": told.due.to_string(), "loses": told.loses,
                "closed": !line.finding.is_running(),
            }));
        }
        let data = json!({
            "schema": 1, "to": planned.receiver.as_str(), "subject": message.subject, "text": message.text,
            "findings": findings, "more": planned.lines.len().saturating_sub(MOST_TOLD),
        });
        Ok(Ok(DeliveryContent::Event(self.event(planned, kind, data))))
    }

    /// Returns the event of a bundle: who enters, and who leaves.
    fn bundle(&self, planned: &PlannedDelivery) -> Json {
        let devices = |wanted: BundleMove| {
            let own = planned.changes.iter().filter(|change| change.change == wanted);
            own.map(|change| change.device.as_str()).collect::<Vec<_>>()
        };
        let bundle = planned.receiver.as_str();
        let data = json!({
            "schema": 1, "bundle": bundle, "subject": format!("who should have {bundle}"),
            "enter": devices(BundleMove::Enters), "leave": devices(BundleMove::Leaves),
        });
        self.event(planned, "fencepost.bundle", data)
    }

    /// Returns the event of a command.
    fn command(&mut self, planned: &PlannedDelivery) -> Result<Json, EngineError> {
        let Some(line) = planned.lines.first() else { return Ok(Json::Null) };
        let told = self.told(&line.finding)?;
        let StepAction::Command { command, on, undo, .. } = &line.step.action else { return Ok(Json::Null) };
        let account = match &planned.receiver {
            Receiver::Account(person) => Some(person.as_str()),
            _ => None,
        };
        let on = match on {
            CommandTarget::Device => "device",
            CommandTarget::Account => "account",
        };
        let data = json!({
            "schema": 1, "command": command, "on": on, "device": line.finding.device.as_str(), "account": account,
            "undoes": undo.as_ref().map(|step| step.as_str()), "action": line.action.id.to_string(),
            "rule": told.rule, "title": told.title, "due": told.due.to_string(),
        });
        Ok(self.event(planned, "fencepost.command", data))
    }

    /// Returns an event: CloudEvents 1.0.
    fn event(&self, planned: &PlannedDelivery, kind: &str, data: Json) -> Json {
        let project = self.reading.project;
        let name = project.config.name.as_deref().unwrap_or_default().to_lowercase();
        let slug: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        let mut devices: Vec<&str> = planned.lines.iter().map(|line| line.finding.device.as_str()).collect();
        devices.dedup();
        let subject = match devices.as_slice() {
            [only] => Some(*only),
            _ => None,
        };
        let mut event = json!({
            "specversion": "1.0", "id": planned.key, "source": format!("urn:fencepost:{}", slug.trim_matches('-')),
            "type": kind, "time": self.reading.at.to_string(), "datacontenttype": "application/json",
        });
        // An attribute that is there is never null.
        if let Some(subject) = subject {
            event["subject"] = json!(subject);
        }
        event["data"] = data;
        event
    }
}

/// Returns the template of what a step tells.
pub(crate) fn template_of(action: &StepAction) -> Option<&TemplateName> {
    match action {
        StepAction::Notify { template, .. } | StepAction::Raise { template, .. } => Some(template),
        StepAction::Command { .. } => None,
    }
}

/// Returns the facts of a device that are asked for, by path, as an object of objects; with its id.
fn nested(lines: &[FactLine], device: &str, paths: &[String]) -> Map<String, Json> {
    let mut values = Map::new();
    values.insert("id".to_owned(), json!(harmless(device)));
    for path in paths {
        let Some(line) = lines.iter().find(|line| line.path == *path && !line.wrong_type) else { continue };
        let value = line.label.as_deref().unwrap_or(&line.value);
        insert_at(&mut values, path, json!(harmless(value)));
    }
    values
}
