use std::process::ExitCode;

use clap::{Args, Subcommand};
use fencepost_engine::{ApprovalRequest, Moment, SendOptions, SendReport, approve, resolve_moment, send};
use jiff::Timestamp;

use super::waive::PageFormat;
use super::{Common, OpenWorkspace, OutputFormat, note_currency, open_project, parse_moment, user, write_json};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::send::{SendPage, approval_json, send_json};
use crate::view::text::harmless;
use crate::view::time::Clock;

/// Exit code when something could not be delivered.
const FAILED: u8 = 1;
/// Exit code when the brake held everything.
const HELD: u8 = 3;

/// Carry out what findings set off: messages, tickets and commands
///
/// Everything that is ripe goes out, one delivery after the other, each noted before it goes and after. Where that would reach more of
/// the fleet within a day than `brake` in [responses] allows, nothing goes out, and a code is told with which it does.
#[derive(Args, Debug)]
#[command(
    args_conflicts_with_subcommands = true,
    after_help = "Examples:
  fencepost send --dry-run              every message in full, and nothing goes out
  fencepost send
  fencepost send approve 4f1c --by 'port captain' --because 'spoken to the crew'
  fencepost list actions --where 'state = \"held\"'

Exit codes:
  0  all was delivered, held or withheld
  1  something could not be delivered
  3  the brake held"
)]
pub struct SendArgs {
    /// Show every delivery in full, and send nothing
    #[arg(long)]
    dry_run: bool,
    /// Send on CHANNEL alone
    #[arg(long, value_name = "CHANNEL")]
    only: Option<String>,
    /// Go on where the brake held, with the code that it told
    #[arg(long, value_name = "CODE")]
    go_on: Option<String>,
    /// Go by TIME instead of now: a dry run, unless the workspace has a stepped clock
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: PageFormat,
    #[command(subcommand)]
    command: Option<SendCommand>,
}

#[derive(Subcommand, Debug)]
enum SendCommand {
    Approve(ApproveArgs),
}

/// Approve actions that are held for it
///
/// An approval is of one finding, on the evidence of now, and lapses.
#[derive(Args, Debug)]
struct ApproveArgs {
    /// The actions, by their ids or how these begin
    #[arg(value_name = "ACTION", required = true)]
    actions: Vec<String>,
    /// Who approves
    #[arg(long, value_name = "NAME")]
    by: String,
    /// Why
    #[arg(long, value_name = "TEXT")]
    because: String,
    /// Go by TIME instead of now; a workspace with a stepped clock alone is told the time
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: PageFormat,
}

pub fn cmd_send(ui: &mut Ui, common: &Common, args: &SendArgs) -> Result<ExitCode, CommandError> {
    if let Some(SendCommand::Approve(approval)) = &args.command {
        return cmd_approve(ui, common, approval);
    }
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let project = &workspace.project;
    let wall = Timestamp::now();
    let asked = parse_moment(project, args.as_of.as_ref())?;
    // In a ledger that goes by the machine's clock another moment is for looking alone.
    let (as_of, dry_run) = match resolve_moment(Some(&workspace.ledger), asked, wall, !args.dry_run) {
        Err(_) if asked.is_some() => (resolve_moment(Some(&workspace.ledger), asked, wall, false)?, true),
        other => (other?, args.dry_run),
    };
    let format = match args.format {
        PageFormat::Text => OutputFormat::Table,
        PageFormat::Json => OutputFormat::Json,
    };
    note_currency(ui, &workspace.reading()?, format)?;
    let options = SendOptions { dry_run, only: args.only.clone(), go_on: args.go_on.clone() };
    let bar = ui.progress(0, "sending", false);
    let moment = Moment { as_of, wall, user: user() };
    let report = send(project, common.wait, &moment, &options, &mut |done, of| {
        bar.set_length(of);
        bar.set_position(done);
    })?;
    bar.finish_and_clear();
    for path in &report.exposed {
        let path = harmless(path);
        ui.complain(format!("warning: others can read the secret in {path}; close it with: chmod 600 {path}"));
    }
    match args.format {
        PageFormat::Text => {
            let clock = Clock { now: as_of, zone: project.config.calendar.zone.clone() };
            let text = SendPage { ui, clock: &clock, project, is_dry_run: dry_run }.render(&report)?;
            ui.raw(&text)?;
            if report.brake.is_none() && !dry_run && !report.delivered.is_empty() {
                ui.note("\nWhat came of each: fencepost list deliveries");
            }
        }
        PageFormat::Json => write_json(ui, &send_json(&report, project)?)?,
    }
    Ok(exit_code(&report))
}

fn exit_code(report: &SendReport) -> ExitCode {
    match (&report.brake, report.failed.is_empty() && report.unroutable.is_empty()) {
        (Some(_), _) => ExitCode::from(HELD),
        (None, false) => ExitCode::from(FAILED),
        (None, true) => ExitCode::SUCCESS,
    }
}

fn cmd_approve(ui: &mut Ui, common: &Common, args: &ApproveArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let wall = Timestamp::now();
    let as_of = {
        let ledger = fencepost_engine::open_ledger(&project, fencepost_store::Purpose::Read, common.wait)?;
        resolve_moment(Some(&ledger), parse_moment(&project, args.as_of.as_ref())?, wall, true)?
    };
    let request = ApprovalRequest { actions: args.actions.clone(), by: args.by.clone(), because: args.because.clone() };
    let approved = approve(&project, common.wait, &Moment { as_of, wall, user: user() }, &request)?;
    match args.format {
        PageFormat::Text => {
            let clock = Clock { now: as_of, zone: project.config.calendar.zone.clone() };
            let page = SendPage { ui, clock: &clock, project: &project, is_dry_run: false };
            let text = page.approved(&approved, &request);
            ui.raw(&text)?;
            ui.note("\nCarry it out with: fencepost send");
        }
        PageFormat::Json => write_json(ui, &approval_json(&approved, &request, as_of))?,
    }
    Ok(ExitCode::SUCCESS)
}
