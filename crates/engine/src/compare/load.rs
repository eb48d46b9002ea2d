//! The facts of a set of devices, read once: as they are, as they were at a moment, and as they were run by run.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::{Mutex, PoisonError};

use bumpalo::Bump;
use fencepost_core::drift::{
    FactId, FactPattern, FactScope, FactTable, PastState, PlaceId, RunMoment, Snapshot, TableSettings, Timeline,
    Tolerance, ValueId,
};
use fencepost_core::{Layout, SlotId, Watch};
use fencepost_formats::{JsonDocuments, PathCollector};
use fencepost_store::{DeviceRow, PackedObservation};
use jiff::Timestamp;

use super::past::PastReader;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{DeviceDocuments, Judge};
use crate::ledger_view::damage::damaged;
use crate::ledger_view::device_facts::Devices;
use crate::ledger_view::reading::Reading;

/// Of a set with more different facts than this, the rest is not compared, and that is told.
pub(super) const MOST_FACTS: usize = 50_000;

/// A device of a set, with its facts.
#[derive(Clone, Debug)]
pub(super) struct LoadedDevice {
    pub name: String,
    pub snapshot: Snapshot,
    /// Some source's statement is no older than it promises.
    pub is_fresh: bool,
    /// Time alone changes nothing of this before.
    pub valid_until: Timestamp,
}

/// A set of devices with their facts.
pub(super) struct LoadedSet<'r> {
    reading: &'r Reading<'r>,
    pub table: FactTable<'r>,
    layout: Layout,
    facts: Vec<(SlotId, FactId)>,
    scope: FactScope,
    /// Ascending by name.
    pub devices: Vec<LoadedDevice>,
    /// The patterns of facts that fit nothing that the devices report.
    pub idle_patterns: Vec<String>,
    /// Facts with a tolerance at which some device holds what is no number.
    pub tolerances_of_texts: Vec<String>,
    /// Not all facts are compared: there are too many.
    pub has_more_facts: bool,
}

/// Reads the facts of one device after the other, each document once: what a device is the first to report is read of it and of
/// those that follow, and those before had none of it.
struct SetReader<'s, 'r> {
    judge: &'s Judge<'s>,
    documents: JsonDocuments<'static>,
    paths: PathCollector,
    layout: Layout,
    wanted: HashSet<SlotId>,
    facts: Vec<(SlotId, FactId)>,
    table: FactTable<'r>,
    scope: &'s FactScope,
}

impl SetReader<'_, '_> {
    fn read(&mut self, name: &str, documents: &[Document], arena: &Bump) -> Result<LoadedDevice, EngineError> {
        for document in documents {
            self.note_paths(name, document, arena)?;
        }
        let of = DeviceDocuments { device: name, documents };
        let watch = Watch::default();
        let found = self.judge.facts_by(&mut self.documents, &of, &self.layout, arena)?.watched(&watch);
        let facts = self.facts.iter().map(|(slot, fact)| {
            found.note_read(*slot, false);
            (*fact, found.slot(*slot))
        });
        let snapshot = self.table.snapshot(facts, arena);
        let is_fresh = found.is_fresh();
        Ok(LoadedDevice { name: name.to_owned(), snapshot, is_fresh, valid_until: watch.until() })
    }

    /// Has the facts of a document read that nobody reported before.
    fn note_paths(&mut self, name: &str, document: &Document, arena: &Bump) -> Result<(), EngineError> {
        let added = self.paths.add(&document.json, arena);
        added.map_err(|error| damaged(self.judge.project, name, &error.message))?;
        for path in self.paths.take_new() {
            self.want(&path);
        }
        Ok(())
    }

    fn want(&mut self, path: &str) {
        if !OWN.contains(&path) && self.scope.may_include(path) {
            let slot = self.layout.want(path, &self.judge.project.dictionary);
            if self.wanted.insert(slot) {
                self.facts.push((slot, self.table.fact(path)));
            }
        }
    }
}

/// A state of a device in the past.
pub(super) struct PastDevice {
    pub name: String,
    pub at: Timestamp,
}

impl<'r> LoadedSet<'r> {
    /// Reads the facts of devices; `past` are states that are asked for later, so that what only they report is known too.
    pub(super) fn load(
        reading: &'r Reading<'r>,
        rows: &[DeviceRow],
        settings: TableSettings,
        tolerances: &[Tolerance],
        past: &[PastDevice],
    ) -> Result<Self, EngineError> {
        let judge = reading.judge();
        let scope = settings.scope.clone();
        let mut reader = SetReader {
            judge: &judge,
            documents: JsonDocuments::default(),
            paths: PathCollector::new(MOST_FACTS),
            layout: reading.project.rules.layout().clone(),
            wanted: HashSet::new(),
            facts: Vec::new(),
            table: FactTable::new(&reading.project.dictionary, settings),
            scope: &scope,
        };
        let mut arena = Bump::new();
        for device in past {
            arena.reset();
            for document in reading.documents_at(&device.name, device.at)? {
                reader.note_paths(&device.name, &document, &arena)?;
            }
        }
        // A correction may set what no source reports.
        let corrections = reading.project.corrections.iter().filter(|correction| judge.at < correction.until);
        let corrected: Vec<&str> = corrections.map(|correction| correction.fact.as_str()).collect();
        corrected.iter().for_each(|path| reader.want(path));
        let reader = Mutex::new(reader);
        let mut devices = Vec::with_capacity(rows.len());
        let look = |name: &str, documents: &[Document], arena: &Bump| {
            reader.lock().unwrap_or_else(PoisonError::into_inner).read(name, documents, arena)
        };
        reading.with_documents_of(&judge, Devices::Listed(rows), look, |device| {
            devices.push(device);
            Ok(())
        })?;
        let SetReader { paths: collector, layout, facts, table, .. } =
            reader.into_inner().unwrap_or_else(PoisonError::into_inner);
        let has_more_facts = collector.has_more();
        let paths: BTreeSet<&str> = collector.paths().into_iter().chain(corrected).collect();
        // What is excepted may not have been read at all.
        let is_idle = |pattern: &&FactPattern| {
            !paths.iter().any(|path| pattern.fits_path(path))
                && !table.places().any(|(_, place)| pattern.fits_place(place))
        };
        let patterns =
            scope.facts.iter().chain(&scope.except).chain(tolerances.iter().map(|tolerance| &tolerance.facts));
        let idle_patterns = patterns.filter(is_idle).map(|pattern| pattern.as_str().to_owned()).collect();
        let tolerances_of_texts = tolerances
            .iter()
            .filter(|tolerance| holds_no_numbers(&table, &devices, &tolerance.facts))
            .map(|tolerance| tolerance.facts.as_str().to_owned())
            .collect();
        Ok(Self { reading, tolerances_of_texts, table, layout, facts, scope, devices, idle_patterns, has_more_facts })
    }

    /// Returns the facts of a device as they were at a moment; none where nothing was collected of it by then.
    pub(super) fn state_at(&mut self, device: &str, at: Timestamp) -> Result<Option<Snapshot>, EngineError> {
        let judge = self.reading.judge().as_of(at);
        let documents = self.reading.documents_at(device, at)?;
        if documents.is_empty() {
            return Ok(None);
        }
        let arena = Bump::new();
        let facts = judge.facts(device, &documents, &self.layout, &arena)?;
        let slots = self.facts.iter().map(|(slot, fact)| (*fact, facts.slot(*slot)));
        Ok(Some(self.table.snapshot(slots, &arena)))
    }

    /// Returns the states of devices run by run, of facts that begin with one of `tops` alone; and the runs, the last of which is
    /// the moment that is looked at.
    pub(super) fn timelines(
        &mut self,
        names: &[String],
        tops: &BTreeSet<String>,
    ) -> Result<(Vec<Timeline>, Vec<RunMoment>), EngineError> {
        let reading = self.reading;
        let past = PastReader::new(reading)?;
        let dictionary = &reading.project.dictionary;
        let mut layout = Layout::new(dictionary);
        let mut facts: Vec<(SlotId, FactId)> = Vec::new();
        let paths = self.past_paths(names, tops)?;
        let known: HashMap<&str, FactId> =
            self.facts.iter().map(|(slot, fact)| (self.layout.slot_path(*slot), *fact)).collect();
        for path in paths {
            let fact = known.get(path.as_str()).copied().unwrap_or_else(|| self.table.fact(&path));
            facts.push((layout.want(&path, dictionary), fact));
        }
        let (mut timelines, mut seen) = (Vec::with_capacity(names.len()), BTreeSet::new());
        for name in names {
            let mut timeline = Timeline::default();
            past.each_arrival(name, &layout, |arrival| {
                seen.insert(arrival.run);
                let slots = facts.iter().map(|(slot, fact)| (*fact, arrival.facts.slot(*slot)));
                let snapshot = self.table.snapshot(slots, arrival.arena);
                let fresh_until = arrival.facts.fresh_until();
                timeline.push(PastState { run: arrival.run, collected: arrival.collected, snapshot, fresh_until });
                Ok(())
            })?;
            timelines.push(timeline);
        }
        let mut runs: Vec<RunMoment> =
            seen.into_iter().filter_map(|run| Some(RunMoment { run, at: past.moment(run)? })).collect();
        runs.push(RunMoment { run: i64::MAX, at: reading.judged_at() });
        Ok((timelines, runs))
    }
}

impl LoadedSet<'_> {
    /// Returns the paths that begin with one of `tops` and that devices report, or once did.
    fn past_paths(&self, names: &[String], tops: &BTreeSet<String>) -> Result<BTreeSet<String>, EngineError> {
        let reading = self.reading;
        let is_asked = |path: &str| tops.contains(path.split('.').next().unwrap_or(path));
        let bodies = reading.reader.bodies()?;
        let mut unpacker = bodies.unpacker();
        let (mut arena, mut seen) = (Bump::new(), BTreeSet::new());
        let mut collector = PathCollector::new(MOST_FACTS);
        for name in names {
            for (_, packed) in reading.reader.arrivals_of(name, reading.run)? {
                // Documents that share a body report the same.
                if !seen.insert(packed.document()) {
                    continue;
                }
                arena.reset();
                let document = Document::of(name, packed.unpack(&mut unpacker)?);
                collector
                    .add(&document.json, &arena)
                    .map_err(|error| damaged(reading.project, name, &error.message))?;
            }
        }
        let known = self.facts.iter().map(|(slot, _)| self.layout.slot_path(*slot));
        let once = collector.paths().into_iter().filter(|path| self.scope.may_include(path));
        Ok(known.chain(once).filter(|path| is_asked(path)).map(str::to_owned).collect())
    }
}

/// Returns whether some device holds what is no number at a place that fits a pattern.
fn holds_no_numbers(table: &FactTable<'_>, devices: &[LoadedDevice], pattern: &FactPattern) -> bool {
    let places: BTreeSet<PlaceId> =
        table.places().filter(|(_, place)| pattern.fits_place(place)).map(|(id, _)| id).collect();
    let is_other = |(place, value): (PlaceId, ValueId)| {
        places.contains(&place) && !table.is_container(value) && table.number(value).is_none() && !table.is_null(value)
    };
    !places.is_empty() && devices.iter().any(|device| device.snapshot.cells().any(is_other))
}

/// What every document has, and is no fact of the device.
const OWN: [&str; 2] = ["device", "collected_at"];

impl Reading<'_> {
    /// Returns what each source last said of a device by a moment; nothing where it is retired then, or was not known.
    pub(super) fn documents_at(&self, device: &str, at: Timestamp) -> Result<Vec<Document>, EngineError> {
        let mut latest: BTreeMap<String, PackedObservation> = BTreeMap::new();
        for (_, said) in self.reader.arrivals_of(device, self.run)? {
            let is_newer = latest.get(&said.source).is_none_or(|known| known.collected() <= said.collected());
            if said.collected() <= at && is_newer {
                latest.insert(said.source.clone(), said);
            }
        }
        let bodies = self.reader.bodies()?;
        let mut unpacker = bodies.unpacker();
        let stored = latest.into_values().map(|said| said.unpack(&mut unpacker)).collect::<Result<_, _>>()?;
        Ok(self.project.documents(device, stored, at))
    }
}
