//! Calls of functions, and what is written like one: groups, rules that fail, networks and patterns.

use std::ops::Range;

use super::{Checker, Place, type_of_value};
use crate::condition::compiled::{Network, Node, Op};
use crate::condition::functions::{self, Function};
use crate::condition::syntax::{Expr, ExprKind, Name};
use crate::condition::types::Type;
use crate::diagnostic::did_you_mean;
use crate::facts::temporal::{parse_date_time, parse_day, parse_duration, parse_time};
use crate::facts::value::{DateTime, Value};
use crate::facts::version::is_version;
use crate::id::GroupId;

impl Checker<'_, '_> {
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
            self.error("wrong-arguments", message, (span, ""), format!("write {}", function.usage));
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
                    (&name.span, ""),
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

    pub(super) fn call(&mut self, name: &Name, arguments: &[Expr], names: &[Name], span: &Range<usize>) -> Node {
        let Some(function) = functions::find(&name.text) else {
            let help = did_you_mean(&name.text, functions::names(), || match name.text.as_str() {
                "group" => "write `in group(\"id\")`".to_owned(),
                "function" => "functions cannot be defined here; write the expression itself".to_owned(),
                _ => format!("known functions are {}", functions::names().collect::<Vec<_>>().join(", ")),
            });
            self.error("unknown-function", format!("unknown function `{}`", name.text), (&name.span, ""), help);
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
            self.error("wrong-arguments", message, (span, ""), format!("write {}", function.usage));
            return Self::null(span);
        }
        // A year and a month are no day, nor an hour and a minute a time: that says the standard.
        if matches!(function.name, "date" | "time") && arguments.len() == 2 {
            let message = format!("`{}` takes one text, or each of its parts", function.name);
            self.error("wrong-arguments", message, (span, ""), format!("write {}", function.usage));
            return Self::null(span);
        }
        match function.name {
            "not" => {
                let inner = Box::new(self.condition(&arguments[0], "`not`"));
                Self::node(Op::Not(inner), Type::Boolean, None, span)
            }
            "present" => {
                // Whether something is there does not hang on how old it is.
                let mut inner = self.boxed(&arguments[0]);
                inner.read_at_any_age();
                if inner.label.is_none() {
                    self.error(
                        "wrong-arguments",
                        "`present` asks about a fact".into(),
                        (&arguments[0].span, "this is no fact"),
                        "write present(os.version)",
                    );
                }
                let label = inner.label.clone();
                Self::node(Op::Present(inner), Type::Boolean, label, span)
            }
            "age" => {
                let mut inner = self.boxed(&arguments[0]);
                inner.read_at_any_age();
                if !matches!(inner.ty, Type::DateTime | Type::Any | Type::Null) {
                    let message = format!("`age` takes a moment, and this is {}", inner.ty.as_str());
                    self.error(
                        "wrong-type",
                        message,
                        (&arguments[0].span, ""),
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
                self.error("wrong-type", message, (&at, ""), format!("write {}", function.usage));
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
                self.error("bad-literal", message, (&argument.span, ""), format!("write {}", function.usage));
                Self::null(span)
            }
        }
    }

    fn in_group(&mut self, argument: &Expr, span: &Range<usize>) -> Node {
        let ExprKind::Text(id) = &argument.kind else {
            self.error(
                "wrong-arguments",
                "`in group` takes the id of a group".into(),
                (&argument.span, ""),
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
                self.error("unknown-group", format!("unknown group `{id}`"), (&argument.span, ""), help);
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
                (span, "would chase its own tail"),
                "use `failing` in groups of devices, filters and access rules",
            );
            return Self::null(span);
        }
        let ExprKind::Text(id) = &argument.kind else {
            self.error(
                "wrong-arguments",
                "`failing` takes the id of a rule".into(),
                (&argument.span, ""),
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
            self.error("unknown-rule", format!("unknown rule `{id}`"), (&argument.span, ""), help);
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
                        (&argument.span, ""),
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
            self.error("wrong-type", message, (&arguments[0].span, ""), "write matches(name, \"^tern-\")");
        }
        let ExprKind::Text(pattern) = &arguments[1].kind else {
            self.error(
                "wrong-arguments",
                "the pattern must be written out".into(),
                (&arguments[1].span, "not a text in quotes"),
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
                    (&arguments[2].span, ""),
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
                    (&arguments[1].span, ""),
                    "patterns are XPath regular expressions without back-references, as in \"^tern-[0-9]+$\"",
                );
                Self::null(span)
            }
        }
    }
}
