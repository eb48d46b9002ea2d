//! One device: the proof of its verdicts (`why`), and all that is known of it (`show`).

use fencepost_core::{Dictionary, Effect, Finding, Phase, Stage, Standing, Subject, VerdictOutcome, Waiver};
use fencepost_engine::{
    CorrectedBy, Cost, CostGroup, DeviceReport, PeerDistance, Post, ReachGroup, VerdictLine, group_costs, group_reach,
};

use super::evidence;
use super::fence::{post_of, spaced};
use super::reach;
use super::style::Styles;
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless, in_unit};
use super::time::Clock;

/// What rendering needs to know of the output.
pub struct DevicePage<'p> {
    pub dictionary: &'p Dictionary,
    pub clock: &'p Clock,
    pub styles: &'p Styles,
    pub width: usize,
    pub unicode: bool,
}

impl DevicePage<'_> {
    /// The first lines of a device: how it stands, who holds it, how old its state is.
    pub fn heading(&self, report: &DeviceReport) -> String {
        let strong = self.styles.strong;
        let mut out = format!("{strong}{}{strong:#}", harmless(&report.device));
        match (&report.retired, report.standing) {
            (Some((from, because)), _) => {
                out.push_str(&format!("  retired {}: {}", self.clock.full(*from), harmless(because)));
            }
            (None, Some(standing)) => {
                let style = self.styles.standing(standing);
                let one = post_of(Post { standing, by_waiver: report.by_waiver }, self.unicode);
                let by_waiver = if report.by_waiver { " by waiver" } else { "" };
                out.push_str(&format!("  {style}{one} {}{by_waiver}{style:#}", spaced(standing)));
                if !report.covered {
                    out.push_str(", covered by no enforced rule");
                }
            }
            (None, None) => out.push_str("  not assessed yet"),
        }
        out.push('\n');
        let holders: Vec<String> = report
            .holders
            .iter()
            .map(|holder| match (&holder.name, &holder.unit) {
                (Some(name), Some(unit)) => format!("{} ({})", harmless(name), harmless(unit)),
                (Some(name), None) => harmless(name),
                (None, _) => format!("{} (not in the list of people)", harmless(&holder.id)),
            })
            .collect();
        let held = if holders.is_empty() { "nobody".to_owned() } else { holders.join(", ") };
        let state = report.collected.map_or_else(|| "never".to_owned(), |at| self.clock.both(at));
        out.push_str(&format!("held by {held}; state collected {state}\n"));
        for (source, since) in &report.absent {
            out.push_str(&format!("no longer listed by {} since {}\n", harmless(source), self.clock.both(*since)));
        }
        if !report.former_names.is_empty() {
            out.push_str(&format!("formerly {}\n", harmless(&report.former_names.join(", "))));
        }
        out
    }

    /// The rules that are not met, each with its proof; or the one asked for.
    pub fn why(&self, report: &DeviceReport, rule: Option<&str>) -> String {
        let mut out = self.heading(report);
        let chosen: Vec<&VerdictLine> = report
            .verdicts
            .iter()
            .filter(|verdict| match rule {
                Some(rule) => {
                    verdict.rule.id.as_str() == rule
                        || verdict.rule.id.as_str().strip_prefix(rule).is_some_and(|rest| rest.starts_with('/'))
                }
                None => matches!(verdict.outcome, VerdictOutcome::Fail | VerdictOutcome::Unknown(_)),
            })
            .collect();
        if rule.is_none() && !report.covered && report.standing.is_some() {
            out.push('\n');
            out.push_str(&self.uncovered(report));
        }
        for verdict in &chosen {
            out.push('\n');
            out.push_str(&self.verdict(report, verdict));
        }
        out.push_str(&self.costs(report));
        if rule.is_none() {
            let passing = report.verdicts.iter().filter(|verdict| verdict.outcome == VerdictOutcome::Pass).count();
            let not_applicable =
                report.verdicts.iter().filter(|verdict| verdict.outcome == VerdictOutcome::NotApplicable).count();
            out.push('\n');
            let rest =
                format!("{} met, {not_applicable} do not cover it", count(passing as u64, "rule is", "rules are"));
            let is_fine = chosen.is_empty() && report.standing == Some(Standing::Compliant);
            out.push_str(&if is_fine {
                format!("Nothing is wrong: {rest}.\n")
            } else {
                format!("The rest: {rest}.\n")
            });
        }
        out
    }

    /// That no enforced rule covers the device, and what to do about it.
    fn uncovered(&self, report: &DeviceReport) -> String {
        let (strong, style) = (self.styles.strong, self.styles.unproven);
        let mut out = format!("{strong}{}{strong:#}  {style}no enforced rule covers it{style:#}\n", Subject::UNCOVERED);
        let running = report.findings.iter().rfind(|it| it.subject == Subject::Uncovered && it.is_running());
        if let Some(clock) = running.map(|finding| self.clock_in_words(finding, "")) {
            self.told(&mut out, "clock", &clock);
        }
        self.told(&mut out, "do", "write a rule that covers it, or widen the scope of one: fencepost list coverage");
        out
    }

    fn verdict(&self, report: &DeviceReport, verdict: &VerdictLine) -> String {
        let rule = &verdict.rule;
        let strong = self.styles.strong;
        let (word, style) = match verdict.outcome {
            VerdictOutcome::Pass => ("passes", self.styles.good),
            VerdictOutcome::Fail if verdict.waiver.is_some() => ("fails, and is waived", self.styles.good),
            VerdictOutcome::Unknown(_) if verdict.waiver.is_some() => {
                ("cannot be told, and is waived", self.styles.good)
            }
            VerdictOutcome::Fail if verdict.awaiting => ("fails, and is on its way", self.styles.notice),
            VerdictOutcome::Fail => ("fails", self.styles.bad),
            VerdictOutcome::Unknown(_) => ("cannot be told", self.styles.unproven),
            VerdictOutcome::NotApplicable if verdict.excepted => {
                ("does not apply: the device is excepted", self.styles.faint)
            }
            VerdictOutcome::NotApplicable => ("does not apply", self.styles.faint),
        };
        let trial = match (verdict.stage, rule.enforced_from) {
            (Stage::Trial, Some(from)) => format!(", on trial until {}: without consequence", self.clock.moment(from)),
            (Stage::Trial, None) => ", on trial: without consequence".to_owned(),
            (Stage::Draft | Stage::Enforced, _) => String::new(),
        };
        let mut out =
            format!("{strong}{}{strong:#}  {style}{word}{style:#} ({}{trial})\n", rule.id, rule.severity.as_str());
        out.push_str(&format!("  {}\n", harmless(&rule.title)));
        if let Some(clock) = self.clock_of(report, verdict) {
            self.told(&mut out, "clock", &clock);
        }
        if let Some(waiver) = &verdict.waiver {
            let own = verdict.finding.as_ref().filter(|finding| finding.is_running());
            self.told(&mut out, "waived", &self.waiver(waiver, own));
        }
        let proof = evidence::Proof {
            evidence: &verdict.evidence,
            dictionary: self.dictionary,
            facts: &report.facts,
            clock: self.clock,
            styles: self.styles,
        };
        out.push_str(&proof.render(2));
        if !verdict.scope_last_known.is_empty() {
            let facts = harmless(&verdict.scope_last_known.join(", "));
            self.told(&mut out, "covered", &format!("as last known, by facts that are too old: {facts}"));
        }
        if let Some(exception) = &verdict.exception {
            let until = exception.until.map(|until| format!(" until {}", self.clock.moment(until)));
            let because = exception.because.as_ref().map(|because| format!(": {because}"));
            let text = format!("{}{}{}", exception.name, until.unwrap_or_default(), because.unwrap_or_default());
            self.told(&mut out, "excepted", &harmless(&text));
        }
        if let Some(because) = &rule.because {
            self.told(&mut out, "because", &harmless(because));
        }
        if let Some(fix) = &verdict.fix {
            self.told(&mut out, "do", &harmless(fix));
        }
        for setting in &verdict.settings {
            let done = match setting.state.as_str() {
                "asked" => "asked for",
                "carried-out" => "carried out",
                "not-meant" => "not meant for this device",
                other => other,
            };
            let because = setting.because.as_ref().map(|because| format!(": {because}")).unwrap_or_default();
            let text = format!("{} {done}, {}{because}", setting.setting, self.clock.both(setting.at));
            self.told(&mut out, "setting", &harmless(&text));
        }
        let controls: Vec<&str> = rule.controls().collect();
        if !controls.is_empty() {
            self.told(&mut out, "answers", &harmless(&controls.join(", ")));
        }
        out
    }

    /// A line under a word, wrapped.
    fn told(&self, out: &mut String, word: &str, text: &str) {
        out.push_str(&labelled(word, text, self.width, self.styles));
    }

    /// Since when a finding runs, and until when: its own, or for an unknown that of the device's silence.
    fn clock_of(&self, report: &DeviceReport, verdict: &VerdictLine) -> Option<String> {
        let silence =
            report.findings.iter().rfind(|finding| finding.subject == Subject::Silence && finding.is_running());
        let (finding, name) = match verdict.outcome {
            VerdictOutcome::Unknown(_) => {
                (verdict.finding.as_ref().filter(|finding| finding.is_running()).or(silence)?, "counts as silence, ")
            }
            _ => (verdict.finding.as_ref()?, ""),
        };
        let name = if finding.subject == Subject::Silence { name } else { "" };
        Some(self.clock_in_words(finding, name))
    }

    /// Since when a finding runs, and until when.
    fn clock_in_words(&self, finding: &Finding, name: &str) -> String {
        let relapse = if finding.spell > 1 { format!(", relapse {}", finding.spell - 1) } else { String::new() };
        match finding.phase(self.clock.now) {
            Phase::Open { due } => {
                format!(
                    "{name}open since {}{relapse}; due {}",
                    self.clock.moment(finding.clock.opened),
                    self.clock.both(due)
                )
            }
            Phase::Overdue { since } => format!(
                "{name}open since {}{relapse}; overdue since {}",
                self.clock.moment(finding.clock.opened),
                self.clock.both(since)
            ),
            Phase::Waived { until } => format!(
                "{name}open since {}{relapse}; waived until {}",
                self.clock.moment(finding.clock.opened),
                self.clock.both(until)
            ),
            Phase::Closed { at, reason } => format!("closed {} ({})", self.clock.both(at), reason.as_str()),
        }
    }

    /// Who answers for a waiver, why, and what happens when it ends.
    fn waiver(&self, waiver: &Waiver, finding: Option<&Finding>) -> String {
        let afterwards = finding.and_then(|finding| {
            let end = finding.clock.waived_at(self.clock.now)?.until;
            Some(finding.phase(end))
        });
        let then = match afterwards {
            Some(Phase::Overdue { .. }) => "; then it is overdue".to_owned(),
            Some(Phase::Open { due }) => format!("; then it is due {}", self.clock.full(due)),
            Some(Phase::Waived { .. } | Phase::Closed { .. }) | None => String::new(),
        };
        let (by, because) = (harmless(&waiver.approved_by), harmless(&waiver.because));
        format!("by {by}: {because} ({}){then}", waiver.id)
    }

    /// What the device costs its people in access, now or when a clock runs out.
    fn costs(&self, report: &DeviceReport) -> String {
        let mut out = String::new();
        for said in costs(&report.costs, self.clock) {
            let word = if out.is_empty() { "costs" } else { "" };
            if out.is_empty() {
                out.push('\n');
            }
            self.told(&mut out, word, &said);
        }
        out
    }

    /// All that is known of a device.
    pub fn show(&self, report: &DeviceReport, distances: &[PeerDistance]) -> String {
        let mut out = self.heading(report);
        if !report.groups.is_empty() {
            out.push_str(&format!("in {}\n", report.groups.join(", ")));
        }
        for PeerDistance { set, peers, differences, accepted } in distances {
            let peers = count(*peers as u64, "peer", "peers");
            let accepted = if *accepted > 0 { format!(", {accepted} more accepted") } else { String::new() };
            let said = match differences {
                0 => format!("like its {peers} of {set}{accepted}"),
                many => {
                    format!("{} from its {peers} of {set}{accepted}", count(*many as u64, "difference", "differences"))
                }
            };
            out.push_str(&said);
            out.push('\n');
        }
        if !report.last_known.is_empty() {
            let told: Vec<String> = report
                .last_known
                .iter()
                .map(|(what, facts)| format!("{} ({})", harmless(what), harmless(&facts.join(", "))))
                .collect();
            out.push_str(&format!("as last known, by facts that are too old: {}\n", told.join(", ")));
        }
        let faint = self.styles.faint;
        let section = |out: &mut String, title: &str| out.push_str(&format!("\n{faint}{title}{faint:#}\n"));
        section(&mut out, "Findings");
        let table = self.findings(report);
        out.push_str(&if table.is_empty() { "  none\n".to_owned() } else { table.render(self.width, self.styles) });

        section(&mut out, "Access");
        let table = self.reach(report);
        out.push_str(&if table.is_empty() {
            "  no service is known\n".to_owned()
        } else {
            table.render(self.width, self.styles)
        });

        section(&mut out, "Facts");
        out.push_str(&self.facts(report).render(self.width, self.styles));
        out
    }

    /// The findings that run, and the last few that closed.
    fn findings(&self, report: &DeviceReport) -> Table {
        let faint = self.styles.faint;
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Fixed), ("", Column::Text)]).indent(2);
        for finding in report.findings.iter().filter(|finding| finding.is_running()) {
            let verdict = report.verdicts.iter().find(|verdict| verdict.rule.id.as_str() == finding.subject.as_str());
            let proof = match (&finding.subject, verdict) {
                (Subject::Silence, _) => {
                    let facts: Vec<String> = finding
                        .blames
                        .iter()
                        .map(|blame| format!("{} {}", blame.fact, evidence::in_words(blame.reason)))
                        .collect();
                    format!(
                        "{} unanswered: {}",
                        count(finding.leaves_open.len() as u64, "rule", "rules"),
                        facts.join(", ")
                    )
                }
                (Subject::Uncovered, _) => {
                    "no enforced rule covers it; write one, or widen the scope of one".to_owned()
                }
                (Subject::Rule(_), Some(verdict)) => verdict.evidence.headline(),
                (Subject::Rule(_), None) => String::new(),
            };
            let (when, style) = match finding.phase(self.clock.now) {
                Phase::Open { due } => (format!("due {}", self.clock.both(due)), self.styles.notice),
                Phase::Overdue { since } => (format!("overdue since {}", self.clock.both(since)), self.styles.bad),
                Phase::Waived { until } => (format!("waived until {}", self.clock.both(until)), self.styles.good),
                Phase::Closed { .. } => continue,
            };
            table.row(vec![Cell::new(finding.subject.as_str()), Cell::styled(when, style), Cell::new(proof)]);
        }
        let closed: Vec<_> = report.findings.iter().filter(|finding| !finding.is_running()).collect();
        for finding in closed.iter().rev().take(3) {
            if let Phase::Closed { at, reason } = finding.phase(self.clock.now) {
                let when = format!("closed {}", self.clock.moment(at));
                table.row(vec![
                    Cell::styled(finding.subject.as_str(), faint),
                    Cell::styled(when, faint),
                    Cell::styled(reason.as_str(), faint),
                ]);
            }
        }
        table
    }

    /// Every fact with its source and age, and what other sources say of it.
    fn facts(&self, report: &DeviceReport) -> Table {
        let faint = self.styles.faint;
        let mut table =
            Table::new(&[("", Column::Fixed), ("", Column::Text), ("", Column::Fixed), ("", Column::Fixed)]).indent(2);
        for fact in &report.facts {
            let mut value = in_unit(fact.value.clone(), fact.unit.as_deref());
            if let Some(label) = &fact.label {
                value.push_str(&format!(" ({label})"));
            }
            if fact.wrong_type {
                value.push_str(" (wrong type)");
            }
            let source = match (&fact.source, &fact.corrected) {
                (_, Some(CorrectedBy { by, .. })) => format!("corrected by {by}"),
                (Some(source), None) => source.clone(),
                (None, None) => String::new(),
            };
            let age = match (fact.collected, &fact.corrected) {
                (_, Some(CorrectedBy { until, .. })) => format!("until {}", self.clock.moment(*until)),
                (Some(at), None) => format!("{}{}", self.clock.distance(at), if fact.stale { ", too old" } else { "" }),
                (None, None) => String::new(),
            };
            let age_style = if fact.stale { self.styles.unproven } else { faint };
            table.row(vec![
                Cell::new(&fact.path),
                Cell::new(value),
                Cell::styled(source, faint),
                Cell::styled(age, age_style),
            ]);
            for said in &fact.losers {
                let when = said.collected.map(|at| self.clock.distance(at)).unwrap_or_default();
                let value = format!("but {}", said.value);
                table.row(vec![
                    Cell::new(""),
                    Cell::styled(value, faint),
                    Cell::styled(&said.source, faint),
                    Cell::styled(when, faint),
                ]);
            }
        }
        table
    }

    /// Reach as a table: people and kinds of client of whom the same is told share a line.
    fn reach(&self, report: &DeviceReport) -> Table {
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Text), ("", Column::Text)]).indent(2);
        let name_of = |id: &str| {
            let known = report.holders.iter().find(|holder| holder.id == id).and_then(|holder| holder.name.clone());
            known.unwrap_or_else(|| id.to_owned())
        };
        for ReachGroup { line, clients, people } in group_reach(&report.reach) {
            let decision = format!("{} ({})", reach::in_words(line, self.clock), clients.join(", "));
            let people: Vec<String> = people.into_iter().map(name_of).collect();
            table.row(vec![
                Cell::new(&line.title),
                Cell::styled(decision, reach::style(line, self.styles)),
                Cell::styled(people.join(", "), self.styles.faint),
            ]);
        }
        table
    }
}

/// `denied now: Crew roster, Mail (app)`, one text for each decision and moment.
fn costs(costs: &[Cost], clock: &Clock) -> Vec<String> {
    let heading = |group: &CostGroup<'_>| {
        let what = match group.decision.effect {
            Effect::Deny => "denied".to_owned(),
            Effect::Permit => group.decision.in_words(),
        };
        group.from.map_or_else(|| format!("{what} now"), |from| format!("{what} from {}", clock.both(from)))
    };
    let service = |(title, clients): &(&str, Vec<&str>)| format!("{} ({})", harmless(title), clients.join(", "));
    let line = |group: CostGroup<'_>| {
        let services: Vec<String> = group.services.iter().map(service).collect();
        format!("{}: {}", heading(&group), services.join(", "))
    };
    group_costs(costs, clock.now).into_iter().map(line).collect()
}
