//! A waiver before it is written: what it covers, and what it would change.

use std::collections::HashMap;

use fencepost_core::{ClockAfterwards, Phase, VerdictOutcome, Waiver};
use fencepost_engine::{CoveredVerdict, WaiverEdit};
use jiff::Timestamp;
use serde_json::{Value as Json, json};

use super::json::SCHEMA;
use super::preview::{PreviewPage, whole};
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless};
use super::time::Clock;
use crate::ui::Ui;

pub struct WaiverPage<'p> {
    pub ui: &'p Ui,
    pub clock: &'p Clock,
    /// What people call the services.
    pub titles: &'p HashMap<String, String>,
}

/// How much of what a waiver covers is told one by one.
const LINES_SHOWN: usize = 8;

impl WaiverPage<'_> {
    pub fn render(&self, edit: &WaiverEdit) -> String {
        let mut out = String::new();
        if let Some(waiver) = edit.waiver() {
            self.heading(&mut out, waiver);
        }
        self.coverage(&mut out, edit);
        if let Some(found) = &edit.preview {
            out.push('\n');
            if found.changes_nothing() {
                out.push_str("Nobody's access and no device's standing would be another.\n");
            } else {
                let page = PreviewPage { ui: self.ui, folder: None, clock: self.clock, titles: self.titles };
                page.summary(&mut out, found);
                page.people(&mut out, found);
            }
        }
        out
    }

    fn heading(&self, out: &mut String, waiver: &Waiver) {
        let strong = self.ui.styles.strong;
        let rules: Vec<&str> = waiver.rules.iter().map(|named| named.text.as_str()).collect();
        out.push_str(&format!("{strong}{}{strong:#}  {}\n", waiver.id, harmless(&rules.join(", "))));
        let (from, until) = (self.clock.day(waiver.from), self.clock.end_of_day(waiver.until));
        self.told(out, "holds", &format!("from {from} to {until}"));
        if let Some(ended) = &waiver.ended {
            self.told(out, "ended", &format!("{}: {}", self.clock.full(ended.at), harmless(&ended.because)));
        }
        self.told(out, "because", &harmless(&waiver.because));
        self.told(out, "approved", &format!("by {}", harmless(&waiver.approved_by)));
        let then = match waiver.clock {
            ClockAfterwards::Keep => "the old due moments stand: what is due by then is overdue at once",
            ClockAfterwards::Afresh => "the grace begins anew",
        };
        self.told(out, "then", then);
    }

    fn coverage(&self, out: &mut String, edit: &WaiverEdit) {
        let coverage = &edit.coverage;
        let devices = count(coverage.devices, "device", "devices");
        let covers = match coverage.count {
            0 => format!("nothing that fails or is unknown now, on {devices}"),
            many => format!("{} on {devices}", count(many, "failure or unknown", "failures and unknowns")),
        };
        self.told(out, "covers", &covers);
        let columns = [("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)];
        let mut table = Table::new(&columns).indent(12);
        for covered in coverage.first.iter().take(LINES_SHOWN) {
            table.row(vec![
                Cell::new(&covered.device),
                Cell::new(covered.subject.as_str()),
                Cell::new(self.state_of(covered)),
            ]);
        }
        out.push_str(&table.render(self.ui.width, &self.ui.styles));
        let shown = coverage.first.len().min(LINES_SHOWN) as u64;
        if coverage.count > shown {
            out.push_str(&format!("{}and {} more\n", " ".repeat(12), coverage.count - shown));
        }
    }

    /// What is said of something that is covered, and how long that may last.
    fn state_of(&self, covered: &CoveredVerdict) -> String {
        let outcome = match covered.outcome {
            VerdictOutcome::Fail => "fails",
            _ => "unknown",
        };
        match covered.finding.as_ref().map(|finding| finding.phase(self.clock.now)) {
            Some(Phase::Open { due }) => format!("{outcome}, due {}", self.clock.both(due)),
            Some(Phase::Overdue { since }) => format!("{outcome}, overdue since {}", self.clock.both(since)),
            Some(Phase::Waived { until }) => format!("{outcome}, waived until {}", self.clock.both(until)),
            Some(Phase::Closed { .. }) | None => outcome.to_owned(),
        }
    }

    /// A line under a word, wrapped.
    fn told(&self, out: &mut String, word: &str, text: &str) {
        out.push_str(&labelled(word, text, self.ui.width, &self.ui.styles));
    }
}

/// An edit of a waiver as JSON.
pub fn waiver_json(edit: &WaiverEdit, as_of: Timestamp, written: bool) -> Json {
    let coverage = &edit.coverage;
    let covered = coverage.first.iter().map(|one| {
        let finding = one.finding.as_ref();
        json!({
            "device": one.device, "rule": one.subject.as_str(), "outcome": one.outcome.as_str(),
            "phase": finding.map(|finding| finding.phase(as_of).as_str()),
            "due": finding.map(|finding| finding.clock.due_at(as_of).to_string()),
        })
    });
    json!({
        "schema": SCHEMA,
        "waiver": edit.id,
        "as_of": as_of.to_string(),
        "from": edit.waiver().map(|waiver| waiver.from.to_string()),
        "until": edit.waiver().map(|waiver| waiver.ends().to_string()),
        "for_devices": coverage.devices,
        "covers": coverage.count,
        "covered": covered.collect::<Vec<_>>(),
        "preview": edit.preview.as_ref().map(whole),
        "written": written,
    })
}
