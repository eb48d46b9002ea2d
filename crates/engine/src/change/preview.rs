//! What would change if other rules were in force now. Both rule sets are assessed for good, on the same state and at the same
//! moment, and nothing of it is kept.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Diagnostic, Stage, Standing};
use fencepost_store::{DeviceBatch, LayoutFingerprints, Ledger, Look, Reader, SpellKind};
use jiff::Timestamp;

use super::access_flips::{AccessFlips, AccessSnapshot, SignInId};
use crate::act::send::{StepCount, count_deliveries};
use crate::assess::{AssessOptions, FindingLine, UncommittedAssessment, assess_within};
use crate::error::EngineError;
use crate::facts::people::People;
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec::DecisionKey;
use crate::ledger_view::outcome::{Outcome, verdict_of};
use crate::ledger_view::reading::Reading;
use crate::workspace::definition_changes::{DefinitionChange, definition_changes};
use crate::workspace::ledger::Moment;
use crate::workspace::project::{Project, ProjectError};
use fencepost_spool::{Spool, SpoolError};

/// A device whose standing would change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StandingFlip {
    /// The device.
    pub device: String,
    /// How it stands by the rules in force; none where it would be judged for the first time.
    pub before: Option<Standing>,
    /// How it would stand; none where it would not be judged any more.
    pub after: Option<Standing>,
}

/// Devices on which a rule would say something else, or what it says would count otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VerdictFlips {
    /// The rule.
    pub rule: String,
    /// How far it is in force; none where there is no such rule.
    pub stage_before: Option<Stage>,
    /// How far it would be in force; none where it would be gone.
    pub stage: Option<Stage>,
    /// What it says by the rules in force; none where there is no such rule.
    pub before: Option<&'static str>,
    /// What it would say; none where it would be gone.
    pub after: Option<&'static str>,
    /// The devices, ascending.
    pub devices: Vec<String>,
}

/// How the standings of a group's devices would change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GroupFlips {
    /// The group.
    pub group: String,
    /// How many devices would belong to it.
    pub devices: u64,
    /// Devices that would stand worse.
    pub worse: Vec<String>,
    /// Devices that would stand better.
    pub better: Vec<String>,
}

/// What would change.
#[derive(Clone, Debug, PartialEq)]
pub struct Preview {
    /// The moment at which both are compared.
    pub at: Timestamp,
    /// The number of the assessment whose rules are in force.
    pub against: Option<u64>,
    /// The rules would be the same.
    pub same: bool,
    /// How many devices were compared.
    pub devices: u64,
    /// Devices whose standing would change, ascending.
    pub standings: Vec<StandingFlip>,
    /// What rules would say otherwise, in the order of the rules; those that would be gone come last. Where a rule is new, what
    /// it would say of those that it covers.
    pub verdicts: Vec<VerdictFlips>,
    /// The groups with devices whose standing would change.
    pub groups: Vec<GroupFlips>,
    /// How many findings would open and close, besides those that do by the rules in force.
    pub opened: u64,
    /// See above.
    pub closed: u64,
    /// What would become of access, and of due moments.
    pub access: AccessFlips,
    /// The definitions that differ from those of the last assessment.
    pub definitions: Vec<DefinitionChange>,
    /// What sending would come to then, by channel and step.
    pub messages: Vec<MessageFlip>,
    /// What people are called, by id, of those whom it touches.
    pub person_names: BTreeMap<String, String>,
    /// How many sign-ins the next assessment decides otherwise than the last one did, by the same rules: what came in since, and time.
    pub decided_otherwise_anyway: u64,
    /// What an assessment by the edited rules would say of them.
    pub warnings: Vec<Diagnostic>,
}

/// How much a step would send on a channel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MessageFlip {
    /// The channel's id.
    pub channel: String,
    /// The step's id.
    pub step: String,
    /// How many deliveries by the edited rules.
    pub deliveries: u64,
    /// To how many people, recipients or devices.
    pub receivers: u64,
    /// How many deliveries by the rules in force.
    pub before: u64,
}

impl Preview {
    /// Returns whether an assessment by the edited rules would say the same as one by those in force.
    pub fn changes_nothing(&self) -> bool {
        self.standings.is_empty()
            && self.verdicts.is_empty()
            && self.access.is_empty()
            && self.opened == 0
            && self.closed == 0
            && self.messages.iter().all(|flip| flip.deliveries == flip.before)
    }
}

impl StandingFlip {
    /// Returns whether the device would stand worse, or better; none where it would be judged for the first time, or no more.
    pub fn is_worse(&self) -> Option<bool> {
        self.before.zip(self.after).map(|(before, after)| after > before)
    }
}

/// How devices stand and what rules say of them, as an assessment left them.
#[derive(Default)]
struct Snapshot {
    rules: Vec<(String, Stage)>,
    devices: BTreeMap<String, (Standing, Vec<u8>)>,
    opened: Vec<(String, String)>,
    closed: Vec<(String, String)>,
    groups: BTreeMap<String, Vec<String>>,
    access: AccessSnapshot,
    messages: BTreeMap<(String, String), StepCount>,
    warnings: Vec<Diagnostic>,
}

impl Project {
    /// Compiles the same files with drafts on trial.
    pub(crate) fn with_drafts_on_trial(&self) -> Result<Self, EngineError> {
        self.candidate(self.files.clone()).map_err(|_| {
            EngineError::refused(
                "a draft cannot be put on trial as it is",
                "put it on trial in its file, and see what is wrong",
            )
        })
    }

    /// Compiles other files for this workspace's ledger, in which drafts are on trial: what nobody is judged by yet is what a preview
    /// is for.
    ///
    /// # Errors
    /// When there are mistakes in them.
    pub fn candidate(&self, files: Vec<fencepost_formats::FileText>) -> Result<Self, ProjectError> {
        Self::compiled(&self.root, files, |rules| {
            let of_rules = rules.rules.iter_mut().chain(rules.baselines.iter_mut().flat_map(|own| &mut own.rules));
            let promote = |stage: &mut Option<Stage>| {
                if *stage == Some(Stage::Draft) {
                    *stage = Some(Stage::Trial);
                }
            };
            of_rules.for_each(|rule| promote(&mut rule.settings.stage));
            for baseline in &mut rules.baselines {
                promote(&mut baseline.settings.stage);
                baseline.expect.iter_mut().for_each(|expect| promote(&mut expect.settings.stage));
                for list in &mut baseline.lists {
                    promote(&mut list.settings.stage);
                    list.entries.iter_mut().for_each(|entry| promote(&mut entry.settings.stage));
                }
            }
        })
    }
}

/// Says what would change if the rules of `candidate` were in force at a moment, instead of those of the last assessment.
///
/// # Errors
/// When the ledger cannot be read, nothing was assessed yet, or the moment lies before the last assessment.
pub fn preview(
    in_force: &Project,
    candidate: &Project,
    ledger: &Ledger,
    moment: &Moment,
) -> Result<Preview, EngineError> {
    let (against, judged_by) = {
        let reader = ledger.reader()?;
        let Some(last) = reader.assessments(None, 1)?.into_iter().next() else {
            return Err(EngineError::refused(
                "nothing was assessed yet, so there is nothing to compare with",
                "run: fencepost assess",
            ));
        };
        let text = last.rule_set.as_deref().map(|digest| reader.rule_set(digest)).transpose()?.flatten();
        let judged_by = text.and_then(|text| Project::from_text(&in_force.root, &text));
        (last.number, judged_by)
    };
    let judged_by = judged_by.as_ref().unwrap_or(in_force);
    let compared = compare_projects(judged_by, candidate, ledger, moment)?;
    Ok(Preview { against: against.and_then(|number| u64::try_from(number).ok()), ..compared })
}

/// Says what an assessment by one workspace's rules would say otherwise than one by another's, at a moment.
pub(super) fn compare_projects(
    judged_by: &Project,
    candidate: &Project,
    ledger: &Ledger,
    moment: &Moment,
) -> Result<Preview, EngineError> {
    // Both assessments run on a copy, so that nobody waits for a preview and it can be had where nothing may be written.
    let mut copy = ledger.private_copy()?;
    let left = decisions_left(&copy.reader()?)?;
    let before = snapshot(judged_by, &mut copy, moment, AssessOptions::default())?;
    // Its drafts are judged by, though its files may be those of the last assessment: what that came to says nothing of them.
    let after = snapshot(candidate, &mut copy, moment, AssessOptions { anew: true, ..AssessOptions::default() })?;
    let mut preview = compare(&before, &after, moment.as_of);
    preview.same = judged_by.digest == candidate.digest;
    preview.definitions = definition_changes(&judged_by.files, &candidate.files);
    let touched: BTreeSet<&str> = preview.access.people.iter().map(|flip| flip.person.as_str()).collect();
    let people = People::load(&ledger.reader()?, None, candidate, moment.as_of)?;
    let named = touched.into_iter().filter_map(|id| people.get(id));
    preview.person_names = named.map(|person| (person.id.to_string(), person.name().to_owned())).collect();
    preview.decided_otherwise_anyway = before.access.differ_from(&left);
    Ok(preview)
}

/// Assesses by a rule set, looks at what came of it, and forgets it.
fn snapshot(
    project: &Project,
    ledger: &mut Ledger,
    moment: &Moment,
    options: AssessOptions<'_>,
) -> Result<Snapshot, EngineError> {
    let writer = ledger.writer("preview")?;
    let UncommittedAssessment { writer, assessed, .. } =
        assess_within(project, writer, moment, options, &mut |_, _| {})?;
    let reader = writer.reader();
    let judged = project.rules.rules().iter().filter(|rule| !rule.is_draft());
    let lines = |lines: &Spool<FindingLine>| {
        let line = |line: Result<FindingLine, SpoolError>| line.map(|line| (line.device, line.rule));
        lines.iter().map(line).collect::<Result<Vec<_>, _>>()
    };
    let mut snapshot = Snapshot {
        rules: judged.map(|rule| (rule.id.to_string(), rule.stage(moment.as_of))).collect(),
        opened: lines(&assessed.opened)?,
        closed: lines(&assessed.closed)?,
        warnings: assessed.warnings,
        ..Snapshot::default()
    };
    let (all, mut held) = (reader.devices(Look::All)?, DeviceBatch::default());
    for devices in all.chunks(DEVICES) {
        reader.hold(devices, LayoutFingerprints::default(), &mut held)?;
        for (at, device) in devices.iter().enumerate() {
            if let Some(outcome) = held.assessed(at).and_then(|row| Outcome::from_bytes(row.outcome)) {
                snapshot.devices.insert(device.name.clone(), (outcome.standing(), outcome.verdicts.to_vec()));
            }
        }
    }
    let reading = reading_of(project, reader, assessed.run, moment.as_of)?;
    reading.each_post("groups", |group, device, _| {
        snapshot.groups.entry(group).or_default().push(device.to_owned());
    })?;
    snapshot.access = AccessSnapshot::of(&reading)?;
    snapshot.messages = count_deliveries(&reading)?;
    Ok(snapshot)
}

/// Reads what an assessment that is not committed wrote.
pub(super) fn reading_of<'r>(
    project: &'r Project,
    reader: Reader<'r>,
    run: i64,
    at: Timestamp,
) -> Result<Reading<'r>, EngineError> {
    Ok(Reading { assessment: reader.run(run)?, ..Reading::of_now(project, reader, at)? })
}

/// Returns what the last assessment decided.
fn decisions_left(reader: &Reader<'_>) -> Result<BTreeMap<SignInId, String>, EngineError> {
    let mut left = BTreeMap::new();
    reader.each_spell(SpellKind::Decision, None, |row| {
        if let Some(DecisionKey { person, service, client }) = DecisionKey::read(&row.subject) {
            left.insert(SignInId { device: row.device, person, service, client }, row.value);
        }
        Ok::<_, EngineError>(())
    })?;
    Ok(left)
}

/// Compares what both would send, by channel and step.
fn message_flips(before: &Snapshot, after: &Snapshot) -> Vec<MessageFlip> {
    let keys: BTreeSet<_> = before.messages.keys().chain(after.messages.keys()).collect();
    let flip = |key: &(String, String)| {
        let (was, is) = (before.messages.get(key), after.messages.get(key));
        MessageFlip {
            channel: key.0.clone(),
            step: key.1.clone(),
            deliveries: is.map_or(0, |count| count.deliveries),
            receivers: is.map_or(0, |count| count.receivers.len() as u64),
            before: was.map_or(0, |count| count.deliveries),
        }
    };
    keys.into_iter().map(flip).collect()
}

fn compare(before: &Snapshot, after: &Snapshot, at: Timestamp) -> Preview {
    let word = |snapshot: &Snapshot, device: &str, rule: usize| {
        let code = snapshot.devices.get(device)?.1.get(rule)?;
        Some(verdict_of(rule, *code).outcome.as_str())
    };
    let position = |rules: &[(String, Stage)], rule: &str| rules.iter().position(|(known, _)| known == rule);
    let gone = before.rules.iter().filter(|(rule, _)| position(&after.rules, rule).is_none());
    let mut verdicts = Vec::new();
    for (rule, _) in after.rules.iter().chain(gone) {
        let (was, is) = (position(&before.rules, rule), position(&after.rules, rule));
        let [stage_before, stage] = [was.map(|at| before.rules[at].1), is.map(|at| after.rules[at].1)];
        let mut flips: BTreeMap<[Option<&'static str>; 2], Vec<String>> = BTreeMap::new();
        for device in after.devices.keys() {
            let [one, other] = [was.and_then(|at| word(before, device, at)), is.and_then(|at| word(after, device, at))];
            // A rule that is new, or gone, says something only of those that it covers.
            let quiet = |word: Option<&str>| word.is_none_or(|word| word == "not-applicable");
            // What fails counts otherwise where the rule is otherwise in force.
            let counts = stage_before != stage && matches!(other, Some("fail" | "unknown"));
            if (one != other || counts) && !(quiet(one) && quiet(other)) {
                flips.entry([one, other]).or_default().push(device.clone());
            }
        }
        verdicts.extend(flips.into_iter().map(|([before, after], devices)| VerdictFlips {
            rule: rule.clone(),
            stage_before,
            stage,
            before,
            after,
            devices,
        }));
    }
    let devices: BTreeSet<&String> = before.devices.keys().chain(after.devices.keys()).collect();
    let standings: Vec<StandingFlip> = devices
        .into_iter()
        .filter_map(|device| {
            let [before, after] = [before, after].map(|it| it.devices.get(device).map(|(standing, _)| *standing));
            (before != after).then(|| StandingFlip { device: device.clone(), before, after })
        })
        .collect();
    let groups = after
        .groups
        .iter()
        .map(|(group, devices)| {
            let flipped = |worse: bool| {
                let own = standings.iter().filter(|flip| devices.binary_search(&flip.device).is_ok());
                own.filter(|flip| flip.is_worse() == Some(worse)).map(|flip| flip.device.clone()).collect()
            };
            let (worse, better) = (flipped(true), flipped(false));
            GroupFlips { group: group.clone(), devices: devices.len() as u64, worse, better }
        })
        .filter(|flips: &GroupFlips| !flips.worse.is_empty() || !flips.better.is_empty())
        .collect();
    let more = |after: &[(String, String)], before: &[(String, String)]| {
        let before: BTreeSet<_> = before.iter().collect();
        after.iter().filter(|line| !before.contains(line)).count() as u64
    };
    Preview {
        at,
        against: None,
        same: false,
        devices: after.devices.len() as u64,
        standings,
        verdicts,
        groups,
        opened: more(&after.opened, &before.opened),
        closed: more(&after.closed, &before.closed),
        access: before.access.flips(&after.access),
        messages: message_flips(before, after),
        definitions: Vec::new(),
        person_names: BTreeMap::new(),
        decided_otherwise_anyway: 0,
        warnings: after.warnings.clone(),
    }
}
