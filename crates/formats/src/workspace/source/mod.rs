//! `[[source]]` of `fencepost.toml`: the feeds, and how their records are read.

mod keys;
mod read;

use encoding_rs::Encoding;
use fencepost_core::{Canonical, Encode, Period, SourceId, Span, Text};
use glob::Pattern;
use jiff::tz::TimeZone;

pub(super) use keys::SOURCE;
pub(super) use read::read;

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
