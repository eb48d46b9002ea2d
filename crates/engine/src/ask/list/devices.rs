//! Devices, with how they stand and what is asked of their facts.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};

use bumpalo::Bump;
use fencepost_core::{Condition, Diagnostic, Dictionary, Evaluator, Facts, GroupId, Layout, SlotId, Value, Vocabulary};
use fencepost_formats::json_of_value;
use serde_json::{Value as Json, json};

use super::rows::{Filter, PreparedRow, RowSink};
use super::{Column, ListQuery, Listing};
use crate::error::EngineError;
use crate::facts::judge::surroundings;
use crate::ledger_view::batch::Job;
use crate::ledger_view::reading::{Reading, Wanted};
use crate::ledger_view::survey::reported_paths;

impl Reading<'_> {
    pub(super) fn list_devices(&self, query: ListQuery<'_>) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        let ListQuery { filter, columns, by, .. } = query;
        let project = self.project;
        let columns = if columns.is_empty() {
            let mut names = vec!["device".to_owned(), "standing".to_owned()];
            names.extend(project.config.fence_by.clone());
            names.extend(["holder", "open", "overdue", "collected_at"].map(str::to_owned));
            names
        } else {
            columns.to_vec()
        };
        let is_shown = |name: &str| {
            columns.iter().map(String::as_str).chain(by).any(|column| column == name)
                || query.sorted_by().is_some_and(|(column, _)| column == name)
        };
        let mut layout = project.rules.layout().clone();
        let mut people = Layout::new(&Dictionary::default());
        let groups: Vec<GroupId> = project.rules.groups().map(|(id, ..)| id.clone()).collect();
        let rules: Vec<String> = project.rules.rules().iter().map(|rule| rule.id.to_string()).collect();
        let mut compiled = Filter::default();
        if let Some(filter) = filter {
            let dictionary = &project.dictionary;
            let mut vocabulary =
                Vocabulary { dictionary, layout: &mut layout, people: &mut people, groups: &groups, rules: &rules };
            match Filter::compile(filter, &mut vocabulary) {
                Ok(done) => compiled = done,
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        }
        // What the condition asks for, and whether some device reports it.
        let asked: BTreeMap<SlotId, AtomicBool> =
            compiled.condition.iter().flat_map(Condition::slots).map(|slot| (*slot, AtomicBool::new(false))).collect();
        const OWN: [&str; 9] =
            ["device", "standing", "holder", "open", "overdue", "collected_at", "groups", "sources", "absent"];
        let mut extra: Vec<(String, SlotId)> = Vec::new();
        let fence_by = project.config.fence_by.as_deref();
        for column in columns.iter().map(String::as_str).chain(by).chain(fence_by) {
            if !OWN.contains(&column) && !extra.iter().any(|(known, _)| known == column) {
                extra.push((column.to_owned(), layout.want(column, &project.dictionary)));
            }
        }
        let names: Vec<&str> = OWN.into_iter().chain(extra.iter().map(|(column, _)| column.as_str())).collect();
        let known = names.iter().map(|name| Column { name: (*name).to_owned(), is_usual: false }).collect();
        let mut sink = RowSink::new(ListQuery { columns: &columns, ..query }, known, None)?;
        let plan = sink.plan();
        let judge = self.judge();
        // Most devices are passed over, so their findings are left alone unless they are asked for.
        let asks_for_findings =
            project.rules.groups_read_standing() || compiled.condition.as_ref().is_some_and(Condition::reads_standing);
        let (shows_groups, shows_sources) = (is_shown("groups"), is_shown("sources"));
        let asks_for_groups = shows_groups || compiled.condition.iter().any(|asked| !asked.groups().is_empty());
        let read = compiled.condition.iter().flat_map(Condition::may_read).copied();
        let wanted: Vec<SlotId> = read.chain(extra.iter().map(|(_, slot)| *slot)).collect();
        let (posture, absences, at) = (self.posture(), self.reader.absences(self.run)?, self.at);
        let look = |job: &Job<'_>, facts: &Facts<'_>, arena: &Bump| {
            let device = job.device.name.as_str();
            let judged = judge.judged(device, facts, arena);
            let own = if asks_for_findings { posture.running(job)? } else { Vec::new() };
            let ambient = surroundings(posture.standing(job)?.map(|(standing, _)| standing), &own, arena);
            let standing = ambient.standing;
            let zone = &project.config.zone;
            let memberships = match asks_for_groups {
                true => project.rules.memberships_of_device(&judged.input, ambient, judge.at, zone, arena),
                false => &[],
            };
            if let Some(condition) = &compiled.condition {
                for (slot, seen) in &asked {
                    if facts.slot(*slot).origin.is_some() {
                        seen.store(true, Ordering::Relaxed);
                    }
                }
                let mut evaluator = Evaluator::new(Some(facts), at, zone, arena);
                evaluator.set_groups(memberships);
                evaluator.set_ambient(ambient);
                if !matches!(evaluator.holds(condition), Value::Boolean(true)) {
                    return Ok(None);
                }
            }
            let (open, overdue) = posture.counts(job)?;
            let member: Vec<&str> = groups
                .iter()
                .zip(memberships)
                .filter(|(id, value)| matches!(value, Value::Boolean(true)) && id.as_str() != "every-device")
                .map(|(id, _)| id.as_str())
                .collect();
            let sources = || facts.observations().iter().map(|said| said.source).collect::<Vec<_>>().join(", ");
            let mut cells = Vec::with_capacity(names.len());
            cells.extend([
                json!(device),
                json!(standing),
                json!(judged.holder_names()),
                json!(open - overdue),
                json!(overdue),
                json!(facts.collected().map(|moment| moment.to_string())),
                json!(member.join(", ")),
                if shows_sources { json!(sources()) } else { Json::Null },
                absences.get(device).map_or(Json::Null, |sources| json!(sources.join(", "))),
            ]);
            cells.extend(extra.iter().map(|(_, slot)| json_of_value(&facts.slot(*slot).value)));
            Ok(Some(plan.prepare(&[], cells)))
        };
        self.with_facts(&judge, &layout, Wanted::Whole(&wanted), look, |found: Option<PreparedRow>| match found {
            Some(row) => sink.push_prepared(row),
            None => {
                sink.pass_over();
                Ok(())
            }
        })?;
        let is_unseen = |seen: &AtomicBool| !seen.load(Ordering::Relaxed);
        if let (Some(filter), true) = (filter, asked.values().any(is_unseen)) {
            // Only a name that no device reports is worth looking through all of them for what was meant.
            let reported = Some(reported_paths(&self.reader)?);
            let dictionary = Dictionary { reported, ..project.dictionary.clone() };
            let mut vocabulary = Vocabulary {
                dictionary: &dictionary,
                layout: &mut layout.clone(),
                people: &mut people,
                groups: &groups,
                rules: &rules,
            };
            if let Ok(again) = Filter::compile(filter, &mut vocabulary) {
                compiled.warnings = again.warnings;
            }
        }
        Ok(Ok(Listing { warnings: compiled.warnings, ..sink.finish()? }))
    }
}
