//! Assesses a file without a ledger: documents in, verdicts out, in the order of the input. Holds one
//! document at a time.

use std::io::BufRead;
use std::path::Path;

use bumpalo::Bump;
use fencepost_core::{Blame, DocumentReader, Evidence, Stage, Standing, VerdictOutcome, Verdicts};
use fencepost_formats::{JsonDocuments, Mapped, Record, SecretKey, Source, SourceKind, mask_secrets, read_records};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::files::source_of;
use crate::import::{identity, moment_of};
use crate::judge::{Judge, People};
use crate::project::Project;

/// A line that was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RefusedLine {
    /// Its number, from 1.
    pub line: u64,
    /// Where it begins, in bytes.
    pub offset: u64,
    /// Why.
    pub reason: String,
}

/// The verdict of one rule, with what is asked for.
#[derive(Clone, Debug, PartialEq)]
pub struct Judgement {
    /// The rule, by its index in the rule set.
    pub rule: usize,
    /// What it says.
    pub outcome: VerdictOutcome,
    /// Of an unknown, the facts to blame.
    pub blames: Vec<Blame>,
    /// The proof, where it was asked for.
    pub evidence: Option<Evidence>,
}

/// What a device came to.
#[derive(Clone, Debug, PartialEq)]
pub struct DeviceVerdicts {
    /// Its id.
    pub device: String,
    /// When its document was collected.
    pub collected: Option<Timestamp>,
    /// How it stands, every clock starting now.
    pub standing: Standing,
    /// Enforced rules passed, failed, unknown and not applicable, and rules on trial.
    pub counts: [u32; 5],
    /// Verdicts that are neither a pass nor not applicable; or all of them.
    pub verdicts: Vec<Judgement>,
}

/// How to assess without a ledger.
#[derive(Clone, Copy, Debug, Default)]
pub struct Stateless {
    /// Give every rule's verdict.
    pub all: bool,
    /// Give the proof of every verdict.
    pub evidence: bool,
}

/// Assesses the documents of a stream, one at a time.
///
/// # Errors
/// What is wrong with the input as a whole, or what `each` returns.
pub fn assess_file(
    project: &Project,
    input: impl BufRead,
    path: &Path,
    source: Option<&str>,
    at: Timestamp,
    options: Stateless,
    mut each: impl FnMut(Result<DeviceVerdicts, RefusedLine>) -> std::io::Result<()>,
) -> Result<(), EngineError> {
    let source = if path.as_os_str() == "-" && source.is_none() {
        input_source(project)?
    } else {
        source_of(project, path, source)?.source
    };
    let key = project.key_for_reading()?;
    if source.kind == SourceKind::People {
        return Err(EngineError::refused(
            format!("source `{}` is a list of people, not state", source.id),
            "name a source of devices with --source",
        ));
    }
    let people = People::default();
    let judge = Judge::new(project, &people, at);
    let with =
        Mapped { dictionary: &project.dictionary, zone: &project.config.zone, file_time: None, path: path.to_str() };
    let mut arena = Bump::new();
    let mut broken = None;
    let outcome = read_records(input, &source, &with, |record| {
        arena.reset();
        let (line, offset) = (record.line, record.offset);
        let judged = judge_record(&judge, &source, &key, record, options, &arena).map_err(|reason| RefusedLine {
            line,
            offset,
            reason,
        });
        each(judged).map_err(|error| {
            broken = Some(error);
            String::new()
        })
    });
    match (outcome, broken) {
        (_, Some(error)) => Err(EngineError::File { act: "write", path: "standard output".into(), error }),
        (Err(message), None) => {
            Err(EngineError::refused(format!("{}: {message}", path.display()), "check the file and its [[source]]"))
        }
        (Ok(_), None) => Ok(()),
    }
}

fn input_source(project: &Project) -> Result<Source, EngineError> {
    let state: Vec<Source> = project.sources().into_iter().filter(|source| source.kind == SourceKind::State).collect();
    let native = state.iter().filter(|source| source.is_native()).count();
    match (state.len(), native) {
        (1, _) => Ok(state[0].clone()),
        (_, 1) => Ok(state.into_iter().find(Source::is_native).unwrap_or_else(Source::native)),
        _ => Err(EngineError::refused(
            "standard input has no name to tell its source by",
            "say which source it is with --source",
        )),
    }
}

fn judge_record(
    judge: &Judge<'_>,
    source: &Source,
    key: &SecretKey,
    record: Record<'_>,
    options: Stateless,
    arena: &Bump,
) -> Result<DeviceVerdicts, String> {
    let document = record.document.map_err(|error| error.reason)?;
    let rules = &judge.project.rules;
    let read = JsonDocuments { secrets: Some(key) }
        .read(&document, rules.layout(), arena)
        .map_err(|error| format!("byte {}: {}", error.offset, error.message))?;
    let device = identity(&read.slots[0], "device")?;
    let collected = moment_of(&read.slots[1], judge.project)?;
    let observation = [judge.observation(source.id.as_str(), Some(collected), read.slots)];
    let facts = judge.merged(device, &observation, rules.layout(), arena);
    let judged = judge.judged(device, facts, arena);
    let verdicts = judge.verdicts(&judged.input, arena);
    let mut counts = [0; 5];
    let mut shown = Vec::new();
    for verdict in &verdicts.all {
        let rule = &rules.rules()[verdict.rule];
        let place = match (rule.stage, verdict.outcome) {
            (Stage::Trial, VerdictOutcome::NotApplicable) => None,
            (Stage::Trial | Stage::Draft, _) => Some(4),
            (Stage::Enforced, VerdictOutcome::Pass) => Some(0),
            (Stage::Enforced, VerdictOutcome::Fail) => Some(1),
            (Stage::Enforced, VerdictOutcome::Unknown(_)) => Some(2),
            (Stage::Enforced, VerdictOutcome::NotApplicable) => Some(3),
        };
        if let Some(place) = place {
            counts[place] += 1;
        }
        let unknown = matches!(verdict.outcome, VerdictOutcome::Unknown(_));
        if options.all || unknown || verdict.outcome == VerdictOutcome::Fail {
            let evidence = (options.evidence || unknown).then(|| judge.explain(verdict.rule, &judged.input, arena).1);
            let mut blames = Vec::new();
            if let (true, Some(evidence)) = (unknown, &evidence) {
                evidence.blames(&mut blames);
                blames.sort();
                blames.dedup();
            }
            shown.push(Judgement {
                rule: verdict.rule,
                outcome: verdict.outcome,
                blames,
                // Digests differ from one workspace's key to another's, and say nothing here.
                evidence: evidence.filter(|_| options.evidence).map(|evidence| evidence.map_values(&mask_secrets)),
            });
        }
    }
    let standing = standing_now(judge.project, &verdicts);
    Ok(DeviceVerdicts { device: device.to_owned(), collected: Some(collected), standing, counts, verdicts: shown })
}

/// How a device stands when every clock starts now.
fn standing_now(project: &Project, verdicts: &Verdicts) -> Standing {
    // Every failure is a finding that opens at this moment, whichever moment it is.
    let at = Timestamp::UNIX_EPOCH;
    let device = fencepost_core::DeviceId::from("");
    let empty = Evidence::All { outcome: fencepost_core::Outcome::False, parts: Vec::new() };
    let settings = project.config.settle_settings();
    let settled =
        fencepost_core::settle(&device, Vec::new(), project.rules.rules(), verdicts, at, &settings, &mut |_| {
            empty.clone()
        });
    settled.standing
}
