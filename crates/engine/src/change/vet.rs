//! Looks for mistakes that nobody would notice before they bite: in the files, and in how they fit the fleet.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use bumpalo::Bump;
use fencepost_core::{
    Diagnostic, Evidence, Facts, Fleet, Holder, Session, Severity, Surroundings, Verdicts, Vet, VetInput,
    few_of_each_file, join_unknown, severities,
};
use fencepost_formats::FileText;
use fencepost_store::{AcceptanceRow, Ledger, LedgerError, Reader};
use jiff::Timestamp;
use serde_json::Value as Json;

use super::by_hand::{by_hand, tell_idle_waivers};
use crate::assess::RuleCount;
use crate::assess::conflicts::Conflicts;
use crate::assess::tally::unreported;
use crate::change::examples;
use crate::change::vet_drift::vet_drift;
use crate::change::vet_responses::vet_responses;
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::{Project, ProjectError};
use crate::workspace::versions::same_since;

/// A mistake, with the proof of what a rule says where that is what is wrong.
#[derive(Clone, Debug, PartialEq)]
pub struct Mistake {
    /// What is wrong, and where.
    pub told: Diagnostic,
    /// Why a rule says what it says.
    pub evidence: Option<Evidence>,
}

/// What there is to say about a workspace.
#[derive(Clone, Debug, PartialEq)]
pub struct Vetted {
    /// Its files; the mistakes point into them.
    pub files: Vec<FileText>,
    /// What is wrong or may be, the worst first, in the order of the files.
    pub mistakes: Vec<Mistake>,
    /// Of how many files it is told.
    pub told_of: usize,
    /// The moment for which it holds.
    pub at: Timestamp,
    /// How many rules there are; none where they cannot be read.
    pub rules: Option<u64>,
    /// On how many devices they were tried; none where there is no ledger.
    pub devices: Option<u64>,
    /// How many examples there are.
    pub examples: u64,
}

impl Vetted {
    /// Returns what there is to say of files that cannot be used; the error itself where it is about none of them.
    ///
    /// # Errors
    /// When there is no workspace, or a file could not be read.
    pub fn of_mistakes(error: ProjectError, at: Timestamp) -> Result<Self, ProjectError> {
        match error {
            ProjectError::Mistakes { files, mistakes } => {
                let mistakes = mistakes.into_iter().map(|told| Mistake { told, evidence: None }).collect();
                Ok(Self { told_of: files.len(), files, mistakes, at, rules: None, devices: None, examples: 0 })
            }
            other => Err(other),
        }
    }

    /// Forgets what is told of other files than those that `is_wanted` names.
    pub fn only_of(&mut self, is_wanted: impl Fn(&FileText) -> bool) {
        let files = &self.files;
        self.told_of = files.iter().filter(|file| is_wanted(file)).count();
        let place = |told: &Diagnostic| files.get(told.span.as_ref()?.file.0 as usize);
        self.mistakes.retain(|mistake| place(&mistake.told).is_some_and(&is_wanted));
    }

    /// Returns how many errors, warnings and remarks there are.
    pub fn counts(&self) -> [u64; 3] {
        severities(self.mistakes.iter().map(|mistake| &mistake.told))
    }

    /// Returns the worst that there is.
    pub fn worst(&self) -> Option<Severity> {
        self.mistakes.iter().map(|mistake| mistake.told.severity).min()
    }
}

/// Looks for sign-ins and people that the access rules leave out, with the people of a ledger where there is one.
fn access_gaps(project: &Project, reader: Option<&Reader<'_>>, at: Timestamp) -> Result<Vec<Diagnostic>, EngineError> {
    let accepted = reader.map(|reader| reader.acceptances(None)).transpose()?.unwrap_or_default();
    let people = match reader {
        Some(reader) => People::load(reader, None, project, at)?,
        None => People::nobody(project, at),
    };
    let (judge, arena) = (Judge::new(project, &people, at), Bump::new());
    let holders: Vec<Holder<'_>> = people.all().map(|person| judge.holder(person.id.as_str(), None, &arena)).collect();
    let session = Session::new(at, &project.config.calendar.zone, &arena);
    let mut told = project.rules.vet_access(&project.source, &holders, session);
    tell_terms(project, &accepted, &mut told);
    Ok(told)
}

/// Says of terms whose text is not there, and of those that people accepted in another version alone.
fn tell_terms(project: &Project, rows: &[AcceptanceRow], told: &mut Vec<Diagnostic>) {
    for terms in &project.source.terms {
        if let Some(file) = terms.file.as_ref().filter(|file| !project.root.join(&file.text).is_file()) {
            let message = format!("the text of terms `{}` is not at {}", terms.id.text, file.text);
            told.push(
                Diagnostic::warning("terms-without-text", message, file.span.clone())
                    .help("write its path from the workspace's root, and keep the text there"),
            );
        }
        let accepted = || rows.iter().filter(|row| row.terms == terms.id.text);
        let is_current = |row: &AcceptanceRow| {
            accepted().any(|it| (&it.person, &it.device) == (&row.person, &row.device) && it.version == terms.version)
        };
        let older: BTreeSet<&str> = accepted().filter(|row| !is_current(row)).map(|row| row.person.as_str()).collect();
        if !older.is_empty() {
            let people = if older.len() == 1 { "person" } else { "people" };
            let message = format!(
                "{} {people} accepted `{}` in another version than {}",
                older.len(),
                terms.id.text,
                terms.version
            );
            told.push(
                Diagnostic::remark("terms-of-other-version", message, terms.id.span.clone())
                    .help("they have it to accept again: fencepost access --only terms"),
            );
        }
    }
}

/// Looks for mistakes, as of a moment; on the devices of a ledger where there is one.
///
/// # Errors
/// When the ledger cannot be read.
pub fn vet(project: &Project, ledger: Option<&Ledger>, at: Timestamp) -> Result<Vetted, EngineError> {
    // Of drafts too is told whom they would reach; their files had no mistake a moment ago.
    let trial = project.with_drafts_on_trial()?;
    let drafts = project.rules.rules().iter().map(fencepost_core::Rule::is_draft).collect();
    let zone = &project.config.calendar.zone;
    let mut layout = trial.rules.layout().clone();
    let platform = layout.want("platform", &trial.dictionary);
    let vet =
        Vet::new(VetInput { rules: &trial.rules, source: &trial.source, drafts, platform: Some(platform), at, zone });
    let known = ledger.map(|ledger| KnownBefore::of(project, ledger, at)).transpose()?.unwrap_or_default();
    let mut told: Vec<Diagnostic> = project.warnings.iter().chain(&project.asides).cloned().collect();
    let reader = ledger.map(Ledger::reader).transpose()?;
    told.extend(by_hand(project, reader.as_ref(), at)?);
    told.extend(access_gaps(&trial, reader.as_ref(), at)?);
    told.extend(vet_responses(project, ledger, at)?);
    let mut devices = None;
    let around = Surroundings {
        controls: project.has_controls().then_some(&project.controls),
        holder: project.config.holder.as_deref(),
        drafts_since: &known.drafts_since,
        failed_once: &known.failed_once,
        devices: &known.devices,
        people: &known.people,
    };
    match ledger {
        None => told.extend(vet.tell(None, &around)),
        Some(ledger) => {
            let earlier = std::cell::OnceCell::new();
            let reading = Reading::of_state(&trial, &earlier, ledger, at, false)?;
            reading.load_comparisons()?;
            let judge = reading.judge();
            let mut conflicts = Conflicts::of(&trial);
            let wanted: Vec<_> =
                trial.rules.slots_of_rules().into_iter().chain(vet.slots_of_texts()).chain([platform]).collect();
            // Each worker adds to a fleet of its own.
            let fleets: Mutex<Vec<Fleet>> = Mutex::default();
            let (may_conflict, fleets_of_workers) = (conflicts.is_possible(), &fleets);
            let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
                let judged = judge.judged(&job.device.name, facts, arena);
                let verdicts = judge.verdicts(&judged.input, arena);
                let lock = || fleets_of_workers.lock().unwrap_or_else(PoisonError::into_inner);
                let taken = lock().pop();
                let mut fleet = taken.unwrap_or_else(|| vet.nobody());
                vet.see(&mut fleet, &judged.input, &verdicts, arena);
                lock().push(fleet);
                Ok(may_conflict.then(|| (job.device.name.clone(), verdicts)))
            };
            reading.with_facts(
                &judge,
                Wanted::as_read(&layout, &wanted),
                look,
                |seen: Option<(String, Verdicts)>| {
                    let Some((device, verdicts)) = seen else { return Ok(()) };
                    conflicts
                        .see(&device, |at| verdicts.all.get(at).is_some_and(|verdict| verdict.outcome.surely_covers()));
                    Ok(())
                },
            )?;
            told.extend(vet_drift(&reading)?);
            tell_idle_waivers(&trial, &reading.waiver_coverage()?, at, &mut told);
            let mut fleet = vet.nobody();
            let of_workers = fleets.into_inner().unwrap_or_else(PoisonError::into_inner);
            of_workers.into_iter().for_each(|other| fleet.join(other));
            devices = Some(fleet.devices);
            told.extend(vet.tell(Some(&fleet), &around));
            if fleet.devices > 0 {
                told.extend(conflicts.told());
                told.extend(unreported(project, &reading.reader, |slot| fleet.is_reported(slot), |_| Ok(()))?);
            }
        }
    }
    let key = project.key_for_reading()?;
    // It is not known how much was read of a file that is not TOML.
    let is_whole = |file| {
        let is_broken =
            |told: &Diagnostic| told.code == "toml" && told.span.as_ref().map(|span| span.file) == Some(file);
        !project.asides.iter().any(is_broken)
    };
    let readable = project.examples.iter().filter(|example| is_whole(example.place.file));
    let failed = readable.filter_map(|example| examples::check(&trial, &key, example, at));
    let mut mistakes: Vec<Mistake> =
        few_of_each_file(join_unknown(told)).into_iter().map(|told| Mistake { told, evidence: None }).collect();
    mistakes.extend(failed.map(|(told, evidence)| Mistake { told, evidence }));
    // What is worst first.
    mistakes.sort_by_key(|mistake| {
        let place = mistake.told.span.as_ref().map(|span| (span.file, span.range.start));
        (mistake.told.severity, mistake.told.code != "unknown-everywhere", place)
    });
    Ok(Vetted {
        told_of: project.files.len(),
        files: project.files.clone(),
        mistakes,
        at,
        rules: Some(project.rules.rules().len() as u64),
        devices,
        examples: project.examples.len() as u64,
    })
}

/// What a ledger knows besides the state of devices.
#[derive(Default)]
struct KnownBefore {
    drafts_since: Vec<Option<Timestamp>>,
    failed_once: BTreeSet<String>,
    devices: BTreeSet<String>,
    people: BTreeSet<String>,
}

/// Returns the rules that failed on some device in some assessment that is kept, as the counts of each tell.
fn failed_once(reader: &Reader<'_>) -> Result<BTreeSet<String>, LedgerError> {
    let mut failed = BTreeSet::new();
    for run in reader.assessments(None, u32::MAX)? {
        let Ok(summary) = serde_json::from_str::<Json>(&run.summary) else { continue };
        let counts = summary["rules"].as_array().into_iter().flatten().filter_map(RuleCount::of_json);
        failed.extend(counts.filter(|count| count.fail > 0).map(|count| count.rule));
    }
    Ok(failed)
}

impl KnownBefore {
    fn of(project: &Project, ledger: &Ledger, at: Timestamp) -> Result<Self, EngineError> {
        let reader = ledger.reader()?;
        let source = &project.source;
        let names_some = source.groups.iter().any(|group| !group.members.is_empty() || !group.except.is_empty())
            || project.rules.rules().iter().any(|rule| !rule.exceptions().is_empty());
        let names = match names_some {
            true => reader.device_names()?.into_iter().chain(reader.all_former_names()?).collect(),
            false => BTreeSet::new(),
        };
        Ok(Self {
            drafts_since: same_since(project, &reader, at, |then, _| then.is_draft())?,
            failed_once: failed_once(&reader)?,
            devices: names,
            people: reader.people(None)?.into_iter().map(|person| person.id).collect(),
        })
    }
}
