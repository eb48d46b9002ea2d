//! Writes a syntax tree as text again, and as plain English.
//!
//! What [`text`] writes is read back to the same tree, which a property test holds it to.

use std::fmt::Write as _;

use super::compiled::Condition;
use super::syntax::{ArithmeticOp, CompareOp, Expr, ExprKind, QuantifierKind, Test};

/// How tightly an operator binds; what binds less tightly stands in brackets.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Precedence {
    Whole,
    And,
    Comparison,
    Sum,
    Product,
    Power,
    Negation,
    Path,
}

/// Returns the text of a tree.
pub(super) fn text(expr: &Expr) -> String {
    let mut out = String::new();
    write(expr, Precedence::Whole, &mut out);
    out
}

fn precedence(expr: &Expr) -> Precedence {
    match &expr.kind {
        ExprKind::Or(_) | ExprKind::If { .. } | ExprKind::Quantified { .. } | ExprKind::For { .. } => Precedence::Whole,
        ExprKind::And(_) => Precedence::And,
        ExprKind::Compare(..) | ExprKind::Between { .. } | ExprKind::In(..) | ExprKind::InstanceOf(..) => {
            Precedence::Comparison
        }
        ExprKind::Arithmetic(op, ..) => arithmetic_precedence(*op),
        ExprKind::Negate(_) => Precedence::Negation,
        _ => Precedence::Path,
    }
}

fn arithmetic_precedence(op: ArithmeticOp) -> Precedence {
    match op {
        ArithmeticOp::Add | ArithmeticOp::Subtract => Precedence::Sum,
        ArithmeticOp::Multiply | ArithmeticOp::Divide => Precedence::Product,
        ArithmeticOp::Power => Precedence::Power,
    }
}

fn tighter(precedence: Precedence) -> Precedence {
    match precedence {
        Precedence::Whole => Precedence::And,
        Precedence::And => Precedence::Comparison,
        Precedence::Comparison => Precedence::Sum,
        Precedence::Sum => Precedence::Product,
        Precedence::Product => Precedence::Power,
        Precedence::Power => Precedence::Negation,
        Precedence::Negation | Precedence::Path => Precedence::Path,
    }
}

fn name(text: &str) -> String {
    let plain = text
        .chars()
        .enumerate()
        .all(|(at, c)| c == '_' || if at == 0 { c.is_alphabetic() } else { c.is_alphanumeric() });
    if plain && !text.is_empty() && !super::parser::is_reserved(text) { text.to_owned() } else { format!("`{text}`") }
}

fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

fn write(expr: &Expr, least: Precedence, out: &mut String) {
    let own = precedence(expr);
    if own < least {
        out.push('(');
        write(expr, Precedence::Whole, out);
        out.push(')');
        return;
    }
    let many = |parts: &[Expr], word: &str, least: Precedence, out: &mut String| {
        for (at, part) in parts.iter().enumerate() {
            if at > 0 {
                out.push_str(word);
            }
            write(part, least, out);
        }
    };
    match &expr.kind {
        ExprKind::Mistake | ExprKind::Null => out.push_str("null"),
        ExprKind::Boolean(truth) => out.push_str(if *truth { "true" } else { "false" }),
        ExprKind::Number(number) => {
            let _ = write!(out, "{number}");
        }
        ExprKind::Text(text) => out.push_str(&quoted(text)),
        ExprKind::At(text) => {
            let _ = write!(out, "@\"{text}\"");
        }
        ExprKind::Name(text) => out.push_str(&name(text)),
        ExprKind::Path(base, field) => {
            write(base, Precedence::Path, out);
            let _ = write!(out, ".{}", name(&field.text));
        }
        ExprKind::List(items) => {
            out.push('[');
            many(items, ", ", Precedence::Whole, out);
            out.push(']');
        }
        ExprKind::Range { low, low_included, high, high_included } => {
            out.push(if *low_included { '[' } else { '(' });
            write(low, Precedence::Sum, out);
            out.push_str("..");
            write(high, Precedence::Sum, out);
            out.push(if *high_included { ']' } else { ')' });
        }
        ExprKind::Negate(inner) => {
            out.push('-');
            write(inner, Precedence::Negation, out);
        }
        ExprKind::Arithmetic(op, left, right) => {
            write(left, own, out);
            out.push_str(match op {
                ArithmeticOp::Add => " + ",
                ArithmeticOp::Subtract => " - ",
                ArithmeticOp::Multiply => " * ",
                ArithmeticOp::Divide => " / ",
                ArithmeticOp::Power => " ** ",
            });
            write(right, tighter(own), out);
        }
        ExprKind::And(parts) => many(parts, " and ", Precedence::Comparison, out),
        ExprKind::Or(parts) => many(parts, " or ", Precedence::And, out),
        ExprKind::Compare(op, left, right) => {
            write(left, Precedence::Sum, out);
            let _ = write!(out, " {} ", op.as_str());
            write(right, Precedence::Sum, out);
        }
        ExprKind::Between { value, low, high } => {
            write(value, Precedence::Sum, out);
            out.push_str(" between ");
            write(low, Precedence::Sum, out);
            out.push_str(" and ");
            write(high, Precedence::Sum, out);
        }
        ExprKind::In(value, tests) => {
            write(value, Precedence::Sum, out);
            out.push_str(" in (");
            for (at, test) in tests.iter().enumerate() {
                if at > 0 {
                    out.push_str(", ");
                }
                match test {
                    Test::Value(value) => write(value, Precedence::Sum, out),
                    Test::Compare(op, bound) => {
                        let _ = write!(out, "{} ", op.as_str());
                        write(bound, Precedence::Sum, out);
                    }
                }
            }
            out.push(')');
        }
        ExprKind::If { condition, then, otherwise } => {
            out.push_str("if ");
            write(condition, Precedence::Whole, out);
            out.push_str(" then ");
            write(then, Precedence::Whole, out);
            out.push_str(" else ");
            write(otherwise, Precedence::Whole, out);
        }
        ExprKind::Quantified { kind, iterators, body } => {
            out.push_str(match kind {
                QuantifierKind::Every => "every ",
                QuantifierKind::Some => "some ",
            });
            for (at, (item, list)) in iterators.iter().enumerate() {
                let _ = write!(out, "{}{} in ", if at > 0 { ", " } else { "" }, name(&item.text));
                write(list, Precedence::Sum, out);
            }
            out.push_str(" satisfies ");
            write(body, Precedence::Whole, out);
        }
        ExprKind::For { iterators, body } => {
            out.push_str("for ");
            for (at, (item, list)) in iterators.iter().enumerate() {
                let _ = write!(out, "{}{} in ", if at > 0 { ", " } else { "" }, name(&item.text));
                write(list, Precedence::Sum, out);
            }
            out.push_str(" return ");
            write(body, Precedence::Whole, out);
        }
        ExprKind::InstanceOf(value, wanted) => {
            write(value, Precedence::Sum, out);
            let _ = write!(out, " instance of {}", wanted.text);
        }
        ExprKind::Filter(list, filter) => {
            write(list, Precedence::Path, out);
            out.push('[');
            write(filter, Precedence::Whole, out);
            out.push(']');
        }
        ExprKind::Call { name, arguments, names } => {
            let _ = write!(out, "{}(", name.text);
            for (at, argument) in arguments.iter().enumerate() {
                if at > 0 {
                    out.push_str(", ");
                }
                if let Some(name) = names.get(at) {
                    let _ = write!(out, "{}: ", name.text);
                }
                write(argument, Precedence::Whole, out);
            }
            out.push(')');
        }
    }
}

impl Condition {
    /// Returns the condition in plain English.
    pub fn in_english(&self) -> String {
        super::parser::parse(self.text()).map_or_else(|_| self.as_str().to_owned(), |tree| english(&tree))
    }
}

/// Returns a tree in plain English: "every writable disk is encrypted".
pub(super) fn english(expr: &Expr) -> String {
    said(expr, false)
}

fn said(expr: &Expr, denied: bool) -> String {
    match &expr.kind {
        ExprKind::And(parts) | ExprKind::Or(parts) => {
            // Under a negation "and" becomes "or", and the other way round.
            let and = matches!(expr.kind, ExprKind::And(_)) != denied;
            let parts: Vec<String> = parts.iter().map(|part| said(part, denied)).collect();
            parts.join(if and { ", and " } else { ", or " })
        }
        ExprKind::Compare(op, left, right) => {
            let op = if denied { op.negated() } else { *op };
            if let (Some(length), Some(moment)) = (length_of(right), age_of(left)) {
                return match op {
                    CompareOp::Less | CompareOp::LessEqual => format!("{moment} is at most {length} ago"),
                    CompareOp::Greater | CompareOp::GreaterEqual => format!("{moment} is more than {length} ago"),
                    CompareOp::Equal => format!("{moment} is exactly {length} ago"),
                    CompareOp::NotEqual => format!("{moment} is not exactly {length} ago"),
                };
            }
            let words = match op {
                CompareOp::Equal => "is",
                CompareOp::NotEqual => "is not",
                CompareOp::Less => "is less than",
                CompareOp::LessEqual => "is at most",
                CompareOp::Greater => "is more than",
                CompareOp::GreaterEqual => "is at least",
            };
            format!("{} {words} {}", thing(left), thing(right))
        }
        ExprKind::Between { value, low, high } => {
            let not = if denied { " not" } else { "" };
            format!("{} is{not} between {} and {}", thing(value), thing(low), thing(high))
        }
        ExprKind::In(value, tests) => {
            let tests: Vec<String> = tests
                .iter()
                .map(|test| match test {
                    Test::Value(value) => thing(value),
                    Test::Compare(op, bound) => format!("{} {}", op.as_str(), thing(bound)),
                })
                .collect();
            let not = if denied { "none of" } else { "one of" };
            match tests.as_slice() {
                [one] => format!("{} is {}in {one}", thing(value), if denied { "not " } else { "" }),
                many => format!("{} is {not} {}", thing(value), many.join(", ")),
            }
        }
        ExprKind::Quantified { kind, iterators, body } => {
            let every = (*kind == QuantifierKind::Every) != denied;
            let items: Vec<String> = iterators.iter().map(|(_, list)| item_of(list)).collect();
            let mut body = said(body, denied);
            for (name, _) in iterators {
                body = body.replace(&format!("{}.", name.text), "its ");
            }
            let (word, items) = (if every { "every" } else { "some" }, items.join(" with every "));
            let field = |ending: &str| {
                body.strip_prefix("its ")
                    .and_then(|rest| rest.strip_suffix(ending))
                    .filter(|field| !field.contains(' '))
            };
            match (field(" is so"), field(" is not so")) {
                (Some(field), _) => format!("{word} {items} is {field}"),
                (None, Some(field)) => format!("{word} {items} is not {field}"),
                (None, None) => format!("for {word} {items}, {body}"),
            }
        }
        ExprKind::Call { name, arguments, .. } if name.text == "not" => said(&arguments[0], !denied),
        ExprKind::Call { name, arguments, .. } => call(&name.text, arguments, denied),
        ExprKind::If { condition, then, otherwise } => {
            format!("where {}: {}; otherwise: {}", said(condition, false), said(then, denied), said(otherwise, denied))
        }
        ExprKind::Boolean(truth) => if *truth == denied { "never" } else { "always" }.to_owned(),
        ExprKind::InstanceOf(value, wanted) => {
            format!("{} is {}a {}", thing(value), if denied { "not " } else { "" }, wanted.text)
        }
        _ => format!("{} is {}so", thing(expr), if denied { "not " } else { "" }),
    }
}

fn call(name: &str, arguments: &[Expr], denied: bool) -> String {
    let argument = |at: usize| arguments.get(at).map(thing).unwrap_or_default();
    let (does, does_not) = match name {
        "present" => ("is reported", "is not reported"),
        "contains" => ("contains", "does not contain"),
        "starts with" => ("starts with", "does not start with"),
        "ends with" => ("ends with", "does not end with"),
        "matches" => ("matches", "does not match"),
        "list contains" => ("contains", "does not contain"),
        "in network" => ("lies in the network", "does not lie in the network"),
        "in group" => ("the device is in the group", "the device is not in the group"),
        "failing" => ("the device fails the rule", "the device does not fail the rule"),
        _ => ("", ""),
    };
    let verb = if denied { does_not } else { does };
    match name {
        "present" => format!("{} {verb}", argument(0)),
        "in group" | "failing" => format!("{verb} {}", argument(0)),
        _ if does.is_empty() => format!(
            "{name}({}) is {}so",
            arguments.iter().map(thing).collect::<Vec<_>>().join(", "),
            if denied { "not " } else { "" }
        ),
        _ => {
            let rest: Vec<String> = arguments[1..].iter().map(thing).collect();
            format!("{} {verb} {}", argument(0), rest.join(" or "))
        }
    }
}

/// A value as a noun.
fn thing(expr: &Expr) -> String {
    match &expr.kind {
        ExprKind::Call { name, arguments, .. } => match (name.text.as_str(), arguments.as_slice()) {
            ("count", [Expr { kind: ExprKind::Filter(list, filter), .. }]) => {
                format!("the number of {} of which {}", thing(list), said(filter, false))
            }
            ("count", [list]) => format!("the number of {}", thing(list)),
            ("version" | "date" | "duration" | "time" | "date and time", [Expr { kind: ExprKind::Text(text), .. }]) => {
                text.clone()
            }
            ("age", [moment]) => format!("the age of {}", thing(moment)),
            ("now", []) => "now".to_owned(),
            ("today", []) => "today".to_owned(),
            _ => text(expr),
        },
        ExprKind::At(text) => text.clone(),
        ExprKind::Filter(list, filter) => format!("{} of which {}", thing(list), said(filter, false)),
        _ => text(expr),
    }
}

/// A list's items in the singular, what chooses them before them: `writable disk`.
fn item_of(list: &Expr) -> String {
    let singular = |plural: &str| match plural.rsplit('.').next().unwrap_or(plural) {
        word if word.ends_with("sses") => word[..word.len() - 2].to_owned(),
        word if word.ends_with("ies") => format!("{}y", &word[..word.len() - 3]),
        word if word.ends_with('s') && !word.ends_with("ss") => word[..word.len() - 1].to_owned(),
        word => format!("item of {word}"),
    };
    match &list.kind {
        ExprKind::Filter(inner, filter) => match &filter.kind {
            ExprKind::Name(adjective) => format!("{adjective} {}", item_of(inner)),
            _ => format!("{} of which {}", item_of(inner), said(filter, false)),
        },
        ExprKind::Name(_) | ExprKind::Path(..) => singular(&text(list)),
        _ => format!("item of {}", text(list)),
    }
}

fn age_of(expr: &Expr) -> Option<String> {
    match &expr.kind {
        ExprKind::Call { name, arguments, .. } if name.text == "age" => arguments.first().map(thing),
        _ => None,
    }
}

fn length_of(expr: &Expr) -> Option<String> {
    let text = match &expr.kind {
        ExprKind::At(text) => text,
        ExprKind::Call { name, arguments, .. } if name.text == "duration" => match arguments.as_slice() {
            [Expr { kind: ExprKind::Text(text), .. }] => text,
            _ => return None,
        },
        _ => return None,
    };
    match crate::facts::temporal::parse_duration(text)? {
        value @ crate::facts::value::Value::Duration(_) => Some(value.show()),
        _ => Some(text.clone()),
    }
}
