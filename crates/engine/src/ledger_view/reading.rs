//! Answers what is asked of a workspace, as of a moment: the latest assessment at or before it, moved by the
//! clock alone. Verdicts change only in an assessment.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

use bumpalo::Bump;
use fencepost_core::{Facts, Finding, Layout, SlotId, Standing, Value, standing_at};
use fencepost_store::{BodyUnpacker, LayoutFingerprints, Ledger, LedgerError, Reader, RunRow, SpellKind};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{Judge, People, surroundings};
use crate::ledger_view::batch::{Batch, DEVICES, Job, Posture, standing_of_spell};
use crate::ledger_view::codec;
use crate::ledger_view::damage::{damaged, unreadable};
use crate::workers::{cores, handed_out};
use crate::workspace::project::Project;

/// One line of the fence.
#[derive(Clone, Debug, PartialEq)]
pub struct FenceLine {
    /// The group, or the value that its devices share.
    pub label: String,
    /// How its devices stand, in their order.
    pub posts: Vec<Standing>,
}

/// Which facts are looked at, besides those that say who holds a device and which groups do.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Wanted<'s> {
    /// These, with all that is in them.
    Whole(&'s [SlotId]),
    /// These, as the rules read them.
    AsRead(&'s [SlotId]),
}

/// A workspace as it stood at a moment.
#[derive(Debug)]
pub struct Reading<'r> {
    /// The project by whose rules it was assessed.
    pub project: &'r Project,
    /// The ledger.
    pub reader: Reader<'r>,
    /// The assessment that is shown.
    pub assessment: Option<RunRow>,
    /// The moment.
    pub at: Timestamp,
    /// The people as listed then.
    pub people: People,
    /// The rules were edited after the assessment.
    pub edited: bool,
    /// How many files were imported after it.
    pub imported_since: i64,
    /// What the ledger is read by: none for what it holds now.
    pub run: Option<i64>,
}

impl<'r> Reading<'r> {
    /// Opens a ledger for reading as of `at`. `earlier` keeps the rules of an assessment made by others than the present.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no assessment so early.
    pub fn open(
        project: &'r Project,
        earlier: &'r OnceCell<Project>,
        ledger: &'r Ledger,
        at: Timestamp,
        past: bool,
    ) -> Result<Self, EngineError> {
        let reader = ledger.reader()?;
        let assessment = reader.assessments(Some(at), 1)?.into_iter().next();
        let latest = reader.assessments(None, 1)?.into_iter().next();
        if past
            && assessment.is_none()
            && let Some(first) = latest
        {
            return Err(EngineError::refused(
                match reader.setting("kept_since")? {
                    None => format!("nothing was assessed at or before {at}"),
                    Some(_) => format!("nothing that was assessed at or before {at} is kept"),
                },
                format!("the last assessment is as of {}; see them all with: fencepost list assessments", first.as_of),
            ));
        }
        let last = reader.last_run()?;
        let run = match (&assessment, &last) {
            (Some(assessment), Some(last)) if assessment.id != last.id => Some(assessment.id),
            _ => None,
        };
        let edited = assessment.as_ref().is_some_and(|run| run.rule_set.as_deref() != Some(project.digest.as_str()));
        let mut judged_by = project;
        if let (true, Some(digest)) = (edited, assessment.as_ref().and_then(|run| run.rule_set.as_deref()))
            && let Some(old) = reader.rule_set(digest)?.and_then(|text| Project::from_text(&project.root, &text))
        {
            judged_by = earlier.get_or_init(|| old);
        }
        let imported_since = assessment.as_ref().map_or(Ok(0), |run| reader.imports_after(run.id))?;
        let judged_at = assessment.as_ref().map_or(at, |run| run.as_of);
        let people = People::load(&reader.people(run)?, judged_by, judged_at);
        Ok(Self { project: judged_by, reader, assessment, at, people, edited, imported_since, run })
    }

    /// Opens a ledger for reading what is in it now, whatever the last assessment went by: for what is asked of the state
    /// itself. As of an earlier moment it is what was known at the assessment of then.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn of_state(
        project: &'r Project,
        earlier: &'r OnceCell<Project>,
        ledger: &'r Ledger,
        at: Timestamp,
        past: bool,
    ) -> Result<Self, EngineError> {
        if past {
            return Self::open(project, earlier, ledger, at, past);
        }
        let reader = ledger.reader()?;
        let people = People::load(&reader.people(None)?, project, at);
        Ok(Self { project, reader, assessment: None, at, people, edited: false, imported_since: 0, run: None })
    }

    /// The moment by which verdicts were found: the assessment's.
    pub fn judged_at(&self) -> Timestamp {
        self.assessment.as_ref().map_or(self.at, |run| run.as_of)
    }

    /// A judge that finds the verdicts of the assessment again.
    pub fn judge(&self) -> Judge<'_> {
        Judge::new(self.project, &self.people, self.judged_at())
    }

    /// Returns what every source last said of a device; nothing when it is retired.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every function here.
    pub fn documents(&self, device: &str) -> Result<Vec<Document>, LedgerError> {
        Ok(self.project.documents(device, self.reader.observations_of(device, self.run)?, self.judged_at()))
    }

    /// Returns whether an id is a device's, or once was.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn knows_device(&self, id: &str) -> Result<bool, LedgerError> {
        Ok(!self.reader.observations_of(id, self.run)?.is_empty() || self.reader.renamed(id)?.is_some())
    }

    /// Returns what a device is called that was named, by its name or a former one.
    ///
    /// # Errors
    /// When the ledger does not know it.
    pub fn device_name(&self, device: &str) -> Result<String, EngineError> {
        if !self.reader.observations_of(device, self.run)?.is_empty() {
            return Ok(device.to_owned());
        }
        if let Some(now) = self.reader.renamed(device)? {
            return Ok(now);
        }
        Err(self.nobody(device, false)?)
    }

    /// Goes through all devices that are not retired, with the wanted of their facts by `layout`, which begins with the slots of the
    /// rules; what says who holds a device, and which groups, is wanted always. Where what the rules read tells all that is wanted,
    /// the documents are left alone. `look` is done on several cores; `take` is given
    /// what it found, ascending by the devices' ids.
    pub(crate) fn with_facts<T: Send>(
        &self,
        judge: &Judge<'_>,
        layout: &Layout,
        wanted: Wanted<'_>,
        look: impl for<'a> Fn(&'a Job<'a>, &'a Facts<'a>, &'a Bump) -> Result<T, EngineError> + Sync,
        mut take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let project = self.project;
        // Only of what is current there is a pack; and a layout with more slots asks for what it does not have.
        let packed_will_do = self.run.is_none() && layout.len() == project.rules.layout().len();
        let (Wanted::Whole(slots) | Wanted::AsRead(slots)) = wanted;
        // The items of lists are packed without what the rules do not look at.
        let is_whole = |facts: &Facts<'_>| {
            let is_part = |slot: &SlotId| matches!(facts.slot(*slot).raw, Value::List(_) | Value::Object(_));
            matches!(wanted, Wanted::AsRead(_)) || !slots.iter().any(is_part)
        };
        let needed: BTreeSet<SlotId> = judge.usual_slots(layout).chain(slots.iter().copied()).collect();
        let needed: Vec<bool> = layout.slots().map(|slot| needed.contains(&slot)).collect();
        let is_needed = |slot: SlotId| needed[slot.0 as usize];
        let layout_fingerprints = LayoutFingerprints { now: project.layout_fingerprint(), earlier: None };
        let bodies = self.reader.bodies()?;
        let run = self.run;
        let by_documents = |unpacker: &mut BodyUnpacker<'_>, arena: &Bump, job: &Job<'_>| {
            let stored = job.documents.iter().map(|stored| stored.unpack(unpacker)).collect::<Result<_, _>>()?;
            let name = job.device.name.as_str();
            let documents = project.documents(name, stored, judge.at);
            if documents.is_empty() {
                return Ok(None);
            }
            let facts =
                judge.facts(name, &documents, layout, arena).map_err(|error| damaged(project, name, &error.message))?;
            look(job, facts, arena).map(Some)
        };
        let look_at = |reader: &Reader<'_>, scratch: &mut (Bump, BodyUnpacker<'_>), batch: &mut Batch| {
            match run {
                None => {
                    batch.fill(reader, layout_fingerprints, |_, _, _| !packed_will_do)?;
                    batch.fill_standings(reader, None)?;
                }
                // What is beside the devices is of now.
                Some(run) => batch.fill_as_of(reader, run)?,
            }
            let (arena, unpacker) = scratch;
            let mut found = Vec::with_capacity(DEVICES);
            for at in batch.places() {
                arena.reset();
                if packed_will_do {
                    let job = batch.job(at);
                    let facts = judge.packed_facts(&job.device.name, &job.facts, is_needed, arena);
                    if let Some(facts) = facts.filter(|facts| is_whole(facts)) {
                        found.push(look(&job, facts, arena)?);
                        continue;
                    }
                    batch.read_documents(at, reader)?;
                    arena.reset();
                }
                found.extend(by_documents(unpacker, arena, &batch.job(at))?);
            }
            Ok::<_, EngineError>(found)
        };
        // The next of them are looked up while others are looked at.
        let mut last = String::new();
        let mut next = |batch: Batch| {
            let devices = self.reader.devices_after(&last, DEVICES)?;
            if let Some(device) = devices.last() {
                last.clone_from(&device.name);
            }
            Ok::<_, EngineError>(batch.of(&mut devices.into_iter()))
        };
        let Some(mut first) = next(Batch::default())? else { return Ok(()) };
        // A few devices are not worth a thread.
        let workers = if first.places().len() < DEVICES { 1 } else { cores(None) };
        let snapshot_readers = if workers > 1 { self.reader.snapshot_readers(workers) } else { Vec::new() };
        if snapshot_readers.is_empty() {
            let mut scratch = (Bump::new(), bodies.unpacker());
            loop {
                look_at(&self.reader, &mut scratch, &mut first)?.into_iter().try_for_each(&mut take)?;
                match next(first)? {
                    Some(batch) => first = batch,
                    None => return Ok(()),
                }
            }
        }
        let snapshot_readers = Mutex::new(snapshot_readers);
        handed_out(
            &mut (Some(first), Vec::<Batch>::new()),
            workers,
            |(first, batches)| match first.take() {
                Some(first) => Ok(Some(first)),
                None => next(batches.pop().unwrap_or_default()),
            },
            || {
                let snapshot_reader = snapshot_readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
                (snapshot_reader.expect("there is one for each worker"), (Bump::new(), bodies.unpacker()))
            },
            |(snapshot_reader, scratch), mut batch: Batch| {
                let found = look_at(&snapshot_reader.reader(), scratch, &mut batch);
                (batch, found)
            },
            |(_, batches), (batch, found)| {
                found?.into_iter().try_for_each(&mut take)?;
                batches.push(batch);
                Ok(())
            },
        )
    }

    /// Goes through all devices that are not retired, ascending by id.
    pub(crate) fn for_each_device(
        &self,
        mut each: impl FnMut(&str, &[Document]) -> Result<(), LedgerError>,
    ) -> Result<(), LedgerError> {
        for device in self.reader.device_names()? {
            let documents = self.documents(&device)?;
            if !documents.is_empty() {
                each(&device, &documents)?;
            }
        }
        Ok(())
    }

    /// Returns findings by device; running ones, or also the latest that closed.
    ///
    /// # Errors
    /// When the ledger cannot be read; so for every function here.
    pub fn findings(
        &self,
        device: Option<&str>,
        closed_too: bool,
    ) -> Result<BTreeMap<String, Vec<Finding>>, EngineError> {
        let mut by_device: BTreeMap<String, Vec<Finding>> = BTreeMap::new();
        for row in self.reader.findings(device, self.run, closed_too)? {
            let finding = codec::finding(&row).ok_or_else(|| unreadable(self.project, &row.device, "a finding"))?;
            by_device.entry(row.device).or_default().push(finding);
        }
        Ok(by_device)
    }

    /// Returns how devices stand and what they are found with, for looking at one after another.
    pub(crate) fn posture(&self) -> Posture<'_> {
        Posture { project: self.project, assessed_at: self.judged_at(), at: self.at }
    }

    /// Returns the standing of every assessed device at the moment of reading, and whether any rule covers it.
    pub fn standings(&self) -> Result<BTreeMap<String, (Standing, bool)>, EngineError> {
        // At the moment of the assessment they stand as it left them.
        let moved = self.at != self.judged_at();
        let findings = if moved { self.findings(None, false)? } else { BTreeMap::new() };
        let uncovered = self.project.config.uncovered;
        let none = Vec::new();
        let mut standings = BTreeMap::new();
        for spell in self.reader.spells(SpellKind::Standing, None, self.run)? {
            let (left, covered) = standing_of_spell(self.project, &spell)?;
            let standing = if moved {
                standing_at(findings.get(&spell.device).unwrap_or(&none), covered, uncovered, self.at)
            } else {
                left
            };
            standings.insert(spell.device, (standing, covered));
        }
        Ok(standings)
    }

    /// Parts the fleet into the lines of the fence: by groups, or by the values of a fact.
    ///
    /// `by` is `groups`, a fact, or none for what the workspace says.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub fn fence(&self, by: Option<&str>) -> Result<Vec<FenceLine>, EngineError> {
        let Some(by) = by.or(self.project.config.fence_by.as_deref()) else {
            let posts = self.standings()?.into_values().map(|(standing, _)| standing).collect();
            return Ok(vec![FenceLine { label: "every device".to_owned(), posts }]);
        };
        let mut lines: BTreeMap<String, Vec<Standing>> = BTreeMap::new();
        self.each_post(by, |label, _, standing| lines.entry(label).or_default().push(standing))?;
        Ok(lines.into_iter().map(|(label, posts)| FenceLine { label, posts }).collect())
    }

    /// Hands on the label, name and standing of every assessed device, ascending by name; once for each of its labels: its
    /// groups, or the value of a fact.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read.
    pub(crate) fn each_post(&self, by: &str, mut each: impl FnMut(String, &str, Standing)) -> Result<(), EngineError> {
        let judge = self.judge();
        let asks_for_findings = by == "groups" && self.project.rules.groups_read_standing();
        let mut layout = self.project.rules.layout().clone();
        let slot = (by != "groups").then(|| layout.want(by, &self.project.dictionary));
        let groups: Vec<String> = self.project.rules.groups().map(|(id, ..)| id.to_string()).collect();
        let wanted: Vec<SlotId> = slot.into_iter().collect();
        let (project, posture) = (self.project, self.posture());
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let Some((standing, _)) = posture.standing(job)? else { return Ok(None) };
            let post = |labels: Vec<String>| Ok(Some((labels, device.to_owned(), standing)));
            let Some(slot) = slot else {
                let judged = judge.judged(device, facts, arena);
                let own = if asks_for_findings { posture.running(job)? } else { Vec::new() };
                let ambient = surroundings(Some(standing), &own, arena);
                let zone = &project.config.zone;
                let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.at, zone, arena);
                let is_line = |(group, value): (&String, &Value<'_>)| {
                    (matches!(value, Value::Boolean(true)) && group != "every-device").then(|| group.clone())
                };
                return post(groups.iter().zip(memberships).filter_map(is_line).collect());
            };
            let label = match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => "(none)".to_owned(),
                value => value.show(),
            };
            post(vec![label])
        };
        self.with_facts(&judge, &layout, Wanted::Whole(&wanted), look, |found| {
            let Some((labels, device, standing)) = found else { return Ok(()) };
            labels.into_iter().for_each(|label| each(label, &device, standing));
            Ok(())
        })
    }
}
