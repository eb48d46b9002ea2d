//! Brings files of state and people into the ledger: one transaction a file, bad records set aside.

pub(crate) mod changes;
mod doubts;
mod intake;
mod missing;
mod prepare;
mod rejects;

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use fencepost_core::limits::ID_BYTES;
use fencepost_core::{Canonical, Text, Value, parse_collected};
use fencepost_formats::{
    FileError, Mapped, NameFrom, RecordBatch, RecordBatches, RecordPlace, SecretKey, Source, SourceKind, read_batch,
    read_records,
};
use fencepost_store::{FileRow, Known, Ledger, LedgerError, RunKind, Writer, train_dictionary};
use jiff::Timestamp;
use sha2::{Digest, Sha256};

use crate::error::EngineError;
use crate::facts::documents::hide_new_secrets;
use crate::facts::judge::Judge;
use crate::facts::people::People;
use crate::import::changes::Change;
use crate::ledger_view::renames::apply_renamings;
use crate::workers::{AHEAD, Workers, cores, handed_out};
use crate::workspace::files::{Claim, named_source, shown_path, source_of};
use crate::workspace::ledger::Moment;
use crate::workspace::project::{Project, hex};
pub(crate) use doubts::spelling;
pub use doubts::{Contradicted, Doubts, OtherName, WrongType};
use intake::Intake;
use missing::Missing;
use prepare::{Prepared, PreparedBy, Preparer, Unprepared, WorkerScratch};
pub use rejects::{RejectCount, Rejects};

/// How many records, and how many changed devices, a dry run shows of each file.
const SHOWN: usize = 3;
/// A dictionary is made of so many bytes of a file, and not of fewer than half of them.
const SAMPLE: u64 = 2 * 1024 * 1024;

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
    /// What it is about.
    pub kind: SourceKind,
    /// It was imported before: nothing was done.
    pub already: bool,
    /// Records read, the bad ones among them.
    pub records: u64,
    /// Rows of a table that they were made of, where several make one.
    pub rows: Option<u64>,
    /// Rows of a table that were left out, from the one on that ends it.
    pub left_out_rows: u64,
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
    pub rejects: Rejects,
    /// What is odd in the records that were taken.
    pub doubts: Doubts,
    /// Of a dry run: the first records, as they would be kept.
    pub first: Vec<String>,
    /// Of a dry run: the first devices that change.
    pub first_changed: Vec<ChangedDevice>,
}

/// Imports files and streams.
#[derive(Clone, Copy, Debug)]
pub struct Importer<'i> {
    /// The workspace.
    pub project: &'i Project,
    /// How.
    pub options: &'i ImportOptions,
    /// As of when.
    pub moment: &'i Moment,
}

impl Importer<'_> {
    /// Imports one file. `progress` is told the number of bytes read so far.
    ///
    /// # Errors
    /// When the file or the ledger cannot be read or written; then nothing of the file stays.
    pub fn file(
        &self,
        ledger: &mut Ledger,
        path: &Path,
        progress: &mut (dyn FnMut(u64) + Send),
    ) -> Result<Imported, EngineError> {
        let Self { project, options, .. } = *self;
        let failed = |error| EngineError::File { act: "read", path: path.to_owned(), error };
        let claim = source_of(project, path, options.source.as_deref())?;
        let digest = digest_of(File::open(path).map_err(failed)?).map_err(failed)?;
        let written =
            fs::metadata(path).and_then(|meta| meta.modified()).ok().and_then(|time| Timestamp::try_from(time).ok());
        let file = File::open(path).map_err(failed)?;
        let counted = CountedFile { inner: file, bytes: 0, progress };
        let shown = shown_path(project, path);
        let input = Input { claim, path: shown, file: Some(path.to_owned()), digest: Some(digest), written };
        self.run(ledger, input, BufReader::with_capacity(1 << 18, counted))
    }

    /// Imports a stream that has no name, such as standard input.
    ///
    /// # Errors
    /// As [`Self::file`].
    pub fn stream(&self, ledger: &mut Ledger, stream: impl Read + Send) -> Result<Imported, EngineError> {
        let Self { project, options, .. } = *self;
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
        let input = Input { claim, path: "standard input".to_owned(), file: None, digest: None, written: None };
        self.run(ledger, input, BufReader::with_capacity(1 << 18, stream))
    }

    fn run(&self, ledger: &mut Ledger, input: Input, stream: impl BufRead + Send) -> Result<Imported, EngineError> {
        let imported = self.bring_in(ledger, input, stream)?;
        if imported.hidden > 0 && !self.options.dry_run {
            ledger.compact()?;
        }
        Ok(imported)
    }

    fn bring_in(
        &self,
        ledger: &mut Ledger,
        input: Input,
        stream: impl BufRead + Send,
    ) -> Result<Imported, EngineError> {
        let Self { project, options, moment } = *self;
        refuse_going_back(ledger, moment)?;
        let Input { claim, path, file: sample, digest, written } = input;
        let source = &claim.source;
        if source.kind == SourceKind::SignIns {
            return Err(EngineError::refused(
                format!("{path} is a log of sign-ins, of which nothing is kept"),
                format!("decide it again with: fencepost access replay {path}"),
            ));
        }
        let mut imported = Imported::begun(source, claim.because, &path);
        // A dry run keeps nothing, its key neither.
        let key = if options.dry_run { project.key_for_reading()? } else { project.secret_key()? };
        let known_files = KnownFiles {
            source,
            path: &path,
            written,
            key: &key,
            mapping: hex(&Sha256::digest(reading_of(project, source))),
            accept_missing: options.accept_missing,
        };
        let mut writer = ledger.writer("import")?;
        let mut file = digest.map(|digest| known_files.name(digest));
        let before = file.as_deref().map_or(Ok(None), |file| known_files.find(&writer, file))?;
        if before.as_ref().is_some_and(|known| known_files.is_done(known)) {
            imported.already = true;
            return Ok(imported);
        }
        let run = writer.begin_run(&moment.run(RunKind::Import, None))?;
        imported.hidden = hide_new_secrets(&mut writer, project, &key)?;
        apply_renamings(&mut writer, project, run, moment.as_of)?;
        let with = Mapped {
            dictionary: &project.dictionary,
            zone: &project.config.calendar.zone,
            file_time: written,
            path: digest.is_some().then_some(path.as_str()),
        };
        let nobody = People::default();
        let judge = Judge::new(project, &nobody, moment.as_of);
        let by = PreparedBy { project, source, key: &key, judge: &judge };
        let with = with
            .dated_by_name(source)
            .map_err(|message| EngineError::FileRefused { path: path.clone(), error: message.into() })?;
        if let Some(sample) =
            sample.filter(|_| is_in_batches(source) && source.table.rows.is_none() && !options.dry_run)
        {
            add_dictionary(&mut writer, by, &sample, &with)?;
        }
        let newest_before = writer.reader().newest_of(source.id.as_str())?;
        let bodies = writer.reader().bodies()?;
        let of_state = source.kind == SourceKind::State;
        let kept = if !of_state { HashSet::new() } else { writer.reader().known_bodies()? };
        let preparer = Preparer::new(by, &bodies, kept);
        let mut intake = Intake {
            project,
            source: source.id.as_str(),
            key: &key,
            imported,
            run,
            layout_fingerprint: project.layout_fingerprint(),
            file: file.clone().unwrap_or_default(),
            path: path.clone(),
            at: moment.as_of,
            dry_run: options.dry_run,
            has_other_lists: project.config.sources.iter().filter(|one| one.kind == SourceKind::People).count() > 1,
            listed: HashSet::new(),
            people: known_people(&writer.reader(), project, !of_state)?,
            new_devices: Vec::new(),
            writer,
            newest: None,
            newest_before,
        };
        let mut hashed = Hashed { inner: stream, hash: digest.is_none().then(blake3::Hasher::new) };
        let buffered = BufReader::with_capacity(1 << 18, &mut hashed);
        let is_part = take_all(&mut intake, &preparer, &with, buffered)?;
        if file.is_none() {
            let name = known_files.name_of_stream(&mut hashed)?;
            if known_files.find(&intake.writer, &name)?.is_some_and(|known| known_files.is_done(&known)) {
                return Ok(Imported { already: true, records: 0, ..intake.imported });
            }
            file = Some(name);
        }
        let read = ReadFile { name: file.unwrap_or_default(), is_new: before.is_none(), is_part };
        self.finish(intake, &known_files, &read)
    }

    /// Checks what was taken of a file as a whole, marks what it no longer lists, and ends the run.
    fn finish(
        &self,
        intake: Intake<'_, '_>,
        known_files: &KnownFiles<'_>,
        read: &ReadFile,
    ) -> Result<Imported, EngineError> {
        let Self { options, moment, .. } = *self;
        let source = known_files.source;
        let Intake { mut writer, mut imported, run, listed, newest, newest_before, new_devices, .. } = intake;
        imported.listed = match source.kind {
            // Somebody may accept several.
            SourceKind::Acceptances | SourceKind::Settings | SourceKind::Commands => {
                imported.new + imported.changed + imported.unchanged
            }
            SourceKind::State | SourceKind::People | SourceKind::SignIns => listed.len() as u64,
        };
        if !new_devices.is_empty() {
            imported.doubts.compare_spellings(&new_devices, &writer.reader().device_names()?);
        }
        if options.strict {
            refuse_rejects(&imported)?;
        }
        if source.complete && !read.is_part {
            let absent = Missing {
                run,
                at: moment.as_of,
                source: source.id.as_str(),
                people: source.kind == SourceKind::People,
                listed: &listed,
                newest,
                newest_before,
            };
            absent.mark(&mut writer, options, &mut imported)?;
        }
        if read.is_new {
            for reject in imported.rejects.rows() {
                writer.add_reject(&reject)?;
            }
        }
        // What lies in the future today may be taken tomorrow, so such a file is read again.
        if !imported.rejects.has_clock() {
            known_files.add(&mut writer, run, &read.name, &imported)?;
        }
        end_import(&mut writer, run, &imported)?;
        if !options.dry_run {
            writer.commit()?;
        }
        Ok(imported)
    }
}

/// A file that was read to its end.
struct ReadFile {
    /// By what name it is known.
    name: String,
    /// It was not imported before, whole or in part.
    is_new: bool,
    /// Only a part of it could be read.
    is_part: bool,
}

/// Adds a dictionary for compressing bodies, made of the beginning of a file, where the ledger has none.
fn add_dictionary(
    writer: &mut Writer<'_>,
    by: PreparedBy<'_>,
    sample: &Path,
    with: &Mapped<'_>,
) -> Result<(), LedgerError> {
    let bodies = writer.reader().bodies()?;
    if bodies.has_dictionary() {
        return Ok(());
    }
    match dictionary_of(&Preparer::new(by, &bodies, HashSet::new()), sample, with) {
        Some(dictionary) => writer.add_dictionary(&dictionary),
        None => Ok(()),
    }
}

impl Imported {
    /// Creates what is told of a file that was not read yet.
    fn begun(source: &Source, because: String, path: &str) -> Self {
        Self {
            path: path.to_owned(),
            source: source.id.to_string(),
            because,
            format: source.format.as_str(),
            kind: source.kind,
            rows: source.table.rows.is_some().then_some(0),
            ..Self::default()
        }
    }
}

/// Returns everything that decides what is kept of a record of a source: the same bytes, nothing new to be read.
fn reading_of(project: &Project, source: &Source) -> Vec<u8> {
    let text = |text: &Option<Text>| text.as_ref().map(|text| text.as_str().to_owned());
    let mut all = Canonical::default();
    all.add(source).add(&text(&source.speaks_for)).add(&text(&project.config.company_device));
    all.add(&project.config.calendar.zone.iana_name());
    for (path, said) in &project.dictionary.facts {
        all.add(path).add(&said.ty).add(&said.unit);
        all.add(&said.volatile).add(&said.secret).add(&said.company_only);
    }
    all.into_bytes()
}

/// A file to be imported.
struct Input {
    claim: Claim,
    /// Its path, as shown.
    path: String,
    /// Where it is; nowhere when it is a stream.
    file: Option<PathBuf>,
    /// The digest of what it holds; of a stream it is known at its end.
    digest: Option<[u8; 32]>,
    /// When it was last written.
    written: Option<Timestamp>,
}

fn digest_of(mut file: File) -> io::Result<[u8; 32]> {
    let mut hash = blake3::Hasher::new();
    io::copy(&mut file, &mut hash)?;
    Ok(*hash.finalize().as_bytes())
}

struct CountedFile<'p> {
    inner: File,
    bytes: u64,
    progress: &'p mut (dyn FnMut(u64) + Send),
}

impl Read for CountedFile<'_> {
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
    /// None where the digest is known.
    hash: Option<blake3::Hasher>,
}

impl<R: Read> Hashed<R> {
    /// Returns the digest of the whole stream, of which what follows the last record is a part too.
    fn digest_to_end(&mut self) -> io::Result<[u8; 32]> {
        io::copy(&mut &mut *self, &mut io::sink())?;
        let whole = self.hash.as_ref().map_or_else(|| blake3::hash(&[]), blake3::Hasher::finalize);
        Ok(*whole.as_bytes())
    }
}

impl<R: Read> Read for &mut Hashed<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.hash.iter_mut().for_each(|hash| {
            hash.update(&buffer[..read]);
        });
        Ok(read)
    }
}

/// Returns the ids of all people, where devices name their holders and there is a list of people.
fn known_people(
    reader: &fencepost_store::Reader<'_>,
    project: &Project,
    of_people: bool,
) -> Result<Option<HashSet<String>>, LedgerError> {
    if of_people || project.config.holder.is_none() {
        return Ok(None);
    }
    let people: HashSet<String> = reader.people(None)?.into_iter().map(|person| person.id).collect();
    Ok(Some(people).filter(|people| !people.is_empty()))
}

/// Refuses a moment before the last assessment, in a ledger that goes by the moments that it is given: its clock would go back.
fn refuse_going_back(ledger: &Ledger, moment: &Moment) -> Result<(), EngineError> {
    let reader = ledger.reader()?;
    let last = reader.assessments(None, 1)?.pop().filter(|last| moment.as_of < last.as_of);
    match last {
        Some(last) if reader.setting("clock")?.as_deref() == Some("stepped") => Err(EngineError::refused(
            format!("an import never goes back behind an assessment: the last one is as of {}", last.as_of),
            "give a later --as-of, or none; when state was collected is said by the state itself",
        )),
        _ => Ok(()),
    }
}

/// Refuses a file of which records were rejected.
fn refuse_rejects(imported: &Imported) -> Result<(), EngineError> {
    let Some(first) = imported.rejects.first().first() else { return Ok(()) };
    Err(EngineError::refused(
        format!(
            "{}: {} of {} records are bad; the first is line {}: {}",
            imported.path,
            imported.rejects.count(),
            imported.records,
            first.line,
            first.reason
        ),
        "mend the file, or import without --strict to set bad records aside",
    ))
}

/// Writes what an import came to.
fn end_import(writer: &mut Writer<'_>, run: i64, imported: &Imported) -> Result<(), LedgerError> {
    let summary = serde_json::json!({
        "path": imported.path, "source": imported.source, "records": imported.records,
        "rejected": imported.rejects.count(), "new": imported.new, "changed": imported.changed,
        "missing": imported.missing,
    });
    writer.end_run(run, &summary.to_string())
}

/// The files of a source that were imported before.
struct KnownFiles<'i> {
    source: &'i Source,
    /// The file's path, as shown.
    path: &'i str,
    /// When the file was last written.
    written: Option<Timestamp>,
    key: &'i SecretKey,
    /// The digest of all that decides what is kept of a record.
    mapping: String,
    accept_missing: bool,
}

impl KnownFiles<'_> {
    /// Returns by what name a file is known whose content has this digest. The digest could tell what a secret in it is, so it
    /// is taken with the key.
    fn name(&self, digest: [u8; 32]) -> String {
        let mut content = digest.to_vec();
        // What a file does not say, but its name or its time does, tells it from others that hold the same.
        if self.source.id_from != NameFrom::Field || self.source.collected_from_name.is_some() {
            content.extend_from_slice(self.path.as_bytes());
        }
        if let (None, SourceKind::State, Some(written)) = (&self.source.collected_field, self.source.kind, self.written)
        {
            content.extend_from_slice(written.to_string().as_bytes());
        }
        self.key.digest(&content)
    }

    /// Returns by what name a stream is known that was read.
    fn name_of_stream(&self, stream: &mut Hashed<impl Read>) -> Result<String, EngineError> {
        let digest = stream.digest_to_end();
        let digest = digest.map_err(|error| EngineError::File { act: "read", path: self.path.into(), error })?;
        Ok(self.name(digest))
    }

    fn find(&self, writer: &Writer<'_>, name: &str) -> Result<Option<Known>, LedgerError> {
        writer.reader().known_file(name, self.source.id.as_str(), &self.mapping)
    }

    /// Returns whether there is nothing left to do with a known file. One whose missing devices were kept can be given once
    /// more, to be believed about them.
    fn is_done(&self, known: &Known) -> bool {
        !(known.kept_missing && self.accept_missing)
    }

    /// Adds a file that was imported now.
    fn add(&self, writer: &mut Writer<'_>, run: i64, name: &str, imported: &Imported) -> Result<(), LedgerError> {
        let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        writer.add_file(
            run,
            &FileRow {
                digest: name,
                source: self.source.id.as_str(),
                mapping: &self.mapping,
                path: self.path,
                records: number(imported.records),
                rejected: number(imported.rejects.count()),
                kept_missing: number(imported.kept_missing),
            },
        )
    }
}

/// Whether the records of a source are prepared in batches, on several cores.
fn is_in_batches(source: &Source) -> bool {
    RecordBatches::reads(source.format) && source.kind == SourceKind::State
}

/// Takes all records of a file; returns whether they are a part of a list only.
fn take_all<'i>(
    intake: &mut Intake<'i, '_>,
    preparer: &'i Preparer<'i>,
    with: &Mapped<'_>,
    input: impl BufRead + Send,
) -> Result<bool, EngineError> {
    let read = if is_in_batches(preparer.source) {
        take_batches(intake, preparer, with, input).map(|()| false)
    } else {
        take_records(intake, preparer, with, input)
    };
    read.map_err(|error| match error {
        NotImported::Failed(error) => error.into(),
        NotImported::Unreadable(error) => EngineError::FileRefused { path: intake.path.clone(), error },
    })
}

/// Takes records one after the other; returns whether they are a part of a list only.
fn take_records<'i>(
    intake: &mut Intake<'i, '_>,
    preparer: &'i Preparer<'i>,
    with: &Mapped<'_>,
    input: impl BufRead + Send,
) -> Result<bool, NotImported> {
    let kind = preparer.source.kind;
    let (mut scratch, mut failure) = (preparer.scratch(), None);
    let read = read_records(input, preparer.source, with, |record| {
        let place = record.place;
        let taken = match kind {
            SourceKind::People => intake.take_person(record),
            SourceKind::Acceptances => intake.take_acceptance(record),
            SourceKind::Settings => intake.take_setting(record),
            SourceKind::Commands => intake.take_command_state(record),
            // A log is refused before it is read.
            SourceKind::SignIns => Ok(()),
            SourceKind::State => {
                let prepared = preparer.record(&mut scratch, record);
                intake.take(place, prepared, preparer, &mut scratch)
            }
        };
        taken.map_err(|error| {
            failure = Some(error);
            String::new()
        })
    });
    match (failure, read) {
        (Some(failure), _) => Err(NotImported::Failed(failure)),
        (None, Err(error)) => Err(NotImported::Unreadable(error)),
        (None, Ok(read)) => {
            intake.imported.left_out_rows = read.left_out;
            Ok(read.part)
        }
    }
}

/// Why a file was not taken.
enum NotImported {
    /// The ledger could not be read or written.
    Failed(LedgerError),
    /// Something is wrong with it as a whole.
    Unreadable(FileError),
}

/// A file on its way in: batches of its records out to the workers, prepared records back.
struct BatchPipeline<'a, 'i, 'l, 'f> {
    intake: &'a mut Intake<'i, 'l>,
    scratch: WorkerScratch<'i>,
    batches: RecordBatches<'f>,
    /// Batches to be filled again.
    spare: Vec<RecordBatch>,
    /// Lines taken so far.
    lines: u64,
}

/// What came of a batch.
struct PreparedBatch {
    batch: RecordBatch,
    lines: u64,
    /// Its records; the lines of their places count from the batch's beginning.
    records: Vec<PreparedRecord>,
}

/// What came of a record.
struct PreparedRecord {
    place: RecordPlace,
    prepared: Result<Prepared, Unprepared>,
}

/// Takes a file of which the records are prepared on all cores, and taken in their order.
fn take_batches<'i>(
    intake: &mut Intake<'i, '_>,
    preparer: &Preparer<'i>,
    with: &Mapped<'_>,
    input: impl BufRead + Send,
) -> Result<(), NotImported> {
    let batches = RecordBatches::open(input, preparer.source, with).map_err(NotImported::Unreadable)?;
    let mut pipeline = BatchPipeline { intake, scratch: preparer.scratch(), batches, spare: Vec::new(), lines: 0 };
    handed_out(
        &mut pipeline,
        Workers { count: cores(None), ahead: AHEAD, prepare: || preparer.scratch() },
        |pipeline| {
            let mut batch = pipeline.spare.pop().unwrap_or_default();
            let more =
                pipeline.batches.next_into(&mut batch).map_err(|message| NotImported::Unreadable(message.into()))?;
            Ok(more.then_some(batch))
        },
        |scratch: &mut WorkerScratch<'i>, mut batch: RecordBatch| -> PreparedBatch {
            let mut records = Vec::new();
            let lines = read_batch(&mut batch, preparer.source, with, |record| {
                let place = record.place;
                records.push(PreparedRecord { place, prepared: preparer.record(scratch, record) });
                Ok(())
            });
            PreparedBatch { batch, lines: lines.unwrap_or(0), records }
        },
        |pipeline, PreparedBatch { batch, lines, records }| {
            for PreparedRecord { place, prepared } in records {
                let BatchPipeline { intake, scratch, lines: before, .. } = pipeline;
                intake
                    .take(RecordPlace { line: *before + place.line, ..place }, prepared, preparer, scratch)
                    .map_err(NotImported::Failed)?;
            }
            pipeline.lines += lines;
            pipeline.spare.push(batch);
            Ok(())
        },
    )?;
    intake.imported.left_out_rows = pipeline.batches.left_out();
    Ok(())
}

/// Makes a dictionary of the first documents of a file; none where they are few.
fn dictionary_of(preparer: &Preparer<'_>, path: &Path, with: &Mapped<'_>) -> Option<Vec<u8>> {
    let input = BufReader::new(File::open(path).ok()?);
    let mut batches = RecordBatches::open(input, preparer.source, with).ok()?;
    let (mut batch, mut scratch) = (RecordBatch::default(), preparer.scratch());
    let (mut bodies, mut size) = (Vec::new(), 0);
    while size < SAMPLE && batches.next_into(&mut batch).ok()? {
        let _ = read_batch(&mut batch, preparer.source, with, |record| {
            if let Ok(prepared) = preparer.record(&mut scratch, record) {
                size += prepared.kept.body.len() as u64;
                bodies.push(prepared.kept.body);
            }
            Ok(())
        });
    }
    if size < SAMPLE / 2 { None } else { train_dictionary(&bodies) }
}

/// Returns the id of a document.
pub(crate) fn identity<'a>(value: &Value<'a>, key: &str) -> Result<&'a str, String> {
    match value {
        Value::Text(id) if id.trim().is_empty() => Err(format!("`{key}` is empty: the record names no {key}")),
        Value::Text(id) if id.len() > ID_BYTES => Err(format!("`{key}` is longer than {ID_BYTES} bytes")),
        Value::Text(id) => Ok(id),
        Value::Unknown(_) if value.is_missing() => Err(format!("no `{key}`: the record names no {key}")),
        other => Err(format!("`{key}` is a {}, not a text", other.type_name())),
    }
}

/// Returns when a document was collected.
pub(crate) fn moment_of(value: &Value<'_>, project: &Project) -> Result<Timestamp, String> {
    let zone = &project.config.calendar.zone;
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
