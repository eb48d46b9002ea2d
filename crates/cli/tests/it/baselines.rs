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
    assert!(table.contains("base of   ticket-server") && table.contains("no seedpool* in software"), "{table}");
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

#[test]
fn a_workspace_may_begin_with_baselines_for_its_kinds_of_machines() {
    let env = Env::new();
    let out = env.ok(&["init", "fleet", "--with", "laptops,phones,servers,phones"]);
    assert_eq!(out.lines().filter(|line| line.contains("baselines")).count(), 3, "{out}");
    let fleet = |args: &[&str]| {
        let mut all = vec!["--workspace", "fleet"];
        all.extend(args);
        all.iter().map(|arg| (*arg).to_owned()).collect::<Vec<_>>()
    };
    for kind in ["laptops", "phones", "servers"] {
        let args = fleet(&["baseline", "show", kind]);
        let shown = env.json(&args.iter().map(String::as_str).collect::<Vec<_>>());
        let all = shown["expectations"].as_array().unwrap();
        assert!(all.len() >= 4, "{shown}");
        // Nobody loses anything by it before somebody has read it; and each says why, and what to do.
        for found in all {
            assert_eq!(found["stage"], "trial", "{found}");
            assert!(found["because"].is_string() && found["fix"].is_string(), "{found}");
        }
    }
    let args = fleet(&["vet", "--fail-on", "note"]);
    let vetted = env.ok(&args.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(vetted.starts_with("Nothing to mend") && vetted.contains("2 examples"), "{vetted}");
    // What it makes of machines as they come.
    let device = |id: &str, more: Json| {
        let mut device = json!({ "device": id, "collected_at": "2027-03-02T05:00:00Z" });
        device.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        format!("{device}\n")
    };
    env.write("fleet/feeds/state.jsonl", [
        device("l", json!({ "platform": "windows", "lock": { "idle_minutes": 60 }, "password": { "length": 12 }, "firewall": { "enabled": true }, "software": [{ "name": "seedpool-gtk" }] })),
        device("p", json!({ "platform": "android", "os": { "version": "11" }, "security": { "rooted": false }, "disk": { "encrypted": true }, "lock": { "idle_minutes": 5 } })),
        device("s", json!({ "platform": "linux", "role": "server", "sshd": { "permit_root_login": "no" }, "log": { "retention_days": 7 }, "disk": { "free_bytes": 9e9 }, "processes": [{ "name": "guardd" }], "certificate": { "not_after": "2027-03-10T00:00:00Z" } })),
    ].concat());
    let args = fleet(&[
        "assess",
        "--state",
        "fleet/feeds/state.jsonl",
        "--as-of",
        "2027-03-02T06:00:00Z",
        "--format",
        "jsonl",
    ]);
    let lines = env.ok(&args.iter().map(String::as_str).collect::<Vec<_>>());
    let mut failing: Vec<String> = Vec::new();
    for line in lines.lines() {
        let line: Json = serde_json::from_str(line).unwrap();
        for verdict in line["verdicts"].as_array().unwrap().iter().filter(|verdict| verdict["outcome"] == "fail") {
            failing.push(format!("{} {}", line["device"], verdict["rule"]).replace('"', ""));
        }
    }
    assert_eq!(
        failing,
        [
            "l laptops/lock.idle_minutes",
            "l laptops/software.seedpool*",
            "p phones/supported",
            "s servers/log.retention_days",
            "s servers/certificate",
        ]
    );
    env.fails(&["init", "other", "--with", "toasters"], 2, &["toasters", "laptops"]);
}

#[test]
fn a_baseline_is_derived_from_good_devices_and_they_pass_it() {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"net.token\" = { secret = true }\n\"disk.room\" = { type = \"number\", volatile = true }\n",
    );
    env.rules(&[("root", "1d", "sshd.root = \"no\"")]);
    let machine = |id: &str, days: u32, program: &str| {
        json!({
            "device": id, "collected_at": "2027-03-02T05:00:00Z", "platform": "linux", "role": "till", "serial": format!("S-{id}"),
            "sshd": { "root": "no", "note": "a \"quoted\" \\ text" }, "log": { "days": days }, "ntp": true, "disk": { "room": days },
            "net": { "token": "x", "address": "192.0.2.1" }, "updated": "2027-03-01T05:00:00Z", "empty": [], "odd key": { "a.b": 4.50 },
            "software": [{ "name": "guardd", "version": "1" }, { "name": program, "version": "2" }], "tags": ["sea", "till"],
            "groups": ["x"], "deep": [{ "n": 1 }],
        })
    };
    let bad = {
        let mut bad = machine("c", 7, "\u{1b}[31mred");
        bad["sshd"]["root"] = "yes".into();
        bad
    };
    env.morning("2027-03-02T06:00:00Z", &[machine("a", 35, "ebbnote"), machine("b", 35, "soundings"), bad]);
    let text = env.ok(&["baseline", "derive", "a", "b", "--id", "till"]);
    for says in [
        "# Derived from 2 devices on 2027-03-02 07:00: a, b.",
        "# Left out, since they change anyway, or are each device's own: disk.room, net.address, serial, updated.",
        "# Left out, since they are secret: net.token.",
        "covers = \"platform = \\\"linux\\\" and role = \\\"till\\\"\"",
        "\"log.days\"    ",
        "[software]\nfrom   = \"software.name\"\nmust   = [\n  \"guardd\",\n]",
        "  \"ebbnote\",   # seen on 1 of 2",
        "[list-of-groups]\nfrom   = \"groups\"",
        "[tags]\nfrom   = \"tags\"",
    ] {
        assert!(text.contains(says), "{says}\n{text}");
    }
    assert!(!text.contains("192.0.2.1") && !text.contains("deep]"), "{text}");
    // It is taken as it is, and the devices pass it.
    env.write("baselines/till.toml", &text);
    env.ok(&["vet", "baselines", "--fail-on", "warning"]);
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    for device in ["a", "b"] {
        let verdicts = verdicts(&env, device);
        assert!(verdicts.iter().all(|verdict| verdict.ends_with("pass")) && verdicts.len() > 7, "{verdicts:?}");
    }
    assert!(verdicts(&env, "c").contains(&"till/sshd.root fail".to_owned()));
    // Again: what is there is met, and nothing is new; then something changes on both sides.
    let again = |devices: &[&str]| {
        let args: Vec<&str> =
            ["baseline", "derive"].into_iter().chain(devices.iter().copied()).chain(["--id", "till"]).collect();
        env.ok(&args)
    };
    assert!(again(&["a", "b"]).starts_with("2 examples meet all that till expects"), "{}", again(&["a", "b"]));
    env.write("baselines/till.toml", text.replace("\"ntp\"", "# \"ntp\""));
    env.ok(&["assess", "--as-of", "2027-03-02T08:00:00Z"]);
    let told = again(&["a", "c"]);
    assert!(
        told.contains("not in till: ntp is true") && told.contains("not so on c: sshd.root is no (till/sshd.root)"),
        "{told}"
    );
    // Whoever is no good example is told, and so is what cannot be.
    let doubted = env.run(&["baseline", "derive", "c", "--id", "other"]);
    assert!(
        doubted.err.contains("c is on-notice, so it may be no good example") && doubted.code == 0,
        "{}",
        doubted.err
    );
    assert!(!doubted.out.contains('\u{1b}'), "{}", doubted.out);
    let only = env.ok(&["baseline", "derive", "a", "--id", "ssh", "--only", "sshd.*"]);
    assert!(only.contains("\"sshd.root\"") && !only.contains("log.days"), "{only}");
    env.fails(&["baseline", "derive", "a", "--id", "No Id"], 2, &["not an id"]);
    env.fails(&["baseline", "derive", "nobody", "--id", "x"], 2, &["nobody"]);
}

#[test]
fn baselines_that_disagree_about_a_device_are_told_with_both_places() {
    let env = fleet();
    // Another that has nothing to do with them, and covers one of the same machines.
    let till = |more: &str| {
        format!("id = \"till\"\ncovers = 'role = \"kiosk\"'\n{more}\n[expect]\nntp = false\n\"sshd.root\" = \"no\"\n")
    };
    env.write("baselines/till.toml", till(""));
    assert!(env.run(&["preview"]).err.contains("baselines-disagree"));
    let ran = env.run(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    assert_eq!(ran.code, 0);
    for says in [
        "baselines-disagree",
        "`linux-common/ntp` and `till/ntp` expect different things of",
        "common.toml:10",
        "till.toml:5",
    ] {
        assert!(ran.err.contains(says), "{says}\n{}", ran.err);
    }
    assert!(!ran.err.contains("sshd.root` expect"), "{}", ran.err);
    // Where one starts from the other, there is nothing to tell.
    env.write("baselines/till.toml", till("extends = [\"linux-common\"]"));
    assert!(!env.run(&["assess", "--as-of", "2027-03-02T08:00:00Z"]).err.contains("disagree"));
}

#[test]
fn a_baseline_is_derived_from_a_file_of_settings() {
    let env = fleet();
    env.write("facts.toml", "[facts]\n\"log.days\" = { type = \"number\" }\n\"ntp\" = { type = \"boolean\" }\n");
    env.write("golden.ini", "ntp = yes\nserial = 17\n[sshd]\nroot = no\n[log]\ndays = 45\n");
    let text = env.ok(&["baseline", "derive", "golden.ini", "--id", "golden"]);
    for says in [
        "# Derived from 1 device on 2027-03-02 07:00: golden.",
        "each device's own: serial.",
        "covers = \"device in (\\\"golden\\\")\"",
        "\"log.days\"  = 45",
        "\"ntp\"       = true",
        "\"sshd.root\" = \"no\"",
    ] {
        assert!(text.contains(says), "{says}\n{text}");
    }
    env.write("baselines/golden.toml", &text);
    env.ok(&["baseline", "show", "golden"]);
    // A file that changed is told against the baseline.
    env.write("golden.ini", "ntp = yes\n[sshd]\nroot = yes\nport = 22\n[log]\ndays = 45\n");
    let told = env.ok(&["baseline", "derive", "golden.ini", "--id", "golden"]);
    assert_eq!(told, "not in golden: sshd.port is 22\nnot so on golden: sshd.root is no (golden/sshd.root)\n");
    for (name, text) in
        [("a.json", "{\"sshd\": {\"root\": \"no\"}, \"log\": {\"days\": 3}}"), ("b.conf", "sshd.root = no\n")]
    {
        env.write(name, text);
        assert!(env.ok(&["baseline", "derive", name, "--id", "other"]).contains("\"sshd.root\""), "{name}");
    }
    // Where a source knows the file, it is read as that source reads it.
    let source = "[[source]]\nid = \"audit\"\nfiles = [\"audit-*.csv\"]\nformat = \"csv\"\ndevice = \"Tag\"\n[source.fields]\n\"Root?\" = { fact = \"root.allowed\", true_when = [\"Y\"], false_when = [\"N\"] }\n";
    env.write("fencepost.toml", format!("{}{source}", crate::env::STEPPED));
    env.write("audit-1.csv", "Tag,Root?\nm1,N\nm2,N\n");
    let text = env.ok(&["baseline", "derive", "audit-1.csv", "--id", "audited"]);
    assert!(text.contains("Derived from 2 devices") && text.contains("\"root.allowed\" = false"), "{text}");
    env.write("bad.xml", "<a/>");
    env.fails(&["baseline", "derive", "bad.xml", "--id", "other"], 2, &["bad.xml", "XML"]);
    env.fails(&["baseline", "derive", "no-such-file", "--id", "other"], 2, &["no-such-file"]);
}
