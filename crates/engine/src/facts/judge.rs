//! The one way to a verdict: documents of a device in, facts, holders and verdicts out.

use std::borrow::Cow;

use bumpalo::Bump;
use fencepost_core::{
    AccessState, Ambient, Correction, DeviceInput, DeviceWaivers, DocumentReader, Evidence, EvidenceSummary, Facts,
    Finding, Holder, Layout, Observation, Session, SlotId, Standing, Value, Verdict, Verdicts, Watch, failing_rules,
    merge, unpack_some,
};
use fencepost_formats::JsonDocuments;
use fencepost_store::{FactsRow, LedgerError};
use jiff::Timestamp;

use crate::compare::results::DriftResults;
use crate::facts::documents::Document;
use crate::facts::people::{AskedMemberships, People};
use crate::ledger_view::damage::damaged;
use crate::workspace::project::Project;

/// Judges devices by a project's rules, as of a moment.
#[derive(Clone, Copy, Debug)]
pub struct Judge<'p> {
    /// The project.
    pub project: &'p Project,
    /// The people.
    pub people: &'p People,
    /// The moment.
    pub at: Timestamp,
    /// What comparisons say of devices; none where nothing was compared.
    drift: Option<&'p DriftResults>,
}

/// Returns what conditions may ask of a device besides its facts at a moment: how it stands, and which rules fail on it.
pub(crate) fn surroundings<'a>(
    standing: Option<Standing>,
    findings: &[Finding],
    at: Timestamp,
    arena: &'a Bump,
) -> Ambient<'a> {
    let running: Vec<&Finding> = findings.iter().filter(|finding| finding.is_running()).collect();
    Ambient {
        standing: standing.map(Standing::as_str),
        failing: standing.map(|_| failing_rules(&running, at, arena)),
        ..Ambient::default()
    }
}

/// What the sources said of a device.
pub(crate) struct DeviceDocuments<'a> {
    pub device: &'a str,
    pub documents: &'a [Document],
}

/// A device with its facts at hand.
#[derive(Clone, Copy, Debug)]
pub struct Judged<'a> {
    /// As rules see it.
    pub input: DeviceInput<'a>,
    /// The value of the fact that parts the fence, as shown.
    pub fence: Option<&'a str>,
}

impl Judged<'_> {
    /// Returns what its holders are called, in one text; none where nobody holds it.
    pub fn holder_names(&self) -> Option<String> {
        let holders = &self.input.holders;
        let names: Vec<&str> =
            holders.iter().map(|holder| holder.person.map_or(holder.id, |person| person.name())).collect();
        (!names.is_empty()).then(|| names.join(", "))
    }
}

/// Returns the ids in a fact that says who holds a device: one, or a list of them.
pub(crate) fn holder_ids<'a>(value: &Value<'a>) -> impl Iterator<Item = Cow<'a, str>> {
    let ids = match value {
        Value::List(list) => list.items,
        one => std::slice::from_ref(one),
    };
    ids.iter().filter_map(|id| match id {
        Value::Text(id) if !id.is_empty() => Some(Cow::Borrowed(*id)),
        Value::Number(number) => Some(Cow::Owned(number.normalize().to_string())),
        _ => None,
    })
}

impl<'p> Judge<'p> {
    /// Returns what devices are evaluated with, besides the rules.
    pub fn session<'a>(&'a self, arena: &'a Bump) -> Session<'a> {
        Session::new(self.at, &self.project.config.calendar.zone, arena)
    }

    /// Creates a judge.
    pub fn new(project: &'p Project, people: &'p People, at: Timestamp) -> Self {
        Self { project, people, at, drift: None }
    }

    /// Returns the same judge with what comparisons of its project's sets say of devices.
    #[must_use]
    pub fn with_comparisons(self, drift: &'p DriftResults) -> Self {
        Self { drift: Some(drift), ..self }
    }

    /// Returns the same judge of a device that was not compared yet.
    #[must_use]
    pub(crate) fn without_comparisons(self) -> Self {
        Self { drift: None, ..self }
    }

    /// Merges what the sources said of a device, by the slots of `layout`.
    ///
    /// # Errors
    /// When a document cannot be read: the ledger is damaged.
    pub fn facts<'a>(
        &'a self,
        device: &'a str,
        documents: &'a [Document],
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<&'a Facts<'a>, LedgerError> {
        self.facts_by(&mut JsonDocuments::default(), &DeviceDocuments { device, documents }, layout, arena)
    }

    /// Does the same with a reader that goes from one device to the next: it knows what documents are like.
    ///
    /// # Errors
    /// As there.
    pub(crate) fn facts_by<'a>(
        &'a self,
        reader: &mut JsonDocuments<'_>,
        of: &DeviceDocuments<'a>,
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<&'a Facts<'a>, LedgerError> {
        let observations = self.observations_by(reader, of, layout, arena)?;
        Ok(arena.alloc(self.merged(of.device, &observations, layout, arena)))
    }

    /// Reads what the sources said of a device, by the slots of `layout`.
    ///
    /// # Errors
    /// When a document cannot be read: the ledger is damaged.
    pub(crate) fn observations<'a>(
        &'a self,
        device: &'a str,
        documents: &'a [Document],
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<Vec<Observation<'a>>, LedgerError> {
        self.observations_by(&mut JsonDocuments::default(), &DeviceDocuments { device, documents }, layout, arena)
    }

    fn observations_by<'a>(
        &'a self,
        reader: &mut JsonDocuments<'_>,
        of: &DeviceDocuments<'a>,
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Result<Vec<Observation<'a>>, LedgerError> {
        let mut read = |said: &'a Document| {
            let read = reader
                .read(&said.json, layout, arena)
                .map_err(|error| damaged(self.project, of.device, &error.message))?;
            Ok(self.observation(&said.source, Some(said.collected), read.slots))
        };
        of.documents.iter().map(&mut read).collect()
    }

    /// Merges the wanted slots of what is kept packed of a device; none where some of it is not, or the device is retired.
    pub(crate) fn packed_facts<'a>(
        &'a self,
        device: &str,
        rows: &'a [FactsRow<'a>],
        wanted: impl Fn(SlotId) -> bool,
        arena: &'a Bump,
    ) -> Option<&'a Facts<'a>> {
        let layout = self.project.rules.layout();
        let life = self.project.life_of(device, rows.iter().map(|said| (said.source, said.collected)), self.at);
        let of_this_life = rows.iter().filter(|said| life.includes(said.collected));
        let mut observations = Vec::with_capacity(rows.len());
        for said in of_this_life {
            let slots = unpack_some(said.packed?, layout, &wanted, arena)?;
            observations.push(self.observation(said.source, Some(said.collected), slots));
        }
        (!observations.is_empty()).then(|| &*arena.alloc(self.merged(device, &observations, layout, arena)))
    }

    /// Returns the slots of `layout` that say who holds a device and where on the fence it stands, and which groups hold it.
    pub(crate) fn usual_slots(&self, layout: &Layout) -> impl Iterator<Item = SlotId> {
        let config = &self.project.config;
        let at = |path: &String| layout.slot(layout.child(Layout::ROOT, path)?);
        let own: Vec<SlotId> = config.holder.iter().chain(&config.fence_by).filter_map(at).collect();
        own.into_iter().chain(self.project.rules.slots_of_groups())
    }

    /// Returns slots as what a source said.
    pub fn observation<'a>(
        &'a self,
        source: &'a str,
        collected: Option<Timestamp>,
        slots: &'a [Value<'a>],
    ) -> Observation<'a> {
        let known = self.project.sources.get(source);
        Observation {
            source,
            trust: known.map_or(0, |source| source.trust),
            collected,
            fresh_for: known.and_then(|source| source.fresh_for),
            calendar: Some(&self.project.config.calendar),
            slots,
        }
    }

    /// Merges observations with the corrections of a device.
    pub fn merged<'a>(
        &'a self,
        device: &str,
        observations: &[Observation<'a>],
        layout: &'a Layout,
        arena: &'a Bump,
    ) -> Facts<'a> {
        let observations: &'a [Observation<'a>] = arena.alloc_slice_copy(observations);
        merge(observations, self.corrections_of(device), layout, self.at, arena)
    }

    /// Returns the corrections of a device, in the order in which they are written.
    pub(crate) fn corrections_of<'c>(&'c self, device: &str) -> impl Iterator<Item = &'c Correction> {
        let lifecycles = &self.project.lifecycles;
        let is_of = move |one: &&Correction| lifecycles.is_same_device(one.device.as_str(), device);
        self.project.corrections.iter().filter(is_of)
    }

    /// Returns a judge of the same rules and people as of another moment.
    pub(crate) fn as_of(&self, at: Timestamp) -> Self {
        Self { at, ..*self }
    }

    /// Returns somebody as the holder of a device; `watch` notes until when the memberships hold.
    pub(crate) fn holder<'a>(&'a self, id: &'a str, watch: Option<&Watch>, arena: &'a Bump) -> Holder<'a> {
        let Self { project, at, .. } = *self;
        self.people.holder(id, &AskedMemberships { project, at, watch, arena })
    }

    /// Returns a device of which nothing is known, and how access rules see it.
    pub(crate) fn stranger<'a>(&'a self, arena: &'a Bump) -> (DeviceInput<'a>, AccessState<'a>) {
        let rules = &self.project.rules;
        let facts = arena.alloc(merge(&[], std::iter::empty(), rules.layout(), self.at, arena));
        let input = DeviceInput { id: "", facts, holders: &[], drift: None };
        (input, rules.access_state_of_stranger(&input, self.session(arena)))
    }

    /// Finds the holders of a device from its facts.
    pub fn judged<'a>(&'a self, device: &'a str, facts: &'a Facts<'a>, arena: &'a Bump) -> Judged<'a> {
        let config = &self.project.config;
        let slot_at = |path: &Option<String>| {
            let node = facts.layout().child(Layout::ROOT, path.as_deref()?)?;
            let slot = facts.layout().slot(node)?;
            facts.note_read(slot, false);
            Some(facts.slot(slot).value)
        };
        let mut ids: Vec<&'a str> = Vec::new();
        for id in slot_at(&config.holder).iter().flat_map(holder_ids) {
            if !ids.contains(&&*id) {
                ids.push(match id {
                    Cow::Borrowed(id) => id,
                    Cow::Owned(id) => arena.alloc_str(&id),
                });
            }
        }
        let holders = arena.alloc_slice_fill_iter(ids.into_iter().map(|id| self.holder(id, facts.watch(), arena)));
        let fence = slot_at(&config.fence_by).and_then(|value| match value {
            Value::Unknown(_) | Value::Null => None,
            known => Some(&*arena.alloc_str(&known.show())),
        });
        let drift = self.drift.map(|results| results.of(device));
        Judged { input: DeviceInput { id: device, facts, holders, drift }, fence }
    }

    /// Returns the ids of a device's holders, and of everybody whom a source names as one: whoever is not believed now may be once
    /// another source's fact has grown old.
    pub(crate) fn possible_holders<'a>(
        &self,
        judged: &Judged<'a>,
        observations: &[Observation<'a>],
    ) -> Vec<Cow<'a, str>> {
        let layout = judged.input.facts.layout();
        let at = |path: &str| layout.slot(layout.child(Layout::ROOT, path)?);
        let slot = self.project.config.holder.as_deref().and_then(at);
        let mut ids: Vec<Cow<'a, str>> = judged.input.holders.iter().map(|holder| Cow::Borrowed(holder.id)).collect();
        for said in observations {
            let named = slot.and_then(|slot| said.slots.get(slot.0 as usize));
            for id in named.into_iter().flat_map(holder_ids) {
                if !ids.contains(&id) {
                    ids.push(id);
                }
            }
        }
        ids
    }

    /// Reads a stored device by the slots of the rule set.
    ///
    /// # Errors
    /// When a document cannot be read: the ledger is damaged.
    pub fn device<'a>(
        &'a self,
        device: &'a str,
        documents: &'a [Document],
        arena: &'a Bump,
    ) -> Result<Judged<'a>, LedgerError> {
        let facts = self.facts(device, documents, self.project.rules.layout(), arena)?;
        Ok(self.judged(device, facts, arena))
    }

    /// Returns the verdicts of all rules.
    pub fn verdicts<'a>(&'a self, input: &DeviceInput<'a>, arena: &'a Bump) -> Verdicts {
        self.project.rules.evaluate(input, self.session(arena))
    }

    /// Returns the verdicts of the rules of sets alone, which come last in [`Self::verdicts`].
    pub(crate) fn verdicts_of_comparisons<'a>(&'a self, input: &DeviceInput<'a>, arena: &'a Bump) -> Verdicts {
        self.project.rules.evaluate_drift(input, self.session(arena))
    }

    /// Returns the waivers that are for a device.
    pub(crate) fn waivers<'a>(&'a self, input: &DeviceInput<'a>, arena: &'a Bump) -> DeviceWaivers<'a> {
        self.project.rules.waivers_of(input, self.session(arena))
    }

    /// Returns what the clock of a finding goes by, of the evidence of a verdict.
    pub fn evidence_summary<'a>(
        &'a self,
        verdict: &Verdict,
        input: &DeviceInput<'a>,
        arena: &'a Bump,
    ) -> EvidenceSummary {
        self.project.rules.evidence_summary(verdict, input, self.session(arena))
    }

    /// Returns the proof of a verdict.
    pub fn prove<'a>(&'a self, verdict: &Verdict, input: &DeviceInput<'a>, arena: &'a Bump) -> Evidence {
        self.project.rules.prove(verdict, input, self.session(arena))
    }
}
