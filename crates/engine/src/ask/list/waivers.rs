//! Waivers, with what they cover.

use fencepost_core::{GroupId, WaiverState};
use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["waiver", "state", "until", "covers", "devices", "rules", "approved_by", "because", "from", "clock"],
        &["for_devices", "ended_because"],
    )
}

impl Reading<'_> {
    pub(super) fn list_waivers(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let rules = &self.project.rules;
        let groups: Vec<&GroupId> = rules.groups().map(|group| group.id).collect();
        let mut rows: Vec<_> = rules.waivers().iter().zip(self.waiver_coverage()?).collect();
        // What holds comes first, and of that what ends first.
        let place = |state: WaiverState| {
            [WaiverState::Running, WaiverState::Ahead, WaiverState::Over].iter().position(|one| *one == state)
        };
        rows.sort_by_key(|(waiver, _)| (place(waiver.state(self.at)), waiver.ends()));
        let rows = rows.into_iter().map(|(waiver, coverage)| {
            // A device is named once, as it is written, and not by its other names.
            let written = self.project.source.waivers.iter().find(|source| source.id.text == waiver.id.as_str());
            let devices = written.into_iter().flat_map(|source| &source.devices);
            let devices = devices.filter(|named| self.project.lifecycles.name(&named.text, self.at) == named.text);
            let whom =
                devices.map(|named| named.text.as_str()).chain(waiver.groups().iter().map(|at| groups[*at].as_str()));
            let rules: Vec<&str> = waiver.rules.iter().map(|named| named.text.as_str()).collect();
            row([
                ("waiver", json!(waiver.id.as_str())),
                ("state", json!(waiver.state(self.at).as_str())),
                ("devices", json!(whom.collect::<Vec<_>>())),
                ("rules", json!(rules)),
                // What is over covers nothing any more.
                ("covers", json!(if waiver.state(self.at) == WaiverState::Over { 0 } else { coverage.count })),
                ("from", json!(waiver.from.to_string())),
                ("until", json!(waiver.ends().to_string())),
                ("approved_by", json!(waiver.approved_by)),
                ("because", json!(waiver.because)),
                ("clock", json!(waiver.clock.as_str())),
                ("for_devices", json!(coverage.devices)),
                ("ended_because", waiver.ended.as_ref().map_or(Json::Null, |ended| json!(ended.because))),
            ])
        });
        sink.push_all(rows)
    }
}
