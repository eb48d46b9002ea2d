//! What sets two groups of devices apart, or one group from how it was.

use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::drift::{
    Contrast, ContrastBy, FactPattern, FactScope, FactTable, LEAST_DEVICES, Place, PlaceId, Snapshot, TableSettings,
    contrast,
};
use fencepost_core::{Condition, Datum, Diagnostic, Evaluator, Facts, Layout, SlotId, Value};
use fencepost_store::DeviceRow;
use jiff::Timestamp;

use super::load::{LoadedSet, PastDevice};
use crate::ask::list::devices::compile_filter;
use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::reported_paths;

/// Which groups are held against one another.
#[derive(Clone, Debug)]
pub enum ContrastQuery {
    /// Two groups: each a group of the workspace, ids with commas between, or a condition.
    Groups([String; 2]),
    /// One group as it was at a moment, and as it is.
    Since(String, Timestamp),
}

/// A group that was held against another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ContrastGroup {
    /// What it was called.
    pub name: String,
    /// How many devices it has.
    pub devices: usize,
    /// As it was at this moment; none where it is as it is.
    pub as_of: Option<Timestamp>,
}

/// A fact that was tried, as it is shown.
#[derive(Clone, Debug, PartialEq)]
pub struct ContrastRow {
    /// Where.
    pub place: Place,
    /// What of it sets the groups apart.
    pub by: ContrastBy,
    /// The value that devices hold; none where it is about numbers, or whether it is reported.
    pub value: Option<Datum>,
    /// How likely a difference at least as large would be, if the groups were alike.
    pub p: f64,
    /// The share of chance finds among all that are no less striking.
    pub q: f64,
    /// What splits the devices in exactly the same way.
    pub folded: Vec<Place>,
}

/// What sets two groups apart.
#[derive(Clone, Debug, PartialEq)]
pub struct ContrastReport {
    /// As of when.
    pub at: Timestamp,
    /// The groups.
    pub groups: [ContrastGroup; 2],
    /// How many tests were made.
    pub tried: usize,
    /// The facts that are not alike on all devices, the most telling first.
    pub facts: Vec<ContrastRow>,
    /// How many facts are alike on every device.
    pub same: usize,
    /// Facts that were left out: nearly all devices differ there, or the groups are made by them.
    pub left_out: Vec<String>,
    /// Devices that are in both groups, and so in neither.
    pub in_both: Vec<String>,
    /// Facts that too few devices report.
    pub not_ranked: Vec<String>,
    /// The groups that are too small for anything to be ranked.
    pub too_small: Vec<String>,
    /// Patterns of facts that fit nothing that the devices report.
    pub idle_patterns: Vec<String>,
}

/// How a group is made.
enum Chosen {
    /// By its index among those of the workspace.
    Group(usize),
    Devices(BTreeSet<String>),
    Condition(Box<Condition>),
}

impl Reading<'_> {
    /// Finds what sets two groups of devices apart.
    ///
    /// # Errors
    /// The outer one when the ledger cannot be read, or a device is not known; the inner one when a condition has mistakes.
    pub fn contrast(
        &self,
        query: &ContrastQuery,
        facts: &[String],
    ) -> Result<Result<ContrastReport, Vec<Diagnostic>>, EngineError> {
        let mut layout = self.project.rules.layout().clone();
        let names: Vec<&String> = match query {
            ContrastQuery::Groups(both) => both.iter().collect(),
            ContrastQuery::Since(only, _) => vec![only],
        };
        let mut chosen = Vec::new();
        for name in &names {
            match self.chosen(name, &mut layout)? {
                Ok(found) => chosen.push(found),
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        }
        let parted_by = self.parted_by(&chosen, &layout);
        let mut groups = self.devices_of_groups(&layout, &chosen)?;
        let mut in_both = Vec::new();
        if let [first, second] = groups.as_mut_slice() {
            let known: BTreeSet<String> = first.iter().map(|row| row.name.clone()).collect();
            in_both = second.iter().map(|row| row.name.clone()).filter(|name| known.contains(name)).collect();
            let is_single = |row: &DeviceRow| !in_both.contains(&row.name);
            first.retain(is_single);
            second.retain(is_single);
        }
        let patterns =
            |texts: &mut dyn Iterator<Item = &String>| texts.map(|text| FactPattern::new(text.as_str())).collect();
        let scope = FactScope { facts: patterns(&mut facts.iter()), except: patterns(&mut parted_by.iter()) };
        let settings = TableSettings {
            named: facts.iter().filter(|fact| !fact.contains('*')).cloned().collect(),
            scope,
            fresh_only: true,
            volatile_numbers: true,
            ..TableSettings::default()
        };
        let mut report = match query {
            ContrastQuery::Groups(both) => self.contrast_groups(both, &groups, settings)?,
            ContrastQuery::Since(name, since) => self.contrast_since(name, *since, &groups[0], settings)?,
        };
        report.left_out.splice(0..0, parted_by);
        report.in_both = in_both;
        // The facts by which the groups are made were left out on purpose.
        report.idle_patterns.retain(|pattern| facts.contains(pattern));
        Ok(Ok(report))
    }

    /// Reads how a group is named.
    fn chosen(&self, name: &str, layout: &mut Layout) -> Result<Result<Chosen, Vec<Diagnostic>>, EngineError> {
        let project = self.project;
        if let Some(at) = project.rules.groups().position(|group| group.id.as_str() == name) {
            return Ok(Ok(Chosen::Group(at)));
        }
        if name.contains(',') || self.knows_device(name)? {
            let ids = name.split(',').map(str::trim).filter(|id| !id.is_empty());
            let devices = ids.map(|id| self.device_name(id)).collect::<Result<_, _>>();
            match devices {
                Ok(devices) => return Ok(Ok(Chosen::Devices(devices))),
                // A condition may hold a comma too.
                Err(error) if !name.contains(['(', '[', '=', '<', '>', '"']) => return Err(error),
                Err(_) => {}
            }
        }
        let is_word = |symbol: char| symbol.is_alphanumeric() || matches!(symbol, '-' | '_' | '.');
        if name.chars().all(is_word) && !reported_paths(&self.reader)?.contains(name) && name != "true" {
            let groups = project.rules.groups().map(|group| group.id.as_str());
            let help = fencepost_core::did_you_mean(name, groups, || {
                "name a group, ids with commas between, or a condition; see: fencepost list groups".to_owned()
            });
            let message = format!("`{}` is no group, no device and no fact", name.escape_debug());
            return Err(EngineError::refused(message, help));
        }
        match compile_filter(name, project, &project.dictionary, layout) {
            Ok(filter) => match filter.condition {
                Some(condition) => Ok(Ok(Chosen::Condition(Box::new(condition)))),
                None => Err(EngineError::refused("a group has no name", "name a group, devices, or a condition")),
            },
            Err(mistakes) => Ok(Err(mistakes)),
        }
    }

    /// Returns the facts by which the groups are made.
    fn parted_by(&self, chosen: &[Chosen], layout: &Layout) -> Vec<String> {
        let facts: BTreeSet<String> = chosen
            .iter()
            .flat_map(|one| match one {
                Chosen::Group(at) => self.project.rules.facts_of_group(*at).into_iter().map(str::to_owned).collect(),
                Chosen::Devices(_) => Vec::new(),
                Chosen::Condition(condition) => {
                    condition.slots().iter().map(|slot| layout.slot_path(*slot).to_owned()).collect()
                }
            })
            .collect();
        facts.into_iter().collect()
    }

    /// Returns the devices of each group, ascending by name.
    fn devices_of_groups(&self, layout: &Layout, chosen: &[Chosen]) -> Result<Vec<Vec<DeviceRow>>, EngineError> {
        let (project, judge, posture, at) = (self.project, self.judge(), self.posture(), self.at);
        let conditions =
            || chosen.iter().filter_map(|one| if let Chosen::Condition(it) = one { Some(it) } else { None });
        let reads_standing =
            project.rules.groups_read_standing() || conditions().any(|condition| condition.reads_standing());
        let wanted: Vec<SlotId> = conditions().flat_map(|condition| condition.may_read()).copied().collect();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let judged = judge.judged(device, facts, arena);
            let own = if reads_standing { posture.running(job)? } else { Vec::new() };
            let standing = if reads_standing { posture.standing(job)? } else { None };
            let ambient = surroundings(standing.map(|found| found.standing), &own, at, arena);
            let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.session(arena));
            let mut evaluator = Evaluator::new(Some(facts), at, &project.config.calendar.zone, arena);
            evaluator.set_groups(memberships);
            evaluator.set_ambient(ambient);
            let is_in: Vec<bool> = chosen
                .iter()
                .map(|one| match one {
                    Chosen::Group(at) => matches!(memberships[*at], Value::Boolean(true)),
                    Chosen::Devices(devices) => devices.contains(device),
                    Chosen::Condition(condition) => matches!(evaluator.holds(condition), Value::Boolean(true)),
                })
                .collect();
            Ok((job.device.clone(), is_in))
        };
        let mut groups = vec![Vec::new(); chosen.len()];
        self.with_facts(&judge, Wanted::whole(layout, &wanted), look, |(row, is_in): (DeviceRow, Vec<bool>)| {
            for (group, _) in groups.iter_mut().zip(is_in).filter(|(_, is_in)| *is_in) {
                group.push(row.clone());
            }
            Ok(())
        })?;
        Ok(groups)
    }

    fn contrast_groups(
        &self,
        names: &[String; 2],
        groups: &[Vec<DeviceRow>],
        settings: TableSettings,
    ) -> Result<ContrastReport, EngineError> {
        let mut rows: Vec<DeviceRow> = groups.iter().flatten().cloned().collect();
        rows.sort_by(|a, b| a.name.cmp(&b.name));
        let loaded = LoadedSet::load(self, &rows, settings, &[], &[])?;
        let by_name: BTreeMap<&str, &Snapshot> =
            loaded.devices.iter().map(|device| (device.name.as_str(), &device.snapshot)).collect();
        let of = |group: usize| -> Vec<&Snapshot> {
            groups[group].iter().filter_map(|row| by_name.get(row.name.as_str()).copied()).collect()
        };
        let groups = [of(0), of(1)];
        let found = contrast(&loaded.table, [&groups[0], &groups[1]]);
        let named = |at: usize| ContrastGroup { name: names[at].clone(), devices: groups[at].len(), as_of: None };
        Ok(self.contrast_report(&loaded, [named(0), named(1)], &found))
    }

    fn contrast_since(
        &self,
        name: &str,
        since: Timestamp,
        rows: &[DeviceRow],
        settings: TableSettings,
    ) -> Result<ContrastReport, EngineError> {
        let past: Vec<PastDevice> = rows.iter().map(|row| PastDevice { name: row.name.clone(), at: since }).collect();
        let mut loaded = LoadedSet::load(self, rows, settings, &[], &past)?;
        let mut before = Vec::new();
        for row in rows {
            before.extend(loaded.state_at(&row.name, since)?);
        }
        let before: Vec<&Snapshot> = before.iter().collect();
        let now: Vec<&Snapshot> = loaded.devices.iter().map(|device| &device.snapshot).collect();
        let found = contrast(&loaded.table, [&before, &now]);
        let groups = [
            ContrastGroup { name: name.to_owned(), devices: before.len(), as_of: Some(since) },
            ContrastGroup { name: name.to_owned(), devices: now.len(), as_of: None },
        ];
        Ok(self.contrast_report(&loaded, groups, &found))
    }

    fn contrast_report(&self, loaded: &LoadedSet<'_>, groups: [ContrastGroup; 2], found: &Contrast) -> ContrastReport {
        let table: &FactTable<'_> = &loaded.table;
        let place = |id: &PlaceId| table.place(*id).clone();
        let names = |ids: &[PlaceId]| ids.iter().map(|id| table.place(*id).to_string()).collect();
        let facts = found.facts.iter().map(|fact| ContrastRow {
            place: place(&fact.place),
            by: fact.by,
            value: match fact.by {
                ContrastBy::Value { value, .. } => Some(table.value_datum(value)),
                ContrastBy::Presence { .. } | ContrastBy::Number { .. } => None,
            },
            p: fact.p,
            q: fact.q,
            folded: fact.folded.iter().map(place).collect(),
        });
        let too_small = groups.iter().filter(|group| group.devices < LEAST_DEVICES).map(|group| group.name.clone());
        ContrastReport {
            at: self.at,
            tried: found.tried,
            facts: facts.collect(),
            same: found.same,
            left_out: names(&found.left_out),
            in_both: Vec::new(),
            not_ranked: names(&found.not_ranked),
            too_small: too_small.collect(),
            idle_patterns: loaded.idle_patterns.clone(),
            groups,
        }
    }
}
