//! Arithmetic with moments, days and durations at the ends of their ranges: what can be told is exact, all else is unknown.
//! The expected values are worked out in 128 bits, so that a result that wraps around is found in release builds too.

use jiff::SignedDuration;

use super::*;
use crate::facts::temporal::{show_duration, show_months};

/// Durations that are short, or near an end of what can be told.
fn lengths() -> impl Strategy<Value = SignedDuration> {
    let near = |end: i64| (0..4_i64).prop_map(move |by| if end < 0 { end + by } else { end - by });
    let seconds = prop_oneof![-4..4_i64, near(i64::MAX), near(i64::MIN), near(i64::MAX / 2), any::<i64>()];
    (seconds, prop_oneof![Just(0), Just(999_999_999), 0..1_000_000_000])
        .prop_map(|(seconds, nanos)| SignedDuration::new(seconds, if seconds < 0 { -nanos } else { nanos }))
}

fn months() -> impl Strategy<Value = i64> {
    let near = |end: i64| (0..4_i64).prop_map(move |by| if end < 0 { end + 1 + by } else { end - by });
    prop_oneof![-20..20_i64, near(i64::MAX), near(i64::MIN), any::<i64>().prop_map(|n| n.max(i64::MIN + 1))]
}

fn moments() -> impl Strategy<Value = Timestamp> {
    // The language writes no year before 0.
    let first: Timestamp = "0000-01-01T00:00:00Z".parse().unwrap();
    let near = |end: Timestamp| {
        (0..200_000_i64).prop_map(move |by| {
            let by = SignedDuration::from_secs(by);
            if end == first { end.checked_add(by).unwrap() } else { end.checked_sub(by).unwrap() }
        })
    };
    prop_oneof![
        near(first),
        near(Timestamp::MAX),
        (-100_000_i64..100_000).prop_map(|s| Timestamp::from_second(s).unwrap())
    ]
}

/// A duration of so many nanoseconds as `string` writes it, or that it cannot be told.
fn of_nanos(nanos: i128) -> String {
    let (seconds, rest) = (nanos / 1_000_000_000, (nanos % 1_000_000_000) as i32);
    match i64::try_from(seconds) {
        Ok(seconds) => show_duration(SignedDuration::new(seconds, rest)),
        Err(_) => "too much".to_owned(),
    }
}

/// What `string` of an expression gives on a document; all that is unknown with the reason *error* is alike.
fn string_of(expression: &str, document: &Json) -> String {
    on(&format!("string({expression})"), document, None, |evaluator, condition| match evaluator.value_of(condition) {
        Value::Unknown(unknown) if unknown.reason == Reason::Error => "too much".to_owned(),
        other => said(&other),
    })
}

/// Whether a text can be read as what an expression makes of it: a few at the very ends cannot be written as ISO 8601 has it.
fn is_read(expression: &str, document: &Json) -> bool {
    !string_of(expression, document).starts_with("unknown: wrong-type")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(ProptestConfig::default().cases.max(400)))]

    #[test]
    fn sums_of_durations_are_exact_or_unknown(a in lengths(), b in lengths()) {
        let document = json!({"a": show_duration(a), "b": show_duration(b)});
        let (x, y) = (a.as_nanos(), b.as_nanos());
        for (expression, nanos) in [
            ("duration(a) + duration(b)", x + y),
            ("duration(a) - duration(b)", x - y),
            ("-duration(a)", -x),
            ("abs(duration(a))", x.abs()),
            ("abs(duration(a) - duration(b))", if i64::try_from((x - y) / 1_000_000_000).is_ok() { (x - y).abs() } else { i128::MAX }),
            ("duration(a) * 2", x * 2),
            ("duration(a) * -1", -x),
            ("duration(a) / -1", -x),
        ] {
            // A text that no duration can be read from is no case of overflow.
            if !is_read("duration(a)", &document) || !is_read("duration(b)", &document) {
                return Ok(());
            }
            prop_assert_eq!(string_of(expression, &document), of_nanos(nanos), "{} on {}", expression, document);
        }
    }

    #[test]
    fn sums_of_months_are_exact_or_unknown(a in months(), b in months()) {
        let document = json!({"a": show_months(a), "b": show_months(b)});
        let (x, y) = (i128::from(a), i128::from(b));
        for (expression, months) in [
            ("duration(a) + duration(b)", x + y),
            ("duration(a) - duration(b)", x - y),
            ("-duration(a)", -x),
            ("abs(duration(a))", x.abs()),
            ("duration(a) * 2", x * 2),
        ] {
            let expected = i64::try_from(months).map_or_else(|_| "too much".to_owned(), show_months);
            prop_assert_eq!(string_of(expression, &document), expected, "{} on {}", expression, document);
        }
    }

    #[test]
    fn moments_move_exactly_or_not_at_all(at in moments(), by in lengths(), months in months()) {
        let document = json!({"at": at.to_string(), "by": show_duration(by), "months": show_months(months)});
        if !is_read("duration(by)", &document) || !is_read("date and time(at)", &document) {
            return Ok(());
        }
        let moved = |nanos: i128| Timestamp::from_nanosecond(nanos).map_or_else(|_| "too much".to_owned(), |at| at.to_string());
        for (expression, nanos) in [
            ("date and time(at) + duration(by)", at.as_nanosecond() + by.as_nanos()),
            ("date and time(at) - duration(by)", at.as_nanosecond() - by.as_nanos()),
            ("duration(by) + date and time(at)", at.as_nanosecond() + by.as_nanos()),
        ] {
            prop_assert_eq!(string_of(expression, &document), moved(nanos), "{} on {}", expression, document);
        }
        // None of these may panic, or be true by wrapping around.
        for (expression, never) in [
            ("date and time(at) + duration(months)", ""),
            ("date and time(at) - duration(months)", ""),
            ("date(date and time(at)) + duration(by)", ""),
            ("date(date and time(at)) - duration(months)", ""),
            ("time(date and time(at)) - duration(by)", ""),
            ("now() - (duration(by) - duration(\"PT1S\")) < now() and duration(by) < duration(\"PT1S\")", "true"),
            ("abs(duration(by) - duration(\"PT1S\")) < duration(\"PT0S\")", "true"),
        ] {
            let found = string_of(expression, &document);
            prop_assert!(never.is_empty() || found != never, "{} on {}: {}", expression, document, found);
        }
    }
}

#[test]
fn a_duration_at_the_end_of_its_range_neither_stops_nor_cheats() {
    let document = || json!({"a": "-PT9223372036854775807S", "b": "PT1S"});
    gives("now() - (duration(a) - duration(b)) < now()", document(), "unknown: error a");
    gives("abs(duration(a) - duration(b)) < duration(\"PT1H\")", document(), "unknown: error a");
    gives("date(\"9999-12-31\") + duration(\"P2D\")", json!({}), "unknown: error ");
    gives("duration(\"P3D\") / 3", json!({}), "1 d");
    gives("duration(\"P3D\") / 0", json!({}), "null");
}
