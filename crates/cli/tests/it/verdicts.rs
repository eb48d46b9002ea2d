//! Verdicts worked out elsewhere, with `assess --state --all`, and taken over by a ledger.

use std::fs;
use std::path::Path;

use serde_json::{Value as Json, json};

use crate::env::Env;

const AT: &str = "2027-03-10T06:00:00Z";

/// A workspace with a ledger of five devices, nothing assessed.
fn fleet() -> Env {
    let env = Env::new();
    env.write(
        "rules/test.toml",
        r#"
[[rule]]
id = "fresh-enough"
groups = ["every-device"]
grace = "1d"
require = 'age(seen) <= duration("P2D")'

[[rule]]
id = "apps"
groups = ["every-device"]
except = ["d3"]
require = 'every a in apps satisfies a.ok'

[[rule]]
id = "ok"
groups = ["every-device"]
stage = "trial"
require = 'ok'
"#,
    );
    env.write("facts.toml", "[facts]\n\"seen\" = { type = \"instant\" }\n");
    let documents = (0..5).map(|at| {
        let mut document = json!({
            "device": format!("d{at}"), "collected_at": "2027-03-10T05:00:00Z", "person": "p1", "ok": at % 2 == 0,
            "seen": format!("2027-03-0{}T06:00:01Z", 5 + at), "apps": [{ "ok": at > 1 }],
        });
        match at {
            2 => document["apps"] = json!([]),
            4 => document["apps"] = json!("none"),
            _ => {}
        }
        format!("{document}\n")
    });
    env.write("state.jsonl", documents.collect::<String>());
    env.ok(&["import", "state.jsonl", "--as-of", AT]);
    env
}

fn copied(env: &Env) -> Env {
    fn copy(from: &Path, to: &Path) {
        fs::create_dir_all(to).expect("a folder");
        for entry in fs::read_dir(from).expect("a folder") {
            let entry = entry.expect("an entry");
            let (path, to) = (entry.path(), to.join(entry.file_name()));
            if path.is_dir() { copy(&path, &to) } else { fs::copy(&path, &to).map(|_| ()).expect("a file") }
        }
    }
    let other = Env::new();
    copy(env.root(), other.root());
    other
}

fn verdicts(env: &Env, at: &str) -> String {
    env.ok(&["assess", "--state", "state.jsonl", "--all", "--format", "jsonl", "--as-of", at])
}

/// All that an assessment leaves behind.
fn told(env: &Env) -> Vec<Json> {
    let lists = ["findings", "rules", "devices", "assessments"];
    lists.iter().map(|list| env.json(&["list", list])["rows"].clone()).chain([env.json(&["access"])]).collect()
}

fn takes(env: &Env, at: &str, taken: u64, of: u64) {
    let assessed = env.json(&["assess", "--verdicts", "v.jsonl", "--as-of", at]);
    assert_eq!(assessed["verdicts_taken_over"], json!({ "devices": taken, "of": of }), "at {at}");
}

fn assess(env: &Env, at: &str) {
    env.ok(&["assess", "--as-of", at]);
}

#[test]
fn verdicts_from_elsewhere_come_to_the_same() {
    let here = fleet();
    let other = copied(&here);
    other.write("v.jsonl", verdicts(&here, AT));
    assess(&here, AT);
    takes(&other, AT, 5, 5);
    assert_eq!(told(&here), told(&other));
    // Until when they hold came with them: later only those are looked at for which the moment has come.
    for later in ["2027-03-11T06:00:00Z", "2027-03-11T06:00:01.5Z", "2027-03-20T06:00:00Z"] {
        assess(&here, later);
        assess(&other, later);
        assert_eq!(told(&here), told(&other), "at {later}");
    }
}

#[test]
fn verdicts_are_taken_as_long_as_they_hold() {
    let env = fleet();
    env.write("v.jsonl", verdicts(&env, AT));
    let other = copied(&env);
    // d3 was seen at six on the eighth: from the tenth on, one second after six, that is too long ago.
    takes(&env, "2027-03-10T06:00:01Z", 5, 5);
    takes(&other, "2027-03-10T06:00:01.000001Z", 4, 5);
    let plain = fleet();
    assess(&plain, "2027-03-10T06:00:01.000001Z");
    let rows = |env: &Env| env.json(&["list", "findings"])["rows"].clone();
    assert_eq!(rows(&other), rows(&plain));
}

#[test]
fn what_was_touched_or_made_of_something_else_is_evaluated_here() {
    let env = fleet();
    let lines = verdicts(&env, AT);
    let touched = |from: &str, to: &str, taken: u64| {
        let other = copied(&env);
        assert!(lines.contains(from), "{lines}");
        other.write("v.jsonl", lines.replace(from, to));
        takes(&other, AT, taken, 5);
        let plain = copied(&env);
        assess(&plain, AT);
        assert_eq!(told(&other), told(&plain), "{from} as {to}");
    };
    touched("\"outcome\":\"fail\"", "\"outcome\":\"pass\"", 1);
    touched(",\"nothing_to_check\":true", "", 4);
    touched("\"until\":\"2027-03-10T06:00:01", "\"until\":\"2027-03-11T06:00:01", 4);
    touched("\"device\":\"d4\"", "\"device\":\"d2\"", 3);
    // Newer state, another key, other rules.
    let newer = copied(&env);
    newer.write("v.jsonl", &lines);
    newer.write("state-2.jsonl", "{\"device\":\"d1\",\"collected_at\":\"2027-03-10T05:30:00Z\",\"ok\":true}\n");
    newer.ok(&["import", "state-2.jsonl", "--as-of", AT]);
    takes(&newer, AT, 4, 5);
    let stranger = fleet();
    stranger.write("v.jsonl", &lines);
    takes(&stranger, AT, 0, 5);
    let ruled = copied(&env);
    ruled.write("v.jsonl", lines);
    let rules = fs::read_to_string(ruled.path("rules/test.toml")).expect("rules").replace("P2D", "P9D");
    ruled.write("rules/test.toml", rules);
    takes(&ruled, AT, 0, 5);
}

#[test]
fn a_file_of_verdicts_is_read_line_by_line() {
    let env = fleet();
    let lines = verdicts(&env, AT);
    let bare = env.ok(&["assess", "--state", "state.jsonl", "--format", "jsonl", "--as-of", AT]);
    let first = lines.lines().next().expect("a line");
    let bad = [
        "no JSON".to_owned(),
        "[]".to_owned(),
        bare.lines().next().expect("a line").to_owned(),
        first.replace("fresh-enough", "fresh"),
        first.replace("\"fail\"", "\"failed\""),
        first.replace(AT, "yesterday"),
        first.replace("\"device\":\"d0\",", ""),
    ];
    env.write("v.jsonl", format!("\n{}\n{}", bad.join("\n"), lines.lines().skip(1).collect::<Vec<_>>().join("\n")));
    let args = ["assess", "--verdicts", "v.jsonl", "--as-of", AT];
    let says = [
        "line 2: this is no JSON, from byte 2 of the line on",
        "line 3: it has no `seal`",
        "line 4: it has no `seal`",
        "--all",
    ];
    env.fails(&[&args[..], &["--strict"]].concat(), 2, &says);
    assert!(env.json(&["list", "assessments"])["rows"].as_array().is_some_and(Vec::is_empty));
    let ran = env.run(&args);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for text in [
        "line 5: its rules are not those of this workspace",
        "line 6: it has a verdict that there is not",
        "line 7: `as_of` is no moment",
        "line 8: `device` is missing",
        "4 of 5 devices were taken over; 1 was evaluated here",
    ] {
        assert!(ran.err.contains(text), "`{text}` is not in\n{}", ran.err);
    }
    env.fails(&["assess", "--verdicts", "nowhere.jsonl"], 2, &["could not read nowhere.jsonl"]);
    env.fails(&["assess", "--verdicts", "v.jsonl", "--anew"], 2, &["cannot be used with"]);
    env.fails(&["assess", "--strict"], 2, &["--state"]);
}
