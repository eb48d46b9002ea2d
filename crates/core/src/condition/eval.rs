//! Works out a compiled condition on one device, three-valued, and gathers the evidence while it does.
//!
//! With a trace the same code keeps the parts that decided: of an `and` that fails the parts that fail,
//! of an `or` that fails every branch, of a quantifier the items that broke it.

mod clock;
mod lists;

use std::net::IpAddr;

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::budget::{self, Budget};
use super::compiled::{AmbientKey, Condition, Instance, Node, NodeTest, Op};
use super::functions::Context;
use super::operate::{arithmetic, compare, kleene_and, kleene_or, mismatch, one_of, overflow};
use super::syntax::{ArithmeticOp, CompareOp, QuantifierKind};
use crate::condition::evidence::{Blame, Evidence, FactUse, ItemEvidence, Outcome};
use crate::condition::types::Type;
use crate::drift::{DeviceDrift, DriftOutcome, NotedDifferences};
use crate::facts::merge::{Facts, Origin};
use crate::facts::validity::Watch;
use crate::facts::value::{DateTime, List, Range, RangeEnd, Reason, Unknown, Value, Zone};
use lists::Iteration;

/// Visiting an item while gathering evidence costs as much as visiting this many without.
const COST_OF_A_TRACED_ITEM: usize = 8;
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
    /// Where the person signs in from.
    pub address: Option<&'a str>,
    /// The platform that the sign-in tells.
    pub platform: Option<&'a str>,
    /// When the person signs in.
    pub time: Option<Timestamp>,
    /// What the person signs in to.
    pub service: Option<&'a str>,
    /// The rules that have a running finding on the device.
    pub failing: Option<&'a [&'a str]>,
    /// What comparisons say of the device; none where nothing was compared.
    pub drift: Option<&'a [DeviceDrift]>,
}

#[derive(Debug, Default)]
struct Trace {
    reads: Vec<FactUse>,
    out: Vec<Evidence>,
}

/// What the comparison of a set found of a device.
#[derive(Clone, Copy)]
enum FoundOf<'a> {
    Alike,
    Differs(&'a NotedDifferences),
    Stale,
    NotCompared,
}

/// Returns whether a device was found alike.
fn alike<'a>(found: FoundOf<'_>) -> Value<'a> {
    match found {
        FoundOf::Alike => Value::Boolean(true),
        FoundOf::Differs(_) => Value::Boolean(false),
        FoundOf::Stale => Value::Unknown(Unknown { reason: Reason::Stale, fact: "" }),
        FoundOf::NotCompared => Value::missing(""),
    }
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
    budget: &'a Budget,
    /// Room for the items that a filter chooses, used again by the next filter.
    chosen: Vec<Value<'a>>,
    trace: Option<Trace>,
    /// Staleness counts: in what is required, not in scopes.
    strict: bool,
    vacuous: bool,
    watch: Option<&'a Watch>,
}

/// Two parts that were compared.
struct Comparison<'a> {
    left: Value<'a>,
    right: Value<'a>,
    outcome: Value<'a>,
}

/// The part whose membership an `in` tests.
struct TestedPart<'a> {
    node: &'a Node,
    value: Value<'a>,
    /// How the value moves with the clock.
    moving: Option<clock::Moving>,
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
            budget: arena.alloc(Budget::new()),
            chosen: Vec::new(),
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
        self.ask(condition, false)
    }

    /// Returns whether a condition is met by facts that are fresh enough.
    pub fn meets(&mut self, condition: &'a Condition) -> Value<'a> {
        self.ask(condition, true)
    }

    /// Returns whether a condition holds, or is met, with so many items to visit.
    #[cfg(test)]
    pub(super) fn ask_for_tests(&mut self, condition: &'a Condition, strict: bool, items: Option<u32>) -> Value<'a> {
        self.strict = strict;
        self.budget.start_condition();
        if let Some(items) = items {
            self.budget.leave(items);
        }
        let value = self.truth(condition, &condition.root, true);
        self.within_budget(condition, value)
    }

    fn ask(&mut self, condition: &'a Condition, strict: bool) -> Value<'a> {
        self.ask_node(condition, &condition.root, strict)
    }

    /// Returns whether a part of a condition holds, or is met, by itself.
    pub(super) fn ask_node(&mut self, condition: &'a Condition, node: &'a Node, strict: bool) -> Value<'a> {
        self.strict = strict;
        self.budget.start_condition();
        let value = self.truth(condition, node, true);
        self.within_budget(condition, value)
    }

    /// Returns the value of an expression of any type.
    pub fn value_of(&mut self, condition: &'a Condition) -> Value<'a> {
        self.budget.start_condition();
        let value = self.value(condition, &condition.root);
        self.within_budget(condition, value)
    }

    /// Returns the value of a condition, or that it could not be worked out within its budget.
    fn within_budget(&self, condition: &'a Condition, value: Value<'a>) -> Value<'a> {
        if !self.budget.is_exhausted() {
            return value;
        }
        let fact = condition.root.first_label().unwrap_or("");
        Value::Unknown(Unknown { reason: Reason::Error, fact })
    }

    /// Returns the outcome with its evidence; `strict` as in [`Self::meets`].
    ///
    /// The outcome is that of a run without evidence, which stops early and so needs less of the budget. Where only
    /// gathering the evidence takes too long, the evidence is the condition as a whole.
    pub fn explain(&mut self, condition: &'a Condition, strict: bool) -> (Value<'a>, Evidence) {
        let value = self.ask(condition, strict);
        if self.budget.is_exhausted() {
            return (value, whole_evidence(condition, &value, "too much to go through", budget::IN_WORDS));
        }
        self.budget.start_condition();
        self.trace = Some(Trace::default());
        let traced = self.truth(condition, &condition.root, true);
        let mut out = self.trace.take().map(|trace| trace.out).unwrap_or_default();
        if self.budget.is_exhausted() {
            return (value, whole_evidence(condition, &value, &value.show_cut(), "true"));
        }
        let evidence = match (out.pop(), out.is_empty()) {
            (Some(only), true) => only,
            (last, _) => {
                out.extend(last);
                Evidence::All { outcome: outcome_of(&traced), parts: out }
            }
        };
        (traced, evidence)
    }

    /// Returns whether an `every` over an empty list was met since this was last asked.
    pub fn take_vacuous(&mut self) -> bool {
        std::mem::take(&mut self.vacuous)
    }

    /// Works out a part that must be true or false. `wanted` is what would make the whole hold.
    fn truth(&mut self, condition: &'a Condition, node: &'a Node, wanted: bool) -> Value<'a> {
        if let (None, Some(test)) = (&self.trace, &node.fast_predicate) {
            let items = self.budget.items_left();
            if let Some(answer) = self.fast_predicate(test) {
                return Value::Boolean(answer);
            }
            // The long way begins again.
            self.budget.give_back_to(items);
        }
        match &node.op {
            Op::And(parts) => self.junction(condition, parts, true, wanted),
            Op::Or(parts) => self.junction(condition, parts, false, wanted),
            Op::Not(inner) => match self.truth(condition, inner, !wanted) {
                Value::Boolean(truth) => Value::Boolean(!truth),
                other => other,
            },
            Op::Quantified { kind, lists, first_local, body } => {
                let over = Iteration { condition, lists, first_local: *first_local, body };
                self.quantified(over, *kind == QuantifierKind::Every, wanted)
            }
            Op::If { condition: question, then, otherwise } => {
                match self.quietly(|this| this.truth(condition, question, true)) {
                    Value::Boolean(true) => self.truth(condition, then, wanted),
                    Value::Boolean(false) | Value::Null => self.truth(condition, otherwise, wanted),
                    // What decides is not known: the question itself is the evidence.
                    _ => self.truth(condition, question, true),
                }
            }
            Op::Alike(set) => self.alike(*set),
            _ => self.leaf(condition, node, wanted),
        }
    }

    /// Returns what the comparison of a set found of the device.
    fn found_of(&self, set: usize) -> FoundOf<'a> {
        match self.ambient.drift {
            None => FoundOf::NotCompared,
            Some(all) => match all.iter().find(|one| one.set == set).map(|one| &one.outcome) {
                None => FoundOf::Alike,
                Some(DriftOutcome::Differs(noted)) => FoundOf::Differs(noted),
                Some(DriftOutcome::Stale) => FoundOf::Stale,
                Some(DriftOutcome::NotCompared) => FoundOf::NotCompared,
            },
        }
    }

    /// Works out whether the comparison of a set found the device alike; the evidence is how it differs.
    fn alike(&mut self, set: usize) -> Value<'a> {
        let found = self.found_of(set);
        let value = alike(found);
        let outcome = outcome_of(&value);
        let comparison = |subject: &str, observed: String, required: String| Evidence::Comparison {
            subject: subject.to_owned(),
            path: None,
            observed,
            required,
            outcome,
            facts: Vec::new(),
            blame: None,
        };
        let peers = |observed: &str| comparison("its state", observed.to_owned(), "like its reference".to_owned());
        if let Some(trace) = &mut self.trace {
            match found {
                FoundOf::Alike => trace.out.push(peers("like its reference, or accepted")),
                FoundOf::Stale => trace.out.push(peers("too old to compare")),
                FoundOf::NotCompared => trace.out.push(peers("compared with nothing")),
                FoundOf::Differs(noted) => {
                    let differences = noted.first.iter();
                    trace
                        .out
                        .extend(differences.map(|one| comparison(&one.place, one.found().to_owned(), one.required())));
                    if noted.more > 0 {
                        let observed = format!("different in {} more facts", noted.more);
                        trace.out.push(peers(&observed));
                    }
                }
            }
        }
        value
    }

    /// Visits one more item; the error is that the condition has used up its budget.
    fn step(&mut self) -> Result<(), Value<'a>> {
        let cost = if self.trace.is_some() { COST_OF_A_TRACED_ITEM } else { 1 };
        self.budget.spend_items(cost).ok_or(OUT_OF_BUDGET)
    }

    /// Visits so many items, if the budget has them.
    #[inline]
    pub(super) fn take_steps(&self, count: u32) -> Option<()> {
        self.budget.try_items(count)
    }

    pub(super) fn steps_left(&self) -> u32 {
        self.budget.items_left()
    }

    /// Takes the work of reading a text off the budget, if it has as much.
    #[inline]
    pub(super) fn take_text(&self, text: &str) -> Option<()> {
        self.budget.spend_text(text)
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
                    // Under a negation "all" reads as "any", and the other way round.
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
                let Comparison { left: l, right: r, outcome: value } = self.compared(condition, *op, left, right);
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
                (result, text(value), v.show_cut(), format!("{not}between {} and {}", l.show_cut(), h.show_cut()))
            }
            Op::In(value, tests) => {
                let (v, result) = self.membership(condition, value, tests);
                let end = node.span.end;
                let required = condition.as_str()[value.span.end..end].trim();
                (result, text(value), v.show_cut(), format!("{not}{required}"))
            }
            Op::Present(inner) => {
                let v = self.value(condition, inner);
                let result = Value::Boolean(is_present(&v));
                (
                    result,
                    text(inner),
                    v.show_cut(),
                    if wanted { "collected".to_owned() } else { "not collected, or empty".to_owned() },
                )
            }
            _ => {
                let value = self.value(condition, node);
                let value = self.as_truth(value, node);
                (value, text(node), value.show_cut(), (if wanted { "true" } else { "false" }).to_owned())
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
        let path = node.whole_path();
        trace.out.push(Evidence::Comparison { subject, path, observed, required, outcome, facts, blame });
        value
    }

    /// Shows a value; of a count of chosen items also which they are.
    fn with_items(&mut self, condition: &'a Condition, node: &'a Node, value: Value<'a>) -> String {
        let shown = value.show_cut();
        let Op::Call(function, arguments) = &node.op else { return shown };
        let [list] = arguments.as_slice() else { return shown };
        if function.name != "count" || !matches!(list.op, Op::Filter { .. }) {
            return shown;
        }
        let chosen = match self.quietly(|this| this.value(condition, list)) {
            Value::List(list) if !list.items.is_empty() && list.doubts.is_empty() => list.items,
            _ => return shown,
        };
        let mut names: Vec<String> = chosen
            .iter()
            .take(ITEMS_SHOWN)
            .enumerate()
            .map(|(at, item)| item_label(item, at, self.item_key(list)))
            .collect();
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

    /// `every` and `some`.
    fn quantified(&mut self, over: Iteration<'a>, every: bool, wanted: bool) -> Value<'a> {
        let Iteration { condition, lists, first_local, body } = over;
        let read_mark = self.trace.as_ref().map_or(0, |trace| trace.reads.len());
        // Later lists may name the items of earlier ones, so they are worked out inside.
        let first = self.value(condition, &lists[0]);
        let listed = self.as_list(first);
        let facts = self.trace.as_mut().map(|trace| trace.reads.split_off(read_mark)).unwrap_or_default();
        let list_text = || over.list_text();
        let list = match listed {
            Ok(list) => list,
            Err(value) => return self.no_list(value, over, every, facts),
        };
        if lists.len() == 1
            && let Some(answer) = self.fast_quantified(every, &list, first_local, body)
        {
            return Value::Boolean(answer);
        }
        let mut result = Value::Boolean(every);
        let key = self.item_key(&lists[0]);
        let mut gathered = GatheredItems::default();
        let mut doubts = list.doubts.iter().peekable();
        for (position, item) in list.items.iter().enumerate() {
            let doubt = doubts.next_if(|(at, _)| *at as usize == position).map(|(_, unknown)| *unknown);
            if let Err(exhausted) = self.step() {
                result = exhausted;
                break;
            }
            self.locals.truncate(first_local);
            self.locals.push(*item);
            let mark = self.mark();
            let value = if lists.len() > 1 {
                self.quantified(over.inner(), every, wanted)
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
                        path: over.lists[0].label.as_deref().map(str::to_owned),
                        observed: Value::Unknown(unknown).show(),
                        required: "to be told whether it counts".to_owned(),
                        outcome: Outcome::Unknown(unknown.reason),
                        facts: Vec::new(),
                        blame: Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
                    }];
                }
                gathered.add(outcome_of(&value), || ItemEvidence { label: item_label(item, position, key), parts });
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
            let total = gathered.total();
            let (decided, items) = gathered.of_outcome(outcome);
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
    fn no_list(&mut self, value: Value<'a>, over: Iteration<'a>, every: bool, facts: Vec<FactUse>) -> Value<'a> {
        if let Some(trace) = &mut self.trace {
            let outcome = outcome_of(&value);
            let blame = match (&value, outcome) {
                (Value::Unknown(unknown), _) => Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
                (_, Outcome::Unknown(reason)) => {
                    Some(Blame { fact: over.lists[0].label.as_deref().unwrap_or("").to_owned(), reason })
                }
                (_, Outcome::True | Outcome::False) => None,
            };
            let (list, items) = (over.list_text(), Vec::new());
            trace.out.push(Evidence::Items { list, every, outcome, total: 0, decided: 0, items, facts, blame });
        }
        value
    }

    /// Returns a fact where it lies, unless it is too old for what it is asked for.
    #[inline]
    pub(super) fn fresh_fact(&self, slot: crate::facts::layout::SlotId, exempt: bool) -> Option<&'a Value<'a>> {
        let facts = self.facts?;
        facts.note_read(slot, self.strict && !exempt);
        let found = facts.slot(slot);
        (!found.stale || !self.strict || exempt).then_some(&found.value)
    }

    /// Returns the field by which the items of a list are told apart, where the dictionary says.
    fn item_key(&self, list: &Node) -> Option<&'a str> {
        match &list.op {
            Op::Fact { slot, .. } => self.facts?.layout().item_key(*slot),
            Op::Filter { list, .. } => self.item_key(list),
            _ => None,
        }
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
                self.below(base, path, node)
            }
            Op::ItemField { item, path, fact } => match self.locals.get(*item).copied() {
                Some(object @ Value::Object(_)) => self.below(object, path, node),
                _ => self.value(condition, fact),
            },
            Op::List(items) => {
                let values: Vec<Value<'a>> = items.iter().map(|item| self.value(condition, item)).collect();
                self.list_of(&values)
            }
            Op::Range { low, low_included, high, high_included } => {
                let low = RangeEnd { value: self.value(condition, low), included: *low_included };
                let high = RangeEnd { value: self.value(condition, high), included: *high_included };
                match self.budget.spend_bytes(size_of::<Range<'_>>()) {
                    Some(()) => Value::Range(self.arena.alloc(Range { low, high })),
                    None => OUT_OF_BUDGET,
                }
            }
            Op::Negate(inner) => match self.value(condition, inner) {
                Value::Number(number) => Value::Number(-number),
                Value::Duration(length) => length.checked_neg().map_or_else(|| overflow(inner, inner), Value::Duration),
                Value::Months(months) => months.checked_neg().map_or_else(|| overflow(inner, inner), Value::Months),
                value @ (Value::Unknown(_) | Value::Null) => value,
                _ => mismatch(inner, inner),
            },
            Op::Arithmetic(op, left, right) => {
                let (l, r) = (self.value(condition, left), self.value(condition, right));
                self.computed(*op, [l, r], [left, right])
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
            Op::Compare(op, left, right) => self.compared(condition, *op, left, right).outcome,
            Op::Between { value, low, high } => self.between(condition, value, low, high).1,
            Op::In(value, tests) => self.membership(condition, value, tests).1,
            Op::Filter { list, item, condition: filter } => self.filter(condition, list, *item, filter),
            Op::Index { list, index } => self.index(condition, list, index),
            Op::For { lists, first_local, body } => {
                self.repeated(Iteration { condition, lists, first_local: *first_local, body })
            }
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
            Op::Alike(set) => alike(self.found_of(*set)),
            Op::InGroup(index) => self
                .groups
                .get(*index)
                .copied()
                .unwrap_or(Value::Unknown(Unknown { reason: Reason::Missing, fact: "" })),
            Op::Matches(inner, pattern) => match self.value(condition, inner) {
                Value::Text(text) | Value::Version(text) => match self.budget.spend_text(text) {
                    Some(()) => Value::Boolean(pattern.is_match(text)),
                    None => OUT_OF_BUDGET,
                },
                value @ (Value::Unknown(_) | Value::Null) => value,
                _ => mismatch(inner, inner),
            },
            Op::Call(function, arguments) => self.call(condition, function, arguments),
        }
    }

    /// Compares two parts. Notes when the outcome changes, where a part moves with the clock.
    fn compared(&mut self, condition: &'a Condition, op: CompareOp, left: &'a Node, right: &'a Node) -> Comparison<'a> {
        let ((l, left_moves), (r, right_moves)) = (self.moving(condition, left), self.moving(condition, right));
        match (left_moves, right_moves) {
            (None, None) => {}
            (Some(moving), None) => self.note_comparison(op, moving, r),
            (None, Some(moving)) => self.note_comparison(op.flipped(), moving, l),
            (Some(_), Some(_)) => self.note_always(true),
        }
        match self.budget.spend_comparison(&l, &r) {
            Some(()) => Comparison { left: l, right: r, outcome: compare(op, l, r, left, right) },
            None => Comparison { left: l, right: r, outcome: OUT_OF_BUDGET },
        }
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

    fn computed(&self, op: ArithmeticOp, [l, r]: [Value<'a>; 2], [left, right]: [&'a Node; 2]) -> Value<'a> {
        match (op, l, r) {
            (ArithmeticOp::Add, Value::Text(a), Value::Text(b)) => match self.budget.spend_bytes(a.len() + b.len()) {
                Some(()) => Value::Text(self.arena.alloc_str(&[a, b].concat())),
                None => OUT_OF_BUDGET,
            },
            _ => arithmetic(op, l, r, left, right),
        }
    }

    /// Returns a list of values.
    fn list_of(&self, values: &[Value<'a>]) -> Value<'a> {
        match self.budget.spend_values(values.len() + 1) {
            Some(()) => Value::List(self.arena.alloc(List::certain(self.arena.alloc_slice_copy(values)))),
            None => OUT_OF_BUDGET,
        }
    }

    /// Returns the value at a path below another; of a list, the list of what its items have there.
    fn below(&self, base: Value<'a>, path: &str, node: &'a Node) -> Value<'a> {
        // Counted before the list is made, so that the last one cannot be too large.
        if let Value::List(list) = base
            && self.budget.spend_values(list.items.len() + 1).is_none()
        {
            return OUT_OF_BUDGET;
        }
        base.below(path, node.label.as_deref().unwrap_or(""), self.arena)
    }

    fn fact(&mut self, slot: crate::facts::layout::SlotId, exempt: bool, node: &'a Node) -> Value<'a> {
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
                other => other.show_cut(),
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
        if key == AmbientKey::SignInTime {
            // A usual sign-in is of now, whenever that is.
            self.note_always(self.ambient.time.is_none());
            let time = self.ambient.time.unwrap_or(self.now);
            return Value::DateTime(DateTime::At(time, Zone::Offset(self.zone.to_offset(time))));
        }
        let (text, flag) = match key {
            AmbientKey::Standing => (self.ambient.standing, None),
            AmbientKey::DeviceKnown => (None, self.ambient.known),
            AmbientKey::DeviceRegistered => (None, self.ambient.registered),
            AmbientKey::DeviceManaged => (None, self.ambient.managed),
            AmbientKey::SignInClient => (self.ambient.client, None),
            AmbientKey::SignInAddress => (self.ambient.address, None),
            AmbientKey::SignInPlatform => (self.ambient.platform, None),
            AmbientKey::SignInTime => unreachable!("it is returned above"),
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
        let tested = TestedPart { node, value, moving };
        let mut result = Value::Boolean(false);
        for test in tests {
            let one = match test {
                NodeTest::Compare(op, bound) => {
                    let bound_value = self.value(condition, bound);
                    moving.into_iter().for_each(|moving| self.note_comparison(*op, moving, bound_value));
                    compare(*op, value, bound_value, node, bound)
                }
                NodeTest::Value(member) => self.is_member(condition, &tested, member),
            };
            result = kleene_or(result, one);
            if matches!(result, Value::Boolean(true)) {
                break;
            }
        }
        (value, result)
    }

    /// Whether the value of a part is one member of an `in`, or within it.
    fn is_member(&mut self, condition: &'a Condition, tested: &TestedPart<'a>, member: &'a Node) -> Value<'a> {
        let TestedPart { node, value, moving } = *tested;
        match &member.op {
            // Compared with both ends, without a range being built.
            Op::Range { low, low_included, high, high_included } => {
                let (low, high) = (self.value(condition, low), self.value(condition, high));
                let above = if *low_included { CompareOp::GreaterEqual } else { CompareOp::Greater };
                let below = if *high_included { CompareOp::LessEqual } else { CompareOp::Less };
                if let Some(moving) = moving {
                    self.note_comparison(above, moving, low);
                    self.note_comparison(below, moving, high);
                }
                kleene_and(compare(above, value, low, node, member), compare(below, value, high, node, member))
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
                let spent = match member_value {
                    Value::List(_) => self.budget.spend_whole(&member_value),
                    _ => self.budget.spend_comparison(&value, &member_value),
                };
                match spent {
                    Some(()) => one_of(value, member_value, node, member),
                    None => OUT_OF_BUDGET,
                }
            }
        }
    }

    fn call(
        &mut self,
        condition: &'a Condition,
        function: &'static super::functions::Function,
        arguments: &'a [Node],
    ) -> Value<'a> {
        // Few functions take more; those that do take what the rule itself writes.
        let mut few = [Value::Null; 4];
        let mut many = Vec::new();
        let values: &mut [Value<'a>] = match few.get_mut(..arguments.len()) {
            Some(few) => few,
            None => {
                many.resize(arguments.len(), Value::Null);
                &mut many
            }
        };
        for (argument, place) in arguments.iter().zip(&mut *values) {
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
            let spent = match value {
                Value::Text(text) | Value::Version(text) => self.budget.spend_text(text),
                // Counting looks at no item.
                Value::List(list) if function.name != "count" => self.budget.spend_items(list.items.len()),
                _ => Some(()),
            };
            if spent.is_none() {
                return OUT_OF_BUDGET;
            }
            *place = value;
        }
        if let Some(watch) = self.watch {
            match function.name {
                "now" => watch.note_always(),
                "today" => watch.note_day(self.now, self.zone),
                _ => {}
            }
        }
        let context = Context { arena: self.arena, budget: self.budget, now: self.now, zone: self.zone };
        let result = (function.run)(&context, values);
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
            | Op::Failing(_)
            | Op::Alike(_) => true,
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

    /// Returns the first fact that is named in this part or below it.
    fn first_label(&self) -> Option<&str> {
        self.label.as_deref().or_else(|| self.children().into_iter().find_map(Self::first_label))
    }

    /// The whole path of the first fact that this part looks at, with `[]` behind every list whose items are looked at one by one:
    /// `disks[].encrypted`.
    pub(super) fn whole_path(&self) -> Option<String> {
        let of_items = |label: &str| format!("{label}[]");
        match (&self.op, &self.label) {
            (Op::Local(_), Some(label)) => Some(of_items(label)),
            (Op::ItemField { path, .. }, Some(label)) => {
                let list = label.strip_suffix(&**path).and_then(|list| list.strip_suffix('.'));
                Some(list.map_or_else(|| label.to_string(), |list| format!("{list}[].{path}")))
            }
            (Op::Field { base, path }, Some(_)) => {
                let base_path = base.whole_path()?;
                let is_list = base.ty == Type::List && !base_path.ends_with("[]");
                Some(format!("{}.{path}", if is_list { of_items(&base_path) } else { base_path }))
            }
            (Op::Fact { .. } | Op::PersonFact(_) | Op::Ambient(_), label) => label.as_deref().map(str::to_owned),
            _ => self.children().into_iter().find_map(Self::whole_path),
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

/// Returns what an item is called: by the field that tells items apart, where that is declared, or by one that usually does.
fn item_label(item: &Value<'_>, position: usize, key: Option<&str>) -> String {
    match item {
        Value::Object(object) => key.into_iter().chain(NAMES_OF_ITEMS).find_map(|name| match object.get(name) {
            text @ Value::Text(name) if !name.is_empty() => Some(text.show_cut()),
            number @ Value::Number(_) if Some(name) == key => Some(number.show_cut()),
            _ => None,
        }),
        Value::Text(text) if !text.is_empty() => Some(item.show_cut()),
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

/// What comes of a part when the budget is used up. The whole condition is unknown then, whatever the other parts say.
const OUT_OF_BUDGET: Value<'static> = Value::Unknown(Unknown { reason: Reason::Error, fact: "" });

/// Items of a list by outcome, for evidence: all are counted, the first few of each outcome are kept.
#[derive(Default)]
struct GatheredItems {
    met: (usize, Vec<ItemEvidence>),
    broke: (usize, Vec<ItemEvidence>),
    unknown: (usize, Vec<ItemEvidence>),
}

impl GatheredItems {
    fn add(&mut self, outcome: Outcome, item: impl FnOnce() -> ItemEvidence) {
        let (count, items) = match outcome {
            Outcome::True => &mut self.met,
            Outcome::False => &mut self.broke,
            Outcome::Unknown(_) => &mut self.unknown,
        };
        *count += 1;
        if items.len() < ITEMS_SHOWN {
            items.push(item());
        }
    }

    fn total(&self) -> usize {
        self.met.0 + self.broke.0 + self.unknown.0
    }

    /// Returns how many items came out so, and the first of them; of an unknown outcome all unknown ones.
    fn of_outcome(self, outcome: Outcome) -> (usize, Vec<ItemEvidence>) {
        match outcome {
            Outcome::True => self.met,
            Outcome::False => self.broke,
            Outcome::Unknown(_) => self.unknown,
        }
    }
}

/// The evidence of a condition of which the parts are not told.
fn whole_evidence(condition: &Condition, value: &Value<'_>, observed: &str, required: &str) -> Evidence {
    const MOST: usize = 200;
    let text = condition.as_str().trim();
    let subject = match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}..", &text[..end]),
        None => text.to_owned(),
    };
    let blame = match value {
        Value::Unknown(unknown) => Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
        _ => None,
    };
    Evidence::Comparison {
        subject,
        path: None,
        observed: observed.to_owned(),
        required: required.to_owned(),
        outcome: outcome_of(value),
        facts: Vec::new(),
        blame,
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
