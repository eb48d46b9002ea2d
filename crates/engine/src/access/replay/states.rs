//! What assessments left: the people, the rules and the devices by which sign-ins after each of them are decided.

use std::rc::Rc;

use fencepost_core::Finding;
use fencepost_store::DeviceRow;
use jiff::Timestamp;

use super::{Replay, ReplayRules};
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::people::People;
use crate::ledger_view::codec;
use crate::workspace::project::Project;

/// Devices whose state is kept at once.
const MOST_DEVICES: usize = 2_000;
/// Assessments that are kept at once, with the people and rules that many of them share.
const MOST_STATES: usize = 4_096;
/// Different lists of people that are kept at once.
const MOST_PEOPLE: usize = 8;

/// What an assessment left, with the rules that a sign-in after it is decided by.
pub(super) struct AssessedState {
    pub as_of: Timestamp,
    pub people: Rc<People>,
    /// The first moment at which time alone may change who belongs to which groups of people.
    pub people_until: Timestamp,
    /// The rules of then, where those decide.
    pub project: Option<Rc<Project>>,
}

/// What tells the people of two assessments apart.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct PeopleVersion {
    /// The last run that changed them.
    pub run: i64,
    /// How many devices have been renamed, whose names are in what was accepted.
    pub renamings: usize,
    /// The rules whose groups they belong to, where they are those of then.
    pub rule_set: Option<String>,
}

/// What the ledger holds of a device at an assessment.
pub(super) struct DeviceState {
    pub name: String,
    pub documents: Vec<Document>,
    pub findings: Vec<Finding>,
}

impl Replay<'_> {
    /// Returns the last assessment at or before a moment, by its place.
    pub(super) fn run_before(&self, at: Timestamp) -> usize {
        self.runs.partition_point(|run| run.as_of <= at).saturating_sub(1)
    }

    pub(super) fn state(&mut self, place: usize) -> Result<Rc<AssessedState>, EngineError> {
        if let Some(state) = self.states.get(&place) {
            return Ok(Rc::clone(state));
        }
        if self.states.len() >= MOST_STATES || self.people.len() >= MOST_PEOPLE {
            self.states.clear();
            self.people.clear();
        }
        let (run, as_of) = (self.runs[place].id, self.runs[place].as_of);
        let project = self.project_of(place)?;
        let by = project.as_deref().unwrap_or(self.project);
        let version = PeopleVersion {
            run: self.reader.last_change_of_people(run)?,
            renamings: by.lifecycles.renamings(as_of).count(),
            rule_set: project.as_ref().map(|project| project.digest.clone()),
        };
        let people = match self.people.get(&version) {
            Some(people) => Rc::clone(people),
            None => {
                let people = Rc::new(People::load(&self.reader, Some(run), by, as_of)?);
                self.people.insert(version, Rc::clone(&people));
                people
            }
        };
        let people_until = people.until(by, as_of);
        let state = Rc::new(AssessedState { as_of, people, people_until, project });
        self.states.insert(place, Rc::clone(&state));
        Ok(state)
    }

    /// Returns the rules of an assessment, where those decide and they are not those of today.
    fn project_of(&mut self, place: usize) -> Result<Option<Rc<Project>>, EngineError> {
        let digest = self.runs[place].rule_set.clone().filter(|digest| *digest != self.project.digest);
        let Some(digest) = digest.filter(|_| self.rules == ReplayRules::OfThen) else { return Ok(None) };
        if let Some(known) = self.projects.get(&digest) {
            return Ok(known.clone());
        }
        let text = self.reader.rule_set(&digest)?;
        let project = text.and_then(|text| Project::from_text(&self.project.root, &text)).map(Rc::new);
        self.projects.insert(digest, project.clone());
        Ok(project)
    }

    /// Returns what the ledger holds of a device at an assessment; nothing of one that it did not know then.
    pub(super) fn device(&mut self, place: usize, name: &str) -> Result<Option<Rc<DeviceState>>, EngineError> {
        let key = (place, name.to_owned());
        if let Some(known) = self.devices.get(&key) {
            return Ok(known.clone());
        }
        if self.devices.len() >= MOST_DEVICES {
            self.devices.clear();
        }
        let run = &self.runs[place];
        let current = match self.reader.device_number(name)? {
            Some(number) => Some((number, name.to_owned())),
            None => match self.reader.renamed(name)? {
                Some(current) => self.reader.device_number(&current)?.map(|number| (number, current)),
                None => None,
            },
        };
        let mut state = None;
        if let Some((number, name)) = current {
            let stored = self.reader.observations_of(&name, Some(run.id))?;
            let documents = self.project.documents(&name, stored, run.as_of);
            let row = DeviceRow { number, name: name.clone(), dirty: false };
            let findings = codec::findings_of(&self.reader, self.project, &row, Some(run.id))?;
            state = (!documents.is_empty()).then(|| Rc::new(DeviceState { name, documents, findings }));
        }
        self.devices.insert(key, state.clone());
        Ok(state)
    }
}
