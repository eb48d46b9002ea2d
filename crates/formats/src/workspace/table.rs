//! Reads TOML tables with their places: unknown keys get a suggestion, wrong types a remedy, and strings the
//! way back to the file, whatever escapes stand in them.

use std::ops::Range;

use fencepost_core::limits::WORKSPACE_KEYS;
use fencepost_core::{
    Datum, Diagnostic, FileId, Named, Period, Span, Text, TextPiece, WorkCalendar, did_you_mean, parse_collected,
};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use toml::Spanned;
use toml::de::{DeTable, DeValue};
use toml_parser::decoder::{Encoding, StringBuilder};
use toml_parser::{Raw, Span as RawSpan};

use super::shape::{KeyKind, TableShape};

/// A table with the place of its heading, and what it may hold.
#[derive(Clone)]
pub(super) struct Table<'t> {
    table: &'t DeTable<'t>,
    pub span: Range<usize>,
    shape: &'static TableShape,
}

/// An item of a list that holds names, and tables that say more.
pub(super) enum ListItem<'t> {
    Name(Named),
    Table(Table<'t>),
}

/// Counts the keys of a table at all its levels, up to `most`.
fn count_keys(table: &DeTable<'_>, most: usize) -> usize {
    let mut count = 0;
    let mut tables = vec![table];
    let mut lists = Vec::new();
    while count < most {
        if let Some(table) = tables.pop() {
            count += table.len();
            lists.extend(table.values().map(Spanned::get_ref));
        } else if let Some(value) = lists.pop() {
            match value {
                DeValue::Table(table) => tables.push(table),
                DeValue::Array(items) => lists.extend(items.iter().map(Spanned::get_ref)),
                _ => {}
            }
        } else {
            break;
        }
    }
    count.min(most)
}

/// Reads one file, collecting mistakes.
pub(super) struct TableReader<'r> {
    file: FileId,
    text: &'r str,
    mistakes: &'r mut Vec<Diagnostic>,
}

pub(super) type Value<'t> = Spanned<DeValue<'t>>;

impl<'r> TableReader<'r> {
    /// Parses a file and hands its root to `read`, even when some of it is malformed.
    pub fn open(
        file: FileId,
        text: &'r str,
        shape: &'static TableShape,
        mistakes: &'r mut Vec<Diagnostic>,
        read: impl FnOnce(&mut TableReader<'_>, &Table<'_>),
    ) {
        let (document, errors) = DeTable::parse_recoverable(text);
        let broken = !errors.is_empty();
        for error in errors {
            let span = error.span().map(|range| Span { file, range });
            mistakes.push(
                Diagnostic::error("toml", error.message().to_owned(), span)
                    .help("this file is TOML: key = value, texts in quotes, tables in [ ]"),
            );
        }
        if count_keys(document.get_ref(), WORKSPACE_KEYS + 1) > WORKSPACE_KEYS {
            let message = format!("this file has more than {WORKSPACE_KEYS} keys, and was not read");
            mistakes.push(
                Diagnostic::error("too-large", message, Some(Span { file, range: 0..0 }))
                    .help("spread what it holds over several files"),
            );
            return;
        }
        let before = mistakes.len();
        let mut reader = TableReader { file, text, mistakes };
        let root = reader.opened(document.get_ref(), document.span(), shape);
        read(&mut reader, &root);
        if broken {
            // What a broken file lacks is noise beside why it is broken.
            mistakes.truncate(before);
        }
    }

    pub fn span(&self, range: Range<usize>) -> Span {
        Span { file: self.file, range }
    }

    pub fn report(&mut self, mistake: Diagnostic) {
        self.mistakes.push(mistake);
    }

    pub fn error(
        &mut self,
        code: &'static str,
        message: impl Into<String>,
        range: Range<usize>,
        help: impl Into<String>,
    ) {
        let span = Some(self.span(range));
        self.mistakes.push(Diagnostic::error(code, message, span).help(help));
    }

    fn wrong_type(&mut self, key: &str, value: &Value<'_>, wanted: &str, example: &str) {
        let message = format!("`{key}` is {wanted}, and this is {}", with_article(value.get_ref().type_str()));
        self.error("wrong-type", message, value.span(), format!("write {key} = {example}"));
    }

    /// Opens a table, and reports every key that it may not hold.
    fn opened<'t>(&mut self, table: &'t DeTable<'t>, span: Range<usize>, shape: &'static TableShape) -> Table<'t> {
        for (key, value) in table {
            let name = key.get_ref().as_ref();
            let is_known = shape.keys().any(|known| known.name == name);
            if !is_known && !is_other(shape, value) {
                let known: Vec<&str> = shape.keys().map(|key| key.name).collect();
                let help =
                    did_you_mean(name, known.iter().copied(), || format!("{} has {}", shape.name, known.join(", ")));
                self.error("unknown-key", format!("unknown key `{name}` in {}", shape.name), key.span(), help);
            }
        }
        Table { table, span, shape }
    }

    /// The text at a key, with its way back to the file.
    pub fn text(&mut self, table: &Table<'_>, key: &str) -> Option<Text> {
        let value = table
            .at(key, |kind| matches!(kind, KeyKind::Text | KeyKind::Condition | KeyKind::Id | KeyKind::Word(_)))?;
        match value.get_ref() {
            DeValue::String(_) => Some(self.located(value)),
            _ => {
                self.wrong_type(key, value, "a text", "\"...\"");
                None
            }
        }
    }

    pub fn string(&mut self, table: &Table<'_>, key: &str) -> Option<String> {
        self.text(table, key).map(|text| text.as_str().to_owned())
    }

    pub fn named(&mut self, table: &Table<'_>, key: &str) -> Option<Named> {
        let span = table.get(key)?.span();
        self.string(table, key).map(|text| Named { text, span: Some(self.span(span)) })
    }

    /// The id of an entry; reported when it is missing or malformed.
    pub fn id(&mut self, table: &Table<'_>, what: &str) -> Option<Named> {
        if table.get("id").is_none() {
            self.error(
                "no-id",
                format!("{what} has no `id`"),
                table.heading(),
                "give it one: lower-case words with hyphens",
            );
            return None;
        }
        let id = self.named(table, "id")?;
        if !fencepost_core::is_slug(&id.text) {
            let message = format!("`{}` is not an id", id.text);
            self.mistakes.push(
                Diagnostic::error("bad-id", message, id.span.clone())
                    .help("ids are lower-case words with hyphens, such as disk-encrypted"),
            );
            return None;
        }
        Some(id)
    }

    pub fn boolean(&mut self, table: &Table<'_>, key: &str) -> Option<bool> {
        let value = table.at(key, |kind| matches!(kind, KeyKind::Boolean))?;
        let truth = value.get_ref().as_bool();
        if truth.is_none() {
            self.wrong_type(key, value, "true or false", "true");
        }
        truth
    }

    pub fn integer(&mut self, table: &Table<'_>, key: &str) -> Option<i64> {
        let value = table.at(key, |kind| matches!(kind, KeyKind::Integer))?;
        let number = value
            .get_ref()
            .as_integer()
            .and_then(|number| i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok());
        if number.is_none() {
            self.wrong_type(key, value, "a whole number", "10");
        }
        number
    }

    /// A list of texts; a single text is a list of one.
    pub fn names(&mut self, table: &Table<'_>, key: &str) -> Vec<Named> {
        let Some(value) = table.at(key, |kind| matches!(kind, KeyKind::Names)) else { return Vec::new() };
        let mut names = Vec::new();
        for item in self.items(key, value, "a list of texts") {
            match item.get_ref() {
                DeValue::String(text) => {
                    names.push(Named { text: text.to_string(), span: Some(self.span(item.span())) })
                }
                _ => self.wrong_type(key, item, "a list of texts", "[\"...\"]"),
            }
        }
        names
    }

    /// A list of texts and of tables that say more; a single one is a list of one.
    pub fn names_and_tables<'t>(&mut self, table: &Table<'t>, key: &str) -> Vec<ListItem<'t>> {
        const WANTED: &str = "a list of texts and tables";
        let Some(value) = table.at(key, |kind| matches!(kind, KeyKind::NamesAndTables(_))) else { return Vec::new() };
        let mut found = Vec::new();
        for item in self.items(key, value, WANTED) {
            match item.get_ref() {
                DeValue::String(text) => {
                    found.push(ListItem::Name(Named { text: text.to_string(), span: Some(self.span(item.span())) }))
                }
                DeValue::Table(_) => found.extend(self.inner(table, key, item).map(ListItem::Table)),
                _ => self.wrong_type(key, item, WANTED, "[\"...\"]"),
            }
        }
        found
    }

    fn items<'t>(&mut self, key: &str, value: &'t Value<'t>, wanted: &str) -> Vec<&'t Value<'t>> {
        match value.get_ref() {
            DeValue::String(_) | DeValue::Table(_) => vec![value],
            DeValue::Array(items) => items.iter().collect(),
            _ => {
                self.wrong_type(key, value, wanted, "[\"...\"]");
                Vec::new()
            }
        }
    }

    pub fn strings(&mut self, table: &Table<'_>, key: &str) -> Vec<String> {
        self.names(table, key).into_iter().map(|named| named.text).collect()
    }

    /// One of a few words.
    pub fn word<T: Copy>(&mut self, table: &Table<'_>, key: &str, words: &[(&str, T)]) -> Option<T> {
        debug_assert!(
            table.shape.kind(key).is_some_and(|kind| {
                let kind = if let KeyKind::Or(kind, _) = kind { *kind } else { kind };
                let KeyKind::Word(known) = kind else { return false };
                known().into_iter().eq(words.iter().map(|(word, _)| *word))
            }),
            "{} has no such words at `{key}`",
            table.shape.name
        );
        let named = self.named(table, key)?;
        let found = words.iter().find(|(word, _)| *word == named.text).map(|(_, value)| *value);
        if found.is_none() {
            let all: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            let help = did_you_mean(&named.text, all.iter().copied(), || format!("write one of {}", all.join(", ")));
            self.mistakes.push(
                Diagnostic::error("bad-word", format!("`{key}` cannot be `{}`", named.text), named.span.clone())
                    .help(help),
            );
        }
        found
    }

    /// A length of time, `"3d"`; the number 0 is one too.
    pub fn period(&mut self, table: &Table<'_>, key: &str) -> Option<Period> {
        let value = table.at(key, |kind| matches!(kind, KeyKind::Period))?;
        let read = match value.get_ref() {
            DeValue::String(text) => Period::parse(text),
            DeValue::Integer(number) if number.as_str() == "0" => Ok(Period::ZERO),
            DeValue::Integer(number) => {
                Err(format!("`{number}` has no unit; write \"{number}d\" for days or \"{number}h\" for hours"))
            }
            _ => {
                self.wrong_type(key, value, "a length of time", "\"3d\"");
                return None;
            }
        };
        read.map_err(|why| self.error("bad-period", format!("`{key}` is not a length of time"), value.span(), why)).ok()
    }

    /// Reads a moment: RFC 3339, a local time in `zone`, or a day; returns its beginning and its end, which are the same but for
    /// a day.
    pub fn moment(&mut self, table: &Table<'_>, key: &str, zone: &TimeZone) -> Option<(Timestamp, Timestamp)> {
        let value = table.at(key, |kind| matches!(kind, KeyKind::Moment))?;
        let text = match value.get_ref() {
            DeValue::String(text) => text.to_string(),
            DeValue::Datetime(moment) => moment.to_string(),
            _ => String::new(),
        };
        let Some(start) = parse_collected(&text, zone) else {
            let help = format!("write {key} = 2027-04-01");
            self.error("bad-moment", format!("`{key}` is no day and no moment"), value.span(), help);
            return None;
        };
        let end = if text.len() == 10 { Period::days(1).after(start, &WorkCalendar::new(zone.clone())) } else { start };
        Some((start, end))
    }

    /// A list of days, `[2027-05-17]`.
    pub fn days(&mut self, table: &Table<'_>, key: &str) -> Vec<Date> {
        let Some(value) = table.at(key, |kind| matches!(kind, KeyKind::Days)) else { return Vec::new() };
        let mut days = Vec::new();
        for item in self.items(key, value, "a list of days") {
            let text = match item.get_ref() {
                DeValue::String(text) => text.to_string(),
                DeValue::Datetime(day) => day.to_string(),
                _ => String::new(),
            };
            match text.parse::<Date>().ok().filter(|_| text.len() == 10) {
                Some(day) => days.push(day),
                None => self.error(
                    "bad-moment",
                    format!("`{key}` is a list of days"),
                    item.span(),
                    format!("write {key} = [2027-05-17]"),
                ),
            }
        }
        days
    }

    /// The tables of an array of tables, `[[key]]`.
    pub fn tables<'t>(&mut self, table: &Table<'t>, key: &str) -> Vec<Table<'t>> {
        let Some(value) = table.at(key, |kind| matches!(kind, KeyKind::Tables(_))) else { return Vec::new() };
        let DeValue::Array(items) = value.get_ref() else {
            self.error(
                "wrong-type",
                format!("`{key}` is written [[{key}]], once for each"),
                value.span(),
                format!("double the brackets: [[{key}]]"),
            );
            return Vec::new();
        };
        let mut tables = Vec::new();
        for item in items.iter() {
            match self.inner(table, key, item) {
                Some(found) => tables.push(found),
                None => self.wrong_type(key, item, "a table", "{ ... }"),
            }
        }
        tables
    }

    /// The table that a value of a key is, if it is one.
    pub fn inner<'t>(&mut self, table: &Table<'_>, key: &str, value: &'t Value<'t>) -> Option<Table<'t>> {
        let DeValue::Table(inner) = value.get_ref() else { return None };
        Some(self.opened(inner, value.span(), table.shape.kind(key).and_then(KeyKind::shape)?))
    }

    /// Whether a table has each of the keys that it needs; what it lacks is reported.
    pub fn is_complete(&mut self, table: &Table<'_>, what: &str, help: &str) -> bool {
        let needed = table.shape.needs.iter().filter(|any| any.len() == 1).copied().flatten();
        let missing: Vec<&str> = needed.copied().filter(|key| table.get(key).is_none()).collect();
        if !missing.is_empty() {
            self.error("incomplete", format!("{what} needs {}", missing.join(", ")), table.heading(), help);
        }
        missing.is_empty()
    }

    /// Whether a table has one of several keys of which it needs one; none of them is reported.
    pub fn has_one_of(&mut self, table: &Table<'_>, keys: &[&str], what: &str, help: &str) -> bool {
        let found = keys.iter().any(|key| table.get(key).is_some());
        if !found {
            self.error("incomplete", format!("{what} needs {}", keys.join(" or ")), table.heading(), help);
        }
        found
    }

    /// A value that stands for a fact: a text, a number, or true or false.
    pub fn datum(&mut self, key: &str, value: &Value<'_>, help: &str) -> Option<Datum> {
        let found = match value.get_ref() {
            DeValue::String(text) => Some(Datum::Text(text.to_string())),
            DeValue::Boolean(truth) => Some(Datum::Boolean(*truth)),
            DeValue::Integer(number) => number.as_str().replace('_', "").parse().ok().map(Datum::Number),
            DeValue::Float(number) => number.as_str().replace('_', "").parse().ok().map(Datum::Number),
            DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
        };
        if found.is_none() {
            let message = format!("`{key}` is to be a text, a number, or true or false");
            self.error("wrong-type", message, value.span(), help);
        }
        found
    }

    /// The table at a key, `[key]`.
    pub fn table<'t>(&mut self, table: &Table<'t>, key: &str) -> Option<Table<'t>> {
        let value = table.at(key, |kind| matches!(kind, KeyKind::Table(_)))?;
        let found = self.inner(table, key, value);
        if found.is_none() {
            self.wrong_type(key, value, "a table", "{ ... }");
        }
        found
    }

    /// Keeps the way from a decoded string back to the file, by running TOML's own decoder once more.
    pub fn located(&self, value: &Value<'_>) -> Text {
        let decoded = value.get_ref().as_str().unwrap_or_default();
        let range = value.span();
        let raw = self.text.get(range.clone()).unwrap_or_default();
        let (encoding, quote) = match raw {
            _ if raw.starts_with("\"\"\"") => (Encoding::MlBasicString, 3),
            _ if raw.starts_with("'''") => (Encoding::MlLiteralString, 3),
            _ if raw.starts_with('\'') => (Encoding::LiteralString, 1),
            _ => (Encoding::BasicString, 1),
        };
        let mut recorder = Recorder {
            raw_address: raw.as_ptr() as usize,
            file_base: range.start,
            open_quote: quote,
            decoded: 0,
            pieces: Vec::new(),
            escape_open: false,
        };
        let _ = Raw::new_unchecked(raw, Some(encoding), RawSpan::new_unchecked(range.start, range.end))
            .decode_scalar(&mut recorder, &mut ());
        let inner = range.start + quote..range.end.saturating_sub(quote).max(range.start + quote);
        Text::new(decoded, self.file, recorder.pieces, inner)
    }
}

/// Whether a value may stand at a key of any name; tables do where they hold what such a table needs.
fn is_other(shape: &TableShape, value: &Value<'_>) -> bool {
    match (shape.others, value.get_ref()) {
        (Some(KeyKind::Table(other)), DeValue::Table(table)) => {
            other.needs.iter().all(|any| any.iter().any(|key| table.contains_key(*key)))
        }
        (Some(KeyKind::Table(other)), _) => other.needs.is_empty(),
        (others, _) => others.is_some(),
    }
}

fn with_article(type_name: &str) -> String {
    let article = if type_name.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
    format!("{article} {type_name}")
}

impl<'t> Table<'t> {
    pub fn get(&self, key: &str) -> Option<&'t Value<'t>> {
        self.table.get(key)
    }

    /// The value at a key that is read as one of the kinds that `fits` names: what is said of tables is what is read of them.
    fn at(&self, key: &str, fits: fn(KeyKind) -> bool) -> Option<&'t Value<'t>> {
        debug_assert!(
            self.shape.kind(key).is_some_and(|kind| fits(kind) || matches!(kind, KeyKind::Or(kind, _) if fits(*kind))),
            "{} has no such key `{key}`",
            self.shape.name
        );
        self.get(key)
    }

    /// Whether nothing stands in it.
    pub fn is_empty(&self) -> bool {
        self.table.is_empty()
    }

    /// The place to point at when something is missing from the table.
    pub fn heading(&self) -> Range<usize> {
        let first = self.table.keys().map(Spanned::span).min_by_key(|span| span.start);
        // A `[[table]]` spans its heading; an inline one starts with its brace.
        if self.span.is_empty() { first.unwrap_or(self.span.clone()) } else { self.span.clone() }
    }

    /// What stands at keys of any name, in the order of the file.
    pub fn others(&self) -> Vec<Entry<'t>> {
        let mut all = self.entries();
        let is_known = |name: &str| self.shape.keys().any(|key| key.name == name);
        all.retain(|entry| !is_known(&entry.key) && is_other(self.shape, entry.value));
        all
    }

    /// Keys with their values, in the order of the file.
    pub fn entries(&self) -> Vec<Entry<'t>> {
        let entry = |(key, value): (&'t Spanned<_>, &'t Value<'t>)| {
            let name: &std::borrow::Cow<'_, str> = key.get_ref();
            Entry { key: name.to_string(), span: key.span(), value }
        };
        let mut all: Vec<_> = self.table.iter().map(entry).collect();
        all.sort_by_key(|entry| entry.span.start);
        all
    }
}

/// A key of a table with its value.
pub(crate) struct Entry<'t> {
    pub key: String,
    /// Where the key stands.
    pub span: Range<usize>,
    pub value: &'t Value<'t>,
}

/// Notes where every piece of a decoded string came from: `push_str` gets slices of the source, so their
/// address tells their place; `push_char` is one escape, which reaches from the piece before to the one after.
struct Recorder {
    raw_address: usize,
    file_base: usize,
    open_quote: usize,
    decoded: usize,
    pieces: Vec<TextPiece>,
    escape_open: bool,
}

impl<'s> StringBuilder<'s> for Recorder {
    fn clear(&mut self) {
        self.decoded = 0;
        self.pieces.clear();
    }

    fn push_str(&mut self, piece: &'s str) -> bool {
        let at = self.file_base + (piece.as_ptr() as usize).saturating_sub(self.raw_address);
        if std::mem::take(&mut self.escape_open)
            && let Some(last) = self.pieces.last_mut()
        {
            last.file.end = at;
        }
        let decoded = self.decoded..self.decoded + piece.len();
        self.decoded = decoded.end;
        // Empty pieces are kept: they fix where an escape that follows starts.
        self.pieces.push(TextPiece { decoded, file: at..at + piece.len(), verbatim: true });
        true
    }

    fn push_char(&mut self, c: char) -> bool {
        let start = self.pieces.last().map_or(self.file_base + self.open_quote, |piece| piece.file.end);
        let decoded = self.decoded..self.decoded + c.len_utf8();
        self.decoded = decoded.end;
        self.pieces.push(TextPiece { decoded, file: start..start, verbatim: false });
        self.escape_open = true;
        true
    }
}

/// Returns the line and column of an offset, from 1; the column counts characters, not bytes.
pub fn line_column(file: &str, offset: usize) -> (usize, usize) {
    let before = &file[..offset.min(file.len())];
    let line_start = before.rfind('\n').map_or(0, |at| at + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    static ANY: TableShape = TableShape::new("a file", &[]).others(KeyKind::Text);

    /// Every character that is not escaped is found at the place the map names.
    #[track_caller]
    fn check(value: &str) {
        let file = format!("# ü\nk = 1\nv = {value} # c\n");
        let mut mistakes = Vec::new();
        let mut seen = false;
        TableReader::open(FileId(0), &file, &ANY, &mut mistakes, |reader, root| {
            let text = reader.text(root, "v").expect("a text");
            let mut last = 0;
            for (at, c) in text.as_str().char_indices() {
                let range = text.span(at..at + c.len_utf8()).expect("a place").range;
                assert!(last <= range.start && range.start < range.end, "{value} {at} {range:?}");
                last = range.end;
                let shown = &file[range];
                assert!(shown == c.to_string() || shown.starts_with('\\'), "{value} {at} {shown:?}");
            }
            seen = true;
        });
        assert!(seen && mistakes.is_empty(), "{value}: {mistakes:?}");
    }

    #[test]
    fn every_kind_of_string_leads_back_to_the_file() {
        for value in [
            r#""""#,
            "''",
            r#""tab\there\n\n""#,
            r#""\u00e9\U0001F600\x41\e\\\"""#,
            "'日本'",
            "'''\nfirst newline cut\n  x'''",
            "\"\"\"\na \\\n     b\\tc\"\"\"",
            "\"\"\"\r\na\r\nb \\\r\n  c\\n\r\n\"\"\"",
            "\"\"\"\"quoted\"\"\"\"",
            "\"\"\"\\\"\\\"\\\"\"\"\"",
        ] {
            check(value);
        }
    }

    #[test]
    fn columns_count_characters_and_a_byte_order_mark_is_in_the_file() {
        assert_eq!(line_column("ü = 1\n日本 x", "ü = 1\n日本 ".len()), (2, 4));
        let file = "\u{feff}v = \"a @@ b\"\n";
        let mut mistakes = Vec::new();
        TableReader::open(FileId(0), file, &ANY, &mut mistakes, |reader, root| {
            let text = reader.text(root, "v").expect("a text");
            assert_eq!(&file[text.span(2..4).expect("a place").range], "@@");
        });
    }
}
