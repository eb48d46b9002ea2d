//! On what feeds do not agree, device by device.

use serde_json::{Value as Json, json};

use super::Column;
use super::rows::{RowSink, row};
use crate::ask::disagreements::Statement;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&["kind", "device", "fact", "values", "since", "days"], &["sources"])
}

impl Reading<'_> {
    pub(super) fn list_disagreements(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut rows = Vec::new();
        for one in self.disagreements()? {
            let days = one.since.map(|since| self.at.duration_since(since).as_secs().max(0) / 86_400);
            let mut sources: Vec<&str> = one.statements.iter().filter_map(|said| said.source.as_deref()).collect();
            sources.sort_unstable();
            sources.dedup();
            rows.push(row([
                ("kind", json!(one.kind.as_str())),
                ("device", json!(one.device)),
                ("fact", json!(one.fact)),
                ("values", one.statements.iter().map(statement).collect()),
                ("since", json!(one.since.map(|since| since.to_string()))),
                ("days", json!(days)),
                ("sources", json!(sources.join(", "))),
            ]));
        }
        sink.push_all(rows)
    }
}

fn statement(said: &Statement) -> Json {
    json!({
        "source": said.source, "value": said.value, "collected_at": said.collected.map(|moment| moment.to_string()),
    })
}
