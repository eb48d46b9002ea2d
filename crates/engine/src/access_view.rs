//! Who loses access: what the stored decisions say since another assessment, what the clock has done since,
//! and what it will do.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{Finding, LossCause, Phase, Subject, moments_ahead, standing_at};
use fencepost_store::{RunRow, SpellKind, SpellRow};
use jiff::Timestamp;

use crate::codec::{DecisionKey, StoredDecision};
use crate::decisions::usual_decisions;
use crate::error::EngineError;
use crate::judge::{Judge, People};
use crate::project::Project;
use crate::reading::{Reading, damaged, unreadable};

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
    /// The decision in words.
    pub decision: String,
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
}

type Key = (String, DecisionKey);

/// A decision as it holds now, with where it came from.
struct Held {
    decision: StoredDecision,
    since: Timestamp,
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
        let before = match &base {
            Some(base) => self.decisions_at(Some(base.id))?,
            None => BTreeMap::new(),
        };
        let findings = self.findings(None, false)?;
        let mut now: BTreeMap<Key, Held> = BTreeMap::new();
        let spells = self.spell_rows(self.run)?;
        for (key, (row, decision)) in spells {
            let since = self.began(&row, &decision, findings.get(&key.0))?;
            now.insert(key, Held { decision, since });
        }
        let (stricter, losing) = self.moved_by_clock(&findings, &now)?;
        for (key, held) in stricter {
            now.insert(key, held);
        }
        let doors = open_doors(&now);
        let none = Vec::new();
        let entry = |(device, key): &Key, moment: Timestamp, decision: &StoredDecision, at: Timestamp| {
            let own = findings.get(device).unwrap_or(&none);
            self.entry(device, key, moment, decision, own, at, &doors)
        };
        let mut report = AccessReport {
            as_of: self.at,
            since: base.as_ref().map(|run| run.as_of),
            lost: Vec::new(),
            reduced: Vec::new(),
            restored: Vec::new(),
            losing: Vec::new(),
            denied: Vec::new(),
        };
        for (key, held) in &now {
            let strictness = held.decision.strictness;
            if strictness == 2 && held.decision.access_rule.is_some() {
                report.denied.push(entry(key, held.since, &held.decision, self.at)?);
            }
            let Some(earlier) = before.get(key) else { continue };
            if strictness > earlier.strictness {
                let into = if strictness == 2 { &mut report.lost } else { &mut report.reduced };
                into.push(entry(key, held.since, &held.decision, self.at)?);
            } else if strictness < earlier.strictness {
                let mut restored = entry(key, held.since, &held.decision, self.at)?;
                restored.cause = earlier.cause;
                report.restored.push(restored);
            }
        }
        for (key, moment, decision) in &losing {
            report.losing.push(entry(key, *moment, decision, *moment)?);
        }
        self.blame_edits(&mut report, base.as_ref())?;
        self.place_all(&mut report)?;
        report.losing.sort_by(|a, b| {
            (a.moment, &a.device, &a.person, &a.service, &a.client)
                .cmp(&(b.moment, &b.device, &b.person, &b.service, &b.client))
        });
        Ok(report)
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

    fn spell_rows(&self, run: Option<i64>) -> Result<BTreeMap<Key, (SpellRow, StoredDecision)>, EngineError> {
        let spells = self.reader.spells(SpellKind::Decision, None, run)?;
        spells
            .into_iter()
            .map(|row| {
                let unreadable = || unreadable(self.project, &row.device, "a decision");
                let decision = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?;
                let key = DecisionKey::read(&row.subject).ok_or_else(unreadable)?;
                Ok(((row.device.clone(), key), (row, decision)))
            })
            .collect()
    }

    fn decisions_at(&self, run: Option<i64>) -> Result<BTreeMap<Key, StoredDecision>, EngineError> {
        Ok(self.spell_rows(run)?.into_iter().map(|(key, (_, decision))| (key, decision)).collect())
    }

    /// Since when a decision holds: the moment its clock ran out, where that lies between the assessment that
    /// first saw it and the one before; else the assessment's.
    fn began(
        &self,
        row: &SpellRow,
        decision: &StoredDecision,
        findings: Option<&Vec<Finding>>,
    ) -> Result<Timestamp, EngineError> {
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

    /// What the clock has made stricter since the assessment, and what it will make stricter still.
    #[expect(clippy::type_complexity, reason = "two lists of one shape that are used once")]
    fn moved_by_clock(
        &self,
        findings: &BTreeMap<String, Vec<Finding>>,
        now: &BTreeMap<Key, Held>,
    ) -> Result<(Vec<(Key, Held)>, Vec<(Key, Timestamp, StoredDecision)>), EngineError> {
        let judge = self.judge();
        let uncovered = self.project.config.uncovered;
        let standings = self.standings()?;
        let (mut stricter, mut losing) = (Vec::new(), Vec::new());
        let mut arena = Bump::new();
        for (device, own) in findings {
            let moments = moments_ahead(own, self.judged_at());
            let Some((_, covered)) = standings.get(device).filter(|_| !moments.is_empty()) else { continue };
            arena.reset();
            let documents = self.documents(device)?;
            let judged = judge
                .device(device, &documents, &arena)
                .map_err(|error| damaged(self.project, device, &error.message))?;
            let mut strictest: BTreeMap<DecisionKey, u8> = BTreeMap::new();
            for moment in moments {
                let standing = standing_at(own, *covered, uncovered, moment);
                for (key, decision) in usual_decisions(&judge, &judged, standing, own, moment, &arena) {
                    let full = (device.clone(), key.clone());
                    let stored = now.get(&full).map_or(0, |held| held.decision.strictness);
                    let known = strictest.get(&key).copied().unwrap_or(stored);
                    if decision.strictness > known {
                        strictest.insert(key, decision.strictness);
                        if moment <= self.at {
                            stricter.push((full, Held { decision, since: moment }));
                        } else {
                            losing.push((full, moment, decision));
                        }
                    }
                }
            }
        }
        Ok((stricter, losing))
    }

    #[expect(clippy::too_many_arguments, reason = "an entry is told of one decision from all sides")]
    fn entry(
        &self,
        device: &str,
        key: &DecisionKey,
        moment: Timestamp,
        decision: &StoredDecision,
        findings: &[Finding],
        at: Timestamp,
        doors: &Doors<'_>,
    ) -> Result<AccessEntry, EngineError> {
        let access = self.project.rules.access();
        let title = access
            .services()
            .iter()
            .find(|service| service.id.as_str() == key.service)
            .map_or(&key.service, |service| &service.title);
        let because = match decision.cause {
            Some(LossCause::Finding | LossCause::Silence) => findings
                .iter()
                .filter(|finding| matches!(finding.phase(at), Phase::Overdue { .. }))
                .filter(|finding| (finding.subject == Subject::Silence) == (decision.cause == Some(LossCause::Silence)))
                .map(|finding| self.because(finding))
                .collect::<Result<_, _>>()?,
            Some(LossCause::Uncovered | LossCause::Membership | LossCause::Condition | LossCause::RuleChanged)
            | None => Vec::new(),
        };
        let other = key.person.as_deref().and_then(|person| {
            let devices = doors.get(&(person, key.service.as_str()))?;
            devices.iter().find(|other| **other != device).map(|other| Other { device: (*other).to_owned() })
        });
        Ok(AccessEntry {
            device: device.to_owned(),
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
            decision: decision.words.clone(),
            access_rule: decision.access_rule.clone(),
            cause: decision.cause,
            because,
            other,
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
            (Subject::Rule(_), Some(at)) => {
                let rule = &self.project.rules.rules()[at];
                (rule.title.clone(), self.fix(at, finding.device.as_str())?)
            }
            (Subject::Rule(id), None) => (id.to_string(), None),
        };
        let rule = finding.subject.as_str().to_owned();
        Ok(Because { rule, title, opened: finding.opened, due: finding.due, fix })
    }

    /// Returns what to do about a failure of a rule on a device.
    fn fix(&self, at: usize, device: &str) -> Result<Option<String>, EngineError> {
        let rule = &self.project.rules.rules()[at];
        if !rule.asks_what_to_say() {
            return Ok(rule.fix.clone());
        }
        let (judge, documents, arena) = (self.judge(), self.documents(device)?, Bump::new());
        let judged =
            judge.device(device, &documents, &arena).map_err(|error| damaged(self.project, device, &error.message))?;
        let fix = self.project.rules.fix(at, &judged.input, judge.at, &self.project.config.zone, &arena);
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
            let documents = self.documents(&entry.device)?;
            let judged = judge
                .device(&entry.device, &documents, &arena)
                .map_err(|error| damaged(self.project, &entry.device, &error.message))?;
            let decisions = usual_decisions(&judge, &judged, *standing, &[], self.judged_at(), &arena);
            let strictness = if entry.decision == "deny" { 2 } else { 1 };
            let same = |key: &DecisionKey| {
                key.person == entry.person && key.service == entry.service && key.client == entry.client
            };
            if decisions.iter().any(|(key, decision)| same(key) && decision.strictness < strictness) {
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
        let lists =
            [&mut report.lost, &mut report.reduced, &mut report.restored, &mut report.losing, &mut report.denied];
        for entry in lists.into_iter().flatten() {
            if !places.contains_key(&entry.device) {
                arena.reset();
                let documents = self.documents(&entry.device)?;
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

/// With which devices a person reaches a service.
type Doors<'n> = BTreeMap<(&'n str, &'n str), Vec<&'n str>>;

fn open_doors(now: &BTreeMap<Key, Held>) -> Doors<'_> {
    let mut doors = Doors::new();
    for ((device, key), held) in now {
        if let (Some(person), true) = (&key.person, held.decision.strictness < 2) {
            doors.entry((person, &key.service)).or_default().push(device);
        }
    }
    doors
}

/// When the first finding of a device ran out, at or before `at`.
fn first_overdue(findings: Option<&Vec<Finding>>, at: Timestamp, silence: bool) -> Option<Timestamp> {
    findings?
        .iter()
        .filter(|finding| (finding.subject == Subject::Silence) == silence && finding.due <= at)
        .map(|finding| finding.due)
        .min()
}
