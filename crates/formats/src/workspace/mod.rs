//! Reads the files of a workspace into what the core compiles. Structure is checked here (TOML, keys, types
//! of values), meaning in the core; every mistake carries its place.

mod access;
mod baselines;
mod config;
mod corrections;
mod devices;
mod facts;
mod groups;
mod rules;
mod table;

use std::fs;
use std::io;
use std::path::Path;

use fencepost_core::{Correction, Diagnostic, Dictionary, FileId, Lives, RuleSetSource};

pub use baselines::{is_baseline_key, is_fact_path};
pub use config::{Clock, Config, Field, Format, NameFrom, Source, SourceKind};
pub use table::line_column;

use table::Reader;

/// A workspace file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileText {
    /// Its path from the workspace's root, with `/` between the parts.
    pub path: String,
    /// What it holds.
    pub text: String,
}

/// What the files of a workspace say, and every mistake of form in them.
#[derive(Debug)]
pub struct Workspace {
    /// The files; a [`FileId`] is an index here.
    pub files: Vec<FileText>,
    /// What `fencepost.toml` says.
    pub config: Config,
    /// What `facts.toml` says.
    pub dictionary: Dictionary,
    /// Rules, groups, services and access rules.
    pub rules: RuleSetSource,
    /// What `corrections.toml` says.
    pub corrections: Vec<Correction>,
    /// What `devices.toml` says.
    pub lives: Lives,
    /// Mistakes of form.
    pub mistakes: Vec<Diagnostic>,
}

/// The file at a workspace's root.
pub(crate) const CONFIG: &str = "fencepost.toml";
/// The folder of baselines.
const BASELINES: &str = "baselines";

/// Reads the workspace files below a folder, in a fixed order.
///
/// # Errors
/// When a file cannot be read; the error names it.
pub fn workspace_files(root: &Path) -> io::Result<Vec<FileText>> {
    let mut names = vec![CONFIG.to_owned()];
    for name in ["facts.toml", "groups.toml", "access.toml", "corrections.toml", "devices.toml"] {
        if root.join(name).exists() {
            names.push(name.to_owned());
        }
    }
    for folder in ["rules", BASELINES] {
        let path = root.join(folder);
        if path.is_dir() {
            let mut found = Vec::new();
            for entry in fs::read_dir(&path).map_err(|error| named(&error, &path))? {
                let name = entry?.file_name();
                if let Some(name) = name.to_str().filter(|name| name.ends_with(".toml") && !name.starts_with('.')) {
                    found.push(format!("{folder}/{name}"));
                }
            }
            found.sort();
            names.extend(found);
        }
    }
    names
        .into_iter()
        .map(|path| {
            let full = root.join(&path);
            let text = fs::read(&full).map_err(|error| named(&error, &full))?;
            let text = String::from_utf8(text).map_err(|error| {
                io::Error::new(
                    io::ErrorKind::InvalidData,
                    format!(
                        "{}: byte {} is not UTF-8; save the file as UTF-8",
                        full.display(),
                        error.utf8_error().valid_up_to()
                    ),
                )
            })?;
            Ok(FileText { path, text })
        })
        .collect()
}

fn named(error: &io::Error, path: &Path) -> io::Error {
    io::Error::new(error.kind(), format!("{}: {error}", path.display()))
}

/// Reads workspace files that are at hand as texts.
pub fn load_workspace(files: Vec<FileText>) -> Workspace {
    let mut mistakes = Vec::new();
    let mut config = Config::default();
    let mut dictionary = Dictionary::default();
    let mut rules = RuleSetSource::default();
    let mut corrections = Vec::new();
    let mut lives = Lives::default();
    // The configuration first: the time zone decides what a bare date means elsewhere.
    for (at, file) in files.iter().enumerate() {
        let id = FileId(u32::try_from(at).unwrap_or(u32::MAX));
        Reader::open(id, &file.text, &mut mistakes, |reader, root| match file.path.as_str() {
            CONFIG => config = config::read(reader, root),
            "facts.toml" => facts::read(reader, root, &mut dictionary),
            "groups.toml" => groups::read(reader, root, &mut rules),
            "access.toml" => access::read(reader, root, &mut rules),
            "corrections.toml" => corrections::read(reader, root, &config.zone, &mut corrections),
            path if path.starts_with(BASELINES) => baselines::read(reader, root, &config.zone, &mut rules),
            "devices.toml" => lives = devices::read(reader, root, &config.zone),
            _ => rules::read(reader, root, &config.zone, &mut rules),
        });
    }
    config.check_units(&dictionary, &mut mistakes);
    Workspace { files, config, dictionary, rules, corrections, lives, mistakes }
}
