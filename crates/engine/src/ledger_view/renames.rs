//! Calls devices in the ledger by the names that `devices.toml` gives them.

use fencepost_store::{LedgerError, Writer};
use jiff::Timestamp;

use crate::ledger_view::codec;
use crate::ledger_view::event::{Event, EventKind};
use crate::ledger_view::packed_findings::unpack_findings;
use crate::workspace::project::Project;

/// What the last assessment went by, in the settings of a ledger; where it says nothing, the next one begins afresh.
pub(crate) const RULES: &str = "assessed_by";

/// Writes how new the evidence of findings is, which is kept beside a device, into the findings themselves: two devices may become
/// one, and then what is beside them is forgotten.
fn keep_findings(writer: &mut Writer<'_>, run: i64, devices: [&str; 2]) -> Result<(), LedgerError> {
    let mut found = Vec::new();
    for name in devices {
        let Some(device) = writer.reader().device_number(name)? else { return Ok(()) };
        let Some(before) = writer.reader().assessed(device)? else { continue };
        found.extend(unpack_findings(&before.findings, name).into_iter().flatten());
    }
    for finding in found.iter().filter(|finding| finding.is_running()) {
        writer.touch_finding(run, &codec::finding_row(finding, run))?;
    }
    Ok(())
}

/// Gives devices the names they have at a moment, with all that is known of them.
pub(crate) fn apply_renamings(
    writer: &mut Writer<'_>,
    project: &Project,
    run: i64,
    at: Timestamp,
) -> Result<(), LedgerError> {
    let renamings: Vec<_> = project.lifecycles.renamings(at).collect();
    for renaming in renamings {
        let to = project.lifecycles.name(renaming.to.as_str(), at);
        keep_findings(writer, run, [renaming.device.as_str(), to])?;
        if writer.rename_device(run, renaming.device.as_str(), to)? {
            let kind = EventKind::Renamed {
                from: renaming.device.to_string(),
                to: to.to_owned(),
                because: renaming.because.clone(),
            };
            writer.add_event(run, &Event { device: to.into(), at: renaming.from, kind }.row())?;
            // Two devices may have become one, and are counted anew.
            writer.set_setting(RULES, "")?;
        }
    }
    Ok(())
}
