use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{Moment, Project, compare_with_saved, open_ledger, preview, resolve_moment};
use fencepost_formats::workspace_files;
use fencepost_store::Purpose;
use jiff::Timestamp;

use super::{Common, OpenWorkspace, OutputFormat, open_project, parse_moment, user, warn, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::preview::{COLUMNS, PreviewPage, compared, rows, saved_differences, whole};
use crate::view::text::shell;
use crate::view::time::Clock;

/// Say what edited rules would change on today's fleet, before they are in force
///
/// Assesses by the rules in force and by the edited ones, on the same state and at the same moment, and keeps nothing of it. Drafts take
/// part, as if they were on trial.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost preview                 the workspace as it is edited, against the last assessment's rules
  fencepost preview ../proposal     the files of another folder, on this workspace's fleet
  fencepost preview --save foreseen.json
  fencepost preview --compare foreseen.json     after the assessment: what came otherwise")]
pub struct PreviewArgs {
    /// A folder with the files of a workspace, instead of this one's
    folder: Option<PathBuf>,
    /// Keep what is foreseen in FILE, as JSON
    #[arg(long, value_name = "FILE")]
    save: Option<PathBuf>,
    /// Hold what was foreseen in FILE against the latest assessment
    #[arg(long, value_name = "FILE", conflicts_with_all = ["save", "folder", "as_of"])]
    compare: Option<PathBuf>,
    /// Compare as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_preview(ui: &mut Ui, common: &Common, args: &PreviewArgs) -> Result<ExitCode, CommandError> {
    if let Some(saved) = &args.compare {
        return compare(ui, common, args.format, saved);
    }
    let project = open_project(ui, common)?;
    let files = match &args.folder {
        None => project.files.clone(),
        Some(folder) if folder.join("fencepost.toml").is_file() => {
            workspace_files(folder).map_err(CommandError::Output)?
        }
        Some(folder) => {
            return Err(CommandError::usage(
                format!("{} is no workspace", folder.display()),
                "it needs a fencepost.toml, and the rules, baselines and groups that are proposed",
            ));
        }
    };
    let candidate = project.candidate(files)?;
    if args.folder.is_some() {
        warn(ui, &candidate.files, &candidate.warnings);
    }
    let ledger = open_ledger(&project, Purpose::Read, common.wait)?;
    let wall = Timestamp::now();
    let as_of = resolve_moment(Some(&ledger), parse_moment(&project, args.as_of.as_ref())?, wall, false)?;
    let moment = Moment { as_of, wall, user: user() };
    let found = preview(&project, &candidate, &ledger, &moment)?;
    warn(ui, &candidate.files, &found.warnings);
    if let Some(file) = &args.save {
        fs::write(file, format!("{}\n", whole(&found))).map_err(|error| {
            CommandError::usage(format!("{}: {error}", file.display()), "name a file that can be written")
        })?;
    }
    match args.format {
        OutputFormat::Table => {
            let clock = Clock { now: as_of, zone: project.config.calendar.zone.clone() };
            let page = PreviewPage { ui, folder: args.folder.as_deref(), clock: &clock, titles: &titles(&candidate) };
            let text = page.render(&found);
            ui.raw(&text)?;
            let flipped = found.access.decisions.iter().map(|flip| &flip.sign_in.device);
            let first = found.verdicts.iter().flat_map(|flips| &flips.devices).chain(flipped).next();
            let next = first.map(|device| format!(" Now: fencepost why {}", shell(device))).unwrap_or_default();
            ui.note(format!("\nNothing of this was written.{next}"));
        }
        OutputFormat::Json => write_json(ui, &whole(&found))?,
        OutputFormat::Jsonl | OutputFormat::Csv => write_rows(ui, args.format, &COLUMNS, rows(&found))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn titles(project: &Project) -> HashMap<String, String> {
    let services = project.rules.access().services().iter();
    services.map(|service| (service.id.to_string(), service.title.clone())).collect()
}

/// Says what came otherwise than a saved preview foresaw.
fn compare(ui: &mut Ui, common: &Common, format: OutputFormat, file: &Path) -> Result<ExitCode, CommandError> {
    let unusable = |why: String| {
        let what = format!("{} is no saved preview: {why}", file.display());
        CommandError::usage(what, "name a file that was written by: fencepost preview --save FILE")
    };
    let text = fs::read_to_string(file).map_err(|error| unusable(error.to_string()))?;
    let saved = serde_json::from_str(&text).map_err(|error| unusable(error.to_string()))?;
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let reading = workspace.reading()?;
    let found = compare_with_saved(&reading, &saved)?;
    match format {
        OutputFormat::Table => ui.raw(&compared(&found))?,
        OutputFormat::Json => write_json(ui, &saved_differences(&found))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let found = saved_differences(&found);
            let rows = found["differences"].as_array().cloned().unwrap_or_default();
            write_rows(ui, format, &["device", "what", "foreseen", "came"], rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
