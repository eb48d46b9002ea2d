use std::process::ExitCode;

use clap::Args;

use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::readiness::{COLUMNS, ReadinessPage, readiness, rows};

/// Say what would come if a rule, a baseline or an access rule were enforced now
///
/// As if its own grace were over: whom it would deny, who would have no other way, of whom a stronger sign-in would be asked who is not
/// enrolled in it (`enrolled` in the list of people), and the calls to expect. In CSV it is the list of people to write to.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost access readiness firewall-on
  fencepost access readiness managed-only --format csv > write-to.csv")]
pub struct ReadinessArgs {
    /// The rule, baseline or access rule, by id
    #[arg(value_name = "RULE")]
    what: String,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_readiness(ui: &mut Ui, common: &Common, args: &ReadinessArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    // Uses the current files, so that a rule added since the last assessment can be named.
    let reading = workspace.reading()?.by_rules_of(&workspace.project)?;
    let found = reading.readiness(&args.what)?;
    note_currency(ui, &reading, args.format)?;
    match args.format {
        OutputFormat::Json => write_json(ui, &readiness(&found, reading.at))?,
        OutputFormat::Jsonl | OutputFormat::Csv => write_rows(ui, args.format, &COLUMNS, rows(&found))?,
        OutputFormat::Table => {
            let page = ReadinessPage { clock: &clock_of(&reading), styles: &ui.styles, width: ui.width };
            ui.raw(&page.render(&found))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
