//! Until when something holds: the earliest moment at which time alone could change what was worked out.
//!
//! While a device is evaluated, every time-dependent term that is *read* is noted with the first moment at which it would come
//! out otherwise. What was not read decided nothing, so it cannot change anything before something that was read does.

use std::cell::Cell;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::facts::comparison::CompareOp;

/// The smallest step of time.
const INSTANT: SignedDuration = SignedDuration::from_nanos(1);

/// Keeps the earliest of the moments that were noted.
#[derive(Debug)]
pub struct Watch {
    until: Cell<Timestamp>,
}

impl Default for Watch {
    fn default() -> Self {
        Self { until: Cell::new(Timestamp::MAX) }
    }
}

impl Watch {
    /// Returns the first moment at which time alone could change what was worked out; [`Timestamp::MAX`] when it never does.
    pub fn until(&self) -> Timestamp {
        self.until.get()
    }

    /// Notes that something comes out otherwise from a moment on.
    pub fn note(&self, from: Timestamp) {
        self.until.set(self.until.get().min(from));
    }

    /// Notes that something comes out otherwise after a moment.
    pub fn note_after(&self, last: Timestamp) {
        if let Ok(from) = last.checked_add(INSTANT) {
            self.note(from);
        }
    }

    /// Notes that something may come out otherwise at any time.
    pub(crate) fn note_always(&self) {
        self.note(Timestamp::MIN);
    }

    /// Notes that something depends on the day of the calendar.
    pub(crate) fn note_day(&self, now: Timestamp, zone: &TimeZone) {
        let tomorrow = zone.to_datetime(now).date().tomorrow();
        if let Ok(midnight) = tomorrow.and_then(|day| zone.to_timestamp(day.at(0, 0, 0, 0))) {
            self.note(midnight);
        }
        // A clock that is put back over midnight has the same day twice.
        if let Some(change) = zone.following(now).next() {
            self.note(change.timestamp());
        }
    }

    /// Notes when `now op edge` comes out otherwise.
    pub(crate) fn note_comparison(&self, now: Timestamp, op: CompareOp, edge: Timestamp) {
        use CompareOp::{Equal, Greater, GreaterEqual, Less, LessEqual, NotEqual};
        match op {
            Less | GreaterEqual | Equal | NotEqual if now < edge => self.note(edge),
            LessEqual | Greater if now <= edge => self.note_after(edge),
            Equal | NotEqual if now == edge => self.note_after(edge),
            Less | LessEqual | Greater | GreaterEqual | Equal | NotEqual => {}
        }
    }
}
