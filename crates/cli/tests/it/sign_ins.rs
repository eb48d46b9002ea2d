//! Single sign-ins: explained.

use std::fs;

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const ACCESS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }, { client = "browser" }]

[[service]]
id = "wiki"
title = "Handbook"
default = "permit"
usual = [{ client = "browser" }, { id = "elsewhere", client = "browser", known = false }]

[[access]]
id = "good"
services = ["mail"]
people = ["ships"]
when = 'signin.client = "app"'
needs = 'standing in ("compliant", "on-notice") and dry'
tell = "Your {{ device.kind }} of {{ person.unit }} cannot reach {{ service.title }}: {{ findings }}, {{ device.no.such }}."

[[access]]
id = "inside"
services = ["mail"]
when = 'signin.client = "browser"'
unless = 'in network(signin.address, "10.0.0.0/8")'
needs = 'device.known and device.managed'
otherwise = { limits = ["no download"] }

[[access]]
id = "next"
stage = "trial"
services = ["mail"]
needs = 'signin.platform = "ios"'

[[access]]
id = "ours"
services = ["wiki"]
needs = 'device.registered'
otherwise = { step_up = true }
"#;

fn env() -> Env {
    let env = Env::new();
    let sources = "[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"5d\"\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env.write("people.csv", "id,name,unit\np1,Brobek,ships/tern\np2,Drafonn,office\np3,Drafonn,ships\n");
    env.write("access.toml", ACCESS);
    env.rules(&[("fine", "1d", "ok")]);
    env.ok(&["import", "people.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    let device = |id: &str, ok: bool, person: &str| json!({"device": id, "collected_at": "2027-03-01T05:00:00Z", "ok": ok, "dry": true, "kind": "tablet", "platform": "android", "person": person});
    let mut doubtful = device("b", true, "p2");
    doubtful.as_object_mut().unwrap().remove("dry");
    env.morning("2027-03-01T06:00:00Z", &[device("a", false, "p1"), doubtful]);
    env
}

fn explained(env: &Env, args: &[&str]) -> Json {
    env.json(&[&["access", "explain"], args].concat())
}

fn became(found: &Json) -> Vec<String> {
    let rules = found["rules"].as_array().expect("rules").iter();
    let word = |rule: &Json, key: &str| rule[key].as_str().unwrap().to_owned();
    rules.map(|rule| format!("{} {} {}", word(rule, "access_rule"), word(rule, "became"), rule["counts"])).collect()
}

#[test]
fn every_access_rule_says_what_became_of_it() {
    let env = env();
    let found = explained(&env, &["--device", "a", "--service", "Mail"]);
    assert_eq!((&found["decision"], &found["signin"]["person"]), (&json!("permit"), &json!("p1")));
    assert_eq!(
        became(&found),
        ["good met true", "inside not-applicable false", "next unmet false", "ours not-targeted false"]
    );
    // A day later its grace is over.
    let found = explained(&env, &["--device", "a", "--service", "mail", "--at", "2027-03-02T06:00:00Z"]);
    assert_eq!((&found["decision"], &found["access_rules"]), (&json!("deny"), &json!(["good"])));
    assert_eq!((&found["causes"][0]["cause"], &found["causes"][0]["rule"]), (&json!("finding"), &json!("fine")));
    assert_eq!(found["tell"], "Your tablet of ships/tern cannot reach Mail: fine, (not known).");
    // Somebody of whom nobody is sure, with a device of which nobody knows whether it is dry.
    let found = explained(&env, &["--device", "b", "--person", "p3", "--service", "mail"]);
    assert_eq!((&found["decision"], &found["rules"][0]["became"]), (&json!("deny"), &json!("unknown")));
    assert_eq!(
        (&found["causes"][0]["cause"], &found["causes"][0]["fact"]),
        (&json!("condition"), &json!("dry")),
        "{found}"
    );
}

#[test]
fn addresses_and_platforms_and_strange_devices_are_asked_about() {
    let env = env();
    let browser = ["--device", "a", "--service", "mail", "--client", "browser"];
    let with = |more: &[&str]| explained(&env, &[&browser, more].concat());
    let inside = with(&["--address", "10.1.2.3"]);
    assert_eq!((&inside["rules"][1]["became"], &inside["decision"]), (&json!("excused"), &json!("deny")));
    assert_eq!(with(&["--address", "192.0.2.7"])["rules"][1]["became"], "met");
    // From where is not known: it counts where that is the stricter.
    let unknown = with(&[]);
    assert_eq!((&unknown["rules"][1]["became"], &unknown["rules"][1]["counts"]), (&json!("unknown"), &json!(false)));
    let unmanaged = with(&["--address", "192.0.2.7", "--not-managed"]);
    assert_eq!((&unmanaged["limits"], &unmanaged["rules"][1]["became"]), (&json!(["no download"]), &json!("unmet")));
    assert_eq!(with(&["--platform", "ios"])["rules"][2]["became"], "met");
    let strange = explained(&env, &["--strange", "--person", "p1", "--service", "wiki"]);
    assert_eq!((&strange["step_up"], &strange["signin"]["known"]), (&json!(true), &json!(false)));
    assert_eq!((&strange["signin"]["registered"], &strange["signin"]["managed"]), (&json!(false), &json!(false)));
    let strange = explained(&env, &["--strange", "--person", "p1", "--service", "mail"]);
    assert_eq!((&strange["decision"], &strange["rules"][0]["became"]), (&json!("deny"), &json!("unknown")));
    env.write("made-up.json", "{\"ok\": true, \"dry\": true}");
    let made_up = explained(&env, &["--facts", "made-up.json", "--person", "p1", "--service", "mail"]);
    assert_eq!((&made_up["decision"], &made_up["signin"]["known"]), (&json!("permit"), &json!(true)));
}

#[test]
fn a_usual_sign_in_with_a_strange_device_is_decided_as_such() {
    let env = env();
    let shown = env.json(&["show", "a"]);
    let wiki: Vec<String> = shown["access"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["service"] == "wiki")
        .map(|row| format!("{} {}", row["client"], row["decision"]).replace('"', ""))
        .collect();
    assert_eq!(wiki, ["browser permit", "elsewhere permit with step-up"]);
}

#[test]
fn what_is_explained_is_what_an_assessment_decided() {
    let env = Env::new();
    env.ok(&["demo", "ferry"]);
    let run = |args: &[&str]| {
        let output = env.command(args).current_dir(env.path("ferry")).output().expect("the binary runs");
        serde_json::from_slice::<Json>(&output.stdout).expect("JSON")
    };
    for device in ["puffin-bridge-1", "office-laptop-9", "tern-phone-5", "ness-pier-tickets", "gannet-phone-2"] {
        let shown = run(&["show", device, "--format", "json"]);
        let rows = shown["access"].as_array().expect("access");
        assert!(rows.len() >= 5, "{device}");
        for row in rows {
            let text = |key: &str| row[key].as_str().unwrap_or_default();
            let mut args =
                vec!["access", "explain", "--device", device, "--service", text("service"), "--client", text("client")];
            if !text("person").is_empty() {
                args.extend(["--person", text("person")]);
            }
            let found = run(&[&args[..], &["--format", "json"]].concat());
            let asked: Vec<&str> = found["obligations"].as_array().unwrap().iter().filter_map(Json::as_str).collect();
            let asked = if asked.is_empty() { String::new() } else { format!(" with {}", asked.join(", ")) };
            let decision = format!("{}{asked}", found["decision"].as_str().unwrap());
            assert_eq!(decision, text("decision"), "{device}: {row}");
        }
    }
}

#[test]
fn what_cannot_be_asked_is_told_with_a_remedy() {
    let env = env();
    let fails = |args: &[&str], words: &[&str]| env.fails(&[&["access", "explain"], args].concat(), 2, words);
    fails(&["--device", "a", "--service", "post"], &["no service `post`", "mail, wiki"]);
    fails(&["--device", "zz", "--service", "mail"], &["zz"]);
    fails(&["--device", "a", "--person", "Drafonn", "--service", "mail"], &["2 people", "p2, p3"]);
    fails(&["--device", "a", "--person", "b", "--service", "mail"], &["is a device"]);
    fails(&["--service", "mail"], &["--device"]);
    env.write("not.json", "[1");
    fails(&["--facts", "not.json", "--service", "mail"], &["one JSON object"]);
    assert_eq!(
        explained(&env, &["--device", "a", "--person", "brobek", "--service", "mail"])["signin"]["person"],
        "p1"
    );
    env.write("access.toml", ACCESS.replace("{{ findings }}", "{{ finding }}"));
    let vetted = env.run(&["vet"]).out;
    for words in ["bad-template", "no `finding` to fill in", "device, person, service, findings"] {
        assert!(vetted.contains(words), "{vetted}");
    }
}

#[test]
fn lists_of_services_and_access_rules_count_each_pair_once() {
    let env = env();
    env.write(
        "access.toml",
        ACCESS.replace("people = [\"ships\"]\n", "")
            + "\n[[access]]\nid = \"draft\"\nstage = \"draft\"\nservices = [\"mail\"]\nneeds = 'false'\n",
    );
    env.ok(&["assess", "--as-of", "2027-03-01T07:00:00Z"]);
    let services = env.json(&["list", "services"]);
    let counts: Vec<String> = services["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| ["service", "permit", "limited", "deny"].map(|key| row[key].to_string().replace('"', "")).join(" "))
        .collect();
    // a reaches the mail by its app; of b nobody knows whether it is dry, and from where a browser comes.
    assert_eq!(counts, ["mail 1 0 1", "wiki 2 0 0"]);
    let access = env.json(&["list", "access"]);
    let columns = ["access_rule", "stage", "people", "devices", "permitted", "reduced", "denied"];
    let rows: Vec<String> = access["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| columns.map(|key| row[key].to_string().replace('"', "")).join(" "))
        .collect();
    assert_eq!(
        rows,
        [
            "good enforced 2 2 1 0 1",
            "inside enforced 0 0 0 0 0",
            "next trial 2 2 0 0 2",
            "ours enforced 2 2 0 2 0",
            "draft draft 2 2 0 0 2",
        ]
    );
}

#[test]
fn readiness_says_who_would_be_shut_out_before_a_rule_is() {
    let env = env();
    env.write("people.csv", "id,name,unit,mail,enrolled\np1,Brobek,ships/tern,b@x.example,no\np2,Drafonn,ships,d@x.example,yes\np3,Kolm,office,k@x.example,\n");
    env.write("rules/test.toml", "[[rule]]\nid = \"fine\"\ngroups = [\"every-device\"]\nrequire = 'ok'\ngrace = \"1d\"\n\n[[rule]]\nid = \"cool\"\nstage = \"trial\"\ngrace = \"30d\"\ngroups = [\"every-device\"]\nrequire = 'cold'\nfix = \"Cool it.\"\n");
    let rules = "\n[[access]]\nid = \"proof\"\nstage = \"draft\"\nservices = [\"wiki\"]\nneeds = 'not(warm)'\notherwise = { step_up = true }\n";
    env.write(
        "access.toml",
        ACCESS.replace("and dry", "").replace("client = \"app\" }, {", "client = \"app\" }, #").replace("#", "{")
            + rules,
    );
    env.ok(&["import", "people.csv", "--as-of", "2027-03-02T05:30:00Z"]);
    let device = |id: &str, person: &str, cold: Json, warm: bool| json!({"device": id, "collected_at": "2027-03-02T05:00:00Z", "ok": true, "cold": cold, "warm": warm, "platform": "android", "model": "T10", "person": person});
    env.morning(
        "2027-03-02T06:00:00Z",
        &[
            device("a", "p1", json!(false), true),
            device("b", "p2", json!(false), true),
            device("c", "p2", json!(true), false),
            device("d", "p3", Json::Null, true),
        ],
    );
    let found = env.json(&["access", "readiness", "cool"]);
    assert_eq!(found["devices"], json!({ "ready": 1, "not_ready": 2, "unknown": 1 }));
    // One of them keeps another device that is cold.
    assert_eq!(
        (&found["people"]["denied"], &found["people"]["call_first"], &found["calls"]),
        (&json!(2), &json!(1), &json!(2))
    );
    assert_eq!(found["by"][0], json!({ "platform": "android", "model": "T10", "unit": "office", "not_ready": 1 }));
    let first = &found["not_ready"][0];
    assert_eq!((&first["device"], &first["person"], &first["denied"]), (&json!("a"), &json!("p1"), &json!(["Mail"])));
    let causes: Vec<&Json> = first["causes"].as_array().unwrap().iter().map(|cause| &cause["rule"]).collect();
    assert_eq!(causes, ["cool"]);
    // An access rule that is a draft: who is not enrolled in what it asks for.
    let found = env.json(&["access", "readiness", "proof"]);
    assert_eq!(found["devices"], json!({ "ready": 1, "not_ready": 3, "unknown": 0 }));
    assert_eq!((&found["people"]["step_up_not_enrolled"], &found["people"]["denied"]), (&json!(2), &json!(0)));
    let csv = env.ok(&["access", "readiness", "proof", "--format", "csv"]);
    assert!(csv.contains("p1,Brobek,b@x.example,,,ships/tern,a,android,T10,,Handbook,,false"), "{csv}");
    // What is foreseen comes when it is enforced.
    let rules = std::fs::read_to_string(env.path("rules/test.toml")).unwrap();
    env.write("rules/test.toml", rules.replace("stage = \"trial\"\ngrace = \"30d\"\n", ""));
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    let lost = env.json(&["access"]);
    let who: Vec<&Json> = lost["lost"].as_array().unwrap().iter().map(|entry| &entry["device"]).collect();
    assert_eq!(who, ["a", "b"]);
    assert_eq!(lost["summary"]["call_first"], 1);
    env.fails(&["access", "readiness", "col"], 2, &["no rule, baseline or access rule `col`", "did you mean `cool`"]);
}

fn logged(lines: &[Json]) -> String {
    lines.iter().map(|line| format!("{line}\n")).collect()
}

#[test]
fn a_log_is_decided_by_the_state_at_each_sign_ins_own_moment() {
    let env = env();
    let device = |ok: bool| json!({"device": "a", "collected_at": "2027-03-03T05:00:00Z", "ok": ok, "dry": true, "kind": "tablet", "platform": "android", "person": "p1"});
    env.morning("2027-03-03T06:00:00Z", &[device(true)]);
    let line = |at: &str, more: Json| {
        let mut line = json!({"at": at, "person": "p1", "device": "a", "service": "mail", "client": "app"});
        line.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        line
    };
    let lines = [
        line("2027-03-01T08:00:00Z", json!({"effect": "permit"})),
        // The grace is over a day after the finding was opened, and it is closed by the next assessment.
        line("2027-03-02T05:59:59Z", json!({"effect": "permit"})),
        line("2027-03-02T06:00:00Z", json!({"effect": "permit"})),
        line("2027-03-03T06:00:00Z", json!({"effect": "deny"})),
        line("2027-03-03T06:00:00Z", json!({"client": "browser", "address": "10.0.0.1", "effect": "deny"})),
        line("2027-03-03T06:00:00Z", json!({"client": "browser", "address": "192.0.2.1"})),
        line("2027-03-03T06:00:00Z", json!({"device": "unheard-of", "service": "wiki", "client": "browser"})),
        line("2027-03-03T06:00:00Z", json!({"device": null, "person": "Brobek", "service": "wiki"})),
    ];
    env.write("log.jsonl", logged(&lines));
    let found = env.json(&["access", "replay", "log.jsonl"]);
    assert_eq!((&found["signins"], &found["bad_lines"]), (&json!(8), &json!([])));
    assert_eq!(found["effects"], json!({ "permit": 4, "reduced": 2, "deny": 2 }));
    let surprises: Vec<String> = found["surprises"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!("{} {} {} {}", one["line"], one["recorded"], one["effect"], one["causes"][0]["rule"])
                .replace('"', "")
        })
        .collect();
    assert_eq!(surprises, ["3 permit deny fine", "4 deny permit null"]);
    let columns = ["access_rule", "targeted", "excused", "met", "unmet", "unknown"];
    let rules: Vec<String> = found["rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|rule| columns.map(|key| rule[key].to_string().replace('"', "")).join(" "))
        .collect();
    assert_eq!(rules, ["good 6 0 3 1 0", "inside 6 1 1 0 0", "next 6 0 0 6 0", "ours 2 0 0 2 0"]);
    assert_eq!((&found["unmatched"], &found["unknown_devices"]), (&json!(1), &json!(["unheard-of"])));
    // The rules of today are the stricter ones; those of then are asked for.
    env.write("access.toml", ACCESS.replace("standing in (\"compliant\", \"on-notice\") and dry", "false"));
    let strict = env.json(&["access", "replay", "log.jsonl"]);
    assert_eq!(strict["effects"]["deny"], 5);
    assert_eq!(env.json(&["access", "replay", "log.jsonl", "--rules", "then"])["effects"], found["effects"]);
    // What a line comes to is what is explained of that sign-in.
    let at = ["--at", "2027-03-02T06:00:00Z"];
    let explained = explained(&env, &[&["--device", "a", "--service", "mail"], &at[..]].concat());
    assert_eq!(explained["decision"], "deny");
}

#[test]
fn lines_that_are_no_sign_ins_are_told_by_number_and_not_counted() {
    let env = env();
    env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
    let good = json!({"at": "2027-03-01T08:00:00Z", "person": "p1", "device": "a", "service": "mail", "client": "app"});
    let with = |key: &str, value: Json| {
        let mut line = good.clone();
        line[key] = value;
        line.to_string()
    };
    let lines = [
        good.to_string(),
        good.to_string(),
        String::new(),
        "{".to_owned(),
        with("person", Json::Null),
        with("person", json!("Drafonn")),
        with("service", json!("post")),
        with("at", json!("yesterday")),
        with("at", json!("2030-01-01T00:00:00Z")),
        with("at", json!("2020-01-01T00:00:00Z")),
        with("effect", json!("maybe")),
        with("person", json!("p99")),
    ];
    env.write("log.jsonl", lines.join("\n"));
    let found = env.json(&["access", "replay", "log.jsonl"]);
    assert_eq!((&found["signins"], &found["bad"]), (&json!(2), &json!(9)));
    assert_eq!(found["unknown_people"], json!(["p99"]));
    let bad: Vec<(u64, &str)> = found["bad_lines"]
        .as_array()
        .unwrap()
        .iter()
        .map(|bad| (bad["line"].as_u64().unwrap(), bad["because"].as_str().unwrap()))
        .collect();
    let expected = [
        (2, "an earlier line says the same"),
        (4, "no sign-in as JSON"),
        (5, "no `person`"),
        (6, "2 people are called `Drafonn`: p2, p3"),
        (7, "no service `post`"),
        (8, "`yesterday` is no moment"),
        (9, "in the future"),
        (10, "before the first assessment"),
        (11, "`maybe` is no effect"),
    ];
    assert_eq!(bad.len(), expected.len());
    for ((line, because), (expected, words)) in bad.into_iter().zip(expected) {
        assert!(line == expected && because.contains(words), "{line}: {because}");
    }
    assert_eq!(env.run(&["access", "replay", "log.jsonl"]).code, 0);
    assert_eq!(env.run(&["access", "replay", "log.jsonl", "--strict"]).code, 1);
    env.fails(&["access", "replay", "no.jsonl"], 2, &["no.jsonl"]);
}

#[test]
fn a_log_in_csv_is_read_as_its_source_says_and_never_imported() {
    let env = env();
    env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
    let config = fs::read_to_string(env.path("fencepost.toml")).unwrap();
    let source = r#"
[[source]]
id = "door"
about = "signins"
files = ["logs/*.csv"]
format = "csv"
delimiter = ";"
person = "Who"
time_format = "%d.%m.%Y %H:%M"
[source.fields]
"When" = "at"
"With" = "device"
"What" = "service"
"How" = "client"
"Went" = { fact = "effect", true_when = ["in"], false_when = ["away"] }
"#;
    env.write("fencepost.toml", format!("{config}{source}"));
    fs::create_dir(env.path("logs")).unwrap();
    let rows = "When;Who;With;What;How;Went\n01.03.2027 08:00;p1;a;mail;app;in\n01.03.2027 08:00;p1;a;mail;app;away\n\
                32.03.2027 08:00;p1;a;mail;app;in\n01.03.2027 08:05;p1;;wiki;browser;\n";
    env.write("logs/door.csv", rows);
    let found = env.json(&["access", "replay", "logs/door.csv"]);
    let lines: Vec<String> = [
        json!({"at": "2027-03-01T08:00:00Z", "person": "p1", "device": "a", "service": "mail", "client": "app", "effect": "permit"}),
        json!({"at": "2027-03-01T08:00:00Z", "person": "p1", "device": "a", "service": "mail", "client": "app", "effect": "deny"}),
        json!({"at": "2027-03-01T08:05:00Z", "person": "p1", "service": "wiki", "client": "browser"}),
    ]
    .iter()
    .map(Json::to_string)
    .collect();
    env.write("same.jsonl", lines.join("\n"));
    let same = env.json(&["access", "replay", "same.jsonl"]);
    assert_eq!((&found["signins"], &found["bad"]), (&json!(3), &json!(1)));
    for key in ["signins", "effects", "rules", "unmatched"] {
        assert_eq!(found[key], same[key], "{key}");
    }
    assert_eq!(found["surprises"][0]["line"], 3, "lines of the file, its heading included: {found}");
    assert!(found["bad_lines"][0]["because"].as_str().unwrap().contains("time_format"), "{found}");
    assert_eq!(env.json(&["access", "replay", "logs/door.csv", "--source", "door"]), found);
    env.fails(&["import", "logs/door.csv"], 2, &["a log of sign-ins", "fencepost access replay logs/door.csv"]);
    env.fails(&["access", "replay", "logs/door.csv", "--source", "dor"], 2, &["did you mean `door`?"]);
    assert_eq!(env.json(&["list", "sources"])["rows"].as_array().unwrap().last().unwrap()["about"], "signins");
}

#[test]
fn vet_finds_holes_in_access_rules() {
    let env = env();
    env.write(
        "people.csv",
        "id,name,unit,emergency\np1,Brobek,ships/tern,\np2,Drafonn,office,\np9,Spare key,office,yes\n",
    );
    env.ok(&["import", "people.csv", "--as-of", "2027-03-01T08:00:00Z"]);
    env.write("groups.toml", "[[group]]\nid = \"first\"\nof = \"people\"\nwhere = 'unit = \"office\"'\n[[group]]\nid = \"second\"\nof = \"people\"\nwhere = 'unit = \"office\"'\n");
    let rules = r#"
[[service]]
id = "files"
default = "permit"
usual = [{ client = "app" }]

[[service]]
id = "post"
default = "deny"
usual = [{ client = "fax" }]

[[access]]
id = "managed-only"
services = ["files"]
when = 'device.managed'
needs = 'standing = "compliant"'
tell = "{{ findings }}"

[[access]]
id = "one"
services = ["post"]
when = 'signin.client = "app"'
except = ["first", "p9"]
needs = 'standing = "compliant"'

[[access]]
id = "other"
services = ["post"]
except = ["second", "p9"]
when = 'signin.client = "app"'
needs = 'standing = "compliant"'
otherwise = { step_up = true }
"#;
    env.write("access.toml", rules);
    let vetted: Json = serde_json::from_str(&env.run(&["vet", "--format", "json"]).out).expect("JSON");
    let told: Vec<String> = vetted["mistakes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("{}: {}", one["code"].as_str().unwrap(), one["message"].as_str().unwrap()))
        .filter(|one| ["sign-in", "exceptions-leave", "shuts-out", "denial-"].iter().any(|code| one.starts_with(code)))
        .collect();
    assert_eq!(
        told,
        [
            "sign-in-without-rule: no access rule meets some sign-ins to `files` by app: with a device that is not managed, a device that is not registered, a strange device",
            "sign-in-without-rule: nobody can reach `post` by fax: no enforced access rule applies to that",
            "shuts-out-emergency: `managed-only` may shut out an account that is for emergencies",
            "exceptions-leave-gap: 2 people are excepted from every access rule about `post`",
            "denial-without-text: whoever `one` stops reads nothing about it",
        ]
    );
}

const WITH_TERMS: &str = r#"
[[service]]
id = "mail"
title = "Mail"
default = "deny"
usual = [{ client = "app" }]

[[access]]
id = "good"
services = ["mail"]
needs = 'ok'
terms = "own-device"
tell = "Accept the terms, {{ person.name }}."
"#;

fn env_with_terms() -> Env {
    let env = Env::new();
    let sources = "[[source]]\nid = \"agents\"\nfiles = [\"state-*.jsonl\"]\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\n[[source]]\nid = \"accepted\"\nabout = \"terms\"\nfiles = [\"accepted*.csv\"]\nformat = \"csv\"\nfields = { Gadget = \"device\" }\n";
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env.write("people.csv", "id,name,unit\np1,Brobek,ships/tern\np2,Drafonn,office\np3,Kolm,office\n");
    env.write("access.toml", WITH_TERMS);
    env.write(
        "terms.toml",
        "[[terms]]\nid = \"own-device\"\ntitle = \"Own devices\"\nversion = \"2\"\nfile = \"terms.txt\"\npeople = [\"ships\", \"office\"]\n",
    );
    env.rules(&[("fine", "1d", "ok")]);
    env.ok(&["import", "people.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    let device = |id: &str, ok: bool, person: &str| json!({"device": id, "collected_at": "2027-03-01T05:00:00Z", "ok": ok, "person": person});
    env.morning("2027-03-01T06:00:00Z", &[device("a", true, "p1"), device("b", true, "p2"), device("c", false, "p3")]);
    env
}

#[test]
fn terms_are_an_obligation_until_they_are_accepted_and_no_loss() {
    let env = env_with_terms();
    let terms = |env: &Env| {
        let report = env.json(&["access"]);
        let open =
            report["terms_open"].as_array().unwrap().iter().map(|entry| entry["device"].as_str().unwrap().to_owned());
        (open.collect::<Vec<_>>(), report)
    };
    let (open, report) = terms(&env);
    assert_eq!(
        (open, &report["summary"]["terms_open"]),
        (vec!["a".to_owned(), "b".to_owned()], &json!([{ "terms": "own-device", "people": 2 }]))
    );
    let found = explained(&env, &["--device", "a", "--service", "mail"]);
    assert_eq!(
        (&found["decision"], &found["terms"], &found["obligations"]),
        (&json!("permit"), &json!(["own-device"]), &json!(["terms own-device"]))
    );
    assert_eq!((&found["causes"][0]["cause"], &found["causes"][0]["fact"]), (&json!("terms"), &json!("own-device")));
    assert_eq!((&found["tell"], &found["rules"][0]["became"]), (&json!("Accept the terms, Brobek."), &json!("met")));
    // An earlier version, and one on another device, count for nothing; what cannot be used is told.
    env.write("accepted.csv", "person,Gadget,terms,version,at\np1,a,own-device,1,2027-03-01\np2,a,own-device,2,2027-03-01\np1,a,own-devise,2,2027-03-01\n,a,own-device,2,2027-03-01\n");
    let imported = env.run(&["import", "accepted.csv", "--as-of", "2027-03-01T07:00:00Z"]);
    let said = format!("{}{}", imported.out, imported.err);
    for words in
        ["2 new acceptances of terms", "there are no terms `own-devise` in terms.toml", "the record names no person"]
    {
        assert!(said.contains(words), "{said}");
    }
    env.ok(&["assess", "--as-of", "2027-03-01T07:00:00Z"]);
    assert_eq!(terms(&env).0, ["a", "b"]);
    let vetted = env.run(&["vet"]).out;
    assert!(vetted.contains("1 person accepted `own-device` in another version than 2"), "{vetted}");
    // In the version that is asked for, on the device, the way is open; nobody lost or regained anything.
    env.write("accepted-2.csv", "person,Gadget,terms,version,at\np1,a,own-device,2,2027-03-02\n");
    env.ok(&["import", "accepted-2.csv", "--as-of", "2027-03-02T06:00:00Z"]);
    env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
    let (open, report) = terms(&env);
    assert_eq!(open, ["b"]);
    for list in ["lost", "reduced", "restored"] {
        assert_eq!(report[list], json!([]), "{list}");
    }
    assert_eq!(explained(&env, &["--device", "a", "--service", "mail"])["obligations"], json!([]));
    assert!(env.ok(&["access"]).contains("1 person has yet to accept own-device"));
    assert!(env.ok(&["access", "--only", "terms"]).contains("Drafonn"));
    // As of then it was as it was.
    assert_eq!(
        explained(&env, &["--device", "a", "--service", "mail", "--at", "2027-03-01T08:00:00Z"])["terms"],
        json!(["own-device"])
    );
    let ready = env.json(&["access", "readiness", "good"]);
    assert_eq!((&ready["people"]["terms_open"], &ready["people"]["denied"]), (&json!(1), &json!(0)));
    let sources = env.json(&["list", "sources"]);
    let accepted = sources["rows"].as_array().unwrap().iter().find(|row| row["source"] == "accepted").unwrap();
    assert_eq!((&accepted["about"], &accepted["lists"]), (&json!("terms"), &json!(3)));
}

#[test]
fn mistakes_about_terms_are_told_with_their_place() {
    let env = env_with_terms();
    env.write("access.toml", WITH_TERMS.replace("terms = \"own-device\"", "terms = \"own-devise\""));
    env.fails(
        &["assess", "--as-of", "2027-03-01T07:00:00Z"],
        2,
        &["unknown-terms", "access.toml", "did you mean `own-device`"],
    );
    env.write("access.toml", WITH_TERMS);
    assert!(env.run(&["vet"]).out.contains("the text of terms `own-device` is not at terms.txt"));
    env.write("terms.toml", "[[terms]]\nid = \"own-device\"\n");
    env.fails(&["assess", "--as-of", "2027-03-01T07:00:00Z"], 2, &["terms.toml", "version"]);
}
