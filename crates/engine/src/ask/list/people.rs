//! People, with their devices; those among them who left, and whom no list names.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use fencepost_core::Datum;
use fencepost_formats::json_of_datum;
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::RowSink;
use crate::access::losses::{AccessQuery, DeniedEntries};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// The columns that people have whatever their lists say of them.
const OWN: [&str; 8] = ["person", "name", "unit", "devices", "denied", "remark", "lead", "mail"];
/// How many of them are shown unless others are asked for.
const USUAL: usize = 6;

/// Returns the columns that the list has whatever is known of people.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&OWN[..USUAL], &OWN[USUAL..])
}

impl Reading<'_> {
    /// Returns the columns of the list: its own, and every fact of people.
    pub(super) fn people_columns(&self) -> Vec<Column> {
        let keys = self.people.all().flat_map(|person| match &person.facts {
            Datum::Object(fields) => fields.as_slice(),
            _ => &[],
        });
        let keys = keys.map(|(key, _)| key.as_str());
        let facts: BTreeSet<&str> = keys.filter(|key| !OWN.contains(key)).collect();
        let facts: Vec<&str> = facts.into_iter().collect();
        columns().into_iter().chain(super::columns(&[], &facts)).collect()
    }

    pub(super) fn list_people(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let devices = self.devices_by_holder()?;
        let mut denied: BTreeMap<Arc<str>, BTreeSet<Arc<str>>> = BTreeMap::new();
        if self.assessment.is_some() {
            let query = AccessQuery { denied: DeniedEntries::ByRule, ..AccessQuery::default() };
            for entry in self.access(&query)?.denied {
                if let Some(person) = entry.person {
                    denied.entry(person).or_default().insert(entry.service);
                }
            }
        }
        let known: BTreeSet<String> = self.people.ids().map(str::to_owned).collect();
        // Who holds a device and is on no list is the row that is looked for.
        let ids: BTreeSet<&String> = known.iter().chain(devices.keys()).collect();
        for id in ids {
            let person = self.people.get(id);
            let text = |key: &str| person.and_then(|person| person.text(key));
            let held = devices.get(id).map_or(&[][..], Vec::as_slice);
            let shut: Vec<&str> = denied.get(id.as_str()).into_iter().flatten().map(|service| &**service).collect();
            let mut row: Vec<(&str, Json)> = vec![
                ("person", json!(id)),
                ("name", json!(person.map(|person| person.name()))),
                ("unit", json!(text("unit"))),
                ("devices", json!(held.join(", "))),
                ("denied", json!(shut.join(", "))),
                ("remark", json!(self.remark_on(id)?.map(|remark| remark.in_words()))),
                ("lead", json!(text("lead"))),
                ("mail", json!(text("mail"))),
            ];
            if let Some(Datum::Object(fields)) = person.map(|person| &person.facts) {
                let facts = fields.iter().filter(|(key, _)| !OWN.contains(&key.as_str()));
                row.extend(facts.map(|(key, value)| (key.as_str(), json_of_datum(value))));
            }
            sink.push(row)?;
        }
        Ok(())
    }
}
