//! Functions of texts. Positions count characters from 1, negative ones from the end.

use std::fmt::Write as _;

use regex::Regex;

use super::{Context, Function, function, items, or_null, text, whole};
use crate::condition::types::Type;
use crate::facts::value::Value;

pub(super) static FUNCTIONS: &[Function] = &[
    function("contains", "contains(text, \"part\")", |_, args| pair(args, |a, b| Value::Boolean(a.contains(b))))
        .takes((2, 2), &["string", "match"], &[Type::Text])
        .gives(Type::Boolean),
    function("starts with", "starts with(text, \"start\")", |_, args| {
        pair(args, |a, b| Value::Boolean(a.starts_with(b)))
    })
    .takes((2, 2), &["string", "match"], &[Type::Text])
    .gives(Type::Boolean),
    function("ends with", "ends with(text, \"end\")", |_, args| pair(args, |a, b| Value::Boolean(a.ends_with(b))))
        .takes((2, 2), &["string", "match"], &[Type::Text])
        .gives(Type::Boolean),
    function("string length", "string length(text)", |_, args| {
        or_null(text(args, 0).map(|text| Value::Number(text.chars().count().into())))
    })
    .takes((1, 1), &["string"], &[Type::Text])
    .gives(Type::Number),
    function("upper case", "upper case(text)", |cx, args| {
        or_null(text(args, 0).and_then(|text| cx.text(&text.to_uppercase())))
    })
    .takes((1, 1), &["string"], &[Type::Text])
    .gives(Type::Text),
    function("lower case", "lower case(text)", |cx, args| {
        or_null(text(args, 0).and_then(|text| cx.text(&text.to_lowercase())))
    })
    .takes((1, 1), &["string"], &[Type::Text])
    .gives(Type::Text),
    function("substring", "substring(text, start, length)", |_, args| or_null(substring(args)))
        .takes((2, 3), &["string", "start position", "length"], &[Type::Text, Type::Number])
        .gives(Type::Text),
    function("replace", "replace(text, \"pattern\", \"replacement\")", |cx, args| or_null(replace(cx, args)))
        .takes((3, 4), &["input", "pattern", "replacement", "flags"], &[Type::Text])
        .gives(Type::Text),
    function("split", "split(text, \",\")", |cx, args| or_null(split(cx, args)))
        .takes((2, 2), &["string", "delimiter"], &[Type::Text])
        .gives(Type::List),
    function("string join", "string join(list, \", \")", |cx, args| or_null(join(cx, args)))
        .takes((1, 2), &["list", "delimiter"], &[Type::List, Type::Text])
        .gives(Type::Text),
    function("string", "string(value)", |cx, args| match args {
        [Value::Text(text) | Value::Version(text)] => Value::Text(text),
        [Value::Null] => Value::Null,
        [one] => or_null(cx.written(|out| one.write_to(out)).map(|text| Value::Text(cx.arena.alloc_str(&text)))),
        _ => Value::Null,
    })
    .takes((1, 1), &["from"], &[Type::Any])
    .gives(Type::Text),
    function("version", "version(\"12.0.1\")", |_, args| match text(args, 0) {
        Some(text) if crate::facts::version::is_version(text) => Value::Version(text),
        _ => Value::Null,
    })
    .takes((1, 1), &[], &[Type::Text])
    .gives(Type::Version),
];

fn pair<'a>(args: &[Value<'a>], made: impl Fn(&str, &str) -> Value<'a>) -> Value<'a> {
    match (text(args, 0), text(args, 1)) {
        (Some(a), Some(b)) => made(a, b),
        _ => Value::Null,
    }
}

fn substring<'a>(args: &[Value<'a>]) -> Option<Value<'a>> {
    let text = text(args, 0)?;
    let start = whole(args, 1).filter(|start| *start != 0)?;
    let length = i64::try_from(text.chars().count()).unwrap_or(i64::MAX);
    let from = if start > 0 { start - 1 } else { length.checked_add(start).filter(|from| *from >= 0)? };
    let take = match args.get(2) {
        None => i64::MAX,
        Some(_) => whole(args, 2).filter(|take| *take >= 1)?,
    };
    let at = |position: i64| {
        let position = usize::try_from(position).unwrap_or(usize::MAX);
        text.char_indices().nth(position).map_or(text.len(), |(at, _)| at)
    };
    Some(Value::Text(&text[at(from)..at(from.saturating_add(take))]))
}

/// Hands the pattern of a call to `use_it`. It is compiled once as long as it stays the same; the work of compiling a
/// pattern that devices report is taken off the budget each time.
fn pattern<T>(
    cx: &Context<'_>,
    args: &[Value<'_>],
    flags_at: usize,
    use_it: impl FnOnce(&Regex) -> Option<T>,
) -> Option<T> {
    use std::cell::RefCell;
    /// Compiling a pattern costs as much as visiting this many items.
    const COST: usize = 10_000;
    thread_local! {
        static LAST: RefCell<Option<(String, String, Regex)>> = const { RefCell::new(None) };
    }
    let (wanted, flags) = (text(args, 1)?, if args.len() > flags_at { text(args, flags_at)? } else { "" });
    LAST.with_borrow_mut(|last| {
        if !last.as_ref().is_some_and(|(pattern, known, _)| pattern == wanted && known == flags) {
            cx.budget.spend_items(COST)?;
            let regex = super::compile_pattern(wanted, flags).ok()?;
            *last = Some((wanted.to_owned(), flags.to_owned(), regex));
        }
        last.as_ref().and_then(|(.., regex)| use_it(regex))
    })
}

/// A part of a replacement.
enum Replacement {
    Character(char),
    /// What a group of the pattern stands for.
    Group(usize),
}

/// Reads a replacement: `$1` stands for the first group, as the standard has it, and `\\$` for a dollar sign.
fn parse_replacement(text: &str) -> Vec<Replacement> {
    let mut parts = Vec::new();
    let mut rest = text.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '$' => {
                let mut digits = String::new();
                while let Some(digit) = rest.next_if(char::is_ascii_digit) {
                    digits.push(digit);
                }
                parts.push(match digits.as_str() {
                    "" => Replacement::Character('$'),
                    // A group that no pattern has is empty.
                    digits => Replacement::Group(digits.parse().unwrap_or(usize::MAX)),
                });
            }
            '\\' => parts.extend(rest.next().map(Replacement::Character)),
            c => parts.push(Replacement::Character(c)),
        }
    }
    parts
}

fn replace<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let (input, replacement) = (text(args, 0)?, parse_replacement(text(args, 2)?));
    pattern(cx, args, 3, |regex| {
        let made = cx.written(|out| {
            let mut from = 0;
            for found in regex.captures_iter(input) {
                let whole = found.get_match();
                out.write_str(&input[from..whole.start()])?;
                from = whole.end();
                for part in &replacement {
                    match part {
                        Replacement::Character(c) => out.write_char(*c)?,
                        Replacement::Group(group) => out.write_str(found.get(*group).map_or("", |m| m.as_str()))?,
                    }
                }
            }
            out.write_str(&input[from..])
        })?;
        Some(Value::Text(cx.arena.alloc_str(&made)))
    })
}

fn split<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let input = text(args, 0)?;
    pattern(cx, args, 2, |regex| {
        let mut parts = Vec::new();
        for part in regex.split(input) {
            cx.budget.spend_values(1)?;
            parts.push(Value::Text(part));
        }
        cx.list(&parts)
    })
}

fn join<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let delimiter = match args.get(1) {
        None | Some(Value::Null) => "",
        Some(_) => text(args, 1)?,
    };
    if !items(&args[..1]).iter().all(|item| matches!(item, Value::Text(_) | Value::Version(_) | Value::Null)) {
        return None;
    }
    let joined = cx.written(|out| {
        let mut first = true;
        for item in items(&args[..1]) {
            match item {
                Value::Text(text) | Value::Version(text) => {
                    out.write_str(if first { "" } else { delimiter })?;
                    out.write_str(text)?;
                    first = false;
                }
                // Null items are left out, as in the standard.
                _ => {}
            }
        }
        Ok(())
    })?;
    Some(Value::Text(cx.arena.alloc_str(&joined)))
}
