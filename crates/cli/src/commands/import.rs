use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{EngineError, ImportOptions, Imported, Importer, Project, expand_paths, ledger_for_dry_run};
use fencepost_store::{Ledger, Purpose};

use super::{Common, open_project, writing_ledger, writing_moment};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::import::{ImportedFiles, MANY, dry, told};
use crate::view::next_step::NextStep;
use crate::view::text::count;

/// Bring collected state and lists of people in
///
/// Each file goes in whole or not at all; bad records are set aside with their line and reason. A file that was
/// imported before has no effect. Files compressed with gzip or zstd are read as what they hold.
///
/// Limits: a record of 16 MiB, 127 levels of nesting and 100,000 fields; a compressed file decompresses to 8 GiB at the most.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost import exports/                   every file there that a [[source]] claims
  fencepost import --source handhelds new.csv
  fencepost import --dry-run exports/         what each file is taken for, and what it would change
  collect | fencepost import -                documents from a pipe")]
pub struct ImportArgs {
    /// Files, folders, or - for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// The source that the files belong to, whatever they are called
    #[arg(long, value_name = "ID")]
    source: Option<String>,
    /// Refuse a file with a bad record instead of setting the record aside
    #[arg(long)]
    strict: bool,
    /// Believe a complete list about who is missing, even when that is more than a fifth
    #[arg(long)]
    accept_missing: bool,
    /// Only say what would be done
    #[arg(long)]
    dry_run: bool,
    /// Import as of TIME (only in a workspace with a stepped clock)
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Go by --as-of although it lies more than ten years after the newest state
    #[arg(long, requires = "as_of")]
    far_ahead: bool,
}

pub fn cmd_import(ui: &mut Ui, common: &Common, args: &ImportArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let from_pipe = args.files.iter().any(|path| path.as_os_str() == "-");
    let paths = if from_pipe { Vec::new() } else { expand_paths(&project, &args.files)? };
    if from_pipe && args.files.len() > 1 {
        return Err(CommandError::usage(
            "standard input cannot be mixed with files",
            "import them one after the other",
        ));
    }
    let mut ledger = ledger_for(ui, &project, common, args.dry_run)?;
    let moment = writing_moment(&project, &ledger, args.as_of.as_ref(), (!args.far_ahead).then_some(MOST_YEARS_AHEAD))?;
    let options = ImportOptions {
        source: args.source.clone(),
        strict: args.strict,
        accept_missing: args.accept_missing,
        dry_run: args.dry_run,
    };
    let mut changed = false;
    if from_pipe {
        let imported =
            Importer { project: &project, options: &options, moment: &moment }.stream(&mut ledger, std::io::stdin())?;
        changed |= !imported.already;
        tell(ui, args, &imported)?;
    }
    let mut batch = ImportedFiles::of(paths.len(), args.dry_run);
    let many = paths.len() > MANY;
    let files = ui.progress(if many { paths.len() as u64 } else { 0 }, "importing", false);
    for path in &paths {
        let length = fs::metadata(path).map(|meta| meta.len()).unwrap_or(0);
        let bar = if many { files.clone() } else { ui.progress(length, "importing", true) };
        let imported =
            Importer { project: &project, options: &options, moment: &moment }.file(&mut ledger, path, &mut |bytes| {
                if !many {
                    bar.set_position(bytes);
                }
            });
        if !many {
            bar.finish_and_clear();
        }
        match imported {
            Ok(imported) => {
                changed |= !imported.already;
                if batch.add(&imported) {
                    files.suspend(|| tell(ui, args, &imported))?;
                }
            }
            // One file that cannot be taken keeps no other back; a ledger that cannot be written does.
            Err(EngineError::Ledger(error)) => return Err(error.into()),
            Err(error) if paths.len() == 1 => return Err(error.into()),
            Err(error) => {
                if batch.refuse() {
                    files.suspend(|| ui.error(&error.to_string(), error.help()));
                }
            }
        }
        files.inc(1);
    }
    files.finish_and_clear();
    ui.raw(&batch.told())?;
    match (changed, args.dry_run) {
        (true, false) => ui.next_step(NextStep::Assess),
        (_, true) => ui.note("\nNothing was imported. Do it: the same without --dry-run"),
        (false, false) => {}
    }
    if batch.refused > 0 {
        let was = if args.dry_run { ("file", "files") } else { ("file was", "files were") };
        let refused = count(batch.refused, was.0, was.1);
        let others =
            if args.dry_run { "would not be imported; the others would" } else { "not imported; the others were" };
        return Err(CommandError::usage(
            format!("{refused} {others}"),
            "mend what is said above, and import once more: what is in already has no effect",
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// How far --as-of may lie after the newest state: what is imported may be newer than all that is known.
const MOST_YEARS_AHEAD: i32 = 10;

/// The workspace's ledger, or a copy of it for a dry run.
fn ledger_for(ui: &mut Ui, project: &Project, common: &Common, dry_run: bool) -> Result<Ledger, CommandError> {
    Ok(match dry_run {
        true => ledger_for_dry_run(project, common.wait)?,
        false => writing_ledger(ui, project, common, Purpose::Create)?,
    })
}

fn tell(ui: &mut Ui, args: &ImportArgs, imported: &Imported) -> Result<(), CommandError> {
    let text = if args.dry_run { dry(imported, ui.width, &ui.styles) } else { told(imported) };
    Ok(ui.raw(&text)?)
}
