//! What would come if something were enforced now: the numbers, the kinds of devices that are not ready, and whom to write to.

use fencepost_core::Stage;
use fencepost_engine::{NotReady, Readiness};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::access::cause;
use super::json::{self, SCHEMA};
use super::style::Styles;
use super::table::{Cell, Column, Table};
use super::text::{count, harmless, without_another_way};
use super::time::Clock;

/// Maximum number of rows that are shown; CSV has all of them.
const MOST_TOLD: usize = 12;

pub struct ReadinessPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
}

impl ReadinessPage<'_> {
    pub fn render(&self, found: &Readiness) -> String {
        let stage = match found.stage {
            Stage::Enforced => "already enforced",
            Stage::Trial => "on trial",
            Stage::Draft => "a draft",
        };
        let mut out = format!(
            "The {} {} ({stage}), if it were enforced now and its grace were over, as of {}\n",
            found.what.kind(),
            harmless(found.what.id()),
            self.clock.full(self.clock.now),
        );
        let unknown = match found.unknown {
            0 => String::new(),
            many => format!(", of {many} it is not known"),
        };
        out.push_str(&format!(
            "{} ready, {} not{unknown}\n",
            count(found.ready, "device is", "devices are"),
            found.not_ready
        ));
        let style = if found.denied > 0 { self.styles.bad } else { self.styles.good };
        let alone = without_another_way(found.denied, found.call_first);
        let denied = count(found.denied, "person", "people");
        out.push_str(&format!("{style}{denied} would be denied a service{alone}{style:#}\n"));
        if found.step_up_not_enrolled > 0 {
            let people = count(found.step_up_not_enrolled, "person", "people");
            out.push_str(&format!("{people} would be asked for a stronger sign-in without being enrolled in it\n"));
        }
        if found.terms_open > 0 {
            out.push_str(&format!(
                "{} terms to accept first\n",
                count(found.terms_open, "person would have", "people would have")
            ));
        }
        out.push_str(&format!("{} to expect at the helpdesk\n", count(found.calls, "call", "calls")));
        self.kinds(&mut out, found);
        self.list(&mut out, found);
        out
    }

    fn kinds(&self, out: &mut String, found: &Readiness) {
        if found.by.len() < 2 {
            return;
        }
        let mut table = Table::new(&[
            ("PLATFORM", Column::Fixed),
            ("MODEL", Column::Fixed),
            ("UNIT", Column::Fixed),
            ("NOT READY", Column::Number),
        ]);
        let text = |text: &Option<String>| Cell::new(text.as_deref().unwrap_or("-"));
        for kind in found.by.iter().take(MOST_TOLD) {
            let cells =
                vec![text(&kind.platform), text(&kind.model), text(&kind.unit), Cell::new(kind.devices.to_string())];
            table.row(cells);
        }
        out.push('\n');
        out.push_str(&table.render(self.width, self.styles));
        more(out, found.by.len(), "kind", "kinds");
    }

    fn list(&self, out: &mut String, found: &Readiness) {
        if found.list.is_empty() {
            return;
        }
        let mut table = Table::new(&[
            ("PERSON", Column::Fixed),
            ("DEVICE", Column::Fixed),
            ("WOULD BE", Column::Text),
            ("BECAUSE", Column::Text),
        ]);
        for one in found.list.iter().take(MOST_TOLD) {
            let name = one.contact.name.as_ref().or(one.person.as_ref()).map_or("nobody's", String::as_str);
            let style = if one.call_first { self.styles.bad } else { anstyle::Style::new() };
            let causes: Vec<String> = one.causes.iter().map(cause).collect();
            table.row(vec![
                Cell::styled(name, style),
                Cell::new(&one.device),
                Cell::new(fate(one)),
                Cell::new(causes.join("; ")),
            ]);
        }
        out.push('\n');
        out.push_str(&table.render(self.width, self.styles));
        more(out, found.list.len(), "row", "rows");
    }
}

fn more(out: &mut String, all: usize, one: &str, many: &str) {
    if let Some(more) = all.checked_sub(MOST_TOLD).filter(|more| *more > 0) {
        let more = count(more as u64, &format!("more {one}"), &format!("more {many}"));
        out.push_str(&format!("and {more}, in --format csv\n"));
    }
}

/// Describes the effect on one person.
fn fate(one: &NotReady) -> String {
    let mut parts = Vec::new();
    if !one.denied.is_empty() {
        let alone = if one.call_first { ", with no other way" } else { "" };
        parts.push(format!("denied {}{alone}", one.denied.join(", ")));
    }
    if !one.step_up.is_empty() {
        parts.push(format!("asked for a stronger sign-in to {}", one.step_up.join(", ")));
    }
    if !one.terms.is_empty() {
        parts.push(format!("asked to accept {}", one.terms.join(", ")));
    }
    if parts.is_empty() { "denied nothing more".to_owned() } else { parts.join("; ") }
}

pub fn readiness(found: &Readiness, as_of: Timestamp) -> Json {
    let row = |one: &NotReady| {
        json!({
            "device": one.device, "person": one.person, "causes": one.causes.iter().map(json::cause).collect::<Vec<_>>(),
            "platform": one.platform, "model": one.model, "unit": one.contact.unit, "person_name": one.contact.name,
            "mail": one.contact.mail, "phone": one.contact.phone, "lead": one.contact.lead, "denied": one.denied,
            "step_up": one.step_up, "terms": one.terms, "call_first": one.call_first,
        })
    };
    json!({
        "schema": SCHEMA, "as_of": as_of.to_string(), "rule": found.what.id(), "kind": found.what.kind(),
        "stage": found.stage.as_str(),
        "devices": { "ready": found.ready, "not_ready": found.not_ready, "unknown": found.unknown },
        "people": {
            "denied": found.denied, "call_first": found.call_first, "step_up_not_enrolled": found.step_up_not_enrolled,
            "terms_open": found.terms_open,
        },
        "calls": found.calls,
        "by": found.by.iter().map(|kind| json!({
            "platform": kind.platform, "model": kind.model, "unit": kind.unit, "not_ready": kind.devices,
        })).collect::<Vec<_>>(),
        "not_ready": found.list.iter().map(row).collect::<Vec<_>>(),
    })
}

pub const COLUMNS: [&str; 15] = [
    "person",
    "person_name",
    "mail",
    "phone",
    "lead",
    "unit",
    "device",
    "platform",
    "model",
    "denied",
    "step_up",
    "terms",
    "call_first",
    "causes",
    "do",
];

pub fn rows(found: &Readiness) -> Vec<Json> {
    let row = |one: &NotReady| {
        let causes: Vec<String> = one.causes.iter().map(cause).collect();
        let mut fixes: Vec<&str> = one.causes.iter().filter_map(|line| line.fix.as_deref()).collect();
        fixes.dedup();
        json!({
            "schema": SCHEMA, "person": one.person, "person_name": one.contact.name, "mail": one.contact.mail,
            "phone": one.contact.phone, "lead": one.contact.lead, "unit": one.contact.unit, "device": one.device,
            "platform": one.platform, "model": one.model, "denied": one.denied.join(", "),
            "step_up": one.step_up.join(", "), "terms": one.terms.join(", "), "call_first": one.call_first, "causes": causes.join("; "),
            "do": fixes.join("; "),
        })
    };
    found.list.iter().map(row).collect()
}
