//! Brings files of state and people into the ledger: one transaction a file, bad records set aside.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use bumpalo::Bump;
use fencepost_core::{DocumentReader, Layout, Value, parse_collected};
use fencepost_formats::{JsonDocuments, Mapped, Record, Source, SourceKind, read_records};
use fencepost_store::{Added, FileRow, Ledger, RejectRow, RunKind, Writer};
use jiff::{SignedDuration, Timestamp};
use sha2::{Digest, Sha256};

use crate::error::EngineError;
use crate::project::{Project, hex};
use crate::reading::Moment;

/// An observation may claim to be this much later than the import, for clocks that go fast.
const CLOCK_TOLERANCE: SignedDuration = SignedDuration::from_mins(5);
/// How the reason starts when a record lies in the future.
const CLOCK: &str = "clock";
/// The longest id of a device or person, in bytes.
const MAX_ID: usize = 500;

/// How to import.
#[derive(Clone, Debug)]
pub struct ImportOptions {
    /// The source that the files belong to, whatever they are called.
    pub source: Option<String>,
    /// Refuse a file with a bad record, instead of setting the record aside.
    pub strict: bool,
    /// End people whom a complete list no longer names, however many they are.
    pub accept_missing: bool,
}

/// What became of a file.
#[derive(Clone, Debug, PartialEq)]
pub struct Imported {
    /// The file.
    pub path: String,
    /// The source that it belongs to.
    pub source: String,
    /// State or people.
    pub people: bool,
    /// It was imported before: nothing was done.
    pub already: bool,
    /// Records read, the bad ones among them.
    pub records: u64,
    /// Devices or people not known before.
    pub new: u64,
    /// Devices or people about whom something changed.
    pub changed: u64,
    /// Devices or people about whom nothing changed.
    pub unchanged: u64,
    /// Observations older than what was known: history.
    pub older: u64,
    /// People who are no longer listed.
    pub ended: u64,
    /// People who are no longer listed, and were kept because they are too many.
    pub kept_missing: u64,
    /// Records set aside.
    pub rejects: Vec<RejectRow>,
}

/// Returns the files that paths mean: themselves, or those in a folder and below that some source claims.
///
/// # Errors
/// When a path cannot be read.
pub fn expand_paths(project: &Project, paths: &[PathBuf]) -> Result<Vec<PathBuf>, EngineError> {
    let mut files = Vec::new();
    for path in paths {
        let failed = |error| EngineError::File { act: "read", path: path.clone(), error };
        let meta = fs::metadata(path).map_err(failed)?;
        if !meta.is_dir() {
            files.push(path.clone());
            continue;
        }
        let mut folders = vec![path.clone()];
        let mut found = Vec::new();
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(&folder).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                // Symbolic links are not followed: they lead out of what was named.
                let kind = entry.file_type().map_err(failed)?;
                let hidden = entry.file_name().to_string_lossy().starts_with('.');
                if kind.is_dir() && !hidden {
                    folders.push(entry.path());
                } else if kind.is_file()
                    && !hidden
                    && (project.config.sources.is_empty() || !claims(project, &entry.path()).is_empty())
                {
                    found.push(entry.path());
                }
            }
        }
        if found.is_empty() {
            return Err(EngineError::refused(
                format!("no file in {} belongs to a source", path.display()),
                "name the feed's files in `files` of its [[source]] in fencepost.toml, or import one with --source",
            ));
        }
        found.sort();
        files.extend(found);
    }
    Ok(files)
}

/// The sources whose `files` a path fits: by its way from the workspace, as given, or by its name.
fn claims(project: &Project, path: &Path) -> Vec<Source> {
    let absolute = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let root = project.root.canonicalize().unwrap_or_else(|_| project.root.clone());
    let inside = absolute.strip_prefix(&root).ok().map(Path::to_owned);
    let name = path.file_name().map(PathBuf::from);
    project
        .sources()
        .into_iter()
        .filter(|source| {
            source.files.iter().any(|pattern| {
                inside
                    .iter()
                    .chain(std::iter::once(&path.to_owned()))
                    .chain(&name)
                    .any(|candidate| pattern.matches_path(candidate))
            })
        })
        .collect()
}

/// Finds the one source that a file belongs to.
pub(crate) fn source_of(project: &Project, path: &Path, named: Option<&str>) -> Result<Source, EngineError> {
    let sources = project.sources();
    if let Some(named) = named {
        return sources.iter().find(|source| source.id.as_str() == named).cloned().ok_or_else(|| {
            let known: Vec<&str> = sources.iter().map(|source| source.id.as_str()).collect();
            let near = fencepost_core::nearest(named, known.iter().copied());
            EngineError::refused(
                format!("there is no source `{named}`"),
                near.map_or_else(
                    || format!("known are {}", known.join(", ")),
                    |near| format!("did you mean `{near}`?"),
                ),
            )
        });
    }
    if project.config.sources.is_empty() {
        return Ok(Source::native());
    }
    let mut claiming = claims(project, path);
    match claiming.len() {
        1 => Ok(claiming.remove(0)),
        0 => Err(EngineError::refused(
            format!("{} fits no source", path.display()),
            format!(
                "say which it is with --source ({}), or name it in `files` of a [[source]] in fencepost.toml",
                sources.iter().map(|source| source.id.as_str()).collect::<Vec<_>>().join(", ")
            ),
        )),
        _ => Err(EngineError::refused(
            format!("{} fits two sources, `{}` and `{}`", path.display(), claiming[0].id, claiming[1].id),
            "make their `files` differ, or say which it is with --source",
        )),
    }
}

/// Imports one file. `progress` is told the number of bytes read so far.
///
/// # Errors
/// When the file or the ledger would not have it; then nothing of the file stays.
pub fn import(
    project: &Project,
    ledger: &mut Ledger,
    path: &Path,
    options: &ImportOptions,
    moment: &Moment,
    progress: &mut dyn FnMut(u64),
) -> Result<Imported, EngineError> {
    let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
    let source = source_of(project, path, options.source.as_deref())?;
    let digest = digest_of(File::open(path).map_err(failed)?).map_err(failed)?;
    let written =
        fs::metadata(path).and_then(|meta| meta.modified()).ok().and_then(|time| Timestamp::try_from(time).ok());
    let file = File::open(path).map_err(failed)?;
    let counted = Counted { inner: file, bytes: 0, progress };
    let shown = shown_path(project, path);
    run(project, ledger, &source, BufReader::with_capacity(1 << 18, counted), &shown, &digest, written, options, moment)
}

/// Imports what came on standard input.
///
/// # Errors
/// As [`import`].
pub fn import_bytes(
    project: &Project,
    ledger: &mut Ledger,
    bytes: &[u8],
    options: &ImportOptions,
    moment: &Moment,
) -> Result<Imported, EngineError> {
    let source = match (&options.source, project.config.sources.as_slice()) {
        (None, []) => Source::native(),
        (None, [only]) => only.clone(),
        (None, _) => {
            return Err(EngineError::refused(
                "standard input has no name to tell its source by",
                "say which source it is with --source",
            ));
        }
        (Some(named), _) => source_of(project, Path::new("-"), Some(named))?,
    };
    let digest = hex(&Sha256::digest(bytes));
    run(project, ledger, &source, bytes, "standard input", &digest, None, options, moment)
}

/// The way to a file from the workspace, where it lies in it; else as it was given.
fn shown_path(project: &Project, path: &Path) -> String {
    let inside = path.canonicalize().ok().zip(project.root.canonicalize().ok());
    let inside = inside.and_then(|(path, root)| path.strip_prefix(root).ok().map(Path::to_owned));
    inside.unwrap_or_else(|| path.to_owned()).display().to_string()
}

fn digest_of(mut file: File) -> io::Result<String> {
    let mut hash = Sha256::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return Ok(hex(&hash.finalize())),
            Ok(read) => hash.update(&buffer[..read]),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

struct Counted<'p> {
    inner: File,
    bytes: u64,
    progress: &'p mut dyn FnMut(u64),
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.bytes += read as u64;
        (self.progress)(self.bytes);
        Ok(read)
    }
}

#[expect(clippy::too_many_arguments, reason = "the two ways in differ in all of these")]
fn run(
    project: &Project,
    ledger: &mut Ledger,
    source: &Source,
    input: impl BufRead,
    path: &str,
    digest: &str,
    file_time: Option<Timestamp>,
    options: &ImportOptions,
    moment: &Moment,
) -> Result<Imported, EngineError> {
    let people = source.kind == SourceKind::People;
    let mut imported = Imported {
        path: path.to_owned(),
        source: source.id.to_string(),
        people,
        already: false,
        records: 0,
        new: 0,
        changed: 0,
        unchanged: 0,
        older: 0,
        ended: 0,
        kept_missing: 0,
        rejects: Vec::new(),
    };
    let mapping = hex(&Sha256::digest(format!("{}\n{:?}", source.mapping_text(), project.dictionary.facts)));
    let mut writer = ledger.writer("import")?;
    if writer.reader().known_file(digest, source.id.as_str(), &mapping)?.is_some() {
        imported.already = true;
        return Ok(imported);
    }
    let run =
        writer.begin_run(RunKind::Import, moment.as_of, moment.wall, &moment.user, env!("CARGO_PKG_VERSION"), None)?;
    let layout = Layout::new(&project.dictionary);
    let with = Mapped { dictionary: &project.dictionary, zone: &project.config.zone, file_time };
    let mut intake = Intake {
        project,
        source,
        run,
        layout: &layout,
        moment,
        arena: Bump::new(),
        listed: HashSet::new(),
        failure: None,
    };
    let outcome = read_records(input, source, &with, |record| {
        imported.records += 1;
        let place = (record.line, record.offset);
        let taken = if people {
            intake.person(record, &mut writer, &mut imported)
        } else {
            intake.device(record, &mut writer, &mut imported)
        };
        if let Err(reason) = taken {
            imported.rejects.push(RejectRow {
                run,
                path: path.to_owned(),
                line: i64::try_from(place.0).unwrap_or(i64::MAX),
                offset: i64::try_from(place.1).unwrap_or(i64::MAX),
                reason,
            });
        }
        if intake.failure.is_some() { Err(String::new()) } else { Ok(()) }
    });
    if let Some(failure) = intake.failure {
        return Err(failure.into());
    }
    if let Err(message) = outcome {
        return Err(EngineError::refused(format!("{path}: {message}"), "nothing of this file was imported"));
    }
    if options.strict
        && let Some(first) = imported.rejects.first()
    {
        return Err(EngineError::refused(
            format!(
                "{path}: {} of {} records are bad; the first is line {}: {}",
                imported.rejects.len(),
                imported.records,
                first.line,
                first.reason
            ),
            "mend the file, or import without --strict to set bad records aside",
        ));
    }
    if people && source.complete {
        let listed = std::mem::take(&mut intake.listed);
        end_missing_people(&writer, run, source, &listed, options, &mut imported)?;
    }
    for reject in &imported.rejects {
        writer.add_reject(reject)?;
    }
    let file = FileRow {
        digest,
        source: source.id.as_str(),
        mapping: &mapping,
        path,
        records: i64::try_from(imported.records).unwrap_or(i64::MAX),
        rejected: i64::try_from(imported.rejects.len()).unwrap_or(i64::MAX),
    };
    // What lies in the future today may be taken tomorrow, so such a file is read again.
    if !imported.rejects.iter().any(|reject| reject.reason.starts_with(CLOCK)) {
        writer.add_file(run, &file)?;
    }
    let summary = serde_json::json!({
        "path": path, "source": imported.source, "records": imported.records, "rejected": imported.rejects.len(),
        "new": imported.new, "changed": imported.changed,
    });
    writer.add_event(run, "imported", &summary.to_string())?;
    writer.end_run(run, &summary.to_string())?;
    writer.commit()?;
    Ok(imported)
}

struct Intake<'i> {
    project: &'i Project,
    source: &'i Source,
    run: i64,
    layout: &'i Layout,
    moment: &'i Moment,
    arena: Bump,
    /// Ids of people seen, for complete lists.
    listed: HashSet<String>,
    /// Why the ledger would not have it.
    failure: Option<fencepost_store::LedgerError>,
}

impl Intake<'_> {
    /// Takes one record of state; the error is why it is set aside.
    fn device(&mut self, record: Record<'_>, writer: &mut Writer<'_>, imported: &mut Imported) -> Result<(), String> {
        let document = record.document.map_err(|error| error.0)?;
        self.arena.reset();
        let read = JsonDocuments
            .read(&document, self.layout, &self.arena)
            .map_err(|error| format!("byte {}: {}", error.offset, error.message))?;
        let device = identity(&read.slots[0], "device")?;
        let collected = moment_of(&read.slots[1], self.project)?;
        if collected > self.moment.as_of.checked_add(CLOCK_TOLERANCE).unwrap_or(Timestamp::MAX) {
            return Err(format!(
                "{CLOCK}: collected at {collected}, which is after this import ({})",
                self.moment.as_of
            ));
        }
        match writer.add_observation(self.run, device, self.source.id.as_str(), collected, &document) {
            Ok(Added::Current { new_device: true, .. }) => imported.new += 1,
            Ok(Added::Current { changed: true, .. }) => imported.changed += 1,
            Ok(Added::Current { .. } | Added::Known) => imported.unchanged += 1,
            Ok(Added::Older) => imported.older += 1,
            Ok(Added::Conflict) => {
                return Err(format!(
                    "`{}` was collected twice at {collected}, with different content",
                    escaped(device)
                ));
            }
            Err(failure) => self.failure = Some(failure),
        }
        Ok(())
    }

    /// Takes one record of the list of people.
    fn person(&mut self, record: Record<'_>, writer: &mut Writer<'_>, imported: &mut Imported) -> Result<(), String> {
        let document = record.document.map_err(|error| error.0)?;
        let text = std::str::from_utf8(&document).map_err(|_| "these bytes are not UTF-8".to_owned())?;
        let json: serde_json::Value = serde_json::from_str(text).map_err(|error| error.to_string())?;
        let id = json["id"]
            .as_str()
            .filter(|id| !id.is_empty() && id.len() <= MAX_ID)
            .ok_or("the record names no person")?;
        if self.listed.contains(id) {
            return Err(format!("`{}` is listed twice", escaped(id)));
        }
        match writer.set_person(self.run, self.source.id.as_str(), id, text) {
            Ok(Added::Current { new_device: true, .. }) => imported.new += 1,
            Ok(Added::Current { changed: true, .. }) => imported.changed += 1,
            Ok(_) => imported.unchanged += 1,
            Err(failure) => self.failure = Some(failure),
        }
        self.listed.insert(id.to_owned());
        Ok(())
    }
}

/// Ends the people whom a complete list no longer names, unless that is more than a fifth of them.
fn end_missing_people(
    writer: &Writer<'_>,
    run: i64,
    source: &Source,
    listed: &HashSet<String>,
    options: &ImportOptions,
    imported: &mut Imported,
) -> Result<(), EngineError> {
    let before: Vec<String> = writer
        .reader()
        .people(None)?
        .into_iter()
        .filter(|person| person.source == source.id.as_str())
        .map(|person| person.id)
        .collect();
    let missing: Vec<&String> = before.iter().filter(|id| !listed.contains(id.as_str())).collect();
    if missing.len() * 5 > before.len() && !options.accept_missing {
        imported.kept_missing = missing.len() as u64;
        return Ok(());
    }
    for id in &missing {
        writer.end_person(run, source.id.as_str(), id)?;
    }
    imported.ended = missing.len() as u64;
    Ok(())
}

/// Returns the id of a document.
pub(crate) fn identity<'a>(value: &Value<'a>, key: &str) -> Result<&'a str, String> {
    match value {
        Value::Text(id) if id.trim().is_empty() => Err(format!("`{key}` is empty: the record names no {key}")),
        Value::Text(id) if id.len() > MAX_ID => Err(format!("`{key}` is longer than {MAX_ID} bytes")),
        Value::Text(id) => Ok(id),
        Value::Unknown(_) if value.is_missing() => Err(format!("no `{key}`: the record names no {key}")),
        other => Err(format!("`{key}` is a {}, not a text", other.type_name())),
    }
}

/// Returns when a document was collected.
pub(crate) fn moment_of(value: &Value<'_>, project: &Project) -> Result<Timestamp, String> {
    let zone = &project.config.zone;
    let wanted = "write it as 2027-03-04T10:00:00+01:00";
    match value {
        Value::Text(text) => {
            parse_collected(text, zone).ok_or_else(|| format!("`collected_at` is no moment; {wanted}"))
        }
        Value::DateTime(moment) => moment.moment().ok_or_else(|| format!("`collected_at` has no offset; {wanted}")),
        Value::Unknown(_) if value.is_missing() => {
            Err("no `collected_at`: the record does not say when it was collected".to_owned())
        }
        other => Err(format!("`collected_at` is a {}, not a moment; {wanted}", other.type_name())),
    }
}

/// Device text inside a message, cut short and without control characters.
pub(crate) fn escaped(text: &str) -> String {
    text.chars()
        .take(80)
        .flat_map(|c| if c.is_control() { c.escape_default().collect::<Vec<_>>() } else { vec![c] })
        .collect()
}
