//! Lists: filters, order, counts and columns.

use fencepost_core::Standing;
use fencepost_engine::{Kind, ListQuery};
use serde_json::json;

use crate::bench::{Bench, RULES, all, day, listed};

#[test]
fn lists_filter_sort_count_and_name_what_they_do_not_have() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4"), ("b", true, "5"), ("c", true, "10")]);
    let at = day(1);
    let columns = ["device".to_owned(), "os.version".to_owned()];
    let devices = |filter, sort| {
        let (_, rows) = bench.list(&at, ListQuery { columns: &columns, filter, sort, ..all(Kind::Devices) });
        rows.iter().map(|row| row[0].as_str().unwrap().to_owned()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(devices(None, None), "a b c");
    assert_eq!(devices(Some("os.version >= version(\"5\")"), Some("-device")), "c b");
    assert_eq!(devices(Some("standing = \"non-compliant\""), None), "a");
    let (columns, rows) = bench.list(&at, ListQuery { by: &["tags".to_owned()], ..all(Kind::Devices) });
    assert_eq!(columns[..4], ["tags", "count", "share", "part"]);
    // A row counts for each item of a list; the share is of compliant devices, the part is of all rows.
    assert_eq!(rows[0][..4], [json!("all"), json!(3), json!(2.0 / 3.0), json!(1.0)]);
    assert_eq!(rows.len(), 4);
    // Several columns together: each pair of their values that there is.
    let by = ["tags".to_owned(), "os.version".to_owned()];
    let (columns, rows) = bench.list(&at, ListQuery { by: &by, ..all(Kind::Devices) });
    assert_eq!(columns[..3], ["tags", "os.version", "count"]);
    let all_tags = rows.iter().filter(|row| row[0] == json!("all"));
    assert_eq!(all_tags.map(|row| row[2].as_u64().unwrap()).collect::<Vec<_>>(), [1, 1, 1]);
    assert_eq!(rows.len(), 6);
    let (_, findings) = bench.list(&at, ListQuery { filter: Some("phase = \"overdue\""), ..all(Kind::Findings) });
    assert_eq!(findings.len(), 1);
    assert_eq!(findings[0][..3], [json!("a"), json!("patched"), json!("overdue")]);
    bench.read(&at, |reading| {
        let columns = ["pss".to_owned()];
        let wrong = ListQuery { columns: &columns, ..all(Kind::Rules) };
        let refused = reading.list(wrong).unwrap_err();
        assert_eq!(refused.to_string(), "there is no column `pss`");
        assert_eq!(refused.help(), Some("did you mean `pass`?"));
        let broken = ListQuery { filter: Some("device ="), ..all(Kind::Rules) };
        assert_eq!(reading.list(broken).unwrap().unwrap_err().len(), 1);
    });
}

#[test]
fn a_list_without_rows_knows_its_columns_all_the_same() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5")]);
    let columns = ["device".to_owned(), "blame".to_owned()];
    let (shown, rows) = bench.list(&day(1), ListQuery { columns: &columns, ..all(Kind::Findings) });
    assert_eq!((shown, rows.len()), (columns.to_vec(), 0));
}

#[test]
fn rules_are_counted_by_outcome() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4"), ("b", true, "5"), ("c", true, "5")]);
    let columns = ["rule", "pass", "fail", "unknown"].map(str::to_owned);
    let (_, rows) = bench.list(&day(1), ListQuery { columns: &columns, ..all(Kind::Rules) });
    assert_eq!(
        rows,
        [[json!("encrypted"), json!(2), json!(1), json!(0)], [json!("patched"), json!(2), json!(1), json!(0)],]
    );
}

#[test]
fn facts_are_listed_with_how_many_devices_have_them() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("b", true, "5")]);
    let silent = "{\"device\":\"a\",\"collected_at\":\"2027-03-01T06:00:00Z\",\"disk\":{\"encrypted\":true}}\n";
    bench.import("agent", silent, &day(1)).unwrap();
    bench.assess(&day(1));
    let columns = ["fact", "share"].map(str::to_owned);
    let (_, rows) = bench.list(&day(1), ListQuery { columns: &columns, ..all(Kind::Facts) });
    let share = |fact: &str| rows.iter().find(|row| row[0] == json!(fact)).map(|row| row[1].clone());
    assert_eq!((share("disk.encrypted"), share("os.version")), (Some(json!(100)), Some(json!(50))));
}

#[test]
fn a_filter_that_cannot_be_answered_for_a_row_is_counted() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "5")]);
    let silent = "{\"device\":\"c\",\"collected_at\":\"2027-03-01T06:00:00Z\"}\n";
    bench.import("agent", silent, &day(1)).unwrap();
    bench.assess(&day(2));
    bench.read(&day(2), |reading| {
        let query = ListQuery { filter: Some("disk.encrypted"), ..all(Kind::Devices) };
        let listing = reading.list(query).unwrap().unwrap();
        assert_eq!((listing.total, listing.matched, listing.untold.total()), (3, 2, 1));
    });
}

#[test]
fn lines_of_the_fence_are_by_fact_or_group() {
    let mut bench = Bench::new();
    bench.import("list", &listed(1, &["a", "b"]), &day(1)).unwrap();
    bench.morning(&day(1), &[("a", true, "5"), ("b", true, "4")]);
    bench.read(&day(1), |reading| {
        let all = reading.fence(None).unwrap();
        assert_eq!((all[0].label.as_str(), all[0].posts.len()), ("every device", 2));
        let by_site = reading.fence(Some("site")).unwrap();
        assert_eq!(by_site.len(), 1);
        assert_eq!(by_site[0].label, "x");
        let mut posts: Vec<Standing> = by_site[0].posts.iter().map(|post| post.standing).collect();
        posts.sort_unstable();
        assert_eq!(posts, [Standing::Compliant, Standing::NonCompliant]);
    });
}

#[test]
fn lists_as_of_an_earlier_moment_are_those_of_then() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "5")]);
    bench.edit("rules/test.toml", &RULES.replace("id = \"patched\"", "id = \"current\""));
    bench.morning(&day(3), &[("a", true, "5")]);
    let columns = ["rule".to_owned()];
    let rules_of = |at: &str, query: ListQuery<'_>| {
        bench.read_past(at, |reading| {
            let listing = reading.list(ListQuery { columns: &columns, ..query }).unwrap().unwrap();
            listing.rows.iter().flat_map(|row| row.unwrap()).collect::<Vec<_>>()
        })
    };
    let open = ListQuery { filter: Some("phase != \"closed\""), ..all(Kind::Findings) };
    assert_eq!(rules_of(&day(1), open), [json!("encrypted")]);
    assert!(rules_of(&day(3), open).is_empty());
    assert_eq!(rules_of(&day(1), all(Kind::Rules)), [json!("encrypted"), json!("patched")]);
    assert_eq!(rules_of(&day(3), all(Kind::Rules)), [json!("encrypted"), json!("current")]);
}

/// Every verdict agrees with what is told of its device alone, also after something came in that is not assessed yet.
#[test]
fn verdicts_are_those_that_each_device_is_told() {
    let mut bench = Bench::new();
    bench.morning(&day(1), &[("a", false, "4"), ("b", true, "5"), ("c", true, "nonsense")]);
    let newer = crate::bench::agent("a", &day(2), true, "9");
    bench.import("agent", &newer, &day(2)).expect("it is imported");
    for (with_all, at) in [(false, day(1)), (true, day(2))] {
        let columns =
            ["device", "rule", "outcome", "observed", "required", "phase", "due", "family"].map(str::to_owned);
        let query = ListQuery { columns: &columns, not_applicable: with_all, ..all(Kind::Verdicts) };
        let (_, rows) = bench.list(&at, query);
        let mut expected = Vec::new();
        bench.read(&at, |reading| {
            for device in ["a", "b", "c"] {
                for verdict in reading.device(device).expect("it is known").verdicts {
                    let outcome = verdict.outcome.as_str();
                    let headline = verdict.evidence.headline_parts();
                    let running = verdict.finding.as_ref().filter(|finding| finding.is_running());
                    let phase = running.map(|finding| finding.phase(reading.at).as_str());
                    if outcome != "not-applicable" || with_all {
                        expected.push((
                            json!([device, verdict.rule.id.as_str(), outcome, headline.found, headline.required]),
                            phase.filter(|_| outcome == "fail"),
                        ));
                    }
                }
            }
        });
        assert_eq!(rows.len(), expected.len());
        for (row, (told, phase)) in rows.iter().zip(expected) {
            assert_eq!(json!(row[..5]), told);
            match row[2].as_str() {
                Some("fail") => assert_eq!(row[5], json!(phase), "{row:?}"),
                Some("unknown") => assert!(row[5].is_string() && row[6].is_string(), "{row:?}"),
                _ => assert!(row[5].is_null() && row[6].is_null(), "{row:?}"),
            }
            assert_eq!(row[7], row[1], "no rule here is of a family");
        }
    }
    let (columns, rows) = bench.list(&day(1), ListQuery { by: &["outcome".to_owned()], ..all(Kind::Verdicts) });
    assert_eq!(columns[..2], ["outcome", "count"]);
    let count = |outcome: &str| rows.iter().find(|row| row[0] == json!(outcome)).map(|row| row[1].clone());
    assert_eq!((count("pass"), count("fail"), count("unknown")), (Some(json!(3)), Some(json!(2)), Some(json!(1))));
}
