//! What was sent, or would be: first what came of it, then each delivery, then what waits for somebody.

use fencepost_engine::{
    ActionTold, ApprovalRequest, Brake, DeliveryContent, DeliveryLine, EngineError, OutboxLine, Project, SendReport,
    Spool, Unroutable, action_cells,
};
use jiff::Timestamp;
use serde_json::{Map, Value as Json, json};

use super::json::SCHEMA;
use super::table::{Cell, Column, Table, wrap};
use super::text::{count, harmless};
use super::time::Clock;
use crate::ui::Ui;

pub struct SendPage<'p> {
    pub ui: &'p Ui,
    pub clock: &'p Clock,
    pub project: &'p Project,
    pub is_dry_run: bool,
}

/// How many rows of a table are shown before the rest is counted.
const ROWS_SHOWN: usize = 40;
/// The same, of what waits behind the brake.
const ROWS_BEHIND_BRAKE: usize = 8;

impl SendPage<'_> {
    pub fn render(&self, report: &SendReport) -> Result<String, EngineError> {
        let mut out = String::new();
        self.heading(&mut out, report);
        if let Some(brake) = &report.brake {
            self.brake(&mut out, brake, report.is_other_code);
        }
        if self.is_dry_run {
            for line in report.delivered.iter() {
                self.in_full(&mut out, &line?);
            }
        } else {
            self.delivered(&mut out, report)?;
        }
        self.failures(&mut out, report)?;
        self.answers(&mut out, report);
        self.waiting(&mut out, "Held", &report.held);
        self.unroutable(&mut out, &report.unroutable);
        self.waiting(&mut out, "Withheld", &report.withheld);
        if !report.skipped.is_empty() {
            let notices = count(report.skipped.len() as u64, "earlier notice is", "earlier notices are");
            out.push_str(&format!("\n{notices} skipped: a later one of this run says it all\n"));
        }
        if report.to_fallback > 0 {
            let notices = count(report.to_fallback, "notice goes", "notices go");
            let fallback = self.project.config.send.fallback.as_deref().unwrap_or_default();
            out.push_str(&format!("\n{notices} to {fallback}, since nobody else could be told\n"));
        }
        Ok(out)
    }

    fn heading(&self, out: &mut String, report: &SendReport) {
        let strong = self.ui.styles.strong;
        let is_held = report.brake.is_some();
        let (what, word) = match (self.is_dry_run, is_held) {
            (true, true) => ("Nothing would be sent", "to deliver"),
            (true, false) => ("Would be sent", "to deliver"),
            (false, true) => ("Nothing was sent", "to deliver"),
            (false, false) => ("Sent", "delivered"),
        };
        let (moment, zone) = (self.clock.full(report.as_of), self.clock.zone_name());
        let others = [
            (report.failed.len(), "not delivered"),
            (report.held.len() as u64, "held"),
            (report.withheld.len() as u64, "withheld"),
        ];
        let others = others.iter().filter(|(number, _)| *number > 0).map(|(number, word)| format!(", {number} {word}"));
        let first = format!("{} {word}", report.delivered.len());
        out.push_str(&format!("{strong}{what}{strong:#}, as of {moment} ({zone})\n"));
        out.push_str(&format!("  {first}{}\n", others.collect::<String>()));
    }

    fn brake(&self, out: &mut String, brake: &Brake, is_other_code: bool) {
        let bad = self.ui.styles.bad;
        let share = self.project.config.send.brake * 100.0;
        let Brake { would, of, most, .. } = brake;
        let text = match brake.is_first {
            true => "The brake holds: after the first assessment of a ledger nothing goes out by itself.".to_owned(),
            false => format!(
                "The brake holds: {would} of {of} devices would be told of, commanded or newly denied something within a day, and \
                 {most} are allowed ({share}%)."
            ),
        };
        out.push('\n');
        wrap(&text, self.ui.width).iter().for_each(|line| out.push_str(&format!("{bad}{line}{bad:#}\n")));
        because(brake).iter().for_each(|line| out.push_str(&format!("  {line}\n")));
        if is_other_code {
            out.push_str("The code that was given is of another plan: what is to be sent has changed since.\n");
        }
        out.push_str(&format!("Once you have looked at it: fencepost send --go-on {}\n", brake.code));
    }

    /// What was delivered, or waits behind the brake, a line each.
    fn delivered(&self, out: &mut String, report: &SendReport) -> Result<(), EngineError> {
        let columns = ["TO", "ON", "WHAT", "ABOUT"];
        let columns = columns.map(|heading| (heading, if heading == "ABOUT" { Column::Text } else { Column::Fixed }));
        let mut table = Table::new(&columns);
        let shown = if report.brake.is_some() { ROWS_BEHIND_BRAKE } else { ROWS_SHOWN };
        for line in report.delivered.iter().take(shown) {
            let line = line?;
            let answer = line.answer.as_ref().map(|answer| format!(" ({answer})")).unwrap_or_default();
            table.row(vec![
                Cell::new(&line.to),
                Cell::new(&line.channel),
                Cell::new(steps_of(&line.actions)),
                Cell::new(format!("{}{answer}", about(&line))),
            ]);
        }
        if !table.is_empty() {
            out.push('\n');
            out.push_str(&table.render(self.ui.width, &self.ui.styles));
        }
        let command = if report.brake.is_some() { "send --dry-run" } else { "list deliveries" };
        more_than(shown, out, report.delivered.len(), command);
        Ok(())
    }

    /// A delivery with all that it says.
    fn in_full(&self, out: &mut String, line: &DeliveryLine) {
        let (strong, faint) = (self.ui.styles.strong, self.ui.styles.faint);
        let (to, steps) = (harmless(&line.to), steps_of(&line.actions));
        out.push_str(&format!("\n{strong}{to}{strong:#} on {}: {steps}\n", line.channel));
        let mut body = |heading: &str, text: &str| {
            out.push_str(&format!("  {heading}\n"));
            for line in text.trim_end().lines() {
                let line = harmless(line);
                let space = if line.is_empty() { "" } else { " " };
                out.push_str(&format!("  {faint}|{faint:#}{space}{line}\n"));
            }
        };
        match &line.content {
            Some(DeliveryContent::Message { subject, text, html }) => {
                body(&harmless(subject), text);
                if let Some(html) = html {
                    body("and as HTML", html);
                }
            }
            Some(DeliveryContent::Event(event)) => {
                let data = &event["data"];
                match (data["subject"].as_str(), data["text"].as_str()) {
                    (Some(subject), Some(text)) => body(&harmless(subject), text),
                    _ => {
                        let word = |key: &str| data[key].as_str().unwrap_or_default();
                        body("command", &format!("{} {}, since: {}", word("command"), word("device"), word("title")));
                    }
                }
            }
            None => {}
        }
    }

    fn failures(&self, out: &mut String, report: &SendReport) -> Result<(), EngineError> {
        if report.failed.is_empty() {
            return Ok(());
        }
        let bad = self.ui.styles.bad;
        out.push_str(&format!("\n{bad}Not delivered{bad:#}\n"));
        let mut table = Table::new(&untitled::<4>()).indent(2);
        for line in report.failed.iter().take(ROWS_SHOWN) {
            let line = line?;
            let doubt = if line.is_in_doubt { "; whether it went out is not known" } else { "" };
            table.row(vec![
                Cell::new(&line.to),
                Cell::new(&line.channel),
                Cell::new(steps_of(&line.actions)),
                Cell::new(format!("{}{doubt}", line.because.as_deref().unwrap_or_default())),
            ]);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        more(out, report.failed.len(), "list deliveries --where 'state != \"delivered\"'");
        if !self.is_dry_run {
            out.push_str("  It is tried again by a later send.\n");
        }
        Ok(())
    }

    fn answers(&self, out: &mut String, report: &SendReport) {
        if report.answers.is_empty() {
            return;
        }
        out.push_str("\nAnswered since\n");
        let mut table = Table::new(&untitled::<3>()).indent(2);
        for answer in &report.answers {
            let because = answer.because.as_deref().unwrap_or_default();
            table.row(vec![Cell::new(&answer.to), Cell::new(&answer.state), Cell::new(because)]);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
    }

    /// What waits for somebody, under a heading.
    fn waiting(&self, out: &mut String, heading: &str, lines: &[OutboxLine]) {
        if lines.is_empty() {
            return;
        }
        let notice = self.ui.styles.notice;
        out.push_str(&format!("\n{notice}{heading}{notice:#}\n"));
        let mut table = Table::new(&untitled::<5>()).indent(2);
        for line in lines.iter().take(ROWS_SHOWN) {
            let mut cells = named(line);
            cells.insert(0, Cell::new(line.action.id.to_string()));
            cells.push(Cell::new(line.because(self.project).unwrap_or_default()));
            table.row(cells);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        more(out, lines.len() as u64, "list actions");
    }

    fn unroutable(&self, out: &mut String, unroutable: &[Unroutable]) {
        if unroutable.is_empty() {
            return;
        }
        let bad = self.ui.styles.bad;
        out.push_str(&format!("\n{bad}No way out{bad:#}\n"));
        let mut table = Table::new(&untitled::<4>()).indent(2);
        for Unroutable { line, because } in unroutable.iter().take(ROWS_SHOWN) {
            let mut cells = named(line);
            cells.push(Cell::new(because));
            table.row(cells);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        more(out, unroutable.len() as u64, "list actions");
    }

    /// What somebody approved.
    pub fn approved(&self, lines: &[OutboxLine], request: &ApprovalRequest) -> String {
        let strong = self.ui.styles.strong;
        let actions = count(lines.len() as u64, "action", "actions");
        let (by, because) = (harmless(&request.by), harmless(&request.because));
        let mut out = format!("{strong}{actions} approved{strong:#} by {by}: {because}\n");
        let mut table = Table::new(&untitled::<4>()).indent(2);
        for line in lines {
            let mut cells = named(line);
            cells.insert(0, Cell::new(line.action.id.to_string()));
            table.row(cells);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        let settings = &self.project.config.send;
        let lapses = settings.approval_for.after(self.clock.now, &self.project.config.calendar);
        out.push_str(&format!("It holds until {}, and on the evidence of now alone.\n", self.clock.both(lapses)));
        out
    }
}

/// Columns without headings, the last of them for sentences.
fn untitled<const N: usize>() -> [(&'static str, Column); N] {
    let mut columns = [("", Column::Fixed); N];
    if let Some(last) = columns.last_mut() {
        last.1 = Column::Text;
    }
    columns
}

/// Device, rule and step of an action.
fn named(line: &OutboxLine) -> Vec<Cell> {
    let names = [line.finding.device.as_str(), line.finding.subject.as_str(), line.step.id.as_str()];
    names.into_iter().map(Cell::new).collect()
}

/// Says how many rows are not shown, and where they are.
fn more(out: &mut String, all: u64, command: &str) {
    more_than(ROWS_SHOWN, out, all, command);
}

fn more_than(shown: usize, out: &mut String, all: u64, command: &str) {
    let rest = all.saturating_sub(shown as u64);
    if rest > 0 {
        out.push_str(&format!("  and {rest} more: fencepost {command}\n"));
    }
}

/// The steps that a delivery takes, each once.
fn steps_of(actions: &[ActionTold]) -> String {
    let mut steps: Vec<&str> = Vec::new();
    for action in actions {
        if !steps.contains(&action.step.as_str()) {
            steps.push(&action.step);
        }
    }
    steps.join(", ")
}

/// What a delivery is about: devices, each with its rules.
fn about(line: &DeliveryLine) -> String {
    const DEVICES_SHOWN: usize = 3;
    let mut devices: Vec<(&str, Vec<&str>)> = Vec::new();
    for action in &line.actions {
        let rule = action.rule.as_deref().unwrap_or_default();
        match devices.iter_mut().find(|(device, _)| *device == action.device) {
            Some((_, rules)) if rules.contains(&rule) => {}
            Some((_, rules)) => rules.push(rule),
            None => devices.push((&action.device, vec![rule])),
        }
    }
    let told: Vec<String> =
        devices.iter().take(DEVICES_SHOWN).map(|(device, rules)| format!("{device}: {}", rules.join(", "))).collect();
    let more = match devices.len().saturating_sub(DEVICES_SHOWN) {
        0 => String::new(),
        more => format!("; {}", count(more as u64, "more device", "more devices")),
    };
    format!("{}{more}", told.join("; "))
}

/// How many of the rules are named for which the brake holds.
const RULES_SHOWN: usize = 3;

/// Why the brake holds, a part a line.
fn because(brake: &Brake) -> Vec<String> {
    let parts = [
        (brake.told, "would be told of now"),
        (brake.commanded, "would be commanded now"),
        (brake.before, "told of or commanded within the last 24 hours"),
        (brake.denied, "newly denied something within the last 24 hours"),
    ];
    let parts = parts.into_iter().filter(|(number, _)| *number > 0);
    let mut lines: Vec<String> =
        parts.map(|(number, what)| format!("{} {what}", count(number, "device", "devices"))).collect();
    let rules = brake.by_rule.iter().take(RULES_SHOWN);
    let rules: Vec<String> = rules.map(|(rule, devices)| format!("{rule} ({devices})")).collect();
    if !rules.is_empty() {
        let more = brake.by_rule.len().saturating_sub(RULES_SHOWN);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        lines.push(format!("for {}{more}", rules.join(", ")));
    }
    lines
}

/// What was sent as JSON.
pub fn send_json(report: &SendReport, project: &Project) -> Result<Json, EngineError> {
    let deliveries = |lines: &Spool<DeliveryLine>| {
        lines.iter().map(|line| line.map(|line| delivery_json(&line))).collect::<Result<Vec<_>, _>>()
    };
    let actions = |lines: &[OutboxLine]| lines.iter().map(|line| action_json(line, project)).collect::<Vec<_>>();
    let unroutable = report.unroutable.iter().map(|one| {
        let mut action = action_json(&one.line, project);
        (action["state"], action["because"]) = (json!("held"), json!(one.because));
        action
    });
    let mut held = actions(&report.held);
    held.extend(unroutable);
    let brake = report.brake.as_ref().map(|brake| {
        let mut why = because(brake);
        if brake.is_first {
            why.insert(0, "the first assessment of a ledger sends nothing by itself".to_owned());
        }
        json!({ "code": brake.code, "would": brake.would, "of": brake.of, "most": brake.most, "because": why })
    });
    let answers = report.answers.iter().map(
        |answer| json!({ "delivery": answer.key, "to": answer.to, "state": answer.state, "because": answer.because }),
    );
    Ok(json!({
        "schema": SCHEMA,
        "as_of": report.as_of.to_string(),
        "delivered": deliveries(&report.delivered)?,
        "failed": deliveries(&report.failed)?,
        "held": held,
        "withheld": actions(&report.withheld),
        "skipped": actions(&report.skipped),
        "answers": answers.collect::<Vec<_>>(),
        "to_fallback": report.to_fallback,
        "brake": brake,
    }))
}

fn delivery_json(line: &DeliveryLine) -> Json {
    let (mut subject, mut body, mut html, mut event) = (Json::Null, Json::Null, Json::Null, Json::Null);
    match &line.content {
        Some(DeliveryContent::Message { subject: about, text, html: as_html }) => {
            (subject, body, html) = (json!(about), json!(text), json!(as_html));
        }
        Some(DeliveryContent::Event(whole)) => {
            let data = &whole["data"];
            subject = if data["subject"].is_null() { data["command"].clone() } else { data["subject"].clone() };
            (body, event) = (data["text"].clone(), whole.clone());
        }
        None => {}
    }
    let actions: Vec<Json> = line
        .actions
        .iter()
        .map(|told| json!({ "action": told.action, "device": told.device, "rule": told.rule, "step": told.step }))
        .collect();
    json!({
        "delivery": line.key, "channel": line.channel, "to": line.to, "subject": subject, "body": body, "html": html,
        "event": event, "actions": actions, "answer": line.answer, "because": line.because, "in_doubt": line.is_in_doubt,
    })
}

fn action_json(line: &OutboxLine, project: &Project) -> Json {
    let cells = action_cells(line, project).into_iter().map(|(name, value)| (name.to_owned(), value));
    Json::Object(cells.collect::<Map<_, _>>())
}

/// An approval as JSON.
pub fn approval_json(lines: &[OutboxLine], request: &ApprovalRequest, as_of: Timestamp) -> Json {
    let approved = lines.iter().map(|line| {
        json!({
            "action": line.action.id.to_string(), "device": line.finding.device.as_str(),
            "rule": line.finding.subject.as_str(), "step": line.step.id.as_str(),
        })
    });
    json!({
        "schema": SCHEMA, "as_of": as_of.to_string(), "approved": approved.collect::<Vec<_>>(),
        "by": request.by, "because": request.because,
    })
}
