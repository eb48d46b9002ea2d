//! What devices send and files hold stays within limits, each with an error that names it; one device never holds up the fleet.

use std::fs;

use serde_json::json;

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-01T06:00:00Z";

fn verdicts(env: &Env, file: &str) -> Vec<serde_json::Value> {
    let out = env.ok(&["assess", "--state", file, "--all", "--format", "jsonl", "--as-of", AT]);
    out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn an_absurd_duration_of_one_device_neither_stops_the_fleet_nor_passes() {
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"a\" = { type = \"duration\" }\n\"b\" = { type = \"duration\" }\n");
    env.rules(&[("past", "0", "now() - (a - b) < now()"), ("near", "0", "abs(a - b) < duration(\"PT1H\")")]);
    let device = |id: &str, a: &str| json!({"device": id, "collected_at": "2027-03-01T05:00:00Z", "a": a, "b": "PT1S"});
    env.write("s.jsonl", format!("{}\n{}\n", device("odd", "-PT9223372036854775807S"), device("good", "PT2S")));
    let found = verdicts(&env, "s.jsonl");
    for verdict in found[0]["verdicts"].as_array().unwrap() {
        assert_eq!((&verdict["outcome"], &verdict["reason"]), (&json!("unknown"), &json!("error")), "{verdict}");
    }
    assert_eq!(found[1]["counts"]["pass"], 2, "{}", found[1]);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    env.ok(&["assess", "--as-of", AT]);
    assert!(env.ok(&["why", "odd"]).contains("could not be worked out"));
}

#[test]
fn lists_within_lists_of_one_device_end_and_the_rest_of_the_fleet_goes_on() {
    let env = Env::new();
    env.rules(&[
        ("pairs", "0", "every a in software, b in software satisfies a.n + b.n >= 0"),
        ("text", "0", "string length(replace(note, \"\", note)) > 0"),
        ("small", "0", "count(software) >= 0"),
    ]);
    let software: Vec<_> = (0..4_000).map(|n| json!({"n": n})).collect();
    let large = json!({"device": "large", "collected_at": "2027-03-01T05:00:00Z", "software": software, "note": "ab".repeat(100_000)});
    let small =
        json!({"device": "small", "collected_at": "2027-03-01T05:00:00Z", "software": [{"n": 1}], "note": "ab"});
    env.write("s.jsonl", format!("{large}\n{small}\n"));
    let found = verdicts(&env, "s.jsonl");
    let outcomes: Vec<_> =
        found[0]["verdicts"].as_array().unwrap().iter().map(|one| (&one["outcome"], &one["reason"])).collect();
    let error = (&json!("unknown"), &json!("error"));
    assert_eq!(outcomes[..2], [error, error]);
    assert_eq!(*outcomes[2].0, "pass");
    assert_eq!(found[1]["counts"]["pass"], 3);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    env.ok(&["assess", "--as-of", AT]);
    let why = env.ok(&["why", "large", "pairs"]);
    assert!(why.contains("too much to go through") && why.contains("1,000,000 items"), "{why}");
}

#[test]
fn an_unclosed_quote_sets_its_own_line_aside_and_no_other() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}[[source]]\nid = \"export\"\nfiles = [\"*.csv\"]\nformat = \"csv\"\ndevice = \"id\"\ncollected = \"at\"\n"),
    );
    let row = |n: usize| format!("d{n},2027-03-01T05:00:00Z,\"Pier {n}\"\n");
    let text: String = std::iter::once("id,at,site\n".to_owned())
        .chain((0..1_500).map(|n| if n == 20 { "d20,2027-03-01T05:00:00Z,\"Ness\n".to_owned() } else { row(n) }))
        .collect();
    env.write("x.csv", &text);
    env.fails(
        &["import", "x.csv", "--strict", "--as-of", AT],
        2,
        &["1 of 1500 records are bad", "line 22", "a quote that is not closed"],
    );
    let said = env.ok(&["import", "x.csv", "--as-of", AT]);
    assert!(
        said.contains("1500 records, 1499 new devices") && said.contains("line 22: a quote that is not closed"),
        "{said}"
    );
}

#[test]
fn property_lists_that_are_deep_or_refer_to_themselves_are_refused() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!(
            "{STEPPED}[[source]]\nid = \"p\"\nfiles = [\"*.plist\"]\nformat = \"plist\"\ndevice_from = \"file-name\"\n"
        ),
    );
    // Ten lists, each of which holds the next one twenty times.
    let mut bomb = b"bplist00".to_vec();
    let mut offsets = Vec::new();
    for object in 0..10_u8 {
        offsets.push(bomb.len() as u16);
        match object {
            9 => bomb.push(0xa0),
            _ => {
                bomb.extend([0xaf, 0x10, 20]);
                bomb.extend([object + 1; 20]);
            }
        }
    }
    let table = bomb.len() as u64;
    offsets.iter().for_each(|offset| bomb.extend(offset.to_be_bytes()));
    bomb.extend([0, 0, 0, 0, 0, 0, 2, 1]);
    for number in [10, 0, table] {
        bomb.extend(number.to_be_bytes());
    }
    assert!(bomb.len() < 310);
    env.write("a.plist", &bomb);
    env.fails(&["import", "a.plist", "--as-of", AT], 2, &["again and again"]);
    env.write("b.plist", format!("<plist>{}", "<array>".repeat(300_000)));
    env.fails(&["import", "b.plist", "--as-of", AT], 2, &["nested deeper than 127 levels"]);
    env.fails(&["assess", "--state", "b.plist", "--as-of", AT], 2, &["nested deeper than 127 levels"]);
}

#[test]
fn a_first_line_without_end_is_refused_without_being_repeated() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}[[source]]\nid = \"export\"\nfiles = [\"*.csv\"]\nformat = \"csv\"\ndevice = \"id\"\ncollected = \"at\"\n"),
    );
    env.write("x.csv", "x".repeat(40 << 20));
    let ran = env.run(&["import", "x.csv", "--as-of", AT]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("longer than 16 MiB") && ran.err.len() < 1_000, "{} bytes", ran.err.len());
    env.write("x.csv", format!("{},b\n", "y,".repeat(50_000)));
    let ran = env.run(&["import", "x.csv", "--as-of", AT]);
    assert!(ran.err.contains("and 49") && ran.err.len() < 2_000, "{}", ran.err);
}

#[test]
fn junk_is_counted_and_not_hoarded() {
    let env = Env::new();
    env.rules(&[("fine", "0", "ok")]);
    let mut text = "x\n".repeat(50_000);
    text.push_str("{\"device\":\"a\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"ok\":true}\n");
    env.write("junk.jsonl", &text);
    let said = env.ok(&["import", "junk.jsonl", "--as-of", AT]);
    assert!(
        said.contains("50001 records, 1 new device") && said.contains("50000 bad records were set aside"),
        "{said}"
    );
    let ledger = fs::metadata(env.path(".fencepost/ledger.sqlite")).unwrap().len();
    assert!(ledger < 2_000_000, "{ledger} bytes");
    let rejects = env.json(&["list", "rejects", "--columns", "line,records,reason"]);
    let rows = rejects["rows"].as_array().unwrap();
    assert_eq!(rows.len(), 1_001);
    assert_eq!(rows.iter().map(|row| row["records"].as_u64().unwrap()).sum::<u64>(), 50_000);
    let ran = env.run(&["assess", "--state", "junk.jsonl", "--format", "jsonl", "--as-of", AT]);
    assert!(ran.err.len() < 200_000 && ran.err.contains("50000 lines were refused"), "{} bytes", ran.err.len());
}

#[cfg(unix)]
#[test]
fn workspace_files_are_regular_and_of_a_size_and_mistakes_in_them_are_counted() {
    let env = Env::new();
    env.write("rules/x.toml", "x =\n".repeat(8_000));
    let ran = env.run(&["vet"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(
        ran.out.contains("more mistakes in this file are not shown") && ran.out.len() < 100_000,
        "{}",
        ran.out.len()
    );
    fs::remove_file(env.path("rules/x.toml")).unwrap();
    std::os::unix::fs::symlink("/dev/zero", env.path("rules/x.toml")).unwrap();
    env.fails(&["vet"], 2, &["rules/x.toml", "no regular file"]);
    fs::remove_file(env.path("rules/x.toml")).unwrap();
    env.write("rules/x.toml", "#".repeat((16 << 20) + 1));
    env.fails(&["vet"], 2, &["rules/x.toml", "larger than 16 MiB"]);
}

#[test]
fn a_workspace_file_of_too_many_keys_is_refused_by_its_name() {
    let env = Env::new();
    let keys: String = (0..200_001).map(|n| format!("\"f{n}\" = {{}}\n")).collect();
    env.write("facts.toml", format!("[facts]\n{keys}"));
    env.fails(&["list", "rules"], 2, &["facts.toml", "more than 200000 keys"]);
}
