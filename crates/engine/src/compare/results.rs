//! What comparisons came to at an assessment: counts of every set, and what they say of the devices of those whose differences are
//! findings. It is kept with the verdicts, so that whoever asks later is told what the assessment found.

use std::collections::HashMap;

use fencepost_core::drift::{DeviceDrift, DriftOutcome, NotedDifference, NotedDifferences, Share};
use fencepost_core::{Datum, Diagnostic, Rule};
use fencepost_store::{DeviceRow, LedgerError, Reader, SpellKind};
use serde_json::{Value as Json, json};

use super::drift::DriftDetail;
use super::members::DriftQuery;
use super::view::{DriftCounts, DriftMember};
use crate::change::vet_drift::not_compared;
use crate::error::EngineError;
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What comparisons say of devices, where the workspace makes findings of it.
#[derive(Clone, Debug, Default)]
pub struct DriftResults {
    by_device: HashMap<String, Vec<DeviceDrift>>,
}

impl DriftResults {
    /// Returns what is said of a device; nothing where it was found alike.
    pub(crate) fn of(&self, device: &str) -> &[DeviceDrift] {
        self.by_device.get(device).map_or(&[], Vec::as_slice)
    }

    /// Reads what the verdicts of an assessment keep of the comparisons of a project's sets.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub(crate) fn kept(reader: &Reader<'_>, run: Option<i64>, project: &Project) -> Result<Self, LedgerError> {
        let mut results = Self::default();
        for (rule, set) in rules_of_sets(project) {
            for spell in reader.spells_about(SpellKind::Verdict, rule.id.as_str(), run)? {
                let read = outcome_of(&spell.value, &spell.detail);
                let outcome = read.ok_or_else(|| unreadable(project, &spell.device, "a comparison"))?;
                results.add(&spell.device, set, outcome);
            }
        }
        Ok(results)
    }

    fn add(&mut self, device: &str, set: usize, outcome: DriftOutcome) {
        self.by_device.entry(device.to_owned()).or_default().push(DeviceDrift { set, outcome });
    }
}

/// Returns the rules of sets that are on trial or enforced, each with the set's position.
fn rules_of_sets(project: &Project) -> impl Iterator<Item = (&Rule, usize)> {
    let rules = project.rules.rules().iter().filter(|rule| !rule.is_draft());
    rules.filter_map(|rule| Some((rule, rule.compared_set()?)))
}

/// How much a set differed at an assessment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DriftTrend {
    /// The set.
    pub set: String,
    /// The counts.
    pub counts: DriftCounts,
}

impl DriftTrend {
    /// Returns it as an assessment's summary keeps it.
    pub(crate) fn to_json(&self) -> Json {
        let DriftCounts { devices, differ, differences, accepted } = self.counts;
        json!({
            "set": self.set, "devices": devices, "differ": differ, "differences": differences, "accepted": accepted,
        })
    }
}

/// What the comparisons of a workspace came to at the moment of an assessment.
#[derive(Debug, Default)]
pub(crate) struct Comparisons {
    /// How much each set differed that could be compared, in the order in which they are written.
    pub trends: Vec<DriftTrend>,
    /// What is said of devices.
    pub results: DriftResults,
    /// The devices of which something else is said than the verdicts of the assessment before keep, each once or more often.
    pub changed: Vec<DeviceRow>,
    /// Sets that could not be compared.
    pub warnings: Vec<Diagnostic>,
}

impl Reading<'_> {
    /// Compares every set of the workspace.
    ///
    /// # Errors
    /// When the ledger cannot be read. A set that cannot be compared is warned of.
    pub(crate) fn comparisons(&self) -> Result<Comparisons, EngineError> {
        let mut made = Comparisons::default();
        let drift = self.project.rules.drift();
        if drift.sets.is_empty() {
            return Ok(made);
        }
        let query = DriftQuery::default();
        let Ok(plan) = self.plan_drift(&query)? else { return Ok(made) };
        let kept = DriftResults::kept(&self.reader, None, self.project)?;
        for (at, set) in plan.sets.iter().enumerate() {
            let mut rules = rules_of_sets(self.project).filter(|(_, of)| *of == at).map(|(rule, _)| rule);
            let rule = rules.next();
            let detail = DriftDetail { counts_only: rule.is_none(), ..DriftDetail::default() };
            match self.compare_set(set, &detail) {
                Ok(report) => {
                    if rule.is_some() {
                        report.members.iter().for_each(|member| made.note(at, member));
                    }
                    made.trends.push(DriftTrend { set: set.id.clone(), counts: report.counts() });
                }
                Err(EngineError::Refused { message, help }) => {
                    for member in set.members.iter().filter(|_| rule.is_some()) {
                        made.results.add(&member.row.name, at, DriftOutcome::NotCompared);
                    }
                    made.warnings.push(not_compared(&message, help, drift.sets[at].place.clone()));
                }
                Err(error) => return Err(error),
            }
        }
        for member in plan.sets.iter().flat_map(|set| &set.members) {
            let name = member.row.name.as_str();
            if kept.of(name) != made.results.of(name) {
                made.changed.push(member.row.clone());
            }
        }
        Ok(made)
    }
}

impl Comparisons {
    /// Notes what a comparison says of a device.
    fn note(&mut self, set: usize, member: &DriftMember) {
        let outcome = if member.has_no_past {
            DriftOutcome::NotCompared
        } else if member.is_stale {
            DriftOutcome::Stale
        } else if member.differences.is_empty() {
            return;
        } else {
            let noted = member.differences.iter().take(NotedDifferences::MOST).map(|one| NotedDifference {
                place: one.place.to_string(),
                observed: one.observed.as_ref().map(Datum::show),
                reference: one.reference.as_ref().map(Datum::show),
                share: one.share,
            });
            let more = member.differences.len().saturating_sub(NotedDifferences::MOST);
            DriftOutcome::Differs(NotedDifferences { first: noted.collect(), more })
        };
        self.results.add(&member.device, set, outcome);
    }
}

/// Returns what the verdict of the rule of a set keeps of what the comparison says.
pub(crate) fn differences_json(outcome: &DriftOutcome) -> Option<Json> {
    let DriftOutcome::Differs(noted) = outcome else { return None };
    let difference = |one: &NotedDifference| {
        json!({
            "place": one.place, "observed": one.observed, "reference": one.reference,
            "share": one.share.map(|share| [share.holders, share.voters]),
        })
    };
    Some(json!({ "first": noted.first.iter().map(difference).collect::<Vec<_>>(), "more": noted.more }))
}

/// Reads what a verdict keeps of a comparison; none where it is not as this program writes it.
fn outcome_of(verdict: &str, detail: &str) -> Option<DriftOutcome> {
    let detail: Json = serde_json::from_str(detail).ok()?;
    if verdict != "fail" {
        return Some(match detail["reason"].as_str() {
            Some("stale") => DriftOutcome::Stale,
            _ => DriftOutcome::NotCompared,
        });
    }
    let differs = &detail["differs"];
    let text = |json: &Json| json.as_str().map(str::to_owned);
    let count = |json: &Json| usize::try_from(json.as_u64()?).ok();
    let difference = |json: &Json| {
        let share = match (count(&json["share"][0]), count(&json["share"][1])) {
            (Some(holders), Some(voters)) => Some(Share { holders, voters }),
            _ => None,
        };
        let (observed, reference) = (text(&json["observed"]), text(&json["reference"]));
        Some(NotedDifference { place: text(&json["place"])?, observed, reference, share })
    };
    let first = differs["first"].as_array()?.iter().map(difference).collect::<Option<_>>()?;
    Some(DriftOutcome::Differs(NotedDifferences { first, more: count(&differs["more"])? }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_comparison_says_is_read_back_from_the_verdict_that_keeps_it() {
        let noted = NotedDifferences {
            first: vec![
                NotedDifference {
                    place: "software[guardd].version".to_owned(),
                    observed: Some("4.1".to_owned()),
                    reference: None,
                    share: None,
                },
                NotedDifference {
                    place: "queue.workers".to_owned(),
                    observed: None,
                    reference: Some("8".to_owned()),
                    share: Some(Share { holders: 5, voters: 6 }),
                },
            ],
            more: 3,
        };
        let outcome = DriftOutcome::Differs(noted);
        let detail = json!({ "reason": null, "differs": differences_json(&outcome) }).to_string();
        assert_eq!(outcome_of("fail", &detail), Some(outcome));
        assert_eq!(outcome_of("unknown", "{\"reason\":\"stale\"}"), Some(DriftOutcome::Stale));
        assert_eq!(outcome_of("unknown", "{\"reason\":\"missing\"}"), Some(DriftOutcome::NotCompared));
        assert_eq!(outcome_of("fail", "{\"reason\":null}"), None);
    }
}
