//! What comes next, day by day or counted by something else.

use anstyle::Style;
use fencepost_engine::{
    Forecast, ForecastBy, ForecastCounts, ForecastDay, ForecastKind, ForecastLine, ForecastSubject,
};
use jiff::civil::Date;

use super::Page;
use super::table::{Cell, Column, Table};
use super::text::count;

/// So many lines of a day are shown.
const MOST_LINES: usize = 12;

impl Page<'_> {
    /// A forecast, day by day; what comes only if devices stay silent is counted, or told too.
    pub fn forecast(&self, forecast: &Forecast, total: &ForecastCounts, with_silence: bool) -> String {
        let strong = self.styles.strong;
        let days = count(forecast.days.len() as u64, "day", "days");
        let last = forecast.days.last().map_or_else(String::new, |day| day_name(day.date));
        let mut out = format!("{strong}{days}, up to {last}{strong:#}, by time alone: {}\n", counts_in_words(total));
        let mut quiet: Vec<Date> = Vec::new();
        for day in &forecast.days {
            if day.lines.is_empty() {
                quiet.push(day.date);
                continue;
            }
            self.quiet_days(&mut quiet, &mut out);
            self.forecast_day(day, with_silence, &mut out);
        }
        self.quiet_days(&mut quiet, &mut out);
        if forecast.unsteady > 0 {
            let devices = count(forecast.unsteady, "device", "devices");
            out.push_str(&format!(
                "\nOf {devices} a rule may say something else at any moment; they were looked at once a day.\n"
            ));
        }
        out
    }

    fn quiet_days(&self, quiet: &mut Vec<Date>, out: &mut String) {
        let faint = self.styles.faint;
        let days = match quiet.as_slice() {
            [] => return,
            [one] => day_name(*one),
            [first, .., last] => format!("{} to {}", day_name(*first), day_name(*last)),
        };
        out.push_str(&format!("\n{faint}{days}: nothing{faint:#}\n"));
        quiet.clear();
    }

    fn forecast_day(&self, day: &ForecastDay, with_silence: bool, out: &mut String) {
        let (strong, faint) = (self.styles.strong, self.styles.faint);
        let counts = if day.counts.is_empty() { String::new() } else { format!("  {}", counts_in_words(&day.counts)) };
        out.push_str(&format!("\n{strong}{}{strong:#}{counts}\n", day_name(day.date)));
        let lines: Vec<&ForecastLine> = day.lines.iter().filter(|line| with_silence || !line.only_if_silent).collect();
        let columns = [("", Column::Fixed), ("", Column::Fixed), ("", Column::Text), ("", Column::Text)];
        let mut table = Table::new(&columns).indent(2);
        for line in lines.iter().take(MOST_LINES) {
            let style = match line.kind {
                ForecastKind::Losing => self.styles.bad,
                ForecastKind::Due | ForecastKind::Opening => self.styles.notice,
                ForecastKind::Returning | ForecastKind::Closing => self.styles.good,
                ForecastKind::Stale | ForecastKind::Action | ForecastKind::Ending => Style::new(),
            };
            let silent = if line.only_if_silent { " if silent" } else { "" };
            let time = self.clock.zone.to_datetime(line.first).strftime("%H:%M").to_string();
            table.row(vec![
                Cell::styled(time, self.styles.faint),
                Cell::styled(format!("{}{silent}", verb(line)), style),
                Cell::new(subject(line)),
                Cell::styled(whom(line), self.styles.faint),
            ]);
        }
        out.push_str(&table.render(self.width, self.styles));
        let more = lines.len().saturating_sub(MOST_LINES);
        if more > 0 {
            out.push_str(&format!("  and {} more lines, with --format csv\n", more));
        }
        if !with_silence && !day.by_silence.is_empty() {
            let counts = counts_in_words(&day.by_silence);
            out.push_str(&format!("  {faint}where devices stay silent: {counts}{faint:#}\n"));
        }
    }

    /// A forecast counted by sites, people or services.
    pub fn forecast_by(&self, by: ForecastBy, rows: &[(String, ForecastCounts)]) -> String {
        let heading = match by {
            ForecastBy::Site => "site",
            ForecastBy::Person => "person",
            ForecastBy::Service => "service",
        };
        let is_told = |kind: &ForecastKind| rows.iter().any(|(_, counts)| counts.of(*kind) > 0);
        let kinds: Vec<ForecastKind> = ForecastKind::ALL.into_iter().filter(is_told).collect();
        let mut columns = vec![(heading, Column::Fixed)];
        columns.extend(kinds.iter().map(|kind| (kind_heading(*kind), Column::Number)));
        let mut table = Table::new(&columns);
        for (key, counts) in rows {
            let mut cells = vec![Cell::new(key)];
            cells.extend(kinds.iter().map(|kind| Cell::new(counts.of(*kind).to_string())));
            table.row(cells);
        }
        table.render(self.width, self.styles)
    }
}

/// `Mon 15 Mar`
fn day_name(date: Date) -> String {
    date.strftime("%a %-d %b").to_string()
}

fn kind_heading(kind: ForecastKind) -> &'static str {
    match kind {
        ForecastKind::Opening => "open",
        ForecastKind::Closing => "close",
        ForecastKind::Due => "fall due",
        ForecastKind::Stale => "too old",
        ForecastKind::Losing => "lose access",
        ForecastKind::Returning => "get it back",
        ForecastKind::Action => "to send",
        ForecastKind::Ending => "end",
    }
}

/// `3 findings fall due, 1 person loses access`
fn counts_in_words(counts: &ForecastCounts) -> String {
    let told = |kind: ForecastKind, words: [&str; 2]| {
        let number = counts.of(kind);
        (number > 0).then(|| count(number, words[0], words[1]))
    };
    let parts = [
        told(ForecastKind::Due, ["finding falls due", "findings fall due"]),
        told(ForecastKind::Losing, ["person loses access", "people lose access"]),
        told(ForecastKind::Opening, ["finding opens", "findings open"]),
        told(ForecastKind::Closing, ["finding closes", "findings close"]),
        told(ForecastKind::Returning, ["person gets access back", "people get access back"]),
        told(ForecastKind::Stale, ["statement becomes too old", "statements become too old"]),
        told(ForecastKind::Action, ["action comes up", "actions come up"]),
        told(ForecastKind::Ending, ["thing ends", "things end"]),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    if parts.is_empty() { "nothing".to_owned() } else { parts.join(", ") }
}

fn verb(line: &ForecastLine) -> &'static str {
    match (line.kind, &line.subject) {
        (ForecastKind::Opening, _) => "opens",
        (ForecastKind::Closing, _) => "closes",
        (ForecastKind::Due, _) => "falls due",
        (ForecastKind::Stale, _) => "too old",
        (ForecastKind::Losing, ForecastSubject::Service { permitted_with: Some(_), .. }) => "reduced",
        (ForecastKind::Losing, _) => "lost",
        (ForecastKind::Returning, _) => "open again",
        (ForecastKind::Action, ForecastSubject::Step { is_held: true, .. }) => "to approve",
        (ForecastKind::Action, _) => "to send",
        (ForecastKind::Ending, _) => "ends",
    }
}

fn subject(line: &ForecastLine) -> String {
    match &line.subject {
        ForecastSubject::Rule(rule) => rule.clone(),
        ForecastSubject::Source(source) => format!("what {source} said"),
        ForecastSubject::Service { title, permitted_with: Some(with) } if !with.is_empty() => {
            format!("{title}, in with {with}")
        }
        ForecastSubject::Service { title, .. } => title.clone(),
        ForecastSubject::Step { deed, to, rule, .. } => format!("{deed} {to}: {rule}"),
        ForecastSubject::Ending { kind, id, rule: Some(rule) } => format!("{kind} of {id} from {rule}"),
        ForecastSubject::Ending { id, kind, rule: None } if id.contains(kind) => id.clone(),
        ForecastSubject::Ending { kind, id, rule: None } => format!("{kind} {id}"),
    }
}

/// Whom it is told of, and how many more there are.
fn whom(line: &ForecastLine) -> String {
    match line.named() {
        ([], _) => String::new(),
        (named, 0) => named.join(", "),
        (named, more) => format!("{} and {more} more", named.join(", ")),
    }
}
