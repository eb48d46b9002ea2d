use std::io::ErrorKind;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_engine::{Project, StarterKind, write_starter};

use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::next_step::NextStep;

/// Write a commented starter workspace
///
/// The files pass every check as they are, and say in comments what to change first.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost init                                  in this folder
  fencepost init fleet                            in a new folder
  fencepost init fleet --with laptops,phones      with baselines to begin with, on trial")]
pub struct InitArgs {
    /// The folder, made when there is none
    #[arg(value_name = "DIR", default_value = ".")]
    folder: PathBuf,
    /// Begin with baselines for these kinds of machines
    #[arg(long, value_name = "KIND,..", value_enum, value_delimiter = ',')]
    with: Vec<KindArg>,
}

/// The kinds as the command line knows them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct KindArg(StarterKind);

impl ValueEnum for KindArg {
    fn value_variants<'a>() -> &'a [Self] {
        const ALL: [KindArg; 3] =
            [KindArg(StarterKind::ALL[0]), KindArg(StarterKind::ALL[1]), KindArg(StarterKind::ALL[2])];
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(PossibleValue::new(self.0.name).help(self.0.about))
    }
}

pub fn cmd_init(ui: &mut Ui, args: &InitArgs) -> Result<ExitCode, CommandError> {
    let mut with: Vec<StarterKind> = Vec::new();
    for KindArg(kind) in &args.with {
        if !with.contains(kind) {
            with.push(*kind);
        }
    }
    let written = write_starter(&args.folder, &with).map_err(|error| match error.kind() {
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
    let look = match with.first() {
        Some(kind) => format!("rules/first.toml and baselines/{}.toml", kind.name),
        None => "rules/first.toml".to_owned(),
    };
    ui.next_step(NextStep::Begin { files: &look });
    Ok(ExitCode::SUCCESS)
}
