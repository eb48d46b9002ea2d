//! Resolves names, finds out types, and turns a syntax tree into a compiled condition. Every mistake of a
//! condition is reported, not only the first.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use super::bounds::Bounds;
use super::compiled::{AmbientKey, Condition, Instance, Network, Node, NodeTest, Op, Type};
use super::functions::{self, Function};
use super::grounds::grounds_of;
use super::operate::arithmetic;
use super::parser;
use super::quick::Quick;
use super::syntax::{ArithmeticOp, CompareOp, Expr, ExprKind, Name, Test};
use super::temporal::{parse_at_literal, parse_date_time, parse_day, parse_duration, parse_time};
use crate::diagnostic::{Diagnostic, Text, did_you_mean, nearest};
use crate::dictionary::{Dictionary, FactType};
use crate::id::GroupId;
use crate::layout::{Layout, SlotId};
use crate::value::{DateTime, Value};
use crate::version::is_version;

/// Where a condition stands, which decides what its names mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// A rule's scope or requirement: the device's facts alone.
    Rule,
    /// A group of devices, or a filter: facts and the standing.
    Devices,
    /// A group of people: the person's facts.
    People,
    /// An access rule: facts, standing, `device`, `person`, `signin`, `service`.
    Access,
}

/// What names mean while conditions are compiled. Layouts grow as conditions name facts.
#[derive(Debug)]
pub struct Vocabulary<'v> {
    /// Declared and reported facts.
    pub dictionary: &'v Dictionary,
    /// The slots of device facts.
    pub layout: &'v mut Layout,
    /// The slots of facts of people.
    pub people: &'v mut Layout,
    /// Groups that `in group` may name.
    pub groups: &'v [GroupId],
    /// Rules that `failing` may name, those of checks with their slash.
    pub rules: &'v [String],
}

impl Condition {
    /// Compiles a condition that stands at `place`; it must be true or false (or unknown), not anything else.
    ///
    /// Mistakes go to `mistakes`; warnings among them do not keep the condition from being returned.
    pub fn compile(
        text: &Text,
        place: Place,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Option<Self> {
        let compiled = Self::compile_value(text, place, vocabulary, mistakes)?;
        let ty = compiled.root.ty;
        if !matches!(ty, Type::Boolean | Type::Any | Type::Null) {
            mistakes.push(
                Diagnostic::error(
                    "not-a-condition",
                    format!("this is {}, not a condition", ty.as_str()),
                    text.span(compiled.root.span.clone()),
                )
                .label("must be true or false")
                .help("compare it with something, as in `os.version >= \"12.0\"`"),
            );
            return None;
        }
        if let Some(truth) = compiled.constant() {
            let always = if truth { "always true" } else { "never true" };
            mistakes.push(
                Diagnostic::warning(
                    "constant",
                    format!("this condition is {always}"),
                    text.span(compiled.root.span.clone()),
                )
                .label("no fact decides it")
                .help("compare a fact with something, or take the condition away"),
            );
        }
        Some(compiled)
    }

    /// Compiles the unary tests that the value of a fact must meet: `>= 30`, `[8..16]`, `"a", "b"`, `not("x")`, `-`.
    pub fn compile_tests(
        fact: &str,
        tests: &Text,
        place: Place,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Option<Self> {
        let (tests_read, denied) = match parser::parse_tests(tests) {
            Ok(read) => read,
            Err(mistake) => {
                mistakes.push(*mistake);
                return None;
            }
        };
        let whole = 0..tests.as_str().len();
        let part = |kind: ExprKind| Expr { kind, span: whole.clone() };
        let mut names = fact.split('.');
        let first = part(ExprKind::Name(names.next().unwrap_or_default().to_owned()));
        let value = names.fold(first, |base, name| {
            part(ExprKind::Path(Box::new(base), Name { text: name.to_owned(), span: whole.clone() }))
        });
        let tree = match tests_read {
            None => part(ExprKind::Boolean(true)),
            Some(all) => {
                let tested = part(ExprKind::In(Box::new(value), all));
                let not = || Name { text: "not".to_owned(), span: whole.clone() };
                if denied {
                    part(ExprKind::Call { name: not(), arguments: vec![tested], names: Vec::new() })
                } else {
                    tested
                }
            }
        };
        Self::of_tree(&tree, tests, place, vocabulary, mistakes)
    }

    /// Compiles an expression of any type.
    pub fn compile_value(
        text: &Text,
        place: Place,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Option<Self> {
        let tree = match parser::parse(text) {
            Ok(tree) => tree,
            Err(mistake) => {
                mistakes.push(*mistake);
                return None;
            }
        };
        Self::of_tree(&tree, text, place, vocabulary, mistakes)
    }

    fn of_tree(
        tree: &Expr,
        text: &Text,
        place: Place,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Option<Self> {
        let mut checker = Checker {
            text,
            place,
            vocabulary,
            mistakes,
            failed: false,
            scopes: Vec::new(),
            next_local: 0,
            slots: BTreeSet::new(),
            may_read: BTreeSet::new(),
            groups: BTreeSet::new(),
            reads_standing: false,
        };
        let root = checker.expr(tree);
        let Checker { failed, slots, may_read, groups, reads_standing, .. } = checker;
        (!failed).then(|| Self {
            grounds: grounds_of(&root),
            root,
            text: text.clone(),
            slots: slots.into_iter().collect(),
            may_read: may_read.into_iter().collect(),
            groups: groups.into_iter().collect(),
            reads_standing,
        })
    }
}

enum Scope {
    /// A quantifier's name for its items.
    Named { name: String, local: usize, label: Option<Arc<str>> },
    /// A filter's item, whose fields are names.
    Item { local: usize, label: Option<Arc<str>> },
}

struct Checker<'c, 'v> {
    text: &'c Text,
    place: Place,
    vocabulary: &'c mut Vocabulary<'v>,
    mistakes: &'c mut Vec<Diagnostic>,
    failed: bool,
    scopes: Vec<Scope>,
    next_local: usize,
    slots: BTreeSet<SlotId>,
    may_read: BTreeSet<SlotId>,
    groups: BTreeSet<usize>,
    reads_standing: bool,
}

impl Checker<'_, '_> {
    fn error(
        &mut self,
        code: &'static str,
        message: String,
        span: &Range<usize>,
        label: &str,
        help: impl Into<String>,
    ) {
        self.failed = true;
        self.mistakes.push(Diagnostic::error(code, message, self.text.span(span.clone())).label(label).help(help));
    }

    fn warn(&mut self, code: &'static str, message: String, span: &Range<usize>, label: &str, help: impl Into<String>) {
        self.mistakes.push(Diagnostic::warning(code, message, self.text.span(span.clone())).label(label).help(help));
    }

    fn node(op: Op, ty: Type, label: Option<Arc<str>>, span: &Range<usize>) -> Node {
        let quick = Quick::of(&op).map(Box::new);
        Node { op, ty, label, span: span.clone(), quick }
    }

    fn null(span: &Range<usize>) -> Node {
        Self::node(Op::Constant(Value::Null), Type::Any, None, span)
    }

    fn boxed(&mut self, expr: &Expr) -> Box<Node> {
        Box::new(self.expr(expr))
    }

    fn expr(&mut self, expr: &Expr) -> Node {
        let span = &expr.span;
        match &expr.kind {
            ExprKind::Mistake | ExprKind::Null => Self::node(Op::Constant(Value::Null), Type::Null, None, span),
            ExprKind::Boolean(truth) => Self::node(Op::Constant(Value::Boolean(*truth)), Type::Boolean, None, span),
            ExprKind::Number(number) => Self::node(Op::Constant(Value::Number(*number)), Type::Number, None, span),
            ExprKind::Text(text) => Self::node(Op::Text(text.as_str().into()), Type::Text, None, span),
            ExprKind::At(text) => self.at_literal(text, span),
            ExprKind::Name(_) | ExprKind::Path(..) => self.path(expr),
            ExprKind::List(items) => {
                let items = items.iter().map(|item| self.expr(item)).collect();
                Self::node(Op::List(items), Type::List, None, span)
            }
            ExprKind::Range { low, low_included, high, high_included } => {
                let (low, high) = (self.boxed(low), self.boxed(high));
                self.check_comparable(CompareOp::LessEqual, &low, &high, span);
                let op = Op::Range { low, low_included: *low_included, high, high_included: *high_included };
                Self::node(op, Type::Range, None, span)
            }
            ExprKind::Negate(inner) => {
                let inner = self.boxed(inner);
                if !matches!(inner.ty, Type::Number | Type::Duration | Type::Months | Type::Any | Type::Null) {
                    let message = format!("{} has no negative", inner.ty.as_str());
                    self.error("wrong-type", message, span, "", "a minus goes before numbers and durations");
                }
                let (ty, label) = (inner.ty, inner.label.clone());
                Self::node(Op::Negate(inner), ty, label, span)
            }
            ExprKind::Arithmetic(op, left, right) => self.arithmetic(*op, left, right, span),
            ExprKind::And(parts) => {
                let parts = self.conditions(parts, "and");
                self.check_contradiction(&parts, span);
                Self::node(Op::And(parts), Type::Boolean, None, span)
            }
            ExprKind::Or(parts) => {
                let parts = self.conditions(parts, "or");
                Self::node(Op::Or(parts), Type::Boolean, None, span)
            }
            ExprKind::Compare(op, left, right) => self.compare(*op, left, right, span),
            ExprKind::Between { value, low, high } => {
                let (value, mut low, mut high) = (self.boxed(value), self.boxed(low), self.boxed(high));
                for end in [&mut low, &mut high] {
                    self.as_version(&value, end);
                    self.check_comparable(CompareOp::LessEqual, &value, end, span);
                }
                Self::node(Op::Between { value, low, high }, Type::Boolean, None, span)
            }
            ExprKind::In(value, tests) => self.membership(value, tests, span),
            ExprKind::If { condition, then, otherwise } => {
                let condition = Box::new(self.condition(condition, "`if`"));
                let (then, otherwise) = (self.boxed(then), self.boxed(otherwise));
                let ty = if then.ty == otherwise.ty { then.ty } else { Type::Any };
                Self::node(Op::If { condition, then, otherwise }, ty, None, span)
            }
            ExprKind::Quantified { kind, iterators, body } => {
                let first_local = self.next_local;
                let depth = self.scopes.len();
                let mut lists = Vec::new();
                for (name, list) in iterators {
                    let list = self.list_of(list);
                    let label = list.label.clone();
                    lists.push(list);
                    self.scopes.push(Scope::Named { name: name.text.clone(), local: self.next_local, label });
                    self.next_local += 1;
                }
                let body = Box::new(self.condition(body, "`satisfies`"));
                self.scopes.truncate(depth);
                self.next_local = first_local;
                Self::node(Op::Quantified { kind: *kind, lists, first_local, body }, Type::Boolean, None, span)
            }
            ExprKind::For { iterators, body } => {
                let (first_local, depth) = (self.next_local, self.scopes.len());
                let mut lists = Vec::new();
                for (name, list) in iterators {
                    let list =
                        if matches!(list.kind, ExprKind::Range { .. }) { self.expr(list) } else { self.list_of(list) };
                    let label = list.label.clone();
                    lists.push(list);
                    self.scopes.push(Scope::Named { name: name.text.clone(), local: self.next_local, label });
                    self.next_local += 1;
                }
                let body = self.boxed(body);
                self.scopes.truncate(depth);
                self.next_local = first_local;
                let label = lists.iter().find_map(|list| list.label.clone());
                Self::node(Op::For { lists, first_local, body }, Type::List, label, span)
            }
            ExprKind::InstanceOf(value, name) => {
                let value = self.boxed(value);
                let label = value.label.clone();
                let instance = self.instance(name);
                Self::node(Op::InstanceOf(value, instance), Type::Boolean, label, span)
            }
            ExprKind::Filter(list, filter) => self.filter(list, filter, span),
            ExprKind::Call { name, arguments, names } => self.call(name, arguments, names, span),
        }
    }

    /// Checks an expression that must be true or false.
    fn condition(&mut self, expr: &Expr, whose: &str) -> Node {
        let node = self.expr(expr);
        if !matches!(node.ty, Type::Boolean | Type::Any | Type::Null) {
            let message = format!("{whose} needs a condition, and this is {}", node.ty.as_str());
            self.error("not-a-condition", message, &expr.span, "must be true or false", "compare it with something");
        }
        node
    }

    fn conditions(&mut self, parts: &[Expr], word: &str) -> Vec<Node> {
        parts.iter().map(|part| self.condition(part, &format!("`{word}`"))).collect()
    }

    /// Warns where comparisons of one fact with numbers leave no number over.
    fn check_contradiction(&mut self, parts: &[Node], span: &Range<usize>) {
        let mut bounds: BTreeMap<&str, Bounds> = BTreeMap::new();
        let number = |node: &Node| match node.op {
            Op::Constant(Value::Number(number)) => Some(number),
            _ => None,
        };
        for part in parts {
            let Op::Compare(op, left, right) = &part.op else { continue };
            let (op, fact, bound) = match (number(left), number(right)) {
                (None, Some(bound)) => (*op, left, bound),
                (Some(bound), None) => (op.flipped(), right, bound),
                _ => continue,
            };
            if let (Op::Fact { .. }, Some(label)) = (&fact.op, &fact.label) {
                bounds.entry(label).or_default().narrow(op, bound);
            }
        }
        if let Some((fact, _)) = bounds.iter().find(|(_, bounds)| bounds.is_empty()) {
            let message = format!("no value of `{fact}` meets all of this");
            self.warn("constant", message, span, "never true", "mend one of the numbers, or write `or`");
        }
    }

    fn list_of(&mut self, expr: &Expr) -> Node {
        let node = self.expr(expr);
        if !matches!(node.ty, Type::List | Type::Any | Type::Null | Type::Object) {
            let message = format!("this is {}, not a list", node.ty.as_str());
            self.error(
                "not-a-list",
                message,
                &expr.span,
                "a list was expected",
                "name a fact that is a list, or write one in [ ]",
            );
        }
        node
    }

    fn at_literal(&mut self, text: &str, span: &Range<usize>) -> Node {
        match parse_at_literal(text) {
            Some(value) => Self::node(Op::Constant(value), type_of_value(&value), None, span),
            None => {
                let message = format!("`{text}` is no date, time or duration");
                self.error(
                    "bad-literal",
                    message,
                    span,
                    "",
                    "write @\"2027-03-04\", @\"2027-03-04T10:00:00Z\" or @\"P3D\"",
                );
                Self::null(span)
            }
        }
    }

    /// Resolves `a.b.c`: a local, a field of a filter's item, or a fact.
    fn path(&mut self, expr: &Expr) -> Node {
        let mut parts: Vec<&str> = Vec::new();
        let mut at = expr;
        let base = loop {
            match &at.kind {
                ExprKind::Path(inner, name) => {
                    parts.push(&name.text);
                    at = inner;
                }
                ExprKind::Name(name) => {
                    parts.push(name);
                    break None;
                }
                _ => break Some(at),
            }
        };
        parts.reverse();
        if let Some(base) = base {
            let base = self.expr(base);
            return self.field(base, &parts.join("."), &expr.span);
        }
        let (head, rest) = (parts[0], parts[1..].join("."));
        // The nearest scope wins, as in the standard.
        for scope in self.scopes.iter().rev() {
            match scope {
                Scope::Named { name, local, label } if name == head => {
                    let base = Self::node(Op::Local(*local), Type::Any, label.clone(), &expr.span);
                    return if rest.is_empty() { base } else { self.field(base, &rest, &expr.span) };
                }
                Scope::Item { local, label } => {
                    let (local, label) = (*local, label.clone());
                    if head == "item" {
                        let base = Self::node(Op::Local(local), Type::Any, label, &expr.span);
                        return if rest.is_empty() { base } else { self.field(base, &rest, &expr.span) };
                    }
                    let path: Arc<str> = parts.join(".").into();
                    let field_label: Option<Arc<str>> = label.map(|label| format!("{label}.{path}").into());
                    let ty = field_label.as_deref().map_or(Type::Any, |label| self.declared(label));
                    // Reached only where the items are no objects, so it is not held against the dictionary.
                    let fact = Box::new(self.outer(&parts, &expr.span, false));
                    return Self::node(Op::ItemField { item: local, path, fact }, ty, field_label, &expr.span);
                }
                Scope::Named { .. } => {}
            }
        }
        self.outer(&parts, &expr.span, true)
    }

    /// Resolves a name outside every scope.
    fn outer(&mut self, parts: &[&str], span: &Range<usize>, hold: bool) -> Node {
        let rest = parts[1..].join(".");
        match (self.place, parts[0], rest.as_str()) {
            (Place::People, ..) => self.person_fact(&parts.join("."), span),
            (Place::Access, "person", rest) if !rest.is_empty() => self.person_fact(rest, span),
            (Place::Access, "signin", "client") => {
                Self::node(Op::Ambient(AmbientKey::SignInClient), Type::Text, Some("signin.client".into()), span)
            }
            (Place::Access, "service", "id") => {
                Self::node(Op::Ambient(AmbientKey::ServiceId), Type::Text, Some("service.id".into()), span)
            }
            (Place::Access, head @ ("signin" | "service" | "person"), rest) => {
                let message = if rest.is_empty() {
                    format!("`{head}` alone is no value")
                } else {
                    format!("unknown name `{head}.{rest}`")
                };
                self.error(
                    "unknown-name",
                    message,
                    span,
                    "",
                    "known are signin.client, service.id, and the facts of the people list below person",
                );
                Self::null(span)
            }
            (Place::Rule | Place::Devices, head @ ("signin" | "service"), _) => {
                self.error(
                    "unknown-name",
                    format!("`{head}` has a meaning in access rules only"),
                    span,
                    "",
                    "move this into `when`, `unless` or `needs` of an access rule",
                );
                Self::null(span)
            }
            (Place::Rule | Place::Devices, "person", rest) if !rest.is_empty() => {
                self.error(
                    "unknown-name",
                    "a rule cannot ask for facts of a person".into(),
                    span,
                    "",
                    "make a group of people and use `held_by` in a group of devices",
                );
                Self::null(span)
            }
            (Place::Rule, "standing", "") => {
                self.error(
                    "own-tail",
                    "a rule cannot ask for the standing, which follows from the rules".into(),
                    span,
                    "would chase its own tail",
                    "use `standing` in groups, filters and access rules",
                );
                Self::null(span)
            }
            (Place::Devices | Place::Access, "standing", "") => {
                self.reads_standing = true;
                Self::node(Op::Ambient(AmbientKey::Standing), Type::Text, Some("standing".into()), span)
            }
            (Place::Access, "device", "known") => {
                Self::node(Op::Ambient(AmbientKey::DeviceKnown), Type::Boolean, Some("device.known".into()), span)
            }
            (Place::Access, "device", "registered") => Self::node(
                Op::Ambient(AmbientKey::DeviceRegistered),
                Type::Boolean,
                Some("device.registered".into()),
                span,
            ),
            (Place::Access, "device", "managed") => {
                Self::node(Op::Ambient(AmbientKey::DeviceManaged), Type::Boolean, Some("device.managed".into()), span)
            }
            (Place::Access, "device", rest) if !rest.is_empty() => self.fact(rest, span, hold),
            (Place::Rule | Place::Devices | Place::Access, ..) => self.fact(&parts.join("."), span, hold),
        }
    }

    fn fact(&mut self, path: &str, span: &Range<usize>, hold: bool) -> Node {
        if hold && path != "device" && path != "collected_at" {
            self.check_known(path, span);
        }
        let slot = self.vocabulary.layout.want(path, self.vocabulary.dictionary);
        self.may_read.insert(slot);
        if hold {
            self.slots.insert(slot);
        }
        let ty = match path {
            "device" => Type::Text,
            _ => self.declared(path),
        };
        Self::node(Op::Fact { slot, exempt: false }, ty, Some(path.into()), span)
    }

    fn person_fact(&mut self, path: &str, span: &Range<usize>) -> Node {
        let slot = self.vocabulary.people.want(path, &Dictionary::default());
        Self::node(Op::PersonFact(slot), Type::Any, Some(format!("person.{path}").into()), span)
    }

    fn check_known(&mut self, path: &str, span: &Range<usize>) {
        let dictionary = self.vocabulary.dictionary;
        let known = match &dictionary.reported {
            Some(_) => dictionary.knows(path),
            // With no fleet to judge by, only a name that looks like a slip of a declared one is worth a word.
            None => {
                dictionary.facts.contains_key(path)
                    || nearest(path, dictionary.facts.keys().map(String::as_str)).is_none()
            }
        };
        if !known {
            let help = did_you_mean(path, dictionary.paths(), || {
                "see the names that devices report with `fencepost list facts`".to_owned()
            });
            self.warn(
                "unknown-fact",
                format!("unknown fact `{path}`"),
                span,
                "no device reports a fact of this name",
                help,
            );
        }
    }

    fn declared(&self, path: &str) -> Type {
        match self.vocabulary.dictionary.type_of(path) {
            None => Type::Any,
            Some(FactType::Text) => Type::Text,
            Some(FactType::Number) => Type::Number,
            Some(FactType::Boolean) => Type::Boolean,
            Some(FactType::Instant) => Type::DateTime,
            Some(FactType::Date) => Type::Date,
            // Either kind of duration.
            Some(FactType::Duration) => Type::Any,
            Some(FactType::Version) => Type::Version,
            Some(FactType::List) => Type::List,
            Some(FactType::Object) => Type::Object,
        }
    }

    fn field(&mut self, base: Node, path: &str, span: &Range<usize>) -> Node {
        let label: Option<Arc<str>> = base.label.as_ref().map(|label| format!("{label}.{path}").into());
        // A field of a list is a list of fields, so the declared type holds for its items only.
        let ty = match &label {
            Some(label) if base.ty != Type::List => self.declared(label),
            _ => Type::Any,
        };
        let is_time = matches!(base.ty, Type::Date | Type::DateTime | Type::Time | Type::Duration | Type::Months);
        if is_time || matches!(base.ty, Type::Number | Type::Boolean | Type::Text | Type::Version) {
            let message = format!("{} has no fields", base.ty.as_str());
            let help = if is_time {
                "properties such as `.year` are not in the language; compare with date(2027, 1, 1) or a duration"
            } else {
                "take the part behind the dot away"
            };
            self.error("no-fields", message, span, "", help);
        }
        Self::node(Op::Field { base: Box::new(base), path: path.into() }, ty, label, span)
    }

    fn arithmetic(&mut self, op: ArithmeticOp, left: &Expr, right: &Expr, span: &Range<usize>) -> Node {
        use ArithmeticOp::{Add, Divide, Multiply, Power, Subtract};
        let (left, right) = (self.boxed(left), self.boxed(right));
        let ty = match (op, left.ty, right.ty) {
            (_, Type::Any | Type::Null, _) | (_, _, Type::Any | Type::Null) => Some(Type::Any),
            (_, Type::Number, Type::Number) => Some(Type::Number),
            (Add, Type::Text, Type::Text) => Some(Type::Text),
            (Add | Subtract, Type::Duration, Type::Duration) => Some(Type::Duration),
            (Add | Subtract, Type::Months, Type::Months) => Some(Type::Months),
            (Add | Subtract, Type::Date | Type::DateTime, Type::Duration | Type::Months) => Some(left.ty),
            (Add, Type::Duration | Type::Months, Type::Date | Type::DateTime) => Some(right.ty),
            (Add | Subtract, Type::Time, Type::Duration) => Some(Type::Time),
            (Subtract, Type::Time, Type::Time) => Some(Type::Duration),
            (Multiply, Type::Months, Type::Number) | (Multiply, Type::Number, Type::Months) => Some(Type::Months),
            (Subtract, Type::Date, Type::Date) | (Subtract, Type::DateTime, Type::DateTime) => Some(Type::Duration),
            (Multiply | Divide, Type::Duration, Type::Number) | (Multiply, Type::Number, Type::Duration) => {
                Some(Type::Duration)
            }
            (Divide, Type::Duration, Type::Duration) => Some(Type::Number),
            (Add | Subtract | Multiply | Divide | Power, _, _) => None,
        };
        if ty.is_none() {
            let message = format!("cannot compute with {} and {}", left.ty.as_str(), right.ty.as_str());
            self.error("wrong-type", message, span, "", "numbers go with numbers, dates and durations with durations");
        }
        // What is the same for every device is computed once.
        if let (Op::Constant(Value::Number(l)), Op::Constant(Value::Number(r))) = (&left.op, &right.op)
            && let Value::Number(result) = arithmetic(op, Value::Number(*l), Value::Number(*r), &left, &right)
        {
            return Self::node(Op::Constant(Value::Number(result)), Type::Number, None, span);
        }
        let label = left.label.clone().or_else(|| right.label.clone());
        Self::node(Op::Arithmetic(op, left, right), ty.unwrap_or(Type::Any), label, span)
    }

    fn compare(&mut self, op: CompareOp, left: &Expr, right: &Expr, span: &Range<usize>) -> Node {
        let (mut left, mut right) = (self.boxed(left), self.boxed(right));
        self.as_version(&left, &mut right);
        self.as_version(&right, &mut left);
        self.check_comparable(op, &left, &right, span);
        if !matches!(op, CompareOp::Equal | CompareOp::NotEqual) {
            self.warn_version_text(&left, &right);
            self.warn_version_text(&right, &left);
        }
        Self::node(Op::Compare(op, left, right), Type::Boolean, None, span)
    }

    /// A text literal beside a version is a version.
    fn as_version(&mut self, other: &Node, literal: &mut Node) {
        let Op::Text(text) = &literal.op else { return };
        if other.ty != Type::Version {
            return;
        }
        if !is_version(text) {
            let message = format!("`{text}` is not a version");
            let span = literal.span.clone();
            self.error("bad-literal", message, &span, "", "a version starts with a digit, as in \"12.0.1\"");
        }
        literal.op = Op::Version(text.clone());
        literal.ty = Type::Version;
    }

    fn warn_version_text(&mut self, fact: &Node, literal: &Node) {
        let (Op::Text(text), Some(label)) = (&literal.op, &fact.label) else { return };
        let dotted = text.split('.').count() > 1
            && text.split('.').all(|part| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit()));
        if matches!(fact.ty, Type::Any | Type::Text) && (dotted || (label.ends_with("version") && is_version(text))) {
            let (message, help) = (
                format!("`{label}` is compared as a text, where \"9.4\" comes after \"12.0\""),
                format!(
                    "declare it in facts.toml: \"{label}\" = {{ type = \"version\" }}, or write version(\"{text}\")"
                ),
            );
            let span = literal.span.clone();
            self.warn("version-as-text", message, &span, "looks like a version", help);
        }
    }

    fn check_comparable(&mut self, op: CompareOp, left: &Node, right: &Node, span: &Range<usize>) {
        let (a, b) = (left.ty, right.ty);
        if matches!(a, Type::Any) || matches!(b, Type::Any) {
            return;
        }
        let equality = matches!(op, CompareOp::Equal | CompareOp::NotEqual);
        // Beside null an order is null, as the standard has it.
        if a == Type::Null || b == Type::Null {
            return;
        }
        let same = a == b || matches!((a, b), (Type::Version, Type::Text) | (Type::Text, Type::Version));
        if !same {
            let message = format!("{} and {} are never equal", a.as_str(), b.as_str());
            let message =
                if equality { message } else { format!("{} cannot be compared with {}", a.as_str(), b.as_str()) };
            let help = match (a, b) {
                (Type::Version, Type::Number) | (Type::Number, Type::Version) => {
                    "write a version in quotes, as in \"12.0\""
                }
                (Type::Number, Type::Text) | (Type::Text, Type::Number) => {
                    "take the quotes away from a number, or write number(..)"
                }
                (Type::Boolean, _) | (_, Type::Boolean) => "write `= true` or `= false`, without quotes",
                (Type::Date | Type::DateTime, Type::Text) | (Type::Text, Type::Date | Type::DateTime) => {
                    "write a date as date(\"2027-03-04\") or @\"2027-03-04\""
                }
                (Type::Duration, _) | (_, Type::Duration) => "write a length of time as duration(\"14 days\")",
                (Type::List, _) | (_, Type::List) => "use `in`, `every`, `some` or count(..) with lists",
                _ => "compare things of one type",
            };
            self.error("never-equal", message, span, "", help);
        } else if !equality && matches!(a, Type::Boolean | Type::List | Type::Object | Type::Null | Type::Range) {
            let message = format!("{} has no order", a.as_str());
            self.error("no-order", message, span, "", "use `=` or `!=`");
        }
    }

    fn membership(&mut self, value: &Expr, tests: &[Test], span: &Range<usize>) -> Node {
        let value = self.boxed(value);
        let tests = tests
            .iter()
            .map(|test| match test {
                Test::Compare(op, expr) => {
                    let mut node = self.expr(expr);
                    self.as_version(&value, &mut node);
                    self.check_comparable(*op, &value, &node, &expr.span);
                    NodeTest::Compare(*op, node)
                }
                Test::Value(expr) => {
                    let mut node = self.expr(expr);
                    match &mut node.op {
                        Op::List(items) => items.iter_mut().for_each(|item| self.check_member(&value, item)),
                        Op::Range { low, high, .. } => {
                            for end in [low, high] {
                                self.as_version(&value, end);
                                self.check_comparable(CompareOp::LessEqual, &value, end, &expr.span);
                            }
                        }
                        _ => self.check_member(&value, &mut node),
                    }
                    NodeTest::Value(node)
                }
            })
            .collect();
        Self::node(Op::In(value, tests), Type::Boolean, None, span)
    }

    fn check_member(&mut self, value: &Node, item: &mut Node) {
        self.as_version(value, item);
        if !matches!(item.ty, Type::List | Type::Range | Type::Object) && value.ty != Type::List {
            let span = item.span.clone();
            self.check_comparable(CompareOp::Equal, value, item, &span);
        }
    }

    fn filter(&mut self, list: &Expr, filter: &Expr, span: &Range<usize>) -> Node {
        let list = Box::new(self.list_of(list));
        let label = list.label.clone();
        // A number picks an item; anything else is a condition on each.
        let is_number = |expr: &Expr| match &expr.kind {
            ExprKind::Number(_) => true,
            ExprKind::Negate(inner) => matches!(inner.kind, ExprKind::Number(_)),
            _ => false,
        };
        if is_number(filter) {
            let index = self.boxed(filter);
            return Self::node(Op::Index { list, index }, Type::Any, label, span);
        }
        let item = self.next_local;
        self.next_local += 1;
        self.scopes.push(Scope::Item { local: item, label: label.clone() });
        let condition = Box::new(self.condition(filter, "a filter"));
        self.scopes.pop();
        self.next_local = item;
        Self::node(Op::Filter { list, item, condition }, Type::List, label, span)
    }

    fn instance(&mut self, name: &Name) -> Instance {
        const TYPES: [(&str, Instance); 15] = [
            ("Any", Instance::Any),
            ("boolean", Instance::Boolean),
            ("number", Instance::Number),
            ("string", Instance::Text),
            ("text", Instance::Text),
            ("version", Instance::Version),
            ("date", Instance::Date),
            ("time", Instance::Time),
            ("date and time", Instance::DateTime),
            ("days and time duration", Instance::Duration),
            ("duration", Instance::Duration),
            ("years and months duration", Instance::Months),
            ("list", Instance::List),
            ("context", Instance::Object),
            ("object", Instance::Object),
        ];
        if let Some((_, instance)) = TYPES.iter().find(|(word, _)| *word == name.text) {
            return *instance;
        }
        let help = did_you_mean(&name.text, TYPES.iter().map(|(word, _)| *word), || {
            format!("types are {}", TYPES.map(|(word, _)| word).join(", "))
        });
        self.error("unknown-type", format!("unknown type `{}`", name.text), &name.span, "", help);
        Instance::Any
    }

    /// Puts named arguments in their places.
    fn in_order(
        &mut self,
        function: &'static Function,
        arguments: &[Expr],
        names: &[Name],
        span: &Range<usize>,
    ) -> Option<Vec<Expr>> {
        if names.is_empty() {
            return Some(arguments.to_vec());
        }
        if names.len() != arguments.len() {
            let message = "either all arguments have names, or none".to_owned();
            self.error("wrong-arguments", message, span, "", format!("write {}", function.usage));
            return None;
        }
        let mut placed: Vec<Option<Expr>> = Vec::new();
        for (name, argument) in names.iter().zip(arguments) {
            // Constructors call their one argument `from`.
            let at = match name.text.as_str() {
                "from" if names.len() == 1 && function.least == 1 => Some(0),
                text => function.names.iter().position(|known| *known == text),
            };
            let Some(at) = at else {
                let help =
                    did_you_mean(&name.text, function.names.iter().copied(), || match function.names.is_empty() {
                        true => format!("its arguments have no names; write {}", function.usage),
                        false => format!("its arguments are {}", function.names.join(", ")),
                    });
                self.error(
                    "unknown-argument",
                    format!("`{}` has no argument `{}`", function.name, name.text),
                    &name.span,
                    "",
                    help,
                );
                return None;
            };
            if placed.len() <= at {
                placed.resize(at + 1, None);
            }
            placed[at] = Some(argument.clone());
        }
        let null = |_| Expr { kind: ExprKind::Null, span: span.clone() };
        Some(placed.into_iter().map(|argument| argument.unwrap_or_else(|| null(()))).collect())
    }

    fn call(&mut self, name: &Name, arguments: &[Expr], names: &[Name], span: &Range<usize>) -> Node {
        let Some(function) = functions::find(&name.text) else {
            let help = did_you_mean(&name.text, functions::names(), || match name.text.as_str() {
                "group" => "write `in group(\"id\")`".to_owned(),
                "function" => "functions cannot be defined here; write the expression itself".to_owned(),
                _ => format!("known functions are {}", functions::names().collect::<Vec<_>>().join(", ")),
            });
            self.error("unknown-function", format!("unknown function `{}`", name.text), &name.span, "", help);
            return Self::null(span);
        };
        let Some(arguments) = self.in_order(function, arguments, names, span) else { return Self::null(span) };
        let arguments = arguments.as_slice();
        let (least, most) = (function.least, function.most);
        if arguments.len() < least || arguments.len() > most {
            let wanted = match (least, most) {
                (0, 0) => "no arguments".to_owned(),
                (1, 1) => "one argument".to_owned(),
                (a, b) if a == b => format!("{a} arguments"),
                (a, usize::MAX) => format!("at least {a}"),
                (a, b) => format!("{a} to {b} arguments"),
            };
            let message = format!("`{}` takes {wanted}, not {}", function.name, arguments.len());
            self.error("wrong-arguments", message, span, "", format!("write {}", function.usage));
            return Self::null(span);
        }
        match function.name {
            "not" => {
                let inner = Box::new(self.condition(&arguments[0], "`not`"));
                Self::node(Op::Not(inner), Type::Boolean, None, span)
            }
            "present" => {
                let inner = self.boxed(&arguments[0]);
                if inner.label.is_none() {
                    self.error(
                        "wrong-arguments",
                        "`present` asks about a fact".into(),
                        &arguments[0].span,
                        "this is no fact",
                        "write present(os.version)",
                    );
                }
                let label = inner.label.clone();
                Self::node(Op::Present(inner), Type::Boolean, label, span)
            }
            "age" => {
                let mut inner = self.boxed(&arguments[0]);
                if let Op::Fact { exempt, .. } = &mut inner.op {
                    *exempt = true;
                }
                if !matches!(inner.ty, Type::DateTime | Type::Any | Type::Null) {
                    let message = format!("`age` takes a moment, and this is {}", inner.ty.as_str());
                    self.error(
                        "wrong-type",
                        message,
                        &arguments[0].span,
                        "",
                        "declare the fact as { type = \"instant\" } in facts.toml",
                    );
                }
                let label = inner.label.clone();
                Self::node(Op::Age(inner), Type::Duration, label, span)
            }
            "in group" => self.in_group(&arguments[0], span),
            "failing" => self.failing(&arguments[0], span),
            "in network" => self.in_network(arguments, span),
            "matches" => self.matches(arguments, span),
            "version" | "duration" | "date" | "time" | "date and time"
                if matches!(arguments, [Expr { kind: ExprKind::Text(_), .. }]) =>
            {
                self.constructor(function, &arguments[0], span)
            }
            _ => self.plain_call(function, arguments, span),
        }
    }

    fn plain_call(&mut self, function: &'static Function, arguments: &[Expr], span: &Range<usize>) -> Node {
        let arguments: Vec<Node> = arguments.iter().map(|argument| self.expr(argument)).collect();
        for (argument, wanted) in arguments
            .iter()
            .zip(function.wants.iter().chain(std::iter::repeat(function.wants.last().unwrap_or(&Type::Any))))
        {
            let fits = *wanted == Type::Any
                || matches!(argument.ty, Type::Any | Type::Null)
                || argument.ty == *wanted
                || (*wanted == Type::Text && argument.ty == Type::Version)
                // A single value is a list of one.
                || *wanted == Type::List;
            if !fits {
                let message =
                    format!("`{}` takes {} here, and this is {}", function.name, wanted.as_str(), argument.ty.as_str());
                let at = argument.span.clone();
                self.error("wrong-type", message, &at, "", format!("write {}", function.usage));
            }
        }
        let label = arguments.iter().find_map(|argument| argument.label.clone());
        Self::node(Op::Call(function, arguments), function.gives, label, span)
    }

    /// A constructor of a literal is worked out here, so that a bad one is found before anything runs.
    fn constructor(&mut self, function: &'static Function, argument: &Expr, span: &Range<usize>) -> Node {
        let ExprKind::Text(text) = &argument.kind else { return Self::null(span) };
        let made = match function.name {
            "version" if is_version(text) => {
                return Self::node(Op::Version(text.as_str().into()), Type::Version, None, span);
            }
            "duration" => parse_duration(text),
            "date" => parse_day(text).map(Value::Date),
            "time" => parse_time(text).map(Value::Time),
            "date and time" => parse_date_time(text)
                .or_else(|| parse_day(text).map(|day| DateTime::Local(day.to_datetime(jiff::civil::Time::midnight()))))
                .map(Value::DateTime),
            _ => None,
        };
        match made {
            Some(value) => Self::node(Op::Constant(value), type_of_value(&value), None, span),
            None => {
                let message = format!("`{text}` is no {}", function.name);
                self.error("bad-literal", message, &argument.span, "", format!("write {}", function.usage));
                Self::null(span)
            }
        }
    }

    fn in_group(&mut self, argument: &Expr, span: &Range<usize>) -> Node {
        let ExprKind::Text(id) = &argument.kind else {
            self.error(
                "wrong-arguments",
                "`in group` takes the id of a group".into(),
                &argument.span,
                "",
                "write in group(\"deck-crew\")",
            );
            return Self::null(span);
        };
        match self.vocabulary.groups.iter().position(|group| group.as_str() == id) {
            Some(index) => {
                self.groups.insert(index);
                Self::node(Op::InGroup(index), Type::Boolean, None, span)
            }
            None => {
                let help = did_you_mean(id, self.vocabulary.groups.iter().map(GroupId::as_str), || {
                    "define it in groups.toml".to_owned()
                });
                self.error("unknown-group", format!("unknown group `{id}`"), &argument.span, "", help);
                Self::null(span)
            }
        }
    }

    fn failing(&mut self, argument: &Expr, span: &Range<usize>) -> Node {
        if matches!(self.place, Place::Rule | Place::People) {
            let message =
                "findings follow from the rules, so neither a rule nor a group of people can ask for them".to_owned();
            self.error(
                "own-tail",
                message,
                span,
                "would chase its own tail",
                "use `failing` in groups of devices, filters and access rules",
            );
            return Self::null(span);
        }
        let ExprKind::Text(id) = &argument.kind else {
            self.error(
                "wrong-arguments",
                "`failing` takes the id of a rule".into(),
                &argument.span,
                "",
                "write failing(\"disk-encrypted\")",
            );
            return Self::null(span);
        };
        let below = |rule: &str| rule == id || rule.strip_prefix(id.as_str()).is_some_and(|rest| rest.starts_with('/'));
        let known = self.vocabulary.rules;
        if !known.iter().any(|rule| below(rule)) {
            let help = did_you_mean(id, known.iter().map(String::as_str), || {
                "see the rules with: fencepost list rules".to_owned()
            });
            self.error("unknown-rule", format!("unknown rule `{id}`"), &argument.span, "", help);
        }
        self.reads_standing = true;
        Self::node(Op::Failing(id.as_str().into()), Type::Boolean, None, span)
    }

    fn in_network(&mut self, arguments: &[Expr], span: &Range<usize>) -> Node {
        let address = self.boxed(&arguments[0]);
        let mut networks = Vec::new();
        for argument in &arguments[1..] {
            let network = match &argument.kind {
                ExprKind::Text(text) => Network::parse(text),
                _ => None,
            };
            match network {
                Some(network) => networks.push(network),
                None => {
                    let message = "this is no network".to_owned();
                    self.error(
                        "bad-literal",
                        message,
                        &argument.span,
                        "",
                        "write an address and how many bits count, as in \"10.4.0.0/16\"",
                    );
                }
            }
        }
        let label = address.label.clone();
        Self::node(Op::InNetwork(address, networks), Type::Boolean, label, span)
    }

    fn matches(&mut self, arguments: &[Expr], span: &Range<usize>) -> Node {
        let input = self.boxed(&arguments[0]);
        if !matches!(input.ty, Type::Text | Type::Version | Type::Any | Type::Null) {
            let message = format!("`matches` takes a text, and this is {}", input.ty.as_str());
            self.error("wrong-type", message, &arguments[0].span, "", "write matches(name, \"^tern-\")");
        }
        let ExprKind::Text(pattern) = &arguments[1].kind else {
            self.error(
                "wrong-arguments",
                "the pattern must be written out".into(),
                &arguments[1].span,
                "not a text in quotes",
                "write matches(name, \"^tern-\")",
            );
            return Self::null(span);
        };
        let flags = match arguments.get(2).map(|flags| &flags.kind) {
            None => "",
            Some(ExprKind::Text(flags)) => flags,
            Some(_) => {
                self.error(
                    "wrong-arguments",
                    "the flags must be written out".into(),
                    &arguments[2].span,
                    "",
                    "write matches(name, \"^TERN-\", \"i\")",
                );
                return Self::null(span);
            }
        };
        match functions::compile_pattern(pattern, flags) {
            Ok(regex) => {
                let label = input.label.clone();
                Self::node(Op::Matches(input, regex), Type::Boolean, label, span)
            }
            Err(why) => {
                self.error(
                    "bad-pattern",
                    format!("this pattern cannot be used: {why}"),
                    &arguments[1].span,
                    "",
                    "patterns are XPath regular expressions without back-references, as in \"^tern-[0-9]+$\"",
                );
                Self::null(span)
            }
        }
    }
}

fn type_of_value(value: &Value<'_>) -> Type {
    match value {
        Value::Unknown(_) => Type::Any,
        Value::Null => Type::Null,
        Value::Boolean(_) => Type::Boolean,
        Value::Number(_) => Type::Number,
        Value::Text(_) => Type::Text,
        Value::Version(_) => Type::Version,
        Value::Date(_) => Type::Date,
        Value::DateTime(_) => Type::DateTime,
        Value::Time(_) => Type::Time,
        Value::Duration(_) => Type::Duration,
        Value::Months(_) => Type::Months,
        Value::List(_) => Type::List,
        Value::Object(_) => Type::Object,
        Value::Range(_) => Type::Range,
    }
}
