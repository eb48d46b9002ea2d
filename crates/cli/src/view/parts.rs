//! Figures of a part of the fleet over time: of a rule, a group or a service.

use fencepost_core::Standing;
use fencepost_engine::{GroupCounts, PartThen, RuleCount, ServiceFigures};
use serde_json::{Map, Value as Json, json};

use super::Page;
use super::fence::spaced;
use super::figures::marks;
use super::table::{Cell, Column, Table};
use super::text::percent;

/// Counts that are told over time.
pub trait PartCounts {
    /// What the numbers are called, in JSON.
    fn columns() -> Vec<&'static str>;
    /// The numbers.
    fn numbers(&self) -> Vec<u64>;
    /// The share that is marked; none where there is nothing to share.
    fn share(&self) -> Option<f64>;
}

impl PartCounts for RuleCount {
    fn columns() -> Vec<&'static str> {
        vec!["pass", "fail", "unknown", "waived", "excepted", "awaiting"]
    }

    fn numbers(&self) -> Vec<u64> {
        vec![self.pass, self.fail, self.unknown, self.waived, self.excepted, self.awaiting]
    }

    fn share(&self) -> Option<f64> {
        self.share()
    }
}

impl PartCounts for GroupCounts {
    fn columns() -> Vec<&'static str> {
        vec!["devices", "compliant", "on_notice", "unproven", "non_compliant", "waived"]
    }

    fn numbers(&self) -> Vec<u64> {
        let standings = Standing::ALL.map(|standing| self.standings[standing as usize]);
        std::iter::once(self.all).chain(standings).chain([self.by_waiver]).collect()
    }

    fn share(&self) -> Option<f64> {
        self.share()
    }
}

impl PartCounts for ServiceFigures {
    fn columns() -> Vec<&'static str> {
        vec!["permit", "limited", "deny", "by_default", "shut_out"]
    }

    fn numbers(&self) -> Vec<u64> {
        let counts = self.counts;
        vec![counts.permit, counts.limited, counts.deny, counts.by_default, self.shut_out]
    }

    fn share(&self) -> Option<f64> {
        self.counts.share()
    }
}

impl Page<'_> {
    /// The figures of a part as a table, oldest first, and below it how its share went, which is called `share_of`.
    pub fn part<C: PartCounts>(&self, rows: &[PartThen<C>], share_of: &str) -> String {
        let heads: Vec<String> = C::columns().iter().map(|column| head(column)).collect();
        let mut columns = vec![("AS OF", Column::Fixed)];
        columns.extend(heads.iter().map(|head| (head.as_str(), Column::Number)));
        columns.push(("SHARE", Column::Number));
        let mut table = Table::new(&columns);
        let faint = self.styles.faint;
        for row in rows {
            let mut cells = vec![Cell::styled(self.clock.moment(row.as_of), faint)];
            let none = if self.unicode { "·" } else { "-" };
            match &row.counts {
                Some(counts) => {
                    cells.extend(counts.numbers().into_iter().map(|number| match number {
                        0 => Cell::styled(none, faint),
                        some => Cell::new(some.to_string()),
                    }));
                    cells.push(Cell::new(percent(counts.share())));
                }
                None => cells.extend(std::iter::repeat_n(Cell::default(), heads.len() + 1)),
            }
            table.row(cells);
        }
        let shares: Vec<Option<f64>> = rows.iter().map(|row| row.counts.as_ref().and_then(C::share)).collect();
        let known: Vec<f64> = shares.iter().flatten().copied().collect();
        let went = match (known.first(), known.last()) {
            (Some(first), Some(last)) => {
                let [first, last] = [first, last].map(|share| percent(Some(*share)));
                let from = if first == last { String::new() } else { format!(", from {first}") };
                let strong = self.styles.strong;
                format!("\n{strong}{share_of}{strong:#}  {}  {last}{from}\n", marks(&shares, self.unicode))
            }
            _ => String::new(),
        };
        format!("{}{went}", table.render(self.width, self.styles))
    }
}

fn head(column: &str) -> String {
    let known = Standing::ALL.into_iter().find(|standing| standing.as_str().replace('-', "_") == column);
    known.map_or_else(|| column.replace('_', " "), |standing| spaced(standing).to_owned()).to_uppercase()
}

/// The columns of a row in a sheet.
pub fn columns<C: PartCounts>() -> Vec<&'static str> {
    ["assessment", "as_of"].into_iter().chain(C::columns()).chain(["share"]).collect()
}

/// A row as JSON.
pub fn row<C: PartCounts>(then: &PartThen<C>) -> Json {
    let mut row = Map::new();
    row.insert("assessment".to_owned(), json!(then.assessment));
    row.insert("as_of".to_owned(), json!(then.as_of.to_string()));
    let numbers = then.counts.as_ref().map(C::numbers);
    for (at, column) in C::columns().into_iter().enumerate() {
        row.insert(column.to_owned(), json!(numbers.as_ref().map(|numbers| numbers[at])));
    }
    row.insert("share".to_owned(), json!(then.counts.as_ref().and_then(C::share)));
    Json::Object(row)
}
