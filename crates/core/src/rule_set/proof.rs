//! The proof of a verdict: of the requirement, or of the scope where that decided.

use super::session::{Member, Session};
use super::{RuleSet, outcome};
use crate::condition::evidence::{Blame, Evidence, EvidenceSummary, Outcome};
use crate::condition::{Ambient, Evaluator};
use crate::facts::value::{Reason, Value};
use crate::fleet::group::any;
use crate::rules::rule::{Excepted, Rule};
use crate::rules::verdict::{DeviceInput, Verdict, VerdictOutcome};

impl RuleSet {
    /// Returns the verdict of one rule with its proof: of its requirement, or of its scope where that decided.
    pub fn explain<'a>(
        &'a self,
        rule: usize,
        input: &DeviceInput<'a>,
        session: Session<'a>,
    ) -> (VerdictOutcome, Evidence) {
        let rule = &self.rules[rule];
        let mut evaluator = session.evaluator(input.facts);
        let memberships = self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        evaluator.set_ambient(Ambient { drift: input.drift, ..Ambient::default() });
        let (scope, _) = self.scope(rule, Member { id: input.id, memberships, at: session.at }, &mut evaluator);
        match scope {
            Value::Boolean(true) => {
                let (value, evidence) = evaluator.explain(&rule.require, true);
                (outcome(value), evidence)
            }
            decided => {
                let evidence =
                    self.explain_scope(rule, Member { id: input.id, memberships, at: session.at }, &mut evaluator);
                let outcome = if matches!(decided, Value::Boolean(false)) {
                    VerdictOutcome::NotApplicable
                } else {
                    VerdictOutcome::Unknown(Reason::Scope)
                };
                (outcome, evidence)
            }
        }
    }

    /// Returns what the requirement of a rule comes to on a device, whether or not the rule covers it, with its proof.
    pub fn explain_requirement<'a>(
        &'a self,
        rule: usize,
        input: &DeviceInput<'a>,
        session: Session<'a>,
    ) -> (VerdictOutcome, Evidence) {
        let mut evaluator = session.evaluator(input.facts);
        self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
        let (value, evidence) = evaluator.explain(&self.rules[rule].require, true);
        (outcome(value), evidence)
    }

    /// Returns the proof of a verdict that [`Self::evaluate`] gave.
    pub fn prove<'a>(&'a self, verdict: &Verdict, input: &DeviceInput<'a>, session: Session<'a>) -> Evidence {
        let (outcome, evidence) = self.explain(verdict.rule, input, session);
        if outcome == verdict.outcome {
            return evidence;
        }
        // By itself the rule can be worked out: the rules before it used up what one device may cost.
        Evidence::Comparison {
            subject: "the device".to_owned(),
            path: None,
            observed: "too much to go through for all rules together".to_owned(),
            required: "within the limits of one device".to_owned(),
            outcome: Outcome::Unknown(Reason::Error),
            facts: Vec::new(),
            blame: None,
        }
    }

    /// Returns what the clock of a finding goes by, of the evidence of a verdict that the rule set came to.
    pub fn evidence_summary<'a>(
        &'a self,
        verdict: &Verdict,
        input: &DeviceInput<'a>,
        session: Session<'a>,
    ) -> EvidenceSummary {
        let decided = matches!(verdict.outcome, VerdictOutcome::Pass | VerdictOutcome::Fail);
        if decided && let Some(collected) = self.rules[verdict.rule].require.collected_as_one(input.facts) {
            return EvidenceSummary { collected, ..EvidenceSummary::default() };
        }
        let summary = EvidenceSummary::of(&self.prove(verdict, input, session));
        match self.rules[verdict.rule].compared_set() {
            // A comparison reads all that the device reports.
            Some(_) => EvidenceSummary { collected: input.facts.collected(), ..summary },
            None => summary,
        }
    }

    /// Why a rule does not cover a device, or why that cannot be told: only the parts that decided.
    fn explain_scope<'a>(&'a self, rule: &'a Rule, device: Member<'a>, evaluator: &mut Evaluator<'a>) -> Evidence {
        let (covered, excepted) = self.covered(&rule.scope, device, evaluator);
        if !matches!(covered, Value::Boolean(false))
            && let Some((extending, covers)) = self.judged_instead(rule, device, evaluator)
        {
            let outcome = match covers {
                Value::Unknown(unknown) => Outcome::Unknown(unknown.reason),
                _ => Outcome::False,
            };
            return Evidence::Comparison {
                subject: "the device".to_owned(),
                path: None,
                observed: match outcome {
                    Outcome::Unknown(_) => format!("perhaps judged by {}, which extends this", extending.baseline),
                    _ => format!("judged by {}, which extends this", extending.baseline),
                },
                required: "judged by this baseline".to_owned(),
                outcome,
                facts: Vec::new(),
                blame: match covers {
                    Value::Unknown(unknown) => Some(Blame { fact: unknown.fact.to_owned(), reason: unknown.reason }),
                    _ => None,
                },
            };
        }
        let scope = &rule.scope;
        let member = |group: usize, wanted: bool| self.membership_evidence(group, device.memberships[group], wanted);
        let exceptions: Vec<Evidence> = scope
            .except
            .iter()
            .filter(|exception| exception.holds_at(device.at))
            .filter_map(|exception| match &exception.whom {
                Excepted::Group(group) => Some(member(*group, false)),
                Excepted::Device(named) if named.as_str() == device.id => Some(Evidence::Comparison {
                    subject: "the device".to_owned(),
                    path: None,
                    observed: "named in `except`".to_owned(),
                    required: "not excepted".to_owned(),
                    outcome: Outcome::False,
                    facts: Vec::new(),
                    blame: None,
                }),
                Excepted::Device(_) => None,
            })
            .collect();
        let mut parts = Vec::new();
        if !excepted {
            let groups: Vec<Evidence> = scope.groups.iter().map(|group| member(*group, true)).collect();
            let joined = any(scope.groups.iter().map(|group| device.memberships[*group]));
            if !groups.is_empty() && !matches!(joined, Value::Boolean(true)) {
                let outcome = match joined {
                    Value::Boolean(false) => Outcome::False,
                    Value::Unknown(unknown) => Outcome::Unknown(unknown.reason),
                    _ => Outcome::Unknown(Reason::Null),
                };
                parts.push(Evidence::Any { outcome, parts: groups });
            }
            parts.extend(scope.covers.as_ref().map(|condition| evaluator.explain(condition, false).1));
        }
        parts.extend(exceptions);
        let outcome = if parts.iter().any(|part| part.outcome() == Outcome::False) {
            Outcome::False
        } else {
            parts.iter().map(Evidence::outcome).find(|part| *part != Outcome::True).unwrap_or(Outcome::False)
        };
        parts.retain(|part| match outcome {
            Outcome::Unknown(_) => matches!(part.outcome(), Outcome::Unknown(_)),
            known => part.outcome() == known,
        });
        match (parts.pop(), parts.is_empty()) {
            (Some(only), true) => only,
            (last, _) => {
                parts.extend(last);
                Evidence::All { outcome, parts }
            }
        }
    }

    fn membership_evidence(&self, group: usize, value: Value<'_>, wanted: bool) -> Evidence {
        let word = |member: bool| if member { "a member" } else { "no member" }.to_owned();
        let (observed, outcome, blame) = match value {
            Value::Boolean(member) => {
                (word(member), if member == wanted { Outcome::True } else { Outcome::False }, None)
            }
            Value::Unknown(unknown) => {
                let blame = Blame { fact: unknown.fact.to_owned(), reason: unknown.reason };
                ("not known".to_owned(), Outcome::Unknown(unknown.reason), Some(blame))
            }
            _ => ("not known".to_owned(), Outcome::Unknown(Reason::Null), None),
        };
        let set = group.checked_sub(self.group_of_set(0)).and_then(|at| self.drift.sets.get(at));
        let subject = match set {
            Some(set) => format!("peers of {}", set.id),
            None => format!("group {}", self.groups.all[group].id),
        };
        Evidence::Comparison {
            subject,
            path: None,
            observed,
            required: word(wanted),
            outcome,
            facts: Vec::new(),
            blame,
        }
    }
}
