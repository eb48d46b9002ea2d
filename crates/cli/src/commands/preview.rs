use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_core::{Stage, Standing};
use fencepost_engine::{Moment, Preview, open_ledger, preview, resolve_moment};
use fencepost_formats::workspace_files;
use fencepost_store::Purpose;
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::{Common, Format, open_project, parse_moment, user, warn, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::fence::{post, spaced};
use crate::view::json::SCHEMA;
use crate::view::table::{Cell, Column, Table};
use crate::view::text::{count, harmless, shell};
use crate::view::time::Clock;

/// Say what edited rules would change on today's fleet, before they are in force
///
/// Assesses by the rules in force and by the edited ones, on the same state and at the same moment, and keeps nothing of it. Drafts take
/// part, as if they were on trial.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost preview                 the workspace as it is edited, against the last assessment's rules
  fencepost preview ../proposal     the files of another folder, on this workspace's fleet")]
pub struct PreviewArgs {
    /// A folder with the files of a workspace, instead of this one's
    folder: Option<PathBuf>,
    /// Compare as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: Format,
}

pub fn cmd_preview(ui: &mut Ui, common: &Common, args: &PreviewArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let files = match &args.folder {
        None => project.files.clone(),
        Some(folder) if folder.join("fencepost.toml").is_file() => {
            workspace_files(folder).map_err(CommandError::Output)?
        }
        Some(folder) => {
            return Err(CommandError::usage(
                format!("{} is no workspace", folder.display()),
                "it needs a fencepost.toml, and the rules, baselines and groups that are proposed",
            ));
        }
    };
    let candidate = project.candidate(files)?;
    if args.folder.is_some() {
        warn(ui, &candidate.files, &candidate.warnings);
    }
    let ledger = open_ledger(&project, Purpose::Read, common.wait)?;
    let wall = Timestamp::now();
    let as_of = resolve_moment(Some(&ledger), parse_moment(&project, args.as_of.as_ref())?, wall, false)?;
    let moment = Moment { as_of, wall, user: user() };
    let found = preview(&project, &candidate, &ledger, &moment)?;
    warn(ui, &candidate.files, &found.warnings);
    match args.format {
        Format::Table => {
            let clock = Clock { now: as_of, zone: project.config.calendar.zone.clone() };
            let text = told(ui, &found, args, &clock);
            ui.raw(&text)?;
            let first = found.verdicts.iter().flat_map(|flips| &flips.devices).next();
            let next = first.map(|device| format!(" Now: fencepost why {}", shell(device))).unwrap_or_default();
            ui.note(format!("\nNothing of this was written.{next}"));
        }
        Format::Json => write_json(ui, &whole(&found))?,
        Format::Jsonl | Format::Csv => write_rows(ui, args.format, &COLUMNS, rows(&found))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// So many devices are named in a line.
const NAMES: usize = 6;

fn names(devices: &[String]) -> String {
    let shown: Vec<&str> = devices.iter().take(NAMES).map(String::as_str).collect();
    let more = devices.len().saturating_sub(NAMES);
    let rest = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{rest}", shown.join(", "))
}

fn told(ui: &Ui, found: &Preview, args: &PreviewArgs, clock: &Clock) -> String {
    let styles = &ui.styles;
    let what = match &args.folder {
        Some(folder) => format!("the rules in {}", harmless(&folder.display().to_string())),
        None => "the edited workspace".to_owned(),
    };
    let against = found.against.map(|number| format!(" against assessment {number}")).unwrap_or_default();
    let mut out = format!("Preview of {what}{against}, as of {}\n", clock.full(found.at));
    if found.standings.is_empty() && found.verdicts.is_empty() {
        let same = if found.same { "The rules are the same" } else { "No verdict would be another" };
        out.push_str(&format!("{same}: nothing would change on {}\n", count(found.devices, "device", "devices")));
        return out;
    }
    let [worse, better] =
        [true, false].map(|worse| found.standings.iter().filter(|flip| flip.is_worse() == Some(worse)).count());
    out.push_str(&format!(
        "{} of {} would stand otherwise: {worse} worse, {better} better; {} would open, {} would close\n",
        found.standings.len(),
        count(found.devices, "device", "devices"),
        count(found.opened, "finding", "findings"),
        found.closed,
    ));
    let word = |word: Option<&str>| match word {
        Some("pass") => Cell::styled("pass", styles.good),
        Some("fail") => Cell::styled("fail", styles.bad),
        Some("unknown") => Cell::styled("unknown", styles.unproven),
        Some(_) => Cell::styled("not covered", styles.faint),
        None => Cell::styled("no rule", styles.faint),
    };
    let mut table = Table::new(&[
        ("RULE", Column::Fixed),
        ("NOW", Column::Fixed),
        ("THEN", Column::Fixed),
        ("DEVICES", Column::Number),
        ("", Column::Fixed),
        ("WHICH", Column::Text),
    ]);
    for flips in &found.verdicts {
        let trial = match (flips.stage_before, flips.stage) {
            (Some(Stage::Enforced), Some(Stage::Trial)) => "on trial then",
            (Some(Stage::Trial), Some(Stage::Enforced)) => "counts then",
            (_, Some(Stage::Trial)) => "on trial",
            _ => "",
        };
        table.row(vec![
            Cell::new(&flips.rule),
            word(flips.before),
            word(flips.after),
            Cell::new(flips.devices.len().to_string()),
            Cell::styled(trial, styles.faint),
            Cell::new(names(&flips.devices)),
        ]);
    }
    out.push('\n');
    out.push_str(&table.render(ui.width, styles));
    if !found.standings.is_empty() {
        let mut by_change: std::collections::BTreeMap<(Option<Standing>, Standing), Vec<String>> = Default::default();
        for flip in &found.standings {
            by_change.entry((flip.before, flip.after)).or_default().push(flip.device.clone());
        }
        let mut table = Table::new(&[
            ("STANDS", Column::Fixed),
            ("THEN", Column::Fixed),
            ("DEVICES", Column::Number),
            ("WHICH", Column::Text),
        ]);
        let shown = |standing: Standing| {
            Cell::styled(format!("{} {}", post(standing, ui.unicode), spaced(standing)), styles.standing(standing))
        };
        for ((before, after), devices) in &by_change {
            table.row(vec![
                before.map_or_else(|| Cell::new("not judged yet"), shown),
                shown(*after),
                Cell::new(devices.len().to_string()),
                Cell::new(names(devices)),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(ui.width, styles));
    }
    if !found.groups.is_empty() {
        let mut table = Table::new(&[
            ("GROUP", Column::Fixed),
            ("DEVICES", Column::Number),
            ("WORSE", Column::Number),
            ("BETTER", Column::Number),
        ]);
        for group in &found.groups {
            table.row(vec![
                Cell::new(&group.group),
                Cell::new(group.devices.to_string()),
                Cell::new(group.worse.len().to_string()),
                Cell::new(group.better.len().to_string()),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(ui.width, styles));
    }
    out
}

fn whole(found: &Preview) -> Json {
    json!({
        "schema": SCHEMA, "as_of": found.at.to_string(), "against": found.against, "devices": found.devices,
        "opened": found.opened, "closed": found.closed,
        "verdicts": found.verdicts.iter().map(|flips| json!({
            "rule": flips.rule, "stage_before": flips.stage_before.map(Stage::as_str), "stage": flips.stage.map(Stage::as_str), "before": flips.before, "after": flips.after,
            "devices": flips.devices,
        })).collect::<Vec<_>>(),
        "standings": found.standings.iter().map(|flip| json!({
            "device": flip.device, "before": flip.before.map(|standing| standing.as_str()), "after": flip.after.as_str(),
        })).collect::<Vec<_>>(),
        "groups": found.groups.iter().map(|group| json!({
            "group": group.group, "devices": group.devices, "worse": group.worse, "better": group.better,
        })).collect::<Vec<_>>(),
    })
}

const COLUMNS: [&str; 5] = ["device", "what", "stage", "before", "after"];

/// One row for each device and rule that would say otherwise, and for each standing.
fn rows(found: &Preview) -> impl Iterator<Item = Json> {
    let verdicts = found.verdicts.iter().flat_map(|flips| {
        flips.devices.iter().map(move |device| {
            json!({
                "schema": SCHEMA, "device": device, "what": flips.rule, "stage": flips.stage.map(Stage::as_str),
                "before": flips.before, "after": flips.after,
            })
        })
    });
    verdicts.chain(found.standings.iter().map(|flip| {
        json!({
            "schema": SCHEMA, "device": flip.device, "what": "standing", "stage": null,
            "before": flip.before.map(|standing| standing.as_str()), "after": flip.after.as_str(),
        })
    }))
}
