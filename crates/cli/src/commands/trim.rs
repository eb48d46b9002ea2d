use std::process::ExitCode;

use clap::Args;
use fencepost_engine::trim;
use fencepost_store::Purpose;

use super::{Common, open_project, writing_ledger, writing_moment};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::text::{bytes, count};
use crate::view::time::Clock;

/// Remove history older than [history] keep says
///
/// What still holds is kept, however old it is; so is everything from the last assessment before that moment on.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost trim --dry-run      what would be removed
  fencepost trim")]
pub struct TrimArgs {
    /// Only say what would be removed
    #[arg(long)]
    dry_run: bool,
    /// Trim as of TIME (only in a workspace with a stepped clock)
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
}

pub fn cmd_trim(ui: &mut Ui, common: &Common, args: &TrimArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let mut ledger = writing_ledger(ui, &project, common, Purpose::Write)?;
    let moment = writing_moment(&project, &ledger, args.as_of.as_ref(), Some(1))?;
    let clock = Clock { now: moment.as_of, zone: project.config.calendar.zone.clone() };
    let Some(report) = trim(&project, &mut ledger, &moment, args.dry_run)? else {
        ui.line("Nothing is older than the workspace keeps; nothing was removed.")?;
        return Ok(ExitCode::SUCCESS);
    };
    let verb = if args.dry_run { "Would remove" } else { "Removed" };
    ui.line(format!("{verb} what ended before {}:", clock.full(report.since)))?;
    let removed = report.removed;
    for (number, one, many) in [
        (removed.observations, "collection that was overtaken", "collections that were overtaken"),
        (removed.documents, "document that nothing needs", "documents that nothing needs"),
        (removed.spells, "verdict, standing or decision", "verdicts, standings and decisions"),
        (removed.findings, "version of a finding", "versions of findings"),
        (removed.people, "entry of a person", "entries of people"),
        (removed.events, "note of what happened", "notes of what happened"),
    ] {
        if number > 0 {
            ui.line(format!("  {}", count(number, one, many)))?;
        }
    }
    if !args.dry_run {
        let size = |length: u64| bytes(&length.to_string()).unwrap_or_default();
        ui.line(format!("The ledger went from {} to {}.", size(report.bytes.0), size(report.bytes.1)))?;
    }
    Ok(ExitCode::SUCCESS)
}
