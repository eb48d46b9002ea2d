//! What devices are evaluated with, besides the rules.

use bumpalo::Bump;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::condition::Evaluator;
use crate::facts::merge::Facts;
use crate::facts::value::Value;

/// The moment that is judged by, the zone in which days are counted, and the arena of values.
#[derive(Clone, Copy, Debug)]
pub struct Session<'a> {
    /// The moment.
    pub at: Timestamp,
    /// The zone.
    pub zone: &'a TimeZone,
    /// The arena; everything that is worked out lives as long as it.
    pub arena: &'a Bump,
}

impl<'a> Session<'a> {
    /// Creates a session.
    pub fn new(at: Timestamp, zone: &'a TimeZone, arena: &'a Bump) -> Self {
        Self { at, zone, arena }
    }

    /// Creates an evaluator over the facts of a device.
    pub fn evaluator(self, facts: &'a Facts<'a>) -> Evaluator<'a> {
        Evaluator::new(Some(facts), self.at, self.zone, self.arena)
    }
}

/// A device whose scope is looked at.
#[derive(Clone, Copy, Debug)]
pub(super) struct Member<'a> {
    pub id: &'a str,
    /// The groups it belongs to, one value a group.
    pub memberships: &'a [Value<'a>],
    pub at: Timestamp,
}
