//! One rule, as `show` tells of it.

use fencepost_core::{Phase, Stage, VerdictOutcome, show_span};
use fencepost_engine::{RuleBasis, RuleCount, RulePart, RuleReport, ShutOut, UnmetOn};
use jiff::SignedDuration;
use serde_json::{Value as Json, json};

use super::Page;
use super::figures::marks;
use super::json::SCHEMA;
use super::style::Styles;
use super::table::{Cell, Column, Table, labelled};
use super::text::{count, harmless, percent};

/// So many people who are shut out are named.
const MOST_PEOPLE: usize = 12;
/// So many devices of a list are told one by one; the rest is left to the other formats.
const MOST_DEVICES: usize = 60;

impl Page<'_> {
    /// All that is known of a rule.
    pub fn rule(&self, report: &RuleReport) -> String {
        let mut out = self.rule_heading(report);
        out.push_str(&self.rule_counts(report));
        out.push_str(&self.rule_parts(report));
        out.push_str(&self.unmet(report));
        if !report.excepted.is_empty() {
            out.push_str(&self.section("Excepted"));
            let mut table =
                Table::new(&[("DEVICE", Column::Fixed), ("UNTIL", Column::Fixed), ("BECAUSE", Column::Text)]);
            for one in report.excepted.iter().take(MOST_DEVICES) {
                let until = one.until.map_or_else(|| "always".to_owned(), |until| self.clock.end_of_day(until));
                let named = if one.named == one.device { String::new() } else { format!(" (group {})", one.named) };
                let because = format!("{}{named}", one.because.as_deref().unwrap_or("no reason is written"));
                table.row(vec![Cell::new(&one.device), Cell::new(until), Cell::new(because)]);
            }
            out.push_str(&table.render(self.width, self.styles));
            out.push_str(&rest(report.excepted.len()));
        }
        out.push_str(&self.hangs_on(report));
        out.push_str(&self.rule_trend(report));
        out
    }

    fn rule_heading(&self, report: &RuleReport) -> String {
        let (rule, strong) = (&report.rule, self.styles.strong);
        let mut out = format!("{strong}{}{strong:#}  {}\n", harmless(rule.id.as_str()), harmless(&rule.title));
        let mut line = |word: &str, text: &str| out.push_str(&labelled(word, &harmless(text), self.width, self.styles));
        let since = report.since.map(|since| format!(", since {}", self.clock.moment(since))).unwrap_or_default();
        let from = rule.enforced_from.filter(|_| report.stage == Stage::Trial);
        let from = from.map(|from| format!(", enforced from {}", self.clock.both(from))).unwrap_or_default();
        let basis = match report.basis {
            RuleBasis::Assessed => "",
            RuleBasis::Draft => "; nobody is judged by it yet, and this is what it would say",
            RuleBasis::New => "; it is newer than the last assessment, and this is what the next would say",
        };
        line("stage", &format!("{}{since}{from}{basis}", report.stage.as_str()));
        line("judges", &format!("{} severity, grace {}", rule.severity.as_str(), rule.grace));
        line("requires", rule.require());
        if let Some(covers) = rule.covers() {
            line("covers", covers);
        }
        if let Some(because) = &rule.because {
            line("because", because);
        }
        if let Some(place) = &report.place {
            let changed = report.changed.map(|at| format!(", as it is since {}", self.clock.moment(at)));
            line("written", &format!("{place}{}", changed.unwrap_or_default()));
        }
        let clauses: Vec<&str> = rule.controls().collect();
        if !clauses.is_empty() {
            line("clauses", &clauses.join(", "));
        }
        out
    }

    fn rule_counts(&self, report: &RuleReport) -> String {
        let counts = &report.counts;
        let beside = besides(counts);
        let beside = if beside.is_empty() { String::new() } else { format!("; {}", beside.join(", ")) };
        if counts.judged() == 0 {
            return format!("\nIt reaches no device{beside}\n");
        }
        let met = counts.pass + counts.waived;
        let share = percent(counts.share());
        format!(
            "\n{met} of {} meet it ({share}): {}{beside}\n",
            count(counts.judged(), "device", "devices"),
            outcomes(counts)
        )
    }

    /// The devices that it covers, by platform and by group.
    fn rule_parts(&self, report: &RuleReport) -> String {
        let mut table = Table::new(&[("", Column::Fixed), ("", Column::Number), ("", Column::Fixed)]).indent(2);
        let mut add = |parts: &[RulePart]| {
            for part in parts {
                let name = part.name.as_deref().unwrap_or("platform not known");
                let met = part.counts.pass + part.counts.waived;
                let of = format!("{met} of {}", part.counts.judged());
                let fails =
                    if met == part.counts.judged() { Cell::default() } else { Cell::new(outcomes(&part.counts)) };
                table.row(vec![Cell::new(name), Cell::new(of), fails]);
            }
        };
        add(&report.by_platform);
        add(&report.by_group);
        if table.is_empty() {
            return String::new();
        }
        format!("{}{}", self.section("By platform and group"), table.render(self.width, self.styles))
    }

    fn unmet(&self, report: &RuleReport) -> String {
        if report.unmet.is_empty() {
            return String::new();
        }
        // A width that a sentence needs to be read.
        let is_narrow = self.width < 100;
        let mut columns = vec![("DEVICE", Column::Fixed), ("SAYS", Column::Fixed), ("OBSERVED", Column::Text)];
        if !is_narrow {
            columns.push(("REQUIRED", Column::Text));
        }
        columns.extend([("AGE", Column::Fixed), ("DUE", Column::Text), ("HOLDER", Column::Text)]);
        let mut table = Table::new(&columns);
        for one in report.unmet.iter().take(MOST_DEVICES) {
            let mut cells = vec![Cell::new(&one.device), self.outcome_cell(one.outcome)];
            cells.push(Cell::new(one.proof.observed.as_deref().unwrap_or_default()));
            if !is_narrow {
                cells.push(Cell::new(one.proof.required.as_deref().unwrap_or_default()));
            }
            let age = one.proof.age.as_ref().and_then(|age| age.parse::<SignedDuration>().ok());
            cells.extend([Cell::new(age.map(show_span).unwrap_or_default()), self.due(one)]);
            cells.push(Cell::new(one.holder.as_deref().unwrap_or_default()));
            table.row(cells);
        }
        format!("{}{}{}", self.section("Not met"), table.render(self.width, self.styles), rest(report.unmet.len()))
    }

    fn outcome_cell(&self, outcome: VerdictOutcome) -> Cell {
        match outcome {
            VerdictOutcome::Fail => Cell::styled("fail", self.styles.bad),
            VerdictOutcome::Unknown(_) => Cell::styled("unknown", self.styles.unproven),
            VerdictOutcome::Pass | VerdictOutcome::NotApplicable => Cell::default(),
        }
    }

    /// When its grace ends, or what keeps it from ending.
    fn due(&self, one: &UnmetOn) -> Cell {
        let Styles { good, notice, bad, .. } = *self.styles;
        if let Some((waiver, until)) = &one.waiver {
            return Cell::styled(format!("waived by {waiver} until {}", self.clock.end_of_day(*until)), good);
        }
        match (one.phase, one.due) {
            _ if one.awaiting => Cell::styled("on its way", notice),
            (Some(Phase::Overdue { .. }), Some(due)) => {
                Cell::styled(format!("overdue since {}", self.clock.moment(due)), bad)
            }
            (Some(_), Some(due)) => Cell::new(self.clock.both(due)),
            _ => Cell::default(),
        }
    }

    fn hangs_on(&self, report: &RuleReport) -> String {
        let mut out = String::new();
        let mut line = |word: &str, text: &str| out.push_str(&labelled(word, &harmless(text), self.width, self.styles));
        if let Some(response) = &report.response {
            line("response", response);
        }
        for asking in &report.access_rules {
            let stage = if asking.stage == Stage::Enforced { "" } else { " (on trial)" };
            line("access", &format!("{}{stage}: {}", asking.id, asking.services.join(", ")));
        }
        if !report.shut_out.is_empty() {
            line("shut out", &shut_out(&report.shut_out));
        }
        if out.is_empty() { out } else { format!("{}{out}", self.section("What hangs on it")) }
    }

    fn rule_trend(&self, report: &RuleReport) -> String {
        let shares: Vec<Option<f64>> =
            report.trend.iter().map(|then| then.counts.as_ref().and_then(RuleCount::share)).collect();
        let mut known = shares.iter().flatten();
        let (Some(first), Some(last)) = (known.next(), shares.iter().rev().flatten().next()) else {
            return String::new();
        };
        let [from, to] = [first, last].map(|share| percent(Some(*share)));
        let in_words = if from == to { to } else { format!("{to}, from {from}") };
        let assessments = count(report.trend.len() as u64, "assessment", "assessments");
        format!("{}  {}  {in_words}, over {assessments}\n", self.section("Trend"), marks(&shares, self.unicode))
    }
}

/// What is said of the devices of a list that are not told.
fn rest(all: usize) -> String {
    match all.saturating_sub(MOST_DEVICES) {
        0 => String::new(),
        more => format!("and {more} more; all of them with --format json\n"),
    }
}

/// `18 pass, 1 fails, 1 unknown`.
fn outcomes(counts: &RuleCount) -> String {
    let parts = [(counts.pass, "pass", "pass"), (counts.fail, "fails", "fail"), (counts.unknown, "unknown", "unknown")];
    let said = parts.into_iter().filter(|(number, ..)| *number > 0);
    said.map(|(number, one, many)| count(number, one, many)).collect::<Vec<_>>().join(", ")
}

/// What must not be hidden beside the counts.
fn besides(counts: &RuleCount) -> Vec<String> {
    let parts = [
        (counts.waived, "waived"),
        (counts.awaiting, "on their way"),
        (counts.vacuous, "with nothing to check"),
        (counts.excepted, "excepted"),
        (counts.not_applicable.saturating_sub(counts.excepted), "not covered"),
    ];
    parts.into_iter().filter(|(number, _)| *number > 0).map(|(number, word)| format!("{number} {word}")).collect()
}

/// People by service: `Mail: Ann (B-1), Bo (B-2)`.
fn shut_out(all: &[ShutOut]) -> String {
    let mut titles: Vec<&str> = all.iter().map(|one| one.title.as_str()).collect();
    titles.sort_unstable();
    titles.dedup();
    let of = |title: &&str| {
        let own: Vec<&ShutOut> = all.iter().filter(|one| one.title == **title).collect();
        let names = own.iter().take(MOST_PEOPLE).map(|one| match &one.name {
            Some(name) => format!("{name} ({})", one.person),
            None => one.person.clone(),
        });
        let more = own.len().saturating_sub(MOST_PEOPLE);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("of {title}: {}{more}", names.collect::<Vec<_>>().join(", "))
    };
    titles.iter().map(of).collect::<Vec<_>>().join("; ")
}

/// The page of a rule as JSON, without the devices that do not meet it.
pub fn document(report: &RuleReport) -> Json {
    let counts = &report.counts;
    let (file, line) = report.place.as_ref().map(|place| (&place.file, place.line)).unzip();
    let moment = |at: Option<jiff::Timestamp>| at.map(|at| at.to_string());
    let part = |key: &'static str| {
        move |part: &RulePart| {
            let counts = &part.counts;
            json!({
                key: part.name, "devices": counts.judged(), "pass": counts.pass, "fail": counts.fail,
                "unknown": counts.unknown, "waived": counts.waived, "share": counts.share(),
            })
        }
    };
    let trend = report.trend.iter().map(|then| {
        let number = |get: fn(&RuleCount) -> u64| then.counts.as_ref().map(get);
        json!({
            "assessment": then.assessment, "as_of": then.as_of.to_string(), "pass": number(|it| it.pass),
            "fail": number(|it| it.fail), "unknown": number(|it| it.unknown), "waived": number(|it| it.waived),
        })
    });
    json!({
        "schema": SCHEMA, "rule": report.rule.id.as_str(), "as_of": report.as_of.to_string(),
        "title": report.rule.title, "file": file, "line": line, "stage": report.stage.as_str(),
        "basis": match report.basis {
            RuleBasis::Assessed => "assessed",
            RuleBasis::Draft => "draft",
            RuleBasis::New => "new",
        },
        "enforced_from": moment(report.rule.enforced_from), "since": moment(report.since),
        "changed": moment(report.changed), "severity": report.rule.severity.as_str(),
        "grace": report.rule.grace.to_string(), "require": report.rule.require(), "covers": report.rule.covers(),
        "because": report.rule.because, "fix": report.rule.fix,
        "counts": {
            "pass": counts.pass, "fail": counts.fail, "unknown": counts.unknown,
            "not_applicable": counts.not_applicable, "waived": counts.waived, "excepted": counts.excepted,
            "awaiting": counts.awaiting, "vacuous": counts.vacuous,
        },
        "share": counts.share(),
        "by_platform": report.by_platform.iter().map(part("platform")).collect::<Vec<_>>(),
        "by_group": report.by_group.iter().map(part("group")).collect::<Vec<_>>(),
        "excepted": report.excepted.iter().map(|one| json!({
            "device": one.device, "named": one.named, "because": one.because, "until": moment(one.until),
        })).collect::<Vec<_>>(),
        "waived": report.waived().map(|(one, waiver, until)| json!({
            "device": one.device, "waiver": waiver, "until": until.to_string(),
        })).collect::<Vec<_>>(),
        "response": report.response,
        "access_rules": report.access_rules.iter().map(super::service::access_use).collect::<Vec<_>>(),
        "shut_out": report.shut_out.iter().map(|one| json!({ "person": one.person, "service": one.service })).collect::<Vec<_>>(),
        "trend": trend.collect::<Vec<_>>(),
        "controls": report.rule.controls().collect::<Vec<_>>(),
    })
}

/// The columns of a device that does not meet a rule.
pub const COLUMNS: [&str; 12] = [
    "rule", "device", "outcome", "reason", "observed", "required", "age", "awaiting", "phase", "due", "waiver",
    "holder",
];

/// A device that does not meet a rule as JSON.
pub fn row(one: &UnmetOn) -> Json {
    let reason = match one.outcome {
        VerdictOutcome::Unknown(reason) => Some(reason.as_str()),
        VerdictOutcome::Pass | VerdictOutcome::Fail | VerdictOutcome::NotApplicable => None,
    };
    json!({
        "device": one.device, "outcome": one.outcome.as_str(), "reason": reason, "observed": one.proof.observed,
        "required": one.proof.required, "source": one.proof.source, "age": one.proof.age, "awaiting": one.awaiting,
        "phase": one.phase.map(Phase::as_str), "due": one.due.map(|due| due.to_string()),
        "waiver": one.waiver.as_ref().map(|(waiver, _)| waiver), "holder": one.holder,
    })
}
