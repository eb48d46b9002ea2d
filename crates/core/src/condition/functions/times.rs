//! Constructors of dates, times and durations, and what the clock says.

use jiff::civil;
use jiff::tz::Offset;

use super::{Context, Function, function, number, or_null, text, whole};
use crate::condition::types::Type;
use crate::facts::temporal::{parse_date_time, parse_day, parse_duration, parse_time};
use crate::facts::value::{DateTime, DayTime, Value, Zone};

pub(super) static FUNCTIONS: &[Function] = &[
    function("now", "now()", |cx, _| Value::DateTime(DateTime::At(cx.now, Zone::Offset(cx.zone.to_offset(cx.now)))))
        .takes((0, 0), &[], &[])
        .gives(Type::DateTime),
    function("today", "today()", |cx, _| Value::Date(cx.zone.to_datetime(cx.now).date()))
        .takes((0, 0), &[], &[])
        .gives(Type::Date),
    function("duration", "duration(\"P14D\") or duration(\"14 days\")", |_, args| {
        or_null(text(args, 0).and_then(parse_duration))
    })
    .takes((1, 1), &["from"], &[Type::Text])
    .gives(Type::Any),
    function("date", "date(\"2027-03-04\")", |_, args| or_null(date(args)))
        .takes((1, 3), &["year", "month", "day"], &[Type::Any])
        .gives(Type::Date),
    function("time", "time(\"10:00:00\")", |_, args| or_null(time(args)))
        .takes((1, 4), &["hour", "minute", "second", "offset"], &[Type::Any])
        .gives(Type::Time),
    function("date and time", "date and time(\"2027-03-04T10:00:00Z\")", |cx, args| or_null(date_and_time(cx, args)))
        .takes((1, 2), &["date", "time"], &[Type::Any])
        .gives(Type::DateTime),
];

fn date<'a>(args: &[Value<'a>]) -> Option<Value<'a>> {
    Some(Value::Date(match args {
        [Value::Text(text)] => parse_day(text)?,
        [Value::DateTime(moment)] => moment.local().date(),
        [Value::Date(date)] => *date,
        [_, _, _] => {
            let part = |at| whole(args, at).and_then(|part| i8::try_from(part).ok());
            civil::Date::new(i16::try_from(whole(args, 0)?).ok()?, part(1)?, part(2)?).ok()?
        }
        _ => return None,
    }))
}

fn time<'a>(args: &[Value<'a>]) -> Option<Value<'a>> {
    Some(Value::Time(match args {
        [Value::Text(text)] => parse_time(text)?,
        [Value::Time(time)] => *time,
        [Value::DateTime(moment)] => moment.time(),
        [Value::Date(_)] => DayTime { time: civil::Time::midnight(), offset: Some(Offset::UTC) },
        [_, _, _] | [_, _, _, _] => {
            let part = |at| whole(args, at).and_then(|part| i8::try_from(part).ok());
            let seconds = number(args, 2)?;
            let nanos = i32::try_from((seconds.fract() * rust_decimal::Decimal::from(1_000_000_000)).trunc()).ok()?;
            let time = civil::Time::new(part(0)?, part(1)?, i8::try_from(seconds.trunc()).ok()?, nanos).ok()?;
            let offset = match args.get(3) {
                None | Some(Value::Null) => None,
                Some(Value::Duration(length)) => {
                    Some(Offset::from_seconds(i32::try_from(length.as_secs()).ok()?).ok()?)
                }
                Some(_) => return None,
            };
            DayTime { time, offset }
        }
        _ => return None,
    }))
}

fn date_and_time<'a>(_: &Context<'a>, args: &[Value<'a>]) -> Option<Value<'a>> {
    let moment = match args {
        [Value::Text(text)] => match parse_date_time(text) {
            Some(moment) => moment,
            // A bare day is its midnight, as in the standard.
            None => DateTime::Local(parse_day(text)?.to_datetime(civil::Time::midnight())),
        },
        [Value::DateTime(moment)] => *moment,
        [Value::Date(_) | Value::DateTime(_), Value::Time(time)] => {
            let date = match args[0] {
                Value::Date(date) => date,
                Value::DateTime(moment) => moment.local().date(),
                _ => return None,
            };
            let local = date.to_datetime(time.time);
            match time.offset {
                None => DateTime::Local(local),
                Some(offset) => DateTime::At(offset.to_timestamp(local).ok()?, Zone::Offset(offset)),
            }
        }
        _ => return None,
    };
    Some(Value::DateTime(moment))
}
