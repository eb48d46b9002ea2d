//! What becomes of one record before the ledger is asked anything: read, parted, packed and compressed. Done on several cores.

use std::collections::HashSet;

use bumpalo::Bump;
use fencepost_core::{DocumentReader, Facts, Observation, Packer, ReadError, Session};
use fencepost_formats::{
    DocumentSplitter, JsonDocuments, Kept, RawDocument, Record, RejectKind, SecretKey, Source, assemble_in,
};
use fencepost_store::{Bodies, BodyPacker, LedgerError, body_hash};
use jiff::{SignedDuration, Timestamp};

use super::doubts::{LookedAt, Oddities, Slots};
use super::{identity, moment_of};
use crate::facts::documents::Document;
use crate::facts::judge::Judge;
use crate::workspace::project::Project;

/// An observation may claim to be this much later than the import, for clocks that go fast.
const CLOCK_TOLERANCE: SignedDuration = SignedDuration::from_mins(5);
/// What claims to be older comes of a clock that was never set: 1990.
const EARLIEST: Timestamp = Timestamp::constant(631_152_000, 0);

/// Why a record is set aside.
pub(super) struct Refusal {
    pub kind: RejectKind,
    pub reason: String,
    /// The device that it names, where that can be told.
    pub id: Option<String>,
    /// When it was collected, where that can be told.
    pub collected: Option<Timestamp>,
}

impl Refusal {
    pub(super) fn new(kind: RejectKind, reason: String, id: Option<String>) -> Self {
        Self { kind, reason, id, collected: None }
    }

    /// Of a record that is no document.
    pub(super) fn unreadable(error: &ReadError, id: Option<String>) -> Self {
        Self::new(RejectKind::Unreadable, format!("byte {}: {}", error.offset, error.message), id)
    }
}

/// A record that came to nothing: set aside, or the ledger could not be written.
pub(super) enum Unprepared {
    Refused(Refusal),
    Failed(LedgerError),
}

/// A record of state as it will be kept.
pub(super) struct Prepared {
    pub device: String,
    pub collected: Timestamp,
    pub kept: Kept,
    pub hash: [u8; 32],
    /// The body compressed, where it is new.
    pub compressed: Option<Vec<u8>>,
    /// What the rules read of it.
    pub packed: Vec<u8>,
    /// A keyed digest of the record as it came.
    pub content: i64,
    /// The record as it came, where facts were left out and what else is known of the device decides whether they are kept.
    pub undecided: Option<Vec<u8>>,
    /// What is odd in it.
    pub oddities: Oddities,
}

/// What records are prepared by.
#[derive(Clone, Copy)]
pub(super) struct PreparedBy<'p> {
    pub project: &'p Project,
    pub source: &'p Source,
    pub key: &'p SecretKey,
    pub judge: &'p Judge<'p>,
}

/// Prepares records of state.
pub(super) struct Preparer<'p> {
    pub project: &'p Project,
    pub source: &'p Source,
    pub key: &'p SecretKey,
    pub judge: &'p Judge<'p>,
    pub bodies: &'p Bodies,
    /// The beginnings of the hashes of bodies that are kept already.
    pub known: HashSet<[u8; 8]>,
    /// Some facts are the company's devices' alone.
    pub company_only: bool,
    /// Slots of what is looked at for oddities.
    looked_at: LookedAt,
}

/// What a worker uses again and again.
pub(super) struct WorkerScratch<'b> {
    arena: Bump,
    packer: Packer,
    compressor: Option<BodyPacker<'b>>,
    /// Reads records.
    records: JsonDocuments<'b>,
    /// Reads what is kept of them.
    kept: JsonDocuments<'b>,
}

impl<'p> Preparer<'p> {
    /// Creates it; `known` are the beginnings of the hashes of bodies that are kept already.
    pub(super) fn new(by: PreparedBy<'p>, bodies: &'p Bodies, known: HashSet<[u8; 8]>) -> Self {
        let PreparedBy { project, source, key, judge } = by;
        let company_only = project.dictionary.facts.values().any(|declared| declared.company_only);
        let looked_at = LookedAt::of(project);
        Self { project, source, key, judge, bodies, known, company_only, looked_at }
    }

    pub(super) fn scratch(&self) -> WorkerScratch<'p> {
        WorkerScratch {
            arena: Bump::new(),
            packer: Packer::default(),
            compressor: None,
            records: JsonDocuments::with_secrets(self.key),
            kept: JsonDocuments::default(),
        }
    }

    /// Prepares a record.
    pub(super) fn record(&self, scratch: &mut WorkerScratch<'p>, record: Record<'_>) -> Result<Prepared, Unprepared> {
        let Record { document, doubts, .. } = record;
        let document =
            document.map_err(|error| Unprepared::Refused(Refusal::new(error.kind, error.reason, error.id)))?;
        let mut prepared = self.document(scratch, document, None)?;
        prepared.oddities.mapping = doubts;
        Ok(prepared)
    }

    /// Prepares a document; `others` is what else is known of the device, where that decides what is kept.
    pub(super) fn document(
        &self,
        scratch: &mut WorkerScratch<'p>,
        document: RawDocument<'_>,
        others: Option<&[Document]>,
    ) -> Result<Prepared, Unprepared> {
        scratch.arena.reset();
        let (arena, at) = (&scratch.arena, self.judge.at);
        let read = scratch
            .records
            .read_in_place(document, &self.project.gates.layout, arena)
            .map_err(|error| Unprepared::Refused(Refusal::unreadable(&error, None)))?;
        let name = identity(&read.slots[0], "device")
            .map_err(|reason| Unprepared::Refused(Refusal::new(RejectKind::NoId, reason, None)))?;
        let device = self.project.lifecycles.name(name, at);
        let named = |kind, reason: String| Refusal::new(kind, reason, Some(device.to_owned()));
        let collected = moment_of(&read.slots[1], self.project)
            .map_err(|reason| Unprepared::Refused(named(RejectKind::NoTime, reason)))?;
        if collected < EARLIEST {
            let kind = RejectKind::Clock;
            let reason = format!("{}: collected at {collected}, which is before 1990", kind.as_str());
            return Err(Unprepared::Refused(named(kind, reason)));
        }
        if collected > at.checked_add(CLOCK_TOLERANCE).unwrap_or(Timestamp::MAX) {
            let kind = RejectKind::Clock;
            let reason = format!("{}: collected at {collected}, which is after this import ({at})", kind.as_str());
            return Err(Unprepared::Refused(named(kind, reason)));
        }
        let set_aside =
            |kind, reason| Unprepared::Refused(Refusal { collected: Some(collected), ..named(kind, reason) });
        let unreadable = |error: ReadError| {
            let refusal = Refusal::unreadable(&error, Some(device.to_owned()));
            Unprepared::Refused(Refusal { collected: Some(collected), ..refusal })
        };
        let not_spoken_for = |reason| set_aside(RejectKind::NotSpokenFor, reason);
        let source = self.source.id.as_str();
        let as_it_came = read.slots;
        let own = self.judge.observation(source, Some(collected), read.slots);
        let session = Session::new(at, &self.project.config.calendar.zone, arena);
        if self.project.gates.guards(source) {
            let facts = self.facts(device, own, &[], arena).map_err(not_spoken_for)?;
            self.project.gates.admits(source, facts, session).map_err(not_spoken_for)?;
        }
        let company = match others {
            // Nothing is left out of a device that may be the company's before that is told.
            None => !self.company_only,
            Some(others) => {
                let facts = self.facts(device, own, others, arena).map_err(not_spoken_for)?;
                self.project.gates.is_company_device(facts, session)
            }
        };
        let splitter = DocumentSplitter { layout: &self.project.gates.layout, key: self.key, people: false };
        let kept = splitter.keep(document, company, arena).map_err(unreadable)?;
        let whole = assemble_in(&kept.body, device, collected, Some(&kept.volatile_parts), arena);
        let layout = self.project.rules.layout();
        let read = scratch.kept.read_in_place(whole, layout, arena).map_err(unreadable)?;
        let mut packed = Vec::with_capacity(1024);
        if !scratch.packer.pack(read.slots, layout, &mut packed) {
            return Err(set_aside(RejectKind::Unreadable, "it holds what no document can".to_owned()));
        }
        let hash = body_hash(&kept.body);
        let mut compressed = None;
        if !self.known.contains(&hash[..8]) {
            let compressor = match &mut scratch.compressor {
                Some(compressor) => compressor,
                none => none.insert(self.bodies.packer().map_err(Unprepared::Failed)?),
            };
            compressed = Some(compressor.pack(&kept.body).map_err(Unprepared::Failed)?);
        }
        let device = device.to_owned();
        let undecided = (kept.left_out && others.is_none()).then(|| document.bytes().to_vec());
        let content = self.key.tag(document.bytes());
        let oddities =
            self.looked_at.oddities(&Slots { as_it_came, kept: read.slots, left_out: kept.left_out }, self.project);
        Ok(Prepared { device, collected, kept, hash, compressed, packed, content, undecided, oddities })
    }

    /// Merges a record with what other sources say of the device, as far as conditions on records read it.
    fn facts<'a>(
        &'a self,
        device: &str,
        own: Observation<'a>,
        others: &'a [Document],
        arena: &'a Bump,
    ) -> Result<&'a Facts<'a>, String> {
        let layout = &self.project.gates.layout;
        let source = self.source.id.as_str();
        let mut said: Vec<Observation<'a>> = vec![own];
        for other in others.iter().filter(|other| other.source != source) {
            let read = JsonDocuments::default().read(&other.json, layout, arena).map_err(|error| error.message)?;
            said.push(self.judge.observation(&other.source, Some(other.collected), read.slots));
        }
        Ok(arena.alloc(self.judge.merged(device, &said, layout, arena)))
    }
}
