//! What a rule says besides its condition: what it does not cover and until when, from when on it counts, what to do, and which
//! clauses it answers for.

use serde_json::json;

use crate::env::Env;

const RULES: &str = r#"
[[rule]]
id       = "encrypted"
groups   = ["every-device"]
require  = 'disk.encrypted'
fix      = "Turn encryption on."
fix_when = [
  { when = 'disk.pending', say = "Restart it.", awaiting = true },
  { when = 'platform = "android"', say = "Settings, Security." },
]
except   = ["spare", { device = "docked", because = "in \u001b[31mrefit", until = 2027-03-03 }]
controls = ["Order 12", "Order 9"]

[[rule]]
id            = "walled"
groups        = ["every-device"]
require       = 'firewall'
enforced_from = 2027-03-03
controls      = ["Order 9"]
"#;

fn device(id: &str, day: u32, pending: bool, platform: &str) -> serde_json::Value {
    json!({
        "device": id, "collected_at": format!("2027-03-{day:02}T05:00:00Z"), "platform": platform, "firewall": false,
        "disk": { "encrypted": false, "pending": pending },
    })
}

fn fleet(env: &Env, day: u32) -> serde_json::Value {
    let documents = [
        device("docked", day, false, "linux"),
        device("halfway", day, true, "android"),
        device("phone", day, false, "android"),
        device("plain", day, false, "linux"),
        device("spare", day, false, "linux"),
    ];
    env.morning(&format!("2027-03-{day:02}T06:00:00Z"), &documents)
}

#[test]
fn exceptions_end_and_rules_come_into_force_on_their_day() {
    let env = Env::new();
    env.write("rules/test.toml", RULES);
    let count = |assessed: &serde_json::Value| {
        let rules = assessed["rules"].as_array().unwrap();
        let of = |at: usize| {
            ["stage", "fail", "excepted", "awaiting"].map(|key| rules[at][key].to_string().replace('"', "")).join(" ")
        };
        [of(0), of(1)]
    };
    assert_eq!(count(&fleet(&env, 2)), ["enforced 3 2 1", "trial 5 0 0"]);
    let verdict = |device: &str| env.json(&["why", device, "encrypted"])["verdicts"][0].clone();
    assert_eq!(verdict("docked")["exception"]["until"], "2027-03-03T23:00:00Z");
    // A device speaks, and so does whoever writes rules, of nothing that a terminal would obey.
    let told = env.ok(&["why", "docked", "encrypted"]);
    assert!(told.contains("docked until Thu 00:00: in \\u{1b}[31mrefit"), "{told}");
    // The day of `until` is the last; that of `enforced_from` the first. Nothing was imported in between.
    let assess = |at: &str| env.json(&["assess", "--as-of", at]);
    assert_eq!(count(&assess("2027-03-02T22:59:59Z")), ["enforced 3 2 1", "trial 5 0 0"]);
    let from = assess("2027-03-02T23:00:00Z");
    assert_eq!(count(&from), ["enforced 3 2 1", "enforced 5 0 0"]);
    assert_eq!(from["opened"].as_array().unwrap().len(), 5);
    assert_eq!(count(&assess("2027-03-03T23:00:00Z")), ["enforced 4 1 1", "enforced 5 0 0"]);
    assert!(verdict("docked")["exception"].is_null());
}

#[test]
fn what_to_do_fits_the_device() {
    let env = Env::new();
    env.write("rules/test.toml", RULES);
    fleet(&env, 2);
    let verdict = |device: &str| env.json(&["why", device, "encrypted"])["verdicts"][0].clone();
    for (device, awaiting, fix) in [
        ("halfway", true, "Restart it."),
        ("phone", false, "Settings, Security."),
        ("plain", false, "Turn encryption on."),
    ] {
        let verdict = verdict(device);
        assert_eq!((&verdict["awaiting"], &verdict["fix"]), (&awaiting.into(), &fix.into()), "{device}");
    }
    let told = env.ok(&["why", "halfway", "encrypted"]);
    assert!(
        told.contains("on its way") && told.contains("Restart it.") && told.contains("Order 12, Order 9"),
        "{told}"
    );
    let table = env.ok(&["assess"]);
    assert!(table.contains("1 on the way") && table.contains("2 excepted"), "{table}");
    // By clause: a rule counts for each that it answers for.
    let by = env.json(&["list", "rules", "--by", "controls"]);
    let counts: Vec<String> =
        by["rows"].as_array().unwrap().iter().map(|row| format!("{} {}", row["controls"], row["count"])).collect();
    assert_eq!(counts, ["\"Order 9\" 2", "\"Order 12\" 1"]);
    // Without a ledger it is the same.
    let state = env.path("state-2027-03-02T060000Z.jsonl");
    let lines =
        env.ok(&["assess", "--state", state.to_str().unwrap(), "--as-of", "2027-03-02T06:00:00Z", "--format", "jsonl"]);
    assert_eq!(lines.matches("\"awaiting\":true").count(), 1);
    assert_eq!(lines.matches("\"stage\":\"trial\"").count(), 5);
}

#[test]
fn half_of_what_is_needed_is_told_with_its_place() {
    let env = Env::new();
    let rule = |more: &str| {
        env.write(
            "rules/test.toml",
            format!("[[rule]]\nid = \"r\"\ngroups = [\"every-device\"]\nrequire = 'ok'\n{more}\n"),
        );
    };
    for (more, says) in [
        ("except = [{ because = \"x\" }]", &["incomplete", "`group` or a `device`", "test.toml:5"][..]),
        ("except = [{ group = \"no-such\" }]", &["no-such"]),
        ("except = [{ device = \"d\", until = \"soon\" }]", &["bad-moment", "until"]),
        ("fix_when = [{ when = 'ok' }]", &["incomplete", "what to say"]),
        ("fix_when = [{ when = 'ok =', say = \"x\" }]", &["test.toml:5"]),
        ("enforced_from = 2027-04-01\nstage = \"trial\"", &["not-enforced-from", "stage = \"enforced\""]),
        ("controls = 12", &["wrong-type", "controls"]),
    ] {
        rule(more);
        env.fails(&["list", "rules"], 2, says);
    }
}

#[test]
fn since_when_a_rule_judges_as_it_does_is_listed() {
    let env = Env::new();
    env.write("rules/test.toml", RULES);
    fleet(&env, 2);
    let edit = |from: &str, to: &str, at: &str| {
        let text = std::fs::read_to_string(env.path("rules/test.toml")).unwrap();
        env.write("rules/test.toml", text.replace(from, to));
        env.ok(&["assess", "--as-of", at]);
    };
    // Other words about it are not another rule; another grace is.
    edit("Turn encryption on.", "Please turn it on.", "2027-03-02T07:00:00Z");
    edit("enforced_from =", "grace = \"2d\"\nenforced_from =", "2027-03-02T08:00:00Z");
    env.ok(&["assess", "--as-of", "2027-03-02T09:00:00Z"]);
    let rows = env.json(&["list", "rules"])["rows"].clone();
    let of = |at: usize| format!("{} {} {}", rows[at]["rule"], rows[at]["changed"], rows[at]["reach"]).replace('"', "");
    assert_eq!([of(0), of(1)], ["encrypted 2027-03-02T06:00:00Z 3", "walled 2027-03-02T08:00:00Z 5"]);
}
