use std::process::ExitCode;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_core::Standing;
use fencepost_engine::{Kind, Listing};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::{
    Common, Desk, Format, JsonList, as_file, clock_of, note_currency, warn, write_csv_heading, write_csv_row,
    write_rows,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::fence::{post, spaced};
use crate::view::json::SCHEMA;
use crate::view::table::{Cell, Column, Table};
use crate::view::time::Clock;

/// List devices, facts, sources, people, rules, findings and what else there is
///
/// --where takes a condition over the columns; for devices over their facts, and `standing`.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost list devices --where 'standing != \"compliant\" and platform = \"android\"'
  fencepost list devices --columns device,os.version --sort os.version
  fencepost list devices --by platform
  fencepost list findings --where 'phase = \"overdue\"'
  fencepost list people --where 'starts with(unit, \"ships/tern\")' --format csv")]
pub struct ListArgs {
    /// What to list
    #[arg(value_enum)]
    kind: KindArg,
    /// Only rows for which CONDITION holds
    #[arg(long = "where", value_name = "CONDITION")]
    filter: Option<String>,
    /// Sort by COLUMN; -COLUMN the other way round
    #[arg(long, value_name = "COLUMN", allow_hyphen_values = true)]
    sort: Option<String>,
    /// Show these columns; for devices also facts
    #[arg(long, value_name = "COLUMN,..", value_delimiter = ',')]
    columns: Vec<String>,
    /// Count the rows by the values of COLUMN; for devices also of a fact
    #[arg(long, value_name = "COLUMN", conflicts_with = "columns")]
    by: Option<String>,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: Format,
}

/// The kinds as the command line knows them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct KindArg(Kind);

impl ValueEnum for KindArg {
    fn value_variants<'a>() -> &'a [Self] {
        static ALL: LazyLock<Vec<KindArg>> =
            LazyLock::new(|| Kind::ALL.iter().map(|(kind, ..)| KindArg(*kind)).collect());
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        let (_, word, _, about) = Kind::ALL.iter().find(|(kind, ..)| *kind == self.0)?;
        Some(PossibleValue::new(*word).help(*about))
    }
}

pub fn cmd_list(ui: &mut Ui, common: &Common, args: &ListArgs) -> Result<ExitCode, CommandError> {
    let desk = Desk::open(ui, common, args.as_of.as_ref())?;
    let of_state = args.kind.0.is_of_state();
    let reading = if of_state { desk.state()? } else { desk.reading()? };
    let files = as_file("--where", args.filter.as_deref().unwrap_or_default());
    let columns: Vec<String> = args.by.iter().cloned().chain(args.columns.iter().cloned()).collect();
    let mut listing = match reading.list(args.kind.0, args.filter.as_deref(), &columns, args.sort.as_deref())? {
        Ok(listing) => listing,
        Err(mistakes) => {
            let errors = crate::view::diagnostics::print(ui, &files, &mistakes);
            let noun = if errors == 1 { "mistake" } else { "mistakes" };
            return Err(CommandError::Usage { message: format!("{errors} {noun} in the condition"), help: None });
        }
    };
    warn(ui, &files, &listing.warnings);
    let matched = listing.rows.len();
    if let Some(by) = &args.by {
        listing = listing.count_by(by)?;
    }
    if let Some(sort) = &args.sort {
        listing.sort(sort)?;
    }
    if !of_state {
        note_currency(ui, &reading);
    }
    let columns = listing.columns.clone();
    let columns: Vec<&str> = columns.iter().map(String::as_str).collect();
    match args.format {
        Format::Table => {
            let clock = clock_of(&reading);
            let left_out =
                if args.columns.is_empty() && args.by.is_none() { fit(ui, &mut listing, &clock) } else { Vec::new() };
            let text = table(ui, &listing, &clock).render(ui.width, &ui.styles);
            ui.raw(&text)?;
            let noun = Kind::ALL
                .iter()
                .find(|(kind, ..)| *kind == args.kind.0)
                .map_or("row", |(_, _, [one, many], _)| if listing.total == 1 { *one } else { *many });
            let of = if matched == listing.total {
                format!("{} {noun}", listing.total)
            } else {
                format!("{matched} of {} {noun}", listing.total)
            };
            let narrow = match left_out.as_slice() {
                [] => String::new(),
                names => format!("; left out for want of room: {} (--columns shows them)", names.join(", ")),
            };
            ui.note(format!("\n{of}, as of {}{narrow}", clock.full(reading.at)));
        }
        Format::Json => {
            let head = json!({ "schema": SCHEMA, "as_of": reading.at.to_string() });
            let mut list = JsonList::begin(ui, head, "rows")?;
            let mut text = Vec::new();
            for row in &listing.rows {
                text.clear();
                let row = columns.iter().map(|column| ((*column).to_owned(), row[*column].clone())).collect();
                JsonList::add_to(&row, &mut text);
                list.write(ui, &text)?;
            }
            list.end(ui)?;
        }
        Format::Csv => {
            write_csv_heading(ui, &columns)?;
            for row in &listing.rows {
                write_csv_row(ui, columns.iter().map(|column| &row[*column]))?;
            }
        }
        Format::Jsonl => {
            let rows = listing.rows.iter().map(|row| {
                let mut out = serde_json::Map::new();
                out.insert("schema".into(), SCHEMA.into());
                out.extend(columns.iter().map(|column| ((*column).to_owned(), row[*column].clone())));
                Json::Object(out)
            });
            write_rows(ui, args.format, &columns, rows)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Columns that hold sentences, which may wrap.
const SENTENCES: [&str; 18] = [
    "names",
    "title",
    "about",
    "reason",
    "require",
    "covers",
    "devices",
    "blame",
    "leaves_open",
    "groups",
    "seen_as",
    "holder",
    "commonest",
    "because",
    "feeds_say",
    "file",
    "remark",
    "denied",
];

/// So much of a value is shown in a table, in characters.
const MOST_OF_A_VALUE: usize = 40;

/// Columns that can be done without where the terminal is narrow, the most dispensable first.
const DISPENSABLE: [&str; 20] = [
    "about",
    "seen_as",
    "unit",
    "median",
    "because",
    "wrong",
    "format",
    "opened",
    "title",
    "not_applicable",
    "severity",
    "collected_at",
    "grace",
    "usual",
    "imported",
    "closed",
    "holder",
    "default",
    "phase",
    "newest",
];

/// Leaves out columns until the table fits the terminal; returns which. Ids are neither cut nor wrapped.
fn fit(ui: &Ui, listing: &mut Listing, clock: &Clock) -> Vec<String> {
    let mut left_out = Vec::new();
    while listing.columns.len() > 2 && table(ui, listing, clock).least_width() > ui.width {
        let at = DISPENSABLE.iter().find_map(|name| listing.columns.iter().position(|column| column == name));
        left_out.push(listing.columns.remove(at.unwrap_or(listing.columns.len() - 1)));
    }
    left_out
}

fn table(ui: &Ui, listing: &Listing, clock: &Clock) -> Table {
    let headings: Vec<String> = listing.columns.iter().map(|column| column.replace('_', " ").to_uppercase()).collect();
    let kinds: Vec<(&str, Column)> = listing
        .columns
        .iter()
        .zip(&headings)
        .map(|(column, heading)| {
            let number = listing.rows.iter().any(|row| row[column].is_number())
                && listing.rows.iter().all(|row| row[column].is_number() || row[column].is_null());
            let kind = match (number, SENTENCES.contains(&column.as_str())) {
                (true, _) => Column::Number,
                (false, true) => Column::Text,
                (false, false) => Column::Fixed,
            };
            (heading.as_str(), kind)
        })
        .collect();
    let mut table = Table::new(&kinds);
    for row in &listing.rows {
        table.row(listing.columns.iter().map(|column| cell(ui, column, &row[column], clock)).collect());
    }
    table
}

fn cell(ui: &Ui, column: &str, value: &Json, clock: &Clock) -> Cell {
    match value {
        Json::Null => Cell::default(),
        Json::String(text) if column == "standing" => match Standing::parse(text) {
            Some(standing) => Cell::styled(
                format!("{} {}", post(standing, ui.unicode), spaced(standing)),
                ui.styles.standing(standing),
            ),
            None => Cell::new(text),
        },
        Json::String(text) if column == "phase" && text == "overdue" => Cell::styled(text, ui.styles.bad),
        // Of a list or a long text the beginning tells enough.
        Json::String(text) if column == "commonest" && text.chars().count() > MOST_OF_A_VALUE => {
            Cell::new(text.chars().take(MOST_OF_A_VALUE - 1).chain(['…']).collect::<String>())
        }
        // What devices say stands as they say it.
        Json::String(text) if matches!(column, "commonest" | "value" | "feeds_say") => Cell::new(text),
        Json::String(text) => match text.parse::<Timestamp>() {
            Ok(moment) if column == "due" => Cell::new(clock.both(moment)),
            Ok(moment) => Cell::new(clock.moment(moment)),
            Err(_) => Cell::new(text),
        },
        Json::Number(number) if column == "wrong" && number.as_u64() == Some(0) => Cell::default(),
        Json::Number(number) if matches!(column, "share" | "of_values") => Cell::new(format!("{number} %")),
        Json::Bool(true) if column == "late" => Cell::styled("late", ui.styles.bad),
        Json::Bool(false) if column == "late" => Cell::new("no"),
        Json::Array(items) => Cell::new(
            items
                .iter()
                .map(|item| item.as_str().map_or_else(|| item.to_string(), str::to_owned))
                .collect::<Vec<_>>()
                .join(", "),
        ),
        other => Cell::new(other.to_string()),
    }
}
