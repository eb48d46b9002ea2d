//! Access: services, the rules about who reaches them, and the decision for one attempt.
//!
//! Every enforced access rule that targets the service and the person, and whose `when` holds and `unless`
//! does not, yields permit, permit with obligations, or deny. Deny overrides, obligations add up, and where
//! no rule applies the service's default holds. What is unknown never opens a door.

use std::collections::HashMap;

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::condition::{Ambient, Condition, Evaluator, Place, Vocabulary};
use crate::diagnostic::{Diagnostic, Text, did_you_mean};
use crate::evidence::{Blame, Evidence};
use crate::facts::Facts;
use crate::finding::{Finding, Phase, Subject};
use crate::group::{Groups, Membership, Whom, resolve_whom};
use crate::id::{AccessRuleId, ServiceId};
use crate::people::Holder;
use crate::rule::{Named, RuleSet, Stage};
use crate::standing::Standing;
use crate::value::Value;

/// Whether a door opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Effect {
    /// It opens.
    Permit,
    /// It stays shut.
    Deny,
}

impl Effect {
    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Permit => "permit",
            Self::Deny => "deny",
        }
    }
}

/// A service as written.
#[derive(Clone, Debug)]
pub struct ServiceSource {
    /// Its id.
    pub id: Named,
    /// What people call it.
    pub title: Option<String>,
    /// What holds when no access rule applies.
    pub default: Effect,
    /// The kinds of client that views of the fleet judge.
    pub usual: Vec<String>,
}

/// An access rule as written.
#[derive(Clone, Debug)]
pub struct AccessSource {
    /// Its id.
    pub id: Named,
    /// The services it is about.
    pub services: Vec<Named>,
    /// How far it is in force.
    pub stage: Stage,
    /// Groups or branches of people it targets; everybody, and devices without a holder, when empty.
    pub people: Vec<Named>,
    /// Groups or branches of people it does not target.
    pub except: Vec<Named>,
    /// When it applies.
    pub when: Option<Text>,
    /// What excuses from it.
    pub unless: Option<Text>,
    /// What it needs.
    pub needs: Option<Text>,
    /// What holds where that is not met.
    pub otherwise: Otherwise,
    /// What the person reads then.
    pub tell: Option<String>,
}

/// What an access rule yields when what it needs is not met.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Otherwise {
    /// The door opens all the same, with obligations.
    pub permit: bool,
    /// What may not be done, `no download`.
    pub limits: Vec<String>,
    /// The person must prove themselves again, more strongly (RFC 9470).
    pub step_up: bool,
}

/// A service.
#[derive(Clone, Debug)]
pub struct Service {
    /// Its id.
    pub id: ServiceId,
    /// What people call it.
    pub title: String,
    /// What holds when no access rule applies.
    pub default: Effect,
    /// The kinds of client that views of the fleet judge.
    pub usual: Vec<String>,
}

/// An access rule, ready to be asked.
#[derive(Clone, Debug)]
pub struct AccessRule {
    /// Its id.
    pub id: AccessRuleId,
    /// How far it is in force.
    pub stage: Stage,
    /// What the person reads when it is not met.
    pub tell: Option<String>,
    services: Vec<usize>,
    people: Vec<Whom>,
    except: Vec<Whom>,
    when: Option<Condition>,
    unless: Option<Condition>,
    needs: Condition,
    otherwise: Otherwise,
}

impl AccessRule {
    pub(crate) fn conditions(&self) -> impl Iterator<Item = &Condition> {
        self.when.iter().chain(&self.unless).chain([&self.needs])
    }

    /// Returns whom it targets, and whom not.
    pub(crate) fn whom(&self) -> impl Iterator<Item = &Whom> {
        self.people.iter().chain(&self.except)
    }

    /// Returns what it needs, as written.
    pub fn needs(&self) -> &str {
        self.needs.as_str().trim()
    }
}

/// The services and access rules of a workspace.
#[derive(Clone, Debug)]
pub struct AccessSet {
    services: Vec<Service>,
    rules: Vec<AccessRule>,
}

impl AccessSet {
    /// Returns the services in the order in which they are written.
    pub fn services(&self) -> &[Service] {
        &self.services
    }

    /// Returns the access rules in the order in which they are written.
    pub fn rules(&self) -> &[AccessRule] {
        &self.rules
    }

    pub(crate) fn compile(
        services: &[ServiceSource],
        rules: &[AccessSource],
        groups: &Groups,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Self {
        let index: HashMap<&str, usize> =
            groups.all.iter().enumerate().map(|(at, group)| (group.id.as_str(), at)).collect();
        let kinds: Vec<_> = groups.all.iter().map(|group| group.kind).collect();
        for (what, ids) in [
            ("services", services.iter().map(|one| &one.id).collect::<Vec<_>>()),
            ("access rules", rules.iter().map(|one| &one.id).collect()),
        ] {
            let mut seen: HashMap<&str, &Named> = HashMap::new();
            for id in ids {
                if let Some(first) = seen.insert(&id.text, id) {
                    mistakes.push(
                        Diagnostic::error(
                            "doubled-id",
                            format!("two {what} are called `{}`", id.text),
                            id.span.clone(),
                        )
                        .label("the second")
                        .note(first.span.clone(), "the first")
                        .help("give one of them another id"),
                    );
                }
            }
        }
        let find_service = |named: &Named, mistakes: &mut Vec<Diagnostic>| {
            let found = services.iter().position(|service| service.id.text == named.text);
            if found.is_none() {
                let help = did_you_mean(&named.text, services.iter().map(|service| service.id.text.as_str()), || {
                    "define it as a [[service]] in access.toml".to_owned()
                });
                mistakes.push(
                    Diagnostic::error(
                        "unknown-service",
                        format!("unknown service `{}`", named.text),
                        named.span.clone(),
                    )
                    .help(help),
                );
            }
            found
        };
        let mut made = Vec::new();
        for source in rules {
            if source.services.is_empty() {
                mistakes.push(
                    Diagnostic::error(
                        "scope-for-nobody",
                        format!("access rule `{}` is about no service", source.id.text),
                        source.id.span.clone(),
                    )
                    .help("name them in `services`"),
                );
            }
            let of = source.services.iter().filter_map(|named| find_service(named, mistakes)).collect();
            let mut whom = |named: &Named| resolve_whom(named, &index, &kinds, mistakes);
            let people = source.people.iter().map(&mut whom).collect();
            let except = source.except.iter().map(&mut whom).collect();
            let mut condition = |text: &Option<Text>| {
                text.as_ref().and_then(|text| Condition::compile(text, Place::Access, vocabulary, mistakes))
            };
            let (when, unless, needs) = (condition(&source.when), condition(&source.unless), condition(&source.needs));
            if source.needs.is_none() {
                mistakes.push(
                    Diagnostic::error("no-requirement", format!("access rule `{}` needs nothing", source.id.text), source.id.span.clone())
                        .help("write what the device must meet as `needs`, such as 'standing in (\"compliant\", \"on-notice\")'"),
                );
            }
            let Some(needs) = needs else { continue };
            made.push(AccessRule {
                id: AccessRuleId::new(source.id.text.as_str()),
                stage: source.stage,
                tell: source.tell.clone(),
                services: of,
                people,
                except,
                when,
                unless,
                needs,
                otherwise: source.otherwise.clone(),
            });
        }
        let services = services
            .iter()
            .map(|source| Service {
                id: ServiceId::new(source.id.text.as_str()),
                title: source.title.clone().unwrap_or_else(|| source.id.text.clone()),
                default: source.default,
                usual: source.usual.clone(),
            })
            .collect();
        Self { services, rules: made }
    }
}

/// One attempt to reach a service.
#[derive(Clone, Copy, Debug)]
pub struct Attempt<'a> {
    /// The device's facts.
    pub facts: &'a Facts<'a>,
    /// The device's memberships, worked out with its standing known.
    pub memberships: &'a [Value<'a>],
    /// The person; none on a device that nobody holds.
    pub holder: Option<&'a Holder<'a>>,
    /// How the device stands.
    pub standing: Standing,
    /// The rules that have a running finding on it.
    pub failing: &'a [&'a str],
    /// The service, by index.
    pub service: usize,
    /// The kind of client.
    pub client: &'a str,
}

/// What became of one access rule in a decision.
#[derive(Clone, Debug, PartialEq)]
pub enum StepResult {
    /// It is a draft or on trial.
    NotEnforced,
    /// It is about other services.
    OtherService,
    /// It does not target the person.
    OtherPeople,
    /// Its `when` does not hold.
    NotNow,
    /// Its `unless` holds.
    Excused,
    /// What it needs is met.
    Met,
    /// What it needs is not met.
    Unmet(Evidence),
    /// It is not known whether it applies; it counts where that is the stricter.
    Uncertain(Vec<Blame>),
}

/// One access rule in the explanation of a decision.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// The rule, by index.
    pub rule: usize,
    /// What became of it.
    pub result: StepResult,
}

/// The decision for one attempt.
#[derive(Clone, Debug, PartialEq)]
pub struct Decision {
    /// Whether the door opens.
    pub effect: Effect,
    /// What may not be done behind it.
    pub limits: Vec<String>,
    /// The person must prove themselves again.
    pub step_up: bool,
    /// The access rule that decided, by index; none when the default did.
    pub by: Option<usize>,
    /// What became of every rule.
    pub steps: Vec<Step>,
}

impl Decision {
    /// Returns how strict it is: 0 permit, 1 permit with obligations, 2 deny.
    pub fn strictness(&self) -> u8 {
        match self.effect {
            Effect::Deny => 2,
            Effect::Permit if self.step_up || !self.limits.is_empty() => 1,
            Effect::Permit => 0,
        }
    }

    /// Returns the decision in words: `permit`, `deny`, `permit with no download, step-up`.
    pub fn in_words(&self) -> String {
        if self.strictness() != 1 {
            return self.effect.as_str().to_owned();
        }
        let mut obligations = self.limits.clone();
        if self.step_up {
            obligations.push("step-up".to_owned());
        }
        format!("permit with {}", obligations.join(", "))
    }
}

/// What shuts a door, in a word of the contract.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LossCause {
    /// A finding is overdue.
    Finding,
    /// A silence is overdue.
    Silence,
    /// No enforced rule covers the device.
    Uncovered,
    /// The person belongs, or no longer belongs, to those whom a rule targets.
    Membership,
    /// A fact that the access rule asks for itself.
    Condition,
    /// The access rules or the rules were changed.
    RuleChanged,
}

impl LossCause {
    /// All causes.
    pub const ALL: [Self; 6] =
        [Self::Finding, Self::Silence, Self::Uncovered, Self::Membership, Self::Condition, Self::RuleChanged];

    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Finding => "finding",
            Self::Silence => "silence",
            Self::Uncovered => "uncovered",
            Self::Membership => "membership",
            Self::Condition => "condition",
            Self::RuleChanged => "rule-changed",
        }
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|cause| cause.as_str() == text)
    }

    /// Returns what shut the door of a decision on a device with these findings.
    pub fn of<'f>(
        decision: &Decision,
        set: &RuleSet,
        findings: impl IntoIterator<Item = &'f Finding>,
        at: Timestamp,
    ) -> Self {
        let Some(by) = decision.by else { return Self::Membership };
        if !set.access().rules()[by].needs.reads_standing() {
            return Self::Condition;
        }
        let (mut fails, mut silent) = (false, false);
        for finding in findings {
            if matches!(finding.phase(at), Phase::Overdue { .. }) {
                match finding.subject {
                    Subject::Rule(_) => fails = true,
                    Subject::Silence => silent = true,
                }
            }
        }
        match (fails, silent) {
            (true, _) => Self::Finding,
            (false, true) => Self::Silence,
            (false, false) => Self::Uncovered,
        }
    }
}

/// Decides one attempt, and says what became of every access rule.
pub fn decide<'a>(
    set: &'a RuleSet,
    attempt: &Attempt<'a>,
    at: Timestamp,
    zone: &'a TimeZone,
    arena: &'a Bump,
) -> Decision {
    let access = set.access();
    let service = &access.services[attempt.service];
    let mut evaluator = Evaluator::new(Some(attempt.facts), at, zone, arena);
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
        evaluator.set_person(set.person_values(person, arena));
    }
    let mut verdict = Weighing { effect: None, limits: Vec::new(), step_up: false, by: None };
    let mut uncertain = Vec::new();
    let mut steps = Vec::with_capacity(access.rules.len());
    for (index, rule) in access.rules.iter().enumerate() {
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
        let rule = &access.rules[index];
        // The stricter of with and without: a permit would only loosen a default of deny.
        let loosens = verdict.effect.is_none() && service.default == Effect::Deny && (met || rule.otherwise.permit);
        if !loosens {
            verdict.add(index, rule, met);
        }
    }
    Decision {
        effect: verdict.effect.unwrap_or(service.default),
        limits: verdict.limits,
        step_up: verdict.step_up,
        by: verdict.by,
        steps,
    }
}

struct Weighing {
    effect: Option<Effect>,
    limits: Vec<String>,
    step_up: bool,
    by: Option<usize>,
}

impl Weighing {
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

/// Returns the moments after `at` at which the clock alone can change the standing, ascending.
pub fn moments_ahead<'f>(findings: impl IntoIterator<Item = &'f Finding>, at: Timestamp) -> Vec<Timestamp> {
    let mut moments: Vec<Timestamp> = findings
        .into_iter()
        .filter(|finding| finding.is_running() && finding.due > at)
        .map(|finding| finding.due)
        .collect();
    moments.sort_unstable();
    moments.dedup();
    moments
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::Grounds;
    use crate::group::{GroupKind, GroupSource};
    use crate::id::PersonId;
    use crate::people::Person;
    use crate::rule::RuleSetSource;
    use crate::testing::{access, compile, decision, group, mistakes, names, service};
    use crate::value::Datum;
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
            assert_eq!((decided.effect, decided.by), (default, None));
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
            assert_eq!((decided.effect, decided.by), (effect, Some(0)), "{standing:?}");
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
        assert_eq!(decided.in_words(), "permit with no download, no print, step-up");
        assert_eq!((decided.strictness(), decided.by), (1, Some(1)));
        assert_eq!(decision(&compiled, &json!({"trusted": true}), None, Standing::Compliant).in_words(), "permit");
        let mut with_deny = rules;
        with_deny.push(access("shut", "false"));
        let decided =
            decision(&compile(&set(Effect::Deny, with_deny)), &json!({"trusted": true}), None, Standing::Compliant);
        assert_eq!((decided.effect, decided.by), (Effect::Deny, Some(3)));
    }

    #[test]
    fn what_is_unknown_never_opens_a_door() {
        // An unknown need is a deny that names the fact.
        let compiled = compile(&set(Effect::Deny, vec![access("need", "disk.encrypted")]));
        let decided = decision(&compiled, &json!({}), None, Standing::Compliant);
        assert_eq!(decided.effect, Effect::Deny);
        let StepResult::Unmet(evidence) = &decided.steps[0].result else { panic!("{decided:?}") };
        assert_eq!(Grounds::of(evidence).blames[0].fact, "disk.encrypted");
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
            assert_eq!(decided.effect, effect, "{default:?} {:?}", decided.steps);
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
        assert_eq!(decided.effect, Effect::Permit);
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
