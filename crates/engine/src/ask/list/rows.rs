//! Rows on their way into a list: filtered, then sorted or counted, and written to a temporary file where they are many.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use bumpalo::Bump;
use fencepost_core::{
    Condition, Declaration, Diagnostic, Dictionary, DocumentReader, Evaluator, FactType, FileId, GroupId, Layout,
    Observation, Place, Reason, Severity, Standing, Text, Value, Vocabulary, merge,
};
use fencepost_formats::JsonDocuments;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Map, Value as Json, json};

use super::{Column, ListQuery, Listing};
use crate::error::EngineError;
use crate::ledger_view::fence::Post;
use crate::ledger_view::reading::Reading;
use fencepost_spool::{Encoded, Sorter, Spool, encode};

/// A row: a value for each name of a column; null for names that are left out.
pub(super) type Row<'n> = Vec<(&'n str, Json)>;

/// Makes a row.
pub(super) fn row<const N: usize>(cells: [(&'static str, Json); N]) -> Row<'static> {
    cells.into()
}

/// A part of a whole, from 0 to 1; null where there is no whole.
pub(super) fn fraction(part: u64, whole: u64) -> Json {
    json!((whole > 0).then(|| part as f64 / whole as f64))
}

/// Takes the rows of a list.
pub(super) struct RowSink {
    /// All columns that a row has.
    columns: Vec<String>,
    plan: RowPlan,
    filter: Option<RowFilter>,
    kept: KeptRows,
    /// How rows are counted.
    counts: Option<RowCounts>,
    /// By what counted rows are sorted.
    counts_order: Option<(String, bool)>,
    total: u64,
    matched: u64,
    /// Of how many rows it could not be told whether the filter holds.
    untold: UntoldRows,
}

/// What is kept of rows.
#[derive(Clone, Debug)]
pub(super) struct RowPlan {
    /// The positions of the columns that are shown.
    shown: Vec<usize>,
    /// The position of the column by which is sorted, and whether it is downwards.
    order: Option<(usize, bool)>,
    /// Where rows are counted: by what.
    counted: Option<CountedBy>,
}

/// By what rows are counted.
#[derive(Clone, Debug)]
struct CountedBy {
    /// The positions of the columns by whose values.
    columns: Vec<usize>,
    /// The standing, where it is counted too.
    standing: Option<StandingColumns>,
}

impl RowPlan {
    /// Makes of a row what is kept of it: work that may be done on any thread.
    pub(super) fn prepare(&self, key: &[u8], cells: Vec<Json>) -> PreparedRow {
        if let Some(CountedBy { columns, standing }) = &self.counted {
            let standing = standing.and_then(|columns| columns.of(&cells));
            return PreparedRow::Counted { values: columns.iter().map(|at| cells[*at].clone()).collect(), standing };
        }
        let mut sort_key = Vec::new();
        if let Some((column, down)) = self.order {
            push_sort_key(&mut sort_key, &cells[column], down);
        }
        sort_key.extend_from_slice(key);
        let shown: Vec<&Json> = self.shown.iter().map(|at| &cells[*at]).collect();
        PreparedRow::KeptRows { sort_key, cells: encode(&shown) }
    }
}

/// Rows that are kept.
enum KeptRows {
    AsTheyCome(Spool<Vec<Json>>),
    Sorted(Sorter<Vec<Json>>),
}

impl RowSink {
    /// Creates a sink for rows with these columns.
    ///
    /// # Errors
    /// Fails if a column that is asked for is not among them.
    pub(super) fn new(
        query: ListQuery<'_>,
        columns: Vec<Column>,
        filter: Option<RowFilter>,
    ) -> Result<Self, EngineError> {
        let names: Vec<String> = columns.iter().map(|column| column.name.clone()).collect();
        let position =
            |name: &str| names.iter().position(|known| known == name).ok_or_else(|| unknown_column(name, names.iter()));
        let shown = match (query.by, query.columns) {
            ([], []) => (0..columns.len()).filter(|at| columns[*at].is_usual).collect(),
            ([], asked) => asked.iter().map(|name| position(name)).collect::<Result<_, _>>()?,
            (_, _) => Vec::new(),
        };
        let by: Vec<usize> = query.by.iter().map(|name| position(name)).collect::<Result<_, _>>()?;
        let is_counted = !by.is_empty();
        let is_of_devices = query.kind == super::Kind::Devices && !query.by.iter().any(|name| name == "standing");
        let standing = match is_of_devices {
            true => Some(StandingColumns { standing: position("standing")?, waived: position("waived")? }),
            false => None,
        };
        let new_counts = || RowCounts {
            columns: by.clone(),
            counts_standings: standing.is_some(),
            by_items: false,
            groups: BTreeMap::new(),
        };
        let counts = is_counted.then(new_counts);
        let (mut order, mut counts_order) = (None, None);
        match query.sorted_by() {
            Some((column, down)) if is_counted => counts_order = Some((column.to_owned(), down)),
            Some((column, down)) => order = Some((position(column)?, down)),
            None => {}
        }
        let kept = match order {
            Some(_) => KeptRows::Sorted(Sorter::default()),
            None => KeptRows::AsTheyCome(Spool::default()),
        };
        let (total, matched) = (0, 0);
        let plan = RowPlan { shown, order, counted: is_counted.then_some(CountedBy { columns: by, standing }) };
        Ok(Self {
            columns: names,
            plan,
            filter,
            kept,
            counts,
            counts_order,
            total,
            matched,
            untold: UntoldRows::default(),
        })
    }

    /// Returns whether a column is shown, sorted, counted or filtered by; of others the value is not needed.
    pub(super) fn asks_for(&self, name: &str) -> bool {
        let Some(column) = self.columns.iter().position(|known| known == name) else { return false };
        let RowPlan { shown, order, counted } = &self.plan;
        shown.contains(&column)
            || order.is_some_and(|(by, _)| by == column)
            || counted.as_ref().is_some_and(|counted| counted.columns.contains(&column))
            || self.filter.as_ref().is_some_and(|filter| filter.reads(name))
    }

    /// Says that rows come with a key of their own, and not in the order in which they are to be listed.
    pub(super) fn sort_by_keys(&mut self) {
        self.kept = KeptRows::Sorted(Sorter::default());
    }

    /// Takes a row.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be written.
    pub(super) fn push(&mut self, row: Row<'_>) -> Result<(), EngineError> {
        self.push_with_key(&[], row)
    }

    /// Takes rows.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be written.
    pub(super) fn push_all(&mut self, rows: impl IntoIterator<Item = Row<'static>>) -> Result<(), EngineError> {
        rows.into_iter().try_for_each(|row| self.push(row))
    }

    /// Takes a row with the key that orders it among those that the sorted column leaves equal.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be written.
    pub(super) fn push_with_key(&mut self, key: &[u8], row: Row<'_>) -> Result<(), EngineError> {
        let mut cells = vec![Json::Null; self.columns.len()];
        for (name, value) in row {
            let at = self.columns.iter().position(|known| known == name);
            debug_assert!(at.is_some(), "{name} is among the columns");
            if let Some(at) = at {
                cells[at] = value;
            }
        }
        self.push_cells(key, cells)
    }

    /// Takes a row as a value for each column.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be written.
    fn push_cells(&mut self, key: &[u8], cells: Vec<Json>) -> Result<(), EngineError> {
        match self.filter.as_mut().map_or(Told::Passes, |filter| filter.tell(&self.columns, &cells)) {
            Told::Passes => return self.push_prepared(self.plan.prepare(key, cells)),
            Told::Fails => self.pass_over(),
            Told::Not(reason) => self.pass_over_untold(reason),
        }
        Ok(())
    }

    /// Returns what is kept of rows, for preparing them elsewhere.
    pub(super) fn plan(&self) -> RowPlan {
        self.plan.clone()
    }

    /// Takes a row that was prepared.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be written.
    pub(super) fn push_prepared(&mut self, row: PreparedRow) -> Result<(), EngineError> {
        self.total += 1;
        self.matched += 1;
        match (row, &mut self.kept, &mut self.counts) {
            (PreparedRow::Counted { values, standing }, _, Some(counts)) => {
                counts.add(&values, standing);
                Ok(())
            }
            (PreparedRow::KeptRows { cells, .. }, KeptRows::AsTheyCome(rows), _) => Ok(rows.push_encoded(&cells)?),
            (PreparedRow::KeptRows { sort_key, cells }, KeptRows::Sorted(rows), _) => {
                Ok(rows.push_encoded(&sort_key, &cells)?)
            }
            (PreparedRow::Counted { .. }, _, None) => unreachable!("rows are prepared by the sink that takes them"),
        }
    }

    /// Counts a row that a filter of its own has passed over.
    pub(super) fn pass_over(&mut self) {
        self.total += 1;
    }

    /// Counts a row of which it could not be told whether the filter holds.
    pub(super) fn pass_over_untold(&mut self, reason: UntoldReason) {
        self.total += 1;
        self.untold.add(reason);
    }

    /// Returns the list.
    ///
    /// # Errors
    /// Fails if a temporary file cannot be read or written, or counted rows have no column to be sorted by.
    pub(super) fn finish(self) -> Result<Listing, EngineError> {
        let warnings = self.filter.map(|filter| filter.warnings).unwrap_or_default();
        let by_items = self.counts.as_ref().is_some_and(|counts| counts.by_items);
        let (columns, rows) = match self.counts {
            Some(counts) => counts.finish(&self.columns, self.counts_order, self.matched)?,
            None => {
                let columns = self.plan.shown.iter().map(|at| self.columns[*at].clone()).collect();
                let rows = match self.kept {
                    KeptRows::AsTheyCome(rows) => rows,
                    KeptRows::Sorted(rows) => rows.finish()?,
                };
                (columns, rows)
            }
        };
        let Self { total, matched, untold, .. } = self;
        Ok(Listing { columns, rows, total, matched, untold, by_items, item_path: None, warnings })
    }
}

/// What is kept of a row.
pub(super) enum PreparedRow {
    /// The values by which it is counted, and how the device stands.
    Counted { values: Vec<Json>, standing: Option<Post> },
    /// What orders it, and the cells that are shown.
    KeptRows { sort_key: Vec<u8>, cells: Encoded<Vec<Json>> },
}

/// The columns that say how the devices of a value stand, as [`Standing::ALL`] has them.
const STANDINGS: [&str; Standing::ALL.len()] = ["compliant", "on_notice", "unproven", "non_compliant"];

/// The positions of the columns that say how a device stands.
#[derive(Clone, Copy, Debug)]
struct StandingColumns {
    standing: usize,
    waived: usize,
}

impl StandingColumns {
    /// Returns how a device stands; none where it was not assessed.
    fn of(self, cells: &[Json]) -> Option<Post> {
        let standing = cells[self.standing].as_str().and_then(Standing::parse);
        let waived = cells[self.waived].as_u64().unwrap_or(0);
        standing.map(|standing| Post::of_counts(standing, waived))
    }
}

/// Rows counted by the values of columns; devices also by how they stand.
struct RowCounts {
    columns: Vec<usize>,
    /// Rows are devices, whose standings are counted too.
    counts_standings: bool,
    /// Some value was a list.
    by_items: bool,
    groups: BTreeMap<String, Count>,
}

/// How many rows have a value, or several in as many columns.
struct Count {
    values: Vec<Json>,
    rows: u64,
    standings: [u64; STANDINGS.len()],
    by_waiver: u64,
}

impl RowCounts {
    /// Counts a row: once for each item where its value is a list, and for each pair of items where two are.
    fn add(&mut self, values: &[Json], stands: Option<Post>) {
        self.by_items |= values.iter().any(Json::is_array);
        let mut combinations: Vec<Vec<&Json>> = vec![Vec::new()];
        for value in values {
            let items: Vec<&Json> = match value {
                Json::Array(items) if items.is_empty() => vec![&Json::Null],
                Json::Array(items) => items.iter().collect(),
                one => vec![one],
            };
            let mut longer = Vec::with_capacity(combinations.len() * items.len());
            for before in &combinations {
                longer.extend(items.iter().map(|item| [before.as_slice(), &[*item]].concat()));
            }
            combinations = longer;
        }
        let mut seen = BTreeSet::new();
        for values in combinations {
            let text = json!(values).to_string();
            if !seen.insert(text.clone()) {
                continue;
            }
            let new = || Count {
                values: values.into_iter().cloned().collect(),
                rows: 0,
                standings: [0; STANDINGS.len()],
                by_waiver: 0,
            };
            let count = self.groups.entry(text).or_insert_with(new);
            count.rows += 1;
            if let Some(post) = stands {
                count.standings[post.standing as usize] += 1;
                count.by_waiver += u64::from(post.by_waiver);
            }
        }
    }

    /// Returns the columns and rows, the commonest first unless another order is asked for; `total` is how many rows were
    /// counted.
    fn finish(
        self,
        columns: &[String],
        order: Option<(String, bool)>,
        total: u64,
    ) -> Result<(Vec<String>, Spool<Vec<Json>>), EngineError> {
        let is_of_devices = self.counts_standings;
        let mut names: Vec<String> = self.columns.iter().map(|at| columns[*at].clone()).collect();
        if !self.groups.is_empty() {
            names.push("count".to_owned());
            if is_of_devices {
                names.push("share".to_owned());
            }
            names.push("part".to_owned());
            if is_of_devices {
                names.extend(STANDINGS.map(str::to_owned));
                names.push("waived".to_owned());
            }
        }
        let mut counted: Vec<Count> = self.groups.into_values().collect();
        let by_values = |a: &Count, b: &Count| {
            let pairs = a.values.iter().zip(&b.values);
            pairs.map(|(a, b)| compare_cells(a, b)).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
        };
        counted.sort_by(|a, b| b.rows.cmp(&a.rows).then_with(|| by_values(a, b)));
        let mut rows: Vec<Vec<Json>> = counted
            .into_iter()
            .map(|Count { values, rows, standings, by_waiver }| {
                let mut cells = values;
                cells.push(json!(rows));
                if is_of_devices {
                    cells.push(fraction(standings[Standing::Compliant as usize], rows));
                }
                cells.push(fraction(rows, total));
                if is_of_devices {
                    cells.extend(standings.map(Json::from));
                    cells.push(json!(by_waiver));
                }
                cells
            })
            .collect();
        if let Some((column, down)) = order.filter(|_| !rows.is_empty()) {
            let at = names.iter().position(|name| *name == column);
            let at = at.ok_or_else(|| unknown_column(&column, names.iter()))?;
            rows.sort_by(|a, b| {
                let order = compare_cells(&a[at], &b[at]);
                if down { order.reverse() } else { order }
            });
        }
        let mut spool = Spool::default();
        rows.iter().try_for_each(|cells| spool.push(cells))?;
        Ok((names, spool))
    }
}

fn compare_cells(a: &Json, b: &Json) -> Ordering {
    let key = |cell| {
        let mut key = Vec::new();
        push_sort_key(&mut key, cell, false);
        key
    };
    key(a).cmp(&key(b))
}

/// Adds bytes that order as the values do: texts, then numbers, then everything else by its JSON, and what has no value last. No
/// key is the beginning of another.
pub(super) fn push_sort_key(key: &mut Vec<u8>, cell: &Json, down: bool) {
    let start = key.len();
    match cell {
        Json::String(text) => {
            key.push(1);
            push_text(key, text);
        }
        Json::Number(number) => {
            key.push(2);
            // Zero has two forms.
            let bits = (number.as_f64().unwrap_or(0.0) + 0.0).to_bits();
            let ordered = if bits >> 63 == 1 { !bits } else { bits | 1 << 63 };
            key.extend_from_slice(&ordered.to_be_bytes());
        }
        Json::Null => key.push(4),
        other @ (Json::Bool(_) | Json::Array(_) | Json::Object(_)) => {
            key.push(3);
            push_text(key, &other.to_string());
        }
    }
    if down {
        key[start..].iter_mut().for_each(|byte| *byte = !*byte);
    }
}

/// Adds a text, with an end that is less than whatever may follow in a longer text.
pub(super) fn push_text(key: &mut Vec<u8>, text: &str) {
    for byte in text.bytes() {
        key.push(byte);
        if byte == 0 {
            key.push(0xff);
        }
    }
    key.extend_from_slice(&[0, 0]);
}

pub(super) fn unknown_column<'a>(column: &str, known: impl Iterator<Item = &'a String>) -> EngineError {
    let known: Vec<&str> = known.map(String::as_str).collect();
    let help =
        fencepost_core::did_you_mean(column, known.iter().copied(), || format!("columns are {}", known.join(", ")));
    EngineError::refused(format!("there is no column `{column}`"), help)
}

/// A condition over the facts of devices, or the columns of rows.
#[derive(Debug, Default)]
pub(crate) struct Filter {
    pub condition: Option<Condition>,
    pub warnings: Vec<Diagnostic>,
}

impl Filter {
    /// Compiles a condition.
    ///
    /// # Errors
    /// Returns the mistakes in it.
    pub(super) fn compile(filter: &str, vocabulary: &mut Vocabulary<'_>) -> Result<Self, Vec<Diagnostic>> {
        let mut mistakes = Vec::new();
        let condition = Condition::compile(&Text::whole(filter, FileId(0)), Place::Devices, vocabulary, &mut mistakes);
        if condition.is_none() || mistakes.iter().any(|mistake| mistake.severity == Severity::Error) {
            return Err(mistakes);
        }
        Ok(Self { condition, warnings: mistakes })
    }
}

/// A condition over the columns of rows.
pub(super) struct RowFilter {
    condition: Option<Condition>,
    warnings: Vec<Diagnostic>,
    layout: Layout,
    at: Timestamp,
    zone: TimeZone,
    arena: Bump,
}

impl RowFilter {
    /// Compiles a condition over columns.
    ///
    /// # Errors
    /// Returns the mistakes in it.
    pub(super) fn compile(filter: &str, columns: &[Column], reading: &Reading<'_>) -> Result<Self, Vec<Diagnostic>> {
        let reported = columns.iter().map(|column| column.name.clone()).collect();
        let instant = Declaration { ty: Some(FactType::Instant), ..Declaration::default() };
        let moments = columns.iter().filter(|column| column.is_moment);
        let facts = moments.map(|column| (column.name.clone(), instant.clone())).collect();
        let dictionary = Dictionary { reported: Some(reported), facts };
        let (mut layout, mut people) = (Layout::new(&dictionary), Layout::new(&dictionary));
        let (groups, rules): (Vec<GroupId>, Vec<String>) = (Vec::new(), Vec::new());
        let mut vocabulary = Vocabulary {
            dictionary: &dictionary,
            layout: &mut layout,
            people: &mut people,
            groups: &groups,
            rules: &rules,
        };
        let Filter { condition, warnings } = Filter::compile(filter, &mut vocabulary)?;
        // A filter that names what no row has tells no row from another.
        if warnings.iter().any(|warning| warning.code == "unknown-fact") {
            return Err(warnings.into_iter().map(|warning| column_mistake(warning, filter, columns)).collect());
        }
        let zone = reading.project.config.calendar.zone.clone();
        Ok(Self { condition, warnings, layout, at: reading.at, zone, arena: Bump::new() })
    }

    /// Returns whether the condition may read a column.
    fn reads(&self, name: &str) -> bool {
        let slot = self.layout.child(Layout::ROOT, name).and_then(|node| self.layout.slot(node));
        let mut read = self.condition.iter().flat_map(Condition::may_read);
        slot.is_some_and(|slot| read.any(|known| *known == slot))
    }

    /// Tells whether the condition holds for a row.
    fn tell(&mut self, columns: &[String], cells: &[Json]) -> Told {
        let Some(condition) = &self.condition else { return Told::Passes };
        self.arena.reset();
        let row: Map<String, Json> = columns.iter().cloned().zip(cells.iter().cloned()).collect();
        let text = Json::Object(row).to_string();
        let read = JsonDocuments::default().read(text.as_bytes(), &self.layout, &self.arena);
        let Ok(read) = read else { return Told::Not(UntoldReason::NoValue) };
        let observation = [Observation {
            source: "row",
            trust: 0,
            collected: None,
            fresh_for: None,
            calendar: None,
            slots: read.slots,
        }];
        let facts = merge(&observation, std::iter::empty(), &self.layout, self.at, &self.arena);
        let mut evaluator = Evaluator::new(Some(&facts), self.at, &self.zone, &self.arena);
        Told::of(&evaluator.holds(condition))
    }
}

/// Whether a row passes a filter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Told {
    Passes,
    Fails,
    /// It cannot be told.
    Not(UntoldReason),
}

impl Told {
    /// Tells it by what a condition came to.
    pub(super) fn of(value: &Value<'_>) -> Self {
        match value {
            Value::Boolean(true) => Self::Passes,
            Value::Boolean(false) => Self::Fails,
            Value::Unknown(unknown) => Self::Not(UntoldReason::Unknown(unknown.reason)),
            _ => Self::Not(UntoldReason::NoValue),
        }
    }
}

/// Why it cannot be told whether a row passes a filter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum UntoldReason {
    /// A fact is not known, for this reason.
    Unknown(Reason),
    /// A column has no value.
    NoValue,
}

/// How many rows it could not be told of whether they pass a filter, and why.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UntoldRows {
    /// The word for the reason, with how many rows.
    pub by_reason: BTreeMap<&'static str, u64>,
}

impl UntoldRows {
    fn add(&mut self, reason: UntoldReason) {
        let word = match reason {
            UntoldReason::Unknown(reason) => reason.as_str(),
            UntoldReason::NoValue => "no-value",
        };
        *self.by_reason.entry(word).or_default() += 1;
    }

    /// Returns how many rows there are in all.
    pub fn total(&self) -> u64 {
        self.by_reason.values().sum()
    }
}

/// Turns the warning of a name that no row has into an error, with what was meant where it is the word of a column.
fn column_mistake(warning: Diagnostic, filter: &str, columns: &[Column]) -> Diagnostic {
    const WORDS: [(&str, &[&str]); 4] = [
        ("phase", &["open", "overdue", "closed"]),
        ("severity", &["low", "medium", "high", "critical"]),
        ("stage", &["draft", "trial", "enforced"]),
        ("standing", &["compliant", "unproven"]),
    ];
    if warning.code != "unknown-fact" {
        return warning;
    }
    let name = warning.span.as_ref().and_then(|span| filter.get(span.range.clone())).unwrap_or_default();
    let has = |column: &str| columns.iter().any(|known| known.name == column);
    let meant = WORDS.iter().find(|(column, words)| has(column) && words.contains(&name));
    let known: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    let help = match meant {
        Some((column, _)) => format!("write {column} = \"{name}\""),
        None => {
            fencepost_core::did_you_mean(name, known.iter().copied(), || format!("columns are {}", known.join(", ")))
        }
    };
    Diagnostic::error("unknown-column", format!("there is no column `{name}`"), warning.span).help(help)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sort_keys_order_as_values_do() {
        let ascending = [
            json!(""),
            json!("a"),
            json!("a\u{0}"),
            json!("a\u{0}b"),
            json!("ab"),
            json!("b"),
            json!(-3.5),
            json!(-1),
            json!(0),
            json!(2),
            json!(10),
            json!(1e300),
            json!(["x"]),
            json!(false),
            json!(true),
            json!({ "k": 1 }),
            Json::Null,
        ];
        for (at, one) in ascending.iter().enumerate() {
            for (other_at, other) in ascending.iter().enumerate() {
                assert_eq!(compare_cells(one, other), at.cmp(&other_at), "{one} {other}");
                let (mut down, mut other_down) = (Vec::new(), Vec::new());
                push_sort_key(&mut down, one, true);
                push_sort_key(&mut other_down, other, true);
                assert_eq!(down.cmp(&other_down), other_at.cmp(&at), "{one} {other}, downwards");
            }
        }
        assert_eq!(compare_cells(&json!(0.0), &json!(-0.0)), Ordering::Equal);
    }
}
