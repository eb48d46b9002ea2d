//! Secrets in collected state: none is kept, shown or written anywhere in plain, whatever its name, depth or type.

use serde_json::json;

use crate::env::Env;

const AT: &str = "2027-03-01T06:00:00Z";
/// Each value is found by one of these.
const PLAIN: [&str; 3] = ["hunter2", "774199887766", "991199"];

fn document() -> serde_json::Value {
    json!({
        "device": "a", "collected_at": "2027-03-01T05:00:00Z", "passcode": 774_199_887_766_i64,
        "token": {"value": "hunter2a", "enabled": true}, "tokens": ["hunter2b", {"x": "hunter2c"}], "pwd": "hunter2d",
        "apiKey": "hunter2e", "user": {"userPassword": "hunter2f"}, "pin": 991_199,
        "password": {"length": 12, "set": true, "changed": "2026-01-01T00:00:00Z", "hint": "hunter2g"},
        "os": {"version": "13"}, "pinned": "yes", "keyboard": "de",
        "wifi": [{"ssid": "x", "passphrase": "hunter2h"}], "vault": {"api": {"key": "hunter2i"}}, "bearer": "hunter2j",
    })
}

#[track_caller]
fn keeps_quiet(what: &str, text: &str) {
    for plain in PLAIN {
        assert!(!text.contains(plain), "`{plain}` in {what}:\n{text}");
    }
}

#[test]
fn no_secret_is_kept_or_shown_whatever_its_name_depth_or_type() {
    let env = Env::new();
    env.rules(&[
        ("pin-right", "0", "pin = 1"),
        ("token-right", "0", "token.value = \"x\" and count(tokens) > 9"),
        ("wifi-right", "0", "every w in wifi satisfies w.passphrase = \"x\""),
    ]);
    env.write("d.jsonl", document().to_string());
    let imported = env.ok(&["import", "d.jsonl", "--as-of", AT]);
    for path in [
        "passcode",
        "token.value",
        "tokens",
        "pwd",
        "apiKey",
        "user.userPassword",
        "pin",
        "password.hint",
        "wifi.passphrase",
        "vault.api.key",
        "bearer",
    ] {
        assert!(imported.contains(path), "{path} is not named: {imported}");
    }
    env.ok(&["assess", "--as-of", AT]);
    env.write("e.jsonl", document().to_string().replace("hunter2", "hunter2new"));
    for args in [
        &["import", "--dry-run", "e.jsonl", "--as-of", AT][..],
        &["show", "a"],
        &["why", "a"],
        &["history", "a"],
        &["list", "facts", "--columns", "fact,commonest"],
        &["list", "devices", "--columns", "device,pin,tokens,wifi,vault"],
        &["facts", "draft"],
        &["source", "draft", "d.jsonl"],
        &["baseline", "derive", "--id", "like-a", "a"],
        &["baseline", "derive", "--id", "like-file", "d.jsonl"],
        &["try", "tokens", "--device", "a"],
        &["try", "wifi", "--facts", "d.jsonl"],
        &["assess", "--state", "d.jsonl", "--evidence", "--format", "json", "--as-of", AT],
        &["assess", "--state", "d.jsonl", "--all", "--evidence", "--format", "jsonl", "--as-of", AT],
    ] {
        let ran = env.run(args);
        assert_eq!(ran.code, 0, "{args:?} {} {}", ran.out, ran.err);
        keeps_quiet(&args.join(" "), &ran.out);
        keeps_quiet(&args.join(" "), &ran.err);
    }
    let held = std::fs::read(env.path(".fencepost/ledger.sqlite")).unwrap();
    keeps_quiet("the ledger", &String::from_utf8_lossy(&held));
    // What only describes a secret stays, and so does what is none.
    let facts = env.json(&[
        "list",
        "devices",
        "--columns",
        "password.length,password.set,password.changed,token.enabled,pinned,keyboard",
    ]);
    assert_eq!(
        facts["rows"][0],
        json!({"password.length": 12, "password.set": true, "password.changed": "2026-01-01T00:00:00Z",
            "token.enabled": true, "pinned": "yes", "keyboard": "de"})
    );
    let derived = env.ok(&["baseline", "derive", "--id", "like-a", "a"]);
    assert!(!derived.contains("\"secret:") && derived.contains("since they are secret"), "{derived}");
}

#[test]
fn what_is_declared_is_as_declared() {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"pin\" = { secret = false }\n\"token\" = { secret = false }\n\"site\" = { secret = true }\n",
    );
    env.write(
        "d.jsonl",
        json!({"device": "a", "collected_at": "2027-03-01T05:00:00Z", "pin": 5, "token": {"label": "x", "password": "hunter2"}, "site": "Pier"})
            .to_string(),
    );
    env.ok(&["import", "d.jsonl", "--as-of", AT]);
    let row = env.json(&["list", "devices", "--columns", "pin,token.label,token.password,site"])["rows"][0].clone();
    assert_eq!((&row["pin"], &row["token.label"]), (&json!(5), &json!("x")));
    for hidden in ["token.password", "site"] {
        assert!(row[hidden].as_str().unwrap().starts_with("secret:"), "{row}");
    }
}

#[test]
fn drafts_of_settings_say_no_secret_and_suggest_no_name_that_is_one() {
    let env = Env::new();
    env.write("x.ini", "[wifi]\nssid = harbour\npassword = hunter2\nurl: hunter2x\n");
    env.write("y.conf", "ssid = harbour\npassword = hunter2\napi_key: hunter2\n");
    env.write("z.txt", "the password = hunter2\nand nothing else\n");
    env.write("t.csv", "id,note\na,password: hunter2\nb,token=hunter2\n");
    for (file, code) in [("x.ini", 0), ("y.conf", 0), ("z.txt", 2), ("t.csv", 0)] {
        let ran = env.run(&["source", "draft", file]);
        assert_eq!(ran.code, code, "{file} {} {}", ran.out, ran.err);
        let text = ran.out.replace("hunter2x", "");
        keeps_quiet(file, &text);
        keeps_quiet(file, &ran.err);
    }
}

#[test]
fn a_ledger_that_holds_secrets_by_an_earlier_reckoning_is_cleaned_and_says_of_how_many() {
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"pin\" = { secret = false }\n");
    env.write("d.jsonl", "{\"device\":\"a\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"pin\":991199}\n");
    env.ok(&["import", "d.jsonl", "--as-of", AT]);
    env.write("facts.toml", "");
    env.write("e.jsonl", "{\"device\":\"b\",\"collected_at\":\"2027-03-01T05:00:00Z\"}\n");
    let said = env.ok(&["import", "e.jsonl", "--as-of", AT]);
    assert!(said.contains("2 earlier documents were written again without the secrets in them"), "{said}");
    let row = env.json(&["list", "devices", "--columns", "device,pin"])["rows"][0].clone();
    assert!(row["pin"].as_str().unwrap().starts_with("secret:"), "{row}");
}
