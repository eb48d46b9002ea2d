use std::fs;
use std::io::Read;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{ImportOptions, Imported, expand_paths, import, import_bytes, open_ledger};

use super::{Common, open_project, writing_moment};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::text::{count, harmless};

/// Bring collected state and lists of people in
///
/// Each file goes in whole or not at all; bad records are set aside with their line and reason. A file that was
/// imported before has no effect.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost import exports/                   every file there that a [[source]] claims
  fencepost import --source handhelds new.csv
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
    /// End people whom a complete list no longer names, even when they are more than a fifth
    #[arg(long)]
    accept_missing: bool,
    /// Import as of TIME (only in a workspace with a stepped clock)
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
}

/// How many bad records are told of each file.
const REJECTS_SHOWN: usize = 5;

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
    let mut ledger = open_ledger(&project, true, common.wait)?;
    let moment = writing_moment(&project, &ledger, args.as_of.as_ref())?;
    let options =
        ImportOptions { source: args.source.clone(), strict: args.strict, accept_missing: args.accept_missing };
    let mut changed = false;
    if from_pipe {
        let mut bytes = Vec::new();
        std::io::stdin().lock().read_to_end(&mut bytes).map_err(|error| CommandError::Usage {
            message: format!("could not read standard input: {error}"),
            help: None,
        })?;
        let imported = import_bytes(&project, &mut ledger, &bytes, &options, &moment)?;
        changed |= !imported.already;
        tell(ui, &imported)?;
    }
    for path in &paths {
        let length = fs::metadata(path).map(|meta| meta.len()).unwrap_or(0);
        let bar = ui.progress(length, "importing", true);
        let imported = import(&project, &mut ledger, path, &options, &moment, &mut |bytes| bar.set_position(bytes));
        bar.finish_and_clear();
        let imported = imported?;
        changed |= !imported.already;
        tell(ui, &imported)?;
    }
    if changed {
        ui.note("\nNext: fencepost assess");
    }
    Ok(ExitCode::SUCCESS)
}

fn tell(ui: &mut Ui, imported: &Imported) -> Result<(), CommandError> {
    let path = harmless(&imported.path);
    if imported.already {
        ui.line(format!("{path}  imported before as {}; nothing to do", imported.source))?;
        return Ok(());
    }
    let (one, many) = if imported.people { ("person", "people") } else { ("device", "devices") };
    let mut parts = vec![
        count(imported.records, "record", "records"),
        format!("{} new {}", imported.new, if imported.new == 1 { one } else { many }),
        format!("{} changed", imported.changed),
        format!("{} unchanged", imported.unchanged),
    ];
    if imported.older > 0 {
        parts.push(format!("{} older than what is known", imported.older));
    }
    if imported.ended > 0 {
        parts.push(format!("{} no longer listed", imported.ended));
    }
    ui.line(format!("{path}  as {}: {}", imported.source, parts.join(", ")))?;
    if imported.kept_missing > 0 {
        ui.line(format!("  {} of the list are missing in this file, more than a fifth; they were kept. If that is right: --accept-missing", imported.kept_missing))?;
    }
    if !imported.rejects.is_empty() {
        ui.line(format!(
            "  {} set aside (all of them: fencepost list rejects)",
            count(imported.rejects.len() as u64, "bad record was", "bad records were")
        ))?;
        for reject in imported.rejects.iter().take(REJECTS_SHOWN) {
            ui.line(format!("    line {}: {}", reject.line, harmless(&reject.reason)))?;
        }
        if imported.rejects.len() > REJECTS_SHOWN {
            ui.line(format!("    and {} more", imported.rejects.len() - REJECTS_SHOWN))?;
        }
    }
    Ok(())
}
