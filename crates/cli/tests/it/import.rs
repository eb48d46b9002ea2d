//! Importing: what goes in, what is set aside, and what stays the same.

use serde_json::json;

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-01T06:00:00Z";

fn feeds() -> Env {
    let env = Env::new();
    let sources = r#"
[[source]]
id = "agents"
files = ["feeds/agents-*.jsonl"]
trust = 20
fresh_for = "3d"

[[source]]
id = "handhelds"
files = ["feeds/handhelds-*.csv"]
format = "csv"
delimiter = ";"
device = "Asset tag"
collected = "Exported at"
trust = 10

[source.fields]
"Encrypted?" = { fact = "encrypted", true_when = ["Ja"], false_when = ["Nei"] }
"Free (GB)" = { fact = "free", unit = "GB" }

[[source]]
id = "people"
files = ["feeds/people*.csv"]
format = "csv"
person = "No."
complete = true
[source.fields]
"Name" = "name"
"#;
    env.write("fencepost.toml", format!("{STEPPED}{sources}"));
    env.write("facts.toml", "[facts]\n\"free\" = { type = \"number\", unit = \"B\" }\n");
    env.rules(&[("fine", "0", "encrypted")]);
    env
}

#[test]
fn sources_are_told_by_the_names_of_files_and_merged_by_trust() {
    let env = feeds();
    env.write(
        "feeds/agents-1.jsonl",
        r#"{"device":"t1","collected_at":"2027-03-01T05:00:00Z","encrypted":false,"person":"p1"}"#,
    );
    env.write("feeds/handhelds-1.csv", "\u{feff}Asset tag;Exported at;Encrypted?;Free (GB)\r\nt1;2027-03-01 06:30;Ja;2,5\r\nt2;2027-03-01 06:30;ja;2.5\r\n");
    env.write("feeds/people.csv", "No.,Name\np1,Brobek\n");
    env.write("feeds/readme.txt", "no feed");
    let out = env.ok(&["import", "feeds", "--as-of", AT]);
    assert!(
        out.contains("as agents: 1 record, 1 new device")
            && out.contains("as handhelds: 2 records, 1 new device, 1 changed"),
        "{out}"
    );
    let shown = env.json(&["show", "t1"]);
    let fact =
        |name: &str| shown["facts"].as_array().unwrap().iter().find(|fact| fact["fact"] == name).unwrap().clone();
    assert_eq!((&fact("encrypted")["value"], &fact("encrypted")["source"]), (&"false".into(), &"agents".into()));
    assert_eq!(fact("encrypted")["losers"][0]["value"], "true");
    // A number with a comma is kept as it came, of the wrong type.
    assert_eq!((&fact("free")["value"], &fact("free")["wrong_type"]), (&"2,5".into(), &true.into()));
    assert_eq!(shown["holders"][0]["name"], "Brobek");
    let other = env.json(&["show", "t2"]);
    assert_eq!(other["collected_at"], "2027-03-01T05:30:00Z");
    assert!(
        other["facts"].as_array().unwrap().iter().any(|fact| fact["fact"] == "free" && fact["value"] == "2500000000")
    );
}

#[test]
fn a_file_that_is_imported_again_has_no_effect() {
    let env = feeds();
    env.write("feeds/agents-1.jsonl", r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","encrypted":true}"#);
    env.ok(&["import", "feeds/agents-1.jsonl", "--as-of", AT]);
    let again = env.ok(&["import", "feeds/agents-1.jsonl", "--as-of", AT]);
    assert!(again.contains("imported before as agents; nothing to do"), "{again}");
    env.ok(&["assess"]);
    let state = env.ok(&["list", "devices", "--format", "csv"]);
    // The same content under another name is the same file.
    env.write("feeds/agents-2.jsonl", std::fs::read(env.path("feeds/agents-1.jsonl")).unwrap());
    env.ok(&["import", "feeds/agents-2.jsonl", "--as-of", AT]);
    assert_eq!(env.json(&["assess"])["assessment"], 1);
    assert_eq!(env.ok(&["list", "devices", "--format", "csv"]), state);
}

#[test]
fn bad_records_are_set_aside_with_line_and_reason_and_the_good_ones_go_in() {
    let env = feeds();
    let lines = [
        r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","secret":"do-not-tell"}"#,
        r#"{"device":"b","collected_at":"2027-03-01T05:00:00Z","secret":"do-not-tell""#,
        r#"{"device":"","collected_at":"2027-03-01T05:00:00Z"}"#,
        r#"{"device":7,"collected_at":"2027-03-01T05:00:00Z"}"#,
        r#"{"device":"c"}"#,
        r#"{"device":"c","collected_at":"noon"}"#,
        r#"{"device":"late","collected_at":"2027-03-01T06:05:01Z"}"#,
        r#"{"device":"fast","collected_at":"2027-03-01T06:05:00Z"}"#,
        r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","other":1}"#,
        r#"{"device":"x","device":"y","collected_at":"2027-03-01T05:00:00Z"}"#,
    ];
    env.write("feeds/agents-1.jsonl", lines.join("\n"));
    let out = env.ok(&["import", "feeds/agents-1.jsonl", "--as-of", AT]);
    assert!(out.contains("10 records, 2 new devices") && out.contains("8 bad records were set aside"), "{out}");
    let rejects = env.ok(&["list", "rejects", "--format", "csv"]);
    for (line, reason) in [
        (2, "byte 74"),
        (3, "`device` is empty"),
        (4, "is a number, not a text"),
        (5, "no `collected_at`"),
        (6, "is no moment"),
        (7, "clock: collected at 2027-03-01T06:05:01Z"),
        (9, "collected twice"),
        (10, "`device` is given twice"),
    ] {
        let row = rejects
            .lines()
            .find(|row| row.contains(&format!(",{line},")))
            .unwrap_or_else(|| panic!("no line {line} in {rejects}"));
        assert!(row.contains(reason), "{row}");
    }
    // The record itself is nowhere in what was set aside.
    assert!(!rejects.contains("do-not-tell"));
    env.write("feeds/agents-2.jsonl", lines[..3].join("\n").replace("\"a\"", "\"z\""));
    env.fails(
        &["import", "feeds/agents-2.jsonl", "--strict", "--as-of", AT],
        2,
        &["2 of 3 records are bad", "line 2", "--strict"],
    );
    assert!(!env.ok(&["list", "devices"]).contains("z "));
}

#[test]
fn an_older_observation_is_history_and_never_news() {
    let env = feeds();
    env.write("feeds/agents-1.jsonl", r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","encrypted":true}"#);
    env.write("feeds/agents-0.jsonl", r#"{"device":"a","collected_at":"2027-02-01T05:00:00Z","encrypted":false}"#);
    env.ok(&["import", "feeds/agents-1.jsonl", "--as-of", AT]);
    let out = env.ok(&["import", "feeds/agents-0.jsonl", "--as-of", AT]);
    assert!(out.contains("1 older than what is known"), "{out}");
    assert_eq!(env.json(&["assess"])["devices"]["compliant"], 1);
}

#[test]
fn standard_input_and_named_sources() {
    let env = feeds();
    let document = br#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","encrypted":true}"#;
    let unnamed = env.pipe(&["import", "-", "--as-of", AT], document);
    assert!(unnamed.code == 2 && unnamed.err.contains("--source"), "{}", unnamed.err);
    assert_eq!(env.pipe(&["import", "-", "--source", "agents", "--as-of", AT], document).code, 0);
    env.fails(&["import", "fencepost.toml", "--as-of", AT], 2, &["fits no source", "agents, handhelds, people"]);
    env.fails(&["import", "fencepost.toml", "--source", "agent", "--as-of", AT], 2, &["did you mean `agents`?"]);
    env.fails(&["import", "nowhere.jsonl", "--as-of", AT], 2, &["could not read nowhere.jsonl"]);
}

#[test]
fn a_file_that_fits_two_sources_names_both() {
    let env = feeds();
    env.write(
        "fencepost.toml",
        format!("{STEPPED}[[source]]\nid = \"a\"\nfiles = [\"*.jsonl\"]\n[[source]]\nid = \"b\"\nfiles = [\"x*\"]\n"),
    );
    env.write("x.jsonl", "{}");
    env.fails(&["import", "x.jsonl", "--as-of", AT], 2, &["fits two sources, `a` and `b`"]);
}

#[test]
fn people_who_leave_a_complete_list_are_gone_unless_they_are_too_many() {
    let env = feeds();
    let list =
        |ids: &[u32]| format!("No.,Name\n{}", ids.iter().map(|id| format!("p{id},Name {id}\n")).collect::<String>());
    env.write("feeds/agents-1.jsonl", r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","encrypted":true}"#);
    env.write("feeds/people-1.csv", list(&[1, 2, 3, 4, 5, 6]));
    env.write("feeds/people-2.csv", list(&[1, 2, 3, 4, 5]));
    env.write("feeds/people-3.csv", list(&[1, 2]));
    let people = || env.json(&["list", "people"])["rows"].as_array().unwrap().len();
    env.ok(&["import", "feeds/agents-1.jsonl", "feeds/people-1.csv", "--as-of", AT]);
    assert_eq!(people(), 6);
    assert!(env.ok(&["import", "feeds/people-2.csv", "--as-of", AT]).contains("1 no longer listed"));
    assert_eq!(people(), 5);
    assert!(env.ok(&["import", "feeds/people-3.csv", "--as-of", AT]).contains("more than a fifth"));
    assert_eq!(people(), 5);
}

#[test]
fn a_missing_column_refuses_the_whole_file() {
    let env = feeds();
    env.write("feeds/handhelds-1.csv", "Asset tag;Exported at;Free (GB)\nt1;2027-03-01 06:30;2\n");
    env.fails(
        &["import", "feeds/handhelds-1.csv", "--as-of", AT],
        2,
        &["column `Encrypted?` is missing", "nothing of this file was imported"],
    );
    env.write("feeds/handhelds-2.csv", "Asset tag,Exported at,Encrypted?,Free (GB)\n");
    env.fails(&["import", "feeds/handhelds-2.csv", "--as-of", AT], 2, &["columns `Asset tag`", "are missing"]);
}

#[test]
fn corrections_outrank_feeds_and_are_shown() {
    let env = feeds();
    env.write("feeds/agents-1.jsonl", r#"{"device":"a","collected_at":"2027-03-01T05:00:00Z","encrypted":false}"#);
    env.ok(&["import", "feeds/agents-1.jsonl", "--as-of", AT]);
    assert_eq!(env.json(&["assess"])["devices"]["non_compliant"], 1);
    env.write("corrections.toml", "[[correction]]\ndevice = \"a\"\nfact = \"encrypted\"\nvalue = true\nbecause = \"seen myself\"\nby = \"desk\"\nuntil = 2027-03-03\n");
    let after = env.json(&["assess"]);
    assert_eq!((&after["devices"]["compliant"], &after["closed"][0]["how"]), (&1.into(), &"corrected".into()));
    assert!(env.ok(&["why", "a", "fine"]).contains("corrected by desk: seen myself"));
    // It ends with its last day, and the clock that ran before runs on.
    let ended = env.json(&["assess", "--as-of", "2027-03-03T23:00:00Z"]);
    assert_eq!(ended["opened"][0]["how"], "relapsed");
}

#[test]
fn a_large_file_is_taken_in_its_order_and_every_document_comes_back_whole() {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"where\" = { type = \"text\", company_only = true }\n\"up\" = { volatile = true }\n",
    );
    env.write("fencepost.toml", format!("{STEPPED}company_device = 'owner = \"us\"'\n"));
    env.rules(&[("small", "0", "n < 1500 and count(apps[name = \"app 7\"]) = 1")]);
    let line = |n: usize| {
        let apps: Vec<_> =
            (0..40).map(|at| json!({ "name": format!("app {at}"), "version": format!("{}.{n}", at * 7) })).collect();
        let owner = if n.is_multiple_of(3) { "us" } else { "them" };
        json!({
            "device": format!("d{n:04}"), "collected_at": "2027-03-01T05:00:00Z", "n": n, "owner": owner, "where": format!("deck {n}"),
            "up": n * 3, "password": format!("p{n}"), "apps": apps,
        })
    };
    let mut lines: Vec<String> = (0..2_000).map(|n| line(n).to_string()).collect();
    lines.insert(1_000, "{\"device\":\"broken\"".to_owned());
    lines.push(line(7).to_string().replace("deck", "berth"));
    env.write("all.jsonl", lines.join("\n"));
    let ran = env.run(&["import", "all.jsonl", "--as-of", AT]);
    assert!(ran.out.contains("2002 records, 2000 new devices"), "{}", ran.out);
    // Of a device that is not the company's, where it is was left out of both, so the second says nothing else.
    let rejects = env.json(&["list", "rejects"]);
    let places: Vec<_> = rejects["rows"].as_array().unwrap().iter().map(|row| row["line"].as_i64().unwrap()).collect();
    assert_eq!(places, [1_001, 2_002], "{rejects}");
    for n in [0, 7, 999, 1_998] {
        let shown = env.ok(&["show", &format!("d{n:04}"), "--format", "csv"]);
        let own = n % 3 == 0;
        assert_eq!(shown.contains(&format!("deck {n}")), own, "{shown}");
        assert!(shown.contains(&format!("35.{n}}}")) && shown.contains(&(n * 3).to_string()), "{shown}");
        assert!(!shown.contains(&format!("p{n},")), "{shown}");
    }
    let assessed = env.json(&["assess", "--as-of", AT, "--workers", "2"]);
    assert_eq!(assessed["rules"][0]["fail"], 500);
    // What is known already is not new, and what changed is.
    lines[3] = lines[3].replace("\"n\":3", "\"n\":1700").replace("05:00:00Z", "05:30:00Z");
    lines.pop();
    env.write("again.jsonl", lines.join("\n"));
    let again = env.ok(&["import", "again.jsonl", "--as-of", AT]);
    assert!(again.contains("0 new devices, 1 changed, 1999 unchanged"), "{again}");
    let assessed = env.json(&["assess", "--as-of", AT]);
    assert_eq!(assessed["rules"][0]["fail"], 501);
    // The same when everything is evaluated again, which is an assessment of its own.
    let anew = env.json(&["assess", "--anew", "--as-of", AT, "--workers", "1"]);
    assert_eq!((&anew["rules"], &anew["devices"]), (&assessed["rules"], &assessed["devices"]));
    assert_eq!(anew["assessment"].as_i64(), assessed["assessment"].as_i64().map(|number| number + 1));
}

#[test]
fn people_whom_two_lists_call_by_different_names_are_told_with_line_and_remedy() {
    let env = Env::new();
    let list =
        |id: &str| format!("[[source]]\nid = \"{id}\"\nfiles = [\"{id}.csv\"]\nformat = \"csv\"\nperson = \"id\"\n");
    env.write("fencepost.toml", format!("{STEPPED}{}{}", list("crew"), list("office")));
    env.write("crew.csv", "id,name,unit\np1,Brobek,deck\np2,Drafonn,deck\n");
    env.write("office.csv", "id,name,mail\np1,Bro Bek,b@x.example\np2,Drafonn,d@x.example\np3,Stornask,\n");
    env.ok(&["import", "crew.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    let told = env.ok(&["import", "office.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    assert!(told.contains("1 person is called otherwise in another list; make them agree"), "{told}");
    assert!(told.contains("line 2: p1 is Bro Bek here, Brobek in crew"), "{told}");
    // Nothing is lost: both say what they know.
    let rows = env.json(&["list", "people", "--columns", "person,unit,mail"]);
    assert_eq!(rows["rows"][0]["unit"], "deck");
    assert_eq!(rows["rows"][0]["mail"], "b@x.example");
}

#[test]
fn what_became_of_files_is_told_to_machines_as_to_people() {
    let env = feeds();
    env.write(
        "facts.toml",
        "[facts]\n\"free\" = { type = \"number\", unit = \"B\" }\n\"os.version\" = { type = \"version\" }\n",
    );
    env.write("feeds/people.csv", "No.,Name\np1,Ann\n");
    env.ok(&["import", "feeds/people.csv", "--as-of", AT]);
    env.write(
        "feeds/agents-1.jsonl",
        "{\"device\":\"a\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"os.version\":\"4.x\",\"person\":\"p2\"}\n{\"device\":\"b\"}\n{}\nx\n{\"device\":\"A\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"passcode\":\"1234\"}\n",
    );
    env.write("feeds/handhelds-1.csv", "Asset tag;Exported at;Encrypted;Free (GB)\nt;2027-03-01 06:30;Ja;2\n");
    let args = ["import", "feeds", "--as-of", AT, "--format", "json"];
    let dry = env.run(&[&args[..], &["--dry-run"]].concat());
    let ran = env.run(&args);
    assert_eq!((dry.code, ran.code), (2, 2), "a file was refused");
    // A dry run says exactly what the import then does.
    assert_eq!(dry.out, ran.out);
    let all: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(all["schema"], 1);
    let file = |name: &str| {
        let files = all["files"].as_array().unwrap();
        files.iter().find(|file| file["file"].as_str().unwrap().contains(name)).unwrap()
    };
    let agents = file("agents-1");
    assert_eq!(
        json!([
            agents["source"],
            agents["records"],
            agents["devices"],
            agents["new"],
            agents["changed"],
            agents["unchanged"]
        ]),
        json!(["agents", 5, 3, 2, 0, 0])
    );
    assert_eq!(
        agents["set_aside"],
        json!([
            { "reason": "cannot be read", "count": 1, "lines": [4] },
            { "reason": "names nobody", "count": 1, "lines": [3] },
            { "reason": "does not say when it was collected", "count": 1, "lines": [2] },
        ])
    );
    // No rule reads the version: it is looked at all the same.
    let wrong = json!([{ "fact": "os.version", "declared": "version", "count": 1, "example": "4.x" }]);
    assert_eq!(agents["wrong_types"], wrong);
    assert_eq!((&agents["unknown_holders"], &agents["secrets"]), (&json!(["p2"]), &json!(["passcode"])));
    assert_eq!(agents["other_spellings"], json!([{ "device": "a", "known": "A" }, { "device": "A", "known": "a" }]));
    let refused = file("handhelds-1");
    assert_eq!(refused["columns_missing"], json!(["Encrypted?"]));
    assert!(
        refused["refused"].as_str().unwrap().contains("column `Encrypted?` is gone; `Encrypted` is new"),
        "{refused}"
    );
    // Lines and a table have a row for each file.
    let lines = env.run(&["import", "feeds", "--as-of", AT, "--format", "jsonl"]).out;
    assert_eq!(lines.lines().count(), 3);
    assert!(lines.lines().all(|line| line.contains("\"schema\":1")));
    let table = env.run(&["import", "feeds", "--as-of", AT, "--format", "csv"]).out;
    assert!(table.starts_with("file,source,records,rows,devices,new,"), "{table}");
}

/// The devices that a complete source no longer lists.
fn absent(env: &Env) -> Vec<String> {
    let listing = env.json(&["list", "devices", "--columns", "device,absent"]);
    let rows = listing["rows"].as_array().unwrap().iter();
    let gone = rows.filter(|row| row["absent"].as_str().is_some_and(|sources| !sources.is_empty()));
    gone.map(|row| row["device"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn complete_files_mark_and_unmark_absence_and_older_or_broken_ones_do_not() {
    let env = Env::new();
    let source = "[[source]]\nid = \"list\"\nfiles = [\"list-*.csv\"]\nformat = \"csv\"\ndevice = \"Host\"\ncollected = \"Seen\"\ntime_zone = \"UTC\"\ncomplete = true\nexpected_every = \"1d\"\n";
    env.write("fencepost.toml", format!("{STEPPED}{source}"));
    let list = |day: u32, devices: &[u32], more: &str| {
        let rows: String = devices.iter().map(|device| format!("d-{device};2027-03-{day:02} 05:00\n")).collect();
        env.write(&format!("list-{day}.csv"), format!("Host;Seen\n{rows}{more}"));
    };
    let import = |day: u32, at: u32| {
        env.ok(&["import", &format!("list-{day}.csv"), "--as-of", &format!("2027-03-{at:02}T06:00:00Z")])
    };
    let all: Vec<u32> = (1..=10).collect();
    list(1, &all, "");
    import(1, 1);
    list(5, &all[..9], "");
    assert!(import(5, 5).contains("1 no longer listed"));
    assert_eq!(absent(&env), ["d-10"]);
    // A late file of an earlier day changes no absence: neither takes one back nor marks one.
    list(3, &[1, 2, 3, 4, 5, 6, 7, 8, 10], "");
    import(3, 6);
    assert_eq!(absent(&env), ["d-10"]);
    // Records that were set aside may be the missing ones, so nobody is newly absent; whoever is in the file is back.
    list(7, &[1, 2, 3, 4, 5, 6, 7, 10], "d-9;whenever\n");
    let broken = import(7, 7);
    assert!(broken.contains("records were set aside, which may be theirs"), "{broken}");
    assert_eq!(absent(&env), Vec::<String>::new());
    // The same statement as before in a newer list: it is in there.
    list(8, &all[..9], "");
    import(8, 8);
    assert_eq!(absent(&env), ["d-10"]);
    env.write(
        "list-9.csv",
        format!("{}d-10;2027-03-07 05:00\n", std::fs::read_to_string(env.path("list-8.csv")).unwrap()),
    );
    env.ok(&["import", "list-9.csv", "--as-of", "2027-03-09T06:00:00Z"]);
    assert_eq!(absent(&env), Vec::<String>::new());
    // Rejects of a late file are counted as those of any other.
    list(2, &all, ";2027-03-02 05:00\nd-3;2032-01-01 05:00\n");
    import(2, 10);
    let sources = env.json(&["list", "sources", "--columns", "source,set_aside,set_aside_ever,last_import"]);
    let row = &sources["rows"][0];
    assert_eq!(
        json!([row["set_aside"], row["set_aside_ever"], row["last_import"]]),
        json!([2, 3, "2027-03-10T06:00:00Z"])
    );
}

#[test]
fn a_list_of_less_trust_revives_no_retired_device_and_says_so() {
    let env = feeds();
    let agent = |day: u32| {
        env.write(
            &format!("feeds/agents-{day}.jsonl"),
            format!(r#"{{"device":"t1","collected_at":"2027-03-{day:02}T05:00:00Z","encrypted":true}}"#),
        );
        env.ok(&["import", &format!("feeds/agents-{day}.jsonl"), "--as-of", &format!("2027-03-{day:02}T06:00:00Z")])
    };
    let list = |day: u32| {
        let csv = format!("Asset tag;Exported at;Encrypted?;Free (GB)\nt1;2027-03-{day:02} 06:30;Ja;2\n");
        env.write(&format!("feeds/handhelds-{day}.csv"), csv);
        env.ok(&["import", &format!("feeds/handhelds-{day}.csv"), "--as-of", &format!("2027-03-{day:02}T06:00:00Z")])
    };
    agent(1);
    list(2);
    env.ok(&["assess"]);
    env.write("devices.toml", "[[device]]\nid = \"t1\"\nretired = 2027-03-03\nbecause = \"sold\"\n");
    env.ok(&["assess", "--as-of", "2027-03-04T06:00:00Z"]);
    // The purchasing list goes on naming it.
    let told = list(5);
    assert!(told.contains("1 retired device is named, and stays retired") && told.contains("t1"), "{told}");
    assert_eq!(env.json(&["assess", "--as-of", "2027-03-05T07:00:00Z"])["devices"]["total"], 0);
    assert!(!env.json(&["show", "t1"])["retired"].is_null());
    // The agent speaks again: it lives, and the list counts too.
    assert!(!agent(6).contains("retired device"));
    assert_eq!(env.json(&["assess", "--as-of", "2027-03-06T07:00:00Z"])["devices"]["total"], 1);
    assert!(!list(7).contains("retired device"));
}

#[test]
fn a_device_is_as_old_as_what_its_enforced_rules_rest_on() {
    let env = feeds();
    env.write("feeds/agents-1.jsonl", r#"{"device":"t1","collected_at":"2027-03-01T05:00:00Z","encrypted":true}"#);
    env.write(
        "feeds/handhelds-1.csv",
        "Asset tag;Exported at;Encrypted?;Free (GB)\nt1;2027-03-02 06:30;Ja;2\nt2;2027-03-02 06:30;Ja;2\n",
    );
    env.ok(&["import", "feeds", "--as-of", "2027-03-02T06:00:00Z"]);
    let told = env.ok(&["assess"]);
    // The list came this morning; what the rule reads of t1 is the agent's of yesterday.
    assert_eq!(env.json(&["show", "t1"])["collected_at"], "2027-03-01T05:00:00Z");
    assert_eq!(env.json(&["show", "t2"])["collected_at"], "2027-03-02T05:30:00Z");
    assert!(told.contains("State collected between Mon 06:00, 1 d 1 h ago, and Tue 06:30"), "{told}");
}
