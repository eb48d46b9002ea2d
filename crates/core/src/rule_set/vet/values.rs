//! Texts that conditions compare facts with and that no device ever reports: mostly a word spelled otherwise.

use std::collections::{BTreeMap, BTreeSet};

use super::{Fleet, Vet};
use crate::condition::Condition;
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::facts::layout::SlotId;
use crate::facts::value::Value;
use crate::rule_set::RuleSet;
use crate::rules::rule::Rule;

/// Of more different values than this not all are remembered.
const MOST_VALUES: usize = 50;

/// A text that a fact is compared with.
#[derive(Debug)]
pub(super) struct ExpectedText<'a> {
    /// The rule that it is of, by its position; none where a group or an access rule has it.
    pub rule: Option<usize>,
    /// It stands in what says whom the rule covers.
    pub in_scope: bool,
    pub slot: SlotId,
    pub text: &'a str,
    pub place: Option<Span>,
}

/// What devices report of facts that are compared with texts.
#[derive(Clone, Debug, Default)]
pub(super) struct ReportedTexts {
    /// For each expected text, whether some device reports it.
    pub met: Vec<bool>,
    /// The texts that devices report, by slot.
    pub seen: BTreeMap<SlotId, BTreeSet<Box<str>>>,
}

impl ReportedTexts {
    pub(super) fn join(&mut self, other: Self) {
        self.met.iter_mut().zip(other.met).for_each(|(own, other)| *own |= other);
        for (slot, texts) in other.seen {
            let own = self.seen.entry(slot).or_default();
            own.extend(texts);
            while own.len() > MOST_VALUES {
                own.pop_last();
            }
        }
    }
}

/// A condition that compares facts with texts.
struct ComparingCondition<'r> {
    /// Position of the rule that it is part of; none of a group or an access rule.
    rule: Option<usize>,
    /// It says whom the rule covers.
    in_scope: bool,
    condition: &'r Condition,
}

/// Returns the conditions of a rule, which stands at a position.
fn conditions_of_rule((at, rule): (usize, &Rule)) -> Vec<ComparingCondition<'_>> {
    let scope = rule.scope_condition();
    let is_scope = |one: &Condition| scope.is_some_and(|scope| std::ptr::eq(scope, one));
    let own = |condition| ComparingCondition { rule: Some(at), in_scope: is_scope(condition), condition };
    rule.conditions().map(own).collect()
}

/// Returns the texts that conditions of rules, groups and access rules compare facts with.
pub(super) fn expected_texts(rules: &RuleSet) -> Vec<ExpectedText<'_>> {
    let of_rules = rules.rules().iter().enumerate().flat_map(conditions_of_rule);
    let of_groups = rules.groups.all.iter().filter_map(|group| group.condition.as_ref());
    let of_access = rules.access().rules().iter().flat_map(|rule| rule.conditions());
    let others =
        of_groups.chain(of_access).map(|condition| ComparingCondition { rule: None, in_scope: false, condition });
    let mut places = BTreeSet::new();
    let mut all = Vec::new();
    for ComparingCondition { rule, in_scope, condition } in of_rules.chain(others) {
        for compared in condition.compared_texts() {
            let (text, place) = (compared.text, condition.text().span(compared.span));
            // Checks share their scope, and what a baseline expects is put together.
            let at = place.as_ref().map(|span| (span.file.0, span.range.start));
            if let Some(slot) = compared.slot
                && places.insert((at, slot, text.to_owned()))
            {
                all.push(ExpectedText { rule, in_scope, slot, text, place });
            }
        }
    }
    all
}

/// Returns what was probably meant instead of a text, among those that devices report.
fn near_text(expected: &ExpectedText<'_>, seen: &BTreeSet<Box<str>>) -> Option<String> {
    let near = nearest(expected.text, seen.iter().map(|text| &**text))?;
    // Any two words of a letter or two are near one another.
    let is_meant = expected.text.chars().count() > 2 || expected.text.eq_ignore_ascii_case(near);
    let near = Some(near).filter(|_| is_meant)?;
    // A device may say anything.
    Some(format!("did you mean \"{}\"?", near.escape_debug()))
}

impl Vet<'_> {
    /// Returns the slots of facts that are compared with texts.
    pub fn slots_of_texts(&self) -> impl Iterator<Item = SlotId> {
        self.expected.iter().map(|expected| expected.slot)
    }

    /// Notes what a device reports of them.
    pub(super) fn see_texts<'v>(&self, fleet: &mut Fleet, value: impl Fn(SlotId) -> Value<'v>) {
        for (expected, met) in self.expected.iter().zip(&mut fleet.texts.met) {
            let mut note = |text: &str| {
                *met |= text == expected.text;
                let seen = fleet.texts.seen.entry(expected.slot).or_default();
                if !seen.contains(text) && seen.len() <= MOST_VALUES {
                    seen.insert(Box::from(text));
                }
            };
            match value(expected.slot) {
                Value::Text(text) => note(text),
                Value::List(list) => list.items.iter().for_each(|item| {
                    if let Value::Text(text) = item {
                        note(text);
                    }
                }),
                _ => {}
            }
        }
    }

    /// Goes through the texts that no device reports, of facts that devices report: with what they report.
    fn unmet<'f>(&'f self, fleet: &'f Fleet) -> impl Iterator<Item = (&'f ExpectedText<'f>, &'f BTreeSet<Box<str>>)> {
        let unmet = self.expected.iter().zip(&fleet.texts.met).filter(|(_, met)| !**met).map(|(expected, _)| expected);
        unmet.filter_map(|expected| {
            Some((expected, fleet.texts.seen.get(&expected.slot).filter(|seen| !seen.is_empty())?))
        })
    }

    /// Returns what was probably meant in the scope of a rule that covers nobody.
    pub(super) fn meant_in_scope(&self, fleet: &Fleet, rule: usize) -> Option<String> {
        let mut of_scope = self.unmet(fleet).filter(|(expected, _)| expected.rule == Some(rule) && expected.in_scope);
        of_scope.find_map(|(expected, seen)| near_text(expected, seen))
    }

    /// Warns of texts that no device reports, of facts that devices report.
    pub(super) fn tell_texts(&self, fleet: &Fleet, told: &mut Vec<Diagnostic>) {
        let layout = self.rules.layout();
        let covers_nobody =
            |rule: usize| fleet.rules[rule].covered() + fleet.rules[rule].excepted + fleet.rules[rule].given_up == 0;
        for (expected, seen) in self.unmet(fleet) {
            // That is told of the rule.
            if expected.in_scope && expected.rule.is_some_and(covers_nobody) {
                continue;
            }
            // What devices may report one day is no mistake; a word that is nearly one of theirs mostly is.
            let Some(help) = near_text(expected, seen) else { continue };
            let path = layout.slot_path(expected.slot);
            let message = format!("no device ever reports `{path}` as \"{}\"", expected.text);
            told.push(Diagnostic::warning("value-of-nobody", message, expected.place.clone()).help(help));
        }
    }
}
