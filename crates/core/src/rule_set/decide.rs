//! The decision for one attempt to reach a service.

use super::RuleSet;
use super::session::Session;
use crate::access::decision::{Attempt, Decision, Obligation, Ruling, Step, StepResult};
use crate::access::service::{AccessRule, Effect};
use crate::condition::evidence::Blame;
use crate::condition::{Ambient, Condition, Evaluator};
use crate::facts::value::Value;
use crate::fleet::group::{Membership, Whom};
use crate::fleet::people::Holder;
use crate::rules::rule::Stage;

/// Decides one attempt, and says what became of every access rule.
pub fn decide<'a>(set: &'a RuleSet, attempt: &Attempt<'a>, session: Session<'a>) -> Decision {
    let access = set.access();
    let service = &access.services()[attempt.service];
    let mut evaluator = session.evaluator(attempt.facts);
    evaluator.set_groups(attempt.memberships);
    evaluator.set_ambient(Ambient {
        standing: Some(attempt.standing.as_str()),
        known: Some(true),
        registered: Some(true),
        managed: Some(attempt.facts.is_fresh()),
        client: Some(attempt.client),
        service: Some(service.id.as_str()),
        failing: Some(attempt.failing),
    });
    if let Some(person) = attempt.holder.and_then(|holder| holder.person) {
        evaluator.set_person(set.person_values(person, session.arena));
    }
    let mut verdict = Weighing { effect: None, limits: Vec::new(), step_up: false, by: None };
    let mut uncertain = Vec::new();
    let mut steps = Vec::with_capacity(access.rules().len());
    for (index, rule) in access.rules().iter().enumerate() {
        let applies = applies(rule, attempt, &mut evaluator);
        let result = match applies {
            Applies::No(result) => result,
            Applies::Yes | Applies::Perhaps(_) => {
                let (value, evidence) = evaluator.explain(&rule.needs, true);
                let met = matches!(value, Value::Boolean(true));
                if let Applies::Perhaps(blames) = applies {
                    uncertain.push((index, met));
                    StepResult::Uncertain(blames)
                } else {
                    verdict.add(index, rule, met);
                    if met { StepResult::Met } else { StepResult::Unmet(evidence) }
                }
            }
        };
        steps.push(Step { rule: index, result });
    }
    for (index, met) in uncertain {
        let rule = &access.rules()[index];
        // The stricter of with and without: a permit would only loosen a default of deny.
        let loosens = verdict.effect.is_none() && service.default == Effect::Deny && (met || rule.otherwise.permit);
        if !loosens {
            verdict.add(index, rule, met);
        }
    }
    verdict.into_decision(service.default, steps)
}

struct Weighing {
    effect: Option<Effect>,
    limits: Vec<String>,
    step_up: bool,
    by: Option<usize>,
}

impl Weighing {
    fn into_decision(self, default: Effect, steps: Vec<Step>) -> Decision {
        let effect = self.effect.unwrap_or(default);
        let limits = self.limits.into_iter().map(Obligation::Limit);
        let obligations = match effect {
            Effect::Permit => limits.chain(self.step_up.then_some(Obligation::StepUp)).collect(),
            Effect::Deny => Vec::new(),
        };
        Decision { ruling: Ruling { effect, obligations }, by: self.by, steps }
    }

    fn add(&mut self, index: usize, rule: &AccessRule, met: bool) {
        if met {
            self.effect.get_or_insert(Effect::Permit);
            if self.by.is_none() {
                self.by = Some(index);
            }
        } else if rule.otherwise.permit {
            if self.effect != Some(Effect::Deny) {
                if self.limits.is_empty() && !self.step_up {
                    self.by = Some(index);
                }
                self.effect = Some(Effect::Permit);
            }
            for limit in &rule.otherwise.limits {
                if !self.limits.contains(limit) {
                    self.limits.push(limit.clone());
                }
            }
            self.step_up |= rule.otherwise.step_up;
        } else {
            if self.effect != Some(Effect::Deny) {
                self.by = Some(index);
            }
            self.effect = Some(Effect::Deny);
        }
    }
}

enum Applies {
    Yes,
    No(StepResult),
    Perhaps(Vec<Blame>),
}

fn applies<'a>(rule: &'a AccessRule, attempt: &Attempt<'a>, evaluator: &mut Evaluator<'a>) -> Applies {
    if rule.stage != Stage::Enforced {
        return Applies::No(StepResult::NotEnforced);
    }
    if !rule.services.contains(&attempt.service) {
        return Applies::No(StepResult::OtherService);
    }
    let mut doubts = Vec::new();
    match targets(rule, attempt.holder) {
        Membership::In => {}
        Membership::Out => return Applies::No(StepResult::OtherPeople),
        Membership::Unknown(reason) => doubts.push(Blame { fact: "person".to_owned(), reason }),
    }
    let mut ask = |condition: &'a Option<Condition>, without: bool| match condition {
        None => Some(without),
        Some(condition) => {
            // Whether a rule applies is scope: the last known value counts, at any age.
            let (value, evidence) = evaluator.explain(condition, false);
            match value {
                Value::Boolean(truth) => Some(truth),
                _ => {
                    evidence.blames(&mut doubts);
                    None
                }
            }
        }
    };
    match (ask(&rule.when, true), ask(&rule.unless, false)) {
        (Some(false), _) => Applies::No(StepResult::NotNow),
        (_, Some(true)) => Applies::No(StepResult::Excused),
        (Some(true), Some(false)) if doubts.is_empty() => Applies::Yes,
        _ => Applies::Perhaps(doubts),
    }
}

fn targets(rule: &AccessRule, holder: Option<&Holder<'_>>) -> Membership {
    let one_of = |all: &[Whom]| {
        let Some(holder) = holder else { return Membership::Out };
        let mut result = Membership::Out;
        for whom in all {
            match whom.includes(holder) {
                Membership::In => return Membership::In,
                Membership::Out => {}
                unknown @ Membership::Unknown(_) => result = unknown,
            }
        }
        result
    };
    let targeted = if rule.people.is_empty() { Membership::In } else { one_of(&rule.people) };
    match (targeted, one_of(&rule.except)) {
        (Membership::Out, _) | (_, Membership::In) => Membership::Out,
        (targeted, Membership::Out) => targeted,
        (_, unknown @ Membership::Unknown(_)) => unknown,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::decision::Strictness;
    use crate::access::service::{AccessSource, Otherwise};
    use crate::condition::evidence::EvidenceSummary;
    use crate::diagnostic::Text;
    use crate::facts::value::Datum;
    use crate::findings::standing::Standing;
    use crate::fleet::group::{GroupKind, GroupSource};
    use crate::fleet::people::Person;
    use crate::id::PersonId;
    use crate::rule_set::RuleSetSource;
    use crate::testing::{access, compile, decision, group, mistakes, names, service};
    use serde_json::json;

    const GOOD: &str = "standing in (\"compliant\", \"on-notice\")";

    fn set(default: Effect, rules: Vec<AccessSource>) -> RuleSetSource {
        let crew = GroupSource { units: names(&["ships"]), ..group("crew", GroupKind::People) };
        RuleSetSource {
            services: vec![service("mail", default)],
            access: rules,
            groups: vec![crew],
            ..RuleSetSource::default()
        }
    }

    fn person(unit: &str) -> Person {
        Person { id: PersonId::from("p"), facts: Datum::Object(vec![("unit".into(), Datum::Text(unit.into()))]) }
    }

    fn limited(id: &str, needs: &str, limits: &[&str], step_up: bool) -> AccessSource {
        let limits = limits.iter().map(|limit| (*limit).to_owned()).collect();
        AccessSource { otherwise: Otherwise { permit: true, limits, step_up }, ..access(id, needs) }
    }

    #[test]
    fn no_rule_that_applies_leaves_the_default() {
        let other = AccessSource { people: names(&["crew"]), ..access("crew-only", GOOD) };
        for default in [Effect::Deny, Effect::Permit] {
            let compiled = compile(&set(default, vec![other.clone()]));
            let decided = decision(&compiled, &json!({}), Some(&person("office")), Standing::NonCompliant);
            assert_eq!((decided.ruling.effect, decided.by), (default, None));
            assert_eq!(decided.steps[0].result, StepResult::OtherPeople);
        }
    }

    #[test]
    fn the_standing_opens_and_shuts_the_door() {
        let compiled =
            compile(&set(Effect::Deny, vec![AccessSource { people: names(&["crew"]), ..access("good", GOOD) }]));
        for (standing, effect) in [
            (Standing::Compliant, Effect::Permit),
            (Standing::OnNotice, Effect::Permit),
            (Standing::Unproven, Effect::Deny),
            (Standing::NonCompliant, Effect::Deny),
        ] {
            let decided = decision(&compiled, &json!({}), Some(&person("ships/tern")), standing);
            assert_eq!((decided.ruling.effect, decided.by), (effect, Some(0)), "{standing:?}");
        }
        // Nobody's device is not targeted by a rule that names people.
        assert_eq!(decision(&compiled, &json!({}), None, Standing::Compliant).by, None);
    }

    #[test]
    fn deny_overrides_and_obligations_add_up() {
        let rules = vec![
            access("open", "true"),
            limited("a", "trusted", &["no download", "no print"], false),
            limited("b", "trusted", &["no download"], true),
        ];
        let compiled = compile(&set(Effect::Deny, rules.clone()));
        let decided = decision(&compiled, &json!({"trusted": false}), None, Standing::Compliant);
        assert_eq!(decided.ruling.in_words(), "permit with no download, no print, step-up");
        assert_eq!((decided.ruling.strictness(), decided.by), (Strictness::Limited, Some(1)));
        assert_eq!(
            decision(&compiled, &json!({"trusted": true}), None, Standing::Compliant).ruling.in_words(),
            "permit"
        );
        let mut with_deny = rules;
        with_deny.push(access("shut", "false"));
        let decided =
            decision(&compile(&set(Effect::Deny, with_deny)), &json!({"trusted": true}), None, Standing::Compliant);
        assert_eq!((decided.ruling.effect, decided.by), (Effect::Deny, Some(3)));
    }

    #[test]
    fn what_is_unknown_never_opens_a_door() {
        // An unknown need is a deny that names the fact.
        let compiled = compile(&set(Effect::Deny, vec![access("need", "disk.encrypted")]));
        let decided = decision(&compiled, &json!({}), None, Standing::Compliant);
        assert_eq!(decided.ruling.effect, Effect::Deny);
        let StepResult::Unmet(evidence) = &decided.steps[0].result else { panic!("{decided:?}") };
        assert_eq!(EvidenceSummary::of(evidence).blames[0].fact, "disk.encrypted");
        // An unknown `when` or `unless`: the stricter of with and without.
        let when = |needs: &str| AccessSource { when: Some(Text::loose("gone")), ..access("maybe", needs) };
        let unless = |needs: &str| AccessSource { unless: Some(Text::loose("gone")), ..access("maybe", needs) };
        for (default, rule, effect) in [
            (Effect::Deny, when("true"), Effect::Deny),
            (Effect::Permit, when("true"), Effect::Permit),
            (Effect::Permit, when("false"), Effect::Deny),
            (Effect::Permit, unless("false"), Effect::Deny),
            (Effect::Deny, unless("true"), Effect::Deny),
        ] {
            let decided = decision(&compile(&set(default, vec![rule])), &json!({}), None, Standing::Compliant);
            assert_eq!(decided.ruling.effect, effect, "{default:?} {:?}", decided.steps);
        }
    }

    #[test]
    fn trial_rules_and_other_clients_do_not_count() {
        let trial = AccessSource { stage: Stage::Trial, ..access("trial", "false") };
        let browser =
            AccessSource { when: Some(Text::loose("signin.client = \"browser\"")), ..access("browser", "false") };
        let excused =
            AccessSource { unless: Some(Text::loose("device.kind = \"till\"")), ..access("excused", "false") };
        let compiled = compile(&set(Effect::Permit, vec![trial, browser, excused]));
        let decided = decision(&compiled, &json!({"kind": "till"}), None, Standing::Compliant);
        assert_eq!(decided.ruling.effect, Effect::Permit);
        let results: Vec<&StepResult> = decided.steps.iter().map(|step| &step.result).collect();
        assert_eq!(results, [&StepResult::NotEnforced, &StepResult::NotNow, &StepResult::Excused]);
    }

    #[test]
    fn access_rules_that_cannot_be_meant_are_refused() {
        let code = |rule: AccessSource| mistakes(&set(Effect::Deny, vec![rule])).first().map(|mistake| mistake.code);
        assert_eq!(code(AccessSource { services: names(&["mial"]), ..access("a", "true") }), Some("unknown-service"));
        assert_eq!(code(AccessSource { services: Vec::new(), ..access("a", "true") }), Some("scope-for-nobody"));
        assert_eq!(code(AccessSource { needs: None, ..access("a", "true") }), Some("no-requirement"));
        assert_eq!(code(access("a", "device.known and service.id = \"mail\" and person.unit = \"it\"")), None);
        assert_eq!(code(access("a", "signin.klient = \"app\"")), Some("unknown-name"));
    }
}
