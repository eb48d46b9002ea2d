use jiff::tz::TimeZone;
use serde_json::{Value as Json, json};

use super::*;
use crate::fleet::group::GroupSource;
use crate::rule_set::Session;
use crate::rules::baseline::Settings;
use crate::rules::rule::RuleSource;
use crate::testing::{access, compile, group, moment, named, names, on_device, rule, service};
use crate::{Effect, ExceptSource, RuleSeverity, Text};

const NOW: &str = "2027-03-14T06:00:00Z";

fn vet_input<'a>(
    rules: &'a RuleSet,
    source: &'a RuleSetSource,
    platform: Option<SlotId>,
    at: Timestamp,
    zone: &'a TimeZone,
) -> VetInput<'a> {
    VetInput { rules, source, drafts: vec![false; rules.rules().len()], platform, at, zone }
}

fn source(rules: Vec<RuleSource>, groups: Vec<GroupSource>) -> RuleSetSource {
    RuleSetSource {
        rules,
        groups,
        services: vec![service("mail", Effect::Deny)],
        access: vec![access("mail", "standing = \"compliant\"")],
        ..RuleSetSource::default()
    }
}

/// Returns the codes of what is told of rules on a fleet, each with its message.
fn told(source: &RuleSetSource, fleet: &[Json]) -> Vec<(&'static str, String)> {
    let rules = compile(source);
    let layout = rules.layout();
    let platform = layout.slots().find(|slot| layout.slot_path(*slot) == "platform");
    let (at, zone) = (moment(NOW), TimeZone::UTC);
    let vet = Vet::new(vet_input(&rules, source, platform, at, &zone));
    let mut seen = vet.nobody();
    for document in fleet {
        let one = on_device(&rules, document, None, |rules, input, zone, arena| {
            // The vet's own rule set is the same one.
            let vet = Vet::new(vet_input(rules, source, platform, at, zone));
            let mut one = vet.nobody();
            vet.see(&mut one, input, &rules.evaluate(input, Session::new(at, zone, arena)), arena);
            one
        });
        seen.join(one);
    }
    let none = BTreeSet::new();
    let around = Surroundings {
        controls: None,
        holder: None,
        drafts_since: &[],
        failed_once: &none,
        devices: &none,
        people: &none,
    };
    let all = vet.tell((!fleet.is_empty()).then_some(&seen), &around);
    all.into_iter().map(|told| (told.code, format!("{} {}", told.message, told.label))).collect()
}

fn codes(source: &RuleSetSource, fleet: &[Json]) -> Vec<&'static str> {
    told(source, fleet).into_iter().map(|(code, _)| code).collect()
}

fn covering(id: &str, covers: &str, require: &str) -> RuleSource {
    RuleSource { groups: Vec::new(), covers: Some(Text::loose(covers)), ..rule(id, require) }
}

#[test]
fn whatever_needs_a_fleet_is_left_unsaid_without_one() {
    let never = source(vec![covering("r", "role = \"x\"", "idle < 5")], Vec::new());
    assert_eq!(codes(&never, &[]), Vec::<&str>::new());
    assert_eq!(codes(&never, &[json!({ "role": "y", "idle": 9 })]), ["covers-nobody"]);
    // Where it cannot be told whether it is covered, it may be.
    assert_eq!(codes(&never, &[json!({ "idle": 9 })]), Vec::<&str>::new());
}

#[test]
fn of_one_device_nothing_is_concluded_about_a_threshold() {
    let strict = source(vec![rule("r", "idle < 5 and on")], Vec::new());
    assert_eq!(codes(&strict, &[json!({ "idle": 9, "on": true })]), Vec::<&str>::new());
    let fleet = [json!({ "idle": 9, "on": true }), json!({ "idle": 7, "on": true })];
    let said = told(&strict, &fleet);
    assert_eq!(said[0].0, "nobody-passes");
    assert!(said[0].1.ends_with("the lowest is 7"), "{said:?}");
    // A bound that some meet is not what nobody passes for.
    let fleet = [json!({ "idle": 9, "on": true }), json!({ "idle": 3, "on": false })];
    let said = told(&strict, &fleet);
    assert!(said[0].1.ends_with("passes it "), "{said:?}");
}

#[test]
fn what_devices_say_is_told_without_harm() {
    let rules = source(vec![covering("r", "platform != \"x\"", "vault.on")], vec![]);
    let fleet = [json!({ "platform": "a\u{1b}[2J" }), json!({ "platform": "b", "vault": { "on": true } })];
    let said = told(&rules, &fleet);
    assert_eq!(said[0].0, "fact-of-others");
    assert!(said[0].1.contains("a\\u{1b}[2J") && !said[0].1.contains('\u{1b}'), "{said:?}");
    // A platform of which some devices report it says nothing of the platform.
    let fleet = [json!({ "platform": "a" }), json!({ "platform": "a", "vault": { "on": true } })];
    assert_eq!(codes(&rules, &fleet), Vec::<&str>::new());
}

#[test]
fn of_two_rules_the_weaker_is_told_only_where_it_adds_nothing() {
    let two = |one: RuleSource, other: RuleSource| source(vec![one, other], Vec::new());
    let fleet = [json!({ "idle": 9, "platform": "a" }), json!({ "idle": 1, "platform": "b" })];
    let weak = || rule("weak", "idle < 9 or idle = 100");
    let strict = || rule("strict", "idle < 5");
    let severe = |rule: RuleSource, severity| RuleSource {
        settings: Settings { severity: Some(severity), ..Settings::default() },
        ..rule
    };
    assert_eq!(codes(&two(weak(), strict()), &fleet), ["overtaken"]);
    assert_eq!(codes(&two(weak(), strict()), &[]), ["overtaken"]);
    // A warning that comes before, or weighs more, adds something.
    assert_eq!(codes(&two(severe(weak(), RuleSeverity::Critical), strict()), &fleet), Vec::<&str>::new());
    assert_eq!(codes(&two(weak(), severe(strict(), RuleSeverity::Critical)), &fleet), ["overtaken"]);
    // So does one that covers more; without a fleet that is not known.
    let part = || covering("strict", "platform = \"a\"", "idle < 5");
    assert_eq!(codes(&two(weak(), part()), &fleet), Vec::<&str>::new());
    assert_eq!(codes(&two(weak(), part()), &[]), Vec::<&str>::new());
    let all = || covering("strict", "platform in [\"a\", \"b\"]", "idle < 5");
    assert_eq!(codes(&two(weak(), all()), &fleet), ["overtaken"]);
    // Of three that are the same, two are one too many.
    let same = |id: &str| rule(id, "idle < 5 or idle = 7");
    assert_eq!(codes(&source(vec![same("a"), same("b"), same("c")], Vec::new()), &fleet), ["overtaken", "overtaken"]);
}

#[test]
fn exceptions_spare_by_device_and_by_group() {
    let dock = GroupSource { members: names(&["d1"]), ..group("dock", GroupKind::Devices) };
    let shed = GroupSource { members: names(&["d2"]), ..group("shed", GroupKind::Devices) };
    let except = |name: &str| {
        let mut except = ExceptSource::from(named(name));
        // What has no place is told of nowhere.
        except.name.span = Some(Span { file: crate::FileId(0), range: 3..5 });
        except
    };
    let one = |name: &str| {
        let rules = vec![RuleSource { except: vec![except(name)], ..rule("r", "idle in [1, 2]") }];
        let groups = vec![dock.clone(), shed.clone()];
        told(&source(rules, groups), &[json!({ "idle": 1 })])
    };
    let codes = |all: Vec<(&'static str, String)>| -> Vec<&'static str> {
        all.into_iter().map(|(code, _)| code).filter(|code| *code != "group-without-use").collect()
    };
    assert_eq!(codes(one("dock")), ["all-excepted"]);
    assert_eq!(codes(one("d1")), ["all-excepted"]);
    assert_eq!(codes(one("shed")), ["exception-spares-nobody"]);
}
