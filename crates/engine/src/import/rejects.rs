//! The records of a file that were set aside: the first ones with their lines and reasons, the rest counted by reason.

use std::collections::BTreeMap;

use fencepost_core::limits::REJECTS_KEPT;
use fencepost_formats::RejectKind;
use fencepost_store::RejectRow;

/// Records of one file that were set aside.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Rejects {
    kept: Vec<RejectRow>,
    /// How many there are besides those that are kept.
    further: BTreeMap<RejectKind, u64>,
    /// Some lie in the future, and may be taken later.
    clock: bool,
    /// All of them, by reason.
    by_kind: BTreeMap<RejectKind, RejectCount>,
}

/// Records that were set aside for the same reason.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RejectCount {
    /// How many.
    pub count: u64,
    /// The lines of the first of them.
    pub lines: Vec<i64>,
}

/// So many lines of each reason are remembered.
const LINES: usize = 5;

impl Rejects {
    /// Adds a record, in the order of the file.
    pub(super) fn add(&mut self, kind: RejectKind, row: RejectRow) {
        self.clock |= kind == RejectKind::Clock;
        let found = self.by_kind.entry(kind).or_default();
        found.count += 1;
        if found.lines.len() < LINES {
            found.lines.push(row.line);
        }
        if (self.kept.len() as u64) < REJECTS_KEPT {
            self.kept.push(row);
        } else {
            *self.further.entry(kind).or_default() += 1;
        }
    }

    /// Returns how many records were set aside.
    pub fn count(&self) -> u64 {
        self.kept.len() as u64 + self.further.values().sum::<u64>()
    }

    /// Returns whether no record was set aside.
    pub fn is_empty(&self) -> bool {
        self.kept.is_empty()
    }

    /// Returns how many were set aside for each reason, with their first lines.
    pub fn by_reason(&self) -> impl Iterator<Item = (&'static str, &RejectCount)> {
        self.by_kind.iter().map(|(kind, found)| (kind.as_str(), found))
    }

    /// Returns the first records that were set aside.
    pub fn first(&self) -> &[RejectRow] {
        &self.kept
    }

    /// Returns whether a record was set aside because it lies in the future.
    pub(super) fn has_clock(&self) -> bool {
        self.clock
    }

    /// Returns the rows to keep: one for each of the first records, and one for each reason of the further ones, at the line
    /// behind them.
    pub(super) fn rows(&self) -> impl Iterator<Item = RejectRow> {
        let last = self.kept.last();
        let further = self.further.iter().filter_map(move |(kind, count)| {
            let last = last?;
            let reason = format!("{count} more records from here on: {}", kind.as_str());
            Some(RejectRow { count: i64::try_from(*count).unwrap_or(i64::MAX), reason, ..last.clone() })
        });
        self.kept.iter().cloned().chain(further)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_are_kept_and_the_rest_counted_by_reason() {
        let mut rejects = Rejects::default();
        for line in 0..REJECTS_KEPT as i64 + 30 {
            let kind = if line % 3 == 0 { RejectKind::Unreadable } else { RejectKind::NoId };
            let (source, path, reason) = ("s".to_owned(), "f".to_owned(), format!("reason {line}"));
            rejects.add(kind, RejectRow { run: 1, source, path, line, offset: 0, reason, count: 1 });
        }
        assert_eq!(rejects.count(), REJECTS_KEPT + 30);
        let rows: Vec<RejectRow> = rejects.rows().collect();
        assert_eq!(rows.len() as u64, REJECTS_KEPT + 2);
        assert_eq!(rows.iter().map(|row| row.count).sum::<i64>() as u64, REJECTS_KEPT + 30);
        assert_eq!(rows.last().unwrap().reason, "20 more records from here on: names nobody");
        assert!(!rejects.has_clock());
        let (reason, found) = rejects.by_reason().next().unwrap();
        assert_eq!((reason, found.count, &found.lines[..]), ("cannot be read", 344, &[0, 3, 6, 9, 12][..]));
    }
}
