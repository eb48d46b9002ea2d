//! Lexer, parser and checker: any text is read or refused with a place inside it, and never panics.
#![no_main]

use fencepost_core::{Condition, Dictionary, FileId, GroupId, Layout, Place, Text, Vocabulary};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let dictionary = Dictionary::default();
    let groups = [GroupId::from("shore")];
    for place in [Place::Rule, Place::Access] {
        let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
        let mut vocabulary = Vocabulary { dictionary: &dictionary, layout: &mut layout, people: &mut people, groups: &groups, rules: &[] };
        let mut mistakes = Vec::new();
        let made = Condition::compile_value(&Text::whole(text, FileId(0)), place, &mut vocabulary, &mut mistakes);
        assert!(made.is_some() || !mistakes.is_empty());
        for mistake in mistakes {
            let range = mistake.span.expect("a place").range;
            assert!(range.start <= range.end && range.end <= text.len());
            assert!(text.is_char_boundary(range.start) && text.is_char_boundary(range.end));
        }
    }
});
