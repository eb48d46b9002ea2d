//! Which operations come to a fast predicate.

use std::sync::Arc;

use super::{Amount, FastPredicate, Items, Part, Read, Texts};
use crate::condition::compiled::{Node, NodeTest, Op};
use crate::condition::syntax::{ArithmeticOp, CompareOp, QuantifierKind};
use crate::facts::value::Value;

impl Read {
    fn of(op: &Op) -> Option<Self> {
        match op {
            Op::Fact { slot, exempt } => Some(Self::Fact { slot: *slot, exempt: *exempt }),
            Op::Local(local) => Some(Self::Local(*local)),
            // A dotted name may stand nested and as one key, and which comes first decides.
            Op::Field { path, .. } | Op::ItemField { path, .. } if path.contains('.') => None,
            Op::Field { base, path } => match base.op {
                Op::Local(local) => Some(Self::Item { local, key: Arc::clone(path) }),
                _ => None,
            },
            Op::ItemField { item, path, .. } => Some(Self::Item { local: *item, key: Arc::clone(path) }),
            _ => None,
        }
    }
}

impl Amount {
    fn of(op: &Op) -> Option<Self> {
        Some(match op {
            Op::Constant(Value::Number(number)) => Self::Constant(*number),
            Op::Arithmetic(op @ (ArithmeticOp::Add | ArithmeticOp::Subtract | ArithmeticOp::Multiply), left, right) => {
                Self::Arithmetic(*op, Box::new([Self::of(&left.op)?, Self::of(&right.op)?]))
            }
            Op::Call(function, arguments) => match (function.name, arguments.as_slice()) {
                ("string length", [text]) => Self::Length(Read::of(&text.op)?),
                ("count", [list]) => Self::Count(Items::of(&list.op)?),
                _ => return None,
            },
            _ => Self::Read(Read::of(op)?),
        })
    }
}

impl Items {
    fn of(op: &Op) -> Option<Self> {
        match op {
            Op::Fact { slot, exempt } => Some(Self { slot: *slot, exempt: *exempt, filter: None }),
            Op::Filter { list, item, condition } => match list.op {
                Op::Fact { slot, exempt } => {
                    Some(Self { slot, exempt, filter: Some((*item, condition.fast_predicate.clone()?)) })
                }
                _ => None,
            },
            _ => None,
        }
    }
}

impl FastPredicate {
    /// Returns the test that an operation comes to, if it is one.
    pub(in crate::condition) fn of(op: &Op) -> Option<Self> {
        match op {
            Op::Fact { .. } | Op::Field { .. } | Op::ItemField { .. } | Op::Local(_) => {
                Some(Self::Truth { read: Read::of(op)?, wanted: true })
            }
            Op::Between { value, low, high } => {
                Self::within(value, [(CompareOp::GreaterEqual, low.as_ref()), (CompareOp::LessEqual, high.as_ref())])
            }
            Op::Matches(inner, pattern) => Some(Self::Matches { read: Read::of(&inner.op)?, pattern: pattern.clone() }),
            Op::Present(inner) => match inner.op {
                Op::Fact { slot, exempt } => Some(Self::Present { slot, exempt }),
                _ => None,
            },
            Op::InGroup(group) => Some(Self::InGroup(*group)),
            Op::Call(function, arguments) => {
                let [text, part] = arguments.as_slice() else { return None };
                let place = match function.name {
                    "starts with" => Part::Start,
                    "ends with" => Part::End,
                    "contains" => Part::Anywhere,
                    _ => return None,
                };
                let Op::Text(part) = &part.op else { return None };
                Some(Self::Part { read: Read::of(&text.op)?, place, part: Arc::clone(part) })
            }
            Op::Quantified { kind, lists, first_local, body } => {
                let [list] = lists.as_slice() else { return None };
                let (every, items) = (*kind == QuantifierKind::Every, Items::of(&list.op)?);
                Some(Self::Quantified { every, items, local: *first_local, body: body.fast_predicate.clone()? })
            }
            Op::If { condition, then, otherwise } => {
                let fast_predicate = |node: &Node| node.fast_predicate.as_deref().cloned();
                Some(Self::If(Box::new([
                    fast_predicate(condition)?,
                    fast_predicate(then)?,
                    fast_predicate(otherwise)?,
                ])))
            }
            Op::Compare(op, left, right) => {
                Self::compare(*op, left, right).or_else(|| Self::compare(op.flipped(), right, left))
            }
            Op::In(value, tests) if let [NodeTest::Compare(op, bound)] = tests.as_slice() => {
                Self::within(value, [(*op, bound)])
            }
            Op::In(value, tests)
                if let [NodeTest::Value(member)] = tests.as_slice()
                    && let Op::Range { low, low_included, high, high_included } = &member.op =>
            {
                let above = if *low_included { CompareOp::GreaterEqual } else { CompareOp::Greater };
                let below = if *high_included { CompareOp::LessEqual } else { CompareOp::Less };
                Self::within(value, [(above, low.as_ref()), (below, high.as_ref())])
            }
            Op::In(value, tests) => {
                let mut texts = Vec::new();
                for test in tests {
                    match test {
                        NodeTest::Value(member) => literals(member, &mut texts)?,
                        NodeTest::Compare(..) => return None,
                    }
                }
                Some(Self::Text { read: Read::of(&value.op)?, any_of: Texts::new(texts), wanted: true })
            }
            Op::And(parts) => Some(Self::All(Self::parts(parts)?)),
            Op::Or(parts) => {
                let parts = Self::parts(parts)?;
                Some(Self::one_of_texts(&parts).unwrap_or(Self::Any(parts)))
            }
            Op::Not(inner) => Some(Self::Not(inner.fast_predicate.clone()?)),
            _ => None,
        }
    }

    fn parts(parts: &[Node]) -> Option<Box<[Self]>> {
        parts.iter().map(|part| part.fast_predicate.as_deref().cloned()).collect()
    }

    /// Several texts that the same value may be are one test.
    fn one_of_texts(parts: &[Self]) -> Option<Self> {
        let (mut texts, mut place) = (Vec::new(), None);
        for part in parts {
            let Self::Text { read, any_of, wanted: true } = part else { return None };
            if place.get_or_insert(read) != &read {
                return None;
            }
            texts.extend(any_of.all.iter().cloned());
        }
        Some(Self::Text { read: place?.clone(), any_of: Texts::new(texts), wanted: true })
    }

    /// A number between constants.
    fn within<const N: usize>(value: &Node, bounds: [(CompareOp, &Node); N]) -> Option<Self> {
        let bound = |(op, node): (CompareOp, &Node)| match node.op {
            Op::Constant(Value::Number(number)) => Some((op, number)),
            _ => None,
        };
        let bounds = bounds.into_iter().map(bound).collect::<Option<_>>()?;
        Some(Self::Number { value: Amount::of(&value.op)?, bounds })
    }

    fn compare(op: CompareOp, tested: &Node, bound: &Node) -> Option<Self> {
        match (&tested.op, &bound.op) {
            (_, Op::Constant(Value::Number(_))) => return Self::within(tested, [(op, bound)]),
            (Op::Age(inner), Op::Constant(Value::Duration(bound))) => {
                return Some(Self::Age { read: Read::of(&inner.op)?, op, bound: *bound });
            }
            _ => {}
        }
        let read = Read::of(&tested.op)?;
        let equality = matches!(op, CompareOp::Equal | CompareOp::NotEqual);
        match &bound.op {
            Op::Text(text) if equality => {
                let any_of = Texts::new(vec![Box::from(&**text)]);
                Some(Self::Text { read, any_of, wanted: op == CompareOp::Equal })
            }
            Op::Version(version) => Some(Self::Version { read, op, bound: Arc::clone(version) }),
            Op::Constant(Value::Boolean(truth)) if equality => {
                Some(Self::Truth { read, wanted: *truth == (op == CompareOp::Equal) })
            }
            _ => None,
        }
    }
}

/// Adds the texts that a member of an `in` consists of; none where it is anything else.
fn literals(node: &Node, texts: &mut Vec<Box<str>>) -> Option<()> {
    match &node.op {
        Op::Text(text) => texts.push(Box::from(&**text)),
        Op::List(items) => return items.iter().try_for_each(|item| literals(item, texts)),
        _ => return None,
    }
    Some(())
}
