//! What comparisons came to at an assessment: counts of every set, and what they say of the devices of those whose differences are
//! findings. It is kept with the verdicts, so that whoever asks later is told what the assessment found.

use std::borrow::Cow;
use std::collections::HashMap;

use fencepost_core::drift::{DeviceDrift, DriftOutcome, NotedDifference, NotedDifferences, ReferenceName, Share};
use fencepost_core::{Datum, Diagnostic, Rule};
use fencepost_store::{DeviceRow, LedgerError, Reader, SpellKind, SpellRow};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::drift::DriftDetail;
use super::members::{DriftQuery, PlannedSet};
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
                results.add_kept(project, set, &spell)?;
            }
        }
        Ok(results)
    }

    /// Reads what the verdicts of one device keep of them.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub(crate) fn of_device(
        reader: &Reader<'_>,
        run: Option<i64>,
        project: &Project,
        device: &str,
    ) -> Result<Self, LedgerError> {
        let mut results = Self::default();
        if !project.rules.has_rules_of_sets() {
            return Ok(results);
        }
        for spell in reader.spells(SpellKind::Verdict, Some(device), run)? {
            if let Some((_, set)) = rules_of_sets(project).find(|(rule, _)| rule.id.as_str() == spell.subject) {
                results.add_kept(project, set, &spell)?;
            }
        }
        Ok(results)
    }

    /// Adds what a verdict keeps.
    fn add_kept(&mut self, project: &Project, set: usize, spell: &SpellRow) -> Result<(), LedgerError> {
        let outcome = outcome_of(&spell.value, &spell.detail);
        self.add(&spell.device, set, outcome.ok_or_else(|| unreadable(project, &spell.device, "a comparison"))?);
        Ok(())
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
    /// Reads what an assessment keeps of its comparisons, in the order in which the sets were written.
    pub(crate) fn of_json(kept: &Json) -> Vec<Self> {
        let sets = kept["sets"].as_array();
        sets.into_iter().flatten().filter_map(|set| KeptSet::of_json(set).map(|kept| kept.trend)).collect()
    }
}

/// What an assessment keeps of a set, so that the next compares it anew only where something may have changed.
#[derive(Clone, Debug, PartialEq)]
struct KeptSet {
    trend: DriftTrend,
    /// Names the devices that were compared.
    devices: String,
    /// Time alone changes nothing of it before.
    until: Timestamp,
}

impl KeptSet {
    fn to_json(&self) -> Json {
        let DriftTrend { set, counts: DriftCounts { devices, differ, differences, accepted } } = &self.trend;
        json!({
            "set": set, "devices": devices, "differ": differ, "differences": differences, "accepted": accepted,
            "compared": self.devices, "until": self.until.to_string(),
        })
    }

    fn of_json(json: &Json) -> Option<Self> {
        let count = |key: &str| usize::try_from(json[key].as_u64()?).ok();
        let counts = DriftCounts {
            devices: count("devices")?,
            differ: count("differ")?,
            differences: count("differences")?,
            accepted: count("accepted")?,
        };
        Some(Self {
            trend: DriftTrend { set: json["set"].as_str()?.to_owned(), counts },
            devices: json["compared"].as_str()?.to_owned(),
            until: json["until"].as_str()?.parse().ok()?,
        })
    }
}

/// What is known of the assessment before when sets are to be compared.
pub(crate) struct Since<'s> {
    /// Its summary; none where nothing of it counts.
    pub summary: Option<&'s Json>,
    /// The devices about which something may have changed since, ascending by name.
    pub changed: &'s [DeviceRow],
    /// What comparisons said of devices then; none where the verdicts of the ledger tell.
    pub results: Option<&'s DriftResults>,
}

/// What the comparisons of a workspace came to at the moment of an assessment.
#[derive(Debug, Default)]
pub(crate) struct Comparisons {
    /// Names everything that was compared by, besides the devices.
    compared_by: String,
    /// The sets that could be compared, in the order in which they are written.
    sets: Vec<KeptSet>,
    /// What is said of devices.
    pub results: DriftResults,
    /// The devices of which something else is said than the verdicts of the assessment before keep, each once or more often.
    pub changed: Vec<DeviceRow>,
    /// Sets that could not be compared.
    pub warnings: Vec<Diagnostic>,
}

impl Comparisons {
    /// Returns what the summary of an assessment keeps of them; none where there are no sets.
    pub(crate) fn to_json(&self) -> Option<Json> {
        let sets: Vec<Json> = self.sets.iter().map(KeptSet::to_json).collect();
        (!self.compared_by.is_empty()).then(|| json!({ "by": self.compared_by, "sets": sets }))
    }

    /// Returns until when time alone changes nothing of each of the sets that an assessment with this summary compared: the end of time
    /// where it never does, the beginning where that is not known.
    pub(crate) fn kept_until(summary: &Json) -> impl Iterator<Item = Timestamp> {
        let sets = summary["drift"]["sets"].as_array().into_iter().flatten();
        sets.filter_map(KeptSet::of_json).map(|kept| kept.until)
    }
}

impl Reading<'_> {
    /// Compares the sets of the workspace, as far as something about them may have changed since the assessment before.
    ///
    /// # Errors
    /// When the ledger cannot be read. A set that cannot be compared is warned of.
    pub(crate) fn comparisons(&self, since: &Since<'_>) -> Result<Comparisons, EngineError> {
        let drift = self.project.rules.drift();
        if drift.sets.is_empty() {
            return Ok(Comparisons::default());
        }
        let compared_by = blake3::hash(&[env!("CARGO_PKG_VERSION").as_bytes(), &self.project.text()].concat());
        let compared_by = compared_by.to_hex()[..32].to_owned();
        let before =
            since.summary.map(|summary| &summary["drift"]).filter(|before| before["by"] == compared_by.as_str());
        let before = before.and_then(|before| before["sets"].as_array());
        let before: Vec<KeptSet> = before.into_iter().flatten().filter_map(KeptSet::of_json).collect();
        let mut made = Comparisons { compared_by, ..Comparisons::default() };
        let holds = |kept: &&KeptSet| self.at < kept.until;
        if since.changed.is_empty() && before.len() == drift.sets.len() && before.iter().all(|kept| holds(&kept)) {
            // No device is looked at, so nothing has to be said of any.
            return Ok(Comparisons { sets: before, ..made });
        }
        let kept = match since.results {
            Some(results) => Cow::Borrowed(results),
            None => Cow::Owned(DriftResults::kept(&self.reader, None, self.project)?),
        };
        let query = DriftQuery::default();
        let Ok(plan) = self.plan_drift(&query)? else { return Ok(made) };
        let members_until = plan.until.unwrap_or(Timestamp::MAX);
        for (at, set) in plan.sets.iter().enumerate() {
            let devices = self.names_of(set);
            let is_changed = |name: &str| since.changed.binary_search_by(|row| row.name.as_str().cmp(name)).is_ok();
            let unchanged = before.iter().find(|kept| {
                kept.trend.set == set.id
                    && kept.devices == devices.digest
                    && !devices.names.iter().any(|name| is_changed(name))
            });
            match unchanged.filter(holds) {
                Some(unchanged) => {
                    made.sets.push(KeptSet { until: unchanged.until.min(members_until), ..unchanged.clone() });
                    devices.names.iter().for_each(|name| made.take_over(&kept, at, name));
                }
                None => {
                    self.compare_again(at, set, devices.digest, &mut made)?;
                    if let Some(compared) = made.sets.last_mut() {
                        compared.until = compared.until.min(members_until);
                    }
                }
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

    fn compare_again(
        &self,
        at: usize,
        set: &PlannedSet<'_>,
        devices: String,
        made: &mut Comparisons,
    ) -> Result<(), EngineError> {
        let makes_findings = rules_of_sets(self.project).any(|(_, of)| of == at);
        let detail = DriftDetail { counts_only: !makes_findings, ..DriftDetail::default() };
        match self.compare_set(set, &detail) {
            Ok(report) => {
                if makes_findings {
                    report.members.iter().for_each(|member| made.note(at, member));
                }
                let trend = DriftTrend { set: set.id.clone(), counts: report.counts() };
                made.sets.push(KeptSet { trend, devices, until: report.valid_until });
            }
            Err(EngineError::Refused { message, help }) => {
                for member in set.members.iter().filter(|_| makes_findings) {
                    made.results.add(&member.row.name, at, DriftOutcome::NotCompared);
                }
                let place = self.project.rules.drift().sets[at].place.clone();
                made.warnings.push(not_compared(&message, help, place));
            }
            Err(error) => return Err(error),
        }
        Ok(())
    }

    /// Returns the names of the devices of a set, and of the one that they are held against.
    fn names_of<'s>(&self, set: &'s PlannedSet<'_>) -> ComparedNames<'s> {
        let mut names: Vec<Cow<'s, str>> =
            set.members.iter().map(|member| Cow::Borrowed(member.row.name.as_str())).collect();
        if let ReferenceName::Device { device, .. } = &set.reference {
            let name = self.device_name(device).ok().map_or(Cow::Borrowed(device.as_str()), Cow::Owned);
            names.push(name);
        }
        let mut hash = blake3::Hasher::new();
        for name in &names {
            hash.update(&name.len().to_le_bytes());
            hash.update(name.as_bytes());
        }
        ComparedNames { names, digest: hash.finalize().to_hex()[..32].to_owned() }
    }
}

/// The names of the devices that are compared.
struct ComparedNames<'s> {
    names: Vec<Cow<'s, str>>,
    digest: String,
}

impl Comparisons {
    /// Takes over what the assessment before kept of a device of a set.
    fn take_over(&mut self, kept: &DriftResults, set: usize, device: &str) {
        let own = kept.of(device).iter().filter(|one| one.set == set);
        own.for_each(|one| self.results.add(device, set, one.outcome.clone()));
    }

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
