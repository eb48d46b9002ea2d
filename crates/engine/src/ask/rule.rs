//! One rule in full: whom it reaches, who fails it and with what, what hangs on it, and how it went.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{AccessRule, EVERY_DEVICE, GroupKind, Phase, Rule, Stage, Value, Verdict, VerdictOutcome};
use jiff::Timestamp;

use crate::access::current::CurrentDecision;
use crate::ask::figures::{FiguresPer, FiguresQuery, PartThen};
use crate::ask::verdicts::{DeviceVerdictsAt, ProofLine, VerdictSource, VerdictsWanted};
use crate::assess::RuleCount;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::{FilePlace, Project};
use crate::workspace::versions::same_since;

/// By what the verdicts of a page were found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RuleBasis {
    /// The assessment.
    Assessed,
    /// The rule is a draft: it was evaluated as if it were on trial.
    Draft,
    /// The rule was written after the assessment: it was evaluated as the next one would.
    New,
}

/// A device that does not meet a rule, or of which that is not known.
#[derive(Clone, Debug, PartialEq)]
pub struct UnmetOn {
    /// The device.
    pub device: String,
    /// Who holds it.
    pub holder: Option<String>,
    /// What the rule says: a failure, or something unknown.
    pub outcome: VerdictOutcome,
    /// What it comes from.
    pub proof: ProofLine,
    /// What was asked for is on its way.
    pub awaiting: bool,
    /// The phase of the finding whose clock runs.
    pub phase: Option<Phase>,
    /// When its grace ends.
    pub due: Option<Timestamp>,
    /// The waiver that covers it, and when that ends.
    pub waiver: Option<(String, Timestamp)>,
}

/// A device that is excepted from a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExceptedDevice {
    /// The device.
    pub device: String,
    /// The group or the device that the exception names.
    pub named: String,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
}

/// Somebody who is shut out of a service because of a rule: no other way into it is open.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ShutOut {
    /// The person.
    pub person: String,
    /// What the person is called.
    pub name: Option<String>,
    /// The service.
    pub service: String,
    /// What people call it.
    pub title: String,
}

/// How a part of the devices that a rule covers fares.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RulePart {
    /// The platform or the group; none where the platform is not known.
    pub name: Option<String>,
    /// What the rule says of its devices.
    pub counts: RuleCount,
}

/// An access rule that asks for a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccessUse {
    /// Its id.
    pub id: String,
    /// How far it is in force.
    pub stage: Stage,
    /// The services that it is about, as people call them.
    pub services: Vec<String>,
}

/// All that is known of a rule.
#[derive(Clone, Debug)]
pub struct RuleReport {
    /// The rule.
    pub rule: Rule,
    /// By what its verdicts were found.
    pub basis: RuleBasis,
    /// The moment of reading.
    pub as_of: Timestamp,
    /// Where it is written.
    pub place: Option<FilePlace>,
    /// How far it is in force.
    pub stage: Stage,
    /// Since when it is that far in force.
    pub since: Option<Timestamp>,
    /// Since when it judges as it does now.
    pub changed: Option<Timestamp>,
    /// What it says, counted.
    pub counts: RuleCount,
    /// The devices that it covers, by platform, most devices first.
    pub by_platform: Vec<RulePart>,
    /// The same by group; a device may be in several.
    pub by_group: Vec<RulePart>,
    /// The devices that fail it or are unknown; those first whose clock has run out or does so next.
    pub unmet: Vec<UnmetOn>,
    /// The devices that it would cover but for an exception.
    pub excepted: Vec<ExceptedDevice>,
    /// The ladder of steps that a failure sets off.
    pub response: Option<String>,
    /// The access rules that ask for it.
    pub access_rules: Vec<AccessUse>,
    /// Who is shut out because of it.
    pub shut_out: Vec<ShutOut>,
    /// What the latest assessments counted, oldest first.
    pub trend: Vec<PartThen<RuleCount>>,
}

impl RuleReport {
    /// Returns the devices whose failure, or lack of an answer, a waiver covers.
    pub fn waived(&self) -> impl Iterator<Item = (&UnmetOn, &str, Timestamp)> {
        self.unmet.iter().filter_map(|unmet| {
            let (waiver, until) = unmet.waiver.as_ref()?;
            Some((unmet, waiver.as_str(), *until))
        })
    }
}

/// What is gathered of a device for the page of a rule.
struct Gathered {
    verdict: Verdict,
    platform: Option<String>,
    groups: Vec<usize>,
    unmet: Option<UnmetOn>,
    excepted: Option<ExceptedDevice>,
}

/// What a rule says of the devices, put together.
#[derive(Default)]
struct RuleParts {
    counts: RuleCount,
    platforms: BTreeMap<Option<String>, RuleCount>,
    /// By the positions of the groups.
    groups: BTreeMap<usize, RuleCount>,
    unmet: Vec<UnmetOn>,
    excepted: Vec<ExceptedDevice>,
}

impl RuleParts {
    fn add(&mut self, found: Gathered) {
        let Gathered { verdict, platform, groups, unmet, excepted } = found;
        self.counts.count(&verdict);
        if verdict.outcome != VerdictOutcome::NotApplicable {
            self.platforms.entry(platform).or_default().count(&verdict);
            groups.into_iter().for_each(|group| self.groups.entry(group).or_default().count(&verdict));
        }
        self.unmet.extend(unmet);
        self.excepted.extend(excepted);
    }
}

/// So many assessments make a trend.
const TREND: FiguresQuery = FiguresQuery { most: 14, per: FiguresPer::Assessment };
/// The fact that says what kind of system a device has.
const PLATFORM: &str = "platform";

impl Reading<'_> {
    /// Returns whether there is a rule of an id, in the assessed workspace or in `now`.
    pub fn knows_rule(&self, id: &str, now: &Project) -> bool {
        self.project.rules.position(id).or_else(|| now.rules.position(id)).is_some()
    }

    /// Returns all that is known of a rule. One that the assessment did not judge by, since it is a draft or newer, is evaluated by
    /// what is known now; `now` is the workspace as it is written.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such rule.
    pub fn rule(self, id: &str, now: &Project) -> Result<RuleReport, EngineError> {
        let known = self.project.rules.position(id).map(|at| &self.project.rules.rules()[at]);
        let is_draft = match known {
            Some(rule) => rule.is_draft(),
            None => now.rules.position(id).is_some_and(|at| now.rules.rules()[at].is_draft()),
        };
        if known.is_some() && !is_draft && self.assessment.is_some() {
            return self.rule_report(id, RuleBasis::Assessed);
        }
        let written_in = if known.is_some() { self.project } else { now };
        if !is_draft {
            return self.by_rules_of(written_in)?.rule_report(id, RuleBasis::New);
        }
        let on_trial = written_in.with_drafts_on_trial()?;
        // The page tells the rule as it is written.
        let written = written_in.rules.position(id).map(|at| written_in.rules.rules()[at].clone());
        let report = self.by_rules_of(&on_trial)?.rule_report(id, RuleBasis::Draft)?;
        Ok(match written {
            Some(rule) => RuleReport { stage: Stage::Draft, rule, ..report },
            None => report,
        })
    }

    fn rule_report(&self, id: &str, basis: RuleBasis) -> Result<RuleReport, EngineError> {
        let project = self.project;
        let Some(at) = project.rules.position(id) else {
            return Err(EngineError::no_such("rule", id, project.rules.rules().iter().map(|rule| rule.id.as_str())));
        };
        let rule = &project.rules.rules()[at];
        let mut parts = self.rule_parts(at, basis)?;
        let is_assessed = basis == RuleBasis::Assessed;
        if let Some(kept) = self.rule_counts()?.and_then(|mut all| all.remove(id)).filter(|_| is_assessed) {
            // As every list tells it.
            parts.counts = kept;
        }
        // Those that fail come before those of which nothing is known; a clock that has run out before one that runs.
        parts
            .unmet
            .sort_by_key(|one| (one.outcome != VerdictOutcome::Fail, one.waiver.is_some(), one.due.is_none(), one.due));
        let failing = parts.unmet.iter().filter(|one| one.outcome == VerdictOutcome::Fail);
        let failing = failing.map(|one| one.device.as_str()).collect();
        let named = |at: usize| project.rules.groups().nth(at).map(|group| group.id.to_string());
        let (since, changed) = if is_assessed { self.rule_since(at)? } else { (None, None) };
        Ok(RuleReport {
            basis,
            as_of: self.at,
            place: project.place_of(rule.place.as_ref()),
            stage: rule.stage(self.judged_at()),
            since,
            changed,
            shut_out: if is_assessed { self.shut_out_by(id, &failing)? } else { Vec::new() },
            counts: parts.counts,
            by_platform: most_first(parts.platforms),
            by_group: most_first(parts.groups.into_iter().map(|(at, counts)| (named(at), counts))),
            unmet: parts.unmet,
            excepted: parts.excepted,
            response: project.rules.responses().of_rule(rule).map(|ladder| ladder.id.to_string()),
            access_rules: access_uses(project, rule, self.judged_at()),
            trend: self.rule_trend(rule, TREND)?,
            rule: rule.clone(),
        })
    }

    /// Goes through what a rule, by its position, says of each device.
    fn rule_parts(&self, at: usize, basis: RuleBasis) -> Result<RuleParts, EngineError> {
        let project = self.project;
        let (mut layout, groups) = (project.rules.layout().clone(), groups_of_devices(project));
        let platform = layout.want(PLATFORM, &project.dictionary);
        let gather = |device: &DeviceVerdictsAt<'_>| {
            let verdict = *device.of_rule(at)?;
            let is_reached = verdict.outcome != VerdictOutcome::NotApplicable;
            Some(Gathered {
                platform: if is_reached { device.shown(platform) } else { None },
                groups: if is_reached { groups_with(device, &groups) } else { Vec::new() },
                unmet: (!verdict.outcome.is_quiet()).then(|| UnmetOn::of(device, &verdict)),
                excepted: if verdict.excepted { ExceptedDevice::of(device, &verdict) } else { None },
                verdict,
            })
        };
        let source = match basis {
            RuleBasis::Assessed => VerdictSource::Assessment,
            RuleBasis::Draft | RuleBasis::New => VerdictSource::Evaluated,
        };
        let counts = RuleCount::of(&project.rules.rules()[at], self.at);
        let mut parts = RuleParts { counts, ..RuleParts::default() };
        let wanted = VerdictsWanted { source, of_rule: Some(at), layout: &layout, slots: &[platform] };
        self.each_with_verdicts(wanted, gather, |found: Option<Gathered>| {
            found.into_iter().for_each(|found| parts.add(found));
            Ok(())
        })?;
        Ok(parts)
    }

    /// Returns since when a rule, by its position, is as far in force as it is, and since when it judges as it does.
    fn rule_since(&self, at: usize) -> Result<(Option<Timestamp>, Option<Timestamp>), EngineError> {
        let Some(last) = &self.assessment else { return Ok((None, None)) };
        let rule = &self.project.rules.rules()[at];
        let as_far = |then: &Rule, now: &Rule| then.is_as_far_in_force_as(now);
        let same = |same: fn(&Rule, &Rule) -> bool| same_since(self.project, &self.reader, last.as_of, same);
        let in_force = same(as_far)?[at];
        let begun = rule.enforced_from.filter(|from| *from <= last.as_of);
        Ok((in_force.max(begun), same(|then, now| then.judges_as(now))?[at]))
    }

    /// Returns who is shut out of which service because of a rule that fails on some devices.
    fn shut_out_by(&self, rule: &str, devices: &BTreeSet<&str>) -> Result<Vec<ShutOut>, EngineError> {
        let is_it = |held: &CurrentDecision| held.is_denied_because(|cause| cause.rule.as_deref() == Some(rule));
        let denied = self.entries_on(devices, |_, held| is_it(held))?;
        let shut_out = denied.iter().filter(|entry| entry.calls_first()).filter_map(|entry| {
            Some(ShutOut {
                person: entry.person.as_deref()?.to_owned(),
                name: entry.contact.name.clone(),
                service: entry.service.to_string(),
                title: entry.service_title.to_string(),
            })
        });
        Ok(shut_out.collect::<BTreeSet<_>>().into_iter().collect())
    }
}

impl AccessUse {
    /// Tells of an access rule, as of a moment.
    pub(crate) fn of(project: &Project, rule: &AccessRule, at: Timestamp) -> Self {
        let services = project.rules.access().services().iter().enumerate();
        let own = services.filter(|(at, _)| rule.is_about(*at)).map(|(_, service)| service.title.clone());
        Self { id: rule.id.to_string(), stage: rule.stage(at), services: own.collect() }
    }
}

impl UnmetOn {
    pub(super) fn of(device: &DeviceVerdictsAt<'_>, verdict: &Verdict) -> Self {
        let finding = device.finding(verdict);
        Self {
            device: device.judged.input.id.to_owned(),
            holder: device.judged.holder_names(),
            outcome: verdict.outcome,
            proof: device.proof(verdict),
            awaiting: verdict.awaiting,
            phase: finding.map(|finding| finding.phase(device.at)),
            due: finding.map(|finding| finding.clock.due_at(device.at)),
            waiver: device.waiver(verdict),
        }
    }
}

impl ExceptedDevice {
    fn of(device: &DeviceVerdictsAt<'_>, verdict: &Verdict) -> Option<Self> {
        let session = device.judge.session(device.arena);
        let exception = device.judge.project.rules.exception(verdict.rule, &device.judged.input, session)?;
        Some(Self {
            device: device.judged.input.id.to_owned(),
            named: exception.name.clone(),
            because: exception.because.clone(),
            until: exception.until,
        })
    }
}

/// Returns the positions of the groups of devices, but for the one of all.
fn groups_of_devices(project: &Project) -> Vec<usize> {
    let groups = project.rules.groups().enumerate();
    groups
        .filter(|(_, group)| group.kind == GroupKind::Devices && group.id.as_str() != EVERY_DEVICE)
        .map(|(at, _)| at)
        .collect()
}

/// Returns those of some groups that a device belongs to.
fn groups_with(device: &DeviceVerdictsAt<'_>, groups: &[usize]) -> Vec<usize> {
    let memberships = device.memberships();
    groups.iter().copied().filter(|at| matches!(memberships[*at], Value::Boolean(true))).collect()
}

/// Returns parts with the most devices first.
fn most_first(counts: impl IntoIterator<Item = (Option<String>, RuleCount)>) -> Vec<RulePart> {
    let mut parts: Vec<RulePart> = counts.into_iter().map(|(name, counts)| RulePart { name, counts }).collect();
    parts.sort_by_key(|part| std::cmp::Reverse(part.counts.judged()));
    parts
}

/// Returns the access rules that ask for a rule, or how a device stands where the rule has a say in that.
fn access_uses(project: &Project, rule: &Rule, at: Timestamp) -> Vec<AccessUse> {
    let asking = project.rules.access().rules().iter().filter(|asking| asking.hangs_on(rule, at));
    asking.map(|asking| AccessUse::of(project, asking, at)).collect()
}
