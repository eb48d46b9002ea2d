use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_engine::{ForecastBy, ForecastQuery, Moment, forecast};
use jiff::Timestamp;
use serde_json::json;

use super::list::devices_where;
use super::{
    Common, OpenWorkspace, OutputFormat, clock_of, note_currency, page_in, user, write_json, write_rows,
    write_rows_below,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::forecast_json::{COLUMNS, ForecastJson, column, counted_row, row};
use crate::view::json::SCHEMA;

/// What comes next if nothing comes in: what falls due, becomes too old, is lost, will be sent, ends
///
/// Every device goes through the assessments of the days to come, by the rules as they are written now. What is imported
/// meanwhile may change all of it.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost forecast
  fencepost forecast --days 3 --where 'platform = \"linux\"'
  fencepost forecast --by person
  fencepost forecast --group bridge-staff --format csv > next.csv")]
pub struct ForecastArgs {
    /// How many days, today among them
    #[arg(long, value_name = "N", default_value_t = 14, value_parser = clap::value_parser!(u16).range(1..=400))]
    days: u16,
    /// Tell it day by day, or count it
    #[arg(long, value_enum, default_value_t)]
    by: By,
    /// Only devices for which CONDITION holds
    #[arg(long = "where", value_name = "CONDITION")]
    filter: Option<String>,
    /// Only devices of this group
    #[arg(long, value_name = "GROUP", conflicts_with = "filter")]
    group: Option<String>,
    /// Tell also what comes only if devices stay silent that are heard of now
    #[arg(long)]
    with_silence: bool,
    /// Look ahead from TIME, no earlier than the last assessment
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum By {
    /// Day by day
    #[default]
    Day,
    /// By where devices belong
    Site,
    /// By the people who are concerned
    Person,
    /// By the services that are lost and regained
    Service,
}

pub fn cmd_forecast(ui: &mut Ui, common: &Common, args: &ForecastArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    let filter = match (&args.filter, &args.group) {
        (Some(filter), _) => Some(filter.clone()),
        (None, Some(group)) => Some(format!("in group({})", json!(group))),
        (None, None) => None,
    };
    let devices = filter.as_deref().map(|filter| devices_where(ui, &reading, filter)).transpose()?;
    let moment = Moment { as_of: workspace.at, wall: Timestamp::now(), user: user() };
    let query = ForecastQuery { days: args.days, devices, endings_only: false };
    let told = forecast(&workspace.project, &workspace.ledger, &moment, &query)?;
    let by = match args.by {
        By::Day => None,
        By::Site => Some(ForecastBy::Site),
        By::Person => Some(ForecastBy::Person),
        By::Service => Some(ForecastBy::Service),
    };
    let clock = clock_of(&reading);
    match (args.format, by) {
        (OutputFormat::Table, None) => {
            note_currency(ui, &reading, args.format)?;
            let total = told.total()?;
            let page = page_in(ui, &clock).forecast(&told, &total, args.with_silence);
            ui.raw(&page)?;
        }
        (OutputFormat::Table, Some(by)) => {
            let shown = |key: Option<String>| match (key, by) {
                (None, _) => "-".to_owned(),
                (Some(id), ForecastBy::Person) => match reading.name_of_person(&id) {
                    Some(name) => format!("{name} ({id})"),
                    None => id,
                },
                (Some(key), ForecastBy::Site | ForecastBy::Service) => key,
            };
            let rows: Vec<_> = told.counts_by(by)?.into_iter().map(|(key, counts)| (shown(key), counts)).collect();
            let page = page_in(ui, &clock).forecast_by(by, &rows);
            ui.raw(&page)?;
        }
        (OutputFormat::Json, None) => write_json(ui, &ForecastJson { forecast: &told, zone: &clock.zone })?,
        (OutputFormat::Json, Some(by)) => {
            let rows: Vec<_> =
                told.counts_by(by)?.iter().map(|(key, counts)| counted_row(by, key.as_deref(), counts)).collect();
            let (as_of, until) = (told.as_of.to_string(), told.until.to_string());
            write_json(ui, &json!({ "schema": SCHEMA, "as_of": as_of, "until": until, "rows": rows }))?;
        }
        (format, None) => {
            write_rows(ui, format, &COLUMNS, std::iter::empty())?;
            for entry in told.entries.iter() {
                write_rows_below(ui, format, &COLUMNS, [row(&entry?, &clock.zone)])?;
            }
        }
        (format, Some(by)) => {
            let mut columns = vec![column(by)];
            columns.extend(fencepost_engine::ForecastKind::ALL.iter().map(|kind| kind.as_str()));
            let rows = told.counts_by(by)?;
            write_rows(ui, format, &columns, rows.iter().map(|(key, counts)| counted_row(by, key.as_deref(), counts)))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
