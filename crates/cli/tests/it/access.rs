//! Who loses access: lost, reduced, restored, about to lose; by the stored decisions and by the clock.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }, { client = "browser" }]

[[access]]
id = "good"
services = ["mail"]
when = 'signin.client = "app"'
needs = 'standing in ("compliant", "on-notice")'

[[access]]
id = "limited"
services = ["mail"]
when = 'signin.client = "browser"'
needs = 'standing = "compliant"'
otherwise = { limits = ["no download"] }
"#;

fn env() -> Env {
    let env = Env::new();
    let people = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\n";
    env.write("fencepost.toml", format!("{STEPPED}{people}"));
    env.write("people.csv", "id,name\np1,Brobek\np2,Drafonn\n");
    env.write("access.toml", ACCESS);
    env.rules(&[("fine", "2d", "ok")]);
    env
}

fn device(id: &str, at: &str, ok: bool, person: &str) -> Json {
    json!({"device": id, "collected_at": at, "ok": ok, "person": person})
}

fn day(day: u32) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

fn keys(report: &Json, section: &str) -> Vec<String> {
    report[section]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| format!("{} {}", entry["device"].as_str().unwrap(), entry["client"].as_str().unwrap()))
        .collect()
}

#[test]
fn access_is_reduced_then_lost_by_the_clock_and_restored_by_a_fix() {
    let env = env();
    env.ok(&["import", "people.csv", "--as-of", &day(1)]);
    env.morning(&day(1), &[device("a", &day(1), true, "p1"), device("b", &day(1), true, "p2")]);
    env.morning(&day(2), &[device("a", "2027-03-02T05:00:00Z", false, "p1")]);
    let report = env.json(&["access"]);
    assert_eq!((keys(&report, "reduced"), keys(&report, "lost")), (vec!["a browser".to_owned()], vec![]));
    assert_eq!(keys(&report, "losing"), ["a app"]);
    assert_eq!(
        (&report["losing"][0]["at"], &report["losing"][0]["cause"]),
        (&json!("2027-03-04T06:00:00Z"), &json!("finding"))
    );
    assert_eq!(
        report["losing"][0]["because"][0],
        json!({"rule": "fine", "opened": day(2), "due": "2027-03-04T06:00:00Z"})
    );
    // The clock alone: no assessment has seen it yet.
    let moved = env.json(&["access", "--as-of", &day(4)]);
    assert_eq!((keys(&moved, "lost"), keys(&moved, "losing")), (vec!["a app".to_owned()], vec![]));
    assert_eq!(moved["lost"][0]["since"], "2027-03-04T06:00:00Z");
    assert_eq!(keys(&env.json(&["access", "--as-of", "2027-03-04T05:59:59Z"]), "lost"), Vec::<String>::new());
    // The next assessment finds the same, since the moment the clock ran out.
    env.ok(&["assess", "--as-of", "2027-03-04T18:00:00Z"]);
    let seen = env.json(&["access"]);
    assert_eq!(keys(&seen, "lost"), ["a app"]);
    assert_eq!(
        (&seen["lost"][0]["since"], &seen["lost"][0]["person_name"]),
        (&json!("2027-03-04T06:00:00Z"), &json!("Brobek"))
    );
    assert_eq!(env.run(&["access", "--fail-on", "lost-access"]).code, 1);
    env.morning(&day(5), &[device("a", "2027-03-05T05:00:00Z", true, "p1")]);
    let restored = env.json(&["access"]);
    assert_eq!(keys(&restored, "restored"), ["a app", "a browser"]);
    assert_eq!(env.run(&["access", "--fail-on", "lost-access"]).code, 0);
    // Since the first morning, on the whole, nothing changed.
    let since = env.json(&["access", "--since", &day(1)]);
    assert!(["lost", "reduced", "restored"].iter().all(|section| keys(&since, section).is_empty()), "{since}");
}

#[test]
fn somebody_with_another_device_is_told_from_somebody_without() {
    let env = env();
    env.ok(&["import", "people.csv", "--as-of", &day(1)]);
    let bad = |id: &str, person: &str| device(id, "2027-03-04T05:00:00Z", false, person);
    env.rules(&[("fine", "0", "ok")]);
    env.morning(
        &day(1),
        &[device("a1", &day(1), true, "p1"), device("a2", &day(1), true, "p1"), device("b", &day(1), true, "p2")],
    );
    env.morning(&day(4), &[bad("a1", "p1"), bad("b", "p2")]);
    let report = env.json(&["access"]);
    let other = |at: usize| report["lost"][at]["other_device"].clone();
    assert_eq!((other(0), other(1)), (json!("a2"), json!(null)));
    let text = env.ok(&["access"]);
    assert!(text.contains("2 people lose a service") && text.contains("still in Brobek with a2 (Mail)"), "{text}");
    assert!(text.contains("no other device that gets in: Drafonn (Mail)"), "{text}");
    for (by, heading) in [("person", "Brobek"), ("service", "Mail"), ("rule", "fine"), ("site", "(none)")] {
        let text = env.ok(&["access", "--by", by]);
        assert!(text.lines().any(|line| line.trim() == heading), "{by}: {text}");
    }
}

#[test]
fn totals_of_services_and_people_agree_with_the_rows() {
    let env = env();
    env.ok(&["import", "people.csv", "--as-of", &day(1)]);
    env.rules(&[("fine", "0", "ok")]);
    env.morning(
        &day(1),
        &[
            device("a", &day(1), false, "p1"),
            device("b", &day(1), true, "p2"),
            json!({"device": "kiosk", "collected_at": day(1), "ok": true}),
        ],
    );
    let report = env.json(&["access"]);
    // The first assessment has nothing to compare with, so nobody has lost anything.
    assert_eq!((keys(&report, "lost").len(), keys(&report, "denied")), (0, vec!["a app".to_owned()]));
    let people = env.json(&["list", "people"]);
    let denied: Vec<&Json> = people["rows"].as_array().unwrap().iter().map(|row| &row["denied"]).collect();
    assert_eq!(denied, [&json!("mail"), &json!("")]);
    let service = &env.json(&["list", "services"])["rows"][0];
    assert_eq!((&service["permit"], &service["limited"], &service["deny"]), (&json!(2), &json!(1), &json!(1)));
}

#[test]
fn a_door_that_an_edit_shut_is_blamed_on_the_edit() {
    let env = env();
    env.ok(&["import", "people.csv", "--as-of", &day(1)]);
    env.morning(&day(1), &[device("a", &day(1), true, "p1")]);
    let stricter =
        ACCESS.replace("needs = 'standing in (\"compliant\", \"on-notice\")'", "needs = 'device.blessed = true'");
    env.write("access.toml", stricter);
    env.ok(&["assess", "--as-of", &day(2)]);
    let report = env.json(&["access"]);
    assert_eq!(
        (keys(&report, "lost"), &report["lost"][0]["cause"]),
        (vec!["a app".to_owned()], &json!("rule-changed"))
    );
    // A fact that an unchanged access rule asks for is no edit.
    env.morning(
        &day(3),
        &[json!({"device": "a", "collected_at": "2027-03-03T05:00:00Z", "ok": true, "person": "p1", "blessed": true})],
    );
    env.morning(&day(4), &[device("a", "2027-03-04T05:00:00Z", true, "p1")]);
    assert_eq!(env.json(&["access"])["lost"][0]["cause"], "condition");
}
