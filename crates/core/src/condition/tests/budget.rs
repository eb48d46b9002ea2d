//! What a device reports may make a condition unknown, but neither slow nor large.

use super::*;

/// Works out a condition with and without evidence, checks that both say that it was too much, and returns the bytes that
/// working it out took.
#[track_caller]
fn is_too_much(text: &str, document: &Json) -> usize {
    let (condition, mistakes, layout) = compile(text, true);
    let condition = condition.unwrap_or_else(|| panic!("{text}: {mistakes:?}"));
    let (documents, arena) = (Bump::new(), Bump::new());
    let whole = datum(document).to_value(&documents);
    let slots: Vec<Value<'_>> =
        layout.slot_paths().map(|path| whole.below(path, documents.alloc_str(path), &documents)).collect();
    let now: Timestamp = NOW.parse().unwrap();
    let observation =
        [Observation { source: "test", trust: 0, collected: None, fresh_for: None, calendar: None, slots: &slots }];
    let facts = merge(&observation, std::iter::empty(), &layout, now, &arena);
    let zone = TimeZone::UTC;
    let mut evaluator = Evaluator::new(Some(&facts), now, &zone, &arena);
    let before = arena.allocated_bytes();
    let value = evaluator.holds(&condition);
    assert!(matches!(value, Value::Unknown(unknown) if unknown.reason == Reason::Error), "{text}: {value:?}");
    let (value, evidence) = evaluator.explain(&condition, false);
    assert!(matches!(value, Value::Unknown(unknown) if unknown.reason == Reason::Error), "{text}: {value:?}");
    assert_eq!(evidence.outcome(), crate::Outcome::Unknown(Reason::Error), "{text}: {evidence:?}");
    arena.allocated_bytes() - before
}

fn large() -> Json {
    let software: Vec<Json> = (0..4_000)
        .map(|n| json!({"name": format!("program {n}"), "version": "1.0", "size": n, "tags": ["a", "b"]}))
        .collect();
    let numbers: Vec<u32> = (0..4_000).collect();
    let object: serde_json::Map<String, Json> = (0..4_000).map(|n| (format!("key {n}"), json!(n))).collect();
    json!({
        "software": software, "xs": numbers, "text": "ab".repeat(1 << 20), "with": "$1$1$1$1$1$1$1$1",
        "object": object, "pattern": "a|".repeat(1000),
    })
}

#[test]
fn every_way_to_make_work_or_room_ends() {
    let document = large();
    for text in [
        // Lists within lists, by every operation that visits items.
        "every a in software, b in software satisfies a.name != b.size",
        "every a in software satisfies some b in software[size > a.size] satisfies b.name != \"none\"",
        "every a in software satisfies every b in software satisfies a.size + b.size >= 0",
        "count(xs[count(xs[item >= 0]) > 5000]) = 0",
        "count(for a in xs, b in xs return a * b) = 0",
        "count(for a in 1..10000000 return a) = 0",
        "every a in xs satisfies a in xs and sum(xs) > 0",
        "every a in xs satisfies list contains(xs, a)",
        "every a in xs satisfies object = object",
        "every a in xs satisfies xs = xs",
        "every a in xs satisfies count(distinct values(xs)) > 1",
        "every a in xs satisfies count(software[size >= a].tags) > -1",
        "every a in xs satisfies count(concatenate(xs, [a])) > 1",
        // Texts.
        "string length(replace(text, \"\", text)) > 0",
        "string length(replace(text, \"(.*)\", with)) > 0",
        "string length(string(for a in 1..100 return text)) > 0",
        "string length(string join(for a in 1..100 return \"a\", text)) > 0",
        "string length(text + text + text) > 0",
        "count(split(text, \"\")) > 0",
        "every a in xs satisfies contains(text, \"x\") = false",
        "every a in xs satisfies starts with(text, \"x\") = false",
        "every a in xs satisfies matches(text, \"x\") = false",
        "every a in xs satisfies upper case(text) != \"x\"",
        "every a in xs satisfies text = text",
        "every a in xs satisfies replace(\"a\", string(a), \"b\") != \"x\" and replace(\"a\", pattern, \"b\") != \"x\"",
    ] {
        let room = is_too_much(text, &document);
        assert!(room < 24 << 20, "{text}: {room} bytes");
    }
}

#[test]
fn what_one_condition_uses_is_not_taken_from_the_next() {
    let document = large();
    on("every a in xs, b in xs satisfies a + b >= 0", &document, None, |evaluator, condition| {
        assert_eq!(said(&evaluator.holds(condition)), "unknown: error xs");
        assert_eq!(said(&evaluator.holds(condition)), "unknown: error xs");
    });
    gives("every a in xs satisfies a >= 0", document, "true");
}

#[test]
fn a_part_that_settles_a_condition_does_not_hide_that_another_ran_out() {
    let document = large();
    gives("(every a in xs, b in xs satisfies a + b >= 0) or true", document.clone(), "unknown: error xs");
    // What comes first settles it, and nothing else is worked out.
    gives("xs[1] = 0 or (every a in xs, b in xs satisfies a + b >= 0)", document, "true");
}

#[test]
fn where_only_evidence_takes_too_long_the_outcome_stands() {
    let many: Vec<u32> = (0..300_000).collect();
    on("every a in xs satisfies a > 0", &json!({"xs": many}), None, |evaluator, condition| {
        let (value, evidence) = evaluator.explain(condition, false);
        assert_eq!(said(&value), "false");
        assert_eq!(evidence.outcome(), crate::Outcome::False);
    });
}

#[test]
fn evidence_counts_all_items_and_keeps_a_few() {
    let many: Vec<u32> = (0..100).collect();
    on("every a in xs satisfies a > 50", &json!({"xs": many}), None, |evaluator, condition| {
        let Evidence::Items { total, decided, items, .. } = evaluator.explain(condition, false).1 else { panic!() };
        assert_eq!((total, decided, items.len()), (100, 51, 5));
    });
}
