//! The report of one device as a page: how it stands and why, what it may reach, its facts, and its life.

use fencepost_core::{FindingEvent, Standing, VerdictOutcome};
use fencepost_engine::{DeviceReport, FactLine, Happened, Happening, History, VerdictLine};
use maud::{Markup, html};

use crate::ReportStyle;
use crate::dates::Dates;
use crate::page::{Page, Section, count, safe};
use crate::rule::{as_of, outcome_in_words};
use crate::table::{Cell, Set, Table};

/// Writes the report of a device as a page, as of a moment.
pub fn device_page(report: &DeviceReport, history: &History, at: jiff::Timestamp, style: &ReportStyle) -> String {
    let device = DevicePage { report, history, dates: &style.dates };
    Page {
        style,
        title: format!("{}: {}", style.name, report.device),
        scope: format!("Device {}", report.device),
        lead: device.lead(),
        sections: device.sections(),
        foot: as_of(at, &style.dates),
    }
    .render()
}

/// Says how a device stands.
pub fn standing_in_words(standing: Option<Standing>, by_waiver: bool) -> &'static str {
    match (standing, by_waiver) {
        (Some(Standing::Compliant), true) => "in order by a waiver",
        (Some(Standing::Compliant), false) => "in order",
        (Some(Standing::OnNotice), _) => "on notice",
        (Some(Standing::Unproven), _) => "unproven",
        (Some(Standing::NonCompliant), _) => "non-compliant",
        (None, _) => "not assessed yet",
    }
}

struct DevicePage<'d> {
    report: &'d DeviceReport,
    history: &'d History,
    dates: &'d Dates,
}

impl DevicePage<'_> {
    fn lead(&self) -> Markup {
        let report = self.report;
        html! {
            h1 { (safe(&report.device)) " is " (standing_in_words(report.standing, report.by_waiver)) }
            p.lead {
                @match &report.holder_names { Some(names) => { "Held by " (safe(names)) ". " } None => { "Held by nobody that is known. " } }
                @if let Some(collected) = report.collected { "What it is judged by was collected " (self.dates.moment(collected)) ". " }
                @if !report.covered { "No enforced rule covers it. " }
                @if let Some((at, because)) = &report.retired { "Retired " (self.dates.moment(*at)) ": " (safe(because)) ". " }
            }
            @if !report.groups.is_empty() { p.soft { "Groups: " (safe(&report.groups.join(", "))) } }
            @if !report.former_names.is_empty() { p.soft { "Formerly " (safe(&report.former_names.join(", "))) } }
        }
    }

    fn sections(&self) -> Vec<Section> {
        let mut sections = vec![self.unmet(), self.rules()];
        if !self.report.reach.is_empty() {
            sections.push(self.reach());
        }
        sections.push(self.facts());
        sections.push(self.life());
        sections
    }

    fn is_unmet(line: &VerdictLine) -> bool {
        matches!(line.outcome, VerdictOutcome::Fail | VerdictOutcome::Unknown(_))
    }

    fn unmet(&self) -> Section {
        let unmet: Vec<&VerdictLine> = self.report.verdicts.iter().filter(|line| Self::is_unmet(line)).collect();
        let body = html! {
            @if unmet.is_empty() { p { "Nothing." } }
            @for line in &unmet {
                h3 { (safe(&line.rule.title)) " " span.soft { (safe(line.rule.id.as_str())) ", " (outcome_in_words(line.outcome)) } }
                ul.proof {
                    @if let Some(observed) = &line.proof.observed { li { "found " b { (safe(observed)) } @if let Some(source) = &line.proof.source { ", told by " (safe(source)) } } }
                    @if let Some(required) = &line.proof.required { li { "asked for " b { (safe(required)) } } }
                    @if let Some(finding) = &line.finding { li { "since " (self.dates.moment(finding.clock.opened)) ", due " (self.dates.moment(finding.clock.due)) } }
                    @if let Some(waiver) = &line.waiver { li { "waived by " (safe(&waiver.approved_by)) ": " (safe(&waiver.because)) " (up to " (self.dates.day(self.dates.last_day(waiver.ends()))) ")" } }
                    @if let Some(fix) = &line.fix { li { (safe(fix)) } }
                }
            }
        };
        let told = count(unmet.len() as u64, "rule", "rules");
        Section { id: "unmet", title: "What is not in order".to_owned(), count: Some(told), body }
    }

    fn rules(&self) -> Section {
        let columns = [
            ("Rule", Set::Word),
            ("Asks for", Set::Text),
            ("Says", Set::Word),
            ("Stage", Set::Word),
            ("Found", Set::Text),
            ("Asked for", Set::Text),
        ];
        let mut table = Table::new("t-rules", "Rules", &columns);
        for line in &self.report.verdicts {
            table.row(vec![
                Cell::text(line.rule.id.as_str()),
                Cell::text(&line.rule.title),
                Cell::text(outcome_in_words(line.outcome)),
                Cell::text(line.stage.as_str()),
                Cell::text(line.proof.observed.as_deref().unwrap_or_default()),
                Cell::text(line.proof.required.as_deref().unwrap_or_default()),
            ]);
        }
        let told = count(self.report.verdicts.len() as u64, "rule", "rules");
        Section { id: "rules", title: "All rules".to_owned(), count: Some(told), body: table.render() }
    }

    fn reach(&self) -> Section {
        let columns = [
            ("Service", Set::Word),
            ("Sign-in", Set::Word),
            ("Decision", Set::Word),
            ("By", Set::Word),
            ("Later", Set::Text),
        ];
        let mut table = Table::new("t-reach", "What its people may reach", &columns);
        for line in &self.report.reach {
            let later = line
                .later
                .as_ref()
                .map(|later| format!("{} from {}", later.decision.in_words(), self.dates.moment(later.at)));
            table.row(vec![
                Cell::text(&line.title),
                Cell::text(&line.client),
                Cell::text(&line.decision.in_words()),
                Cell::text(line.access_rule.as_deref().unwrap_or("the default")),
                Cell::text(&later.unwrap_or_default()),
            ]);
        }
        Section { id: "reach", title: "What its people may reach".to_owned(), count: None, body: table.render() }
    }

    fn facts(&self) -> Section {
        let columns = [
            ("Fact", Set::Word),
            ("Value", Set::Text),
            ("Told by", Set::Word),
            ("Collected", Set::Date),
            ("", Set::Word),
        ];
        let mut table = Table::new("t-facts", "Facts", &columns);
        for line in &self.report.facts {
            let source = match (&line.corrected, &line.source) {
                (Some(by), _) => format!("corrected by {}", by.by),
                (None, Some(source)) => source.clone(),
                (None, None) => String::new(),
            };
            table.row(vec![
                Cell::text(&line.path),
                Cell::text(&value_of(line)),
                Cell::text(&source),
                line.collected.map_or_else(Cell::none, |at| Cell::moment(at, self.dates)),
                Cell::text(if line.stale {
                    "too old"
                } else if line.wrong_type {
                    "wrong type"
                } else {
                    ""
                }),
            ]);
        }
        let told = count(self.report.facts.len() as u64, "fact", "facts");
        Section { id: "facts", title: "Facts".to_owned(), count: Some(told), body: table.render() }
    }

    fn life(&self) -> Section {
        let columns = [("When", Set::Date), ("What", Set::Text)];
        let mut table = Table::new("t-life", "Its life", &columns);
        for happening in self.history.happenings.iter().rev() {
            for words in happened_in_words(happening) {
                table.row(vec![Cell::moment(happening.at, self.dates), Cell::text(&words)]);
            }
        }
        let told = count(self.history.happenings.len() as u64, "change", "changes");
        Section { id: "life", title: "Its life".to_owned(), count: Some(told), body: table.render() }
    }
}

fn value_of(line: &FactLine) -> String {
    let unit = line.unit.as_ref().map(|unit| format!(" {unit}")).unwrap_or_default();
    let label = line.label.as_ref().map(|label| format!(" ({label})")).unwrap_or_default();
    format!("{}{unit}{label}", line.value)
}

fn happened_in_words(happening: &Happening) -> Vec<String> {
    let one = |words: String| vec![words];
    match &happening.what {
        Happened::FirstSeen { source, facts, .. } => {
            one(format!("{source} tells of it: {}", count(*facts as u64, "fact", "facts")))
        }
        Happened::Changed { source, changes } => changes
            .iter()
            .map(|change| {
                let shown = |value: &Option<serde_json::Value>| match value {
                    None => "nothing".to_owned(),
                    Some(serde_json::Value::String(text)) => text.clone(),
                    Some(other) => other.to_string(),
                };
                format!("{source}: {} was {}, is {}", change.path, shown(&change.before), shown(&change.after))
            })
            .collect(),
        Happened::Absent { source } => one(format!("{source} no longer lists it")),
        Happened::ListedAgain { source } => one(format!("{source} lists it again")),
        Happened::Stood { before: _, now } => one(format!("it is {}", standing_in_words(Some(*now), false))),
        Happened::Finding(change) => {
            let rule = change.subject.as_str();
            one(match &change.event {
                FindingEvent::Opened => format!("{rule} opened"),
                FindingEvent::CameBack => format!("{rule} came back"),
                FindingEvent::FellDue => format!("{rule} fell due"),
                FindingEvent::Closed(reason) => format!("{rule} closed: {}", reason.as_str()),
                FindingEvent::DueMoved { .. } => format!("{rule} is due at another time"),
                FindingEvent::RuleRenamed { from } => format!("{} is called {rule} now", from.as_str()),
                FindingEvent::Waived { waiver, .. } => format!("{rule} is waived by {waiver}"),
                FindingEvent::WaiverEnded { waiver } => format!("the waiver {waiver} of {rule} ended"),
            })
        }
        Happened::Retired { because } => one(format!("retired: {because}")),
        Happened::Renamed { from, because } => one(format!("it was called {from} until then: {because}")),
    }
}
