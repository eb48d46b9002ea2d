//! Which devices are covered for which topic, by platform and role, and the odd ones out.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{Facts, Reason, SlotId, Stage, Value, VerdictOutcome};
use jiff::Timestamp;
use serde_json::json;

use super::rows::{RowSink, row};
use super::{Column, percent};
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::outcome::{code_of, verdict_of};
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// By which facts devices are parted.
const BY: [&str; 2] = ["platform", "role"];
/// No more of those that are left out are named.
const MOST_NAMES: usize = 20;
/// What is said of all topics together.
const ANY: &str = "(any)";
/// The topic of rules that have none.
const NONE: &str = "(none)";

/// How one device is covered for a topic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Cover {
    LeftOut,
    Excepted,
    Unknown,
    Covered,
}

#[derive(Default)]
struct CoverageCounts {
    devices: u64,
    covered: u64,
    excepted: u64,
    unknown: u64,
    left_out: u64,
    names: Vec<String>,
}

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["topic", "platform", "role", "devices", "covered", "share", "excepted", "left_out", "names"],
        &["unknown"],
    )
}

impl CoverageCounts {
    fn add(&mut self, device: &str, cover: Cover) {
        self.devices += 1;
        match cover {
            Cover::Covered => self.covered += 1,
            Cover::Excepted => self.excepted += 1,
            Cover::Unknown => self.unknown += 1,
            Cover::LeftOut => {
                self.left_out += 1;
                if self.names.len() < MOST_NAMES {
                    self.names.push(device.to_owned());
                }
            }
        }
    }
}

/// The topics of the enforced rules, and one for all of them together.
struct Topics<'p> {
    names: Vec<&'p str>,
    /// The topic of each enforced rule, by index.
    of_rule: BTreeMap<usize, usize>,
    /// The topic of all together, by index.
    any: usize,
}

impl<'p> Topics<'p> {
    fn of(project: &'p Project, at: Timestamp) -> Self {
        let rules = project.rules.rules().iter().enumerate();
        let enforced: Vec<(usize, &str)> = rules
            .filter(|(_, rule)| rule.stage(at) == Stage::Enforced)
            .map(|(at, rule)| (at, rule.topic.as_deref().unwrap_or(NONE)))
            .collect();
        let names: BTreeSet<&str> = std::iter::once(ANY).chain(enforced.iter().map(|(_, topic)| *topic)).collect();
        let names: Vec<&str> = names.into_iter().collect();
        let position = |topic: &str| names.iter().position(|known| *known == topic).unwrap_or(0);
        let of_rule = enforced.iter().map(|(rule, topic)| (*rule, position(topic))).collect();
        Self { of_rule, any: position(ANY), names }
    }

    /// Returns how a device is covered for each topic, by the verdicts of rules as they are kept.
    fn covers(&self, verdicts: impl Iterator<Item = (usize, u8)>) -> Vec<Cover> {
        let mut covers = vec![Cover::LeftOut; self.names.len()];
        for (rule, code) in verdicts {
            let Some(topic) = self.of_rule.get(&rule) else { continue };
            let verdict = verdict_of(rule, code);
            let cover = match verdict.outcome {
                VerdictOutcome::NotApplicable if verdict.excepted => Cover::Excepted,
                VerdictOutcome::NotApplicable => Cover::LeftOut,
                VerdictOutcome::Unknown(Reason::Scope) => Cover::Unknown,
                VerdictOutcome::Unknown(_) | VerdictOutcome::Pass | VerdictOutcome::Fail => Cover::Covered,
            };
            for topic in [*topic, self.any] {
                covers[topic] = covers[topic].max(cover);
            }
        }
        covers
    }
}

impl Reading<'_> {
    pub(super) fn list_coverage(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let project = self.project;
        let topics = Topics::of(project, self.judged_at());
        // Drafts have no verdict.
        let judged: Vec<usize> =
            (0..project.rules.rules().len()).filter(|at| !project.rules.rules()[*at].is_draft()).collect();
        let mut layout = project.rules.layout().clone();
        let slots = BY.map(|path| layout.want(path, &project.dictionary));
        if self.run.is_some() {
            // Earlier verdicts are found again.
            self.load_comparisons()?;
        }
        let judge = self.judge();
        let now = self.run.is_none();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let codes: Vec<u8> = match job.outcome() {
                Some(outcome) => outcome.verdicts.to_vec(),
                // What came in after the assessment is not judged yet.
                None if now => return Ok(None),
                None => {
                    let judged = judge.judged(&job.device.name, facts, arena);
                    judge.verdicts(&judged.input, arena).all.iter().map(code_of).collect()
                }
            };
            let covers = topics.covers(judged.iter().copied().zip(codes));
            let kind = slots.map(|slot: SlotId| match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => None,
                known => Some(known.show()),
            });
            Ok(Some((job.device.name.clone(), kind, covers)))
        };
        let mut all: BTreeMap<(usize, [Option<String>; 2]), CoverageCounts> = BTreeMap::new();
        self.with_facts(
            &judge,
            Wanted::whole(&layout, &slots),
            look,
            |found: Option<(String, [Option<String>; 2], Vec<Cover>)>| {
                let Some((device, kind, covers)) = found else { return Ok(()) };
                for (topic, cover) in covers.into_iter().enumerate() {
                    all.entry((topic, kind.clone())).or_default().add(&device, cover);
                }
                Ok(())
            },
        )?;
        // Where some are covered and some are not, somebody was forgotten: that comes first.
        let is_odd = |counts: &CoverageCounts| counts.left_out > 0 && counts.left_out < counts.devices;
        let mut all: Vec<_> = all.into_iter().collect();
        all.sort_by_key(|(_, counts)| !is_odd(counts));
        let rows = all
            .into_iter()
            .filter(|((topic, _), counts)| *topic == topics.any || counts.left_out < counts.devices)
            .map(|((topic, [platform, role]), counts)| {
                let odd = is_odd(&counts);
                row([
                    ("topic", json!(topics.names[topic])),
                    ("platform", json!(platform)),
                    ("role", json!(role)),
                    ("devices", json!(counts.devices)),
                    ("covered", json!(counts.covered)),
                    ("share", json!(percent(counts.covered, counts.devices))),
                    ("excepted", json!(counts.excepted)),
                    ("unknown", json!(counts.unknown)),
                    ("left_out", json!(counts.left_out)),
                    ("names", json!(if odd || topic == topics.any { counts.names } else { Vec::new() })),
                ])
            });
        sink.push_all(rows)
    }
}
