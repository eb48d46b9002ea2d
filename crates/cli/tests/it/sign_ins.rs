//! Single sign-ins: explained.

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
    env.fails(&["vet"], 1, &["bad-template", "no `finding` to fill in", "device, person, service, findings"]);
}
