//! People, with their devices; those among them who left, and whom no list names.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::Datum;
use fencepost_formats::json_of_datum;
use serde_json::{Value as Json, json};

use super::{Row, row};
use crate::error::EngineError;
use crate::reading::Reading;

impl Reading<'_> {
    pub(super) fn people_rows(&self) -> Result<(Vec<&'static str>, Vec<Row>), EngineError> {
        let devices = self.devices_by_holder()?;
        let mut denied: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        if self.assessment.is_some() {
            for entry in self.access(None)?.denied {
                denied.entry(entry.person.unwrap_or_default()).or_default().insert(entry.service);
            }
        }
        let known: BTreeSet<String> = self.people.all().map(|person| person.id.to_string()).collect();
        // Who holds a device and is on no list is the row that is looked for.
        let ids: BTreeSet<&String> = known.iter().chain(devices.keys()).collect();
        let mut rows = Vec::new();
        for id in ids {
            let person = self.people.get(id);
            let text = |key: &str| person.and_then(|person| person.text(key));
            let held = devices.get(id).map_or(&[][..], Vec::as_slice);
            let shut: Vec<&str> = denied.get(id).into_iter().flatten().map(String::as_str).collect();
            let mut row = row([
                ("person", json!(id)),
                ("name", json!(person.map(|person| person.name()))),
                ("unit", json!(text("unit"))),
                ("lead", json!(text("lead"))),
                ("mail", json!(text("mail"))),
                ("devices", json!(held.join(", "))),
                ("denied", json!(shut.join(", "))),
                ("remark", json!(self.remark_on(id)?.map(|remark| remark.in_words()))),
            ]);
            if let Some(Datum::Object(fields)) = person.map(|person| &person.facts) {
                for (key, value) in fields {
                    row.or_insert(key, || json_of_datum(value));
                }
            }
            rows.push(row);
        }
        let names: BTreeSet<String> = rows.iter().flat_map(|row| row.names().map(str::to_owned)).collect();
        for row in &mut rows {
            // A fact that others have is empty here, not unknown.
            for name in &names {
                row.or_insert(name, || Json::Null);
            }
        }
        Ok((vec!["person", "name", "unit", "devices", "denied", "remark"], rows))
    }
}
