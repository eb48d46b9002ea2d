//! What implies what, held against what the evaluator says.

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use serde_json::{Value as Json, json};

use super::dictionary;
use crate::condition::{Condition, Evaluator, Place, Vocabulary};
use crate::diagnostic::{FileId, Text};
use crate::facts::layout::Layout;
use crate::facts::merge::{Observation, merge};
use crate::facts::value::Value;
use crate::testing::datum;

/// Two conditions by one layout, and what they come to on documents.
struct Two {
    layout: Layout,
    conditions: [Condition; 2],
}

impl Two {
    fn of(one: &str, other: &str) -> Self {
        let dictionary = dictionary();
        let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
        let mut vocabulary =
            Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &[], rules: &[] };
        let conditions = [one, other].map(|text| {
            let mut mistakes = Vec::new();
            Condition::compile(&Text::whole(text, FileId(0)), Place::Rule, &mut vocabulary, &mut mistakes)
                .unwrap_or_else(|| panic!("{text}: {mistakes:?}"))
        });
        Self { layout, conditions }
    }

    fn implies(&self) -> bool {
        self.conditions[0].implies(&self.conditions[1])
    }

    /// Whether each holds of a document; none where that is not known.
    fn hold(&self, document: &Json) -> [Option<bool>; 2] {
        let (arena, zone, at) = (Bump::new(), TimeZone::UTC, Timestamp::UNIX_EPOCH);
        let whole = datum(document).to_value(&arena);
        let slots: Vec<Value<'_>> =
            self.layout.slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
        let said = [Observation {
            source: "test",
            trust: 0,
            collected: Some(at),
            fresh_for: None,
            calendar: None,
            slots: &slots,
        }];
        let facts = merge(&said, std::iter::empty(), &self.layout, at, &arena);
        let mut evaluator = Evaluator::new(Some(&facts), at, &zone, &arena);
        self.conditions.each_ref().map(|condition| match evaluator.holds(condition) {
            Value::Boolean(truth) => Some(truth),
            _ => None,
        })
    }
}

#[test]
fn whatever_asks_for_more_implies_what_asks_for_less() {
    for (strict, weak) in [
        ("idle > 5", "idle > 3"),
        ("idle > 3", "idle >= 3"),
        ("5 < idle", "idle > 3"),
        ("idle = 4", "idle in (> 3)"),
        ("idle in [4, 5]", "idle < 6"),
        ("idle in [4, 5]", "idle in [3, 4, 5]"),
        ("idle between 4 and 5", "idle between 3 and 6"),
        ("idle = 4", "idle between 3 and 6"),
        ("idle > 3", "idle != 3"),
        ("os.version >= version(\"14.2\")", "os.version >= version(\"9\")"),
        ("born > @\"2027-01-02\"", "born > @\"2027-01-01\""),
        ("on and idle > 5", "idle > 3"),
        ("on and idle > 5", "idle > 3 and on"),
        ("idle > 5", "on or idle > 3"),
        ("idle > 5 or idle = 4", "idle > 3"),
        ("on  /* yes */", "on"),
        ("matches(name, \"a+\")", "matches(name, \"a+\")"),
        ("every d in disks satisfies d.size > 5", "every d in disks satisfies d.size > 3"),
        ("every d in disks[fixed] satisfies d.on and d.size > 5", "every d in disks[fixed] satisfies d.on"),
    ] {
        assert!(Two::of(strict, weak).implies(), "{strict} implies {weak}");
    }
}

#[test]
fn what_cannot_be_told_is_no() {
    for (one, other) in [
        ("idle > 3", "idle > 5"),
        ("idle >= 3", "idle > 3"),
        ("idle > 3", "seen > now()"),
        ("idle > 3", "count(disks) > 3"),
        ("idle in [4, 9]", "idle < 6"),
        ("idle between 4 and 5", "idle between 4.5 and 6"),
        ("idle != 3", "idle > 3"),
        ("on or idle > 5", "idle > 3"),
        ("idle > 5", "on and idle > 3"),
        ("not(on)", "on"),
        ("some d in disks satisfies d.size > 5", "every d in disks satisfies d.size > 3"),
        ("every d in disks satisfies d.size > 5", "every d in disks[fixed] satisfies d.size > 3"),
        ("every a in disks satisfies a > 5", "every b in disks satisfies a > 3"),
        ("os.version >= version(\"14.2\")", "os.version >= version(\"14.10\")"),
    ] {
        assert!(!Two::of(one, other).implies(), "{one} does not imply {other}");
    }
}

fn comparison() -> impl Strategy<Value = String> {
    let number = 0..5i32;
    let op = prop::sample::select(vec!["<", "<=", ">", ">=", "=", "!="]);
    prop_oneof![
        (op.clone(), number.clone()).prop_map(|(op, number)| format!("idle {op} {number}")),
        (op, number.clone()).prop_map(|(op, number)| format!("{number} {op} idle")),
        (number.clone(), number.clone()).prop_map(|(low, high)| format!("idle between {low} and {high}")),
        prop::collection::vec(number, 1..4).prop_map(|all| format!("idle in {all:?}")),
        Just("on".to_owned()),
        Just("not(on)".to_owned()),
    ]
}

fn condition() -> impl Strategy<Value = String> {
    comparison().prop_recursive(2, 8, 3, |inner| {
        let several = prop::collection::vec(inner, 2..4);
        prop_oneof![
            several.clone().prop_map(|all| format!("({})", all.join(" and "))),
            several.prop_map(|all| format!("({})", all.join(" or "))),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_implied_holds(one in condition(), other in condition()) {
        let two = Two::of(&one, &other);
        if two.implies() {
            for idle in [json!(null), json!(-1), json!(0), json!(1), json!(2.5), json!(3), json!(4), json!(7)] {
                for document in [json!({"idle": idle, "on": true}), json!({"idle": idle, "on": false}), json!({"idle": idle})] {
                    let [strict, weak] = two.hold(&document);
                    prop_assert!(strict != Some(true) || weak == Some(true), "{one} | {other} | {document}");
                }
            }
        }
    }
}
