use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use fencepost_core::did_you_mean;
use fencepost_engine::{AccessEntry, AccessQuery, DeniedEntries};

use super::explain::{ExplainArgs, cmd_explain};
use super::list::devices_where;
use super::readiness::{ReadinessArgs, cmd_readiness};
use super::replay::{ReplayArgs, cmd_replay};
use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, parse_moment, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::access::{AccessPage, GroupBy, Only};
use crate::view::json::{AccessJson, access_row};
use crate::view::next_step::NextStep;

/// Show who loses access, why, since when, and what to do
///
/// It tells what changed since the assessment before the latest (or since TIME), what the clock has done since,
/// and what it will do if nothing else changes. Those come first who have no other way to a service.
#[derive(Args, Debug)]
#[command(
    args_conflicts_with_subcommands = true,
    after_help = "Examples:
  fencepost access
  fencepost access --only call-first            whom to call, all of them
  fencepost access --by service
  fencepost access B-1034                       one person, or one device
  fencepost access --where 'site = \"Puffin\"'
  fencepost access --since 2027-03-10 --format csv
  fencepost access --denied                     all that is denied, whenever it began
  fencepost access explain --device puffin-bridge-1 --person Vravuld --service charts
  fencepost access readiness firewall-on        before a rule is enforced
  fencepost access replay sign-ins.jsonl        a log, decided again"
)]
pub struct AccessArgs {
    #[command(subcommand)]
    command: Option<AccessCommand>,
    /// Only this person, by id or name, or this device
    #[arg(value_name = "PERSON|DEVICE")]
    who: Option<String>,
    /// Only devices of which a condition holds
    #[arg(long = "where", value_name = "CONDITION")]
    filter: Option<String>,
    /// Compare with the last assessment at or before TIME
    #[arg(long, value_name = "TIME")]
    since: Option<String>,
    /// Group the rows
    #[arg(long, value_enum)]
    by: Option<GroupBy>,
    /// Show one part alone, and all of it
    #[arg(long, value_enum, conflicts_with = "denied")]
    only: Option<Only>,
    /// Show everything that an access rule denies now
    #[arg(long)]
    denied: bool,
    /// With --denied: also what is denied since no access rule applies
    #[arg(long, requires = "denied")]
    all: bool,
    /// With --format csv: these columns alone, in this order
    #[arg(long, value_name = "COLUMN,..", value_delimiter = ',')]
    columns: Vec<String>,
    /// Exit with 1 when this was found
    #[arg(long, value_enum, value_name = "WHAT")]
    fail_on: Option<FailOn>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Subcommand, Debug)]
enum AccessCommand {
    Explain(ExplainArgs),
    Readiness(ReadinessArgs),
    Replay(ReplayArgs),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum FailOn {
    /// Somebody lost access
    LostAccess,
    /// Somebody lost access, or is about to
    Any,
}

const COLUMNS: [&str; 25] = [
    "change",
    "device",
    "person",
    "person_name",
    "service",
    "client",
    "moment",
    "decision",
    "access_rule",
    "cause",
    "because",
    "other_device",
    "call_first",
    "only_if_silent",
    "title",
    "facts",
    "due",
    "do",
    "site",
    "unit",
    "mail",
    "phone",
    "lead",
    "access_rules",
    "causes",
];

/// Returns the columns of a table that are asked for: all, where none is named.
fn asked_columns(args: &AccessArgs) -> Result<Vec<&'static str>, CommandError> {
    if args.columns.is_empty() {
        return Ok(COLUMNS.to_vec());
    }
    if args.format != OutputFormat::Csv {
        return Err(CommandError::usage("--columns is about CSV", "write --format csv beside it"));
    }
    let known = |name: &String| {
        COLUMNS.into_iter().find(|column| column == name).ok_or_else(|| {
            let help = did_you_mean(name, COLUMNS, || format!("columns are {}", COLUMNS.join(", ")));
            CommandError::usage(format!("there is no column `{name}`"), help)
        })
    };
    args.columns.iter().map(known).collect()
}

pub fn cmd_access(ui: &mut Ui, common: &Common, args: &AccessArgs) -> Result<ExitCode, CommandError> {
    match &args.command {
        Some(AccessCommand::Explain(args)) => return cmd_explain(ui, common, args),
        Some(AccessCommand::Readiness(args)) => return cmd_readiness(ui, common, args),
        Some(AccessCommand::Replay(args)) => return cmd_replay(ui, common, args),
        None => {}
    }
    let columns = asked_columns(args)?;
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    let since = parse_moment(&workspace.project, args.since.as_ref())?;
    let denied = match (args.all, args.denied || args.format == OutputFormat::Json) {
        (true, _) => DeniedEntries::All,
        (false, true) => DeniedEntries::ByRule,
        (false, false) => DeniedEntries::Counted,
    };
    let of = args.who.as_ref().map(|who| reading.person_or_device(who)).transpose()?;
    let devices = args.filter.as_deref().map(|filter| devices_where(ui, &reading, filter)).transpose()?;
    let query = AccessQuery { since, denied, of, devices };
    let report = reading.access(&query)?;
    note_currency(ui, &reading, args.format)?;
    let sections: [(&str, &[AccessEntry]); 6] = [
        ("lost", &report.lost),
        ("reduced", &report.reduced),
        ("restored", &report.restored),
        ("losing", &report.losing),
        ("denied", &report.denied),
        ("terms", &report.terms_open),
    ];
    let is_shown = |change: &str, entry: &AccessEntry| args.only.is_none_or(|only| only.shows(change, entry));
    match args.format {
        OutputFormat::Json => {
            let silent = std::cell::Cell::new(Some(reading.silent_losses(&query)?));
            write_json(ui, &AccessJson { report: &report, silent })?;
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let row = |change: &str, entry: &AccessEntry| is_shown(change, entry).then(|| access_row(change, entry));
            let rows = sections.iter().flat_map(|(change, own)| own.iter().filter_map(|entry| row(change, entry)));
            let silent_shown = args.only.is_none_or(|only| only == Only::Losing);
            let mut failed = None;
            // Losses by silence come last; they are streamed from the ledger.
            let silent = silent_shown.then(|| reading.silent_losses(&query)).transpose()?.into_iter().flatten();
            let silent = silent.map_while(|one| one.map_err(|error| failed = Some(error)).ok());
            let silent = silent.filter_map(|entry| row("losing", &entry));
            write_rows(ui, args.format, &columns, rows.chain(silent))?;
            if let Some(failed) = failed {
                return Err(failed.into());
            }
        }
        OutputFormat::Table => {
            let clock = clock_of(&reading);
            // Losses by silence are shown only with `--only losing`.
            let silent = match args.only {
                Some(Only::Losing) => reading.silent_losses(&query)?.collect::<Result<Vec<_>, _>>()?,
                _ => Vec::new(),
            };
            let page = AccessPage {
                clock: &clock,
                styles: &ui.styles,
                width: ui.width,
                by: args.by,
                only: args.only,
                denied: args.denied,
                silent: &silent,
            };
            ui.raw(&page.render(&report))?;
            let asks_why = sections.iter().filter(|(change, _)| *change != "restored");
            let mut shown = asks_why.flat_map(|(change, own)| own.iter().filter(|entry| is_shown(change, entry)));
            if let Some(first) = shown.next() {
                ui.next_step(NextStep::Why(&first.device));
            }
        }
    }
    let found = match args.fail_on {
        None => false,
        Some(FailOn::LostAccess) => !report.lost.is_empty(),
        Some(FailOn::Any) => !report.lost.is_empty() || !report.losing.is_empty(),
    };
    Ok(if found { ExitCode::from(1) } else { ExitCode::SUCCESS })
}
