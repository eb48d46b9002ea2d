//! What a change would do.

use fencepost_core::{Severity, Stage, Standing};
use fencepost_engine::{Kind, preview, vet};
use serde_json::json;

use crate::bench::{Bench, RULES, all, day, moment};

#[test]
fn a_preview_tells_what_the_edited_rules_then_do() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "6"), ("c", false, "6")]);
    let stricter = RULES.replace("version(\"5\")", "version(\"6\")");
    let candidate = bench.with("rules/test.toml", &stricter);
    let told = preview(&bench.project(), &candidate, &bench.ledger, &Bench::moment(&day(1))).unwrap();
    let flips: Vec<_> = told.standings.iter().map(|flip| (flip.device.as_str(), flip.before, flip.after)).collect();
    assert_eq!(flips, [("a", Some(Standing::Compliant), Some(Standing::NonCompliant))]);
    assert_eq!((told.opened, told.closed, told.same), (1, 0, false));
    bench.edit("rules/test.toml", &stricter);
    let after = bench.assess(&day(1));
    assert_eq!(after.opened.len(), told.opened);
    assert_eq!(bench.read(&day(1), |reading| reading.device("a").unwrap().standing), Some(Standing::NonCompliant));
    assert!(preview(&bench.project(), &bench.project(), &bench.ledger, &Bench::moment(&day(1))).unwrap().same);
}

#[test]
fn a_preview_says_which_definitions_differ_and_which_findings_are_due_otherwise() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    let candidate = bench.with("rules/test.toml", &RULES.replace("grace = \"1d\"", "grace = \"3d\""));
    let told = preview(&bench.project(), &candidate, &bench.ledger, &Bench::moment(&day(1))).unwrap();
    assert!(!told.changes_nothing());
    let [changed] = told.definitions.as_slice() else { panic!("{:?}", told.definitions) };
    assert_eq!(changed.change(), "edited");
    let [due] = told.access.due.as_slice() else { panic!("{:?}", told.access.due) };
    assert_eq!((due.device.as_str(), due.before, due.after), ("a", moment(&day(2)), moment(&day(4))));
}

#[test]
fn a_rule_on_trial_flips_no_standing() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    let third = "\n[[rule]]\nid = \"newest\"\ngroups = [\"every-device\"]\nrequire = 'os.version >= version(\"9\")'\n";
    let candidate = |stage: &str| bench.with("rules/test.toml", &format!("{RULES}{third}stage = \"{stage}\"\n"));
    let told = |stage| preview(&bench.project(), &candidate(stage), &bench.ledger, &Bench::moment(&day(1))).unwrap();
    let (trial, enforced) = (told("trial"), told("enforced"));
    assert_eq!((trial.standings.len(), trial.opened, trial.verdicts.len()), (0, 0, 1));
    assert_eq!((trial.verdicts[0].stage, trial.verdicts[0].after), (Some(Stage::Trial), Some("fail")));
    assert_eq!((enforced.standings.len(), enforced.opened), (1, 1));
}

#[test]
fn an_access_rule_in_a_preview_tells_who_would_be_shut_out() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "8")]);
    let access = crate::bench::ACCESS.replace("needs = '", "needs = 'os.version >= version(\"8\") and ");
    let candidate = bench.with("access.toml", &access);
    let told = preview(&bench.project(), &candidate, &bench.ledger, &Bench::moment(&day(1))).unwrap();
    let people: Vec<_> = told.access.people.iter().map(|flip| flip.person.as_str()).collect();
    assert_eq!(people, ["p-a"]);
    assert_eq!(told.standings.len(), 0);
}

#[test]
fn vet_says_first_what_no_device_has_and_points_at_the_place() {
    let mut bench = Bench::new();
    let devices: Vec<String> = (0..12).map(|n| format!("d{n}")).collect();
    let devices: Vec<(&str, bool, &str)> = devices.iter().map(|id| (id.as_str(), true, "5")).collect();
    bench.morning(&day(1), &devices);
    bench.edit("rules/test.toml", &RULES.replace("disk.encrypted", "disk.enciphered"));
    let vetted = vet(&bench.project(), Some(&bench.ledger), moment(&day(1))).unwrap();
    let first = &vetted.mistakes[0].told;
    assert_eq!(first.code, "unknown-fact", "{:?}", vetted.mistakes);
    assert!(first.label.contains("unknown on all 12 devices"), "{}", first.label);
    assert!(first.span.is_some());
    assert_eq!((vetted.rules, vetted.devices), (Some(2), Some(12)));
    assert_eq!(vetted.worst(), Some(Severity::Warning));
}

#[test]
fn vet_of_a_clean_workspace_has_no_warnings() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    let vetted = vet(&bench.project(), Some(&bench.ledger), moment(&day(1))).unwrap();
    assert_eq!(vetted.counts()[..2], [0, 0], "{:?}", vetted.mistakes);
    assert_eq!(bench.list(&day(1), all(Kind::Groups)).1[0][0], json!("every-device"));
}
