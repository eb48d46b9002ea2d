//! One person: what the lists say, the devices held, and what may be reached with them; also of those who left.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{Datum, Facts, Membership, Standing};
use fencepost_formats::datum_of_json;
use jiff::Timestamp;

use crate::ask::reach::ReachLine;
use crate::error::EngineError;
use crate::facts::people::People;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;

/// Why somebody who is named is not simply one of the people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remark {
    /// The list said so until then.
    Left(Timestamp),
    /// No list ever named the id.
    Unlisted,
    /// The list says that the person is not active.
    Inactive,
}

impl Remark {
    /// Says it as a row of a list does.
    pub fn in_words(&self) -> String {
        match self {
            Self::Left(at) => format!("no longer listed since {at}"),
            Self::Unlisted => "on no list".to_owned(),
            Self::Inactive => "not active".to_owned(),
        }
    }
}

/// A device that a person holds.
#[derive(Clone, Debug, PartialEq)]
pub struct HeldDevice {
    /// The device.
    pub device: String,
    /// How it stands; none before it was assessed.
    pub standing: Option<Standing>,
    /// Whether it is compliant, and would not be without a waiver.
    pub by_waiver: bool,
    /// When it was last collected.
    pub collected: Option<Timestamp>,
    /// Who else holds it.
    pub shared_with: Vec<String>,
    /// What the person may reach with it.
    pub reach: Vec<ReachLine>,
}

/// All that is known of a person.
#[derive(Clone, Debug, PartialEq)]
pub struct PersonReport {
    /// The id.
    pub id: String,
    /// The name, where one is known.
    pub name: Option<String>,
    /// What is out of the ordinary.
    pub remark: Option<Remark>,
    /// What the lists say, by path: the value as shown.
    pub facts: Vec<(String, String)>,
    /// Which lists say so.
    pub sources: Vec<String>,
    /// The lead: id and name.
    pub lead: Option<(String, Option<String>)>,
    /// Those whose lead this is: id and name.
    pub leads: Vec<(String, String)>,
    /// The groups of people that the person belongs to.
    pub groups: Vec<String>,
    /// The devices held.
    pub devices: Vec<HeldDevice>,
}

impl Reading<'_> {
    /// Returns the devices of every holder, by the holder's id.
    pub(crate) fn devices_by_holder(&self) -> Result<BTreeMap<String, Vec<String>>, EngineError> {
        let judge = self.judge();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let judged = judge.judged(&job.device.name, facts, arena);
            let holders: Vec<String> = judged.input.holders.iter().map(|holder| holder.id.to_owned()).collect();
            Ok((job.device.name.clone(), holders))
        };
        let mut devices: BTreeMap<String, Vec<String>> = BTreeMap::new();
        let layout = self.project.rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &[]), look, |(device, holders): (String, Vec<String>)| {
            holders.into_iter().for_each(|holder| devices.entry(holder).or_default().push(device.clone()));
            Ok(())
        })?;
        Ok(devices)
    }

    /// Returns what is out of the ordinary with a person of this id.
    pub(crate) fn remark_on(&self, id: &str) -> Result<Option<Remark>, EngineError> {
        if let Some(person) = self.people.get(id) {
            let Datum::Object(fields) = &person.facts else { return Ok(None) };
            let inactive = fields.iter().any(|(key, value)| key == "active" && *value == Datum::Boolean(false));
            return Ok(inactive.then_some(Remark::Inactive));
        }
        let limit = self.run.unwrap_or(i64::MAX);
        let ended = self
            .reader
            .person_history(id)?
            .into_iter()
            .filter_map(|spell| spell.to_run)
            .filter(|to| *to <= limit)
            .max();
        match ended.map(|run| self.reader.run(run)).transpose()?.flatten() {
            Some(run) => Ok(Some(Remark::Left(run.as_of))),
            None => Ok(Some(Remark::Unlisted)),
        }
    }

    /// Returns all that is known of a person: listed, or only named by a device; none when the id is nobody's.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn person(&self, id: &str) -> Result<Option<PersonReport>, EngineError> {
        let limit = self.run.unwrap_or(i64::MAX);
        let entries: Vec<_> =
            self.reader.person_history(id)?.into_iter().filter(|spell| spell.from_run <= limit).collect();
        let held = self.devices_by_holder()?.remove(id).unwrap_or_default();
        if entries.is_empty() && held.is_empty() {
            return Ok(None);
        }
        let listed = self.people.get(id);
        let facts = match listed {
            Some(person) => person.facts.clone(),
            // What was last said of somebody who left.
            None => entries
                .last()
                .and_then(|spell| serde_json::from_str(&spell.entry.body).ok())
                .map_or_else(|| Datum::Object(Vec::new()), |json| datum_of_json(&json)),
        };
        let mut flat = Vec::new();
        if let Datum::Object(fields) = &facts {
            for (key, value) in fields.iter().filter(|(key, _)| key != "id") {
                flatten(key, value, &mut flat);
            }
        }
        let text = |key: &str| match &facts {
            Datum::Object(fields) => fields.iter().find(|(name, _)| name == key).and_then(|(_, value)| match value {
                Datum::Text(text) if !text.is_empty() => Some(text.clone()),
                _ => None,
            }),
            _ => None,
        };
        let lead = text("lead").map(|lead| {
            let name = self.people.get(&lead).map(|person| person.name().to_owned());
            (lead, name)
        });
        let leads = self
            .people
            .all()
            .filter(|person| person.text("lead") == Some(id))
            .map(|person| (person.id.to_string(), person.name().to_owned()))
            .collect();
        let groups = match listed {
            Some(person) => self
                .project
                .rules
                .groups()
                .zip(self.people.memberships(person.id.as_str(), self.project))
                .filter(|(_, membership)| **membership == Membership::In)
                .map(|(group, _)| group.id.to_string())
                .collect(),
            None => Vec::new(),
        };
        let mut sources: Vec<String> = entries
            .iter()
            .filter(|spell| spell.to_run.is_none_or(|to| to > limit))
            .map(|spell| spell.entry.source.clone())
            .collect();
        sources.dedup();
        let mut devices = Vec::new();
        for device in held {
            let report = self.device(&device)?;
            let of_person = report.reach.into_iter().filter(|reach| reach.person.as_deref() == Some(id)).collect();
            devices.push(HeldDevice {
                standing: report.standing,
                by_waiver: report.by_waiver,
                collected: report.collected,
                shared_with: report
                    .holders
                    .into_iter()
                    .filter(|holder| holder.id != id)
                    .map(|holder| holder.name.unwrap_or(holder.id))
                    .collect(),
                reach: of_person,
                device,
            });
        }
        Ok(Some(PersonReport {
            id: id.to_owned(),
            name: text("name"),
            remark: self.remark_on(id)?,
            facts: flat,
            sources,
            lead,
            leads,
            groups,
            devices,
        }))
    }

    /// Returns whether an id that the assessment did not know is a device's or a person's by now.
    pub(crate) fn came_since(&self, id: &str) -> Result<bool, EngineError> {
        Ok(self.reader.device_number(id)?.is_some()
            || People::load(&self.reader, None, self.project, self.at)?.get(id).is_some())
    }

    /// Returns an error for an id that is nobody's, with the nearest that is; a person's would do where `people` says so.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn nobody(&self, id: &str, people: bool) -> Result<EngineError, EngineError> {
        let devices = self.reader.device_names()?;
        let persons: Vec<String> = self.people.ids().filter(|_| people).map(str::to_owned).collect();
        let what = if persons.is_empty() { "no device" } else { "no device and no person" };
        let came_since = self.imported_since > 0 && self.came_since(id)?;
        let is_person = !people && self.people.get(id).is_some();
        let near = fencepost_core::nearest(id, devices.iter().chain(&persons).map(String::as_str));
        let help = match near {
            _ if came_since => "it came in after the last assessment; run: fencepost assess".to_owned(),
            _ if is_person => format!("that is a person; see their devices with: fencepost show {id}"),
            Some(near) => format!("did you mean `{near}`?"),
            None if persons.is_empty() => "see all of them with: fencepost list devices".to_owned(),
            None => "see all of them with: fencepost list devices, fencepost list people".to_owned(),
        };
        Ok(EngineError::refused(format!("there is {what} `{}`", crate::error::escaped(id)), help))
    }
}

fn flatten(path: &str, value: &Datum, into: &mut Vec<(String, String)>) {
    match value {
        Datum::Object(fields) if !fields.is_empty() => {
            for (key, value) in fields {
                flatten(&format!("{path}.{key}"), value, into);
            }
        }
        other => {
            let arena = bumpalo::Bump::new();
            into.push((path.to_owned(), other.to_value(&arena).show()));
        }
    }
}
