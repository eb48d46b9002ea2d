//! Whom rules reach, and whom they would but for an exception or a more special baseline.

use super::RuleSet;
use super::session::{Member, Session};
use crate::condition::Condition;
use crate::diagnostic::Named;
use crate::facts::layout::SlotId;
use crate::facts::merge::Facts;
use crate::facts::value::Value;
use crate::rules::rule::{Excepted, Exception, Rule, Stage};
use crate::rules::verdict::{DeviceInput, Verdict, VerdictOutcome, Verdicts};
use jiff::Timestamp;

/// Why a rule does not apply to a device that its scope holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Spared {
    /// The rule.
    pub rule: usize,
    /// The exceptions that hold, by their position; none where a more special baseline judges the device instead.
    pub exceptions: Vec<usize>,
}

impl Rule {
    /// Returns the clauses that it answers for, with their places.
    pub(crate) fn clauses(&self) -> &[Named] {
        &self.controls
    }

    /// Returns the requirement.
    pub(crate) fn requirement(&self) -> &Condition {
        &self.require
    }

    /// Returns the condition of its scope.
    pub(crate) fn scope_condition(&self) -> Option<&Condition> {
        self.scope.covers.as_ref()
    }

    /// Returns the groups that say whom it covers, by index.
    pub(crate) fn groups_of_scope(&self) -> impl Iterator<Item = usize> {
        self.scope.asks()
    }

    /// Returns every group that it names or asks about, by index.
    pub(crate) fn groups_asked(&self) -> impl Iterator<Item = usize> {
        self.asks()
    }

    /// Returns whether it surely covers the same devices as another: they say so in the same words.
    pub(crate) fn covers_as(&self, other: &Self) -> bool {
        let words = |rule: &Self| -> Vec<String> {
            let covers = rule.scope.covers.iter().flat_map(Condition::words).map(str::to_owned);
            covers.chain(rule.scope.groups.iter().map(|group| format!("group {group}"))).collect()
        };
        // Who excepts somebody covers fewer.
        let is_free = |rule: &Self| rule.scope.except.is_empty() && rule.overrides.is_empty();
        is_free(self) && is_free(other) && words(self) == words(other)
    }
}

impl Exception {
    /// Returns the device that it names, where it names one.
    pub(crate) fn device(&self) -> Option<&str> {
        match &self.whom {
            Excepted::Group(_) => None,
            Excepted::Device(device) => Some(device.as_str()),
        }
    }
}

impl RuleSet {
    /// Returns the rules that do not apply to a device although their scope holds it, and why.
    pub(crate) fn spared<'a>(
        &'a self,
        verdicts: &Verdicts,
        input: &DeviceInput<'a>,
        session: Session<'a>,
    ) -> Vec<Spared> {
        let may_be = |rule: &Rule| !rule.scope.except.is_empty() || !rule.overrides.is_empty();
        let mut open = verdicts
            .all
            .iter()
            .filter(|verdict| verdict.outcome == VerdictOutcome::NotApplicable && may_be(&self.rules[verdict.rule]))
            .peekable();
        if open.peek().is_none() {
            return Vec::new();
        }
        let mut evaluator = session.evaluator(input.facts);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        let mut found = Vec::new();
        for verdict in open {
            let rule = &self.rules[verdict.rule];
            let (covers, excepted) =
                self.covered(&rule.scope, Member { id: input.id, memberships, at: session.at }, &mut evaluator);
            if !excepted && !matches!(covers, Value::Boolean(true)) {
                continue;
            }
            let holds = |exception: &Exception| {
                exception.holds_at(session.at)
                    && matches!(exception.excepts(input.id, memberships), Value::Boolean(true))
            };
            let all = rule.scope.except.iter().enumerate();
            let exceptions = all.filter(|(_, exception)| holds(exception)).map(|(at, _)| at).collect();
            found.push(Spared { rule: verdict.rule, exceptions });
        }
        found
    }

    /// Returns the oldest among the newest statements of the sources that the enforced rules rest on which cover a device; of a device for
    /// which they rest on none, the newest statement of any source.
    pub fn state_collected(&self, verdicts: &[Verdict], facts: &Facts<'_>, at: Timestamp) -> Option<Timestamp> {
        let counts = |verdict: &&Verdict| {
            verdict.outcome != VerdictOutcome::NotApplicable && self.rules[verdict.rule].stage(at) == Stage::Enforced
        };
        let read = verdicts.iter().filter(counts).flat_map(|verdict| self.rules[verdict.rule].require.may_read());
        let oldest = read.filter_map(|slot| facts.slot(*slot).origin?.collected()).min();
        oldest.or_else(|| facts.collected())
    }

    /// Returns the slots of every device fact that some rule or group reads, ascending.
    pub fn slots_of_rules(&self) -> Vec<SlotId> {
        self.slots_of(&self.rules)
    }

    /// Returns the slots of every device fact that a rule, by its position, or some group reads, ascending.
    pub fn slots_of_rule(&self, rule: usize) -> Vec<SlotId> {
        self.slots_of(&self.rules[rule..=rule])
    }

    fn slots_of(&self, rules: &[Rule]) -> Vec<SlotId> {
        let conditions = rules.iter().flat_map(Rule::conditions);
        let groups = self.groups.all.iter().filter_map(|group| group.condition.as_ref());
        let all: std::collections::BTreeSet<SlotId> =
            conditions.chain(groups).flat_map(Condition::may_read).copied().collect();
        all.into_iter().collect()
    }
}
