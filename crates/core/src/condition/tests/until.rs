//! Until when a condition comes out as it does: tested by working it out again at moments around every edge.

use super::*;
use crate::facts::merge::Correction;
use crate::facts::validity::Watch;
use crate::facts::value::Datum;
use jiff::SignedDuration;

/// A fact as two sources say it, the second with less trust; and a correction that may be in effect.
struct Story {
    collected: [Timestamp; 2],
    fresh_for: [Option<Period>; 2],
    document: Json,
    corrected_until: Option<Timestamp>,
}

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

impl Story {
    fn simple(document: Json) -> Self {
        let collected = [at("2027-03-12T06:00:00Z"); 2];
        Self { collected, fresh_for: [None; 2], document, corrected_until: None }
    }

    /// What a condition comes to at a moment, and until when.
    fn outcome(&self, text: &str, now: Timestamp) -> (String, Timestamp) {
        let (condition, mistakes, layout) = compile(text, false);
        let condition = condition.unwrap_or_else(|| panic!("{text}: {mistakes:?}"));
        let arena = Bump::new();
        let other = json!({ "model": "other" });
        let row = |document: &Json| -> Vec<Value<'_>> {
            let whole = datum(document).to_value(&arena);
            layout.slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect()
        };
        let rows = [row(&self.document), row(&other)];
        let said = [0, 1].map(|which| Observation {
            source: ["first", "second"][which],
            trust: 1 - i64::try_from(which).unwrap(),
            collected: Some(self.collected[which]),
            fresh_for: self.fresh_for[which],
            calendar: None,
            slots: &rows[which],
        });
        let correction = self.corrected_until.map(|until| Correction {
            device: "d".into(),
            fact: "model".into(),
            value: Datum::Text("corrected".into()),
            because: "seen".into(),
            by: "us".into(),
            until,
            place: None,
        });
        let watch = Watch::default();
        let facts = merge(&said, correction.iter(), &layout, now, &arena).watched(&watch);
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let value = said_of(&facts, now, &zone, &arena, &condition);
        (value, watch.until())
    }
}

fn said_of<'a>(
    facts: &'a crate::facts::merge::Facts<'a>,
    now: Timestamp,
    zone: &'a TimeZone,
    arena: &'a Bump,
    condition: &'a Condition,
) -> String {
    said(&Evaluator::new(Some(facts), now, zone, arena).meets(condition))
}

const INSTANT: SignedDuration = SignedDuration::from_nanos(1);

/// A condition that changes exactly at `edge`, seen from `now`.
#[track_caller]
fn changes_at(story: &Story, text: &str, now: &str, edge: &str) {
    let (now, edge) = (at(now), at(edge));
    let (before, until) = story.outcome(text, now);
    assert_eq!(until, edge, "{text} from {now}");
    assert_eq!(story.outcome(text, edge - INSTANT).0, before, "{text} just before {edge}");
    assert_ne!(story.outcome(text, edge).0, before, "{text} at {edge}");
}

#[track_caller]
fn never_changes(story: &Story, text: &str, now: &str) {
    assert_eq!(story.outcome(text, at(now)).1, Timestamp::MAX, "{text} from {now}");
}

const X: &str = "2027-03-10T00:00:00Z";
const JUST_AFTER: &str = "2027-03-24T00:00:00.000000001Z";
const EDGE: &str = "2027-03-24T00:00:00Z";

#[test]
fn an_age_changes_what_it_is_compared_with_once() {
    let story = Story::simple(json!({ "seen": X }));
    let now = "2027-03-14T06:00:00Z";
    for (text, edge) in [
        ("age(seen) <= duration(\"P14D\")", JUST_AFTER),
        ("age(seen) > duration(\"P14D\")", JUST_AFTER),
        ("age(seen) < duration(\"P14D\")", EDGE),
        ("duration(\"P14D\") <= age(seen)", EDGE),
        ("age(seen) = duration(\"P14D\")", EDGE),
        ("age(seen) != duration(\"P14D\")", EDGE),
        ("age(seen) between duration(\"P1D\") and duration(\"P14D\")", JUST_AFTER),
        ("age(seen) in [duration(\"P1D\")..duration(\"P14D\"))", EDGE),
        ("age(seen) in (< duration(\"P14D\"))", EDGE),
        ("not(age(seen) > duration(\"P14D\"))", JUST_AFTER),
    ] {
        changes_at(&story, text, now, edge);
    }
    changes_at(&story, "age(seen) = duration(\"P14D\")", EDGE, JUST_AFTER);
    never_changes(&story, "age(seen) <= duration(\"P14D\")", "2027-04-01T00:00:00Z");
    never_changes(&story, "age(seen) = duration(\"P14D\")", "2027-04-01T00:00:00Z");
    // What lies in the future is not known, until it comes.
    changes_at(&story, "age(seen) <= duration(\"P14D\")", "2027-03-01T00:00:00Z", X);
    never_changes(&Story::simple(json!({ "seen": "yesterday" })), "age(seen) <= duration(\"P14D\")", now);
    never_changes(&Story::simple(json!({})), "age(seen) <= duration(\"P14D\")", now);
}

#[test]
fn a_comparison_with_now_changes_at_its_other_side() {
    let moment = format!("date and time(\"{EDGE}\")");
    let story = Story::simple(json!({ "seen": X }));
    for (text, edge) in [
        (format!("now() < {moment}"), EDGE),
        (format!("{moment} < now()"), JUST_AFTER),
        (format!("now() >= {moment}"), EDGE),
        (format!("now() = {moment}"), EDGE),
        (format!("now() - duration(\"P1D\") <= {moment}"), "2027-03-25T00:00:00.000000001Z"),
        (format!("now() + duration(\"P1D\") < {moment}"), "2027-03-23T00:00:00Z"),
        (format!("{moment} - now() > duration(\"P3D\")"), "2027-03-21T00:00:00Z"),
        (format!("now() - {moment} < duration(\"P3D\")"), "2027-03-27T00:00:00Z"),
        (format!("{moment} + duration(\"P1D\") > now()"), "2027-03-25T00:00:00Z"),
    ] {
        changes_at(&story, &text, "2027-03-14T06:00:00Z", edge);
    }
    never_changes(&story, &format!("now() < {moment}"), "2027-04-01T00:00:00Z");
}

#[test]
fn the_day_changes_at_local_midnight_and_anything_else_at_once() {
    let story = Story::simple(json!({}));
    // Oslo is an hour ahead, and two once its clock is put forward on the 28th.
    changes_at(&story, "today() = date(\"2027-03-14\")", "2027-03-14T06:00:00Z", "2027-03-14T23:00:00Z");
    changes_at(&story, "today() < date(\"2027-03-30\")", "2027-03-29T12:00:00Z", "2027-03-29T22:00:00Z");
    for text in ["string(now()) = \"x\"", "now() - duration(\"P1M\") > date and time(\"2027-03-01T00:00:00Z\")"] {
        assert_eq!(story.outcome(text, at(X)).1, Timestamp::MIN, "{text}");
    }
}

#[test]
fn what_is_not_read_changes_nothing() {
    let story = Story::simple(json!({ "seen": X, "ok": false }));
    never_changes(&story, "ok = true and age(seen) < duration(\"P14D\")", "2027-03-14T06:00:00Z");
    changes_at(&story, "ok = true or age(seen) < duration(\"P14D\")", "2027-03-14T06:00:00Z", EDGE);
}

#[test]
fn freshness_and_corrections_end() {
    let days = |days| Some(Period::days(days));
    let story = Story { fresh_for: [days(14), None], ..Story::simple(json!({ "model": "first" })) };
    let story = Story { collected: [at(X); 2], ..story };
    let text = "model = \"first\"";
    changes_at(&story, text, "2027-03-14T06:00:00Z", JUST_AFTER);
    never_changes(&story, text, "2027-03-25T00:00:00Z");
    // The last known value counts at any age, but another source that is fresh speaks instead.
    let corrected = Story { corrected_until: Some(at("2027-03-20T00:00:00Z")), ..story };
    changes_at(&corrected, text, "2027-03-14T06:00:00Z", "2027-03-20T00:00:00Z");
    changes_at(&corrected, text, "2027-03-20T00:00:00Z", JUST_AFTER);
}

fn conditions() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec![
        "age(seen) <= duration(\"P3D\")",
        "age(seen) > duration(\"PT36H\")",
        "now() < date and time(expires)",
        "date and time(expires) - now() >= duration(\"P2D\")",
        "now() - seen in [duration(\"P1D\")..duration(\"P4D\")]",
        "today() < date(\"2027-03-17\")",
        "model = \"first\"",
        "model = \"corrected\"",
        "some d in disks satisfies age(d.at) < duration(\"P5D\")",
        "every d in disks satisfies date and time(d.at) + duration(\"P2D\") > now()",
        "count(disks[age(at) > duration(\"P1D\")]) > 0",
        "present(model)",
    ])
    .prop_map(str::to_owned);
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) or ({b})")),
            inner.clone().prop_map(|a| format!("not({a})")),
            (inner.clone(), inner.clone(), inner).prop_map(|(a, b, c)| format!("if {a} then ({b}) else ({c})")),
        ]
    })
}

proptest! {
    /// Whatever a condition comes to, it comes to at every moment before the one it is said to hold until.
    #[test]
    fn nothing_changes_before_it_is_said_to(
        text in conditions(),
        hours in prop::array::uniform5(0i64..160),
        fresh in prop::array::uniform2(prop::option::of(1i32..6)),
        corrected in prop::option::of(0i64..160),
        steps in prop::collection::vec(0i64..400, 12),
    ) {
        let moment = |hours: i64| at("2027-03-12T00:00:00Z") + SignedDuration::from_hours(hours);
        let story = Story {
            collected: [moment(hours[0]), moment(hours[1])],
            fresh_for: fresh.map(|days| days.map(Period::days)),
            document: json!({
                "model": "first", "seen": moment(hours[2]).to_string(), "expires": moment(hours[3]).to_string(),
                "disks": [{ "at": moment(hours[3]).to_string() }, { "at": moment(hours[4]).to_string() }],
            }),
            corrected_until: corrected.map(moment),
        };
        let now = moment(hours[4]);
        let (outcome, until) = story.outcome(&text, now);
        if until > now {
            let span = until.min(moment(400)).duration_since(now);
            let inside = steps.iter().map(|step| now + span * i32::try_from(*step).unwrap() / 401);
            for at in inside.chain([now + span - INSTANT]) {
                prop_assert_eq!(&story.outcome(&text, at).0, &outcome, "{} at {}, from {} until {}", text, at, now, until);
            }
        }
    }
}
