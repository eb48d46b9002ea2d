//! Tests that are answered without working out values: what is read is compared where it lies, if it is of the type that the
//! test is for. They only ever say what the evaluator would; where they cannot tell, it is asked.

use std::cmp::Ordering;
use std::sync::Arc;

use rust_decimal::Decimal;

use super::compiled::{Node, NodeTest, Op};
use super::eval::Evaluator;
use super::syntax::CompareOp;
use crate::layout::SlotId;
use crate::value::Value;
use crate::version::compare_versions;

/// Where the tested value lies.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Read {
    Fact {
        slot: SlotId,
        exempt: bool,
    },
    /// A field of an item, by its key as it stands there.
    Item {
        local: usize,
        key: Arc<str>,
    },
}

/// A test.
#[derive(Clone, Debug)]
pub(super) enum Quick {
    /// A text is, or is not, one of these.
    Text {
        read: Read,
        any_of: Texts,
        wanted: bool,
    },
    Number {
        read: Read,
        op: CompareOp,
        bound: Decimal,
    },
    Version {
        read: Read,
        op: CompareOp,
        bound: Arc<str>,
    },
    /// Something is true, or is false.
    Truth {
        read: Read,
        wanted: bool,
    },
    Any(Box<[Quick]>),
    All(Box<[Quick]>),
    Not(Box<Quick>),
}

/// Texts that one may be.
#[derive(Clone, Debug)]
pub(super) struct Texts {
    all: Box<[Box<str>]>,
    /// A bit for each length, the last one for all that are longer.
    lengths: u64,
}

impl Texts {
    fn new(all: Vec<Box<str>>) -> Self {
        let lengths = all.iter().fold(0, |lengths, text| lengths | Self::bit(text));
        Self { all: all.into(), lengths }
    }

    fn bit(text: &str) -> u64 {
        1 << text.len().min(63)
    }

    #[inline]
    fn has(&self, text: &str) -> bool {
        self.lengths & Self::bit(text) != 0 && self.all.iter().any(|one| is_same(one, text))
    }
}

impl CompareOp {
    pub(super) fn is(self, order: Ordering) -> bool {
        match self {
            Self::Equal => order.is_eq(),
            Self::NotEqual => order.is_ne(),
            Self::Less => order.is_lt(),
            Self::LessEqual => order.is_le(),
            Self::Greater => order.is_gt(),
            Self::GreaterEqual => order.is_ge(),
        }
    }
}

impl Read {
    fn of(op: &Op) -> Option<Self> {
        match op {
            Op::Fact { slot, exempt } => Some(Self::Fact { slot: *slot, exempt: *exempt }),
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

impl Quick {
    /// Returns the test that an operation comes to, if it is one.
    pub(super) fn of(op: &Op) -> Option<Self> {
        match op {
            Op::Fact { .. } | Op::Field { .. } | Op::ItemField { .. } => {
                Some(Self::Truth { read: Read::of(op)?, wanted: true })
            }
            Op::Compare(op, left, right) => {
                Self::compare(*op, left, right).or_else(|| Self::compare(op.flipped(), right, left))
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
            Op::Not(inner) => Some(Self::Not(inner.quick.clone()?)),
            _ => None,
        }
    }

    fn parts(parts: &[Node]) -> Option<Box<[Self]>> {
        parts.iter().map(|part| part.quick.as_deref().cloned()).collect()
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

    fn compare(op: CompareOp, tested: &Node, bound: &Node) -> Option<Self> {
        let read = Read::of(&tested.op)?;
        let equality = matches!(op, CompareOp::Equal | CompareOp::NotEqual);
        match &bound.op {
            Op::Text(text) if equality => {
                let any_of = Texts::new(vec![Box::from(&**text)]);
                Some(Self::Text { read, any_of, wanted: op == CompareOp::Equal })
            }
            Op::Version(version) => Some(Self::Version { read, op, bound: Arc::clone(version) }),
            Op::Constant(Value::Number(number)) => Some(Self::Number { read, op, bound: *number }),
            Op::Constant(Value::Boolean(truth)) if equality => {
                Some(Self::Truth { read, wanted: *truth == (op == CompareOp::Equal) })
            }
            _ => None,
        }
    }
}

/// Whether two texts are the same; of short ones told without a call, since most keys and names are short.
#[inline]
fn is_same(one: &str, other: &str) -> bool {
    let (one, other) = (one.as_bytes(), other.as_bytes());
    if one.len() != other.len() {
        return false;
    }
    match (one.first_chunk::<8>(), one.last_chunk::<8>(), other.first_chunk::<8>(), other.last_chunk::<8>()) {
        // Two pieces that overlap cover a text of up to sixteen bytes.
        (Some(a), Some(b), Some(c), Some(d)) if one.len() <= 16 => a == c && b == d,
        (Some(_), ..) => one == other,
        (None, ..) => one.iter().zip(other).all(|(a, b)| a == b),
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

impl<'a> Evaluator<'a> {
    /// Answers a test; none where the value is not of its type, or is not known.
    #[inline]
    pub(super) fn quick(&self, test: &Quick) -> Option<bool> {
        self.quick_on(test, usize::MAX, &Value::Null)
    }

    /// Answers a test that `item` stands in for a local of; none where the value is not of its type, or is not known.
    pub(super) fn quick_on(&self, test: &Quick, local: usize, item: &Value<'a>) -> Option<bool> {
        Some(match test {
            Quick::Text { read, any_of, wanted } => match self.lies_at(read, local, item)? {
                Value::Text(text) => any_of.has(text) == *wanted,
                _ => return None,
            },
            Quick::Number { read, op, bound } => match self.lies_at(read, local, item)? {
                Value::Number(number) => op.is(number.cmp(bound)),
                _ => return None,
            },
            Quick::Version { read, op, bound } => match self.lies_at(read, local, item)? {
                Value::Version(version) => op.is(compare_versions(version, bound)),
                _ => return None,
            },
            Quick::Truth { read, wanted } => match self.lies_at(read, local, item)? {
                Value::Boolean(truth) => truth == wanted,
                _ => return None,
            },
            Quick::Any(parts) => {
                for part in parts {
                    if self.quick_on(part, local, item)? {
                        return Some(true);
                    }
                }
                false
            }
            Quick::All(parts) => {
                for part in parts {
                    if !self.quick_on(part, local, item)? {
                        return Some(false);
                    }
                }
                true
            }
            Quick::Not(inner) => !self.quick_on(inner, local, item)?,
        })
    }

    /// Goes through items with a test, as long as `go_on` says so to each answer; none where an item needs the long way.
    pub(super) fn quick_items(
        &self,
        test: &Quick,
        local: usize,
        items: &[Value<'a>],
        mut go_on: impl FnMut(&Value<'a>, bool) -> bool,
    ) -> Option<()> {
        if let Quick::Text { read: Read::Item { local: tested, key }, any_of, wanted } = test
            && *tested == local
        {
            // Items mostly have the same keys at the same places, lent from the same piece of the document.
            let (mut place, mut known): (usize, &str) = (0, "");
            for item in items {
                let Value::Object(object) = item else { return None };
                let found = object.fields.get(place).filter(|(at, _)| std::ptr::eq(*at, known) && !known.is_empty());
                let value = match found {
                    Some((_, value)) => value,
                    None => {
                        place = object.fields.iter().position(|(at, _)| is_same(at, key))?;
                        known = object.fields[place].0;
                        &object.fields[place].1
                    }
                };
                let Value::Text(text) = value else { return None };
                if !go_on(item, any_of.has(text) == *wanted) {
                    break;
                }
            }
            return Some(());
        }
        for item in items {
            if !go_on(item, self.quick_on(test, local, item)?) {
                break;
            }
        }
        Some(())
    }

    #[inline]
    fn lies_at<'v>(&'v self, read: &Read, local: usize, item: &'v Value<'a>) -> Option<&'v Value<'a>> {
        match read {
            Read::Fact { slot, exempt } => self.fresh_fact(*slot, *exempt),
            Read::Item { local: wanted, key } => match if *wanted == local { item } else { self.local(*wanted)? } {
                Value::Object(object) => {
                    object.fields.iter().find(|(known, _)| is_same(known, key)).map(|(_, value)| value)
                }
                _ => None,
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::is_same;

    #[test]
    fn texts_are_the_same_when_every_byte_is() {
        for length in 0..40 {
            let text: String = "abcdefghijklmnopqrstuvwxyzabcdefghijklmnop".chars().take(length).collect();
            assert!(is_same(&text, &text.clone()));
            assert!(!is_same(&text, &format!("{text}x")));
            for at in 0..length {
                let mut other = text.clone().into_bytes();
                other[at] = b'!';
                assert!(!is_same(&text, std::str::from_utf8(&other).unwrap()), "{length} at {at}");
            }
        }
    }
}
