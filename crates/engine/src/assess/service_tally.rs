//! How services are reached, counted: on which terms devices with their people get in, and how many people are shut out. An assessment
//! that looks at some devices only goes on from what the one before counted.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use fencepost_core::Strictness;
use fencepost_store::{DecisionRow, DeviceRow, LedgerError, Reader, SpellKind, SpellRow};
use serde_json::{Value as Json, json};

use crate::access::service_counts::{BestWay, ServiceCounts};
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::workspace::project::Project;

/// How a service is reached.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ServiceFigures {
    /// On which terms devices with their people get in.
    pub counts: ServiceCounts,
    /// How many people have no way into it, since an access rule denies one.
    pub shut_out: u64,
}

/// How services are reached.
pub(super) struct ServiceTally {
    services: BTreeMap<String, ServiceFigures>,
    /// How many people are shut out of some service.
    shut_out: u64,
    /// The people about whom something was decided otherwise, with the devices on which it was.
    touched: BTreeMap<String, BTreeSet<i64>>,
    /// Everything is counted at the end.
    is_recounted: bool,
}

/// What a sign-in is decided by a key of, as it is counted.
pub(super) struct CountedDecision {
    key: DecisionKey,
    strictness: Strictness,
    by_default: bool,
}

impl CountedDecision {
    pub(super) fn new(key: DecisionKey, decision: &StoredDecision) -> Self {
        Self { key, strictness: decision.strictness(), by_default: decision.is_by_default() }
    }

    fn of_row(row: &DecisionRow<'_>) -> Option<Self> {
        let (key, ruling) = (DecisionKey::read(row.subject)?, StoredDecision::ruling_of(row.value)?);
        let strictness = ruling.strictness();
        Some(Self { key, strictness, by_default: strictness == Strictness::Denied && !row.by_rule })
    }

    pub(super) fn of_spell(project: &Project, spell: &SpellRow) -> Result<Self, LedgerError> {
        let broken = || unreadable(project, &spell.device, "a decision");
        let key = DecisionKey::read(&spell.subject).ok_or_else(broken)?;
        let decision = StoredDecision::read(&spell.value, &spell.detail).ok_or_else(broken)?;
        Ok(Self::new(key, &decision))
    }
}

/// What the ways of a person into a service come to.
#[derive(Clone, Copy, Default)]
struct WaysIn {
    is_open: bool,
    is_denied_by_rule: bool,
}

impl WaysIn {
    fn add(&mut self, decision: &CountedDecision) {
        match decision.strictness {
            Strictness::Denied => self.is_denied_by_rule |= !decision.by_default,
            Strictness::Permitted | Strictness::Limited => self.is_open = true,
        }
    }

    fn is_shut(self) -> bool {
        !self.is_open && self.is_denied_by_rule
    }
}

impl ServiceTally {
    /// Counts everything at the end.
    pub(super) fn anew() -> Self {
        Self { services: BTreeMap::new(), shut_out: 0, touched: BTreeMap::new(), is_recounted: true }
    }

    /// Goes on from the summary of an assessment by the same rules; none where it did not count.
    pub(super) fn after(summary: &Json) -> Option<Self> {
        let services = summary["services"].as_array()?.iter().filter_map(service_row).collect();
        let shut_out = summary["shut_out"].as_u64()?;
        Some(Self { services, shut_out, touched: BTreeMap::new(), is_recounted: false })
    }

    /// Takes note that the decisions about the sign-ins with a device are others than before.
    pub(super) fn change(&mut self, device: i64, before: &[CountedDecision], now: &[CountedDecision]) {
        if self.is_recounted {
            return;
        }
        for (decisions, adds) in [(before, false), (now, true)] {
            for ((service, _), best) in best_ways(decisions) {
                self.services.entry(service.to_owned()).or_default().counts.step(best, adds);
            }
        }
        for decision in before.iter().chain(now) {
            if let Some(person) = &decision.key.person {
                self.touched.entry(person.clone()).or_default().insert(device);
            }
        }
    }

    /// Counts who is shut out of what; the assessment before was of the run `before`.
    pub(super) fn finish(
        &mut self,
        project: &Project,
        reader: &Reader<'_>,
        before: Option<i64>,
    ) -> Result<(), LedgerError> {
        let Some(before) = before.filter(|_| !self.is_recounted) else { return self.count_all(project, reader) };
        for (person, devices) in std::mem::take(&mut self.touched) {
            let held = reader.devices_of_person(&person)?;
            let devices: BTreeSet<i64> = held.into_iter().chain(devices).collect();
            for (run, adds) in [(Some(before), false), (None, true)] {
                let mut ways: BTreeMap<String, WaysIn> = BTreeMap::new();
                for number in &devices {
                    let device = DeviceRow { number: *number, name: String::new(), dirty: false };
                    for spell in reader.spells_of(SpellKind::Decision, &device, run)? {
                        let decision = CountedDecision::of_spell(project, &spell)?;
                        if decision.key.person.as_ref() == Some(&person) {
                            ways.entry(decision.key.service.clone()).or_default().add(&decision);
                        }
                    }
                }
                let step = |count: &mut u64| *count = if adds { *count + 1 } else { count.saturating_sub(1) };
                let shut: Vec<String> = ways.into_iter().filter(|(_, ways)| ways.is_shut()).map(|(it, _)| it).collect();
                if !shut.is_empty() {
                    step(&mut self.shut_out);
                }
                shut.into_iter().for_each(|service| step(&mut self.services.entry(service).or_default().shut_out));
            }
        }
        Ok(())
    }

    /// Counts everything from the decisions that hold.
    fn count_all(&mut self, project: &Project, reader: &Reader<'_>) -> Result<(), LedgerError> {
        let mut pairs: HashMap<(i64, Option<String>, String), BestWay> = HashMap::new();
        let mut ways: HashMap<String, BTreeMap<String, WaysIn>> = HashMap::new();
        reader.each_decision(None, |row| {
            let broken = || unreadable(project, &format!("number {}", row.device), "a decision");
            let decision = CountedDecision::of_row(&row).ok_or_else(broken)?;
            let DecisionKey { person, service, .. } = &decision.key;
            if let Some(person) = person {
                let own = ways.entry(person.clone()).or_default();
                own.entry(service.clone()).or_default().add(&decision);
            }
            let pair = pairs.entry((row.device, person.clone(), service.clone())).or_default();
            pair.add(decision.strictness, decision.by_default);
            Ok::<_, LedgerError>(())
        })?;
        self.services.clear();
        for ((_, _, service), best) in pairs {
            self.services.entry(service).or_default().counts.step(best, true);
        }
        self.shut_out = 0;
        for own in ways.into_values() {
            let mut is_shut_out = false;
            for (service, _) in own.into_iter().filter(|(_, ways)| ways.is_shut()) {
                self.services.entry(service).or_default().shut_out += 1;
                is_shut_out = true;
            }
            self.shut_out += u64::from(is_shut_out);
        }
        Ok(())
    }

    /// Adds what was counted to the summary of an assessment.
    pub(super) fn add_to(&self, summary: &mut Json) {
        let service = |(id, figures): (&String, &ServiceFigures)| {
            let ServiceCounts { permit, limited, deny, by_default } = figures.counts;
            json!([id, permit, limited, deny, by_default, figures.shut_out])
        };
        summary["services"] = self.services.iter().map(service).collect();
        summary["shut_out"] = json!(self.shut_out);
    }
}

/// Reads from the summary of an assessment how a service was reached, with its id.
pub(crate) fn service_row(row: &Json) -> Option<(String, ServiceFigures)> {
    let number = |at: usize| row.get(at)?.as_u64();
    let counts = ServiceCounts { permit: number(1)?, limited: number(2)?, deny: number(3)?, by_default: number(4)? };
    Some((row.get(0)?.as_str()?.to_owned(), ServiceFigures { counts, shut_out: number(5)? }))
}

/// Returns the best way that a device with each of its people has into each service.
fn best_ways(decisions: &[CountedDecision]) -> BTreeMap<(&str, Option<&str>), BestWay> {
    let mut best: BTreeMap<(&str, Option<&str>), BestWay> = BTreeMap::new();
    for decision in decisions {
        let pair = best.entry((&decision.key.service, decision.key.person.as_deref())).or_default();
        pair.add(decision.strictness, decision.by_default);
    }
    best
}
