//! What is said of devices by hand: when they were retired, and what they are called now.
//!
//! A device that is collected after its retirement starts a new life; nothing of an earlier life speaks for it.

use crate::canonical::{Canonical, Encode};
use std::collections::HashMap;

use jiff::Timestamp;

use crate::diagnostic::Span;
use crate::id::DeviceId;

/// A device that was taken out of use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Retirement {
    /// Which device.
    pub device: DeviceId,
    /// From when on.
    pub from: Timestamp,
    /// What was collected up to then belongs to the life that ended: the end of the day, where a day was named.
    pub last: Timestamp,
    /// Why.
    pub because: String,
    /// Where it is written.
    pub place: Option<Span>,
}

/// A device that got another name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renaming {
    /// What it was called.
    pub device: DeviceId,
    /// What it is called now.
    pub to: DeviceId,
    /// From when on.
    pub from: Timestamp,
    /// Why.
    pub because: String,
    /// Where it is written.
    pub place: Option<Span>,
}

/// Retirements and renamings.
#[derive(Clone, Debug, Default)]
pub struct DeviceLifecycles {
    retirements: HashMap<String, Vec<Retirement>>,
    renamings: Vec<Renaming>,
    /// The last name of each device that is renamed at any time, by each of its earlier names.
    last_names: HashMap<String, String>,
}

/// What a source says of a device now, as far as its life hangs on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LifeStatement {
    /// How far the source is trusted.
    pub trust: i64,
    /// When it was collected.
    pub collected: Timestamp,
}

/// Which statements speak for the life of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DeviceLife {
    /// Those that were collected later; all where it was never retired.
    after: Option<Timestamp>,
    /// It is retired: none does.
    is_over: bool,
}

impl DeviceLife {
    /// Returns whether it is retired.
    pub fn is_over(&self) -> bool {
        self.is_over
    }

    /// Returns whether what was collected then speaks for the device.
    pub fn includes(&self, collected: Timestamp) -> bool {
        !self.is_over && self.after.is_none_or(|after| collected > after)
    }
}

impl DeviceLifecycles {
    /// Creates what is said of devices; the order does not matter.
    pub fn new(retirements: Vec<Retirement>, mut renamings: Vec<Renaming>) -> Self {
        let mut by_device: HashMap<String, Vec<Retirement>> = HashMap::new();
        for retirement in retirements {
            by_device.entry(retirement.device.to_string()).or_default().push(retirement);
        }
        for all in by_device.values_mut() {
            all.sort_by_key(|retirement| retirement.from);
        }
        renamings.sort_by(|a, b| (a.from, &a.device).cmp(&(b.from, &b.device)));
        let mut lifecycles = Self { retirements: by_device, renamings, last_names: HashMap::new() };
        let last = |name: &str| lifecycles.name(name, Timestamp::MAX).to_owned();
        let earlier = lifecycles.renamings.iter().map(|renaming| renaming.device.to_string());
        lifecycles.last_names = earlier.map(|name| (name.clone(), last(&name))).collect();
        lifecycles
    }

    /// Returns the name that a device has in the end, whichever of its names it is called by.
    fn last_name<'n>(&'n self, name: &'n str) -> &'n str {
        self.last_names.get(name).map_or(name, String::as_str)
    }

    /// Returns whether two names are of one device, at whatever time it has them.
    pub fn is_same_device(&self, one: &str, other: &str) -> bool {
        one == other || self.last_name(one) == self.last_name(other)
    }

    /// Returns the other names that a device has at whatever time.
    pub fn other_names(&self, name: &str) -> impl Iterator<Item = &str> {
        let last = self.last_name(name);
        let earlier =
            self.last_names.iter().filter(move |(_, other)| *other == last).map(|(earlier, _)| earlier.as_str());
        // In a fixed order.
        let mut names: Vec<&str> =
            earlier.chain(self.last_names.values().map(String::as_str).find(|it| *it == last)).collect();
        names.retain(|other| *other != name);
        names.sort_unstable();
        names.into_iter()
    }

    /// Returns all retirements, by device.
    pub fn retired(&self) -> impl Iterator<Item = &Retirement> {
        let mut all: Vec<&Retirement> = self.retirements.values().flatten().collect();
        all.sort_by(|a, b| (&a.device, a.from).cmp(&(&b.device, b.from)));
        all.into_iter()
    }

    /// Returns the last retirement of a device at or before a moment: its life, if it has one, began after it.
    pub fn last_retirement(&self, device: &str, at: Timestamp) -> Option<&Retirement> {
        self.retirements.get(device)?.iter().rfind(|retirement| retirement.from <= at)
    }

    /// Returns which statements about a device speak for its life at a moment. After a retirement it has one where the most trusted of the
    /// sources that speak of it has collected it since; a list of less trust does not revive it.
    pub fn life_of(&self, device: &str, statements: impl Iterator<Item = LifeStatement>, at: Timestamp) -> DeviceLife {
        let Some(retirement) = self.last_retirement(device, at) else {
            return DeviceLife { after: None, is_over: false };
        };
        let mut best: Option<LifeStatement> = None;
        for said in statements {
            // Of sources that are trusted alike the one that has spoken since counts.
            if best.is_none_or(|best| (said.trust, said.collected) > (best.trust, best.collected)) {
                best = Some(said);
            }
        }
        let is_over = best.is_none_or(|best| best.collected <= retirement.last);
        DeviceLife { after: Some(retirement.last), is_over }
    }

    /// Returns the first retirement of a device after a moment.
    pub fn next_retirement(&self, device: &str, at: Timestamp) -> Option<&Retirement> {
        self.retirements.get(device)?.iter().find(|retirement| retirement.from > at)
    }

    /// Returns the renamings that are in effect at a moment, oldest first.
    pub fn renamings(&self, at: Timestamp) -> impl Iterator<Item = &Renaming> {
        self.renamings.iter().filter(move |renaming| renaming.from <= at)
    }

    /// Returns what a device is called at a moment.
    pub fn name<'n>(&'n self, device: &'n str, at: Timestamp) -> &'n str {
        let mut name = device;
        // No name is met twice on the way, so the way has an end.
        for _ in 0..self.renamings.len() {
            match self.renamings(at).find(|renaming| renaming.device.as_str() == name) {
                Some(renaming) if renaming.to.as_str() != device => name = renaming.to.as_str(),
                Some(_) | None => break,
            }
        }
        name
    }

    /// Returns the first renaming that leads back to where it began.
    pub fn circle(&self) -> Option<&Renaming> {
        self.renamings.iter().find(|first| {
            let mut name = first.to.as_str();
            for _ in 0..=self.renamings.len() {
                if name == first.device.as_str() {
                    return true;
                }
                match self.renamings.iter().find(|renaming| renaming.device.as_str() == name) {
                    Some(next) => name = next.to.as_str(),
                    None => return false,
                }
            }
            false
        })
    }
}

impl Encode for Retirement {
    fn encode(&self, to: &mut Canonical) {
        let Self { device, from, last, because, place: _ } = self;
        to.add(device.as_str()).add(from).add(last).add(because);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn moment(day: u32) -> Timestamp {
        format!("2027-03-{day:02}T00:00:00Z").parse().unwrap()
    }

    fn renaming(device: &str, to: &str, day: u32) -> Renaming {
        Renaming { device: device.into(), to: to.into(), from: moment(day), because: "refit".into(), place: None }
    }

    #[test]
    fn a_device_is_known_by_each_of_its_names() {
        let lifecycles = DeviceLifecycles::new(Vec::new(), vec![renaming("a", "b", 3), renaming("b", "c", 9)]);
        for (one, other) in [("a", "c"), ("c", "a"), ("b", "a"), ("d", "d")] {
            assert!(lifecycles.is_same_device(one, other), "{one} {other}");
        }
        assert!(!lifecycles.is_same_device("a", "d"));
        let others = |name| lifecycles.other_names(name).collect::<Vec<_>>();
        assert_eq!((others("a"), others("b"), others("c")), (vec!["b", "c"], vec!["a", "c"], vec!["a", "b"]));
        assert!(others("d").is_empty());
    }

    #[test]
    fn a_life_begins_after_the_last_retirement() {
        let retired = |day| Retirement {
            device: "a".into(),
            from: moment(day),
            last: moment(day),
            because: "sold".into(),
            place: None,
        };
        let lifecycles = DeviceLifecycles::new(vec![retired(10), retired(5)], Vec::new());
        assert_eq!(lifecycles.last_retirement("a", moment(4)), None);
        assert_eq!(lifecycles.last_retirement("a", moment(5)).unwrap().from, moment(5));
        assert_eq!(lifecycles.last_retirement("a", moment(20)).unwrap().from, moment(10));
        assert_eq!(lifecycles.last_retirement("b", moment(20)), None);
        assert_eq!(lifecycles.next_retirement("a", moment(5)).unwrap().from, moment(10));
        assert_eq!(lifecycles.next_retirement("a", moment(10)), None);
        let is_of_life = |lifecycles: &DeviceLifecycles, collected, at| {
            let said = LifeStatement { trust: 0, collected: moment(collected) };
            lifecycles.life_of("a", std::iter::once(said), moment(at)).includes(moment(collected))
        };
        assert!(is_of_life(&lifecycles, 3, 4));
        assert!(!is_of_life(&lifecycles, 5, 5));
        assert!(is_of_life(&lifecycles, 6, 9));
        assert!(!is_of_life(&lifecycles, 6, 10));
        // Retired on a day, what was collected on that day is still of the old life.
        let day = Retirement { last: moment(11), ..retired(10) };
        let lifecycles = DeviceLifecycles::new(vec![day], Vec::new());
        assert!(!is_of_life(&lifecycles, 11, 10) && is_of_life(&lifecycles, 12, 10));
    }

    #[test]
    fn a_list_of_less_trust_revives_nobody() {
        let retired =
            Retirement { device: "a".into(), from: moment(10), last: moment(10), because: "sold".into(), place: None };
        let lifecycles = DeviceLifecycles::new(vec![retired], Vec::new());
        let said = |trust, day| LifeStatement { trust, collected: moment(day) };
        let life = |all: &[LifeStatement]| lifecycles.life_of("a", all.iter().copied(), moment(20));
        // The agent spoke before, the list since.
        let only_the_list = life(&[said(20, 9), said(5, 15)]);
        assert!(only_the_list.is_over() && !only_the_list.includes(moment(15)));
        // Once the agent has spoken again, both count, but nothing of before.
        let both = life(&[said(20, 16), said(5, 15)]);
        assert!(!both.is_over() && both.includes(moment(15)) && !both.includes(moment(9)));
        // Of those trusted alike, or where the list alone ever spoke, it is enough.
        assert!(!life(&[said(5, 9), said(5, 15)]).is_over() && !life(&[said(5, 15)]).is_over());
        assert!(life(&[]).is_over());
        assert!(!lifecycles.life_of("b", std::iter::empty(), moment(20)).is_over());
    }

    #[test]
    fn names_are_followed_as_far_as_they_go() {
        let lifecycles = DeviceLifecycles::new(Vec::new(), vec![renaming("b", "c", 5), renaming("a", "b", 3)]);
        assert_eq!(
            (lifecycles.name("a", moment(2)), lifecycles.name("a", moment(3)), lifecycles.name("a", moment(5))),
            ("a", "b", "c")
        );
        assert!(lifecycles.circle().is_none());
        let round = DeviceLifecycles::new(
            Vec::new(),
            vec![renaming("a", "b", 1), renaming("b", "a", 1), renaming("x", "a", 1)],
        );
        assert_eq!(round.circle().unwrap().device.as_str(), "a");
        assert_eq!(round.name("a", moment(2)), "b");
        let _ = round.name("x", moment(2));
    }
}
