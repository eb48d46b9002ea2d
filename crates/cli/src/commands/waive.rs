use std::collections::HashMap;
use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use fencepost_core::ClockAfterwards;
use fencepost_engine::{
    Moment, WaiverEdit, WaiverRequest, open_ledger, plan_end_of_waiver, plan_waiver, resolve_moment,
};
use fencepost_store::Purpose;
use jiff::Timestamp;
use jiff::civil::Date;

use super::{Common, open_project, parse_moment, user, write_json};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::next_step::NextStep;
use crate::view::time::Clock;
use crate::view::waiver::{WaiverPage, waiver_json};

/// Let devices be without what a rule asks for, up to a day
///
/// Shows what the waiver covers and whom it gives access back, then writes it into waivers.toml; comments and order in it are kept. It
/// counts from the next assessment on. What is waived counts as met, and stands beside the numbers.
#[derive(Args, Debug)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    after_help = "Examples:
  fencepost waive puffin-bridge-1 bridge-lock --until 2027-03-20 --because 'manned until the refit' --approved-by 'port captain'
  fencepost waive petrel-kiosk-1 'kiosk/*' silence --until 2027-04-01 --because 'in dock' --approved-by lead --dry-run
  fencepost waive end bridge-lock-puffin-bridge-1 --because 'it was set'
  fencepost list waivers"
)]
pub struct WaiveArgs {
    /// Devices or groups, and rules: one, a check of one, everything below one as in kiosk/*, silence, uncovered
    #[arg(value_name = "DEVICE|RULE", required = true, num_args = 2..)]
    names: Vec<String>,
    /// The last day on which it holds, within a year
    #[arg(long, value_name = "DATE", value_parser = parse_day, required = true)]
    until: Option<Date>,
    /// The first day on which it holds, instead of today
    #[arg(long, value_name = "DATE", value_parser = parse_day)]
    from: Option<Date>,
    /// Why
    #[arg(long, value_name = "TEXT", required = true)]
    because: Option<String>,
    /// Who answers for it
    #[arg(long, value_name = "NAME", required = true)]
    approved_by: Option<String>,
    /// What happens when it ends: the old due moment stands, or the grace begins afresh
    #[arg(long, value_enum, default_value_t)]
    clock: ClockArg,
    /// What to call it, instead of after rule and device
    #[arg(long, value_name = "ID")]
    id: Option<String>,
    #[command(flatten)]
    how: HowArgs,
    #[command(subcommand)]
    command: Option<WaiveCommand>,
}

#[derive(Subcommand, Debug)]
enum WaiveCommand {
    End(EndArgs),
}

/// End a waiver before its day
#[derive(Args, Debug)]
struct EndArgs {
    /// The waiver
    id: String,
    /// Why
    #[arg(long, value_name = "TEXT")]
    because: String,
    #[command(flatten)]
    how: HowArgs,
}

#[derive(Args, Debug)]
struct HowArgs {
    /// Show what it would change, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Go by TIME instead of now; a workspace with a stepped clock alone is told the time
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: PageFormat,
}

/// How a page is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(super) enum PageFormat {
    /// For people
    #[default]
    Text,
    /// One JSON document
    Json,
}

/// What happens to clocks when a waiver ends, as the command line has it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum ClockArg {
    /// The old due moment stands
    #[default]
    Keep,
    /// The grace begins anew
    Afresh,
}

fn parse_day(text: &str) -> Result<Date, String> {
    text.parse().map_err(|_| "write a day as 2027-03-20".to_owned())
}

pub fn cmd_waive(ui: &mut Ui, common: &Common, args: &WaiveArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let ledger = open_ledger(&project, Purpose::Read, common.wait)?;
    let how = match &args.command {
        Some(WaiveCommand::End(end)) => &end.how,
        None => &args.how,
    };
    let wall = Timestamp::now();
    let as_of = resolve_moment(Some(&ledger), parse_moment(&project, how.as_of.as_ref())?, wall, !how.dry_run)?;
    let moment = Moment { as_of, wall, user: user() };
    let edit = match &args.command {
        Some(WaiveCommand::End(end)) => plan_end_of_waiver(&project, &ledger, &moment, &end.id, &end.because)?,
        None => {
            let missing = || CommandError::usage("a waiver says why, who answers for it, and until when", "see --help");
            let request = WaiverRequest {
                names: args.names.clone(),
                id: args.id.clone(),
                from: args.from,
                until: args.until.ok_or_else(missing)?,
                because: args.because.clone().ok_or_else(missing)?,
                approved_by: args.approved_by.clone().ok_or_else(missing)?,
                clock: match args.clock {
                    ClockArg::Keep => ClockAfterwards::Keep,
                    ClockArg::Afresh => ClockAfterwards::Afresh,
                },
            };
            plan_waiver(&project, &ledger, &moment, &request)?
        }
    };
    show(ui, &edit, as_of, how)?;
    if how.dry_run {
        ui.note("\nNothing of this was written.".to_owned());
    } else {
        edit.write()?;
        let next = NextStep::Assess.in_words();
        ui.note(format!("\nwaivers.toml is written; it counts from the next assessment on: {next}"));
    }
    Ok(ExitCode::SUCCESS)
}

fn show(ui: &mut Ui, edit: &WaiverEdit, as_of: Timestamp, how: &HowArgs) -> Result<(), CommandError> {
    match how.format {
        PageFormat::Text => {
            let clock = Clock { now: as_of, zone: edit.candidate.config.calendar.zone.clone() };
            let services = edit.candidate.rules.access().services().iter();
            let titles: HashMap<String, String> =
                services.map(|service| (service.id.to_string(), service.title.clone())).collect();
            let text = WaiverPage { ui, clock: &clock, titles: &titles }.render(edit);
            Ok(ui.raw(&text)?)
        }
        PageFormat::Json => write_json(ui, &waiver_json(edit, as_of, !how.dry_run)),
    }
}
