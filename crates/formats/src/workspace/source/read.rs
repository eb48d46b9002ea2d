//! Reads a `[[source]]` of `fencepost.toml`.

use encoding_rs::Encoding;
use fencepost_core::{Diagnostic, Named, SourceId};
use glob::Pattern;

use super::keys::{ABOUT, EMPTY, LETTER_CASES, NAMES_FROM};
use super::{
    CellRules, Field, FieldUnit, Format, IdForm, ItemFields, NameFrom, NumberMarks, RowsAs, Source, SourceKind,
    TableLayout,
};
use crate::workspace::config::zone;
use crate::workspace::table::{Entry, Table, TableReader};

pub(in crate::workspace) fn read(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<Source> {
    let id = reader.id(table, "a [[source]]")?;
    let mut source = Source { id: SourceId::new(id.text.as_str()), ..Source::native() };
    source.format = reader.word(table, "format", &Format::ALL).unwrap_or(Format::JsonLines);
    read_kind(reader, table, &mut source);
    source.files = file_patterns(reader, table);
    source.encoding = encoding(reader, table);
    source.table = table_layout(reader, table);
    read_id(reader, table, &mut source);
    source.records = reader.string(table, "records");
    source.id_from = reader.word(table, "device_from", &NAMES_FROM).unwrap_or_default();
    source.under = reader.string(table, "under");
    source.time_format = time_format(reader, table);
    source.speaks_for = reader.text(table, "speaks_for");
    source.expected_every = reader.period(table, "expected_every");
    read_collected(reader, table, &mut source);
    check_fit(reader, table, &source);
    source.missing_when = reader.strings(table, "missing_when");
    source.empty_is_null = reader.word(table, "empty", &EMPTY).unwrap_or(false);
    source.numbers = number_marks(reader, table);
    source.time_zone = zone(reader, table);
    source.trust = reader.integer(table, "trust").unwrap_or(0);
    source.fresh_for = reader.period(table, "fresh_for");
    source.complete = reader.boolean(table, "complete").unwrap_or(false);
    read_fields(reader, table, &mut source);
    Some(source)
}

/// Reads what a source is about.
fn read_kind(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    // A SCIM list is one of people, whatever names them.
    let scim = source.format == Format::Scim && table.get("device").is_none();
    if table.get("person").is_some() || scim {
        source.kind = SourceKind::People;
        source.collected_field = None;
        if let (Some(_), Some(person)) = (table.get("device"), table.get("person")) {
            reader.error(
                "wrong-kind",
                "a source is about devices or about people, not both",
                person.span(),
                "keep `device` or `person`, and make a second [[source]] for the other",
            );
        }
    }
    if let Some(kind) = reader.word(table, "about", &ABOUT) {
        source.kind = kind;
        source.collected_field = None;
        source.id_field = kind.noun().to_owned();
    }
}

/// Reads the patterns of the files that belong to a source.
fn file_patterns(reader: &mut TableReader<'_>, table: &Table<'_>) -> Vec<Pattern> {
    let mut patterns = Vec::new();
    for Named { text, span } in reader.names(table, "files") {
        match Pattern::new(&text) {
            Ok(pattern) => patterns.push(pattern),
            Err(error) => {
                let message = format!("`{text}` is no file pattern: {}", error.msg);
                let help = "`*` stands for any part of a name, as in \"exports/handhelds-*.csv\"";
                reader.report(Diagnostic::error("bad-pattern", message, span).help(help));
            }
        }
    }
    patterns
}

/// Reads which field is the id; formats that have one of their own need not name it.
fn read_id(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    // What delivery is meant is no key of a source of its own.
    if source.kind != SourceKind::Commands {
        id_field(reader, table, source);
    }
    if table.get(source.kind.noun()).is_none() {
        match source.format {
            Format::Scim => source.id_field = "userName".to_owned(),
            Format::CycloneDx | Format::Spdx => source.id_field = "name".to_owned(),
            _ => {}
        }
    }
}

/// Reads what says when a record was collected.
fn read_collected(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    let mut collected = reader.strings(table, "collected").into_iter();
    match (source.kind, collected.next()) {
        (SourceKind::State, Some(field)) => {
            source.collected_field = Some(field);
            source.collected_further = collected.collect();
        }
        // Only JSON has a `collected_at` of its own accord.
        (SourceKind::State, None) if !matches!(source.format, Format::JsonLines | Format::Json) => {
            source.collected_field = match source.format {
                Format::CycloneDx => Some("timestamp".to_owned()),
                Format::Spdx => Some("created".to_owned()),
                _ => None,
            };
        }
        _ => {}
    }
    if let Some(pattern) = collected_from(reader, table) {
        source.collected_from_name = Some(pattern);
        source.collected_field = None;
    }
}

/// Reads which fact each field is, and takes those out that are none.
fn read_fields(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    if let Some(fields) = reader.table(table, "fields") {
        for Entry { key: name, span, value } in fields.entries() {
            let field = match reader.inner(&fields, &name, value) {
                Some(detail) => field(reader, &detail, span, &mut source.units),
                None => reader.string(&fields, &name).map(Field::of),
            };
            source.fields.extend(field.map(|field| (name, field)));
        }
        item_fields(reader, &fields, source);
    }
    if source.kind == SourceKind::Commands
        && let Some(at) = source.fields.iter().position(|(_, field)| field.fact == "delivery")
    {
        source.id_field = source.fields.remove(at).0;
    }
    if source.kind.tells_moments() {
        let at = source.fields.iter().find(|(_, field)| field.fact == "at").map(|(name, _)| name.clone());
        source.fields.retain(|(_, field)| field.fact != "at");
        source.collected_field = Some(at.unwrap_or_else(|| "at".to_owned()));
    }
}

/// Reports keys that say nothing in a source of its kind and format.
fn check_fit(reader: &mut TableReader<'_>, table: &Table<'_>, source: &Source) {
    let (people, word) = (source.kind != SourceKind::State, source.format.as_str());
    let of_people = !matches!(source.kind, SourceKind::State | SourceKind::Settings | SourceKind::Commands);
    let json = source.format == Format::Json;
    let is_table = source.format.is_table();
    let of_tables = "only csv and xlsx are tables of rows under headings";
    let idle = [
        ("records", !json, "only a file with format = \"json\" has a list of records inside"),
        ("delimiter", source.format != Format::Csv, "only format = \"csv\" has a delimiter"),
        ("skip_rows", !is_table, of_tables),
        ("until_row", !is_table, of_tables),
        ("rows", !is_table, of_tables),
        ("rows", people, "rows make one record of what they say of a device"),
        ("empty", !is_table, "only a table has empty cells"),
        ("sheet", source.format != Format::Workbook, "only format = \"xlsx\" has sheets"),
        ("encoding", source.format == Format::Workbook, "a workbook says itself how it is encoded"),
        ("encoding", source.format == Format::PropertyList, "a property list says itself how it is encoded"),
        ("collected_from", people, "only state of devices is collected"),
        ("collected_from", table.get("collected").is_some(), "`collected` names the field that says when"),
        ("device", source.id_from != NameFrom::Field, "the id comes from the file's name, as `device_from` says"),
        ("device_from", of_people, "a list of people names each person in a field"),
        ("device_from", people && !of_people, "each record names what it is about in a field"),
        ("under", people, "facts of people are not put under a path"),
        ("speaks_for", people, "a list of people speaks for no device"),
        ("complete", source.kind == SourceKind::Acceptances, "what was accepted once stays so"),
        ("complete", source.kind.tells_moments(), "it lists what happened, and nobody is missing in it"),
        ("expected_every", source.kind == SourceKind::SignIns, "a log is replayed when somebody wants it"),
        ("complete", source.format.is_of_one(), "a file of this format describes one device, not the whole feed"),
    ];
    for (key, is_idle, why) in idle {
        if let (Some(value), true) = (table.get(key), is_idle) {
            reader.error("idle-key", format!("`{key}` has no meaning here"), value.span(), why);
        }
    }
    if people && source.format.is_of_one() || !people && source.format == Format::Scim {
        let help = if people {
            "people come as csv, jsonl, json or scim"
        } else {
            "scim lists people: name them with `person`"
        };
        let span = table.get("format").map_or(0..0, |format| format.span());
        reader.error("wrong-kind", format!("format = \"{word}\" is not of such a source"), span, help);
    }
}

/// Reads how times are written.
fn time_format(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<String> {
    let Named { text, span } = reader.named(table, "time_format")?;
    if let Err(error) = jiff::fmt::strtime::format(&text, jiff::Timestamp::UNIX_EPOCH) {
        let mistake = Diagnostic::error("bad-time-format", format!("`time_format` is no pattern: {error}"), span);
        reader.report(mistake.help("as in \"%d.%m.%Y %H:%M\""));
    }
    Some(text)
}

fn field(
    reader: &mut TableReader<'_>,
    table: &Table<'_>,
    key: std::ops::Range<usize>,
    units: &mut Vec<FieldUnit>,
) -> Option<Field> {
    if reader.boolean(table, "leave_out") == Some(true) {
        if let Some(fact) = table.get("fact") {
            reader.error("idle-key", "a field that is left out is no fact", fact.span(), "keep `fact` or `leave_out`");
        }
        let also = reader.strings(table, "also");
        return Some(Field { leave_out: true, also, ..Field::of(String::new()) });
    }
    let Some(fact) = reader.string(table, "fact") else {
        reader.error("no-fact", "this field says not which fact it is", key, "write { fact = \"disk.encrypted\", .. }");
        return None;
    };
    let unit = reader.named(table, "unit");
    if let Some(Named { text, span: Some(span) }) = &unit {
        units.push(FieldUnit { fact: fact.replace("[]", ""), unit: text.clone(), span: span.clone() });
    }
    Some(Field {
        fact,
        leave_out: false,
        unit: unit.map(|unit| unit.text),
        true_when: reader.strings(table, "true_when"),
        false_when: reader.strings(table, "false_when"),
        cells: cell_rules(reader, table),
        also: reader.strings(table, "also"),
    })
}

fn cell_rules(reader: &mut TableReader<'_>, table: &Table<'_>) -> CellRules {
    let mut values = Vec::new();
    if let Some(table) = reader.table(table, "values") {
        for Entry { key: word, .. } in table.entries() {
            values.extend(reader.string(&table, &word).map(|value| (word, value)));
        }
    }
    let split = reader.named(table, "split");
    if let Some(Named { text, span }) = &split
        && text.is_empty()
    {
        let mistake = Diagnostic::error("empty-mark", "nothing stands between the items", span.clone());
        reader.report(mistake.help("write what does, as in \";\""));
    }
    CellRules {
        missing_when: reader.strings(table, "missing_when"),
        case: reader.word(table, "case", &LETTER_CASES),
        values,
        numbers: number_marks(reader, table),
        time_format: time_format(reader, table),
        time_zone: zone(reader, table),
        split: split.map(|split| split.text).filter(|split| !split.is_empty()),
        empty_is_null: reader.word(table, "empty", &EMPTY).unwrap_or(false),
    }
}

/// Reads how numbers are written.
fn number_marks(reader: &mut TableReader<'_>, table: &Table<'_>) -> NumberMarks {
    let mut mark = |key: &str, example: &str| {
        let Named { text, span } = reader.named(table, key)?;
        let mut symbols = text.chars();
        match (symbols.next(), symbols.next()) {
            (Some(one), None) if !one.is_alphanumeric() && !matches!(one, '-' | '+') => Some(one),
            _ => {
                let message = format!("`{key}` is one mark, and no letter, digit or sign");
                reader
                    .report(Diagnostic::error("bad-mark", message, span).help(format!("as in {key} = \"{example}\"")));
                None
            }
        }
    };
    let marks = NumberMarks { decimal: mark("decimal", ","), thousands: mark("thousands", ".") };
    if marks.decimal.is_some() && marks.decimal == marks.thousands {
        let span = table.get("thousands").map_or(0..0, |mark| mark.span());
        reader.error(
            "bad-mark",
            "one mark cannot be both",
            span,
            "of `1.234,5` decimal is \",\" and thousands is \".\"",
        );
    }
    marks
}

/// Reads which field is the id, and how ids are made uniform.
fn id_field(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    let key = source.kind.noun();
    let Some(value) = table.get(key) else { return };
    let Some(detail) = reader.inner(table, key, value) else {
        source.id_field = reader.string(table, key).unwrap_or_else(|| source.id_field.clone());
        return;
    };
    if !reader.has_one_of(&detail, &["field", "join"], "the id", "write { field = \"Host\", case = \"lower\" }") {
        return;
    }
    let mut fields = reader.strings(&detail, "join");
    if let (Some(with), None) = (detail.get("with"), detail.get("join")) {
        reader.error(
            "idle-key",
            "`with` stands between fields that are joined",
            with.span(),
            "add join = [..], or leave it out",
        );
    }
    if let Some(field) = reader.string(&detail, "field") {
        if let Some(join) = detail.get("join") {
            reader.error("idle-key", "the id is one field or several", join.span(), "keep `field` or `join`");
        }
        fields = vec![field];
    }
    if fields.is_empty() {
        return;
    }
    source.id_field = fields.remove(0);
    source.id_form = IdForm {
        join: fields,
        with: reader.string(&detail, "with").unwrap_or_default(),
        case: reader.word(&detail, "case", &LETTER_CASES),
        before: reader.string(&detail, "before").filter(|mark| !mark.is_empty()),
    };
}

/// Reads how files are encoded.
fn encoding(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<&'static Encoding> {
    let Named { text, span } = reader.named(table, "encoding")?;
    let found = Encoding::for_label(text.as_bytes());
    if found.is_none() {
        let message = format!("unknown encoding `{text}`");
        reader.report(
            Diagnostic::error("bad-encoding", message, span)
                .help("write a name of the WHATWG Encoding Standard, such as \"windows-1252\" or \"utf-16le\""),
        );
    }
    found
}

/// Reads how a table lies in its file.
fn table_layout(reader: &mut TableReader<'_>, table: &Table<'_>) -> TableLayout {
    let mut layout = TableLayout {
        delimiter: None,
        skip_rows: 0,
        until_row: reader.string(table, "until_row").map(|text| text.trim().to_owned()),
        sheet: reader.string(table, "sheet"),
        rows: reader.table(table, "rows").and_then(|rows| rows_as(reader, &rows)),
    };
    if let Some(delimiter) = reader.named(table, "delimiter") {
        match delimiter.text.as_bytes() {
            [one] if !one.is_ascii_alphanumeric() && !matches!(one, b'"' | b'\r' | b'\n') => {
                layout.delimiter = Some(*one);
            }
            _ => reader.report(
                Diagnostic::error("bad-delimiter", "`delimiter` is one mark", delimiter.span)
                    .help("write \",\", \";\" or \"\\t\", or leave it out: it is found by itself"),
            ),
        }
    }
    if let Some(rows) = reader.integer(table, "skip_rows") {
        match u64::try_from(rows) {
            Ok(rows) => layout.skip_rows = rows,
            Err(_) => {
                let span = table.get("skip_rows").map_or(0..0, |rows| rows.span());
                reader.error("bad-number", "`skip_rows` is no number of lines", span, "write skip_rows = 4");
            }
        }
    }
    layout
}

fn rows_as(reader: &mut TableReader<'_>, rows: &Table<'_>) -> Option<RowsAs> {
    const HELP: &str = "write { list = \"software\", key = \"Name\" }, or { fact = \"Property\", value = \"Value\" }";
    if !reader.has_one_of(rows, &["list", "fact"], "`rows`", HELP) {
        return None;
    }
    for (one, other) in [("list", "key"), ("key", "list"), ("fact", "value"), ("value", "fact")] {
        if let (Some(at), None) = (rows.get(one), rows.get(other)) {
            reader.error("incomplete", format!("`{one}` needs `{other}` beside it"), at.span(), HELP);
        }
    }
    let (list, key) = (reader.string(rows, "list"), reader.string(rows, "key"));
    let (fact, value) = (reader.string(rows, "fact"), reader.string(rows, "value"));
    if let (Some(_), Some(at)) = (&list, rows.get("fact")) {
        reader.error("idle-key", "rows make a list or facts, not both", at.span(), "keep `list` or `fact`");
    }
    match (list, key, fact, value) {
        (Some(list), Some(key), ..) => Some(RowsAs::List { list, key, fields: Vec::new() }),
        (None, _, Some(fact), Some(value)) => Some(RowsAs::Facts { fact, value }),
        _ => None,
    }
}

/// Reads the pattern of the date in a file's name that says when its state was collected.
fn collected_from(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<String> {
    let Named { text, span } = reader.named(table, "collected_from")?;
    let pattern = text.strip_prefix("file name ").map(str::trim).filter(|pattern| pattern.contains('%'));
    let is_good = |pattern: &&str| jiff::fmt::strtime::format(pattern, jiff::Timestamp::UNIX_EPOCH).is_ok();
    let found = pattern.filter(is_good).map(str::to_owned);
    if found.is_none() {
        let mistake = Diagnostic::error("bad-time-format", "`collected_from` says not where the date is", span);
        reader.report(mistake.help("write the pattern of a date in the file's name, as in \"file name %Y-%m-%d\""));
    }
    found
}

/// A path into the items of a list: `disks[].enc`.
struct ItemPath<'p> {
    list: &'p str,
    /// The field of an item.
    field: &'p str,
}

impl<'p> ItemPath<'p> {
    fn of(path: &'p str) -> Option<Self> {
        path.split_once("[].").map(|(list, field)| Self { list, field })
    }
}

/// Why a field is no field of a list's items.
struct MisplacedField {
    what: &'static str,
    help: String,
}

/// Takes the fields of list items out of the other fields: `"disks[].enc" = "disks[].encrypted"`, and those of items that rows make.
fn item_fields(reader: &mut TableReader<'_>, table: &Table<'_>, source: &mut Source) {
    let is_plain = |(name, field): &(String, Field)| !name.contains("[]") && !field.fact.contains("[]");
    let (plain, of_items) = std::mem::take(&mut source.fields).into_iter().partition(is_plain);
    source.fields = plain;
    for (name, field) in of_items {
        let placed = match ItemPath::of(&name) {
            Some(path) => source.add_item_field(&path, field),
            None => source.add_row_field(&name, field),
        };
        if let Err(MisplacedField { what, help }) = placed {
            let span = table.entries().into_iter().find(|entry| entry.key == name).map_or(0..0, |entry| entry.span);
            reader.error("no-items", format!("`{name}` {what}"), span, help);
        }
    }
}

impl Source {
    /// Adds a field of the items of a list in the export.
    fn add_item_field(&mut self, path: &ItemPath<'_>, mut field: Field) -> Result<(), MisplacedField> {
        let help = || format!("write \"{0}[].{1}\" = \"{0}[].NAME\"", path.list, path.field.replace("[]", ""));
        if path.field.contains("[]") || field.fact.matches("[]").count() > 1 {
            return Err(MisplacedField {
                what: "is a field of a list in a list, which is kept as it comes",
                help: help(),
            });
        }
        let list = ItemPath::of(&field.fact).map(|target| target.list.to_owned());
        if list.is_none() && !field.leave_out {
            return Err(MisplacedField { what: "goes to no field of a list's items", help: help() });
        }
        field.fact = field.fact.replace("[]", "");
        let known = self.items.iter().position(|items| items.path == path.list);
        let at = known.unwrap_or_else(|| {
            self.items.push(ItemFields { path: path.list.to_owned(), fact: None, fields: Vec::new() });
            self.items.len() - 1
        });
        let items = &mut self.items[at];
        if let (Some(other), Some(list)) = (&items.fact, &list)
            && other != list
        {
            let help = format!("the other fields of its items go to \"{other}[]\"");
            return Err(MisplacedField { what: "makes two lists of one", help });
        }
        items.fact = items.fact.take().or(list);
        items.fields.push((path.field.to_owned(), field));
        Ok(())
    }

    /// Adds a column of the items that rows make.
    fn add_row_field(&mut self, name: &str, mut field: Field) -> Result<(), MisplacedField> {
        let target = ItemPath::of(&field.fact);
        match (&mut self.table.rows, target) {
            (Some(RowsAs::List { list, fields, .. }), Some(target)) if *list == target.list => {
                field.fact = field.fact.replace("[]", "");
                fields.push((name.to_owned(), field));
                Ok(())
            }
            (_, target) => {
                let (list, field) = target.map_or(("LIST", "FIELD"), |target| (target.list, target.field));
                let help = format!(
                    "write \"{list}[].NAME\" = \"{list}[].{field}\" where the export has a list, or rows = {{ list = \"{list}\", key = .. }} \
                     where each of its rows is an item"
                );
                Err(MisplacedField { what: "is no field of a list's items", help })
            }
        }
    }
}
