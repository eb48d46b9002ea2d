//! A workspace, read, checked and compiled.

use std::collections::HashMap;
use std::fmt;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use fencepost_core::{
    Control, Correction, DeviceLifecycles, Diagnostic, Dictionary, ExceptSource, GroupKind, Named, RuleSet,
    RuleSetSource, Severity, Span, few_of_each_file,
};
use fencepost_formats::{
    Config, Example, FileText, Source, WorkspaceFile, line_column, load_workspace, unread_files, workspace_files,
};
use jiff::Timestamp;
use sha2::{Digest, Sha256};

use crate::workspace::gates::Gates;

/// Where the ledger lies in a workspace.
pub const LEDGER: &str = ".fencepost/ledger.sqlite";

/// Where something is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilePlace {
    /// The file, from the root of the workspace.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
}

impl fmt::Display for FilePlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// A workspace that passed every check.
#[derive(Debug)]
pub struct Project {
    /// Its folder.
    pub root: PathBuf,
    /// Its files; diagnostics point into them.
    pub files: Vec<FileText>,
    /// What `fencepost.toml` says.
    pub config: Config,
    /// What `facts.toml` says.
    pub dictionary: Dictionary,
    /// Facts set by hand.
    pub corrections: Vec<Correction>,
    /// Devices that were retired or renamed.
    pub lifecycles: DeviceLifecycles,
    /// The feeds by their ids; one of native documents where the workspace names none.
    pub(crate) sources: HashMap<String, Source>,
    /// What records have to pass on their way in.
    pub(crate) gates: Gates,
    /// Everything that is evaluated.
    pub rules: RuleSet,
    /// What the files say, before it was compiled.
    pub source: RuleSetSource,
    /// Clauses that rules answer for.
    pub controls: Vec<Control>,
    /// What rules are to say of made-up devices.
    pub(crate) examples: Vec<Example>,
    /// The digest of the files that verdicts may hang on: the same digest, the same verdicts.
    pub digest: String,
    /// What is probably not as meant.
    pub warnings: Vec<Diagnostic>,
    /// What is wrong in files that no verdict hangs on.
    pub(crate) asides: Vec<Diagnostic>,
    /// The other names of devices that groups and exceptions name.
    listed_names: Vec<String>,
    /// Files of the folder that look as if they were of the workspace, and that nothing reads.
    pub(crate) unread_files: Vec<String>,
    /// Places that call a device by a name that it has no more.
    pub(crate) former_names: Vec<Named>,
}

/// Why a workspace could not be used.
#[derive(Debug)]
pub enum ProjectError {
    /// There is no workspace here or above.
    NotFound {
        /// Where the search began.
        from: PathBuf,
    },
    /// A file could not be read.
    Read(io::Error),
    /// There are mistakes in its files.
    Mistakes {
        /// The files; the diagnostics point into them.
        files: Vec<FileText>,
        /// Every mistake and warning.
        mistakes: Vec<Diagnostic>,
    },
}

/// Returns the workspace that a folder belongs to: itself, or the nearest one above.
pub fn find_workspace(from: &Path) -> Option<PathBuf> {
    from.ancestors().find(|folder| folder.join("fencepost.toml").is_file()).map(Path::to_owned)
}

impl Project {
    /// Reads and compiles the workspace at `root`.
    ///
    /// # Errors
    /// When a file cannot be read, or there are mistakes; all of them at once.
    pub fn open(root: &Path) -> Result<Self, ProjectError> {
        if !root.join("fencepost.toml").is_file() {
            return Err(ProjectError::NotFound { from: root.to_owned() });
        }
        let files = workspace_files(root).map_err(ProjectError::Read)?;
        let unread_files = unread_files(root, &files).map_err(ProjectError::Read)?;
        Ok(Self { unread_files, ..Self::from_files(root, files)? })
    }

    /// Compiles workspace files that are at hand as texts.
    ///
    /// # Errors
    /// When there are mistakes in them.
    pub fn from_files(root: &Path, files: Vec<FileText>) -> Result<Self, ProjectError> {
        Self::compiled(root, files, |_| {})
    }

    /// Compiles workspace files after `change` had its way with what they say of rules.
    pub(crate) fn compiled(
        root: &Path,
        files: Vec<FileText>,
        change: impl FnOnce(&mut RuleSetSource),
    ) -> Result<Self, ProjectError> {
        let digest = digest_of(judged_by(&files).filter(|file| !is_acted_on_alone(file)));
        let mut workspace = load_workspace(files);
        let (former_names, listed_names) = name_devices_by_all_names(&mut workspace.rules, &workspace.lifecycles);
        change(&mut workspace.rules);
        // Nothing is kept from judging by what is wrong beside it.
        let is_aside = |mistake: &Diagnostic| {
            let file = mistake.span.as_ref().and_then(|span| workspace.files.get(span.file.0 as usize));
            file.and_then(|file| WorkspaceFile::of(&file.path)).is_some_and(|kind| !kind.is_judged_by())
        };
        let (asides, own) = std::mem::take(&mut workspace.mistakes).into_iter().partition(is_aside);
        workspace.mistakes = own;
        let extra: Vec<&str> =
            workspace.config.holder.iter().chain(&workspace.config.fence_by).map(String::as_str).collect();
        // What a broken file leaves out is noise beside why it is broken.
        if workspace.mistakes.iter().any(|mistake| mistake.code == "toml") {
            let broken = workspace.mistakes.into_iter().filter(|mistake| mistake.code == "toml").collect();
            let mistakes = few_of_each_file(broken);
            return Err(ProjectError::Mistakes { files: workspace.files, mistakes });
        }
        let (rules, meaning) = RuleSet::compile(&workspace.rules, &workspace.dictionary, &extra);
        let mut mistakes = workspace.mistakes;
        let gates = Gates::compile(&workspace.config, &workspace.dictionary, &mut mistakes);
        let malformed = mistakes.iter().any(|mistake| mistake.severity == Severity::Error);
        mistakes.extend(meaning);
        mistakes.sort_by_key(|mistake| mistake.span.as_ref().map(|span| (span.file, span.range.start)));
        let mistakes = few_of_each_file(mistakes);
        match rules {
            Some(rules) if !malformed => Ok(Self {
                root: root.to_owned(),
                sources: sources_of(&workspace.config).into_iter().map(|it| (it.id.to_string(), it)).collect(),
                files: workspace.files,
                config: workspace.config,
                dictionary: workspace.dictionary,
                corrections: workspace.corrections,
                lifecycles: workspace.lifecycles,
                gates,
                rules,
                source: workspace.rules,
                controls: workspace.controls,
                examples: workspace.examples,
                digest,
                warnings: mistakes,
                asides,
                former_names,
                listed_names,
                unread_files: Vec::new(),
            }),
            _ => Err(ProjectError::Mistakes { files: workspace.files, mistakes }),
        }
    }

    /// Returns whether the clauses that rules are to answer for are listed.
    pub(crate) fn has_controls(&self) -> bool {
        self.files.iter().any(|file| WorkspaceFile::of(&file.path) == Some(WorkspaceFile::Controls))
    }

    /// Returns a project that says nothing, for expressions outside every workspace.
    pub fn nothing() -> Self {
        let files = vec![FileText { path: "fencepost.toml".to_owned(), text: String::new() }];
        Self::from_files(Path::new("."), files).expect("an empty workspace has no mistake")
    }

    /// Returns where something is written, `devices.toml:3: `; nothing where that is not known.
    pub(crate) fn place(&self, span: Option<&Span>) -> String {
        self.place_of(span).map_or_else(String::new, |place| format!("{place}: "))
    }

    /// Returns the file and the line of a span.
    pub(crate) fn place_of(&self, span: Option<&Span>) -> Option<FilePlace> {
        let span = span?;
        let file = self.files.get(span.file.0 as usize)?;
        Some(FilePlace { file: file.path.clone(), line: line_column(&file.text, span.range.start).0 })
    }

    /// Returns the feeds; one of native documents where the workspace names none.
    pub fn sources(&self) -> Vec<Source> {
        sources_of(&self.config)
    }

    /// Returns where the ledger lies.
    pub fn ledger_path(&self) -> PathBuf {
        self.root.join(LEDGER)
    }

    /// Returns the digest of everything but responses and what is said of single devices by hand; of that, the other names of devices that lists
    /// name, since whom a rule covers hangs on them.
    pub(crate) fn rules_digest(&self) -> String {
        let by_hand = |file: &&FileText| {
            matches!(WorkspaceFile::of(&file.path), Some(WorkspaceFile::Corrections | WorkspaceFile::Devices))
                || is_acted_on_alone(file)
        };
        let names = FileText { path: String::new(), text: self.listed_names.join("\n") };
        let names = Some(&names).filter(|names| !names.text.is_empty());
        digest_of(judged_by(&self.files).filter(|file| !by_hand(file)).chain(names))
    }

    /// Names the paths that the rules read, and how.
    pub(crate) fn layout_fingerprint(&self) -> i64 {
        i64::from_le_bytes(self.rules.layout().fingerprint().to_le_bytes())
    }

    /// Returns the files that verdicts may hang on as one text, to be kept with an assessment.
    pub(crate) fn text(&self) -> Vec<u8> {
        let files: Vec<serde_json::Value> =
            judged_by(&self.files).map(|file| serde_json::json!([file.path, file.text])).collect();
        serde_json::Value::Array(files).to_string().into_bytes()
    }

    /// Returns the digest of the files in what [`Self::text`] wrote; none where it is not such a text.
    pub(crate) fn digest_of_text(text: &[u8]) -> Option<String> {
        Some(digest_of(files_of_text(text)?.iter().filter(|file| !is_acted_on_alone(file))))
    }

    /// Reads what [`Self::text`] wrote.
    pub(crate) fn from_text(root: &Path, text: &[u8]) -> Option<Self> {
        Self::from_files(root, files_of_text(text)?).ok()
    }
}

fn sources_of(config: &Config) -> Vec<Source> {
    if config.sources.is_empty() { vec![Source::native()] } else { config.sources.clone() }
}

/// Has every list of devices name each device by all names that it has at any time. Returns the places that name one by a name that
/// is not its last, and the names that were added.
fn name_devices_by_all_names(source: &mut RuleSetSource, lifecycles: &DeviceLifecycles) -> (Vec<Named>, Vec<String>) {
    let (mut former, mut added) = (Vec::new(), Vec::new());
    let mut others = |named: &Named| -> Vec<Named> {
        let names: Vec<Named> = lifecycles
            .other_names(&named.text)
            .map(|name| Named { text: name.to_owned(), span: named.span.clone() })
            .collect();
        added.extend(names.iter().map(|name| name.text.clone()));
        if lifecycles.name(&named.text, Timestamp::MAX) != named.text {
            former.push(named.clone());
        }
        names
    };
    for group in source.groups.iter_mut().filter(|group| group.kind == GroupKind::Devices) {
        for list in [&mut group.members, &mut group.except] {
            let more: Vec<Named> = list.iter().flat_map(&mut others).collect();
            list.extend(more);
        }
    }
    for bundle in &mut source.bundles {
        for list in [&mut bundle.group.members, &mut bundle.group.except] {
            let more: Vec<Named> = list.iter().flat_map(&mut others).collect();
            list.extend(more);
        }
    }
    for accepted in &mut source.drift.accepted {
        let more: Vec<Named> = accepted.devices.iter().flat_map(&mut others).collect();
        accepted.devices.extend(more);
    }
    for waiver in &mut source.waivers {
        let more: Vec<Named> = waiver.devices.iter().flat_map(&mut others).collect();
        waiver.devices.extend(more);
    }
    let excepts = source.rules.iter_mut().map(|rule| &mut rule.except);
    for list in excepts.chain(source.baselines.iter_mut().map(|baseline| &mut baseline.scope.except)) {
        let devices = list.iter().filter(|one| one.group != Some(true));
        let more: Vec<ExceptSource> = devices
            .flat_map(|one| others(&one.name).into_iter().map(|name| ExceptSource { name, ..one.clone() }))
            .collect();
        list.extend(more);
    }
    (former, added)
}

/// Returns the files in what [`Project::text`] wrote.
fn files_of_text(text: &[u8]) -> Option<Vec<FileText>> {
    let pairs: Vec<(String, String)> = serde_json::from_slice::<Vec<serde_json::Value>>(text)
        .ok()?
        .iter()
        .map(|pair| Some((pair.get(0)?.as_str()?.to_owned(), pair.get(1)?.as_str()?.to_owned())))
        .collect::<Option<_>>()?;
    Some(pairs.into_iter().map(|(path, text)| FileText { path, text }).collect())
}

/// Returns the files that verdicts may hang on.
fn judged_by(files: &[FileText]) -> impl Iterator<Item = &FileText> {
    files.iter().filter(|file| WorkspaceFile::of(&file.path).is_none_or(WorkspaceFile::is_judged_by))
}

/// Returns whether a file says what is to be done about findings or what is compared, and nothing by which devices are judged.
fn is_acted_on_alone(file: &FileText) -> bool {
    WorkspaceFile::of(&file.path).is_some_and(|kind| kind.is_acted_on_alone(&file.text))
}

fn digest_of<'f>(files: impl IntoIterator<Item = &'f FileText>) -> String {
    let mut hash = Sha256::new();
    for file in files {
        for part in [&file.path, &file.text] {
            hash.update(part.len().to_le_bytes());
            hash.update(part);
        }
    }
    hex(&hash.finalize())
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The files of a starter workspace.
pub const STARTER: [(&str, &str); 7] = [
    ("fencepost.toml", include_str!("../../starter/fencepost.toml")),
    ("facts.toml", include_str!("../../starter/facts.toml")),
    ("groups.toml", include_str!("../../starter/groups.toml")),
    ("access.toml", include_str!("../../starter/access.toml")),
    ("rules/first.toml", include_str!("../../starter/rules/first.toml")),
    ("examples/first.toml", include_str!("../../starter/examples/first.toml")),
    (".gitignore", ".fencepost/\n"),
];

/// A kind of machine that a starter workspace may begin with: a baseline, a group, and the types of the facts that it reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StarterKind {
    /// The word for it, and the name of its baseline.
    pub name: &'static str,
    /// What it is about.
    pub about: &'static str,
    baseline: &'static str,
    group: &'static str,
    facts: &'static str,
}

impl StarterKind {
    /// All of them.
    pub const ALL: [Self; 3] = [
        Self {
            name: "laptops",
            about: "Lock, password, firewall, programs",
            baseline: include_str!("../../starter/with/laptops.toml"),
            // The starter has it.
            group: "",
            facts: "\"lock.idle_minutes\" = { type = \"number\", unit = \"min\" }\n\"firewall.enabled\" = { type = \"boolean\" }\n\
                    \"password.length\" = { type = \"number\" }\n\"software\" = { type = \"list\", key = \"name\" }\n",
        },
        Self {
            name: "phones",
            about: "Integrity, encryption, lock, updates",
            baseline: include_str!("../../starter/with/phones.toml"),
            group: "\n[[group]]\nid    = \"phones\"\ntitle = \"Phones and tablets\"\nwhere = 'platform in (\"android\", \"ios\")'\n",
            facts: "\"lock.idle_minutes\" = { type = \"number\", unit = \"min\" }\n\"security.rooted\" = { type = \"boolean\" }\n\
                    \"disk.encrypted\" = { type = \"boolean\" }\n",
        },
        Self {
            name: "servers",
            about: "Root login, logs, room, certificates, protection",
            baseline: include_str!("../../starter/with/servers.toml"),
            group: "\n[[group]]\nid    = \"servers\"\ntitle = \"Servers\"\nwhere = 'role = \"server\"'   # or members = [\"..\"]\n",
            facts: "\"role\" = { type = \"text\", about = \"What the device is for\" }\n\"log.retention_days\" = { type = \"number\", unit = \"d\" }\n\
                    \"sshd.permit_root_login\" = { type = \"text\" }\n\"certificate.not_after\" = { type = \"instant\" }\n\
                    \"processes\" = { type = \"list\", key = \"name\" }\n",
        },
    ];
}

/// The files of a starter workspace that begins with some kinds of machines.
fn starter_files(with: &[StarterKind]) -> Vec<(String, String)> {
    let mut files: Vec<(String, String)> =
        STARTER.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect();
    for kind in with {
        for (name, text) in &mut files {
            match name.as_str() {
                "groups.toml" => text.push_str(kind.group),
                "facts.toml" => {
                    for line in kind.facts.lines().filter(|line| !line.is_empty()) {
                        // Several kinds read some of the same facts.
                        if !text.contains(line) {
                            text.push_str(line);
                            text.push('\n');
                        }
                    }
                }
                _ => {}
            }
        }
        files.push((format!("baselines/{}.toml", kind.name), kind.baseline.to_owned()));
    }
    files
}

/// Writes a starter workspace into a folder, made when there is none; with baselines for some kinds of machines.
///
/// # Errors
/// When a file of it is there already, or cannot be written; then nothing is changed.
pub fn write_starter(folder: &Path, with: &[StarterKind]) -> Result<Vec<PathBuf>, io::Error> {
    let files = starter_files(with);
    let paths: Vec<PathBuf> = files.iter().map(|(name, _)| folder.join(name)).collect();
    // A .gitignore of the user's own is left as it is.
    if let Some(there) = paths.iter().find(|path| path.exists() && !path.ends_with(".gitignore")) {
        return Err(io::Error::new(io::ErrorKind::AlreadyExists, format!("{} is there already", there.display())));
    }
    let mut written = Vec::new();
    for ((_, text), path) in files.iter().zip(paths) {
        if path.exists() {
            continue;
        }
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(&path, text)?;
        written.push(path);
    }
    Ok(written)
}
