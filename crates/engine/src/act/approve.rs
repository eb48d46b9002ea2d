//! Approvals: somebody says that an action may be carried out.

use std::cell::OnceCell;
use std::collections::BTreeSet;
use std::time::Duration;

use fencepost_core::{ActionState, HeldBecause};
use fencepost_store::{ApprovalRow, Purpose};

use super::outbox::{Outbox, OutboxLine};
use super::records::OutboxRecords;
use crate::error::EngineError;
use crate::ledger_view::reading::Reading;
use crate::workspace::ledger::{Moment, open_ledger};
use crate::workspace::project::Project;

/// What somebody approves.
#[derive(Clone, Debug)]
pub struct ApprovalRequest {
    /// The ids of the actions, or their beginnings.
    pub actions: Vec<String>,
    /// Who approves them.
    pub by: String,
    /// Why.
    pub because: String,
}

/// Approves actions that are held for it, and returns them.
///
/// # Errors
/// When one of them is not known, or needs no approval; then none is approved. Or when the ledger cannot be read or written.
pub fn approve(
    project: &Project,
    wait: Duration,
    moment: &Moment,
    request: &ApprovalRequest,
) -> Result<Vec<OutboxLine>, EngineError> {
    for (word, text) in [("--by", &request.by), ("--because", &request.because)] {
        if text.trim().is_empty() {
            return Err(EngineError::refused(
                format!("{word} says nothing"),
                "an approval names who gives it, and why",
            ));
        }
    }
    let mut writing = open_ledger(project, Purpose::Write, wait)?;
    let mut approved = Vec::new();
    {
        let ledger = open_ledger(project, Purpose::Read, wait)?;
        let earlier = OnceCell::new();
        let reading = Reading::open(project, &earlier, &ledger, moment.as_of, false)?;
        let reading = if reading.edited { reading.by_rules_of(project)? } else { reading };
        let records = OutboxRecords::read(&reading)?;
        let mut waiting: Vec<OutboxLine> = Vec::new();
        let mut others: BTreeSet<String> = BTreeSet::new();
        Outbox { reading: &reading, records: &records }.each_device(|lines| {
            for line in lines {
                match needs_approval(&line) {
                    true => waiting.push(line),
                    false => drop(others.insert(line.action.id.to_string())),
                }
            }
            Ok(())
        })?;
        for asked in &request.actions {
            approved.push(found(asked, &waiting, &others)?);
        }
    }
    let writer = writing.writer("send approve")?;
    for line in &approved {
        writer.add_approval(&ApprovalRow {
            action: line.action.id.number(),
            at: moment.as_of,
            evidence_at: line.finding.evidence_at,
            by: request.by.clone(),
            because: request.because.clone(),
        })?;
    }
    writer.commit()?;
    Ok(approved)
}

/// Returns whether an action waits for somebody's approval: a step that asks for it, or something that may have gone out already.
pub(crate) fn needs_approval(line: &OutboxLine) -> bool {
    match line.action.state {
        ActionState::Held(HeldBecause::Approval | HeldBecause::ApprovalLapsed) => true,
        ActionState::InDoubt => line.attempts.is_none(),
        _ => false,
    }
}

/// Finds the one action that an id, or its beginning, means.
fn found(asked: &str, waiting: &[OutboxLine], others: &BTreeSet<String>) -> Result<OutboxLine, EngineError> {
    const SHORTEST: usize = 4;
    let is_meant = |id: &str| id == asked || asked.len() >= SHORTEST && id.starts_with(asked);
    let mut meant = waiting.iter().filter(|line| is_meant(&line.action.id.to_string()));
    match (meant.next(), meant.next()) {
        (Some(only), None) => Ok(only.clone()),
        (Some(_), Some(_)) => Err(EngineError::refused(
            format!("several actions begin with `{asked}`"),
            "write more of the id: fencepost list actions",
        )),
        (None, _) => {
            let what = match others.iter().any(|id| is_meant(id)) {
                true => format!("action `{asked}` waits for nobody's approval"),
                false => format!("there is no action `{asked}`"),
            };
            Err(EngineError::refused(what, "see them with: fencepost list actions --where 'state = \"held\"'"))
        }
    }
}
