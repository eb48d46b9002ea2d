//! Reads from the ledger who lost, loses and regained access.

use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{AccessChange, Cause, CauseKind, Effect, Finding, Phase, Posture, Subject, Terms};
use fencepost_store::{DeviceRow, LedgerError, Look, RunRow};
use jiff::Timestamp;

use super::current::{CurrentDecision, CurrentDecisions, KeptDecision};
use super::report::{AccessEntry, AccessReport, AccessSummary, CauseLine, Contact, DeniedCount, PersonOrDevice};
use crate::assess::decisions::usual_decisions;
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What is asked about access.
#[derive(Clone, Debug, Default)]
pub struct AccessQuery {
    /// The present is compared with the last assessment at or before this; with the one before the latest, where it is none.
    pub since: Option<Timestamp>,
    /// Which current denials are listed.
    pub denied: DeniedEntries,
    /// Restricts the report to this person or device.
    pub of: Option<PersonOrDevice>,
    /// Restricts the report to these devices.
    pub devices: Option<BTreeSet<String>>,
}

/// Which current denials are listed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DeniedEntries {
    /// It is counted alone.
    #[default]
    Counted,
    /// What an access rule denies.
    ByRule,
    /// Also what is denied since no access rule applies.
    All,
}

impl AccessQuery {
    fn is_asked(&self, key: &DecisionKey, device: &str) -> bool {
        let is_of = match &self.of {
            None => true,
            Some(PersonOrDevice::Person(person)) => key.person.as_ref() == Some(person),
            Some(PersonOrDevice::Device(asked)) => asked == device,
        };
        is_of && self.devices.as_ref().is_none_or(|devices| devices.contains(device))
    }
}

/// People, and devices that nobody holds, who are denied something by a rule.
#[derive(Default)]
struct DeniedBy {
    people: BTreeSet<String>,
    devices_of_nobody: BTreeSet<String>,
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
    pub fn access(&self, query: &AccessQuery) -> Result<AccessReport, EngineError> {
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
            terms_open: Vec::new(),
            denied_now: DeniedCount::default(),
        };
        let mut denied = DeniedBy::default();
        // Coming decisions are stored for the latest assessment only.
        let devices = match self.run {
            None => {
                let since = earlier.as_ref().map(|earlier| earlier.run.id);
                self.reader.devices_with_access_news(since, self.at, query.denied == DeniedEntries::All)?
            }
            Some(_) => self.reader.devices(Look::All)?,
        };
        let mut silent: BTreeSet<String> = BTreeSet::new();
        for device in &devices {
            let decisions = self.current_decisions(device)?;
            let before = match &earlier {
                Some(earlier) => self.stored_decisions(device, Some(earlier.run.id))?,
                None => Vec::new(),
            };
            let compared = earlier.as_ref().map(|earlier| (earlier, before.as_slice()));
            self.add_entries(query, &decisions, compared, &mut report)?;
            self.add_denied(query, &decisions, &mut denied, &mut report)?;
            let with_terms =
                decisions.now.iter().filter(|(_, held)| held.decision.ruling.open_terms().next().is_some());
            for (key, held) in with_terms.filter(|(key, _)| query.is_asked(key, &device.name)) {
                report.terms_open.push(self.entry(&decisions, key, held)?);
            }
            if self.run.is_some() {
                let silently = decisions.losing.into_iter().filter(|it| it.only_if_silent);
                let asked = silently.filter(|it| query.is_asked(&it.key, &device.name));
                silent.extend(asked.filter_map(|it| it.key.person));
            }
        }
        report.denied_now = DeniedCount {
            people: denied.people.len() as u64,
            devices_of_nobody: denied.devices_of_nobody.len() as u64,
        };
        self.add_other_ways(&mut report)?;
        self.add_sites(&mut report)?;
        if self.run.is_none() && query.devices.is_some() {
            for entry in self.silent_losses(query)? {
                silent.extend(entry?.person);
            }
        }
        let only_if_silent = match (self.run, &query.of) {
            _ if query.devices.is_some() => silent.len() as u64,
            (Some(_), _) => silent.len() as u64,
            (None, None) => self.reader.people_who_lose_by_silence(self.at, None, None)?,
            (None, Some(PersonOrDevice::Person(person))) => {
                self.reader.people_who_lose_by_silence(self.at, Some(person), None)?
            }
            (None, Some(PersonOrDevice::Device(device))) => {
                self.reader.people_who_lose_by_silence(self.at, None, Some(device))?
            }
        };
        let order = |entry: &AccessEntry| {
            (entry.moment, entry.device.clone(), entry.person.clone(), entry.service.clone(), entry.client.clone())
        };
        report.losing.sort_by_cached_key(order);
        report.count(only_if_silent);
        Ok(report)
    }

    /// Iterates over the losses that happen only if a device stays silent, ordered by device. Their `other` way is not worked out.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every item.
    pub fn silent_losses<'s>(
        &'s self,
        query: &'s AccessQuery,
    ) -> Result<impl Iterator<Item = Result<AccessEntry, EngineError>> + 's, EngineError> {
        let sites = self.sites()?;
        let mut last = String::new();
        let mut ended = false;
        let batches = std::iter::from_fn(move || {
            let devices = (!ended).then(|| self.reader.devices_after(&last, DEVICES));
            match devices {
                Some(Ok(devices)) => {
                    last.clone_from(&devices.last()?.name);
                    Some(Ok(devices))
                }
                Some(Err(error)) => {
                    ended = true;
                    Some(Err(error.into()))
                }
                None => None,
            }
        });
        Ok(batches.flat_map(move |devices: Result<Vec<DeviceRow>, EngineError>| {
            let all = devices.and_then(|devices| {
                let mut entries = Vec::new();
                for device in &devices {
                    let begun = entries.len();
                    self.add_silent_losses(query, device, &mut entries)?;
                    let own = entries[begun..].iter_mut();
                    own.for_each(|entry| entry.site = sites.get(device.name.as_str()).map(|site| site.to_string()));
                }
                Ok(entries)
            });
            match all {
                Ok(entries) => entries.into_iter().map(Ok).collect::<Vec<_>>(),
                Err(error) => vec![Err(error)],
            }
        }))
    }

    /// Returns where every device belongs, where that is known.
    fn sites(&self) -> Result<HashMap<Box<str>, Rc<str>>, EngineError> {
        let (mut sites, mut known) = (HashMap::new(), BTreeSet::<Rc<str>>::new());
        if let Some(fact) = self.project.config.fence_by.as_deref() {
            self.each_label(fact, |label, device| {
                let Some(label) = label else { return };
                let site = known.get(label.as_str()).cloned().unwrap_or_else(|| Rc::from(label.as_str()));
                known.insert(Rc::clone(&site));
                sites.insert(Box::from(device), site);
            })?;
        }
        Ok(sites)
    }

    fn add_silent_losses(
        &self,
        query: &AccessQuery,
        device: &DeviceRow,
        entries: &mut Vec<AccessEntry>,
    ) -> Result<(), EngineError> {
        let of = self.current_decisions(device)?;
        let silent = of.losing.iter().filter(|it| it.only_if_silent && query.is_asked(&it.key, &of.device));
        for it in silent {
            let held = CurrentDecision { decision: it.decision.clone(), since: it.at };
            entries.push(AccessEntry { only_if_silent: true, ..self.entry(&of, &it.key, &held)? });
        }
        Ok(())
    }

    /// Adds the current denials of a device.
    fn add_denied(
        &self,
        query: &AccessQuery,
        of: &CurrentDecisions,
        denied: &mut DeniedBy,
        report: &mut AccessReport,
    ) -> Result<(), EngineError> {
        let now = of
            .now
            .iter()
            .filter(|(key, held)| held.decision.ruling.effect == Effect::Deny && query.is_asked(key, &of.device));
        for (key, held) in now {
            let by_rule = !held.decision.access_rules.is_empty();
            if by_rule {
                match &key.person {
                    Some(person) => denied.people.insert(person.clone()),
                    None => denied.devices_of_nobody.insert(of.device.clone()),
                };
            }
            let is_listed = match query.denied {
                DeniedEntries::Counted => false,
                DeniedEntries::ByRule => by_rule,
                DeniedEntries::All => true,
            };
            if is_listed {
                report.denied.push(self.entry(of, key, held)?);
            }
        }
        Ok(())
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
            [] if self.devices_by_holder()?.contains_key(who) => Ok(PersonOrDevice::Person(who.to_owned())),
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
        let people = self.ids_of_people(run.id)?;
        let now = self.assessment.as_ref().and_then(|run| run.rule_set.as_deref());
        let digest = run.rule_set.as_deref().filter(|digest| Some(*digest) != now);
        let text = digest.map(|digest| self.reader.rule_set(digest)).transpose()?.flatten();
        let project = text.and_then(|text| Project::from_text(&self.project.root, &text));
        let rules = match project {
            Some(project) => {
                let people = People::load(&self.reader, self.run, &project, self.judged_at())?;
                Some((project, people))
            }
            None => None,
        };
        Ok(Earlier { run, people, rules })
    }

    /// Returns the ids of everybody who was on a list at a run.
    fn ids_of_people(&self, run: i64) -> Result<BTreeSet<String>, LedgerError> {
        let mut ids = BTreeSet::new();
        self.reader.each_person(Some(run), |id, _| {
            ids.insert(id.to_owned());
        })?;
        Ok(ids)
    }

    /// Adds what is told of a device.
    fn add_entries(
        &self,
        query: &AccessQuery,
        of: &CurrentDecisions,
        compared: Option<(&Earlier, &[KeptDecision])>,
        report: &mut AccessReport,
    ) -> Result<(), EngineError> {
        for it in of.losing.iter().filter(|it| !it.only_if_silent && query.is_asked(&it.key, &of.device)) {
            let held = CurrentDecision { decision: it.decision.clone(), since: it.at };
            report.losing.push(self.entry(of, &it.key, &held)?);
        }
        let Some((earlier, before)) = compared else { return Ok(()) };
        let mut by_earlier_rules = None;
        for before in before.iter().filter(|before| query.is_asked(&before.key, &of.device)) {
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
                        entry.causes =
                            [edited(&held.decision)].into_iter().chain(entry.causes.iter().cloned()).collect();
                    } else if let Some(kind) = self.membership_lost(key, &before.decision, &held.decision, earlier) {
                        let access_rule = before.decision.access_rules.first().cloned();
                        let cause = Cause { access_rule, ..Cause::of_kind(kind) };
                        entry.causes = Arc::new([CauseLine { cause, title: None, fix: None }]);
                    }
                    let list = if change == AccessChange::Lost { &mut report.lost } else { &mut report.reduced };
                    list.push(entry);
                }
                AccessChange::Restored => {
                    let was_edited =
                        then.is_some_and(|then| held.decision.ruling.change_since(&then.ruling) == Some(change));
                    entry.causes = match was_edited {
                        true => Arc::new([edited(&before.decision)]),
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
        let judged = judge.device(&of.device, &documents, &arena)?;
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
            contact: match key.person.as_deref() {
                Some(person) => of.shared.contact(person, || self.contact(person)),
                None => Arc::default(),
            },
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
    fn cause_lines(&self, of: &CurrentDecisions, decision: &StoredDecision) -> Result<Arc<[CauseLine]>, EngineError> {
        of.shared.causes(&decision.causes, || self.new_cause_lines(of, decision))
    }

    fn new_cause_lines(&self, of: &CurrentDecisions, decision: &StoredDecision) -> Result<Vec<CauseLine>, EngineError> {
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
            (CauseKind::Terms, _) => {
                let all = self.project.rules.access().terms();
                let terms = all.iter().find(|terms| Some(terms.id.as_str()) == cause.fact.as_deref());
                let accept = |terms: &Terms| format!("Accept the terms: {}, version {}", terms.title, terms.version);
                (terms.map(|terms| terms.title.clone()), terms.map(accept))
            }
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
        let judged = judge.device(device, &documents, &arena)?;
        let fix = self.project.rules.fix(at, &judged.input, judge.session(&arena));
        Ok(fix.say.map(str::to_owned))
    }

    /// Says where each device belongs.
    fn add_sites(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        if report.lists().into_iter().all(|list| list.is_empty()) {
            return Ok(());
        }
        let sites = self.sites()?;
        for entry in report.lists().into_iter().flatten() {
            entry.site = sites.get(entry.device.as_str()).map(|site| site.to_string());
        }
        Ok(())
    }
}

/// Says that an edit of the access rules brought a decision about.
fn edited(decision: &StoredDecision) -> CauseLine {
    let access_rule = decision.access_rules.first().cloned();
    CauseLine { cause: Cause { access_rule, ..Cause::of_kind(CauseKind::RuleChanged) }, title: None, fix: None }
}
