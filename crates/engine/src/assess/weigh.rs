//! Evaluates and settles one device: takes what is known of it, and returns what is to be written. Reads and writes no ledger, so that
//! it can be done on several cores.

use std::borrow::Cow;
use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{
    CloseReason, DeviceId, DeviceInput, Finding, FindingEvent, Observation, Packer, Posture, Rule, SettleContext,
    SettleInput, Settled, Standing, Subject, Value, VerdictOutcome, Verdicts, Watch, is_by_waiver, moments_ahead,
    unpack,
};
use fencepost_formats::{JsonDocuments, assemble_in, thin_out};
use fencepost_store::{
    AssessedRow, Bodies, BodyUnpacker, DeviceBatch, DeviceRow, FactsRow, FindingRow, LedgerError, Spell,
};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::inputs::{Inputs, JudgedState};
use super::rule_set_diff::RuleSetDiff;
use crate::assess::decisions::usual_decisions;
use crate::assess::outlook::{ComingDecision, Outlook};
use crate::assess::sealed_verdicts::SealedVerdicts;
use crate::compare::results::differences_json;
use crate::facts::judge::{Judge, Judged, surroundings};
use crate::ledger_view::batch::Job;
use crate::ledger_view::codec::{self, DecisionKey, StoredDecision};
use crate::ledger_view::damage::{damaged, unreadable};
use crate::ledger_view::event::Event;
use crate::ledger_view::event::events_by_clock;
use crate::ledger_view::outcome::{Digest, Outcome, StandingDetail, bits, code_of, reported};
use crate::ledger_view::packed_findings::{pack_findings, unpack_findings};

/// How long most packs are, so that their buffers do not grow.
const LIKELY_PACK: usize = 1024;

/// What is to be written of a device.
pub(crate) struct Weighed {
    /// Facts by the number of their source, to be kept anew.
    pub packed: Vec<(i64, Vec<u8>)>,
    /// Volatile facts that the rules read, by source.
    pub volatile_parts: Vec<(String, Vec<u8>)>,
    /// Findings of an earlier life that ran, closed.
    pub over: FindingChanges,
    /// Its verdicts were taken from where they were worked out.
    pub taken: bool,
    pub result: DeviceResult,
}

/// What became of a device.
pub(crate) enum DeviceResult {
    /// Nothing that it is judged by has changed, nor has time changed anything; evaluated again or not.
    Same,
    /// It is retired.
    Retired,
    /// It was evaluated and settled.
    Settled(Box<DeviceUpdate>),
}

/// What is to be written of findings.
#[derive(Default)]
pub(crate) struct FindingChanges {
    /// Those that are not as they were.
    pub set: Vec<FindingRow>,
    /// What happened to them.
    pub events: Vec<Event>,
}

impl FindingChanges {
    fn of(earlier: &[Finding], settled: &Settled, run: i64) -> Self {
        let mut changes = Self::default();
        for finding in settled.findings.iter().filter(|now| !earlier.contains(now)) {
            let seen_again = |before: &Finding| {
                *finding
                    == Finding { evidence_at: finding.evidence_at, fingerprint: finding.fingerprint, ..before.clone() }
            };
            // That it was seen again in newer state is no new version of it, and is kept beside the device alone.
            if !earlier.iter().any(seen_again) {
                changes.set.push(codec::finding_row(finding, run));
            }
        }
        let transitions = settled.transitions.iter();
        changes.events.extend(transitions.map(|transition| Event::of_transition(transition, &settled.findings)));
        changes
    }

    /// Of findings that were closed, where the assessment before was at `before`.
    fn closed(findings: &[Finding], run: i64, before: Option<Timestamp>) -> Self {
        let mut changes = Self::default();
        for finding in findings {
            changes.set.push(codec::finding_row(finding, run));
            let Some((closed, reason)) = finding.clock.closed else { continue };
            if let Some(before) = before {
                let by_clock = events_by_clock(finding, before, closed);
                changes.events.extend(by_clock.map(|(at, event)| Event::of_finding(finding, at, event)));
            }
            changes.events.push(Event::of_finding(finding, closed, FindingEvent::Closed(reason)));
        }
        changes
    }
}

/// How a device came out.
pub(crate) struct DeviceUpdate {
    pub changes: FindingChanges,
    pub outcome: Outcome,
    /// What is kept of it, where it differs from what was kept before.
    pub row: Option<AssessedRow>,
    /// Verdicts that are no pass, decisions, and those who hold it or may come to by time alone; each where they differ from
    /// those before.
    pub verdicts: Option<Vec<Spell>>,
    pub standing: Option<Spell>,
    pub decisions: Option<Vec<(DecisionKey, StoredDecision)>>,
    /// Decisions that time alone will bring about; none where they are as before.
    pub coming: Option<Vec<ComingDecision>>,
    pub holders: Option<Vec<String>>,
}

impl DeviceUpdate {
    /// Of a device of which nothing is to be written.
    fn nothing(outcome: Outcome) -> Self {
        let changes = FindingChanges::default();
        Self {
            changes,
            outcome,
            row: None,
            verdicts: None,
            standing: None,
            decisions: None,
            coming: None,
            holders: None,
        }
    }
}

/// Weighs devices.
pub(crate) struct Weigher<'w> {
    pub judge: &'w Judge<'w>,
    pub inputs: &'w Inputs,
    pub run: i64,
    /// The moment of the assessment before, if there was one.
    pub before: Option<Timestamp>,
    /// Evaluate even what did not change.
    pub anew: bool,
    /// What devices came to before was by the same rules.
    pub same_rules: bool,
    /// What the rules have in common with those by which it was, where they are others.
    pub rule_set_diff: Option<&'w RuleSetDiff>,
    /// Verdicts that were worked out elsewhere.
    pub taken: Option<&'w SealedVerdicts>,
    /// Work out the decisions that time alone will bring about.
    pub looks_ahead: bool,
}

/// What a worker uses again and again.
pub(crate) struct WorkerScratch<'b> {
    arena: Bump,
    tools: DocumentTools<'b>,
}

/// What reads and packs one document after the other.
struct DocumentTools<'b> {
    packer: Packer,
    unpacker: BodyUnpacker<'b>,
    documents: JsonDocuments<'b>,
}

impl<'b> WorkerScratch<'b> {
    pub(crate) fn new(bodies: &'b Bodies) -> Self {
        let tools = DocumentTools {
            packer: Packer::default(),
            unpacker: bodies.unpacker(),
            documents: JsonDocuments::default(),
        };
        Self { arena: Bump::new(), tools }
    }
}

/// What each source said of a device, as the rules read it, with the packed facts that it was read from.
struct ReadFacts<'a> {
    observations: Vec<Observation<'a>>,
    packed: Vec<&'a [u8]>,
}

/// A device that was evaluated.
struct Evaluated<'a> {
    judged: &'a Judged<'a>,
    /// What each source said of it.
    observations: &'a [Observation<'a>],
    /// The digest of all that it is judged by.
    input: Vec<u8>,
    verdicts: Verdicts,
    /// The verdicts as they are kept.
    codes: Vec<u8>,
    watch: &'a Watch,
}

impl Weigher<'_> {
    /// Evaluates a device where that is needed, and weighs its verdicts against what was kept of it before.
    pub(crate) fn weigh(&self, scratch: &mut WorkerScratch<'_>, job: &Job<'_>) -> Result<Weighed, LedgerError> {
        scratch.arena.reset();
        let (arena, judge) = (&scratch.arena, self.judge);
        let (name, layout) = (job.device.name.as_str(), judge.project.rules.layout());
        let mut weighed = Weighed {
            packed: Vec::new(),
            volatile_parts: Vec::new(),
            over: FindingChanges::default(),
            taken: false,
            result: DeviceResult::Retired,
        };
        let facts = self.read_facts(job, arena, &mut scratch.tools, &mut weighed)?;
        if facts.observations.is_empty() {
            weighed.over = self.closed(&self.by_life(name, &job.facts, self.findings(job)?));
            return Ok(weighed);
        }
        let watch: &Watch = arena.alloc(Watch::default());
        let merged = arena.alloc(judge.merged(name, &facts.observations, layout, arena).watched(watch));
        let judged = judge.judged(name, merged, arena);
        let state = JudgedState { judge, judged: &judged, observations: &facts.observations, packed: &facts.packed };
        let input = self.inputs.of_device(&state);
        let before = job.before.as_ref();
        // What an earlier version kept does not say which groups the device belongs to.
        let is_whole = job.outcome().is_some_and(|before| before.groups.is_some());
        let holds = self.same_rules
            && is_whole
            && before.is_some_and(|before| before.input == input && judge.at < before.until);
        if holds && !self.anew {
            weighed.result = DeviceResult::Same;
            return Ok(weighed);
        }
        let sealed = self.taken.and_then(|sealed| sealed.of(self.inputs, &state));
        let verdicts = match sealed {
            Some((mut verdicts, until)) => {
                weighed.taken = true;
                until.into_iter().for_each(|until| watch.note(until));
                // Whoever sees one device after the other compares none.
                verdicts.all.extend(judge.verdicts_of_comparisons(&judged.input, arena).all);
                verdicts
            }
            None => judge.verdicts(&judged.input, arena),
        };
        let codes: Vec<u8> = verdicts.all.iter().map(code_of).collect();
        if holds && job.outcome().is_some_and(|before| before.verdicts == codes) {
            // The same verdicts by the same facts and rules: there is nothing to settle.
            weighed.result = DeviceResult::Same;
            return Ok(weighed);
        }
        let observations = &facts.observations;
        let evaluated = Evaluated { judged: &judged, observations, input, verdicts, codes, watch };
        if let Some(result) = self.unsettled_by_edit(job, &evaluated, &facts, arena) {
            weighed.result = result;
            return Ok(weighed);
        }
        let by_life = self.by_life(name, &job.facts, self.findings(job)?);
        weighed.over = self.closed(&by_life);
        weighed.result = DeviceResult::Settled(Box::new(self.settle(job, evaluated, by_life, arena)));
        Ok(weighed)
    }

    /// Reads what each source said of a device, from what is packed of it or else from its document; what is packed anew, and the
    /// volatile parts that the rules read no more, are added to what is to be written.
    fn read_facts<'a>(
        &self,
        job: &Job<'a>,
        arena: &'a Bump,
        tools: &mut DocumentTools<'_>,
        weighed: &mut Weighed,
    ) -> Result<ReadFacts<'a>, LedgerError>
    where
        Self: 'a,
    {
        let project = self.judge.project;
        let (name, layout) = (job.device.name.as_str(), project.rules.layout());
        let broken = |message: &str| damaged(project, name, message);
        let count = job.facts.len();
        let life = project.life_of(name, job.facts.iter().map(|said| (said.source, said.collected)), self.judge.at);
        let mut read = ReadFacts { observations: Vec::with_capacity(count), packed: Vec::with_capacity(count) };
        for said in &job.facts {
            let stored = job.documents.iter().find(|document| document.source == said.source);
            let stored = stored.map(|stored| stored.unpack(&mut tools.unpacker)).transpose()?;
            if let Some(stored) = &stored
                && let Some(volatile_parts) = &stored.volatile_parts
                && let Some(volatile_parts) = thin_out(&stored.body, volatile_parts, |path| self.inputs.reads(path))
            {
                weighed.volatile_parts.push((said.source.to_string(), volatile_parts));
            }
            if !life.includes(said.collected) {
                continue;
            }
            let (packed, slots): (&[u8], &[Value<'_>]) = match (said.packed, stored) {
                (Some(packed), _) => (
                    packed,
                    unpack(packed, layout, arena).ok_or_else(|| unreadable(project, name, "the packed facts"))?,
                ),
                (None, Some(stored)) => {
                    let document =
                        assemble_in(&stored.body, name, stored.collected, stored.volatile_parts.as_deref(), arena);
                    let document = tools.documents.read_in_place(document, layout, arena);
                    let document = document.map_err(|error| broken(&error.message))?;
                    let mut packed = Vec::with_capacity(LIKELY_PACK);
                    if !tools.packer.pack(document.slots, layout, &mut packed) {
                        return Err(broken("it holds what no document can"));
                    }
                    let kept = arena.alloc_slice_copy(&packed);
                    weighed.packed.push((said.number, packed));
                    (kept, document.slots)
                }
                (None, None) => return Err(broken("it is not there")),
            };
            read.observations.push(self.judge.observation(said.source, Some(said.collected), slots));
            read.packed.push(packed);
        }
        Ok(read)
    }

    /// Returns the findings of a device, those that closed among them.
    fn findings(&self, job: &Job<'_>) -> Result<Vec<Finding>, LedgerError> {
        let (project, name) = (self.judge.project, job.device.name.as_str());
        match &job.before {
            Some(before) => {
                unpack_findings(before.findings, name).ok_or_else(|| unreadable(project, name, "the findings"))
            }
            None => latest_of(job.findings).ok_or_else(|| unreadable(project, name, "a finding")),
        }
    }

    /// Returns what comes of a device where only the rules were edited, and none of those that were edited finds or found
    /// anything on it; none where its verdicts have to be settled.
    fn unsettled_by_edit(
        &self,
        job: &Job<'_>,
        evaluated: &Evaluated<'_>,
        facts: &ReadFacts<'_>,
        arena: &Bump,
    ) -> Option<DeviceResult> {
        let Evaluated { judged, input, verdicts, codes, watch, .. } = evaluated;
        let state = JudgedState { judge: self.judge, judged, observations: &facts.observations, packed: &facts.packed };
        let (diff, before, was) = (self.rule_set_diff?, job.before.as_ref()?, job.outcome()?);
        // Whether access comes back by itself may depend on any rule.
        let has_services = !self.judge.project.rules.access().services().is_empty();
        let is_unsettled = !has_services
            && self.judge.at < before.until
            && self.is_known(&state, &job.facts, input, before.input)
            && diff.keeps_as_settled(&was, codes)
            && (diff.in_order || kept_verdicts(self.judge, &judged.input, verdicts) == was.kept[0]);
        if !is_unsettled {
            return None;
        }
        let outcome = Outcome {
            kept: was.kept,
            standing: was.standing,
            covered: was.covered,
            stale: was.stale,
            by_waiver: was.by_waiver,
            verdicts: codes.clone(),
            groups: Some(groups_of(self.judge, judged, was.standing(), &self.findings(job).ok()?, arena)),
            reported: reported(judged),
        };
        // Which of the moments before came from rules that are gone, nobody knows any more.
        let until = watch.until().min(before.until);
        let valid_until = watch.until().min(before.valid_until);
        let same_moments = (until, valid_until) == (before.until, before.valid_until);
        if outcome.borrowed() == was && same_moments && *input == before.input {
            return Some(DeviceResult::Same);
        }
        let row = AssessedRow {
            input: input.clone(),
            until,
            valid_until: watch.until().min(before.valid_until),
            collected: before.collected,
            outcome: outcome.to_bytes(),
            findings: before.findings.to_vec(),
        };
        Some(DeviceResult::Settled(Box::new(DeviceUpdate { row: Some(row), ..DeviceUpdate::nothing(outcome) })))
    }

    /// Settles the verdicts of a device against its earlier findings, and decides who reaches what with it.
    fn settle<'a>(&'a self, job: &Job<'_>, evaluated: Evaluated<'a>, by_life: ByLife, arena: &'a Bump) -> DeviceUpdate {
        let Evaluated { judged, observations, input, mut verdicts, mut codes, watch } = evaluated;
        let ByLife { current: earlier, past, over: _ } = by_life;
        let (judge, project, name) = (self.judge, self.judge.project, job.device.name.as_str());
        let (rules, settings) = (project.rules.rules(), &project.config.settle_settings());
        let context = SettleContext { rules, settings, at: judge.at, before: self.before };
        let device = DeviceId::from(name);
        let newest = judged.input.facts.collected();
        let has_corrections = judge.corrections_of(name).next().is_some();
        let waivers = &judge.waivers(&judged.input, arena);
        let of = SettleInput { device: &device, verdicts: &verdicts, newest, has_corrections, waivers };
        let settled =
            context.settle(of, earlier.clone(), &mut |verdict| judge.evidence_summary(verdict, &judged.input, arena));
        for at in &settled.waived {
            verdicts.all[*at].waived = true;
            codes[*at] = code_of(&verdicts.all[*at]);
        }
        let running: Vec<&Finding> = settled.findings.iter().filter(|finding| finding.is_running()).collect();
        let findings = running.iter().copied();
        let by_waiver = is_by_waiver(settled.standing, findings, !settled.waived.is_empty(), judge.at);
        let posture =
            Posture { running: &running, covered: settled.covered, uncovered: project.config.uncovered_stands };
        let decisions = usual_decisions(judge, judged, posture, arena);
        let decided: Vec<Spell> = decisions.iter().map(|(key, decision)| decision.spell(key)).collect();
        let holders = judge.possible_holders(judged, observations).into_iter().map(Cow::into_owned);
        let holders: Vec<String> = holders.collect();
        let outcome = Outcome {
            standing: Standing::ALL.iter().position(|known| *known == settled.standing).unwrap_or(0) as u8,
            covered: settled.covered,
            stale: !judged.input.facts.is_fresh(),
            by_waiver,
            kept: [
                kept_verdicts(judge, &judged.input, &verdicts),
                digest(decided.iter().flat_map(|spell| [spell.subject.as_str(), &spell.value, &spell.detail])),
                digest(holders.iter().map(String::as_str)),
            ],
            verdicts: codes,
            groups: Some(groups_of(judge, judged, settled.standing, &settled.findings, arena)),
            reported: reported(judged),
        };
        let next_due = moments_ahead(&settled.findings, judge.at).into_iter().next();
        let next_retirement = project.lifecycles.next_retirement(name, judge.at).map(|retirement| retirement.from);
        let by_clock = [next_due, next_retirement, waivers.next_change(judge.at)].into_iter().flatten().min();
        let by_clock = by_clock.unwrap_or(Timestamp::MAX);
        let outlook = Outlook { judge, device: name, observations, findings: &settled.findings };
        let coming = if self.looks_ahead { outlook.coming(&decisions, arena) } else { Vec::new() };
        let row = AssessedRow {
            input,
            valid_until: watch.until(),
            until: watch.until().min(by_clock),
            collected: project.rules.state_collected(&verdicts.all, judged.input.facts, judge.at),
            outcome: outcome.to_bytes(),
            findings: pack_findings(&with_past(&settled.findings, past)),
        };
        let was = job.outcome();
        let differs = |which: usize| was.is_none_or(|was| was.kept[which] != outcome.kept[which]);
        let stands = |outcome: &Outcome<&[u8]>| (outcome.standing, outcome.covered, outcome.by_waiver);
        let stands_otherwise = was.is_none_or(|was| stands(&was) != stands(&outcome.borrowed()));
        DeviceUpdate {
            verdicts: differs(0)
                .then(|| failing(judge, &judged.input, &verdicts).map(|failing| failing.spell(judge.at)).collect()),
            decisions: differs(1).then_some(decisions),
            coming: (job.before.is_some() || !coming.is_empty()).then_some(coming),
            holders: differs(2).then_some(holders),
            standing: stands_otherwise.then(|| Spell {
                subject: String::new(),
                value: settled.standing.as_str().to_owned(),
                detail: StandingDetail { covered: settled.covered, by_waiver }.text().to_owned(),
            }),
            row: (job.before.as_ref() != Some(&row.borrowed())).then_some(row),
            changes: FindingChanges::of(&earlier, &settled, self.run),
            outcome,
        }
    }

    /// Whether what a device is judged by, besides the rules, is what it was; where the rules read other paths now, by the facts
    /// as the earlier ones read them.
    fn is_known(&self, state: &JudgedState<'_, '_>, facts: &[FactsRow<'_>], input: &[u8], before: &[u8]) -> bool {
        if self
            .rule_set_diff
            .is_none_or(|rule_set_diff| rule_set_diff.layout_fingerprint == self.inputs.layout_fingerprint)
        {
            return input == before;
        }
        let earlier = |said: &Observation<'_>| {
            facts.iter().find(|row| row.source == said.source && Some(row.collected) == said.collected)?.earlier
        };
        let earlier: Option<Vec<&[u8]>> = state.observations.iter().map(earlier).collect();
        earlier.is_some_and(|packed| self.inputs.of_device(&JudgedState { packed: &packed, ..*state }) == before)
    }

    fn closed(&self, by_life: &ByLife) -> FindingChanges {
        FindingChanges::closed(&by_life.over, self.run, self.before)
    }

    /// Separates the findings of a device that was retired and came back by its lifecycles.
    fn by_life(&self, device: &str, facts: &[FactsRow<'_>], findings: Vec<Finding>) -> ByLife {
        let Some(retirement) = self.judge.project.lifecycles.last_retirement(device, self.judge.at) else {
            return ByLife { current: findings, past: Vec::new(), over: Vec::new() };
        };
        let project = self.judge.project;
        let current = facts.iter().map(|said| (said.source, said.collected));
        let alive = !project.life_of(device, current, self.judge.at).is_over();
        let (current, mut past): (Vec<Finding>, Vec<Finding>) =
            findings.into_iter().partition(|finding| alive && finding.clock.opened > retirement.from);
        // A retirement that is entered late closes findings no earlier than the last assessment saw them run.
        let is_news = self.before.is_none_or(|before| retirement.from > before);
        let closed = if is_news { retirement.from } else { self.judge.at };
        let mut over = Vec::new();
        for finding in past.iter_mut().filter(|finding| finding.is_running()) {
            finding.clock.closed = Some((closed, CloseReason::Retired));
            finding.failing_since = None;
            over.push(finding.clone());
        }
        ByLife { current, past, over }
    }
}

/// Returns a bit for each group, whether a device that stands so, with these findings, belongs to it.
fn groups_of(
    judge: &Judge<'_>,
    judged: &Judged<'_>,
    standing: Standing,
    findings: &[Finding],
    arena: &Bump,
) -> Vec<u8> {
    let ambient = surroundings(Some(standing), findings, judge.at, arena);
    let memberships = judge.project.rules.memberships_of_device(&judged.input, ambient, judge.session(arena));
    bits(memberships.iter().map(|value| matches!(value, Value::Boolean(true))))
}

/// The findings of a device, by its lifecycles.
struct ByLife {
    /// Those of the life it leads.
    current: Vec<Finding>,
    /// Those of lifecycles that are over, all of them closed.
    past: Vec<Finding>,
    /// Of the past, those that are closed only now.
    over: Vec<Finding>,
}

/// Returns the latest finding of each subject, whichever life it is of: a retirement may be taken back.
fn with_past(settled: &[Finding], past: Vec<Finding>) -> Vec<Finding> {
    let is_followed = |past: &Finding| settled.iter().any(|finding| finding.subject == past.subject);
    let mut all: Vec<Finding> = past.into_iter().filter(|past| !is_followed(past)).collect();
    all.extend_from_slice(settled);
    all
}

/// Returns the latest finding of each subject; by the order of the ledger, the last one opened. None where one cannot be read.
fn latest_of(rows: &[FindingRow]) -> Option<Vec<Finding>> {
    let mut latest: BTreeMap<Subject, Finding> = BTreeMap::new();
    for row in rows {
        let finding = codec::finding(row)?;
        latest.insert(finding.subject.clone(), finding);
    }
    Some(latest.into_values().collect())
}

/// A verdict that is no pass.
struct FailingVerdict<'v> {
    rule: &'v Rule,
    outcome: VerdictOutcome,
    /// How the device differs, where the rule is of a set.
    differences: Option<Json>,
}

impl FailingVerdict<'_> {
    /// Returns why it is unknown.
    fn reason(&self) -> Option<&'static str> {
        match self.outcome {
            VerdictOutcome::Unknown(reason) => Some(reason.as_str()),
            VerdictOutcome::Pass | VerdictOutcome::Fail | VerdictOutcome::NotApplicable => None,
        }
    }

    fn spell(&self, at: Timestamp) -> Spell {
        let reason = self.reason();
        let mut detail = json!({ "reason": reason, "stage": self.rule.stage(at).as_str() });
        if let Some(differences) = &self.differences {
            detail["differs"] = differences.clone();
        }
        let (subject, value) = (self.rule.id.to_string(), self.outcome.as_str().to_owned());
        Spell { subject, value, detail: detail.to_string() }
    }
}

/// Returns the verdicts that are no pass.
fn failing<'v>(
    judge: &'v Judge<'_>,
    input: &DeviceInput<'v>,
    verdicts: &'v Verdicts,
) -> impl Iterator<Item = FailingVerdict<'v>> {
    let (rules, drift) = (judge.project.rules.rules(), input.drift.unwrap_or_default());
    verdicts.all.iter().filter(|verdict| !verdict.outcome.is_quiet()).map(|verdict| {
        let rule = &rules[verdict.rule];
        let found = rule.compared_set().and_then(|set| drift.iter().find(|one| one.set == set));
        let differences = found.filter(|_| verdict.outcome == VerdictOutcome::Fail);
        let differences = differences.and_then(|found| differences_json(&found.outcome));
        FailingVerdict { rule, outcome: verdict.outcome, differences }
    })
}

/// Returns a digest of the verdicts that are no pass.
fn kept_verdicts(judge: &Judge<'_>, input: &DeviceInput<'_>, verdicts: &Verdicts) -> Digest {
    let texts = failing(judge, input, verdicts).flat_map(|failing| {
        // What is kept of a comparison is read back, so why it is unknown counts too.
        let reason = failing.reason().filter(|_| failing.rule.compared_set().is_some()).map(Cow::Borrowed);
        let differences = failing.differences.map(|differences| Cow::Owned(differences.to_string()));
        [Cow::Borrowed(failing.rule.id.as_str()), Cow::Borrowed(failing.outcome.as_str())]
            .into_iter()
            .chain(reason)
            .chain(differences)
    });
    digest(texts)
}

fn digest(texts: impl IntoIterator<Item = impl AsRef<str>>) -> Digest {
    let mut hash = blake3::Hasher::new();
    for text in texts {
        let text = text.as_ref();
        hash.update(&text.len().to_le_bytes());
        hash.update(text.as_bytes());
    }
    let whole = hash.finalize();
    std::array::from_fn(|at| whole.as_bytes()[at])
}

/// Whether a device that is looked at again has to be read from its documents too.
pub(crate) fn needs_documents(device: &DeviceRow, held: &DeviceBatch, at: usize) -> bool {
    held.facts(at).any(|said| said.packed.is_none() || device.dirty && said.has_volatile_parts)
}

impl Job<'_> {
    /// Returns what the device came to before.
    pub(crate) fn outcome(&self) -> Option<Outcome<&[u8]>> {
        Outcome::from_bytes(self.before.as_ref()?.outcome)
    }
}
