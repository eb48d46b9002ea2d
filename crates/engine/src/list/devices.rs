//! Devices, with how they stand and what is asked of their facts.

use std::collections::{BTreeMap, BTreeSet};

use fencepost_core::{Condition, Diagnostic, Dictionary, Evaluator, GroupId, Layout, SlotId, Value, Vocabulary};
use fencepost_formats::json_of_value;
use serde_json::{Value as Json, json};

use super::{Filter, Listing, Row, compile_filter};
use crate::error::EngineError;
use crate::judge::surroundings;
use crate::reading::Reading;
use crate::survey::reported_paths;

impl Reading<'_> {
    pub(super) fn devices(
        &self,
        filter: Option<&str>,
        columns: &[String],
    ) -> Result<Result<Listing, Vec<Diagnostic>>, EngineError> {
        let project = self.project;
        let mut layout = project.rules.layout().clone();
        let mut people = Layout::new(&Dictionary::default());
        let groups: Vec<GroupId> = project.rules.groups().map(|(id, ..)| id.clone()).collect();
        let rules: Vec<String> = project.rules.rules().iter().map(|rule| rule.id.to_string()).collect();
        let mut compiled = Filter::default();
        if let Some(filter) = filter {
            let dictionary = &project.dictionary;
            let mut vocabulary =
                Vocabulary { dictionary, layout: &mut layout, people: &mut people, groups: &groups, rules: &rules };
            match compile_filter(filter, &mut vocabulary) {
                Ok(done) => compiled = done,
                Err(mistakes) => return Ok(Err(mistakes)),
            }
        }
        let mut unseen: BTreeSet<SlotId> =
            compiled.condition.iter().flat_map(|condition| condition.slots()).copied().collect();
        const OWN: [&str; 9] =
            ["device", "standing", "holder", "open", "overdue", "collected_at", "groups", "sources", "absent"];
        let extra: Vec<(String, _)> = columns
            .iter()
            .chain(&project.config.fence_by)
            .filter(|column| !OWN.contains(&column.as_str()))
            .map(|column| (column.clone(), layout.want(column, &project.dictionary)))
            .collect();
        let standings = self.standings()?;
        let judge = self.judge();
        // Most devices are passed over, so their findings are left alone unless they are asked for.
        let asks_for_findings =
            project.rules.groups_read_standing() || compiled.condition.as_ref().is_some_and(Condition::reads_standing);
        let findings = if asks_for_findings { self.findings(None, false)? } else { BTreeMap::new() };
        let wanted: Vec<SlotId> = unseen.iter().copied().chain(extra.iter().map(|(_, slot)| *slot)).collect();
        let (mut rows, mut total) = (Vec::new(), 0);
        self.for_each_with_facts(&judge, &layout, &wanted, |row, facts, arena| {
            let device = row.name.as_str();
            total += 1;
            let judged = judge.judged(device, facts, arena);
            let own = findings.get(device).map_or(&[][..], Vec::as_slice);
            let ambient = surroundings(standings.get(device).map(|(standing, _)| *standing), own, arena);
            let standing = ambient.standing;
            let zone = &project.config.zone;
            let memberships = project.rules.memberships_of_device(&judged.input, ambient, judge.at, zone, arena);
            if let Some(condition) = &compiled.condition {
                unseen.retain(|slot| facts.slot(*slot).origin.is_none());
                let mut evaluator = Evaluator::new(Some(facts), self.at, zone, arena);
                evaluator.set_groups(memberships);
                evaluator.set_ambient(ambient);
                if !matches!(evaluator.holds(condition), Value::Boolean(true)) {
                    return Ok(());
                }
            }
            let of_device = if asks_for_findings { Vec::new() } else { self.running_of(row)? };
            let own = if asks_for_findings { own } else { &of_device };
            let overdue = own.iter().filter(|finding| finding.due <= self.at).count();
            let holders: Vec<&str> = judged
                .input
                .holders
                .iter()
                .map(|holder| holder.person.map_or(holder.id, |person| person.name()))
                .collect();
            let mut cells = Row::new();
            cells.insert("device".into(), json!(device));
            cells.insert("standing".into(), json!(standing));
            cells.insert("holder".into(), if holders.is_empty() { Json::Null } else { json!(holders.join(", ")) });
            cells.insert("open".into(), json!(own.len() - overdue));
            cells.insert("overdue".into(), json!(overdue));
            cells.insert("collected_at".into(), json!(facts.collected().map(|moment| moment.to_string())));
            let member: Vec<&str> = groups
                .iter()
                .zip(memberships)
                .filter(|(id, value)| matches!(value, Value::Boolean(true)) && id.as_str() != "every-device")
                .map(|(id, _)| id.as_str())
                .collect();
            cells.insert("groups".into(), json!(member.join(", ")));
            let sources: Vec<&str> = facts.observations().iter().map(|said| said.source).collect();
            cells.insert("sources".into(), json!(sources.join(", ")));
            let absent: Vec<String> =
                self.reader.absences_of(device, self.run)?.into_iter().map(|(source, _)| source).collect();
            cells.insert("absent".into(), if absent.is_empty() { Json::Null } else { json!(absent.join(", ")) });
            for (column, slot) in &extra {
                cells.insert(column.clone(), json_of_value(&facts.slot(*slot).value));
            }
            rows.push(cells);
            Ok(())
        })?;
        if let (Some(filter), false) = (filter, unseen.is_empty()) {
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
            if let Ok(again) = compile_filter(filter, &mut vocabulary) {
                compiled.warnings = again.warnings;
            }
        }
        let columns = if columns.is_empty() {
            let mut names = vec!["device".to_owned(), "standing".to_owned()];
            names.extend(project.config.fence_by.clone());
            names.extend(["holder", "open", "overdue", "collected_at"].map(str::to_owned));
            names
        } else {
            columns.to_vec()
        };
        Ok(Ok(Listing { columns, rows, total, warnings: compiled.warnings }))
    }
}
