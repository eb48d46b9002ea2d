use std::process::ExitCode;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_engine::{GroupMembers, PageKind, PageOf, PersonReport, Reading, RuleBasis, RuleReport};
use serde_json::{Value as Json, json};

use super::{
    Common, JsonList, OpenWorkspace, OutputFormat, clock_of, note_currency, note_moments, page, page_in, write_json,
    write_rows,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::json::SCHEMA;
use crate::view::next_step::NextStep;
use crate::view::{baseline, group, json, rule, service};

/// Show all that is known of a device, a person, a rule, a baseline, a service or a group
///
/// Of a device its standing, holders and groups, its findings, what its people may reach with it, and every fact
/// with its source and age; of a person the devices and what may be reached with them. Of a rule whom it reaches, who
/// fails it and with what, what hangs on it and how it went; of a baseline how many meet it; of a service who gets in
/// and who does not; of a group how its devices stand.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost show tern-tickets
  fencepost show B-1056                       a person, by id or name
  fencepost show laptop-lock                  a rule: who fails it, with what, since when
  fencepost show kiosk                        a baseline: who meets all of it
  fencepost show mail --kind service
  fencepost show tern-tickets --format json")]
pub struct ShowArgs {
    /// The device, rule, baseline, service or group; the person by id or name
    #[arg(value_name = "ID")]
    id: String,
    /// What is meant, where several things have the id
    #[arg(long, value_enum, value_name = "KIND")]
    kind: Option<PageKindArg>,
    /// Show it as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result; lines and CSV give the rows of its table: facts, devices, sign-ins
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
}

/// The kinds of pages as the command line knows them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct PageKindArg(PageKind);

impl ValueEnum for PageKindArg {
    fn value_variants<'a>() -> &'a [Self] {
        const ALL: [PageKindArg; PageKind::ALL.len()] = {
            let mut all = [PageKindArg(PageKind::Device); PageKind::ALL.len()];
            let mut at = 0;
            while at < all.len() {
                all[at] = PageKindArg(PageKind::ALL[at]);
                at += 1;
            }
            all
        };
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(PossibleValue::new(self.0.as_str()))
    }
}

/// What is written besides a table: a document that ends in a list, or the items of the list as rows.
struct PageRows<'r> {
    /// The document without the list.
    document: Json,
    /// The key of the list.
    list: &'static str,
    columns: Vec<&'static str>,
    /// What every row says first: the word for the thing, and its id.
    of: (&'static str, &'r str),
    rows: Box<dyn Iterator<Item = Json> + 'r>,
}

impl PageRows<'_> {
    fn write(self, ui: &mut Ui, format: OutputFormat) -> Result<(), CommandError> {
        if format == OutputFormat::Json {
            let mut list = JsonList::begin(ui, self.document, self.list)?;
            let mut text = Vec::new();
            for row in self.rows {
                text.clear();
                JsonList::add_to(&row, &mut text);
                list.write(ui, &text)?;
            }
            return list.end(ui);
        }
        let (word, id) = self.of;
        let rows = self.rows.map(|mut row| {
            row["schema"] = SCHEMA.into();
            row[word] = id.into();
            row
        });
        write_rows(ui, format, &self.columns, rows)
    }
}

pub fn cmd_show(ui: &mut Ui, common: &Common, args: &ShowArgs) -> Result<ExitCode, CommandError> {
    let workspace = OpenWorkspace::open(ui, common, args.as_of.as_ref())?;
    let reading = workspace.reading()?;
    let PageOf { kind, id } = reading.page_of(&args.id, args.kind.map(|kind| kind.0), &workspace.project)?;
    let format = args.format;
    match kind {
        PageKind::Device => show_device(ui, &reading, &id, format)?,
        PageKind::Person => {
            let person = reading.person(&id)?.ok_or(reading.nobody(&id, true)?)?;
            show_person(ui, &reading, &person, format)?;
        }
        PageKind::Rule => {
            note_currency(ui, &reading, format)?;
            let report = workspace.reading()?.rule(&id, &workspace.project)?;
            show_rule(ui, &reading, &report, format)?;
        }
        PageKind::Baseline => show_baseline(ui, &reading, &id, format)?,
        PageKind::Service => show_service(ui, &reading, &id, format)?,
        PageKind::Group => show_group(ui, &reading, &id, format)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn show_rule(
    ui: &mut Ui,
    reading: &Reading<'_>,
    report: &RuleReport,
    format: OutputFormat,
) -> Result<(), CommandError> {
    let id = report.rule.id.to_string();
    if format == OutputFormat::Table {
        let clock = clock_of(reading);
        let text = page_in(ui, &clock).rule(report);
        ui.raw(&text)?;
        note_moments(ui, reading)?;
        match report.unmet.first() {
            Some(worst) => ui.next_step(NextStep::WhyRule { device: &worst.device, rule: &id }),
            None if report.basis != RuleBasis::Assessed => ui.next_step(NextStep::Preview),
            None if report.counts.judged() == 0 => ui.next_step(NextStep::Coverage),
            None => ui.next_step(NextStep::VerdictsOf(&id)),
        }
        return Ok(());
    }
    let (document, columns) = (rule::document(report), rule::COLUMNS.to_vec());
    let rows = Box::new(report.unmet.iter().map(rule::row));
    PageRows { document, list: "devices", columns, of: ("rule", &id), rows }.write(ui, format)
}

fn show_baseline(ui: &mut Ui, reading: &Reading<'_>, id: &str, format: OutputFormat) -> Result<(), CommandError> {
    let counts = reading.baseline_counts(id)?;
    note_currency(ui, reading, format)?;
    if format == OutputFormat::Table {
        let (report, clock) = (reading.project.baseline(id, reading.at)?, clock_of(reading));
        let text = page_in(ui, &clock).baseline(&report, counts.as_ref());
        ui.raw(&text)?;
        note_moments(ui, reading)?;
        let rules = counts.iter().flat_map(|counts| &counts.rules);
        let worst = rules.max_by_key(|count| (count.unwaived_fail(), count.unknown));
        match worst {
            Some(worst) => ui.next_step(NextStep::Show(&worst.rule)),
            None => ui.next_step(NextStep::BaselineShow(id)),
        }
        return Ok(());
    }
    let rows = Box::new(counts.iter().flat_map(|counts| &counts.rules).map(baseline::row));
    let document = baseline::document(id, counts.as_ref(), reading.at);
    PageRows { document, list: "rules", columns: baseline::COLUMNS.to_vec(), of: ("baseline", id), rows }
        .write(ui, format)
}

fn show_service(ui: &mut Ui, reading: &Reading<'_>, id: &str, format: OutputFormat) -> Result<(), CommandError> {
    let report = reading.service(id, format != OutputFormat::Table)?;
    note_currency(ui, reading, format)?;
    if format == OutputFormat::Table {
        let clock = clock_of(reading);
        let text = page_in(ui, &clock).service(&report);
        ui.raw(&text)?;
        note_moments(ui, reading)?;
        let person = report.decisions.iter().find_map(|entry| entry.person.as_deref());
        if let Some(person) = person {
            ui.next_step(NextStep::Show(person));
        }
        return Ok(());
    }
    let rows = Box::new(report.decisions.iter().map(service::row));
    let document = service::document(&report, reading.at);
    PageRows { document, list: "decisions", columns: service::COLUMNS.to_vec(), of: ("service", id), rows }
        .write(ui, format)
}

fn show_group(ui: &mut Ui, reading: &Reading<'_>, id: &str, format: OutputFormat) -> Result<(), CommandError> {
    let report = reading.group(id)?;
    note_currency(ui, reading, format)?;
    if format == OutputFormat::Table {
        let clock = clock_of(reading);
        let text = page_in(ui, &clock).group(&report);
        ui.raw(&text)?;
        note_moments(ui, reading)?;
        if matches!(report.members, GroupMembers::Devices(_)) {
            ui.next_step(NextStep::MembersOf(id));
        }
        return Ok(());
    }
    let group::MemberRows { list, columns, rows } = group::rows(&report);
    let columns = ["group"].iter().chain(columns).copied().collect();
    let document = group::document(&report, reading.at);
    PageRows { document, list, columns, of: ("group", id), rows }.write(ui, format)
}

fn show_device(ui: &mut Ui, reading: &Reading<'_>, id: &str, format: OutputFormat) -> Result<(), CommandError> {
    let report = reading.device(id)?;
    let distances = reading.distances_from_peers(id)?;
    note_currency(ui, reading, format)?;
    if format == OutputFormat::Table {
        let clock = clock_of(reading);
        let text = page(ui, reading, &clock).show(&report, &distances);
        ui.raw(&text)?;
        ui.next_step(NextStep::Why(&report.device));
        return Ok(());
    }
    let mut document = json::device(&report, reading.at);
    document["differs_from_sisters"] = json::differs_from_sisters(&distances);
    if format == OutputFormat::Json {
        return write_json(ui, &document);
    }
    let rows = Box::new(document["facts"].as_array().cloned().unwrap_or_default().into_iter());
    let columns = vec!["device", "fact", "value", "unit", "source", "collected_at", "stale", "wrong_type"];
    PageRows { document: Json::Null, list: "facts", columns, of: ("device", &report.device), rows }.write(ui, format)
}

fn show_person(
    ui: &mut Ui,
    reading: &Reading<'_>,
    person: &PersonReport,
    format: OutputFormat,
) -> Result<(), CommandError> {
    note_currency(ui, reading, format)?;
    if format == OutputFormat::Table {
        let clock = clock_of(reading);
        let text = crate::view::person::show(person, &clock, ui.width, &ui.styles, ui.unicode);
        ui.raw(&text)?;
        if let Some(held) = person.devices.first() {
            ui.next_step(NextStep::Show(&held.device));
        }
        return Ok(());
    }
    if format == OutputFormat::Json {
        return write_json(ui, &json::person(person, reading.at));
    }
    let rows = Box::new(person.facts.iter().map(|(fact, value)| json!({ "fact": fact, "value": value })));
    let columns = vec!["person", "fact", "value"];
    PageRows { document: Json::Null, list: "facts", columns, of: ("person", &person.id), rows }.write(ui, format)
}
