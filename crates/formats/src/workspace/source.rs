//! `[[source]]` of `fencepost.toml`: the feeds, and how their records are read.

use fencepost_core::{Canonical, Diagnostic, Encode, Named, Period, SourceId, Span, Text};
use glob::Pattern;
use jiff::tz::TimeZone;

use super::config::zone;
use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Entry, Table, TableReader};

/// What a file of a source is written in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// One JSON object a line.
    JsonLines,
    /// One JSON document: a list of objects, one object, or such a list somewhere inside.
    Json,
    /// Rows under headings.
    Csv,
    /// A property list, XML or binary.
    PropertyList,
    /// Sections of settings.
    Ini,
    /// Settings, one a line.
    KeyValue,
    /// People as a SCIM 2.0 list response.
    Scim,
}

impl Format {
    /// Each format with its word.
    pub const ALL: [(&'static str, Self); 7] = [
        ("jsonl", Self::JsonLines),
        ("json", Self::Json),
        ("csv", Self::Csv),
        ("plist", Self::PropertyList),
        ("ini", Self::Ini),
        ("key-value", Self::KeyValue),
        ("scim", Self::Scim),
    ];

    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(word, _)| word)
    }

    /// Returns whether a file of it describes one device.
    pub fn is_of_one(self) -> bool {
        matches!(self, Self::PropertyList | Self::Ini | Self::KeyValue)
    }
}

/// Where a device's id comes from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NameFrom {
    /// A field of the record.
    #[default]
    Field,
    /// The file's name without its endings.
    File,
    /// The name of the folder that the file lies in.
    Folder,
}

impl NameFrom {
    fn as_str(self) -> &'static str {
        match self {
            Self::Field => "field",
            Self::File => "file-name",
            Self::Folder => "folder-name",
        }
    }
}

/// What a source is about.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SourceKind {
    /// State of devices.
    #[default]
    State,
    /// The list of people.
    People,
    /// Which terms people accepted, with which device.
    Acceptances,
    /// A log of sign-ins, which is decided again and not kept.
    SignIns,
    /// How far settings got that another tool was asked to apply.
    Settings,
    /// How far commands got that were sent.
    Commands,
}

impl SourceKind {
    /// Returns the word for what its records name.
    pub fn noun(self) -> &'static str {
        match self {
            Self::State | Self::Settings => "device",
            Self::People | Self::Acceptances | Self::SignIns => "person",
            Self::Commands => "delivery",
        }
    }

    /// Returns whether its records tell of moments at which something happened.
    pub fn tells_moments(self) -> bool {
        matches!(self, Self::SignIns | Self::Settings | Self::Commands)
    }

    /// Returns the word for what it is about.
    pub fn about(self) -> &'static str {
        match self {
            Self::State => "devices",
            Self::People => "people",
            Self::Acceptances => "terms",
            Self::SignIns => "signins",
            Self::Settings => "settings",
            Self::Commands => "commands",
        }
    }
}

/// How an export writes numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct NumberMarks {
    /// What stands before the fraction, where it is no point.
    pub decimal: Option<char>,
    /// What stands between groups of three digits.
    pub thousands: Option<char>,
}

impl NumberMarks {
    /// Returns these, and where they say nothing, what `below` says.
    pub fn over(self, below: Self) -> Self {
        Self { decimal: self.decimal.or(below.decimal), thousands: self.thousands.or(below.thousands) }
    }
}

/// Which letters texts are made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LetterCase {
    /// Small ones.
    Lower,
    /// Capitals.
    Upper,
}

impl LetterCase {
    /// Returns a text in these letters.
    pub fn apply(self, text: &str) -> String {
        match self {
            Self::Lower => text.to_lowercase(),
            Self::Upper => text.to_uppercase(),
        }
    }
}

/// How the cells of a field are read. A cell is trimmed first; then what is missing is left out, and case, values, words for true and
/// false, numbers and times follow in this order.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CellRules {
    /// Words that mean that it was not collected.
    pub missing_when: Vec<String>,
    /// The letters that its texts are put into.
    pub case: Option<LetterCase>,
    /// What its words are called in the workspace.
    pub values: Vec<(String, String)>,
    /// How its numbers are written, where not as the source's.
    pub numbers: NumberMarks,
    /// How its dates and instants are written, where not as the source's.
    pub time_format: Option<String>,
    /// The zone of its times without an offset, where not the source's.
    pub time_zone: Option<TimeZone>,
    /// What stands between the items of a list in one cell.
    pub split: Option<String>,
}

/// Where a field of an export goes.
#[derive(Clone, Debug, PartialEq)]
pub struct Field {
    /// The fact's path.
    pub fact: String,
    /// It goes nowhere: nothing of it is kept.
    pub leave_out: bool,
    /// The unit that the export gives it in.
    pub unit: Option<String>,
    /// Words that mean true.
    pub true_when: Vec<String>,
    /// Words that mean false.
    pub false_when: Vec<String>,
    /// How its cells are read.
    pub cells: CellRules,
}

impl Field {
    /// Creates a field that goes to a fact as it is.
    pub fn of(fact: String) -> Self {
        Self {
            fact,
            leave_out: false,
            unit: None,
            true_when: Vec::new(),
            false_when: Vec::new(),
            cells: CellRules::default(),
        }
    }
}

/// A unit that a field is read in.
#[derive(Clone, Debug)]
pub(crate) struct FieldUnit {
    pub fact: String,
    pub unit: String,
    pub span: Span,
}

/// A feed of state or people.
#[derive(Clone, Debug)]
pub struct Source {
    /// Its id.
    pub id: SourceId,
    /// State or people.
    pub kind: SourceKind,
    /// Which files are this feed.
    pub files: Vec<Pattern>,
    /// What they are written in.
    pub format: Format,
    /// What stands between the cells of a CSV file.
    pub delimiter: u8,
    /// The path of the list of records inside a JSON document; its root when none.
    pub records: Option<String>,
    /// Where the id comes from.
    pub id_from: NameFrom,
    /// The field that names the device or person.
    pub id_field: String,
    /// The field that says when it was collected; none for the file's own time.
    pub collected_field: Option<String>,
    /// Further fields that say the rest of it: the time of a day.
    pub collected_further: Vec<String>,
    /// The zone of times without an offset, where it is not the workspace's.
    pub time_zone: Option<TimeZone>,
    /// How times are written, where it is neither RFC 3339 nor ISO 8601: a pattern of strftime.
    pub time_format: Option<String>,
    /// The path that facts without a field of their own are put under.
    pub under: Option<String>,
    /// Of which devices it may speak.
    pub speaks_for: Option<Text>,
    /// How often a file of it is due.
    pub expected_every: Option<Period>,
    /// The higher wins.
    pub trust: i64,
    /// How long its facts are fresh; for ever when none.
    pub fresh_for: Option<Period>,
    /// Each file lists everything the feed knows.
    pub complete: bool,
    /// Export names to facts.
    pub fields: Vec<(String, Field)>,
    /// Words that mean in every field that it was not collected.
    pub missing_when: Vec<String>,
    /// How numbers are written.
    pub numbers: NumberMarks,
    /// The units in `fields`.
    pub(crate) units: Vec<FieldUnit>,
}

impl Source {
    /// The source of native documents that every workspace without a `[[source]]` has.
    pub fn native() -> Self {
        Self {
            id: SourceId::from("native"),
            kind: SourceKind::State,
            files: Vec::new(),
            format: Format::JsonLines,
            delimiter: b',',
            records: None,
            id_from: NameFrom::Field,
            id_field: "device".to_owned(),
            collected_field: Some("collected_at".to_owned()),
            collected_further: Vec::new(),
            time_zone: None,
            time_format: None,
            under: None,
            speaks_for: None,
            expected_every: None,
            trust: 0,
            fresh_for: None,
            complete: false,
            fields: Vec::new(),
            missing_when: Vec::new(),
            numbers: NumberMarks::default(),
            units: Vec::new(),
        }
    }

    /// Returns whether its records are documents as they are.
    pub fn is_native(&self) -> bool {
        self.kind == SourceKind::State
            && matches!(self.format, Format::JsonLines | Format::Json)
            && self.fields.is_empty()
            && self.missing_when.is_empty()
            && self.numbers == NumberMarks::default()
            && self.id_from == NameFrom::Field
            && (&self.time_zone, &self.time_format, &self.under) == (&None, &None, &None)
            && self.id_field == "device"
            && self.collected_field.as_deref() == Some("collected_at")
    }
}

/// Everything about how records are read: the same bytes, the same documents.
impl Encode for Source {
    fn encode(&self, to: &mut Canonical) {
        let zone = self.time_zone.as_ref().and_then(TimeZone::iana_name);
        to.add(self.kind.noun()).add(self.format.as_str()).add(&u64::from(self.delimiter)).add(&self.records);
        to.add(self.id_from.as_str()).add(&self.id_field).add(&self.collected_field).add(&zone);
        to.add(&self.time_format).add(&self.under).add(&self.fields);
        // What earlier versions did not know is added where it is said alone: the same mapping stays the same.
        if !self.collected_further.is_empty() {
            to.add("collected_further").add(&self.collected_further);
        }
        if !self.missing_when.is_empty() {
            to.add("missing_when").add(&self.missing_when);
        }
        if self.numbers != NumberMarks::default() {
            to.add("numbers").add(&self.numbers);
        }
    }
}

impl Encode for Field {
    fn encode(&self, to: &mut Canonical) {
        let Self { fact, leave_out, unit, true_when, false_when, cells } = self;
        to.add(fact).add(leave_out).add(unit).add(true_when).add(false_when);
        if *cells != CellRules::default() {
            to.add("cells").add(cells);
        }
    }
}

impl Encode for CellRules {
    fn encode(&self, to: &mut Canonical) {
        let Self { missing_when, case, values, numbers, time_format, time_zone, split } = self;
        let zone = time_zone.as_ref().and_then(TimeZone::iana_name);
        let is_upper = case.map(|case| case == LetterCase::Upper);
        to.add(missing_when).add(&is_upper).add(values).add(numbers).add(time_format).add(&zone).add(split);
    }
}

impl Encode for NumberMarks {
    fn encode(&self, to: &mut Canonical) {
        let text = |mark: Option<char>| mark.map(String::from);
        to.add(&text(self.decimal)).add(&text(self.thousands));
    }
}

pub(super) static SOURCE: TableShape = TableShape::new(
    "[[source]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "Its name."),
        TableKey::new("files", KeyKind::Names, "Patterns of the files that belong to it, such as \"exports/handhelds-*.csv\"."),
        TableKey::new(
            "format",
            KeyKind::Word(|| words(&Format::ALL)),
            "What they are written in: jsonl, where nothing else is said.",
        ),
        TableKey::new("delimiter", KeyKind::Text, "What stands between the cells of a CSV file."),
        TableKey::new("records", KeyKind::Text, "The path of the list of records inside a JSON document."),
        TableKey::new("about", KeyKind::Word(|| words(&ABOUT)), "What it is about, where that is neither devices nor people: terms that were accepted, with the fields person, device, terms and version; or signins, a log with the fields at, person, device, service, client, address, platform and effect; or settings, how far they got, with the fields device, setting, state, because and at; or commands that were sent, with the fields delivery, state, because and at."),
        TableKey::new("device", KeyKind::Text, "The field that names the device."),
        TableKey::new(
            "device_from",
            KeyKind::Word(|| words(&NAMES_FROM)),
            "Where the device's id comes from, when it is no field.",
        ),
        TableKey::new("person", KeyKind::Text, "The field that names the person; the source is then a list of people."),
        TableKey::new(
            "collected",
            KeyKind::Names,
            "The field that says when it was collected; or several that do together, as a day and a time.",
        ),
        TableKey::new("time_zone", KeyKind::Text, "The zone of times without an offset."),
        TableKey::new("time_format", KeyKind::Text, "How times are written, as a pattern of strftime."),
        TableKey::new("under", KeyKind::Text, "The path that facts without a field of their own are put under."),
        TableKey::new("speaks_for", KeyKind::Condition, "Of which devices it may speak."),
        TableKey::new("expected_every", KeyKind::Period, "How often a file of it is due."),
        TableKey::new("trust", KeyKind::Integer, "Whom to believe where sources differ: the higher wins."),
        TableKey::new("fresh_for", KeyKind::Period, "How long its facts may be relied on."),
        TableKey::new("complete", KeyKind::Boolean, "Whether each file lists everything the feed knows."),
        TableKey::new("missing_when", KeyKind::Names, "Words that mean in every field that it was not collected."),
        TableKey::new("decimal", KeyKind::Text, "What stands before the fraction of a number, where it is no point."),
        TableKey::new("thousands", KeyKind::Text, "What stands between groups of three digits."),
        TableKey::new("fields", KeyKind::Table(&FIELDS), "Which field is which fact."),
    ]],
)
.needs(&[&["id"]]);
static FIELDS: TableShape = TableShape::new("[source.fields]", &[]).others(KeyKind::Or(&KeyKind::Text, &FIELD));
static FIELD: TableShape = TableShape::new(
    "a field",
    &[&[
        TableKey::new("fact", KeyKind::Text, "The path of the fact."),
        TableKey::new("leave_out", KeyKind::Boolean, "Whether nothing of it is kept."),
        TableKey::new("unit", KeyKind::Text, "The unit that it is given in."),
        TableKey::new("true_when", KeyKind::Names, "Words that mean true."),
        TableKey::new("false_when", KeyKind::Names, "Words that mean false."),
        TableKey::new("missing_when", KeyKind::Names, "Words that mean that it was not collected."),
        TableKey::new(
            "case",
            KeyKind::Word(|| words(&LETTER_CASES)),
            "The letters that its texts are put into, where exports differ in that alone.",
        ),
        TableKey::new("values", KeyKind::Table(&VALUES), "What its words are called in the workspace."),
        TableKey::new("decimal", KeyKind::Text, "What stands before the fraction of a number, where it is no point."),
        TableKey::new("thousands", KeyKind::Text, "What stands between groups of three digits."),
        TableKey::new(
            "time_format",
            KeyKind::Text,
            "How its dates and instants are written, as a pattern of strftime.",
        ),
        TableKey::new("time_zone", KeyKind::Text, "The zone of its times without an offset."),
        TableKey::new("split", KeyKind::Text, "What stands between the items of a list in one cell."),
    ]],
)
.needs(&[&["fact", "leave_out"]]);
static VALUES: TableShape = TableShape::new("values", &[]).others(KeyKind::Text);
const LETTER_CASES: [(&str, LetterCase); 2] = [("lower", LetterCase::Lower), ("upper", LetterCase::Upper)];

const ABOUT: [(&str, SourceKind); 4] = [
    ("terms", SourceKind::Acceptances),
    ("signins", SourceKind::SignIns),
    ("settings", SourceKind::Settings),
    ("commands", SourceKind::Commands),
];
const NAMES_FROM: [(&str, NameFrom); 2] = [("file-name", NameFrom::File), ("folder-name", NameFrom::Folder)];

pub(super) fn read(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<Source> {
    let id = reader.id(table, "a [[source]]")?;
    let mut source = Source { id: SourceId::new(id.text.as_str()), ..Source::native() };
    source.format = reader.word(table, "format", &Format::ALL).unwrap_or(Format::JsonLines);
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
    for named in reader.names(table, "files") {
        match Pattern::new(&named.text) {
            Ok(pattern) => source.files.push(pattern),
            Err(error) => reader.report(
                Diagnostic::error(
                    "bad-pattern",
                    format!("`{}` is no file pattern: {}", named.text, error.msg),
                    named.span,
                )
                .help("`*` stands for any part of a name, as in \"exports/handhelds-*.csv\""),
            ),
        }
    }
    if let Some(delimiter) = reader.named(table, "delimiter") {
        match delimiter.text.as_bytes() {
            [one] => source.delimiter = *one,
            _ => reader.report(
                Diagnostic::error("bad-delimiter", "`delimiter` is one character", delimiter.span)
                    .help("write \",\", \";\" or \"\\t\""),
            ),
        }
    }
    let id_key = source.kind.noun();
    // What delivery is meant is no key of a source of its own.
    if source.kind != SourceKind::Commands
        && let Some(field) = reader.string(table, id_key)
    {
        source.id_field = field;
    }
    if source.format == Format::Scim && table.get(id_key).is_none() {
        source.id_field = "userName".to_owned();
    }
    source.records = reader.string(table, "records");
    source.id_from = reader.word(table, "device_from", &NAMES_FROM).unwrap_or_default();
    source.under = reader.string(table, "under");
    source.time_format = time_format(reader, table);
    source.speaks_for = reader.text(table, "speaks_for");
    source.expected_every = reader.period(table, "expected_every");
    let mut collected = reader.strings(table, "collected").into_iter();
    match (source.kind, collected.next()) {
        (SourceKind::State, Some(field)) => {
            source.collected_field = Some(field);
            source.collected_further = collected.collect();
        }
        // Only JSON has a `collected_at` of its own accord.
        (SourceKind::State, None) if !matches!(source.format, Format::JsonLines | Format::Json) => {
            source.collected_field = None;
        }
        _ => {}
    }
    check_fit(reader, table, &source);
    source.missing_when = reader.strings(table, "missing_when");
    source.numbers = number_marks(reader, table);
    source.time_zone = zone(reader, table);
    source.trust = reader.integer(table, "trust").unwrap_or(0);
    source.fresh_for = reader.period(table, "fresh_for");
    source.complete = reader.boolean(table, "complete").unwrap_or(false);
    if let Some(fields) = reader.table(table, "fields") {
        for Entry { key: name, span, value } in fields.entries() {
            let field = match reader.inner(&fields, &name, value) {
                Some(detail) => field(reader, &detail, span, &mut source.units),
                None => reader.string(&fields, &name).map(Field::of),
            };
            source.fields.extend(field.map(|field| (name, field)));
        }
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
    Some(source)
}

/// Reports keys that say nothing in a source of its kind and format.
fn check_fit(reader: &mut TableReader<'_>, table: &Table<'_>, source: &Source) {
    let (people, word) = (source.kind != SourceKind::State, source.format.as_str());
    let of_people = !matches!(source.kind, SourceKind::State | SourceKind::Settings | SourceKind::Commands);
    let json = source.format == Format::Json;
    let idle = [
        ("records", !json, "only a file with format = \"json\" has a list of records inside"),
        ("delimiter", source.format != Format::Csv, "only format = \"csv\" has a delimiter"),
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
        return Some(Field { leave_out: true, ..Field::of(String::new()) });
    }
    let Some(fact) = reader.string(table, "fact") else {
        reader.error("no-fact", "this field says not which fact it is", key, "write { fact = \"disk.encrypted\", .. }");
        return None;
    };
    let unit = reader.named(table, "unit");
    if let Some(Named { text, span: Some(span) }) = &unit {
        units.push(FieldUnit { fact: fact.clone(), unit: text.clone(), span: span.clone() });
    }
    Some(Field {
        fact,
        leave_out: false,
        unit: unit.map(|unit| unit.text),
        true_when: reader.strings(table, "true_when"),
        false_when: reader.strings(table, "false_when"),
        cells: cell_rules(reader, table),
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
