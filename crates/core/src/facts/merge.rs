//! What is known of one device: the observations of its sources, merged fact by fact.
//!
//! For each fact the winner is chosen by, in this order: correction, fresh before stale, right type
//! before wrong, trust, moment of collection, source id. Null is a value.

use crate::canonical::{Canonical, Encode};
use crate::diagnostic::Span;
use bumpalo::Bump;
use jiff::Timestamp;

use crate::facts::layout::{Layout, SlotId};
use crate::facts::period::{Period, WorkCalendar};
use crate::facts::validity::Watch;
use crate::facts::value::{Datum, Reason, Unknown, Value};
use crate::id::DeviceId;

/// What one source said about the device, slot by slot.
#[derive(Clone, Copy, Debug)]
pub struct Observation<'a> {
    /// Who says so.
    pub source: &'a str,
    /// The higher wins.
    pub trust: i64,
    /// When it was collected; none when the document does not say, which only a stateless run accepts.
    pub collected: Option<Timestamp>,
    /// How long its facts are fresh; for ever when none.
    pub fresh_for: Option<Period>,
    /// The calendar by which working days are counted.
    pub calendar: Option<&'a WorkCalendar>,
    /// One value a slot.
    pub slots: &'a [Value<'a>],
}

/// A fact set by hand for one device.
#[derive(Clone, Debug, PartialEq)]
pub struct Correction {
    /// Which device.
    pub device: DeviceId,
    /// The path it sets.
    pub fact: String,
    /// What it sets it to.
    pub value: Datum,
    /// Why.
    pub because: String,
    /// Who said so.
    pub by: String,
    /// When it ends.
    pub until: Timestamp,
    /// Where it is written.
    pub place: Option<Span>,
}

/// Where a fact came from.
#[derive(Clone, Copy, Debug)]
pub enum Origin<'a> {
    /// A source's observation.
    Observed {
        /// Which source.
        source: &'a str,
        /// When it was collected.
        collected: Option<Timestamp>,
    },
    /// A correction.
    Corrected(&'a Correction),
}

impl Origin<'_> {
    /// Returns when the fact was collected; none for a correction.
    pub fn collected(&self) -> Option<Timestamp> {
        match self {
            Self::Observed { collected, .. } => *collected,
            Self::Corrected(_) => None,
        }
    }
}

/// One fact of a device.
#[derive(Clone, Copy, Debug)]
pub struct Slot<'a> {
    /// Its value, read as its declared type.
    pub value: Value<'a>,
    /// Its value as it came.
    pub raw: Value<'a>,
    /// Who says so; none when nobody does.
    pub origin: Option<Origin<'a>>,
    /// It is older than its source promises.
    pub stale: bool,
}

/// The merged facts of one device.
#[derive(Clone, Copy, Debug)]
pub struct Facts<'a> {
    slots: &'a [Slot<'a>],
    observations: &'a [Observation<'a>],
    layout: &'a Layout,
    at: Timestamp,
    watch: Option<&'a Watch>,
}

impl<'a> Facts<'a> {
    /// Notes from now on until when what is read of these facts holds.
    pub fn watched(self, watch: &'a Watch) -> Self {
        Self { watch: Some(watch), ..self }
    }

    /// Returns what notes until when that holds which is read of the facts.
    pub fn watch(&self) -> Option<&'a Watch> {
        self.watch
    }

    /// Notes until when a slot stays as it is; `fresh` says that its being fresh is asked for.
    #[inline]
    pub fn note_read(&self, slot: SlotId, fresh: bool) {
        if let Some(watch) = self.watch {
            self.note_watched(watch, slot, fresh);
        }
    }

    /// Apart from the above, so that who is not watched does not pay for it.
    #[inline(never)]
    fn note_watched(&self, watch: &Watch, slot: SlotId, fresh: bool) {
        let found = self.slot(slot);
        match found.origin {
            Some(Origin::Corrected(correction)) => watch.note(correction.until),
            // A stale one stays so; a fresh one gives way to another source when it is no longer fresh.
            Some(Origin::Observed { .. }) if fresh || self.observations.len() > 1 => {
                self.last_fresh(slot).into_iter().for_each(|last| watch.note_after(last));
            }
            Some(Origin::Observed { .. }) | None => {}
        }
    }

    /// Returns the last moment at which the source's word on a slot is fresh; none where it always is, is not any more, or was set by
    /// hand.
    pub fn last_fresh(&self, slot: SlotId) -> Option<Timestamp> {
        let found = self.slot(slot);
        match found.origin {
            Some(Origin::Observed { source, .. }) if !found.stale => {
                let said = self.observations.iter().find(|observation| observation.source == source)?;
                last_fresh(said, self.layout.fresh_for(slot).or(said.fresh_for))
            }
            Some(Origin::Observed { .. } | Origin::Corrected(_)) | None => None,
        }
    }

    /// Returns a slot.
    pub fn slot(&self, slot: SlotId) -> &'a Slot<'a> {
        &self.slots[slot.0 as usize]
    }

    /// Returns the newest moment of collection of any source.
    pub fn collected(&self) -> Option<Timestamp> {
        self.observations.iter().filter_map(|observation| observation.collected).max()
    }

    /// Returns whether any source's statement is still fresh.
    pub fn is_fresh(&self) -> bool {
        let Some(until) = self.fresh_until() else { return false };
        let fresh = self.at <= until;
        if let (true, Some(watch)) = (fresh, self.watch)
            && until < Timestamp::MAX
        {
            watch.note_after(until);
        }
        fresh
    }

    /// Returns the last moment at which any source's statement is fresh, the end of time where one always is; none where no source
    /// says anything.
    pub fn fresh_until(&self) -> Option<Timestamp> {
        let last = |observation: &Observation<'_>| last_fresh(observation, observation.fresh_for);
        self.observations.iter().map(|observation| last(observation).unwrap_or(Timestamp::MAX)).max()
    }

    /// Returns the observations that were merged.
    pub fn observations(&self) -> &'a [Observation<'a>] {
        self.observations
    }

    /// Returns what other sources say of a fact: those that lost.
    pub fn losers(&self, slot: SlotId) -> impl Iterator<Item = (&'a Observation<'a>, Value<'a>)> + use<'a> {
        let winner = match self.slot(slot).origin {
            Some(Origin::Observed { source, .. }) => Some(source),
            Some(Origin::Corrected(_)) | None => None,
        };
        self.observations
            .iter()
            .filter(move |observation| winner != Some(observation.source))
            .map(move |observation| (observation, observation.slots[slot.0 as usize]))
            .filter(|(_, value)| !value.is_missing())
    }

    /// Returns what each source says of a fact whose word on it is still fresh, read as its declared type.
    pub fn fresh_statements(&self, slot: SlotId) -> impl Iterator<Item = (&'a Observation<'a>, Slot<'a>)> + use<'a> {
        let (layout, at) = (self.layout, self.at);
        self.observations.iter().filter_map(move |observation| {
            let raw = observation.slots[slot.0 as usize];
            let told = (!raw.is_missing()).then(|| said(observation, raw, slot, layout, at))?;
            (!told.stale).then_some((observation, told))
        })
    }

    /// Returns the layout of the slots.
    pub fn layout(&self) -> &'a Layout {
        self.layout
    }
}

/// The last moment at which what was said is fresh; none when it always is.
impl Observation<'_> {
    /// Returns whether it is no older at a moment than its source promises.
    pub fn is_fresh(&self, at: Timestamp) -> bool {
        last_fresh(self, self.fresh_for).is_none_or(|last| at <= last)
    }
}

fn last_fresh(observation: &Observation<'_>, fresh_for: Option<Period>) -> Option<Timestamp> {
    let (collected, fresh_for) = (observation.collected?, fresh_for?);
    match observation.calendar.filter(|_| fresh_for.has_working_days()) {
        Some(calendar) => Some(fresh_for.after(collected, calendar)),
        None => collected.checked_add(fresh_for.exact()).ok(),
    }
}

/// Merges the observations and corrections of one device as they stand at `at`.
pub fn merge<'a>(
    observations: &'a [Observation<'a>],
    corrections: impl Iterator<Item = &'a Correction>,
    layout: &'a Layout,
    at: Timestamp,
    arena: &'a Bump,
) -> Facts<'a> {
    let mut corrected: Vec<(&Correction, Option<SlotId>)> = corrections
        .filter(|correction| at < correction.until)
        .map(|correction| {
            let slot = layout.child(Layout::ROOT, &correction.fact).and_then(|node| layout.slot(node));
            (correction, slot)
        })
        .collect();
    // The last one written wins, as a later line in a file does.
    corrected.reverse();
    let slot_ids = layout.slots();
    let slots = match observations {
        // Nobody disagrees.
        [only] if corrected.is_empty() => arena.alloc_slice_fill_iter(slot_ids.map(|id| {
            let raw = only.slots[id.0 as usize];
            if raw.is_missing() { nobody(id, layout) } else { said(only, raw, id, layout, at) }
        })),
        _ => {
            arena.alloc_slice_fill_iter(slot_ids.map(|id| match corrected.iter().find(|(_, slot)| *slot == Some(id)) {
                Some((correction, _)) => {
                    let raw = correction.value.to_value(arena);
                    let origin = Some(Origin::Corrected(correction));
                    Slot { value: typed(raw, id, layout), raw, origin, stale: false }
                }
                None => winner(observations, id, layout, at),
            }))
        }
    };
    Facts { slots, observations, layout, at, watch: None }
}

/// Reads a value as the dictionary declares its fact.
fn typed<'a>(raw: Value<'a>, id: SlotId, layout: &'a Layout) -> Value<'a> {
    layout.declared_of(id).map_or(raw, |declared| declared.read(raw, layout.slot_path(id)))
}

/// A fact as one source says it.
fn said<'a>(
    observation: &'a Observation<'a>,
    raw: Value<'a>,
    id: SlotId,
    layout: &'a Layout,
    at: Timestamp,
) -> Slot<'a> {
    let stale = last_fresh(observation, layout.fresh_for(id).or(observation.fresh_for)).is_some_and(|last| at > last);
    let origin = Some(Origin::Observed { source: observation.source, collected: observation.collected });
    Slot { value: typed(raw, id, layout), raw, origin, stale }
}

/// A fact that nobody says anything of.
fn nobody(id: SlotId, layout: &Layout) -> Slot<'_> {
    let missing = Value::missing(layout.slot_path(id));
    Slot { value: missing, raw: missing, origin: None, stale: false }
}

fn winner<'a>(observations: &'a [Observation<'a>], id: SlotId, layout: &'a Layout, at: Timestamp) -> Slot<'a> {
    observations
        .iter()
        .filter(|observation| !observation.slots[id.0 as usize].is_missing())
        .map(|observation| (observation, said(observation, observation.slots[id.0 as usize], id, layout, at)))
        .max_by_key(|(observation, slot)| {
            let wrong = matches!(slot.value, Value::Unknown(Unknown { reason: Reason::WrongType, .. }));
            (!slot.stale, !wrong, observation.trust, observation.collected, std::cmp::Reverse(observation.source))
        })
        .map_or_else(|| nobody(id, layout), |(_, slot)| slot)
}

impl Encode for Correction {
    fn encode(&self, to: &mut Canonical) {
        let Self { device, fact, value, because, by, until, place: _ } = self;
        to.add(device.as_str()).add(fact).add(value).add(because).add(by).add(until);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::dictionary::Dictionary;

    fn moment(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    /// Merges what sources say of one fact and returns the winner's value as shown.
    fn merged(said: &[(&str, i64, &str, Option<&str>, Value<'static>)], correction: Option<&str>, at: &str) -> String {
        let dictionary = Dictionary::default();
        let mut layout = Layout::new(&dictionary);
        let slot = layout.want("owner", &dictionary);
        let arena = Bump::new();
        let rows: Vec<[Value<'_>; 3]> = said.iter().map(|one| [Value::Null, Value::Null, one.4]).collect();
        let observations: Vec<Observation<'_>> = said
            .iter()
            .enumerate()
            .map(|(i, (_, trust, collected, fresh, _))| Observation {
                source: said[i].0,
                trust: *trust,
                collected: Some(moment(collected)),
                fresh_for: fresh.map(|text| Period::parse(text).unwrap()),
                calendar: None,
                slots: &rows[i],
            })
            .collect();
        let corrections: Vec<Correction> = correction
            .map(|until| Correction {
                device: "d".into(),
                fact: "owner".into(),
                value: Datum::Text("corrected".into()),
                because: "we know better".into(),
                by: "it".into(),
                until: moment(until),
                place: None,
            })
            .into_iter()
            .collect();
        merge(&observations, corrections.iter(), &layout, moment(at), &arena).slot(slot).value.show()
    }

    const OLD: &str = "2027-03-01T00:00:00Z";
    const NEW: &str = "2027-03-05T00:00:00Z";
    const AT: &str = "2027-03-06T00:00:00Z";
    const WRONG: Value<'static> = Value::Unknown(Unknown { reason: Reason::WrongType, fact: "owner" });

    #[test]
    fn the_order_of_winning_is_freshness_type_trust_time_and_name() {
        let (a, b) = (Value::Text("a"), Value::Text("b"));
        assert_eq!(merged(&[("x", 10, OLD, Some("3d"), a), ("y", 1, NEW, Some("3d"), b)], None, AT), "b");
        assert_eq!(merged(&[("x", 10, OLD, None, a), ("y", 1, NEW, None, b)], None, AT), "a");
        assert_eq!(merged(&[("x", 10, NEW, None, WRONG), ("y", 1, OLD, None, b)], None, AT), "b");
        assert_eq!(merged(&[("x", 1, OLD, None, a), ("y", 1, NEW, None, b)], None, AT), "b");
        assert_eq!(merged(&[("x", 1, NEW, None, a), ("y", 1, NEW, None, b)], None, AT), "a");
        assert_eq!(merged(&[("x", 1, NEW, None, Value::Null), ("y", 0, NEW, None, b)], None, AT), "empty");
    }

    #[test]
    fn a_correction_outranks_every_source_until_it_ends() {
        let said = [("x", 10, NEW, None, Value::Text("a"))];
        assert_eq!(merged(&said, Some("2027-03-06T00:00:01Z"), AT), "corrected");
        assert_eq!(merged(&said, Some(AT), AT), "a");
    }

    #[test]
    fn freshness_ends_just_after_its_last_moment() {
        let said = [("x", 10, OLD, Some("5d"), Value::Text("a")), ("y", 1, OLD, None, Value::Text("b"))];
        assert_eq!(merged(&said, None, "2027-03-06T00:00:00Z"), "a");
        assert_eq!(merged(&said, None, "2027-03-06T00:00:01Z"), "b");
    }
}
