use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{PersonOrDevice, PersonReport, Reading};

use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, page, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json;
use crate::view::next_step::NextStep;

/// Show all that is known of a device or a person
///
/// Of a device its standing, holders and groups, its findings, what its people may reach with it, and every fact
/// with its source and age; of a person the devices and what may be reached with them.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost show tern-tickets
  fencepost show B-1056                       a person, by id or name
  fencepost show tern-tickets --format json")]
pub struct ShowArgs {
    /// The device, or the person by id or name
    #[arg(value_name = "DEVICE|PERSON")]
    id: String,
    /// Show it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result; lines and CSV give the facts
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_show(ui: &mut Ui, common: &Common, args: &ShowArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    if !reading.knows_device(&args.id)? {
        // By id or, where one person alone is called so, by name.
        let person = match reading.person(&args.id)? {
            Some(person) => Some(person),
            None => match reading.person_or_device(&args.id)? {
                PersonOrDevice::Person(person) => reading.person(&person)?,
                PersonOrDevice::Device(_) => None,
            },
        };
        return match person {
            Some(person) => show_person(ui, &reading, &person, args.format),
            None => Err(reading.nobody(&args.id, true)?.into()),
        };
    }
    let report = reading.device(&args.id)?;
    let distances = reading.distances_from_peers(&args.id)?;
    note_currency(ui, &reading, args.format)?;
    match args.format {
        OutputFormat::Table => {
            let clock = clock_of(&reading);
            let text = page(ui, &reading, &clock).show(&report, &distances);
            ui.raw(&text)?;
            ui.next_step(NextStep::Why(&report.device));
        }
        OutputFormat::Json => {
            let mut document = json::device(&report, reading.at);
            document["differs_from_sisters"] = json::differs_from_sisters(&distances);
            write_json(ui, &document)?;
        }
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let full = json::device(&report, reading.at);
            let mut rows: Vec<serde_json::Value> = full["facts"].as_array().cloned().unwrap_or_default();
            for row in &mut rows {
                row["schema"] = json::SCHEMA.into();
                row["device"] = report.device.clone().into();
            }
            write_rows(
                ui,
                args.format,
                &["device", "fact", "value", "unit", "source", "collected_at", "stale", "wrong_type"],
                rows,
            )?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn show_person(
    ui: &mut Ui,
    reading: &Reading<'_>,
    person: &PersonReport,
    format: OutputFormat,
) -> Result<ExitCode, CommandError> {
    note_currency(ui, reading, format)?;
    match format {
        OutputFormat::Table => {
            let clock = clock_of(reading);
            let text = crate::view::person::show(person, &clock, ui.width, &ui.styles, ui.unicode);
            ui.raw(&text)?;
            if let Some(held) = person.devices.first() {
                ui.next_step(NextStep::Show(&held.device));
            }
        }
        OutputFormat::Json => write_json(ui, &json::person(person, reading.at))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            let rows: Vec<serde_json::Value> = person
                .facts
                .iter()
                .map(|(fact, value)| {
                    serde_json::json!({ "schema": json::SCHEMA, "person": person.id, "fact": fact, "value": value })
                })
                .collect();
            write_rows(ui, format, &["person", "fact", "value"], rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
