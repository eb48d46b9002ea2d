//! Assesses a file without a ledger: documents in, verdicts out, in the order of the input. Holds a few chunks of the
//! input at a time, however large it is.

use std::io::{self, BufRead};
use std::path::Path;

use bumpalo::Bump;
use fencepost_core::{
    Blame, DeviceWaivers, Evidence, EvidenceSummary, Packer, Reason, SettleContext, SettleInput, Stage, Standing,
    Verdict, VerdictOutcome, Verdicts, Watch,
};
use fencepost_formats::{
    JsonDocuments, Mapped, Record, RecordBatches, RecordPlace, SecretKey, Source, SourceKind, mask_secrets, read_batch,
    read_records,
};
use jiff::Timestamp;

use crate::assess::inputs::{Inputs, JudgedState};
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::import::{identity, moment_of};
use crate::ledger_view::outcome::code_of;
use crate::workers::{cores, in_order};
use crate::workspace::files::source_of;
use crate::workspace::project::Project;

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
pub struct RuleJudgement {
    /// The rule, by its index in the rule set.
    pub rule: usize,
    /// What it says.
    pub outcome: VerdictOutcome,
    /// It passed with nothing to check.
    pub vacuous: bool,
    /// It does not apply, but would without an exception.
    pub excepted: bool,
    /// It fails, and what was asked for is on its way.
    pub awaiting: bool,
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
    pub verdicts: Vec<RuleJudgement>,
    /// Until when they hold and their seal, where it was asked for.
    pub sealed: Option<Sealed>,
}

/// What lets a ledger take over verdicts that it did not work out itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sealed {
    /// The moment at which time alone may change the verdicts; none where it never does.
    pub until: Option<Timestamp>,
    /// Tells, together with the key of the workspace, what they were made of.
    pub seal: String,
}

/// How to assess without a ledger.
#[derive(Clone, Copy, Debug, Default)]
pub struct Stateless {
    /// Give every rule's verdict.
    pub all: bool,
    /// Seal the verdicts, if the workspace has a key.
    pub sealed: bool,
    /// Give the proof of every verdict.
    pub evidence: bool,
    /// On how many cores; none: on all that there are.
    pub workers: Option<usize>,
}

/// How many records of a format that is not read in batches are handed on together.
const RECORDS: u64 = 256;

/// What a chunk of the input came to.
#[derive(Default)]
struct ChunkResults<T> {
    made: T,
    /// Refused lines, counted from where the chunk begins.
    refused: Vec<RefusedLine>,
    /// How many lines or records it has.
    lines: u64,
}

/// Documents that are to be assessed without a ledger.
#[derive(Clone, Copy, Debug)]
pub struct StateInput<'s> {
    /// By whose rules.
    pub project: &'s Project,
    /// Their file; `-` for standard input.
    pub path: &'s Path,
    /// Their source, where its name does not tell it.
    pub source: Option<&'s str>,
    /// As of when.
    pub at: Timestamp,
    /// How.
    pub options: Stateless,
}

/// Assesses the documents of a stream. `each` adds what a device came to, to what is made of a chunk of the input, on several
/// cores at once; `hand_on` gets that, and the lines that were refused in it, in the order of the input.
///
/// # Errors
/// What is wrong with the input as a whole, or what `hand_on` returns.
pub fn assess_file<T: Default + Send>(
    of: StateInput<'_>,
    input: impl BufRead + Send,
    each: impl Fn(&mut T, &DeviceVerdicts) + Sync,
    mut hand_on: impl FnMut(T, Vec<RefusedLine>) -> io::Result<()> + Send,
) -> Result<(), EngineError> {
    let StateInput { project, path, source, at, options } = of;
    let source = if path.as_os_str() == "-" && source.is_none() {
        input_source(project)?
    } else {
        source_of(project, path, source)?.source
    };
    let key = project.key_for_reading()?;
    if source.kind != SourceKind::State {
        return Err(EngineError::refused(
            format!("source `{}` is a list of people, not state", source.id),
            "name a source of devices with --source",
        ));
    }
    let people = People::default();
    let judge = Judge::new(project, &people, at);
    let with = Mapped {
        dictionary: &project.dictionary,
        zone: &project.config.calendar.zone,
        file_time: None,
        path: path.to_str(),
    };
    // A key that is forgotten with the process makes no seal that is of use.
    let seals_with = if options.sealed { project.known_key()? } else { None };
    let inputs = seals_with.as_ref().map(|_| Inputs::of(project));
    let sealing = inputs.as_ref().zip(seals_with.as_ref());
    let records = RecordJudge {
        judge: &judge,
        source: &source,
        options,
        sealing,
        standings: Standings::of_project(project, judge.at),
        each,
    };
    let broken = EngineError::Output;
    let unreadable = |message: String| {
        EngineError::refused(format!("{}: {message}", path.display()), "check the file and its [[source]]")
    };
    let with = with.dated_by_name(&source).map_err(unreadable)?;
    if !RecordBatches::reads(source.format) {
        // Records of other formats are not told apart before they are read.
        let (mut scratch, mut failure) = (WorkerScratch::new(&key), None);
        let mut chunk = ChunkResults::default();
        let outcome = read_records(input, &source, &with, |record| {
            records.record(&mut scratch, record, &mut chunk);
            chunk.lines += 1;
            if chunk.lines < RECORDS {
                return Ok(());
            }
            let full = std::mem::take(&mut chunk);
            hand_on(full.made, full.refused).map_err(|error| {
                failure = Some(error);
                String::new()
            })
        });
        if failure.is_none() {
            failure = hand_on(chunk.made, chunk.refused).err();
        }
        return match (outcome, failure) {
            (_, Some(error)) => Err(broken(error)),
            (Err(error), None) => Err(unreadable(error.message)),
            (Ok(_), None) => Ok(()),
        };
    }
    let mut batches = RecordBatches::open(input, &source, &with).map_err(|error| unreadable(error.message))?;
    let mut before = 0;
    in_order(
        |batch| batches.next_into(batch).map_err(unreadable),
        cores(options.workers),
        || WorkerScratch::new(&key),
        |scratch, batch| {
            let mut done = ChunkResults::default();
            let lines = read_batch(batch, &source, &with, |record| {
                records.record(scratch, record, &mut done);
                Ok(())
            });
            done.lines = lines.unwrap_or(0);
            done
        },
        |mut chunk| {
            chunk.refused.iter_mut().for_each(|line| line.line += before);
            before += chunk.lines;
            hand_on(chunk.made, chunk.refused).map_err(broken)
        },
    )
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

/// What a worker uses again and again.
struct WorkerScratch<'k> {
    arena: Bump,
    documents: JsonDocuments<'k>,
    device: DeviceVerdicts,
    packer: Packer,
}

impl<'k> WorkerScratch<'k> {
    fn new(key: &'k SecretKey) -> Self {
        let standing = Standing::Unproven;
        let device = DeviceVerdicts {
            device: String::new(),
            collected: None,
            standing,
            counts: [0; 5],
            verdicts: Vec::new(),
            sealed: None,
        };
        Self { arena: Bump::new(), documents: JsonDocuments::with_secrets(key), device, packer: Packer::default() }
    }
}

/// Judges records.
struct RecordJudge<'c, E> {
    judge: &'c Judge<'c>,
    source: &'c Source,
    options: Stateless,
    /// What verdicts are sealed with, if they are.
    sealing: Option<(&'c Inputs, &'c SecretKey)>,
    standings: Standings,
    each: E,
}

impl<E> RecordJudge<'_, E> {
    fn record<T>(&self, scratch: &mut WorkerScratch<'_>, record: Record<'_>, chunk: &mut ChunkResults<T>)
    where
        E: Fn(&mut T, &DeviceVerdicts),
    {
        let RecordPlace { line, offset, .. } = record.place;
        match self.judge(record, scratch) {
            Ok(()) => (self.each)(&mut chunk.made, &scratch.device),
            Err(reason) => chunk.refused.push(RefusedLine { line, offset, reason }),
        }
    }

    /// Judges a record, and writes what comes of it where the last one stood.
    fn judge(&self, record: Record<'_>, scratch: &mut WorkerScratch<'_>) -> Result<(), String> {
        scratch.arena.reset();
        let WorkerScratch { arena, documents, device: out, packer } = scratch;
        let (judge, options, arena) = (self.judge, self.options, &*arena);
        let document = record.document.map_err(|error| error.reason)?;
        let rules = &judge.project.rules;
        let read = documents
            .read_in_place(document, rules.layout(), arena)
            .map_err(|error| format!("byte {}: {}", error.offset, error.message))?;
        let device = identity(&read.slots[0], "device")?;
        let collected = moment_of(&read.slots[1], judge.project)?;
        let observation = [judge.observation(self.source.id.as_str(), Some(collected), read.slots)];
        let watch: &Watch = arena.alloc(Watch::default());
        let mut facts = judge.merged(device, &observation, rules.layout(), arena);
        if self.sealing.is_some() {
            facts = facts.watched(watch);
        }
        let judged = judge.judged(device, arena.alloc(facts), arena);
        let verdicts = judge.verdicts(&judged.input, arena);
        out.device.clear();
        out.device.push_str(device);
        out.collected = Some(collected);
        out.counts = [0; 5];
        out.verdicts.clear();
        for verdict in &verdicts.all {
            let rule = &rules.rules()[verdict.rule];
            let place = match (rule.stage(judge.at), verdict.outcome) {
                (Stage::Trial, VerdictOutcome::NotApplicable) => None,
                (Stage::Trial | Stage::Draft, _) => Some(4),
                (Stage::Enforced, VerdictOutcome::Pass) => Some(0),
                (Stage::Enforced, VerdictOutcome::Fail) => Some(1),
                (Stage::Enforced, VerdictOutcome::Unknown(_)) => Some(2),
                (Stage::Enforced, VerdictOutcome::NotApplicable) => Some(3),
            };
            if let Some(place) = place {
                out.counts[place] += 1;
            }
            let unknown = matches!(verdict.outcome, VerdictOutcome::Unknown(_));
            if options.all || unknown || verdict.outcome == VerdictOutcome::Fail {
                let evidence = options.evidence.then(|| judge.prove(verdict, &judged.input, arena));
                let blames = match &evidence {
                    Some(evidence) if unknown => EvidenceSummary::of(evidence).blames,
                    None if unknown => judge.evidence_summary(verdict, &judged.input, arena).blames,
                    Some(_) | None => Vec::new(),
                };
                out.verdicts.push(RuleJudgement {
                    rule: verdict.rule,
                    outcome: verdict.outcome,
                    vacuous: verdict.vacuous,
                    excepted: verdict.excepted,
                    awaiting: verdict.awaiting,
                    blames,
                    // Digests differ from one workspace's key to another's, and say nothing here.
                    evidence: evidence.map(|evidence| evidence.map_values(&mask_secrets)),
                });
            }
        }
        out.standing = self.standings.of(&verdicts);
        if let Some((inputs, key)) = self.sealing {
            let mut packed = Vec::with_capacity(1024);
            if !packer.pack(observation[0].slots, rules.layout(), &mut packed) {
                return Err("it holds what no document can".to_owned());
            }
            let until = Some(watch.until().max(judge.at)).filter(|until| *until < Timestamp::MAX);
            let codes: Vec<u8> = verdicts.all.iter().map(code_of).collect();
            let state = JudgedState { judge, judged: &judged, observations: &observation, packed: &[&packed] };
            let seal = inputs.seal(key, &state, (judge.at, until), &codes);
            out.sealed = Some(Sealed { until, seal });
        }
        Ok(())
    }
}

/// How devices stand when every clock starts now.
struct Standings {
    /// With nothing but a failure of each rule.
    failing: Vec<Standing>,
    /// With nothing but rules that have no answer.
    silent: Standing,
    passing: Standing,
    uncovered: Standing,
    enforced: Vec<bool>,
}

impl Standings {
    /// Settles each case by itself: a device stands as badly as the worst of what was found.
    fn of_project(project: &Project, at: Timestamp) -> Self {
        let rules = project.rules.rules();
        let enforced: Vec<bool> = rules.iter().map(|rule| rule.stage(at) == Stage::Enforced).collect();
        let any = enforced.iter().position(|enforced| *enforced);
        let alone = |rule: Option<usize>, outcome| {
            let verdict =
                |rule| Verdict { rule, outcome, vacuous: false, excepted: false, awaiting: false, waived: false };
            standing_now(project, at, &Verdicts { all: rule.map(verdict).into_iter().collect() })
        };
        Self {
            failing: (0..rules.len()).map(|rule| alone(Some(rule), VerdictOutcome::Fail)).collect(),
            silent: alone(any, VerdictOutcome::Unknown(Reason::Missing)),
            passing: alone(any, VerdictOutcome::Pass),
            uncovered: alone(None, VerdictOutcome::Pass),
            enforced,
        }
    }

    fn of(&self, verdicts: &Verdicts) -> Standing {
        let enforced = verdicts.all.iter().filter(|verdict| self.enforced[verdict.rule]);
        let each = enforced.filter_map(|verdict| match verdict.outcome {
            VerdictOutcome::Fail => Some(self.failing[verdict.rule]),
            VerdictOutcome::Unknown(_) => Some(self.silent),
            VerdictOutcome::Pass => Some(self.passing),
            VerdictOutcome::NotApplicable => None,
        });
        each.max().unwrap_or(self.uncovered)
    }
}

/// How a device stands when every clock starts now.
fn standing_now(project: &Project, at: Timestamp, verdicts: &Verdicts) -> Standing {
    let device = fencepost_core::DeviceId::from("");
    let settings = project.config.settle_settings();
    let context = SettleContext { rules: project.rules.rules(), settings: &settings, at, before: None };
    let waivers = &DeviceWaivers::default();
    let of = SettleInput { device: &device, verdicts, newest: None, has_corrections: false, waivers };
    context.settle(of, Vec::new(), &mut |_| EvidenceSummary::default()).standing
}
