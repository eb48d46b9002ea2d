//! Puts the draft of a source together: what was guessed and why, and what could not be told.

use jiff::tz::TimeZone;

use super::columns::{Chosen, SampledColumn, TimeColumns, id_column, time_columns};
use super::fields::{Common, FieldLine, Lines, common_marks, lines_of};
use super::looks::{Looks, Times};
use super::rows::{GroupedRows, RowsGuess, grouped_rows};
use super::text::{beside, free_id, in_comment, pattern_of, quoted};
use super::words::tokens;
use super::{DraftFor, Sample, SourceDraft};
use crate::workspace::{Format, NumberMarks};

/// A key of the source with its value, and what to say beside it; a key that could not be told is written as a comment.
struct DraftLine {
    key: &'static str,
    value: String,
    remark: String,
    told: bool,
}

/// What a feed is about, and by which columns its records are told apart and dated.
struct KeyColumns<'c> {
    of_people: bool,
    id: Option<Chosen<'c>>,
    when: TimeColumns<'c>,
    rows: Option<GroupedRows<'c>>,
    marks: NumberMarks,
}

pub(super) fn draft(sample: &Sample, columns: &[SampledColumn], context: &DraftFor<'_>) -> SourceDraft {
    let records = sample.records.len();
    let of_people = sample.format == Format::Scim || !sample.format.is_of_one() && are_people(columns, records);
    let rows = sample.format.is_table().then(|| grouped_rows(columns, &sample.records, context)).flatten();
    let keys = KeyColumns {
        of_people,
        id: match &rows {
            Some(rows) => Some(Chosen { column: rows.device, because: rows.because.clone(), others: Vec::new() }),
            None => id_column(columns, records, of_people, context),
        },
        when: if of_people { TimeColumns::None } else { time_columns(columns, records, context) },
        rows,
        marks: common_marks(columns),
    };
    let mut text = heading(sample, columns, context);
    let head = Head { sample, keys: &keys, context };
    let head_lines = head.lines();
    let mut questions = head_lines.iter().filter(|line| !line.told).count();
    push_lines(&mut text, head_lines);
    let is_named = of_people || keys.id.is_some() || sample.format.is_of_one() || sample.keyed;
    let is_readable = is_named && sample.encoding.is_none();
    if sample.format == Format::Scim {
        text.push_str("\n# name, mail, unit, lead and language are taken from the standard's own attributes.\n");
        return SourceDraft { source: text, facts: Vec::new(), questions, is_readable };
    }
    let Lines { fields, facts } = lines(columns, &keys, sample, context);
    questions += fields.iter().filter(|field| field.question.is_some()).count();
    push_fields(&mut text, &fields);
    SourceDraft { source: text, facts, questions, is_readable }
}

fn heading(sample: &Sample, columns: &[SampledColumn], context: &DraftFor<'_>) -> String {
    let count = sample.records.len();
    let more = if sample.more { "the first " } else { "" };
    format!(
        "# A draft for {}: {more}{count} record{}, {} field{} looked at. Read it, finish it, and put it into fencepost.toml;\n\
         # then see what would come of it: fencepost import --dry-run {}\n\n[[source]]\n",
        in_comment(context.path),
        if count == 1 { "" } else { "s" },
        columns.len(),
        if columns.len() == 1 { "" } else { "s" },
        in_comment(context.path),
    )
}

fn push_lines(text: &mut String, lines: Vec<DraftLine>) {
    let width = lines.iter().map(|line| line.key.len() + if line.told { 0 } else { 2 }).max().unwrap_or(0);
    for line in lines {
        let (mark, pad) = if line.told { ("", width) } else { ("# ", width.saturating_sub(2)) };
        let code = format!("{mark}{:<pad$} = {}", line.key, line.value);
        text.push_str(&beside(&code, &line.remark, 40));
    }
}

fn push_fields(text: &mut String, fields: &[FieldLine]) {
    if fields.is_empty() {
        return;
    }
    text.push_str("\n[source.fields]\n");
    let length = |field: &FieldLine| field.column.chars().count() + if field.question.is_some() { 2 } else { 0 };
    let width = fields.iter().map(length).max().unwrap_or(0);
    for field in fields {
        let mark = if field.question.is_some() { "# " } else { "" };
        let pad = width - length(field);
        let remark = match &field.question {
            Some(question) if field.remark.is_empty() => format!("could not tell: {question}"),
            Some(question) => format!("could not tell: {question}; {}", field.remark),
            None => field.remark.clone(),
        };
        text.push_str(&beside(&format!("{mark}{}{} = {}", field.column, " ".repeat(pad), field.value), &remark, 50));
    }
}

/// Drafts the fields that are not the id, nor the moment of collection.
fn lines(columns: &[SampledColumn], keys: &KeyColumns<'_>, sample: &Sample, context: &DraftFor<'_>) -> Lines {
    let mut taken: Vec<&str> = keys.id.iter().map(|chosen| chosen.column.name.as_str()).collect();
    match &keys.when {
        TimeColumns::One(chosen) => taken.push(&chosen.column.name),
        TimeColumns::DayAndTime(day, time) => taken.extend([day.name.as_str(), time.name.as_str()]),
        TimeColumns::Several(_) | TimeColumns::None => {}
    }
    let (mut of_item, mut key): (&[String], Option<&str>) = (&[], None);
    match keys.rows.as_ref().map(|rows| &rows.rows) {
        // Its fields are the properties, which are facts as they are called.
        Some(RowsGuess::Facts { fact, value }) => taken.extend([fact.as_str(), value.as_str()]),
        Some(RowsGuess::Programs { key: program, of_item: columns }) => {
            (of_item, key) = (columns, Some(program.as_str()))
        }
        None => {}
    }
    let common = Common {
        of_people: keys.of_people,
        records: sample.records.len(),
        marks: keys.marks,
        time_format: keys.time_format(),
        of_item,
        key,
    };
    let wanted = |column: &&SampledColumn| {
        let is_told = sample.format.is_software_list() && column.name == "software";
        !taken.contains(&column.name.as_str()) && !is_told
    };
    lines_of(&columns.iter().filter(wanted).collect::<Vec<_>>(), &common, context)
}

impl KeyColumns<'_> {
    /// Returns the pattern by which the source reads moments, where it is sure.
    fn time_format(&self) -> Option<&'static str> {
        match &self.when {
            TimeColumns::One(chosen) => match &chosen.column.seen.looks {
                Looks::Times(Times::Pattern(pattern, None)) => Some(pattern),
                _ => None,
            },
            _ => None,
        }
    }
}

/// The keys of a source while they are put together.
struct Head<'h> {
    sample: &'h Sample,
    keys: &'h KeyColumns<'h>,
    context: &'h DraftFor<'h>,
}

impl Head<'_> {
    fn lines(&self) -> Vec<DraftLine> {
        let Self { sample, keys, context } = *self;
        let mut lines = Vec::new();
        let mut add = |key, value: String, remark: &str, told| {
            lines.push(DraftLine { key, value, remark: remark.to_owned(), told });
        };
        let file = context.path.rsplit('/').next().unwrap_or(context.path);
        let one = sample.format.is_of_one();
        add("id", quoted(&free_id(file, context.taken)), "", true);
        add("files", format!("[{}]", quoted(&pattern_of(context.path, one))), "which files are this feed", true);
        add("format", quoted(sample.format.as_str()), "", true);
        if sample.format == Format::Csv && sample.delimiter != b',' {
            let delimiter = char::from(sample.delimiter).to_string();
            add("delimiter", quoted(&delimiter), "", true);
        }
        if let Some(encoding) = sample.encoding {
            add(
                "encoding",
                quoted(encoding),
                "could not tell: its bytes are no UTF-8; this is the commonest other",
                false,
            );
        }
        if let Some(sheet) = &sample.sheet {
            add("sheet", quoted(sheet), "the one with the most rows", true);
        }
        if sample.skip_rows > 0 {
            add("skip_rows", sample.skip_rows.to_string(), "lines before the headings", true);
        }
        if let Some(path) = &sample.records_at {
            let says = if sample.keyed {
                "each member is a record"
            } else {
                "where the list of records stands in the document"
            };
            add("records", quoted(path), says, true);
        }
        if let NumberMarks { decimal: Some(decimal), thousands } = keys.marks {
            add("decimal", quoted(&decimal.to_string()), "as its numbers are written", true);
            if let Some(thousands) = thousands {
                add("thousands", quoted(&thousands.to_string()), "", true);
            }
        }
        self.id_lines(&mut lines);
        if keys.of_people {
            let remark = "could not tell: does each file list everybody?".to_owned();
            lines.push(DraftLine { key: "complete", value: "true".to_owned(), remark, told: false });
            return lines;
        }
        self.rows_line(&mut lines);
        self.time_lines(&mut lines);
        let mut ask = |key, value: &str, remark: &str| {
            lines.push(DraftLine {
                key,
                value: value.to_owned(),
                remark: format!("could not tell: {remark}"),
                told: false,
            });
        };
        ask("trust", "10", "where feeds disagree, the higher wins");
        ask("fresh_for", "\"3d\"", "after how long do its facts prove nothing?");
        if !one {
            ask("complete", "true", "does each file list the whole feed?");
        }
        ask("expected_every", "\"1d\"", "how often does it come?");
        lines
    }

    /// The key that says which field names the device or the person.
    fn id_lines(&self, lines: &mut Vec<DraftLine>) {
        let Self { sample, keys, .. } = *self;
        let key = if keys.of_people { "person" } else { "device" };
        let mut add = |key, value: String, remark: String, told| lines.push(DraftLine { key, value, remark, told });
        if sample.keyed {
            return add(key, quoted("@key"), "the key of each member".to_owned(), true);
        }
        match &keys.id {
            Some(Chosen { column, because, others }) => {
                let empty = match sample.records.len() - column.filled {
                    0 => String::new(),
                    empty => format!("; empty in {empty}, which would be set aside"),
                };
                let others = match others.as_slice() {
                    [] => String::new(),
                    some => {
                        let some: Vec<String> = some.iter().map(|name| quoted(name)).collect();
                        format!("; or {}", some.join(", "))
                    }
                };
                let remark = format!("{because}{}{empty}{others}", shown(column));
                // The service's own id stands aside in what is read of a SCIM response.
                let name = match (sample.format, column.name.as_str()) {
                    (Format::Scim, "service_id") => "id",
                    (_, name) => name,
                };
                if name != "device" || keys.of_people || sample.format.is_table() {
                    add(key, quoted(name), remark, true);
                }
            }
            None if sample.format.is_of_one() => add(
                "device_from",
                quoted("file-name"),
                "no field names the device, so the file's name does; or \"folder-name\"".to_owned(),
                true,
            ),
            None => add(key, quoted("?"), format!("could not tell: which field names the {key}?"), false),
        }
    }

    fn rows_line(&self, lines: &mut Vec<DraftLine>) {
        let Some(rows) = &self.keys.rows else { return };
        let value = match &rows.rows {
            RowsGuess::Programs { key, .. } => format!("{{ list = \"software\", key = {} }}", quoted(key)),
            RowsGuess::Facts { fact, value } => format!("{{ fact = {}, value = {} }}", quoted(fact), quoted(value)),
        };
        let remark = match &rows.rows {
            RowsGuess::Programs { .. } => "each row is a program",
            RowsGuess::Facts { .. } => "each row is a fact",
        };
        lines.push(DraftLine { key: "rows", value, remark: remark.to_owned(), told: true });
    }

    /// The keys that say when the state was collected.
    fn time_lines(&self, lines: &mut Vec<DraftLine>) {
        let Self { sample, keys, context } = *self;
        let mut add = |key, value: String, remark: String, told| lines.push(DraftLine { key, value, remark, told });
        match &keys.when {
            TimeColumns::One(Chosen { column, because, others }) => {
                let ambiguous = matches!(&column.seen.looks, Looks::Times(Times::Pattern(_, Some(_))));
                if column.name != "collected_at" || !matches!(sample.format, Format::Json | Format::JsonLines) {
                    let because = if because.is_empty() { "when the state was collected" } else { because };
                    let others: Vec<String> = others.iter().map(|name| quoted(name)).collect();
                    let others = if others.is_empty() { String::new() } else { format!("; or {}", others.join(", ")) };
                    add("collected", quoted(&column.name), format!("{because}{}{others}", shown(column)), true);
                }
                if let Looks::Times(times) = &column.seen.looks {
                    time_format_lines(times, ambiguous, context.zone, &mut add);
                }
            }
            TimeColumns::DayAndTime(day, time) => {
                let fields = format!("[{}, {}]", quoted(&day.name), quoted(&time.name));
                add("collected", fields, "a day and a time, put together".to_owned(), true);
                if let Looks::Times(Times::Pattern(pattern, second)) = &day.seen.looks {
                    let clock = if time.values.keys().all(|text| text.matches(':').count() == 2) {
                        "%H:%M:%S"
                    } else {
                        "%H:%M"
                    };
                    let told = second.is_none();
                    let remark = second.map_or_else(String::new, |second| doubt(&format!("{second} {clock}")));
                    add("time_format", quoted(&format!("{pattern} {clock}")), remark, told);
                }
                zone_line(context.zone, &mut add);
            }
            TimeColumns::Several(names) => {
                let names: Vec<String> = names.iter().map(|name| quoted(name)).collect();
                let remark = format!("could not tell: which field says when? {}", names.join(", "));
                add("collected", quoted("?"), remark, false);
            }
            TimeColumns::None if sample.format.is_software_list() => {}
            TimeColumns::None => add(
                "collected",
                quoted("?"),
                "could not tell: which field says when? Without it, the file's own time".to_owned(),
                false,
            ),
        }
    }
}

fn doubt(second: &str) -> String {
    format!("or {}: could not tell day from month", quoted(second))
}

fn time_format_lines(
    times: &Times,
    ambiguous: bool,
    zone: &TimeZone,
    add: &mut impl FnMut(&'static str, String, String, bool),
) {
    match times {
        Times::Instants | Times::Since1970 => return,
        Times::Local => {}
        Times::Pattern(pattern, second) => {
            add("time_format", quoted(pattern), second.map_or_else(String::new, doubt), !ambiguous);
        }
    }
    zone_line(zone, add);
}

fn zone_line(zone: &TimeZone, add: &mut impl FnMut(&'static str, String, String, bool)) {
    let remark = "the times name no offset: the workspace's zone, unless another is said".to_owned();
    add("time_zone", quoted(zone.iana_name().unwrap_or("UTC")), remark, false);
}

/// Whether the records are rather people than devices: most have a mail address, and nothing says a version.
fn are_people(columns: &[SampledColumn], records: usize) -> bool {
    let mails = columns.iter().any(|column| {
        let addresses = column.shown.iter().filter(|text| text.contains('@') && !text.contains(' ')).count();
        column.filled * 2 >= records && addresses > 0 && addresses == column.shown.len()
    });
    let devices = columns.iter().any(|column| {
        column.seen.looks == Looks::Version
            || tokens(&column.name).iter().any(|token| matches!(token.as_str(), "os" | "platform" | "serial" | "model"))
    });
    mails && !devices
}

fn shown(column: &SampledColumn) -> String {
    column.shown.first().map_or_else(String::new, |text| format!(": {}", in_comment(text)))
}
