//! Waivers: what they cover, what stands while they hold, and what comes when they end.

use fencepost_core::{CauseKind, ClockAfterwards, Standing};
use fencepost_engine::{
    AccessQuery, DeniedEntries, EngineError, Kind, LinePhase, ListQuery, WaiverEdit, WaiverRequest, plan_end_of_waiver,
    plan_waiver,
};
use proptest::prelude::*;
use serde_json::json;

use crate::bench::{Bench, agent, all, day, lines, moment};

fn waiver(rules: &str, from: u8, until: u8, clock: &str) -> String {
    format!(
        "[[waiver]]\nid = \"w\"\ndevices = \"a\"\nrules = \"{rules}\"\nbecause = \"it has to be\"\napproved_by = \"lead\"\n\
         from = 2027-03-{from:02}\nuntil = 2027-03-{until:02}\nclock = \"{clock}\"\n"
    )
}

fn stands(bench: &Bench, at: &str) -> (Option<Standing>, bool) {
    let report = bench.read(at, |reading| reading.device("a").unwrap());
    (report.standing, report.by_waiver)
}

#[test]
fn what_is_waived_counts_as_met_and_stands_beside_the_numbers() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4"), ("b", true, "5")]);
    assert_eq!(stands(&bench, &day(1)), (Some(Standing::NonCompliant), false));
    bench.edit("waivers.toml", &waiver("patched", 2, 4, "keep"));
    let assessed = bench.morning(&day(2), &[("a", true, "4"), ("b", true, "5")]);
    assert_eq!((assessed.devices.compliant, assessed.devices.waived), (2, 1));
    let patched = assessed.rules.iter().find(|count| count.rule == "patched").unwrap();
    assert_eq!((patched.fail, patched.waived), (1, 1));
    assert_eq!(stands(&bench, &day(2)), (Some(Standing::Compliant), true));
    let columns = ["rule", "phase", "waiver"].map(str::to_owned);
    let (_, rows) = bench.list(&day(2), ListQuery { columns: &columns, ..all(Kind::Findings) });
    assert_eq!(rows, [[json!("patched"), json!("waived"), json!("w")]]);
    let posts = bench.read(&day(2), |reading| reading.fence(None).unwrap().remove(0).posts);
    assert_eq!(posts.iter().map(|post| post.by_waiver).collect::<Vec<_>>(), [true, false]);
    // The clock ends it, without an assessment.
    let end = "2027-03-05T00:00:00Z";
    assert_eq!(stands(&bench, "2027-03-04T23:59:59Z"), (Some(Standing::Compliant), true));
    assert_eq!(stands(&bench, end), (Some(Standing::NonCompliant), false));
    let devices = bench.read(end, |reading| reading.fence(None).unwrap().remove(0).posts);
    assert_eq!(devices[0].standing, Standing::NonCompliant);
    let told: Vec<String> = bench.read("2027-03-05T05:00:00Z", |reading| {
        reading
            .history("a")
            .unwrap()
            .happenings
            .iter()
            .rev()
            .take(2)
            .map(|one| format!("{} {}", one.at, one.what.as_str()))
            .collect()
    });
    assert_eq!(told, ["2027-03-05T00:00:00Z due", "2027-03-05T00:00:00Z waiver-ended"]);
    // The next assessment says the same.
    let assessed = bench.morning(&day(5), &[("a", true, "4"), ("b", true, "5")]);
    assert_eq!(lines(&assessed.overdue), [("a".into(), "patched".into(), LinePhase::Overdue)]);
    assert_eq!(stands(&bench, &day(5)), (Some(Standing::NonCompliant), false));
}

#[test]
fn the_end_of_a_waiver_is_announced_like_any_loss() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4")]);
    bench.edit("waivers.toml", &waiver("patched", 2, 4, "keep"));
    bench.morning(&day(2), &[("a", true, "4")]);
    let report = bench.read(&day(2), |reading| reading.access(&AccessQuery::default()).unwrap());
    assert_eq!(report.restored.len(), 1);
    let losing: Vec<_> = report.losing.iter().filter(|entry| !entry.only_if_silent).collect();
    let [entry] = losing.as_slice() else { panic!("{losing:?}") };
    assert_eq!(entry.moment, moment("2027-03-05T00:00:00Z"));
    let cause = &entry.causes[0].cause;
    assert_eq!((cause.kind, cause.rule.as_deref()), (CauseKind::WaiverEnded, Some("patched")));
    // What is announced is what comes.
    let now = "2027-03-05T00:00:00Z";
    // Compared with the assessment that permitted it, and with the one before that, which denied it as well.
    for since in [Some(moment(&day(2))), None] {
        let query = AccessQuery { since, ..AccessQuery::default() };
        let later = bench.read(now, |reading| reading.access(&query).unwrap());
        let [lost] = later.lost.as_slice() else { panic!("{since:?}: {:?}", later.lost) };
        assert_eq!((lost.moment, lost.causes[0].cause.kind), (moment(now), CauseKind::WaiverEnded));
    }
}

#[test]
fn what_is_unknown_and_waived_feeds_no_silence_and_does_so_when_the_waiver_ends() {
    let mut bench = Bench::new();
    let line =
        |at: &str| json!({ "device": "a", "collected_at": at, "disk": {}, "os": { "version": "5" } }).to_string();
    bench.edit("waivers.toml", &waiver("encrypted", 1, 4, "keep"));
    for number in [1, 2, 5] {
        bench.import("agent", &line(&day(number)), &day(number)).unwrap();
        let assessed = bench.assess(&day(number));
        let expected = if number < 5 { (1, 1, 0) } else { (0, 0, 1) };
        let devices = assessed.devices;
        assert_eq!((devices.compliant, devices.waived, devices.on_notice), expected, "on day {number}");
        let columns = ["waived".to_owned()];
        let (_, rows) = bench.list(&day(number), ListQuery { columns: &columns, ..all(Kind::Devices) });
        assert_eq!(rows, [[json!(expected.1)]], "on day {number}");
    }
    let report = bench.read(&day(5), |reading| reading.device("a").unwrap());
    assert_eq!(report.findings[0].subject.as_str(), "silence");
}

#[test]
fn a_failure_is_not_taken_for_waived_where_something_else_of_its_rule_is() {
    let mut bench = Bench::new();
    bench.edit("waivers.toml", &waiver("encrypted", 1, 4, "keep"));
    let at = day(1);
    let silent = json!({ "device": "a", "collected_at": at, "os": { "version": "5" } });
    bench.import("agent", &[format!("{silent}\n"), agent("b", &at, false, "5")].concat(), &at).unwrap();
    let assessed = bench.assess(&at);
    let count = assessed.rules.iter().find(|count| count.rule == "encrypted").unwrap();
    assert_eq!((count.fail, count.unknown, count.waived, count.unwaived_fail()), (1, 1, 1, 1));
}

fn plan(bench: &Bench, names: &[&str], at: &str) -> Result<WaiverEdit, EngineError> {
    let request = WaiverRequest {
        names: names.iter().map(|name| (*name).to_owned()).collect(),
        id: None,
        from: None,
        until: jiff::civil::date(2027, 3, 9),
        because: "it has to be".into(),
        approved_by: "lead".into(),
        clock: ClockAfterwards::Afresh,
    };
    plan_waiver(&bench.project(), &bench.ledger, &Bench::moment(at), &request)
}

#[test]
fn a_waiver_is_planned_with_what_it_covers_and_gives_back() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4"), ("b", true, "4")]);
    let edit = plan(&bench, &["a", "every-device", "patched", "silence"], &day(1)).unwrap();
    assert_eq!((edit.id.as_str(), edit.coverage.devices, edit.coverage.count), ("patched-a", 2, 2));
    assert!(edit.text.contains("from = 2027-03-01\nuntil = 2027-03-09\nclock = \"afresh\"\n"), "{}", edit.text);
    let preview = edit.preview.as_ref().unwrap();
    let better: Vec<_> = preview.standings.iter().map(|flip| (flip.device.as_str(), flip.after)).collect();
    assert_eq!(better, [("a", Some(Standing::OnNotice)), ("b", Some(Standing::Compliant))]);
    assert_eq!(preview.access.people.len(), 2);
    edit.write().unwrap();
    assert_eq!(std::fs::read_to_string(bench.folder.path().join("waivers.toml")).unwrap(), edit.text);
    // Somebody else was quicker.
    assert!(edit.write().unwrap_err().to_string().contains("edited in the meantime"));
    bench.edit("waivers.toml", &edit.text);
    bench.morning(&day(2), &[("a", true, "4"), ("b", true, "4")]);
    let end = |id: &str, at: u8| {
        plan_end_of_waiver(&bench.project(), &bench.ledger, &Bench::moment(&day(at)), id, "it is mended")
    };
    let ended = end("patched-a", 3).unwrap();
    assert!(ended.text.contains("ended = 2027-03-03T06:00:00Z\nended_because = \"it is mended\"\n"), "{}", ended.text);
    // The grace is none, so afresh is at once.
    assert_eq!(ended.preview.unwrap().standings.len(), 2);
    assert!(end("patched-b", 3).unwrap_err().to_string().contains("there is no waiver"));
    assert!(end("patched-a", 12).unwrap_err().to_string().contains("ended on 2027-03-10"));
}

#[test]
fn names_that_mean_nothing_or_not_enough_are_refused() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "4")]);
    let refused = |names: &[&str]| plan(&bench, names, &day(1)).unwrap_err().to_string();
    assert!(refused(&["a", "pached"]).contains("no device, group or rule is called `pached`"));
    assert!(refused(&["patched"]).contains("no device and no group is named"));
    assert!(refused(&["a"]).contains("no rule is named"));
}

#[test]
fn waivers_are_listed_with_what_they_cover() {
    let mut bench = Bench::new();
    bench.edit("waivers.toml", &waiver("patched", 1, 4, "keep"));
    bench.morning(&day(1), &[("a", true, "4")]);
    let columns = ["waiver", "state", "devices", "rules", "covers", "until"].map(str::to_owned);
    let row = |at: u8| bench.list(&day(at), ListQuery { columns: &columns, ..all(Kind::Waivers) }).1.remove(0);
    let end = json!("2027-03-05T00:00:00Z");
    assert_eq!(row(1), [json!("w"), json!("running"), json!(["a"]), json!(["patched"]), json!(1), end]);
    assert_eq!(row(6)[1], json!("over"));
}

/// A workspace with random waivers, assessed on the second day: `a` fails both rules, `b` one, and `c` says nothing of one.
fn with_waivers(waivers: &str) -> Bench {
    let mut bench = Bench::new();
    bench.edit("waivers.toml", waivers);
    for number in [1, 2] {
        let at = day(number);
        let silent = json!({ "device": "c", "collected_at": at, "os": { "version": "5" }, "person": "p-c" });
        let said = [agent("a", &at, false, "4"), agent("b", &at, true, "4"), format!("{silent}\n")].concat();
        bench.import("agent", &said, &at).unwrap();
        bench.assess(&at);
    }
    bench
}

/// What is denied now: device, service and sign-in.
fn denied(bench: &Bench, at: &str) -> Vec<String> {
    let query = AccessQuery { denied: DeniedEntries::All, ..AccessQuery::default() };
    let report = bench.read(at, |reading| reading.access(&query).unwrap());
    let mut denied: Vec<String> =
        report.denied.iter().map(|entry| format!("{} {} {}", entry.device, entry.service, entry.client)).collect();
    denied.sort();
    denied
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    /// What is told as of a later moment is what an assessment at that moment says, if nothing comes in until then.
    #[test]
    fn what_is_foretold_under_waivers_is_what_the_assessment_then_says(
        waivers in prop::collection::vec(
            (
                prop::sample::select(vec!["a", "b", "c"]),
                prop::sample::select(vec!["encrypted", "patched", "silence", "uncovered"]),
                1_u8..9,
                0_u8..5,
                prop::sample::select(vec!["keep", "afresh"]),
            ),
            0..5,
        ),
        hours in 1_i64..250,
    ) {
        let text: String = waivers
            .iter()
            .enumerate()
            .map(|(number, (device, rules, from, length, clock))| {
                waiver(rules, *from, from + length, clock)
                    .replace("id = \"w\"", &format!("id = \"w{number}\""))
                    .replace("devices = \"a\"", &format!("devices = \"{device}\""))
            })
            .collect();
        let foretold = with_waivers(&text);
        let later = (moment(&day(2)) + jiff::SignedDuration::from_hours(hours)).to_string();
        let expected = denied(&foretold, &later);
        let mut assessed = with_waivers(&text);
        assessed.assess(&later);
        prop_assert_eq!(denied(&assessed, &later), expected, "at {} with\n{}", later, text);
    }
}
