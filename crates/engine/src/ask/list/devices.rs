//! Devices, with how they stand and what is asked of their facts.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};

use bumpalo::Bump;
use fencepost_core::{
    Condition, Diagnostic, Dictionary, EVERY_DEVICE, Evaluator, Facts, GroupId, Layout, SlotId, Value, Vocabulary,
};
use fencepost_formats::json_of_value;
use serde_json::{Value as Json, json};

use super::rows::{Filter, PreparedRow, RowSink, Told};
use super::{Column, Kind, ListQuery, Listing};
use crate::assess::tally::known_paths;
use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::batch::Job;
use crate::ledger_view::device_facts::Wanted;
use crate::ledger_view::packed_findings::RunningCounts;
use crate::ledger_view::reading::Reading;
use crate::ledger_view::survey::reported_paths;
use crate::workspace::project::Project;

/// The columns of every device, besides its facts.
const OWN: [&str; 11] = [
    "device",
    "standing",
    "holder",
    "open",
    "overdue",
    "waived",
    "collected_at",
    "groups",
    "sources",
    "absent",
    "past_valid_until",
];

/// A condition over the facts of devices.
struct DeviceFilter<'f> {
    text: Option<&'f str>,
    condition: Option<Condition>,
    warnings: Vec<Diagnostic>,
    /// The facts that the condition asks for, each with whether some device reports it.
    asked: BTreeMap<SlotId, AtomicBool>,
}

impl<'f> DeviceFilter<'f> {
    /// Compiles a condition; the facts that it names are added to the layout.
    ///
    /// # Errors
    /// Returns the mistakes in it.
    fn compile(text: Option<&'f str>, project: &Project, layout: &mut Layout) -> Result<Self, Vec<Diagnostic>> {
        let Filter { condition, warnings } = match text {
            Some(text) => compile_filter(text, project, &project.dictionary, layout)?,
            None => Filter::default(),
        };
        let asked = condition.iter().flat_map(Condition::slots).map(|slot| (*slot, AtomicBool::new(false))).collect();
        Ok(Self { text, condition, warnings, asked })
    }

    fn asks_for_groups(&self) -> bool {
        self.condition.iter().any(|condition| !condition.groups().is_empty())
    }

    fn asks_for_findings(&self) -> bool {
        self.condition.as_ref().is_some_and(Condition::reads_standing)
    }

    /// Tells whether a device passes, by an evaluator that knows its groups and standing.
    fn tell<'a>(&'a self, facts: &'a Facts<'a>, evaluator: &mut Evaluator<'a>) -> Told {
        let Some(condition) = &self.condition else { return Told::Passes };
        for (slot, seen) in &self.asked {
            if facts.slot(*slot).origin.is_some() {
                seen.store(true, Ordering::Relaxed);
            }
        }
        Told::of(&evaluator.holds(condition))
    }

    /// Returns what is probably not as meant, with what was meant by names that no device reports.
    fn into_warnings(self, reading: &Reading<'_>, layout: &Layout) -> Result<Vec<Diagnostic>, EngineError> {
        let is_unseen = |seen: &AtomicBool| !seen.load(Ordering::Relaxed);
        // Only a name that no device reports is worth looking through all of them for what was meant.
        let Some(text) = self.text.filter(|_| self.asked.values().any(is_unseen)) else { return Ok(self.warnings) };
        let reported = Some(reported_paths(&reading.reader)?);
        let dictionary = Dictionary { reported, ..reading.project.dictionary.clone() };
        let again = compile_filter(text, reading.project, &dictionary, &mut layout.clone());
        Ok(again.map_or(self.warnings, |again| again.warnings))
    }
}

/// Returns the column that listed devices are sorted by; of counted ones it is a column of the counts.
fn sorted_by<'q>(query: &ListQuery<'q>) -> Option<&'q str> {
    query.sorted_by().map(|(column, _)| column).filter(|_| query.by.is_empty())
}

pub(crate) fn compile_filter(
    text: &str,
    project: &Project,
    dictionary: &Dictionary,
    layout: &mut Layout,
) -> Result<Filter, Vec<Diagnostic>> {
    let mut people = Layout::new(&Dictionary::default());
    let groups: Vec<GroupId> = project.rules.groups().map(|group| group.id.clone()).collect();
    let rules: Vec<String> = project.rules.rules().iter().map(|rule| rule.id.to_string()).collect();
    let mut vocabulary = Vocabulary { dictionary, layout, people: &mut people, groups: &groups, rules: &rules };
    Filter::compile(text, &mut vocabulary)
}

/// Returns the columns of every device, besides its facts.
pub(super) fn own_columns() -> Vec<Column> {
    super::columns(&[], &OWN)
}

/// Returns the columns that are shown unless others are asked for.
pub(super) fn usual_columns(project: &Project) -> Vec<String> {
    let mut names = vec!["device".to_owned(), "standing".to_owned()];
    names.extend(project.config.fence_by.clone());
    let waived = (!project.rules.waivers().is_empty()).then_some("waived");
    let names_at_the_end = ["holder", "open", "overdue"].into_iter().chain(waived).chain(["collected_at"]);
    names.extend(names_at_the_end.map(str::to_owned));
    names
}

impl Reading<'_> {
    /// Lists where devices belong, by the fact that parts the fence.
    pub(super) fn list_sites(&self, query: ListQuery<'_>) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        let Some(site) = self.project.config.fence_by.clone() else {
            return Err(EngineError::refused(
                "which fact says where devices belong is not written",
                "write fence_by = \"FACT\" in fencepost.toml, or: fencepost list devices --by FACT",
            ));
        };
        self.list_devices(ListQuery { kind: Kind::Devices, by: &[site], ..query })
    }

    /// Checks that columns are of devices, or facts that the dictionary declares, a rule reads or some device reports.
    fn check_facts<'c>(&self, columns: impl Iterator<Item = &'c str>) -> Result<(), EngineError> {
        let (dictionary, layout) = (&self.project.dictionary, self.project.rules.layout());
        let is_read = |path: &str| layout.slots().any(|slot| layout.slot_path(slot) == path);
        let odd: Vec<&str> =
            columns.filter(|path| !OWN.contains(path) && !dictionary.declares(path) && !is_read(path)).collect();
        if odd.is_empty() {
            return Ok(());
        }
        let reported = known_paths(&self.reader, |_| Ok(()))?;
        let known = Dictionary { reported: Some(reported.clone()), ..dictionary.clone() };
        match odd.into_iter().find(|path| !known.knows(path)) {
            None => Ok(()),
            Some(unknown) => {
                let own = OWN.into_iter().map(str::to_owned);
                let names: Vec<String> = own.chain(dictionary.facts.keys().cloned()).chain(reported).collect();
                let near = fencepost_core::nearest(unknown, names.iter().map(String::as_str));
                let help = match near {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "see the columns with: fencepost list devices --columns help, and the facts with: fencepost list facts".to_owned(),
                };
                let said = format!("there is no column and no fact `{}`", crate::error::escaped(unknown));
                Err(EngineError::refused(said, help))
            }
        }
    }

    pub(super) fn list_devices(&self, query: ListQuery<'_>) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        let project = self.project;
        let columns = if query.columns.is_empty() { usual_columns(project) } else { query.columns.to_vec() };
        self.check_facts(query.columns.iter().chain(query.by.iter()).map(String::as_str).chain(sorted_by(&query)))?;
        let query = ListQuery { columns: &columns, ..query };
        let mut layout = project.rules.layout().clone();
        let filter = match DeviceFilter::compile(query.filter, project, &mut layout) {
            Ok(filter) => filter,
            Err(mistakes) => return Ok(Err(mistakes)),
        };
        let mut extra: Vec<(String, SlotId)> = Vec::new();
        let fence_by = project.config.fence_by.as_deref();
        let asked = query.columns.iter().chain(query.by.iter()).map(String::as_str);
        for column in asked.chain(sorted_by(&query)).chain(fence_by) {
            if !OWN.contains(&column) && !extra.iter().any(|(known, _)| known == column) {
                extra.push((column.to_owned(), layout.want(column, &project.dictionary)));
            }
        }
        let names = OWN.into_iter().chain(extra.iter().map(|(column, _)| column.as_str()));
        let known = names.map(Column::named).collect();
        let mut sink = RowSink::new(query, known, None)?;
        let (plan, judge, posture) = (sink.plan(), self.judge(), self.posture());
        let (absences, at) = (self.reader.absences(self.run)?, self.at);
        let is_shown = |name: &str| {
            columns.iter().map(String::as_str).chain(query.by.iter().map(String::as_str)).any(|column| column == name)
                || query.sorted_by().is_some_and(|(column, _)| column == name)
        };
        // Most devices are passed over, so their findings are left alone unless they are asked for.
        let needs_findings = project.rules.groups_read_standing() || filter.asks_for_findings();
        let needs_groups = is_shown("groups") || filter.asks_for_groups();
        let shows_sources = is_shown("sources");
        let read = filter.condition.iter().flat_map(Condition::may_read).copied();
        let wanted: Vec<SlotId> = read.chain(extra.iter().map(|(_, slot)| *slot)).collect();
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let judged = judge.judged(device, facts, arena);
            let own = if needs_findings { posture.running(job)? } else { Vec::new() };
            let stands = posture.standing(job)?;
            let ambient = surroundings(stands.map(|found| found.standing), &own, at, arena);
            let zone = &project.config.calendar.zone;
            let memberships = match needs_groups {
                true => project.rules.memberships_of_device(&judged.input, ambient, judge.session(arena)),
                false => &[],
            };
            let mut evaluator = Evaluator::new(Some(facts), at, zone, arena);
            evaluator.set_groups(memberships);
            evaluator.set_ambient(ambient);
            let told = filter.tell(facts, &mut evaluator);
            if told != Told::Passes {
                return Ok(Err(told));
            }
            let RunningCounts { running, overdue, waived } = posture.counts(job)?;
            // What is unknown and waived has no finding.
            let waived_in_all = waived.max(usize::from(stands.is_some_and(|found| found.by_waiver)));
            let groups = project.rules.groups().zip(memberships);
            let member: Vec<&str> = groups
                .filter(|(group, value)| matches!(value, Value::Boolean(true)) && group.id.as_str() != EVERY_DEVICE)
                .map(|(group, _)| group.id.as_str())
                .collect();
            let sources = || facts.observations().iter().map(|said| said.source).collect::<Vec<_>>().join(", ");
            let mut cells = Vec::with_capacity(OWN.len() + extra.len());
            cells.extend([
                json!(device),
                json!(ambient.standing),
                json!(judged.holder_names()),
                json!(running - overdue - waived),
                json!(overdue),
                json!(waived_in_all),
                json!(facts.collected().map(|moment| moment.to_string())),
                json!(member.join(", ")),
                if shows_sources { json!(sources()) } else { Json::Null },
                absences.get(device).map_or(Json::Null, |sources| json!(sources.join(", "))),
                json!(job.before.as_ref().map(|row| row.valid_until <= at)),
            ]);
            cells.extend(extra.iter().map(|(_, slot)| json_of_value(&facts.slot(*slot).value)));
            Ok(Ok(plan.prepare(&[], cells)))
        };
        self.with_facts(
            &judge,
            Wanted::whole(&layout, &wanted),
            look,
            |found: Result<PreparedRow, Told>| match found {
                Ok(row) => sink.push_prepared(row),
                Err(Told::Not(reason)) => {
                    sink.pass_over_untold(reason);
                    Ok(())
                }
                Err(_) => {
                    sink.pass_over();
                    Ok(())
                }
            },
        )?;
        Ok(Ok(Listing { warnings: filter.into_warnings(self, &layout)?, ..sink.finish()? }))
    }
}
