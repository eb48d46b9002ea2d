//! Calls devices in the ledger by the names that `devices.toml` gives them.

use fencepost_core::Renaming;
use fencepost_store::{LedgerError, Writer};
use jiff::Timestamp;

use crate::error::EngineError;
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

/// Gives devices the names they have at a moment, with all that is known of them. A renaming that is no more written down is taken
/// back.
///
/// # Errors
/// Fails if a device would get the name of another that lives.
pub(crate) fn apply_renamings(
    writer: &mut Writer<'_>,
    project: &Project,
    run: i64,
    at: Timestamp,
) -> Result<(), EngineError> {
    let lifecycles = &project.lifecycles;
    for former in writer.reader().renamings()? {
        let now = writer.reader().renamed(&former.name)?;
        if now.as_deref().is_none_or(|now| lifecycles.name(&former.name, at) == now) {
            continue;
        }
        if writer.take_renaming_back(&former)? {
            let because = "the renaming was taken back".to_owned();
            let kind = EventKind::Renamed { from: former.now, to: former.name.clone(), because };
            writer.add_event(run, &Event { device: former.name.as_str().into(), at, kind }.row())?;
        }
    }
    let renamings: Vec<_> = lifecycles.renamings(at).collect();
    for renaming in renamings {
        let (device, to) = (renaming.device.as_str(), lifecycles.name(renaming.to.as_str(), at));
        if let Some(source) = writer.reader().collecting_both(device, to)? {
            return Err(onto_living(project, renaming, &source));
        }
        keep_findings(writer, run, [device, to])?;
        if writer.rename_device(run, device, to)? {
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

fn onto_living(project: &Project, renaming: &Renaming, source: &str) -> EngineError {
    let (device, to) = (&renaming.device, &renaming.to);
    EngineError::refused(
        format!(
            "{}`{device}` cannot be called `{to}`: both live, `{source}` has collected each of them after the other",
            project.place(renaming.place.as_ref())
        ),
        "two machines have two names; take the entry out, or correct the name in it",
    )
}
