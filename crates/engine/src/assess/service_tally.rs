//! How services are reached, counted: on which terms devices with their people get in, and how many people are shut out. Where no
//! decision is another than before, the counts of the assessment before hold.

use std::collections::{BTreeMap, HashMap};

use fencepost_core::Strictness;
use fencepost_store::{LedgerError, Reader};
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
    /// Some decision is another than when it was counted.
    is_outdated: bool,
}

/// What the ways of a person into a service come to.
#[derive(Clone, Copy, Default)]
struct WaysIn {
    is_open: bool,
    is_denied_by_rule: bool,
}

impl WaysIn {
    fn add(&mut self, strictness: Strictness, by_default: bool) {
        match strictness {
            Strictness::Denied => self.is_denied_by_rule |= !by_default,
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
        Self { services: BTreeMap::new(), shut_out: 0, is_outdated: true }
    }

    /// Goes on from the summary of an assessment by the same rules; none where it did not count.
    pub(super) fn after(summary: &Json) -> Option<Self> {
        let services = summary["services"].as_array()?.iter().filter_map(service_row).collect();
        Some(Self { services, shut_out: summary["shut_out"].as_u64()?, is_outdated: false })
    }

    /// Takes note that a decision is another than before.
    pub(super) fn note_change(&mut self) {
        self.is_outdated = true;
    }

    /// Counts how services are reached, where some decision is another than before: whether somebody has another way in may hang on any
    /// of their devices.
    pub(super) fn finish(&mut self, project: &Project, reader: &Reader<'_>) -> Result<(), LedgerError> {
        if self.is_outdated { self.count_all(project, reader) } else { Ok(()) }
    }

    /// Counts everything from the decisions that hold.
    fn count_all(&mut self, project: &Project, reader: &Reader<'_>) -> Result<(), LedgerError> {
        let mut pairs: HashMap<(i64, Option<String>, String), BestWay> = HashMap::new();
        let mut ways: HashMap<String, BTreeMap<String, WaysIn>> = HashMap::new();
        reader.each_decision(None, |row| {
            let broken = || unreadable(project, &format!("number {}", row.device), "a decision");
            let DecisionKey { person, service, .. } = DecisionKey::read(row.subject).ok_or_else(broken)?;
            let strictness = StoredDecision::ruling_of(row.value).ok_or_else(broken)?.strictness();
            let by_default = strictness == Strictness::Denied && !row.by_rule;
            if let Some(person) = &person {
                let own = ways.entry(person.clone()).or_default();
                own.entry(service.clone()).or_default().add(strictness, by_default);
            }
            pairs.entry((row.device, person, service)).or_default().add(strictness, by_default);
            Ok::<_, LedgerError>(())
        })?;
        self.services.clear();
        for ((_, _, service), best) in pairs {
            self.services.entry(service).or_default().counts.add(best);
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
