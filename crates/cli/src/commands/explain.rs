use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_core::SignIn;
use fencepost_engine::{AskedDevice, SignInQuestion};

use super::{Common, OpenWorkspace, OutputFormat, clock_of, note_currency, parse_moment, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::explain::{COLUMNS, ExplanationPage, explanation, rows};

/// Explain one sign-in: what is decided, what became of every access rule, and what the person would read
///
/// What is not said of the sign-in is as the service's usual one says, and of the device as the ledger has it.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost access explain --device puffin-bridge-1 --person Vravuld --service charts
  fencepost access explain --device office-laptop-9 --service mail --client browser
  fencepost access explain --person B-1034 --service mail --strange
  fencepost access explain --facts phone.json --service mail --at 2027-03-12")]
pub struct ExplainArgs {
    /// Who signs in, by id or name; else whoever holds the device
    #[arg(long, value_name = "PERSON")]
    person: Option<String>,
    /// With which device
    #[arg(long, value_name = "DEVICE", required_unless_present_any = ["strange", "facts"])]
    device: Option<String>,
    /// To which service, by id or title
    #[arg(long, value_name = "SERVICE")]
    service: String,
    /// With which client; else the service's first usual one
    #[arg(long, value_name = "CLIENT")]
    client: Option<String>,
    /// From which address
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// On which platform, as the client tells it
    #[arg(long, value_name = "PLATFORM")]
    platform: Option<String>,
    /// With a device that the ledger does not know
    #[arg(long, conflicts_with_all = ["device", "facts"])]
    strange: bool,
    /// With a device that has no id of ours
    #[arg(long)]
    not_registered: bool,
    /// With a device that is not managed
    #[arg(long)]
    not_managed: bool,
    /// With a made-up device: a JSON object with its facts
    #[arg(long, value_name = "FILE", conflicts_with = "device")]
    facts: Option<PathBuf>,
    /// When it is made, by the state as of then
    #[arg(long, value_name = "TIME")]
    at: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

pub fn cmd_explain(ui: &mut Ui, common: &Common, args: &ExplainArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.at.as_ref())?;
    let reading = workspace.reading()?;
    let facts = args
        .facts
        .as_ref()
        .map(|file| {
            fs::read(file).map_err(|error| {
                CommandError::usage(format!("{}: {error}", file.display()), "name a file with one JSON object")
            })
        })
        .transpose()?;
    let device = match (&args.device, &facts) {
        (Some(device), _) => AskedDevice::Known(device),
        (None, Some(facts)) => AskedDevice::MadeUp(facts),
        (None, None) => AskedDevice::Strange,
    };
    let sign_in = SignIn {
        client: args.client.clone().unwrap_or_default(),
        address: args.address.clone(),
        platform: args.platform.clone(),
        time: parse_moment(&workspace.project, args.at.as_ref())?,
        registered: args.not_registered.then_some(false),
        managed: args.not_managed.then_some(false),
        ..SignIn::default()
    };
    let question = SignInQuestion { person: args.person.as_deref(), device, service: &args.service, sign_in };
    let found = reading.explain_sign_in(&question)?;
    note_currency(ui, &reading, args.format)?;
    match args.format {
        OutputFormat::Json => write_json(ui, &explanation(&found, reading.at))?,
        OutputFormat::Jsonl | OutputFormat::Csv => write_rows(ui, args.format, &COLUMNS, rows(&found))?,
        OutputFormat::Table => {
            let clock = clock_of(&reading);
            let dictionary = &workspace.project.dictionary;
            let page = ExplanationPage { clock: &clock, styles: &ui.styles, width: ui.width, dictionary };
            ui.raw(&page.render(&found))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
