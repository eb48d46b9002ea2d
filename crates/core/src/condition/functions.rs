//! The functions of the language, in one table: name, arguments, types, and what they do.

use bumpalo::Bump;
use regex::{Regex, RegexBuilder};
use rust_decimal::Decimal;

use super::compiled::Type;
use super::temporal::{parse_date_time, parse_day, parse_duration};
use crate::value::{DateTime, Value};
use crate::version::is_version;

/// What a function may use besides its arguments.
pub(super) struct Context<'a> {
    pub arena: &'a Bump,
    pub now: jiff::Timestamp,
    pub zone: &'a jiff::tz::TimeZone,
}

pub(super) struct Function {
    pub name: &'static str,
    pub least: usize,
    pub most: usize,
    /// Types of the arguments; the last holds for all further ones.
    pub wants: &'static [Type],
    pub gives: Type,
    /// How to write it, for messages.
    pub usage: &'static str,
    /// Gets its arguments known and not null, unless it takes a list; gives null where they do not fit.
    pub run: for<'a> fn(&Context<'a>, &[Value<'a>]) -> Value<'a>,
}

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

/// For functions that the checker turns into operations of their own.
fn never<'a>(_: &Context<'a>, _: &[Value<'a>]) -> Value<'a> {
    Value::Null
}

const fn function(
    name: &'static str,
    (least, most): (usize, usize),
    wants: &'static [Type],
    gives: Type,
    usage: &'static str,
    run: for<'a> fn(&Context<'a>, &[Value<'a>]) -> Value<'a>,
) -> Function {
    Function { name, least, most, wants, gives, usage, run }
}

static FUNCTIONS: [Function; 28] = [
    function("not", (1, 1), &[Type::Boolean], Type::Boolean, "not(x)", never),
    function("present", (1, 1), &[Type::Any], Type::Boolean, "present(fact)", never),
    function("age", (1, 1), &[Type::DateTime], Type::Duration, "age(agent.last_seen)", never),
    function("in group", (1, 1), &[Type::Text], Type::Boolean, "in group(\"id\")", never),
    function("matches", (2, 3), &[Type::Text], Type::Boolean, "matches(text, \"pattern\")", never),
    function("version", (1, 1), &[Type::Text], Type::Version, "version(\"12.0.1\")", version),
    function("duration", (1, 1), &[Type::Text], Type::Any, "duration(\"P14D\") or duration(\"14 days\")", |_, args| {
        text(args, 0).and_then(parse_duration).unwrap_or(Value::Null)
    }),
    function("date", (1, 1), &[Type::Any], Type::Date, "date(\"2027-03-04\")", date),
    function(
        "date and time",
        (1, 1),
        &[Type::Text],
        Type::DateTime,
        "date and time(\"2027-03-04T10:00:00Z\")",
        |_, args| text(args, 0).and_then(parse_date_time).map_or(Value::Null, Value::DateTime),
    ),
    function("now", (0, 0), &[], Type::DateTime, "now()", |cx, _| {
        Value::DateTime(DateTime::At(cx.now, cx.zone.to_offset(cx.now)))
    }),
    function("today", (0, 0), &[], Type::Date, "today()", |cx, _| Value::Date(cx.zone.to_datetime(cx.now).date())),
    function("count", (1, 1), &[Type::List], Type::Number, "count(list)", |_, args| {
        list(args).map_or(Value::Null, |items| Value::Number(items.len().into()))
    }),
    function("sum", (1, usize::MAX), &[Type::List], Type::Number, "sum(list)", |_, args| {
        numbers(args)
            .filter(|all| !all.is_empty())
            .and_then(|all| all.into_iter().try_fold(Decimal::ZERO, Decimal::checked_add))
            .map_or(Value::Null, Value::Number)
    }),
    function("min", (1, usize::MAX), &[Type::List], Type::Any, "min(list)", |_, args| {
        extreme(args, std::cmp::Ordering::Less)
    }),
    function("max", (1, usize::MAX), &[Type::List], Type::Any, "max(list)", |_, args| {
        extreme(args, std::cmp::Ordering::Greater)
    }),
    function("mean", (1, usize::MAX), &[Type::List], Type::Number, "mean(list)", |_, args| {
        let Some(all) = numbers(args).filter(|all| !all.is_empty()) else { return Value::Null };
        let count = Decimal::from(all.len());
        all.into_iter()
            .try_fold(Decimal::ZERO, Decimal::checked_add)
            .and_then(|sum| sum.checked_div(count))
            .map_or(Value::Null, Value::Number)
    }),
    function("contains", (2, 2), &[Type::Text], Type::Boolean, "contains(text, \"part\")", |_, args| {
        pair(args, |a, b| a.contains(b))
    }),
    function("starts with", (2, 2), &[Type::Text], Type::Boolean, "starts with(text, \"start\")", |_, args| {
        pair(args, |a, b| a.starts_with(b))
    }),
    function("ends with", (2, 2), &[Type::Text], Type::Boolean, "ends with(text, \"end\")", |_, args| {
        pair(args, |a, b| a.ends_with(b))
    }),
    function("string length", (1, 1), &[Type::Text], Type::Number, "string length(text)", |_, args| {
        text(args, 0).map_or(Value::Null, |text| Value::Number(text.chars().count().into()))
    }),
    function("upper case", (1, 1), &[Type::Text], Type::Text, "upper case(text)", |cx, args| {
        text(args, 0).map_or(Value::Null, |text| Value::Text(cx.arena.alloc_str(&text.to_uppercase())))
    }),
    function("lower case", (1, 1), &[Type::Text], Type::Text, "lower case(text)", |cx, args| {
        text(args, 0).map_or(Value::Null, |text| Value::Text(cx.arena.alloc_str(&text.to_lowercase())))
    }),
    function("substring", (2, 3), &[Type::Text, Type::Number], Type::Text, "substring(text, start, length)", substring),
    function("number", (1, 1), &[Type::Any], Type::Number, "number(\"12.5\")", |_, args| match args {
        [Value::Number(number)] => Value::Number(*number),
        [Value::Text(text)] => text.trim().parse().map_or(Value::Null, Value::Number),
        _ => Value::Null,
    }),
    function("string", (1, 1), &[Type::Any], Type::Text, "string(value)", |cx, args| match args {
        [Value::Text(text) | Value::Version(text)] => Value::Text(text),
        [one] => Value::Text(cx.arena.alloc_str(&one.show())),
        _ => Value::Null,
    }),
    function("abs", (1, 1), &[Type::Any], Type::Any, "abs(number)", |_, args| match args {
        [Value::Number(number)] => Value::Number(number.abs()),
        [Value::Duration(length)] => Value::Duration(length.abs()),
        [Value::Months(months)] => Value::Months(months.abs()),
        _ => Value::Null,
    }),
    function("floor", (1, 1), &[Type::Number], Type::Number, "floor(number)", |_, args| {
        number(args).map_or(Value::Null, |n| Value::Number(n.floor()))
    }),
    function("ceiling", (1, 1), &[Type::Number], Type::Number, "ceiling(number)", |_, args| {
        number(args).map_or(Value::Null, |n| Value::Number(n.ceil()))
    }),
];

/// Functions of the standard that are still to come.
const LATER: [&str; 22] = [
    "median",
    "all",
    "any",
    "list contains",
    "distinct values",
    "concatenate",
    "replace",
    "split",
    "string join",
    "decimal",
    "round",
    "round up",
    "round down",
    "round half up",
    "round half down",
    "get value",
    "time",
    "failing",
    "in network",
    "substring before",
    "substring after",
    "list replace",
];

/// Returns whether several words are the name of a function.
pub(super) fn is_known(name: &str) -> bool {
    FUNCTIONS.iter().any(|function| function.name == name) || is_later(name)
}

/// Returns whether a function of the standard is still to come.
pub(super) fn is_later(name: &str) -> bool {
    LATER.contains(&name)
}

/// Returns a function by name.
pub(super) fn find(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|function| function.name == name)
}

/// Returns the names of all functions.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    FUNCTIONS.iter().map(|function| function.name)
}

/// Compiles an XPath regular expression with its flags to a linear-time one.
///
/// # Errors
/// Says in a few words why the pattern cannot be used.
pub(super) fn compile_pattern(pattern: &str, flags: &str) -> Result<Regex, String> {
    const SIZE_LIMIT: usize = 1 << 20;
    if let Some(unknown) = flags.chars().find(|flag| !"smixq".contains(*flag)) {
        return Err(format!("unknown flag `{unknown}`; known are s, m, i, x and q"));
    }
    let literal = flags.contains('q');
    let escaped;
    let pattern = if literal {
        escaped = regex::escape(pattern);
        &escaped
    } else {
        pattern
    };
    RegexBuilder::new(pattern)
        .dot_matches_new_line(flags.contains('s'))
        .multi_line(flags.contains('m'))
        .case_insensitive(flags.contains('i'))
        .ignore_whitespace(flags.contains('x') && !literal)
        .size_limit(SIZE_LIMIT)
        .nest_limit(50)
        .build()
        .map_err(|error| match error {
            regex::Error::CompiledTooBig(_) => "it would grow too large".to_owned(),
            other => {
                other.to_string().lines().last().unwrap_or("it is malformed").trim_start_matches("error: ").to_owned()
            }
        })
}

fn text<'a>(args: &[Value<'a>], at: usize) -> Option<&'a str> {
    match args.get(at) {
        Some(Value::Text(text) | Value::Version(text)) => Some(text),
        _ => None,
    }
}

fn number(args: &[Value<'_>]) -> Option<Decimal> {
    match args {
        [Value::Number(number), ..] => Some(*number),
        _ => None,
    }
}

fn pair<'a>(args: &[Value<'a>], holds: impl Fn(&str, &str) -> bool) -> Value<'a> {
    match (text(args, 0), text(args, 1)) {
        (Some(a), Some(b)) => Value::Boolean(holds(a, b)),
        _ => Value::Null,
    }
}

fn version<'a>(_: &Context<'a>, args: &[Value<'a>]) -> Value<'a> {
    match text(args, 0) {
        Some(text) if is_version(text) => Value::Version(text),
        _ => Value::Null,
    }
}

fn date<'a>(_: &Context<'a>, args: &[Value<'a>]) -> Value<'a> {
    match args {
        [Value::Text(text)] => parse_day(text).map_or(Value::Null, Value::Date),
        [Value::DateTime(DateTime::Local(local))] => Value::Date(local.date()),
        [Value::DateTime(DateTime::At(moment, offset))] => Value::Date(offset.to_datetime(*moment).date()),
        [Value::Date(date)] => Value::Date(*date),
        _ => Value::Null,
    }
}

/// The items of the one list given, or the arguments themselves.
fn list<'s, 'a>(args: &'s [Value<'a>]) -> Option<&'s [Value<'a>]> {
    match args {
        [Value::List(list)] => Some(list.items),
        [Value::Null] => None,
        many => Some(many),
    }
}

fn numbers(args: &[Value<'_>]) -> Option<Vec<Decimal>> {
    list(args)?
        .iter()
        .map(|item| match item {
            Value::Number(number) => Some(*number),
            _ => None,
        })
        .collect()
}

fn extreme<'a>(args: &[Value<'a>], wanted: std::cmp::Ordering) -> Value<'a> {
    let Some((first, rest)) = list(args).and_then(<[Value<'_>]>::split_first) else { return Value::Null };
    let mut best = *first;
    if super::operate::order(&best, &best).is_none() {
        return Value::Null;
    }
    for item in rest {
        match super::operate::order(item, &best) {
            Some(order) if order == wanted => best = *item,
            Some(_) => {}
            None => return Value::Null,
        }
    }
    best
}

/// Positions count characters from 1; negative ones from the end; 0 is none.
fn substring<'a>(_: &Context<'a>, args: &[Value<'a>]) -> Value<'a> {
    let (Some(text), Some(Value::Number(start))) = (text(args, 0), args.get(1)) else { return Value::Null };
    let whole = |number: &Decimal| i64::try_from(number.trunc()).ok();
    let Some(start) = whole(start).filter(|start| *start != 0) else { return Value::Null };
    let length = i64::try_from(text.chars().count()).unwrap_or(i64::MAX);
    let from = if start > 0 { start - 1 } else { (length + start).max(0) };
    let take = match args.get(2) {
        None => i64::MAX,
        Some(Value::Number(number)) => match whole(number) {
            Some(take) if take >= 1 => take,
            _ => return Value::Null,
        },
        Some(_) => return Value::Null,
    };
    let at = |position: i64| {
        let position = usize::try_from(position).unwrap_or(usize::MAX);
        text.char_indices().nth(position).map_or(text.len(), |(at, _)| at)
    };
    let (begin, end) = (at(from), at(from.saturating_add(take)));
    Value::Text(&text[begin..end])
}
