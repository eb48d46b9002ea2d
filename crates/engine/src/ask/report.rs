//! What is handed on about the fleet, a site or a group: how it stands and stood, who lost and will lose access, what is to be done,
//! and what is waived, excepted and silent.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{RuleSeverity, Stage, Standing, Subject};
use fencepost_spool::Spool;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value as Json;

use crate::access::losses::AccessQuery;
use crate::access::report::AccessReport;
use crate::ask::figures::{AssessmentFigures, FiguresPer, FiguresQuery, PartThen, Summary};
use crate::ask::group::{GroupMembers, GroupReport};
use crate::ask::list::{Kind, ListQuery};
use crate::ask::verdicts::{VerdictSource, VerdictsWanted};
use crate::assess::{GroupCounts, RuleCount};
use crate::compare::results::DriftTrend;
use crate::error::EngineError;
use crate::ledger_view::fence::{FenceLine, Post};
use crate::ledger_view::reading::Reading;

/// So many assessments, or days with assessments, make a trend.
const TREND: u32 = 30;
/// Without a moment to compare with it is a week ago.
const WEEK: SignedDuration = SignedDuration::from_hours(7 * 24);
/// So many findings are put together by person.
const MOST_TO_DO: usize = 500;
/// The fact that says what kind of system a device has.
const PLATFORM: &str = "platform";
/// What is told of each finding: the usual columns of the list, then where the device belongs and whom to write to.
const FINDING_COLUMNS: [&str; 11] =
    ["device", "rule", "phase", "severity", "opened", "due", "holder", "site", "mail", "lead", "waiver"];

/// Where among them the waiver stands.
const WAIVER: usize = 10;

/// Of what a report is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReportScope {
    /// All devices.
    Fleet,
    /// The devices that belong somewhere, by the fact that parts the fence.
    Site(String),
    /// The devices of a group.
    Group(String),
}

impl ReportScope {
    /// Returns the word for it, and what it names.
    pub fn words(&self) -> (&'static str, Option<&str>) {
        match self {
            Self::Fleet => ("fleet", None),
            Self::Site(site) => ("site", Some(site)),
            Self::Group(group) => ("group", Some(group)),
        }
    }
}

/// How many devices are in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InOrder {
    /// When.
    pub at: Timestamp,
    /// All devices.
    pub devices: u64,
    /// The compliant ones, those by waiver among them.
    pub in_order: u64,
}

impl InOrder {
    /// Returns the share of devices in order, from 0 to 1; none where there is no device.
    pub fn share(&self) -> Option<f64> {
        (self.devices > 0).then(|| self.in_order as f64 / self.devices as f64)
    }
}

/// A moment of a trend.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TrendPoint {
    /// How many devices were in order.
    pub in_order: InOrder,
    /// How many findings were overdue, where that was counted.
    pub overdue: Option<u64>,
    /// How many people were shut out of some service, where that was counted.
    pub shut_out: Option<u64>,
}

/// How the devices of a part of the fleet stand.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReportPart {
    /// The site or the platform.
    pub name: String,
    /// Its devices, by standing and in all.
    pub counts: GroupCounts,
}

/// What a rule came to.
#[derive(Clone, Debug, PartialEq)]
pub struct ReportRule {
    /// The rule.
    pub rule: String,
    /// What it asks for.
    pub title: String,
    /// How bad a failure is.
    pub severity: RuleSeverity,
    /// How far it is in force.
    pub stage: Stage,
    /// What it says of the devices.
    pub counts: RuleCount,
    /// How many devices did not meet it at the latest assessments, oldest first; of the fleet alone.
    pub trend: Vec<u64>,
}

/// An exception of a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReportException {
    /// The rule.
    pub rule: String,
    /// The group or the device that is excepted.
    pub name: String,
    /// Why.
    pub because: Option<String>,
    /// Up to when, exclusively.
    pub until: Option<Timestamp>,
}

/// What one person has to see to.
#[derive(Clone, Debug, PartialEq)]
pub struct PersonToDo {
    /// What the person is called, or the people who hold a device together; none of devices that nobody holds.
    pub holder: Option<String>,
    /// Rows of findings.
    pub findings: Vec<Vec<Json>>,
}

/// Rows with named columns.
#[derive(Debug, Default)]
pub struct ReportRows {
    /// The columns, in order.
    pub columns: Vec<String>,
    /// The rows: a value for each column.
    pub rows: Spool<Vec<Json>>,
}

impl ReportRows {
    fn of(columns: &[&str]) -> Self {
        Self { columns: columns.iter().map(|column| (*column).to_owned()).collect(), rows: Spool::default() }
    }

    /// Returns the value of a column of a row.
    pub fn cell<'r>(&self, row: &'r [Json], column: &str) -> &'r Json {
        let at = self.columns.iter().position(|known| known == column);
        at.and_then(|at| row.get(at)).unwrap_or(&Json::Null)
    }
}

/// A report of the fleet or a part of it.
#[derive(Debug)]
pub struct FleetReport {
    /// Of what it is.
    pub scope: ReportScope,
    /// The devices that it is of; none where it is all of them.
    pub devices: Option<BTreeSet<String>>,
    /// What people call that, where it has a title.
    pub title: Option<String>,
    /// The moment of reading.
    pub as_of: Timestamp,
    /// The number of the assessment.
    pub assessment: i64,
    /// The moment that it judged by.
    pub assessed_at: Timestamp,
    /// When the state was collected that it judged: the oldest and the newest.
    pub collected: Option<[Timestamp; 2]>,
    /// How many devices are in order.
    pub in_order: InOrder,
    /// How the devices stand; those that are in order by a waiver alone are counted beside.
    pub counts: GroupCounts,
    /// How many were in order at the assessment that it is compared with; none where there is none, or it was not counted.
    pub before: Option<InOrder>,
    /// How many people have no way into some service because of a rule; of the fleet alone.
    pub shut_out: Option<u64>,
    /// How many findings run, and how many of them are overdue.
    pub running: u64,
    /// See above.
    pub overdue: u64,
    /// The fence.
    pub fence: Vec<FenceLine>,
    /// How it went, oldest first; of a site it is not kept.
    pub trend: Vec<TrendPoint>,
    /// By site.
    pub sites: Vec<ReportPart>,
    /// By platform.
    pub platforms: Vec<ReportPart>,
    /// The rules that are enforced or on trial, those that most devices do not meet first.
    pub rules: Vec<ReportRule>,
    /// Who lost, regained and will lose access.
    pub access: AccessReport,
    /// Findings that run, the longest overdue first.
    pub findings: ReportRows,
    /// Those of them that are of silence.
    pub silent: ReportRows,
    /// Of a site or a group, what is to be done, by person.
    pub to_do: Vec<PersonToDo>,
    /// Waivers that hold or will.
    pub waivers: ReportRows,
    /// Exceptions of rules that have not ended; of the fleet alone.
    pub exceptions: Vec<ReportException>,
    /// How much the sets of devices differ that ought to be alike; of the fleet alone.
    pub drift: Vec<DriftTrend>,
}

/// The findings of a report.
#[derive(Default)]
struct GatheredFindings {
    all: ReportRows,
    silent: ReportRows,
    to_do: BTreeMap<Option<String>, Vec<Vec<Json>>>,
    overdue: u64,
    /// The waivers that cover any of them.
    waivers: BTreeSet<String>,
}

impl Reading<'_> {
    /// Returns the devices that a scope is of; none where it is all of them.
    ///
    /// # Errors
    /// When the ledger cannot be read, or there is no such site or group.
    pub fn devices_of(&self, scope: &ReportScope) -> Result<Option<BTreeSet<String>>, EngineError> {
        match scope {
            ReportScope::Fleet => Ok(None),
            ReportScope::Group(id) => {
                let GroupReport { members, .. } = self.group(id)?;
                match members {
                    GroupMembers::Devices(posts) => Ok(Some(posts.into_iter().map(|(device, _)| device).collect())),
                    GroupMembers::People(_) => Err(EngineError::refused(
                        format!("`{id}` is a group of people, and a report is of devices"),
                        "name a group of devices: fencepost list groups",
                    )),
                }
            }
            ReportScope::Site(site) => {
                let Some(fact) = self.project.config.fence_by.as_deref() else {
                    return Err(EngineError::refused(
                        "the workspace does not say which fact tells where devices belong",
                        "write fence_by = \"site\" into fencepost.toml, with the fact that tells it",
                    ));
                };
                let (mut devices, mut sites) = (BTreeSet::new(), BTreeSet::new());
                self.each_post(fact, |label, device, _| {
                    if label == *site {
                        devices.insert(device.to_owned());
                    }
                    sites.insert(label);
                })?;
                match devices.is_empty() {
                    true => Err(EngineError::no_such("site", site, sites.iter().map(String::as_str))),
                    false => Ok(Some(devices)),
                }
            }
        }
    }

    /// Returns what is told of the fleet or a part of it. It is compared with the last assessment at or before `since`; without one with
    /// that of a week ago, or else the first.
    ///
    /// # Errors
    /// When the ledger cannot be read, nothing was assessed, there is no such site or group, or nothing was assessed at or before
    /// `since`.
    pub fn fleet_report(&self, scope: ReportScope, since: Option<Timestamp>) -> Result<FleetReport, EngineError> {
        let Some(assessment) = &self.assessment else {
            return Err(EngineError::refused("nothing has been assessed yet", "run: fencepost assess"));
        };
        let devices = self.devices_of(&scope)?;
        let since = self.compared_with(since)?;
        let is_own = |device: &str| devices.as_ref().is_none_or(|own| own.contains(device));
        let fence = self.fence_of(None, &is_own)?;
        let counts = counted(fence.iter().flat_map(|line| &line.posts));
        let access = self.access(&AccessQuery { since, devices: devices.clone(), ..AccessQuery::default() })?;
        let found = self.gathered_findings(&is_own, scope != ReportScope::Fleet)?;
        let is_fleet = scope == ReportScope::Fleet;
        let figures = self.figures_of(assessment)?;
        let trend = self.trend_of(&scope)?;
        let before = since.and_then(|since| trend.iter().rfind(|point| point.in_order.at <= since));
        Ok(FleetReport {
            title: self.title_of(&scope),
            as_of: self.at,
            assessment: assessment.number.unwrap_or(0),
            assessed_at: assessment.as_of,
            collected: self.collected_between()?,
            in_order: in_order_of(self.at, &counts),
            before: before.map(|point| point.in_order),
            shut_out: figures.shut_out.filter(|_| is_fleet),
            running: found.all.rows.len(),
            overdue: found.overdue,
            sites: fence.iter().map(part_of).collect(),
            platforms: self.platforms_of(&is_own)?,
            rules: self.rules_of(devices.as_ref())?,
            waivers: self.waivers_of((!is_fleet).then_some(&found.waivers))?,
            exceptions: if is_fleet { self.exceptions() } else { Vec::new() },
            drift: if is_fleet { figures.drift } else { Vec::new() },
            to_do: found.to_do.into_iter().map(|(holder, findings)| PersonToDo { holder, findings }).collect(),
            findings: found.all,
            silent: found.silent,
            counts,
            fence,
            trend,
            access,
            devices,
            scope,
        })
    }

    /// Returns the moment of the assessment that a report is compared with; none where there is no earlier one.
    fn compared_with(&self, since: Option<Timestamp>) -> Result<Option<Timestamp>, EngineError> {
        if let Some(since) = since {
            return Ok(Some(since));
        }
        let Some(assessment) = &self.assessment else { return Ok(None) };
        let week_ago = self.at.checked_sub(WEEK).unwrap_or(Timestamp::MIN);
        let before = match self.reader.assessments(Some(week_ago), 1)?.into_iter().next() {
            Some(before) => Some(before),
            None => self.reader.assessments(Some(assessment.as_of), u32::MAX)?.into_iter().last(),
        };
        Ok(before.filter(|before| before.id < assessment.id).map(|before| before.as_of))
    }

    fn title_of(&self, scope: &ReportScope) -> Option<String> {
        let ReportScope::Group(id) = scope else { return None };
        let written = self.project.source.groups.iter().find(|group| group.id.text == *id)?;
        written.title.clone()
    }

    /// Returns how devices stand by platform, where they report one.
    fn platforms_of(&self, is_own: &dyn Fn(&str) -> bool) -> Result<Vec<ReportPart>, EngineError> {
        let parts = self.fence_of(Some(PLATFORM), is_own)?;
        let mut parts: Vec<ReportPart> = parts.iter().map(part_of).collect();
        parts.sort_by_key(|part| std::cmp::Reverse(part.counts.all));
        Ok(parts)
    }

    fn trend_of(&self, scope: &ReportScope) -> Result<Vec<TrendPoint>, EngineError> {
        let query = FiguresQuery { most: TREND, per: FiguresPer::Day };
        Ok(match scope {
            ReportScope::Fleet => {
                let point = |figures: AssessmentFigures| TrendPoint {
                    in_order: InOrder {
                        at: figures.as_of,
                        devices: figures.devices.total,
                        in_order: figures.devices.compliant,
                    },
                    overdue: figures.overdue,
                    shut_out: figures.shut_out,
                };
                self.figures(query)?.assessments.into_iter().map(point).collect()
            }
            ReportScope::Group(id) => {
                let point = |then: PartThen<GroupCounts>| {
                    let in_order = in_order_of(then.as_of, &then.counts?);
                    Some(TrendPoint { in_order, overdue: None, shut_out: None })
                };
                self.group_history(id, query)?.into_iter().filter_map(point).collect()
            }
            ReportScope::Site(_) => Vec::new(),
        })
    }

    /// Returns what the rules came to on some devices, or all.
    fn rules_of(&self, devices: Option<&BTreeSet<String>>) -> Result<Vec<ReportRule>, EngineError> {
        let mut counts = match devices {
            None => self.rule_counts()?.unwrap_or_default(),
            Some(devices) => self.rule_counts_on(devices)?,
        };
        let mut trends = if devices.is_none() { self.rule_trends()? } else { BTreeMap::new() };
        let at = self.judged_at();
        let rules = self.project.rules.rules().iter().filter(|rule| !rule.is_draft());
        let mut rules: Vec<ReportRule> = rules
            .filter_map(|rule| {
                Some(ReportRule {
                    rule: rule.id.to_string(),
                    title: rule.title.clone(),
                    severity: rule.severity,
                    stage: rule.stage(at),
                    counts: counts.remove(rule.id.as_str())?,
                    trend: trends.remove(rule.id.as_str()).unwrap_or_default(),
                })
            })
            .collect();
        let unmet = |rule: &ReportRule| rule.counts.fail + rule.counts.unknown;
        rules.sort_by_key(|rule| (std::cmp::Reverse((unmet(rule), rule.severity)), rule.rule.clone()));
        Ok(rules)
    }

    /// Returns what each rule says of some devices.
    fn rule_counts_on(&self, devices: &BTreeSet<String>) -> Result<BTreeMap<String, RuleCount>, EngineError> {
        let rules = self.project.rules.rules();
        let mut counts = vec![RuleCount::default(); rules.len()];
        let layout = self.project.rules.layout();
        let wanted = VerdictsWanted { source: VerdictSource::Assessment, of_rule: None, layout, slots: &[] };
        self.each_with_verdicts(
            wanted,
            |found| if devices.contains(found.judged.input.id) { found.verdicts.clone() } else { Vec::new() },
            |verdicts| {
                verdicts.iter().for_each(|verdict| counts[verdict.rule].count(verdict));
                Ok(())
            },
        )?;
        let own = rules.iter().zip(counts).filter(|(rule, _)| !rule.is_draft());
        Ok(own.map(|(rule, count)| (rule.id.to_string(), count)).collect())
    }

    /// Returns how many devices did not meet each rule at the latest assessments, oldest first.
    fn rule_trends(&self) -> Result<BTreeMap<String, Vec<u64>>, EngineError> {
        let mut trends: BTreeMap<String, Vec<u64>> = BTreeMap::new();
        let mut runs = self.reader.assessments(Some(self.at), TREND)?;
        runs.reverse();
        for run in &runs {
            for count in Summary::of(self.project, run)?.rule_counts() {
                trends.entry(count.rule.clone()).or_default().push(count.fail + count.unknown);
            }
        }
        Ok(trends)
    }

    fn gathered_findings(
        &self,
        is_own: &dyn Fn(&str) -> bool,
        by_person: bool,
    ) -> Result<GatheredFindings, EngineError> {
        let columns = FINDING_COLUMNS.map(str::to_owned);
        let query = ListQuery { columns: &columns, ..ListQuery::of(Kind::Findings) };
        let Ok(listing) = self.list(query)? else { return Ok(GatheredFindings::default()) };
        let [all, silent] = [(); 2].map(|()| ReportRows::of(&FINDING_COLUMNS));
        let mut found = GatheredFindings { all, silent, ..GatheredFindings::default() };
        let mut together = 0;
        for row in listing.rows.iter() {
            let row = row?;
            if !row[0].as_str().is_some_and(is_own) {
                continue;
            }
            found.overdue += u64::from(row[2] == "overdue");
            found.waivers.extend(row[WAIVER].as_str().map(str::to_owned));
            if row[1] == Subject::Silence.as_str() {
                found.silent.rows.push(&row)?;
            }
            found.all.rows.push(&row)?;
            if by_person && together < MOST_TO_DO {
                together += 1;
                found.to_do.entry(row[6].as_str().map(str::to_owned)).or_default().push(row);
            }
        }
        Ok(found)
    }

    /// Returns the waivers that hold or will; of a part of the fleet those that cover something that is found there.
    fn waivers_of(&self, covering: Option<&BTreeSet<String>>) -> Result<ReportRows, EngineError> {
        const COLUMNS: [&str; 9] =
            ["waiver", "state", "from", "until", "covers", "devices", "rules", "approved_by", "because"];
        let columns = COLUMNS.map(str::to_owned);
        let query = ListQuery { columns: &columns, ..ListQuery::of(Kind::Waivers) };
        let mut waivers = ReportRows::of(&COLUMNS);
        let Ok(listing) = self.list(query)? else { return Ok(waivers) };
        for row in listing.rows.iter() {
            let row = row?;
            let is_own = covering.is_none_or(|own| row[0].as_str().is_some_and(|waiver| own.contains(waiver)));
            if row[1] != "over" && is_own {
                waivers.rows.push(&row)?;
            }
        }
        Ok(waivers)
    }

    /// Returns the exceptions of rules that have not ended, those first that end next.
    pub(super) fn exceptions(&self) -> Vec<ReportException> {
        let rules = self.project.rules.rules().iter().filter(|rule| !rule.is_draft());
        let mut exceptions: Vec<ReportException> = rules
            .flat_map(|rule| rule.exceptions().iter().map(move |exception| (rule, exception)))
            .filter(|(_, exception)| exception.until.is_none_or(|until| until > self.at))
            .map(|(rule, exception)| ReportException {
                rule: rule.id.to_string(),
                name: exception.name.clone(),
                because: exception.because.clone(),
                until: exception.until,
            })
            .collect();
        exceptions.sort_by_key(|one| (one.until.is_none(), one.until, one.rule.clone(), one.name.clone()));
        exceptions
    }
}

fn in_order_of(at: Timestamp, counts: &GroupCounts) -> InOrder {
    InOrder { at, devices: counts.all, in_order: counts.standings[Standing::Compliant as usize] }
}

fn part_of(line: &FenceLine) -> ReportPart {
    ReportPart { name: line.label.clone(), counts: counted(line.posts.iter()) }
}

fn counted<'p>(posts: impl Iterator<Item = &'p Post>) -> GroupCounts {
    let mut counts = GroupCounts::default();
    posts.for_each(|post| counts.add(*post));
    counts
}
