//! A log of sign-ins decided again: the numbers, what each access rule did, where it came otherwise, and lines that are not counted.

use fencepost_core::{Cause, Effect, Stage};
use fencepost_engine::{CauseLine, MOST_KEPT, Replayed, Surprise};
use serde_json::{Value as Json, json};

use super::access::cause;
use super::json::{self, SCHEMA};
use super::style::Styles;
use super::table::{Cell, Column, Table, wrap};
use super::text::{count, harmless};
use super::time::Clock;

/// Maximum number of surprises, bad lines and names that are shown; JSON has more.
const MOST_TOLD: usize = 10;

pub struct ReplayPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
}

impl ReplayPage<'_> {
    pub fn render(&self, found: &Replayed) -> String {
        let [permit, reduced, deny] = found.effects;
        let mut out = format!(
            "{} decided: {permit} permitted, {reduced} with obligations, {deny} denied\n",
            count(found.sign_ins, "sign-in", "sign-ins")
        );
        let style = if found.surprised > 0 { self.styles.strong } else { self.styles.faint };
        let surprises = count(found.surprised, "comes", "come");
        out.push_str(&format!("{style}{surprises} otherwise than the log says{style:#}\n"));
        if found.unmatched > 0 {
            let many = if found.unmatched == 1 { "is" } else { "are" };
            out.push_str(&format!(
                "{} {many} met by no enforced access rule: the service's default decides\n",
                found.unmatched
            ));
        }
        self.surprises(&mut out, found);
        self.rules(&mut out, found);
        self.notes(&mut out, found);
        out
    }

    fn surprises(&self, out: &mut String, found: &Replayed) {
        if found.surprises.is_empty() {
            return;
        }
        let mut table = Table::new(&[
            ("LINE", Column::Number),
            ("AT", Column::Fixed),
            ("PERSON", Column::Fixed),
            ("DEVICE", Column::Fixed),
            ("SERVICE", Column::Fixed),
            ("LOG", Column::Fixed),
            ("HERE", Column::Fixed),
            ("BECAUSE", Column::Text),
        ]);
        for one in found.surprises.iter().take(MOST_TOLD) {
            let style = if one.effect == Effect::Deny { self.styles.bad } else { self.styles.good };
            table.row(vec![
                Cell::new(one.line.to_string()),
                Cell::new(self.clock.moment(one.at)),
                Cell::new(&one.person),
                Cell::new(one.device.as_deref().unwrap_or("-")),
                Cell::new(&one.service),
                Cell::new(one.recorded.as_str()),
                Cell::styled(one.effect.as_str(), style),
                Cell::new(because(one)),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.width, self.styles));
        more(out, found.surprised, "");
    }

    fn rules(&self, out: &mut String, found: &Replayed) {
        let mut table = Table::new(&[
            ("ACCESS RULE", Column::Fixed),
            ("", Column::Fixed),
            ("TARGETED", Column::Number),
            ("EXCUSED", Column::Number),
            ("MET", Column::Number),
            ("UNMET", Column::Number),
            ("UNKNOWN", Column::Number),
        ]);
        for rule in &found.rules {
            let stage = if rule.stage == Stage::Enforced { "" } else { rule.stage.as_str() };
            let mut cells = vec![Cell::new(&rule.id), Cell::styled(stage, self.styles.faint)];
            let counts = [rule.targeted, rule.excused, rule.met, rule.unmet, rule.unknown];
            cells.extend(counts.map(|count| Cell::new(count.to_string())));
            table.row(cells);
        }
        if !table.is_empty() {
            out.push('\n');
            out.push_str(&table.render(self.width, self.styles));
        }
    }

    fn notes(&self, out: &mut String, found: &Replayed) {
        let mut notes = Vec::new();
        let names = |names: &[String]| {
            let more = names.len().saturating_sub(MOST_TOLD);
            let rest = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("{}{rest}", names.iter().take(MOST_TOLD).map(String::as_str).collect::<Vec<_>>().join(", "))
        };
        if !found.unknown_devices.is_empty() {
            notes.push(format!("not known to the ledger then, taken as strange: {}", names(&found.unknown_devices)));
        }
        if !found.unknown_people.is_empty() {
            notes.push(format!("on no list of people: {}", names(&found.unknown_people)));
        }
        if found.bad > 0 {
            notes.push(format!("{} not counted:", count(found.bad, "line is", "lines are")));
        }
        let bad = found.bad_lines.iter().take(MOST_TOLD).map(|bad| format!("  line {}: {}", bad.line, bad.because));
        notes.extend(bad);
        if !notes.is_empty() {
            out.push('\n');
        }
        for note in notes {
            for part in wrap(&harmless(&note), self.width) {
                out.push_str(&format!("{part}\n"));
            }
        }
        more(out, found.bad, "  ");
    }
}

fn more(out: &mut String, all: u64, pad: &str) {
    if let Some(more) = all.checked_sub(MOST_TOLD as u64).filter(|more| *more > 0) {
        out.push_str(&format!("{pad}and {more} more, in --format json (the first {MOST_KEPT})\n"));
    }
}

fn line(cause: &Cause) -> CauseLine {
    CauseLine { cause: cause.clone(), title: None, fix: None }
}

/// Why it was decided so.
fn because(one: &Surprise) -> String {
    match one.effect {
        Effect::Permit if one.access_rules.is_empty() => "the service's default permits".to_owned(),
        Effect::Permit => format!("{} met", one.access_rules.join(", ")),
        Effect::Deny => one.causes.iter().map(|one| cause(&line(one))).collect::<Vec<_>>().join("; "),
    }
}

pub fn replayed(found: &Replayed) -> Json {
    let [permit, reduced, deny] = found.effects;
    json!({
        "schema": SCHEMA, "signins": found.sign_ins,
        "effects": { "permit": permit, "reduced": reduced, "deny": deny },
        "rules": found.rules.iter().map(|rule| json!({
            "access_rule": rule.id, "stage": rule.stage.as_str(), "targeted": rule.targeted, "excused": rule.excused,
            "met": rule.met, "unmet": rule.unmet, "unknown": rule.unknown,
        })).collect::<Vec<_>>(),
        "unmatched": found.unmatched,
        "bad": found.bad,
        "bad_lines": found.bad_lines.iter().map(|bad| json!({ "line": bad.line, "because": bad.because })).collect::<Vec<_>>(),
        "surprised": found.surprised,
        "surprises": found.surprises.iter().map(surprise).collect::<Vec<_>>(),
        "unknown_devices": found.unknown_devices,
        "unknown_people": found.unknown_people,
    })
}

fn surprise(one: &Surprise) -> Json {
    json!({
        "line": one.line, "at": one.at.to_string(), "person": one.person, "device": one.device, "service": one.service,
        "recorded": one.recorded.as_str(), "effect": one.effect.as_str(), "access_rules": one.access_rules,
        "causes": one.causes.iter().map(|one| json::cause(&line(one))).collect::<Vec<_>>(),
    })
}

pub const COLUMNS: [&str; 9] =
    ["line", "at", "person", "device", "service", "recorded", "effect", "access_rules", "because"];

pub fn rows(found: &Replayed) -> Vec<Json> {
    let row = |one: &Surprise| {
        json!({
            "schema": SCHEMA, "line": one.line, "at": one.at.to_string(), "person": one.person, "device": one.device,
            "service": one.service, "recorded": one.recorded.as_str(), "effect": one.effect.as_str(),
            "access_rules": one.access_rules.join(", "), "because": because(one),
        })
    };
    found.surprises.iter().map(row).collect()
}
