//! Fast predicates give the same value, the same end of validity and the same count of items as the evaluator.

use super::*;
use crate::condition::compiled::{Node, NodeTest, Op};
use crate::facts::validity::Watch;

/// Removes all fast predicates from a condition.
fn slow(node: &mut Node) {
    node.fast_predicate = None;
    match &mut node.op {
        Op::Constant(_) | Op::Text(_) | Op::Version(_) | Op::Fact { .. } | Op::PersonFact(_) | Op::Ambient(_) => {}
        Op::Local(_) | Op::InGroup(_) | Op::Failing(_) | Op::Alike(_) => {}
        Op::Field { base: inner, .. } | Op::ItemField { fact: inner, .. } | Op::Negate(inner) | Op::Not(inner) => {
            slow(inner)
        }
        Op::InstanceOf(inner, _) | Op::InNetwork(inner, _) | Op::Present(inner) | Op::Age(inner) => slow(inner),
        Op::Matches(inner, _) => slow(inner),
        Op::List(parts) | Op::And(parts) | Op::Or(parts) | Op::Call(_, parts) => parts.iter_mut().for_each(slow),
        Op::Arithmetic(_, one, other) | Op::Compare(_, one, other) => {
            [one, other].into_iter().for_each(|part| slow(part))
        }
        Op::Range { low, high, .. } | Op::Index { list: low, index: high } => {
            [low, high].into_iter().for_each(|part| slow(part));
        }
        Op::Between { value, low, high } => [value, low, high].into_iter().for_each(|part| slow(part)),
        Op::If { condition, then, otherwise } => {
            [condition, then, otherwise].into_iter().for_each(|part| slow(part));
        }
        Op::In(value, tests) => {
            slow(value);
            for test in tests {
                match test {
                    NodeTest::Value(node) | NodeTest::Compare(_, node) => slow(node),
                }
            }
        }
        Op::Quantified { lists, body, .. } | Op::For { lists, body, .. } => {
            lists.iter_mut().for_each(slow);
            slow(body);
        }
        Op::Filter { list, condition, .. } => [list, condition].into_iter().for_each(|part| slow(part)),
    }
}

/// A part of a condition, and whether it has a fast predicate.
fn parts() -> impl Strategy<Value = String> {
    let number = (-2i64..6).boxed();
    let word = prop::sample::select(vec!["\"a\"", "\"ab\"", "\"b\"", "\"\""]).boxed();
    let op = prop::sample::select(vec!["=", "!=", "<", "<=", ">", ">="]).boxed();
    let read =
        prop::sample::select(vec!["idle", "n", "n * 2 + idle", "string length(t)", "count(xs)", "count(ys[a > 1])"]);
    let read = prop_oneof![
        4 => read.prop_map(str::to_owned),
        1 => word.clone().prop_map(|word| format!("count(ys[t = {word} or idle > 1])")),
    ]
    .boxed();
    let text = prop::sample::select(vec!["t", "os.name"]).boxed();
    let function = prop::sample::select(vec!["starts with", "ends with", "contains"]);
    let of_item = prop_oneof![
        (op.clone(), number.clone()).prop_map(|(op, number)| format!("y.a {op} {number}")),
        word.clone().prop_map(|word| format!("y.t = {word}")),
        word.clone().prop_map(|word| format!("starts with(y.t, {word}) and n > 1")),
        number.clone().prop_map(|number| format!("y.a between {number} and 3")),
        Just("y.on".to_owned()),
        Just("some x in xs satisfies x = y.a".to_owned()),
        Just("y.a = count(ys[a = y.a])".to_owned()),
    ]
    .boxed();
    let kind = prop::sample::select(vec!["every", "some"]).boxed();
    let filter = prop::sample::select(vec!["", "[on]", "[a > 1]", "[t in (\"a\", \"b\")]", "[n > 1]"]);
    prop_oneof![
        (read.clone(), op.clone(), number.clone()).prop_map(|(read, op, number)| format!("{read} {op} {number}")),
        (number.clone(), op.clone(), read.clone()).prop_map(|(number, op, read)| format!("{number} {op} {read}")),
        (read.clone(), number.clone(), number.clone())
            .prop_map(|(read, low, high)| format!("{read} between {low} and {high}")),
        (read.clone(), number.clone(), number.clone(), any::<bool>())
            .prop_map(|(read, low, high, open)| format!("{read} in {}{low}..{high}]", if open { '(' } else { '[' })),
        (read, number.clone()).prop_map(|(read, number)| format!("{read} in (> {number})")),
        (function, text.clone(), word.clone()).prop_map(|(function, text, word)| format!("{function}({text}, {word})")),
        (text, word).prop_map(|(text, word)| format!("{text} in ({word}, \"b\")")),
        (op.clone(), 0i64..4).prop_map(|(op, days)| format!("age(seen) {op} duration(\"P{days}D\")")),
        (op.clone(), number.clone()).prop_map(|(op, number)| format!("os.version {op} \"{}.1\"", number.abs())),
        prop::sample::select(vec!["present(n)", "present(seen)", "on", "matches(t, \"^a\")", "in group(\"shore\")"])
            .prop_map(str::to_owned),
        (kind.clone(), op, number).prop_map(|(kind, op, number)| format!("{kind} x in xs satisfies x {op} {number}")),
        (kind.clone(), kind, filter, of_item.clone(), of_item).prop_map(|(kind, other, filter, one, two)| {
            format!("{kind} y in ys{filter} satisfies ({one}) {} ({two})", if kind == other { "and" } else { "or" })
        }),
    ]
}

pub(super) fn conditions() -> impl Strategy<Value = String> {
    parts().prop_recursive(3, 6, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) or ({b})")),
            inner.clone().prop_map(|a| format!("not({a})")),
            (inner.clone(), inner.clone(), inner).prop_map(|(a, b, c)| format!("if ({a}) then ({b}) else ({c})")),
        ]
    })
}

pub(super) fn documents() -> impl Strategy<Value = Json> {
    let some = |usual: BoxedStrategy<Json>| {
        let odd =
            prop::sample::select(vec![json!(null), json!("a"), json!(2), json!(true), json!([1, "a"]), json!({})]);
        prop::option::weighted(0.9, prop_oneof![6 => usual, 1 => odd]).boxed()
    };
    let number = || (-1i64..5).prop_map(Json::from).boxed();
    let word = || prop::sample::select(vec!["a", "ab", "é", ""]).prop_map(Json::from).boxed();
    let truth = || any::<bool>().prop_map(Json::from).boxed();
    let seen = (0i64..5).prop_map(|days| Json::from(format!("2027-03-1{days}T06:00:00Z"))).boxed();
    let version = (0i64..5).prop_map(|major| Json::from(format!("{major}.1"))).boxed();
    let fields = |names: &'static [&'static str], values: Vec<BoxedStrategy<Option<Json>>>| {
        values.prop_map(move |values| {
            let given = names.iter().zip(values).filter_map(|(name, value)| Some(((*name).to_owned(), value?)));
            Json::Object(given.collect())
        })
    };
    let item = fields(&["a", "t", "on", "idle"], vec![some(number()), some(word()), some(truth()), some(number())]);
    let items = prop::collection::vec(item, 0..4).prop_map(Json::from).boxed();
    let numbers = prop::collection::vec(number(), 0..4).prop_map(Json::from).boxed();
    let os = fields(&["version", "name"], vec![some(version), some(word())]).boxed();
    fields(
        &["idle", "n", "t", "on", "seen", "xs", "ys", "os"],
        vec![
            some(number()),
            some(number()),
            some(word()),
            some(truth()),
            some(seen),
            some(numbers),
            some(items),
            some(os),
        ],
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(ProptestConfig::default().cases.max(1_000)))]

    #[test]
    fn the_quicker_way_leads_where_the_long_one_does(
        text in conditions(),
        document in documents(),
        fresh_for in prop::option::of(1i32..4),
        strict in any::<bool>(),
        shore in prop::option::of(any::<bool>()),
        few in prop::option::of(0u32..12),
    ) {
        let (condition, mistakes, layout) = compile(&text, false);
        // Some say the same of every device, or compare what cannot be compared.
        let Some(condition) = condition else {
            prop_assert!(!mistakes.is_empty());
            return Ok(());
        };
        let mut long = condition.clone();
        slow(&mut long.root);
        let arena = Bump::new();
        let whole = datum(&document).to_value(&arena);
        let slots: Vec<Value<'_>> =
            layout.slot_paths().map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
        let now: Timestamp = NOW.parse().unwrap();
        let collected = Some("2027-03-12T06:00:00Z".parse().unwrap());
        let fresh_for = fresh_for.map(Period::days);
        let said_of = [Observation { source: "test", trust: 0, collected, fresh_for, calendar: None, slots: &slots }];
        let groups = [shore.map_or(Value::missing("site"), Value::Boolean)];
        let zone = TimeZone::UTC;
        let ask = |condition: &Condition| {
            let watch = Watch::default();
            let facts = merge(&said_of, std::iter::empty(), &layout, now, &arena).watched(&watch);
            let mut evaluator = Evaluator::new(Some(&facts), now, &zone, &arena);
            evaluator.set_groups(&groups);
            let answer = evaluator.ask_for_tests(condition, strict, few);
            (said(&answer), evaluator.take_vacuous(), watch.until(), evaluator.steps_left())
        };
        prop_assert_eq!(ask(&condition), ask(&long), "{} on {}", text, document);
    }
}

/// The parts of the measured rules have fast predicates.
#[test]
fn common_conditions_have_a_quicker_way() {
    for text in [
        "idle between 1 and 5",
        "count(ys) in [1..2]",
        "count(ys[t in (\"a\", \"b\")]) = 0",
        "every y in ys[on] satisfies y.a > 1",
        "not(some y in ys satisfies y.t = \"a\" or y.t = \"b\")",
        "some x in xs satisfies x = \"a\"",
        "idle + n * 2 < 50",
        "string length(t) >= 4 and matches(t, \"^a\")",
        "starts with(t, \"5.2.\") and not(ends with(t, \".3\"))",
        "if t = \"a\" then os.version >= version(\"13\") else os.version >= version(\"11.5\")",
        "age(seen) <= duration(\"P7D\")",
        "present(n) and in group(\"shore\")",
    ] {
        let (condition, mistakes, _) = compile(text, false);
        assert!(condition.unwrap_or_else(|| panic!("{text}: {mistakes:?}")).root.fast_predicate.is_some(), "{text}");
    }
}
