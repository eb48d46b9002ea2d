//! The report of the fleet, a site or a group as a page.

use fencepost_core::{CauseKind, Effect, RuleSeverity, Stage};
use fencepost_engine::{
    AccessEntry, Contact, FleetReport, Forecast, ForecastLine, ForecastSubject, PersonGroup, PersonToDo, ReportPart,
    ReportRows, ReportScope, SpoolError, group_by_cause,
};
use jiff::Timestamp;
use maud::{Markup, html};
use serde_json::Value as Json;

use crate::ReportStyle;
use crate::charts::{bar, spark, strip, trend};
use crate::dates::Dates;
use crate::fence::fence;
use crate::forecast::{kind_in_words, line_in_words};
use crate::page::{Page, Section, count, grouped, percent, safe};
use crate::table::{Cell, MOST_ROWS, Set, Table};

/// Writes the report as a page; `forecast` is of the same devices, where it is told.
///
/// # Errors
/// When a temporary file with rows cannot be read.
pub fn fleet_page(
    report: &FleetReport,
    forecast: Option<&Forecast>,
    style: &ReportStyle,
) -> Result<String, SpoolError> {
    let fleet = FleetPage { report, forecast, dates: &style.dates };
    let of = fleet.scope();
    let page = Page {
        style,
        title: format!("{}: {of}", style.name),
        scope: of,
        lead: fleet.lead(),
        sections: fleet.sections()?,
        foot: fleet.foot(),
    };
    Ok(page.render())
}

struct FleetPage<'f> {
    report: &'f FleetReport,
    forecast: Option<&'f Forecast>,
    dates: &'f Dates,
}

impl FleetPage<'_> {
    fn scope(&self) -> String {
        match &self.report.scope {
            ReportScope::Fleet => "Devices and access".to_owned(),
            ReportScope::Site(site) => format!("Devices and access: {site}"),
            ReportScope::Group(id) => format!("Devices and access: {}", self.report.title.as_ref().unwrap_or(id)),
        }
    }

    fn lead(&self) -> Markup {
        let report = self.report;
        let in_order = &report.in_order;
        html! {
            h1 { (grouped(in_order.in_order)) " of " (count(in_order.devices, "device is", "devices are")) " in order " span.share { "(" (percent(in_order.share())) ")" } }
            p.lead { (self.compared()) (self.lost()) }
            dl.figures {
                @for (number, words) in self.figures() { div { dt { (words) } dd { (number) } } }
            }
        }
    }

    /// How many more or fewer devices are in order than then.
    fn compared(&self) -> String {
        let Some(before) = &self.report.before else { return String::new() };
        let day = self.dates.day(self.dates.date(before.at));
        let (then, now) = (before.in_order, self.report.in_order.in_order);
        match now.cmp(&then) {
            std::cmp::Ordering::Less => format!("{} fewer than on {day}. ", grouped(then - now)),
            std::cmp::Ordering::Equal => format!("As many as on {day}. "),
            std::cmp::Ordering::Greater => format!("{} more than on {day}. ", grouped(now - then)),
        }
    }

    fn lost(&self) -> String {
        let access = &self.report.access;
        let since = match access.since {
            Some(since) if self.report.before.is_none() => format!(" since {}", self.dates.day(self.dates.date(since))),
            Some(_) | None => String::new(),
        };
        let summary = &access.summary;
        let lost = match summary.people {
            0 => format!("Nobody lost a service{since}."),
            people => format!(
                "{} lost a service{since}, {} of them without another way in.",
                count(people, "person", "people"),
                grouped(summary.call_first)
            ),
        };
        match summary.next {
            Some((at, people)) => {
                format!(
                    "{lost} {} next: {}.",
                    count(people, "person loses one", "people lose one"),
                    self.dates.moment(at)
                )
            }
            None => lost,
        }
    }

    fn figures(&self) -> Vec<(String, &'static str)> {
        let report = self.report;
        let mut figures = vec![
            (grouped(report.overdue), "findings overdue"),
            (grouped(report.running.saturating_sub(report.overdue)), "findings with time left, or waived"),
            (grouped(report.counts.by_waiver), "devices in order by a waiver alone"),
            (grouped(report.silent.rows.len()), "devices silent"),
        ];
        if let Some(shut_out) = report.shut_out {
            figures.push((grouped(shut_out), "people shut out of a service by a rule"));
        }
        figures
    }

    fn sections(&self) -> Result<Vec<Section>, SpoolError> {
        let report = self.report;
        let mut sections =
            vec![Section { id: "fence", title: "The fence".to_owned(), count: None, body: fence(&report.fence) }];
        if report.scope != ReportScope::Fleet && !report.to_do.is_empty() {
            sections.push(self.to_do());
        }
        if report.trend.len() > 1 {
            sections.push(self.trend());
        }
        if let Some(forecast) = self.forecast {
            sections.push(self.ahead(forecast));
        }
        sections.push(self.access());
        let parts = [
            ("sites", "By site", &report.sites, report.scope == ReportScope::Fleet && report.sites.len() > 1),
            ("platforms", "By platform", &report.platforms, report.platforms.len() > 1),
        ];
        for (id, title, parts, is_told) in parts {
            if is_told {
                sections.push(self.parts(id, title, parts));
            }
        }
        sections.push(self.rules());
        sections.push(self.findings("findings", "Findings", &report.findings)?);
        if !report.silent.rows.is_empty() {
            sections.push(self.findings("silent", "Silent devices", &report.silent)?);
        }
        if !report.waivers.rows.is_empty() {
            sections.push(self.waivers()?);
        }
        if !report.exceptions.is_empty() {
            sections.push(self.exceptions());
        }
        if !report.drift.is_empty() {
            sections.push(self.drift());
        }
        Ok(sections)
    }

    fn trend(&self) -> Section {
        let points = &self.report.trend;
        let columns = [
            ("Day", Set::Date),
            ("In order", Set::Number),
            ("Devices", Set::Number),
            ("Share", Set::Number),
            ("Overdue", Set::Number),
            ("People shut out", Set::Number),
        ];
        let mut table = Table::new("t-trend", "How it went", &columns);
        for point in points.iter().rev() {
            let optional = |number: Option<u64>| number.map_or_else(Cell::none, Cell::number);
            table.row(vec![
                Cell::moment(point.in_order.at, self.dates),
                Cell::number(point.in_order.in_order),
                Cell::number(point.in_order.devices),
                Cell::share(point.in_order.share()),
                optional(point.overdue),
                optional(point.shut_out),
            ]);
        }
        let body = html! {
            (trend(points, self.dates))
            details id="fold-trend-numbers" { summary { "The numbers" } (table.render()) }
        };
        Section { id: "trend", title: "How it went".to_owned(), count: None, body }
    }

    fn ahead(&self, forecast: &Forecast) -> Section {
        let silence: u64 =
            forecast.days.iter().map(|day| day.lines.iter().filter(|line| line.only_if_silent).count() as u64).sum();
        let told = forecast.days.iter().filter(|day| day.lines.iter().any(|line| !line.only_if_silent));
        let body = html! {
            p { "What comes by time alone, whatever devices report meanwhile." }
            figure { (strip(forecast, self.dates)) }
            ul.days {
                @for day in told {
                    li {
                        b { (self.dates.day(day.date)) }
                        ul { @for line in day.lines.iter().filter(|line| !line.only_if_silent) { li { (self.time_of(line)) (line_in_words(line)) } } }
                    }
                }
            }
            @if silence > 0 { p.rest { "What comes only where devices stay silent that are heard of now is left out." } }
        };
        let days = count(forecast.days.len() as u64, "day", "days");
        Section { id: "ahead", title: format!("The next {days}"), count: None, body }
    }

    fn time_of(&self, line: &ForecastLine) -> String {
        match &line.subject {
            // Waivers and exceptions hold for days.
            ForecastSubject::Ending { kind: "waiver" | "exception", .. } => String::new(),
            _ => format!("{} ", self.dates.time(line.first)),
        }
    }

    fn access(&self) -> Section {
        let access = &self.report.access;
        let lists: [(&'static str, &'static str, &[AccessEntry]); 4] = [
            ("t-lost", "Lost", &access.lost),
            ("t-losing", "Will be lost", &access.losing),
            ("t-reduced", "Let in with less than before", &access.reduced),
            ("t-restored", "Got back", &access.restored),
        ];
        let any = lists.iter().any(|(_, _, entries)| !entries.is_empty());
        let body = html! {
            @if !any { p { "Nobody lost a service, and nobody will by time alone." } }
            @for (id, title, entries) in lists {
                @if !entries.is_empty() { h3 { (title) } (self.entries(id, title, entries)) }
            }
            @if access.summary.only_if_silent > 0 {
                p.rest { (count(access.summary.only_if_silent, "person loses", "people lose")) " something later if devices stay silent." }
            }
        };
        let people = access.summary.people;
        let told = (people > 0).then(|| format!("{} lost a service", count(people, "person", "people")));
        Section { id: "access", title: "Who gets in".to_owned(), count: told, body }
    }

    /// A row for each person under each cause, as they are called.
    fn entries(&self, id: &'static str, title: &str, entries: &[AccessEntry]) -> Markup {
        let columns = [
            ("Person", Set::Word),
            ("Service", Set::Text),
            ("Device", Set::Word),
            (if id == "t-losing" { "From" } else { "Since" }, Set::Date),
            ("Because", Set::Text),
            ("To do", Set::Text),
            ("Call", Set::Text),
        ];
        let mut table = Table::new(id, title, &columns);
        for group in group_by_cause(entries) {
            let causes: Vec<String> = group.causes.iter().map(cause_in_words).collect();
            let fixes: Vec<&str> = group.causes.iter().filter_map(|cause| cause.fix.as_deref()).collect();
            for person in &group.people {
                let Some(first) = person.entries.first() else { continue };
                let devices: Vec<&str> = person.devices().iter().map(|entry| &*entry.device).collect();
                table.row(vec![
                    Cell::text(person.contact.name.as_deref().or(person.person).unwrap_or("held by nobody")),
                    Cell::text(&services_in_words(person)),
                    Cell::text(&devices.join(", ")),
                    Cell::moment(first.moment, self.dates),
                    Cell::text(&causes.join("; ")),
                    Cell::text(&fixes.join(" ")),
                    Cell::text(&call_in_words(person.contact)),
                ]);
            }
        }
        table.render()
    }

    fn parts(&self, id: &'static str, title: &str, parts: &[ReportPart]) -> Section {
        let columns = [
            (if id == "sites" { "Site" } else { "Platform" }, Set::Word),
            ("In order", Set::Number),
            ("Share", Set::Number),
            ("", Set::Word),
            ("By waiver", Set::Number),
            ("On notice", Set::Number),
            ("Unproven", Set::Number),
            ("Non-compliant", Set::Number),
            ("Devices", Set::Number),
        ];
        let mut table = Table::new(if id == "sites" { "t-sites" } else { "t-platforms" }, title, &columns);
        for part in parts {
            let [in_order, on_notice, unproven, non_compliant] = part.counts.standings;
            table.row(vec![
                Cell::text(&part.name),
                Cell::number(in_order),
                Cell::share(part.counts.share()),
                Cell::markup(bar(in_order, part.counts.all, false), in_order.to_string()),
                Cell::number(part.counts.by_waiver),
                Cell::number(on_notice),
                Cell::number(unproven),
                Cell::number(non_compliant),
                Cell::number(part.counts.all),
            ]);
        }
        Section { id, title: title.to_owned(), count: None, body: table.render() }
    }

    fn rules(&self) -> Section {
        let columns = [
            ("Rule", Set::Word),
            ("Asks for", Set::Text),
            ("Severity", Set::Word),
            ("Share met", Set::Number),
            ("", Set::Word),
            ("Fail", Set::Number),
            ("Unknown", Set::Number),
            ("Waived", Set::Number),
            ("Excepted", Set::Number),
            ("Covered", Set::Number),
            ("Lately", Set::Word),
        ];
        let mut table = Table::new("t-rules", "Rules", &columns);
        for rule in &self.report.rules {
            let counts = &rule.counts;
            let name = if rule.stage == Stage::Trial { format!("{} (on trial)", rule.rule) } else { rule.rule.clone() };
            let unmet = counts.fail + counts.unknown;
            let last = rule.trend.last().copied().unwrap_or(0);
            let severity = RuleSeverity::ALL.iter().position(|one| *one == rule.severity).unwrap_or(0);
            table.row(vec![
                Cell::text(&name),
                Cell::text(&rule.title),
                Cell::markup(html! { (rule.severity.as_str()) }, severity.to_string()),
                Cell::share(counts.share()),
                Cell::markup(bar(unmet, counts.judged(), true), unmet.to_string()),
                Cell::number(counts.fail),
                Cell::number(counts.unknown),
                Cell::number(counts.waived),
                Cell::number(counts.excepted),
                Cell::number(counts.judged()),
                Cell::markup(spark(&rule.trend), last.to_string()),
            ]);
        }
        let told = Some(count(self.report.rules.len() as u64, "rule", "rules"));
        let body = html! { p { "The dark bar is the share that does not meet the rule; the line is how many did not over the latest assessments." } (table.render()) };
        Section { id: "rules", title: "Rules".to_owned(), count: told, body }
    }

    fn findings(&self, id: &'static str, title: &str, findings: &ReportRows) -> Result<Section, SpoolError> {
        let columns = [
            ("Device", Set::Word),
            ("Rule", Set::Word),
            ("Phase", Set::Word),
            ("Severity", Set::Word),
            ("Opened", Set::Date),
            ("Due", Set::Date),
            ("Held by", Set::Text),
            ("Site", Set::Word),
            ("Mail", Set::Text),
        ];
        let mut table =
            Table::new(if id == "silent" { "t-silent" } else { "t-findings" }, title, &columns).of(findings.rows.len());
        for row in findings.rows.iter().take(MOST_ROWS) {
            let row = row?;
            let cell = |column: &str| findings.cell(&row, column);
            table.row(vec![
                text(cell("device")),
                text(cell("rule")),
                text(cell("phase")),
                text(cell("severity")),
                self.moment(cell("opened")),
                self.moment(cell("due")),
                text(cell("holder")),
                text(cell("site")),
                text(cell("mail")),
            ]);
        }
        let told = Some(count(findings.rows.len(), "finding", "findings"));
        let body = if table.is_empty() {
            html! { p { "Nothing." } }
        } else {
            table.render()
        };
        Ok(Section { id, title: title.to_owned(), count: told, body })
    }

    fn to_do(&self) -> Section {
        let columns = self.report.findings.columns.as_slice();
        let at = |name: &str| columns.iter().position(|column| column == name).unwrap_or(0);
        let [device, rule, phase, due] = ["device", "rule", "phase", "due"].map(at);
        let title = |id: &str| self.report.rules.iter().find(|rule| rule.rule == id).map(|rule| rule.title.as_str());
        let body = html! {
            @for PersonToDo { holder, findings } in &self.report.to_do {
                h3 { (safe(holder.as_deref().unwrap_or("Held by nobody"))) " " span.soft { (count(findings.len() as u64, "finding", "findings")) } }
                ul {
                    @for row in findings {
                        li {
                            b { (safe(row[device].as_str().unwrap_or_default())) } ": "
                            (safe(title(row[rule].as_str().unwrap_or_default()).unwrap_or(row[rule].as_str().unwrap_or_default())))
                            span.soft { ", " (safe(row[phase].as_str().unwrap_or_default())) @if let Some(at) = instant(&row[due]).filter(|_| row[phase] != "waived") { ", due " (self.dates.moment(at)) } }
                        }
                    }
                }
            }
        };
        Section { id: "to-do", title: "To do, by person".to_owned(), count: None, body }
    }

    fn waivers(&self) -> Result<Section, SpoolError> {
        let waivers = &self.report.waivers;
        let columns = [
            ("Waiver", Set::Word),
            ("Ends with", Set::Date),
            ("Covers", Set::Number),
            ("For", Set::Text),
            ("Of", Set::Text),
            ("Approved by", Set::Text),
            ("Because", Set::Text),
        ];
        let mut table = Table::new("t-waivers", "Waivers", &columns);
        for row in waivers.rows.iter().take(MOST_ROWS) {
            let row = row?;
            let cell = |column: &str| waivers.cell(&row, column);
            table.row(vec![
                text(cell("waiver")),
                instant(cell("until")).map_or_else(Cell::none, |end| Cell::last_day(end, self.dates)),
                cell("covers").as_u64().map_or_else(Cell::none, Cell::number),
                text(cell("devices")),
                text(cell("rules")),
                text(cell("approved_by")),
                text(cell("because")),
            ]);
        }
        let told = Some(count(waivers.rows.len(), "waiver", "waivers"));
        let table = table.of(waivers.rows.len());
        Ok(Section { id: "waivers", title: "Waived".to_owned(), count: told, body: table.render() })
    }

    fn exceptions(&self) -> Section {
        let columns = [("Rule", Set::Word), ("Excepted", Set::Text), ("Because", Set::Text), ("Ends with", Set::Date)];
        let mut table = Table::new("t-exceptions", "Exceptions", &columns);
        for one in &self.report.exceptions {
            table.row(vec![
                Cell::text(&one.rule),
                Cell::text(&one.name),
                Cell::text(one.because.as_deref().unwrap_or_default()),
                one.until.map_or_else(Cell::none, |end| Cell::last_day(end, self.dates)),
            ]);
        }
        let told = Some(count(self.report.exceptions.len() as u64, "exception", "exceptions"));
        Section { id: "exceptions", title: "Excepted".to_owned(), count: told, body: table.render() }
    }

    fn drift(&self) -> Section {
        let columns = [
            ("Set", Set::Word),
            ("Devices", Set::Number),
            ("Differ", Set::Number),
            ("", Set::Word),
            ("Differences", Set::Number),
            ("Accepted", Set::Number),
        ];
        let mut table = Table::new("t-drift", "Drift", &columns);
        for trend in &self.report.drift {
            let counts = &trend.counts;
            table.row(vec![
                Cell::text(&trend.set),
                Cell::number(counts.devices as u64),
                Cell::number(counts.differ as u64),
                Cell::markup(bar(counts.differ as u64, counts.devices as u64, true), counts.differ.to_string()),
                Cell::number(counts.differences as u64),
                Cell::number(counts.accepted as u64),
            ]);
        }
        let body = html! { p { "Devices that ought to be alike, and how many of them are not." } (table.render()) };
        Section { id: "drift", title: "Drift".to_owned(), count: None, body }
    }

    fn foot(&self) -> Markup {
        let report = self.report;
        html! {
            p {
                "As of " time datetime=(report.as_of) { (self.dates.moment(report.as_of)) } " (" (safe(&self.dates.zone_name())) "), by assessment "
                (report.assessment) " of " (self.dates.moment(report.assessed_at)) "."
                @if let Some([oldest, newest]) = report.collected {
                    " State collected between " (self.dates.moment(oldest)) " and " (self.dates.moment(newest)) "."
                }
                @if let Some(since) = report.access.since { " What is said of access and of more or fewer is since " (self.dates.moment(since)) "." }
            }
            p { "Fence Post" }
        }
    }

    fn moment(&self, value: &Json) -> Cell {
        instant(value).map_or_else(|| text(value), |at| Cell::moment(at, self.dates))
    }
}

/// What somebody may not do any more, service by service: `Mail (app), denied; still in with tern-phone-1`.
fn services_in_words(person: &PersonGroup<'_>) -> String {
    let told = person.by_terms().into_iter().map(|group| {
        let decision = match group.entry.decision.effect {
            Effect::Deny => String::new(),
            Effect::Permit if group.entry.decision.obligations.is_empty() => String::new(),
            Effect::Permit => format!(" with {}", group.entry.decision.obligations_in_words()),
        };
        let other = match &group.entry.other {
            Some(other) => format!(", still in by {} on {}", other.client, other.device),
            None => String::new(),
        };
        format!("{} ({}){decision}{other}", group.titles.join(", "), group.clients.join(", "))
    });
    told.collect::<Vec<_>>().join("; ")
}

/// How somebody is reached.
fn call_in_words(contact: &Contact) -> String {
    let lead = contact.lead_name.as_ref().or(contact.lead.as_ref()).map(|lead| format!("lead {lead}"));
    [contact.phone.clone(), contact.mail.clone(), lead].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

fn cause_in_words(line: &fencepost_engine::CauseLine) -> String {
    line.title.clone().unwrap_or_else(|| {
        let subject = line.cause.fact.as_deref().or(line.cause.rule.as_deref()).or(line.cause.access_rule.as_deref());
        match subject {
            Some(subject) if line.cause.kind == CauseKind::Condition => format!("{subject} is not as asked for"),
            Some(subject) => format!("{} {subject}", kind_in_words(line.cause.kind)),
            None => kind_in_words(line.cause.kind).to_owned(),
        }
    })
}

/// Returns a value of a row as a cell: lists as words with commas.
fn text(value: &Json) -> Cell {
    match value {
        Json::Null => Cell::none(),
        Json::String(text) => Cell::text(text),
        Json::Array(items) => Cell::text(&items.iter().filter_map(Json::as_str).collect::<Vec<_>>().join(", ")),
        other => Cell::text(&other.to_string()),
    }
}

fn instant(value: &Json) -> Option<Timestamp> {
    value.as_str()?.parse().ok()
}
