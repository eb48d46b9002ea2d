//! Short forms for tests of the core: rules, groups and access rules from a few words, devices from JSON.

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::Value as Json;

use crate::access::decision::{AccessState, Attempt, Decision};
use crate::access::service::{AccessSource, Effect, Otherwise, ServiceSource, SignIn};
use crate::condition::Ambient;
use crate::diagnostic::Named;
use crate::diagnostic::{Diagnostic, Text};
use crate::facts::dictionary::Dictionary;
use crate::facts::merge::{Observation, merge};
use crate::facts::validity::Watch;
use crate::facts::value::{Datum, Value};
use crate::findings::standing::Standing;
use crate::fleet::group::{GroupKind, GroupSource, Membership};
use crate::fleet::people::{Holder, Person};
use crate::rule_set::Session;
use crate::rule_set::decide;
use crate::rule_set::{RuleSet, RuleSetSource};
use crate::rules::baseline::Settings;
use crate::rules::rule::{RuleSource, Stage};
use crate::rules::verdict::{DeviceInput, VerdictOutcome};

pub(crate) fn moment(text: &str) -> Timestamp {
    text.parse().unwrap()
}

pub(crate) fn named(text: &str) -> Named {
    Named { text: text.to_owned(), span: None }
}

pub(crate) fn names(all: &[&str]) -> Vec<Named> {
    all.iter().map(|text| named(text)).collect()
}

pub(crate) fn datum(json: &Json) -> Datum {
    match json {
        Json::Null => Datum::Null,
        Json::Bool(truth) => Datum::Boolean(*truth),
        Json::Number(number) => Datum::Number(number.to_string().parse().unwrap()),
        Json::String(text) => Datum::Text(text.clone()),
        Json::Array(items) => Datum::List(items.iter().map(datum).collect()),
        Json::Object(fields) => Datum::Object(fields.iter().map(|(key, value)| (key.clone(), datum(value))).collect()),
    }
}

/// An enforced rule for every device.
pub(crate) fn rule(id: &str, require: &str) -> RuleSource {
    RuleSource {
        id: named(id),
        title: None,
        groups: names(&["every-device"]),
        covers: None,
        except: Vec::new(),
        require: Some(Text::loose(require)),
        checks: Vec::new(),
        settings: Settings::default(),
        fix_when: Vec::new(),
        was: Vec::new(),
        baseline: None,
        overridden_by: Vec::new(),
    }
}

pub(crate) fn group(id: &str, kind: GroupKind) -> GroupSource {
    GroupSource {
        id: named(id),
        title: None,
        kind,
        members: Vec::new(),
        condition: None,
        held_by: Vec::new(),
        units: Vec::new(),
        groups: Vec::new(),
        except: Vec::new(),
    }
}

pub(crate) fn service(id: &str, default: Effect) -> ServiceSource {
    ServiceSource { id: named(id), title: None, default, usual: vec![SignIn::of_client("app")] }
}

pub(crate) fn access(id: &str, needs: &str) -> AccessSource {
    AccessSource {
        id: named(id),
        services: names(&["mail"]),
        stage: Stage::Enforced,
        enforced_from: None,
        people: Vec::new(),
        except: Vec::new(),
        when: None,
        unless: None,
        needs: Some(Text::loose(needs)),
        otherwise: Otherwise::default(),
        terms: None,
        tell: None,
    }
}

pub(crate) fn compile(source: &RuleSetSource) -> RuleSet {
    let (set, mistakes) = RuleSet::compile(source, &Dictionary::default(), &[]);
    set.unwrap_or_else(|| panic!("{mistakes:?}"))
}

pub(crate) fn mistakes(source: &RuleSetSource) -> Vec<Diagnostic> {
    RuleSet::compile(source, &Dictionary::default(), &[]).1
}

/// Hands a device with this document, and this person as its holder, to `ask`.
pub(crate) fn on_device<T>(
    set: &RuleSet,
    document: &Json,
    person: Option<&Person>,
    ask: impl for<'a> FnOnce(&'a RuleSet, &DeviceInput<'a>, &'a TimeZone, &'a Bump) -> T,
) -> T {
    let arena = Bump::new();
    let whole = datum(document).to_value(&arena);
    let slots: Vec<Value<'_>> =
        set.layout().slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
    let at = moment("2027-03-14T06:00:00Z");
    let observation =
        [Observation { source: "test", trust: 0, collected: Some(at), fresh_for: None, calendar: None, slots: &slots }];
    let facts = merge(&observation, std::iter::empty(), set.layout(), at, &arena);
    let zone = TimeZone::UTC;
    let memberships: Vec<Membership> =
        person.map(|person| set.memberships_of_person(person, at, &zone, &Watch::default())).unwrap_or_default();
    let holders: Vec<Holder<'_>> = person
        .iter()
        .map(|person| Holder { id: person.id.as_str(), person: Some(person), memberships: &memberships, accepted: &[] })
        .collect();
    let input = DeviceInput { id: "d1", facts: &facts, holders: &holders, drift: None };
    ask(set, &input, &zone, &arena)
}

/// The outcome of every rule on a device.
pub(crate) fn outcomes(set: &RuleSet, document: &Json, person: Option<&Person>) -> Vec<VerdictOutcome> {
    on_device(set, document, person, |set, input, zone, arena| {
        set.evaluate(input, Session::new(moment("2027-03-14T06:00:00Z"), zone, arena))
            .all
            .iter()
            .map(|verdict| verdict.outcome)
            .collect()
    })
}

/// The decision for an app that reaches the first service.
pub(crate) fn decision(set: &RuleSet, document: &Json, person: Option<&Person>, standing: Standing) -> Decision {
    on_device(set, document, person, |set, input, zone, arena| {
        let at = moment("2027-03-14T06:00:00Z");
        let session = Session::new(at, zone, arena);
        let ambient = Ambient { standing: Some(standing.as_str()), ..Ambient::default() };
        let memberships = set.memberships_of_device(input, ambient, session);
        let state = AccessState { standing: Some(standing), failing: Some(&[]), memberships };
        let sign_in = &set.access().services()[0].usual[0];
        decide(set, &Attempt { input: *input, state, holder: input.holders.first(), service: 0, sign_in }, session)
    })
}
