mod sheets;
mod target;

use std::cell::Cell;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_engine::{
    AccessQuery, ClausesOf, ControlsReport, FleetReport, Forecast, ForecastQuery, Moment, Reading, ReportRows,
    ReportScope, forecast,
};
use fencepost_report::{
    ReportStyle, assessment_results, calendar, controls_page, device_page, fleet_page, letter_page, rule_page,
    write_workbook,
};
use jiff::Timestamp;
use serde_json::Value as Json;

use super::{
    Common, OpenWorkspace, OutputFormat, note_currency, parse_moment, user, write_csv_heading, write_csv_row,
    write_json,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::report_json::{ReportJson, controls_document};
use crate::view::text::count;
use sheets::Lists;
use target::Target;

/// So many days ahead are told on a page.
const DAYS: u16 = 14;
/// So many days ahead a calendar has what ends.
const CALENDAR_DAYS: u16 = 400;
/// The columns of findings as a table: those that a list of them shows.
const FINDINGS: usize = 7;

/// Write a report to be handed on: of the fleet, a site, a group, a rule, a device, to a person, or clause by clause
///
/// A page is one file that loads nothing from anywhere: it opens on a telephone, prints, and can be read without its script. ReportKind is
/// fewer or more is held against the last assessment at or before --since.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost report --out fleet.html
  fencepost report site Tern --out tern.html
  fencepost report rule laptop-lock --out laptop-lock.html
  fencepost report person B-1056 --out letter.html
  fencepost report controls --format oscal --out results.json
  fencepost report --format xlsx --out fleet.xlsx
  fencepost report --format ics --out fleet.ics --force
  fencepost report --format csv > findings.csv")]
pub struct ReportArgs {
    /// ReportKind it is about
    #[arg(value_enum, value_name = "WHAT", default_value_t)]
    kind: ReportKind,
    /// Which one; a person by id or name
    #[arg(value_name = "ID")]
    id: Option<String>,
    /// Compare with the last assessment at or before TIME; that of a week ago, where it is left out
    #[arg(long, value_name = "TIME")]
    since: Option<String>,
    /// ReportKind kind of file
    #[arg(long, value_enum, default_value_t)]
    format: ReportFormat,
    /// Where to write it; CSV and JSON go to standard output without
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Replace FILE where it exists
    #[arg(long, requires = "out")]
    force: bool,
    /// With --format xlsx: also the verdicts that are well
    #[arg(long)]
    all: bool,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum ReportKind {
    /// All devices
    #[default]
    Fleet,
    /// The devices that belong somewhere
    Site,
    /// The devices of a group
    Group,
    /// One rule
    Rule,
    /// One device
    Device,
    /// A letter to a person
    Person,
    /// The clauses that rules answer for
    Controls,
}

impl ReportKind {
    /// The formats that it may be written in.
    fn formats(self) -> &'static [ReportFormat] {
        use ReportFormat::{Csv, Html, Ics, Json, Oscal, Xlsx};
        match self {
            Self::Fleet => &[Html, Xlsx, Csv, Json, Ics, Oscal],
            Self::Site | Self::Group => &[Html, Xlsx, Csv, Json, Ics],
            Self::Controls => &[Html, Json, Oscal],
            Self::Rule | Self::Device | Self::Person => &[Html],
        }
    }

    fn word(self) -> String {
        self.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum ReportFormat {
    #[default]
    Html,
    Xlsx,
    Csv,
    Json,
    Oscal,
    Ics,
}

impl ValueEnum for ReportFormat {
    fn value_variants<'a>() -> &'a [Self] {
        &[Self::Html, Self::Xlsx, Self::Csv, Self::Json, Self::Oscal, Self::Ics]
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        let (name, help) = match self {
            Self::Html => ("html", "One page for people"),
            Self::Xlsx => ("xlsx", "A workbook: devices, findings, verdicts, access, waivers, drift"),
            Self::Csv => ("csv", "A row a running finding"),
            Self::Json => ("json", "One JSON document"),
            Self::Oscal => ("oscal", "OSCAL assessment results"),
            Self::Ics => ("ics", "A calendar of what is due and what ends"),
        };
        Some(PossibleValue::new(name).help(help))
    }
}

impl ReportFormat {
    /// Whether it may go to standard output.
    fn is_text(self) -> bool {
        matches!(self, Self::Csv | Self::Json)
    }

    fn word(self) -> String {
        self.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
    }
}

pub fn cmd_report(ui: &mut Ui, common: &Common, args: &ReportArgs) -> Result<ExitCode, CommandError> {
    check_args(args)?;
    let target = args.out.as_ref().map(|out| Target::new(out, args.force)).transpose()?;
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    note_currency(ui, &reading, OutputFormat::Csv)?;
    let making = Making { args, workspace: &workspace, reading: &reading };
    match &target {
        None => making.make(ui)?.write_text(ui)?,
        Some(target) => {
            let made = making.make(ui)?;
            target.write(|file| made.write_to(ui, file))?;
            ui.note(format!("Written to {}", target.path().display()));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Refuses what does not go together.
fn check_args(args: &ReportArgs) -> Result<(), CommandError> {
    let (what, format) = (args.kind.word(), args.format.word());
    if !args.kind.formats().contains(&args.format) {
        let known: Vec<String> = args.kind.formats().iter().map(|format| format.word()).collect();
        let help = format!("there is {}", known.join(", "));
        return Err(CommandError::usage(format!("a report of this kind ({what}) is not written as {format}"), help));
    }
    let takes_none = matches!(args.kind, ReportKind::Fleet | ReportKind::Controls);
    match &args.id {
        Some(id) if takes_none => {
            let help = format!("say what it is: fencepost report site {id}");
            return Err(CommandError::usage(format!("a report of this kind ({what}) is of no single thing"), help));
        }
        None if !takes_none => {
            return Err(CommandError::usage(format!("which {what}?"), format!("name it: fencepost report {what} ID")));
        }
        _ => {}
    }
    if args.out.is_none() && !args.format.is_text() {
        let help =
            format!("name it: --out {what}.{}", if args.format == ReportFormat::Oscal { "json" } else { &format });
        return Err(CommandError::usage("this kind of report is written to a file", help));
    }
    if args.all && args.format != ReportFormat::Xlsx {
        return Err(CommandError::usage("--all is about workbooks", "write --format xlsx beside it"));
    }
    Ok(())
}

/// ReportKind a report is made of.
struct Making<'m> {
    args: &'m ReportArgs,
    workspace: &'m OpenWorkspace,
    reading: &'m Reading<'m>,
}

/// A report, ready to be written.
enum Made<'m> {
    /// Everything is in one text.
    Text(String),
    /// A document.
    Document(Json),
    /// Of the fleet or a part of it, whose rows are read as they are written.
    Rows {
        making: &'m Making<'m>,
        report: Box<FleetReport>,
        forecast: Option<Forecast>,
    },
    Workbook {
        making: &'m Making<'m>,
        report: Box<FleetReport>,
        lists: Box<Lists>,
    },
}

impl Making<'_> {
    fn make(&self, ui: &mut Ui) -> Result<Made<'_>, CommandError> {
        let id = self.args.id.as_deref().unwrap_or_default();
        let style = self.style();
        Ok(match self.args.kind {
            ReportKind::Rule => {
                let rule = self.workspace.reading()?.rule(id, &self.workspace.project)?;
                Made::Text(rule_page(&rule, &style))
            }
            ReportKind::Device => {
                let (device, history) = (self.reading.device(id)?, self.reading.history(id)?);
                Made::Text(device_page(&device, &history, self.reading.at, &style))
            }
            ReportKind::Person => Made::Text(letter_page(&self.reading.letter(id)?, self.reading.at, &style)),
            ReportKind::Controls => self.controls(&self.reading.controls_report(ClausesOf::Controls)?),
            ReportKind::Fleet if self.args.format == ReportFormat::Oscal => {
                self.controls(&self.reading.controls_report(ClausesOf::Rules)?)
            }
            ReportKind::Fleet => self.of_devices(ui, ReportScope::Fleet)?,
            ReportKind::Site => self.of_devices(ui, ReportScope::Site(id.to_owned()))?,
            ReportKind::Group => self.of_devices(ui, ReportScope::Group(id.to_owned()))?,
        })
    }

    fn controls(&self, report: &ControlsReport) -> Made<'_> {
        match self.args.format {
            ReportFormat::Oscal => Made::Document(assessment_results(report, &self.style().name)),
            ReportFormat::Json => Made::Document(controls_document(report)),
            _ => Made::Text(controls_page(report, &self.style())),
        }
    }

    fn of_devices(&self, ui: &mut Ui, scope: ReportScope) -> Result<Made<'_>, CommandError> {
        if self.args.format == ReportFormat::Ics {
            let devices = self.reading.devices_of(&scope)?;
            let endings = self.forecast(CALENDAR_DAYS, devices.clone(), true)?;
            let report = self.reading.calendar(devices.as_ref(), endings.as_ref())?;
            if report.left_out > 0 {
                let moments = count(report.left_out, "due moment", "due moments");
                ui.note(format!("{moments} had no room in the calendar; those that come first are in it"));
            }
            return Ok(Made::Text(calendar(&report, &self.style())));
        }
        let since = parse_moment(&self.workspace.project, self.args.since.as_ref())?;
        let report = Box::new(self.reading.fleet_report(scope, since)?);
        Ok(match self.args.format {
            ReportFormat::Xlsx => {
                let lists = Box::new(Lists::read(self.reading, self.args.all)?);
                Made::Workbook { making: self, report, lists }
            }
            ReportFormat::Html => {
                let ahead = self.forecast(DAYS, report.devices.clone(), false)?;
                Made::Text(fleet_page(&report, ahead.as_ref(), &self.style())?)
            }
            ReportFormat::Json => {
                let ahead = self.forecast(DAYS, report.devices.clone(), true)?;
                Made::Rows { making: self, report, forecast: ahead }
            }
            _ => Made::Rows { making: self, report, forecast: None },
        })
    }

    /// Returns what comes in the days ahead; none where the past is told, in which everything has come already.
    fn forecast(
        &self,
        days: u16,
        devices: Option<BTreeSet<String>>,
        endings_only: bool,
    ) -> Result<Option<Forecast>, CommandError> {
        if self.reading.run.is_some() {
            return Ok(None);
        }
        let query = ForecastQuery { days, devices, endings_only };
        let moment = Moment { as_of: self.workspace.at, wall: Timestamp::now(), user: user() };
        Ok(Some(forecast(&self.workspace.project, &self.workspace.ledger, &moment, &query)?))
    }

    fn style(&self) -> ReportStyle {
        let config = &self.reading.project.config;
        ReportStyle::of(&config.report, config.name.as_deref(), &config.calendar.zone)
    }
}

impl Made<'_> {
    fn write_to(&self, ui: &mut Ui, file: File) -> Result<(), CommandError> {
        match self {
            Self::Text(text) => Ok((&file).write_all(text.as_bytes())?),
            Self::Workbook { making, report, lists } => {
                let zone = &making.reading.project.config.calendar.zone;
                Ok(write_workbook(lists.sheets(report), making.reading.at, zone, BufWriter::new(file))?)
            }
            Self::Document(_) | Self::Rows { .. } => ui.with_output_to(file, |ui| self.write_text(ui)),
        }
    }

    /// Writes what is text to wherever output goes.
    fn write_text(&self, ui: &mut Ui) -> Result<(), CommandError> {
        match self {
            Self::Text(text) => Ok(ui.raw(text)?),
            Self::Document(document) => write_json(ui, document),
            Self::Rows { making, report, forecast } if making.args.format == ReportFormat::Json => {
                let query = AccessQuery { devices: report.devices.clone(), ..AccessQuery::default() };
                let silent_losses = Cell::new(Some(making.reading.silent_losses(&query)?));
                write_json(ui, &ReportJson { report, forecast: forecast.as_ref(), silent_losses })
            }
            Self::Rows { report, .. } | Self::Workbook { report, .. } => write_findings(ui, &report.findings),
        }
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
