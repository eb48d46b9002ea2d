//! Answers what is asked of a workspace, as of a moment: the latest assessment at or before it, moved by the
//! clock alone. Verdicts change only in an assessment.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::sync::Arc;

use fencepost_core::Finding;
use fencepost_store::{Ledger, LedgerError, Reader, RunRow, SpellKind};
use jiff::Timestamp;

use crate::compare::results::DriftResults;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::ledger_view::batch::{DeviceStanding, PostureAt};
use crate::ledger_view::codec;
use crate::ledger_view::damage::unreadable;
use crate::workspace::project::Project;

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
    pub people: Arc<People>,
    /// What comparisons say of devices, as the assessment found it; once it was loaded.
    pub(crate) drift: OnceCell<Arc<DriftResults>>,
    /// The rules were edited after the assessment.
    pub edited: bool,
    /// How many files were imported after it.
    pub imported_since: i64,
    /// What the ledger is read by: none for what it holds now.
    pub run: Option<i64>,
    /// What the assessment went by, where something was imported after it.
    pub(crate) assessed_by: Option<AssessedBy>,
}

/// What an assessment went by, where the ledger knows something newer.
#[derive(Clone, Debug)]
pub(crate) struct AssessedBy {
    run: i64,
    people: Arc<People>,
}

/// What is read, without the connection that it is read on: for reading the same on others, each in a thread of its own.
#[derive(Clone, Debug)]
pub(crate) struct ReadingState<'r> {
    project: &'r Project,
    assessment: Option<RunRow>,
    at: Timestamp,
    people: Arc<People>,
    drift: Option<Arc<DriftResults>>,
    edited: bool,
    imported_since: i64,
    run: Option<i64>,
    assessed_by: Option<AssessedBy>,
}

impl<'r> ReadingState<'r> {
    /// Returns the same reading on a connection that sees what its own sees.
    pub(crate) fn on<'s>(&self, reader: Reader<'s>) -> Reading<'s>
    where
        'r: 's,
    {
        let Self { project, assessment, at, people, drift, edited, imported_since, run, assessed_by } = self.clone();
        let drift = drift.map(OnceCell::from).unwrap_or_default();
        Reading { project, reader, assessment, at, people, drift, edited, imported_since, run, assessed_by }
    }
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
        let last = reader.last_change()?;
        let assessed_run = match (&assessment, &last) {
            (Some(assessment), Some(last)) if assessment.id != last.id => Some(assessment.id),
            _ => None,
        };
        // What came in since is shown, but for the proof of verdicts, which change in an assessment alone. A moment after all that
        // the ledger knows is no past.
        let past = past && last.as_ref().is_some_and(|last| at < last.as_of);
        let run = assessed_run.filter(|_| past);
        let reader = match run {
            Some(run) => reader.with_names_at(run)?,
            None => reader,
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
        let people_of = |run| People::load(&reader, run, judged_by, judged_at).map(Arc::new);
        let people = people_of(run)?;
        let assessed_by = match assessed_run.filter(|_| run.is_none()) {
            Some(run) => Some(AssessedBy { run, people: people_of(Some(run))? }),
            None => None,
        };
        let drift = OnceCell::new();
        Ok(Self { project: judged_by, reader, assessment, at, people, drift, edited, imported_since, run, assessed_by })
    }

    /// Judges by other rules what the assessment was made of.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn by_rules_of(self, project: &'r Project) -> Result<Self, EngineError> {
        let run = self.assessed_by.as_ref().map(|assessed| assessed.run);
        let at = self.judged_at();
        let people = Arc::new(People::load(&self.reader, self.run, project, at)?);
        let assessed_by = match run {
            Some(run) => {
                Some(AssessedBy { run, people: Arc::new(People::load(&self.reader, Some(run), project, at)?) })
            }
            None => None,
        };
        Ok(Self { project, people, drift: OnceCell::new(), assessed_by, edited: false, ..self })
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
        Ok(Self::of_now(project, ledger.reader()?, at)?)
    }

    /// Reads what is in a ledger now, also in one that is being written; of comparisons nothing is known.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub(crate) fn of_now(project: &'r Project, reader: Reader<'r>, at: Timestamp) -> Result<Self, LedgerError> {
        let people = Arc::new(People::load(&reader, None, project, at)?);
        Ok(Self {
            project,
            reader,
            assessment: None,
            at,
            people,
            drift: OnceCell::new(),
            edited: false,
            imported_since: 0,
            run: None,
            assessed_by: None,
        })
    }

    /// Returns what is read, without the connection.
    pub(crate) fn state(&self) -> ReadingState<'r> {
        ReadingState {
            project: self.project,
            assessment: self.assessment.clone(),
            at: self.at,
            people: Arc::clone(&self.people),
            drift: self.drift.get().cloned(),
            edited: self.edited,
            imported_since: self.imported_since,
            run: self.run,
            assessed_by: self.assessed_by.clone(),
        }
    }

    /// The moment by which verdicts were found: the assessment's.
    pub fn judged_at(&self) -> Timestamp {
        self.assessment.as_ref().map_or(self.at, |run| run.as_of)
    }

    /// Returns of how many devices time may have changed the verdicts since the assessment; none where a past one is read.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn past_valid_until(&self) -> Result<u64, LedgerError> {
        match (&self.assessment, self.run) {
            (Some(_), None) => self.reader.past_valid_until(self.at),
            (None, _) | (_, Some(_)) => Ok(0),
        }
    }

    /// Returns whether time may have changed the verdicts of a device since the assessment.
    pub(crate) fn is_past_valid_until(&self, device: &str) -> Result<bool, LedgerError> {
        let Some(number) = self.reader.device_number(device)?.filter(|_| self.run.is_none()) else { return Ok(false) };
        Ok(self.reader.assessed(number)?.is_some_and(|row| row.valid_until <= self.at))
    }

    /// Returns when the assessment should have come that has not, where the workspace says how often they do.
    pub fn missed_assessment(&self) -> Option<Timestamp> {
        let (every, last) = (self.project.config.assess_every?, self.assessment.as_ref()?);
        let next = every.after(last.as_of, &self.project.config.calendar);
        (self.run.is_none() && next <= self.at).then_some(next)
    }

    /// A judge by the rules of the assessment, and by all that is known by now.
    pub fn judge(&self) -> Judge<'_> {
        self.comparing(Judge::new(self.project, &self.people, self.judged_at()))
    }

    /// A judge that finds the verdicts of the assessment again, from [`Self::assessed_documents`].
    pub(crate) fn assessing_judge(&self) -> Judge<'_> {
        self.comparing(Judge::new(self.project, self.assessed_people(), self.judged_at()))
    }

    /// Returns a judge of the same rules that knows what comparisons say of devices, if that was loaded.
    pub(crate) fn comparing<'j>(&'j self, judge: Judge<'j>) -> Judge<'j> {
        self.drift.get().map_or(judge, |results| judge.with_comparisons(results))
    }

    /// Loads what comparisons say of all devices, for judges that give the verdicts of the rules of sets.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn load_comparisons(&self) -> Result<(), LedgerError> {
        if self.drift.get().is_none() {
            let kept = DriftResults::kept(&self.reader, self.run, self.project)?;
            // Nobody else has set it meanwhile.
            let _ = self.drift.set(Arc::new(kept));
        }
        Ok(())
    }

    /// Returns the people as the assessment knew them.
    pub(crate) fn assessed_people(&self) -> &People {
        self.assessed_by.as_ref().map_or(&self.people, |assessed| &assessed.people)
    }

    /// Returns what a person is called, where the lists know.
    pub fn name_of_person(&self, id: &str) -> Option<String> {
        self.people.get_once(id).map(|person| person.name().to_owned())
    }

    /// Returns what every source said of a device at the assessment; nothing when it is retired, or came in since.
    pub(crate) fn assessed_documents(&self, device: &str) -> Result<Vec<Document>, LedgerError> {
        let run = self.assessed_by.as_ref().map(|assessed| assessed.run).or(self.run);
        Ok(self.project.documents(device, self.reader.observations_of(device, run)?, self.judged_at()))
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
    pub(crate) fn posture(&self) -> PostureAt<'_> {
        PostureAt { project: self.project, assessed_at: self.judged_at(), at: self.at }
    }

    /// Returns how every assessed device stands at the moment of reading.
    pub fn standings(&self) -> Result<BTreeMap<String, DeviceStanding>, EngineError> {
        // At the moment of the assessment they stand as it left them.
        let moved = self.at != self.judged_at();
        let findings = if moved { self.findings(None, false)? } else { BTreeMap::new() };
        let mut standings = BTreeMap::new();
        for spell in self.reader.spells(SpellKind::Standing, None, self.run)? {
            let left = DeviceStanding::of_spell(self.project, &spell)?;
            let own = findings.get(&spell.device).map_or(&[][..], Vec::as_slice);
            let standing = if moved { self.posture().moved(left, own) } else { left };
            standings.insert(spell.device, standing);
        }
        Ok(standings)
    }
}
