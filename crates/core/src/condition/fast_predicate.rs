//! Tests that are answered without working out values: what is read is compared where it lies, if it is of the type that the
//! test is for. They only ever say what the evaluator would; where they cannot tell, it is asked.

use std::cmp::Ordering;
use std::sync::Arc;

use jiff::SignedDuration;
use regex::Regex;
use rust_decimal::Decimal;

use super::compiled::{Node, NodeTest, Op};
use super::eval::{Evaluator, is_present};
use super::syntax::{ArithmeticOp, CompareOp, QuantifierKind};
use crate::facts::layout::SlotId;
use crate::facts::value::{List, Value};
use crate::facts::version::compare_versions;

/// Where the tested value lies.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Read {
    Fact {
        slot: SlotId,
        exempt: bool,
    },
    /// An item.
    Local(usize),
    /// A field of an item, by its key as it stands there.
    Item {
        local: usize,
        key: Arc<str>,
    },
}

/// A number that is tested.
#[derive(Clone, Debug)]
pub(super) enum Amount {
    Read(Read),
    Constant(Decimal),
    /// How many characters a text has.
    Length(Read),
    /// How many items a list has.
    Count(Items),
    Arithmetic(ArithmeticOp, Box<[Amount; 2]>),
}

/// The items of a collected list, or those of them that pass a test.
#[derive(Clone, Debug)]
pub(super) struct Items {
    slot: SlotId,
    exempt: bool,
    /// Which local stands for the item, and the test.
    filter: Option<(usize, Box<FastPredicate>)>,
}

/// Where a part of a text is to stand.
#[derive(Clone, Copy, Debug)]
pub(super) enum Part {
    Start,
    End,
    Anywhere,
}

/// A test.
#[derive(Clone, Debug)]
pub(super) enum FastPredicate {
    /// A text is, or is not, one of these.
    Text {
        read: Read,
        any_of: Texts,
        wanted: bool,
    },
    /// A number is on the right side of each of these.
    Number {
        value: Amount,
        bounds: Box<[(CompareOp, Decimal)]>,
    },
    /// A text has a part.
    Part {
        read: Read,
        place: Part,
        part: Arc<str>,
    },
    Matches {
        read: Read,
        pattern: Regex,
    },
    /// A moment is long ago, or not.
    Age {
        read: Read,
        op: CompareOp,
        bound: SignedDuration,
    },
    Present {
        slot: SlotId,
        exempt: bool,
    },
    InGroup(usize),
    /// All items, or some of them, pass a test.
    Quantified {
        every: bool,
        items: Items,
        local: usize,
        body: Box<FastPredicate>,
    },
    /// The question, and what is asked where it holds and where it does not.
    If(Box<[FastPredicate; 3]>),
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
    Any(Box<[FastPredicate]>),
    All(Box<[FastPredicate]>),
    Not(Box<FastPredicate>),
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
    pub(super) fn of(op: &Op) -> Option<Self> {
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
    pub(super) fn fast_predicate(&self, test: &FastPredicate) -> Option<bool> {
        self.fast_predicate_on(test, usize::MAX, &Value::Null)
    }

    /// Answers a test that `item` stands in for a local of; none where the value is not of its type, or is not known.
    pub(super) fn fast_predicate_on(&self, test: &FastPredicate, local: usize, item: &Value<'a>) -> Option<bool> {
        Some(match test {
            FastPredicate::Text { read, any_of, wanted } => match self.lies_at(read, local, item)? {
                Value::Text(text) => any_of.has(text) == *wanted,
                _ => return None,
            },
            FastPredicate::Number { value, bounds } => {
                let number = self.amount(value, local, item)?;
                bounds.iter().all(|(op, bound)| op.is(number.cmp(bound)))
            }
            FastPredicate::Version { read, op, bound } => match self.lies_at(read, local, item)? {
                Value::Version(version) => op.is(compare_versions(version, bound)),
                _ => return None,
            },
            FastPredicate::Truth { read, wanted } => match self.lies_at(read, local, item)? {
                Value::Boolean(truth) => truth == wanted,
                _ => return None,
            },
            FastPredicate::Part { read, place, part } => match self.lies_at(read, local, item)? {
                Value::Text(text) => {
                    self.take_text(text)?;
                    self.take_text(part)?;
                    match place {
                        Part::Start => text.starts_with(&**part),
                        Part::End => text.ends_with(&**part),
                        Part::Anywhere => text.contains(&**part),
                    }
                }
                _ => return None,
            },
            FastPredicate::Matches { read, pattern } => match self.lies_at(read, local, item)? {
                Value::Text(text) | Value::Version(text) => {
                    self.take_text(text)?;
                    pattern.is_match(text)
                }
                _ => return None,
            },
            FastPredicate::Age { read, op, bound } => match self.lies_at(read, local, item)? {
                Value::DateTime(moment) => self.is_ago(moment.moment()?, *op, *bound)?,
                _ => return None,
            },
            FastPredicate::Present { slot, exempt } => is_present(self.fresh_fact(*slot, *exempt)?),
            FastPredicate::InGroup(group) => match self.group(*group)? {
                Value::Boolean(truth) => *truth,
                _ => return None,
            },
            // Within the items of another list the long way knows which item is meant.
            FastPredicate::Quantified { .. } if local != usize::MAX => return None,
            FastPredicate::Quantified { every, items, local, body } => {
                let list = self.items(items)?;
                match &items.filter {
                    None => self.quantify(*every, list.items, *local, body)?,
                    Some((tested, filter)) => {
                        let (mut chosen, mut settled) = (0, false);
                        self.go_through(list, *tested, filter, |item| {
                            chosen += 1;
                            if !settled {
                                self.take_steps(1)?;
                                settled = self.fast_predicate_on(body, *local, item)? != *every;
                            }
                            Some(())
                        })?;
                        // Where there is nothing to check is told the long way.
                        if chosen == 0 {
                            return None;
                        }
                        *every != settled
                    }
                }
            }
            FastPredicate::If(parts) => {
                let [question, then, otherwise] = &**parts;
                let part = if self.fast_predicate_on(question, local, item)? { then } else { otherwise };
                self.fast_predicate_on(part, local, item)?
            }
            FastPredicate::Any(parts) => {
                for part in parts {
                    if self.fast_predicate_on(part, local, item)? {
                        return Some(true);
                    }
                }
                false
            }
            FastPredicate::All(parts) => {
                for part in parts {
                    if !self.fast_predicate_on(part, local, item)? {
                        return Some(false);
                    }
                }
                true
            }
            FastPredicate::Not(inner) => !self.fast_predicate_on(inner, local, item)?,
        })
    }

    fn amount(&self, amount: &Amount, local: usize, item: &Value<'a>) -> Option<Decimal> {
        match amount {
            Amount::Constant(number) => Some(*number),
            Amount::Read(read) => match self.lies_at(read, local, item)? {
                Value::Number(number) => Some(*number),
                _ => None,
            },
            Amount::Length(read) => match self.lies_at(read, local, item)? {
                Value::Text(text) => {
                    self.take_text(text)?;
                    Some(text.chars().count().into())
                }
                _ => None,
            },
            Amount::Count(items) => {
                let list = self.items(items)?;
                let Some((tested, filter)) = &items.filter else { return Some(list.items.len().into()) };
                if local != usize::MAX {
                    return None;
                }
                let mut chosen = 0_usize;
                self.go_through(list, *tested, filter, |_| {
                    chosen += 1;
                    Some(())
                })?;
                Some(chosen.into())
            }
            Amount::Arithmetic(op, sides) => {
                let (left, right) = (self.amount(&sides[0], local, item)?, self.amount(&sides[1], local, item)?);
                match op {
                    ArithmeticOp::Add => left.checked_add(right),
                    ArithmeticOp::Subtract => left.checked_sub(right),
                    ArithmeticOp::Multiply => left.checked_mul(right),
                    ArithmeticOp::Divide | ArithmeticOp::Power => None,
                }
            }
        }
    }

    /// Returns a collected list that is known as a whole.
    fn items(&self, items: &Items) -> Option<&'a List<'a>> {
        match self.fresh_fact(items.slot, items.exempt)? {
            Value::List(list) if list.doubts.is_empty() => Some(list),
            _ => None,
        }
    }

    /// Hands on the items of a list that pass a test; none where an item needs the long way.
    fn go_through(
        &self,
        list: &List<'a>,
        local: usize,
        test: &FastPredicate,
        mut each: impl FnMut(&Value<'a>) -> Option<()>,
    ) -> Option<()> {
        self.take_steps(u32::try_from(list.items.len()).ok()?)?;
        let mut known = Some(());
        self.fast_items(test, local, list.items, |item, answer| {
            if answer {
                known = each(item);
            }
            known.is_some()
        })?;
        known
    }

    /// Whether every item, or some item, passes a test; none where the long way is needed, and where there is no item.
    pub(super) fn quantify(
        &self,
        every: bool,
        items: &[Value<'a>],
        local: usize,
        test: &FastPredicate,
    ) -> Option<bool> {
        if items.is_empty() || items.len() > self.steps_left() as usize {
            return None;
        }
        let (mut passed, mut settled) = (0, false);
        self.fast_items(test, local, items, |_, answer| {
            passed += 1;
            settled = answer != every;
            !settled
        })?;
        self.take_steps(passed)?;
        Some(every != settled)
    }

    /// Goes through items with a test, as long as `go_on` says so to each answer; none where an item needs the long way.
    pub(super) fn fast_items(
        &self,
        test: &FastPredicate,
        local: usize,
        items: &[Value<'a>],
        mut go_on: impl FnMut(&Value<'a>, bool) -> bool,
    ) -> Option<()> {
        if let FastPredicate::Text { read: Read::Item { local: tested, key }, any_of, wanted } = test
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
            if !go_on(item, self.fast_predicate_on(test, local, item)?) {
                break;
            }
        }
        Some(())
    }

    #[inline]
    fn lies_at<'v>(&'v self, read: &Read, local: usize, item: &'v Value<'a>) -> Option<&'v Value<'a>> {
        match read {
            Read::Fact { slot, exempt } => self.fresh_fact(*slot, *exempt),
            Read::Local(wanted) => {
                if *wanted == local {
                    Some(item)
                } else {
                    self.local(*wanted)
                }
            }
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
