//! Findings: a rule failing on a device over time. One function moves them, from the verdicts of an
//! assessment; between assessments their phase follows from the clock alone.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use crate::evidence::{Blame, Evidence};
use crate::id::{DeviceId, RuleId};
use crate::period::Period;
use crate::rule::{Rule, Stage};
use crate::standing::{Standing, Uncovered, standing_at};
use crate::verdict::{VerdictOutcome, Verdicts};

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// A rule fails.
    Rule(RuleId),
    /// The device leaves enforced rules unknown; one a device.
    Silence,
}

impl Subject {
    /// The word that stands for silence where a rule's id would.
    pub const SILENCE: &'static str = "silence";

    /// Returns the rule's id, or the word for silence.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Rule(rule) => rule.as_str(),
            Self::Silence => Self::SILENCE,
        }
    }

    /// Reads what [`Self::as_str`] wrote.
    pub fn parse(text: &str) -> Self {
        if text == Self::SILENCE { Self::Silence } else { Self::Rule(RuleId::from(text)) }
    }
}

/// Why a finding closed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CloseReason {
    /// The device was put right: newer evidence passes an unchanged rule.
    Fixed,
    /// The rule was changed and passes now.
    RuleChanged,
    /// A fact was corrected by hand and passes now.
    Corrected,
    /// It passes on evidence that is not newer than what failed.
    Revised,
    /// The rule does not cover the device any more.
    NotApplicable,
    /// The rule is gone, or counts no longer.
    Withdrawn,
    /// A silent device has given every enforced rule a verdict.
    Answered,
}

impl CloseReason {
    /// All reasons.
    pub const ALL: [Self; 7] = [
        Self::Fixed,
        Self::RuleChanged,
        Self::Corrected,
        Self::Revised,
        Self::NotApplicable,
        Self::Withdrawn,
        Self::Answered,
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
        }
    }

    /// Reads the word back.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.as_str() == text)
    }
}

/// A rule failing on a device, or a device being silent, from its first moment to its last.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// The device.
    pub device: DeviceId,
    /// What it is about.
    pub subject: Subject,
    /// When an assessment first saw it.
    pub opened: Timestamp,
    /// Since when the evidence shows it, if the evidence has a time.
    pub failing_since: Option<Timestamp>,
    /// The grace that `due` was worked out with.
    pub grace: Period,
    /// When the grace ends.
    pub due: Timestamp,
    /// Which time it is failing, from 1: a relapse counts on.
    pub spell: u32,
    /// When and why it closed.
    pub closed: Option<(Timestamp, CloseReason)>,
    /// The newest moment of collection among the evidence that failed.
    pub evidence_at: Option<Timestamp>,
    /// The rule's fingerprint when it last failed.
    pub fingerprint: u64,
    /// Of a silence: the rules that it leaves open.
    pub leaves_open: Vec<RuleId>,
    /// Of a silence: the facts to blame.
    pub blames: Vec<Blame>,
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
        /// When the grace ended.
        since: Timestamp,
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
            Self::Closed { .. } => "closed",
        }
    }
}

impl Finding {
    /// Returns where this finding stands at `at`. Follows from its events and the clock alone.
    pub fn phase(&self, at: Timestamp) -> Phase {
        match self.closed {
            Some((closed, reason)) if closed <= at => Phase::Closed { at: closed, reason },
            Some(_) | None if at < self.due => Phase::Open { due: self.due },
            Some(_) | None => Phase::Overdue { since: self.due },
        }
    }

    /// Returns whether it has not closed.
    pub fn is_running(&self) -> bool {
        self.closed.is_none()
    }
}

/// What happened to a finding in an assessment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TransitionKind {
    /// First seen.
    Opened,
    /// Failing again soon after it closed.
    Relapsed,
    /// Over.
    Closed(CloseReason),
    /// Its grace was edited.
    DueMoved {
        /// The due moment before.
        from: Timestamp,
    },
}

impl TransitionKind {
    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Opened => "opened",
            Self::Relapsed => "relapsed",
            Self::Closed(_) => "closed",
            Self::DueMoved { .. } => "due-moved",
        }
    }
}

/// A change of one finding.
#[derive(Clone, Debug, PartialEq)]
pub struct Transition {
    /// Which finding, by its index in [`Settled::findings`].
    pub finding: usize,
    /// What happened.
    pub kind: TransitionKind,
}

/// What the workspace says about clocks.
#[derive(Clone, Debug)]
pub struct SettleSettings {
    /// A finding that fails again sooner than this keeps its old clock.
    pub relapse: Period,
    /// How long a device may be silent.
    pub silence_grace: Period,
    /// What a device is that nothing covers.
    pub uncovered: Uncovered,
    /// The zone in which days are counted.
    pub zone: TimeZone,
}

impl Default for SettleSettings {
    fn default() -> Self {
        Self {
            relapse: Period::days(7),
            silence_grace: Period::ZERO,
            uncovered: Uncovered::default(),
            zone: TimeZone::UTC,
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
}

/// Weighs the verdicts of one device against its earlier findings at `at`.
///
/// `earlier` holds the latest finding of each subject. `explain` gives the evidence of a rule of `rules`; it
/// is asked only for rules that fail, that are unknown, or that end a finding.
pub fn settle(
    device: &DeviceId,
    earlier: Vec<Finding>,
    rules: &[Rule],
    verdicts: &Verdicts,
    at: Timestamp,
    settings: &SettleSettings,
    explain: &mut dyn FnMut(usize) -> Evidence,
) -> Settled {
    let mut step = Settling { device, rules, at, settings, findings: BTreeMap::new(), transitions: Vec::new() };
    for finding in earlier {
        let subject = step.renamed(&finding.subject);
        step.findings.insert(subject.clone(), Finding { subject, ..finding });
    }
    let (mut covered, mut unanswered) = (false, Vec::new());
    let mut judged = Vec::new();
    for verdict in &verdicts.all {
        let rule = &rules[verdict.rule];
        if rule.stage != Stage::Enforced {
            continue;
        }
        covered |= verdict.outcome != VerdictOutcome::NotApplicable;
        judged.push(Subject::Rule(rule.id.clone()));
        match verdict.outcome {
            VerdictOutcome::Fail => step.fail(rule, &explain(verdict.rule)),
            VerdictOutcome::Pass => step.pass(rule, || explain(verdict.rule)),
            VerdictOutcome::NotApplicable => step.close(&Subject::Rule(rule.id.clone()), CloseReason::NotApplicable),
            // Silence is not a fix: the clock runs on.
            VerdictOutcome::Unknown(_) => {
                step.regrace(rule);
                unanswered.push(verdict.rule);
            }
        }
    }
    let gone: Vec<Subject> = step
        .findings
        .values()
        .filter(|finding| {
            finding.is_running() && finding.subject != Subject::Silence && !judged.contains(&finding.subject)
        })
        .map(|finding| finding.subject.clone())
        .collect();
    for subject in gone {
        step.close(&subject, CloseReason::Withdrawn);
    }
    if unanswered.is_empty() {
        step.close(&Subject::Silence, CloseReason::Answered);
    } else {
        let mut blames = Vec::new();
        for rule in &unanswered {
            explain(*rule).blames(&mut blames);
        }
        blames.sort();
        blames.dedup();
        step.be_silent(unanswered.iter().map(|rule| rules[*rule].id.clone()).collect(), blames);
    }
    let subjects: Vec<Subject> = step.findings.keys().cloned().collect();
    let transitions = step
        .transitions
        .into_iter()
        .map(|(subject, kind)| Transition {
            finding: subjects.binary_search(&subject).expect("every transition is of a finding at hand"),
            kind,
        })
        .collect();
    let findings: Vec<Finding> = step.findings.into_values().collect();
    let standing = standing_at(&findings, covered, settings.uncovered, at);
    Settled { findings, transitions, standing, covered }
}

struct Settling<'s> {
    device: &'s DeviceId,
    rules: &'s [Rule],
    at: Timestamp,
    settings: &'s SettleSettings,
    findings: BTreeMap<Subject, Finding>,
    transitions: Vec<(Subject, TransitionKind)>,
}

impl Settling<'_> {
    /// Findings follow a rule that took another id.
    fn renamed(&self, subject: &Subject) -> Subject {
        let Subject::Rule(id) = subject else { return subject.clone() };
        if self.rules.iter().any(|rule| rule.id == *id) {
            return subject.clone();
        }
        self.rules
            .iter()
            .find(|rule| rule.was.contains(id))
            .map_or_else(|| subject.clone(), |rule| Subject::Rule(rule.id.clone()))
    }

    fn fail(&mut self, rule: &Rule, evidence: &Evidence) {
        let subject = Subject::Rule(rule.id.clone());
        let (at, collected) = (self.at, evidence.collected());
        let relapse = self.settings.relapse.exact();
        match self.findings.get_mut(&subject) {
            Some(finding) if finding.is_running() => {
                finding.evidence_at = finding.evidence_at.max(collected);
                finding.fingerprint = rule.fingerprint;
            }
            Some(finding) if keeps_clock(finding, at, relapse) => {
                finding.closed = None;
                finding.spell += 1;
                finding.failing_since = collected;
                finding.evidence_at = collected;
                finding.fingerprint = rule.fingerprint;
                self.transitions.push((subject, TransitionKind::Relapsed));
            }
            Some(_) | None => {
                let finding = self.opened(subject.clone(), rule.grace, collected, rule.fingerprint);
                self.findings.insert(subject.clone(), finding);
                self.transitions.push((subject, TransitionKind::Opened));
            }
        }
        self.regrace(rule);
    }

    fn opened(&self, subject: Subject, grace: Period, collected: Option<Timestamp>, fingerprint: u64) -> Finding {
        Finding {
            device: self.device.clone(),
            subject,
            opened: self.at,
            failing_since: collected,
            grace,
            due: grace.after(self.at, &self.settings.zone),
            spell: 1,
            closed: None,
            evidence_at: collected,
            fingerprint,
            leaves_open: Vec::new(),
            blames: Vec::new(),
        }
    }

    fn pass(&mut self, rule: &Rule, explain: impl FnOnce() -> Evidence) {
        let subject = Subject::Rule(rule.id.clone());
        let Some(finding) = self.findings.get(&subject).filter(|finding| finding.is_running()) else { return };
        let evidence = explain();
        let reason = if evidence.is_corrected() {
            CloseReason::Corrected
        } else if finding.fingerprint != rule.fingerprint {
            CloseReason::RuleChanged
        } else if evidence.collected() > finding.evidence_at {
            CloseReason::Fixed
        } else {
            CloseReason::Revised
        };
        self.close(&subject, reason);
    }

    fn close(&mut self, subject: &Subject, reason: CloseReason) {
        if let Some(finding) = self.findings.get_mut(subject).filter(|finding| finding.is_running()) {
            finding.closed = Some((self.at, reason));
            self.transitions.push((subject.clone(), TransitionKind::Closed(reason)));
        }
    }

    /// Moves the due moment of a running finding when its rule's grace was edited: longer counts from the
    /// opening; shorter counts from now, but never later than before.
    fn regrace(&mut self, rule: &Rule) {
        let subject = Subject::Rule(rule.id.clone());
        self.apply_grace(&subject, rule.grace);
    }

    fn apply_grace(&mut self, subject: &Subject, grace: Period) {
        let (at, zone) = (self.at, &self.settings.zone);
        let Some(finding) =
            self.findings.get_mut(subject).filter(|finding| finding.is_running() && finding.grace != grace)
        else {
            return;
        };
        let (from, from_opening) = (finding.due, grace.after(finding.opened, zone));
        finding.due = if from_opening >= from { from_opening } else { from.min(grace.after(at, zone)) };
        finding.grace = grace;
        if finding.due != from {
            self.transitions.push((subject.clone(), TransitionKind::DueMoved { from }));
        }
    }

    fn be_silent(&mut self, leaves_open: Vec<RuleId>, blames: Vec<Blame>) {
        let subject = Subject::Silence;
        let running = self.findings.get(&subject).is_some_and(Finding::is_running);
        if !running {
            // Out of reach twice is no fault of the device: a new silence has a clock of its own.
            let finding = self.opened(subject.clone(), self.settings.silence_grace, None, 0);
            self.findings.insert(subject.clone(), finding);
            self.transitions.push((subject.clone(), TransitionKind::Opened));
        }
        self.apply_grace(&subject, self.settings.silence_grace);
        if let Some(finding) = self.findings.get_mut(&subject) {
            finding.leaves_open = leaves_open;
            finding.blames = blames;
        }
    }
}

/// Whether a closed finding that fails again keeps its old clock.
fn keeps_clock(finding: &Finding, at: Timestamp, relapse: SignedDuration) -> bool {
    match finding.closed {
        Some((_, CloseReason::Withdrawn)) | None => false,
        Some((closed, _)) => at.duration_since(closed) < relapse,
    }
}
