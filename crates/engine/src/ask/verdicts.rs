//! The one way through the verdicts of an assessment, device by device: what each comes from, and what follows from it.

use std::collections::HashSet;

use bumpalo::Bump;
use fencepost_core::{
    Evidence, FactUse, Facts, Finding, Layout, Rule, SlotId, Stage, Standing, Subject, Value, Verdict, VerdictOutcome,
};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::facts::judge::{Judge, Judged, surroundings};
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::outcome::verdict_of;
use crate::ledger_view::reading::Reading;

/// Where verdicts come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum VerdictSource {
    /// The assessment, with the facts that it knew.
    Assessment,
    /// The assessment; facts may be newer.
    AssessmentWithNewerFacts,
    /// The rules, which are evaluated now: of drafts no assessment has verdicts.
    Evaluated,
}

/// Which verdicts are gone through.
#[derive(Clone, Copy)]
pub(crate) struct VerdictsWanted<'w> {
    pub source: VerdictSource,
    /// The rule that is asked about, by its position, where it is one: of others there is no proof.
    pub of_rule: Option<usize>,
    /// The layout of the facts beside them; it begins with the slots of the rules.
    pub layout: &'w Layout,
    /// Facts that are looked at besides those of the rules.
    pub slots: &'w [SlotId],
}

/// A device with its verdicts.
pub(crate) struct DeviceVerdictsAt<'a> {
    pub judge: &'a Judge<'a>,
    pub judged: &'a Judged<'a>,
    /// In the order of the rules; those of drafts are left out.
    pub verdicts: Vec<Verdict>,
    /// How it stands.
    pub standing: Option<Standing>,
    /// Its findings that run.
    running: Vec<Finding>,
    /// The moment of reading.
    pub at: Timestamp,
    pub arena: &'a Bump,
}

/// What an assessment came to on a device.
struct Posture {
    verdicts: Vec<Verdict>,
    standing: Option<Standing>,
    running: Vec<Finding>,
}

/// What is found of a device on the way.
enum Found<T> {
    Told(T),
    /// Something came in of it since the assessment: it is told by what the assessment knew.
    Outdated {
        device: String,
        posture: Posture,
    },
    /// It came in after the assessment and is not judged yet.
    NotJudged,
}

impl Reading<'_> {
    /// Goes through the assessed devices in the order of their ids. `tell` is done on several cores; `take` is given what it tells.
    ///
    /// # Errors
    /// When the ledger cannot be read, or with the first error of `take`.
    pub(crate) fn each_with_verdicts<T: Send>(
        &self,
        wanted: VerdictsWanted<'_>,
        tell: impl Fn(&DeviceVerdictsAt<'_>) -> T + Sync,
        mut take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let VerdictsWanted { source, of_rule, layout, slots } = wanted;
        let rules = self.project.rules.rules();
        let judged_by: Vec<usize> = (0..rules.len()).filter(|at| !rules[*at].is_draft()).collect();
        self.load_comparisons()?;
        let (posture, at) = (self.posture(), self.at);
        let judge = match source {
            VerdictSource::Evaluated => self.judge().as_of(at),
            VerdictSource::Assessment | VerdictSource::AssessmentWithNewerFacts => self.judge(),
        };
        let (is_of_now, is_evaluated) = (self.run.is_none(), source == VerdictSource::Evaluated);
        let outdated: HashSet<i64> = match source {
            VerdictSource::Assessment if is_of_now => self.reader.changed_devices()?,
            _ => HashSet::new(),
        };
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let judged = judge.judged(&job.device.name, facts, arena);
            let verdicts = match job.outcome().filter(|_| !is_evaluated) {
                Some(outcome) => {
                    let codes = judged_by.iter().zip(outcome.verdicts);
                    codes.map(|(rule, code)| verdict_of(*rule, *code)).collect()
                }
                None if is_of_now && !is_evaluated => return Ok(Found::NotJudged),
                None => evaluated(&judge, &judged, arena),
            };
            let standing = posture.standing(job)?.map(|found| found.standing);
            let posture = Posture { verdicts, standing, running: posture.running(job)? };
            if outdated.contains(&job.device.number) {
                return Ok(Found::Outdated { device: job.device.name.clone(), posture });
            }
            Ok(Found::Told(tell(&posture.of(&judge, &judged, at, arena))))
        };
        // Verdicts are found again, and proved, from what the rules read; of what is kept no fact is needed.
        let is_kept = is_of_now && !is_evaluated;
        let mut all = match of_rule.filter(|_| is_kept) {
            Some(rule) => self.project.rules.slots_of_rule(rule),
            None => self.project.rules.slots_of_rules(),
        };
        all.extend(slots);
        let wanted = match source {
            VerdictSource::AssessmentWithNewerFacts if is_of_now => Wanted::whole(layout, slots),
            _ => Wanted::as_read(layout, &all),
        };
        self.with_facts(&judge, wanted, look, |found| match found {
            Found::Told(told) => take(told),
            Found::NotJudged => Ok(()),
            Found::Outdated { device, posture } => {
                let (judge, arena) = (self.assessing_judge(), Bump::new());
                let documents = self.assessed_documents(&device)?;
                let facts = judge.facts(&device, &documents, layout, &arena)?;
                let judged = judge.judged(&device, facts, &arena);
                take(tell(&posture.of(&judge, &judged, at, &arena)))
            }
        })
    }
}

impl Posture {
    fn of<'a>(
        self,
        judge: &'a Judge<'a>,
        judged: &'a Judged<'a>,
        at: Timestamp,
        arena: &'a Bump,
    ) -> DeviceVerdictsAt<'a> {
        let Self { verdicts, standing, running } = self;
        DeviceVerdictsAt { judge, judged, verdicts, standing, running, at, arena }
    }
}

impl<'a> DeviceVerdictsAt<'a> {
    /// Returns the rule of a verdict.
    pub(crate) fn rule(&self, verdict: &Verdict) -> &'a Rule {
        &self.judge.project.rules.rules()[verdict.rule]
    }

    /// Returns the verdict of a rule, by its position; none of a draft.
    pub(crate) fn of_rule(&self, rule: usize) -> Option<&Verdict> {
        self.verdicts.iter().find(|verdict| verdict.rule == rule)
    }

    /// Returns the finding whose clock runs for a verdict: of an unknown that of the silence, else that of its rule.
    pub(crate) fn finding(&self, verdict: &Verdict) -> Option<&Finding> {
        let rule = self.rule(verdict);
        if rule.stage(self.judge.at) != Stage::Enforced || verdict.outcome.is_quiet() {
            return None;
        }
        let of_rule = |finding: &&Finding| matches!(&finding.subject, Subject::Rule(id) if *id == rule.id);
        let is_silence = |finding: &&Finding| finding.subject == Subject::Silence && rule.is_left_open(verdict.outcome);
        self.running.iter().find(is_silence).or_else(|| self.running.iter().find(of_rule))
    }

    /// Returns the waiver that covers what a verdict says, and when it ends.
    pub(crate) fn waiver(&self, verdict: &Verdict) -> Option<(String, Timestamp)> {
        if !verdict.waived {
            return None;
        }
        let waivers = self.judge.waivers(&self.judged.input, self.arena);
        waivers.running_for_rule(verdict.rule, self.at).map(|waiver| (waiver.id.to_string(), waiver.ends()))
    }

    /// Returns for each group whether the device belongs to it.
    pub(crate) fn memberships(&self) -> &'a [Value<'a>] {
        let rules = &self.judge.project.rules;
        let ambient = surroundings(self.standing, &self.running, self.at, self.arena);
        rules.memberships_of_device(&self.judged.input, ambient, self.judge.session(self.arena))
    }

    /// Returns what a verdict comes from.
    pub(crate) fn proof(&self, verdict: &Verdict) -> ProofLine {
        let evidence = self.judge.prove(verdict, &self.judged.input, self.arena);
        // The rule of a set does not say which fact it is about.
        let names_fact = self.rule(verdict).compared_set().is_some();
        ProofLine::of(&evidence, names_fact, self.at)
    }

    /// Returns the value of a fact, as shown; none where it is not known.
    pub(crate) fn shown(&self, slot: SlotId) -> Option<String> {
        match self.judged.input.facts.slot(slot).value {
            Value::Unknown(_) | Value::Null => None,
            known => Some(known.show()),
        }
    }
}

/// Returns what the rules say of a device; what a waiver covers is waived.
fn evaluated<'a>(judge: &'a Judge<'a>, judged: &Judged<'a>, arena: &'a Bump) -> Vec<Verdict> {
    let mut verdicts = judge.verdicts(&judged.input, arena).all;
    let waivers = judge.waivers(&judged.input, arena);
    let rules = judge.project.rules.rules();
    for verdict in verdicts.iter_mut().filter(|verdict| !verdict.outcome.is_quiet()) {
        let counts = rules[verdict.rule].stage(judge.at) == Stage::Enforced;
        verdict.waived = counts && waivers.running_for_rule(verdict.rule, judge.at).is_some();
    }
    verdicts
}

/// What a verdict comes from, in a line.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProofLine {
    /// What was observed, as shown.
    pub observed: Option<String>,
    /// What is required, as shown.
    pub required: Option<String>,
    /// The source of the fact that was looked at.
    pub source: Option<String>,
    /// How old the newest fact of it is: a duration of ISO 8601.
    pub age: Option<String>,
}

impl ProofLine {
    /// Puts it in a line; `names_fact` where the rule does not say which fact it is about.
    pub(crate) fn of(evidence: &Evidence, names_fact: bool, at: Timestamp) -> Self {
        let headline = evidence.headline_parts();
        let item = headline.item.map(|item| format!("{item}: ")).unwrap_or_default();
        let fact = if names_fact { format!("{} is ", headline.subject) } else { String::new() };
        let more = if headline.more > 0 { format!(" (and {} more)", headline.more) } else { String::new() };
        let mut source = None;
        evidence.for_each_fact(&mut |fact: &FactUse| source = source.take().or_else(|| fact.source.clone()));
        Self {
            observed: Some(format!("{item}{fact}{}{more}", headline.found)).filter(|observed| !observed.is_empty()),
            required: headline.required,
            source,
            age: evidence.collected().map(|collected| at.duration_since(collected).to_string()),
        }
    }
}

/// Returns whether a verdict says that a rule does not cover the device.
pub(crate) fn is_spared(verdict: &Verdict) -> bool {
    verdict.outcome == VerdictOutcome::NotApplicable
}
