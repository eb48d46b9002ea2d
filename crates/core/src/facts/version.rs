//! The order of versions, compared in place without building anything.
//!
//! Parts are compared as numbers, trailing zero parts count for nothing, a pre-release word sorts
//! before the release, any other suffix after it, and what follows a `+` is ignored.

use std::cmp::Ordering;

const PRE_RELEASE: [&str; 5] = ["alpha", "beta", "dev", "pre", "rc"];

/// Returns whether `text` can be read as a version: it starts with a digit, perhaps after a `v`, and no part of it stands for many
/// versions, as in `4.x`.
pub fn is_version(text: &str) -> bool {
    let text = without_prefix(text);
    let stands_for_many = |part: &str| matches!(part, "x" | "X" | "*");
    text.starts_with(|c: char| c.is_ascii_digit()) && !text.split(['.', '-', '+']).any(stands_for_many)
}

/// A number of more digits is none of the plain ones.
const MOST_DIGITS: usize = 18;

/// Compares two versions.
pub fn compare_versions(left: &str, right: &str) -> Ordering {
    compare_plain(left.as_bytes(), right.as_bytes()).unwrap_or_else(|| compare_any(left, right))
}

/// Compares two versions of nothing but short numbers and single dots between them; none for any others.
fn compare_plain(mut left: &[u8], mut right: &[u8]) -> Option<Ordering> {
    let mut order = Ordering::Equal;
    while !(left.is_empty() && right.is_empty()) {
        let (l, r) = (next_plain(&mut left)?, next_plain(&mut right)?);
        order = order.then(l.cmp(&r));
    }
    Some(order)
}

/// Reads a number and the dot behind it; zero where nothing is left, none where it is not so plain.
fn next_plain(rest: &mut &[u8]) -> Option<u64> {
    let (mut number, mut at) = (0, 0);
    while let Some(digit) = rest.get(at).filter(|byte| byte.is_ascii_digit() && at < MOST_DIGITS) {
        number = number * 10 + u64::from(digit - b'0');
        at += 1;
    }
    let is_plain = match rest.get(at) {
        None => at > 0 || rest.is_empty(),
        Some(b'.') => at > 0 && rest.len() > at + 1,
        Some(_) => false,
    };
    *rest = rest.get(at + 1..).unwrap_or_default();
    is_plain.then_some(number)
}

fn compare_any(left: &str, right: &str) -> Ordering {
    let (left, right) = (significant(left), significant(right));
    let (left_release, left_suffix) = left.split_at(release_length(left));
    let (right_release, right_suffix) = right.split_at(release_length(right));
    compare_releases(left_release, right_release).then_with(|| compare_suffixes(left_suffix, right_suffix))
}

/// Returns a text that two versions share if and only if they compare as equal.
pub(crate) fn version_key(text: &str) -> String {
    let text = significant(text);
    let (release, mut suffix) = text.split_at(release_length(text));
    let mut parts: Vec<&str> = release.split('.').map(|part| part.trim_start_matches('0')).collect();
    while parts.last().is_some_and(|part| part.is_empty()) {
        parts.pop();
    }
    let mut key = parts.join(".");
    loop {
        match next_token(&mut suffix) {
            Token::End => return key,
            Token::PreRelease(word) => key.extend(["<", word]),
            Token::Word(word) => key.extend([">", &word.to_ascii_lowercase()]),
            Token::Number(number) => key.extend(["#", number.trim_start_matches('0')]),
        }
    }
}

fn without_prefix(text: &str) -> &str {
    let text = text.trim();
    text.strip_prefix(['v', 'V']).unwrap_or(text)
}

fn significant(text: &str) -> &str {
    let text = without_prefix(text);
    text.split('+').next().unwrap_or(text)
}

/// Returns how many bytes of `text` are digits and the single dots between them.
fn release_length(text: &str) -> usize {
    let bytes = text.as_bytes();
    let mut end = 0;
    while end < bytes.len() {
        let digit = bytes[end].is_ascii_digit();
        let dot = bytes[end] == b'.' && end > 0 && bytes.get(end + 1).is_some_and(u8::is_ascii_digit);
        if !digit && !dot {
            break;
        }
        end += 1;
    }
    end
}

fn compare_releases(left: &str, right: &str) -> Ordering {
    let (mut left, mut right) = (left.split('.'), right.split('.'));
    loop {
        match (left.next(), right.next()) {
            (None, None) => return Ordering::Equal,
            (l, r) => match compare_numbers(l.unwrap_or(""), r.unwrap_or("")) {
                Ordering::Equal => {}
                other => return other,
            },
        }
    }
}

/// Compares two runs of digits of any length; an empty one is zero.
fn compare_numbers(left: &str, right: &str) -> Ordering {
    let (left, right) = (left.trim_start_matches('0'), right.trim_start_matches('0'));
    left.len().cmp(&right.len()).then_with(|| left.cmp(right))
}

#[derive(Clone, Copy)]
enum Token<'a> {
    PreRelease(&'static str),
    End,
    Word(&'a str),
    Number(&'a str),
}

impl Token<'_> {
    fn rank(self) -> u8 {
        match self {
            Self::PreRelease(_) => 0,
            Self::End => 1,
            Self::Word(_) => 2,
            Self::Number(_) => 3,
        }
    }
}

fn compare_suffixes(mut left: &str, mut right: &str) -> Ordering {
    loop {
        let (l, r) = (next_token(&mut left), next_token(&mut right));
        let order = match (l, r) {
            (Token::End, Token::End) => return Ordering::Equal,
            (Token::PreRelease(l), Token::PreRelease(r)) => l.cmp(r),
            (Token::Word(l), Token::Word(r)) => {
                l.bytes().map(|b| b.to_ascii_lowercase()).cmp(r.bytes().map(|b| b.to_ascii_lowercase()))
            }
            (Token::Number(l), Token::Number(r)) => compare_numbers(l, r),
            (l, r) => l.rank().cmp(&r.rank()),
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

fn next_token<'a>(rest: &mut &'a str) -> Token<'a> {
    let text = rest.trim_start_matches(|c: char| !c.is_alphanumeric());
    let Some(first) = text.chars().next() else {
        *rest = "";
        return Token::End;
    };
    let digits = first.is_ascii_digit();
    let end = text.find(|c: char| !c.is_alphanumeric() || c.is_ascii_digit() != digits).unwrap_or(text.len());
    let (token, tail) = text.split_at(end);
    *rest = tail;
    if digits {
        return Token::Number(token);
    }
    match PRE_RELEASE.iter().find(|word| word.eq_ignore_ascii_case(token)) {
        Some(word) => Token::PreRelease(word),
        None => Token::Word(token),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn plain_versions_compare_as_any_do(left in "([0-9]{0,3}|[0-9]{17,20})([.][0-9]{1,3}){0,3}[.]?[a+]?", right in "[0-9]{0,20}([.][0-9]{1,3}){0,4}") {
            for (left, right) in [(&left, &right), (&right, &left), (&left, &left)] {
                if let Some(order) = compare_plain(left.as_bytes(), right.as_bytes()) {
                    prop_assert_eq!(order, compare_any(left, right), "{} against {}", left, right);
                }
            }
        }
    }

    proptest! {
        #[test]
        fn equal_versions_share_their_key_and_no_others(left in "v?[0-2]{1,2}([.][0-2]){0,2}([-.+ ]?(rc|a|B|b)?[0-1]{0,2}){0,2}", right in "[0-2]{1,2}([.][0-2]){0,2}([-.+ ]?(RC|a|b)?[0-1]{0,2}){0,2}") {
            prop_assert_eq!(compare_versions(&left, &right) == Ordering::Equal, version_key(&left) == version_key(&right));
        }
    }

    #[track_caller]
    fn ascending(versions: &[&str]) {
        for (i, a) in versions.iter().enumerate() {
            for (j, b) in versions.iter().enumerate() {
                assert_eq!(compare_versions(a, b), i.cmp(&j), "{a} against {b}");
            }
        }
    }

    #[test]
    fn parts_are_numbers() {
        ascending(&["9.4", "12.0", "12.0.1", "12.1", "12.10", "100"]);
        ascending(&["1", "99999999999999999999998", "99999999999999999999999"]);
    }

    #[test]
    fn trailing_zero_parts_are_equal() {
        for (a, b) in [
            ("13", "13.0"),
            ("13.0.0", "13"),
            ("v2.1", "2.1"),
            ("1.0+build7", "1.0"),
            ("13-rc1", "13.0-rc1"),
            ("1.02", "1.2"),
        ] {
            assert_eq!(compare_versions(a, b), Ordering::Equal, "{a} against {b}");
        }
    }

    #[test]
    fn pre_releases_come_before_and_other_suffixes_after() {
        ascending(&[
            "1.0-alpha",
            "1.0-beta",
            "1.0-dev",
            "1.0-pre",
            "1.0-rc",
            "1.0-rc2",
            "1.0-rc10",
            "1.0",
            "1.0a",
            "1.0b",
            "1.0-2",
            "1.0.1",
        ]);
    }

    #[test]
    fn a_version_starts_with_a_digit() {
        assert!(is_version("12") && is_version("v1.2") && is_version(" 3 "));
        assert!(!is_version("") && !is_version("latest") && !is_version("v"));
    }
}
