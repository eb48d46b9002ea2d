use super::*;
use crate::condition::evidence::EvidenceSummary;
use crate::diagnostic::Text;
use crate::facts::period::Period;
use crate::fleet::group::GroupKind;
use crate::rules::baseline::Settings;
use crate::rules::rule::{ExceptSource, FixSource, Stage};
use crate::rules::verdict::VerdictOutcome::{Fail, NotApplicable, Pass, Unknown};
use crate::testing::{compile, group, mistakes, moment, named, names, on_device, outcomes, rule};
use crate::{Datum, PersonId};
use serde_json::json;

fn excepting(all: &[&str]) -> Vec<ExceptSource> {
    names(all).into_iter().map(ExceptSource::from).collect()
}

fn set(rules: Vec<RuleSource>, groups: Vec<GroupSource>) -> RuleSetSource {
    RuleSetSource { rules, groups, ..RuleSetSource::default() }
}

#[test]
fn scope_is_groups_and_condition_less_exceptions() {
    let servers =
        GroupSource { condition: Some(Text::loose("role = \"server\"")), ..group("servers", GroupKind::Devices) };
    let dock = GroupSource { members: names(&["d1"]), ..group("dock", GroupKind::Devices) };
    let base =
        RuleSource { groups: names(&["servers"]), covers: Some(Text::loose("site = \"tern\"")), ..rule("r", "ok") };
    let excepted = RuleSource { id: named("e"), except: excepting(&["dock"]), ..base.clone() };
    let by_id = RuleSource { id: named("i"), except: excepting(&["d1"]), ..base.clone() };
    let compiled = compile(&set(vec![base, excepted, by_id], vec![servers, dock]));
    let judge = |document| outcomes(&compiled, &document, None);
    assert_eq!(judge(json!({"role": "server", "site": "tern", "ok": false})), [Fail, NotApplicable, NotApplicable]);
    assert_eq!(judge(json!({"role": "server", "site": "puffin", "ok": true}))[0], NotApplicable);
    assert_eq!(judge(json!({"role": "kiosk", "ok": true}))[0], NotApplicable);
    // What may or may not be covered is not quietly left out.
    assert_eq!(judge(json!({"role": "server", "ok": true}))[0], Unknown(Reason::Scope));
    assert_eq!(judge(json!({"site": "tern", "ok": true}))[0], Unknown(Reason::Scope));
}

#[test]
fn exceptions_end_and_rules_come_into_force_by_themselves() {
    let (until, from) = (moment("2027-03-20T00:00:00Z"), moment("2027-04-01T00:00:00Z"));
    let dock = GroupSource { members: names(&["d1"]), ..group("dock", GroupKind::Devices) };
    let except = vec![ExceptSource { because: Some("in dry dock".into()), until: Some(until), ..named("dock").into() }];
    let excepted = RuleSource { except, ..rule("r", "ok") };
    let later =
        RuleSource { settings: Settings { enforced_from: Some(from), ..Settings::default() }, ..rule("s", "ok") };
    let set = compile(&set(vec![excepted, later], vec![dock]));
    on_device(&set, &json!({"ok": false}), None, |set, input, zone, arena| {
        let before = |moment: Timestamp| moment - jiff::SignedDuration::from_secs(1);
        let at = |at: Timestamp| {
            let verdict = set.evaluate(input, Session::new(at, zone, arena)).all[0];
            let exception =
                set.exception(0, input, Session::new(at, zone, arena)).and_then(|found| found.because.as_deref());
            (verdict.outcome, verdict.excepted, exception)
        };
        assert_eq!(at(before(until)), (NotApplicable, true, Some("in dry dock")));
        assert_eq!(at(until), (Fail, false, None));
        let stage = |at| set.rules()[1].stage(at);
        assert_eq!((stage(before(from)), stage(from)), (Stage::Trial, Stage::Enforced));
        // Until when verdicts hold is the next of these moments.
        for (now, next) in [(before(until), until), (until, from), (from, Timestamp::MAX)] {
            let watch = Watch::default();
            let watched = DeviceInput { facts: arena.alloc(input.facts.watched(&watch)), ..*input };
            set.evaluate(&watched, Session::new(now, zone, arena));
            assert_eq!(watch.until(), next);
        }
    });
    let trial = RuleSource {
        settings: Settings { stage: Some(Stage::Trial), enforced_from: Some(from), ..Settings::default() },
        ..rule("r", "ok")
    };
    let codes: Vec<&str> = mistakes(&self::set(vec![trial], Vec::new())).iter().map(|found| found.code).collect();
    assert_eq!(codes, ["not-enforced-from"]);
}

#[test]
fn what_to_do_is_the_first_that_fits_and_a_device_may_be_on_its_way() {
    let fix = |when: &str, say: &str, awaiting| FixSource { when: Text::loose(when), say: say.into(), awaiting };
    let fix_when = vec![fix("pending", "restart", true), fix("platform = \"android\"", "tap", false)];
    let set = compile(&set(
        vec![RuleSource {
            settings: Settings { fix: Some("turn it on".into()), ..Settings::default() },
            fix_when,
            ..rule("r", "ok")
        }],
        Vec::new(),
    ));
    let on = |document| {
        on_device(&set, &document, None, |set, input, zone, arena| {
            let at = moment("2027-03-14T06:00:00Z");
            let verdict = set.evaluate(input, Session::new(at, zone, arena)).all[0];
            let fix = set.fix(0, input, Session::new(at, zone, arena));
            (verdict.outcome, verdict.awaiting, fix.say.map(str::to_owned))
        })
    };
    let say = |text: &str| Some(text.to_owned());
    assert_eq!(on(json!({"ok": false, "pending": true, "platform": "android"})), (Fail, true, say("restart")));
    assert_eq!(on(json!({"ok": false, "pending": false, "platform": "android"})), (Fail, false, say("tap")));
    assert_eq!(on(json!({"ok": false})), (Fail, false, say("turn it on")));
    // What passes awaits nothing.
    assert!(!on(json!({"ok": true, "pending": true})).1);
}

#[test]
fn groups_reach_devices_through_their_holders() {
    let deck = GroupSource { units: names(&["ships/tern"]), ..group("deck", GroupKind::People) };
    let held = GroupSource { held_by: names(&["deck"]), ..group("held", GroupKind::Devices) };
    let branch = GroupSource { held_by: names(&["ships/puffin"]), ..group("branch", GroupKind::Devices) };
    let rules = vec![
        RuleSource { groups: names(&["held"]), ..rule("a", "ok") },
        RuleSource { groups: names(&["branch"]), ..rule("b", "ok") },
        RuleSource { covers: Some(Text::loose("in group(\"held\") and not(in group(\"branch\"))")), ..rule("c", "ok") },
    ];
    let compiled = compile(&set(rules, vec![deck, held, branch]));
    let unit = |unit: &str| Person {
        id: PersonId::from("p"),
        facts: Datum::Object(vec![("unit".into(), Datum::Text(unit.into()))]),
    };
    let document = json!({"ok": true});
    assert_eq!(outcomes(&compiled, &document, Some(&unit("ships/tern/deck"))), [Pass, NotApplicable, Pass]);
    assert_eq!(outcomes(&compiled, &document, Some(&unit("ships/puffin"))), [NotApplicable, Pass, NotApplicable]);
    assert_eq!(outcomes(&compiled, &document, None), [NotApplicable; 3]);
}

#[test]
fn checks_become_rules_of_their_own_and_drafts_are_not_evaluated() {
    let checks = vec![(named("root"), Text::loose("root = \"no\"")), (named("logs"), Text::loose("logs >= 30"))];
    let several = RuleSource { require: None, checks, ..rule("server", "") };
    let draft = RuleSource {
        settings: Settings { stage: Some(Stage::Draft), ..Settings::default() },
        ..rule("later", "never")
    };
    let compiled = compile(&set(vec![several, draft], Vec::new()));
    let ids: Vec<&str> = compiled.rules().iter().map(|rule| rule.id.as_str()).collect();
    assert_eq!(ids, ["server/root", "server/logs", "later"]);
    assert_eq!(outcomes(&compiled, &json!({"root": "yes", "logs": 35}), None), [Fail, Pass]);
}

#[test]
fn a_pass_with_nothing_to_check_says_so() {
    let compiled = compile(&set(vec![rule("r", "every d in disks satisfies d.ok")], Vec::new()));
    let vacuous = |document: serde_json::Value| {
        crate::testing::on_device(&compiled, &document, None, |set, input, zone, arena| {
            set.evaluate(input, Session::new(moment("2027-03-14T06:00:00Z"), zone, arena)).all[0].vacuous
        })
    };
    assert!(vacuous(json!({"disks": []})));
    assert!(!vacuous(json!({"disks": [{"ok": true}]})) && !vacuous(json!({"disks": [{"ok": false}]})));
}

#[track_caller]
fn refused(source: &RuleSetSource, code: &str) -> Diagnostic {
    let all = mistakes(source);
    all.iter().find(|mistake| mistake.code == code).cloned().unwrap_or_else(|| panic!("no {code} in {all:?}"))
}

#[test]
fn rules_that_cannot_be_meant_are_refused() {
    let nobody = RuleSource { groups: Vec::new(), ..rule("r", "ok") };
    refused(&set(vec![nobody], Vec::new()), "scope-for-nobody");
    refused(&set(vec![rule("r", "ok"), rule("r", "ok")], Vec::new()), "doubled-id");
    let typo = RuleSource { groups: names(&["every-devise"]), ..rule("r", "ok") };
    assert_eq!(
        refused(&set(vec![typo], Vec::new()), "unknown-group").help.as_deref(),
        Some("did you mean `every-device`?")
    );
    refused(&set(vec![rule("silence", "ok")], Vec::new()), "reserved-id");
    let was = RuleSource { was: names(&["b"]), ..rule("a", "ok") };
    refused(&set(vec![was, rule("b", "ok")], Vec::new()), "was-in-use");
    let circle = |id: &str, other: &str| GroupSource { groups: names(&[other]), ..group(id, GroupKind::Devices) };
    assert!(
        refused(&set(Vec::new(), vec![circle("a", "b"), circle("b", "a")]), "group-circle")
            .message
            .contains("a -> b -> a")
    );
    refused(&set(Vec::new(), vec![group("a", GroupKind::Devices)]), "empty-group");
}

#[test]
fn a_rule_cannot_reach_the_standing_through_groups() {
    let bad =
        GroupSource { condition: Some(Text::loose("standing != \"compliant\"")), ..group("bad", GroupKind::Devices) };
    let outer = GroupSource { groups: names(&["bad"]), ..group("outer", GroupKind::Devices) };
    for tail in [
        RuleSource { groups: names(&["outer"]), ..rule("r", "ok") },
        RuleSource { except: excepting(&["bad"]), ..rule("r", "ok") },
        rule("r", "not(in group(\"outer\"))"),
    ] {
        refused(&set(vec![tail], vec![bad.clone(), outer.clone()]), "own-tail");
    }
}

#[test]
fn the_fingerprint_follows_scope_and_requirement_and_nothing_else() {
    let print = |source: RuleSource| compile(&set(vec![source], Vec::new())).rules()[0].fingerprint;
    let base = print(rule("r", "ok"));
    assert_eq!(
        base,
        print(RuleSource {
            settings: Settings { grace: Some(Period::days(3)), fix: Some("x".into()), ..Settings::default() },
            ..rule("other", " ok ")
        })
    );
    assert_ne!(base, print(rule("r", "ok = true")));
    assert_ne!(base, print(RuleSource { covers: Some(Text::loose("ok")), ..rule("r", "ok") }));
}

#[test]
fn grounds_are_those_of_the_evidence_whatever_decided() {
    let shore = GroupSource { condition: Some(Text::loose("site = \"shore\"")), ..group("shore", GroupKind::Devices) };
    let rules = vec![
        rule("one", "idle <= 15 and on"),
        rule("other", "present(idle) or platform = \"tern\""),
        RuleSource { groups: names(&["shore"]), ..rule("shore", "every d in disks satisfies d.on") },
        rule("standing-apart", "idle > 1 or in group(\"shore\")"),
    ];
    let set = compile(&set(rules, vec![shore]));
    let documents = [
        json!({"idle": 5, "on": true, "site": "shore", "disks": [{"on": true}, {"on": false}], "platform": "tern"}),
        json!({"idle": 50, "on": false, "site": "sea", "disks": [], "platform": "gull"}),
        json!({"on": "no", "disks": 5}),
        json!({}),
    ];
    for document in documents {
        on_device(&set, &document, None, |set, input, zone, arena| {
            let at = moment("2027-03-14T06:00:00Z");
            for verdict in &set.evaluate(input, Session::new(at, zone, arena)).all {
                let (outcome, evidence) = set.explain(verdict.rule, input, Session::new(at, zone, arena));
                assert_eq!(outcome, verdict.outcome, "{document}");
                assert_eq!(
                    set.evidence_summary(verdict, input, Session::new(at, zone, arena)),
                    EvidenceSummary::of(&evidence),
                    "{document} {verdict:?}"
                );
            }
        });
    }
}
