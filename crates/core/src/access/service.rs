//! Services, and the rules about who reaches them.

use std::collections::HashMap;

use jiff::Timestamp;

use super::decision::Strictness;
use super::terms::{Terms, TermsSource};
use crate::condition::{Condition, Place, Vocabulary};
use crate::diagnostic::{Diagnostic, Named, Text, did_you_mean};
use crate::fleet::group::{GroupKind, Groups, Whom, resolve_whom};
use crate::id::{AccessRuleId, ServiceId, TermsId};
use crate::rules::rule::{Rule, Stage, stage_at};

/// Whether access is permitted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Effect {
    /// Access is permitted.
    Permit,
    /// Access is denied.
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

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        [Self::Permit, Self::Deny].into_iter().find(|effect| effect.as_str() == text)
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
    /// The sign-ins that views of the fleet judge.
    pub usual: Vec<SignIn>,
}

/// One attempt to sign in, as far as it is known; whatever is not said of the device is as the ledger has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SignIn {
    /// What reports call it; the client, where nothing else is said.
    pub id: String,
    /// The kind of client, such as an app or a browser.
    pub client: String,
    /// The address that it comes from.
    pub address: Option<String>,
    /// The platform that the client tells.
    pub platform: Option<String>,
    /// When it is made; none of a usual one, which is made at whatever moment is asked about.
    pub time: Option<Timestamp>,
    /// Whether the ledger knows the device. If it does not, every other fact of the device is missing.
    pub known: Option<bool>,
    /// Whether the device has an id of ours.
    pub registered: Option<bool>,
    /// Whether somebody looks after the device.
    pub managed: Option<bool>,
}

impl SignIn {
    /// Returns whether it is made with a device that the ledger does not know.
    pub fn is_strange(&self) -> bool {
        self.known == Some(false)
    }

    /// Creates a sign-in of which the client alone is known.
    pub fn of_client(client: &str) -> Self {
        Self { id: client.to_owned(), client: client.to_owned(), ..Self::default() }
    }
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
    /// From when on it is enforced; it is on trial until then.
    pub enforced_from: Option<Timestamp>,
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
    /// The terms that have to be accepted.
    pub terms: Option<Named>,
    /// What the person reads then.
    pub tell: Option<String>,
}

/// What an access rule yields when what it needs is not met.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Otherwise {
    /// Access is permitted all the same, with obligations.
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
    /// The sign-ins that views of the fleet judge.
    pub usual: Vec<SignIn>,
}

/// An access rule, ready to be asked.
#[derive(Clone, Debug)]
pub struct AccessRule {
    /// Its id.
    pub id: AccessRuleId,
    stage: Stage,
    enforced_from: Option<Timestamp>,
    /// What the person reads when it is not met.
    pub tell: Option<String>,
    pub(crate) services: Vec<usize>,
    pub(crate) people: Vec<Whom>,
    pub(crate) except: Vec<Whom>,
    pub(crate) when: Option<Condition>,
    pub(crate) unless: Option<Condition>,
    pub(crate) needs: Condition,
    pub(crate) otherwise: Otherwise,
    /// The terms that have to be accepted, by index.
    pub(crate) terms: Option<usize>,
}

impl AccessRule {
    /// Returns whether it is about a service, by index.
    pub fn is_about(&self, service: usize) -> bool {
        self.services.contains(&service)
    }

    /// Returns how far it is in force at a moment.
    pub fn stage(&self, at: Timestamp) -> Stage {
        stage_at(self.stage, self.enforced_from, at)
    }

    /// Returns the moment from which on it is enforced by itself, where it has one.
    pub fn enforced_from(&self) -> Option<Timestamp> {
        self.enforced_from.filter(|_| self.stage == Stage::Enforced)
    }

    pub(crate) fn conditions(&self) -> impl Iterator<Item = &Condition> {
        self.when.iter().chain(&self.unless).chain([&self.needs])
    }

    /// Returns whom it targets, and whom not.
    pub(crate) fn whom(&self) -> impl Iterator<Item = &Whom> {
        self.people.iter().chain(&self.except)
    }

    /// Returns whether it asks if a rule fails, or how the device stands where the rule has a say in that at a moment.
    pub fn hangs_on(&self, rule: &Rule, at: Timestamp) -> bool {
        let counts = rule.stage(at) == Stage::Enforced;
        self.conditions()
            .any(|condition| condition.asks_whether_fails(rule.id.as_str()) || counts && condition.asks_for_standing())
    }

    /// Returns its conditions, as written.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.conditions().map(Condition::as_str)
    }

    /// Returns how strict it is where what it needs is not met.
    pub fn unmet(&self) -> Strictness {
        if self.otherwise.permit { Strictness::Limited } else { Strictness::Denied }
    }

    /// Returns what holds where what it needs is not met, in words: `deny`, `permit with no download, step-up`.
    pub fn otherwise_in_words(&self) -> String {
        let Otherwise { permit, limits, step_up } = &self.otherwise;
        let asked: Vec<&str> = limits.iter().map(String::as_str).chain(step_up.then_some("step-up")).collect();
        if *permit { format!("permit with {}", asked.join(", ")) } else { Effect::Deny.as_str().to_owned() }
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
    terms: Vec<Terms>,
    /// What makes a device managed; a fresh observation, where nothing is said.
    managed: Option<Condition>,
    /// Some condition asks whether the device is managed.
    asks_managed: bool,
}

/// Services and access rules as written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct AccessSources<'s> {
    pub services: &'s [ServiceSource],
    pub rules: &'s [AccessSource],
    pub terms: &'s [TermsSource],
    pub managed: Option<&'s Text>,
}

impl AccessSet {
    /// Makes the selected access rules enforced from now on.
    pub(crate) fn enforce_now(&mut self, is_meant: impl Fn(&AccessRule) -> bool) {
        for rule in self.rules.iter_mut().filter(|rule| is_meant(rule)) {
            rule.stage = Stage::Enforced;
            rule.enforced_from = None;
        }
    }

    /// Returns the services in the order in which they are written.
    pub fn services(&self) -> &[Service] {
        &self.services
    }

    /// Returns the terms in the order in which they are written.
    pub fn terms(&self) -> &[Terms] {
        &self.terms
    }

    /// Returns the terms that an access rule asks for.
    pub fn terms_of(&self, rule: &AccessRule) -> Option<&Terms> {
        rule.terms.map(|at| &self.terms[at])
    }

    /// Returns the access rules in the order in which they are written.
    pub fn rules(&self) -> &[AccessRule] {
        &self.rules
    }

    /// Returns the condition that makes a device managed, where the workspace has one.
    pub(crate) fn managed(&self) -> Option<&Condition> {
        self.managed.as_ref()
    }

    /// Returns whether some access rule asks if the device is managed.
    pub(crate) fn asks_managed(&self) -> bool {
        self.asks_managed
    }

    /// Returns every condition of the access rules.
    pub(crate) fn conditions(&self) -> impl Iterator<Item = &Condition> {
        self.rules.iter().flat_map(AccessRule::conditions).chain(&self.managed)
    }

    pub(crate) fn compile(
        sources: AccessSources<'_>,
        groups: &Groups,
        vocabulary: &mut Vocabulary<'_>,
        mistakes: &mut Vec<Diagnostic>,
    ) -> Self {
        refuse_doubled_ids(sources, mistakes);
        let managed = sources.managed.and_then(|text| Condition::compile(text, Place::Devices, vocabulary, mistakes));
        let group_index = groups.all.iter().enumerate().map(|(at, group)| (group.id.as_str(), at)).collect();
        let group_kinds = groups.all.iter().map(|group| group.kind).collect();
        let mut compiler = AccessCompiler { sources, group_index, group_kinds, vocabulary, mistakes };
        let rules: Vec<AccessRule> = sources.rules.iter().filter_map(|source| compiler.rule(source)).collect();
        let terms = sources.terms.iter().map(|source| compiler.terms(source)).collect();
        let services = sources.services.iter().map(Service::of_source).collect();
        let asks_managed = rules.iter().flat_map(AccessRule::conditions).any(Condition::asks_managed);
        Self { services, rules, terms, managed, asks_managed }
    }
}

impl Service {
    fn of_source(source: &ServiceSource) -> Self {
        Self {
            id: ServiceId::new(source.id.text.as_str()),
            title: source.title.clone().unwrap_or_else(|| source.id.text.clone()),
            default: source.default,
            usual: source.usual.clone(),
        }
    }
}

/// Refuses services, access rules and terms that share an id with others of their kind.
fn refuse_doubled_ids(sources: AccessSources<'_>, mistakes: &mut Vec<Diagnostic>) {
    let AccessSources { services, rules, terms, .. } = sources;
    for (what, ids) in [
        ("services", services.iter().map(|one| &one.id).collect::<Vec<_>>()),
        ("access rules", rules.iter().map(|one| &one.id).collect()),
        ("terms", terms.iter().map(|one| &one.id).collect()),
    ] {
        let mut seen: HashMap<&str, &Named> = HashMap::new();
        for id in ids {
            if let Some(first) = seen.insert(&id.text, id) {
                let message = format!("two {what} are called `{}`", id.text);
                mistakes.push(
                    Diagnostic::error("doubled-id", message, id.span.clone())
                        .label("the second")
                        .note(first.span.clone(), "the first")
                        .help("give one of them another id"),
                );
            }
        }
    }
}

/// Compiles access rules and terms, and gathers the mistakes in them.
struct AccessCompiler<'c, 's, 'v> {
    sources: AccessSources<'s>,
    /// Positions of the groups, by id.
    group_index: HashMap<&'c str, usize>,
    group_kinds: Vec<GroupKind>,
    vocabulary: &'c mut Vocabulary<'v>,
    mistakes: &'c mut Vec<Diagnostic>,
}

impl AccessCompiler<'_, '_, '_> {
    /// Returns a rule; none where nothing can be told of what it needs.
    fn rule(&mut self, source: &AccessSource) -> Option<AccessRule> {
        if source.services.is_empty() {
            let message = format!("access rule `{}` is about no service", source.id.text);
            let mistake = Diagnostic::error("scope-for-nobody", message, source.id.span.clone());
            self.mistakes.push(mistake.help("name them in `services`"));
        }
        let terms = source.terms.as_ref().and_then(|named| self.find_terms(named));
        let services = source.services.iter().filter_map(|named| self.find_service(named)).collect();
        let people = source.people.iter().map(|named| self.whom(named)).collect();
        let except = source.except.iter().map(|named| self.whom(named)).collect();
        let (when, unless) = (self.condition(source.when.as_ref()), self.condition(source.unless.as_ref()));
        let needs = self.condition(source.needs.as_ref());
        if source.needs.is_none() {
            let message = format!("access rule `{}` needs nothing", source.id.text);
            self.mistakes.push(Diagnostic::error("no-requirement", message, source.id.span.clone()).help(
                "write what the device must meet as `needs`, such as 'standing in (\"compliant\", \"on-notice\")'",
            ));
        }
        Some(AccessRule {
            id: AccessRuleId::new(source.id.text.as_str()),
            stage: source.stage,
            enforced_from: source.enforced_from,
            tell: source.tell.clone(),
            services,
            people,
            except,
            when,
            unless,
            needs: needs?,
            otherwise: source.otherwise.clone(),
            terms,
        })
    }

    fn terms(&mut self, source: &TermsSource) -> Terms {
        Terms {
            id: TermsId::new(source.id.text.as_str()),
            title: source.title.clone().unwrap_or_else(|| source.id.text.clone()),
            version: source.version.clone(),
            people: source.people.iter().map(|named| self.whom(named)).collect(),
        }
    }

    fn whom(&mut self, named: &Named) -> Whom {
        resolve_whom(named, &self.group_index, &self.group_kinds, self.mistakes)
    }

    fn condition(&mut self, text: Option<&Text>) -> Option<Condition> {
        Condition::compile(text?, Place::Access, self.vocabulary, self.mistakes)
    }

    /// Returns the position of a service.
    fn find_service(&mut self, named: &Named) -> Option<usize> {
        let ids = self.sources.services.iter().map(|service| service.id.text.as_str());
        let found = ids.clone().position(|id| id == named.text);
        if found.is_none() {
            let help = did_you_mean(&named.text, ids, || "define it as a [[service]] in access.toml".to_owned());
            let message = format!("unknown service `{}`", named.text);
            self.mistakes.push(Diagnostic::error("unknown-service", message, named.span.clone()).help(help));
        }
        found
    }

    /// Returns the position of terms.
    fn find_terms(&mut self, named: &Named) -> Option<usize> {
        let ids = self.sources.terms.iter().map(|terms| terms.id.text.as_str());
        let found = ids.clone().position(|id| id == named.text);
        if found.is_none() {
            let help = did_you_mean(&named.text, ids, || "define them as [[terms]] in terms.toml".to_owned());
            let message = format!("unknown terms `{}`", named.text);
            self.mistakes.push(Diagnostic::error("unknown-terms", message, named.span.clone()).help(help));
        }
        found
    }
}
