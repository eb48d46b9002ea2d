//! Compares devices that ought to be alike with one another, with one of them, or with how they were.

use std::rc::Rc;

use rust_decimal::Decimal;

use super::place::FactPattern;
use super::table::{FactTable, PlaceId, Snapshot, ValueId};
use crate::facts::value::Datum;

/// How far a number may be from the reference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tolerance {
    /// The facts that it is for.
    pub facts: FactPattern,
    /// How far, in the fact's unit, or as a part of the reference.
    pub amount: Decimal,
    /// It is a part of the reference.
    pub of_reference: bool,
}

impl Tolerance {
    /// Returns whether a number is close enough to the reference, the ends included.
    fn allows(&self, number: Decimal, reference: Decimal) -> bool {
        let most = match self.of_reference {
            true => reference.abs().checked_mul(self.amount),
            false => Some(self.amount),
        };
        let apart = number.checked_sub(reference).map(|apart| apart.abs());
        most.zip(apart).is_some_and(|(most, apart)| apart <= most)
    }
}

/// A device that is compared.
#[derive(Clone, Copy, Debug)]
pub struct Member<'s> {
    /// Its facts; none where nothing is known of it at the moment that is looked at.
    pub snapshot: Option<&'s Snapshot>,
    /// Whether what it holds counts towards what most hold: not where its state is too old.
    pub votes: bool,
}

/// What devices are held against.
#[derive(Clone, Copy, Debug)]
pub enum Reference<'s> {
    /// For each fact, the value that most of them hold.
    Majority,
    /// One state for all.
    State(&'s Snapshot),
    /// A state for each, none where there is none of it; as long as the members.
    Each(&'s [Option<&'s Snapshot>]),
}

/// How devices are compared.
#[derive(Clone, Copy, Debug, Default)]
pub struct CompareSettings<'s> {
    /// How far numbers may be from the reference; the first that fits counts.
    pub tolerances: &'s [Tolerance],
    /// Facts of which nearly every device holds another value are left out.
    pub leave_out_distinct: bool,
}

/// How a device differs at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DifferenceKind {
    /// It holds another value.
    Changed,
    /// It lacks what it should have.
    Missing,
    /// It has what it should not.
    Extra,
}

impl DifferenceKind {
    /// Returns the word for it in machine output.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Changed => "changed",
            Self::Missing => "missing",
            Self::Extra => "extra",
        }
    }
}

/// How many of those that count hold the reference.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Share {
    /// How many hold it.
    pub holders: usize,
    /// How many count.
    pub voters: usize,
}

impl Share {
    /// Returns the part of the whole, from 0 to 1.
    pub fn fraction(self) -> f64 {
        self.holders as f64 / self.voters as f64
    }

    /// Returns whether it is enough for a common value: three count, and six in ten hold it.
    pub fn is_common(self) -> bool {
        self.voters >= 3 && self.holders * 10 >= self.voters * 6
    }
}

/// What is held against a device at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReferenceValue {
    /// Nothing stands there.
    Missing,
    /// A value.
    Value(ValueId),
    /// The median of numbers.
    Median(Decimal),
}

/// A difference of a device from the reference.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The device, by its position among the members.
    pub member: usize,
    /// Where.
    pub place: PlaceId,
    /// What it holds; none where it lacks it.
    pub observed: Option<ValueId>,
    /// What it should hold.
    pub reference: ReferenceValue,
    /// How many hold the reference; none where it is not what most hold.
    pub share: Option<Share>,
}

impl Difference {
    /// Returns how the device differs.
    pub fn kind(&self) -> DifferenceKind {
        match (self.observed, self.reference) {
            (None, _) => DifferenceKind::Missing,
            (Some(_), ReferenceValue::Missing) => DifferenceKind::Extra,
            (Some(_), _) => DifferenceKind::Changed,
        }
    }
}

/// What a comparison came to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// The differences, ascending by device, then by place.
    pub differences: Vec<Difference>,
    /// The places at which there is no value that most hold, ascending.
    pub no_common_value: Vec<PlaceId>,
    /// The places that were left out, since nearly all differ there, ascending.
    pub left_out: Vec<PlaceId>,
}

/// Fewer devices than this are no reason to leave a fact out.
const LEAST_FOR_DISTINCT: usize = 5;

/// Below a place of these devices nothing more is told.
#[derive(Clone, Debug)]
enum Told {
    Everyone,
    /// By their positions, ascending.
    Members(Rc<[usize]>),
}

/// What stands at a place on the members that have something there, ascending by member.
type Cells = Vec<(usize, ValueId)>;

/// Compares devices.
///
/// Of an object that is missing or extra as a whole, nothing below it is told; nor of what has no common value.
pub fn compare(
    table: &FactTable<'_>,
    members: &[Member<'_>],
    reference: Reference<'_>,
    settings: CompareSettings<'_>,
) -> Comparison {
    let comparer = Comparer::new(table, members, reference, settings);
    let columns = columns_of(table, members);
    let mut told: Vec<Told> = Vec::with_capacity(columns.len());
    let mut found = Comparison::default();
    for (index, cells) in columns.iter().enumerate() {
        let place = PlaceId::of_index(index);
        // What a place lies in has a smaller number.
        let above = table.parent(place).map_or_else(|| Told::Members(Rc::new([])), |above| told[above.index()].clone());
        let below = match above {
            Told::Everyone => Told::Everyone,
            Told::Members(passed_over) => comparer.look_at(place, cells, passed_over, &mut found),
        };
        told.push(below);
    }
    let ranks = ranks_of(table, found.differences.iter().map(|one| one.place));
    found.differences.sort_unstable_by_key(|one| (one.member, ranks[one.place.index()]));
    found.no_common_value.sort_by_key(|place| table.place(*place));
    found.left_out.sort_by_key(|place| table.place(*place));
    found
}

/// Returns where each of some places stands in the order of places, by its number: many differences lie at few places.
fn ranks_of(table: &FactTable<'_>, places: impl Iterator<Item = PlaceId>) -> Vec<u32> {
    let mut is_asked = vec![false; table.place_count()];
    places.for_each(|place| is_asked[place.index()] = true);
    let mut asked: Vec<usize> = (0..is_asked.len()).filter(|at| is_asked[*at]).collect();
    asked.sort_by_key(|at| table.place(PlaceId::of_index(*at)));
    let mut ranks = vec![0; table.place_count()];
    for (rank, at) in (0..).zip(asked) {
        ranks[at] = rank;
    }
    ranks
}

/// Returns what most devices hold, place by place; what has no common value, or is left out since nearly all differ, is missing.
pub fn common_state(table: &FactTable<'_>, members: &[Member<'_>], settings: CompareSettings<'_>) -> Snapshot {
    let comparer = Comparer::new(table, members, Reference::Majority, settings);
    let columns = columns_of(table, members);
    let mut held: Vec<bool> = Vec::with_capacity(columns.len());
    let mut cells = Vec::new();
    for (index, column) in columns.iter().enumerate() {
        let place = PlaceId::of_index(index);
        let is_inside = table.parent(place).is_none_or(|above| held[above.index()]);
        let value = if is_inside { comparer.common_value(place, column) } else { None };
        cells.extend(value.map(|value| (place, value)));
        held.push(value.is_some());
    }
    Snapshot::of_cells(cells)
}

/// Returns what stands at each place on the members that have something there.
fn columns_of(table: &FactTable<'_>, members: &[Member<'_>]) -> Vec<Cells> {
    let mut columns: Vec<Cells> = vec![Vec::new(); table.place_count()];
    for (at, member) in members.iter().enumerate() {
        for (place, value) in member.snapshot.iter().flat_map(|snapshot| snapshot.cells()) {
            columns[place.index()].push((at, value));
        }
    }
    columns
}

struct Comparer<'c> {
    table: &'c FactTable<'c>,
    members: &'c [Member<'c>],
    reference: Reference<'c>,
    settings: CompareSettings<'c>,
    /// How many devices there are of which something is known.
    known: usize,
    /// How many of them count.
    voters: usize,
}

/// What most hold at a place.
struct Vote {
    value: ReferenceValue,
    share: Share,
}

impl<'c> Comparer<'c> {
    fn new(
        table: &'c FactTable<'c>,
        members: &'c [Member<'c>],
        reference: Reference<'c>,
        settings: CompareSettings<'c>,
    ) -> Self {
        let known = members.iter().filter(|member| member.snapshot.is_some());
        let voters = known.clone().filter(|member| member.votes).count();
        Self { table, members, reference, settings, known: known.count(), voters }
    }

    /// Compares what stands at one place, and returns of whom nothing more is told below it.
    fn look_at(&self, place: PlaceId, cells: &Cells, passed_over: Rc<[usize]>, found: &mut Comparison) -> Told {
        let tolerance = self.tolerance(place);
        let tally = self.tally(cells);
        if self.settings.leave_out_distinct
            && tolerance.is_none_or(|tolerance| !tolerance.facts.names(self.table.place(place)))
            && !self.table.is_named(place)
            && is_mostly_distinct(tally.len(), cells.len(), self.known)
        {
            found.left_out.push(place);
            return Told::Everyone;
        }
        let vote = match self.reference {
            Reference::Majority if self.is_same(cells, &tally, tolerance) => return Told::Members(passed_over),
            Reference::Majority => match self.vote(cells, &tally, tolerance) {
                Some(vote) => Some(vote),
                None => {
                    found.no_common_value.push(place);
                    return Told::Everyone;
                }
            },
            Reference::State(_) | Reference::Each(_) => None,
        };
        let before = found.differences.len();
        let mut add = |member: usize, observed: Option<ValueId>| {
            if self.members[member].snapshot.is_none() || passed_over.binary_search(&member).is_ok() {
                return;
            }
            let (reference, share) = match (&vote, self.reference) {
                (Some(vote), _) => (vote.value, Some(vote.share)),
                (None, Reference::State(state)) => (value_at(state, place), None),
                (None, Reference::Each(states)) => match states.get(member).copied().flatten() {
                    Some(state) => (value_at(state, place), None),
                    None => return,
                },
                (None, Reference::Majority) => return,
            };
            if !self.agree(observed, reference, tolerance) {
                found.differences.push(Difference { member, place, observed, reference, share });
            }
        };
        let is_missing = vote.as_ref().is_some_and(|vote| vote.value == ReferenceValue::Missing);
        if is_missing {
            // Whoever holds something differs, and nobody else.
            cells.iter().for_each(|(member, value)| add(*member, Some(*value)));
            return Told::Everyone;
        }
        let mut cells = cells.iter().copied().peekable();
        for member in 0..self.members.len() {
            add(member, cells.next_if(|(own, _)| *own == member).map(|(_, value)| value));
        }
        if found.differences.len() == before {
            return Told::Members(passed_over);
        }
        let differing = found.differences[before..].iter().map(|one| one.member);
        let mut told: Vec<usize> = passed_over.iter().copied().chain(differing).collect();
        told.sort_unstable();
        Told::Members(told.into())
    }

    /// Counts how many devices hold a value of each class, ascending by class.
    fn tally(&self, cells: &Cells) -> Vec<(u32, usize)> {
        let mut classes: Vec<u32> = cells.iter().map(|(_, value)| self.table.class(*value)).collect();
        classes.sort_unstable();
        classes.chunk_by(|a, b| a == b).map(|equal| (equal[0], equal.len())).collect()
    }

    /// Returns what all or most hold at a place; none where that is nothing, or there is no such value.
    fn common_value(&self, place: PlaceId, cells: &Cells) -> Option<ValueId> {
        let tolerance = self.tolerance(place);
        let tally = self.tally(cells);
        if self.settings.leave_out_distinct
            && !self.table.is_named(place)
            && is_mostly_distinct(tally.len(), cells.len(), self.known)
        {
            return None;
        }
        if tolerance.is_none() && self.is_same(cells, &tally, None) {
            return cells.first().map(|(_, value)| *value);
        }
        match self.vote(cells, &tally, tolerance)?.value {
            ReferenceValue::Missing => None,
            ReferenceValue::Value(value) => Some(value),
            // The number that somebody holds and that is the nearest to it.
            ReferenceValue::Median(median) => {
                let distance = |value: ValueId| Some((self.table.number(value)?.checked_sub(median)?.abs(), value));
                cells.iter().filter_map(|(_, value)| distance(*value)).min().map(|(_, value)| value)
            }
        }
    }

    fn tolerance(&self, place: PlaceId) -> Option<&Tolerance> {
        let place = self.table.place(place);
        self.settings.tolerances.iter().find(|tolerance| tolerance.facts.fits_place(place))
    }

    /// Returns whether what a device holds is as good as the reference.
    fn agree(&self, observed: Option<ValueId>, reference: ReferenceValue, tolerance: Option<&Tolerance>) -> bool {
        let number = |value: ValueId| self.table.number(value);
        match (observed, reference) {
            (None, ReferenceValue::Missing) => true,
            (None, _) | (Some(_), ReferenceValue::Missing) => false,
            (Some(own), ReferenceValue::Median(median)) => {
                number(own).is_some_and(|own| tolerance.is_some_and(|tolerance| tolerance.allows(own, median)))
            }
            (Some(own), ReferenceValue::Value(value)) => {
                let is_near = |tolerance: &Tolerance| {
                    number(own).zip(number(value)).is_some_and(|(own, value)| tolerance.allows(own, value))
                };
                self.table.class(own) == self.table.class(value) || tolerance.is_some_and(is_near)
            }
        }
    }

    /// Returns whether all devices hold the same; with a tolerance, whether they are all close enough to their median.
    fn is_same(&self, cells: &Cells, tally: &[(u32, usize)], tolerance: Option<&Tolerance>) -> bool {
        if cells.is_empty() {
            return true;
        }
        if cells.len() < self.known {
            return false;
        }
        if tally.len() <= 1 {
            return true;
        }
        let Some(tolerance) = tolerance else { return false };
        let numbers: Vec<Decimal> = cells.iter().filter_map(|(_, value)| self.table.number(*value)).collect();
        let is_near = |median: Decimal| numbers.iter().all(|number| tolerance.allows(*number, median));
        let of_voters = cells.iter().filter(|(at, _)| self.members[*at].votes);
        let voted = of_voters.filter_map(|(_, value)| self.table.number(*value)).collect();
        numbers.len() == cells.len() && median(voted).is_some_and(is_near)
    }

    /// Returns what most of those that count hold; none where there is no such value.
    fn vote(&self, cells: &Cells, tally: &[(u32, usize)], tolerance: Option<&Tolerance>) -> Option<Vote> {
        let of_voters = || cells.iter().filter(|(at, _)| self.members[*at].votes).map(|(_, value)| *value);
        let common = |holders: usize, value: ReferenceValue| {
            let share = Share { holders, voters: self.voters };
            share.is_common().then_some(Vote { value, share })
        };
        if let Some(tolerance) = tolerance
            && let numbers = of_voters().filter_map(|value| self.table.number(value)).collect::<Vec<Decimal>>()
            && let Some(median) = median(numbers.clone())
        {
            let holders = numbers.iter().filter(|number| tolerance.allows(**number, median)).count();
            if let Some(vote) = common(holders, ReferenceValue::Median(median)) {
                return Some(vote);
            }
        }
        let holding = of_voters().count();
        if let Some(vote) = common(self.voters - holding, ReferenceValue::Missing) {
            return Some(vote);
        }
        // Only a value that enough of all hold can be held by enough of those that count.
        let may_be_common = tally.iter().filter(|(_, holders)| holders * 10 >= self.voters * 6);
        may_be_common.into_iter().find_map(|(class, _)| {
            let held: Vec<ValueId> = of_voters().filter(|value| self.table.class(*value) == *class).collect();
            let vote = common(held.len(), ReferenceValue::Missing)?;
            Some(Vote { value: ReferenceValue::Value(self.commonest(held)), ..vote })
        })
    }

    /// Returns the value that stands most often among equal ones: of several the first in order.
    fn commonest(&self, mut held: Vec<ValueId>) -> ValueId {
        held.sort();
        let runs = held.chunk_by(|a, b| a == b);
        let most = runs.clone().map(<[ValueId]>::len).max().unwrap_or(0);
        let of_most = runs.filter(|run| run.len() == most).map(|run| run[0]);
        of_most.min_by_key(|value| self.table.written(*value)).unwrap_or(held[0])
    }
}

/// Returns whether nearly every one of so many devices holds another value, missing being one.
pub(super) fn is_mostly_distinct(values: usize, reporting: usize, devices: usize) -> bool {
    let distinct = values + usize::from(reporting < devices);
    devices >= LEAST_FOR_DISTINCT && distinct * 5 >= devices * 4
}

fn value_at(state: &Snapshot, place: PlaceId) -> ReferenceValue {
    state.at(place).map_or(ReferenceValue::Missing, ReferenceValue::Value)
}

/// Returns the median: of an even number the mean of the middle two; none of no numbers, or of too large ones.
pub fn median(mut numbers: Vec<Decimal>) -> Option<Decimal> {
    numbers.sort();
    let upper = *numbers.get(numbers.len() / 2)?;
    if numbers.len() % 2 == 1 {
        return Some(upper);
    }
    let lower = numbers[numbers.len() / 2 - 1];
    Some(lower.checked_add(upper)?.checked_div(Decimal::TWO)?.normalize())
}

impl FactTable<'_> {
    /// Returns a difference's reference with all that lies in it; none where it is missing. `states` are those that hold it.
    pub fn reference_datum<'s>(
        &self,
        difference: &Difference,
        mut states: impl Iterator<Item = &'s Snapshot>,
    ) -> Option<Datum> {
        match difference.reference {
            ReferenceValue::Missing => None,
            ReferenceValue::Median(median) => Some(Datum::Number(median)),
            ReferenceValue::Value(value) => {
                let holder = states.find(|state| state.at(difference.place) == Some(value))?;
                self.datum(holder, difference.place)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use bumpalo::Bump;

    use super::*;
    use crate::Dictionary;
    use crate::drift::{FactScope, TableSettings};
    use crate::facts::merge::{Origin, Slot};

    /// Devices with the value of one fact each; `None` where it is missing.
    struct Fleet<'d> {
        table: FactTable<'d>,
        states: Vec<Snapshot>,
    }

    impl<'d> Fleet<'d> {
        fn of(dictionary: &'d Dictionary, values: &[Option<Datum>]) -> Self {
            let scope = FactScope { facts: vec![FactPattern::new("f")], except: Vec::new() };
            let mut table = FactTable::new(dictionary, TableSettings { scope, ..TableSettings::default() });
            let fact = table.fact("f");
            let arena = Bump::new();
            let states = values
                .iter()
                .map(|value| {
                    let slot = value.as_ref().map(|datum| {
                        let raw = datum.to_value(&arena);
                        let origin = Some(Origin::Observed { source: "s", collected: None });
                        Slot { value: raw, raw, origin, stale: false }
                    });
                    table.snapshot(slot.iter().map(|slot| (fact, slot)), &arena)
                })
                .collect();
            Self { table, states }
        }

        /// Compares them; those at the positions in `silent` do not count.
        fn compare(&self, silent: &[usize], tolerances: &[Tolerance]) -> Comparison {
            let members: Vec<Member<'_>> = self
                .states
                .iter()
                .enumerate()
                .map(|(at, state)| Member { snapshot: Some(state), votes: !silent.contains(&at) })
                .collect();
            compare(
                &self.table,
                &members,
                Reference::Majority,
                CompareSettings { tolerances, leave_out_distinct: true },
            )
        }
    }

    fn numbers(values: &[i64]) -> Vec<Option<Datum>> {
        values.iter().map(|number| Some(Datum::Number(Decimal::from(*number)))).collect()
    }

    /// Who differs, and of how many that count how many hold the reference; nobody where there is no common value.
    fn told(found: &Comparison) -> (Vec<usize>, Option<Share>, bool) {
        let members = found.differences.iter().map(|one| one.member).collect();
        (members, found.differences.first().and_then(|one| one.share), !found.no_common_value.is_empty())
    }

    #[test]
    fn six_in_ten_of_at_least_three_are_a_common_value() {
        let dictionary = Dictionary::default();
        let of =
            |values: &[i64], silent: &[usize]| told(&Fleet::of(&dictionary, &numbers(values)).compare(silent, &[]));
        let share = |holders, voters| Some(Share { holders, voters });
        assert_eq!(of(&[1, 1, 1, 2, 2], &[]), (vec![3, 4], share(3, 5), false));
        assert_eq!(of(&[1, 1, 2, 2], &[]), (vec![], None, true));
        assert_eq!(of(&[1, 1, 1, 2, 2, 3], &[]), (vec![], None, true));
        assert_eq!(of(&[1, 2], &[]), (vec![], None, true));
        assert_eq!(of(&[1, 1], &[]), (vec![], None, false));
        // Who does not count is compared all the same.
        assert_eq!(of(&[1, 1, 1, 2], &[3]), (vec![3], share(3, 3), false));
        assert_eq!(of(&[1, 1, 2, 1], &[1, 3]), (vec![], None, true));
    }

    #[test]
    fn missing_is_a_value_and_null_is_another() {
        let dictionary = Dictionary::default();
        let one = Some(Datum::Number(Decimal::ONE));
        let found = Fleet::of(&dictionary, &[None, None, None, one.clone(), Some(Datum::Null)]).compare(&[], &[]);
        assert_eq!(found.differences.iter().map(Difference::kind).collect::<Vec<_>>(), [DifferenceKind::Extra; 2]);
        let found = Fleet::of(&dictionary, &[one.clone(), one.clone(), one, None, Some(Datum::Null)]).compare(&[], &[]);
        let kinds: Vec<DifferenceKind> = found.differences.iter().map(Difference::kind).collect();
        assert_eq!(kinds, [DifferenceKind::Missing, DifferenceKind::Changed]);
    }

    #[test]
    fn a_tolerance_goes_by_the_median_and_its_ends_belong_to_it() {
        let dictionary = Dictionary::default();
        let tolerance = |amount: &str, of_reference| {
            [Tolerance { facts: FactPattern::new("f"), amount: amount.parse().unwrap(), of_reference }]
        };
        let fleet = Fleet::of(&dictionary, &numbers(&[90, 100, 100, 110, 111]));
        let found = fleet.compare(&[], &tolerance("0.1", true));
        assert_eq!(told(&found), (vec![4], Some(Share { holders: 4, voters: 5 }), false));
        assert_eq!(found.differences[0].reference, ReferenceValue::Median(Decimal::ONE_HUNDRED));
        assert_eq!(told(&fleet.compare(&[], &tolerance("11", false))).0, Vec::<usize>::new());
        assert_eq!(told(&fleet.compare(&[], &tolerance("0", false))), (vec![], None, true));
        assert_eq!(median(numbers_of(&[1, 2, 4, 100])), Some(Decimal::from(3)));
        // Two that are close enough are alike, though two have no common value.
        assert!(!told(&Fleet::of(&dictionary, &numbers(&[100, 105])).compare(&[], &tolerance("0.1", true))).2);
    }

    fn numbers_of(values: &[i64]) -> Vec<Decimal> {
        values.iter().map(|number| Decimal::from(*number)).collect()
    }

    #[test]
    fn what_nearly_all_differ_in_is_left_out_unless_it_is_named() {
        let dictionary = Dictionary::default();
        let values = numbers(&[1, 2, 3, 4, 4]);
        let found = Fleet::of(&dictionary, &values).compare(&[], &[]);
        // The fact is named by the scope.
        assert_eq!((found.left_out.len(), found.no_common_value.len()), (0, 1));
        let mut table = FactTable::new(&dictionary, TableSettings::default());
        let fact = table.fact("f");
        let arena = Bump::new();
        let states: Vec<Snapshot> = values
            .iter()
            .flatten()
            .map(|datum| {
                let raw = datum.to_value(&arena);
                let origin = Some(Origin::Observed { source: "s", collected: None });
                let slot = Slot { value: raw, raw, origin, stale: false };
                table.snapshot(std::iter::once((fact, &slot)), &arena)
            })
            .collect();
        let members: Vec<Member<'_>> =
            states.iter().map(|state| Member { snapshot: Some(state), votes: true }).collect();
        let settings = CompareSettings { tolerances: &[], leave_out_distinct: true };
        assert_eq!(compare(&table, &members, Reference::Majority, settings).left_out.len(), 1);
        assert_eq!(compare(&table, &members[1..], Reference::Majority, settings).left_out.len(), 0);
    }
}
