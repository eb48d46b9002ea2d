//! Baselines as analysts meet them: who judges a device, what is shown and where it is written, and mistakes.

use serde_json::{Value as Json, json};

use crate::env::Env;

const COMMON: &str = r#"
id    = "linux-common"
title = "Linux machines"
covers = 'platform = "linux"'
grace = "2d"

[expect]
"sshd.root" = "no"
"log.days"  = { test = ">= 30", because = "The port authority asks for a month." }
ntp = true

[software]
from   = "software.name"
must   = ["guardd"]
never  = ["seedpool*"]
others = "note"
"#;

const SERVER: &str = r#"
id      = "ticket-server"
title   = "Ticket servers"
extends = ["linux-common"]
covers  = 'role = "ticket-server"'
grace   = "1d"

[expect]
"log.days" = { test = ">= 60" }
ntp = { drop = true, because = "The ship's clock is kept otherwise." }
"#;

fn machine(id: &str, role: Option<&str>, days: u32) -> Json {
    let mut machine = json!({
        "device": id, "collected_at": "2027-03-02T05:00:00Z", "platform": "linux", "sshd": { "root": "no" },
        "log": { "days": days }, "ntp": false,
        "software": [{ "name": "guardd" }, { "name": "seedpool-x" }, { "name": "odd" }],
    });
    if let Some(role) = role {
        machine["role"] = role.into();
    }
    machine
}

fn fleet() -> Env {
    let env = Env::new();
    env.write("baselines/common.toml", COMMON);
    env.write("baselines/server.toml", SERVER);
    let machines = [
        machine("kiosk", Some("kiosk"), 45),
        machine("nobody", None, 45),
        machine("server", Some("ticket-server"), 45),
    ];
    env.morning("2027-03-02T06:00:00Z", &machines);
    env
}

/// Every rule that applies to a device, with what it says.
fn verdicts(env: &Env, device: &str) -> Vec<String> {
    let all = env.json(&["why", device]);
    let verdicts = all["verdicts"].as_array().unwrap().iter();
    let applies = verdicts.filter(|verdict| verdict["outcome"] != "not-applicable");
    applies.map(|verdict| format!("{} {}", verdict["rule"], verdict["outcome"]).replace('"', "")).collect()
}

#[test]
fn a_device_is_judged_by_the_more_special_baseline_alone() {
    let env = fleet();
    assert_eq!(
        verdicts(&env, "server"),
        [
            "ticket-server/sshd.root pass",
            "ticket-server/log.days fail",
            "ticket-server/software.guardd pass",
            "ticket-server/software.seedpool* fail",
            "ticket-server/software fail",
        ]
    );
    assert_eq!(
        verdicts(&env, "kiosk"),
        [
            "linux-common/sshd.root pass",
            "linux-common/log.days pass",
            "linux-common/ntp fail",
            "linux-common/software.guardd pass",
            "linux-common/software.seedpool* fail",
            "linux-common/software fail",
        ]
    );
    // Who may be covered by the more special one is judged by neither quietly.
    assert!(verdicts(&env, "nobody").iter().all(|verdict| verdict.ends_with("unknown")));
    // Why another judges is told.
    let told = env.ok(&["why", "server", "linux-common/ntp"]);
    assert!(told.contains("judged by ticket-server, which extends this"), "{told}");
    // While the more special one is on trial, the other goes on with all that counts for more.
    env.write("baselines/server.toml", SERVER.replace("grace   =", "stage = \"trial\"\ngrace   ="));
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    assert_eq!(verdicts(&env, "server").len(), 5 + 5);
    // Something dropped is withdrawn, and something changed is the same finding.
    env.write("baselines/server.toml", SERVER);
    env.write("baselines/common.toml", COMMON.replace("ntp = true\n", ""));
    env.write("baselines/server.toml", SERVER.replace("ntp = { drop", "# ntp = { drop"));
    let edited = env.json(&["assess", "--as-of", "2027-03-02T08:00:00Z"]);
    let closed: Vec<&Json> = edited["closed"].as_array().unwrap().iter().collect();
    assert!(closed.iter().any(|line| line["rule"] == "linux-common/ntp" && line["how"] == "withdrawn"), "{closed:?}");
}

#[test]
fn what_a_baseline_came_to_is_shown_with_where_it_is_written() {
    let env = fleet();
    let shown = env.json(&["baseline", "show", "ticket-server"]);
    let rows: Vec<String> = shown["expectations"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| format!("{} {} {} {}", row["rule"], row["grace"], row["written_in"], row["place"]).replace('"', ""))
        .collect();
    assert_eq!(
        rows,
        [
            "ticket-server/sshd.root 1d linux-common baselines/common.toml:8",
            "ticket-server/log.days 1d ticket-server baselines/server.toml:9",
            "ticket-server/software.guardd 1d linux-common baselines/common.toml:14",
            "ticket-server/software.seedpool* 1d linux-common baselines/common.toml:15",
            "ticket-server/software 1d linux-common baselines/common.toml:12",
        ]
    );
    assert_eq!(shown["dropped"], json!([{ "name": "ntp", "because": "The ship's clock is kept otherwise." }]));
    let table = env.ok(&["baseline", "show", "linux-common"]);
    assert!(table.contains("extended by  ticket-server") && table.contains("no seedpool* in software"), "{table}");
    // Of a device, what holds for it, from everywhere.
    env.rules(&[("own-rule", "1d", "ntp")]);
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    let of_device = env.json(&["baseline", "show", "--device", "server"]);
    let rules: Vec<&str> =
        of_device["expectations"].as_array().unwrap().iter().map(|row| row["rule"].as_str().unwrap()).collect();
    assert!(rules.contains(&"own-rule") && rules.contains(&"ticket-server/log.days") && rules.len() == 6, "{rules:?}");
    let only = env.ok(&["baseline", "show", "ticket-server", "--device", "server", "--format", "csv"]);
    assert_eq!(only.lines().count(), 6, "{only}");
    env.fails(
        &["baseline", "show", "ticket-servr"],
        2,
        &["no baseline `ticket-servr`", "did you mean `ticket-server`?"],
    );
    env.fails(&["baseline", "show"], 2, &["BASELINE"]);
}

#[test]
fn a_mistake_in_a_baseline_is_told_with_its_place() {
    let env = Env::new();
    env.write("baselines/common.toml", COMMON.replace("\">= 30\"", "\">= 30days\""));
    env.fails(&["list", "rules"], 2, &["baselines/common.toml:9", "30days"]);
    env.write("baselines/common.toml", COMMON.replace("must   =", "musst   ="));
    env.fails(&["list", "rules"], 2, &["musst", "did you mean `must`?"]);
}
