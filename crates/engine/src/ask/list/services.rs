//! Services, with who reaches them.

use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&["service", "default", "usual", "permit", "limited", "deny", "title"], &[])
}

impl Reading<'_> {
    pub(super) fn list_services(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut counts = self.service_counts()?;
        let rows = self.project.rules.access().services().iter().map(|service| {
            let counts = counts.remove(service.id.as_str()).unwrap_or_default();
            row([
                ("service", json!(service.id.as_str())),
                ("default", json!(service.default.as_str())),
                ("usual", json!(service.usual.iter().map(|usual| usual.id.as_str()).collect::<Vec<_>>().join(", "))),
                ("permit", json!(counts.permit)),
                ("limited", json!(counts.limited)),
                ("deny", json!(counts.deny)),
                ("title", json!(service.title)),
            ])
        });
        sink.push_all(rows)
    }
}
