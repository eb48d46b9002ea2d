//! Baselines: what they came to, and how much of them devices meet.

use fencepost_engine::{BaselineCounts, BaselineReport, RuleCount, TogetherCounts};
use serde_json::{Value as Json, json};

use super::Page;
use super::json::SCHEMA;
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless, percent};

impl Page<'_> {
    /// What a baseline is, and whom it covers.
    pub fn baseline_heading(&self, report: &BaselineReport) -> String {
        let strong = self.styles.strong;
        let title = report.title.as_ref().map(|title| format!("  {}", harmless(title))).unwrap_or_default();
        let mut out = format!("{strong}{}{strong:#}{title}\n", harmless(&report.id));
        let covers = match (&report.covers, report.groups.is_empty()) {
            (None, true) => "nobody by itself; it describes what others have in common".to_owned(),
            (None, false) => report.groups.join(", "),
            (Some(covers), true) => covers.clone(),
            (Some(covers), false) => format!("{}, where {covers}", report.groups.join(", ")),
        };
        let lines =
            [("covers", covers), ("extends", report.extends.join(", ")), ("base of", report.extended_by.join(", "))];
        for (word, text) in lines.into_iter().filter(|(_, text)| !text.is_empty()) {
            out.push_str(&labelled(word, &harmless(&text), self.width, self.styles));
        }
        out
    }

    /// How much of a baseline the devices meet, and what of it.
    pub fn baseline(&self, report: &BaselineReport, counts: Option<&BaselineCounts>) -> String {
        let mut out = self.baseline_heading(report);
        let Some(counts) = counts else { return out };
        out.push_str(&format!("\n{}\n\n", met(&counts.met)));
        let mut table = Table::new(&[
            ("RULE", Column::Fixed),
            ("EXPECTED", Column::Text),
            ("", Column::Fixed),
            ("PASS", Column::Number),
            ("FAIL", Column::Number),
            ("UNKNOWN", Column::Number),
            ("WAIVED", Column::Number),
            ("SHARE", Column::Number),
        ]);
        let number = |number: u64, style| match number {
            0 => Cell::styled(if self.unicode { "·" } else { "-" }, self.styles.faint),
            some => Cell::styled(some.to_string(), style),
        };
        for count in &counts.rules {
            let says =
                report.expectations.iter().find(|one| one.rule == count.rule).map_or("", |one| one.says.as_str());
            let stage = if count.stage == "enforced" { "" } else { count.stage.as_str() };
            let plain = anstyle::Style::new();
            table.row(vec![
                Cell::new(&count.rule),
                Cell::new(says),
                Cell::styled(stage, self.styles.faint),
                number(count.pass, plain),
                number(count.fail, self.styles.bad),
                number(count.unknown, self.styles.unproven),
                number(count.waived, plain),
                Cell::new(percent(count.share())),
            ]);
        }
        out.push_str(&table.render(self.width, self.styles));
        out
    }
}

/// `19 of 20 devices meet all of it (95 %); 1 meets some of it`.
fn met(counts: &TogetherCounts) -> String {
    if counts.devices == 0 {
        return "It covers no device".to_owned();
    }
    let mut out = format!(
        "{} of {} meet all of it ({})",
        counts.all_met,
        count(counts.devices, "device", "devices"),
        percent(counts.share())
    );
    let others = [
        (counts.some_met, "meets some of it", "meet some of it"),
        (counts.none_met, "meets none of it", "meet none of it"),
        (counts.unknown, "cannot be told", "cannot be told"),
        (counts.waived, "has something waived", "have something waived"),
    ];
    for (number, one, many) in others.into_iter().filter(|(number, ..)| *number > 0) {
        out.push_str(&format!("; {}", count(number, one, many)));
    }
    out
}

/// How much of a baseline devices meet, as JSON, without its rules.
pub fn document(id: &str, counts: Option<&BaselineCounts>, at: jiff::Timestamp) -> Json {
    let mut document = json!({ "schema": SCHEMA, "baseline": id, "as_of": at.to_string() });
    if let Some(BaselineCounts { met, .. }) = counts {
        for (key, value) in [
            ("devices", json!(met.devices)),
            ("all_met", json!(met.all_met)),
            ("some_met", json!(met.some_met)),
            ("none_met", json!(met.none_met)),
            ("unknown", json!(met.unknown)),
            ("waived", json!(met.waived)),
            ("share", json!(met.share())),
        ] {
            document[key] = value;
        }
    }
    document
}

/// The columns of a rule of a baseline.
pub const COLUMNS: [&str; 8] = ["baseline", "rule", "stage", "pass", "fail", "unknown", "waived", "share"];

/// What a rule of a baseline came to, as JSON.
pub fn row(count: &RuleCount) -> Json {
    json!({
        "rule": count.rule, "stage": count.stage, "pass": count.pass, "fail": count.fail, "unknown": count.unknown,
        "waived": count.waived, "share": count.share(),
    })
}
