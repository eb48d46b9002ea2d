use std::collections::BTreeSet;
use std::process::ExitCode;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_core::{Diagnostic, Standing, show_span};
use fencepost_engine::{Kind, ListQuery, Listing, Post, Reading, UntoldRows};
use fencepost_formats::FileText;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value as Json, json};

use super::{
    Common, JsonList, OpenWorkspace, OutputFormat, as_file, clock_of, note_currency, warn, write_csv_heading,
    write_csv_row, write_rows,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::deeper;
use crate::view::disagreements::fixes_in_toml;
use crate::view::fence::{post_of, spaced};
use crate::view::json::SCHEMA;
use crate::view::next_step::NextStep;
use crate::view::style::Styles;
use crate::view::table::{Cell, Column, Measured, Table};
use crate::view::text::{count, percent};
use crate::view::time::Clock;

/// List devices, facts, sources, people, rules, findings and what else there is
///
/// --where takes a condition over the columns; for devices over their facts, and `standing`.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost list devices --where 'standing != \"compliant\" and platform = \"android\"'
  fencepost list devices --columns device,os.version --sort os.version
  fencepost list devices --by platform,ownership
  fencepost list verdicts --where 'rule = \"laptop-lock\" and outcome = \"fail\"'
  fencepost list items software --unnamed
  fencepost list rules --columns help         which columns there are, and what they mean
  fencepost list findings --where 'phase = \"overdue\"'
  fencepost list people --where 'starts with(unit, \"ships/tern\")' --format csv")]
pub struct ListArgs {
    /// What to list
    #[arg(value_enum)]
    kind: KindArg,
    /// Of items: the fact whose items are listed
    #[arg(value_name = "FACT")]
    fact: Option<String>,
    /// Only rows for which CONDITION holds
    #[arg(long = "where", value_name = "CONDITION")]
    filter: Option<String>,
    /// Sort by COLUMN; -COLUMN the other way round
    #[arg(long, value_name = "COLUMN", allow_hyphen_values = true)]
    sort: Option<String>,
    /// Show these columns; for devices also facts. `help` tells which there are
    #[arg(long, value_name = "COLUMN,..", value_delimiter = ',')]
    columns: Vec<String>,
    /// Count the rows by the values of COLUMN, or of several together; for devices also of facts
    #[arg(long, value_name = "COLUMN,..", value_delimiter = ',', conflicts_with = "columns")]
    by: Vec<String>,
    /// Of bundles: who enters and who leaves, and whether that was handed over
    #[arg(long)]
    changes: bool,
    /// Of items: only those that no baseline names
    #[arg(long)]
    unnamed: bool,
    /// Of verdicts: also those of rules that do not cover the device
    #[arg(long)]
    all: bool,
    /// Of disagreements: the lines that would settle them; nothing is written
    #[arg(long, conflicts_with_all = ["filter", "sort", "columns", "by", "format"])]
    fix: bool,
    /// Tell it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

/// The kinds as the command line knows them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct KindArg(Kind);

impl ValueEnum for KindArg {
    fn value_variants<'a>() -> &'a [Self] {
        static ALL: LazyLock<Vec<KindArg>> = LazyLock::new(|| {
            let kinds = Kind::ALL.iter().map(|(kind, ..)| *kind);
            // Changes of bundles are asked for with an option.
            kinds.filter(|kind| *kind != Kind::BundleChanges).map(KindArg).collect()
        });
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        let (_, word, _, about) = Kind::ALL.iter().find(|(kind, ..)| *kind == self.0)?;
        Some(PossibleValue::new(*word).help(*about))
    }
}

/// Prints the mistakes in a condition that was given as an option.
pub(super) fn mistakes_in_condition(ui: &mut Ui, files: &[FileText], mistakes: &[Diagnostic]) -> CommandError {
    let errors = crate::view::diagnostics::print(ui, files, mistakes);
    let noun = if errors == 1 { "mistake" } else { "mistakes" };
    CommandError::Usage { message: format!("{errors} {noun} in the condition"), help: None }
}

/// Returns the devices of which a condition holds.
pub(super) fn devices_where(
    ui: &mut Ui,
    reading: &Reading<'_>,
    filter: &str,
) -> Result<BTreeSet<String>, CommandError> {
    let files = as_file("--where", filter);
    let columns = ["device".to_owned()];
    let query = ListQuery { filter: Some(filter), columns: &columns, ..ListQuery::of(Kind::Devices) };
    let listing = match reading.list(query)? {
        Ok(listing) => listing,
        Err(mistakes) => return Err(mistakes_in_condition(ui, &files, &mistakes)),
    };
    warn(ui, &files, &listing.warnings);
    if listing.untold.total() > 0 {
        ui.note(format!("Of {} it could not be told", count(listing.untold.total(), "device", "devices")));
    }
    let names = listing.rows.iter().map(|row| row.map(|row| row[0].as_str().unwrap_or_default().to_owned()));
    Ok(names.collect::<Result<_, _>>()?)
}

pub fn cmd_list(ui: &mut Ui, common: &Common, args: &ListArgs) -> Result<ExitCode, CommandError> {
    let kind = match (args.kind.0, args.changes) {
        (Kind::Bundles, true) => Kind::BundleChanges,
        (kind, false) => kind,
        (_, true) => {
            return Err(CommandError::usage("--changes is of bundles", "write: fencepost list bundles --changes"));
        }
    };
    if args.all && kind != Kind::Verdicts {
        return Err(CommandError::usage("--all is of verdicts", "write: fencepost list verdicts --all"));
    }
    if args.fix && kind != Kind::Disagreements {
        return Err(CommandError::usage("--fix is of disagreements", "write: fencepost list disagreements --fix"));
    }
    if (args.unnamed || args.fact.is_some()) && kind != Kind::Items {
        return Err(CommandError::usage(
            "a fact and --unnamed are of items",
            "write: fencepost list items FACT --unnamed",
        ));
    }
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let of_state = kind.is_of_state();
    let reading = if of_state { workspace.state()? } else { workspace.reading()? };
    let reading = match reading.edited && kind.is_of_current_rules() {
        true => reading.by_rules_of(&workspace.project)?,
        false => reading,
    };
    if args.fix {
        return show_fixes(ui, &reading);
    }
    if args.columns == ["help"] {
        return column_help(ui, &reading, kind);
    }
    let files = as_file("--where", args.filter.as_deref().unwrap_or_default());
    let query = ListQuery {
        kind,
        filter: args.filter.as_deref(),
        columns: &args.columns,
        sort: args.sort.as_deref(),
        by: &args.by,
        not_applicable: args.all,
        fact: args.fact.as_deref(),
        unnamed: args.unnamed,
    };
    let listing = match reading.list(query)? {
        Ok(listing) => listing,
        Err(mistakes) => return Err(mistakes_in_condition(ui, &files, &mistakes)),
    };
    warn(ui, &files, &listing.warnings);
    if !of_state {
        note_currency(ui, &reading, args.format)?;
    }
    match args.format {
        OutputFormat::Table => print_table(ui, &reading, &listing, &query)?,
        OutputFormat::Json => write_document(ui, &reading, &listing)?,
        OutputFormat::Csv => {
            let columns: Vec<&str> = listing.columns.iter().map(String::as_str).collect();
            write_csv_heading(ui, &columns)?;
            for row in listing.rows.iter() {
                write_csv_row(ui, &row?)?;
            }
        }
        OutputFormat::Jsonl => {
            for row in listing.rows.iter() {
                let mut out = serde_json::Map::new();
                out.insert("schema".into(), SCHEMA.into());
                out.extend(listing.columns.iter().cloned().zip(row?));
                write_rows(ui, args.format, &[], [Json::Object(out)])?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Prints a list as a table, with how many rows there are and what goes one level deeper.
fn print_table(
    ui: &mut Ui,
    reading: &Reading<'_>,
    listing: &Listing,
    query: &ListQuery<'_>,
) -> Result<(), CommandError> {
    let clock = clock_of(reading);
    let is_fixed = !query.columns.is_empty() || !query.by.is_empty();
    let fits = if is_fixed { None } else { Some(dispensable(query.kind)) };
    let left_out = write_table(ui, listing, &clock, fits.as_deref())?;
    let noun = Kind::ALL
        .iter()
        .find(|(known, ..)| *known == query.kind)
        .map_or("row", |(_, _, [one, many], _)| if listing.total == 1 { *one } else { *many });
    let of = if listing.matched == listing.total {
        format!("{} {noun}", listing.total)
    } else {
        format!("{} of {} {noun}", listing.matched, listing.total)
    };
    let narrow = match left_out.as_slice() {
        [] => String::new(),
        names => format!("; left out for want of room: {} (--columns shows them)", names.join(", ")),
    };
    let untold = untold_in_words(&listing.untold);
    ui.note(format!("\n{of}{untold}, as of {}{narrow}", clock.full(reading.at)));
    if let Some(command) = deeper::command(listing, query) {
        ui.next_step(NextStep::Typed(&command));
    }
    Ok(())
}

/// Writes a list as one JSON document.
fn write_document(ui: &mut Ui, reading: &Reading<'_>, listing: &Listing) -> Result<(), CommandError> {
    let past = reading.past_valid_until()?;
    let head = json!({ "schema": SCHEMA, "as_of": reading.at.to_string(), "past_valid_until": past, "untold": listing.untold.total(), "untold_because": listing.untold.by_reason });
    let mut list = JsonList::begin(ui, head, "rows")?;
    let mut text = Vec::new();
    for row in listing.rows.iter() {
        text.clear();
        JsonList::add_to(&Json::Object(listing.columns.iter().cloned().zip(row?).collect()), &mut text);
        list.write(ui, &text)?;
    }
    list.end(ui)
}

/// `; of 3 it could not be told (2 missing, 1 wrong-type)`.
fn untold_in_words(untold: &UntoldRows) -> String {
    if untold.total() == 0 {
        return String::new();
    }
    let word = |reason: &str| match reason {
        "no-value" => "without a value".to_owned(),
        reason => reason.replace('-', " "),
    };
    let reasons: Vec<String> =
        untold.by_reason.iter().map(|(reason, rows)| format!("{rows} {}", word(reason))).collect();
    format!("; of {} it could not be told ({})", untold.total(), reasons.join(", "))
}

/// Tells which columns a list has, and what they mean.
fn column_help(ui: &mut Ui, reading: &Reading<'_>, kind: Kind) -> Result<ExitCode, CommandError> {
    let mut table = Table::new(&[("COLUMN", Column::Fixed), ("", Column::Fixed), ("MEANS", Column::Text)]);
    for column in reading.column_help(kind) {
        let shown = if column.is_usual { "shown" } else { "" };
        let moment = if column.is_moment { ", a moment" } else { "" };
        let about = column.about.unwrap_or("what the list of people says");
        table.row(vec![
            Cell::new(&column.name),
            Cell::styled(shown, ui.styles.faint),
            Cell::new(format!("{about}{moment}")),
        ]);
    }
    let text = table.render(ui.width, &ui.styles);
    ui.raw(&text)?;
    if matches!(kind, Kind::Devices | Kind::Sites) {
        ui.line("and every fact: fencepost list facts")?;
    }
    ui.note("\nAny of them may be named in --where, --columns, --sort and --by.");
    Ok(ExitCode::SUCCESS)
}

/// Shows the lines that would settle what feeds do not agree on.
fn show_fixes(ui: &mut Ui, reading: &Reading<'_>) -> Result<ExitCode, CommandError> {
    let fixes = reading.fixes_of(&reading.disagreements()?)?;
    ui.raw(&fixes_in_toml(&fixes))?;
    ui.note("\nNothing was written. Put in what is right, and import the files once more.");
    Ok(ExitCode::SUCCESS)
}

/// What a source says of what is disagreed on: `handhelds: 13.0`.
fn said_in_words(said: &Json) -> String {
    let text = |value: &Json| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let value = match &said["value"] {
        Json::Array(items) => items.iter().map(text).collect::<Vec<_>>().join(", "),
        other => text(other),
    };
    match said["source"].as_str() {
        Some(source) => format!("{source}: {value}"),
        None => value,
    }
}

/// Columns that hold sentences, which may wrap.
const SENTENCES: [&str; 29] = [
    "values",
    "versions",
    "named_by",
    "observed",
    "required",
    "subject",
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
    "fix",
    "service",
    "mail",
    "lead",
    "lead_mail",
];

/// So much of a value is shown in a table, in characters.
const MOST_OF_A_VALUE: usize = 40;

/// Columns that can be done without where the terminal is narrow, the most dispensable first.
const DISPENSABLE: [&str; 27] = [
    "delivery",
    "key",
    "attempts",
    "actions",
    "do",
    "person",
    "action",
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

/// Returns the columns of a list that can be done without, the most dispensable first.
fn dispensable(kind: Kind) -> Vec<&'static str> {
    // Of a verdict, what was observed tells why it is unknown.
    let (first, last): (&[&str], &[&str]) = match kind {
        Kind::Verdicts => (&["family", "source", "stage", "awaiting"], &["reason"]),
        Kind::Rules => (&["title", "changed", "grace", "reach"], &[]),
        _ => (&[], &[]),
    };
    first.iter().chain(&DISPENSABLE).chain(last).copied().collect()
}

/// What of a list a table shows, and how.
struct TablePlan {
    /// The names of the columns, with their positions in a row.
    columns: Vec<(String, usize)>,
    kinds: Vec<Column>,
    measured: Measured,
}

impl TablePlan {
    /// Looks through the rows for how wide the columns are, and which hold numbers.
    fn of(ui: &Ui, listing: &Listing, clock: &Clock) -> Result<Self, CommandError> {
        let headings = listing.columns.iter().map(|column| column.replace('_', " ").to_uppercase());
        let mut measured = Measured::new(headings);
        let cells = Cells::of(ui, listing, clock);
        let (mut has_numbers, mut has_others) =
            (vec![false; listing.columns.len()], vec![false; listing.columns.len()]);
        for row in listing.rows.iter() {
            let row = row?;
            for (at, value) in row.iter().enumerate() {
                has_numbers[at] |= value.is_number();
                has_others[at] |= !value.is_number() && !value.is_null();
            }
            let columns = listing.columns.iter().enumerate();
            let cells: Vec<Cell> = columns.map(|(at, column)| cells.cell(column, at, &row)).collect();
            measured.add(&cells);
        }
        let kind = |(at, column): (usize, &String)| match (
            has_numbers[at] && !has_others[at],
            SENTENCES.contains(&column.as_str()),
        ) {
            (true, _) => Column::Number,
            (false, true) => Column::Text,
            (false, false) => Column::Fixed,
        };
        let kinds = listing.columns.iter().enumerate().map(kind).collect();
        let columns = listing.columns.iter().cloned().zip(0..).collect();
        Ok(Self { columns, kinds, measured })
    }

    /// Leaves out columns until the table fits the terminal; returns which. Ids are neither cut nor wrapped.
    fn fit(&mut self, width: usize, dispensable: &[&str]) -> Vec<String> {
        let mut left_out = Vec::new();
        while self.columns.len() > 2 && self.measured.least_width(&self.kinds) > width {
            let of_name = |name: &&str| self.columns.iter().position(|(column, _)| column == name);
            let at = dispensable.iter().find_map(of_name).unwrap_or(self.columns.len() - 1);
            left_out.push(self.columns.remove(at).0);
            self.kinds.remove(at);
            self.measured.remove(at);
        }
        left_out
    }
}

/// Writes a list as a table; returns which of the dispensable columns were left out for want of room, and then the last ones.
fn write_table(
    ui: &mut Ui,
    listing: &Listing,
    clock: &Clock,
    dispensable: Option<&[&str]>,
) -> Result<Vec<String>, CommandError> {
    let mut plan = TablePlan::of(ui, listing, clock)?;
    let left_out = dispensable.map_or_else(Vec::new, |columns| plan.fit(ui.width, columns));
    let layout = plan.measured.layout(&plan.kinds, 0, ui.width);
    ui.raw(&layout.headings(&ui.styles))?;
    let cells_of = Cells::of(ui, listing, clock);
    let mut text = String::new();
    for row in listing.rows.iter() {
        let row = row?;
        let cells: Vec<Cell> = plan.columns.iter().map(|(column, at)| cells_of.cell(column, *at, &row)).collect();
        text.clear();
        layout.render_row(&cells, &mut text);
        ui.raw(&text)?;
    }
    Ok(left_out)
}

/// Makes the cells of a table from the values of a list.
struct Cells<'c> {
    unicode: bool,
    styles: Styles,
    clock: &'c Clock,
    /// Where the rows say how much of a device is waived.
    waived: Option<usize>,
}

impl<'c> Cells<'c> {
    fn of(ui: &Ui, listing: &Listing, clock: &'c Clock) -> Self {
        let waived = listing.columns.iter().position(|column| column == "waived");
        Self { unicode: ui.unicode, styles: ui.styles, clock, waived }
    }

    fn cell(&self, column: &str, at: usize, row: &[Json]) -> Cell {
        match &row[at] {
            Json::String(text) if column == "standing" => match Standing::parse(text) {
                Some(standing) => {
                    let waived = self.waived.and_then(|at| row[at].as_u64()).unwrap_or(0);
                    let post = post_of(Post::of_counts(standing, waived), self.unicode);
                    let drawn = format!("{post} {}", spaced(standing));
                    Cell::styled(drawn, self.styles.standing(standing))
                }
                None => Cell::new(text),
            },
            value => self.plain(column, value),
        }
    }

    /// What waits for somebody, and what went wrong, stands out.
    fn style_of_state(&self, state: &str) -> anstyle::Style {
        match state {
            "held" => self.styles.notice,
            "failed" | "in-doubt" | "refused" | "unsupported" => self.styles.bad,
            "withheld" => self.styles.unproven,
            _ => anstyle::Style::new(),
        }
    }

    fn plain(&self, column: &str, value: &Json) -> Cell {
        let clock = self.clock;
        match value {
            Json::Null => Cell::default(),
            Json::String(text) if column == "phase" && text == "overdue" => Cell::styled(text, self.styles.bad),
            Json::String(text) if column == "phase" && text == "waived" => Cell::styled(text, self.styles.good),
            Json::String(text) if column == "state" => Cell::styled(text, self.style_of_state(text)),
            // Of a list or a long text the beginning tells enough.
            Json::String(text) if column == "commonest" && text.chars().count() > MOST_OF_A_VALUE => {
                Cell::new(text.chars().take(MOST_OF_A_VALUE - 1).chain(['…']).collect::<String>())
            }
            // What devices say stands as they say it.
            Json::String(text) if matches!(column, "commonest" | "value" | "feeds_say" | "observed") => Cell::new(text),
            Json::String(text) if column == "age" => match text.parse::<SignedDuration>() {
                Ok(age) => Cell::new(show_span(age)),
                Err(_) => Cell::new(text),
            },
            Json::String(text) if column == "outcome" && text == "fail" => Cell::styled(text, self.styles.bad),
            Json::String(text) if column == "outcome" && text == "unknown" => Cell::styled(text, self.styles.unproven),
            Json::String(text) => match text.parse::<Timestamp>() {
                Ok(moment) if column == "due" => Cell::new(clock.both(moment)),
                Ok(moment) => Cell::new(clock.moment(moment)),
                Err(_) => Cell::new(text),
            },
            Json::Number(number) if column == "wrong" && number.as_u64() == Some(0) => Cell::default(),
            Json::Number(number) if matches!(column, "share" | "part") && number.is_f64() => {
                Cell::new(percent(number.as_f64()))
            }
            Json::Number(number) if matches!(column, "share" | "of_values") => Cell::new(format!("{number} %")),
            Json::Bool(true) if column == "late" => Cell::styled("late", self.styles.bad),
            Json::Bool(false) if column == "late" => Cell::new("no"),
            Json::Array(items) if column == "values" => {
                Cell::new(items.iter().map(said_in_words).collect::<Vec<_>>().join("; "))
            }
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
}
