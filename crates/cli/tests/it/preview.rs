//! What edited rules would change, said before they are in force.

use serde_json::json;

use crate::env::Env;

const RULES: &str = r#"
[[rule]]
id = "long"
groups = ["every-device"]
require = 'length >= 8'

[[rule]]
id = "locked"
groups = ["every-device"]
require = 'lock <= 15'
"#;

const GROUPS: &str = "[[group]]\nid = \"deck\"\nwhere = 'site = \"deck\"'\n";

fn fleet() -> Env {
    let env = Env::new();
    env.write("rules/test.toml", RULES);
    env.write("groups.toml", GROUPS);
    let device = |id: &str, site: &str, length: u32, lock: u32| json!({ "device": id, "collected_at": "2027-03-02T05:00:00Z", "site": site, "length": length, "lock": lock });
    let all = [device("a", "deck", 8, 10), device("b", "deck", 10, 20), device("c", "office", 12, 10)];
    env.morning("2027-03-02T06:00:00Z", &all);
    env
}

#[test]
fn both_ways_and_by_rule_group_and_name() {
    let env = fleet();
    assert!(env.ok(&["preview"]).contains("The rules are the same: nothing would change on 3 devices"));
    let ledger = || std::fs::read(env.path(".fencepost/ledger.sqlite")).unwrap();
    let before = ledger();
    // Stricter, milder, drafted and taken out.
    let more = "\n[[rule]]\nid = \"odd\"\nstage = \"draft\"\ngroups = [\"deck\"]\nrequire = 'length > 8'\n";
    env.write("rules/test.toml", RULES.replace(">= 8", ">= 10").replace("lock <= 15", "lock <= 30") + more);
    let found = env.json(&["preview"]);
    let verdicts: Vec<String> = found["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|flips| {
            format!("{} {} {} {} {}", flips["rule"], flips["stage"], flips["before"], flips["after"], flips["devices"])
                .replace('"', "")
        })
        .collect();
    assert_eq!(
        verdicts,
        [
            "long enforced pass fail [a]",
            "locked enforced fail pass [b]",
            "odd trial null fail [a]",
            "odd trial null pass [b]",
        ]
    );
    let standings: Vec<String> = found["standings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|flip| format!("{} {} {}", flip["device"], flip["before"], flip["after"]).replace('"', ""))
        .collect();
    assert_eq!(standings, ["a compliant non-compliant", "b non-compliant compliant"]);
    assert_eq!(found["groups"], json!([{ "group": "deck", "devices": 2, "worse": ["a"], "better": ["b"] }]));
    assert_eq!((&found["opened"], &found["closed"]), (&1.into(), &1.into()));
    let table = env.ok(&["preview"]);
    assert!(table.contains("2 of 3 devices would stand otherwise: 1 worse, 1 better"), "{table}");
    assert_eq!(env.ok(&["preview", "--format", "csv"]).lines().count(), 1 + 4 + 2);
    assert!(before == ledger(), "a preview wrote something");
    // What is on trial and would count is told, though it says the same.
    env.write("rules/test.toml", RULES.replace("id = \"locked\"", "id = \"locked\"\nstage = \"trial\""));
    let milder = env.json(&["preview"])["verdicts"].clone();
    let same =
        ["rule", "stage_before", "stage", "before", "after"].map(|key| milder[0][key].to_string().replace('"', ""));
    assert_eq!(same, ["locked", "enforced", "trial", "fail", "fail"]);
    // A rule that is gone judges nobody.
    env.write("rules/test.toml", RULES.replace("locked", "lock"));
    let gone = env.json(&["preview"]);
    let words: Vec<&serde_json::Value> =
        gone["verdicts"].as_array().unwrap().iter().filter(|flips| flips["rule"] == "locked").collect();
    assert!(
        words.iter().all(|flips| flips["after"].is_null() && flips["stage"].is_null()) && words.len() == 2,
        "{gone}"
    );
    // And then it comes as it was foreseen.
    env.write("rules/test.toml", RULES.replace(">= 8", ">= 10"));
    let foreseen = env.json(&["preview"])["standings"].clone();
    assert_eq!(foreseen[0]["device"], "a");
    env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
    assert_eq!(env.json(&["list", "devices"])["rows"][0]["standing"], foreseen[0]["after"]);
}

#[test]
fn a_draft_that_was_there_already_takes_part() {
    let env = fleet();
    let draft = "\n[[rule]]\nid = \"odd\"\nstage = \"draft\"\ngroups = [\"deck\"]\nrequire = 'length > 8'\n";
    env.write("rules/test.toml", RULES.to_owned() + draft);
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    for at in ["2027-03-02T07:00:00Z", "2027-03-02T09:00:00Z"] {
        let found = env.json(&["preview", "--as-of", at]);
        let flips = found["verdicts"].as_array().unwrap().iter();
        let flips: Vec<String> = flips
            .map(|flips| format!("{} {} {}", flips["rule"], flips["after"], flips["devices"]).replace('"', ""))
            .collect();
        assert_eq!(flips, ["odd fail [a]", "odd pass [b]"], "{at}");
        assert_eq!(found["standings"], json!([]), "{at}");
    }
}

#[test]
fn a_proposal_lies_in_a_folder_of_its_own() {
    let env = fleet();
    env.write("proposal/fencepost.toml", "name = \"Proposal\"\ntime_zone = \"Europe/Oslo\"\n");
    env.write("proposal/rules/all.toml", RULES.replace("lock <= 15", "lock <= 5"));
    let found = env.json(&["preview", "proposal"]);
    assert_eq!(found["standings"].as_array().unwrap().len(), 2, "{found}");
    env.fails(&["preview", "rules"], 2, &["no workspace", "fencepost.toml"]);
    env.write("proposal/rules/all.toml", "[[rule]]\nid = \"x\"\n");
    env.fails(&["preview", "proposal"], 2, &["scope-for-nobody"]);
    let empty = Env::new();
    empty.rules(&[("fine", "1d", "ok")]);
    empty.write("s.jsonl", "{\"device\":\"a\",\"collected_at\":\"2027-03-02T05:00:00Z\"}\n");
    empty.ok(&["import", "s.jsonl", "--as-of", "2027-03-02T06:00:00Z"]);
    empty.fails(&["preview"], 2, &["nothing was assessed yet", "fencepost assess"]);
}

const DEVICES: &str = r#"
[[device]]
id = "b"
retired = 2027-03-02
because = "sold"
"#;

const CORRECTION: &str = r#"
[[correction]]
device = "a"
fact = "site"
value = "office"
because = "moved"
by = "desk"
until = 2027-06-30
"#;

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
when = 'signin.client = "browser" and site = "deck"'
needs = 'standing = "compliant"'
otherwise = { limits = ["no download"] }
"#;

fn fleet_with_people() -> Env {
    let env = Env::new();
    let sources = "silence = { grace = \"3d\" }\n[[source]]\nid = \"agents\"\nfiles = [\"*.jsonl\"]\nfresh_for = \"10d\"\n[[source]]\nid = \"people\"\nfiles = [\"people.csv\"]\nformat = \"csv\"\nperson = \"id\"\ncomplete = true\n";
    env.write("fencepost.toml", format!("{}{sources}", crate::env::STEPPED));
    env.write("people.csv", "id,name,unit\np,Brobek,ships/tern\nq,Drafonn,office\n");
    env.write("rules/test.toml", RULES.replace("require", "grace = \"4d\"\nrequire"));
    env.write("groups.toml", GROUPS);
    env.write("access.toml", ACCESS);
    let device = |id: &str, person: &str, site: &str, length: u32| json!({ "device": id, "collected_at": "2027-03-02T05:00:00Z", "person": person, "site": site, "length": length, "lock": 10 });
    env.ok(&["import", "people.csv", "--as-of", "2027-03-02T06:00:00Z"]);
    env.morning(
        "2027-03-02T06:00:00Z",
        &[device("a", "p", "deck", 6), device("b", "p", "deck", 10), device("c", "q", "office", 9)],
    );
    env
}

/// Edits of every kind of file, and what of a preview each of them has to fill.
fn edits() -> Vec<(&'static str, String, &'static [&'static str])> {
    let rules = RULES.replace("require", "grace = \"4d\"\nrequire");
    let stricter = ACCESS.replace("needs = 'standing in (\"compliant\", \"on-notice\")'", "needs = 'length > 8'");
    let other =
        "\n[[access]]\nid = \"more\"\nservices = [\"mail\"]\nenforced_from = 2027-03-05\nneeds = 'length > 7'\n";
    vec![
        ("access.toml", stricter, &["decisions", "people", "definitions"]),
        ("access.toml", ACCESS.replace("default = \"deny\"", "default = \"permit\""), &["decisions", "people"]),
        ("access.toml", ACCESS.to_owned() + other, &["losing", "definitions"]),
        ("access.toml", ACCESS.replace("no download", "no print"), &["decisions", "people"]),
        ("access.toml", ACCESS.replace("{ client = \"app\" }, ", ""), &["decisions", "people"]),
        ("rules/test.toml", rules.replace("4d", "1d"), &["due", "losing", "definitions"]),
        ("rules/test.toml", rules.replace(">= 8", ">= 10"), &["verdicts", "standings", "losing"]),
        (
            "rules/test.toml",
            rules.replace("grace = \"4d\"\nrequire = 'length", "require = 'length"),
            &["standings", "decisions"],
        ),
        ("groups.toml", GROUPS.replace("site = \"deck\"", "site = \"quay\""), &["definitions"]),
        ("devices.toml", DEVICES.to_owned(), &["decisions", "people", "definitions"]),
        ("corrections.toml", CORRECTION.to_owned(), &["decisions", "definitions"]),
    ]
}

#[test]
fn every_edit_that_an_assessment_would_act_on_is_told_as_it_then_comes() {
    for (file, text, fills) in edits() {
        let env = fleet_with_people();
        env.write(file, &text);
        let found = env.json(&["preview", "--save", "foreseen.json"]);
        for list in fills {
            assert!(!found[list].as_array().unwrap().is_empty(), "{file}: {list}: {text}\n{found}");
        }
        if fills != ["definitions"] {
            assert!(!env.ok(&["preview"]).contains("nothing would change"), "{file}: {text}");
        }
        env.fails(&["preview", "--compare", "foreseen.json"], 2, &["nothing was assessed after the preview"]);
        env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
        let compared = env.json(&["preview", "--compare", "foreseen.json"]);
        let changes =
            ["standings", "decisions"].map(|list| found[list].as_array().unwrap().len()).iter().sum::<usize>();
        assert_eq!(
            (&compared["differences"], &compared["as_foreseen"]),
            (&json!([]), &json!(changes)),
            "{file}: {text}"
        );
        // And nothing is left to foresee.
        let after = env.json(&["preview"]);
        for list in ["decisions", "people", "due", "losing", "verdicts", "standings", "definitions"] {
            assert_eq!(after[list], json!([]), "{file}: {list}");
        }
    }
}

#[test]
fn people_are_told_with_whoever_has_no_other_way_first() {
    let env = fleet_with_people();
    env.write(
        "access.toml",
        ACCESS.replace("needs = 'standing in (\"compliant\", \"on-notice\")'", "needs = 'length > 9'"),
    );
    let found = env.json(&["preview"]);
    // The browser still opens for her; his only way in another room does not.
    assert_eq!(
        found["people"],
        json!([
            { "person": "p", "service": "mail", "change": "lost", "call_first": false },
            { "person": "q", "service": "mail", "change": "lost", "call_first": true },
        ])
    );
    let text = env.ok(&["preview"]);
    assert!(text.contains("2 people would lose a way to a service, 1 of them with no other way to it"), "{text}");
    let place = |name: &str| text.find(name).expect(name);
    assert!(place("Drafonn") < place("Brobek"), "{text}");
    let rows = env.ok(&["preview", "--format", "csv"]);
    assert!(rows.contains("c,decision,,permit,deny,q,mail,app"), "{rows}");
}

#[test]
fn what_came_otherwise_than_foreseen_is_told() {
    let env = fleet_with_people();
    env.write(
        "access.toml",
        ACCESS.replace("needs = 'standing in (\"compliant\", \"on-notice\")'", "needs = 'length > 9'"),
    );
    env.ok(&["preview", "--save", "foreseen.json"]);
    // Meanwhile one device was mended, and one of another person broke.
    let device = |id: &str, person: &str, length: u32| json!({ "device": id, "collected_at": "2027-03-03T05:00:00Z", "person": person, "site": "deck", "length": length, "lock": 10 });
    env.morning("2027-03-03T06:00:00Z", &[device("c", "q", 12), device("b", "p", 3)]);
    let compared = env.json(&["preview", "--compare", "foreseen.json"]);
    let lines: Vec<String> = compared["differences"]
        .as_array()
        .unwrap()
        .iter()
        .map(|line| {
            ["device", "what", "was_foreseen", "came"].map(|key| line[key].to_string().replace('"', "")).join(" ")
        })
        .collect();
    assert_eq!(
        lines,
        [
            "c q, mail (app) true permit",
            "b standing false on-notice",
            "b p, mail (app) false deny",
            "b p, mail (browser) false permit with no download",
            "c q, mail (browser) false permit",
        ]
    );
    let text = env.ok(&["preview", "--compare", "foreseen.json"]);
    assert!(text.contains("Came otherwise") && text.contains("Was not foreseen"), "{text}");
    env.write("no.json", "{}");
    env.fails(&["preview", "--compare", "no.json"], 2, &["no saved preview"]);
}
