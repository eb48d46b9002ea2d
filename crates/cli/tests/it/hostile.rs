//! Device-supplied text is hostile: whatever a feed holds, nothing of it steers a terminal, a spreadsheet or this program.

use std::fmt::Write as _;

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-01T06:00:00Z";

/// Texts that somebody may put into a device's name, a program's name, or anything else.
const NASTY: [&str; 14] = [
    "\\u001b[2J\\u001b]0;owned\\u0007",
    "\\u202eevil\\u202c",
    "=cmd|' /C calc'!A0",
    "+1+1",
    "-2+3",
    "@SUM(A1)",
    "<script>alert(1)</script>",
    "a\\nb\\r\\nc\\td",
    "\\u0000nul",
    "\\u200bzero\\ufeff",
    "\\\"quoted\\\"; 'single'",
    "`rm -rf`$(x)",
    "secret:00000000000000000000000000000000",
    "\\u009b31m\\u2028",
];

fn harmless(what: &str, text: &str) {
    let odd = |c: char| {
        (c.is_control() && c != '\n' && c != '\r')
            || matches!(c, '\u{7f}'..='\u{9f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200b}'..='\u{200f}' | '\u{2028}' | '\u{2029}' | '\u{feff}')
    };
    if let Some(found) = text.chars().find(|c| odd(*c)) {
        panic!("{found:?} in the output of {what}:\n{text:?}");
    }
}

fn fleet() -> Env {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}fence_by = \"site\"\n"));
    env.write("facts.toml", "[facts]\n\"software\" = { type = \"list\", key = \"name\" }\n");
    env.rules(&[("fine", "2d", "every s in software satisfies s.name = \"x\""), ("text", "2d", "note = \"y\"")]);
    for day in 1..=2 {
        let mut text = String::new();
        for (at, nasty) in NASTY.iter().enumerate() {
            writeln!(
                text,
                "{{\"device\":\"{at}-{nasty}\",\"collected_at\":\"2027-03-0{day}T05:00:00Z\",\"note\":\"{nasty}{day}\",\"{nasty}\":\"{nasty}\",\"person\":\"{nasty}\",\"site\":\"{nasty}\",\"software\":[{{\"name\":\"{nasty}{day}\"}}]}}"
            )
            .unwrap();
        }
        env.write(&format!("{day}.jsonl"), text);
    }
    env
}

#[test]
fn nothing_that_steers_a_terminal_or_a_spreadsheet_gets_out() {
    let env = fleet();
    for day in 1..=2 {
        let (name, at) = (format!("{day}.jsonl"), format!("2027-03-0{day}T06:00:00Z"));
        for args in [
            &["import", "--dry-run", &name, "--as-of", &at][..],
            &["import", &name, "--as-of", &at],
            &["assess", "--as-of", &at],
        ] {
            let ran = env.run(args);
            assert_eq!(ran.code, 0, "{args:?} {}", ran.err);
            harmless(&args.join(" "), &ran.out);
            harmless(&args.join(" "), &ran.err);
        }
    }
    let devices: Vec<String> = env.json(&["list", "devices"])["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["device"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(devices.len(), NASTY.len());
    let mut commands: Vec<Vec<&str>> = vec![
        vec!["list", "devices"],
        vec!["list", "devices", "--by", "site"],
        vec!["list", "devices", "--by", "software"],
        vec!["list", "facts"],
        vec!["list", "findings"],
        vec!["list", "people"],
        vec!["list", "sources"],
        vec!["assess"],
        vec!["access"],
        vec!["facts", "draft"],
        vec!["source", "draft", "1.jsonl"],
        vec!["assess", "--state", "1.jsonl"],
    ];
    for device in &devices {
        for command in ["show", "why", "history"] {
            commands.push(vec![command, "--", device]);
        }
    }
    for args in &commands {
        // A NUL cannot even be named on a command line.
        if args.iter().any(|arg| arg.contains('\0')) {
            continue;
        }
        let ran = env.run(args);
        assert!(matches!(ran.code, 0 | 1), "{args:?} {} {}", ran.code, ran.err);
        harmless(&args.join(" "), &ran.out);
        harmless(&args.join(" "), &ran.err);
    }
    for kind in ["devices", "facts", "findings", "people"] {
        let csv = env.ok(&["list", kind, "--format", "csv"]);
        // No cell begins a formula.
        let mut reader = csv.split("\r\n").flat_map(|row| row.split(',')).filter(|cell| !cell.is_empty());
        assert!(reader.all(|cell| !cell.trim_matches('"').starts_with(['=', '+', '@', '\t', '\0'])), "{csv}");
        for line in env.ok(&["list", kind, "--format", "jsonl"]).lines() {
            serde_json::from_str::<serde_json::Value>(line).expect("JSON, whatever stands in it");
        }
    }
}

#[test]
fn every_command_and_format_is_harmless_whatever_devices_files_and_conditions_are_called() {
    let env = fleet();
    let odd = "\u{1b}[31m\u{202e}x\u{9b}2J\u{200b}";
    env.write(
        &format!("rules/{odd}.toml"),
        format!(
            "# note\n[[rule]]\nid = \"odd\"\ntitle = \"{}\"\ngroups = [\"every-device\"]\nrequire = 'note = \"{}\"'\n",
            "\\u001b[31m\\u202e",
            odd.replace('\u{1b}', "")
        ),
    );
    env.write(&format!("{odd}.jsonl"), "{\"device\":\"z\",\"collected_at\":\"2027-03-01T05:00:00Z\"}\nnonsense\n");
    for (name, at) in [("1.jsonl", "2027-03-01T06:00:00Z"), ("2.jsonl", "2027-03-02T06:00:00Z")] {
        env.ok(&["import", name, "--as-of", at]);
        env.ok(&["assess", "--as-of", at]);
    }
    let file = format!("{odd}.jsonl");
    let mut commands: Vec<Vec<&str>> = vec![
        vec!["import", "--dry-run", &file],
        vec!["import", &file],
        vec!["assess"],
        vec!["assess", "--state", &file],
        vec!["assess", "--state", "1.jsonl", "--all", "--evidence"],
        vec!["vet"],
        vec!["access"],
        vec!["preview"],
        vec!["history", "--verify"],
        vec!["history", "z"],
        vec!["show", odd],
        vec!["why", odd],
        vec!["show", "z"],
        vec!["why", "z"],
        vec!["list", "nothing", odd],
        vec!["source", "draft", &file],
        vec!["import", odd],
        vec!["try", odd],
        vec!["list", "devices", "--where", "note = \"\u{202e}\u{9b}\""],
        vec!["list", "devices", "--where", "nope = \"\u{202e}\u{9b}\" and ("],
    ];
    for kind in [
        "devices",
        "facts",
        "rules",
        "findings",
        "people",
        "groups",
        "services",
        "access",
        "sources",
        "rejects",
        "coverage",
        "assessments",
        "corrections",
    ] {
        commands.push(vec!["list", kind]);
    }
    for args in &commands {
        for format in ["table", "json", "jsonl", "csv"] {
            let mut all = args.clone();
            all.extend(["--format", format]);
            let ran = env.run(&all);
            harmless(&all.join(" "), &ran.out);
            harmless(&all.join(" "), &ran.err);
            if ran.code == 0 && format == "jsonl" {
                assert!(
                    ran.out.lines().all(|line| serde_json::from_str::<serde_json::Value>(line).is_ok()),
                    "{all:?} {}",
                    ran.out
                );
            }
        }
    }
    // The names are those that were given, for whoever reads the JSON.
    let names = env.json(&["list", "devices"])["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["device"].to_string())
        .collect::<String>();
    assert!(names.contains("\u{202e}evil"), "{names}");
    // A mistake in such a file is shown with its place.
    env.write(
        &format!("rules/{odd}.toml"),
        format!("# \u{202e}\n[[rule]]\nid = \"odd\"\nrequire = 'note == \"{}\"'\n", "\u{9b}\u{200b}"),
    );
    let ran = env.run(&["list", "devices"]);
    harmless("a mistake", &ran.err);
    assert!(
        ran.code == 2 && ran.err.contains("equality is written `=`") && ran.err.contains("\\u{1b}[31m"),
        "{}",
        ran.err
    );
}

#[test]
fn records_that_break_a_limit_are_set_aside_one_by_one() {
    let env = Env::new();
    let good = |device: &str, more: &str| {
        format!("{{\"device\":\"{device}\",\"collected_at\":\"2027-03-01T05:00:00Z\"{more}}}")
    };
    let fields = |count: usize| (0..count).map(|at| format!(",\"f{at}\":1")).collect::<String>();
    let lines = [
        good("fine", &format!(",\"big\":\"{}\"", "m".repeat(3_000_000))),
        good("deep", &format!(",\"a\":{}{}", "[".repeat(127), "]".repeat(127))),
        good("wide", &fields(100_000)),
        good("long", &format!(",\"a\":\"{}\"", "l".repeat(16 * 1024 * 1024))),
        good("twice", ",\"x\":1,\"x\":2"),
        good(&"i".repeat(501), ""),
        "\u{feff}{}".to_owned(),
        "[1,2]".to_owned(),
        "\0\0\0".to_owned(),
        good("last", ""),
    ];
    let mut text = lines.join("\n").into_bytes();
    text.extend_from_slice(b"\n{\"device\":\"b\xff\xfe\"}\n");
    env.write("x.jsonl", text);
    let out = env.ok(&["import", "x.jsonl", "--as-of", AT]);
    assert!(out.contains("11 records, 3 new devices"), "{out}");
    let rejects = env.ok(&["list", "rejects", "--format", "csv"]);
    for (line, reason) in [
        (2, "nested deeper than 127"),
        (3, "more than 100000 fields"),
        (4, "longer than 16 MiB"),
        (6, "longer than 500 bytes"),
        (7, "a document is a JSON object"),
        (8, "a document is a JSON object"),
        (9, "a document is a JSON object"),
        (11, "not UTF-8"),
    ] {
        let row = rejects
            .lines()
            .find(|row| row.contains(&format!(",{line},")))
            .unwrap_or_else(|| panic!("{line} in {rejects}"));
        assert!(row.contains(reason), "{row}");
    }
    // What is of no use in a fact is no reason to lose the device.
    let shown = env.json(&["show", "twice"]);
    assert_eq!(shown["facts"][0]["wrong_type"], true);
    let text = env.ok(&["show", "fine"]);
    assert!(text.len() < 3_200_000);
}

#[test]
fn the_stateless_run_refuses_the_same_lines_as_import() {
    let env = fleet();
    let lines = [
        "{",
        "{\"device\":\"a\"}",
        "nonsense",
        "{\"device\":\"b\",\"collected_at\":\"2027-03-01T05:00:00Z\"}",
        "{\"device\":\"c\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"x\":1e400}",
        "\u{1}",
    ];
    env.write("x.jsonl", lines.join("\n"));
    let imported = env.ok(&["import", "x.jsonl", "--as-of", AT]);
    assert!(imported.contains("6 records, 2 new devices"), "{imported}");
    let stateless = env.run(&["assess", "--state", "x.jsonl", "--format", "jsonl", "--as-of", AT]);
    assert_eq!(stateless.out.lines().count(), 2, "{}", stateless.err);
}

#[test]
fn a_folder_of_many_small_files_goes_in_whole() {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}[[source]]\nid = \"dumps\"\nfiles = [\"dumps/**/*.ini\"]\nformat = \"ini\"\ndevice_from = \"file-name\"\n"));
    for n in 0..300 {
        env.write(&format!("dumps/{}/d{n}.ini", n % 7), format!("[a]\nb={}\n", n % 3));
    }
    std::os::unix::fs::symlink(env.path("dumps/1"), env.path("dumps/loop")).unwrap();
    let out = env.ok(&["import", "dumps", "--as-of", "2099-01-01T00:00:00Z"]);
    assert_eq!(out, "300 files as dumps: 300 records, 300 new devices, 0 changed, 0 unchanged\n");
    assert_eq!(env.json(&["list", "devices"])["rows"].as_array().unwrap().len(), 300);
    // One that is broken keeps none of the others back, and is said.
    env.write("dumps/bad.ini", [0x1f, 0x8b, 0, 0]);
    env.write("dumps/odd.ini", "nonsense");
    env.write("dumps/new.ini", "a=1");
    let again = env.run(&["import", "dumps", "--as-of", "2099-01-01T00:00:00Z"]);
    assert_eq!(again.code, 2, "{}", again.out);
    assert!(
        again.err.contains("bad.ini") && again.err.contains("1 file was not imported; the others were"),
        "{}",
        again.err
    );
    assert!(
        again.out.contains("302 files as dumps (300 of them imported before): 2 records, 1 new device"),
        "{}",
        again.out
    );
    assert!(again.out.contains("dumps/odd.ini  as dumps") && again.out.contains("no `=` in it"), "{}", again.out);
}
