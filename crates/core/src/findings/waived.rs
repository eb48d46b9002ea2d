//! Settles what waivers do to the clocks of findings.

use jiff::Timestamp;

use crate::findings::clock::WaivedTime;
use crate::findings::event::FindingEvent;
use crate::findings::finding::{Finding, SettledEvent, Settling, Subject};
use crate::findings::waiver::{ClockAfterwards, WaiverSpan};

impl Settling<'_> {
    /// Moves the clocks of the findings that run, or close now, by the waivers of the device, and notes which of those began and
    /// ended since the assessment before.
    pub(super) fn settle_waivers(&mut self) {
        let at = self.context.at;
        let is_settled = |finding: &&Finding| finding.clock.closed.is_none_or(|(closed, _)| closed == at);
        let subjects: Vec<Subject> = self.findings.values().filter(is_settled).map(|it| it.subject.clone()).collect();
        for subject in subjects {
            let spans = self.waivers.spans(&subject, self.context.rules);
            if !spans.is_empty() || !self.findings[&subject].clock.waived.is_empty() {
                self.settle_spans(&subject, spans);
            }
        }
    }

    fn settle_spans(&mut self, subject: &Subject, written: Vec<WaiverSpan>) {
        let (at, calendar) = (self.context.at, &self.context.settings.calendar);
        let begins = |noted: &SettledEvent| {
            noted.subject == *subject && matches!(noted.event, FindingEvent::Opened | FindingEvent::CameBack)
        };
        let begins_now = self.events.iter().any(begins);
        let finding = self.findings.get_mut(subject).expect("it is one of the findings");
        let known = std::mem::take(&mut finding.clock.waived);
        // Up to when everything is settled already.
        let since =
            if begins_now { at } else { self.context.before.unwrap_or(Timestamp::MIN).max(finding.clock.opened) };
        let mut kept: Vec<WaivedTime> = Vec::new();
        if let Some(over) = known.iter().rfind(|time| time.until <= since) {
            // It was over at the last assessment; the grace may have been edited after that.
            let due_after = if begins_now { over.due_after } else { finding.clock.due };
            finding.clock.due = due_after;
            kept.push(WaivedTime { due_after, ..over.clone() });
        }
        let mut due = finding.clock.due;
        let mut notes: Vec<SettledEvent> = Vec::new();
        let mut note = |at: Timestamp, event: FindingEvent| {
            notes.push(SettledEvent { subject: subject.clone(), at, event });
        };
        let ends_at = if finding.clock.closed.is_some() { Timestamp::MAX } else { at };
        for span in spans_since(since, at, &known, written, ends_at) {
            let WaiverSpan { from, until, clock, waiver } = span;
            // A waiver that was written later did not cover the assessment that opened the finding.
            let opened = finding.clock.opened;
            let was_seen_under = opened == at || known.iter().any(|time| time.afresh && time.covers(opened));
            let is_first_seen = from <= opened && opened < until && was_seen_under;
            let afresh = clock == ClockAfterwards::Afresh || is_first_seen;
            let due_after = if afresh { finding.grace.after(until, calendar) } else { due };
            let before = known.iter().find(|time| !begins_now && time.covers(since) && time.from < until);
            let begun = FindingEvent::Waived { until, waiver: waiver.clone() };
            match before {
                Some(before) if before.until == until || until <= at => {}
                Some(_) => note(at, begun),
                None if from > at => {}
                None => note(if from > since { from } else { at }, begun),
            }
            if until <= at {
                note(until, FindingEvent::WaiverEnded { waiver: waiver.clone() });
                finding.clock.due = due_after;
                kept.clear();
            }
            due = due_after;
            kept.push(WaivedTime { from, until, due_after, afresh, waiver });
        }
        finding.clock.waived = kept;
        for event in notes {
            self.note_before_closing(event);
        }
    }

    /// Notes what happened to a finding, before its closing where it closes now.
    pub(super) fn note_before_closing(&mut self, event: SettledEvent) {
        let is_closing =
            |noted: &SettledEvent| noted.subject == event.subject && matches!(noted.event, FindingEvent::Closed(_));
        let place = self.events.iter().position(is_closing).unwrap_or(self.events.len());
        self.events.insert(place, event);
    }
}

/// Returns the times during which something is waived that are not over at `since`: those that are written, and those that were
/// and are no more, which end at `ends_at` if they do not before. Of a finding that closes nobody needs to take one out.
fn spans_since(
    since: Timestamp,
    at: Timestamp,
    known: &[WaivedTime],
    written: Vec<WaiverSpan>,
    ends_at: Timestamp,
) -> Vec<WaiverSpan> {
    let mut spans: Vec<WaiverSpan> = written.into_iter().filter(|span| span.until > since).collect();
    let began = known.iter().filter(|time| time.from <= at && time.until > since);
    let taken_out: Vec<WaiverSpan> = began
        .filter(|time| !spans.iter().any(|span| span.from <= at && span.from < time.until && time.from < span.until))
        .map(|time| WaiverSpan {
            from: time.from,
            until: time.until.min(ends_at),
            clock: if time.afresh { ClockAfterwards::Afresh } else { ClockAfterwards::Keep },
            waiver: time.waiver.clone(),
        })
        .collect();
    spans.extend(taken_out);
    spans.sort_by_key(|span| (span.from, span.until));
    spans
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    use crate::facts::period::Period;
    use crate::facts::value::Reason;
    use crate::findings::standing::Standing;
    use crate::findings::story::Story;
    use crate::findings::waiver::{EndedEarly, Waiver};
    use crate::rules::verdict::VerdictOutcome::{self, Fail, Pass, Unknown};
    use crate::testing::moment;

    fn day(day: u32) -> String {
        format!("2027-03-{day:02}T06:00:00Z")
    }

    /// A waiver of the rule from the begin of a day to the end of another.
    fn waiver(from: u32, until: u32, clock: ClockAfterwards) -> Waiver {
        let midnight = |day: u32| moment(&format!("2027-03-{day:02}T00:00:00Z"));
        Waiver {
            id: "w".into(),
            devices: vec!["d".into()],
            groups: Vec::new(),
            rules: Vec::new(),
            covered_rules: vec![0],
            silence: false,
            uncovered: false,
            because: "it has to be".into(),
            approved_by: "somebody".into(),
            from: midnight(from),
            until: midnight(until + 1),
            ended: None,
            clock,
            place: None,
        }
    }

    impl Story {
        /// Assesses on the morning of a day with evidence of that day.
        fn on(&mut self, at: u32, outcome: VerdictOutcome) -> (Vec<&'static str>, Standing) {
            self.assess(&day(at), outcome, &day(at), false)
        }
    }

    #[test]
    fn with_the_old_clock_a_finding_is_overdue_when_its_waiver_ends() {
        let mut story = Story::new("2d");
        assert_eq!(story.on(1, Fail).1, Standing::OnNotice);
        story.waivers = vec![waiver(2, 9, ClockAfterwards::Keep)];
        assert_eq!(story.on(2, Fail), (vec!["waived"], Standing::Compliant));
        assert_eq!(story.on(8, Fail), (vec![], Standing::Compliant));
        assert_eq!(story.on(10, Fail), (vec!["waiver-ended", "fell-due"], Standing::NonCompliant));
        let clock = &story.findings[0].clock;
        assert_eq!(clock.due, moment(&day(3)));
        assert!(clock.is_overdue_by_end_of_waiver(moment(&day(10))));
        // Nothing is told twice.
        assert_eq!(story.on(11, Fail), (vec![], Standing::NonCompliant));
    }

    #[test]
    fn the_clock_begins_afresh_where_the_waiver_says_so_and_of_what_is_first_seen_under_it() {
        let mut story = Story::new("2d");
        story.on(1, Fail);
        story.waivers = vec![waiver(2, 9, ClockAfterwards::Afresh)];
        story.on(2, Fail);
        assert_eq!(story.on(10, Fail), (vec!["waiver-ended"], Standing::OnNotice));
        assert_eq!(story.findings[0].clock.due, moment("2027-03-12T00:00:00Z"));
        assert_eq!(story.on(12, Fail), (vec!["fell-due"], Standing::NonCompliant));

        let mut story = Story::new("2d");
        story.waivers = vec![waiver(2, 9, ClockAfterwards::Keep)];
        assert_eq!(story.on(4, Fail), (vec!["opened", "waived"], Standing::Compliant));
        assert_eq!(story.on(10, Fail), (vec!["waiver-ended"], Standing::OnNotice));
        assert_eq!(story.findings[0].clock.due, moment("2027-03-12T00:00:00Z"));
        // A longer grace counts from the end of the waiver then.
        story.rules[0].grace = Period::days(4);
        assert_eq!(story.on(11, Fail).0, ["due-moved"]);
        assert_eq!(story.findings[0].clock.due, moment("2027-03-14T00:00:00Z"));
    }

    #[test]
    fn a_waiver_that_is_taken_out_or_ended_covers_up_to_then() {
        for clock in ClockAfterwards::ALL {
            let mut story = Story::new("2d");
            story.on(1, Fail);
            story.waivers = vec![waiver(1, 9, clock)];
            assert_eq!(story.on(2, Fail).0, ["waived"]);
            story.waivers.clear();
            let (what, standing) = story.on(5, Fail);
            match clock {
                ClockAfterwards::Keep => {
                    assert_eq!((what, standing), (vec!["waiver-ended", "fell-due"], Standing::NonCompliant));
                }
                ClockAfterwards::Afresh => {
                    assert_eq!((what, standing), (vec!["waiver-ended"], Standing::OnNotice));
                    assert_eq!(story.findings[0].clock.due, moment(&day(7)));
                }
            }
        }
        let mut story = Story::new("2d");
        story.on(1, Fail);
        story.waivers = vec![waiver(1, 9, ClockAfterwards::Afresh)];
        story.on(2, Fail);
        let at = moment("2027-03-04T12:00:00Z");
        story.waivers[0].ended = Some(EndedEarly { at, because: "it is mended".into() });
        assert_eq!(story.on(5, Fail), (vec!["waiver-ended"], Standing::OnNotice));
        assert_eq!(story.findings[0].clock.due, moment("2027-03-06T12:00:00Z"));
    }

    #[test]
    fn a_waived_unknown_feeds_no_silence() {
        let mut story = Story::new("2d");
        story.waivers = vec![waiver(1, 9, ClockAfterwards::Keep)];
        let unknown = Unknown(Reason::Missing);
        assert_eq!(story.on(2, unknown), (vec![], Standing::Compliant));
        assert_eq!(story.on(10, unknown), (vec!["opened"], Standing::OnNotice));
    }

    #[test]
    fn what_is_mended_after_its_waiver_ended_was_overdue_in_between() {
        let mut story = Story::new("2d");
        story.on(1, Fail);
        story.waivers = vec![waiver(2, 9, ClockAfterwards::Keep)];
        story.on(2, Fail);
        assert_eq!(story.on(11, Pass).0, ["waiver-ended", "fell-due", "fixed"]);
    }

    #[test]
    fn of_waivers_that_overlap_the_last_to_end_decides() {
        let mut story = Story::new("2d");
        story.on(1, Fail);
        story.waivers = vec![waiver(2, 5, ClockAfterwards::Keep), waiver(4, 9, ClockAfterwards::Afresh)];
        assert_eq!(story.on(2, Fail).0, ["waived"]);
        assert_eq!(story.on(6, Fail), (vec![], Standing::Compliant));
        assert_eq!(story.on(10, Fail), (vec!["waiver-ended"], Standing::OnNotice));
        // Another one, longer, is news.
        story.waivers.push(waiver(9, 20, ClockAfterwards::Keep));
        assert_eq!(story.on(11, Fail).0, ["waived"]);
    }

    proptest! {
        /// Between two assessments, the phase that the first foretold is the one that the second finds.
        #[test]
        fn the_clock_foretells_what_the_next_assessment_finds(
            spans in prop::collection::vec((1_u32..20, 0_u32..6, any::<bool>()), 0..4),
            days in prop::collection::btree_set(1_u32..28, 1..12),
            grace in 0_u32..5,
        ) {
            let mut story = Story::new(&format!("{grace}d"));
            story.waivers = spans
                .iter()
                .map(|(from, length, afresh)| {
                    let clock = if *afresh { ClockAfterwards::Afresh } else { ClockAfterwards::Keep };
                    waiver(*from, from + length, clock)
                })
                .collect();
            let mut foretold = None;
            for at in days {
                let now = moment(&day(at));
                if let Some(finding) = story.findings.first() {
                    foretold = Some(finding.phase(now));
                }
                let (_, standing) = story.on(at, Fail);
                let phase = story.findings[0].phase(now);
                if let Some(foretold) = foretold {
                    prop_assert_eq!(foretold, phase, "on day {}", at);
                }
                let is_waived = story.waivers.iter().any(|waiver| waiver.from <= now && now < waiver.until);
                prop_assert_eq!(is_waived, matches!(phase, crate::findings::clock::Phase::Waived { .. }));
                prop_assert!(!is_waived || standing == Standing::Compliant);
            }
        }
    }
}
