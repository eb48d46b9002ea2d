//! Tables of a page: with a caption, heads for rows and columns, and values by which the script sorts.

use jiff::Timestamp;
use maud::{Markup, html};

use crate::dates::Dates;
use crate::page::{count, grouped, percent, safe};

/// So many rows of a table are shown; the rest is left to the workbook.
pub const MOST_ROWS: usize = 500;

/// How a column is set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Set {
    /// Names and words, which stay in one line.
    Word,
    /// Sentences.
    Text,
    /// Days and moments.
    Date,
    /// Numbers, to the right.
    Number,
}

/// A cell of a table.
pub struct Cell {
    body: Markup,
    /// By what the column is sorted, where that is not the text.
    by: Option<String>,
}

impl Cell {
    /// A text of any origin.
    pub fn text(text: &str) -> Self {
        Self { body: html! { (safe(text)) }, by: None }
    }

    /// Nothing.
    pub fn none() -> Self {
        Self::text("")
    }

    /// A number.
    pub fn number(number: u64) -> Self {
        Self { body: html! { (grouped(number)) }, by: Some(number.to_string()) }
    }

    /// A share.
    pub fn share(share: Option<f64>) -> Self {
        Self { body: html! { (percent(share)) }, by: share.map(|share| format!("{share:.6}")) }
    }

    /// A moment, on the clock of the workspace.
    pub fn moment(at: Timestamp, dates: &Dates) -> Self {
        let body = html! { time datetime=(at) { (dates.moment(at)) } };
        Self { body, by: Some(at.as_second().to_string()) }
    }

    /// The last day of something that ends at a moment, exclusively.
    pub fn last_day(end: Timestamp, dates: &Dates) -> Self {
        let day = dates.last_day(end);
        let body = html! { time datetime=(day) { (dates.day(day)) } };
        Self { body, by: Some(end.as_second().to_string()) }
    }

    /// Anything, sorted by a value.
    pub fn markup(body: Markup, by: String) -> Self {
        Self { body, by: Some(by) }
    }
}

/// A table.
pub struct Table {
    id: String,
    caption: String,
    columns: Vec<(&'static str, Set)>,
    rows: Vec<Vec<Cell>>,
    /// How many rows were added, shown or not.
    added: u64,
    /// How many there are, where some were not even read.
    all: u64,
    /// So many are shown at the most.
    most: usize,
    /// Where the others are.
    rest_in: &'static str,
}

impl Table {
    pub fn new(id: impl Into<String>, caption: &str, columns: &[(&'static str, Set)]) -> Self {
        Self {
            id: id.into(),
            caption: caption.to_owned(),
            columns: columns.to_vec(),
            rows: Vec::new(),
            added: 0,
            all: 0,
            most: MOST_ROWS,
            rest_in: "the workbook",
        }
    }

    /// Shows no more rows than `most`; the others are in `rest_in`.
    pub fn limited(self, most: usize, rest_in: &'static str) -> Self {
        Self { most, rest_in, ..self }
    }

    /// Adds a row, unless there are too many already.
    pub fn row(&mut self, cells: Vec<Cell>) {
        self.added += 1;
        if self.rows.len() < self.most {
            self.rows.push(cells);
        }
    }

    /// Says how many rows there are, some of which were not even read.
    pub fn of(mut self, all: u64) -> Self {
        self.all = all;
        self
    }

    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Returns the table; the first column names its rows.
    pub fn render(&self) -> Markup {
        let class = |set: Set| match set {
            Set::Word => "w",
            Set::Text => "t",
            Set::Date => "d",
            Set::Number => "n",
        };
        let rest = self.all.max(self.added).saturating_sub(self.rows.len() as u64);
        html! {
            div.scroll role="region" aria-label=(safe(&self.caption)) tabindex="0" {
                table id=(self.id) data-sorts {
                    caption { (safe(&self.caption)) }
                    thead { tr { @for (title, set) in &self.columns { th scope="col" class=(class(*set)) { (title) } } } }
                    tbody {
                        @for row in &self.rows {
                            tr {
                                @for (at, (cell, (_, set))) in row.iter().zip(&self.columns).enumerate() {
                                    @if at == 0 { th scope="row" class=(class(*set)) data-v=[&cell.by] { (cell.body) } }
                                    @else { td class=(class(*set)) data-v=[&cell.by] { (cell.body) } }
                                }
                            }
                        }
                    }
                }
            }
            @if rest > 0 {
                p.rest { "The first " (grouped(self.rows.len() as u64)) " are shown; " (count(rest, "row", "rows")) " more are in " (self.rest_in) "." }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rest(added: usize, all: Option<u64>) -> Option<String> {
        let mut table = Table::new("t", "Rows", &[("Row", Set::Word)]).limited(3, "the workbook");
        if let Some(all) = all {
            table = table.of(all);
        }
        (0..added).for_each(|row| table.row(vec![Cell::number(row as u64)]));
        let page = table.render().into_string();
        page.split("<p class=\"rest\">").nth(1).map(|rest| rest.trim_end_matches("</p>").to_owned())
    }

    #[test]
    fn what_is_left_out_is_counted_and_nothing_else() {
        assert_eq!(rest(3, None), None);
        assert_eq!(rest(3, Some(3)), None);
        let told = |rest: &str| Some(format!("The first 3 are shown; {rest} more are in the workbook."));
        assert_eq!(rest(5, None), told("2 rows"));
        assert_eq!(rest(3, Some(9)), told("6 rows"));
    }
}
