//! On what feeds do not agree: told with since when, and with the lines that would settle it.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const SOURCES: &str = r#"
[[source]]
id = "agents"
files = ["agents-*.jsonl"]
trust = 20
fresh_for = "3d"

[[source]]
id = "register"
files = ["register-*.csv"]
format = "csv"
device = "Host"
collected = "Seen"
time_zone = "UTC"
fresh_for = "10d"
[source.fields]
"System" = "platform"
"Kind" = "kind"
"Version" = "os.version"

[[source]]
id = "people"
files = ["people.csv"]
format = "csv"
person = "No."
"#;

/// Three days of two feeds: on the second day the versions of a-1 part, the register spells one id otherwise, and one holder is on no list.
fn workspace() -> Env {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}{SOURCES}"));
    env.write(
        "facts.toml",
        "[facts]\n\"os.version\" = { type = \"version\" }\n\"load\" = { type = \"number\", volatile = true }\n",
    );
    env.rules(&[("versioned", "0", "os.version >= version(\"12\")")]);
    env.write("people.csv", "No.,Name\np-1,Ann\np-2,Bob\n");
    env.ok(&["import", "people.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    for day in 1..=3 {
        let agent = |device: &str, version: &str, person: &str| {
            format!(
                r#"{{"device":"{device}","collected_at":"2027-03-0{day}T05:00:00Z","platform":"linux","kind":"ship","os.version":"{version}","person":"{person}","load":{day}}}"#
            )
        };
        let version = if day == 1 { "13" } else { "14.1" };
        let agents = [agent("a-1", version, "p-1"), agent("a-2", "13", "p-9"), agent("a-3", "13", "P-2")].join("\n");
        env.write(&format!("agents-{day}.jsonl"), agents);
        let odd = if day == 1 { "a-3" } else { "A-3.ferry.example" };
        env.write(
            &format!("register-{day}.csv"),
            format!(
                "Host;Seen;System;Kind;Version;load\na-1;2027-03-0{day} 04:00;Linux;vessel;13.0;9\na-2;2027-03-0{day} 04:00;Linux;vessel;13.0;9\n{odd};2027-03-0{day} 04:00;Linux;vessel;13;9\n"
            ),
        );
        let at = format!("2027-03-0{day}T06:00:00Z");
        env.ok(&["import", &format!("agents-{day}.jsonl"), &format!("register-{day}.csv"), "--as-of", &at]);
    }
    env
}

fn rows(env: &Env, args: &[&str]) -> Vec<Json> {
    let all = [&["list", "disagreements"], args].concat();
    env.json(&all)["rows"].as_array().unwrap().clone()
}

#[test]
fn each_is_told_with_what_is_said_and_since_when() {
    let env = workspace();
    let all = rows(&env, &["--as-of", "2027-03-03T06:00:00Z"]);
    let of = |kind: &str, device: &str, fact: Json| -> &Json {
        let found = all.iter().find(|row| row["kind"] == kind && row["device"] == device && row["fact"] == fact);
        found.unwrap_or_else(|| panic!("no {kind} {device} {fact} in {all:?}"))
    };
    // The agent's 14.1 of day two is the later of the two statements that first differed; 13 and 13.0 are one version.
    let version = of("feeds", "a-1", json!("os.version"));
    assert_eq!((&version["since"], &version["days"]), (&json!("2027-03-02T05:00:00Z"), &json!(1)));
    assert_eq!(
        version["values"][0],
        json!({ "source": "agents", "value": "14.1", "collected_at": "2027-03-03T05:00:00Z" })
    );
    assert_eq!(
        version["values"][1],
        json!({ "source": "register", "value": "13.0", "collected_at": "2027-03-03T04:00:00Z" })
    );
    let platform = of("feeds", "a-2", json!("platform"));
    assert_eq!((&platform["since"], &platform["days"]), (&json!("2027-03-01T05:00:00Z"), &json!(2)));
    let spelling = of("spelling", "a-3", Json::Null);
    assert_eq!(spelling["since"], "2027-03-02T04:00:00Z");
    let ids: Vec<&str> =
        spelling["values"].as_array().unwrap().iter().map(|said| said["value"].as_str().unwrap()).collect();
    assert_eq!(ids, ["a-3", "a-3", "A-3.ferry.example"]);
    let holder = of("holder", "a-2", json!("person"));
    assert_eq!((&holder["values"][0]["value"], &holder["since"]), (&json!("p-9"), &json!("2027-03-01T05:00:00Z")));
    of("holder", "a-3", json!("person"));
    // What always changes is left out.
    assert!(all.iter().all(|row| row["fact"] != "load"), "{all:?}");
    // Once the agents are silent for longer than promised, they disagree with nobody.
    env.write("register-9.csv", "Host;Seen;System;Kind;Version;load\na-1;2027-03-09 04:00;Linux;vessel;13.0;9\n");
    env.ok(&["import", "register-9.csv", "--as-of", "2027-03-09T06:00:00Z"]);
    let later = rows(&env, &[]);
    assert!(later.iter().all(|row| row["kind"] != "feeds"), "{later:?}");
}

#[test]
fn the_lines_that_would_settle_it_do() {
    let env = workspace();
    let fixes = env.ok(&["list", "disagreements", "--fix", "--as-of", "2027-03-03T06:00:00Z"]);
    insta::assert_snapshot!(fixes, @r#"
    # 1 id of `register` another feed spells otherwise. In its [[source]] in fencepost.toml:
    device = { field = "Host", case = "lower", before = "." }

    # `register` has other words for kind, on 3 devices. Below its [source.fields] in fencepost.toml:
    "Kind" = { fact = "kind", values = { "vessel" = "ship" } }

    # platform of `register` differs in its letters alone, on 3 devices. Below its [source.fields] in fencepost.toml:
    "System" = { fact = "platform", case = "lower" }

    # In corrections.toml, what of it is right, with who says so, why and until which day:

    [[correction]]
    device  = "a-2"
    fact    = "person"
    value   = ".."  # no list of people has "p-9": correct it, or add the person to the list
    because = ".."
    by      = ".."
    until   = ..  # a day

    [[correction]]
    device  = "a-3"
    fact    = "person"
    value   = "p-2"  # the feed says "P-2", and the list of people has it so
    because = ".."
    by      = ".."
    until   = ..  # a day

    [[correction]]
    device  = "a-1"
    fact    = "os.version"
    value   = "14.1"  # it counts now; register says "13.0"
    because = ".."
    by      = ".."
    until   = ..  # a day
    "#);
    // Put in, they leave what only a person can tell.
    let mapping = SOURCES
        .replace("device = \"Host\"", "device = { field = \"Host\", case = \"lower\", before = \".\" }")
        .replace("\"System\" = \"platform\"", "\"System\" = { fact = \"platform\", case = \"lower\" }")
        .replace("\"Kind\" = \"kind\"", "\"Kind\" = { fact = \"kind\", values = { \"vessel\" = \"ship\" } }");
    env.write("fencepost.toml", format!("{STEPPED}{mapping}"));
    let again: Vec<String> = (1..=3).map(|day| format!("register-{day}.csv")).collect();
    let mut import = vec!["import", "--as-of", "2027-03-03T07:00:00Z"];
    import.extend(again.iter().map(String::as_str));
    env.ok(&import);
    let left = rows(&env, &[]);
    let feeds: Vec<&Json> = left.iter().filter(|row| row["kind"] == "feeds").collect();
    assert!(feeds.len() == 1 && feeds[0]["fact"] == "os.version", "{feeds:?}");
    env.fails(&["list", "devices", "--fix"], 2, &["--fix is of disagreements"]);
}

#[test]
fn hostile_words_stay_within_their_quotes() {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}{SOURCES}"));
    env.write(
        "agents-1.jsonl",
        r#"{"device":"d\"\n[[rule]]","collected_at":"2027-03-01T05:00:00Z","os.version":"1\u001b[31m\nx","passcode":"774411"}"#,
    );
    env.write(
        "register-1.csv",
        "Host;Seen;System;Kind;Version;passcode\n\"d\"\"\n[[rule]]\";2027-03-01 04:00;l;k;2;88\n",
    );
    env.ok(&["import", "agents-1.jsonl", "register-1.csv", "--as-of", "2027-03-01T06:00:00Z"]);
    let fixes = env.ok(&["list", "disagreements", "--fix"]);
    assert!(!fixes.contains('\u{1b}') && !fixes.contains("774411"), "{fixes}");
    let filled = fixes.replace("until   = ..", "until   = 2027-04-01");
    env.write("corrections.toml", filled);
    env.ok(&["list", "corrections"]);
}
