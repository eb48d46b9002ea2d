//! The keys that a `[[source]]` may have, and the words that stand for their values.

use super::{Format, LetterCase, NameFrom, SourceKind};
use crate::workspace::shape::{KeyKind, TableKey, TableShape, words};

pub(in crate::workspace) static SOURCE: TableShape = TableShape::new(
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
pub(super) const EMPTY: [(&str, bool); 2] = [("missing", false), ("null", true)];
const EMPTY_ABOUT: &str = "What an empty cell of a table means: that it was not collected, or that it was found empty.";
static VALUES: TableShape = TableShape::new("values", &[]).others(KeyKind::Text);
pub(super) const LETTER_CASES: [(&str, LetterCase); 2] = [("lower", LetterCase::Lower), ("upper", LetterCase::Upper)];

pub(super) const ABOUT: [(&str, SourceKind); 4] = [
    ("terms", SourceKind::Acceptances),
    ("signins", SourceKind::SignIns),
    ("settings", SourceKind::Settings),
    ("commands", SourceKind::Commands),
];
pub(super) const NAMES_FROM: [(&str, NameFrom); 2] = [("file-name", NameFrom::File), ("folder-name", NameFrom::Folder)];
