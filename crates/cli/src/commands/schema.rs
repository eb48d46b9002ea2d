use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use fencepost_formats::WorkspaceFile;
use serde_json::Value as Json;

use super::write_json;
use crate::error::CommandError;
use crate::ui::Ui;
use crate::view::table::{Cell, Column, Table};

/// Print the JSON Schema of a workspace file, for editors
///
/// An editor that knows the schema of a TOML file completes its keys, says what they mean, and marks what is wrong while it is written.
/// Most look for a first line such as `#:schema ../.schemas/rules.json`.
#[derive(Args, Debug)]
#[command(after_help = "Examples:
  fencepost schema                      the kinds of workspace files
  fencepost schema rules                the schema of rules/*.toml
  fencepost schema --into .schemas      all of them, into a folder")]
pub struct SchemaArgs {
    /// Which file
    #[arg(value_enum)]
    file: Option<FileArg>,
    /// Write the schemas of all files into a folder, made when there is none
    #[arg(long, value_name = "DIR", conflicts_with = "file")]
    into: Option<PathBuf>,
}

/// The files as the command line knows them.
#[derive(Clone, Copy, Debug)]
struct FileArg(WorkspaceFile);

impl ValueEnum for FileArg {
    fn value_variants<'a>() -> &'a [Self] {
        static ALL: LazyLock<Vec<FileArg>> = LazyLock::new(|| WorkspaceFile::ALL.map(FileArg).to_vec());
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(PossibleValue::new(self.0.name()).help(self.0.about()))
    }
}

pub fn cmd_schema(ui: &mut Ui, args: &SchemaArgs) -> Result<ExitCode, CommandError> {
    match (args.file, &args.into) {
        (Some(FileArg(file)), _) => write_json(ui, &file.schema())?,
        (None, Some(folder)) => write_all(ui, folder)?,
        (None, None) => {
            let mut table = Table::new(&[("NAME", Column::Fixed), ("FILES", Column::Fixed), ("WHAT", Column::Text)]);
            for file in WorkspaceFile::ALL {
                table.row(vec![Cell::new(file.name()), Cell::new(file.path()), Cell::new(file.about())]);
            }
            let text = table.render(ui.width, &ui.styles);
            ui.raw(&text)?;
            ui.note("\nOne of them: fencepost schema rules. All of them: fencepost schema --into .schemas");
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn write_all(ui: &mut Ui, folder: &Path) -> Result<(), CommandError> {
    let failed = |path: &Path| {
        let shown = path.display().to_string();
        move |error: std::io::Error| CommandError::Usage {
            message: format!("could not write {shown}: {error}"),
            help: None,
        }
    };
    fs::create_dir_all(folder).map_err(failed(folder))?;
    for file in WorkspaceFile::ALL {
        let path = folder.join(format!("{}.json", file.name()));
        let schema: Json = file.schema();
        fs::write(&path, format!("{schema:#}\n")).map_err(failed(&path))?;
        ui.line(path.display())?;
    }
    ui.note("\nAn editor finds the schema of a file by its first line, such as `#:schema ../.schemas/rules.json`.");
    Ok(())
}
