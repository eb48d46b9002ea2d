//! The decision for one sign-in.

use bumpalo::Bump;
use jiff::Timestamp;

use super::RuleSet;
use super::session::Session;
use crate::access::decision::{AccessState, Attempt, Decision, Obligation, Ruling, Step, StepResult};
use crate::access::service::{AccessRule, Effect};
use crate::access::terms::Terms;
use crate::condition::evidence::{Blame, Evidence};
use crate::condition::{Ambient, Condition, Evaluator};
use crate::facts::value::Value;
use crate::findings::finding::{Finding, Subject};
use crate::findings::standing::{Standing, Uncovered, standing_at};
use crate::fleet::group::{Membership, Whom};
use crate::fleet::people::{Acceptance, Holder};
use crate::rules::rule::Stage;
use crate::rules::verdict::DeviceInput;

/// What the standing of a device follows from.
#[derive(Clone, Copy, Debug)]
pub struct Posture<'f> {
    /// Its findings that run.
    pub running: &'f [&'f Finding],
    /// Whether any enforced rule covers the device.
    pub covered: bool,
    /// How a device stands that no enforced rule covers.
    pub uncovered: Uncovered,
}

impl RuleSet {
    /// Returns how a device with these findings stands at the session's moment, as access rules ask about it.
    pub fn access_state<'a>(
        &'a self,
        input: &DeviceInput<'a>,
        posture: Posture<'_>,
        session: Session<'a>,
    ) -> AccessState<'a> {
        let Posture { running, covered, uncovered } = posture;
        let standing = standing_at(running.iter().copied(), covered, uncovered, session.at);
        let failing = failing_rules(running, session.at, session.arena);
        let ambient = Ambient { standing: Some(standing.as_str()), failing: Some(failing), ..Ambient::default() };
        AccessState {
            standing: Some(standing),
            failing: Some(failing),
            memberships: self.memberships_of_device(input, ambient, session),
        }
    }

    /// Returns what access rules may ask about a device that the ledger does not know.
    pub fn access_state_of_stranger<'a>(&'a self, input: &DeviceInput<'a>, session: Session<'a>) -> AccessState<'a> {
        let memberships = self.memberships_of_device(input, Ambient::default(), session);
        AccessState { standing: None, failing: None, memberships }
    }

    /// Returns whether a device is managed, as the workspace defines it; what is not known is not.
    pub fn is_managed<'a>(&'a self, input: &DeviceInput<'a>, session: Session<'a>) -> bool {
        match self.access.managed() {
            Some(managed) => {
                let mut evaluator = session.evaluator(input.facts);
                self.groups.of_device(input.id, input.holders, &mut evaluator, session.arena);
                matches!(evaluator.meets(managed), Value::Boolean(true))
            }
            None => input.facts.is_fresh(),
        }
    }

    /// Creates an evaluator of the access rules' conditions about a sign-in.
    pub(super) fn access_evaluator<'a>(&'a self, attempt: &Attempt<'a>, session: Session<'a>) -> Evaluator<'a> {
        let Attempt { input, state, sign_in, .. } = *attempt;
        let asks_managed = self.access.asks_managed();
        let managed = sign_in.managed.or_else(|| asks_managed.then(|| self.is_managed(&input, session)));
        let mut evaluator = session.evaluator(input.facts);
        evaluator.set_groups(state.memberships);
        evaluator.set_ambient(Ambient {
            standing: state.standing.map(Standing::as_str),
            known: Some(!sign_in.is_strange()),
            registered: Some(sign_in.registered.unwrap_or(!sign_in.is_strange())),
            managed,
            client: Some(sign_in.client.as_str()).filter(|client| !client.is_empty()),
            address: sign_in.address.as_deref(),
            platform: sign_in.platform.as_deref().or_else(|| self.platform(&input)),
            time: sign_in.time,
            service: Some(self.access.services()[attempt.service].id.as_str()),
            failing: state.failing,
            drift: None,
        });
        if let Some(person) = attempt.holder.and_then(|holder| holder.person) {
            evaluator.set_person(self.person_values(person, session.arena));
        }
        evaluator
    }

    /// Returns the platform that a device reports.
    fn platform<'a>(&self, input: &DeviceInput<'a>) -> Option<&'a str> {
        let layout = input.facts.layout();
        let slot = layout.slot(layout.child(crate::facts::layout::Layout::ROOT, PLATFORM)?)?;
        match input.facts.slot(slot).value {
            Value::Text(platform) => Some(platform),
            _ => None,
        }
    }
}

/// The fact that names a device's platform.
const PLATFORM: &str = "platform";

/// Returns the rules that have a running finding which no waiver covers.
pub fn failing_rules<'a>(findings: &[&Finding], at: Timestamp, arena: &'a Bump) -> &'a [&'a str] {
    let unwaived = findings.iter().filter(|finding| !finding.clock.is_waived(at));
    let rules = unwaived.filter_map(|finding| match &finding.subject {
        Subject::Rule(rule) => Some(&*arena.alloc_str(rule.as_str())),
        Subject::Silence | Subject::Uncovered => None,
    });
    let rules: Vec<&str> = rules.collect();
    arena.alloc_slice_copy(&rules)
}

/// Decides one sign-in, and says what became of every access rule that is enforced.
pub fn decide<'a>(set: &'a RuleSet, attempt: &Attempt<'a>, session: Session<'a>) -> Decision {
    decide_asking(set, attempt, session, |stage| stage == Stage::Enforced)
}

/// As [`decide`]; says also of rules that are not enforced what would become of them.
pub fn decide_and_explain<'a>(set: &'a RuleSet, attempt: &Attempt<'a>, session: Session<'a>) -> Decision {
    decide_asking(set, attempt, session, |_| true)
}

/// Decides one sign-in, and asks the rules of which `is_asked` holds; those that are not enforced decide nothing.
fn decide_asking<'a>(
    set: &'a RuleSet,
    attempt: &Attempt<'a>,
    session: Session<'a>,
    is_asked: impl Fn(Stage) -> bool,
) -> Decision {
    let access = set.access();
    let default = access.services()[attempt.service].default;
    let mut evaluator = set.access_evaluator(attempt, session);
    let mut deciding = DecidingRules::default();
    let mut uncertain = Vec::new();
    let mut steps = Vec::with_capacity(access.rules().len());
    for (index, rule) in access.rules().iter().enumerate() {
        let stage = rule.stage(session.at);
        let is_enforced = stage == Stage::Enforced;
        let applies =
            if is_asked(stage) { applies(rule, attempt, &mut evaluator) } else { Applies::No(StepResult::NotEnforced) };
        let mut counts = false;
        let result = match applies {
            Applies::No(result) => result,
            Applies::Yes => {
                let result = needs(rule, &mut evaluator);
                counts = is_enforced;
                if counts {
                    deciding.add(index, rule, result == StepResult::Met);
                }
                result
            }
            Applies::Perhaps(blames) => {
                if is_enforced {
                    uncertain.push((index, needs(rule, &mut evaluator) == StepResult::Met));
                }
                StepResult::Uncertain(blames)
            }
        };
        steps.push(Step { rule: index, stage, result, counts });
    }
    for (index, met) in uncertain {
        let rule = &access.rules()[index];
        // The stricter of with and without: a permit would only loosen a default of deny.
        let loosens = deciding.decides_nothing() && default == Effect::Deny && (met || rule.otherwise.permit);
        if !loosens {
            deciding.add(index, rule, met);
            steps[index].counts = true;
        }
    }
    deciding.into_decision(attempt, set, steps)
}

/// Returns what becomes of a rule that applies.
fn needs<'a>(rule: &'a AccessRule, evaluator: &mut Evaluator<'a>) -> StepResult {
    match evaluator.meets(&rule.needs) {
        Value::Boolean(true) => StepResult::Met,
        Value::Boolean(false) => StepResult::Unmet,
        _ => StepResult::NeedsUnknown,
    }
}

/// The access rules that apply to a sign-in, by what they yield.
#[derive(Default)]
struct DecidingRules {
    met: Vec<usize>,
    limiting: Vec<usize>,
    denying: Vec<usize>,
}

impl DecidingRules {
    fn add(&mut self, index: usize, rule: &AccessRule, met: bool) {
        let kind = match (met, rule.otherwise.permit) {
            (true, _) => &mut self.met,
            (false, true) => &mut self.limiting,
            (false, false) => &mut self.denying,
        };
        kind.push(index);
    }

    fn decides_nothing(&self) -> bool {
        self.met.is_empty() && self.limiting.is_empty() && self.denying.is_empty()
    }

    /// Returns the rules whose terms are yet to be accepted, each with the terms.
    fn open_terms<'a>(&self, attempt: &Attempt<'_>, set: &'a RuleSet) -> Vec<(usize, &'a Terms)> {
        let Some(holder) = attempt.holder else { return Vec::new() };
        let access = set.access();
        let asked = self.met.iter().chain(&self.limiting).filter_map(|rule| {
            let terms = &access.terms()[access.rules()[*rule].terms?];
            Some((*rule, terms))
        });
        let is_open = |(_, terms): &(usize, &'a Terms)| {
            let asks = terms.people.is_empty() || !matches!(is_one_of(&terms.people, Some(holder)), Membership::Out);
            asks && !has_accepted(holder, attempt.input.id, terms)
        };
        asked.filter(is_open).collect()
    }

    fn into_decision(self, attempt: &Attempt<'_>, set: &RuleSet, steps: Vec<Step>) -> Decision {
        let default = set.access.services()[attempt.service].default;
        let open_terms = self.open_terms(attempt, set);
        let (mut obligations, mut limiting) = (Vec::new(), self.limiting);
        limiting.sort_unstable();
        let (effect, mut rules) = if !self.denying.is_empty() {
            (Effect::Deny, self.denying)
        } else if !limiting.is_empty() {
            for otherwise in limiting.iter().map(|rule| &set.access.rules()[*rule].otherwise) {
                let limits = otherwise.limits.iter().cloned().map(Obligation::Limit);
                obligations.extend(limits.filter(|asked| !obligations.contains(asked)).collect::<Vec<_>>());
            }
            let steps_up = limiting.iter().any(|rule| set.access.rules()[*rule].otherwise.step_up);
            obligations.extend(steps_up.then_some(Obligation::StepUp));
            let more = open_terms.iter().map(|(rule, _)| *rule).filter(|rule| !limiting.contains(rule));
            let more: Vec<usize> = more.collect();
            limiting.extend(more);
            (Effect::Permit, limiting)
        } else if !open_terms.is_empty() {
            (Effect::Permit, open_terms.iter().map(|(rule, _)| *rule).collect())
        } else if !self.met.is_empty() {
            (Effect::Permit, self.met)
        } else {
            (default, Vec::new())
        };
        if effect == Effect::Permit {
            for (_, terms) in open_terms {
                let asked = Obligation::Terms(terms.id.to_string());
                if !obligations.contains(&asked) {
                    obligations.push(asked);
                }
            }
        }
        rules.sort_unstable();
        Decision { ruling: Ruling { effect, obligations }, rules, steps }
    }
}

/// Which condition of an access rule something is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AccessCondition {
    /// When it applies.
    When,
    /// What excuses from it.
    Unless,
    /// What it needs.
    Needs,
}

impl AccessCondition {
    /// Returns the key under which it is written.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::When => "when",
            Self::Unless => "unless",
            Self::Needs => "needs",
        }
    }
}

/// Returns the condition that decided what became of an access rule, with its evidence; none where none did.
pub fn step_evidence<'a>(
    set: &'a RuleSet,
    attempt: &Attempt<'a>,
    step: &Step,
    session: Session<'a>,
) -> Option<(AccessCondition, Evidence)> {
    let rule = &set.access().rules()[step.rule];
    let mut evaluator = set.access_evaluator(attempt, session);
    let is_open = |condition: &&'a Condition, evaluator: &mut Evaluator<'a>| {
        !matches!(evaluator.holds(condition), Value::Boolean(_))
    };
    let (which, condition) = match &step.result {
        StepResult::NotEnforced | StepResult::OtherService | StepResult::OtherPeople => return None,
        StepResult::NotNow => (AccessCondition::When, rule.when.as_ref()?),
        StepResult::Excused => (AccessCondition::Unless, rule.unless.as_ref()?),
        StepResult::Met | StepResult::Unmet | StepResult::NeedsUnknown => (AccessCondition::Needs, &rule.needs),
        StepResult::Uncertain(_) => {
            let when = rule.when.as_ref().filter(|when| is_open(when, &mut evaluator));
            let unless = rule.unless.as_ref().filter(|unless| is_open(unless, &mut evaluator));
            let when = when.map(|when| (AccessCondition::When, when));
            when.or(unless.map(|unless| (AccessCondition::Unless, unless)))?
        }
    };
    Some((which, evaluator.explain(condition, which == AccessCondition::Needs).1))
}

/// Returns whether somebody accepted terms on a device, in the version that is asked for.
pub(super) fn has_accepted(holder: &Holder<'_>, device: &str, terms: &Terms) -> bool {
    let accepted =
        |one: &Acceptance| one.device == device && one.terms == terms.id.as_str() && one.version == terms.version;
    holder.accepted.iter().any(accepted)
}

pub(super) enum Applies {
    Yes,
    No(StepResult),
    Perhaps(Vec<Blame>),
}

/// Returns whether a rule that is in force applies to a sign-in.
pub(super) fn applies<'a>(rule: &'a AccessRule, attempt: &Attempt<'a>, evaluator: &mut Evaluator<'a>) -> Applies {
    if !rule.services.contains(&attempt.service) {
        return Applies::No(StepResult::OtherService);
    }
    let mut doubts = Vec::new();
    match targets(rule, attempt.holder) {
        Membership::In => {}
        Membership::Out => return Applies::No(StepResult::OtherPeople),
        Membership::Unknown(reason) => doubts.push(Blame { fact: PERSON.to_owned(), reason }),
    }
    let mut ask = |condition: &'a Option<Condition>, without: bool| match condition {
        None => Some(without),
        // Whether a rule applies is scope: the last known value counts, at any age.
        Some(condition) => match evaluator.holds(condition) {
            Value::Boolean(truth) => Some(truth),
            _ => {
                evaluator.explain(condition, false).1.blames(&mut doubts);
                None
            }
        },
    };
    match (ask(&rule.when, true), ask(&rule.unless, false)) {
        (Some(false), _) => Applies::No(StepResult::NotNow),
        (_, Some(true)) => Applies::No(StepResult::Excused),
        (Some(true), Some(false)) if doubts.is_empty() => Applies::Yes,
        _ => Applies::Perhaps(doubts),
    }
}

/// What is named where it is not known to which people somebody belongs.
pub(super) const PERSON: &str = "person";

/// Returns whether somebody is one of those who are named.
pub(super) fn is_one_of(all: &[Whom], holder: Option<&Holder<'_>>) -> Membership {
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
}

pub(super) fn targets(rule: &AccessRule, holder: Option<&Holder<'_>>) -> Membership {
    let targeted = if rule.people.is_empty() { Membership::In } else { is_one_of(&rule.people, holder) };
    match (targeted, is_one_of(&rule.except, holder)) {
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
    use crate::diagnostic::Text;
    use crate::facts::value::Datum;
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
            assert_eq!((decided.ruling.effect, decided.rules), (default, vec![]));
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
            assert_eq!((decided.ruling.effect, decided.rules), (effect, vec![0]), "{standing:?}");
        }
        // Nobody's device is not targeted by a rule that names people.
        assert_eq!(decision(&compiled, &json!({}), None, Standing::Compliant).rules, [0; 0]);
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
        assert_eq!((decided.ruling.strictness(), decided.rules), (Strictness::Limited, vec![1, 2]));
        assert_eq!(
            decision(&compiled, &json!({"trusted": true}), None, Standing::Compliant).ruling.in_words(),
            "permit"
        );
        let mut with_deny = rules;
        with_deny.push(access("shut", "false"));
        let decided =
            decision(&compile(&set(Effect::Deny, with_deny)), &json!({"trusted": true}), None, Standing::Compliant);
        assert_eq!((decided.ruling.effect, decided.rules), (Effect::Deny, vec![3]));
    }

    #[test]
    fn what_is_unknown_never_opens_a_door() {
        // An unknown need is a deny that names the fact.
        let compiled = compile(&set(Effect::Deny, vec![access("need", "disk.encrypted")]));
        let decided = decision(&compiled, &json!({}), None, Standing::Compliant);
        assert_eq!(decided.ruling.effect, Effect::Deny);
        assert_eq!(decided.steps[0].result, StepResult::NeedsUnknown);
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
