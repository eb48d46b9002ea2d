//! Foreign text made harmless: device, person and file names, conditions and values may hold characters that steer a terminal,
//! turn the direction of reading, hide, or mean something to a spreadsheet. Every output asks here.

/// Returns the text with every character shown as `\u{..}` that would move a cursor, turn the direction of reading, or hide.
pub fn harmless(text: &str) -> String {
    if !text.chars().any(is_harmful) {
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

/// Returns whether a character steers, hides or turns text instead of being read: controls, marks and overrides of direction,
/// characters without width, separators of lines, and tags.
pub fn is_harmful(c: char) -> bool {
    c.is_control()
        || matches!(c,
            // Marks and overrides of the direction of reading.
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{206f}'
            // What has no width, or ends a line in some programs.
            | '\u{ad}' | '\u{180e}' | '\u{200b}'..='\u{200d}' | '\u{2060}'..='\u{2064}' | '\u{feff}' | '\u{2028}' | '\u{2029}'
            // Tags, and characters that have no meaning of their own.
            | '\u{e0000}'..='\u{e007f}' | '\u{fff9}'..='\u{fffb}')
}

/// Returns a text for a terminal that was put together from harmless parts: line breaks and the sequences that set colour and
/// weight (`ESC [ .. m`) stay, whatever else is harmful is shown. It catches what was put in without being made harmless.
pub fn for_terminal(text: &str) -> std::borrow::Cow<'_, str> {
    if text.is_ascii() && text.bytes().all(|byte| byte == b'\n' || (0x20..0x7f).contains(&byte))
        || !text.chars().any(|c| is_harmful(c) && c != '\n')
    {
        return text.into();
    }
    let mut out = String::with_capacity(text.len() + 8);
    let mut rest = text;
    while let Some(at) = rest.find(is_harmful) {
        let (before, from) = rest.split_at(at);
        out.push_str(before);
        let end = from.char_indices().nth(1).map_or(from.len(), |(at, _)| at);
        let kept = match from.as_bytes()[0] {
            b'\n' => 1,
            0x1b => style_sequence(from),
            _ => 0,
        };
        let taken = if kept > 0 { kept } else { end };
        if kept > 0 {
            out.push_str(&from[..kept]);
        } else {
            out.push_str(&harmless(&from[..end]));
        }
        rest = &from[taken..];
    }
    out.push_str(rest);
    out.into()
}

/// Returns how long the style sequence is that a text begins with; 0 where it begins with none.
fn style_sequence(text: &str) -> usize {
    let Some(body) = text.strip_prefix("\u{1b}[") else { return 0 };
    let parameters = body.len() - body.trim_start_matches(|c: char| c.is_ascii_digit() || c == ';').len();
    if body[parameters..].starts_with('m') { 2 + parameters + 1 } else { 0 }
}

/// Returns a text with every harmful character but line breaks and tabs replaced by others of the same length in bytes, so that
/// places in it stay right.
pub fn mask_in_place(text: &str) -> std::borrow::Cow<'_, str> {
    let is_masked = |c: char| is_harmful(c) && !matches!(c, '\n' | '\t') || c == '\r';
    if !text.chars().any(is_masked) {
        return text.into();
    }
    let mask = |c: char| match (is_masked(c), c.len_utf8()) {
        // A line may end in both.
        (true, 1) if c == '\r' => " ".to_owned(),
        (true, 1) => "?".to_owned(),
        (true, 2) => "\u{bf}".to_owned(),
        (true, 3) => "\u{fffd}".to_owned(),
        (true, _) => "\u{fffd}?".to_owned(),
        (false, _) => c.to_string(),
    };
    text.chars().map(mask).collect::<String>().into()
}

/// Adds a JSON text with every harmful character in its strings written as `\uXXXX`, which means the same (RFC 8259). Between
/// strings JSON has no such characters but line breaks, which stay.
pub fn push_json(out: &mut Vec<u8>, json: &str) {
    // Most of what is written is ASCII, and that is told quickly.
    if json.is_ascii() && !json.as_bytes().contains(&0x7f) {
        out.extend_from_slice(json.as_bytes());
        return;
    }
    let mut rest = json;
    // Controls below U+0020 are escaped in JSON already.
    while let Some(at) = rest.find(|c: char| c >= '\u{7f}' && is_harmful(c)) {
        let (before, from) = rest.split_at(at);
        out.extend_from_slice(before.as_bytes());
        let Some(c) = from.chars().next() else { break };
        for unit in c.encode_utf16(&mut [0; 2]) {
            out.extend_from_slice(format!("\\u{unit:04x}").as_bytes());
        }
        rest = &from[c.len_utf8()..];
    }
    out.extend_from_slice(rest.as_bytes());
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

    #[test]
    fn styles_and_line_breaks_reach_a_terminal_and_nothing_else_does() {
        let styled = "\u{1b}[1;31mbad\u{1b}[0m\nnext";
        assert_eq!(for_terminal(styled), styled);
        assert_eq!(for_terminal("\u{1b}[2Jx\u{1b}]0;t\u{7}"), "\\u{1b}[2Jx\\u{1b}]0;t\\u{7}");
        assert_eq!(for_terminal("a\u{1b}"), "a\\u{1b}");
        assert_eq!(for_terminal("é\u{9b}31m\t"), "é\\u{9b}31m\\t");
    }

    #[test]
    fn a_mask_keeps_every_place() {
        for text in ["a\u{1b}b\u{9b}c\u{202e}d\u{e0041}e\r\nf\tg", "plain"] {
            let masked = mask_in_place(text);
            assert_eq!(masked.len(), text.len());
            assert!(!masked.chars().any(|c| is_harmful(c) && !matches!(c, '\n' | '\t')), "{masked:?}");
        }
    }

    #[test]
    fn json_means_the_same_and_is_harmless() {
        let value = serde_json::json!({"a\u{202e}": "\u{9b}31m\u{200b}\u{e0041}\u{1b}", "b": ["ø", 1]});
        let mut out = Vec::new();
        push_json(&mut out, &serde_json::to_string_pretty(&value).unwrap());
        let text = String::from_utf8(out).unwrap();
        assert!(!text.chars().any(|c| is_harmful(c) && c != '\n'), "{text:?}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).unwrap(), value);
    }
}
