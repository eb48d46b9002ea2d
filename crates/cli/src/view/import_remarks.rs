//! What a reader should know of an imported file besides the numbers.

use fencepost_engine::{Doubts, Imported};

use super::text::{count, harmless};

/// How many bad records are told of each file.
const REJECTS_SHOWN: usize = 5;
/// How many examples of each doubt are told.
const DOUBTS_SHOWN: usize = 5;

/// Returns the lines of what should be known of a file. `dry` when it is only looked at.
pub fn remarks(imported: &Imported, dry: bool) -> Vec<String> {
    let mut lines = Vec::new();
    lines.extend(missing_devices(imported));
    lines.extend(facts_withheld(imported));
    if imported.left_out_rows > 0 {
        let were = if dry { ("row would be", "rows would be") } else { ("row was", "rows were") };
        let rows = count(imported.left_out_rows, were.0, were.1);
        lines.push(format!("{rows} left out, from the one on that ends the table"));
    }
    lines.extend(doubtful_values(&imported.doubts));
    lines.extend(doubtful_names(&imported.doubts));
    if imported.hidden > 0 {
        let documents = count(imported.hidden, "earlier document was", "earlier documents were");
        lines.push(format!("{documents} written again without the secrets in them"));
    }
    lines.extend(rejects(imported, dry));
    lines
}

/// Devices that the file should have and has not.
fn missing_devices(imported: &Imported) -> Option<String> {
    let because = imported.kept_because?;
    let missing = imported.kept_missing;
    Some(format!(
        "{missing} of this feed are not in the file, {because}; they stay as they are. If the file is right: --accept-missing"
    ))
}

/// Facts that are not kept, or not as they came.
fn facts_withheld(imported: &Imported) -> Vec<String> {
    let mut lines = Vec::new();
    if !imported.secrets.is_empty() {
        let names: Vec<String> = imported.secrets.iter().map(|path| harmless(path)).collect();
        lines.push(format!(
            "taken for secrets by their names, and kept as digests alone: {} (say so in facts.toml: secret = true, or false)",
            names.join(", ")
        ));
    }
    if imported.left_out > 0 {
        let records = count(imported.left_out, "record is", "records are");
        lines.push(format!(
            "{records} of devices that are not the company's: facts that are company_only were left out"
        ));
    }
    lines
}

/// Values of which a reader may doubt that they are what was meant.
fn doubtful_values(doubts: &Doubts) -> Vec<String> {
    let mut lines = Vec::new();
    for (path, wrong) in doubts.wrong_types.iter().take(DOUBTS_SHOWN) {
        let values = count(wrong.count, "value is", "values are");
        let (path, example) = (harmless(path), harmless(&wrong.example));
        let declared = wrong.declared;
        lines.push(format!("{path}: {values} no {declared}, such as {example}; conditions that need it are unknown"));
    }
    if let more @ 1.. = doubts.wrong_types.len().saturating_sub(DOUBTS_SHOWN) {
        lines.push(format!("and {more} more facts are not of their declared type"));
    }
    for (path, found) in doubts.contradictions.iter().take(DOUBTS_SHOWN) {
        let (path, example) = (harmless(path), harmless(&found.example));
        let devices = count(found.devices, "device", "devices");
        lines.push(format!(
            "{path}: the rows of {devices} say different things, such as {example}; conditions that need it are unknown"
        ));
    }
    if let more @ 1.. = doubts.contradictions.len().saturating_sub(DOUBTS_SHOWN) {
        lines.push(format!("and of {more} more facts the rows of a device say different things"));
    }
    for (unknown, records) in doubts.unknown_words.iter().take(DOUBTS_SHOWN) {
        let (field, word) = (harmless(&unknown.field), harmless(&unknown.word));
        let records = count(*records, "record", "records");
        lines.push(format!("{field}: `{word}` is not in its table of values; it stands as it came, in {records}"));
    }
    if let more @ 1.. = doubts.unknown_words.len().saturating_sub(DOUBTS_SHOWN) {
        lines.push(format!("and {more} more words are in no table of values"));
    }
    lines
}

/// Devices and people that may be others than those that are known.
fn doubtful_names(doubts: &Doubts) -> Vec<String> {
    let mut lines = Vec::new();
    if !doubts.unknown_holders.is_empty() {
        let holders = count(doubts.unknown_holders.len() as u64, "holder is", "holders are");
        lines.push(format!("{holders} on no list of people: {}", first_of(&doubts.unknown_holders)));
    }
    if !doubts.retired.is_empty() {
        let devices = count(
            doubts.retired.len() as u64,
            "retired device is named, and stays retired",
            "retired devices are named, and stay retired",
        );
        lines.push(format!(
            "{devices}, since this feed is trusted less than those that spoke of them: {}",
            first_of(&doubts.retired)
        ));
    }
    if !doubts.other_spellings.is_empty() {
        let pairs = doubts.other_spellings.iter().take(DOUBTS_SHOWN);
        let some: Vec<String> =
            pairs.map(|(new, known)| format!("{} and {}", harmless(new), harmless(known))).collect();
        let devices = count(
            doubts.other_spellings.len() as u64,
            "new device differs from a known one",
            "new devices differ from known ones",
        );
        lines.push(format!("{devices} in spelling alone: {}", some.join("; ")));
    }
    if doubts.other_name_count > 0 {
        let people = count(doubts.other_name_count, "person is", "people are");
        lines
            .push(format!("{people} called otherwise in another list; make them agree, or leave the name out of one:"));
        for one in doubts.other_names.iter().take(REJECTS_SHOWN) {
            let (name, other, source) = (harmless(&one.name), harmless(&one.other), &one.source);
            lines.push(format!("  line {}: {} is {name} here, {other} in {source}", one.line, harmless(&one.person)));
        }
        lines.extend(further(doubts.other_name_count));
    }
    lines
}

/// Records that were not taken.
fn rejects(imported: &Imported, dry: bool) -> Vec<String> {
    if imported.rejects.is_empty() {
        return Vec::new();
    }
    let number = imported.rejects.count();
    let mut lines = vec![if dry {
        format!("{} would be set aside", count(number, "bad record", "bad records"))
    } else {
        let count = count(number, "bad record was", "bad records were");
        format!("{count} set aside (all of them: fencepost list rejects)")
    }];
    for reject in imported.rejects.first().iter().take(REJECTS_SHOWN) {
        lines.push(format!("  line {}: {}", reject.line, harmless(&reject.reason)));
    }
    lines.extend(further(number));
    lines
}

/// Says how many are not told below a heading.
fn further(number: u64) -> Option<String> {
    let more = number.saturating_sub(REJECTS_SHOWN as u64);
    (more > 0).then(|| format!("  and {more} more"))
}

/// Lists the first of some ids.
fn first_of<'i>(ids: impl IntoIterator<Item = &'i String>) -> String {
    let mut ids = ids.into_iter();
    let some: Vec<String> = ids.by_ref().take(DOUBTS_SHOWN).map(|id| harmless(id)).collect();
    let more = if ids.next().is_some() { ", .." } else { "" };
    format!("{}{more}", some.join(", "))
}
