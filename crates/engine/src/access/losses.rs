//! Who loses access: what the stored decisions say since another assessment, what the clock has done since,
//! and what it will do.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{Finding, LossCause, Phase, Ruling, Strictness, Subject, moments_ahead, standing_at};
use fencepost_store::{DeviceRow, RunRow, SpellKind, SpellRow};
use jiff::Timestamp;

use crate::assess::decisions::{StandsAt, usual_decisions};
use crate::error::EngineError;
use crate::facts::judge::{Judge, People};
use crate::ledger_view::batch::{DEVICES, standing_of_spell};
use crate::ledger_view::codec::{self, DecisionKey, StoredDecision};
use crate::ledger_view::damage::{damaged, unreadable};
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// A finding that shuts a door.
#[derive(Clone, Debug, PartialEq)]
pub struct Because {
    /// The rule, or the word for silence.
    pub rule: String,
    /// What it asks for.
    pub title: String,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// What to do.
    pub fix: Option<String>,
}

/// Another device with which a person still gets in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Other {
    /// The device.
    pub device: String,
}

/// One sign-in whose decision is told.
#[derive(Clone, Debug, PartialEq)]
pub struct AccessEntry {
    /// The device.
    pub device: String,
    /// The person; none on a device that nobody holds.
    pub person: Option<String>,
    /// What the person is called.
    pub person_name: Option<String>,
    /// Where the device belongs, by the fact that parts the fence.
    pub place: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub service_title: String,
    /// The kind of client.
    pub client: String,
    /// Since when, or from when on.
    pub moment: Timestamp,
    /// The decision.
    pub decision: Ruling,
    /// The access rule that decides.
    pub access_rule: Option<String>,
    /// What shuts or opens the door.
    pub cause: Option<LossCause>,
    /// The findings behind it.
    pub because: Vec<Because>,
    /// Another device with which the person gets in.
    pub other: Option<Other>,
}

/// Who loses access, and who gets it back.
#[derive(Clone, Debug, PartialEq)]
pub struct AccessReport {
    /// The moment of reading.
    pub as_of: Timestamp,
    /// The assessment that it is compared with.
    pub since: Option<Timestamp>,
    /// Permit became deny.
    pub lost: Vec<AccessEntry>,
    /// Permit became permit with obligations.
    pub reduced: Vec<AccessEntry>,
    /// The door opened, or opened wider.
    pub restored: Vec<AccessEntry>,
    /// What the clock will take away if nothing else changes.
    pub losing: Vec<AccessEntry>,
    /// Everything an access rule denies now.
    pub denied: Vec<AccessEntry>,
    /// Of how many devices time may have changed the verdicts since the assessment.
    pub past_valid_until: u64,
}

impl AccessReport {
    /// Returns all its lists.
    fn lists(&mut self) -> [&mut Vec<AccessEntry>; 5] {
        [&mut self.lost, &mut self.reduced, &mut self.restored, &mut self.losing, &mut self.denied]
    }
}

/// A decision as it holds now.
struct CurrentDecision {
    decision: StoredDecision,
    since: Timestamp,
    /// The clock has made it since the assessment.
    by_clock: bool,
}

/// The decisions about the sign-ins with a device.
#[derive(Default)]
struct DeviceDecisions {
    device: String,
    /// Its findings that run.
    findings: Vec<Finding>,
    /// Those of the assessment that is compared with.
    before: BTreeMap<DecisionKey, StoredDecision>,
    now: BTreeMap<DecisionKey, CurrentDecision>,
    /// Those that the clock will make, each with its moment.
    losing: Vec<(DecisionKey, Timestamp, StoredDecision)>,
}

impl Reading<'_> {
    /// Compares the decisions now with those of an earlier assessment: the last at or before `since`, or the one
    /// before the latest.
    ///
    /// # Errors
    /// When the ledger cannot be read, nothing was assessed, or nothing so early.
    pub fn access(&self, since: Option<Timestamp>) -> Result<AccessReport, EngineError> {
        let Some(assessment) = &self.assessment else {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        };
        let base = self.base(assessment, since)?;
        let mut report = AccessReport {
            past_valid_until: self.past_valid_until()?,
            as_of: self.at,
            since: base.as_ref().map(|run| run.as_of),
            lost: Vec::new(),
            reduced: Vec::new(),
            restored: Vec::new(),
            losing: Vec::new(),
            denied: Vec::new(),
        };
        let mut shut_by_clock = BTreeSet::new();
        let mut last = String::new();
        loop {
            let devices = self.reader.devices_after(&last, DEVICES)?;
            let Some(end) = devices.last() else { break };
            last.clone_from(&end.name);
            for device in &devices {
                let decisions = self.decisions_of(device, base.as_ref())?;
                self.add_entries(&decisions, &mut report)?;
                let shut = decisions
                    .now
                    .into_iter()
                    .filter(|(_, held)| held.by_clock && held.decision.strictness() == Strictness::Denied);
                shut_by_clock.extend(shut.map(|(key, _)| (device.name.clone(), key)));
            }
        }
        self.add_other_devices(&mut report, &shut_by_clock)?;
        self.blame_edits(&mut report, base.as_ref())?;
        self.place_all(&mut report)?;
        report.losing.sort_by(|a, b| {
            (a.moment, &a.device, &a.person, &a.service, &a.client)
                .cmp(&(b.moment, &b.device, &b.person, &b.service, &b.client))
        });
        Ok(report)
    }

    /// Returns the decisions about the sign-ins with a device: before, now, and as the clock will make them.
    fn decisions_of(&self, device: &DeviceRow, base: Option<&RunRow>) -> Result<DeviceDecisions, EngineError> {
        let mut out = DeviceDecisions { device: device.name.clone(), ..DeviceDecisions::default() };
        for row in self.reader.findings_of(device, self.run)? {
            out.findings.push(codec::finding(&row).ok_or_else(|| unreadable(self.project, &row.device, "a finding"))?);
        }
        if let Some(base) = base {
            let before = self.stored_decisions(device, Some(base.id))?;
            out.before = before.into_iter().map(|(key, _, decision)| (key, decision)).collect();
        }
        for (key, row, decision) in self.stored_decisions(device, self.run)? {
            let since = self.began(&row, &decision, &out.findings)?;
            out.now.insert(key, CurrentDecision { decision, since, by_clock: false });
        }
        self.move_by_clock(device, &mut out)?;
        Ok(out)
    }

    fn stored_decisions(
        &self,
        device: &DeviceRow,
        run: Option<i64>,
    ) -> Result<Vec<(DecisionKey, SpellRow, StoredDecision)>, EngineError> {
        let read = |row: SpellRow| {
            let unreadable = || unreadable(self.project, &row.device, "a decision");
            let decision = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?;
            Ok((DecisionKey::read(&row.subject).ok_or_else(unreadable)?, row, decision))
        };
        self.reader.spells_of(SpellKind::Decision, device, run)?.into_iter().map(read).collect()
    }

    /// Adds what is told of a device.
    fn add_entries(&self, of: &DeviceDecisions, report: &mut AccessReport) -> Result<(), EngineError> {
        for (key, held) in &of.now {
            let strictness = held.decision.strictness();
            let entry = || self.entry(of, (key, &held.decision), held.since, self.at);
            if strictness == Strictness::Denied && held.decision.access_rule.is_some() {
                report.denied.push(entry()?);
            }
            let Some(earlier) = of.before.get(key) else { continue };
            match strictness.cmp(&earlier.strictness()) {
                Ordering::Greater if strictness == Strictness::Denied => report.lost.push(entry()?),
                Ordering::Greater => report.reduced.push(entry()?),
                Ordering::Less => report.restored.push(AccessEntry { cause: earlier.cause, ..entry()? }),
                Ordering::Equal => {}
            }
        }
        for (key, moment, decision) in &of.losing {
            report.losing.push(self.entry(of, (key, decision), *moment, *moment)?);
        }
        Ok(())
    }

    /// Says with which other device each person still gets in. `shut` are the sign-ins that the clock alone has shut.
    fn add_other_devices(
        &self,
        report: &mut AccessReport,
        shut: &BTreeSet<(String, DecisionKey)>,
    ) -> Result<(), EngineError> {
        let mut doors: BTreeMap<(String, String), Vec<String>> = BTreeMap::new();
        for entry in report.lists().into_iter().flatten() {
            if let Some(person) = &entry.person {
                doors.entry((person.clone(), entry.service.clone())).or_default();
            }
        }
        if doors.is_empty() {
            return Ok(());
        }
        self.reader.each_spell(SpellKind::Decision, self.run, |row| {
            let unreadable = || unreadable(self.project, &row.device, "a decision");
            let key = DecisionKey::read(&row.subject).ok_or_else(unreadable)?;
            let DecisionKey { person: Some(person), service, .. } = &key else { return Ok(()) };
            let Some(devices) = doors.get_mut(&(person.clone(), service.clone())) else { return Ok(()) };
            let decision = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?;
            // Of any two devices one is another than the one in question.
            let is_wanted =
                devices.len() < 2 && devices.last() != Some(&row.device) && decision.strictness() < Strictness::Denied;
            if is_wanted && !shut.contains(&(row.device.clone(), key)) {
                devices.push(row.device);
            }
            Ok::<_, EngineError>(())
        })?;
        for entry in report.lists().into_iter().flatten() {
            let Some(person) = entry.person.clone() else { continue };
            let devices = doors.get(&(person, entry.service.clone())).into_iter().flatten();
            entry.other = devices
                .into_iter()
                .find(|other| **other != entry.device)
                .map(|device| Other { device: device.clone() });
        }
        Ok(())
    }

    fn base(&self, assessment: &RunRow, since: Option<Timestamp>) -> Result<Option<RunRow>, EngineError> {
        match since {
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

    /// Since when a decision holds: the moment its clock ran out, where that lies between the assessment that
    /// first saw it and the one before; else the assessment's.
    fn began(&self, row: &SpellRow, decision: &StoredDecision, findings: &[Finding]) -> Result<Timestamp, EngineError> {
        let Some(run) = self.reader.run(row.from_run)? else { return Ok(self.judged_at()) };
        let before = self.reader.assessments(Some(run.as_of), 2)?.into_iter().find(|other| other.id < run.id);
        let ran_out = match decision.cause {
            Some(LossCause::Finding) => first_overdue(findings, run.as_of, false),
            Some(LossCause::Silence) => first_overdue(findings, run.as_of, true),
            Some(LossCause::Uncovered | LossCause::Membership | LossCause::Condition | LossCause::RuleChanged)
            | None => None,
        };
        Ok(match (ran_out, before) {
            (Some(due), Some(before)) if due > before.as_of => due,
            _ => run.as_of,
        })
    }

    /// Adds what the clock has made stricter since the assessment, and what it will make stricter still.
    fn move_by_clock(&self, device: &DeviceRow, of: &mut DeviceDecisions) -> Result<(), EngineError> {
        let moments = moments_ahead(&of.findings, self.judged_at());
        if moments.is_empty() {
            return Ok(());
        }
        let Some(spell) = self.reader.spells_of(SpellKind::Standing, device, self.run)?.pop() else {
            return Ok(());
        };
        let (_, covered) = standing_of_spell(self.project, &spell)?;
        let (judge, documents, arena) = (self.assessing_judge(), self.assessed_documents(&of.device)?, Bump::new());
        let judged = judge
            .device(&of.device, &documents, &arena)
            .map_err(|error| damaged(self.project, &of.device, &error.message))?;
        let stored: BTreeMap<DecisionKey, Strictness> =
            of.now.iter().map(|(key, held)| (key.clone(), held.decision.strictness())).collect();
        let mut strictest: BTreeMap<DecisionKey, Strictness> = BTreeMap::new();
        for moment in moments {
            let standing = standing_at(&of.findings, covered, self.project.config.uncovered_stands, moment);
            for (key, decision) in
                usual_decisions(&judge, &judged, StandsAt { standing, findings: &of.findings, at: moment }, &arena)
            {
                let known = strictest.get(&key).or(stored.get(&key)).copied().unwrap_or(Strictness::Permitted);
                if decision.strictness() <= known {
                    continue;
                }
                strictest.insert(key.clone(), decision.strictness());
                if moment <= self.at {
                    of.now.insert(key, CurrentDecision { decision, since: moment, by_clock: true });
                } else {
                    of.losing.push((key, moment, decision));
                }
            }
        }
        Ok(())
    }

    /// Returns what is told of a sign-in with a device, whose decision holds from `moment` on; `at` is when its findings are
    /// looked at.
    fn entry(
        &self,
        of: &DeviceDecisions,
        (key, decision): (&DecisionKey, &StoredDecision),
        moment: Timestamp,
        at: Timestamp,
    ) -> Result<AccessEntry, EngineError> {
        let access = self.project.rules.access();
        let title = access
            .services()
            .iter()
            .find(|service| service.id.as_str() == key.service)
            .map_or(&key.service, |service| &service.title);
        let because = match decision.cause {
            Some(LossCause::Finding | LossCause::Silence) => of
                .findings
                .iter()
                .filter(|finding| matches!(finding.phase(at), Phase::Overdue { .. }))
                .filter(|finding| (finding.subject == Subject::Silence) == (decision.cause == Some(LossCause::Silence)))
                .map(|finding| self.because(finding))
                .collect::<Result<_, _>>()?,
            Some(LossCause::Uncovered | LossCause::Membership | LossCause::Condition | LossCause::RuleChanged)
            | None => Vec::new(),
        };
        Ok(AccessEntry {
            device: of.device.clone(),
            person: key.person.clone(),
            person_name: key
                .person
                .as_deref()
                .and_then(|id| self.people.get(id))
                .map(|person| person.name().to_owned()),
            place: None,
            service: key.service.clone(),
            service_title: title.clone(),
            client: key.client.clone(),
            moment,
            decision: decision.ruling.clone(),
            access_rule: decision.access_rule.clone(),
            cause: decision.cause,
            because,
            other: None,
        })
    }

    fn because(&self, finding: &Finding) -> Result<Because, EngineError> {
        let at = self.project.rules.position(finding.subject.as_str());
        let (title, fix) = match (&finding.subject, at) {
            (Subject::Silence, _) => {
                let facts: Vec<&str> = finding.blames.iter().map(|blame| blame.fact.as_str()).collect();
                (
                    format!(
                        "{} left without an answer",
                        if finding.leaves_open.len() == 1 {
                            "one rule".to_owned()
                        } else {
                            format!("{} rules", finding.leaves_open.len())
                        }
                    ),
                    Some(format!("Let the device report again: {}", facts.join(", "))),
                )
            }
            (Subject::Uncovered, _) => (
                "no enforced rule covers the device".to_owned(),
                Some("Write a rule that covers it, or widen the scope of one".to_owned()),
            ),
            (Subject::Rule(_), Some(at)) => {
                let rule = &self.project.rules.rules()[at];
                (rule.title.clone(), self.fix(at, finding.device.as_str())?)
            }
            (Subject::Rule(id), None) => (id.to_string(), None),
        };
        let rule = finding.subject.as_str().to_owned();
        Ok(Because { rule, title, opened: finding.clock.opened, due: finding.clock.due, fix })
    }

    /// Returns what to do about a failure of a rule on a device.
    fn fix(&self, at: usize, device: &str) -> Result<Option<String>, EngineError> {
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

    /// Where the rules of the earlier assessment would still open a door that is shut now, the edit of the rules shut it.
    fn blame_edits(&self, report: &mut AccessReport, base: Option<&RunRow>) -> Result<(), EngineError> {
        let now = self.assessment.as_ref().and_then(|run| run.rule_set.as_deref());
        let Some(digest) = base.and_then(|run| run.rule_set.as_deref()).filter(|digest| Some(*digest) != now) else {
            return Ok(());
        };
        let Some(earlier) =
            self.reader.rule_set(digest)?.and_then(|text| Project::from_text(&self.project.root, &text))
        else {
            return Ok(());
        };
        let people = People::load(&self.reader.people(self.run)?, &earlier, self.judged_at());
        let judge = Judge::new(&earlier, &people, self.judged_at());
        let standings = self.standings()?;
        let mut arena = Bump::new();
        for entry in report.lost.iter_mut().chain(&mut report.reduced) {
            let by_itself = matches!(entry.cause, Some(LossCause::Finding | LossCause::Silence) | None);
            let Some((standing, _)) = standings.get(&entry.device).filter(|_| !by_itself) else { continue };
            arena.reset();
            let documents = self.assessed_documents(&entry.device)?;
            let judged = judge
                .device(&entry.device, &documents, &arena)
                .map_err(|error| damaged(self.project, &entry.device, &error.message))?;
            let decisions = usual_decisions(
                &judge,
                &judged,
                StandsAt { standing: *standing, findings: &[], at: self.judged_at() },
                &arena,
            );
            let strictness = entry.decision.strictness();
            let same = |key: &DecisionKey| {
                key.person == entry.person && key.service == entry.service && key.client == entry.client
            };
            if decisions.iter().any(|(key, decision)| same(key) && decision.strictness() < strictness) {
                entry.cause = Some(LossCause::RuleChanged);
            }
        }
        Ok(())
    }

    /// Says where each device belongs.
    fn place_all(&self, report: &mut AccessReport) -> Result<(), EngineError> {
        let mut places: BTreeMap<String, Option<String>> = BTreeMap::new();
        let judge = self.judge();
        let mut arena = Bump::new();
        for entry in report.lists().into_iter().flatten() {
            if !places.contains_key(&entry.device) {
                arena.reset();
                let documents = self.assessed_documents(&entry.device)?;
                let judged = judge
                    .device(&entry.device, &documents, &arena)
                    .map_err(|error| damaged(self.project, &entry.device, &error.message))?;
                places.insert(entry.device.clone(), judged.fence.map(str::to_owned));
            }
            entry.place = places.get(&entry.device).cloned().flatten();
        }
        Ok(())
    }
}

/// When the first finding of a device ran out, at or before `at`.
fn first_overdue(findings: &[Finding], at: Timestamp, silence: bool) -> Option<Timestamp> {
    findings
        .iter()
        .filter(|finding| (finding.subject == Subject::Silence) == silence)
        .filter_map(|finding| match finding.phase(at) {
            Phase::Overdue { since } => Some(since),
            Phase::Open { .. } | Phase::Closed { .. } => None,
        })
        .min()
}
