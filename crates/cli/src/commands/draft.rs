use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use fencepost_engine::{FactDraft, draft_source_of};
use fencepost_formats::toml_string;

use super::{Common, OpenWorkspace, open_project};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::text::harmless;

/// Help with feeds: draft the [[source]] of an unknown file
#[derive(Args, Debug)]
pub struct SourceArgs {
    #[command(subcommand)]
    command: SourceCommand,
}

#[derive(Subcommand, Debug)]
enum SourceCommand {
    /// Look at a file and draft the [[source]] by which it would be read
    ///
    /// Guesses the format, the id, the time, yes/no words, units and types, says why, and leaves what it cannot tell
    /// to you. Nothing is imported.
    #[command(after_help = "Examples:
  fencepost source draft exports/unknown.csv
  fencepost source draft exports/unknown.csv >> fencepost.toml")]
    Draft {
        /// The file, or - for standard input
        file: PathBuf,
    },
}

/// Help with the dictionary: draft what facts.toml could say
#[derive(Args, Debug)]
pub struct FactsArgs {
    #[command(subcommand)]
    command: FactsCommand,
}

#[derive(Subcommand, Debug)]
enum FactsCommand {
    /// Draft the entries of facts.toml that the fleet suggests: versions, moments, units, keys of lists, what always changes
    #[command(after_help = "Examples:
  fencepost facts draft")]
    Draft,
}

pub fn cmd_source(ui: &mut Ui, common: &Common, args: &SourceArgs) -> Result<ExitCode, CommandError> {
    let SourceCommand::Draft { file } = &args.command;
    let project = open_project(ui, common)?;
    let draft = draft_source_of(&project, file, std::io::stdin())?;
    ui.raw(&draft)?;
    Ok(ExitCode::SUCCESS)
}

pub fn cmd_facts(ui: &mut Ui, common: &Common, args: &FactsArgs) -> Result<ExitCode, CommandError> {
    let FactsCommand::Draft = &args.command;
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let reading = workspace.state()?;
    let drafts = reading.draft_facts()?;
    if drafts.is_empty() {
        ui.line("# The dictionary says all that the fleet suggests.")?;
        return Ok(ExitCode::SUCCESS);
    }
    let (known, new): (Vec<_>, Vec<_>) = drafts.into_iter().partition(|draft| draft.declared);
    if !new.is_empty() {
        ui.line("# For facts.toml, below [facts]. Keep what is right:")?;
        write(ui, &new, "")?;
    }
    if !known.is_empty() {
        ui.line("\n# Declared already; to be added to what stands there:")?;
        write(ui, &known, "# ")?;
    }
    Ok(ExitCode::SUCCESS)
}

fn write(ui: &mut Ui, drafts: &[FactDraft], mark: &str) -> Result<(), CommandError> {
    let lines: Vec<(String, String, &str)> =
        drafts.iter().map(|draft| (toml_string(&draft.path), entry(draft), draft.because.as_str())).collect();
    let keys = lines.iter().map(|(key, ..)| key.chars().count()).max().unwrap_or(0);
    let entries = lines.iter().map(|(_, entry, _)| entry.chars().count()).max().unwrap_or(0);
    for (key, entry, because) in lines {
        ui.line(format!("{mark}{key:<keys$} = {entry:<entries$}  # {}", harmless(because)))?;
    }
    Ok(())
}

fn entry(draft: &FactDraft) -> String {
    let parts = [
        draft.ty.map(|ty| format!("type = {}", toml_string(ty.as_str()))),
        draft.unit.map(|unit| format!("unit = {}", toml_string(unit))),
        draft.key.as_ref().map(|key| format!("key = {}", toml_string(key))),
        draft.secret.then(|| "secret = true".to_owned()),
        draft.volatile.then(|| "volatile = true".to_owned()),
    ];
    format!("{{ {} }}", parts.into_iter().flatten().collect::<Vec<_>>().join(", "))
}
