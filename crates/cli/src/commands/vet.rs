use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use fencepost_core::{Dictionary, Severity};
use fencepost_engine::{Mistake, Project, Vetted, resolve_moment, vet};
use fencepost_formats::{line_column, sarif};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Value as Json, json};

use super::{Common, OutputFormat, ledger_if_any, parse_moment, workspace_folder, write_json, write_rows};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::diagnostics;
use crate::view::evidence::Proof;
use crate::view::json::{self, SCHEMA};
use crate::view::style::Styles;
use crate::view::text::count;
use crate::view::time::Clock;

/// Find mistakes before they bite
///
/// Looks through the files of the workspace, tries every rule on the devices that are known, drafts too, and holds the rules against
/// the examples. Nothing is written.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost vet
  fencepost vet rules/laptops.toml                what there is to say of one file
  fencepost vet --fail-on warning                 in a pipeline that wants no warning either
  fencepost vet --format sarif > vet.sarif        for an editor, or a reviewer of changes")]
pub struct VetArgs {
    /// Tell of these files or folders alone
    #[arg(value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Exit with 1 when there is something as bad as this
    #[arg(long, value_enum, value_name = "LEVEL", default_value_t)]
    fail_on: FailLevel,
    /// Look as of TIME
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// How to write the result
    #[arg(long, value_enum, default_value_t)]
    format: VetFormat,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum FailLevel {
    /// Nothing runs until it is mended, or an example does not hold
    #[default]
    Error,
    /// It runs, but probably not as meant
    Warning,
    /// Worth a look
    Note,
}

impl FailLevel {
    fn severity(self) -> Severity {
        match self {
            Self::Error => Severity::Error,
            Self::Warning => Severity::Warning,
            Self::Note => Severity::Note,
        }
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum VetFormat {
    /// For people
    #[default]
    Table,
    /// One JSON document
    Json,
    /// One JSON object a line
    Jsonl,
    /// Comma-separated, for spreadsheets
    Csv,
    /// SARIF 2.1.0, for editors and pipelines
    Sarif,
}

pub fn cmd_vet(ui: &mut Ui, common: &Common, args: &VetArgs) -> Result<ExitCode, CommandError> {
    let root = workspace_folder(common)?;
    let now = Timestamp::now();
    let (mut vetted, dictionary, zone) = match Project::open(&root) {
        Ok(project) => {
            let ledger = ledger_if_any(&project, common)?;
            let at = resolve_moment(ledger.as_ref(), parse_moment(&project, args.as_of.as_ref())?, now, false)?;
            (vet(&project, ledger.as_ref(), at)?, project.dictionary, project.config.calendar.zone)
        }
        Err(error) => (Vetted::of_mistakes(error, now)?, Dictionary::default(), TimeZone::UTC),
    };
    if !args.files.is_empty() {
        let wanted = wanted(&root, &vetted, &args.files)?;
        vetted.only_of(|file| wanted.contains(&file.path));
    }
    let clock = Clock { now: vetted.at, zone };
    match args.format {
        VetFormat::Table => {
            for mistake in &vetted.mistakes {
                let styles = ui.styles;
                ui.line(diagnostics::render(&vetted.files, &mistake.told, ui.width, styles.is_plain()))?;
                ui.raw(&proof(mistake, &dictionary, &clock, &styles))?;
                ui.line("")?;
            }
            ui.line(summary(&vetted, &clock))?;
        }
        VetFormat::Json => write_json(ui, &whole(&vetted))?,
        VetFormat::Jsonl | VetFormat::Csv => {
            let format = if args.format == VetFormat::Csv { OutputFormat::Csv } else { OutputFormat::Jsonl };
            write_rows(ui, format, &COLUMNS, vetted.mistakes.iter().map(|mistake| row(&vetted, mistake)))?;
        }
        VetFormat::Sarif => {
            let plain = Styles::plain();
            let said = |mistake: &Mistake| Some(proof(mistake, &dictionary, &clock, &plain).trim_end().to_owned());
            let all = vetted.mistakes.iter().map(|mistake| (&mistake.told, said(mistake)));
            write_json(ui, &sarif(&whole_path(&root), &vetted.files, all))?;
        }
    }
    let fails = vetted.worst().is_some_and(|worst| worst <= args.fail_on.severity());
    Ok(if fails { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// Returns the workspace files that paths of the command line name.
fn wanted(root: &Path, vetted: &Vetted, paths: &[PathBuf]) -> Result<BTreeSet<String>, CommandError> {
    let mut wanted = BTreeSet::new();
    for path in paths {
        let whole = whole_path(path);
        let named = vetted.files.iter().filter(|file| whole_path(&root.join(&file.path)).starts_with(&whole));
        let names: Vec<String> = named.map(|file| file.path.clone()).collect();
        if names.is_empty() {
            return Err(CommandError::usage(
                format!("{} is no file of this workspace", path.display()),
                "name one of those that `fencepost schema` lists, or a folder of them",
            ));
        }
        wanted.extend(names);
    }
    Ok(wanted)
}

fn whole_path(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| path.to_owned())
}

/// Why a rule says what it says, where that is what is wrong.
fn proof(mistake: &Mistake, dictionary: &Dictionary, clock: &Clock, styles: &Styles) -> String {
    let Some(evidence) = &mistake.evidence else { return String::new() };
    Proof { evidence, dictionary, facts: &[], clock, styles }.render(4)
}

fn summary(vetted: &Vetted, clock: &Clock) -> String {
    let [errors, warnings, notes] = vetted.counts();
    let found = match [errors, warnings, notes] {
        [0, 0, 0] => "Nothing to mend".to_owned(),
        _ => [(errors, "error", "errors"), (warnings, "warning", "warnings"), (notes, "note", "notes")]
            .into_iter()
            .filter(|(number, ..)| *number > 0)
            .map(|(number, one, several)| count(number, one, several))
            .collect::<Vec<_>>()
            .join(", "),
    };
    let mut files = count(vetted.files.len() as u64, "file", "files");
    if vetted.told_of < vetted.files.len() {
        files = format!("{} of {files}", vetted.told_of);
    }
    let Some(rules) = vetted.rules else {
        return format!("{found} in {files}; what fits the devices is told once they are mended");
    };
    let examples = match vetted.examples {
        0 => String::new(),
        number => format!(" and {}", count(number, "example", "examples")),
    };
    let tried = match vetted.devices {
        Some(devices) if devices > 0 => format!("tried on {}", count(devices, "device", "devices")),
        _ => "tried on no device, as none was imported".to_owned(),
    };
    let (rules, at) = (count(rules, "rule", "rules"), clock.full(vetted.at));
    format!("{found} in {files}, with {rules}{examples}; {tried}, as of {at}")
}

fn whole(vetted: &Vetted) -> Json {
    let [errors, warnings, notes] = vetted.counts();
    json!({
        "schema": SCHEMA, "as_of": vetted.at.to_string(), "files": vetted.files.len(), "rules": vetted.rules,
        "devices": vetted.devices, "examples": vetted.examples,
        "errors": errors, "warnings": warnings, "notes": notes,
        "mistakes": vetted.mistakes.iter().map(|mistake| entry(vetted, mistake)).collect::<Vec<_>>(),
    })
}

const COLUMNS: [&str; 8] = ["level", "code", "file", "line", "column", "message", "label", "help"];

fn row(vetted: &Vetted, mistake: &Mistake) -> Json {
    let mut row = entry(vetted, mistake);
    row["schema"] = json!(SCHEMA);
    row
}

fn entry(vetted: &Vetted, mistake: &Mistake) -> Json {
    let told = &mistake.told;
    let place = |span: &fencepost_core::Span| {
        let file = vetted.files.get(span.file.0 as usize)?;
        let (line, column) = line_column(&file.text, span.range.start);
        let (end_line, end_column) = line_column(&file.text, span.range.end);
        Some(
            json!({ "file": file.path, "line": line, "column": column, "end_line": end_line, "end_column": end_column }),
        )
    };
    let mut entry =
        told.span.as_ref().and_then(place).unwrap_or_else(
            || json!({ "file": null, "line": null, "column": null, "end_line": null, "end_column": null }),
        );
    entry["level"] = json!(told.severity.as_str());
    entry["code"] = json!(told.code);
    entry["message"] = json!(told.message);
    entry["label"] = json!(told.label);
    entry["help"] = json!(told.help);
    let also = told.notes.iter().filter_map(|note| {
        let mut at = place(&note.span)?;
        at["label"] = json!(note.label);
        Some(at)
    });
    entry["also"] = also.collect();
    if let Some(evidence) = &mistake.evidence {
        entry["evidence"] = json::evidence(evidence);
    }
    entry
}
