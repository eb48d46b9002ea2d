//! Trying expressions out, and the manual whose examples are tried.

use serde_json::{Value as Json, json};

use crate::env::Env;

const AT: &str = "2027-03-14T06:00:00Z";

fn env() -> Env {
    let env = Env::new();
    env.write("fencepost.toml", "name = \"Manual\"\n");
    env
}

fn tried(env: &Env, args: &[&str]) -> Json {
    let mut all = vec!["try"];
    all.extend(args);
    all.extend(["--format", "json"]);
    let mut json: Json = serde_json::from_str(&env.ok(&all)).expect("JSON");
    json.as_object_mut().unwrap().remove("evidence");
    json
}

#[test]
fn the_shape_for_scripts_is_as_promised() {
    let env = env();
    env.write("f.json", "\u{feff}{\"a\": 1, \"b\": null, \"c\": \"x\"}");
    let of = |expression: &str| tried(&env, &[expression, "--facts", "f.json", "--as-of", AT]);
    assert_eq!(of("a = 1"), json!({"schema": 1, "value": true, "type": "boolean", "outcome": "pass", "reason": null}));
    assert_eq!(of("a = 2"), json!({"schema": 1, "value": false, "type": "boolean", "outcome": "fail", "reason": null}));
    assert_eq!(
        of("gone"),
        json!({"schema": 1, "value": null, "type": null, "outcome": "unknown", "reason": "missing"})
    );
    assert_eq!(
        of("c < 1"),
        json!({"schema": 1, "value": null, "type": null, "outcome": "unknown", "reason": "wrong-type"})
    );
    assert_eq!(of("b"), json!({"schema": 1, "value": null, "type": "null", "outcome": "unknown", "reason": "null"}));
    assert_eq!(of("a + 0.5"), json!({"schema": 1, "value": 1.5, "type": "number", "outcome": null, "reason": null}));
    assert_eq!(of("now()")["value"], AT);
    assert_eq!(of("@\"PT36H\"")["value"], "P1DT12H");
    assert_eq!(of("[a, c, gone]")["value"], json!([1, "x", null]));
    env.fails(&["try", "a ="], 2, &["expression:1:4", "ends where a value"]);
    env.write("bad.json", "[1]");
    env.fails(&["try", "a", "--facts", "bad.json"], 2, &["facts are one JSON object"]);
}

#[test]
fn lines_get_one_answer_each_and_a_dash_reads_one_expression() {
    let env = env();
    let ran = env.pipe(&["try"], b"1 + 1\n\n1 +\n\"a\" < \"b\"\n");
    assert_eq!((ran.out.as_str(), ran.code), ("2  (number)\nerror\ntrue  (pass)\n", 2));
    let ran = env.pipe(&["try", "-", "--format", "json"], b"1\n+ 1\n");
    assert!(ran.out.contains("\"value\":2"), "{}", ran.out);
    // It needs no workspace.
    let output = std::process::Command::new(env!("CARGO_BIN_EXE_fencepost"))
        .args(["try", "1 + 1"])
        .current_dir("/")
        .env_clear()
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "2  (number)\n");
}

#[test]
fn a_device_of_the_ledger_is_tried_with_its_proof() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    env.morning(AT, &[json!({"device": "a", "collected_at": "2027-03-14T05:00:00Z", "ok": false, "n": 3})]);
    let out = env.ok(&["try", "n > 5 or standing = \"compliant\"", "--device", "a"]);
    for part in [
        "false  (fail)",
        "one of these had to hold",
        "observed  n is 3",
        "required  > 5",
        "from      native",
        "standing is on-notice",
    ] {
        assert!(out.contains(part), "no `{part}` in {out}");
    }
    let out = env.ok(&["try", "failing(\"fine\") and every d in disks satisfies d.ok", "--device", "a", "--explain"]);
    assert!(out.contains("the device fails the rule \"fine\", and every disk is ok"), "{out}");
    let rows = env.json(&["list", "devices", "--where", "failing(\"fine\")"])["rows"].clone();
    assert_eq!(rows[0]["device"], "a");
    env.fails(&["try", "n", "--device", "b"], 2, &["there is no device `b`"]);
}

fn manual() -> String {
    std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/conditions.md")).expect("the manual")
}

/// The cells of a row, back-quotes taken away.
fn cells(row: &str) -> Vec<String> {
    let plain = |cell: &str| {
        let cell = cell.trim();
        let ticks = if cell.starts_with("``") { "``" } else { "`" };
        cell.strip_prefix(ticks).and_then(|cell| cell.strip_suffix(ticks)).unwrap_or(cell).trim_end().to_owned()
    };
    row.trim().trim_matches('|').split(" | ").map(plain).collect()
}

#[test]
fn every_example_of_the_manual_is_true() {
    let env = env();
    let manual = manual();
    let facts =
        manual.split("```json\n").nth(1).and_then(|rest| rest.split("```").next()).expect("the device of the manual");
    env.write("device.json", facts);
    let rows: Vec<Vec<String>> =
        manual.lines().filter(|line| line.starts_with("| `")).map(cells).filter(|cells| cells.len() == 2).collect();
    assert!(rows.len() > 80, "only {} examples were found", rows.len());
    let input: String = rows.iter().map(|row| format!("{}\n", row[0])).collect();
    let ran = env.pipe(&["try", "--facts", "device.json", "--as-of", AT], input.as_bytes());
    let answers: Vec<&str> = ran.out.lines().collect();
    assert_eq!(answers.len(), rows.len(), "{}", ran.err);
    for (row, answer) in rows.iter().zip(answers) {
        let value = answer.rsplit_once("  (").map_or(answer, |(value, _)| value);
        assert_eq!(value, row[1], "{}\n{}", row[0], ran.err);
    }
}

#[test]
fn every_mistake_of_the_manual_is_answered_as_it_says() {
    let env = env();
    let manual = manual();
    let rows: Vec<Vec<String>> =
        manual.lines().filter(|line| line.starts_with("| `")).map(cells).filter(|cells| cells.len() == 3).collect();
    assert!(rows.len() >= 20, "only {} mistakes were found", rows.len());
    for row in rows {
        env.fails(&["try", &row[0]], 2, &[&row[1], &row[2]]);
    }
}

#[test]
fn every_function_is_in_the_manual() {
    let env = env();
    let ran = env.run(&["try", "qqqqqqqqqqqqqqqqqqqq()"]);
    let known = ran
        .err
        .split("known functions are ")
        .nth(1)
        .expect("the list of functions")
        .lines()
        .next()
        .unwrap_or_default()
        .to_owned();
    let manual = manual();
    for name in known.split(", ").filter(|name| !matches!(*name, "in group" | "failing")) {
        assert!(manual.contains(&format!("| `{name}(")), "`{name}` has no example in the manual");
    }
}
