//! Brings files of state and people into the ledger: one transaction a file, bad records set aside.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use bumpalo::Bump;
use fencepost_core::{DocumentReader, Facts, Observation, Read as ReadSlots, Text, Value, parse_collected};
use fencepost_formats::{
    JsonDocuments, Keeper, Kept, Mapped, NameFrom, Record, SecretKey, Source, SourceKind, assemble, mask_secrets,
    read_records,
};
use fencepost_store::{Added, FileRow, Ledger, LedgerError, NewObservation, RejectRow, RunKind, Writer};
use jiff::{SignedDuration, Timestamp};
use sha2::{Digest, Sha256};

use crate::changes::{Change, changes_between};
use crate::documents::{Document, hide_new_secrets};
use crate::error::EngineError;
use crate::files::{Claim, named_source, shown_path, source_of};
use crate::judge::{Judge, People};
use crate::project::{Project, hex};
use crate::reading::Moment;
use crate::renames::apply_renamings;

/// An observation may claim to be this much later than the import, for clocks that go fast.
const CLOCK_TOLERANCE: SignedDuration = SignedDuration::from_mins(5);
/// How the reason starts when a record lies in the future.
const CLOCK: &str = "clock";
/// The longest id of a device or person, in bytes.
const MAX_ID: usize = 500;
/// How many records, and how many changed devices, a dry run shows of each file.
const SHOWN: usize = 3;

/// How to import.
#[derive(Clone, Debug, Default)]
pub struct ImportOptions {
    /// The source that the files belong to, whatever they are called.
    pub source: Option<String>,
    /// Refuse a file with a bad record, instead of setting the record aside.
    pub strict: bool,
    /// Believe a complete list about who is missing, however many they are.
    pub accept_missing: bool,
    /// Only say what would be done.
    pub dry_run: bool,
}

/// A device that is known and of which a file says something new.
#[derive(Clone, Debug, PartialEq)]
pub struct ChangedDevice {
    /// The device.
    pub device: String,
    /// What changes, by path.
    pub changes: Vec<Change>,
}

/// What became of a file, or would become of it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Imported {
    /// The file.
    pub path: String,
    /// The source that it belongs to.
    pub source: String,
    /// How that was told.
    pub because: String,
    /// The format it was read in.
    pub format: &'static str,
    /// State or people.
    pub people: bool,
    /// It was imported before: nothing was done.
    pub already: bool,
    /// Records read, the bad ones among them.
    pub records: u64,
    /// Different devices or people in it.
    pub listed: u64,
    /// Devices or people not known before.
    pub new: u64,
    /// Devices or people about whom something changed.
    pub changed: u64,
    /// Devices or people about whom nothing changed, or only what always does.
    pub unchanged: u64,
    /// Observations older than what was known: history.
    pub older: u64,
    /// Devices or people who are no longer listed.
    pub missing: u64,
    /// Devices or people who are no longer listed, and were kept as they were.
    pub kept_missing: u64,
    /// Why they were kept.
    pub kept_because: Option<&'static str>,
    /// Paths of texts that were taken for secrets by their names.
    pub secrets: Vec<String>,
    /// Records of which facts were left out, since the device is not the company's.
    pub left_out: u64,
    /// Documents of earlier imports whose secrets were hidden now.
    pub hidden: u64,
    /// Records set aside.
    pub rejects: Vec<RejectRow>,
    /// Of a dry run: the first records, as they would be kept.
    pub first: Vec<String>,
    /// Of a dry run: the first devices that change.
    pub first_changed: Vec<ChangedDevice>,
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
    progress: &mut (dyn FnMut(u64) + Send),
) -> Result<Imported, EngineError> {
    let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
    let claim = source_of(project, path, options.source.as_deref())?;
    let digest = digest_of(File::open(path).map_err(failed)?).map_err(failed)?;
    let written =
        fs::metadata(path).and_then(|meta| meta.modified()).ok().and_then(|time| Timestamp::try_from(time).ok());
    let file = File::open(path).map_err(failed)?;
    let counted = Counted { inner: file, bytes: 0, progress };
    let shown = shown_path(project, path);
    let input = Input { claim, path: shown, digest: Some(digest), written };
    run(project, ledger, input, BufReader::with_capacity(1 << 18, counted), options, moment)
}

/// Imports a stream that has no name, such as standard input.
///
/// # Errors
/// As [`import`].
pub fn import_stream(
    project: &Project,
    ledger: &mut Ledger,
    stream: impl Read + Send,
    options: &ImportOptions,
    moment: &Moment,
) -> Result<Imported, EngineError> {
    let claim = match (&options.source, project.config.sources.as_slice()) {
        (None, []) => source_of(project, Path::new("-"), None)?,
        (None, [only]) => Claim { source: only.clone(), because: "it is the only source".to_owned() },
        (None, _) => {
            return Err(EngineError::refused(
                "standard input has no name to tell its source by",
                "say which source it is with --source",
            ));
        }
        (Some(named), _) => named_source(project, named)?,
    };
    let input = Input { claim, path: "standard input".to_owned(), digest: None, written: None };
    run(project, ledger, input, BufReader::with_capacity(1 << 18, stream), options, moment)
}

/// Returns everything that decides what is kept of a record of a source, as one text: the same text, nothing new to be read.
fn reading_text(project: &Project, source: &Source) -> String {
    let facts: Vec<_> = project
        .dictionary
        .facts
        .iter()
        .map(|(path, said)| (path, said.ty, &said.unit, said.volatile, said.secret, said.company_only))
        .collect();
    let text = |text: &Option<Text>| text.as_ref().map(|text| text.as_str().to_owned());
    let gates = (text(&source.speaks_for), text(&project.config.company_device), project.config.zone.iana_name());
    format!("{}\n{gates:?}\n{facts:?}", source.mapping_text())
}

/// A file to be imported.
struct Input {
    claim: Claim,
    /// Its path, as shown.
    path: String,
    /// The digest of what it holds; of a stream it is known at its end.
    digest: Option<[u8; 32]>,
    /// When it was last written.
    written: Option<Timestamp>,
}

fn digest_of(mut file: File) -> io::Result<[u8; 32]> {
    let mut hash = Sha256::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return Ok(hash.finalize().into()),
            Ok(read) => hash.update(&buffer[..read]),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

struct Counted<'p> {
    inner: File,
    bytes: u64,
    progress: &'p mut (dyn FnMut(u64) + Send),
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.bytes += read as u64;
        (self.progress)(self.bytes);
        Ok(read)
    }
}

/// Takes the digest of what is read through it.
struct Hashed<R> {
    inner: R,
    hash: Sha256,
}

impl<R: Read> Read for &mut Hashed<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.hash.update(&buffer[..read]);
        Ok(read)
    }
}

fn run(
    project: &Project,
    ledger: &mut Ledger,
    input: Input,
    stream: impl BufRead + Send,
    options: &ImportOptions,
    moment: &Moment,
) -> Result<Imported, EngineError> {
    let Input { claim, path, digest, written } = input;
    let source = &claim.source;
    let people = source.kind == SourceKind::People;
    let mut imported = Imported {
        path: path.clone(),
        source: source.id.to_string(),
        because: claim.because,
        format: source.format.as_str(),
        people,
        ..Imported::default()
    };
    // A dry run keeps nothing, its key neither.
    let key = if options.dry_run { project.key_for_reading()? } else { project.secret_key()? };
    // The digest of a file could tell what a secret in it is, so it is taken with the key.
    let file_name = |digest: [u8; 32]| {
        let mut told = digest.to_vec();
        // What a file does not say, but its name or its time does, tells it from others that hold the same.
        if source.id_from != NameFrom::Field {
            told.extend_from_slice(path.as_bytes());
        }
        if let (None, SourceKind::State, Some(written)) = (&source.collected_field, source.kind, written) {
            told.extend_from_slice(written.to_string().as_bytes());
        }
        key.digest(&told)
    };
    let mapping = hex(&Sha256::digest(reading_text(project, source)));
    let mut writer = ledger.writer("import")?;
    let known = |writer: &Writer<'_>, file: &str| writer.reader().known_file(file, source.id.as_str(), &mapping);
    // A file whose missing devices were kept can be given once more, to be believed about them.
    let is_done = |known: &fencepost_store::Known| !(known.kept_missing && options.accept_missing);
    let mut file = digest.map(file_name);
    let before = file.as_deref().map_or(Ok(None), |file| known(&writer, file))?;
    if before.as_ref().is_some_and(is_done) {
        imported.already = true;
        return Ok(imported);
    }
    let run =
        writer.begin_run(RunKind::Import, moment.as_of, moment.wall, &moment.user, env!("CARGO_PKG_VERSION"), None)?;
    imported.hidden = hide_new_secrets(&mut writer, project, &key)?;
    apply_renamings(&mut writer, project, run, moment.as_of)?;
    let nobody = People::default();
    let mut intake = Intake {
        project,
        claim: &claim.source,
        run,
        key: &key,
        judge: Judge::new(project, &nobody, moment.as_of),
        has_company_only: project.dictionary.facts.values().any(|declared| declared.company_only),
        file: file.as_deref().unwrap_or_default(),
        dry_run: options.dry_run,
        listed: HashSet::new(),
        unnamed: 0,
        newest: None,
        failure: None,
    };
    let mut arena = Bump::new();
    let mut hashed = Hashed { inner: stream, hash: Sha256::new() };
    let with = Mapped {
        dictionary: &project.dictionary,
        zone: &project.config.zone,
        file_time: written,
        path: digest.is_some().then_some(path.as_str()),
    };
    let outcome = read_records(BufReader::with_capacity(1 << 18, &mut hashed), source, &with, |record| {
        imported.records += 1;
        arena.reset();
        let (line, offset) = (record.line, record.offset);
        let taken = if people {
            intake.person(record, &mut writer, &mut imported, &arena)
        } else {
            intake.device(record, &mut writer, &mut imported, &arena)
        };
        if let Err(reason) = taken {
            imported.rejects.push(RejectRow {
                run,
                source: source.id.to_string(),
                path: path.clone(),
                line: i64::try_from(line).unwrap_or(i64::MAX),
                offset: i64::try_from(offset).unwrap_or(i64::MAX),
                reason,
            });
        }
        if intake.failure.is_some() { Err(String::new()) } else { Ok(()) }
    });
    let Intake { listed, unnamed, newest, failure, .. } = intake;
    if let Some(failure) = failure {
        return Err(failure.into());
    }
    let read = outcome
        .map_err(|message| EngineError::refused(format!("{path}: {message}"), "nothing of this file was imported"))?;
    imported.listed = listed.len() as u64;
    if let (true, Some(first)) = (options.strict, imported.rejects.first()) {
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
    if file.is_none() {
        // What follows the last record belongs to the stream as well.
        io::copy(&mut &mut hashed, &mut io::sink()).map_err(|error| EngineError::File {
            act: "read",
            path: path.clone().into(),
            error,
        })?;
        let digest = file_name(hashed.hash.finalize().into());
        if known(&writer, &digest)?.as_ref().is_some_and(is_done) {
            return Ok(Imported { already: true, records: 0, ..imported });
        }
        file = Some(digest);
    }
    if source.complete && !read.part {
        let absent = Missing { run, source: source.id.as_str(), people, listed: &listed, unnamed, newest };
        absent.mark(&mut writer, options, &mut imported)?;
    }
    if before.is_none() {
        for reject in &imported.rejects {
            writer.add_reject(reject)?;
        }
    }
    // What lies in the future today may be taken tomorrow, so such a file is read again.
    if !imported.rejects.iter().any(|reject| reject.reason.starts_with(CLOCK)) {
        writer.add_file(
            run,
            &FileRow {
                digest: file.as_deref().unwrap_or_default(),
                source: source.id.as_str(),
                mapping: &mapping,
                path: &path,
                records: i64::try_from(imported.records).unwrap_or(i64::MAX),
                rejected: i64::try_from(imported.rejects.len()).unwrap_or(i64::MAX),
                kept_missing: i64::try_from(imported.kept_missing).unwrap_or(i64::MAX),
            },
        )?;
    }
    let summary = serde_json::json!({
        "path": path, "source": imported.source, "records": imported.records, "rejected": imported.rejects.len(),
        "new": imported.new, "changed": imported.changed, "missing": imported.missing,
    });
    writer.add_event(run, "imported", &summary.to_string())?;
    writer.end_run(run, &summary.to_string())?;
    if options.dry_run {
        // Nothing of it stays without a commit.
        return Ok(imported);
    }
    writer.commit()?;
    if imported.hidden > 0 {
        ledger.compact()?;
    }
    Ok(imported)
}

struct Intake<'i> {
    project: &'i Project,
    claim: &'i Source,
    run: i64,
    key: &'i SecretKey,
    judge: Judge<'i>,
    has_company_only: bool,
    /// The file's digest.
    file: &'i str,
    dry_run: bool,
    /// Ids of devices or people seen, those of bad records among them.
    listed: HashSet<String>,
    /// Bad records that name nobody.
    unnamed: u64,
    /// The newest moment of collection.
    newest: Option<Timestamp>,
    /// Why the ledger would not have it.
    failure: Option<LedgerError>,
}

impl Intake<'_> {
    /// Returns the document of a record, or why it is set aside.
    fn document<'r>(&mut self, record: Record<'r>) -> Result<std::borrow::Cow<'r, [u8]>, String> {
        record.document.map_err(|error| {
            match error.id {
                Some(id) => {
                    self.listed.insert(id);
                }
                None => self.unnamed += 1,
            }
            error.reason
        })
    }

    /// Takes one record of state; the error is why it is set aside.
    fn device(
        &mut self,
        record: Record<'_>,
        writer: &mut Writer<'_>,
        imported: &mut Imported,
        arena: &Bump,
    ) -> Result<(), String> {
        let document = self.document(record)?;
        let mut reader = JsonDocuments { secrets: Some(self.key) };
        let named = reader
            .read(&document, &self.project.gates.layout, arena)
            .map_err(|error| format!("byte {}: {}", error.offset, error.message))
            .and_then(|read| Ok((read, identity(&read.slots[0], "device")?)))
            .inspect_err(|_| self.unnamed += 1);
        let (read, name) = named?;
        let device = self.project.lives.name(name, self.moment()).to_owned();
        self.listed.insert(device.clone());
        let collected = moment_of(&read.slots[1], self.project)?;
        if collected > self.moment().checked_add(CLOCK_TOLERANCE).unwrap_or(Timestamp::MAX) {
            return Err(format!("{CLOCK}: collected at {collected}, which is after this import ({})", self.moment()));
        }
        self.newest = self.newest.max(Some(collected));
        let source = self.claim.id.as_str();
        if self.project.gates.guards(source) {
            let facts = self.facts(&device, &read, collected, &[], arena)?;
            self.project.gates.admits(source, facts, self.moment(), &self.project.config.zone, arena)?;
        }
        let kept = self.keep(&device, &document, &read, collected, writer, arena)?;
        for path in &kept.secrets {
            if !imported.secrets.contains(path) {
                imported.secrets.push(path.clone());
            }
        }
        imported.left_out += u64::from(kept.left_out);
        if self.dry_run {
            self.preview(&device, collected, &kept, writer, imported);
        }
        let new = NewObservation {
            device: &device,
            source,
            collected,
            body: &kept.body,
            apart: &kept.apart,
            content: self.key.tag(&document),
            file: self.file,
        };
        match writer.add_observation(self.run, &new) {
            Ok(Added::Current { new_device: true, .. }) => imported.new += 1,
            Ok(Added::Current { changed: true, .. }) => imported.changed += 1,
            Ok(Added::Current { .. } | Added::Known) => imported.unchanged += 1,
            Ok(Added::Older) => imported.older += 1,
            Ok(Added::Conflict) => {
                return Err(format!(
                    "`{}` was collected twice at {collected}, with different content",
                    escaped(&device)
                ));
            }
            Err(failure) => self.failure = Some(failure),
        }
        Ok(())
    }

    fn moment(&self) -> Timestamp {
        self.judge.at
    }

    /// Merges a record with what other sources say of the device, as far as conditions on records read it.
    fn facts<'a>(
        &'a self,
        device: &str,
        read: &ReadSlots<'a>,
        collected: Timestamp,
        others: &'a [Document],
        arena: &'a Bump,
    ) -> Result<&'a Facts<'a>, String> {
        let layout = &self.project.gates.layout;
        let source = self.claim.id.as_str();
        let mut said: Vec<Observation<'a>> = vec![self.judge.observation(source, Some(collected), read.slots)];
        for other in others.iter().filter(|other| other.source != source) {
            let read = JsonDocuments::default().read(&other.json, layout, arena).map_err(|error| error.message)?;
            said.push(self.judge.observation(&other.source, Some(other.collected), read.slots));
        }
        Ok(self.judge.merged(device, &said, layout, arena))
    }

    /// Parts a document into what is kept of it.
    fn keep(
        &mut self,
        device: &str,
        document: &[u8],
        read: &ReadSlots<'_>,
        collected: Timestamp,
        writer: &Writer<'_>,
        arena: &Bump,
    ) -> Result<Kept, String> {
        let keeper = Keeper { layout: &self.project.gates.layout, key: self.key, people: false };
        let keep = |company| {
            keeper.keep(document, company, arena).map_err(|error| format!("byte {}: {}", error.offset, error.message))
        };
        let kept = keep(!self.has_company_only)?;
        if !kept.left_out {
            return Ok(kept);
        }
        let others = match writer.reader().observations_of(device, None) {
            Ok(stored) => self.project.documents(device, stored, self.moment()),
            Err(failure) => {
                self.failure = Some(failure);
                return Ok(kept);
            }
        };
        let facts = self.facts(device, read, collected, &others, arena)?;
        let company = self.project.gates.is_company_device(facts, self.moment(), &self.project.config.zone, arena);
        if company { keep(true) } else { Ok(kept) }
    }

    /// Notes what a dry run shows of a record.
    fn preview(&self, device: &str, collected: Timestamp, kept: &Kept, writer: &Writer<'_>, imported: &mut Imported) {
        let document = assemble(&kept.body, device, collected, Some(&kept.apart));
        if imported.first.len() < SHOWN {
            imported.first.push(mask_secrets(&String::from_utf8_lossy(&document).replace('\u{3}', "null")));
        }
        if imported.first_changed.len() < SHOWN
            && let Ok(stored) = writer.reader().observations_of(device, None)
            && let Some(before) = stored.into_iter().find(|said| said.source == self.claim.id.as_str())
            && before.body != kept.body
            && before.collected < collected
        {
            let before = Document::of(device, before);
            let changes = changes_between(&before.json, &document, &self.project.dictionary);
            imported.first_changed.push(ChangedDevice { device: device.to_owned(), changes });
        }
    }

    /// Takes one record of the list of people.
    fn person(
        &mut self,
        record: Record<'_>,
        writer: &mut Writer<'_>,
        imported: &mut Imported,
        arena: &Bump,
    ) -> Result<(), String> {
        let document = self.document(record)?;
        let keeper = Keeper { layout: &self.project.gates.layout, key: self.key, people: true };
        let kept = keeper
            .keep(&document, true, arena)
            .map_err(|error| format!("byte {}: {}", error.offset, error.message))
            .inspect_err(|_| self.unnamed += 1)?;
        let text = String::from_utf8_lossy(&kept.body);
        let json: serde_json::Value =
            serde_json::from_str(&text).map_err(|error| error.to_string()).inspect_err(|_| self.unnamed += 1)?;
        let Some(id) = json["id"].as_str().filter(|id| !id.is_empty() && id.len() <= MAX_ID) else {
            self.unnamed += 1;
            return Err("the record names no person".to_owned());
        };
        if !self.listed.insert(id.to_owned()) {
            return Err(format!("`{}` is listed twice", escaped(id)));
        }
        imported
            .secrets
            .extend(kept.secrets.iter().filter(|path| !imported.secrets.contains(path)).cloned().collect::<Vec<_>>());
        if self.dry_run && imported.first.len() < SHOWN {
            imported.first.push(mask_secrets(&text));
        }
        match writer.set_person(self.run, self.claim.id.as_str(), id, &text) {
            Ok(Added::Current { new_device: true, .. }) => imported.new += 1,
            Ok(Added::Current { changed: true, .. }) => imported.changed += 1,
            Ok(_) => imported.unchanged += 1,
            Err(failure) => self.failure = Some(failure),
        }
        Ok(())
    }
}

/// Whom a complete list does not name.
struct Missing<'m> {
    run: i64,
    source: &'m str,
    people: bool,
    listed: &'m HashSet<String>,
    unnamed: u64,
    newest: Option<Timestamp>,
}

impl Missing<'_> {
    /// Marks devices as absent from the feed, and ends people, unless they are too many to be believed.
    fn mark(
        &self,
        writer: &mut Writer<'_>,
        options: &ImportOptions,
        imported: &mut Imported,
    ) -> Result<(), EngineError> {
        let before: Vec<String> = if self.people {
            let all = writer.reader().people(None)?;
            all.into_iter().filter(|person| person.source == self.source).map(|person| person.id).collect()
        } else {
            // What is known from a newer file than this one, this one cannot miss.
            let all = writer.reader().listed_by(self.source)?;
            all.into_iter()
                .filter(|(_, collected)| self.newest.is_none_or(|newest| *collected <= newest))
                .map(|(device, _)| device)
                .collect()
        };
        let missing: Vec<&String> = before.iter().filter(|id| !self.listed.contains(id.as_str())).collect();
        if missing.is_empty() {
            return Ok(());
        }
        imported.kept_because = match (self.unnamed, missing.len() * 5 > before.len()) {
            _ if options.accept_missing => None,
            (0, false) => None,
            (_, true) => Some("more than a fifth of the feed"),
            (_, false) => Some("and records that name nobody were set aside, which may be theirs"),
        };
        if imported.kept_because.is_some() {
            imported.kept_missing = missing.len() as u64;
            return Ok(());
        }
        for id in &missing {
            if self.people {
                writer.end_person(self.run, self.source, id)?;
            } else {
                writer.set_absent(self.run, self.source, id)?;
                let body = serde_json::json!({ "device": id, "source": self.source });
                writer.add_event(self.run, "absent", &body.to_string())?;
            }
        }
        imported.missing = missing.len() as u64;
        Ok(())
    }
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
