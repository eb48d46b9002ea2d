use std::cell::Cell;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_engine::{
    AccessQuery, FleetReport, Forecast, ForecastQuery, Moment, Reading, ReportRows, ReportScope, forecast,
};
use fencepost_report::{ReportStyle, fleet_page};
use jiff::Timestamp;
use serde_json::Value as Json;

use super::{
    Common, OpenWorkspace, OutputFormat, note_currency, parse_moment, user, write_csv_heading, write_csv_row,
    write_json,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::report_json::ReportJson;

/// So many days ahead are told.
const DAYS: u16 = 14;
/// The columns of findings as a table: those that a list of them shows.
const FINDINGS: usize = 7;

/// Write a report to be handed on: of the fleet, a site, a group
///
/// A page is one file that loads nothing from anywhere: it opens on a telephone, prints, and can be read without its script.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost report --out fleet.html
  fencepost report site Tern --out tern.html
  fencepost report group bridge-staff --since 2027-03-01 --out bridge.html
  fencepost report --format csv > findings.csv")]
pub struct ReportArgs {
    /// What it is about
    #[arg(value_enum, value_name = "WHAT", default_value_t)]
    what: What,
    /// Which one
    #[arg(value_name = "ID")]
    id: Option<String>,
    /// Compare with the last assessment at or before TIME; a week ago, where it is left out
    #[arg(long, value_name = "TIME")]
    since: Option<String>,
    /// What kind of file
    #[arg(long, value_enum, default_value_t)]
    format: ReportFormat,
    /// Where to write it; tables and JSON go to standard output without
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Replace FILE where it exists
    #[arg(long, requires = "out")]
    force: bool,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum What {
    /// All devices
    #[default]
    Fleet,
    /// The devices that belong somewhere
    Site,
    /// The devices of a group
    Group,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum ReportFormat {
    /// One page for people
    #[default]
    Html,
    /// A row a running finding, for spreadsheets
    Csv,
    /// One JSON document
    Json,
}

impl ReportFormat {
    /// Whether it may go to standard output.
    fn is_text(self) -> bool {
        matches!(self, Self::Csv | Self::Json)
    }
}

pub fn cmd_report(ui: &mut Ui, common: &Common, args: &ReportArgs) -> Result<ExitCode, CommandError> {
    let scope = scope_of(args)?;
    if let Some(out) = &args.out {
        check_target(out, args.force)?;
    } else if !args.format.is_text() {
        return Err(CommandError::usage("a page is written to a file", "name it: fencepost report --out fleet.html"));
    }
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    note_currency(ui, &reading, OutputFormat::Csv)?;
    let since = parse_moment(&workspace.project, args.since.as_ref())?;
    let report = reading.fleet_report(scope, since)?;
    let ahead = forecast_of(&workspace, &reading, &report)?;
    let made = Made { args, reading: &reading, report: &report, forecast: ahead.as_ref() };
    match &args.out {
        None => made.write(ui)?,
        Some(out) => {
            write_whole(out, args.force, |file| made.write_to(ui, file))?;
            ui.note(format!("Written to {}", out.display()));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Returns what a report is of.
fn scope_of(args: &ReportArgs) -> Result<ReportScope, CommandError> {
    match (args.what, &args.id) {
        (What::Fleet, None) => Ok(ReportScope::Fleet),
        (What::Fleet, Some(id)) => Err(CommandError::usage(
            format!("the fleet is one, and `{id}` names something else"),
            format!("say what it is: fencepost report site {id}"),
        )),
        (What::Site, Some(id)) => Ok(ReportScope::Site(id.clone())),
        (What::Group, Some(id)) => Ok(ReportScope::Group(id.clone())),
        (What::Site | What::Group, None) => {
            let what = if args.what == What::Site { "site" } else { "group" };
            Err(CommandError::usage(format!("which {what}?"), format!("name it: fencepost report {what} ID")))
        }
    }
}

/// Returns what comes in the days ahead of the devices of a report; none where the past is told, in which everything has come already.
fn forecast_of(
    workspace: &OpenWorkspace,
    reading: &Reading<'_>,
    report: &FleetReport,
) -> Result<Option<Forecast>, CommandError> {
    if reading.run.is_some() {
        return Ok(None);
    }
    let devices = reading.devices_of(&report.scope)?;
    let moment = Moment { as_of: workspace.at, wall: Timestamp::now(), user: user() };
    let query = ForecastQuery { days: DAYS, devices };
    Ok(Some(forecast(&workspace.project, &workspace.ledger, &moment, &query)?))
}

/// A report, ready to be written.
struct Made<'m> {
    args: &'m ReportArgs,
    reading: &'m Reading<'m>,
    report: &'m FleetReport,
    forecast: Option<&'m Forecast>,
}

impl Made<'_> {
    fn write_to(&self, ui: &mut Ui, file: File) -> Result<(), CommandError> {
        match self.args.format {
            ReportFormat::Html => {
                let page = fleet_page(self.report, self.forecast, &self.style())?;
                use std::io::Write as _;
                let mut file = file;
                Ok(file.write_all(page.as_bytes())?)
            }
            ReportFormat::Csv | ReportFormat::Json => ui.with_output_to(file, |ui| self.write(ui)),
        }
    }

    /// Writes what is text to wherever output goes.
    fn write(&self, ui: &mut Ui) -> Result<(), CommandError> {
        match self.args.format {
            ReportFormat::Json => {
                let query =
                    AccessQuery { devices: self.reading.devices_of(&self.report.scope)?, ..AccessQuery::default() };
                let silent_losses = Cell::new(Some(self.reading.silent_losses(&query)?));
                let (report, forecast) = (self.report, self.forecast);
                write_json(ui, &ReportJson { report, forecast, silent_losses })
            }
            ReportFormat::Html | ReportFormat::Csv => write_findings(ui, &self.report.findings),
        }
    }

    fn style(&self) -> ReportStyle {
        let config = &self.reading.project.config;
        ReportStyle::of(&config.report, config.name.as_deref(), &config.calendar.zone)
    }
}

fn write_findings(ui: &mut Ui, findings: &ReportRows) -> Result<(), CommandError> {
    let columns: Vec<&str> = findings.columns.iter().take(FINDINGS).map(String::as_str).collect();
    write_csv_heading(ui, &columns)?;
    for row in findings.rows.iter() {
        write_csv_row(ui, row?.iter().take(FINDINGS).collect::<Vec<&Json>>())?;
    }
    Ok(())
}

/// Refuses what cannot be written, or is not to be.
fn check_target(out: &Path, force: bool) -> Result<(), CommandError> {
    let named = out.display();
    match fs::symlink_metadata(out) {
        Ok(found) if found.is_dir() => Err(CommandError::usage(format!("{named} is a folder"), "name a file in it")),
        Ok(_) if !force => {
            Err(CommandError::usage(format!("{named} exists"), "name another file, or replace it with --force"))
        }
        Ok(_) | Err(_) => match out.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            Some(folder) if !folder.is_dir() => {
                Err(CommandError::usage(format!("there is no folder {}", folder.display()), "make it first"))
            }
            _ => Ok(()),
        },
    }
}

/// Writes a file whole or not at all: what was there stays until all of it is written.
fn write_whole(
    out: &Path,
    force: bool,
    write: impl FnOnce(File) -> Result<(), CommandError>,
) -> Result<(), CommandError> {
    let folder = out.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut builder = tempfile::Builder::new();
    builder.prefix(".fencepost-report-");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        // Whoever may read the folder may read it; what is written there otherwise is as open.
        builder.permissions(fs::Permissions::from_mode(0o644));
    }
    let file = builder.tempfile_in(folder)?;
    write(file.as_file().try_clone()?)?;
    file.as_file().sync_all()?;
    match force {
        true => file.persist(out).map_err(|error| error.error)?,
        false => file.persist_noclobber(out).map_err(|error| error.error)?,
    };
    Ok(())
}
