//! Conditions from text to outcome: values, three-valued logic, checks, evidence.

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use rust_decimal::Decimal;
use serde_json::{Value as Json, json};

mod budget;
mod evidence_summary;
mod fast_predicate;
mod implies;
mod temporal;
mod until;

use super::*;
use crate::condition::evidence::Evidence;
use crate::diagnostic::{Diagnostic, FileId, Severity, Text};
use crate::facts::dictionary::{Declaration, Dictionary, FactType};
use crate::facts::layout::{Layout, SlotId};
use crate::facts::merge::{Observation, merge};
use crate::facts::period::Period;
use crate::facts::value::{Reason, Value};
use crate::id::GroupId;
use crate::testing::datum;

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
    let mut vocabulary = Vocabulary {
        dictionary: &dictionary,
        layout: &mut layout,
        people: &mut people,
        groups: &groups,
        rules: &["disk/a".to_owned()],
    };
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
    let observation = [Observation { source: "test", trust: 0, collected, fresh_for, calendar: None, slots: &slots }];
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
    gives("@\"2027-03-04T10:00:00@Europe/Oslo\"", json!({}), "2027-03-04T10:00:00@Europe/Oslo");
    // A month on is the same time on the clock, whatever summer time does.
    gives("@\"2027-03-04T10:00:00@Europe/Oslo\" + @\"P1M\" = @\"2027-04-04T08:00:00Z\"", json!({}), "true");
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
    // A null is not present at any age.
    meets("present(idle)", json!({"idle": null}), "48h", "false");
    meets("present(idle)", json!({"idle": null}), "1h", "false");
    meets("not(present(lock.idle))", json!({"lock": {"idle": null}}), "1h", "true");
    meets("present(lock.idle)", json!({"lock": {}}), "1h", "false");
    meets("present(disks[2])", json!({"disks": [1, null]}), "1h", "false");
    meets("present(disks[1])", json!({"disks": [1, null]}), "1h", "true");
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

/// Examples of the standard's chapters on functions, operators and types, as far as they fall in the subset.
#[test]
fn the_standards_examples_give_the_standards_values() {
    for (text, expected) in [
        ("substring(\"foobar\", 3)", "obar"),
        ("substring(\"foobar\", 3, 3)", "oba"),
        ("substring(\"foobar\", -2, 1)", "a"),
        ("substring(\"\\U01F40Eab\", 2)", "ab"),
        ("string length(\"foo\")", "3"),
        ("string length(\"\\U01F40Eab\")", "3"),
        ("upper case(\"aBc4\")", "ABC4"),
        ("lower case(\"aBc4\")", "abc4"),
        ("replace(\"abcd\", \"(ab)|(a)\", \"[1=$1][2=$2]\")", "[1=ab][2=]cd"),
        ("contains(\"foobar\", \"of\")", "false"),
        ("starts with(\"foobar\", \"fo\")", "true"),
        ("ends with(\"foobar\", \"r\")", "true"),
        ("matches(\"foobar\", \"^fo*b\")", "true"),
        ("split(\"John Doe\", \"\\s\")", "[John, Doe]"),
        ("split(\"a;b;c;;\", \";\")", "[a, b, c, \"\", \"\"]"),
        ("string join([\"a\",\"b\",\"c\"], \"_and_\")", "a_and_b_and_c"),
        ("string join([\"a\",\"b\",\"c\"], \"\")", "abc"),
        ("string join([\"a\"], \"X\")", "a"),
        ("list contains([1,2,3], 2)", "true"),
        ("list contains([1,null], null)", "true"),
        ("count([1,2,3])", "3"),
        ("count([])", "0"),
        ("count([1,[2,3]])", "2"),
        ("min([1,2,3])", "1"),
        ("min(1)", "1"),
        ("min([])", "null"),
        ("max(1,2,3)", "3"),
        ("sum([1,2,3])", "6"),
        ("sum(1)", "1"),
        ("sum([])", "null"),
        ("mean([1,2,3])", "2"),
        ("mean([])", "null"),
        ("median(8, 2, 5, 3, 4)", "4"),
        ("median([6, 1, 2, 3])", "2.5"),
        ("median([])", "null"),
        ("all([false,null,true])", "false"),
        ("all(true)", "true"),
        ("all([])", "true"),
        ("any([false,null,true])", "true"),
        ("any([])", "false"),
        ("any(false)", "false"),
        ("concatenate([1,2],[3])", "[1, 2, 3]"),
        ("distinct values([1,2,3,2,1])", "[1, 2, 3]"),
        ("decimal(1/3, 2)", "0.33"),
        ("decimal(1.5, 0)", "2"),
        ("decimal(2.5, 0)", "2"),
        ("floor(1.5)", "1"),
        ("floor(-1.5)", "-2"),
        ("floor(-1.56, 1)", "-1.6"),
        ("ceiling(1.5)", "2"),
        ("ceiling(-1.5)", "-1"),
        ("ceiling(-1.56, 1)", "-1.5"),
        ("round up(5.5, 0)", "6"),
        ("round up(-5.5, 0)", "-6"),
        ("round up(1.121, 2)", "1.13"),
        ("round down(5.5, 0)", "5"),
        ("round down(-5.5, 0)", "-5"),
        ("round half up(5.5, 0)", "6"),
        ("round half up(-5.5, 0)", "-6"),
        ("round half down(5.5, 0)", "5"),
        ("round half down(-5.5, 0)", "-5"),
        ("round(2.5)", "3"),
        ("round(-2.5)", "-3"),
        ("round(1250, -2)", "1300"),
        ("abs(-10)", "10"),
        ("abs(@\"PT5H\") = @\"PT5H\"", "true"),
        ("abs(@\"-PT5H\") = @\"PT5H\"", "true"),
        ("number(\"1 000,0\", \" \", \",\") = number(\"1,000.0\", \",\", \".\")", "true"),
        ("string(1.1)", "1.1"),
        ("string(null)", "null"),
        ("string([1, \"a\", null, [2]])", "[1, \"a\", null, [2]]"),
        ("string length(string([1,2,3,4,5,6,7,8,9]))", "27"),
        ("list contains(null, 1)", "null"),
        ("null < 3", "null"),
        ("null < null", "null"),
        ("null = 3", "false"),
        ("date(2012, 12, 25) = date(\"2012-12-25\")", "true"),
        ("date(date and time(\"2012-12-25T11:00:00Z\")) = date(\"2012-12-25\")", "true"),
        ("date(\"2012-12-25\") - date(\"2012-12-24\") = duration(\"P1D\")", "true"),
        (
            "date and time(\"2012-12-24T23:59:00\") + duration(\"PT1M\") = date and time(\"2012-12-25T00:00:00\")",
            "true",
        ),
        ("date and time(date(\"2012-12-24\"), time(\"23:59:00Z\")) = @\"2012-12-24T23:59:00Z\"", "true"),
        ("time(\"23:59:00z\") + duration(\"PT2M\") = time(\"00:01:00@UTC\")", "refused"),
        ("time(\"23:59:00z\") + duration(\"PT2M\") = time(\"00:01:00Z\")", "true"),
        ("time(\"14:10:00+00:00\") = time(\"16:10:00+02:00\")", "true"),
        ("time(10, 30, 15, duration(\"PT1H\")) = @\"10:30:15+01:00\"", "true"),
        ("duration(\"P2Y2M\") = duration(\"P26M\")", "true"),
        ("duration(\"P1D\") / duration(\"PT12H\")", "2"),
        ("duration(\"PT2H\") * 3 = duration(\"PT6H\")", "true"),
        ("date(\"2012-01-31\") + duration(\"P1M\")", "2012-02-29"),
        ("if 20 > 10 then \"yes\" else \"no\"", "yes"),
        ("for i in 1..3 return i * 2", "[2, 4, 6]"),
        ("for i in 3..1 return i", "[3, 2, 1]"),
        ("for i in [1,2], j in [3,4] return i * j", "[3, 4, 6, 8]"),
        ("some x in [1,2], y in [2,3] satisfies x < y", "true"),
        ("every x in [1,2], y in [2,3] satisfies x < y", "false"),
        ("[1,2,3,4][item > 2]", "[3, 4]"),
        ("[1,2,3,4][2]", "2"),
        ("[1,2,3,4][-1]", "4"),
        ("[1,2,3,4][5]", "null"),
        ("1 in [2,3,1]", "true"),
        ("5 in (<= 5)", "true"),
        ("5 in ((5..10])", "false"),
        ("5 in ([5..10])", "true"),
        ("5 in (4,5,6)", "true"),
        ("5 between 1 and 10", "true"),
        ("\"a\" < \"b\"", "true"),
        ("null = null", "true"),
        ("null != null", "false"),
        ("1 instance of number", "true"),
        ("\"a\" instance of string", "true"),
        ("[1] instance of list<number>", "true"),
        ("@\"P1Y\" instance of years and months duration", "true"),
        ("@\"P1D\" instance of days and time duration", "true"),
        ("@\"2012-12-24T23:59:00\" instance of date and time", "true"),
        ("null instance of Any", "false"),
        ("substring(string: \"abc\", start position: 2)", "bc"),
        ("starts with(match: \"a\", string: \"abc\")", "true"),
        ("date(from: \"2012-12-25\") = date(2012, 12, 25)", "true"),
    ] {
        if expected == "refused" {
            assert!(compile(text, true).0.is_none(), "{text}");
        } else {
            gives(text, json!({}), expected);
        }
    }
}

#[test]
fn functions_weigh_what_is_unknown_in_lists() {
    let document = || json!({"xs": [{"n": 1, "ok": true}, {"ok": false}, {"n": 3}]});
    gives("count(xs.n)", document(), "3");
    gives("sum(xs.n)", document(), "unknown: missing xs.n");
    gives("all(xs.ok)", document(), "false");
    gives("any(xs.ok)", document(), "true");
    gives("list contains(xs.n, 3)", document(), "true");
    gives("list contains(xs.n, 9)", document(), "unknown: missing xs.n");
    gives("count(xs[n > 2])", document(), "unknown: missing xs.n");
    gives("for x in xs[n > 2] return x.n", document(), "unknown: missing xs.n");
    gives("sum(gone)", document(), "unknown: missing gone");
    gives("max(xs)", document(), "unknown: wrong-type xs");
    gives("sum(empty)", json!({"empty": []}), "null");
    gives("idle instance of number", json!({}), "unknown: missing idle");
}

#[test]
fn networks_keys_and_written_names() {
    let document = || json!({"address": "10.4.7.9", "six": "2001:db8::5", "dressed": "::ffff:10.4.7.9", "bad": "here", "settings": {"main.timeout": 5, "a": {"b": 1}}});
    gives("in network(address, \"10.4.0.0/16\")", document(), "true");
    gives("in network(address, \"10.5.0.0/16\", \"10.4.7.9\")", document(), "true");
    gives("in network(address, \"2001:db8::/32\")", document(), "false");
    gives("in network(six, \"2001:db8::/32\")", document(), "true");
    gives("in network(dressed, \"10.4.0.0/16\")", document(), "true");
    gives("in network(bad, \"10.4.0.0/16\")", document(), "unknown: wrong-type bad");
    gives("in network(gone, \"0.0.0.0/0\")", document(), "unknown: missing gone");
    gives("get value(settings, \"main.timeout\")", document(), "5");
    gives("get value(settings, \"a.b\")", document(), "unknown: missing settings");
    gives("get value(settings, \"a\")", document(), "{b: 1}");
    refused("in network(address, \"10.4.0.0/33\")", "bad-literal", "\"10.4.0.0/33\"");
}

#[test]
fn hostile_ranges_and_repetitions_end() {
    gives("count(for i in 1..100000000000 return i)", json!({}), "unknown: error ");
    gives("count(for i in 1..1000, j in 1..1000 return i)", json!({}), "unknown: error ");
    let many: Vec<u32> = (0..20_000).collect();
    let document = || json!({"xs": &many});
    gives("every a in xs, b in xs, c in xs satisfies a + b + c >= 0", document(), "unknown: error xs");
    gives("count(xs[count(xs[item > 0]) > 5])", document(), "unknown: error xs");
    gives("count(distinct values(concatenate(xs, xs)))", document(), "20000");
}

#[test]
fn conditions_are_said_in_plain_english() {
    for (text, said) in [
        ("every d in disks[writable] satisfies d.encrypted", "every writable disk is encrypted"),
        (
            "lock.idle_minutes <= 15 and os.version >= version(\"12.0\")",
            "lock.idle_minutes is at most 15, and os.version is at least 12.0",
        ),
        ("age(agent.last_seen) <= duration(\"P14D\")", "agent.last_seen is at most 14 d ago"),
        (
            "not(some s in software satisfies s.name = \"seedpool\")",
            "for every item of software, its name is not \"seedpool\"",
        ),
        (
            "count(software[name in (\"a\", \"b\")]) = 0",
            "the number of software of which name is one of \"a\", \"b\" is 0",
        ),
        ("not(security.rooted)", "security.rooted is not so"),
        (
            "platform in (\"android\", \"ios\") or present(owner)",
            "platform is one of \"android\", \"ios\", or owner is reported",
        ),
        ("starts with(name, \"tern\")", "name starts with \"tern\""),
        ("password.length between 10 and 64", "password.length is between 10 and 64"),
    ] {
        let (condition, mistakes, _) = compile(text, false);
        assert_eq!(condition.unwrap_or_else(|| panic!("{mistakes:?}")).in_english(), said, "{text}");
    }
}

#[test]
fn conditions_that_nothing_decides_are_pointed_out() {
    for (text, constant) in [
        ("1 = 2", Some("never true")),
        ("true", Some("always true")),
        ("every x in [] satisfies x > 1", Some("always true")),
        ("null", Some("never true")),
        ("now() > @\"2027-01-01T00:00:00Z\"", None),
        ("on or true", None),
        ("idle > 3", None),
    ] {
        let (_, mistakes, _) = compile(text, false);
        let found = mistakes.iter().find(|mistake| mistake.code == "constant").map(|mistake| mistake.message.as_str());
        assert_eq!(found.is_some(), constant.is_some(), "{text}");
        assert!(constant.is_none_or(|word| found.is_some_and(|message| message.ends_with(word))), "{text}: {found:?}");
    }
}

#[test]
fn findings_are_asked_for_outside_rules_only() {
    refused("failing(\"disk\")", "own-tail", "failing(\"disk\")");
    let dictionary = dictionary();
    let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
    let rules = ["disk/a".to_owned(), "lock".to_owned()];
    let mut vocabulary =
        Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &[], rules: &rules };
    let mut ask = |text: &str, failing: Option<&[&str]>| {
        let mut mistakes = Vec::new();
        let condition =
            Condition::compile(&Text::whole(text, FileId(0)), Place::Devices, &mut vocabulary, &mut mistakes);
        let Some(condition) = condition else { return mistakes.remove(0).message };
        assert!(condition.reads_standing());
        let (arena, zone) = (Bump::new(), TimeZone::UTC);
        let mut evaluator = Evaluator::new(None, Timestamp::UNIX_EPOCH, &zone, &arena);
        evaluator.set_ambient(Ambient { failing, ..Ambient::default() });
        said(&evaluator.holds(&condition))
    };
    assert_eq!(ask("failing(\"disk\")", Some(&["disk/a"])), "true");
    assert_eq!(ask("failing(\"disk/a\")", Some(&["lock"])), "false");
    assert_eq!(ask("failing(\"lock\")", None), "unknown: missing failing");
    assert_eq!(ask("failing(\"lok\")", Some(&[])), "unknown rule `lok`");
}

#[test]
fn patterns_are_those_of_xpath() {
    for (text, expected) in [
        ("matches(\"b\", \"^[a-z-[aeiou]]$\")", "true"),
        ("matches(\"e\", \"^[a-z-[aeiou]]$\")", "false"),
        ("matches(\"hello world\", \" hello[ ]world \", \"x\")", "true"),
        ("matches(\"a#b\", \"a # b\", \"x\")", "true"),
        ("matches(\"a.b\", \"a.b\", \"q\") and not(matches(\"axb\", \"a.b\", \"q\"))", "true"),
        ("matches(\"_x1\", \"^\\i\\c*$\")", "true"),
        ("matches(\"a\\nb\", \"a.b\")", "false"),
        ("matches(\"a\\nb\", \"a.b\", \"s\")", "true"),
        ("matches(\"a\\nb\", \"^b$\", \"m\")", "true"),
        ("matches(\"[&]\", \"^[\\[&~\\]]+$\")", "true"),
        ("replace(\"facetiously\", \"[aeiouy]\", \"[$0]\")", "f[a]c[e]t[i][o][u]sl[y]"),
    ] {
        gives(text, json!({}), expected);
    }
}

#[test]
fn unary_tests_are_what_a_value_is_expected_to_meet() {
    let outcome = |tests: &str, document: &Json| {
        let dictionary = dictionary();
        let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
        let mut vocabulary =
            Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &[], rules: &[] };
        let mut mistakes = Vec::new();
        let text = Text::whole(tests, FileId(0));
        let Some(condition) = Condition::compile_tests("log.days", &text, Place::Rule, &mut vocabulary, &mut mistakes)
        else {
            return mistakes.remove(0).message;
        };
        let arena = Bump::new();
        let whole = datum(document).to_value(&arena);
        let slots: Vec<Value<'_>> =
            layout.slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
        let now: Timestamp = NOW.parse().unwrap();
        let said_of =
            [Observation { source: "test", trust: 0, collected: None, fresh_for: None, calendar: None, slots: &slots }];
        let facts = merge(&said_of, std::iter::empty(), &layout, now, &arena);
        let zone = TimeZone::UTC;
        said(&Evaluator::new(Some(&facts), now, &zone, &arena).holds(&condition))
    };
    let days = |value: Json| json!({"log": {"days": value}});
    for (tests, value, expected) in [
        (">= 30", json!(30), "true"),
        (">= 30", json!(29), "false"),
        ("[8..16]", json!(16), "true"),
        ("(8..16)", json!(16), "false"),
        ("\"a\", \"b\"", json!("b"), "true"),
        ("not(\"a\", \"b\")", json!("b"), "false"),
        ("not(\"a\", \"b\")", json!("c"), "true"),
        ("< 5, > 10", json!(7), "false"),
        ("-", json!(7), "true"),
        ("-5", json!(-5), "true"),
        ("null", json!(null), "true"),
        ("35", json!("35"), "unknown: wrong-type log.days"),
    ] {
        assert_eq!(outcome(tests, &days(value.clone())), expected, "{tests} on {value}");
    }
    assert_eq!(outcome(">= 30", &json!({})), "unknown: missing log.days");
    assert!(outcome(">= ", &json!({})).contains("ends where a value"));
    assert!(outcome("30 31", &json!({})).contains("found `31`"));
}

#[test]
fn bounds_that_leave_nothing_over_are_pointed_out() {
    let warned = |text: &str| compile(text, false).1.iter().any(|mistake| mistake.code == "constant");
    for text in ["idle > 5 and idle < 3", "idle > 5 and on and 5 >= idle", "x = 1 and x = 2", "x >= 3 and x < 3"] {
        assert!(warned(text), "{text}");
    }
    for text in
        ["idle > 3 and idle < 5", "x >= 3 and x <= 3", "x > 5 or x < 3", "x > 5 and y < 3", "x != 3 and x = 3 or on"]
    {
        assert!(!warned(text), "{text}");
    }
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
    refused("idle instance of numbr", "unknown-type", "numbr");
    refused("contains(strin: \"a\", match: \"b\")", "unknown-argument", "strin");
    refused("contains(string: \"a\", \"b\")", "wrong-arguments", "contains(string: \"a\", \"b\")");
    refused("born = @\"2027-03-04T10:00:00Z\"", "never-equal", "born = @\"2027-03-04T10:00:00Z\"");
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
    let path = |part: &Evidence| match part {
        Evidence::Comparison { path, .. } => path.clone(),
        _ => None,
    };
    assert_eq!(path(&items[0].parts[0]).as_deref(), Some("disks[].encrypted"));
    for (condition, whole) in [
        ("disk.encrypted", "disk.encrypted"),
        ("count(disks[size < 5]) > 9", "disks"),
        ("lower case(os.name) = \"x\"", "os.name"),
        ("disks[1].size > 7", "disks.size"),
    ] {
        let document = json!({"disk": {"encrypted": false}, "disks": [{"size": 1}], "os": {"name": "y"}});
        assert_eq!(path(&proof(condition, &document)).as_deref(), Some(whole), "{condition}");
    }
    let nested = json!({"disks": [{"parts": [{"size": 9}]}]});
    let told = proof("every d in disks satisfies every p in d.parts satisfies p.size < 5", &nested);
    let Evidence::Items { items, .. } = told else { panic!() };
    let Evidence::Items { items, .. } = &items[0].parts[0] else { panic!() };
    assert_eq!(path(&items[0].parts[0]).as_deref(), Some("disks.parts[].size"));
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

/// An expression with its brackets, built from pieces.
fn written() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec![
        "1",
        "2.5",
        "\"a\\\"b\\\\\"",
        "a.b",
        "`a-b`.c",
        "null",
        "true",
        "@\"2027-03-04\"",
        "now()",
        "[1, \"x\"]",
        "xs[item > 2]",
        "xs[-1]",
        "x in (1, >= 5, [1..2))",
        "x between 1 and 2",
        "x instance of number",
        "every i in xs satisfies i = 1",
        "for i in 1..3 return i",
        "if a then b else c",
        "substring(string: \"a\", start position: 1)",
        "in group(\"shore\")",
    ]);
    leaf.prop_map(str::to_owned).prop_recursive(4, 24, 2, |inner| {
        let op = prop::sample::select(vec!["+", "-", "*", "/", "**", "=", "!=", "<", "<=", "and", "or"]);
        prop_oneof![
            (inner.clone(), op, inner.clone()).prop_map(|(a, op, b)| format!("({a}) {op} ({b})")),
            inner.clone().prop_map(|a| format!("-({a})")),
            inner.clone().prop_map(|a| format!("not({a})")),
            inner.prop_map(|a| format!("({a}).f")),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_printed_reads_back_to_the_same(text in written()) {
        let read = |text: &str| super::parser::parse(&Text::loose(text));
        let tree = read(&text).unwrap_or_else(|mistake| panic!("{text}: {}", mistake.message));
        let printed = super::print::text(&tree);
        let again = read(&printed).unwrap_or_else(|mistake| panic!("{text} -> {printed}: {}", mistake.message));
        prop_assert_eq!(super::print::text(&again), printed, "{}", text);
        let bare = |tree: &super::syntax::Expr| {
            // The same tree, wherever it stands in its text.
            let shown = format!("{tree:?}");
            regex::Regex::new(r"\d+\.\.\d+").unwrap().replace_all(&shown, "").into_owned()
        };
        prop_assert_eq!(bare(&again), bare(&tree), "{}", text);
    }

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

fn mistakes(text: &str) -> Vec<&'static str> {
    compile(text, true).1.into_iter().map(|mistake| mistake.code).collect()
}

#[test]
fn ranges_close_with_either_bracket_and_deep_parentheses_are_read() {
    for (text, wanted) in [
        ("2 in ]1..3[", "true"),
        ("1 in ]1..3[", "false"),
        ("3 in [1..3[", "false"),
        ("1 in [1..3[ and 2 in ]1..2]", "true"),
        ("2 in [1..ports[2]]", "true"),
        ("not(3 in [1..3[)", "true"),
    ] {
        gives(text, json!({"ports": [1, 2]}), wanted);
    }
    let nested = |levels: usize| format!("{}1 = 1{}", "(".repeat(levels), ")".repeat(levels));
    gives(&nested(500), json!({}), "true");
    assert!(mistakes(&nested(502)).contains(&"too-deep"));
    assert!(mistakes(&format!("{}true{}", "not(".repeat(200), ")".repeat(200))).contains(&"too-deep"));
}

#[test]
fn durations_and_days_are_computed_with_as_in_the_standard() {
    for (text, wanted) in [
        ("date(\"2027-03-04\") - duration(\"PT1H\") = date(\"2027-03-03\")", "true"),
        ("date(\"2027-03-04\") + duration(\"PT23H\") = date(\"2027-03-04\")", "true"),
        ("duration(\"P1Y\") / 2 = duration(\"P6M\")", "true"),
        ("duration(\"P1Y\") / duration(\"P1M\")", "12"),
        ("duration(\"P1Y\") / 0", "null"),
        ("date and time(\"2027-03-04T10:00:00Z\") - date(\"2027-03-04\") = duration(\"PT10H\")", "true"),
        ("date(\"2027-03-05\") - date and time(\"2027-03-04T10:00:00\") = duration(\"PT14H\")", "true"),
        ("duration(\"3 months\") = duration(\"P3M\")", "true"),
        ("duration(\"2 years 1 month\") = duration(\"P25M\")", "true"),
    ] {
        gives(text, json!({}), wanted);
    }
    for wrong in ["date(2027, 3)", "time(10, 30)", "settings.`` = 1", "version(\"4.x\") < version(\"5\")"] {
        assert!(!mistakes(wrong).is_empty(), "{wrong}");
    }
}

#[test]
fn a_number_in_brackets_picks_an_item_and_the_device_is_reached_from_a_filter() {
    for (text, wanted) in [
        ("ports[count(ports)]", "3"),
        ("ports[count(ports) - 1]", "2"),
        ("ports[-count(ports)]", "1"),
        ("ports[idle]", "2"),
        ("ports[device.idle]", "2"),
        ("v[a = device.lim][1].a", "2"),
        ("count(v[a > device.limits.low])", "1"),
        ("every x in v[a = device.lim] satisfies x.a = 2", "true"),
    ] {
        gives(
            text,
            json!({"ports": [1, 2, 3], "idle": 2, "lim": 2, "limits": {"low": 1}, "v": [{"a": 1}, {"a": 2}]}),
            wanted,
        );
    }
}
