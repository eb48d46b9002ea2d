//! What is admitted to the ledger, and what is told of it.

use fencepost_engine::{Happened, ImportOptions, Importer, Kind, ListQuery};
use serde_json::{Value as Json, json};

use crate::bench::{Bench, agent, all, day, listed, moment};

#[test]
fn a_record_is_new_changed_unchanged_or_older_and_a_bad_one_is_set_aside_with_its_line() {
    let mut bench = Bench::new();
    let first = bench.import("agent", &(agent("a", &day(2), true, "5") + &agent("b", &day(2), true, "5")), &day(2));
    let first = first.unwrap();
    assert_eq!((first.records, first.listed, first.new, first.changed), (2, 2, 2, 0));
    let text = agent("a", &day(3), false, "5")
        + &agent("b", &day(3), true, "5")
        + "{\"device\":\n"
        + &agent("c", &day(9), true, "5");
    let second = bench.import("agent", &text, &day(3)).unwrap();
    assert_eq!((second.new, second.changed, second.unchanged), (0, 1, 1));
    let set_aside: Vec<u64> = second.rejects.first().iter().map(|reject| reject.line as u64).collect();
    // The third line is no document; the fourth was collected in the future.
    assert_eq!(set_aside, [3, 4], "{:?}", second.rejects.first());
    let late = bench.import("agent", &agent("a", &day(1), true, "4"), &day(4)).unwrap();
    assert_eq!((late.older, late.changed), (1, 0));
    // What came late is history, and not what is known now.
    bench.assess(&day(4));
    assert_eq!(bench.read(&day(4), |reading| reading.device("a").unwrap().collected), Some(moment(&day(3))));
}

#[test]
fn a_device_that_a_complete_list_leaves_out_is_absent_until_it_is_listed_again() {
    let mut bench = Bench::new();
    let ids: Vec<String> = (0..20).map(|n| format!("d{n:02}")).collect();
    bench.import("list", &listed(2, &ids), &day(2)).unwrap();
    bench.assess(&day(2));
    let gone = bench.import("list", &listed(3, &ids[..19]), &day(3)).unwrap();
    assert_eq!((gone.missing, gone.kept_missing), (1, 0));
    bench.assess(&day(3));
    let columns = ["device".to_owned(), "absent".to_owned()];
    let absent = |bench: &Bench, at: &str| bench.list(at, ListQuery { columns: &columns, ..all(Kind::Devices) }).1;
    assert_eq!(absent(&bench, &day(3))[19], [json!("d19"), json!("list")]);
    bench.import("list", &listed(4, &ids), &day(4)).unwrap();
    bench.assess(&day(4));
    assert_eq!(absent(&bench, &day(4))[19], [json!("d19"), Json::Null]);
    let happened = bench.read(&day(4), |reading| reading.history("d19").unwrap().happenings);
    let told: Vec<&Happened> = happened.iter().map(|happening| &happening.what).collect();
    assert!(told.contains(&&Happened::Absent { source: "list".into() }), "{told:?}");
    assert!(told.contains(&&Happened::ListedAgain { source: "list".into() }), "{told:?}");
}

#[test]
fn most_of_a_list_missing_at_once_is_not_believed_unless_told_to() {
    let mut bench = Bench::new();
    let all: Vec<String> = (0..20).map(|n| format!("d{n}")).collect();
    bench.import("list", &listed(2, &all), &day(2)).unwrap();
    let cut = bench.import("list", &listed(3, &["d1"]), &day(3)).unwrap();
    assert_eq!((cut.missing, cut.kept_missing), (0, 19));
    assert!(cut.kept_because.is_some());
    let options = ImportOptions { source: Some("list".into()), accept_missing: true, ..ImportOptions::default() };
    let believed = Importer { project: &bench.project(), options: &options, moment: &Bench::moment(&day(4)) }
        .stream(&mut bench.ledger, listed(3, &["d1"]).as_bytes());
    assert_eq!(believed.unwrap().missing, 19);
}

#[test]
fn a_dry_run_tells_what_would_be_admitted_and_keeps_nothing() {
    let mut bench = Bench::new();
    let text = agent("a", &day(2), true, "5");
    let options = ImportOptions { source: Some("agent".into()), dry_run: true, ..ImportOptions::default() };
    let told = Importer { project: &bench.project(), options: &options, moment: &Bench::moment(&day(2)) }
        .stream(&mut bench.ledger, text.as_bytes())
        .unwrap();
    assert_eq!((told.records, told.new), (1, 1));
    assert!(bench.ledger.reader().unwrap().device_names().unwrap().is_empty());
}

#[test]
fn with_strict_one_bad_record_refuses_the_whole_file() {
    let mut bench = Bench::new();
    let text = agent("a", &day(2), true, "5") + "no document\n";
    let options = ImportOptions { source: Some("agent".into()), strict: true, ..ImportOptions::default() };
    let refused = Importer { project: &bench.project(), options: &options, moment: &Bench::moment(&day(2)) }
        .stream(&mut bench.ledger, text.as_bytes())
        .unwrap_err();
    assert!(refused.to_string().contains("1 of 2"), "{refused}");
    assert!(bench.ledger.reader().unwrap().device_names().unwrap().is_empty());
}

#[test]
fn the_same_content_is_taken_once() {
    let mut bench = Bench::new();
    let text = agent("a", &day(2), true, "5");
    assert!(!bench.import("agent", &text, &day(2)).unwrap().already);
    let again = bench.import("agent", &text, &day(3)).unwrap();
    assert!(again.already);
    assert_eq!(again.records, 0);
    // The same of another source is not the same.
    assert!(bench.import("list", &listed(2, &["a"]), &day(3)).unwrap().new == 0);
}

#[test]
fn values_of_the_wrong_type_unknown_holders_and_other_spellings_are_told() {
    let mut bench = Bench::new();
    bench.import("crew", "Id,Name,Unit,Lead\np-a,Ada,deck,\n", &day(1)).unwrap();
    bench.import("agent", &agent("a", &day(1), true, "5"), &day(1)).unwrap();
    let odd = agent("A", &day(2), true, "5").replace("\"5\"", "[5]");
    let told = bench.import("agent", &odd, &day(2)).unwrap();
    let wrong = &told.doubts.wrong_types["os.version"];
    assert_eq!((wrong.declared, wrong.count), ("version", 1));
    assert_eq!(told.doubts.unknown_holders.iter().map(String::as_str).collect::<Vec<_>>(), ["p-A"]);
    assert_eq!(told.doubts.other_spellings, [("A".to_owned(), "a".to_owned())]);
}

#[test]
fn people_who_are_no_longer_listed_have_left() {
    let mut bench = Bench::new();
    let rows = |ids: &[u8]| {
        let row = |id: &u8| format!("c-{id:02},Crew {id},deck,c-00\n");
        format!("Id,Name,Unit,Lead\n{}", ids.iter().map(row).collect::<String>())
    };
    let everybody: Vec<u8> = (0..12).collect();
    let first = bench.import("crew", &rows(&everybody), &day(2)).unwrap();
    assert_eq!((first.new, first.listed), (12, 12));
    let second = bench.import("crew", &rows(&everybody[..11]), &day(3)).unwrap();
    assert_eq!((second.missing, second.unchanged), (1, 11));
    bench.morning(&day(3), &[("a", true, "5")]);
    let (gone, lead) =
        bench.read(&day(3), |reading| (reading.person("c-11").unwrap(), reading.person("c-00").unwrap()));
    let gone = gone.expect("whoever left is known");
    assert_eq!((gone.name.as_deref(), gone.sources.len()), (Some("Crew 11"), 0));
    assert_eq!(lead.expect("it is listed").leads.len(), 11);
}

#[test]
fn a_dry_run_tells_what_would_change_by_fact() {
    let mut bench = Bench::new();
    let first = agent("a", &day(1), true, "5") + &agent("b", &day(1), true, "5");
    bench.import("agent", &first, &day(1)).unwrap();
    let second = agent("a", &day(2), false, "5") + &agent("b", &day(2), true, "5");
    let options = ImportOptions { source: Some("agent".into()), dry_run: true, ..ImportOptions::default() };
    let told = Importer { project: &bench.project(), options: &options, moment: &Bench::moment(&day(2)) }
        .stream(&mut bench.ledger, second.as_bytes())
        .unwrap();
    assert_eq!((told.changed, told.unchanged), (1, 1));
    let [changed] = told.first_changed.as_slice() else { panic!("{:?}", told.first_changed) };
    let of_fact =
        |change: &fencepost_engine::Change| (change.path.clone(), change.before.clone(), change.after.clone());
    assert_eq!(changed.device, "a");
    assert_eq!(
        changed.changes.iter().map(of_fact).collect::<Vec<_>>(),
        [("disk.encrypted".to_owned(), Some(json!(true)), Some(json!(false)))]
    );
}
