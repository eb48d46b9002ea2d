use std::process::ExitCode;

use clap::Args;

use super::{Common, Desk, Format, clock_of, note_currency, page, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json;
use crate::view::text::shell;

/// Show all that is known of a device
///
/// Its standing, holders and groups, its findings, what its people may reach with it, and every fact with its
/// source and age.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost show tern-tickets
  fencepost show tern-tickets --format json")]
pub struct ShowArgs {
    /// The device
    device: String,
    /// Show it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result; lines and CSV give the facts
    #[arg(long, value_enum, default_value_t)]
    format: Format,
}

pub fn cmd_show(ui: &mut Ui, common: &Common, args: &ShowArgs) -> Result<ExitCode, CommandError> {
    let desk = Desk::open(ui, common, args.as_of.as_ref())?;
    let reading = desk.reading()?;
    let report = reading.device(&args.device)?;
    note_currency(ui, &reading);
    match args.format {
        Format::Table => {
            let clock = clock_of(&reading);
            let text = page(ui, &reading, &clock).show(&report);
            ui.raw(&text)?;
            ui.note(format!("\nNext: fencepost why {}", shell(&args.device)));
        }
        Format::Json => write_json(ui, &json::device(&report, reading.at))?,
        Format::Jsonl | Format::Csv => {
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
                &rows,
            )?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
