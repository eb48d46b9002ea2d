use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use fencepost_engine::{EngineError, ImportOptions, Imported, Importer, Project, expand_paths, ledger_for_dry_run};
use fencepost_store::{Ledger, Purpose};
use serde_json::{Value as Json, json};

use super::{
    Common, JsonList, OutputFormat, open_project, write_csv_heading, write_csv_row, writing_ledger, writing_moment,
};
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::import::{ImportedFiles, MANY, dry, told};
use crate::view::import_json::{COLUMNS, imported_json, refused_json};
use crate::view::json::SCHEMA;
use crate::view::next_step::NextStep;
use crate::view::text::count;

/// Bring collected state and lists of people in
///
/// Each file goes in whole or not at all; bad records are set aside with their line and reason. A file that was
/// imported before has no effect. Files compressed with gzip or zstd are read as what they hold.
///
/// Limits: a record of 16 MiB, 127 levels of nesting and 100,000 fields; a compressed file decompresses to 8 GiB at the most.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost import exports/                   every file there that a [[source]] claims
  fencepost import --source handhelds new.csv
  fencepost import --dry-run exports/         what each file is taken for, and what it would change
  collect | fencepost import -                documents from a pipe")]
pub struct ImportArgs {
    /// Files, folders, or - for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// The source that the files belong to, whatever they are called
    #[arg(long, value_name = "ID")]
    source: Option<String>,
    /// Refuse a file with a bad record instead of setting the record aside
    #[arg(long)]
    strict: bool,
    /// Believe a complete list about who is missing, even when that is more than a fifth
    #[arg(long)]
    accept_missing: bool,
    /// Only say what would be done
    #[arg(long)]
    dry_run: bool,
    /// How to write what became of the files; lines and CSV have a row for each
    #[arg(long, value_enum, default_value_t)]
    format: OutputFormat,
    /// Import as of TIME (only in a workspace with a stepped clock)
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Go by --as-of although it lies more than ten years after the newest state
    #[arg(long, requires = "as_of")]
    far_ahead: bool,
}

pub fn cmd_import(ui: &mut Ui, common: &Common, args: &ImportArgs) -> Result<ExitCode, CommandError> {
    let project = open_project(ui, common)?;
    let from_pipe = args.files.iter().any(|path| path.as_os_str() == "-");
    let paths = if from_pipe { Vec::new() } else { expand_paths(&project, &args.files)? };
    if from_pipe && args.files.len() > 1 {
        return Err(CommandError::usage(
            "standard input cannot be mixed with files",
            "import them one after the other",
        ));
    }
    let mut ledger = ledger_for(ui, &project, common, args.dry_run)?;
    let moment = writing_moment(&project, &ledger, args.as_of.as_ref(), (!args.far_ahead).then_some(MOST_YEARS_AHEAD))?;
    let options = ImportOptions {
        source: args.source.clone(),
        strict: args.strict,
        accept_missing: args.accept_missing,
        dry_run: args.dry_run,
    };
    let importer = Importer { project: &project, options: &options, moment: &moment };
    let mut output = ImportOutput::begin(ui, args, paths.len())?;
    if from_pipe {
        let imported = importer.stream(&mut ledger, std::io::stdin());
        output.take("standard input", imported)?;
    }
    let many = paths.len() > MANY;
    let files = output.ui.progress(if many { paths.len() as u64 } else { 0 }, "importing", false);
    for path in &paths {
        let length = fs::metadata(path).map(|meta| meta.len()).unwrap_or(0);
        let bar = if many { files.clone() } else { output.ui.progress(length, "importing", true) };
        let imported = importer.file(&mut ledger, path, &mut |bytes| {
            if !many {
                bar.set_position(bytes);
            }
        });
        if !many {
            bar.finish_and_clear();
        }
        files.suspend(|| output.take(&path.to_string_lossy(), imported))?;
        files.inc(1);
    }
    files.finish_and_clear();
    output.end()
}

/// What is written of the files that are imported.
struct ImportOutput<'o> {
    ui: &'o mut Ui,
    args: &'o ImportArgs,
    /// For people.
    files: ImportedFiles,
    /// The list of a JSON document.
    list: Option<JsonList>,
    /// There is one file alone: what is wrong with it is the error of the command.
    is_alone: bool,
    /// Something was taken.
    changed: bool,
}

impl<'o> ImportOutput<'o> {
    /// Begins it, for so many files; none where they come by a pipe.
    fn begin(ui: &'o mut Ui, args: &'o ImportArgs, files: usize) -> Result<Self, CommandError> {
        let list = match args.format {
            OutputFormat::Json => Some(JsonList::begin(ui, json!({ "schema": SCHEMA }), "files")?),
            OutputFormat::Csv => {
                write_csv_heading(ui, &COLUMNS)?;
                None
            }
            OutputFormat::Table | OutputFormat::Jsonl => None,
        };
        let is_alone = files <= 1;
        Ok(Self { ui, args, files: ImportedFiles::of(files, args.dry_run), list, is_alone, changed: false })
    }

    /// Takes what became of a file.
    fn take(&mut self, path: &str, imported: Result<Imported, EngineError>) -> Result<(), CommandError> {
        match imported {
            Ok(imported) => {
                self.changed |= !imported.already;
                let is_told = self.files.add(&imported);
                match self.args.format {
                    OutputFormat::Table if is_told => {
                        let ui = &mut self.ui;
                        let text =
                            if self.args.dry_run { dry(&imported, ui.width, &ui.styles) } else { told(&imported) };
                        ui.raw(&text)?;
                    }
                    OutputFormat::Table => {}
                    OutputFormat::Json | OutputFormat::Jsonl | OutputFormat::Csv => {
                        self.write(imported_json(&imported))?
                    }
                }
                Ok(())
            }
            // A file that cannot be taken keeps no other back; a ledger that cannot be written does.
            Err(error @ EngineError::Ledger(_)) => Err(error.into()),
            Err(error) => {
                if self.args.format != OutputFormat::Table {
                    self.write(refused_json(path, &error))?;
                }
                if self.is_alone {
                    self.end_list()?;
                    return Err(error.into());
                }
                if self.files.refuse() {
                    self.ui.error(&error.to_string(), error.help());
                }
                Ok(())
            }
        }
    }

    /// Writes a file as one of a list.
    fn write(&mut self, mut file: Json) -> Result<(), CommandError> {
        match (&mut self.list, self.args.format) {
            (Some(list), _) => {
                let mut text = Vec::new();
                JsonList::add_to(&file, &mut text);
                list.write(self.ui, &text)?;
            }
            (None, OutputFormat::Csv) => {
                let set_aside = file["set_aside"].as_array();
                let count = set_aside.map(|kinds| kinds.iter().filter_map(|kind| kind["count"].as_u64()).sum::<u64>());
                file["set_aside"] = json!(count);
                write_csv_row(self.ui, COLUMNS.iter().map(|column| &file[*column]))?;
            }
            (None, _) => {
                let mut line = json!({ "schema": SCHEMA });
                if let (Some(line), Some(file)) = (line.as_object_mut(), file.as_object_mut()) {
                    line.append(file);
                }
                self.ui.json(&format!("{line}\n"))?;
            }
        }
        Ok(())
    }

    fn end_list(&mut self) -> Result<(), CommandError> {
        self.list.take().map_or(Ok(()), |list| list.end(self.ui))
    }

    /// Ends it, and says what to do next.
    fn end(mut self) -> Result<ExitCode, CommandError> {
        self.end_list()?;
        let Self { ui, args, files, changed, .. } = self;
        if args.format == OutputFormat::Table {
            ui.raw(&files.told())?;
        }
        match (changed, args.dry_run) {
            (true, false) => ui.next_step(NextStep::Assess),
            (_, true) => ui.note("\nNothing was imported. Do it: the same without --dry-run"),
            (false, false) => {}
        }
        if files.refused > 0 {
            let was = if args.dry_run { ("file", "files") } else { ("file was", "files were") };
            let refused = count(files.refused, was.0, was.1);
            let others =
                if args.dry_run { "would not be imported; the others would" } else { "not imported; the others were" };
            return Err(CommandError::usage(
                format!("{refused} {others}"),
                "mend what is said above, and import once more: what is in already has no effect",
            ));
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// How far --as-of may lie after the newest state: what is imported may be newer than all that is known.
const MOST_YEARS_AHEAD: i32 = 10;

/// The workspace's ledger, or a copy of it for a dry run.
fn ledger_for(ui: &mut Ui, project: &Project, common: &Common, dry_run: bool) -> Result<Ledger, CommandError> {
    Ok(match dry_run {
        true => ledger_for_dry_run(project, common.wait)?,
        false => writing_ledger(ui, project, common, Purpose::Create)?,
    })
}
