//! What the devices come to together. An assessment that looks at some of them only starts from what the one before counted.

use std::collections::BTreeSet;

use fencepost_core::{Diagnostic, Dictionary, RuleSet, SlotId, Stage};
use fencepost_store::{LedgerError, Reader, Writer};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::counts::{RuleCount, StandingCounts};
use super::outcome::{Outcome, verdict_of};
use crate::error::EngineError;
use crate::project::Project;
use crate::survey::reported_paths;

/// Where the paths are kept that devices report, in the settings of a ledger.
const REPORTED: &str = "reported";

/// Counts over the fleet.
pub(super) struct Tally {
    devices: StandingCounts,
    /// One a rule, drafts among them.
    rules: Vec<RuleCount>,
    /// How many devices report each slot.
    reported: Vec<u64>,
    collected: Span,
}

/// What is counted of a device.
#[derive(Clone, Copy)]
pub(super) struct Counted<'o> {
    pub outcome: Outcome<&'o [u8]>,
    /// The newest moment of collection.
    pub collected: Option<Timestamp>,
}

/// The earliest and the latest of many moments.
#[derive(Clone, Copy, Debug, Default)]
struct Span {
    ends: Option<(Timestamp, Timestamp)>,
    /// A moment at the one or the other end was taken out, and perhaps no other is there.
    unsure: [bool; 2],
}

impl Span {
    fn add(&mut self, moment: Timestamp) {
        let (first, last) = self.ends.unwrap_or((moment, moment));
        self.unsure = [self.unsure[0] && moment > first, self.unsure[1] && moment < last];
        self.ends = Some((first.min(moment), last.max(moment)));
    }

    fn take_out(&mut self, moment: Timestamp) {
        if let Some((first, last)) = self.ends {
            self.unsure = [self.unsure[0] || moment <= first, self.unsure[1] || moment >= last];
        }
    }
}

impl Tally {
    pub(super) fn new(project: &Project, at: Timestamp) -> Self {
        Self {
            devices: StandingCounts::default(),
            rules: project.rules.rules().iter().map(|rule| RuleCount::of(rule, at)).collect(),
            reported: vec![0; project.rules.layout().len()],
            collected: Span::default(),
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
        let reported = summary["reported"].as_array()?;
        if rows.next().is_some() || reported.len() != tally.reported.len() {
            return None;
        }
        tally.reported = reported.iter().map(Json::as_u64).collect::<Option<_>>()?;
        let moment = |at: usize| summary["collected"][at].as_str()?.parse::<Timestamp>().ok();
        tally.collected.ends = moment(0).zip(moment(1));
        Some(tally)
    }

    /// Counts a device as it is now instead of as it was before.
    pub(super) fn replace(&mut self, project: &Project, before: Option<Counted<'_>>, now: Option<Counted<'_>>) {
        for (counted, adds) in [(before, false), (now, true)] {
            let Some(Counted { outcome, collected }) = counted else { continue };
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
            let judged = project.rules.rules().iter().zip(&mut self.rules).filter(|(rule, _)| !rule.is_draft());
            for ((_, count), code) in judged.zip(outcome.verdicts) {
                let verdict = verdict_of(0, *code);
                step(count.of_outcome(verdict.outcome), true);
                step(&mut count.vacuous, verdict.vacuous);
                step(&mut count.excepted, verdict.excepted);
                step(&mut count.awaiting, verdict.awaiting);
            }
            for (slot, count) in self.reported.iter_mut().enumerate() {
                step(count, outcome.reports(slot));
            }
        }
    }

    /// Returns the oldest and the newest moment of collection; the outer none where they have to be looked for.
    pub(super) fn collected(&self) -> Option<Option<(Timestamp, Timestamp)>> {
        (self.collected.unsure == [false; 2]).then_some(self.collected.ends)
    }

    pub(super) fn summary(&self, before: Option<Timestamp>, collected: Option<(Timestamp, Timestamp)>) -> Json {
        let rules = self.rules.iter().filter(|count| count.stage != Stage::Draft.as_str());
        json!({
            "devices": self.devices.to_json(),
            "rules": rules.map(RuleCount::to_json).collect::<Vec<_>>(),
            "reported": self.reported,
            "before": before.map(|moment| moment.to_string()),
            "collected": collected.map(|(oldest, newest)| [oldest.to_string(), newest.to_string()]),
        })
    }

    /// Warns of facts that conditions name and no device of the fleet reports.
    pub(super) fn unreported(&self, project: &Project, writer: &Writer<'_>) -> Result<Vec<Diagnostic>, EngineError> {
        let reports = |slot: SlotId| self.reported[slot.0 as usize] > 0;
        unreported(project, &writer.reader(), reports, |paths| writer.set_setting(REPORTED, paths))
    }
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
fn known_paths(
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
