//! Whatever compiles is worked out on any document, the same with and without evidence.
use bumpalo::Bump;
use fencepost_core::{
    Condition, Dictionary, DocumentReader, Evaluator, FileId, Layout, Observation, Outcome, Place, Text, Value,
    Vocabulary, merge,
};
use fencepost_formats::JsonDocuments;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Ok(input) = std::str::from_utf8(bytes) else { return };
    // A condition, and a document on the lines below it.
    let (text, document) = input.split_once('\n').unwrap_or((input, ""));
    let dictionary = Dictionary::default();
    let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
    let mut vocabulary =
        Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &[], rules: &[] };
    let compiled =
        Condition::compile_value(&Text::whole(text, FileId(0)), Place::Rule, &mut vocabulary, &mut Vec::new());
    let Some(condition) = compiled else { return };
    let arena = Bump::new();
    let read = JsonDocuments::default().read(document.as_bytes(), &layout, &arena);
    let Ok(read) = read
        .or_else(|_| JsonDocuments::default().read(b"{\"a\":[{\"b\":1},{}],\"c\":null,\"d\":\"x\"}", &layout, &arena))
    else {
        return;
    };
    let at = Timestamp::from_second(1_800_000_000).expect("a moment");
    let said = [Observation {
        source: "s",
        trust: 0,
        collected: Some(at),
        fresh_for: None,
        calendar: None,
        slots: read.slots,
    }];
    let facts = merge(&said, std::iter::empty(), &layout, at, &arena);
    let zone = TimeZone::UTC;
    let mut evaluator = Evaluator::new(Some(&facts), at, &zone, &arena);
    let plain = evaluator.holds(&condition);
    let _ = evaluator.value_of(&condition).show();
    let (traced, evidence) = evaluator.explain(&condition, false);
    let outcome = |value: &Value<'_>| match value {
        Value::Boolean(true) => Outcome::True,
        Value::Boolean(false) => Outcome::False,
        _ => Outcome::Unknown(fencepost_core::Reason::Error),
    };
    assert_eq!(std::mem::discriminant(&outcome(&plain)), std::mem::discriminant(&outcome(&traced)));
    assert_eq!(std::mem::discriminant(&outcome(&traced)), std::mem::discriminant(&evidence.outcome()));
}
