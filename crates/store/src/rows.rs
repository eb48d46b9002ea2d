//! What the ledger holds, as rows.

use std::ops::Range;
use std::sync::Arc;

use jiff::Timestamp;
use rusqlite::Row;

use crate::bodies::BodyUnpacker;
use crate::error::LedgerError;

/// What a run did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunKind {
    /// Brought a file in.
    Import,
    /// Assessed the fleet.
    Assess,
    /// Removed old history.
    Trim,
    /// Sent what was to be sent.
    Send,
}

impl RunKind {
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            Self::Import => "import",
            Self::Assess => "assess",
            Self::Trim => "trim",
            Self::Send => "send",
        }
    }
}

/// A writing command.
#[derive(Clone, Debug, PartialEq)]
pub struct RunRow {
    /// Its id; later runs have larger ones.
    pub id: i64,
    /// Of an assessment, its number.
    pub number: Option<i64>,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// When it ran.
    pub at: Timestamp,
    /// Who ran it.
    pub user: String,
    /// Which version of the program.
    pub version: String,
    /// Of an assessment, the digest of the rule set.
    pub rule_set: Option<String>,
    /// What it came to, as JSON.
    pub summary: String,
}

/// What a spell is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SpellKind {
    /// A verdict that is not a pass; the subject is the rule.
    Verdict,
    /// The standing; no subject.
    Standing,
    /// A decision; the subject is person, service and client.
    Decision,
}

impl SpellKind {
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            Self::Verdict => "verdict",
            Self::Standing => "standing",
            Self::Decision => "decision",
        }
    }
}

/// Something that holds for a device from a run on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spell {
    /// What it is about, by kind of spell: a rule, a decision's key, nothing for the standing.
    pub subject: String,
    /// What holds of the subject.
    pub value: String,
    /// More about it, in the form that the engine gives it.
    pub detail: String,
}

/// Something that held from one run up to another.
#[derive(Clone, Debug, PartialEq)]
pub struct SpellRow {
    /// The device.
    pub device: String,
    /// What about it.
    pub subject: String,
    /// What held.
    pub value: String,
    /// More about it, as JSON.
    pub detail: String,
    /// From which run.
    pub from_run: i64,
    /// Up to which run, that one not included; none while it holds.
    pub to_run: Option<i64>,
}

/// A decision as of a run.
#[derive(Clone, Copy, Debug)]
pub struct DecisionRow<'r> {
    /// The number of the device.
    pub device: i64,
    /// The sign-in.
    pub subject: &'r str,
    /// What is decided.
    pub value: &'r str,
    /// An access rule decides, and not the default.
    pub by_rule: bool,
}

/// A decision that time alone will bring about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ComingRow {
    /// From when on it holds.
    pub at: Timestamp,
    /// What it is about, as in a spell.
    pub subject: String,
    /// What holds then.
    pub value: String,
    /// More about it, as JSON.
    pub detail: String,
    /// It comes about only if the device says nothing until then.
    pub only_if_silent: bool,
}

/// A version of a finding.
#[derive(Clone, Debug, PartialEq)]
pub struct FindingRow {
    /// The finding's id for life.
    pub id: u64,
    /// The device.
    pub device: String,
    /// The rule, or the word for silence.
    pub subject: String,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// When it closed.
    pub closed: Option<Timestamp>,
    /// The rest, as JSON.
    pub body: String,
    /// The run that wrote this version.
    pub from_run: i64,
}

/// The findings that are otherwise than they were.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FindingsSince {
    /// As they were; those that were not there yet are left out.
    pub then: Vec<FindingRow>,
    /// As they are.
    pub now: Vec<FindingRow>,
}

/// What a source last said of a device.
#[derive(Clone, Debug, PartialEq)]
pub struct StoredObservation {
    /// The source's id.
    pub source: String,
    /// When it was collected.
    pub collected: Timestamp,
    /// The document's body: what stays the same from one collection to the next.
    pub body: Vec<u8>,
    /// What stood in its placeholders; none where that was not kept.
    pub volatile_parts: Option<Vec<u8>>,
    /// The number of the body: the same number, the same body.
    pub document: i64,
}

/// A device that an assessment looks at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceRow {
    /// Its number in the ledger.
    pub number: i64,
    /// Its id.
    pub name: String,
    /// Something about it came in since the last assessment.
    pub dirty: bool,
}

/// Which devices an assessment looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// Every device.
    All,
    /// Those about which something came in, and those that time alone may have changed by a moment.
    Changed(Timestamp),
}

/// What the rules read of what a source now says of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FactsRow<'h> {
    /// The source's number in the ledger.
    pub number: i64,
    /// The source's id.
    pub source: &'h str,
    /// When it was collected.
    pub collected: Timestamp,
    /// The facts; none where they were packed by other paths than those of the layout fingerprint that was asked for, or not at all.
    pub packed: Option<&'h [u8]>,
    /// The facts by the paths of the earlier layout fingerprint that was asked for, where they are packed by those.
    pub earlier: Option<&'h [u8]>,
    /// Volatile facts of it are kept apart.
    pub has_volatile_parts: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct BatchFacts {
    /// The position of the device.
    pub device: usize,
    pub number: i64,
    pub source: Arc<str>,
    pub collected: Timestamp,
    pub packed: Option<Range<usize>>,
    pub earlier: Option<Range<usize>>,
    pub has_volatile_parts: bool,
}

/// What the last assessment came to on a device; `B` holds the bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AssessedRow<B = Vec<u8>> {
    /// A digest of everything that it was judged by.
    pub input: B,
    /// From this moment on time alone may change what it came to.
    pub until: Timestamp,
    /// From this moment on time alone may change its verdicts, or what it may reach.
    pub valid_until: Timestamp,
    /// The newest moment of collection.
    pub collected: Option<Timestamp>,
    /// What it came to.
    pub outcome: B,
    /// The latest finding of each rule, as the next assessment starts from them.
    pub findings: B,
}

impl AssessedRow {
    /// Returns the row with its bytes borrowed.
    pub fn borrowed(&self) -> AssessedRow<&[u8]> {
        self.map(Vec::as_slice)
    }
}

impl<B> AssessedRow<B> {
    fn map<'b, C>(&'b self, change: impl Fn(&'b B) -> C) -> AssessedRow<C> {
        let Self { until, valid_until, collected, .. } = *self;
        let [input, outcome, findings] = [&self.input, &self.outcome, &self.findings].map(change);
        AssessedRow { input, until, valid_until, collected, outcome, findings }
    }
}

/// Which packed facts are held: those by the paths that the rules read now, and those by paths that others read before.
#[derive(Clone, Copy, Debug, Default)]
pub struct LayoutFingerprints {
    /// Of now.
    pub now: i64,
    /// Of before, where they are of use.
    pub earlier: Option<i64>,
}

/// What is held of some devices for judging them, in buffers that can be filled again.
#[derive(Clone, Debug, Default)]
pub struct DeviceBatch {
    pub(crate) bytes: Vec<u8>,
    /// Ascending by device and source.
    pub(crate) facts: Vec<BatchFacts>,
    /// By the position of the device.
    pub(crate) assessed: Vec<Option<AssessedRow<Range<usize>>>>,
}

impl DeviceBatch {
    pub(crate) fn clear(&mut self, devices: usize) {
        self.bytes.clear();
        self.facts.clear();
        self.assessed.clear();
        self.assessed.resize(devices, None);
    }

    pub(crate) fn keep(&mut self, row: &Row<'_>, column: usize) -> rusqlite::Result<Range<usize>> {
        let from = self.bytes.len();
        self.bytes.extend_from_slice(row.get_ref(column)?.as_blob()?);
        Ok(from..self.bytes.len())
    }

    /// Returns what every source now says of the device at a position, as the rules read it, by source.
    pub fn facts(&self, device: usize) -> impl Iterator<Item = FactsRow<'_>> {
        let from = self.facts.partition_point(|said| said.device < device);
        self.facts[from..].iter().take_while(move |said| said.device == device).map(|said| FactsRow {
            number: said.number,
            source: &said.source,
            collected: said.collected,
            packed: said.packed.clone().map(|range| &self.bytes[range]),
            earlier: said.earlier.clone().map(|range| &self.bytes[range]),
            has_volatile_parts: said.has_volatile_parts,
        })
    }

    /// Returns what the last assessment came to on the device at a position.
    pub fn assessed(&self, device: usize) -> Option<AssessedRow<&[u8]>> {
        self.assessed.get(device)?.as_ref().map(|row| row.map(|range| &self.bytes[range.clone()]))
    }
}

/// What a source last said of a device, its body as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct PackedObservation {
    /// The source's id.
    pub source: String,
    pub(crate) collected: Timestamp,
    pub(crate) body: Vec<u8>,
    pub(crate) volatile_parts: Option<Vec<u8>>,
    pub(crate) document: i64,
}

impl PackedObservation {
    /// Returns the number of its body: the same number, the same body.
    pub fn document(&self) -> i64 {
        self.document
    }

    /// Returns when it was collected.
    pub fn collected(&self) -> Timestamp {
        self.collected
    }

    /// Unpacks the body.
    ///
    /// # Errors
    /// When it cannot be.
    pub fn unpack(&self, unpacker: &mut BodyUnpacker<'_>) -> Result<StoredObservation, LedgerError> {
        let (source, collected, document) = (self.source.clone(), self.collected, self.document);
        Ok(StoredObservation {
            source,
            collected,
            body: unpacker.unpack(&self.body)?,
            volatile_parts: self.volatile_parts.clone(),
            document,
        })
    }
}

/// How a source is doing.
#[derive(Clone, Debug, PartialEq)]
pub struct SourceRow {
    /// The source's id.
    pub source: String,
    /// How many devices it speaks of, those it no longer lists not counted.
    pub devices: i64,
    /// How many devices a complete export of it no longer lists.
    pub absent: i64,
    /// The newest moment of collection of any device.
    pub collected: Option<Timestamp>,
    /// The median moment of collection of its devices' latest.
    pub median: Option<Timestamp>,
}

/// A person of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct PersonRow {
    /// The id.
    pub id: String,
    /// The source that lists the person.
    pub source: String,
    /// What it says, as JSON.
    pub body: String,
}

/// What a list said of a person, and for how long.
#[derive(Clone, Debug, PartialEq)]
pub struct PersonSpell {
    /// What it said.
    pub entry: PersonRow,
    /// The run that brought it.
    pub from_run: i64,
    /// The run that ended it.
    pub to_run: Option<i64>,
}

/// A time in which a source did not list a device that it had listed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Absence {
    /// The source.
    pub source: String,
    /// Since when.
    pub from: Timestamp,
    /// Until when.
    pub until: Option<Timestamp>,
}

/// Terms that somebody accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AcceptanceRow {
    /// Who.
    pub person: String,
    /// With which device, as the feed calls it.
    pub device: String,
    /// Which terms.
    pub terms: String,
    /// In which version.
    pub version: String,
    /// The source that says so.
    pub source: String,
}

/// A file that was imported.
#[derive(Clone, Debug, PartialEq)]
pub struct ImportRow {
    /// When.
    pub at: Timestamp,
    /// Where it was.
    pub path: String,
    /// How many records it held.
    pub records: i64,
    /// How many of them were set aside.
    pub rejected: i64,
}

/// A record that was set aside, or several that are counted by their reason.
#[derive(Clone, Debug, PartialEq)]
pub struct RejectRow {
    /// The import.
    pub run: i64,
    /// The source that the file was read as.
    pub source: String,
    /// The file.
    pub path: String,
    /// The line in it, from 1.
    pub line: i64,
    /// The offset in it, in bytes.
    pub offset: i64,
    /// Why.
    pub reason: String,
    /// How many records; from the line on where they are several.
    pub count: i64,
}

/// Something that happened to a device, or to one of its findings.
#[derive(Clone, Debug, PartialEq)]
pub struct EventRow {
    /// The device.
    pub device: String,
    /// When it happened.
    pub at: Timestamp,
    /// What happened, a word.
    pub what: String,
    /// To which finding.
    pub finding: Option<EventFinding>,
    /// The rest, by what happened.
    pub detail: Option<String>,
}

/// The finding to which something happened, as it was then.
#[derive(Clone, Debug, PartialEq)]
pub struct EventFinding {
    /// Its id for life.
    pub id: u64,
    /// The rule, or the word for silence.
    pub subject: String,
    /// When it was first seen.
    pub opened: Timestamp,
    /// When its grace ends.
    pub due: Timestamp,
    /// Which time it was failing, from 1.
    pub spell: u32,
}

/// A name that a device had before it was renamed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FormerName {
    /// The name.
    pub name: String,
    /// The device's number.
    pub device: i64,
    /// What it is called now.
    pub now: String,
    /// The run that renamed it.
    pub run: i64,
    /// Another device became one with it.
    pub merged: bool,
}

/// Whether a file was imported before.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// The run that did.
    pub run: i64,
    /// Devices or people were missing in it that were kept, because they were too many.
    pub kept_missing: bool,
}

pub(crate) fn micros(moment: Timestamp) -> i64 {
    moment.as_microsecond()
}

pub(crate) fn moment(micros: i64) -> Timestamp {
    Timestamp::from_microsecond(micros).unwrap_or(if micros < 0 { Timestamp::MIN } else { Timestamp::MAX })
}
