//! The one loader of the facts of all devices: from what is packed of them where that tells all that is wanted, else from their
//! documents; on several cores, in the order of the devices' ids.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

use bumpalo::Bump;
use fencepost_core::{Facts, Layout, SlotId, Value};
use fencepost_formats::JsonDocuments;
use fencepost_store::{Bodies, BodyUnpacker, DeviceRow, LayoutFingerprints, Reader};

use super::batch::{Batch, DEVICES, Job};
use super::reading::Reading;
use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::facts::judge::{DeviceDocuments, Judge};
use crate::workers::{AHEAD, Workers, cores, handed_out};
use crate::workspace::project::Project;

/// Which facts are looked at, besides those that say who holds a device and which groups do.
#[derive(Clone, Copy)]
pub(crate) struct Wanted<'s> {
    /// Begins with the slots of the rules.
    layout: &'s Layout,
    slots: &'s [SlotId],
    /// With all that is in them, not only with what the rules read of it.
    whole: bool,
    /// Of which devices.
    devices: Devices<'s>,
}

impl<'s> Wanted<'s> {
    /// Slots of a layout, with all that is in them.
    pub(crate) fn whole(layout: &'s Layout, slots: &'s [SlotId]) -> Self {
        Self { layout, slots, whole: true, devices: Devices::All }
    }

    /// Slots of a layout, as the rules read them.
    pub(crate) fn as_read(layout: &'s Layout, slots: &'s [SlotId]) -> Self {
        Self { layout, slots, whole: false, devices: Devices::All }
    }
}

impl<'s> Wanted<'s> {
    /// The same of some devices alone.
    pub(crate) fn of(self, devices: &'s [DeviceRow]) -> Self {
        Self { devices: Devices::Listed(devices), ..self }
    }
}

/// What the facts of devices are loaded by.
struct Loader<'l> {
    project: &'l Project,
    judge: &'l Judge<'l>,
    layout: &'l Layout,
    wanted: Wanted<'l>,
    /// For each slot, whether it is wanted, or says who holds a device or which groups do.
    needed: Vec<bool>,
    /// The run as of which the ledger is read; none for what it holds now.
    run: Option<i64>,
    bodies: Arc<Bodies>,
    /// How devices stand is wanted too.
    with_standings: bool,
}

/// What a worker uses for one device after the other.
struct Scratch<'b> {
    arena: Bump,
    unpacker: BodyUnpacker<'b>,
    documents: JsonDocuments<'static>,
}

impl Loader<'_> {
    fn scratch(&self) -> Scratch<'_> {
        Scratch { arena: Bump::new(), unpacker: self.bodies.unpacker(), documents: JsonDocuments::default() }
    }

    /// Returns whether facts may be packed: only what is current is, and by no more slots than the rules have.
    fn may_be_packed(&self) -> bool {
        self.run.is_none() && self.layout.len() == self.project.rules.layout().len()
    }

    /// Returns whether packed facts are all that is wanted. The items of lists are packed without what the rules do not look at.
    fn is_whole(&self, facts: &Facts<'_>) -> bool {
        let is_part = |slot: &SlotId| matches!(facts.slot(*slot).raw, Value::List(_) | Value::Object(_));
        !self.wanted.whole || !self.wanted.slots.iter().any(is_part)
    }

    /// Gathers what the ledger holds of the devices of a batch, with their documents where that is asked for.
    fn fill(&self, reader: &Reader<'_>, batch: &mut Batch, with_documents: bool) -> Result<(), EngineError> {
        match self.run {
            None => {
                let fingerprints = LayoutFingerprints { now: self.project.layout_fingerprint(), earlier: None };
                batch.fill(reader, fingerprints, |_, _, _| with_documents)?;
                if self.with_standings {
                    batch.fill_standings(reader, None)?;
                }
            }
            // What is beside the devices is of now.
            Some(run) => batch.fill_as_of(reader, run)?,
        }
        Ok(())
    }

    /// Unpacks what each source said of a device; nothing where it is retired.
    fn documents(&self, scratch: &mut Scratch<'_>, job: &Job<'_>) -> Result<Vec<Document>, EngineError> {
        let unpacker = &mut scratch.unpacker;
        let stored = job.documents.iter().map(|stored| stored.unpack(unpacker)).collect::<Result<_, _>>()?;
        Ok(self.project.documents(job.device.name.as_str(), stored, self.judge.at))
    }

    /// Gathers what the ledger holds of the devices of a batch, and returns what `look` finds of each.
    fn look_at<T>(
        &self,
        reader: &Reader<'_>,
        scratch: &mut Scratch<'_>,
        batch: &mut Batch,
        look: &impl for<'a> Fn(&'a Job<'a>, &'a Facts<'a>, &'a Bump) -> Result<T, EngineError>,
    ) -> Result<Vec<T>, EngineError> {
        let packed_will_do = self.may_be_packed();
        self.fill(reader, batch, !packed_will_do)?;
        let is_needed = |slot: SlotId| self.needed[slot.0 as usize];
        let mut found = Vec::with_capacity(DEVICES);
        for at in batch.places() {
            scratch.arena.reset();
            if packed_will_do {
                let job = batch.job(at);
                let facts = self.judge.packed_facts(&job.device.name, &job.facts, is_needed, &scratch.arena);
                if let Some(facts) = facts.filter(|facts| self.is_whole(facts)) {
                    found.push(look(&job, facts, &scratch.arena)?);
                    continue;
                }
                batch.read_documents(at, reader)?;
                scratch.arena.reset();
            }
            found.extend(self.look_at_documents(scratch, &batch.job(at), look)?);
        }
        Ok(found)
    }

    /// Returns what `look` finds of a device by its documents; none where it has none.
    fn look_at_documents<T>(
        &self,
        scratch: &mut Scratch<'_>,
        job: &Job<'_>,
        look: &impl for<'a> Fn(&'a Job<'a>, &'a Facts<'a>, &'a Bump) -> Result<T, EngineError>,
    ) -> Result<Option<T>, EngineError> {
        let documents = self.documents(scratch, job)?;
        if documents.is_empty() {
            return Ok(None);
        }
        let Scratch { arena, documents: reader, .. } = scratch;
        let arena = &*arena;
        let of = DeviceDocuments { device: &job.device.name, documents: &documents };
        let facts = self.judge.facts_by(reader, &of, self.layout, arena)?;
        look(job, facts, arena).map(Some)
    }
}

/// Fewer devices that are listed are gone through on one core.
const FEW_LISTED: usize = 16 * DEVICES;

/// Which devices are gone through.
#[derive(Clone, Copy)]
pub(crate) enum Devices<'d> {
    /// All that are not retired.
    All,
    /// These, as far as they are not retired; how they stand is not told.
    Listed(&'d [DeviceRow]),
}

impl Reading<'_> {
    /// Goes through the wanted devices as far as they are not retired, with the wanted of their facts by `layout`, which begins with
    /// the slots of the rules; what says who holds a device, and which groups do, is wanted always. `look` is done on several cores; `take` is
    /// given what it found, ascending by the devices' ids, or in the order in which they are listed.
    ///
    /// # Errors
    /// Fails if the ledger cannot be read, or with the first error of `look` or `take`.
    pub(crate) fn with_facts<T: Send>(
        &self,
        judge: &Judge<'_>,
        wanted: Wanted<'_>,
        look: impl for<'a> Fn(&'a Job<'a>, &'a Facts<'a>, &'a Bump) -> Result<T, EngineError> + Sync,
        take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let devices = wanted.devices;
        let loader = Loader { with_standings: matches!(devices, Devices::All), ..self.loader(judge, wanted)? };
        let work = |reader: &Reader<'_>, scratch: &mut Scratch<'_>, batch: &mut Batch| {
            loader.look_at(reader, scratch, batch, &look)
        };
        self.in_batches(devices, || loader.scratch(), work, take)
    }

    /// Goes through some devices, each by its name and with what each source said of it; `look` and `take` are as for
    /// [`Self::with_facts`].
    ///
    /// # Errors
    /// As there.
    pub(crate) fn with_documents_of<T: Send>(
        &self,
        judge: &Judge<'_>,
        devices: Devices<'_>,
        look: impl Fn(&str, &[Document], &Bump) -> Result<T, EngineError> + Sync,
        take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let loader = self.loader(judge, Wanted::as_read(self.project.rules.layout(), &[]))?;
        let work = |reader: &Reader<'_>, scratch: &mut Scratch<'_>, batch: &mut Batch| {
            loader.fill(reader, batch, true)?;
            let mut found = Vec::with_capacity(DEVICES);
            for job in batch.jobs() {
                scratch.arena.reset();
                let documents = loader.documents(scratch, &job)?;
                if !documents.is_empty() {
                    found.push(look(&job.device.name, &documents, &scratch.arena)?);
                }
            }
            Ok(found)
        };
        self.in_batches(devices, || loader.scratch(), work, take)
    }

    fn loader<'l>(&'l self, judge: &'l Judge<'l>, wanted: Wanted<'l>) -> Result<Loader<'l>, EngineError> {
        let Wanted { layout, slots, .. } = wanted;
        let needed: BTreeSet<SlotId> = judge.usual_slots(layout).chain(slots.iter().copied()).collect();
        Ok(Loader {
            project: self.project,
            judge,
            layout,
            wanted,
            needed: layout.slots().map(|slot| needed.contains(&slot)).collect(),
            run: self.run,
            bodies: self.reader.bodies()?,
            with_standings: false,
        })
    }

    /// Works through devices batch by batch: `work` on several cores, each with a scratch of its own, and `take` in order.
    fn in_batches<'b, T: Send>(
        &self,
        devices: Devices<'_>,
        scratch: impl Fn() -> Scratch<'b> + Sync,
        work: impl Fn(&Reader<'_>, &mut Scratch<'b>, &mut Batch) -> Result<Vec<T>, EngineError> + Sync,
        mut take: impl FnMut(T) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        // The next devices are looked up while others are looked at.
        let mut last = String::new();
        let mut listed = match devices {
            Devices::All => &[],
            Devices::Listed(listed) => listed,
        };
        let mut next = |batch: Batch| {
            let found = match devices {
                Devices::All => self.reader.devices_after(&last, DEVICES)?,
                Devices::Listed(_) => {
                    let (now, later) = listed.split_at(listed.len().min(DEVICES));
                    listed = later;
                    now.to_vec()
                }
            };
            if let Some(device) = found.last() {
                last.clone_from(&device.name);
            }
            Ok::<_, EngineError>(batch.of(&mut found.into_iter()))
        };
        let Some(mut first) = next(Batch::default())? else { return Ok(()) };
        // A few devices are not worth a thread, with a connection of its own.
        let are_few = match devices {
            Devices::All => first.places().len() < DEVICES,
            Devices::Listed(all) => all.len() < FEW_LISTED,
        };
        let workers = if are_few { 1 } else { cores(None) };
        let snapshot_readers = if workers > 1 { self.reader.snapshot_readers(workers) } else { Vec::new() };
        if snapshot_readers.is_empty() {
            let mut scratch = scratch();
            loop {
                let found = work(&self.reader, &mut scratch, &mut first)?;
                found.into_iter().try_for_each(&mut take)?;
                match next(first)? {
                    Some(batch) => first = batch,
                    None => return Ok(()),
                }
            }
        }
        let snapshot_readers = Mutex::new(snapshot_readers);
        let prepare = || {
            let snapshot_reader = snapshot_readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
            (snapshot_reader.expect("there is one for each worker"), scratch())
        };
        handed_out(
            &mut (Some(first), Vec::<Batch>::new()),
            Workers { count: workers, ahead: AHEAD, prepare },
            |(first, batches)| match first.take() {
                Some(first) => Ok(Some(first)),
                None => next(batches.pop().unwrap_or_default()),
            },
            |(snapshot_reader, scratch), mut batch: Batch| {
                let found = work(&snapshot_reader.reader(), scratch, &mut batch);
                (batch, found)
            },
            |(_, batches), (batch, found)| {
                found?.into_iter().try_for_each(&mut take)?;
                batches.push(batch);
                Ok(())
            },
        )
    }
}
