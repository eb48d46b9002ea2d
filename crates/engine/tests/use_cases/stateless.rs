//! Verdicts without a ledger, and verdicts that were worked out elsewhere.

use std::path::Path;

use fencepost_engine::{
    AssessOptions, DeviceVerdicts, Project, SealedVerdicts, StateInput, Stateless, assess, assess_file,
};
use serde_json::{Value as Json, json};

use crate::bench::{Bench, agent, day, moment};

/// Assesses lines of the agent; returns what became of each device, and how many lines were refused.
fn verdicts_of(project: &Project, text: &str, at: &str, options: Stateless) -> (Vec<DeviceVerdicts>, Vec<u64>) {
    let (mut all, mut refused) = (Vec::new(), Vec::new());
    let of = StateInput { project, path: Path::new("-"), source: Some("agent"), at: moment(at), options };
    let each = |made: &mut Vec<DeviceVerdicts>, device: &DeviceVerdicts| made.push(device.clone());
    assess_file(of, text.as_bytes(), each, |made, lines| {
        all.extend(made);
        refused.extend(lines.into_iter().map(|line| line.line));
        Ok(())
    })
    .expect("it can be read");
    (all, refused)
}

#[test]
fn documents_are_assessed_without_a_ledger_and_bad_lines_are_told() {
    let bench = Bench::new();
    let text = agent("a", &day(1), false, "5") + "no document\n" + &agent("b", &day(1), true, "5");
    for workers in [1, 3] {
        let options = Stateless { workers: Some(workers), ..Stateless::default() };
        let (devices, refused) = verdicts_of(&bench.project(), &text, &day(1), options);
        assert_eq!(
            devices.iter().map(|one| (one.device.as_str(), one.verdicts.len())).collect::<Vec<_>>(),
            [("a", 1), ("b", 0)]
        );
        assert_eq!(refused, [2]);
    }
}

#[test]
fn the_proof_is_given_where_it_is_asked_for() {
    let bench = Bench::new();
    let options = Stateless { all: true, evidence: true, ..Stateless::default() };
    let (devices, _) = verdicts_of(&bench.project(), &agent("a", &day(1), false, "5"), &day(1), options);
    assert_eq!(devices[0].verdicts.len(), 2);
    assert!(devices[0].verdicts.iter().all(|one| one.evidence.is_some()));
}

/// Verdicts as another machine writes them.
fn sealed_lines(project: &Project, devices: &[DeviceVerdicts], at: &str) -> String {
    let line = |device: &DeviceVerdicts| {
        let sealed = device.sealed.as_ref().expect("it is sealed");
        let verdict = |one: &fencepost_engine::RuleJudgement| json!({ "rule": project.rules.rules()[one.rule].id.as_str(), "outcome": one.outcome.as_str() });
        let verdicts: Vec<Json> = device.verdicts.iter().map(verdict).collect();
        let until = sealed.until.map(|until| until.to_string());
        format!(
            "{}\n",
            json!({ "device": device.device, "as_of": at, "until": until, "seal": sealed.seal, "verdicts": verdicts })
        )
    };
    devices.iter().map(line).collect()
}

#[test]
fn sealed_verdicts_are_taken_over_and_forged_ones_are_worked_out_anew() {
    let mut bench = Bench::new();
    let text = agent("a", &day(1), false, "5") + &agent("b", &day(1), true, "5");
    // Importing makes the key of the workspace.
    bench.import("agent", &text, &day(1)).unwrap();
    let project = bench.project();
    let options = Stateless { all: true, sealed: true, ..Stateless::default() };
    let (devices, _) = verdicts_of(&project, &text, &day(1), options);
    let honest = sealed_lines(&project, &devices, &day(1));
    let forged = honest.replacen("\"fail\"", "\"pass\"", 1);
    assert_ne!(honest, forged);
    let mut taken = |text: &str, at: &str| {
        let (verdicts, refused) = SealedVerdicts::read(&project, text.as_bytes()).unwrap();
        assert!(refused.is_empty(), "{refused:?}");
        let options = AssessOptions { verdicts: Some(&verdicts), anew: true, ..AssessOptions::default() };
        let told = assess(&project, &mut bench.ledger, &Bench::moment(at), options, &mut |_, _| {}).unwrap();
        (told.taken, told.opened.len(), told.devices.compliant)
    };
    // The forged verdict of `a` is not believed.
    assert_eq!(taken(&forged, &day(1)), (Some((1, 2)), 1, 1));
    let later = day(1).replace("06:", "07:");
    assert_eq!(taken(&honest, &later), (Some((2, 2)), 0, 1));
}

#[test]
fn lines_without_a_seal_or_with_other_rules_are_refused() {
    let bench = Bench::new();
    let unsealed = "{\"device\":\"a\"}\nno json\n{\"device\":\"a\",\"as_of\":\"2027-03-01T06:00:00Z\",\"seal\":\"x\",\"verdicts\":[]}\n";
    let (_, refused) = SealedVerdicts::read(&bench.project(), unsealed.as_bytes()).unwrap();
    let reasons: Vec<(u64, &str)> = refused.iter().map(|line| (line.line, line.reason.as_str())).collect();
    assert_eq!(reasons.iter().map(|(line, _)| *line).collect::<Vec<_>>(), [1, 2, 3]);
    assert!(reasons[0].1.contains("no `seal`") && reasons[2].1.contains("not those of this workspace"), "{reasons:?}");
}
