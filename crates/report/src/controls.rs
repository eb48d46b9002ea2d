//! The report of clauses as a page: for each the rules that answer for it, how far it is met, who is excepted, and what shows it.

use fencepost_engine::{ClauseReport, ControlsReport};
use maud::{Markup, html};

use crate::ReportStyle;
use crate::charts::bar;
use crate::dates::Dates;
use crate::page::{Page, Section, count, grouped, percent, safe};
use crate::rule::{outcome_in_words, stands};
use crate::table::{Cell, Set, Table};

/// So many devices of one clause are shown.
const MOST_SHOWN: usize = 100;

/// Writes the report of clauses as a page.
pub fn controls_page(report: &ControlsReport, style: &ReportStyle) -> String {
    let dates = &style.dates;
    let satisfied = report.clauses.iter().filter(|clause| clause.is_satisfied() == Some(true)).count() as u64;
    let unanswered: Vec<&ClauseReport> =
        report.clauses.iter().filter(|clause| clause.is_satisfied().is_none()).collect();
    let lead = html! {
        h1 { (grouped(satisfied)) " of " (count(report.clauses.len() as u64, "clause is", "clauses are")) " met in full" }
        p.lead {
            @if unanswered.is_empty() { "Rules answer for every clause." }
            @else { "No enforced rule answers for " (count(unanswered.len() as u64, "clause", "clauses")) "; what does is said with each." }
            " A failure that is waived is not met; it is told with who approved it."
        }
    };
    let mut sections = vec![overview(report)];
    sections.push(Section {
        id: "clauses",
        title: "Clause by clause".to_owned(),
        count: None,
        body: html! { @for (at, clause) in report.clauses.iter().enumerate() { (self::clause(clause, at, dates)) } },
    });
    Page {
        style,
        title: format!("{}: clauses", style.name),
        scope: "Clauses, and what answers for them".to_owned(),
        lead,
        sections,
        foot: html! {
            p { "As of " (dates.moment(report.as_of)) " (" (safe(&dates.zone_name())) "), by assessment " (report.assessment) " of " (dates.moment(report.assessed_at)) ", by the rules with the digest " code { (safe(&report.rule_set)) } "." }
            p { "Fence Post" }
        },
    }
    .render()
}

fn overview(report: &ControlsReport) -> Section {
    let columns = [
        ("Clause", Set::Text),
        ("Asks for", Set::Text),
        ("Met", Set::Word),
        ("Share met", Set::Number),
        ("", Set::Word),
        ("Fail", Set::Number),
        ("Unknown", Set::Number),
        ("Waived", Set::Number),
        ("Rules", Set::Number),
    ];
    let mut table = Table::new("t-clauses", "Clauses", &columns);
    for clause in &report.clauses {
        let counts = &clause.counts;
        let unmet = counts.fail + counts.unknown;
        let met = match clause.is_satisfied() {
            Some(true) => "yes",
            Some(false) => "no",
            None => "not by rules",
        };
        table.row(vec![
            Cell::text(&clause.clause),
            Cell::text(clause.title.as_deref().unwrap_or_default()),
            Cell::text(met),
            Cell::share(counts.share()),
            Cell::markup(bar(unmet, counts.judged(), true), unmet.to_string()),
            Cell::number(counts.fail),
            Cell::number(counts.unknown),
            Cell::number(counts.waived),
            Cell::number(clause.rules.len() as u64),
        ]);
    }
    let told = count(report.clauses.len() as u64, "clause", "clauses");
    Section { id: "overview", title: "All clauses".to_owned(), count: Some(told), body: table.render() }
}

fn clause(clause: &ClauseReport, at: usize, dates: &Dates) -> Markup {
    html! {
        h3 id={ "clause-" (at + 1) } { (safe(&clause.clause)) @if let Some(title) = &clause.title { ": " (safe(title)) } }
        @if let Some(elsewhere) = &clause.elsewhere { p { (safe(elsewhere)) } }
        @else if clause.rules.is_empty() { p { "Nothing is said to answer for it." } }
        @if !clause.rules.is_empty() {
            ul {
                @for rule in &clause.rules {
                    li {
                        b { (safe(&rule.title)) } span.soft { " (" (safe(&rule.rule)) @if !rule.is_enforced { ", not enforced: it does not count" } ")" }
                        ": " (percent(rule.counts.share())) " met; " (grouped(rule.counts.fail)) " fail, " (grouped(rule.counts.unknown)) " cannot be told, of " (count(rule.counts.judged(), "device", "devices"))
                    }
                }
                @for one in &clause.exceptions {
                    li { "Excepted from " (safe(&one.rule)) ": " (safe(&one.name)) @if let Some(because) = &one.because { ", because: " (safe(because)) } @if let Some(end) = one.until { " (up to " (dates.day(dates.last_day(end))) ")" } }
                }
                @for one in &clause.waivers {
                    li { "Waived by " (safe(&one.approved_by)) ": " (safe(&one.because)) " (" (safe(&one.waiver)) ", " (count(one.covers, "failure or gap", "failures or gaps")) ", up to " (dates.day(dates.last_day(one.until))) ")" }
                }
            }
        }
        @if !clause.evidence.is_empty() { (evidence(clause, at, dates)) }
    }
}

fn evidence(clause: &ClauseReport, at: usize, dates: &Dates) -> Markup {
    let columns = [
        ("Device", Set::Word),
        ("Rule", Set::Word),
        ("Says", Set::Word),
        ("Found", Set::Text),
        ("Asked for", Set::Text),
        ("Told by", Set::Word),
        ("Stands", Set::Word),
        ("Due", Set::Date),
    ];
    let caption = format!("Evidence for {}", clause.clause);
    let mut table = Table::new(format!("t-evidence-{}", at + 1), &caption, &columns);
    table = table.limited(MOST_SHOWN, "the JSON of this report").of(clause.evidence_in_all);
    for one in &clause.evidence {
        let unmet = &one.unmet;
        table.row(vec![
            Cell::text(&unmet.device),
            Cell::text(&one.rule),
            Cell::text(outcome_in_words(unmet.outcome)),
            Cell::text(unmet.proof.observed.as_deref().unwrap_or_default()),
            Cell::text(unmet.proof.required.as_deref().unwrap_or_default()),
            Cell::text(unmet.proof.source.as_deref().unwrap_or_default()),
            Cell::text(&stands(unmet)),
            unmet.due.map_or_else(Cell::none, |due| Cell::moment(due, dates)),
        ]);
    }
    table.render()
}
