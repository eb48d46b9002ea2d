use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use fencepost_engine::{
    DraftedWorkspace, EngineError, FactDraft, FactDrafts, ImportOptions, Imported, Importer, WrongFact,
    draft_source_of, ledger_for_dry_run, open_ledger,
};
use fencepost_formats::{SourceDraft, toml_string};
use fencepost_store::{LedgerError, Purpose};

use super::{Common, OpenWorkspace, open_project, writing_moment};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::import::dry;
use crate::view::next_step::NextStep;
use crate::view::text::{count, harmless, shell};

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
    /// What is sure of the format, the id, the time, yes/no words, units and types stands as it would be used, each with its
    /// reason; what is not stands as a question. Devices and people that are known already help. Nothing is imported.
    #[command(after_help = "Examples:
  fencepost source draft exports/unknown.csv
  fencepost source draft exports/unknown.csv --check   what would come of it
  fencepost source draft exports/unknown.csv --into    put into fencepost.toml and facts.toml")]
    Draft(DraftArgs),
}

#[derive(Args, Debug)]
struct DraftArgs {
    /// The file, or - for standard input
    file: PathBuf,
    /// Put the draft into fencepost.toml and facts.toml; comments there stay
    #[arg(long)]
    into: bool,
    /// Tell what importing the file by the draft would do; nothing is imported
    #[arg(long)]
    check: bool,
    /// Check as of TIME (only in a workspace with a stepped clock)
    #[arg(long, value_name = "TIME", requires = "check")]
    as_of: Option<String>,
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
    let SourceCommand::Draft(args) = &args.command;
    let project = open_project(ui, common)?;
    let from_pipe = args.file.as_os_str() == "-";
    if args.check && from_pipe {
        return Err(CommandError::usage("standard input cannot be read twice", "write it to a file, and check that"));
    }
    let ledger = match open_ledger(&project, Purpose::Read, common.wait) {
        Ok(ledger) => Some(ledger),
        Err(EngineError::Ledger(LedgerError::Missing { .. })) => None,
        Err(error) => return Err(error.into()),
    };
    let draft = draft_source_of(&project, ledger.as_ref(), &args.file, std::io::stdin())?;
    if !args.into {
        ui.raw(&draft.text())?;
    }
    if !args.into && !args.check {
        return Ok(ExitCode::SUCCESS);
    }
    let drafted = DraftedWorkspace::of(&project, &draft)??;
    if args.into {
        drafted.write()?;
        let files: Vec<&str> = drafted.files().collect();
        ui.line(format!("[[source]] `{}` stands in {}", drafted.source, files.join(" and ")))?;
        if draft.questions > 0 {
            let questions = count(draft.questions as u64, "question is left", "questions are left");
            ui.line(format!("{questions} in it: look for `could not tell`"))?;
        }
    }
    if args.check {
        check(ui, common, args, &draft, &drafted)?;
    } else if draft.is_readable {
        ui.next_step(NextStep::Typed(&format!("fencepost import --dry-run {}", shell(&args.file.to_string_lossy()))));
    }
    Ok(ExitCode::SUCCESS)
}

/// Tells what importing the file by its draft would do.
fn check(
    ui: &mut Ui,
    common: &Common,
    args: &DraftArgs,
    draft: &SourceDraft,
    drafted: &DraftedWorkspace,
) -> Result<(), CommandError> {
    if !draft.is_readable {
        let help = "answer what the draft could not tell first, such as which field names the device";
        return Err(CommandError::usage("no record could be read by this draft yet", help));
    }
    let project = &drafted.project;
    let mut ledger = ledger_for_dry_run(project, common.wait)?;
    let moment = writing_moment(project, &ledger, args.as_of.as_ref(), None)?;
    let options = ImportOptions { source: Some(drafted.source.clone()), dry_run: true, ..ImportOptions::default() };
    let importer = Importer { project, options: &options, moment: &moment };
    let imported = importer.file(&mut ledger, &args.file, &mut |_| {})?;
    let imported = Imported { because: "this draft claims it".to_owned(), ..imported };
    ui.line("")?;
    ui.raw(&dry(&imported, ui.width, &ui.styles))?;
    ui.note("\nNothing was imported.");
    Ok(())
}

pub fn cmd_facts(ui: &mut Ui, common: &Common, args: &FactsArgs) -> Result<ExitCode, CommandError> {
    let FactsCommand::Draft = &args.command;
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let reading = workspace.state()?;
    let FactDrafts { drafts, wrong } = reading.draft_facts()?;
    if !wrong.is_empty() {
        ui.line("# Values that are not of the declared type; conditions that need them are unknown:")?;
        for WrongFact { path, declared, values, of, example } in &wrong {
            let (path, example) = (toml_string(path), harmless(example));
            ui.line(format!("#   {path}: {values} of {of} are no {declared}, such as {example}"))?;
        }
        ui.line("")?;
    }
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
