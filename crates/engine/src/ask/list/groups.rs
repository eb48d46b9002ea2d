//! Groups, with how many belong to them.

use std::collections::BTreeMap;

use fencepost_core::{EVERY_DEVICE, GroupKind, GroupSummary, Membership, Standing};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::assess::GroupCounts;
use crate::error::EngineError;
use crate::ledger_view::fence::Post;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["group", "of", "members", "share", "compliant", "on_notice", "unproven", "non_compliant", "title"],
        &["waived"],
    )
}

impl Reading<'_> {
    pub(super) fn list_groups(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut devices: BTreeMap<String, GroupCounts> = BTreeMap::new();
        self.each_post("groups", |group, _, post| devices.entry(group).or_default().add(post))?;
        let every = self.standings()?;
        let all = devices.entry(EVERY_DEVICE.to_owned()).or_default();
        every.into_values().for_each(|stands| all.add(Post::of(stands)));
        let mut people: BTreeMap<usize, u64> = BTreeMap::new();
        for person in self.people.all() {
            for (at, membership) in self.people.memberships(person.id.as_str(), self.project).iter().enumerate() {
                *people.entry(at).or_default() += u64::from(*membership == Membership::In);
            }
        }
        let rows = self.project.rules.groups().enumerate().map(|(at, GroupSummary { id, title, kind })| {
            let counts = devices.get(id.as_str()).copied().unwrap_or_default();
            let of_devices = kind == GroupKind::Devices;
            let of_device = |value: Json| if of_devices { value } else { Json::Null };
            let count = |standing: Standing| of_device(json!(counts.standings[standing as usize]));
            row([
                ("group", json!(id.as_str())),
                ("of", json!(if of_devices { "devices" } else { "people" })),
                ("members", if of_devices { json!(counts.all) } else { json!(people.get(&at).copied().unwrap_or(0)) }),
                ("share", of_device(json!(counts.share()))),
                ("compliant", count(Standing::Compliant)),
                ("on_notice", count(Standing::OnNotice)),
                ("unproven", count(Standing::Unproven)),
                ("non_compliant", count(Standing::NonCompliant)),
                ("title", json!(title)),
                ("waived", of_device(json!(counts.by_waiver))),
            ])
        });
        sink.push_all(rows)
    }
}
