//! What is told of evidence without gathering it is what the gathered evidence says.

use super::fast_predicate::{conditions, documents};
use super::*;
use crate::condition::evidence::EvidenceSummary;
use crate::facts::merge::Correction;
use crate::facts::value::Datum;

fn corrected(fact: &str) -> Correction {
    Correction {
        device: "d".into(),
        fact: fact.to_owned(),
        value: Datum::Number(Decimal::ONE),
        because: "it was looked at".to_owned(),
        by: "us".to_owned(),
        until: Timestamp::MAX,
        place: None,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(ProptestConfig::default().cases.max(1_000)))]

    #[test]
    fn when_evidence_was_collected_is_told_without_it(
        text in conditions(),
        said in prop::collection::vec((documents(), 1i64..3), 1..3),
        fresh_for in prop::option::of(1i32..4),
        strict in any::<bool>(),
        correction in prop::option::weighted(0.2, prop::sample::select(vec!["n", "idle", "os.version"])),
    ) {
        let (Some(condition), _, layout) = compile(&text, false) else { return Ok(()) };
        let arena = Bump::new();
        let rows: Vec<(Vec<Value<'_>>, Timestamp)> = said
            .iter()
            .map(|(document, day)| {
                let whole = arena.alloc(datum(document)).to_value(&arena);
                let paths = layout.slot_paths();
                let slots = paths.map(|path| whole.below(path, arena.alloc_str(path), &arena)).collect();
                (slots, format!("2027-03-1{day}T06:00:00Z").parse().unwrap())
            })
            .collect();
        let observations: Vec<Observation<'_>> = rows
            .iter()
            .zip(["one", "other"])
            .map(|((slots, collected), source)| Observation {
                source,
                trust: 0,
                collected: Some(*collected),
                fresh_for: fresh_for.map(Period::days),
                calendar: None,
                slots,
            })
            .collect();
        let corrections: Vec<Correction> = correction.into_iter().map(corrected).collect();
        let now: Timestamp = NOW.parse().unwrap();
        let facts = merge(&observations, corrections.iter(), &layout, now, &arena);
        let zone = TimeZone::UTC;
        let mut evaluator = Evaluator::new(Some(&facts), now, &zone, &arena);
        let groups = [Value::Boolean(true)];
        evaluator.set_groups(&groups);
        let gathered = EvidenceSummary::of(&evaluator.explain(&condition, strict).1);
        if let Some(collected) = condition.collected_as_one(&facts) {
            prop_assert_eq!((collected, false), (gathered.collected, gathered.corrected), "{} on {:?}", text, said);
        }
    }
}

/// What the measured rules are made of needs no evidence gathered, where one source reports all that they read.
#[test]
fn common_conditions_tell_without_evidence() {
    let sure = |text: &str| {
        let (condition, mistakes, layout) = compile(text, false);
        let condition = condition.unwrap_or_else(|| panic!("{text}: {mistakes:?}"));
        let paths =
            |slots: Vec<SlotId>| slots.iter().map(|slot| layout.slot_path(*slot).to_owned()).collect::<Vec<_>>();
        condition.evidence_summary.map(paths)
    };
    assert_eq!(sure("idle <= 15 and n > 1"), Some(vec!["idle".to_owned(), "n".to_owned()]));
    assert_eq!(sure("not(some y in ys satisfies y.t = \"a\")"), Some(vec!["ys".to_owned()]));
    assert_eq!(sure("count(ys[t in (\"a\", \"b\")]) = 0"), Some(vec!["ys".to_owned()]));
    assert_eq!(sure("if t = \"a\" then on else n > 1").map(|slots| slots.len()), Some(3));
    assert_eq!(sure("age(seen) <= duration(\"P7D\")"), Some(vec!["seen".to_owned()]));
    // A group is no fact, and what is asked of a value that hangs on a question may not be read.
    assert_eq!(sure("on or in group(\"shore\")"), None);
    assert_eq!(sure("(if on then n else idle) > 1"), None);
}
