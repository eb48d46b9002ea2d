//! Drafts: sources and facts from what is there, baselines from devices that are right.

use std::io::Write as _;
use std::path::Path;

use fencepost_engine::{DeriveOptions, DerivedAs, Difference, draft_source_of};

use crate::bench::{Bench, agent, day};

#[test]
fn a_source_is_drafted_from_a_table_with_its_delimiter_and_what_words_mean() {
    let mut bench = Bench::new();
    let text = "Serial;Last seen;Encrypted;Free GB\nS-1;2027-03-01T06:00:00Z;yes;12\nS-2;2027-03-01T07:00:00Z;no;8\n";
    let draft = draft_source_of(&bench.project(), None, Path::new("-"), text.as_bytes()).unwrap().text();
    for line in ["delimiter        = \";\"", "device", "Last seen", "true_when = [\"yes\"]", "unit = \"GB\""] {
        assert!(draft.contains(line), "{line} is missing in:\n{draft}");
    }
    // What is drafted can be read, with the unit that it asks for.
    bench.edit(
        "facts.toml",
        "[facts]\n\"os.version\" = { type = \"version\" }\n\"free\" = { type = \"number\", unit = \"B\" }\n",
    );
    let written = format!("{}\n{draft}", crate::bench::CONFIG);
    bench.with("fencepost.toml", &written);
}

#[test]
fn what_is_no_feed_is_refused_with_the_reason() {
    let bench = Bench::new();
    let refused = |text: &[u8]| draft_source_of(&bench.project(), None, Path::new("-"), text).unwrap_err().to_string();
    assert!(refused(b"").contains("empty"));
    assert!(refused(b"<html></html>").contains("XML"));
    assert!(refused(b"\xff\xfe\xff").contains("UTF-"), "{}", refused(b"\xff\xfe\xff"));
    let none = draft_source_of(&bench.project(), None, Path::new("no-such-file.csv"), std::io::empty()).unwrap_err();
    assert!(none.to_string().contains("no-such-file.csv"), "{none}");
}

#[test]
fn facts_are_drafted_with_the_types_that_their_values_show() {
    let mut bench = Bench::new();
    let more = r#""app":{"version":"1.2.3"},"checked_on":"2027-02-01","free_bytes":9,"tags""#;
    bench.import("agent", &agent("a", &day(1), true, "5").replace("\"tags\"", more), &day(1)).unwrap();
    bench.assess(&day(1));
    let drafts = bench.read(&day(1), |reading| reading.draft_facts().unwrap().drafts);
    let type_of = |path: &str| {
        let draft = drafts.iter().find(|fact| fact.path == path)?;
        Some((draft.ty.map(|ty| ty.as_str()), draft.unit))
    };
    assert_eq!(type_of("app.version"), Some((Some("version"), None)));
    assert_eq!(type_of("checked_on"), Some((Some("date"), None)));
    assert_eq!(type_of("free_bytes"), Some((Some("number"), Some("B"))));
    // What is declared already, and what needs no word, is not drafted.
    assert_eq!((type_of("os.version"), type_of("disk.encrypted")), (None, None));
}

fn options() -> DeriveOptions {
    DeriveOptions { id: "good".into(), only: Vec::new() }
}

#[test]
fn a_baseline_is_derived_from_what_devices_agree_on() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "6")]);
    let text = bench.read(&day(1), |reading| {
        let (patterns, _) = reading.examples(&["a".to_owned(), "b".to_owned()]).unwrap();
        match reading.derive(&patterns, &options()).unwrap() {
            DerivedAs::File(text) => text,
            DerivedAs::Differences(differences) => panic!("{differences:?}"),
        }
    });
    assert!(text.contains("\"disk.encrypted\""), "{text}");
    // Who holds a device is no configuration, and on versions they do not agree.
    assert!(!text.contains("p-a") && !text.contains("\n\"os.version\" = \"5\""), "{text}");
    bench.edit("baselines/good.toml", &text.replace("groups = []", "groups = [\"every-device\"]"));
    bench.project();
}

#[test]
fn of_a_baseline_that_is_there_the_differences_are_told() {
    let mut bench = Bench::new();
    bench.edit(
        "baselines/good.toml",
        "id = \"good\"\ngroups = [\"every-device\"]\n[expect]\n\"disk.encrypted\" = false\n",
    );
    bench.morning(&day(1), &[("a", true, "5")]);
    let differences = bench.read(&day(1), |reading| {
        let (patterns, _) = reading.examples(&["a".to_owned()]).unwrap();
        match reading.derive(&patterns, &options()).unwrap() {
            DerivedAs::Differences(differences) => differences,
            DerivedAs::File(text) => panic!("{text}"),
        }
    });
    let broken = differences.iter().find_map(|one| match one {
        Difference::Broken(rule, _, devices) => Some((rule.as_str(), devices.as_slice())),
        Difference::Agreed(_) => None,
    });
    assert_eq!(broken, Some(("good/disk.encrypted", &["a".to_owned()][..])));
}

#[test]
fn an_example_may_be_a_file_of_documents() {
    let bench = Bench::new();
    let path = bench.folder.path().join("example.json");
    let mut file = std::fs::File::create(&path).unwrap();
    file.write_all(br#"{"device":"x","collected_at":"2027-03-01T06:00:00Z","disk":{"encrypted":true}}"#).unwrap();
    drop(file);
    let named = [path.to_string_lossy().into_owned()];
    let patterns = bench.read(&day(1), |reading| reading.examples(&named).unwrap().0);
    assert_eq!(patterns.len(), 1);
    let unknown = bench.read(&day(1), |reading| reading.examples(&["nothing".to_owned()]).err());
    assert!(unknown.is_some());
}
