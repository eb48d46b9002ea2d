//! Assesses the fleet: evaluates every device about which something may have changed, weighs the verdicts against earlier
//! findings, decides who reaches what, and writes all of it in one transaction.
//!
//! A device is evaluated again when what it is judged by has changed ([`inputs`]), or when the moment has come at which time alone
//! may change what it came to. Everything else stays as it was, and costs nothing.

pub(crate) mod conflicts;
mod counts;
pub(crate) mod decisions;
pub(crate) mod inputs;
pub(crate) mod outlook;
mod report;
mod rule_set_diff;
pub(crate) mod sealed_verdicts;
mod service_tally;
pub(crate) mod sign_in_context;
pub(crate) mod stateless;
pub(crate) mod tally;
pub(crate) mod weigh;

use std::collections::{BTreeMap, HashSet};

use fencepost_core::{Standing, join_unknown};
use fencepost_store::{
    ComingRow, DeviceRow, LayoutFingerprints, Ledger, LedgerError, Look, PackedFacts, RunKind, RunRow, Spell,
    SpellKind, Writer,
};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

pub(crate) use counts::FixesByRule;
pub use counts::{FindingCounts, GroupCounts, RuleCount, StandingCounts};
pub use report::{Assessed, FindingLine, LinePhase};
pub use service_tally::ServiceFigures;
pub(crate) use service_tally::service_row;

use crate::assess::outlook::ComingDecision;
use crate::assess::sealed_verdicts::SealedVerdicts;
use crate::compare::results::{Comparisons, DriftResults, Since};
use crate::error::EngineError;
use crate::facts::documents::hide_new_secrets;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::batch::{Batch, DEVICES, DeviceStanding, Job};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::event::{Event, EventKind};
use crate::ledger_view::packed_findings::count_running;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::renames::{RULES, apply_renamings};
use crate::workers::{AHEAD, Workers, cores, handed_out};
use crate::workspace::ledger::Moment;
use crate::workspace::project::Project;
use inputs::Inputs;
use report::Happened;
use rule_set_diff::RuleSetDiff;
use service_tally::ServiceTally;
use tally::{Counted, Tally};
use weigh::{DeviceResult, DeviceUpdate, FindingChanges, Weighed, Weigher, WorkerScratch, needs_documents};

/// Which workspace it was of.
const WORKSPACE: &str = "assessed_workspace";
/// From when on time alone may change who belongs to which groups of people.
const PEOPLE_UNTIL: &str = "people_until";

/// How to assess.
#[derive(Clone, Copy, Debug, Default)]
pub struct AssessOptions<'v> {
    /// Evaluate every device, whether or not anything about it has changed.
    pub anew: bool,
    /// On how many cores; none: on all that there are.
    pub workers: Option<usize>,
    /// Verdicts that were worked out elsewhere; they are taken where they are what would be worked out here.
    pub verdicts: Option<&'v SealedVerdicts>,
}

/// Assesses the devices of the ledger. `progress` is told how many of those to be looked at are done, and how many they are.
///
/// # Errors
/// When the ledger cannot be written, or the moment lies before the last assessment; then nothing is changed.
pub fn assess(
    project: &Project,
    ledger: &mut Ledger,
    moment: &Moment,
    options: AssessOptions<'_>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Assessed, EngineError> {
    let (assessed, hidden) = assess_and_commit(project, ledger, moment, options, progress)?;
    if hidden > 0 {
        ledger.compact()?;
    }
    Ok(assessed)
}

/// Also tells how many documents were written again, since something in them is secret now.
fn assess_and_commit(
    project: &Project,
    ledger: &mut Ledger,
    moment: &Moment,
    options: AssessOptions<'_>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<(Assessed, u64), EngineError> {
    let writer = ledger.writer("assess")?;
    let UncommittedAssessment { writer, assessed, hidden } = assess_within(project, writer, moment, options, progress)?;
    if !assessed.existing {
        writer.commit()?;
    }
    Ok((assessed, hidden))
}

/// An assessment that was written and can still be dropped.
pub(crate) struct UncommittedAssessment<'l> {
    /// Holds the transaction.
    pub writer: Writer<'l>,
    pub assessed: Assessed,
    /// How many documents were written again, since something in them is secret now.
    pub hidden: u64,
}

/// Assesses, and leaves to the caller whether it is to stay.
pub(crate) fn assess_within<'l>(
    project: &Project,
    mut writer: Writer<'l>,
    moment: &Moment,
    options: AssessOptions<'_>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<UncommittedAssessment<'l>, EngineError> {
    let at = moment.as_of;
    let last = writer.reader().assessments(None, 1)?.into_iter().next();
    if let Some(assessed) = standing_assessment(project, &writer, last.as_ref(), at, options.anew)? {
        return Ok(UncommittedAssessment { writer, assessed, hidden: 0 });
    }
    if !writer.reader().has_devices()? {
        return Err(EngineError::refused(
            "there is no device to assess",
            "bring state in first: fencepost import FILE",
        ));
    }
    let run = writer.begin_run(&moment.run(RunKind::Assess, Some(&project.digest)))?;
    writer.keep_rule_set(&project.digest, &project.text())?;
    let hidden = hide_new_secrets(&mut writer, project, &project.secret_key()?)?;
    apply_renamings(&mut writer, project, run, at)?;
    let inputs = Inputs::of(project);
    let Plan { tally, services, look, anew, same_rules } =
        plan(&writer, project, &inputs, last.as_ref().filter(|_| !options.anew), at)?;
    let devices = writer.reader().devices(look)?;
    let summary = last.as_ref().and_then(summary_of).filter(|_| look != Look::All);
    let since = Since { summary: summary.as_ref(), changed: &devices, results: None };
    let comparisons = Reading::of_now(project, writer.reader(), at)?.comparisons(&since)?;
    let devices = with_compared(devices, look, &comparisons);
    let mut pass = Pass {
        project,
        run,
        at,
        before: last.as_ref().map(|last| last.as_of),
        inputs: &inputs,
        anew,
        same_rules,
        first: !writer.reader().has_spells()?,
        rule_set_diff: if same_rules { None } else { rule_set_diff(&writer, project, last.as_ref(), at)? },
        drift: &comparisons.results,
        writer,
        tally,
        services,
        seen: 0,
        total: devices.len() as u64,
        taken: 0,
        batches: Vec::new(),
        progress,
    };
    if !devices.is_empty() {
        pass.assess_devices(devices, options)?;
    }
    let Pass { writer, mut tally, mut services, taken, total, .. } = pass;
    writer.clear_dirty()?;
    writer.set_setting(RULES, &inputs.rules)?;
    writer.set_setting(WORKSPACE, &inputs.workspace)?;
    tally.find_collected(&writer.reader())?;
    services.finish(project, &writer.reader())?;
    let mut summary = tally.summary(project, last.as_ref().map(|last| last.as_of));
    let happened = Happened::read(project, &writer.reader(), run, at)?;
    services.add_to(&mut summary);
    summary["findings"] = json!(happened.counts);
    summary["fixes"] = json!(happened.fixes);
    if let Some(compared) = comparisons.to_json() {
        summary["drift"] = compared;
    }
    writer.end_run(run, &summary.to_string())?;
    let written = writer
        .reader()
        .run(run)?
        .ok_or_else(|| EngineError::refused("the assessment was not written", "run it again"))?;
    let mut assessed = Assessed::with(project, &written, happened)?;
    let mut warnings = assessed.unknown_everywhere(project);
    warnings.extend(tally.unreported(project, &writer)?);
    assessed.warnings = join_unknown(warnings);
    assessed.warnings.extend(comparisons.warnings);
    assessed.warnings.extend(conflicts::conflicts(project, &writer.reader())?);
    assessed.taken = options.verdicts.map(|_| (taken, total));
    Ok(UncommittedAssessment { writer, assessed, hidden })
}

/// Returns how many packed findings are overdue at a moment; none where they cannot be read, which the worker has told by then.
fn count_overdue(findings: &[u8], at: Timestamp) -> u64 {
    count_running(findings, at).map_or(0, |counts| counts.overdue as u64)
}

/// Returns the last assessment, where it is of the same moment and nothing is new since.
///
/// # Errors
/// Fails if the moment lies before it.
fn standing_assessment(
    project: &Project,
    writer: &Writer<'_>,
    last: Option<&RunRow>,
    at: Timestamp,
    anew: bool,
) -> Result<Option<Assessed>, EngineError> {
    let Some(last) = last else { return Ok(None) };
    if at < last.as_of {
        let (number, as_of) = (last.number.unwrap_or(0), last.as_of);
        return Err(EngineError::refused(
            format!("assessments never go back in time: assessment {number} is as of {as_of}"),
            "give a later --as-of, or none",
        ));
    }
    let same = at == last.as_of && last.rule_set.as_deref() == Some(&project.digest) && !anew;
    if !same || writer.reader().imports_after(last.id)? > 0 {
        return Ok(None);
    }
    Ok(Some(Assessed { existing: true, ..Assessed::load(project, &writer.reader(), last)? }))
}

/// Adds the devices of which a comparison says something else now, though nothing came in of them.
fn with_compared(mut devices: Vec<DeviceRow>, look: Look, comparisons: &Comparisons) -> Vec<DeviceRow> {
    if look == Look::All || comparisons.changed.is_empty() {
        return devices;
    }
    let known: HashSet<i64> = devices.iter().map(|device| device.number).collect();
    devices.extend(comparisons.changed.iter().filter(|device| !known.contains(&device.number)).cloned());
    devices.sort_by(|a, b| a.name.cmp(&b.name));
    devices.dedup_by_key(|device| device.number);
    devices
}

/// What an assessment sets out to do.
struct Plan {
    /// What is counted already.
    tally: Tally,
    services: ServiceTally,
    look: Look,
    /// Devices are evaluated whether or not they changed, and counted from nothing.
    anew: bool,
    /// The last assessment went by the same rules.
    same_rules: bool,
}

/// Reads the summary of a run.
pub(crate) fn summary_of(run: &RunRow) -> Option<Json> {
    serde_json::from_str(&run.summary).ok()
}

fn plan(
    writer: &Writer<'_>,
    project: &Project,
    inputs: &Inputs,
    last: Option<&RunRow>,
    at: Timestamp,
) -> Result<Plan, EngineError> {
    let reader = writer.reader();
    let is_now = |key: &str, now: &str| Ok::<_, LedgerError>(reader.setting(key)?.as_deref() == Some(now));
    let same_rules = is_now(RULES, &inputs.rules)?;
    let counted = last
        .and_then(summary_of)
        .and_then(|summary| Some((Tally::after(project, &summary, at)?, ServiceTally::after(&summary)?)));
    let Some((tally, services)) = counted.filter(|_| same_rules) else {
        let (tally, services) = (Tally::new(project, at), ServiceTally::anew());
        return Ok(Plan { tally, services, look: Look::All, anew: true, same_rules });
    };
    let people_until = reader.setting(PEOPLE_UNTIL)?.and_then(|text| text.parse::<i64>().ok());
    let stays = is_now(WORKSPACE, &inputs.workspace)? && people_until.is_some_and(|until| at.as_microsecond() < until);
    Ok(Plan { tally, services, look: if stays { Look::Changed(at) } else { Look::All }, anew: false, same_rules })
}

/// Returns what the rules have in common with those by which devices came to what is kept of them; none where that is not known.
fn rule_set_diff(
    writer: &Writer<'_>,
    project: &Project,
    last: Option<&RunRow>,
    at: Timestamp,
) -> Result<Option<RuleSetDiff>, EngineError> {
    let reader = writer.reader();
    let Some(digest) = last.and_then(|last| last.rule_set.as_deref()) else { return Ok(None) };
    let text = reader.rule_set(digest)?;
    let Some(earlier) = text.and_then(|text| Project::from_text(&project.root, &text)) else { return Ok(None) };
    // By another version of the program, or other time-zone data, the same rules may say something else.
    let is_it = reader.setting(RULES)?.as_deref() == Some(&*Inputs::of(&earlier).rules);
    Ok(if is_it { RuleSetDiff::of(&earlier, project, at) } else { None })
}

/// One run of an assessment over the devices.
struct Pass<'a, 'l> {
    project: &'a Project,
    run: i64,
    /// The moment that is judged by.
    at: Timestamp,
    /// The moment of the assessment before, if there was one.
    before: Option<Timestamp>,
    inputs: &'a Inputs,
    /// Counting began afresh.
    anew: bool,
    /// The rules are those of the last assessment.
    same_rules: bool,
    /// Nothing ever held of any device.
    first: bool,
    /// How the rules differ from those of the last assessment, where that is known and they do.
    rule_set_diff: Option<RuleSetDiff>,
    /// What comparisons say of devices.
    drift: &'a DriftResults,
    writer: Writer<'l>,
    tally: Tally,
    services: ServiceTally,
    seen: u64,
    total: u64,
    /// Of how many devices verdicts were taken that were worked out elsewhere.
    taken: u64,
    /// Those that came back.
    batches: Vec<Batch>,
    progress: &'a mut dyn FnMut(u64, u64),
}

impl Pass<'_, '_> {
    /// Evaluates devices on the workers, and writes what each came to.
    fn assess_devices(&mut self, devices: Vec<DeviceRow>, options: AssessOptions<'_>) -> Result<(), EngineError> {
        let people = People::load(&self.writer.reader(), None, self.project, self.at)?;
        let judge = Judge::new(self.project, &people, self.at).with_comparisons(self.drift);
        let bodies = self.writer.reader().bodies()?;
        let rule_set_diff = self.rule_set_diff.take();
        let now = self.inputs.layout_fingerprint;
        let earlier = rule_set_diff.as_ref().map(|diff| diff.layout_fingerprint).filter(|earlier| *earlier != now);
        let layout_fingerprints = LayoutFingerprints { now, earlier };
        let weigher = Weigher {
            judge: &judge,
            inputs: self.inputs,
            run: self.run,
            before: self.before,
            anew: self.anew,
            same_rules: self.same_rules,
            rule_set_diff: rule_set_diff.as_ref(),
            taken: options.verdicts,
            looks_ahead: true,
        };
        let mut devices = devices.into_iter();
        // A few devices are not worth a thread.
        let workers = if self.total <= DEVICES as u64 { 1 } else { cores(options.workers) };
        handed_out(
            self,
            Workers { count: workers, ahead: AHEAD, prepare: || WorkerScratch::new(&bodies) },
            |pass| {
                let mut batch = pass.batches.pop().unwrap_or_default().of(&mut devices);
                if let Some(batch) = &mut batch {
                    batch.fill(&pass.writer.reader(), layout_fingerprints, needs_documents)?;
                }
                Ok(batch)
            },
            |scratch, batch: Batch| {
                let weighed: Vec<_> = batch.jobs().map(|job| weigher.weigh(scratch, &job)).collect();
                (batch, weighed)
            },
            |pass, (batch, weighed)| {
                for (job, weighed) in batch.jobs().zip(weighed) {
                    pass.save(&job, weighed?)?;
                }
                pass.batches.push(batch);
                Ok::<_, EngineError>(())
            },
        )?;
        self.writer.set_setting(PEOPLE_UNTIL, &people.until(self.project, self.at).as_microsecond().to_string())?;
        Ok(())
    }

    /// Writes what a device came to.
    fn save(&mut self, job: &Job<'_>, weighed: Weighed) -> Result<(), EngineError> {
        let Weighed { packed, volatile_parts, over, taken, result } = weighed;
        let device = job.device;
        let collected = job.before.as_ref().and_then(|row| row.collected);
        // At the assessment before, none of what was kept was past its time.
        let overdue = job.before.as_ref().map_or(0, |row| count_overdue(row.findings, self.before.unwrap_or(self.at)));
        let before = job.outcome().map(|outcome| Counted { outcome, collected, overdue });
        self.taken += u64::from(taken);
        let counted = before.filter(|_| !self.anew);
        for (source, packed) in packed {
            self.writer.set_facts(
                device.number,
                source,
                PackedFacts { layout_fingerprint: self.inputs.layout_fingerprint, packed: &packed },
            )?;
        }
        for (source, volatile_parts) in volatile_parts {
            self.writer.keep_volatile_parts(self.run, &source, &device.name, &volatile_parts)?;
        }
        self.save_findings(job, &over)?;
        match result {
            DeviceResult::Same if self.anew => {
                let overdue = job.before.as_ref().map_or(0, |row| count_overdue(row.findings, self.at));
                self.tally.replace(self.project, None, before.map(|before| Counted { overdue, ..before }));
            }
            DeviceResult::Same => {}
            DeviceResult::Retired => {
                self.retire(device)?;
                self.tally.replace(self.project, counted, None);
            }
            DeviceResult::Settled(settling) => {
                self.save_findings(job, &settling.changes)?;
                if let Some(row) = &settling.row {
                    let until_before = job.before.as_ref().map(|before| before.until);
                    self.writer.set_assessed(device.number, until_before, Some(row))?;
                }
                self.save_spells(job, &settling)?;
                let collected = settling.row.as_ref().map_or(collected, |row| row.collected);
                let findings = settling.row.as_ref().map(|row| row.findings.as_slice());
                let findings = findings.or(job.before.as_ref().map(|row| row.findings)).unwrap_or_default();
                let overdue = count_overdue(findings, self.at);
                let now = Counted { outcome: settling.outcome.borrowed(), collected, overdue };
                self.tally.replace(self.project, counted, Some(now));
            }
        }
        self.seen += 1;
        (self.progress)(self.seen, self.total);
        Ok(())
    }

    /// Ends what held of a device that is retired.
    fn retire(&mut self, device: &DeviceRow) -> Result<(), LedgerError> {
        let (run, name) = (self.run, device.name.as_str());
        self.writer.set_assessed(device.number, None, None)?;
        self.writer.set_holders(device.number, &[])?;
        self.writer.set_coming_decisions(device.number, &[])?;
        self.writer.set_spells(run, SpellKind::Verdict, name, &[])?;
        if self.writer.set_spells(run, SpellKind::Decision, name, &[])? {
            self.services.note_change();
        }
        if self.writer.set_spells(run, SpellKind::Standing, name, &[])? {
            self.add_event(device, EventKind::Retired)?;
        }
        Ok(())
    }

    fn save_findings(&mut self, job: &Job<'_>, changes: &FindingChanges) -> Result<(), LedgerError> {
        // Where there were none, none is followed by another version.
        let has_none = job.before.is_none() && job.findings.is_empty();
        for row in &changes.set {
            if has_none {
                self.writer.add_finding(self.run, row)?;
            } else {
                self.writer.set_finding(self.run, row)?;
            }
        }
        for event in &changes.events {
            self.writer.add_event(self.run, &event.row())?;
        }
        Ok(())
    }

    fn add_event(&mut self, device: &DeviceRow, kind: EventKind) -> Result<(), LedgerError> {
        let event = Event { device: device.name.as_str().into(), at: self.at, kind };
        self.writer.add_event(self.run, &event.row())
    }

    /// Returns how a device stood before this assessment; none where it was not assessed before.
    fn stood(&self, job: &Job<'_>) -> Result<Option<Standing>, LedgerError> {
        if let Some(outcome) = job.outcome() {
            return Ok(Some(outcome.standing()));
        }
        if self.first {
            return Ok(None);
        }
        let spell = self.writer.reader().spells_of(SpellKind::Standing, job.device, None)?.pop();
        spell.map(|spell| Ok(DeviceStanding::of_spell(self.project, &spell)?.standing)).transpose()
    }

    fn save_spells(&mut self, job: &Job<'_>, settling: &DeviceUpdate) -> Result<(), LedgerError> {
        let device = job.device;
        if let Some(holders) = settling.holders.as_ref().filter(|holders| !self.first || !holders.is_empty()) {
            self.writer.set_holders(device.number, holders)?;
        }
        if let Some(verdicts) = &settling.verdicts {
            self.set_spells(device, SpellKind::Verdict, verdicts)?;
        }
        if let Some(standing) = &settling.standing {
            let (before, now) = (self.stood(job)?, settling.outcome.borrowed().standing());
            self.set_spells(device, SpellKind::Standing, std::slice::from_ref(standing))?;
            if before != Some(now) {
                self.add_event(device, EventKind::Standing { before, now })?;
            }
        }
        if let Some(decisions) = &settling.decisions {
            let spells = self.with_since(device, decisions)?;
            if self.set_spells(device, SpellKind::Decision, &spells)? {
                self.services.note_change();
            }
        }
        if let Some(coming) = &settling.coming {
            let rows: Vec<ComingRow> = coming.iter().map(ComingDecision::row).collect();
            self.writer.set_coming_decisions(device.number, &rows)?;
        }
        Ok(())
    }

    /// Says of each decision since when it holds: since it did before, where it did, else since the moment at which time brought
    /// it about, or else since this assessment.
    fn with_since(
        &self,
        device: &DeviceRow,
        decisions: &[(DecisionKey, StoredDecision)],
    ) -> Result<Vec<Spell>, LedgerError> {
        let reader = self.writer.reader();
        let mut held: BTreeMap<String, (String, Timestamp)> = BTreeMap::new();
        let mut coming = Vec::new();
        if !self.first {
            let unreadable = || unreadable(self.project, &device.name, "a decision");
            for row in reader.spells_of(SpellKind::Decision, device, None)? {
                let since = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?.since;
                let of_run = || Ok::<_, LedgerError>(reader.run(row.from_run)?.map(|run| run.as_of));
                let since = since.map_or_else(of_run, |since| Ok(Some(since)))?.unwrap_or(self.at);
                held.insert(row.subject, (row.value, since));
            }
            coming = reader.coming_decisions(device.number)?;
        }
        let spells = decisions.iter().map(|(key, decision)| {
            let Spell { subject, value, .. } = decision.spell(key);
            let goes_on = held.get(&subject).filter(|(before, _)| *before == value).map(|(_, since)| *since);
            let by_time = || {
                let own = coming.iter().rfind(|row| row.subject == subject && row.at <= self.at);
                own.filter(|row| row.value == value).map(|row| row.at)
            };
            let since = goes_on.or_else(by_time).unwrap_or(self.at);
            StoredDecision { since: Some(since), ..decision.clone() }.spell(key)
        });
        Ok(spells.collect())
    }

    /// Returns whether any spell began or ended.
    fn set_spells(&mut self, device: &DeviceRow, kind: SpellKind, now: &[Spell]) -> Result<bool, LedgerError> {
        if !self.first {
            return self.writer.set_spells(self.run, kind, &device.name, now);
        }
        self.writer.add_spells(self.run, kind, device.number, now)?;
        Ok(!now.is_empty())
    }
}
