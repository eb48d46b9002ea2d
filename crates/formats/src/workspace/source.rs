//! `[[source]]` of `fencepost.toml`: the feeds, and how their records are read.

use encoding_rs::Encoding;
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
    /// A sheet of an Office Open XML workbook (ECMA-376): rows under headings, with typed cells.
    Workbook,
    /// The software of one device as a CycloneDX document in JSON (ECMA-424).
    CycloneDx,
    /// The software of one device as an SPDX 2.3 document in JSON (ISO/IEC 5962).
    Spdx,
}

impl Format {
    /// Each format with its word.
    pub const ALL: [(&'static str, Self); 10] = [
        ("jsonl", Self::JsonLines),
        ("json", Self::Json),
        ("csv", Self::Csv),
        ("plist", Self::PropertyList),
        ("ini", Self::Ini),
        ("key-value", Self::KeyValue),
        ("scim", Self::Scim),
        ("xlsx", Self::Workbook),
        ("cyclonedx", Self::CycloneDx),
        ("spdx", Self::Spdx),
    ];

    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("", |(word, _)| word)
    }

    /// Returns whether a file of it describes one device.
    pub fn is_of_one(self) -> bool {
        matches!(self, Self::PropertyList | Self::Ini | Self::KeyValue) || self.is_software_list()
    }

    /// Returns whether a file of it holds rows under headings.
    pub fn is_table(self) -> bool {
        matches!(self, Self::Csv | Self::Workbook)
    }

    /// Returns whether a file of it lists the software of one device, and nothing else is taken from it that is not mapped.
    pub fn is_software_list(self) -> bool {
        matches!(self, Self::CycloneDx | Self::Spdx)
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
    fn is_upper(self) -> bool {
        self == Self::Upper
    }

    /// Returns a text in these letters.
    pub fn apply(self, text: &str) -> String {
        match self {
            Self::Lower => text.to_lowercase(),
            Self::Upper => text.to_uppercase(),
        }
    }
}

/// How ids are made uniform.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct IdForm {
    /// Further fields that are joined to the first.
    pub join: Vec<String>,
    /// What stands between the joined ones.
    pub with: String,
    /// The letters that they are put into.
    pub case: Option<LetterCase>,
    /// Only what stands before the first of these counts.
    pub before: Option<String>,
}

/// What the rows of a table that share an id make together.
#[derive(Clone, Debug, PartialEq)]
pub enum RowsAs {
    /// A list with an item for each row; `key` is the column that names the item.
    List {
        /// The path of the list.
        list: String,
        /// The column.
        key: String,
        /// Columns that belong to the item.
        fields: Vec<(String, Field)>,
    },
    /// A fact for each row.
    Facts {
        /// The column that names the fact.
        fact: String,
        /// The column of its value.
        value: String,
    },
}

/// How a table lies in its file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TableLayout {
    /// What stands between the cells of a CSV file; found by itself where nothing is said.
    pub delimiter: Option<u8>,
    /// How many lines stand before the headings.
    pub skip_rows: u64,
    /// The text of the first cell of the row that ends the table.
    pub until_row: Option<String>,
    /// The sheet of a workbook; its first where nothing is said.
    pub sheet: Option<String>,
    /// Rows that share an id are one record.
    pub rows: Option<RowsAs>,
}

/// A list of which fields of the items are mapped.
#[derive(Clone, Debug, PartialEq)]
pub struct ItemFields {
    /// The list's path in the export.
    pub path: String,
    /// The list's path as a fact, where that is said.
    pub fact: Option<String>,
    /// The fields of an item, by their paths in it.
    pub fields: Vec<(String, Field)>,
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
    /// An empty cell of a table is an empty value, and not a missing one.
    pub empty_is_null: bool,
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
    /// Other headings that it has in some files.
    pub also: Vec<String>,
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
            also: Vec::new(),
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
    /// How its files are encoded, where that is neither UTF-8 nor UTF-16 with a byte order mark.
    pub encoding: Option<&'static Encoding>,
    /// How a table lies in its file.
    pub table: TableLayout,
    /// The path of the list of records inside a JSON document; its root when none.
    pub records: Option<String>,
    /// Where the id comes from.
    pub id_from: NameFrom,
    /// The field that names the device or person; `@key` for the key of an object of records.
    pub id_field: String,
    /// How ids are made uniform.
    pub id_form: IdForm,
    /// The field that says when it was collected; none for the file's own time.
    pub collected_field: Option<String>,
    /// Further fields that say the rest of it: the time of a day.
    pub collected_further: Vec<String>,
    /// The pattern of the date in the file's name that says when it was collected.
    pub collected_from_name: Option<String>,
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
    /// Fields of the items of lists.
    pub items: Vec<ItemFields>,
    /// Words that mean in every field that it was not collected.
    pub missing_when: Vec<String>,
    /// An empty cell of a table is an empty value, and not a missing one.
    pub empty_is_null: bool,
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
            encoding: None,
            table: TableLayout::default(),
            records: None,
            id_from: NameFrom::Field,
            id_field: "device".to_owned(),
            id_form: IdForm::default(),
            collected_field: Some("collected_at".to_owned()),
            collected_further: Vec::new(),
            collected_from_name: None,
            time_zone: None,
            time_format: None,
            under: None,
            speaks_for: None,
            expected_every: None,
            trust: 0,
            fresh_for: None,
            complete: false,
            fields: Vec::new(),
            items: Vec::new(),
            missing_when: Vec::new(),
            empty_is_null: false,
            numbers: NumberMarks::default(),
            units: Vec::new(),
        }
    }

    /// Returns whether its records are documents as they are.
    pub fn is_native(&self) -> bool {
        self.kind == SourceKind::State
            && matches!(self.format, Format::JsonLines | Format::Json)
            && self.fields.is_empty()
            && self.items.is_empty()
            && self.missing_when.is_empty()
            && self.numbers == NumberMarks::default()
            && self.id_from == NameFrom::Field
            && (&self.time_zone, &self.time_format, &self.under) == (&None, &None, &None)
            && self.id_field == "device"
            && self.id_form == IdForm::default()
            && self.collected_field.as_deref() == Some("collected_at")
    }
}

/// Everything about how records are read: the same bytes, the same documents.
impl Encode for Source {
    fn encode(&self, to: &mut Canonical) {
        let zone = self.time_zone.as_ref().and_then(TimeZone::iana_name);
        let delimiter = u64::from(self.table.delimiter.unwrap_or(b','));
        to.add(self.kind.noun()).add(self.format.as_str()).add(&delimiter).add(&self.records);
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
        if self.table != (TableLayout { delimiter: self.table.delimiter, ..TableLayout::default() }) {
            to.add("table").add(&self.table);
        }
        if self.id_form != IdForm::default() {
            to.add("id_form").add(&self.id_form);
        }
        if let Some(encoding) = self.encoding {
            to.add("encoding").add(encoding.name());
        }
        if self.collected_from_name.is_some() {
            to.add("collected_from_name").add(&self.collected_from_name);
        }
        if self.empty_is_null {
            to.add("empty_is_null");
        }
        for ItemFields { path, fact, fields } in &self.items {
            to.add("items").add(path).add(fact).add(fields);
        }
    }
}

impl Encode for TableLayout {
    fn encode(&self, to: &mut Canonical) {
        let Self { delimiter: _, skip_rows, until_row, sheet, rows } = self;
        to.add(skip_rows).add(until_row).add(sheet);
        match rows {
            None => to.add("rows"),
            Some(RowsAs::List { list, key, fields }) => to.add("list").add(list).add(key).add(fields),
            Some(RowsAs::Facts { fact, value }) => to.add("facts").add(fact).add(value),
        };
    }
}

impl Encode for IdForm {
    fn encode(&self, to: &mut Canonical) {
        let Self { join, with, case, before } = self;
        to.add(join).add(with).add(&case.map(LetterCase::is_upper)).add(before);
    }
}

impl Encode for Field {
    fn encode(&self, to: &mut Canonical) {
        let Self { fact, leave_out, unit, true_when, false_when, cells, also } = self;
        to.add(fact).add(leave_out).add(unit).add(true_when).add(false_when);
        if !also.is_empty() {
            to.add("also").add(also);
        }
        if *cells != CellRules::default() {
            to.add("cells").add(cells);
        }
    }
}

impl Encode for CellRules {
    fn encode(&self, to: &mut Canonical) {
        let Self { missing_when, case, values, numbers, time_format, time_zone, split, empty_is_null } = self;
        let zone = time_zone.as_ref().and_then(TimeZone::iana_name);
        to.add(missing_when).add(&case.map(LetterCase::is_upper)).add(values).add(numbers);
        to.add(time_format).add(&zone).add(split);
        if *empty_is_null {
            to.add("empty_is_null");
        }
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
        TableKey::new("encoding", KeyKind::Text, "How its files are encoded, by a name of the WHATWG Encoding Standard, such as \"windows-1252\": UTF-8, or UTF-16 with a byte order mark, where nothing is said."),
        TableKey::new("delimiter", KeyKind::Text, "What stands between the cells of a CSV file: the one of , ; tab and | under which the fields are found, where nothing is said."),
        TableKey::new("skip_rows", KeyKind::Integer, "How many lines stand before the headings of a table, empty ones among them."),
        TableKey::new("until_row", KeyKind::Text, "The text of the first cell of the row that ends a table; that row and all that follows is left out."),
        TableKey::new("sheet", KeyKind::Text, "The sheet of a workbook: its first, where nothing is said."),
        TableKey::new("rows", KeyKind::Table(&ROWS), "What the rows of a table make that are about the same device."),
        TableKey::new("records", KeyKind::Text, "The path of the list of records inside a JSON document; with .* at its end, of the object of which each member is one."),
        TableKey::new("about", KeyKind::Word(|| words(&ABOUT)), "What it is about, where that is neither devices nor people: terms that were accepted, with the fields person, device, terms and version; or signins, a log with the fields at, person, device, service, client, address, platform and effect; or settings, how far they got, with the fields device, setting, state, because and at; or commands that were sent, with the fields delivery, state, because and at."),
        TableKey::new(
            "device",
            KeyKind::Or(&KeyKind::Text, &ID),
            "The field that names the device; @key, where the key of a member does.",
        ),
        TableKey::new(
            "device_from",
            KeyKind::Word(|| words(&NAMES_FROM)),
            "Where the device's id comes from, when it is no field.",
        ),
        TableKey::new(
            "person",
            KeyKind::Or(&KeyKind::Text, &ID),
            "The field that names the person; the source is then a list of people.",
        ),
        TableKey::new(
            "collected",
            KeyKind::Names,
            "The field that says when it was collected; or several that do together, as a day and a time.",
        ),
        TableKey::new(
            "collected_from",
            KeyKind::Text,
            "Where the time of collection comes from, when it is no field: \"file name %Y-%m-%d\", a date in the file's name.",
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
        TableKey::new("empty", KeyKind::Word(|| words(&EMPTY)), EMPTY_ABOUT),
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
        TableKey::new("also", KeyKind::Names, "Other headings that it has in some files."),
        TableKey::new("unit", KeyKind::Text, "The unit that it is given in."),
        TableKey::new("true_when", KeyKind::Names, "Words that mean true."),
        TableKey::new("false_when", KeyKind::Names, "Words that mean false."),
        TableKey::new("missing_when", KeyKind::Names, "Words that mean that it was not collected."),
        TableKey::new("empty", KeyKind::Word(|| words(&EMPTY)), EMPTY_ABOUT),
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
static ID: TableShape = TableShape::new(
    "the field of the id",
    &[&[
        TableKey::new("field", KeyKind::Text, "The field."),
        TableKey::new("join", KeyKind::Names, "Several fields that are the id together."),
        TableKey::new("with", KeyKind::Text, "What stands between the joined ones."),
        TableKey::new("case", KeyKind::Word(|| words(&LETTER_CASES)), "The letters that ids are put into."),
        TableKey::new("before", KeyKind::Text, "Only what stands before the first of these counts, such as \".\"."),
    ]],
)
.needs(&[&["field", "join"]])
.with(&[("with", "join")]);
static ROWS: TableShape = TableShape::new(
    "rows",
    &[&[
        TableKey::new("list", KeyKind::Text, "The list that has an item for each row."),
        TableKey::new("key", KeyKind::Text, "The column that names the item."),
        TableKey::new("fact", KeyKind::Text, "The column that names the fact that a row tells."),
        TableKey::new("value", KeyKind::Text, "The column of that fact's value."),
    ]],
)
.needs(&[&["list", "fact"]])
.with(&[("list", "key"), ("key", "list"), ("fact", "value"), ("value", "fact")]);
const EMPTY: [(&str, bool); 2] = [("missing", false), ("null", true)];
const EMPTY_ABOUT: &str = "What an empty cell of a table means: that it was not collected, or that it was found empty.";
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
    source.encoding = encoding(reader, table);
    source.table = table_layout(reader, table);
    let id_key = source.kind.noun();
    // What delivery is meant is no key of a source of its own.
    if source.kind != SourceKind::Commands {
        id_field(reader, table, &mut source);
    }
    if table.get(id_key).is_none() {
        match source.format {
            Format::Scim => source.id_field = "userName".to_owned(),
            Format::CycloneDx | Format::Spdx => source.id_field = "name".to_owned(),
            _ => {}
        }
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
    check_fit(reader, table, &source);
    source.missing_when = reader.strings(table, "missing_when");
    source.empty_is_null = reader.word(table, "empty", &EMPTY).unwrap_or(false);
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
        item_fields(reader, &fields, &mut source);
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
        let items = match self.items.iter_mut().position(|items| items.path == path.list) {
            Some(at) => &mut self.items[at],
            None => {
                self.items.push(ItemFields { path: path.list.to_owned(), fact: None, fields: Vec::new() });
                self.items.last_mut().expect("it was pushed just now")
            }
        };
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
