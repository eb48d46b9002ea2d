//! Findings from opening to closing.

use fencepost_core::{FindingEvent, Standing, Subject};
use fencepost_engine::{Happened, LinePhase};

use crate::bench::{Bench, RULES, day, lines, moment};

#[test]
fn findings_open_fall_due_close_and_relapse_with_their_old_clock() {
    let mut bench = Bench::new();
    let first = bench.morning(&day(1), &[("a", false, "5"), ("b", true, "4")]);
    let opened = [("a", "encrypted", LinePhase::Open), ("b", "patched", LinePhase::Overdue)];
    let opened = opened.map(|(device, rule, phase)| (device.to_owned(), rule.to_owned(), phase));
    assert_eq!(lines(&first.opened), opened);
    let second = bench.morning(&day(2), &[("a", false, "5"), ("b", true, "5")]);
    assert_eq!(lines(&second.overdue), [("a".into(), "encrypted".into(), LinePhase::Overdue)]);
    assert_eq!(lines(&second.closed), [("b".into(), "patched".into(), LinePhase::Closed)]);
    let third = bench.morning(&day(3), &[("a", true, "5"), ("b", true, "4")]);
    let relapsed = third.opened.first().unwrap().unwrap();
    assert_eq!((relapsed.how.as_deref(), relapsed.opened), (Some("relapsed"), moment(&day(1))));
    let told = bench.read(&day(3), |reading| reading.history("a").unwrap().happenings);
    let findings: Vec<String> = told
        .iter()
        .filter_map(|happening| match &happening.what {
            Happened::Finding(change) => {
                let how = match &change.event {
                    FindingEvent::Closed(reason) => format!(" {}", reason.as_str()),
                    _ => String::new(),
                };
                Some(format!("{} {} {}{how}", happening.at, change.event.as_str(), change.subject.as_str()))
            }
            _ => None,
        })
        .collect();
    let at = |number| moment(&day(number));
    let expected = [
        format!("{} opened encrypted", at(1)),
        format!("{} fell-due encrypted", at(2)),
        format!("{} closed encrypted fixed", at(3)),
    ];
    assert_eq!(findings, expected);
}

#[test]
fn an_assessment_stands_where_nothing_is_new_and_never_goes_back() {
    let mut bench = Bench::new();
    let first = bench.morning(&day(2), &[("a", true, "5")]);
    let again = bench.assess(&day(2));
    assert!(again.existing && again.number == first.number);
    let refused = bench.try_assess(&day(1)).unwrap_err().to_string();
    assert!(refused.contains("never go back in time"), "{refused}");
    let empty = Bench::new().try_assess(&day(1)).unwrap_err().to_string();
    assert_eq!(empty, "there is no device to assess");
}

#[test]
fn a_rule_without_an_answer_is_silence_and_leaves_the_standing_unproven() {
    let mut bench = Bench::new();
    let silent = "{\"device\":\"a\",\"collected_at\":\"2027-03-01T06:00:00Z\",\"disk\":{\"encrypted\":true}}\n";
    bench.import("agent", silent, &day(1)).unwrap();
    let told = bench.assess(&day(1));
    let opened = told.opened.first().unwrap().unwrap();
    assert_eq!((opened.rule.as_str(), opened.due), (Subject::SILENCE, moment(&day(3))));
    let report = bench.read(&day(1), |reading| reading.device("a").unwrap());
    assert_eq!(report.standing, Some(Standing::OnNotice));
}

#[test]
fn silence_is_a_finding_that_closes_when_the_device_speaks_again() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "5")]);
    // Fresh for three days: by the fifth, nothing of it is known any more.
    let silent = bench.morning(&day(5), &[("b", true, "5")]);
    assert_eq!(lines(&silent.opened), [("a".into(), Subject::SILENCE.into(), LinePhase::Open)]);
    let overdue = bench.morning(&day(8), &[("b", true, "5")]);
    assert_eq!(lines(&overdue.overdue), [("a".into(), Subject::SILENCE.into(), LinePhase::Overdue)]);
    let back = bench.morning(&day(9), &[("a", true, "5"), ("b", true, "5")]);
    assert_eq!(lines(&back.closed), [("a".into(), Subject::SILENCE.into(), LinePhase::Closed)]);
}

#[test]
fn an_edit_of_the_grace_moves_what_is_due_and_history_tells_it() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    bench.edit("rules/test.toml", &RULES.replace("grace = \"1d\"", "grace = \"4d\""));
    bench.assess(&day(1).replace("06:00", "09:00"));
    let report = bench.read(&day(2), |reading| reading.device("a").unwrap());
    assert_eq!(report.findings[0].clock.due, moment(&day(5)));
    let told = bench.read(&day(2), |reading| reading.history("a").unwrap().happenings);
    let moved = told.iter().any(|happening| match &happening.what {
        Happened::Finding(change) => change.event == FindingEvent::DueMoved { from: moment(&day(2)) },
        _ => false,
    });
    assert!(moved, "{told:?}");
}

#[test]
fn a_correction_closes_what_it_puts_right_and_says_so() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    bench.edit(
        "corrections.toml",
        "[[correction]]\ndevice = \"a\"\nfact = \"disk.encrypted\"\nvalue = true\nbecause = \"seen\"\nby = \"desk\"\n\
         until = 2027-04-01T00:00:00Z\n",
    );
    let told = bench.morning(&day(2), &[("a", false, "5")]);
    let closed = told.closed.first().unwrap().unwrap();
    assert_eq!((closed.rule.as_str(), closed.how.as_deref()), ("encrypted", Some("corrected")));
    let fact = bench.read(&day(2), |reading| {
        let report = reading.device("a").unwrap();
        report.facts.into_iter().find(|fact| fact.path == "disk.encrypted").expect("it has the fact")
    });
    let by = fact.corrected.expect("it is corrected");
    assert_eq!((fact.value.as_str(), by.by.as_str(), by.because.as_str()), ("true", "desk", "seen"));
    assert_eq!(by.until, moment("2027-04-01T00:00:00Z"));
}

#[test]
fn a_rule_that_is_taken_away_closes_its_findings() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4")]);
    let patched = RULES.find("[[rule]]\nid = \"patched\"").expect("the second rule");
    bench.edit("rules/test.toml", &RULES[..patched]);
    let told = bench.assess(&day(2));
    assert_eq!(lines(&told.closed), [("a".into(), "patched".into(), LinePhase::Closed)]);
    assert_ne!(told.closed.first().unwrap().unwrap().how.as_deref(), Some("fixed"));
}

#[test]
fn a_rule_under_another_name_goes_on_with_its_findings() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    bench.edit(
        "rules/test.toml",
        &RULES.replace("id = \"encrypted\"", "id = \"disk-encrypted\"\nwas = [\"encrypted\"]"),
    );
    let told = bench.assess(&day(2));
    assert_eq!((told.opened.len(), told.closed.len()), (0, 0));
    let report = bench.read(&day(2), |reading| reading.device("a").unwrap());
    let finding = &report.findings[0];
    assert_eq!((finding.subject.as_str(), finding.clock.opened), ("disk-encrypted", moment(&day(1))));
}

#[test]
fn rules_on_trial_open_nothing_and_count_beside_the_enforced() {
    let mut bench = Bench::new();
    bench.edit("rules/test.toml", &RULES.replace("id = \"encrypted\"", "id = \"encrypted\"\nstage = \"trial\""));
    let told = bench.morning(&day(1), &[("a", false, "5")]);
    assert_eq!(told.opened.len(), 0);
    let report = bench.read(&day(1), |reading| reading.device("a").unwrap());
    assert_eq!((report.standing, report.findings.len()), (Some(Standing::Compliant), 0));
    let counted = told.rules.iter().find(|count| count.rule == "encrypted").expect("it is counted");
    assert_eq!((counted.fail, counted.pass), (1, 0));
}
