//! Waivers: written by hand or by `waive`, and told of where they are wrong or idle.

use crate::env::Env;

/// A workspace with a device that fails a rule, assessed.
fn failing() -> Env {
    let env = Env::new();
    env.rules(&[("encrypted", "2d", "disk.encrypted"), ("locked", "0", "lock <= 10")]);
    env.write(
        "access.toml",
        "[[service]]\nid = \"mail\"\ntitle = \"Mail\"\ndefault = \"deny\"\nusual = [{ client = \"app\" }]\n\n\
         [[access]]\nid = \"good\"\nservices = [\"mail\"]\nneeds = 'standing = \"compliant\"'\ntell = \"Mend it.\"\n",
    );
    env.write(
        "state.jsonl",
        r#"{"device":"d-1","collected_at":"2027-03-01T05:00:00Z","person":"ada","disk":{"encrypted":true},"lock":30}"#,
    );
    env.ok(&["import", "state.jsonl", "--as-of", "2027-03-01T06:00:00Z"]);
    env.ok(&["assess", "--as-of", "2027-03-01T06:00:00Z"]);
    env
}

const WHY: [&str; 6] = ["--until", "2027-03-09", "--because", "it\u{1b}[2J is old", "--approved-by", "the lead"];

fn waive(env: &Env, args: &[&str]) -> crate::env::Ran {
    env.run(&[&["waive"], args, &WHY].concat())
}

#[test]
fn a_waiver_is_shown_before_it_is_written_and_counts_from_the_next_assessment_on() {
    let env = failing();
    let kept = "# Ours.\n\n[[waiver]]  # the first\nid = 'old'\ndevices = ['d-1']\nrules = ['encrypted']\nbecause = 'x'\n\
                approved_by = 'y'\nfrom = 2027-02-01\nuntil = 2027-02-02\n";
    env.write("waivers.toml", kept);
    let dry = waive(&env, &["d-1", "locked", "--dry-run"]);
    assert_eq!((dry.code, dry.err.contains("Nothing of this was written")), (0, true), "{}", dry.err);
    assert!(dry.out.contains("d-1  locked  fails, overdue since") && dry.out.contains("restored"), "{}", dry.out);
    assert!(!dry.out.contains('\u{1b}'), "what somebody types cannot drive the terminal");
    assert_eq!(std::fs::read_to_string(env.path("waivers.toml")).unwrap(), kept);
    let written = waive(&env, &["d-1", "locked"]);
    assert!(written.err.contains("it counts from the next assessment on: fencepost assess"), "{}", written.err);
    assert_eq!(written.out, dry.out);
    let file = std::fs::read_to_string(env.path("waivers.toml")).unwrap();
    assert!(file.starts_with(kept.trim_end()) && file.contains("id = \"locked-d-1\"\n"), "{file}");
    assert!(env.ok(&["show", "d-1"]).contains("non-compliant"));
    env.ok(&["assess", "--as-of", "2027-03-01T07:00:00Z"]);
    let shown = env.ok(&["show", "d-1"]);
    assert!(shown.contains("compliant by waiver") && shown.contains("waived until"), "{shown}");
    assert!(env.ok(&["list", "devices"]).contains("╿ compliant"));
    let why = env.ok(&["why", "d-1"]);
    assert!(why.contains("fails, and is waived") && why.contains("by the lead: it"), "{why}");
    let listed = env.json(&["list", "waivers"]);
    let row = &listed["rows"][0];
    assert_eq!((&row["waiver"], &row["state"], &row["covers"]), (&"locked-d-1".into(), &"running".into(), &1.into()));
    // Its end is known ahead, and comes by itself.
    let access = env.json(&["access"]);
    assert_eq!(access["losing"][0]["at"], "2027-03-09T23:00:00Z");
    assert_eq!(access["losing"][0]["causes"][0]["cause"], "waiver-ended");
    let ended = env.run(&["waive", "end", "locked-d-1", "--because", "it is mended"]);
    assert!(ended.out.contains("1 person would lose a way to a service"), "{}", ended.out);
    env.ok(&["assess", "--as-of", "2027-03-02T07:00:00Z"]);
    let history = env.ok(&["history", "d-1"]);
    assert!(history.contains("locked waived no more (locked-d-1)"), "{history}");
    assert!(env.ok(&["show", "d-1"]).contains("non-compliant"));
    assert!(env.run(&["waive", "end", "locked-d-1", "--because", "again"]).err.contains("ended on 2027-03-01"));
}

#[test]
fn a_waiver_as_json_says_what_it_covers_and_what_would_change() {
    let env = failing();
    let told = waive(&env, &["d-1", "locked", "silence", "--dry-run", "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!((&told["schema"], &told["waiver"], &told["written"]), (&1.into(), &"locked-d-1".into(), &false.into()));
    assert_eq!(told["covered"][0]["rule"], "locked");
    assert_eq!(told["preview"]["people"][0]["change"], "restored");
}

#[test]
fn a_waiver_that_cannot_be_is_refused_with_place_and_remedy() {
    let env = failing();
    for (args, says) in [
        (&["d-2", "locked"][..], "no device, group or rule is called `d-2`"),
        (&["d-1", "lokced"], "did you mean `locked`?"),
        (&["d-1", "d-1"], "no rule is named"),
        (&["locked", "silence"], "no device and no group is named"),
        (&["d-1", "locked", "--from", "2027-03-10"], "ends before it begins"),
        (&["d-1", "locked", "--from=-000001-01-01"], "cannot be written into a file"),
    ] {
        let refused = waive(&env, args);
        assert_eq!((refused.code, refused.err.contains(says)), (2, true), "{args:?}: {}", refused.err);
    }
    let late = ["waive", "d-1", "locked", "--until", "2028-04-01", "--because", "x", "--approved-by", "y"];
    assert!(env.run(&late).err.contains("lasts longer than a year"));
    assert!(!env.path("waivers.toml").exists());
    // By hand.
    let head = "[[waiver]]\nid = \"w\"\nbecause = \"x\"\napproved_by = \"y\"\n";
    for (rest, says) in [
        ("devices = \"d-1\"\nrules = \"locked\"\nfrom = 2027-03-01\n", "until"),
        ("rules = \"locked\"\nfrom = 2027-03-01\nuntil = 2027-03-02\n", "no device"),
        ("devices = \"d-1\"\nrules = \"locked\"\nfrom = 2027-03-03\nuntil = 2027-03-02\n", "ends before it begins"),
        ("groups = \"nobody\"\nrules = \"locked\"\nfrom = 2027-03-01\nuntil = 2027-03-02\n", "unknown group `nobody`"),
        ("devices = \"d-1\"\nrules = \"locked\"\nfrom = 2027-03-01\nuntil = 2027-03-02\nclock = \"stop\"\n", "`clock`"),
    ] {
        env.write("waivers.toml", format!("{head}{rest}"));
        let refused = env.run(&["list", "waivers"]);
        assert_eq!((refused.code, refused.err.contains(says)), (2, true), "{rest}: {}", refused.err);
        assert!(refused.err.contains("waivers.toml:"), "{}", refused.err);
    }
}

#[test]
fn waivers_that_are_over_idle_or_about_nobody_are_told() {
    let env = failing();
    let waiver = |id: &str, device: &str, rule: &str, until: &str| {
        format!(
            "[[waiver]]\nid = \"{id}\"\ndevices = \"{device}\"\nrules = \"{rule}\"\nbecause = \"x\"\napproved_by = \"y\"\n\
             from = 2027-02-20\nuntil = {until}\n\n"
        )
    };
    env.write(
        "waivers.toml",
        waiver("over", "d-1", "locked", "2027-02-21")
            + &waiver("idle", "d-1", "encrypted", "2027-03-20")
            + &waiver("nobody", "d-9", "locked", "2027-03-20")
            + &waiver("typo", "d-1", "lokced", "2027-03-20"),
    );
    let told = env.ok(&["vet"]);
    for says in [
        "waiver `over` is over",
        "waiver `idle` covers nothing",
        "what it is for is met",
        "no device is called `d-9`",
        "it is for no device that is known",
        "no rule is called `lokced`",
        "did you mean `locked`?",
    ] {
        assert!(told.contains(says), "{says}\n{told}");
    }
    assert!(!told.contains("nothing reads waivers.toml"));
}
