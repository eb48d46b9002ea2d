//! What names mean: a quantifier's item, a field of an item, something around the condition, or a fact.

use std::ops::Range;
use std::sync::Arc;

use super::{Checker, NameScope, Place};
use crate::condition::compiled::{AmbientKey, Node, Op};
use crate::condition::functions;
use crate::condition::syntax::{Expr, ExprKind};
use crate::condition::types::Type;
use crate::diagnostic::{did_you_mean, nearest};
use crate::facts::dictionary::{Dictionary, FactType};

impl Checker<'_, '_> {
    /// Resolves `a.b.c`: a local, a field of a filter's item, or a fact.
    pub(super) fn path(&mut self, expr: &Expr) -> Node {
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
                NameScope::Named { name, local, label } if name == head => {
                    let base = Self::node(Op::Local(*local), Type::Any, label.clone(), &expr.span);
                    return if rest.is_empty() { base } else { self.field(base, &rest, &expr.span) };
                }
                // What is the device's own is reached from anywhere.
                NameScope::Item { .. } if head == "device" && !rest.is_empty() => {
                    return self.outer(&parts, &expr.span, true);
                }
                NameScope::Item { local, label } => {
                    let (local, label) = (*local, label.clone());
                    if head == "item" {
                        let base = Self::node(Op::Local(local), Type::Any, label, &expr.span);
                        return if rest.is_empty() { base } else { self.field(base, &rest, &expr.span) };
                    }
                    let path: Arc<str> = parts.join(".").into();
                    let field_label: Option<Arc<str>> = label.map(|label| format!("{label}.{path}").into());
                    let ty = field_label.as_deref().map_or(Type::Any, |label| self.declared(label));
                    self.check_item_name(&path, field_label.as_deref(), &expr.span);
                    // Reached only where the items are no objects, so it is not held against the dictionary.
                    let fact = Box::new(self.outer(&parts, &expr.span, false));
                    return Self::node(Op::ItemField { item: local, path, fact }, ty, field_label, &expr.span);
                }
                NameScope::Named { .. } => {}
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
            (Place::Access, "signin", "address") => {
                Self::node(Op::Ambient(AmbientKey::SignInAddress), Type::Text, Some("signin.address".into()), span)
            }
            (Place::Access, "signin", "platform") => {
                // Where a sign-in does not tell it, it is the device's.
                self.may_read.insert(self.vocabulary.layout.want("platform", self.vocabulary.dictionary));
                Self::node(Op::Ambient(AmbientKey::SignInPlatform), Type::Text, Some("signin.platform".into()), span)
            }
            (Place::Access, "signin", "time") => {
                Self::node(Op::Ambient(AmbientKey::SignInTime), Type::DateTime, Some("signin.time".into()), span)
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
                    (span, ""),
                    "known are signin.client, .address, .platform and .time, service.id, and the facts of the people list below person",
                );
                Self::null(span)
            }
            (Place::Rule | Place::Devices, head @ ("signin" | "service"), _) => {
                self.error(
                    "unknown-name",
                    format!("`{head}` has a meaning in access rules only"),
                    (span, ""),
                    "move this into `when`, `unless` or `needs` of an access rule",
                );
                Self::null(span)
            }
            (Place::Rule | Place::Devices, "person", rest) if !rest.is_empty() => {
                self.error(
                    "unknown-name",
                    "a rule cannot ask for facts of a person".into(),
                    (span, ""),
                    "make a group of people and use `held_by` in a group of devices",
                );
                Self::null(span)
            }
            (Place::Rule, "standing", "") => {
                self.error(
                    "own-tail",
                    "a rule cannot ask for the standing, which follows from the rules".into(),
                    (span, "would chase its own tail"),
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
            (Place::Rule | Place::Devices | Place::Access, "device", rest) if !rest.is_empty() => {
                self.fact(rest, span, hold)
            }
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
            // What the items of a list have is a list.
            _ if self.is_in_list(path) => Type::Any,
            _ => self.declared(path),
        };
        let fact = Self::node(Op::Fact { slot, exempt: false }, ty, Some(path.into()), span);
        match functions::find("date and time").filter(|_| path == "collected_at") {
            // Documents give it as a text.
            Some(function) => Self::node(Op::Call(function, vec![fact]), Type::DateTime, Some(path.into()), span),
            None => fact,
        }
    }

    /// Reports a bare name in a filter that no item is known to have, where the device has a fact of that name: an item that lacks a
    /// field does not borrow it.
    fn check_item_name(&mut self, path: &str, field: Option<&str>, span: &Range<usize>) {
        let dictionary = self.vocabulary.dictionary;
        let Some(field) = field else { return };
        let is_known = |path: &str| {
            dictionary.facts.contains_key(path) || dictionary.reported.as_ref().is_some_and(|all| all.contains(path))
        };
        let list = field.strip_suffix(path).unwrap_or(field);
        // What items have is known where some of it is declared, or devices were looked at.
        let items_are_known =
            dictionary.reported.is_some() || dictionary.facts.keys().any(|known| known.starts_with(list));
        if items_are_known && is_known(path) && !dictionary.knows(field) {
            self.error(
                "device-fact-in-filter",
                format!("items of `{}` have no `{path}`, and the device has", list.trim_end_matches('.')),
                (span, "an item does not borrow the device's fact"),
                format!("write device.{path} for the fact of the device"),
            );
        }
    }

    /// Returns whether a path lies in a fact that is declared as a list.
    fn is_in_list(&self, path: &str) -> bool {
        let above = path.match_indices('.').map(|(at, _)| &path[..at]);
        above.into_iter().any(|above| self.vocabulary.dictionary.type_of(above) == Some(FactType::List))
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
            None => dictionary.declares(path) || nearest(path, dictionary.facts.keys().map(String::as_str)).is_none(),
        };
        if !known {
            let help = did_you_mean(path, dictionary.paths(), || {
                "see the names that devices report with `fencepost list facts`".to_owned()
            });
            self.warn(
                "unknown-fact",
                format!("unknown fact `{path}`"),
                (span, "no device reports a fact of this name"),
                help,
            );
        }
    }

    pub(super) fn declared(&self, path: &str) -> Type {
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
            self.error("no-fields", message, (span, ""), help);
        }
        Self::node(Op::Field { base: Box::new(base), path: path.into() }, ty, label, span)
    }
}
