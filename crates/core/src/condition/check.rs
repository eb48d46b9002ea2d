//! Resolves names, finds out types, and turns a syntax tree into a compiled condition. Every mistake of a
//! condition is reported, not only the first.

mod calls;
mod names;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use super::bounds::Bounds;
use super::compiled::{Condition, Instance, Node, NodeTest, Op};
use super::evidence_summary::evidence_summary_of;
use super::fast_predicate::FastPredicate;
use super::operate::arithmetic;
use super::parser;
use super::syntax::{ArithmeticOp, CompareOp, Expr, ExprKind, Name, Test};
use crate::condition::types::Type;
use crate::diagnostic::{Diagnostic, Text, did_you_mean};
use crate::facts::dictionary::Dictionary;
use crate::facts::layout::{Layout, SlotId};
use crate::facts::temporal::parse_at_literal;
use crate::facts::value::Value;
use crate::facts::version::is_version;
use crate::id::GroupId;

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
        compiled.warn_of_standings(mistakes);
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
            evidence_summary: evidence_summary_of(&root),
            root,
            text: text.clone(),
            slots: slots.into_iter().collect(),
            may_read: may_read.into_iter().collect(),
            groups: groups.into_iter().collect(),
            reads_standing,
        })
    }
}

enum NameScope {
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
    scopes: Vec<NameScope>,
    next_local: usize,
    slots: BTreeSet<SlotId>,
    may_read: BTreeSet<SlotId>,
    groups: BTreeSet<usize>,
    reads_standing: bool,
}

impl Checker<'_, '_> {
    /// Adds a mistake, at a span with what is said of it.
    fn error(
        &mut self,
        code: &'static str,
        message: String,
        (span, label): (&Range<usize>, &str),
        help: impl Into<String>,
    ) {
        self.failed = true;
        self.mistakes.push(Diagnostic::error(code, message, self.text.span(span.clone())).label(label).help(help));
    }

    fn warn(
        &mut self,
        code: &'static str,
        message: String,
        (span, label): (&Range<usize>, &str),
        help: impl Into<String>,
    ) {
        self.mistakes.push(Diagnostic::warning(code, message, self.text.span(span.clone())).label(label).help(help));
    }

    fn node(op: Op, ty: Type, label: Option<Arc<str>>, span: &Range<usize>) -> Node {
        let fast_predicate = FastPredicate::of(&op).map(Box::new);
        Node { op, ty, label, span: span.clone(), fast_predicate }
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
                    self.error("wrong-type", message, (span, ""), "a minus goes before numbers and durations");
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
                    self.scopes.push(NameScope::Named { name: name.text.clone(), local: self.next_local, label });
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
                    self.scopes.push(NameScope::Named { name: name.text.clone(), local: self.next_local, label });
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
            self.error("not-a-condition", message, (&expr.span, "must be true or false"), "compare it with something");
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
            self.warn("constant", message, (span, "never true"), "mend one of the numbers, or write `or`");
        }
    }

    fn list_of(&mut self, expr: &Expr) -> Node {
        let node = self.expr(expr);
        if !matches!(node.ty, Type::List | Type::Any | Type::Null | Type::Object) {
            let message = format!("this is {}, not a list", node.ty.as_str());
            self.error(
                "not-a-list",
                message,
                (&expr.span, "a list was expected"),
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
                    (span, ""),
                    "write @\"2027-03-04\", @\"2027-03-04T10:00:00Z\" or @\"P3D\"",
                );
                Self::null(span)
            }
        }
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
            (Subtract, Type::Date | Type::DateTime, Type::Date | Type::DateTime) => Some(Type::Duration),
            (Divide, Type::Months, Type::Number) => Some(Type::Months),
            (Divide, Type::Months, Type::Months) => Some(Type::Number),
            (Multiply | Divide, Type::Duration, Type::Number) | (Multiply, Type::Number, Type::Duration) => {
                Some(Type::Duration)
            }
            (Divide, Type::Duration, Type::Duration) => Some(Type::Number),
            (Add | Subtract | Multiply | Divide | Power, _, _) => None,
        };
        if ty.is_none() {
            let message = format!("cannot compute with {} and {}", left.ty.as_str(), right.ty.as_str());
            self.error(
                "wrong-type",
                message,
                (span, ""),
                "numbers go with numbers, dates and durations with durations",
            );
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
            self.error("bad-literal", message, (&span, ""), "a version starts with a digit, as in \"12.0.1\"");
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
            self.warn("version-as-text", message, (&span, "looks like a version"), help);
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
                (Type::Date, Type::DateTime) | (Type::DateTime, Type::Date) => {
                    "compare a day with today(), or say which moment of it: date and time(\"2027-03-04T00:00:00Z\")"
                }
                _ => "compare things of one type",
            };
            self.error("never-equal", message, (span, ""), help);
        } else if !equality && matches!(a, Type::Boolean | Type::List | Type::Object | Type::Null | Type::Range) {
            let message = format!("{} has no order", a.as_str());
            self.error("no-order", message, (span, ""), "use `=` or `!=`");
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
        if self.is_number(filter, label.as_deref()) {
            let index = self.boxed(filter);
            return Self::node(Op::Index { list, index }, Type::Any, label, span);
        }
        let item = self.next_local;
        self.next_local += 1;
        self.scopes.push(NameScope::Item { local: item, label: label.clone() });
        let condition = Box::new(self.condition(filter, "a filter"));
        self.scopes.pop();
        self.next_local = item;
        Self::node(Op::Filter { list, item, condition }, Type::List, label, span)
    }

    /// Returns whether what stands in brackets behind a list is a number, and so picks an item: a literal, arithmetic, a function that
    /// gives a number, or a fact that is declared as one and that items do not have.
    fn is_number(&self, expr: &Expr, list: Option<&str>) -> bool {
        match &expr.kind {
            ExprKind::Number(_) | ExprKind::Negate(_) | ExprKind::Arithmetic(..) => true,
            ExprKind::Call { name, .. } => super::functions::gives_number(&name.text),
            ExprKind::Name(_) | ExprKind::Path(..) => {
                let Some(path) = dotted(expr) else { return false };
                let path = path.strip_prefix("device.").unwrap_or(&path);
                let of_item = list.is_some_and(|list| self.declared(&format!("{list}.{path}")) != Type::Any);
                !of_item && self.declared(path) == Type::Number
            }
            _ => false,
        }
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
        self.error("unknown-type", format!("unknown type `{}`", name.text), (&name.span, ""), help);
        Instance::Any
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

/// Returns a name, or a path of names, with dots between them; none for anything else.
fn dotted(expr: &Expr) -> Option<String> {
    match &expr.kind {
        ExprKind::Name(name) => Some(name.clone()),
        ExprKind::Path(base, name) => Some(format!("{}.{}", dotted(base)?, name.text)),
        _ => None,
    }
}
