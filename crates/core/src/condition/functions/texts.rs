//! Functions of texts. Positions count characters from 1, negative ones from the end.

use regex::Regex;

use super::super::compiled::Type;
use super::{Context, Function, function, items, or_null, text, whole};
use crate::value::Value;

pub(super) static FUNCTIONS: &[Function] = &[
    function(
        "contains",
        (2, 2),
        &["string", "match"],
        &[Type::Text],
        Type::Boolean,
        "contains(text, \"part\")",
        |_, args| pair(args, |a, b| Value::Boolean(a.contains(b))),
    ),
    function(
        "starts with",
        (2, 2),
        &["string", "match"],
        &[Type::Text],
        Type::Boolean,
        "starts with(text, \"start\")",
        |_, args| pair(args, |a, b| Value::Boolean(a.starts_with(b))),
    ),
    function(
        "ends with",
        (2, 2),
        &["string", "match"],
        &[Type::Text],
        Type::Boolean,
        "ends with(text, \"end\")",
        |_, args| pair(args, |a, b| Value::Boolean(a.ends_with(b))),
    ),
    function("string length", (1, 1), &["string"], &[Type::Text], Type::Number, "string length(text)", |_, args| {
        or_null(text(args, 0).map(|text| Value::Number(text.chars().count().into())))
    }),
    function("upper case", (1, 1), &["string"], &[Type::Text], Type::Text, "upper case(text)", |cx, args| {
        or_null(text(args, 0).map(|text| cx.text(&text.to_uppercase())))
    }),
    function("lower case", (1, 1), &["string"], &[Type::Text], Type::Text, "lower case(text)", |cx, args| {
        or_null(text(args, 0).map(|text| cx.text(&text.to_lowercase())))
    }),
    function(
        "substring",
        (2, 3),
        &["string", "start position", "length"],
        &[Type::Text, Type::Number],
        Type::Text,
        "substring(text, start, length)",
        |_, args| or_null(substring(args)),
    ),
    function(
        "replace",
        (3, 4),
        &["input", "pattern", "replacement", "flags"],
        &[Type::Text],
        Type::Text,
        "replace(text, \"pattern\", \"replacement\")",
        |cx, args| or_null(replace(cx, args)),
    ),
    function("split", (2, 2), &["string", "delimiter"], &[Type::Text], Type::List, "split(text, \",\")", |cx, args| {
        or_null(split(cx, args))
    }),
    function(
        "string join",
        (1, 2),
        &["list", "delimiter"],
        &[Type::List, Type::Text],
        Type::Text,
        "string join(list, \", \")",
        |cx, args| or_null(join(cx, args)),
    ),
    function("string", (1, 1), &["from"], &[Type::Any], Type::Text, "string(value)", |cx, args| match args {
        [Value::Text(text) | Value::Version(text)] => Value::Text(text),
        [Value::Null] => Value::Null,
        [one] => cx.text(&one.written()),
        _ => Value::Null,
    }),
    function("version", (1, 1), &[], &[Type::Text], Type::Version, "version(\"12.0.1\")", |_, args| {
        match text(args, 0) {
            Some(text) if crate::version::is_version(text) => Value::Version(text),
            _ => Value::Null,
        }
    }),
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

/// The pattern of a call, compiled once for all devices of a run.
fn pattern<T>(args: &[Value<'_>], flags_at: usize, use_it: impl FnOnce(&Regex) -> T) -> Option<T> {
    use std::cell::RefCell;
    thread_local! {
        static LAST: RefCell<Option<(String, String, Regex)>> = const { RefCell::new(None) };
    }
    let (wanted, flags) = (text(args, 1)?, if args.len() > flags_at { text(args, flags_at)? } else { "" });
    LAST.with_borrow_mut(|last| {
        if !last.as_ref().is_some_and(|(pattern, known, _)| pattern == wanted && known == flags) {
            let regex = super::compile_pattern(wanted, flags).ok()?;
            *last = Some((wanted.to_owned(), flags.to_owned(), regex));
        }
        last.as_ref().map(|(.., regex)| use_it(regex))
    })
}

/// `$1` in the replacement stands for the first group, as the standard has it.
fn replace<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let (input, replacement) = (text(args, 0)?, text(args, 2)?);
    // `$1x` is the group 1 and an x; the engine would read a name.
    let mut with = String::with_capacity(replacement.len() + 4);
    let mut rest = replacement.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '$' => {
                let mut digits = String::new();
                while let Some(digit) = rest.next_if(char::is_ascii_digit) {
                    digits.push(digit);
                }
                with.push_str(&if digits.is_empty() { "$$".to_owned() } else { format!("${{{digits}}}") });
            }
            '\\' => with.extend(rest.next().map(|c| if c == '$' { "$$".to_owned() } else { c.to_string() })),
            c => with.push(c),
        }
    }
    pattern(args, 3, |regex| cx.text(&regex.replace_all(input, with.as_str())))
}

fn split<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let input = text(args, 0)?;
    pattern(args, 2, |regex| {
        let parts: Vec<Value<'a>> = regex.split(input).map(Value::Text).collect();
        cx.list(&parts)
    })
}

fn join<'a>(cx: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let delimiter = match args.get(1) {
        None | Some(Value::Null) => "",
        Some(_) => text(args, 1)?,
    };
    let mut parts = Vec::new();
    for item in items(&args[..1]) {
        match item {
            Value::Text(text) | Value::Version(text) => parts.push(*text),
            // Null items are left out, as in the standard.
            Value::Null => {}
            _ => return None,
        }
    }
    Some(cx.text(&parts.join(delimiter)))
}
