//! Waivers: failures and gaps in the evidence that somebody answers for, up to a day.

use jiff::{SignedDuration, Timestamp};

use crate::diagnostic::{Diagnostic, Named, Span};
use crate::facts::value::Value;
use crate::findings::finding::Subject;
use crate::fleet::group::{GroupKind, Groups, unknown_group};
use crate::id::{DeviceId, WaiverId};
use crate::rules::rule::Rule;

/// What happens to the clock of a finding when its waiver ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClockAfterwards {
    /// The old due moment stands, so the finding may be overdue at once.
    #[default]
    Keep,
    /// The grace begins anew.
    Afresh,
}

impl ClockAfterwards {
    /// All of them.
    pub const ALL: [Self; 2] = [Self::Keep, Self::Afresh];

    /// Returns the word used in files and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Keep => "keep",
            Self::Afresh => "afresh",
        }
    }
}

/// That a waiver was ended before its time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EndedEarly {
    /// When.
    pub at: Timestamp,
    /// Why.
    pub because: String,
}

/// A waiver as written.
#[derive(Clone, Debug)]
pub struct WaiverSource {
    /// Its id.
    pub id: Named,
    /// The devices that it is for.
    pub devices: Vec<Named>,
    /// The groups of devices that it is for.
    pub groups: Vec<Named>,
    /// Rules, checks, everything below one with `/*`, or the words for silence and for being covered by nothing.
    pub rules: Vec<Named>,
    /// Why.
    pub because: String,
    /// Who answers for it.
    pub approved_by: String,
    /// From when on.
    pub from: Timestamp,
    /// Up to when, exclusively: the end of its last day.
    pub until: Timestamp,
    /// Where that is written.
    pub until_place: Option<Span>,
    /// That it was ended before.
    pub ended: Option<EndedEarly>,
    /// What happens to clocks when it ends.
    pub clock: ClockAfterwards,
}

/// A waiver, ready to be asked.
#[derive(Clone, Debug)]
pub struct Waiver {
    /// Its id.
    pub id: WaiverId,
    /// The devices that it is for, by every name that they have had.
    pub devices: Vec<DeviceId>,
    /// The groups that it is for, by index.
    pub(crate) groups: Vec<usize>,
    /// The rules that it is for, as written.
    pub rules: Vec<Named>,
    /// Which of the rule set's rules those are, by index.
    pub(crate) covered_rules: Vec<usize>,
    pub(crate) silence: bool,
    pub(crate) uncovered: bool,
    /// Why.
    pub because: String,
    /// Who answers for it.
    pub approved_by: String,
    /// From when on.
    pub from: Timestamp,
    /// Up to when, exclusively, if it is not ended before.
    pub until: Timestamp,
    /// That it was ended before.
    pub ended: Option<EndedEarly>,
    /// What happens to clocks when it ends.
    pub clock: ClockAfterwards,
    /// Where its id is written.
    pub place: Option<Span>,
}

/// How a waiver stands at a moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum WaiverState {
    /// It has not begun.
    Ahead,
    /// It holds.
    Running,
    /// It has ended.
    Over,
}

impl WaiverState {
    /// Returns the word used in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Ahead => "ahead",
            Self::Running => "running",
            Self::Over => "over",
        }
    }
}

impl Waiver {
    /// Returns when it ends, exclusively; before it begins, where it was ended before that.
    pub fn ends(&self) -> Timestamp {
        self.ended.as_ref().map_or(self.until, |ended| self.until.min(ended.at))
    }

    /// Returns how it stands at a moment.
    pub fn state(&self, at: Timestamp) -> WaiverState {
        if at >= self.ends() {
            WaiverState::Over
        } else if at < self.from {
            WaiverState::Ahead
        } else {
            WaiverState::Running
        }
    }

    /// Returns the groups that it is for, as indexes into the rule set's.
    pub fn groups(&self) -> &[usize] {
        &self.groups
    }

    /// Returns whether it is for what a finding is about.
    pub fn is_for(&self, subject: &Subject, rules: &[Rule]) -> bool {
        match subject {
            Subject::Silence => self.silence,
            Subject::Uncovered => self.uncovered,
            Subject::Rule(id) => self.covered_rules.iter().any(|at| rules[*at].id == *id),
        }
    }

    /// Returns whether it is for a rule, by index.
    pub fn is_for_rule(&self, rule: usize) -> bool {
        self.covered_rules.contains(&rule)
    }

    /// Returns the names among those that it is for which no rule has.
    pub fn unknown_rules<'w>(&'w self, rules: &'w [Rule]) -> impl Iterator<Item = &'w Named> {
        let is_known = |name: &str| {
            [Subject::SILENCE, Subject::UNCOVERED].contains(&name) || rules.iter().any(|rule| rule.is_meant_by(name))
        };
        self.rules.iter().filter(move |named| !is_known(&named.text))
    }
}

/// A time during which something is waived, and what happens to its clock then.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct WaiverSpan {
    pub from: Timestamp,
    pub until: Timestamp,
    pub clock: ClockAfterwards,
    pub waiver: WaiverId,
}

/// The waivers that are for a device.
#[derive(Clone, Debug, Default)]
pub struct DeviceWaivers<'w> {
    pub(crate) all: Vec<&'w Waiver>,
}

impl DeviceWaivers<'_> {
    /// Returns whether no waiver is for the device.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Returns where among all waivers those stand that are for the device.
    pub fn positions<'a>(&'a self, all: &'a [Waiver]) -> impl Iterator<Item = usize> + 'a {
        let is_own = |waiver: &Waiver| self.all.iter().any(|own| own.id == waiver.id);
        all.iter().enumerate().filter(move |(_, waiver)| is_own(waiver)).map(|(at, _)| at)
    }

    /// Returns whether a waiver covers what a rule, by index, says at a moment.
    pub(crate) fn covers_rule(&self, rule: usize, at: Timestamp) -> bool {
        self.running_for_rule(rule, at).is_some()
    }

    /// Returns the waiver that covers what a rule, by index, says at a moment; of several the last to end.
    pub fn running_for_rule(&self, rule: usize, at: Timestamp) -> Option<&Waiver> {
        let running = self.all.iter().filter(|waiver| waiver.state(at) == WaiverState::Running);
        running.copied().filter(|waiver| waiver.is_for_rule(rule)).max_by_key(|waiver| waiver.ends())
    }

    /// Returns the first moment after `at` at which one of them begins or ends.
    pub fn next_change(&self, at: Timestamp) -> Option<Timestamp> {
        let moments = self.all.iter().filter(|waiver| waiver.from < waiver.ends());
        moments.flat_map(|waiver| [waiver.from, waiver.ends()]).filter(|moment| *moment > at).min()
    }

    /// Returns the times during which what a finding is about is waived: those that overlap or meet are one, and the last to end
    /// says what happens to the clock.
    pub(crate) fn spans(&self, subject: &Subject, rules: &[Rule]) -> Vec<WaiverSpan> {
        let meant = self.all.iter().filter(|waiver| waiver.is_for(subject, rules) && waiver.from < waiver.ends());
        let mut spans: Vec<WaiverSpan> = meant
            .map(|waiver| WaiverSpan {
                from: waiver.from,
                until: waiver.ends(),
                clock: waiver.clock,
                waiver: waiver.id.clone(),
            })
            .collect();
        spans.sort_by_key(|span| (span.from, span.until));
        let mut united: Vec<WaiverSpan> = Vec::new();
        for span in spans {
            match united.last_mut() {
                Some(last) if span.from <= last.until => {
                    if span.until >= last.until {
                        *last = WaiverSpan { from: last.from, ..span };
                    }
                }
                Some(_) | None => united.push(span),
            }
        }
        united
    }
}

/// No waiver may last longer: from a day to the same day a year later, the hour of a changed clock included.
const LONGEST: SignedDuration = SignedDuration::from_hours(367 * 24 + 1);

/// Compiles waivers, and reports every mistake in them.
pub(crate) fn compile_waivers(
    sources: &[WaiverSource],
    groups: &Groups,
    rules: &[Rule],
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<Waiver> {
    for (at, source) in sources.iter().enumerate() {
        if let Some(first) = sources[..at].iter().find(|first| first.id.text == source.id.text) {
            let message = format!("two waivers are called `{}`", source.id.text);
            mistakes.push(
                Diagnostic::error("doubled-id", message, source.id.span.clone())
                    .label("the second")
                    .note(first.id.span.clone(), "the first")
                    .help("give one of them another id"),
            );
        }
    }
    sources.iter().map(|source| compile_waiver(source, groups, rules, mistakes)).collect()
}

fn compile_waiver(source: &WaiverSource, groups: &Groups, rules: &[Rule], mistakes: &mut Vec<Diagnostic>) -> Waiver {
    let id = &source.id.text;
    let mut mistake = |code, message: String, span: &Option<Span>, help: &str| {
        mistakes.push(Diagnostic::error(code, message, span.clone()).help(help));
    };
    if source.devices.is_empty() && source.groups.is_empty() {
        let message = format!("waiver `{id}` is for no device");
        mistake("empty-waiver", message, &source.id.span, "name `devices` or `groups`");
    }
    if source.rules.is_empty() {
        let message = format!("waiver `{id}` is for no rule");
        mistake("empty-waiver", message, &source.id.span, "name `rules`, or \"silence\" or \"uncovered\"");
    }
    if source.until <= source.from {
        let message = format!("waiver `{id}` ends before it begins");
        mistake("waiver-time", message, &source.until_place, "let `until` be the last day on which it holds");
    } else if source.until.duration_since(source.from) > LONGEST {
        let message = format!("waiver `{id}` lasts longer than a year");
        let help = "let it end within a year, and renew it then, or change the rule";
        mistake("waiver-time", message, &source.until_place, help);
    }
    let mut group_indexes = Vec::new();
    for named in &source.groups {
        match groups.all.iter().position(|group| group.id.as_str() == named.text) {
            None => mistakes.push(unknown_group(named, groups.all.iter().map(|group| group.id.as_str()))),
            Some(at) if groups.all[at].kind == GroupKind::People => {
                let message = format!("`{}` is a group of people, and waivers are for devices", named.text);
                let help = "name a group of devices; one with `held_by` follows its holders";
                mistakes.push(Diagnostic::error("wrong-kind", message, named.span.clone()).help(help));
            }
            Some(at) if groups.all[at].reads_standing => {
                let message = format!("waiver `{id}` reaches the standing through group `{}`", named.text);
                mistakes.push(
                    Diagnostic::error("own-tail", message, named.span.clone())
                        .label("would chase its own tail")
                        .help("use a group that does not ask for `standing`"),
                );
            }
            Some(at) => group_indexes.push(at),
        }
    }
    let is_named = |word: &str| source.rules.iter().any(|named| named.text == word);
    let is_for = |rule: &Rule| source.rules.iter().any(|named| rule.is_meant_by(&named.text));
    let covered_rules = rules.iter().enumerate().filter(|(_, rule)| is_for(rule)).map(|(at, _)| at).collect();
    Waiver {
        id: WaiverId::new(id.as_str()),
        devices: source.devices.iter().map(|named| DeviceId::new(named.text.as_str())).collect(),
        groups: group_indexes,
        rules: source.rules.clone(),
        covered_rules,
        silence: is_named(Subject::SILENCE),
        uncovered: is_named(Subject::UNCOVERED),
        because: source.because.clone(),
        approved_by: source.approved_by.clone(),
        from: source.from,
        until: source.until,
        ended: source.ended.clone(),
        clock: source.clock,
        place: source.id.span.clone(),
    }
}

/// Returns whether a waiver's groups surely hold a device. What is not known gives no waiver.
pub(crate) fn is_held(waiver: &Waiver, memberships: &[Value<'_>]) -> bool {
    waiver.groups.iter().any(|group| matches!(memberships[*group], Value::Boolean(true)))
}
