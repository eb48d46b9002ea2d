//! Wrong input of every kind: an error with place and remedy, and nothing lost.

use std::process::Stdio;

use crate::env::{Env, STEPPED};

const AT: &str = "2027-03-01T06:00:00Z";
const DOCUMENT: &str = "{\"device\":\"a\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"ok\":true}\n";

#[test]
fn every_mistake_of_a_workspace_is_told_at_once_with_its_place() {
    let env = Env::new();
    env.write(
        "rules/bad.toml",
        "[[rule]]\nid = \"a\"\ngroups = [\"every-devise\"]\nrequire = 'x == 1'\nseverty = \"high\"\n\n\
         [[rule]]\nid = \"b\"\nrequire = \"\"\"count(disks) \\\n  > \\\"3\\\" \"\"\"\ngrace = 3\n",
    );
    env.fails(
        &["assess"],
        2,
        &[
            "unknown group `every-devise`",
            "rules/bad.toml:3:11",
            "did you mean `every-device`?",
            "unknown operator `==`",
            "rules/bad.toml:4:14",
            "equality is written `=`",
            "unknown key `severty`",
            "rules/bad.toml:5:1",
            "did you mean `severity`?",
            "rule `b` covers no device",
            "rules/bad.toml:8:6",
            "a number cannot be compared with a text",
            "rules/bad.toml:9:14",
            "`grace` is not a length of time",
            "\"3d\" for days",
            "6 mistakes in the workspace; nothing was done",
        ],
    );
}

#[test]
fn a_broken_toml_file_is_told_without_what_follows_from_it() {
    let env = Env::new();
    env.write("groups.toml", "[[group]]\nid = \"a\nwhere = 'x'\n");
    env.write("rules/r.toml", "[[rule]]\nid = \"r\"\ngroups = [\"a\"]\nrequire = 'x'\n");
    let ran = env.run(&["assess"]);
    assert!(ran.code == 2 && ran.err.contains("groups.toml:2") && !ran.err.contains("unknown group"), "{}", ran.err);
    env.write("groups.toml", b"\xff\xfe");
    env.fails(&["assess"], 2, &["groups.toml", "is not UTF-8"]);
}

#[test]
fn every_workspace_file_is_checked() {
    for (file, text, says) in [
        ("fencepost.toml", "clock = \"fast\"\n", "`clock` cannot be `fast`"),
        ("fencepost.toml", "time_zone = \"Europe/Olso\"\n", "unknown time zone"),
        ("fencepost.toml", "[[source]]\nid = \"a\"\n[[source]]\nid = \"a\"\n", "two sources are called `a`"),
        ("fencepost.toml", "[[source]]\nid = \"a\"\ndevice = \"d\"\nperson = \"p\"\n", "about devices or about people"),
        (
            "fencepost.toml",
            "[[source]]\nid = \"a\"\n[source.fields]\nx = { fact = \"y\", unit = \"GB\" }\n",
            "declare its own unit first",
        ),
        ("fencepost.toml", "[silence]\ngrace = \"2 working\"\n", "`2 working` is not a length of time"),
        ("fencepost.toml", "working_days = [\"monday\"]\n", "write mon, tue, wed, thu, fri, sat or sun"),
        ("fencepost.toml", "working_days = []\n", "nobody ever works"),
        ("fencepost.toml", "holidays = [\"17 May\"]\n", "write holidays = [2027-05-17]"),
        ("fencepost.toml", "holidays_file = \"days.ics\"\n", "there is no file `days.ics`"),
        ("fencepost.toml", "[uncovered]\nstands = \"fine\"\n", "`stands` cannot be `fine`"),
        ("facts.toml", "[facts]\nos.version = { type = \"version\" }\n", "put the whole path in quotes"),
        ("facts.toml", "[facts]\n\"a\" = { type = \"verson\" }\n", "did you mean `version`?"),
        ("groups.toml", "[[group]]\nid = \"g\"\n", "can have no member"),
        ("groups.toml", "[[group]]\nid = \"Big\"\nmembers = [\"a\"]\n", "lower-case words with hyphens"),
        ("access.toml", "[[service]]\nid = \"s\"\nusual = [{ client = \"app\" }]\n", "has no `default`"),
        ("access.toml", "[[access]]\nid = \"a\"\nservices = [\"mial\"]\nneeds = 'true'\n", "unknown service `mial`"),
        (
            "corrections.toml",
            "[[correction]]\ndevice = \"a\"\nfact = \"x\"\nvalue = 1\n",
            "a correction needs because, by, until",
        ),
        ("rules/r.toml", "[rule]\nid = \"r\"\n", "double the brackets: [[rule]]"),
    ] {
        let env = Env::new();
        env.write(file, text);
        env.fails(&["assess"], 2, &[says, file]);
    }
}

#[test]
fn commands_outside_a_workspace_or_before_an_import_say_what_to_do() {
    let env = Env::new();
    std::fs::remove_file(env.path("fencepost.toml")).unwrap();
    env.fails(&["assess"], 2, &["there is no workspace", "fencepost init"]);
    env.write("fencepost.toml", STEPPED);
    env.fails(&["assess"], 2, &["there is no ledger", "fencepost import FILE"]);
    env.write("s.jsonl", DOCUMENT);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    env.fails(&["access"], 2, &["nothing has been assessed yet"]);
    let shown = env.run(&["show", "a"]);
    assert!(
        shown.code == 0 && shown.out.contains("not assessed yet") && shown.err.contains("fencepost assess"),
        "{}",
        shown.err
    );
    env.fails(&["why", "b"], 2, &["there is no device `b`"]);
    env.rules(&[("fine", "0", "ok")]);
    env.ok(&["assess"]);
    env.fails(&["why", "a", "fin"], 2, &["no rule `fin`", "did you mean `fine`?"]);
    env.fails(&["list", "devices", "--sort", "standin"], 2, &["did you mean `standing`?"]);
    env.fails(&["list", "findings", "--where", "phase == 1"], 2, &["equality is written `=`", "--where:1:7"]);
}

#[test]
fn a_ledger_in_use_is_waited_for_and_its_holder_named() {
    let env = Env::new();
    env.rules(&[("fine", "0", "ok")]);
    env.write("s.jsonl", DOCUMENT);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    let mut ledger = fencepost_store::Ledger::open(
        &env.path(".fencepost/ledger.sqlite"),
        fencepost_store::Purpose::Write,
        std::time::Duration::ZERO,
    )
    .unwrap();
    let writer = ledger.writer("test").unwrap();
    env.fails(&["assess", "--wait", "1s"], 4, &["is in use by process", "(fencepost test)", "--wait"]);
    // Reading does not wait for writers.
    env.ok(&["list", "devices"]);
    drop(writer);
    env.ok(&["assess"]);
}

#[test]
fn several_writers_all_succeed_in_turn() {
    let env = Env::new();
    let children: Vec<_> = (0..8)
        .map(|at| {
            let name = format!("s{at}.jsonl");
            env.write(&name, DOCUMENT.replace("\"a\"", &format!("\"d{at}\"")));
            env.command(&["import", &name, "--as-of", AT]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for child in children {
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }
    assert_eq!(env.json(&["list", "devices"])["rows"].as_array().unwrap().len(), 8);
}

#[test]
fn ledgers_that_cannot_be_used_are_left_alone() {
    let env = Env::new();
    env.write("s.jsonl", DOCUMENT);
    env.write(".fencepost", "a file where the folder should be");
    env.fails(&["import", "s.jsonl", "--as-of", AT], 4, &["could not make the ledger", "check that the folder"]);
    std::fs::remove_file(env.path(".fencepost")).unwrap();
    env.write(".fencepost/ledger.sqlite", "this is no database, whatever it is called, and it is long enough to tell");
    env.fails(
        &["import", "s.jsonl", "--as-of", AT],
        4,
        &["is not a ledger of this program", "put a copy of the ledger there"],
    );
    assert!(std::fs::read_to_string(env.path(".fencepost/ledger.sqlite")).unwrap().starts_with("this is no database"));
}

#[cfg(unix)]
#[test]
fn the_ledger_is_its_owners_alone() {
    use std::os::unix::fs::PermissionsExt;
    let env = Env::new();
    env.write("s.jsonl", DOCUMENT);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    let mode = |name: &str| std::fs::metadata(env.path(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(".fencepost"), mode(".fencepost/ledger.sqlite")), (0o700, 0o600));
}

#[test]
fn init_never_writes_over_anything() {
    let env = Env::new();
    env.fails(&["init"], 2, &["fencepost.toml is there already", "nothing was written"]);
    assert_eq!(std::fs::read_to_string(env.path("fencepost.toml")).unwrap(), STEPPED);
    env.ok(&["init", "fresh"]);
    env.write(
        "fresh/feeds/a.jsonl",
        "{\"device\":\"a\",\"collected_at\":\"2024-03-01T05:00:00Z\",\"platform\":\"macos\"}\n",
    );
    env.ok(&["--workspace", "fresh", "import", "fresh/feeds"]);
    let ran = env.run(&["--workspace", "fresh", "assess"]);
    assert!(ran.code == 0 && ran.out.contains("1 device"), "{}{}", ran.out, ran.err);
}
