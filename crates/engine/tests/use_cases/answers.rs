//! Answers about one device, one person, one baseline, and about expressions.

use fencepost_core::VerdictOutcome;
use fencepost_engine::{Against, group_costs, group_reach, try_expression};
use serde_json::json;

use crate::bench::{Bench, agent, day, listed, moment};

#[test]
fn a_device_is_told_with_its_facts_verdicts_and_what_it_costs() {
    let mut bench = Bench::new();
    bench.import("crew", "Id,Name,Unit,Lead\np-a,Ada,deck,\n", &day(1)).unwrap();
    bench.import("list", &listed(1, &["a"]), &day(1)).unwrap();
    bench.morning(&day(1), &[("a", true, "4")]);
    let report = bench.read(&day(1), |reading| reading.device("a").unwrap());
    let fact = |path: &str| report.facts.iter().find(|fact| fact.path == path).map(|fact| fact.value.clone());
    assert_eq!((fact("os.version").as_deref(), fact("site").as_deref()), (Some("4"), Some("x")));
    assert_eq!(report.holders[0].name.as_deref(), Some("Ada"));
    let outcomes: Vec<_> = report.verdicts.iter().map(|line| (line.rule.id.as_str(), line.outcome)).collect();
    assert_eq!(outcomes, [("encrypted", VerdictOutcome::Pass), ("patched", VerdictOutcome::Fail)]);
    assert_eq!(group_reach(&report.reach).len(), 1);
    let costs = report.costs_of(|rule| rule == "patched");
    assert_eq!(group_costs(&costs, moment(&day(1)))[0].services, [("Mail", vec!["app"])]);
    assert!(report.costs_of(|rule| rule == "encrypted").is_empty());
}

#[test]
fn what_came_in_since_the_assessment_is_shown_and_decides_nothing() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    bench.import("agent", &agent("a", &day(2), false, "5"), &day(2)).unwrap();
    bench.read(&day(2), |reading| {
        assert_eq!(reading.imported_since, 1);
        let report = reading.device("a").unwrap();
        let fact = report.facts.iter().find(|fact| fact.path == "disk.encrypted").expect("it has the fact");
        assert_eq!(fact.value, "false");
        assert_eq!(report.verdicts[0].outcome, VerdictOutcome::Pass);
    });
}

#[test]
fn the_source_that_is_trusted_more_wins_and_the_other_is_told() {
    let mut bench = Bench::new();
    let text = agent("a", &day(1), true, "5").replace("\"tags\"", "\"site\":\"pier\",\"tags\"");
    bench.import("agent", &text, &day(1)).unwrap();
    bench.import("list", &listed(1, &["a"]), &day(1)).unwrap();
    bench.assess(&day(1));
    let report = bench.read(&day(1), |reading| reading.device("a").unwrap());
    let site = report.facts.iter().find(|fact| fact.path == "site").expect("it has the fact");
    assert_eq!((site.value.as_str(), site.source.as_deref()), ("pier", Some("agent")));
    let losers: Vec<_> = site.losers.iter().map(|said| (said.source.as_str(), said.value.as_str())).collect();
    assert_eq!(losers, [("list", "x")]);
}

#[test]
fn a_person_is_told_with_every_device_that_they_hold() {
    let mut bench = Bench::new();
    bench.import("crew", "Id,Name,Unit,Lead\nada,Ada,deck,bo\nbo,Bo,deck,\n", &day(1)).unwrap();
    let text =
        agent("a", &day(1), true, "5").replace("p-a", "ada") + &agent("b", &day(1), false, "5").replace("p-b", "ada");
    bench.import("agent", &text, &day(1)).unwrap();
    bench.assess(&day(1));
    let ada = bench.read(&day(1), |reading| reading.person("ada").unwrap()).expect("she is listed");
    assert_eq!(ada.devices.iter().map(|held| held.device.as_str()).collect::<Vec<_>>(), ["a", "b"]);
    assert_eq!(ada.lead, Some(("bo".to_owned(), Some("Bo".to_owned()))));
    assert!(bench.read(&day(1), |reading| reading.person("nobody").unwrap()).is_none());
}

#[test]
fn a_baseline_is_told_with_what_each_device_makes_of_it() {
    let mut bench = Bench::new();
    bench.edit(
        "baselines/laptop.toml",
        "id = \"laptop\"\ngroups = [\"every-device\"]\n[expect]\n\"disk.encrypted\" = true\n\"os.version\" = { test = '>= version(\"6\")' }\n",
    );
    bench.morning(&day(1), &[("a", true, "5")]);
    let told = bench.read(&day(1), |reading| reading.expectations("a", Some("laptop")).unwrap());
    let outcomes: Vec<_> = told.iter().map(|one| (one.rule.as_str(), one.outcome)).collect();
    assert_eq!(
        outcomes,
        [("laptop/disk.encrypted", Some(VerdictOutcome::Pass)), ("laptop/os.version", Some(VerdictOutcome::Fail)),]
    );
    let refused = bench.project().baseline("laptp", moment(&day(1))).unwrap_err();
    assert_eq!(refused.help(), Some("did you mean `laptop`?"));
}

#[test]
fn an_expression_is_tried_against_nothing_a_document_and_a_device() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4")]);
    let project = bench.project();
    let at = moment(&day(1));
    let sum = try_expression(&project, "1 + 2", Against::Nothing, at).unwrap().unwrap();
    assert_eq!(sum.value, json!(3));
    let document = Against::Document(br#"{"os":{"version":"5.1"}}"#);
    let tried = try_expression(&project, "os.version >= version(\"5\")", document, at).unwrap().unwrap();
    assert_eq!((tried.value, tried.outcome), (json!(true), Some("pass")));
    bench.read(&day(1), |reading| {
        let against = Against::Device(reading, "a");
        let tried = try_expression(&project, "os.version >= version(\"5\")", against, at).unwrap().unwrap();
        assert_eq!(tried.outcome, Some("fail"));
    });
    let mistakes = try_expression(&project, "os.version >=", Against::Nothing, at).unwrap().unwrap_err();
    assert_eq!(mistakes.len(), 1);
}
