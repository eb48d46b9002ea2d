//! Pages of rules, baselines, services and groups, and figures over time: what the formats say alike, and what is refused.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED, shown_by_the_demo};
use crate::readme::words;

const RULES: &str = r#"
[[rule]]
id = "encrypted"
groups = ["every-device"]
except = [{ group = "spare", because = "in a drawer" }]
require = "encrypted"
grace = "1d"

[[rule]]
id = "mail"
groups = ["every-device"]
stage = "trial"
require = "free >= 10"
controls = ["Order 9"]

[[rule]]
id = "planned"
groups = ["every-device"]
stage = "draft"
require = "free >= 100"
"#;

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }]
[[access]]
id = "in-order"
services = ["mail"]
needs = 'not(failing("encrypted"))'
"#;

fn device(id: &str, day: u8, encrypted: bool, free: u32) -> String {
    let said = json!({
        "device": id, "collected_at": format!("2027-03-{day:02}T05:00:00Z"), "platform": "linux", "site": "x",
        "encrypted": encrypted, "free": free, "person": format!("p-{id}"), "apps": [{ "name": "guard", "version": "1" }],
    });
    format!("{said}\n")
}

/// Three devices over three days: one stops being encrypted on the second and is overdue on the third.
fn fleet() -> Env {
    let env = Env::new();
    let source = "fence_by = \"site\"\n[[source]]\nid = \"agents\"\nfiles = [\"a*.jsonl\"]\n";
    env.write("fencepost.toml", format!("{STEPPED}{source}"));
    env.write("groups.toml", "[[group]]\nid = \"spare\"\nmembers = [\"c\"]\n");
    env.write("rules/test.toml", RULES);
    env.write("access.toml", ACCESS);
    env.write("facts.toml", "[facts]\napps = { type = \"list\", key = \"name\" }\n");
    for (day, encrypted) in [(1, true), (2, false), (4, false)] {
        let all = [("a", encrypted, 20), ("b", true, 5), ("c", false, 20)];
        let lines: String = all.iter().map(|(id, encrypted, free)| device(id, day, *encrypted, *free)).collect();
        env.write(&format!("a{day}.jsonl"), lines);
        let at = format!("2027-03-{day:02}T06:00:00Z");
        env.ok(&["import", &format!("a{day}.jsonl"), "--as-of", &at]);
        env.ok(&["assess", "--as-of", &at]);
    }
    env
}

/// The rows that a command prints as lines of JSON, and the same of CSV: under each heading the text of the value.
fn in_every_format(env: &Env, args: &[&str]) -> Vec<Json> {
    let with = |format: &'static str| env.ok(&[args, &["--format", format]].concat());
    let lines: Vec<Json> = with("jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let csv = with("csv");
    let mut sheet = csv.trim_start_matches('\u{feff}').lines();
    let columns: Vec<&str> = sheet.next().unwrap().trim_end().split(',').collect();
    let rows: Vec<Vec<&str>> = sheet.map(|line| line.trim_end().split(',').collect()).collect();
    assert_eq!(rows.len(), lines.len(), "{args:?}");
    for (row, line) in rows.iter().zip(&lines) {
        for (column, cell) in columns.iter().zip(row).filter(|(_, cell)| !cell.contains(['"', '['])) {
            let value = match &line[column] {
                Json::Null => String::new(),
                Json::String(text) => text.clone(),
                other => other.to_string(),
            };
            assert_eq!(*cell, value, "{args:?}: {column} of {line}");
        }
    }
    lines
}

#[test]
fn the_page_of_a_rule_says_the_same_in_every_format() {
    let env = fleet();
    let page = env.json(&["show", "encrypted"]);
    assert_eq!((&page["rule"], &page["stage"], &page["line"]), (&json!("encrypted"), &json!("enforced"), &json!(3)));
    let counts = &page["counts"];
    let numbers =
        ["pass", "fail", "unknown", "not_applicable", "waived", "excepted"].map(|key| counts[key].as_u64().unwrap());
    assert_eq!((numbers, &page["share"]), ([1, 1, 0, 1, 0, 1], &json!(0.5)));
    assert_eq!(page["by_platform"][0]["platform"], "linux");
    assert_eq!((&page["by_platform"][0]["devices"], &page["excepted"][0]["device"]), (&json!(2), &json!("c")));
    assert_eq!((&page["excepted"][0]["because"], &page["excepted"][0]["until"]), (&json!("in a drawer"), &Json::Null));
    assert_eq!(page["shut_out"], json!([{ "person": "p-a", "service": "mail" }]));
    let trend: Vec<&Json> = page["trend"].as_array().unwrap().iter().map(|then| &then["fail"]).collect();
    assert_eq!(trend, [&json!(0), &json!(1), &json!(1)]);
    let lines = in_every_format(&env, &["show", "encrypted"]);
    let plain: Vec<Json> = page["devices"].as_array().unwrap().clone();
    assert_eq!(lines.len(), 1);
    for (line, row) in lines.iter().zip(&plain) {
        for (key, value) in row.as_object().unwrap() {
            assert_eq!(&line[key], value);
        }
    }
    let table = env.ok(&["show", "encrypted"]);
    for said in
        ["1 of 2 devices meet it (50 %)", "1 excepted", "overdue since", "of Mail: p-a", "in a drawer (group spare)"]
    {
        assert!(table.contains(said), "{said}: {table}");
    }
    // What stands below comes to what stands above.
    let filter = "rule = \"encrypted\" and outcome = \"fail\"";
    assert_eq!(env.json(&["list", "verdicts", "--where", filter])["rows"].as_array().unwrap().len(), 1);
}

#[test]
fn an_id_of_several_things_is_asked_about() {
    let env = fleet();
    env.fails(&["show", "mail"], 2, &["`mail` is the id of a rule and of a service", "--kind rule, --kind service"]);
    let service = env.json(&["show", "mail", "--kind", "service"]);
    assert_eq!((&service["service"], &service["default"]), (&json!("mail"), &json!("deny")));
    assert_eq!(service["counts"], json!({ "permit": 2, "limited": 0, "deny": 1, "by_default": 0 }));
    let denied: Vec<&Json> =
        service["decisions"].as_array().unwrap().iter().filter(|row| row["decision"] == "deny").collect();
    assert_eq!(denied.len(), 1);
    assert_eq!(
        (&denied[0]["device"], &denied[0]["person"], &denied[0]["client"]),
        (&json!("a"), &json!("p-a"), &json!("app"))
    );
    assert_eq!(denied[0]["causes"][0]["rule"], "encrypted");
    in_every_format(&env, &["show", "mail", "--kind", "service"]);
    let rule = env.json(&["show", "mail", "--kind", "rule"]);
    assert_eq!(
        (&rule["stage"], &rule["counts"]["fail"], &rule["controls"]),
        (&json!("trial"), &json!(1), &json!(["Order 9"]))
    );
    env.fails(&["show", "mial", "--kind", "service"], 2, &["there is no service `mial`", "did you mean `mail`?"]);
    env.fails(&["show", "x", "--kind", "planet"], 2, &["planet"]);
    // A draft is told with what it would say.
    let draft = env.json(&["show", "planned"]);
    assert_eq!(
        (&draft["basis"], &draft["stage"], &draft["counts"]["fail"]),
        (&json!("draft"), &json!("draft"), &json!(3))
    );
    assert!(env.ok(&["show", "planned"]).contains("nobody is judged by it yet"));
    let group = env.json(&["show", "spare"]);
    assert_eq!(group["devices"], json!([{ "device": "c", "standing": "unproven", "by_waiver": false }]));
    assert_eq!(group["standings"]["unproven"], 1);
    in_every_format(&env, &["show", "spare"]);
}

#[test]
fn a_rule_that_was_written_after_the_assessment_is_told_as_the_next_would() {
    let env = fleet();
    env.write("rules/more.toml", "[[rule]]\nid = \"more\"\ngroups = [\"every-device\"]\nrequire = \"free >= 6\"\n");
    let page = env.json(&["show", "more"]);
    assert_eq!(
        (&page["basis"], &page["counts"]["fail"], &page["trend"][0]["fail"]),
        (&json!("new"), &json!(1), &Json::Null)
    );
    assert!(env.ok(&["show", "more"]).contains("newer than the last assessment"));
}

#[test]
fn figures_over_time_say_the_same_in_every_format() {
    let env = fleet();
    let history = env.json(&["history"]);
    let rows = history["assessments"].as_array().unwrap();
    let column = |key: &str| rows.iter().map(|row| row[key].clone()).collect::<Vec<_>>();
    // One device is covered by nothing, which has no grace.
    assert_eq!(column("overdue"), [json!(1), json!(1), json!(2)]);
    assert_eq!(column("shut_out"), [json!(0), json!(1), json!(1)]);
    assert_eq!(column("fell_due"), [json!(0), json!(0), json!(1)]);
    for args in [
        &["history"][..],
        &["history", "--rule", "encrypted"],
        &["history", "--group", "every-device"],
        &["history", "--service", "mail"],
        &["history", "--per", "week"],
    ] {
        let lines = in_every_format(&env, args);
        let document = env.json(args);
        assert_eq!(document["assessments"].as_array().unwrap().len(), lines.len(), "{args:?}");
        for (row, line) in document["assessments"].as_array().unwrap().iter().zip(&lines) {
            assert_eq!(row, line, "{args:?}");
        }
    }
    // The first of March is a Monday: one week with all that happened in it.
    let week = &env.json(&["history", "--per", "week"])["assessments"];
    assert_eq!((week.as_array().unwrap().len(), &week[0]["assessment"], &week[0]["opened"]), (1, &json!(3), &json!(2)));
    assert_eq!(
        env.json(&["history", "--per", "day", "--last", "2"])["assessments"][0]["as_of"],
        "2027-03-02T06:00:00Z"
    );
    env.fails(&["history", "--rule", "encryptid"], 2, &["no rule `encryptid`", "did you mean `encrypted`?"]);
    env.fails(&["history", "--group", "spares"], 2, &["no group `spares`", "did you mean `spare`?"]);
    env.fails(&["history", "--rule", "encrypted", "--group", "spare"], 2, &["cannot be used with"]);
}

#[test]
fn two_moments_are_compared_and_an_edit_is_told_from_the_rest() {
    let env = fleet();
    let since = env.json(&["history", "--since", "2027-03-01T06:00:00Z"]);
    assert_eq!((&since["from"], &since["to"]), (&json!("2027-03-01T06:00:00Z"), &json!("2027-03-04T06:00:00Z")));
    assert_eq!((&since["opened"][0]["device"], &since["opened"][0]["rule"]), (&json!("a"), &json!("encrypted")));
    assert_eq!((&since["lost"][0]["person"], &since["lost"][0]["service"]), (&json!("p-a"), &json!("mail")));
    assert_eq!((&since["closed"], &since["edited"], &since["came_and_went"]), (&json!([]), &json!([]), &json!(0)));
    env.write("rules/test.toml", RULES.replace("free >= 10\"", "free >= 25\""));
    env.ok(&["assess", "--as-of", "2027-03-04T07:00:00Z"]);
    let since = env.json(&["history", "--since", "2027-03-04T06:30:00Z"]);
    let edited = json!([{ "kind": "rule", "id": "mail", "change": "edited", "verdicts_turned": 2 }]);
    assert_eq!((&since["edited"], &since["opened"], &since["lost"]), (&edited, &json!([]), &json!([])));
    assert!(env.ok(&["history", "--since", "2027-03-04T06:30:00Z"]).contains("that alone turned 2 verdicts"));
    in_every_format(&env, &["history", "--since", "2027-03-01T06:00:00Z"]);
    env.fails(&["history", "--since", "2027-02-01"], 2, &["nothing was assessed at or before"]);
    env.fails(&["history", "--since", "2028-02-01"], 2, &["is later than"]);
}

#[test]
fn lists_name_the_columns_that_they_have_and_refuse_others() {
    let env = fleet();
    for (args, said) in [
        (&["list", "devices", "--by", "sitte"][..], &["no column and no fact `sitte`", "did you mean `site`?"][..]),
        (
            &["list", "devices", "--columns", "device,free,fre"],
            &["no column and no fact `fre`", "did you mean `free`?"],
        ),
        (&["list", "devices", "--sort", "fre"], &["no column and no fact `fre`"]),
        (&["list", "rules", "--by", "stages"], &["no column `stages`", "did you mean `stage`?"]),
        (&["list", "items", "app"], &["no device reports `app` as a list", "did you mean `apps`?"]),
        (&["list", "items"], &["of which list", "lists are apps"]),
        (&["list", "rules", "apps"], &["a fact and --unnamed are of items"]),
        (&["list", "devices", "--unnamed"], &["a fact and --unnamed are of items"]),
    ] {
        env.fails(args, 2, said);
    }
    assert_eq!(env.json(&["list", "devices", "--sort", "free"])["rows"][0]["device"], "b");
    let help = env.ok(&["list", "rules", "--columns", "help"]);
    assert!(help.contains("pass and waived, of all that it covers") && help.contains("enforced_from"), "{help}");
    let untold = env.json(&["list", "verdicts", "--where", "due < now()"]);
    assert_eq!((&untold["untold"], &untold["untold_because"]), (&json!(4), &json!({ "no-value": 4 })));
    let items = env.json(&["list", "items", "apps"]);
    let expected = json!({
        "item": "guard", "devices": 3, "share": 1.0, "versions": ["1"], "first_seen": "2027-03-01T05:00:00Z",
        "named": "none", "named_by": [],
    });
    assert_eq!(items["rows"], json!([expected]));
    let sites = env.json(&["list", "sites"]);
    assert_eq!(
        (&sites["rows"][0]["site"], &sites["rows"][0]["count"], &sites["rows"][0]["part"]),
        (&json!("x"), &json!(3), &json!(1.0))
    );
}

/// The command that a summary of the demo ends with.
fn next_of(args: &[&str]) -> Option<Vec<String>> {
    let shown = shown_by_the_demo(args);
    let line = shown.lines().last()?.strip_prefix("Next: fencepost ")?;
    // Some tell several, with two spaces between.
    Some(words(line.split("  fencepost ").next()?))
}

#[test]
fn a_summary_ends_with_a_command_that_goes_deeper() {
    let summaries: [&[&str]; 30] = [
        &["list", "devices"],
        &["list", "facts"],
        &["list", "items", "software"],
        &["list", "sites"],
        &["list", "rules"],
        &["list", "baselines"],
        &["list", "families"],
        &["list", "coverage"],
        &["list", "groups"],
        &["list", "verdicts"],
        &["list", "findings"],
        &["list", "waivers"],
        &["list", "people"],
        &["list", "services"],
        &["list", "access"],
        &["list", "assessments"],
        &["list", "bundles"],
        &["list", "devices", "--by", "platform,ownership"],
        &["list", "verdicts", "--by", "outcome", "--where", "stage = \"trial\""],
        &["show", "laptop-lock"],
        &["show", "watch-lock"],
        &["show", "kiosk"],
        &["show", "mail"],
        &["show", "kiosks"],
        &["history"],
        &["history", "--rule", "laptop-lock"],
        &["history", "--since", "2027-03-11"],
        &["access"],
        &["drift"],
        &["drift", "kiosks"],
    ];
    for summary in summaries {
        let next = next_of(summary).unwrap_or_else(|| panic!("{summary:?} ends with nothing"));
        let args: Vec<&str> = next.iter().map(String::as_str).collect();
        let below = shown_by_the_demo(&args);
        assert!(!below.contains("[exit"), "{summary:?} ends with {next:?}: {below}");
    }
}

#[test]
fn what_is_counted_is_as_many_rows_as_the_command_below_lists() {
    for args in [
        &["list", "devices", "--by", "platform,ownership"][..],
        &["list", "devices", "--by", "os.version"],
        &["list", "sites"],
        &["list", "verdicts", "--by", "outcome,stage"],
        &["list", "findings", "--by", "rule", "--where", "severity = \"high\""],
        &["list", "items", "software"],
        &["list", "items", "disks"],
        &["list", "items", "person"],
    ] {
        let counted = shown_by_the_demo(&[args, &["--format", "json"]].concat());
        let counted: Json = serde_json::from_str(counted.split_once('\n').unwrap().1).unwrap();
        let next = next_of(args).unwrap();
        let below: Vec<&str> = next.iter().map(String::as_str).chain(["--format", "json"]).collect();
        let below = shown_by_the_demo(&below);
        let below: Json = serde_json::from_str(below.split_once('\n').unwrap().1).unwrap();
        let rows = below["rows"].as_array().unwrap().len();
        let first = &counted["rows"][0];
        let count = first.get("count").unwrap_or(&first["devices"]);
        assert_eq!(count, rows, "{args:?}, {next:?}");
    }
}
