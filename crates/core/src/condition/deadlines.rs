//! Which facts conditions compare with the present moment: when those come, something ends.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::compiled::{Condition, Node, NodeTest, Op};
use crate::facts::layout::SlotId;

/// A fact, or a field of the items of a list, that is compared with `now()`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Deadline {
    /// The fact.
    pub slot: SlotId,
    /// The field of its items, where it is a list.
    pub field: Option<Arc<str>>,
}

impl Condition {
    /// Returns the facts that it compares with the present moment.
    pub(crate) fn deadlines(&self) -> BTreeSet<Deadline> {
        let mut found = Search { locals: Vec::new(), deadlines: BTreeSet::new() };
        found.walk(&self.root);
        found.deadlines
    }
}

struct Search {
    /// Which lists the items that are gone through are of, by their place on the stack of locals; none where no fact is the list.
    locals: Vec<Option<SlotId>>,
    deadlines: BTreeSet<Deadline>,
}

impl Search {
    fn walk(&mut self, node: &Node) {
        match &node.op {
            Op::Compare(_, left, right) => self.compared(left, right),
            Op::Between { value, low, high } => [low, high].into_iter().for_each(|bound| self.compared(value, bound)),
            Op::In(value, tests) => tests.iter().for_each(|test| match test {
                NodeTest::Value(node) | NodeTest::Compare(_, node) => self.compared(value, node),
            }),
            Op::Quantified { lists, first_local, .. } | Op::For { lists, first_local, .. } => {
                lists.iter().enumerate().for_each(|(at, list)| self.set_local(first_local + at, list));
            }
            Op::Filter { list, item, .. } => self.set_local(*item, list),
            _ => {}
        }
        node.children().into_iter().for_each(|child| self.walk(child));
    }

    fn set_local(&mut self, at: usize, list: &Node) {
        if self.locals.len() <= at {
            self.locals.resize(at + 1, None);
        }
        self.locals[at] = match list.op {
            Op::Fact { slot, .. } => Some(slot),
            _ => None,
        };
    }

    fn compared(&mut self, one: &Node, other: &Node) {
        if asks_for_now(other) {
            self.deadlines.extend(self.fact_of(one));
        }
        if asks_for_now(one) {
            self.deadlines.extend(self.fact_of(other));
        }
    }

    fn fact_of(&self, node: &Node) -> Option<Deadline> {
        let of_item = |local: usize, path: &Arc<str>| {
            let slot = self.locals.get(local).copied().flatten()?;
            Some(Deadline { slot, field: Some(Arc::clone(path)) })
        };
        match &node.op {
            Op::Fact { slot, .. } => Some(Deadline { slot: *slot, field: None }),
            Op::Field { base, path } => match base.op {
                Op::Local(local) => of_item(local, path),
                _ => None,
            },
            Op::ItemField { item, path, .. } => of_item(*item, path),
            _ => None,
        }
    }
}

/// Whether a value follows from the present moment.
fn asks_for_now(node: &Node) -> bool {
    matches!(&node.op, Op::Call(function, _) if function.name == "now")
        || match &node.op {
            Op::Arithmetic(_, one, other) => asks_for_now(one) || asks_for_now(other),
            _ => false,
        }
}
