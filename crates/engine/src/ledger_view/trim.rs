//! Removes history older than the workspace keeps.

use fencepost_store::{Ledger, RunKind, Trimmed};
use jiff::Timestamp;
use serde_json::json;

use crate::error::EngineError;
use crate::workspace::ledger::Moment;
use crate::workspace::project::Project;

/// What a run of removal came to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TrimReport {
    /// Everything from then on can be read as before.
    pub since: Timestamp,
    /// What was removed, or would be.
    pub removed: Trimmed,
    /// The size of the ledger before and after, in bytes; the same on a dry run.
    pub bytes: (u64, u64),
}

/// Removes what ended longer ago than `[history] keep` says; none when nothing is so old.
///
/// # Errors
/// When the workspace does not say how long history is kept, or the ledger cannot be written.
pub fn trim(
    project: &Project,
    ledger: &mut Ledger,
    moment: &Moment,
    dry_run: bool,
) -> Result<Option<TrimReport>, EngineError> {
    let Some(keep) = project.config.keep_history else {
        return Err(EngineError::refused(
            "the workspace keeps its history for ever",
            "say in fencepost.toml for how long: [history] keep = \"400d\"",
        ));
    };
    let cutoff = moment.as_of.checked_sub(keep.exact()).unwrap_or(Timestamp::MIN);
    let size = || std::fs::metadata(project.ledger_path()).map_or(0, |meta| meta.len());
    let before = size();
    let mut writer = ledger.writer("trim")?;
    // The last assessment at or before that moment stays, as what was known then.
    let Some(since) = writer.reader().assessments(Some(cutoff), 1)?.pop() else { return Ok(None) };
    let run = writer.begin_run(&moment.run(RunKind::Trim, None))?;
    let removed = writer.trim(since.id)?;
    if removed == Trimmed::default() {
        return Ok(None);
    }
    let summary = json!({
        "since": since.as_of.to_string(), "observations": removed.observations, "documents": removed.documents,
        "spells": removed.spells, "findings": removed.findings, "people": removed.people, "events": removed.events,
    });
    writer.end_run(run, &summary.to_string())?;
    if dry_run {
        return Ok(Some(TrimReport { since: since.as_of, removed, bytes: (before, before) }));
    }
    writer.commit()?;
    ledger.compact()?;
    Ok(Some(TrimReport { since: since.as_of, removed, bytes: (before, size()) }))
}
