//! The commands: one module each. A body tells its story: load, compute, show, save.

mod access;
mod assess;
mod baseline;
mod contrast;
mod demo;
mod draft;
mod drift;
mod explain;
mod forecast;
mod history;
mod import;
mod init;
mod list;
mod preview;
mod readiness;
mod replay;
mod report;
mod schema;
mod send;
mod show;
mod tried;
mod trim;
mod vet;
mod waive;
mod why;

use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::{Args, Parser, Subcommand, ValueEnum};
use fencepost_core::{Diagnostic, FileId, Period, parse_collected};
use fencepost_engine::{
    EngineError, Moment, Project, Reading, find_workspace, open_ledger, refuse_far_ahead, resolve_moment,
};
use fencepost_formats::FileText;
use fencepost_store::{Ledger, LedgerError, Purpose};
use jiff::Timestamp;
use serde::Serialize;
use serde_json::Value as Json;

use crate::error::CommandError;
use crate::ui::{Color, Ui};
use crate::view::Page;
use crate::view::device::DevicePage;
use crate::view::diagnostics;
use crate::view::text::{count, harmless};
use crate::view::time::Clock;

const EXIT_CODES: &str = "\
Exit codes:
  0  done
  1  done, and what --fail-on names was found; of vet: an error, where it names nothing
  2  the command line or the workspace has a mistake
  4  the ledger could not be read or written";

const EXAMPLES: &str = "\
Examples:
  fencepost demo                    look at a ferry company's fleet, filled and assessed
  fencepost init fleet              start a workspace of your own
  fencepost import exports/         bring collected state in
  fencepost vet                     find mistakes in the rules before they bite
  fencepost assess                  evaluate every device
  fencepost access                  who loses what, and what to do
  fencepost why tern-tickets        the proof";

/// Which devices are not in the shape you agreed on, why, since when, and who loses access
#[derive(Parser, Debug)]
#[command(name = "fencepost", version, after_help = format!("{EXAMPLES}\n\n{EXIT_CODES}"), max_term_width = 100)]
pub struct Cli {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    command: Command,
}

#[derive(Args, Debug)]
#[command(next_help_heading = "Options of every command")]
pub struct Common {
    /// The workspace, instead of the one found from here upwards
    #[arg(long, global = true, value_name = "DIR", env = "FENCEPOST_WORKSPACE")]
    pub workspace: Option<PathBuf>,
    /// When to colour
    #[arg(long, global = true, value_enum, default_value_t)]
    pub color: Color,
    /// Say nothing beside the result
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// How long to wait for a ledger that is in use
    #[arg(long, global = true, value_name = "TIME", default_value = "30s", value_parser = parse_wait)]
    pub wait: Duration,
}

fn parse_wait(text: &str) -> Result<Duration, String> {
    Period::parse(text).map(|period| Duration::from_secs(period.exact().as_secs().unsigned_abs()))
}

#[derive(Subcommand, Debug)]
enum Command {
    Init(init::InitArgs),
    Demo(demo::DemoArgs),
    Import(import::ImportArgs),
    List(list::ListArgs),
    Show(show::ShowArgs),
    Vet(vet::VetArgs),
    Assess(assess::AssessArgs),
    Try(tried::TryArgs),
    Why(why::WhyArgs),
    Access(access::AccessArgs),
    Drift(drift::DriftArgs),
    Forecast(forecast::ForecastArgs),
    Contrast(contrast::ContrastArgs),
    History(history::HistoryArgs),
    Trim(trim::TrimArgs),
    Source(draft::SourceArgs),
    Facts(draft::FactsArgs),
    Baseline(baseline::BaselineArgs),
    Preview(preview::PreviewArgs),
    Report(report::ReportArgs),
    Waive(waive::WaiveArgs),
    Send(send::SendArgs),
    Schema(schema::SchemaArgs),
}

/// Carries out a command.
pub fn run(ui: &mut Ui, cli: &Cli) -> Result<ExitCode, CommandError> {
    let common = &cli.common;
    match &cli.command {
        Command::Init(args) => init::cmd_init(ui, args),
        Command::Demo(args) => demo::cmd_demo(ui, common, args),
        Command::Import(args) => import::cmd_import(ui, common, args),
        Command::List(args) => list::cmd_list(ui, common, args),
        Command::Show(args) => show::cmd_show(ui, common, args),
        Command::Assess(args) => assess::cmd_assess(ui, common, args),
        Command::Try(args) => tried::cmd_try(ui, common, args),
        Command::Why(args) => why::cmd_why(ui, common, args),
        Command::Access(args) => access::cmd_access(ui, common, args),
        Command::Contrast(args) => contrast::cmd_contrast(ui, common, args),
        Command::Drift(args) => drift::cmd_drift(ui, common, args),
        Command::Forecast(args) => forecast::cmd_forecast(ui, common, args),
        Command::History(args) => history::cmd_history(ui, common, args),
        Command::Source(args) => draft::cmd_source(ui, common, args),
        Command::Facts(args) => draft::cmd_facts(ui, common, args),
        Command::Baseline(args) => baseline::cmd_baseline(ui, common, args),
        Command::Preview(args) => preview::cmd_preview(ui, common, args),
        Command::Report(args) => report::cmd_report(ui, common, args),
        Command::Waive(args) => waive::cmd_waive(ui, common, args),
        Command::Send(args) => send::cmd_send(ui, common, args),
        Command::Schema(args) => schema::cmd_schema(ui, args),
        Command::Vet(args) => vet::cmd_vet(ui, common, args),
        Command::Trim(args) => trim::cmd_trim(ui, common, args),
    }
}

/// How a result is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum OutputFormat {
    /// For people
    #[default]
    Table,
    /// One JSON document
    Json,
    /// One JSON object a line
    Jsonl,
    /// Comma-separated, for spreadsheets
    Csv,
}

/// Returns the folder of the workspace, or where the search for it began.
fn workspace_folder(common: &Common) -> Result<PathBuf, CommandError> {
    let from = match &common.workspace {
        Some(folder) => return Ok(folder.clone()),
        None => std::env::current_dir().map_err(CommandError::Output)?,
    };
    Ok(find_workspace(&from).unwrap_or(from))
}

/// Opens the workspace, and says of how much in it that is probably not as meant.
fn open_project(ui: &mut Ui, common: &Common) -> Result<Project, CommandError> {
    let project = Project::open(&workspace_folder(common)?)?;
    if !project.warnings.is_empty() {
        let warnings = count(project.warnings.len() as u64, "warning", "warnings");
        ui.note(format!("{warnings} in the workspace: fencepost vet"));
    }
    Ok(project)
}

/// Says what is probably not as meant, unless asked to be quiet.
fn warn(ui: &mut Ui, files: &[FileText], warnings: &[Diagnostic]) {
    if !warnings.is_empty() && !ui.is_quiet() {
        diagnostics::print(ui, files, warnings);
    }
}

/// An expression of the command line, as a file that diagnostics can point into.
fn as_file(name: &str, text: &str) -> Vec<FileText> {
    debug_assert_eq!(FileId(0).0, 0);
    vec![FileText { path: name.to_owned(), text: text.to_owned() }]
}

/// Opens the ledger for a command that writes; files of it that others might read are closed to them, and that is said.
fn writing_ledger(ui: &mut Ui, project: &Project, common: &Common, purpose: Purpose) -> Result<Ledger, CommandError> {
    let ledger = open_ledger(project, purpose, common.wait)?;
    if let Some(paths) = in_one_line(&project.close_exposed_files()?) {
        ui.complain(format!("warning: others could read {paths}; now only its owner can"));
    }
    Ok(ledger)
}

/// Returns paths as one text; none where there are none.
fn in_one_line(paths: &[PathBuf]) -> Option<String> {
    let shown: Vec<String> = paths.iter().map(|path| harmless(&path.display().to_string())).collect();
    (!shown.is_empty()).then(|| shown.join(", "))
}

/// Opens the ledger for reading; none where nothing was imported yet.
fn ledger_if_any(project: &Project, common: &Common) -> Result<Option<Ledger>, CommandError> {
    match open_ledger(project, Purpose::Read, common.wait) {
        Err(EngineError::Ledger(LedgerError::Missing { .. })) => Ok(None),
        other => Ok(Some(other?)),
    }
}

/// Reads a moment of the command line: RFC 3339, or a local time in the workspace's zone.
fn parse_moment(project: &Project, text: Option<&String>) -> Result<Option<Timestamp>, CommandError> {
    text.map(|text| {
        parse_collected(text, &project.config.calendar.zone).ok_or_else(|| {
            CommandError::usage(
                format!("`{text}` is no moment"),
                "write it as 2027-03-14T07:00:00Z, \"2027-03-14 07:00\" or 2027-03-14",
            )
        })
    })
    .transpose()
}

fn user() -> String {
    ["USER", "LOGNAME", "USERNAME"]
        .into_iter()
        .find_map(|name| std::env::var(name).ok())
        .unwrap_or_else(|| "unknown".to_owned())
}

/// The moment that a writing command goes by.
fn writing_moment(
    project: &Project,
    ledger: &Ledger,
    as_of: Option<&String>,
    most_years_ahead: Option<i32>,
) -> Result<Moment, CommandError> {
    let wall = Timestamp::now();
    let as_of = resolve_moment(Some(ledger), parse_moment(project, as_of)?, wall, true)?;
    if let Some(years) = most_years_ahead {
        refuse_far_ahead(project, ledger, as_of, wall, years)?;
    }
    Ok(Moment { as_of, wall, user: user() })
}

/// What a reading command stands on.
struct OpenWorkspace {
    project: Project,
    ledger: Ledger,
    earlier: std::cell::OnceCell<Project>,
    at: Timestamp,
    past: bool,
}

impl OpenWorkspace {
    fn open(ui: &mut Ui, common: &Common, as_of: Option<&String>) -> Result<Self, CommandError> {
        let project = open_project(ui, common)?;
        let ledger = open_ledger(&project, Purpose::Read, common.wait)?;
        if let Some(paths) = in_one_line(&project.exposed_files()) {
            ui.note(format!("warning: others can read {paths}; the next import or assess closes them"));
        }
        let asked = parse_moment(&project, as_of)?;
        let at = resolve_moment(Some(&ledger), asked, Timestamp::now(), false)?;
        Ok(Self { project, ledger, earlier: std::cell::OnceCell::new(), at, past: asked.is_some() })
    }

    fn reading(&self) -> Result<Reading<'_>, CommandError> {
        Ok(Reading::open(&self.project, &self.earlier, &self.ledger, self.at, self.past)?)
    }

    /// What came in, whatever was assessed of it.
    fn state(&self) -> Result<Reading<'_>, CommandError> {
        Ok(Reading::of_state(&self.project, &self.earlier, &self.ledger, self.at, self.past)?)
    }
}

/// Says what a reader should know about how current the answer is.
fn note_currency(ui: &mut Ui, reading: &Reading<'_>, format: OutputFormat) -> Result<(), CommandError> {
    let Some(assessment) = &reading.assessment else {
        ui.note("Nothing has been assessed yet; run: fencepost assess");
        return Ok(());
    };
    // What was known then is not to be assessed now.
    if reading.run.is_some() {
        return Ok(());
    }
    let clock = clock_of(reading);
    if let Some(missed) = reading.missed_assessment() {
        let (missed, last) = (clock.both(missed), clock.both(assessment.as_of));
        let text = format!("No assessment since {last}; the next was due {missed}. Run: fencepost assess");
        // Whoever reads a table reads this first.
        match format {
            OutputFormat::Table => ui.line(format!("{text}\n"))?,
            OutputFormat::Json | OutputFormat::Jsonl | OutputFormat::Csv => ui.note(text),
        }
    }
    let past = reading.past_valid_until()?;
    if past > 0 {
        let devices = count(past, "device", "devices");
        ui.note(format!(
            "Time may have changed the verdicts of {devices} since this assessment. Run: fencepost assess"
        ));
    }
    if reading.edited {
        ui.note("The workspace's files were edited after this assessment; this is by the rules as they were. Run: fencepost assess");
    }
    if reading.imported_since > 0 {
        let files = crate::view::text::count(reading.imported_since.unsigned_abs(), "file was", "files were");
        ui.note(format!(
            "{files} imported after this assessment; facts are shown as they are now. Run: fencepost assess"
        ));
    }
    Ok(())
}

/// Says as of when a page is, and how old the state is that it goes by.
fn note_moments(ui: &mut Ui, reading: &Reading<'_>) -> Result<(), CommandError> {
    let clock = clock_of(reading);
    let assessed = reading.assessment.as_ref().map(|run| format!(", assessed {}", clock.moment(run.as_of)));
    let collected = reading
        .collected_between()?
        .map(|[oldest, newest]| format!("; state collected {} to {}", clock.moment(oldest), clock.moment(newest)));
    let [assessed, collected] = [assessed, collected].map(Option::unwrap_or_default);
    ui.note(format!("\nAs of {}{assessed}{collected}", clock.full(reading.at)));
    Ok(())
}

fn clock_of(reading: &Reading<'_>) -> Clock {
    Clock { now: reading.at, zone: reading.project.config.calendar.zone.clone() }
}

fn page<'p>(ui: &'p Ui, reading: &'p Reading<'_>, clock: &'p Clock) -> DevicePage<'p> {
    DevicePage {
        dictionary: &reading.project.dictionary,
        clock,
        styles: &ui.styles,
        width: ui.width,
        unicode: ui.unicode,
    }
}

fn page_in<'p>(ui: &'p Ui, clock: &'p Clock) -> Page<'p> {
    Page { clock, styles: &ui.styles, width: ui.width, unicode: ui.unicode }
}

/// Writes one JSON document, or its rows.
fn write_json(ui: &mut Ui, json: &impl Serialize) -> Result<(), CommandError> {
    ui.pretty_json(json)?;
    Ok(ui.line("")?)
}

/// A JSON document that ends in a list, whose items are written as they are made.
#[derive(Default)]
struct JsonList {
    /// Whether an item was written.
    begun: bool,
}

impl JsonList {
    /// Begins a document with what stands before its list, an object, and the key of the list.
    fn begin(ui: &mut Ui, mut head: Json, key: &str) -> std::io::Result<Self> {
        head[key] = Json::Array(Vec::new());
        let text = serde_json::to_string_pretty(&head)?;
        ui.json(text.strip_suffix("]\n}").unwrap_or(&text))?;
        Ok(Self { begun: false })
    }

    /// Adds an item to a text of items: a comma, then the item indented as one of a list one level down.
    fn add_to(item: &Json, out: &mut Vec<u8>) {
        let text = serde_json::to_string_pretty(item).unwrap_or_default();
        out.push(b',');
        for line in text.lines() {
            out.extend_from_slice(b"\n    ");
            out.extend_from_slice(line.as_bytes());
        }
    }

    /// Writes a text of items.
    fn write(&mut self, ui: &mut Ui, items: &[u8]) -> std::io::Result<()> {
        let text = std::str::from_utf8(items).map_err(std::io::Error::other)?;
        // Before the first item stands no comma.
        let text = if self.begun { text } else { text.strip_prefix(',').unwrap_or(text) };
        self.begun |= !text.is_empty();
        ui.json(text)
    }

    /// Ends the list, and the document with another that is at hand.
    fn end_with(self, ui: &mut Ui, key: &str, last: &Json) -> std::io::Result<()> {
        ui.json(if self.begun { "\n  ]" } else { "]" })?;
        let text = serde_json::to_string_pretty(last)?.replace('\n', "\n  ");
        ui.json(&format!(",\n  \"{key}\": {text}\n}}\n"))
    }

    fn end(self, ui: &mut Ui) -> Result<(), CommandError> {
        Ok(ui.json(if self.begun { "\n  ]\n}\n" } else { "]\n}\n" })?)
    }
}

/// Writes flat objects as lines of JSON or rows of CSV.
fn write_rows(
    ui: &mut Ui,
    format: OutputFormat,
    columns: &[&str],
    rows: impl IntoIterator<Item = Json>,
) -> Result<(), CommandError> {
    if format == OutputFormat::Csv {
        write_csv_heading(ui, columns)?;
    }
    Ok(write_rows_below(ui, format, columns, rows)?)
}

/// Writes flat objects as lines of JSON or rows of CSV, the latter below a heading that was written.
fn write_rows_below(
    ui: &mut Ui,
    format: OutputFormat,
    columns: &[&str],
    rows: impl IntoIterator<Item = Json>,
) -> std::io::Result<()> {
    for row in rows {
        match format {
            OutputFormat::Table | OutputFormat::Json | OutputFormat::Jsonl => {
                ui.json(&row.to_string())?;
                ui.json("\n")?;
            }
            OutputFormat::Csv => write_csv_row(ui, columns.iter().map(|column| &row[*column]))?,
        }
    }
    Ok(())
}

fn write_csv_heading(ui: &mut Ui, columns: &[&str]) -> std::io::Result<()> {
    let heading: Vec<Json> = columns.iter().map(|column| Json::from(*column)).collect();
    write_csv_row(ui, &heading)
}

fn write_csv_row<'c>(ui: &mut Ui, cells: impl IntoIterator<Item = &'c Json>) -> std::io::Result<()> {
    ui.csv(&fencepost_formats::csv_line(cells))
}
