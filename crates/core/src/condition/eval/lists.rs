//! Lists: what is chosen from them, made of them, or taken out.

use super::{Evaluator, OUT_OF_BUDGET};
use crate::condition::compiled::{Condition, Node};
use crate::facts::value::{List, Range, Reason, Unknown, Value};

/// A body that is worked out for each combination of the items of some lists, and where these items are kept meanwhile.
#[derive(Clone, Copy)]
pub(super) struct Iteration<'a> {
    pub condition: &'a Condition,
    pub lists: &'a [Node],
    pub first_local: usize,
    pub body: &'a Node,
}

impl Iteration<'_> {
    /// Returns what is left to go through for one item of the first list.
    pub(super) fn inner(self) -> Self {
        Self { lists: &self.lists[1..], first_local: self.first_local + 1, ..self }
    }

    /// Returns the first list as the condition writes it.
    pub(super) fn list_text(self) -> String {
        self.condition.as_str()[self.lists[0].span.clone()].to_owned()
    }
}

impl<'a> Evaluator<'a> {
    /// A list to go through; a single value is a list of one. The error is what came instead: unknown or null.
    pub(super) fn as_list(&self, value: Value<'a>) -> Result<List<'a>, Value<'a>> {
        match value {
            Value::List(list) => Ok(*list),
            Value::Unknown(_) | Value::Null => Err(value),
            single => {
                self.budget.spend_values(1).ok_or(OUT_OF_BUDGET)?;
                Ok(List::certain(self.arena.alloc_slice_copy(&[single])))
            }
        }
    }

    pub(super) fn filter(
        &mut self,
        condition: &'a Condition,
        list: &'a Node,
        item: usize,
        filter: &'a Node,
    ) -> Value<'a> {
        let value = self.value(condition, list);
        let list = match self.as_list(value) {
            Ok(list) => list,
            Err(value) => return value,
        };
        if let Some(chosen) = self.fast_filter(&list, item, filter) {
            return chosen;
        }
        let (mut items, mut doubts) = (Vec::new(), Vec::new());
        let mut earlier = list.doubts.iter().peekable();
        for (position, one) in list.items.iter().enumerate() {
            let doubt = earlier.next_if(|(at, _)| *at as usize == position).map(|(_, unknown)| *unknown);
            if let Err(too_long) = self.step() {
                return too_long;
            }
            self.locals.truncate(item);
            self.locals.push(*one);
            let kept = self.quietly(|this| this.truth(condition, filter, true));
            let doubt = match kept {
                Value::Boolean(false) => continue,
                Value::Boolean(true) => doubt,
                Value::Unknown(unknown) => Some(doubt.unwrap_or(unknown)),
                _ => Some(doubt.unwrap_or(Unknown { reason: Reason::Null, fact: filter.blame_label().unwrap_or("") })),
            };
            if let Some(unknown) = doubt {
                doubts.push((u32::try_from(items.len()).unwrap_or(u32::MAX), unknown));
            }
            items.push(*one);
        }
        self.locals.truncate(item);
        if self.budget.spend_values(items.len() + doubts.len() + 1).is_none() {
            return OUT_OF_BUDGET;
        }
        let (items, doubts) = (self.arena.alloc_slice_copy(&items), self.arena.alloc_slice_copy(&doubts));
        Value::List(self.arena.alloc(List { items, doubts, projected: false }))
    }

    /// `for`: the body for each item, or each combination of items, in order.
    pub(super) fn repeated(&mut self, over: Iteration<'a>) -> Value<'a> {
        let mut results = Vec::new();
        if let Err(value) = self.repeat_into(over, &mut results) {
            return value;
        }
        self.list_of(&results)
    }

    fn repeat_into(&mut self, over: Iteration<'a>, results: &mut Vec<Value<'a>>) -> Result<(), Value<'a>> {
        let Iteration { condition, lists, first_local: local, body } = over;
        let Some(first) = lists.first() else {
            // Before they are put together the results take as much room again.
            self.budget.spend_values(1).ok_or(OUT_OF_BUDGET)?;
            results.push(self.value(condition, body));
            return Ok(());
        };
        let items = match self.value(condition, first) {
            Value::Range(range) => self.numbers_of(range)?,
            value => {
                let list = self.as_list(value)?;
                if let Some((_, unknown)) = list.doubts.first() {
                    return Err(Value::Unknown(*unknown));
                }
                list.items
            }
        };
        for item in items {
            self.step()?;
            self.locals.truncate(local);
            self.locals.push(*item);
            self.repeat_into(over.inner(), results)?;
        }
        self.locals.truncate(local);
        Ok(())
    }

    /// The whole numbers of `low..high`, downwards when `high` is the lower.
    pub(super) fn numbers_of(&self, range: &Range<'a>) -> Result<&'a [Value<'a>], Value<'a>> {
        let whole = |value: Value<'a>| match value {
            Value::Number(number) if number.is_integer() => i64::try_from(number).map_err(|_| Value::Null),
            unknown @ Value::Unknown(_) => Err(unknown),
            _ => Err(Value::Null),
        };
        let (low, high) = (whole(range.low.value)?, whole(range.high.value)?);
        let count = usize::try_from(low.abs_diff(high).saturating_add(1)).unwrap_or(usize::MAX);
        self.budget.spend_values(count).ok_or(OUT_OF_BUDGET)?;
        let step = if low <= high { 1 } else { -1 };
        let numbers = std::iter::successors(Some(low), |number| number.checked_add(step)).take(count);
        let numbers: Vec<Value<'a>> = numbers.map(|number| Value::Number(number.into())).collect();
        Ok(self.arena.alloc_slice_copy(&numbers))
    }

    pub(super) fn index(&mut self, condition: &'a Condition, list: &'a Node, index: &'a Node) -> Value<'a> {
        let value = self.value(condition, list);
        let list = match self.as_list(value) {
            Ok(list) => list,
            Err(value) => return value,
        };
        if let Some((_, unknown)) = list.doubts.first() {
            return Value::Unknown(*unknown);
        }
        let number = match self.value(condition, index) {
            Value::Number(number) => number,
            unknown @ Value::Unknown(_) => return unknown,
            _ => return Value::Null,
        };
        let position = i64::try_from(number.trunc()).ok().filter(|_| number.is_integer());
        let length = i64::try_from(list.items.len()).unwrap_or(i64::MAX);
        let at = match position {
            Some(position) if position > 0 => position - 1,
            Some(position) if position < 0 => length + position,
            _ => return Value::Null,
        };
        usize::try_from(at).ok().and_then(|at| list.items.get(at)).copied().unwrap_or(Value::Null)
    }

    /// Evaluates a quantifier with a fast predicate; none where the evaluator is needed.
    pub(super) fn fast_quantified(&self, every: bool, list: &List<'a>, local: usize, body: &'a Node) -> Option<bool> {
        let test = body.fast_predicate.as_deref().filter(|_| self.trace.is_none() && list.doubts.is_empty())?;
        self.quantify(every, list.items, local, test)
    }

    /// Filters a list with a fast predicate; none where the evaluator is needed.
    pub(super) fn fast_filter(&mut self, list: &List<'a>, local: usize, filter: &'a Node) -> Option<Value<'a>> {
        let test = filter.fast_predicate.as_deref().filter(|_| list.doubts.is_empty())?;
        let count = u32::try_from(list.items.len()).ok()?;
        let left = self.steps_left().checked_sub(count)?;
        let mut chosen = std::mem::take(&mut self.chosen);
        chosen.clear();
        let known = self.fast_items(test, local, list.items, |item, answer| {
            if answer {
                chosen.push(*item);
            }
            true
        });
        let made = known.map(|()| {
            self.budget.give_back_to(left);
            self.list_of(&chosen)
        });
        self.chosen = chosen;
        made
    }
}
