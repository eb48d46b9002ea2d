//! Groups, with how many belong to them.

use std::collections::BTreeMap;

use fencepost_core::{GroupKind, GroupSummary, Membership, Standing};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["group", "of", "members", "compliant", "on_notice", "unproven", "non_compliant", "title"],
        &["waived"],
    )
}

/// How the devices of a group stand.
#[derive(Clone, Copy, Default)]
struct GroupCounts {
    all: u64,
    /// By standing.
    standings: [u64; Standing::ALL.len()],
    /// Those that are compliant only by a waiver.
    by_waiver: u64,
}

impl GroupCounts {
    fn add(&mut self, standing: Standing, by_waiver: bool) {
        self.all += 1;
        self.standings[standing as usize] += 1;
        self.by_waiver += u64::from(by_waiver);
    }
}

impl Reading<'_> {
    pub(super) fn list_groups(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut devices: BTreeMap<String, GroupCounts> = BTreeMap::new();
        for line in self.fence(Some("groups"))? {
            let counts = devices.entry(line.label).or_default();
            line.posts.iter().for_each(|post| counts.add(post.standing, post.by_waiver));
        }
        let every = self.standings()?;
        let all = devices.entry("every-device".to_owned()).or_default();
        every.values().for_each(|found| all.add(found.standing, found.by_waiver));
        let mut people: BTreeMap<usize, u64> = BTreeMap::new();
        for person in self.people.all() {
            for (at, membership) in self.people.memberships(person.id.as_str(), self.project).iter().enumerate() {
                *people.entry(at).or_default() += u64::from(*membership == Membership::In);
            }
        }
        let rows = self.project.rules.groups().enumerate().map(|(at, GroupSummary { id, title, kind })| {
            let counts = devices.get(id.as_str()).copied().unwrap_or_default();
            let of_devices = kind == GroupKind::Devices;
            let count =
                |standing: Standing| if of_devices { json!(counts.standings[standing as usize]) } else { Json::Null };
            row([
                ("group", json!(id.as_str())),
                ("of", json!(if of_devices { "devices" } else { "people" })),
                ("members", if of_devices { json!(counts.all) } else { json!(people.get(&at).copied().unwrap_or(0)) }),
                ("compliant", count(Standing::Compliant)),
                ("on_notice", count(Standing::OnNotice)),
                ("unproven", count(Standing::Unproven)),
                ("non_compliant", count(Standing::NonCompliant)),
                ("title", json!(title)),
                ("waived", if of_devices { json!(counts.by_waiver) } else { Json::Null }),
            ])
        });
        sink.push_all(rows)
    }
}
