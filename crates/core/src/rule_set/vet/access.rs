//! Holes in the access rules: sign-ins that none of them meets, exceptions that leave somebody without any rule, emergency accounts that are
//! shut out, and denials that tell nobody what to do.

use std::collections::BTreeMap;

use super::MOST_LOOKED_UP;
use crate::access::decision::{AccessState, Attempt};
use crate::access::service::{AccessRule, Effect, Service, SignIn};
use crate::diagnostic::{Diagnostic, Span};
use crate::facts::merge::merge;
use crate::fleet::group::Membership;
use crate::fleet::people::Holder;
use crate::rule_set::decide::{Applies, applies, is_one_of, targets};
use crate::rule_set::{RuleSet, RuleSetSource, Session};
use crate::rules::rule::Stage;
use crate::rules::verdict::DeviceInput;

/// With which kind of device somebody signs in.
struct DeviceKind {
    words: &'static str,
    known: bool,
    registered: bool,
    managed: bool,
}

const KINDS: [DeviceKind; 4] = [
    DeviceKind { words: "a managed device", known: true, registered: true, managed: true },
    DeviceKind { words: "a device that is not managed", known: true, registered: true, managed: false },
    DeviceKind { words: "a device that is not registered", known: true, registered: false, managed: false },
    DeviceKind { words: "a strange device", known: false, registered: false, managed: false },
];

impl RuleSet {
    /// Reports probable gaps in the access rules. `people` are the persons of the people list.
    pub fn vet_access(&self, source: &RuleSetSource, people: &[Holder<'_>], session: Session<'_>) -> Vec<Diagnostic> {
        let vet = AccessVet { rules: self, source, people, session };
        let mut told = Vec::new();
        for (at, service) in self.access().services().iter().enumerate() {
            vet.tell_unmet(at, service, &mut told);
            vet.tell_excepted(at, service, &mut told);
        }
        vet.tell_emergency(&mut told);
        vet.tell_silent_denials(&mut told);
        told
    }
}

struct AccessVet<'v> {
    rules: &'v RuleSet,
    source: &'v RuleSetSource,
    people: &'v [Holder<'v>],
    session: Session<'v>,
}

impl<'v> AccessVet<'v> {
    fn place(&self, rule: &AccessRule) -> Option<Span> {
        let source = self.source.access.iter().find(|source| source.id.text == rule.id.as_str());
        source.and_then(|source| source.id.span.clone())
    }

    fn place_of_service(&self, service: &Service) -> Option<Span> {
        let source = self.source.services.iter().find(|source| source.id.text == service.id.as_str());
        source.and_then(|source| source.id.span.clone())
    }

    /// The enforced access rules about a service.
    fn rules_of(&self, service: usize) -> impl Iterator<Item = &'v AccessRule> {
        let (rules, at) = (self.rules.access().rules(), self.session.at);
        rules.iter().filter(move |rule| rule.is_about(service) && rule.stage(at) == Stage::Enforced)
    }

    /// Returns one person for each distinct set of access rules that target somebody; `None` if no people are listed.
    fn kinds_of_people(&self) -> Vec<Option<&'v Holder<'v>>> {
        let mut kinds: BTreeMap<Vec<u8>, &'v Holder<'v>> = BTreeMap::new();
        for holder in self.people {
            let rules = self.rules.access().rules().iter();
            let whom = rules.map(|rule| match targets(rule, Some(holder)) {
                Membership::In => 0,
                Membership::Out => 1,
                Membership::Unknown(_) => 2,
            });
            kinds.entry(whom.collect()).or_insert(holder);
        }
        if kinds.is_empty() { vec![None] } else { kinds.into_values().map(Some).collect() }
    }

    fn tell_unmet(&self, service: usize, about: &Service, told: &mut Vec<Diagnostic>) {
        // A service without rules is meant to be decided by its default.
        if self.rules_of(service).next().is_none() {
            return;
        }
        let kinds = self.kinds_of_people();
        let mut clients: Vec<&str> = about.usual.iter().map(|usual| usual.client.as_str()).collect();
        clients.sort_unstable();
        clients.dedup();
        for client in clients {
            let mut unmet: Vec<&str> = Vec::new();
            let mut all = true;
            for kind in &KINDS {
                let is_met = |who: &Option<&'v Holder<'v>>| self.is_met(service, client, kind, *who);
                all &= !kinds.iter().any(is_met);
                if !kinds.iter().all(is_met) {
                    unmet.push(kind.words);
                }
            }
            let (place, title) = (self.place_of_service(about), &about.id);
            if about.default == Effect::Permit && !unmet.is_empty() {
                let with = unmet.join(", ");
                told.push(
                    Diagnostic::warning(
                        "sign-in-without-rule",
                        format!("no access rule meets some sign-ins to `{title}` by {client}: with {with}"),
                        place,
                    )
                    .label("its default lets them in")
                    .help("write an access rule that applies to them, or default = \"deny\""),
                );
            } else if about.default == Effect::Deny && all {
                told.push(
                    Diagnostic::warning(
                        "sign-in-without-rule",
                        format!("nobody can reach `{title}` by {client}: no enforced access rule applies to that"),
                        place,
                    )
                    .label("its default denies them")
                    .help("write an access rule that applies to it, or take the usual sign-in away"),
                );
            }
        }
    }

    /// Returns whether some access rule applies, or may apply, to a kind of sign-in.
    fn is_met(&self, service: usize, client: &str, kind: &DeviceKind, holder: Option<&'v Holder<'v>>) -> bool {
        let facts = merge(&[], std::iter::empty(), self.rules.layout(), self.session.at, self.session.arena);
        let facts: &'v _ = self.session.arena.alloc(facts);
        let input = DeviceInput { id: "", facts, holders: &[], drift: None };
        let memberships = self.rules.memberships_of_device(&input, crate::condition::Ambient::default(), self.session);
        let sign_in: &'v SignIn = self.session.arena.alloc(SignIn {
            known: Some(kind.known),
            registered: Some(kind.registered),
            managed: Some(kind.managed),
            ..SignIn::of_client(client)
        });
        let state = AccessState { standing: None, failing: None, memberships };
        let attempt = Attempt { input, state, holder, service, sign_in };
        let mut evaluator = self.rules.access_evaluator(&attempt, self.session);
        self.rules_of(service).any(|rule| match holder {
            // Without a list of people it is unknown whom a rule targets.
            None if !rule.people.is_empty() => true,
            _ => !matches!(applies(rule, &attempt, &mut evaluator), Applies::No(_)),
        })
    }

    fn tell_excepted(&self, service: usize, about: &Service, told: &mut Vec<Diagnostic>) {
        let with_exceptions: Vec<&AccessRule> = self.rules_of(service).filter(|rule| !rule.except.is_empty()).collect();
        if with_exceptions.len() < 2 {
            return;
        }
        let is_left_out = |holder: &&Holder<'_>| {
            let excepted = |rule: &&AccessRule| matches!(is_one_of(&rule.except, Some(holder)), Membership::In);
            with_exceptions.iter().filter(|rule| excepted(rule)).count() >= 2
                && self.rules_of(service).all(|rule| matches!(targets(rule, Some(holder)), Membership::Out))
        };
        let left_out: Vec<&str> = self.people.iter().filter(is_left_out).map(|holder| holder.id).collect();
        if let Some(first) = with_exceptions.first().filter(|_| !left_out.is_empty()) {
            let people = if left_out.len() == 1 { "person is" } else { "people are" };
            told.push(
                Diagnostic::warning(
                    "exceptions-leave-gap",
                    format!("{} {people} excepted from every access rule about `{}`", left_out.len(), about.id),
                    self.place(first),
                )
                .label(named(&left_out))
                .help(format!(
                    "the default, {}, decides for them; except them from one rule alone",
                    about.default.as_str()
                )),
            );
        }
    }

    fn tell_emergency(&self, told: &mut Vec<Diagnostic>) {
        let is_emergency = |holder: &&Holder<'_>| holder.person.is_some_and(|person| person.says_yes("emergency"));
        let accounts: Vec<&Holder<'_>> = self.people.iter().filter(is_emergency).collect();
        let rules = self.rules.access().rules().iter();
        for rule in rules.filter(|rule| rule.stage(self.session.at) != Stage::Draft && !rule.otherwise.permit) {
            let hit: Vec<&str> = accounts
                .iter()
                .filter(|holder| !matches!(targets(rule, Some(holder)), Membership::Out))
                .map(|holder| holder.id)
                .collect();
            if hit.is_empty() {
                continue;
            }
            told.push(
                Diagnostic::warning(
                    "shuts-out-emergency",
                    format!("`{}` may shut out an account that is for emergencies", rule.id),
                    self.place(rule),
                )
                .label(named(&hit))
                .help(format!("except = [\"{}\"]", hit.join("\", \""))),
            );
        }
    }

    fn tell_silent_denials(&self, told: &mut Vec<Diagnostic>) {
        let rules = self.rules.access().rules().iter();
        let silent = |rule: &&AccessRule| {
            let says_nothing = rule.tell.as_ref().is_none_or(|text| text.trim().is_empty());
            rule.stage(self.session.at) != Stage::Draft && !rule.otherwise.permit && says_nothing
        };
        for rule in rules.filter(silent) {
            told.push(
                Diagnostic::remark(
                    "denial-without-text",
                    format!("whoever `{}` stops reads nothing about it", rule.id),
                    self.place(rule),
                )
                .help("say what is wrong and the way out: tell = \"Your device is not in order: {{ findings }}. Mend it, and let it report again.\""),
            );
        }
    }
}

/// Names some people.
fn named(ids: &[&str]) -> String {
    let more = ids.len().saturating_sub(MOST_LOOKED_UP);
    let rest = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{rest}", ids.iter().take(MOST_LOOKED_UP).copied().collect::<Vec<_>>().join(", "))
}
