//! One device in full: facts with their sources, verdicts with their proof, findings, and what it may reach.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    Declaration, Evidence, Exception, Finding, Origin, Phase, Reason, Rule, Stage, Standing, Unknown, Value,
    VerdictOutcome, moments_ahead, standing_at,
};
use fencepost_formats::stored_json;
use fencepost_store::SpellKind;
use jiff::Timestamp;

use crate::assess::decisions::usual_decisions;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::surroundings;
use crate::ledger_view::damage::damaged;
use crate::ledger_view::outcome::UNCOVERED;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::leaves;

/// What another source says of a fact.
#[derive(Clone, Debug, PartialEq)]
pub struct Said {
    /// The source.
    pub source: String,
    /// When it was collected.
    pub collected: Option<Timestamp>,
    /// The value, as shown.
    pub value: String,
}

/// A fact of the device.
#[derive(Clone, Debug, PartialEq)]
pub struct FactLine {
    /// Its path.
    pub path: String,
    /// Its value, as shown.
    pub value: String,
    /// What the dictionary calls this value.
    pub label: Option<String>,
    /// The unit the dictionary declares.
    pub unit: Option<String>,
    /// The source that won.
    pub source: Option<String>,
    /// When it was collected.
    pub collected: Option<Timestamp>,
    /// It is older than its source promises.
    pub stale: bool,
    /// It is not of its declared type.
    pub wrong_type: bool,
    /// Who corrected it, why, and until when.
    pub corrected: Option<(String, String, Timestamp)>,
    /// What the sources say that lost.
    pub losers: Vec<Said>,
}

/// A person who uses the device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HolderLine {
    /// The id.
    pub id: String,
    /// What the people list calls the person; none when it does not know the id.
    pub name: Option<String>,
    /// The person's unit.
    pub unit: Option<String>,
}

/// What a service costs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cost {
    /// The person.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub title: String,
    /// The kind of client.
    pub client: String,
    /// The decision, in words.
    pub decision: String,
    /// From when on, or since when.
    pub moment: Timestamp,
}

/// What the device may reach.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReachLine {
    /// The person.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub title: String,
    /// The kind of client.
    pub client: String,
    /// The decision, in words.
    pub decision: String,
    /// 0 permit, 1 with obligations, 2 deny.
    pub strictness: u8,
    /// The access rule that decides; none when the default does.
    pub access_rule: Option<String>,
    /// When the clock will make it stricter, and to what.
    pub later: Option<(Timestamp, String)>,
}

/// A rule on the device, with its proof.
#[derive(Clone, Debug)]
pub struct VerdictLine {
    /// The rule.
    pub rule: Rule,
    /// What it says.
    pub outcome: VerdictOutcome,
    /// The proof.
    pub evidence: Evidence,
    /// How far the rule was in force at the assessment.
    pub stage: Stage,
    /// What to do about a failure.
    pub fix: Option<String>,
    /// It fails, and what was asked for is on its way.
    pub awaiting: bool,
    /// It does not apply because the device is excepted.
    pub excepted: bool,
    /// The exception.
    pub exception: Option<Exception>,
    /// Facts that say whether the rule covers the device and are older than promised: their last known values counted.
    pub scope_last_known: Vec<String>,
    /// The latest finding of the rule on the device.
    pub finding: Option<Finding>,
}

/// All that is known of a device.
#[derive(Clone, Debug)]
pub struct DeviceReport {
    /// Its id.
    pub device: String,
    /// How it stands at the moment of reading; none before the first assessment.
    pub standing: Option<Standing>,
    /// Whether any enforced rule covers it.
    pub covered: bool,
    /// The newest moment of collection of any source.
    pub collected: Option<Timestamp>,
    /// When it was retired, and why.
    pub retired: Option<(Timestamp, String)>,
    /// What it was called before.
    pub former_names: Vec<String>,
    /// Sources that no longer list it, and since when.
    pub absent: Vec<(String, Timestamp)>,
    /// Who uses it.
    pub holders: Vec<HolderLine>,
    /// The groups it belongs to.
    pub groups: Vec<String>,
    /// Those among them, and its holders, that are told by facts older than promised; with these facts.
    pub last_known: Vec<(String, Vec<String>)>,
    /// Every fact.
    pub facts: Vec<FactLine>,
    /// Every rule on trial or enforced.
    pub verdicts: Vec<VerdictLine>,
    /// Its findings, those that closed among them.
    pub findings: Vec<Finding>,
    /// What its people may reach with it.
    pub reach: Vec<ReachLine>,
    /// What it costs now, or will cost, in access.
    pub costs: Vec<Cost>,
}

impl Reading<'_> {
    /// Returns all that is known of a device.
    ///
    /// # Errors
    /// When the ledger cannot be read, or does not know the device.
    pub fn device(&self, device: &str) -> Result<DeviceReport, EngineError> {
        let name = self.device_name(device)?;
        let device = name.as_str();
        let retired = self.project.lifecycles.last_retirement(device, self.judged_at());
        let mut documents = self.documents(device)?;
        let retired = retired.filter(|_| documents.is_empty());
        if retired.is_some() {
            // What was last said of it, in the life that is over.
            let stored = self.reader.observations_of(device, self.run)?;
            documents = stored.into_iter().map(|said| Document::of(device, said)).collect();
        }
        let judge = self.judge();
        let arena = Bump::new();
        let broken = |error: fencepost_core::ReadError| damaged(self.project, device, &error.message);
        let rules = &self.project.rules;
        // Facts that rules read come first in the layout, so that one reading serves both.
        let mut layout = rules.layout().clone();
        let mut paths = BTreeSet::new();
        for said in &documents {
            if let Some(json) = stored_json(&said.json) {
                let mut found = BTreeMap::new();
                leaves(&json, &mut found);
                paths.extend(found.into_iter().filter(|(_, leaf)| !leaf.in_list).map(|(path, _)| path));
            }
        }
        paths.extend(
            self.project.corrections.iter().filter(|one| one.device.as_str() == device).map(|one| one.fact.clone()),
        );
        let slots: Vec<_> = paths.iter().map(|path| layout.want(path, &self.project.dictionary)).collect();
        let facts = judge.facts(device, &documents, &layout, &arena).map_err(broken)?;
        let judged = judge.judged(device, facts, &arena);
        let lines = paths
            .iter()
            .zip(&slots)
            .filter(|(path, _)| !matches!(path.as_str(), "device" | "collected_at"))
            .map(|(path, slot)| self.fact_line(path, *slot, facts))
            .collect();

        let findings: Vec<Finding> = self.findings(Some(device), true)?.remove(device).unwrap_or_default();
        let spell = self.reader.spells(SpellKind::Standing, Some(device), self.run)?.pop();
        let covered = spell.as_ref().is_some_and(|spell| spell.detail != UNCOVERED);
        let standing_then = |at| standing_at(&findings, covered, self.project.config.uncovered, at);
        let standing = spell.as_ref().map(|_| standing_then(self.at));

        let verdicts = judge
            .verdicts(&judged.input, &arena)
            .all
            .iter()
            .map(|verdict| {
                let rule = rules.rules()[verdict.rule].clone();
                let (outcome, evidence) = (verdict.outcome, judge.prove(verdict, &judged.input, &arena));
                let finding = findings.iter().rfind(|finding| finding.subject.as_str() == rule.id.as_str()).cloned();
                let scope_last_known =
                    rules.last_known_of_scope(verdict.rule, facts).into_iter().map(str::to_owned).collect();
                let at = self.judged_at();
                let zone = &self.project.config.zone;
                let fix = rules.fix(verdict.rule, &judged.input, at, zone, &arena);
                let exception = rules.exception(verdict.rule, &judged.input, at, zone, &arena);
                VerdictLine {
                    stage: rule.stage(at),
                    fix: fix.say.filter(|_| outcome == VerdictOutcome::Fail).map(str::to_owned),
                    awaiting: verdict.awaiting,
                    excepted: verdict.excepted,
                    exception: exception.filter(|_| verdict.excepted).cloned(),
                    rule,
                    outcome,
                    evidence,
                    scope_last_known,
                    finding,
                }
            })
            .collect();

        let zone = &self.project.config.zone;
        let ambient = surroundings(standing, &findings, &arena);
        let memberships = rules.memberships_of_device(&judged.input, ambient, judge.at, zone, &arena);
        let (mut groups, mut last_known) = (Vec::new(), Vec::new());
        let member = rules.groups().zip(memberships).enumerate();
        for (at, ((id, ..), _)) in member.filter(|(_, (_, value))| matches!(value, Value::Boolean(true))) {
            if id.as_str() == "every-device" {
                continue;
            }
            groups.push(id.to_string());
            let told_by = rules.last_known_of_group(at, facts);
            if !told_by.is_empty() {
                last_known.push((id.to_string(), told_by.into_iter().map(str::to_owned).collect()));
            }
        }
        let holder = self.project.config.holder.as_deref();
        if let Some((path, slot)) = holder.and_then(|holder| paths.iter().zip(&slots).find(|(path, _)| *path == holder))
            && facts.slot(*slot).stale
        {
            last_known.insert(0, ("holder".to_owned(), vec![path.clone()]));
        }
        let holders = judged
            .input
            .holders
            .iter()
            .map(|holder| HolderLine {
                id: holder.id.to_owned(),
                name: holder.person.map(|person| person.name().to_owned()),
                unit: holder.person.and_then(|person| person.text("unit")).map(str::to_owned),
            })
            .collect();
        let mut report = DeviceReport {
            device: device.to_owned(),
            standing,
            covered,
            collected: facts.collected(),
            retired: retired.map(|retired| (retired.from, retired.because.clone())),
            former_names: self.reader.former_names(device)?,
            absent: self.reader.absences_of(device, self.run)?,
            holders,
            groups,
            last_known,
            facts: lines,
            verdicts,
            findings: findings.clone(),
            reach: Vec::new(),
            costs: Vec::new(),
        };
        if let Some(standing) = standing {
            let running: Vec<Finding> = findings.iter().filter(|finding| finding.is_running()).cloned().collect();
            let title = |service: &str| {
                rules
                    .access()
                    .services()
                    .iter()
                    .find(|one| one.id.as_str() == service)
                    .map_or_else(|| service.to_owned(), |one| one.title.clone())
            };
            let ahead: Vec<_> = moments_ahead(&running, self.at)
                .into_iter()
                .map(|moment| {
                    (moment, usual_decisions(&judge, &judged, standing_then(moment), &running, moment, &arena))
                })
                .collect();
            for (key, decision) in usual_decisions(&judge, &judged, standing, &running, self.at, &arena) {
                let later = ahead.iter().find_map(|(moment, decisions)| {
                    let (_, then) = decisions.iter().find(|(other, _)| *other == key)?;
                    (then.strictness > decision.strictness).then(|| (*moment, then.words.clone()))
                });
                let cost = match (&later, decision.cause) {
                    (Some((moment, words)), _) => Some((*moment, words.clone())),
                    (None, Some(_)) if decision.strictness > 0 && decision.access_rule.is_some() => {
                        Some((self.since_overdue(&running), decision.words.clone()))
                    }
                    (None, _) => None,
                };
                if let Some((moment, words)) = cost {
                    report.costs.push(Cost {
                        person: key.person.clone(),
                        service: key.service.clone(),
                        title: title(&key.service),
                        client: key.client.clone(),
                        decision: words,
                        moment,
                    });
                }
                report.reach.push(ReachLine {
                    title: title(&key.service),
                    person: key.person,
                    service: key.service,
                    client: key.client,
                    decision: decision.words,
                    strictness: decision.strictness,
                    access_rule: decision.access_rule,
                    later,
                });
            }
        }
        Ok(report)
    }

    /// When the first of the running findings ran out.
    fn since_overdue(&self, running: &[Finding]) -> Timestamp {
        running
            .iter()
            .filter_map(|finding| match finding.phase(self.at) {
                Phase::Overdue { since } => Some(since),
                Phase::Open { .. } | Phase::Closed { .. } => None,
            })
            .min()
            .unwrap_or(self.at)
    }

    fn fact_line(&self, path: &str, slot: fencepost_core::SlotId, facts: &fencepost_core::Facts<'_>) -> FactLine {
        let found = facts.slot(slot);
        let declared = self.project.dictionary.facts.get(path);
        let (source, collected, corrected) = match found.origin {
            Some(Origin::Observed { source, collected }) => (Some(source.to_owned()), collected, None),
            Some(Origin::Corrected(one)) => (None, None, Some((one.by.clone(), one.because.clone(), one.until))),
            None => (None, None, None),
        };
        let wrong_type = matches!(found.value, Value::Unknown(Unknown { reason: Reason::WrongType, .. }));
        let read_as = declared.and_then(Declaration::read_as);
        let show = |raw: Value<'_>| read_as.as_ref().map_or_else(|| raw.show(), |read_as| read_as.shown(raw, path));
        let value = show(found.raw);
        FactLine {
            path: path.to_owned(),
            label: declared.and_then(|declared| declared.labels.get(&value)).cloned(),
            unit: declared.and_then(|declared| declared.unit.clone()),
            value: value.clone(),
            source,
            collected,
            stale: found.stale,
            wrong_type,
            corrected,
            losers: facts
                .losers(slot)
                .map(|(observation, raw)| Said {
                    source: observation.source.to_owned(),
                    collected: observation.collected,
                    value: show(raw),
                })
                // Who agrees has lost nothing.
                .filter(|said| said.value != value)
                .collect(),
        }
    }
}
