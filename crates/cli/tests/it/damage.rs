//! A ledger that is empty, another program's, shortened or changed is refused by name, and left as it is.

use std::fs;

use crate::env::Env;

const AT: &str = "2027-03-01T06:00:00Z";
const LEDGER: &str = ".fencepost/ledger.sqlite";

fn assessed() -> Env {
    let env = Env::new();
    env.rules(&[("fine", "0", "ok"), ("other", "1d", "n > 5")]);
    let documents: String = (0..60)
        .map(|n| {
            format!(
                "{{\"device\":\"d{n}\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"ok\":{},\"n\":{n}}}\n",
                n % 3 == 0
            )
        })
        .collect();
    env.write("s.jsonl", documents);
    env.ok(&["import", "s.jsonl", "--as-of", AT]);
    env.ok(&["assess", "--as-of", AT]);
    env
}

const READING: [&[&str]; 9] = [
    &["list", "devices", "--format", "json"],
    &["list", "findings", "--format", "json"],
    &["show", "d1", "--format", "json"],
    &["why", "d1"],
    &["history", "d1", "--format", "json"],
    &["access", "--format", "json"],
    &["vet", "--format", "json"],
    &["preview", "--format", "json"],
    &["history", "--verify"],
];

#[test]
fn an_empty_or_foreign_ledger_is_refused_by_every_command_and_left_alone() {
    let env = assessed();
    let foreign = fs::read(env.path("s.jsonl")).unwrap();
    for (held, says) in [(Vec::new(), "is an empty file"), (foreign, "is not a ledger of this program")] {
        env.write(LEDGER, &held);
        for args in READING.into_iter().chain([&["assess", "--as-of", AT][..], &["import", "s.jsonl", "--as-of", AT]]) {
            env.fails(args, 4, &[says, "put a copy of the ledger there"]);
        }
        assert_eq!(fs::read(env.path(LEDGER)).unwrap(), held);
    }
}

#[test]
fn a_shortened_or_changed_ledger_never_gives_a_wrong_answer() {
    let env = assessed();
    let whole = fs::read(env.path(LEDGER)).unwrap();
    let expected: Vec<String> = READING.iter().map(|args| env.run(args).out).collect();
    env.write(LEDGER, &whole[..whole.len() - 8192]);
    for args in READING {
        env.fails(args, 4, &["is damaged", "8192 of its", "restore the folder"]);
    }
    // A bit in the middle of each page.
    for page in 0..whole.len() / 8192 {
        let mut changed = whole.clone();
        changed[page * 8192 + 5000] ^= 16;
        env.write(LEDGER, &changed);
        let at = page % READING.len();
        let ran = env.run(READING[at]);
        if ran.code == 4 {
            // The check of the whole ledger says so in what it prints.
            assert!((ran.err + &ran.out).contains("is damaged"), "page {page}, {:?}", READING[at]);
        } else {
            assert_eq!(ran.out, expected[at], "page {page}, {:?}", READING[at]);
        }
        env.fails(&["history", "--verify"], 4, &[]);
    }
    env.write(LEDGER, &whole);
    assert!(env.ok(&["history", "--verify"]).starts_with("The ledger is whole"));
}

#[test]
fn reading_changes_no_file_of_the_workspace() {
    let env = assessed();
    let files = || {
        let mut files: Vec<_> = fs::read_dir(env.path(".fencepost"))
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .map(|path| (path.clone(), fs::read(&path).unwrap()))
            .collect();
        files.sort();
        files
    };
    let before = files();
    for args in READING.into_iter().chain([&["import", "--dry-run", "s.jsonl"][..], &["list", "rejects"]]) {
        env.run(args);
        assert_eq!(files(), before, "{args:?}");
    }
}

#[cfg(unix)]
#[test]
fn files_that_others_can_read_are_told_of_and_closed_by_the_next_command_that_writes() {
    use std::os::unix::fs::PermissionsExt;
    let env = assessed();
    let mode = |name: &str| fs::metadata(env.path(name)).unwrap().permissions().mode() & 0o777;
    for (name, open) in [(".fencepost", 0o755), (LEDGER, 0o644), (".fencepost/key", 0o664)] {
        fs::set_permissions(env.path(name), fs::Permissions::from_mode(open)).unwrap();
    }
    let ran = env.run(&["list", "devices"]);
    assert!(ran.err.contains("others can read") && ran.err.contains(".fencepost/key"), "{}", ran.err);
    assert_eq!(mode(".fencepost/key"), 0o664);
    let ran = env.run(&["assess", "--as-of", AT]);
    assert!(ran.err.contains("others could read"), "{}", ran.err);
    assert_eq!((mode(".fencepost"), mode(LEDGER), mode(".fencepost/key")), (0o700, 0o600, 0o600));
}

#[cfg(unix)]
#[test]
fn a_full_output_and_a_limit_on_files_are_reported_as_what_they_are() {
    use std::process::{Command, Stdio};
    let env = assessed();
    let full = || Stdio::from(fs::OpenOptions::new().write(true).open("/dev/full").unwrap());
    for args in [
        &["list", "devices"][..],
        &["list", "devices", "--format", "json"],
        &["list", "devices", "--format", "csv"],
        &["assess", "--state", "s.jsonl", "--format", "jsonl"],
        &["assess", "--state", "s.jsonl", "--format", "json"],
        &["vet"],
        &["--help"],
        &["--version"],
        &["schema", "rules"],
        &["show", "d1"],
    ] {
        let ran = env.command(args).stdin(Stdio::null()).stdout(full()).stderr(Stdio::piped()).output().unwrap();
        let said = String::from_utf8_lossy(&ran.stderr);
        assert_eq!(ran.status.code(), Some(4), "{args:?} {said}");
        assert!(said.contains("could not write the output"), "{args:?} {said}");
    }
    let documents: String = (0..20_000)
        .map(|n| {
            format!("{{\"device\":\"e{n}\",\"collected_at\":\"2027-03-01T05:00:00Z\",\"x\":\"{:x}\"}}\n", n * 7919)
        })
        .collect();
    env.write("many.jsonl", documents);
    let binary = env!("CARGO_BIN_EXE_fencepost");
    let ran = Command::new("sh")
        .args(["-c", &format!("ulimit -f 400; exec '{binary}' import many.jsonl --as-of {AT}")])
        .current_dir(env.root())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&ran.stderr);
    assert_eq!(ran.status.code(), Some(4), "{said}");
    assert!(said.contains("limit on the size of files"), "{said}");
    assert_eq!(env.json(&["list", "devices"])["rows"].as_array().unwrap().len(), 60);
}

#[test]
fn a_clock_is_not_stepped_years_ahead_by_mistake() {
    let env = assessed();
    env.fails(&["assess", "--as-of", "9999-12-30T00:00:00Z"], 2, &["lies more than a year after", "--far-ahead"]);
    env.ok(&["assess", "--as-of", "2027-03-02T06:00:00Z"]);
    env.ok(&["assess", "--as-of", "2029-03-02T06:00:00Z", "--far-ahead"]);
}
