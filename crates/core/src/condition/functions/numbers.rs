//! Functions of numbers, decimal throughout.

use rust_decimal::{Decimal, RoundingStrategy};

use super::super::operate::OVERFLOW;
use super::{Function, function, number, or_null, whole};
use crate::condition::types::Type;
use crate::facts::value::Value;

pub(super) static FUNCTIONS: &[Function] = &[
    function("number", "number(\"12.5\")", |_, args| or_null(read_number(args)))
        .takes((1, 3), &["from", "grouping separator", "decimal separator"], &[Type::Any])
        .gives(Type::Number),
    function("abs", "abs(number)", |_, args| match args {
        [Value::Number(number)] => Value::Number(number.abs()),
        [Value::Duration(length)] if length.is_negative() => length.checked_neg().map_or(OVERFLOW, Value::Duration),
        [Value::Months(months)] => months.checked_abs().map_or(OVERFLOW, Value::Months),
        [duration @ Value::Duration(_)] => *duration,
        _ => Value::Null,
    })
    .takes((1, 1), &["n"], &[Type::Any])
    .gives(Type::Any),
    function("floor", "floor(number)", |_, args| rounded(args, RoundingStrategy::ToNegativeInfinity))
        .takes((1, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("ceiling", "ceiling(number)", |_, args| rounded(args, RoundingStrategy::ToPositiveInfinity))
        .takes((1, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("decimal", "decimal(number, scale)", |_, args| rounded(args, RoundingStrategy::MidpointNearestEven))
        .takes((2, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("round", "round(number, scale)", |_, args| rounded(args, RoundingStrategy::MidpointAwayFromZero))
        .takes((1, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("round up", "round up(number, scale)", |_, args| rounded(args, RoundingStrategy::AwayFromZero))
        .takes((2, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("round down", "round down(number, scale)", |_, args| rounded(args, RoundingStrategy::ToZero))
        .takes((2, 2), &["n", "scale"], &[Type::Number])
        .gives(Type::Number),
    function("round half up", "round half up(number, scale)", |_, args| {
        rounded(args, RoundingStrategy::MidpointAwayFromZero)
    })
    .takes((2, 2), &["n", "scale"], &[Type::Number])
    .gives(Type::Number),
    function("round half down", "round half down(number, scale)", |_, args| {
        rounded(args, RoundingStrategy::MidpointTowardZero)
    })
    .takes((2, 2), &["n", "scale"], &[Type::Number])
    .gives(Type::Number),
];

/// Rounds to a scale; a negative one rounds before the point.
fn rounded<'a>(args: &[Value<'a>], strategy: RoundingStrategy) -> Value<'a> {
    or_null(round_to(args, strategy))
}

fn round_to<'a>(args: &[Value<'a>], strategy: RoundingStrategy) -> Option<Value<'a>> {
    let number = number(args, 0)?;
    let scale = if args.len() > 1 { whole(args, 1)? } else { 0 };
    if let Ok(places) = u32::try_from(scale) {
        // More places than a number can have change nothing.
        return Some(Value::Number(number.round_dp_with_strategy(places.min(Decimal::MAX_SCALE), strategy)));
    }
    let power = u32::try_from(scale.unsigned_abs()).ok().filter(|power| *power <= Decimal::MAX_SCALE)?;
    let step = (0..power).try_fold(Decimal::ONE, |step, _| step.checked_mul(Decimal::TEN))?;
    number.checked_div(step)?.round_dp_with_strategy(0, strategy).checked_mul(step).map(Value::Number)
}

/// Reads a number out of a text; the separators are told apart as the standard asks.
fn read_number<'a>(args: &[Value<'a>]) -> Option<Value<'a>> {
    if let [Value::Number(_)] = args {
        return Some(args[0]);
    }
    let from = super::text(args, 0)?;
    let separator = |at: usize, allowed: &[&str]| match args.get(at) {
        None | Some(Value::Null) => Some(""),
        Some(_) => super::text(args, at).filter(|separator| allowed.contains(separator)),
    };
    let (grouping, point) = (separator(1, &[" ", ",", "."])?, separator(2, &[",", "."])?);
    if !grouping.is_empty() && grouping == point {
        return None;
    }
    let mut plain = if grouping.is_empty() { from.to_owned() } else { from.replace(grouping, "") };
    if point == "," {
        if plain.contains('.') {
            return None;
        }
        plain = plain.replace(',', ".");
    }
    let read = if plain.contains(['e', 'E']) { Decimal::from_scientific(&plain).ok() } else { plain.parse().ok() };
    read.map(Value::Number)
}
