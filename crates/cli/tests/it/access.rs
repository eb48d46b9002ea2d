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
    let people = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
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
    env.write("access.toml", PLAIN.replace("people = [\"ships\"]\n", ""));
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
    assert!(text.contains("2 people lose a service, 1 of them with no other way to it"), "{text}");
    let (first, others) = text.split_once("Lost, with another way to the service").expect("two parts");
    assert!(first.contains("Drafonn") && !first.contains("Brobek") && others.contains("still in with a2"), "{text}");
    for (by, heading) in [
        ("person", "Brobek  1 person"),
        ("service", "mail  1 person"),
        ("rule", "fine  1 person"),
        ("site", "(none)  1 person"),
        ("cause", "fine  1 person"),
    ] {
        let text = env.ok(&["access", "--by", by]);
        assert!(text.lines().any(|line| line.trim() == heading), "{by}: {text}");
    }
    let only = env.ok(&["access", "--only", "call-first"]);
    assert!(only.contains("Drafonn") && !only.contains("Brobek"), "{only}");
    // One person, by id or name; one device.
    for (who, rows) in [("p1", 1), ("brobek", 1), ("b", 1), ("a2", 0)] {
        let report = env.json(&["access", who]);
        let count = ["lost", "reduced"].map(|list| report[list].as_array().unwrap().len()).iter().sum::<usize>();
        assert_eq!(count, rows, "{who}");
    }
    assert_eq!(env.run(&["access", "nobody-at-all"]).code, 2);
    assert_eq!(env.run(&["access", "--since", &day(9)]).code, 2);
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
    assert_eq!((&service["permit"], &service["limited"], &service["deny"]), (&json!(2), &json!(1), &json!(0)));
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

const PLAIN: &str = r#"
[[service]]
id = "mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "good"
services = ["mail"]
people = ["ships"]
needs = 'standing in ("compliant", "on-notice")'
"#;

/// An environment with one service, and people in units.
fn units(people: &str) -> Env {
    let env = env();
    env.write("access.toml", PLAIN);
    env.write("people.csv", format!("id,name,unit,mail\n{people}"));
    env.ok(&["import", "people.csv", "--as-of", &day(1)]);
    env
}

fn causes(entry: &Json) -> Vec<String> {
    let causes = entry["causes"].as_array().expect("causes").clone();
    let text = |cause: &Json, key: &str| cause[key].as_str().unwrap_or("-").to_owned();
    causes
        .iter()
        .map(|cause| format!("{} {} {}", text(cause, "cause"), text(cause, "rule"), text(cause, "fact")))
        .collect()
}

#[test]
fn whoever_loses_the_only_way_in_is_told_whatever_took_it() {
    let env = units(
        "p1,Brobek,ships/tern,b@x.example\np2,Drafonn,ships/tern,d@x.example\np3,Kolm,ships/tern,k@x.example\np4,Lunn,ships/tern,l@x.example\n",
    );
    env.morning(
        &day(1),
        &[
            device("a", &day(1), true, "p1"),
            device("b", &day(1), true, "p2"),
            device("c", &day(1), true, "p3"),
            device("d", &day(1), true, "p4"),
        ],
    );
    // One device changes hands, one is retired, one person moves, one leaves.
    env.write("devices.toml", "[[device]]\nid = \"b\"\nretired = 2027-03-02\nbecause = \"sold\"\n");
    env.write("people.csv", "id,name,unit,mail\np1,Brobek,ships/tern,b@x.example\np2,Drafonn,ships/tern,d@x.example\np3,Kolm,office,k@x.example\np5,Moer,ships/tern,m@x.example\n");
    env.ok(&["import", "people.csv", "--as-of", &day(2)]);
    env.morning(&day(3), &[device("a", "2027-03-03T05:00:00Z", true, "p5")]);
    let report = env.json(&["access"]);
    let lost: Vec<String> = report["lost"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| {
            assert_eq!((&entry["decision"], &entry["call_first"]), (&json!("deny"), &json!(true)), "{entry}");
            format!(
                "{} {} {}",
                entry["device"].as_str().unwrap(),
                entry["person"].as_str().unwrap(),
                entry["cause"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(lost, ["a p1 membership", "b p2 retired", "c p3 membership", "d p4 left"]);
    assert_eq!((&report["summary"]["people"], &report["summary"]["call_first"]), (&json!(4), &json!(4)));
    assert_eq!((&report["lost"][0]["mail"], &report["lost"][2]["unit"]), (&json!("b@x.example"), &json!("office")));
}

#[test]
fn the_cause_is_everything_that_has_to_change_and_keeps_up_with_what_is_mended() {
    let env = units("p1,Brobek,ships/tern,b@x.example\n");
    env.rules(&[("fine", "1d", "ok"), ("dry", "1d", "dry")]);
    let said = |day: u32, ok: bool, dry: bool| {
        let at = format!("2027-03-{day:02}T05:00:00Z");
        json!({"device": "a", "collected_at": at, "ok": ok, "dry": dry, "person": "p1"})
    };
    env.morning(&day(1), &[said(1, true, true)]);
    env.morning(&day(2), &[said(2, false, false)]);
    // Both are told before they are due, and both when they are.
    assert_eq!(causes(&env.json(&["access"])["losing"][0]), ["finding dry -", "finding fine -"]);
    env.morning(&day(4), &[said(4, false, false)]);
    let report = env.json(&["access"]);
    assert_eq!(causes(&report["lost"][0]), ["finding dry -", "finding fine -"]);
    assert_eq!(report["lost"][0]["since"], "2027-03-03T06:00:00Z");
    // One of them mended, the other is left, and access is denied since the same moment.
    env.morning(&day(5), &[said(5, true, false)]);
    let report = env.json(&["access", "--denied"]);
    assert_eq!(causes(&report["denied"][0]), ["finding dry -"]);
    assert_eq!(report["denied"][0]["since"], "2027-03-03T06:00:00Z");
    env.morning(&day(6), &[said(6, true, true)]);
    assert_eq!(causes(&env.json(&["access"])["restored"][0]), ["finding dry -"]);
}

#[test]
fn what_time_alone_takes_is_announced_and_is_what_an_assessment_then_says() {
    let env = units("p1,Brobek,ships/tern,b@x.example\np2,Drafonn,ships/tern,d@x.example\n");
    let sources = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"3d\"\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
    env.write("facts.toml", "[facts]\n\"cert.ends\" = { type = \"instant\" }\n");
    env.write("fencepost.toml", format!("{STEPPED}[access]\nmanaged = 'cert.ends > now()'\n{sources}"));
    env.write(
        "access.toml",
        PLAIN.replace("needs = ", "enforced_from = 2027-03-01T00:00:00Z\nneeds = 'device.managed and ok'\n\n[[access]]\nid = \"second\"\nservices = [\"mail\"]\nenforced_from = 2027-03-02T12:00:00Z\nneeds = 'not(loaned)'\n#"),
    );
    let said = |id: &str, person: &str, ends: &str, loaned: bool| json!({"device": id, "collected_at": "2027-03-01T05:00:00Z", "ok": true, "person": person, "cert": {"ends": ends}, "loaned": loaned});
    env.morning(
        &day(1),
        &[said("a", "p1", "2027-03-03T12:00:00Z", false), said("b", "p2", "2027-06-01T00:00:00Z", true)],
    );
    let report = env.json(&["access"]);
    let losing: Vec<(String, String, bool)> = report["losing"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| {
            let text = |key: &str| entry[key].as_str().unwrap().to_owned();
            (format!("{} {}", text("device"), text("cause")), text("at"), entry["only_if_silent"].as_bool().unwrap())
        })
        .collect();
    assert_eq!(
        losing,
        [
            ("b condition".to_owned(), "2027-03-02T12:00:00Z".to_owned(), false),
            ("a certificate".to_owned(), "2027-03-03T12:00:00Z".to_owned(), false),
        ]
    );
    assert_eq!(report["summary"]["next"], json!({"at": "2027-03-02T12:00:00Z", "people": 1}));
    // What is told as of a later moment is what an assessment at that moment finds.
    let moved = env.json(&["access", "--since", &day(1), "--as-of", "2027-03-03T13:00:00Z"]);
    env.ok(&["assess", "--as-of", "2027-03-03T13:00:00Z"]);
    let found = env.json(&["access", "--since", &day(1)]);
    for list in ["lost", "reduced", "denied"] {
        assert_eq!(moved[list], found[list], "{list}");
    }
    assert_eq!(found["lost"].as_array().unwrap().len(), 2);
}

#[test]
fn facts_that_would_only_grow_old_are_kept_apart() {
    let env = units("p1,Brobek,ships/tern,b@x.example\n");
    let sources = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"3d\"\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
    env.write("facts.toml", "[facts]\n\"cert.ends\" = { type = \"instant\" }\n");
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env.write("access.toml", PLAIN.replace("standing in (\"compliant\", \"on-notice\")", "ok and cert.ends > now()"));
    let said = json!({"device": "a", "collected_at": "2027-03-01T05:00:00Z", "ok": true, "person": "p1", "cert": {"ends": "2027-03-09T12:00:00Z"}});
    env.morning(&day(1), &[said]);
    let report = env.json(&["access"]);
    let told: Vec<(&Json, bool)> = report["losing"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| (&entry["at"], entry["only_if_silent"].as_bool().unwrap()))
        .collect();
    // Silence would take it after three days; the certificate does so in any case later.
    assert_eq!(told.len(), 2, "{report}");
    assert_eq!(told[0], (&json!("2027-03-09T12:00:00Z"), false));
    assert!(told[1].1 && told[1].0.as_str().unwrap().starts_with("2027-03-04T05:00:00"), "{told:?}");
    assert_eq!(
        (&report["summary"]["only_if_silent"], &report["summary"]["next"]["at"]),
        (&json!(1), &json!("2027-03-09T12:00:00Z"))
    );
    let text = env.ok(&["access"]);
    assert!(text.contains("1 person only if nothing is heard of their devices"), "{text}");
    assert!(!text.contains("only if nothing is heard of the device\n"), "{text}");
}

#[test]
fn who_still_gets_in_is_told_of_the_moment_in_question() {
    let env = units("p1,Brobek,ships/tern,b@x.example\n");
    env.rules(&[("fine", "2d", "ok")]);
    let bad = |id: &str| device(id, "2027-03-02T05:00:00Z", false, "p1");
    env.morning(&day(1), &[device("a", &day(1), true, "p1"), device("b", &day(1), true, "p1")]);
    env.morning(&day(2), &[bad("a"), bad("b")]);
    let report = env.json(&["access"]);
    // Both fall at the same moment, so neither is a way in then.
    for entry in report["losing"].as_array().unwrap() {
        assert_eq!((&entry["other_device"], &entry["call_first"]), (&Json::Null, &json!(true)), "{entry}");
    }
}

#[test]
fn somebody_of_whom_no_unit_is_known_is_decided_by_the_stricter() {
    let env = units("p1,Brobek,,b@x.example\n");
    env.write(
        "access.toml",
        PLAIN
            .replace("default = \"deny\"", "default = \"permit\"")
            .replace("needs = 'standing in (\"compliant\", \"on-notice\")'", "needs = 'blessed'"),
    );
    env.morning(&day(1), &[device("a", &day(1), true, "p1")]);
    let shown = env.json(&["show", "a"]);
    assert_eq!((&shown["access"][0]["decision"], &shown["access"][0]["access_rule"]), (&json!("deny"), &json!("good")));
    // An exception that names a person by id is for that person.
    env.write("access.toml", PLAIN.replace("people = [\"ships\"]", "except = [\"p1\"]"));
    env.ok(&["assess", "--as-of", &day(2)]);
    let denied = env.json(&["access", "--denied", "--all"]);
    assert_eq!(causes(&denied["denied"][0]), ["default - -"]);
}

#[test]
fn more_obligations_are_a_reduction_and_limits_stay_whole() {
    let env = units("p1,Brobek,ships/tern,b@x.example\n");
    let limited = |needs: &str, limits: &str| {
        PLAIN.replace(
            "needs = 'standing in (\"compliant\", \"on-notice\")'",
            &format!("needs = '{needs}'\notherwise = {{ limits = [{limits}] }}"),
        )
    };
    env.write(
        "access.toml",
        limited("dry", "\"no copy, no print\"")
            + &limited("warm", "\"no download\"")
                .split_once("[[access]]")
                .map(|(_, rule)| format!("[[access]]{}", rule.replace("\"good\"", "\"other\"")))
                .unwrap(),
    );
    let said = |day: u32, warm: bool| {
        let at = format!("2027-03-{day:02}T05:00:00Z");
        json!({"device": "a", "collected_at": at, "ok": true, "dry": false, "warm": warm, "person": "p1"})
    };
    env.morning(&day(1), &[said(1, true)]);
    env.morning(&day(2), &[said(2, false)]);
    let report = env.json(&["access"]);
    let entry = &report["reduced"][0];
    assert_eq!(entry["obligations"], json!(["no copy, no print", "no download"]));
    assert_eq!((&entry["limits"], &entry["step_up"]), (&json!(["no copy, no print", "no download"]), &json!(false)));
    assert_eq!(entry["access_rules"], json!(["good", "other"]));
    assert_eq!(causes(entry), ["condition - dry", "condition - warm"]);
}

#[test]
fn access_is_narrowed_by_a_condition_and_people_are_found_by_name() {
    let env = units("p1,Brobek,ships/tern,b@x.example\np2,Drafonn,ships/tern,d@x.example\np3,drafonn,ships/tern,\n");
    env.rules(&[("fine", "0", "ok")]);
    let at_site = |id: &str, at: &str, ok: bool, person: &str, site: &str| json!({"device": id, "collected_at": at, "ok": ok, "person": person, "site": site});
    let first = day(1);
    env.morning(&day(1), &[at_site("a", &first, true, "p1", "Tern"), at_site("b", &first, true, "p2", "Puffin")]);
    let then = "2027-03-02T05:00:00Z";
    env.morning(&day(2), &[at_site("a", then, false, "p1", "Tern"), at_site("b", then, false, "p2", "Puffin")]);
    assert_eq!(keys(&env.json(&["access"]), "lost"), ["a app", "b app"]);
    let narrowed = env.json(&["access", "--where", "site = \"Tern\""]);
    assert_eq!((keys(&narrowed, "lost"), &narrowed["summary"]["people"]), (vec!["a app".to_owned()], &json!(1)));
    assert_eq!(keys(&env.json(&["access", "--denied", "--where", "site = \"Puffin\""]), "denied"), ["b app"]);
    env.fails(&["access", "--where", "site ="], 2, &["1 mistake in the condition"]);
    assert_eq!(env.json(&["show", "brobek"])["person"], "p1");
    env.fails(&["show", "Drafonn"], 2, &["2 people are called `Drafonn`", "p2, p3"]);
}
