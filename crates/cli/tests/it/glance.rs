//! The fleet at a glance: facts, sources, people, counts, one person, and what is kept for how long.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const D1: &str = "2027-03-01T06:00:00Z";
const D2: &str = "2027-03-02T06:00:00Z";

fn fleet() -> Env {
    let env = Env::new();
    let sources = r#"
[[source]]
id = "agents"
files = ["a*.jsonl"]
expected_every = "1d"
[[source]]
id = "crew"
files = ["crew*.json"]
format = "scim"
complete = true
[source.fields]
"title" = "post"
[[source]]
id = "phones"
files = ["never.csv"]
format = "csv"
expected_every = "1d"
"#;
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env.write("facts.toml", "[facts]\n\"os.version\" = { type = \"version\", about = \"as reported\" }\n\"free\" = { type = \"number\", unit = \"B\" }\n");
    env.write("groups.toml", "[[group]]\nid = \"ships\"\nof = \"people\"\nunits = [\"ships\"]\n");
    env.rules(&[("fine", "2d", "encrypted")]);
    let documents = [
        json!({ "device": "a", "collected_at": "2027-03-01T05:00:00Z", "platform": "linux", "os": { "version": "1.2" }, "free": 5, "encrypted": true, "person": "B-1", "software": [{ "name": "x", "v": "1" }, { "name": "y", "v": "1" }] }),
        json!({ "device": "b", "collected_at": "2027-03-01T05:00:00Z", "platform": "linux", "os": { "version": "1.2" }, "free": "much", "encrypted": false, "person": ["B-1", "B-2"], "software": [] }),
        json!({ "device": "c", "collected_at": "2027-03-01T05:00:00Z", "platform": "ios", "encrypted": true, "person": "B-9" }),
        json!({ "device": "kiosk", "collected_at": "2027-03-01T05:00:00Z", "platform": "linux", "encrypted": true, "person": null }),
    ];
    env.write("a1.jsonl", documents.map(|document| format!("{document}\n")).concat());
    env.write("crew1.json", crew(&[("B-1", true), ("B-2", false), ("B-3", true)]));
    env.ok(&["import", "a1.jsonl", "crew1.json", "--as-of", D1]);
    env.ok(&["assess"]);
    env
}

/// People as a SCIM service lists them; each with whether active.
fn crew(people: &[(&str, bool)]) -> String {
    let users: Vec<Json> = people
        .iter()
        .enumerate()
        .map(|(at, (id, active))| {
            json!({
                "id": format!("x{at}"), "userName": id, "displayName": format!("Name {id}"), "active": active, "title": "mate",
                "emails": [{ "value": format!("{}@bredesound.example", id.to_lowercase()) }],
                "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": { "department": "ships/tern/deck", "manager": { "value": "x0" } },
            })
        })
        .collect();
    json!({ "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": users.len(), "Resources": users }).to_string()
}

#[track_caller]
fn row(listed: &Json, column: &str, value: &str) -> Json {
    let rows = listed["rows"].as_array().unwrap();
    rows.iter().find(|row| row[column] == value).cloned().unwrap_or_else(|| panic!("no {value} in {rows:?}"))
}

#[test]
fn facts_are_told_by_type_share_values_and_wrong_types() {
    let env = fleet();
    let facts = env.json(&[
        "list",
        "facts",
        "--columns",
        "fact,declared,seen_as,devices,share,distinct,commonest,of_values,wrong,unit,about",
    ]);
    let free = row(&facts, "fact", "free");
    assert_eq!(
        (&free["wrong"], &free["devices"], &free["seen_as"], &free["unit"]),
        (&1.into(), &2.into(), &"number, text".into(), &"B".into())
    );
    let platform = row(&facts, "fact", "platform");
    assert_eq!(
        (&platform["share"], &platform["distinct"], &platform["commonest"], &platform["of_values"]),
        (&100.into(), &2.into(), &"linux".into(), &75.into())
    );
    // A field of a list's items has a value for each of them.
    let names = row(&facts, "fact", "software.name");
    assert_eq!((&names["devices"], &names["distinct"], &names["of_values"]), (&2.into(), &2.into(), &50.into()));
    assert_eq!(row(&facts, "fact", "os.version")["about"], "as reported");
    assert_eq!(env.json(&["list", "facts", "--where", "wrong > 0"])["rows"].as_array().unwrap().len(), 1);
}

#[test]
fn devices_are_counted_by_any_fact() {
    let env = fleet();
    let counted = env.json(&["list", "devices", "--by", "platform"]);
    let linux = row(&counted, "platform", "linux");
    assert_eq!(
        (&linux["count"], &linux["share"], &linux["compliant"], &linux["on_notice"]),
        (&3.into(), &json!(2.0 / 3.0), &2.into(), &1.into())
    );
    // Several holders count once each; nobody is a value of its own.
    let holders = env.json(&["list", "devices", "--by", "person"]);
    assert_eq!(
        (&row(&holders, "person", "B-1")["count"], &row(&holders, "person", "B-2")["count"]),
        (&2.into(), &1.into())
    );
    assert!(holders["rows"].as_array().unwrap().iter().any(|row| row["person"].is_null() && row["count"] == 1));
    let rules = env.ok(&["list", "findings", "--by", "rule"]);
    assert!(rules.contains("fine") && rules.contains("100 %"), "{rules}");
    env.fails(&["list", "rules", "--by", "nonsense"], 2, &["nonsense"]);
    assert_eq!(
        env.json(&["list", "devices", "--by", "platform", "--where", "encrypted = false"])["rows"]
            .as_array()
            .unwrap()
            .len(),
        1
    );
}

#[test]
fn sources_are_late_when_what_is_due_has_not_come() {
    let env = fleet();
    let sources =
        env.json(&["list", "sources", "--columns", "source,about,lists,last_import,late,set_aside,set_aside_ever"]);
    let agents = row(&sources, "source", "agents");
    assert_eq!((&agents["lists"], &agents["late"], &agents["last_import"]), (&4.into(), &false.into(), &D1.into()));
    assert_eq!(row(&sources, "source", "crew")["lists"], 3);
    assert_eq!(
        (&row(&sources, "source", "phones")["late"], &row(&sources, "source", "crew")["late"]),
        (&true.into(), &Json::Null)
    );
    // A day and not a second more.
    let then = |at: &str| {
        row(&env.json(&["list", "sources", "--as-of", at, "--columns", "source,late"]), "source", "agents")["late"]
            .clone()
    };
    assert_eq!((then("2027-03-02T06:00:00Z"), then("2027-03-02T06:00:01Z")), (false.into(), true.into()));
}

#[test]
fn people_come_as_json_lines_too() {
    let env = fleet();
    let hands = "[[source]]\nid = \"hands\"\nfiles = [\"hands*.jsonl\"]\nperson = \"badge\"\n[source.fields]\n\"ward\" = \"unit\"\n\"boss\" = \"lead\"\n";
    env.write("fencepost.toml", format!("{STEPPED}{hands}"));
    env.write("groups.toml", "[[group]]\nid = \"ships\"\nof = \"people\"\nunits = [\"ships\"]\n");
    env.write(
        "hands.jsonl",
        "{\"badge\":\"H-1\",\"name\":\"Grott\",\"ward\":\"ships/tern\",\"teams\":[\"cooks\",\"watch\"]}\n{\"badge\":17,\"name\":\"Ilmbrok\",\"ward\":\"shore\",\"boss\":\"H-1\"}\n{\"name\":\"nobody\"}\n",
    );
    assert!(env.ok(&["import", "hands.jsonl", "--as-of", D2]).contains("line 3"));
    let new = env.run(&["show", "H-1"]);
    assert!(new.out.contains("Grott") && new.err.contains("imported after this assessment"), "{}{}", new.out, new.err);
    env.ok(&["assess", "--as-of", D2]);
    let (first, second) = (env.json(&["show", "H-1"]), env.json(&["show", "17"]));
    assert_eq!((&first["groups"], &first["facts"]["teams"]), (&json!(["ships"]), &"[cooks, watch]".into()));
    assert_eq!((&second["groups"], &second["lead"]["name"]), (&json!([]), &"Grott".into()));
}

#[test]
fn people_are_told_with_their_devices_and_those_who_left_with_when() {
    let env = fleet();
    let people = env.json(&["list", "people"]);
    assert_eq!(row(&people, "person", "B-1")["devices"], "a, b");
    assert_eq!(row(&people, "person", "B-2")["remark"], "not active");
    // Named by a device, and on no list.
    assert_eq!(
        (&row(&people, "person", "B-9")["name"], &row(&people, "person", "B-9")["remark"]),
        (&Json::Null, &"on no list".into())
    );
    let shown = env.json(&["show", "B-2"]);
    assert_eq!(
        (&shown["name"], &shown["lead"]["name"], &shown["groups"][0]),
        (&"Name B-2".into(), &"Name B-1".into(), &"ships".into())
    );
    assert_eq!(
        (&shown["devices"][0]["device"], &shown["devices"][0]["shared_with"][0]),
        (&"b".into(), &"Name B-1".into())
    );
    assert_eq!(shown["facts"]["post"], "mate");
    let text = env.ok(&["show", "B-1"]);
    for told in
        ["Name B-1  B-1", "leads Name B-1, Name B-2, Name B-3", "in ships", "shared with Name B-2", "from 1 list: crew"]
    {
        assert!(text.contains(told), "{told} in {text}");
    }
    // One of several pages says nothing of who is not on it.
    let page = crew(&[("B-1", true)]).replace("\"totalResults\":1", "\"totalResults\":3");
    env.write("crew2.json", page);
    assert!(!env.ok(&["import", "crew2.json", "--as-of", D2]).contains("no longer"));
    env.write("crew3.json", crew(&[("B-1", true), ("B-3", true)]));
    env.ok(&["import", "crew3.json", "--accept-missing", "--as-of", D2]);
    env.ok(&["assess", "--as-of", D2]);
    let left = env.json(&["show", "B-2"]);
    assert_eq!((&left["remark"], &left["name"]), (&format!("no longer listed since {D2}").into(), &"Name B-2".into()));
    assert!(env.ok(&["show", "B-2"]).contains("no longer listed since"));
    assert_eq!(env.json(&["show", "B-2", "--as-of", D1])["remark"], "not active");
    env.fails(&["show", "B-4"], 2, &["no device, person, rule, baseline, service or group `B-4`", "did you mean `B-"]);
}

#[test]
fn corrections_are_told_with_what_the_feeds_say_by_now() {
    let env = fleet();
    let correction = |device: &str, fact: &str, value: &str, until: &str| {
        format!(
            "[[correction]]\ndevice = \"{device}\"\nfact = \"{fact}\"\nvalue = {value}\nbecause = \"seen\"\nby = \"desk\"\nuntil = {until}\n"
        )
    };
    env.write(
        "corrections.toml",
        correction("a", "platform", "\"linux\"", "2027-04-01")
            + &correction("b", "encrypted", "true", "2027-04-01")
            + &correction("c", "platform", "\"x\"", "2027-02-01"),
    );
    env.ok(&["assess"]);
    let listed = env.json(&["list", "corrections"]);
    let state = |device: &str| row(&listed, "device", device)["state"].clone();
    assert_eq!((state("a"), state("b"), state("c")), ("the feeds agree".into(), "in force".into(), "ended".into()));
    assert_eq!(row(&listed, "device", "b")["feeds_say"], "agents: false");
}

#[test]
fn the_dictionary_is_drafted_from_what_the_fleet_reports() {
    let env = Env::new();
    env.rules(&[("fine", "2d", "encrypted")]);
    for day in 1..=3 {
        let documents: Vec<Json> = (0..6)
            .map(|n| {
                json!({
                    "device": format!("d{n}"), "collected_at": format!("2027-03-0{day}T05:00:00Z"), "agent": { "version": format!("5.2.{n}") },
                    "seen": format!("2027-03-0{day}T04:0{n}:00Z"), "edition": "2027-02-01", "disk": { "free_bytes": 1000 * day + n },
                    "disks": [{ "mount": "/", "fs": "x" }, { "mount": "/home", "fs": "x" }], "wifi": { "password": "s3cr3t" }, "site": "Tern",
                    "encrypted": true,
                })
            })
            .collect();
        env.morning(&format!("2027-03-0{day}T06:00:00Z"), &documents);
    }
    let draft = env.ok(&["facts", "draft"]);
    let line = |path: &str| {
        draft
            .lines()
            .find(|line| line.starts_with(&format!("\"{path}\"")))
            .unwrap_or_else(|| panic!("no {path} in {draft}"))
            .to_owned()
    };
    assert!(line("agent.version").contains("type = \"version\" }") && line("edition").contains("type = \"date\" }"));
    assert!(line("seen").contains("type = \"instant\", volatile = true }"), "{draft}");
    assert!(line("disk.free_bytes").contains("type = \"number\", unit = \"B\", volatile = true }"), "{draft}");
    assert!(line("disks").contains("type = \"list\", key = \"mount\" }"));
    assert!(line("wifi.password").contains("secret = true }"));
    assert!(!draft.contains("\"site\"") && !draft.contains("s3cr3t"));
    // Kept, it has nothing left to say.
    env.write("facts.toml", format!("[facts]\n{draft}"));
    let again = env.ok(&["facts", "draft"]);
    assert!(again.contains("says all that the fleet suggests"), "{again}");
    let wrong = format!("[facts]\n{draft}").replace("type = \"date\"", "type = \"number\"");
    env.write("facts.toml", wrong);
    let told = env.ok(&["facts", "draft"]);
    assert!(told.contains("\"edition\": 6 of 6 are no number, such as 2027-02-01"), "{told}");
    env.write("facts.toml", "[facts]\n\"seen\" = { type = \"instant\" }\n");
    assert!(env.ok(&["facts", "draft"]).contains("# \"seen\" = { volatile = true }"));
}

#[test]
fn history_is_kept_as_long_as_the_workspace_says() {
    let env = Env::new();
    env.rules(&[("fine", "2d", "encrypted")]);
    env.fails(&["trim"], 2, &["there is no ledger"]);
    let document = |day: u32, good: bool| json!({ "device": "a", "collected_at": format!("2027-03-{day:02}T05:00:00Z"), "encrypted": good, "n": day });
    for day in 1..=10 {
        env.morning(&format!("2027-03-{day:02}T06:00:00Z"), &[document(day, day % 3 != 0)]);
    }
    env.fails(&["trim"], 2, &["keeps its history for ever", "[history] keep"]);
    env.write("fencepost.toml", format!("{STEPPED}[history]\nkeep = \"4d\"\n"));
    env.ok(&["assess"]);
    let then = ["show", "a", "--as-of", "2027-03-07T06:00:00Z", "--format", "json"];
    let before = env.ok(&then);
    let would = env.ok(&["trim", "--dry-run"]);
    assert!(
        would.contains("Would remove what ended before Sat 6 Mar 2027 07:00")
            && would.contains("5 collections that were overtaken"),
        "{would}"
    );
    assert_eq!(env.json(&["history", "a"])["collections"], 10);
    let done = env.ok(&["trim"]);
    assert!(done.contains("5 collections that were overtaken") && done.contains("The ledger went from"), "{done}");
    assert_eq!(env.json(&["history", "a"])["collections"], 5);
    assert!(env.ok(&["history", "a"]).contains("here history begins"));
    // What is still kept reads as before, to the byte.
    assert_eq!(env.ok(&then), before);
    env.fails(&["show", "a", "--as-of", "2027-03-03T06:00:00Z"], 2, &["is kept"]);
    assert!(env.ok(&["trim"]).contains("nothing was removed"));
    assert_eq!(env.json(&["list", "assessments"])["rows"].as_array().unwrap().len(), 6);
    assert_eq!(env.json(&["assess", "--as-of", "2027-03-11T06:00:00Z"])["devices"]["total"], 1);
}

#[test]
fn a_devices_history_tells_each_change_once() {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"software\" = { type = \"list\", key = \"name\" }\n\"up\" = { volatile = true }\n",
    );
    env.rules(&[("fine", "1d", "encrypted")]);
    let document = |day: u32, good: bool, software: Json| json!({ "device": "a", "collected_at": format!("2027-03-0{day}T05:00:00Z"), "encrypted": good, "up": day, "software": software });
    let two = json!([{ "name": "x", "v": "1" }, { "name": "y", "v": "1" }]);
    for (day, good, software) in [
        (1, true, two.clone()),
        (2, false, two),
        (3, false, json!([{ "name": "y", "v": "2" }])),
        (4, true, json!([{ "name": "y", "v": "2" }])),
    ] {
        env.morning(&format!("2027-03-0{day}T06:00:00Z"), &[document(day, good, software)]);
    }
    let told: Vec<String> = env.json(&["history", "a"])["happenings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let changes =
                one["changes"].as_array().into_iter().flatten().map(|change| {
                    format!(" {}:{}", change["fact"].as_str().unwrap(), change["kind"].as_str().unwrap())
                });
            format!(
                "{} {}{}",
                &one["at"].as_str().unwrap()[8..13],
                one["what"].as_str().unwrap(),
                changes.collect::<String>()
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            "01T05 first-seen",
            "01T06 standing",
            "02T05 changed encrypted:changed",
            "02T06 opened",
            "02T06 standing",
            "03T05 changed software[x]:gone software[y]:changed",
            "03T06 due",
            "03T06 standing",
            "04T05 changed encrypted:changed",
            "04T06 closed",
            "04T06 standing",
        ]
    );
    let csv = env.ok(&["history", "a", "--format", "csv"]);
    assert!(csv.contains("a,2027-03-03T05:00:00Z,changed,native,software[x],"), "{csv}");
    assert_eq!(
        env.json(&["history", "a", "--as-of", "2027-03-02T06:00:00Z"])["happenings"].as_array().unwrap().len(),
        5
    );
}
