//! What conditions look at of the items of lists, so that a reader need not build the rest of them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::compiled::{Condition, Node, NodeTest, Op};
use super::eval::NAMES_OF_ITEMS;
use crate::facts::layout::SlotId;

/// What is looked at of a value: of an object, or of each item of a list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Use {
    whole: bool,
    fields: BTreeSet<Arc<str>>,
}

impl Use {
    fn whole() -> Self {
        Self { whole: true, fields: BTreeSet::new() }
    }

    fn field(path: &Arc<str>) -> Self {
        Self { whole: false, fields: BTreeSet::from([Arc::clone(path)]) }
    }

    fn add(&mut self, other: &Self) {
        self.whole |= other.whole;
        self.fields.extend(other.fields.iter().cloned());
    }

    /// Returns the fields that are looked at, with those by which evidence names items; none where all may be.
    fn into_fields(self) -> Option<BTreeSet<Arc<str>>> {
        let names = NAMES_OF_ITEMS.iter().map(|name| Arc::from(*name));
        (!self.whole).then(|| self.fields.into_iter().chain(names).collect())
    }
}

/// What all conditions together look at of each fact.
#[derive(Debug, Default)]
pub(crate) struct Uses {
    facts: BTreeMap<SlotId, Use>,
    /// What is looked at of the items that quantifiers and filters go through, by their place on the stack of locals.
    locals: Vec<Use>,
}

impl Uses {
    /// Adds what a condition looks at.
    pub(crate) fn note(&mut self, condition: &Condition) {
        self.walk(&condition.root, &Use::whole());
    }

    /// Notes that a fact is looked at for something else.
    pub(crate) fn note_whole(&mut self, slot: SlotId) {
        self.facts.entry(slot).or_default().add(&Use::whole());
    }

    /// Notes a field of the items of a list, where anything is looked at of them.
    pub(crate) fn note_key(&mut self, slot: SlotId, key: &str) {
        if let Some(used) = self.facts.get_mut(&slot) {
            used.add(&Use::field(&Arc::from(key)));
        }
    }

    /// Returns the fields that are looked at of each fact; none where all may be.
    pub(crate) fn into_facts(self) -> BTreeMap<SlotId, Option<BTreeSet<Arc<str>>>> {
        self.facts.into_iter().map(|(slot, used)| (slot, used.into_fields())).collect()
    }

    fn local(&mut self, at: usize) -> &mut Use {
        if self.locals.len() <= at {
            self.locals.resize(at + 1, Use::default());
        }
        &mut self.locals[at]
    }

    /// Goes through lists whose items `inside` looks at, the later ones naming items of the earlier.
    fn iterated(&mut self, lists: &[Node], first: usize, inside: impl FnOnce(&mut Self)) {
        for at in 0..lists.len() {
            *self.local(first + at) = Use::default();
        }
        inside(self);
        for (at, list) in lists.iter().enumerate().rev() {
            let used = std::mem::take(self.local(first + at));
            self.walk(list, &used);
        }
    }

    fn walk(&mut self, node: &Node, used: &Use) {
        let whole = &Use::whole();
        let mut all = |nodes: &[Node]| nodes.iter().for_each(|node| self.walk(node, whole));
        match &node.op {
            Op::Constant(_)
            | Op::Text(_)
            | Op::Version(_)
            | Op::PersonFact(_)
            | Op::Ambient(_)
            | Op::InGroup(_)
            | Op::Failing(_)
            | Op::Alike(_) => {}
            Op::Fact { slot, .. } => self.facts.entry(*slot).or_default().add(used),
            Op::Local(at) => self.local(*at).add(used),
            Op::Field { base, path } => self.walk(base, &Use::field(path)),
            Op::ItemField { item, path, fact } => {
                self.local(*item).add(&Use::field(path));
                self.walk(fact, used);
            }
            Op::List(items) | Op::And(items) | Op::Or(items) => all(items),
            Op::Call(function, arguments) if function.name == "count" => {
                // Only how many there are.
                arguments.iter().for_each(|argument| self.walk(argument, &Use::default()));
            }
            Op::Call(_, arguments) => all(arguments),
            Op::Range { low, high, .. } => {
                self.walk(low, whole);
                self.walk(high, whole);
            }
            Op::Negate(inner)
            | Op::Not(inner)
            | Op::InstanceOf(inner, _)
            | Op::InNetwork(inner, _)
            | Op::Present(inner)
            | Op::Age(inner)
            | Op::Matches(inner, _) => self.walk(inner, whole),
            Op::Arithmetic(_, left, right) | Op::Compare(_, left, right) => {
                self.walk(left, whole);
                self.walk(right, whole);
            }
            Op::Between { value, low, high } => [value, low, high].into_iter().for_each(|node| self.walk(node, whole)),
            Op::In(value, tests) => {
                self.walk(value, whole);
                for test in tests {
                    match test {
                        NodeTest::Value(node) | NodeTest::Compare(_, node) => self.walk(node, whole),
                    }
                }
            }
            Op::If { condition, then, otherwise } => {
                self.walk(condition, whole);
                self.walk(then, used);
                self.walk(otherwise, used);
            }
            Op::Quantified { lists, first_local, body, .. } | Op::For { lists, first_local, body } => {
                self.iterated(lists, *first_local, |this| this.walk(body, whole));
            }
            Op::Filter { list, item, condition } => {
                self.iterated(std::slice::from_ref(list), *item, |this| {
                    this.walk(condition, whole);
                    // What comes through is looked at afterwards.
                    this.local(*item).add(used);
                });
            }
            Op::Index { list, index } => {
                self.walk(list, used);
                self.walk(index, whole);
            }
        }
    }
}
