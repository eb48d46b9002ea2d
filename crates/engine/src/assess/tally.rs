//! What the devices come to together. An assessment that looks at some of them only starts from what the one before counted.

use std::cmp::Ordering;
use std::collections::BTreeSet;

use fencepost_core::{Diagnostic, Dictionary, GroupKind, RuleSet, SlotId, Stage};
use fencepost_store::{LedgerError, Reader, Writer};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::counts::{GroupCounts, RuleCount, StandingCounts};
use crate::error::EngineError;
use crate::ledger_view::fence::Post;
use crate::ledger_view::outcome::{Outcome, verdict_of};
use crate::ledger_view::survey::reported_paths;
use crate::workspace::project::Project;

/// Where the paths are kept that devices report, in the settings of a ledger.
const REPORTED: &str = "reported";

/// Counts over the fleet.
pub(super) struct Tally {
    devices: StandingCounts,
    /// One a rule, drafts among them.
    rules: Vec<RuleCount>,
    /// How the devices of each group stand; of groups of people nothing is counted.
    groups: Vec<GroupCounts>,
    /// How many findings are overdue.
    overdue: u64,
    /// How many devices report each slot.
    reported: Vec<u64>,
    collected: MomentSpan,
}

/// What is counted of a device.
#[derive(Clone, Copy)]
pub(super) struct Counted<'o> {
    pub outcome: Outcome<&'o [u8]>,
    /// The newest moment of collection.
    pub collected: Option<Timestamp>,
    /// How many of its findings are overdue.
    pub overdue: u64,
}

/// The earliest and the latest of many moments.
#[derive(Clone, Copy, Debug, Default)]
struct MomentSpan {
    ends: Option<[End; 2]>,
}

/// The earliest or the latest of many moments.
#[derive(Clone, Copy, Debug)]
struct End {
    moment: Timestamp,
    /// How many of the moments are this one, where that is known.
    count: Option<u64>,
    /// It was taken out, and perhaps was the only one.
    unsure: bool,
}

impl MomentSpan {
    /// Whether a moment lies beyond the one end, or the other.
    const BEYOND: [Ordering; 2] = [Ordering::Less, Ordering::Greater];

    fn add(&mut self, moment: Timestamp) {
        let ends = self.ends.get_or_insert([End { moment, count: Some(0), unsure: true }; 2]);
        for (end, beyond) in ends.iter_mut().zip(Self::BEYOND) {
            let order = moment.cmp(&end.moment);
            if order == beyond {
                *end = End { moment, count: Some(1), unsure: false };
            } else if order == Ordering::Equal {
                *end = End { moment, count: end.count.map(|count| count + 1), unsure: false };
            }
        }
    }

    fn take_out(&mut self, moment: Timestamp) {
        for end in self.ends.iter_mut().flatten().filter(|end| end.moment == moment) {
            end.count = end.count.map(|count| count.saturating_sub(1));
            end.unsure = end.count.is_none_or(|count| count == 0);
        }
    }

    /// Returns the ends; the outer none where what they are is no longer known.
    fn known(&self) -> Option<Option<[End; 2]>> {
        let sure = self.ends.iter().flatten().all(|end| !end.unsure);
        sure.then_some(self.ends)
    }
}

impl Tally {
    pub(super) fn new(project: &Project, at: Timestamp) -> Self {
        Self {
            devices: StandingCounts::default(),
            rules: project.rules.rules().iter().map(|rule| RuleCount::of(rule, at)).collect(),
            groups: vec![GroupCounts::default(); project.rules.group_count()],
            overdue: 0,
            reported: vec![0; project.rules.layout().len()],
            collected: MomentSpan::default(),
        }
    }

    /// Goes on from what an assessment by the same rules counted; none when its summary does not fit them as they are at a moment.
    pub(super) fn after(project: &Project, summary: &Json, at: Timestamp) -> Option<Self> {
        let mut tally = Self::new(project, at);
        tally.devices = StandingCounts::of_json(&summary["devices"])?;
        let mut rows = summary["rules"].as_array()?.iter();
        for count in tally.rules.iter_mut().filter(|count| count.stage != Stage::Draft.as_str()) {
            let before = RuleCount::of_json(rows.next()?)?;
            if (&before.rule, &before.stage) != (&count.rule, &count.stage) {
                return None;
            }
            *count = before;
        }
        let groups = summary["groups"].as_array()?;
        for (group, counts) in devices_groups(project).zip(groups.iter().map(Some).chain(std::iter::repeat(None))) {
            let (id, before) = GroupCounts::of_json(counts?)?;
            if id != group.id {
                return None;
            }
            tally.groups[group.at] = before;
        }
        if groups.len() != devices_groups(project).count() {
            return None;
        }
        tally.overdue = summary["overdue"].as_u64()?;
        let reported = summary["reported"].as_array()?;
        if rows.next().is_some() || reported.len() != tally.reported.len() {
            return None;
        }
        tally.reported = reported.iter().map(Json::as_u64).collect::<Option<_>>()?;
        let end = |at: usize| {
            let moment = summary["collected"][at].as_str()?.parse().ok()?;
            Some(End { moment, count: summary["collected_by"][at].as_u64(), unsure: false })
        };
        tally.collected.ends = end(0).zip(end(1)).map(<[End; 2]>::from);
        Some(tally)
    }

    /// Counts a device as it is now instead of as it was before.
    pub(super) fn replace(&mut self, project: &Project, before: Option<Counted<'_>>, now: Option<Counted<'_>>) {
        for (counted, adds) in [(before, false), (now, true)] {
            let Some(Counted { outcome, collected, overdue }) = counted else { continue };
            // As the ledger keeps it.
            let collected = collected.and_then(|at| Timestamp::from_microsecond(at.as_microsecond()).ok());
            match collected {
                Some(collected) if adds => self.collected.add(collected),
                Some(collected) => self.collected.take_out(collected),
                None => {}
            }
            // Taken out is what was counted earlier, so nothing falls below zero.
            let step = |count: &mut u64, by: bool| {
                *count = if adds { *count + u64::from(by) } else { count.saturating_sub(u64::from(by)) };
            };
            step(&mut self.devices.total, true);
            step(self.devices.of(outcome.standing()), true);
            step(&mut self.devices.uncovered, !outcome.covered);
            step(&mut self.devices.stale, outcome.stale);
            step(&mut self.devices.waived, outcome.by_waiver);
            self.overdue = if adds { self.overdue + overdue } else { self.overdue.saturating_sub(overdue) };
            let post = Post { standing: outcome.standing(), by_waiver: outcome.by_waiver };
            for (at, count) in self.groups.iter_mut().enumerate().filter(|(at, _)| outcome.is_in(*at)) {
                debug_assert!(at < project.rules.group_count());
                count.step(post, |count| step(count, true));
            }
            let judged = project.rules.rules().iter().zip(&mut self.rules).filter(|(rule, _)| !rule.is_draft());
            for ((_, count), code) in judged.zip(outcome.verdicts) {
                count.step(&verdict_of(0, *code), |count| step(count, true));
            }
            for (slot, count) in self.reported.iter_mut().enumerate() {
                step(count, outcome.reports(slot));
            }
        }
    }

    /// Looks for the oldest and the newest moment of collection where a device that had the one or the other now has another.
    pub(super) fn find_collected(&mut self, reader: &Reader<'_>) -> Result<(), LedgerError> {
        if self.collected.known().is_none() {
            self.collected = MomentSpan::default();
            reader.each_assessed_collected(|moment| self.collected.add(moment))?;
        }
        Ok(())
    }

    pub(super) fn summary(&self, project: &Project, before: Option<Timestamp>) -> Json {
        let rules = self.rules.iter().filter(|count| count.stage != Stage::Draft.as_str());
        let ends = self.collected.known().flatten();
        let groups = devices_groups(project).map(|group| self.groups[group.at].to_json(group.id));
        json!({
            "devices": self.devices.to_json(),
            "rules": rules.map(RuleCount::to_json).collect::<Vec<_>>(),
            "reported": self.reported,
            "groups": groups.collect::<Vec<_>>(),
            "overdue": self.overdue,
            "before": before.map(|moment| moment.to_string()),
            "collected": ends.map(|ends| ends.map(|end| end.moment.to_string())),
            // How many devices were collected at the one and the other.
            "collected_by": ends.map(|ends| ends.map(|end| end.count)),
        })
    }

    /// Warns of facts that conditions name and no device of the fleet reports.
    pub(super) fn unreported(&self, project: &Project, writer: &Writer<'_>) -> Result<Vec<Diagnostic>, EngineError> {
        let reports = |slot: SlotId| self.reported[slot.0 as usize] > 0;
        unreported(project, &writer.reader(), reports, |paths| writer.set_setting(REPORTED, paths))
    }
}

/// A group of devices.
struct DevicesGroup<'p> {
    /// Its position among all groups.
    at: usize,
    id: &'p str,
}

fn devices_groups(project: &Project) -> impl Iterator<Item = DevicesGroup<'_>> {
    let groups = project.rules.groups().enumerate();
    groups
        .filter(|(_, group)| group.kind == GroupKind::Devices)
        .map(|(at, group)| DevicesGroup { at, id: group.id.as_str() })
}

/// Warns of facts that conditions name and no device of the fleet reports; `keep` is given what was found out about it anew.
pub(crate) fn unreported(
    project: &Project,
    reader: &Reader<'_>,
    reports: impl Fn(SlotId) -> bool,
    keep: impl FnOnce(&str) -> Result<(), LedgerError>,
) -> Result<Vec<Diagnostic>, EngineError> {
    if project.rules.named_slots().into_iter().all(&reports) {
        return Ok(Vec::new());
    }
    let mut known = known_paths(reader, keep)?;
    let layout = project.rules.layout();
    let slots = layout.slots();
    known.extend(slots.filter(|slot| reports(*slot)).map(|slot| layout.slot_path(slot).to_owned()));
    let dictionary = Dictionary { reported: Some(known), ..project.dictionary.clone() };
    let (_, mistakes) = RuleSet::compile(&project.source, &dictionary, &[]);
    Ok(mistakes.into_iter().filter(|mistake| mistake.code == "unknown-fact").collect())
}

/// Returns the paths that devices report, looked for again when something was imported since.
pub(crate) fn known_paths(
    reader: &Reader<'_>,
    keep: impl FnOnce(&str) -> Result<(), LedgerError>,
) -> Result<BTreeSet<String>, EngineError> {
    let imports = reader.imports_after(0)?;
    let kept = reader.setting(REPORTED)?.and_then(|text| serde_json::from_str::<(i64, BTreeSet<String>)>(&text).ok());
    if let Some((_, paths)) = kept.filter(|(of, _)| *of == imports) {
        return Ok(paths);
    }
    let paths = reported_paths(reader)?;
    keep(&json!([imports, paths]).to_string())?;
    Ok(paths)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn moments(span: &MomentSpan) -> Option<Option<[i64; 2]>> {
        span.known().map(|ends| ends.map(|ends| ends.map(|end| end.moment.as_second())))
    }

    proptest! {
        /// What is known of the ends is what they are, and while others are at an end it stays known.
        #[test]
        fn the_ends_of_a_span_are_those_of_the_moments_in_it(steps in prop::collection::vec((0_i64..8, any::<bool>()), 1..40)) {
            let (mut span, mut all) = (MomentSpan::default(), Vec::new());
            for (second, adds) in steps {
                let moment = Timestamp::from_second(second).unwrap();
                let there = all.iter().position(|known| *known == second);
                match (adds, there) {
                    (true, _) | (false, None) => {
                        all.push(second);
                        span.add(moment);
                    }
                    (false, Some(at)) => {
                        all.swap_remove(at);
                        span.take_out(moment);
                    }
                }
                let ends = all.iter().copied().min().zip(all.iter().copied().max()).map(|(first, last)| [first, last]);
                match moments(&span) {
                    Some(known) => prop_assert_eq!(known, ends),
                    None => {
                        // Looked for again, as an assessment does.
                        span = MomentSpan::default();
                        all.iter().for_each(|second| span.add(Timestamp::from_second(*second).unwrap()));
                        prop_assert!(all.is_empty() || moments(&span) == Some(ends));
                    }
                }
            }
        }
    }

    #[test]
    fn an_end_is_known_as_long_as_another_device_is_at_it() {
        let at = |second| Timestamp::from_second(second).unwrap();
        let mut span = MomentSpan::default();
        [3, 3, 5].into_iter().for_each(|second| span.add(at(second)));
        span.take_out(at(3));
        assert_eq!(moments(&span), Some(Some([3, 5])));
        span.take_out(at(3));
        assert_eq!(moments(&span), None);
        span.add(at(2));
        assert_eq!(moments(&span), Some(Some([2, 5])));
        // A ledger of before says when, and not how many.
        span.ends = span.ends.map(|ends| ends.map(|end| End { count: None, ..end }));
        span.take_out(at(5));
        assert_eq!(moments(&span), None);
        span.add(at(5));
        assert_eq!(moments(&span), Some(Some([2, 5])));
    }
}
