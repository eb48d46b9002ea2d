//! What is otherwise than at an earlier moment.

use fencepost_core::Finding;
use fencepost_engine::{AccessEntry, EditedDefinition, Since, StandingCounts};
use serde_json::{Value as Json, json};

use super::Page;
use super::json::{self, SCHEMA};
use super::table::{Cell, Column, Table};
use super::text::{count, percent};
use super::ways::whose;

/// So many rows of a list are told; the rest is left to the other formats.
const MOST_ROWS: usize = 30;

impl Page<'_> {
    /// What is otherwise than then.
    pub fn since(&self, since: &Since) -> String {
        let mut out = self.since_heading(since);
        let lists: [(&str, &[Finding]); 3] =
            [("Opened", &since.opened), ("Came back", &since.came_back), ("Closed", &since.closed)];
        for (title, findings) in lists.into_iter().filter(|(_, findings)| !findings.is_empty()) {
            out.push_str(&self.section(&format!("{title}: {}", findings.len())));
            out.push_str(&self.findings(findings));
        }
        let lists: [(&str, &[AccessEntry]); 3] =
            [("Lost", &since.lost), ("Reduced", &since.reduced), ("Regained", &since.regained)];
        for (title, entries) in lists.into_iter().filter(|(_, entries)| !entries.is_empty()) {
            let ways = count(entries.len() as u64, "way", "ways");
            out.push_str(&self.section(&format!("{title}: {ways} of {}", whose(entries.iter()))));
            out.push_str(&self.ways(entries.iter()));
        }
        if !since.edited.is_empty() {
            let turned = count(since.verdicts_turned, "verdict", "verdicts");
            out.push_str(&self.section(&format!("Edited; that alone turned {turned}")));
            out.push_str(&self.edited(&since.edited));
        }
        if since.came_and_went > 0 {
            let findings = count(since.came_and_went, "finding", "findings");
            out.push_str(&format!("\nIn between {findings} came and went, or went and came back\n"));
        }
        out
    }

    /// How many are compliant, and how many were.
    fn since_heading(&self, since: &Since) -> String {
        let strong = self.styles.strong;
        let (then, now) = (&since.from, &since.to);
        let StandingCounts { total, compliant, .. } = now.devices;
        let change = match compliant.cmp(&then.devices.compliant) {
            std::cmp::Ordering::Less => format!("{} fewer", then.devices.compliant - compliant),
            std::cmp::Ordering::Equal => "as many as then".to_owned(),
            std::cmp::Ordering::Greater => format!("{} more", compliant - then.devices.compliant),
        };
        let moved = since.opened.len() + since.came_back.len() + since.closed.len() + since.edited.len();
        let ways = since.lost.len() + since.reduced.len() + since.regained.len();
        let nothing = if moved + ways == 0 { "; nothing else is otherwise" } else { "" };
        format!(
            "{strong}Since {}{strong:#}: {compliant} of {} compliant ({}), {change}{nothing}\n",
            self.clock.full(then.as_of),
            count(total, "device", "devices"),
            percent(now.share())
        )
    }

    fn findings(&self, findings: &[Finding]) -> String {
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]).indent(2);
        for finding in findings.iter().take(MOST_ROWS) {
            let how = match finding.clock.closed {
                Some((at, reason)) => format!("{} {}", reason.as_str().replace('-', " "), self.clock.moment(at)),
                None => format!("due {}", self.clock.both(finding.clock.due_at(self.clock.now))),
            };
            table.row(vec![
                Cell::new(finding.device.as_str()),
                Cell::new(finding.subject.as_str()),
                Cell::styled(how, self.styles.faint),
            ]);
        }
        self.with_rest(&table, findings.len())
    }

    fn edited(&self, edited: &[EditedDefinition]) -> String {
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]).indent(2);
        for one in edited {
            let definition = &one.change.definition;
            let turned = one.verdicts_turned.map(|turned| format!(", turned {}", count(turned, "verdict", "verdicts")));
            table.row(vec![
                Cell::new(&definition.kind),
                Cell::new(&definition.id),
                Cell::new(format!("{}{}", one.change.change(), turned.unwrap_or_default())),
            ]);
        }
        table.render(self.width, self.styles)
    }

    fn with_rest(&self, table: &Table, all: usize) -> String {
        let rest = match all.saturating_sub(MOST_ROWS) {
            0 => String::new(),
            more => format!("  and {more} more; all of them with --format json\n"),
        };
        format!("{}{rest}", table.render(self.width, self.styles))
    }
}

/// What is otherwise, as JSON.
pub fn document(since: &Since) -> Json {
    let findings = |all: &[Finding]| all.iter().map(finding).collect::<Vec<_>>();
    let entries = |all: &[AccessEntry]| all.iter().map(|entry| json::entry(entry, "since")).collect::<Vec<_>>();
    json!({
        "schema": SCHEMA, "from": since.from.as_of.to_string(), "to": since.to.as_of.to_string(),
        "then": super::figures::row(&since.from), "now": super::figures::row(&since.to),
        "opened": findings(&since.opened), "closed": findings(&since.closed), "came_back": findings(&since.came_back),
        "came_and_went": since.came_and_went, "lost": entries(&since.lost), "reduced": entries(&since.reduced),
        "regained": entries(&since.regained), "edited": since.edited.iter().map(edited_row).collect::<Vec<_>>(),
        "verdicts_turned": since.verdicts_turned,
    })
}

fn finding(finding: &Finding) -> Json {
    let (closed, how) = finding.clock.closed.unzip();
    json!({
        "device": finding.device.as_str(), "rule": finding.subject.as_str(),
        "opened": finding.clock.opened.to_string(), "due": finding.clock.due.to_string(),
        "closed": closed.map(|at| at.to_string()), "how": how.map(|how| how.as_str()),
    })
}

fn edited_row(one: &EditedDefinition) -> Json {
    let definition = &one.change.definition;
    json!({
        "kind": definition.kind, "id": definition.id, "change": one.change.change(),
        "verdicts_turned": one.verdicts_turned,
    })
}

/// The columns of what is otherwise, a row for each.
pub const COLUMNS: [&str; 9] =
    ["what", "device", "rule", "person", "service", "client", "kind", "id", "verdicts_turned"];

/// What is otherwise, a row for each.
pub fn rows(since: &Since) -> Vec<Json> {
    let of_findings = |what: &str, all: &[Finding]| {
        let what = what.to_owned();
        let told = |one: &Finding| json!({ "schema": SCHEMA, "what": what, "device": one.device.as_str(), "rule": one.subject.as_str() });
        all.iter().map(told).collect::<Vec<_>>()
    };
    let of_entries = |what: &str, all: &[AccessEntry]| {
        let what = what.to_owned();
        let told = |one: &AccessEntry| {
            json!({
                "schema": SCHEMA, "what": what, "device": &*one.device, "person": one.person.as_deref(),
                "service": &*one.service, "client": &*one.client,
            })
        };
        all.iter().map(told).collect::<Vec<_>>()
    };
    let edited = since.edited.iter().map(|one| {
        let mut row = edited_row(one);
        row["schema"] = SCHEMA.into();
        row["what"] = row["change"].take();
        row
    });
    [
        of_findings("opened", &since.opened),
        of_findings("came-back", &since.came_back),
        of_findings("closed", &since.closed),
        of_entries("lost", &since.lost),
        of_entries("reduced", &since.reduced),
        of_entries("regained", &since.regained),
        edited.collect(),
    ]
    .concat()
}
