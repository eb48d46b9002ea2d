//! Lexer, parser and checker: any text is read or refused with a place inside it, and never panics.
use fencepost_core::{Condition, Dictionary, FileId, GroupId, Layout, Place, Text, Vocabulary};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let dictionary = Dictionary::default();
    let groups = [GroupId::from("shore")];
    for place in [Place::Rule, Place::Access] {
        let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
        let mut vocabulary = Vocabulary {
            dictionary: &dictionary,
            layout: &mut layout,
            people: &mut people,
            groups: &groups,
            rules: &[],
        };
        let mut mistakes = Vec::new();
        let made = Condition::compile_value(&Text::whole(text, FileId(0)), place, &mut vocabulary, &mut mistakes);
        assert!(made.is_some() || !mistakes.is_empty());
        for mistake in mistakes {
            let range = mistake.span.expect("a place").range;
            assert!(range.start <= range.end && range.end <= text.len());
            assert!(text.is_char_boundary(range.start) && text.is_char_boundary(range.end));
        }
    }
}
