//! What a fleet shows of how rules fit it: gathered a device at a time, on any number of cores, and added up.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use jiff::Timestamp;
use rust_decimal::Decimal;

use super::Vet;
use crate::condition::Threshold;
use crate::layout::SlotId;
use crate::rule::Spared;
use crate::value::{DateTime, Reason, Value};
use crate::verdict::{DeviceInput, VerdictOutcome, Verdicts};
use crate::version::compare_versions;
use bumpalo::Bump;

/// What one device shows.
#[derive(Clone, Debug)]
pub struct Look {
    platform: Option<Box<str>>,
    /// Slot by slot.
    reports: Vec<bool>,
    /// Rule by rule.
    outcomes: Vec<VerdictOutcome>,
    spared: Vec<Spared>,
    /// Thresholds that could be held against a value of a covered device.
    bounds: Vec<(usize, bool, Seen)>,
}

/// What a fleet shows.
#[derive(Clone, Debug)]
pub struct Fleet {
    /// How many devices there are.
    pub devices: u64,
    pub(super) platforms: BTreeMap<Box<str>, PlatformFit>,
    pub(super) rules: Vec<RuleFit>,
    pub(super) bounds: Vec<BoundFit>,
    pub(super) pairs: Vec<PairFit>,
    /// How many devices report each slot.
    pub(super) reports: Vec<u64>,
}

/// How rules fit the devices of a platform.
#[derive(Clone, Debug, Default)]
pub(super) struct PlatformFit {
    pub reports: Vec<u64>,
    /// Devices that a rule covers.
    pub covered: Vec<u64>,
    /// Those of which it cannot say anything, since a fact was not collected.
    pub missing: Vec<u64>,
}

/// How a rule fits.
#[derive(Clone, Debug, Default)]
pub(super) struct RuleFit {
    pub pass: u64,
    pub fail: u64,
    pub unknown: u64,
    /// Devices that an exception spares.
    pub excepted: u64,
    /// Devices that a more special baseline judges instead.
    pub given_up: u64,
    /// How many devices each exception spares.
    pub exceptions: Vec<u64>,
}

/// How a threshold fits.
#[derive(Clone, Debug, Default)]
pub(super) struct BoundFit {
    pub met: u64,
    pub unmet: u64,
    pub lowest: Option<Seen>,
    pub highest: Option<Seen>,
}

/// How two rules lie to one another, of which one asks for more.
#[derive(Clone, Debug, Default)]
pub(super) struct PairFit {
    /// Devices that the weaker one covers.
    pub covered: u64,
    /// Those that the stricter one does not cover.
    pub beyond: u64,
}

/// A value that has an order.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Seen {
    Number(Decimal),
    Version(Box<str>),
    Date(jiff::civil::Date),
    Moment(Timestamp),
    Duration(jiff::SignedDuration),
}

impl Seen {
    fn of(value: &Value<'_>) -> Option<Self> {
        Some(match value {
            Value::Number(number) => Self::Number(*number),
            Value::Version(version) => Self::Version(Box::from(*version)),
            Value::Date(date) => Self::Date(*date),
            Value::DateTime(DateTime::At(moment, _)) => Self::Moment(*moment),
            Value::Duration(duration) => Self::Duration(*duration),
            _ => return None,
        })
    }

    fn order(&self, other: &Self) -> Option<Ordering> {
        Some(match (self, other) {
            (Self::Number(a), Self::Number(b)) => a.cmp(b),
            (Self::Version(a), Self::Version(b)) => compare_versions(a, b),
            (Self::Date(a), Self::Date(b)) => a.cmp(b),
            (Self::Moment(a), Self::Moment(b)) => a.cmp(b),
            (Self::Duration(a), Self::Duration(b)) => a.cmp(b),
            _ => return None,
        })
    }

    pub(super) fn show(&self) -> String {
        match self {
            Self::Number(number) => Value::Number(*number).show(),
            // A device may say anything.
            Self::Version(version) => Value::Version(version).show().escape_debug().to_string(),
            Self::Date(date) => date.to_string(),
            Self::Moment(moment) => moment.to_string(),
            Self::Duration(duration) => Value::Duration(*duration).show(),
        }
    }
}

impl Look {
    /// Returns whether a rule surely covers the device.
    pub fn is_judged(&self, rule: usize) -> bool {
        !matches!(self.outcomes[rule], VerdictOutcome::NotApplicable | VerdictOutcome::Unknown(Reason::Scope))
    }
}

impl Fleet {
    /// Returns whether some device reports the fact of a slot.
    pub fn is_reported(&self, slot: SlotId) -> bool {
        self.reports.get(slot.0 as usize).is_some_and(|reports| *reports > 0)
    }
}

impl RuleFit {
    /// Returns how many devices it covers, surely or perhaps.
    pub(super) fn covered(&self) -> u64 {
        self.pass + self.fail + self.unknown
    }
}

impl Vet<'_> {
    /// Looks at a device, whose verdicts are those of the rule set with drafts on trial.
    pub fn look<'a>(&'a self, input: &DeviceInput<'a>, verdicts: &Verdicts, arena: &'a Bump) -> Look {
        let facts = input.facts;
        let value = |slot| facts.slot(slot).value;
        let layout = self.rules.layout();
        let mut outcomes = vec![VerdictOutcome::NotApplicable; self.rules.rules().len()];
        verdicts.all.iter().for_each(|verdict| outcomes[verdict.rule] = verdict.outcome);
        let judged = |rule: usize| matches!(outcomes[rule], VerdictOutcome::Pass | VerdictOutcome::Fail);
        let bound = |(at, (rule, threshold)): (usize, &(usize, Threshold<'_>))| {
            let value = value(threshold.slot);
            judged(*rule).then(|| Some((at, threshold.meets(&value)?, Seen::of(&value)?))).flatten()
        };
        Look {
            platform: self.platform.and_then(|slot| match value(slot) {
                // A device may say anything.
                Value::Text(platform) => Some(platform.escape_debug().to_string().into()),
                _ => None,
            }),
            reports: layout.slots().map(|slot| !value(slot).is_missing()).collect(),
            bounds: self.thresholds.iter().enumerate().filter_map(bound).collect(),
            spared: self.rules.spared(verdicts, input, self.at, self.zone, arena),
            outcomes,
        }
    }

    /// Returns a fleet of no device.
    pub fn nobody(&self) -> Fleet {
        let rules = self.rules.rules().iter();
        Fleet {
            devices: 0,
            platforms: BTreeMap::new(),
            rules: rules
                .map(|rule| RuleFit { exceptions: vec![0; rule.exceptions().len()], ..RuleFit::default() })
                .collect(),
            bounds: vec![BoundFit::default(); self.thresholds.len()],
            pairs: vec![PairFit::default(); self.pairs.len()],
            reports: vec![0; self.rules.layout().len()],
        }
    }

    /// Adds what a device shows.
    pub fn add(&self, fleet: &mut Fleet, look: Look) {
        fleet.devices += 1;
        let is_covered = |rule: usize| look.outcomes[rule] != VerdictOutcome::NotApplicable;
        for (fit, outcome) in fleet.rules.iter_mut().zip(&look.outcomes) {
            match outcome {
                VerdictOutcome::Pass => fit.pass += 1,
                VerdictOutcome::Fail => fit.fail += 1,
                VerdictOutcome::Unknown(_) => fit.unknown += 1,
                VerdictOutcome::NotApplicable => {}
            }
        }
        for spared in &look.spared {
            let fit = &mut fleet.rules[spared.rule];
            fit.excepted += u64::from(!spared.exceptions.is_empty());
            fit.given_up += u64::from(spared.exceptions.is_empty());
            spared.exceptions.iter().for_each(|at| fit.exceptions[*at] += 1);
        }
        for (count, reports) in fleet.reports.iter_mut().zip(&look.reports) {
            *count += u64::from(*reports);
        }
        for (fit, (strict, weak)) in fleet.pairs.iter_mut().zip(&self.pairs) {
            fit.covered += u64::from(is_covered(*weak));
            fit.beyond += u64::from(is_covered(*weak) && !is_covered(*strict));
        }
        for (at, met, seen) in look.bounds {
            let fit = &mut fleet.bounds[at];
            fit.met += u64::from(met);
            fit.unmet += u64::from(!met);
            let beats = |than: &Option<Seen>, wanted| than.as_ref().is_none_or(|than| seen.order(than) == Some(wanted));
            let (lower, higher) = (beats(&fit.lowest, Ordering::Less), beats(&fit.highest, Ordering::Greater));
            if lower {
                fit.lowest = Some(seen.clone());
            }
            if higher {
                fit.highest = Some(seen);
            }
        }
        let Some(platform) = look.platform else { return };
        let fit = fleet.platforms.entry(platform).or_default();
        fit.reports.resize(look.reports.len(), 0);
        fit.covered.resize(look.outcomes.len(), 0);
        fit.missing.resize(look.outcomes.len(), 0);
        for (count, reports) in fit.reports.iter_mut().zip(&look.reports) {
            *count += u64::from(*reports);
        }
        for (rule, outcome) in look.outcomes.iter().enumerate() {
            fit.covered[rule] += u64::from(is_covered(rule));
            fit.missing[rule] += u64::from(*outcome == VerdictOutcome::Unknown(Reason::Missing));
        }
    }
}
