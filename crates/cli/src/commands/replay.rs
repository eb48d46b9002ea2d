use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_engine::{ReplayRules, SignInLog, replay};

use super::{Common, OpenWorkspace, OutputFormat, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::replay::{COLUMNS, ReplayPage, replayed, rows};
use crate::view::time::Clock;

/// Decide a log of sign-ins again, on the state at each one's own moment, and tell where it came otherwise
///
/// The log is JSON Lines: at, person, service, and where they are known device, client, address, platform and effect (permit or deny,
/// as it was recorded); or it is written as a [[source]] with about = "signins" in fencepost.toml says. A sign-in without a device, or with one that the ledger does not know, is one with a strange device.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost access replay sign-ins.jsonl
  fencepost access replay sign-ins.jsonl --rules then     by the rules in force at each sign-in
  zstd -dc log.jsonl.zst | fencepost access replay - --format csv")]
pub struct ReplayArgs {
    /// The log; - for standard input
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// The source that says how the log is written, where its path does not tell
    #[arg(long, value_name = "SOURCE")]
    source: Option<String>,
    /// By which rules
    #[arg(long, value_enum, default_value_t)]
    rules: RulesOf,
    /// Exit with 1 when a line is not counted
    #[arg(long)]
    strict: bool,
    /// How to write the result; in CSV it is the surprises
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum RulesOf {
    /// The workspace's rules as they are
    #[default]
    Today,
    /// The rules of the last assessment before each sign-in
    Then,
}

pub fn cmd_replay(ui: &mut Ui, common: &Common, args: &ReplayArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, None)?;
    let file = &args.file;
    let (input, length): (Box<dyn Read + Send>, u64) = if file.as_os_str() == "-" {
        (Box::new(io::stdin()), 0)
    } else {
        let open = File::open(file).and_then(|opened| opened.metadata().map(|about| (opened, about.len())));
        let (opened, length) = open.map_err(|error| {
            CommandError::usage(
                format!("{}: {error}", file.display()),
                "name a log of sign-ins, or - for standard input",
            )
        })?;
        (Box::new(opened), length)
    };
    let input = BufReader::with_capacity(1 << 18, input);
    let path = (file.as_os_str() != "-").then_some(file.as_path());
    let log = SignInLog { path, source: args.source.as_deref() };
    let bar = ui.progress(length, "replaying", true);
    let rules = match args.rules {
        RulesOf::Today => ReplayRules::Today,
        RulesOf::Then => ReplayRules::OfThen,
    };
    let now = workspace.at;
    let found = replay((&workspace.project, &workspace.ledger), log, input, (rules, now), &mut |bytes| bar.inc(bytes));
    bar.finish_and_clear();
    let found = found?;
    match args.format {
        OutputFormat::Json => write_json(ui, &replayed(&found))?,
        OutputFormat::Jsonl | OutputFormat::Csv => write_rows(ui, args.format, &COLUMNS, rows(&found))?,
        OutputFormat::Table => {
            let clock = Clock { now, zone: workspace.project.config.calendar.zone.clone() };
            let page = ReplayPage { clock: &clock, styles: &ui.styles, width: ui.width };
            ui.raw(&page.render(&found))?;
        }
    }
    Ok(if args.strict && found.bad > 0 { ExitCode::from(1) } else { ExitCode::SUCCESS })
}
