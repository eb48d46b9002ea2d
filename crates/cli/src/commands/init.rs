use std::io::ErrorKind;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{Project, write_starter};

use crate::error::CommandError;
use crate::ui::Ui;

/// Write a commented starter workspace
///
/// The files pass every check as they are, and say in comments what to change first.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  fencepost init             in this folder\n  fencepost init fleet       in a new folder"
)]
pub struct InitArgs {
    /// The folder, made when there is none
    #[arg(value_name = "DIR", default_value = ".")]
    folder: PathBuf,
}

pub fn cmd_init(ui: &mut Ui, args: &InitArgs) -> Result<ExitCode, CommandError> {
    let written = write_starter(&args.folder).map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => {
            CommandError::usage(format!("{error}; nothing was written"), "name another folder: fencepost init DIR")
        }
        _ => CommandError::Usage { message: format!("could not write {}: {error}", args.folder.display()), help: None },
    })?;
    // What it writes must be what it accepts.
    Project::open(&args.folder)?;
    for path in &written {
        ui.line(path.display())?;
    }
    ui.note("\nNext: look into rules/first.toml, then: fencepost import FILE, fencepost assess");
    Ok(ExitCode::SUCCESS)
}
