//! What shuts or narrows the way to a service: the smallest set of things of which each has to change, and which together are enough.
//!
//! The parts of a condition that do not hold are looked at one by one. Of an `and` all of them have to change, of an `or` those are
//! named that need the fewest changes. A part that asks how the device stands is tried again without the findings that run.

use std::cell::RefCell;
use std::collections::HashMap;

use super::RuleSet;
use super::decide::{PERSON, Posture, decide, targets};
use super::session::Session;
use crate::access::cause::{Cause, CauseKind};
use crate::access::decision::{AccessState, Attempt, Decision, Step, StepResult};
use crate::access::service::{AccessRule, Effect};
use crate::condition::{Part, Requirement};
use crate::findings::finding::{Finding, Subject};
use crate::fleet::group::Membership;
use crate::rules::rule::Stage;

/// Something that can change.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Remedy {
    /// A finding that could be closed, by its position.
    Finding(usize),
    /// A rule that could cover the device, where none does and no finding says so: earlier versions opened none.
    Cover,
    /// A fact, or a group, that could be another.
    Fact { kind: CauseKind, path: Option<String> },
}

impl Remedy {
    /// Returns how much it weighs where one of two has to be chosen: how somebody signs in is not for anybody to mend.
    fn weight(&self) -> usize {
        match self {
            Self::Fact { path: Some(path), .. } if path.starts_with("signin.") || path.starts_with("service.") => {
                NOT_TO_BE_MENDED
            }
            Self::Fact { kind: CauseKind::Condition, path: None } => NOT_TO_BE_MENDED,
            Self::Finding(_) | Self::Cover | Self::Fact { .. } => 1,
        }
    }
}

/// The weight of what nobody can mend.
const NOT_TO_BE_MENDED: usize = 1_000;

fn weight(fixes: &[(usize, Remedy)]) -> usize {
    fixes.iter().map(|(_, fix)| fix.weight()).sum()
}

/// Returns what would have to change for a decision to permit without obligations, or, where it denies, to permit. Nothing where it
/// already does. `posture` is what the standing of the device follows from.
pub fn find_causes<'a>(
    set: &'a RuleSet,
    attempt: &Attempt<'a>,
    decision: &Decision,
    posture: Posture<'_>,
    session: Session<'a>,
) -> Vec<Cause> {
    let finder = CauseFinder { set, attempt, running: posture.running, posture, session, states: RefCell::default() };
    finder.causes(decision)
}

/// Returns what would have to change for one access rule, whether or not it counts: so that what it needs is met, or so that it is
/// known whether it applies. Nothing where it does not apply, or is met.
pub fn find_causes_of_rule<'a>(
    set: &'a RuleSet,
    attempt: &Attempt<'a>,
    step: &Step,
    posture: Posture<'_>,
    session: Session<'a>,
) -> Vec<Cause> {
    let finder = CauseFinder { set, attempt, running: posture.running, posture, session, states: RefCell::default() };
    let fixes = match &step.result {
        StepResult::Unmet | StepResult::NeedsUnknown => finder.fewest(&[finder.needs_of(step.rule)]),
        StepResult::Uncertain(_) => doubts_of(step),
        _ => Vec::new(),
    };
    fixes.iter().map(|(rule, fix)| finder.cause(fix, *rule)).collect()
}

/// Returns what is not known of whether a rule applies.
fn doubts_of(step: &Step) -> Vec<(usize, Remedy)> {
    match &step.result {
        StepResult::Uncertain(blames) => blames.iter().map(|blame| (step.rule, fix_of_fact(&blame.fact))).collect(),
        _ => Vec::new(),
    }
}

struct CauseFinder<'f, 'a> {
    set: &'a RuleSet,
    attempt: &'f Attempt<'a>,
    /// The findings of the device that run.
    running: &'f [&'f Finding],
    posture: Posture<'f>,
    session: Session<'a>,
    /// How the device stands without some of its findings, by which of them and whether a rule covers it then.
    states: RefCell<HashMap<(Vec<usize>, bool), AccessState<'a>>>,
}

/// What a rule asks for, with how it is asked.
struct AskedRule<'a> {
    /// The access rule, by index.
    rule: usize,
    requirement: Requirement<'a>,
    /// As in [`crate::Evaluator::meets`].
    strict: bool,
}

/// No more things that could change than this are tried in all ways; of more, each that is not needed is left out in turn.
const MOST_TRIED_IN_ALL_WAYS: usize = 10;

impl<'a> CauseFinder<'_, 'a> {
    fn causes(&self, decision: &Decision) -> Vec<Cause> {
        if decision.ruling.effect == Effect::Permit && decision.ruling.obligations.is_empty() {
            return Vec::new();
        }
        if decision.rules.is_empty() {
            return self.causes_of_default();
        }
        let mut asked: Vec<AskedRule<'a>> = decision.rules.iter().map(|rule| self.needs_of(*rule)).collect();
        let mut fixes = self.fewest(&asked);
        // With its findings closed, a device may come under rules that did not apply before.
        if fixes.iter().any(|(_, fix)| !matches!(fix, Remedy::Fact { .. })) {
            let attempt = Attempt { state: self.state_after(fixes.iter().map(|(_, fix)| fix)), ..*self.attempt };
            let then = decide(self.set, &attempt, self.session);
            if then.ruling.effect == decision.ruling.effect {
                let more = then.rules.iter().filter(|rule| !decision.rules.contains(rule));
                let before = asked.len();
                asked.extend(more.map(|rule| self.needs_of(*rule)));
                if asked.len() > before {
                    fixes = self.fewest(&asked);
                }
            }
        }
        for (rule, fix) in self.doubts(decision) {
            if !fixes.iter().any(|(_, known)| *known == fix) {
                fixes.push((rule, fix));
            }
        }
        let mut causes: Vec<Cause> = fixes.iter().map(|(rule, fix)| self.cause(fix, *rule)).collect();
        causes.extend(self.open_terms(decision));
        causes
    }

    /// Returns the terms that are yet to be accepted.
    fn open_terms(&self, decision: &Decision) -> Vec<Cause> {
        let access = self.set.access();
        let asks = |terms: &str| {
            let asked =
                |rule: &&usize| access.rules()[**rule].terms.is_some_and(|at| access.terms()[at].id.as_str() == terms);
            decision.rules.iter().find(asked)
        };
        let cause = |terms: &str| Cause {
            fact: Some(terms.to_owned()),
            access_rule: asks(terms).map(|rule| access.rules()[*rule].id.to_string()),
            ..Cause::of_kind(CauseKind::Terms)
        };
        decision.ruling.open_terms().map(cause).collect()
    }

    fn needs_of(&self, rule: usize) -> AskedRule<'a> {
        let requirement = self.set.access().rules()[rule].needs.requirement(true);
        AskedRule { rule, requirement, strict: true }
    }

    /// Returns what is not known of whether rules apply, where what they need is met and nothing else would open the way.
    fn doubts(&self, decision: &Decision) -> Vec<(usize, Remedy)> {
        let default = self.set.access().services()[self.attempt.service].default;
        if default == Effect::Permit || decision.steps.iter().any(|step| step.counts && step.result == StepResult::Met)
        {
            return Vec::new();
        }
        let mut doubts = Vec::new();
        for rule in &decision.rules {
            doubts.extend(doubts_of(&decision.steps[*rule]));
        }
        doubts
    }

    /// Returns what would have to change where no access rule applies and the service's default denies: that for which the
    /// fewest changes are needed of the rules that are for this person; where there is none, no rule is.
    fn causes_of_default(&self) -> Vec<Cause> {
        let rules = self.set.access().rules().iter().enumerate();
        let in_force = rules.filter(|(_, rule)| rule.stage(self.session.at) == Stage::Enforced);
        let of_service = in_force.filter(|(_, rule)| rule.services.contains(&self.attempt.service));
        let alternatives = of_service.filter_map(|(at, rule)| self.fixes_of_application(at, rule));
        let mendable = alternatives.filter(|fixes| !fixes.is_empty() && weight(fixes) < NOT_TO_BE_MENDED);
        match mendable.min_by_key(|fixes| weight(fixes)) {
            Some(fixes) => fixes.iter().map(|(rule, fix)| self.cause(fix, *rule)).collect(),
            None => vec![Cause::of_kind(CauseKind::Default)],
        }
    }

    /// Returns what would have to change for a rule to apply and be met; none of one that is for other people.
    fn fixes_of_application(&self, at: usize, rule: &'a AccessRule) -> Option<Vec<(usize, Remedy)>> {
        let mut asked = Vec::new();
        for (condition, wanted) in [(&rule.when, true), (&rule.unless, false)] {
            let requirement = condition.as_ref().map(|condition| condition.requirement(wanted));
            asked.extend(requirement.map(|requirement| AskedRule { rule: at, requirement, strict: false }));
        }
        if !rule.otherwise.permit {
            asked.push(self.needs_of(at));
        }
        let unknown = match targets(rule, self.attempt.holder) {
            Membership::Out => return None,
            Membership::In => None,
            Membership::Unknown(_) => Some((at, fix_of_fact(PERSON))),
        };
        Some(unknown.into_iter().chain(self.fewest(&asked)).collect())
    }

    /// Returns the fewest changes with which everything that is asked is met, each with the first rule that asks for it.
    fn fewest(&self, asked: &[AskedRule<'a>]) -> Vec<(usize, Remedy)> {
        let (mut known, mut all) = (Vec::new(), Vec::new());
        for AskedRule { rule, requirement, strict } in asked {
            let mut own = Vec::new();
            self.add_fixes(requirement, *strict, &mut own);
            all.extend(own.into_iter().filter(|fix| !known.contains(fix)).map(|fix| (*rule, fix)).collect::<Vec<_>>());
            known = all.iter().map(|(_, fix): &(usize, Remedy)| fix.clone()).collect();
        }
        // Mostly there are no alternatives: what is not enough without one of them needs it.
        let without = |at: usize| -> Vec<(usize, Remedy)> {
            all.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, fix)| fix.clone()).collect()
        };
        let (needed, optional): (Vec<usize>, Vec<usize>) =
            (0..all.len()).partition(|at| !self.is_enough(asked, &without(*at)));
        let with = |which: u32| -> Vec<(usize, Remedy)> {
            let chosen = optional.iter().enumerate().filter(|(at, _)| which & (1 << at) != 0).map(|(_, at)| *at);
            let mut places: Vec<usize> = needed.iter().copied().chain(chosen).collect();
            places.sort_unstable();
            places.into_iter().map(|at| all[at].clone()).collect()
        };
        let least = with(0);
        if self.is_enough(asked, &least) {
            return least;
        }
        if optional.len() <= MOST_TRIED_IN_ALL_WAYS {
            let mut ways: Vec<Vec<(usize, Remedy)>> = (1..1_u32 << optional.len()).map(with).collect();
            ways.sort_by_key(|fixes| weight(fixes));
            if let Some(fewest) = ways.into_iter().find(|fixes| self.is_enough(asked, fixes)) {
                return fewest;
            }
        }
        for at in (0..all.len()).rev() {
            let left_out = all.remove(at);
            if !self.is_enough(asked, &all) {
                all.insert(at, left_out);
            }
        }
        all
    }

    /// Adds everything that could change so that parts of a requirement are met which are not.
    fn add_fixes(&self, requirement: &Requirement<'a>, strict: bool, fixes: &mut Vec<Remedy>) {
        match requirement {
            Requirement::All(parts) | Requirement::Any(parts) => {
                parts.iter().for_each(|part| self.add_fixes(part, strict, fixes));
            }
            Requirement::Part(part) if self.holds(*part, strict, self.attempt.state) => {}
            Requirement::Part(part) => {
                for fix in self.fixes_of_part(*part, strict) {
                    if !fixes.contains(&fix) {
                        fixes.push(fix);
                    }
                }
            }
        }
    }

    /// Returns whether everything that is asked is met once the fixes are made.
    fn is_enough(&self, asked: &[AskedRule<'a>], fixes: &[(usize, Remedy)]) -> bool {
        let state = self.state_after(fixes.iter().map(|(_, fix)| fix));
        asked.iter().all(|asked| self.is_met(&asked.requirement, asked.strict, state, fixes))
    }

    fn is_met(
        &self,
        requirement: &Requirement<'a>,
        strict: bool,
        state: AccessState<'a>,
        fixes: &[(usize, Remedy)],
    ) -> bool {
        match requirement {
            Requirement::All(parts) => parts.iter().all(|part| self.is_met(part, strict, state, fixes)),
            Requirement::Any(parts) => parts.iter().any(|part| self.is_met(part, strict, state, fixes)),
            Requirement::Part(part) => {
                self.holds(*part, strict, state)
                    || self.fixes_of_part(*part, strict).iter().all(|fix| fixes.iter().any(|(_, made)| made == fix))
            }
        }
    }

    fn fixes_of_part(&self, part: Part<'a>, strict: bool) -> Vec<Remedy> {
        let asks_findings = part.asks_findings() || !part.groups().is_empty() && self.set.groups_read_standing();
        if asks_findings {
            let is_bare = !self.posture.covered && self.running.iter().all(|it| it.subject != Subject::Uncovered);
            let mut fixes: Vec<Remedy> = (0..self.running.len()).map(Remedy::Finding).collect();
            fixes.extend(is_bare.then_some(Remedy::Cover));
            if self.holds(part, strict, self.state_after(&fixes)) {
                // Whatever may stay as it is is left out.
                for at in (0..fixes.len()).rev() {
                    let left_out = fixes.remove(at);
                    if !self.holds(part, strict, self.state_after(&fixes)) {
                        fixes.insert(at, left_out);
                    }
                }
                return fixes;
            }
        }
        if part.asks_managed() && !self.is_managed() {
            let kind = match self.set.access().managed() {
                Some(_) => CauseKind::Certificate,
                None => CauseKind::Condition,
            };
            return vec![Remedy::Fact { kind, path: Some("device.managed".to_owned()) }];
        }
        let groups = part.groups().into_iter().map(|group| self.set.groups.all[group].id.to_string());
        let mut fixes: Vec<Remedy> =
            groups.map(|group| Remedy::Fact { kind: CauseKind::Membership, path: Some(group) }).collect();
        let kind = CauseKind::Condition;
        let facts = part.facts().into_iter().filter(|fact| fact != "standing");
        fixes.extend(facts.map(|fact| Remedy::Fact { kind, path: Some(fact) }));
        if fixes.is_empty() {
            fixes.push(Remedy::Fact { kind, path: None });
        }
        fixes
    }

    fn is_managed(&self) -> bool {
        let told = self.attempt.sign_in.managed;
        told.unwrap_or_else(|| self.set.is_managed(&self.attempt.input, self.session))
    }

    fn holds(&self, part: Part<'a>, strict: bool, state: AccessState<'a>) -> bool {
        let mut evaluator = self.set.access_evaluator(&Attempt { state, ..*self.attempt }, self.session);
        evaluator.holds_part(part, strict) == Some(true)
    }

    /// Returns how the device would stand once the fixes of findings are made.
    fn state_after<'x>(&self, fixes: impl IntoIterator<Item = &'x Remedy>) -> AccessState<'a> {
        // A device that the ledger does not know has no findings.
        if self.attempt.state.standing.is_none() {
            return self.attempt.state;
        }
        let (mut closed, mut covered) = (Vec::new(), self.posture.covered);
        for fix in fixes {
            match fix {
                Remedy::Finding(at) => {
                    closed.push(*at);
                    covered |= self.running[*at].subject == Subject::Uncovered;
                }
                Remedy::Cover => covered = true,
                Remedy::Fact { .. } => {}
            }
        }
        closed.sort_unstable();
        let key = (closed, covered);
        if let Some(known) = self.states.borrow().get(&key) {
            return *known;
        }
        let closed = &key.0;
        let left = self.running.iter().enumerate().filter(|(at, _)| !closed.contains(at)).map(|(_, finding)| *finding);
        let left: Vec<&Finding> = left.collect();
        let posture = Posture { running: &left, covered, ..self.posture };
        let state = self.set.access_state(&self.attempt.input, posture, self.session);
        self.states.borrow_mut().insert(key, state);
        state
    }

    fn cause(&self, fix: &Remedy, rule: usize) -> Cause {
        let access_rule = Some(self.set.access().rules()[rule].id.to_string());
        match fix {
            Remedy::Finding(at) => {
                let (finding, at) = (self.running[*at], self.session.at);
                let kind = match finding.clock.is_overdue_by_end_of_waiver(at) {
                    true => CauseKind::WaiverEnded,
                    false => finding.subject.cause_kind(),
                };
                Cause {
                    access_rule,
                    rule: Some(finding.subject.as_str().to_owned()),
                    opened: Some(finding.clock.opened),
                    due: Some(finding.clock.due_at(at)),
                    ..Cause::of_kind(kind)
                }
            }
            Remedy::Cover => Cause { access_rule, ..Cause::of_kind(CauseKind::Uncovered) },
            Remedy::Fact { kind, path } => Cause { access_rule, fact: path.clone(), ..Cause::of_kind(*kind) },
        }
    }
}

/// Returns the change of a fact that is not known.
fn fix_of_fact(fact: &str) -> Remedy {
    let kind = if fact == PERSON { CauseKind::Membership } else { CauseKind::Condition };
    Remedy::Fact { kind, path: Some(fact.to_owned()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::service::{AccessSource, Otherwise};
    use crate::diagnostic::Text;
    use crate::findings::clock::FindingClock;
    use crate::findings::standing::Uncovered;
    use crate::fleet::people::Person;
    use crate::id::FindingId;
    use crate::rule_set::RuleSetSource;
    use crate::testing::{access, compile, moment, names, on_device, rule, service};
    use jiff::Timestamp;
    use proptest::prelude::*;
    use serde_json::{Value as Json, json};

    const NOW: &str = "2027-03-14T06:00:00Z";

    fn finding(subject: &str, due: &str) -> Finding {
        let opened: Timestamp = moment("2027-03-01T06:00:00Z");
        let clock = FindingClock::running(opened, moment(due));
        Finding::first_seen(FindingId::of_number(1), "d1".into(), Subject::parse(subject), clock)
    }

    fn overdue(subject: &str) -> Finding {
        finding(subject, "2027-03-02T06:00:00Z")
    }

    /// A sign-in that a test asks about.
    struct Case<'c> {
        source: &'c RuleSetSource,
        document: Json,
        person: Option<Person>,
        findings: Vec<Finding>,
    }

    impl Case<'_> {
        fn decided(&self) -> (Decision, Vec<Cause>) {
            let set = compile(self.source);
            on_device(&set, &self.document, self.person.as_ref(), |set, input, zone, arena| {
                let session = Session::new(moment(NOW), zone, arena);
                let running: Vec<&Finding> = self.findings.iter().collect();
                let posture = Posture { running: &running, covered: true, uncovered: Uncovered::Unproven };
                let state = set.access_state(input, posture, session);
                let sign_in = &set.access().services()[0].usual[0];
                let holder = input.holders.first();
                let attempt = Attempt { input: *input, state, holder, service: 0, sign_in };
                let decision = decide(set, &attempt, session);
                let causes = find_causes(set, &attempt, &decision, posture, session);
                (decision, causes)
            })
        }
    }

    fn source(default: Effect, access: Vec<AccessSource>) -> RuleSetSource {
        let rules = ["r1", "r2", "r3"].map(|id| rule(id, "fine"));
        RuleSetSource {
            services: vec![service("mail", default)],
            access,
            rules: rules.into(),
            ..RuleSetSource::default()
        }
    }

    fn told(causes: &[Cause]) -> String {
        let one = |cause: &Cause| {
            let what = cause.rule.as_deref().or(cause.fact.as_deref()).unwrap_or("-");
            format!("{} {what} by {}", cause.kind.as_str(), cause.access_rule.as_deref().unwrap_or("-"))
        };
        causes.iter().map(one).collect::<Vec<_>>().join(", ")
    }

    fn causes_of(source: &RuleSetSource, document: Json, findings: Vec<Finding>) -> String {
        told(&Case { source, document, person: None, findings }.decided().1)
    }

    #[test]
    fn findings_silence_and_facts_are_named_where_they_shut_the_way() {
        let good = access("good", "standing in (\"compliant\", \"on-notice\")");
        let deny = |rules: Vec<AccessSource>| source(Effect::Deny, rules);
        let set = deny(vec![good.clone()]);
        let running = vec![overdue("r1"), finding("r2", "2027-04-01T06:00:00Z"), overdue("silence")];
        // What only puts the device on notice does not shut it out.
        assert_eq!(causes_of(&set, json!({}), running), "finding r1 by good, silence silence by good");
        assert_eq!(causes_of(&set, json!({}), vec![]), "");
        let strict = deny(vec![good.clone(), access("disk", "disk.encrypted and not(failing(\"r2\"))")]);
        let running = vec![overdue("r1"), finding("r2", "2027-04-01T06:00:00Z")];
        assert_eq!(
            causes_of(&strict, json!({ "disk": { "encrypted": false } }), running),
            "finding r1 by good, condition disk.encrypted by disk, finding r2 by disk"
        );
        // An alternative that needs less is told alone.
        let either = deny(vec![access("either", "(not(failing(\"r1\")) and not(failing(\"r2\"))) or key.present")]);
        assert_eq!(
            causes_of(&either, json!({}), vec![overdue("r1"), overdue("r2")]),
            "condition key.present by either"
        );
        let managed = deny(vec![access("managed", "device.managed")]);
        assert_eq!(causes_of(&managed, json!({}), vec![]), "");
        let with = RuleSetSource { managed: Some(Text::loose("cert.ends > now()")), ..managed };
        assert_eq!(
            causes_of(&with, json!({ "cert": { "ends": "2027-03-01T00:00:00Z" } }), vec![]),
            "certificate device.managed by managed"
        );
    }

    #[test]
    fn where_no_rule_applies_the_nearest_that_would_is_named() {
        let when = |id: &str, when: &str| AccessSource { when: Some(Text::loose(when)), ..access(id, "true") };
        let rules =
            vec![when("far", "docked and moored"), when("near", "docked"), when("web", "signin.client = \"web\"")];
        assert_eq!(
            causes_of(&source(Effect::Deny, rules), json!({ "docked": false }), vec![]),
            "condition docked by near"
        );
        let others = AccessSource { people: names(&["office"]), ..access("office", "true") };
        let person = |unit: Json| Person { id: "p".into(), facts: crate::testing::datum(&json!({ "unit": unit })) };
        let set = source(Effect::Deny, vec![others]);
        let case = |unit| Case { source: &set, document: json!({}), person: Some(person(unit)), findings: vec![] };
        assert_eq!(told(&case(json!("ships")).decided().1), "default - by -");
        assert_eq!(told(&case(json!(null)).decided().1), "membership person by office");
        assert_eq!(told(&case(json!("office")).decided().1), "");
    }

    /// A condition in which mending never makes anything worse.
    fn needs() -> impl Strategy<Value = String> {
        let part = prop_oneof![
            Just("a".to_owned()),
            Just("b".to_owned()),
            Just("c = true".to_owned()),
            Just("standing = \"compliant\"".to_owned()),
            Just("standing in (\"compliant\", \"on-notice\")".to_owned()),
            Just("standing != \"non-compliant\"".to_owned()),
            Just("not(failing(\"r1\"))".to_owned()),
            Just("not(failing(\"r2\"))".to_owned()),
        ];
        part.prop_recursive(3, 12, 3, |inner| {
            (proptest::collection::vec(inner, 2..4), any::<bool>())
                .prop_map(|(parts, all)| format!("({})", parts.join(if all { " and " } else { " or " })))
        })
    }

    fn access_rules() -> impl Strategy<Value = Vec<AccessSource>> {
        let otherwise = prop_oneof![
            3 => Just(Otherwise::default()),
            1 => Just(Otherwise { permit: true, limits: vec!["no print".into()], step_up: false }),
        ];
        proptest::collection::vec((needs(), otherwise), 1..4).prop_map(|all| {
            let rule = |(at, (needs, otherwise)): (usize, (String, Otherwise))| AccessSource {
                otherwise,
                ..access(&format!("x{at}"), &needs)
            };
            all.into_iter().enumerate().map(rule).collect()
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]
        #[test]
        fn doing_what_the_causes_name_opens_the_way_and_leaving_one_out_does_not(
            rules in access_rules(),
            facts in proptest::collection::vec(proptest::option::of(any::<bool>()), 3),
            running in proptest::sample::subsequence(vec!["r1", "r2", "r3", "silence"], 0..=4),
            due in proptest::collection::vec(any::<bool>(), 4),
        ) {
            let source = source(Effect::Deny, rules);
            let document = |facts: &[Option<bool>]| {
                let named = ["a", "b", "c"].into_iter().zip(facts);
                Json::Object(named.filter_map(|(path, fact)| Some((path.to_owned(), json!((*fact)?)))).collect())
            };
            let findings: Vec<Finding> = running.iter().zip(&due).map(|(subject, is_overdue)| {
                if *is_overdue { overdue(subject) } else { finding(subject, "2027-04-01T06:00:00Z") }
            }).collect();
            let case = Case { source: &source, document: document(&facts), person: None, findings: findings.clone() };
            let (decision, causes) = case.decided();
            prop_assert_eq!(causes.is_empty(), decision.ruling.strictness() == crate::Strictness::Permitted);
            let after = |mended: &[&Cause]| {
                let is_closed = |finding: &Finding| mended.iter().any(|it| it.rule.as_deref() == Some(finding.subject.as_str()));
                let named = |path: &str| mended.iter().any(|it| it.fact.as_deref() == Some(path));
                let facts: Vec<Option<bool>> = ["a", "b", "c"].iter().zip(&facts)
                    .map(|(path, fact)| if named(path) { Some(true) } else { *fact }).collect();
                let findings = findings.iter().filter(|finding| !is_closed(finding)).cloned().collect();
                Case { source: &source, document: document(&facts), person: None, findings }.decided().0.ruling
            };
            // A denial is over when the way is open at all; its obligations are told then.
            let is_back = |ruling: &crate::Ruling| match decision.ruling.effect {
                Effect::Deny => ruling.effect == Effect::Permit,
                Effect::Permit => ruling.obligations.is_empty(),
            };
            let all: Vec<&Cause> = causes.iter().collect();
            if !causes.is_empty() {
                prop_assert!(is_back(&after(&all)), "{:?} is not enough", told(&causes));
            }
            for left_out in 0..all.len() {
                let but_one: Vec<&Cause> = all.iter().enumerate().filter(|(at, _)| *at != left_out).map(|(_, it)| *it).collect();
                prop_assert!(!is_back(&after(&but_one)), "{:?} without {left_out} is enough", told(&causes));
            }
        }
    }
}
