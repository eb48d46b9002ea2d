//! Whether one condition holds wherever another does, told from what they say alone, and what fixed bounds a condition sets.

use std::cmp::Ordering;
use std::ops::Range;

use super::compiled::{AmbientKey, Condition, Node, NodeTest, Op};
use super::lexer::{TokenKind, tokens};
use super::operate::order;
use super::syntax::{CompareOp, QuantifierKind};
use crate::facts::layout::SlotId;
use crate::facts::value::Value;

/// A part of a condition with the text that its places lie in.
#[derive(Clone, Copy)]
struct Part<'c> {
    node: &'c Node,
    text: &'c str,
}

/// What a comparison asks of the value that it looks at.
enum Demand<'c> {
    Bound(CompareOp, Value<'c>),
    OneOf(Vec<Value<'c>>),
}

/// A comparison of a fact with a fixed value that orders them: all of a condition hangs on it.
#[derive(Clone, Debug)]
pub(crate) struct Threshold<'c> {
    /// The fact.
    pub slot: SlotId,
    /// Where it stands in the condition's text.
    pub span: Range<usize>,
    /// Higher values meet it.
    pub is_least: bool,
    op: CompareOp,
    bound: Value<'c>,
}

impl Threshold<'_> {
    /// Returns whether a value meets it; none for a value that cannot be compared with the bound.
    pub(crate) fn meets(&self, value: &Value<'_>) -> Option<bool> {
        order(value, &self.bound).map(|order| self.op.is(order))
    }
}

impl Condition {
    /// Returns whether another condition surely holds wherever this one does. What cannot be told is no.
    pub(crate) fn implies(&self, other: &Self) -> bool {
        let reads_some = || other.slots.iter().any(|slot| self.slots.binary_search(slot).is_ok());
        // Conditions that read nothing in common are told apart without a look at their words.
        (self.slots.is_empty() && other.slots.is_empty() || reads_some())
            && implies(Part { node: &self.root, text: self.as_str() }, Part { node: &other.root, text: other.as_str() })
    }

    /// Returns the comparisons of facts with fixed values that all have to be met.
    pub(crate) fn thresholds(&self) -> Vec<Threshold<'_>> {
        let mut found = Vec::new();
        let mut open = vec![&self.root];
        while let Some(node) = open.pop() {
            match &node.op {
                Op::And(parts) => open.extend(parts.iter().rev()),
                Op::Compare(op, left, right) => {
                    found.extend(
                        threshold(*op, left, right, node).or_else(|| threshold(op.flipped(), right, left, node)),
                    );
                }
                Op::In(value, tests) => {
                    if let [NodeTest::Compare(op, bound)] = &**tests {
                        found.extend(threshold(*op, value, bound, node));
                    }
                }
                _ => {}
            }
        }
        found
    }

    /// Returns whether it asks how the device stands.
    pub(crate) fn asks_for_standing(&self) -> bool {
        any(&self.root, &mut |node| matches!(node.op, Op::Ambient(AmbientKey::Standing)))
    }

    /// Returns whether it asks if a rule fails on the device.
    pub(crate) fn asks_whether_fails(&self, rule: &str) -> bool {
        any(&self.root, &mut |node| match &node.op {
            Op::Failing(asked) => {
                rule.strip_prefix(&**asked).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            }
            _ => false,
        })
    }

    /// Returns its words, which are the same for conditions that differ in spaces and comments alone.
    pub(crate) fn words(&self) -> Vec<&str> {
        words(self.as_str())
    }
}

fn threshold<'c>(op: CompareOp, value: &Node, bound: &'c Node, whole: &Node) -> Option<Threshold<'c>> {
    let Op::Fact { slot, .. } = value.op else { return None };
    let is_least = match op {
        CompareOp::Greater | CompareOp::GreaterEqual => true,
        CompareOp::Less | CompareOp::LessEqual => false,
        CompareOp::Equal | CompareOp::NotEqual => return None,
    };
    Some(Threshold { slot, span: whole.span.clone(), is_least, op, bound: fixed(bound)? })
}

fn implies(strict: Part<'_>, weak: Part<'_>) -> bool {
    let of_strict = |node| Part { node, text: strict.text };
    let of_weak = |node| Part { node, text: weak.text };
    if let Op::And(parts) = &weak.node.op {
        return parts.iter().all(|part| implies(strict, of_weak(part)));
    }
    if let Op::Or(parts) = &strict.node.op {
        return parts.iter().all(|part| implies(of_strict(part), weak));
    }
    if let Op::And(parts) = &strict.node.op
        && parts.iter().any(|part| implies(of_strict(part), weak))
    {
        return true;
    }
    if let Op::Or(parts) = &weak.node.op {
        return parts.iter().any(|part| implies(strict, of_weak(part)));
    }
    if let (
        Op::Quantified { kind: QuantifierKind::Every, lists, body, .. },
        Op::Quantified { kind: QuantifierKind::Every, lists: other_lists, body: other_body, .. },
    ) = (&strict.node.op, &weak.node.op)
        && let ([list], [other_list]) = (&**lists, &**other_lists)
        && is_same(of_strict(list), of_weak(other_list))
        && implies(of_strict(body), of_weak(other_body))
    {
        return true;
    }
    is_same(strict, weak) || is_narrower(strict, weak)
}

/// Whether two parts say the same in the same words.
fn is_same(one: Part<'_>, other: Part<'_>) -> bool {
    if std::mem::discriminant(&one.node.op) != std::mem::discriminant(&other.node.op) {
        return false;
    }
    let [one, other] = [one, other].map(|part| part.text.get(part.node.span.clone()).unwrap_or_default());
    // Most are told apart by their letters; only a comment may hide that they are the same.
    let may_hide = |text: &str| text.contains("/*") || text.contains("//");
    one == other || (letters(one).eq(letters(other)) || may_hide(one) || may_hide(other)) && words(one) == words(other)
}

fn letters(text: &str) -> impl Iterator<Item = u8> {
    text.bytes().filter(|byte| !byte.is_ascii_whitespace())
}

fn words(text: &str) -> Vec<&str> {
    let all = tokens(text).into_iter().filter(|token| token.kind != TokenKind::End);
    all.map(|token| text.get(token.range).unwrap_or_default()).collect()
}

/// Whether two parts ask something of the same value, and the first asks for more.
fn is_narrower(strict: Part<'_>, weak: Part<'_>) -> bool {
    // What lies between two bounds is above the one and below the other.
    let (strictly, weakly) = (asked(strict), asked(weak));
    let meets = |subject: &Node, wanted: &Demand<'_>| {
        strictly.iter().any(|(own, asked)| {
            // Whether it is enough is told sooner than whether it is the same value.
            is_within(asked, wanted)
                && is_same(Part { node: own, text: strict.text }, Part { node: subject, text: weak.text })
        })
    };
    !weakly.is_empty() && weakly.iter().all(|(subject, wanted)| meets(subject, wanted))
}

/// Returns what a part asks of which value, all of it to be met; nothing where it is no comparison with fixed values.
fn asked(part: Part<'_>) -> Vec<(&Node, Demand<'_>)> {
    let bound = |op, subject, bound| fixed(bound).map(|value| (subject, Demand::Bound(op, value)));
    match &part.node.op {
        Op::Compare(op, left, right) => {
            bound(*op, &**left, right).or_else(|| bound(op.flipped(), &**right, left)).into_iter().collect()
        }
        Op::Between { value, low, high } => {
            let both = [bound(CompareOp::GreaterEqual, &**value, low), bound(CompareOp::LessEqual, &**value, high)];
            both.into_iter().collect::<Option<Vec<_>>>().unwrap_or_default()
        }
        Op::In(value, tests) => {
            if let [NodeTest::Compare(op, limit)] = &**tests {
                return bound(*op, &**value, limit).into_iter().collect();
            }
            let member = |test: &'_ NodeTest| -> Option<()> { matches!(test, NodeTest::Value(_)).then_some(()) };
            let all_values = tests.iter().map(member).collect::<Option<Vec<()>>>().is_some();
            let mut members = Vec::new();
            for test in tests.iter().filter(|_| all_values) {
                let NodeTest::Value(node) = test else { continue };
                match &node.op {
                    Op::List(items) => members.extend(items.iter().map(fixed)),
                    _ => members.push(fixed(node)),
                }
            }
            match members.into_iter().collect::<Option<Vec<_>>>() {
                Some(members) if !members.is_empty() => vec![(&**value, Demand::OneOf(members))],
                _ => Vec::new(),
            }
        }
        _ => Vec::new(),
    }
}

/// Returns the value of a literal that has an order.
fn fixed(node: &Node) -> Option<Value<'_>> {
    let value = match &node.op {
        Op::Constant(value) => *value,
        Op::Text(text) => Value::Text(text),
        Op::Version(version) => Value::Version(version),
        _ => return None,
    };
    order(&value, &value).is_some().then_some(value)
}

/// Whether whatever meets the first meets the second.
fn is_within(strict: &Demand<'_>, weak: &Demand<'_>) -> bool {
    use CompareOp::{Equal, Greater, GreaterEqual, Less, LessEqual, NotEqual};
    match (strict, weak) {
        (Demand::OneOf(values), _) => values.iter().all(|value| is_within(&Demand::Bound(Equal, *value), weak)),
        (Demand::Bound(Equal, value), Demand::OneOf(all)) => {
            all.iter().any(|one| order(value, one) == Some(Ordering::Equal))
        }
        (Demand::Bound(..), Demand::OneOf(_)) => false,
        (Demand::Bound(op, value), Demand::Bound(wanted, bound)) => {
            let Some(order) = order(value, bound) else { return false };
            match (op, wanted) {
                (Equal, wanted) => wanted.is(order),
                (NotEqual, NotEqual) => order.is_eq(),
                (Greater | GreaterEqual, GreaterEqual) | (Greater, Greater | NotEqual) => order.is_ge(),
                (GreaterEqual, Greater | NotEqual) => order.is_gt(),
                (Less | LessEqual, LessEqual) | (Less, Less | NotEqual) => order.is_le(),
                (LessEqual, Less | NotEqual) => order.is_lt(),
                _ => false,
            }
        }
    }
}

/// Whether something holds of a node or of one below it.
fn any(node: &Node, holds: &mut impl FnMut(&Node) -> bool) -> bool {
    holds(node) || node.children().into_iter().any(|child| any(child, holds))
}
