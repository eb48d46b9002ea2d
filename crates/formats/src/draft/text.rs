//! How drafts are written: as TOML, with what an export holds made harmless.

use fencepost_core::{harmless, is_harmful};

use super::words::tokens;

/// A name for the source, made of the file's.
pub(super) fn free_id(file: &str, taken: &[String]) -> String {
    let stem = file.split('.').next().unwrap_or(file);
    let words: Vec<String> =
        tokens(stem).into_iter().filter(|word| !word.chars().all(|c| c.is_ascii_digit()) && word.is_ascii()).collect();
    let name = words.join("-");
    let name = if name.starts_with(|c: char| c.is_ascii_lowercase()) { name } else { "feed".to_owned() };
    let mut free = name.clone();
    let mut number = 2;
    while taken.contains(&free) {
        free = format!("{name}-{number}");
        number += 1;
    }
    free
}

/// A pattern for the files of the feed: dates in the names of its folders and the last number in its own may be any.
pub(super) fn pattern_of(path: &str, one: bool) -> String {
    let (folder, file) = path.rsplit_once('/').map_or((None, path), |(folder, file)| (Some(folder), file));
    let (stem, ending) =
        file.split_once('.').map_or((file, String::new()), |(stem, ending)| (stem, format!(".{ending}")));
    let file = if one {
        format!("*{}", literal(&ending))
    } else {
        let (before, after) = around_number(stem, 1).unwrap_or((stem, ""));
        format!("{}*{}{}", literal(before.trim_end_matches(['_', ' ', '.'])), literal(after), literal(&ending))
    };
    // A number of a folder is part of its name, a date is not.
    const DATE: usize = 6;
    let part = |part: &str| match around_number(part, DATE) {
        Some((before, after)) => format!("{}*{}", literal(before), literal(after)),
        None => literal(part),
    };
    match folder {
        Some(folder) => format!("{}/{file}", folder.split('/').map(part).collect::<Vec<_>>().join("/")),
        None => file,
    }
}

/// Returns what stands before and after the last number of a name that has so many digits; marks between its digits belong to it.
fn around_number(name: &str, digits: usize) -> Option<(&str, &str)> {
    let is_mark = |c: char| matches!(c, '-' | '_' | '.' | 'T' | 't' | ' ' | ':');
    let end = name.rfind(|c: char| c.is_ascii_digit())? + 1;
    let run = name[..end].char_indices().rev().take_while(|(_, c)| c.is_ascii_digit() || is_mark(*c));
    let start = run.filter(|(_, c)| c.is_ascii_digit()).map(|(at, _)| at).last()?;
    let count = name[start..end].chars().filter(char::is_ascii_digit).count();
    (count >= digits).then(|| (&name[..start], &name[end..]))
}

fn literal(text: &str) -> String {
    glob::Pattern::escape(text)
}

/// Returns a text of a file as it may stand in a comment: on one line, and harmless to a terminal.
pub(super) fn in_comment(text: &str) -> String {
    const MOST: usize = 40;
    let cut: String = text.chars().take(MOST).collect();
    let dots = if cut.len() < text.len() { ".." } else { "" };
    harmless(&cut) + dots
}

/// Returns a text as a TOML string, with everything escaped that would steer a terminal.
pub fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if is_harmful(c) => match u32::from(c) {
                short @ ..=0xffff => out.push_str(&format!("\\u{short:04X}")),
                long => out.push_str(&format!("\\U{long:08X}")),
            },
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

pub(super) fn list(words: &[String]) -> String {
    format!("[{}]", words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(", "))
}

/// Code with a comment beside it.
pub(super) fn beside(code: &str, remark: &str, column: usize) -> String {
    if remark.is_empty() {
        return format!("{code}\n");
    }
    let pad = column.saturating_sub(code.chars().count());
    format!("{code}{}  # {remark}\n", " ".repeat(pad))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_become_ids_and_patterns() {
        assert_eq!(free_id("Handhelds_2027-03-01.csv", &[]), "handhelds");
        assert_eq!(free_id("2027.csv", &["feed".to_owned()]), "feed-2");
        assert_eq!(pattern_of("handhelds-2027-03-01.csv", false), "handhelds-*.csv");
        assert_eq!(pattern_of("export.json.gz", false), "export*.json.gz");
        assert_eq!(pattern_of("tern-kiosk.ini", true), "*.ini");
        assert_eq!(pattern_of("exports/2027-03-14/hosts.csv", false), "exports/*/hosts*.csv");
        assert_eq!(pattern_of("site2/week_20270314_b/hosts.csv", false), "site2/week_*_b/hosts*.csv");
        assert_eq!(pattern_of("win10-hosts-2027-03-14T0600.csv", false), "win10-hosts-*.csv");
        assert_eq!(pattern_of("hosts 2027-03-14 final.csv", false), "hosts* final.csv");
        assert_eq!(in_comment("a\nb\u{1b}[31m\u{202e}"), "a\\nb\\u{1b}[31m\\u{202e}");
        assert_eq!(quoted("a\"\\\u{7}\u{202e}"), "\"a\\\"\\\\\\u0007\\u202E\"");
    }
}
