//! What the evidence of a condition can be told to come from without gathering it.
//!
//! Evidence names the facts that were read for what decided. Where every part of a condition reads a fact, whichever decides
//! names one; and where all facts that it may name were collected at one moment, that moment is the evidence's.

use jiff::Timestamp;

use super::compiled::{Condition, Node, Op};
use crate::facts::layout::SlotId;
use crate::facts::merge::{Facts, Origin};

impl Condition {
    /// Returns the moment at which the newest of the facts was collected that the evidence of an answer names, if all that it may
    /// name were collected at that moment and none was corrected; the outer none where the evidence has to be gathered to tell.
    pub(crate) fn collected_as_one(&self, facts: &Facts<'_>) -> Option<Option<Timestamp>> {
        let (first, rest) = self.evidence_summary.as_ref()?.split_first()?;
        let collected = |slot: &SlotId| match facts.slot(*slot).origin {
            Some(Origin::Observed { collected, .. }) => Some(collected),
            Some(Origin::Corrected(_)) | None => None,
        };
        let one = collected(first)?;
        rest.iter().all(|slot| collected(slot) == Some(one)).then_some(one)
    }
}

/// Returns the slots of the facts that evidence of a condition may name, if it is sure to name one of them.
pub(super) fn evidence_summary_of(root: &Node) -> Option<Vec<SlotId>> {
    let mut slots = Vec::new();
    if !decide_by_facts(root, &mut slots) {
        return None;
    }
    slots.sort_unstable();
    slots.dedup();
    Some(slots)
}

/// Adds what is named of a part that is true or false; returns whether whatever decides in it names a fact.
fn decide_by_facts(node: &Node, slots: &mut Vec<SlotId>) -> bool {
    match &node.op {
        Op::And(parts) | Op::Or(parts) => all_decide_by_facts(parts, slots),
        Op::Not(inner) => decide_by_facts(inner, slots),
        Op::If { condition, then, otherwise } => {
            all_decide_by_facts([condition, then, otherwise].map(|part| &**part), slots)
        }
        Op::Quantified { lists, body, .. } => {
            // What is read for the first list is named with the items, whatever comes of them.
            decide_by_facts(body, slots);
            first_reads_a_fact(lists, slots)
        }
        _ => reads_a_fact(node, slots),
    }
}

/// The same of several parts. What one may name is added whatever is said of another: around all of them may stand a list that
/// is named.
fn all_decide_by_facts<'n>(parts: impl IntoIterator<Item = &'n Node>, slots: &mut Vec<SlotId>) -> bool {
    let mut all = true;
    for part in parts {
        all &= decide_by_facts(part, slots);
    }
    all
}

/// Adds what is named of a value; returns whether working it out reads a fact whatever comes before.
fn reads_a_fact(node: &Node, slots: &mut Vec<SlotId>) -> bool {
    let is_literal = |node: &Node| matches!(node.op, Op::Constant(_) | Op::Text(_) | Op::Version(_));
    match &node.op {
        Op::Fact { slot, .. } => {
            slots.push(*slot);
            true
        }
        // Answered without evidence.
        Op::And(_) | Op::Or(_) | Op::Not(_) | Op::Quantified { .. } => false,
        // The question is, and where it is not known nothing else is read.
        Op::If { then, otherwise, .. } => {
            reads_a_fact(then, slots);
            reads_a_fact(otherwise, slots);
            false
        }
        // So is whatever chooses items.
        Op::Filter { list, .. } => reads_a_fact(list, slots),
        Op::ItemField { fact, .. } => {
            reads_a_fact(fact, slots);
            false
        }
        // What comes behind an argument that is not known is not read.
        Op::Call(_, arguments) => {
            let sure = arguments.iter().position(|argument| !is_literal(argument));
            let each = arguments.iter().map(|argument| reads_a_fact(argument, slots));
            each.enumerate().fold(false, |any, (at, reads)| any || reads && Some(at) == sure)
        }
        // Both sides are read.
        Op::Arithmetic(_, left, right) | Op::Compare(_, left, right) => {
            let left = reads_a_fact(left, slots);
            reads_a_fact(right, slots) || left
        }
        // At least the first part is read.
        _ => first_reads_a_fact(node.children(), slots),
    }
}

/// Adds what is named of several values; returns whether working out the first reads a fact.
fn first_reads_a_fact<'n>(values: impl IntoIterator<Item = &'n Node>, slots: &mut Vec<SlotId>) -> bool {
    let mut sure = false;
    for (at, value) in values.into_iter().enumerate() {
        sure |= reads_a_fact(value, slots) && at == 0;
    }
    sure
}
