//! What has to hold for a condition to hold, as a tree of parts: whoever wants to know what would have to change asks part by part.

use super::compiled::{AmbientKey, Condition, Node, Op};
use super::eval::Evaluator;
use crate::facts::value::Value;

/// What has to hold for a condition to come out as wanted.
#[derive(Debug)]
pub(crate) enum Requirement<'c> {
    /// Everything.
    All(Vec<Self>),
    /// Any of these.
    Any(Vec<Self>),
    /// One part, which is not taken apart any further.
    Part(Part<'c>),
}

/// A part of a condition that is true or false as a whole.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Part<'c> {
    condition: &'c Condition,
    node: &'c Node,
    wanted: bool,
}

impl Condition {
    /// Returns what has to hold for the condition to come out as `wanted`.
    pub(crate) fn requirement(&self, wanted: bool) -> Requirement<'_> {
        self.requirement_of(&self.root, wanted)
    }

    /// Returns whether it asks if the device is managed.
    pub(crate) fn asks_managed(&self) -> bool {
        Part { condition: self, node: &self.root, wanted: true }.asks_managed()
    }

    /// Returns whether it asks what the time is, or how old something is.
    pub(crate) fn reads_clock(&self) -> bool {
        Part { condition: self, node: &self.root, wanted: true }.asks(&|op| match op {
            Op::Age(_) => true,
            Op::Call(function, _) => matches!(function.name, "now" | "today"),
            _ => false,
        })
    }

    fn requirement_of<'c>(&'c self, node: &'c Node, wanted: bool) -> Requirement<'c> {
        let all = |parts: &'c [Node]| parts.iter().map(|part| self.requirement_of(part, wanted)).collect();
        match (&node.op, wanted) {
            (Op::Not(inner), _) => self.requirement_of(inner, !wanted),
            (Op::And(parts), true) | (Op::Or(parts), false) => Requirement::All(all(parts)),
            (Op::Or(parts), true) | (Op::And(parts), false) => Requirement::Any(all(parts)),
            _ => Requirement::Part(Part { condition: self, node, wanted }),
        }
    }
}

impl Part<'_> {
    fn asks(&self, is_asked: &dyn Fn(&Op) -> bool) -> bool {
        let mut open = vec![self.node];
        while let Some(node) = open.pop() {
            if is_asked(&node.op) {
                return true;
            }
            open.extend(node.children());
        }
        false
    }

    /// Returns whether it asks how the device stands, or which rules fail on it.
    pub(crate) fn asks_findings(&self) -> bool {
        self.asks(&|op| matches!(op, Op::Ambient(AmbientKey::Standing) | Op::Failing(_)))
    }

    /// Returns whether it asks if the device is managed.
    pub(crate) fn asks_managed(&self) -> bool {
        self.asks(&|op| matches!(op, Op::Ambient(AmbientKey::DeviceManaged)))
    }

    /// Returns the groups that it asks about, by index.
    pub(crate) fn groups(&self) -> Vec<usize> {
        let (mut open, mut groups) = (vec![self.node], Vec::new());
        while let Some(node) = open.pop() {
            if let Op::InGroup(group) = node.op {
                groups.push(group);
            }
            open.extend(node.children());
        }
        groups
    }

    /// Returns the whole paths of the facts that it reads, of the device, the person and the sign-in, each once, in the order in
    /// which they are written.
    pub(crate) fn facts(&self) -> Vec<String> {
        let mut facts = Vec::new();
        gather_facts(self.node, &mut facts);
        // A list is named with the fields that are asked for of its items.
        let list_of = |fact: &String, other: &String| {
            other.strip_prefix(fact.as_str()).is_some_and(|rest| rest.starts_with("[]"))
        };
        let lists: Vec<String> =
            facts.iter().filter(|fact| facts.iter().any(|other| list_of(fact, other))).cloned().collect();
        let mut seen = Vec::new();
        for fact in facts {
            if !lists.contains(&fact) && !seen.contains(&fact) {
                seen.push(fact);
            }
        }
        seen
    }
}

fn gather_facts(node: &Node, facts: &mut Vec<String>) {
    let is_path = matches!(
        node.op,
        Op::Fact { .. } | Op::PersonFact(_) | Op::Ambient(_) | Op::Local(_) | Op::Field { .. } | Op::ItemField { .. }
    );
    match node.whole_path().filter(|_| is_path) {
        Some(path) => facts.push(path),
        None => node.children().into_iter().for_each(|child| gather_facts(child, facts)),
    }
}

impl<'a> Evaluator<'a> {
    /// Returns whether a part comes out as it is wanted; none where that is not known. `strict` as in [`Evaluator::meets`].
    pub(crate) fn holds_part(&mut self, part: Part<'a>, strict: bool) -> Option<bool> {
        match self.ask_node(part.condition, part.node, strict) {
            Value::Boolean(truth) => Some(truth == part.wanted),
            _ => None,
        }
    }
}
