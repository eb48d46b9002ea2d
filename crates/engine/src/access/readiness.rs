//! What would come if a rule, a baseline or an access rule were enforced now: who would be denied, and who would ask for help.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    Cause, CauseKind, Effect, Obligation, Ruling, Stage, StepResult, Value, VerdictOutcome, find_causes_of_rule,
};

use super::report::{CauseLine, Contact};
use crate::assess::decisions::UsualDecision;
use crate::assess::outlook::DeviceAt;
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::ledger_view::codec::DecisionKey;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// A person and a service, by id.
type PersonAndService = (String, String);

/// What is to be enforced.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ToEnforce {
    /// A rule, by id.
    Rule(String),
    /// All rules of a baseline.
    Baseline(String),
    /// An access rule.
    Access(String),
}

impl ToEnforce {
    /// Returns its id.
    pub fn id(&self) -> &str {
        match self {
            Self::Rule(id) | Self::Baseline(id) | Self::Access(id) => id,
        }
    }

    /// Returns what kind of thing it is.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Rule(_) => "rule",
            Self::Baseline(_) => "baseline",
            Self::Access(_) => "access rule",
        }
    }
}

/// A device that is not ready, with one of its people.
#[derive(Clone, Debug, PartialEq)]
pub struct NotReady {
    /// The device.
    pub device: String,
    /// The person; none on a device that nobody holds.
    pub person: Option<String>,
    /// What is known of the person.
    pub contact: Contact,
    /// The device's platform.
    pub platform: Option<String>,
    /// The device's model.
    pub model: Option<String>,
    /// Titles of services that the person would be denied with it.
    pub denied: Vec<String>,
    /// Titles of services for which a stronger sign-in would be asked, in which the person is not enrolled.
    pub step_up: Vec<String>,
    /// Terms that the person would have to accept first.
    pub terms: Vec<String>,
    /// A service to which the person would have no way left.
    pub call_first: bool,
    /// What has to change.
    pub causes: Vec<CauseLine>,
}

/// How many devices of a kind are not ready.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotReadyCount {
    /// Their platform.
    pub platform: Option<String>,
    /// Their model.
    pub model: Option<String>,
    /// The unit of whoever holds them.
    pub unit: Option<String>,
    /// How many.
    pub devices: u64,
}

/// The effect of enforcing something now, with its own grace over.
#[derive(Clone, Debug, PartialEq)]
pub struct Readiness {
    /// What.
    pub what: ToEnforce,
    /// The stage; for a baseline, the lowest stage of its rules.
    pub stage: Stage,
    /// Devices that meet it.
    pub ready: u64,
    /// Devices that do not.
    pub not_ready: u64,
    /// Devices of which it is not known.
    pub unknown: u64,
    /// People who would be denied a service that they reach now.
    pub denied: u64,
    /// How many of them would have no other way to it.
    pub call_first: u64,
    /// People of whom a stronger sign-in would be asked, and who are not enrolled in it.
    pub step_up_not_enrolled: u64,
    /// People who would have terms to accept.
    pub terms_open: u64,
    /// People from whom a call is to be expected: any of the above, each once.
    pub calls: u64,
    /// By platform, model and unit, most devices first.
    pub by: Vec<NotReadyCount>,
    /// Devices that are not ready, with their people; those first who are to be called first.
    pub list: Vec<NotReady>,
}

/// Whether one device meets what would be enforced.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Ready {
    Yes,
    Unknown,
    No,
}

/// Collects the results of all devices.
struct ReadinessTally {
    what: ToEnforce,
    ready: [u64; 3],
    /// Ways that would be open.
    open: BTreeSet<PersonAndService>,
    /// Ways that would be shut and are open now.
    denied: BTreeSet<PersonAndService>,
    list: Vec<NotReady>,
}

impl Reading<'_> {
    /// Says what would come if something were enforced now and its own grace were over; silence keeps its clock.
    ///
    /// # Errors
    /// When the ledger cannot be read, nothing was assessed, or there is no such rule, baseline or access rule.
    pub fn readiness(&self, id: &str) -> Result<Readiness, EngineError> {
        if self.assessment.is_none() {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        }
        let what = self.to_enforce(id)?;
        let mut candidate = self.project.with_drafts_on_trial()?;
        candidate.rules.enforce_now(
            |rule| match &what {
                ToEnforce::Rule(id) => rule.id.as_str() == id,
                ToEnforce::Baseline(id) => rule.baseline.as_ref().is_some_and(|from| from.baseline == *id),
                ToEnforce::Access(_) => false,
            },
            |rule| matches!(&what, ToEnforce::Access(id) if rule.id.as_str() == id),
        );
        let people = self.assessed_people();
        self.load_comparisons()?;
        let judge = self.comparing(Judge::new(&candidate, people, self.judged_at()));
        let mut now: BTreeMap<String, BTreeMap<DecisionKey, Ruling>> = BTreeMap::new();
        self.each_device_at(&self.assessing_judge(), &mut |found, arena| {
            let own = found.explained_sign_ins(arena).into_iter().map(|it| (it.key, it.decision.ruling));
            now.insert(found.judged.input.id.to_owned(), own.collect());
            Ok(())
        })?;
        let mut tally =
            ReadinessTally { what, ready: [0; 3], open: BTreeSet::new(), denied: BTreeSet::new(), list: Vec::new() };
        self.each_device_at(&judge, &mut |found, arena| {
            let before = now.remove(found.judged.input.id).unwrap_or_default();
            self.tally_device(found, &before, &mut tally, arena)
        })?;
        let stage = self.least_stage(&tally.what);
        Ok(tally.into_readiness(stage))
    }

    fn to_enforce(&self, id: &str) -> Result<ToEnforce, EngineError> {
        let rules = &self.project.rules;
        let baselines: BTreeSet<&str> =
            rules.rules().iter().filter_map(|rule| rule.baseline.as_ref()).map(|from| from.baseline.as_str()).collect();
        if rules.position(id).is_some() {
            return Ok(ToEnforce::Rule(id.to_owned()));
        }
        if rules.access().rules().iter().any(|rule| rule.id.as_str() == id) {
            return Ok(ToEnforce::Access(id.to_owned()));
        }
        if baselines.contains(id) {
            return Ok(ToEnforce::Baseline(id.to_owned()));
        }
        let access = rules.access().rules().iter().map(|rule| rule.id.as_str());
        let all = rules.rules().iter().map(|rule| rule.id.as_str()).chain(access).chain(baselines);
        let help =
            fencepost_core::did_you_mean(id, all, || "fencepost list rules, and list access, name them".to_owned());
        Err(EngineError::refused(format!("there is no rule, baseline or access rule `{id}`"), help))
    }

    fn least_stage(&self, what: &ToEnforce) -> Stage {
        let rules = &self.project.rules;
        let stages: Vec<Stage> = match what {
            ToEnforce::Access(id) => {
                let own = rules.access().rules().iter().filter(|rule| rule.id.as_str() == id);
                own.map(|rule| rule.stage(self.at)).collect()
            }
            ToEnforce::Rule(_) | ToEnforce::Baseline(_) => {
                let own = rules.rules().iter().filter(|rule| is_of(what, rule));
                own.map(|rule| rule.stage(self.at)).collect()
            }
        };
        stages.into_iter().min().unwrap_or(Stage::Enforced)
    }

    /// Adds the effect on the people of one device.
    fn tally_device<'a>(
        &self,
        found: &DeviceAt<'a>,
        before: &BTreeMap<DecisionKey, Ruling>,
        tally: &mut ReadinessTally,
        arena: &'a Bump,
    ) -> Result<(), EngineError> {
        let decided = found.explained_sign_ins(arena);
        for one in decided.iter().filter(|one| one.decision.ruling.effect == Effect::Permit) {
            tally.open.extend(one.key.person.clone().map(|person| (person, one.key.service.clone())));
        }
        let Some(ready) = self.is_ready(&tally.what, found, &decided, arena) else { return Ok(()) };
        tally.ready[ready as usize] += 1;
        let terms_of = |one: &UsualDecision<'_>| open_terms_of(&tally.what, found.judge.project, one);
        if ready == Ready::Yes && decided.iter().all(|one| terms_of(one).is_none()) {
            return Ok(());
        }
        let [platform, model] = self.texts(found.judged.input.id, ["platform", "model"])?;
        let mut holders: Vec<Option<String>> =
            found.judged.input.holders.iter().map(|holder| Some(holder.id.to_owned())).collect();
        if holders.is_empty() {
            holders.push(None);
        }
        for person in holders {
            let own = || decided.iter().filter(|one| one.key.person == person);
            let is_lost = |one: &&UsualDecision<'_>| {
                one.decision.ruling.effect == Effect::Deny && before.get(&one.key).is_some_and(is_open)
            };
            let lost: Vec<&UsualDecision<'_>> = own().filter(is_lost).collect();
            for one in &lost {
                tally.denied.extend(person.clone().map(|person| (person, one.key.service.clone())));
            }
            let enrolled = person.as_deref().is_some_and(|person| self.is_enrolled(person));
            let steps_up = |one: &&UsualDecision<'_>| {
                let is_asked = |ruling: &Ruling| ruling.obligations.contains(&Obligation::StepUp);
                let is_new = is_asked(&one.decision.ruling) && !before.get(&one.key).is_some_and(is_asked);
                is_new && !enrolled && person.is_some()
            };
            let causes = self.causes_of(&tally.what, found, &own().collect::<Vec<_>>(), arena)?;
            tally.list.push(NotReady {
                device: found.judged.input.id.to_owned(),
                contact: person.as_deref().map(|person| self.contact(person)).unwrap_or_default(),
                platform: platform.clone(),
                model: model.clone(),
                denied: self.titles(lost.into_iter()),
                step_up: self.titles(own().filter(steps_up)),
                terms: own().filter_map(terms_of).collect::<BTreeSet<_>>().into_iter().collect(),
                call_first: false,
                causes,
                person,
            });
        }
        Ok(())
    }

    /// Returns whether a device meets what would be enforced; none where it is not asked of it.
    fn is_ready<'a>(
        &self,
        what: &ToEnforce,
        found: &DeviceAt<'a>,
        decided: &[UsualDecision<'a>],
        arena: &'a Bump,
    ) -> Option<Ready> {
        let project = found.judge.project;
        let answers: Vec<Ready> = match what {
            ToEnforce::Access(id) => {
                let rules = project.rules.access().rules();
                // A sign-in with a strange device does not depend on this one.
                let with_it = decided.iter().filter(|one| !one.attempt.sign_in.is_strange());
                let steps = with_it.flat_map(|one| &one.decision.steps);
                let own = steps.filter(|step| rules[step.rule].id.as_str() == id);
                own.filter_map(|step| match step.result {
                    StepResult::Met => Some(Ready::Yes),
                    StepResult::Unmet => Some(Ready::No),
                    StepResult::NeedsUnknown | StepResult::Uncertain(_) => Some(Ready::Unknown),
                    _ => None,
                })
                .collect()
            }
            ToEnforce::Rule(_) | ToEnforce::Baseline(_) => {
                let verdicts = found.judge.verdicts(&found.judged.input, arena);
                let own = verdicts.all.iter().filter(|verdict| is_of(what, &project.rules.rules()[verdict.rule]));
                own.filter_map(|verdict| match verdict.outcome {
                    VerdictOutcome::Pass => Some(Ready::Yes),
                    VerdictOutcome::Fail => Some(Ready::No),
                    VerdictOutcome::Unknown(_) => Some(Ready::Unknown),
                    VerdictOutcome::NotApplicable => None,
                })
                .collect()
            }
        };
        answers.into_iter().max()
    }

    /// Returns what would have to change on a device for it to be ready.
    fn causes_of<'a>(
        &self,
        what: &ToEnforce,
        found: &DeviceAt<'a>,
        own: &[&UsualDecision<'a>],
        arena: &'a Bump,
    ) -> Result<Vec<CauseLine>, EngineError> {
        let project = found.judge.project;
        let running = found.running();
        let (posture, session) = (found.posture(&running), found.judge.session(arena));
        let mut causes: Vec<Cause> = Vec::new();
        match what {
            ToEnforce::Access(id) => {
                for one in own {
                    let rules = project.rules.access().rules();
                    for step in one.decision.steps.iter().filter(|step| rules[step.rule].id.as_str() == id) {
                        causes.extend(find_causes_of_rule(&project.rules, &one.attempt, step, posture, session));
                    }
                }
            }
            ToEnforce::Rule(_) | ToEnforce::Baseline(_) => {
                for finding in &running {
                    let is_meant = project
                        .rules
                        .position(finding.subject.as_str())
                        .is_some_and(|at| is_of(what, &project.rules.rules()[at]));
                    if is_meant || finding.subject == fencepost_core::Subject::Silence {
                        let kind = if is_meant { CauseKind::Finding } else { CauseKind::Silence };
                        let clock = &finding.clock;
                        causes.push(Cause {
                            rule: Some(finding.subject.as_str().to_owned()),
                            opened: Some(clock.opened),
                            due: Some(clock.due),
                            ..Cause::of_kind(kind)
                        });
                    }
                }
            }
        }
        let mut told: Vec<CauseLine> = Vec::new();
        for cause in causes {
            let is_known = told.iter().any(|line| {
                (line.cause.kind, &line.cause.rule, &line.cause.fact) == (cause.kind, &cause.rule, &cause.fact)
            });
            if !is_known {
                told.push(self.cause_line(found.judged.input.id, &found.findings, &cause)?);
            }
        }
        Ok(told)
    }

    fn titles<'d, 'a: 'd>(&self, decided: impl Iterator<Item = &'d UsualDecision<'a>>) -> Vec<String> {
        let services = self.project.rules.access().services();
        let mut titles: Vec<String> = Vec::new();
        for one in decided {
            let service = services.iter().find(|service| service.id.as_str() == one.key.service);
            let title = service.map_or(&one.key.service, |service| &service.title);
            if !titles.contains(title) {
                titles.push(title.clone());
            }
        }
        titles
    }

    /// Returns whether somebody is enrolled in the stronger sign-in, as the list of people says.
    fn is_enrolled(&self, person: &str) -> bool {
        self.people.get(person).is_some_and(|person| person.says_yes("enrolled"))
    }

    /// Returns facts of a device as texts.
    fn texts<const N: usize>(&self, device: &str, paths: [&str; N]) -> Result<[Option<String>; N], EngineError> {
        let mut layout = self.project.rules.layout().clone();
        let slots = paths.map(|path| layout.want(path, &self.project.dictionary));
        let (judge, arena, documents) = (self.assessing_judge(), Bump::new(), self.assessed_documents(device)?);
        let facts = judge.facts(device, &documents, &layout, &arena)?;
        Ok(slots.map(|slot| match facts.slot(slot).value {
            Value::Unknown(_) | Value::Null => None,
            value => Some(value.show()),
        }))
    }
}

/// Returns the terms that an access rule asks for and that are not accepted yet; what enforcing something else asks for is no effect of it.
fn open_terms_of(what: &ToEnforce, project: &Project, one: &UsualDecision<'_>) -> Option<String> {
    let ToEnforce::Access(id) = what else { return None };
    let access = project.rules.access();
    let rule = access.rules().iter().find(|rule| rule.id.as_str() == id)?;
    let terms = access.terms_of(rule)?.id.as_str();
    one.decision.ruling.open_terms().find(|open| *open == terms).map(str::to_owned)
}

fn is_open(ruling: &Ruling) -> bool {
    ruling.effect == Effect::Permit
}

fn is_of(what: &ToEnforce, rule: &fencepost_core::Rule) -> bool {
    match what {
        ToEnforce::Rule(id) => rule.id.as_str() == id,
        ToEnforce::Baseline(id) => rule.baseline.as_ref().is_some_and(|from| from.baseline == *id),
        ToEnforce::Access(_) => false,
    }
}

impl ReadinessTally {
    fn into_readiness(mut self, stage: Stage) -> Readiness {
        let alone: BTreeSet<&PersonAndService> = self.denied.iter().filter(|of| !self.open.contains(*of)).collect();
        let alone: BTreeSet<&str> = alone.into_iter().map(|(person, _)| person.as_str()).collect();
        let denied: BTreeSet<&str> = self.denied.iter().map(|(person, _)| person.as_str()).collect();
        let mut by: BTreeMap<[Option<String>; 3], BTreeSet<&str>> = BTreeMap::new();
        let (mut step_up, mut terms, mut calls) = (BTreeSet::new(), BTreeSet::new(), denied.clone());
        for one in &self.list {
            let kind = [one.platform.clone(), one.model.clone(), one.contact.unit.clone()];
            by.entry(kind).or_default().insert(&one.device);
            if let Some(person) = one.person.as_deref().filter(|_| !one.step_up.is_empty()) {
                step_up.insert(person);
                calls.insert(person);
            }
            if let Some(person) = one.person.as_deref().filter(|_| !one.terms.is_empty()) {
                terms.insert(person);
                calls.insert(person);
            }
        }
        let mut by: Vec<NotReadyCount> = by
            .into_iter()
            .map(|([platform, model, unit], devices)| NotReadyCount {
                platform,
                model,
                unit,
                devices: devices.len() as u64,
            })
            .collect();
        by.sort_by_key(|count| std::cmp::Reverse(count.devices));
        let (denied, call_first) = (denied.len() as u64, alone.len() as u64);
        let (step_up_not_enrolled, calls) = (step_up.len() as u64, calls.len() as u64);
        let terms_open = terms.len() as u64;
        let alone: BTreeSet<String> = alone.into_iter().map(str::to_owned).collect();
        for one in &mut self.list {
            one.call_first = !one.denied.is_empty() && one.person.as_ref().is_some_and(|person| alone.contains(person));
        }
        self.list.sort_by_key(|one| (!one.call_first, one.denied.is_empty(), one.step_up.is_empty()));
        let [ready, unknown, not_ready] = self.ready;
        let (what, list) = (self.what, self.list);
        Readiness {
            what,
            stage,
            ready,
            not_ready,
            unknown,
            denied,
            call_first,
            step_up_not_enrolled,
            terms_open,
            calls,
            by,
            list,
        }
    }
}
