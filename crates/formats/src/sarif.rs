//! Mistakes as SARIF 2.1.0 (OASIS), for editors and pipelines.

use std::collections::BTreeMap;
use std::path::Path;

use fencepost_core::{Diagnostic, Severity, Span, about_code};
use serde_json::{Value as Json, json};

use crate::workspace::{FileText, line_column};

/// What files are told from.
const ROOT: &str = "WORKSPACE";

/// Returns a log of mistakes in the files of a workspace, each with what else there is to say of it.
///
/// Places are in characters, as an editor counts them; files are given from the workspace's root on.
pub fn sarif<'d>(
    root: &Path,
    files: &[FileText],
    mistakes: impl IntoIterator<Item = (&'d Diagnostic, Option<String>)>,
) -> Json {
    let mut codes: BTreeMap<&str, Severity> = BTreeMap::new();
    let mut results = Vec::new();
    for (mistake, more) in mistakes {
        let worst = codes.entry(mistake.code).or_insert(mistake.severity);
        *worst = mistake.severity.min(*worst);
        results.push(result(files, mistake, more));
    }
    let rules: Vec<Json> = codes
        .iter()
        .map(|(code, severity)| {
            let mut rule = json!({ "id": code, "defaultConfiguration": { "level": severity.as_str() } });
            if let Some(about) = about_code(code) {
                rule["shortDescription"] = json!({ "text": about });
            }
            rule
        })
        .collect();
    for result in &mut results {
        let position = codes.keys().position(|code| result["ruleId"] == **code);
        result["ruleIndex"] = json!(position);
    }
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "Fence Post", "semanticVersion": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "unicodeCodePoints",
            "originalUriBaseIds": { ROOT: { "uri": folder_uri(root) } },
            "results": results,
        }],
    })
}

fn result(files: &[FileText], mistake: &Diagnostic, more: Option<String>) -> Json {
    let mut text = mistake.message.clone();
    for (before, said) in [(": ", Some(&mistake.label)), (". ", mistake.help.as_ref()), ("\n", more.as_ref())] {
        if let Some(said) = said.filter(|said| !said.is_empty()) {
            text.push_str(before);
            text.push_str(said);
        }
    }
    // What is about the whole workspace is told of the file at its root.
    let location = mistake.span.as_ref().and_then(|span| location_of(files, span)).or_else(|| {
        let first = files.first()?;
        Some(json!({ "physicalLocation": { "artifactLocation": artifact(first) } }))
    });
    let also: Vec<Json> = mistake
        .notes
        .iter()
        .enumerate()
        .filter_map(|(at, note)| {
            let mut location = location_of(files, &note.span)?;
            location["id"] = json!(at + 1);
            location["message"] = json!({ "text": note.label });
            Some(location)
        })
        .collect();
    let mut result = json!({
        "ruleId": mistake.code,
        "level": mistake.severity.as_str(),
        "message": { "text": text },
        "locations": location.into_iter().collect::<Vec<_>>(),
    });
    if !also.is_empty() {
        result["relatedLocations"] = json!(also);
    }
    result
}

fn location_of(files: &[FileText], span: &Span) -> Option<Json> {
    let file = files.get(span.file.0 as usize)?;
    let (line, column) = line_column(&file.text, span.range.start);
    let (end_line, end_column) = line_column(&file.text, span.range.end);
    Some(json!({
        "physicalLocation": {
            "artifactLocation": artifact(file),
            "region": { "startLine": line, "startColumn": column, "endLine": end_line, "endColumn": end_column },
        },
    }))
}

fn artifact(file: &FileText) -> Json {
    json!({ "uri": escaped(&file.path), "uriBaseId": ROOT })
}

/// Returns the URI of a folder, with a slash at its end (RFC 8089).
fn folder_uri(folder: &Path) -> String {
    let path = folder.to_string_lossy().replace('\\', "/");
    let path = path.trim_end_matches('/');
    let slash = if path.starts_with('/') || path.is_empty() { "" } else { "/" };
    format!("file://{slash}{}/", escaped(path))
}

/// Returns a path as a URI has it: what is not unreserved there is escaped (RFC 3986).
fn escaped(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(char::from(byte)),
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use fencepost_core::FileId;

    use super::*;

    #[test]
    fn places_are_in_characters_and_paths_are_escaped() {
        let files = [FileText { path: "rules/über uns.toml".to_owned(), text: "# ü\nk = \"日本 x\"\n".to_owned() }];
        let start = files[0].text.find('x').expect("there");
        let span = Span { file: FileId(0), range: start..start + 1 };
        let mistake = Diagnostic::warning("covers-nobody", "nobody", Some(span.clone()))
            .label("here")
            .help("do that")
            .note(Some(span), "also here");
        let log = sarif(Path::new("/home/flotte 1"), &files, [(&mistake, Some("proof".to_owned()))]);
        let run = &log["runs"][0];
        assert_eq!(run["originalUriBaseIds"]["WORKSPACE"]["uri"], "file:///home/flotte%201/");
        let result = &run["results"][0];
        assert_eq!(result["message"]["text"], "nobody: here. do that\nproof");
        assert_eq!((&result["ruleIndex"], &result["level"]), (&json!(0), &json!("warning")));
        let place = &result["locations"][0]["physicalLocation"];
        assert_eq!(place["artifactLocation"]["uri"], "rules/%C3%BCber%20uns.toml");
        assert_eq!(place["region"], json!({ "startLine": 2, "startColumn": 9, "endLine": 2, "endColumn": 10 }));
        assert_eq!(result["relatedLocations"][0]["message"]["text"], "also here");
        assert_eq!(run["tool"]["driver"]["rules"][0]["shortDescription"]["text"], "A rule covers no device");
    }
}
