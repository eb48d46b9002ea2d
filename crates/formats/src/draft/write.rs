//! Writes the draft of a source: what was guessed and why, and what could not be told.

use std::collections::BTreeSet;

use fencepost_core::FactType;

use super::columns::{Looks, SampledColumn, Times, fact_for, says_when, tokens};
use super::{DraftFor, Sample};
use crate::workspace::Format;

/// A key of the source with its value, and what to say beside it; a key that could not be told is written as a comment.
struct DraftLine {
    key: &'static str,
    value: String,
    remark: String,
    told: bool,
}

pub(super) fn draft(sample: &Sample, columns: &[SampledColumn], context: &DraftFor<'_>) -> String {
    let of_people =
        sample.format == Format::Scim || !sample.format.is_of_one() && are_people(columns, sample.records.len());
    let count = sample.records.len();
    let more = if sample.more { "the first " } else { "" };
    let mut out = format!(
        "# A draft for {}: {more}{count} record{}, {} field{} looked at. Read it, finish it, and put it into fencepost.toml;\n\
         # then see what would come of it: fencepost import --dry-run {}\n\n[[source]]\n",
        plain(context.path),
        if count == 1 { "" } else { "s" },
        columns.len(),
        if columns.len() == 1 { "" } else { "s" },
        plain(context.path),
    );
    let id = id_column(columns, count, of_people);
    let when = if of_people { None } else { time_column(columns, count) };
    let keys = KeyColumns { of_people, id, when };
    let lines = head(sample, columns, context, &keys);
    let width = lines.iter().map(|line| line.key.len() + if line.told { 0 } else { 2 }).max().unwrap_or(0);
    for line in lines {
        let (mark, pad) = if line.told { ("", width) } else { ("# ", width.saturating_sub(2)) };
        let code = format!("{mark}{:<pad$} = {}", line.key, line.value);
        out.push_str(&beside(&code, &line.remark, 40));
    }
    if sample.format == Format::Scim {
        out.push_str("\n# name, mail, unit, lead and language are taken from the standard's own attributes.\n");
        return out;
    }
    let (mut fields, mut facts) = (Vec::new(), Vec::new());
    let mut used = BTreeSet::new();
    for column in columns.iter().filter(|column| Some(column.name.as_str()) != id && Some(column.name.as_str()) != when)
    {
        let (mut fact, known) =
            if of_people { (person_fact(column), false) } else { fact_for(column, context.dictionary) };
        // Two columns cannot be one fact; the second keeps a name of its own.
        if !used.insert(fact.clone()) {
            fact = tokens(&column.name).join("_");
            let mut number = 2;
            while !used.insert(fact.clone()) {
                fact = format!("{}_{number}", tokens(&column.name).join("_"));
                number += 1;
            }
        }
        let ty = context.dictionary.facts.get(&fact).and_then(|declared| declared.ty);
        if let Some(line) = field_line(column, &fact, ty, count) {
            fields.push(line);
        }
        let declared = ty.is_some();
        if let (false, false, Some(line)) = (of_people, known && declared, fact_line(column, &fact)) {
            facts.push(line);
        }
    }
    if !fields.is_empty() {
        out.push_str("\n[source.fields]\n");
        let width = fields.iter().map(|field| field.column.chars().count()).max().unwrap_or(0);
        for FieldLine { column, value, remark } in fields {
            let pad = width - column.chars().count();
            out.push_str(&beside(&format!("{column}{} = {value}", " ".repeat(pad)), &remark, 50));
        }
    }
    if !facts.is_empty() {
        out.push_str("\n# For facts.toml, below [facts]; a field with a unit needs its line there:\n");
        for line in facts {
            out.push_str(&format!("# {line}\n"));
        }
    }
    out
}

/// What a feed is about, and by which columns its records are told apart and dated.
struct KeyColumns<'c> {
    of_people: bool,
    id: Option<&'c str>,
    when: Option<&'c str>,
}

fn head(sample: &Sample, columns: &[SampledColumn], context: &DraftFor<'_>, keys: &KeyColumns<'_>) -> Vec<DraftLine> {
    let KeyColumns { of_people, id, when } = *keys;
    let mut lines = Vec::new();
    let mut add = |key, value: String, remark: String, told| lines.push(DraftLine { key, value, remark, told });
    let (folder, file) = context.path.rsplit_once('/').map_or(("", context.path), |(folder, file)| (folder, file));
    let one = sample.format.is_of_one();
    add("id", quoted(&free_id(file, context.taken)), String::new(), true);
    let pattern = if folder.is_empty() { pattern_of(file, one) } else { format!("{folder}/{}", pattern_of(file, one)) };
    add("files", format!("[{}]", quoted(&pattern)), "which files are this feed".to_owned(), true);
    add("format", quoted(sample.format.as_str()), String::new(), true);
    if sample.format == Format::Csv && sample.delimiter != b',' {
        let delimiter = if sample.delimiter == b'\t' {
            "\"\\t\"".to_owned()
        } else {
            quoted(&char::from(sample.delimiter).to_string())
        };
        add("delimiter", delimiter, String::new(), true);
    }
    if let Some(path) = &sample.records_at {
        add("records", quoted(path), "where the list of records stands in the document".to_owned(), true);
    }
    let key = if of_people { "person" } else { "device" };
    match id.and_then(|id| columns.iter().find(|column| column.name == id)) {
        Some(column) => {
            let count = sample.records.len();
            let empty = match count - column.filled {
                0 => String::new(),
                empty => format!("; empty in {empty}, which would be set aside"),
            };
            let remark = format!("{} different in {count} records{}{empty}", column.distinct, shown(column));
            if column.name != "device" || of_people || sample.format == Format::Csv {
                add(key, quoted(&column.name), remark, true);
            }
        }
        None if one => add(
            "device_from",
            quoted("file-name"),
            "no field names the device, so the file's name does; or \"folder-name\"".to_owned(),
            true,
        ),
        None => add(key, quoted("?"), format!("could not tell: which field names the {key}?"), false),
    }
    if of_people {
        add("complete", "true".to_owned(), "could not tell: does each file list everybody?".to_owned(), false);
        return lines;
    }
    match when.and_then(|when| columns.iter().find(|column| column.name == when)) {
        Some(column) => {
            if column.name != "collected_at" || !matches!(sample.format, Format::Json | Format::JsonLines) {
                add("collected", quoted(&column.name), format!("when the state was collected{}", shown(column)), true);
            }
            if let Looks::Times(times) = &column.looks {
                let zone = context.zone.iana_name().unwrap_or("UTC");
                match times {
                    Times::Instants | Times::Since1970 => {}
                    Times::Local => add(
                        "time_zone",
                        quoted(zone),
                        "the times name no offset; the workspace's zone is a guess".to_owned(),
                        true,
                    ),
                    Times::Pattern(pattern, second) => {
                        let doubt = second.map_or_else(String::new, |second| {
                            format!("or {}: could not tell day from month", quoted(second))
                        });
                        add("time_format", quoted(pattern), doubt, true);
                        add(
                            "time_zone",
                            quoted(zone),
                            "the times name no offset; the workspace's zone is a guess".to_owned(),
                            true,
                        );
                    }
                }
            }
        }
        None => add(
            "collected",
            quoted("?"),
            "could not tell: which field says when? Without it, the file's own time".to_owned(),
            false,
        ),
    }
    add("trust", "10".to_owned(), "could not tell: where feeds disagree, the higher wins".to_owned(), false);
    add("fresh_for", quoted("3d"), "could not tell: after how long do its facts prove nothing?".to_owned(), false);
    if !one {
        add("complete", "true".to_owned(), "could not tell: does each file list the whole feed?".to_owned(), false);
    }
    add("expected_every", quoted("1d"), "could not tell: how often does it come?".to_owned(), false);
    lines
}

/// Whether the records are rather people than devices: most have a mail address, and nothing says a version.
fn are_people(columns: &[SampledColumn], records: usize) -> bool {
    let mails = columns.iter().any(|column| {
        let addresses = column.shown.iter().filter(|text| text.contains('@') && !text.contains(' ')).count();
        column.filled * 2 >= records && addresses > 0 && addresses == column.shown.len()
    });
    let devices = columns.iter().any(|column| {
        column.looks == Looks::Version
            || tokens(&column.name).iter().any(|token| matches!(token.as_str(), "os" | "platform" | "serial" | "model"))
    });
    mails && !devices
}

/// The column that names each record: filled and different everywhere, and called so.
fn id_column(columns: &[SampledColumn], records: usize, of_people: bool) -> Option<&str> {
    const DEVICE: [(&str, u32); 12] = [
        ("device", 6),
        ("asset", 6),
        ("hostname", 5),
        ("host", 5),
        ("tag", 4),
        ("machine", 4),
        ("computer", 4),
        ("udid", 4),
        ("uuid", 3),
        ("serial", 3),
        ("id", 3),
        ("name", 2),
    ];
    const PERSON: [(&str, u32); 8] =
        [("id", 5), ("no", 5), ("number", 4), ("username", 5), ("login", 5), ("employee", 4), ("user", 3), ("mail", 1)];
    let scores: &[(&str, u32)] = if of_people { &PERSON } else { &DEVICE };
    columns
        .iter()
        .filter(|column| {
            column.filled * 10 >= records * 8 && column.distinct * 10 >= column.filled * 9 && !column.secret
        })
        .filter(|column| matches!(column.looks, Looks::Text | Looks::Number { .. }))
        .map(|column| {
            let words = tokens(&column.name);
            let score: u32 = words
                .iter()
                .filter_map(|word| scores.iter().find(|(name, _)| name == word))
                .map(|(_, score)| score)
                .sum();
            // `id` before `parent id`: the fewer other words, the better.
            (score, std::cmp::Reverse(words.len()), column)
        })
        .filter(|(score, ..)| *score > 0)
        .max_by_key(|(score, words, _)| (*score, *words))
        .map(|(.., column)| column.name.as_str())
}

/// The column that says when a record was collected.
fn time_column(columns: &[SampledColumn], records: usize) -> Option<&str> {
    const WORDS: [(&str, u32); 10] = [
        ("collected", 9),
        ("exported", 8),
        ("export", 8),
        ("reported", 7),
        ("scanned", 6),
        ("scan", 6),
        ("seen", 5),
        ("checkin", 5),
        ("sync", 4),
        ("updated", 3),
    ];
    columns
        .iter()
        .filter(|column| column.filled * 10 >= records * 9 && matches!(column.looks, Looks::Times(_)))
        .filter(|column| says_when(&column.name))
        .map(|column| {
            let words = tokens(&column.name);
            let score = words
                .iter()
                .filter_map(|word| WORDS.iter().find(|(name, _)| name == word))
                .map(|(_, score)| *score)
                .max();
            (score.unwrap_or(1), column)
        })
        .max_by_key(|(score, _)| *score)
        .map(|(_, column)| column.name.as_str())
}

/// What a column of a list of people is probably about.
fn person_fact(column: &SampledColumn) -> String {
    const FACTS: [(&str, &str); 12] = [
        ("mail", "mail"),
        ("email", "mail"),
        ("name", "name"),
        ("unit", "unit"),
        ("department", "unit"),
        ("team", "team"),
        ("lead", "lead"),
        ("manager", "lead"),
        ("supervisor", "lead"),
        ("language", "language"),
        ("locale", "language"),
        ("active", "active"),
    ];
    let words = tokens(&column.name);
    let known = FACTS.iter().find(|(word, _)| words.iter().any(|token| token == word));
    known.map_or_else(|| words.join("_"), |(_, fact)| (*fact).to_owned())
}

/// How a column is mapped to a fact.
struct FieldLine {
    /// The column, in quotes.
    column: String,
    /// What stands beside it.
    value: String,
    remark: String,
}

/// Returns how a column is mapped; none when its name and its values are a fact already.
fn field_line(column: &SampledColumn, fact: &str, ty: Option<FactType>, records: usize) -> Option<FieldLine> {
    let mut remark = if column.secret {
        "its name says that it is a secret: kept as a digest alone".to_owned()
    } else {
        samples(column)
    };
    if column.filled < records {
        let sep = if remark.is_empty() { "" } else { "; " };
        remark.push_str(&format!("{sep}empty in {} of {records}", records - column.filled));
    }
    let value = match &column.looks {
        // A fact that is declared a text keeps its words.
        Looks::Words { yes, no, other } if ty.is_none_or(|ty| ty == FactType::Boolean) => {
            if !other.is_empty() {
                let other: Vec<String> = other.iter().map(|text| plain(text)).collect();
                remark.push_str(&format!("; could not tell what means: {}", other.join(", ")));
            }
            format!("{{ fact = {}, true_when = {}, false_when = {} }}", quoted(fact), list(yes), list(no))
        }
        Looks::Number { texts: false, .. } if column.name == fact => return None,
        Looks::Number { odd, .. } => {
            if !odd.is_empty() {
                let odd: Vec<String> = odd.iter().map(|text| plain(text)).collect();
                remark.push_str(&format!("; no number: {}", odd.join(", ")));
            }
            match column.unit {
                Some(unit) => format!("{{ fact = {}, unit = {} }}", quoted(fact), quoted(unit)),
                None if column.name == fact => return None,
                None => quoted(fact),
            }
        }
        Looks::Boolean
        | Looks::Words { .. }
        | Looks::Version
        | Looks::Date
        | Looks::Times(_)
        | Looks::List { .. }
        | Looks::Text => {
            if column.name == fact {
                return None;
            }
            quoted(fact)
        }
    };
    Some(FieldLine { column: quoted(&column.name), value, remark })
}

/// What the dictionary would say of a fact; none where what comes is what it is.
fn fact_line(column: &SampledColumn, fact: &str) -> Option<String> {
    if column.secret {
        return Some(format!("{} = {{ secret = true }}", quoted(fact)));
    }
    let of = |ty: FactType| format!("type = {}", quoted(ty.as_str()));
    let mut said = match &column.looks {
        Looks::Version => vec![of(FactType::Version)],
        Looks::Times(_) => vec![of(FactType::Instant)],
        Looks::Date => vec![of(FactType::Date)],
        Looks::Number { texts, .. } if *texts || column.unit.is_some() => vec![of(FactType::Number)],
        Looks::List { key: Some(key) } => vec![of(FactType::List), format!("key = {}", quoted(key))],
        Looks::Words { .. } => vec![of(FactType::Boolean)],
        Looks::Boolean | Looks::Number { .. } | Looks::List { key: None } | Looks::Text => Vec::new(),
    };
    if let (Looks::Number { .. }, Some(unit)) = (&column.looks, column.unit) {
        // Sizes are kept in bytes, other measures as they come.
        let base = if unit.ends_with('B') { "B" } else { unit };
        said.push(format!("unit = {}", quoted(base)));
    }
    (!said.is_empty()).then(|| format!("{} = {{ {} }}", quoted(fact), said.join(", ")))
}

fn samples(column: &SampledColumn) -> String {
    let mut shown: Vec<String> = Vec::new();
    for text in column.shown.iter().map(|text| plain(text)) {
        let length: usize = shown.iter().map(String::len).sum();
        if shown.is_empty() || length + text.len() < 44 {
            shown.push(text);
        }
    }
    if column.distinct > shown.len() {
        shown.push(format!(".. ({} different)", column.distinct));
    }
    shown.join(", ")
}

fn shown(column: &SampledColumn) -> String {
    column.shown.first().map_or_else(String::new, |text| format!(": {}", plain(text)))
}

/// A name for the source, made of the file's.
fn free_id(file: &str, taken: &[String]) -> String {
    let stem = file.split('.').next().unwrap_or(file);
    let words: Vec<String> =
        tokens(stem).into_iter().filter(|word| !word.chars().all(|c| c.is_ascii_digit()) && word.is_ascii()).collect();
    let name = words.join("-");
    let name = if name.starts_with(|c: char| c.is_ascii_lowercase()) { name } else { "feed".to_owned() };
    let mut free = name.clone();
    let mut number = 2;
    while taken.contains(&free) {
        free = format!("{name}-{number}");
        number += 1;
    }
    free
}

/// A pattern for the files of the feed: what looks like a date or a number in this one's name may be any.
fn pattern_of(file: &str, one: bool) -> String {
    let (stem, ending) =
        file.split_once('.').map_or((file, String::new()), |(stem, ending)| (stem, format!(".{ending}")));
    if one {
        return format!("*{}", literal(&ending));
    }
    let cut = stem.find(|c: char| c.is_ascii_digit()).unwrap_or(stem.len());
    let fixed = stem[..cut].trim_end_matches(['_', ' ', '.']);
    format!("{}*{}", literal(fixed), literal(&ending))
}

fn literal(text: &str) -> String {
    glob::Pattern::escape(text)
}

/// A text of a file in a comment: on one line, and harmless to a terminal.
fn plain(text: &str) -> String {
    const MOST: usize = 40;
    let cut: String = text.chars().take(MOST).collect();
    let dots = if cut.len() < text.len() { ".." } else { "" };
    let shown: String = cut
        .chars()
        .flat_map(|c| {
            let odd = c.is_control() || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{61c}');
            if odd { c.escape_unicode().collect::<Vec<_>>() } else { vec![c] }
        })
        .collect();
    shown + dots
}

/// Returns a text as a TOML string, with everything escaped that would steer a terminal.
pub fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if c.is_control()
                || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{61c}') =>
            {
                out.push_str(&format!("\\u{:04X}", u32::from(c)));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

fn list(words: &[String]) -> String {
    format!("[{}]", words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(", "))
}

/// Code with a comment beside it.
fn beside(code: &str, remark: &str, column: usize) -> String {
    if remark.is_empty() {
        return format!("{code}\n");
    }
    let pad = column.saturating_sub(code.chars().count());
    format!("{code}{}  # {remark}\n", " ".repeat(pad))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_become_ids_and_patterns() {
        assert_eq!(free_id("Handhelds_2027-03-01.csv", &[]), "handhelds");
        assert_eq!(free_id("2027.csv", &["feed".to_owned()]), "feed-2");
        assert_eq!(pattern_of("handhelds-2027-03-01.csv", false), "handhelds-*.csv");
        assert_eq!(pattern_of("export.json.gz", false), "export*.json.gz");
        assert_eq!(pattern_of("tern-kiosk.ini", true), "*.ini");
        assert_eq!(plain("a\nb\u{1b}[31m\u{202e}"), "a\\u{a}b\\u{1b}[31m\\u{202e}");
        assert_eq!(quoted("a\"\\\u{7}\u{202e}"), "\"a\\\"\\\\\\u0007\\u202E\"");
    }
}
