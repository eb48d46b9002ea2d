//! What becomes of devices and their findings over days: clocks, names, retirements, and what is told of the past.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

fn document(device: &str, at: &str, facts: &[(&str, Json)]) -> Json {
    let mut all = json!({ "device": device, "collected_at": at });
    for (path, value) in facts {
        all[*path] = value.clone();
    }
    all
}

fn findings(env: &Env) -> Vec<String> {
    let rows = env.json(&["list", "findings"]);
    let rows = rows["rows"].as_array().expect("rows").clone();
    let text = |row: &Json, key: &str| row[key].as_str().unwrap_or("-").to_owned();
    rows.iter()
        .map(|row| format!("{} {} {} {}", text(row, "device"), text(row, "rule"), text(row, "phase"), text(row, "due")))
        .collect()
}

#[test]
fn grace_in_working_days_passes_over_weekends_and_holidays_of_a_calendar_file() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}working_days = [\"mon\", \"tue\", \"wed\", \"thu\", \"fri\"]\nholidays = [2027-03-08]\nholidays_file = \"days.ics\"\n"),
    );
    env.write(
        "days.ics",
        "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Yard closed\r\nDTSTART;VALUE=DATE:20270309\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
    );
    env.rules(&[("fine", "2 working days", "ok")]);
    // A Friday, at ten by the clock of the workspace.
    env.morning("2027-03-05T09:00:00Z", &[document("a", "2027-03-05T08:00:00Z", &[("ok", json!(false))])]);
    assert_eq!(findings(&env), ["a fine open 2027-03-11T09:00:00Z"]);
    // A file that changes the calendar changes no clock that runs.
    env.write("days.ics", "BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n");
    env.ok(&["assess", "--as-of", "2027-03-05T10:00:00Z"]);
    assert_eq!(findings(&env), ["a fine open 2027-03-11T09:00:00Z"]);
}

#[test]
fn a_device_that_nothing_covers_is_on_notice_until_its_grace_is_over() {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}[uncovered]\nstands = \"non-compliant\"\ngrace = \"2d\"\n"));
    env.write("rules/test.toml", "[[rule]]\nid = \"fine\"\ncovers = 'kind = \"x\"'\nrequire = 'ok'\nfix = \"Mend.\"\n");
    let said = |day: u8| {
        let at = format!("2027-03-0{day}T05:00:00Z");
        let kinds = [("a", "x"), ("b", "y")];
        kinds.map(|(id, kind)| document(id, &at, &[("ok", json!(true)), ("kind", json!(kind))]))
    };
    let first = env.morning("2027-03-01T06:00:00Z", &said(1));
    assert_eq!((&first["devices"]["on_notice"], &first["devices"]["uncovered"]), (&json!(1), &json!(1)));
    assert_eq!(findings(&env), ["b uncovered open 2027-03-03T06:00:00Z"]);
    // By the clock alone.
    let shown = env.json(&["show", "b", "--as-of", "2027-03-03T06:00:00Z"]);
    assert_eq!(shown["standing"], "non-compliant");
    let why = env.ok(&["why", "b"]);
    assert!(why.contains("no enforced rule covers it") && !why.contains("Nothing is wrong"), "{why}");
    let third = env.morning("2027-03-04T06:00:00Z", &said(4));
    assert_eq!(third["overdue"][0]["rule"], "uncovered");
    env.write(
        "rules/test.toml",
        "[[rule]]\nid = \"fine\"\ngroups = [\"every-device\"]\nrequire = 'ok'\nfix = \"Mend.\"\n",
    );
    let covered = env.json(&["assess", "--as-of", "2027-03-04T07:00:00Z"]);
    assert_eq!(
        (&covered["closed"][0]["rule"], &covered["closed"][0]["how"]),
        (&json!("uncovered"), &json!("answered"))
    );
    assert_eq!(covered["devices"]["compliant"], 2);
}

const RENAMED: &str = "[[device]]\nid = \"old\"\nrenamed_to = \"new\"\nfrom = 2027-03-02\nbecause = \"refit\"\n";

#[test]
fn a_renamed_device_is_meant_by_either_name_in_every_file() {
    let env = Env::new();
    env.write("groups.toml", "[[group]]\nid = \"yard\"\nmembers = [\"old\"]\n");
    env.write(
        "rules/test.toml",
        "[[rule]]\nid = \"fine\"\ngroups = [\"yard\"]\nrequire = 'ok'\nfix = \"Mend.\"\n\n\
         [[rule]]\nid = \"dry\"\ngroups = [\"every-device\"]\nexcept = [\"old\"]\nrequire = 'dry'\nfix = \"Dry.\"\n",
    );
    env.write(
        "corrections.toml",
        "[[correction]]\ndevice = \"old\"\nfact = \"ok\"\nvalue = true\nbecause = \"seen\"\nby = \"us\"\nuntil = 2027-04-01\n",
    );
    let facts = [("ok", json!(false)), ("dry", json!(false))];
    env.morning("2027-03-01T06:00:00Z", &[document("old", "2027-03-01T05:00:00Z", &facts)]);
    let before = env.json(&["show", "old"]);
    assert_eq!((&before["standing"], &before["groups"]), (&json!("compliant"), &json!(["yard"])));
    env.write("devices.toml", RENAMED);
    env.morning("2027-03-03T06:00:00Z", &[document("new", "2027-03-03T05:00:00Z", &facts)]);
    let after = env.json(&["show", "new"]);
    assert_eq!((&after["standing"], &after["groups"]), (&json!("compliant"), &json!(["yard"])));
    let vetted = env.ok(&["vet"]);
    assert_eq!(vetted.matches("[former-name]").count(), 3, "{vetted}");
    assert!(vetted.contains("`old` is called `new` now"), "{vetted}");
    // The entry taken out, the device has its old name again, and the past is told as it was.
    env.write("devices.toml", "");
    env.ok(&["assess", "--as-of", "2027-03-03T07:00:00Z"]);
    let back = env.json(&["show", "old"]);
    assert_eq!(
        (&back["device"], &back["standing"], &back["former_names"]),
        (&json!("old"), &json!("compliant"), &json!([]))
    );
    let told = env.ok(&["history", "old"]);
    assert!(told.contains("no longer called old: refit") && told.contains("no longer called new"), "{told}");
}

#[test]
fn the_past_is_shown_under_the_names_of_then() {
    let env = Env::new();
    env.write("fencepost.toml", STEPPED);
    env.write("groups.toml", "[[group]]\nid = \"tills\"\nmembers = [\"old\"]\n");
    env.write("rules/test.toml", "[[rule]]\nid = \"fine\"\ngroups = [\"tills\"]\nrequire = 'ok'\nfix = \"Mend.\"\n");
    env.morning("2027-03-01T06:00:00Z", &[document("old", "2027-03-01T05:00:00Z", &[("ok", json!(false))])]);
    env.write("devices.toml", RENAMED);
    env.write("groups.toml", "[[group]]\nid = \"tills\"\nmembers = [\"new\"]\n");
    env.morning("2027-03-03T06:00:00Z", &[document("new", "2027-03-03T05:00:00Z", &[("ok", json!(true))])]);
    let then = |args: &[&str]| env.json(&[args, &["--as-of", "2027-03-01T07:00:00Z"]].concat());
    for name in ["old", "new"] {
        let shown = then(&["show", name]);
        assert_eq!((&shown["device"], &shown["groups"]), (&json!("old"), &json!(["tills"])), "{name}");
        assert_eq!(then(&["why", name])["verdicts"][0]["outcome"], "fail", "{name}");
    }
    for kind in ["devices", "findings"] {
        assert_eq!(then(&["list", kind])["rows"][0]["device"], "old", "{kind}");
        assert_eq!(env.json(&["list", kind, "--where", "device = \"old\""])["rows"], json!([]), "{kind}");
    }
    assert_eq!(then(&["list", "groups"])["rows"][0]["members"], 1);
    assert_eq!(env.json(&["show", "old"])["device"], "new");
}

#[test]
fn a_device_is_not_renamed_to_another_that_lives() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    for day in [1, 2] {
        let at = format!("2027-03-0{day}T05:00:00Z");
        let both = ["old", "new"].map(|id| document(id, &at, &[("ok", json!(id == "new"))]));
        env.morning(&format!("2027-03-0{day}T06:00:00Z"), &both);
    }
    env.write("devices.toml", RENAMED);
    let says = ["devices.toml:1", "`old` cannot be called `new`: both live", "take the entry out"];
    env.fails(&["assess", "--as-of", "2027-03-03T06:00:00Z"], 2, &says);
    env.write("more.jsonl", format!("{}\n", document("new", "2027-03-03T05:00:00Z", &[("ok", json!(true))])));
    env.fails(&["import", "more.jsonl", "--as-of", "2027-03-03T06:00:00Z"], 2, &says);
    let vetted = env.run(&["vet"]);
    assert!(vetted.code == 1 && vetted.out.contains("[device-lives-on]"), "{}", vetted.out);
    env.write("devices.toml", "");
    env.ok(&["assess", "--as-of", "2027-03-03T06:00:00Z"]);
    assert_eq!(findings(&env), ["old fine open 2027-03-04T06:00:00Z"]);
}

#[test]
fn that_two_devices_which_became_one_cannot_be_parted_is_told() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    env.morning("2027-03-01T06:00:00Z", &[document("old", "2027-03-01T05:00:00Z", &[("ok", json!(false))])]);
    env.morning("2027-03-02T06:00:00Z", &[document("new", "2027-03-02T05:00:00Z", &[("ok", json!(true))])]);
    env.write("devices.toml", RENAMED);
    env.ok(&["assess", "--as-of", "2027-03-03T06:00:00Z"]);
    assert!(!env.run(&["vet"]).out.contains("devices-stay-one"));
    env.write("devices.toml", "");
    env.ok(&["assess", "--as-of", "2027-03-04T06:00:00Z"]);
    assert_eq!(env.json(&["show", "old"])["device"], "new");
    let told = env.run(&["vet"]).out;
    assert!(told.contains("note[devices-stay-one]: `old` and `new` became one"), "{told}");
}

#[test]
fn an_import_never_goes_back_behind_an_assessment() {
    let env = Env::new();
    env.rules(&[("fine", "3d", "ok")]);
    env.morning("2027-03-03T06:00:00Z", &[document("a", "2027-03-03T05:00:00Z", &[("ok", json!(true))])]);
    env.write("more.jsonl", format!("{}\n", document("a", "2027-03-01T05:00:00Z", &[("ok", json!(true))])));
    env.fails(
        &["import", "more.jsonl", "--as-of", "2027-03-02T06:00:00Z"],
        2,
        &["never goes back behind an assessment"],
    );
    env.ok(&["import", "more.jsonl", "--as-of", "2027-03-03T06:00:00Z"]);
}

#[test]
fn what_is_written_by_hand_is_vetted_and_files_that_nothing_reads_are_told() {
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"lock.minutes\" = { type = \"number\" }\n");
    env.rules(&[("fine", "0", "lock.minutes <= 10"), ("typo", "3d", "every d in disks satisfies d.encryptd")]);
    let correction = |device: &str, fact: &str, value: &str| {
        format!(
            "[[correction]]\ndevice = \"{device}\"\nfact = \"{fact}\"\nvalue = {value}\nbecause = \"x\"\nby = \"us\"\nuntil = 2027-04-01\n\n"
        )
    };
    env.write(
        "corrections.toml",
        correction("tern-11", "lock.minutes", "5")
            + &correction("tern-1", "lock.minutes", "\"five\"")
            + &correction("tern-1", "lock.minuts", "5"),
    );
    env.write("devices.toml", "[[device]]\nid = \"term-2\"\nretired = 2027-03-01\nbecause = \"sold\"\n");
    env.write("waivrs.toml", "");
    env.write(
        "access.toml",
        "[[service]]\nid = \"mail\"\ntitle = \"Mail\"\ndefault = \"deny\"\nusual = [{ client = \"app\" }]\n\n\
         [[access]]\nid = \"in\"\nservices = [\"mail\"]\nneeds = 'standing in (\"compliant\", \"on notice\")'\n",
    );
    env.write("groups.toml", "[[group]]\nid = \"windows\"\nwhere = 'platform = \"Windows\"'\n");
    let disks = json!([{ "name": "c", "encrypted": true }]);
    let facts = [("lock", json!({ "minutes": 5 })), ("disks", disks), ("platform", json!("windows"))];
    let both = ["tern-1", "tern-2"].map(|id| document(id, "2027-03-01T05:00:00Z", &facts));
    let name = "s.jsonl";
    env.write(name, both.iter().map(|one| format!("{one}\n")).collect::<String>());
    env.ok(&["import", name, "--as-of", "2027-03-01T06:00:00Z"]);
    let vetted = env.ok(&["vet"]);
    for says in [
        "no device is called `tern-11`",
        "`lock.minutes` is set to what is no number",
        "no device reports `lock.minuts`",
        "no device is called `term-2`",
        "nothing reads waivrs.toml",
        "no device ever stands `on notice`",
        "did you mean `on-notice`?",
        "no device ever reports `platform` as \"Windows\"",
        "did you mean \"windows\"?",
        "rule `typo` is unknown on all 2 devices that it covers",
    ] {
        assert!(vetted.contains(says), "{says}\n{vetted}");
    }
    // What may shut many out comes first, and is said by an assessment too, once.
    assert!(vetted.trim_start().starts_with("warning[unknown-everywhere]"), "{vetted}");
    let assessed = env.run(&["assess", "--as-of", "2027-03-01T06:00:00Z"]);
    assert_eq!(assessed.err.matches("unknown-everywhere").count(), 1, "{}", assessed.err);
    assert!(!assessed.err.contains("unknown-word"), "{}", assessed.err);
    let quiet = env.run(&["assess", "-q", "--as-of", "2027-03-01T07:00:00Z"]);
    assert_eq!(quiet.err, "");
    assert!(env.run(&["preview"]).err.contains("unknown-everywhere"));
}

#[test]
fn verdicts_that_time_has_overtaken_are_counted_and_a_missed_assessment_comes_first() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!(
            "{STEPPED}[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"2d\"\nexpected_every = \"1d\"\n"
        ),
    );
    env.rules(&[("fine", "3d", "ok")]);
    let said = |id: &str, day: u8, ok: bool| document(id, &format!("2027-03-0{day}T05:00:00Z"), &[("ok", json!(ok))]);
    env.morning("2027-03-02T06:00:00Z", &[said("a", 1, true), said("b", 2, false)]);
    let soon = env.run(&["list", "devices", "--as-of", "2027-03-02T12:00:00Z"]);
    assert!(!soon.err.contains("Time may have changed") && !soon.out.contains("No assessment"), "{}", soon.err);
    // The state of one has grown too old on the third, that of the other on the fourth.
    let third = env.run(&["list", "devices", "--as-of", "2027-03-03T06:00:00Z"]);
    assert!(third.err.contains("Time may have changed the verdicts of 1 device since"), "{}", third.err);
    assert!(third.out.starts_with("No assessment since Tue 07:00"), "{}", third.out);
    for args in [&["access"][..], &["show", "a"], &["why", "a"], &["list", "findings"]] {
        let later = [args, &["--as-of", "2027-03-08T06:00:00Z"]].concat();
        let ran = env.run(&later);
        assert!(ran.out.starts_with("No assessment since") || ran.code != 0, "{args:?}\n{}", ran.out);
        assert!(ran.err.contains("Time may have changed the verdicts of 2 devices"), "{args:?}\n{}", ran.err);
    }
    let listed =
        env.json(&["list", "devices", "--columns", "device,past_valid_until", "--as-of", "2027-03-03T06:00:00Z"]);
    assert_eq!(listed["past_valid_until"], 1);
    let rows = listed["rows"].as_array().expect("rows").iter();
    assert_eq!(rows.map(|row| row["past_valid_until"].clone()).collect::<Vec<_>>(), [json!(true), json!(false)]);
    assert_eq!(env.json(&["show", "a", "--as-of", "2027-03-03T06:00:00Z"])["past_valid_until"], true);
    // A finding that falls due by the clock is no verdict that time has overtaken.
    env.ok(&["assess", "--as-of", "2027-03-04T06:00:00Z"]);
    assert_eq!(env.json(&["show", "b", "--as-of", "2027-03-05T06:00:00Z"])["past_valid_until"], false);
}

#[test]
fn what_was_imported_is_shown_before_it_is_assessed_and_verdicts_stay() {
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"up\" = { type = \"number\", volatile = true }\n");
    env.rules(&[("fine", "3d", "ok")]);
    let said = |day: u8, ok: bool| {
        document(
            "a",
            &format!("2027-03-0{day}T05:00:00Z"),
            &[("ok", json!(ok)), ("up", json!(day)), ("site", json!(format!("s{day}")))],
        )
    };
    env.morning("2027-03-01T06:00:00Z", &[said(1, false)]);
    env.write(
        "more.jsonl",
        format!("{}\n{}\n", said(2, true), document("b", "2027-03-02T05:00:00Z", &[("ok", json!(true))])),
    );
    env.ok(&["import", "more.jsonl", "--as-of", "2027-03-02T06:00:00Z"]);
    let shown = env.json(&["show", "a"]);
    let fact = |shown: &Json, path: &str| {
        let facts = shown["facts"].as_array().expect("facts");
        facts.iter().find(|fact| fact["fact"] == path).map(|fact| fact["value"].clone())
    };
    assert_eq!((fact(&shown, "up"), fact(&shown, "site")), (Some(json!("2")), Some(json!("s2"))));
    assert_eq!((&shown["standing"], &shown["verdicts"][0]["outcome"]), (&json!("on-notice"), &json!("fail")));
    let listed = env.json(&["list", "devices", "--columns", "device,standing,up,site"]);
    assert_eq!(listed["rows"][0], json!({ "device": "a", "standing": "on-notice", "up": 2, "site": "s2" }));
    assert_eq!(listed["rows"][1]["standing"], Json::Null);
    assert_eq!(env.json(&["try", "up", "--device", "a"])["value"], 2);
    let new = env.run(&["show", "b"]);
    assert!(new.code == 0 && new.out.contains("not assessed yet"), "{}", new.out);
    assert!(new.err.contains("imported after this assessment"), "{}", new.err);
    // The past is as it was known then.
    let then = env.json(&["show", "a", "--as-of", "2027-03-01T06:00:00Z"]);
    assert_eq!(fact(&then, "site"), Some(json!("s1")));
}

#[test]
fn moments_in_lists_compare_as_moments_and_rows_that_cannot_be_told_are_counted() {
    let env = Env::new();
    env.rules(&[("fine", "1d", "ok"), ("soon", "9d", "ok")]);
    env.morning(
        "2027-03-01T06:00:00Z",
        &[
            document("a", "2027-03-01T05:00:00Z", &[("ok", json!(false)), ("size", json!(3))]),
            document("b", "2027-02-01T05:00:00Z", &[("ok", json!(true))]),
        ],
    );
    let rules = |filter: &str| {
        let listed = env.json(&["list", "findings", "--where", filter, "--as-of", "2027-03-05T06:00:00Z"]);
        let rows = listed["rows"].as_array().expect("rows").iter().map(|row| row["rule"].clone()).collect::<Vec<_>>();
        (rows, listed["untold"].clone())
    };
    assert_eq!(rules("due < now()"), (vec![json!("fine")], json!(0)));
    assert_eq!(rules("opened <= @\"2027-03-01T06:00:00Z\" and due > now()"), (vec![json!("soon")], json!(0)));
    let devices = |filter: &str| env.json(&["list", "devices", "--where", filter]);
    let old = devices("collected_at < now() - duration(\"P7D\")");
    assert_eq!((&old["rows"][0]["device"], &old["rows"][1]), (&json!("b"), &Json::Null));
    let told = devices("size > 2");
    assert_eq!((told["rows"].as_array().map(Vec::len), &told["untold"]), (Some(1), &json!(1)));
    let ran = env.run(&["list", "devices", "--where", "size > 2"]);
    assert!(ran.err.contains("1 of 2 devices; of 1 it could not be told"), "{}", ran.err);
}

#[test]
fn an_import_tells_of_wrong_types_unknown_holders_and_other_spellings() {
    let env = Env::new();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}[[source]]\nid = \"agents\"\nfiles = [\"s*.jsonl\"]\n[[source]]\nid = \"hands\"\nfiles = [\"p*.jsonl\"]\nperson = \"id\"\n"),
    );
    env.write("facts.toml", "[facts]\n\"lock.minutes\" = { type = \"number\" }\n");
    env.rules(&[("lock", "1d", "lock.minutes <= 9")]);
    env.write("p.jsonl", "{\"id\":\"ann\"}\n");
    let at = "2027-03-01T05:00:00Z";
    let said = |id: &str, who: &str, minutes: Json| {
        format!("{}\n", document(id, at, &[("person", json!(who)), ("lock", json!({ "minutes": minutes }))]))
    };
    env.write(
        "s1.jsonl",
        said("tern-1", "ann", json!("5 min")) + &said("tern-2", "bob", json!("n/a")) + &said("tern-3", "ann", json!(4)),
    );
    env.ok(&["import", "p.jsonl", "--as-of", at]);
    for args in [&["import", "--dry-run", "s1.jsonl", "--as-of", at][..], &["import", "s1.jsonl", "--as-of", at]] {
        let told = env.ok(args);
        assert!(told.contains("lock.minutes: 2 values are no number, such as 5 min"), "{told}");
        assert!(told.contains("1 holder is on no list of people: bob"), "{told}");
    }
    env.write("s2.jsonl", said("TERN-1.ferry.example", "ann", json!(4)));
    let told = env.ok(&["import", "s2.jsonl", "--as-of", at]);
    assert!(told.contains("spelling alone: TERN-1.ferry.example and tern-1"), "{told}");
}

#[test]
fn of_a_list_of_names_the_offenders_are_told_and_the_allowed_ones_counted() {
    let env = Env::new();
    let names: Vec<String> = (0..40).map(|at| format!("\"tool-{at}*\"")).collect();
    env.write(
        "baselines/b.toml",
        format!("id = \"b\"\ngroups = [\"every-device\"]\n[software]\nfrom = \"software.name\"\nmay = [{}]\nothers = \"fail\"\n", names.join(", ")),
    );
    let software: Vec<Json> = (0..9)
        .map(|at| json!({ "name": if at < 7 { format!("minerd-{at}") } else { format!("tool-{at}") } }))
        .collect();
    env.morning("2027-03-01T06:00:00Z", &[document("a", "2027-03-01T05:00:00Z", &[("software", json!(software))])]);
    let why = env.ok(&["why", "a"]);
    assert!(why.contains("named by nobody: minerd-0, minerd-1, minerd-2, minerd-3, minerd-4, and 2 more"), "{why}");
    assert!(why.contains("one of the 40 that are named"), "{why}");
    assert!(why.lines().count() < 16 && !why.contains("tool-"), "{why}");
}

#[test]
fn a_history_tells_what_was_noted_in_its_order() {
    let env = Env::new();
    let rules = |id: &str, was: &str, grace: &str| {
        format!(
            "[[rule]]\nid = \"{id}\"\n{was}groups = [\"every-device\"]\ngrace = \"{grace}\"\nrequire = 'ok'\nfix = \"Mend.\"\n"
        )
    };
    env.write("rules/r.toml", rules("fine", "", "2d"));
    let said = |day: u8, ok: bool| [document("a", &format!("2027-03-{day:02}T05:00:00Z"), &[("ok", json!(ok))])];
    let at = |day: u8| format!("2027-03-{day:02}T06:00:00Z");
    env.morning(&at(1), &said(1, false));
    // A longer grace moves the due moment, a new name is no new finding.
    env.write("rules/r.toml", rules("good", "was = [\"fine\"]\n", "4d"));
    env.morning(&at(2), &said(2, false));
    env.morning(&at(6), &said(6, true));
    env.morning(&at(8), &said(8, false));
    let told = env.json(&["history", "a"]);
    let events: Vec<String> = told["events"]
        .as_array()
        .expect("events")
        .iter()
        .filter(|event| event["rule"].is_string())
        .map(|event| {
            let text =
                |key: &str| event[key].as_str().map(|text| text[..text.len().min(10)].to_owned()).unwrap_or_default();
            format!("{} {} {} {} {}", text("at"), event["assessment"], text("what"), text("rule"), text("because"))
        })
        .collect();
    assert_eq!(
        events,
        [
            "2027-03-01 1 opened fine ",
            "2027-03-02 2 renamed good ",
            "2027-03-02 2 due-moved good ",
            "2027-03-05 3 fell-due good ",
            "2027-03-06 3 closed good fixed",
            "2027-03-08 4 came-back good ",
            "2027-03-08 4 fell-due good ",
        ]
    );
    // What fell due by the clock since is told too, and never after it closed.
    env.ok(&["assess", "--as-of", &at(9)]);
    assert_eq!(env.json(&["history", "a"])["events"].as_array().map(Vec::len), told["events"].as_array().map(Vec::len));
}
