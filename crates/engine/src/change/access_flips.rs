//! What two assessments of the same state say of access and of due moments, and how the two differ.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{AccessChange, Effect, Ruling};
use jiff::Timestamp;

use crate::error::EngineError;
use crate::ledger_view::batch::DEVICES;
use crate::ledger_view::codec::DecisionKey;
use crate::ledger_view::reading::Reading;

/// A usual sign-in with a device.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct SignInId {
    /// The device.
    pub device: String,
    /// Who signs in; none on a device that nobody holds.
    pub person: Option<String>,
    /// The service.
    pub service: String,
    /// The usual sign-in, by its id.
    pub client: String,
}

/// A sign-in that would be decided otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DecisionFlip {
    /// The sign-in.
    pub sign_in: SignInId,
    /// The decision by the rules in force; none where there would be no such sign-in.
    pub before: Option<Ruling>,
    /// The decision then; none where there would be no such sign-in any more.
    pub after: Option<Ruling>,
}

impl DecisionFlip {
    /// Returns what it means for whoever signs in. A sign-in that is new, or gone, counts as one that was, or would be, denied.
    pub fn change(&self) -> Option<AccessChange> {
        let shut = Ruling { effect: Effect::Deny, obligations: Vec::new() };
        self.after.as_ref().unwrap_or(&shut).change_since(self.before.as_ref().unwrap_or(&shut))
    }
}

/// What would become of a person's ways to a service.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PersonFlip {
    /// The person.
    pub person: String,
    /// The service.
    pub service: String,
    /// The worst that happens to one of the ways.
    pub change: AccessChange,
    /// No way would be left.
    pub call_first: bool,
}

/// A finding that would be due at another moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueFlip {
    /// The device.
    pub device: String,
    /// The rule; or `silence`, `uncovered`.
    pub rule: String,
    /// When it is due by the rules in force.
    pub before: Timestamp,
    /// When it would be due.
    pub after: Timestamp,
}

/// A sign-in that time alone would make stricter at another moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LosingFlip {
    /// The sign-in.
    pub sign_in: SignInId,
    /// When by the rules in force; none where it would not.
    pub before: Option<Timestamp>,
    /// When it would; none where it would not.
    pub after: Option<Timestamp>,
}

/// What an assessment says of access, and when its findings are due.
#[derive(Default)]
pub(super) struct AccessSnapshot {
    decisions: BTreeMap<SignInId, Ruling>,
    /// The first moment at which time alone certainly makes a decision stricter.
    losing: BTreeMap<SignInId, Timestamp>,
    due: BTreeMap<(String, String), Timestamp>,
}

/// How two of them differ.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessFlips {
    /// Sign-ins that would be decided otherwise.
    pub decisions: Vec<DecisionFlip>,
    /// People whom that touches, by service.
    pub people: Vec<PersonFlip>,
    /// Findings that would be due at another moment.
    pub due: Vec<DueFlip>,
    /// Sign-ins that time alone would make stricter at another moment.
    pub losing: Vec<LosingFlip>,
}

impl AccessFlips {
    /// Returns whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.decisions.is_empty() && self.due.is_empty() && self.losing.is_empty()
    }
}

impl AccessSnapshot {
    /// Reads what the reading's assessment says.
    pub(super) fn of(reading: &Reading<'_>) -> Result<Self, EngineError> {
        let mut snapshot = Self::default();
        let mut last = String::new();
        loop {
            let devices = reading.reader.devices_after(&last, DEVICES)?;
            let Some(end) = devices.last() else { return Ok(snapshot) };
            last.clone_from(&end.name);
            for device in &devices {
                let current = reading.current_decisions(device)?;
                let sign_in = |key: &DecisionKey| SignInId {
                    device: device.name.clone(),
                    person: key.person.clone(),
                    service: key.service.clone(),
                    client: key.client.clone(),
                };
                for finding in reading.findings_beside(&current)?.iter().filter(|finding| finding.is_running()) {
                    let key = (device.name.clone(), finding.subject.as_str().to_owned());
                    snapshot.due.insert(key, finding.clock.due_at(reading.at));
                }
                for coming in current.losing.iter().filter(|coming| !coming.only_if_silent) {
                    snapshot.losing.entry(sign_in(&coming.key)).or_insert(coming.at);
                }
                let rulings = current.now.into_iter().map(|(key, held)| (sign_in(&key), held.decision.ruling));
                snapshot.decisions.extend(rulings);
            }
        }
    }

    /// Returns how many sign-ins are decided otherwise than in a ledger, by their decisions in words.
    pub(super) fn differ_from(&self, left: &BTreeMap<SignInId, String>) -> u64 {
        let keys: BTreeSet<&SignInId> = self.decisions.keys().chain(left.keys()).collect();
        let differs = |key: &&SignInId| self.decisions.get(*key).map(Ruling::in_words) != left.get(*key).cloned();
        keys.into_iter().filter(differs).count() as u64
    }

    /// Compares what would be with what is.
    pub(super) fn flips(&self, after: &Self) -> AccessFlips {
        let keys: BTreeSet<&SignInId> = self.decisions.keys().chain(after.decisions.keys()).collect();
        let decisions: Vec<DecisionFlip> = keys
            .into_iter()
            .filter_map(|sign_in| {
                let (one, other) = (self.decisions.get(sign_in), after.decisions.get(sign_in));
                let flip = || DecisionFlip { sign_in: sign_in.clone(), before: one.cloned(), after: other.cloned() };
                (one != other).then(flip)
            })
            .collect();
        let moved = |(key, before): (&(String, String), &Timestamp)| {
            let after = *after.due.get(key).filter(|after| *after != before)?;
            Some(DueFlip { device: key.0.clone(), rule: key.1.clone(), before: *before, after })
        };
        let keys: BTreeSet<&SignInId> = self.losing.keys().chain(after.losing.keys()).collect();
        let losing = keys.into_iter().filter_map(|sign_in| {
            let (one, other) = (self.losing.get(sign_in).copied(), after.losing.get(sign_in).copied());
            (one != other).then(|| LosingFlip { sign_in: sign_in.clone(), before: one, after: other })
        });
        AccessFlips {
            people: after.people(&decisions),
            due: self.due.iter().filter_map(moved).collect(),
            losing: losing.collect(),
            decisions,
        }
    }

    /// Returns whom decisions that flip touch, when everything is decided as here.
    fn people(&self, flips: &[DecisionFlip]) -> Vec<PersonFlip> {
        let mut by_person: BTreeMap<(&str, &str), AccessChange> = BTreeMap::new();
        for flip in flips {
            let (Some(person), Some(change)) = (flip.sign_in.person.as_deref(), flip.change()) else { continue };
            let worst = by_person.entry((person, flip.sign_in.service.as_str())).or_insert(change);
            *worst = (*worst).min(change);
        }
        let mut open: BTreeSet<(&str, &str)> = BTreeSet::new();
        for (sign_in, _) in self.decisions.iter().filter(|(_, ruling)| ruling.effect == Effect::Permit) {
            open.extend(sign_in.person.as_deref().map(|person| (person, sign_in.service.as_str())));
        }
        let flip = |((person, service), change): ((&str, &str), AccessChange)| PersonFlip {
            person: person.to_owned(),
            service: service.to_owned(),
            change,
            call_first: change == AccessChange::Lost && !open.contains(&(person, service)),
        };
        by_person.into_iter().map(flip).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sign_in(device: &str, person: &str) -> SignInId {
        let (service, client) = ("mail".to_owned(), "app".to_owned());
        SignInId { device: device.to_owned(), person: Some(person.to_owned()), service, client }
    }

    fn snapshot(decisions: &[(&str, &str, Effect)]) -> AccessSnapshot {
        let ruling = |effect| Ruling { effect, obligations: Vec::new() };
        let decisions = decisions.iter().map(|(device, person, effect)| (sign_in(device, person), ruling(*effect)));
        AccessSnapshot { decisions: decisions.collect(), ..AccessSnapshot::default() }
    }

    #[test]
    fn whoever_keeps_another_way_is_told_from_whoever_does_not() {
        let (permit, deny) = (Effect::Permit, Effect::Deny);
        let before = snapshot(&[("a", "p", permit), ("b", "p", permit), ("c", "q", permit), ("d", "r", deny)]);
        let after = snapshot(&[("a", "p", deny), ("b", "p", permit), ("d", "r", permit)]);
        let flips = before.flips(&after);
        let people: Vec<_> =
            flips.people.iter().map(|flip| (flip.person.as_str(), flip.change, flip.call_first)).collect();
        assert_eq!(
            people,
            [("p", AccessChange::Lost, false), ("q", AccessChange::Lost, true), ("r", AccessChange::Restored, false)]
        );
        assert!(before.flips(&before).is_empty());
    }
}
