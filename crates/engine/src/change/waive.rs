//! Waivers: what they cover, and what it would change to write another one or to end one.

use crate::workspace::file_edit::FileEdit;
use std::collections::BTreeSet;

use bumpalo::Bump;
use fencepost_core::{
    ClockAfterwards, Facts, Finding, GroupKind, Reason, Stage, Subject, VerdictOutcome, Waiver, WaiverState, nearest,
};
use fencepost_formats::{EditError, FileText, NewWaiver, WorkspaceFile, add_waiver, end_waiver};
use fencepost_store::Ledger;
use jiff::Timestamp;
use jiff::civil::Date;

use super::preview::{Preview, compare_projects};
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::workspace::ledger::Moment;
use crate::workspace::project::{Project, ProjectError};

/// Something on a device that a waiver is for, and that is not met.
#[derive(Clone, Debug, PartialEq)]
pub struct CoveredVerdict {
    /// The device.
    pub device: String,
    /// The rule, or the word for silence or for being covered by nothing.
    pub subject: Subject,
    /// What is said of it: a failure, or something unknown.
    pub outcome: VerdictOutcome,
    /// The finding that runs of it.
    pub finding: Option<Finding>,
}

/// What a waiver covers.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct WaiverCoverage {
    /// For how many devices it is.
    pub devices: u64,
    /// How many failures and unknowns it is for, on them.
    pub count: u64,
    /// The first of them, by device.
    pub first: Vec<CoveredVerdict>,
}

/// How much of what a waiver covers is told one by one.
const MOST_TOLD: usize = 50;

impl Reading<'_> {
    /// Returns what each of the workspace's waivers covers, whether it holds now or not; in their order.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn waiver_coverage(&self) -> Result<Vec<WaiverCoverage>, EngineError> {
        let rules = &self.project.rules;
        let mut all = vec![WaiverCoverage::default(); rules.waivers().len()];
        if all.is_empty() {
            return Ok(all);
        }
        self.load_comparisons()?;
        let (judge, posture) = (self.judge(), self.posture());
        let wanted = rules.slots_of_rules();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let judged = judge.judged(&job.device.name, facts, arena);
            let waivers = judge.waivers(&judged.input, arena);
            let mut found: Vec<(usize, Vec<CoveredVerdict>)> = Vec::new();
            if waivers.is_empty() {
                return Ok(found);
            }
            let verdicts = judge.verdicts(&judged.input, arena);
            let unmet = unmet(&verdicts.all, self.project, judge.at);
            let running = posture.running(job)?;
            for at in waivers.positions(rules.waivers()) {
                let is_for =
                    |(subject, _): &&(Subject, VerdictOutcome)| rules.waivers()[at].is_for(subject, rules.rules());
                let covered = unmet.iter().filter(is_for).map(|(subject, outcome)| CoveredVerdict {
                    device: job.device.name.clone(),
                    subject: subject.clone(),
                    outcome: *outcome,
                    finding: running.iter().find(|finding| finding.subject == *subject).cloned(),
                });
                found.push((at, covered.collect()));
            }
            Ok(found)
        };
        let layout = rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &wanted), look, |found| {
            for (at, covered) in found {
                let coverage = &mut all[at];
                coverage.devices += 1;
                coverage.count += covered.len() as u64;
                let room = MOST_TOLD.saturating_sub(coverage.first.len());
                coverage.first.extend(covered.into_iter().take(room));
            }
            Ok(())
        })?;
        Ok(all)
    }
}

/// Returns what of a device's verdicts is not met at a moment, and the lack of evidence that they come to.
fn unmet(verdicts: &[fencepost_core::Verdict], project: &Project, at: Timestamp) -> Vec<(Subject, VerdictOutcome)> {
    let rules = project.rules.rules();
    let enforced = || verdicts.iter().filter(|verdict| rules[verdict.rule].stage(at) == Stage::Enforced);
    let of_rules = enforced().filter(|verdict| !verdict.outcome.is_quiet());
    let mut unmet: Vec<(Subject, VerdictOutcome)> =
        of_rules.map(|verdict| (Subject::Rule(rules[verdict.rule].id.clone()), verdict.outcome)).collect();
    let unknown = enforced().find(|verdict| rules[verdict.rule].is_left_open(verdict.outcome));
    unmet.extend(unknown.map(|verdict| (Subject::Silence, verdict.outcome)));
    if enforced().all(|verdict| verdict.outcome == VerdictOutcome::NotApplicable) {
        unmet.push((Subject::Uncovered, VerdictOutcome::Unknown(Reason::Missing)));
    }
    unmet
}

/// A waiver that somebody asks for.
#[derive(Clone, Debug)]
pub struct WaiverRequest {
    /// Devices, groups of devices and rules, by their names.
    pub names: Vec<String>,
    /// What it is to be called; after its rule and its device, where nothing is said.
    pub id: Option<String>,
    /// The first day on which it holds; today, where nothing is said.
    pub from: Option<Date>,
    /// The last day on which it holds.
    pub until: Date,
    /// Why.
    pub because: String,
    /// Who answers for it.
    pub approved_by: String,
    /// What happens to clocks when it ends.
    pub clock: ClockAfterwards,
}

/// An edit of `waivers.toml`, and what it would change.
#[derive(Debug)]
pub struct WaiverEdit {
    /// The waiver.
    pub id: String,
    /// What the file holds; nothing where there is none.
    before: String,
    /// What the file would hold.
    pub text: String,
    /// The workspace with it.
    pub candidate: Project,
    /// What it covers.
    pub coverage: WaiverCoverage,
    /// What the next assessment would say otherwise; none where nothing was assessed yet.
    pub preview: Option<Preview>,
}

impl WaiverEdit {
    /// Returns the waiver as it would be.
    pub fn waiver(&self) -> Option<&Waiver> {
        self.candidate.rules.waivers().iter().find(|waiver| waiver.id.as_str() == self.id)
    }

    /// Writes the file, whole or not at all.
    ///
    /// # Errors
    /// When somebody else has edited it since it was read, or it cannot be written.
    pub fn write(&self) -> Result<(), EngineError> {
        let edit = FileEdit { name: WorkspaceFile::Waivers.path(), before: &self.before, after: &self.text };
        edit.write(&self.candidate.root)
    }
}

/// Plans a waiver: what the file would hold, what it would cover, and what would change.
///
/// # Errors
/// When a name is of nothing or of two things, the waiver would be a mistake, or the ledger cannot be read.
pub fn plan_waiver(
    project: &Project,
    ledger: &Ledger,
    moment: &Moment,
    request: &WaiverRequest,
) -> Result<WaiverEdit, EngineError> {
    let earlier = std::cell::OnceCell::new();
    let reading = Reading::of_state(project, &earlier, ledger, moment.as_of, false)?;
    let named = Named::of(&reading, &request.names)?;
    let id = match &request.id {
        Some(id) => id.clone(),
        None => free_id(project, &named),
    };
    let today = project.config.calendar.zone.to_datetime(moment.as_of).date();
    let waiver = NewWaiver {
        id,
        devices: named.devices,
        groups: named.groups,
        rules: named.rules,
        because: request.because.clone(),
        approved_by: request.approved_by.clone(),
        from: request.from.unwrap_or(today),
        until: request.until,
        clock: request.clock,
    };
    let text = add_waiver(file_text(project), &waiver).map_err(|error| cannot_edit(&error, &waiver.id))?;
    edited(project, ledger, moment, waiver.id, text)
}

/// Plans to end a waiver now.
///
/// # Errors
/// When there is no such waiver, it is over, or the ledger cannot be read.
pub fn plan_end_of_waiver(
    project: &Project,
    ledger: &Ledger,
    moment: &Moment,
    id: &str,
    because: &str,
) -> Result<WaiverEdit, EngineError> {
    let waivers = project.rules.waivers();
    let Some(waiver) = waivers.iter().find(|waiver| waiver.id.as_str() == id) else {
        let help = nearest(id, waivers.iter().map(|waiver| waiver.id.as_str())).map_or_else(
            || "see them all with: fencepost list waivers".to_owned(),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(EngineError::refused(format!("there is no waiver `{}`", crate::error::escaped(id)), help));
    };
    if waiver.state(moment.as_of) == WaiverState::Over {
        let last = project.config.calendar.zone.to_datetime(waiver.ends());
        let message = format!("waiver `{id}` ended on {} at {}", last.date(), last.time());
        return Err(EngineError::refused(message, "there is nothing to end"));
    }
    let text = end_waiver(file_text(project), id, moment.as_of, because).map_err(|error| cannot_edit(&error, id))?;
    edited(project, ledger, moment, id.to_owned(), text)
}

fn file_text(project: &Project) -> &str {
    let path = WorkspaceFile::Waivers.path();
    project.files.iter().find(|file| file.path == path).map_or("", |file| file.text.as_str())
}

fn cannot_edit(error: &EditError, id: &str) -> EngineError {
    match error {
        EditError::NotToml(why) => {
            EngineError::refused(format!("waivers.toml is no TOML: {why}"), "mend the file first")
        }
        EditError::NoTomlTime(time) => {
            EngineError::refused(format!("`{time}` cannot be written into a file"), "name a day after the year 0")
        }
        EditError::NotThere => EngineError::refused(
            format!("waiver `{id}` is not written as a [[waiver]] of its own"),
            "write it so, or edit it by hand",
        ),
    }
}

/// Returns what the workspace would come to with another text in `waivers.toml`.
fn edited(
    project: &Project,
    ledger: &Ledger,
    moment: &Moment,
    id: String,
    text: String,
) -> Result<WaiverEdit, EngineError> {
    let path = WorkspaceFile::Waivers.path();
    let mut files: Vec<FileText> = project.files.iter().filter(|file| file.path != path).cloned().collect();
    files.push(FileText { path: path.to_owned(), text: text.clone() });
    let candidate = Project::from_files(&project.root, files).map_err(|error| mistaken(&error))?;
    let coverage = {
        let earlier = std::cell::OnceCell::new();
        let reading = Reading::of_state(&candidate, &earlier, ledger, moment.as_of, false)?;
        let at = candidate.rules.waivers().iter().position(|waiver| waiver.id.as_str() == id);
        let mut all = reading.waiver_coverage()?;
        at.map(|at| all.swap_remove(at)).unwrap_or_default()
    };
    let assessed = !ledger.reader()?.assessments(None, 1)?.is_empty();
    let preview = assessed.then(|| compare_projects(project, &candidate, ledger, moment)).transpose()?;
    Ok(WaiverEdit { id, before: file_text(project).to_owned(), text, candidate, coverage, preview })
}

/// Says of a waiver that cannot be what is wrong with it.
fn mistaken(error: &ProjectError) -> EngineError {
    let first = match error {
        ProjectError::Mistakes { mistakes, .. } => mistakes.first(),
        ProjectError::NotFound { .. } | ProjectError::Read(_) => None,
    };
    match first {
        Some(first) => EngineError::refused(first.message.clone(), first.help.clone().unwrap_or_default()),
        None => EngineError::refused("the waiver cannot be written", "edit waivers.toml by hand"),
    }
}

/// The devices, groups and rules that somebody named.
#[derive(Default)]
struct Named {
    devices: Vec<String>,
    groups: Vec<String>,
    rules: Vec<String>,
}

impl Named {
    /// Tells names of devices, groups and rules apart.
    fn of(reading: &Reading<'_>, names: &[String]) -> Result<Self, EngineError> {
        let mut named = Self::default();
        let rules = &reading.project.rules;
        let groups: BTreeSet<&str> =
            rules.groups().filter(|group| group.kind == GroupKind::Devices).map(|group| group.id.as_str()).collect();
        let is_rule = |name: &str| {
            [Subject::SILENCE, Subject::UNCOVERED].contains(&name)
                || rules.rules().iter().any(|rule| rule.is_meant_by(name))
        };
        for name in names {
            let kinds = [reading.knows_device(name)?, groups.contains(name.as_str()), is_rule(name)];
            match kinds {
                [true, false, false] => named.devices.push(reading.device_name(name)?),
                [false, true, false] => named.groups.push(name.clone()),
                [false, false, true] => named.rules.push(name.clone()),
                [false, false, false] => return Err(unknown_name(reading, name, &groups)?),
                several => {
                    let words = ["a device", "a group", "a rule"];
                    let all: Vec<&str> =
                        words.into_iter().zip(several).filter(|(_, is)| *is).map(|(word, _)| word).collect();
                    return Err(EngineError::refused(
                        format!("`{name}` is {}", all.join(" and ")),
                        "write the [[waiver]] into waivers.toml by hand, where it says which is meant",
                    ));
                }
            }
        }
        if named.devices.is_empty() && named.groups.is_empty() {
            return Err(EngineError::refused("no device and no group is named", "name those that the waiver is for"));
        }
        if named.rules.is_empty() {
            return Err(EngineError::refused(
                "no rule is named",
                "name what is waived: a rule, a check, everything below one as in \"kiosk/*\", silence or uncovered",
            ));
        }
        Ok(named)
    }
}

fn unknown_name(reading: &Reading<'_>, name: &str, groups: &BTreeSet<&str>) -> Result<EngineError, EngineError> {
    let devices = reading.reader.device_names()?;
    let rules = reading.project.rules.rules().iter().map(|rule| rule.id.as_str());
    let known = devices.iter().map(String::as_str).chain(groups.iter().copied()).chain(rules);
    let help = nearest(name, known).map_or_else(
        || "see what there is with: fencepost list devices, list groups, list rules".to_owned(),
        |near| format!("did you mean `{near}`?"),
    );
    let name = crate::error::escaped(name);
    Ok(EngineError::refused(format!("no device, group or rule is called `{name}`"), help))
}

/// Returns an id that no waiver has, after what the waiver is for.
fn free_id(project: &Project, named: &Named) -> String {
    let whom = named.devices.iter().chain(&named.groups).next();
    let what = named.rules.first();
    let words: Vec<String> =
        what.into_iter().chain(whom).map(|name| slug(name)).filter(|word| !word.is_empty()).collect();
    let base = if words.is_empty() { "waiver".to_owned() } else { words.join("-") };
    let is_free = |id: &String| project.rules.waivers().iter().all(|waiver| waiver.id.as_str() != id);
    let numbered = (2..).map(|number| format!("{base}-{number}"));
    std::iter::once(base.clone()).chain(numbered).find(is_free).expect("numbers do not end")
}

/// Returns a text with what an id may not have left out, and no longer than half of an id.
fn slug(text: &str) -> String {
    let lower = text.to_lowercase();
    let words = lower.split(|one: char| !one.is_ascii_alphanumeric() && one != '.' && one != '_');
    let joined = words.filter(|word| !word.is_empty()).collect::<Vec<_>>().join("-");
    joined.chars().take(45).collect::<String>().trim_matches('-').to_owned()
}
