//! Conditions from text to outcome: values, three-valued logic, checks, evidence.

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use rust_decimal::Decimal;
use serde_json::{Value as Json, json};

use super::*;
use crate::diagnostic::{Diagnostic, FileId, Severity, Text};
use crate::dictionary::{Declaration, Dictionary, FactType};
use crate::evidence::Evidence;
use crate::facts::{Observation, merge};
use crate::id::GroupId;
use crate::layout::Layout;
use crate::period::Period;
use crate::testing::datum;
use crate::value::{Reason, Value};

const NOW: &str = "2027-03-14T06:00:00Z";

fn dictionary() -> Dictionary {
    let mut dictionary = Dictionary::default();
    for (path, ty) in [
        ("os.version", FactType::Version),
        ("seen", FactType::Instant),
        ("idle", FactType::Number),
        ("on", FactType::Boolean),
        ("born", FactType::Date),
    ] {
        dictionary.facts.insert(path.to_owned(), Declaration { ty: Some(ty), ..Declaration::default() });
    }
    dictionary
}

fn compile(text: &str, value_too: bool) -> (Option<Condition>, Vec<Diagnostic>, Layout) {
    let dictionary = dictionary();
    let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
    let groups = [GroupId::from("shore")];
    let mut vocabulary =
        Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &groups };
    let mut mistakes = Vec::new();
    let text = Text::whole(text, FileId(0));
    let compiled = if value_too {
        Condition::compile_value(&text, Place::Rule, &mut vocabulary, &mut mistakes)
    } else {
        Condition::compile(&text, Place::Rule, &mut vocabulary, &mut mistakes)
    };
    (compiled, mistakes, layout)
}

fn said(value: &Value<'_>) -> String {
    match value {
        Value::Unknown(unknown) => format!("unknown: {} {}", unknown.reason.as_str(), unknown.fact),
        Value::Null => "null".to_owned(),
        other => other.show(),
    }
}

/// Works out an expression on a document that was collected two days before `NOW`, and hands on what comes
/// of `ask`. With `fresh_for` the facts may be too old.
fn on<T>(
    text: &str,
    document: &Json,
    fresh_for: Option<&str>,
    ask: impl for<'a> FnOnce(&mut Evaluator<'a>, &'a Condition) -> T,
) -> T {
    let (condition, mistakes, layout) = compile(text, true);
    let condition = condition.unwrap_or_else(|| panic!("{text}: {mistakes:?}"));
    let arena = Bump::new();
    let whole = datum(document).to_value(&arena);
    let slots: Vec<Value<'_>> =
        layout.slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
    let now: Timestamp = NOW.parse().unwrap();
    let collected = Some("2027-03-12T06:00:00Z".parse().unwrap());
    let fresh_for = fresh_for.map(|text| Period::parse(text).unwrap());
    let observation = [Observation { source: "test", trust: 0, collected, fresh_for, slots: &slots }];
    let facts = merge(&observation, std::iter::empty(), &layout, now, &arena);
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let mut evaluator = Evaluator::new(Some(&facts), now, &zone, &arena);
    ask(&mut evaluator, &condition)
}

#[track_caller]
fn gives(text: &str, document: Json, expected: &str) {
    assert_eq!(
        on(text, &document, None, |evaluator, condition| said(&evaluator.value_of(condition))),
        expected,
        "{text} on {document}"
    );
}

#[track_caller]
fn meets(text: &str, document: Json, fresh_for: &str, expected: &str) {
    assert_eq!(
        on(text, &document, Some(fresh_for), |evaluator, condition| said(&evaluator.meets(condition))),
        expected,
        "{text} on {document}"
    );
}

#[test]
fn numbers_are_decimal() {
    gives("0.1 + 0.2 = 0.3", json!({}), "true");
    gives("2 * 10 ** 9", json!({}), "2000000000");
    gives("-2 ** 2", json!({}), "4");
    gives("2 ** -1", json!({}), "0.5");
    gives("1 / 0", json!({}), "null");
    gives("10 ** 30", json!({}), "null");
    gives("7 - 2 - 1", json!({}), "4");
    gives("a * 2", json!({"a": 1.5}), "3");
}

#[test]
fn kleene_holds_for_every_pair() {
    let value = |text: &str| match text {
        "t" => "true".to_owned(),
        "f" => "false".to_owned(),
        _ => "gone.x".to_owned(),
    };
    let word = |text: &str| match text {
        "t" => "true",
        "f" => "false",
        _ => "unknown: missing gone.x",
    };
    for (a, b, and, or) in [
        ("t", "t", "t", "t"),
        ("t", "f", "f", "t"),
        ("t", "u", "u", "t"),
        ("f", "t", "f", "t"),
        ("f", "f", "f", "f"),
        ("f", "u", "f", "u"),
        ("u", "t", "u", "t"),
        ("u", "f", "f", "u"),
        ("u", "u", "u", "u"),
    ] {
        gives(&format!("{} and {}", value(a), value(b)), json!({}), word(and));
        gives(&format!("{} or {}", value(a), value(b)), json!({}), word(or));
    }
    gives("not(gone.x)", json!({}), "unknown: missing gone.x");
    gives("a in (1, gone)", json!({"a": 1}), "true");
    gives("a in (2, gone)", json!({"a": 1}), "unknown: missing gone");
    gives("a between 5 and gone", json!({"a": 4}), "false");
}

#[test]
fn null_is_a_value_and_missing_is_not() {
    gives("a = null", json!({"a": null}), "true");
    gives("a = 3", json!({"a": null}), "false");
    gives("a < 3", json!({"a": null}), "null");
    gives("a = null", json!({}), "unknown: missing a");
    gives("a.b = 3", json!({"a": null}), "unknown: missing a.b");
    gives("present(a)", json!({"a": null}), "false");
    gives("present(a)", json!({}), "false");
    gives("present(a)", json!({"a": false}), "true");
    gives("if a then 1 else 2", json!({"a": null}), "2");
    gives("if a then 1 else 2", json!({}), "unknown: missing a");
}

#[test]
fn a_fact_of_the_wrong_type_is_unknown_and_blamed() {
    gives("idle <= 15", json!({"idle": "soon"}), "unknown: wrong-type idle");
    gives("x <= 15", json!({"x": "soon"}), "unknown: wrong-type x");
    gives("x = 3", json!({"x": "3"}), "unknown: wrong-type x");
    gives("os.version >= \"12\"", json!({"os": {"version": "latest"}}), "unknown: wrong-type os.version");
    gives("x + 1 > 2", json!({"x": "1"}), "unknown: wrong-type x");
    gives("string length(x) > 2", json!({"x": 5}), "unknown: wrong-type x");
    gives("present(idle)", json!({"idle": "soon"}), "true");
}

#[test]
fn versions_compare_by_parts() {
    gives("os.version >= \"12.0\"", json!({"os": {"version": "9.4"}}), "false");
    gives("os.version = \"13\"", json!({"os.version": "13.0"}), "true");
    gives("os.version in (\"13.0\", \"14\")", json!({"os.version": "13"}), "true");
    gives("os.version between \"9\" and \"10\"", json!({"os.version": "9.12"}), "true");
    gives("x >= version(\"12.0\")", json!({"x": "100"}), "true");
}

#[test]
fn time_is_exact_and_age_knows_the_future() {
    gives("age(seen) <= duration(\"P14D\")", json!({"seen": "2027-02-28T06:00:00Z"}), "true");
    gives("age(seen) <= duration(\"P14D\")", json!({"seen": "2027-02-28T05:59:59Z"}), "false");
    gives("age(seen) <= duration(\"14 days\")", json!({"seen": "2027-03-14T06:00:01Z"}), "unknown: clock seen");
    gives("age(other) < duration(\"PT2H\")", json!({"other": "2027-03-14T06:00:00+01:00"}), "true");
    gives("born + duration(\"P1M\")", json!({"born": "2027-01-31"}), "2027-02-28");
    gives("date(\"2027-03-01\") - date(\"2027-02-01\") = duration(\"P28D\")", json!({}), "true");
    gives("@\"2027-03-04T10:00:00@Europe/Oslo\" = @\"2027-03-04T09:00:00Z\"", json!({}), "true");
    gives("@\"2027-03-04T10:00:00\" < @\"2027-03-04T09:00:00Z\"", json!({}), "null");
    gives("now() = @\"2027-03-14T06:00:00Z\" and today() = @\"2027-03-14\"", json!({}), "true");
}

#[test]
fn a_stale_fact_proves_nothing_but_its_age_is_known() {
    meets("idle <= 15", json!({"idle": 5}), "48h", "true");
    meets("idle <= 15", json!({"idle": 5}), "47h", "unknown: stale idle");
    meets("age(seen) < duration(\"P9D\")", json!({"seen": "2027-03-12T00:00:00Z"}), "1h", "true");
    meets("seen < now()", json!({"seen": "2027-03-12T00:00:00Z"}), "1h", "unknown: stale seen");
    meets("present(idle)", json!({"idle": 5}), "1h", "true");
    // A scope uses the last known value at any age.
    assert_eq!(
        on("idle <= 15", &json!({"idle": 5}), Some("1h"), |evaluator, condition| said(&evaluator.holds(condition))),
        "true"
    );
}

fn disks() -> Json {
    json!({"disks": [
        {"mount": "C:", "writable": true, "encrypted": true},
        {"mount": "D:", "writable": false, "encrypted": false},
        {"mount": "E:", "encrypted": true},
    ]})
}

#[test]
fn quantifiers_weigh_items_whose_membership_is_doubtful() {
    let rule = "every d in disks[writable] satisfies d.encrypted";
    gives(rule, disks(), "true");
    gives(rule, json!({"disks": []}), "true");
    gives(rule, json!({}), "unknown: missing disks");
    gives(rule, json!({"disks": null}), "null");
    gives(rule, json!({"disks": [{"encrypted": false}]}), "unknown: missing disks.writable");
    gives(rule, json!({"disks": [{"encrypted": false}, {"writable": true, "encrypted": false}]}), "false");
    gives("every d in disks satisfies d.encrypted", json!({"disks": "n/a"}), "unknown: missing disks.encrypted");
    gives("some d in disks satisfies d.size > 5", json!({"disks": [{"size": 9}, {}]}), "true");
    gives("some d in disks satisfies d.size > 5", json!({"disks": [{"size": 1}, {}]}), "unknown: missing disks.size");
    gives("every a in xs, b in ys satisfies a < b", json!({"xs": [1, 2], "ys": [3, 4]}), "true");
    gives("every a in xs, b in ys satisfies a < b", json!({"xs": [1, 3], "ys": [3, 4]}), "false");
}

#[test]
fn filters_indexes_and_projections() {
    gives("count(disks[writable])", disks(), "unknown: missing disks.writable");
    gives("count(disks[not(encrypted)])", disks(), "1");
    gives("disks.mount", disks(), "[C:, D:, E:]");
    gives("disks[2].mount", disks(), "D:");
    gives("disks[-1].mount", disks(), "E:");
    gives("disks[9]", disks(), "null");
    gives("xs[item > 2]", json!({"xs": [1, 3, 5]}), "[3, 5]");
    gives("xs[item > limit]", json!({"xs": [1, 3, 5], "limit": 4}), "[5]");
    // The field of an item is never borrowed from the outer fact of that name.
    gives("count(disks[size > 1])", json!({"disks": [{"mount": "C:"}], "size": 5}), "unknown: missing disks.size");
    gives("\"C:\" in disks.mount", disks(), "true");
    gives("count(software[name in (\"a\", \"b\")])", json!({"software": [{"name": "a"}, {"name": "c"}]}), "1");
    gives("max(disks[not(encrypted)].mount)", disks(), "D:");
}

#[test]
fn texts_functions_and_membership() {
    gives(
        "starts with(x, \"tern\") and ends with(x, \"1\") and contains(x, \"-k\")",
        json!({"x": "tern-kiosk-1"}),
        "true",
    );
    gives("matches(x, \"^tern-[a-z]+-\\d$\")", json!({"x": "tern-kiosk-1"}), "true");
    gives("matches(x, \"TERN\", \"i\")", json!({"x": "tern"}), "true");
    gives("string length(x)", json!({"x": "bl\u{e5}b\u{e6}r"}), "6");
    gives("substring(x, 2, 3)", json!({"x": "\u{65e5}\u{672c}\u{8a9e}abc"}), "\u{672c}\u{8a9e}a");
    gives("x in [1..5]", json!({"x": 5}), "true");
    gives("x in (1..5)", json!({"x": 5}), "false");
    gives("x in ]1..5]", json!({"x": 1}), "false");
    gives("x in (>= 30, 5)", json!({"x": 5}), "true");
    gives("settings.`a-b` = 1", json!({"settings": {"a-b": 1}}), "true");
    gives("sum(xs) = 6 and min(xs) = 1 and mean(xs) = 2", json!({"xs": [1, 2, 3]}), "true");
}

#[track_caller]
fn refused(text: &str, code: &str, at: &str) {
    let (condition, mistakes, _) = compile(text, false);
    assert!(condition.is_none(), "{text} was taken");
    let found = mistakes.iter().find(|mistake| mistake.code == code).unwrap_or_else(|| panic!("{text}: {mistakes:?}"));
    assert_eq!(found.severity, Severity::Error);
    assert_eq!(&text[found.span.clone().unwrap().range], at, "{text}");
    assert!(found.help.is_some(), "{text}");
}

#[test]
fn what_cannot_be_meant_is_refused_before_it_runs() {
    refused("1 = \"1\"", "never-equal", "1 = \"1\"");
    refused("on = \"yes\"", "never-equal", "on = \"yes\"");
    refused("on < true", "no-order", "on < true");
    refused("os.version >= 12", "never-equal", "os.version >= 12");
    refused("os.version >= \"latest\"", "bad-literal", "\"latest\"");
    refused("idle", "not-a-condition", "idle");
    refused("strlen(x) > 1", "unknown-function", "strlen");
    refused("count() > 1", "wrong-arguments", "count()");
    refused("age(idle) > duration(\"P1D\")", "wrong-type", "idle");
    refused("idle > duration(\"3 fortnights\")", "bad-literal", "\"3 fortnights\"");
    refused("date(\"2027-02-30\") < today()", "bad-literal", "\"2027-02-30\"");
    refused("in group(\"shoer\")", "unknown-group", "\"shoer\"");
    refused("matches(x, \"(a)\\1\")", "bad-pattern", "\"(a)\\1\"");
    refused("standing = \"compliant\"", "own-tail", "standing");
    refused("signin.client = \"app\"", "unknown-name", "signin.client");
    refused("idle and on", "not-a-condition", "idle");
}

#[test]
fn every_mistake_of_a_condition_is_reported_and_doubts_are_warnings() {
    let (_, mistakes, _) = compile("strlen(x) > 1 and idle = \"a\" and nope(y)", false);
    assert_eq!(mistakes.len(), 3, "{mistakes:?}");
    let (condition, mistakes, _) = compile("os.verson >= \"12.0\"", false);
    assert!(condition.is_some());
    let codes: Vec<&str> = mistakes.iter().map(|mistake| mistake.code).collect();
    assert_eq!(codes, ["unknown-fact", "version-as-text"]);
    assert!(mistakes[0].help.as_deref().unwrap().contains("os.version"));
}

fn proof(text: &str, document: &Json) -> Evidence {
    on(text, document, None, |evaluator, condition| evaluator.explain(condition, true).1)
}

#[test]
fn evidence_keeps_what_decided_and_nothing_else() {
    let document = json!({"idle": 30, "on": true, "os": {"version": "9.4"}});
    assert_eq!(proof("idle <= 15 and on", &document).headline(), "idle is 30, required <= 15");
    // A side that is written first is still the requirement.
    assert_eq!(proof("15 >= idle", &document).headline(), "idle is 30, required <= 15");
    assert_eq!(proof("not(idle > 15)", &document).headline(), "idle is 30, required <= 15");
    let Evidence::All { parts, .. } = proof("idle <= 15 and os.version >= \"12\" and on", &document) else { panic!() };
    assert_eq!(parts.len(), 2);
    let Evidence::Any { parts, .. } = proof("idle <= 15 or os.version >= \"12\"", &document) else { panic!() };
    assert_eq!(parts.len(), 2);
}

#[test]
fn evidence_of_lists_names_the_items_that_broke_it() {
    let many: Vec<Json> =
        (0..9).map(|at| json!({"mount": format!("d{at}"), "writable": true, "encrypted": at == 0})).collect();
    let Evidence::Items { decided, total, items, .. } =
        proof("every d in disks[writable] satisfies d.encrypted", &json!({"disks": many}))
    else {
        panic!()
    };
    assert_eq!((decided, total, items.len()), (8, 9, 5));
    assert_eq!(items[0].label, "d1");
    let software = json!({"software": [{"name": "seedpool"}, {"name": "ebbnote"}]});
    assert_eq!(
        proof("count(software[name = \"seedpool\"]) = 0", &software).headline(),
        "count(software[name = \"seedpool\"]) is 1 (seedpool), required = 0"
    );
    assert!(matches!(
        proof("every d in disks satisfies d.encrypted", &json!({"disks": []})),
        Evidence::NothingToCheck { .. }
    ));
}

#[test]
fn evidence_of_the_unknown_blames_every_fact() {
    let mut blames = Vec::new();
    proof("gone > 1 and idle <= 15 and other.x", &json!({"idle": "soon"})).blames(&mut blames);
    let blamed: Vec<(&str, Reason)> = blames.iter().map(|blame| (blame.fact.as_str(), blame.reason)).collect();
    assert_eq!(blamed, [("gone", Reason::Missing), ("idle", Reason::WrongType), ("other.x", Reason::Missing)]);
}

/// A condition over `a`, `b` and the list `xs`, as text and as a plain function on JSON.
#[derive(Clone, Debug)]
enum Plain {
    Compare(&'static str, &'static str, i64),
    And(Box<Plain>, Box<Plain>),
    Or(Box<Plain>, Box<Plain>),
    Not(Box<Plain>),
    Every(&'static str, i64),
    Some(&'static str, i64),
}

impl Plain {
    fn text(&self) -> String {
        match self {
            Self::Compare(fact, op, number) => format!("{fact} {op} {number}"),
            Self::And(a, b) => format!("({}) and ({})", a.text(), b.text()),
            Self::Or(a, b) => format!("({}) or ({})", a.text(), b.text()),
            Self::Not(a) => format!("not({})", a.text()),
            Self::Every(op, number) => format!("every x in xs satisfies x {op} {number}"),
            Self::Some(op, number) => format!("some x in xs satisfies x {op} {number}"),
        }
    }

    fn compare(value: Option<&Json>, op: &str, number: i64) -> Option<bool> {
        let found = value?.as_i64()?;
        Some(match op {
            "<" => found < number,
            "<=" => found <= number,
            ">" => found > number,
            ">=" => found >= number,
            "=" => found == number,
            _ => found != number,
        })
    }

    /// Three-valued, by the book: none is unknown.
    fn holds(&self, document: &Json) -> Option<bool> {
        match self {
            Self::Compare(fact, op, number) => Self::compare(document.get(fact), op, *number),
            Self::And(a, b) => match (a.holds(document), b.holds(document)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
            Self::Or(a, b) => match (a.holds(document), b.holds(document)) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            },
            Self::Not(a) => a.holds(document).map(|truth| !truth),
            Self::Every(op, number) | Self::Some(op, number) => {
                let every = matches!(self, Self::Every(..));
                let items = match document.get("xs")? {
                    Json::Array(items) => items.clone(),
                    single => vec![single.clone()],
                };
                let each: Vec<Option<bool>> = items.iter().map(|item| Self::compare(Some(item), op, *number)).collect();
                if each.contains(&Some(!every)) {
                    Some(!every)
                } else if each.contains(&None) {
                    None
                } else {
                    Some(every)
                }
            }
        }
    }
}

fn plain() -> impl Strategy<Value = Plain> {
    let op = prop::sample::select(vec!["<", "<=", ">", ">=", "=", "!="]);
    let leaf = prop_oneof![
        (prop::sample::select(vec!["a", "b", "gone"]), op.clone(), 0i64..4)
            .prop_map(|(fact, op, number)| Plain::Compare(fact, op, number)),
        (op.clone(), 0i64..4).prop_map(|(op, number)| Plain::Every(op, number)),
        (op, 0i64..4).prop_map(|(op, number)| Plain::Some(op, number)),
    ];
    leaf.prop_recursive(4, 24, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Plain::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Plain::Or(Box::new(a), Box::new(b))),
            inner.prop_map(|a| Plain::Not(Box::new(a))),
        ]
    })
}

fn document() -> impl Strategy<Value = Json> {
    let scalar = || prop_oneof![4 => (0i64..4).prop_map(Json::from), 1 => Just(json!("x")), 1 => Just(json!(true))];
    (prop::option::of(scalar()), prop::option::of(scalar()), prop::option::of(prop::collection::vec(scalar(), 0..4)))
        .prop_map(|(a, b, xs)| {
            let mut out = serde_json::Map::new();
            out.extend(a.map(|a| ("a".to_owned(), a)));
            out.extend(b.map(|b| ("b".to_owned(), b)));
            out.extend(xs.map(|xs| ("xs".to_owned(), Json::Array(xs))));
            Json::Object(out)
        })
}

proptest! {
    #[test]
    fn agrees_with_a_plain_evaluator(plain in plain(), document in document()) {
        let text = plain.text();
        let truth = |value: &Value<'_>| match value {
            Value::Boolean(truth) => Some(*truth),
            _ => None,
        };
        let found = on(&text, &document, None, |evaluator, condition| truth(&evaluator.holds(condition)));
        prop_assert_eq!(found, plain.holds(&document), "{} on {}", &text, &document);
        // With its trace on, the same evaluator decides the same.
        let traced = on(&text, &document, None, |evaluator, condition| {
            let (value, evidence) = evaluator.explain(condition, false);
            (truth(&value), evidence.outcome())
        });
        prop_assert_eq!(traced.0, found);
        prop_assert_eq!(traced.1 == crate::Outcome::True, found == Some(true));
    }

    #[test]
    fn any_text_is_read_or_refused_and_never_panics(text in "[a-c0-9 .,()\\[\\]<>=\"`@andorinotevrysm{}+*/-]{0,40}") {
        let (condition, mistakes, _) = compile(&text, true);
        prop_assert!(condition.is_some() || !mistakes.is_empty());
    }
}

#[test]
fn overflow_and_rounding_end_in_null_or_a_number() {
    gives("9999999999999999999999999999 * 10", json!({}), "null");
    gives("x", json!({"x": 0.1}), "0.1");
    let third = Decimal::ONE / Decimal::from(3);
    gives("1 / 3", json!({}), &third.to_string());
}
