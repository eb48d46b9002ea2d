//! Which devices are covered for which topic, by platform and role, and the odd ones out.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Reason, SlotId, Stage, Verdict, VerdictOutcome};
use jiff::Timestamp;
use serde_json::json;

use super::rows::{RowSink, row};
use super::{Column, percent};
use crate::ask::verdicts::{DeviceVerdictsAt, VerdictSource, VerdictsWanted};
use crate::error::EngineError;
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

/// How a device of a kind is covered for each topic.
struct CoveredDevice {
    device: String,
    /// Its platform and role.
    kind: [Option<String>; 2],
    covers: Vec<Cover>,
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

    /// Returns how a device is covered for each topic, by its verdicts.
    fn covers(&self, verdicts: &[Verdict]) -> Vec<Cover> {
        let mut covers = vec![Cover::LeftOut; self.names.len()];
        for verdict in verdicts {
            let Some(topic) = self.of_rule.get(&verdict.rule) else { continue };
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
        let mut layout = project.rules.layout().clone();
        let slots = BY.map(|path| layout.want(path, &project.dictionary));
        let tell = |device: &DeviceVerdictsAt<'_>| CoveredDevice {
            device: device.judged.input.id.to_owned(),
            kind: slots.map(|slot: SlotId| device.shown(slot)),
            covers: topics.covers(&device.verdicts),
        };
        let mut all: BTreeMap<(usize, [Option<String>; 2]), CoverageCounts> = BTreeMap::new();
        let wanted = VerdictsWanted {
            source: VerdictSource::AssessmentWithNewerFacts,
            of_rule: None,
            layout: &layout,
            slots: &slots,
        };
        self.each_with_verdicts(wanted, tell, |CoveredDevice { device, kind, covers }| {
            for (topic, cover) in covers.into_iter().enumerate() {
                all.entry((topic, kind.clone())).or_default().add(&device, cover);
            }
            Ok(())
        })?;
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
