//! What became of an imported file, or would become of it.

use std::collections::BTreeMap;

use fencepost_engine::{Change, Imported};
use fencepost_formats::SourceKind;
use serde_json::Value as Json;

use super::import_remarks::remarks;
use super::style::Styles;
use super::table::wrap;
use super::text::{count, harmless};

/// What became of a file.
pub fn told(imported: &Imported) -> String {
    let path = harmless(&imported.path);
    if imported.already {
        return format!("{path}  imported before as {}; nothing to do\n", imported.source);
    }
    format!(
        "{path}  as {}: {}, {}\n{}",
        imported.source,
        held(imported),
        outcome(imported),
        indented(&remarks(imported, false), "  ")
    )
}

/// What would become of a file: what it is taken for, what it would change, and its first records as they would be kept.
pub fn dry(imported: &Imported, width: usize, styles: &Styles) -> String {
    let (strong, faint) = (styles.strong, styles.faint);
    let mut out = format!("{strong}{}{strong:#}\n", harmless(&imported.path));
    let mut told = |word: &str, text: &str| {
        for (at, part) in wrap(text, width.saturating_sub(13)).into_iter().enumerate() {
            let word = if at == 0 { word } else { "" };
            out.push_str(&format!("  {faint}{word:<9}{faint:#} {part}\n"));
        }
    };
    told(
        "source",
        &format!("{}, read as {}, because {}", imported.source, imported.format, harmless(&imported.because)),
    );
    if imported.already {
        told("would", "do nothing: it was imported before");
        return out;
    }
    let (one, many) = nouns(imported);
    told("holds", &format!("{} of {}", held(imported), count(imported.listed, one, many)));
    told("would", &format!("make {}", outcome(imported)));
    for changed in &imported.first_changed {
        let changes: Vec<String> = changed.changes.iter().take(6).map(change).collect();
        let more = match changed.changes.len() {
            0..=6 => String::new(),
            many => format!("; and {} more", many - 6),
        };
        told("", &format!("{}: {}{more}", harmless(&changed.device), changes.join("; ")));
    }
    for (at, record) in imported.first.iter().enumerate() {
        told(if at == 0 { "such as" } else { "" }, &flat(record));
    }
    out.push_str(&indented(&remarks(imported, true), "    "));
    out
}

fn indented(lines: &[String], indent: &str) -> String {
    lines.iter().map(|line| format!("{indent}{line}\n")).collect()
}

/// More files than this are told together, source by source, and no more of them in full.
pub const MANY: usize = 20;

/// Files that are told one by one, or many of them together.
#[derive(Debug)]
pub struct ImportedFiles {
    many: bool,
    dry: bool,
    by_source: BTreeMap<String, Sum>,
    in_full: usize,
    /// Files of which there was more to say than is told.
    withheld: u64,
    /// Files that were not imported.
    pub refused: u64,
}

#[derive(Debug, Default)]
struct Sum {
    imported: Imported,
    files: u64,
    already: u64,
    set_aside: u64,
}

impl ImportedFiles {
    /// Of so many files, that are imported or only looked at.
    pub fn of(files: usize, dry: bool) -> Self {
        Self { many: files > MANY, dry, by_source: BTreeMap::new(), in_full: 0, withheld: 0, refused: 0 }
    }

    /// Adds what became of a file, and returns whether it is to be told by itself.
    pub fn add(&mut self, imported: &Imported) -> bool {
        let sum = self.by_source.entry(imported.source.clone()).or_default();
        sum.files += 1;
        sum.already += u64::from(imported.already);
        sum.set_aside += imported.rejects.count();
        sum.imported.kind = imported.kind;
        sum.imported.records += imported.records;
        sum.imported.new += imported.new;
        sum.imported.changed += imported.changed;
        sum.imported.unchanged += imported.unchanged;
        sum.imported.older += imported.older;
        sum.imported.missing += imported.missing;
        let remarkable = is_remarkable(imported);
        (self.dry || remarkable) && self.has_room(remarkable) || !self.many
    }

    /// Adds a file that was not imported, and returns whether the reason is to be told.
    pub fn refuse(&mut self) -> bool {
        self.refused += 1;
        self.has_room(true)
    }

    fn has_room(&mut self, remarkable: bool) -> bool {
        // What a look finds nothing wrong with leaves room for what it does.
        let most = if remarkable { MANY } else { MANY / 2 };
        let room = !self.many || self.in_full < most;
        self.in_full += usize::from(room);
        self.withheld += u64::from(!room && remarkable);
        room
    }

    /// Of many files, one line a source and what was not told; of few, nothing.
    pub fn told(&self) -> String {
        if !self.many {
            return String::new();
        }
        let mut out = String::new();
        for (source, sum) in &self.by_source {
            let files = count(sum.files, "file", "files");
            let before =
                if sum.already > 0 { format!(" ({} of them imported before)", sum.already) } else { String::new() };
            let records = count(sum.imported.records, "record", "records");
            let would = if self.dry { "would make " } else { "" };
            let aside = match (sum.set_aside, self.dry) {
                (0, _) => String::new(),
                (number, true) => format!(", {} to set aside", count(number, "bad record", "bad records")),
                (number, false) => format!(", {} set aside", count(number, "bad record", "bad records")),
            };
            out.push_str(&format!(
                "{files} as {}{before}: {records}, {would}{}{aside}\n",
                harmless(source),
                outcome(&sum.imported)
            ));
        }
        if self.withheld > 0 {
            let more = count(self.withheld, "file has", "files have");
            let all = if self.dry { "" } else { "; all bad records: fencepost list rejects" };
            out.push_str(&format!("{more} remarks or mistakes that are not told here{all}\n"));
        }
        out
    }
}

/// Whether there is more to say of a file than how many records it holds.
fn is_remarkable(imported: &Imported) -> bool {
    !remarks(imported, false).is_empty()
}

fn nouns(imported: &Imported) -> (&'static str, &'static str) {
    match imported.kind {
        SourceKind::State => ("device", "devices"),
        SourceKind::People => ("person", "people"),
        SourceKind::Acceptances => ("acceptance of terms", "acceptances of terms"),
        SourceKind::SignIns => ("sign-in", "sign-ins"),
        SourceKind::Settings => ("state of a setting", "states of settings"),
        SourceKind::Commands => ("state of a command", "states of commands"),
    }
}

/// How much a file holds: records, or the rows that they were made of.
fn held(imported: &Imported) -> String {
    match imported.rows {
        Some(rows) => count(rows, "row", "rows"),
        None => count(imported.records, "record", "records"),
    }
}

fn outcome(imported: &Imported) -> String {
    let (one, many) = nouns(imported);
    let mut parts = vec![
        format!("{} new {}", imported.new, if imported.new == 1 { one } else { many }),
        format!("{} changed", imported.changed),
        format!("{} unchanged", imported.unchanged),
    ];
    if imported.older > 0 {
        parts.push(format!("{} older than what is known", imported.older));
    }
    if imported.missing > 0 {
        parts.push(format!("{} no longer listed", imported.missing));
    }
    parts.join(", ")
}

/// `os.version 12.1 -> 13.0`.
pub fn change(change: &Change) -> String {
    let path = harmless(&change.path);
    match (&change.before, &change.after) {
        (None, Some(after)) => format!("{path} new: {}", value(after)),
        (Some(before), None) => format!("{path} gone: {}", value(before)),
        (before, after) => {
            let show = |json: &Option<Json>| json.as_ref().map_or_else(String::new, value);
            format!("{path} {} -> {}", show(before), show(after))
        }
    }
}

/// A value as people read it, not longer than a line.
pub fn value(json: &Json) -> String {
    const MOST: usize = 60;
    let text = match json {
        Json::Null => "empty".to_owned(),
        Json::String(text) => text.clone(),
        Json::Object(fields) if fields.is_empty() => "{}".to_owned(),
        Json::Object(fields) => {
            let fields: Vec<String> = fields.iter().map(|(key, json)| format!("{key} {}", value(json))).collect();
            fields.join(", ")
        }
        other => other.to_string(),
    };
    let text = harmless(&text);
    if text.chars().count() <= MOST {
        return text;
    }
    text.chars().take(MOST - 1).chain(['…']).collect()
}

/// A document as paths and values.
fn flat(document: &str) -> String {
    fn walk(json: &Json, path: &str, into: &mut Vec<String>) {
        match json {
            Json::Object(fields) if !fields.is_empty() => {
                for (key, json) in fields {
                    walk(json, &if path.is_empty() { key.clone() } else { format!("{path}.{key}") }, into);
                }
            }
            json => into.push(format!("{}={}", harmless(path), value(json))),
        }
    }
    let mut parts = Vec::new();
    if let Ok(json) = serde_json::from_str(document) {
        walk(&json, "", &mut parts);
    }
    parts.join(", ")
}
