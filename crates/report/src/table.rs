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
    id: &'static str,
    caption: String,
    columns: Vec<(&'static str, Set)>,
    rows: Vec<Vec<Cell>>,
    /// How many rows there are, where not all of them are shown.
    all: u64,
}

impl Table {
    pub fn new(id: &'static str, caption: &str, columns: &[(&'static str, Set)]) -> Self {
        Self { id, caption: caption.to_owned(), columns: columns.to_vec(), rows: Vec::new(), all: 0 }
    }

    /// Adds a row, unless there are too many already.
    pub fn row(&mut self, cells: Vec<Cell>) {
        self.all += 1;
        if self.rows.len() < MOST_ROWS {
            self.rows.push(cells);
        }
    }

    /// Says how many rows there are, some of which were not even read.
    pub fn of(mut self, all: u64) -> Self {
        self.all = self.all.max(all);
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
        let rest = self.all.saturating_sub(self.rows.len() as u64);
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
                p.rest { "The first " (grouped(self.rows.len() as u64)) " are shown; " (count(rest, "row", "rows")) " more are in the workbook." }
            }
        }
    }
}
