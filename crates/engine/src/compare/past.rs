//! What was known of devices, arrival by arrival.

use std::collections::HashMap;
use std::sync::Arc;

use bumpalo::Bump;
use fencepost_core::{Facts, Layout};
use fencepost_store::Bodies;
use jiff::Timestamp;

use crate::error::EngineError;
use crate::facts::documents::Document;
use crate::ledger_view::reading::Reading;

/// Reads the past of one device after the other.
pub(super) struct PastReader<'r> {
    reading: &'r Reading<'r>,
    /// The moments of the runs that the ledger keeps.
    moments: HashMap<i64, Timestamp>,
    bodies: Arc<Bodies>,
}

/// An arrival that was news: what it brought is newer than what was known.
pub(super) struct Arrival<'a> {
    /// The run that brought it.
    pub run: i64,
    /// The moment of the run.
    pub at: Timestamp,
    /// When it was collected.
    pub collected: Timestamp,
    /// What was known of the device from then on.
    pub facts: &'a Facts<'a>,
    pub arena: &'a Bump,
}

impl<'r> PastReader<'r> {
    pub(super) fn new(reading: &'r Reading<'r>) -> Result<Self, EngineError> {
        let moments = reading.reader.runs()?.into_iter().map(|run| (run.id, run.as_of)).collect();
        Ok(Self { reading, moments, bodies: reading.reader.bodies()? })
    }

    /// Returns the moment of a run that is kept.
    pub(super) fn moment(&self, run: i64) -> Option<Timestamp> {
        self.moments.get(&run).copied()
    }

    /// Goes through what was known of a device, oldest first, with its facts by `layout`.
    ///
    /// # Errors
    /// When the ledger cannot be read, or with the first error of `look`.
    pub(super) fn each_arrival(
        &self,
        device: &str,
        layout: &Layout,
        mut look: impl FnMut(Arrival<'_>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let Self { reading, bodies, .. } = self;
        let mut unpacker = bodies.unpacker();
        let (mut current, mut arena): (Vec<Document>, Bump) = Default::default();
        for (run, packed) in reading.reader.arrivals_of(device, reading.run)? {
            let said = Document::of(device, packed.unpack(&mut unpacker)?);
            let (at, collected) = (self.moment(run).unwrap_or(reading.at), said.collected);
            match current.iter_mut().find(|known| known.source == said.source) {
                // An older one than the current is history, never news.
                Some(known) if known.collected > collected => continue,
                Some(known) => *known = said,
                None => current.push(said),
            }
            current.sort_by(|a, b| a.source.cmp(&b.source));
            arena.reset();
            let judge = reading.judge().as_of(at);
            let life =
                reading.project.life_of(device, current.iter().map(|said| (said.source.as_str(), said.collected)), at);
            let is_of_this_life = |said: &&Document| life.includes(said.collected);
            let of_this_life: Vec<Document>;
            let documents = if current.iter().all(|said| is_of_this_life(&said)) {
                &current
            } else {
                of_this_life = current.iter().filter(is_of_this_life).cloned().collect();
                &of_this_life
            };
            let facts = judge.facts(device, documents, layout, &arena)?;
            look(Arrival { run, at, collected, facts, arena: &arena })?;
        }
        Ok(())
    }
}
