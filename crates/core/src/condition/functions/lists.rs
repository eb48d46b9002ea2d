//! Functions of lists. Doubtful lists never come here; unknown items do where a function can weigh them.

use std::collections::HashSet;
use std::fmt::Write as _;

use rust_decimal::Decimal;

use super::super::operate::{kleene_and, kleene_or, order, same};
use super::{Context, Function, MANY, function, items, or_null, weighing};
use crate::condition::budget::BoundedText;
use crate::condition::types::Type;
use crate::facts::value::{DateTime, Object, Value};

pub(super) static FUNCTIONS: &[Function] = &[
    weighing(
        function("count", "count(list)", |_, args| match args {
            [Value::Null] => Value::Null,
            _ => Value::Number(items(args).len().into()),
        })
        .takes((1, 1), &["list"], &[Type::List])
        .gives(Type::Number),
    ),
    function("sum", "sum(list)", |_, args| or_null(sum(args).map(Value::Number)))
        .takes((1, MANY), &["list"], &[Type::List])
        .gives(Type::Number),
    function("mean", "mean(list)", |_, args| {
        let count = Decimal::from(items(args).len());
        or_null(sum(args).and_then(|sum| sum.checked_div(count)).map(Value::Number))
    })
    .takes((1, MANY), &["list"], &[Type::List])
    .gives(Type::Number),
    function("median", "median(list)", |_, args| or_null(median(args)))
        .takes((1, MANY), &["list"], &[Type::List])
        .gives(Type::Number),
    function("min", "min(list)", |_, args| or_null(extreme(args, std::cmp::Ordering::Less)))
        .takes((1, MANY), &["list"], &[Type::List])
        .gives(Type::Any),
    function("max", "max(list)", |_, args| or_null(extreme(args, std::cmp::Ordering::Greater)))
        .takes((1, MANY), &["list"], &[Type::List])
        .gives(Type::Any),
    weighing(
        function("all", "all(list)", |_, args| quantified(args, true))
            .takes((1, MANY), &["list"], &[Type::List])
            .gives(Type::Boolean),
    ),
    weighing(
        function("any", "any(list)", |_, args| quantified(args, false))
            .takes((1, MANY), &["list"], &[Type::List])
            .gives(Type::Boolean),
    ),
    weighing(
        function("list contains", "list contains(list, element)", |cx, args| match args {
            [Value::Null, _] => Value::Null,
            _ if cx.budget.spend_whole(&args[0]).is_none() => Value::Null,
            _ => items(&args[..1])
                .iter()
                .fold(Value::Boolean(false), |found, item| kleene_or(found, contained(item, &args[1]))),
        })
        .takes((2, 2), &["list", "element"], &[Type::List, Type::Any])
        .gives(Type::Boolean),
    ),
    function("distinct values", "distinct values(list)", |cx, args| match args {
        [Value::Null] => Value::Null,
        _ => or_null(distinct(cx, items(args))),
    })
    .takes((1, 1), &["list"], &[Type::List])
    .gives(Type::List),
    weighing(
        function("concatenate", "concatenate(list, list)", |cx, args| {
            let all: Vec<Value<'_>> = args.iter().flat_map(|arg| items(std::slice::from_ref(arg))).copied().collect();
            or_null(cx.list(&all))
        })
        .takes((1, MANY), &["list"], &[Type::List])
        .gives(Type::List),
    ),
    function("get value", "get value(settings, \"main.timeout\")", |_, args| match args {
        [Value::Object(object), Value::Text(key)] => value_as_written(object, key),
        _ => Value::Null,
    })
    .takes((2, 2), &["m", "key"], &[Type::Object, Type::Text])
    .gives(Type::Any),
];

fn sum(args: &[Value<'_>]) -> Option<Decimal> {
    let all = numbers(args)?;
    if all.is_empty() { None } else { all.into_iter().try_fold(Decimal::ZERO, Decimal::checked_add) }
}

fn numbers(args: &[Value<'_>]) -> Option<Vec<Decimal>> {
    items(args)
        .iter()
        .map(|item| match item {
            Value::Number(number) => Some(*number),
            _ => None,
        })
        .collect()
}

fn median<'a>(args: &[Value<'a>]) -> Option<Value<'a>> {
    let mut all = numbers(args).filter(|all| !all.is_empty())?;
    all.sort_unstable();
    let middle = all.len() / 2;
    let median = if all.len() % 2 == 1 {
        all[middle]
    } else {
        all[middle - 1].checked_add(all[middle])?.checked_div(Decimal::TWO)?
    };
    Some(Value::Number(median))
}

fn extreme<'a>(args: &[Value<'a>], wanted: std::cmp::Ordering) -> Option<Value<'a>> {
    let (first, rest) = items(args).split_first()?;
    order(first, first)?;
    rest.iter().try_fold(*first, |best, item| Some(if order(item, &best)? == wanted { *item } else { best }))
}

/// `all` and `any`, by Kleene; what is no boolean leaves it open.
fn quantified<'a>(args: &[Value<'a>], all: bool) -> Value<'a> {
    if matches!(args, [Value::Null]) {
        return Value::Null;
    }
    items(args).iter().fold(Value::Boolean(all), |result, item| {
        let item = match item {
            Value::Boolean(_) | Value::Unknown(_) => *item,
            _ => Value::Null,
        };
        if all { kleene_and(result, item) } else { kleene_or(result, item) }
    })
}

/// Whether an item is the element looked for; null is one like any other.
fn contained<'a>(item: &Value<'a>, element: &Value<'a>) -> Value<'a> {
    match (item, element) {
        (Value::Unknown(unknown), _) => Value::Unknown(*unknown),
        (Value::Null, Value::Null) => Value::Boolean(true),
        _ => match same(item, element) {
            Some(truth) => Value::Boolean(truth),
            // Of another type: surely not the element.
            None => Value::Boolean(false),
        },
    }
}

fn distinct<'a>(cx: &Context<'a>, all: &[Value<'a>]) -> Option<Value<'a>> {
    // By a text that is the same for equal values, so that a long list costs no more than its length.
    let mut seen = HashSet::new();
    let mut kept = Vec::new();
    for item in all {
        if seen.insert(cx.written(|out| write_canonical(item, out))?) {
            kept.push(*item);
        }
    }
    cx.list(&kept)
}

/// Writes a text that equal values share, and unequal ones do not.
fn write_canonical(value: &Value<'_>, out: &mut BoundedText) -> std::fmt::Result {
    match value {
        Value::Number(number) => write!(out, "n{}", number.normalize()),
        // Trailing zero parts count for nothing.
        Value::Version(text) => write!(out, "v{}", text.trim_end_matches(".0")),
        Value::DateTime(DateTime::At(moment, _)) => write!(out, "m{moment}"),
        Value::Time(time) => write!(out, "t{}{}", time.offset.is_some(), time.since_midnight()),
        Value::List(list) => {
            out.write_char('[')?;
            for item in list.items {
                write_canonical(item, out)?;
                out.write_char(',')?;
            }
            out.write_char(']')
        }
        Value::Object(object) => {
            let mut fields: Vec<_> = object.fields.iter().collect();
            fields.sort_unstable_by_key(|(key, _)| *key);
            out.write_char('{')?;
            for (key, value) in fields {
                write!(out, "{key:?}:")?;
                write_canonical(value, out)?;
                out.write_char(',')?;
            }
            out.write_char('}')
        }
        Value::Text(text) => write!(out, "text{text:?}"),
        other => write!(out, "{}{:?}", other.type_name(), other.written()),
    }
}

/// The value at a key as it was written, dots and all.
fn value_as_written<'a>(object: &Object<'a>, key: &str) -> Value<'a> {
    object.fields.iter().find(|(written, _)| *written == key).map_or(Value::missing(""), |(_, value)| *value)
}
