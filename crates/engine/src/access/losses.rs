//! Reads from the ledger who lost, loses and regained access.

use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{AccessChange, Cause, CauseKind, Effect, Finding, Posture, Subject};
use fencepost_store::{DeviceRow, LedgerError, Look, RunRow};
use jiff::Timestamp;

use super::current::{CurrentDecision, CurrentDecisions, KeptDecision};
use super::entries::{DeviceEntries, SharedParts};
use super::report::{AccessEntry, AccessReport, CauseLine, DeniedCount, PersonOrDevice};
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
    /// Everybody who was on a list then, once that is asked.
    listed: OnceCell<HashSet<Box<str>>>,
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
            since: earlier.as_ref().map(|earlier| earlier.run.as_of),
            ..AccessReport::empty(self.at)
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
        let mut silent: BTreeSet<Arc<str>> = BTreeSet::new();
        let shared = SharedParts::default();
        for device in &devices {
            let decisions = self.current_decisions(device)?;
            let before = match &earlier {
                Some(earlier) => self.stored_decisions(device, Some(earlier.run.id))?,
                None => Vec::new(),
            };
            let compared = earlier.as_ref().map(|earlier| (earlier, before.as_slice()));
            let entries = DeviceEntries::new(self, &decisions, &shared);
            self.add_entries(query, &entries, compared, &mut report)?;
            add_denied(query, &entries, &mut denied, &mut report)?;
            let with_terms =
                decisions.now.iter().filter(|(_, held)| held.decision.ruling.open_terms().next().is_some());
            for (key, held) in with_terms.filter(|(key, _)| query.is_asked(key, &device.name)) {
                report.terms_open.push(entries.entry(key, held)?);
            }
            if self.run.is_some() {
                let silently = decisions.losing.iter().filter(|it| it.only_if_silent);
                let asked = silently.filter(|it| query.is_asked(&it.key, &device.name));
                silent.extend(asked.filter_map(|it| it.key.person.as_deref()).map(|person| shared.text(person)));
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

    /// Returns what is told of the decisions about some devices; with the other ways of the people who are denied.
    pub(crate) fn entries_on(
        &self,
        devices: &BTreeSet<&str>,
        is_told: impl Fn(&DecisionKey, &CurrentDecision) -> bool,
    ) -> Result<Vec<AccessEntry>, EngineError> {
        let (mut report, shared) = (AccessReport::empty(self.at), SharedParts::default());
        for name in devices {
            let Some(number) = self.reader.device_number(name)? else { continue };
            let decisions = self.current_decisions(&DeviceRow { number, name: (*name).to_owned(), dirty: false })?;
            let entries = DeviceEntries::new(self, &decisions, &shared);
            for (key, held) in decisions.now.iter().filter(|(key, held)| is_told(key, held)) {
                report.denied.push(entries.entry(key, held)?);
            }
        }
        self.add_other_ways(&mut report)?;
        Ok(report.denied)
    }

    /// Iterates over the losses that happen only if a device stays silent, ordered by device. Their `other` way is not worked out.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every item.
    pub fn silent_losses<'s>(
        &'s self,
        query: &'s AccessQuery,
    ) -> Result<impl Iterator<Item = Result<AccessEntry, EngineError>> + 's, EngineError> {
        let sites = self.sites(None)?;
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
                    own.for_each(|entry| entry.site = sites.get(&*entry.device).cloned());
                }
                Ok(entries)
            });
            match all {
                Ok(entries) => entries.into_iter().map(Ok).collect::<Vec<_>>(),
                Err(error) => vec![Err(error)],
            }
        }))
    }

    /// Returns where devices belong, where that is known: of the wanted ones, or of all.
    fn sites(&self, wanted: Option<&HashSet<Arc<str>>>) -> Result<HashMap<Box<str>, Arc<str>>, EngineError> {
        let (mut sites, known) = (HashMap::new(), SharedParts::default());
        if let Some(fact) = self.project.config.fence_by.as_deref() {
            self.each_label(fact, |label, device| {
                let Some(label) = label else { return };
                if wanted.is_none_or(|wanted| wanted.contains(device)) {
                    sites.insert(Box::from(device), known.text(label.as_str()));
                }
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
        let (of, shared) = (self.current_decisions(device)?, SharedParts::default());
        let own = DeviceEntries::new(self, &of, &shared);
        let silent = of.losing.iter().filter(|it| it.only_if_silent && query.is_asked(&it.key, &of.device));
        for it in silent {
            let held = CurrentDecision { decision: it.decision.clone(), since: it.at };
            entries.push(AccessEntry { only_if_silent: true, ..own.entry(&it.key, &held)? });
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
        match self.unlisted_or_named(who)? {
            Some(person) => Ok(PersonOrDevice::Person(person)),
            None => Err(self.nobody(who, true)?),
        }
    }

    /// Returns the person who is called so, or whose id is on no list and named by a device.
    ///
    /// # Errors
    /// When several people are called so, or the ledger cannot be read.
    pub(crate) fn unlisted_or_named(&self, who: &str) -> Result<Option<String>, EngineError> {
        let wanted = who.to_lowercase();
        let named = self.people.all().filter(|person| person.name().to_lowercase() == wanted);
        let named: Vec<&str> = named.map(|person| person.id.as_str()).collect();
        match named.as_slice() {
            [one] => Ok(Some((*one).to_owned())),
            [] => Ok(self.devices_by_holder()?.contains_key(who).then(|| who.to_owned())),
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
        Ok(Earlier { run, listed: OnceCell::new(), rules })
    }

    /// Returns whether somebody was on a list at the earlier assessment.
    fn was_listed(&self, person: &str, earlier: &Earlier) -> Result<bool, LedgerError> {
        if let Some(listed) = earlier.listed.get() {
            return Ok(listed.contains(person));
        }
        let mut ids = HashSet::new();
        self.reader.each_person(Some(earlier.run.id), |id, _| {
            ids.insert(Box::from(id));
        })?;
        Ok(earlier.listed.get_or_init(|| ids).contains(person))
    }

    /// Adds what is told of a device.
    fn add_entries(
        &self,
        query: &AccessQuery,
        entries: &DeviceEntries<'_, '_>,
        compared: Option<(&Earlier, &[KeptDecision])>,
        report: &mut AccessReport,
    ) -> Result<(), EngineError> {
        let of = entries.of;
        for it in of.losing.iter().filter(|it| !it.only_if_silent && query.is_asked(&it.key, &of.device)) {
            let held = CurrentDecision { decision: it.decision.clone(), since: it.at };
            report.losing.push(entries.entry(&it.key, &held)?);
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
                    report.lost.push(entries.entry(key, &CurrentDecision { decision, since })?);
                }
                continue;
            };
            let Some(change) = held.decision.ruling.change_since(&before.decision.ruling) else { continue };
            if by_earlier_rules.is_none() {
                by_earlier_rules = Some(self.by_earlier_rules(of, earlier)?);
            }
            let then = by_earlier_rules.iter().flatten().find(|(other, _)| other == key).map(|(_, decision)| decision);
            let mut entry = entries.entry(key, held)?;
            match change {
                AccessChange::Lost | AccessChange::Reduced => {
                    if then.is_some_and(|then| held.decision.ruling.change_since(&then.ruling) == Some(change)) {
                        entry.causes =
                            [edited(&held.decision)].into_iter().chain(entry.causes.iter().cloned()).collect();
                    } else if let Some(kind) = self.membership_lost(key, &before.decision, &held.decision, earlier)? {
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
                        false => entries.cause_lines(&before.decision)?,
                    };
                    report.restored.push(entry);
                }
            }
        }
        self.add_moved(query, entries, before, report)
    }

    /// Adds what time alone has changed since the assessment, where the same held at the earlier one as does now.
    fn add_moved(
        &self,
        query: &AccessQuery,
        entries: &DeviceEntries<'_, '_>,
        before: &[KeptDecision],
        report: &mut AccessReport,
    ) -> Result<(), EngineError> {
        let of = entries.of;
        for (key, left) in of.moved.iter().filter(|(key, _)| query.is_asked(key, &of.device)) {
            let Some(held) = of.now.get(key) else { continue };
            let known = before.iter().find(|before| before.key == *key);
            let is_told =
                known.is_some_and(|known| held.decision.ruling.change_since(&known.decision.ruling).is_some());
            let Some(change) = held.decision.ruling.change_since(&left.ruling).filter(|_| !is_told) else { continue };
            let mut entry = entries.entry(key, held)?;
            match change {
                AccessChange::Lost => report.lost.push(entry),
                AccessChange::Reduced => report.reduced.push(entry),
                AccessChange::Restored => {
                    entry.causes = entries.cause_lines(left)?;
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
    ) -> Result<Option<CauseKind>, LedgerError> {
        let Some(person) = key.person.as_deref() else { return Ok(None) };
        let by_default = now.causes.iter().any(|it| matches!(it.kind, CauseKind::Default | CauseKind::Membership));
        if !by_default {
            return Ok(None);
        }
        if self.people.get(person).is_none() && self.was_listed(person, earlier)? {
            return Ok(Some(CauseKind::Left));
        }
        Ok((!before.access_rules.is_empty()).then_some(CauseKind::Membership))
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
        let running: Vec<&Finding> = self.findings_beside(of)?.iter().filter(|finding| finding.is_running()).collect();
        let covered = running.iter().all(|finding| finding.subject != Subject::Uncovered);
        let posture = Posture { running: &running, covered, uncovered: project.config.uncovered_stands };
        Ok(usual_decisions(&judge, &judged, posture, &arena))
    }

    /// Says where each device belongs.
    fn add_sites(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        if report.lists().into_iter().all(|list| list.is_empty()) {
            return Ok(());
        }
        let devices = report.lists().into_iter().flatten().map(|entry| Arc::clone(&entry.device));
        let sites = self.sites(Some(&devices.collect()))?;
        for entry in report.lists().into_iter().flatten() {
            entry.site = sites.get(&*entry.device).cloned();
        }
        Ok(())
    }
}

/// Says that an edit of the access rules brought a decision about.
fn edited(decision: &StoredDecision) -> CauseLine {
    let access_rule = decision.access_rules.first().cloned();
    CauseLine { cause: Cause { access_rule, ..Cause::of_kind(CauseKind::RuleChanged) }, title: None, fix: None }
}

/// Adds the current denials of a device.
fn add_denied(
    query: &AccessQuery,
    entries: &DeviceEntries<'_, '_>,
    denied: &mut DeniedBy,
    report: &mut AccessReport,
) -> Result<(), EngineError> {
    let of = entries.of;
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
            report.denied.push(entries.entry(key, held)?);
        }
    }
    Ok(())
}
