//! Drift, contrast and outliers, as they are asked for on the command line.

use serde_json::{Value as Json, json};

use crate::env::Env;

const SETS: &str = r#"
[[drift]]
id = "servers"
title = "Servers"
peers = 'role = "server"'
except = ["agent.*"]
tolerance = { "disk.free" = "10%" }
ignore = ["case", "space"]

[[accepted]]
drift = "servers"
devices = ["s-4"]
fact = "queue.workers"
value = 4
because = "Half the memory."
until = 2027-03-20
"#;

fn at(day: u8) -> String {
    format!("2027-03-{day:02}T06:00:00Z")
}

/// A server on a day, with what is otherwise than on its sisters.
fn server(id: &str, day: u8, otherwise: &Json) -> Json {
    let mut facts = json!({
        "device": id, "collected_at": at(day), "role": "server", "serial": format!("x-{id}"), "agent": { "version": id },
        "sshd": { "port": 22, "root": "no" }, "queue": { "workers": 8 }, "disk": { "free": 100 },
        "motd": "Be  Good", "software": [{ "name": "guardd", "version": "2.0" }], "tags": ["a", "b"],
    });
    for (key, value) in otherwise.as_object().expect("an object") {
        match value {
            Json::Null => facts.as_object_mut().expect("an object").remove(key),
            value => facts.as_object_mut().expect("an object").insert(key.clone(), value.clone()),
        };
    }
    facts
}

/// Five servers: one whose sister was set up otherwise on the second day, and one with an accepted difference.
fn servers() -> Env {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"software\" = { type = \"list\", key = \"name\" }\n\"software.version\" = { type = \"version\" }\n",
    );
    env.write("drift.toml", SETS);
    env.rules(&[("port", "1d", "sshd.port = 22")]);
    let ids = ["s-1", "s-2", "s-3", "s-4", "s-5"];
    let usual: Vec<Json> = ids.iter().map(|id| server(id, 1, &json!({}))).collect();
    env.morning(&at(1), &usual);
    let odd = json!({
        "sshd": null, "motd": " be good", "disk": { "free": 109 }, "tags": ["b", "a", "c"],
        "software": [{ "name": "guardd", "version": "2" }, { "name": "peepcam", "version": "1" }],
    });
    let second = [
        server("s-1", 2, &odd),
        server("s-2", 2, &json!({ "disk": { "free": 89.9 }, "software": [{ "name": "guardd", "version": "1.9" }] })),
        server("s-3", 2, &json!({})),
        server("s-4", 2, &json!({ "queue": { "workers": 4 } })),
        server("s-5", 2, &json!({})),
    ];
    env.morning(&at(2), &second);
    env
}

fn members(found: &Json) -> Vec<(String, Vec<String>)> {
    let place = |one: &Json| {
        let item = one["item"].as_str().map(|item| format!("[{item}]")).unwrap_or_default();
        let field = one["field"].as_str().map(|field| format!(".{field}")).unwrap_or_default();
        format!("{}{item}{field} {}", one["fact"].as_str().unwrap(), one["kind"].as_str().unwrap())
    };
    let of = |member: &Json| {
        let all = member["differences"].as_array().unwrap().iter().map(place).collect();
        (member["device"].as_str().unwrap().to_owned(), all)
    };
    found["members"].as_array().unwrap().iter().map(of).collect()
}

#[test]
fn a_set_is_told_device_by_device_with_share_kind_and_beginning() {
    let env = servers();
    let found = env.json(&["drift", "servers"]);
    assert_eq!((&found["schema"], &found["as_of"]), (&json!(1), &json!(at(2))));
    let set = &found["sets"][0];
    assert_eq!((&set["set"], &set["reference"]), (&json!("servers"), &json!("majority")));
    assert_eq!(set["counts"], json!({ "devices": 5, "differ": 2, "differences": 5, "accepted": 1 }));
    assert_eq!(set["left_out"], json!(["serial"]));
    let told: Vec<(String, Vec<String>)> = [
        ("s-1", vec!["software[peepcam] extra", "sshd missing", "tags[c] extra"]),
        ("s-2", vec!["disk.free changed", "software[guardd].version changed"]),
        ("s-3", vec![]),
        ("s-4", vec![]),
        ("s-5", vec![]),
    ]
    .map(|(device, all)| (device.to_owned(), all.into_iter().map(str::to_owned).collect()))
    .into();
    assert_eq!(members(set), told);
    let difference = &set["members"][1]["differences"][1];
    assert_eq!(
        *difference,
        json!({
            "fact": "software", "item": "guardd", "field": "version", "observed": "1.9", "reference": "2.0",
            "kind": "changed", "share": 0.8, "since": at(2), "because": "device", "changed_at": at(2), "was": "2.0",
        })
    );
    let whole = &set["members"][0]["differences"][1];
    assert_eq!((&whole["observed"], &whole["reference"]), (&Json::Null, &json!({ "port": 22, "root": "no" })));
    assert_eq!(set["members"][3]["accepted"][0]["observed"], json!(4));
    // The median is the reference where a tolerance is given.
    assert_eq!(set["members"][1]["differences"][0]["reference"], json!(100));
    let rows = env.ok(&["drift", "servers", "--format", "csv"]);
    assert_eq!(rows.lines().count(), 7);
    assert!(rows.starts_with(
        "set,whole,role,device,fact,item,field,kind,observed,reference,share,since,because,changed_at,was,accepted\r\n"
    ));
    assert!(
        rows.contains(
            "servers,,,s-4,queue.workers,,,changed,4,8,0.8,2027-03-02T06:00:00Z,device,2027-03-02T06:00:00Z,8,true"
        ),
        "{rows}"
    );
}

#[test]
fn devices_are_held_against_one_of_them_against_their_past_and_against_a_baseline() {
    let env = servers();
    let kinds = |against: &str| {
        members(&env.json(&["drift", "servers", "--against", against, "--facts", "queue.*,sshd.*"])["sets"][0])
    };
    let of = |all: Vec<(String, Vec<String>)>, device: &str| all.into_iter().find(|(id, _)| id == device).unwrap().1;
    assert_eq!(of(kinds("s-4"), "s-5"), ["queue.workers changed"]);
    assert_eq!(of(kinds("s-4"), "s-4"), [""; 0]);
    assert_eq!(of(kinds("s-1"), "s-2"), ["sshd extra"]);
    assert_eq!(of(kinds("s-1@2027-03-01"), "s-2"), [""; 0]);
    // A day is its last moment, in the workspace's zone.
    assert_eq!(of(kinds("s-1@2027-03-02"), "s-2"), ["sshd extra"]);
    assert_eq!(of(kinds("self@2027-03-01"), "s-1"), ["sshd missing"]);
    assert_eq!(of(kinds("self@2027-03-01"), "s-3"), [""; 0]);
    let before = env.json(&["drift", "servers", "--against", "self@2027-02-01"]);
    assert_eq!(before["sets"][0]["no_past"].as_array().unwrap().len(), 5);
    env.write("baselines/b.toml", "id = \"b\"\ncovers = 'role = \"server\"'\n[expect]\n\"sshd.port\" = 22\n\"queue.workers\" = { test = \"> 6\" }\n");
    let found = env.json(&["drift", "servers", "--against", "baseline:b"]);
    let set = &found["sets"][0];
    assert_eq!(of(members(set), "s-1"), ["sshd.port missing"]);
    assert_eq!(set["members"][3]["accepted"][0]["reference"], json!("> 6"));
    assert_eq!(set["members"][0]["differences"][0]["since"], json!(at(2)));
}

#[test]
fn what_drifted_since_is_told_and_can_fail_a_run() {
    let env = servers();
    let found = env.json(&["drift", "servers", "--since", "2027-03-01"]);
    let moved = |key: &str| found["sets"][0][key].as_array().unwrap().len();
    assert_eq!((moved("drifted"), moved("came_back")), (5, 0));
    assert_eq!(env.run(&["drift", "--fail-on", "new"]).code, 1);
    let mended: Vec<Json> = ["s-1", "s-2", "s-3", "s-4", "s-5"].iter().map(|id| server(id, 3, &json!({}))).collect();
    env.morning(&at(3), &mended);
    let back = env.json(&["drift", "servers", "--since", "2027-03-02"]);
    assert_eq!(back["sets"][0]["came_back"].as_array().unwrap().len(), 5);
    assert_eq!(env.run(&["drift", "--fail-on", "new"]).code, 0);
    let then = env.json(&["drift", "servers", "--at", "2027-03-02"]);
    assert_eq!(then["sets"][0]["counts"]["differ"], json!(2));
    assert_eq!(then["sets"][0]["members"], found["sets"][0]["members"]);
}

#[test]
fn wholes_are_compared_role_by_role_and_by_how_many_fill_a_role() {
    let env = Env::new();
    env.write("drift.toml", "[[assembly]]\nid = \"ship\"\nwhole = \"site\"\nrole = \"role\"\nexcept = [\"serial\"]\n");
    env.rules(&[("port", "1d", "true")]);
    let device = |site: &str, role: &str, number: u8, version: u8| {
        json!({
            "device": format!("{site}-{role}-{number}"), "collected_at": at(1), "site": site, "role": role,
            "serial": number, "os": { "version": version },
        })
    };
    let mut fleet: Vec<Json> = ["A", "B", "C", "D"].iter().map(|site| device(site, "till", 1, 4)).collect();
    fleet.extend(["A", "B", "C"].iter().map(|site| device(site, "scanner", 1, 1)));
    fleet.push(device("D", "till", 2, 3));
    env.morning(&at(1), &fleet);
    let found = env.json(&["drift", "ship"]);
    assert_eq!((&found["schema"], &found["assembly"]), (&json!(1), &json!("ship")));
    let d = &found["wholes"][3];
    assert_eq!((&d["whole"], &d["devices"], &d["differences"]), (&json!("D"), &json!(2), &json!(3)));
    assert_eq!(d["roles"][0]["count"], json!({ "observed": 0, "reference": 1, "kind": "missing", "share": 0.75 }));
    assert_eq!(d["roles"][1]["count"], json!({ "observed": 2, "reference": 1, "kind": "changed", "share": 0.75 }));
    assert_eq!((&d["roles"][1]["devices"], &d["roles"][1]["differences"]), (&json!(2), &json!(2)));
    assert_eq!(d["roles"][1]["members"][1]["differences"][0]["fact"], json!("os.version"));
    assert_eq!(found["wholes"][0]["differences"], json!(0));
    let tree = env.ok(&["drift", "ship", "--whole", "D"]);
    assert!(
        tree.contains("scanner  1 difference  none of them, most have 1 (75 %)") && !tree.contains("A-till"),
        "{tree}"
    );
    let one = env.json(&["drift", "ship", "--whole", "D"]);
    assert_eq!((one["wholes"].as_array().unwrap().len(), &one["wholes"][0]), (1, d));
    env.fails(&["drift", "ship", "--whole", "E"], 2, &["there is no whole `E`"]);
}

#[test]
fn two_groups_are_set_apart_by_what_they_do_not_share() {
    let env = Env::new();
    env.rules(&[("port", "1d", "true")]);
    let device = |number: usize| {
        let slow = number < 5;
        json!({
            "device": format!("d-{number}"), "collected_at": at(1), "kind": if slow { "slow" } else { "quick" },
            "radio": if slow { "R4" } else { "R3" }, "power": slow, "scan": number * 10, "role": "scanner", "serial": number.to_string(),
        })
    };
    env.morning(&at(1), &(0..10).map(device).collect::<Vec<Json>>());
    let found = env.json(&["contrast", "kind = \"slow\"", "kind = \"quick\""]);
    assert_eq!(
        found["groups"],
        json!([{ "name": "kind = \"slow\"", "devices": 5 }, { "name": "kind = \"quick\"", "devices": 5 }])
    );
    assert_eq!((&found["tried"], &found["same"]), (&json!(3), &json!(1)));
    assert_eq!(found["left_out"], json!(["kind", "serial"]));
    let first = &found["facts"][0];
    assert_eq!(
        (&first["fact"], &first["folded"], &first["what"]),
        (&json!("power"), &json!(["radio"]), &json!("value"))
    );
    assert_eq!(
        (&first["in_first"], &first["in_second"], &first["statistic"]),
        (&json!(5), &json!(0), &json!("fisher"))
    );
    let p = 2.0 / 252.0;
    assert!((first["p"].as_f64().unwrap() - p).abs() < 1e-12 && (first["q"].as_f64().unwrap() - p).abs() < 1e-12);
    let scan = &found["facts"][1];
    assert_eq!((&scan["what"], &scan["in_first"], &scan["in_second"]), (&json!("number"), &json!(20), &json!(70)));
    let few = env.json(&["contrast", "d-0,d-1", "d-1,d-2,d-3,d-4"]);
    assert_eq!((&few["tried"], &few["not_ranked"]), (&json!(0), &json!(["d-0,d-1"])));
    assert_eq!(few["left_out"], json!(["d-1"]));
    let alike = env.ok(&["contrast", "d-0,d-1,d-2", "d-3,d-4,d-5"]);
    assert!(alike.contains("Nothing sets them apart that is more than chance would do."), "{alike}");
    let since = env.json(&["contrast", "every-device", "--since", "2027-03-01"]);
    assert_eq!(since["facts"].as_array().unwrap().iter().filter(|row| row["q"].as_f64().unwrap() < 0.05).count(), 0);
    env.fails(&["contrast", "kind = ", "kind = \"quick\""], 2, &["1 mistake in the condition"]);
    env.fails(&["contrast", "d-0,d-99", "d-1"], 2, &["d-99"]);
}

#[test]
fn odd_ones_out_are_told_with_what_is_usual() {
    let env = Env::new();
    env.rules(&[("port", "1d", "true")]);
    let device = |(number, free): (usize, &f64)| {
        json!({
            "device": format!("d-{number}"), "collected_at": at(1), "role": if number < 5 { "a" } else { "b" }, "free": free,
            "name": "x",
        })
    };
    let numbers = [7.27, 7.34, 7.25, 73.1, 7.28, 5.0, 5.0, 5.0, 4.0];
    env.morning(&at(1), &numbers.iter().enumerate().map(device).collect::<Vec<Json>>());
    let found = env.json(&["drift", "--outliers", "free", "--by", "role"]);
    assert_eq!((&found["schema"], &found["fact"]), (&json!(1), &json!("free")));
    let a = &found["sets"][0];
    assert_eq!(
        (&a["set"], &a["devices"], &a["median"], &a["mad"]),
        (&json!("a"), &json!(5), &json!(7.28), &json!(0.03))
    );
    assert_eq!(a["outliers"].as_array().unwrap().len(), 1);
    assert_eq!(a["outliers"][0]["device"], json!("d-3"));
    assert_eq!(found["sets"][1]["outliers"], json!([{ "device": "d-8", "value": 4, "distance": null }]));
    let all = env.json(&["drift", "--outliers", "free", "--worst", "1"]);
    assert_eq!((&all["sets"][0]["set"], &all["sets"][0]["devices"]), (&json!("every-device"), &json!(9)));
    assert_eq!(all["sets"][0]["outliers"].as_array().unwrap().len(), 1);
    env.fails(&["drift", "--outliers", "name"], 2, &["`name` is no number on any of these devices"]);
    env.fails(&["drift", "--outliers", "fre"], 2, &["none of these devices reports `fre`"]);
}

#[test]
fn what_is_not_known_is_told_with_a_remedy() {
    let env = servers();
    env.fails(&["drift", "server"], 2, &["nothing is compared under the name `server`", "did you mean `servers`?"]);
    env.fails(&["drift", "servers", "--against", "s-9"], 2, &["s-9"]);
    env.fails(&["drift", "servers", "--against", "self"], 2, &["say of when, such as self@2027-02-01"]);
    env.fails(
        &["drift", "servers", "--against", "s-1@2027-02-01"],
        2,
        &["nothing is known of `s-1`", "2027-03-01T06:00:00Z"],
    );
    env.fails(&["drift", "servers", "--against", "baseline:b"], 2, &["there is no baseline `b`"]);
    env.fails(&["drift", "servers", "--at", "2027-02-01"], 2, &["the last assessment is as of 2027-03-02T06:00:00Z"]);
    env.fails(&["drift", "servers", "--at", "then"], 2, &["`then` is no moment"]);
    env.fails(&["drift", "servers", "--fact", "sshd.prt"], 2, &["did you mean `sshd.port`?"]);
    env.fails(&["drift", "--by", "rol"], 2, &["no device reports `rol`", "did you mean `role`?"]);
    env.fails(&["drift", "--where", "rol = \"server\""], 2, &["no device fits the condition", "`rol`"]);
    env.fails(&["drift", "servers", "--fact", "queue"], 0, &[]);
    env.fails(&["contrast", "srvers", "s-1,s-2,s-3"], 2, &["`srvers` is no group, no device and no fact"]);
    let idle = env.ok(&["drift", "servers", "--facts", "sshd.*,nothing.*"]);
    assert!(idle.contains("nothing that these devices report fits nothing.*"), "{idle}");
    let alone = env.ok(&["drift", "--where", "device = \"s-1\""]);
    assert!(alone.contains("nothing to hold it against"), "{alone}");
    env.write("drift.toml", "[[drift]]\nid = \"a\"\npeers = 'role = \"server\"'\ntolerance = { motd = 3, role = \"ten\" }\nreference = \"self\"\n\n[[accepted]]\ndrift = \"b\"\ndevices = \"s-1\"\nfact = \"x\"\nbecause = \"y\"\nuntil = 2027-03-01\n");
    env.write("facts.toml", "[facts]\n\"motd\" = { type = \"text\" }\n");
    env.fails(
        &["drift"],
        2,
        &["error[bad-tolerance]", "error[bad-reference]", "error[tolerance-of-no-number]", "error[unknown-drift]"],
    );
}

#[test]
fn sets_of_two_and_facts_without_a_majority_have_no_common_value() {
    let env = Env::new();
    env.rules(&[("port", "1d", "true")]);
    let device =
        |id: &str, port: u16| json!({ "device": id, "collected_at": at(1), "role": id, "port": port, "same": 1 });
    let mut fleet = vec![device("a", 1), device("b", 2)];
    env.morning(&at(1), &fleet);
    let two = env.json(&["drift", "--where", "true", "--except", "role"]);
    assert_eq!(two["sets"][0]["no_common_value"], json!([{ "fact": "port", "item": null, "field": null }]));
    assert_eq!(two["sets"][0]["counts"]["differences"], json!(0));
    fleet = vec![device("a", 1), device("b", 2), device("c", 1), device("d", 2)];
    for one in &mut fleet {
        one["collected_at"] = json!(at(2));
    }
    env.morning(&at(2), &fleet);
    let tied = env.json(&["drift", "--where", "true", "--except", "role"]);
    assert_eq!(tied["sets"][0]["no_common_value"].as_array().unwrap().len(), 1);
    let shown = env.ok(&["drift", "--where", "true", "--except", "role"]);
    assert!(shown.contains("no value is common to most of them: port"), "{shown}");
}

#[test]
fn hostile_names_and_many_facts_do_no_harm() {
    let env = Env::new();
    env.rules(&[("port", "1d", "true")]);
    let device = |number: usize| {
        let mut facts = json!({ "device": format!("d\u{1b}[2J-{number}"), "collected_at": at(1), "role": "x" });
        for at in 0..5_000 {
            facts[format!("k{at}.\u{202e}<b>\u{7}")] =
                json!(if number == 0 && at % 100 == 0 { "=1+1\u{1b}[31m" } else { "v" });
        }
        facts
    };
    env.morning(&at(1), &(0..4).map(device).collect::<Vec<Json>>());
    for format in ["table", "csv", "jsonl"] {
        let shown = env.ok(&["drift", "--by", "role", "--format", format]);
        assert!(!shown.contains(['\u{1b}', '\u{202e}', '\u{7}']), "{format}");
    }
    let found = env.json(&["drift", "--by", "role"]);
    assert_eq!(found["sets"][0]["counts"]["differences"], json!(50));
    assert!(env.ok(&["drift", "--by", "role", "--format", "csv"]).contains("'=1+1"));
}

#[test]
fn a_device_says_how_far_it_is_from_its_peers_and_a_baseline_takes_what_most_hold() {
    let env = servers();
    let shown = env.ok(&["show", "s-1"]);
    assert!(shown.contains("3 differences from its 4 peers of servers"), "{shown}");
    assert!(env.ok(&["show", "s-4"]).contains("like its 4 peers of servers, 1 more accepted"));
    assert_eq!(env.json(&["show", "s-1"])["differs_from_sisters"], json!(3));
    env.morning(&at(3), &[json!({ "device": "x", "collected_at": at(3), "role": "kiosk" })]);
    assert_eq!(env.json(&["show", "x"])["differs_from_sisters"], Json::Null);
    let derived = env.ok(&["baseline", "derive", "--from-set", "servers", "--id", "server"]);
    assert!(derived.contains("what most of the 5 devices of servers hold"), "{derived}");
    assert!(derived.contains("\"sshd.port\"") && derived.contains("\"queue.workers\" = 8"), "{derived}");
    assert!(!derived.contains("peepcam") && !derived.contains("serial"), "{derived}");
    env.fails(
        &["baseline", "derive", "--from-set", "nobody", "--id", "b"],
        2,
        &["nothing is compared under the name `nobody`"],
    );
}

#[test]
fn mistakes_in_what_is_compared_are_told() {
    let env = servers();
    let codes = |drift: &str| -> Vec<String> {
        env.write("drift.toml", drift);
        let found: Json = serde_json::from_str(&env.run(&["vet", "drift.toml", "--format", "json"]).out).expect("JSON");
        let all = found["mistakes"].as_array().expect("a list");
        all.iter().map(|one| one["code"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(codes(SETS), [""; 0]);
    assert_eq!(codes(&SETS.replace("value = 4", "value = 5")), ["acceptance-idle"]);
    assert_eq!(codes(&SETS.replace("2027-03-20", "2027-03-01")), ["acceptance-over"]);
    assert_eq!(codes(&SETS.replace("agent.*", "agnt.*")), ["pattern-fits-nothing"]);
    assert_eq!(codes(&SETS.replace("\"disk.free\" = \"10%\"", "motd = 1")), ["tolerance-of-texts"]);
    assert_eq!(codes("[[drift]]\nid = \"few\"\npeers = 'device in (\"s-1\", \"s-2\")'\n"), ["drift-of-few"]);
    assert_eq!(codes("[[assembly]]\nid = \"few\"\nwhole = \"role\"\nrole = \"motd\"\n"), ["drift-of-few"]);
    assert_eq!(codes(&SETS.replace("\"s-4\"", "\"s-9\"")), ["unknown-device", "acceptance-idle"]);
}

/// Five servers whose differences are findings, on two mornings: on the second, one differs.
fn servers_with_findings(said_of_findings: &str) -> Env {
    let env = servers();
    env.write("drift.toml", SETS.replace("title =", &format!("{said_of_findings}\ntitle =")));
    env
}

#[test]
fn whoever_differs_has_a_finding_of_the_set_with_clock_waiver_and_response() {
    let env = servers_with_findings("severity = \"low\"\ngrace = \"3d\"\nresponse = \"tell\"");
    env.write(
        "responses.toml",
        "[[response]]\nid = \"tell\"\nsteps = [{ id = \"first\", at = \"opened\", do = \"notify\", to = [\"lead\"] }]\n",
    );
    let told = env.json(&["assess", "--as-of", &at(3)]);
    assert_eq!(told["opened"].as_array().map(Vec::len), Some(2), "{told}");
    let rows = |at: &str| -> Vec<(String, String, String)> {
        let found = env.ok(&["list", "findings", "--format", "jsonl", "--as-of", at]);
        let text = |row: &Json, key: &str| row[key].as_str().unwrap_or_default().to_owned();
        let rows = found.lines().map(|line| serde_json::from_str::<Json>(line).expect("JSON"));
        let of_set = rows.filter(|row| row["rule"] == "drift/servers");
        of_set.map(|row| (text(&row, "device"), text(&row, "phase"), text(&row, "due"))).collect()
    };
    let due = "2027-03-06T06:00:00Z";
    let row = |device: &str, phase: &str, due: &str| (device.to_owned(), phase.to_owned(), due.to_owned());
    assert_eq!(rows(&at(3)), [row("s-1", "open", due), row("s-2", "open", due)]);
    let why = env.ok(&["why", "s-2", "drift/servers", "--as-of", &at(3)]);
    insta::assert_snapshot!(why, @r"
    s-2  ╱ on notice
    held by nobody; state collected Tue 07:00, 1 d ago

    drift/servers  fails (low)
      Servers: alike
      clock     open since Wed 07:00; due Sat 07:00, in 3 d
      each of these had to hold (not met):
        observed  disk.free is 89.9
        required  100, as on 4 of 5
        observed  software[guardd].version is 1.9
        required  2.0, as on 4 of 5
    ");
    let actions = env.ok(&["list", "actions", "--format", "jsonl", "--as-of", &at(3)]);
    let of_set = |line: &&str| line.contains("\"drift/servers\"") && line.contains("\"first\"");
    assert_eq!(actions.lines().filter(of_set).count(), 2, "{actions}");
    // Nothing came in of the fourth, and what was accepted of it no longer is.
    let told = env.json(&["assess", "--as-of", &at(21)]);
    let opened: Vec<&str> =
        told["opened"].as_array().unwrap().iter().filter_map(|one| one["device"].as_str()).collect();
    assert_eq!(opened, ["s-4"], "{told}");
    env.write(
        "waivers.toml",
        "[[waiver]]\nid = \"w\"\nrules = [\"drift/servers\"]\ndevices = [\"s-4\"]\nfrom = 2027-03-21\nuntil = 2027-04-30\n\
         approved_by = \"us\"\nbecause = \"The part is on its way.\"\n",
    );
    env.json(&["assess", "--as-of", &at(22)]);
    assert_eq!(rows(&at(22)).iter().map(|row| row.1.as_str()).collect::<Vec<_>>(), ["overdue", "overdue", "waived"]);
    let alike: Vec<Json> = ["s-1", "s-2", "s-4"].iter().map(|id| server(id, 23, &json!({}))).collect();
    let told = env.morning(&at(23), &alike);
    let closed: Vec<(&str, &str)> = told["closed"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["rule"] == "drift/servers")
        .map(|one| (one["device"].as_str().unwrap(), one["how"].as_str().unwrap_or_default()))
        .collect();
    assert_eq!(closed, [("s-1", "fixed"), ("s-2", "fixed"), ("s-4", "fixed")], "{told}");
}

#[test]
fn what_is_accepted_is_told_of_all_sets_too() {
    let env = servers();
    let told = env.ok(&["drift", "--accepted", "--as-of", &at(3)]);
    assert!(told.contains("Accepted differences:") && told.contains("Half the memory."), "{told}");
}

#[test]
fn what_is_said_of_findings_needs_a_severity_and_a_grace() {
    let env = servers_with_findings("response = \"tell\"");
    let ran = env.run(&["drift"]);
    assert_eq!(ran.code, 2);
    insta::assert_snapshot!(ran.err, @r#"
    error[no-findings]: `response` is said of findings, and this set makes none
     --> drift.toml:4:12
      |
    4 | response = "tell"
      |            ^^^^^^
      |
      = help: differences become findings with both severity = "low" and grace = "7d"; without them they are only seen

    error: 1 mistake in the workspace; nothing was done
    "#);
}

#[test]
fn a_set_whose_reference_is_retired_is_warned_of_and_holds_up_nothing() {
    let env = servers_with_findings("severity = \"low\"\ngrace = \"3d\"\nreference = \"s-5\"");
    env.write("devices.toml", "[[device]]\nid = \"s-5\"\nretired = 2027-03-03\nbecause = \"Scrapped.\"\n");
    let assessed = env.run(&["assess", "--as-of", &at(3)]);
    insta::assert_snapshot!(assessed.err, @r#"
    warning[not-compared]: devices that ought to be alike were not compared: `s-5` is retired, and says nothing
     --> drift.toml:3:6
      |
    3 | id = "servers"
      |      ^^^^^^^^^
      |
      = help: hold them against a device that is in use, or against a moment at which it was: device@2027-02-01


    Next: fencepost access  fencepost list findings
    "#);
    let verdicts = env.json(&["why", "s-1", "drift/servers", "--as-of", &at(3)]);
    assert_eq!(verdicts["verdicts"][0]["outcome"], "unknown", "{verdicts}");
    insta::assert_snapshot!(env.ok(&["vet", "--as-of", &at(3)]), @r#"
    warning[not-compared]: devices that ought to be alike were not compared: `s-5` is retired, and says nothing
     |
     = help: hold them against a device that is in use, or against a moment at which it was: device@2027-02-01

    note[no-consequence]: nobody loses access over any rule
     |
     = help: no access rule asks how a device stands; write one in access.toml: needs = 'standing = "compliant"'

    1 warning, 1 note in 5 files, with 2 rules; tried on 4 devices, as of Wed 3 Mar 2027 07:00
    "#);
}
