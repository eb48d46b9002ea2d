//! Collected state as it really comes: merged, absent, renamed, retired, secret, and whose it is.

use serde_json::{Value as Json, json};

use crate::env::{Env, STEPPED};

const D1: &str = "2027-03-01T06:00:00Z";
const D2: &str = "2027-03-02T06:00:00Z";
const D3: &str = "2027-03-03T06:00:00Z";

fn workspace(config: &str, facts: &str) -> Env {
    let env = Env::new();
    env.write("fencepost.toml", format!("{STEPPED}{config}"));
    env.write("facts.toml", format!("[facts]\n{facts}"));
    env.rules(&[("fine", "2d", "encrypted")]);
    env
}

fn document(device: &str, at: &str, more: &str) -> String {
    format!("{{\"device\":\"{device}\",\"collected_at\":\"{at}\"{more}}}\n")
}

#[track_caller]
fn fact(env: &Env, device: &str, path: &str) -> Json {
    let shown = env.json(&["show", device]);
    shown["facts"].as_array().unwrap().iter().find(|fact| fact["fact"] == path).cloned().unwrap_or(Json::Null)
}

/// Every byte of the workspace's own folder, as text.
fn kept(env: &Env) -> String {
    let files = std::fs::read_dir(env.path(".fencepost")).unwrap();
    files.map(|file| String::from_utf8_lossy(&std::fs::read(file.unwrap().path()).unwrap()).into_owned()).collect()
}

const TWO: &str = "[[source]]\nid = \"agents\"\nfiles = [\"a*.jsonl\"]\ntrust = 20\n[[source]]\nid = \"exports\"\nfiles = [\"e*.jsonl\"]\ntrust = 10\n";

#[test]
fn a_fact_missing_from_the_newer_statement_is_missing_and_null_is_a_value() {
    let env = workspace(TWO, "");
    env.write("a1.jsonl", document("d", "2027-03-01T05:00:00Z", ",\"encrypted\":true,\"x\":1,\"y\":1"));
    env.write("e1.jsonl", document("d", "2027-03-01T05:00:00Z", ",\"x\":2,\"z\":{\"p\":1,\"l\":[1,2]}"));
    env.ok(&["import", "a1.jsonl", "e1.jsonl", "--as-of", D1]);
    assert_eq!(fact(&env, "d", "x")["value"], "1");
    assert_eq!(fact(&env, "d", "x")["losers"][0]["source"], "exports");
    env.write("a2.jsonl", document("d", "2027-03-02T05:00:00Z", ",\"y\":null,\"z\":{\"q\":2,\"l\":[3]}"));
    env.ok(&["import", "a2.jsonl", "--as-of", D2]);
    assert_eq!(fact(&env, "d", "encrypted"), Json::Null);
    assert_eq!(fact(&env, "d", "x")["source"], "exports");
    assert_eq!(fact(&env, "d", "y")["value"], "empty");
    // Objects merge fact by fact, a list comes whole from one source.
    assert_eq!((&fact(&env, "d", "z.p")["value"], &fact(&env, "d", "z.q")["value"]), (&"1".into(), &"2".into()));
    assert_eq!(fact(&env, "d", "z.l")["value"], "[3]");
}

#[test]
fn a_complete_export_that_leaves_a_device_out_marks_it_absent_and_no_more() {
    let env = workspace("[[source]]\nid = \"x\"\nfiles = [\"*.jsonl\"]\ncomplete = true\n", "");
    let export = |day: u32, devices: &[u32]| -> String {
        devices
            .iter()
            .map(|n| document(&format!("d{n}"), &format!("2027-03-0{day}T05:00:00Z"), ",\"encrypted\":true"))
            .collect()
    };
    env.write("1.jsonl", export(1, &[1, 2, 3, 4, 5, 6]));
    env.write("2.jsonl", export(2, &[1, 2, 3, 4, 5]));
    env.write("3.jsonl", export(3, &[1, 2]));
    env.ok(&["import", "1.jsonl", "--as-of", D1]);
    assert!(env.ok(&["import", "2.jsonl", "--as-of", D2]).contains("1 no longer listed"));
    // It is absent from the feed, and still there.
    assert_eq!(env.json(&["show", "d6"])["absent"][0]["source"], "x");
    assert_eq!(env.json(&["list", "sources"])["rows"][0]["absent"], 1);
    assert_eq!(env.json(&["list", "devices"])["rows"].as_array().unwrap().len(), 6);
    let out = env.ok(&["import", "3.jsonl", "--as-of", D3]);
    assert!(out.contains("3 of this feed are not in the file, more than a fifth"), "{out}");
    assert_eq!(env.json(&["list", "sources"])["rows"][0]["absent"], 1);
    // The same file once more, now to be believed; and once more, with nothing left to do.
    assert!(env.ok(&["import", "3.jsonl", "--accept-missing", "--as-of", D3]).contains("3 no longer listed"));
    assert_eq!(env.json(&["list", "sources"])["rows"][0]["absent"], 4);
    assert!(env.ok(&["import", "3.jsonl", "--accept-missing", "--as-of", D3]).contains("nothing to do"));
    // An older file is history: it neither brings a device back nor takes one away.
    env.write("0.jsonl", export(1, &[6]).replace("T05", "T04"));
    env.ok(&["import", "0.jsonl", "--as-of", D3]);
    assert_eq!(env.json(&["list", "sources"])["rows"][0]["absent"], 4);
    env.write("4.jsonl", export(4, &[1, 2, 3, 4, 5, 6]));
    env.ok(&["import", "4.jsonl", "--as-of", "2027-03-04T06:00:00Z"]);
    assert_eq!(env.json(&["show", "d6"])["absent"], json!([]));
}

#[test]
fn nobody_is_missing_while_records_without_a_name_are_set_aside() {
    let env = workspace("[[source]]\nid = \"x\"\nfiles = [\"*.jsonl\"]\ncomplete = true\n", "");
    let all = |day: u32, devices: u32| -> String {
        (1..=devices).map(|n| document(&format!("d{n}"), &format!("2027-03-0{day}T05:00:00Z"), "")).collect()
    };
    env.write("1.jsonl", all(1, 10));
    env.write("2.jsonl", all(2, 9) + "{\"device\":\"d1");
    env.write("3.jsonl", all(3, 9) + &document("d10", "noon", ""));
    env.ok(&["import", "1.jsonl", "--as-of", D1]);
    let out = env.ok(&["import", "2.jsonl", "--as-of", D2]);
    assert!(out.contains("records were set aside, which may be theirs"), "{out}");
    // A bad record that names its device is no reason to miss it.
    assert!(!env.ok(&["import", "3.jsonl", "--as-of", D3]).contains("missing"));
    assert_eq!(env.json(&["list", "sources"])["rows"][0]["absent"], 0);
}

#[test]
fn a_source_speaks_only_for_the_devices_it_is_meant_for() {
    let env = workspace("[[source]]\nid = \"x\"\nfiles = [\"*.jsonl\"]\nspeaks_for = 'platform = \"android\"'\n", "");
    let text = document("a", "2027-03-01T05:00:00Z", ",\"platform\":\"android\"")
        + &document("b", "2027-03-01T05:00:00Z", ",\"platform\":\"linux\"")
        + &document("c", "2027-03-01T05:00:00Z", "");
    env.write("x.jsonl", text);
    let out = env.ok(&["import", "x.jsonl", "--as-of", D1]);
    assert!(out.contains("1 new device"), "{out}");
    assert!(
        out.contains("line 2: `x` does not speak for such a device") && out.contains("line 3: the record does not say"),
        "{out}"
    );
    env.write("fencepost.toml", format!("{STEPPED}[[source]]\nid = \"x\"\nspeaks_for = 'platform = = 1'\n"));
    env.fails(&["list", "devices"], 2, &["fencepost.toml:7:"]);
}

#[test]
fn secrets_are_never_kept_and_still_told_apart() {
    let env = workspace("", "\"vault.key\" = { secret = true }\n\"door.token\" = { secret = false }\n");
    let text =
        document(
            "a",
            "2027-03-01T05:00:00Z",
            ",\"vault\":{\"key\":\"s3cr3t-one\"},\"wifi\":{\"password\":\"s3cr3t-two\"},\"door\":{\"token\":\"open\"}",
        ) + &document("b", "2027-03-01T05:00:00Z", ",\"vault\":{\"key\":\"s3cr3t-one\"},\"wifi\":{\"password\":null}");
    env.write("a.jsonl", text);
    let out = env.ok(&["import", "a.jsonl", "--as-of", D1]);
    assert!(out.contains("taken for secrets by their names, and kept as digests alone: wifi.password"), "{out}");
    let digest = fact(&env, "a", "vault.key")["value"].as_str().unwrap().to_owned();
    assert!(digest.starts_with("secret:") && digest.len() == 39, "{digest}");
    assert_eq!(fact(&env, "b", "vault.key")["value"], digest.as_str());
    assert_eq!(fact(&env, "a", "door.token")["value"], "open");
    assert_eq!(fact(&env, "b", "wifi.password")["value"], "empty");
    assert!(!kept(&env).contains("s3cr3t"));
    for file in ["key", "ledger.sqlite"] {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(env.path(".fencepost").join(file)).unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "{file} is its owner's alone");
    }
    // A stateless run shows no more, with any key the same.
    env.rules(&[("fine", "2d", "vault.key = \"x\"")]);
    let piped = env.run(&["assess", "--state", "a.jsonl", "--evidence", "--format", "jsonl", "--as-of", D1]);
    assert!(
        piped.out.contains("(secret)") && !piped.out.contains("s3cr3t") && !piped.out.contains("secret:"),
        "{}",
        piped.out
    );
    let tried = env.pipe(&["try", "vault.key", "--facts", "/dev/stdin"], b"{\"vault\":{\"key\":\"s3cr3t-one\"}}");
    assert!(!tried.out.contains("s3cr3t-one"), "{}", tried.out);
}

#[test]
fn a_fact_declared_secret_later_is_taken_out_of_what_is_kept() {
    let env = workspace("", "\"plain\" = { type = \"text\" }\n");
    let text = document("a", "2027-03-01T05:00:00Z", ",\"code\":\"s3cr3t-one\",\"n\":1")
        + &document("b", "2027-03-01T05:00:00Z", ",\"code\":\"s3cr3t-two\",\"n\":1");
    env.write("a.jsonl", text.clone());
    env.write("b.jsonl", text.replace("T05", "T04").replace("one", "old"));
    env.ok(&["import", "b.jsonl", "a.jsonl", "--as-of", D1]);
    env.ok(&["assess"]);
    env.write("facts.toml", "[facts]\n\"code\" = { secret = true }\n");
    env.ok(&["assess", "--as-of", D2]);
    assert!(fact(&env, "a", "code")["value"].as_str().unwrap().starts_with("secret:"));
    assert_ne!(fact(&env, "a", "code")["value"], fact(&env, "b", "code")["value"]);
    let kept = kept(&env);
    assert!(!kept.contains("s3cr3t-one") && !kept.contains("s3cr3t-old"));
    // The same secret, collected once more, is known as the same.
    env.write("c.jsonl", text.replace("-01T05", "-02T05"));
    assert!(env.ok(&["import", "c.jsonl", "--as-of", D2]).contains("0 changed, 2 unchanged"));
}

#[test]
fn a_lost_key_ends_comparability_and_nothing_more() {
    let env = workspace("", "\"code\" = { secret = true }\n");
    env.write("a.jsonl", document("a", "2027-03-01T05:00:00Z", ",\"code\":\"x\",\"encrypted\":true"));
    env.ok(&["import", "a.jsonl", "--as-of", D1]);
    std::fs::remove_file(env.path(".fencepost/key")).unwrap();
    env.write("b.jsonl", document("a", "2027-03-02T05:00:00Z", ",\"code\":\"x\",\"encrypted\":true"));
    assert!(env.ok(&["import", "b.jsonl", "--as-of", D2]).contains("1 changed"));
    assert_eq!(env.json(&["assess"])["devices"]["compliant"], 1);
    env.write(".fencepost/key", "nonsense");
    env.fails(&["import", "b.jsonl", "--as-of", D2], 2, &["is no key", "remove the file to go on"]);
}

#[test]
fn what_is_the_companys_alone_is_dropped_from_other_devices() {
    let env = workspace("company_device = 'ownership = \"company\"'\n", "\"location\" = { company_only = true }\n");
    env.write("corrections.toml", "[[correction]]\ndevice = \"c\"\nfact = \"ownership\"\nvalue = \"company\"\nbecause = \"receipt\"\nby = \"desk\"\nuntil = 2027-04-01\n");
    let of = |device: &str, owner: &str| {
        document(device, "2027-03-01T05:00:00Z", &format!(",{owner}\"location\":{{\"lat\":59.123}}"))
    };
    let text = of("a", "\"ownership\":\"company\",")
        + &of("b", "\"ownership\":\"personal\",")
        + &of("c", "\"ownership\":\"personal\",")
        + &of("d", "");
    env.write("a.jsonl", text);
    let out = env.ok(&["import", "a.jsonl", "--as-of", D1]);
    assert!(out.contains("2 records are of devices that are not the company's"), "{out}");
    // What was not kept was not collected, as far as anybody can tell.
    for (device, outcome) in [("a", "pass"), ("b", "unknown"), ("c", "pass"), ("d", "unknown")] {
        assert_eq!(env.json(&["try", "location.lat > 59", "--device", device])["outcome"], outcome, "{device}");
    }
    env.write("fencepost.toml", STEPPED);
    env.fails(&["list", "devices"], 2, &["`location` is company_only", "company_device = "]);
}

#[test]
fn a_retired_device_is_gone_until_it_is_collected_again_and_then_new() {
    let env = workspace("", "");
    let failing = |at: &str| document("a", at, ",\"encrypted\":false") + &document("b", at, ",\"encrypted\":true");
    env.write("1.jsonl", failing("2027-03-01T05:00:00Z"));
    env.ok(&["import", "1.jsonl", "--as-of", D1]);
    assert_eq!(env.json(&["assess"])["opened"][0]["device"], "a");
    env.write("devices.toml", "[[device]]\nid = \"a\"\nretired = 2027-03-02\nbecause = \"sold\"\n");
    // What was collected on the day of the retirement belongs to the life that ends.
    env.write("2.jsonl", failing("2027-03-02T05:00:00Z"));
    env.ok(&["import", "2.jsonl", "--as-of", D2]);
    let gone = env.json(&["assess"]);
    assert_eq!((&gone["devices"]["total"], &gone["closed"][0]["how"]), (&1.into(), &"retired".into()));
    assert_eq!(env.json(&["list", "devices"])["rows"].as_array().unwrap().len(), 1);
    let shown = env.ok(&["show", "a"]);
    assert!(shown.contains("retired Tue 2 Mar 2027 00:00: sold"), "{shown}");
    env.write("3.jsonl", failing("2027-03-03T05:00:00Z"));
    env.ok(&["import", "3.jsonl", "--as-of", D3]);
    let back = env.json(&["assess"]);
    assert_eq!(back["devices"]["total"], 2);
    // Its clock starts anew: it is no relapse.
    assert_eq!((&back["opened"][0]["opened"], &back["opened"][0]["how"]), (&D3.into(), &Json::Null));
    let history = env.ok(&["history", "a"]);
    for told in ["fine opened", "retired: sold", "fine closed (retired)"] {
        assert!(history.contains(told), "{told} in {history}");
    }
}

#[test]
fn a_renamed_device_keeps_its_findings_and_answers_to_both_names() {
    let env = workspace("", "");
    env.write("1.jsonl", document("old", "2027-03-01T05:00:00Z", ",\"encrypted\":false"));
    env.ok(&["import", "1.jsonl", "--as-of", D1]);
    env.ok(&["assess"]);
    env.write(
        "devices.toml",
        "[[device]]\nid = \"old\"\nrenamed_to = \"new\"\nfrom = 2027-03-02\nbecause = \"refit\"\n",
    );
    // One feed uses the new name, another goes on with the old one.
    env.write(
        "2.jsonl",
        document("new", "2027-03-02T04:00:00Z", ",\"encrypted\":false")
            + &document("old", "2027-03-02T05:00:00Z", ",\"encrypted\":false"),
    );
    env.ok(&["import", "2.jsonl", "--as-of", D2]);
    let assessed = env.json(&["assess"]);
    assert_eq!((&assessed["devices"]["total"], &assessed["opened"]), (&1.into(), &json!([])));
    let shown = env.json(&["show", "old"]);
    assert_eq!((&shown["device"], &shown["former_names"][0]), (&"new".into(), &"old".into()));
    assert_eq!(shown["findings"][0]["opened"], D1);
    assert!(env.ok(&["history", "new"]).contains("no longer called old: refit"));
    env.write("devices.toml", "[[device]]\nid = \"a\"\nrenamed_to = \"b\"\nfrom = 2027-03-02\nbecause = \"x\"\n[[device]]\nid = \"b\"\nrenamed_to = \"a\"\nfrom = 2027-03-02\nbecause = \"x\"\n");
    env.fails(&["list", "devices"], 2, &["renamed in a circle"]);
}

#[test]
fn mistakes_in_the_file_of_devices_are_named() {
    let env = workspace("", "");
    for (text, says) in [
        ("[[device]]\nid = \"a\"\nbecause = \"x\"\n", "is retired or renamed"),
        ("[[device]]\nid = \"a\"\nretired = 2027-03-01\n", "needs id and because"),
        ("[[device]]\nid = \"a\"\nretired = \"soon\"\nbecause = \"x\"\n", "no day and no moment"),
        ("[[device]]\nid = \"a\"\nrenamed_to = \"b\"\nbecause = \"x\"\n", "needs `from`"),
        ("[[device]]\nid = \"a\"\nretire = 2027-03-01\nbecause = \"x\"\n", "did you mean `retired`"),
    ] {
        env.write("devices.toml", text);
        env.fails(&["list", "devices"], 2, &["devices.toml:", says]);
    }
}

#[test]
fn the_ledger_grows_by_what_changed_and_no_more() {
    let env = workspace("", "\"net.address\" = { volatile = true }\n\"free\" = { volatile = true }\n");
    let size = || {
        let out = env.ok(&["list", "devices", "--format", "csv"]);
        assert_eq!(out.lines().count(), 201);
        std::fs::metadata(env.path(".fencepost/ledger.sqlite")).unwrap().len()
    };
    let noise = "n".repeat(2000);
    let collect = |day: u32, changed: u32| {
        let text: String = (0..200)
            .map(|n| {
                let more = format!(
                    ",\"free\":{},\"net\":{{\"address\":\"192.0.2.{}\"}},\"text\":\"{noise}{n}{}\",\"encrypted\":true",
                    n * day,
                    (n + day) % 250,
                    if n < changed { day } else { 0 },
                );
                document(&format!("d{n}"), &format!("2027-03-{day:02}T05:00:00Z"), &more)
            })
            .collect();
        env.write(&format!("s{day}.jsonl"), text);
        env.ok(&["import", &format!("s{day}.jsonl"), "--as-of", &format!("2027-03-{day:02}T06:00:00Z")]);
    };
    collect(1, 0);
    let first = size();
    for day in 2..=11 {
        collect(day, 0);
    }
    let quiet = size() - first;
    for day in 12..=21 {
        collect(day, 200);
    }
    let busy = size() - first - quiet;
    // Ten collections in which only what always changes did cost a few bytes a device each.
    assert!(quiet < 200 * 10 * 80, "{quiet} bytes");
    assert!(busy > quiet * 2, "{busy} against {quiet} bytes");
    // As it was is still told, by the documents of then.
    assert_eq!(env.json(&["history", "d7"])["happenings"].as_array().unwrap().len(), 1 + 10);
}

#[test]
fn volatile_facts_that_an_assessment_read_are_still_there_to_prove_it() {
    let env = workspace("", "\"free\" = { type = \"number\", volatile = true }\n\"address\" = { volatile = true }\n");
    env.rules(&[("room", "2d", "free > 100")]);
    for (day, free) in [(1, 50), (2, 200), (3, 300)] {
        let at = format!("2027-03-0{day}T06:00:00Z");
        env.write(
            &format!("{day}.jsonl"),
            document("a", &format!("2027-03-0{day}T05:00:00Z"), &format!(",\"free\":{free},\"address\":\"x{day}\"")),
        );
        env.ok(&["import", &format!("{day}.jsonl"), "--as-of", &at]);
        env.ok(&["assess", "--as-of", &at]);
    }
    let then = env.ok(&["why", "a", "--as-of", D1]);
    assert!(then.contains("free is 50"), "{then}");
    let shown = env.json(&["show", "a", "--as-of", D1]);
    let value = |path: &str| {
        shown["facts"].as_array().unwrap().iter().find(|fact| fact["fact"] == path).unwrap()["value"].clone()
    };
    // The address nobody read, so of the first collection it is gone.
    assert_eq!((value("free"), value("address")), ("50".into(), "not collected".into()));
    assert_eq!(
        env.json(&["show", "a"])["facts"].as_array().unwrap().iter().find(|fact| fact["fact"] == "address").unwrap()["value"],
        "x3"
    );
}

#[test]
fn what_is_too_old_still_says_where_a_device_belongs_and_is_said_to() {
    let env = workspace(
        "[[source]]\nid = \"x\"\nfiles = [\"x*\"]\nfresh_for = \"1d\"\n[[source]]\nid = \"y\"\nfiles = [\"y*\"]\ntrust = 9\n",
        "",
    );
    env.write("groups.toml", "[[group]]\nid = \"bridge\"\nwhere = 'role = \"bridge\"'\n");
    env.write("rules/test.toml", "[[rule]]\nid = \"locks\"\ngroups = [\"bridge\"]\nrequire = 'lock <= 10'\n[[rule]]\nid = \"sealed\"\ngroups = [\"bridge\"]\nrequire = 'sealed'\n");
    env.write(
        "x.jsonl",
        document("a", "2027-03-01T05:00:00Z", ",\"role\":\"bridge\",\"lock\":5,\"person\":\"B-1\",\"sealed\":true"),
    );
    env.write("y.jsonl", document("a", "2027-03-01T05:00:00Z", ",\"sealed\":false"));
    env.ok(&["import", "x.jsonl", "y.jsonl", "--as-of", D1]);
    env.ok(&["assess"]);
    assert_eq!(env.json(&["show", "a"])["last_known"], json!([]));
    // Both sources say something; the one that is trusted wins, and what the other says is told beside it.
    let why = env.ok(&["why", "a", "sealed"]);
    assert!(why.contains("from      y,") && why.contains("but       x says true"), "{why}");
    env.ok(&["assess", "--as-of", D3]);
    let shown = env.json(&["show", "a"]);
    assert_eq!(
        shown["last_known"],
        json!([{ "what": "holder", "facts": ["person"] }, { "what": "bridge", "facts": ["role"] }])
    );
    let why = env.ok(&["why", "a", "locks"]);
    assert!(why.contains("cannot be told") && why.contains("too old to count"), "{why}");
    assert!(why.contains("covered   as last known, by facts that are too old: role"), "{why}");
    assert!(
        env.ok(&["show", "a"]).contains("as last known, by facts that are too old: holder (person), bridge (role)")
    );
}

#[test]
fn what_fields_of_lists_are_read_as_is_kept() {
    let env = Env::new();
    env.write(
        "facts.toml",
        "[facts]\n\"apps.version\" = { type = \"version\" }\n\"apps.seen\" = { type = \"instant\" }\n\"apps.bought\" = { type = \"date\" }\n\"apps.used\" = { type = \"duration\" }\n",
    );
    let all = [
        ("version", "every a in apps satisfies a.version >= version(\"4.2\")"),
        ("seen", "every a in apps satisfies age(a.seen) < duration(\"P3D\")"),
        ("bought", "every a in apps satisfies a.bought > date(\"2027-01-31\")"),
        ("used", "every a in apps satisfies a.used < duration(\"PT2H\")"),
    ];
    env.rules(&all.map(|(id, require)| (id, "1d", require)));
    let app = |version: &str, seen: &str, bought: &str, used: &str| json!({ "version": version, "seen": seen, "bought": bought, "used": used });
    let device = |id: &str, app: Json| json!({ "device": id, "collected_at": "2027-03-02T05:00:00Z", "apps": [app] });
    let devices = [
        device("fine", app("4.10", "2027-03-01T06:00:00+01:00", "2027-02-01", "PT90M")),
        device("not", app("4.1", "2027-02-20T06:00:00@Europe/Oslo", "2027-01-31", "PT2H")),
        device("odd", app("new", "lately", "once", "long")),
    ];
    let assessed = env.morning("2027-03-02T06:00:00Z", &devices);
    for rule in assessed["rules"].as_array().unwrap() {
        assert_eq!((&rule["pass"], &rule["fail"], &rule["unknown"]), (&1.into(), &1.into(), &1.into()), "{rule}");
    }
    // From what was kept, it is the same.
    let again = env.json(&["assess", "--anew", "--as-of", "2027-03-02T07:00:00Z"]);
    assert_eq!(again["rules"], assessed["rules"]);
    assert!(env.ok(&["list", "rejects", "--format", "csv"]).lines().count() <= 1);
}
