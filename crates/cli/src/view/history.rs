//! What became of a device, moment by moment.

use fencepost_core::FindingEvent;
use fencepost_engine::{Happened, Happening, History};

use super::fence::{post, spaced};
use super::import::change;
use super::style::Styles;
use super::table::{Cell, Column, Table};
use super::text::{count, harmless};
use super::time::Clock;

/// The life of a device as a table, oldest first.
pub fn show(history: &History, clock: &Clock, width: usize, styles: &Styles, unicode: bool) -> String {
    let strong = styles.strong;
    let mut out = format!(
        "{strong}{}{strong:#}  {}, {}\n\n",
        harmless(&history.device),
        count(history.collections as u64, "collection", "collections"),
        count(history.happenings.len() as u64, "change", "changes"),
    );
    let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]);
    let mut last = String::new();
    for happening in &history.happenings {
        let when = clock.full(happening.at);
        let shown = if when == last { String::new() } else { when.clone() };
        last = when;
        for (at, line) in lines(happening, clock, styles, unicode).into_iter().enumerate() {
            let when = if at == 0 { shown.clone() } else { String::new() };
            table.row(vec![
                Cell::styled(when, styles.faint),
                Cell::styled(line.who, styles.faint),
                Cell::styled(line.what, line.style),
            ]);
        }
    }
    out.push_str(&table.render(width, styles));
    out
}

/// A line of what happened to a device.
struct HistoryLine {
    /// The source or the part of Fence Post that it comes from; empty where it is that of the line above.
    who: String,
    what: String,
    style: anstyle::Style,
}

fn lines(happening: &Happening, clock: &Clock, styles: &Styles, unicode: bool) -> Vec<HistoryLine> {
    let plain = anstyle::Style::new();
    let one = |who: &str, what: String, style| vec![HistoryLine { who: who.to_owned(), what, style }];
    match &happening.what {
        Happened::FirstSeen { source, facts, earlier_removed } => {
            let facts = count(*facts as u64, "fact", "facts");
            let told = if *earlier_removed { "here history begins, with" } else { "first seen, with" };
            one(source, format!("{told} {facts}"), plain)
        }
        Happened::Changed { source, changes } => changes
            .iter()
            .enumerate()
            .map(|(at, one)| HistoryLine {
                who: if at == 0 { source.clone() } else { String::new() },
                what: change(one),
                style: plain,
            })
            .collect(),
        Happened::Absent { source } => one(source, "no longer lists it".to_owned(), styles.notice),
        Happened::ListedAgain { source } => one(source, "lists it again".to_owned(), plain),
        Happened::Stood { before, now } => {
            let before = before.map_or_else(String::new, |before| format!("{} -> ", spaced(before)));
            one("standing", format!("{before}{} {}", post(*now, unicode), spaced(*now)), styles.standing(*now))
        }
        Happened::Finding(change) => {
            let rule = change.subject.as_str();
            let (what, style) = match &change.event {
                FindingEvent::Opened => (format!("{rule} opened"), styles.notice),
                FindingEvent::CameBack => (format!("{rule} came back"), styles.notice),
                FindingEvent::FellDue => (format!("{rule} fell due"), styles.bad),
                FindingEvent::Closed(reason) => (format!("{rule} closed ({})", reason.as_str()), styles.good),
                FindingEvent::DueMoved { from } => {
                    let (now, before) = (clock.full(change.due), clock.full(*from));
                    (format!("{rule} is due {now}, no longer {before}"), styles.notice)
                }
                FindingEvent::Waived { until, waiver } => {
                    (format!("{rule} waived until {} ({waiver})", clock.full(*until)), styles.good)
                }
                FindingEvent::WaiverEnded { waiver } => (format!("{rule} waived no more ({waiver})"), styles.notice),
                FindingEvent::RuleRenamed { from } => {
                    (format!("{rule} is what {} is called now", from.as_str()), plain)
                }
            };
            one("finding", what, style)
        }
        Happened::Retired { because } => one("by hand", format!("retired: {because}"), plain),
        Happened::Renamed { from, because } => one("by hand", format!("no longer called {from}: {because}"), plain),
    }
}
