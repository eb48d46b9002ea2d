//! `vet`: mistakes that compile, each with its code, its place and what to do about it.

use std::fs;
use std::path::Path;

use serde_json::{Value as Json, json};

use crate::env::Env;

/// Two laptops of each of two platforms, and a third one that nobody holds.
fn fleet() -> Vec<Json> {
    let device = |id: &str, platform: &str, version: &str, own: Json| {
        let mut document = json!({
            "device": id, "collected_at": "2027-03-10T05:00:00Z", "platform": platform, "os": { "version": version },
            "person": "ann", "lock": { "minutes": 5 }, "role": "desk",
        });
        document.as_object_mut().expect("an object").extend(own.as_object().expect("an object").clone());
        document
    };
    vec![
        device("auk", "windows", "10.1", json!({ "vault": { "on": true } })),
        device("bunting", "windows", "10.2", json!({ "vault": { "on": false } })),
        device("curlew", "linux", "6.1", json!({ "role": "kiosk" })),
        device("dunlin", "linux", "6.2", json!({ "person": null })),
    ]
}

const CLEAN: &str = r#"
[[access]]
id = "mail"
services = ["mail"]
needs = 'standing = "compliant"'
tell = "{{ findings }}"

[[service]]
id = "mail"
default = "deny"
usual = [{ client = "app" }]
"#;

/// A workspace with these rules, whose fleet was imported, and is assessed when they stand alone.
fn workspace(rules: &str) -> Env {
    let env = Env::new();
    env.write("facts.toml", "[facts]\n\"os.version\" = { type = \"version\" }\n");
    env.write("access.toml", CLEAN);
    env.write("rules/r.toml", rules);
    env.write("state.jsonl", fleet().iter().map(|document| format!("{document}\n")).collect::<String>());
    env.ok(&["import", "state.jsonl", "--as-of", "2027-03-10T06:00:00Z"]);
    env
}

/// Returns the mistakes of a workspace as `code file:line`, and all that is told of each.
fn vetted(env: &Env, args: &[&str]) -> (Vec<String>, Vec<Json>) {
    let mut all = vec!["vet", "--format", "json"];
    all.extend(args);
    let ran = env.run(&all);
    let json: Json = serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {}{}", ran.out, ran.err));
    let mistakes = json["mistakes"].as_array().expect("a list").clone();
    let places = mistakes.iter().map(|mistake| {
        let file = mistake["file"].as_str().unwrap_or("-");
        format!("{} {file}:{}", mistake["code"].as_str().expect("a code"), mistake["line"])
    });
    (places.collect(), mistakes)
}

/// Holds the mistakes that a rule makes to these, and returns the first.
#[track_caller]
fn makes(env: &Env, expected: &[&str]) -> Json {
    let (places, mut mistakes) = vetted(env, &[]);
    assert_eq!(places, expected);
    for mistake in &mistakes {
        assert!(mistake["help"].as_str().is_some_and(|help| !help.is_empty()), "{mistake}");
    }
    mistakes.remove(0)
}

#[track_caller]
fn says(mistake: &Json, key: &str, text: &str) {
    assert!(mistake[key].as_str().is_some_and(|said| said.contains(text)), "{key} does not say `{text}`: {mistake}");
}

const LOCK: &str = "[[rule]]\nid = \"lock\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes <= 5'\n";

#[test]
fn what_is_as_meant_is_not_told() {
    let env = workspace(
        "[[rule]]\nid = \"lock\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes <= 5 or role = \"kiosk\"'\n",
    );
    assert_eq!(vetted(&env, &[]).0, Vec::<String>::new());
    let ran = env.run(&["vet"]);
    assert_eq!(ran.code, 0);
    assert_eq!(ran.out, "Nothing to mend in 4 files, with 1 rule; tried on 4 devices, as of Wed 10 Mar 2027 07:00\n");
}

#[test]
fn a_scope_that_reaches_nobody_or_spares_everybody() {
    let env = workspace("[[rule]]\nid = \"a\"\ncovers = 'platform = \"Windows\"'\nrequire = 'vault.on'\n");
    let told = makes(&env, &["covers-nobody rules/r.toml:3"]);
    says(&told, "message", "rule `a` covers no device");
    says(&told, "help", "fencepost list devices --where 'platform = \"Windows\"'");
    // Of checks it is told once.
    env.write(
        "rules/r.toml",
        "[[rule]]\nid = \"a\"\ncovers = 'role = \"buoy\"'\n[rule.checks]\none = 'vault.on'\ntwo = 'lock.minutes < 9'\n",
    );
    makes(&env, &["covers-nobody rules/r.toml:3"]);
    env.write(
        "rules/r.toml",
        "[[rule]]\nid = \"a\"\ncovers = 'role = \"kiosk\"'\nexcept = [{ device = \"curlew\", because = \"On the hard.\" }]\nrequire = 'lock.minutes = 3'\n",
    );
    let told = makes(&env, &["all-excepted rules/r.toml:4"]);
    says(&told, "message", "everybody whom rule `a` covers is excepted");
}

#[test]
fn exceptions_that_are_over_or_spare_nobody() {
    let rule = |except: &str| format!("{LOCK}except = [{except}]\nwas = []\n").replace("<= 5", "in [5, 6]");
    let env = workspace(&rule("{ device = \"auk\", because = \"x\", until = 2027-03-09 }"));
    let told = makes(&env, &["exception-over rules/r.toml:5"]);
    says(&told, "message", "`auk` ended on 2027-03-09");
    env.write("rules/r.toml", rule("{ device = \"auk\", because = \"x\", until = 2027-03-10 }"));
    assert_eq!(vetted(&env, &[]).0, Vec::<String>::new());
    env.write(
        "rules/r.toml",
        rule("\"auk\"").replace("groups = [\"every-device\"]", "covers = 'platform = \"linux\"'"),
    );
    let told = makes(&env, &["exception-spares-nobody rules/r.toml:5"]);
    says(&told, "message", "`auk` is not covered otherwise");
    // A name that nobody has says what it was probably meant to be.
    env.write("rules/r.toml", rule("{ device = \"dumlin\" }"));
    let (places, mistakes) = vetted(&env, &[]);
    assert_eq!(places, ["exception-spares-nobody rules/r.toml:5", "unknown-member rules/r.toml:5"]);
    says(&mistakes[1], "help", "did you mean `dunlin`?");
}

#[test]
fn thresholds_that_nobody_or_everybody_meets() {
    let env = workspace(&LOCK.replace("<= 5", "<= 3"));
    let told = makes(&env, &["nobody-passes rules/r.toml:4"]);
    says(&told, "message", "none of the 4 devices that rule `lock` can judge passes it");
    says(&told, "label", "the lowest is 5");
    env.write("rules/r.toml", LOCK);
    let told = makes(&env, &["everybody-meets rules/r.toml:4"]);
    says(&told, "label", "the highest is 5");
    assert_eq!(told["level"], "note");
    // A rule that has caught somebody is worth keeping.
    let mut later = fleet();
    later[0]["lock"]["minutes"] = json!(30);
    later[0]["collected_at"] = json!("2027-03-11T05:00:00Z");
    env.morning("2027-03-11T06:00:00Z", &later[..1]);
    later[0]["lock"]["minutes"] = json!(5);
    later[0]["collected_at"] = json!("2027-03-12T05:00:00Z");
    env.morning("2027-03-12T06:00:00Z", &later[..1]);
    assert_eq!(vetted(&env, &[]).0, Vec::<String>::new());
    // Versions are compared as versions.
    env.write(
        "rules/r.toml",
        "[[rule]]\nid = \"v\"\ncovers = 'platform = \"windows\"'\nrequire = 'os.version >= version(\"10.10\")'\n",
    );
    says(&makes(&env, &["nobody-passes rules/r.toml:4"]), "label", "the highest is 10.2");
}

#[test]
fn a_rule_that_another_one_overtakes() {
    let two = |first: &str, second: &str| {
        format!(
            "[[rule]]\nid = \"a\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes < 9 or role = \"x\"'\n{first}\n[[rule]]\nid = \"b\"\n{second}\n"
        )
    };
    let strict = "groups = [\"every-device\"]\nrequire = 'lock.minutes < 7'";
    let env = workspace(&two("", strict));
    let (places, mistakes) = vetted(&env, &[]);
    assert_eq!(places, ["overtaken rules/r.toml:4", "everybody-meets rules/r.toml:9"]);
    says(&mistakes[0], "message", "rule `a` says nothing that `b` does not say");
    assert_eq!(mistakes[0]["also"][0]["line"], 9);
    says(&mistakes[0]["also"][0], "label", "asks for no less of the same 4 devices");
    // One that bites later, counts for less or covers fewer does not.
    for other in ["grace = \"1d\"", "severity = \"low\"", "stage = \"trial\""] {
        env.write("rules/r.toml", two("", &format!("{strict}\n{other}")));
        assert_eq!(vetted(&env, &[]).0, ["everybody-meets rules/r.toml:9"], "{other}");
    }
    env.write(
        "rules/r.toml",
        two("", &strict.replace("groups = [\"every-device\"]", "covers = 'platform = \"linux\"'")),
    );
    assert_eq!(vetted(&env, &[]).0, ["everybody-meets rules/r.toml:9"]);
    // The same twice is one too many.
    env.write("rules/r.toml", two("", "groups = [\"every-device\"]\nrequire = 'lock.minutes<9 or role = \"x\"'"));
    says(&makes(&env, &["overtaken rules/r.toml:9"]), "message", "rule `b` says nothing that `a` does not say");
}

#[test]
fn facts_that_only_other_platforms_report_or_nobody_does() {
    let env = workspace("[[rule]]\nid = \"a\"\ngroups = [\"every-device\"]\nrequire = 'vault.on'\n");
    let told = makes(&env, &["fact-of-others rules/r.toml:4"]);
    says(&told, "message", "rule `a` judges no device of linux");
    says(&told, "label", "`vault.on` is reported by windows alone; 2 devices are unknown");
    env.write("rules/r.toml", "[[rule]]\nid = \"a\"\ngroups = [\"every-device\"]\nrequire = 'vault.om = true'\n");
    let told = makes(&env, &["unknown-fact rules/r.toml:4"]);
    says(&told, "help", "vault.on");
}

#[test]
fn people_consequences_groups_and_members() {
    let groups = "[[group]]\nid = \"crew\"\nof = \"people\"\nmembers = [\"ann\"]\n\n[[group]]\nid = \"held\"\nheld_by = [\"crew\"]\n\n[[group]]\nid = \"loose\"\nmembers = [\"auk\", \"bumting\"]\n";
    let env = workspace("");
    env.write("rules/r.toml", "[[rule]]\nid = \"a\"\ngroups = [\"held\"]\nrequire = 'lock.minutes in [5, 6]'\n");
    env.write("groups.toml", groups);
    env.write(
        "fencepost.toml",
        format!("{}[[source]]\nid = \"crew\"\nperson = \"id\"\nformat = \"jsonl\"\n", crate::env::STEPPED),
    );
    env.write("crew.jsonl", "{\"id\":\"ann\",\"name\":\"Ann\"}\n");
    env.ok(&["import", "crew.jsonl", "--source", "crew", "--as-of", "2027-03-10T06:30:00Z"]);
    let (places, mistakes) = vetted(&env, &[]);
    assert_eq!(
        places,
        ["unknown-member groups.toml:12", "scoped-by-people rules/r.toml:2", "group-without-use groups.toml:11"]
    );
    says(&mistakes[0], "help", "did you mean `bunting`?");
    says(&mistakes[1], "message", "rule `a` asks something of the machine, and covers it by who holds it");
    // Whom it covers may be said by facts of the machine, and who holds it may be what is asked.
    env.write(
        "rules/r.toml",
        "[[rule]]\nid = \"a\"\ngroups = [\"held\"]\nrequire = 'in group(\"held\")'\n".replace("in group", "in_group"),
    );
    let (places, _) = vetted(&env, &[]);
    assert!(!places.iter().any(|place| place.starts_with("scoped-by-people")), "{places:?}");
    // Nobody loses anything, or only over some rules.
    env.write("groups.toml", "");
    env.write("rules/r.toml", "[[rule]]\nid = \"a\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes in [5, 6]'\n[[rule]]\nid = \"b\"\ngroups = [\"every-device\"]\nrequire = 'role in [\"desk\", \"kiosk\"]'\n");
    env.write("access.toml", CLEAN.replace("standing = \"compliant\"", "not(failing(\"a\"))"));
    says(&makes(&env, &["no-consequence rules/r.toml:6"]), "message", "nobody loses access over rule `b`");
    env.write("access.toml", "");
    let told = makes(&env, &["no-consequence -:null"]);
    says(&told, "help", "standing");
}

#[test]
fn drafts_that_were_forgotten() {
    let draft =
        "[[rule]]\nid = \"a\"\nstage = \"draft\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes in [5, 6]'\n";
    let env = workspace(draft);
    env.ok(&["assess", "--as-of", "2027-03-10T07:00:00Z"]);
    // However it was worked on since.
    env.write("rules/r.toml", draft.replace("[5, 6]", "[4, 5]"));
    env.ok(&["assess", "--as-of", "2027-04-01T07:00:00Z"]);
    assert_eq!(vetted(&env, &["--as-of", "2027-04-09T06:00:00Z"]).0, Vec::<String>::new());
    let (places, mistakes) = vetted(&env, &["--as-of", "2027-04-09T08:00:00Z"]);
    assert_eq!(places, ["draft-forgotten rules/r.toml:2"]);
    says(&mistakes[0], "message", "has been a draft since 2027-03-10");
}

#[test]
fn clauses_that_no_rule_answers_for() {
    let rule = "[[rule]]\nid = \"a\"\ngroups = [\"every-device\"]\nrequire = 'lock.minutes in [5, 6]'\ncontrols = [\"Order 12\"]\n";
    let env = workspace(rule);
    assert_eq!(vetted(&env, &[]).0, Vec::<String>::new());
    env.write(
        "controls.toml",
        "[[control]]\nclause = \"Order 12\"\n[[control]]\nclause = \"Order 13\"\ntitle = \"Disks\"\n[[control]]\nclause = \"Order 14\"\nelsewhere = \"The watch.\"\n",
    );
    let told = makes(&env, &["clause-without-rule controls.toml:4"]);
    assert_eq!(told["label"], "Disks");
    env.write("rules/r.toml", format!("{rule}stage = \"trial\"\n").replace("Order 12", "Order 13"));
    let (_, mistakes) = vetted(&env, &[]);
    says(&mistakes[1], "help", "rule `a` would, once it is enforced");
    env.write("rules/r.toml", rule.replace("Order 12\"", "Order 12\", \"Oder 13\""));
    let (places, mistakes) = vetted(&env, &[]);
    assert_eq!(places, ["unknown-clause rules/r.toml:5", "clause-without-rule controls.toml:4"]);
    says(&mistakes[0], "help", "did you mean `Order 13`?");
    // No verdict hangs on it.
    env.write("rules/r.toml", rule);
    env.ok(&["assess", "--as-of", "2027-03-10T07:00:00Z"]);
    env.write("controls.toml", "");
    assert!(!env.run(&["list", "rules"]).err.contains("edited"));
}

#[test]
fn baselines_that_disagree_and_one_that_covers_nobody() {
    let env = workspace("");
    env.write("baselines/a.toml", "id = \"a\"\ncovers = 'platform = \"linux\"'\n[expect]\n\"lock.minutes\" = 5\n");
    env.write("baselines/b.toml", "id = \"b\"\ncovers = 'role = \"kiosk\"'\n[expect]\n\"lock.minutes\" = 3\n");
    let (places, mistakes) = vetted(&env, &[]);
    assert_eq!(places, ["baselines-disagree baselines/a.toml:4"]);
    says(&mistakes[0], "message", "expect different things of curlew");
    assert_eq!(mistakes[0]["also"][0]["file"], "baselines/b.toml");
    env.write(
        "baselines/b.toml",
        "id = \"b\"\ncovers = 'role = \"buoy\"'\n[expect]\n\"lock.minutes\" = 3\nrole = \"x\"\n",
    );
    says(&makes(&env, &["covers-nobody baselines/b.toml:2"]), "message", "baseline `b` covers no device");
    // One whose devices are all judged by another that extends it still does its work.
    env.write("baselines/b.toml", "id = \"b\"\nextends = \"a\"\ncovers = 'platform in [\"linux\"]'\n[expect]\nrole = { test = '\"desk\", \"kiosk\"' }\n");
    assert_eq!(vetted(&env, &[]).0, Vec::<String>::new());
}

#[test]
fn examples_are_held_against_the_rules() {
    let env = workspace(
        "[[rule]]\nid = \"disk\"\ncovers = 'platform = \"linux\"'\nrequire = 'every d in disks satisfies d.encrypted'\nexcept = [\"buoy\"]\n\n[[rule]]\nid = \"recent\"\nstage = \"draft\"\ngroups = [\"every-device\"]\nrequire = 'age(seen) < duration(\"P3D\") or os.version >= version(\"7\")'\n",
    );
    let example = |own: &str| format!("[[example]]\n{own}\n");
    let held = [
        "rule = \"disk\"\nfacts = { platform = \"linux\", disks = [{ name = \"a\", encrypted = true }] }\nexpect = \"pass\"",
        "rule = \"disk\"\nfacts = { platform = \"linux\" }\nexpect = \"unknown\"",
        "rule = \"disk\"\nfacts = { platform = \"windows\" }\nexpect = \"not-applicable\"",
        "rule = \"disk\"\ndevice = \"buoy\"\nfacts = { platform = \"linux\", disks = [] }\nexpect = \"not-applicable\"",
        "rule = \"recent\"\nfacts = { \"os.version\" = \"7.10\" }\nexpect = \"pass\"",
        "rule = \"recent\"\nas_of = 2027-03-10\ncollected_at = 2027-03-01\nfacts = { seen = 2027-03-01T00:00:00Z, os.version = \"6\" }\nexpect = \"fail\"",
    ];
    env.write("examples/held.toml", held.map(example).concat());
    let (places, _) = vetted(&env, &[]);
    assert!(!places.iter().any(|place| place.contains("example")), "{}", env.run(&["vet"]).out);
    assert!(env.ok(&["vet"]).contains("6 examples"));
    env.write(
        "examples/wrong.toml",
        "[[example]]\ntitle = \"Bare disks\"\nrule = \"disk\"\nexpect = \"pass\"\n[example.facts]\nplatform = \"linux\"\ndisks = [{ name = \"sda\", encrypted = false }]\n\n[[example]]\nrule = \"disc\"\nfacts = {}\nexpect = \"pass\"\n",
    );
    let (places, mistakes) = vetted(&env, &[]);
    let wrong: Vec<usize> = (0..places.len())
        .filter(|at| places[*at].ends_with("wrong.toml:4") || places[*at].ends_with("wrong.toml:10"))
        .collect();
    assert_eq!(wrong.len(), 2, "{places:?}");
    let (failed, unknown) = (&mistakes[wrong[0]], &mistakes[wrong[1]]);
    says(failed, "message", "Bare disks: rule `disk` says fail, not pass");
    assert_eq!(failed["evidence"]["items"][0]["item"], "sda");
    assert_eq!(unknown["code"], "unknown-rule");
    says(unknown, "help", "did you mean `disk`?");
    let ran = env.run(&["vet"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("error[example-fails]: Bare disks: rule `disk` says fail, not pass"), "{}", ran.out);
    assert!(ran.out.contains("1 of 1 in disks break it") && ran.out.contains("sda"), "{}", ran.out);
    // Facts are read as those of a device are, within the same limits.
    let many: String = (0..100_001).map(|at| format!("k{at} = 1\n")).collect();
    env.write(
        "examples/wrong.toml",
        format!("[[example]]\nrule = \"disk\"\nexpect = \"pass\"\n[example.facts]\n{many}"),
    );
    let (places, mistakes) = vetted(&env, &["examples"]);
    assert_eq!(places, ["unreadable-facts examples/wrong.toml:1"]);
    says(&mistakes[0], "message", "100000 fields");
    // What an example lacks is told as any other mistake of form.
    env.write(
        "examples/wrong.toml",
        "[[example]]\nrule = \"disk\"\nexpect = \"maybe\"\nfacts = { x = inf }\n[[example]]\nrule = \"disk\"\n",
    );
    let (places, _) = vetted(&env, &[]);
    assert_eq!(
        places[..3],
        ["bad-word examples/wrong.toml:3", "wrong-type examples/wrong.toml:4", "incomplete examples/wrong.toml:5"]
    );
}

#[test]
fn mistakes_of_form_come_in_every_format_and_fail() {
    let env = workspace(LOCK);
    env.write("rules/r.toml", "[[rule]]\nid = \"a\"\ngrops = [\"every-device\"]\nrequire = 'lock.minutes <= 5'\n");
    let ran = env.run(&["vet"]);
    assert_eq!((ran.code, ran.err.as_str()), (1, ""));
    assert!(
        ran.out.contains("grops = [") && ran.out.contains("^^^^^") && ran.out.contains("did you mean `groups`?"),
        "{}",
        ran.out
    );
    let (places, _) = vetted(&env, &[]);
    assert_eq!(places, ["scope-for-nobody rules/r.toml:2", "unknown-key rules/r.toml:3"]);
    let lines = env.run(&["vet", "--format", "jsonl"]).out;
    assert_eq!(lines.lines().count(), 2);
    let csv = env.run(&["vet", "--format", "csv"]).out;
    assert!(
        csv.starts_with("level,code,file,line,column,message,label,help\r\nerror,scope-for-nobody,rules/r.toml,2,"),
        "{csv}"
    );
}

#[test]
fn every_code_is_in_the_manual() {
    let manual = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/rules.md");
    let manual = fs::read_to_string(manual).expect("a file");
    for (code, about) in fencepost_core::CODES {
        assert!(manual.contains(&format!("`{code}`")), "{code}: {about}");
    }
}

#[test]
fn nothing_is_kept_from_judging_by_a_broken_example() {
    let env = workspace(LOCK);
    env.write("examples/e.toml", "[[example]]\nrule = \"lock\nexpect = \"pass\"\n");
    env.write("controls.toml", "[[control]]\nclaus = \"Order 12\"\n");
    env.ok(&["assess", "--as-of", "2027-03-10T07:00:00Z"]);
    let (places, _) = vetted(&env, &["--fail-on", "error"]);
    assert_eq!(places[..2], ["incomplete controls.toml:1", "unknown-key controls.toml:2"]);
    assert!(places[2..].iter().any(|place| place == "toml examples/e.toml:2"), "{places:?}");
    assert_eq!(env.run(&["vet"]).code, 1);
}

#[test]
fn what_is_told_can_be_of_some_files_alone() {
    let env = workspace(&LOCK.replace("<= 5", "<= 3"));
    env.write("controls.toml", "[[control]]\nclause = \"Order 12\"\n");
    assert_eq!(vetted(&env, &["rules"]).0, ["nobody-passes rules/r.toml:4"]);
    assert_eq!(vetted(&env, &["controls.toml", "facts.toml"]).0, ["clause-without-rule controls.toml:2"]);
    assert_eq!(vetted(&env, &["."]).0.len(), 2);
    env.fails(&["vet", "state.jsonl"], 2, &["state.jsonl is no file of this workspace"]);
}

#[test]
fn what_fails_is_what_was_asked_to() {
    let env = workspace(&LOCK.replace("<= 5", "<= 3"));
    for (level, code) in [("error", 0), ("warning", 1), ("note", 1)] {
        assert_eq!(env.run(&["vet", "--fail-on", level]).code, code, "{level}");
    }
    env.write("rules/r.toml", LOCK);
    for (level, code) in [("warning", 0), ("note", 1)] {
        assert_eq!(env.run(&["vet", "--fail-on", level]).code, code, "{level}");
    }
}

#[test]
fn without_a_fleet_only_the_files_are_looked_at_and_nothing_is_made() {
    let env = Env::new();
    env.write("rules/r.toml", format!("{LOCK}\n{}", LOCK.replace("\"lock\"", "\"again\"")));
    let (places, _) = vetted(&env, &[]);
    assert_eq!(places, ["overtaken rules/r.toml:9", "no-consequence -:null"]);
    assert!(env.ok(&["vet"]).contains("tried on no device, as none was imported"));
    assert!(!env.path(".fencepost").exists());
}

#[test]
fn sarif_is_what_the_standard_asks_for() {
    let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/sarif-schema-2.1.0.json");
    let mut schema: Json = serde_json::from_str(&fs::read_to_string(schema).expect("a file")).expect("JSON");
    // This pattern of a language, which is not told, is one that not every engine reads.
    schema["definitions"]["run"]["properties"]["language"].as_object_mut().expect("an object").remove("pattern");
    schema["definitions"]["toolComponent"]["properties"]["language"]
        .as_object_mut()
        .expect("an object")
        .remove("pattern");
    let schema = jsonschema::options().should_validate_formats(true).build(&schema).expect("a schema");
    let check = |env: &Env| {
        let log: Json = serde_json::from_str(&env.run(&["vet", "--format", "sarif"]).out).expect("JSON");
        assert!(schema.is_valid(&log), "{:?}\n{log:#}", schema.iter_errors(&log).next().map(|error| error.to_string()));
        log["runs"][0]["results"].as_array().expect("a list").clone()
    };
    let env = workspace(&LOCK.replace("<= 5", "<= 3"));
    env.write("examples/e.toml", "[[example]]\nrule = \"lock\"\nfacts = { lock.minutes = 9 }\nexpect = \"pass\"\n");
    let results = check(&env);
    assert_eq!(results.len(), 2);
    let text = results[0]["message"]["text"].as_str().expect("a text");
    assert!(text.contains("says fail, not pass") && text.contains("lock.minutes is 9"), "{text}");
    env.write("baselines/a.toml", "id = \"a\"\ncovers = 'platform = \"linux\"'\n[expect]\n\"lock.minutes\" = 5\n");
    env.write("baselines/b.toml", "id = \"b\"\ncovers = 'role = \"kiosk\"'\n[expect]\n\"lock.minutes\" = 3\n");
    assert!(check(&env).iter().any(|result| result["relatedLocations"][0]["message"]["text"].is_string()));
    env.write("access.toml", "");
    env.write("rules/r.toml", "[[rule]]\nid = 3\n");
    assert!(check(&env).iter().any(|result| result["level"] == "error"));
    let empty = Env::new();
    assert_eq!(check(&empty).len(), 0);
}

#[test]
fn earlier_ids_whose_findings_nobody_carries_on_are_told() {
    let env = Env::new();
    env.rules(&[("lock", "1d", "locked"), ("seal", "1d", "sealed")]);
    let facts = json!({ "device": "a", "collected_at": "2027-03-01T05:00:00Z", "locked": false, "sealed": false });
    env.morning("2027-03-01T06:00:00Z", &[facts]);
    env.write(
        "rules/test.toml",
        "[[rule]]\nid = \"bolt\"\nwas = [\"lock\"]\ngroups = [\"every-device\"]\nfix = \"Mend.\"\n\
         checks = { door = 'locked' }\n\n\
         [[rule]]\nid = \"wax\"\nwas = [\"seal\"]\ngroups = [\"every-device\"]\nrequire = 'sealed'\nfix = \"Mend.\"\n\n\
         [[rule]]\nid = \"clay\"\nwas = [\"seal\"]\ngroups = [\"every-device\"]\nrequire = 'sealed = true'\nfix = \"Mend.\"\n",
    );
    let told = env.ok(&["vet"]);
    assert!(told.contains("[was-of-another-kind]") && told.contains("its findings go to none of `bolt`"), "{told}");
    assert!(told.contains("[was-twice]") && told.contains("`seal` is named as the earlier id of two rules"), "{told}");
}
