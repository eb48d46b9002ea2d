//! What operators do with values: comparisons, membership, arithmetic, and the logic of the unknown. Nothing here
//! knows of facts; a node is asked only for the fact to blame.

use std::cmp::Ordering;

use jiff::{SignedDuration, Span};
use rust_decimal::Decimal;

use super::compiled::{Node, Op};
use super::syntax::{ArithmeticOp, CompareOp};
use crate::facts::value::{DateTime, DayTime, Reason, Unknown, Value};
use crate::facts::version::{compare_versions, is_version};

/// `and`, by Kleene: false settles it, whatever the other side is.
pub(super) fn kleene_and<'a>(left: Value<'a>, right: Value<'a>) -> Value<'a> {
    match (left, right) {
        (Value::Boolean(false), _) | (_, Value::Boolean(false)) => Value::Boolean(false),
        (Value::Boolean(true), other) | (other, Value::Boolean(true)) => other,
        (first, _) => first,
    }
}

/// `or`, by Kleene: true settles it, whatever the other side is.
pub(super) fn kleene_or<'a>(left: Value<'a>, right: Value<'a>) -> Value<'a> {
    match (left, right) {
        (Value::Boolean(true), _) | (_, Value::Boolean(true)) => Value::Boolean(true),
        (Value::Boolean(false), other) | (other, Value::Boolean(false)) => other,
        (first, _) => first,
    }
}

/// Two values that do not go together: a fact of the wrong type where a fact is involved, else null.
pub(super) fn mismatch<'a>(left: &'a Node, right: &'a Node) -> Value<'a> {
    let literal = |node: &Node| matches!(node.op, Op::Constant(_) | Op::Text(_) | Op::Version(_));
    let blamed = if literal(left) {
        right.blame_label().or(left.blame_label())
    } else {
        left.blame_label().or(right.blame_label())
    };
    blamed.map_or(Value::Null, |fact| Value::Unknown(Unknown { reason: Reason::WrongType, fact }))
}

/// The order of two values of one ordered type.
pub(super) fn order(left: &Value<'_>, right: &Value<'_>) -> Option<Ordering> {
    Some(match (left, right) {
        (Value::Number(a), Value::Number(b)) => a.cmp(b),
        (Value::Text(a), Value::Text(b)) => a.cmp(b),
        (Value::Version(a), Value::Version(b)) => compare_versions(a, b),
        (Value::Version(a), Value::Text(b)) if is_version(b) => compare_versions(a, b),
        (Value::Text(a), Value::Version(b)) if is_version(a) => compare_versions(a, b),
        (Value::Date(a), Value::Date(b)) => a.cmp(b),
        (Value::DateTime(DateTime::At(a, _)), Value::DateTime(DateTime::At(b, _))) => a.cmp(b),
        (Value::DateTime(DateTime::Local(a)), Value::DateTime(DateTime::Local(b))) => a.cmp(b),
        (Value::Time(a), Value::Time(b)) if a.offset.is_some() == b.offset.is_some() => {
            a.since_midnight().cmp(&b.since_midnight())
        }
        (Value::Duration(a), Value::Duration(b)) => a.cmp(b),
        (Value::Months(a), Value::Months(b)) => a.cmp(b),
        _ => return None,
    })
}

pub(super) fn compare<'a>(
    op: CompareOp,
    left: Value<'a>,
    right: Value<'a>,
    left_node: &'a Node,
    right_node: &'a Node,
) -> Value<'a> {
    match op {
        CompareOp::Equal => equal(left, right, left_node, right_node),
        CompareOp::NotEqual => match equal(left, right, left_node, right_node) {
            Value::Boolean(truth) => Value::Boolean(!truth),
            other => other,
        },
        CompareOp::Less | CompareOp::LessEqual | CompareOp::Greater | CompareOp::GreaterEqual => {
            match (left, right) {
                (Value::Unknown(_), _) => return left,
                (_, Value::Unknown(_)) => return right,
                (Value::Null, _) | (_, Value::Null) => return Value::Null,
                _ if is_comparable(&left, &right) && order(&left, &right).is_none() => return Value::Null,
                _ => {}
            }
            let Some(order) = order(&left, &right) else { return mismatch(left_node, right_node) };
            Value::Boolean(match op {
                CompareOp::Less => order.is_lt(),
                CompareOp::LessEqual => order.is_le(),
                CompareOp::Greater => order.is_gt(),
                CompareOp::GreaterEqual | CompareOp::Equal | CompareOp::NotEqual => order.is_ge(),
            })
        }
    }
}

pub(super) fn equal<'a>(left: Value<'a>, right: Value<'a>, left_node: &'a Node, right_node: &'a Node) -> Value<'a> {
    match (left, right) {
        (Value::Unknown(_), _) => left,
        (_, Value::Unknown(_)) => right,
        (Value::Null, Value::Null) => Value::Boolean(true),
        (Value::Null, _) | (_, Value::Null) => Value::Boolean(false),
        (Value::Boolean(a), Value::Boolean(b)) => Value::Boolean(a == b),
        (Value::List(a), Value::List(b)) => {
            if let Some((_, unknown)) = a.doubts.first().or(b.doubts.first()) {
                return Value::Unknown(*unknown);
            }
            if a.items.len() != b.items.len() {
                return Value::Boolean(false);
            }
            a.items
                .iter()
                .zip(b.items)
                .fold(Value::Boolean(true), |all, (x, y)| kleene_and(all, equal(*x, *y, left_node, right_node)))
        }
        (Value::Object(a), Value::Object(b)) => {
            if a.fields.len() != b.fields.len() {
                return Value::Boolean(false);
            }
            let fields = a.fields_beside(&b);
            fields.fold(Value::Boolean(true), |all, (x, y)| {
                kleene_and(all, y.map_or(Value::Boolean(false), |y| equal(x, y, left_node, right_node)))
            })
        }
        _ => match order(&left, &right) {
            Some(order) => Value::Boolean(order.is_eq()),
            None if is_comparable(&left, &right) => Value::Null,
            None => mismatch(left_node, right_node),
        },
    }
}

/// Whether two values are of time and so no mistake beside each other, though they may not be comparable: a local
/// time and one with an offset, a date and a date with a time.
fn is_comparable(left: &Value<'_>, right: &Value<'_>) -> bool {
    matches!(
        (left, right),
        (Value::DateTime(_) | Value::Date(_), Value::DateTime(_) | Value::Date(_)) | (Value::Time(_), Value::Time(_))
    )
}

/// Whether two known values are equal; none where they are of different types.
pub(super) fn same(left: &Value<'_>, right: &Value<'_>) -> Option<bool> {
    match (left, right) {
        (Value::Boolean(a), Value::Boolean(b)) => Some(a == b),
        (Value::List(a), Value::List(b)) => {
            if a.items.len() != b.items.len() {
                return Some(false);
            }
            a.items.iter().zip(b.items).try_fold(true, |all, (x, y)| Some(all && same(x, y)?))
        }
        (Value::Object(a), Value::Object(b)) => {
            if a.fields.len() != b.fields.len() {
                return Some(false);
            }
            a.fields_beside(b).try_fold(true, |all, (x, y)| Some(all && y.map_or(Some(false), |y| same(&x, &y))?))
        }
        _ => order(left, right).map(std::cmp::Ordering::is_eq),
    }
}

/// Whether a value is a member: equal to it, within a range, or one of a list.
pub(super) fn one_of<'a>(value: Value<'a>, member: Value<'a>, node: &'a Node, member_node: &'a Node) -> Value<'a> {
    match member {
        Value::Range(range) => {
            let low = if range.low.included { CompareOp::GreaterEqual } else { CompareOp::Greater };
            let high = if range.high.included { CompareOp::LessEqual } else { CompareOp::Less };
            kleene_and(
                compare(low, value, range.low.value, node, member_node),
                compare(high, value, range.high.value, node, member_node),
            )
        }
        Value::List(list) if !matches!(value, Value::List(_)) => {
            if let Some((_, unknown)) = list.doubts.first() {
                return Value::Unknown(*unknown);
            }
            let mut any = Value::Boolean(false);
            for item in list.items {
                any = kleene_or(any, one_of(value, *item, node, member_node));
                if matches!(any, Value::Boolean(true)) {
                    break;
                }
            }
            any
        }
        _ => equal(value, member, node, member_node),
    }
}

/// A duration, day or moment beyond what can be told.
pub(super) const OVERFLOW: Value<'static> = Value::Unknown(Unknown { reason: Reason::Error, fact: "" });

/// Returns that the result of an operation is beyond what can be told, blaming a fact that takes part.
pub(super) fn overflow<'a>(left: &'a Node, right: &'a Node) -> Value<'a> {
    let fact = left.blame_label().or_else(|| right.blame_label()).unwrap_or("");
    Value::Unknown(Unknown { reason: Reason::Error, fact })
}

/// Works out `+ - * / **`. Numbers that overflow give null, as in the standard; durations, days and moments that do are
/// unknown, reason *error*, so that no device passes or fails by reporting an absurd one.
pub(super) fn arithmetic<'a>(
    op: ArithmeticOp,
    left: Value<'a>,
    right: Value<'a>,
    left_node: &'a Node,
    right_node: &'a Node,
) -> Value<'a> {
    use ArithmeticOp::{Add, Divide, Multiply, Power, Subtract};
    let number = |result: Option<Decimal>| result.map_or(Value::Null, Value::Number);
    let temporal = |result: Option<Value<'a>>| result.unwrap_or_else(|| overflow(left_node, right_node));
    match (op, left, right) {
        (_, Value::Unknown(_), _) => left,
        (_, _, Value::Unknown(_)) => right,
        (_, Value::Null, _) | (_, _, Value::Null) => Value::Null,
        (Add, Value::Number(a), Value::Number(b)) => number(a.checked_add(b)),
        (Subtract, Value::Number(a), Value::Number(b)) => number(a.checked_sub(b)),
        (Multiply, Value::Number(a), Value::Number(b)) => number(a.checked_mul(b)),
        (Divide, Value::Number(a), Value::Number(b)) => number(a.checked_div(b)),
        (Power, Value::Number(a), Value::Number(b)) => number(power(a, b)),
        (Add, Value::Duration(a), Value::Duration(b)) => temporal(a.checked_add(b).map(Value::Duration)),
        (Subtract, Value::Duration(a), Value::Duration(b)) => temporal(a.checked_sub(b).map(Value::Duration)),
        (Add, Value::Months(a), Value::Months(b)) => temporal(a.checked_add(b).map(Value::Months)),
        (Subtract, Value::Months(a), Value::Months(b)) => temporal(a.checked_sub(b).map(Value::Months)),
        (Subtract, Value::DateTime(DateTime::At(a, _)), Value::DateTime(DateTime::At(b, _))) => {
            Value::Duration(a.duration_since(b))
        }
        (Subtract, Value::Date(a), Value::Date(b)) => Value::Duration(a.duration_since(b)),
        (Subtract, Value::DateTime(DateTime::Local(a)), Value::DateTime(DateTime::Local(b))) => {
            Value::Duration(a.duration_since(b))
        }
        (Subtract, Value::DateTime(a), Value::Date(b)) => temporal(since_midnight(a, b).map(Value::Duration)),
        (Subtract, Value::Date(a), Value::DateTime(b)) => {
            temporal(since_midnight(b, a).and_then(SignedDuration::checked_neg).map(Value::Duration))
        }
        (Subtract, Value::Time(a), Value::Time(b)) if a.offset.is_some() == b.offset.is_some() => {
            let nanos = i64::try_from(a.since_midnight() - b.since_midnight()).ok();
            temporal(nanos.map(|nanos| Value::Duration(SignedDuration::from_nanos(nanos))))
        }
        (Add | Subtract, Value::Time(time), Value::Duration(length)) => temporal(
            signed(op, length).map(|length| Value::Time(DayTime { time: time.time.wrapping_add(length), ..time })),
        ),
        (Multiply, Value::Duration(length), Value::Number(factor))
        | (Multiply, Value::Number(factor), Value::Duration(length)) => {
            temporal(seconds(length).and_then(|seconds| of_seconds(seconds.checked_mul(factor)?)))
        }
        // What is divided by zero is null, as among numbers.
        (Divide, Value::Duration(_), Value::Number(by)) if by.is_zero() => Value::Null,
        (Divide, Value::Duration(length), Value::Number(factor)) => {
            temporal(seconds(length).and_then(|seconds| of_seconds(seconds.checked_div(factor)?)))
        }
        (Divide, Value::Duration(a), Value::Duration(b)) => {
            number(seconds(a).zip(seconds(b)).and_then(|(a, b)| a.checked_div(b)))
        }
        (Multiply, Value::Months(months), Value::Number(factor))
        | (Multiply, Value::Number(factor), Value::Months(months)) => {
            let months =
                Decimal::from(months).checked_mul(factor).and_then(|months| i64::try_from(months.trunc()).ok());
            temporal(months.map(Value::Months))
        }
        (Divide, Value::Months(_), Value::Number(by)) if by.is_zero() => Value::Null,
        (Divide, Value::Months(months), Value::Number(by)) => {
            let months = Decimal::from(months).checked_div(by).and_then(|months| i64::try_from(months.trunc()).ok());
            temporal(months.map(Value::Months))
        }
        (Divide, Value::Months(a), Value::Months(b)) => number(Decimal::from(a).checked_div(Decimal::from(b))),
        (Add | Subtract, moment @ (Value::DateTime(_) | Value::Date(_)), Value::Duration(length)) => {
            temporal(signed(op, length).and_then(|length| shift(moment, length)))
        }
        (Add, Value::Duration(length), moment @ (Value::DateTime(_) | Value::Date(_))) => {
            temporal(shift(moment, length))
        }
        (Add | Subtract, moment @ (Value::DateTime(_) | Value::Date(_)), Value::Months(months)) => {
            let months = if op == Subtract { months.checked_neg() } else { Some(months) };
            temporal(months.and_then(|months| shift_months(moment, months)))
        }
        (Add, Value::Months(months), moment @ (Value::DateTime(_) | Value::Date(_))) => {
            temporal(shift_months(moment, months))
        }
        _ => mismatch(left_node, right_node),
    }
}

/// Returns how long after the midnight that begins a day a moment is: of one with an offset, the midnight of UTC, as in the standard.
fn since_midnight(moment: DateTime, day: jiff::civil::Date) -> Option<SignedDuration> {
    let midnight = day.to_datetime(jiff::civil::Time::midnight());
    match moment {
        DateTime::Local(local) => Some(local.duration_since(midnight)),
        DateTime::At(at, _) => {
            let midnight = jiff::tz::Offset::UTC.to_timestamp(midnight).ok()?;
            Some(at.duration_since(midnight))
        }
    }
}

/// Returns the length to add: turned round where it is subtracted.
fn signed(op: ArithmeticOp, length: SignedDuration) -> Option<SignedDuration> {
    if op == ArithmeticOp::Subtract { length.checked_neg() } else { Some(length) }
}

/// Returns a length as a decimal number of seconds.
fn seconds(length: SignedDuration) -> Option<Decimal> {
    Decimal::try_from_i128_with_scale(length.as_nanos(), 9).ok()
}

/// Returns the duration of so many seconds, cut to whole nanoseconds.
fn of_seconds(seconds: Decimal) -> Option<Value<'static>> {
    let whole = i64::try_from(seconds.trunc()).ok()?;
    let nanos = seconds.fract().checked_mul(Decimal::from(1_000_000_000))?.trunc();
    let nanos = i32::try_from(i64::try_from(nanos).ok()?).ok()?;
    SignedDuration::from_secs(whole).checked_add(SignedDuration::from_nanos(nanos.into())).map(Value::Duration)
}

fn shift(moment: Value<'_>, length: SignedDuration) -> Option<Value<'_>> {
    match moment {
        // From its midnight, so that an hour less is the day before.
        Value::Date(date) => {
            let moved = date.to_datetime(jiff::civil::Time::midnight()).checked_add(length).ok()?;
            Some(Value::Date(moved.date()))
        }
        Value::DateTime(DateTime::Local(local)) => {
            local.checked_add(length).ok().map(|moved| Value::DateTime(DateTime::Local(moved)))
        }
        Value::DateTime(DateTime::At(at, offset)) => {
            at.checked_add(length).ok().map(|moved| Value::DateTime(DateTime::At(moved, offset)))
        }
        _ => None,
    }
}

/// Moves by calendar months; a day that the month does not have becomes its last.
fn shift_months(moment: Value<'_>, months: i64) -> Option<Value<'_>> {
    let span = Span::new().try_months(months).ok()?;
    match moment {
        Value::Date(date) => date.checked_add(span).ok().map(Value::Date),
        Value::DateTime(DateTime::Local(local)) => {
            local.checked_add(span).ok().map(|moved| Value::DateTime(DateTime::Local(moved)))
        }
        // By the clock of its own zone, so that the time of day stays.
        Value::DateTime(moment @ DateTime::At(_, zone)) => {
            let local = moment.local().checked_add(span).ok()?;
            zone.moment_of(local).map(|moved| Value::DateTime(DateTime::At(moved, zone)))
        }
        _ => None,
    }
}

/// Whole exponents only, by repeated squaring; overflow and the rest give none.
fn power(base: Decimal, exponent: Decimal) -> Option<Decimal> {
    let whole = i32::try_from(exponent.trunc()).ok().filter(|_| exponent.is_integer())?;
    let (mut result, mut square, mut left) = (Decimal::ONE, base, whole.unsigned_abs());
    while left > 0 {
        if left & 1 == 1 {
            result = result.checked_mul(square)?;
        }
        left >>= 1;
        if left > 0 {
            square = square.checked_mul(square)?;
        }
    }
    if whole < 0 { Decimal::ONE.checked_div(result) } else { Some(result) }
}
