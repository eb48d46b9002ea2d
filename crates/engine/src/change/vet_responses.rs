//! Looks for what would keep responses from being carried out: texts that cannot be made, channels that are missing, and people
//! who cannot be written to.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use fencepost_core::{Addressee, CloseReason, Diagnostic, Finding, Response, ResponseStep, StepAction, StepAnchor};
use fencepost_store::{Ledger, LedgerError, Reader};
use jiff::Timestamp;

use crate::act::compose::{Composer, template_of};
use crate::act::plan::Receiver;
use crate::act::templates::Template;
use crate::error::EngineError;
use crate::facts::people::People;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// Looks at responses, as of a moment; with the findings and the people of a ledger where there is one.
pub(super) fn vet_responses(
    project: &Project,
    ledger: Option<&Ledger>,
    at: Timestamp,
) -> Result<Vec<Diagnostic>, EngineError> {
    let mut told = project.rules.vet_responses(&project.config.calendar, at);
    let ladders: Vec<&Response> = project.rules.responses().ladders().iter().collect();
    if ladders.is_empty() {
        return Ok(told);
    }
    missing_channels(project, &ladders, &mut told);
    unused_templates(project, &ladders, &mut told)?;
    let findings = match ledger {
        Some(ledger) => one_finding_each(project, ledger, at)?,
        None => BTreeMap::new(),
    };
    let trial = TemplateTrial { project, ledger, at, findings };
    for response in &ladders {
        for step in &response.steps {
            if let Some(why) = trial.failure(response, step)? {
                let message =
                    format!("the text of step `{}` of response `{}` cannot be made: {why}", step.id, response.id);
                told.push(
                    Diagnostic::error("template-fails", message, step.place.clone())
                        .help("mend the file; what it may fill in is told in docs/consequences.md"),
                );
            }
        }
    }
    if let Some(ledger) = ledger {
        told.extend(holders_without_address(project, &ledger.reader()?, &ladders, at)?);
    }
    Ok(told)
}

/// Says of steps that no channel carries.
fn missing_channels(project: &Project, ladders: &[&Response], told: &mut Vec<Diagnostic>) {
    let settings = &project.config.send;
    let needs = |step: &ResponseStep| match &step.action {
        StepAction::Command { .. } => settings.commands.is_none().then_some("commands"),
        StepAction::Notify { to, .. } => {
            let by_mail = to.iter().any(|to| !matches!(to, Addressee::Recipient(_)));
            (by_mail && settings.mail.is_none()).then_some("mail")
        }
        StepAction::Raise { .. } => None,
    };
    let mut missing: BTreeSet<&str> = BTreeSet::new();
    for step in ladders.iter().flat_map(|response| &response.steps) {
        let Some(what) = needs(step).filter(|what| missing.insert(what)) else { continue };
        let message = format!("no channel carries {what}, which step `{}` needs", step.id);
        told.push(
            Diagnostic::warning("no-channel", message, step.place.clone())
                .help(format!("name one with `{what}` in [responses] of fencepost.toml")),
        );
    }
}

/// Says of files in `templates/` that no step sends.
fn unused_templates(project: &Project, ladders: &[&Response], told: &mut Vec<Diagnostic>) -> Result<(), EngineError> {
    let folder = project.root.join("templates");
    let used: BTreeSet<&str> = ladders
        .iter()
        .flat_map(|response| &response.steps)
        .filter_map(|step| template_of(&step.action))
        .map(|template| template.name.as_str())
        .collect();
    let entries = match fs::read_dir(&folder) {
        Err(_) => return Ok(()),
        Ok(entries) => entries,
    };
    let mut unused = Vec::new();
    for entry in entries {
        let entry = entry.map_err(|error| EngineError::File { act: "read", path: folder.clone(), error })?;
        let Ok(name) = entry.file_name().into_string() else { continue };
        let stem = name.strip_suffix(".txt").or(name.strip_suffix(".html"));
        if stem.is_some_and(|stem| !used.contains(stem)) {
            unused.push(name);
        }
    }
    unused.sort();
    told.extend(unused.into_iter().map(|name| {
        Diagnostic::warning("template-unused", format!("no step sends templates/{name}"), None)
            .help("name it with `template` in a step, or remove it")
    }));
    Ok(())
}

/// Returns for each response a finding that runs and sets it off, where there is one.
fn one_finding_each(
    project: &Project,
    ledger: &Ledger,
    at: Timestamp,
) -> Result<BTreeMap<String, Finding>, EngineError> {
    let earlier = OnceCell::new();
    let reading = Reading::open(project, &earlier, ledger, at, false)?;
    let mut found = BTreeMap::new();
    for finding in reading.findings(None, false)?.into_values().flatten() {
        if let Some(response) = project.rules.response(&finding.subject) {
            found.entry(response.id.as_str().to_owned()).or_insert(finding);
        }
    }
    Ok(found)
}

/// Makes the texts of steps, for real findings where there are any.
struct TemplateTrial<'t> {
    project: &'t Project,
    ledger: Option<&'t Ledger>,
    at: Timestamp,
    /// A finding for each response, where one runs.
    findings: BTreeMap<String, Finding>,
}

impl TemplateTrial<'_> {
    /// Returns why the text of a step cannot be made, in words.
    fn failure(&self, response: &Response, step: &ResponseStep) -> Result<Option<String>, EngineError> {
        let Self { project, at, .. } = *self;
        let Some(name) = template_of(&step.action) else { return Ok(None) };
        let template = match Template::read(project, name, None) {
            Ok(template) => template,
            Err(failure) => return Ok(Some(failure.in_words())),
        };
        if let Err(failure) = template.check() {
            return Ok(Some(failure.in_words()));
        }
        let (Some(ledger), Some(finding)) = (self.ledger, self.findings.get(response.id.as_str())) else {
            return Ok(None);
        };
        let earlier = OnceCell::new();
        let reading = Reading::open(project, &earlier, ledger, at, false)?;
        let reading = if reading.edited { reading.by_rules_of(project)? } else { reading };
        let receiver = Receiver::Mail { address: "somebody@company.example".to_owned(), person: None };
        let mut finding = finding.clone();
        if step.at.anchor == StepAnchor::Closed {
            finding.clock.closed = Some((at, CloseReason::Fixed));
        }
        Ok(Composer::new(&reading).filled_by(&template, &[&finding], &receiver)?.err())
    }
}

/// Says how many of those who hold devices cannot be written to, where steps tell holders.
fn holders_without_address(
    project: &Project,
    reader: &Reader<'_>,
    ladders: &[&Response],
    at: Timestamp,
) -> Result<Option<Diagnostic>, LedgerError> {
    let tells_holders = |step: &&ResponseStep| match &step.action {
        StepAction::Notify { to, .. } => to.contains(&Addressee::Holder),
        StepAction::Raise { .. } | StepAction::Command { .. } => false,
    };
    let Some(step) = ladders.iter().flat_map(|response| &response.steps).find(tells_holders) else { return Ok(None) };
    let people = People::load(reader, None, project, at)?;
    let without = reader.holders()?.into_iter().filter(|id| people.mail_of(id).is_none()).count();
    if without == 0 {
        return Ok(None);
    }
    let who = if without == 1 { "person who holds a device has" } else { "people who hold devices have" };
    let instead = match &project.config.send.fallback {
        Some(fallback) => format!("`{fallback}` is told instead"),
        None => "nobody is told instead: name a recipient with `fallback` in [responses]".to_owned(),
    };
    Ok(Some(
        Diagnostic::warning("holders-without-address", format!("{without} {who} no mail address"), step.place.clone())
            .help(instead),
    ))
}
