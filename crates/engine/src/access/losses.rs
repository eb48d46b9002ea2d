//! Reads from the ledger who lost, loses and regained access.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{AccessChange, Cause, CauseKind, Effect, Finding, Phase, Posture, Subject};
use fencepost_store::RunRow;
use jiff::Timestamp;

use super::current::{CurrentDecision, CurrentDecisions, KeptDecision};
use super::report::{AccessEntry, AccessReport, AccessSummary, CauseLine, Contact, PersonOrDevice};
use crate::assess::decisions::usual_decisions;
use crate::assess::outlook::ComingDecision;
use crate::error::EngineError;
use crate::facts::judge::{Judge, People};
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::damaged;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// The decisions that time alone brings about after the assessment, by device.
pub(super) type ComingByDevice = BTreeMap<String, Vec<ComingDecision>>;

/// What is asked about access.
#[derive(Clone, Copy, Debug, Default)]
pub struct AccessQuery {
    /// The present is compared with the last assessment at or before this; with the one before the latest, where it is none.
    pub since: Option<Timestamp>,
    /// What is denied now lists also what no access rule is for.
    pub denied_by_default: bool,
}

/// What the present is compared with.
struct Earlier {
    run: RunRow,
    /// Everybody who was on a list then.
    people: BTreeSet<String>,
    /// The rules of then, where they are others than now, with the people as they are now.
    rules: Option<(Project, People)>,
}

impl Reading<'_> {
    /// Compares the decisions now with those of an earlier assessment.
    ///
    /// # Errors
    /// When the ledger cannot be read, nothing was assessed, nothing so early, or the query's `since` is not in the past.
    pub fn access(&self, query: AccessQuery) -> Result<AccessReport, EngineError> {
        let Some(assessment) = &self.assessment else {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        };
        let earlier = self.base(assessment, query.since)?.map(|run| self.earlier(run)).transpose()?;
        let mut report = AccessReport {
            past_valid_until: self.past_valid_until()?,
            as_of: self.at,
            since: earlier.as_ref().map(|earlier| earlier.run.as_of),
            summary: AccessSummary::default(),
            lost: Vec::new(),
            reduced: Vec::new(),
            restored: Vec::new(),
            losing: Vec::new(),
            denied: Vec::new(),
        };
        let mut coming = ComingByDevice::default();
        let mut last = String::new();
        loop {
            let devices = self.reader.devices_after(&last, DEVICES)?;
            let Some(end) = devices.last() else { break };
            last.clone_from(&end.name);
            for device in &devices {
                let decisions = self.current_decisions(device)?;
                let before = match &earlier {
                    Some(earlier) => self.stored_decisions(device, Some(earlier.run.id))?,
                    None => Vec::new(),
                };
                let compared = earlier.as_ref().map(|earlier| (earlier, before.as_slice()));
                self.add_entries(&decisions, compared, &mut report)?;
                if !decisions.coming.is_empty() {
                    coming.insert(device.name.clone(), decisions.coming);
                }
            }
        }
        if !query.denied_by_default {
            report.denied.retain(|entry| !entry.access_rules.is_empty());
        }
        self.add_other_ways(&mut report, &coming)?;
        self.add_sites(&mut report)?;
        let order = |entry: &AccessEntry| {
            (entry.moment, entry.device.clone(), entry.person.clone(), entry.service.clone(), entry.client.clone())
        };
        report.losing.sort_by_cached_key(order);
        report.count();
        Ok(report)
    }

    /// Returns the person or the device that somebody means by an id or, of a person, a name.
    ///
    /// # Errors
    /// When nobody and nothing is called so, or several people are.
    pub fn person_or_device(&self, who: &str) -> Result<PersonOrDevice, EngineError> {
        if self.people.get(who).is_some() {
            return Ok(PersonOrDevice::Person(who.to_owned()));
        }
        if self.knows_device(who)? {
            return Ok(PersonOrDevice::Device(self.device_name(who)?));
        }
        let wanted = who.to_lowercase();
        let named = self.people.all().filter(|person| person.name().to_lowercase() == wanted);
        let named: Vec<&str> = named.map(|person| person.id.as_str()).collect();
        match named.as_slice() {
            [one] => Ok(PersonOrDevice::Person((*one).to_owned())),
            [] => Err(self.nobody(who, true)?),
            several => Err(EngineError::refused(
                format!("{} people are called `{who}`", several.len()),
                format!("name one by id: {}", several.join(", ")),
            )),
        }
    }

    fn base(&self, assessment: &RunRow, since: Option<Timestamp>) -> Result<Option<RunRow>, EngineError> {
        match since {
            Some(since) if since > self.at => Err(EngineError::refused(
                format!("{since} is later than {}, as of which access is told", self.at),
                "name an earlier moment in --since, or a later one in --as-of",
            )),
            Some(since) => {
                let found = self.reader.assessments(Some(since), 1)?.into_iter().next();
                found.map(Some).ok_or_else(|| {
                    EngineError::refused(
                        format!("nothing was assessed at or before {since}"),
                        "see the assessments with: fencepost list assessments",
                    )
                })
            }
            None => {
                Ok(self.reader.assessments(Some(assessment.as_of), 2)?.into_iter().find(|run| run.id < assessment.id))
            }
        }
    }

    fn earlier(&self, run: RunRow) -> Result<Earlier, EngineError> {
        let people = self.reader.people(Some(run.id))?.into_iter().map(|row| row.id).collect();
        let now = self.assessment.as_ref().and_then(|run| run.rule_set.as_deref());
        let digest = run.rule_set.as_deref().filter(|digest| Some(*digest) != now);
        let text = digest.map(|digest| self.reader.rule_set(digest)).transpose()?.flatten();
        let project = text.and_then(|text| Project::from_text(&self.project.root, &text));
        let rules = match project {
            Some(project) => {
                let people = People::load(&self.reader.people(self.run)?, &project, self.judged_at());
                Some((project, people))
            }
            None => None,
        };
        Ok(Earlier { run, people, rules })
    }

    /// Adds what is told of a device.
    fn add_entries(
        &self,
        of: &CurrentDecisions,
        compared: Option<(&Earlier, &[KeptDecision])>,
        report: &mut AccessReport,
    ) -> Result<(), EngineError> {
        for (key, held) in &of.now {
            if held.decision.ruling.effect == Effect::Deny {
                report.denied.push(self.entry(of, key, held)?);
            }
        }
        for it in &of.losing {
            let held = CurrentDecision { decision: it.decision.clone(), since: it.at };
            report.losing.push(AccessEntry { only_if_silent: it.only_if_silent, ..self.entry(of, &it.key, &held)? });
        }
        let Some((earlier, before)) = compared else { return Ok(()) };
        let mut by_earlier_rules = None;
        for before in before {
            let key = &before.key;
            let Some(held) = of.now.get(key) else {
                if before.decision.ruling.effect == Effect::Permit {
                    let ended = before.ended.map(|run| self.reader.run(run)).transpose()?.flatten();
                    let since = ended.map_or(self.judged_at(), |run| run.as_of);
                    let decision = StoredDecision::gone(self.why_gone(of, key));
                    report.lost.push(self.entry(of, key, &CurrentDecision { decision, since })?);
                }
                continue;
            };
            let Some(change) = held.decision.ruling.change_since(&before.decision.ruling) else { continue };
            if by_earlier_rules.is_none() {
                by_earlier_rules = Some(self.by_earlier_rules(of, earlier)?);
            }
            let then = by_earlier_rules.iter().flatten().find(|(other, _)| other == key).map(|(_, decision)| decision);
            let mut entry = self.entry(of, key, held)?;
            match change {
                AccessChange::Lost | AccessChange::Reduced => {
                    if then.is_some_and(|then| held.decision.ruling.change_since(&then.ruling) == Some(change)) {
                        entry.causes.insert(0, edited(&held.decision));
                    } else if let Some(kind) = self.membership_lost(key, &before.decision, &held.decision, earlier) {
                        let access_rule = before.decision.access_rules.first().cloned();
                        let cause = Cause { access_rule, ..Cause::of_kind(kind) };
                        entry.causes = vec![CauseLine { cause, title: None, fix: None }];
                    }
                    let list = if change == AccessChange::Lost { &mut report.lost } else { &mut report.reduced };
                    list.push(entry);
                }
                AccessChange::Restored => {
                    let was_edited =
                        then.is_some_and(|then| held.decision.ruling.change_since(&then.ruling) == Some(change));
                    entry.causes = match was_edited {
                        true => vec![edited(&before.decision)],
                        false => self.cause_lines(of, &before.decision)?,
                    };
                    report.restored.push(entry);
                }
            }
        }
        Ok(())
    }

    /// Returns why a sign-in that was permitted is not there any more.
    fn why_gone(&self, of: &CurrentDecisions, key: &DecisionKey) -> CauseKind {
        let services = self.project.rules.access().services();
        let service = services.iter().find(|service| service.id.as_str() == key.service);
        if service.is_none_or(|service| service.usual.iter().all(|usual| usual.id != key.client)) {
            return CauseKind::RuleChanged;
        }
        if key.person.as_deref().is_some_and(|person| self.people.get(person).is_none()) {
            return CauseKind::Left;
        }
        // A device that is retired has no decisions at all.
        if of.now.is_empty() { CauseKind::Retired } else { CauseKind::Membership }
    }

    /// Returns what it is that a person lost by no longer being one of those whom an access rule is for: gone from the list, or moved.
    fn membership_lost(
        &self,
        key: &DecisionKey,
        before: &StoredDecision,
        now: &StoredDecision,
        earlier: &Earlier,
    ) -> Option<CauseKind> {
        let person = key.person.as_deref()?;
        let by_default = now.causes.iter().any(|it| matches!(it.kind, CauseKind::Default | CauseKind::Membership));
        if !by_default {
            return None;
        }
        if self.people.get(person).is_none() && earlier.people.contains(person) {
            return Some(CauseKind::Left);
        }
        (!before.access_rules.is_empty()).then_some(CauseKind::Membership)
    }

    /// Returns what the rules of the earlier assessment would decide now; nothing where they are the same.
    fn by_earlier_rules(
        &self,
        of: &CurrentDecisions,
        earlier: &Earlier,
    ) -> Result<Vec<(DecisionKey, StoredDecision)>, EngineError> {
        let Some((project, people)) = &earlier.rules else { return Ok(Vec::new()) };
        let (judge, arena) = (Judge::new(project, people, self.at), Bump::new());
        let documents = self.assessed_documents(&of.device)?;
        let judged = judge
            .device(&of.device, &documents, &arena)
            .map_err(|error| damaged(self.project, &of.device, &error.message))?;
        let running: Vec<&Finding> = of.findings.iter().filter(|finding| finding.is_running()).collect();
        let covered = running.iter().all(|finding| finding.subject != Subject::Uncovered);
        let posture = Posture { running: &running, covered, uncovered: project.config.uncovered_stands };
        Ok(usual_decisions(&judge, &judged, posture, &arena))
    }

    /// Returns what is told of a sign-in with a device.
    fn entry(
        &self,
        of: &CurrentDecisions,
        key: &DecisionKey,
        held: &CurrentDecision,
    ) -> Result<AccessEntry, EngineError> {
        let services = self.project.rules.access().services();
        let title = services
            .iter()
            .find(|service| service.id.as_str() == key.service)
            .map_or(&key.service, |service| &service.title);
        Ok(AccessEntry {
            device: of.device.clone(),
            person: key.person.clone(),
            contact: key.person.as_deref().map(|person| self.contact(person)).unwrap_or_default(),
            site: None,
            service: key.service.clone(),
            service_title: title.clone(),
            client: key.client.clone(),
            moment: held.since,
            decision: held.decision.ruling.clone(),
            access_rules: held.decision.access_rules.clone(),
            causes: self.cause_lines(of, &held.decision)?,
            other: None,
            only_if_silent: false,
        })
    }

    pub(super) fn contact(&self, person: &str) -> Contact {
        let Some(person) = self.people.get(person) else { return Contact::default() };
        let text = |field: &str| person.text(field).map(str::to_owned);
        Contact {
            name: Some(person.name().to_owned()),
            mail: text("mail"),
            phone: text("phone"),
            lead: text("lead"),
            lead_name: person.text("lead").and_then(|lead| self.people.get(lead)).map(|lead| lead.name().to_owned()),
            unit: text("unit"),
        }
    }

    /// Puts the causes of a decision into words.
    fn cause_lines(&self, of: &CurrentDecisions, decision: &StoredDecision) -> Result<Vec<CauseLine>, EngineError> {
        let mut lines = Vec::new();
        for cause in &decision.causes {
            let kept_without_rule =
                cause.rule.is_none() && matches!(cause.kind, CauseKind::Finding | CauseKind::Silence);
            if !kept_without_rule {
                lines.push(self.cause_line(&of.device, &of.findings, cause)?);
                continue;
            }
            // Earlier versions kept that findings are the cause, and not which.
            let is_overdue = |finding: &&Finding| matches!(finding.phase(self.at), Phase::Overdue { .. });
            for finding in of.findings.iter().filter(is_overdue) {
                if (finding.subject == Subject::Silence) == (cause.kind == CauseKind::Silence) {
                    let rule = Some(finding.subject.as_str().to_owned());
                    let (opened, due) = (Some(finding.clock.opened), Some(finding.clock.due));
                    let cause = Cause { rule, opened, due, ..cause.clone() };
                    lines.push(self.cause_line(&of.device, &of.findings, &cause)?);
                }
            }
        }
        Ok(lines)
    }

    pub(super) fn cause_line(
        &self,
        device: &str,
        findings: &[Finding],
        cause: &Cause,
    ) -> Result<CauseLine, EngineError> {
        let (title, fix) = match (cause.kind, cause.rule.as_deref()) {
            (CauseKind::Finding, Some(rule)) => match self.project.rules.position(rule) {
                Some(at) => (Some(self.project.rules.rules()[at].title.clone()), self.fix(at, device)?),
                None => (Some(rule.to_owned()), None),
            },
            (CauseKind::Silence, _) => {
                let finding = findings.iter().rfind(|it| it.subject == Subject::Silence && it.is_running());
                let open = finding.map_or(0, |finding| finding.leaves_open.len());
                let rules = if open == 1 { "one rule".to_owned() } else { format!("{open} rules") };
                let facts: Vec<&str> =
                    finding.into_iter().flat_map(|it| &it.blames).map(|blame| blame.fact.as_str()).collect();
                let fix = format!("Let the device report again: {}", facts.join(", "));
                (Some(format!("{rules} left without an answer")), Some(fix))
            }
            (CauseKind::Uncovered, _) => (
                Some("no enforced rule covers the device".to_owned()),
                Some("Write a rule that covers it, or widen the scope of one".to_owned()),
            ),
            _ => (None, None),
        };
        Ok(CauseLine { cause: cause.clone(), title, fix })
    }

    /// Returns what to do about a failure of a rule on a device.
    pub(super) fn fix(&self, at: usize, device: &str) -> Result<Option<String>, EngineError> {
        let rule = &self.project.rules.rules()[at];
        if !rule.asks_what_to_say() {
            return Ok(rule.fix.clone());
        }
        let (judge, documents, arena) = (self.assessing_judge(), self.assessed_documents(device)?, Bump::new());
        let judged =
            judge.device(device, &documents, &arena).map_err(|error| damaged(self.project, device, &error.message))?;
        let fix = self.project.rules.fix(at, &judged.input, judge.session(&arena));
        Ok(fix.say.map(str::to_owned))
    }

    /// Says where each device belongs.
    fn add_sites(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        let mut sites: BTreeMap<String, Option<String>> = BTreeMap::new();
        let judge = self.judge();
        let mut arena = Bump::new();
        for entry in report.lists().into_iter().flatten() {
            if !sites.contains_key(&entry.device) {
                arena.reset();
                let documents = self.assessed_documents(&entry.device)?;
                let judged = judge
                    .device(&entry.device, &documents, &arena)
                    .map_err(|error| damaged(self.project, &entry.device, &error.message))?;
                sites.insert(entry.device.clone(), judged.fence.map(str::to_owned));
            }
            entry.site = sites.get(&entry.device).cloned().flatten();
        }
        Ok(())
    }
}

/// Says that an edit of the access rules brought a decision about.
fn edited(decision: &StoredDecision) -> CauseLine {
    let access_rule = decision.access_rules.first().cloned();
    CauseLine { cause: Cause { access_rule, ..Cause::of_kind(CauseKind::RuleChanged) }, title: None, fix: None }
}
