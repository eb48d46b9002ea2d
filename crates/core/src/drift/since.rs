//! Since when devices differ: the comparison made again as of every run that brought something in.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::compare::{CompareSettings, Comparison, Difference, Member, Reference, ReferenceValue, compare};
use super::table::{FactTable, PlaceId, Snapshot};
use crate::facts::value::Datum;

/// The state of a device from one run on.
#[derive(Clone, Debug)]
pub struct PastState {
    /// The run that brought it.
    pub run: i64,
    /// When what was new in it was collected.
    pub collected: Timestamp,
    /// Its facts.
    pub snapshot: Snapshot,
    /// The last moment at which it is fresh; none where nothing is known of it.
    pub fresh_until: Option<Timestamp>,
}

/// The states of a device, in the order in which they came in.
#[derive(Clone, Debug, Default)]
pub struct Timeline {
    states: Vec<PastState>,
}

/// A run that brought something in, or the moment that is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RunMoment {
    /// The run; later ones have larger numbers.
    pub run: i64,
    /// Its moment.
    pub at: Timestamp,
}

/// What devices were held against in the past.
#[derive(Clone, Copy, Debug)]
pub enum PastReference<'s> {
    /// For each fact, the value that most of them held.
    Majority,
    /// One of the devices, by its position among the members, as it was then.
    Member(usize),
    /// A device that is none of them, as it was then.
    Other(&'s Timeline),
    /// One state for all, at any time.
    State(&'s Snapshot),
    /// A state for each, at any time.
    Each(&'s [Option<&'s Snapshot>]),
}

/// What made a difference begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BeganBy {
    /// The device changed.
    Device,
    /// What it is held against changed.
    Reference,
}

impl BeganBy {
    /// Returns the word for it in machine output.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Device => "device",
            Self::Reference => "reference",
        }
    }
}

/// Since when a device differs at a place, as far back as is known.
#[derive(Clone, Debug, PartialEq)]
pub struct Beginning {
    /// Where the device changed: when that was collected; else the moment of the run that moved the reference.
    pub since: Timestamp,
    /// What made it begin.
    pub because: BeganBy,
    /// When the device's own value last changed; none where it never did.
    pub changed_at: Option<Timestamp>,
    /// What it was before that; none where it was missing, or never changed.
    pub was: Option<Datum>,
}

impl Timeline {
    /// Adds the next state.
    pub fn push(&mut self, state: PastState) {
        self.states.push(state);
    }

    /// Returns the last state that a run, or an earlier one, brought.
    fn at(&self, run: i64) -> Option<&PastState> {
        self.states[..self.states.partition_point(|state| state.run <= run)].last()
    }

    /// Returns the states that a run brought.
    fn of_run(&self, run: i64) -> &[PastState] {
        let from = self.states.partition_point(|state| state.run < run);
        &self.states[from..self.states.partition_point(|state| state.run <= run)]
    }
}

/// The past of a set of devices.
#[derive(Clone, Copy, Debug)]
pub struct Past<'s> {
    /// The facts; all that matters to the differences that are asked about is read into the states.
    pub table: &'s FactTable<'s>,
    /// The members' states.
    pub timelines: &'s [Timeline],
    /// What they were held against.
    pub reference: PastReference<'s>,
    /// How they are compared.
    pub settings: CompareSettings<'s>,
    /// The runs, ascending; the last is the moment that is looked at.
    pub runs: &'s [RunMoment],
}

impl Past<'_> {
    /// Finds since when each of the differences has lasted without a break.
    pub fn beginnings(&self, differences: &[Difference]) -> Vec<Beginning> {
        let mut began: BTreeMap<(usize, PlaceId), (RunMoment, ReferenceValue)> = BTreeMap::new();
        let mut before = None;
        for run in self.runs {
            let key = self.known_at(*run);
            // Where no state came in and none grew too old, nothing is otherwise than it was.
            if before.as_ref() == Some(&key) {
                continue;
            }
            before = Some(key);
            let found = self.compare_at(*run);
            let mut still: BTreeMap<(usize, PlaceId), (RunMoment, ReferenceValue)> = BTreeMap::new();
            for one in &found.differences {
                let key = (one.member, one.place);
                still.insert(key, began.get(&key).copied().unwrap_or((*run, one.reference)));
            }
            began = still;
        }
        differences.iter().map(|one| self.beginning(one, began.get(&(one.member, one.place)).copied())).collect()
    }

    /// Which state of each member counts at a run, and whether it is fresh.
    fn known_at(&self, run: RunMoment) -> Vec<(usize, bool)> {
        let other = match self.reference {
            PastReference::Other(timeline) => Some(timeline),
            _ => None,
        };
        let known = |timeline: &Timeline| {
            let count = timeline.states.partition_point(|state| state.run <= run.run);
            let last = timeline.states[..count].last();
            (count, last.is_some_and(|state| is_fresh(state, run.at)))
        };
        self.timelines.iter().chain(other).map(known).collect()
    }

    fn compare_at(&self, run: RunMoment) -> Comparison {
        let states: Vec<Option<&PastState>> = self.timelines.iter().map(|timeline| timeline.at(run.run)).collect();
        let members: Vec<Member<'_>> = states
            .iter()
            .map(|state| Member {
                snapshot: state.map(|state| &state.snapshot),
                votes: state.is_some_and(|state| is_fresh(state, run.at)),
            })
            .collect();
        let nothing = Snapshot::default();
        let of = |state: Option<&'_ PastState>| state.map(|state| state.snapshot.clone());
        let held = match self.reference {
            PastReference::Member(at) => of(states.get(at).copied().flatten()),
            PastReference::Other(timeline) => of(timeline.at(run.run)),
            PastReference::Majority | PastReference::State(_) | PastReference::Each(_) => None,
        };
        let reference = match self.reference {
            PastReference::Majority => Reference::Majority,
            PastReference::State(state) => Reference::State(state),
            PastReference::Each(states) => Reference::Each(states),
            PastReference::Member(_) | PastReference::Other(_) => Reference::State(held.as_ref().unwrap_or(&nothing)),
        };
        // What is left out now was looked for among the states of now.
        let settings = CompareSettings { leave_out_distinct: false, ..self.settings };
        compare(self.table, &members, reference, settings)
    }

    fn beginning(&self, difference: &Difference, began: Option<(RunMoment, ReferenceValue)>) -> Beginning {
        let timeline = &self.timelines[difference.member];
        let class = |state: &PastState| self.class_at(&state.snapshot, difference.place);
        let states = &timeline.states;
        let last_other = states.iter().rposition(|state| class(state) != self.observed(difference));
        let changed = last_other.and_then(|at| Some((&states[at], states.get(at + 1)?)));
        let changed_at = changed.map(|(_, now)| now.collected);
        let was = changed.and_then(|(before, _)| self.table.datum(&before.snapshot, difference.place));
        let newest = states.last().map_or(Timestamp::MIN, |state| state.collected);
        if self.table.has_no_past(difference.place) {
            return Beginning { since: newest, because: BeganBy::Device, changed_at: None, was: None };
        }
        let Some((run, reference)) = began else {
            return Beginning { since: newest, because: BeganBy::Device, changed_at, was };
        };
        let own = timeline.of_run(run.run);
        let earlier = timeline.at(run.run - 1);
        let has_changed = own.last().is_some_and(|now| earlier.is_none_or(|earlier| class(earlier) != class(now)));
        if !has_changed {
            return Beginning { since: run.at, because: BeganBy::Reference, changed_at, was };
        }
        // Of several states that the run brought, the first since which all differ.
        let agrees = |state: &PastState| match reference {
            ReferenceValue::Missing => class(state).is_none(),
            ReferenceValue::Value(value) => class(state) == Some(self.table.class(value)),
            ReferenceValue::Median(_) => class(state) != own.last().and_then(class),
        };
        let first = own.iter().rposition(agrees).map_or(0, |at| at + 1);
        let since = own.get(first).or(own.last()).map_or(newest, |state| state.collected);
        Beginning { since, because: BeganBy::Device, changed_at, was }
    }

    fn class_at(&self, snapshot: &Snapshot, place: PlaceId) -> Option<u32> {
        snapshot.at(place).map(|value| self.table.class(value))
    }

    fn observed(&self, difference: &Difference) -> Option<u32> {
        difference.observed.map(|value| self.table.class(value))
    }
}

fn is_fresh(state: &PastState, at: Timestamp) -> bool {
    state.fresh_until.is_some_and(|until| at <= until)
}
