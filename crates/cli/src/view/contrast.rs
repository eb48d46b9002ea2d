//! What sets two groups of devices apart.

use fencepost_core::drift::{CHANCE, ContrastBy, Place};
use fencepost_core::{Dictionary, harmless};
use fencepost_engine::{ContrastGroup, ContrastReport, ContrastRow};
use fencepost_formats::json_of_value;
use rust_decimal::Decimal;
use serde_json::{Value as Json, json};

use super::drift::value;
use super::json::SCHEMA;
use super::style::Styles;
use super::table::{Cell, Column, Measured, labelled};
use super::text::{count, in_unit};
use super::time::Clock;

pub struct ContrastPage<'p> {
    /// What is said of facts, for their units.
    pub dictionary: &'p Dictionary,
    pub clock: &'p Clock,
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
            self.name(first),
            devices(first.devices),
            self.name(second),
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

    fn name(&self, group: &ContrastGroup) -> String {
        let as_of = group.as_of.map(|at| format!(" as of {}", self.clock.full(at))).unwrap_or_default();
        format!("{}{as_of}", harmless(&group.name))
    }

    fn rows(&self, report: &ContrastReport, out: &mut String) {
        let (told, chance): (Vec<&ContrastRow>, Vec<&ContrastRow>) =
            report.facts.iter().partition(|row| row.q <= CHANCE);
        let shown: Vec<&ContrastRow> =
            told.iter().chain(chance.iter().filter(|_| self.shows_chance)).copied().collect();
        let cells: Vec<Vec<Cell>> = shown.iter().map(|row| self.cells(report, row)).collect();
        let mut measured = Measured::new(HEADINGS.iter().map(|(heading, _)| (*heading).to_owned()));
        cells.iter().for_each(|cells| measured.add(cells));
        let layout = measured.layout(&HEADINGS.map(|(_, column)| column), 0, self.width);
        let mut lines = cells.iter().map(|cells| {
            let mut line = String::new();
            layout.render_row(cells, &mut line);
            line
        });
        match (told.is_empty(), report.facts.is_empty()) {
            (true, true) => out.push_str("Nothing sets them apart: every fact is alike on all of them.\n"),
            (true, false) => out.push_str("Nothing sets them apart that is more than chance would do.\n"),
            (false, _) => {
                out.push('\n');
                out.push_str(&layout.headings(self.styles));
                out.extend(lines.by_ref().take(told.len()));
            }
        }
        if chance.is_empty() {
            return;
        }
        if self.shows_chance {
            let faint = self.styles.faint;
            out.push_str(&format!(
                "{faint}-- below here chance alone would do as much (q above {CHANCE}) --{faint:#}\n"
            ));
            out.extend(lines);
        } else {
            let facts = count(chance.len() as u64, "more fact", "more facts");
            out.push_str(&format!("\n{facts}, in which chance alone would do as much (q above {CHANCE}): --all\n"));
        }
    }

    fn cells(&self, report: &ContrastReport, row: &ContrastRow) -> Vec<Cell> {
        let unit = || self.dictionary.facts.get(&row.place.dictionary_path())?.unit.as_deref();
        let sizes = report.groups.each_ref().map(|group| group.devices);
        let (what, [first, second]) = match &row.by {
            ContrastBy::Value { holders, .. } => (value(row.value.as_ref()), shares(*holders, sizes)),
            ContrastBy::Presence { holders } => ("is reported".to_owned(), shares(*holders, sizes)),
            ContrastBy::Number { medians } => {
                let shown = |number: Option<Decimal>| match number {
                    Some(number) => in_unit(number.normalize().to_string(), unit()),
                    None => "none".to_owned(),
                };
                ("median".to_owned(), medians.map(shown))
            }
        };
        let folded: Vec<String> = row.folded.iter().map(Place::to_string).collect();
        vec![
            Cell::styled(row.place.to_string(), self.styles.strong),
            Cell::new(what),
            Cell::new(first),
            Cell::new(second),
            Cell::styled(small(row.p), self.styles.faint),
            Cell::styled(small(row.q), self.styles.faint),
            Cell::styled(folded.join(", "), self.styles.faint),
        ]
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

const HEADINGS: [(&str, Column); 7] = [
    ("FACT", Column::Fixed),
    ("", Column::Fixed),
    ("FIRST", Column::Number),
    ("SECOND", Column::Number),
    ("P", Column::Number),
    ("Q", Column::Number),
    ("GOES WITH IT", Column::Text),
];

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
    let number = |number: &Option<Decimal>| {
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
    let name = |group: &ContrastGroup| match group.as_of {
        Some(at) => format!("{}@{at}", group.name),
        None => group.name.clone(),
    };
    let groups = report.groups.iter().map(|group| json!({ "name": name(group), "devices": group.devices }));
    // A device in both groups is left out as a fact is.
    let left_out: Vec<&String> = report.left_out.iter().chain(&report.in_both).collect();
    let not_ranked: Vec<&String> = report.not_ranked.iter().chain(&report.too_small).collect();
    json!({
        "schema": SCHEMA, "as_of": report.at.to_string(), "groups": groups.collect::<Vec<_>>(), "tried": report.tried,
        "facts": report.facts.iter().map(row).collect::<Vec<_>>(), "same": report.same, "left_out": left_out,
        "not_ranked": not_ranked,
    })
}
