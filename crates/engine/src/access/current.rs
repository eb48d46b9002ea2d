//! The decisions about the sign-ins with one device: as the last assessment left them, as time has moved them since, and as it will.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use bumpalo::Bump;
use fencepost_core::{Cause, Effect, Finding, Ruling};
use fencepost_store::{DeviceRow, Look, SpellKind, SpellRow};
use jiff::Timestamp;

use crate::assess::outlook::{ComingDecision, Outlook};
use crate::error::EngineError;
use crate::ledger_view::codec::{self, DecisionKey, StoredDecision};
use crate::ledger_view::damage::unreadable;
use crate::ledger_view::reading::Reading;

/// A decision as the ledger holds it.
pub(crate) struct KeptDecision {
    pub key: DecisionKey,
    pub decision: StoredDecision,
    /// The run that first saw it.
    pub from_run: i64,
    /// The run that ended it.
    pub ended: Option<i64>,
}

/// A decision as it holds now.
#[derive(Clone)]
pub(crate) struct CurrentDecision {
    pub decision: StoredDecision,
    pub since: Timestamp,
}

/// The decisions about the sign-ins with a device.
pub(crate) struct CurrentDecisions {
    pub device: String,
    number: i64,
    /// Its findings that run, once they are asked for.
    findings: OnceCell<Vec<Finding>>,
    pub now: BTreeMap<DecisionKey, CurrentDecision>,
    /// Those that time has moved since the assessment, as that left them.
    pub moved: Vec<(DecisionKey, StoredDecision)>,
    /// Everything that time alone makes of them after the assessment.
    pub coming: Vec<ComingDecision>,
    /// Of that, what gets stricter after the moment of reading.
    pub losing: Vec<ComingDecision>,
}

impl CurrentDecision {
    /// Returns whether an access rule denies it, and a cause is among the reasons.
    pub(crate) fn is_denied_because(&self, is_cause: impl Fn(&Cause) -> bool) -> bool {
        let decision = &self.decision;
        let by_rule = decision.ruling.effect == Effect::Deny && !decision.is_by_default();
        by_rule && decision.causes.iter().any(is_cause)
    }
}

impl Reading<'_> {
    /// Returns the decisions about the sign-ins with a device, as they are at the moment of reading and will be.
    pub(crate) fn current_decisions(&self, device: &DeviceRow) -> Result<CurrentDecisions, EngineError> {
        let mut now = BTreeMap::new();
        for kept in self.stored_decisions(device, self.run)? {
            let since = self.began(&kept)?;
            now.insert(kept.key, CurrentDecision { decision: kept.decision, since });
        }
        let coming = self.coming(device, &now)?;
        let mut moved: BTreeMap<DecisionKey, StoredDecision> = BTreeMap::new();
        for it in coming.iter().filter(|it| it.at <= self.at) {
            let left = now.insert(it.key.clone(), CurrentDecision { decision: it.decision.clone(), since: it.at });
            if let (Some(left), Entry::Vacant(first)) = (left, moved.entry(it.key.clone())) {
                first.insert(left.decision);
            }
        }
        let moved = moved.into_iter().collect();
        let losing = losing(&now, coming.iter().filter(|it| it.at > self.at));
        let (findings, number) = (OnceCell::new(), device.number);
        Ok(CurrentDecisions { device: device.name.clone(), number, findings, now, moved, coming, losing })
    }

    /// Returns the findings that run on the device of some decisions.
    pub(crate) fn findings_beside<'c>(&self, decisions: &'c CurrentDecisions) -> Result<&'c [Finding], EngineError> {
        if let Some(known) = decisions.findings.get() {
            return Ok(known);
        }
        let device = DeviceRow { number: decisions.number, name: decisions.device.clone(), dirty: false };
        let findings = codec::findings_of(&self.reader, self.project, &device, self.run)?;
        Ok(decisions.findings.get_or_init(|| findings))
    }

    /// Returns what time alone makes of the decisions about a device after the assessment: as the assessment found, or, as of an
    /// earlier one, as it would have.
    fn coming(
        &self,
        device: &DeviceRow,
        now: &BTreeMap<DecisionKey, CurrentDecision>,
    ) -> Result<Vec<ComingDecision>, EngineError> {
        if self.run.is_none() {
            let unreadable = || unreadable(self.project, &device.name, "a decision to come");
            let rows = self.reader.coming_decisions(device.number)?;
            return rows.iter().map(|row| Ok(ComingDecision::read(row).ok_or_else(unreadable)?)).collect();
        }
        if now.is_empty() {
            return Ok(Vec::new());
        }
        let findings = codec::findings_of(&self.reader, self.project, device, self.run)?;
        let documents = self.assessed_documents(&device.name)?;
        let (judge, arena) = (self.assessing_judge(), Bump::new());
        let observations = judge.observations(&device.name, &documents, self.project.rules.layout(), &arena)?;
        let now: Vec<(DecisionKey, StoredDecision)> =
            now.iter().map(|(key, held)| (key.clone(), held.decision.clone())).collect();
        let outlook = Outlook { judge: &judge, device: &device.name, observations: &observations, findings: &findings };
        Ok(outlook.coming(&now, &arena))
    }

    /// Returns the devices of which time alone has changed a decision since the assessment, by name.
    pub(crate) fn devices_moved_by_time(&self) -> Result<Vec<DeviceRow>, EngineError> {
        match (self.run, self.at > self.judged_at()) {
            (_, false) => Ok(Vec::new()),
            (None, true) => Ok(self.reader.devices_with_decisions_until(self.at)?),
            // What was to come is kept of the latest assessment alone.
            (Some(_), true) => Ok(self.reader.devices(Look::All)?),
        }
    }

    /// Hands on every decision as the assessment left it, with its device, in the order of the devices' ids.
    pub(crate) fn each_kept_decision(
        &self,
        mut each: impl FnMut(&str, &DecisionKey, &StoredDecision) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        self.reader.each_spell(SpellKind::Decision, self.run, |spell| {
            let unreadable = || unreadable(self.project, &spell.device, "a decision");
            let key = DecisionKey::read(&spell.subject).ok_or_else(unreadable)?;
            let decision = StoredDecision::read(&spell.value, &spell.detail).ok_or_else(unreadable)?;
            each(&spell.device, &key, &decision)
        })
    }

    /// Returns the decisions about a device as of a run.
    pub(super) fn stored_decisions(
        &self,
        device: &DeviceRow,
        run: Option<i64>,
    ) -> Result<Vec<KeptDecision>, EngineError> {
        let read = |row: SpellRow| {
            let unreadable = || unreadable(self.project, &row.device, "a decision");
            let decision = StoredDecision::read(&row.value, &row.detail).ok_or_else(unreadable)?;
            let key = DecisionKey::read(&row.subject).ok_or_else(unreadable)?;
            Ok(KeptDecision { key, decision, from_run: row.from_run, ended: row.to_run })
        };
        self.reader.spells_of(SpellKind::Decision, device, run)?.into_iter().map(read).collect()
    }

    /// Since when a decision holds. Earlier versions did not keep it, and it is told since the assessment that first saw it.
    fn began(&self, kept: &KeptDecision) -> Result<Timestamp, EngineError> {
        match kept.decision.since {
            Some(since) => Ok(since),
            None => Ok(self.reader.run(kept.from_run)?.map_or(self.judged_at(), |run| run.as_of)),
        }
    }
}

/// Returns the coming decisions that are stricter than what holds until then. What comes only if a device stays silent is held
/// against what holds in any case, what is certain against what is certain before.
fn losing<'c>(
    now: &BTreeMap<DecisionKey, CurrentDecision>,
    coming: impl Iterator<Item = &'c ComingDecision>,
) -> Vec<ComingDecision> {
    let rulings = || now.iter().map(|(key, held)| (key, &held.decision.ruling));
    let (mut certain, mut any): (BTreeMap<&DecisionKey, &Ruling>, BTreeMap<&DecisionKey, &Ruling>) =
        (rulings().collect(), rulings().collect());
    let mut losing = Vec::new();
    for it in coming {
        let ruling = &it.decision.ruling;
        let before = if it.only_if_silent { any.insert(&it.key, ruling) } else { certain.insert(&it.key, ruling) };
        if !it.only_if_silent {
            any.insert(&it.key, ruling);
        }
        if before.is_some_and(|before| ruling.is_stricter_than(before)) {
            losing.push(it.clone());
        }
    }
    losing
}
