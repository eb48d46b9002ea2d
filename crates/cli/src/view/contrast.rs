//! What sets two groups of devices apart.

use fencepost_core::drift::{CHANCE, ContrastBy, Place};
use fencepost_core::harmless;
use fencepost_engine::{ContrastReport, ContrastRow};
use fencepost_formats::json_of_value;
use serde_json::{Value as Json, json};

use super::drift::value;
use super::json::SCHEMA;
use super::style::Styles;
use super::table::{Cell, Column, Table, labelled};
use super::text::count;

pub struct ContrastPage<'p> {
    pub styles: &'p Styles,
    pub width: usize,
    /// Facts that may well differ by chance are told too.
    pub shows_chance: bool,
}

impl ContrastPage<'_> {
    pub fn render(&self, report: &ContrastReport) -> String {
        let [first, second] = &report.groups;
        let strong = self.styles.strong;
        let devices = |number: usize| count(number as u64, "device", "devices");
        let mut out = format!(
            "{strong}{}{strong:#} ({}) against {strong}{}{strong:#} ({})\n",
            harmless(&first.name),
            devices(first.devices),
            harmless(&second.name),
            devices(second.devices)
        );
        if !report.too_small.is_empty() {
            let names = report.too_small.iter().map(|name| harmless(name)).collect::<Vec<_>>().join(", ");
            out.push_str(&format!("Fewer than three devices tell nothing, so nothing is ranked: {names}.\n"));
        } else {
            self.rows(report, &mut out);
        }
        self.remarks(report, &mut out);
        out
    }

    fn rows(&self, report: &ContrastReport, out: &mut String) {
        let (told, chance): (Vec<&ContrastRow>, Vec<&ContrastRow>) =
            report.facts.iter().partition(|row| row.q <= CHANCE);
        match (told.is_empty(), report.facts.is_empty()) {
            (true, true) => out.push_str("Nothing sets them apart: every fact is alike on all of them.\n"),
            (true, false) => out.push_str("Nothing sets them apart that is more than chance would do.\n"),
            (false, _) => {
                out.push('\n');
                out.push_str(&self.table(report, &told));
            }
        }
        if chance.is_empty() {
            return;
        }
        let facts = count(chance.len() as u64, "more fact", "more facts");
        if self.shows_chance {
            let faint = self.styles.faint;
            out.push_str(&format!(
                "{faint}-- below here chance alone would do as much (q above {CHANCE}) --{faint:#}\n"
            ));
            out.push_str(&self.table(report, &chance));
        } else {
            out.push_str(&format!(
                "\n{facts} more, in which chance alone would do as much (q above {CHANCE}): --all\n"
            ));
        }
    }

    fn table(&self, report: &ContrastReport, rows: &[&ContrastRow]) -> String {
        let mut table = Table::new(&[
            ("FACT", Column::Fixed),
            ("", Column::Fixed),
            ("FIRST", Column::Number),
            ("SECOND", Column::Number),
            ("P", Column::Number),
            ("Q", Column::Number),
            ("GOES WITH IT", Column::Text),
        ]);
        for row in rows {
            let sizes = report.groups.each_ref().map(|group| group.devices);
            let (what, [first, second]) = match &row.by {
                ContrastBy::Value { holders, .. } => (value(row.value.as_ref()), shares(*holders, sizes)),
                ContrastBy::Presence { holders } => ("is reported".to_owned(), shares(*holders, sizes)),
                ContrastBy::Number { medians } => {
                    let shown = medians.map(|number| {
                        number.map_or_else(|| "none".to_owned(), |number| number.normalize().to_string())
                    });
                    ("median".to_owned(), shown)
                }
            };
            let folded: Vec<String> = row.folded.iter().map(Place::to_string).collect();
            table.row(vec![
                Cell::styled(row.place.to_string(), self.styles.strong),
                Cell::new(what),
                Cell::new(first),
                Cell::new(second),
                Cell::styled(small(row.p), self.styles.faint),
                Cell::styled(small(row.q), self.styles.faint),
                Cell::styled(folded.join(", "), self.styles.faint),
            ]);
        }
        table.render(self.width, self.styles)
    }

    fn remarks(&self, report: &ContrastReport, out: &mut String) {
        let list = |names: &[String]| names.iter().map(|name| harmless(name)).collect::<Vec<_>>().join(", ");
        let mut remarks = Vec::new();
        if report.too_small.is_empty() {
            let facts = count(report.same as u64, "fact is", "facts are");
            remarks.push((
                "same",
                format!("{facts} alike on every device; {} made", count(report.tried as u64, "test was", "tests were")),
            ));
        }
        if !report.left_out.is_empty() {
            remarks.push((
                "left out",
                format!("since the groups are made by it, or nearly all differ: {}", list(&report.left_out)),
            ));
        }
        if !report.in_both.is_empty() {
            remarks.push(("in both", format!("and so in neither: {}", list(&report.in_both))));
        }
        if !report.not_ranked.is_empty() {
            remarks.push(("too few", format!("report it for anything to be said: {}", list(&report.not_ranked))));
        }
        for pattern in &report.idle_patterns {
            remarks.push(("idle", format!("nothing that these devices report fits {}", harmless(pattern))));
        }
        if !remarks.is_empty() {
            out.push('\n');
        }
        for (word, text) in remarks {
            out.push_str(&labelled(word, &text, self.width, self.styles));
        }
    }
}

fn shares(holders: [usize; 2], sizes: [usize; 2]) -> [String; 2] {
    [0, 1].map(|at| format!("{} of {}", holders[at], sizes[at]))
}

/// A probability as a person reads it.
fn small(number: f64) -> String {
    if number < 0.0001 { format!("{number:.0e}") } else { format!("{number:.4}") }
}

/// The columns of facts as rows.
pub const COLUMNS: [&str; 11] =
    ["fact", "item", "field", "what", "value", "in_first", "in_second", "statistic", "p", "q", "folded"];

fn row(row: &ContrastRow) -> Json {
    let number = |number: &Option<rust_decimal::Decimal>| {
        number.map_or(Json::Null, |number| json_of_value(&fencepost_core::Value::Number(number)))
    };
    let [first, second] = match &row.by {
        ContrastBy::Value { holders, .. } | ContrastBy::Presence { holders } => holders.map(|count| json!(count)),
        ContrastBy::Number { medians } => medians.each_ref().map(number),
    };
    json!({
        "fact": row.place.fact, "item": row.place.item, "field": row.place.field, "what": row.by.as_str(),
        "value": row.value.as_ref().map(fencepost_formats::json_of_datum), "in_first": first, "in_second": second,
        "statistic": row.by.statistic(), "p": row.p, "q": row.q,
        "folded": row.folded.iter().map(Place::to_string).collect::<Vec<_>>(),
    })
}

pub fn rows(report: &ContrastReport) -> Vec<Json> {
    let with_schema = |one: &ContrastRow| {
        let mut out = row(one);
        out["schema"] = SCHEMA.into();
        out
    };
    report.facts.iter().map(with_schema).collect()
}

pub fn json(report: &ContrastReport) -> Json {
    let groups = report.groups.iter().map(|group| json!({ "name": group.name, "devices": group.devices }));
    // A device in both groups is left out as a fact is.
    let left_out: Vec<&String> = report.left_out.iter().chain(&report.in_both).collect();
    let not_ranked: Vec<&String> = report.not_ranked.iter().chain(&report.too_small).collect();
    json!({
        "schema": SCHEMA, "as_of": report.at.to_string(), "groups": groups.collect::<Vec<_>>(), "tried": report.tried,
        "facts": report.facts.iter().map(row).collect::<Vec<_>>(), "same": report.same, "left_out": left_out,
        "not_ranked": not_ranked,
    })
}
