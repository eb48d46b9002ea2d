use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use fencepost_core::{Stage, VerdictOutcome};
use fencepost_engine::{DeriveOptions, DerivedAs, Difference, Expectation, resolve_moment};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::{
    Common, OpenWorkspace, OutputFormat, ledger_if_any, note_currency, open_project, page_in, parse_moment, write_json,
    write_rows,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json::SCHEMA;
use crate::view::next_step::NextStep;
use crate::view::table::{Cell, Column, Table};
use crate::view::text::{count, harmless};
use crate::view::time::Clock;

/// What machines of one kind are expected to look like
#[derive(Args, Debug)]
pub struct BaselineArgs {
    #[command(subcommand)]
    what: BaselineCommand,
}

#[derive(Subcommand, Debug)]
enum BaselineCommand {
    Show(BaselineShowArgs),
    Derive(DeriveArgs),
}

/// Write a baseline from devices that are as they should be, or from files of settings
///
/// Keeps what all of them agree on, leaves out what changes anyway or is each device's own, and says what it left out and why. Of lists
/// it says what all of them have and what some do. The baseline is on trial until you have read it. Where the workspace has a baseline
/// of this id, the differences to it are told instead.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost baseline derive fulmar-tickets gannet-tickets --id ticket-server --out baselines/ticket-server.toml
  fencepost baseline derive fulmar-tickets --id ssh --only 'sshd.*'
  fencepost baseline derive --from-set ticket-servers --id ticket-server
  fencepost baseline derive golden.ini --id golden              a property list, INI, key=value, JSON")]
struct DeriveArgs {
    /// Devices that are as they should be, or files of settings
    #[arg(value_name = "DEVICE|FILE", required_unless_present = "from_set")]
    devices: Vec<String>,
    /// Take what most devices of SET hold, a [[drift]] of drift.toml
    #[arg(long, value_name = "SET", conflicts_with = "devices")]
    from_set: Option<String>,
    /// The id of the baseline
    #[arg(long, value_name = "ID")]
    id: String,
    /// Write it to FILE, which must not be there yet
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Only facts whose path fits PATTERN, with * for any text
    #[arg(long, value_name = "PATTERN,..", value_delimiter = ',')]
    only: Vec<String>,
}

/// Show what a baseline came to, or what is expected of a device, and where each part is written
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost baseline show ticket-server
  fencepost baseline show ticket-server --device tern-tickets
  fencepost baseline show --device tern-tickets       all that is expected of it, from everywhere")]
struct BaselineShowArgs {
    /// The baseline
    #[arg(value_name = "BASELINE", required_unless_present = "device")]
    baseline: Option<String>,
    /// What holds for DEVICE, with what it says of it
    #[arg(long, value_name = "DEVICE")]
    device: Option<String>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_baseline(ui: &mut Ui, common: &Common, args: &BaselineArgs) -> Result<ExitCode, CommandError> {
    match &args.what {
        BaselineCommand::Show(args) => cmd_show(ui, common, args),
        BaselineCommand::Derive(args) => cmd_derive(ui, common, args),
    }
}

/// Writes a file that is not there yet.
fn write_new(path: &Path, text: &str) -> Result<(), CommandError> {
    let shown = || harmless(&path.display().to_string());
    let made = std::fs::File::options().write(true).create_new(true).open(path);
    match made.and_then(|mut file| file.write_all(text.as_bytes())) {
        Ok(()) => Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            Err(CommandError::usage(format!("{} is there already", shown()), "name another file, or take it away"))
        }
        Err(error) => Err(CommandError::usage(format!("{} cannot be written: {error}", shown()), "name another file")),
    }
}

fn cmd_derive(ui: &mut Ui, common: &Common, args: &DeriveArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let reading = workspace.state()?;
    let options = DeriveOptions { id: args.id.clone(), only: args.only.clone() };
    let (patterns, doubts) = match &args.from_set {
        Some(set) => (vec![reading.majority_example(set)?], Vec::new()),
        None => reading.examples(&args.devices)?,
    };
    for doubt in &doubts {
        ui.complain(harmless(doubt));
    }
    match reading.derive(&patterns, &options)? {
        DerivedAs::File(text) if args.out.is_some() => {
            let path = args.out.as_deref().unwrap_or(Path::new(""));
            write_new(path, &text)?;
            ui.line(format!("Written: {}. Finish it, then: fencepost preview", harmless(&path.display().to_string())))?;
        }
        DerivedAs::File(text) => {
            ui.raw(&text)?;
            ui.note(format!("\nPut it into baselines/{}.toml, finish it, then: fencepost preview", args.id));
        }
        DerivedAs::Differences(all) if all.is_empty() => {
            let devices = count(patterns.len() as u64, "example meets", "examples meet");
            ui.line(format!("{devices} all that {} expects, and agree on nothing that it does not mention.", args.id))?;
        }
        DerivedAs::Differences(all) => {
            for difference in &all {
                ui.line(match difference {
                    Difference::Agreed(what) => format!("not in {}: {}", args.id, harmless(what)),
                    Difference::Broken(rule, says, devices) => {
                        format!("not so on {}: {} ({})", harmless(&devices.join(", ")), harmless(says), harmless(rule))
                    }
                })?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn cmd_show(ui: &mut Ui, common: &Common, args: &BaselineShowArgs) -> Result<ExitCode, CommandError> {
    if let Some(device) = &args.device {
        let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
        let reading = workspace.reading()?;
        let name = reading.device_name(device)?;
        if let Some(baseline) = &args.baseline {
            reading.project.baseline(baseline, reading.at)?;
        }
        let found = reading.expectations(&name, args.baseline.as_deref())?;
        note_currency(ui, &reading, args.format)?;
        if args.format == OutputFormat::Table {
            let noun = count(found.len() as u64, "thing is", "things are");
            let of = args.baseline.as_ref().map(|baseline| format!(" by {baseline}")).unwrap_or_default();
            ui.line(format!("{noun} expected of {}{of}\n", harmless(&name)))?;
            let text = expectations(ui, &found);
            ui.raw(&text)?;
            ui.next_step(NextStep::Why(&name));
            return Ok(ExitCode::SUCCESS);
        }
        return write(ui, args.format, &found, json!({ "schema": SCHEMA, "device": name }));
    }
    let project = open_project(ui, common)?;
    // Without a ledger it is read all the same.
    let ledger = ledger_if_any(&project, common)?;
    let asked = parse_moment(&project, args.as_of.as_ref())?;
    let at = resolve_moment(ledger.as_ref(), asked, Timestamp::now(), false)?;
    let report = project.baseline(args.baseline.as_deref().unwrap_or_default(), at)?;
    if args.format == OutputFormat::Table {
        let clock = Clock { now: at, zone: project.config.calendar.zone.clone() };
        let heading = page_in(ui, &clock).baseline_heading(&report);
        ui.line(heading)?;
        let text = expectations(ui, &report.expectations);
        ui.raw(&text)?;
        for (name, because) in &report.dropped {
            ui.line(format!("\nDropped: {}. {}", harmless(name), harmless(because)))?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    let around = json!({
        "schema": SCHEMA, "baseline": report.id, "title": report.title, "extends": report.extends,
        "extended_by": report.extended_by, "covers": report.covers, "groups": report.groups,
        "dropped": report.dropped.iter().map(|(name, because)| json!({ "name": name, "because": because })).collect::<Vec<_>>(),
    });
    write(ui, args.format, &report.expectations, around)
}

fn expectations(ui: &Ui, all: &[Expectation]) -> String {
    let outcomes = all.iter().any(|found| found.outcome.is_some());
    let mut columns = vec![("RULE", Column::Fixed), ("EXPECTED", Column::Text)];
    if outcomes {
        columns.push(("SAYS", Column::Fixed));
    }
    columns.extend([("GRACE", Column::Fixed), ("", Column::Fixed), ("WRITTEN IN", Column::Fixed)]);
    let mut table = Table::new(&columns);
    for found in all {
        let place = found.place.as_ref().map(ToString::to_string).unwrap_or_default();
        // The rule names the fact already.
        let fact = found.rule.split_once('/').map_or("", |(_, fact)| fact);
        let says = found.says.strip_prefix(fact).filter(|rest| rest.starts_with(' ')).unwrap_or(&found.says);
        let mut cells = vec![Cell::new(&found.rule), Cell::new(says.trim_start())];
        if let Some(outcome) = found.outcome {
            cells.push(match outcome {
                VerdictOutcome::Pass => Cell::styled("pass", ui.styles.good),
                VerdictOutcome::Fail => Cell::styled("fail", ui.styles.bad),
                VerdictOutcome::Unknown(_) => Cell::styled("unknown", ui.styles.unproven),
                VerdictOutcome::NotApplicable => Cell::default(),
            });
        }
        let stage = if found.stage == Stage::Enforced { "" } else { found.stage.as_str() };
        cells.extend([Cell::new(found.grace.to_string()), Cell::styled(stage, ui.styles.faint), Cell::new(place)]);
        table.row(cells);
    }
    table.render(ui.width, &ui.styles)
}

const COLUMNS: [&str; 10] =
    ["rule", "expected", "require", "outcome", "severity", "stage", "grace", "baseline", "written_in", "place"];

fn row(found: &Expectation) -> Json {
    json!({
        "rule": found.rule, "expected": found.says, "require": found.require,
        "outcome": found.outcome.map(VerdictOutcome::as_str), "severity": found.severity.as_str(),
        "stage": found.stage.as_str(), "grace": found.grace.to_string(), "because": found.because, "fix": found.fix,
        "baseline": found.baseline, "written_in": found.written_in,
        "place": found.place.as_ref().map(ToString::to_string),
    })
}

fn write(ui: &mut Ui, format: OutputFormat, all: &[Expectation], mut around: Json) -> Result<ExitCode, CommandError> {
    match format {
        OutputFormat::Table | OutputFormat::Json => {
            around["expectations"] = all.iter().map(row).collect();
            write_json(ui, &around)?;
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let rows = all.iter().map(|found| {
                let mut row = row(found);
                row["schema"] = SCHEMA.into();
                row
            });
            write_rows(ui, format, &COLUMNS, rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
