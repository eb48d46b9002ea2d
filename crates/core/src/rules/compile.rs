//! Compiles rules as written: their scopes, conditions and exceptions, and every mistake in them.

use std::collections::HashMap;

use super::baseline::{OverrideSource, ScopeSource, Settings};
use super::rule::{ExceptSource, Excepted, Exception, FixWhen, Override, Rule, RuleSeverity, RuleSource, Scope, Stage};
use crate::condition::condition_words;
use crate::condition::{Condition, Place, Vocabulary};
use crate::diagnostic::{Diagnostic, Named, Span, Text, nearest};
use crate::facts::fingerprint::Fingerprint;
use crate::facts::period::Period;
use crate::fleet::group::{Groups, unknown_group};
use crate::id::{DeviceId, RuleId};

/// Returns the ids that rules will have, checks with their slash.
pub(crate) fn rule_ids(sources: &[RuleSource]) -> Vec<String> {
    sources
        .iter()
        .flat_map(|source| {
            let id = &source.id.text;
            let checks = source.checks.iter().map(move |(name, _)| format!("{id}/{}", name.text));
            let whole = source.checks.is_empty().then(|| id.clone());
            whole.into_iter().chain(checks)
        })
        .collect()
}

pub(crate) fn compile_rules(
    sources: &[RuleSource],
    groups: &Groups,
    vocabulary: &mut Vocabulary<'_>,
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<Rule> {
    let mut seen: HashMap<&str, Option<Span>> = HashMap::new();
    for source in sources {
        if let Some(first) = seen.insert(&source.id.text, source.id.span.clone()) {
            mistakes.push(
                Diagnostic::error(
                    "doubled-id",
                    format!("two rules are called `{}`", source.id.text),
                    source.id.span.clone(),
                )
                .label("the second")
                .note(first, "the first")
                .help("give one of them another id; findings follow an id, so it must be one rule's alone"),
            );
        }
    }
    for source in sources {
        for was in &source.was {
            if seen.contains_key(was.text.as_str()) {
                mistakes.push(
                    Diagnostic::error(
                        "was-in-use",
                        format!("`{}` is a rule's id today, so it is no earlier one", was.text),
                        was.span.clone(),
                    )
                    .help("take it out of `was`, or rename the rule that has it"),
                );
            }
        }
    }
    sources.iter().flat_map(|source| compile_rule(source, groups, vocabulary, mistakes)).collect()
}

/// A condition of a rule that becomes a rule of its own.
struct RequiredCondition<'s> {
    id: RuleId,
    /// The name of the check; none of a rule without checks.
    check: Option<&'s str>,
    text: &'s Text,
    place: Option<Span>,
}

fn compile_rule(
    source: &RuleSource,
    groups: &Groups,
    vocabulary: &mut Vocabulary<'_>,
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<Rule> {
    check_heading(source, mistakes);
    let parts = ScopeParts { groups: &source.groups, covers: source.covers.as_ref(), except: &source.except };
    let scope = compile_scope(&parts, groups, vocabulary, mistakes);
    let overrides: Vec<Override> = source
        .overridden_by
        .iter()
        .map(|extending| {
            // Its mistakes are told where it is compiled itself.
            let ScopeSource { groups: named, covers, except } = &extending.scope;
            let parts = ScopeParts { groups: named, covers: covers.as_ref(), except };
            let scope = compile_scope(&parts, groups, vocabulary, &mut Vec::new());
            let OverrideSource { baseline, stage, enforced_from, .. } = extending.clone();
            Override { baseline, scope, stage, enforced_from }
        })
        .collect();
    let fix_when: Vec<FixWhen> = source
        .fix_when
        .iter()
        .filter_map(|fix| {
            let when = Condition::compile(&fix.when, Place::Rule, vocabulary, mistakes)?;
            Some(FixWhen { when, say: fix.say.clone(), awaiting: fix.awaiting })
        })
        .collect();
    let Settings { topic, severity, stage, enforced_from, grace, because, fix, controls, response } = &source.settings;
    let mut made = Vec::new();
    for RequiredCondition { id, check, text, place } in requirements(source, mistakes) {
        let Some(require) = Condition::compile(text, Place::Rule, vocabulary, mistakes) else { continue };
        let asked = fix_when.iter().map(|fix| &fix.when).chain([&require]).flat_map(Condition::groups).copied();
        if let Some(tail) = scope.asks().chain(asked).find(|group| groups.all[*group].reads_standing) {
            mistakes.push(
                Diagnostic::error(
                    "own-tail",
                    format!("rule `{id}` reaches the standing through group `{}`", groups.all[tail].id),
                    place.clone(),
                )
                .label("would chase its own tail")
                .help("use a group that does not ask for `standing`"),
            );
        }
        made.push(Rule {
            title: title_of(source, &id, check),
            topic: topic.clone(),
            severity: severity.unwrap_or(RuleSeverity::Medium),
            stage: stage.unwrap_or(Stage::Enforced),
            enforced_from: *enforced_from,
            grace: grace.unwrap_or(Period::ZERO),
            because: because.clone(),
            fix: fix.clone(),
            fix_when: fix_when.clone(),
            controls: controls.clone(),
            response: response.clone(),
            was: earlier_ids(source, check),
            requirement_fingerprint: Fingerprint::of(&condition_words(require.as_str())),
            fingerprint: fingerprint(source, &require, condition_words),
            text_fingerprint: fingerprint(source, &require, |text: &str| text.trim().to_owned()),
            place,
            baseline: source.baseline.clone(),
            scope: scope.clone(),
            overrides: overrides.clone(),
            require,
            id,
        });
    }
    made
}

/// Checks what a rule says besides its conditions.
fn check_heading(source: &RuleSource, mistakes: &mut Vec<Diagnostic>) {
    let id = &source.id;
    if source.covers.is_none() && source.groups.is_empty() {
        mistakes.push(
            Diagnostic::error("scope-for-nobody", format!("rule `{}` covers no device", id.text), id.span.clone())
                .help("say which with `covers` or `groups`; groups = [\"every-device\"] covers all"),
        );
    }
    let reserved = [(crate::id::SILENCE, "a silent device"), (crate::id::UNCOVERED, "a device that no rule covers")];
    if let Some((word, whose)) = reserved.into_iter().find(|(word, _)| *word == id.text) {
        mistakes.push(
            Diagnostic::error("reserved-id", format!("a rule cannot be called `{word}`"), id.span.clone())
                .help(format!("that is the name of the finding of {whose}")),
        );
    }
    if let (Some(_), Some(Stage::Trial | Stage::Draft)) = (source.settings.enforced_from, source.settings.stage) {
        mistakes.push(
            Diagnostic::error(
                "not-enforced-from",
                format!("rule `{}` is not enforced, and says from when on it is", id.text),
                id.span.clone(),
            )
            .help("write stage = \"enforced\": it is on trial until then"),
        );
    }
}

/// Returns the condition of a rule, or those of its checks.
fn requirements<'s>(source: &'s RuleSource, mistakes: &mut Vec<Diagnostic>) -> Vec<RequiredCondition<'s>> {
    let id = &source.id;
    match (&source.require, source.checks.is_empty()) {
        (Some(text), true) => {
            vec![RequiredCondition { id: RuleId::new(id.text.as_str()), check: None, text, place: id.span.clone() }]
        }
        (None, false) => {
            let requirement = |(name, text): &'s (Named, Text)| RequiredCondition {
                id: RuleId::new(format!("{}/{}", id.text, name.text)),
                check: Some(&name.text),
                text,
                place: name.span.clone(),
            };
            source.checks.iter().map(requirement).collect()
        }
        (Some(_), false) => {
            mistakes.push(
                Diagnostic::error(
                    "require-and-checks",
                    format!("rule `{}` has both `require` and `checks`", id.text),
                    id.span.clone(),
                )
                .help("move the condition of `require` into [rule.checks] under a name of its own"),
            );
            Vec::new()
        }
        (None, true) => {
            mistakes.push(
                Diagnostic::error("no-requirement", format!("rule `{}` asks for nothing", id.text), id.span.clone())
                    .help("write the condition that covered devices must meet as `require`"),
            );
            Vec::new()
        }
    }
}

fn title_of(source: &RuleSource, id: &RuleId, check: Option<&str>) -> String {
    match (&source.title, check) {
        (Some(title), Some(check)) => format!("{title}: {check}"),
        (Some(title), None) => title.clone(),
        (None, _) => id.to_string(),
    }
}

/// Returns the earlier ids of a rule, or of one of its checks.
fn earlier_ids(source: &RuleSource, check: Option<&str>) -> Vec<RuleId> {
    let id = |was: &Named| match check {
        Some(check) => RuleId::new(format!("{}/{check}", was.text)),
        None => RuleId::new(was.text.as_str()),
    };
    source.was.iter().map(id).collect()
}

/// What says whom a rule covers, as it is written.
struct ScopeParts<'s> {
    groups: &'s [Named],
    covers: Option<&'s Text>,
    except: &'s [ExceptSource],
}

fn compile_scope(
    parts: &ScopeParts<'_>,
    groups: &Groups,
    vocabulary: &mut Vocabulary<'_>,
    mistakes: &mut Vec<Diagnostic>,
) -> Scope {
    let ScopeParts { groups: named, covers, except } = *parts;
    let mut found = Vec::with_capacity(named.len());
    for named in named {
        match groups.all.iter().position(|group| group.id.as_str() == named.text) {
            Some(at) => found.push(at),
            None => mistakes.push(unknown_group(named, groups.all.iter().map(|group| group.id.as_str()))),
        }
    }
    Scope {
        groups: found,
        except: compile_exceptions(except, groups, mistakes),
        covers: covers.and_then(|text| Condition::compile(text, Place::Rule, vocabulary, mistakes)),
    }
}

fn compile_exceptions(sources: &[ExceptSource], groups: &Groups, mistakes: &mut Vec<Diagnostic>) -> Vec<Exception> {
    let find = |named: &Named| groups.all.iter().position(|group| group.id.as_str() == named.text);
    let mut made = Vec::with_capacity(sources.len());
    for exception in sources {
        let ExceptSource { name, group, because, until } = exception;
        let whom = match (find(name).filter(|_| *group != Some(false)), group) {
            (Some(at), _) => Excepted::Group(at),
            (None, Some(true)) => {
                mistakes.push(unknown_group(name, groups.all.iter().map(|group| group.id.as_str())));
                continue;
            }
            (None, _) => {
                let near = nearest(&name.text, groups.all.iter().map(|group| group.id.as_str()));
                if let (Some(near), None) = (near, group) {
                    mistakes.push(
                        Diagnostic::warning(
                            "unknown-group",
                            format!("`{}` is no group, and is taken for a device", name.text),
                            name.span.clone(),
                        )
                        .help(format!("did you mean the group `{near}`?")),
                    );
                }
                Excepted::Device(DeviceId::new(name.text.as_str()))
            }
        };
        made.push(Exception {
            whom,
            name: name.text.clone(),
            because: because.clone(),
            until: *until,
            place: name.span.clone(),
        });
    }
    made
}

/// FNV-1a over the words of scope and requirement, as `write` writes a condition: stable between versions and machines.
fn fingerprint(source: &RuleSource, require: &Condition, write: impl Fn(&str) -> String) -> u64 {
    let mut print = Fingerprint::new();
    print.text(&write(require.as_str()));
    print.text(&source.covers.as_ref().map_or_else(String::new, |text| write(text.as_str())));
    let excepted = source.except.iter().map(|exception| &exception.name);
    source.groups.iter().chain(excepted).for_each(|named| print.text(&named.text));
    print.value()
}
