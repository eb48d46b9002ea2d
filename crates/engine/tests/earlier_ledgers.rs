//! Ledgers that earlier versions of the program wrote, one for each format: nothing that they hold is lost. All of them were
//! written from the same four mornings, [`MORNINGS`].

use std::cell::OnceCell;
use std::path::Path;
use std::time::Duration;

use fencepost_core::Finding;
use fencepost_engine::{
    AssessOptions, FiguresPer, FiguresQuery, ImportOptions, Importer, Moment, Project, Reading, assess,
};
use fencepost_formats::FileText;
use fencepost_store::{Ledger, Purpose};
use jiff::Timestamp;
use serde_json::json;

const CONFIG: &str = r#"
name = "Skerry Light"
time_zone = "Europe/Oslo"
clock = "stepped"

[silence]
grace = "1d"

[[source]]
id = "agents"
format = "jsonl"
"#;

const RULES: &str = r#"
[[rule]]
id = "encrypted"
groups = ["every-device"]
require = "disk.encrypted"
severity = "high"
grace = "3d"
fix = "Turn on the encryption of the disk."

[[rule]]
id = "patched"
groups = ["every-device"]
require = "patch >= 5"
severity = "low"
grace = "0"
fix = "Install the patches."
"#;

/// What a device says on a day: whether its disk is encrypted, where that is known, and its patch level.
type Said = (&'static str, Option<bool>, u8);

/// The days on which the fleet was collected and assessed.
const MORNINGS: [(u8, [Said; 4]); 4] = [
    (1, [("gull", Some(false), 5), ("skua", Some(true), 4), ("tern", Some(true), 5), ("auk", Some(false), 4)]),
    (2, [("gull", Some(true), 5), ("tern", None, 5), ("skua", Some(true), 5), ("auk", Some(false), 5)]),
    (3, [("gull", Some(false), 5), ("tern", None, 5), ("skua", Some(true), 5), ("auk", Some(false), 5)]),
    (5, [("gull", Some(false), 5), ("tern", Some(true), 5), ("skua", Some(true), 5), ("auk", Some(false), 5)]),
];

/// What came after, with the program of today.
const LATER: (u8, [Said; 4]) =
    (6, [("gull", Some(true), 5), ("tern", None, 4), ("skua", Some(true), 4), ("auk", Some(true), 5)]);

const DEVICES: [&str; 4] = ["auk", "gull", "skua", "tern"];

fn project(root: &Path) -> Project {
    let file = |path: &str, text: &str| FileText { path: path.to_owned(), text: text.to_owned() };
    let files = vec![file("fencepost.toml", CONFIG), file("rules/rules.toml", RULES)];
    Project::from_files(root, files).unwrap_or_else(|error| panic!("{error:?}"))
}

fn at(day: u8, hour: u8) -> Moment {
    let as_of = format!("2027-03-{day:02}T{hour:02}:00:00Z").parse().expect("a moment");
    Moment { as_of, wall: as_of, user: "tester".to_owned() }
}

fn morning(project: &Project, ledger: &mut Ledger, (day, said): (u8, [Said; 4])) {
    let line = |(device, encrypted, patch): Said| {
        let collected = at(day, 5).as_of.to_string();
        match encrypted {
            Some(encrypted) => {
                json!({ "device": device, "collected_at": collected, "disk": { "encrypted": encrypted }, "patch": patch })
            }
            None => json!({ "device": device, "collected_at": collected, "patch": patch }),
        }
    };
    let text: String = said.into_iter().map(|one| format!("{}\n", line(one))).collect();
    let options = ImportOptions { source: Some("agents".to_owned()), ..ImportOptions::default() };
    Importer { project, options: &options, moment: &at(day, 6) }
        .stream(ledger, text.as_bytes())
        .expect("it is imported");
    assess(project, ledger, &at(day, 7), AssessOptions::default(), &mut |_, _| {}).expect("it is assessed");
}

/// Everything that is told of the devices, and the findings as the next assessment starts from them.
fn told(project: &Project, ledger: &Ledger, now: Timestamp) -> String {
    let earlier = OnceCell::new();
    let reading = Reading::open(project, &earlier, ledger, now, false).expect("it can be read");
    let mut out = String::new();
    for device in DEVICES {
        let history = reading.history(device).expect("it is known");
        for happening in history.happenings {
            out.push_str(&format!("{device} {} {:?}\n", happening.at, happening.what));
        }
        let findings = reading.findings(Some(device), true).expect("they can be read").remove(device);
        for finding in findings.unwrap_or_default() {
            // How new the evidence is, the first formats kept in the finding, and the later ones beside the device. The fingerprint of
            // a rule was another one.
            out.push_str(&format!("{:?}\n", Finding { evidence_at: None, fingerprint: 0, ..finding }));
        }
    }
    for (device, found) in reading.standings().expect("they can be read") {
        out.push_str(&format!("{device} {} {}\n", found.standing.as_str(), found.covered));
    }
    // What an earlier version did not count is counted from what happened, or from the next assessment on.
    let every = FiguresQuery { most: 99, per: FiguresPer::Assessment };
    let history = reading.figures(every).expect("they can be read");
    for figures in &history.assessments {
        out.push_str(&format!("{} {:?} {:?}\n", figures.as_of, figures.devices, figures.findings));
    }
    out.push_str(&format!("{:?}\n", history.fix_times));
    if now == at(6, 7).as_of {
        let last = history.assessments.last().map(|last| (last.overdue, last.shut_out));
        out.push_str(&format!(
            "{last:?} {:?}\n",
            reading.group_history("every-device", every).expect("they can be read").last()
        ));
    }
    let verified = reading.verify().expect("it can be read");
    assert!(verified.problems.is_empty(), "{:?}", verified.problems);
    out
}

#[test]
fn what_earlier_formats_hold_is_told_as_if_it_were_written_today_and_goes_on() {
    let folder = tempfile::tempdir().expect("a folder");
    let project = project(folder.path());
    std::fs::create_dir_all(folder.path().join(".fencepost")).expect("a folder");
    let mut today = Ledger::in_memory().expect("a ledger");
    MORNINGS.into_iter().for_each(|one| morning(&project, &mut today, one));
    let before = told(&project, &today, at(5, 7).as_of);
    morning(&project, &mut today, LATER);
    let after = told(&project, &today, at(6, 7).as_of);
    let folder_of_ledgers = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/ledgers");
    for format in 1..=10 {
        let packed = std::fs::read(folder_of_ledgers.join(format!("format-{format}.zst"))).expect("a kept ledger");
        let path = folder.path().join(format!("format-{format}.sqlite"));
        std::fs::write(&path, zstd::decode_all(&packed[..]).expect("zstd")).expect("it is written");
        // A reader brings a private copy up to date, a writer the ledger itself.
        let read = Ledger::open(&path, Purpose::Read, Duration::ZERO).expect("it is opened");
        assert_eq!(told(&project, &read, at(5, 7).as_of), before, "format {format}, read");
        drop(read);
        let mut written = Ledger::open(&path, Purpose::Write, Duration::ZERO).expect("it is opened");
        assert_eq!(told(&project, &written, at(5, 7).as_of), before, "format {format}, brought up to date");
        morning(&project, &mut written, LATER);
        assert_eq!(told(&project, &written, at(6, 7).as_of), after, "format {format}, one morning later");
    }
}
