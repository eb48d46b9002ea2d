//! One service: on which terms people reach it, who does not, and why.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Service, Strictness};
use fencepost_store::DeviceRow;

use crate::access::current::CurrentDecision;
use crate::access::report::AccessEntry;
use crate::access::service_counts::{BestWay, ServiceCounts};
use crate::ask::rule::AccessUse;
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::reading::Reading;

/// Who reaches a service.
#[derive(Clone, Debug)]
pub struct ServiceReport {
    /// The service.
    pub service: Service,
    /// On which terms.
    pub counts: ServiceCounts,
    /// The sign-ins by device, person and usual sign-in, without those that the default denies.
    pub decisions: Vec<AccessEntry>,
    /// The access rules about it.
    pub access_rules: Vec<AccessUse>,
}

/// Called with the device, the sign-in and the decision about it.
type EachDecision<'e> = &'e mut dyn FnMut(&str, &DecisionKey, &StoredDecision) -> Result<(), EngineError>;

impl Reading<'_> {
    /// Returns on which terms each service is reached, by its id.
    pub(crate) fn service_counts(&self) -> Result<BTreeMap<String, ServiceCounts>, EngineError> {
        let mut counts: BTreeMap<String, ServiceCounts> = BTreeMap::new();
        // Decisions come by device.
        let mut last = String::new();
        let mut best: BTreeMap<(String, Option<String>), BestWay> = BTreeMap::new();
        let mut add = |best: &mut BTreeMap<(String, Option<String>), BestWay>| {
            for ((service, _), best) in std::mem::take(best) {
                counts.entry(service).or_default().add(best);
            }
        };
        self.each_current_decision(|device, key, decision| {
            if last != device {
                device.clone_into(&mut last);
                add(&mut best);
            }
            let pair = best.entry((key.service.clone(), key.person.clone())).or_default();
            pair.add(decision.strictness(), decision.is_by_default());
            Ok(())
        })?;
        add(&mut best);
        Ok(counts)
    }

    /// Returns who reaches a service, and who does not. Plain permits are listed only where `with_permitted` says so.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such service.
    pub fn service(&self, id: &str, with_permitted: bool) -> Result<ServiceReport, EngineError> {
        let access = self.project.rules.access();
        let Some(at) = access.services().iter().position(|service| service.id.as_str() == id) else {
            let known = access.services().iter().map(|service| service.id.as_str());
            return Err(EngineError::no_such("service", id, known));
        };
        let is_told = |key: &DecisionKey, decision: &StoredDecision| {
            key.service == id
                && !decision.is_by_default()
                && (with_permitted || decision.strictness() != Strictness::Permitted)
        };
        let mut devices: BTreeSet<String> = BTreeSet::new();
        self.each_current_decision(|device, key, decision| {
            if is_told(key, decision) && devices.last().is_none_or(|last| last != device) {
                devices.insert(device.to_owned());
            }
            Ok(())
        })?;
        let named: BTreeSet<&str> = devices.iter().map(String::as_str).collect();
        let is_told = |key: &DecisionKey, held: &CurrentDecision| is_told(key, &held.decision);
        let asking = access.rules().iter().filter(|rule| rule.is_about(at));
        Ok(ServiceReport {
            service: access.services()[at].clone(),
            counts: self.service_counts()?.remove(id).unwrap_or_default(),
            decisions: self.entries_on(&named, is_told)?,
            access_rules: asking.map(|rule| AccessUse::of(self.project, rule, self.judged_at())).collect(),
        })
    }

    /// Hands on every decision about usual sign-ins, with its device, in the order of the devices' ids: as the assessment left it,
    /// moved by time since.
    ///
    /// # Errors
    /// When the ledger cannot be read, or with the first error of `each`.
    pub(crate) fn each_current_decision(
        &self,
        mut each: impl FnMut(&str, &DecisionKey, &StoredDecision) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let moved = self.devices_moved_by_time()?;
        let mut moved = moved.iter().peekable();
        let hand_on_moved = |device: &DeviceRow, each: EachDecision<'_>| {
            let decisions = self.current_decisions(device)?;
            decisions.now.iter().try_for_each(|(key, held)| each(&device.name, key, &held.decision))
        };
        self.each_kept_decision(|device, key, decision| {
            while let Some(before) = moved.next_if(|moved| moved.name.as_str() < device) {
                hand_on_moved(before, &mut each)?;
            }
            match moved.peek() {
                Some(moved) if moved.name == device => Ok(()),
                _ => each(device, key, decision),
            }
        })?;
        moved.try_for_each(|device| hand_on_moved(device, &mut each))
    }
}
