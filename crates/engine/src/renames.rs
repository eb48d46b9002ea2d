//! Calls devices in the ledger by the names that `devices.toml` gives them.

use fencepost_store::{LedgerError, Writer};
use jiff::Timestamp;
use serde_json::json;

use crate::project::Project;

/// Gives devices the names they have at a moment, with all that is known of them.
pub(crate) fn apply_renamings(
    writer: &mut Writer<'_>,
    project: &Project,
    run: i64,
    at: Timestamp,
) -> Result<(), LedgerError> {
    let renamings: Vec<_> = project.lives.renamings(at).collect();
    for renaming in renamings {
        let to = project.lives.name(renaming.to.as_str(), at);
        if writer.rename_device(run, renaming.device.as_str(), to)? {
            let body = json!({ "device": renaming.device.as_str(), "to": to, "because": renaming.because });
            writer.add_event(run, "renamed", &body.to_string())?;
            // Two devices may have become one, and are counted anew.
            writer.set_setting(crate::assess::RULES, "")?;
        }
    }
    Ok(())
}
