//! The clock of a finding: the one place that knows where a finding stands at a moment, and when time alone changes that.

use jiff::Timestamp;

use crate::id::WaiverId;

/// Why a finding closed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CloseReason {
    /// The device was put right: newer evidence passes an unchanged rule.
    Fixed,
    /// The rule was changed and passes now.
    RuleChanged,
    /// A correction by hand began or ended, and it passes now.
    Corrected,
    /// It passes on evidence that is not newer than what failed.
    Revised,
    /// The rule does not cover the device any more.
    NotApplicable,
    /// The rule is gone, or counts no longer.
    Withdrawn,
    /// A silent device has given every enforced rule a verdict; a device that nothing covered is covered.
    Answered,
    /// The device was retired.
    Retired,
}

impl CloseReason {
    /// All reasons.
    pub const ALL: [Self; 8] = [
        Self::Fixed,
        Self::RuleChanged,
        Self::Corrected,
        Self::Revised,
        Self::NotApplicable,
        Self::Withdrawn,
        Self::Answered,
        Self::Retired,
    ];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Fixed => "fixed",
            Self::RuleChanged => "rule-changed",
            Self::Corrected => "corrected",
            Self::Revised => "revised",
            Self::NotApplicable => "not-applicable",
            Self::Withdrawn => "withdrawn",
            Self::Answered => "answered",
            Self::Retired => "retired",
        }
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.as_str() == text)
    }
}

/// A time during which a waiver covers a finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WaivedTime {
    /// From when on.
    pub from: Timestamp,
    /// Up to when, exclusively.
    pub until: Timestamp,
    /// When the finding is due once the time is over.
    pub due_after: Timestamp,
    /// The grace begins anew when the time is over.
    pub afresh: bool,
    /// The waiver; of several that overlap, the last to end.
    pub waiver: WaiverId,
}

impl WaivedTime {
    /// Returns whether it covers a moment.
    pub fn covers(&self, at: Timestamp) -> bool {
        self.from <= at && at < self.until
    }
}

/// The clock of a finding. Where a finding stands at a moment follows from it alone; nothing else compares a due moment with
/// another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FindingClock {
    /// When an assessment first saw the finding.
    pub opened: Timestamp,
    /// When the grace ends, but for waivers that are not over yet.
    pub due: Timestamp,
    /// When and why the finding closed.
    pub closed: Option<(Timestamp, CloseReason)>,
    /// The times during which waivers cover it, apart from one another and ascending; of those that are over the last alone.
    pub waived: Vec<WaivedTime>,
}

/// Where a finding stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// Its grace runs.
    Open {
        /// When the grace ends.
        due: Timestamp,
    },
    /// Its grace is over.
    Overdue {
        /// Since when it counts: the end of the grace, or of the waiver that covered it then.
        since: Timestamp,
    },
    /// A waiver covers it, and it counts as met.
    Waived {
        /// When the waiver ends.
        until: Timestamp,
    },
    /// It is over.
    Closed {
        /// When.
        at: Timestamp,
        /// Why.
        reason: CloseReason,
    },
}

impl Phase {
    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open { .. } => "open",
            Self::Overdue { .. } => "overdue",
            Self::Waived { .. } => "waived",
            Self::Closed { .. } => "closed",
        }
    }
}

impl FindingClock {
    /// Creates the clock of a finding that runs and that no waiver covers.
    pub fn running(opened: Timestamp, due: Timestamp) -> Self {
        Self { opened, due, closed: None, waived: Vec::new() }
    }

    /// Returns where the finding stands at `at`.
    pub fn phase(&self, at: Timestamp) -> Phase {
        match self.closed {
            Some((closed, reason)) if closed <= at => Phase::Closed { at: closed, reason },
            Some(_) | None => self.running_phase(at),
        }
    }

    /// Returns where the finding stands at `at` if it does not close.
    pub fn running_phase(&self, at: Timestamp) -> Phase {
        if let Some(time) = self.waived_at(at) {
            return Phase::Waived { until: time.until };
        }
        let over = self.waived.iter().rfind(|time| time.until <= at);
        let due = over.map_or(self.due, |time| time.due_after);
        match at < due {
            true => Phase::Open { due },
            false => Phase::Overdue { since: over.map_or(due, |time| due.max(time.until)) },
        }
    }

    /// Returns the time at `at` during which a waiver covers the finding.
    pub fn waived_at(&self, at: Timestamp) -> Option<&WaivedTime> {
        self.waived.iter().find(|time| time.covers(at))
    }

    /// Returns when the finding is due as of `at`: while a waiver covers it, when it will be once that is over.
    pub fn due_at(&self, at: Timestamp) -> Timestamp {
        self.waived.iter().rfind(|time| time.from <= at).map_or(self.due, |time| time.due_after)
    }

    /// Returns from when on the finding is overdue if it does not close, as of `at`: its due moment, or the end of a waiver that covers
    /// it then.
    pub fn overdue_from(&self, at: Timestamp) -> Timestamp {
        self.waived.iter().rfind(|time| time.from <= at).map_or(self.due, |time| time.due_after.max(time.until))
    }

    /// Returns how many times a waiver has begun to cover the finding by `at`.
    pub fn waivers_begun(&self, at: Timestamp) -> usize {
        self.waived.iter().filter(|time| time.from <= at).count()
    }

    /// Returns the moment from which the grace counts: the opening, or the end of a waiver after which it began anew.
    pub fn grace_begins(&self, at: Timestamp) -> Timestamp {
        let over = self.waived.iter().rfind(|time| time.until <= at && time.afresh);
        over.map_or(self.opened, |time| time.until)
    }

    /// Returns whether the finding has not closed.
    pub fn is_running(&self) -> bool {
        self.closed.is_none()
    }

    /// Returns whether the finding runs at `at`, its grace is over, and no waiver covers it.
    pub fn is_overdue(&self, at: Timestamp) -> bool {
        matches!(self.phase(at), Phase::Overdue { .. })
    }

    /// Returns whether the finding is overdue at `at` since a waiver ended.
    pub fn is_overdue_by_end_of_waiver(&self, at: Timestamp) -> bool {
        let Phase::Overdue { since } = self.phase(at) else { return false };
        self.waived.iter().any(|time| time.until == since && time.due_after <= since)
    }

    /// Returns whether a waiver covers the finding at `at`.
    pub fn is_waived(&self, at: Timestamp) -> bool {
        matches!(self.phase(at), Phase::Waived { .. })
    }

    /// Returns the first moment after `at` at which time alone changes the phase; none where it never does.
    pub fn next_change(&self, at: Timestamp) -> Option<Timestamp> {
        if !self.is_running() {
            return None;
        }
        if self.waived.is_empty() {
            return (self.due > at).then_some(self.due);
        }
        let now = self.running_phase(at);
        let of_waivers = self.waived.iter().flat_map(|time| [time.from, time.until, time.due_after]);
        let mut moments: Vec<Timestamp> = of_waivers.chain([self.due]).filter(|moment| *moment > at).collect();
        moments.sort_unstable();
        moments.into_iter().find(|moment| self.running_phase(*moment) != now)
    }

    /// Returns the phases that time alone brings about after `after` and up to `until`, each with the moment at which it begins.
    pub fn changes(&self, after: Timestamp, until: Timestamp) -> impl Iterator<Item = (Timestamp, Phase)> {
        let next = move |at: Timestamp| self.next_change(at).filter(|moment| *moment <= until);
        std::iter::successors(next(after), move |at| next(*at)).map(|at| (at, self.running_phase(at)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;

    use crate::testing::moment;

    const D1: &str = "2027-03-01T06:00:00Z";
    const D2: &str = "2027-03-02T06:00:00Z";
    const D3: &str = "2027-03-03T06:00:00Z";

    #[test]
    fn the_clock_of_a_finding_tells_its_phase_at_each_edge() {
        let second = SignedDuration::from_secs(1);
        let (opened, due, closed) = (moment(D1), moment(D2), moment(D3));
        let running = FindingClock::running(opened, due);
        assert_eq!(running.phase(due - second), Phase::Open { due });
        assert_eq!(running.phase(due), Phase::Overdue { since: due });
        assert_eq!((running.next_change(due - second), running.next_change(due)), (Some(due), None));
        let over = FindingClock { closed: Some((closed, CloseReason::Fixed)), ..running };
        assert_eq!(over.phase(closed - second), Phase::Overdue { since: due });
        assert_eq!(over.phase(closed), Phase::Closed { at: closed, reason: CloseReason::Fixed });
        assert!(over.is_overdue(closed - second) && !over.is_overdue(closed) && !over.is_running());
        assert_eq!(over.next_change(opened), None);
        // Without grace a finding is overdue from its opening.
        let at_once = FindingClock::running(opened, opened);
        assert_eq!((at_once.phase(opened), at_once.next_change(opened)), (Phase::Overdue { since: opened }, None));
    }

    #[test]
    fn a_waiver_covers_a_finding_from_its_first_moment_to_its_end() {
        let second = SignedDuration::from_secs(1);
        let [opened, due, from, until, due_after] =
            ["01", "03", "02", "09", "12"].map(|day| moment(&format!("2027-03-{day}T00:00:00Z")));
        let kept = WaivedTime { from, until, due_after: due, afresh: false, waiver: "w".into() };
        let keep = FindingClock { waived: vec![kept.clone()], ..FindingClock::running(opened, due) };
        assert_eq!(keep.phase(from - second), Phase::Open { due });
        assert_eq!((keep.phase(from), keep.phase(until - second)), (Phase::Waived { until }, Phase::Waived { until }));
        // The old due stands, and nothing was lost before the waiver ended.
        assert_eq!(keep.phase(until), Phase::Overdue { since: until });
        let changes: Vec<Timestamp> = keep.changes(opened, Timestamp::MAX).map(|(at, _)| at).collect();
        assert_eq!(changes, [from, until]);
        let afresh = WaivedTime { due_after, afresh: true, ..kept };
        let afresh = FindingClock { waived: vec![afresh], ..keep };
        assert_eq!((afresh.phase(until), afresh.due_at(from)), (Phase::Open { due: due_after }, due_after));
        assert_eq!(afresh.phase(due_after), Phase::Overdue { since: due_after });
        let changes: Vec<&str> = afresh.changes(opened, Timestamp::MAX).map(|(_, phase)| phase.as_str()).collect();
        assert_eq!(changes, ["waived", "open", "overdue"]);
        assert_eq!((afresh.grace_begins(from), afresh.grace_begins(until)), (opened, until));
    }
}
