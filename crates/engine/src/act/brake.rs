//! The brake: where a day's deliveries would reach too much of the fleet, nothing goes out before somebody has looked.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use sha2::{Digest, Sha256};

use super::plan::{DeliveryKind, PlannedDelivery};
use crate::assess::Assessed;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::hex;

/// So many devices never hold the brake.
const ALWAYS_ALLOWED: u64 = 5;
/// Over which time devices are counted.
const PERIOD: SignedDuration = SignedDuration::from_hours(24);

/// That nothing is sent, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Brake {
    /// What has to be said for the plan to go on: a digest of it.
    pub code: String,
    /// How many devices would be denied something newly, commanded or told of within a day.
    pub would: u64,
    /// How many devices there are.
    pub of: u64,
    /// How many are allowed.
    pub most: u64,
    /// Whether it is the first assessment of the ledger, which holds everything.
    pub is_first: bool,
    /// How many of the devices are told of in this run.
    pub told: u64,
    /// How many are commanded in this run.
    pub commanded: u64,
    /// How many were denied something newly within the day.
    pub denied: u64,
    /// About how many something went out within the day before.
    pub before: u64,
    /// The rules for which this run would tell or command, each with on how many devices, most first.
    pub by_rule: Vec<(String, u64)>,
}

/// Returns the brake that holds a plan; none where it may go on.
pub(crate) fn brake_of(reading: &Reading<'_>, planned: &[PlannedDelivery]) -> Result<Option<Brake>, EngineError> {
    if planned.is_empty() {
        return Ok(None);
    }
    let since = reading.at.checked_sub(PERIOD).unwrap_or(Timestamp::MIN);
    let (mut told, mut commanded) = (BTreeSet::new(), BTreeSet::new());
    for delivery in planned {
        let devices = if delivery.kind() == DeliveryKind::Command { &mut commanded } else { &mut told };
        devices.extend(delivery.lines.iter().map(|line| line.finding.device.as_str()));
        commanded.extend(delivery.changes.iter().map(|change| change.device.as_str()));
    }
    let mut by_rule: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for line in planned.iter().flat_map(|delivery| &delivery.lines) {
        by_rule.entry(line.finding.subject.as_str()).or_default().insert(line.finding.device.as_str());
    }
    let mut by_rule: Vec<(String, u64)> =
        by_rule.into_iter().map(|(rule, devices)| (rule.to_owned(), devices.len() as u64)).collect();
    by_rule.sort_by_key(|(_, devices)| std::cmp::Reverse(*devices));
    let before = reading.reader.devices_acted_on_after(since)?;
    let denied = reading.reader.devices_newly_denied_after(since)?;
    let mut all: BTreeSet<&str> = told.union(&commanded).copied().collect();
    all.extend(before.iter().map(String::as_str));
    all.extend(denied.iter().map(String::as_str));
    let assessments = reading.reader.assessments(Some(reading.at), 2)?;
    let of = match assessments.first() {
        Some(run) => Assessed::load(reading.project, &reading.reader, run)?.devices.total,
        None => 0,
    };
    let (would, most) = (all.len() as u64, allowed(of, reading.project.config.send.brake));
    // Once somebody has let something go out, it is a ledger like any other.
    let is_first = assessments.len() < 2 && reading.reader.last_delivery()?.is_none();
    let holds = is_first || would > most;
    let count = |devices: &BTreeSet<&str>| devices.len() as u64;
    Ok(holds.then(|| Brake {
        code: code_of(planned),
        would,
        of,
        most,
        is_first,
        told: count(&told),
        commanded: count(&commanded),
        denied: denied.len() as u64,
        before: before.len() as u64,
        by_rule,
    }))
}

/// Returns how many devices of a fleet a share of it is, but never fewer than are always allowed.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "a share of a count"
)]
fn allowed(of: u64, share: f64) -> u64 {
    ((of as f64 * share).floor() as u64).max(ALWAYS_ALLOWED)
}

/// Returns the code of a plan: what goes where.
fn code_of(planned: &[PlannedDelivery]) -> String {
    let mut keys: Vec<&str> = planned.iter().map(|delivery| delivery.key.as_str()).collect();
    keys.sort_unstable();
    let mut hash = Sha256::new();
    keys.iter().for_each(|key| hash.update(key));
    hex(&hash.finalize()[..4])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_few_devices_are_always_allowed() {
        assert_eq!([0, 20, 50, 141, 1_000].map(|of| allowed(of, 0.1)), [5, 5, 5, 14, 100]);
        assert_eq!((allowed(1_000, 0.0), allowed(1_000, 1.0)), (5, 1_000));
    }
}
