use std::process::ExitCode;

use clap::Args;
use serde_json::{Value as Json, json};

use super::{Common, Desk, Format, clock_of, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json;
use crate::view::text::shell;

/// Tell what became of a device: what changed when, how it stood, what was found
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost history tern-tickets
  fencepost history tern-tickets --format jsonl")]
pub struct HistoryArgs {
    /// The device
    device: String,
    /// Tell it up to TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: Format,
}

pub fn cmd_history(ui: &mut Ui, common: &Common, args: &HistoryArgs) -> Result<ExitCode, CommandError> {
    let desk = Desk::open(ui, common, args.as_of.as_ref())?;
    let reading = desk.state()?;
    let history = reading.history(&args.device)?;
    match args.format {
        Format::Table => {
            let text = crate::view::history::show(&history, &clock_of(&reading), ui.width, &ui.styles, ui.unicode);
            ui.raw(&text)?;
            ui.note(format!("\nNext: fencepost show {} --as-of TIME", shell(&history.device)));
        }
        Format::Json => {
            let document = json!({
                "schema": json::SCHEMA, "device": history.device, "as_of": reading.at.to_string(),
                "collections": history.collections, "happenings": json::happenings(&history),
            });
            write_json(ui, &document)?;
        }
        Format::Jsonl => write_rows(ui, Format::Jsonl, &[], json::happenings(&history))?,
        Format::Csv => {
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
            write_rows(ui, Format::Csv, &columns, rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
