//! Assessments: findings over days, numbers and moments, the ledger as it was, and the run without a ledger.

use std::process::Stdio;

use serde_json::{Value as Json, json};

use crate::env::Env;

fn device(id: &str, at: &str, ok: bool) -> Json {
    json!({"device": id, "collected_at": at, "ok": ok, "person": "p1"})
}

fn day(day: u32) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

#[test]
fn findings_open_fall_due_close_and_relapse() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    let first = env.morning(&day(1), &[device("a", &day(1), false), device("b", &day(1), true)]);
    assert_eq!(first["devices"]["on_notice"], 1);
    assert_eq!(first["opened"][0]["device"], "a");
    assert_eq!(first["opened"][0]["due"], "2027-03-04T06:00:00Z");
    assert_eq!(first["rules"][0]["fail"], 1);
    // Overdue follows from the clock: a reading command sees it without an assessment.
    let read = |at: &str| env.json(&["list", "findings", "--as-of", at])["rows"][0]["phase"].clone();
    assert_eq!((read("2027-03-04T05:59:59Z"), read("2027-03-04T06:00:00Z")), (json!("open"), json!("overdue")));
    let fixed = env.morning(&day(2), &[device("a", "2027-03-02T05:00:00Z", true)]);
    assert_eq!((&fixed["closed"][0]["how"], &fixed["devices"]["compliant"]), (&json!("fixed"), &json!(2)));
    let back = env.morning(&day(5), &[device("a", "2027-03-05T05:00:00Z", false)]);
    assert_eq!(
        (&back["opened"][0]["how"], &back["opened"][0]["due"]),
        (&json!("relapsed"), &json!("2027-03-04T06:00:00Z"))
    );
    assert_eq!(back["devices"]["non_compliant"], 1);
}

#[test]
fn the_same_moment_with_nothing_new_is_the_same_assessment() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    let first = env.morning(&day(1), &[device("a", &day(1), false)]);
    assert_eq!(env.json(&["assess", "--as-of", &day(1)]), first);
    // Without --as-of, "now" is the moment of the last run.
    assert_eq!(env.json(&["assess"]), first);
    let changed = env.morning(&day(1), &[device("b", &day(1), true)]);
    assert_eq!(changed["assessment"], 2);
    env.rules(&[("fine", "4d", "ok")]);
    assert_eq!(env.json(&["assess"])["assessment"], 3);
    env.fails(&["assess", "--as-of", "2027-02-28T06:00:00Z"], 2, &["never go back in time", "assessment 3"]);
}

#[test]
fn as_of_is_for_stepped_clocks_only() {
    let env = Env::new();
    env.write("fencepost.toml", "name = \"Wall\"\n");
    env.rules(&[("fine", "3d", "ok")]);
    env.write("state.jsonl", "{\"device\":\"a\",\"collected_at\":\"2020-01-01T00:00:00Z\",\"ok\":true}\n");
    env.fails(&["import", "state.jsonl", "--as-of", &day(1)], 2, &["--as-of cannot be given", "clock = \"stepped\""]);
    env.ok(&["import", "state.jsonl"]);
    env.ok(&["assess"]);
    // A ledger keeps the clock it was made with.
    env.write("fencepost.toml", "clock = \"stepped\"\n");
    env.fails(&["assess", "--as-of", &day(1)], 2, &["--as-of cannot be given"]);
}

#[test]
fn the_past_reads_as_it_was() {
    let env = Env::new();
    env.rules(&[("fine", "0", "ok")]);
    env.morning(&day(1), &[device("a", &day(1), true)]);
    env.morning(&day(2), &[device("a", &day(2), false)]);
    env.rules(&[("fine", "0", "not(ok)")]);
    env.morning(&day(3), &[device("a", "2027-03-03T05:00:00Z", false)]);
    let standing = |at: &str| env.json(&["show", "a", "--as-of", at])["standing"].clone();
    assert_eq!(
        [standing(&day(1)), standing(&day(2)), standing(&day(3))],
        [json!("compliant"), json!("non-compliant"), json!("compliant")]
    );
    // By the rules as they were, on the state as it was known.
    let why = env.json(&["why", "a", "--as-of", &day(2)]);
    assert_eq!(why["verdicts"][0]["evidence"]["observed"], "false");
    assert_eq!(why["verdicts"][0]["evidence"]["required"], "true");
    env.fails(&["why", "a", "--as-of", "2027-02-01"], 2, &["nothing was assessed at or before"]);
}

#[test]
fn silence_has_a_clock_and_stale_facts_prove_nothing() {
    let env = Env::new();
    let source = "[silence]\ngrace = \"2d\"\n[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"1d\"\n";
    env.write("fencepost.toml", format!("{}{source}", crate::env::STEPPED));
    env.rules(&[("fine", "0", "ok")]);
    let first = env.morning(&day(1), &[device("a", &day(1), true)]);
    assert_eq!(first["devices"]["compliant"], 1);
    let second = env.json(&["assess", "--as-of", "2027-03-02T06:00:01Z"]);
    assert_eq!((&second["devices"]["on_notice"], &second["opened"][0]["rule"]), (&json!(1), &json!("silence")));
    let third = env.json(&["assess", "--as-of", "2027-03-04T06:00:01Z"]);
    assert_eq!((&third["devices"]["unproven"], &third["devices"]["stale"]), (&json!(1), &json!(1)));
    let fourth = env.morning("2027-03-05T06:00:00Z", &[device("a", "2027-03-05T05:00:00Z", true)]);
    assert_eq!((&fourth["closed"][0]["how"], &fourth["devices"]["compliant"]), (&json!("answered"), &json!(1)));
}

#[test]
fn a_run_that_is_killed_leaves_the_ledger_as_it_was() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    let fleet: Vec<Json> = (0..400).map(|at| device(&format!("d{at:03}"), &day(1), at % 7 > 0)).collect();
    env.morning(&day(1), &fleet);
    let changed: String =
        (0..400).map(|at| format!("{}\n", device(&format!("d{at:03}"), &day(2), at % 5 > 0))).collect();
    env.write("second.jsonl", changed);
    let before = env.ok(&["list", "findings", "--format", "csv"]);
    for wait in [1_u64, 4, 9, 16, 25] {
        let mut child = env
            .command(&["import", "second.jsonl", "--as-of", &day(2)])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        let _ = child.kill();
        child.wait().unwrap();
        assert_eq!(env.ok(&["list", "findings", "--format", "csv", "--as-of", &day(1)]), before);
    }
    env.ok(&["import", "second.jsonl", "--as-of", &day(2)]);
    for wait in [1_u64, 5, 12, 30] {
        let mut child =
            env.command(&["assess", "--as-of", &day(2)]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        let _ = child.kill();
        child.wait().unwrap();
        assert_eq!(env.ok(&["list", "findings", "--format", "csv", "--as-of", &day(1)]), before);
    }
    // What comes out in the end is what a run that nobody killed would have given.
    let ended = env.json(&["assess", "--as-of", &day(2)]);
    let plain = Env::new();
    plain.rules(&[("fine", "3d", "ok")]);
    plain.morning(&day(1), &fleet);
    plain.write("second.jsonl", std::fs::read(env.path("second.jsonl")).unwrap());
    plain.ok(&["import", "second.jsonl", "--as-of", &day(2)]);
    assert_eq!(ended, plain.json(&["assess", "--as-of", &day(2)]));
}

#[test]
fn the_rules_of_an_assessment_are_rows_too() {
    let env = Env::new();
    env.rules(&[("fine", "1d", "ok")]);
    let whole = env.morning(&day(1), &[device("a", &day(1), false), device("b", &day(1), true)]);
    let mut rule = whole["rules"][0].clone();
    rule["schema"] = whole["schema"].clone();
    let line: Json = serde_json::from_str(&env.ok(&["assess", "--format", "jsonl"])).unwrap();
    assert_eq!(line, rule);
    let csv = env.ok(&["assess", "--format", "csv"]);
    assert_eq!(csv.lines().nth(1), Some("fine,enforced,1,1,0,0,0,0,0"), "{csv}");
}

#[test]
fn scripts_are_told_by_the_exit_code() {
    let env = Env::new();
    env.rules(&[("fine", "1d", "ok")]);
    env.morning(&day(1), &[device("a", &day(1), false)]);
    let code = |args: &[&str]| env.run(args).code;
    assert_eq!(code(&["assess"]), 0);
    assert_eq!(code(&["assess", "--fail-on", "overdue"]), 0);
    assert_eq!(code(&["assess", "--fail-on", "any"]), 1);
    assert_eq!(code(&["assess", "--fail-on", "overdue", "--as-of", &day(2)]), 1);
    assert_eq!(code(&["assess", "--fail-on", "sometimes"]), 2);
    // A file has no assessment before it: asking for what was lost since must not look like "nothing".
    env.fails(&["assess", "--state", "-", "--fail-on", "lost-access"], 2, &["--state reads no ledger", "overdue"]);
}

#[test]
fn however_many_cores_work_on_a_file_the_result_is_the_same() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok"), ("soon", "0", "n <= 5"), ("none", "1d", "count(list[k = \"x\"]) = 0")]);
    let fleet: String = (0..3_000)
        .map(|at| match at % 1_000 {
            17 => "broken\n".to_owned(),
            18 => "\n".to_owned(),
            _ => {
                let n = if at % 50 == 0 { "\"much\"".to_owned() } else { (at % 9).to_string() };
                let list: Vec<String> = (0..at % 40).map(|k| format!("{{\"k\":\"{}\",\"v\":[{k}]}}", if k == 31 { "x" } else { "y" })).collect();
                format!("{{\"device\":\"d\\u0061\\\"{at}\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"ok\":{},\"n\":{n},\"list\":[{}]}}\n", at % 7 != 0, list.join(","))
            }
        })
        .collect();
    env.write("fleet.jsonl", &fleet);
    let run = |workers: &str, format: &str| {
        env.run(&[
            "assess",
            "--state",
            "fleet.jsonl",
            "--as-of",
            &day(1),
            "--all",
            "--workers",
            workers,
            "--format",
            format,
        ])
    };
    let (one, three) = (run("1", "jsonl"), run("3", "jsonl"));
    assert_eq!(one.out.lines().count(), 2_994);
    assert!(one.out == three.out && one.err == three.err);
    for line in [18, 1_018, 2_018] {
        assert!(three.err.contains(&format!("line {line}: byte 0")), "{}", three.err);
    }
    assert_eq!(run("1", "table").out, run("3", "table").out);
    // Lines are put together from pieces, and are what JSON would be.
    let whole: Json = serde_json::from_str(&run("2", "json").out).unwrap();
    let lines: Vec<&str> = one.out.lines().collect();
    for (device, line) in whole["devices"].as_array().unwrap().iter().zip(&lines) {
        assert_eq!(device.to_string(), **line);
    }
    let piped =
        env.pipe(&["assess", "--state", "-", "--as-of", &day(1), "--all", "--format", "jsonl"], fleet.as_bytes());
    assert_eq!(piped.out, one.out);
}

#[test]
fn a_file_is_assessed_without_a_ledger_in_its_order() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok"), ("soon", "0", "n <= 5")]);
    let lines = [
        r#"{"device":"b","collected_at":"2027-03-01T05:00:00Z","ok":true,"n":1}"#,
        "not json",
        r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","ok":false,"n":"x"}"#,
        r#"{"collected_at":"2027-03-01T05:00:00Z"}"#,
        r#"{"device":"c","collected_at":"2027-03-01T05:00:00Z","ok":true,"n":9}"#,
    ];
    env.write("state.jsonl", lines.join("\n"));
    let args = ["assess", "--state", "state.jsonl", "--as-of", &day(1), "--format", "jsonl"];
    let ran = env.run(&args);
    assert_eq!(ran.code, 0);
    let rows: Vec<Json> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(
        rows[1],
        json!({
            "schema": 1, "device": "a", "as_of": "2027-03-01T06:00:00Z", "collected_at": "2027-03-01T05:00:00Z", "standing": "unproven",
            "counts": {"pass": 0, "fail": 1, "unknown": 1, "not_applicable": 0, "trial": 0},
            "verdicts": [
                {"rule": "fine", "outcome": "fail", "severity": "medium", "stage": "enforced"},
                {"rule": "soon", "outcome": "unknown", "reason": "wrong-type", "facts": ["n"], "severity": "medium", "stage": "enforced"},
            ],
        })
    );
    let standings: Vec<&Json> = rows.iter().map(|row| &row["standing"]).collect();
    assert_eq!(standings, ["compliant", "unproven", "non-compliant"]);
    assert!(
        ran.err.contains("line 2: byte 0")
            && ran.err.contains("line 4: no `device`")
            && ran.err.contains("2 lines were refused"),
        "{}",
        ran.err
    );
    assert!(!env.path(".fencepost").exists());
    assert_eq!(env.run(&[&args[..], &["--strict"]].concat()).code, 2);
    // A pipe gives the same, byte for byte.
    let piped =
        env.pipe(&["assess", "--state", "-", "--as-of", &day(1), "--format", "jsonl"], lines.join("\n").as_bytes());
    assert_eq!(piped.out, ran.out);
    let all = env.run(&[&args[..], &["--all", "--evidence"]].concat());
    let first: Json = serde_json::from_str(all.out.lines().next().unwrap()).unwrap();
    assert_eq!(first["verdicts"][0]["evidence"]["observed"], "true");
}

#[test]
fn facts_that_nobody_reports_are_pointed_out_after_an_assessment() {
    let env = Env::new();
    env.rules(&[("fine", "0", "okk")]);
    env.write("s.jsonl", format!("{}\n", device("a", &day(1), true)));
    env.ok(&["import", "s.jsonl", "--as-of", &day(1)]);
    let ran = env.run(&["assess", "--as-of", &day(1)]);
    assert!(
        ran.err.contains("unknown fact `okk`")
            && ran.err.contains("did you mean `ok`?")
            && ran.err.contains("rules/test.toml:5"),
        "{}",
        ran.err
    );
}
