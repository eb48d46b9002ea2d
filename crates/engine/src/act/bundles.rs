//! Bundles: which devices should have a set of settings, and which changes of that are yet to be handed over.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{ActionId, ActionRecord, Bundle, Facts, Value, bundle_number, retry_at};
use fencepost_store::DeliveryState;
use jiff::Timestamp;

use super::records::{Attempts, OutboxRecords};
use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;

/// That a device enters a bundle, or leaves it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum BundleMove {
    /// It should have the settings.
    Enters,
    /// It should have them no more.
    Leaves,
}

impl BundleMove {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Enters => "enters",
            Self::Leaves => "leaves",
        }
    }

    fn parse(word: &str) -> Option<Self> {
        [Self::Enters, Self::Leaves].into_iter().find(|one| one.as_str() == word)
    }
}

/// A change of who should have a bundle, as far as it was handed over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BundleChange {
    /// The bundle.
    pub bundle: String,
    /// The device.
    pub device: String,
    /// What changes.
    pub change: BundleMove,
    /// The action that hands it over.
    pub(crate) action: ActionId,
    /// How far it has come.
    pub state: BundleChangeState,
    /// When it was handed over or tried; none where neither was.
    pub at: Option<Timestamp>,
}

/// How far a change of a bundle has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BundleChangeState {
    /// It may be handed over.
    Ripe,
    /// It could not be handed over, and is tried again.
    Failed,
    /// Nobody knows whether it was.
    InDoubt,
    /// It was handed over.
    Delivered,
}

impl BundleChangeState {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Ripe => "ripe",
            Self::Failed => "failed",
            Self::InDoubt => "in-doubt",
            Self::Delivered => "delivered",
        }
    }
}

/// A bundle with the devices that should have it.
#[derive(Clone, Debug)]
pub(crate) struct BundleMembers<'r> {
    pub bundle: &'r Bundle,
    /// Devices that surely should have it.
    pub members: BTreeSet<String>,
    /// Devices of which that is not known: nothing changes for them.
    unknown: BTreeSet<String>,
}

/// What was handed over of one device in one bundle.
#[derive(Clone, Debug, Default)]
struct HandedOver {
    /// Whether it has the bundle, as the last change says that was delivered.
    has_it: bool,
    /// How many changes were delivered.
    count: u32,
    at: Option<Timestamp>,
}

impl Reading<'_> {
    /// Returns for each bundle the devices that should have it.
    pub(crate) fn bundle_members(&self) -> Result<Vec<BundleMembers<'_>>, EngineError> {
        let rules = &self.project.rules;
        let empty = |(_, bundle)| BundleMembers { bundle, members: BTreeSet::new(), unknown: BTreeSet::new() };
        let mut all: Vec<BundleMembers<'_>> = rules.bundles().map(empty).collect();
        if all.is_empty() {
            return Ok(all);
        }
        let (judge, posture, at) = (self.judge(), self.posture(), self.at);
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let Some(standing) = posture.standing(job)? else { return Ok(None) };
            let (judged, running) = (judge.judged(device, facts, arena), posture.running(job)?);
            let ambient = surroundings(Some(standing.standing), &running, at, arena);
            let memberships = rules.memberships_of_device(&judged.input, ambient, judge.session(arena));
            let belongs = rules.bundles().map(|(group, _)| match memberships[group] {
                Value::Boolean(belongs) => Some(belongs),
                _ => None,
            });
            Ok(Some((device.to_owned(), belongs.collect::<Vec<_>>())))
        };
        let layout = rules.layout();
        self.with_facts(&judge, Wanted::as_read(layout, &[]), look, |found: Option<(String, Vec<Option<bool>>)>| {
            let Some((device, belongs)) = found else { return Ok(()) };
            for (bundle, belongs) in all.iter_mut().zip(belongs) {
                match belongs {
                    Some(true) => drop(bundle.members.insert(device.clone())),
                    Some(false) => {}
                    None => drop(bundle.unknown.insert(device.clone())),
                }
            }
            Ok(())
        })?;
        Ok(all)
    }
}

impl OutboxRecords {
    /// Returns the changes of a bundle: those that are yet to be handed over, and of each device the last one that was.
    pub(crate) fn bundle_changes(&self, of: &BundleMembers<'_>) -> Vec<BundleChange> {
        let bundle = of.bundle.id.as_str();
        let handed = self.handed_over(bundle);
        let mut changes = Vec::new();
        let devices: BTreeSet<&String> = of.members.iter().chain(handed.keys()).collect();
        for device in devices {
            let before = handed.get(device).cloned().unwrap_or_default();
            let is_member = of.members.contains(device);
            let change = |is_in: bool| if is_in { BundleMove::Enters } else { BundleMove::Leaves };
            if before.count > 0 {
                changes.push(BundleChange {
                    bundle: bundle.to_owned(),
                    device: device.clone(),
                    change: change(before.has_it),
                    action: ActionId::of_bundle_change(
                        bundle,
                        device,
                        change(before.has_it).as_str(),
                        before.count - 1,
                    ),
                    state: BundleChangeState::Delivered,
                    at: before.at,
                });
            }
            if is_member == before.has_it || of.unknown.contains(device) {
                continue;
            }
            let action = ActionId::of_bundle_change(bundle, device, change(is_member).as_str(), before.count);
            let state = match self.record(action) {
                Some(ActionRecord::Failed { .. }) => BundleChangeState::Failed,
                Some(ActionRecord::InDoubt { .. }) => BundleChangeState::InDoubt,
                Some(ActionRecord::Delivered { .. } | ActionRecord::Refused { .. }) | None => BundleChangeState::Ripe,
            };
            let at = self.attempts(action).map(|attempts: &Attempts| attempts.at);
            let (bundle, device, change) = (bundle.to_owned(), device.clone(), change(is_member));
            changes.push(BundleChange { bundle, device, change, action, state, at });
        }
        changes
    }

    /// Returns the changes of a bundle that may be handed over now: new ones, and those of which another attempt has come due.
    pub(crate) fn ripe_bundle_changes(&self, of: &BundleMembers<'_>, at: Timestamp) -> Vec<BundleChange> {
        let mut changes = self.bundle_changes(of);
        changes.retain(|change| match (change.state, self.record(change.action)) {
            (BundleChangeState::Ripe, _) => true,
            (BundleChangeState::Failed, Some(ActionRecord::Failed { at: tried, attempts })) => {
                retry_at(*tried, *attempts) <= at
            }
            _ => false,
        });
        changes
    }

    fn handed_over(&self, bundle: &str) -> BTreeMap<String, HandedOver> {
        let mut handed: BTreeMap<String, HandedOver> = BTreeMap::new();
        for row in self.of_bundle(bundle_number(bundle)) {
            let (DeliveryState::Delivered, Some(change)) = (row.state, BundleMove::parse(&row.key.step)) else {
                continue;
            };
            let own = handed.entry(row.key.device.clone()).or_default();
            *own = HandedOver { has_it: change == BundleMove::Enters, count: own.count + 1, at: Some(row.at) };
        }
        handed
    }
}
