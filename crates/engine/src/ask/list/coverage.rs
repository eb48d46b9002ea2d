//! Which devices are covered for which topic, by platform and role, and the odd ones out.

use std::collections::BTreeMap;

use bumpalo::Bump;
use fencepost_core::{Facts, Reason, SlotId, Stage, Value, VerdictOutcome};
use serde_json::json;

use super::rows::{RowSink, row};
use super::{Column, percent};
use crate::error::EngineError;
use crate::ledger_view::batch::Job;
use crate::ledger_view::outcome::{code_of, verdict_of};
use crate::ledger_view::reading::{Reading, Wanted};

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
struct Counts {
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

impl Reading<'_> {
    pub(super) fn list_coverage(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let project = self.project;
        let at = self.judged_at();
        let rules: Vec<(usize, &str)> = project
            .rules
            .rules()
            .iter()
            .enumerate()
            .filter(|(_, rule)| rule.stage(at) == Stage::Enforced)
            .map(|(at, rule)| (at, rule.topic.as_deref().unwrap_or(NONE)))
            .collect();
        let topics: Vec<&str> = {
            let mut topics: Vec<&str> = std::iter::once(ANY).chain(rules.iter().map(|(_, topic)| *topic)).collect();
            topics.sort_unstable();
            topics.dedup();
            topics
        };
        let of_rule: BTreeMap<usize, usize> = rules
            .iter()
            .map(|(rule, topic)| (*rule, topics.iter().position(|known| known == topic).unwrap_or(0)))
            .collect();
        let any = topics.iter().position(|topic| *topic == ANY).unwrap_or(0);
        // Drafts have no verdict.
        let judged: Vec<usize> =
            (0..project.rules.rules().len()).filter(|at| !project.rules.rules()[*at].is_draft()).collect();
        let mut layout = project.rules.layout().clone();
        let slots = BY.map(|path| layout.want(path, &project.dictionary));
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
            let mut covers = vec![Cover::LeftOut; topics.len()];
            for (rule, code) in judged.iter().zip(codes) {
                let Some(topic) = of_rule.get(rule) else { continue };
                let verdict = verdict_of(*rule, code);
                let cover = match verdict.outcome {
                    VerdictOutcome::NotApplicable if verdict.excepted => Cover::Excepted,
                    VerdictOutcome::NotApplicable => Cover::LeftOut,
                    VerdictOutcome::Unknown(Reason::Scope) => Cover::Unknown,
                    VerdictOutcome::Unknown(_) | VerdictOutcome::Pass | VerdictOutcome::Fail => Cover::Covered,
                };
                for topic in [*topic, any] {
                    covers[topic] = covers[topic].max(cover);
                }
            }
            let kind = slots.map(|slot: SlotId| match facts.slot(slot).value {
                Value::Unknown(_) | Value::Null => None,
                known => Some(known.show()),
            });
            Ok(Some((job.device.name.clone(), kind, covers)))
        };
        let mut all: BTreeMap<(usize, [Option<String>; 2]), Counts> = BTreeMap::new();
        self.with_facts(
            &judge,
            &layout,
            Wanted::Whole(&slots),
            look,
            |found: Option<(String, [Option<String>; 2], Vec<Cover>)>| {
                let Some((device, kind, covers)) = found else { return Ok(()) };
                for (topic, cover) in covers.into_iter().enumerate() {
                    let counts = all.entry((topic, kind.clone())).or_default();
                    counts.devices += 1;
                    match cover {
                        Cover::Covered => counts.covered += 1,
                        Cover::Excepted => counts.excepted += 1,
                        Cover::Unknown => counts.unknown += 1,
                        Cover::LeftOut => {
                            counts.left_out += 1;
                            if counts.names.len() < MOST_NAMES {
                                counts.names.push(device.clone());
                            }
                        }
                    }
                }
                Ok(())
            },
        )?;
        // Where some are covered and some are not, somebody was forgotten: that comes first.
        let is_odd = |counts: &Counts| counts.left_out > 0 && counts.left_out < counts.devices;
        let mut all: Vec<_> = all.into_iter().collect();
        all.sort_by_key(|(_, counts)| !is_odd(counts));
        let rows = all
            .into_iter()
            .filter(|((topic, _), counts)| *topic == any || counts.left_out < counts.devices)
            .map(|((topic, [platform, role]), counts)| {
                let odd = is_odd(&counts);
                row([
                    ("topic", json!(topics[topic])),
                    ("platform", json!(platform)),
                    ("role", json!(role)),
                    ("devices", json!(counts.devices)),
                    ("covered", json!(counts.covered)),
                    ("share", json!(percent(counts.covered, counts.devices))),
                    ("excepted", json!(counts.excepted)),
                    ("unknown", json!(counts.unknown)),
                    ("left_out", json!(counts.left_out)),
                    ("names", json!(if odd || topic == any { counts.names } else { Vec::new() })),
                ])
            });
        sink.push_all(rows)
    }
}
