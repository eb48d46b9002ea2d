//! Assesses the fleet: evaluates every device, weighs the verdicts against earlier findings, decides who
//! reaches what, and writes all of it in one transaction.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{
    CloseReason, DeviceId, Diagnostic, Dictionary, Finding, Phase, Rule, RuleSet, Settled, SlotId, Stage, Standing,
    Subject, TransitionKind, VerdictOutcome, Verdicts, settle,
};
use fencepost_formats::thin_out;
use fencepost_store::{Ledger, LedgerError, Reader, RunKind, RunRow, SpellKind, StoredObservation, Writer};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use crate::codec;
use crate::decisions::usual_decisions;
use crate::documents::hide_new_secrets;
use crate::error::EngineError;
use crate::judge::{Judge, Judged, People};
use crate::project::Project;
use crate::reading::{Moment, UNCOVERED, damaged};
use crate::renames::apply_renamings;
use crate::survey::reported_paths;

/// How many devices stand how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct StandingCounts {
    /// All devices.
    pub total: u64,
    /// Compliant ones.
    pub compliant: u64,
    /// Ones on notice.
    pub on_notice: u64,
    /// Unproven ones.
    pub unproven: u64,
    /// Non-compliant ones.
    pub non_compliant: u64,
    /// Devices that no enforced rule covers.
    pub uncovered: u64,
    /// Devices of which nothing is fresh any more.
    pub stale: u64,
}

impl StandingCounts {
    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: &Self) {
        self.total += other.total;
        self.compliant += other.compliant;
        self.on_notice += other.on_notice;
        self.unproven += other.unproven;
        self.non_compliant += other.non_compliant;
        self.uncovered += other.uncovered;
        self.stale += other.stale;
    }

    /// Counts one more device.
    pub fn add(&mut self, standing: Standing) {
        self.total += 1;
        *match standing {
            Standing::Compliant => &mut self.compliant,
            Standing::OnNotice => &mut self.on_notice,
            Standing::Unproven => &mut self.unproven,
            Standing::NonCompliant => &mut self.non_compliant,
        } += 1;
    }
}

/// What one rule came to over the fleet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RuleCount {
    /// The rule.
    pub rule: String,
    /// `trial` or `enforced`.
    pub stage: String,
    /// Devices that pass, vacuous ones among them.
    pub pass: u64,
    /// Devices that fail.
    pub fail: u64,
    /// Devices of which it is not known.
    pub unknown: u64,
    /// Devices that it does not cover, excepted ones among them.
    pub not_applicable: u64,
    /// Devices that pass because there was nothing to check.
    pub vacuous: u64,
    /// Devices that it would cover but for an exception.
    pub excepted: u64,
}

impl RuleCount {
    /// Adds what was counted elsewhere for the same rule.
    pub fn merge(&mut self, other: &Self) {
        self.pass += other.pass;
        self.fail += other.fail;
        self.unknown += other.unknown;
        self.not_applicable += other.not_applicable;
        self.vacuous += other.vacuous;
        self.excepted += other.excepted;
    }

    /// Counts nothing yet for a rule.
    pub fn of(rule: &Rule) -> Self {
        Self { rule: rule.id.to_string(), stage: rule.stage.as_str().to_owned(), ..Self::default() }
    }

    /// Counts one more device.
    pub fn add(&mut self, outcome: VerdictOutcome) {
        *match outcome {
            VerdictOutcome::Pass => &mut self.pass,
            VerdictOutcome::Fail => &mut self.fail,
            VerdictOutcome::Unknown(_) => &mut self.unknown,
            VerdictOutcome::NotApplicable => &mut self.not_applicable,
        } += 1;
    }
}

/// A finding in a list of what happened.
#[derive(Clone, Debug, PartialEq)]
pub struct FindingLine {
    /// The device.
    pub device: String,
    /// The rule, or the word for silence.
    pub rule: String,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// `open`, `overdue` or `closed`.
    pub phase: &'static str,
    /// Why it closed, or `relapsed` where it reopened.
    pub how: Option<String>,
}

/// What an assessment came to.
#[derive(Clone, Debug, PartialEq)]
pub struct Assessed {
    /// Its number.
    pub number: i64,
    /// Its run.
    pub run: i64,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// It was there already: the same moment and nothing new.
    pub existing: bool,
    /// Devices by standing.
    pub devices: StandingCounts,
    /// Every rule on trial or enforced, in the order of the rule set.
    pub rules: Vec<RuleCount>,
    /// Findings that opened, or reopened.
    pub opened: Vec<FindingLine>,
    /// Findings that closed.
    pub closed: Vec<FindingLine>,
    /// Findings that fell due since the assessment before.
    pub overdue: Vec<FindingLine>,
    /// When the state was collected that was judged: the oldest and the newest of the devices' latest.
    pub collected: Option<(Timestamp, Timestamp)>,
    /// The assessment before, if there is one.
    pub before: Option<Timestamp>,
    /// Facts that conditions name and no device reports.
    pub warnings: Vec<Diagnostic>,
}

/// Assesses every device of the ledger. `progress` is told how many devices are done.
///
/// # Errors
/// When the ledger would not have it, or the moment lies before the last assessment; then nothing is changed.
pub fn assess(
    project: &Project,
    ledger: &mut Ledger,
    moment: &Moment,
    progress: &mut dyn FnMut(u64),
) -> Result<Assessed, EngineError> {
    let at = moment.as_of;
    let mut writer = ledger.writer("assess")?;
    let last = writer.reader().assessments(None, 1)?.into_iter().next();
    if let Some(last) = &last {
        if at < last.as_of {
            return Err(EngineError::refused(
                format!(
                    "assessments never go back in time: assessment {} is as of {}",
                    last.number.unwrap_or(0),
                    last.as_of
                ),
                "give a later --as-of, or none",
            ));
        }
        let same = at == last.as_of && last.rule_set.as_deref() == Some(&project.digest);
        if same && writer.reader().imports_after(last.id)? == 0 {
            return Ok(Assessed { existing: true, ..Assessed::load(project, &writer.reader(), last)? });
        }
    }
    if writer.reader().device_count()? == 0 {
        return Err(EngineError::refused(
            "there is no device to assess",
            "bring state in first: fencepost import FILE",
        ));
    }
    let run = writer.begin_run(
        RunKind::Assess,
        at,
        moment.wall,
        &moment.user,
        env!("CARGO_PKG_VERSION"),
        Some(&project.digest),
    )?;
    writer.keep_rule_set(&project.digest, &project.text())?;
    let hidden = hide_new_secrets(&mut writer, project, &project.secret_key()?)?;
    apply_renamings(&mut writer, project, run, at)?;
    let people = People::load(&writer.reader().people(None)?, project, at);
    let judge = Judge::new(project, &people, at);
    let mut tally = Tally::new(project);
    let mut arena = Bump::new();
    for (done, device) in writer.reader().device_names()?.into_iter().enumerate() {
        arena.reset();
        let stored = writer.reader().observations_of(&device, None)?;
        keep_what_is_read(&mut writer, project, run, &device, &stored)?;
        let documents = project.documents(&device, stored, at);
        let earlier = close_earlier_life(&mut writer, project, run, at, &device)?;
        if documents.is_empty() {
            retire(&mut writer, run, &device)?;
            continue;
        }
        let judged =
            judge.device(&device, &documents, &arena).map_err(|error| damaged(project, &device, &error.message))?;
        let verdicts = judge.verdicts(&judged.input, &arena);
        let id = DeviceId::from(device.as_str());
        let settings = project.config.settle_settings();
        let settled = settle(&id, earlier.clone(), project.rules.rules(), &verdicts, at, &settings, &mut |rule| {
            judge.explain(rule, &judged.input, &arena).1
        });
        tally.add(&judged, &verdicts, &settled);
        save_findings(&mut writer, run, &device, &earlier, &settled)?;
        save_spells(&mut writer, run, &judge, &judged, &verdicts, &settled, &arena)?;
        progress(done as u64 + 1);
    }
    writer.end_run(run, &tally.summary(last.as_ref().map(|last| last.as_of)).to_string())?;
    let written = writer
        .reader()
        .run(run)?
        .ok_or_else(|| EngineError::refused("the assessment was not written", "run it again"))?;
    let mut assessed = Assessed::load(project, &writer.reader(), &written)?;
    assessed.warnings = tally.unreported(project, &writer.reader())?;
    writer.commit()?;
    if hidden > 0 {
        ledger.compact()?;
    }
    Ok(assessed)
}

/// Keeps with each observation those of its volatile facts that the rules read, so that its verdicts can be found again when
/// newer facts have come.
fn keep_what_is_read(
    writer: &mut Writer<'_>,
    project: &Project,
    run: i64,
    device: &str,
    stored: &[StoredObservation],
) -> Result<(), LedgerError> {
    let read = |path: &str| project.rules.layout().slot_paths().any(|wanted| is_above_or_below(wanted, path));
    for said in stored {
        let Some(apart) = &said.apart else { continue };
        if let Some(apart) = thin_out(&said.body, apart, read) {
            writer.keep_apart(run, &said.source, device, &apart)?;
        }
    }
    Ok(())
}

/// Whether one path is the other, or leads to it.
fn is_above_or_below(one: &str, other: &str) -> bool {
    let (short, long) = if one.len() <= other.len() { (one, other) } else { (other, one) };
    long.strip_prefix(short).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

/// Returns the earlier findings of a device; those of a life that is over are closed, and no longer count.
fn close_earlier_life(
    writer: &mut Writer<'_>,
    project: &Project,
    run: i64,
    at: Timestamp,
    device: &str,
) -> Result<Vec<Finding>, LedgerError> {
    let mut earlier = earlier_findings(&writer.reader(), device)?;
    let Some(retirement) = project.lives.last_retirement(device, at) else { return Ok(earlier) };
    let alive = writer.reader().observations_of(device, None)?.iter().any(|said| said.collected > retirement.last);
    let (mut kept, mut over) = (Vec::new(), Vec::new());
    for finding in earlier.drain(..) {
        let into = if alive && finding.opened > retirement.from { &mut kept } else { &mut over };
        into.push(finding);
    }
    for mut finding in over.into_iter().filter(Finding::is_running) {
        finding.closed = Some((at, CloseReason::Retired));
        finding.failing_since = None;
        writer.set_finding(run, &codec::finding_row(&finding, run))?;
        add_finding_event(writer, run, "closed", &finding, Some(CloseReason::Retired.as_str()))?;
    }
    Ok(kept)
}

/// Ends what held of a device that is retired.
fn retire(writer: &mut Writer<'_>, run: i64, device: &str) -> Result<(), LedgerError> {
    writer.set_spells(run, SpellKind::Verdict, device, &[])?;
    writer.set_spells(run, SpellKind::Decision, device, &[])?;
    if writer.set_spells(run, SpellKind::Standing, device, &[])? {
        writer.add_event(run, "retired", &json!({ "device": device }).to_string())?;
    }
    Ok(())
}

fn add_finding_event(
    writer: &mut Writer<'_>,
    run: i64,
    what: &str,
    finding: &Finding,
    how: Option<&str>,
) -> Result<(), LedgerError> {
    let body = json!({
        "device": finding.device.as_str(), "rule": finding.subject.as_str(), "opened": finding.opened.to_string(),
        "due": finding.due.to_string(), "how": how,
    });
    writer.add_event(run, what, &body.to_string())
}

/// The latest finding of each subject; by the order of the ledger, the last one opened.
fn earlier_findings(reader: &Reader<'_>, device: &str) -> Result<Vec<Finding>, LedgerError> {
    let mut latest: BTreeMap<Subject, Finding> = BTreeMap::new();
    for finding in reader.findings(Some(device), None, true)?.iter().filter_map(codec::finding) {
        latest.insert(finding.subject.clone(), finding);
    }
    Ok(latest.into_values().collect())
}

fn save_findings(
    writer: &mut Writer<'_>,
    run: i64,
    device: &str,
    earlier: &[Finding],
    settled: &Settled,
) -> Result<(), LedgerError> {
    for finding in earlier {
        let kept = settled.findings.iter().any(|now| now.subject == finding.subject && now.opened == finding.opened);
        let renamed = !settled.findings.iter().any(|now| now.subject == finding.subject);
        if !kept && renamed {
            writer.end_finding(run, device, finding.subject.as_str(), finding.opened)?;
        }
    }
    for finding in &settled.findings {
        writer.set_finding(run, &codec::finding_row(finding, run))?;
    }
    for transition in &settled.transitions {
        let finding = &settled.findings[transition.finding];
        let reason = match transition.kind {
            TransitionKind::Closed(reason) => Some(reason.as_str()),
            TransitionKind::Relapsed => Some("relapsed"),
            TransitionKind::Opened | TransitionKind::DueMoved { .. } => None,
        };
        add_finding_event(writer, run, transition.kind.as_str(), finding, reason)?;
    }
    Ok(())
}

fn save_spells(
    writer: &mut Writer<'_>,
    run: i64,
    judge: &Judge<'_>,
    judged: &Judged<'_>,
    verdicts: &Verdicts,
    settled: &Settled,
    arena: &Bump,
) -> Result<(), LedgerError> {
    let device = judged.input.id;
    let rules = judge.project.rules.rules();
    let verdicts: Vec<(String, String, String)> = verdicts
        .all
        .iter()
        .filter_map(|verdict| {
            let reason = match verdict.outcome {
                VerdictOutcome::Pass | VerdictOutcome::NotApplicable => return None,
                VerdictOutcome::Fail => None,
                VerdictOutcome::Unknown(reason) => Some(reason.as_str()),
            };
            let rule = &rules[verdict.rule];
            let detail = json!({ "reason": reason, "stage": rule.stage.as_str() });
            Some((rule.id.to_string(), verdict.outcome.as_str().to_owned(), detail.to_string()))
        })
        .collect();
    writer.set_spells(run, SpellKind::Verdict, device, &verdicts)?;
    let cover = if settled.covered { "covered" } else { UNCOVERED };
    let standing = (String::new(), settled.standing.as_str().to_owned(), cover.to_owned());
    if writer.set_spells(run, SpellKind::Standing, device, &[standing])? {
        let body = json!({ "device": device, "standing": settled.standing.as_str() });
        writer.add_event(run, "standing", &body.to_string())?;
    }
    let decisions = usual_decisions(judge, judged, settled.standing, &settled.findings, judge.at, arena);
    let decisions: Vec<(String, String, String)> = decisions
        .into_iter()
        .map(|(key, decision)| (key.subject(), decision.words.clone(), decision.detail()))
        .collect();
    if writer.set_spells(run, SpellKind::Decision, device, &decisions)? {
        writer.add_event(run, "decisions", &json!({ "device": device }).to_string())?;
    }
    Ok(())
}

/// What the devices come to together.
struct Tally {
    devices: StandingCounts,
    rules: Vec<RuleCount>,
    collected: Option<(Timestamp, Timestamp)>,
    /// Slots that some device reports.
    seen: Vec<bool>,
}

impl Tally {
    fn new(project: &Project) -> Self {
        let rules = project.rules.rules().iter().map(RuleCount::of).collect();
        Self {
            devices: StandingCounts::default(),
            rules,
            collected: None,
            seen: vec![false; project.rules.layout().len()],
        }
    }

    fn add(&mut self, judged: &Judged<'_>, verdicts: &Verdicts, settled: &Settled) {
        self.devices.add(settled.standing);
        self.devices.uncovered += u64::from(!settled.covered);
        self.devices.stale += u64::from(!judged.input.facts.is_fresh());
        for verdict in &verdicts.all {
            let count = &mut self.rules[verdict.rule];
            count.add(verdict.outcome);
            count.vacuous += u64::from(verdict.vacuous);
            count.excepted += u64::from(verdict.excepted);
        }
        if let Some(at) = judged.input.facts.collected() {
            let (oldest, newest) = self.collected.unwrap_or((at, at));
            self.collected = Some((oldest.min(at), newest.max(at)));
        }
        for (at, seen) in self.seen.iter_mut().enumerate() {
            *seen |= judged.input.facts.slot(SlotId(u32::try_from(at).unwrap_or(u32::MAX))).origin.is_some();
        }
    }

    fn summary(&self, before: Option<Timestamp>) -> Json {
        let d = &self.devices;
        let rules: Vec<Json> = self
            .rules
            .iter()
            .filter(|count| count.stage != Stage::Draft.as_str())
            .map(|count| {
                json!([
                    count.rule,
                    count.stage,
                    count.pass,
                    count.fail,
                    count.unknown,
                    count.not_applicable,
                    count.vacuous,
                    count.excepted
                ])
            })
            .collect();
        json!({
            "devices": [d.total, d.compliant, d.on_notice, d.unproven, d.non_compliant, d.uncovered, d.stale],
            "rules": rules,
            "before": before.map(|moment| moment.to_string()),
            "collected": self.collected.map(|(oldest, newest)| [oldest.to_string(), newest.to_string()]),
        })
    }

    /// Warns of facts that conditions name and no device of the fleet reports.
    fn unreported(&self, project: &Project, reader: &Reader<'_>) -> Result<Vec<Diagnostic>, EngineError> {
        if project.rules.named_slots().iter().all(|slot| self.seen[slot.0 as usize]) {
            return Ok(Vec::new());
        }
        let dictionary = Dictionary { reported: Some(reported_paths(reader)?), ..project.dictionary.clone() };
        let (_, mistakes) = RuleSet::compile(&project.source, &dictionary, &[]);
        Ok(mistakes.into_iter().filter(|mistake| mistake.code == "unknown-fact").collect())
    }
}

impl Assessed {
    /// Reads an assessment back from the ledger.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn load(project: &Project, reader: &Reader<'_>, run: &RunRow) -> Result<Self, EngineError> {
        let broken =
            || LedgerError::Damaged { path: project.ledger_path(), what: format!("the summary of run {}", run.id) };
        let summary: Json = serde_json::from_str(&run.summary).map_err(|_| broken())?;
        let number = |json: &Json| json.as_u64().unwrap_or(0);
        let d = &summary["devices"];
        let devices = StandingCounts {
            total: number(&d[0]),
            compliant: number(&d[1]),
            on_notice: number(&d[2]),
            unproven: number(&d[3]),
            non_compliant: number(&d[4]),
            uncovered: number(&d[5]),
            stale: number(&d[6]),
        };
        let rules = summary["rules"]
            .as_array()
            .ok_or_else(broken)?
            .iter()
            .map(|row| RuleCount {
                rule: row[0].as_str().unwrap_or_default().to_owned(),
                stage: row[1].as_str().unwrap_or_default().to_owned(),
                pass: number(&row[2]),
                fail: number(&row[3]),
                unknown: number(&row[4]),
                not_applicable: number(&row[5]),
                vacuous: number(&row[6]),
                excepted: number(&row[7]),
            })
            .collect();
        let moment = |json: &Json| json.as_str().and_then(|text| text.parse::<Timestamp>().ok());
        let before = moment(&summary["before"]);
        let collected = moment(&summary["collected"][0]).zip(moment(&summary["collected"][1]));
        let (mut opened, mut closed) = (Vec::new(), Vec::new());
        for (what, body) in reader.events(run.id)? {
            let into = match what.as_str() {
                "opened" | "relapsed" => &mut opened,
                "closed" => &mut closed,
                _ => continue,
            };
            into.extend(
                serde_json::from_str(&body).ok().and_then(|body| event_line(&body, run.as_of, what == "closed")),
            );
        }
        let overdue = reader
            .findings(None, Some(run.id), false)?
            .iter()
            .filter_map(codec::finding)
            .filter(|finding| {
                finding.due <= run.as_of && before.is_none_or(|before| finding.due > before || finding.opened > before)
            })
            .map(|finding| finding_line(&finding, run.as_of))
            .collect();
        Ok(Self {
            number: run.number.unwrap_or(0),
            run: run.id,
            as_of: run.as_of,
            existing: false,
            devices,
            rules,
            opened,
            closed,
            overdue,
            collected,
            before,
            warnings: Vec::new(),
        })
    }
}

fn event_line(body: &Json, at: Timestamp, closed: bool) -> Option<FindingLine> {
    let due: Timestamp = body["due"].as_str()?.parse().ok()?;
    Some(FindingLine {
        device: body["device"].as_str()?.to_owned(),
        rule: body["rule"].as_str()?.to_owned(),
        opened: body["opened"].as_str()?.parse().ok()?,
        due,
        phase: match (closed, due <= at) {
            (true, _) => "closed",
            (false, true) => "overdue",
            (false, false) => "open",
        },
        how: body["how"].as_str().map(str::to_owned),
    })
}

/// A finding as a line of a list, in its phase at `at`.
pub(crate) fn finding_line(finding: &Finding, at: Timestamp) -> FindingLine {
    let phase = finding.phase(at);
    let how = match phase {
        Phase::Closed { reason, .. } => Some(reason.as_str().to_owned()),
        Phase::Open { .. } | Phase::Overdue { .. } if finding.spell > 1 => Some("relapsed".to_owned()),
        Phase::Open { .. } | Phase::Overdue { .. } => None,
    };
    FindingLine {
        device: finding.device.to_string(),
        rule: finding.subject.as_str().to_owned(),
        opened: finding.opened,
        due: finding.due,
        phase: phase.as_str(),
        how,
    }
}
