//! What sets two groups of devices apart: each fact is tried, and the least likely to differ so by chance come first.

use std::collections::hash_map::DefaultHasher;
use std::collections::{BTreeMap, BTreeSet};
use std::hash::{Hash as _, Hasher as _};

use rust_decimal::Decimal;

use super::compare::{is_mostly_distinct, median};
use super::statistics::{TwoByTwo, false_discovery_rates, fisher, mann_whitney};
use super::table::{FactTable, PlaceId, Snapshot, ValueId};

/// Groups of fewer devices are told and not ranked.
pub const LEAST_DEVICES: usize = 3;
/// Facts that fewer devices report are told and not ranked.
const LEAST_REPORTING: usize = 2;
/// Rows with a larger q may well be chance.
pub const CHANCE: f64 = 0.05;

/// What of a fact sets the groups apart.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ContrastBy {
    /// That devices hold a value, with how many do in each group.
    Value {
        /// The value.
        value: ValueId,
        /// How many hold it.
        holders: [usize; 2],
    },
    /// That devices report it, with how many do in each group.
    Presence {
        /// How many report it.
        holders: [usize; 2],
    },
    /// How large its numbers are, with their medians in each group.
    Number {
        /// The medians; none where a group reports no number.
        medians: [Option<Decimal>; 2],
    },
}

impl ContrastBy {
    /// Returns the word for it in machine output.
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Value { .. } => "value",
            Self::Presence { .. } => "presence",
            Self::Number { .. } => "number",
        }
    }

    /// Returns the test by which it was found, as machine output names it.
    pub fn statistic(&self) -> &'static str {
        match self {
            Self::Value { .. } | Self::Presence { .. } => "fisher",
            Self::Number { .. } => "mann-whitney",
        }
    }
}

/// A fact that was tried.
#[derive(Clone, Debug, PartialEq)]
pub struct ContrastFact {
    /// Where.
    pub place: PlaceId,
    /// What of it.
    pub by: ContrastBy,
    /// How likely a difference at least as large would be, if the groups were alike.
    pub p: f64,
    /// The share of chance finds among all that are no less striking.
    pub q: f64,
    /// The places that split the devices in exactly the same way, ascending.
    pub folded: Vec<PlaceId>,
}

/// What sets two groups of devices apart.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Contrast {
    /// How many tests were made.
    pub tried: usize,
    /// The facts that are not alike on all devices, by q, then p, then place.
    pub facts: Vec<ContrastFact>,
    /// How many facts are alike on every device.
    pub same: usize,
    /// Facts that were left out, since nearly all devices differ there.
    pub left_out: Vec<PlaceId>,
    /// Facts that too few devices report.
    pub not_ranked: Vec<PlaceId>,
}

/// Finds what sets two groups of devices apart. Nothing is ranked where a group is too small.
pub fn contrast(table: &FactTable<'_>, groups: [&[&Snapshot]; 2]) -> Contrast {
    let [first, second] = groups;
    let mut columns: Vec<Vec<(usize, ValueId)>> = vec![Vec::new(); table.place_count()];
    for (at, snapshot) in first.iter().chain(second).enumerate() {
        for (place, value) in snapshot.cells() {
            columns[place.index()].push((at, value));
        }
    }
    let mut found = Contrast::default();
    if first.len() < LEAST_DEVICES || second.len() < LEAST_DEVICES {
        return found;
    }
    let mut trials = Vec::new();
    for (index, cells) in columns.iter().enumerate() {
        let place = PlaceId::of_index(index);
        let fact = Fact { table, place, cells, sizes: [first.len(), second.len()] };
        if fact.is_compared() {
            fact.try_all(&mut trials, &mut found);
        }
    }
    found.tried = trials.len();
    rank(table, trials, &mut found);
    let by_place = |places: &mut Vec<PlaceId>| places.sort_by_key(|place| table.place(*place));
    by_place(&mut found.left_out);
    by_place(&mut found.not_ranked);
    found
}

/// A fact in both groups.
struct Fact<'f> {
    table: &'f FactTable<'f>,
    place: PlaceId,
    /// What the devices that report it hold, ascending by device; those of the first group come first.
    cells: &'f [(usize, ValueId)],
    sizes: [usize; 2],
}

/// One test of a fact.
struct Trial {
    place: PlaceId,
    by: ContrastBy,
    p: f64,
    /// A digest of how it splits the devices: rows with the same are told as one.
    split: u64,
    /// Trials of one place that are about its values: the best of them is told.
    is_of_value: bool,
}

impl Fact<'_> {
    /// Returns whether it is a fact of its own: what has members is told by them, but for items of lists.
    fn is_compared(&self) -> bool {
        let is_item = self.table.place(self.place).field.is_none() && self.table.place(self.place).item.is_some();
        !self.cells.is_empty() && (is_item || !self.cells.iter().all(|(_, value)| self.table.is_container(*value)))
    }

    fn devices(&self) -> usize {
        self.sizes[0] + self.sizes[1]
    }

    /// Adds the tests of the fact, or says why there are none.
    fn try_all(&self, trials: &mut Vec<Trial>, found: &mut Contrast) {
        if self.cells.len() < LEAST_REPORTING {
            found.not_ranked.push(self.place);
            return;
        }
        let mut by_class: BTreeMap<u32, Vec<(usize, ValueId)>> = BTreeMap::new();
        for (at, value) in self.cells {
            by_class.entry(self.table.class(*value)).or_default().push((*at, *value));
        }
        let some_missing = self.cells.len() < self.devices();
        if by_class.len() + usize::from(some_missing) == 1 {
            found.same += 1;
            return;
        }
        let numbers: Vec<(usize, Decimal)> =
            self.cells.iter().filter_map(|(at, value)| Some((*at, self.table.number(*value)?))).collect();
        let are_numbers = numbers.len() == self.cells.len();
        if !are_numbers
            && !self.table.is_named(self.place)
            && is_mostly_distinct(by_class.len(), self.cells.len(), self.devices())
        {
            found.left_out.push(self.place);
            return;
        }
        if are_numbers && by_class.len() > 1 {
            trials.extend(self.number_trial(&numbers));
            if some_missing {
                trials.push(self.presence_trial(false));
            }
            return;
        }
        match (by_class.len(), some_missing) {
            (1, true) => trials.push(self.presence_trial(true)),
            (2, false) => {
                // Both outcomes are the same test: told is the one that more of the first group hold.
                let share = |cells: &Vec<(usize, ValueId)>| self.holders(cells)[0];
                let best = by_class.values().max_by_key(|cells| (share(cells), std::cmp::Reverse(self.written(cells))));
                trials.extend(best.map(|cells| self.value_trial(cells)));
            }
            _ => {
                trials.extend(by_class.values().map(|cells| self.value_trial(cells)));
                if some_missing {
                    trials.push(self.presence_trial(true));
                }
            }
        }
    }

    /// Returns how many of each group are among devices.
    fn holders(&self, cells: &[(usize, ValueId)]) -> [usize; 2] {
        let first = cells.iter().filter(|(at, _)| *at < self.sizes[0]).count();
        [first, cells.len() - first]
    }

    fn written(&self, cells: &[(usize, ValueId)]) -> String {
        cells.iter().map(|(_, value)| self.table.written(*value)).min().unwrap_or_default()
    }

    fn fisher(&self, holders: [usize; 2]) -> f64 {
        let of = |group: usize| [holders[group] as u64, (self.sizes[group] - holders[group]) as u64];
        fisher(TwoByTwo { first: of(0), second: of(1) })
    }

    fn value_trial(&self, cells: &[(usize, ValueId)]) -> Trial {
        let holders = self.holders(cells);
        // Of several ways of writing it the first in order.
        let value = cells.iter().map(|(_, value)| *value).min_by_key(|value| self.table.written(*value));
        let by = ContrastBy::Value { value: value.unwrap_or(self.cells[0].1), holders };
        Trial { place: self.place, by, p: self.fisher(holders), split: self.split(cells), is_of_value: true }
    }

    fn presence_trial(&self, is_of_value: bool) -> Trial {
        let holders = self.holders(self.cells);
        let by = ContrastBy::Presence { holders };
        Trial { place: self.place, by, p: self.fisher(holders), split: self.split(self.cells), is_of_value }
    }

    /// Returns which devices are parted from the others, the same whichever side is looked at.
    fn split(&self, cells: &[(usize, ValueId)]) -> u64 {
        let inside: BTreeSet<usize> = cells.iter().map(|(at, _)| *at).collect();
        let swapped = inside.contains(&0);
        digest_of(&(0..self.devices()).filter(|at| inside.contains(at) != swapped).collect::<Vec<usize>>())
    }

    fn number_trial(&self, numbers: &[(usize, Decimal)]) -> Option<Trial> {
        let of = |is_in: &dyn Fn(usize) -> bool| -> Vec<Decimal> {
            numbers.iter().filter(|(at, _)| is_in(*at)).map(|(_, number)| *number).collect()
        };
        let groups = [of(&|at| at < self.sizes[0]), of(&|at| at >= self.sizes[0])];
        let [first, second] = groups
            .each_ref()
            .map(|group| group.iter().filter_map(|number| f64::try_from(*number).ok()).collect::<Vec<f64>>());
        let p = mann_whitney(&first, &second)?;
        let by = ContrastBy::Number { medians: groups.map(median) };
        // Numbers split devices alike where they put them in the same order.
        let mut order: Vec<Decimal> = numbers.iter().map(|(_, number)| *number).collect();
        order.sort();
        order.dedup();
        let rank = |number: &Decimal| order.partition_point(|known| known < number) + 1;
        let mut split = vec![0; self.devices() + 1];
        // Tells them from splits in two.
        split[self.devices()] = usize::MAX;
        numbers.iter().for_each(|(at, number)| split[*at] = rank(number));
        Some(Trial { place: self.place, by, p, split: digest_of(&split), is_of_value: false })
    }
}

fn digest_of(split: &[usize]) -> u64 {
    let mut digest = DefaultHasher::new();
    split.hash(&mut digest);
    digest.finish()
}

/// Puts the tests in order, with the best of each fact's values, and those that split the devices alike in one row.
fn rank(table: &FactTable<'_>, trials: Vec<Trial>, found: &mut Contrast) {
    let qs = false_discovery_rates(&trials.iter().map(|trial| trial.p).collect::<Vec<f64>>());
    let mut told: Vec<(Trial, f64)> = Vec::new();
    for (trial, q) in trials.into_iter().zip(qs) {
        match told.last_mut() {
            Some((last, last_q)) if last.place == trial.place && last.is_of_value && trial.is_of_value => {
                if is_better(table, &trial, last) {
                    (*last, *last_q) = (trial, q);
                }
            }
            _ => told.push((trial, q)),
        }
    }
    told.sort_by(|(a, q), (b, r)| {
        let place = |trial: &Trial| table.place(trial.place);
        q.total_cmp(r).then(a.p.total_cmp(&b.p)).then_with(|| place(a).cmp(place(b)))
    });
    let mut by_split: BTreeMap<u64, usize> = BTreeMap::new();
    for (Trial { place, by, p, split, .. }, q) in told {
        match by_split.get(&split) {
            Some(at) => found.facts[*at].folded.push(place),
            None => {
                by_split.insert(split, found.facts.len());
                found.facts.push(ContrastFact { place, by, p, q, folded: Vec::new() });
            }
        }
    }
}

/// Returns whether a value of a fact tells more than another.
fn is_better(table: &FactTable<'_>, one: &Trial, other: &Trial) -> bool {
    let order = |trial: &Trial| match &trial.by {
        ContrastBy::Value { value, holders } => (holders[0].abs_diff(holders[1]), table.written(*value)),
        ContrastBy::Presence { holders } => (holders[0].abs_diff(holders[1]), "\u{10ffff}".to_owned()),
        ContrastBy::Number { .. } => (0, String::new()),
    };
    let ((apart, written), (other_apart, other_written)) = (order(one), order(other));
    one.p.total_cmp(&other.p).then(other_apart.cmp(&apart)).then_with(|| written.cmp(&other_written)).is_lt()
}

#[cfg(test)]
mod tests {
    use bumpalo::Bump;

    use super::*;
    use crate::drift::TableSettings;
    use crate::facts::merge::{Origin, Slot};
    use crate::{Datum, Dictionary};

    fn text(text: &str) -> Datum {
        Datum::Text(text.into())
    }

    /// Contrasts two groups; each device is its facts.
    fn contrasted(groups: [Vec<Vec<(&str, Datum)>>; 2]) -> (Contrast, Vec<String>) {
        let dictionary = Dictionary::default();
        let mut table = FactTable::new(&dictionary, TableSettings::default());
        let arena = Bump::new();
        let [first, second] = groups.map(|group| {
            group
                .iter()
                .map(|device| {
                    let slots: Vec<_> = device
                        .iter()
                        .map(|(path, datum)| {
                            let raw = datum.to_value(&arena);
                            let origin = Some(Origin::Observed { source: "s", collected: None });
                            (table.fact(path), Slot { value: raw, raw, origin, stale: false })
                        })
                        .collect();
                    table.snapshot(slots.iter().map(|(fact, slot)| (*fact, slot)), &arena)
                })
                .collect::<Vec<Snapshot>>()
        });
        let found = contrast(&table, [&first.iter().collect::<Vec<_>>(), &second.iter().collect::<Vec<_>>()]);
        let shown = found
            .facts
            .iter()
            .map(|fact| {
                let folded: Vec<String> = fact.folded.iter().map(|place| table.place(*place).to_string()).collect();
                let told = match &fact.by {
                    ContrastBy::Value { holders, .. } => format!("value {holders:?}"),
                    ContrastBy::Presence { holders } => format!("presence {holders:?}"),
                    ContrastBy::Number { medians } => format!("number {medians:?}"),
                };
                format!("{} {told} p {:.4} q {:.4} {folded:?}", table.place(fact.place), fact.p, fact.q)
            })
            .collect();
        (found, shown)
    }

    #[test]
    fn what_parts_the_groups_comes_first_and_followers_are_folded() {
        let device = |slow: bool, at: i32| {
            let mut facts = vec![
                ("radio", text(if slow { "old" } else { "new" })),
                ("driver.name", text(if slow { "r1" } else { "r2" })),
                ("even", Datum::Boolean(at % 2 == 0)),
                ("same", text("x")),
                ("serial", text(&format!("{slow}{at}"))),
                ("load", Datum::Number(Decimal::from(if slow { 50 + at } else { at }))),
            ];
            if slow {
                facts.push(("extra", text("y")));
            }
            facts
        };
        let groups = [true, false].map(|slow| (0..4).map(|at| device(slow, at)).collect());
        let (found, shown) = contrasted(groups);
        assert_eq!(
            shown,
            [
                r#"driver.name value [4, 0] p 0.0286 q 0.0357 ["extra", "radio"]"#,
                r#"load number [Some(51.5), Some(1.5)] p 0.0286 q 0.0357 []"#,
                r#"even value [2, 2] p 1.0000 q 1.0000 []"#,
            ]
        );
        assert_eq!((found.tried, found.same, found.left_out.len()), (5, 1, 1));
    }

    #[test]
    fn missing_is_an_outcome_and_of_many_the_best_is_told() {
        let groups = [
            vec![vec![("os", text("a"))], vec![("os", text("a"))], vec![("os", text("a"))], vec![("only", text("z"))]],
            vec![vec![("os", text("b"))], vec![("os", text("b"))], vec![("os", text("c"))], vec![]],
        ];
        let (found, shown) = contrasted(groups);
        assert_eq!(shown, [r#"os value [3, 0] p 0.1429 q 0.5714 []"#]);
        assert_eq!((found.tried, found.not_ranked.len()), (4, 1));
    }

    #[test]
    fn a_group_that_is_too_small_is_not_ranked() {
        let device = |value: &str| vec![("os", text(value))];
        let (found, _) = contrasted([vec![device("a"), device("a")], vec![device("b"), device("b"), device("b")]]);
        assert_eq!(found, Contrast::default());
    }
}
