//! Moments as people say them, in the workspace's zone.

use fencepost_core::show_span;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// Says moments relative to another.
#[derive(Clone, Debug)]
pub struct Clock {
    pub now: Timestamp,
    pub zone: TimeZone,
}

impl Clock {
    /// `Fri 12:00` within the week, else `Fri 12 Mar 12:00`, with the year where it is another.
    pub fn moment(&self, at: Timestamp) -> String {
        let (then, now) = (at.to_zoned_datetime(self.zone.clone()), self.now.to_zoned_datetime(self.zone.clone()));
        let near = self.now.duration_since(at).abs().as_hours() < 6 * 24;
        let format = match (near, then.year() == now.year()) {
            (true, _) => "%a %H:%M",
            (false, true) => "%a %-d %b %H:%M",
            (false, false) => "%a %-d %b %Y %H:%M",
        };
        then.strftime(format).to_string()
    }

    /// The moment with its date, whatever is near: `Sun 14 Mar 2027 07:00`.
    pub fn full(&self, at: Timestamp) -> String {
        at.to_zoned_datetime(self.zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string()
    }

    /// `Sun 14 Mar 2027`.
    pub fn day(&self, at: Timestamp) -> String {
        at.to_zoned_datetime(self.zone.clone()).strftime("%a %-d %b %Y").to_string()
    }

    /// What ends with a day, `the end of Tue 9 Mar 2027`; or the moment, where it ends at another.
    pub fn end_of_day(&self, end: Timestamp) -> String {
        let before = end.checked_sub(jiff::SignedDuration::from_secs(1)).unwrap_or(end);
        let is_midnight = end.to_zoned_datetime(self.zone.clone()).time() == jiff::civil::Time::midnight();
        if is_midnight { format!("the end of {}", self.day(before)) } else { self.full(end) }
    }

    /// `in 1 d 4 h`, `3 h ago`, `now`.
    pub fn distance(&self, at: Timestamp) -> String {
        let length = at.duration_since(self.now);
        match length.signum() {
            0 => "now".to_owned(),
            1 => format!("in {}", show_span(length)),
            _ => format!("{} ago", show_span(length)),
        }
    }

    /// `Fri 12:00, in 1 d 4 h`.
    pub fn both(&self, at: Timestamp) -> String {
        format!("{}, {}", self.moment(at), self.distance(at))
    }

    /// The zone's name.
    pub fn zone_name(&self) -> String {
        self.zone.iana_name().unwrap_or("UTC").to_owned()
    }
}
