//! Text that a device, a file or a person supplied, made harmless for a terminal.

/// Returns the text with everything shown that would move a cursor, turn the direction of reading, or hide.
pub fn harmless(text: &str) -> String {
    if text.chars().all(|c| !is_harmful(c)) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if is_harmful(c) => out.push_str(&format!("\\u{{{:x}}}", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

fn is_harmful(c: char) -> bool {
    c.is_control()
        || matches!(c,
            // Marks and overrides of the direction of reading.
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
            // What has no width, or ends a line in some programs.
            | '\u{200b}'..='\u{200d}' | '\u{2060}'..='\u{2064}' | '\u{feff}' | '\u{2028}' | '\u{2029}'
            // Tags, and characters that have no meaning of their own.
            | '\u{e0000}'..='\u{e007f}' | '\u{fff9}'..='\u{fffb}')
}

/// Returns `one` or `many` after a number, `3 devices`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_steers_a_terminal_gets_through() {
        assert_eq!(harmless("plain ø 日本"), "plain ø 日本");
        assert_eq!(harmless("\u{1b}[31mred\u{7}"), "\\u{1b}[31mred\\u{7}");
        assert_eq!(harmless("a\u{202e}b\u{200b}c\nd\0\u{9b}"), "a\\u{202e}b\\u{200b}c\\nd\\u{0}\\u{9b}");
    }
}
