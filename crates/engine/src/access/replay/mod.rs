//! A log of sign-ins, decided again: by the rules of today or of then, on the state at each sign-in's own moment.
//!
//! Each sign-in is decided on the state of the last assessment before it, advanced to the time of the sign-in. Decisions are cached
//! until the first moment at which time alone may change them, so that most lines of a long log are cache hits.

mod line;
mod states;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::RandomState;
use std::io::{BufRead, Read as _};
use std::path::Path;
use std::rc::Rc;

use bumpalo::Bump;
use fencepost_core::limits::RECORD_BYTES;
use fencepost_core::{Attempt, Cause, Effect, Stage, StepResult, Strictness, decide_and_explain, find_causes};
use fencepost_formats::{Mapped, RecordPlace, Source, read_records};
use fencepost_store::{Ledger, Reader, RunRow};
use jiff::Timestamp;

use crate::assess::outlook::Outlook;
use crate::assess::sign_in_context::SignInContext;
use crate::error::EngineError;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::workspace::files::log_source;
use crate::workspace::project::Project;
use line::LoggedSignIn;
use states::{AssessedState, DeviceState, PeopleVersion};

/// By which rules a log is decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReplayRules {
    /// The rules of the workspace as they are now.
    Today,
    /// The rules used by the last assessment before each sign-in.
    OfThen,
}

/// What became of the sign-ins under one access rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleCounts {
    /// The rule.
    pub id: String,
    /// How far it is in force.
    pub stage: Stage,
    /// Sign-ins to its services by people whom it is for.
    pub targeted: u64,
    /// Of those, the ones that it excused.
    pub excused: u64,
    /// Those that met it.
    pub met: u64,
    /// Those that did not.
    pub unmet: u64,
    /// Those of which it is not known whether it applies or is met.
    pub unknown: u64,
}

/// A line that is not counted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadLine {
    /// Its number, from 1.
    pub line: u64,
    /// Why.
    pub because: String,
}

/// A sign-in whose recorded outcome is another one than was decided.
#[derive(Clone, Debug, PartialEq)]
pub struct Surprise {
    /// Its number, from 1.
    pub line: u64,
    /// When it was made.
    pub at: Timestamp,
    /// Who signed in.
    pub person: String,
    /// With which device.
    pub device: Option<String>,
    /// To which service.
    pub service: String,
    /// What the log says.
    pub recorded: Effect,
    /// What was decided.
    pub effect: Effect,
    /// The access rules that decide; none where the service's default does.
    pub access_rules: Vec<String>,
    /// What would have had to be otherwise for the way to be open.
    pub causes: Vec<Cause>,
}

/// A log of sign-ins, decided again.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Replayed {
    /// Lines that were decided.
    pub sign_ins: u64,
    /// How many of them are permitted, permitted with obligations, and denied.
    pub effects: [u64; 3],
    /// What became of them under each access rule.
    pub rules: Vec<RuleCounts>,
    /// Sign-ins to which no enforced access rule applies.
    pub unmatched: u64,
    /// Lines that are not counted: the first [`MOST_KEPT`] of them.
    pub bad_lines: Vec<BadLine>,
    /// How many there are.
    pub bad: u64,
    /// Sign-ins whose recorded outcome is another one: the first [`MOST_KEPT`] of them.
    pub surprises: Vec<Surprise>,
    /// How many there are.
    pub surprised: u64,
    /// Devices that the ledger does not know, each once; their sign-ins are decided as with a strange device.
    pub unknown_devices: Vec<String>,
    /// People on no list, each once.
    pub unknown_people: Vec<String>,
}

/// No more bad lines, surprises and unknown names than this are kept.
pub const MOST_KEPT: usize = 1_000;
/// Decisions that are kept at once.
const MOST_DECISIONS: usize = 100_000;

/// A decision, and until when time alone does not change it.
struct CachedDecision {
    from: Timestamp,
    until: Timestamp,
    strictness: Strictness,
    effect: Effect,
    /// One for each access rule.
    results: Vec<StepResult>,
    is_matched: bool,
    access_rules: Vec<String>,
    causes: Vec<Cause>,
}

struct Replay<'r> {
    project: &'r Project,
    reader: Reader<'r>,
    rules: ReplayRules,
    /// After it no sign-in can have been made.
    now: Timestamp,
    /// The assessments, oldest first.
    runs: Vec<RunRow>,
    states: BTreeMap<usize, Rc<AssessedState>>,
    people: BTreeMap<PeopleVersion, Rc<People>>,
    /// Rules of then, by their digest.
    projects: HashMap<String, Option<Rc<Project>>>,
    devices: HashMap<(usize, String), Option<Rc<DeviceState>>>,
    decisions: HashMap<Vec<u8>, Rc<CachedDecision>>,
    /// Some access rule asks where a sign-in comes from.
    asks_address: bool,
    /// Some access rule asks when a sign-in is made, so that nothing can be kept.
    asks_time: bool,
    /// Digests of what lines say.
    seen: HashSet<u64>,
    digests: RandomState,
    /// What a decision is kept by; its room is used again.
    key: Vec<u8>,
    out: Replayed,
}

/// A log of sign-ins.
#[derive(Clone, Copy, Debug)]
pub struct SignInLog<'l> {
    /// Where it lies; none for standard input.
    pub path: Option<&'l Path>,
    /// The source that says how it is written, where one was named.
    pub source: Option<&'l str>,
}

/// Decides a log of sign-ins again: as its source says, or JSON Lines with `at`, `person`, `device`, `service`, `client`, `address`,
/// `platform` and, as it was recorded, `effect`. `by` names the rules, and the moment after which no sign-in can have been made;
/// `progress` is told how many bytes were read.
///
/// # Errors
/// When the log or the ledger cannot be read, or nothing was assessed.
pub fn replay(
    workspace: (&Project, &Ledger),
    log: SignInLog<'_>,
    input: impl BufRead + Send,
    by: (ReplayRules, Timestamp),
    progress: &mut dyn FnMut(u64),
) -> Result<Replayed, EngineError> {
    let (project, ledger) = workspace;
    let source = log_source(project, log.path, log.source)?;
    let mut replay = Replay::new(project, ledger, by)?;
    match source {
        Some(source) => replay.records(&source, input, progress)?,
        None => replay.lines(input, progress)?,
    }
    Ok(replay.out)
}

impl<'r> Replay<'r> {
    fn new(project: &'r Project, ledger: &'r Ledger, by: (ReplayRules, Timestamp)) -> Result<Self, EngineError> {
        let (rules, now) = by;
        let reader = ledger.reader()?;
        let mut runs = reader.assessments(None, u32::MAX)?;
        runs.reverse();
        if runs.is_empty() {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        }
        let access = project.rules.access();
        let asks = |name: &str| access.rules().iter().any(|rule| rule.texts().any(|text| text.contains(name)));
        let counts = access.rules().iter().map(|rule| RuleCounts {
            id: rule.id.to_string(),
            stage: rule.stage(now),
            targeted: 0,
            excused: 0,
            met: 0,
            unmet: 0,
            unknown: 0,
        });
        Ok(Self {
            project,
            reader,
            rules,
            now,
            runs,
            states: BTreeMap::new(),
            people: BTreeMap::new(),
            projects: HashMap::new(),
            devices: HashMap::new(),
            decisions: HashMap::new(),
            asks_address: asks("signin.address"),
            asks_time: asks("signin.time"),
            seen: HashSet::new(),
            digests: RandomState::new(),
            key: Vec::new(),
            out: Replayed { rules: counts.collect(), ..Replayed::default() },
        })
    }

    /// Takes the records of a log that a source says how to read.
    fn records(
        &mut self,
        source: &Source,
        input: impl BufRead + Send,
        progress: &mut dyn FnMut(u64),
    ) -> Result<(), EngineError> {
        let project = self.project;
        let with = Mapped {
            dictionary: &project.dictionary,
            zone: &project.config.calendar.zone,
            file_time: None,
            path: None,
        };
        let (mut failure, mut passed) = (None, 0);
        let read = read_records(input, source, &with, |record| {
            let RecordPlace { line, offset, .. } = record.place;
            progress(offset.saturating_sub(passed));
            passed = offset;
            let taken = match &record.document {
                Ok(document) => self.take(line, document.bytes()),
                Err(error) => {
                    self.set_aside(line, error.reason.clone());
                    Ok(())
                }
            };
            taken.map_err(|error| {
                failure = Some(error);
                String::new()
            })
        });
        match (failure, read) {
            (Some(failure), _) => Err(failure),
            (None, Ok(_)) => Ok(()),
            (None, Err(message)) => {
                let help = format!("see how [[source]] {} says that it is written", source.id);
                Err(EngineError::refused(format!("the log cannot be read: {message}"), help))
            }
        }
    }

    /// Takes a log whose lines are sign-ins as they are.
    fn lines(&mut self, mut log: impl BufRead, progress: &mut dyn FnMut(u64)) -> Result<(), EngineError> {
        let (mut number, mut line) = (0, Vec::new());
        loop {
            line.clear();
            let read = (&mut log).take(RECORD_BYTES as u64 + 1).read_until(b'\n', &mut line).map_err(|error| {
                EngineError::refused(format!("the log cannot be read: {error}"), "try another file")
            })?;
            if read == 0 {
                return Ok(());
            }
            number += 1;
            progress(read as u64);
            if line.len() > RECORD_BYTES {
                return Err(EngineError::refused(
                    format!("line {number} is longer than {RECORD_BYTES} bytes"),
                    "a log has one JSON object a line",
                ));
            }
            if !line.trim_ascii().is_empty() {
                self.take(number, &line)?;
            }
        }
    }

    /// Decides the sign-in of a line, or sets the line aside.
    fn take(&mut self, number: u64, line: &[u8]) -> Result<(), EngineError> {
        match self.parse(line)? {
            Ok(logged) => self.add(number, &logged),
            Err(because) => {
                self.set_aside(number, because);
                Ok(())
            }
        }
    }

    fn set_aside(&mut self, line: u64, because: String) {
        self.out.bad += 1;
        if self.out.bad_lines.len() < MOST_KEPT {
            self.out.bad_lines.push(BadLine { line, because });
        }
    }

    /// Decides a sign-in, and counts it.
    fn add(&mut self, number: u64, logged: &LoggedSignIn<'_>) -> Result<(), EngineError> {
        let decided = self.decided(logged)?;
        let out = &mut self.out;
        out.sign_ins += 1;
        out.effects[decided.strictness as usize] += 1;
        out.unmatched += u64::from(!decided.is_matched);
        for (counts, result) in out.rules.iter_mut().zip(&decided.results) {
            match result {
                StepResult::OtherService | StepResult::OtherPeople | StepResult::NotEnforced => continue,
                StepResult::NotNow => {}
                StepResult::Excused => counts.excused += 1,
                StepResult::Met => counts.met += 1,
                StepResult::Unmet => counts.unmet += 1,
                StepResult::NeedsUnknown | StepResult::Uncertain(_) => counts.unknown += 1,
            }
            counts.targeted += 1;
        }
        let Some(recorded) = logged.recorded.filter(|recorded| *recorded != decided.effect) else { return Ok(()) };
        out.surprised += 1;
        if out.surprises.len() < MOST_KEPT {
            out.surprises.push(Surprise {
                line: number,
                at: logged.at,
                person: logged.person.to_string(),
                device: logged.device.as_deref().map(str::to_owned),
                service: self.project.rules.access().services()[logged.service].id.to_string(),
                recorded,
                effect: decided.effect,
                access_rules: decided.access_rules.clone(),
                causes: decided.causes.clone(),
            });
        }
        Ok(())
    }

    fn decided(&mut self, logged: &LoggedSignIn<'_>) -> Result<Rc<CachedDecision>, EngineError> {
        let place = self.run_before(logged.at);
        let device = logged.device.as_deref();
        self.set_key(place, logged);
        if let Some(known) = self.decisions.get(&self.key)
            && known.from <= logged.at
            && logged.at < known.until
            && !self.asks_time
        {
            return Ok(Rc::clone(known));
        }
        if self.decisions.len() >= MOST_DECISIONS {
            self.decisions.clear();
        }
        let state = self.state(place)?;
        let found = match device {
            Some(device) => self.device(place, device)?,
            None => None,
        };
        if let (Some(device), None) = (device, &found) {
            note(&mut self.out.unknown_devices, device);
        }
        let decided = Rc::new(self.decide(logged, &state, found.as_deref())?);
        self.decisions.insert(self.key.clone(), Rc::clone(&decided));
        Ok(decided)
    }

    /// Makes the key of everything that a decision hangs on but the moment: each part behind its length, so that no two are alike.
    fn set_key(&mut self, place: usize, logged: &LoggedSignIn<'_>) {
        let address = logged.address.as_deref().filter(|_| self.asks_address);
        let texts = [
            Some(&*logged.person),
            logged.device.as_deref(),
            Some(&*logged.client),
            address,
            logged.platform.as_deref(),
        ];
        self.key.clear();
        self.key.extend_from_slice(&place.to_le_bytes());
        self.key.extend_from_slice(&logged.service.to_le_bytes());
        for text in texts {
            // No text is as long as what stands for none.
            self.key.extend_from_slice(&text.map_or(usize::MAX, str::len).to_le_bytes());
            self.key.extend_from_slice(text.unwrap_or_default().as_bytes());
        }
    }

    fn decide(
        &self,
        logged: &LoggedSignIn<'_>,
        state: &AssessedState,
        device: Option<&DeviceState>,
    ) -> Result<CachedDecision, EngineError> {
        let project = state.project.as_deref().unwrap_or(self.project);
        let (judge, arena) = (Judge::new(project, &state.people, state.as_of), Bump::new());
        let at = logged.at;
        let (name, documents, findings) = match device {
            Some(device) => (device.name.as_str(), device.documents.as_slice(), device.findings.as_slice()),
            None => ("", [].as_slice(), [].as_slice()),
        };
        let observations = judge.observations(name, documents, project.rules.layout(), &arena)?;
        let outlook = Outlook { judge: &judge, device: name, observations: &observations, findings };
        let found = outlook.device_at(at, &arena);
        let judge_then = judge.as_of(at);
        let session = judge_then.session(&arena);
        let running = found.as_ref().map(|found| found.running()).unwrap_or_default();
        let context = SignInContext::of(found.as_ref(), &running, &judge_then, &arena);
        let SignInContext { input, state: access_state, posture } = context;
        let sign_in = logged.sign_in(found.is_some());
        let services = project.rules.access().services();
        let wanted = &self.project.rules.access().services()[logged.service].id;
        // A service that there was not yet had no access rules either.
        let Some(service) = services.iter().position(|service| service.id == *wanted) else {
            return Ok(CachedDecision::by_default(self.project.rules.access().services()[logged.service].default, at));
        };
        let holder = judge_then.holder(&logged.person, None, &arena);
        let attempt = Attempt { input, state: access_state, holder: Some(&holder), service, sign_in: &sign_in };
        let decision = decide_and_explain(&project.rules, &attempt, session);
        let causes = find_causes(&project.rules, &attempt, &decision, posture, session);
        let until = found.as_ref().map_or(Timestamp::MAX, |found| found.until(at)).min(state.people_until);
        let rules = project.rules.access().rules();
        Ok(CachedDecision {
            from: at,
            // What may change at any moment is asked again at every other one.
            until: if until > at { until } else { at },
            strictness: decision.ruling.strictness(),
            effect: decision.ruling.effect,
            is_matched: decision.steps.iter().any(|step| step.counts),
            access_rules: decision.rules.iter().map(|rule| rules[*rule].id.to_string()).collect(),
            results: self.results(project, decision.steps),
            causes,
        })
    }

    /// Returns what became of the rules of today, by their ids.
    fn results(&self, project: &Project, steps: Vec<fencepost_core::Step>) -> Vec<StepResult> {
        let (today, then) = (self.project.rules.access().rules(), project.rules.access().rules());
        let of = |id: &fencepost_core::AccessRuleId| steps.iter().find(|step| then[step.rule].id == *id);
        today.iter().map(|rule| of(&rule.id).map_or(StepResult::NotEnforced, |step| step.result.clone())).collect()
    }
}

impl CachedDecision {
    fn by_default(effect: Effect, at: Timestamp) -> Self {
        let strictness = if effect == Effect::Permit { Strictness::Permitted } else { Strictness::Denied };
        Self {
            from: at,
            until: at,
            strictness,
            effect,
            results: Vec::new(),
            is_matched: false,
            access_rules: Vec::new(),
            causes: Vec::new(),
        }
    }
}

fn note(names: &mut Vec<String>, name: &str) {
    if names.len() < MOST_KEPT && !names.iter().any(|known| known == name) {
        names.push(name.to_owned());
    }
}
