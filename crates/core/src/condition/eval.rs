//! Works out a compiled condition on one device, three-valued, and gathers the evidence while it does.
//!
//! With a trace the same code keeps the parts that decided: of an `and` that fails the parts that fail,
//! of an `or` that fails every branch, of a quantifier the items that broke it.

mod clock;
mod lists;

use std::cell::Cell;
use std::net::IpAddr;

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::compiled::{AmbientKey, Condition, Instance, Node, NodeTest, Op};
use super::functions::Context;
use super::operate::{arithmetic, compare, kleene_and, kleene_or, mismatch, one_of};
use super::syntax::{ArithmeticOp, CompareOp, QuantifierKind};
use crate::evidence::{Blame, Evidence, FactUse, ItemEvidence, Outcome};
use crate::facts::{Facts, Origin};
use crate::value::{List, Range, RangeEnd, Reason, Unknown, Value};
use crate::watch::Watch;

/// How many items one condition may go through on one device, so that lists within lists end.
const MOST_STEPS: u32 = 1_000_000;
/// How many items of a list the evidence names.
const ITEMS_SHOWN: usize = 5;

/// What the surroundings of a condition say; none where they say nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Ambient<'a> {
    /// The device's standing.
    pub standing: Option<&'a str>,
    /// The device is known to the ledger.
    pub known: Option<bool>,
    /// The device has an id of ours.
    pub registered: Option<bool>,
    /// The device is looked after: somebody collected from it lately.
    pub managed: Option<bool>,
    /// How the person signs in.
    pub client: Option<&'a str>,
    /// What the person signs in to.
    pub service: Option<&'a str>,
    /// The rules that have a running finding on the device.
    pub failing: Option<&'a [&'a str]>,
}

#[derive(Debug, Default)]
struct Trace {
    reads: Vec<FactUse>,
    out: Vec<Evidence>,
}

/// Evaluates conditions on one device.
#[derive(Debug)]
pub struct Evaluator<'a> {
    facts: Option<&'a Facts<'a>>,
    person: &'a [Value<'a>],
    ambient: Ambient<'a>,
    groups: &'a [Value<'a>],
    now: Timestamp,
    zone: &'a TimeZone,
    arena: &'a Bump,
    locals: Vec<Value<'a>>,
    /// Items that may still be gone through.
    steps: Cell<u32>,
    trace: Option<Trace>,
    /// Staleness counts: in what is required, not in scopes.
    strict: bool,
    vacuous: bool,
    watch: Option<&'a Watch>,
}

impl<'a> Evaluator<'a> {
    /// Creates an evaluator; `zone` is the workspace's, for `today()`.
    pub fn new(facts: Option<&'a Facts<'a>>, now: Timestamp, zone: &'a TimeZone, arena: &'a Bump) -> Self {
        Self {
            facts,
            person: &[],
            ambient: Ambient::default(),
            groups: &[],
            now,
            zone,
            arena,
            locals: Vec::new(),
            steps: Cell::new(MOST_STEPS),
            trace: None,
            strict: false,
            vacuous: false,
            watch: facts.and_then(Facts::watch),
        }
    }

    /// Notes from now on until when what is worked out holds; of watched facts it is noted anyway.
    pub fn set_watch(&mut self, watch: &'a Watch) {
        self.watch = Some(watch);
    }

    /// Sets what the person's facts are, slot by slot.
    pub fn set_person(&mut self, person: &'a [Value<'a>]) {
        self.person = person;
    }

    /// Sets what the surroundings say.
    pub fn set_ambient(&mut self, ambient: Ambient<'a>) {
        self.ambient = ambient;
    }

    /// Sets the device's memberships, one value a group.
    pub fn set_groups(&mut self, groups: &'a [Value<'a>]) {
        self.groups = groups;
    }

    /// Returns whether a condition holds, using the last known value of every fact at any age.
    pub fn holds(&mut self, condition: &'a Condition) -> Value<'a> {
        self.strict = false;
        self.steps.set(MOST_STEPS);
        self.truth(condition, &condition.root, true)
    }

    /// Returns whether a condition is met by facts that are fresh enough.
    pub fn meets(&mut self, condition: &'a Condition) -> Value<'a> {
        self.strict = true;
        self.steps.set(MOST_STEPS);
        self.truth(condition, &condition.root, true)
    }

    /// Returns whether a condition holds, or is met, with so many items to go through.
    #[cfg(test)]
    pub(super) fn ask_for_tests(&mut self, condition: &'a Condition, strict: bool, steps: Option<u32>) -> Value<'a> {
        self.strict = strict;
        self.steps.set(steps.unwrap_or(MOST_STEPS));
        self.truth(condition, &condition.root, true)
    }

    /// Returns the value of an expression of any type.
    pub fn value_of(&mut self, condition: &'a Condition) -> Value<'a> {
        self.steps.set(MOST_STEPS);
        self.value(condition, &condition.root)
    }

    /// Returns the outcome with its evidence; `strict` as in [`Self::meets`].
    pub fn explain(&mut self, condition: &'a Condition, strict: bool) -> (Value<'a>, Evidence) {
        self.strict = strict;
        // Evidence goes on where a plain answer stops early; it must not come to another answer for that.
        self.steps.set(MOST_STEPS * 50);
        self.trace = Some(Trace::default());
        let value = self.truth(condition, &condition.root, true);
        let mut out = self.trace.take().map(|trace| trace.out).unwrap_or_default();
        let evidence = match (out.pop(), out.is_empty()) {
            (Some(only), true) => only,
            (last, _) => {
                out.extend(last);
                Evidence::All { outcome: outcome_of(&value), parts: out }
            }
        };
        (value, evidence)
    }

    /// Returns whether an `every` over an empty list was met since this was last asked.
    pub fn take_vacuous(&mut self) -> bool {
        std::mem::take(&mut self.vacuous)
    }

    /// Works out a part that must be true or false. `wanted` is what would make the whole hold.
    fn truth(&mut self, condition: &'a Condition, node: &'a Node, wanted: bool) -> Value<'a> {
        if let (None, Some(test)) = (&self.trace, &node.quick) {
            let steps = self.steps.get();
            if let Some(answer) = self.quick(test) {
                return Value::Boolean(answer);
            }
            // The long way begins again.
            self.steps.set(steps);
        }
        match &node.op {
            Op::And(parts) => self.junction(condition, parts, true, wanted),
            Op::Or(parts) => self.junction(condition, parts, false, wanted),
            Op::Not(inner) => match self.truth(condition, inner, !wanted) {
                Value::Boolean(truth) => Value::Boolean(!truth),
                other => other,
            },
            Op::Quantified { kind, lists, first_local, body } => {
                self.quantified(condition, *kind, lists, *first_local, body, wanted)
            }
            Op::If { condition: question, then, otherwise } => {
                match self.quietly(|this| this.truth(condition, question, true)) {
                    Value::Boolean(true) => self.truth(condition, then, wanted),
                    Value::Boolean(false) | Value::Null => self.truth(condition, otherwise, wanted),
                    // What decides is not known: the question itself is the evidence.
                    _ => self.truth(condition, question, true),
                }
            }
            _ => self.leaf(condition, node, wanted),
        }
    }

    /// Goes one item further; the error is that the condition takes too long.
    fn step(&mut self) -> Result<(), Value<'a>> {
        self.take_steps(1).ok_or(Value::Unknown(Unknown { reason: Reason::Error, fact: "" }))
    }

    /// Goes so many items further, if that many may be gone through.
    #[inline]
    pub(super) fn take_steps(&self, count: u32) -> Option<()> {
        self.steps.set(self.steps.get().checked_sub(count)?);
        Some(())
    }

    pub(super) fn steps_left(&self) -> u32 {
        self.steps.get()
    }

    /// Runs something without gathering evidence of it.
    fn quietly<T>(&mut self, run: impl FnOnce(&mut Self) -> T) -> T {
        let trace = self.trace.take();
        let result = run(self);
        self.trace = trace;
        result
    }

    fn mark(&self) -> usize {
        self.trace.as_ref().map_or(0, |trace| trace.out.len())
    }

    /// Takes the evidence gathered since `mark`.
    fn since(&mut self, mark: usize) -> Vec<Evidence> {
        self.trace.as_mut().map(|trace| trace.out.split_off(mark)).unwrap_or_default()
    }

    fn junction(&mut self, condition: &'a Condition, parts: &'a [Node], all: bool, wanted: bool) -> Value<'a> {
        let mark = self.mark();
        let mut result = Value::Boolean(all);
        let mut gathered: Vec<(Outcome, Vec<Evidence>)> = Vec::new();
        for part in parts {
            let mark = self.mark();
            let value = self.truth(condition, part, wanted);
            if self.trace.is_some() {
                gathered.push((outcome_of(&value), self.since(mark)));
            }
            result = if all { kleene_and(result, value) } else { kleene_or(result, value) };
            // Settled; but evidence names every part that decides.
            if matches!(result, Value::Boolean(truth) if truth != all) && self.trace.is_none() {
                break;
            }
        }
        if let Some(trace) = &mut self.trace {
            debug_assert_eq!(trace.out.len(), mark);
            let outcome = outcome_of(&result);
            let decides = |part: &Outcome| match outcome {
                Outcome::Unknown(_) => matches!(part, Outcome::Unknown(_)),
                known => *part == known,
            };
            let mut parts: Vec<Evidence> =
                gathered.into_iter().filter(|(part, _)| decides(part)).flat_map(|(_, parts)| parts).collect();
            let made = match (parts.pop(), parts.is_empty()) {
                (Some(only), true) => only,
                (last, _) => {
                    parts.extend(last);
                    let outcome = facing(outcome, wanted);
                    // Denied, "all" reads as "any" and the other way round.
                    if all == wanted { Evidence::All { outcome, parts } } else { Evidence::Any { outcome, parts } }
                }
            };
            trace.out.push(made);
        }
        result
    }

    /// Works out a part without parts of its own, and notes it as one comparison.
    fn leaf(&mut self, condition: &'a Condition, node: &'a Node, wanted: bool) -> Value<'a> {
        if self.trace.is_none() {
            let value = self.value(condition, node);
            return self.as_truth(value, node);
        }
        let mark = self.trace.as_ref().map_or(0, |trace| trace.reads.len());
        let text = |node: &Node| condition.as_str()[node.span.clone()].to_owned();
        let not = if wanted { "" } else { "not " };
        let (value, subject, observed, required) = match &node.op {
            Op::Compare(op, left, right) => {
                let (l, r, value) = self.compared(condition, *op, left, right);
                // The side that reads a fact is what was looked at.
                let (op, subject, observed, bound) = if left.label.is_none() && right.label.is_some() {
                    (op.flipped(), right, r, l)
                } else {
                    (*op, left, l, r)
                };
                let op = if wanted { op } else { op.negated() };
                let observed = self.with_items(condition, subject, observed);
                (value, text(subject), observed, format!("{} {}", op.as_str(), bound.show_quoted()))
            }
            Op::Between { value, low, high } => {
                let ([v, l, h], result) = self.between(condition, value, low, high);
                (result, text(value), v.show(), format!("{not}between {} and {}", l.show(), h.show()))
            }
            Op::In(value, tests) => {
                let (v, result) = self.membership(condition, value, tests);
                let end = node.span.end;
                let required = condition.as_str()[value.span.end..end].trim();
                (result, text(value), v.show(), format!("{not}{required}"))
            }
            Op::Present(inner) => {
                let v = self.value(condition, inner);
                let result = Value::Boolean(is_present(&v));
                (
                    result,
                    text(inner),
                    v.show(),
                    if wanted { "collected".to_owned() } else { "not collected, or empty".to_owned() },
                )
            }
            _ => {
                let value = self.value(condition, node);
                let value = self.as_truth(value, node);
                (value, text(node), value.show(), (if wanted { "true" } else { "false" }).to_owned())
            }
        };
        let trace = self.trace.get_or_insert_default();
        let facts = trace.reads.split_off(mark);
        let outcome = outcome_of(&value);
        let observed = match (outcome, facts.as_slice()) {
            (Outcome::Unknown(Reason::WrongType | Reason::Stale), [only]) if only.path == subject.trim() => {
                only.value.clone()
            }
            _ => observed,
        };
        let blame = match (&value, outcome) {
            (Value::Unknown(unknown), _) => Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
            (_, Outcome::Unknown(reason)) => {
                let fact = node.blame_label().unwrap_or(&subject).to_owned();
                Some(Blame { fact, reason })
            }
            (_, Outcome::True | Outcome::False) => None,
        };
        let outcome = facing(outcome, wanted);
        trace.out.push(Evidence::Comparison { subject, observed, required, outcome, facts, blame });
        value
    }

    /// Shows a value; of a count of chosen items also which they are.
    fn with_items(&mut self, condition: &'a Condition, node: &'a Node, value: Value<'a>) -> String {
        let shown = value.show();
        let Op::Call(function, arguments) = &node.op else { return shown };
        let [list] = arguments.as_slice() else { return shown };
        if function.name != "count" || !matches!(list.op, Op::Filter { .. }) {
            return shown;
        }
        let chosen = match self.quietly(|this| this.value(condition, list)) {
            Value::List(list) if !list.items.is_empty() && list.doubts.is_empty() => list.items,
            _ => return shown,
        };
        let mut names: Vec<String> =
            chosen.iter().take(ITEMS_SHOWN).enumerate().map(|(at, item)| item_label(item, at)).collect();
        if chosen.len() > ITEMS_SHOWN {
            names.push(format!("and {} more", chosen.len() - ITEMS_SHOWN));
        }
        format!("{shown} ({})", names.join(", "))
    }

    /// Turns the value of a part into true, false or unknown.
    fn as_truth(&self, value: Value<'a>, node: &'a Node) -> Value<'a> {
        match value {
            Value::Boolean(_) | Value::Null | Value::Unknown(_) => value,
            _ => mismatch(node, node),
        }
    }

    fn quantified(
        &mut self,
        condition: &'a Condition,
        kind: QuantifierKind,
        lists: &'a [Node],
        first_local: usize,
        body: &'a Node,
        wanted: bool,
    ) -> Value<'a> {
        let every = kind == QuantifierKind::Every;
        let read_mark = self.trace.as_ref().map_or(0, |trace| trace.reads.len());
        // Later lists may name the items of earlier ones, so they are worked out inside.
        let first = self.value(condition, &lists[0]);
        let listed = self.as_list(first);
        let facts = self.trace.as_mut().map(|trace| trace.reads.split_off(read_mark)).unwrap_or_default();
        let list_text = || condition.as_str()[lists[0].span.clone()].to_owned();
        let list = match listed {
            Ok(list) => list,
            Err(value) => return self.no_list(value, every, &lists[0], list_text, facts),
        };
        if lists.len() == 1
            && let Some(answer) = self.quick_quantified(every, &list, first_local, body)
        {
            return Value::Boolean(answer);
        }
        let mut result = Value::Boolean(every);
        let mut gathered: Vec<(Outcome, ItemEvidence)> = Vec::new();
        let mut doubts = list.doubts.iter().peekable();
        for (position, item) in list.items.iter().enumerate() {
            let doubt = doubts.next_if(|(at, _)| *at as usize == position).map(|(_, unknown)| *unknown);
            if let Err(too_long) = self.step() {
                // What is settled stays so, as it would have without evidence.
                if !matches!(result, Value::Boolean(truth) if truth != every) {
                    result = too_long;
                }
                break;
            }
            self.locals.truncate(first_local);
            self.locals.push(*item);
            let mark = self.mark();
            let value = if lists.len() > 1 {
                self.inner_quantified(condition, every, &lists[1..], first_local + 1, body, wanted)
            } else {
                self.truth(condition, body, wanted)
            };
            // An item that may not belong to the list weighs as unknown, unless it changes nothing.
            let value = match (doubt, value) {
                (Some(unknown), Value::Boolean(truth)) if truth != every => Value::Unknown(unknown),
                (_, value) => value,
            };
            if self.trace.is_some() {
                let mut parts = self.since(mark);
                if let (Some(unknown), Value::Unknown(_)) = (doubt, value) {
                    parts = vec![Evidence::Comparison {
                        subject: list_text(),
                        observed: Value::Unknown(unknown).show(),
                        required: "to be told whether it counts".to_owned(),
                        outcome: Outcome::Unknown(unknown.reason),
                        facts: Vec::new(),
                        blame: Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
                    }];
                }
                gathered.push((outcome_of(&value), ItemEvidence { label: item_label(item, position), parts }));
            }
            result = if every { kleene_and(result, value) } else { kleene_or(result, value) };
            if matches!(result, Value::Boolean(truth) if truth != every) && self.trace.is_none() {
                break;
            }
        }
        self.locals.truncate(first_local);
        if list.items.is_empty() && every {
            self.vacuous = true;
        }
        if let Some(trace) = &mut self.trace {
            if list.items.is_empty() && every {
                let outcome = facing(Outcome::True, wanted);
                trace.out.push(Evidence::NothingToCheck { list: list_text(), outcome, facts });
                return result;
            }
            let outcome = outcome_of(&result);
            let total = gathered.len();
            let decides = |item: &Outcome| match outcome {
                Outcome::Unknown(_) => matches!(item, Outcome::Unknown(_)),
                known => *item == known,
            };
            let mut items: Vec<ItemEvidence> =
                gathered.into_iter().filter(|(item, _)| decides(item)).map(|(_, item)| item).collect();
            let decided = items.len();
            items.truncate(ITEMS_SHOWN);
            // "Not every" reads as "some not", and the other way round.
            let (every, outcome) = (every == wanted, facing(outcome, wanted));
            trace.out.push(Evidence::Items {
                list: list_text(),
                every,
                outcome,
                total,
                decided,
                items,
                facts,
                blame: None,
            });
        }
        result
    }

    /// What comes of a quantifier when there is no list to go through.
    fn no_list(
        &mut self,
        value: Value<'a>,
        every: bool,
        node: &'a Node,
        list_text: impl Fn() -> String,
        facts: Vec<FactUse>,
    ) -> Value<'a> {
        if let Some(trace) = &mut self.trace {
            let outcome = outcome_of(&value);
            let blame = match (&value, outcome) {
                (Value::Unknown(unknown), _) => Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
                (_, Outcome::Unknown(reason)) => {
                    Some(Blame { fact: node.label.as_deref().unwrap_or("").to_owned(), reason })
                }
                (_, Outcome::True | Outcome::False) => None,
            };
            let (list, items) = (list_text(), Vec::new());
            trace.out.push(Evidence::Items { list, every, outcome, total: 0, decided: 0, items, facts, blame });
        }
        value
    }

    /// Returns a fact where it lies, unless it is too old for what it is asked for.
    #[inline]
    pub(super) fn fresh_fact(&self, slot: crate::layout::SlotId, exempt: bool) -> Option<&'a Value<'a>> {
        let facts = self.facts?;
        facts.note_read(slot, self.strict && !exempt);
        let found = facts.slot(slot);
        (!found.stale || !self.strict || exempt).then_some(&found.value)
    }

    /// Returns whether the device belongs to a group, where that was said.
    pub(super) fn group(&self, index: usize) -> Option<&'a Value<'a>> {
        self.groups.get(index)
    }

    /// Returns the item that a quantifier or a filter is at.
    #[inline]
    pub(super) fn local(&self, at: usize) -> Option<&Value<'a>> {
        self.locals.get(at)
    }

    /// The further iterators of a quantifier, for each item of the first.
    fn inner_quantified(
        &mut self,
        condition: &'a Condition,
        every: bool,
        lists: &'a [Node],
        first_local: usize,
        body: &'a Node,
        wanted: bool,
    ) -> Value<'a> {
        let kind = if every { QuantifierKind::Every } else { QuantifierKind::Some };
        self.quantified(condition, kind, lists, first_local, body, wanted)
    }

    /// Works out the value of a part.
    fn value(&mut self, condition: &'a Condition, node: &'a Node) -> Value<'a> {
        match &node.op {
            Op::Constant(value) => *value,
            Op::Text(text) => Value::Text(text),
            Op::Version(text) => Value::Version(text),
            Op::Fact { slot, exempt } => self.fact(*slot, *exempt, node),
            Op::PersonFact(slot) => {
                self.person.get(slot.0 as usize).copied().unwrap_or(Value::missing("")).blamed(node)
            }
            Op::Ambient(key) => self.ambient_value(*key, node),
            Op::Local(local) => self.locals.get(*local).copied().unwrap_or(Value::Null),
            Op::Field { base, path } => {
                let base = self.value(condition, base);
                base.below(path, node.label.as_deref().unwrap_or(""), self.arena)
            }
            Op::ItemField { item, path, fact } => match self.locals.get(*item).copied() {
                Some(object @ Value::Object(_)) => object.below(path, node.label.as_deref().unwrap_or(""), self.arena),
                _ => self.value(condition, fact),
            },
            Op::List(items) => {
                let values: Vec<Value<'a>> = items.iter().map(|item| self.value(condition, item)).collect();
                Value::List(self.arena.alloc(List::certain(self.arena.alloc_slice_copy(&values))))
            }
            Op::Range { low, low_included, high, high_included } => {
                let low = RangeEnd { value: self.value(condition, low), included: *low_included };
                let high = RangeEnd { value: self.value(condition, high), included: *high_included };
                Value::Range(self.arena.alloc(Range { low, high }))
            }
            Op::Negate(inner) => match self.value(condition, inner) {
                Value::Number(number) => Value::Number(-number),
                Value::Duration(length) => Value::Duration(-length),
                Value::Months(months) => Value::Months(-months),
                value @ (Value::Unknown(_) | Value::Null) => value,
                _ => mismatch(inner, inner),
            },
            Op::Arithmetic(op, left, right) => {
                let (l, r) = (self.value(condition, left), self.value(condition, right));
                self.computed(*op, l, r, left, right)
            }
            Op::And(_) | Op::Or(_) | Op::Not(_) | Op::Quantified { .. } => {
                self.quietly(|this| this.truth(condition, node, true))
            }
            Op::If { condition: question, then, otherwise } => {
                match self.quietly(|this| this.truth(condition, question, true)) {
                    Value::Boolean(true) => self.value(condition, then),
                    Value::Boolean(false) | Value::Null => self.value(condition, otherwise),
                    unknown => unknown,
                }
            }
            Op::Compare(op, left, right) => self.compared(condition, *op, left, right).2,
            Op::Between { value, low, high } => self.between(condition, value, low, high).1,
            Op::In(value, tests) => self.membership(condition, value, tests).1,
            Op::Filter { list, item, condition: filter } => self.filter(condition, list, *item, filter),
            Op::Index { list, index } => self.index(condition, list, index),
            Op::For { lists, first_local, body } => self.repeated(condition, lists, *first_local, body),
            Op::InstanceOf(inner, wanted) => match self.value(condition, inner) {
                unknown @ Value::Unknown(_) => unknown,
                value => Value::Boolean(is_instance(&value, *wanted)),
            },
            Op::InNetwork(inner, networks) => match self.value(condition, inner) {
                Value::Text(text) => match text.trim().parse::<IpAddr>() {
                    Ok(address) => Value::Boolean(networks.iter().any(|network| network.contains(address))),
                    Err(_) => mismatch(inner, inner),
                },
                value @ (Value::Unknown(_) | Value::Null) => value,
                _ => mismatch(inner, inner),
            },
            Op::Present(inner) => {
                let value = self.value(condition, inner);
                Value::Boolean(is_present(&value))
            }
            Op::Age(_) => {
                let (age, moving) = self.moving(condition, node);
                self.note_always(moving.is_some());
                age
            }
            Op::Failing(rule) => {
                match self.ambient.failing {
                    Some(failing) => Value::Boolean(failing.iter().any(|id| {
                        id.strip_prefix(&**rule).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
                    })),
                    None => Value::missing("failing"),
                }
            }
            Op::InGroup(index) => self
                .groups
                .get(*index)
                .copied()
                .unwrap_or(Value::Unknown(Unknown { reason: Reason::Missing, fact: "" })),
            Op::Matches(inner, pattern) => match self.value(condition, inner) {
                Value::Text(text) | Value::Version(text) => Value::Boolean(pattern.is_match(text)),
                value @ (Value::Unknown(_) | Value::Null) => value,
                _ => mismatch(inner, inner),
            },
            Op::Call(function, arguments) => self.call(condition, function, arguments),
        }
    }

    /// Compares two parts; returns both, and the outcome. Notes when it changes, where a part moves with the clock.
    fn compared(
        &mut self,
        condition: &'a Condition,
        op: CompareOp,
        left: &'a Node,
        right: &'a Node,
    ) -> (Value<'a>, Value<'a>, Value<'a>) {
        let ((l, left_moves), (r, right_moves)) = (self.moving(condition, left), self.moving(condition, right));
        match (left_moves, right_moves) {
            (None, None) => {}
            (Some(moving), None) => self.note_comparison(op, moving, r),
            (None, Some(moving)) => self.note_comparison(op.flipped(), moving, l),
            (Some(_), Some(_)) => self.note_always(true),
        }
        (l, r, compare(op, l, r, left, right))
    }

    /// Whether a value lies between two others; returns all three, and the outcome.
    fn between(
        &mut self,
        condition: &'a Condition,
        value: &'a Node,
        low: &'a Node,
        high: &'a Node,
    ) -> ([Value<'a>; 3], Value<'a>) {
        let (v, moving) = self.moving(condition, value);
        let (l, h) = (self.value(condition, low), self.value(condition, high));
        if let Some(moving) = moving {
            self.note_comparison(CompareOp::GreaterEqual, moving, l);
            self.note_comparison(CompareOp::LessEqual, moving, h);
        }
        let result = kleene_and(
            compare(CompareOp::LessEqual, l, v, low, value),
            compare(CompareOp::LessEqual, v, h, value, high),
        );
        ([v, l, h], result)
    }

    fn computed(&self, op: ArithmeticOp, l: Value<'a>, r: Value<'a>, left: &'a Node, right: &'a Node) -> Value<'a> {
        match (op, l, r) {
            (ArithmeticOp::Add, Value::Text(a), Value::Text(b)) => Value::Text(self.arena.alloc_str(&[a, b].concat())),
            _ => arithmetic(op, l, r, left, right),
        }
    }

    fn fact(&mut self, slot: crate::layout::SlotId, exempt: bool, node: &'a Node) -> Value<'a> {
        let Some(facts) = self.facts else { return Value::missing(node.label.as_deref().unwrap_or("")) };
        facts.note_read(slot, self.strict && !exempt);
        let found = facts.slot(slot);
        let value = if found.stale && self.strict && !exempt {
            Value::Unknown(Unknown { reason: Reason::Stale, fact: node.label.as_deref().unwrap_or("") })
        } else {
            found.value
        };
        if let Some(trace) = &mut self.trace {
            // What is not of its type is shown as it came.
            let shown = match &found.raw {
                Value::List(list) => format!("a list of {}", list.items.len()),
                other => other.show(),
            };
            let (source, collected, corrected) = match found.origin {
                Some(Origin::Observed { source, collected }) => (Some(source.to_string()), collected, None),
                Some(Origin::Corrected(correction)) => {
                    (None, None, Some((correction.by.clone(), correction.because.clone())))
                }
                None => (None, None, None),
            };
            let path = facts.layout().slot_path(slot).to_owned();
            trace.reads.push(FactUse { path, value: shown, source, collected, corrected });
        }
        value
    }

    fn ambient_value(&self, key: AmbientKey, node: &'a Node) -> Value<'a> {
        let (text, flag) = match key {
            AmbientKey::Standing => (self.ambient.standing, None),
            AmbientKey::DeviceKnown => (None, self.ambient.known),
            AmbientKey::DeviceRegistered => (None, self.ambient.registered),
            AmbientKey::DeviceManaged => (None, self.ambient.managed),
            AmbientKey::SignInClient => (self.ambient.client, None),
            AmbientKey::ServiceId => (self.ambient.service, None),
        };
        text.map(Value::Text)
            .or(flag.map(Value::Boolean))
            .unwrap_or(Value::missing(node.label.as_deref().unwrap_or("")))
    }

    /// Whether a part is met by one of the tests of an `in`; returns its value, and the outcome.
    fn membership(
        &mut self,
        condition: &'a Condition,
        node: &'a Node,
        tests: &'a [NodeTest],
    ) -> (Value<'a>, Value<'a>) {
        let (value, moving) = self.moving(condition, node);
        let mut result = Value::Boolean(false);
        for test in tests {
            let one = match test {
                NodeTest::Compare(op, bound) => {
                    let bound_value = self.value(condition, bound);
                    moving.into_iter().for_each(|moving| self.note_comparison(*op, moving, bound_value));
                    compare(*op, value, bound_value, node, bound)
                }
                NodeTest::Value(member) => match &member.op {
                    Op::Range { low, low_included, high, high_included } if moving.is_some() => {
                        let low = RangeEnd { value: self.value(condition, low), included: *low_included };
                        let high = RangeEnd { value: self.value(condition, high), included: *high_included };
                        if let Some(moving) = moving {
                            let (from, to) = (CompareOp::GreaterEqual, CompareOp::LessEqual);
                            self.note_comparison(
                                if low.included { from } else { CompareOp::Greater },
                                moving,
                                low.value,
                            );
                            self.note_comparison(if high.included { to } else { CompareOp::Less }, moving, high.value);
                        }
                        one_of(value, Value::Range(self.arena.alloc(Range { low, high })), node, member)
                    }
                    _ if moving.is_some() => {
                        self.note_always(true);
                        let member_value = self.value(condition, member);
                        one_of(value, member_value, node, member)
                    }
                    // A written list is gone through without being built.
                    Op::List(items) => {
                        let mut any = Value::Boolean(false);
                        for item in items {
                            let item_value = self.value(condition, item);
                            any = kleene_or(any, one_of(value, item_value, node, item));
                            if matches!(any, Value::Boolean(true)) {
                                break;
                            }
                        }
                        any
                    }
                    _ => {
                        let member_value = self.value(condition, member);
                        one_of(value, member_value, node, member)
                    }
                },
            };
            result = kleene_or(result, one);
            if matches!(result, Value::Boolean(true)) {
                break;
            }
        }
        (value, result)
    }

    fn call(
        &mut self,
        condition: &'a Condition,
        function: &'static super::functions::Function,
        arguments: &'a [Node],
    ) -> Value<'a> {
        let mut values = bumpalo::collections::Vec::with_capacity_in(arguments.len(), self.arena);
        for argument in arguments {
            let value = self.value(condition, argument);
            let unknown = match value {
                Value::Unknown(unknown) => Some(unknown),
                Value::List(list) => list.doubts.first().map(|(_, unknown)| *unknown).or_else(|| {
                    let looks_inside = !function.weighs_unknown;
                    list.items.iter().find_map(|item| match item {
                        Value::Unknown(unknown) if looks_inside => Some(*unknown),
                        _ => None,
                    })
                }),
                _ => None,
            };
            if let Some(unknown) = unknown {
                return Value::Unknown(unknown);
            }
            values.push(value);
        }
        if let Some(watch) = self.watch {
            match function.name {
                "now" => watch.note_always(),
                "today" => watch.note_day(self.now, self.zone),
                _ => {}
            }
        }
        let context = Context { arena: self.arena, now: self.now, zone: self.zone };
        let result = (function.run)(&context, &values);
        let fact = arguments.iter().find(|argument| argument.label.is_some());
        let is_empty = |value: &Value<'_>| matches!(value, Value::List(list) if list.items.is_empty());
        match (result, fact) {
            (Value::Unknown(_), Some(fact)) => result.blamed(fact),
            // A fact of the wrong type is to blame, where a literal would have been refused before.
            (Value::Null, Some(fact))
                if !values.iter().any(|value| matches!(value, Value::Null) || is_empty(value)) =>
            {
                mismatch(fact, fact)
            }
            (result, _) => result,
        }
    }
}

impl Condition {
    /// Whether it comes out the same whatever any device reports; none where something decides.
    pub(super) fn constant(&self) -> Option<bool> {
        if self.root.reads_anything() {
            return None;
        }
        let arena = Bump::new();
        let zone = TimeZone::UTC;
        let mut evaluator = Evaluator::new(None, Timestamp::UNIX_EPOCH, &zone, &arena);
        match evaluator.holds(self) {
            Value::Boolean(truth) => Some(truth),
            // Null or of no truth: it will never pass.
            _ => Some(false),
        }
    }
}

impl Node {
    /// Whether its value may differ from device to device, or from moment to moment.
    fn reads_anything(&self) -> bool {
        let any = |nodes: &[Self]| nodes.iter().any(Self::reads_anything);
        match &self.op {
            Op::Constant(_) | Op::Text(_) | Op::Version(_) | Op::Local(_) => false,
            Op::Fact { .. }
            | Op::PersonFact(_)
            | Op::Ambient(_)
            | Op::ItemField { .. }
            | Op::InGroup(_)
            | Op::Failing(_) => true,
            Op::Field { base: inner, .. }
            | Op::Negate(inner)
            | Op::Not(inner)
            | Op::InstanceOf(inner, _)
            | Op::InNetwork(inner, _)
            | Op::Present(inner)
            | Op::Matches(inner, _) => inner.reads_anything(),
            // An age is of now.
            Op::Age(_) => true,
            Op::List(items) | Op::And(items) | Op::Or(items) => any(items),
            Op::Call(function, arguments) => matches!(function.name, "now" | "today") || any(arguments),
            Op::Range { low, high, .. } => low.reads_anything() || high.reads_anything(),
            Op::Arithmetic(_, left, right) | Op::Compare(_, left, right) => {
                left.reads_anything() || right.reads_anything()
            }
            Op::Between { value, low, high } => value.reads_anything() || low.reads_anything() || high.reads_anything(),
            Op::In(value, tests) => {
                value.reads_anything()
                    || tests.iter().any(|test| match test {
                        NodeTest::Value(node) | NodeTest::Compare(_, node) => node.reads_anything(),
                    })
            }
            Op::If { condition, then, otherwise } => {
                condition.reads_anything() || then.reads_anything() || otherwise.reads_anything()
            }
            Op::Quantified { lists, body, .. } | Op::For { lists, body, .. } => any(lists) || body.reads_anything(),
            Op::Filter { list, condition, .. } => list.reads_anything() || condition.reads_anything(),
            Op::Index { list, index } => list.reads_anything() || index.reads_anything(),
        }
    }

    /// The fact to blame when this comes out unknown and no value says which.
    pub(super) fn blame_label(&self) -> Option<&str> {
        if let Some(label) = &self.label {
            return Some(label);
        }
        match &self.op {
            Op::Compare(_, left, right) | Op::Arithmetic(_, left, right) => {
                left.blame_label().or_else(|| right.blame_label())
            }
            Op::Between { value, .. } | Op::In(value, _) => value.blame_label(),
            Op::Not(inner) | Op::Negate(inner) => inner.blame_label(),
            Op::And(parts) | Op::Or(parts) => parts.iter().find_map(Self::blame_label),
            _ => None,
        }
    }
}

impl<'a> Value<'a> {
    /// Names the fact of a missing value after the node that read it.
    fn blamed(self, node: &'a Node) -> Self {
        match self {
            Self::Unknown(Unknown { reason, fact: "" }) => {
                Self::Unknown(Unknown { reason, fact: node.label.as_deref().unwrap_or("") })
            }
            other => other,
        }
    }
}

fn is_instance(value: &Value<'_>, wanted: Instance) -> bool {
    match (value, wanted) {
        (Value::Null, _) => false,
        (_, Instance::Any)
        | (Value::Boolean(_), Instance::Boolean)
        | (Value::Number(_), Instance::Number)
        | (Value::Text(_) | Value::Version(_), Instance::Text)
        | (Value::Version(_), Instance::Version)
        | (Value::Date(_), Instance::Date)
        | (Value::Time(_), Instance::Time)
        | (Value::DateTime(_), Instance::DateTime)
        | (Value::Duration(_), Instance::Duration)
        | (Value::Months(_), Instance::Months)
        | (Value::List(_), Instance::List)
        | (Value::Object(_), Instance::Object) => true,
        _ => false,
    }
}

/// The fields by which evidence names an item, the first that is there.
pub(super) const NAMES_OF_ITEMS: [&str; 5] = ["name", "mount", "id", "title", "path"];

fn item_label(item: &Value<'_>, position: usize) -> String {
    match item {
        Value::Object(object) => NAMES_OF_ITEMS.iter().find_map(|name| match object.get(name) {
            Value::Text(text) if !text.is_empty() => Some(text.to_owned()),
            _ => None,
        }),
        Value::Text(text) if !text.is_empty() => Some((*text).to_owned()),
        _ => None,
    }
    .unwrap_or_else(|| format!("number {}", position + 1))
}

pub(super) fn is_present(value: &Value<'_>) -> bool {
    match value {
        Value::Null => false,
        // Collected, though too old, from the future or of the wrong type.
        Value::Unknown(unknown) => !matches!(unknown.reason, Reason::Missing | Reason::Null),
        _ => true,
    }
}

/// The outcome of a part as it bears on the whole: below a `not`, what holds is what breaks it.
fn facing(outcome: Outcome, wanted: bool) -> Outcome {
    match (outcome, wanted) {
        (Outcome::True, false) => Outcome::False,
        (Outcome::False, false) => Outcome::True,
        (same, _) => same,
    }
}

pub(super) fn outcome_of(value: &Value<'_>) -> Outcome {
    match value {
        Value::Boolean(true) => Outcome::True,
        Value::Boolean(false) => Outcome::False,
        Value::Unknown(unknown) => Outcome::Unknown(unknown.reason),
        Value::Null => Outcome::Unknown(Reason::Null),
        _ => Outcome::Unknown(Reason::WrongType),
    }
}
