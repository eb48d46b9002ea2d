use std::fs;
use std::io::{BufRead, IsTerminal, Read};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{Against, Project, Tried, find_workspace, try_expression};
use jiff::Timestamp;
use serde_json::json;

use super::{Common, OpenWorkspace, OutputFormat, as_file, open_project, parse_moment, warn};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json::{self, SCHEMA};
use crate::view::text::harmless;
use crate::view::time::Clock;
use crate::view::{diagnostics, evidence};

/// Try an expression out: its value, its outcome, and which part decided
///
/// Against a device of the ledger, a JSON document, or nothing. Without EXPRESSION it reads one a line and gives
/// one answer a line.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost try 'date(\"2027-01-31\") + duration(\"P1M\")'
  fencepost try 'every d in disks[writable] satisfies d.encrypted' --device puffin-laptop-chief
  fencepost try 'os.version >= version(\"12\")' --facts device.json --format json
  echo '0.1 + 0.2' | fencepost try")]
pub struct TryArgs {
    /// The expression; - reads it from standard input
    expression: Option<String>,
    /// A device of the ledger
    #[arg(long, value_name = "DEVICE", conflicts_with = "facts")]
    device: Option<String>,
    /// A file with one JSON object
    #[arg(long, value_name = "FILE")]
    facts: Option<PathBuf>,
    /// Say it in plain English too
    #[arg(long)]
    explain: bool,
    /// What `now()` is
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

/// An expression read from standard input may not be longer than this, in bytes.
const MOST: u64 = 1 << 20;

pub fn cmd_try(ui: &mut Ui, common: &Common, args: &TryArgs) -> Result<ExitCode, CommandError> {
    if let Some(device) = &args.device {
        let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
        let reading = workspace.reading()?;
        return each(ui, args, reading.project, reading.judged_at(), &Against::Device(&reading, device));
    }
    // Outside every workspace an expression is tried with nothing declared.
    let here = std::env::current_dir().map_err(CommandError::Output)?;
    let project = match common.workspace.is_some() || find_workspace(&here).is_some() {
        true => open_project(ui, common)?,
        false => Project::nothing(),
    };
    let at = parse_moment(&project, args.as_of.as_ref())?.unwrap_or_else(Timestamp::now);
    match &args.facts {
        None => each(ui, args, &project, at, &Against::Nothing),
        Some(path) => {
            let document = fs::read(path).map_err(|error| {
                CommandError::usage(
                    format!("could not read {}: {error}", path.display()),
                    "name a file with one JSON object",
                )
            })?;
            let document = document.strip_prefix("\u{feff}".as_bytes()).unwrap_or(&document);
            each(ui, args, &project, at, &Against::Document(document))
        }
    }
}

/// Tries the expression given, or each line of standard input.
fn each(
    ui: &mut Ui,
    args: &TryArgs,
    project: &Project,
    at: Timestamp,
    against: &Against<'_>,
) -> Result<ExitCode, CommandError> {
    let unreadable = |error: std::io::Error| {
        CommandError::usage(format!("could not read standard input: {error}"), "give the expression in quotes")
    };
    let clock = Clock { now: at, zone: project.config.calendar.zone.clone() };
    let single = match args.expression.as_deref() {
        Some("-") => {
            let mut text = String::new();
            std::io::stdin().lock().take(MOST).read_to_string(&mut text).map_err(unreadable)?;
            Some(text.trim().to_owned())
        }
        Some(text) => Some(text.to_owned()),
        None => None,
    };
    if let Some(expression) = single {
        return Ok(match tried(ui, project, &expression, against, at)? {
            Some(tried) => {
                show(ui, &tried, &TriedView { args, project, clock: &clock, proof: true })?;
                ExitCode::SUCCESS
            }
            None => ExitCode::from(2),
        });
    }
    let terminal = std::io::stdin().is_terminal();
    if terminal {
        ui.note("One expression a line; end with Ctrl-D.");
    }
    let mut failed = false;
    for line in std::io::stdin().lock().lines() {
        let line = line.map_err(unreadable)?;
        if line.trim().is_empty() {
            continue;
        }
        match tried(ui, project, &line, against, at)? {
            Some(tried) => show(ui, &tried, &TriedView { args, project, clock: &clock, proof: terminal })?,
            None => {
                // One answer a line, whatever the line.
                failed = true;
                ui.line(if args.format == OutputFormat::Table { "error" } else { "null" })?;
            }
        }
        ui.finish()?;
    }
    Ok(if failed { ExitCode::from(2) } else { ExitCode::SUCCESS })
}

/// Tries one expression; what is wrong with it goes to standard error.
fn tried(
    ui: &mut Ui,
    project: &Project,
    expression: &str,
    against: &Against<'_>,
    at: Timestamp,
) -> Result<Option<Tried>, CommandError> {
    let files = as_file("expression", expression);
    match try_expression(project, expression, *against, at)? {
        Ok(tried) => {
            warn(ui, &files, &tried.warnings);
            Ok(Some(tried))
        }
        Err(mistakes) => {
            diagnostics::print(ui, &files, &mistakes);
            Ok(None)
        }
    }
}

/// How what was tried is shown.
struct TriedView<'v> {
    args: &'v TryArgs,
    project: &'v Project,
    clock: &'v Clock,
    /// With its proof.
    proof: bool,
}

fn show(ui: &mut Ui, tried: &Tried, view: &TriedView<'_>) -> Result<(), CommandError> {
    let TriedView { args, project, clock, proof } = *view;
    if args.format != OutputFormat::Table {
        let mut out = json!({
            "schema": SCHEMA, "value": tried.value, "type": tried.type_name, "outcome": tried.outcome,
            "reason": tried.reason.map(fencepost_core::Reason::as_str),
        });
        if args.explain {
            out["english"] = tried.english.clone().into();
        }
        if let Some(proof) = &tried.evidence {
            out["evidence"] = json::evidence(proof);
        }
        return Ok(ui.line(out)?);
    }
    let style = match tried.outcome {
        Some("pass") => ui.styles.good,
        Some("fail") => ui.styles.bad,
        Some(_) => ui.styles.unproven,
        None => ui.styles.strong,
    };
    let about = match (tried.outcome, tried.reason, tried.type_name) {
        (Some(outcome), Some(reason), _) => format!("{outcome}: {}", evidence::in_words(reason)),
        (Some(outcome), None, _) => outcome.to_owned(),
        (None, _, name) => name.unwrap_or_default().to_owned(),
    };
    let shown = harmless(&tried.shown);
    ui.line(format!("{style}{shown}{style:#}  ({about})"))?;
    if args.explain {
        ui.line(format!("  {}", harmless(&tried.english)))?;
    }
    if let (Some(found), true) = (&tried.evidence, proof) {
        let styles = ui.styles;
        let dictionary = &project.dictionary;
        let proof = evidence::Proof { evidence: found, dictionary, facts: &[], clock, styles: &styles };
        ui.raw(&proof.render(2))?;
    }
    Ok(())
}
