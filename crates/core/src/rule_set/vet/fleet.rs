//! What a fleet shows of how rules fit it: gathered a device at a time, on any number of cores, and added up.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use bumpalo::Bump;
use jiff::Timestamp;
use rust_decimal::Decimal;

use super::Vet;
use super::values::ReportedTexts;
use crate::facts::layout::SlotId;
use crate::facts::value::{DateTime, Reason, Value};
use crate::facts::version::compare_versions;
use crate::rule_set::Session;
use crate::rules::verdict::{DeviceInput, VerdictOutcome, Verdicts};

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
    /// What they report of facts that are compared with texts.
    pub(super) texts: ReportedTexts,
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

/// How two rules compare on the fleet, of which one asks for more.
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

    /// Compares a value with this one.
    fn order_of(&self, value: &Value<'_>) -> Option<Ordering> {
        Some(match (value, self) {
            (Value::Number(a), Self::Number(b)) => a.cmp(b),
            (Value::Version(a), Self::Version(b)) => as_versions(a, b),
            (Value::Date(a), Self::Date(b)) => a.cmp(b),
            (Value::DateTime(DateTime::At(a, _)), Self::Moment(b)) => a.cmp(b),
            (Value::Duration(a), Self::Duration(b)) => a.cmp(b),
            _ => return None,
        })
    }

    fn order(&self, other: &Self) -> Option<Ordering> {
        Some(match (self, other) {
            (Self::Number(a), Self::Number(b)) => a.cmp(b),
            (Self::Version(a), Self::Version(b)) => as_versions(a, b),
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

impl BoundFit {
    fn add(&mut self, value: &Value<'_>, met: bool) {
        let beats = |than: &Option<Seen>, wanted| than.as_ref().is_none_or(|than| than.order_of(value) == Some(wanted));
        let (lower, higher) = (beats(&self.lowest, Ordering::Less), beats(&self.highest, Ordering::Greater));
        let seen = if lower || higher { Seen::of(value) } else { None };
        self.met += u64::from(met);
        self.unmet += u64::from(!met);
        if higher {
            self.highest.clone_from(&seen);
        }
        if lower {
            self.lowest = seen;
        }
    }

    fn join(&mut self, other: Self) {
        self.met += other.met;
        self.unmet += other.unmet;
        let further = |own: &mut Option<Seen>, other: Option<Seen>, wanted| {
            let beats = match (&*own, &other) {
                (Some(own), Some(other)) => other.order(own) == Some(wanted),
                (own, _) => own.is_none(),
            };
            if beats {
                *own = other;
            }
        };
        further(&mut self.lowest, other.lowest, Ordering::Less);
        further(&mut self.highest, other.highest, Ordering::Greater);
    }
}

/// The order of two versions; of two that are the same, written otherwise, that of their texts: it is not to hang on who comes first.
fn as_versions(one: &str, other: &str) -> Ordering {
    compare_versions(one, other).then_with(|| one.cmp(other))
}

/// Adds numbers to numbers, place by place.
fn add_all(own: &mut Vec<u64>, other: &[u64]) {
    own.resize(own.len().max(other.len()), 0);
    own.iter_mut().zip(other).for_each(|(own, other)| *own += other);
}

impl Fleet {
    /// Adds what other devices showed.
    pub fn join(&mut self, other: Self) {
        self.devices += other.devices;
        for (platform, fit) in other.platforms {
            let own = self.platforms.entry(platform).or_default();
            add_all(&mut own.reports, &fit.reports);
            add_all(&mut own.covered, &fit.covered);
            add_all(&mut own.missing, &fit.missing);
        }
        for (own, fit) in self.rules.iter_mut().zip(other.rules) {
            own.pass += fit.pass;
            own.fail += fit.fail;
            own.unknown += fit.unknown;
            own.excepted += fit.excepted;
            own.given_up += fit.given_up;
            add_all(&mut own.exceptions, &fit.exceptions);
        }
        self.bounds.iter_mut().zip(other.bounds).for_each(|(own, fit)| own.join(fit));
        for (own, fit) in self.pairs.iter_mut().zip(other.pairs) {
            own.covered += fit.covered;
            own.beyond += fit.beyond;
        }
        add_all(&mut self.reports, &other.reports);
        self.texts.join(other.texts);
    }
}

impl Vet<'_> {
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
            texts: ReportedTexts { met: vec![false; self.expected.len()], ..ReportedTexts::default() },
        }
    }

    /// Adds what a device shows, whose verdicts are those of the rule set with drafts on trial.
    pub fn see<'a>(&'a self, fleet: &mut Fleet, input: &DeviceInput<'a>, verdicts: &Verdicts, arena: &'a Bump) {
        fleet.devices += 1;
        let value = |slot| input.facts.slot(slot).value;
        let outcomes = arena.alloc_slice_fill_copy(self.rules.rules().len(), VerdictOutcome::NotApplicable);
        verdicts.all.iter().for_each(|verdict| outcomes[verdict.rule] = verdict.outcome);
        let is_covered = |rule: usize| outcomes[rule] != VerdictOutcome::NotApplicable;
        for (fit, outcome) in fleet.rules.iter_mut().zip(&*outcomes) {
            match outcome {
                VerdictOutcome::Pass => fit.pass += 1,
                VerdictOutcome::Fail => fit.fail += 1,
                VerdictOutcome::Unknown(_) => fit.unknown += 1,
                VerdictOutcome::NotApplicable => {}
            }
        }
        for spared in self.rules.spared(verdicts, input, Session::new(self.at, self.zone, arena)) {
            let fit = &mut fleet.rules[spared.rule];
            fit.excepted += u64::from(!spared.exceptions.is_empty());
            fit.given_up += u64::from(spared.exceptions.is_empty());
            spared.exceptions.iter().for_each(|at| fit.exceptions[*at] += 1);
        }
        let layout = self.rules.layout();
        let reports = arena.alloc_slice_fill_iter(layout.slots().map(|slot| u64::from(!value(slot).is_missing())));
        add_all(&mut fleet.reports, reports);
        for (fit, (strict, weak)) in fleet.pairs.iter_mut().zip(&self.pairs) {
            fit.covered += u64::from(is_covered(*weak));
            fit.beyond += u64::from(is_covered(*weak) && !is_covered(*strict));
        }
        for (fit, (rule, threshold)) in fleet.bounds.iter_mut().zip(&self.thresholds) {
            if matches!(outcomes[*rule], VerdictOutcome::Pass | VerdictOutcome::Fail) {
                let value = value(threshold.slot);
                if let Some(met) = threshold.meets(&value) {
                    fit.add(&value, met);
                }
            }
        }
        self.see_texts(fleet, value);
        let Some(Value::Text(platform)) = self.platform.map(value) else { return };
        if !fleet.platforms.contains_key(platform) {
            let none = || vec![0; outcomes.len()];
            let fit = PlatformFit { reports: vec![0; reports.len()], covered: none(), missing: none() };
            fleet.platforms.insert(Box::from(platform), fit);
        }
        let Some(fit) = fleet.platforms.get_mut(platform) else { return };
        add_all(&mut fit.reports, reports);
        for (rule, outcome) in outcomes.iter().enumerate() {
            fit.covered[rule] += u64::from(is_covered(rule));
            fit.missing[rule] += u64::from(*outcome == VerdictOutcome::Unknown(Reason::Missing));
        }
    }
}
