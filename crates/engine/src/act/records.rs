//! What the ledger and the journal know of what was done: attempts, results and approvals.

use std::collections::{BTreeMap, HashMap, HashSet};

use fencepost_core::{ActionId, ActionRecord, Approval, FindingId, bundle_number};
use fencepost_store::{ActionRow, DeliveryState};
use jiff::Timestamp;

use super::journal::SentJournal;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;

/// What was tried to carry out an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attempts {
    /// What the receiver knows the last delivery by that carried it.
    pub delivery: String,
    /// How often it was tried in all.
    pub count: u32,
    /// When it was tried last.
    pub at: Timestamp,
    /// What the receiver of a command last said.
    pub answer: Option<String>,
    /// Why it failed, or what the receiver said.
    pub because: Option<String>,
}

/// What the ledger knows of what was done about findings.
#[derive(Debug, Default)]
pub(crate) struct OutboxRecords {
    /// What became of each action.
    pub records: BTreeMap<ActionId, ActionRecord>,
    attempts: HashMap<ActionId, Attempts>,
    /// Who approved which action, and when.
    pub approvals: BTreeMap<ActionId, Approval>,
    /// The findings about which something was done.
    pub findings: HashSet<FindingId>,
    /// What was handed over of bundles, by the number of each, in the order of the deliveries.
    bundles: HashMap<u64, Vec<ActionRow>>,
}

impl OutboxRecords {
    /// Reads what was done up to the moment of reading. What the journal says was begun, and the ledger does not know, is in doubt: the
    /// ledger is an older one.
    pub(crate) fn read(reading: &Reading<'_>) -> Result<Self, EngineError> {
        let Reading { reader, project, at, .. } = reading;
        let (at, journal) = (*at, SentJournal::read(project)?);
        let bundles: HashSet<u64> =
            project.rules.bundles().map(|(_, bundle)| bundle_number(bundle.id.as_str())).collect();
        let mut all = Self::default();
        for (action, begun) in journal.actions().filter(|(_, begun)| *begun <= at) {
            all.records.insert(action, ActionRecord::InDoubt { at: begun });
        }
        let mut known: HashSet<ActionId> = HashSet::new();
        reader.each_action(|row| {
            if row.at <= at {
                // What the journal says is overtaken by the first thing that the ledger says.
                if known.insert(ActionId::of_number(row.key.action)) {
                    all.records.remove(&ActionId::of_number(row.key.action));
                }
                all.add(&row);
                if bundles.contains(&row.key.finding) {
                    all.bundles.entry(row.key.finding).or_default().push(row);
                }
            }
        })?;
        for row in reader.approvals()?.into_iter().filter(|row| row.at <= at) {
            let approval = Approval { at: row.at, evidence_at: row.evidence_at };
            all.approvals.insert(ActionId::of_number(row.action), approval);
        }
        // What may have gone out before is sent again where somebody says so.
        let Self { records, approvals, .. } = &mut all;
        records.retain(|id, _| known.contains(id) || !approvals.contains_key(id));
        Ok(all)
    }

    fn add(&mut self, row: &ActionRow) {
        let (id, at) = (ActionId::of_number(row.key.action), row.at);
        self.findings.insert(FindingId::of_number(row.key.finding));
        let before = self.attempts.get(&id).map_or(0, |attempts| attempts.count);
        let count = before + row.attempts;
        let attempts = Attempts {
            delivery: row.delivery.clone(),
            count,
            at,
            answer: row.answer.clone(),
            because: row.because.clone(),
        };
        self.attempts.insert(id, attempts);
        let is_refused = matches!(row.answer.as_deref(), Some("refused" | "unsupported"));
        let record = match row.state {
            DeliveryState::Delivered if is_refused => ActionRecord::Refused { at },
            DeliveryState::Delivered => ActionRecord::Delivered { at },
            DeliveryState::Claimed => ActionRecord::InDoubt { at },
            DeliveryState::Failed => ActionRecord::Failed { at, attempts: count },
            DeliveryState::GivenUp => return,
        };
        // What was delivered once stays so.
        if !matches!(self.records.get(&id), Some(ActionRecord::Delivered { .. })) {
            self.records.insert(id, record);
        }
    }

    /// Returns what was handed over of a bundle, in the order of the deliveries.
    pub(crate) fn of_bundle(&self, number: u64) -> &[ActionRow] {
        self.bundles.get(&number).map_or(&[], Vec::as_slice)
    }

    /// Returns what became of an action.
    pub(crate) fn record(&self, id: ActionId) -> Option<&ActionRecord> {
        self.records.get(&id)
    }

    /// Returns what was tried for an action.
    pub(crate) fn attempts(&self, id: ActionId) -> Option<&Attempts> {
        self.attempts.get(&id)
    }
}
