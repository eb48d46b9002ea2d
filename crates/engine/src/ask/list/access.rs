//! Access rules, with whom they hit today.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Stage, StepResult, Strictness};
use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(
        &["access_rule", "stage", "services", "people", "devices", "permitted", "reduced", "denied"],
        &["enforced_from", "needs", "otherwise"],
    )
}

/// Whom an access rule hits: devices that it applies to, the people who sign in with them, and what it does to each of the pairs.
#[derive(Default)]
struct Hits {
    devices: u64,
    people: BTreeSet<String>,
    /// Pairs of a device and a person, by the strictest that the rule asks of their usual sign-ins.
    pairs: [u64; 3],
}

impl Reading<'_> {
    pub(super) fn list_access(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let rules = self.project.rules.access();
        let mut hits: Vec<Hits> = rules.rules().iter().map(|_| Hits::default()).collect();
        let judge = self.assessing_judge();
        self.each_device_at(&judge, &mut |found, arena| {
            let mut own: BTreeMap<(usize, Option<String>), Strictness> = BTreeMap::new();
            for signed_in in found.explained_sign_ins(arena) {
                for step in &signed_in.decision.steps {
                    let rule = &rules.rules()[step.rule];
                    let asked = match step.result {
                        StepResult::Met => Strictness::Permitted,
                        StepResult::Unmet | StepResult::NeedsUnknown => rule.unmet(),
                        // Of a rule on trial nobody has decided which is the stricter.
                        StepResult::Uncertain(_) if step.counts || step.stage != Stage::Enforced => rule.unmet(),
                        _ => continue,
                    };
                    let strictest = own.entry((step.rule, signed_in.key.person.clone())).or_insert(asked);
                    *strictest = (*strictest).max(asked);
                }
            }
            let mut counted = BTreeSet::new();
            for ((rule, person), strictness) in own {
                let hits = &mut hits[rule];
                hits.devices += u64::from(counted.insert(rule));
                hits.people.extend(person);
                hits.pairs[strictness as usize] += 1;
            }
            Ok(())
        })?;
        let services = |rule: &fencepost_core::AccessRule| {
            let own = rules.services().iter().enumerate().filter(|(at, _)| rule.is_about(*at));
            own.map(|(_, service)| service.id.as_str()).collect::<Vec<_>>().join(", ")
        };
        let rows = rules.rules().iter().zip(hits).map(|(rule, hits)| {
            row([
                ("access_rule", json!(rule.id.as_str())),
                ("stage", json!(rule.stage(self.at).as_str())),
                ("services", json!(services(rule))),
                ("people", json!(hits.people.len())),
                ("devices", json!(hits.devices)),
                ("permitted", json!(hits.pairs[Strictness::Permitted as usize])),
                ("reduced", json!(hits.pairs[Strictness::Limited as usize])),
                ("denied", json!(hits.pairs[Strictness::Denied as usize])),
                ("enforced_from", json!(rule.enforced_from().map(|at| at.to_string()))),
                ("needs", json!(rule.needs())),
                ("otherwise", json!(rule.otherwise_in_words())),
            ])
        });
        sink.push_all(rows)
    }
}
