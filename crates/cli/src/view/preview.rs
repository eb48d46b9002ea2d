//! What edited rules would change: first people, then devices, then what was edited and what it does to rules, due moments and groups.

use std::collections::{BTreeMap, HashMap};
use std::path::Path;

use fencepost_core::{AccessChange, Ruling, Stage, Standing};
use fencepost_engine::{Preview, SavedComparison, SignInId};
use serde_json::{Map, Value as Json, json};

use super::fence::{post, spaced};
use super::json::{SCHEMA, ruling};
use super::table::{Cell, Column, Table};
use super::text::{count, harmless, without_another_way};
use super::time::Clock;
use crate::ui::Ui;

/// So many devices are named in a line.
const NAMES: usize = 6;
/// Maximum number of people, and of definitions, that are shown.
const MOST_TOLD: usize = 12;

pub struct PreviewPage<'p> {
    pub ui: &'p Ui,
    /// Where the proposed files lie, where it is another folder.
    pub folder: Option<&'p Path>,
    pub clock: &'p Clock,
    /// What people call the services.
    pub titles: &'p HashMap<String, String>,
}

/// Decisions that change in the same way for one person, or for one device without a holder.
struct PersonLine<'f> {
    who: &'f str,
    person: Option<&'f str>,
    services: Vec<String>,
    change: Option<AccessChange>,
    call_first: bool,
    /// Devices with the sign-in.
    with: Vec<String>,
    before: String,
    after: String,
}

impl PersonLine<'_> {
    /// Returns whether two rows differ only in their services and devices.
    fn is_like(&self, other: &Self) -> bool {
        self.person == other.person
            && (self.change, self.call_first) == (other.change, other.call_first)
            && (&self.before, &self.after) == (&other.before, &other.after)
    }
}

fn names(devices: &[String]) -> String {
    let shown: Vec<&str> = devices.iter().take(NAMES).map(String::as_str).collect();
    let more = devices.len().saturating_sub(NAMES);
    let rest = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{rest}", shown.join(", "))
}

impl PreviewPage<'_> {
    pub fn render(&self, found: &Preview) -> String {
        let what = match self.folder {
            Some(folder) => format!("the rules in {}", harmless(&folder.display().to_string())),
            None => "the edited workspace".to_owned(),
        };
        let against = found.against.map(|number| format!(" against assessment {number}")).unwrap_or_default();
        let mut out = format!("Preview of {what}{against}, as of {}\n", self.clock.full(found.at));
        if found.changes_nothing() {
            let same = match (found.same, found.definitions.is_empty()) {
                (true, _) => "The rules are the same",
                (_, true) => "No definition is another",
                (_, false) => "No verdict, due moment or decision would be another",
            };
            out.push_str(&format!("{same}: nothing would change on {}\n", count(found.devices, "device", "devices")));
            self.besides(&mut out, found);
            self.definitions(&mut out, found);
            return out;
        }
        self.summary(&mut out, found);
        self.besides(&mut out, found);
        self.definitions(&mut out, found);
        self.people(&mut out, found);
        self.due(&mut out, found);
        self.messages(&mut out, found);
        self.verdicts(&mut out, found);
        self.standings(&mut out, found);
        self.groups(&mut out, found);
        out
    }

    pub fn summary(&self, out: &mut String, found: &Preview) {
        let who = |change: AccessChange| {
            let own = found.access.people.iter().filter(|flip| flip.change == change);
            own.map(|flip| flip.person.as_str()).collect::<std::collections::BTreeSet<_>>()
        };
        let lost = who(AccessChange::Lost);
        let alone = found.access.people.iter().filter(|flip| flip.call_first).map(|flip| flip.person.as_str());
        let alone = alone.collect::<std::collections::BTreeSet<_>>().len();
        let only = |change| who(change).difference(&lost).count();
        if !found.access.decisions.is_empty() {
            let bad = if lost.is_empty() { self.ui.styles.faint } else { self.ui.styles.bad };
            let alone = without_another_way(lost.len() as u64, alone as u64);
            out.push_str(&format!(
                "{bad}{} would lose a way to a service{alone}{bad:#}; {} only reduced, {} restored\n",
                count(lost.len() as u64, "person", "people"),
                only(AccessChange::Reduced),
                only(AccessChange::Restored),
            ));
        }
        let [worse, better] =
            [true, false].map(|worse| found.standings.iter().filter(|flip| flip.is_worse() == Some(worse)).count());
        out.push_str(&format!(
            "{} of {} would stand otherwise: {worse} worse, {better} better; {} would open, {} would close\n",
            found.standings.len(),
            count(found.devices, "device", "devices"),
            count(found.opened, "finding", "findings"),
            found.closed,
        ));
    }

    /// Tells what the next assessment changes even without the edits.
    fn besides(&self, out: &mut String, found: &Preview) {
        if found.decided_otherwise_anyway > 0 {
            let sign_ins = count(found.decided_otherwise_anyway, "sign-in", "sign-ins");
            out.push_str(&format!(
                "Besides, the next assessment decides {sign_ins} otherwise than the last one by the same rules: what came in since, and time\n",
            ));
        }
    }

    fn definitions(&self, out: &mut String, found: &Preview) {
        if found.definitions.is_empty() {
            return;
        }
        let columns =
            [("EDITED", Column::Fixed), ("KEY", Column::Fixed), ("NOW", Column::Text), ("THEN", Column::Text)];
        let mut table = Table::new(&columns);
        for change in found.definitions.iter().take(MOST_TOLD) {
            let name = format!("{} {}", change.definition.kind, change.definition.id);
            let (Some(before), Some(after)) = (&change.before, &change.after) else {
                let cells = [if change.before.is_none() { "" } else { "as it is" }, change.change()];
                table.row(vec![Cell::new(name), Cell::new(""), Cell::new(cells[0]), Cell::new(cells[1])]);
                continue;
            };
            let keys: std::collections::BTreeSet<&String> = before.keys().chain(after.keys()).collect();
            for (at, key) in keys.into_iter().enumerate() {
                let said = |own: &Map<String, Json>| own.get(key).map_or_else(|| "not said".to_owned(), in_words);
                let name = if at == 0 { name.clone() } else { String::new() };
                table.row(vec![Cell::new(name), Cell::new(key), Cell::new(said(before)), Cell::new(said(after))]);
            }
        }
        out.push('\n');
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        self.more(out, found.definitions.len(), "definition", "definitions");
    }

    fn more(&self, out: &mut String, all: usize, one: &str, many: &str) {
        if let Some(more) = all.checked_sub(MOST_TOLD).filter(|more| *more > 0) {
            out.push_str(&format!(
                "and {}, in --format json\n",
                count(more as u64, &format!("more {one}"), &format!("more {many}"))
            ));
        }
    }

    pub fn people(&self, out: &mut String, found: &Preview) {
        let rows = self.person_rows(found);
        if rows.is_empty() {
            return;
        }
        let styles = &self.ui.styles;
        let columns = ["PERSON", "SERVICE", "", "WITH", "NOW", "THEN"];
        let kinds = [Column::Fixed, Column::Text, Column::Fixed, Column::Text, Column::Text, Column::Text];
        let mut table = Table::new(&std::array::from_fn::<_, 6, _>(|at| (columns[at], kinds[at])));
        let all = rows.len();
        for row in rows.into_iter().take(MOST_TOLD) {
            let (word, style) = match (row.change, row.call_first) {
                (Some(AccessChange::Lost), true) => ("loses it", styles.bad),
                (Some(AccessChange::Lost), false) => ("loses a way", styles.bad),
                (Some(AccessChange::Reduced), _) => ("reduced", styles.notice),
                (Some(AccessChange::Restored), _) => ("restored", styles.good),
                (None, _) => ("", styles.faint),
            };
            table.row(vec![
                Cell::new(row.who),
                Cell::new(row.services.join(", ")),
                Cell::styled(word, style),
                Cell::new(names(&row.with)),
                Cell::new(row.before),
                Cell::new(row.after),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.ui.width, styles));
        self.more(out, all, "row", "rows");
    }

    /// Tells what would be sent otherwise.
    pub fn messages(&self, out: &mut String, found: &Preview) {
        let columns = ["STEP", "ON", "NOW", "THEN", "TO"];
        let kinds = [Column::Fixed, Column::Fixed, Column::Number, Column::Number, Column::Number];
        let mut table = Table::new(&std::array::from_fn::<_, 5, _>(|at| (columns[at], kinds[at])));
        for flip in found.messages.iter().filter(|flip| flip.deliveries != flip.before) {
            table.row(vec![
                Cell::new(&flip.step),
                Cell::new(&flip.channel),
                Cell::new(flip.before.to_string()),
                Cell::new(flip.deliveries.to_string()),
                Cell::new(flip.receivers.to_string()),
            ]);
        }
        if !table.is_empty() {
            out.push_str("\nMessages and commands ready to be sent\n");
            out.push_str(&table.render(self.ui.width, &self.ui.styles));
        }
    }

    /// Groups the changed decisions by person; people without another way come first, and services with the same change are merged.
    fn person_rows<'f>(&self, found: &'f Preview) -> Vec<PersonLine<'f>> {
        let mut rows: Vec<PersonLine<'f>> = Vec::new();
        for flip in &found.access.decisions {
            let SignInId { device, person, service, client } = &flip.sign_in;
            let mut own = found.access.people.iter().filter(|it| Some(&it.person) == person.as_ref());
            let words = |ruling: &Option<Ruling>| ruling.as_ref().map_or_else(|| "none".to_owned(), Ruling::in_words);
            let row = PersonLine {
                who: person.as_ref().map_or("nobody's", |id| found.person_names.get(id).unwrap_or(id)),
                person: person.as_deref(),
                services: vec![self.titles.get(service).cloned().unwrap_or_else(|| service.clone())],
                change: flip.change(),
                call_first: person.is_none() || own.any(|it| it.service == *service && it.call_first),
                with: vec![format!("{device} ({client})")],
                before: words(&flip.before),
                after: words(&flip.after),
            };
            // First the ways to one service, then the services that are reached in the same ways.
            match rows.iter_mut().find(|known| known.services == row.services && known.is_like(&row)) {
                Some(known) => known.with.extend(row.with),
                None => rows.push(row),
            }
        }
        let mut merged: Vec<PersonLine<'f>> = Vec::new();
        for row in rows {
            match merged.iter_mut().find(|known| known.with == row.with && known.is_like(&row)) {
                Some(known) => known.services.extend(row.services),
                None => merged.push(row),
            }
        }
        merged.sort_by_key(|row| (row.change != Some(AccessChange::Lost) || !row.call_first, row.change));
        merged
    }

    /// Due moments that would move, and losses by time alone that would come at another moment.
    fn due(&self, out: &mut String, found: &Preview) {
        let mut lines: Vec<[String; 2]> = Vec::new();
        let mut by_rule: BTreeMap<&str, Vec<&fencepost_engine::DueFlip>> = BTreeMap::new();
        for flip in &found.access.due {
            by_rule.entry(&flip.rule).or_default().push(flip);
        }
        for (rule, flips) in by_rule {
            let earlier = flips.iter().filter(|flip| flip.after < flip.before).count() as u64;
            let later = flips.len() as u64 - earlier;
            let next = flips.iter().map(|flip| flip.after).min().map(|at| self.clock.both(at)).unwrap_or_default();
            let counts = [(earlier, "earlier"), (later, "later")].into_iter().filter(|(number, _)| *number > 0);
            let counts: Vec<String> = counts.map(|(number, word)| format!("{number} {word}")).collect();
            lines.push([rule.to_owned(), format!("due {}, the first {next}", counts.join(", "))]);
        }
        if !found.access.losing.is_empty() {
            let (sooner, less): (Vec<_>, Vec<_>) = found
                .access
                .losing
                .iter()
                .partition(|flip| flip.after.is_some_and(|after| flip.before.is_none_or(|before| after < before)));
            let counts = [(sooner.len(), "sooner, or at all"), (less.len(), "later, or not")].into_iter();
            let counts: Vec<String> =
                counts.filter(|(number, _)| *number > 0).map(|(number, word)| format!("{number} {word}")).collect();
            lines.push([
                "will lose".to_owned(),
                format!("sign-ins that time alone makes stricter: {}", counts.join(", ")),
            ]);
        }
        if lines.is_empty() {
            return;
        }
        let mut table = Table::new(&[("DUE", Column::Fixed), ("THEN", Column::Text)]);
        lines.into_iter().for_each(|line| table.row(line.into_iter().map(Cell::new).collect()));
        out.push('\n');
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
    }

    fn verdicts(&self, out: &mut String, found: &Preview) {
        if found.verdicts.is_empty() {
            return;
        }
        let styles = &self.ui.styles;
        let word = |word: Option<&str>| match word {
            Some("pass") => Cell::styled("pass", styles.good),
            Some("fail") => Cell::styled("fail", styles.bad),
            Some("unknown") => Cell::styled("unknown", styles.unproven),
            Some(_) => Cell::styled("not covered", styles.faint),
            None => Cell::styled("no rule", styles.faint),
        };
        let mut table = Table::new(&[
            ("RULE", Column::Fixed),
            ("NOW", Column::Fixed),
            ("THEN", Column::Fixed),
            ("DEVICES", Column::Number),
            ("", Column::Fixed),
            ("WHICH", Column::Text),
        ]);
        for flips in &found.verdicts {
            let trial = match (flips.stage_before, flips.stage) {
                (Some(Stage::Enforced), Some(Stage::Trial)) => "on trial then",
                (Some(Stage::Trial), Some(Stage::Enforced)) => "counts then",
                (_, Some(Stage::Trial)) => "on trial",
                _ => "",
            };
            table.row(vec![
                Cell::new(&flips.rule),
                word(flips.before),
                word(flips.after),
                Cell::new(flips.devices.len().to_string()),
                Cell::styled(trial, styles.faint),
                Cell::new(names(&flips.devices)),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.ui.width, styles));
    }

    fn standings(&self, out: &mut String, found: &Preview) {
        if found.standings.is_empty() {
            return;
        }
        let styles = &self.ui.styles;
        let mut by_change: BTreeMap<[Option<Standing>; 2], Vec<String>> = BTreeMap::new();
        for flip in &found.standings {
            by_change.entry([flip.before, flip.after]).or_default().push(flip.device.clone());
        }
        let mut table = Table::new(&[
            ("STANDS", Column::Fixed),
            ("THEN", Column::Fixed),
            ("DEVICES", Column::Number),
            ("WHICH", Column::Text),
        ]);
        let shown = |standing: Standing| {
            Cell::styled(format!("{} {}", post(standing, self.ui.unicode), spaced(standing)), styles.standing(standing))
        };
        for ([before, after], devices) in &by_change {
            table.row(vec![
                before.map_or_else(|| Cell::new("not judged yet"), shown),
                after.map_or_else(|| Cell::new("not judged any more"), shown),
                Cell::new(devices.len().to_string()),
                Cell::new(names(devices)),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.ui.width, styles));
    }

    fn groups(&self, out: &mut String, found: &Preview) {
        if found.groups.is_empty() {
            return;
        }
        let mut table = Table::new(&[
            ("GROUP", Column::Fixed),
            ("DEVICES", Column::Number),
            ("WORSE", Column::Number),
            ("BETTER", Column::Number),
        ]);
        for group in &found.groups {
            table.row(vec![
                Cell::new(&group.group),
                Cell::new(group.devices.to_string()),
                Cell::new(group.worse.len().to_string()),
                Cell::new(group.better.len().to_string()),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
    }
}

/// A value of a definition as it is shown.
fn in_words(value: &Json) -> String {
    match value {
        Json::String(text) => text.split_whitespace().collect::<Vec<_>>().join(" "),
        Json::Object(keys) => {
            let keys = keys.iter().map(|(key, value)| format!("{key} = {value}"));
            keys.collect::<Vec<_>>().join(", ")
        }
        other => other.to_string(),
    }
}

fn sign_in(own: &SignInId) -> Map<String, Json> {
    let parts = [
        ("device", json!(own.device)),
        ("person", json!(own.person)),
        ("service", json!(own.service)),
        ("client", json!(own.client)),
    ];
    parts.into_iter().map(|(key, value)| (key.to_owned(), value)).collect()
}

pub fn whole(found: &Preview) -> Json {
    let decision = |one: &Option<Ruling>| one.as_ref().map(|one| Json::Object(ruling(one)));
    let moment = |at: Option<jiff::Timestamp>| at.map(|at| at.to_string());
    let flips = &found.access;
    let decisions = flips.decisions.iter().map(|flip| {
        let mut out = sign_in(&flip.sign_in);
        out.insert("before".into(), json!(decision(&flip.before)));
        out.insert("after".into(), json!(decision(&flip.after)));
        out
    });
    let losing = flips.losing.iter().map(|flip| {
        let mut out = sign_in(&flip.sign_in);
        out.insert("before".into(), json!(moment(flip.before)));
        out.insert("after".into(), json!(moment(flip.after)));
        out
    });
    json!({
        "schema": SCHEMA, "as_of": found.at.to_string(), "against": found.against, "devices": found.devices,
        "opened": found.opened, "closed": found.closed, "decided_otherwise_anyway": found.decided_otherwise_anyway,
        "definitions": found.definitions.iter().map(|one| json!({
            "kind": one.definition.kind, "id": one.definition.id, "change": one.change(), "before": one.before, "after": one.after,
        })).collect::<Vec<_>>(),
        "decisions": decisions.collect::<Vec<_>>(),
        "people": flips.people.iter().map(|flip| json!({
            "person": flip.person, "service": flip.service, "change": flip.change.as_str(), "call_first": flip.call_first,
        })).collect::<Vec<_>>(),
        "due": flips.due.iter().map(|flip| json!({
            "device": flip.device, "rule": flip.rule, "before": flip.before.to_string(), "after": flip.after.to_string(),
        })).collect::<Vec<_>>(),
        "losing": losing.collect::<Vec<_>>(),
        "messages": found.messages.iter().map(|flip| json!({
            "channel": flip.channel, "step": flip.step, "deliveries": flip.deliveries, "people": flip.receivers,
            "before": flip.before,
        })).collect::<Vec<_>>(),
        "verdicts": found.verdicts.iter().map(|flips| json!({
            "rule": flips.rule, "stage_before": flips.stage_before.map(Stage::as_str), "stage": flips.stage.map(Stage::as_str), "before": flips.before, "after": flips.after,
            "devices": flips.devices,
        })).collect::<Vec<_>>(),
        "standings": found.standings.iter().map(|flip| json!({
            "device": flip.device, "before": flip.before.map(|standing| standing.as_str()), "after": flip.after.map(|standing| standing.as_str()),
        })).collect::<Vec<_>>(),
        "groups": found.groups.iter().map(|group| json!({
            "group": group.group, "devices": group.devices, "worse": group.worse, "better": group.better,
        })).collect::<Vec<_>>(),
    })
}

pub const COLUMNS: [&str; 8] = ["device", "what", "stage", "before", "after", "person", "service", "client"];

/// One row for each device and rule that would say otherwise, for each standing, and for each sign-in.
pub fn rows(found: &Preview) -> impl Iterator<Item = Json> {
    let verdicts = found.verdicts.iter().flat_map(|flips| {
        flips.devices.iter().map(move |device| {
            json!({
                "schema": SCHEMA, "device": device, "what": flips.rule, "stage": flips.stage.map(Stage::as_str),
                "before": flips.before, "after": flips.after, "person": null, "service": null, "client": null,
            })
        })
    });
    let standings = found.standings.iter().map(|flip| {
        json!({
            "schema": SCHEMA, "device": flip.device, "what": "standing", "stage": null,
            "before": flip.before.map(|standing| standing.as_str()), "after": flip.after.map(|standing| standing.as_str()),
            "person": null, "service": null, "client": null,
        })
    });
    let decisions = found.access.decisions.iter().map(|flip| {
        let words = |ruling: &Option<Ruling>| ruling.as_ref().map(Ruling::in_words);
        json!({
            "schema": SCHEMA, "device": flip.sign_in.device, "what": "decision", "stage": null, "before": words(&flip.before),
            "after": words(&flip.after), "person": flip.sign_in.person, "service": flip.sign_in.service, "client": flip.sign_in.client,
        })
    });
    verdicts.chain(standings).chain(decisions)
}

/// What came otherwise than a saved preview foresaw.
pub fn compared(found: &SavedComparison) -> String {
    let assessment = match found.assessment {
        Some(number) => format!("assessment {number}"),
        None => "the assessment".to_owned(),
    };
    let mut out =
        format!("{} came as foreseen, held against {assessment}\n", count(found.as_foreseen, "change", "changes"));
    for (title, lines) in [("Came otherwise", &found.otherwise), ("Was not foreseen", &found.not_foreseen)] {
        if !lines.is_empty() {
            out.push_str(&format!("\n{title}\n"));
        }
        for line in lines {
            let said = |word: &Option<String>| word.clone().unwrap_or_else(|| "none".to_owned());
            out.push_str(&format!(
                "  {}: {} foreseen, {} came\n",
                harmless(&line.what()),
                harmless(&said(&line.foreseen)),
                harmless(&said(&line.came)),
            ));
        }
    }
    out
}

pub fn saved_differences(found: &SavedComparison) -> Json {
    let line = |foreseen: bool| {
        move |line: &fencepost_engine::SavedDifference| {
            json!({
                "schema": SCHEMA, "device": line.device, "what": line.subject(), "was_foreseen": foreseen,
                "foreseen": line.foreseen, "came": line.came,
            })
        }
    };
    let otherwise = found.otherwise.iter().map(line(true));
    json!({
        "schema": SCHEMA, "assessment": found.assessment, "as_foreseen": found.as_foreseen,
        "differences": otherwise.chain(found.not_foreseen.iter().map(line(false))).collect::<Vec<_>>(),
    })
}
