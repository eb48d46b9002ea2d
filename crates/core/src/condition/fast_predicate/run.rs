//! What a fast predicate says of facts and items.

use rust_decimal::Decimal;

use super::{Amount, FastPredicate, Items, Part, Read, is_same};
use crate::condition::eval::{Evaluator, is_present};
use crate::condition::syntax::ArithmeticOp;
use crate::facts::value::{List, Value};
use crate::facts::version::compare_versions;

impl<'a> Evaluator<'a> {
    /// Answers a test; none where the value is not of its type, or is not known.
    #[inline]
    pub(in crate::condition) fn fast_predicate(&self, test: &FastPredicate) -> Option<bool> {
        self.fast_predicate_on(test, usize::MAX, &Value::Null)
    }

    /// Answers a test that `item` stands in for a local of; none where the value is not of its type, or is not known.
    pub(in crate::condition) fn fast_predicate_on(
        &self,
        test: &FastPredicate,
        local: usize,
        item: &Value<'a>,
    ) -> Option<bool> {
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
    pub(in crate::condition) fn quantify(
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
    pub(in crate::condition) fn fast_items(
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
