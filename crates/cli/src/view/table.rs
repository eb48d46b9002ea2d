//! Tables without frames: aligned columns that fit the width, ids never cut and never wrapped.

use anstyle::Style;
use unicode_width::UnicodeWidthStr;

use super::style::Styles;
use super::text::harmless;

/// One cell.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    text: String,
    style: Style,
}

impl Cell {
    /// A text of any origin; made harmless here.
    pub fn new(text: impl AsRef<str>) -> Self {
        Self { text: harmless(text.as_ref()), style: Style::new() }
    }

    pub fn styled(text: impl AsRef<str>, style: Style) -> Self {
        Self { style, ..Self::new(text) }
    }
}

/// How a column behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    /// As wide as its widest cell: ids, words, times.
    Fixed,
    /// Numbers, to the right.
    Number,
    /// Sentences, which wrap at spaces when there is not enough room.
    Text,
}

/// A table whose rows are all at hand.
#[derive(Debug)]
pub struct Table {
    measured: Measured,
    columns: Vec<Column>,
    rows: Vec<Vec<Cell>>,
    indent: usize,
}

const GAP: usize = 2;
/// A text column is not squeezed below this.
const LEAST_TEXT: usize = 16;

impl Table {
    pub fn new(columns: &[(&str, Column)]) -> Self {
        Self {
            measured: Measured::new(columns.iter().map(|(heading, _)| (*heading).to_owned())),
            columns: columns.iter().map(|(_, column)| *column).collect(),
            rows: Vec::new(),
            indent: 0,
        }
    }

    pub fn indent(mut self, indent: usize) -> Self {
        self.indent = indent;
        self
    }

    pub fn row(&mut self, cells: Vec<Cell>) {
        self.measured.add(&cells);
        self.rows.push(cells);
    }

    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Returns the lines of the table, headings first unless they are all empty.
    pub fn render(&self, width: usize, styles: &Styles) -> String {
        let layout = self.measured.layout(&self.columns, self.indent, width);
        let mut out = layout.headings(styles);
        self.rows.iter().for_each(|row| layout.render_row(row, &mut out));
        out
    }
}

/// How much room the cells of each column need, whether or not they are kept.
#[derive(Clone, Debug)]
pub struct Measured(Vec<Room>);

/// How much room the cells of a column need.
#[derive(Clone, Debug)]
struct Room {
    heading: String,
    /// The widest cell, the heading among them.
    widest: usize,
    /// The widest word of a cell.
    widest_word: usize,
}

impl Measured {
    /// Creates it for columns of which only the headings are known yet.
    pub fn new(headings: impl Iterator<Item = String>) -> Self {
        Self(headings.map(|heading| Room { widest: heading.width(), widest_word: 0, heading }).collect())
    }

    /// Takes the cells of another row into account.
    pub fn add(&mut self, cells: &[Cell]) {
        debug_assert_eq!(cells.len(), self.0.len());
        for (room, cell) in self.0.iter_mut().zip(cells) {
            room.widest = room.widest.max(cell.text.width());
            let widest_word = cell.text.split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
            room.widest_word = room.widest_word.max(widest_word);
        }
    }

    /// Leaves a column out.
    pub fn remove(&mut self, column: usize) {
        self.0.remove(column);
    }

    /// Returns how wide the table is at the least, with its sentences squeezed as far as they go.
    pub fn least_width(&self, columns: &[Column]) -> usize {
        self.widths(columns, 0, 0).iter().sum::<usize>() + GAP * columns.len().saturating_sub(1)
    }

    /// Lays the columns out in a width.
    pub fn layout(&self, columns: &[Column], indent: usize, width: usize) -> TableLayout {
        let headings = self.0.iter().map(|room| room.heading.clone()).collect();
        TableLayout { headings, columns: columns.to_vec(), widths: self.widths(columns, indent, width), indent }
    }

    fn widths(&self, columns: &[Column], indent: usize, width: usize) -> Vec<usize> {
        let mut widths: Vec<usize> = self.0.iter().map(|room| room.widest).collect();
        let gaps = GAP * columns.len().saturating_sub(1) + indent;
        let fixed: usize =
            widths.iter().zip(columns).filter(|(_, column)| **column != Column::Text).map(|(width, _)| width).sum();
        let mut room = width.saturating_sub(fixed + gaps);
        let mut texts: Vec<usize> = (0..widths.len()).filter(|at| columns[*at] == Column::Text).collect();
        // The narrow ones get what they want, the wide ones share the rest.
        texts.sort_by_key(|at| widths[*at]);
        let mut left = texts.len();
        for at in texts {
            let share = (room / left.max(1)).max(LEAST_TEXT).max(self.0[at].widest_word);
            widths[at] = widths[at].min(share);
            room = room.saturating_sub(widths[at]);
            left -= 1;
        }
        widths
    }
}

/// Where the columns of a table stand.
#[derive(Clone, Debug)]
pub struct TableLayout {
    headings: Vec<String>,
    columns: Vec<Column>,
    widths: Vec<usize>,
    indent: usize,
}

impl TableLayout {
    /// Returns the line of headings; nothing where they are all empty.
    pub fn headings(&self, styles: &Styles) -> String {
        let mut out = String::new();
        if self.headings.iter().any(|heading| !heading.is_empty()) {
            let cells: Vec<Cell> = self.headings.iter().map(|heading| Cell::styled(heading, styles.faint)).collect();
            self.render_row(&cells, &mut out);
        }
        out
    }

    /// Adds the lines of a row.
    pub fn render_row(&self, cells: &[Cell], out: &mut String) {
        let wrapped: Vec<Vec<String>> = cells
            .iter()
            .zip(&self.widths)
            .zip(&self.columns)
            .map(
                |((cell, width), column)| {
                    if *column == Column::Text { wrap(&cell.text, *width) } else { vec![cell.text.clone()] }
                },
            )
            .collect();
        let height = wrapped.iter().map(Vec::len).max().unwrap_or(1);
        for line in 0..height {
            let mut text = " ".repeat(self.indent);
            let mut pending = 0;
            for (at, cell) in cells.iter().enumerate() {
                let part = wrapped[at].get(line).map_or("", String::as_str);
                let space = self.widths[at].saturating_sub(part.width());
                let (before, after) = if self.columns[at] == Column::Number { (space, 0) } else { (0, space) };
                if !part.is_empty() {
                    text.push_str(&" ".repeat(pending + before));
                    pending = 0;
                    let style = cell.style;
                    text.push_str(&format!("{style}{part}{style:#}"));
                } else {
                    pending += before;
                }
                // Spaces at the end of a line are not written.
                pending += after + GAP;
            }
            out.push_str(text.trim_end_matches(' '));
            out.push('\n');
        }
    }
}

/// Breaks a text at spaces so that no line is wider than `width`, if its words allow.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ').filter(|word| !word.is_empty()) {
        let line = lines.last_mut().expect("there is always a line");
        if line.is_empty() {
            line.push_str(word);
        } else if line.width() + 1 + word.width() <= width {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// A text beside a word, wrapped so that all its lines begin below each other.
pub fn labelled(word: &str, text: &str, width: usize, styles: &Styles) -> String {
    let faint = styles.faint;
    let line = |(at, part): (usize, String)| {
        let word = if at == 0 { word } else { "" };
        format!("  {faint}{word:<9}{faint:#} {part}\n")
    };
    wrap(text, width.saturating_sub(13)).into_iter().enumerate().map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_align_by_shown_width_and_sentences_wrap() {
        let mut table = Table::new(&[("DEVICE", Column::Fixed), ("N", Column::Number), ("TITLE", Column::Text)]);
        table.row(vec![Cell::new("日本-1"), Cell::new("5"), Cell::new("one two three four five six")]);
        table.row(vec![Cell::new("a-very-long-id-that-stays-whole"), Cell::new("12"), Cell::new("x")]);
        let text = table.render(54, &Styles::plain());
        assert_eq!(
            text,
            "DEVICE                            N  TITLE\n\
             日本-1                            5  one two three\n                                     four five six\n\
             a-very-long-id-that-stays-whole  12  x\n"
        );
    }
}
