//! Reads the files of a workspace into what the core compiles. Structure is checked here (TOML, keys, types
//! of values), meaning in the core; every mistake carries its place.

mod access;
mod baselines;
mod bundles;
mod channels;
mod config;
mod controls;
mod corrections;
mod definitions;
mod devices;
mod drift;
mod examples;
mod facts;
mod facts_edit;
mod groups;
mod holidays;
mod report;
mod responses;
mod rules;
mod schema;
mod shape;
mod source;
mod table;
mod terms;
mod waiver_edit;
mod waivers;

use std::fs;
use std::io::{self, Read as _};
use std::path::Path;

use fencepost_core::limits::{self, WORKSPACE_FILE_BYTES};
use fencepost_core::{Control, Correction, DeviceLifecycles, Diagnostic, Dictionary, FileId, RuleSetSource};

pub use baselines::{is_baseline_key, is_fact_path};
pub use channels::{Channel, ChannelKind, Reached, Recipient, SecretPlace, SendSettings, Tls, is_address};
pub use config::{ClockMode, Config};
pub use definitions::{DefinitionId, definitions};
pub use examples::Example;
pub use facts_edit::add_facts;
pub use report::{DateLanguage, ReportSettings};
pub use source::{
    CellRules, Field, Format, IdForm, ItemFields, LetterCase, NameFrom, NumberMarks, RowsAs, Source, SourceKind,
    TableLayout,
};
pub use table::line_column;
pub use waiver_edit::{EditError, NewWaiver, add_waiver, end_waiver};

use shape::TableShape;
use table::TableReader;

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
    pub lifecycles: DeviceLifecycles,
    /// What `controls.toml` says.
    pub controls: Vec<Control>,
    /// What rules are to say of made-up devices.
    pub examples: Vec<Example>,
    /// Mistakes of form.
    pub mistakes: Vec<Diagnostic>,
}

/// A kind of workspace file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WorkspaceFile {
    /// The file at a workspace's root.
    Config,
    /// The fact dictionary.
    Facts,
    /// Groups of devices and people.
    Groups,
    /// Services and access rules.
    Access,
    /// Terms that people accept.
    Terms,
    /// Facts set by hand.
    Corrections,
    /// Devices that were retired or renamed.
    Devices,
    /// What devices need not meet up to a day.
    Waivers,
    /// What follows from findings.
    Responses,
    /// Which devices should have which settings.
    Bundles,
    /// Which devices ought to be alike.
    Drift,
    /// Rules.
    Rules,
    /// Baselines.
    Baselines,
    /// Clauses that rules answer for.
    Controls,
    /// What rules are to say of made-up devices.
    Examples,
}

impl WorkspaceFile {
    /// All kinds, in the order in which they are read: the time zone of the first decides what a bare date means in the others.
    pub const ALL: [Self; 15] = [
        Self::Config,
        Self::Facts,
        Self::Groups,
        Self::Access,
        Self::Terms,
        Self::Corrections,
        Self::Devices,
        Self::Waivers,
        Self::Responses,
        Self::Bundles,
        Self::Drift,
        Self::Rules,
        Self::Baselines,
        Self::Controls,
        Self::Examples,
    ];

    /// Returns its name, the file's or the folder's.
    pub fn name(self) -> &'static str {
        self.path().split(['.', '/']).next().unwrap_or_default()
    }

    /// Returns which files are of this kind: one, or all in a folder.
    pub fn path(self) -> &'static str {
        match self {
            Self::Config => "fencepost.toml",
            Self::Facts => "facts.toml",
            Self::Groups => "groups.toml",
            Self::Access => "access.toml",
            Self::Terms => "terms.toml",
            Self::Corrections => "corrections.toml",
            Self::Devices => "devices.toml",
            Self::Waivers => "waivers.toml",
            Self::Responses => "responses.toml",
            Self::Bundles => "bundles.toml",
            Self::Drift => "drift.toml",
            Self::Rules => "rules/*.toml",
            Self::Baselines => "baselines/*.toml",
            Self::Controls => "controls.toml",
            Self::Examples => "examples/*.toml",
        }
    }

    /// Returns what stands in them.
    pub fn about(self) -> &'static str {
        match self {
            Self::Config => "The workspace: its clock, its defaults, and the feeds that it takes state from",
            Self::Facts => "The fact dictionary: types, units and descriptions of facts",
            Self::Groups => "Groups of devices and people",
            Self::Access => "Services, and who may reach them with which device",
            Self::Terms => "Terms that people accept before a service lets them in",
            Self::Corrections => "Facts set by hand",
            Self::Devices => "Devices that were retired or renamed",
            Self::Responses => "What follows from findings, step by step",
            Self::Bundles => "Sets of settings that another tool applies, and which devices should have them",
            Self::Drift => "Devices that ought to be alike, and the differences between them that somebody accepted",
            Self::Waivers => "Rules that devices need not meet up to a day, since somebody answers for it",
            Self::Rules => "Rules: what the devices that they cover must meet",
            Self::Baselines => "A baseline: what machines of one kind are expected to look like",
            Self::Controls => "Clauses of laws, norms and contracts that rules answer for",
            Self::Examples => "Examples: what rules are to say of made-up devices",
        }
    }

    /// Returns the kind of a file, by its path from the workspace's root.
    pub fn of(path: &str) -> Option<Self> {
        Self::ALL
            .into_iter()
            .find(|kind| kind.path() == path || kind.folder().is_some_and(|folder| is_in(path, folder)))
    }

    /// Returns whether a verdict may hang on what stands in it.
    pub fn is_judged_by(self) -> bool {
        !matches!(self, Self::Controls | Self::Examples)
    }

    /// Returns whether it says what is to be done about findings or what is compared, and nothing by which devices are judged: an
    /// edit of it needs no assessment. What is compared is judged by where its text makes findings of it.
    pub fn is_acted_on_alone(self, text: &str) -> bool {
        match self {
            Self::Responses | Self::Bundles => true,
            Self::Drift => !drift::makes_findings(text),
            _ => false,
        }
    }

    /// Returns the JSON Schema of what stands in it, as of the 2020-12 draft.
    pub fn schema(self) -> serde_json::Value {
        schema::of_file(self)
    }

    fn folder(self) -> Option<&'static str> {
        self.path().strip_suffix("/*.toml")
    }

    fn shape(self) -> &'static TableShape {
        match self {
            Self::Config => &config::FILE,
            Self::Facts => &facts::FILE,
            Self::Groups => &groups::FILE,
            Self::Access => &access::FILE,
            Self::Terms => &terms::FILE,
            Self::Corrections => &corrections::FILE,
            Self::Devices => &devices::FILE,
            Self::Waivers => &waivers::FILE,
            Self::Responses => &responses::FILE,
            Self::Bundles => &bundles::FILE,
            Self::Drift => &drift::FILE,
            Self::Rules => &rules::FILE,
            Self::Baselines => &baselines::FILE,
            Self::Controls => &controls::FILE,
            Self::Examples => &examples::FILE,
        }
    }
}

/// Returns whether a file is a calendar, which `fencepost.toml` may name.
fn is_calendar(path: &str) -> bool {
    path.ends_with(".ics") && !path.contains('/') && !path.starts_with('.')
}

fn is_in(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

/// Reads the workspace files below a folder, in a fixed order.
///
/// # Errors
/// When a file cannot be read; the error names it.
pub fn workspace_files(root: &Path) -> io::Result<Vec<FileText>> {
    let mut names = Vec::new();
    for kind in WorkspaceFile::ALL {
        let Some(folder) = kind.folder() else {
            if kind == WorkspaceFile::Config || root.join(kind.path()).exists() {
                names.push(kind.path().to_owned());
            }
            continue;
        };
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
    let mut calendars = Vec::new();
    for entry in fs::read_dir(root).map_err(|error| named(&error, root))? {
        let name = entry?.file_name();
        calendars.extend(name.to_str().filter(|name| is_calendar(name)).map(str::to_owned));
    }
    calendars.sort();
    names.extend(calendars);
    names
        .into_iter()
        .map(|path| {
            let full = root.join(&path);
            let text = read_workspace_file(&full).map_err(|error| named(&error, &full))?;
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

/// Returns the TOML files at a workspace's root, and in folders beside those of rules, baselines and examples, that are none of
/// `files`; hidden folders are passed over.
///
/// # Errors
/// When a folder cannot be read; the error names it.
pub fn unread_files(root: &Path, files: &[FileText]) -> io::Result<Vec<String>> {
    let is_toml = |name: &str| name.ends_with(".toml") && !name.starts_with('.');
    let mut found = Vec::new();
    let mut look = |folder: &Path, prefix: &str| -> io::Result<Vec<String>> {
        let mut folders = Vec::new();
        for entry in fs::read_dir(folder).map_err(|error| named(&error, folder))? {
            let entry = entry?;
            let Ok(name) = entry.file_name().into_string() else { continue };
            let path = format!("{prefix}{name}");
            match entry.file_type()?.is_dir() {
                true if !name.starts_with('.') => folders.push(path),
                false if is_toml(&name) && files.iter().all(|file| file.path != path) => found.push(path),
                _ => {}
            }
        }
        Ok(folders)
    };
    look(root, "")?;
    for kind in WorkspaceFile::ALL {
        let Some(folder) = kind.folder().filter(|folder| root.join(folder).is_dir()) else { continue };
        for below in look(&root.join(folder), &format!("{folder}/"))? {
            look(&root.join(&below), &format!("{below}/"))?;
        }
    }
    found.sort();
    Ok(found)
}

/// Reads a file that a person wrote.
///
/// # Errors
/// Fails if it is no regular file, since reading from a device or a pipe may never end, or if it is too large.
fn read_workspace_file(path: &Path) -> io::Result<Vec<u8>> {
    let refused = |message: String| Err(io::Error::new(io::ErrorKind::InvalidInput, message));
    if !fs::metadata(path)?.is_file() {
        return refused("this is no regular file; a workspace is made of files alone".to_owned());
    }
    let mut text = Vec::new();
    fs::File::open(path)?.take(WORKSPACE_FILE_BYTES + 1).read_to_end(&mut text)?;
    if text.len() as u64 > WORKSPACE_FILE_BYTES {
        return refused(format!("the file is larger than {}; divide it", limits::size(WORKSPACE_FILE_BYTES)));
    }
    Ok(text)
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
    let mut lifecycles = DeviceLifecycles::default();
    let (mut all_controls, mut all_examples) = (Vec::new(), Vec::new());
    for (at, file) in files.iter().enumerate() {
        let id = FileId(u32::try_from(at).unwrap_or(u32::MAX));
        if is_calendar(&file.path) {
            continue;
        }
        let kind = WorkspaceFile::of(&file.path).unwrap_or(WorkspaceFile::Rules);
        TableReader::open(id, &file.text, kind.shape(), &mut mistakes, |reader, root| match kind {
            WorkspaceFile::Config => config = config::read(reader, root),
            WorkspaceFile::Facts => facts::read(reader, root, &mut dictionary),
            WorkspaceFile::Groups => groups::read(reader, root, &mut rules),
            WorkspaceFile::Access => access::read(reader, root, &config.calendar.zone, &mut rules),
            WorkspaceFile::Terms => terms::read(reader, root, &mut rules),
            WorkspaceFile::Corrections => corrections::read(reader, root, &config.calendar.zone, &mut corrections),
            WorkspaceFile::Devices => lifecycles = devices::read(reader, root, &config.calendar.zone),
            WorkspaceFile::Bundles => {
                let channels: Vec<String> = config.send.channels.iter().map(|channel| channel.id.clone()).collect();
                rules.bundles = bundles::all(reader, root, &channels);
            }
            WorkspaceFile::Drift => drift::read(reader, root, &config.calendar.zone, &mut rules.drift),
            WorkspaceFile::Responses => responses::read(reader, root, &mut rules.responses),
            WorkspaceFile::Waivers => rules.waivers = waivers::all(reader, root, &config.calendar.zone),
            WorkspaceFile::Rules => rules.rules.extend(rules::all(reader, root, &config.calendar.zone)),
            WorkspaceFile::Baselines => baselines::read(reader, root, &config.calendar.zone, &mut rules),
            WorkspaceFile::Controls => all_controls = controls::read(reader, root),
            WorkspaceFile::Examples => all_examples.extend(examples::all(reader, root, &config.calendar.zone)),
        });
    }
    config.read_holidays(&files, &mut mistakes);
    config.check_units(&dictionary, &mut mistakes);
    rules.managed = config.managed.clone();
    config.name_responses(&mut rules.responses);
    Workspace {
        files,
        config,
        dictionary,
        rules,
        corrections,
        lifecycles,
        controls: all_controls,
        examples: all_examples,
        mistakes,
    }
}
