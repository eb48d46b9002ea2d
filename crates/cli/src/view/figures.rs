//! The figures of the fleet over time.

use std::collections::BTreeSet;

use fencepost_core::{Standing, show_span};
use fencepost_engine::{AssessmentFigures, DriftTrend, FixTimes, FleetHistory};
use serde_json::{Value as Json, json};

use super::Page;
use super::fence::{post, spaced};
use super::table::{Cell, Column, Table};
use super::text::{count, harmless, percent};

/// In less room than this, standings are headed by their marks.
const WIDE: usize = 126;

/// The figures of assessments as a table, oldest first, and below it how the share and each set went.
pub fn show(history: &FleetHistory, page: &Page<'_>) -> String {
    let Page { clock, styles, width, unicode } = *page;
    let figures = history.assessments.as_slice();
    let is_narrow = width < WIDE;
    let heads = Standing::ALL.map(|standing| match is_narrow {
        true => post(standing, unicode).to_string(),
        false => spaced(standing).to_uppercase(),
    });
    let [compliant, on_notice, unproven, non_compliant] = &heads;
    let mut table = Table::new(&[
        ("AS OF", Column::Fixed),
        (if is_narrow { "ALL" } else { "DEVICES" }, Column::Number),
        (compliant, Column::Number),
        (on_notice, Column::Number),
        (unproven, Column::Number),
        (non_compliant, Column::Number),
        ("OPENED", Column::Number),
        (if is_narrow { "BACK" } else { "CAME BACK" }, Column::Number),
        (if is_narrow { "DUE" } else { "FELL DUE" }, Column::Number),
        ("CLOSED", Column::Number),
        (if is_narrow { "LATE" } else { "OVERDUE" }, Column::Number),
        (if is_narrow { "OUT" } else { "SHUT OUT" }, Column::Number),
    ]);
    for one in figures {
        let (devices, findings) = (one.devices, one.findings);
        let number = |number: u64| match number {
            0 => Cell::styled(if unicode { "·" } else { "-" }, styles.faint),
            some => Cell::new(some.to_string()),
        };
        let mut cells = vec![Cell::styled(clock.moment(one.as_of), styles.faint), number(devices.total)];
        cells.extend([devices.compliant, devices.on_notice, devices.unproven, devices.non_compliant].map(number));
        cells.extend([findings.opened, findings.came_back, findings.fell_due, findings.closed].map(number));
        cells.extend([one.overdue, one.shut_out].map(|counted| counted.map_or_else(Cell::default, number)));
        table.row(cells);
    }
    let mut out = table.render(width, styles);
    if is_narrow {
        let meaning = |standing: Standing| format!("{} {}", post(standing, unicode), spaced(standing));
        out.push_str(&format!("\n{}\n", Standing::ALL.map(meaning).join("   ")));
        out.push_str("BACK came back   DUE fell due   LATE overdue by then   OUT people shut out of a service\n");
    }
    let mut trends = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]);
    let shares: Vec<Option<f64>> = figures.iter().map(AssessmentFigures::share).collect();
    let ends = [shares.first(), shares.last()].map(|share| percent(share.copied().flatten()));
    let in_words = if ends[0] == ends[1] { ends[1].clone() } else { format!("{}, from {}", ends[1], ends[0]) };
    let strong = |text: &str| Cell::styled(text, styles.strong);
    trends.row(vec![strong("compliant"), Cell::new(marks(&shares, unicode)), Cell::new(in_words)]);
    for trend in figures.last().map_or(&[][..], |last| &last.drift) {
        let differing: Vec<Option<f64>> =
            figures.iter().map(|one| one.drift_of(&trend.set).map(|then| then.counts.differ as f64)).collect();
        trends.row(vec![
            strong(&format!("drift {}", harmless(&trend.set))),
            Cell::new(marks(&differing, unicode)),
            Cell::new(drift_in_words(trend, figures)),
        ]);
    }
    out.push('\n');
    out.push_str(&trends.render(width, styles));
    out.push_str(&fix_times(history, page));
    out
}

/// So many rules are told of with how long it takes to fix what they find.
const MOST_FIX_TIMES: usize = 8;

/// How long it took to fix what rules found, the slowest first.
fn fix_times(history: &FleetHistory, page: &Page<'_>) -> String {
    if history.fix_times.is_empty() {
        return String::new();
    }
    let mut table = Table::new(&[
        ("RULE", Column::Fixed),
        ("FIXED", Column::Number),
        ("MEDIAN", Column::Number),
        ("LONGEST", Column::Number),
        ("CAME BACK", Column::Number),
    ])
    .indent(2);
    for one in history.fix_times.iter().take(MOST_FIX_TIMES) {
        let relapsed = if one.relapsed == 0 { String::new() } else { one.relapsed.to_string() };
        table.row(vec![
            Cell::new(&one.rule),
            Cell::new(one.fixed.to_string()),
            Cell::new(show_span(one.median)),
            Cell::new(show_span(one.longest)),
            Cell::new(relapsed),
        ]);
    }
    let more = history.fix_times.len().saturating_sub(MOST_FIX_TIMES);
    let more = if more > 0 { format!("  and {more} more; all of them with --format json\n") } else { String::new() };
    let heading = page.section("Time to fix, from the first opening to the last closing");
    format!("{heading}{}{more}", table.render(page.width, page.styles))
}

/// How much a set differs, and how much it did when it was first compared.
fn drift_in_words(trend: &DriftTrend, figures: &[AssessmentFigures]) -> String {
    let now = trend.counts;
    if now.differ == 0 && now.accepted == 0 {
        return "all alike".to_owned();
    }
    let first = figures.iter().find_map(|one| one.drift_of(&trend.set)).map_or(now.differ, |first| first.counts.differ);
    let from = if first == now.differ { String::new() } else { format!(", from {first}") };
    let accepted = if now.accepted > 0 { format!("; {} accepted", now.accepted) } else { String::new() };
    let differences = count(now.differences as u64, "difference", "differences");
    format!("{} of {} differ{from}; {differences}{accepted}", now.differ, now.devices)
}

/// A mark for each value, the higher the larger; a gap where there is none.
pub fn marks(values: &[Option<f64>], unicode: bool) -> String {
    let known = || values.iter().copied().flatten();
    let (low, high) = (known().fold(f64::INFINITY, f64::min), known().fold(f64::NEG_INFINITY, f64::max));
    let levels = if unicode { ['▁', '▂', '▅', '█'] } else { ['_', '-', '=', '#'] };
    let mark = |value: &Option<f64>| match value {
        None => ' ',
        // Where nothing moves, nothing stands out.
        Some(_) if high <= low => levels[1],
        Some(value) => levels[(((value - low) / (high - low)) * 3.0).round() as usize],
    };
    values.iter().map(mark).collect()
}

/// Figures with a row an assessment, and columns of each set that was compared.
pub struct FlatFigures {
    pub columns: Vec<String>,
    pub rows: Vec<Json>,
}

/// The figures for a spreadsheet, which has no use for a list in a cell.
pub fn flat(figures: &[AssessmentFigures]) -> FlatFigures {
    let plain = [
        "assessment",
        "as_of",
        "devices",
        "compliant",
        "on_notice",
        "unproven",
        "non_compliant",
        "waived",
        "share",
        "opened",
        "came_back",
        "fell_due",
        "closed",
        "overdue",
        "shut_out",
        "uncovered",
        "stale",
    ];
    let sets: BTreeSet<&str> = figures.iter().flat_map(|one| &one.drift).map(|trend| trend.set.as_str()).collect();
    let columns_of = |set: &str| [format!("{set}.differ"), format!("{set}.differences")];
    let columns = plain.iter().map(|name| (*name).to_owned()).chain(sets.into_iter().flat_map(columns_of)).collect();
    let flat_row = |one: &AssessmentFigures| {
        let mut row = row(one);
        for trend in &one.drift {
            let [differ, differences] = columns_of(&trend.set);
            row[differ] = trend.counts.differ.into();
            row[differences] = trend.counts.differences.into();
        }
        row
    };
    FlatFigures { columns, rows: figures.iter().map(flat_row).collect() }
}

/// The figures of an assessment as JSON.
pub fn row(figures: &AssessmentFigures) -> Json {
    let AssessmentFigures { assessment, as_of, devices, findings, overdue, shut_out, drift } = figures;
    let drift = drift.iter().map(|trend| {
        let counts = trend.counts;
        json!({
            "set": trend.set, "devices": counts.devices, "differ": counts.differ,
            "differences": counts.differences, "accepted": counts.accepted,
        })
    });
    json!({
        "assessment": assessment, "as_of": as_of.to_string(), "devices": devices.total,
        "compliant": devices.compliant, "on_notice": devices.on_notice, "unproven": devices.unproven,
        "non_compliant": devices.non_compliant, "waived": devices.waived, "share": figures.share(),
        "opened": findings.opened, "came_back": findings.came_back, "fell_due": findings.fell_due,
        "closed": findings.closed, "overdue": overdue, "shut_out": shut_out, "uncovered": devices.uncovered,
        "stale": devices.stale, "drift": drift.collect::<Vec<_>>(),
    })
}

/// How long it took to fix what a rule found, as JSON: durations of ISO 8601.
pub fn fix_time(times: &FixTimes) -> Json {
    json!({
        "rule": times.rule, "median": times.median.to_string(), "longest": times.longest.to_string(),
        "fixed": times.fixed, "relapsed": times.relapsed,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_go_from_the_least_to_the_most_and_leave_gaps() {
        let values = [Some(1.0), None, Some(4.0), Some(2.0), Some(2.9)];
        assert_eq!(marks(&values, true), "▁ █▂▅");
        assert_eq!(marks(&values, false), "_ #-=");
        assert_eq!(marks(&[Some(3.0), Some(3.0)], true), "▂▂");
        assert_eq!(marks(&[], true), "");
    }
}
