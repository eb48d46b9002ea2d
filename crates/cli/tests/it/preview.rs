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
