use std::process::ExitCode;

use clap::Args;
use fencepost_engine::ContrastQuery;

use super::drift::past_moment;
use super::list::mistakes_in_condition;
use super::{Common, OpenWorkspace, OutputFormat, as_file, clock_of, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::contrast::{self, ContrastPage};

/// Find what sets two groups of devices apart
///
/// Each group is a group of the workspace, ids with commas between, or a condition. Every fact is tried, and those that are the
/// least likely to differ so by chance come first.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost contrast slow-scanners other-scanners
  fencepost contrast 'role = \"kiosk\" and site = \"Tern\"' 'role = \"kiosk\" and site != \"Tern\"'
  fencepost contrast tern-kiosk-1,tern-kiosk-2,tern-kiosk-3 kiosks
  fencepost contrast kiosks --since 2027-03-01     as they were, against as they are")]
pub struct ContrastArgs {
    /// The first group
    #[arg(value_name = "GROUP")]
    first: String,
    /// The second group
    #[arg(value_name = "GROUP", required_unless_present = "since")]
    second: Option<String>,
    /// Hold the first group as it was at TIME against itself as it is; a day is its last moment
    #[arg(long, value_name = "TIME", conflicts_with = "second")]
    since: Option<String>,
    /// Try facts that fit PATTERN alone, with * for any text
    #[arg(long, value_name = "PATTERN,..", value_delimiter = ',')]
    facts: Vec<String>,
    /// Tell the facts that may well differ by chance too
    #[arg(long)]
    all: bool,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_contrast(ui: &mut Ui, common: &Common, args: &ContrastArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.state()?;
    let query = match (&args.second, &args.since) {
        (Some(second), _) => ContrastQuery::Groups([args.first.clone(), second.clone()]),
        (None, Some(since)) => {
            ContrastQuery::Since(args.first.clone(), past_moment(reading.project, "--since", since)?)
        }
        (None, None) => return Err(CommandError::usage("there is one group only", "name another, or --since TIME")),
    };
    let report = match reading.contrast(&query, &args.facts)? {
        Ok(report) => report,
        Err(mistakes) => {
            let files = as_file("group", args.second.as_deref().unwrap_or(&args.first));
            return Err(mistakes_in_condition(ui, &files, &mistakes));
        }
    };
    match args.format {
        OutputFormat::Table => {
            let dictionary = &reading.project.dictionary;
            let clock = clock_of(&reading);
            let page =
                ContrastPage { clock: &clock, dictionary, styles: &ui.styles, width: ui.width, shows_chance: args.all };
            let text = page.render(&report);
            ui.raw(&text)?;
            ui.note(format!("\nAs of {}", clock.full(reading.at)));
        }
        OutputFormat::Json => write_json(ui, &contrast::json(&report))?,
        OutputFormat::Jsonl | OutputFormat::Csv => {
            write_rows(ui, args.format, &contrast::COLUMNS, contrast::rows(&report))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
