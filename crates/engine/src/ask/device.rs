//! One device in full: facts with their sources, verdicts with their proof, findings, and what it may reach.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    Correction, Declaration, EVERY_DEVICE, Evidence, Exception, FactType, Facts, Finding, GroupSummary, Holder, Origin,
    Reason, Rule, SlotId, Stage, Standing, Subject, Unknown, Value, Verdict, VerdictOutcome, Waiver, is_by_waiver,
    standing_at,
};
use fencepost_formats::stored_json;
use fencepost_store::{DeviceRow, SettingRow, SourcedSetting, SpellKind};
use jiff::Timestamp;

use crate::access::current::{CurrentDecision, CurrentDecisions};
use crate::ask::reach::{Cost, ReachLine, StricterLater};
use crate::ask::verdicts::ProofLine;
use crate::compare::results::DriftResults;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{Judge, Judged, surroundings};
use crate::ledger_view::codec::DecisionKey;
use crate::ledger_view::outcome::StandingDetail;
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
    /// Its type; none where it is not of its declared type.
    pub ty: Option<&'static str>,
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
    /// The correction that it comes from.
    pub corrected: Option<CorrectedBy>,
    /// What the sources say that lost.
    pub losers: Vec<Said>,
}

/// Who corrected a fact, why, and until when.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CorrectedBy {
    /// Who.
    pub by: String,
    /// Why.
    pub because: String,
    /// The end of the correction.
    pub until: Timestamp,
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

/// A rule on the device, with its proof.
#[derive(Clone, Debug)]
pub struct VerdictLine {
    /// The rule.
    pub rule: Rule,
    /// What it says.
    pub outcome: VerdictOutcome,
    /// The proof.
    pub evidence: Evidence,
    /// The proof in a line.
    pub proof: ProofLine,
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
    /// The waiver that covers a failure, or what is unknown.
    pub waiver: Option<Waiver>,
    /// How far settings got that the rule is about: those called like it, or like a fact that it reads.
    pub settings: Vec<SettingRow>,
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
    /// Whether it is compliant, and would not be without a waiver.
    pub by_waiver: bool,
    /// When the state was collected that its enforced rules rest on: the oldest among the newest statements of the sources that they read.
    pub collected: Option<Timestamp>,
    /// When it was retired, and why.
    pub retired: Option<(Timestamp, String)>,
    /// What it was called before.
    pub former_names: Vec<String>,
    /// Sources that no longer list it, and since when.
    pub absent: Vec<(String, Timestamp)>,
    /// Who uses it.
    pub holders: Vec<HolderLine>,
    /// Their names in one text; none where nobody does.
    pub holder_names: Option<String>,
    /// The groups it belongs to.
    pub groups: Vec<String>,
    /// Those among them, and its holders, that are told by facts older than promised; with these facts.
    pub last_known: Vec<(String, Vec<String>)>,
    /// Every fact.
    pub facts: Vec<FactLine>,
    /// Every rule on trial or enforced.
    pub verdicts: Vec<VerdictLine>,
    /// Time may have changed its verdicts since the assessment.
    pub past_valid_until: bool,
    /// Its findings, those that closed among them.
    pub findings: Vec<Finding>,
    /// What its people may reach with it.
    pub reach: Vec<ReachLine>,
    /// What it costs now, or will cost, in access.
    pub costs: Vec<Cost>,
}

impl DeviceReport {
    /// Returns what a rule, or the rules below it, costs in access: by its own finding, or by the silence that it is a part of.
    pub fn costs_of(&self, is_rule: impl Fn(&str) -> bool) -> Vec<Cost> {
        let silence = self.findings.iter().rfind(|it| it.subject == Subject::Silence && it.is_running());
        let is_silent = silence.is_some_and(|silence| silence.leaves_open.iter().any(|rule| is_rule(rule.as_str())));
        let brings = |finding: &String| is_rule(finding) || is_silent && finding == Subject::SILENCE;
        self.costs.iter().filter(|cost| cost.findings.iter().any(brings)).cloned().collect()
    }
}

/// Since when a device is retired, and why.
type RetiredSince = (Timestamp, String);

impl Reading<'_> {
    /// Returns all that is known of a device.
    ///
    /// # Errors
    /// When the ledger cannot be read, or does not know the device.
    pub fn device(&self, device: &str) -> Result<DeviceReport, EngineError> {
        let name = self.device_name(device)?;
        let device = name.as_str();
        let (documents, retired) = self.last_documents(device)?;
        let spell = self.reader.spells(SpellKind::Standing, Some(device), self.run)?.pop();
        let (judge, mut assessing, arena) = (self.judge(), self.assessing_judge(), Bump::new());
        let compared = DriftResults::of_device(&self.reader, self.run, self.project, device)?;
        // An assessment that knew nothing of it did not compare it.
        assessing = match spell.is_some() {
            true => assessing.with_comparisons(&compared),
            false => assessing.without_comparisons(),
        };
        // Facts that rules read come first in the layout, so that one reading serves both.
        let mut layout = self.project.rules.layout().clone();
        let paths = self.reported_paths(device, &documents);
        let slots: Vec<SlotId> = paths.iter().map(|path| layout.want(path, &self.project.dictionary)).collect();
        let facts = judge.facts(device, &documents, &layout, &arena)?;
        // Verdicts change in an assessment alone, whatever came in since; a device that it did not know is judged by what is known.
        let assessed_documents = Some(self.assessed_documents(device)?).filter(|documents| !documents.is_empty());
        let assessed_facts = match &assessed_documents {
            Some(documents) => assessing.facts(device, documents, &layout, &arena)?,
            None => facts,
        };
        let lines = paths
            .iter()
            .zip(&slots)
            .filter(|(path, _)| !matches!(path.as_str(), "device" | "collected_at"))
            .map(|(path, slot)| self.fact_line(path, *slot, facts))
            .collect();
        let holder = self.project.config.holder.as_deref();
        let holder = paths.iter().zip(&slots).find(|(path, _)| holder == Some(path.as_str()));
        let stale_holder = holder.filter(|(_, slot)| facts.slot(**slot).stale).map(|(path, _)| path.as_str());

        let findings: Vec<Finding> = self.findings(Some(device), true)?.remove(device).unwrap_or_default();
        let assessed = AssessedDevice {
            reading: self,
            judge: &assessing,
            judged: assessing.judged(device, assessed_facts, &arena),
            facts: assessed_facts,
            covered: spell.as_ref().is_some_and(|spell| StandingDetail::parse(&spell.detail).covered),
            is_assessed: spell.is_some(),
            findings,
            settings: self.reader.settings_of(device, self.run)?,
            arena: &arena,
        };
        let (groups, last_known) = assessed.groups(stale_holder);
        let (reach, costs) = assessed.reach()?;
        let (standing, verdicts) = (assessed.standing(self.at), assessed.verdicts());
        let has_waived = verdicts.iter().any(|verdict| verdict.waiver.is_some());
        let by_waiver =
            standing.is_some_and(|standing| is_by_waiver(standing, &assessed.findings, has_waived, self.at));
        Ok(DeviceReport {
            device: device.to_owned(),
            standing,
            by_waiver,
            covered: assessed.covered,
            collected: assessed.state_collected(facts),
            retired,
            former_names: self.reader.former_names(device)?,
            absent: self.reader.absences_of(device, self.run)?,
            holders: assessed.holders(),
            holder_names: assessed.judged.holder_names(),
            groups,
            last_known,
            facts: lines,
            verdicts,
            past_valid_until: self.is_past_valid_until(device)?,
            findings: assessed.findings,
            reach,
            costs,
        })
    }

    /// Returns the documents of a device; of one that is retired those from before, with since when and why it is.
    fn last_documents(&self, device: &str) -> Result<(Vec<Document>, Option<RetiredSince>), EngineError> {
        let documents = self.documents(device)?;
        let retired = self.project.lifecycles.last_retirement(device, self.judged_at());
        let Some(retired) = retired.filter(|_| documents.is_empty()) else { return Ok((documents, None)) };
        let stored = self.reader.observations_of(device, self.run)?;
        let documents = stored.into_iter().map(|said| Document::of(device, said)).collect();
        Ok((documents, Some((retired.from, retired.because.clone()))))
    }

    /// Returns the paths of all facts that the documents of a device report, or a correction sets.
    fn reported_paths(&self, device: &str, documents: &[Document]) -> BTreeSet<String> {
        let mut paths = BTreeSet::new();
        for json in documents.iter().filter_map(|said| stored_json(&said.json)) {
            let mut found = BTreeMap::new();
            leaves(&json, &mut found);
            paths.extend(found.into_iter().filter(|(_, leaf)| !leaf.in_list).map(|(path, _)| path));
        }
        let lifecycles = &self.project.lifecycles;
        let is_of = |one: &&Correction| lifecycles.is_same_device(one.device.as_str(), device);
        let corrections = self.project.corrections.iter().filter(is_of);
        paths.extend(corrections.map(|one| one.fact.clone()));
        paths
    }

    fn fact_line(&self, path: &str, slot: SlotId, facts: &Facts<'_>) -> FactLine {
        let found = facts.slot(slot);
        let declared = self.project.dictionary.facts.get(path);
        let (source, collected, corrected) = match found.origin {
            Some(Origin::Observed { source, collected }) => (Some(source.to_owned()), collected, None),
            Some(Origin::Corrected(one)) => {
                let Correction { by, because, until, .. } = one;
                (None, None, Some(CorrectedBy { by: by.clone(), because: because.clone(), until: *until }))
            }
            None => (None, None, None),
        };
        let wrong_type = matches!(found.value, Value::Unknown(Unknown { reason: Reason::WrongType, .. }));
        let read_as = declared.and_then(Declaration::read_as);
        let show = |raw: Value<'_>| read_as.as_ref().map_or_else(|| raw.show(), |read_as| read_as.shown(raw, path));
        let value = show(found.raw);
        let ty = match found.value {
            // What is too old to be relied on is of its type all the same.
            Value::Unknown(_) => read_as.as_ref().map_or(found.raw, |read_as| read_as.read(found.raw, path)),
            known => known,
        };
        FactLine {
            path: path.to_owned(),
            ty: (!wrong_type).then(|| type_word(&ty)),
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

/// Returns the word that the dictionary has for the type of a value.
fn type_word(value: &Value<'_>) -> &'static str {
    match value {
        Value::DateTime(_) => FactType::Instant.as_str(),
        Value::Months(_) => FactType::Duration.as_str(),
        other => other.type_name(),
    }
}

/// A device with what an assessment made of it, while its report is put together.
struct AssessedDevice<'d, 'r> {
    reading: &'d Reading<'r>,
    judge: &'d Judge<'d>,
    judged: Judged<'d>,
    facts: &'d Facts<'d>,
    /// Whether an enforced rule covers it.
    covered: bool,
    /// Whether it was assessed at all.
    is_assessed: bool,
    /// Its findings, those that closed among them.
    findings: Vec<Finding>,
    /// How far settings got on it.
    settings: Vec<SourcedSetting>,
    arena: &'d Bump,
}

impl<'d> AssessedDevice<'d, '_> {
    /// Returns how it stands at a moment; none where it was not assessed.
    fn standing(&self, at: Timestamp) -> Option<Standing> {
        self.is_assessed.then(|| self.assessed_standing(at))
    }

    fn assessed_standing(&self, at: Timestamp) -> Standing {
        standing_at(&self.findings, self.covered, self.reading.project.config.uncovered_stands, at)
    }

    /// Returns when the state was collected that its enforced rules rest on, by facts that may be newer than those that were assessed.
    fn state_collected(&self, facts: &Facts<'_>) -> Option<Timestamp> {
        let verdicts = self.judge.verdicts(&self.judged.input, self.arena);
        self.judge.project.rules.state_collected(&verdicts.all, facts, self.judge.at)
    }

    /// Returns every rule on trial or enforced, with its proof.
    fn verdicts(&self) -> Vec<VerdictLine> {
        let verdicts = self.judge.verdicts(&self.judged.input, self.arena);
        verdicts.all.iter().map(|verdict| self.verdict(verdict)).collect()
    }

    fn verdict(&self, verdict: &Verdict) -> VerdictLine {
        let rules = &self.judge.project.rules;
        let session = self.judge.session(self.arena);
        let rule = rules.rules()[verdict.rule].clone();
        let scope_last_known = rules.last_known_of_scope(verdict.rule, self.facts);
        let fix = rules.fix(verdict.rule, &self.judged.input, session);
        let exception = rules.exception(verdict.rule, &self.judged.input, session);
        let of_rule = |finding: &&Finding| finding.subject.as_str() == rule.id.as_str();
        let may_be_waived = !verdict.outcome.is_quiet() && rule.stage(session.at) == Stage::Enforced;
        let waivers = self.judge.waivers(&self.judged.input, self.arena);
        let evidence = self.judge.prove(verdict, &self.judged.input, self.arena);
        let waiver = waivers.running_for_rule(verdict.rule, self.reading.at).filter(|_| may_be_waived);
        VerdictLine {
            stage: rule.stage(session.at),
            fix: fix.say.filter(|_| verdict.outcome == VerdictOutcome::Fail).map(str::to_owned),
            awaiting: verdict.awaiting,
            excepted: verdict.excepted,
            exception: exception.filter(|_| verdict.excepted).cloned(),
            outcome: verdict.outcome,
            scope_last_known: scope_last_known.into_iter().map(str::to_owned).collect(),
            finding: self.findings.iter().rfind(of_rule).cloned(),
            waiver: waiver.cloned(),
            settings: self.settings_of(&rule, &evidence),
            proof: ProofLine::of(&evidence, rule.compared_set().is_some(), self.reading.at),
            evidence,
            rule,
        }
    }

    /// Returns how far settings got that a rule is about.
    fn settings_of(&self, rule: &Rule, evidence: &Evidence) -> Vec<SettingRow> {
        let named = self.settings.iter().map(|said| &said.row);
        let is_meant = |row: &&SettingRow| row.setting == rule.id.as_str() || evidence.names_fact(&row.setting);
        named.filter(is_meant).cloned().collect()
    }

    /// Returns the groups it belongs to; and those among them that are told by facts older than promised, with these facts.
    /// `stale_holder` is the fact that names the holder, where that is older than promised.
    fn groups(&self, stale_holder: Option<&str>) -> (Vec<String>, Vec<(String, Vec<String>)>) {
        let rules = &self.judge.project.rules;
        let ambient = surroundings(self.standing(self.reading.at), &self.findings, self.reading.at, self.arena);
        let memberships = rules.memberships_of_device(&self.judged.input, ambient, self.judge.session(self.arena));
        let mut last_known: Vec<(String, Vec<String>)> =
            stale_holder.iter().map(|path| ("holder".to_owned(), vec![(*path).to_owned()])).collect();
        let mut groups = Vec::new();
        let member = rules.groups().zip(memberships).enumerate();
        for (at, (GroupSummary { id, .. }, _)) in member.filter(|(_, (_, value))| matches!(value, Value::Boolean(true)))
        {
            if id.as_str() == EVERY_DEVICE {
                continue;
            }
            groups.push(id.to_string());
            let told_by = rules.last_known_of_group(at, self.facts);
            if !told_by.is_empty() {
                last_known.push((id.to_string(), told_by.into_iter().map(str::to_owned).collect()));
            }
        }
        (groups, last_known)
    }

    /// Returns who uses it.
    fn holders(&self) -> Vec<HolderLine> {
        let line = |holder: &Holder<'_>| HolderLine {
            id: holder.id.to_owned(),
            name: holder.person.map(|person| person.name().to_owned()),
            unit: holder.person.and_then(|person| person.text("unit")).map(str::to_owned),
        };
        self.judged.input.holders.iter().map(line).collect()
    }

    /// Returns what its people may reach with it, and what it costs now, or will cost, in access.
    fn reach(&self) -> Result<(Vec<ReachLine>, Vec<Cost>), EngineError> {
        let number = self.reading.reader.device_number(self.judged.input.id)?;
        let Some(number) = number.filter(|_| self.is_assessed) else { return Ok((Vec::new(), Vec::new())) };
        let device = DeviceRow { number, name: self.judged.input.id.to_owned(), dirty: false };
        let CurrentDecisions { now, losing, .. } = self.reading.current_decisions(&device)?;
        let (mut reach, mut costs) = (Vec::new(), Vec::new());
        // In the order of the holders, and of the services as they are written.
        let mut now: Vec<(DecisionKey, CurrentDecision)> = now.into_iter().collect();
        now.sort_by_key(|(key, _)| self.place_of(key));
        for (key, CurrentDecision { decision, since }) in now {
            let mut own = losing.iter().filter(|it| it.key == key);
            let later = own.clone().find(|it| !it.only_if_silent).or(own.next());
            let by_rule = !decision.causes.is_empty() && !decision.access_rules.is_empty();
            let cost = match later.filter(|later| !later.only_if_silent) {
                Some(later) => Some((later.at, &later.decision)),
                None => by_rule.then_some((since, &decision)),
            };
            let title = self.title_of(&key.service);
            if let Some((moment, then)) = cost {
                costs.push(Cost {
                    findings: then.causes.iter().filter_map(|cause| cause.rule.clone()).collect(),
                    person: key.person.clone(),
                    service: key.service.clone(),
                    title: title.clone(),
                    client: key.client.clone(),
                    decision: then.ruling.clone(),
                    moment,
                });
            }
            reach.push(ReachLine {
                title,
                person: key.person,
                service: key.service,
                client: key.client,
                later: later.map(|later| StricterLater {
                    at: later.at,
                    decision: later.decision.ruling.clone(),
                    only_if_silent: later.only_if_silent,
                }),
                access_rule: decision.access_rules.into_iter().next(),
                decision: decision.ruling,
            });
        }
        Ok((reach, costs))
    }

    /// Returns where a sign-in stands: by holder, service and usual sign-in.
    fn place_of(&self, key: &DecisionKey) -> [usize; 3] {
        let last = usize::MAX;
        let holder = self.judged.input.holders.iter().position(|holder| Some(holder.id) == key.person.as_deref());
        let services = self.judge.project.rules.access().services();
        let service = services.iter().position(|service| service.id.as_str() == key.service);
        let sign_in = service.and_then(|at| services[at].usual.iter().position(|usual| usual.id == key.client));
        [holder.unwrap_or(last), service.unwrap_or(last), sign_in.unwrap_or(last)]
    }

    /// Returns what people call a service.
    fn title_of(&self, service: &str) -> String {
        let services = self.judge.project.rules.access().services();
        let found = services.iter().find(|one| one.id.as_str() == service);
        found.map_or_else(|| service.to_owned(), |one| one.title.clone())
    }
}
