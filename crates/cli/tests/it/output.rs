//! Output: formats, colour, and device text that would like to be more than text.

use serde_json::{Value as Json, json};

use crate::env::Env;

const AT: &str = "2027-03-01T06:00:00Z";
const HOSTILE: &str = "=cmd|' /C calc'!A0\u{1b}[31m\u{202e}\u{7}\n<b>x</b>";

fn env() -> Env {
    let env = Env::new();
    env.rules(&[("fine", "0", "note = \"x\" and every d in disks satisfies d.ok")]);
    env.morning(
        AT,
        &[json!({
            "device": HOSTILE, "collected_at": "2027-03-01T05:00:00Z", "note": HOSTILE, "person": HOSTILE,
            "disks": [{"name": HOSTILE, "ok": false}], HOSTILE: HOSTILE,
        })],
    );
    env
}

#[test]
fn device_text_is_harmless_in_a_terminal_and_in_csv() {
    let env = env();
    for args in [
        vec!["why", HOSTILE],
        vec!["show", HOSTILE],
        vec!["list", "devices"],
        vec!["list", "findings"],
        vec!["list", "facts"],
        vec!["list", "items", "disks"],
        vec!["list", "verdicts"],
        vec!["list", "devices", "--by", "note"],
        vec!["show", "every-device"],
        vec!["show", "fine"],
        vec!["history", "--since", "2027-03-01T06:00:00Z"],
        vec!["assess"],
        vec!["access"],
        vec!["why", "nobody\u{1b}[2J"],
        vec!["list", "devices", "--where", "note = \"\u{1b}[2J\" and zz"],
    ] {
        let ran = env.run(&args);
        for text in [&ran.out, &ran.err] {
            let steers = text.chars().find(|c| (c.is_control() && *c != '\n') || matches!(*c, '\u{202e}' | '\u{9b}'));
            assert_eq!(steers, None, "{args:?}: {text:?}");
        }
    }
    let csv = env.ok(&["list", "devices", "--format", "csv"]);
    assert!(csv.lines().nth(1).unwrap().starts_with("\"'=cmd"), "{csv:?}");
    let rows = env.json(&["list", "devices"]);
    assert_eq!(rows["rows"][0]["device"], HOSTILE);
}

#[test]
fn colour_is_for_terminals_unless_asked_for() {
    let env = env();
    assert!(!env.ok(&["assess"]).contains('\u{1b}'));
    assert!(env.ok(&["assess", "--color", "always"]).contains("\u{1b}["));
    assert!(!env.ok(&["assess", "--color", "never"]).contains('\u{1b}'));
}

#[test]
fn the_fence_falls_back_to_ascii() {
    let env = env();
    assert!(env.ok(&["assess"]).contains('\u{2573}'));
    let mut command = env.command(&["assess"]);
    let output = command.env("LC_ALL", "C").output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains("x 1 non-compliant") && text.is_ascii(), "{text}");
}

#[test]
fn lists_come_in_every_format_with_the_same_columns() {
    let env = env();
    for kind in ["devices", "facts", "rules", "groups", "findings", "people", "services", "assessments", "rejects"] {
        let document = env.json(&["list", kind]);
        assert_eq!(document["schema"], 1, "{kind}");
        let lines = env.ok(&["list", kind, "--format", "jsonl"]);
        let rows: Vec<Json> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(rows.len(), document["rows"].as_array().unwrap().len(), "{kind}");
        assert!(rows.iter().all(|row| row["schema"] == 1), "{kind}");
        let csv = env.ok(&["list", kind, "--format", "csv"]);
        let heading = csv.lines().next().unwrap_or_default().to_owned();
        if let Some(row) = document["rows"].as_array().unwrap().first() {
            let keys: Vec<&str> = row.as_object().unwrap().keys().map(String::as_str).collect();
            assert_eq!(heading, keys.join(","), "{kind}");
        }
        env.ok(&["list", kind, "--quiet"]);
    }
}

#[test]
fn help_has_examples_everywhere() {
    let env = Env::new();
    assert!(env.ok(&["--help"]).contains("Exit codes:"));
    for command in
        ["init", "demo", "import", "list", "show", "assess", "try", "why", "access", "vet", "schema", "preview"]
    {
        let help = env.ok(&[command, "--help"]);
        assert!(help.contains("Examples:") && help.contains(&format!("fencepost {command}")), "{help}");
    }
}

#[test]
fn a_reader_that_stops_early_is_no_error() {
    let env = env();
    let many: String = (0..3000)
        .map(|at| format!("{}\n", json!({"device": format!("d{at}"), "collected_at": "2027-03-01T05:00:00Z"})))
        .collect();
    env.write("many.jsonl", many);
    let mut child = env
        .command(&["assess", "--state", "many.jsonl", "--format", "jsonl"])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), String::from_utf8_lossy(&output.stderr).as_ref()), (Some(0), ""));
}

#[test]
fn tables_fit_a_narrow_terminal_and_never_cut_an_id() {
    let env = Env::new();
    env.rules(&[("a-rule-with-a-rather-long-name", "3d", "ok"), ("another", "0", "ok")]);
    let documents: Vec<Json> = (0..40)
        .map(|at| json!({"device": format!("device-{at:02}-with-a-long-id"), "collected_at": "2027-03-01T05:00:00Z", "ok": at % 9 > 0}))
        .collect();
    env.morning(AT, &documents);
    for args in [
        vec!["assess"],
        vec!["list", "devices"],
        vec!["list", "findings"],
        vec!["list", "rules"],
        vec!["list", "assessments"],
    ] {
        let width = if args[0] == "assess" { 88 } else { 72 };
        let output = env.command(&args).env("COLUMNS", width.to_string()).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let wide = text.lines().find(|line| line.chars().count() > width);
        assert_eq!(wide, None, "{args:?}:\n{text}");
    }
    let output = env.command(&["list", "findings"]).env("COLUMNS", "72").output().unwrap();
    assert!(
        String::from_utf8_lossy(&output.stdout).contains("device-00-with-a-long-id  a-rule-with-a-rather-long-name")
    );
    assert!(String::from_utf8_lossy(&output.stderr).contains("left out for want of room"));
}
