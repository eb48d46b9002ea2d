//! Groups, with how many belong to them.

use std::collections::BTreeMap;

use fencepost_core::{GroupKind, GroupSummary, Membership};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&["group", "of", "members", "compliant", "on_notice", "unproven", "non_compliant", "title"], &[])
}

impl Reading<'_> {
    pub(super) fn list_groups(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut devices: BTreeMap<String, [u64; 5]> = BTreeMap::new();
        for line in self.fence(Some("groups"))? {
            let counts = devices.entry(line.label).or_default();
            for post in line.posts {
                counts[post.standing as usize] += 1;
                counts[4] += 1;
            }
        }
        let every = self.standings()?;
        let all = devices.entry("every-device".to_owned()).or_default();
        for found in every.values() {
            all[found.standing as usize] += 1;
            all[4] += 1;
        }
        let mut people: BTreeMap<usize, u64> = BTreeMap::new();
        for person in self.people.all() {
            for (at, membership) in self.people.memberships(person.id.as_str(), self.project).iter().enumerate() {
                *people.entry(at).or_default() += u64::from(*membership == Membership::In);
            }
        }
        let rows = self.project.rules.groups().enumerate().map(|(at, GroupSummary { id, title, kind })| {
            let counts = devices.get(id.as_str()).copied().unwrap_or_default();
            let of_devices = kind == GroupKind::Devices;
            let count = |at: usize| if of_devices { json!(counts[at]) } else { Json::Null };
            row([
                ("group", json!(id.as_str())),
                ("of", json!(if of_devices { "devices" } else { "people" })),
                ("members", if of_devices { json!(counts[4]) } else { json!(people.get(&at).copied().unwrap_or(0)) }),
                ("compliant", count(0)),
                ("on_notice", count(1)),
                ("unproven", count(2)),
                ("non_compliant", count(3)),
                ("title", json!(title)),
            ])
        });
        sink.push_all(rows)
    }
}
