//! What moves with the clock: ages and what `now()` is part of, and when what they are compared with comes out otherwise.

use jiff::{SignedDuration, Timestamp};

use super::Evaluator;
use crate::condition::compiled::{Condition, Node, Op};
use crate::condition::functions::Context;
use crate::condition::operate::mismatch;
use crate::condition::syntax::{ArithmeticOp, CompareOp};
use crate::facts::temporal::parse_date_time;
use crate::facts::value::{DateTime, Reason, Unknown, Value};

/// How a value moves with the clock.
#[derive(Clone, Copy, Debug)]
pub(super) enum Moving {
    /// A moment, this much later than now.
    Ahead(SignedDuration),
    /// How long ago a moment is.
    Since(Timestamp),
    /// How long it is until a moment.
    Until(Timestamp),
}

impl<'a> Evaluator<'a> {
    /// Works out the value of a part, and how it moves with the clock where that is told; asked for by whoever notes when what
    /// comes of it changes.
    pub(super) fn moving(&mut self, condition: &'a Condition, node: &'a Node) -> (Value<'a>, Option<Moving>) {
        let Some(watch) = self.watch else {
            let value = match &node.op {
                Op::Age(inner) => {
                    let value = self.value(condition, inner);
                    self.age(value, inner).0
                }
                _ => self.value(condition, node),
            };
            return (value, None);
        };
        match &node.op {
            Op::Age(inner) => {
                let value = self.value(condition, inner);
                match self.age(value, inner) {
                    (age @ Value::Duration(_), Some(moment)) => (age, Some(Moving::Since(moment))),
                    (unknown, Some(moment)) => {
                        // From the future it comes into the present.
                        watch.note(moment);
                        (unknown, None)
                    }
                    (unknown, None) => (unknown, None),
                }
            }
            Op::Call(function, _) if function.name == "now" => {
                let context = Context { arena: self.arena, budget: self.budget, now: self.now, zone: self.zone };
                ((function.run)(&context, &[]), Some(Moving::Ahead(SignedDuration::ZERO)))
            }
            Op::Arithmetic(op, left, right) => {
                let ((l, left_moves), (r, right_moves)) = (self.moving(condition, left), self.moving(condition, right));
                let value = self.computed(*op, [l, r], [left, right]);
                let moving = match (op, left_moves, right_moves) {
                    (_, None, None) => return (value, None),
                    (ArithmeticOp::Add, Some(Moving::Ahead(by)), None) => lengthened(by, r).map(Moving::Ahead),
                    (ArithmeticOp::Add, None, Some(Moving::Ahead(by))) => lengthened(by, l).map(Moving::Ahead),
                    (ArithmeticOp::Subtract, Some(Moving::Ahead(by)), None) => match r {
                        Value::Duration(length) => by.checked_sub(length).map(Moving::Ahead),
                        Value::DateTime(DateTime::At(moment, _)) => moment.checked_sub(by).ok().map(Moving::Since),
                        _ => None,
                    },
                    (ArithmeticOp::Subtract, None, Some(Moving::Ahead(by))) => match l {
                        Value::DateTime(DateTime::At(moment, _)) => moment.checked_sub(by).ok().map(Moving::Until),
                        _ => None,
                    },
                    _ => None,
                };
                self.note_always(moving.is_none());
                (value, moving)
            }
            _ => (self.value(condition, node), None),
        }
    }

    /// Notes when `moving op other` comes out otherwise.
    pub(super) fn note_comparison(&self, op: CompareOp, moving: Moving, other: Value<'a>) {
        let Some(watch) = self.watch else { return };
        // Beside what is not known or of another type nothing moves.
        let edge = match (moving, other) {
            (Moving::Ahead(by), Value::DateTime(DateTime::At(moment, _))) => (op, moment.checked_sub(by)),
            (Moving::Since(moment), Value::Duration(length)) => (op, moment.checked_add(length)),
            (Moving::Until(moment), Value::Duration(length)) => (op.flipped(), moment.checked_sub(length)),
            _ => return,
        };
        // Before and after all time nothing happens.
        if let (op, Ok(edge)) = edge {
            watch.note_comparison(self.now, op, edge);
        }
    }

    pub(super) fn note_always(&self, moves: bool) {
        if let (true, Some(watch)) = (moves, self.watch) {
            watch.note_always();
        }
    }

    /// How long ago a moment is, and the moment.
    pub(super) fn age(&self, value: Value<'a>, inner: &'a Node) -> (Value<'a>, Option<Timestamp>) {
        let moment = match value {
            Value::DateTime(moment) => moment.moment(),
            // An undeclared instant is a text that reads as one.
            Value::Text(text) => parse_date_time(text).and_then(|moment| moment.moment()),
            Value::Unknown(_) | Value::Null => return (value, None),
            _ => None,
        };
        let age = match moment {
            Some(moment) if moment > self.now => {
                Value::Unknown(Unknown { reason: Reason::Clock, fact: inner.label.as_deref().unwrap_or("") })
            }
            Some(moment) => Value::Duration(self.now.duration_since(moment)),
            None => mismatch(inner, inner),
        };
        (age, moment)
    }

    /// Compares how long ago a moment is, and notes when that comes out otherwise; none of a moment to come.
    pub(in crate::condition) fn is_ago(&self, moment: Timestamp, op: CompareOp, bound: SignedDuration) -> Option<bool> {
        if moment > self.now {
            return None;
        }
        self.note_comparison(op, Moving::Since(moment), Value::Duration(bound));
        Some(op.is(self.now.duration_since(moment).cmp(&bound)))
    }
}

/// A length, made longer by a duration.
fn lengthened(length: SignedDuration, by: Value<'_>) -> Option<SignedDuration> {
    match by {
        Value::Duration(by) => length.checked_add(by),
        _ => None,
    }
}
