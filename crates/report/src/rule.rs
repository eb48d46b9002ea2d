//! The report of one rule as a page: what it asks for, who does not meet it, what hangs on it, and how it went.

use fencepost_core::{Phase, Stage, VerdictOutcome};
use fencepost_engine::{RulePart, RuleReport, UnmetOn};
use maud::{Markup, html};

use crate::ReportStyle;
use crate::charts::{bar, spark};
use crate::dates::Dates;
use crate::page::{Page, Section, count, grouped, percent, safe};
use crate::table::{Cell, Set, Table};

/// Writes the report of a rule as a page.
pub fn rule_page(report: &RuleReport, style: &ReportStyle) -> String {
    let rule = RulePage { report, dates: &style.dates };
    let name = report.rule.id.as_str();
    Page {
        style,
        title: format!("{}: {name}", style.name),
        scope: format!("Rule {name}"),
        lead: rule.lead(),
        sections: rule.sections(),
        foot: as_of(report.as_of, &style.dates),
    }
    .render()
}

/// Says as of when a page is.
pub fn as_of(at: jiff::Timestamp, dates: &Dates) -> Markup {
    html! { p { "As of " time datetime=(at) { (dates.moment(at)) } " (" (safe(&dates.zone_name())) ")." } p { "Fence Post" } }
}

struct RulePage<'r> {
    report: &'r RuleReport,
    dates: &'r Dates,
}

impl RulePage<'_> {
    fn lead(&self) -> Markup {
        let report = self.report;
        let counts = &report.counts;
        let met = counts.pass + counts.waived;
        let stage = match report.stage {
            Stage::Enforced => "Enforced",
            Stage::Trial => "On trial: nobody is judged by it yet",
            Stage::Draft => "A draft: nobody is judged by it yet",
        };
        let since = report.since.map(|since| format!(", since {}", self.dates.day(self.dates.date(since))));
        html! {
            h1 { (safe(&report.rule.title)) }
            p.lead {
                (grouped(met)) " of " (count(counts.judged(), "device that it covers meets it", "devices that it covers meet it")) " "
                "(" (percent(counts.share())) "). " (stage) (since.unwrap_or_default()) "."
            }
            dl.figures {
                @for (number, words) in [(counts.fail, "fail"), (counts.unknown, "cannot be told"), (counts.waived, "waived"), (counts.excepted, "excepted"), (report.shut_out.len() as u64, "ways shut because of it")] {
                    div { dt { (words) } dd { (grouped(number)) } }
                }
            }
            p { "It asks for: " code { (safe(report.rule.require())) } @if let Some(place) = &report.place { span.soft { " (" (safe(&place.file)) ", line " (place.line) ")" } } }
            @if report.rule.controls().len() > 0 {
                p.soft { "It answers for " (safe(&report.rule.controls().collect::<Vec<_>>().join(", "))) "." }
            }
        }
    }

    fn sections(&self) -> Vec<Section> {
        let report = self.report;
        let mut sections = vec![self.unmet()];
        if !report.shut_out.is_empty() || !report.access_rules.is_empty() || report.response.is_some() {
            sections.push(self.hangs());
        }
        for (id, title, parts) in
            [("platforms", "By platform", &report.by_platform), ("groups", "By group", &report.by_group)]
        {
            if !parts.is_empty() {
                sections.push(part_section(id, title, parts));
            }
        }
        if !report.excepted.is_empty() {
            sections.push(self.excepted());
        }
        if report.trend.len() > 1 {
            sections.push(self.trend());
        }
        sections
    }

    fn unmet(&self) -> Section {
        let columns = [
            ("Device", Set::Word),
            ("Says", Set::Word),
            ("Found", Set::Text),
            ("Asked for", Set::Text),
            ("Told by", Set::Word),
            ("Stands", Set::Word),
            ("Due", Set::Date),
            ("Held by", Set::Text),
        ];
        let mut table = Table::new("t-unmet", "Devices that do not meet it", &columns);
        for one in &self.report.unmet {
            table.row(vec![
                Cell::text(&one.device),
                Cell::text(outcome_in_words(one.outcome)),
                Cell::text(one.proof.observed.as_deref().unwrap_or_default()),
                Cell::text(one.proof.required.as_deref().unwrap_or_default()),
                Cell::text(one.proof.source.as_deref().unwrap_or_default()),
                Cell::text(&stands(one)),
                one.due.map_or_else(Cell::none, |due| Cell::moment(due, self.dates)),
                Cell::text(one.holder.as_deref().unwrap_or_default()),
            ]);
        }
        let told = count(self.report.unmet.len() as u64, "device", "devices");
        let body = if table.is_empty() {
            html! { p { "Every device that it covers meets it." } }
        } else {
            table.render()
        };
        Section { id: "unmet", title: "Who does not meet it".to_owned(), count: Some(told), body }
    }

    fn hangs(&self) -> Section {
        let report = self.report;
        let body = html! {
            ul {
                @if let Some(response) = &report.response { li { "A failure sets off the steps of " (safe(response)) "." } }
                @for used in &report.access_rules { li { "The access rule " (safe(&used.id)) " asks for it: " (safe(&used.services.join(", "))) "." } }
                @for shut in &report.shut_out { li { (safe(shut.name.as_ref().unwrap_or(&shut.person))) " has no way into " (safe(&shut.title)) " because of it." } }
            }
        };
        Section { id: "hangs", title: "What hangs on it".to_owned(), count: None, body }
    }

    fn excepted(&self) -> Section {
        let columns = [("Device", Set::Word), ("By", Set::Word), ("Because", Set::Text), ("Ends with", Set::Date)];
        let mut table = Table::new("t-excepted", "Excepted devices", &columns);
        for one in &self.report.excepted {
            table.row(vec![
                Cell::text(&one.device),
                Cell::text(&one.named),
                Cell::text(one.because.as_deref().unwrap_or_default()),
                one.until.map_or_else(Cell::none, |end| Cell::last_day(end, self.dates)),
            ]);
        }
        let told = count(self.report.excepted.len() as u64, "device", "devices");
        Section { id: "excepted", title: "Excepted".to_owned(), count: Some(told), body: table.render() }
    }

    fn trend(&self) -> Section {
        let columns =
            [("Assessment", Set::Date), ("Pass", Set::Number), ("Fail", Set::Number), ("Unknown", Set::Number)];
        let mut table = Table::new("t-trend", "How it went", &columns);
        for then in self.report.trend.iter().rev() {
            let number = |get: fn(&fencepost_engine::RuleCount) -> u64| {
                then.counts.as_ref().map_or_else(Cell::none, |counts| Cell::number(get(counts)))
            };
            table.row(vec![
                Cell::moment(then.as_of, self.dates),
                number(|counts| counts.pass),
                number(|counts| counts.fail),
                number(|counts| counts.unknown),
            ]);
        }
        let unmet: Vec<u64> =
            self.report.trend.iter().filter_map(|then| then.counts.as_ref()).map(|it| it.fail + it.unknown).collect();
        let body = html! { p { "Devices that did not meet it: " (spark(&unmet)) } (table.render()) };
        Section { id: "trend", title: "How it went".to_owned(), count: None, body }
    }
}

/// Says what a rule says of a device.
pub fn outcome_in_words(outcome: VerdictOutcome) -> &'static str {
    match outcome {
        VerdictOutcome::Fail => "fails",
        VerdictOutcome::Unknown(reason) => reason.as_str(),
        VerdictOutcome::Pass => "passes",
        VerdictOutcome::NotApplicable => "not covered",
    }
}

/// Says where the clock of a failure stands.
pub fn stands(one: &UnmetOn) -> String {
    match (&one.waiver, one.phase, one.awaiting) {
        (Some((waiver, _)), ..) => format!("waived by {waiver}"),
        (None, _, true) => "awaits what was asked for".to_owned(),
        (None, Some(Phase::Overdue { .. }), _) => "overdue".to_owned(),
        (None, Some(phase), _) => phase.as_str().to_owned(),
        (None, None, _) => String::new(),
    }
}

fn part_section(id: &'static str, title: &str, parts: &[RulePart]) -> Section {
    let columns = [
        (if id == "groups" { "Group" } else { "Platform" }, Set::Word),
        ("Share met", Set::Number),
        ("", Set::Word),
        ("Fail", Set::Number),
        ("Unknown", Set::Number),
        ("Waived", Set::Number),
        ("Covered", Set::Number),
    ];
    let mut table = Table::new(if id == "groups" { "t-groups" } else { "t-platforms" }, title, &columns);
    for part in parts {
        let counts = &part.counts;
        let unmet = counts.fail + counts.unknown;
        table.row(vec![
            Cell::text(part.name.as_deref().unwrap_or("not known")),
            Cell::share(counts.share()),
            Cell::markup(bar(unmet, counts.judged(), true), unmet.to_string()),
            Cell::number(counts.fail),
            Cell::number(counts.unknown),
            Cell::number(counts.waived),
            Cell::number(counts.judged()),
        ]);
    }
    Section { id, title: title.to_owned(), count: None, body: table.render() }
}
