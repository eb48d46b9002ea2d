//! What is shown of a forecast: every entry in the order of time, and what each day comes to.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_spool::{Sorter, Spool};
use jiff::Timestamp;
use jiff::civil::Date;

use super::entry::{ForecastEntry, ForecastEvent, ForecastKind};
use crate::error::EngineError;
use crate::workspace::project::Project;

/// So many devices and people of a line are named.
const NAMED: usize = 3;

/// What comes about by time alone.
#[derive(Debug)]
pub struct Forecast {
    /// From when on.
    pub as_of: Timestamp,
    /// The last second that is looked at.
    pub until: Timestamp,
    /// Everything that comes about, by day, kind, moment, device and subject.
    pub entries: Spool<ForecastEntry>,
    /// What each day of the workspace's calendar comes to, also those on which nothing does.
    pub days: Vec<ForecastDay>,
    /// Of how many devices a rule asks for the present moment in such a way that it may say something else at any time; they were
    /// looked at once a day.
    pub unsteady: u64,
}

impl Forecast {
    /// Returns what all days come to together; whoever loses something on several days counts once.
    ///
    /// # Errors
    /// When a temporary file cannot be read.
    pub fn total(&self) -> Result<ForecastCounts, EngineError> {
        let mut counter = Counter::default();
        for entry in self.entries.iter() {
            let entry = entry?;
            if !entry.only_if_silent {
                counter.count(&entry);
            }
        }
        Ok(counter.counts)
    }
}

/// A day of the calendar.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ForecastDay {
    /// The day.
    pub date: Date,
    /// How much of each kind comes about whether or not devices are heard of.
    pub counts: ForecastCounts,
    /// How much more, if the devices that are heard of now stay silent.
    pub by_silence: ForecastCounts,
    /// What comes about, grouped by what is alike: what comes only if devices stay silent behind the rest, then what matters most first.
    pub lines: Vec<ForecastLine>,
}

/// How much comes about, by kind: findings, facts' sources going stale on devices, people who lose or regain something (or devices
/// that nobody holds), actions, ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ForecastCounts {
    counts: [u64; ForecastKind::ALL.len()],
}

impl ForecastCounts {
    /// Returns how much there is of a kind.
    pub fn of(&self, kind: ForecastKind) -> u64 {
        self.counts[kind as usize]
    }

    /// Returns whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.counts.iter().all(|count| *count == 0)
    }
}

/// Alike things of one day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ForecastLine {
    /// Of which kind.
    pub kind: ForecastKind,
    /// What it is about: a rule, a source, a service, a step of a ladder, what ends.
    pub subject: ForecastSubject,
    /// When the first of them comes about.
    pub first: Timestamp,
    /// How many there are, counted as in [`ForecastCounts`].
    pub count: u64,
    /// The first of the devices.
    pub devices: Vec<String>,
    /// The first of the people, by name.
    pub people: Vec<String>,
    /// They come about only if devices stay silent that are heard of now.
    pub only_if_silent: bool,
}

impl ForecastLine {
    /// Returns those whom it is told of, the people where it is about access and else the devices, and how many more there are.
    pub fn named(&self) -> (&[String], u64) {
        let of_people = matches!(self.kind, ForecastKind::Losing | ForecastKind::Returning) && !self.people.is_empty();
        let named = if of_people { &self.people } else { &self.devices };
        // What ends of the workspace is of no device.
        let more = if named.is_empty() && self.kind == ForecastKind::Ending {
            0
        } else {
            self.count.saturating_sub(named.len() as u64)
        };
        (named, more)
    }
}

/// What a line is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum ForecastSubject {
    /// A rule.
    Rule(String),
    /// A source whose word on facts becomes too old.
    Source(String),
    /// A service that is denied, or open again.
    Service {
        /// What people call it.
        title: String,
        /// Access is permitted, with these obligations; none where it is denied.
        permitted_with: Option<String>,
    },
    /// A step of a ladder.
    Step {
        /// What it does.
        deed: String,
        /// Whom it is for.
        to: String,
        /// Its rule.
        rule: String,
        /// It waits for somebody.
        is_held: bool,
    },
    /// What ends.
    Ending {
        /// The word for it.
        kind: &'static str,
        /// What it is called.
        id: String,
        /// The rule that it is about.
        rule: Option<String>,
    },
}

/// By what a forecast is counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ForecastBy {
    /// By where devices belong.
    Site,
    /// By the people who are concerned.
    Person,
    /// By the services that are lost and regained.
    Service,
}

impl Forecast {
    /// Counts what comes about whether or not devices are heard of, by something else than its day: most first, what belongs nowhere
    /// last.
    ///
    /// # Errors
    /// When a temporary file cannot be read.
    pub fn counts_by(&self, by: ForecastBy) -> Result<Vec<(Option<String>, ForecastCounts)>, EngineError> {
        let mut counted: BTreeMap<Option<String>, Counter> = BTreeMap::new();
        for entry in self.entries.iter() {
            let entry = entry?;
            if entry.only_if_silent {
                continue;
            }
            let keys: Vec<Option<String>> = match by {
                ForecastBy::Site => vec![entry.site.clone()],
                ForecastBy::Person if entry.people.is_empty() => vec![None],
                ForecastBy::Person => entry.people.iter().cloned().map(Some).collect(),
                ForecastBy::Service => match &entry.what {
                    ForecastEvent::Losing(it) | ForecastEvent::Returning(it) => vec![Some(it.service.clone())],
                    _ => continue,
                },
            };
            keys.into_iter().for_each(|key| {
                counted.entry(key).or_default().count(&entry);
            });
        }
        let mut rows: Vec<_> = counted.into_iter().map(|(key, counter)| (key, counter.counts)).collect();
        let total = |counts: &ForecastCounts| counts.counts.iter().sum::<u64>();
        rows.sort_by_key(|(key, counts)| (key.is_none(), std::cmp::Reverse(total(counts))));
        Ok(rows)
    }
}

/// Counts entries that come in their order.
#[derive(Default)]
struct Counter {
    counts: ForecastCounts,
    /// Who loses or regains something.
    who: [BTreeSet<String>; 2],
    /// The device, source and moment that was counted last as going stale.
    stale: Option<(Timestamp, String, String)>,
}

impl Counter {
    /// Counts an entry; returns whether it counts, and is not one more of what was counted already.
    fn count(&mut self, entry: &ForecastEntry) -> bool {
        let kind = entry.what.kind();
        let device = entry.device.as_deref().unwrap_or_default();
        let counts = match &entry.what {
            ForecastEvent::Losing(it) | ForecastEvent::Returning(it) => {
                let who = it.person.clone().unwrap_or_else(|| format!("\0{device}"));
                self.who[usize::from(kind == ForecastKind::Returning)].insert(who)
            }
            ForecastEvent::Stale { source, .. } => {
                let now = Some((entry.at, device.to_owned(), source.clone()));
                let is_new = self.stale != now;
                self.stale = now;
                is_new
            }
            _ => true,
        };
        self.counts.counts[kind as usize] += u64::from(counts);
        counts
    }
}

/// Takes what comes about in any order.
pub(super) struct ForecastBuilder<'p> {
    project: &'p Project,
    as_of: Timestamp,
    until: Timestamp,
    entries: Sorter<ForecastEntry>,
    unsteady: u64,
}

impl<'p> ForecastBuilder<'p> {
    pub(super) fn new(project: &'p Project, as_of: Timestamp, until: Timestamp) -> Self {
        Self { project, as_of, until, entries: Sorter::default(), unsteady: 0 }
    }

    pub(super) fn note_unsteady(&mut self, is_unsteady: bool) {
        self.unsteady += u64::from(is_unsteady);
    }

    pub(super) fn add(&mut self, entry: &ForecastEntry) -> Result<(), EngineError> {
        let date = self.project.config.calendar.zone.to_datetime(entry.at).date();
        Ok(self.entries.push(&entry.sort_key(date), entry)?)
    }

    /// Puts everything in order, and counts the days.
    pub(super) fn finish(self, names: impl Fn(&str) -> String) -> Result<Forecast, EngineError> {
        let entries = self.entries.finish()?;
        let zone = &self.project.config.calendar.zone;
        let day_of = |at: Timestamp| zone.to_datetime(at).date();
        let last = day_of(self.until);
        let dates = std::iter::successors(Some(day_of(self.as_of)), |day| day.tomorrow().ok());
        let mut days: Vec<ForecastDay> = dates
            .take_while(|date| *date <= last)
            .map(|date| ForecastDay {
                date,
                counts: ForecastCounts::default(),
                by_silence: ForecastCounts::default(),
                lines: Vec::new(),
            })
            .collect();
        let (mut at, mut gathered) = (0, DayLines::default());
        for entry in entries.iter() {
            let entry = entry?;
            let date = day_of(entry.at);
            while days.get(at).is_some_and(|day| day.date < date) {
                std::mem::take(&mut gathered).finish(&mut days[at]);
                at += 1;
            }
            gathered.add(&entry, self.project, &names);
        }
        if let Some(day) = days.get_mut(at) {
            gathered.finish(day);
        }
        Ok(Forecast { as_of: self.as_of, until: self.until, entries, days, unsteady: self.unsteady })
    }
}

/// The lines of one day.
#[derive(Default)]
struct DayLines {
    certain: Counter,
    by_silence: Counter,
    lines: BTreeMap<(bool, ForecastKind, ForecastSubject), (ForecastLine, Counter)>,
}

impl DayLines {
    fn add(&mut self, entry: &ForecastEntry, project: &Project, names: &impl Fn(&str) -> String) {
        let only_if_silent = entry.only_if_silent;
        (if only_if_silent { &mut self.by_silence } else { &mut self.certain }).count(entry);
        let (kind, subject) = (entry.what.kind(), ForecastSubject::of(&entry.what, project));
        let (line, counter) = self.lines.entry((only_if_silent, kind, subject.clone())).or_insert_with(|| {
            let (devices, people) = (Vec::new(), Vec::new());
            let line = ForecastLine { kind, subject, first: entry.at, count: 0, devices, people, only_if_silent };
            (line, Counter::default())
        });
        if !counter.count(entry) {
            return;
        }
        if let Some(device) = entry.device.as_ref()
            && line.devices.len() < NAMED
            && !line.devices.contains(device)
        {
            line.devices.push(device.clone());
        }
        for person in &entry.people {
            let name = names(person);
            if line.people.len() < NAMED && !line.people.contains(&name) {
                line.people.push(name);
            }
        }
    }

    fn finish(self, day: &mut ForecastDay) {
        (day.counts, day.by_silence) = (self.certain.counts, self.by_silence.counts);
        day.lines = self
            .lines
            .into_values()
            .map(|(line, counter)| ForecastLine { count: counter.counts.of(line.kind), ..line })
            .collect();
        let weight = |kind| ForecastKind::BY_WEIGHT.iter().position(|known| *known == kind);
        day.lines
            .sort_by_key(|line| (line.only_if_silent, weight(line.kind), std::cmp::Reverse(line.count), line.first));
    }
}

impl ForecastSubject {
    fn of(event: &ForecastEvent, project: &Project) -> Self {
        match event {
            ForecastEvent::Opening { rule, .. } | ForecastEvent::Closing { rule, .. } | ForecastEvent::Due { rule } => {
                Self::Rule(rule.clone())
            }
            ForecastEvent::Stale { source, .. } => Self::Source(source.clone()),
            ForecastEvent::Losing(it) | ForecastEvent::Returning(it) => {
                let services = project.rules.access().services();
                let known = services.iter().find(|service| service.id.as_str() == it.service);
                let title = known.map_or(&*it.service, |service| service.title.as_str()).to_owned();
                let permitted_with = (!it.is_denied).then(|| it.obligations.join(", "));
                Self::Service { title, permitted_with }
            }
            ForecastEvent::Action(it) => {
                let (deed, to, rule) = (it.deed.clone(), it.to.clone(), it.rule.clone());
                Self::Step { deed, to, rule, is_held: it.is_held }
            }
            ForecastEvent::Ending(it) => {
                Self::Ending { kind: it.kind.as_str(), id: it.id.clone(), rule: it.rule.clone() }
            }
        }
    }
}
