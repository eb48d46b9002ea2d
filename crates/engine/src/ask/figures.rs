//! The figures of the fleet, assessment by assessment, as each kept them.

use std::collections::{BTreeMap, HashMap};

use fencepost_core::Rule;
use fencepost_store::RunRow;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::Value as Json;

use crate::assess::{FindingCounts, FixesByRule, GroupCounts, RuleCount, ServiceFigures, StandingCounts, service_row};
use crate::compare::results::DriftTrend;
use crate::error::EngineError;
use crate::ledger_view::damage::unreadable_summary;
use crate::ledger_view::reading::Reading;
use crate::workspace::project::Project;

/// What an assessment counted.
#[derive(Clone, Debug, PartialEq)]
pub struct AssessmentFigures {
    /// Its number.
    pub assessment: i64,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// Devices by standing.
    pub devices: StandingCounts,
    /// What happened to findings since the one before.
    pub findings: FindingCounts,
    /// How many findings were overdue; none where an earlier version did not count them.
    pub overdue: Option<u64>,
    /// How many people had no way into some service because of an access rule; none where an earlier version did not count them.
    pub shut_out: Option<u64>,
    /// How much each set of devices that ought to be alike differed, in the order in which they are written.
    pub drift: Vec<DriftTrend>,
}

impl AssessmentFigures {
    /// Returns the part of the devices that are compliant, from 0 to 1; none where there is no device.
    pub fn share(&self) -> Option<f64> {
        (self.devices.total > 0).then(|| self.devices.compliant as f64 / self.devices.total as f64)
    }

    /// Returns what a set came to; none where it was not compared then.
    pub fn drift_of(&self, set: &str) -> Option<&DriftTrend> {
        self.drift.iter().find(|trend| trend.set == set)
    }
}

/// How long it took to fix what a rule found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FixTimes {
    /// The rule, or the word for silence or for being covered by nothing.
    pub rule: String,
    /// The median time from a finding's first opening to its last closing as fixed.
    pub median: SignedDuration,
    /// The longest.
    pub longest: SignedDuration,
    /// How many findings were fixed.
    pub fixed: u64,
    /// How often findings came back.
    pub relapsed: u64,
}

/// The figures of several assessments.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FleetHistory {
    /// Oldest first.
    pub assessments: Vec<AssessmentFigures>,
    /// Of what was fixed in them, by rule.
    pub fix_times: Vec<FixTimes>,
}

/// Of which assessments figures are told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FiguresQuery {
    /// So many of the latest, or of the latest days or weeks.
    pub most: u32,
    /// One row for each of these.
    pub per: FiguresPer,
}

/// What a row of figures is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FiguresPer {
    /// An assessment.
    Assessment,
    /// A day, by the workspace's zone: how it was at the last assessment of the day, and what happened on it.
    Day,
    /// A week, from Monday on, in the same way.
    Week,
}

impl FiguresPer {
    /// Returns the first day of the day or week that a moment lies in; none where every assessment has a row of its own.
    fn period(self, at: Timestamp, zone: &TimeZone) -> Option<jiff::civil::Date> {
        let day = at.to_zoned_datetime(zone.clone()).date();
        match self {
            Self::Assessment => None,
            Self::Day => Some(day),
            Self::Week => {
                let since_monday = i64::from(day.weekday().to_monday_zero_offset());
                Some(day.saturating_sub(jiff::Span::new().days(since_monday)))
            }
        }
    }
}

/// A row of the figures of a part of the fleet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartThen<T> {
    /// The number of the assessment.
    pub assessment: i64,
    /// The moment it judged by.
    pub as_of: Timestamp,
    /// What it counted; none where it did not.
    pub counts: Option<T>,
}

/// The part of an assessment's summary that is read: others may be long.
#[derive(Deserialize)]
pub(crate) struct Summary {
    devices: Json,
    /// What each rule came to.
    #[serde(default)]
    rules: Vec<Json>,
    #[serde(default)]
    groups: Vec<Json>,
    #[serde(default)]
    services: Vec<Json>,
    findings: Option<FindingCounts>,
    overdue: Option<u64>,
    shut_out: Option<u64>,
    fixes: Option<FixesByRule>,
    /// When the oldest and the newest of the devices' latest state was collected.
    #[serde(default)]
    collected: Option<[Timestamp; 2]>,
    drift: Option<Json>,
}

impl Summary {
    /// Reads the summary of an assessment.
    pub(crate) fn of(project: &Project, run: &RunRow) -> Result<Self, EngineError> {
        serde_json::from_str(&run.summary).map_err(|_| unreadable_summary(project, run.id).into())
    }

    /// Returns what each rule came to that was on trial or enforced.
    pub(crate) fn rule_counts(&self) -> impl Iterator<Item = RuleCount> {
        self.rules.iter().filter_map(RuleCount::of_json)
    }
}

impl Reading<'_> {
    /// Returns when the state was collected that the assessment judged: the oldest and the newest of the devices' latest; none where
    /// nothing was assessed.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn collected_between(&self) -> Result<Option<[Timestamp; 2]>, EngineError> {
        let summary = self.assessment.as_ref().map(|run| Summary::of(self.project, run)).transpose()?;
        Ok(summary.and_then(|summary| summary.collected))
    }

    /// Returns the assessments that figures are told of, each with those that belong to the same row, oldest first.
    fn periods(&self, query: FiguresQuery) -> Result<Vec<Vec<RunRow>>, EngineError> {
        let FiguresQuery { most, per } = query;
        let zone = &self.project.config.calendar.zone;
        let of_one = per == FiguresPer::Assessment;
        let mut runs = self.reader.assessments(Some(self.at), if of_one { most } else { u32::MAX })?;
        runs.reverse();
        let mut periods: Vec<Vec<RunRow>> = Vec::new();
        for run in runs {
            let period = per.period(run.as_of, zone);
            match periods.last_mut().filter(|last| !of_one && per.period(last[0].as_of, zone) == period) {
                Some(last) => last.push(run),
                None => periods.push(vec![run]),
            }
        }
        let over = periods.len().saturating_sub(most as usize);
        Ok(periods.split_off(over))
    }

    /// Returns the figures of the latest assessments at or before the moment of reading.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn figures(&self, query: FiguresQuery) -> Result<FleetHistory, EngineError> {
        let mut history = FleetHistory::default();
        let mut fixes = FixTally::default();
        for period in self.periods(query)? {
            let mut findings = FindingCounts::default();
            let mut last = None;
            for run in &period {
                let summary = Summary::of(self.project, run)?;
                let figures = self.figures_of_summary(run, &summary)?;
                findings.add(figures.findings);
                last = Some(figures);
                match summary.fixes {
                    Some(own) => fixes.add(own),
                    // Earlier versions did not keep them.
                    None => fixes.add(FixesByRule::of_run(self.project, &self.reader, run)?),
                }
            }
            history.assessments.extend(last.map(|last| AssessmentFigures { findings, ..last }));
        }
        history.fix_times = fixes.times();
        Ok(history)
    }

    /// Returns the figures of an assessment.
    pub(crate) fn figures_of(&self, run: &RunRow) -> Result<AssessmentFigures, EngineError> {
        self.figures_of_summary(run, &Summary::of(self.project, run)?)
    }

    fn figures_of_summary(&self, run: &RunRow, summary: &Summary) -> Result<AssessmentFigures, EngineError> {
        let broken = || unreadable_summary(self.project, run.id);
        Ok(AssessmentFigures {
            assessment: run.number.unwrap_or(0),
            as_of: run.as_of,
            devices: StandingCounts::of_json(&summary.devices).ok_or_else(broken)?,
            findings: match summary.findings {
                Some(counts) => counts,
                // Earlier versions did not keep them.
                None => FindingCounts::of_run(self.project, &self.reader, run)?,
            },
            overdue: summary.overdue,
            shut_out: summary.shut_out,
            drift: summary.drift.as_ref().map(DriftTrend::of_json).unwrap_or_default(),
        })
    }

    /// Returns what each of some assessments counted of a part of the fleet: the last of each period.
    fn part_then<T>(
        &self,
        query: FiguresQuery,
        counts: impl Fn(&Summary) -> Option<T>,
    ) -> Result<Vec<PartThen<T>>, EngineError> {
        let periods = self.periods(query)?;
        let runs = periods.iter().filter_map(|period| period.last());
        runs.map(|run| {
            let summary = Summary::of(self.project, run)?;
            Ok(PartThen { assessment: run.number.unwrap_or(0), as_of: run.as_of, counts: counts(&summary) })
        })
        .collect()
    }

    /// Returns what assessments counted of a rule, by its id or one that it had, oldest first.
    pub(crate) fn rule_trend(&self, rule: &Rule, query: FiguresQuery) -> Result<Vec<PartThen<RuleCount>>, EngineError> {
        let is_it =
            |count: &RuleCount| count.rule == rule.id.as_str() || rule.was.iter().any(|was| was.as_str() == count.rule);
        self.part_then(query, |summary| summary.rule_counts().find(is_it))
    }

    /// Returns what assessments counted of a rule, oldest first.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such rule.
    pub fn rule_history(&self, id: &str, query: FiguresQuery) -> Result<Vec<PartThen<RuleCount>>, EngineError> {
        match self.project.rules.position(id) {
            Some(at) => self.rule_trend(&self.project.rules.rules()[at], query),
            None => {
                Err(EngineError::no_such("rule", id, self.project.rules.rules().iter().map(|rule| rule.id.as_str())))
            }
        }
    }

    /// Returns how the devices of a group stood, assessment by assessment, oldest first.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such group.
    pub fn group_history(&self, id: &str, query: FiguresQuery) -> Result<Vec<PartThen<GroupCounts>>, EngineError> {
        if !self.project.rules.groups().any(|group| group.id.as_str() == id) {
            return Err(EngineError::no_such("group", id, self.project.rules.groups().map(|group| group.id.as_str())));
        }
        self.part_then(query, |summary| {
            let mut groups = summary.groups.iter().filter_map(GroupCounts::of_json);
            groups.find(|(group, _)| *group == id).map(|(_, counts)| counts)
        })
    }

    /// Returns how a service was reached, assessment by assessment, oldest first.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such service.
    pub fn service_history(&self, id: &str, query: FiguresQuery) -> Result<Vec<PartThen<ServiceFigures>>, EngineError> {
        let services = self.project.rules.access().services();
        if !services.iter().any(|service| service.id.as_str() == id) {
            return Err(EngineError::no_such("service", id, services.iter().map(|service| service.id.as_str())));
        }
        self.part_then(query, |summary| {
            // A service that nobody signs in to is not counted.
            let none = summary.shut_out.map(|_| ServiceFigures::default());
            summary
                .services
                .iter()
                .filter_map(service_row)
                .find(|(service, _)| service == id)
                .map(|(_, it)| it)
                .or(none)
        })
    }
}

/// What was fixed in several assessments, oldest first.
#[derive(Default)]
struct FixTally {
    /// Of each rule the last fix of each finding.
    fixed: BTreeMap<String, HashMap<u64, i64>>,
    relapsed: BTreeMap<String, u64>,
}

impl FixTally {
    fn add(&mut self, fixes: FixesByRule) {
        for (rule, fixed) in fixes.fixed {
            self.fixed.entry(rule).or_default().extend(fixed);
        }
        for (rule, times) in fixes.relapsed {
            *self.relapsed.entry(rule).or_default() += times;
        }
    }

    /// Returns the times by rule, the slowest first.
    fn times(mut self) -> Vec<FixTimes> {
        let mut times = Vec::new();
        for (rule, fixed) in self.fixed {
            let mut seconds: Vec<i64> = fixed.into_values().collect();
            seconds.sort_unstable();
            let Some(longest) = seconds.last().copied() else { continue };
            // Of an even number the mean of the middle two.
            let half = seconds.len() / 2;
            let median = if seconds.len() % 2 == 1 { seconds[half] } else { seconds[half - 1].midpoint(seconds[half]) };
            times.push(FixTimes {
                relapsed: self.relapsed.remove(&rule).unwrap_or(0),
                median: SignedDuration::from_secs(median),
                longest: SignedDuration::from_secs(longest),
                fixed: seconds.len() as u64,
                rule,
            });
        }
        times.sort_by(|a, b| b.median.cmp(&a.median).then_with(|| a.rule.cmp(&b.rule)));
        times
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fixes(fixed: &[(&str, &[(u64, i64)])], relapsed: &[(&str, u64)]) -> FixesByRule {
        FixesByRule {
            fixed: fixed.iter().map(|(rule, fixed)| ((*rule).to_owned(), fixed.to_vec())).collect(),
            relapsed: relapsed.iter().map(|(rule, times)| ((*rule).to_owned(), *times)).collect(),
        }
    }

    #[test]
    fn a_finding_that_was_fixed_twice_counts_once_with_its_last_closing() {
        let mut tally = FixTally::default();
        tally.add(fixes(&[("a", &[(1, 100), (2, 300)]), ("b", &[(7, 51)])], &[]));
        tally.add(fixes(&[("a", &[(1, 900), (3, 500), (4, 301)])], &[("a", 1), ("c", 2)]));
        let seconds = SignedDuration::from_secs;
        let times = |rule: &str, median, longest, fixed, relapsed| FixTimes {
            rule: rule.to_owned(),
            median: seconds(median),
            longest: seconds(longest),
            fixed,
            relapsed,
        };
        assert_eq!(tally.times(), [times("a", 400, 900, 4, 1), times("b", 51, 51, 1, 0)]);
    }

    #[test]
    fn weeks_begin_on_monday_and_days_at_midnight_of_the_zone() {
        let zone = TimeZone::get("Europe/Berlin").unwrap();
        let day = |per: FiguresPer, at: &str| per.period(at.parse().unwrap(), &zone).map(|day| day.to_string());
        assert_eq!(day(FiguresPer::Day, "2027-03-07T23:30:00Z").as_deref(), Some("2027-03-08"));
        assert_eq!(day(FiguresPer::Week, "2027-03-07T23:30:00Z").as_deref(), Some("2027-03-08"));
        assert_eq!(day(FiguresPer::Week, "2027-03-07T22:30:00Z").as_deref(), Some("2027-03-01"));
        assert_eq!(day(FiguresPer::Assessment, "2027-03-07T22:30:00Z"), None);
    }
}
