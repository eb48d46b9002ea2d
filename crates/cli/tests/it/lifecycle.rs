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
