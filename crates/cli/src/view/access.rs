//! Who loses access: one block a change, and for each person and device what shut the door and what to do.

use fencepost_core::LossCause;
use fencepost_engine::{AccessEntry, AccessReport};

use super::style::Styles;
use super::table::{Cell, Column, Table};
use super::text::{count, harmless};
use super::time::Clock;

/// What the rows are grouped by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum By {
    /// One heading for each person
    Person,
    /// One heading for each service
    Service,
    /// One heading for each site
    Site,
    /// One heading for each rule that shuts the door
    Rule,
}

pub struct AccessPage<'p> {
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub by: Option<By>,
    pub denied: bool,
}

impl AccessPage<'_> {
    pub fn render(&self, report: &AccessReport) -> String {
        let mut out = String::new();
        let since = report.since.map_or_else(
            || "nothing earlier to compare with".to_owned(),
            |at| format!("since {}", self.clock.full(at)),
        );
        out.push_str(&format!(
            "Access as of {} ({}), {since}\n",
            self.clock.full(report.as_of),
            self.clock.zone_name()
        ));
        let people = |entries: &[AccessEntry]| {
            let mut keys: Vec<(&Option<String>, &str)> = entries
                .iter()
                .map(|entry| (&entry.person, if entry.person.is_none() { entry.device.as_str() } else { "" }))
                .collect();
            keys.sort();
            keys.dedup();
            keys.len() as u64
        };
        let bad = self.styles.bad;
        let lost = count(people(&report.lost), "person loses", "people lose");
        let losing = count(people(&report.losing), "person is", "people are");
        out.push_str(&format!(
            "{bad}{lost} a service{bad:#}; {} reduced, {} restored; {losing} about to lose one\n",
            people(&report.reduced),
            people(&report.restored),
        ));
        let sections: [(&str, &[AccessEntry], bool); 4] = [
            ("Lost", &report.lost, false),
            ("Reduced", &report.reduced, false),
            ("Restored", &report.restored, false),
            ("Will lose, if nothing changes", &report.losing, true),
        ];
        for (title, entries, ahead) in sections {
            self.section(&mut out, title, entries, ahead);
        }
        if self.denied {
            self.section(&mut out, "Denied now", &report.denied, false);
        } else if !report.denied.is_empty() {
            let standing = people(&report.denied);
            out.push_str(&format!(
                "\n{} denied a service by an access rule now: fencepost access --denied\n",
                count(standing, "person or device is", "people or devices are")
            ));
        }
        out
    }

    fn section(&self, out: &mut String, title: &str, entries: &[AccessEntry], ahead: bool) {
        if entries.is_empty() {
            return;
        }
        let strong = self.styles.strong;
        out.push_str(&format!("\n{strong}{title}{strong:#}\n"));
        let merged = merge_clients(entries);
        match self.by {
            None => self.table(out, &merged, ahead, 2),
            Some(by) => {
                let mut keys: Vec<String> = merged.iter().flat_map(|line| heading(line.entry, by)).collect();
                keys.sort();
                keys.dedup();
                for key in keys {
                    let own: Vec<Line<'_>> =
                        merged.iter().filter(|line| heading(line.entry, by).contains(&key)).cloned().collect();
                    out.push_str(&format!("  {} ({})\n", harmless(&key), own.len()));
                    self.table(out, &own, ahead, 4);
                }
            }
        }
    }

    fn table(&self, out: &mut String, lines: &[Line<'_>], ahead: bool, indent: usize) {
        let moment = if ahead { "FROM" } else { "SINCE" };
        let mut table = Table::new(&[
            ("PERSON", Column::Fixed),
            ("SERVICE", Column::Fixed),
            ("WITH", Column::Fixed),
            (moment, Column::Fixed),
            ("BECAUSE", Column::Text),
            ("WHAT TO DO", Column::Text),
        ])
        .indent(indent);
        let mut before: Option<&AccessEntry> = None;
        for line in lines {
            let entry = line.entry;
            let same = before.is_some_and(|before| {
                before.device == entry.device
                    && before.because == entry.because
                    && before.moment == entry.moment
                    && before.cause == entry.cause
            });
            let person = match (&entry.person_name, &entry.person) {
                (Some(name), _) => name.clone(),
                (None, Some(id)) => id.clone(),
                (None, None) => "nobody's".to_owned(),
            };
            let service = if entry.decision == "permit" || entry.decision == "deny" {
                format!("{} ({})", entry.service_title, line.clients.join(", "))
            } else {
                format!("{} ({}): {}", entry.service_title, line.clients.join(", "), entry.decision)
            };
            let (because, fix) =
                if same { ("the same".to_owned(), String::new()) } else { (because(entry), what_to_do(entry)) };
            let when = if ahead { self.clock.both(entry.moment) } else { self.clock.moment(entry.moment) };
            table.row(vec![
                Cell::new(person),
                Cell::new(service),
                Cell::new(&entry.device),
                Cell::new(when),
                Cell::new(because),
                Cell::styled(fix, self.styles.faint),
            ]);
            before = Some(entry);
        }
        out.push_str(&table.render(self.width, self.styles));
    }
}

#[derive(Clone)]
struct Line<'e> {
    entry: &'e AccessEntry,
    clients: Vec<&'e str>,
}

/// One line for all kinds of client of which the same is told.
fn merge_clients(entries: &[AccessEntry]) -> Vec<Line<'_>> {
    let mut lines: Vec<Line<'_>> = Vec::new();
    for entry in entries {
        let same = |line: &&mut Line<'_>| {
            let other = line.entry;
            other.device == entry.device
                && other.person == entry.person
                && other.service == entry.service
                && other.decision == entry.decision
                && other.moment == entry.moment
        };
        match lines.iter_mut().find(same) {
            Some(line) => line.clients.push(&entry.client),
            None => lines.push(Line { entry, clients: vec![&entry.client] }),
        }
    }
    lines
}

fn heading(entry: &AccessEntry, by: By) -> Vec<String> {
    match by {
        By::Person => {
            vec![entry.person_name.clone().or_else(|| entry.person.clone()).unwrap_or_else(|| "nobody's".to_owned())]
        }
        By::Service => vec![entry.service_title.clone()],
        By::Site => vec![entry.place.clone().unwrap_or_else(|| "(none)".to_owned())],
        By::Rule if entry.because.is_empty() => vec![cause(entry)],
        By::Rule => entry.because.iter().map(|because| because.rule.clone()).collect(),
    }
}

fn cause(entry: &AccessEntry) -> String {
    let rule = entry.access_rule.clone().unwrap_or_default();
    match entry.cause {
        Some(LossCause::Finding) => "a finding".to_owned(),
        Some(LossCause::Silence) => "silence".to_owned(),
        Some(LossCause::Uncovered) => "no enforced rule covers the device".to_owned(),
        Some(LossCause::Membership) => "no access rule lets them in".to_owned(),
        Some(LossCause::Condition) => format!("{rule} asks for more"),
        Some(LossCause::RuleChanged) => "the rules were changed".to_owned(),
        None => String::new(),
    }
}

fn because(entry: &AccessEntry) -> String {
    if entry.decision == "permit" {
        return format!("was shut by {}", cause(entry));
    }
    if entry.because.is_empty() {
        return cause(entry);
    }
    let said: Vec<String> =
        entry.because.iter().map(|because| format!("{}: {}", because.rule, because.title)).collect();
    said.join("; ")
}

fn what_to_do(entry: &AccessEntry) -> String {
    let mut parts: Vec<String> = Vec::new();
    for because in &entry.because {
        if let Some(fix) = &because.fix {
            parts.push(fix.clone());
        }
    }
    if entry.decision == "deny" && entry.person.is_some() {
        match &entry.other {
            Some(other) => parts.push(format!("Meanwhile {} still gets in.", other.device)),
            None => parts.push("No other device of theirs gets in: call first.".to_owned()),
        }
    }
    parts.join(" ")
}
