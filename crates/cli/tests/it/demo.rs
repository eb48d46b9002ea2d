//! The demo tells a true story: every device as told, on the day told, and no view contradicts another.

use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value as Json;

use crate::env::Env;

/// One demo for all tests of this file: making it is the slow part.
fn demo() -> (Env, String) {
    let env = Env::new();
    let out = env.ok(&["demo", "ferry"]);
    (env, out)
}

fn ferry(env: &Env, args: &[&str]) -> Json {
    let mut all = vec!["--workspace", "ferry"];
    all.extend(args);
    env.json(&all)
}

fn rows(json: &Json) -> Vec<Json> {
    json["rows"].as_array().unwrap().clone()
}

#[test]
fn the_story_comes_out_as_told() {
    let (env, out) = demo();
    assert!(out.contains("4 people lose a service") && out.contains("fencepost why puffin-bridge-1"), "{out}");
    // (device, rule, the morning it opens, the morning it is overdue, the morning it is gone)
    let never = 99;
    for (device, rule, opens, overdue, gone) in [
        ("tern-tickets", "ticket-server/sshd.permit_root_login", 2, 8, never),
        ("tern-tickets", "ticket-server/log.retention_days", 2, 8, never),
        ("fulmar-kiosk-2", "kiosk/processes.guardd", 3, 8, never),
        ("razorbill-phone-4", "not-rooted", 4, 4, never),
        ("gannet-phone-2", "android-supported", 1, 6, never),
        ("puffin-bridge-1", "charts-current", 2, 14, never),
        ("petrel-tickets", "silence", 7, never, 11),
        ("petrel-kiosk-1", "silence", 7, never, 11),
        ("tern-phone-5", "silence", 1, 5, never),
        ("puffin-laptop-chief", "disk-encrypted", 9, 12, never),
        ("ness-pier-tickets", "certificate-valid", 13, never, never),
        ("office-laptop-7", "laptop/software.seedpool", 6, 10, never),
        ("office-laptop-2", "laptop/software.peepcam", 9, never, 12),
        ("office-laptop-9", "silence", 12, never, never),
    ] {
        for day in [opens - 1, opens, overdue - 1, overdue, gone - 1, gone] {
            if !(1..=14).contains(&day) {
                continue;
            }
            let expected = match day {
                day if day < opens || day >= gone => None,
                day if day >= overdue => Some("overdue"),
                _ => Some("open"),
            };
            let filter = format!("device = \"{device}\" and rule = \"{rule}\"");
            let at = format!("2027-03-{day:02}T06:00:00Z");
            let found = rows(&ferry(&env, &["list", "findings", "--where", &filter, "--as-of", &at]));
            assert_eq!(found.first().and_then(|row| row["phase"].as_str()), expected, "{device} {rule} on the {day}th");
        }
    }
    // Fixed for an afternoon: closed on the 6th, back on the 7th with its old clock.
    let lock = |day: u32| {
        ferry(&env, &["why", "office-laptop-4", "laptop-lock", "--as-of", &format!("2027-03-{day:02}T06:00:00Z")])["verdicts"][0].clone()
    };
    assert_eq!(
        [3, 5, 6, 7, 9, 10].map(|day| lock(day)["phase"].as_str().unwrap().to_owned()),
        ["open", "open", "closed", "open", "open", "overdue"]
    );
    assert_eq!(lock(7)["opened"], "2027-03-03T06:00:00Z");
    // What is excepted, on trial or left out costs nothing.
    let running = rows(&ferry(&env, &["list", "findings"]));
    for quiet in ["razorbill-kiosk-2", "ness-pier-scanner-2", "gannet-bridge-2", "it-laptop-2"] {
        assert!(!running.iter().any(|row| row["device"] == quiet), "{quiet}");
    }
    // A ship that is out of reach loses nothing before its clock has run out.
    let petrel = ferry(&env, &["access", "--as-of", "2027-03-09T06:00:00Z"]);
    assert!(!petrel["denied"].as_array().unwrap().iter().any(|entry| entry["device"] == "petrel-tickets"), "{petrel}");
    assert!(
        petrel["losing"]
            .as_array()
            .unwrap()
            .iter()
            .any(|entry| entry["device"] == "petrel-tickets" && entry["at"] == "2027-03-11T06:00:00Z")
    );
    // A tablet changed hands: whoever had it before is shut out, and a certificate that runs out is told before it does.
    let access = ferry(&env, &["access"]);
    let about = |list: &str, device: &str| -> Vec<(String, String)> {
        let all = access[list]
            .as_array()
            .unwrap()
            .iter()
            .filter(|entry| entry["device"] == device && entry["only_if_silent"] != true);
        all.map(|entry| (entry["person"].to_string(), entry["causes"][0]["cause"].to_string())).collect()
    };
    let handed_on = about("lost", "razorbill-bridge-2");
    assert!(
        !handed_on.is_empty() && handed_on.iter().all(|one| *one == ("\"B-1051\"".into(), "\"membership\"".into())),
        "{handed_on:?}"
    );
    assert_eq!(about("losing", "gannet-bridge-1").len(), 3);
    // Who was left out of the rule about encryption is named, before all else.
    let coverage = rows(&ferry(&env, &["list", "coverage"]));
    assert_eq!(
        ["topic", "role", "devices", "covered", "left_out"].map(|key| coverage[0][key].to_string().replace('"', "")),
        ["encryption", "scanner", "20", "15", "5"]
    );
    assert_eq!(coverage[0]["names"].as_array().unwrap().len(), 5);
    assert!(coverage[0]["names"][1] == "ness-pier-scanner-2" && coverage[1]["left_out"] == 0);
    // As of an earlier morning it is told from what was known then.
    let earlier = rows(&ferry(&env, &["list", "coverage", "--as-of", "2027-03-06T06:00:00Z"]));
    assert_eq!(earlier.len(), coverage.len());
    assert_eq!(earlier[0], coverage[0]);
    let lagging = ferry(&env, &["show", "tern-bridge-1"]);
    let version =
        lagging["facts"].as_array().unwrap().iter().find(|fact| fact["fact"] == "os.version").unwrap().clone();
    assert_eq!((&version["value"], &version["losers"][0]["value"]), (&"13.0".into(), &"12.1".into()));
    let corrected =
        ferry(&env, &["list", "devices", "--where", "device = \"gannet-bridge-2\"", "--columns", "device,ownership"]);
    assert_eq!(rows(&corrected)[0]["ownership"], "company");
}

#[test]
fn a_silence_to_come_is_told_without_counting_what_is_not_known_yet() {
    let (env, _) = demo();
    let report = ferry(&env, &["access"]);
    let by_silence =
        |entry: &&Json| entry["causes"].as_array().unwrap().iter().any(|cause| cause["cause"] == "silence");
    let losing: Vec<&Json> = report["losing"].as_array().unwrap().iter().filter(by_silence).collect();
    let fixes: Vec<&str> = losing.iter().map(|entry| entry["do"].as_str().unwrap()).collect();
    assert!(fixes.contains(&"Let the device report again"), "{fixes:?}");
    assert!(fixes.contains(&"Let the device report again: password.length"), "{fixes:?}");
    assert!(!report.to_string().contains("0 rules"));
    // The next step is about what is shown.
    let text = env.run(&["access", "--only", "terms", "--workspace", "ferry"]);
    assert!(text.err.contains("why petrel-phone-6"), "{}", text.err);
}

#[test]
fn no_view_contradicts_another() {
    let (env, _) = demo();
    let assessed = ferry(&env, &["assess"]);
    let devices = rows(&ferry(&env, &["list", "devices"]));
    let counted = |standing: &str| devices.iter().filter(|row| row["standing"] == standing).count() as u64;
    let totals = &assessed["devices"];
    assert_eq!(totals["total"], devices.len() as u64);
    for (key, word) in [
        ("compliant", "compliant"),
        ("on_notice", "on-notice"),
        ("unproven", "unproven"),
        ("non_compliant", "non-compliant"),
    ] {
        assert_eq!(totals[key], counted(word), "{word}");
    }
    // Every rule covers, or does not cover, every device.
    for rule in assessed["rules"].as_array().unwrap() {
        let sum: u64 =
            ["pass", "fail", "unknown", "not_applicable"].iter().map(|key| rule[*key].as_u64().unwrap()).sum();
        assert_eq!(sum, devices.len() as u64, "{rule}");
    }
    // Findings by device are those of the list, and fails of enforced rules are findings.
    let findings = rows(&ferry(&env, &["list", "findings"]));
    let number = |row: &Json, key: &str| row[key].as_u64().unwrap();
    for (key, phase) in [("open", "open"), ("overdue", "overdue"), ("waived", "waived")] {
        let running: u64 = devices.iter().map(|row| number(row, key)).sum();
        assert_eq!(running, findings.iter().filter(|finding| finding["phase"] == phase).count() as u64, "{key}");
    }
    assert!(findings.iter().all(|finding| ["open", "overdue", "waived"].contains(&finding["phase"].as_str().unwrap())));
    let mut fails: BTreeMap<String, u64> = BTreeMap::new();
    for finding in &findings {
        *fails.entry(finding["rule"].as_str().unwrap().to_owned()).or_default() += 1;
    }
    for rule in assessed["rules"].as_array().unwrap().iter().filter(|rule| rule["stage"] == "enforced") {
        assert_eq!(
            rule["fail"].as_u64().unwrap(),
            fails.get(rule["rule"].as_str().unwrap()).copied().unwrap_or(0),
            "{rule}"
        );
    }
    // What `access` denies is what `show` denies, and services count the same devices.
    let access = ferry(&env, &["access"]);
    let mut denied: Vec<(String, String, String)> = Vec::new();
    for device in devices.iter().filter(|row| row["standing"] != "compliant") {
        let id = device["device"].as_str().unwrap();
        let shown = ferry(&env, &["show", id]);
        assert_eq!(shown["standing"], device["standing"], "{id}");
        for reach in shown["access"].as_array().unwrap() {
            if reach["decision"] == "deny" && !reach["access_rule"].is_null() {
                denied.push((
                    id.to_owned(),
                    reach["person"].to_string(),
                    format!("{} {}", reach["service"], reach["client"]),
                ));
            }
        }
    }
    let mut told: Vec<(String, String, String)> = access["denied"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| {
            (
                entry["device"].as_str().unwrap().to_owned(),
                entry["person"].to_string(),
                format!("{} {}", entry["service"], entry["client"]),
            )
        })
        .collect();
    denied.sort();
    told.sort();
    assert_eq!(told, denied);
    let lost: Vec<&Json> = access["lost"].as_array().unwrap().iter().collect();
    assert!(
        lost.iter().all(|entry| {
            ["puffin-bridge-1", "razorbill-bridge-2"].contains(&entry["device"].as_str().unwrap())
                && entry["since"] == "2027-03-14T06:00:00Z"
        }),
        "{lost:?}"
    );
    let people: std::collections::BTreeSet<String> = lost.iter().map(|entry| entry["person"].to_string()).collect();
    assert_eq!(people.len(), 4);
    // The fence's lines have as many posts as devices, each drawn as it stands.
    let fence = env.ok(&["--workspace", "ferry", "assess"]);
    let posts = |post: char| {
        fence
            .lines()
            .filter(|line| !line.contains("devices:") && !line.starts_with("among them"))
            .map(|line| line.matches(post).count() as u64)
            .sum::<u64>()
    };
    assert_eq!(
        [posts('┃') + posts('╿'), posts('╱'), posts('┆'), posts('╳')],
        [counted("compliant"), counted("on-notice"), counted("unproven"), counted("non-compliant")]
    );
    assert_eq!((posts('╿'), &totals["waived"]), (2, &serde_json::json!(2)));
}

#[test]
fn the_demo_is_the_same_every_time_and_spares_what_is_not_its_own() {
    let (env, first) = demo();
    let again = env.ok(&["demo", "ferry"]);
    assert_eq!(first, again);
    env.write("own/notes.txt", "mine");
    env.fails(&["demo", "own"], 2, &["is not empty, and no demo made it"]);
    assert!(env.path("own/notes.txt").exists());
    // It needs neither home, network nor terminal.
    let output = Command::new(env!("CARGO_BIN_EXE_fencepost"))
        .args(["demo", "bare"])
        .current_dir(env.root())
        .env_clear()
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}
