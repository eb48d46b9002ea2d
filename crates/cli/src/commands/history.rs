use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_core::Subject;
use fencepost_engine::{FiguresPer, FiguresQuery, PartThen, Reading};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::{
    Common, OpenWorkspace, OutputFormat, clock_of, note_currency, page_in, parse_moment, write_json, write_rows,
};
use crate::error::{CommandError, LEDGER};
use crate::ui::Ui;
use crate::view::next_step::NextStep;
use crate::view::parts::PartCounts;
use crate::view::text::{count, harmless};
use crate::view::{figures, json, parts, since};

/// Tell how the fleet went, assessment by assessment; or what became of a device
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost history
  fencepost history --last 60 --format csv
  fencepost history --since 2027-03-08           what is otherwise than on that day
  fencepost history --per week
  fencepost history --rule laptop-lock
  fencepost history --group kiosks
  fencepost history --service mail
  fencepost history tern-tickets
  fencepost history tern-tickets --format jsonl
  fencepost history --verify

With --verify the exit code is 4 when something in the ledger does not fit.
A copy for a backup: sqlite3 .fencepost/ledger.sqlite \".backup COPY\", and .fencepost/key beside it; or copy the folder
.fencepost while nothing runs.")]
pub struct HistoryArgs {
    /// The device; without one, the figures of the fleet
    device: Option<String>,
    /// The figures of so many assessments; with --per of so many days or weeks
    #[arg(long, value_name = "N", default_value_t = 14, conflicts_with_all = ["device", "verify"])]
    last: u32,
    /// One row a day or a week: how it was at the last assessment, and what happened since the row before
    #[arg(long, value_enum, value_name = "day|week", conflicts_with_all = ["device", "verify"])]
    per: Option<PerArg>,
    /// The figures of one rule
    #[arg(long, value_name = "RULE", conflicts_with_all = ["device", "verify"])]
    rule: Option<String>,
    /// The figures of the devices of one group
    #[arg(long, value_name = "GROUP", conflicts_with_all = ["device", "verify", "rule"])]
    group: Option<String>,
    /// The figures of one service
    #[arg(long, value_name = "SERVICE", conflicts_with_all = ["device", "verify", "rule", "group"])]
    service: Option<String>,
    /// What is otherwise than at the last assessment at or before TIME
    #[arg(long, value_name = "TIME", conflicts_with_all = ["device", "verify", "rule", "group", "service", "per"])]
    since: Option<String>,
    /// Read the whole ledger, and say what in it does not fit
    #[arg(long, conflicts_with_all = ["device", "as_of"])]
    verify: bool,
    /// Tell it up to TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum PerArg {
    /// One row a day
    Day,
    /// One row a week
    Week,
}

impl HistoryArgs {
    fn figures(&self) -> FiguresQuery {
        let per = match self.per {
            None => FiguresPer::Assessment,
            Some(PerArg::Day) => FiguresPer::Day,
            Some(PerArg::Week) => FiguresPer::Week,
        };
        FiguresQuery { most: self.last, per }
    }
}

pub fn cmd_history(ui: &mut Ui, common: &Common, args: &HistoryArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    if let Some(moment) = parse_moment(&workspace.project, args.since.as_ref())? {
        return what_changed(ui, &workspace.reading()?, moment, args.format);
    }
    let reading = workspace.state()?;
    if args.verify {
        return verify(ui, &reading, args.format);
    }
    let Some(device) = &args.device else { return fleet(ui, &reading, args) };
    let history = reading.history(device)?;
    match args.format {
        OutputFormat::Table => {
            let text = crate::view::history::show(&history, &clock_of(&reading), ui.width, &ui.styles, ui.unicode);
            ui.raw(&text)?;
            ui.next_step(NextStep::ShowThen(&history.device));
        }
        OutputFormat::Json => {
            let document = json!({
                "schema": json::SCHEMA, "device": history.device, "as_of": reading.at.to_string(),
                "collections": history.collections, "happenings": json::happenings(&history),
                "events": json::device_events(&history),
            });
            write_json(ui, &document)?;
        }
        OutputFormat::Jsonl => write_rows(ui, OutputFormat::Jsonl, &[], json::happenings(&history))?,
        OutputFormat::Csv => {
            // One row a change: a list in a cell is of no use in a spreadsheet.
            let mut rows: Vec<Json> = Vec::new();
            for happening in json::happenings(&history) {
                match happening["changes"].as_array() {
                    None => rows.push(happening),
                    Some(changes) => rows.extend(changes.iter().map(|change| {
                        let mut row = happening.clone();
                        for key in ["fact", "before", "after"] {
                            row[key] = change[key].clone();
                        }
                        row
                    })),
                }
            }
            let columns = ["device", "at", "what", "source", "fact", "before", "after", "standing", "rule", "how"];
            write_rows(ui, OutputFormat::Csv, &columns, rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Tells the figures of the fleet, assessment by assessment.
fn fleet(ui: &mut Ui, reading: &Reading<'_>, args: &HistoryArgs) -> Result<ExitCode, CommandError> {
    let query = args.figures();
    if let Some(id) = &args.rule {
        let of = PartOf { word: "rule", id, share_of: "met" };
        return part(ui, reading, args.format, &of, &reading.rule_history(id, query)?);
    }
    if let Some(id) = &args.group {
        let of = PartOf { word: "group", id, share_of: "compliant" };
        return part(ui, reading, args.format, &of, &reading.group_history(id, query)?);
    }
    if let Some(id) = &args.service {
        let of = PartOf { word: "service", id, share_of: "get in, default denials left out" };
        return part(ui, reading, args.format, &of, &reading.service_history(id, query)?);
    }
    let found = reading.figures(query)?;
    match args.format {
        OutputFormat::Table if found.assessments.is_empty() => nothing_yet(ui)?,
        OutputFormat::Table => {
            let clock = clock_of(reading);
            let text = figures::show(&found, &page_in(ui, &clock));
            ui.raw(&text)?;
            if let [.., before, _] = found.assessments.as_slice() {
                ui.next_step(NextStep::Since(before.as_of));
            }
        }
        OutputFormat::Json => {
            let rows: Vec<Json> = found.assessments.iter().map(figures::row).collect();
            let times: Vec<Json> = found.fix_times.iter().map(figures::fix_time).collect();
            write_json(ui, &json!({ "schema": json::SCHEMA, "assessments": rows, "fix_times": times }))?;
        }
        OutputFormat::Jsonl => write_rows(ui, OutputFormat::Jsonl, &[], found.assessments.iter().map(figures::row))?,
        OutputFormat::Csv => {
            let table = figures::flat(&found.assessments);
            let columns: Vec<&str> = table.columns.iter().map(String::as_str).collect();
            write_rows(ui, OutputFormat::Csv, &columns, table.rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Tells what is otherwise than at an earlier moment.
fn what_changed(
    ui: &mut Ui,
    reading: &Reading<'_>,
    moment: Timestamp,
    format: OutputFormat,
) -> Result<ExitCode, CommandError> {
    let found = reading.since(moment)?;
    note_currency(ui, reading, format)?;
    match format {
        OutputFormat::Table => {
            let clock = clock_of(reading);
            let text = page_in(ui, &clock).since(&found);
            ui.raw(&text)?;
            if let Some(finding) = found.opened.first().or(found.came_back.first()) {
                let (device, rule) = (finding.device.as_str(), finding.subject.as_str());
                match finding.subject {
                    Subject::Rule(_) => ui.next_step(NextStep::WhyRule { device, rule }),
                    Subject::Silence | Subject::Uncovered => ui.next_step(NextStep::Why(device)),
                }
            }
        }
        OutputFormat::Json => write_json(ui, &since::document(&found))?,
        OutputFormat::Jsonl | OutputFormat::Csv => write_rows(ui, format, &since::COLUMNS, since::rows(&found))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn nothing_yet(ui: &mut Ui) -> Result<(), CommandError> {
    ui.line("Nothing has been assessed yet")?;
    ui.next_step(NextStep::Assess);
    Ok(())
}

/// The part of the fleet that figures are of.
struct PartOf<'p> {
    /// What it is.
    word: &'static str,
    id: &'p str,
    /// What its share is of.
    share_of: &'static str,
}

/// Tells the figures of a part of the fleet, assessment by assessment.
fn part<C: PartCounts>(
    ui: &mut Ui,
    reading: &Reading<'_>,
    format: OutputFormat,
    of: &PartOf<'_>,
    rows: &[PartThen<C>],
) -> Result<ExitCode, CommandError> {
    match format {
        OutputFormat::Table if rows.is_empty() => nothing_yet(ui)?,
        OutputFormat::Table => {
            let clock = clock_of(reading);
            let text = page_in(ui, &clock).part(rows, of.share_of);
            ui.raw(&text)?;
            ui.next_step(NextStep::Show(of.id));
        }
        OutputFormat::Json => {
            let rows: Vec<Json> = rows.iter().map(parts::row).collect();
            write_json(ui, &json!({ "schema": json::SCHEMA, of.word: of.id, "assessments": rows }))?;
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {
            write_rows(ui, format, &parts::columns::<C>(), rows.iter().map(parts::row))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Says what of the ledger was read, and what does not fit.
fn verify(ui: &mut Ui, reading: &Reading<'_>, format: OutputFormat) -> Result<ExitCode, CommandError> {
    let found = reading.verify()?;
    let whole = found.problems.is_empty();
    match format {
        OutputFormat::Table => {
            for problem in &found.problems {
                ui.line(harmless(problem))?;
            }
            let read = [
                count(found.runs, "run", "runs"),
                count(found.devices, "device", "devices"),
                count(found.documents, "document", "documents"),
                count(found.findings, "version of a finding", "versions of findings"),
                count(found.spells, "standing or decision", "standings and decisions"),
                count(found.rule_sets, "rule set", "rule sets"),
            ];
            let said = if whole {
                "The ledger is whole".to_owned()
            } else {
                format!("The ledger is damaged in {}", count(found.problems.len() as u64, "place", "places"))
            };
            ui.line(format!("{said}. Read: {}.", read.join(", ")))?;
        }
        OutputFormat::Json | OutputFormat::Jsonl => {
            let document = json!({
                "schema": json::SCHEMA, "whole": whole, "runs": found.runs, "devices": found.devices,
                "documents": found.documents, "findings": found.findings, "spells": found.spells,
                "rule_sets": found.rule_sets, "problems": found.problems,
            });
            if format == OutputFormat::Json {
                write_json(ui, &document)?
            } else {
                write_rows(ui, format, &[], [document])?
            }
        }
        OutputFormat::Csv => {
            write_rows(ui, format, &["problem"], found.problems.iter().map(|problem| json!({ "problem": problem })))?;
        }
    }
    if whole {
        return Ok(ExitCode::SUCCESS);
    }
    ui.complain("restore the folder .fencepost from a copy, or set it aside and import again");
    Ok(ExitCode::from(LEDGER))
}
