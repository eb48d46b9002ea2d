//! Findings: a rule failing on a device over time. One function moves them, from the verdicts of an
//! assessment; between assessments their phase follows from the clock alone.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::condition::evidence::{Blame, EvidenceSummary};
use crate::facts::period::{Period, WorkCalendar};
use crate::findings::clock::{CloseReason, FindingClock, Phase};
use crate::findings::event::{FindingEvent, Transition};
use crate::findings::standing::{Standing, Uncovered, standing_at};
use crate::findings::waiver::DeviceWaivers;
use crate::id::{DeviceId, FindingId, RuleId};
use crate::rules::rule::{Rule, Stage};
use crate::rules::verdict::{Verdict, VerdictOutcome, Verdicts};

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// A rule fails.
    Rule(RuleId),
    /// The device leaves enforced rules unknown; one a device.
    Silence,
    /// No enforced rule covers the device; one a device.
    Uncovered,
}

impl Subject {
    /// The word that stands for silence where a rule's id would.
    pub const SILENCE: &'static str = crate::id::SILENCE;
    /// The word that stands for being covered by nothing where a rule's id would.
    pub const UNCOVERED: &'static str = crate::id::UNCOVERED;

    /// Returns the rule's id, or the word for what it is about else.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Rule(rule) => rule.as_str(),
            Self::Silence => Self::SILENCE,
            Self::Uncovered => Self::UNCOVERED,
        }
    }

    /// Reads what [`Self::as_str`] wrote.
    pub fn parse(text: &str) -> Self {
        match text {
            Self::SILENCE => Self::Silence,
            Self::UNCOVERED => Self::Uncovered,
            rule => Self::Rule(RuleId::from(rule)),
        }
    }

    /// Returns whether it is about a rule.
    pub fn is_rule(&self) -> bool {
        matches!(self, Self::Rule(_))
    }
}

/// A rule failing on a device, or a device being silent, from its first moment to its last.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// Stays the same for life, whatever the device and the rule are called later.
    pub id: FindingId,
    /// The device.
    pub device: DeviceId,
    /// What it is about.
    pub subject: Subject,
    /// When it opened, falls due, and closed.
    pub clock: FindingClock,
    /// Since when the evidence shows it, if the evidence has a time.
    pub failing_since: Option<Timestamp>,
    /// The grace that the due moment was worked out with.
    pub grace: Period,
    /// Which time it is failing, from 1: a relapse counts on.
    pub spell: u32,
    /// The newest moment of collection among the evidence that failed.
    pub evidence_at: Option<Timestamp>,
    /// The fingerprint of what the rule required when it last failed.
    pub fingerprint: u64,
    /// What failed was set by a correction.
    pub corrected: bool,
    /// Of a silence: the rules that it leaves open.
    pub leaves_open: Vec<RuleId>,
    /// Of a silence: the facts to blame.
    pub blames: Vec<Blame>,
}

impl Finding {
    /// Returns what stands for something that is announced before there is a finding: it runs, and comes about when it is due. `of` tells
    /// apart what is announced of one device for one moment.
    pub fn announced(device: &str, subject: Subject, of: &str, due: Timestamp) -> Self {
        let device = DeviceId::from(device);
        let of = Subject::Rule(RuleId::from(format!("announced {of}").as_str()));
        let id = FindingId::new(&device, &of, due);
        Self::first_seen(id, device, subject, FindingClock::running(Timestamp::MIN, due))
    }

    /// Returns a finding of its first spell, without grace, of which nothing more is known.
    pub(crate) fn first_seen(id: FindingId, device: DeviceId, subject: Subject, clock: FindingClock) -> Self {
        Self {
            id,
            device,
            subject,
            clock,
            failing_since: None,
            grace: Period::ZERO,
            spell: 1,
            evidence_at: None,
            fingerprint: 0,
            corrected: false,
            leaves_open: Vec::new(),
            blames: Vec::new(),
        }
    }

    /// Returns where this finding stands at `at`.
    pub fn phase(&self, at: Timestamp) -> Phase {
        self.clock.phase(at)
    }

    /// Returns whether it has not closed.
    pub fn is_running(&self) -> bool {
        self.clock.is_running()
    }
}

/// What the workspace says about clocks.
#[derive(Clone, Debug)]
pub struct SettleSettings {
    /// A finding that fails again sooner than this keeps its old clock.
    pub relapse: Period,
    /// How long a device may be silent.
    pub silence: LackSettings,
    /// How long a device may be covered by nothing.
    pub uncovered: LackSettings,
    /// What a device is that nothing covers, once it may not be any longer.
    pub uncovered_stands: Uncovered,
    /// The calendar by which days are counted.
    pub calendar: WorkCalendar,
}

/// The clock of a lack of evidence.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LackSettings {
    /// How long it may last.
    pub grace: Period,
    /// A lack that comes back sooner than this keeps its old clock.
    pub relapse: Period,
}

impl Default for SettleSettings {
    fn default() -> Self {
        let relapse = Period::days(7);
        let at_once = LackSettings { grace: Period::ZERO, relapse };
        Self {
            relapse,
            silence: at_once,
            uncovered: at_once,
            uncovered_stands: Uncovered::default(),
            calendar: WorkCalendar::new(jiff::tz::TimeZone::UTC),
        }
    }
}

impl SettleSettings {
    /// Returns the first moment at which a finding that closed does not keep its old clock any more when it fails again; none of one that
    /// runs.
    pub fn relapse_ends(&self, finding: &Finding) -> Option<Timestamp> {
        let relapse = match finding.subject {
            Subject::Rule(_) => self.relapse,
            Subject::Silence => self.silence.relapse,
            Subject::Uncovered => self.uncovered.relapse,
        };
        match finding.clock.closed? {
            (closed, CloseReason::Withdrawn) => Some(closed),
            (closed, _) => Some(relapse.after_exactly(closed, &self.calendar)),
        }
    }
}

/// A device after its verdicts were weighed.
#[derive(Clone, Debug)]
pub struct Settled {
    /// Its findings, those that closed among them.
    pub findings: Vec<Finding>,
    /// What happened to them now.
    pub transitions: Vec<Transition>,
    /// How it stands.
    pub standing: Standing,
    /// Whether any enforced rule covers it.
    pub covered: bool,
    /// The verdicts that fail or are unknown, by their index, and that a waiver covers.
    pub waived: Vec<usize>,
}

/// By what the verdicts of devices are settled.
#[derive(Clone, Copy, Debug)]
pub struct SettleContext<'s> {
    /// The rules that the verdicts are of.
    pub rules: &'s [Rule],
    /// What the workspace says about clocks.
    pub settings: &'s SettleSettings,
    /// The moment of the assessment.
    pub at: Timestamp,
    /// The moment of the assessment before, if there was one.
    pub before: Option<Timestamp>,
}

/// The verdicts of one device.
#[derive(Clone, Copy, Debug)]
pub struct SettleInput<'v> {
    /// The device.
    pub device: &'v DeviceId,
    /// Its verdicts.
    pub verdicts: &'v Verdicts,
    /// When the newest state that there is of it was collected.
    pub newest: Option<Timestamp>,
    /// Whether facts of it are set by corrections, or were when it was last settled.
    pub has_corrections: bool,
    /// The waivers that are for it.
    pub waivers: &'v DeviceWaivers<'v>,
}

impl SettleContext<'_> {
    /// Settles the verdicts of one device against its earlier findings.
    ///
    /// `earlier` holds the latest finding of each subject. `evidence_summary` returns what one of the verdicts comes from; it is
    /// asked only of those that fail, that are unknown, or that end a finding, and not where a finding runs whose evidence is as
    /// new already as the newest state that there is of the device.
    pub fn settle(
        &self,
        of: SettleInput<'_>,
        earlier: Vec<Finding>,
        evidence_summary: &mut dyn FnMut(&Verdict) -> EvidenceSummary,
    ) -> Settled {
        let Self { rules, settings, at, before } = *self;
        let judged = || of.verdicts.all.iter().filter(|verdict| rules[verdict.rule].stage(at) == Stage::Enforced);
        if earlier.is_empty() && judged().all(|verdict| verdict.outcome.is_quiet()) {
            // Nothing ever failed, and nothing does.
            let covered = judged().any(|verdict| verdict.outcome != VerdictOutcome::NotApplicable);
            if covered || settings.uncovered_stands == Uncovered::Compliant {
                let standing = standing_at([], covered, settings.uncovered_stands, at);
                let (findings, transitions, waived) = (Vec::new(), Vec::new(), Vec::new());
                return Settled { findings, transitions, standing, covered, waived };
            }
        }
        let mut step = Settling {
            device: of.device,
            context: *self,
            waivers: of.waivers,
            findings: BTreeMap::new(),
            events: Vec::new(),
            waived: Vec::new(),
        };
        let was_overdue = |finding: &Finding| before.is_some_and(|before| finding.clock.is_overdue(before));
        let overdue_before: Vec<FindingId> = earlier.iter().filter(|it| was_overdue(it)).map(|it| it.id).collect();
        for finding in earlier {
            step.adopt(finding);
        }
        let covered = step.settle_rules(of, evidence_summary);
        step.settle_coverage(covered);
        step.settle_waivers();
        step.note_fallen_due(&overdue_before);
        let Settling { findings, events, waived, .. } = step;
        let subjects: Vec<Subject> = findings.keys().cloned().collect();
        let transitions = events.into_iter().map(|SettledEvent { subject, at, event }| Transition {
            finding: subjects.binary_search(&subject).expect("every event is of a finding at hand"),
            at,
            event,
        });
        let transitions = transitions.collect();
        let findings: Vec<Finding> = findings.into_values().collect();
        let standing = standing_at(&findings, covered, settings.uncovered_stands, at);
        Settled { findings, transitions, standing, covered, waived }
    }
}

/// What happened to the finding of a subject, and when.
pub(super) struct SettledEvent {
    pub(super) subject: Subject,
    pub(super) at: Timestamp,
    pub(super) event: FindingEvent,
}

/// One device on its way through settling.
pub(super) struct Settling<'s> {
    device: &'s DeviceId,
    pub(super) context: SettleContext<'s>,
    pub(super) waivers: &'s DeviceWaivers<'s>,
    pub(super) findings: BTreeMap<Subject, Finding>,
    pub(super) events: Vec<SettledEvent>,
    /// The verdicts, by their index, that a waiver covers.
    waived: Vec<usize>,
}

impl Settling<'_> {
    fn note(&mut self, subject: &Subject, event: FindingEvent) {
        self.events.push(SettledEvent { subject: subject.clone(), at: self.context.at, event });
    }

    /// Takes over an earlier finding, under the id that its rule has now.
    fn adopt(&mut self, finding: Finding) {
        let subject = self.renamed(&finding.subject);
        if subject != finding.subject && finding.is_running() {
            self.note(&subject, FindingEvent::RuleRenamed { from: finding.subject.clone() });
        }
        self.findings.insert(subject.clone(), Finding { subject, ..finding });
    }

    /// Returns the subject of a finding whose rule may have taken another id.
    fn renamed(&self, subject: &Subject) -> Subject {
        let Subject::Rule(id) = subject else { return subject.clone() };
        let rules = self.context.rules;
        if rules.iter().any(|rule| rule.id == *id) {
            return subject.clone();
        }
        let renamed = rules.iter().find(|rule| rule.was.contains(id));
        renamed.map_or_else(|| subject.clone(), |rule| Subject::Rule(rule.id.clone()))
    }

    /// Settles the verdicts of the enforced rules, and the silence that those without an answer come to. Returns whether any
    /// rule covers the device.
    fn settle_rules(
        &mut self,
        of: SettleInput<'_>,
        evidence_summary: &mut dyn FnMut(&Verdict) -> EvidenceSummary,
    ) -> bool {
        let (rules, at) = (self.context.rules, self.context.at);
        let (mut covered, mut unanswered, mut judged) = (false, Vec::new(), Vec::new());
        for (at_verdict, verdict) in of.verdicts.all.iter().enumerate() {
            let rule = &rules[verdict.rule];
            if rule.stage(at) != Stage::Enforced {
                continue;
            }
            covered |= verdict.outcome != VerdictOutcome::NotApplicable;
            judged.push(Subject::Rule(rule.id.clone()));
            let is_waived = !verdict.outcome.is_quiet() && self.waivers.covers_rule(verdict.rule, at);
            self.waived.extend(is_waived.then_some(at_verdict));
            match verdict.outcome {
                VerdictOutcome::Fail => self.fail(rule, &of, || evidence_summary(verdict)),
                VerdictOutcome::Pass => self.pass(rule, || evidence_summary(verdict)),
                VerdictOutcome::NotApplicable => {
                    self.close(&Subject::Rule(rule.id.clone()), CloseReason::NotApplicable);
                }
                // Silence is not a fix: the clock runs on.
                VerdictOutcome::Unknown(_) => {
                    self.regrace(rule);
                    if !is_waived && rule.is_left_open(verdict.outcome) {
                        unanswered.push(verdict);
                    }
                }
            }
        }
        let is_gone = |finding: &&Finding| {
            finding.is_running() && finding.subject.is_rule() && !judged.contains(&finding.subject)
        };
        let gone: Vec<Subject> = self.findings.values().filter(is_gone).map(|it| it.subject.clone()).collect();
        for subject in gone {
            self.close(&subject, CloseReason::Withdrawn);
        }
        if unanswered.is_empty() {
            self.close(&Subject::Silence, self.end_of_silence(of.verdicts));
        } else {
            let mut blames: Vec<Blame> =
                unanswered.iter().flat_map(|verdict| evidence_summary(verdict).blames).collect();
            blames.sort();
            blames.dedup();
            self.be_silent(unanswered.iter().map(|verdict| rules[verdict.rule].id.clone()).collect(), blames);
        }
        covered
    }

    /// Returns why a silence ends: whether any of the rules that it left open was answered, covers the device no more, or is gone.
    fn end_of_silence(&self, verdicts: &Verdicts) -> CloseReason {
        let (rules, at) = (self.context.rules, self.context.at);
        let Some(silence) = self.findings.get(&Subject::Silence) else { return CloseReason::Answered };
        let outcomes: Vec<VerdictOutcome> = verdicts
            .all
            .iter()
            .filter(|verdict| rules[verdict.rule].stage(at) == Stage::Enforced)
            .filter(|verdict| silence.leaves_open.iter().any(|rule| self.is_called(rule, &rules[verdict.rule])))
            .map(|verdict| verdict.outcome)
            .collect();
        if outcomes.iter().any(|outcome| *outcome != VerdictOutcome::NotApplicable) {
            CloseReason::Answered
        } else if outcomes.is_empty() {
            CloseReason::Withdrawn
        } else {
            CloseReason::NotApplicable
        }
    }

    /// Returns whether an id is a rule's, or was.
    fn is_called(&self, id: &RuleId, rule: &Rule) -> bool {
        rule.id == *id || rule.was.contains(id)
    }

    /// Opens or closes the finding of a device that no enforced rule covers.
    fn settle_coverage(&mut self, covered: bool) {
        let settings = self.context.settings;
        if covered {
            self.close(&Subject::Uncovered, CloseReason::Answered);
        } else if settings.uncovered_stands == Uncovered::Compliant {
            self.close(&Subject::Uncovered, CloseReason::Withdrawn);
        } else {
            self.lack(&Subject::Uncovered, settings.uncovered);
        }
    }

    /// Notes which findings became overdue since the assessment before, but for those that opened without grace. Each comes
    /// before the closing of the same finding.
    fn note_fallen_due(&mut self, overdue_before: &[FindingId]) {
        let at = self.context.at;
        let mut fallen_due = Vec::new();
        for finding in self.findings.values() {
            let is_opened = finding.clock.opened == at && finding.spell == 1;
            let closed_earlier = finding.clock.closed.is_some_and(|(closed, _)| closed < at);
            let Phase::Overdue { since } = finding.clock.running_phase(at) else { continue };
            if is_opened || closed_earlier || overdue_before.contains(&finding.id) {
                continue;
            }
            let mut of_finding = self.events.iter().filter(|noted| noted.subject == finding.subject);
            // What came back or was given another moment is overdue from now on.
            let by_clock = of_finding.all(|noted| {
                use FindingEvent::{Closed, RuleRenamed, Waived, WaiverEnded};
                matches!(noted.event, Closed(_) | RuleRenamed { .. } | Waived { .. } | WaiverEnded { .. })
            });
            let moment = if by_clock { since } else { at };
            let (subject, event) = (finding.subject.clone(), FindingEvent::FellDue);
            fallen_due.push(SettledEvent { subject, at: moment, event });
        }
        for event in fallen_due {
            self.note_before_closing(event);
        }
    }

    fn fail(&mut self, rule: &Rule, of: &SettleInput<'_>, evidence_summary: impl FnOnce() -> EvidenceSummary) {
        let subject = Subject::Rule(rule.id.clone());
        if let Some(finding) = self.findings.get_mut(&subject).filter(|finding| finding.is_running()) {
            if finding.evidence_at < of.newest || finding.corrected || of.has_corrections {
                let EvidenceSummary { collected, corrected, .. } = evidence_summary();
                finding.evidence_at = finding.evidence_at.max(collected);
                finding.corrected = corrected;
            }
            finding.fingerprint = rule.requirement_fingerprint;
            self.regrace(rule);
            return;
        }
        let EvidenceSummary { collected, corrected, .. } = evidence_summary();
        if self.comes_back(&subject) {
            let finding = self.findings.get_mut(&subject).expect("it comes back");
            finding.failing_since = collected;
        } else {
            let finding = self.opened(subject.clone(), rule.grace);
            self.findings.insert(subject.clone(), Finding { failing_since: collected, ..finding });
        }
        let finding = self.findings.get_mut(&subject).expect("it runs");
        finding.evidence_at = collected;
        finding.corrected = corrected;
        finding.fingerprint = rule.requirement_fingerprint;
        self.regrace(rule);
    }

    /// Has a finding run again with its old clock, where it closed not long ago; returns whether it does.
    fn comes_back(&mut self, subject: &Subject) -> bool {
        let (at, settings) = (self.context.at, self.context.settings);
        let Some(finding) = self.findings.get_mut(subject) else { return false };
        let keeps_clock = settings.relapse_ends(finding).is_some_and(|end| at < end);
        if keeps_clock {
            finding.clock.closed = None;
            finding.spell += 1;
            self.note(subject, FindingEvent::CameBack);
        }
        keeps_clock
    }

    /// Opens a finding.
    fn opened(&mut self, subject: Subject, grace: Period) -> Finding {
        let at = self.context.at;
        self.note(&subject, FindingEvent::Opened);
        let id = match self.findings.get(&subject) {
            // Opened at the very moment at which the one before was: that one was withdrawn, and this is another.
            Some(before) if before.clock.opened == at => before.id.next(),
            Some(_) | None => FindingId::new(self.device, &subject, at),
        };
        let clock = FindingClock::running(at, grace.after(at, &self.context.settings.calendar));
        Finding { grace, ..Finding::first_seen(id, self.device.clone(), subject, clock) }
    }

    fn pass(&mut self, rule: &Rule, evidence_summary: impl FnOnce() -> EvidenceSummary) {
        let subject = Subject::Rule(rule.id.clone());
        let Some(finding) = self.findings.get(&subject).filter(|finding| finding.is_running()) else { return };
        let evidence_summary = evidence_summary();
        let reason = if evidence_summary.corrected || finding.corrected {
            CloseReason::Corrected
        } else if !rule.has_fingerprint(finding.fingerprint) {
            CloseReason::RuleChanged
        } else if evidence_summary.collected > finding.evidence_at {
            CloseReason::Fixed
        } else {
            CloseReason::Revised
        };
        self.close(&subject, reason);
    }

    fn close(&mut self, subject: &Subject, reason: CloseReason) {
        if let Some(finding) = self.findings.get_mut(subject).filter(|finding| finding.is_running()) {
            finding.clock.closed = Some((self.context.at, reason));
            self.note(subject, FindingEvent::Closed(reason));
        }
    }

    /// Moves the due moment of a running finding when its rule's grace was edited: longer counts from the
    /// opening; shorter counts from now, but never later than before.
    fn regrace(&mut self, rule: &Rule) {
        let subject = Subject::Rule(rule.id.clone());
        self.apply_grace(&subject, rule.grace);
    }

    fn apply_grace(&mut self, subject: &Subject, grace: Period) {
        let (at, calendar) = (self.context.at, &self.context.settings.calendar);
        let Some(finding) =
            self.findings.get_mut(subject).filter(|finding| finding.is_running() && finding.grace != grace)
        else {
            return;
        };
        let (from, from_opening) = (finding.clock.due, grace.after(finding.clock.grace_begins(at), calendar));
        finding.clock.due = if from_opening >= from { from_opening } else { from.min(grace.after(at, calendar)) };
        finding.grace = grace;
        if finding.clock.due != from {
            self.note(subject, FindingEvent::DueMoved { from });
        }
    }

    fn be_silent(&mut self, leaves_open: Vec<RuleId>, blames: Vec<Blame>) {
        self.lack(&Subject::Silence, self.context.settings.silence);
        if let Some(finding) = self.findings.get_mut(&Subject::Silence) {
            finding.leaves_open = leaves_open;
            finding.blames = blames;
        }
    }

    /// Opens the finding of a lack of evidence, unless it runs.
    fn lack(&mut self, subject: &Subject, settings: LackSettings) {
        let running = self.findings.get(subject).is_some_and(Finding::is_running);
        if !running && !self.comes_back(subject) {
            let finding = self.opened(subject.clone(), settings.grace);
            self.findings.insert(subject.clone(), finding);
        }
        self.apply_grace(subject, settings.grace);
    }
}

/// Returns the moments after `at` at which the clock alone can change the standing, ascending.
pub fn moments_ahead<'f>(findings: impl IntoIterator<Item = &'f Finding>, at: Timestamp) -> Vec<Timestamp> {
    let mut moments: Vec<Timestamp> =
        findings.into_iter().filter_map(|finding| finding.clock.next_change(at)).collect();
    moments.sort_unstable();
    moments.dedup();
    moments
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::tz::TimeZone;

    use crate::facts::value::Reason;
    use crate::findings::story::{Story, compiled, with_grace};
    use crate::rules::rule::RuleSource;
    use crate::testing::{moment, names, rule};
    use VerdictOutcome::{Fail, NotApplicable, Pass, Unknown};
    use proptest::prelude::*;

    const D1: &str = "2027-03-01T06:00:00Z";
    const D2: &str = "2027-03-02T06:00:00Z";
    const D3: &str = "2027-03-03T06:00:00Z";

    #[test]
    fn a_finding_opens_falls_due_by_the_clock_and_closes_as_fixed() {
        let mut story = Story::new("3d");
        assert_eq!(story.assess(D1, Fail, D1, false), (vec!["opened"], Standing::OnNotice));
        assert_eq!(story.phase("2027-03-04T05:59:59Z"), "open");
        assert_eq!(story.phase("2027-03-04T06:00:00Z"), "overdue");
        assert_eq!(story.assess("2027-03-04T06:00:00Z", Fail, D3, false), (vec!["fell-due"], Standing::NonCompliant));
        assert_eq!(
            story.assess("2027-03-05T06:00:00Z", Pass, "2027-03-05T01:00:00Z", false),
            (vec!["fixed"], Standing::Compliant)
        );
        assert_eq!(story.phase("2027-03-05T05:59:59Z"), "overdue");
        assert_eq!(story.phase("2027-03-05T06:00:00Z"), "closed");
    }

    #[test]
    fn without_grace_it_is_overdue_at_once() {
        assert_eq!(Story::new("0").assess(D1, Fail, D1, false), (vec!["opened"], Standing::NonCompliant));
    }

    #[test]
    fn silence_is_not_a_fix_and_has_a_clock_of_its_own() {
        let mut story = Story::new("2d");
        story.assess(D1, Fail, D1, false);
        let (what, standing) = story.assess(D2, Unknown(Reason::Stale), D1, false);
        assert_eq!((what, standing), (vec!["opened"], Standing::OnNotice));
        let silence = story.findings.iter().find(|finding| finding.subject == Subject::Silence).unwrap().clone();
        assert_eq!(silence.leaves_open, [RuleId::from("r")]);
        assert_eq!(silence.blames, [Blame { fact: "ok".into(), reason: Reason::Missing }]);
        // The finding of the rule runs on, and falls due while nothing is heard.
        assert_eq!(story.assess(D3, Unknown(Reason::Stale), D1, false), (vec!["fell-due"], Standing::NonCompliant));
        let (what, _) = story.assess("2027-03-04T06:00:00Z", Pass, "2027-03-04T01:00:00Z", false);
        assert_eq!(what, ["fixed", "answered"]);
    }

    #[test]
    fn an_overdue_silence_is_unproven_and_the_next_one_starts_afresh() {
        let mut story = Story::new("0");
        story.assess(D1, Unknown(Reason::Missing), D1, false);
        assert_eq!(story.assess("2027-03-04T06:00:00Z", Unknown(Reason::Missing), D1, false).1, Standing::Unproven);
        story.assess("2027-03-05T06:00:00Z", Pass, D3, false);
        // Answering for a day buys no new clock.
        let (what, standing) = story.assess("2027-03-06T06:00:00Z", Unknown(Reason::Missing), D3, false);
        assert_eq!((what, standing), (vec!["came-back", "fell-due"], Standing::Unproven));
        story.assess("2027-03-07T06:00:00Z", Pass, "2027-03-07T05:00:00Z", false);
        story.settings.silence.relapse = Period::ZERO;
        let (what, standing) = story.assess("2027-03-08T06:00:00Z", Unknown(Reason::Missing), D3, false);
        assert_eq!((what, standing), (vec!["opened"], Standing::OnNotice));
    }

    #[test]
    fn a_silence_ends_by_an_answer_or_with_its_rules() {
        let ends = |outcome, stage: Stage| {
            let mut story = Story::new("0");
            story.assess(D1, Unknown(Reason::Missing), D1, false);
            let mut edited = with_grace("0");
            edited.settings.stage = Some(stage);
            story.rules = compiled(edited);
            story.assess(D2, outcome, D2, false).0
        };
        assert_eq!(ends(Pass, Stage::Enforced), ["answered"]);
        assert_eq!(ends(Fail, Stage::Enforced), ["opened", "answered"]);
        assert_eq!(ends(NotApplicable, Stage::Enforced), ["not-applicable", "opened"]);
        assert_eq!(ends(Unknown(Reason::Missing), Stage::Trial), ["withdrawn", "opened"]);
    }

    #[test]
    fn a_device_that_nothing_covers_has_a_clock_of_its_own() {
        let mut story = Story::new("0");
        story.settings.uncovered.grace = Period::days(2);
        assert_eq!(story.assess(D1, NotApplicable, D1, false), (vec!["opened"], Standing::OnNotice));
        assert_eq!(story.findings[0].subject, Subject::Uncovered);
        assert_eq!(story.assess(D3, NotApplicable, D3, false), (vec!["fell-due"], Standing::Unproven));
        assert_eq!(story.assess("2027-03-04T06:00:00Z", Pass, D3, false), (vec!["answered"], Standing::Compliant));
        let back = story.assess("2027-03-05T06:00:00Z", NotApplicable, D3, false);
        assert_eq!(back, (vec!["came-back", "fell-due"], Standing::Unproven));
        story.settings.uncovered_stands = Uncovered::Compliant;
        let allowed = story.assess("2027-03-06T06:00:00Z", NotApplicable, D3, false);
        assert_eq!(allowed, (vec!["withdrawn"], Standing::Compliant));
    }

    #[test]
    fn a_correction_that_began_or_ended_is_no_fix_and_the_layout_of_a_condition_is_no_change_of_it() {
        let mut story = Story::new("3d");
        story.assess(D1, Fail, D1, true);
        // The correction ended, and what the device says now passes.
        assert_eq!(story.assess(D2, Pass, D2, false).0, ["corrected"]);
        let mut story = Story::new("3d");
        story.assess(D1, Fail, D1, false);
        assert_eq!(story.assess(D2, Fail, D1, true).0, Vec::<&str>::new());
        assert_eq!(story.assess(D3, Pass, D3, false).0, ["corrected"]);
        let mut story = Story::new("3d");
        story.assess(D1, Fail, D1, false);
        story.rules = compiled(RuleSource {
            require: Some(crate::Text::loose("  ok // as agreed".to_owned())),
            ..with_grace("3d")
        });
        assert_eq!(story.assess(D2, Pass, D2, false).0, ["fixed"]);
        // Earlier versions told rules apart by their text.
        let mut story = Story::new("3d");
        story.assess(D1, Fail, D1, false);
        story.findings[0].fingerprint = story.rules[0].text_fingerprint;
        assert_eq!(story.assess(D2, Pass, D2, false).0, ["fixed"]);
    }

    #[test]
    fn grace_in_working_days_does_not_run_on_days_off() {
        let mut story = Story::new("2 working days");
        story.settings.calendar = WorkCalendar::new(TimeZone::UTC);
        // The fifth of March 2027 is a Friday.
        story.assess("2027-03-05T15:00:00Z", Fail, D1, false);
        assert_eq!(story.findings[0].clock.due, moment("2027-03-09T15:00:00Z"));
        let mut saturday = Story::new("2 working days");
        saturday.assess("2027-03-06T15:00:00Z", Fail, D1, false);
        assert_eq!(saturday.findings[0].clock.due, moment("2027-03-10T00:00:00Z"));
    }

    #[test]
    fn a_relapse_keeps_the_old_clock_until_the_relapse_time_is_over() {
        let mut story = Story::new("10d");
        story.assess(D1, Fail, D1, false);
        story.assess(D2, Pass, D2, false);
        assert_eq!(story.assess("2027-03-09T05:59:59Z", Fail, "2027-03-09T01:00:00Z", false).0, ["came-back"]);
        let finding = &story.findings[0];
        assert_eq!(
            (finding.spell, finding.clock.opened, finding.clock.due),
            (2, moment(D1), moment("2027-03-11T06:00:00Z"))
        );
        let mut later = Story::new("10d");
        later.assess(D1, Fail, D1, false);
        later.assess(D2, Pass, D2, false);
        assert_eq!(later.assess("2027-03-09T06:00:00Z", Fail, "2027-03-09T01:00:00Z", false).0, ["opened"]);
        assert_eq!(later.findings[0].spell, 1);
    }

    #[test]
    fn a_withdrawn_finding_does_not_relapse() {
        let mut story = Story::new("10d");
        story.settings.uncovered_stands = Uncovered::Compliant;
        story.assess(D1, Fail, D1, false);
        let first = story.findings[0].id;
        let enforced = std::mem::replace(
            &mut story.rules,
            compiled({
                let mut trial = with_grace("10d");
                trial.settings.stage = Some(Stage::Trial);
                trial
            }),
        );
        assert_eq!(story.assess(D2, Fail, D2, false).0, ["withdrawn"]);
        let trial = std::mem::replace(&mut story.rules, enforced);
        assert_eq!(story.assess(D3, Fail, D3, false).0, ["opened"]);
        let second = story.findings[0].id;
        // Nor is it the same finding that opens again at the very moment at which it was withdrawn.
        let enforced = std::mem::replace(&mut story.rules, trial);
        assert_eq!(story.assess(D3, Fail, D3, false).0, ["withdrawn"]);
        story.rules = enforced;
        assert_eq!(story.assess(D3, Fail, D3, false).0, ["opened"]);
        let third = story.findings[0].id;
        assert!(first != second && second != third && third != first);
    }

    #[test]
    fn why_it_closed_is_told_apart() {
        let closing = |outcome, collected: &str, corrected, edited: bool| {
            let mut story = Story::new("3d");
            story.assess(D1, Fail, D1, false);
            if edited {
                story.rules = compiled(rule("r", "ok or fine"));
            }
            story.assess(D2, outcome, collected, corrected).0.first().copied()
        };
        assert_eq!(closing(Pass, D2, false, false), Some("fixed"));
        assert_eq!(closing(Pass, D1, false, false), Some("revised"));
        assert_eq!(closing(Pass, D2, true, false), Some("corrected"));
        assert_eq!(closing(Pass, D2, false, true), Some("rule-changed"));
        assert_eq!(closing(NotApplicable, D2, false, false), Some("not-applicable"));
    }

    #[test]
    fn a_finding_falls_due_once_before_it_closes_and_again_when_it_comes_back_overdue() {
        let (day, hours) = (|day: u32| format!("2027-03-{day:02}T06:00:00Z"), "2027-03-03T12:00:00Z");
        let mut story = Story::new("2d");
        story.assess(D1, Fail, D1, false);
        // Due on the third, and seen to be fixed on the fifth.
        assert_eq!(story.assess(&day(5), Pass, &day(5), false).0, ["fell-due", "fixed"]);
        assert_eq!(story.assess(&day(6), Fail, &day(6), false).0, ["came-back", "fell-due"]);
        assert_eq!(story.assess(&day(7), Fail, &day(7), false).0, Vec::<&str>::new());
        // Shorter grace that is over at once.
        let mut edited = Story::new("5d");
        edited.assess(D1, Fail, D1, false);
        edited.rules = compiled(with_grace("0"));
        assert_eq!(edited.assess(hours, Fail, D1, false).0, ["due-moved", "fell-due"]);
        assert_eq!(edited.findings[0].clock.due, moment(hours));
    }

    #[test]
    fn an_edited_grace_counts_from_the_opening_when_longer_and_from_now_when_shorter() {
        let mut story = Story::new("5d");
        story.assess(D1, Fail, D1, false);
        story.rules = compiled(with_grace("8d"));
        assert_eq!(story.assess(D2, Fail, D2, false).0, ["due-moved"]);
        assert_eq!(story.findings[0].clock.due, moment("2027-03-09T06:00:00Z"));
        story.rules = compiled(with_grace("1d"));
        assert_eq!(story.assess(D3, Fail, D3, false).0, ["due-moved"]);
        assert_eq!(story.findings[0].clock.due, moment("2027-03-04T06:00:00Z"));
        // Shorter, but never later than it was.
        story.rules = compiled(with_grace("12h"));
        story.assess("2027-03-03T20:00:00Z", Fail, D3, false);
        assert_eq!(story.findings[0].clock.due, moment("2027-03-04T06:00:00Z"));
    }

    #[test]
    fn findings_follow_a_rule_that_took_another_id() {
        let mut story = Story::new("5d");
        story.assess(D1, Fail, D1, false);
        story.rules = compiled(RuleSource {
            was: names(&["r"]),
            ..RuleSource { id: crate::testing::named("new"), ..with_grace("5d") }
        });
        let id = story.findings[0].id;
        assert_eq!(story.assess(D2, Fail, D2, false).0, ["rule-renamed"]);
        assert_eq!(story.findings[0].id, id, "a finding has one id for life");
        assert_eq!((story.findings[0].subject.as_str(), story.findings[0].clock.opened), ("new", moment(D1)));
    }

    #[test]
    fn a_device_that_nothing_covers_is_what_the_workspace_says() {
        let mut story = Story::new("0");
        for (uncovered, standing) in [
            (Uncovered::Compliant, Standing::Compliant),
            (Uncovered::Unproven, Standing::Unproven),
            (Uncovered::NonCompliant, Standing::NonCompliant),
        ] {
            story.settings.uncovered_stands = uncovered;
            assert_eq!(story.assess(D1, NotApplicable, D1, false).1, standing);
        }
    }

    proptest! {
        /// Turning a pass into a fail or an unknown never improves a standing, whatever came before.
        #[test]
        fn worse_verdicts_never_improve_the_standing(
            history in prop::collection::vec(0usize..4, 1..6),
            grace in prop::sample::select(vec!["0", "1d", "3d"]),
            worse in 1usize..3,
        ) {
            let outcome = |at: usize| [Pass, Fail, Unknown(Reason::Missing), NotApplicable][at];
            let day = |at: usize| format!("2027-03-{:02}T06:00:00Z", at + 1);
            let (mut good, mut bad) = (Story::new(grace), Story::new(grace));
            for (at, step) in history.iter().enumerate() {
                good.assess(&day(at), outcome(*step), &day(at), false);
                bad.assess(&day(at), outcome(*step), &day(at), false);
            }
            let last = day(history.len());
            let (_, with_pass) = good.assess(&last, Pass, &last, false);
            let (_, with_worse) = bad.assess(&last, outcome(worse), &last, false);
            prop_assert!(with_worse >= with_pass, "{with_worse:?} after a {:?}, {with_pass:?} after a pass", outcome(worse));
        }
    }
}
