use std::cell::OnceCell;
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_core::drift::{ReferenceName, moment_of_past};
use fencepost_engine::{
    AssemblyReport, DriftDetail, DriftPart, DriftQuery, DriftReport, DriftSetReport, EngineError, Project, Reading,
};
use fencepost_formats::FileText;
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::list::mistakes_in_condition;
use super::{
    Common, JsonList, OpenWorkspace, OutputFormat, as_file, clock_of, write_csv_heading, write_json, write_rows,
    write_rows_below,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::drift::DriftPage;
use crate::view::drift_json::{self, Movements};
use crate::view::json::SCHEMA;
use crate::view::next_step::NextStep;
use crate::view::outliers::{self, OutlierPage};
use crate::view::text::{count, harmless};

/// Compare devices that ought to be alike: who differs in what, and since when
///
/// Without more it tells every set and assembly of drift.toml in a line. A set may also be made for the occasion, with --by or
/// --where. For each fact a device is held against the value that most hold; --against names something else.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost drift
  fencepost drift ticket-servers
  fencepost drift ticket-servers --device tern-tickets
  fencepost drift ship --whole Tern
  fencepost drift --by role --against tern-tickets
  fencepost drift --where 'role = \"kiosk\"' --against self@2027-03-01
  fencepost drift ticket-servers --fact queue.workers
  fencepost drift --since 2027-03-01 --fail-on new
  fencepost drift --outliers disk.free_bytes --by role")]
pub struct DriftArgs {
    /// A set or an assembly of drift.toml
    #[arg(value_name = "ID", conflicts_with_all = ["by", "filter"])]
    id: Option<String>,
    /// Make a set of the devices that hold the same value of FACT, for each value
    #[arg(long, value_name = "FACT")]
    by: Option<String>,
    /// Only devices for which CONDITION holds
    #[arg(long = "where", value_name = "CONDITION")]
    filter: Option<String>,
    /// Hold them against REFERENCE: majority, a device, device@2027-02-01, self@2027-02-01 or baseline:ID
    #[arg(long, value_name = "REFERENCE")]
    against: Option<String>,
    /// Compare facts that fit PATTERN alone, with * for any text
    #[arg(long, value_name = "PATTERN,..", value_delimiter = ',')]
    facts: Vec<String>,
    /// Compare no facts that fit PATTERN
    #[arg(long, value_name = "PATTERN,..", value_delimiter = ',')]
    except: Vec<String>,
    /// Tell of DEVICE alone: its differences, since when, and what it held before
    #[arg(long, value_name = "DEVICE", conflicts_with = "fact")]
    device: Option<String>,
    /// Tell which devices hold which value of FACT
    #[arg(long, value_name = "FACT")]
    fact: Option<String>,
    /// Of an assembly: tell of one whole, with all in it
    #[arg(long, value_name = "WHOLE")]
    whole: Option<String>,
    /// Tell what drifted and what came back since TIME
    #[arg(long, value_name = "TIME", conflicts_with_all = ["device", "fact"])]
    since: Option<String>,
    /// Tell whose number of FACT is unusual among its peers, by the median absolute deviation
    #[arg(long, value_name = "FACT", conflicts_with_all = ["device", "fact", "since", "against", "whole", "all", "accepted", "fail_on"])]
    outliers: Option<String>,
    /// Of outliers: tell no more than N of a set
    #[arg(long, value_name = "N", default_value_t = 10, requires = "outliers")]
    worst: usize,
    /// Show facts that are the same on all too
    #[arg(long)]
    all: bool,
    /// Tell the accepted differences one by one
    #[arg(long)]
    accepted: bool,
    /// Exit with 1 where a device differs that did not at the assessment before the latest
    #[arg(long, value_enum, value_name = "WHAT")]
    fail_on: Option<FailOn>,
    /// Tell it as of TIME; a day is its last moment
    #[arg(long, value_name = "TIME", conflicts_with = "as_of")]
    at: Option<String>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum FailOn {
    /// A difference that is new
    New,
}

/// Reads a moment that is looked back at.
pub(super) fn past_moment(project: &Project, option: &str, text: &str) -> Result<Timestamp, CommandError> {
    moment_of_past(text, &project.config.calendar.zone).ok_or_else(|| {
        CommandError::usage(
            format!("{option} `{}` is no moment", harmless(text)),
            "write it as 2027-03-14T07:00:00Z, \"2027-03-14 07:00\" or 2027-03-14",
        )
    })
}

impl DriftArgs {
    fn query(&self, project: &Project) -> Result<DriftQuery, CommandError> {
        let reference = |text: &String| {
            ReferenceName::parse(text, &project.config.calendar.zone).map_err(|help| {
                CommandError::usage(format!("`{}` is nothing to hold devices against", harmless(text)), help)
            })
        };
        Ok(DriftQuery {
            id: self.id.clone(),
            by: self.by.clone(),
            filter: self.filter.clone(),
            against: self.against.as_ref().map(reference).transpose()?,
            facts: self.facts.clone(),
            except: self.except.clone(),
            device: self.device.clone(),
        })
    }

    fn detail(&self) -> DriftDetail {
        let tells_since = self.device.is_some() || self.since.is_some() || self.format != OutputFormat::Table;
        DriftDetail {
            beginnings: tells_since,
            counts_only: self.tells_counts(),
            most_devices: None,
            same: self.all,
            fact: self.fact.clone(),
        }
    }

    /// Returns whether a line for each set is all that is told.
    fn tells_counts(&self) -> bool {
        let is_one = self.id.is_some() || (self.by.is_none() && (self.filter.is_some() || self.against.is_some()));
        let tells_more = self.since.is_some()
            || self.fail_on.is_some()
            || self.fact.is_some()
            || self.device.is_some()
            || self.accepted;
        self.format == OutputFormat::Table && !is_one && !tells_more
    }

    /// Returns whether sets are written as they are compared, one after the other.
    fn is_streamed(&self, reading: &Reading<'_>) -> bool {
        let is_assembly = |id: &String| reading.project.rules.drift().assemblies.iter().any(|one| one.id == *id);
        let needs_all = self.fact.is_some()
            || self.since.is_some()
            || self.fail_on.is_some()
            || self.device.is_some()
            || self.whole.is_some();
        self.format != OutputFormat::Table && !needs_all && !self.id.as_ref().is_some_and(is_assembly)
    }

    fn files(&self) -> Vec<FileText> {
        as_file("--where", self.filter.as_deref().unwrap_or_default())
    }
}

fn compare(
    ui: &mut Ui,
    args: &DriftArgs,
    reading: &Reading<'_>,
    query: &DriftQuery,
    detail: &DriftDetail,
) -> Result<DriftReport, CommandError> {
    match reading.drift(query, detail)? {
        Ok(report) => Ok(report),
        Err(mistakes) => Err(mistakes_in_condition(ui, &args.files(), &mistakes)),
    }
}

pub fn cmd_drift(ui: &mut Ui, common: &Common, args: &DriftArgs) -> Result<ExitCode, CommandError> {
    let mut workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    if let Some(at) = &args.at {
        workspace.at = past_moment(&workspace.project, "--at", at)?;
        workspace.past = true;
    }
    let reading = workspace.state()?;
    let query = args.query(reading.project)?;
    if let Some(fact) = &args.outliers {
        return show_outliers(ui, args, &reading, &query, fact);
    }
    if let (Some(fact), Some(id)) = (&args.fact, &args.id)
        && reading.project.rules.drift().assemblies.iter().any(|one| one.id == *id)
    {
        let help =
            format!("{id} is an assembly; see a set by the fact: fencepost drift --by role --fact {}", harmless(fact));
        return Err(CommandError::usage("--fact is of sets", help));
    }
    if args.is_streamed(&reading) {
        return stream(ui, args, &reading, &query);
    }
    let mut report = compare(ui, args, &reading, &query, &args.detail())?;
    if args.tells_counts() && report.sets.len() + report.assemblies.len() == 1 {
        // The only one is told in full.
        report = compare(ui, args, &reading, &query, &DriftDetail { counts_only: false, ..args.detail() })?;
    }
    if let Some(device) = &args.device
        && report.sets.is_empty()
        && report.assemblies.is_empty()
    {
        let device = harmless(device);
        return Err(CommandError::usage(
            format!("{device} is in none of these sets"),
            format!("see its peers by a fact that it shares with them: fencepost drift --by role --device {device}"),
        ));
    }
    if let Some(whole) = &args.whole
        && !report.assemblies.iter().flat_map(|one| &one.wholes).any(|known| known.whole == *whole)
    {
        let known: Vec<&str> =
            report.assemblies.iter().flat_map(|one| &one.wholes).map(|whole| whole.whole.as_str()).collect();
        let help = fencepost_core::did_you_mean(whole, known.iter().copied(), || {
            "--whole names one whole of an assembly: fencepost drift ship --whole Tern".to_owned()
        });
        return Err(CommandError::usage(format!("there is no whole `{}`", harmless(whole)), help));
    }
    if let (Some(whole), true) = (&args.whole, args.format != OutputFormat::Table) {
        report.assemblies.iter_mut().for_each(|one| one.wholes.retain(|known| known.whole == *whole));
    }
    let earlier = |at: Timestamp, ui: &mut Ui| -> Result<DriftReport, CommandError> {
        let cell = OnceCell::new();
        let then = Reading::of_state(&workspace.project, &cell, &workspace.ledger, at, true)?;
        compare(ui, args, &then, &query, &args.detail())
    };
    let movements = match &args.since {
        Some(since) => {
            let since = past_moment(reading.project, "--since", since)?;
            Some(movements_since(&report, &earlier(since, ui)?))
        }
        None => None,
    };
    write(ui, args, &reading, &report, movements.as_ref())?;
    let Some(FailOn::New) = args.fail_on else { return Ok(ExitCode::SUCCESS) };
    let before = reading.reader.assessments(Some(reading.at), 2)?.into_iter().nth(1);
    let Some(before) = before else {
        ui.note("There is no assessment before the latest to hold it against.");
        return Ok(ExitCode::SUCCESS);
    };
    let moved = movements_since(&report, &earlier(before.as_of, ui)?);
    let new: usize = moved.sets.iter().chain(&moved.assemblies).map(|one| one.drifted.len()).sum();
    if new == 0 {
        return Ok(ExitCode::SUCCESS);
    }
    ui.complain(format!(
        "{} since the assessment before the latest",
        count(new as u64, "new difference", "new differences")
    ));
    Ok(ExitCode::from(1))
}

/// Writes what is compared for machines, set by set.
fn stream(ui: &mut Ui, args: &DriftArgs, reading: &Reading<'_>, query: &DriftQuery) -> Result<ExitCode, CommandError> {
    let mut out = DriftStream {
        format: args.format,
        head: json!({ "schema": SCHEMA, "as_of": reading.at.to_string() }),
        sets: None,
        assemblies: Vec::new(),
    };
    let said = reading.each_drift(query, &args.detail(), |part| out.write(ui, &part).map_err(EngineError::Output))?;
    match said {
        Ok(_) => out.end(ui)?,
        Err(mistakes) => return Err(mistakes_in_condition(ui, &args.files(), &mistakes)),
    }
    Ok(ExitCode::SUCCESS)
}

/// What is compared, written as it comes.
struct DriftStream {
    format: OutputFormat,
    head: Json,
    /// The list of sets, or of rows, once something was written.
    sets: Option<JsonList>,
    assemblies: Vec<Json>,
}

impl DriftStream {
    fn write(&mut self, ui: &mut Ui, part: &DriftPart) -> std::io::Result<()> {
        if self.format != OutputFormat::Json {
            self.begin(ui)?;
            let rows = drift_json::rows_of(part);
            return write_rows_below(ui, self.format, &drift_json::COLUMNS, rows);
        }
        match part {
            DriftPart::Set(set) => {
                let mut text = Vec::new();
                JsonList::add_to(&drift_json::set(set, None, false), &mut text);
                self.begin(ui)?.write(ui, &text)
            }
            DriftPart::Assembly(assembly) => {
                self.assemblies.push(drift_json::assembly(assembly, None));
                Ok(())
            }
        }
    }

    /// Writes what stands before the first set or row, if nothing was written yet.
    fn begin(&mut self, ui: &mut Ui) -> std::io::Result<&mut JsonList> {
        if self.sets.is_none() {
            self.sets = Some(match self.format {
                OutputFormat::Json => JsonList::begin(ui, self.head.clone(), "sets")?,
                OutputFormat::Csv => {
                    write_csv_heading(ui, &drift_json::COLUMNS)?;
                    JsonList::default()
                }
                OutputFormat::Table | OutputFormat::Jsonl => JsonList::default(),
            });
        }
        Ok(self.sets.get_or_insert_default())
    }

    fn end(mut self, ui: &mut Ui) -> std::io::Result<()> {
        self.begin(ui)?;
        match (self.format, self.sets.take()) {
            (OutputFormat::Json, Some(list)) => list.end_with(ui, "assemblies", &self.assemblies.into()),
            _ => Ok(()),
        }
    }
}

fn show_outliers(
    ui: &mut Ui,
    args: &DriftArgs,
    reading: &Reading<'_>,
    query: &DriftQuery,
    fact: &str,
) -> Result<ExitCode, CommandError> {
    let sets = match reading.outliers(fact, query)? {
        Ok(sets) => sets,
        Err(mistakes) => return Err(mistakes_in_condition(ui, &args.files(), &mistakes)),
    };
    match args.format {
        OutputFormat::Table => {
            let dictionary = &reading.project.dictionary;
            let text = outliers::render(
                fact,
                &sets,
                args.worst,
                &OutlierPage { dictionary, styles: &ui.styles, width: ui.width },
            );
            ui.raw(&text)?;
            ui.note(format!("\nAs of {}", clock_of(reading).full(reading.at)));
        }
        OutputFormat::Json => write_json(ui, &outliers::json(fact, &sets, args.worst))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            write_rows(ui, args.format, &outliers::COLUMNS, outliers::rows(fact, &sets, args.worst))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn movements_since(now: &DriftReport, before: &DriftReport) -> Movements {
    Movements { sets: now.movements_of_sets(before), assemblies: now.movements_of_assemblies(before) }
}

fn write(
    ui: &mut Ui,
    args: &DriftArgs,
    reading: &Reading<'_>,
    report: &DriftReport,
    movements: Option<&Movements>,
) -> Result<(), CommandError> {
    match args.format {
        OutputFormat::Table => write_table(ui, args, reading, report, movements),
        OutputFormat::Json => {
            let document = match (report.sets.as_slice(), report.assemblies.as_slice(), &args.id) {
                ([], [only], Some(_)) => {
                    let mut document = drift_json::assembly(only, movements.map(|all| &all.assemblies[0]));
                    document["schema"] = json!(SCHEMA);
                    document["as_of"] = json!(report.at.to_string());
                    document
                }
                _ => drift_json::report(report, movements, args.fact.is_some()),
            };
            write_json(ui, &document)
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {
            write_rows(ui, args.format, &drift_json::COLUMNS, drift_json::rows(report))
        }
    }
}

fn write_table(
    ui: &mut Ui,
    args: &DriftArgs,
    reading: &Reading<'_>,
    report: &DriftReport,
    movements: Option<&Movements>,
) -> Result<(), CommandError> {
    let clock = clock_of(reading);
    let page = DriftPage {
        clock: &clock,
        styles: &ui.styles,
        width: ui.width,
        unicode: ui.unicode,
        definitions: reading.project.rules.drift(),
        dictionary: &reading.project.dictionary,
        shows_accepted: args.accepted,
    };
    let name = args.device.as_deref().map(|device| reading.device_name(device)).transpose()?;
    let (text, next) = match (movements, &args.fact, &name) {
        (Some(movements), _, _) => (page.movements(report, movements), None),
        (None, Some(fact), _) => (report.sets.iter().map(|set| page.values(set, fact)).collect(), None),
        (None, None, Some(name)) => (page.device_everywhere(report, name), Some(NextStep::History(name))),
        (None, None, None) => match (report.sets.as_slice(), report.assemblies.as_slice()) {
            ([only], []) => (page.set(only) + &page.ended(report), next_of_set(only, args)),
            ([], [only]) => {
                (page.assembly(only, args.whole.as_deref()) + &page.ended(report), next_of_assembly(only, args))
            }
            _ => (page.all(report), next_of_all(report, args)),
        },
    };
    ui.raw(&text)?;
    ui.note(format!("\nAs of {}", clock.full(reading.at)));
    if let Some(next) = next {
        ui.next_step(next);
    }
    Ok(())
}

/// The device that differs most.
fn next_of_set<'n>(set: &'n DriftSetReport, args: &'n DriftArgs) -> Option<NextStep<'n>> {
    if args.by.is_some() || args.filter.is_some() {
        return None;
    }
    let differing = set.members.iter().filter(|member| member.differs());
    let worst = differing.max_by_key(|member| member.differences.len())?;
    Some(NextStep::DriftOfDevice { set: args.id.as_deref(), device: &worst.device })
}

/// The whole that differs most.
fn next_of_assembly<'n>(assembly: &'n AssemblyReport, args: &DriftArgs) -> Option<NextStep<'n>> {
    let worst = assembly.wholes.iter().max_by_key(|whole| whole.differences())?;
    let is_news = worst.differences() > 0 && args.whole.is_none();
    is_news.then_some(NextStep::DriftOfWhole { assembly: &assembly.id, whole: &worst.whole })
}

/// The set or assembly of which most devices differ.
fn next_of_all<'n>(report: &'n DriftReport, args: &DriftArgs) -> Option<NextStep<'n>> {
    if args.by.is_some() {
        return None;
    }
    let sets = report.sets.iter().map(|set| (set.counts().differ, set.id.as_str()));
    let all = sets.chain(report.assemblies.iter().map(|one| (one.counts().differ, one.id.as_str())));
    all.max_by_key(|(differ, _)| *differ).map(|(_, id)| NextStep::Drift(id))
}
