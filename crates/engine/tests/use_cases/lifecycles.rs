//! Devices that are retired, renamed, or begin anew.

use fencepost_engine::{Happened, Kind, ListQuery};
use serde_json::json;

use crate::bench::{Bench, agent, all, day, lines, moment};

#[test]
fn a_retired_device_closes_its_findings_and_a_new_life_begins_afresh() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5"), ("b", true, "5")]);
    bench.edit("devices.toml", "[[device]]\nid = \"a\"\nretired = 2027-03-02T00:00:00Z\nbecause = \"sold\"\n");
    let retired = bench.assess(&day(2));
    let closed = retired.closed.first().unwrap().unwrap();
    assert_eq!((closed.device.as_str(), closed.how.as_deref(), retired.devices.total), ("a", Some("retired"), 1));
    assert_eq!(
        bench.read(&day(2), |reading| reading.device("a").unwrap().retired.map(|(_, why)| why)),
        Some("sold".into())
    );
    let back = bench.morning(&day(3), &[("a", false, "5")]);
    let opened = back.opened.first().unwrap().unwrap();
    assert_eq!((opened.opened, opened.how, back.devices.total), (moment(&day(3)), None, 2));
}

#[test]
fn a_renamed_device_keeps_its_findings_and_answers_to_both_names() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5"), ("b", true, "5")]);
    bench.edit(
        "devices.toml",
        "[[device]]\nid = \"a\"\nrenamed_to = \"z\"\nfrom = 2027-03-02T00:00:00Z\nbecause = \"refit\"\n",
    );
    let renamed = bench.assess(&day(2));
    assert_eq!((lines(&renamed.opened), lines(&renamed.closed)), (Vec::new(), Vec::new()));
    for name in ["a", "z"] {
        let report = bench.read(&day(2), |reading| reading.device(name).unwrap());
        assert_eq!((report.device.as_str(), report.former_names), ("z", vec!["a".to_owned()]));
        assert_eq!(report.findings[0].clock.opened, moment(&day(1)));
    }
}

#[test]
fn a_rename_onto_a_living_device_is_refused_and_nothing_is_written() {
    let mut bench = Bench::new();
    for (number, id) in [(1, "a"), (2, "b"), (3, "a")] {
        bench.morning(&day(number), &[(id, true, "5")]);
    }
    bench.edit(
        "devices.toml",
        "[[device]]\nid = \"a\"\nrenamed_to = \"b\"\nfrom = 2027-03-02T00:00:00Z\nbecause = \"refit\"\n",
    );
    let refused = bench.try_assess(&day(4)).unwrap_err().to_string();
    assert!(refused.contains("`a` cannot be called `b`: both live"), "{refused}");
    bench.edit("devices.toml", "");
    assert_eq!(bench.assess(&day(4)).devices.total, 2);
}

#[test]
fn the_past_of_a_renamed_device_is_shown_as_it_was() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    bench.edit(
        "devices.toml",
        "[[device]]\nid = \"a\"\nrenamed_to = \"z\"\nfrom = 2027-03-02T00:00:00Z\nbecause = \"refit\"\n",
    );
    bench.morning(&day(2), &[("z", true, "5")]);
    let then = bench.read_past(&day(1), |reading| reading.list(all(Kind::Findings)).unwrap().unwrap());
    assert_eq!(then.rows.first().unwrap().unwrap()[0], json!("a"));
    let told = bench.read(&day(2), |reading| reading.history("z").unwrap().happenings);
    assert!(
        told.iter().any(|it| it.what == Happened::Renamed { from: "a".into(), because: "refit".into() }),
        "{told:?}"
    );
    // What still speaks under the old name is of the same device.
    bench.import("agent", &agent("a", &day(3), false, "5"), &day(3)).unwrap();
    assert_eq!(bench.assess(&day(3)).devices.total, 1);
}

#[test]
fn a_device_that_is_retired_later_stands_until_then() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "5")]);
    bench.edit("devices.toml", "[[device]]\nid = \"a\"\nretired = 2027-03-03T00:00:00Z\nbecause = \"sold\"\n");
    assert_eq!(bench.assess(&day(2)).devices.total, 2);
    assert_eq!(bench.assess(&day(3)).devices.total, 1);
    let columns = ["device".to_owned()];
    let devices = bench.list(&day(3), ListQuery { columns: &columns, ..all(Kind::Devices) }).1;
    assert_eq!(devices, [[json!("b")]]);
}

#[test]
fn the_findings_of_a_device_that_ended_are_not_those_of_its_next_life() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5"), ("b", true, "5")]);
    bench.edit("devices.toml", "[[device]]\nid = \"a\"\nretired = 2027-03-02T00:00:00Z\nbecause = \"sold\"\n");
    bench.assess(&day(2));
    let back = bench.morning(&day(4), &[("a", false, "5"), ("b", true, "5")]);
    assert_eq!(lines(&back.opened).len(), 1);
    let report = bench.read(&day(4), |reading| reading.device("a").unwrap());
    let opened: Vec<_> = report.findings.iter().map(|finding| (finding.clock.opened, finding.is_running())).collect();
    assert_eq!(opened, [(moment(&day(1)), false), (moment(&day(4)), true)]);
}
