//! What the README and the manuals show is what the program prints.

use crate::env::Env;

/// Splits a command line as a shell does, as far as the documents need it.
pub fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().expect("there is a word").push(c),
        }
    }
    words
}

/// Goes through the blocks of a document in the demo's workspace: writes those that are files (`file=PATH`, `append=PATH`), runs
/// the commands of those that are `console`, and compares what they print; `console run` is run and not compared. Returns how many
/// were compared.
#[track_caller]
fn check(document: &str) -> usize {
    let env = Env::new();
    env.ok(&["demo", "ferry"]);
    let path = format!("{}/../../{document}", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("the document");
    let mut checked = 0;
    for block in text.split("```").skip(1).step_by(2) {
        let (info, body) = block.split_once('\n').unwrap_or((block, ""));
        for word in info.split(' ') {
            if let Some(name) = word.strip_prefix("file=") {
                env.write(&format!("ferry/{name}"), body);
            } else if let Some(name) = word.strip_prefix("append=") {
                let before = std::fs::read_to_string(env.path(&format!("ferry/{name}"))).expect("the file");
                env.write(&format!("ferry/{name}"), before + body);
            }
        }
        let Some((line, shown)) = body.strip_prefix("$ fencepost ").and_then(|body| body.split_once('\n')) else {
            continue;
        };
        let words = words(line);
        let args: Vec<&str> = words.iter().map(String::as_str).collect();
        let output =
            env.command(&args).current_dir(env.path("ferry")).env("COLUMNS", "110").output().expect("the binary runs");
        let complaint = String::from_utf8_lossy(&output.stderr);
        // What --fail-on names, and the brake, end with codes of their own.
        assert!(matches!(output.status.code(), Some(0 | 1 | 3)), "fencepost {line}: {complaint}");
        if info == "console" {
            // Lines of CSV end otherwise (RFC 4180).
            let printed = String::from_utf8_lossy(&output.stdout).replace("\r\n", "\n");
            assert_eq!(printed, shown, "{document}: fencepost {line}");
            checked += 1;
        }
    }
    checked
}

#[test]
fn every_output_in_the_readme_is_true() {
    assert!(check("README.md") >= 1);
}

#[test]
fn every_output_in_the_tour_is_true() {
    assert!(check("docs/tour.md") >= 5);
}

#[test]
fn every_output_in_the_manual_of_access_is_true() {
    assert!(check("docs/access.md") >= 5);
}

#[test]
fn every_output_in_the_manual_of_consequences_is_true() {
    assert!(check("docs/consequences.md") >= 4);
}

#[test]
fn every_output_in_the_manual_of_drift_is_true() {
    assert!(check("docs/drift.md") >= 8);
}

#[test]
fn every_output_in_the_manual_of_feeds_is_true() {
    assert!(check("docs/feeds.md") >= 8);
}

#[test]
fn every_output_in_the_recipes_for_exports_is_true() {
    assert!(check("docs/exports.md") >= 7);
}

#[test]
fn every_output_in_the_manual_of_rules_is_true() {
    assert!(check("docs/rules.md") >= 8);
}
