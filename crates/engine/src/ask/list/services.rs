//! Services, with who reaches them.

use std::collections::BTreeMap;

use fencepost_core::Strictness;
use fencepost_store::{LedgerError, SpellKind};
use serde_json::json;

use super::Column;
use super::rows::{RowSink, row};
use crate::error::EngineError;
use crate::ledger_view::codec::{DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// Returns the columns of the list.
pub(super) fn columns() -> Vec<Column> {
    super::columns(&["service", "default", "usual", "permit", "limited", "deny", "title"], &[])
}

impl Reading<'_> {
    pub(super) fn list_services(&self, sink: &mut RowSink) -> Result<(), EngineError> {
        let mut counts: BTreeMap<String, [u64; 3]> = BTreeMap::new();
        // Spells come by device. A device with one of its people counts once for a service: as it gets in best.
        let mut last = String::new();
        let mut best: BTreeMap<(String, Option<String>), Strictness> = BTreeMap::new();
        let mut add = |best: &mut BTreeMap<(String, Option<String>), Strictness>| {
            for ((service, _), strictness) in std::mem::take(best) {
                counts.entry(service).or_default()[strictness as usize] += 1;
            }
        };
        self.reader.each_spell(SpellKind::Decision, self.run, |spell| {
            let unreadable = || unreadable(self.project, &spell.device, "a decision");
            let key = DecisionKey::read(&spell.subject).ok_or_else(unreadable)?;
            let decision = StoredDecision::read(&spell.value, &spell.detail).ok_or_else(unreadable)?;
            if last != spell.device {
                last = spell.device;
                add(&mut best);
            }
            let own = best.entry((key.service, key.person)).or_insert(Strictness::Denied);
            *own = (*own).min(decision.strictness());
            Ok::<_, LedgerError>(())
        })?;
        add(&mut best);
        let rows = self.project.rules.access().services().iter().map(|service| {
            let count = |at: usize| json!(counts.get(service.id.as_str()).map_or(0, |counts| counts[at]));
            row([
                ("service", json!(service.id.as_str())),
                ("default", json!(service.default.as_str())),
                ("usual", json!(service.usual.iter().map(|usual| usual.id.as_str()).collect::<Vec<_>>().join(", "))),
                ("permit", count(0)),
                ("limited", count(1)),
                ("deny", count(2)),
                ("title", json!(service.title)),
            ])
        });
        sink.push_all(rows)
    }
}
